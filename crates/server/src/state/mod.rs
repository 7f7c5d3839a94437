//! What every request meets: state, headers, limits, routes.

pub mod addresses;
pub mod archives;
pub mod client_program;
pub mod connections;
pub mod letters;
pub mod metrics;
pub mod names;
pub mod pairs;
pub mod read_log;
pub mod secrets;
pub mod sessions;
pub mod throttle;
pub mod thumbnails;
pub mod tickets;
pub mod visits;
pub mod work;

use crate::config::Config;
use crate::state::archives::{Archives, Checksums};
use crate::state::metrics::Metrics;
use crate::state::names::{NameMap, Names};
use crate::state::read_log::Reads;
use crate::state::sessions::{InUse, Known, Proofs, Who};
use crate::state::throttle::Guessing;
use crate::state::thumbnails::Thumbnails;
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex};
use yellow_attic_store::Engine;
use yellow_attic_store::people::accounts::Role;

/// What the handlers share.
pub struct State {
    /// The store.
    pub engine: Engine,
    /// What is in force.
    pub config: Config,
    /// Principals by token.
    pub known: Known,
    /// Tries at passwords and codes.
    pub guessing: Guessing,
    /// The code of the set-up address, hashed; none when there is an administrator.
    pub set_up: Mutex<Option<[u8; 32]>>,
    /// Who looked at what, not recorded yet.
    pub reads: Arc<Reads>,
    /// Names to show, asked for again after a change.
    pub names: Names,
    /// Passwords that were given with requests and are right.
    pub pairs: crate::state::pairs::Pairs,
    /// Who gave their password lately.
    pub proofs: Proofs,
    /// First steps of signing in, and factors that are being set up.
    pub tickets: crate::state::tickets::Tickets,
    /// Computers that wait to be connected.
    pub connections: crate::state::connections::Connections,
    /// What is known of the client's program.
    pub client_program: crate::state::client_program::Hashed,
    /// The way to the mail server.
    pub post: crate::mail::smtp::Mailer,
    /// The address under which the service is reached, for what is sent out.
    pub address: std::sync::OnceLock<String>,
    /// Last uses of devices, not written yet.
    pub in_use: InUse,
    /// Checksums of contents that went into archives.
    pub checksums: Checksums,
    /// What is remembered of links and intakes.
    pub strangers: crate::state::visits::Strangers,
    /// Under which addresses requests came.
    pub seen: crate::state::addresses::Seen,
    /// Ticks when a link, an intake or a delivery changed.
    pub openings: tokio::sync::watch::Sender<u64>,
    /// Digests of contents that were asked for, by hash and algorithm.
    pub digests: quick_cache::sync::Cache<([u8; 32], &'static str), String>,
    /// The chunks of contents that were asked for lately.
    pub chunks: quick_cache::sync::Cache<[u8; 32], Arc<Vec<String>>>,
    /// Selections to fetch as archives.
    pub archives: Archives,
    /// Small pictures for lists.
    pub thumbnails: Thumbnails,
    /// Counted for whoever watches.
    pub metrics: Metrics,
    /// Ticks when a sign-in was revoked: long answers look again whether they may go on.
    pub revocations: tokio::sync::watch::Sender<u64>,
    /// How far letting go of the past is.
    pub going: Arc<yellow_attic_store::timeline::purge::Progress>,
    /// Whether the service takes requests.
    pub ready: AtomicBool,
    /// What runs in the background.
    pub works: work::Works,
}

impl State {
    /// The state of a service on this store.
    pub fn new(engine: Engine, config: Config, set_up: Option<[u8; 32]>) -> State {
        State {
            thumbnails: Thumbnails::new(&config.data),
            metrics: Metrics::default(),
            tickets: Default::default(),
            connections: Default::default(),
            client_program: Default::default(),
            post: crate::mail::smtp::Mailer::new(&config),
            address: Default::default(),
            strangers: crate::state::visits::Strangers::new(&engine),
            engine,
            config,
            known: Known::default(),
            guessing: Guessing::default(),
            set_up: Mutex::new(set_up),
            reads: Arc::default(),
            seen: Default::default(),
            openings: tokio::sync::watch::Sender::new(0),
            names: Names::default(),
            proofs: Proofs::default(),
            pairs: Default::default(),
            in_use: InUse::default(),
            checksums: Checksums::default(),
            digests: quick_cache::sync::Cache::new(1000),
            chunks: quick_cache::sync::Cache::new(8),
            archives: Archives::default(),
            revocations: tokio::sync::watch::Sender::new(0),
            going: Arc::default(),
            ready: AtomicBool::new(true),
            works: Default::default(),
        }
    }

    /// The beginning of addresses that are sent out.
    pub fn base(&self) -> String {
        let public = self.config.public_address.clone();
        public.or_else(|| self.address.get().cloned()).unwrap_or_default()
    }

    /// The names that somebody may know.
    pub async fn names_for(&self, who: &Who) -> Arc<NameMap> {
        let (all, outside) = self.names.both(&self.engine).await;
        if who.account.role == Role::Guest { outside } else { all }
    }

    /// A link or intake changed: it counts at once, for running answers too.
    pub fn openings_changed(&self) {
        self.strangers.forget();
        self.revocations.send_modify(|n| *n += 1);
        self.tell_openings();
    }

    /// Something happened at a link or intake: open pages are told.
    pub fn tell_openings(&self) {
        self.openings.send_modify(|n| *n += 1);
    }

    /// Something about tokens changed: it counts at once, for running answers too.
    pub fn revoked(&self) {
        self.known.clear();
        self.strangers.forget();
        self.revocations.send_modify(|n| *n += 1);
    }
}

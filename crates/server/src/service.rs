//! Starting and stopping the service.

use crate::config::Config;
use crate::http::lines::Lines;
use crate::http::tls::Pair;
use crate::jobs::chores::{do_chores, watch_deliveries};
use crate::middleware::around;
use crate::routes::configure;
use crate::state::State;
use crate::state::secrets::{hash_secret, new_secret};
use actix_web::dev::{Server, ServerHandle};
use actix_web::{App, HttpServer, web};
use async_recursion::async_recursion as boxed;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use yellow_attic_store::{Actor, Engine, TreeAccess};

/// A running service.
pub struct Running {
    /// Where it listens.
    pub listens: SocketAddr,
    /// The address that people open, without a last slash.
    pub address: String,
    /// The one-time code for making the first administrator, if there is none yet.
    pub set_up_code: Option<String>,
    state: web::Data<State>,
    handle: ServerHandle,
    server: tokio::task::JoinHandle<std::io::Result<()>>,
    chores: Vec<tokio::task::JoinHandle<()>>,
    /// Where the figures can be read, if they have an address of their own.
    pub metrics_listens: Option<SocketAddr>,
}

/// Opens the store and begins to listen. Where there is none, nothing is made: its disk may not be mounted.
#[boxed(?Send)]
pub async fn start(config: Config) -> Result<Running, Box<dyn std::error::Error>> {
    let engine = Engine::open(config.store()).await?;
    let (word, why) = crate::dto::store::promise_of(engine.durability());
    if word != "kept" {
        tracing::warn!("the disk: {why}");
    }
    if let Some(wanted) = config.shelf_access.as_deref().and_then(|w| TreeAccess::read(w).ok())
        && wanted != engine.tree_access()
    {
        tracing::warn!(
            "shelf_access is {}, and the tree is still {}: stop the service and give: yatticd init --shelf-access {}",
            wanted.word(),
            engine.tree_access().word(),
            wanted.word()
        );
    }
    if engine.tree_access() == TreeAccess::Open && config.shelf_access.is_none() {
        tracing::warn!(
            "everybody who can sign in to this machine reads the shelves: stop the service and close them by: yatticd init --shelf-access private (or group:NAME), or say shelf_access = \"open\""
        );
    }
    start_on(engine, config).await
}

/// Begins to listen, on a store that is open.
#[boxed(?Send)]
pub async fn start_on(engine: Engine, config: Config) -> Result<Running, Box<dyn std::error::Error>> {
    for account in engine.people().accounts().await? {
        engine.people().ensure_home(&Actor::service(), &account).await?;
    }
    let set_up_code = match engine.people().has_administrator().await? {
        true => None,
        false => Some(new_secret().map_err(|e| e.to_string())?[..32].to_string()),
    };
    let listen = config.listen;
    let public = config.public_address.clone();
    let state = web::Data::new(State::new(engine, config, set_up_code.as_deref().map(hash_secret)));
    let shared = state.clone();
    let workers = std::thread::available_parallelism().map_or(2, usize::from).max(2);
    let app =
        move || App::new().configure(configure(shared.clone())).wrap(actix_web::middleware::from_fn(around));
    let cannot_listen = |e: std::io::Error| {
        format!(
            "listening on {listen} (key listen): {e}\n  Choose another address or port, or stop what uses it."
        )
    };
    let tls = match &state.config.tls {
        Some((certificate, key)) => {
            let wrong = |reason: String| {
                format!("tls_certificate, tls_key: {reason}\n  Correct the file, or name another.")
            };
            let pair = Pair::open(certificate, key).map_err(wrong)?;
            Some((pair.ways()?, pair))
        }
        None => None,
    };
    let descriptors = crate::http::lines::raise_descriptors();
    let config = &state.config;
    let trusted = config.trusted_proxies.clone();
    let lines = Arc::new(Lines::new(descriptors, config.lines, config.reader_patience, trusted));
    tracing::info!(descriptors, lines = lines.most(), "open files, and lines at a time");
    let mut chores = vec![tokio::spawn(lines.clone().follow())];
    let listener = std::net::TcpListener::bind(listen).map_err(cannot_listen)?;
    let listens = listener.local_addr().map_err(cannot_listen)?;
    let ways = tls.map(|(ways, pair)| {
        chores.push(tokio::spawn(pair.follow()));
        ways
    });
    let server: Server =
        crate::http::listener::serve(listener, workers, ways, lines, app).map_err(cannot_listen)?;
    let handle = server.handle();
    let scheme = if state.config.tls.is_some() { "https" } else { "http" };
    let address = public.unwrap_or_else(|| format!("{scheme}://{}", shown(listens)));
    let _ = state.address.set(address.clone());
    chores.push(tokio::spawn(do_chores(state.clone())));
    chores.push(tokio::spawn(crate::jobs::mail_queue::deliver(state.clone())));
    chores.push(tokio::spawn(watch_deliveries(state.clone())));
    chores.push(tokio::spawn(crate::jobs::retention::follow(state.clone())));
    chores.push(tokio::spawn(crate::jobs::thumbnails::follow(state.clone())));
    // Before anything new can begin.
    if let Err(error) = state.engine.work_was_cut_off().await {
        tracing::warn!(%error, "what ran when the service ended could not be noted");
    }
    chores.push(tokio::spawn(crate::jobs::backups::follow(state.clone())));
    match crate::control::listen(&state.config.data) {
        Ok(listener) => chores.push(tokio::spawn(crate::control::follow(state.clone(), listener))),
        Err(error) => {
            tracing::warn!(%error, "commands on this machine cannot ask this service: no control.sock")
        }
    }
    let mut metrics_listens = None;
    if let Some(own) = state.config.metrics_listen {
        let watched = state.clone();
        let metrics = HttpServer::new(move || {
            App::new()
                .app_data(watched.clone())
                .route("/metrics", web::get().to(crate::api::admin::metrics::open))
        })
        .workers(1)
        .disable_signals()
        .bind(own)
        .map_err(|e| {
            format!("listening on {own} (key metrics_listen): {e}\n  Choose another address or port.")
        })?;
        metrics_listens = metrics.addrs().first().copied();
        let metrics = metrics.run();
        // It ends with the process, or when the last thing else has.
        chores.push(tokio::spawn(async move { drop(metrics.await) }));
    }
    Ok(Running {
        listens,
        address,
        set_up_code,
        state,
        handle,
        server: tokio::spawn(server),
        chores,
        metrics_listens,
    })
}

/// An address that can be opened: a service on every interface is reached on this machine.
fn shown(listens: SocketAddr) -> SocketAddr {
    if !listens.ip().is_unspecified() {
        return listens;
    }
    match listens {
        SocketAddr::V4(_) => SocketAddr::from(([127, 0, 0, 1], listens.port())),
        SocketAddr::V6(_) => SocketAddr::from((std::net::Ipv6Addr::LOCALHOST, listens.port())),
    }
}

impl Running {
    /// The store behind it.
    pub fn engine(&self) -> &Engine {
        &self.state.engine
    }

    /// Stops: running requests are finished or refused, then the store is closed.
    #[boxed(?Send)]
    pub async fn stop(self) {
        self.state.ready.store(false, Ordering::SeqCst);
        self.handle.stop(true).await;
        let _ = self.server.await;
        self.state.works.stop_all();
        self.state.works.ended(std::time::Duration::from_secs(10)).await;
        self.chores.iter().for_each(tokio::task::JoinHandle::abort);
        let _ = std::fs::remove_file(self.state.config.data.join(crate::control::NAME));
        self.state.reads.write(&self.state.engine).await;
        self.state.in_use.write(&self.state.engine).await;
        self.state.strangers.write_uses(&self.state.engine).await;
        self.state.engine.stop().await;
    }
}

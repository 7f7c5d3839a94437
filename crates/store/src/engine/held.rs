//! What the engine holds for those who stand above it: work that is under way, and what was looked at lately.

use crate::fs::model::Row;
use crate::fs::staging::{Room, Staging};
use crate::rights::quota::Claim;
use parking_lot::Mutex;
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64};
use std::time::Instant;
use yellow_attic_core::mass::Suspect;
use yellow_attic_core::{Moment, NodeId};

/// What is known of the uploads under way.
#[derive(Default)]
pub(crate) struct Uploads(pub Mutex<HashMap<String, Arc<Live>>>, pub Mutex<HashMap<String, Claim>>);

/// An upload at work.
pub(crate) struct Live {
    /// One sender at a time writes; a later one takes over.
    pub progress: Arc<tokio::sync::Mutex<Progress>>,
    /// Tells the sender at work that another one has come.
    pub leave: Mutex<Arc<AtomicBool>>,
}

/// How far it is, and what is spoken for.
pub(crate) struct Progress {
    pub hashed: Option<(blake3::Hasher, u64)>,
    pub room: Option<Room>,
}

/// How much is spoken for of bytes that are still to come; `grows`: only as they come.
pub(crate) fn ahead(left: u64, grows: bool) -> u64 {
    if grows { left.min(AHEAD) } else { left }
}

impl Uploads {
    /// One under way, with room spoken for: what is left, or only what comes next.
    pub fn live(&self, staging: &Arc<Staging>, id: &str, left: u64, grows: bool) -> Arc<Live> {
        let mut all = self.0.lock();
        all.entry(id.to_string())
            .or_insert_with(|| {
                let room = staging.reserve(ahead(left, grows));
                Arc::new(Live {
                    progress: Arc::new(tokio::sync::Mutex::new(Progress { hashed: None, room: Some(room) })),
                    leave: Mutex::default(),
                })
            })
            .clone()
    }

    pub fn forget(&self, id: &str) {
        self.0.lock().remove(id);
        self.1.lock().remove(id);
    }
}

/// Entries of a folder as it was, kept from one page to the next.
#[derive(Clone)]
pub(crate) struct Listed {
    pub node: NodeId,
    pub at: Moment,
    pub rows: Arc<Vec<Row>>,
    pub made: Instant,
}

/// How far a running rollback is.
#[derive(Default)]
pub(crate) struct RunningRollback {
    pub done: AtomicU64,
    pub bytes: AtomicU64,
    pub stop: AtomicBool,
}

/// Whose changes are looked at together: a shelf, an account, a device.
pub(crate) type Whose = (i64, Option<i64>, Option<i64>);

/// What was found suspicious lately, by whom. In memory only: who begins anew after a restart is looked at anew.
pub(crate) type Suspected = HashMap<Whose, BTreeMap<i64, Suspect>>;

/// Whose turn it is to make the folder of a delivery.
#[derive(Default)]
pub(crate) struct Delivering(
    parking_lot::Mutex<std::collections::HashMap<i64, std::sync::Arc<tokio::sync::Mutex<()>>>>,
);

impl Delivering {
    pub fn turn(&self, delivery: i64) -> std::sync::Arc<tokio::sync::Mutex<()>> {
        let mut turns = self.0.lock();
        if turns.len() > 1000 {
            turns.retain(|_, turn| std::sync::Arc::strong_count(turn) > 1);
        }
        turns.entry(delivery).or_default().clone()
    }
}

/// For an upload of a stranger so much is spoken for ahead of what has arrived: nobody outside fills the disk with
/// announcements.
pub const AHEAD: u64 = 16 << 20;

/// How the disk is watched, for whoever asks.
#[derive(Default)]
pub(crate) struct Watching {
    /// Ends it.
    pub stop: std::sync::atomic::AtomicBool,
    /// Folders that are watched.
    pub folders: std::sync::atomic::AtomicU64,
    /// Whether some are not.
    pub limited: std::sync::atomic::AtomicBool,
    /// Looks at all there is that have ended.
    pub walks: std::sync::atomic::AtomicU64,
    /// Who does it.
    pub thread: parking_lot::Mutex<Option<std::thread::JoinHandle<()>>>,
}

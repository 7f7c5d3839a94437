//! What the handlers of a mounted folder share.

use super::blocks::Blocks;
use super::files::{Files, Opened};
use super::locks::Locks;
use super::nodes::{Nodes, PAST, Seen};
use super::past::Past;
use super::thumbs::Thumbs;
use crate::pairs::at_hand::AtHand;
use crate::pairs::ground::OWN;
use crate::pairs::status::Status;
use parking_lot::{Mutex, RwLock};
use std::collections::HashMap;
use std::io;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};
use tokio::runtime::Handle;
use yellow_attic_client::{Client, api};
use yellow_attic_core::Name;
use yellow_attic_core::merge::Object;
use yellow_attic_core::mounted::ahead::Budget;
use yellow_attic_core::mounted::past::THEN;
use yellow_attic_core::mounted::room::Thing;
use yellow_attic_core::rights::Level;

/// So long a program waits at most for what is known of a folder.
const KNOWN: Duration = Duration::from_secs(5);
/// What stands before the reason for which the service does not take something.
const REFUSED: &str = "the service refuses it";
/// So long for the service to have what was written, while it does not answer.
const AWAY: Duration = Duration::from_secs(30);

/// A shelf, or something that was given, at its place in the mounted folder.
#[derive(Clone, Debug)]
pub(super) struct Top {
    /// The pair that keeps it.
    pub(super) pair: String,
    /// Where it is on the service.
    pub(super) remote: String,
    /// What may be done on it.
    pub(super) level: Level,
    /// And where beneath that is otherwise: the names on the way, and what may be done there.
    pub(super) beneath: Arc<Vec<(Vec<Vec<u8>>, Level)>>,
}

impl Top {
    /// What may be done with it itself.
    pub(super) fn own_level(&self) -> Level {
        self.level
    }
}

/// What all handlers have.
pub(super) struct Inner {
    /// The folder in which all of it lies.
    pub(super) body: PathBuf,
    pub(super) nodes: Arc<Nodes>,
    pub(super) blocks: Arc<Blocks>,
    pub(super) files: Arc<Files>,
    pub(super) at_hand: Arc<AtHand>,
    pub(super) runtime: Handle,
    pub(super) client: Client,
    pub(super) past: Past,
    /// Shelves and what was given, by their objects here.
    pub(super) tops: RwLock<HashMap<Object, Top>>,
    /// Whether closing waits for the service.
    pub(super) through: bool,
    /// Whether what is open for writing is locked on the service.
    pub(super) locking: bool,
    pub(super) locks: Locks,
    pub(super) thumbs: Thumbs,
    pub(super) budgets: Mutex<HashMap<u32, Budget>>,
    /// What there is in all and what of it is free, and when that was asked.
    pub(super) space: RwLock<(u64, u64)>,
    pub(super) asked_space: Mutex<Option<Instant>>,
}

/// Where something is.
pub(super) struct Place {
    /// The shelf that it is on.
    pub(super) top: Top,
    /// The names below that.
    pub(super) way: Vec<Vec<u8>>,
}

impl Inner {
    /// Where a thing is; none for what is above the shelves.
    pub(super) fn place(&self, ino: u64) -> io::Result<Option<Place>> {
        let way = self.nodes.way(ino)?;
        let tops = self.tops.read();
        for (depth, (ino, _)) in way.iter().enumerate() {
            if let Some(top) = self.nodes.object(*ino).ok().and_then(|object| tops.get(&object)) {
                let way = way[depth + 1..].iter().map(|(_, name)| name.clone()).collect();
                return Ok(Some(Place { top: top.clone(), way }));
            }
        }
        Ok(None)
    }

    /// Whether a name can be in a folder; what the service does not take cannot be here either.
    pub(super) fn takes(&self, place: &Place, name: &[u8]) -> io::Result<()> {
        if name == THEN.as_bytes() || place.way.is_empty() && name == OWN.as_bytes() {
            return Err(error(libc::EPERM));
        }
        let text = std::str::from_utf8(name).map_err(|_| error(libc::EILSEQ))?;
        if text.len() > 255 {
            return Err(error(libc::ENAMETOOLONG));
        }
        Name::normalised(text).map(|_| ()).map_err(|_| error(libc::EINVAL))
    }

    /// Whether a name is not shown in a folder.
    pub(super) fn hides(&self, folder: u64, name: &[u8]) -> bool {
        name == OWN.as_bytes()
            && self.nodes.object(folder).is_ok_and(|object| self.tops.read().contains_key(&object))
    }

    /// What a number stands for, as programs see it.
    pub(super) fn see(&self, ino: u64) -> io::Result<Seen> {
        let seen = match self.nodes.see(ino) {
            Ok(seen) => seen,
            // It has no name any more, and somebody has it open.
            Err(e) => {
                let open = self.files.is_open(ino).and_then(|file| file.here()).ok_or(e)?;
                self.nodes.look_at(&*open)?
            }
        };
        let level = self.level(ino);
        Ok(self.shown(seen, level))
    }

    /// Whether all of a shelf is known here; what is above is.
    pub(super) fn is_known(&self, ino: u64) -> bool {
        ino >= PAST || !matches!(self.place(ino), Ok(Some(place)) if !self.at_hand.is_whole(&place.top.pair))
    }

    /// Waits for that, for a while.
    pub(super) async fn known(&self, ino: u64) {
        let mut news = self.at_hand.news();
        let until = tokio::time::Instant::now() + KNOWN;
        while !self.is_known(ino) {
            news.borrow_and_update();
            if tokio::time::timeout_at(until, news.changed()).await.is_err() {
                break;
            }
        }
    }

    /// What the pair of a place says of itself.
    pub(super) fn status(&self, place: &Place) -> Option<Arc<Status>> {
        self.at_hand.status(&place.top.pair)
    }

    /// Waits until the service has what was written.
    pub(super) async fn sent(&self, file: &Arc<Opened>) -> Result<(), i32> {
        let mut news = self.at_hand.news();
        let mut away: Option<Instant> = None;
        file.counts(&self.at_hand);
        file.rests();
        loop {
            news.borrow_and_update();
            if !self.at_hand.room().is_owed(Thing::File(file.object)) {
                return Ok(());
            }
            let place = self.place(file.ino).ok().flatten();
            let status = place.as_ref().and_then(|place| self.status(place));
            if let (Some(place), Some(status)) = (&place, &status) {
                let path = path_of(&place.way);
                let refused =
                    |left: &&crate::pairs::status::Left| left.path == path && left.why.starts_with(REFUSED);
                if let Some(left) = status.left.iter().find(refused) {
                    return Err(errno_of_refusal(&left.why));
                }
                match status.trouble {
                    Some(_) if away.is_some_and(|at| at.elapsed() > AWAY) => return Err(libc::EHOSTUNREACH),
                    Some(_) => drop(away.get_or_insert_with(Instant::now)),
                    None => away = None,
                }
            }
            let _ = tokio::time::timeout(Duration::from_millis(500), news.changed()).await;
        }
    }

    /// A program begins to read a file whose bytes are on the service: so long it waits before.
    pub(super) fn slowed(&self, pid: u32) -> Duration {
        let second = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |at| at.as_secs());
        let mut budgets = self.budgets.lock();
        if budgets.len() > 1_000 {
            budgets.clear();
        }
        Duration::from_millis(budgets.entry(pid).or_default().begins(second))
    }

    /// Asks the service how much there is room for, if that was not asked lately.
    pub(super) fn ask_space(self: &Arc<Inner>) {
        let mut asked = self.asked_space.lock();
        if asked.is_some_and(|at| at.elapsed() < Duration::from_secs(30)) {
            return;
        }
        *asked = Some(Instant::now());
        drop(asked);
        let inner = self.clone();
        self.runtime.spawn(async move {
            if let Ok(shelves) = inner.client.shelves().await {
                *inner.space.write() = space_of(&shelves);
            }
        });
    }
}

/// What there is in all and what of it is free: the quota of the own shelf, else the service's room; 0 means unknown.
pub(super) fn space_of(shelves: &api::Shelves) -> (u64, u64) {
    let home = shelves.shelves.iter().find(|shelf| shelf.kind == "home");
    match home.and_then(|home| Some((home.quota?, home.sums.bytes.max(0) as u64))) {
        Some((quota, used)) => (quota, quota.saturating_sub(used).min(shelves.disk_free.max(1))),
        None => (shelves.disk_total, shelves.disk_free),
    }
}

/// A way, as people read it.
pub(super) fn path_of(way: &[Vec<u8>]) -> String {
    crate::pairs::status::shown(way)
}

/// What it means for a program that the service refuses something, by its code.
fn errno_of_refusal(why: &str) -> i32 {
    let full = ["quota", "no_space", "disk_full", "too_large", "shelf_full"];
    match full.iter().any(|code| why.contains(code)) {
        true => libc::EDQUOT,
        false => libc::EACCES,
    }
}

pub(super) fn error(number: i32) -> io::Error {
    io::Error::from_raw_os_error(number)
}

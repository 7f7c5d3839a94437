//! What pairs and the mounted folder that they are of tell each other: what lies here, what is open, what is kept, what has
//! changed beneath.

use super::status::Status;
use parking_lot::{Mutex, MutexGuard, RwLock};
use rustix::fs::{self, AtFlags, StatxFlags};
use std::collections::{BTreeSet, HashMap};
use std::io::{self, Write};
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::Sender;
use tokio::sync::watch;
use yellow_attic_core::merge::Object;
use yellow_attic_core::mounted::room::{Room, Thing};

/// Something that programs are to see.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Did {
    /// A pair did something.
    In {
        /// In which folder.
        folder: Object,
        /// To what.
        name: Vec<u8>,
    },
    /// Other things may be done than before, somewhere.
    Rights,
}

/// What pairs and a mounted folder have together.
pub struct AtHand {
    room: Mutex<Room>,
    /// Held for reading by whoever opens a file, for writing by whoever releases one.
    pub gate: RwLock<()>,
    did: Sender<Did>,
    /// What was kept, by a person: folders with all that is and comes beneath, and single files.
    keeps: Mutex<BTreeSet<Object>>,
    keeps_file: PathBuf,
    /// What is to be released at once.
    wanted: Mutex<BTreeSet<Object>>,
    woken: watch::Sender<u64>,
    told: Mutex<HashMap<String, Arc<Status>>>,
    /// How often anything was told: whoever waits for something looks again.
    news: watch::Sender<u64>,
    whole: Mutex<BTreeSet<String>>,
    /// How often programs changed anything.
    changes: AtomicU64,
    /// Up to which of these each pair has carried all to the service.
    settled: Mutex<HashMap<String, u64>>,
}

impl AtHand {
    /// With what was kept before.
    pub fn new(room: Room, did: Sender<Did>, keeps_file: PathBuf) -> io::Result<AtHand> {
        let keeps = match std::fs::read(&keeps_file) {
            Ok(text) => serde_json::from_slice(&text).map_err(io::Error::other)?,
            Err(e) if e.kind() == io::ErrorKind::NotFound => BTreeSet::new(),
            Err(e) => return Err(e),
        };
        Ok(AtHand {
            room: Mutex::new(room),
            gate: RwLock::default(),
            did,
            keeps: Mutex::new(keeps),
            keeps_file,
            wanted: Mutex::default(),
            woken: watch::channel(0).0,
            told: Mutex::default(),
            news: watch::channel(0).0,
            whole: Mutex::default(),
            changes: AtomicU64::new(0),
            settled: Mutex::default(),
        })
    }

    /// What lies here.
    pub fn room(&self) -> MutexGuard<'_, Room> {
        self.room.lock()
    }

    /// A pair did something in an open folder.
    pub(super) fn did(&self, folder: impl AsFd, name: &[u8]) {
        if let Ok((folder, _, _)) = what_is(folder) {
            let _ = self.did.send(Did::In { folder, name: name.to_vec() });
        }
    }

    /// Other things may be done than before.
    pub fn rights_changed(&self) {
        let _ = self.did.send(Did::Rights);
    }

    /// Whether it is kept by itself.
    pub fn is_kept(&self, object: Object) -> bool {
        self.keeps.lock().contains(&object)
    }

    /// Whether anything is kept.
    pub fn keeps_any(&self) -> bool {
        !self.keeps.lock().is_empty()
    }

    /// Keeps it from now on, or no more.
    pub fn keep(&self, object: Object, keep: bool) -> io::Result<()> {
        let mut keeps = self.keeps.lock();
        let changed = if keep { keeps.insert(object) } else { keeps.remove(&object) };
        if changed {
            write_whole(&self.keeps_file, &serde_json::to_vec(&*keeps).map_err(io::Error::other)?)?;
        }
        Ok(())
    }

    /// Another object has the place of one that was kept.
    pub fn follows(&self, old: Object, new: Object) {
        if old != new && self.is_kept(old) && self.keep(new, true).is_ok() {
            let _ = self.keep(old, false);
        }
    }

    /// These are to be released at once.
    pub fn want_released(&self, objects: impl IntoIterator<Item = Object>) {
        self.wanted.lock().extend(objects);
        self.wake();
    }

    /// Those of them that are among these.
    pub(super) fn take_wanted(&self, among: impl Fn(&Object) -> bool) -> Vec<Object> {
        let mut wanted = self.wanted.lock();
        let mine: Vec<Object> = wanted.iter().filter(|object| among(object)).copied().collect();
        wanted.retain(|object| !mine.contains(object));
        mine
    }

    /// Whether any of them are still to be released.
    pub fn still_wanted(&self, objects: &[Object]) -> bool {
        let wanted = self.wanted.lock();
        objects.iter().any(|object| wanted.contains(object))
    }

    /// They need not be released any more: what is left of them cannot be.
    pub fn want_no_more(&self, objects: &[Object]) {
        self.wanted.lock().retain(|object| !objects.contains(object));
    }

    /// The pairs look at what is to be done.
    pub fn wake(&self) {
        self.woken.send_modify(|n| *n += 1);
    }

    /// Hears when they are to.
    pub(super) fn woken(&self) -> watch::Receiver<u64> {
        self.woken.subscribe()
    }

    /// Hears when something was told.
    pub fn news(&self) -> watch::Receiver<u64> {
        self.news.subscribe()
    }

    pub(super) fn tells_news(&self) {
        self.news.send_modify(|n| *n += 1);
    }

    /// What a pair says of itself.
    pub fn status(&self, pair: &str) -> Option<Arc<Status>> {
        self.told.lock().get(pair).cloned()
    }

    /// How many bytes all pairs have carried: as long as it grows, bytes are leaving.
    pub fn moved(&self) -> u64 {
        let told = self.told.lock();
        told.values().map(|s| s.moved + s.doing.iter().map(|doing| doing.done).sum::<u64>()).sum()
    }

    pub(super) fn tells(&self, status: &Status) {
        self.told.lock().insert(status.id.clone(), Arc::new(status.clone()));
        self.tells_news();
    }

    /// Whether all that the service has in a pair was seen here once.
    pub fn is_whole(&self, pair: &str) -> bool {
        self.whole.lock().contains(pair)
    }

    pub(super) fn whole(&self, pair: &str) {
        if self.whole.lock().insert(pair.to_string()) {
            self.tells_news();
        }
    }

    /// A program has changed something.
    pub fn changed(&self) {
        self.changes.fetch_add(1, Ordering::SeqCst);
    }

    /// How often programs changed anything.
    pub(super) fn changes(&self) -> u64 {
        self.changes.load(Ordering::SeqCst)
    }

    /// A pair has carried all that was changed before to the service.
    pub(super) fn settles(&self, pair: &str, changes: u64) {
        self.settled.lock().insert(pair.to_string(), changes);
    }

    /// Whether the service has all that programs changed, as far as these pairs go.
    pub fn is_settled<'p>(&self, mut pairs: impl Iterator<Item = &'p str>) -> bool {
        let (now, settled) = (self.changes(), self.settled.lock());
        pairs.all(|pair| settled.get(pair) == Some(&now))
    }

    /// So many bytes of a file lie here; whether the service has them.
    pub(super) fn weigh(&self, object: Object, bytes: u64, owed: bool) {
        let mut room = self.room.lock();
        room.holds(Thing::File(object), bytes);
        room.owes(Thing::File(object), owed && bytes > 0);
    }
}

/// Writes a file so that a reader sees the one before or this one, whatever happens.
pub(crate) fn write_whole(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let new = path.with_extension("new");
    let mut file = std::fs::File::create(&new)?;
    file.write_all(bytes)?;
    file.sync_all()?;
    std::fs::rename(new, path)
}

/// Which object something open is, how many bytes of it lie on the disk, and how many it says it has.
pub(crate) fn what_is(file: impl AsFd) -> io::Result<(Object, u64, u64)> {
    let s = fs::statx(file, "", AtFlags::EMPTY_PATH, StatxFlags::BASIC_STATS | StatxFlags::BTIME)?;
    Ok((super::ground::object_of(&s), s.stx_blocks * 512, s.stx_size))
}

//! `.then`: what a folder was. It stands in every folder, and no list shows it; one entry for each snapshot, and any time by
//! its name. All of it is read only, and has numbers of its own.

use super::blocks::errno_of;
use super::inner::{Inner, error};
use super::nodes::PAST;
use fuser::{FileAttr, FileType, INodeNo};
use parking_lot::Mutex;
use std::collections::HashMap;
use std::io;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};
use yellow_attic_client::{Error, api};
use yellow_attic_core::merge::Hash;
use yellow_attic_core::mounted::past::{THEN, Time, snapshot_name, time_in};
use yellow_attic_core::mounted::stub::Stub;
use yellow_attic_core::{Moment, NodeId};

/// What was listed is listed again after so long: rights may have changed, or states may have been let go.
const FRESH: Duration = Duration::from_secs(30);

/// Something in the past.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) enum Thing {
    /// `.then` of a folder: where the folder is on the service.
    Then(String),
    /// A folder, as it was at a moment.
    Folder { node: i64, at: String },
    /// A file, as it was.
    File { node: i64, moment: i64, hash: Hash, size: u64 },
}

struct Known {
    thing: Thing,
    above: u64,
    modified: SystemTime,
    executable: bool,
    times: u64,
}

/// A name, the number that it has, and what it is.
type Listed = Arc<Vec<(String, u64)>>;

/// All that is known of the past.
#[derive(Default)]
pub(super) struct Past {
    next: AtomicU64,
    known: Mutex<HashMap<u64, Known>>,
    numbers: Mutex<HashMap<Thing, u64>>,
    lists: Mutex<HashMap<u64, (Instant, Listed)>>,
}

impl Past {
    fn number(&self, thing: Thing, above: u64, modified: SystemTime, executable: bool) -> u64 {
        let mut numbers = self.numbers.lock();
        let new = || PAST + self.next.fetch_add(1, Ordering::Relaxed);
        let number = *numbers.entry(thing.clone()).or_insert_with(new);
        let known = Known { thing, above, modified, executable, times: 0 };
        self.known.lock().entry(number).or_insert(known);
        number
    }

    pub(super) fn told(&self, ino: u64) {
        if let Some(known) = self.known.lock().get_mut(&ino) {
            known.times += 1;
        }
    }

    pub(super) fn forget(&self, ino: u64, times: u64) {
        let mut known = self.known.lock();
        let Some(it) = known.get_mut(&ino) else { return };
        it.times = it.times.saturating_sub(times);
        if it.times == 0 {
            let it = known.remove(&ino);
            drop(known);
            if let Some(it) = it {
                self.numbers.lock().remove(&it.thing);
            }
            self.lists.lock().remove(&ino);
        }
    }

    fn thing(&self, ino: u64) -> io::Result<(Thing, u64)> {
        let known = self.known.lock();
        known.get(&ino).map(|it| (it.thing.clone(), it.above)).ok_or_else(|| error(libc::ESTALE))
    }

    /// What a file there stands for.
    pub(super) fn stub(&self, ino: u64) -> io::Result<Stub> {
        match self.thing(ino)?.0 {
            Thing::File { node, moment, hash, size } => {
                Ok(Stub { hash, size, node: NodeId(node), moment: Moment(moment) })
            }
            _ => Err(error(libc::EISDIR)),
        }
    }

    /// The folder above one there.
    pub(super) fn above(&self, ino: u64) -> io::Result<u64> {
        Ok(self.thing(ino)?.1)
    }

    /// What the system is told of it.
    pub(super) fn attr(&self, ino: u64) -> io::Result<FileAttr> {
        let known = self.known.lock();
        let it = known.get(&ino).ok_or_else(|| error(libc::ESTALE))?;
        let (kind, size, perm) = match &it.thing {
            Thing::File { size, .. } => {
                (FileType::RegularFile, *size, if it.executable { 0o555 } else { 0o444 })
            }
            _ => (FileType::Directory, 4096, 0o555),
        };
        Ok(FileAttr {
            ino: INodeNo(ino),
            size,
            blocks: size.div_ceil(512),
            atime: it.modified,
            mtime: it.modified,
            ctime: it.modified,
            crtime: it.modified,
            kind,
            perm,
            nlink: if kind == FileType::Directory { 2 } else { 1 },
            uid: rustix::process::geteuid().as_raw(),
            gid: rustix::process::getegid().as_raw(),
            rdev: 0,
            blksize: 128 << 10,
            flags: 0,
        })
    }
}

impl Inner {
    /// `.then` of a folder here.
    pub(super) fn then_of(&self, folder: u64) -> io::Result<u64> {
        // Above the shelves there is none: each has its own.
        let place = self.place(folder)?.ok_or_else(|| error(libc::ENOENT))?;
        let below = super::inner::path_of(&place.way);
        let base = place.top.remote.trim_end_matches('/').to_string();
        let path = match (below.is_empty(), base.ends_with(':')) {
            (true, _) => place.top.remote.clone(),
            (false, _) => format!("{base}/{below}"),
        };
        Ok(self.past.number(Thing::Then(path), folder, SystemTime::now(), false))
    }

    /// Opens a file there.
    pub(super) fn open_past(&self, ino: u64) -> io::Result<u64> {
        self.files.open_past(ino, self.past.stub(ino)?)
    }

    /// Something there, by its name.
    pub(super) async fn look_up_past(&self, folder: u64, name: &str) -> io::Result<u64> {
        let (thing, _) = self.past.thing(folder)?;
        match thing {
            Thing::Then(path) => {
                let list = self.list_past(folder).await?;
                if let Some((_, number)) = list.iter().find(|(it, _)| it == name) {
                    return Ok(*number);
                }
                let time = time_in(name).ok_or_else(|| error(libc::ENOENT))?;
                let facts = self.client.place(&path, None).await.map_err(|e| said(&e))?;
                self.at(folder, facts.node.id, &instant(&time)?).await
            }
            Thing::Folder { .. } => {
                let list = self.list_past(folder).await?;
                let found = list.iter().find(|(it, _)| it == name);
                found.map(|(_, number)| *number).ok_or_else(|| error(libc::ENOENT))
            }
            Thing::File { .. } => Err(error(libc::ENOTDIR)),
        }
    }

    /// A folder as it was at a time, wherever it was then.
    async fn at(&self, above: u64, node: i64, at: &str) -> io::Result<u64> {
        let query = api::ListQuery { at: Some(at.to_string()), limit: Some(1), ..Default::default() };
        self.client.entries(node, &query).await.map_err(|e| said(&e))?;
        let thing = Thing::Folder { node, at: at.to_string() };
        let modified = if at.contains(':') { time_of(at) } else { SystemTime::now() };
        Ok(self.past.number(thing, above, modified, false))
    }

    /// What stands in a folder there.
    pub(super) async fn list_past(&self, folder: u64) -> io::Result<Listed> {
        if let Some((at, list)) = self.past.lists.lock().get(&folder)
            && at.elapsed() < FRESH
        {
            return Ok(list.clone());
        }
        let (thing, _) = self.past.thing(folder)?;
        let list = match thing {
            Thing::Then(path) => self.snapshots_of(folder, &path).await?,
            Thing::Folder { node, at } => {
                let query = api::ListQuery { at: Some(at.clone()), ..Default::default() };
                let entries = self.client.all_entries(node, &query).await.map_err(|e| said(&e))?;
                let mut list = Vec::with_capacity(entries.len());
                for entry in &entries {
                    let thing = match entry.kind {
                        api::Kind::Folder => Thing::Folder { node: entry.id, at: at.clone() },
                        api::Kind::File => {
                            let hash = entry.blake3.as_deref().and_then(|h| blake3::Hash::from_hex(h).ok());
                            let (Some(hash), Some(moment)) = (hash, Moment::from_token(&entry.moment)) else {
                                continue;
                            };
                            Thing::File {
                                node: entry.id,
                                moment: moment.0,
                                hash: *hash.as_bytes(),
                                size: entry.size.max(0) as u64,
                            }
                        }
                    };
                    let number = self.past.number(thing, folder, time_of(&entry.modified), entry.executable);
                    list.push((entry.name.clone(), number));
                }
                list
            }
            Thing::File { .. } => return Err(error(libc::ENOTDIR)),
        };
        let list = Arc::new(list);
        self.past.lists.lock().insert(folder, (Instant::now(), list.clone()));
        Ok(list)
    }

    async fn snapshots_of(&self, folder: u64, path: &str) -> io::Result<Vec<(String, u64)>> {
        let facts = self.client.place(path, None).await.map_err(|e| said(&e))?;
        let root = facts.way.first().map_or(facts.node.id, |top| top.id);
        let snapshots = match self.client.snapshots(root).await {
            Ok(snapshots) => snapshots.snapshots,
            // Who may see a part only is told of no snapshots of the whole; times are there all the same.
            Err(Error::Refused(_)) => Vec::new(),
            Err(e) => return Err(said(&e)),
        };
        let mut list: Vec<(String, u64)> = Vec::new();
        for snapshot in snapshots {
            let Ok(time) = snapshot.at.parse::<jiff::Timestamp>() else { continue };
            let zoned = time.to_zoned(jiff::tz::TimeZone::system());
            let name = snapshot_name(&zoned.strftime("%Y-%m-%dT%H:%M:%S%:z").to_string(), &snapshot.label);
            if let Ok(number) = self.at(folder, facts.node.id, &snapshot.moment).await
                && list.iter().all(|(other, _)| *other != name)
            {
                list.push((name, number));
            }
        }
        Ok(list)
    }
}

/// Whether a name is that of the past, in a folder that has one.
pub(super) fn is_then(name: &[u8]) -> bool {
    name == THEN.as_bytes()
}

/// The instant that a name means. What has not been yet is not there; a day that is not over means now.
fn instant(time: &Time) -> io::Result<String> {
    let none = || error(libc::ENOENT);
    let at = match &time.offset {
        Some(offset) => format!("{}{offset}", time.local).parse::<jiff::Timestamp>().map_err(|_| none())?,
        None => {
            let local: jiff::civil::DateTime = time.local.parse().map_err(|_| none())?;
            local.to_zoned(jiff::tz::TimeZone::system()).map_err(|_| none())?.timestamp()
        }
    };
    let now = jiff::Timestamp::now();
    let today = time.local.ends_with("T23:59:59") && at.duration_since(now).as_hours() < 24;
    match at > now {
        true if today => Ok(now.to_string()),
        true => Err(none()),
        false => Ok(at.to_string()),
    }
}

fn time_of(text: &str) -> SystemTime {
    let ms = crate::pairs::read_time(text).unwrap_or(0);
    UNIX_EPOCH + Duration::from_millis(ms.max(0) as u64)
}

fn said(error: &Error) -> io::Error {
    io::Error::from_raw_os_error(match error {
        Error::Refused(p) if p.status == 404 || p.status == 410 || p.status == 400 => libc::ENOENT,
        other => errno_of(other),
    })
}

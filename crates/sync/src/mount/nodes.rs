//! What the system knows of a mounted folder: each thing by a number of the mount's own, which stands for one object beneath
//! and never for another. A new state that is put in the place of an old one is another object, and so another number.

use crate::pairs::at_hand::what_is;
use fuser::{FileAttr, FileType, INodeNo};
use parking_lot::Mutex;
use rustix::fs::{self, AtFlags, Mode, OFlags, ResolveFlags, StatxFlags};
use rustix::io::Errno;
use std::collections::HashMap;
use std::ffi::OsStr;
use std::fs::File;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use yellow_attic_core::merge::Object;

/// So many folders are held open.
const OPEN: usize = 1_000;
/// What is in `.then` has numbers from here on.
pub(super) const PAST: u64 = 1 << 62;

const BENEATH: ResolveFlags = ResolveFlags::BENEATH
    .union(ResolveFlags::NO_SYMLINKS)
    .union(ResolveFlags::NO_XDEV)
    .union(ResolveFlags::NO_MAGICLINKS);
const DIR: OFlags = OFlags::RDONLY.union(OFlags::DIRECTORY).union(OFlags::CLOEXEC);

struct Node {
    object: Object,
    parent: u64,
    name: Vec<u8>,
    /// How often the system was told of it, and has not forgotten it.
    known: u64,
}

#[derive(Default)]
struct Table {
    nodes: HashMap<u64, Node>,
    folders: HashMap<u64, Arc<OwnedFd>>,
}

/// All that the system knows.
pub(super) struct Nodes {
    top: OwnedFd,
    object: Object,
    table: Mutex<Table>,
    owner: (u32, u32),
}

/// Something beneath, as it is now.
pub(super) struct Seen {
    /// The object.
    pub(super) object: Object,
    /// What the system is told of it.
    pub(super) attr: FileAttr,
}

impl Nodes {
    /// Of the folder in which everything lies.
    pub(super) fn new(body: &Path) -> io::Result<Nodes> {
        let top = fs::open(body, DIR, Mode::empty())?;
        let (object, ..) = what_is(&top)?;
        let owner = (rustix::process::geteuid().as_raw(), rustix::process::getegid().as_raw());
        Ok(Nodes { top, object, table: Mutex::default(), owner })
    }

    /// The number that stands for an object.
    pub(super) fn number(&self, object: Object) -> u64 {
        if object == self.object {
            return 1;
        }
        let mut told = [0; 24];
        told[..8].copy_from_slice(&object.inode.to_le_bytes());
        told[8..16].copy_from_slice(&object.born.to_le_bytes());
        told[16..].copy_from_slice(&object.device.to_le_bytes());
        let hash = blake3::hash(&told);
        let mut first = [0; 8];
        first.copy_from_slice(&hash.as_bytes()[..8]);
        (u64::from_le_bytes(first) & (PAST - 1)).max(2)
    }

    /// The system is told of something in a folder.
    pub(super) fn tell(&self, parent: u64, name: &[u8], seen: &Seen) {
        let mut table = self.table.lock();
        let new = || Node { object: seen.object, parent, name: name.to_vec(), known: 0 };
        let node = table.nodes.entry(seen.attr.ino.0).or_insert_with(new);
        node.known += 1;
        if node.parent != parent || node.name != name {
            (node.parent, node.name) = (parent, name.to_vec());
        }
    }

    /// The system has forgotten it so often.
    pub(super) fn forget(&self, ino: u64, times: u64) {
        let mut table = self.table.lock();
        let Some(node) = table.nodes.get_mut(&ino) else { return };
        node.known = node.known.saturating_sub(times);
        if node.known == 0 {
            table.nodes.remove(&ino);
            table.folders.remove(&ino);
        }
    }

    /// The numbers of all that the system knows.
    pub(super) fn all(&self) -> Vec<u64> {
        self.table.lock().nodes.keys().copied().collect()
    }

    /// Whether the system knows it.
    pub(super) fn knows(&self, ino: u64) -> bool {
        ino == 1 || self.table.lock().nodes.contains_key(&ino)
    }

    /// Something has another place, by what a program did.
    pub(super) fn moved(&self, ino: u64, parent: u64, name: &[u8]) {
        if let Some(node) = self.table.lock().nodes.get_mut(&ino) {
            (node.parent, node.name) = (parent, name.to_vec());
        }
    }

    /// The object of a number.
    pub(super) fn object(&self, ino: u64) -> io::Result<Object> {
        if ino == 1 {
            return Ok(self.object);
        }
        self.table.lock().nodes.get(&ino).map(|node| node.object).ok_or_else(stale)
    }

    /// The names on the way to it, and the numbers of what they name.
    pub(super) fn way(&self, ino: u64) -> io::Result<Vec<(u64, Vec<u8>)>> {
        let table = self.table.lock();
        let (mut way, mut next) = (Vec::new(), ino);
        while next != 1 {
            let node = table.nodes.get(&next).ok_or_else(stale)?;
            way.push((next, node.name.clone()));
            next = node.parent;
            if way.len() > 1_000 {
                return Err(stale());
            }
        }
        way.reverse();
        Ok(way)
    }

    fn place(&self, ino: u64) -> io::Result<(u64, Vec<u8>, Object)> {
        let table = self.table.lock();
        let node = table.nodes.get(&ino).ok_or_else(stale)?;
        Ok((node.parent, node.name.clone(), node.object))
    }

    /// A folder, open, if it is still the one that the number stands for.
    pub(super) fn folder(&self, ino: u64) -> io::Result<Arc<OwnedFd>> {
        if let Some(open) = self.table.lock().folders.get(&ino) {
            return Ok(open.clone());
        }
        let object = self.object(ino)?;
        let path: PathBuf =
            self.way(ino)?.into_iter().map(|(_, name)| PathBuf::from(OsStr::from_bytes(&name))).collect();
        let dir = match ino {
            1 => fs::openat(&self.top, ".", DIR, Mode::empty()),
            _ => fs::openat2(&self.top, &path, DIR, Mode::empty(), BENEATH),
        };
        let dir = match dir {
            Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP) => return Err(stale()),
            dir => Arc::new(dir?),
        };
        if what_is(&dir)?.0 != object {
            return Err(stale());
        }
        let mut table = self.table.lock();
        if table.folders.len() >= OPEN {
            table.folders.clear();
        }
        table.folders.insert(ino, dir.clone());
        Ok(dir)
    }

    /// What stands in a folder under a name.
    pub(super) fn look(&self, folder: &OwnedFd, name: &[u8]) -> io::Result<Seen> {
        let flags = AtFlags::SYMLINK_NOFOLLOW | AtFlags::NO_AUTOMOUNT;
        let s = fs::statx(folder, name, flags, StatxFlags::BASIC_STATS | StatxFlags::BTIME)?;
        self.seen(&s)
    }

    /// What is open.
    pub(super) fn look_at(&self, file: impl AsFd) -> io::Result<Seen> {
        let s = fs::statx(file, "", AtFlags::EMPTY_PATH, StatxFlags::BASIC_STATS | StatxFlags::BTIME)?;
        self.seen(&s)
    }

    fn seen(&self, s: &fs::Statx) -> io::Result<Seen> {
        let object = crate::pairs::ground::object_of(s);
        let kind = match u32::from(s.stx_mode) & 0o170_000 {
            0o040_000 => FileType::Directory,
            0o100_000 => FileType::RegularFile,
            // Neither links nor pipes nor devices are in it.
            _ => return Err(io::ErrorKind::NotFound.into()),
        };
        let attr = FileAttr {
            ino: INodeNo(self.number(object)),
            size: s.stx_size,
            // As if all were here: programs take what has no blocks for empty.
            blocks: s.stx_size.div_ceil(512),
            atime: time(&s.stx_mtime),
            mtime: time(&s.stx_mtime),
            ctime: time(&s.stx_ctime),
            crtime: time(&s.stx_btime),
            kind,
            perm: s.stx_mode & 0o777,
            nlink: s.stx_nlink,
            uid: self.owner.0,
            gid: self.owner.1,
            rdev: 0,
            blksize: 128 << 10,
            flags: 0,
        };
        Ok(Seen { object, attr })
    }

    /// What a number stands for, as it is now.
    pub(super) fn see(&self, ino: u64) -> io::Result<Seen> {
        if ino == 1 {
            return self.look_at(&self.top);
        }
        let (parent, name, object) = self.place(ino)?;
        let seen = match self.look(&*self.folder(parent)?, &name) {
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Err(stale()),
            seen => seen?,
        };
        if seen.object != object {
            return Err(stale());
        }
        Ok(seen)
    }

    /// Opens the file that a number stands for.
    pub(super) fn open(&self, ino: u64, write: bool) -> io::Result<File> {
        let (parent, name, object) = self.place(ino)?;
        let flags = if write { OFlags::RDWR } else { OFlags::RDONLY };
        let flags = flags | OFlags::CLOEXEC | OFlags::NOFOLLOW | OFlags::NONBLOCK;
        let file = match fs::openat(&*self.folder(parent)?, &*name, flags, Mode::empty()) {
            Err(Errno::NOENT | Errno::LOOP) => return Err(stale()),
            file => File::from(file?),
        };
        if what_is(&file)?.0 != object {
            return Err(stale());
        }
        Ok(file)
    }
}

fn time(t: &fs::StatxTimestamp) -> SystemTime {
    let nanos = Duration::from_nanos(t.tv_nsec.into());
    match u64::try_from(t.tv_sec) {
        Ok(seconds) => UNIX_EPOCH + Duration::from_secs(seconds) + nanos,
        Err(_) => UNIX_EPOCH - Duration::from_secs(t.tv_sec.unsigned_abs()) + nanos,
    }
}

/// What the number stood for is there no more.
pub(super) fn stale() -> io::Error {
    io::Error::from_raw_os_error(libc::ESTALE)
}

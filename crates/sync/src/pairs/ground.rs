//! The folder of a pair on this computer: everything is reached beneath its handle, no link is followed, and no other file
//! system is entered. What is replaced or removed is looked at once more after it was taken out of its place.

use super::at_hand::AtHand;
use super::landing::Group;
use super::stubs::{is_stub, stub_of};
use super::taken::Taken;
use rustix::fs::{self, AtFlags, Mode, OFlags, RenameFlags, ResolveFlags, StatxFlags};
use rustix::io::Errno;
use std::fs::File;
use std::io::{self, Read, Write};
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, AtomicUsize};
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use yellow_attic_core::merge::{Hash, Object, Stat};

/// Our own folder in the top of a pair: what arrives lies there until it is whole.
pub const OWN: &str = ".yattic";

const DIR: OFlags = OFlags::RDONLY.union(OFlags::DIRECTORY).union(OFlags::CLOEXEC);
pub(super) const BENEATH: ResolveFlags = ResolveFlags::BENEATH
    .union(ResolveFlags::NO_SYMLINKS)
    .union(ResolveFlags::NO_XDEV)
    .union(ResolveFlags::NO_MAGICLINKS);

/// A way below the top: names as the file system has them.
pub type Way = Vec<Vec<u8>>;

/// Something in a folder, as the file system has it.
pub struct Found {
    /// Its name.
    pub name: Vec<u8>,
    /// What it is; none for what is neither a file nor a folder, or lies on another file system.
    pub is: Option<(Object, Option<Stat>)>,
    /// Bytes of the disk that it takes.
    pub takes: u64,
}

/// Why something was not done.
#[derive(Debug)]
pub enum NotDone {
    /// It is otherwise than it was seen.
    Otherwise,
    /// It is being written to.
    Busy,
    /// Its bytes are only on the service.
    NotAtHand,
    /// The file system says so.
    Failed(io::Error),
}

impl From<io::Error> for NotDone {
    fn from(error: io::Error) -> NotDone {
        match error.kind() {
            io::ErrorKind::NotFound
            | io::ErrorKind::AlreadyExists
            | io::ErrorKind::NotADirectory
            | io::ErrorKind::IsADirectory
            | io::ErrorKind::DirectoryNotEmpty => NotDone::Otherwise,
            _ => NotDone::Failed(error),
        }
    }
}

impl From<Errno> for NotDone {
    fn from(error: Errno) -> NotDone {
        match error {
            // A link on the way, or another file system.
            Errno::LOOP | Errno::XDEV => NotDone::Otherwise,
            other => io::Error::from(other).into(),
        }
    }
}

pub(super) type Done<T> = Result<T, NotDone>;

/// What stands there now.
pub type Stands = (Object, Option<Stat>);

/// What is kept of a file beside its bytes takes no more than this.
const FEW_BYTES: u64 = 16 << 10;

/// The folder of a pair.
pub struct Ground {
    pub(super) group: Group,
    /// How many files come to their places just now.
    pub(super) landing: AtomicUsize,
    /// The number of the next small file.
    pub(super) fresh: AtomicU64,
    /// Held by whoever writes many small files.
    pub(super) writing: parking_lot::Mutex<()>,
    top: OwnedFd,
    pub(super) own: OwnedFd,
    path: PathBuf,
    /// The mounted folder that it is of.
    at_hand: Option<Arc<AtHand>>,
}

impl Ground {
    /// Opens it, and makes our own folder in it. `mark`: what names the pair; it must be there already unless `new`: else
    /// this is another folder, or the disk that belongs here is not mounted.
    pub fn open(path: &Path, mark: &str, new: bool) -> io::Result<Ground> {
        let top = fs::open(path, DIR, Mode::empty())?;
        // Nothing is made in a folder that may be another one.
        if new {
            match fs::mkdirat(&top, OWN, Mode::from_raw_mode(0o700)) {
                Ok(()) | Err(Errno::EXIST) => {}
                Err(e) => return Err(e.into()),
            }
        }
        let other = || {
            io::Error::other(
                "this is not the folder that was kept the same: its disk may not be mounted, or it was made anew",
            )
        };
        let own = match fs::openat2(&top, OWN, DIR, Mode::empty(), BENEATH) {
            Err(Errno::NOENT) => return Err(other()),
            own => own?,
        };
        let file = path.join(OWN).join("pair");
        match std::fs::read_to_string(&file) {
            Ok(there) if there.trim() == mark => {}
            Ok(_) => {
                return Err(io::Error::other(
                    "this folder belongs to another pair; end that one, or choose another folder",
                ));
            }
            Err(e) if e.kind() == io::ErrorKind::NotFound && new => {
                let mut file = File::create_new(&file)?;
                file.write_all(mark.as_bytes())?;
                file.sync_all()?;
            }
            Err(e) if e.kind() == io::ErrorKind::NotFound => {
                return Err(other());
            }
            Err(e) => return Err(e),
        }
        Ok(Ground {
            group: Group::default(),
            landing: AtomicUsize::new(0),
            fresh: AtomicU64::new(0),
            writing: parking_lot::Mutex::new(()),
            top,
            own,
            path: path.to_path_buf(),
            at_hand: None,
        })
    }

    /// What is done in it is told to a mounted folder.
    pub(super) fn tells(&mut self, at_hand: Option<Arc<AtHand>>) {
        self.at_hand = at_hand;
    }

    pub(super) fn did(&self, folder: &OwnedFd, name: &[u8]) {
        if let Some(at_hand) = &self.at_hand {
            at_hand.did(folder, name);
        }
    }

    /// Gives the folder back: nothing of ours stays in it.
    pub fn leave(path: &Path, mark: &str) -> io::Result<()> {
        // What a stop left in between goes back first.
        if let Ok(ground) = Ground::open(path, mark, false) {
            ground.sweep()?;
        }
        match std::fs::remove_dir_all(path.join(OWN)) {
            Err(e) if e.kind() != io::ErrorKind::NotFound => Err(e),
            _ => Ok(()),
        }
    }

    /// Where it lies.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The top.
    pub fn object(&self) -> io::Result<Object> {
        Ok(look_at(&self.top)?.0)
    }

    /// Puts back what a stop found between its place and the look at it: nothing of it is known to be kept elsewhere.
    pub fn sweep(&self) -> io::Result<()> {
        for entry in fs::Dir::read_from(&self.own)? {
            let entry = entry?;
            let name = entry.file_name().to_bytes();
            if name.starts_with(b"new-") {
                // It had not come to its place: it is fetched again.
                fs::unlinkat(&self.own, entry.file_name(), AtFlags::empty())?;
            }
            if let Some(taken) = Taken::read(name)
                && let Some((object, stat)) = look(&self.own, name)?
                && (object.inode == taken.fresh
                    || taken.is(object, stat) && !self.is_written_to(entry.file_name()))
            {
                // It had not come to its place, or it is what was seen before it was taken out of it.
                fs::unlinkat(&self.own, entry.file_name(), AtFlags::empty())?;
            } else if name.starts_with(b"out-") {
                // It was taken out of its place, and nobody looked at it: it goes back under a name that is free.
                let free = (1..1000).find_map(|number| {
                    let back = format!("kept {} {number}", String::from_utf8_lossy(&name[4..]));
                    fs::renameat_with(&self.own, entry.file_name(), &self.top, back, RenameFlags::NOREPLACE)
                        .ok()
                });
                free.ok_or_else(|| {
                    io::Error::other("a file that was taken out of its place cannot go back")
                })?;
            }
        }
        Ok(())
    }

    fn is_written_to(&self, name: &std::ffi::CStr) -> bool {
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        fs::openat(&self.own, name, flags, Mode::empty()).is_ok_and(|file| is_written(&File::from(file)))
    }

    pub(super) fn folder(&self, way: &[Vec<u8>]) -> Done<OwnedFd> {
        if way.is_empty() {
            return Ok(fs::openat(&self.top, ".", DIR, Mode::empty())?);
        }
        Ok(fs::openat2(&self.top, joined(way), DIR, Mode::empty(), BENEATH)?)
    }

    /// A folder, open, if it is the one that is meant.
    pub fn open_folder(&self, way: &[Vec<u8>], is: Option<Object>) -> Done<OwnedFd> {
        let dir = self.folder(way)?;
        match is.is_none_or(|is| look_at(&dir).is_ok_and(|(object, _)| object == is)) {
            true => Ok(dir),
            false => Err(NotDone::Otherwise),
        }
    }

    /// What an open folder holds, and which folder it is. `top`: it is the pair's own.
    pub fn list(&self, dir: &OwnedFd, top: bool) -> Done<(Object, Vec<Found>)> {
        let (object, _) = look_at(dir)?;
        let mut found = Vec::new();
        for entry in fs::Dir::read_from(dir)? {
            let entry = entry?;
            let name = entry.file_name().to_bytes();
            if name == b"." || name == b".." || top && name == OWN.as_bytes() {
                continue;
            }
            let (is, takes) = match look_closely(dir, name) {
                Ok((is, takes)) => (is.filter(|(child, _)| child.device == object.device), takes),
                // Gone again.
                Err(e) if e.kind() == io::ErrorKind::NotFound => continue,
                Err(e) => return Err(NotDone::Failed(e)),
            };
            // What a file system keeps of one without bytes here is nothing that could be released.
            let takes = match self.at_hand.is_some() && (1..=FEW_BYTES).contains(&takes) && is_stub(dir, name)
            {
                true => 0,
                false => takes,
            };
            found.push(Found { name: name.to_vec(), is, takes });
        }
        Ok((object, found))
    }

    /// Opens a file that is as it was seen.
    pub(super) fn open_file(
        &self,
        dir: &OwnedFd,
        name: &[u8],
        seen: (Object, Stat),
        write: bool,
    ) -> Done<File> {
        let flags = if write { OFlags::RDWR } else { OFlags::RDONLY };
        let flags = flags | OFlags::CLOEXEC | OFlags::NOFOLLOW | OFlags::NONBLOCK;
        let file = File::from(fs::openat2(dir, name, flags, Mode::empty(), BENEATH)?);
        match look_at(&file)? == (seen.0, Some(seen.1)) {
            true => Ok(file),
            false => Err(NotDone::Otherwise),
        }
    }

    /// A file for reading, if it is as it was seen and nobody writes to it; [`Ground::is_still`] says the same afterwards.
    pub fn read(&self, way: &[Vec<u8>], seen: (Object, Stat)) -> Done<File> {
        let (name, above) = way.split_last().ok_or(NotDone::Otherwise)?;
        let file = self.open_file(&self.folder(above)?, name, seen, false)?;
        if stub_of(&file).is_some() {
            return Err(NotDone::NotAtHand);
        }
        match is_written(&file) {
            true => Err(NotDone::Busy),
            false => Ok(file),
        }
    }

    /// Whether an open file is still as it was seen.
    pub fn is_still(file: &File, seen: (Object, Stat)) -> bool {
        look_at(file).is_ok_and(|now| now == (seen.0, Some(seen.1))) && !is_written(file)
    }

    /// The hash of a file that is as it was seen, before and after.
    pub fn hash(&self, way: &[Vec<u8>], seen: (Object, Stat)) -> Done<Hash> {
        let mut file = match self.read(way, seen) {
            Err(NotDone::NotAtHand) => return self.hash_there(way, seen),
            file => file?,
        };
        let mut hasher = blake3::Hasher::new();
        let mut buffer = vec![0; 256 * 1024];
        loop {
            match file.read(&mut buffer) {
                Ok(0) => break,
                Ok(n) => drop(hasher.update(&buffer[..n])),
                Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
                Err(e) => return Err(NotDone::Failed(e)),
            }
        }
        match Ground::is_still(&file, seen) {
            true => Ok(*hasher.finalize().as_bytes()),
            false => Err(NotDone::Busy),
        }
    }

    /// The hash of what a file stands for, whose bytes are only on the service.
    fn hash_there(&self, way: &[Vec<u8>], seen: (Object, Stat)) -> Done<Hash> {
        let (name, above) = way.split_last().ok_or(NotDone::Otherwise)?;
        let file = self.open_file(&self.folder(above)?, name, seen, true)?;
        let stub = stub_of(&file).ok_or(NotDone::Otherwise)?;
        if stub.size != seen.1.size {
            // A stop came between: what it stands for holds.
            let modified = file.metadata()?.modified()?;
            file.set_len(stub.size)?;
            file.set_modified(modified)?;
            return Err(NotDone::Otherwise);
        }
        Ok(stub.hash)
    }

    /// Makes a folder where nothing stands.
    pub fn make_folder(&self, above: &[Vec<u8>], name: &[u8]) -> Done<Stands> {
        let dir = self.folder(above)?;
        fs::mkdirat(&dir, name, Mode::from_raw_mode(0o777))?;
        self.did(&dir, name);
        look(&dir, name)?.ok_or(NotDone::Otherwise)
    }

    /// Renames or moves what was seen, to where nothing stands.
    pub fn rename(
        &self,
        from: &[Vec<u8>],
        seen: (Object, Option<Stat>),
        above: &[Vec<u8>],
        name: &[u8],
    ) -> Done<Stands> {
        let (old, from) = from.split_last().ok_or(NotDone::Otherwise)?;
        let (from, to) = (self.folder(from)?, self.folder(above)?);
        match look(&from, old)? {
            Some((object, stat)) if object == seen.0 && (seen.1.is_none() || stat == seen.1) => {}
            _ => return Err(NotDone::Otherwise),
        }
        fs::renameat_with(&from, old.as_slice(), &to, name, RenameFlags::NOREPLACE)?;
        let there = look(&to, name)?;
        if there.is_none_or(|(object, _)| object != seen.0) {
            // Another took its name in between.
            let _ = fs::renameat_with(&to, name, &from, old.as_slice(), RenameFlags::NOREPLACE);
            return Err(NotDone::Otherwise);
        }
        self.did(&from, old);
        self.did(&to, name);
        there.ok_or(NotDone::Otherwise)
    }

    /// Removes a file that is as it was seen.
    pub fn remove_file(&self, way: &[Vec<u8>], seen: (Object, Stat)) -> Done<()> {
        let (name, above) = way.split_last().ok_or(NotDone::Otherwise)?;
        let dir = self.folder(above)?;
        let file = self.open_file(&dir, name, seen, false)?;
        if is_written(&file) {
            return Err(NotDone::Busy);
        }
        let out = Taken::of(seen, 0).name();
        fs::renameat_with(&dir, name.as_slice(), &self.own, &out, RenameFlags::NOREPLACE)?;
        let same = look(&self.own, out.as_bytes())?.is_some_and(|(object, stat)| {
            object == seen.0 && stat.is_some_and(|s| (s.size, s.modified) == (seen.1.size, seen.1.modified))
        });
        if !same || is_written(&file) {
            fs::renameat_with(&self.own, &out, &dir, name.as_slice(), RenameFlags::NOREPLACE)?;
            return Err(NotDone::Otherwise);
        }
        fs::unlinkat(&self.own, &out, AtFlags::empty())?;
        self.did(&dir, name);
        Ok(())
    }

    /// Removes an empty folder.
    pub fn remove_folder(&self, way: &[Vec<u8>], seen: Object) -> Done<()> {
        let (name, above) = way.split_last().ok_or(NotDone::Otherwise)?;
        let dir = self.folder(above)?;
        if look(&dir, name)?.is_none_or(|(object, stat)| object != seen || stat.is_some()) {
            return Err(NotDone::Otherwise);
        }
        fs::unlinkat(&dir, name.as_slice(), AtFlags::REMOVEDIR)?;
        self.did(&dir, name);
        Ok(())
    }

    /// Lets those run a file that is as it was seen who may read it, or nobody.
    pub fn mark(&self, way: &[Vec<u8>], seen: (Object, Stat), executable: bool) -> Done<Stands> {
        let (name, above) = way.split_last().ok_or(NotDone::Otherwise)?;
        let dir = self.folder(above)?;
        let file = self.open_file(&dir, name, seen, false)?;
        let mode = fs::fstat(&file)?.st_mode & 0o7777;
        let runs = if executable { (mode & 0o444) >> 2 } else { 0 };
        fs::fchmod(&file, Mode::from_raw_mode(mode & !0o111 | runs))?;
        self.did(&dir, name);
        Ok(look_at(&file)?)
    }

    /// Makes durable all that was done here.
    pub fn sync(&self) -> io::Result<()> {
        Ok(fs::syncfs(&self.top)?)
    }

    /// Free bytes of its file system.
    pub fn free(&self) -> u64 {
        fs::fstatvfs(&self.top).map_or(u64::MAX, |s| s.f_bavail.saturating_mul(s.f_frsize))
    }
}

pub(super) fn time_of(modified_ms: i64) -> SystemTime {
    match u64::try_from(modified_ms) {
        Ok(after) => UNIX_EPOCH + Duration::from_millis(after),
        Err(_) => UNIX_EPOCH - Duration::from_millis(modified_ms.unsigned_abs()),
    }
}

fn joined(way: &[Vec<u8>]) -> PathBuf {
    way.iter().map(|part| Path::new(std::ffi::OsStr::from_bytes(part))).collect()
}

pub(super) fn look(dir: &OwnedFd, name: &[u8]) -> io::Result<Option<Stands>> {
    Ok(look_closely(dir, name)?.0)
}

/// What stands there, and how many bytes of the disk it takes.
fn look_closely(dir: &OwnedFd, name: &[u8]) -> io::Result<(Option<Stands>, u64)> {
    let flags = AtFlags::SYMLINK_NOFOLLOW | AtFlags::NO_AUTOMOUNT;
    let s = fs::statx(dir, name, flags, StatxFlags::BASIC_STATS | StatxFlags::BTIME)?;
    Ok((stands(&s), s.stx_blocks * 512))
}

/// Which object it is.
pub(crate) fn object_of(s: &fs::Statx) -> Object {
    let born = StatxFlags::from_bits_retain(s.stx_mask).contains(StatxFlags::BTIME);
    Object {
        device: u64::from(s.stx_dev_major) << 32 | u64::from(s.stx_dev_minor),
        inode: s.stx_ino,
        born: if born { nanoseconds(&s.stx_btime) } else { 0 },
    }
}

fn nanoseconds(t: &fs::StatxTimestamp) -> i64 {
    t.tv_sec.saturating_mul(1_000_000_000) + i64::from(t.tv_nsec)
}

pub(super) fn look_at(file: impl AsFd) -> io::Result<Stands> {
    let s = fs::statx(file, "", AtFlags::EMPTY_PATH, StatxFlags::BASIC_STATS | StatxFlags::BTIME)?;
    stands(&s).ok_or_else(|| io::ErrorKind::InvalidInput.into())
}

fn stands(s: &fs::Statx) -> Option<Stands> {
    let object = object_of(s);
    match u32::from(s.stx_mode) & 0o170_000 {
        0o040_000 => Some((object, None)),
        0o100_000 => Some((
            object,
            Some(Stat {
                size: s.stx_size,
                modified: nanoseconds(&s.stx_mtime),
                changed: nanoseconds(&s.stx_ctime),
                executable: s.stx_mode & 0o100 != 0,
            }),
        )),
        _ => None,
    }
}

/// Whether some process has a file open for writing: then no lease on reading is given. Where leases are not to be had
/// (not one's own file, a network), nobody is taken to write.
pub(super) fn is_written(file: &File) -> bool {
    crate::syscalls::is_open_for_writing(file)
}

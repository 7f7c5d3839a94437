//! The data folder: every call to the file system that changes something passes here.
//!
//! All is opened relative to directory handles, beneath them, following no symbolic link
//! and crossing no mount.

use crate::error::{Result, StoreError};
use crate::steps::Steps;
use rustix::fs::{self, AtFlags, Mode, OFlags, RenameFlags, ResolveFlags, StatxFlags, Timespec, Timestamps};
use rustix::io::Errno;
use serde::{Deserialize, Serialize};
use std::fs::File;
use std::io;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use yellow_attic_core::{ContentId, NodeId};

/// Which object on the disk, whatever its name.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, Default)]
pub struct ObjectId {
    /// Inode number.
    pub ino: i64,
    /// Birth time in nanoseconds, 0 where the file system keeps none.
    pub btime: i64,
}

/// What kind of object.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Plain {
    /// A regular file.
    File,
    /// A directory.
    Folder,
    /// Anything else: never opened.
    Other,
}

/// What a look at an object tells.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Look {
    /// Which object.
    pub id: ObjectId,
    /// Its kind.
    pub kind: Plain,
    /// Its size in bytes.
    pub size: i64,
    /// Its time of modification in milliseconds.
    pub mtime: i64,
    /// How many names it has.
    pub names: u32,
}

/// The data folder, opened.
pub struct Disk {
    path: PathBuf,
    steps: Arc<dyn Steps>,
    /// `staging/`
    pub staging: Arc<OwnedFd>,
    /// `past/`
    pub past: Arc<OwnedFd>,
    /// `past/incoming/`
    pub incoming: Arc<OwnedFd>,
    /// `past/removed/`
    pub removed: Arc<OwnedFd>,
    /// `past/packs/`
    pub packs: Arc<OwnedFd>,
    /// `shelves/`
    pub shelves: Arc<OwnedFd>,
    journaled: bool,
}

const OPEN_DIR: OFlags = OFlags::RDONLY.union(OFlags::DIRECTORY).union(OFlags::CLOEXEC);
const BENEATH: ResolveFlags =
    ResolveFlags::BENEATH.union(ResolveFlags::NO_SYMLINKS).union(ResolveFlags::NO_XDEV);

impl Disk {
    /// Opens the data folder and makes what is missing in it.
    pub fn open(path: &Path, steps: Arc<dyn Steps>) -> Result<Disk> {
        let say = |what: &Path, e: &io::Error| StoreError::io(format!("opening {}", what.display()), e);
        let folder = |name: &str| -> Result<Arc<OwnedFd>> {
            let full = path.join(name);
            std::fs::create_dir_all(&full).map_err(|e| say(&full, &e))?;
            Ok(Arc::new(OwnedFd::from(File::open(&full).map_err(|e| say(&full, &e))?)))
        };
        let staging = folder("staging")?;
        Ok(Disk {
            journaled: journaled(&staging),
            staging,
            past: folder("past")?,
            incoming: folder("past/incoming")?,
            removed: folder("past/removed")?,
            packs: folder("past/packs")?,
            shelves: folder("shelves")?,
            path: path.to_path_buf(),
            steps,
        })
    }

    /// Where the catalogue lies.
    pub fn catalogue(&self) -> PathBuf {
        self.path.join("catalogue.db")
    }

    /// Announces a step that something else carries out.
    pub fn step(&self, name: &'static str) -> io::Result<()> {
        self.steps.before(name)
    }

    /// Free and total bytes of the file system.
    pub fn space(&self) -> io::Result<(u64, u64)> {
        let s = fs::fstatvfs(&self.staging)?;
        Ok((s.f_bavail * s.f_frsize, s.f_blocks * s.f_frsize))
    }

    /// Opens a directory in another one.
    pub fn open_dir(&self, dir: impl AsFd, name: &str) -> io::Result<OwnedFd> {
        Ok(fs::openat2(dir, name, OPEN_DIR | OFlags::NOFOLLOW, Mode::empty(), BENEATH)?)
    }

    /// Opens a directory below `shelves/`, making what is missing on the way.
    pub fn shelf_dir(&self, parts: &[&str]) -> io::Result<OwnedFd> {
        let mut dir = self.shelves.as_fd().try_clone_to_owned()?;
        for part in parts {
            match fs::mkdirat(&dir, *part, Mode::from_raw_mode(0o755)) {
                Ok(()) => fs::fsync(&dir)?,
                Err(Errno::EXIST) => {}
                Err(e) => return Err(e.into()),
            }
            dir = self.open_dir(&dir, part)?;
        }
        let on = |fd: BorrowedFd<'_>| -> io::Result<u64> { Ok(fs::fstat(fd)?.st_dev) };
        if on(dir.as_fd())? != on(self.staging.as_fd())? {
            return Err(io::Error::other(
                "the shelf lies on another file system than staging; attach such storage as a wing",
            ));
        }
        Ok(dir)
    }

    /// Opens a regular file for reading; anything else is refused without being touched.
    pub fn open_file(&self, dir: impl AsFd, name: &str) -> io::Result<(File, Look)> {
        let flags = OFlags::RDONLY | OFlags::CLOEXEC | OFlags::NOFOLLOW | OFlags::NONBLOCK;
        let fd = fs::openat2(dir, name, flags, Mode::empty(), BENEATH)?;
        let look = look_at_open(&fd)?;
        Ok((File::from(fd), look))
    }

    /// Makes a file in staging. It must not be there yet.
    pub fn make_staged(&self, name: &str) -> io::Result<File> {
        self.steps.before("make a staged file")?;
        let flags = OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::CLOEXEC | OFlags::NOFOLLOW;
        Ok(File::from(fs::openat(&self.staging, name, flags, Mode::from_raw_mode(0o644))?))
    }

    /// Opens a file in staging again, to write on at its end.
    pub fn reopen_staged(&self, name: &str) -> io::Result<File> {
        let flags = OFlags::RDWR | OFlags::CLOEXEC | OFlags::NOFOLLOW;
        Ok(File::from(fs::openat2(&self.staging, name, flags, Mode::empty(), BENEATH)?))
    }

    /// Makes a directory in staging and tells which object it is.
    pub fn make_staged_dir(&self, name: &str) -> io::Result<ObjectId> {
        self.steps.before("make a staged folder")?;
        fs::mkdirat(&self.staging, name, Mode::from_raw_mode(0o755))?;
        Ok(look(&self.staging, name)?.map(|l| l.id).unwrap_or_default())
    }

    /// Removes what an unanswered operation left in staging.
    pub fn drop_staged(&self, name: &str, folder: bool) -> io::Result<()> {
        self.steps.before("drop from staging")?;
        let flags = if folder { AtFlags::REMOVEDIR } else { AtFlags::empty() };
        Ok(fs::unlinkat(&self.staging, name, flags)?)
    }

    /// Removes a file from `past/incoming`, or an emptied directory from `past/removed`.
    pub fn unlink(&self, dir: impl AsFd, name: &str, folder: bool) -> io::Result<()> {
        self.steps.before("unlink")?;
        let flags = if folder { AtFlags::REMOVEDIR } else { AtFlags::empty() };
        Ok(fs::unlinkat(dir, name, flags)?)
    }

    /// Renames without ever replacing.
    pub fn rename(&self, from: impl AsFd, from_name: &str, to: impl AsFd, to_name: &str) -> io::Result<()> {
        self.steps.before("rename")?;
        Ok(fs::renameat_with(from, from_name, to, to_name, RenameFlags::NOREPLACE)?)
    }

    /// Syncs a directory or file.
    pub fn sync(&self, what: impl AsFd) -> io::Result<()> {
        self.steps.before("sync")?;
        Ok(fs::fsync(what)?)
    }

    /// Whether one commit of the file system's journal makes durable whatever was done before it.
    pub fn is_journaled(&self) -> bool {
        self.journaled
    }

    /// Brings a file's bytes to the disk, for [`Disk::commit_journal`] to make them durable.
    pub fn write_back(&self, file: &File) -> io::Result<()> {
        self.steps.before("write back")?;
        crate::kernel::write_back(file.as_raw_fd())
    }

    /// Makes durable, with one flush, all files whose bytes were written back and all names that were made,
    /// changed or removed before. Only where [`Disk::is_journaled`]. Touching the folder binds the call to the
    /// transaction that is open now, which none of those can come after.
    pub fn commit_journal(&self) -> io::Result<()> {
        self.steps.before("commit the journal")?;
        fs::futimens(&self.staging, &now())?;
        Ok(fs::fsync(&self.staging)?)
    }

    /// Syncs the whole file system: many small things by one call.
    pub fn sync_all(&self) -> io::Result<()> {
        self.steps.before("sync all")?;
        Ok(fs::syncfs(&self.staging)?)
    }

    /// Opens `past/ab`, in which contents lie whose hash begins with `ab`.
    pub fn past_dir(&self, hash: &str) -> io::Result<OwnedFd> {
        match self.open_dir(&self.past, &hash[..2]) {
            Err(e) if e.kind() == io::ErrorKind::NotFound => {
                self.steps.before("make a folder in past")?;
                match fs::mkdirat(&self.past, &hash[..2], Mode::from_raw_mode(0o755)) {
                    Ok(()) | Err(Errno::EXIST) => {}
                    Err(e) => return Err(e.into()),
                }
                fs::fsync(&self.past)?;
                self.open_dir(&self.past, &hash[..2])
            }
            other => other,
        }
    }

    /// The names in a directory.
    pub fn names(&self, dir: impl AsFd) -> io::Result<Vec<Vec<u8>>> {
        let mut found = Vec::new();
        for entry in fs::Dir::read_from(dir)? {
            let entry = entry?;
            let name = entry.file_name().to_bytes();
            if name != b"." && name != b".." {
                found.push(name.to_vec());
            }
        }
        Ok(found)
    }
}

fn now() -> Timestamps {
    let now = Timespec { tv_sec: 0, tv_nsec: fs::UTIME_NOW };
    Timestamps { last_access: now, last_modification: now }
}

/// Whether a folder lies on ext4 with its journal on the same device: such a file system keeps one order of
/// all that is done to names and sizes, so the commit of one is the commit of everything before it. Elsewhere
/// each file is synced by itself.
fn journaled(dir: &OwnedFd) -> bool {
    const EXT4: u64 = 0xef53;
    let on_ext4 = fs::fstatfs(dir).is_ok_and(|s| s.f_type as u64 == EXT4);
    let Ok(stat) = fs::fstat(dir) else { return false };
    let (major, minor) = (fs::major(stat.st_dev), fs::minor(stat.st_dev));
    let device = std::fs::read_link(format!("/sys/dev/block/{major}:{minor}"));
    let Some(name) = device.ok().and_then(|d| Some(d.file_name()?.to_str()?.to_string())) else {
        return false;
    };
    on_ext4 && Path::new(&format!("/proc/fs/jbd2/{name}-8")).exists()
}

/// Looks at a name in a directory without following or opening it.
pub fn look(dir: impl AsFd, name: &str) -> io::Result<Option<Look>> {
    let flags = AtFlags::SYMLINK_NOFOLLOW;
    match fs::statx(dir, name, flags, StatxFlags::BASIC_STATS | StatxFlags::BTIME) {
        Ok(s) => Ok(Some(from_statx(&s))),
        Err(Errno::NOENT | Errno::NOTDIR) => Ok(None),
        Err(e) => Err(e.into()),
    }
}

/// Looks at something open.
pub fn look_at_open(fd: impl AsFd) -> io::Result<Look> {
    let s = fs::statx(fd, "", AtFlags::EMPTY_PATH, StatxFlags::BASIC_STATS | StatxFlags::BTIME)?;
    Ok(from_statx(&s))
}

fn from_statx(s: &fs::Statx) -> Look {
    let born = StatxFlags::from_bits_retain(s.stx_mask).contains(StatxFlags::BTIME);
    Look {
        id: ObjectId {
            ino: s.stx_ino as i64,
            btime: if born { s.stx_btime.tv_sec * 1_000_000_000 + i64::from(s.stx_btime.tv_nsec) } else { 0 },
        },
        kind: match u32::from(s.stx_mode) & 0o170_000 {
            0o100_000 => Plain::File,
            0o040_000 => Plain::Folder,
            _ => Plain::Other,
        },
        size: s.stx_size as i64,
        mtime: s.stx_mtime.tv_sec * 1000 + i64::from(s.stx_mtime.tv_nsec / 1_000_000),
        names: s.stx_nlink,
    }
}

/// Sets a file's time of modification.
pub fn set_mtime(file: &File, ms: i64) -> io::Result<()> {
    let at = Timespec { tv_sec: ms.div_euclid(1000), tv_nsec: ms.rem_euclid(1000) * 1_000_000 };
    Ok(fs::futimens(file, &Timestamps { last_access: at, last_modification: at })?)
}

/// The name of a content in staging and in `past/incoming`.
pub fn content_name(id: ContentId) -> String {
    format!("c{:x}", id.0)
}

/// The name of a folder in staging and in `past/removed`.
pub fn folder_name(id: NodeId) -> String {
    format!("n{:x}", id.0)
}

/// A hash as it stands in file names.
pub fn hex(bytes: &[u8]) -> String {
    bytes.iter().fold(String::with_capacity(bytes.len() * 2), |mut text, b| {
        text.push(char::from_digit(u32::from(b >> 4), 16).unwrap_or('0'));
        text.push(char::from_digit(u32::from(b & 15), 16).unwrap_or('0'));
        text
    })
}

/// Reads what [`hex`] wrote.
pub fn unhex(text: &str) -> Option<[u8; 32]> {
    let mut out = [0; 32];
    if text.len() != 64 || !text.is_ascii() {
        return None;
    }
    for (i, byte) in out.iter_mut().enumerate() {
        *byte = u8::from_str_radix(&text[i * 2..i * 2 + 2], 16).ok()?;
    }
    Some(out)
}

//! The data folder: every call to the file system that changes something passes here.
//!
//! All is opened relative to directory handles, beneath them, following no symbolic link
//! and crossing no mount.

use crate::fs::error::{Result, StoreError};
use crate::fs::fault_points::Steps;
use crate::fs::tree_access::TreeAccess;
use rustix::fs::{self, AtFlags, Mode, OFlags, RenameFlags, ResolveFlags, StatxFlags, Timespec, Timestamps};
use rustix::io::Errno;
use serde::{Deserialize, Serialize};
use std::fs::File;
use std::io;
use std::os::fd::{AsFd, AsRawFd, OwnedFd};
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
    /// Whether its owner may run it.
    pub runs: bool,
    /// When anything of it was changed last, its name included (ctime), in milliseconds.
    pub changed: i64,
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
    durability: Durability,
    access: TreeAccess,
    /// Held while equal past bytes may be dropped in favour of others, and while those may be let go.
    pub filing: parking_lot::Mutex<()>,
    /// While it is held nothing of the past goes, however needless it is.
    pub(crate) past_stays: crate::fs::hold::Hold,
    /// While it is held the catalogue's log is not carried over: the file before it stays as it is.
    pub(crate) log_stays: crate::fs::hold::Hold,
}

/// How much is free, and of how much.
type FreeOf = (u64, u64);

/// What a file system promises about bytes that were synced.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Durability {
    /// One journal keeps one order of all that is done to names and sizes: its commit makes durable all that was done before.
    Journal(&'static str),
    /// A file system that keeps what was synced, file by file.
    EachFile(&'static str),
    /// What was synced can be lost when the power goes: with the reason.
    Unsafe(String),
    /// Nobody here can know: with the reason.
    Unknown(String),
}

/// In `past/`: what is to go once nobody holds it any more.
const CONDEMNED: &str = "condemned";

const OPEN_DIR: OFlags = OFlags::RDONLY.union(OFlags::DIRECTORY).union(OFlags::CLOEXEC);
const BENEATH: ResolveFlags =
    ResolveFlags::BENEATH.union(ResolveFlags::NO_SYMLINKS).union(ResolveFlags::NO_XDEV);

impl Disk {
    /// Opens the data folder and makes what is missing in it. What must be renamed between its folders has to
    /// lie on one file system.
    pub fn open(path: &Path, steps: Arc<dyn Steps>) -> Result<Disk> {
        let say = |what: &Path, e: &io::Error| StoreError::io(format!("opening {}", what.display()), e);
        let folder = |name: &str| -> Result<Arc<OwnedFd>> {
            let full = path.join(name);
            std::fs::create_dir_all(&full).map_err(|e| say(&full, &e))?;
            Ok(Arc::new(OwnedFd::from(File::open(&full).map_err(|e| say(&full, &e))?)))
        };
        let is_new = !path.join("shelves").exists();
        let staging = folder("staging")?;
        let shelves = folder("shelves")?;
        let is = File::from(shelves.try_clone().map_err(|e| say(path, &e))?).metadata();
        let disk = Disk {
            access: match is_new {
                true => TreeAccess::Private,
                false => TreeAccess::of(&is.map_err(|e| say(path, &e))?),
            },
            durability: durability(&staging),
            staging,
            past: folder("past")?,
            incoming: folder("past/incoming")?,
            removed: folder("past/removed")?,
            packs: folder("past/packs")?,
            shelves,
            path: path.to_path_buf(),
            steps,
            filing: parking_lot::Mutex::new(()),
            past_stays: Default::default(),
            log_stays: Default::default(),
        };
        for (name, dir) in [
            ("past", &disk.past),
            ("past/incoming", &disk.incoming),
            ("past/removed", &disk.removed),
            ("past/packs", &disk.packs),
            ("shelves", &disk.shelves),
        ] {
            if device(dir).ok() != device(&disk.staging).ok() {
                return Err(StoreError::OtherDevice(path.join(name).display().to_string()));
            }
        }
        if is_new {
            TreeAccess::Private.give_all(path)?;
        }
        Ok(disk)
    }

    /// The data folder.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Who reads the tree of shelves, beside the service.
    pub fn access(&self) -> TreeAccess {
        self.access
    }

    /// What the file system promises.
    pub fn durability(&self) -> &Durability {
        &self.durability
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
        self.has_room_for().map(|(bytes, _)| bytes)
    }

    /// Free and total bytes of the file system, and free and total files, where it has a limit to them.
    pub fn has_room_for(&self) -> io::Result<(FreeOf, Option<FreeOf>)> {
        let s = fs::fstatvfs(&self.staging)?;
        let files = (s.f_files > 0).then_some((s.f_favail, s.f_files));
        Ok(((s.f_bavail * s.f_frsize, s.f_blocks * s.f_frsize), files))
    }

    /// Opens a directory in another one.
    pub fn open_dir(&self, dir: impl AsFd, name: &str) -> io::Result<OwnedFd> {
        Ok(fs::openat2(dir, name, OPEN_DIR | OFlags::NOFOLLOW, Mode::empty(), BENEATH)?)
    }

    /// Opens a directory below `shelves/`. Nothing is made: what is missing may lie on a disk that is not mounted.
    pub fn shelf_dir(&self, parts: &[&str]) -> io::Result<OwnedFd> {
        let mut dir = self.shelves.as_fd().try_clone_to_owned()?;
        for part in parts {
            dir = self.open_dir(&dir, part)?;
        }
        self.on_same_device(dir)
    }

    /// Makes a directory below `shelves/`, with all on the way to it, and opens it.
    pub fn make_shelf_dir(&self, parts: &[&str]) -> io::Result<OwnedFd> {
        let mut dir = self.shelves.as_fd().try_clone_to_owned()?;
        for part in parts {
            dir = self.make_dir(&dir, part)?;
        }
        self.on_same_device(dir)
    }

    /// Opens a directory in another one, making it durably if it is missing.
    pub fn make_dir(&self, dir: impl AsFd, name: &str) -> io::Result<OwnedFd> {
        match fs::mkdirat(dir.as_fd(), name, Mode::from_raw_mode(0o700)) {
            Ok(()) => {
                self.access.give_folder(dir.as_fd(), name)?;
                fs::fsync(dir.as_fd())?;
            }
            Err(Errno::EXIST) => {}
            Err(e) => return Err(e.into()),
        }
        self.open_dir(dir, name)
    }

    fn on_same_device(&self, dir: OwnedFd) -> io::Result<OwnedFd> {
        if device(&dir)? != device(&self.staging)? {
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
        let file = File::from(fs::openat(&self.staging, name, flags, Mode::from_raw_mode(0o600))?);
        self.access.give_file(&file)?;
        Ok(file)
    }

    /// Opens a file in staging again, to write on at its end.
    pub fn reopen_staged(&self, name: &str) -> io::Result<File> {
        let flags = OFlags::RDWR | OFlags::CLOEXEC | OFlags::NOFOLLOW;
        Ok(File::from(fs::openat2(&self.staging, name, flags, Mode::empty(), BENEATH)?))
    }

    /// Makes a directory in staging and tells which object it is.
    pub fn make_staged_dir(&self, name: &str) -> io::Result<ObjectId> {
        self.steps.before("make a staged folder")?;
        fs::mkdirat(&self.staging, name, Mode::from_raw_mode(0o700))?;
        self.access.give_folder(&*self.staging, name)?;
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

    /// Two names change what they lead to, at once: neither is ever empty.
    pub fn exchange(&self, one: impl AsFd, name: &str, other: impl AsFd, its_name: &str) -> io::Result<()> {
        self.steps.before("exchange")?;
        Ok(fs::renameat_with(one, name, other, its_name, RenameFlags::EXCHANGE)?)
    }

    /// Syncs a directory or file.
    pub fn sync(&self, what: impl AsFd) -> io::Result<()> {
        self.steps.before("sync")?;
        Ok(fs::fsync(what)?)
    }

    /// Whether one commit of the file system's journal makes durable whatever was done before it.
    pub fn is_journaled(&self) -> bool {
        matches!(self.durability, Durability::Journal(_))
    }

    /// Whether the catalogue lies on the same file system as the bytes.
    pub fn has_its_catalogue(&self) -> bool {
        let catalogue = std::fs::metadata(self.catalogue()).map(|m| std::os::unix::fs::MetadataExt::dev(&m));
        matches!((catalogue, device(&self.staging)), (Ok(one), Ok(other)) if one == other)
    }

    /// Brings a file's bytes to the disk, for [`Disk::commit_journal`] to make them durable.
    pub fn write_back(&self, file: &File) -> io::Result<()> {
        self.steps.before("write back")?;
        crate::fs::syscalls::write_back(file.as_raw_fd())
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
                match fs::mkdirat(&self.past, &hash[..2], Mode::from_raw_mode(0o700)) {
                    Ok(()) | Err(Errno::EXIST) => {}
                    Err(e) => return Err(e.into()),
                }
                fs::fsync(&self.past)?;
                self.open_dir(&self.past, &hash[..2])
            }
            other => other,
        }
    }

    /// Notes what is to go once nobody holds the past any more.
    pub(crate) fn note_condemned(&self, hashes: &[[u8; 32]]) -> io::Result<()> {
        let text: String = hashes.iter().map(|hash| hex(hash) + "\n").collect();
        let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::APPEND | OFlags::CLOEXEC | OFlags::NOFOLLOW;
        let file = fs::openat(&self.past, CONDEMNED, flags, Mode::from_raw_mode(0o600))?;
        io::Write::write_all(&mut File::from(file), text.as_bytes())
    }

    /// What was noted so, once: it is noted no more.
    pub(crate) fn take_condemned(&self) -> io::Result<Vec<[u8; 32]>> {
        let (mut file, _) = match self.open_file(&self.past, CONDEMNED) {
            Ok(found) => found,
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(e) => return Err(e),
        };
        let mut text = String::new();
        io::Read::read_to_string(&mut file, &mut text)?;
        self.unlink(&self.past, CONDEMNED, false)?;
        Ok(text.lines().filter_map(unhex).collect())
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

/// What is known of the file system under a folder, before anything is made in it.
pub fn durability_of(folder: &Path) -> Result<Durability> {
    let open = File::open(folder).map_err(|e| StoreError::io(format!("opening {}", folder.display()), &e))?;
    Ok(durability(&OwnedFd::from(open)))
}

fn device(dir: impl AsFd) -> io::Result<u64> {
    Ok(fs::fstat(dir)?.st_dev)
}

/// Whether a directory that is open is gone from its place: nothing can be made in it any more.
pub fn is_unlinked(dir: impl AsFd) -> bool {
    fs::fstat(dir).is_ok_and(|s| s.st_nlink == 0)
}

/// What is known of the file system under a folder. ext4 and xfs with their journal on the same device keep one order of
/// all that is done to names and sizes, so the commit of one is the commit of everything before it.
fn durability(dir: &OwnedFd) -> Durability {
    let Ok(kind) = fs::fstatfs(dir).map(|s| s.f_type as u64 & 0xffff_ffff) else {
        return Durability::Unknown("the file system does not say what it is".into());
    };
    let (Ok(device), options) = (device(dir), mount_options(dir)) else {
        return Durability::Unknown("the file system does not say on which device it lies".into());
    };
    if options.split(',').any(|o| o == "nobarrier" || o == "barrier=0") {
        return Durability::Unsafe(
            "it is mounted without write barriers, so a disk may report as written what it still holds in its cache".into(),
        );
    }
    match kind {
        0xef53 => of_ext4(device),
        0x5846_5342 => match options.split(',').any(|o| o.starts_with("logdev=")) {
            true => Durability::EachFile("xfs with its log on another device"),
            false => Durability::Journal("xfs"),
        },
        0x9123_683e => Durability::EachFile("btrfs"),
        0x2fc1_2fc1 => Durability::EachFile("zfs"),
        0xf2f5_2010 => Durability::EachFile("f2fs"),
        0x0102_1994 | 0x8584_58f6 => Durability::Unsafe(
            "it lies in memory: everything is gone when the machine is switched off".into(),
        ),
        0x794c_7630 => {
            Durability::Unknown("it is the inside of a container, which hides the disk beneath".into())
        }
        0x6969 | 0xff53_4d42 | 0xfe53_4d42 | 0x517b | 0x0102_1997 => Durability::Unknown(
            "it is a network share: what its server does with synced bytes is not seen from here".into(),
        ),
        0x6573_5546 => Durability::Unknown(
            "another program carries it (FUSE), and what that does is not seen from here".into(),
        ),
        other => Durability::Unknown(format!("nobody has looked at this kind of file system (0x{other:x})")),
    }
}

fn of_ext4(device: u64) -> Durability {
    let (major, minor) = (fs::major(device), fs::minor(device));
    let link = std::fs::read_link(format!("/sys/dev/block/{major}:{minor}"));
    let Some(name) = link.ok().and_then(|d| Some(d.file_name()?.to_str()?.to_string())) else {
        return Durability::Unknown("the device under this ext4 cannot be looked at from here".into());
    };
    if Path::new(&format!("/proc/fs/jbd2/{name}-8")).exists() {
        return Durability::Journal("ext4 with a journal");
    }
    // The thread that commits the journal; "<none>" where there is no journal.
    let task = std::fs::read_to_string(format!("/sys/fs/ext4/{name}/journal_task")).unwrap_or_default();
    if task.trim().parse::<u32>().is_ok() {
        return Durability::EachFile("ext4 with its journal on another device");
    }
    if Path::new(&format!("/sys/fs/ext4/{name}")).exists() || Path::new("/proc/fs/jbd2").exists() {
        return Durability::Unsafe(
            "it is ext4 without a journal (or ext2): after a power cut folders can come back without files that were synced".into(),
        );
    }
    Durability::Unknown("whether this ext4 has a journal cannot be seen from here".into())
}

/// How the file system of a folder is mounted: of the last mount whose device it is.
fn mount_options(dir: &OwnedFd) -> String {
    let Ok(device) = device(dir) else { return String::new() };
    let wanted = format!("{}:{}", fs::major(device), fs::minor(device));
    let mounts = std::fs::read_to_string("/proc/self/mountinfo").unwrap_or_default();
    mounts
        .lines()
        .filter(|line| line.split(' ').nth(2) == Some(&wanted))
        .filter_map(|line| line.rsplit(' ').next())
        .next_back()
        .unwrap_or_default()
        .to_string()
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
        runs: u32::from(s.stx_mode) & 0o100 != 0,
        changed: s.stx_ctime.tv_sec * 1000 + i64::from(s.stx_ctime.tv_nsec / 1_000_000),
    }
}

/// Lets those run a file who may read it, or nobody.
pub fn mark_executable(file: impl AsFd, executable: bool) -> io::Result<()> {
    let mode = fs::fstat(file.as_fd())?.st_mode & 0o7777;
    let wanted = mode & !0o111 | if executable { (mode & 0o444) >> 2 } else { 0 };
    if wanted != mode {
        fs::fchmod(file, Mode::from_raw_mode(wanted))?;
    }
    Ok(())
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

/// Where a content lies in a backup folder.
pub(crate) fn content_place(hash: &[u8; 32]) -> String {
    let text = hex(hash);
    format!("contents/{}/{text}", &text[..2])
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

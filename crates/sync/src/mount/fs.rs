//! What the system asks of a mounted folder, and what it is answered. What has to be fetched or waited for is answered from
//! elsewhere, so that nobody else waits for it.

use super::bytes::{AT_ONCE, Facts};
use super::files::errno;
use super::inner::{Inner, error};
use super::names::Entry;
use super::nodes::{PAST, Seen};
use super::past::is_then;
use fuser::{
    Errno, FileHandle, FileType, Filesystem, FopenFlags, Generation, INodeNo, InitFlags, KernelConfig,
    LockOwner, OpenFlags, RenameFlags, ReplyAttr, ReplyCreate, ReplyData, ReplyDirectory, ReplyDirectoryPlus,
    ReplyEmpty, ReplyEntry, ReplyLseek, ReplyOpen, ReplyStatfs, ReplyWrite, ReplyXattr, Request, TimeOrNow,
    WriteFlags,
};
use parking_lot::Mutex;
use std::collections::HashMap;
use std::ffi::OsStr;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, SystemTime};
use yellow_attic_core::rights::Level;

/// What was told holds until it is taken back.
const HOLDS: Duration = Duration::from_secs(3_600);
/// What is told of the past, which rights may take away.
const HOLDS_PAST: Duration = Duration::from_secs(10);
const ONLY: Generation = Generation(0);

/// The file system.
pub(super) struct Mounted {
    pub(super) inner: Arc<Inner>,
    pub(super) lists: Mutex<HashMap<u64, Arc<Vec<Entry>>>>,
    pub(super) next: AtomicU64,
}

/// Answers with what it came to, or why not.
macro_rules! tell {
    ($reply:expr, $did:expr, $told:ident => $ok:expr) => {
        match $did {
            Ok($told) => $ok,
            Err(e) => $reply.error(Errno::from_i32(errno(&e))),
        }
    };
}

fn failed(number: i32) -> Errno {
    Errno::from_i32(number)
}

impl Mounted {
    pub(super) fn new(inner: Arc<Inner>) -> Mounted {
        Mounted { inner, lists: Mutex::default(), next: AtomicU64::new(1) }
    }

    fn look_up(&self, parent: u64, name: &OsStr, reply: ReplyEntry) {
        let (inner, bytes) = (self.inner.clone(), name.as_bytes().to_vec());
        if is_then(&bytes) && parent < PAST {
            return tell!(reply, inner.then_of(parent), ino => past_entry(&inner, ino, reply));
        }
        if parent >= PAST {
            inner.clone().runtime.spawn(async move {
                let found = match String::from_utf8(bytes) {
                    Ok(name) => inner.look_up_past(parent, &name).await,
                    Err(_) => Err(error(libc::ENOENT)),
                };
                tell!(reply, found, ino => past_entry(&inner, ino, reply));
            });
            return;
        }
        tell!(reply, inner.look_up(parent, &bytes), seen => reply.entry(&HOLDS, &seen.attr, ONLY));
    }

    fn list(&self, ino: u64, handle: u64) -> io::Result<Arc<Vec<Entry>>> {
        if let Some(list) = self.lists.lock().get(&handle) {
            return Ok(list.clone());
        }
        let list = Arc::new(self.inner.list(ino)?);
        self.lists.lock().insert(handle, list.clone());
        Ok(list)
    }
}

fn past_entry(inner: &Inner, ino: u64, reply: ReplyEntry) {
    tell!(reply, inner.past.attr(ino), attr => {
        inner.past.told(ino);
        reply.entry(&HOLDS_PAST, &attr, ONLY);
    });
}

impl Filesystem for Mounted {
    fn init(&mut self, _: &Request, config: &mut KernelConfig) -> io::Result<()> {
        let wanted = InitFlags::FUSE_ATOMIC_O_TRUNC
            | InitFlags::FUSE_DO_READDIRPLUS
            | InitFlags::FUSE_READDIRPLUS_AUTO
            | InitFlags::FUSE_PARALLEL_DIROPS
            | InitFlags::FUSE_AUTO_INVAL_DATA
            | InitFlags::FUSE_ASYNC_READ
            // No file here has rights that a write would have to take away.
            | InitFlags::FUSE_HANDLE_KILLPRIV_V2;
        for flag in wanted.iter() {
            let _ = config.add_capabilities(flag);
        }
        let _ = config.set_max_readahead(1 << 20);
        let _ = config.set_max_write(1 << 20);
        let _ = config.set_max_background(64);
        Ok(())
    }

    fn lookup(&self, _: &Request, parent: INodeNo, name: &OsStr, reply: ReplyEntry) {
        if self.inner.is_known(parent.0) {
            return self.look_up(parent.0, name, reply);
        }
        let (inner, name) = (self.inner.clone(), name.to_owned());
        self.inner.runtime.spawn(async move {
            inner.known(parent.0).await;
            Mounted::new(inner).look_up(parent.0, &name, reply);
        });
    }

    fn forget(&self, _: &Request, ino: INodeNo, times: u64) {
        match ino.0 >= PAST {
            true => self.inner.past.forget(ino.0, times),
            false => self.inner.nodes.forget(ino.0, times),
        }
    }

    fn getattr(&self, _: &Request, ino: INodeNo, handle: Option<FileHandle>, reply: ReplyAttr) {
        if ino.0 >= PAST {
            return tell!(reply, self.inner.past.attr(ino.0), attr => reply.attr(&HOLDS_PAST, &attr));
        }
        // What is open may have no name any more.
        let open =
            handle.and_then(|handle| self.inner.files.get(handle.0).ok()).and_then(|open| open.file.here());
        let seen = match open {
            Some(file) => self.inner.nodes.look_at(&*file).map(|seen| {
                let level = self.inner.level(ino.0).or(Some(Level::Edit));
                self.inner.shown(seen, level)
            }),
            None => self.inner.see(ino.0),
        };
        tell!(reply, seen, seen => reply.attr(&HOLDS, &seen.attr));
    }

    fn setattr(
        &self,
        _: &Request,
        ino: INodeNo,
        mode: Option<u32>,
        uid: Option<u32>,
        gid: Option<u32>,
        size: Option<u64>,
        accessed: Option<TimeOrNow>,
        modified: Option<TimeOrNow>,
        _: Option<SystemTime>,
        _: Option<FileHandle>,
        _: Option<SystemTime>,
        _: Option<SystemTime>,
        _: Option<SystemTime>,
        _: Option<fuser::BsdFileFlags>,
        reply: ReplyAttr,
    ) {
        let owner = (rustix::process::geteuid().as_raw(), rustix::process::getegid().as_raw());
        let other = uid.is_some_and(|uid| uid != owner.0) || gid.is_some_and(|gid| gid != owner.1);
        let facts = Facts { mode, owner: other, accessed, modified };
        let (inner, ino) = (self.inner.clone(), ino.0);
        let Some(size) = size.filter(|_| ino < PAST) else {
            return tell!(reply, inner.set(ino, facts), seen => reply.attr(&HOLDS, &seen.attr));
        };
        self.inner.runtime.spawn(async move {
            let may = inner.set(ino, Facts::default());
            let done = match may {
                Ok(_) => inner.bring_for_size(ino, size).await.map_err(error),
                Err(e) => Err(e),
            };
            let seen = done.and_then(|()| inner.set(ino, facts));
            tell!(reply, seen, seen => reply.attr(&HOLDS, &seen.attr));
        });
    }

    fn mknod(
        &self,
        _: &Request,
        parent: INodeNo,
        name: &OsStr,
        mode: u32,
        umask: u32,
        _: u32,
        reply: ReplyEntry,
    ) {
        let made = self.inner.make_plain(parent.0, name.as_bytes(), mode & !umask);
        tell!(reply, made, seen => reply.entry(&HOLDS, &seen.attr, ONLY));
    }

    fn mkdir(&self, _: &Request, parent: INodeNo, name: &OsStr, mode: u32, umask: u32, reply: ReplyEntry) {
        let made = self.inner.make_folder(parent.0, name.as_bytes(), mode & !umask);
        tell!(reply, made, seen => reply.entry(&HOLDS, &seen.attr, ONLY));
    }

    fn unlink(&self, _: &Request, parent: INodeNo, name: &OsStr, reply: ReplyEmpty) {
        tell!(reply, self.inner.remove(parent.0, name.as_bytes()), _done => reply.ok());
    }

    fn rmdir(&self, _: &Request, parent: INodeNo, name: &OsStr, reply: ReplyEmpty) {
        tell!(reply, self.inner.remove_folder(parent.0, name.as_bytes()), _done => reply.ok());
    }

    fn rename(
        &self,
        _: &Request,
        parent: INodeNo,
        name: &OsStr,
        to: INodeNo,
        new: &OsStr,
        flags: RenameFlags,
        reply: ReplyEmpty,
    ) {
        let did = self.inner.rename((parent.0, name.as_bytes()), (to.0, new.as_bytes()), flags.bits());
        tell!(reply, did, _done => reply.ok());
    }

    fn open(&self, request: &Request, ino: INodeNo, flags: OpenFlags, reply: ReplyOpen) {
        let keeps = FopenFlags::FOPEN_KEEP_CACHE;
        if ino.0 >= PAST {
            let writes = flags.0 & libc::O_ACCMODE != libc::O_RDONLY;
            let opened = if writes { Err(error(libc::EROFS)) } else { self.inner.open_past(ino.0) };
            return tell!(reply, opened, handle => reply.opened(FileHandle(handle), keeps));
        }
        if self.inner.locking && flags.0 & libc::O_ACCMODE != libc::O_RDONLY {
            let inner = self.inner.clone();
            self.inner.runtime.spawn(async move {
                let opened = inner.open_locked(ino.0, flags.0).await;
                tell!(reply, opened, handle => reply.opened(FileHandle(handle), keeps));
            });
            return;
        }
        let opened = self.inner.open(ino.0, flags.0);
        let wait = match &opened {
            Ok(handle) if self.inner.files.get(*handle).is_ok_and(|open| open.file.there().is_some()) => {
                self.inner.slowed(request.pid())
            }
            _ => Duration::ZERO,
        };
        if wait.is_zero() {
            return tell!(reply, opened, handle => reply.opened(FileHandle(handle), keeps));
        }
        self.inner.runtime.spawn(async move {
            tokio::time::sleep(wait).await;
            tell!(reply, opened, handle => reply.opened(FileHandle(handle), keeps));
        });
    }

    fn create(
        &self,
        _: &Request,
        parent: INodeNo,
        name: &OsStr,
        mode: u32,
        umask: u32,
        flags: i32,
        reply: ReplyCreate,
    ) {
        let made = self.inner.make_file(parent.0, name.as_bytes(), mode & !umask, flags);
        tell!(reply, made, made => {
            reply.created(&HOLDS, &made.0.attr, ONLY, FileHandle(made.1), FopenFlags::FOPEN_KEEP_CACHE)
        });
    }

    fn read(
        &self,
        _: &Request,
        _: INodeNo,
        handle: FileHandle,
        at: u64,
        length: u32,
        _: OpenFlags,
        _: Option<LockOwner>,
        reply: ReplyData,
    ) {
        let length = (length as usize).min(AT_ONCE);
        let open = match self.inner.files.get(handle.0) {
            Ok(open) => open,
            Err(e) => return reply.error(failed(errno(&e))),
        };
        self.inner.read_ahead(&open, at, length);
        match open.file.read_here(at, length) {
            Ok(Some(bytes)) => reply.data(&bytes),
            Ok(None) => {
                let inner = self.inner.clone();
                self.inner.runtime.spawn(async move {
                    match inner.read_there(&open, at, length).await {
                        Ok(bytes) => reply.data(&bytes),
                        Err(number) => reply.error(failed(number)),
                    }
                });
            }
            Err(e) => reply.error(failed(errno(&e))),
        }
    }

    fn write(
        &self,
        _: &Request,
        _: INodeNo,
        handle: FileHandle,
        at: u64,
        data: &[u8],
        _: WriteFlags,
        _: OpenFlags,
        _: Option<LockOwner>,
        reply: ReplyWrite,
    ) {
        let open = match self.inner.files.get(handle.0) {
            Ok(open) => open,
            Err(e) => return reply.error(failed(errno(&e))),
        };
        let end = at.saturating_add(data.len() as u64);
        if open.file.there().is_none() && self.inner.files.has_room(&open.file, end) {
            match self.inner.write_here(&open, at, data) {
                Ok(Some(())) => return reply.written(data.len() as u32),
                Err(e) => return reply.error(failed(errno(&e))),
                Ok(None) => {}
            }
        }
        let (inner, bytes) = (self.inner.clone(), data.to_vec());
        self.inner.runtime.spawn(async move {
            match inner.write(&open, at, &bytes).await {
                Ok(()) => reply.written(bytes.len() as u32),
                Err(number) => reply.error(failed(number)),
            }
        });
    }

    fn flush(&self, _: &Request, _: INodeNo, handle: FileHandle, _: LockOwner, reply: ReplyEmpty) {
        match self.inner.files.get(handle.0) {
            Ok(open) if self.inner.through && open.dirty.swap(false, Ordering::Relaxed) => {
                let inner = self.inner.clone();
                self.inner.runtime.spawn(async move {
                    match inner.sent(&open.file).await {
                        Ok(()) => reply.ok(),
                        Err(number) => reply.error(failed(number)),
                    }
                });
            }
            _ => reply.ok(),
        }
    }

    fn release(
        &self,
        _: &Request,
        _: INodeNo,
        handle: FileHandle,
        _: OpenFlags,
        _: Option<LockOwner>,
        _: bool,
        reply: ReplyEmpty,
    ) {
        self.inner.files.close(handle.0);
        reply.ok();
    }

    fn fsync(&self, _: &Request, _: INodeNo, handle: FileHandle, data: bool, reply: ReplyEmpty) {
        let open = match self.inner.files.get(handle.0) {
            Ok(open) => open,
            Err(e) => return reply.error(failed(errno(&e))),
        };
        let inner = self.inner.clone();
        self.inner.runtime.spawn(async move {
            let (it, its) = (inner.clone(), open.clone());
            let synced = tokio::task::spawn_blocking(move || it.sync(&its, data)).await;
            let done = match synced {
                Ok(Ok(())) if inner.through => inner.sent(&open.file).await,
                Ok(Ok(())) => Ok(()),
                Ok(Err(e)) => Err(errno(&e)),
                Err(_) => Err(libc::EIO),
            };
            match done {
                Ok(()) => reply.ok(),
                Err(number) => reply.error(failed(number)),
            }
        });
    }

    fn opendir(&self, _: &Request, ino: INodeNo, _: OpenFlags, reply: ReplyOpen) {
        let handle = FileHandle(self.next.fetch_add(1, Ordering::Relaxed));
        if ino.0 >= PAST {
            return reply.opened(handle, FopenFlags::empty());
        }
        self.inner.is_looked_into(ino.0);
        let keeps = FopenFlags::FOPEN_CACHE_DIR | FopenFlags::FOPEN_KEEP_CACHE;
        if self.inner.is_known(ino.0) {
            return reply.opened(handle, keeps);
        }
        let inner = self.inner.clone();
        self.inner.runtime.spawn(async move {
            inner.known(ino.0).await;
            let keeps = if inner.is_known(ino.0) { keeps } else { FopenFlags::empty() };
            reply.opened(handle, keeps);
        });
    }

    fn readdir(&self, _: &Request, ino: INodeNo, handle: FileHandle, at: u64, mut reply: ReplyDirectory) {
        if ino.0 >= PAST {
            let inner = self.inner.clone();
            self.inner.runtime.spawn(async move {
                let list = inner.list_past(ino.0).await;
                tell!(reply, list, list => {
                    let above = inner.past.above(ino.0).unwrap_or(1);
                    let dots = [(".".to_string(), ino.0), ("..".to_string(), above)];
                    for (n, (name, number)) in dots.iter().chain(list.iter()).enumerate().skip(at as usize) {
                        let kind = inner.past.attr(*number).map_or(FileType::Directory, |attr| attr.kind);
                        if reply.add(INodeNo(*number), n as u64 + 1, kind, name) {
                            break;
                        }
                    }
                    reply.ok();
                });
            });
            return;
        }
        tell!(reply, self.list(ino.0, handle.0), list => {
            for (n, entry) in list.iter().enumerate().skip(at as usize) {
                let (number, kind) = match &entry.seen {
                    Some(seen) => (seen.attr.ino, seen.attr.kind),
                    None => (ino, FileType::Directory),
                };
                if reply.add(number, n as u64 + 1, kind, OsStr::from_bytes(&entry.name)) {
                    break;
                }
            }
            reply.ok();
        });
    }

    fn readdirplus(
        &self,
        _: &Request,
        ino: INodeNo,
        handle: FileHandle,
        at: u64,
        mut reply: ReplyDirectoryPlus,
    ) {
        if ino.0 >= PAST {
            let inner = self.inner.clone();
            self.inner.runtime.spawn(async move {
                let list = inner.list_past(ino.0).await;
                tell!(reply, list, list => {
                    let above = inner.past.above(ino.0).unwrap_or(1);
                    let dots = [(".".to_string(), ino.0), ("..".to_string(), above)];
                    for (n, (name, number)) in dots.iter().chain(list.iter()).enumerate().skip(at as usize) {
                        let own = if n < 2 { ino.0 } else { *number };
                        let Ok(attr) = inner.past.attr(own) else { continue };
                        if reply.add(INodeNo(*number), n as u64 + 1, name, &HOLDS_PAST, &attr, ONLY) {
                            break;
                        }
                        if n >= 2 {
                            inner.past.told(*number);
                        }
                    }
                    reply.ok();
                });
            });
            return;
        }
        tell!(reply, self.list(ino.0, handle.0), list => {
            for (n, entry) in list.iter().enumerate().skip(at as usize) {
                let name = OsStr::from_bytes(&entry.name);
                let full = match &entry.seen {
                    Some(seen) => {
                        let full = reply.add(seen.attr.ino, n as u64 + 1, name, &HOLDS, &seen.attr, ONLY);
                        if !full {
                            self.inner.nodes.tell(ino.0, &entry.name, &Seen { object: seen.object, attr: seen.attr });
                        }
                        full
                    }
                    None => match self.inner.see(ino.0) {
                        Ok(own) => reply.add(ino, n as u64 + 1, name, &HOLDS, &own.attr, ONLY),
                        Err(_) => false,
                    },
                };
                if full {
                    break;
                }
            }
            reply.ok();
        });
    }

    fn releasedir(&self, _: &Request, _: INodeNo, handle: FileHandle, _: OpenFlags, reply: ReplyEmpty) {
        self.lists.lock().remove(&handle.0);
        reply.ok();
    }

    fn fsyncdir(&self, _: &Request, ino: INodeNo, _: FileHandle, _: bool, reply: ReplyEmpty) {
        let synced = self.inner.nodes.folder(ino.0).and_then(|dir| Ok(rustix::fs::fsync(&*dir)?));
        tell!(reply, synced, _done => reply.ok());
    }

    fn statfs(&self, _: &Request, _: INodeNo, reply: ReplyStatfs) {
        self.inner.ask_space();
        let (all, free) = *self.inner.space.read();
        reply.statfs(all / 4096, free / 4096, free / 4096, 0, 0, 4096, 255, 4096);
    }

    fn setxattr(
        &self,
        _: &Request,
        ino: INodeNo,
        name: &OsStr,
        value: &[u8],
        flags: i32,
        _: u32,
        reply: ReplyEmpty,
    ) {
        tell!(reply, self.inner.set_attribute(ino.0, name.as_bytes(), Some((value, flags))), _done => reply.ok());
    }

    fn getxattr(&self, _: &Request, ino: INodeNo, name: &OsStr, size: u32, reply: ReplyXattr) {
        tell!(reply, self.inner.attribute(ino.0, name.as_bytes()), value => attribute(&value, size, reply));
    }

    fn listxattr(&self, _: &Request, ino: INodeNo, size: u32, reply: ReplyXattr) {
        tell!(reply, self.inner.attributes(ino.0), names => attribute(&names, size, reply));
    }

    fn removexattr(&self, _: &Request, ino: INodeNo, name: &OsStr, reply: ReplyEmpty) {
        tell!(reply, self.inner.set_attribute(ino.0, name.as_bytes(), None), _done => reply.ok());
    }

    fn fallocate(
        &self,
        _: &Request,
        _: INodeNo,
        handle: FileHandle,
        at: u64,
        length: u64,
        mode: i32,
        reply: ReplyEmpty,
    ) {
        let open = match self.inner.files.get(handle.0) {
            Ok(open) => open,
            Err(e) => return reply.error(failed(errno(&e))),
        };
        let inner = self.inner.clone();
        self.inner.runtime.spawn(async move {
            let done = async {
                inner.files.bring(&open.file).await?;
                if mode & libc::FALLOC_FL_PUNCH_HOLE == 0 {
                    inner.files.room_for(&open.file, at.saturating_add(length)).await?;
                }
                inner.make_room_in(&open, at, length, mode).map_err(|e| errno(&e))
            };
            match done.await {
                Ok(()) => reply.ok(),
                Err(number) => reply.error(failed(number)),
            }
        });
    }

    fn lseek(&self, _: &Request, _: INodeNo, handle: FileHandle, at: i64, whence: i32, reply: ReplyLseek) {
        let found = self.inner.files.get(handle.0).and_then(|open| self.inner.seek(&open, at, whence));
        tell!(reply, found, at => reply.offset(at));
    }
}

fn attribute(value: &[u8], size: u32, reply: ReplyXattr) {
    if size == 0 {
        reply.size(value.len() as u32);
    } else if value.len() > size as usize {
        reply.error(Errno::ERANGE);
    } else {
        reply.data(value);
    }
}

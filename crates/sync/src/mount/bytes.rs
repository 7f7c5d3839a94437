//! Bytes of a mounted folder: opened, read, written, cut, made durable.

use super::files::{Handle, Opened, errno};
use super::inner::{Inner, error};
use super::nodes::{PAST, Seen};
use fuser::TimeOrNow;
use rustix::fs::{self, FallocateFlags, Timestamps};
use std::fs::File;
use std::io;
use std::os::unix::fs::{FileExt, PermissionsExt};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use yellow_attic_core::mounted::ahead::{BLOCK, blocks};

/// Other facts of a file that a program sets.
#[derive(Clone, Copy, Default)]
pub(super) struct Facts {
    pub(super) mode: Option<u32>,
    pub(super) owner: bool,
    pub(super) accessed: Option<TimeOrNow>,
    pub(super) modified: Option<TimeOrNow>,
}

impl Inner {
    /// Opens a file. Whether programs may go on with what the system remembers of it.
    pub(super) fn open(&self, ino: u64, flags: i32) -> io::Result<u64> {
        let writes = flags & libc::O_ACCMODE != libc::O_RDONLY;
        if writes || flags & libc::O_TRUNC != 0 {
            self.to_edit(ino)?;
        }
        let handle = self.files.open(ino, writes)?;
        if flags & libc::O_TRUNC != 0 {
            let cut = self.files.get(handle).and_then(|open| self.cut_to_nothing(&open.file));
            if let Err(e) = cut {
                self.files.close(handle);
                return Err(e);
            }
        }
        Ok(handle)
    }

    pub(super) fn cut_to_nothing(&self, file: &Arc<Opened>) -> io::Result<()> {
        self.files.cut(file)?;
        let here = file.to_write()?.ok_or_else(|| error(libc::EIO))?;
        here.set_len(0)?;
        file.ends(0);
        file.wrote(&self.at_hand, 0);
        file.counts(&self.at_hand);
        Ok(())
    }

    /// Fetches what a program waits for, and reads it.
    pub(super) async fn read_there(&self, handle: &Handle, at: u64, length: usize) -> Result<Vec<u8>, i32> {
        loop {
            match handle.file.read_here(at, length).map_err(|e| errno(&e))? {
                Some(bytes) => return Ok(bytes),
                None => {
                    let Some((stub, content)) = handle.file.there() else { continue };
                    self.blocks.bring(&content, &stub, at..at + length as u64).await?;
                }
            }
        }
    }

    /// Fetches ahead of a program that reads in order.
    pub(super) fn read_ahead(&self, handle: &Handle, at: u64, length: usize) {
        let Some((stub, content)) = handle.file.there() else { return };
        let ahead = handle.reader.lock().reads(at..(at + length as u64).min(content.size), content.size);
        if !ahead.is_empty() {
            self.blocks.ask(&content, &stub, blocks(ahead));
        }
    }

    /// Writes to a file that is here. None if its bytes have to be brought here first.
    pub(super) fn write_here(&self, handle: &Handle, at: u64, bytes: &[u8]) -> io::Result<Option<()>> {
        if !handle.writes {
            return Err(error(libc::EBADF));
        }
        let Some(file) = handle.file.to_write()? else { return Ok(None) };
        file.write_all_at(bytes, at)?;
        handle.dirty.store(true, Ordering::Relaxed);
        handle.file.wrote(&self.at_hand, bytes.len() as u64);
        Ok(Some(()))
    }

    /// The same, when there is room and all of it is here.
    pub(super) async fn write(&self, handle: &Handle, at: u64, bytes: &[u8]) -> Result<(), i32> {
        loop {
            self.files.bring(&handle.file).await?;
            self.files.room_for(&handle.file, at + bytes.len() as u64).await?;
            if let Some(()) = self.write_here(handle, at, bytes).map_err(|e| errno(&e))? {
                return Ok(());
            }
        }
    }

    /// Makes durable on this computer what was written.
    pub(super) fn sync(&self, handle: &Handle, data: bool) -> io::Result<()> {
        let Some(file) = handle.file.here() else { return Ok(()) };
        if data { file.sync_data() } else { file.sync_all() }
    }

    /// Sets facts of a file or folder, but for its size.
    pub(super) fn set(&self, ino: u64, facts: Facts) -> io::Result<Seen> {
        if ino >= PAST {
            return Err(error(libc::EROFS));
        }
        self.to_edit(ino)?;
        if facts.owner {
            // All of it is one account's.
            return Err(error(libc::EPERM));
        }
        let open = self.files.is_open(ino);
        let file = open.and_then(|file| file.here()).map_or_else(|| self.open_any(ino), Ok)?;
        if let Some(mode) = facts.mode {
            // Whoever owns it can always read and write it.
            let seen = self.nodes.look_at(&*file)?;
            let least = if seen.attr.kind == fuser::FileType::Directory { 0o700 } else { 0o600 };
            file.set_permissions(std::fs::Permissions::from_mode(mode & 0o777 | least))?;
        }
        if facts.modified.is_some() {
            let now = || SystemTime::now();
            let to = |at: TimeOrNow| {
                timespec(match at {
                    TimeOrNow::SpecificTime(at) => at,
                    TimeOrNow::Now => now(),
                })
            };
            let omit = fs::Timespec { tv_sec: 0, tv_nsec: fs::UTIME_OMIT };
            let times = Timestamps {
                last_access: facts.accessed.map_or(omit, to),
                last_modification: facts.modified.map_or(omit, to),
            };
            fs::futimens(&*file, &times)?;
        }
        self.at_hand.changed();
        self.see(ino)
    }

    /// A file or folder, open for reading.
    pub(super) fn open_any(&self, ino: u64) -> io::Result<Arc<File>> {
        match self.nodes.open(ino, false) {
            Ok(file) => Ok(Arc::new(file)),
            Err(e) if e.raw_os_error() == Some(libc::EISDIR) => {
                Ok(Arc::new(File::from(self.nodes.folder(ino)?.try_clone()?)))
            }
            Err(e) => Err(e),
        }
    }

    /// Brings a file here, if its length is to be set to something else than nothing.
    pub(super) async fn bring_for_size(&self, ino: u64, size: u64) -> Result<(), i32> {
        let handle = self.files.open(ino, true).map_err(|e| errno(&e))?;
        let open = self.files.get(handle).map_err(|e| errno(&e))?;
        let done = match size {
            0 => self.files.cut(&open.file).map_err(|e| errno(&e)),
            _ => self.files.bring(&open.file).await.map(|_| ()),
        };
        let done = match done {
            Ok(()) => self.files.room_for(&open.file, size).await,
            failed => failed,
        };
        // It stays open until its length is set.
        let set = match done {
            Ok(()) => open.file.to_write().and_then(|file| {
                file.ok_or_else(|| error(libc::EIO))?.set_len(size)?;
                open.file.ends(size);
                open.file.wrote(&self.at_hand, 0);
                open.file.counts(&self.at_hand);
                Ok(())
            }),
            Err(number) => Err(error(number)),
        };
        self.files.close(handle);
        set.map_err(|e| errno(&e))
    }

    /// Gives a file room, or takes room out of it.
    pub(super) fn make_room_in(&self, handle: &Handle, at: u64, length: u64, mode: i32) -> io::Result<()> {
        let flags = FallocateFlags::from_bits(mode as u32).ok_or_else(|| error(libc::EOPNOTSUPP))?;
        let file = handle.file.to_write()?.ok_or_else(|| error(libc::EIO))?;
        fs::fallocate(&*file, flags, at, length)?;
        handle.dirty.store(true, Ordering::Relaxed);
        handle.file.wrote(&self.at_hand, 0);
        handle.file.counts(&self.at_hand);
        Ok(())
    }

    /// Where data or a hole comes next. What is on the service counts as data, all of it.
    pub(super) fn seek(&self, handle: &Handle, at: i64, whence: i32) -> io::Result<i64> {
        let from = u64::try_from(at).map_err(|_| error(libc::EINVAL))?;
        let size = match handle.file.here() {
            Some(file) => {
                let to = match whence {
                    libc::SEEK_DATA => fs::SeekFrom::Data(from),
                    libc::SEEK_HOLE => fs::SeekFrom::Hole(from),
                    _ => return Err(error(libc::EINVAL)),
                };
                return Ok(fs::seek(&*file, to)? as i64);
            }
            None => handle.file.there().map_or(0, |(stub, _)| stub.size),
        };
        match whence {
            _ if from >= size => Err(error(libc::ENXIO)),
            libc::SEEK_DATA => Ok(at),
            libc::SEEK_HOLE => Ok(size as i64),
            _ => Err(error(libc::EINVAL)),
        }
    }
}

fn timespec(at: SystemTime) -> fs::Timespec {
    match at.duration_since(UNIX_EPOCH) {
        Ok(after) => fs::Timespec { tv_sec: after.as_secs() as i64, tv_nsec: after.subsec_nanos().into() },
        Err(before) => {
            let before: Duration = before.duration();
            let (seconds, nanos) = (before.as_secs() as i64, before.subsec_nanos());
            match nanos {
                0 => fs::Timespec { tv_sec: -seconds, tv_nsec: 0 },
                _ => fs::Timespec { tv_sec: -seconds - 1, tv_nsec: (1_000_000_000 - nanos).into() },
            }
        }
    }
}

/// So many bytes a program reads at once at most.
pub(super) const AT_ONCE: usize = (32 * BLOCK) as usize;

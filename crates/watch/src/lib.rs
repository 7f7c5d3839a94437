//! Hears of folders in which something happens (inotify). What it misses is found by a walk.

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fs::inotify::{self, CreateFlags, ReadFlags, WatchFlags};
use rustix::io::Errno;
use std::collections::HashMap;
use std::hash::Hash;
use std::mem::MaybeUninit;
use std::os::fd::{AsFd, AsRawFd, OwnedFd};
use std::time::Duration;

/// What was heard.
#[derive(Debug, PartialEq, Eq)]
pub enum Heard<K> {
    /// Something happened in this folder, to the entry of that name; to the folder itself, if there is none.
    Stirred {
        /// As what the folder is watched.
        folder: K,
        /// The entry, byte by byte.
        name: Option<Vec<u8>>,
    },
    /// Events were lost: anything may have happened.
    Anything,
}

/// A watcher of folders, each known by a key.
pub struct Watch<K> {
    fd: OwnedFd,
    folders: HashMap<i32, K>,
    watched: HashMap<K, i32>,
    /// Whether the system gives no more watches: then only walks find what happens.
    pub limited: bool,
}

const WHAT: WatchFlags = WatchFlags::CREATE
    .union(WatchFlags::DELETE)
    .union(WatchFlags::MOVED_FROM)
    .union(WatchFlags::MOVED_TO)
    .union(WatchFlags::CLOSE_WRITE)
    .union(WatchFlags::MODIFY)
    .union(WatchFlags::ATTRIB)
    .union(WatchFlags::ONLYDIR)
    .union(WatchFlags::EXCL_UNLINK);

impl<K: Copy + Eq + Hash> Watch<K> {
    /// Watches nothing yet.
    pub fn new() -> std::io::Result<Watch<K>> {
        let fd = inotify::init(CreateFlags::CLOEXEC | CreateFlags::NONBLOCK)?;
        Ok(Watch { fd, folders: HashMap::new(), watched: HashMap::new(), limited: false })
    }

    /// Watches an open folder. It is listed after that, so that nothing falls between.
    pub fn add(&mut self, key: K, folder: &OwnedFd) {
        // By its descriptor: its name may be another's by now.
        let path = format!("/proc/self/fd/{}", folder.as_raw_fd());
        match inotify::add_watch(&self.fd, path.as_str(), WHAT) {
            Ok(number) => {
                if let Some(old) = self.watched.insert(key, number).filter(|old| *old != number) {
                    self.folders.remove(&old);
                }
                self.folders.insert(number, key);
            }
            Err(Errno::NOSPC | Errno::NOMEM) => self.limited = true,
            // It went meanwhile: its folder tells.
            Err(_) => {}
        }
    }

    /// Watches it no more.
    pub fn drop(&mut self, key: K) {
        if let Some(number) = self.watched.remove(&key) {
            self.folders.remove(&number);
            let _ = inotify::remove_watch(&self.fd, number);
        }
    }

    /// Whether a folder is watched.
    pub fn watches(&self, key: K) -> bool {
        self.watched.contains_key(&key)
    }

    /// How many folders are watched.
    pub fn count(&self) -> usize {
        self.watched.len()
    }

    /// Another handle to wait on, while the rest goes on.
    pub fn waits(&self) -> std::io::Result<OwnedFd> {
        self.fd.try_clone()
    }

    /// Waits until something is heard, at most so long. Whether something is.
    pub fn wait(&self, most: Duration) -> bool {
        let most = Timespec { tv_sec: most.as_secs() as i64, tv_nsec: i64::from(most.subsec_nanos()) };
        let mut fds = [PollFd::from_borrowed_fd(self.fd.as_fd(), PollFlags::IN)];
        poll(&mut fds, Some(&most)).is_ok_and(|ready| ready > 0)
    }

    /// What has been heard since, without waiting.
    pub fn heard(&mut self) -> Vec<Heard<K>> {
        let mut heard = Vec::new();
        let mut buffer = vec![MaybeUninit::uninit(); 64 * 1024];
        let mut reader = inotify::Reader::new(&self.fd, &mut buffer);
        loop {
            match reader.next() {
                Ok(event) if event.events().contains(ReadFlags::QUEUE_OVERFLOW) => {
                    heard.push(Heard::Anything);
                }
                Ok(event) => {
                    let folder = self.folders.get(&event.wd()).copied();
                    if event.events().contains(ReadFlags::IGNORED)
                        && let Some(key) = self.folders.remove(&event.wd())
                    {
                        self.watched.remove(&key);
                    }
                    let name = event.file_name().map(|name| name.to_bytes().to_vec());
                    heard.extend(folder.map(|folder| Heard::Stirred { folder, name }));
                }
                Err(_) => break,
            }
        }
        heard.dedup();
        heard
    }
}

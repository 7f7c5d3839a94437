//! Hears of folders in which something happens (inotify). What it misses is found by a walk.

use rustix::fs::inotify::{self, CreateFlags, ReadFlags, WatchFlags};
use rustix::io::Errno;
use std::collections::HashMap;
use std::mem::MaybeUninit;
use std::os::fd::{AsRawFd, OwnedFd};
use std::sync::Arc;
use tokio::io::unix::AsyncFd;
use yellow_attic_core::merge::Object;

/// What was heard.
#[derive(Debug, PartialEq, Eq)]
pub enum Heard {
    /// Something happened in this folder.
    Stirred(Object),
    /// Events were lost: anything may have happened.
    Anything,
}

/// A watcher of folders.
pub struct Watch {
    fd: Arc<AsyncFd<OwnedFd>>,
    folders: HashMap<i32, Object>,
    watched: HashMap<Object, i32>,
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

impl Watch {
    /// Watches nothing yet.
    pub fn new() -> std::io::Result<Watch> {
        let fd = inotify::init(CreateFlags::CLOEXEC | CreateFlags::NONBLOCK)?;
        let fd = Arc::new(crate::syscalls::waiting_on(fd)?);
        Ok(Watch { fd, folders: HashMap::new(), watched: HashMap::new(), limited: false })
    }

    /// Watches an open folder. It is listed after that, so that nothing falls between.
    pub fn add(&mut self, object: Object, folder: &OwnedFd) {
        // By its descriptor: its name may be another's by now.
        let path = format!("/proc/self/fd/{}", folder.as_raw_fd());
        match inotify::add_watch(self.fd.get_ref(), path.as_str(), WHAT) {
            Ok(number) => {
                if let Some(old) = self.watched.insert(object, number).filter(|old| *old != number) {
                    self.folders.remove(&old);
                }
                self.folders.insert(number, object);
            }
            Err(Errno::NOSPC | Errno::NOMEM) => self.limited = true,
            // It went meanwhile: its folder tells.
            Err(_) => {}
        }
    }

    /// Watches it no more.
    pub fn drop(&mut self, object: Object) {
        if let Some(number) = self.watched.remove(&object) {
            self.folders.remove(&number);
            let _ = inotify::remove_watch(self.fd.get_ref(), number);
        }
    }

    /// The descriptor, to wait on while the rest goes on.
    pub fn waits(&self) -> Arc<AsyncFd<OwnedFd>> {
        self.fd.clone()
    }

    /// What has been heard since, without waiting.
    pub fn heard(&mut self) -> Vec<Heard> {
        let mut heard = Vec::new();
        let mut buffer = vec![MaybeUninit::uninit(); 64 * 1024];
        let mut reader = inotify::Reader::new(self.fd.get_ref(), &mut buffer);
        loop {
            match reader.next() {
                Ok(event) if event.events().contains(ReadFlags::QUEUE_OVERFLOW) => {
                    heard.push(Heard::Anything)
                }
                Ok(event) => {
                    let object = self.folders.get(&event.wd()).copied();
                    if event.events().contains(ReadFlags::IGNORED)
                        && let Some(object) = self.folders.remove(&event.wd())
                    {
                        self.watched.remove(&object);
                    }
                    heard.extend(object.map(Heard::Stirred));
                }
                Err(_) => break,
            }
        }
        heard.dedup();
        heard
    }
}

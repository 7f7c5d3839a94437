//! Hears of folders in which something happens. What it misses is found by a walk.

use std::os::fd::OwnedFd;
use std::sync::Arc;
use tokio::io::unix::AsyncFd;
use yellow_attic_core::merge::Object;

/// What was heard: in which folder something happened.
pub type Heard = yellow_attic_watch::Heard<Object>;

/// A watcher of folders, to be waited on.
pub struct Watch {
    folders: yellow_attic_watch::Watch<Object>,
    fd: Arc<AsyncFd<OwnedFd>>,
}

impl Watch {
    /// Watches nothing yet.
    pub fn new() -> std::io::Result<Watch> {
        let folders = yellow_attic_watch::Watch::new()?;
        let fd = Arc::new(crate::syscalls::waiting_on(folders.waits()?)?);
        Ok(Watch { folders, fd })
    }

    /// Watches an open folder. It is listed after that, so that nothing falls between.
    pub fn add(&mut self, object: Object, folder: &OwnedFd) {
        self.folders.add(object, folder);
    }

    /// Watches it no more.
    pub fn drop(&mut self, object: Object) {
        self.folders.drop(object);
    }

    /// Whether the system gives no more watches: then only walks find what happens.
    pub fn is_limited(&self) -> bool {
        self.folders.limited
    }

    /// The descriptor, to wait on while the rest goes on.
    pub fn waits(&self) -> Arc<AsyncFd<OwnedFd>> {
        self.fd.clone()
    }

    /// What has been heard since, without waiting.
    pub fn heard(&mut self) -> Vec<Heard> {
        self.folders.heard()
    }
}

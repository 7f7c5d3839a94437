//! How far something is that takes long.

use crate::fs::error::{Result, StoreError};
use parking_lot::Mutex;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

/// How far something is that takes long; and the way to end it.
#[derive(Debug, Default)]
pub struct Progress {
    /// What is being done.
    pub step: Mutex<&'static str>,
    /// Things done in this step.
    pub done: AtomicU64,
    /// Of so many; 0 if that is not known.
    pub of: AtomicU64,
    /// Bytes written or read so far.
    pub bytes: AtomicU64,
    /// Somebody wants it to end.
    pub stop: AtomicBool,
}

impl Progress {
    pub(crate) fn begin(&self, step: &'static str, of: u64) {
        *self.step.lock() = step;
        self.done.store(0, Ordering::Relaxed);
        self.of.store(of, Ordering::Relaxed);
    }

    pub(crate) fn one(&self, bytes: u64) {
        self.done.fetch_add(1, Ordering::Relaxed);
        self.bytes.fetch_add(bytes, Ordering::Relaxed);
    }

    pub(crate) fn goes_on(&self) -> Result<()> {
        match self.stop.load(Ordering::Relaxed) {
            true => Err(StoreError::Stopped),
            false => Ok(()),
        }
    }
}

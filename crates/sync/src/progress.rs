//! What is under way, and the fate of each thing.

use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};

/// What happened to one file or folder.
#[derive(Clone, Debug, serde::Serialize)]
pub struct Fate {
    /// Which.
    pub path: String,
    /// `done`, `skipped` or `failed`.
    pub fate: &'static str,
    /// The reason, and what to do.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
}

/// Counted as it goes; can be looked at at any time.
#[derive(Default)]
pub struct Progress {
    /// Files found so far.
    pub files: AtomicU64,
    /// Their bytes.
    pub bytes: AtomicU64,
    /// Files done.
    pub files_done: AtomicU64,
    /// Bytes done.
    pub bytes_done: AtomicU64,
    /// Files left out, since they are there already with the same bytes.
    pub files_same: AtomicU64,
    /// Their bytes.
    pub bytes_same: AtomicU64,
    fates: Mutex<Vec<Fate>>,
}

impl Progress {
    /// One more file to move.
    pub fn found(&self, bytes: u64) {
        self.files.fetch_add(1, Ordering::Relaxed);
        self.bytes.fetch_add(bytes, Ordering::Relaxed);
    }

    /// Bytes moved.
    pub fn moved(&self, bytes: u64) {
        self.bytes_done.fetch_add(bytes, Ordering::Relaxed);
    }

    /// Bytes that must be moved again.
    pub fn unmoved(&self, bytes: u64) {
        self.bytes_done.fetch_sub(bytes, Ordering::Relaxed);
    }

    /// A file arrived.
    pub fn done(&self) {
        self.files_done.fetch_add(1, Ordering::Relaxed);
    }

    /// A file is there already with the same bytes.
    pub fn same(&self, bytes: u64) {
        self.bytes_done.fetch_add(bytes, Ordering::Relaxed);
        self.bytes_same.fetch_add(bytes, Ordering::Relaxed);
        self.files_same.fetch_add(1, Ordering::Relaxed);
    }

    /// Bytes that went over the line.
    pub fn bytes_moved(&self) -> u64 {
        self.bytes_done.load(Ordering::Relaxed) - self.bytes_same.load(Ordering::Relaxed)
    }

    /// Files whose fate is known.
    pub fn settled(&self) -> u64 {
        let failed = self.fates.lock().unwrap_or_else(std::sync::PoisonError::into_inner).len() as u64;
        self.files_done.load(Ordering::Relaxed) + self.files_same.load(Ordering::Relaxed) + failed
    }

    /// Something was not moved.
    pub fn not(&self, path: impl Into<String>, fate: &'static str, reason: impl Into<String>) {
        let fate = Fate { path: path.into(), fate, reason: Some(reason.into()) };
        self.fates.lock().unwrap_or_else(std::sync::PoisonError::into_inner).push(fate);
    }

    /// What was not moved, and why.
    pub fn exceptions(&self) -> Vec<Fate> {
        self.fates.lock().unwrap_or_else(std::sync::PoisonError::into_inner).clone()
    }
}

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

/// What became of all that was given.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize)]
pub struct Sum {
    /// Files and other things met.
    pub given: u64,
    /// Of which the other side said that they are there.
    pub done: u64,
    /// There already with the same bytes.
    pub same: u64,
    /// Left out, each with its reason.
    pub skipped: u64,
    /// Not there, each with its reason.
    pub failed: u64,
}

impl Sum {
    /// Whether each thing that was given has one fate: else nobody may say that all is done.
    pub fn adds_up(&self) -> bool {
        self.given == self.done + self.same + self.skipped + self.failed
    }
}

/// Counted as it goes; can be looked at at any time.
#[derive(Default)]
pub struct Progress {
    /// Links, folders and the like that could not be taken: met beside the files.
    others: AtomicU64,
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

    /// More bytes than were known of.
    pub fn more(&self, bytes: u64) {
        self.bytes.fetch_add(bytes, Ordering::Relaxed);
    }

    /// Bytes that are there from an earlier try: they need not be moved.
    pub fn kept(&self, bytes: u64) {
        self.bytes_done.fetch_add(bytes, Ordering::Relaxed);
        self.bytes_same.fetch_add(bytes, Ordering::Relaxed);
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
        self.bytes_done.load(Ordering::Relaxed).saturating_sub(self.bytes_same.load(Ordering::Relaxed))
    }

    /// Files whose fate is known.
    pub fn settled(&self) -> u64 {
        let failed = self.fates.lock().unwrap_or_else(std::sync::PoisonError::into_inner).len() as u64;
        self.files_done.load(Ordering::Relaxed) + self.files_same.load(Ordering::Relaxed) + failed
    }

    /// Something other than a file that was found is not moved.
    pub fn not_taken(&self, path: impl Into<String>, fate: &'static str, reason: impl Into<String>) {
        self.others.fetch_add(1, Ordering::Relaxed);
        self.not(path, fate, reason);
    }

    /// What became of all so far.
    pub fn sum(&self) -> Sum {
        let fates = self.exceptions();
        let skipped = fates.iter().filter(|f| f.fate == "skipped").count() as u64;
        Sum {
            given: self.files.load(Ordering::Relaxed) + self.others.load(Ordering::Relaxed),
            done: self.files_done.load(Ordering::Relaxed),
            same: self.files_same.load(Ordering::Relaxed),
            skipped,
            failed: fates.len() as u64 - skipped,
        }
    }

    /// A file that was found is not moved.
    pub fn not(&self, path: impl Into<String>, fate: &'static str, reason: impl Into<String>) {
        let fate = Fate { path: path.into(), fate, reason: Some(reason.into()) };
        self.fates.lock().unwrap_or_else(std::sync::PoisonError::into_inner).push(fate);
    }

    /// What was not moved, and why.
    pub fn exceptions(&self) -> Vec<Fate> {
        self.fates.lock().unwrap_or_else(std::sync::PoisonError::into_inner).clone()
    }
}

//! Copies of the whole store in another folder, made while it runs, and the way back.
//!
//! A backup is a folder that ordinary tools can read: contents under their hashes, each once, packs of past contents as they
//! are, and for each run a text that says which file was which content. Nothing that an earlier run names is changed.

mod catalogue_copy;
pub mod make;
pub mod restore;
pub mod target;
pub mod verify;
mod walk;

use crate::engine::Engine;
pub use crate::fs::progress::Progress;
use ref_cast::RefCast;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Copies of the store.
#[derive(Clone, RefCast)]
#[repr(transparent)]
pub struct Backups(pub(crate) Engine);

impl Engine {
    /// Copies of the store in other folders.
    pub fn backups(&self) -> &Backups {
        Backups::ref_cast(self)
    }
}

/// What a run says of itself: the file `about.json`, written last. Without it there is no run.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct About {
    /// Of the format: 1.
    pub format: u32,
    /// Which store it is of.
    pub store: String,
    /// Up to which number of the timeline.
    pub moment: i64,
    /// When that was, in milliseconds.
    pub at: i64,
    /// When the run ended, in milliseconds.
    pub ended_at: i64,
    /// Live files.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Past states that are held.
    pub past: u64,
    /// Files and packs that this run brought.
    pub new: u64,
    /// Their bytes.
    pub new_bytes: u64,
    /// What could not be copied, and why. Empty if the run is whole.
    pub missing: Vec<String>,
    /// How many, if the list is shorter.
    pub missing_count: u64,
    /// The packs, and how much of each belongs to it.
    pub packs: BTreeMap<String, u64>,
    /// BLAKE3 of the run's own files.
    pub sums: BTreeMap<String, String>,
}

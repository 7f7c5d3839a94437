//! What the timeline is asked for: lists, history, changes, bytes, and what goes from it.

pub mod alarms;
pub mod changes;
pub mod content_read;
pub mod history;
pub mod locks;
pub mod paths;
pub mod properties;
pub mod purge;
pub mod reading;
pub mod restore;
pub mod retention;
mod retention_due;
pub mod retention_judge;
pub mod rollback;
pub mod rollback_plan;
pub mod rollback_run;
pub mod search;
pub mod shelves;
pub mod snapshots;
pub mod space;
pub mod trash;
pub mod tree;
pub mod upload_ends;
pub mod upload_parts;
pub mod uploads;
pub mod writes;

use crate::engine::Engine;
use ref_cast::RefCast;

/// What stands where, and what is changed there: lists, paths, bytes, uploads, locks, the feed.
#[derive(Clone, RefCast)]
#[repr(transparent)]
pub struct Files(pub(crate) Engine);

/// What was: past states, trash, snapshots, rollbacks, retention, alarms on mass changes.
#[derive(Clone, RefCast)]
#[repr(transparent)]
pub struct History(pub(crate) Engine);

/// Shelves, quotas, and where the space went.
#[derive(Clone, RefCast)]
#[repr(transparent)]
pub struct Space(pub(crate) Engine);

impl Engine {
    /// Files and folders as they are.
    pub fn files(&self) -> &Files {
        Files::ref_cast(self)
    }

    /// What was, and bringing it back.
    pub fn history(&self) -> &History {
        History::ref_cast(self)
    }

    /// Shelves and their space.
    pub fn space(&self) -> &Space {
        Space::ref_cast(self)
    }
}

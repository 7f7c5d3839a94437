//! A place in a group's life to come back to: what is decided as a whole is taken back as a whole.

use crate::fs::model::{Folder, Row};
use crate::txn::write_txn::{Counters, Group, WriteTxn};
use std::collections::HashMap;
use std::sync::Arc;
use yellow_attic_core::NodeId;

/// What a group has decided at some point, with what is known of the database.
pub(crate) struct SoFar {
    heads: Counters,
    rows: HashMap<NodeId, Option<Arc<Row>>>,
    names: HashMap<(NodeId, Arc<str>), Option<NodeId>>,
    folders: HashMap<NodeId, Folder>,
    paths: HashMap<NodeId, Arc<str>>,
    above_removed: HashMap<NodeId, Option<NodeId>>,
    whole: Option<i64>,
    locks: Arc<crate::rights::locks::Locks>,
    group: Group,
}

impl WriteTxn {
    /// All that the group has decided so far, to come back to.
    pub fn so_far(&self) -> SoFar {
        SoFar {
            heads: self.heads.clone(),
            rows: self.rows.clone(),
            names: self.names.clone(),
            folders: self.folders.clone(),
            paths: self.paths.clone(),
            above_removed: self.above_removed.clone(),
            whole: self.whole,
            locks: self.locks.clone(),
            group: self.group.clone(),
        }
    }

    /// What was decided since then is not.
    pub fn back_to(&mut self, so_far: SoFar) {
        let SoFar { heads, rows, names, folders, paths, above_removed, whole, locks, group } = so_far;
        (self.heads, self.rows, self.names, self.folders) = (heads, rows, names, folders);
        (self.paths, self.above_removed, self.whole) = (paths, above_removed, whole);
        (self.locks, self.group) = (locks, group);
    }
}

//! How programs save: who left or made what just now, for telling a save from two changes.

use crate::fs::model::{Actor, Row};
use std::collections::HashMap;
use std::sync::Arc;
use yellow_attic_core::timeline::{Kind, LEFT_FOR_MS};
use yellow_attic_core::{AccountId, DeviceId, NodeId};

/// Short memory of who left or made what, for telling how programs save.
#[derive(Default)]
pub(crate) struct SaveHeuristics {
    pub left: HashMap<(NodeId, Arc<str>), Memo>,
    made: HashMap<NodeId, Memo>,
    /// When the old ones were last forgotten.
    pruned: i64,
}

/// Somebody who left or made something.
pub(crate) struct Memo {
    pub node: NodeId,
    who: (Option<AccountId>, Option<DeviceId>),
    at: i64,
}

impl SaveHeuristics {
    pub fn remember_left(&mut self, row: &Row, actor: &Actor, now: i64) {
        if let (Some(parent), Kind::File) = (row.parent, row.kind) {
            let memo = Memo { node: row.node, who: (actor.author(), actor.device), at: now };
            self.left.insert((parent, row.key.clone()), memo);
        }
    }

    pub fn remember_made(&mut self, node: NodeId, actor: &Actor, now: i64) {
        self.made.insert(node, Memo { node, who: (actor.author(), actor.device), at: now });
    }

    pub fn fresh(&self, node: NodeId, actor: &Actor, now: i64) -> bool {
        self.made.get(&node).is_some_and(|m| m.holds(actor, now))
    }

    /// Forgets what is too old to matter.
    pub fn prune(&mut self, now: i64) {
        // A walk through all costs: not at every group.
        if self.left.len() + self.made.len() > 1000 && now - self.pruned > LEFT_FOR_MS / 4 {
            self.pruned = now;
            self.left.retain(|_, m| now - m.at <= LEFT_FOR_MS);
            self.made.retain(|_, m| now - m.at <= LEFT_FOR_MS);
        }
    }
}

impl Memo {
    pub fn holds(&self, actor: &Actor, now: i64) -> bool {
        self.who == (actor.author(), actor.device) && now - self.at <= LEFT_FOR_MS
    }
}

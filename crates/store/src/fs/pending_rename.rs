//! What the disk owes the catalogue: renames of named objects.

use crate::fs::disk::{ObjectId, content_name, folder_name};
use crate::fs::model::ShelfKind;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use yellow_attic_core::{ContentId, NodeId};

/// A place on the disk.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum DiskLocation {
    /// A name in `staging/`.
    Staging(ContentId),
    /// A name in the folder of a node, wherever that lies.
    In(NodeId, Arc<str>),
    /// A name in `past/incoming/`.
    Incoming(ContentId),
    /// A name in `past/removed/`.
    Removed(NodeId),
    /// A removed folder of which all that is known has been taken out, under the number of the job that does it.
    Apart(i64),
    /// The folder of a shelf.
    Top(ShelfKind, Arc<str>),
}

/// One rename. Objects are meant, not paths: a replay after a crash looks for the object.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Task {
    /// Its place in the order.
    #[serde(default)]
    pub mark: i64,
    /// What is renamed.
    pub object: ObjectId,
    /// Another program's object that stood at the source when this was decided: it goes along.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen: Option<ObjectId>,
    /// Whose state it is.
    pub node: NodeId,
    /// Whether it is a directory.
    pub folder: bool,
    /// From where.
    pub from: DiskLocation,
    /// To where.
    pub to: DiskLocation,
    /// Whether the file is a program: its mode says so once it is in its place.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub executable: bool,
    /// What is known to lie at the target: it goes to `past/incoming` first.
    pub expect: Option<(ContentId, ObjectId)>,
}

impl Task {
    /// A rename of an object with nothing known at its target.
    pub fn new(object: ObjectId, node: NodeId, folder: bool, from: DiskLocation, to: DiskLocation) -> Task {
        Task { mark: 0, object, seen: None, node, folder, from, to, executable: false, expect: None }
    }

    /// The same, onto a state that goes to the past.
    pub fn onto(self, expect: Option<(ContentId, ObjectId)>) -> Task {
        Task { expect, ..self }
    }

    /// The same of a program, or not.
    pub fn program(self, executable: bool) -> Task {
        Task { executable, ..self }
    }

    /// Whether an object at the source is the one that is meant.
    pub fn means(&self, object: ObjectId) -> bool {
        self.object == object || self.seen == Some(object)
    }
}

impl DiskLocation {
    /// The name at that place.
    pub fn name(&self) -> String {
        match self {
            DiskLocation::Staging(id) | DiskLocation::Incoming(id) => content_name(*id),
            DiskLocation::In(_, name) | DiskLocation::Top(_, name) => name.to_string(),
            DiskLocation::Removed(node) => folder_name(*node),
            DiskLocation::Apart(job) => format!("t{job:x}"),
        }
    }
}

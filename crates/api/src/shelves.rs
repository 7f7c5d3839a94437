//! Shelves, and what changed on them.

use crate::{GivenPlace, Node, Sums};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// A shelf, with what stands on it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Shelf {
    /// Its id.
    pub id: i64,
    /// Its name in paths: `home`, or the shelf's name.
    pub name: String,
    /// Its name for people.
    pub title: String,
    /// `home` or `shared`.
    pub kind: String,
    /// The folder at its top.
    pub root: i64,
    /// What the caller may do: view, add, edit or manage.
    pub level: String,
    /// Who may enter: `you alone`, or names.
    pub people: String,
    /// What it is for.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// How many bytes it may hold.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quota: Option<u64>,
    /// What is on it.
    pub sums: Sums,
    /// When something on it changed last.
    pub changed: String,
    /// The files changed last, newest first.
    pub latest: Vec<Node>,
}

/// The shelves that the caller may enter.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Shelves {
    /// The caller's own first.
    pub shelves: Vec<Shelf>,
    /// What was given to the caller below the top of a shelf, by name.
    #[serde(default)]
    pub given: Vec<GivenPlace>,
    /// Free bytes of the disk; 0 for guests.
    pub disk_free: u64,
    /// Its size in bytes; 0 for guests.
    pub disk_total: u64,
}

/// A new shared shelf.
#[derive(Clone, Default, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewShelf {
    /// Its name, also its folder's on the disk.
    pub name: String,
    /// Who else may enter, beside its owners.
    #[serde(default)]
    pub people: Vec<ShelfPerson>,
    /// What it is for.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// The sign-in names of its owners; its maker if none is named.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub owners: Vec<String>,
    /// How much it may hold: `20 GiB`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quota: Option<String>,
}

/// Who may enter a shelf.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ShelfPerson {
    /// `account:NAME`, `group:NAME` or `everyone`.
    pub to: String,
    /// view, add, edit or manage.
    pub level: String,
}

/// Something that changed on a shelf.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Change {
    /// `changed`; `removed`; `arrived`: a folder with all beneath, expand it by listing; `left`: gone
    /// to another shelf with all beneath; `out_of_sight`: you may see it no more, and what became of it is not told.
    pub what: String,
    /// The moment of the change.
    pub moment: String,
    /// The node in the state that began or ended.
    pub node: Node,
}

/// Changes since a moment.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Changes {
    /// Oldest first.
    pub changes: Vec<Change>,
    /// Ask from this moment next.
    pub upto: String,
    /// Whether there are more already.
    pub more: bool,
    /// What names the timeline: ids and moments of another one mean other things.
    #[serde(default)]
    pub timeline: String,
    /// Rollbacks that began or went on here after the moment asked for: what they changed is no work of somebody's.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub rollbacks: Vec<FeedRollback>,
}

/// A rollback, as a follower hears of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FeedRollback {
    /// Its id.
    pub id: i64,
    /// The folder.
    pub node: i64,
    /// The moment to which it goes.
    pub to: String,
    /// The last moment before its first change.
    pub begun: String,
    /// The last moment at which it changed something; none while it runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
}

/// Which changes.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[serde(deny_unknown_fields, default)]
#[into_params(parameter_in = Query)]
pub struct ChangesQuery {
    /// The token of the moment after which to tell; from the beginning if it is not given.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub since: Option<String>,
    /// The timeline that the moment is of, as the answer before had it: refused with 410 if it is another one by now.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub timeline: Option<String>,
    /// 1 to 1000; 500 if it is not given.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub limit: Option<usize>,
}

/// What the caller may do in a folder, and where beneath it that is otherwise.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Levels {
    /// Here: view, add, edit or manage.
    pub level: String,
    /// Where it is otherwise than in the folder above, as far as it can be seen; in no order.
    pub beneath: Vec<LevelAt>,
}

/// What the caller may do at a place beneath a folder.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LevelAt {
    /// The file or folder.
    pub node: i64,
    /// The names on the way to it, with `/` between them.
    pub path: String,
    /// View, add, edit or manage; it holds for all beneath, too.
    pub level: String,
}

/// One line of a tree.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(tag = "line", rename_all = "lowercase")]
pub enum TreeLine {
    /// The first.
    Begin {
        /// What names the timeline.
        timeline: String,
        /// The moment at which all of it stood so.
        moment: String,
        /// The folder.
        root: Box<Node>,
    },
    /// A file or folder.
    Entry {
        /// It.
        node: Box<Node>,
    },
    /// The last: all of it was told.
    End {
        /// How many entries there were.
        count: u64,
        /// The moment again: follow the changes from here.
        moment: String,
    },
}

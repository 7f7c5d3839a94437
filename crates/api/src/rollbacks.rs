//! Snapshots, rollbacks and alarms.

use crate::Kind;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// A snapshot of a shelf.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Snapshot {
    /// Its id.
    pub id: i64,
    /// The shelf's name for people.
    pub shelf: String,
    /// The moment that it names.
    pub moment: String,
    /// When it was taken.
    pub at: String,
    /// What it is called.
    pub label: String,
    /// Who took it; none: a schedule.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// The schedule that took it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub schedule: Option<String>,
    /// When it ends; none: never by itself.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ends: Option<String>,
}

/// Snapshots, newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Snapshots {
    /// All of the shelf.
    pub snapshots: Vec<Snapshot>,
    /// What the schedules of this shelf are.
    pub schedules: String,
    /// The past bytes that only snapshots keep, as of the last look at the rules.
    pub only_bytes: i64,
}

/// A snapshot to be taken, or changed.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SnapshotChange {
    /// What it is called.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// When it ends, RFC 3339, or `never`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ends: Option<String>,
}

/// To which moment.
#[derive(Clone, Debug, Serialize, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct RollbackQuery {
    /// A moment's token or an RFC 3339 time.
    pub to: String,
    /// What is to stay as it is: ids, with commas between.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub keep: Option<String>,
}

/// A rollback to be begun.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewRollback {
    /// A moment's token or an RFC 3339 time.
    pub to: String,
    /// The token of the preview: refused if it would be another now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
    /// What is to stay as it is.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub keep: Vec<i64>,
}

/// One thing that a rollback touches, or leaves.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RollbackLine {
    /// Its id.
    pub node: i64,
    /// The way to it from the folder that is rolled back.
    pub path: String,
    /// File or folder.
    pub kind: Kind,
    /// `returns`, `moves back`, `changes`, `goes` or `stays`.
    pub what: String,
    /// Why it stays.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// Its bytes then.
    pub size: i64,
    /// It is newer work of somebody else than whose changes most of the rollback undoes.
    pub others: bool,
    /// Who made its present state; none if it is not there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// When.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub changed: Option<String>,
}

/// What a rollback would do.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RollbackPreview {
    /// The moment to which.
    pub to: String,
    /// Its time.
    pub at: String,
    /// Steps in all.
    pub steps: usize,
    /// Files that come back, and their bytes.
    pub returns: i64,
    /// Their bytes.
    pub return_bytes: i64,
    /// Files that get their earlier bytes.
    pub changes: i64,
    /// Those bytes.
    pub change_bytes: i64,
    /// Things that move back to their place or name.
    pub moves: i64,
    /// Files that go to the trash.
    pub goes: i64,
    /// Their bytes.
    pub go_bytes: i64,
    /// Things that stay as they are.
    pub stays: usize,
    /// How many files are newer work of others.
    pub others: usize,
    /// How many things stay because `keep` names them.
    pub kept: usize,
    /// What stays, the work of others, and the rest; at most 500.
    pub lines: Vec<RollbackLine>,
    /// Stands for exactly this.
    pub token: String,
}

/// A rollback.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Rollback {
    /// Its id.
    pub id: i64,
    /// The folder.
    pub node: i64,
    /// Its path.
    pub path: String,
    /// To which moment.
    pub to: String,
    /// Its time.
    pub at: String,
    /// The moment before its first change: taking it back goes there.
    pub before: String,
    /// Who asked.
    pub by: String,
    /// When.
    pub made: String,
    /// `running`, `done` or `stopped`.
    pub state: String,
    /// When it ended.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ended: Option<String>,
    /// Steps in all.
    pub steps: i64,
    /// Done.
    pub done: i64,
    /// Bytes to bring back.
    pub bytes: i64,
    /// Brought back.
    pub bytes_done: i64,
    /// The rollback that this one takes back.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub undoes: Option<i64>,
    /// What was left as it was: name and why.
    pub left_alone: Vec<(String, String)>,
}

/// Rollbacks, newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Rollbacks {
    /// At most 100.
    pub rollbacks: Vec<Rollback>,
}

/// One device changed very much at once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Alarm {
    /// Its id.
    pub id: i64,
    /// The shelf's name for people.
    pub shelf: String,
    /// The folder at its top.
    pub root: i64,
    /// Its path, if one may enter it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// Who.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// With which device.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub device: Option<String>,
    /// The last moment before.
    pub before: String,
    /// Its time.
    pub before_at: String,
    /// When it began.
    pub from: String,
    /// When it ended.
    pub until: String,
    /// Files.
    pub files: i64,
    /// Of how many.
    pub of: i64,
    /// The ending that most of them got.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ending: Option<String>,
    /// Whether the device was shut out.
    pub shut: bool,
    /// When somebody settled it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub settled: Option<String>,
}

/// Alarms, newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Alarms {
    /// Those of shelves that one manages; for administrators, all.
    pub alarms: Vec<Alarm>,
}

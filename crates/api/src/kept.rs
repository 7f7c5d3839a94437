//! Trash, versions, snapshots, rollbacks, alarms, quotas and where the space went.

use crate::{Kind, Node};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// Why a past state is kept, and until when.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Kept {
    /// In a few words; empty if it goes with the next look at the rules.
    pub why: String,
    /// When that ends, as the rules are now; none: not by itself.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
}

/// Something that was removed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Removed {
    /// What it was last; of a folder, the size of all that was in it.
    pub node: Node,
    /// Files in it.
    pub files: i64,
    /// Where it was: `shelf:/path`.
    pub path: String,
    /// When it was removed.
    pub removed: String,
    /// By whom.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub removed_by: Option<String>,
    /// The moment just before: at which it can be looked at.
    pub last_there: String,
    /// Whether the folder in which it was is still there.
    pub place: bool,
    /// When it goes for good, as the rules are now; none: not by itself.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub goes: Option<String>,
    /// Nothing of this shelf goes.
    pub hold: bool,
}

/// A page of the trash, newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Trash {
    /// What was removed.
    pub items: Vec<Removed>,
    /// Where the next page begins.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
    /// What all of the trash beneath holds, in bytes.
    pub bytes: i64,
    /// And how many files.
    pub files: i64,
}

/// Which part of a list.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct PageQuery {
    /// Where the page before ended.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cursor: Option<String>,
    /// At most so many, up to 500.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub limit: Option<usize>,
}

/// What is to go for good. One of the fields says what.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct LetGo {
    /// These removed things.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub nodes: Vec<i64>,
    /// Everything removed from this folder and from beneath it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<i64>,
    /// One version of this file: the moment since which it was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    /// Everything that the rules let go now (administrators).
    #[serde(default)]
    pub by_rules: bool,
    /// Only tell what would go.
    #[serde(default)]
    pub preview: bool,
    /// The token of the preview: refused if it would be another now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
}

/// What goes of one shelf for one reason.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GoingSum {
    /// The shelf's name for people.
    pub shelf: String,
    /// `versions`, `trash`, `size`, `room`, `erase` or `hand`.
    pub why: String,
    /// States.
    pub states: u64,
    /// Bytes.
    pub bytes: i64,
    /// When the oldest ended.
    pub oldest: String,
    /// And the newest.
    pub newest: String,
}

/// Something that goes.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GoingSample {
    /// Its name.
    pub name: String,
    /// The shelf.
    pub shelf: String,
    /// Bytes.
    pub size: i64,
    /// When the state ended.
    pub ended: String,
    /// Why it goes.
    pub why: String,
}

/// What would go for good, or went.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Going {
    /// States.
    pub states: u64,
    /// Their bytes.
    pub bytes: i64,
    /// By shelf and reason.
    pub sums: Vec<GoingSum>,
    /// The largest of them, at most 100.
    pub largest: Vec<GoingSample>,
    /// What was asked for and is kept all the same: name and why.
    pub kept: Vec<(String, String)>,
    /// Stands for exactly this.
    pub token: String,
    /// Whether it was done.
    pub done: bool,
}

/// The wall clock, as the service believes it.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct WallClock {
    /// What it says now.
    pub now: String,
    /// The time by which the past goes: the newest time kept, and what has passed since.
    pub kept: String,
    /// By how many milliseconds it differs from that, if it is not believed: by more than a day, and the kernel does
    /// not call it synchronised; by 30 days or more, or back, whatever the kernel says. Until it is confirmed nothing of
    /// the past goes, and no snapshot is taken.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub leapt_ms: Option<i64>,
}

/// How the store stands: what the administrator should know of the disk and of the data folder.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct StoreState {
    /// Whether what was synced is there after a power cut: `kept`, `unsafe` or `unknown`.
    pub durability: String,
    /// Why, in words.
    pub why: String,
    /// Whether the catalogue is older than the data beside it: nothing is swept, packed or let go meanwhile.
    pub older_catalogue: bool,
    /// Why second factors cannot be checked or set up, if they cannot: the key that seals them is missing.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub secrets: Option<String>,
    /// Shelves that take no writes for now.
    pub stopped: Vec<StoppedShelf>,
    /// What was noticed on the disk and left to a person, newest first, at most 50.
    pub findings: Vec<StoreFinding>,
}

/// A shelf that takes no writes for now.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct StoppedShelf {
    /// Its name.
    pub shelf: String,
    /// Why, in words.
    pub why: String,
}

/// Something that was noticed on the disk.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct StoreFinding {
    /// When, RFC 3339.
    pub at: String,
    /// What kind of thing.
    pub kind: String,
    /// In words.
    pub detail: String,
}

/// How far letting go is.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct GoingProgress {
    /// Whether it runs.
    pub runs: bool,
    /// States to let go.
    pub of: u64,
    /// Those that went.
    pub done: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// A name for a version; empty takes it away.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct VersionName {
    /// At most 120 characters.
    pub label: String,
}

/// Two states of a text, line by line.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Comparison {
    /// Lines in order; long equal parts are left out.
    pub lines: Vec<ComparedLine>,
    /// Lines only in the earlier one.
    pub removed: usize,
    /// Lines only in the later one.
    pub added: usize,
}

/// A line of a comparison.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ComparedLine {
    /// `same`, `removed`, `added`, or `gap` for lines that are left out.
    pub what: String,
    /// Its number in the earlier one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub before: Option<usize>,
    /// Its number in the later one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub after: Option<usize>,
    /// The line, or how many are left out.
    pub text: String,
}

/// Which two states are compared.
#[derive(Clone, Debug, Serialize, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct CompareQuery {
    /// The earlier moment.
    pub from: String,
    /// The later one; none: now.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
}

/// A line that something may not pass.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Quota {
    /// `organisation`, `home:NAME`, `shelf:NAME` or `folder:ID`.
    pub of: String,
    /// In words.
    pub name: String,
    /// What counts, in bytes.
    pub used: u64,
    /// From here on people are warned.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub soft: Option<u64>,
    /// Nothing passes this one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hard: Option<u64>,
    /// Whether the hard line comes from the account's groups.
    pub by_groups: bool,
    /// Whether it warns now.
    pub warns: bool,
}

/// Lines, and what counts.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Quotas {
    /// The organisation, shelves, homes, folders.
    pub quotas: Vec<Quota>,
    /// What counts, in a sentence.
    pub counts: String,
}

/// Lines to be set.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct QuotaChange {
    /// `organisation`, `home:NAME`, `shelf:NAME`, `folder:ID` or a path such as `Plans:/Hall`.
    pub of: String,
    /// A size such as `20 GiB`, or `none`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub soft: Option<String>,
    /// A size such as `20 GiB`, or `none`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hard: Option<String>,
}

/// What something holds, in bytes.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Held {
    /// Files that are there now.
    pub live: i64,
    /// Their number.
    pub files: i64,
    /// Earlier versions.
    pub versions: i64,
    /// Their number.
    pub version_states: i64,
    /// What was removed.
    pub trash: i64,
    /// Files of it.
    pub trash_files: i64,
    /// Of versions and trash, what only snapshots keep.
    pub only_snapshots: i64,
    /// Live, versions and trash together.
    pub all: i64,
}

/// What a shelf holds.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ShelfSpace {
    /// The folder at its top.
    pub root: i64,
    /// Its name for people.
    pub title: String,
    /// `home` or `shared`.
    pub kind: String,
    /// What it holds.
    pub held: Held,
    /// Nothing passes this.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub quota: Option<u64>,
}

/// What the past costs on the disk, in bytes. For administrators.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Stored {
    /// All past states, each counted by itself.
    pub logical: i64,
    /// Past contents kept whole.
    pub whole: i64,
    /// Chunks that are needed.
    pub chunks: i64,
    /// Pack files beyond these.
    pub overhead: i64,
    /// What sharing and packing save: logical less whole, chunks and overhead.
    pub saved: i64,
    /// Contents kept as chunks.
    pub packed: i64,
    /// Chunks.
    pub chunk_count: i64,
    /// The catalogue.
    pub catalogue: i64,
    /// Unfinished uploads, and what is on its way.
    pub staging: i64,
    /// Free on the disk.
    pub free: u64,
    /// The disk.
    pub total: u64,
    /// How many files it can still hold, if its file system has a limit to them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub free_files: Option<u64>,
    /// How many it can hold in all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub total_files: Option<u64>,
}

/// A large file.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LargeFile {
    /// Its id.
    pub node: i64,
    /// Its path; none if one may not see it.
    pub path: String,
    /// Bytes.
    pub size: i64,
    /// Changed last.
    pub changed: String,
}

/// A folder that grew.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GrownFolder {
    /// Its id.
    pub node: i64,
    /// Its path.
    pub path: String,
    /// By how many bytes of files right in it.
    pub bytes: i64,
}

/// What was held on a day.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SpaceDay {
    /// Days since 1 January 1970, UTC.
    pub day: i64,
    /// Live bytes.
    pub live: i64,
    /// Versions.
    pub versions: i64,
    /// Trash.
    pub trash: i64,
}

/// Where the space went.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Space {
    /// All shelves that count here together.
    pub held: Held,
    /// Each of them: for administrators all, for others those that they own.
    pub shelves: Vec<ShelfSpace>,
    /// On the disk; for administrators.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stored: Option<Stored>,
    /// The largest files, on shelves that one may enter.
    pub largest: Vec<LargeFile>,
    /// The folders that grew most in thirty days.
    pub growing: Vec<GrownFolder>,
    /// Day by day, oldest first, at most a year.
    pub days: Vec<SpaceDay>,
}

/// What a folder and its children hold.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FolderSpace {
    /// The folder.
    pub held: Held,
    /// Its children, largest first.
    pub children: Vec<ChildSpace>,
}

/// What a child holds.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChildSpace {
    /// Its id.
    pub node: i64,
    /// Its name.
    pub name: String,
    /// File or folder.
    pub kind: Kind,
    /// What it holds.
    pub held: Held,
}

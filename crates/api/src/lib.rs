//! What passes between a service and its clients: requests, answers, problems.
//!
//! Times are RFC 3339 in UTC, sizes are bytes, moments are opaque tokens. The OpenAPI
//! description of the service is made from these types.

#![forbid(unsafe_code)]

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// A refusal or failure (RFC 9457, `application/problem+json`).
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// `about:blank`: the code tells the kind.
    #[serde(rename = "type")]
    pub kind: String,
    /// What was refused, in a few words.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// The true reason.
    pub detail: String,
    /// A stable word for programs.
    pub code: String,
    /// What to do about it.
    pub remedy: String,
    /// To go on with: the password was right, and a second factor is needed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ticket: Option<String>,
    /// The kinds of second factors that there are: codes, passkey, recovery.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub factors: Vec<String>,
    /// What stands there, where a condition of the request does not hold.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub present: Option<Present>,
}

/// What stands at a place, for whoever meant something else.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Present {
    /// Which thing it is.
    pub node: i64,
    /// The moment since which it is as it is.
    pub moment: String,
    /// The ETag of its bytes; a folder has none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub etag: Option<String>,
}

/// File or folder.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// A folder.
    Folder,
    /// A file.
    File,
}

/// What became of a past entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum SinceThen {
    /// The same bytes in the same place.
    Same,
    /// Other bytes now.
    Different,
    /// In another place or under another name now.
    Moved,
    /// No longer there.
    Removed,
    /// A folder in the same place, in which something has changed.
    Inside,
}

/// What is beneath a folder now.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Sums {
    /// Bytes of all files beneath.
    pub bytes: i64,
    /// Files beneath.
    pub files: i64,
    /// Folders beneath.
    pub folders: i64,
    /// Bytes of all past states beneath.
    pub history_bytes: i64,
}

/// A file or folder in one state.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Node {
    /// Its id; never changes.
    pub id: i64,
    /// The folder it is in; none at the top of a shelf.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub parent: Option<i64>,
    /// Its name.
    pub name: String,
    /// File or folder.
    pub kind: Kind,
    /// In bytes; of a folder, all beneath.
    pub size: i64,
    /// The file's own time of modification.
    pub modified: String,
    /// Whether the file is a program.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub executable: bool,
    /// When this state came to be; of a folder, the last change beneath.
    pub changed: String,
    /// Who made it so.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// How this state came to be.
    pub how: String,
    /// The moment from which this state is valid.
    pub moment: String,
    /// The ETag of a file's bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub etag: Option<String>,
    /// BLAKE3 of a file's bytes, 64 hexadecimal digits.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub blake3: Option<String>,
    /// What is beneath a folder now.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sums: Option<Sums>,
    /// In a list of the past: what became of it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub since_then: Option<SinceThen>,
    /// Given on this very node: `out` to others, `in` to the caller, or `both`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub given: Option<String>,
    /// `false`: another program overwrote the bytes on the disk before they could be kept.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub held: Option<bool>,
    /// Somebody holds a lock on it, or on a folder above that holds for all beneath.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub locked: Option<Lock>,
}

/// The chunks of a file: where docs/protocol.md cuts it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Chunks {
    /// The tag of the state.
    pub etag: String,
    /// BLAKE3 of all its bytes.
    pub blake3: String,
    /// In bytes.
    pub size: i64,
    /// In order: the length, a blank, and the first 32 hexadecimal digits of the chunk's BLAKE3.
    pub chunks: Vec<String>,
}

/// The first line of a delta.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DeltaHead {
    /// States that it copies from, at most 16.
    pub bases: Vec<DeltaBase>,
    /// How many bytes come out.
    pub size: u64,
    /// Their BLAKE3.
    pub blake3: String,
    /// The file's own time of modification, RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub modified: Option<String>,
    /// Whether it is a program; as it was, if not said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub executable: Option<bool>,
}

/// A state that a delta copies from.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DeltaBase {
    /// The file.
    pub node: i64,
    /// As it was at this moment; as it is, if not said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// The tag of the state.
    pub etag: String,
}

/// A lock: whoever else changes the file or folder is refused until it ends.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Lock {
    /// The folder or file on which it lies.
    pub node: i64,
    /// Who holds it.
    pub by: String,
    /// Whether that is the caller.
    pub mine: bool,
    /// Whether a program holds it by a token: then all others of the same account are refused too.
    pub program: bool,
    /// Since when.
    pub since: String,
    /// When it ends by itself.
    pub until: String,
}

/// A lock to be taken by hand.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewLock {
    /// How many minutes it lives; 60 if not said, a week at most.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub minutes: Option<u32>,
}

/// One step on the way to a node.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Step {
    /// The folder.
    pub id: i64,
    /// Its name; the shelf's at the top.
    pub name: String,
}

/// The facts of one node.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Facts {
    /// The node.
    pub node: Node,
    /// Where it is, as `shelf:/path`.
    pub path: String,
    /// The way to it, from the top of the shelf; without itself.
    pub way: Vec<Step>,
    /// What the caller may do here: view, add, edit or manage.
    pub level: String,
    /// The name of the shelf, as it stands in paths.
    pub shelf: String,
}

/// A page of entries.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Entries {
    /// The entries: folders first.
    pub entries: Vec<Node>,
    /// The cursor of the next page; none on the last.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
}

/// How to list.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[serde(deny_unknown_fields, default)]
#[into_params(parameter_in = Query)]
pub struct ListQuery {
    /// `name` (default), `size` or `changed`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sort: Option<String>,
    /// `up` (default) or `down`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub order: Option<String>,
    /// Entries on a page, 1 to 1000; 200 if it is not given.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub limit: Option<usize>,
    /// `next` of the page before.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cursor: Option<String>,
    /// As it was at a moment's token or an RFC 3339 time.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
}

/// Which place.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct PlaceQuery {
    /// `shelf:/path`; `home` is one's own shelf.
    pub path: String,
    /// As it was at a moment's token or an RFC 3339 time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
}

/// Which state.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[serde(deny_unknown_fields, default)]
#[into_params(parameter_in = Query)]
pub struct StateQuery {
    /// As it was at a moment's token or an RFC 3339 time; as it is now if it is not given.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
}

/// How to send bytes.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[serde(deny_unknown_fields, default)]
#[into_params(parameter_in = Query)]
pub struct PutQuery {
    /// The file's own time of modification, RFC 3339; now if it is not given.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub modified: Option<String>,
    /// Whether the file is a program; if it is not said, the file that stands there stays what it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub executable: Option<bool>,
}

/// A new folder.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewFolder {
    /// Its name.
    pub name: String,
}

/// What to bring back, and to where.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Restore {
    /// The moment's token or RFC 3339 time whose state is wanted; if it is not given, a removed
    /// thing comes back as it was last.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// Another folder than the one it was in.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub parent: Option<i64>,
    /// Another name than it had.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Makes the folders on the way to its place again, where they are gone.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub with_folders: bool,
    /// The moment of the state that the caller has seen: refused if there is a newer one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen: Option<String>,
}

/// One state in the history of a node.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct State {
    /// The state.
    pub node: Node,
    /// When it ended; none for the present one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ended: Option<String>,
    /// How it ended.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ended_how: Option<String>,
    /// What somebody called this version, so that it stays.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// Why it is kept; none for the present state, and where the bytes are gone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kept: Option<Kept>,
}

/// The history of a node, newest state first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct History {
    /// The states.
    pub states: Vec<State>,
}

/// Changes on one day.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct Day {
    /// Days since 1 January 1970, UTC.
    pub day: i64,
    /// Changes beneath the folder.
    pub changes: i64,
}

/// When something in a folder itself changed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Turn {
    /// The moment.
    pub moment: String,
    /// Its time.
    pub at: String,
}

/// What the time strip of a folder is drawn from.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Activity {
    /// Days with changes beneath, oldest first.
    pub days: Vec<Day>,
    /// The last changes in the folder itself, newest first, at most 500.
    pub turns: Vec<Turn>,
}

/// Signing in.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SignIn {
    /// The sign-in name.
    pub sign_in: String,
    /// The password.
    pub password: String,
}

/// The first administrator.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetUp {
    /// The code from the address that the service printed.
    pub code: String,
    /// The sign-in name.
    pub sign_in: String,
    /// The name to show.
    pub display_name: String,
    /// The password.
    pub password: String,
}

/// Who is signed in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Me {
    /// The sign-in name.
    pub sign_in: String,
    /// The name to show.
    pub display_name: String,
    /// `administrator`, `member` or `guest`.
    pub role: String,
    /// The administrator who looks as this account, reading only.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen_by: Option<String>,
    /// Nothing more can be done until a second factor is set up.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub needs_factor: bool,
    /// When its picture was set.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub picture: Option<String>,
}

/// What a page must know before anybody is signed in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Welcome {
    /// Whether the first administrator is still to be made.
    pub needs_set_up: bool,
    /// Who is signed in, if somebody is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub me: Option<Me>,
    /// The organisation's name.
    pub organisation: String,
    /// Mail domains whose people may sign up.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub sign_up: Vec<String>,
    /// The version of the service.
    pub version: String,
    /// The largest file taken, in bytes.
    pub largest_file: u64,
}

/// Names to look for.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct FindQuery {
    /// Part of a name; capital letters and accents do not count. Words are looked for each.
    pub name: String,
    /// Only beneath this folder.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub within: Option<i64>,
    /// How many at most: 1 to 200, usually 50.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub limit: Option<usize>,
    /// As it was at this moment or time; needs `within`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
}

/// A file or folder that was found, with its place.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FoundNode {
    /// The node.
    pub node: Node,
    /// Where it is, as `shelf:/path`.
    pub path: String,
}

/// What was found.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Found {
    /// Last changed first.
    pub found: Vec<FoundNode>,
    /// Whether there is more.
    pub more: bool,
}

mod devices;
mod kept;
mod moves;
mod openings;
mod people;
pub mod refusals;
mod rights;
mod rollbacks;
mod rules;
mod shelves;
mod signing;
mod transfers;
mod work;
pub use devices::*;
pub use kept::*;
pub use moves::*;
pub use openings::*;
pub use people::*;
pub use rights::*;
pub use rollbacks::*;
pub use rules::*;
pub use shelves::*;
pub use signing::*;
pub use transfers::*;
pub use work::*;

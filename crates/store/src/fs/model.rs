//! What the engine keeps and hands out.

use crate::fs::disk::ObjectId;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use yellow_attic_core::conditions::Standing;
use yellow_attic_core::rights::Level;
use yellow_attic_core::timeline::Kind;
use yellow_attic_core::{AccountId, ContentId, DeviceId, Moment, NodeId, OpeningId, OrgId, ShelfId};

/// Who does something, and where from: what the record needs.
#[derive(Clone, Debug)]
pub struct Actor {
    /// The account; none for the service itself.
    pub account: Option<AccountId>,
    /// The device; none in the console.
    pub device: Option<DeviceId>,
    /// The sign-in name, or `service`.
    pub who: Arc<str>,
    /// The network address, or how it came.
    pub from: Arc<str>,
    /// The opening through which a stranger acts, within the account's rights.
    pub through: Option<Through>,
    /// How far a device's token reaches, where that is not all of the account.
    pub scope: Option<Arc<TokenScope>>,
    /// Tokens of locks that this request names.
    pub tokens: Tokens,
}

/// Tokens of locks.
#[derive(Clone, Debug, Default)]
pub struct Tokens(Option<Arc<[String]>>);

impl Tokens {
    /// Some tokens.
    pub fn new(tokens: impl Iterator<Item = String>) -> Tokens {
        let all: Vec<String> = tokens.collect();
        Tokens((!all.is_empty()).then(|| all.into()))
    }

    /// All of them.
    pub fn list(&self) -> &[String] {
        self.0.as_deref().unwrap_or_default()
    }
}

/// What an opening lets through: nothing outside a node, and there no more than a level.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Through {
    /// Which opening.
    pub opening: OpeningId,
    /// Its target.
    pub node: NodeId,
    /// The most that counts.
    pub most: Level,
}

/// How far a device's token reaches: within the account's rights, and no further than that.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TokenScope {
    /// Nothing outside these folders; all of the account where there is none.
    pub nodes: Vec<NodeId>,
    /// The most that counts.
    pub most: Level,
}

impl Actor {
    /// Who is said to have done it: the account, or, for a stranger, the opening (its number, negative).
    pub fn author(&self) -> Option<AccountId> {
        match self.through {
            Some(through) => Some(AccountId(-through.opening.0)),
            None => self.account,
        }
    }

    /// Whom cursors are made for: nobody else's count.
    pub(crate) fn whose(&self) -> String {
        let opening = self.through.map_or(0, |t| t.opening.0);
        format!("{} {opening}", self.account.map_or(0, |a| a.0))
    }

    /// Somebody who is signed in, or about to be.
    pub fn in_name_of(account: AccountId, sign_in: &str, from: &str) -> Actor {
        Actor { account: Some(account), who: sign_in.into(), from: from.into(), ..Actor::service() }
    }

    /// The service itself.
    pub fn service() -> Actor {
        Actor {
            account: None,
            device: None,
            who: "service".into(),
            from: "this machine".into(),
            through: None,
            scope: None,
            tokens: Tokens::default(),
        }
    }
}

/// How a state came to be, and how one ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[repr(u8)]
pub enum ChangeKind {
    /// Made, or first put here.
    Made = 0,
    /// New bytes.
    Changed = 1,
    /// Renamed or moved.
    Moved = 2,
    /// Brought back.
    Restored = 3,
    /// Came from another shelf.
    Arrived = 4,
    /// Found on the disk, changed by another program.
    Found = 5,
    /// Copied from elsewhere.
    Copied = 6,
    /// Removed (ends only).
    Removed = 7,
    /// Became the new state of the file it was renamed onto (ends only).
    Merged = 8,
    /// Went to another shelf (ends only).
    Left = 9,
    /// Made a program, or no program any more: the same bytes.
    Marked = 10,
}

impl ChangeKind {
    /// Reads what the catalogue holds.
    pub fn from_number(n: i64) -> ChangeKind {
        const ALL: [ChangeKind; 11] = [
            ChangeKind::Made,
            ChangeKind::Changed,
            ChangeKind::Moved,
            ChangeKind::Restored,
            ChangeKind::Arrived,
            ChangeKind::Found,
            ChangeKind::Copied,
            ChangeKind::Removed,
            ChangeKind::Merged,
            ChangeKind::Left,
            ChangeKind::Marked,
        ];
        usize::try_from(n).ok().and_then(|i| ALL.get(i)).copied().unwrap_or(ChangeKind::Changed)
    }

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            ChangeKind::Made => "made",
            ChangeKind::Changed => "changed",
            ChangeKind::Moved => "moved",
            ChangeKind::Restored => "restored",
            ChangeKind::Arrived => "arrived",
            ChangeKind::Found => "found on disk",
            ChangeKind::Copied => "copied",
            ChangeKind::Removed => "removed",
            ChangeKind::Merged => "saved over",
            ChangeKind::Left => "left",
            ChangeKind::Marked => "marked executable or not",
        }
    }
}

/// The life of a content.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ContentState {
    /// At its node's place, or in staging until it is placed.
    Live = 0,
    /// In the past.
    Past = 1,
    /// Gone: another program overwrote or removed it on the disk.
    Lost = 2,
    /// No longer held: no rule needed it any more, or somebody removed it for good.
    Gone = 3,
}

impl ContentState {
    pub(crate) fn from_number(n: i64) -> ContentState {
        match n {
            0 => ContentState::Live,
            1 => ContentState::Past,
            3 => ContentState::Gone,
            _ => ContentState::Lost,
        }
    }
}

/// The bytes of one state of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Content {
    /// Its id.
    pub id: ContentId,
    /// BLAKE3.
    pub hash: [u8; 32],
    /// In bytes.
    pub size: i64,
    /// Where it stands in its life.
    pub life: ContentState,
    /// The object on the disk.
    pub object: ObjectId,
    /// The mark by which it was or will be placed.
    pub mark: i64,
}

/// One open row: the present state of a node.
#[derive(Clone, Debug)]
pub struct Row {
    /// The node.
    pub node: NodeId,
    /// The shelf it is stamped with. Ask the top of the chain for the one that counts.
    pub shelf: ShelfId,
    /// None at the top of a shelf.
    pub parent: Option<NodeId>,
    /// See `core::collate`.
    pub key: Arc<str>,
    /// File or folder.
    pub kind: Kind,
    /// The file's own time of modification, in milliseconds.
    pub mtime: i64,
    /// Whether the file is a program.
    pub executable: bool,
    /// The bytes; none for a folder.
    pub content: Option<Content>,
    /// Valid from this number.
    pub since: Moment,
    /// When that was, in milliseconds.
    pub at: i64,
    /// How this state came to be.
    pub how: ChangeKind,
    /// Who made it so.
    pub account: Option<AccountId>,
    /// With which device.
    pub device: Option<DeviceId>,
}

impl Row {
    /// The name.
    pub fn name(&self) -> &str {
        name_in(&self.key)
    }

    /// The word for how this state came to be.
    pub fn how_word(&self) -> &'static str {
        match (self.how, self.executable) {
            (ChangeKind::Marked, true) => "made executable",
            (ChangeKind::Marked, false) => "made not executable",
            (ChangeKind::Moved, _) if self.account.is_none() => "moved on disk",
            (how, _) => how.word(),
        }
    }

    /// The size: of a file, in bytes.
    pub fn size(&self) -> i64 {
        self.content.map_or(0, |c| c.size)
    }

    /// Whether it is a folder.
    pub fn is_folder(&self) -> bool {
        self.kind == Kind::Folder
    }

    /// The tag of its bytes.
    pub fn etag(&self) -> Option<String> {
        self.content.map(|c| yellow_attic_core::conditions::etag(&c.hash))
    }

    /// What conditions of requests ask of it.
    pub fn standing(&self) -> Standing {
        Standing { node: self.node, since: self.since, tag: self.etag(), mtime: self.mtime, at: self.at }
    }
}

/// The name in a sort key.
pub fn name_in(key: &str) -> &str {
    key.rsplit_once('\u{1}').map_or(key, |(_, name)| name)
}

/// A past state of a node.
#[derive(Clone, Debug)]
pub struct PastRow {
    /// What it was.
    pub row: Row,
    /// The number at which it ended.
    pub until: Moment,
    /// When that was.
    pub ended_at: i64,
    /// How it ended.
    pub ended_how: ChangeKind,
    /// Who ended it.
    pub ended_account: Option<AccountId>,
    /// With which device.
    pub ended_device: Option<DeviceId>,
    /// Whether its bytes are still held.
    pub held: bool,
}

/// Where a folder lies.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FolderPlacement {
    /// Where its open row says.
    Placed = 0,
    /// In `past/removed`.
    Removed = 1,
    /// Nowhere: its files are in the past, one by one.
    Apart = 2,
}

/// What is beneath a folder now, and where it lies.
#[derive(Clone, Copy, Debug)]
pub struct Folder {
    /// Where it lies.
    pub lies: FolderPlacement,
    /// The directory on the disk.
    pub object: ObjectId,
    /// Bytes of all files beneath.
    pub bytes: i64,
    /// Files beneath.
    pub files: i64,
    /// Folders beneath.
    pub folders: i64,
    /// Bytes of past states.
    pub past_bytes: i64,
    /// How many past states hold bytes.
    pub past_files: i64,
    /// Of the past bytes, those of things that were removed.
    pub trash_bytes: i64,
    /// Of the past states, those of things that were removed.
    pub trash_files: i64,
    /// The last change beneath, in milliseconds.
    pub changed_at: i64,
}

impl Folder {
    pub(crate) fn new(object: ObjectId, at: i64) -> Folder {
        Folder {
            lies: FolderPlacement::Placed,
            object,
            bytes: 0,
            files: 0,
            folders: 0,
            past_bytes: 0,
            past_files: 0,
            trash_bytes: 0,
            trash_files: 0,
            changed_at: at,
        }
    }
}

/// Home or shared.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, Hash)]
#[serde(rename_all = "lowercase")]
pub enum ShelfKind {
    /// One per account.
    Home,
    /// For several people.
    Shared,
}

/// A shelf, with who may enter.
#[derive(Clone, Debug)]
pub struct Shelf {
    /// Its id.
    pub id: ShelfId,
    /// Its organisation.
    pub org: OrgId,
    /// Home or shared.
    pub kind: ShelfKind,
    /// Its name: an account's sign-in name for a home shelf.
    pub name: String,
    /// Its folder's name on the disk.
    pub disk_name: String,
    /// Who owns it.
    pub owner: Option<AccountId>,
    /// The node at its top.
    pub root: NodeId,
}

/// Where a shelf lies below `shelves/`.
pub(crate) fn shelf_parts(kind: ShelfKind, disk_name: &str) -> [&str; 3] {
    match kind {
        ShelfKind::Home => ["main", "home", disk_name],
        ShelfKind::Shared => ["main", "shared", disk_name],
    }
}

//! What a look at the disk found, and what became of it.

/// So many names of each kind are told; the rest is counted.
pub const NAMES: usize = 200;

/// What is told of things of one kind.
#[derive(Clone, Debug, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Kind {
    /// How many.
    pub count: u64,
    /// Their bytes, all beneath them counted.
    pub bytes: u64,
    /// Some of their paths.
    pub names: Vec<String>,
}

impl Kind {
    pub(crate) fn add(&mut self, path: impl FnOnce() -> String, bytes: i64) {
        self.count += 1;
        self.bytes += u64::try_from(bytes).unwrap_or(0);
        if self.names.len() < NAMES {
            self.names.push(path());
        }
    }
}

/// What was found.
#[derive(Clone, Debug, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Report {
    /// Folders looked into, and what lies in them.
    pub folders: u64,
    /// Files and folders looked at.
    pub entries: u64,
    /// Files whose bytes were read.
    pub hashed: u64,
    /// Files that nobody knew.
    pub new_files: Kind,
    /// Folders that nobody knew.
    pub new_folders: Kind,
    /// Files with other bytes.
    pub changed: Kind,
    /// Files that are other objects with the same bytes, or of which something else was changed.
    pub touched: Kind,
    /// Files and folders that lie elsewhere: from, to.
    pub moved: Kind,
    /// Files and folders that are nowhere.
    pub gone: Kind,
    /// Files with other bytes though nobody has touched them: the disk did that, or somebody who covers his traces.
    pub damaged: Kind,
    /// Those of them that are as they were again.
    pub healed: Kind,
    /// Entries that stay as they are, each with the reason.
    pub left_alone: Kind,
    /// Folders among the homes and the shared shelves that belong to nobody, each with what can be done.
    pub nobodys: Kind,
    /// What could not be read, each with the reason.
    pub unreadable: Kind,
    /// Shelves from which so much is gone that somebody is to say so first.
    pub asks: Vec<Asks>,
    /// What is to be looked at once more: gone for all that is known, or not standing still.
    #[serde(skip)]
    pub(crate) again: Vec<(yellow_attic_core::NodeId, String)>,
    /// What was not so any more when it was to be taken up: the next look finds what it is by then.
    pub not_any_more: u64,
}

/// A shelf from which much is gone.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Asks {
    /// Its name.
    pub shelf: String,
    /// Files that are gone.
    pub gone: i64,
    /// Of how many.
    pub of: i64,
}

impl Report {
    /// How many differences there are.
    pub fn differences(&self) -> u64 {
        [&self.new_files, &self.new_folders, &self.changed, &self.touched, &self.moved, &self.gone]
            .into_iter()
            .map(|kind| kind.count)
            .sum()
    }
}

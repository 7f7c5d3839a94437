//! Uploads in parts, tar streams, archives.

use crate::Problem;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// An upload that arrives in parts (tus 1.0).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Upload {
    /// The end of its address, below `/api/v1/uploads/`.
    pub id: String,
    /// The folder it goes to.
    pub parent: i64,
    /// Its name there.
    pub name: String,
    /// In bytes; what has arrived, while nobody has said how long it is.
    pub size: u64,
    /// Nobody has said yet how long it is.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub open: bool,
    /// Bytes that have arrived.
    pub received: u64,
    /// The file's own time of modification, if it was announced.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub modified: Option<String>,
    /// The BLAKE3 hash that the whole will have, if it was announced: only a file of that hash goes on with it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub blake3: Option<String>,
    /// When it began.
    pub begun: String,
    /// When it is dropped, unless it goes on.
    pub expires: String,
}

/// One's unfinished uploads.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Uploads {
    /// Oldest first.
    pub uploads: Vec<Upload>,
}

/// Another place for an upload whose bytes are all here.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct UploadPlace {
    /// The folder.
    pub parent: i64,
    /// The name.
    pub name: String,
    /// Whether a file of that name gets these bytes as its new state; else it is refused.
    #[serde(default)]
    pub replace: bool,
}

/// What became of one entry of a tar stream.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Fate {
    /// New here.
    Made,
    /// A new state of the file that was there.
    Replaced,
    /// A folder that was there already.
    There,
    /// Not taken: the problem says why.
    Refused,
}

/// One line of the answer to a tar stream: what became of one entry.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TarEntry {
    /// Its path in the stream.
    pub path: String,
    /// What became of it.
    pub fate: Fate,
    /// The file or folder.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub node: Option<i64>,
    /// The ETag of the file's bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub etag: Option<String>,
    /// The moment since which it is as it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub moment: Option<String>,
    /// Why it was refused.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub problem: Option<Box<Problem>>,
}

/// The last line of the answer to a tar stream.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TarSums {
    /// Files and folders made.
    pub made: u64,
    /// Files that got a new state.
    pub replaced: u64,
    /// Folders that were there already.
    pub there: u64,
    /// Entries refused.
    pub refused: u64,
    /// Bytes of the files taken.
    pub bytes: u64,
    /// Whether the stream came to its end; if not, `problem` says why.
    pub whole: bool,
}

/// A line of the answer to a tar stream.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum TarLine {
    /// What became of one entry.
    Entry(TarEntry),
    /// The sums; the last line.
    End {
        /// The sums.
        sums: TarSums,
        /// Why the stream did not come to its end.
        #[serde(skip_serializing_if = "Option::is_none")]
        problem: Option<Box<Problem>>,
    },
}

/// What a tar stream does where a file stands already.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct TarQuery {
    /// `replace` (the usual): it gets a new state. `refuse`: it stays as it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub taken: Option<String>,
}

/// Several files and folders to fetch as one archive.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewArchive {
    /// The files and folders, in the order in which they come.
    pub nodes: Vec<i64>,
    /// `zip` or `tar`.
    pub format: String,
    /// As they were at this moment or time; without it, as they are now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
}

/// An archive that can be fetched, by ranges too, for a day.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Archive {
    /// Where, without the service's address.
    pub address: String,
    /// A name for it.
    pub name: String,
    /// How long it is.
    pub bytes: u64,
    /// How many files are in it.
    pub files: u64,
    /// Files that are not in it, since their bytes were overwritten by another program.
    pub left_out: Vec<String>,
}

/// Which archive to fetch.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct ArchiveQuery {
    /// `zip` (the usual) or `tar`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub format: Option<String>,
    /// As the folder was at this moment or time.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
}

/// Many states of files.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct WantedStates {
    /// At most 1,000 of them.
    pub states: Vec<WantedState>,
}

/// A state of a file.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct WantedState {
    /// The file.
    pub node: i64,
    /// The moment: its state then.
    pub moment: String,
}

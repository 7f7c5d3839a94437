//! What a pair is doing, for whoever looks: one file, replaced as a whole.

use serde::{Deserialize, Serialize};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

/// What a pair is doing.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Status {
    /// The pair.
    pub id: String,
    /// The folder here.
    pub local: String,
    /// The folder on the service.
    pub remote: String,
    /// `in_step`, `working`, `waiting`, `trouble`, `paused` or `stopped`.
    pub state: String,
    /// What stands in the way, and what to do about it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
    /// Whether somebody has to do something about it: it is not over by itself.
    #[serde(default)]
    pub needs: bool,
    /// Why nothing is carried for now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rests: Option<String>,
    /// Files and folders that are the same on both sides.
    pub same: u64,
    /// Things to do that are known.
    pub to_do: u64,
    /// Their bytes that have to be sent or fetched, as far as they are known.
    #[serde(default)]
    pub to_move: u64,
    /// What is under way.
    pub doing: Vec<Doing>,
    /// Bytes sent and fetched since it began to run.
    pub moved: u64,
    /// Bytes sent and fetched each second, lately.
    #[serde(default)]
    pub rate: u64,
    /// Copies that keep what two changed at once: they stay until somebody settles them.
    pub copies: Vec<String>,
    /// Files that the pair leaves out because it was told to.
    #[serde(default)]
    pub out: u64,
    /// What is not kept the same, and why, besides that.
    pub left: Vec<Left>,
    /// What was done last, the newest first.
    pub lately: Vec<Deed>,
    /// When all was the same last.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub in_step_at: Option<String>,
    /// When this was written, RFC 3339.
    pub at: String,
    /// The process that writes it.
    pub process: u32,
}

/// Something that is under way.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Doing {
    /// What, as people read it.
    pub what: String,
    /// To which file or folder, below the pair.
    pub path: String,
    /// Bytes that are where they belong.
    pub done: u64,
    /// Of so many; 0: it carries none.
    pub of: u64,
}

/// Something that is not kept the same.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Left {
    /// Where it is, below the pair.
    pub path: String,
    /// Why, and what to do about it.
    pub why: String,
}

/// Something that was done.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Deed {
    /// When, RFC 3339.
    pub at: String,
    /// What, as people read it.
    pub what: String,
    /// To which file or folder, below the pair.
    pub path: String,
}

/// The file of a pair's status.
pub fn file_of(folder: &Path, id: &str) -> PathBuf {
    folder.join(format!("{id}.status.json"))
}

impl Status {
    /// Writes it, so that a reader sees the one before or this one.
    pub fn write(&self, folder: &Path) -> std::io::Result<()> {
        let path = file_of(folder, &self.id);
        let new = path.with_extension("new");
        let mut file =
            std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&new)?;
        file.write_all(&serde_json::to_vec(self).map_err(std::io::Error::other)?)?;
        std::fs::rename(new, path)
    }

    /// Reads it; none if it was never written, or if a power cut has left nothing of it: it is written anew once the pair runs.
    pub fn read(folder: &Path, id: &str) -> std::io::Result<Option<Status>> {
        match std::fs::read(file_of(folder, id)) {
            Ok(text) => Ok(serde_json::from_slice(&text).ok()),
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(None),
            Err(e) => Err(e),
        }
    }

    /// In how many seconds all that is known to be left will have been moved, if it goes on like this.
    pub fn seconds_left(&self) -> Option<u64> {
        (self.to_move > 0 && self.rate > 0).then(|| self.to_move.div_ceil(self.rate))
    }

    /// Whether the process that wrote it still runs.
    pub fn is_live(&self) -> bool {
        self.process != 0 && Path::new(&format!("/proc/{}", self.process)).exists()
    }
}

/// A way below the top, as people read it.
pub(crate) fn shown(way: &[Vec<u8>]) -> String {
    way.iter().map(|part| String::from_utf8_lossy(part).into_owned()).collect::<Vec<_>>().join("/")
}

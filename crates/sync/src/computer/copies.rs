//! What two changed at once is kept twice: a file, and a copy of it that is called after the computer and the time. It stays so
//! until somebody settles it.

use super::{Computer, Done, Refused};
use crate::pairs::state::About;
use serde::{Deserialize, Serialize};
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use yellow_attic_core::merge::names::{original_of, plain_beside};

/// A file that is kept twice.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Twice {
    /// The pair.
    pub pair: String,
    /// The copy, from the pair's folder.
    pub copy: Side,
    /// The file that it is a copy of, if it is still there under that name.
    pub original: Option<Side>,
}

/// One of both.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Side {
    /// From the pair's folder.
    pub path: String,
    /// On this computer.
    pub local: PathBuf,
    /// In bytes.
    pub size: u64,
    /// When its bytes were changed last, RFC 3339.
    pub modified: String,
}

/// Which of both stays.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Keep {
    /// The copy: it takes the file's place, whose state before stays in its history.
    Copy,
    /// The file: the copy is removed, and stays in the trash.
    Original,
    /// Both: the copy gets a plain name.
    Both,
}

fn side(about: &About, path: &str) -> Option<Side> {
    let local = about.local.join(path);
    let facts = fs::symlink_metadata(&local).ok().filter(fs::Metadata::is_file)?;
    let modified = jiff::Timestamp::from_second(facts.mtime()).ok()?.to_string();
    Some(Side { path: path.to_string(), local, size: facts.len(), modified })
}

fn twice(about: &About, path: &str) -> Option<Twice> {
    let copy = side(about, path)?;
    let (folder, name) = path.rsplit_once('/').map_or((None, path), |(folder, name)| (Some(folder), name));
    let original = original_of(name).map(|name| match folder {
        Some(folder) => format!("{folder}/{name}"),
        None => name,
    });
    Some(Twice { pair: about.id.clone(), copy, original: original.and_then(|path| side(about, &path)) })
}

impl Computer {
    /// All that is kept twice here.
    pub fn copies(&self, pairs: &[About]) -> Done<Vec<Twice>> {
        let mut found = Vec::new();
        for about in pairs {
            let status = self.status(about)?;
            found.extend(status.copies.iter().filter_map(|path| twice(about, path)));
        }
        Ok(found)
    }

    /// Settles one. What becomes of it is carried to the service like everything that is done here.
    pub fn settle(&self, twice: &Twice, keep: Keep) -> Done<PathBuf> {
        let (copy, original) = (&twice.copy.local, twice.original.as_ref());
        let gone = || {
            let says = "the file that it is a copy of is not there any more under its name";
            Refused::new("original_gone", says, "Keep both, or remove the copy yourself.")
        };
        match keep {
            Keep::Copy => {
                let original = &original.ok_or_else(gone)?.local;
                fs::rename(copy, original)?;
                Ok(original.clone())
            }
            Keep::Original => {
                let original = original.ok_or_else(gone)?;
                fs::remove_file(copy)?;
                Ok(original.local.clone())
            }
            Keep::Both => {
                let name = copy.file_name().unwrap_or_default().to_string_lossy().into_owned();
                let folder = copy.parent().unwrap_or(Path::new("/"));
                for number in 2.. {
                    let Some(plain) = plain_beside(&name, number) else { break };
                    let plain = folder.join(plain);
                    match rename_to_nothing(copy, &plain) {
                        Ok(()) => return Ok(plain),
                        Err(e) if e.kind() == std::io::ErrorKind::AlreadyExists => {}
                        Err(e) => return Err(e.into()),
                    }
                }
                Err(Refused::new("no_copy", "this is no copy that keeps what two changed at once", ""))
            }
        }
    }
}

/// Renames to where nothing may stand.
fn rename_to_nothing(from: &Path, to: &Path) -> std::io::Result<()> {
    use rustix::fs::{CWD, RenameFlags, renameat_with};
    Ok(renameat_with(CWD, from, CWD, to, RenameFlags::NOREPLACE)?)
}

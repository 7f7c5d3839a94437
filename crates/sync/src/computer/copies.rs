//! What two changed at once is kept twice: a file, and a copy of it that is called after the computer and the time. It stays so
//! until somebody settles it.

use super::{Computer, Done, Refused};
use crate::pairs::ground::OWN;
use crate::pairs::state::About;
use rustix::fs::RenameFlags;
use serde::{Deserialize, Serialize};
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use yellow_attic_core::merge::names::{original_of, plain_beside};

/// What is just being sent is waited for so long.
const SENDING: Duration = Duration::from_secs(6);

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

    /// Settles one. What becomes of it is carried to the service like everything that is done here; and nothing goes here that
    /// the service does not have.
    pub async fn settle(&self, about: &About, twice: &Twice, keep: Keep) -> Done<PathBuf> {
        let (copy, original) = (&twice.copy.local, twice.original.as_ref());
        let gone = || {
            let says = "the file that it is a copy of is not there any more under its name";
            Refused::new("original_gone", says, "Keep both, or remove the copy yourself.")
        };
        match keep {
            Keep::Copy => {
                let original = original.ok_or_else(gone)?;
                self.is_sent(about, original).await?;
                give_bytes(about, twice, &original.local)?;
                Ok(original.local.clone())
            }
            Keep::Original => {
                let original = original.ok_or_else(gone)?;
                self.is_sent(about, &twice.copy).await?;
                fs::remove_file(copy)?;
                Ok(original.local.clone())
            }
            Keep::Both => {
                let name = copy.file_name().unwrap_or_default().to_string_lossy().into_owned();
                let folder = copy.parent().unwrap_or(Path::new("/"));
                for number in 2..10_000 {
                    let Some(plain) = plain_beside(&name, number) else { break };
                    let plain = folder.join(plain);
                    match rename_with(copy, &plain, RenameFlags::NOREPLACE) {
                        Ok(()) => return Ok(plain),
                        Err(e) if e.kind() == std::io::ErrorKind::AlreadyExists => {}
                        Err(e) => return Err(e.into()),
                    }
                }
                Err(Refused::new("no_copy", "this is no copy that keeps what two changed at once", ""))
            }
        }
    }

    /// Whether the service has a file as it lies here: else it would be gone for good. What is just being sent is waited for.
    async fn is_sent(&self, about: &About, side: &Side) -> Done<()> {
        let since = Instant::now();
        loop {
            match self.is_known_there(about, side).await {
                Err(refused) if refused.code == "not_sent" && since.elapsed() < SENDING => {
                    tokio::time::sleep(Duration::from_millis(500)).await;
                }
                told => return told,
            }
        }
    }

    async fn is_known_there(&self, about: &About, side: &Side) -> Done<()> {
        let facts = fs::symlink_metadata(&side.local)?;
        let modified = facts.mtime() * 1_000_000_000 + facts.mtime_nsec();
        let way: Vec<String> = side.path.split('/').map(String::from).collect();
        let known = self.known(about).await?;
        let sent = known.as_ref().and_then(|known| {
            let item = known.at(&way)?;
            let facets = known.facets(item)?;
            let (here, there) = (facets.here.as_ref()?, facets.there.as_ref()?);
            let stat = here.stat.filter(|stat| stat.size == facts.len() && stat.modified == modified)?;
            (stat.size == 0 || here.hash.is_some() && here.hash == there.bytes.map(|(hash, _)| hash))
                .then_some(())
        });
        sent.ok_or_else(|| {
            let says =
                format!("\"{}\" has not been sent to the service yet: it would be gone for good", side.path);
            Refused::new("not_sent", says, "Wait until the pair is the same, or keep both.")
        })
    }
}

/// Gives a file the copy's bytes, as programs save: it stays the same file, with its history. The copy goes when they are on
/// the disk.
fn give_bytes(about: &About, twice: &Twice, original: &Path) -> Done<()> {
    let copy = &twice.copy.local;
    let look = |path: &Path| {
        let facts = fs::symlink_metadata(path)?;
        Ok::<_, std::io::Error>((facts.ino(), facts.len(), facts.mtime(), facts.mtime_nsec()))
    };
    let (copied, displaced) = (look(copy)?, look(original)?);
    // What a stop leaves of it is swept away.
    let fresh = about.local.join(OWN).join(format!("new-{}", crate::pairs::name_of(&twice.copy.path)));
    let written = || {
        fs::copy(copy, &fresh)?;
        let file = fs::File::options().write(true).open(&fresh)?;
        file.set_times(fs::FileTimes::new().set_modified(fs::metadata(copy)?.modified()?))?;
        file.sync_all()?;
        rename_with(&fresh, original, RenameFlags::EXCHANGE)
    };
    if let Err(e) = written() {
        let _ = fs::remove_file(&fresh);
        return Err(e.into());
    }
    if look(&fresh)? != displaced {
        // Somebody wrote to it just now: it goes back.
        rename_with(&fresh, original, RenameFlags::EXCHANGE)?;
        let _ = fs::remove_file(&fresh);
        let says = format!("{} was written to at this moment", original.display());
        return Err(Refused::new("changed_meanwhile", says, "Look at both once more."));
    }
    fs::remove_file(&fresh)?;
    // A copy that was written to meanwhile stays.
    if look(copy)? == copied {
        fs::remove_file(copy)?;
    }
    Ok(())
}

fn rename_with(from: &Path, to: &Path, how: RenameFlags) -> std::io::Result<()> {
    Ok(rustix::fs::renameat_with(rustix::fs::CWD, from, rustix::fs::CWD, to, how)?)
}

//! `yattic get`

use crate::connection;
use crate::output::{Done, Failure, Output, past_moment, read_ms};
use crate::progress;
use crate::transfer::{Goes, about, local, tell, unless_stopped};
use std::collections::HashSet;
use std::os::unix::fs::FileTypeExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use yellow_attic_client::api;
use yellow_attic_core::ShelfPath;
use yellow_attic_sync::Progress;
use yellow_attic_sync::down::{Down, is_same};
use yellow_attic_sync::up::explain;

/// Fetch files and folders from a shelf.
///
/// A last slash in the target (or --into, or several things) puts them into that folder under their own names; without
/// one the target is the new name itself. Without a target they go into the folder where you are. The same command again
/// goes on where it was broken off.
///
/// Each file appears under its name when it is whole and its hash is right. A file that is here already with the same
/// bytes is left as it is; with other bytes, it is replaced only by --replace, and then only what differs is fetched.
#[derive(clap::Args)]
#[command(
    after_help = "Examples:\n  yattic get home:/Letters           to ./Letters\n  yattic get home:/Letters archive   to ./archive\n  yattic get home:/a home:/b dest/   into dest\n  yattic get home:/a.txt -           to standard output"
)]
pub struct Get {
    /// What to fetch, as shelf:/path; at the end, where to: a folder with a last slash, a new name, or - for standard output.
    #[arg(required = true, value_name = "PATH")]
    paths: Vec<String>,
    /// Where to, if it does not stand at the end.
    #[arg(long, short, value_name = "LOCAL")]
    to: Option<String>,
    /// Into the folder that is named, though it has no last slash.
    #[arg(long)]
    into: bool,
    /// Replace files that are here with other bytes.
    #[arg(long)]
    replace: bool,
    /// As it was at this moment or time.
    #[arg(long, value_name = "WHEN")]
    at: Option<String>,
    /// With --replace: leave out files that are here with the same bytes (compared by hash).
    #[arg(long)]
    skip_same: bool,
}

/// One thing to fetch, looked at.
struct Wanted {
    node: api::Node,
    local: PathBuf,
    /// A device or a pipe: written into.
    pours: bool,
}

impl Get {
    pub async fn run(mut self, output: Output) -> Done {
        let at = self.at.as_deref().map(past_moment).transpose()?;
        // Only places on shelves are fetched: what is none at the end is where they go.
        let last = self.paths.last().map(String::as_str).unwrap_or_default();
        let to = match (self.to.take(), self.paths.len() > 1 && ShelfPath::parse(last).is_err()) {
            (Some(_), true) => {
                return Err(Failure::usage(
                    format!("where to is said twice: --to, and {last}"),
                    "Say it once.",
                ));
            }
            (Some(to), false) => to,
            (None, true) => self.paths.pop().unwrap_or_default(),
            (None, false) => ".".into(),
        };
        let client = connection::client()?;
        if to == "-" {
            for path in &self.paths {
                super::cat::copy_out(&client, path, at.as_deref()).await?;
            }
            return Ok(());
        }
        let progress = Arc::new(Progress::default());
        let down = Down {
            client: client.clone(),
            progress: progress.clone(),
            read_time: read_ms,
            at: at.clone(),
            skip_same: self.skip_same,
            replace: self.replace,
        };
        // All is looked at before anything is fetched.
        let goes = Goes::read(&to, self.paths.len() > 1, self.into);
        let mut wanted: Vec<Wanted> = Vec::new();
        let mut places = HashSet::new();
        for path in &self.paths {
            let facts = connection::place(&client, path, at.as_deref()).await?;
            let name =
                if facts.node.parent.is_none() { facts.shelf.clone() } else { facts.node.name.clone() };
            let local = local(&goes, &name);
            if !places.insert(local.clone()) {
                return Err(Failure::usage(
                    format!("two things would go to {}", local.display()),
                    "Fetch them one after the other, under names of their own.",
                ));
            }
            let pours = self.check(&facts.node, &local, &to).await?;
            wanted.push(Wanted { node: facts.node, local, pours });
        }
        if let Goes::Into(folder) = &goes {
            std::fs::create_dir_all(folder).map_err(|e| Failure::failed(format!("{folder}: {e}"), ""))?;
        }
        let shown = progress::show(output, &progress);
        unless_stopped(&progress, "fetched", fetch(&down, &wanted)).await?;
        drop(shown);
        tell(output, &progress, "fetched", serde_json::json!({}))
    }

    /// Whether something may come to a local place. True: it is poured into what is there.
    async fn check(&self, node: &api::Node, local: &Path, to: &str) -> Result<bool, Failure> {
        let shown = local.display();
        let there = match std::fs::symlink_metadata(local) {
            Ok(there) => there.file_type(),
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(false),
            Err(e) => return Err(Failure::failed(format!("{shown}: {e}"), "")),
        };
        let folder = node.kind == api::Kind::Folder;
        if there.is_symlink() {
            return Err(Failure::usage(
                format!("{shown} is a link, which would be replaced or followed"),
                "Name what it leads to, or another place.",
            ));
        }
        match (folder, there.is_dir()) {
            (true, true) => return Ok(false),
            (false, true) => {
                return Err(Failure::usage(
                    format!("{shown} is a folder"),
                    format!("To fetch it into that folder, write a slash at the end: {to}/"),
                ));
            }
            (true, false) => {
                return Err(Failure::usage(
                    format!("{shown} is a file, and a folder is to go there"),
                    "Choose another name.",
                ));
            }
            (false, false) => {}
        }
        if there.is_char_device() || there.is_fifo() {
            return Ok(true);
        }
        if !there.is_file() {
            return Err(Failure::usage(format!("{shown} is no plain file"), "Choose another name."));
        }
        match self.replace || is_same(node, local).await {
            true => Ok(false),
            false => Err(Failure::failed(
                format!("{shown} is here already, with other bytes"),
                "Give --replace to replace it, or choose another name.",
            )),
        }
    }
}

/// Fetches what was looked at. What cannot be fetched is told, and the others go on; of a single thing the reason is the
/// answer.
async fn fetch(down: &Down, wanted: &[Wanted]) -> Result<(), Failure> {
    for one in wanted {
        let before = down.progress.sum();
        let folder = one.node.kind == api::Kind::Folder;
        let fetched = match (one.pours, folder) {
            (true, _) => down.pour_into(&one.node, &one.local).await,
            (_, true) => down.tree(&one.node, &one.local).await,
            (_, false) => down.file(&one.node, &one.local).await,
        };
        let Err(error) = fetched else { continue };
        let shown = one.local.display().to_string();
        if wanted.len() == 1 && down.progress.sum().done == 0 {
            return Err(about(&shown, error));
        }
        match !folder && down.progress.sum().given > before.given {
            true => down.progress.not(shown, "failed", explain(&error)),
            false => down.progress.not_taken(shown, "failed", explain(&error)),
        }
    }
    Ok(())
}

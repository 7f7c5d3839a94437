//! `yattic put`

use crate::connection;
use crate::output::{Done, Failure, Output, show_ms};
use crate::progress;
use crate::transfer::{Goes, about, remote, tell, unless_stopped};
use futures_util::StreamExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use yellow_attic_client::{Body, Client, When, api};
use yellow_attic_sync::Progress;
use yellow_attic_sync::up::{Up, explain};

/// Send files and folders to a shelf.
///
/// A last slash in the target (or --into, or several things) puts them into that folder under their own names; without
/// one the target is the new name itself. What is there already does not change that, so the same command again goes
/// on where it was broken off.
///
/// A file that is there already gets a new state; the old one stays in its history. Folders
/// are sent with all in them: small files together in one stream, large ones in parts; of a large file that is
/// there in another state only what differs. After a
/// broken line it goes on by itself. The answer comes when everything is safe on the service's disk.
#[derive(clap::Args)]
#[command(
    after_help = "Examples:\n  yattic put letters home:/        the folder letters, to home:/letters\n  yattic put a.txt home:/b.txt     one file under another name\n  yattic put *.jpg home:/Pictures/ into a folder\n  date | yattic put - home:/now    what a command prints"
)]
pub struct Put {
    /// What to send; - is standard input.
    #[arg(required = true, value_name = "LOCAL")]
    local: Vec<PathBuf>,
    /// Where to, as shelf:/path: with a last slash into that folder, else the new name.
    to: String,
    /// Into the folder that is named, though it has no last slash.
    #[arg(long)]
    into: bool,
    /// Leave out files that are there already with the same bytes (compared by hash).
    #[arg(long)]
    skip_same: bool,
}

/// One thing to send, looked at.
struct Given {
    local: PathBuf,
    parent: i64,
    name: String,
    folder: bool,
}

impl Put {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let progress = Arc::new(Progress::default());
        // All is looked at before anything is sent.
        let mut given = Vec::new();
        let goes = Goes::read(&self.to, self.local.len() > 1, self.into);
        for local in &self.local {
            given.push(self.look(&client, &goes, local).await?);
        }
        let up = Up {
            client: client.clone(),
            progress: progress.clone(),
            show_time: show_ms,
            skip_same: self.skip_same,
        };
        let shown = progress::show(output, &progress);
        let made = unless_stopped(&progress, "sent", send(&up, &given)).await?;
        drop(shown);
        tell(output, &progress, "sent", serde_json::json!({ "made": made }))
    }

    async fn look(&self, client: &Client, goes: &Goes, local: &Path) -> Result<Given, Failure> {
        let shown = local.display();
        if local.as_os_str() == "-" {
            let Goes::As(_) = goes else {
                return Err(Failure::usage(
                    "standard input has no name",
                    "Give it one, without a last slash: home:/folder/name",
                ));
            };
            let (parent, name) = remote(client, goes, "-", false).await?;
            return Ok(Given { local: local.into(), parent, name, folder: false });
        }
        let facts = std::fs::metadata(local).map_err(|e| Failure::failed(format!("{shown}: {e}"), ""))?;
        if !facts.is_dir() && !facts.is_file() {
            return Err(Failure::usage(
                format!("{shown} is neither a file nor a folder"),
                format!("What it gives is sent from standard input: yattic put - {} < {shown}", self.to),
            ));
        }
        let full = std::path::absolute(local)?;
        let usual = full.file_name().and_then(|n| n.to_str()).map(str::to_string).ok_or_else(|| {
            Failure::failed(format!("{shown} has no name that is UTF-8"), "Name it in the target.")
        })?;
        let (parent, name) = remote(client, goes, &usual, facts.is_dir()).await?;
        Ok(Given { local: local.into(), parent, name, folder: facts.is_dir() })
    }
}

/// Sends what was looked at. What cannot be sent is told, and the others go on; of a single thing the reason is the answer.
async fn send(up: &Up, given: &[Given]) -> Result<Vec<api::Node>, Failure> {
    let mut made = Vec::new();
    for one in given {
        let before = up.progress.sum();
        let sent = match (one.local.as_os_str() == "-", one.folder) {
            (true, _) => input(up, one).await,
            (_, true) => up.tree(&one.local, one.parent, &one.name).await,
            (_, false) => up.file(&one.local, one.parent, &one.name).await,
        };
        match sent {
            Ok(node) => made.push(node),
            Err(error) if given.len() == 1 && up.progress.sum().done == 0 => {
                return Err(about(&one.local.display().to_string(), error));
            }
            Err(error) => {
                // A file was counted as given already.
                let counted = up.progress.sum().given > before.given;
                let (path, why) = (one.local.display().to_string(), explain(&error));
                match counted && !one.folder {
                    true => up.progress.not(path, "failed", why),
                    false => up.progress.not_taken(path, "failed", why),
                }
            }
        }
    }
    Ok(made)
}

async fn input(up: &Up, one: &Given) -> Result<api::Node, yellow_attic_client::Error> {
    up.progress.found(0);
    let progress = up.progress.clone();
    let stream = tokio_util::io::ReaderStream::new(tokio::io::stdin()).inspect(move |piece| {
        if let Ok(piece) = piece {
            progress.more(piece.len() as u64);
            progress.moved(piece.len() as u64);
        }
    });
    let body = Body::stream(None, stream);
    let node = up.client.put(one.parent, &one.name, None, &When::default(), body).await?;
    up.progress.done();
    Ok(node)
}

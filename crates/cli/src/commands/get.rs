//! `yattic get`

use crate::connection;
use crate::output::{Done, Failure, Output, count, moment, read_ms, size};
use crate::progress;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use yellow_attic_client::api;
use yellow_attic_sync::Progress;
use yellow_attic_sync::down::Down;

/// Fetch files and folders from a shelf.
///
/// Each file appears under its name when it is whole and its hash is right. A file that is
/// there already is replaced. After a broken line it goes on by itself; what had arrived when it was
/// given up is used by the same command given again. Of a large file that is here already in another state
/// only what differs is fetched.
#[derive(clap::Args)]
pub struct Get {
    /// What to fetch, as shelf:/path
    #[arg(required = true, value_name = "PATH")]
    paths: Vec<String>,
    /// Where to: a folder, or (for a single thing) its new name; - is standard output.
    #[arg(long, short, value_name = "LOCAL", default_value = ".")]
    to: PathBuf,
    /// As it was at this moment or time.
    #[arg(long, value_name = "WHEN")]
    at: Option<String>,
    /// Leave out files that are here already with the same bytes (compared by hash).
    #[arg(long)]
    skip_same: bool,
}

impl Get {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let at = self.at.as_deref().map(moment).transpose()?;
        if self.to.as_os_str() == "-" {
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
        };
        let shown = progress::show(output, &progress);
        for path in &self.paths {
            let facts = connection::place(&client, path, at.as_deref()).await?;
            let name =
                if facts.node.parent.is_none() { facts.shelf.clone() } else { facts.node.name.clone() };
            let local = if self.to.is_dir() { self.to.join(&name) } else { self.to.clone() };
            if self.paths.len() > 1 && !self.to.is_dir() {
                return Err(Failure::usage(
                    format!("{} is no folder", self.to.display()),
                    "Several things need a folder to go to.",
                ));
            }
            if facts.node.kind == api::Kind::Folder {
                down.tree(&facts.node, &local).await?;
            } else {
                down.file(&facts.node, &local).await?;
            }
        }
        drop(shown);
        let exceptions = progress.exceptions();
        let (files, bytes) = (progress.files_done.load(Ordering::Relaxed), progress.bytes_moved());
        let same = progress.files_same.load(Ordering::Relaxed);
        if output.json {
            output.object(
                &serde_json::json!({ "files": files, "same": same, "bytes": bytes, "not": exceptions }),
            )?;
        } else {
            for fate in &exceptions {
                println!("{}: {}: {}", fate.fate, fate.path, fate.reason.as_deref().unwrap_or_default());
            }
            let left = if same > 0 { format!(" {same} were here already.") } else { String::new() };
            output.say(format!("{} fetched, {}.{left}", count(files, "file"), size(bytes as i64)));
        }
        if !exceptions.is_empty() {
            return Err(Failure::partly(format!("{} were not fetched", exceptions.len())));
        }
        Ok(())
    }
}

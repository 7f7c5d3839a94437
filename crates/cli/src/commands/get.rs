//! `yattic get`

use crate::connection;
use crate::output::{self, Done, Failure, Output, count, moment, read_ms, size};
use crate::progress;
use std::path::PathBuf;
use std::sync::Arc;
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
        let (exceptions, sum, bytes) = (progress.exceptions(), progress.sum(), progress.bytes_moved());
        if output.json {
            output.object(&serde_json::json!({
                "given": sum.given, "done": sum.done, "same": sum.same, "skipped": sum.skipped,
                "failed": sum.failed, "bytes": bytes, "not": exceptions,
            }))?;
        } else {
            for fate in &exceptions {
                println!("{}: {}: {}", fate.fate, fate.path, fate.reason.as_deref().unwrap_or_default());
            }
            let left = if sum.same > 0 { format!(" {} were here already.", sum.same) } else { String::new() };
            output.say(format!("{} fetched, {}.{left}", count(sum.done as i64, "file"), size(bytes as i64)));
        }
        output::settle(&sum, "fetched")
    }
}

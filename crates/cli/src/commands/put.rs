//! `yattic put`

use crate::connection;
use crate::output::{self, Done, Failure, Output, count, show_ms, size};
use crate::progress;
use std::path::PathBuf;
use std::sync::Arc;
use yellow_attic_client::{Body, When};
use yellow_attic_sync::Progress;
use yellow_attic_sync::up::Up;

/// Send files and folders to a shelf.
///
/// A file that is there already gets a new state; the old one stays in its history. Folders
/// are sent with all in them: small files together in one stream, large ones in parts; of a large file that is
/// there in another state only what differs. After a
/// broken line it goes on by itself, and so does the same command given again. The answer comes
/// when everything is safe on the service's disk.
#[derive(clap::Args)]
pub struct Put {
    /// What to send; - is standard input.
    #[arg(required = true, value_name = "LOCAL")]
    local: Vec<PathBuf>,
    /// Where to, as shelf:/path: a folder, or (for a single file) its new name.
    to: String,
    /// Leave out files that are there already with the same bytes (compared by hash).
    #[arg(long)]
    skip_same: bool,
}

impl Put {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let progress = Arc::new(Progress::default());
        let up = Up {
            client: client.clone(),
            progress: progress.clone(),
            show_time: show_ms,
            skip_same: self.skip_same,
        };
        let mut made = Vec::new();
        let shown = progress::show(output, &progress);
        for local in &self.local {
            if local.as_os_str() == "-" {
                let (folder, name) = connection::split(&self.to)?;
                let Some(name) = name.filter(|_| !self.to.ends_with('/')) else {
                    return Err(Failure::usage(
                        "standard input has no name",
                        "Give it one: home:/folder/name",
                    ));
                };
                let folder = connection::place(&client, &folder, None).await?;
                let body = Body::stream(None, tokio_util::io::ReaderStream::new(tokio::io::stdin()));
                made.push(client.put(folder.node.id, &name, None, &When::default(), body).await?);
                progress.found(0);
                progress.done();
                continue;
            }
            let facts = std::fs::metadata(local)
                .map_err(|e| Failure::failed(format!("{}: {e}", local.display()), ""))?;
            let full = std::path::absolute(local)?;
            let usual = full.file_name().and_then(|n| n.to_str()).map(str::to_string).ok_or_else(|| {
                Failure::failed(
                    format!("{} has no name that is UTF-8", local.display()),
                    "Name it in the target.",
                )
            })?;
            let (parent, name) = if self.local.len() == 1 {
                connection::target(&client, &self.to, &usual).await?
            } else {
                let folder = connection::place(&client, &self.to, None).await?;
                (folder.node.id, usual)
            };
            if facts.is_dir() {
                made.push(up.tree(local, parent, &name).await?);
            } else {
                made.push(up.file(local, parent, &name).await?);
            }
        }
        drop(shown);
        let (exceptions, sum, bytes) = (progress.exceptions(), progress.sum(), progress.bytes_moved());
        if output.json {
            output.object(&serde_json::json!({
                "made": made, "given": sum.given, "done": sum.done, "same": sum.same, "skipped": sum.skipped,
                "failed": sum.failed, "bytes": bytes, "not": exceptions,
            }))?;
        } else {
            for fate in &exceptions {
                println!("{}: {}: {}", fate.fate, fate.path, fate.reason.as_deref().unwrap_or_default());
            }
            let left =
                if sum.same > 0 { format!(" {} were there already.", sum.same) } else { String::new() };
            output.say(format!("{} sent, {}.{left}", count(sum.done as i64, "file"), size(bytes as i64)));
        }
        output::settle(&sum, "sent")
    }
}

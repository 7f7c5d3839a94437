//! `yattic info`

use crate::connection;
use crate::output::{Done, Output, count, past_moment, size, table, time};
use yellow_attic_client::api;

/// Show the facts of a file or folder.
#[derive(clap::Args)]
pub struct Info {
    /// Which, as shelf:/path
    path: String,
    /// As it was at this moment or time.
    #[arg(long, value_name = "WHEN")]
    at: Option<String>,
}

impl Info {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let at = self.at.as_deref().map(past_moment).transpose()?;
        let facts = connection::place(&client, &self.path, at.as_deref()).await?;
        if output.object(&facts)? {
            return Ok(());
        }
        let node = &facts.node;
        let mut rows = vec![
            ("place", facts.path.clone()),
            ("kind", if node.kind == api::Kind::Folder { "folder" } else { "file" }.to_string()),
        ];
        match &node.sums {
            Some(sums) => {
                rows.push((
                    "holds",
                    format!("{}, {}", count(sums.files, "file"), count(sums.folders, "folder")),
                ));
                rows.push(("size", format!("{} ({} bytes)", size(sums.bytes), sums.bytes)));
                rows.push((
                    "history",
                    format!("{} ({} bytes)", size(sums.history_bytes), sums.history_bytes),
                ));
            }
            None if node.kind == api::Kind::File => {
                rows.push(("size", format!("{} ({} bytes)", size(node.size), node.size)));
                rows.push(("modified", time(&node.modified)));
            }
            None => {}
        }
        rows.push(("changed", time(&node.changed)));
        if let Some(by) = &node.by {
            rows.push(("by", by.clone()));
        }
        if let Some(lock) = &node.locked {
            let by = if lock.mine { "you" } else { &lock.by };
            let program = if lock.program { ", by a program" } else { "" };
            rows.push(("locked", format!("by {by} until {}{program}", time(&lock.until))));
        }
        rows.push(("you may", facts.level.clone()));
        rows.push(("moment", node.moment.clone()));
        if let Some(hash) = &node.blake3 {
            rows.push(("BLAKE3", hash.clone()));
        }
        let rows: Vec<_> = rows.into_iter().map(|(k, v)| vec![k.to_string(), v]).collect();
        table(&rows, &[]);
        Ok(())
    }
}

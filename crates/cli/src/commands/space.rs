//! `yattic space`

use crate::connection;
use crate::output::{Done, Output, count, size, table, time};
use yellow_attic_client::api;

/// Show where the space went: live files, versions, trash, snapshots.
///
/// Without a path: the shelves that you own; for administrators all of them, and the disk. With one: a
/// folder and what is in it, largest first.
#[derive(clap::Args)]
pub struct Space {
    /// A folder, as shelf:/path
    path: Option<String>,
    /// The largest files and the folders that grew most in thirty days as well.
    #[arg(long, conflicts_with = "path")]
    largest: bool,
}

fn cells(name: String, held: &api::Held) -> Vec<String> {
    let parts = [held.live, held.versions, held.trash, held.only_snapshots, held.all];
    std::iter::once(name).chain(parts.map(size)).collect()
}

impl Space {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let head =
            ["", "live", "versions", "trash", "only by snapshots", "in all"].map(String::from).to_vec();
        if let Some(path) = &self.path {
            let node = client.place(&connection::normalised(path)?, None).await?.node.id;
            let found = client.folder_space(node).await?;
            if output.object(&found)? {
                return Ok(());
            }
            let mut rows = vec![head[..4].iter().chain(&head[5..]).cloned().collect::<Vec<_>>()];
            let cells = |name: String, h: &api::Held| {
                let parts = [h.live, h.versions, h.trash, h.all];
                std::iter::once(name).chain(parts.map(size)).collect::<Vec<_>>()
            };
            rows.push(cells(path.clone(), &found.held));
            rows.extend(found.children.iter().map(|c| {
                let slash = if c.kind == api::Kind::Folder { "/" } else { "" };
                cells(format!("  {}{slash}", c.name), &c.held)
            }));
            table(&rows, &[1, 2, 3, 4]);
            return Ok(());
        }
        let found = client.space().await?;
        if output.object(&found)? {
            return Ok(());
        }
        let mut rows = vec![head];
        rows.extend(found.shelves.iter().map(|s| cells(s.title.clone(), &s.held)));
        rows.push(cells("In all".into(), &found.held));
        table(&rows, &[1, 2, 3, 4, 5]);
        if let Some(s) = &found.stored {
            println!();
            let rows = [
                ("history, each state by itself", s.logical),
                ("  kept whole", s.whole),
                ("  in chunks", s.chunks),
                ("  packs beyond these", s.overhead),
                ("  saved by sharing and packing", s.saved),
                ("catalogue", s.catalogue),
                ("on its way", s.staging),
                ("free on the disk", s.free as i64),
            ];
            let rows: Vec<_> = rows
                .into_iter()
                .map(|(what, n)| {
                    let amount = if n < 0 { format!("-{}", size(-n)) } else { size(n) };
                    vec![what.to_string(), amount]
                })
                .collect();
            table(&rows, &[1]);
            if let (Some(free), Some(total)) = (s.free_files, s.total_files) {
                println!("The disk can hold {free} more files, of {total}.");
            }
            println!(
                "{} of {} in {}.",
                count(s.packed, "content"),
                size(s.chunks),
                count(s.chunk_count, "chunk")
            );
        }
        if self.largest {
            println!();
            let mut rows = vec![["size", "changed", "file"].map(String::from).to_vec()];
            rows.extend(found.largest.iter().map(|f| vec![size(f.size), time(&f.changed), f.path.clone()]));
            table(&rows, &[0]);
            println!();
            let mut rows = vec![["grew by", "folder"].map(String::from).to_vec()];
            rows.extend(found.growing.iter().map(|g| vec![size(g.bytes), g.path.clone()]));
            table(&rows, &[0]);
        }
        Ok(())
    }
}

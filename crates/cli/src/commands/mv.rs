//! `yattic mv`

use crate::connection;
use crate::output::{Done, Failure, Output};
use crate::transfer::{self, Goes};
use yellow_attic_client::api;

/// Move or rename files and folders.
///
/// Costs the same for one file and for a folder of a million. Where it goes is decided by how it is written: several
/// things, a slash at the end, or --into: into that folder; else it is the new place and name.
#[derive(clap::Args)]
#[command(
    after_help = "Examples:\n  yattic mv home:/draft.txt home:/letter.txt    another name\n  yattic mv home:/a home:/b home:/Old/          into a folder"
)]
pub struct Mv {
    /// What, as shelf:/path
    #[arg(required = true)]
    from: Vec<String>,
    /// Where to: a folder with a slash at the end, or (for a single thing) its new place and name.
    to: String,
    /// Into the folder named, as with a slash at the end.
    #[arg(long)]
    into: bool,
    /// Replace a file that is there; its state stays in its history.
    #[arg(long)]
    replace: bool,
}

impl Mv {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        // All is looked at before anything is moved.
        let goes = Goes::read(&self.to, self.from.len() > 1, self.into);
        let mut wanted = Vec::new();
        for from in &self.from {
            let facts = connection::place(&client, from, None).await?;
            let folder = facts.node.kind == api::Kind::Folder;
            let (parent, name) = transfer::remote(&client, &goes, &facts.node.name, folder).await?;
            wanted.push((
                facts,
                api::Target {
                    parent: Some(parent),
                    name: Some(name),
                    replace: self.replace,
                    onto: None,
                    modified: None,
                    executable: None,
                },
            ));
        }
        let (mut moved, mut not) = (Vec::new(), 0);
        for (facts, target) in &wanted {
            match client.change(facts.node.id, target).await {
                Ok(node) => moved.push(node),
                Err(error) if wanted.len() == 1 => return Err(error.into()),
                Err(error) => {
                    not += 1;
                    eprintln!("failed: {}: {}", facts.path, yellow_attic_sync::up::explain(&error));
                }
            }
        }
        match (wanted.len(), moved.first()) {
            (1, Some(node)) => output.object(node)?,
            _ => output.object(&moved)?,
        };
        match not {
            0 => Ok(()),
            not => Err(Failure::partly(format!("{not} of {} were not moved", wanted.len()))),
        }
    }
}

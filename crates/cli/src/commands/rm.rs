//! `yattic rm`

use crate::connection;
use crate::output::{Done, Output, count, size};
use yellow_attic_client::api;

/// Remove files and folders. What was there stays in the past.
///
/// Bring something back with yattic restore. A folder that holds anything is removed only
/// after a question, or with --yes.
#[derive(clap::Args)]
pub struct Rm {
    /// What, as shelf:/path
    #[arg(required = true, value_name = "PATH")]
    paths: Vec<String>,
    /// Do not ask.
    #[arg(long, short)]
    yes: bool,
}

impl Rm {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let mut removed = Vec::new();
        for path in &self.paths {
            let facts = connection::place(&client, path, None).await?;
            let node = &facts.node;
            if let Some(sums) =
                node.sums.filter(|s| node.kind == api::Kind::Folder && s.files + s.folders > 0)
                && !self.yes
            {
                let holds = format!(
                    "{} holds {} and {}, {}",
                    facts.path,
                    count(sums.files, "file"),
                    count(sums.folders, "folder"),
                    size(sums.bytes)
                );
                connection::sure(self.yes, &holds, "Remove it?")?;
            }
            client.remove(node.id).await?;
            output.say(format!(
                "Removed {}. Bring it back with: yattic restore \"{}\"",
                facts.path, facts.path
            ));
            removed.push(facts);
        }
        output.object(&removed)?;
        Ok(())
    }
}

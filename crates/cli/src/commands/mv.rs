//! `yattic mv`

use crate::connection;
use crate::output::{Done, Output};
use yellow_attic_client::api;

/// Move or rename files and folders.
///
/// Costs the same for one file and for a folder of a million.
#[derive(clap::Args)]
pub struct Mv {
    /// What, as shelf:/path
    from: String,
    /// Where to: a folder, or its new place and name.
    to: String,
    /// Replace a file that is there; its state stays in its history.
    #[arg(long)]
    replace: bool,
}

impl Mv {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let from = connection::place(&client, &self.from, None).await?;
        let (parent, name) = connection::target(&client, &self.to, &from.node.name).await?;
        let target = api::Target { parent: Some(parent), name: Some(name), replace: self.replace };
        let moved = client.change(from.node.id, &target).await?;
        output.object(&moved)?;
        Ok(())
    }
}

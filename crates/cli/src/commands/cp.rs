//! `yattic cp`

use crate::connection;
use crate::output::{Done, Output};
use crate::transfer::{self, Goes};
use yellow_attic_client::api;

/// Copy a file, or a folder with all in it, on the service.
///
/// A folder's copy appears when it is complete. Where it goes is decided by how it is written: with a slash at the end,
/// or --into, into that folder; else it is the copy's place and name.
#[derive(clap::Args)]
pub struct Cp {
    /// What, as shelf:/path
    from: String,
    /// Where to: a folder with a slash at the end, or its place and name.
    to: String,
    /// Into the folder named, as with a slash at the end.
    #[arg(long)]
    into: bool,
}

impl Cp {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let from = connection::place(&client, &self.from, None).await?;
        let goes = Goes::read(&self.to, false, self.into);
        let folder = from.node.kind == api::Kind::Folder;
        let (parent, name) = transfer::remote(&client, &goes, &from.node.name, folder).await?;
        let target = api::Target {
            parent: Some(parent),
            name: Some(name),
            replace: false,
            onto: None,
            modified: None,
            executable: None,
        };
        let copied = client.copy(from.node.id, &target).await?;
        output.object(&copied)?;
        Ok(())
    }
}

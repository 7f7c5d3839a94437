//! `yattic cp`

use crate::connection;
use crate::output::{Done, Output};
use yellow_attic_client::api;

/// Copy a file, or a folder with all in it, on the service.
///
/// A folder's copy appears when it is complete.
#[derive(clap::Args)]
pub struct Cp {
    /// What, as shelf:/path
    from: String,
    /// Where to: a folder, or its place and name.
    to: String,
}

impl Cp {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let from = connection::place(&client, &self.from, None).await?;
        let (parent, name) = connection::target(&client, &self.to, &from.node.name).await?;
        let target = api::Target { parent: Some(parent), name: Some(name), replace: false };
        let copied = client.copy(from.node.id, &target).await?;
        output.object(&copied)?;
        Ok(())
    }
}

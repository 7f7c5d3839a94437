//! `yattic unlock`

use crate::connection;
use crate::output::{Done, Output};

/// End your locks on a file or folder, by whatever program they were taken.
///
/// Whoever manages the folder ends everybody's.
#[derive(clap::Args)]
pub struct Unlock {
    /// Which, as shelf:/path
    path: String,
}

impl Unlock {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let facts = connection::place(&client, &self.path, None).await?;
        client.unlock(facts.node.id).await?;
        output.done(&facts, format!("Nothing of yours locks {} any more.", facts.path))
    }
}

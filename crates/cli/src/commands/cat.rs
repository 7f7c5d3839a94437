//! `yattic cat`

use crate::connection;
use crate::output::{Done, Failure, Output, past_moment};
use futures_util::StreamExt;
use tokio::io::AsyncWriteExt;
use yellow_attic_client::{Client, api};

/// Write a file's bytes to standard output.
#[derive(clap::Args)]
pub struct Cat {
    /// Which, as shelf:/path
    #[arg(required = true, value_name = "PATH")]
    paths: Vec<String>,
    /// As it was at this moment or time.
    #[arg(long, value_name = "WHEN")]
    at: Option<String>,
}

impl Cat {
    pub async fn run(self, _: Output) -> Done {
        let client = connection::client()?;
        let at = self.at.as_deref().map(past_moment).transpose()?;
        for path in &self.paths {
            copy_out(&client, path, at.as_deref()).await?;
        }
        Ok(())
    }
}

/// Copies a file to standard output.
pub async fn copy_out(client: &Client, path: &str, at: Option<&str>) -> Done {
    let facts = connection::place(client, path, at).await?;
    if facts.node.kind == api::Kind::Folder {
        return Err(Failure::failed(format!("{} is a folder", facts.path), "Fetch it with yattic get."));
    }
    let mut stream = std::pin::pin!(client.content(facts.node.id, at, 0).await?);
    let mut out = tokio::io::stdout();
    while let Some(piece) = stream.next().await {
        if let Err(e) = out.write_all(&piece?).await {
            // Whoever reads has enough.
            return if e.kind() == std::io::ErrorKind::BrokenPipe { Ok(()) } else { Err(e.into()) };
        }
    }
    out.flush().await?;
    Ok(())
}

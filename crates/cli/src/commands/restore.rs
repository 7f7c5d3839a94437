//! `yattic restore`

use super::history::find;
use crate::connection;
use crate::output::{Done, Failure, Output, past_moment, time};
use crate::transfer::{self, Goes};
use yellow_attic_client::api;

/// Give a file an earlier state, or bring back something removed.
///
/// A restore is itself a new state: the present one stays in the history. Without --version
/// or --at, a removed file or folder comes back as it was last.
#[derive(clap::Args)]
pub struct Restore {
    /// Which, as shelf:/path; also of something removed.
    path: String,
    /// The version, from the first column of yattic history.
    #[arg(long, value_name = "VERSION", conflicts_with = "at")]
    version: Option<String>,
    /// The time whose state is wanted, such as "2026-11-02 16:20".
    #[arg(long, value_name = "WHEN")]
    at: Option<String>,
    /// Bring it back to another place: a folder, or a place and name.
    #[arg(long, value_name = "PATH")]
    to: Option<String>,
    /// Make the folders on the way to its place again, where they are gone.
    #[arg(long, conflicts_with = "to")]
    with_folders: bool,
}

impl Restore {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let at = match (&self.version, &self.at) {
            (Some(version), _) => Some(past_moment(version)?),
            (None, Some(when)) => Some(past_moment(when)?),
            (None, None) => None,
        };
        let node = match &at {
            Some(at) => match client.place(&connection::normalised(&self.path)?, Some(at)).await {
                Ok(facts) => facts.node.id,
                Err(_) => find(&client, &self.path).await?,
            },
            None => find(&client, &self.path).await?,
        };
        let (parent, name) = match &self.to {
            None => (None, None),
            Some(to) => {
                let usual = connection::split(&self.path)?.1.unwrap_or_default();
                let (parent, name) =
                    transfer::remote(&client, &Goes::read(to, false, false), &usual, false).await?;
                (Some(parent), Some(name))
            }
        };
        let restored = match client
            .restore(node, &api::Restore { at, parent, name, with_folders: self.with_folders, seen: None })
            .await
        {
            Err(e) if e.code() == Some("still_here") => {
                return Err(Failure::failed(
                    format!("{} is still here", self.path),
                    "Say which state is wanted: --version, from yattic history, or --at.",
                ));
            }
            other => other?,
        };
        if output.object(&restored)? {
            return Ok(());
        }
        output.say(format!("Restored \"{}\", as modified {}.", restored.name, time(&restored.modified)));
        Ok(())
    }
}

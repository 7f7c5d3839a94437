//! `yattic find`

use crate::connection;
use crate::output::{Done, Output, past_moment, size, table, time};
use yellow_attic_client::api;

/// Find files and folders by their names.
///
/// Every word must be in the name; capital letters do not count. The last changed come first.
#[derive(clap::Args)]
pub struct Find {
    /// The words.
    #[arg(required = true, value_name = "WORD")]
    words: Vec<String>,
    /// Only beneath this folder, as shelf:/path
    #[arg(long, value_name = "PATH")]
    within: Option<String>,
    /// As it was at this moment or time: a snapshot is searched so. Needs --within.
    #[arg(long, value_name = "WHEN", requires = "within")]
    at: Option<String>,
    /// How many at most.
    #[arg(long, value_name = "N", default_value_t = 50, value_parser = clap::value_parser!(u16).range(1..=200))]
    limit: u16,
}

impl Find {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let at = self.at.as_deref().map(past_moment).transpose()?;
        let within = match &self.within {
            Some(path) => Some(connection::place(&client, path, at.as_deref()).await?.node.id),
            None => None,
        };
        let limit = Some(usize::from(self.limit));
        let query = api::FindQuery { name: self.words.join(" "), within, limit, at };
        let found = client.find(&query).await?;
        if output.object(&found)? {
            return Ok(());
        }
        if found.found.is_empty() {
            output.say("Nothing has such a name. What was removed is found with --within and --at.");
            return Ok(());
        }
        let rows: Vec<_> = found
            .found
            .iter()
            .map(|f| {
                let folder = f.node.kind == api::Kind::Folder;
                vec![
                    size(f.node.size),
                    time(&f.node.changed),
                    if folder { format!("{}/", f.path) } else { f.path.clone() },
                ]
            })
            .collect();
        table(&rows, &[0]);
        if found.more {
            output.say(format!("There are more than {}; add a word, or --within a folder.", self.limit));
        }
        Ok(())
    }
}

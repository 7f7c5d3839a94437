//! `yattic ls`

use crate::connection;
use crate::output::{Done, Output, past_moment, size, table, time};
use yellow_attic_client::api;

/// List a folder, or the shelves and what was given to you.
#[derive(clap::Args)]
pub struct Ls {
    /// The folder, as shelf:/path; without it, the shelves you may enter. given:/ is what you were given below a shelf.
    path: Option<String>,
    /// Sort by name, size or changed.
    #[arg(long, value_name = "BY", value_parser = ["name", "size", "changed"], default_value = "name")]
    sort: String,
    /// The other way round.
    #[arg(long, short)]
    reverse: bool,
    /// As it was at this moment or time.
    #[arg(long, value_name = "WHEN", conflicts_with_all = ["sort", "reverse"])]
    at: Option<String>,
}

fn given_row(given: &api::GivenPlace) -> Vec<String> {
    let sums = given.node.sums;
    vec![
        given.path.clone(),
        given.level.clone(),
        sums.map_or_else(|| "1".to_string(), |s| s.files.to_string()),
        size(given.node.size),
        sums.map_or_else(String::new, |s| size(s.history_bytes)),
        time(&given.node.changed),
    ]
}

impl Ls {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let Some(path) = &self.path else {
            let shelves = client.shelves().await?;
            if output.object(&shelves)? {
                return Ok(());
            }
            let mut rows =
                vec![["shelf", "you may", "files", "size", "history", "changed"].map(String::from).to_vec()];
            rows.extend(shelves.shelves.iter().map(|s| {
                vec![
                    format!("{}:/", s.name),
                    s.level.clone(),
                    s.sums.files.to_string(),
                    size(s.sums.bytes),
                    size(s.sums.history_bytes),
                    time(&s.changed),
                ]
            }));
            rows.extend(shelves.given.iter().map(given_row));
            table(&rows, &[2, 3, 4]);
            return Ok(());
        };
        if matches!(path.as_str(), "given:" | "given:/") {
            let given = client.shelves().await?.given;
            if output.object(&given)? {
                return Ok(());
            }
            if given.is_empty() {
                output.say("Nothing below a shelf was given to you.");
                return Ok(());
            }
            let mut rows = vec![["given", "you may", "by", "until"].map(String::from).to_vec()];
            rows.extend(given.iter().map(|g| {
                let until = g.until.as_deref().map(time).unwrap_or_default();
                vec![g.path.clone(), g.level.clone(), g.by.clone().unwrap_or_default(), until]
            }));
            table(&rows, &[]);
            return Ok(());
        }
        let at = self.at.as_deref().map(past_moment).transpose()?;
        let facts = connection::place(&client, path, at.as_deref()).await?;
        let entries = if facts.node.kind == api::Kind::Folder {
            let query = api::ListQuery {
                sort: at.is_none().then(|| self.sort.clone()),
                order: (at.is_none() && self.reverse).then(|| "down".to_string()),
                at: at.clone(),
                ..Default::default()
            };
            client.all_entries(facts.node.id, &query).await?
        } else {
            vec![facts.node]
        };
        if output.object(&entries)? {
            return Ok(());
        }
        if entries.is_empty() {
            output.say(if at.is_some() { "The folder was empty then." } else { "The folder is empty." });
            return Ok(());
        }
        let rows: Vec<_> = entries
            .iter()
            .map(|e| {
                let folder = e.kind == api::Kind::Folder;
                let mut row = vec![
                    if folder && at.is_some() { String::new() } else { size(e.size) },
                    time(&e.changed),
                    e.by.clone().unwrap_or_default(),
                    if folder { format!("{}/", e.name) } else { e.name.clone() },
                ];
                if let Some(then) = e.since_then {
                    row.push(match then {
                        api::SinceThen::Same => String::new(),
                        api::SinceThen::Different => "different now".to_string(),
                        api::SinceThen::Moved => "moved since".to_string(),
                        api::SinceThen::Removed => "removed since".to_string(),
                        api::SinceThen::Inside => "changed inside".to_string(),
                    });
                }
                row
            })
            .collect();
        table(&rows, &[0]);
        Ok(())
    }
}

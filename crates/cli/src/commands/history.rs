//! `yattic history`

use crate::connection;
use crate::desktop;
use crate::output::{Done, Failure, Output, size, table, time};
use yellow_attic_client::{Client, api};

/// Show every state of a file or folder, newest first.
///
/// The first column is the version to give to yattic restore --version.
#[derive(clap::Args)]
pub struct History {
    /// Which, as shelf:/path; also of something removed.
    path: String,
    /// Open the console's page of it in your browser instead, where each state can be looked at.
    #[arg(long)]
    browser: bool,
}

impl History {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let node = find(&client, &self.path).await?;
        if self.browser {
            let address = connection::page_of(client.address(), &client.facts(node).await?, &[]);
            let opened = desktop::open(&address);
            let said = match opened {
                true => format!("It is open in your browser: {address}"),
                false => format!("Open it in your browser: {address}"),
            };
            return output.done(&serde_json::json!({ "address": address, "opened": opened }), said);
        }
        let history = client.history(node).await?;
        if output.object(&history)? {
            return Ok(());
        }
        let rows: Vec<_> = history
            .states
            .iter()
            .map(|s| {
                vec![
                    s.node.moment.clone(),
                    if s.node.kind == api::Kind::File { size(s.node.size) } else { String::new() },
                    time(&s.node.changed),
                    s.node.how.clone(),
                    s.node.by.clone().unwrap_or_default(),
                    match (&s.label, &s.kept) {
                        _ if s.node.held == Some(false) => "no longer held".to_string(),
                        (Some(label), _) => format!("\"{label}\""),
                        (None, Some(kept)) => match (&kept.until, kept.why.as_str()) {
                            (_, "") => "goes with the next look at the rules".into(),
                            (Some(until), _) => format!("until {}", time(until)),
                            (None, _) => String::new(),
                        },
                        (None, None) => String::new(),
                    },
                    match (&s.ended, &s.ended_how) {
                        (Some(at), Some(how)) if how == "removed" => format!("removed {}", time(at)),
                        (None, _) => "now".to_string(),
                        _ => String::new(),
                    },
                    s.node.name.clone(),
                ]
            })
            .collect();
        table(&rows, &[1]);
        Ok(())
    }
}

/// The node at a place, or the one that was removed from there last.
pub async fn find(client: &Client, path: &str) -> Result<i64, Failure> {
    let missing = match client.place(&connection::normalised(path)?, None).await {
        Ok(facts) => return Ok(facts.node.id),
        Err(e) if e.code() == Some("not_found") => e,
        Err(e) => return Err(e.into()),
    };
    let (folder, name) = connection::split(path)?;
    let Some(name) = name else { return Err(missing.into()) };
    let Ok(parent) = client.place(&folder, None).await else {
        return in_trash(client, path).await?.ok_or(missing.into());
    };
    // Look back along the folder's own changes until the name was there.
    for turn in client.activity(parent.node.id).await?.turns {
        let place = format!("{}/{name}", parent.path.trim_end_matches('/'));
        if let Ok(facts) = client.place(&place, Some(&turn.moment)).await {
            return Ok(facts.node.id);
        }
    }
    in_trash(client, path).await?.ok_or(missing.into())
}

/// What was at a place whose folders are gone as well, or were made anew: in the trash of the shelf, or of what one
/// may see of it.
async fn in_trash(client: &Client, path: &str) -> Result<Option<i64>, Failure> {
    let wanted = connection::normalised(path)?;
    let mut above = wanted.clone();
    while let (parent, Some(_)) = connection::split(&above)? {
        match client.place(&parent, None).await {
            Ok(facts) => {
                if let Some(found) = in_trash_of(client, facts.node.id, &wanted).await? {
                    return Ok(Some(found));
                }
            }
            Err(e) if e.code() == Some("not_found") => {}
            Err(e) => return Err(e.into()),
        }
        above = parent;
    }
    Ok(None)
}

async fn in_trash_of(client: &Client, folder: i64, wanted: &str) -> Result<Option<i64>, Failure> {
    let mut query = api::PageQuery { limit: Some(500), cursor: None };
    loop {
        let page = client.trash(folder, &query).await?;
        for item in page.items {
            if item.path == wanted {
                return Ok(Some(item.node.id));
            }
            if wanted.starts_with(&format!("{}/", item.path))
                && let Ok(facts) = client.place(wanted, Some(&item.last_there)).await
            {
                return Ok(Some(facts.node.id));
            }
        }
        query.cursor = page.next;
        if query.cursor.is_none() {
            return Ok(None);
        }
    }
}

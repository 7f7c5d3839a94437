//! `yattic snapshot`

use crate::connection::{self, proved};
use crate::output::{Done, Failure, Output, moment, size, table, time};
use yellow_attic_client::{Client, api};

/// Take, show and end snapshots: a shelf as it was, kept whatever the rules say.
///
/// Look into one with its moment: yattic ls --at MOMENT, yattic get --at MOMENT.
#[derive(clap::Args)]
pub struct Snapshot {
    #[command(subcommand)]
    act: Act,
}

#[derive(clap::Subcommand)]
enum Act {
    /// Take a snapshot of a shelf as it is now.
    New {
        /// The shelf, such as Plans: or home:
        shelf: String,
        /// What it is called.
        #[arg(long, value_name = "TEXT", default_value = "by hand")]
        label: String,
        /// When it goes by itself, such as 2027-01-31; never, if it is not given.
        #[arg(long, value_name = "WHEN")]
        until: Option<String>,
    },
    /// List the snapshots of a shelf, newest first.
    Ls {
        /// The shelf, such as Plans: or home:
        #[arg(default_value = "home:")]
        shelf: String,
    },
    /// Change a snapshot's label or end.
    Set {
        /// Its id.
        id: i64,
        /// What it is called.
        #[arg(long, value_name = "TEXT")]
        label: Option<String>,
        /// When it goes by itself, or never.
        #[arg(long, value_name = "WHEN")]
        until: Option<String>,
    },
    /// End a snapshot: what only it kept goes with the next look at the rules.
    End {
        /// Its id.
        id: i64,
    },
}

async fn root(client: &Client, shelf: &str) -> Result<i64, Failure> {
    let path = if shelf.contains(':') { shelf.to_string() } else { format!("{shelf}:") };
    let path = if path.ends_with(':') { format!("{path}/") } else { path };
    let facts = client.place(&connection::normalised(&path)?, None).await?;
    if facts.node.parent.is_some() {
        return Err(Failure::usage(
            format!("{shelf} is no shelf"),
            "Snapshots are taken of whole shelves, such as Plans: or home:",
        ));
    }
    Ok(facts.node.id)
}

fn end(until: Option<String>) -> Result<Option<String>, Failure> {
    match until.as_deref() {
        None | Some("never") => Ok(until),
        Some(when) => moment(when).map(Some),
    }
}

impl Snapshot {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        match self.act {
            Act::New { shelf, label, until } => {
                let new = api::SnapshotChange { label: Some(label), ends: end(until)? };
                let taken = client.take_snapshot(root(&client, &shelf).await?, &new).await?;
                if !output.object(&taken)? {
                    output.say(format!("Took snapshot {} of {}: {}.", taken.id, taken.shelf, taken.moment));
                }
            }
            Act::Ls { shelf } => {
                let all = client.snapshots(root(&client, &shelf).await?).await?;
                if output.object(&all)? {
                    return Ok(());
                }
                if all.snapshots.is_empty() {
                    output.say("No snapshot of this shelf.");
                } else {
                    let mut rows =
                        vec![["id", "taken", "moment", "label", "by", "goes"].map(String::from).to_vec()];
                    rows.extend(all.snapshots.iter().map(|s| {
                        let by = s.by.clone().unwrap_or_else(|| "schedule".into());
                        let goes = s.ends.as_deref().map_or_else(|| "never".into(), time);
                        vec![s.id.to_string(), time(&s.at), s.moment.clone(), s.label.clone(), by, goes]
                    }));
                    table(&rows, &[0]);
                }
                output.say(format!(
                    "Schedules: {}. Only snapshots keep {} of the past here.",
                    all.schedules,
                    size(all.only_bytes)
                ));
            }
            Act::Set { id, label, until } => {
                let change = api::SnapshotChange { label, ends: end(until)? };
                let changed = proved(&client, async || client.change_snapshot(id, &change).await).await?;
                if !output.object(&changed)? {
                    let goes = changed.ends.as_deref().map_or_else(|| "never".into(), time);
                    output.say(format!("Snapshot {} is \"{}\", goes {goes}.", changed.id, changed.label));
                }
            }
            Act::End { id } => {
                proved(&client, async || client.end_snapshot(id).await).await?;
                output.done(&serde_json::json!({ "ended": id }), format!("Snapshot {id} is ended."))?;
            }
        }
        Ok(())
    }
}

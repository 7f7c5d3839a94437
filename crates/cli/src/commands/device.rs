//! `yattic device`

use crate::connection::{self, proved, sure};
use crate::output::{Done, Failure, Output, table, time};
use yellow_attic_client::api;

/// See the computers that are connected in your name and what they have not finished sending, and end either.
#[derive(clap::Args)]
pub struct Device {
    #[command(subcommand)]
    act: Act,
}

#[derive(clap::Subcommand)]
enum Act {
    /// List your connected computers, with when and from where each was last used.
    Ls,
    /// List your unfinished uploads: each speaks for its room until it is whole, ended, or three days old.
    Uploads {
        /// End this one, as the list has it.
        #[arg(long, value_name = "UPLOAD")]
        end: Option<String>,
    },
    /// Disconnect one: its token counts no more, at once. For this one: yattic disconnect.
    End {
        /// Its name or its number, from yattic device ls.
        device: String,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
}

impl Device {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let all = client.devices().await?;
        match self.act {
            Act::Uploads { end: Some(id) } => {
                client.end_upload(&id).await?;
                output.done(
                    &serde_json::json!({ "ended": id }),
                    "It is ended: what had arrived of it is dropped, and its room is free.",
                )?;
            }
            Act::Uploads { end: None } => {
                let all = client.uploads().await?;
                if output.object(&all)? {
                    return Ok(());
                }
                if all.uploads.is_empty() {
                    output.say("No upload is unfinished.");
                    return Ok(());
                }
                let head = ["upload", "name", "here", "of", "begun", "until"];
                let mut rows = vec![head.map(String::from).to_vec()];
                let size = |n: u64| crate::output::size(i64::try_from(n).unwrap_or(i64::MAX));
                rows.extend(all.uploads.iter().map(|u| {
                    let (here, of) = (size(u.received), size(u.size));
                    vec![u.id.clone(), u.name.clone(), here, of, time(&u.begun), time(&u.expires)]
                }));
                table(&rows, &[2, 3]);
            }
            Act::Ls => {
                if output.object(&all)? {
                    return Ok(());
                }
                let head = ["device", "name", "connected", "last used", "from", "reaches", "pairs", ""];
                let mut rows = vec![head.map(String::from).to_vec()];
                rows.extend(all.devices.iter().map(|d| {
                    vec![
                        d.id.to_string(),
                        d.name.clone(),
                        time(&d.connected),
                        d.used.as_deref().map_or_else(|| "never".to_string(), time),
                        d.used_from.clone().unwrap_or_default(),
                        reaches(d.reach.as_ref()),
                        pairs(d.report.as_ref()),
                        if d.this { "this one".to_string() } else { String::new() },
                    ]
                }));
                table(&rows, &[0]);
            }
            Act::End { device, yes } => {
                let found: Vec<_> = all
                    .devices
                    .iter()
                    .filter(|d| d.id.to_string() == device || d.name.eq_ignore_ascii_case(&device))
                    .collect();
                let one = match &found[..] {
                    [one] => *one,
                    [] => {
                        return Err(Failure::failed(
                            format!("there is no computer \"{device}\""),
                            "List them: yattic device ls",
                        ));
                    }
                    _ => {
                        return Err(Failure::failed(
                            format!("several computers are called \"{device}\""),
                            "Name one by its number, from yattic device ls.",
                        ));
                    }
                };
                if one.this {
                    return Err(Failure::failed(
                        "that is this computer",
                        "Disconnect it with: yattic disconnect",
                    ));
                }
                sure(yes, &format!("\"{}\" would have to be connected anew", one.name), "Disconnect it?")?;
                proved(&client, async || client.end_device(one.id).await).await?;
                output.done(one, format!("\"{}\" is disconnected.", one.name))?;
            }
        }
        Ok(())
    }
}

/// How far its token reaches.
fn reaches(reach: Option<&api::TokenReach>) -> String {
    let Some(reach) = reach else { return "everything".into() };
    let places: Vec<String> =
        reach.within.iter().map(|w| w.path.clone().unwrap_or_else(|| "what is gone".into())).collect();
    let places = if places.is_empty() { "everything".to_string() } else { places.join(", ") };
    if reach.read_only { format!("{places}, only reading") } else { places }
}

/// How its pairs are, in a few words.
fn pairs(report: Option<&api::DeviceReport>) -> String {
    let Some(report) = report.filter(|r| !r.pairs.is_empty()) else { return String::new() };
    let trouble = report.pairs.iter().filter(|p| p.trouble > 0 || p.state == "stopped").count();
    let many = report.pairs.len();
    match trouble {
        0 => format!("{many}"),
        n => format!("{many}, {n} to look at"),
    }
}

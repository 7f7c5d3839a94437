//! `yattic intake`

use super::opening::{self, Terms, Which};
use crate::connection;
use crate::output::{Done, Failure, Output, size, table, time};
use yellow_attic_client::api;

/// Take files in from anybody who has an address.
///
/// Each delivery gets a folder of its own, named by its sender; what has the same name is kept
/// beside, numbered. Senders never see what is there.
#[derive(clap::Args)]
pub struct Intake {
    #[command(subcommand)]
    act: Act,
}

/// What an intake takes.
#[derive(clap::Args)]
struct Taken {
    /// pictures, documents, sound, video, archives, or endings such as .pdf, with commas; anything.
    #[arg(long, value_name = "KINDS")]
    kinds: Option<String>,
    /// The largest file, such as 20MiB, or none: no limit of its own.
    #[arg(long, value_name = "SIZE")]
    largest: Option<String>,
    /// The most of one delivery, such as 2GiB, or none: no limit of its own.
    #[arg(long, value_name = "SIZE")]
    together: Option<String>,
    /// Whether senders are asked for a mail address.
    #[arg(long, value_name = "ON|OFF", value_parser = ["on", "off"])]
    ask_mail: Option<String>,
}

impl Taken {
    fn add(&self, set: api::OpeningSet) -> Result<api::OpeningSet, Failure> {
        let size = |text: &Option<String>| {
            text.as_deref()
                .map(|t| match t {
                    "none" => Ok(0),
                    _ => yellow_attic_core::size::read(t).filter(|n| *n > 0).ok_or_else(|| {
                        Failure::usage(
                            format!("\"{t}\" is no limit"),
                            "Write a size like 20MiB, or none for no limit of its own.",
                        )
                    }),
                })
                .transpose()
        };
        Ok(api::OpeningSet {
            kinds: self.kinds.clone(),
            largest_file: size(&self.largest)?,
            largest_all: size(&self.together)?,
            asks_mail: self.ask_mail.as_deref().map(|w| w == "on"),
            ..set
        })
    }
}

#[derive(clap::Subcommand)]
enum Act {
    /// Make an intake for a folder; its address is printed.
    New {
        /// The folder, as shelf:/path
        path: String,
        /// An ending of your own for the address: small letters, digits, hyphens. It can be guessed.
        #[arg(long, value_name = "ENDING")]
        ending: Option<String>,
        /// Send the address by mail; can be said several times.
        #[arg(long, value_name = "ADDRESS")]
        mail: Vec<String>,
        #[command(flatten)]
        taken: Taken,
        #[command(flatten)]
        terms: Terms,
    },
    /// List intakes, with their state and how many deliveries there were.
    Ls(Which),
    /// Tell all of one intake, and what was handed in.
    Show {
        /// Its number, from yattic intake ls.
        intake: i64,
        /// Draw the address as a QR code too.
        #[arg(long)]
        qr: bool,
    },
    /// Change an intake: what is not said stays as it is.
    Set {
        /// Its number, from yattic intake ls.
        intake: i64,
        /// Close it for now, or let it go on.
        #[arg(long, value_name = "ON|OFF", value_parser = ["on", "off"])]
        paused: Option<String>,
        /// Let it open again after its folder was removed and brought back.
        #[arg(long)]
        confirm: bool,
        /// Open it again after it was ended.
        #[arg(long)]
        again: bool,
        #[command(flatten)]
        taken: Taken,
        #[command(flatten)]
        terms: Terms,
    },
    /// End intakes. Nothing that was handed in is removed.
    End {
        /// Their numbers, from yattic intake ls.
        #[arg(required = true)]
        intakes: Vec<i64>,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
}

impl Intake {
    pub async fn run(self, output: Output) -> Done {
        match self.act {
            Act::New { path, ending, mail, taken, terms } => {
                let set = taken.add(terms.set()?)?;
                let new = api::NewOpening { kind: "intake".into(), node: 0, ending, set };
                opening::make(output, new, &path, mail).await
            }
            Act::Ls(which) => opening::list(output, which, Some("intake")).await,
            Act::Show { intake, qr } => {
                let client = connection::client()?;
                let found = match client.deliveries(intake).await {
                    Ok(found) => Some(found.deliveries),
                    // An administrator sees that it is there, not what was handed in.
                    Err(e) if e.code() == Some("not_found") => None,
                    Err(e) => return Err(e.into()),
                };
                if output.json {
                    let mut told = serde_json::to_value(opening::one(&client, "intake", intake).await?)
                        .map_err(|e| Failure::failed(e.to_string(), ""))?;
                    if let Some(told) = told.as_object_mut() {
                        told.insert("deliveries".into(), serde_json::json!(found));
                    }
                    output.object(&told)?;
                    return Ok(());
                }
                opening::show(output, "intake", intake, qr).await?;
                found.into_iter().for_each(|found| deliveries(output, found));
                Ok(())
            }
            Act::Set { intake, paused, confirm, again, taken, terms } => {
                let set = api::OpeningSet {
                    paused: paused.map(|p| p == "on"),
                    confirmed: confirm,
                    ended: again.then_some(false),
                    ..taken.add(terms.set()?)?
                };
                opening::set(output, "intake", intake, set).await
            }
            Act::End { intakes, yes } => opening::end(output, "intake", intakes, yes).await,
        }
    }
}

fn deliveries(output: Output, found: Vec<api::Delivery>) {
    println!();
    if found.is_empty() {
        output.say("Nothing was handed in yet.");
        return;
    }
    let head = ["sender", "mail", "state", "files", "size", "when", "from"];
    let mut rows = vec![head.map(String::from).to_vec()];
    for d in found {
        rows.push(vec![
            d.sender,
            d.mail.unwrap_or_default(),
            d.state,
            d.files.to_string(),
            size(d.bytes as i64),
            time(d.done.as_deref().unwrap_or(&d.begun)),
            d.from,
        ]);
    }
    table(&rows, &[3, 4]);
}

//! `yattic share`

use crate::connection::{self, proved, proved_or_in_console, subject};
use crate::output::{Done, Failure, Output, moment, time};
use yellow_attic_client::{Client, api};

/// Give somebody a right to a file or folder, and to all in it.
///
/// A new right takes the place of an earlier one to the same person or group on the same thing.
/// Several groups add up; a denial wins over everything but owning the shelf.
#[derive(clap::Args)]
#[command(group = clap::ArgGroup::new("what").required(true).multiple(true).args(["with", "afresh"]))]
pub struct Share {
    /// What, as shelf:/path
    path: String,
    /// To whom: an account's name, group:NAME, everyone, or a mail address: that invites a guest.
    #[arg(long, value_name = "WHO", requires = "can")]
    with: Option<String>,
    /// What they may do: view, add (put things in), edit, manage (decide who may), or deny.
    #[arg(long, value_name = "LEVEL", value_parser = ["view", "add", "edit", "manage", "deny"], requires = "with")]
    can: Option<String>,
    /// Until when it counts, such as 2026-12-31; without it, until it is ended.
    #[arg(long, value_name = "WHEN", requires = "with")]
    until: Option<String>,
    /// A word that goes with it.
    #[arg(long, value_name = "TEXT", default_value = "", requires = "with")]
    message: String,
    /// on: what is given further up does not reach beyond this folder (denials do); off: it does again.
    #[arg(long, value_name = "ON|OFF", value_parser = ["on", "off"])]
    afresh: Option<String>,
}

impl Share {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let until = self.until.as_deref().map(moment).transpose()?;
        if until.as_deref().is_some_and(|u| !u.contains('T')) {
            return Err(Failure::usage(
                "an end is a time, not a moment's token",
                "Write it like 2026-12-31.",
            ));
        }
        let facts = connection::place(&client, &self.path, None).await?;
        if let Some(afresh) = &self.afresh {
            let on = afresh == "on";
            proved(&client, async || client.set_afresh(facts.node.id, on).await).await?;
            let told = match on {
                true => format!("Rights start afresh at {}.", facts.path),
                false => format!("{} inherits again what is given further up.", facts.path),
            };
            match self.with {
                Some(_) => output.say(told),
                None => output.done(&serde_json::json!({ "path": facts.path, "afresh": on }), told)?,
            }
        }
        if let (Some(with), Some(can)) = (&self.with, &self.can) {
            if with.contains('@') {
                return self.invite(output, &client, &facts, with, can, until).await;
            }
            let message = self.message.clone();
            let new = api::NewGrant { to: subject(with), can: can.clone(), until, message };
            let wish = [
                ("give", Some("access".to_string())),
                ("to", Some(with.clone())),
                ("can", Some(can.clone())),
                ("ends", new.until.clone()),
                ("message", Some(new.message.clone()).filter(|message| !message.is_empty())),
            ];
            let give = async || client.give(facts.node.id, &new).await;
            let given = proved_or_in_console(&client, &facts, &wish, give).await?;
            if output.object(&given)? {
                return Ok(());
            }
            let end = given.until.as_deref().map(|u| format!(", until {}", time(u))).unwrap_or_default();
            output.say(match given.can.as_str() {
                "deny" => format!("{} may do nothing at {}{end}.", given.to_name, facts.path),
                can => format!("{} may {can} {}{end}.", given.to_name, facts.path),
            });
        }
        Ok(())
    }

    /// Somebody from outside, by mail address.
    async fn invite(
        &self,
        output: Output,
        client: &Client,
        facts: &api::Facts,
        mail: &str,
        can: &str,
        until: Option<String>,
    ) -> Done {
        let guest = api::NewGuest {
            mail: mail.into(),
            display_name: String::new(),
            node: facts.node.id,
            can: can.into(),
            until,
            message: self.message.clone(),
        };
        let told = proved(client, async || client.invite_guest(&guest).await).await?;
        if output.object(&told)? {
            return Ok(());
        }
        output.say(match told.made {
            true => format!("{mail} is a guest now (account {}) and may {can} {}.", told.sign_in, facts.path),
            false => format!("{mail} has the account {} and may {can} {}.", told.sign_in, facts.path),
        });
        match (&told.address, told.mailed) {
            (_, true) => output.say("They are told by mail."),
            (Some(address), false) => {
                output.say("Pass this on; it counts once, for seven days:");
                println!("{address}");
            }
            (None, false) => {}
        }
        Ok(())
    }
}

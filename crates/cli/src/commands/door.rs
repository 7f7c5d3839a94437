//! `yattic door`

use crate::connection::{self, proved};
use crate::output::{Done, Output, table, time};
use yellow_attic_client::{Client, api};

/// Open and close ways in: the console, connected computers, WebDAV, links, intakes (administrators).
///
/// A door is closed to one account, or to all members of group:NAME. Whoever comes to a closed
/// door with the right password is told exactly that. After wrong passwords and codes the next attempt waits, by account
/// and by address: who has to wait is listed here, and can be let go on.
#[derive(clap::Args)]
pub struct Door {
    #[command(subcommand)]
    act: Act,
}

#[derive(clap::Subcommand)]
enum Act {
    /// List every account to which a door is closed.
    Ls,
    /// Close a door.
    Close {
        /// An account's name, or group:NAME.
        who: String,
        /// Which door.
        #[arg(value_parser = ["console", "sync", "dav", "links", "intake"])]
        door: String,
    },
    /// List who has to wait after wrong passwords or codes.
    Slowed,
    /// Let somebody who has to wait go on at once.
    Release {
        /// As the list has it: a sign-in name, or an address.
        #[arg(required_unless_present = "all")]
        of: Option<String>,
        /// Everybody.
        #[arg(long, conflicts_with = "of")]
        all: bool,
    },
    /// Open a door again.
    Open {
        /// An account's name, or group:NAME.
        who: String,
        /// Which door.
        #[arg(value_parser = ["console", "sync", "dav", "links", "intake"])]
        door: String,
    },
}

impl Door {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        match self.act {
            Act::Ls => {
                let all = client.accounts(&api::AccountsQuery::default()).await?;
                let shut: Vec<_> = all.accounts.into_iter().filter(|a| !a.shut.is_empty()).collect();
                if output.object(&shut)? {
                    return Ok(());
                }
                if shut.is_empty() {
                    output.say("Every door is open to everybody.");
                    return Ok(());
                }
                let mut rows = vec![["account", "closed"].map(String::from).to_vec()];
                rows.extend(shut.iter().map(|a| vec![a.sign_in.clone(), a.shut.join(", ")]));
                table(&rows, &[]);
                Ok(())
            }
            Act::Slowed => {
                let all = client.slowed().await?;
                if output.object(&all)? {
                    return Ok(());
                }
                if all.slowed.is_empty() {
                    output.say("Nobody has to wait.");
                } else {
                    let head = ["kind", "of", "failures", "last", "looked at again"];
                    let mut rows = vec![head.map(String::from).to_vec()];
                    rows.extend(all.slowed.iter().map(|s| {
                        let (last, until) = (time(&s.last), time(&s.until));
                        vec![s.kind.clone(), s.of.clone(), s.failures.to_string(), last, until]
                    }));
                    table(&rows, &[2]);
                    if all.total > all.slowed.len() {
                        output.say(format!("{} in all.", all.total));
                    }
                }
                for proxy in &all.proxies {
                    output.say(format!(
                        "{proxy} passes requests on and is not trusted: all behind it count as one. Set trusted_proxies."
                    ));
                }
                Ok(())
            }
            Act::Release { of, .. } => {
                let done = proved(&client, async || client.release(of.as_deref()).await).await?;
                if !output.object(&done)? {
                    output.say(match (done.released, of) {
                        (_, Some(of)) => format!("{of} may try again at once."),
                        (0, None) => "Nobody had to wait.".into(),
                        (n, None) => format!("{n} may try again at once."),
                    });
                }
                Ok(())
            }
            Act::Close { who, door } => change(output, &client, &who, &door, true).await,
            Act::Open { who, door } => change(output, &client, &who, &door, false).await,
        }
    }
}

async fn change(output: Output, client: &Client, who: &str, door: &str, close: bool) -> Done {
    let turn = |mut doors: Vec<String>| {
        doors.retain(|d| d != door);
        if close {
            doors.push(door.to_string());
        }
        doors
    };
    let said = if close { "closed" } else { "open" };
    if let Some(name) = who.strip_prefix("group:") {
        let group = client.group(name).await?;
        let doors = turn(group.closed);
        let value = (!doors.is_empty()).then(|| doors.join(", "));
        let rule =
            api::RuleChange { scope: format!("group:{}", group.name), value, preview: false, breaking: None };
        let done = proved(client, async || client.set_rule("doors-closed", &rule).await).await?;
        if !output.object(&done)? {
            output.say(format!("{door} is {said} to the members of {}.", group.name));
        }
        return Ok(());
    }
    let name = who.strip_prefix("account:").unwrap_or(who);
    let account = client.account(name).await?.account;
    let change = api::AccountChange { closed: Some(turn(account.closed)), ..Default::default() };
    let done = proved(client, async || client.change_account(name, &change).await).await?;
    if output.object(&done)? {
        return Ok(());
    }
    match done.shut.iter().find(|s| s.starts_with(door)).filter(|_| !close) {
        Some(still) => output.say(format!("It is open to {name} alone again, and still closed: {still}.")),
        None => output.say(format!("{door} is {said} to {name}.")),
    }
    Ok(())
}

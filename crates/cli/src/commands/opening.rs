//! What `yattic link` and `yattic intake` share.

use crate::connection::{self, proved, proved_or_in_console, sure};
use crate::output::{Done, Failure, Output, moment, table, time};
use std::io::{BufRead, IsTerminal};
use yellow_attic_client::{Client, api};

/// What can be said of a link and of an intake.
#[derive(clap::Args, Default)]
pub struct Terms {
    /// What strangers read above all; without it, the name.
    #[arg(long, value_name = "TEXT")]
    pub title: Option<String>,
    /// What strangers read besides.
    #[arg(long, value_name = "TEXT")]
    pub message: Option<String>,
    /// Ask for a password; it is read from the terminal, or from the first line of standard input.
    #[arg(long, conflicts_with = "no_password")]
    pub password: bool,
    /// Ask for no password any more.
    #[arg(long)]
    pub no_password: bool,
    /// Before this it does not open: 2026-12-01 08:00, or now.
    #[arg(long, value_name = "WHEN")]
    pub begins: Option<String>,
    /// Until when it opens: 2026-12-31 (to its end), or never.
    #[arg(long, value_name = "WHEN")]
    pub until: Option<String>,
    /// How many downloads or deliveries, or none: any number.
    #[arg(long, value_name = "N", value_parser = times)]
    pub times: Option<u32>,
}

/// A count, or none. 0 would shut it, and means the opposite elsewhere: it is not taken.
fn times(text: &str) -> Result<u32, String> {
    match text {
        "none" => Ok(0),
        _ => text
            .parse()
            .ok()
            .filter(|n| *n > 0)
            .ok_or_else(|| "write a number from 1, or none for any number".to_string()),
    }
}

impl Terms {
    /// As the service takes it.
    pub fn set(&self) -> Result<api::OpeningSet, Failure> {
        let when = |text: &Option<String>, none: &str| match text.as_deref() {
            None => Ok(None),
            Some(word) if word == none => Ok(Some(String::new())),
            Some(text) => match moment(text)? {
                at if at.contains('T') => Ok(Some(at)),
                _ => Err(Failure::usage("that is a moment's token, not a time", "Write it like 2026-12-31.")),
            },
        };
        Ok(api::OpeningSet {
            title: self.title.clone(),
            message: self.message.clone(),
            password: match (self.password, self.no_password) {
                (true, _) => Some(ask_password()?),
                (_, true) => Some(String::new()),
                _ => None,
            },
            begins: when(&self.begins, "now")?,
            ends: when(&self.until, "never")?,
            most: self.times,
            ..Default::default()
        })
    }
}

fn ask_password() -> Result<String, Failure> {
    let text = if std::io::stdin().is_terminal() {
        rpassword::prompt_password("Its password: ")?
    } else {
        let mut line = String::new();
        std::io::stdin().lock().read_line(&mut line)?;
        line.trim_end_matches(['\r', '\n']).to_string()
    };
    match text.is_empty() {
        true => Err(Failure::usage("the password is empty", "Give one, or leave --password out.")),
        false => Ok(text),
    }
}

/// Makes one, and prints its address.
pub async fn make(output: Output, new: api::NewOpening, path: &str, mail: Vec<String>) -> Done {
    let client = connection::client()?;
    let facts = connection::place(&client, path, None).await?;
    let new = api::NewOpening { node: facts.node.id, ..new };
    let most = new.set.most.filter(|most| *most > 0).map(|most| most.to_string());
    let wish = [
        ("give", Some(new.kind.clone())),
        ("can", new.set.can.clone()),
        ("title", new.set.title.clone()),
        ("message", new.set.message.clone()),
        ("begins", new.set.begins.clone()),
        ("ends", new.set.ends.clone()),
        ("most", most),
        ("ending", new.ending.clone()),
    ];
    let made = proved_or_in_console(&client, &facts, &wish, async || client.make_opening(&new).await).await?;
    if !mail.is_empty() {
        client.mail_opening(made.id, &api::OpeningMail { to: mail.clone(), message: String::new() }).await?;
    }
    if output.object(&made)? {
        return Ok(());
    }
    println!("{}", made.address.as_deref().unwrap_or_default());
    output.say(in_short(&made));
    if made.own_ending && !made.password {
        output.say("Its ending can be guessed, and no password is asked for.");
    }
    if !mail.is_empty() {
        output.say(format!("Sent to {}.", mail.join(", ")));
    }
    Ok(())
}

fn in_short(o: &api::Opening) -> String {
    let what = match o.kind.as_str() {
        "intake" => "hand files in".to_string(),
        _ => o.can.clone(),
    };
    let end = o.until.as_deref().map_or("until it is ended".to_string(), |u| format!("until {}", time(u)));
    let password = if o.password { " and its password" } else { "" };
    let times = match (o.most, o.kind.as_str()) {
        (Some(n), "intake") => format!(", {n} deliveries at most"),
        (Some(1), _) => ", once".into(),
        (Some(n), _) => format!(", {n} times at most"),
        (None, _) => String::new(),
    };
    format!("{} {}: whoever has this address{password} may {what}{times}, {end}.", capital(&o.kind), o.id)
}

fn capital(word: &str) -> String {
    let mut chars = word.chars();
    chars.next().map_or_else(String::new, |c| c.to_uppercase().collect::<String>() + chars.as_str())
}

/// Which of them.
#[derive(clap::Args)]
pub struct Which {
    /// Everybody's; for administrators.
    #[arg(long)]
    pub all: bool,
    /// One account's; for administrators.
    #[arg(long, value_name = "ACCOUNT", conflicts_with = "all")]
    pub by: Option<String>,
    /// Only those with these words in the name, path, or name of a person.
    #[arg(long, value_name = "WORDS")]
    pub words: Option<String>,
    /// Only open ones, shut ones, or those in one state.
    #[arg(long, value_name = "STATE", value_parser = clap::builder::PossibleValuesParser::new(yellow_attic_core::openings::STATES))]
    pub state: Option<String>,
    /// As a table for spreadsheets (CSV).
    #[arg(long)]
    pub csv: bool,
}

/// Lists what was given out.
pub async fn list(output: Output, which: Which, kind: Option<&str>) -> Done {
    let client = connection::client()?;
    let mut query = api::GivenQuery {
        all: which.all,
        by: which.by,
        words: which.words,
        kind: kind.map(str::to_string),
        state: which.state,
        limit: Some(1000),
        ..Default::default()
    };
    if which.csv {
        print!("{}", client.given_table(&query).await?);
        return Ok(());
    }
    let mut all = Vec::new();
    loop {
        let page = client.given_out(&query).await?;
        all.extend(page.given);
        query.cursor = page.next;
        if query.cursor.is_none() {
            break;
        }
    }
    if output.object(&all)? {
        return Ok(());
    }
    if all.is_empty() {
        output.say(match kind {
            Some("intake") => "No intake. Make one with: yattic intake new PATH",
            Some("link") => "No link. Make one with: yattic link new PATH",
            _ => "Nothing was given out.",
        });
        return Ok(());
    }
    let mut head = vec!["id", "what", "for", "may", "state", "until", "used", "last"];
    if kind.is_none() {
        head.insert(0, "kind");
    }
    if which.all {
        head.push("by");
    }
    let mut rows = vec![head.into_iter().map(String::from).collect::<Vec<_>>()];
    for g in &all {
        let used = match (g.used, g.most) {
            (Some(used), Some(most)) => format!("{used} of {most}"),
            (Some(used), None) => used.to_string(),
            _ => String::new(),
        };
        let what = g
            .path
            .clone()
            .unwrap_or_else(|| if g.name.is_empty() { "(gone)".into() } else { g.name.clone() });
        let mut row = vec![
            g.id.to_string(),
            what,
            g.to.clone(),
            g.can.clone(),
            g.state.clone(),
            g.until.as_deref().map_or_else(String::new, time),
            used,
            g.used_at.as_deref().map_or_else(String::new, time),
        ];
        if kind.is_none() {
            row.insert(0, g.kind.clone());
        }
        if which.all {
            row.push(g.by.clone());
        }
        rows.push(row);
    }
    table(&rows, &[usize::from(kind.is_none())]);
    Ok(())
}

/// One of this kind.
pub async fn one(client: &Client, kind: &str, id: i64) -> Result<api::Opening, Failure> {
    let found = client.opening(id).await?;
    match found.kind == kind {
        true => Ok(found),
        false => Err(Failure::failed(
            format!("{id} is a {}, not a {kind}", found.kind),
            format!("Use yattic {} for it.", found.kind),
        )),
    }
}

/// Tells all of one.
pub async fn show(output: Output, kind: &str, id: i64, qr: bool) -> Done {
    let client = connection::client()?;
    let o = one(&client, kind, id).await?;
    if output.object(&o)? {
        return Ok(());
    }
    let size = |n: Option<u64>| n.map(|n| crate::output::size(n as i64)).unwrap_or_default();
    let when = |t: &Option<String>| t.as_deref().map_or_else(String::new, time);
    let rows = [
        ("address", o.address.clone().unwrap_or_else(|| "(only its maker sees it)".into())),
        (
            "opens",
            o.path
                .clone()
                .unwrap_or_else(|| if o.name.is_empty() { "(gone)".into() } else { o.name.clone() }),
        ),
        (
            "state",
            if o.sentence.is_empty() { o.state.clone() } else { format!("{}: {}", o.state, o.sentence) },
        ),
        ("may", if kind == "link" { o.can.clone() } else { "hand in".into() }),
        ("title", o.title.clone()),
        ("message", o.message.split_whitespace().collect::<Vec<_>>().join(" ")),
        ("password", if o.password { "asked for" } else { "none" }.to_string()),
        ("begins", when(&o.begins)),
        ("until", when(&o.until)),
        (
            "used",
            match o.most {
                Some(most) => format!("{} of {most}", o.used),
                None => o.used.to_string(),
            },
        ),
        (
            "last",
            match &o.used_from {
                Some(from) => format!("{} from {from}", when(&o.used_at)),
                None => when(&o.used_at),
            },
        ),
        ("guessed", when(&o.guessed_at)),
        ("largest file", size(o.largest_file)),
        ("all together", size(o.largest_all)),
        ("kinds", o.kinds.clone()),
        ("made", format!("{} by {}", time(&o.at), o.by)),
    ];
    let rows: Vec<_> =
        rows.into_iter().filter(|(_, v)| !v.is_empty()).map(|(k, v)| vec![k.to_string(), v]).collect();
    table(&rows, &[]);
    if qr && let Some(address) = &o.address {
        let code =
            qrcode::QrCode::new(address).map_err(|e| Failure::failed(e.to_string(), "Copy the address."))?;
        let drawn = code
            .render::<qrcode::render::unicode::Dense1x2>()
            .dark_color(qrcode::render::unicode::Dense1x2::Light)
            .light_color(qrcode::render::unicode::Dense1x2::Dark)
            .build();
        println!("\n{drawn}");
    }
    Ok(())
}

/// Changes one.
pub async fn set(output: Output, kind: &str, id: i64, set: api::OpeningSet) -> Done {
    let client = connection::client()?;
    one(&client, kind, id).await?;
    if serde_json::to_value(&set).ok() == serde_json::to_value(api::OpeningSet::default()).ok() {
        return Err(Failure::usage("nothing is to be changed", "Say what: see yattic help, or --help."));
    }
    let done = proved(&client, async || client.change_opening(id, &set).await).await?;
    if output.object(&done)? {
        return Ok(());
    }
    output.say(match done.sentence.is_empty() {
        true => in_short(&done),
        false => format!("{} {id} is {}: {}", capital(kind), done.state, done.sentence),
    });
    Ok(())
}

/// Ends some.
pub async fn end(output: Output, kind: &str, ids: Vec<i64>, yes: bool) -> Done {
    let client = connection::client()?;
    let what = match ids.as_slice() {
        [one] => format!("{kind} {one} would not open any more"),
        many => format!("{} {kind}s would not open any more", many.len()),
    };
    sure(yes, &what, "End it?")?;
    let of = ids.iter().map(|id| api::GivenId { kind: kind.into(), id: *id }).collect();
    let done = client.change_given(&api::GivenChange { of, end: true, ..Default::default() }).await?;
    if output.object(&done)? && done.refused.is_empty() {
        return Ok(());
    }
    for refused in &done.refused {
        eprintln!("{kind} {}: {}", refused.id, refused.reason);
    }
    output.say(format!("{} ended.", done.done));
    match (done.refused.is_empty(), done.done) {
        (true, _) => Ok(()),
        (false, 0) => Err(Failure::failed("none was ended", "List them: see ls.")),
        (false, _) => Err(Failure::partly(format!("{} were not ended", done.refused.len()))),
    }
}

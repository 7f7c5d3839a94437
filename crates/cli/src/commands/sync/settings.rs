//! What pairs leave out, how fast and when they carry anything, and pauses.

use super::run::nudge;
use super::{left_out, pick};
use crate::connection;
use crate::output::{Done, Failure, Output};
use yellow_attic_client::{Client, api};
use yellow_attic_core::NodeId;
use yellow_attic_core::limits::minute;
use yellow_attic_core::merge::filter::{Chosen, Filter};
use yellow_attic_sync::computer::Computer;
use yellow_attic_sync::pairs::limits;
use yellow_attic_sync::pairs::state::About;

/// What is left out.
#[derive(clap::Args, Default)]
pub struct Leaves {
    /// Carry nothing but this folder of the service, as shelf:/path; more than once for more.
    #[arg(long, value_name = "FOLDER")]
    only: Vec<String>,
    /// Leave out this folder of the service, as shelf:/path; more than once for more.
    #[arg(long, value_name = "FOLDER")]
    without: Vec<String>,
    /// Leave out what is named like this, such as '*.tmp', or lies at such a path, such as 'Films/*.mkv'.
    #[arg(long, value_name = "PATTERN")]
    leave: Vec<String>,
    /// Leave out files of more bytes than this, such as 2GiB.
    #[arg(long, value_name = "SIZE")]
    larger: Option<String>,
}

impl Leaves {
    fn is_empty(&self) -> bool {
        self.only.is_empty() && self.without.is_empty() && self.leave.is_empty() && self.larger.is_none()
    }

    /// As a pair goes by it. `top`: the pair's folder on the service.
    pub(super) async fn filter(&self, client: &Client, top: &str) -> Result<Filter, Failure> {
        let mut filter = Filter::named(self.leave.clone());
        filter.check().map_err(|e| {
            Failure::usage(
                e.to_string(),
                "* stands for any letters but /, ? for one, [ab] for a or b, {x,y} for x or y.",
            )
        })?;
        filter.larger = match &self.larger {
            Some(text) => Some(size(text)?),
            None => None,
        };
        for (texts, chosen) in [(&self.only, &mut filter.only), (&self.without, &mut filter.without)] {
            for text in texts {
                chosen.push(choose(client, top, text).await?);
            }
        }
        Ok(filter)
    }
}

fn size(text: &str) -> Result<u64, Failure> {
    yellow_attic_core::size::read(text)
        .ok_or_else(|| Failure::usage(format!("\"{text}\" is no size"), "Give it as 500MiB or 2GiB."))
}

fn human(bytes: u64) -> String {
    yellow_attic_core::size::human(bytes)
}

async fn choose(client: &Client, top: &str, text: &str) -> Result<Chosen, Failure> {
    let facts = connection::place(client, text, None).await?;
    if facts.node.kind != api::Kind::Folder {
        return Err(Failure::usage(
            format!("{} is a file", facts.path),
            "Choose folders; leave out files by their names with --leave.",
        ));
    }
    let rest = facts.path.strip_prefix(top.trim_end_matches('/')).and_then(|rest| rest.strip_prefix('/'));
    let Some(way) = rest.filter(|rest| !rest.is_empty()) else {
        return Err(Failure::usage(
            format!("{} does not lie in {top}", facts.path),
            "Choose folders in the pair's own.",
        ));
    };
    Ok(Chosen { node: NodeId(facts.node.id), way: way.split('/').map(String::from).collect() })
}

/// Says what a pair leaves out.
pub(super) async fn set(
    computer: &Computer,
    which: &str,
    leaves: Leaves,
    everything: bool,
    preview: bool,
    output: Output,
) -> Done {
    let all = computer.pairs().await?;
    let mut about = pick(&all, which)?.clone();
    if leaves.is_empty() && !everything && !preview {
        return show(&about, output);
    }
    let client = computer.client(&about.service).await?;
    let new = leaves.filter(&client, &about.remote).await?;
    let before = about.filter.clone();
    if everything {
        about.filter = new;
    } else {
        let filter = &mut about.filter;
        let add = |to: &mut Vec<Chosen>, new: Vec<Chosen>| {
            to.retain(|old| new.iter().all(|chosen| chosen.node != old.node));
            to.extend(new);
        };
        add(&mut filter.only, new.only);
        add(&mut filter.without, new.without);
        filter.patterns.retain(|old| !new.patterns.contains(old));
        filter.patterns.extend(new.patterns);
        filter.larger = new.larger.or(filter.larger);
    }
    if preview {
        let filter = std::mem::replace(&mut about.filter, before);
        let out = computer.preview_filter(&about, &filter).await?;
        if output.object(&out)? {
            return Ok(());
        }
        println!("{} with this:", about.local.display());
        left_out(&out);
        if out.count.files + out.folders == 0 {
            println!("  nothing is left out");
        }
        println!("Nothing was changed.");
        return Ok(());
    }
    computer.keep(&about).await?;
    nudge(&computer.folder).await?;
    show(&about, output)
}

fn show(about: &About, output: Output) -> Done {
    if output.object(&about.filter)? {
        return Ok(());
    }
    println!("{}  <->  {}", about.local.display(), about.remote);
    let filter = &about.filter;
    let places = |chosen: &[Chosen]| chosen.iter().map(|c| c.way.join("/")).collect::<Vec<_>>().join(", ");
    if filter.is_empty() {
        println!("  nothing is left out");
    }
    if !filter.only.is_empty() {
        println!("  only: {}", places(&filter.only));
    }
    if !filter.without.is_empty() {
        println!("  without: {}", places(&filter.without));
    }
    if !filter.patterns.is_empty() {
        println!("  left out by name: {}", filter.patterns.join(", "));
    }
    if let Some(larger) = filter.larger {
        println!("  left out: files of more than {}", human(larger));
    }
    Ok(())
}

/// Lets pairs rest, or go on.
pub(super) async fn pause(computer: &Computer, which: Option<&str>, paused: bool, output: Output) -> Done {
    let all = computer.pairs().await?;
    let picked: Vec<&About> = match which {
        Some(which) => vec![pick(&all, which)?],
        None => all.iter().collect(),
    };
    for pair in &picked {
        computer.keep(&About { paused, ..(*pair).clone() }).await?;
    }
    let runs = nudge(&computer.folder).await?;
    let said = match (paused, runs) {
        (true, _) => "Nothing is carried until yattic sync resume.",
        (false, true) => "It goes on.",
        (false, false) => "It goes on when yattic sync run does.",
    };
    let locals: Vec<_> = picked.iter().map(|pair| &pair.local).collect();
    output.done(&serde_json::json!({ "paused": paused, "pairs": locals }), said)
}

fn rate(text: &str) -> Result<Option<u64>, Failure> {
    if text == "none" {
        return Ok(None);
    }
    match size(text)? {
        rate if rate < 1024 => Err(Failure::usage(
            format!("{text} a second is too slow to carry anything"),
            "Give at least 1KiB, or pause.",
        )),
        rate => Ok(Some(rate)),
    }
}

fn stretch(text: &str) -> Result<Option<(String, String)>, Failure> {
    if text == "none" {
        return Ok(None);
    }
    let both = text.split_once('-').map(|(from, to)| (from.trim(), to.trim()));
    let read = both.filter(|(from, to)| minute(from).is_some() && minute(to).is_some() && from != to);
    let no = || Failure::usage(format!("\"{text}\" is no stretch of a day"), "Give it as 22:00-06:30.");
    let (from, to) = read.ok_or_else(no)?;
    Ok(Some((from.into(), to.into())))
}

/// Says how fast and when anything is carried.
pub(super) async fn limits(
    computer: &Computer,
    [up, down, rest]: [Option<String>; 3],
    output: Output,
) -> Done {
    let before = limits::read(&computer.folder)?;
    let mut set = before.clone();
    if let Some(text) = up {
        set.up = rate(&text)?;
    }
    if let Some(text) = down {
        set.down = rate(&text)?;
    }
    if let Some(text) = rest {
        set.quiet = stretch(&text)?;
    }
    if set != before {
        limits::write(&set, &computer.folder)?;
        nudge(&computer.folder).await?;
    }
    if output.object(&set)? {
        return Ok(());
    }
    let told = |rate: Option<u64>| match rate {
        Some(rate) => format!("at most {} a second", human(rate)),
        None => "as fast as it goes".into(),
    };
    println!("up     {}\ndown   {}", told(set.up), told(set.down));
    match &set.quiet {
        Some((from, to)) => println!("rest   each day from {from} to {to}"),
        None => println!("rest   never"),
    }
    Ok(())
}

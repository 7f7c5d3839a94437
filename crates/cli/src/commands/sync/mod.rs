//! `yattic sync`

mod copies;
mod extension;
pub mod open;
mod run;
mod settings;
mod show;
pub mod unit;

use crate::connection::{self, sure};
use crate::output::{Done, Failure, Output, table};
use crate::page::ask::Runner;
use reqwest::Method;
pub use run::stopped;
use settings::Leaves;
use std::fs;
use std::path::{Path, PathBuf};
use yellow_attic_core::merge::Way;
use yellow_attic_sync::computer::{Computer, NewPair};
use yellow_attic_sync::pairs::preview::{Count, Out, Preview};
use yellow_attic_sync::pairs::state::About;
use yellow_attic_sync::pairs::status::Status;

/// Keep folders on this computer the same as folders of the service.
///
/// A pair is a folder here and one there. What changes on one side is carried to the other: names, moves and removals
/// too. What two change at once is kept twice, and what was changed on one side is never removed by the other.
#[derive(clap::Args)]
pub struct Sync {
    #[command(subcommand)]
    act: Act,
}

#[derive(clap::Subcommand)]
enum Act {
    /// Make a pair of a folder here and a folder there. Nothing is carried over before yattic sync run.
    Add {
        /// The folder here; made if it is not there.
        local: PathBuf,
        /// The folder there, as shelf:/path.
        remote: String,
        /// Only carry what changes there to here.
        #[arg(long, conflicts_with = "up")]
        down: bool,
        /// Only carry what changes here to there.
        #[arg(long)]
        up: bool,
        /// Only say what joining both would do: what is sent, fetched, kept twice, and left out.
        #[arg(long)]
        preview: bool,
        #[command(flatten)]
        leaves: Leaves,
    },
    /// Say what a pair leaves out from now on; without options, show it.
    ///
    /// Leaving something out removes it on neither side; but the copies here of folders that are not chosen any more go,
    /// where the service has the same.
    Set {
        /// The pair's number, or its folder here.
        pair: String,
        #[command(flatten)]
        leaves: Leaves,
        /// Forget what was left out before.
        #[arg(long)]
        everything: bool,
        /// Only say what would be left out.
        #[arg(long)]
        preview: bool,
    },
    /// Carry nothing for now.
    Pause {
        /// The pair's number, or its folder here; all if it is not given.
        pair: Option<String>,
    },
    /// Go on after a pause.
    Resume {
        /// The pair's number, or its folder here; all if it is not given.
        pair: Option<String>,
    },
    /// Say how fast and when this computer's pairs carry anything; without options, show it.
    Limits {
        /// The most that is sent each second, such as 2MiB, or none.
        #[arg(long, value_name = "SIZE")]
        up: Option<String>,
        /// The most that is fetched each second, such as 10MiB, or none.
        #[arg(long, value_name = "SIZE")]
        down: Option<String>,
        /// From when to when nothing is carried, each day by this computer's clock, such as 09:00-17:00, or none.
        #[arg(long, value_name = "FROM-TO")]
        rest: Option<String>,
    },
    /// Let yattic sync run begin with your session, and again when it fails (a unit of systemd).
    Install {
        /// Take that back.
        #[arg(long)]
        remove: bool,
        /// Only print what would be written.
        #[arg(long, conflicts_with = "remove")]
        print: bool,
        /// Instead of that, let file managers show marks and offer acts on what lies in a pair (those that take extensions
        /// for Nautilus, Nemo or Caja in Python).
        #[arg(long)]
        file_manager: bool,
    },
    /// List your pairs.
    Ls,
    /// Keep all pairs the same until it is stopped.
    Run {
        /// Stop when both sides of every pair are the same.
        #[arg(long)]
        once: bool,
    },
    /// Show what each pair is doing, what it left out, and why; or how one file is.
    ///
    /// On a terminal it goes on showing that until you press q.
    Status {
        /// The pair's number, its folder here, or a file or folder in it; all pairs if it is not given.
        pair: Option<String>,
        /// Show it once, on a terminal too.
        #[arg(long)]
        once: bool,
    },
    /// Open this computer's own page in your browser: what its pairs do, and all that can be set. It needs yattic sync run.
    Page {
        /// Only print the name of the file that opens it, for a browser that is not found. It counts for one minute.
        #[arg(long)]
        print: bool,
    },
    /// List copies that keep what two changed at once, until they are settled.
    Conflicts,
    /// Settle a copy that keeps what two changed at once.
    Settle {
        /// The copy, as yattic sync conflicts lists it.
        copy: PathBuf,
        /// Which of both stays: the copy (it takes the file's place, whose state before stays in its history), the original
        /// (the copy goes, and stays in the trash), or both (the copy gets a plain name).
        #[arg(long, value_enum)]
        keep: copies::Stays,
    },
    /// Let a pair remove what it asked for (many files at once are not removed before that), and carry up what was changed
    /// here on what a rollback undid.
    Allow {
        /// The pair's number, or its folder here.
        pair: String,
    },
    /// End a pair. The files on both sides stay as they are.
    End {
        /// The pair's number, or its folder here.
        pair: String,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
}

/// Where the states of pairs lie.
fn folder() -> Result<PathBuf, Failure> {
    let folder = connection::pairs_folder().ok_or_else(|| {
        Failure::failed("there is no home folder", "Set YATTIC_HOME to a folder for yattic's settings.")
    })?;
    fs::create_dir_all(&folder)?;
    fs::set_permissions(&folder, std::os::unix::fs::PermissionsExt::from_mode(0o700))?;
    Ok(folder)
}

/// This computer, with all that it keeps the same.
fn computer() -> Result<Computer, Failure> {
    Ok(Computer::new(folder()?, connection::clients()))
}

/// One pair, by its number or its folder here.
fn pick<'a>(pairs: &'a [About], which: &str) -> Result<&'a About, Failure> {
    let path = fs::canonicalize(which).ok();
    pairs
        .iter()
        .enumerate()
        .find(|(i, pair)| {
            which == (i + 1).to_string() || which == pair.id || Some(&pair.local) == path.as_ref()
        })
        .map(|(_, pair)| pair)
        .ok_or_else(|| {
            Failure::usage(
                format!("there is no pair \"{which}\""),
                "yattic sync ls names them, with their numbers.",
            )
        })
}

impl Sync {
    pub async fn run(self, output: Output) -> Done {
        let computer = computer()?;
        match self.act {
            Act::Add { local, remote, down, up, preview, leaves } => {
                let way = match (down, up) {
                    (true, _) => Way::Down,
                    (_, true) => Way::Up,
                    _ => Way::Both,
                };
                add(&computer, &local, &remote, (way, leaves), preview, output).await
            }
            Act::Set { pair, leaves, everything, preview } => {
                settings::set(&computer, &pair, leaves, everything, preview, output).await
            }
            Act::Pause { pair } => settings::pause(&computer, pair.as_deref(), true, output).await,
            Act::Resume { pair } => settings::pause(&computer, pair.as_deref(), false, output).await,
            Act::Limits { up, down, rest } => settings::limits(&computer, [up, down, rest], output).await,
            Act::Install { remove, print, file_manager: true } => extension::install(remove, print, output),
            Act::Install { remove, print, .. } => unit::install(remove, print, output),
            Act::Ls => ls(&computer, output).await,
            Act::Run { once } => run::run(computer, once, output).await,
            Act::Status { pair, once } => show::status(&computer, pair.as_deref(), once, output).await,
            Act::Page { print } => open::page(&computer, print, output).await,
            Act::Conflicts => copies::list(&computer, output).await,
            Act::Settle { copy, keep } => copies::settle(&computer, &copy, keep, output).await,
            Act::Allow { pair } => allow(&computer, &pair, output).await,
            Act::End { pair, yes } => end(&computer, &pair, yes, output).await,
        }
    }
}

async fn add(
    computer: &Computer,
    local: &Path,
    remote: &str,
    (way, leaves): (Way, Leaves),
    preview: bool,
    output: Output,
) -> Done {
    let service = connection::load()?.address;
    let client = connection::client()?;
    let remote = connection::place(&client, remote, None).await?.path;
    let filter = leaves.filter(&client, &remote).await?;
    let new = NewPair { service, local: std::path::absolute(local)?, remote, way, filter };
    if preview {
        return show_preview(&computer.preview_new(new).await?, output);
    }
    let about = computer.add(new).await?;
    let goes = match run::nudge(&computer.folder).await? {
        true => "It is at work",
        false => "yattic sync run keeps them the same",
    };
    output.done(
        &about,
        format!(
            "{} and {} are a pair. {goes}: what is equal is matched, what differs is kept twice.",
            about.local.display(),
            about.remote
        ),
    )
}

fn show_preview(preview: &Preview, output: Output) -> Done {
    if output.object(preview)? {
        return Ok(());
    }
    let size = |n: u64| crate::output::size(i64::try_from(n).unwrap_or(i64::MAX));
    let told =
        |what: &str, count: &Count| println!("  {what:<12} {:>8} files  {}", count.files, size(count.bytes));
    println!("Joining both would find:");
    told("equal", &preview.same);
    told("to send", &preview.send);
    told("to fetch", &preview.fetch);
    list("different under one name, so kept twice", preview.twice.iter().cloned());
    left_out(&preview.out);
    list("left alone", preview.left.iter().map(|l| format!("{}: {}", l.path, l.why)));
    println!("Nothing was changed.");
    Ok(())
}

/// What a preview found to be left out, with the first of it.
fn left_out(out: &Out) {
    const SHOWN: usize = 20;
    let (files, folders) = (out.count.files, out.folders);
    if files + folders == 0 {
        return;
    }
    let size = crate::output::size(i64::try_from(out.count.bytes).unwrap_or(i64::MAX));
    let folders = match folders {
        0 => String::new(),
        1 => ", and a folder".to_string(),
        n => format!(", and {n} folders"),
    };
    println!("  {:<12} {files:>8} files  {size}{folders}", "to leave out");
    let first = out.examples.iter().take(SHOWN).map(|l| format!("{}: {}", l.path, l.why));
    let more = (out.examples.len() > SHOWN).then(|| "and more".to_string());
    list("left out", first.chain(more));
}

/// Lets a pair remove what it asked for.
async fn allow(computer: &Computer, which: &str, output: Output) -> Done {
    let all = computer.pairs().await?;
    let pair = pick(&all, which)?;
    computer.allow(pair).await?;
    run::nudge(&computer.folder).await?;
    let said =
        "What was asked for is done when the pair works; what is removed, the service keeps in its trash.";
    output.done(&serde_json::json!({ "allowed": pair.local }), said)
}

fn way_word(way: Way) -> &'static str {
    match way {
        Way::Both => "both ways",
        Way::Down => "only down",
        Way::Up => "only up",
    }
}

async fn ls(computer: &Computer, output: Output) -> Done {
    let pairs = computer.pairs().await?;
    if output.object(&pairs)? {
        return Ok(());
    }
    if pairs.is_empty() {
        output.say("There is no pair yet. Make one: yattic sync add ~/Museum home:/");
        return Ok(());
    }
    let mut rows = vec![["", "here", "there", "way", "state"].map(String::from).to_vec()];
    for (i, pair) in pairs.iter().enumerate() {
        let state = match pair.paused {
            true => "paused".into(),
            false => {
                Status::read(&computer.folder, &pair.id)?.map_or("never ran".into(), |s| shown_state(&s))
            }
        };
        rows.push(vec![
            (i + 1).to_string(),
            pair.local.display().to_string(),
            pair.remote.clone(),
            way_word(pair.way).into(),
            state,
        ]);
    }
    table(&rows, &[]);
    Ok(())
}

fn shown_state(status: &Status) -> String {
    let live = status.is_live();
    match status.state.as_str() {
        "in_step" if live => "the same".into(),
        "trouble" => "in trouble".into(),
        "working" if live => "at work".into(),
        "paused" if live => "paused".into(),
        _ => "not running".into(),
    }
}

fn list(head: &str, lines: impl Iterator<Item = String>) {
    let lines: Vec<String> = lines.collect();
    if !lines.is_empty() {
        println!("  {head}:");
        lines.iter().for_each(|line| println!("    {line}"));
    }
}

async fn end(computer: &Computer, which: &str, yes: bool, output: Output) -> Done {
    let all = computer.pairs().await?;
    let pair = pick(&all, which)?;
    let what = format!(
        "{} and {} are kept the same no more; the files stay on both sides",
        pair.local.display(),
        pair.remote
    );
    sure(yes, &what, "End the pair?")?;
    match Runner::of(&computer.folder)? {
        Some(runner) => runner.ask(Method::DELETE, &format!("/here/pairs/{}", pair.id), &()).await?,
        None => {
            let _lock = computer.lock()?;
            computer.forget(pair)?;
        }
    }
    output.done(&serde_json::json!({ "ended": pair.local }), what)
}

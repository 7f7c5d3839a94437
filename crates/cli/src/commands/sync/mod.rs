//! `yattic sync`

mod run;
mod settings;
mod show;
mod unit;

use crate::connection::{self, sure};
use crate::output::{Done, Failure, Output, table};
use settings::Leaves;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use yellow_attic_client::api;
use yellow_attic_core::merge::Way;
use yellow_attic_sync::pairs::ground::Ground;
use yellow_attic_sync::pairs::preview::{Count, Out, Preview};
use yellow_attic_sync::pairs::run::{Running, machine};
use yellow_attic_sync::pairs::state::{About, State, StateError, file_of};
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
        /// Only print the unit.
        #[arg(long, conflicts_with = "remove")]
        print: bool,
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
    Status {
        /// The pair's number, its folder here, or a file or folder in it; all pairs if it is not given.
        pair: Option<String>,
    },
    /// List copies that keep what two changed at once, until you remove or rename them.
    Conflicts,
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

fn state_failed(error: StateError) -> Failure {
    let remedy = match &error {
        StateError::Later(_) => "",
        _ => {
            "End the pair and add it again: both sides are compared, nothing is removed, and what is equal is not sent."
        }
    };
    Failure::failed(error.to_string(), remedy)
}

/// All pairs, by their folders here.
async fn pairs(folder: &Path) -> Result<Vec<About>, Failure> {
    let mut pairs = Vec::new();
    for entry in fs::read_dir(folder)? {
        let path = entry?.path();
        if path.extension().is_some_and(|e| e == "db") {
            let mut state = State::open(&path).await.map_err(state_failed)?;
            let about = state.about().await.map_err(state_failed)?;
            state.close().await.map_err(state_failed)?;
            pairs.push(about);
        }
    }
    pairs.sort_by(|a, b| a.local.cmp(&b.local));
    Ok(pairs)
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
        let folder = folder()?;
        match self.act {
            Act::Add { local, remote, down, up, preview, leaves } => {
                let way = match (down, up) {
                    (true, _) => Way::Down,
                    (_, true) => Way::Up,
                    _ => Way::Both,
                };
                add(&folder, &local, &remote, (way, leaves), preview, output).await
            }
            Act::Set { pair, leaves, everything, preview } => {
                settings::set(&folder, &pair, leaves, everything, preview, output).await
            }
            Act::Pause { pair } => settings::pause(&folder, pair.as_deref(), true, output).await,
            Act::Resume { pair } => settings::pause(&folder, pair.as_deref(), false, output).await,
            Act::Limits { up, down, rest } => settings::limits(&folder, [up, down, rest], output),
            Act::Install { remove, print } => unit::install(remove, print, output),
            Act::Ls => ls(&folder, output).await,
            Act::Run { once } => run::run(&folder, once, output).await,
            Act::Status { pair } => show::status(&folder, pair.as_deref(), output).await,
            Act::Conflicts => conflicts(&folder, output).await,
            Act::Allow { pair } => allow(&folder, &pair, output).await,
            Act::End { pair, yes } => end(&folder, &pair, yes, output).await,
        }
    }
}

async fn add(
    folder: &Path,
    local: &Path,
    remote: &str,
    (way, leaves): (Way, Leaves),
    preview: bool,
    output: Output,
) -> Done {
    let connected = connection::load()?;
    let client = connection::client()?;
    let facts = connection::place(&client, remote, None).await?;
    if facts.node.kind != api::Kind::Folder {
        return Err(Failure::usage(format!("{} is a file", facts.path), "Name the folder that it is in."));
    }
    let made = !local.exists();
    fs::create_dir_all(local)?;
    let local = fs::canonicalize(local)?;
    for other in pairs(folder).await? {
        if local.starts_with(&other.local) || other.local.starts_with(&local) {
            return Err(Failure::failed(
                format!("{} and {} lie in each other", local.display(), other.local.display()),
                "Choose a folder that is in no other pair, and holds none.",
            )
            .coded("pairs_overlap"));
        }
    }
    let device = client.devices().await?.devices.into_iter().find(|d| d.this).map(|d| d.name);
    let about = About {
        id: blake3_of(&format!("{} {} {}", local.display(), facts.node.id, jiff::Timestamp::now())),
        service: connected.address.clone(),
        local: local.clone(),
        remote: facts.path.clone(),
        node: facts.node.id,
        shelf: facts.node.id,
        device: device.unwrap_or_else(|| "computer".into()),
        way,
        machine: machine(),
        paused: false,
        filter: leaves.filter(&client, &facts.path).await?,
    };
    Ground::open(&local, &about.id, true).map_err(|why| {
        Failure::failed(format!("{}: {why}", local.display()), "Choose a folder that you may write to.")
    })?;
    let path = file_of(folder, &about.id);
    let mut state = State::open(&path).await.map_err(state_failed)?;
    state.set_about(&about).await.map_err(state_failed)?;
    state.close().await.map_err(state_failed)?;
    if preview {
        let told = match Running::open(folder, &about.id, client, Arc::default()).await {
            Ok(running) => running.preview().await,
            Err(e) => Err(e),
        };
        forget(folder, &about)?;
        if made {
            let _ = fs::remove_dir(&local);
        }
        return show_preview(
            &told.map_err(|e| Failure::failed(e.to_string(), "Nothing was changed."))?,
            output,
        );
    }
    output.done(
        &about,
        format!(
            "{} and {} are a pair. yattic sync run keeps them the same: what is equal is matched, what differs is kept twice.",
            local.display(),
            facts.path
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

/// Forgets a pair, and gives its folder back.
fn forget(folder: &Path, pair: &About) -> Result<(), Failure> {
    for ending in ["db", "db-wal", "db-shm", "status.json"] {
        match fs::remove_file(folder.join(format!("{}.{ending}", pair.id))) {
            Err(e) if e.kind() != std::io::ErrorKind::NotFound => return Err(e.into()),
            _ => {}
        }
    }
    Ok(Ground::leave(&pair.local, &pair.id)?)
}

/// Lets a pair remove what it asked for.
async fn allow(folder: &Path, which: &str, output: Output) -> Done {
    let all = pairs(folder).await?;
    let pair = pick(&all, which)?;
    let mut state = State::open(&file_of(folder, &pair.id)).await.map_err(state_failed)?;
    state.allow().await.map_err(state_failed)?;
    state.close().await.map_err(state_failed)?;
    run::nudge(folder)?;
    let said =
        "What was asked for is done when the pair works; what is removed, the service keeps in its trash.";
    output.done(&serde_json::json!({ "allowed": pair.local }), said)
}

fn blake3_of(text: &str) -> String {
    yellow_attic_sync::pairs::name_of(text)
}

fn way_word(way: Way) -> &'static str {
    match way {
        Way::Both => "both ways",
        Way::Down => "only down",
        Way::Up => "only up",
    }
}

async fn ls(folder: &Path, output: Output) -> Done {
    let pairs = pairs(folder).await?;
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
            false => Status::read(folder, &pair.id)?.map_or("never ran".into(), |s| shown_state(&s)),
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

async fn conflicts(folder: &Path, output: Output) -> Done {
    let mut found = Vec::new();
    for pair in pairs(folder).await? {
        if let Some(status) = Status::read(folder, &pair.id)? {
            found.extend(status.copies.iter().map(|path| pair.local.join(path).display().to_string()));
        }
    }
    if output.object(&found)? {
        return Ok(());
    }
    match found.is_empty() {
        true => output.say("Nothing is kept twice."),
        false => found.iter().for_each(|path| println!("{path}")),
    }
    Ok(())
}

async fn end(folder: &Path, which: &str, yes: bool, output: Output) -> Done {
    let all = pairs(folder).await?;
    let pair = pick(&all, which)?;
    let what = format!(
        "{} and {} are kept the same no more; the files stay on both sides",
        pair.local.display(),
        pair.remote
    );
    sure(yes, &what, "End the pair?")?;
    let _lock = run::lock(folder)?;
    forget(folder, pair)?;
    output.done(&serde_json::json!({ "ended": pair.local }), what)
}

//! Work in the background that somebody or a schedule asks for: backups, looks at the disk.

use crate::state::work::Works;
use serde_json::{Value, json};
use std::future::Future;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};
use yellow_attic_core::size::human;
use yellow_attic_store::audit::check::check;
use yellow_attic_store::backup::About;
use yellow_attic_store::backup::target::is_backup;
use yellow_attic_store::backup::verify::{Drilled, Keep, drill, let_go};
use yellow_attic_store::fs::progress::Progress;
use yellow_attic_store::people::record::Anchors;
use yellow_attic_store::reconcile::Looking;
use yellow_attic_store::reconcile::report::Report;
use yellow_attic_store::{Engine, ShelfKind, StoreError};

/// What a check reads, in words.
pub const ALL: &str = "live files, the past and the record";

/// Files that a drill brings back.
const SAMPLE: usize = 100;

/// What is said of something that has ended, in words and for programs.
pub struct Said {
    /// In words.
    pub words: String,
    /// For programs.
    pub report: Value,
    /// Whether it is less than was asked for.
    pub failed: bool,
}

/// Runs something as a job: it is listed while it runs, with how far it is, and afterwards with what became of it.
pub async fn run<F>(
    engine: &Engine,
    works: &Works,
    kind: &str,
    by: &str,
    what: &str,
    progress: Arc<Progress>,
    work: F,
) -> Result<Said, StoreError>
where
    F: Future<Output = Result<Said, StoreError>>,
{
    let id = engine.work_begins(kind, by, what).await?;
    works.add(id, progress);
    let done = work.await;
    let (ended, said, report) = match &done {
        Ok(said) if said.failed => ("failed", said.words.clone(), said.report.to_string()),
        Ok(said) => ("done", said.words.clone(), said.report.to_string()),
        Err(StoreError::Stopped) => ("stopped", StoreError::Stopped.to_string(), String::new()),
        Err(error) => ("failed", error.to_string(), String::new()),
    };
    match ended {
        "failed" => tracing::warn!(job = id, kind, said, "a job failed"),
        _ => tracing::info!(job = id, kind, said, "a job has ended"),
    }
    let noted = engine.work_ended(id, ended, &said, &report).await;
    works.remove(id);
    noted.and(done)
}

/// Backs up, lets runs go by rule, and tries the way back.
pub async fn back_up(
    engine: &Engine,
    to: &Path,
    keep: Option<Keep>,
    anew: bool,
    progress: Arc<Progress>,
) -> Result<Said, StoreError> {
    if !anew {
        is_mounted(engine, to).await?;
    }
    let (run, about) = engine.backups().make(to, progress.clone()).await?;
    let scratch = engine.data_path().join("cache/drill");
    let drilled = drill(to, &run, &scratch, SAMPLE).await?;
    let gone = match keep {
        // Only after what is newer is known to be whole, and by a clock that is believed.
        Some(keep)
            if about.missing_count == 0 && drilled.failed.is_empty() && engine.clock_doubt().is_none() =>
        {
            let (to, now) = (to.to_path_buf(), engine.wall_ms());
            let gone = tokio::task::spawn_blocking(move || let_go(&to, keep, now, true, &progress)).await;
            gone.map_err(|_| StoreError::Stopping)??.runs
        }
        _ => Vec::new(),
    };
    let words = words(&about, &drilled, gone.len());
    Ok(Said {
        failed: about.missing_count > 0 || !drilled.failed.is_empty(),
        words,
        report: json!({
            "run": run,
            "to": to,
            "files": about.files,
            "bytes": about.bytes,
            "past": about.past,
            "new": about.new,
            "new_bytes": about.new_bytes,
            "missing": about.missing_count,
            "missing_names": about.missing,
            "as_of": about.at,
            "drill": drilled,
            "let_go": gone,
        }),
    })
}

/// Where backups have been there are some still: else the disk is not there on which they lie, and the one beneath would be filled.
async fn is_mounted(engine: &Engine, to: &Path) -> Result<(), StoreError> {
    let what = to.display().to_string();
    let been = engine.work_listed(1_000).await?;
    match been.iter().any(|work| work.kind == "backup" && work.state == "done" && work.what == what)
        && !is_backup(to)
    {
        true => Err(StoreError::BadInput(format!(
            "{what} has held backups and holds none: see that its disk is mounted. To begin anew there: yatticd backup {what} --anew"
        ))),
        false => Ok(()),
    }
}

fn words(about: &About, drilled: &Drilled, gone: usize) -> String {
    let mut said = format!(
        "{} files, {}, and {} past states; {} of it new",
        about.files,
        human(about.bytes),
        about.past,
        human(about.new_bytes)
    );
    match about.missing_count {
        0 => {}
        n => said += &format!(". {n} could not be copied, first {}", about.missing[0]),
    }
    match drilled.failed.first() {
        None => said += &format!(". {} of them were brought back and are as they were", drilled.files),
        Some(first) => said += &format!(". In the drill {} failed, first {first}", drilled.failed.len()),
    }
    if gone > 0 {
        said += &format!(". {gone} older runs were let go");
    }
    said
}

/// Reads everything that the store holds: live files where they lie, the past, packs, and the record's chain. What the disk has damaged is
/// put right, if that is wanted, from wherever sound bytes are.
pub async fn check_all(
    engine: &Engine,
    heal: bool,
    from: &[PathBuf],
    paced: bool,
    progress: Arc<Progress>,
) -> Result<Said, StoreError> {
    let looking = Looking {
        verify: true,
        take_up: true,
        heal,
        heal_from: from.to_vec(),
        paced,
        progress: Some(progress.clone()),
        ..Looking::default()
    };
    let live = engine.on_disk().reconcile(&looking).await?;
    *progress.step.lock() = "reading the past";
    progress.done.store(0, Ordering::Relaxed);
    let its = progress.clone();
    let mut since = Instant::now();
    let read = Box::new(move |bytes: u64| {
        its.bytes.store(bytes, Ordering::Relaxed);
        // On a thread of its own: others go first for as long as it read.
        if paced {
            std::thread::sleep(since.elapsed().min(Duration::from_secs(1)));
            since = Instant::now();
        }
        !its.stop.load(Ordering::Relaxed)
    });
    let heads = std::fs::read_to_string(engine.data_path().join("record.heads")).unwrap_or_default();
    let (heads, _) = yellow_attic_store::fs::record_key::heads(&heads);
    let past = check(engine.data_path(), Anchors { key: None, heads }, read).await?;
    let healed = if heal { engine.heal_past(&past, from).await? } else { 0 };
    let hurt =
        past.damaged.iter().filter(|name| !name.contains('.')).count() as u64 + past.missing.len() as u64;
    let left = live.damaged.count - live.healed.count + hurt.saturating_sub(healed);
    let mut words = format!("{} live files and {} past contents were read", live.hashed, past.past);
    match live.damaged.count + hurt {
        0 => words += ", and are as they were",
        n => words += &format!("; {n} are damaged, {} of them are as they were again", n - left),
    }
    if let Some((row, why)) = past.record.broken {
        words += &format!(". The record does not hold at row {row}: {why}");
    }
    Ok(Said {
        failed: left > 0 || past.record.broken.is_some(),
        words,
        report: json!({
            "live": live.hashed,
            "past": past.past,
            "past_bytes": past.past_bytes,
            "damaged": live.damaged.names.iter().cloned()
                .chain(past.damaged.iter().filter(|name| !name.contains('.')).map(|name| format!("past/{name}")))
                .chain(past.missing.iter().map(|name| format!("past/{name}: it is not there")))
                .collect::<Vec<_>>(),
            "healed": live.healed.count + healed,
            "left": left,
            "found": live.differences(),
            "record": past.record.broken.is_none(),
        }),
    })
}

/// Where is looked, by names.
#[derive(Clone, Debug, Default, serde::Serialize, serde::Deserialize)]
pub struct Wanted {
    /// Homes of these accounts.
    pub accounts: Vec<String>,
    /// These shared shelves; everything if neither is named.
    pub shelves: Vec<String>,
    /// Whether each file is read.
    pub verify: bool,
    /// Whether what is found is taken up.
    pub take_up: bool,
    /// Whether so much may be gone that it would be asked about.
    pub accept_gone: bool,
}

/// Compares what lies on the disk with the catalogue.
pub async fn reconcile(
    engine: &Engine,
    wanted: &Wanted,
    progress: Arc<Progress>,
) -> Result<Report, StoreError> {
    let mut looking = Looking {
        verify: wanted.verify,
        take_up: wanted.take_up,
        accept_gone: wanted.accept_gone,
        progress: Some(progress),
        ..Looking::default()
    };
    let shelves = engine.shelves();
    let all = [(ShelfKind::Home, &wanted.accounts), (ShelfKind::Shared, &wanted.shelves)];
    for (kind, name) in all.into_iter().flat_map(|(kind, names)| names.iter().map(move |name| (kind, name))) {
        let shelf = shelves.iter().find(|shelf| shelf.kind == kind && shelf.name == *name);
        let what = if kind == ShelfKind::Home { "An account with a home" } else { "A shared shelf" };
        let none = || StoreError::NotFound(format!("{what} called \"{name}\""));
        looking.folders.push(shelf.ok_or_else(none)?.root);
    }
    engine.on_disk().reconcile(&looking).await
}

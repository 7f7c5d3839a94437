use super::{Outcome, watched};
use serde_json::json;
use std::path::PathBuf;
use std::sync::Arc;
use yellow_attic_core::size::human;
use yellow_attic_server::http::times::show;
use yellow_attic_store::backup::restore::restore;
use yellow_attic_store::backup::verify::take_out;
use yellow_attic_store::fs::progress::Progress;
use yellow_attic_store::{Actor, Engine, Options};

/// Bring a store back from a backup, into an empty folder; or take single files out of it.
///
/// Accounts, files, history, rights and rules come back. Who had access does not by itself: browsers are signed out, computers are
/// connected anew, links and intakes sleep until they are confirmed. Nothing that is there is ever replaced.
#[derive(clap::Args)]
pub struct Restoring {
    /// The folder with the backups.
    #[arg(value_name = "FOLDER")]
    from: PathBuf,
    /// The run, as `yatticd backup FOLDER --list` names it; else the newest.
    #[arg(long, value_name = "RUN")]
    run: Option<String>,
    /// The new data folder: empty, or not there.
    #[arg(long, value_name = "DIR", required_unless_present = "path", conflicts_with_all = ["path", "out"])]
    into: Option<PathBuf>,
    /// The key of second factors (the file secrets.key of the store of before). Without it they are set up anew.
    #[arg(long, value_name = "FILE", requires = "into")]
    secrets_key: Option<PathBuf>,
    /// Take out this file or folder alone, as files.txt names it: home/ines/Plans.
    #[arg(long, value_name = "PATH", requires = "out")]
    path: Option<String>,
    /// Where it goes: an ordinary folder.
    #[arg(long, value_name = "DIR", requires = "path")]
    out: Option<PathBuf>,
    /// As JSON.
    #[arg(long)]
    json: bool,
}

/// Restores. Fails if not all came back.
pub async fn run(asked: &Restoring) -> Outcome {
    let progress = Arc::new(Progress::default());
    if let (Some(path), Some(out)) = (&asked.path, &asked.out) {
        let (from, run, path, out) = (asked.from.clone(), asked.run.clone(), path.clone(), out.clone());
        let its = progress.clone();
        let taking = tokio::task::spawn_blocking(move || take_out(&from, run.as_deref(), &path, &out, &its));
        let done = watched(&progress, taking).await??;
        match asked.json {
            true => println!(
                "{:#}",
                json!({ "given": done.given, "done": done.done, "bytes": done.bytes, "skipped": done.skipped, "failed": done.failed })
            ),
            false => {
                println!("Taken out  {} of {} files, {}", done.done, done.given, human(done.bytes));
                if done.skipped > 0 {
                    println!("There      {} with the same bytes", done.skipped);
                }
                done.failed.iter().for_each(|what| println!("Failed     {what}"));
            }
        }
        return match done.failed.len() {
            0 => Ok(()),
            n => Err(format!("{n} files were not taken out; see above").into()),
        };
    }
    let into = asked.into.clone().ok_or("say where: --into DIR")?;
    let (run, key) = (asked.run.as_deref(), asked.secrets_key.as_deref());
    let found = watched(&progress, restore(&asked.from, run, &into, key, progress.clone())).await?;
    // It is opened once: what is wrong with it is seen now, and its record says where it comes from.
    let engine = Engine::open(Options { background: false, watch: false, ..Options::new(&into) }).await?;
    let from = format!("{}, run {}", asked.from.display(), found.run);
    let detail = format!("as it was {}", show(found.about.at));
    engine.people().note(&Actor::service(), "restored from a backup", None, &from, &detail).await?;
    let record_key = engine.first_record_key().map(str::to_string);
    engine.stop().await;
    if asked.json {
        println!(
            "{:#}",
            json!({ "run": found.run, "as_of": show(found.about.at), "files": found.files, "bytes": found.bytes,
                "past": found.past, "missing": found.missing_count, "missing_names": found.missing,
                "secrets_key": found.has_key, "record_key": record_key })
        );
    } else {
        println!("Restored   {} as it was {}", into.display(), show(found.about.at));
        println!("Files      {}, {}", found.files, human(found.bytes));
        println!("Past       {} contents and packs", found.past);
        found.missing.iter().for_each(|what| println!("Missing    {what}"));
        if found.missing_count > found.missing.len() as u64 {
            println!("Missing    and {} more", found.missing_count - found.missing.len() as u64);
        }
        println!(
            "Access     browsers are signed out; computers are connected anew; links and intakes sleep until they are confirmed"
        );
        if !found.has_key {
            println!(
                "Factors    without the key (--secrets-key) second factors are set up anew: recovery codes still sign in"
            );
        }
        if let Some(key) = record_key {
            println!("Record     goes on with a new key. Keep it elsewhere: {key}");
        }
        println!("Next       give the service this folder (data), and start it");
    }
    match found.missing_count {
        0 => Ok(()),
        n => Err(format!("{n} could not be brought back; see above").into()),
    }
}

use super::{Common, Outcome, by_service, watched};
use serde_json::json;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use yellow_attic_core::size::human;
use yellow_attic_server::control::BY;
use yellow_attic_server::control::Request;
use yellow_attic_server::http::times::show;
use yellow_attic_server::jobs::work::{Said, back_up, run as run_job};
use yellow_attic_server::state::work::Works;
use yellow_attic_store::backup::target::runs;
use yellow_attic_store::backup::verify::{Keep, let_go, verify};
use yellow_attic_store::fs::progress::Progress;
use yellow_attic_store::{Engine, Options};

/// Copy the whole store to another folder, while the service runs or not: files, history, accounts, rights, links.
///
/// What is there already is not copied again. The folder is read with ordinary tools: files.txt of each run says which file is
/// which content. Afterwards some files are brought back from it and compared. The key of second factors is not in it: keep it
/// elsewhere.
#[derive(clap::Args)]
pub struct BackingUp {
    #[command(flatten)]
    pub common: Common,
    /// The folder, best on another disk; else the one that is configured (backup_to).
    #[arg(value_name = "FOLDER")]
    to: Option<PathBuf>,
    /// Begin anew in a folder that has held backups and holds none. (Else its disk is taken for not mounted.)
    #[arg(long, conflicts_with_all = ["list", "verify", "let_go"])]
    anew: bool,
    /// List the runs that are there.
    #[arg(long, conflicts_with_all = ["verify", "let_go"])]
    list: bool,
    /// Read everything that is there, and say what is not as it was written.
    #[arg(long, conflicts_with = "let_go")]
    verify: bool,
    /// Let older runs go, and what no other run names. Without --really it is only told what would go.
    #[arg(long)]
    let_go: bool,
    /// All runs of the last so many days stay.
    #[arg(long, value_name = "DAYS", default_value_t = 30, requires = "let_go")]
    keep_days: i64,
    /// And the last run of each of the last so many months that have one.
    #[arg(long, value_name = "MONTHS", default_value_t = 12, requires = "let_go")]
    keep_months: i64,
    /// Do let them go.
    #[arg(long, requires = "let_go")]
    really: bool,
    /// As JSON.
    #[arg(long)]
    json: bool,
}

/// Backs up, or looks after what is there. Fails if something is not whole.
pub async fn run(asked: &BackingUp) -> Outcome {
    let config = asked.common.read()?;
    let set = config.backup.as_ref().map(|backup| backup.to.clone());
    let to = asked.to.clone().or(set).ok_or("name the folder for the backup, or set backup_to")?;
    let to = std::path::absolute(&to)?;
    let progress = Arc::new(Progress::default());
    if asked.list {
        return list(&to, asked.json);
    }
    if asked.verify {
        let found = watched(&progress, verify(&to, progress.clone())).await?;
        match asked.json {
            true => println!(
                "{:#}",
                json!({ "runs": found.runs, "contents": found.contents, "bytes": found.bytes, "damaged": found.damaged })
            ),
            false => {
                println!(
                    "Read       {} contents of {} runs, {}",
                    found.contents,
                    found.runs,
                    human(found.bytes)
                );
                found.damaged.iter().for_each(|what| println!("Damaged    {what}"));
            }
        }
        return match found.damaged.len() {
            0 if asked.json => Ok(()),
            0 => {
                println!("All of it is as it was written.");
                Ok(())
            }
            n => Err(format!("{n} are not as they were written: what is live still is copied anew once the damaged file is removed").into()),
        };
    }
    if asked.let_go {
        return thin(&to, asked, &progress);
    }
    let request = Request::BackUp { to: to.clone(), keep: None, anew: asked.anew };
    let said = match by_service(&config.data, &request).await? {
        Some(said) => said,
        None => {
            let engine = Engine::open(Options { watch: false, background: false, ..config.store() }).await?;
            let (works, what) = (Works::default(), to.display().to_string());
            let work = back_up(&engine, &to, None, asked.anew, progress.clone());
            let made = run_job(&engine, &works, "backup", BY, &what, progress.clone(), work);
            let made = watched(&progress, made).await;
            engine.stop().await;
            made?
        }
    };
    tell(&said, &to, asked.json);
    match said.failed {
        true => Err("not all could be copied, or brought back; see above".into()),
        false => Ok(()),
    }
}

fn tell(said: &Said, to: &Path, as_json: bool) {
    if as_json {
        println!("{:#}", said.report);
        return;
    }
    let of = |name: &str| said.report[name].as_u64().unwrap_or(0);
    println!("Backup     {} in {}", said.report["run"].as_str().unwrap_or_default(), to.display());
    println!("Files      {}, {}", of("files"), human(of("bytes")));
    println!("Past       {} states", of("past"));
    println!("New        {} contents and packs, {}", of("new"), human(of("new_bytes")));
    let names = said.report["missing_names"].as_array().cloned().unwrap_or_default();
    for name in &names {
        println!("Missing    {}", name.as_str().unwrap_or_default());
    }
    if of("missing") > names.len() as u64 {
        println!("Missing    and {} more", of("missing") - names.len() as u64);
    }
    let drill = &said.report["drill"];
    println!("Tried      {} files were brought back and compared", drill["files"]);
    for what in drill["failed"].as_array().into_iter().flatten() {
        println!("Failed     {}", what.as_str().unwrap_or_default());
    }
}

fn list(to: &Path, as_json: bool) -> Outcome {
    let all = runs(to)?;
    if as_json {
        let all: Vec<_> = all
            .iter()
            .map(|(name, about)| {
                json!({ "run": name, "ended": show(about.ended_at), "as_of": show(about.at), "files": about.files,
                    "bytes": about.bytes, "past": about.past, "new_bytes": about.new_bytes, "missing": about.missing_count })
            })
            .collect();
        println!("{:#}", json!(all));
        return Ok(());
    }
    if all.is_empty() {
        println!("No run has ended in {}.", to.display());
    }
    for (name, about) in all {
        let whole = match about.missing_count {
            0 => "whole".to_string(),
            n => format!("{n} missing"),
        };
        println!(
            "{name:<22}  {:>9} files {:>10}  {:>9} past  {:>10} new  {whole}",
            about.files,
            human(about.bytes),
            about.past,
            human(about.new_bytes)
        );
    }
    Ok(())
}

fn thin(to: &Path, asked: &BackingUp, progress: &Progress) -> Outcome {
    let keep = Keep { days: asked.keep_days.max(0), months: asked.keep_months.max(0) };
    let now = jiff::Timestamp::now().as_millisecond();
    let done = let_go(to, keep, now, asked.really, progress)?;
    if asked.json {
        println!(
            "{:#}",
            json!({ "let_go": asked.really, "runs": done.runs, "stay": done.stay, "files": done.files, "bytes": done.bytes })
        );
        return Ok(());
    }
    done.runs
        .iter()
        .for_each(|run| println!("{}  {run}", if asked.really { "Let go   " } else { "Would go " }));
    println!("Stay       {}", if done.stay == 1 { "1 run".into() } else { format!("{} runs", done.stay) });
    match (asked.really, done.runs.is_empty()) {
        (_, true) => println!("Nothing is to be let go."),
        (true, _) => println!("Freed      {} files, {}", done.files, human(done.bytes)),
        (false, _) => println!(
            "Would free {} files, {}. Nothing is changed yet: say --really",
            done.files,
            human(done.bytes)
        ),
    }
    Ok(())
}

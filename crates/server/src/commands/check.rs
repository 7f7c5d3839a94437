use super::{Common, Outcome, by_service, watched};
use std::io::IsTerminal;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use yellow_attic_core::size::human;
use yellow_attic_server::config::Config;
use yellow_attic_server::control::BY;
use yellow_attic_server::control::Request;
use yellow_attic_server::http::times::show;
use yellow_attic_server::jobs::work::{ALL, check_all, run as run_job};
use yellow_attic_server::state::work::Works;
use yellow_attic_store::audit::check::{Check, check, check_record};
use yellow_attic_store::fs::progress::Progress;
use yellow_attic_store::fs::record_key;
use yellow_attic_store::people::record::{Anchors, RecordCheck};
use yellow_attic_store::timeline::space::recount;
use yellow_attic_store::{Engine, Options};

/// Follow the record's chain and hash every past content, whether or not the service runs.
#[derive(clap::Args)]
pub struct Checking {
    #[command(flatten)]
    pub common: Common,
    /// Look at the record alone.
    #[arg(long, conflicts_with = "space")]
    record: bool,
    /// The file that holds the record's first key, as it was told when it was made: proves which rows nobody wrote anew.
    #[arg(long, value_name = "FILE")]
    record_key: Option<PathBuf>,
    /// Ends of days that were kept elsewhere, in the place of record.heads of the data folder.
    #[arg(long, value_name = "FILE")]
    record_heads: Option<PathBuf>,
    /// Count every sum once more instead: each folder's from its rows, and the bytes on the disk. A
    /// service that writes meanwhile makes them differ.
    #[arg(long)]
    space: bool,
    /// Read the live files as well, through the running service if there is one. What hands changed is taken up; what nobody touched and is
    /// not as it was is damage.
    #[arg(long, conflicts_with_all = ["record", "space"])]
    live: bool,
    /// Put right what the disk has damaged, from the history, equal files, or a backup. The damaged bytes are kept.
    #[arg(long, requires = "live")]
    heal: bool,
    /// A folder with backups in which sound bytes may be, beside the one that is configured.
    #[arg(long, value_name = "FOLDER", requires = "heal")]
    from: Vec<PathBuf>,
    /// As JSON.
    #[arg(long)]
    json: bool,
}

/// Checks, and fails if anything is not as it should be.
pub async fn run(checking: &Checking) -> Outcome {
    let config = checking.common.read()?;
    if checking.live {
        return live(checking, &config).await;
    }
    if checking.space {
        return space(&config.data, checking.json).await;
    }
    let anchors = anchors(checking, &config.data)?;
    let has_key = anchors.key.is_some();
    if checking.record {
        let found = check_record(&config.data, anchors).await?;
        match checking.json {
            true => println!("{}", serde_json::to_string_pretty(&record_json(&found))?),
            false => print_record(&found, has_key),
        }
        return match found.broken {
            None => Ok(()),
            Some(_) => Err("the record does not hold; see above".into()),
        };
    }
    let terminal = std::io::stderr().is_terminal();
    let mut last = 0;
    let hashed = move |bytes: u64| {
        if terminal && bytes - last > 64 << 20 {
            last = bytes;
            eprint!("\r{} of the past hashed ", human(bytes));
        }
        true
    };
    let found = check(&config.data, anchors, Box::new(hashed)).await?;
    if terminal {
        eprint!("\r{:40}\r", "");
    }
    if checking.json {
        println!("{}", serde_json::to_string_pretty(&json(&found))?);
    } else {
        print(&found, has_key);
    }
    if found.is_sound() { Ok(()) } else { Err("the check found damage; see above".into()) }
}

/// Reads everything. Fails if damage is left.
async fn live(checking: &Checking, config: &Config) -> Outcome {
    let absolute = |path: &PathBuf| std::path::absolute(path);
    let from = checking.from.iter().map(absolute).collect::<Result<Vec<_>, _>>()?;
    let request = Request::Check { heal: checking.heal, from: from.clone() };
    let said = match by_service(&config.data, &request).await? {
        Some(said) => said,
        None => {
            let engine = Engine::open(Options { watch: false, background: false, ..config.store() }).await?;
            let progress = Arc::new(Progress::default());
            let from = [from, config.backup.iter().map(|backup| backup.to.clone()).collect()].concat();
            let read = check_all(&engine, checking.heal, &from, false, progress.clone());
            let works = Works::default();
            let read = run_job(&engine, &works, "check", BY, ALL, progress.clone(), read);
            let read = watched(&progress, read).await;
            engine.stop().await;
            read?
        }
    };
    if checking.json {
        println!("{:#}", said.report);
    } else {
        let of = |name: &str| said.report[name].as_u64().unwrap_or(0);
        println!("Live      {} files were read where they lie", of("live"));
        println!("Past      {} contents, {}", of("past"), human(of("past_bytes")));
        println!(
            "Record    {}",
            if said.report["record"] == true {
                "the chain holds"
            } else {
                "does not hold: see yatticd check --record"
            }
        );
        for what in said.report["damaged"].as_array().into_iter().flatten() {
            println!("Damaged   {}", what.as_str().unwrap_or_default());
        }
        if of("found") > 0 {
            println!("Taken up  {} things that hands had changed", of("found"));
        }
        if of("healed") > 0 {
            println!("Healed    {}: the damaged bytes are kept in past/", of("healed"));
        }
        match (of("left"), checking.heal) {
            (0, _) => println!("All of it is as it was written."),
            (n, true) => println!("Left      {n}: name a folder with a backup that has them (--from)"),
            (n, false) => println!("Left      {n}: --heal puts right what has sound bytes somewhere"),
        }
    }
    if said.failed { Err("not all is as it was written; see above".into()) } else { Ok(()) }
}

/// Counts, and fails if two figures differ that should be one.
async fn space(data: &std::path::Path, as_json: bool) -> Outcome {
    let found = recount(data).await?;
    if as_json {
        let differs = found.differs.iter().map(
            |d| serde_json::json!({ "node": d.node, "name": d.name, "kept": d.kept, "counted": d.counted }),
        );
        let pair =
            |(disk, catalogue): (i64, i64)| serde_json::json!({ "disk": disk, "catalogue": catalogue });
        println!(
            "{}",
            serde_json::to_string_pretty(&serde_json::json!({
                "agrees": found.agrees(),
                "folders": found.folders,
                "live": pair((found.live_on_disk, found.live)),
                "files": pair((found.files_on_disk, found.files)),
                "past": { "bytes": found.past, "trash": found.trash },
                "whole": pair(found.whole),
                "packs": pair(found.packs),
                "differs": differs.collect::<Vec<_>>(),
            }))?
        );
    } else {
        let size = |n: i64| human(n.max(0) as u64);
        let line = |what: &str, disk: i64, catalogue: i64| match disk == catalogue {
            true => println!("{what} {} ({disk} bytes), on the disk and in the catalogue", size(disk)),
            false => println!("{what} {disk} bytes on the disk, {catalogue} in the catalogue"),
        };
        println!("Sums      {} folders, {} differ", found.folders, found.differs.len());
        for d in &found.differs {
            println!(
                "Differs   {} (#{}): kept {:?}, counted {:?} (bytes, files, folders, past bytes, past states, trash bytes, trash files)",
                d.name, d.node, d.kept, d.counted
            );
        }
        line("Live     ", found.live_on_disk, found.live);
        println!(
            "History   {}, {} of it in the trash; each state counted by itself",
            size(found.past),
            size(found.trash)
        );
        line("Whole    ", found.whole.0, found.whole.1);
        line("Packs    ", found.packs.0, found.packs.1);
    }
    if found.agrees() { Ok(()) } else { Err("the figures differ; see above".into()) }
}

/// The key and the ends of days by which the record is checked.
fn anchors(checking: &Checking, data: &Path) -> Result<Anchors, Box<dyn std::error::Error>> {
    let read = |path: &Path| std::fs::read_to_string(path).map_err(|e| format!("{}: {e}", path.display()));
    let key = checking.record_key.as_deref().map(read).transpose()?.map(|t| t.trim().to_string());
    let heads = match &checking.record_heads {
        Some(path) => read(path)?,
        None => std::fs::read_to_string(data.join("record.heads")).unwrap_or_default(),
    };
    let (heads, bad) = record_key::heads(&heads);
    if bad > 0 {
        return Err(format!("{bad} of the lines with ends of days cannot be read").into());
    }
    Ok(Anchors { key, heads })
}

fn print_record(found: &RecordCheck, has_key: bool) {
    match found.broken {
        None => println!("Record    {} rows, the chain holds", found.rows),
        Some((row, why)) => println!("Record    does not hold at row {row}: {why}"),
    }
    match (found.proved, has_key) {
        (Some((from, to)), _) => {
            println!("Proved    rows {from} to {to} by the key: nobody who broke in later wrote them")
        }
        (None, true) => println!("Proved    nothing: no row is marked by this key"),
        (None, false) => println!(
            "Proved    nothing beside the chain: who can write the catalogue can write all of it anew. Give the key that was told: --record-key FILE"
        ),
    }
    match found.last_head {
        Some(row) => println!("Ends      {} ends of days agree, the last with row {row}", found.heads),
        None => {
            println!("Ends      no end of a day was kept: whether the last rows were cut off is not known")
        }
    }
}

fn record_json(found: &RecordCheck) -> serde_json::Value {
    serde_json::json!({
        "rows": found.rows,
        "broken_at": found.broken.map(|b| b.0),
        "reason": found.broken.map(|b| b.1),
        "proved_from": found.proved.map(|p| p.0),
        "proved_to": found.proved.map(|p| p.1),
        "ends_of_days": found.heads,
        "last_end": found.last_head,
    })
}

fn print(found: &Check, has_key: bool) {
    print_record(&found.record, has_key);
    println!(
        "Past      {} contents, {}, {}",
        found.past,
        human(found.past_bytes),
        if found.damaged.is_empty() && found.missing.is_empty() {
            "each as its hash says"
        } else {
            "not all sound"
        }
    );
    for name in &found.damaged {
        println!(
            "Damaged   past/{}/{name}: another program wrote to it, or the disk did",
            &name[..2.min(name.len())]
        );
    }
    for hash in &found.missing {
        println!("Missing   past/{}/{hash}: bring it back from a backup", &hash[..2]);
    }
    if found.findings.is_empty() {
        println!("Findings  none");
    }
    for finding in &found.findings {
        println!("Finding   {}  {}: {}", show(finding.at), finding.kind, finding.detail);
    }
}

fn json(found: &Check) -> serde_json::Value {
    serde_json::json!({
        "sound": found.is_sound(),
        "record": record_json(&found.record),
        "past": { "contents": found.past, "bytes": found.past_bytes },
        "damaged": found.damaged,
        "missing": found.missing,
        "findings": found.findings.iter().map(|f| serde_json::json!({
            "at": show(f.at), "kind": f.kind, "detail": f.detail,
        })).collect::<Vec<_>>(),
    })
}

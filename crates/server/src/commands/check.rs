use super::{Common, Outcome};
use std::io::IsTerminal;
use yellow_attic_core::size::human;
use yellow_attic_server::times::show;
use yellow_attic_store::check::{Check, check};
use yellow_attic_store::space::recount;

/// Follow the record's chain and hash every past content, whether or not the service runs.
#[derive(clap::Args)]
pub struct Checking {
    #[command(flatten)]
    common: Common,
    /// Count every sum once more instead: each folder's from its rows, and the bytes on the disk. A
    /// service that writes meanwhile makes them differ.
    #[arg(long)]
    space: bool,
    /// As JSON.
    #[arg(long)]
    json: bool,
}

/// Checks, and fails if anything is not as it should be.
pub async fn run(checking: &Checking) -> Outcome {
    let config = checking.common.read()?;
    if checking.space {
        return space(&config.data, checking.json).await;
    }
    let terminal = std::io::stderr().is_terminal();
    let mut last = 0;
    let hashed = move |bytes: u64| {
        if terminal && bytes - last > 64 << 20 {
            last = bytes;
            eprint!("\r{} of the past hashed ", human(bytes));
        }
    };
    let found = check(&config.data, Box::new(hashed)).await?;
    if terminal {
        eprint!("\r{:40}\r", "");
    }
    if checking.json {
        println!("{}", serde_json::to_string_pretty(&json(&found))?);
    } else {
        print(&found);
    }
    if found.is_sound() { Ok(()) } else { Err("the check found damage; see above".into()) }
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

fn print(found: &Check) {
    match found.record.broken {
        None => println!("Record    {} rows, the chain holds", found.record.rows),
        Some((row, why)) => println!("Record    the chain breaks at row {row}: {why}"),
    }
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
        "record": {
            "rows": found.record.rows,
            "broken_at": found.record.broken.map(|b| b.0),
            "reason": found.record.broken.map(|b| b.1),
        },
        "past": { "contents": found.past, "bytes": found.past_bytes },
        "damaged": found.damaged,
        "missing": found.missing,
        "findings": found.findings.iter().map(|f| serde_json::json!({
            "at": show(f.at), "kind": f.kind, "detail": f.detail,
        })).collect::<Vec<_>>(),
    })
}

use super::{Common, Outcome};
use std::io::IsTerminal;
use yellow_attic_core::size::human;
use yellow_attic_server::times::show;
use yellow_attic_store::check::{Check, check};

/// Follow the record's chain and hash every past content, whether or not the service runs.
#[derive(clap::Args)]
pub struct Checking {
    #[command(flatten)]
    common: Common,
    /// As JSON.
    #[arg(long)]
    json: bool,
}

/// Checks, and fails if anything is not as it should be.
pub async fn run(checking: &Checking) -> Outcome {
    let config = checking.common.read()?;
    let terminal = std::io::stderr().is_terminal();
    let mut last = 0;
    let found = check(&config.data, move |bytes| {
        if terminal && bytes - last > 64 << 20 {
            last = bytes;
            eprint!("\r{} of the past hashed ", human(bytes));
        }
    })
    .await?;
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

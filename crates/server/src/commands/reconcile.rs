use super::{Common, Outcome, by_service, watched};
use std::sync::Arc;
use yellow_attic_core::size::human;
use yellow_attic_server::control::Request;
use yellow_attic_server::jobs::work::{Wanted, reconcile};
use yellow_attic_store::fs::progress::Progress;
use yellow_attic_store::reconcile::report::{Kind, NAMES, Report};
use yellow_attic_store::{Engine, Options};

/// Compare what lies on the disk with the catalogue, whether or not the service runs. A running one takes up by itself what hands do.
///
/// Without --take-up it is only told what differs. What is taken up becomes part of the timeline, as found on disk: new files and
/// folders, other bytes, what was renamed and moved (it keeps its history, links and rights), and what is gone.
#[derive(clap::Args)]
pub struct Reconciling {
    #[command(flatten)]
    pub common: Common,
    /// Look at the home of this account alone.
    #[arg(long, value_name = "NAME")]
    account: Vec<String>,
    /// Look at this shared shelf alone.
    #[arg(long, value_name = "NAME")]
    shelf: Vec<String>,
    /// Read every file, however much it looks as it was.
    #[arg(long)]
    verify: bool,
    /// Take up what is found.
    #[arg(long)]
    take_up: bool,
    /// Believe it even if more than a fifth of a shelf (and more than 100 files) is gone.
    #[arg(long, requires = "take_up")]
    accept_gone: bool,
    /// As JSON.
    #[arg(long)]
    json: bool,
}

/// Compares. Fails if something differs and was not taken up, so that a script can tell.
pub async fn run(asked: &Reconciling) -> Outcome {
    let config = asked.common.read()?;
    let wanted = Wanted {
        accounts: asked.account.clone(),
        shelves: asked.shelf.clone(),
        verify: asked.verify,
        take_up: asked.take_up,
        accept_gone: asked.accept_gone,
    };
    let found: Report = match by_service(&config.data, &Request::Reconcile { wanted: wanted.clone() }).await?
    {
        Some(said) => serde_json::from_value(said.report)?,
        None => {
            let engine = Engine::open(Options { watch: false, ..config.store() }).await?;
            let progress = Arc::new(Progress::default());
            let looked = watched(&progress, reconcile(&engine, &wanted, progress.clone())).await;
            engine.stop().await;
            looked?
        }
    };
    match asked.json {
        true => println!("{}", serde_json::to_string_pretty(&json(&found, asked))?),
        false => print(&found, asked),
    }
    if !found.asks.is_empty() && !asked.accept_gone {
        return Err("much is gone: put it back, or say --take-up --accept-gone".into());
    }
    match found.differences() > 0 && !asked.take_up {
        true => Err("something differs; --take-up takes it up".into()),
        false => Ok(()),
    }
}

fn kinds(found: &Report) -> [(&'static str, &'static str, &Kind); 10] {
    [
        ("new_files", "New files", &found.new_files),
        ("new_folders", "New folders", &found.new_folders),
        ("changed", "Changed", &found.changed),
        ("touched", "Touched", &found.touched),
        ("moved", "Moved", &found.moved),
        ("gone", "Gone", &found.gone),
        ("damaged", "Damaged", &found.damaged),
        ("nobodys", "Nobody's", &found.nobodys),
        ("left_alone", "Left alone", &found.left_alone),
        ("unreadable", "Unreadable", &found.unreadable),
    ]
}

fn json(found: &Report, asked: &Reconciling) -> serde_json::Value {
    let told = kinds(found).into_iter().map(|(word, _, kind)| {
        let told = serde_json::json!({ "count": kind.count, "bytes": kind.bytes, "names": kind.names });
        (word.to_string(), told)
    });
    let asks = found.asks.iter().map(
        |asks| serde_json::json!({ "shelf": asks.shelf, "gone": asks.gone, "of": asks.of, "believed": asked.accept_gone }),
    );
    serde_json::json!({
        "taken_up": asked.take_up,
        "folders": found.folders,
        "entries": found.entries,
        "files_read": found.hashed,
        "differences": found.differences(),
        "found": told.collect::<serde_json::Map<_, _>>(),
        "asks": asks.collect::<Vec<_>>(),
        "not_any_more": found.not_any_more,
    })
}

fn print(found: &Report, asked: &Reconciling) {
    println!(
        "Looked at    {} entries in {} folders; {} files were read",
        found.entries, found.folders, found.hashed
    );
    for (word, title, kind) in kinds(found) {
        if kind.count == 0 {
            continue;
        }
        let bytes = match word {
            "new_folders" | "unreadable" | "nobodys" => String::new(),
            _ => format!(", {}", human(kind.bytes)),
        };
        println!("{title:<12} {}{bytes}", kind.count);
        kind.names.iter().for_each(|name| println!("             {name}"));
        if kind.count > NAMES as u64 {
            println!("             and {} more", kind.count - NAMES as u64);
        }
    }
    if found.not_any_more > 0 {
        println!("In motion    {}: somebody writes to it just now; look again", found.not_any_more);
    }
    for asks in &found.asks {
        let what = if asked.accept_gone {
            "believed, as you said"
        } else {
            "nothing of it is taken up unless you say so"
        };
        println!("Much is gone {} of the {} files of \"{}\": {what}", asks.gone, asks.of, asks.shelf);
    }
    match (found.differences(), asked.take_up) {
        (0, _) if found.left_alone.count + found.unreadable.count + found.nobodys.count > 0 => {
            println!("Apart from that, the catalogue is what lies on the disk.");
        }
        (0, _) => println!("The catalogue is what lies on the disk."),
        (_, true) => println!("What was found is taken up."),
        (n, false) => println!("{n} differ. Nothing is changed yet."),
    }
}

use super::{Common, Outcome};
use serde_json::json;
use std::path::PathBuf;
use yellow_attic_server::http::times::show;
use yellow_attic_store::start::rebuild::{Rebuilding, rebuild};

/// Make the catalogue again when it is lost or damaged, while the service is stopped.
///
/// From a backup's catalogue and what lies on the disk by now: nothing of the live files is lost, and of the history what the backup
/// knows comes back. Without a backup, from the plain files alone: an account without a password for each home, a shared
/// shelf for each folder there, all of one administrator; rights, links and history of before are lost then. The old catalogue is
/// kept under another name, and past states that the new one does not know in past/unknown.
#[derive(clap::Args)]
pub struct Rebuild {
    #[command(flatten)]
    pub common: Common,
    /// The folder with backups; else the one that is configured (backup_to).
    #[arg(long, value_name = "FOLDER")]
    backup: Option<PathBuf>,
    /// The run, as `yatticd backup FOLDER --list` names it; else the newest.
    #[arg(long, value_name = "RUN")]
    run: Option<String>,
    /// Without a backup: who is the administrator.
    #[arg(long, value_name = "NAME", conflicts_with_all = ["backup", "run"])]
    administrator: Option<String>,
    /// Also if the catalogue that is there is sound.
    #[arg(long)]
    even_if_sound: bool,
    /// As JSON.
    #[arg(long)]
    json: bool,
}

/// Makes it again.
pub async fn run(asked: &Rebuild) -> Outcome {
    let config = asked.common.read()?;
    let set = config.backup.as_ref().map(|backup| backup.to.clone());
    let backup = match asked.administrator {
        Some(_) => None,
        None => Some(asked.backup.clone().or(set).ok_or(
            "name the folder with backups (--backup FOLDER); or, if there is none, who is to be the administrator (--administrator NAME)",
        )?),
    };
    let how = Rebuilding {
        backup,
        run: asked.run.clone(),
        administrator: asked.administrator.clone().unwrap_or_default(),
        even_if_sound: asked.even_if_sound,
    };
    let done = rebuild(config.store(), &how).await?;
    let found = &done.found;
    if asked.json {
        println!(
            "{:#}",
            json!({
                "run": done.from.as_ref().map(|from| from.0.clone()), "as_of": done.from.as_ref().map(|from| show(from.1)),
                "kept": done.kept, "accounts": done.accounts, "shelves": done.shelves, "left": done.left,
                "kept_aside": done.kept_aside, "new_files": found.new_files.count, "changed": found.changed.count,
                "moved": found.moved.count, "gone": found.gone.count, "unreadable": found.unreadable.names,
                "record_key": done.record_key,
            })
        );
        return Ok(());
    }
    match &done.from {
        Some((run, at)) => {
            println!("Rebuilt    from the backup {run}, as it was {}, and from the disk", show(*at))
        }
        None => println!("Rebuilt    from the plain files alone"),
    }
    done.kept.iter().for_each(|kept| println!("Before     the catalogue of before is kept: {kept}"));
    println!(
        "Disk       {} new files, {} changed, {} moved, {} gone",
        found.new_files.count, found.changed.count, found.moved.count, found.gone.count
    );
    found.unreadable.names.iter().for_each(|what| println!("Unreadable {what}"));
    for asks in &found.asks {
        println!(
            "Much gone  {} of the {} files of \"{}\": yatticd reconcile --take-up --accept-gone, if that is so",
            asks.gone, asks.of, asks.shelf
        );
    }
    done.accounts.iter().for_each(|name| {
        println!("Account    {name}, without a password: yatticd let-in {name}, or an invitation")
    });
    done.shelves.iter().for_each(|name| println!("Shelf      {name}"));
    done.left.iter().for_each(|what| println!("Left       {what}"));
    if done.kept_aside > 0 {
        println!(
            "Kept       {} things of the past in past/unknown, which nobody knows any more",
            done.kept_aside
        );
    }
    println!(
        "Access     browsers are signed out; computers are connected anew; links and intakes sleep until they are confirmed"
    );
    if let Some(key) = &done.record_key {
        println!("Record     goes on with a new key. Keep it elsewhere: {key}");
    }
    println!("Next       start the service, and look over who may do what");
    Ok(())
}

use super::{Common, Outcome};
use yellow_attic_core::size::human;
use yellow_attic_server::dto::store::promise_of;
use yellow_attic_store::engine::mending;
use yellow_attic_store::fs::{disk, probe};
use yellow_attic_store::{Durability, Engine, Missing, Options, TreeAccess};

/// Make the store, and look at what the file system under it can do.
#[derive(clap::Args)]
pub struct Init {
    #[command(flatten)]
    pub common: Common,
    /// Who on this machine reads the tree of shelves: private (nobody but the service), group:NAME, or open. A new store
    /// is private. For one that is there, the whole tree is changed.
    #[arg(long, value_name = "WHO")]
    shelf_access: Option<String>,
    /// Make it on a file system that can lose what was answered when the power goes.
    #[arg(long)]
    accept_unsafe_disk: bool,
    /// Take the catalogue that is there for the one that counts, though the data beside it is newer. What it does
    /// not know of the past is kept aside in past/unknown.
    #[arg(long)]
    accept_older_catalogue: bool,
}

/// Makes a store, or looks at the one that is there.
pub async fn run(init: &Init) -> Outcome {
    let config = init.common.read()?;
    let data = &config.data;
    if init.accept_older_catalogue {
        let done = mending::accept_catalogue(data).await?;
        match done.was_older {
            true => println!(
                "Accepted      the catalogue in {}; {} of the past that it does not know were kept aside in past/unknown",
                data.display(),
                done.kept_aside
            ),
            false => {
                println!("Accepted      nothing: the catalogue in {} is the newest known", data.display())
            }
        }
        return Ok(());
    }
    std::fs::create_dir_all(data)?;
    // Looked at before anything is made: a refusal leaves the folder as it was.
    let durability = disk::durability_of(data)?;
    let (word, why) = promise_of(&durability);
    let is_new = !data.join("store").exists();
    if let (Durability::Unsafe(reason), true, false) = (&durability, is_new, init.accept_unsafe_disk) {
        return Err(format!(
            "{} can lose what was answered when the power goes: {reason}\n  Choose a folder on ext4 with a journal, xfs or btrfs; or say --accept-unsafe-disk.",
            data.display()
        )
        .into());
    }
    let wanted = init.shelf_access.clone().or_else(|| config.shelf_access.clone());
    let wanted = wanted
        .map(|text| TreeAccess::read(&text).map_err(|e| format!("shelf_access {text}: {e}")))
        .transpose()?;
    let engine = Engine::open(Options { missing: Missing::Make, ..config.store() }).await?;
    if let Some(wanted) = wanted.filter(|wanted| *wanted != engine.tree_access() || !is_new) {
        let changed = wanted.give_all(data)?;
        println!("Shelves read  by: {} ({changed} files and folders changed)", wanted.word());
    } else {
        println!("Shelves read  by: {}", engine.tree_access().word());
    }
    let found = probe::probe(data)?;
    let (free, total) = engine.disk_space()?;
    println!("Data folder   {}{}", data.display(), if is_new { " (new)" } else { "" });
    println!("Space         {} free of {}", human(free), human(total));
    println!("Power cuts    {word}: {why}");
    println!(
        "Names         {}",
        if found.case_sensitive { "capital letters count" } else { "capital letters do not count" }
    );
    println!(
        "Normalisation {}",
        if found.keeps_form { "kept as given" } else { "changed by the file system" }
    );
    println!("Birth times   {}", if found.birth_times { "kept" } else { "not kept" });
    println!("Shared blocks {}", if found.reflinks { "copies share them" } else { "copies take their own" });
    found.usable()?;
    if let Some(key) = engine.first_record_key() {
        println!("Record key    {key}");
        println!(
            "              Keep it elsewhere, now: it is told once. It proves later that nobody rewrote the record."
        );
    }
    println!("Start it with: yatticd serve --data {}", data.display());
    engine.stop().await;
    Ok(())
}

use super::{Common, Outcome};
use yellow_attic_store::{Engine, Options};

/// Make the data folder and look at what the file system under it can do.
pub async fn run(common: &Common) -> Outcome {
    let config = common.read()?;
    let engine = Engine::open(Options::new(&config.data)).await?;
    let found = yellow_attic_store::probe::probe(&config.data)?;
    let (free, total) = engine.space()?;
    println!("Data folder   {}", config.data.display());
    println!(
        "Space         {} free of {}",
        yellow_attic_core::size::human(free),
        yellow_attic_core::size::human(total)
    );
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
    engine.stop().await;
    found.usable()?;
    println!("Start it with: yatticd serve --data {}", config.data.display());
    Ok(())
}

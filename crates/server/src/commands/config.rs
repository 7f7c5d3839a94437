use super::{Common, Outcome};

/// Show every setting in force and where its value came from.
#[derive(clap::Args)]
pub struct Show {
    #[command(flatten)]
    common: Common,
    /// As JSON.
    #[arg(long)]
    json: bool,
}

/// Prints them.
pub fn run(show: &Show) -> Outcome {
    let config = show.common.read()?;
    if show.json {
        println!("{}", serde_json::to_string_pretty(&config.sources)?);
        return Ok(());
    }
    let widest = config.sources.iter().map(|s| s.value.len()).max().unwrap_or(0).clamp(7, 60);
    for s in &config.sources {
        let value = if s.value.is_empty() { "(none)" } else { &s.value };
        println!("{:<20} {value:<widest$}  {}", s.key, s.source);
    }
    let address = config.public_address.clone().unwrap_or_else(|| {
        format!("{}://{}", if config.tls.is_some() { "https" } else { "http" }, config.listen)
    });
    println!("\nWhat a stranger would get: {address}/open/…");
    for found in yellow_attic_server::identity::public_address::check_config(&config, &address) {
        println!("  {} {}", if found.good { "good:" } else { "look:" }, found.what);
        if !found.remedy.is_empty() {
            println!("        {}", found.remedy);
        }
    }
    Ok(())
}

use super::{Outcome, log, until_stopped};
use std::collections::BTreeMap;
use std::path::PathBuf;
use yellow_attic_server::{config, service};

/// Make a museum's worth of sample files with three months of history, and serve it.
#[derive(clap::Args)]
pub struct Demo {
    /// Where the demo's data goes.
    #[arg(long, default_value = ".demo", value_name = "DIR")]
    data: PathBuf,
    /// The port on this machine.
    #[arg(long, default_value_t = 7461)]
    port: u16,
    /// Throw the demo's data away and make it anew.
    #[arg(long)]
    fresh: bool,
    /// Make the data and stop, without serving it.
    #[arg(long)]
    only_make: bool,
}

/// Makes it, if it is not there, and serves it.
pub async fn run(demo: &Demo) -> Outcome {
    let json = demo.data.join("demo.json");
    if demo.fresh && demo.data.exists() {
        if !json.exists() && demo.data.read_dir()?.next().is_some() {
            return Err(format!(
                "{} holds something else than a demo; choose another folder",
                demo.data.display()
            )
            .into());
        }
        std::fs::remove_dir_all(&demo.data)?;
    }
    // What it is backed up to, as long as it is this demo.
    let mut backup = std::path::absolute(&demo.data)?.into_os_string();
    backup.push("-backup");
    let backup = std::path::PathBuf::from(backup);
    let made = json.exists();
    if !made {
        println!("Making the demo in {}", demo.data.display());
        if backup.join("yellow-attic-backup").exists() {
            std::fs::remove_dir_all(&backup)?;
        }
    }
    let accounts = yellow_attic_demo::people();
    if !made {
        if demo.data.join("catalogue.db").exists() {
            // Cut off half-way: a demo is whole or made anew.
            std::fs::remove_dir_all(&demo.data)?;
        }
        let hash = |password: &str| {
            yellow_attic_server::identity::passwords::hash_password(password).map_err(|e| e.to_string())
        };
        let now = jiff::Timestamp::now().as_millisecond();
        yellow_attic_demo::make(&demo.data, now, &hash).await?;
    }
    let address = format!("http://127.0.0.1:{}", demo.port);
    yellow_attic_demo::write_json(&json, &address, &accounts)?;
    if demo.only_make {
        return Ok(());
    }
    let flags = BTreeMap::from([
        ("data", demo.data.display().to_string()),
        ("listen", format!("127.0.0.1:{}", demo.port)),
        ("organisation", "The Lamp House".to_string()),
        ("backup_to", backup.display().to_string()),
        ("log", "warn".to_string()),
    ]);
    let config = config::read(Some(std::path::Path::new("/dev/null")), &|_| None, &flags)?;
    log(&config);
    let running = service::start(config).await?;
    println!("Yellow Attic's demo: a small museum in a disused lighthouse");
    println!();
    println!("  {}", running.address);
    println!();
    println!("  {:<10} {:<24} role", "sign-in", "password");
    for account in &accounts {
        println!("  {:<10} {:<24} {}", account.sign_in, account.password, account.role);
    }
    println!();
    println!("Stop it with Ctrl-C. The same is in {}.", json.display());
    until_stopped().await;
    running.stop().await;
    Ok(())
}

//! The service's own commands.

use clap::{Parser, Subcommand};
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::process::ExitCode;
use yellow_attic_server::config::{self, Config, LogFormat};
use yellow_attic_server::service;
use yellow_attic_store::{Engine, Options};

/// Yellow Attic: files kept safely, on one machine.
#[derive(Parser)]
#[command(name = "yatticd", version, max_term_width = 100)]
struct Arguments {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Run the service until it is told to stop.
    Serve(Common),
    /// Make the data folder and look at what the file system under it can do.
    Init(Common),
    /// Make a museum's worth of sample files with three months of history, and serve it.
    Demo(Demo),
    /// Show every setting in force and where its value came from.
    Config(Show),
}

#[derive(clap::Args)]
struct Common {
    /// The configuration file (TOML).
    #[arg(long, env = "YATTIC_CONFIG", value_name = "FILE")]
    config: Option<PathBuf>,
    /// The data folder.
    #[arg(long, value_name = "DIR")]
    data: Option<String>,
    /// Where to listen, as address:port.
    #[arg(long, value_name = "ADDRESS")]
    listen: Option<String>,
    /// The address under which people reach the service.
    #[arg(long, value_name = "URL")]
    public_address: Option<String>,
    /// How much to log: error, warn, info, debug.
    #[arg(long, value_name = "LEVEL")]
    log: Option<String>,
    /// How the log looks: text or json.
    #[arg(long, value_name = "FORMAT")]
    log_format: Option<String>,
}

#[derive(clap::Args)]
struct Show {
    #[command(flatten)]
    common: Common,
    /// As JSON.
    #[arg(long)]
    json: bool,
}

#[derive(clap::Args)]
struct Demo {
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

impl Common {
    fn read(&self) -> Result<Config, config::ConfigError> {
        let flags: BTreeMap<&'static str, String> = [
            ("data", &self.data),
            ("listen", &self.listen),
            ("public_address", &self.public_address),
            ("log", &self.log),
            ("log_format", &self.log_format),
        ]
        .into_iter()
        .filter_map(|(key, value)| Some((key, value.clone()?)))
        .collect();
        config::read(self.config.as_deref(), &|name| std::env::var(name).ok(), &flags)
    }
}

fn main() -> ExitCode {
    let arguments = Arguments::parse();
    let runtime = match tokio::runtime::Builder::new_multi_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(error) => return fail(&error),
    };
    let outcome = match arguments.command {
        Command::Serve(common) => runtime.block_on(serve(&common)),
        Command::Init(common) => runtime.block_on(init(&common)),
        Command::Demo(demo) => runtime.block_on(run_demo(&demo)),
        Command::Config(show) => show_config(&show),
    };
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => fail(&*error),
    }
}

fn fail(error: &dyn std::fmt::Display) -> ExitCode {
    eprintln!("yatticd: {error}");
    ExitCode::FAILURE
}

type Outcome = Result<(), Box<dyn std::error::Error>>;

fn log(config: &Config) {
    let filter = tracing_subscriber::EnvFilter::new(format!(
        "warn,yellow_attic={0},yellow_attic_server={0},yellow_attic_store={0}",
        config.log
    ));
    let log =
        tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr).with_target(false);
    match config.log_format {
        LogFormat::Text => log.init(),
        LogFormat::Json => log.json().init(),
    }
}

async fn serve(common: &Common) -> Outcome {
    let config = common.read()?;
    log(&config);
    println!("Yellow Attic {}: opening {}", env!("CARGO_PKG_VERSION"), config.data.display());
    let running = service::start(config).await?;
    println!("Serving {}", running.address);
    if let Some(code) = &running.set_up_code {
        println!("There is no administrator yet. Open this address once to become it:");
        println!("  {}/set-up#{code}", running.address);
    }
    until_stopped().await;
    println!("Stopping: running requests are finished first");
    running.stop().await;
    println!("Stopped");
    Ok(())
}

async fn until_stopped() {
    use tokio::signal::unix::{SignalKind, signal};
    match signal(SignalKind::terminate()) {
        Ok(mut terminate) => {
            tokio::select! {
                _ = tokio::signal::ctrl_c() => {}
                _ = terminate.recv() => {}
            }
        }
        Err(_) => drop(tokio::signal::ctrl_c().await),
    }
}

async fn init(common: &Common) -> Outcome {
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

async fn run_demo(demo: &Demo) -> Outcome {
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
    let made = json.exists();
    if !made {
        println!("Making the demo in {}", demo.data.display());
    }
    let accounts = yellow_attic_demo::people();
    if !made {
        if demo.data.join("catalogue.db").exists() {
            // Cut off half-way: a demo is whole or made anew.
            std::fs::remove_dir_all(&demo.data)?;
        }
        let hash =
            |password: &str| yellow_attic_server::auth::hash_password(password).map_err(|e| e.to_string());
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

fn show_config(show: &Show) -> Outcome {
    let config = show.common.read()?;
    if show.json {
        println!("{}", serde_json::to_string_pretty(&config.sources)?);
        return Ok(());
    }
    let widest = config.sources.iter().map(|s| s.value.len()).max().unwrap_or(0).clamp(7, 60);
    for s in &config.sources {
        let value = if s.value.is_empty() { "(none)" } else { &s.value };
        println!("{:<16} {value:<widest$}  {}", s.key, s.source);
    }
    Ok(())
}

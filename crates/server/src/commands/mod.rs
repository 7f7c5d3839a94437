//! The service's own commands, one per file.

pub mod backup;
pub mod check;
pub mod clock;
pub mod config;
pub mod demo;
pub mod init;
pub mod key;
pub mod let_in;
pub mod rebuild;
pub mod reconcile;
pub mod restore;
pub mod serve;

use std::collections::BTreeMap;
use std::io::IsTerminal;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;
use yellow_attic_core::size::human;
use yellow_attic_server::config::{Config, ConfigError, LogFormat, read};
use yellow_attic_server::control::{Request, Told, ask};
use yellow_attic_server::jobs::work::Said;
use yellow_attic_store::fs::progress::Progress;

/// What a command ends with: an error is printed, and the exit status is 1.
pub type Outcome = Result<(), Box<dyn std::error::Error>>;

/// Settings that every command takes.
#[derive(clap::Args)]
pub struct Common {
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
    /// The certificate chain to serve TLS with (PEM); beside --tls-key.
    #[arg(long, value_name = "FILE")]
    tls_certificate: Option<String>,
    /// The key of the certificate (PEM).
    #[arg(long, value_name = "FILE")]
    tls_key: Option<String>,
    /// Where the service's figures can be read without a sign-in, as address:port.
    #[arg(long, value_name = "ADDRESS")]
    metrics_listen: Option<String>,
    /// How much to log: error, warn, info, debug.
    #[arg(long, value_name = "LEVEL")]
    log: Option<String>,
    /// How the log looks: text or json.
    #[arg(long, value_name = "FORMAT")]
    log_format: Option<String>,
}

impl Common {
    /// What is in force.
    pub fn read(&self) -> Result<Config, ConfigError> {
        let flags: BTreeMap<&'static str, String> = [
            ("data", &self.data),
            ("listen", &self.listen),
            ("public_address", &self.public_address),
            ("tls_certificate", &self.tls_certificate),
            ("tls_key", &self.tls_key),
            ("metrics_listen", &self.metrics_listen),
            ("log", &self.log),
            ("log_format", &self.log_format),
        ]
        .into_iter()
        .filter_map(|(key, value)| Some((key, value.clone()?)))
        .collect();
        read(self.config.as_deref(), &|name| std::env::var(name).ok(), &flags)
    }
}

/// Begins to log.
pub fn log(config: &Config) {
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

/// Waits for SIGTERM or Ctrl-C.
pub async fn until_stopped() {
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

/// Has a running service do it, which tells how far it is. None if no service has the data folder open.
pub async fn by_service(data: &Path, request: &Request) -> Result<Option<Said>, String> {
    let mut shown = Shown::default();
    let done = ask(data, request, |told| {
        if let Told::Going { step, done, of, bytes } = told {
            shown.show(step, *done, *of, *bytes);
        }
    })
    .await;
    shown.clear();
    done
}

/// Shows how far something is until it has ended. Ctrl-C ends it in peace.
pub async fn watched<T>(progress: &Arc<Progress>, work: impl Future<Output = T>) -> T {
    let mut shown = Shown::default();
    let mut work = std::pin::pin!(work);
    let mut asked = false;
    loop {
        tokio::select! {
            done = &mut work => {
                shown.clear();
                return done;
            }
            _ = tokio::signal::ctrl_c(), if !asked => {
                asked = true;
                progress.stop.store(true, Ordering::SeqCst);
            }
            () = tokio::time::sleep(Duration::from_millis(250)) => {
                let step = *progress.step.lock();
                let [done, of, bytes] = [&progress.done, &progress.of, &progress.bytes].map(|n| n.load(Ordering::Relaxed));
                shown.show(step, done, of, bytes);
            }
        }
    }
}

/// A line on the terminal that says how far something is.
#[derive(Default)]
struct Shown(bool);

impl Shown {
    fn show(&mut self, step: &str, done: u64, of: u64, bytes: u64) {
        if !std::io::stderr().is_terminal() || step.is_empty() {
            return;
        }
        self.0 = true;
        let of = if of > 0 { format!(" of {of}") } else { String::new() };
        let bytes = if bytes > 0 { format!(", {}", human(bytes)) } else { String::new() };
        eprint!("\r\x1b[K{step}: {done}{of}{bytes}");
    }

    fn clear(&mut self) {
        if std::mem::take(&mut self.0) {
            eprint!("\r\x1b[K");
        }
    }
}

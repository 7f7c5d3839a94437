//! The service's own commands, one per file.

pub mod check;
pub mod clock;
pub mod config;
pub mod demo;
pub mod init;
pub mod key;
pub mod let_in;
pub mod reconcile;
pub mod serve;

use std::collections::BTreeMap;
use std::path::PathBuf;
use yellow_attic_server::config::{Config, ConfigError, LogFormat, read};

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

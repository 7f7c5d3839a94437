//! Configuration: file, environment, flags, in rising order; each value knows where it came from.

use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};
use std::time::Duration;
use yellow_attic_core::forwarded::Header;
use yellow_attic_store::{Missing, Options};

/// What is in force.
#[derive(Clone, Debug)]
pub struct Config {
    /// The data folder.
    pub data: PathBuf,
    /// The file with the key that seals second factors, if it is said.
    pub secrets_key: Option<PathBuf>,
    /// Who on the machine reads the tree of shelves, if it is said: private, open or group:NAME.
    pub shelf_access: Option<String>,
    /// Where the service listens.
    pub listen: SocketAddr,
    /// The address under which people reach it, without a last slash.
    pub public_address: Option<String>,
    /// Proxies whose forwarded addresses are believed.
    pub trusted_proxies: Vec<IpAddr>,
    /// The header in which they tell for whom they ask; the other one is ignored.
    pub forwarded_header: Header,
    /// Names under which people may sign in, beside the public address, the machine's own names and numbers.
    pub addresses: Vec<String>,
    /// The certificate chain and the key to serve TLS with, PEM files.
    pub tls: Option<(PathBuf, PathBuf)>,
    /// Where the service's figures can be read without a sign-in.
    pub metrics_listen: Option<SocketAddr>,
    /// The largest file taken, in bytes.
    pub largest_file: u64,
    /// How long the sender of a body may be silent before the line is cut.
    pub sender_patience: Duration,
    /// How long a reader that takes nothing is waited for.
    pub reader_patience: Duration,
    /// The most lines at a time; none: as many as the machine lets be open.
    pub lines: Option<u64>,
    /// The organisation's name, in mail and on pages.
    pub organisation: String,
    /// The organisation's colour, on pages for strangers.
    pub colour: Option<[u8; 3]>,
    /// Its logo, and the logo's media type.
    pub logo: Option<(Vec<u8>, &'static str)>,
    /// The mail server, if there is one.
    pub mail: Option<MailConfig>,
    /// So many days after the last one everything is read once more; 0: never by itself.
    pub check_days: i64,
    /// Backups by schedule, if a folder for them is named.
    pub backup: Option<BackupConfig>,
    /// How much is logged: error, warn, info, debug.
    pub log: String,
    /// How the log looks: text or json.
    pub log_format: LogFormat,
    /// Every value as it is shown, with its source.
    pub sources: Vec<Shown>,
}

/// Backups by schedule.
#[derive(Clone, Debug)]
pub struct BackupConfig {
    /// The folder.
    pub to: PathBuf,
    /// At which hour of each day, in the machine's time zone.
    pub at: jiff::civil::Time,
    /// All runs of so many days stay.
    pub keep_days: i64,
    /// And the last of each of so many months.
    pub keep_months: i64,
}

/// A mail server (SMTP).
#[derive(Clone)]
pub struct MailConfig {
    /// Its host name.
    pub host: String,
    /// Its port.
    pub port: u16,
    /// How the line is kept private.
    pub tls: MailTls,
    /// Name and password to sign in with.
    pub sign_in: Option<(String, String)>,
    /// Whom mail comes from.
    pub from: String,
}

impl std::fmt::Debug for MailConfig {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        // Never the password.
        write!(f, "MailConfig({}:{} {:?} from {})", self.host, self.port, self.tls, self.from)
    }
}

/// How the line to the mail server is kept private.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MailTls {
    /// STARTTLS, demanded.
    StartTls,
    /// TLS from the first byte.
    Tls,
    /// Not at all: for a server on this machine.
    None,
}

/// How the log looks.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LogFormat {
    /// For people.
    Text,
    /// For programs, a JSON object a line.
    Json,
}

/// One value in force.
#[derive(Clone, Debug, serde::Serialize)]
pub struct Shown {
    /// The key.
    pub key: &'static str,
    /// The value.
    pub value: String,
    /// Where it came from.
    pub source: String,
}

/// Why a configuration is refused.
#[derive(Debug, thiserror::Error)]
#[error("{key} = {value:?} ({origin}): {reason}\n  {remedy}")]
pub struct ConfigError {
    /// The key.
    pub key: String,
    /// Its value.
    pub value: String,
    /// Where it stands.
    pub origin: String,
    /// What is wrong.
    pub reason: String,
    /// What to do.
    pub remedy: String,
}

impl Config {
    /// How its store is opened; where there is none, none is made: its disk may not be mounted.
    pub fn store(&self) -> Options {
        let secrets_key = self.secrets_key.clone();
        Options { missing: Missing::Refuse, secrets_key, ..Options::new(&self.data) }
    }

    /// Whether a host, as a request names it, is an address of ours: one that nobody else can have lead here.
    pub fn is_ours(&self, host: &str) -> bool {
        let host =
            host.rsplit_once(':').filter(|(_, port)| port.parse::<u16>().is_ok()).map_or(host, |(h, _)| h);
        let host = host.trim_matches(['[', ']']).trim_end_matches('.').to_lowercase();
        if host.parse::<IpAddr>().is_ok() || host == "localhost" || host.ends_with(".localhost") {
            return true;
        }
        let public = self.public_address.as_deref().and_then(|a| url::Url::parse(a).ok());
        if public.and_then(|u| u.host_str().map(str::to_lowercase)).as_deref() == Some(host.as_str()) {
            return true;
        }
        let system = rustix::system::uname();
        let machine = system.nodename().to_string_lossy().to_lowercase();
        let short = machine.split('.').next().unwrap_or_default();
        !short.is_empty() && [machine.as_str(), short, &format!("{short}.local")].contains(&host.as_str())
            || self.addresses.contains(&host)
    }

    /// Whether people reach the service by https.
    pub fn is_https(&self) -> bool {
        match &self.public_address {
            Some(public) => public.starts_with("https://"),
            None => self.tls.is_some(),
        }
    }
}

struct Key {
    name: &'static str,
    env: &'static str,
    default: &'static str,
}

/// Every key, with its environment variable and what holds without it.
const KEYS: [Key; 30] = [
    Key { name: "data", env: "YATTIC_DATA", default: "/var/lib/yattic" },
    Key { name: "secrets_key", env: "YATTIC_SECRETS_KEY", default: "" },
    Key { name: "shelf_access", env: "YATTIC_SHELF_ACCESS", default: "" },
    Key { name: "listen", env: "YATTIC_LISTEN", default: "127.0.0.1:7460" },
    Key { name: "public_address", env: "YATTIC_PUBLIC_ADDRESS", default: "" },
    Key { name: "trusted_proxies", env: "YATTIC_TRUSTED_PROXIES", default: "" },
    Key { name: "forwarded_header", env: "YATTIC_FORWARDED_HEADER", default: "X-Forwarded-For" },
    Key { name: "addresses", env: "YATTIC_ADDRESSES", default: "" },
    Key { name: "tls_certificate", env: "YATTIC_TLS_CERTIFICATE", default: "" },
    Key { name: "tls_key", env: "YATTIC_TLS_KEY", default: "" },
    Key { name: "metrics_listen", env: "YATTIC_METRICS_LISTEN", default: "" },
    Key { name: "largest_file", env: "YATTIC_LARGEST_FILE", default: "1 TiB" },
    Key { name: "sender_patience", env: "YATTIC_SENDER_PATIENCE", default: "120" },
    Key { name: "reader_patience", env: "YATTIC_READER_PATIENCE", default: "1800" },
    Key { name: "lines", env: "YATTIC_LINES", default: "" },
    Key { name: "organisation", env: "YATTIC_ORGANISATION", default: "Yellow Attic" },
    Key { name: "organisation_colour", env: "YATTIC_ORGANISATION_COLOUR", default: "" },
    Key { name: "organisation_logo", env: "YATTIC_ORGANISATION_LOGO", default: "" },
    Key { name: "mail_server", env: "YATTIC_MAIL_SERVER", default: "" },
    Key { name: "mail_tls", env: "YATTIC_MAIL_TLS", default: "starttls" },
    Key { name: "mail_user", env: "YATTIC_MAIL_USER", default: "" },
    Key { name: "mail_password_file", env: "YATTIC_MAIL_PASSWORD_FILE", default: "" },
    Key { name: "mail_from", env: "YATTIC_MAIL_FROM", default: "" },
    Key { name: "backup_to", env: "YATTIC_BACKUP_TO", default: "" },
    Key { name: "backup_at", env: "YATTIC_BACKUP_AT", default: "03:30" },
    Key { name: "backup_keep_days", env: "YATTIC_BACKUP_KEEP_DAYS", default: "30" },
    Key { name: "backup_keep_months", env: "YATTIC_BACKUP_KEEP_MONTHS", default: "12" },
    Key { name: "check_days", env: "YATTIC_CHECK_DAYS", default: "30" },
    Key { name: "log", env: "YATTIC_LOG", default: "info" },
    Key { name: "log_format", env: "YATTIC_LOG_FORMAT", default: "text" },
];

/// Where the file is if nobody says: it need not be there.
pub const USUAL_FILE: &str = "/etc/yattic/yatticd.toml";

/// Reads the configuration. `flags`: what the command line says, by key. `env`: looks up a variable.
pub fn read(
    file: Option<&Path>,
    env: &dyn Fn(&str) -> Option<String>,
    flags: &BTreeMap<&'static str, String>,
) -> Result<Config, ConfigError> {
    let table = read_file(file)?;
    if let Some(unknown) = table.keys().find(|k| !KEYS.iter().any(|key| key.name == k.as_str())) {
        let known: Vec<_> = KEYS.iter().map(|k| k.name).collect();
        return Err(ConfigError {
            key: unknown.clone(),
            value: table[unknown].clone(),
            origin: format!("file {}", file.unwrap_or(Path::new(USUAL_FILE)).display()),
            reason: "there is no such key".into(),
            remedy: format!("Known keys: {}.", known.join(", ")),
        });
    }
    let mut shown = Vec::new();
    for key in KEYS {
        let (value, source) = if let Some(value) = flags.get(key.name) {
            (value.clone(), format!("flag --{}", key.name.replace('_', "-")))
        } else if let Some(value) = env(key.env) {
            (value, format!("environment {}", key.env))
        } else if let Some(value) = table.get(key.name) {
            (value.clone(), format!("file {}", file.unwrap_or(Path::new(USUAL_FILE)).display()))
        } else {
            (key.default.to_string(), "default".to_string())
        };
        shown.push(Shown { key: key.name, value, source });
    }
    let of = |name: &str| shown.iter().find(|s| s.key == name).map_or("", |s| s.value.as_str()).to_string();
    let wrong = |name: &str, reason: &str, remedy: &str| {
        let s = shown.iter().find(|s| s.key == name);
        ConfigError {
            key: name.into(),
            value: s.map_or_else(String::new, |s| s.value.clone()),
            origin: s.map_or_else(String::new, |s| s.source.clone()),
            reason: reason.into(),
            remedy: remedy.into(),
        }
    };
    let listen: SocketAddr = of("listen").parse().map_err(|_| {
        wrong(
            "listen",
            "not an address and port",
            "Write it like 127.0.0.1:7460, or [::]:7460 for every interface.",
        )
    })?;
    let shelf_access = Some(of("shelf_access")).filter(|t| !t.is_empty());
    if let Some(text) = &shelf_access
        && let Err(reason) = yellow_attic_store::TreeAccess::read(text)
    {
        return Err(wrong("shelf_access", &reason, "Write private, open, or group:NAME."));
    }
    let public_address = match of("public_address").trim_end_matches('/') {
        "" => None,
        text => {
            let rest = text.strip_prefix("https://").or_else(|| text.strip_prefix("http://"));
            if rest.is_none_or(|r| r.is_empty() || r.contains(['/', '?', '#', ' '])) {
                return Err(wrong(
                    "public_address",
                    "not an origin",
                    "Write it like https://files.example.org, without a path.",
                ));
            }
            Some(text.to_string())
        }
    };
    let trusted_proxies = of("trusted_proxies")
        .split([',', ' '])
        .filter(|t| !t.is_empty())
        .map(str::parse)
        .collect::<Result<Vec<IpAddr>, _>>()
        .map_err(|_| {
            wrong("trusted_proxies", "not a list of addresses", "Write it like 127.0.0.1, 10.0.0.2.")
        })?;
    let forwarded_header = Header::from_word(&of("forwarded_header")).ok_or_else(|| {
        wrong("forwarded_header", "unknown", "Choose X-Forwarded-For, or Forwarded (RFC 7239).")
    })?;
    let addresses: Vec<String> = of("addresses")
        .split([',', ' '])
        .filter(|t| !t.is_empty())
        .map(|t| t.trim_end_matches('.').to_lowercase())
        .collect();
    if addresses.iter().any(|a| a.contains(['/', ':', '*', '?', '#', '@'])) {
        return Err(wrong(
            "addresses",
            "not a list of host names",
            "Write it like files.example.org, files.lan: names alone, without https:// or a port.",
        ));
    }
    let file = |name: &str| Some(of(name)).filter(|t| !t.is_empty()).map(PathBuf::from);
    let tls = match (file("tls_certificate"), file("tls_key")) {
        (None, None) => None,
        (Some(certificate), Some(key)) => Some((certificate, key)),
        (Some(_), None) => {
            return Err(wrong("tls_key", "missing", "Name the key's file beside tls_certificate."));
        }
        (None, Some(_)) => {
            return Err(wrong("tls_certificate", "missing", "Name the certificate's file beside tls_key."));
        }
    };
    let metrics_listen = match of("metrics_listen").as_str() {
        "" => None,
        text => Some(text.parse().map_err(|_| {
            wrong(
                "metrics_listen",
                "not an address and port",
                "Write it like 127.0.0.1:7462, or leave it out.",
            )
        })?),
    };
    let largest_file =
        yellow_attic_core::size::read(&of("largest_file")).filter(|n| *n > 0).ok_or_else(|| {
            wrong("largest_file", "not a size", "Write it like 20 GiB, 500 MiB, or a number of bytes.")
        })?;
    let seconds = |name: &str| {
        let read = of(name).parse().ok().filter(|s| (1..=86_400).contains(s)).map(Duration::from_secs);
        read.ok_or_else(|| wrong(name, "not a number of seconds", "Write a whole number from 1 to 86400."))
    };
    let sender_patience = seconds("sender_patience")?;
    let reader_patience = seconds("reader_patience")?;
    let lines = match of("lines").as_str() {
        "" => None,
        text => Some(text.parse().ok().filter(|n| (16..=1_000_000).contains(n)).ok_or_else(|| {
            wrong("lines", "not a number of lines", "Write a whole number from 16, or leave it out.")
        })?),
    };
    let organisation = of("organisation").trim().to_string();
    if organisation.is_empty()
        || organisation.chars().count() > 100
        || organisation.chars().any(char::is_control)
    {
        return Err(wrong("organisation", "not a name", "Write a name of 1 to 100 characters."));
    }
    let colour = match of("organisation_colour").as_str() {
        "" => None,
        text => Some(yellow_attic_core::contrast::read_colour(text).ok_or_else(|| {
            wrong("organisation_colour", "not a colour", "Write it like #F5B916, or leave it out.")
        })?),
    };
    let logo = match of("organisation_logo").as_str() {
        "" => None,
        path => {
            let bytes = std::fs::read(path).map_err(|e| {
                wrong("organisation_logo", &e.to_string(), "Name a PNG or JPEG file that can be read.")
            })?;
            let kind = match (bytes.starts_with(b"\x89PNG"), bytes.starts_with(b"\xff\xd8\xff")) {
                (true, _) => "image/png",
                (_, true) => "image/jpeg",
                _ => {
                    return Err(wrong(
                        "organisation_logo",
                        "neither PNG nor JPEG",
                        "Name a PNG or JPEG file.",
                    ));
                }
            };
            if bytes.len() > 64 * 1024 {
                return Err(wrong(
                    "organisation_logo",
                    "larger than 64 KiB",
                    "Make it smaller: it is shown 30 pixels high.",
                ));
            }
            Some((bytes, kind))
        }
    };
    let mail = match of("mail_server").as_str() {
        "" => None,
        server => {
            let tls = match of("mail_tls").as_str() {
                "starttls" => MailTls::StartTls,
                "tls" => MailTls::Tls,
                "none" => MailTls::None,
                _ => return Err(wrong("mail_tls", "unknown", "Choose starttls, tls or none.")),
            };
            let usual = match tls {
                MailTls::StartTls => 587,
                MailTls::Tls => 465,
                MailTls::None => 25,
            };
            let (host, port) = match server.rsplit_once(':') {
                Some((host, port)) => (host, port.parse().ok()),
                None => (server, Some(usual)),
            };
            let port = port.filter(|_| !host.is_empty() && !host.contains('/')).ok_or_else(|| {
                wrong("mail_server", "not a host and port", "Write it like mail.example.org:587.")
            })?;
            let sign_in = match (of("mail_user"), of("mail_password_file")) {
                (user, _) if user.is_empty() => None,
                (_, file) if file.is_empty() => {
                    return Err(wrong(
                        "mail_password_file",
                        "missing",
                        "Name a file that holds the password, readable for the service alone.",
                    ));
                }
                (user, file) => {
                    let password = std::fs::read_to_string(&file).map_err(|e| {
                        wrong("mail_password_file", &e.to_string(), "Name a file that can be read.")
                    })?;
                    Some((user, password.trim_end_matches(['\r', '\n']).to_string()))
                }
            };
            let from = of("mail_from");
            let plain = from.rsplit_once('<').map_or(from.as_str(), |(_, a)| a.trim_end_matches('>'));
            if !yellow_attic_core::password::check_mail(plain) {
                return Err(wrong("mail_from", "not a mail address", "Write it like files@example.org."));
            }
            Some(MailConfig { host: host.to_string(), port, tls, sign_in, from })
        }
    };
    let log = of("log");
    if !["error", "warn", "info", "debug"].contains(&log.as_str()) {
        return Err(wrong("log", "not a level", "Choose error, warn, info or debug."));
    }
    let log_format = match of("log_format").as_str() {
        "text" => LogFormat::Text,
        "json" => LogFormat::Json,
        _ => return Err(wrong("log_format", "not a format", "Choose text or json.")),
    };
    let number = |name: &str, most: i64| {
        let read = of(name).parse().ok().filter(|n| (0..=most).contains(n));
        read.ok_or_else(|| wrong(name, "not a number", &format!("Write a whole number from 0 to {most}.")))
    };
    let at = of("backup_at");
    let backup = BackupConfig {
        to: PathBuf::from(of("backup_to")),
        at: jiff::civil::Time::strptime("%H:%M", &at)
            .map_err(|_| wrong("backup_at", "not a time of day", "Write it like 03:30."))?,
        keep_days: number("backup_keep_days", 36_500)?,
        keep_months: number("backup_keep_months", 1_200)?,
    };
    let backup = Some(backup).filter(|backup| !backup.to.as_os_str().is_empty());
    if backup.as_ref().is_some_and(|backup| !backup.to.is_absolute()) {
        return Err(wrong(
            "backup_to",
            "not a whole path",
            "Write it from the root on, like /mnt/backup/attic.",
        ));
    }
    if of("data").is_empty() {
        return Err(wrong("data", "empty", "Name the folder in which everything is kept."));
    }
    Ok(Config {
        data: PathBuf::from(of("data")),
        listen,
        public_address,
        trusted_proxies,
        forwarded_header,
        addresses,
        tls,
        metrics_listen,
        largest_file,
        sender_patience,
        reader_patience,
        lines,
        secrets_key: file("secrets_key"),
        shelf_access,
        organisation,
        colour,
        logo,
        mail,
        check_days: number("check_days", 3_650)?,
        backup,
        log,
        log_format,
        sources: shown,
    })
}

fn read_file(file: Option<&Path>) -> Result<BTreeMap<String, String>, ConfigError> {
    let (path, wanted) = (file.unwrap_or(Path::new(USUAL_FILE)), file.is_some());
    let wrong = |reason: String, remedy: &str| ConfigError {
        key: "config".into(),
        value: path.display().to_string(),
        origin: "flag --config or environment YATTIC_CONFIG".into(),
        reason,
        remedy: remedy.into(),
    };
    let text = match std::fs::read_to_string(path) {
        Ok(text) => text,
        Err(e) if e.kind() == std::io::ErrorKind::NotFound && !wanted => return Ok(BTreeMap::new()),
        Err(e) => return Err(wrong(e.to_string(), "Name a file that can be read, or leave it out.")),
    };
    let table: toml::Table =
        toml::from_str(&text).map_err(|e| wrong(e.message().to_string(), "Correct the file; it is TOML."))?;
    Ok(table
        .into_iter()
        .map(|(key, value)| {
            let text = match value {
                toml::Value::String(s) => s,
                toml::Value::Array(list) => list
                    .iter()
                    .map(|v| v.as_str().map_or_else(|| v.to_string(), str::to_string))
                    .collect::<Vec<_>>()
                    .join(", "),
                other => other.to_string(),
            };
            (key, text)
        })
        .collect())
}

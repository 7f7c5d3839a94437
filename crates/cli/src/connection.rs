//! Where this computer is connected, and with which token: kept in the desktop's keyring ([`keyring`]), or in a file of mode
//! 0600.

pub mod keyring;

use crate::output::Failure;
use serde::{Deserialize, Serialize};
use std::fs::{self, OpenOptions};
use std::io::{BufRead, IsTerminal, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use yellow_attic_client::{Client, api};
use yellow_attic_sync::computer::{Clients, Refused};
use yellow_attic_sync::mount::{self, Mount};
use yellow_attic_sync::pairs::status::Status;

/// What is kept.
#[derive(Serialize, Deserialize)]
pub struct Connection {
    /// The service's address.
    pub address: String,
    /// The sign-in name.
    pub sign_in: String,
    /// This computer's token; empty if the desktop's keyring has it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub token: String,
    /// Whether the token is in the desktop's keyring.
    #[serde(default)]
    pub keyring: bool,
}

/// Where it is kept: below `YATTIC_HOME`, else where this system keeps settings.
pub fn file() -> Result<PathBuf, Failure> {
    let base = std::env::var_os("YATTIC_HOME")
        .map(PathBuf::from)
        .or_else(|| std::env::var_os("XDG_CONFIG_HOME").map(|d| PathBuf::from(d).join("yattic")))
        .or_else(|| std::env::var_os("HOME").map(|d| PathBuf::from(d).join(".config/yattic")));
    base.map(|b| b.join("connection.toml")).ok_or_else(|| {
        Failure::failed("there is no home folder", "Set YATTIC_HOME to a folder for yattic's settings.")
    })
}

/// Reads it.
pub fn load() -> Result<Connection, Failure> {
    let path = file()?;
    let text = match fs::read_to_string(&path) {
        Ok(text) => text,
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => {
            return Err(Failure::failed(
                "this computer is not connected",
                "Connect it with: yattic connect ADDRESS",
            ));
        }
        Err(e) => {
            return Err(Failure::failed(
                format!("{}: {e}", path.display()),
                "See that the file can be read.",
            ));
        }
    };
    toml::from_str(&text).map_err(|e| {
        Failure::failed(
            format!("{}: {}", path.display(), e.message()),
            "Connect again with: yattic connect ADDRESS",
        )
    })
}

/// Where the connections lie that commands do not mean now, but pairs may.
fn others() -> Result<PathBuf, Failure> {
    Ok(file()?.with_file_name("services"))
}

fn file_of(address: &str) -> Result<PathBuf, Failure> {
    Ok(others()?.join(format!("{}.toml", yellow_attic_sync::pairs::name_of(address))))
}

fn read(path: &Path) -> Option<Connection> {
    toml::from_str(&fs::read_to_string(path).ok()?).ok()
}

/// All services that this computer is connected to; the one that commands mean is the first.
pub fn all() -> Vec<Connection> {
    let mut all: Vec<Connection> = file().ok().and_then(|path| read(&path)).into_iter().collect();
    let others = others().ok().and_then(|folder| fs::read_dir(folder).ok()).into_iter().flatten().flatten();
    let mut others: Vec<Connection> = others.filter_map(|entry| read(&entry.path())).collect();
    others.sort_by(|a, b| a.address.cmp(&b.address));
    all.extend(others);
    all
}

/// Commands mean this service from now on. The one that they meant before stays connected.
pub fn take(connection: &Connection) -> Result<(), Failure> {
    if let Some(before) = read(&file()?).filter(|before| before.address != connection.address) {
        write(&before, &file_of(&before.address)?)?;
    }
    write(connection, &file()?)?;
    remove(&file_of(&connection.address)?)
}

fn remove(path: &Path) -> Result<(), Failure> {
    match fs::remove_file(path) {
        Err(e) if e.kind() != std::io::ErrorKind::NotFound => Err(e.into()),
        _ => Ok(()),
    }
}

/// Writes one, so that only its owner can read it.
fn write(connection: &Connection, path: &Path) -> Result<(), Failure> {
    if let Some(dir) = path.parent() {
        fs::create_dir_all(dir)?;
    }
    let text = toml::to_string(connection).map_err(|e| Failure::failed(e.to_string(), ""))?;
    let fresh = path.with_extension("new");
    let _ = fs::remove_file(&fresh);
    let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&fresh)?;
    file.write_all(text.as_bytes())?;
    file.sync_all()?;
    fs::rename(&fresh, path)?;
    Ok(())
}

/// Forgets one. If commands meant it, they mean none until one is chosen.
pub fn forget(connection: &Connection) -> Result<(), Failure> {
    if connection.keyring {
        keyring::forget(&connection.address)?;
    }
    if read(&file()?).is_some_and(|current| current.address == connection.address) {
        remove(&file()?)?;
    }
    remove(&file_of(&connection.address)?)
}

/// A client of the service that this computer is connected to.
pub fn client() -> Result<Client, Failure> {
    client_of(&load()?)
}

/// A client of one of them.
pub fn client_of(connection: &Connection) -> Result<Client, Failure> {
    let token = match connection.keyring {
        true => keyring::token(&connection.address, true)?,
        false => connection.token.clone(),
    };
    Ok(Client::new(&connection.address, Some(&token))?)
}

/// What gives whoever keeps pairs the same a client of a service. It asks nobody anything.
pub fn clients() -> Clients {
    std::sync::Arc::new(|address| {
        Box::pin(async move {
            let found = all().into_iter().find(|connection| connection.address == address);
            let Some(connection) = found else {
                let says = format!("this computer is not connected to {address}");
                let remedy = format!("Connect it with: yattic connect {address}");
                return Err(Refused::new("not_connected", says, remedy));
            };
            let token = match connection.keyring {
                true => tokio::task::spawn_blocking(move || keyring::token(&connection.address, false))
                    .await
                    .map_err(|e| Refused::new("failed", e.to_string(), ""))?
                    .map_err(|e| Refused::new("keyring_locked", e.text(), e.remedy()))?,
                false => connection.token,
            };
            Ok(Client::new(&address, Some(&token))?)
        })
    })
}

/// What this computer is called by its system.
pub fn host_name() -> String {
    let name = rustix::system::uname();
    name.nodename().to_str().ok().filter(|name| !name.is_empty()).unwrap_or("computer").to_string()
}

/// Whether a password that is wanted once more comes from standard input.
static PROOF_STDIN: AtomicBool = AtomicBool::new(false);

/// Lets passwords that are wanted once more come from standard input.
pub fn proofs_from_stdin(on: bool) {
    PROOF_STDIN.store(on, Ordering::Relaxed);
}

fn line_of_stdin() -> Result<String, Failure> {
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line)?;
    Ok(line.trim_end_matches(['\r', '\n']).to_string())
}

/// Does what decides over people or rights. If the service wants the password once more, it is asked
/// for on the terminal.
pub async fn proved<T, Act>(client: &Client, act: Act) -> Result<T, Failure>
where
    Act: AsyncFn() -> Result<T, yellow_attic_client::Error>,
{
    let factor = match act().await {
        Err(e) if e.code() == Some("proof_needed") => false,
        Err(e) if e.code() == Some("factor_needed") => true,
        other => return Ok(other?),
    };
    let from_stdin = PROOF_STDIN.load(Ordering::Relaxed);
    if !from_stdin && !std::io::stdin().is_terminal() {
        return Err(Failure::failed(
            "your password is needed once more, and standard input is no terminal to ask on",
            "Give it with --proof-stdin, or connect this computer again with yattic connect: its password counts for ten minutes.",
        )
        .coded(if factor { "factor_needed" } else { "proof_needed" }));
    }
    let ask = |question: &str| match from_stdin {
        true => line_of_stdin(),
        false => Ok(rpassword::prompt_password(question)?),
    };
    let password = ask("Your password, once more: ")?;
    let code = match factor {
        true => Some(ask("A code of your authenticator, or a recovery code: ")?),
        false => None,
    };
    client.prove(&password, code.as_deref()).await?;
    Ok(act().await?)
}

/// Does what gives something out. If the service wants the password once more, the console's dialog for it is opened where
/// there is a desktop, filled in: `wish` is what stands in its address. Where there is none, it is asked for on the terminal.
pub async fn proved_or_in_console<T, Act>(
    client: &Client,
    facts: &api::Facts,
    wish: &[(&str, Option<String>)],
    act: Act,
) -> Result<T, Failure>
where
    Act: AsyncFn() -> Result<T, yellow_attic_client::Error>,
{
    match act().await {
        Err(e) if matches!(e.code(), Some("proof_needed" | "factor_needed")) => {}
        other => return Ok(other?),
    }
    let address = page_of(client.address(), facts, wish);
    if PROOF_STDIN.load(Ordering::Relaxed) {
        return proved(client, act).await;
    }
    if crate::desktop::open(&address) {
        return Err(Failure::failed(
            "nothing was given out yet: your password is needed for it once more",
            format!("Its dialog is open in your browser, filled in: {address}"),
        )
        .coded("in_the_browser"));
    }
    match std::io::stdin().is_terminal() {
        true => proved(client, act).await,
        false => Err(Failure::failed(
            "nothing was given out yet: your password is needed for it once more",
            format!("Open its dialog in a browser, filled in: {address} - or give the password with --proof-stdin."),
        )
        .coded("proof_needed")),
    }
}

/// The console's page of a file or folder, with what is asked for.
pub fn page_of(service: &str, facts: &api::Facts, wish: &[(&str, Option<String>)]) -> String {
    let (shelf, way) = facts.path.split_once(":/").unwrap_or((&facts.path, ""));
    let mut way: Vec<&str> = std::iter::once(shelf).chain(way.split('/')).filter(|p| !p.is_empty()).collect();
    if facts.node.kind == api::Kind::File {
        way.pop();
    }
    let way: Vec<String> = way.into_iter().map(encoded).collect();
    let mut address = format!("{service}/shelf/{}?thing={}", way.join("/"), facts.node.id);
    for (name, value) in wish {
        if let Some(value) = value {
            address.push_str(&format!("&{name}={}", encoded(value)));
        }
    }
    address
}

/// As a part of an address, RFC 3986.
fn encoded(text: &str) -> String {
    let mut encoded = String::with_capacity(text.len());
    for byte in text.bytes() {
        match byte {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => encoded.push(byte.into()),
            _ => encoded.push_str(&format!("%{byte:02X}")),
        }
    }
    encoded
}

/// A person, group or everyone, as people write them: a bare name is an account.
pub fn subject(word: &str) -> String {
    match word {
        "everyone" => word.to_string(),
        _ if word.contains(':') => word.to_string(),
        _ => format!("account:{word}"),
    }
}

/// A password for somebody: from standard input, or asked for twice on the terminal.
pub fn new_password(stdin: bool) -> Result<String, Failure> {
    if stdin {
        return line_of_stdin();
    }
    if !std::io::stdin().is_terminal() {
        return Err(Failure::usage(
            "standard input is no terminal to ask for the password on",
            "Give --password-stdin.",
        ));
    }
    let first = rpassword::prompt_password("Its password: ")?;
    if rpassword::prompt_password("Once more: ")? != first {
        return Err(Failure::failed("the two passwords differ", "Try again."));
    }
    Ok(first)
}

/// Asks on the terminal before something that cannot be taken back easily.
pub fn sure(yes: bool, what: &str, question: &str) -> Result<(), Failure> {
    if yes {
        return Ok(());
    }
    if !std::io::stdin().is_terminal() {
        return Err(Failure::failed(
            format!("nothing was done: {what}"),
            "Standard input is no terminal to ask on: give --yes.",
        )
        .coded("not_confirmed"));
    }
    eprint!("{what}. {question} (y/N) ");
    std::io::stderr().flush()?;
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line)?;
    match line.trim() {
        "y" | "Y" | "yes" => Ok(()),
        _ => Err(Failure::failed("nothing was changed", "").coded("not_confirmed")),
    }
}

/// What stands at a remote place.
pub async fn place(client: &Client, path: &str, at: Option<&str>) -> Result<api::Facts, Failure> {
    Ok(client.place(&normalised(path)?, at).await?)
}

/// A remote place, checked here so that a mistyped one is told apart from one that is gone. A file of this computer that
/// lies in a pair means the one that it is kept the same as.
pub fn normalised(path: &str) -> Result<String, Failure> {
    match yellow_attic_core::ShelfPath::parse(path) {
        Ok(parsed) => Ok(parsed.to_string()),
        Err(e) => match in_a_pair(Path::new(path)) {
            Some(remote) => Ok(remote),
            None => Err(Failure::usage(e.to_string(), e.remedy())),
        },
    }
}

/// A local path from the root, links followed up to its folder: it need not be there.
pub fn absolute(path: &Path) -> Option<PathBuf> {
    if let Ok(whole) = fs::canonicalize(path) {
        return Some(whole);
    }
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    Some(fs::canonicalize(folder).ok()?.join(path.file_name()?))
}

/// Where the states of pairs lie.
pub fn pairs_folder() -> Option<PathBuf> {
    std::env::var_os("YATTIC_HOME")
        .map(PathBuf::from)
        .or_else(|| std::env::var_os("XDG_STATE_HOME").map(|d| PathBuf::from(d).join("yattic")))
        .or_else(|| std::env::var_os("HOME").map(|d| PathBuf::from(d).join(".local/state/yattic")))
        .map(|base| base.join("pairs"))
}

/// What must not be lost of mounted folders lies there.
pub fn mounts_folder() -> Option<PathBuf> {
    Some(pairs_folder()?.with_file_name("mounts"))
}

/// What may be deleted at any time of them.
pub fn cache_folder() -> Option<PathBuf> {
    std::env::var_os("YATTIC_HOME")
        .map(|home| PathBuf::from(home).join("cache"))
        .or_else(|| std::env::var_os("XDG_CACHE_HOME").map(|d| PathBuf::from(d).join("yattic")))
        .or_else(|| std::env::var_os("HOME").map(|d| PathBuf::from(d).join(".cache/yattic")))
}

/// Where file managers look for small pictures (freedesktop thumbnail standard).
pub fn thumbnails_folder() -> Option<PathBuf> {
    std::env::var_os("XDG_CACHE_HOME")
        .map(PathBuf::from)
        .or_else(|| std::env::var_os("HOME").map(|d| PathBuf::from(d).join(".cache")))
        .map(|cache| cache.join("thumbnails"))
}

/// All mounted folders of this account, with where they keep what they have.
pub fn mounts() -> Vec<(PathBuf, Mount)> {
    let entries =
        mounts_folder().and_then(|folder| fs::read_dir(folder).ok()).into_iter().flatten().flatten();
    let mut mounts: Vec<(PathBuf, Mount)> =
        entries.filter_map(|entry| Some((entry.path(), Mount::read(&entry.path()).ok()??))).collect();
    mounts.sort_by(|a, b| a.1.at.cmp(&b.1.at));
    mounts
}

/// The mounted folder in which a local path lies, and the way to it from there.
pub fn in_a_mount(path: &Path) -> Option<(PathBuf, Mount, PathBuf)> {
    // Links are followed up to the folder, but nothing in it is touched: it may not answer.
    let path = std::path::absolute(path).ok()?;
    mounts().into_iter().find_map(|(state, mount)| {
        let rest = path.strip_prefix(&mount.at).ok()?.to_path_buf();
        Some((state, mount, rest))
    })
}

/// What a file of this computer is kept the same as, by the pairs that have run.
fn in_a_pair(path: &Path) -> Option<String> {
    if let Some((state, _, rest)) = in_a_mount(path) {
        return in_pairs_of(&mount::pairs_of(&state), &state.join("body").join(rest));
    }
    in_pairs_of(&pairs_folder()?, &absolute(path)?)
}

fn in_pairs_of(folder: &Path, path: &Path) -> Option<String> {
    for entry in fs::read_dir(folder).ok()?.flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        let Some(id) = name.strip_suffix(".status.json") else { continue };
        let Ok(Some(status)) = Status::read(folder, id) else { continue };
        if let Ok(rest) = path.strip_prefix(&status.local) {
            let way: Vec<String> = rest.iter().map(|part| part.to_string_lossy().into_owned()).collect();
            let slash = if status.remote.ends_with('/') || way.is_empty() { "" } else { "/" };
            return Some(format!("{}{slash}{}", status.remote, way.join("/")));
        }
    }
    None
}

/// Splits a remote place into its folder and its last name.
pub fn split(path: &str) -> Result<(String, Option<String>), Failure> {
    let mut parsed =
        yellow_attic_core::ShelfPath::parse(path).map_err(|e| Failure::usage(e.to_string(), e.remedy()))?;
    let name = parsed.names.pop().map(String::from);
    Ok((parsed.to_string(), name))
}

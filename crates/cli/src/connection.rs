//! Where this computer is connected, and with which token: kept in one file, mode 0600.

use crate::output::Failure;
use serde::{Deserialize, Serialize};
use std::fs::{self, OpenOptions};
use std::io::{BufRead, IsTerminal, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use yellow_attic_client::{Client, api};
use yellow_attic_sync::pairs::status::Status;

/// What is kept.
#[derive(Serialize, Deserialize)]
pub struct Connection {
    /// The service's address.
    pub address: String,
    /// The sign-in name.
    pub sign_in: String,
    /// This computer's token.
    pub token: String,
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

/// Writes it, so that only its owner can read it.
pub fn save(connection: &Connection) -> Result<(), Failure> {
    let path = file()?;
    if let Some(dir) = path.parent() {
        fs::create_dir_all(dir)?;
    }
    let text = toml::to_string(connection).map_err(|e| Failure::failed(e.to_string(), ""))?;
    let fresh = path.with_extension("new");
    let _ = fs::remove_file(&fresh);
    let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&fresh)?;
    file.write_all(text.as_bytes())?;
    file.sync_all()?;
    fs::rename(&fresh, &path)?;
    Ok(())
}

/// Forgets it.
pub fn forget() -> Result<(), Failure> {
    match fs::remove_file(file()?) {
        Err(e) if e.kind() != std::io::ErrorKind::NotFound => Err(e.into()),
        _ => Ok(()),
    }
}

/// A client of the service that this computer is connected to.
pub fn client() -> Result<Client, Failure> {
    let connection = load()?;
    Ok(Client::new(&connection.address, Some(&connection.token))?)
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

/// What a file of this computer is kept the same as, by the pairs that have run.
fn in_a_pair(path: &Path) -> Option<String> {
    let (path, folder) = (absolute(path)?, pairs_folder()?);
    for entry in fs::read_dir(&folder).ok()?.flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        let Some(id) = name.strip_suffix(".status.json") else { continue };
        let Ok(Some(status)) = Status::read(&folder, id) else { continue };
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

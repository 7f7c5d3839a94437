//! The key that seals what the store keeps secret and must read again: second factors. It lies in a file of its own, which
//! may be elsewhere than the data: whoever gets a copy of the data folder cannot make codes from it.
//!
//! Without the key, or with another one, the service runs; what it seals cannot be read until it is put back.

use crate::catalogue::db;
use crate::fs::disk::{hex, unhex};
use crate::fs::error::{Result, StoreError};
use sqlx::{Connection, SqliteConnection};
use std::fs::{File, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use yellow_attic_core::secret::{NONCE, SecretsKey};

/// Where the key lies if nobody says.
pub const USUAL_NAME: &str = "secrets.key";

/// The key, as far as it is there.
pub(crate) struct Secrets {
    path: PathBuf,
    /// Which key sealed what is sealed.
    id: Option<String>,
    key: OnceLock<SecretsKey>,
    /// Why none could be made at the start.
    unmade: Option<String>,
}

impl Secrets {
    /// Reads the key, or makes one while nothing is sealed yet; what is not sealed is, now.
    pub async fn open(conn: &mut SqliteConnection, path: PathBuf) -> Result<Secrets> {
        let known: Option<String> =
            sqlx::query_scalar("SELECT secrets_key FROM store WHERE id = 1").fetch_one(&mut *conn).await?;
        let sealed: i64 =
            sqlx::query_scalar("SELECT count(*) FROM factors WHERE sealed = 1").fetch_one(&mut *conn).await?;
        let mut secrets = Secrets { path, id: known.clone(), key: OnceLock::new(), unmade: None };
        let key = match (read(&secrets.path), sealed) {
            (Ok(Some(key)), _) if known.as_deref().is_none_or(|id| id == key.id()) => key,
            // Nothing needs the one of before: another begins.
            (Ok(Some(key)), 0) => key,
            (Ok(None), 0) => match make(&secrets.path) {
                Ok(key) => key,
                Err(error) => {
                    let why = format!("{} could not be made: {error}", secrets.path.display());
                    tracing::error!(why, "second factors cannot be set up");
                    secrets.unmade = Some(why);
                    return Ok(secrets);
                }
            },
            _ => {
                if let Err(error) = secrets.key() {
                    tracing::error!(%error, "accounts with a second factor cannot sign in with it");
                }
                return Ok(secrets);
            }
        };
        take(conn, &key).await?;
        secrets.id = Some(key.id().into());
        let _ = secrets.key.set(key);
        Ok(secrets)
    }

    /// The key. Looked for anew while it is missing: whoever puts it back need not start the service again.
    pub fn key(&self) -> Result<&SecretsKey> {
        if let Some(key) = self.key.get() {
            return Ok(key);
        }
        if let Some(why) = &self.unmade {
            return Err(StoreError::SecretsShut(why.clone()));
        }
        let at = self.path.display();
        let wanted = self.id.as_deref().unwrap_or_default();
        match read(&self.path) {
            Ok(Some(key)) if key.id() == wanted => Ok(self.key.get_or_init(|| key)),
            Ok(Some(key)) => Err(StoreError::SecretsShut(format!(
                "the key in {at} is {}, and the secrets were sealed with {wanted}",
                key.id()
            ))),
            Ok(None) => Err(StoreError::SecretsShut(format!("{at} is not there; it held the key {wanted}"))),
            Err(e) => Err(StoreError::SecretsShut(format!("{at} cannot be read: {e}"))),
        }
    }

    /// Seals a secret.
    pub fn seal(&self, what: &str, secret: &[u8]) -> Result<Vec<u8>> {
        seal(self.key()?, what, secret)
    }

    /// Opens a secret.
    pub fn unseal(&self, what: &str, sealed: &[u8]) -> Result<Vec<u8>> {
        let opened = self.key()?.open(what, sealed);
        opened.ok_or_else(|| StoreError::SecretsShut(format!("the secret of {what} was changed or damaged")))
    }
}

/// What a sealed factor is bound to.
pub(crate) fn of_factor(account: i64, kind: &str) -> String {
    format!("{kind} of account {account}")
}

fn seal(key: &SecretsKey, what: &str, secret: &[u8]) -> Result<Vec<u8>> {
    let mut nonce = [0; NONCE];
    getrandom::fill(&mut nonce).map_err(|e| StoreError::BadInput(e.to_string()))?;
    Ok(key.seal(what, nonce, secret))
}

/// The catalogue knows the key, and nothing in it is unsealed any more, nor in pages that are free.
async fn take(conn: &mut SqliteConnection, key: &SecretsKey) -> Result<()> {
    let mut work = conn.begin_with("BEGIN IMMEDIATE").await?;
    sqlx::query("UPDATE store SET secrets_key = ?1 WHERE secrets_key IS NOT ?1")
        .bind(key.id())
        .execute(&mut *work)
        .await?;
    let plain: Vec<(i64, i64, String, Vec<u8>)> =
        sqlx::query_as("SELECT id, account, kind, secret FROM factors WHERE sealed = 0")
            .fetch_all(&mut *work)
            .await?;
    for (id, account, kind, secret) in &plain {
        let sealed = seal(key, &of_factor(*account, kind), secret)?;
        sqlx::query("UPDATE factors SET secret = ?, sealed = 1 WHERE id = ?")
            .bind(sealed)
            .bind(id)
            .execute(&mut *work)
            .await?;
    }
    work.commit().await?;
    if plain.is_empty() {
        return Ok(());
    }
    let wiped = async {
        sqlx::query("VACUUM").execute(&mut *conn).await?;
        sqlx::query("PRAGMA wal_checkpoint(TRUNCATE)").execute(&mut *conn).await
    };
    match wiped.await {
        Ok(_) => tracing::info!(factors = plain.len(), "second factors are sealed by {}", key.id()),
        Err(error) => tracing::warn!(
            %error,
            "second factors are sealed; what they were before may still lie in free pages of the catalogue"
        ),
    }
    Ok(())
}

/// Does something within a transaction that leaves nothing of what it deletes or replaces in the catalogue's pages.
pub(crate) async fn wipe(conn: &mut SqliteConnection, wipes: bool) -> Result<()> {
    let pragma = if wipes { "PRAGMA secure_delete = ON" } else { "PRAGMA secure_delete = OFF" };
    sqlx::query(pragma).execute(conn).await?;
    Ok(())
}

fn read(path: &Path) -> io::Result<Option<SecretsKey>> {
    let text = match std::fs::read_to_string(path) {
        Ok(text) => text,
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(e) => return Err(e),
    };
    let key = unhex(text.trim()).ok_or_else(|| {
        io::Error::new(io::ErrorKind::InvalidData, "it does not hold a key of 64 hexadecimal digits")
    })?;
    Ok(Some(SecretsKey::new(&key)))
}

/// Written beside its place, synced, then renamed: a key is whole or not there.
fn make(path: &Path) -> io::Result<SecretsKey> {
    let mut key = [0u8; 32];
    getrandom::fill(&mut key).map_err(|e| io::Error::other(e.to_string()))?;
    let new = path.with_extension("key.new");
    let mut file = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&new)?;
    writeln!(file, "{}", hex(&key))?;
    file.sync_all()?;
    std::fs::rename(&new, path)?;
    File::open(path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new(".")))?.sync_all()?;
    Ok(SecretsKey::new(&key))
}

/// How the key and the catalogue fit, for whoever asks beside the service.
#[derive(Debug)]
pub struct Fit {
    /// Which key the catalogue names, if any.
    pub wanted: Option<String>,
    /// Which key lies in the file, if one does.
    pub found: Option<String>,
    /// How many secrets are sealed.
    pub sealed: i64,
    /// How many of them the key in the file opens.
    pub opened: i64,
}

/// Looks whether the key in a file is the one of a store, and tries it on each secret. Nothing is changed.
pub async fn look(data: &Path, path: &Path) -> Result<Fit> {
    let catalogue = data.join("catalogue.db");
    if !catalogue.exists() {
        return Err(StoreError::NoStore(format!("there is no store in {}", data.display())));
    }
    let pool = db::open_readers(&catalogue).await?;
    let looked = async {
        let wanted: Option<String> =
            sqlx::query_scalar("SELECT secrets_key FROM store WHERE id = 1").fetch_one(&pool).await?;
        let sealed: Vec<(i64, String, Vec<u8>)> =
            sqlx::query_as("SELECT account, kind, secret FROM factors WHERE sealed = 1")
                .fetch_all(&pool)
                .await?;
        Ok::<_, StoreError>((wanted, sealed))
    };
    let looked = looked.await;
    pool.close().await;
    let (wanted, sealed) = looked?;
    let key = read(path).map_err(|e| StoreError::io(format!("reading {}", path.display()), &e))?;
    let opens = |(account, kind, secret): &&(i64, String, Vec<u8>)| {
        key.as_ref().is_some_and(|key| key.open(&of_factor(*account, kind), secret).is_some())
    };
    Ok(Fit {
        wanted,
        found: key.as_ref().map(|key| key.id().to_string()),
        opened: sealed.iter().filter(opens).count() as i64,
        sealed: sealed.len() as i64,
    })
}

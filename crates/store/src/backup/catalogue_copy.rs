//! The catalogue copied while it is written to.
//!
//! While the log is not carried over, the file before it stays as it is, and the log only grows: both copied, one after the other, are
//! the catalogue as it was after some commit. What of the log came along half is not valid, and left out when the copy is opened.

use crate::engine::Engine;
use crate::files::jobs::Step;
use crate::fs::error::{Result, StoreError};
use sqlx::sqlite::{SqliteConnectOptions, SqliteJournalMode};
use sqlx::{ConnectOptions, SqliteConnection};
use std::fs;
use std::path::Path;

/// Copies the catalogue to a file, and opens that.
pub(crate) async fn copy(engine: &Engine, to: &Path) -> Result<SqliteConnection> {
    let disk = &engine.shared.disk;
    let held = disk.log_stays.hold();
    // One that began to carry the log over before it was held has ended by the second answer.
    engine.ask(Step::Nothing).await?;
    engine.ask(Step::Nothing).await?;
    let log_of = |path: &Path| {
        let mut name = path.as_os_str().to_owned();
        name.push("-wal");
        std::path::PathBuf::from(name)
    };
    let (from, its) = (disk.catalogue(), to.to_path_buf());
    let copied = tokio::task::spawn_blocking(move || {
        fs::copy(&from, &its)?;
        match fs::copy(log_of(&from), log_of(&its)) {
            Err(e) if e.kind() != std::io::ErrorKind::NotFound => Err(e),
            _ => Ok(()),
        }
    });
    copied
        .await
        .map_err(|_| StoreError::Stopping)?
        .map_err(|e| StoreError::io("copying the catalogue", &e))?;
    drop(held);
    let mut conn = open(to).await?;
    let sound: String = sqlx::query_scalar("PRAGMA quick_check(1)").fetch_one(&mut conn).await?;
    match sound.as_str() {
        "ok" => Ok(conn),
        wrong => Err(StoreError::Catalogue(format!("its copy is damaged: {wrong}"))),
    }
}

/// Opens a copy of a catalogue, with what its log holds; afterwards it has none.
pub(crate) async fn open(path: &Path) -> Result<SqliteConnection> {
    // Nothing here is a promise: it is synced as a whole at the end.
    let options = SqliteConnectOptions::new().filename(path).pragma("synchronous", "off");
    let options = options.pragma("temp_store", "memory").disable_statement_logging();
    let mut conn = options.journal_mode(SqliteJournalMode::Wal).connect().await?;
    sqlx::query("PRAGMA wal_checkpoint(TRUNCATE)").execute(&mut conn).await?;
    sqlx::query("PRAGMA journal_mode = DELETE").execute(&mut conn).await?;
    Ok(conn)
}

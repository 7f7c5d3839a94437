//! Opening the catalogue.

use crate::fs::error::{Result, StoreError};
use sqlx::sqlite::{
    SqliteAutoVacuum, SqliteConnectOptions, SqliteJournalMode, SqlitePool, SqlitePoolOptions,
    SqliteSynchronous,
};
use sqlx::{ConnectOptions, SqliteConnection};
use std::path::Path;
use std::time::Duration;

/// The pragmas, each with its reason.
fn options(path: &Path) -> SqliteConnectOptions {
    SqliteConnectOptions::new()
        .filename(path)
        // Readers go on while the one writer commits.
        .journal_mode(SqliteJournalMode::Wal)
        // A commit is on the disk when it returns: an answer is a promise.
        .synchronous(SqliteSynchronous::Full)
        // The writer is alone, but a check-point may hold the file for a moment.
        .busy_timeout(Duration::from_secs(10))
        // The log grows from its beginning after each check-point: `catalogue::log` says what that is good for, and has it carried over.
        .pragma("journal_size_limit", "0")
        .pragma("wal_autocheckpoint", "0")
        // Sorting happens in memory: nothing is written outside the data folder.
        .pragma("temp_store", "memory")
        .foreign_keys(true)
        .disable_statement_logging()
}

/// The writer's connection, with the schema brought up to date.
pub(crate) async fn open_writer(path: &Path) -> Result<SqliteConnection> {
    let mut conn = options(path)
        .create_if_missing(true)
        // Pages that are free can be given back in small steps. A catalogue of before gets it by its next VACUUM.
        .auto_vacuum(SqliteAutoVacuum::Incremental)
        // 32 MiB: the writer meets the upper levels of every index in memory.
        .pragma("cache_size", "-32768")
        .connect()
        .await?;
    sqlx::migrate!("./migrations")
        .run(&mut conn)
        .await
        .map_err(|e| StoreError::Catalogue(format!("the schema could not be brought up to date: {e}")))?;
    Ok(conn)
}

/// The readers' connections.
pub(crate) async fn open_readers(path: &Path) -> Result<SqlitePool> {
    Ok(SqlitePoolOptions::new()
        .max_connections(4)
        .min_connections(2)
        // A test that its connection still lives would cost as much as the question itself.
        .test_before_acquire(false)
        .connect_with(options(path).read_only(true).pragma("cache_size", "-8192"))
        .await?)
}

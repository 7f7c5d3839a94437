//! What an administrator does to a store that no service has open: taking an older catalogue for the one that counts,
//! and mending times that a wrong clock left.

use crate::engine::identity::{self, Missing};
use crate::engine::lock;
use crate::fs::disk::Disk;
use crate::fs::error::{Result, StoreError};
use crate::fs::fault_points::AllSteps;
use crate::txn::write_txn::load_heads;
use serde_json::json;
use sqlx::SqliteConnection;
use std::path::Path;
use std::sync::Arc;
use yellow_attic_core::record;

/// What was done with an older catalogue.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Accepted {
    /// Whether it was one.
    pub was_older: bool,
    /// Things of the past that it does not know, kept aside in `past/unknown`.
    pub kept_aside: u64,
}

/// Takes the catalogue that is there for the one that counts from now on, though the data beside it is newer.
pub async fn accept_catalogue(data: &Path) -> Result<Accepted> {
    let (disk, mut conn) = open(data).await?;
    let doubt = identity::recognise(&mut conn, data.to_path_buf(), Missing::Refuse).await?;
    let kept_aside = match doubt {
        Some(_) => identity::accept(&mut conn, &disk).await?,
        None => 0,
    };
    close(conn).await?;
    Ok(Accepted { was_older: doubt.is_some(), kept_aside })
}

/// Times of a store against a clock.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Times {
    /// The newest time that is kept, in milliseconds.
    pub newest: i64,
    /// Changes that are stamped with a time after the clock's.
    pub ahead: u64,
}

/// Looks at the times that are kept. Changes nothing.
pub async fn look_at_times(data: &Path, now_ms: i64) -> Result<Times> {
    let (_disk, mut conn) = open(data).await?;
    let newest = load_heads(&mut conn).await?.at;
    let ahead: i64 = sqlx::query_scalar("SELECT count(*) FROM moments WHERE at > ?")
        .bind(now_ms)
        .fetch_one(&mut conn)
        .await?;
    close(conn).await?;
    Ok(Times { newest, ahead: ahead.max(0) as u64 })
}

/// Stamps what a wrong clock stamped with a time to come with the present time instead, so that later changes are not
/// held back by it. The order of changes stays; the record keeps its rows as they are, and gets one that says this.
pub async fn mend_times(data: &Path, now_ms: i64) -> Result<Times> {
    let (_disk, mut conn) = open(data).await?;
    let mut heads = load_heads(&mut conn).await?;
    sqlx::query("BEGIN IMMEDIATE").execute(&mut conn).await?;
    let ahead = sqlx::query("UPDATE moments SET at = ?1 WHERE at > ?1")
        .bind(now_ms)
        .execute(&mut conn)
        .await?
        .rows_affected();
    for statement in [
        "UPDATE entries_now SET at = ?1 WHERE at > ?1",
        "UPDATE entries_past SET at = ?1 WHERE at > ?1",
        "UPDATE entries_past SET ended_at = ?1 WHERE ended_at > ?1",
        "UPDATE folders SET changed_at = ?1 WHERE changed_at > ?1",
        "UPDATE jobs SET due = ?1 WHERE due > ?1 + 172800000",
        "UPDATE heads SET at = ?1 WHERE at > ?1",
    ] {
        sqlx::query(statement).bind(now_ms).execute(&mut conn).await?;
    }
    // It went by times that are others now.
    sqlx::query("DELETE FROM looked").execute(&mut conn).await?;
    let fields = ["times mended", "service", "", "this machine", "", &format!("{ahead} changes")];
    let mut salt = [0u8; 16];
    getrandom::fill(&mut salt).map_err(|e| StoreError::BadInput(e.to_string()))?;
    let digest = record::digest(&salt, &fields);
    let mut key = crate::fs::record_key::RecordKey::open(data, now_ms)?;
    let before = (heads.record, heads.link);
    heads.record += 1;
    let covered =
        record::Covered { number: heads.record, at_ms: now_ms, action: fields[0], account: None, node: None };
    heads.link = record::link_all(&before.1, covered, &digest);
    let (step, mac) = key.mark(now_ms, (before.0, &before.1), &heads.link);
    sqlx::query(
        "INSERT INTO record (id, org, at, action, fields, salt, digest, link, version, key, mac)
         VALUES (?, 1, ?, ?, ?, ?, ?, ?, 2, ?, ?)",
    )
    .bind(heads.record)
    .bind(now_ms)
    .bind(fields[0])
    .bind(json!(fields).to_string())
    .bind(&salt[..])
    .bind(&digest[..])
    .bind(&heads.link[..])
    .bind(step)
    .bind(&mac[..])
    .execute(&mut conn)
    .await?;
    sqlx::query("UPDATE heads SET record = ?, link = ?, commits = commits + 1")
        .bind(heads.record)
        .bind(&heads.link[..])
        .execute(&mut conn)
        .await?;
    sqlx::query("COMMIT").execute(&mut conn).await?;
    close(conn).await?;
    Ok(Times { newest: heads.at.min(now_ms), ahead })
}

/// Opens a store that must be there, and that nobody else has open.
async fn open(data: &Path) -> Result<(Disk, SqliteConnection)> {
    identity::look(data, Missing::Refuse)?;
    let disk = Disk::open(data, Arc::new(AllSteps))?;
    lock(&disk)?;
    let conn = crate::catalogue::db::open_writer(&disk.catalogue()).await?;
    Ok((disk, conn))
}

async fn close(conn: SqliteConnection) -> Result<()> {
    Ok(sqlx::Connection::close(conn).await?)
}

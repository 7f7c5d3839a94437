//! What is known of a pair, kept on this computer: in SQLite, so that it opens after any crash. It can be thrown away: then
//! both sides are compared anew, and nothing is removed.

use serde::{Deserialize, Serialize};
use sqlx::sqlite::{SqliteConnectOptions, SqliteJournalMode, SqliteSynchronous};
use sqlx::{Connection, SqliteConnection};
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use yellow_attic_core::merge::filter::Filter;
use yellow_attic_core::merge::{Facets, Item, Pair, Way};

/// The version of the tables, and of what is kept of things ([`Facets`]: a change of them raises it): a later one is not opened, and of an earlier one only what the pair is of is taken over.
const VERSION: i64 = 3;

/// So many things are kept in one row: a row costs more than what is known of a thing.
const PAGE: u64 = 64;

/// What a pair is of.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct About {
    /// Its own number, as hexadecimal digits.
    pub id: String,
    /// The service's address.
    pub service: String,
    /// The folder on this computer.
    pub local: PathBuf,
    /// The folder on the service, as it was named.
    pub remote: String,
    /// Its node.
    pub node: i64,
    /// The top of the shelf on which it lies.
    pub shelf: i64,
    /// What this computer is called.
    pub device: String,
    /// Which way it goes.
    pub way: Way,
    /// The machine to which this belongs: on another one, inode numbers mean other files.
    pub machine: String,
    /// Whether nothing is to be done for now.
    #[serde(default)]
    pub paused: bool,
    /// What is left out.
    #[serde(default)]
    pub filter: Filter,
    /// It is only looked at what joining both would do: nobody works on it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub preview: bool,
}

/// Why a state cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum StateError {
    /// SQLite says so.
    #[error("the local state cannot be read or written: {0}")]
    Sqlite(#[from] sqlx::Error),
    /// A row cannot be read.
    #[error("the local state is damaged: {0}")]
    Damaged(#[from] serde_json::Error),
    /// What is known of things cannot be read.
    #[error("the local state is damaged: {0}")]
    DamagedPage(String),
    /// It is of a later version of this program.
    #[error(
        "the local state is of a later version of this program ({0}, and this one knows {VERSION}): install that one"
    )]
    Later(i64),
    /// It is no state of a pair.
    #[error("this is no state of a pair")]
    Nothing,
}

/// The state of a pair on the disk.
pub struct State {
    conn: SqliteConnection,
}

/// The file of a pair.
pub fn file_of(folder: &Path, id: &str) -> PathBuf {
    folder.join(format!("{id}.db"))
}

impl State {
    /// Opens it, making it if it is missing.
    pub async fn open(path: &Path) -> Result<State, StateError> {
        let options = SqliteConnectOptions::new()
            .filename(path)
            .create_if_missing(true)
            .journal_mode(SqliteJournalMode::Wal)
            .synchronous(SqliteSynchronous::Normal);
        let mut conn = SqliteConnection::connect_with(&options).await?;
        let version: i64 = sqlx::query_scalar("PRAGMA user_version").fetch_one(&mut conn).await?;
        if version > VERSION {
            return Err(StateError::Later(version));
        }
        sqlx::raw_sql("CREATE TABLE IF NOT EXISTS about (name TEXT PRIMARY KEY, value TEXT NOT NULL)")
            .execute(&mut conn)
            .await?;
        if version < VERSION {
            // What was known is found out anew, by comparing both sides.
            sqlx::raw_sql(
                "BEGIN IMMEDIATE; DROP TABLE IF EXISTS items; DROP TABLE IF EXISTS pages;
                 DELETE FROM about WHERE name = 'pair';
                 CREATE TABLE pages (page INTEGER PRIMARY KEY, items BLOB NOT NULL);
                 PRAGMA user_version = 3; COMMIT;",
            )
            .execute(&mut conn)
            .await?;
        }
        Ok(State { conn })
    }

    async fn value<T: for<'a> Deserialize<'a>>(&mut self, name: &str) -> Result<Option<T>, StateError> {
        let text: Option<String> = sqlx::query_scalar("SELECT value FROM about WHERE name = ?")
            .bind(name)
            .fetch_optional(&mut self.conn)
            .await?;
        Ok(text.map(|text| serde_json::from_str(&text)).transpose()?)
    }

    async fn set<T: Serialize>(&mut self, name: &str, value: &T) -> Result<(), StateError> {
        sqlx::query("INSERT OR REPLACE INTO about VALUES (?, ?)")
            .bind(name)
            .bind(serde_json::to_string(value)?)
            .execute(&mut self.conn)
            .await?;
        Ok(())
    }

    /// What it is of.
    pub async fn about(&mut self) -> Result<About, StateError> {
        self.value("about").await?.ok_or(StateError::Nothing)
    }

    /// Says what it is of.
    pub async fn set_about(&mut self, about: &About) -> Result<(), StateError> {
        self.set("about", about).await
    }

    /// A person allows the many removals that wait.
    pub async fn allow(&mut self) -> Result<(), StateError> {
        self.set("allowed", &true).await
    }

    /// Whether a person has allowed them since this was asked last.
    pub async fn take_allowed(&mut self) -> Result<bool, StateError> {
        let gone = sqlx::query("DELETE FROM about WHERE name = 'allowed'").execute(&mut self.conn).await?;
        Ok(gone.rows_affected() > 0)
    }

    /// The timeline of the service that ids and moments are of.
    pub async fn timeline(&mut self) -> Result<Option<String>, StateError> {
        self.value("timeline").await
    }

    /// The pair, as it was kept last.
    pub async fn pair(&mut self) -> Result<Option<Pair>, StateError> {
        let Some(mut pair) = self.value::<Pair>("pair").await? else { return Ok(None) };
        let pages: Vec<(i64, Vec<u8>)> =
            sqlx::query_as("SELECT page, items FROM pages").fetch_all(&mut self.conn).await?;
        for (_, page) in pages {
            let items: Vec<(u64, Facets)> =
                rmp_serde::from_slice(&page).map_err(|e| StateError::DamagedPage(e.to_string()))?;
            items.into_iter().for_each(|(item, facets)| pair.put_back(Item(item), facets));
        }
        pair.begin();
        Ok(Some(pair))
    }

    /// Keeps what has changed since the last time, all of it or nothing.
    pub async fn keep(&mut self, pair: &mut Pair, timeline: &str) -> Result<(), StateError> {
        let changed = pair.take_changed();
        if changed.is_empty() {
            return Ok(());
        }
        let pages: BTreeSet<u64> = changed.iter().map(|item| item.0 / PAGE).collect();
        sqlx::raw_sql("BEGIN IMMEDIATE").execute(&mut self.conn).await?;
        let kept = async {
            for page in pages {
                let all = (page * PAGE..(page + 1) * PAGE).map(Item);
                let items: Vec<(u64, &Facets)> =
                    all.filter_map(|item| Some((item.0, pair.facets(item)?))).collect();
                let kept = match items.is_empty() {
                    true => sqlx::query("DELETE FROM pages WHERE page = ?").bind(page as i64),
                    false => sqlx::query("INSERT OR REPLACE INTO pages VALUES (?, ?)")
                        .bind(page as i64)
                        .bind(rmp_serde::to_vec(&items).map_err(|e| StateError::DamagedPage(e.to_string()))?),
                };
                kept.execute(&mut self.conn).await?;
            }
            self.set("pair", &pair.bare()).await?;
            self.set("timeline", &timeline).await
        };
        let kept = kept.await;
        let end = if kept.is_ok() { "COMMIT" } else { "ROLLBACK" };
        let ended = sqlx::raw_sql(end).execute(&mut self.conn).await;
        if kept.is_err() || ended.is_err() {
            pair.mark_changed(changed.into_iter());
        }
        kept?;
        ended?;
        Ok(())
    }

    /// Closes it.
    pub async fn close(self) -> Result<(), StateError> {
        Ok(self.conn.close().await?)
    }
}

//! The list of work that somebody or a schedule asked for, and what became of it. What runs now is known to whoever runs it.

use crate::engine::Engine;
use crate::fs::error::Result;
use crate::ops::record::ChangeCatalogue;
use async_recursion::async_recursion as boxed;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};

/// So many that have ended stay listed.
const KEPT: i64 = 1_000;

/// Which of them count.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Counts {
    /// Whatever became of it.
    All = 0,
    /// It came to its end, even if something was wrong.
    Ended = 1,
    /// It came to its end, and all was well.
    Done = 2,
}

/// Something that was asked for.
#[derive(Clone, Debug, PartialEq, Eq, sqlx::FromRow)]
pub struct Work {
    /// Its number.
    pub id: i64,
    /// What kind of thing.
    pub kind: String,
    /// Who asked, in words.
    pub by: String,
    /// What was asked, in words.
    pub what: String,
    /// runs, done, failed, stopped, or cut off: the service ended first.
    pub state: String,
    /// What became of it, in words.
    pub said: String,
    /// The same for programs: JSON, or empty.
    pub report: String,
    /// When it began, in milliseconds.
    pub begun_at: i64,
    /// When it ended.
    pub ended_at: Option<i64>,
}

impl Engine {
    /// Notes that something begins. Returns its number.
    #[boxed]
    pub async fn work_begins(&self, kind: &str, by: &str, what: &str) -> Result<i64> {
        let (kind, by, what, now) = (kind.to_string(), by.to_string(), what.to_string(), self.wall_ms());
        let id = Arc::new(AtomicI64::new(0));
        let told = id.clone();
        self.ask(ChangeCatalogue::quiet(move |conn| {
            Box::pin(async move {
                let id: i64 = sqlx::query_scalar(
                    "INSERT INTO work (org, kind, by, what, state, begun_at) VALUES (1, ?, ?, ?, 'runs', ?) RETURNING id",
                )
                .bind(kind)
                .bind(by)
                .bind(what)
                .bind(now)
                .fetch_one(&mut *conn)
                .await?;
                sqlx::query("DELETE FROM work WHERE id < ? AND state <> 'runs'").bind(id - KEPT).execute(conn).await?;
                told.store(id, Ordering::SeqCst);
                Ok(())
            })
        }))
        .await?;
        Ok(id.load(Ordering::SeqCst))
    }

    /// Notes what became of it.
    #[boxed]
    pub async fn work_ended(&self, id: i64, state: &'static str, said: &str, report: &str) -> Result<()> {
        let (said, report, now) = (said.to_string(), report.to_string(), self.wall_ms());
        self.ask(ChangeCatalogue::quiet(move |conn| {
            Box::pin(async move {
                sqlx::query("UPDATE work SET state = ?, said = ?, report = ?, ended_at = ? WHERE id = ?")
                    .bind(state)
                    .bind(said)
                    .bind(report)
                    .bind(now)
                    .bind(id)
                    .execute(conn)
                    .await?;
                Ok(())
            })
        }))
        .await
    }

    /// What ran when the service ended the last time was cut off.
    #[boxed]
    pub async fn work_was_cut_off(&self) -> Result<()> {
        let now = self.wall_ms();
        self.ask(ChangeCatalogue::quiet(move |conn| {
            Box::pin(async move {
                sqlx::query(
                    "UPDATE work SET state = 'cut off', said = 'the service ended before it did', ended_at = ? WHERE state = 'runs'",
                )
                .bind(now)
                .execute(conn)
                .await?;
                Ok(())
            })
        }))
        .await
    }

    /// When the store was made: when its first account was.
    #[boxed]
    pub async fn made_at(&self) -> Result<i64> {
        let first = sqlx::query_scalar("SELECT min(made_at) FROM accounts");
        let first: Option<i64> = first.fetch_one(&self.shared.view.pool).await?;
        Ok(first.unwrap_or_else(|| self.wall_ms()))
    }

    /// What was asked for, the newest first.
    #[boxed]
    pub async fn work_listed(&self, most: i64) -> Result<Vec<Work>> {
        let found = sqlx::query_as(
            "SELECT id, kind, by, what, state, said, report, begun_at, ended_at FROM work ORDER BY id DESC LIMIT ?",
        );
        Ok(found.bind(most).fetch_all(&self.shared.view.pool).await?)
    }

    /// The last of a kind, of those that count; to one target alone, if it is named.
    #[boxed]
    pub async fn last_work(&self, kind: &str, what: Option<&str>, counts: Counts) -> Result<Option<Work>> {
        let found = sqlx::query_as(
            "SELECT id, kind, by, what, state, said, report, begun_at, ended_at FROM work
             WHERE kind = ?1 AND (?2 IS NULL OR what = ?2) AND (?3 = 0 OR ?3 = 1 AND report <> '' OR state = 'done')
             ORDER BY id DESC LIMIT 1",
        );
        Ok(found.bind(kind).bind(what).bind(counts as i64).fetch_optional(&self.shared.view.pool).await?)
    }
}

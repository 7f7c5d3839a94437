//! Rolling a folder back: the difference between two numbers, applied as ordinary changes, so that it
//! can be undone like any other. Goes on after a restart, because the plan is made anew from what is.

use crate::catalogue::rows::sql;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::Actor;
use crate::timeline::History;
use async_recursion::async_recursion as boxed;
use serde::{Deserialize, Serialize};
use std::sync::atomic::Ordering;
use std::time::Duration;
use yellow_attic_core::rights::Level;
use yellow_attic_core::rollback::Conflict;
use yellow_attic_core::{AccountId, Moment, NodeId, ShelfId};

/// A rollback that was asked for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rollback {
    /// Its id.
    pub id: i64,
    /// The shelf.
    pub shelf: ShelfId,
    /// The folder.
    pub node: NodeId,
    /// To which number.
    pub goal: Moment,
    /// The number before its first change.
    pub begun: Moment,
    /// Who asked.
    pub account: Option<AccountId>,
    /// By name.
    pub who: String,
    /// When.
    pub made_at: i64,
    /// `running`, `done` or `stopped`.
    pub state: String,
    /// When it ended.
    pub ended_at: Option<i64>,
    /// How many steps it has.
    pub steps: i64,
    /// How many are done.
    pub done: i64,
    /// Bytes to bring back.
    pub bytes: i64,
    /// Bytes brought back.
    pub bytes_done: i64,
    /// The rollback that this one takes back.
    pub undoes: Option<i64>,
    /// What was left as it was, and why.
    pub left_alone: Vec<Left>,
}

/// Something that a rollback left as it was.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Left {
    /// Which.
    pub name: String,
    /// Why.
    pub why: String,
}

type RollbackRow = (
    i64,
    i64,
    i64,
    i64,
    i64,
    Option<i64>,
    String,
    i64,
    String,
    Option<i64>,
    i64,
    i64,
    i64,
    i64,
    Option<i64>,
    String,
);
const COLUMNS: &str = "id, shelf, node, goal, begun, account, who, made_at, state, ended_at, steps, done, bytes, bytes_done, undoes, left_alone";

fn read(row: RollbackRow) -> Result<Rollback> {
    Ok(Rollback {
        id: row.0,
        shelf: ShelfId(row.1),
        node: NodeId(row.2),
        goal: Moment(row.3),
        begun: Moment(row.4),
        account: row.5.map(AccountId),
        who: row.6,
        made_at: row.7,
        state: row.8,
        ended_at: row.9,
        steps: row.10,
        done: row.11,
        bytes: row.12,
        bytes_done: row.13,
        undoes: row.14,
        left_alone: crate::catalogue::rows::parse(&row.15)?,
    })
}

/// Why something stays, in words.
pub fn why(conflict: Conflict) -> &'static str {
    match conflict {
        Conflict::NotHeld => "its bytes of then are no longer held",
        Conflict::Newer => "somebody changed it while the rollback ran",
        Conflict::NoWayBack => "it came from elsewhere, and its place there is gone",
        Conflict::Holds => "it was not there, and something in it stays",
    }
}

/// How a rollback begins.
#[derive(Clone, Copy, Debug, Default)]
pub struct Begin<'a> {
    /// What the preview was; refused if it would be another now.
    pub token: Option<&'a str>,
    /// The rollback that this one takes back.
    pub undoes: Option<i64>,
    /// What is to stay as it is.
    pub keep: &'a [NodeId],
}

impl History {
    /// Begins a rollback. `token`: what the preview was; refused if it would be another now.
    #[boxed]
    pub async fn begin_rollback<'a>(
        &'a self,
        actor: &'a Actor,
        top: NodeId,
        goal: Moment,
        how: Begin<'a>,
    ) -> Result<Rollback> {
        let Begin { token, undoes, keep } = how;
        let chain = self.check_rollback(actor, top, goal).await?;
        let preview = self.plan_rollback(actor, top, goal, keep).await?;
        let keep = serde_json::to_string(keep).unwrap_or_default();
        if token.is_some_and(|t| t != preview.token) {
            return Err(StoreError::PlanStale);
        }
        let plan = &preview.plan;
        // What comes back must fit: refused as a whole, not half-way.
        let (more, less) = (plan.return_bytes.max(0) as u64, plan.go_bytes.max(0) as u64);
        drop(self.0.space().claim(top, more, less).await?);
        self.0.check_room(more)?;
        let shelf = chain.last().map(|r| r.shelf).unwrap_or_default();
        let name = chain[0].name().to_string();
        let (steps, bytes) = (plan.steps.len() as i64, plan.return_bytes + plan.change_bytes);
        let (account, device) = (actor.account.map(|a| a.0), actor.device.map(|d| d.0));
        let (who, from, now) = (actor.who.to_string(), actor.from.to_string(), self.0.now_ms());
        let what = format!("{name}: {} to {}", steps, self.time_word(goal).await?);
        let (tell, told) = tokio::sync::oneshot::channel();
        self.0.people().change(actor, "rollback begun", &what, move |conn| {
            Box::pin(async move {
                let other: i64 = sqlx::query_scalar("SELECT count(*) FROM rollbacks WHERE shelf = ? AND state = 'running'")
                    .bind(shelf.0)
                    .fetch_one(&mut *conn)
                    .await?;
                if other > 0 {
                    return Err(StoreError::RollingBack(name));
                }
                let begun: i64 = sqlx::query_scalar("SELECT moment FROM heads").fetch_one(&mut *conn).await?;
                let id: i64 = sqlx::query_scalar(
                    "INSERT INTO rollbacks (org, shelf, node, goal, begun, account, device, who, sent_from, made_at, state, steps, bytes, undoes, keep)
                     VALUES (1, ?, ?, ?, ?, ?, ?, ?, ?, ?, 'running', ?, ?, ?, ?) RETURNING id",
                )
                .bind(shelf.0)
                .bind(top.0)
                .bind(goal.0)
                .bind(begun)
                .bind(account)
                .bind(device)
                .bind(who)
                .bind(from)
                .bind(now)
                .bind(steps)
                .bind(bytes)
                .bind(undoes)
                .bind(keep)
                .fetch_one(conn)
                .await?;
                let _ = tell.send(id);
                Ok(())
            })
        })
        .await?;
        let id = told.await.map_err(|_| StoreError::Stopping)?;
        self.rollback(id).await?.ok_or_else(|| StoreError::NotFound("The rollback".into()))
    }

    async fn time_word(&self, moment: Moment) -> Result<String> {
        let at = self.time_of(moment).await?;
        Ok(jiff::Timestamp::from_millisecond(at).map(|t| t.to_string()).unwrap_or_default())
    }

    pub(crate) async fn rollback(&self, id: i64) -> Result<Option<Rollback>> {
        let row: Option<RollbackRow> =
            sqlx::query_as(sql(format!("SELECT {COLUMNS} FROM rollbacks WHERE id = ?")))
                .bind(id)
                .fetch_optional(&self.0.shared.view.pool)
                .await?;
        Ok(row.map(read).transpose()?.map(|r| self.with_progress(r)))
    }

    fn with_progress(&self, mut rollback: Rollback) -> Rollback {
        if let Some(running) = self.0.shared.rolling.lock().get(&rollback.id) {
            rollback.done = running.done.load(Ordering::Relaxed) as i64;
            rollback.bytes_done = running.bytes.load(Ordering::Relaxed) as i64;
            rollback.steps = rollback.steps.max(rollback.done);
        }
        rollback
    }

    /// One rollback, for whoever may see its folder.
    #[boxed]
    pub async fn rollback_of(&self, actor: &Actor, id: i64) -> Result<Rollback> {
        let gone = || StoreError::NotFound("The rollback".into());
        let found = self.rollback(id).await?.ok_or_else(gone)?;
        self.0.files().chain(actor, found.node, Level::View).await.map_err(|_| gone())?;
        Ok(found)
    }

    /// The rollbacks of a shelf, newest first, at most 100.
    #[boxed]
    pub async fn rollbacks(&self, actor: &Actor, shelf: ShelfId) -> Result<Vec<Rollback>> {
        let rows: Vec<RollbackRow> = sqlx::query_as(sql(format!(
            "SELECT {COLUMNS} FROM rollbacks WHERE shelf = ? ORDER BY id DESC LIMIT 100"
        )))
        .bind(shelf.0)
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        let mut seen = Vec::new();
        for row in rows {
            let row = read(row)?;
            if self.0.files().chain(actor, row.node, Level::View).await.is_ok() {
                seen.push(self.with_progress(row));
            }
        }
        Ok(seen)
    }

    /// Those on a shelf that changed something after a number, oldest first.
    #[boxed]
    pub async fn rollbacks_since(
        &self,
        actor: &Actor,
        shelf: ShelfId,
        since: Moment,
    ) -> Result<Vec<Rollback>> {
        // A rollback's own numbers end where the next number after its end begins.
        let rows: Vec<RollbackRow> = sqlx::query_as(sql(format!(
            "SELECT {COLUMNS} FROM rollbacks WHERE shelf = ?1 AND (begun >= ?2 OR ended_at IS NULL
               OR ended_at >= coalesce((SELECT at FROM moments WHERE n <= ?2 ORDER BY n DESC LIMIT 1), 0))
             ORDER BY id LIMIT 100"
        )))
        .bind(shelf.0)
        .bind(since.0)
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        let mut seen = Vec::new();
        for row in rows {
            let row = read(row)?;
            if self.0.files().chain(actor, row.node, Level::View).await.is_ok() {
                seen.push(row);
            }
        }
        Ok(seen)
    }

    /// Those that run, or ran when the engine was stopped.
    #[boxed]
    pub async fn running_rollbacks(&self) -> Result<Vec<i64>> {
        Ok(sqlx::query_scalar("SELECT id FROM rollbacks WHERE state = 'running' ORDER BY id")
            .fetch_all(&self.0.shared.view.pool)
            .await?)
    }

    /// Ends a running rollback where it is. What it has done stays, and can be taken back.
    #[boxed]
    pub async fn stop_rollback(&self, actor: &Actor, id: i64) -> Result<Rollback> {
        let found = self.rollback_of(actor, id).await?;
        self.0.files().chain(actor, found.node, Level::Edit).await?;
        if let Some(running) = self.0.shared.rolling.lock().get(&id) {
            running.stop.store(true, Ordering::Relaxed);
        }
        for _ in 0..500 {
            match self.rollback(id).await? {
                Some(now) if now.state != "running" => return Ok(now),
                _ => tokio::time::sleep(Duration::from_millis(20)).await,
            }
        }
        Ok(found)
    }
}

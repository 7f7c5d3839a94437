//! Snapshots: named numbers of a shelf, taken by hand or by schedule; and names for single versions.

use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, Shelf};
use crate::timeline::History;
use async_recursion::async_recursion as boxed;
use std::sync::Arc;
use yellow_attic_core::rights::Level;
use yellow_attic_core::rules::{Rule, Value};
use yellow_attic_core::schedule::Schedule;
use yellow_attic_core::{AccountId, Moment, NodeId, ShelfId};

/// Labels have at most so many characters.
const LONGEST: usize = 120;

/// A snapshot.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Snapshot {
    /// Its id.
    pub id: i64,
    /// The shelf.
    pub shelf: ShelfId,
    /// The number that it names.
    pub moment: Moment,
    /// When it was taken, in milliseconds.
    pub at: i64,
    /// What somebody called it, or the schedule.
    pub label: String,
    /// Who took it; none: a schedule.
    pub made_by: Option<AccountId>,
    /// When it goes; none: never by itself.
    pub ends_at: Option<i64>,
    /// The schedule that took it.
    pub schedule: Option<String>,
}

type SnapshotRow = (i64, i64, i64, i64, String, Option<i64>, Option<i64>, Option<String>);

fn read(row: SnapshotRow) -> Snapshot {
    let (id, shelf, moment, at, label, made_by, ends_at, schedule) = row;
    Snapshot {
        id,
        shelf: ShelfId(shelf),
        moment: Moment(moment),
        at,
        label,
        made_by: made_by.map(AccountId),
        ends_at,
        schedule,
    }
}

fn label(text: &str) -> Result<String> {
    let text = text.trim();
    if text.is_empty() || text.chars().count() > LONGEST || text.chars().any(char::is_control) {
        return Err(StoreError::BadInput(format!("A label has 1 to {LONGEST} characters on one line.")));
    }
    Ok(text.to_string())
}

/// A version that has a name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NamedVersion {
    /// The node.
    pub node: NodeId,
    /// The number since which it was so.
    pub since: Moment,
    /// The name.
    pub label: String,
}

impl History {
    /// The snapshots of a shelf, newest first. For whoever sees its top.
    #[boxed]
    pub async fn snapshots(&self, actor: &Actor, shelf: &Shelf) -> Result<Vec<Snapshot>> {
        self.0.files().chain(actor, shelf.root, Level::View).await?;
        self.snapshots_of(shelf.id).await
    }

    pub(crate) async fn snapshots_of(&self, shelf: ShelfId) -> Result<Vec<Snapshot>> {
        let rows: Vec<SnapshotRow> = sqlx::query_as(
            "SELECT id, shelf, moment, at, label, made_by, ends_at, schedule FROM snapshots
             WHERE shelf = ? AND (ends_at IS NULL OR ends_at > ?) ORDER BY moment DESC, id DESC",
        )
        .bind(shelf.0)
        .bind(self.0.kept_ms())
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        Ok(rows.into_iter().map(read).collect())
    }

    /// One snapshot.
    #[boxed]
    pub async fn snapshot(&self, actor: &Actor, id: i64) -> Result<Snapshot> {
        let gone = || StoreError::NotFound("The snapshot".into());
        let row: Option<SnapshotRow> = sqlx::query_as(
            "SELECT id, shelf, moment, at, label, made_by, ends_at, schedule FROM snapshots WHERE id = ?",
        )
        .bind(id)
        .fetch_optional(&self.0.shared.view.pool)
        .await?;
        let found =
            row.map(read).filter(|s| s.ends_at.is_none_or(|e| e > self.0.kept_ms())).ok_or_else(gone)?;
        let shelf = self.0.shared.view.shelf(found.shelf).ok_or_else(gone)?;
        self.0.files().chain(actor, shelf.root, Level::View).await.map_err(|_| gone())?;
        Ok(found)
    }

    /// Takes a snapshot of a shelf as it is now. For whoever may edit it.
    #[boxed]
    pub async fn take_snapshot(
        &self,
        actor: &Actor,
        shelf: &Shelf,
        text: &str,
        ends_at: Option<i64>,
    ) -> Result<Snapshot> {
        self.0.files().chain(actor, shelf.root, Level::Edit).await?;
        let text = label(text)?;
        if ends_at.is_some_and(|end| end <= self.0.kept_ms()) {
            return Err(StoreError::BadInput("The snapshot would be gone at once: let it end later.".into()));
        }
        self.name_moment(actor, shelf, text, ends_at, None).await
    }

    async fn name_moment(
        &self,
        actor: &Actor,
        shelf: &Shelf,
        text: String,
        ends_at: Option<i64>,
        schedule: Option<String>,
    ) -> Result<Snapshot> {
        let (id, by, now) = (shelf.id.0, actor.account.map(|a| a.0), self.0.kept_ms());
        let what = format!("{} of {}", text, crate::txn::write_txn::shelf_word(shelf).trim_end_matches(':'));
        let (tell, told) = tokio::sync::oneshot::channel();
        self.0
            .people()
            .change(actor, "snapshot taken", &what, move |conn| {
                Box::pin(async move {
                    // The number that counts in the transaction itself: what was answered before is in it.
                    let moment: i64 =
                        sqlx::query_scalar("SELECT moment FROM heads").fetch_one(&mut *conn).await?;
                    let new: i64 = sqlx::query_scalar(
                        "INSERT INTO snapshots (org, shelf, moment, at, label, made_by, ends_at, schedule)
                     VALUES (1, ?, ?, ?, ?, ?, ?, ?) RETURNING id",
                    )
                    .bind(id)
                    .bind(moment)
                    .bind(now)
                    .bind(&text)
                    .bind(by)
                    .bind(ends_at)
                    .bind(&schedule)
                    .fetch_one(conn)
                    .await?;
                    let _ = tell.send((new, id, moment, now, text, by, ends_at, schedule));
                    Ok(())
                })
            })
            .await?;
        Ok(read(told.await.map_err(|_| StoreError::Stopping)?))
    }

    /// Changes a snapshot's label or end. For whoever manages the shelf.
    #[boxed]
    pub async fn change_snapshot(
        &self,
        actor: &Actor,
        id: i64,
        text: Option<&str>,
        ends_at: Option<Option<i64>>,
    ) -> Result<Snapshot> {
        let found = self.snapshot(actor, id).await?;
        self.manages(actor, found.shelf).await?;
        let text = text.map(label).transpose()?.unwrap_or_else(|| found.label.clone());
        let end = ends_at.unwrap_or(found.ends_at);
        if end.is_some_and(|e| e <= self.0.kept_ms()) {
            return Err(StoreError::BadInput("The snapshot would be gone at once: end it instead.".into()));
        }
        let what = found.label;
        self.0
            .people()
            .change(actor, "snapshot changed", &what, move |conn| {
                Box::pin(async move {
                    sqlx::query("UPDATE snapshots SET label = ?, ends_at = ? WHERE id = ?")
                        .bind(text)
                        .bind(end)
                        .bind(id)
                        .execute(conn)
                        .await?;
                    Ok(())
                })
            })
            .await?;
        self.snapshot(actor, id).await
    }

    /// Ends a snapshot: what only it kept goes with the next look at the rules.
    #[boxed]
    pub async fn end_snapshot(&self, actor: &Actor, id: i64) -> Result<()> {
        let found = self.snapshot(actor, id).await?;
        self.manages(actor, found.shelf).await?;
        self.0
            .people()
            .change(actor, "snapshot ended", &found.label, move |conn| {
                Box::pin(async move {
                    sqlx::query("DELETE FROM snapshots WHERE id = ?").bind(id).execute(conn).await?;
                    Ok(())
                })
            })
            .await
    }

    /// Refuses whoever does not manage the shelf of a snapshot.
    #[boxed]
    pub async fn manages_snapshot(&self, actor: &Actor, id: i64) -> Result<()> {
        let found = self.snapshot(actor, id).await?;
        self.manages(actor, found.shelf).await.map(|_| ())
    }

    async fn manages(&self, actor: &Actor, shelf: ShelfId) -> Result<Arc<Shelf>> {
        let shelf =
            self.0.shared.view.shelf(shelf).ok_or_else(|| StoreError::NotFound("The shelf".into()))?;
        self.0.files().chain(actor, shelf.root, Level::Manage).await?;
        Ok(shelf)
    }

    /// Takes the snapshots that are due by the rules, and forgets those whose time is over. Of a time
    /// that was missed many times over, one is taken.
    #[boxed]
    pub async fn run_schedules(&self, zone: &jiff::tz::TimeZone) -> Result<usize> {
        let now = self.0.kept_ms();
        let rules = self.0.people().rules();
        let mut taken = 0;
        for shelf in self.0.shared.view.shelves() {
            let Value::Schedules(list) = rules.decide_on(Rule::Snapshots, &[], Some(shelf.id)).value else {
                continue;
            };
            for schedule in list {
                let word = schedule.word();
                let last: Option<i64> =
                    sqlx::query_scalar("SELECT max(at) FROM snapshots WHERE shelf = ? AND schedule = ?")
                        .bind(shelf.id.0)
                        .bind(&word)
                        .fetch_one(&self.0.shared.view.pool)
                        .await?;
                let since = match last {
                    Some(last) => last,
                    // A new schedule begins at its next time, not at once: from when it was set.
                    None => self.schedules_set_at(&shelf).await?.unwrap_or(now),
                };
                if schedule.next_after(since, zone).is_some_and(|due| due <= now) {
                    let ends_at = Some(now + schedule.kept.0);
                    self.name_moment(&Actor::service(), &shelf, often(&schedule), ends_at, Some(word))
                        .await?;
                    taken += 1;
                }
            }
        }
        let over: i64 = sqlx::query_scalar("SELECT count(*) FROM snapshots WHERE ends_at <= ?")
            .bind(now)
            .fetch_one(&self.0.shared.view.pool)
            .await?;
        if over > 0 {
            self.0
                .files()
                .catalogue(&Actor::service(), move |conn| {
                    Box::pin(async move {
                        sqlx::query("DELETE FROM snapshots WHERE ends_at <= ?")
                            .bind(now)
                            .execute(conn)
                            .await?;
                        Ok(())
                    })
                })
                .await?;
        }
        Ok(taken)
    }

    async fn schedules_set_at(&self, shelf: &Shelf) -> Result<Option<i64>> {
        let at: Option<i64> = sqlx::query_scalar(
            "SELECT max(set_at) FROM rules WHERE rule = ? AND (kind IN (0, 1) OR (kind = 3 AND of = ?))",
        )
        .bind(Rule::Snapshots.word())
        .bind(shelf.id.0)
        .fetch_one(&self.0.shared.view.pool)
        .await?;
        Ok(at)
    }

    /// Gives a version a name, so that it stays; an empty one takes the name away. For whoever may edit.
    #[boxed]
    pub async fn name_version(&self, actor: &Actor, node: NodeId, at: Moment, text: &str) -> Result<()> {
        let gone = || StoreError::NotFound("The version".into());
        self.0.history().states(actor, node, 1).await?;
        self.check_past(actor, node, at).await?;
        let state = self.state_at(node, at).await?.ok_or_else(gone)?;
        let level = match self.0.files().chain(actor, node, Level::Edit).await {
            Ok(_) => Ok(()),
            // Of something removed: whoever may edit where it was.
            Err(StoreError::NotFound(_)) => match state.parent {
                Some(parent) => self.0.files().chain(actor, parent, Level::Edit).await.map(|_| ()),
                None => Err(gone()),
            },
            Err(e) => Err(e),
        };
        level?;
        let content = state.content.ok_or_else(|| StoreError::NotAFile(state.name().into()))?;
        if content.life == crate::fs::model::ContentState::Gone {
            return Err(StoreError::NotHeld(state.name().into()));
        }
        let text = if text.trim().is_empty() { None } else { Some(label(text)?) };
        let (since, by, now) = (state.since.0, actor.account.map(|a| a.0), self.0.kept_ms());
        let what = format!("{}: {}", state.name(), text.as_deref().unwrap_or("no name any more"));
        let name = state.name().to_string();
        self.0.people().change(actor, "version named", &what, move |conn| {
            Box::pin(async move {
                // A purge may have let it go since it was looked at.
                let gone: i64 = sqlx::query_scalar(
                    "SELECT count(*) FROM entries_past WHERE node = ? AND since = ? AND held = 0",
                )
                .bind(node.0)
                .bind(since)
                .fetch_one(&mut *conn)
                .await?;
                if gone > 0 && text.is_some() {
                    return Err(StoreError::NotHeld(name));
                }
                sqlx::query("DELETE FROM named_versions WHERE node = ? AND since = ?")
                    .bind(node.0)
                    .bind(since)
                    .execute(&mut *conn)
                    .await?;
                if let Some(text) = text {
                    sqlx::query("INSERT INTO named_versions (node, since, org, label, made_by, made_at) VALUES (?, ?, 1, ?, ?, ?)")
                        .bind(node.0)
                        .bind(since)
                        .bind(text)
                        .bind(by)
                        .bind(now)
                        .execute(&mut *conn)
                        .await?;
                }
                Ok(())
            })
        })
        .await
    }

    /// The names of versions of a node.
    #[boxed]
    pub async fn named_versions(&self, node: NodeId) -> Result<Vec<NamedVersion>> {
        let rows: Vec<(i64, String)> =
            sqlx::query_as("SELECT since, label FROM named_versions WHERE node = ? ORDER BY since DESC")
                .bind(node.0)
                .fetch_all(&self.0.shared.view.pool)
                .await?;
        Ok(rows
            .into_iter()
            .map(|(since, label)| NamedVersion { node, since: Moment(since), label })
            .collect())
    }
}

fn often(schedule: &Schedule) -> String {
    let word = schedule.word();
    word.split(' ').next().unwrap_or("scheduled").to_string()
}

//! Mass change: what changed lately is looked at now and then, by device, as the timeline has it.

use crate::engine::Engine;
use crate::error::Result;
use crate::model::{Actor, name_in};
use crate::rows::parse;
use async_recursion::async_recursion as boxed;
use std::collections::{BTreeMap, HashMap};
use yellow_attic_core::mass::{Change, WINDOW_MS, judge};
use yellow_attic_core::rights::Level;
use yellow_attic_core::rules::{Rule, Value};
use yellow_attic_core::{AccountId, DeviceId, Moment, ShelfId};

/// The most changes looked at in one go; more come with the next look.
const MOST: i64 = 200_000;

/// An alarm.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Alarm {
    /// Its id.
    pub id: i64,
    /// The shelf.
    pub shelf: ShelfId,
    /// Who changed so much.
    pub account: Option<AccountId>,
    /// With which device.
    pub device: Option<DeviceId>,
    /// The last number before.
    pub before: Moment,
    /// When the first of these changes was, in milliseconds.
    pub from_at: i64,
    /// And the last.
    pub to_at: i64,
    /// How many files.
    pub files: i64,
    /// Of how many.
    pub of: i64,
    /// The ending that most of them got.
    pub ending: Option<String>,
    /// When it was raised.
    pub raised_at: i64,
    /// Whether the device was shut out.
    pub shut: bool,
    /// When somebody settled it.
    pub settled_at: Option<i64>,
}

type AlarmRow =
    (i64, i64, Option<i64>, Option<i64>, i64, i64, i64, i64, i64, Option<String>, i64, i64, Option<i64>);
const COLUMNS: &str =
    "id, shelf, account, device, before, from_at, to_at, files, of, ending, raised_at, shut, settled_at";

fn read(row: AlarmRow) -> Alarm {
    Alarm {
        id: row.0,
        shelf: ShelfId(row.1),
        account: row.2.map(AccountId),
        device: row.3.map(DeviceId),
        before: Moment(row.4),
        from_at: row.5,
        to_at: row.6,
        files: row.7,
        of: row.8,
        ending: row.9,
        raised_at: row.10,
        shut: row.11 != 0,
        settled_at: row.12,
    }
}

/// node, shelf, key, since, at, account, device, noise, parent, key before, noise before.
type Seen = (
    i64,
    i64,
    String,
    i64,
    i64,
    Option<i64>,
    Option<i64>,
    Option<i64>,
    Option<i64>,
    Option<String>,
    Option<i64>,
);
/// parent, key, ended at, account, device, noise, until.
type Gone = (Option<i64>, String, i64, Option<i64>, Option<i64>, Option<i64>, i64);

/// A place that was left: folder, name, and by whom.
type Place = (i64, String, Option<i64>, Option<i64>);

impl Engine {
    /// Looks at what changed since the last look. Returns the alarms that are new.
    #[boxed]
    pub async fn watch_for_mass_change(&self) -> Result<Vec<Alarm>> {
        let pool = &self.shared.view.pool;
        let seen: i64 = sqlx::query_scalar("SELECT moment FROM watched").fetch_one(pool).await?;
        let head = self.now_moment().await?.0;
        if head == seen {
            return Ok(Vec::new());
        }
        // Changes count together within a window: those just before the last look are looked at again.
        let last_at = self.time_of(Moment(seen)).await?;
        let from = self.moment_at(last_at - WINDOW_MS).await?.0.min(seen);
        let found: String = sqlx::query_scalar(
            "SELECT json_group_array(json_array(e.node, e.shelf, e.sort_key, e.since, e.at, e.account, e.device, c.noise,
                                                e.parent, p.sort_key, pc.noise))
             FROM (SELECT * FROM (
                 SELECT node, shelf, sort_key, since, at, account, device, content, parent FROM entries_now
                   WHERE since > ?1 AND kind = 1
                 UNION ALL SELECT node, shelf, sort_key, since, at, account, device, content, parent FROM entries_past
                   WHERE since > ?1 AND kind = 1 AND until > ?1)
               ORDER BY since LIMIT ?2) e
             LEFT JOIN contents c ON c.id = e.content
             LEFT JOIN entries_past p ON p.node = e.node AND p.until = e.since
             LEFT JOIN contents pc ON pc.id = p.content",
        )
        .bind(from)
        .bind(MOST)
        .fetch_one(pool)
        .await?;
        let gone: String = sqlx::query_scalar(
            "SELECT json_group_array(json_array(e.parent, e.sort_key, e.ended_at, e.ended_account, e.ended_device, c.noise, e.until))
             FROM entries_past e LEFT JOIN contents c ON c.id = e.content
             WHERE e.ended_how = 7 AND e.kind = 1 AND e.until > ?1",
        )
        .bind(from)
        .fetch_one(pool)
        .await?;
        let mut removed: HashMap<Place, Option<i64>> = HashMap::new();
        for (parent, key, _, account, device, noise, _) in parse::<Vec<Gone>>(&gone)? {
            if let Some(parent) = parent {
                removed.insert((parent, name_in(&key).to_string(), account, device), noise);
            }
        }
        let mut by: BTreeMap<(i64, Option<i64>, Option<i64>), Vec<Change>> = BTreeMap::new();
        let mut upto = head;
        let rows = parse::<Vec<Seen>>(&found)?;
        if rows.len() as i64 == MOST {
            upto = rows.last().map_or(head, |r| r.3).max(seen + 1);
        }
        for (node, shelf, key, since, at, account, device, noise, parent, before, noise_before) in rows {
            if account.is_none() {
                continue;
            }
            let after = name_in(&key).to_string();
            let mut before = before.map(|k| name_in(&k).to_string());
            let mut was = noise_before;
            if before.is_none() {
                // A new file in the place of one that was removed, with something added to its name.
                let stem = after.rsplit_once('.').map(|(stem, _)| stem.to_string());
                if let (Some(parent), Some(stem)) = (parent, stem)
                    && let Some(its) = removed.get(&(parent, stem.clone(), account, device))
                {
                    (before, was) = (Some(stem), *its);
                }
            }
            let number = |n: Option<i64>| n.map(|n| n.clamp(0, 800) as u16);
            let noise = number(was).zip(number(noise)).filter(|_| before.is_some());
            by.entry((shelf, account, device)).or_default().push(Change {
                moment: since,
                at,
                node,
                before,
                after: Some(after),
                noise,
            });
        }
        let rules = self.rules();
        let mut raised = Vec::new();
        for ((shelf, account, device), mut changes) in by {
            let shelf = ShelfId(shelf);
            let rule = rules.decide_on(Rule::MassChange, &[], Some(shelf)).value;
            let Some(its) = self.shared.view.shelf(shelf).filter(|_| rule != Value::Choice("off")) else {
                continue;
            };
            changes.sort_by_key(|c| c.moment);
            let files = self.shared.view.folder(its.root).await?.map_or(0, |f| f.files.max(0) as usize);
            if let Some(alarm) = judge(&changes, files) {
                let close = rule == Value::Choice("close") && device.is_some();
                if let Some(new) = self.raise(shelf, account, device, &alarm, close).await? {
                    raised.push(new);
                }
            }
        }
        self.catalogue(&Actor::service(), move |conn| {
            Box::pin(async move {
                sqlx::query("UPDATE watched SET moment = max(moment, ?)").bind(upto).execute(conn).await?;
                Ok(())
            })
        })
        .await?;
        Ok(raised)
    }

    /// Raises an alarm, or lets the one that is up already grow.
    async fn raise(
        &self,
        shelf: ShelfId,
        account: Option<i64>,
        device: Option<i64>,
        found: &yellow_attic_core::mass::Alarm,
        close: bool,
    ) -> Result<Option<Alarm>> {
        let found = found.clone();
        let now = self.kept_ms();
        let what = format!("shelf {shelf}: {} of {} files", found.files, found.of);
        let (tell, told) = tokio::sync::oneshot::channel();
        self.change_rights(&Actor::service(), "alarm raised", &what, move |conn| {
            Box::pin(async move {
                let up: Option<(i64, i64)> = sqlx::query_as(
                    "SELECT id, settled_at IS NOT NULL FROM alarms
                     WHERE shelf = ? AND account IS ? AND device IS ? AND to_at >= ? AND from_at <= ? ORDER BY id DESC LIMIT 1",
                )
                .bind(shelf.0)
                .bind(account)
                .bind(device)
                .bind(found.from_ms - WINDOW_MS)
                .bind(found.to_ms)
                .fetch_optional(&mut *conn)
                .await?;
                if let Some((id, _)) = up {
                    sqlx::query("UPDATE alarms SET to_at = max(to_at, ?), files = max(files, ?), of = max(of, ?) WHERE id = ?")
                        .bind(found.to_ms)
                        .bind(found.files as i64)
                        .bind(found.of as i64)
                        .bind(id)
                        .execute(&mut *conn)
                        .await?;
                    return Ok(());
                }
                let id: i64 = sqlx::query_scalar(
                    "INSERT INTO alarms (org, shelf, account, device, before, from_at, to_at, files, of, ending, raised_at, shut)
                     VALUES (1, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id",
                )
                .bind(shelf.0)
                .bind(account)
                .bind(device)
                .bind(found.before)
                .bind(found.from_ms)
                .bind(found.to_ms)
                .bind(found.files as i64)
                .bind(found.of as i64)
                .bind(&found.ending)
                .bind(now)
                .bind(i64::from(close))
                .fetch_one(&mut *conn)
                .await?;
                if close {
                    sqlx::query("UPDATE devices SET ended_at = ? WHERE id = ? AND ended_at IS NULL")
                        .bind(now)
                        .bind(device)
                        .execute(&mut *conn)
                        .await?;
                }
                let _ = tell.send(id);
                Ok(())
            })
        })
        .await?;
        match told.await {
            Ok(id) => Ok(self.alarms(true).await?.into_iter().find(|a| a.id == id)),
            Err(_) => Ok(None),
        }
    }

    /// All alarms, newest first, at most 200; or only those that nobody settled.
    #[boxed]
    pub async fn alarms(&self, open: bool) -> Result<Vec<Alarm>> {
        let rows: Vec<AlarmRow> = sqlx::query_as(sqlx::AssertSqlSafe(format!(
            "SELECT {COLUMNS} FROM alarms WHERE settled_at IS NULL OR ? = 0 ORDER BY id DESC LIMIT 200"
        )))
        .bind(i64::from(open))
        .fetch_all(&self.shared.view.pool)
        .await?;
        Ok(rows.into_iter().map(read).collect())
    }

    /// The alarms of shelves that somebody manages; `everywhere`: of all.
    #[boxed]
    pub async fn alarms_for(&self, actor: &Actor, open: bool, everywhere: bool) -> Result<Vec<Alarm>> {
        let mut seen = Vec::new();
        for alarm in self.alarms(open).await? {
            let Some(shelf) = self.shared.view.shelf(alarm.shelf) else { continue };
            if everywhere || self.chain(actor, shelf.root, Level::Manage).await.is_ok() {
                seen.push(alarm);
            }
        }
        Ok(seen)
    }

    /// Somebody has dealt with an alarm.
    #[boxed]
    pub async fn settle_alarm(&self, actor: &Actor, id: i64) -> Result<()> {
        let (now, by) = (self.kept_ms(), actor.account.map(|a| a.0));
        self.change(actor, "alarm settled", &format!("#{id}"), move |conn| {
            Box::pin(async move {
                sqlx::query(
                    "UPDATE alarms SET settled_at = ?, settled_by = ? WHERE id = ? AND settled_at IS NULL",
                )
                .bind(now)
                .bind(by)
                .bind(id)
                .execute(conn)
                .await?;
                Ok(())
            })
        })
        .await
    }
}

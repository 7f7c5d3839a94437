//! Mass change: what changed lately is looked at now and then, by device, as the timeline has it.

use crate::catalogue::rows::{doors_word, parse};
use crate::engine::held::Whose;
use crate::fs::error::Result;
use crate::fs::model::{Actor, name_in};
use crate::timeline::History;
use async_recursion::async_recursion as boxed;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use yellow_attic_core::mass::{Change, Looks, SLOW_MS, Suspect, WINDOW_MS, judge, suspects};
use yellow_attic_core::rights::Level;
use yellow_attic_core::rules::{Door, Rule, Value};
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
    /// Whether whoever did it was shut out.
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

/// A state: name, folder, bytes, noise, since when.
type State = (String, Option<i64>, Option<i64>, Option<i64>, i64);
/// node, shelf, number, when, account, device, how it was, how it is.
type Seen = (i64, i64, i64, i64, Option<i64>, Option<i64>, Option<State>, Option<State>);

/// More are not remembered of one: it is an alarm long since.
const MOST_SUSPECTED: usize = 20_000;

fn looks(state: Option<State>) -> Option<Looks> {
    let (key, folder, size, noise, at) = state?;
    Some(Looks {
        name: name_in(&key).to_string(),
        folder: folder.unwrap_or_default(),
        size: size.unwrap_or_default(),
        noise: noise.unwrap_or_default().clamp(0, 800) as u16,
        at,
    })
}

impl History {
    /// Looks at what changed since the last look. Returns the alarms that are new.
    #[boxed]
    pub async fn watch_for_mass_change(&self) -> Result<Vec<Alarm>> {
        let pool = &self.0.shared.view.pool;
        let seen: i64 = sqlx::query_scalar("SELECT moment FROM watched").fetch_one(pool).await?;
        let head = self.now_moment().await?.0;
        if head == seen {
            return Ok(Vec::new());
        }
        // Changes count together within a window: those just before the last look are looked at again.
        let last_at = self.time_of(Moment(seen)).await?;
        let from = self.moment_at(last_at - WINDOW_MS).await?.0.min(seen);
        // By shelf: only what came since is read, however much there is.
        // Of a node: each change with the state before it; what ended by being removed has none after.
        let found: String = sqlx::query_scalar(
            "SELECT json_group_array(json_array(e.node, e.shelf, e.since, e.at, e.account, e.device,
                 iif(p.id IS NULL, NULL, json_array(p.sort_key, p.parent, pc.size, pc.noise, p.at)),
                 json_array(e.sort_key, e.parent, c.size, c.noise, e.at)))
             FROM (SELECT * FROM (
                 SELECT n.node, n.shelf, n.sort_key, n.since, n.at, n.account, n.device, n.content, n.parent
                   FROM shelves s CROSS JOIN entries_now n INDEXED BY entries_now_since
                   WHERE n.shelf = s.id AND n.since > ?1 AND n.kind = 1
                 UNION ALL SELECT o.node, o.shelf, o.sort_key, o.since, o.at, o.account, o.device, o.content, o.parent
                   FROM shelves s CROSS JOIN entries_past o INDEXED BY entries_past_shelf
                   WHERE o.shelf = s.id AND o.until > ?1 AND o.since > ?1 AND o.kind = 1)
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
            "SELECT json_group_array(json_array(e.node, e.shelf, e.until, e.ended_at, e.ended_account, e.ended_device,
                 json_array(e.sort_key, e.parent, c.size, c.noise, e.at), NULL))
             FROM (SELECT o.* FROM shelves s CROSS JOIN entries_past o INDEXED BY entries_past_shelf
               WHERE o.shelf = s.id AND o.until > ?1 AND o.ended_how = 7 AND o.kind = 1 ORDER BY o.until LIMIT ?2) e
             LEFT JOIN contents c ON c.id = e.content",
        )
        .bind(from)
        .bind(MOST)
        .fetch_one(pool)
        .await?;
        let mut upto = head;
        let mut rows = parse::<Vec<Seen>>(&found)?;
        let gone = parse::<Vec<Seen>>(&gone)?;
        for part in [&rows, &gone] {
            if part.len() as i64 == MOST {
                upto = part.last().map_or(head, |r| r.2).max(seen + 1).min(upto);
            }
        }
        rows.extend(gone);
        rows.sort_by_key(|r| r.2);
        let mut by: BTreeMap<Whose, Vec<Change>> = BTreeMap::new();
        for (node, shelf, moment, at, account, device, before, after) in rows {
            if account.is_some() {
                let change = Change { moment, at, node, before: looks(before), after: looks(after) };
                by.entry((shelf, account, device)).or_default().push(change);
            }
        }
        let rules = self.0.people().rules();
        let settled = self.settled_lately().await?;
        let mut raised = Vec::new();
        for ((shelf, account, device), changes) in by {
            let whose = (shelf, account, device);
            let shelf = ShelfId(shelf);
            let rule = rules.decide_on(Rule::MassChange, &[], Some(shelf)).value;
            let Some(its) = self.0.shared.view.shelf(shelf).filter(|_| rule != Value::Choice("off")) else {
                continue;
            };
            // What somebody has settled does not count again.
            let settled = settled.get(&whose).copied().unwrap_or(i64::MIN);
            let found = self.suspected(whose, &changes, settled);
            let files = self.0.shared.view.folder(its.root).await?.map_or(0, |f| f.files.max(0) as usize);
            if let Some(alarm) = judge(&found, files) {
                let close = rule == Value::Choice("close");
                if let Some(new) = self.raise(shelf, account, device, &alarm, close).await? {
                    raised.push(new);
                }
            }
        }
        self.0
            .files()
            .catalogue(&Actor::service(), move |conn| {
                Box::pin(async move {
                    sqlx::query("UPDATE watched SET moment = max(moment, ?)")
                        .bind(upto)
                        .execute(conn)
                        .await?;
                    Ok(())
                })
            })
            .await?;
        Ok(raised)
    }

    /// What is suspicious of one's changes within a day: those looked at now, and what is remembered of before.
    fn suspected(&self, whose: Whose, changes: &[Change], settled: i64) -> Vec<Suspect> {
        let mut all = self.0.shared.suspected.lock();
        let its = all.entry(whose).or_default();
        // What has become of them by now is what counts.
        changes.iter().for_each(|change| drop(its.remove(&change.node)));
        for suspect in suspects(changes) {
            if its.len() < MOST_SUSPECTED {
                its.insert(suspect.node, suspect);
            }
        }
        let newest = changes.last().map_or(i64::MIN, |c| c.at);
        its.retain(|_, s| s.at > settled && s.at > newest.saturating_sub(SLOW_MS));
        let mut found: Vec<Suspect> = its.values().cloned().collect();
        found.sort_by_key(|s| (s.at, s.moment));
        all.retain(|_, its| !its.is_empty());
        found
    }

    /// When alarms were settled last, by whose changes raised them.
    async fn settled_lately(&self) -> Result<HashMap<Whose, i64>> {
        let rows: Vec<(i64, Option<i64>, Option<i64>, i64)> = sqlx::query_as(
            "SELECT shelf, account, device, max(settled_at) FROM alarms WHERE settled_at IS NOT NULL GROUP BY shelf, account, device",
        )
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        Ok(rows.into_iter().map(|(shelf, account, device, at)| ((shelf, account, device), at)).collect())
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
        let now = self.0.kept_ms();
        let what = format!("shelf {shelf}: {} of {} files", found.files, found.of);
        let (tell, told) = tokio::sync::oneshot::channel();
        self.0.people().change_rights(&Actor::service(), "alarm raised", &what, move |conn| {
            Box::pin(async move {
                let up: Option<(i64, i64)> = sqlx::query_as(
                    "SELECT id, files FROM alarms
                     WHERE shelf = ? AND account IS ? AND device IS ? AND to_at >= ? AND from_at <= ? AND settled_at IS NULL
                     ORDER BY id DESC LIMIT 1",
                )
                .bind(shelf.0)
                .bind(account)
                .bind(device)
                .bind(found.from_ms - SLOW_MS)
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
                    shut_out(conn, id, account, device, now).await?;
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
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        Ok(rows.into_iter().map(read).collect())
    }

    /// The alarms of shelves that somebody manages; `everywhere`: of all.
    #[boxed]
    pub async fn alarms_for(&self, actor: &Actor, open: bool, everywhere: bool) -> Result<Vec<Alarm>> {
        let mut seen = Vec::new();
        for alarm in self.alarms(open).await? {
            let Some(shelf) = self.0.shared.view.shelf(alarm.shelf) else { continue };
            if everywhere || self.0.files().chain(actor, shelf.root, Level::Manage).await.is_ok() {
                seen.push(alarm);
            }
        }
        Ok(seen)
    }

    /// Why a token counts no more, if an alarm ended it.
    #[boxed]
    pub async fn shut_out_by(&self, token: [u8; 32]) -> Result<Option<Alarm>> {
        let row: Option<AlarmRow> = sqlx::query_as(sqlx::AssertSqlSafe(format!(
            "SELECT {COLUMNS} FROM alarms WHERE id = (SELECT shut_by FROM devices WHERE token = ? AND ended_at IS NOT NULL)"
        )))
        .bind(&token[..])
        .fetch_optional(&self.0.shared.view.pool)
        .await?;
        Ok(row.map(read))
    }

    /// The alarm that closed a door to an account, if one did.
    #[boxed]
    pub async fn closed_by(&self, account: AccountId, door: Door) -> Result<Option<Alarm>> {
        let row: Option<AlarmRow> = sqlx::query_as(sqlx::AssertSqlSafe(format!(
            "SELECT {COLUMNS} FROM alarms WHERE account = ? AND closed = ? AND settled_at IS NULL ORDER BY id DESC LIMIT 1"
        )))
        .bind(account.0)
        .bind(door.word())
        .fetch_optional(&self.0.shared.view.pool)
        .await?;
        Ok(row.map(read))
    }

    /// Somebody has dealt with an alarm. A door that it closed is open again; a computer that it shut out is connected anew
    /// by its owner.
    #[boxed]
    pub async fn settle_alarm(&self, actor: &Actor, id: i64) -> Result<()> {
        let (now, by) = (self.0.kept_ms(), actor.account.map(|a| a.0));
        self.0
            .people()
            .change(actor, "alarm settled", &format!("#{id}"), move |conn| {
                Box::pin(async move {
                    sqlx::query(
                    "UPDATE alarms SET settled_at = ?, settled_by = ? WHERE id = ? AND settled_at IS NULL",
                )
                .bind(now)
                .bind(by)
                .bind(id)
                .execute(&mut *conn)
                .await?;
                    let closed: Option<(Option<i64>, String)> =
                        sqlx::query_as("SELECT account, closed FROM alarms WHERE id = ? AND closed <> ''")
                            .bind(id)
                            .fetch_optional(&mut *conn)
                            .await?;
                    if let Some((Some(account), door)) = closed
                        && let Some(door) = Door::from_word(&door)
                    {
                        set_door(conn, account, door, false).await?;
                    }
                    Ok(())
                })
            })
            .await
    }
}

/// Ends the computer; where there is none, closes the door through which programs come with a password, and ends what is
/// signed in.
async fn shut_out(
    conn: &mut sqlx::SqliteConnection,
    alarm: i64,
    account: Option<i64>,
    device: Option<i64>,
    now: i64,
) -> Result<()> {
    if device.is_some() {
        sqlx::query("UPDATE devices SET ended_at = ?, shut_by = ? WHERE id = ? AND ended_at IS NULL")
            .bind(now)
            .bind(alarm)
            .bind(device)
            .execute(conn)
            .await?;
        return Ok(());
    }
    let Some(account) = account else { return Ok(()) };
    sqlx::query("DELETE FROM sessions WHERE account = ?").bind(account).execute(&mut *conn).await?;
    if set_door(conn, account, Door::Dav, true).await? {
        sqlx::query("UPDATE alarms SET closed = ? WHERE id = ?")
            .bind(Door::Dav.word())
            .bind(alarm)
            .execute(conn)
            .await?;
    }
    Ok(())
}

/// Closes or opens a door to one account. Whether that changed anything.
async fn set_door(conn: &mut sqlx::SqliteConnection, account: i64, door: Door, close: bool) -> Result<bool> {
    let closed: String = sqlx::query_scalar("SELECT closed FROM accounts WHERE id = ?")
        .bind(account)
        .fetch_one(&mut *conn)
        .await?;
    let mut doors: BTreeSet<Door> = closed.split(',').filter_map(Door::from_word).collect();
    let changed = if close { doors.insert(door) } else { doors.remove(&door) };
    if changed {
        sqlx::query("UPDATE accounts SET closed = ? WHERE id = ?")
            .bind(doors_word(&doors))
            .bind(account)
            .execute(conn)
            .await?;
    }
    Ok(changed)
}

//! Rolling a folder back: the difference between two numbers, applied as ordinary changes, so that it
//! can be undone like any other. Goes on after a restart, because the plan is made anew from what is.

use crate::catalogue::rows::{self, ROW_COLUMNS, ROW_FROM, sql};
use crate::engine::Engine;
use crate::engine::held::RunningRollback;
use crate::fs::disk::hex;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ChangeKind, ContentState, Row};
use crate::ops::Place;
use crate::rights::access::Viewer;
use async_recursion::async_recursion as boxed;
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::rights::Level;
use yellow_attic_core::rollback::{Author, Changed, Conflict, Plan, Stand, Step, plan, work_of_others};
use yellow_attic_core::{AccountId, DeviceId, Moment, Name, NodeId, ShelfId};

/// Files brought back side by side.
const ABREAST: usize = 24;
/// Things that are told by name.
const TOLD: usize = 500;

/// A line of a preview.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Line {
    /// The node.
    pub node: NodeId,
    /// Where it is, or was: the way from the folder that is rolled back.
    pub path: String,
    /// What is done, or why nothing is.
    pub what: What,
    /// Bytes that it has then.
    pub size: i64,
    /// Whether it is a folder.
    pub folder: bool,
    /// Its present state is the work of somebody else than what most of this undoes.
    pub others: bool,
    /// The present state: who made it, with what, and when in milliseconds.
    pub by: Option<(Option<AccountId>, Option<DeviceId>, i64)>,
}

/// What becomes of something in a rollback.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum What {
    /// It is changed so.
    Step(Step),
    /// It stays, for that reason.
    Stays(Conflict),
}

/// What a rollback would do.
#[derive(Clone, Debug)]
pub struct Preview {
    /// The plan.
    pub plan: Plan,
    /// The first of its conflicts and steps, the work of others before the rest.
    pub lines: Vec<Line>,
    /// How many of its steps undo the work of others.
    pub others: usize,
    /// How many things stay because that was asked for.
    pub kept: usize,
    /// The number to which.
    pub goal: Moment,
    /// Stands for exactly this plan.
    pub token: String,
}

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

fn read(row: RollbackRow) -> Rollback {
    Rollback {
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
        left_alone: serde_json::from_str(&row.15).unwrap_or_default(),
    }
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

/// Whether something is, or was, in the folder that is rolled back: of nothing else is anything told.
fn within(c: &Changed) -> bool {
    [&c.then, &c.now].into_iter().flatten().any(|stand| stand.within)
}

/// What is known of the nodes that changed.
struct Inputs {
    then: HashMap<NodeId, Row>,
    now: HashMap<NodeId, Row>,
    changed: Vec<Changed>,
}

impl Engine {
    /// What rolling a folder back would do. `keep`: what is to stay as it is.
    #[boxed]
    pub async fn plan_rollback(
        &self,
        actor: &Actor,
        top: NodeId,
        goal: Moment,
        keep: &[NodeId],
    ) -> Result<Preview> {
        self.check_rollback(actor, top, goal).await?;
        let ground = self.rollback_ground(actor, top, goal, None, 0).await?;
        let keep: HashSet<i64> = keep.iter().map(|n| n.0).collect();
        let plan = plan(top.0, &ground.changed, &keep);
        let kept = ground.changed.iter().filter(|c| keep.contains(&c.node) && within(c)).count();
        let authors: Vec<(i64, Author)> = plan
            .steps
            .iter()
            .filter_map(|(node, _)| ground.now.get(&NodeId(*node)))
            .filter(|row| row.since > goal && !row.is_folder())
            .map(|row| (row.node.0, Author { account: row.account, device: row.device }))
            .collect();
        let others = work_of_others(&authors, actor.account);
        let mut hasher = blake3::Hasher::new();
        for (node, step) in &plan.steps {
            hasher.update(&node.to_le_bytes()).update(&[*step as u8]);
            if let Some(now) = ground.now.get(&NodeId(*node)) {
                hasher.update(&now.since.0.to_le_bytes());
            }
        }
        let token = hex(&hasher.finalize().as_bytes()[..12]);
        let mut lines = Vec::new();
        let viewer = self.viewer(actor);
        let all = plan.conflicts.iter().map(|(n, c)| (*n, What::Stays(*c)));
        let steps = plan.steps.iter().map(|(n, s)| (*n, What::Step(*s)));
        let (first, rest): (Vec<_>, Vec<_>) = steps.partition(|(n, _)| others.contains(n));
        for (node, what) in all.chain(first).chain(rest).take(TOLD) {
            let by_others = others.contains(&node);
            let node = NodeId(node);
            let then = match what {
                What::Step(Step::Goes) => None,
                _ => ground.then.get(&node),
            };
            let Some(row) = then.or(ground.now.get(&node)) else { continue };
            let path = self.path_within(&viewer, top, row, then.map(|_| goal), &ground).await?;
            let by = ground.now.get(&node).map(|r| (r.account, r.device, r.at));
            let (size, folder) = (row.size(), row.is_folder());
            lines.push(Line { node, path, what, size, folder, others: by_others, by });
        }
        Ok(Preview { plan, lines, goal, token, others: others.len(), kept })
    }

    async fn check_rollback(&self, actor: &Actor, top: NodeId, goal: Moment) -> Result<Vec<Arc<Row>>> {
        let chain = self.chain(actor, top, Level::Edit).await?;
        let row = &chain[0];
        if !row.is_folder() {
            return Err(StoreError::NotAFolder(row.name().into()));
        }
        if goal > self.now_moment().await? {
            return Err(StoreError::NoSuchMoment);
        }
        if self.chain_at(top, goal).await?.is_none() {
            let first: i64 = sqlx::query_scalar(
                "SELECT coalesce((SELECT min(at) FROM entries_past WHERE node = ?1), (SELECT at FROM entries_now WHERE node = ?1), 0)",
            )
            .bind(top.0)
            .fetch_one(&self.shared.view.pool)
            .await?;
            let made = jiff::Timestamp::from_millisecond(first).map(|t| t.to_string()).unwrap_or_default();
            return Err(StoreError::NotThereYet { name: row.name().into(), made });
        }
        self.check_past(actor, top, goal).await?;
        Ok(chain)
    }

    /// The way from the folder that is rolled back to something in it: all of it as it was at a number, or all of it as it
    /// is. Of a way that leads through something hidden, what comes after it.
    async fn path_within(
        &self,
        viewer: &Viewer,
        top: NodeId,
        row: &Row,
        at: Option<Moment>,
        ground: &Inputs,
    ) -> Result<String> {
        let mut names = vec![row.name().to_string()];
        let mut way = vec![row.node];
        let mut next = row.parent;
        while let (Some(id), true) = (next, names.len() < 300) {
            if id == top {
                break;
            }
            let known = if at.is_some() { ground.then.get(&id) } else { ground.now.get(&id) };
            let above = match (known, at) {
                (Some(row), _) => Some(row.clone()),
                (None, Some(at)) => self.state_at(id, at).await?,
                (None, None) => self.shared.view.row(id).await?.map(|r| (*r).clone()),
            };
            let Some(above) = above else { break };
            names.push(above.name().to_string());
            way.push(id);
            next = above.parent;
        }
        if !viewer.access.bars().is_empty() {
            let above: Vec<NodeId> = match at {
                Some(at) => {
                    self.chain_at(top, at).await?.unwrap_or_default().iter().map(|r| r.node).collect()
                }
                None => {
                    self.shared.view.chain(top).await?.unwrap_or_default().iter().map(|r| r.node).collect()
                }
            };
            let depth = way.len();
            way.extend(above);
            let hidden =
                (1..depth).find(|i| viewer.standing(row.shelf, way[*i..].iter().copied()).level().is_none());
            names.truncate(hidden.unwrap_or(depth));
        }
        names.reverse();
        Ok(names.join("/"))
    }

    /// Every node that changed since, then and now, as far as the actor sees it: what is hidden stays as it is, and is
    /// not told of. `begun`: what others changed after it counts as newer.
    async fn rollback_ground(
        &self,
        actor: &Actor,
        top: NodeId,
        goal: Moment,
        begun: Option<Moment>,
        id: i64,
    ) -> Result<Inputs> {
        let pool = &self.shared.view.pool;
        let shelf = match self.shared.view.chain(top).await? {
            Some(chain) => chain.last().map(|r| r.shelf).unwrap_or_default(),
            None => return Err(StoreError::NotFound("The folder".into())),
        };
        let nodes: String = sqlx::query_scalar(
            "SELECT json_group_array(node) FROM (SELECT node FROM entries_past WHERE shelf = ?1 AND until > ?2
               UNION SELECT node FROM entries_now WHERE shelf = ?1 AND since > ?2)",
        )
        .bind(shelf.0)
        .bind(goal.0)
        .fetch_one(pool)
        .await?;
        let text: String = sqlx::query_scalar(sql(format!(
            "SELECT json_group_array(json_array({ROW_COLUMNS})) FROM json_each(?1) j CROSS JOIN entries_past e
             LEFT JOIN contents c ON c.id = e.content WHERE e.node = j.value AND e.until > ?2 AND e.since <= ?2"
        )))
        .bind(&nodes)
        .bind(goal.0)
        .fetch_one(pool)
        .await?;
        let mut then: HashMap<NodeId, Row> =
            rows::parse_rows(&text)?.into_iter().map(|r| (r.node, r)).collect();
        let text: String = sqlx::query_scalar(sql(format!(
            "SELECT json_group_array(json_array({ROW_COLUMNS})) FROM json_each(?1) j CROSS JOIN {ROW_FROM} WHERE e.node = j.value"
        )))
        .bind(&nodes)
        .fetch_one(pool)
        .await?;
        let now: HashMap<NodeId, Row> = rows::parse_rows(&text)?.into_iter().map(|r| (r.node, r)).collect();
        for (node, row) in &now {
            if row.since <= goal {
                then.insert(*node, row.clone());
            }
        }
        let mut now = now;
        let viewer = self.viewer(actor);
        if !viewer.access.bars().is_empty() {
            for node in self.unseen(&viewer, &then, &now, goal).await? {
                then.remove(&node);
                now.remove(&node);
            }
        }
        let mut ground = Inputs { then, now, changed: Vec::new() };
        let aside = aside_prefix(id);
        let mut ways_then: HashMap<NodeId, (bool, bool)> = HashMap::new();
        let mut ways_now: HashMap<NodeId, (bool, bool)> = HashMap::new();
        let mut all: Vec<NodeId> = ground.then.keys().chain(ground.now.keys()).copied().collect();
        all.sort_unstable();
        all.dedup();
        let mut changed = Vec::with_capacity(all.len());
        for node in all {
            let mut stands = [None, None];
            for (i, rows) in [&ground.then, &ground.now].into_iter().enumerate() {
                let Some(row) = rows.get(&node) else { continue };
                let Some(parent) = row.parent else { continue };
                let ways = if i == 0 { &mut ways_then } else { &mut ways_now };
                let (alive, within) = self.way_of_then(top, parent, goal, i == 0, &ground, ways).await?;
                let sums = match row.is_folder() && !ground.now.contains_key(&node) {
                    true => self.shared.view.folder(node).await?,
                    false => None,
                };
                stands[i] = Some(Stand {
                    parent: parent.0,
                    key: row.key.to_string(),
                    bytes: row.content.map(|c| c.hash),
                    size: sums.map_or(row.size(), |s| s.bytes),
                    files: sums.map_or(i64::from(!row.is_folder()), |s| s.files),
                    within,
                    alive,
                    held: row
                        .content
                        .is_none_or(|c| matches!(c.life, ContentState::Live | ContentState::Past)),
                });
            }
            let newer = begun.is_some_and(|begun| {
                ground.now.get(&node).is_some_and(|r| {
                    r.since > begun && r.how != ChangeKind::Restored && !r.name().starts_with(&aside)
                })
            });
            let [then, now] = stands;
            let way_back = match &then {
                Some(then) if !then.within && then.alive => {
                    self.shared.view.chain(NodeId(then.parent)).await?.is_some()
                }
                _ => true,
            };
            changed.push(Changed { node: node.0, then, now, newer, way_back });
        }
        ground.changed = changed;
        Ok(ground)
    }

    /// What of all that changed somebody may not see: where it was at a number, or where it is or was last.
    async fn unseen(
        &self,
        viewer: &Viewer,
        then: &HashMap<NodeId, Row>,
        now: &HashMap<NodeId, Row>,
        goal: Moment,
    ) -> Result<Vec<NodeId>> {
        let mut hidden = Vec::new();
        for node in then.keys().chain(now.keys().filter(|n| !then.contains_key(n))) {
            let last = match self.last_way(*node).await? {
                Some((way, shelf)) => viewer.standing(shelf, way.into_iter()).level().is_some(),
                None => false,
            };
            let before = match then.get(node) {
                Some(row) => self.saw(viewer, *node, row.parent, row.shelf, goal).await?,
                None => true,
            };
            if !last || !before {
                hidden.push(*node);
            }
        }
        Ok(hidden)
    }

    /// Whether the way up from a folder is whole, and whether it leads through `top`: at the goal, or
    /// now as it will be once the removed folders are back.
    async fn way_of_then(
        &self,
        top: NodeId,
        from: NodeId,
        goal: Moment,
        at_goal: bool,
        ground: &Inputs,
        known: &mut HashMap<NodeId, (bool, bool)>,
    ) -> Result<(bool, bool)> {
        let mut way = Vec::new();
        let mut next = Some(from);
        let mut found = (true, false);
        while let (Some(id), true) = (next, way.len() < 1000) {
            if let Some(answer) = known.get(&id) {
                found = *answer;
                break;
            }
            if id == top {
                found = (true, true);
                break;
            }
            way.push(id);
            let row = if at_goal {
                match ground.then.get(&id) {
                    Some(row) => Some(row.clone()),
                    None if ground.now.contains_key(&id) => None,
                    None => self.state_at(id, goal).await?,
                }
            } else {
                match ground.now.get(&id) {
                    Some(row) => Some(row.clone()),
                    // Removed, and coming back.
                    None => match ground.then.get(&id) {
                        Some(row) => Some(row.clone()),
                        None => self.shared.view.row(id).await?.map(|r| (*r).clone()),
                    },
                }
            };
            match row {
                Some(row) => next = row.parent,
                None => {
                    found = (false, false);
                    break;
                }
            }
        }
        for id in way {
            known.insert(id, found);
        }
        Ok(found)
    }

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
        drop(self.claim(top, more, less).await?);
        self.check_room(more)?;
        let shelf = chain.last().map(|r| r.shelf).unwrap_or_default();
        let name = chain[0].name().to_string();
        let (steps, bytes) = (plan.steps.len() as i64, plan.return_bytes + plan.change_bytes);
        let (account, device) = (actor.account.map(|a| a.0), actor.device.map(|d| d.0));
        let (who, from, now) = (actor.who.to_string(), actor.from.to_string(), self.now_ms());
        let what = format!("{name}: {} to {}", steps, self.time_word(goal).await?);
        let (tell, told) = tokio::sync::oneshot::channel();
        self.change(actor, "rollback begun", &what, move |conn| {
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

    async fn rollback(&self, id: i64) -> Result<Option<Rollback>> {
        let row: Option<RollbackRow> =
            sqlx::query_as(sql(format!("SELECT {COLUMNS} FROM rollbacks WHERE id = ?")))
                .bind(id)
                .fetch_optional(&self.shared.view.pool)
                .await?;
        Ok(row.map(read).map(|r| self.with_progress(r)))
    }

    fn with_progress(&self, mut rollback: Rollback) -> Rollback {
        if let Some(running) = self.shared.rolling.lock().get(&rollback.id) {
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
        self.chain(actor, found.node, Level::View).await.map_err(|_| gone())?;
        Ok(found)
    }

    /// The rollbacks of a shelf, newest first, at most 100.
    #[boxed]
    pub async fn rollbacks(&self, actor: &Actor, shelf: ShelfId) -> Result<Vec<Rollback>> {
        let rows: Vec<RollbackRow> = sqlx::query_as(sql(format!(
            "SELECT {COLUMNS} FROM rollbacks WHERE shelf = ? ORDER BY id DESC LIMIT 100"
        )))
        .bind(shelf.0)
        .fetch_all(&self.shared.view.pool)
        .await?;
        let mut seen = Vec::new();
        for row in rows.into_iter().map(read) {
            if self.chain(actor, row.node, Level::View).await.is_ok() {
                seen.push(self.with_progress(row));
            }
        }
        Ok(seen)
    }

    /// Those that run, or ran when the engine was stopped.
    #[boxed]
    pub async fn running_rollbacks(&self) -> Result<Vec<i64>> {
        Ok(sqlx::query_scalar("SELECT id FROM rollbacks WHERE state = 'running' ORDER BY id")
            .fetch_all(&self.shared.view.pool)
            .await?)
    }

    /// Ends a running rollback where it is. What it has done stays, and can be taken back.
    #[boxed]
    pub async fn stop_rollback(&self, actor: &Actor, id: i64) -> Result<Rollback> {
        let found = self.rollback_of(actor, id).await?;
        self.chain(actor, found.node, Level::Edit).await?;
        if let Some(running) = self.shared.rolling.lock().get(&id) {
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

    /// Carries a rollback out, from wherever it is.
    #[boxed]
    pub async fn run_rollback(&self, id: i64) -> Result<Rollback> {
        let gone = || StoreError::NotFound("The rollback".into());
        let found = self.rollback(id).await?.filter(|r| r.state == "running").ok_or_else(gone)?;
        let (device, from, keep): (Option<i64>, String, String) =
            sqlx::query_as("SELECT device, sent_from, keep FROM rollbacks WHERE id = ?")
                .bind(id)
                .fetch_one(&self.shared.view.pool)
                .await?;
        let actor = Actor {
            account: found.account,
            device: device.map(DeviceId),
            who: found.who.as_str().into(),
            from: from.into(),
            through: None,
            tokens: Default::default(),
        };
        let running = Arc::new(RunningRollback::default());
        running.done.store(found.done.max(0) as u64, Ordering::Relaxed);
        running.bytes.store(found.bytes_done.max(0) as u64, Ordering::Relaxed);
        {
            let mut all = self.shared.rolling.lock();
            if all.contains_key(&id) {
                return Err(StoreError::Busy);
            }
            all.insert(id, running.clone());
        }
        let keep: HashSet<i64> = rows::parse::<Vec<i64>>(&keep)?.into_iter().collect();
        let outcome = self.roll(&actor, &found, &keep, &running).await;
        let (state, left) = match &outcome {
            // It goes on at the next start.
            Err(StoreError::Stopping) => {
                self.shared.rolling.lock().remove(&id);
                return Err(StoreError::Stopping);
            }
            Err(e) => ("stopped", vec![Left { name: String::new(), why: e.to_string() }]),
            Ok((true, left)) => ("done", left.clone()),
            Ok((false, left)) => ("stopped", left.clone()),
        };
        let (done, bytes) =
            (running.done.load(Ordering::Relaxed) as i64, running.bytes.load(Ordering::Relaxed) as i64);
        let left = serde_json::to_string(&left).unwrap_or_default();
        let now = self.now_ms();
        let word = if state == "done" { "rollback done" } else { "rollback stopped" };
        let ended = self
            .change(&actor, word, &format!("#{id}: {done} steps"), move |conn| {
                Box::pin(async move {
                    sqlx::query("UPDATE rollbacks SET state = ?, ended_at = ?, done = ?, steps = max(steps, ?), bytes_done = ?, left_alone = ? WHERE id = ?")
                        .bind(state)
                        .bind(now)
                        .bind(done)
                        .bind(done)
                        .bind(bytes)
                        .bind(left)
                        .bind(id)
                        .execute(conn)
                        .await?;
                    Ok(())
                })
            })
            .await;
        self.shared.rolling.lock().remove(&id);
        ended?;
        outcome?;
        self.rollback(id).await?.ok_or_else(gone)
    }

    async fn roll(
        &self,
        actor: &Actor,
        found: &Rollback,
        keep: &HashSet<i64>,
        running: &Arc<RunningRollback>,
    ) -> Result<(bool, Vec<Left>)> {
        let mut failed: HashMap<i64, Left> = HashMap::new();
        let mut kept = Instant::now();
        // Two or three passes are usual; one that others undo again and again ends as stopped.
        for _ in 0..50 {
            let ground =
                self.rollback_ground(actor, found.node, found.goal, Some(found.begun), found.id).await?;
            let stays = failed.keys().chain(keep).copied().collect();
            let plan = plan(found.node.0, &ground.changed, &stays);
            let mut left: Vec<Left> = Vec::new();
            for c in ground.changed.iter().filter(|c| keep.contains(&c.node) && within(c)) {
                let node = NodeId(c.node);
                let row = ground.now.get(&node).or(ground.then.get(&node));
                let name = row.map_or_else(String::new, |r| r.name().to_string());
                left.push(Left { name, why: "it was to stay".into() });
            }
            for (node, conflict) in &plan.conflicts {
                let row = ground.then.get(&NodeId(*node)).or(ground.now.get(&NodeId(*node)));
                let name = row.map_or_else(String::new, |r| r.name().to_string());
                left.push(Left { name, why: why(*conflict).into() });
            }
            let mut steps = plan.steps;
            if steps.is_empty() {
                left.extend(failed.into_values());
                left.truncate(1000);
                return Ok((true, left));
            }
            // What goes does so last, by a plan that knows what could not be done: a folder must not take
            // with it what was to be moved out of it.
            let only_goes = steps.iter().all(|(_, step)| *step == Step::Goes);
            let pending: Arc<HashSet<i64>> = Arc::new(steps.iter().map(|(n, _)| *n).collect());
            if !only_goes {
                steps.retain(|(_, step)| *step != Step::Goes);
            }
            let ground = Arc::new(ground);
            let (folders, files): (Vec<_>, Vec<_>) = steps.into_iter().partition(|(node, step)| {
                *step != Step::Goes && ground.then.get(&NodeId(*node)).is_some_and(Row::is_folder)
            });
            let (goes, files): (Vec<_>, Vec<_>) =
                files.into_iter().partition(|(_, step)| *step == Step::Goes);
            let (moves, files): (Vec<_>, Vec<_>) =
                files.into_iter().partition(|(_, step)| *step == Step::MovesBack);
            // Folders and moves one after the other: each needs what is above it. Files side by side.
            let lots = folders.into_iter().chain(moves).map(|s| vec![s]).collect::<Vec<_>>();
            let lots = lots.into_iter().chain(files.chunks(ABREAST).map(<[_]>::to_vec));
            let lots: Vec<Vec<(i64, Step)>> = lots.chain(goes.chunks(ABREAST).map(<[_]>::to_vec)).collect();
            for lot in lots {
                if running.stop.load(Ordering::Relaxed) {
                    left.extend(failed.into_values());
                    return Ok((false, left));
                }
                let (began, before, own) = (Instant::now(), self.operations(), 3 * lot.len() as u64);
                let mut set = tokio::task::JoinSet::new();
                for (node, step) in lot {
                    let (engine, actor, ground, pending) =
                        (self.clone(), actor.clone(), ground.clone(), pending.clone());
                    let (goal, id) = (found.goal, found.id);
                    set.spawn(async move {
                        let done =
                            engine.one_step(&actor, &ground, &pending, NodeId(node), step, goal, id).await;
                        (node, done)
                    });
                }
                while let Some(joined) = set.join_next().await {
                    let (node, done) = joined.map_err(|_| StoreError::Stopping)?;
                    match done {
                        Ok(bytes) => {
                            running.done.fetch_add(1, Ordering::Relaxed);
                            running.bytes.fetch_add(bytes.max(0) as u64, Ordering::Relaxed);
                        }
                        Err(StoreError::Stopping) => return Err(StoreError::Stopping),
                        Err(e @ (StoreError::DiskFull { .. } | StoreError::QuotaFull { .. })) => {
                            return Err(e);
                        }
                        Err(e) => {
                            let row = ground.then.get(&NodeId(node)).or(ground.now.get(&NodeId(node)));
                            let name = row.map_or_else(String::new, |r| r.name().to_string());
                            let lies = NodeId(node);
                            let in_the_trash = matches!(e, StoreError::NotFound(_))
                                && self.shared.view.row(lies).await?.is_some()
                                && self.shared.view.chain(lies).await?.is_none();
                            let why = match in_the_trash {
                                true => {
                                    "it went into a folder that was removed: bring that back first".into()
                                }
                                false => e.to_string(),
                            };
                            failed.insert(node, Left { name, why });
                        }
                    }
                }
                if kept.elapsed() > Duration::from_secs(2) {
                    kept = Instant::now();
                    self.keep_progress(found.id, running).await?;
                }
                // Others write meanwhile.
                self.rest(began, before, own).await;
            }
        }
        Ok((false, failed.into_values().collect()))
    }

    async fn keep_progress(&self, id: i64, running: &RunningRollback) -> Result<()> {
        let (done, bytes) =
            (running.done.load(Ordering::Relaxed) as i64, running.bytes.load(Ordering::Relaxed) as i64);
        self.catalogue(&Actor::service(), move |conn| {
            Box::pin(async move {
                sqlx::query("UPDATE rollbacks SET done = ?, bytes_done = ? WHERE id = ?")
                    .bind(done)
                    .bind(bytes)
                    .bind(id)
                    .execute(conn)
                    .await?;
                Ok(())
            })
        })
        .await
    }

    #[allow(clippy::too_many_arguments)]
    async fn one_step(
        &self,
        actor: &Actor,
        ground: &Inputs,
        pending: &HashSet<i64>,
        node: NodeId,
        step: Step,
        goal: Moment,
        id: i64,
    ) -> Result<i64> {
        let free = Conditions::default();
        if step == Step::Goes {
            // A node that was there then is never removed with the folder that it stands in now.
            return self.remove(actor, node, free).await.map(|_| 0);
        }
        let then = ground.then.get(&node).ok_or_else(|| StoreError::NotFound("The file or folder".into()))?;
        let parent = then.parent.ok_or(StoreError::ShelfTop)?;
        let name = Name::new(then.name())?;
        for attempt in 0..3 {
            let done = match step {
                Step::FolderReturns => {
                    let was = self.last_past(node).await?.and_then(|p| Some((p.row.parent?, p.row.key)));
                    self.revive_folder(
                        actor,
                        node,
                        Place::At(parent, name.clone()),
                        was,
                        ChangeKind::Restored,
                    )
                    .await
                    .map(|_| 0)
                }
                Step::FileReturns => self
                    .restore(actor, node, Some(goal), Place::At(parent, name.clone()))
                    .await
                    .map(|_| then.size()),
                Step::Changes => {
                    self.restore(actor, node, Some(goal), Place::Last).await.map(|_| then.size())
                }
                Step::MovesBack => {
                    self.move_node(actor, node, parent, name.clone(), false, free.clone()).await.map(|_| 0)
                }
                Step::Goes => Ok(0),
            };
            match done {
                Err(StoreError::NameTaken(_) | StoreError::FolderInTheWay(_)) if attempt < 2 => {
                    self.out_of_the_way(actor, pending, parent, &name, id).await?;
                }
                other => return other,
            }
        }
        Err(StoreError::NameTaken(name.to_string()))
    }

    /// What stands at a name that was another's goes aside, if it is going or moving anyway.
    async fn out_of_the_way(
        &self,
        actor: &Actor,
        pending: &HashSet<i64>,
        parent: NodeId,
        name: &Name,
        id: i64,
    ) -> Result<()> {
        let key = yellow_attic_core::collate::sort_key(name).into();
        let Some(there) = self.shared.view.child(parent, &key).await? else { return Ok(()) };
        if !pending.contains(&there.node.0) {
            return Err(StoreError::NameTaken(name.to_string()));
        }
        let aside = Name::new(&format!("{}{:x}", aside_prefix(id), there.node.0))?;
        let free = Conditions::default();
        self.move_node(actor, there.node, parent, aside, false, free).await.map(|_| ())
    }
}

fn aside_prefix(id: i64) -> String {
    format!(".rollback-{id}-")
}

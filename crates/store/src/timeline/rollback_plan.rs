//! What a rollback would do, before it does anything.

use crate::catalogue::rows::{self, ROW_COLUMNS, ROW_FROM, sql};
use crate::fs::disk::hex;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ChangeKind, ContentState, Row};
use crate::rights::access::Viewer;
use crate::timeline::History;
use crate::timeline::rollback_run::aside_prefix;
use async_recursion::async_recursion as boxed;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use yellow_attic_core::rights::Level;
use yellow_attic_core::rollback::{Author, Changed, Conflict, Plan, Stand, Step, plan, work_of_others};
use yellow_attic_core::{AccountId, DeviceId, Moment, NodeId};

/// Things that are told by name.
pub const TOLD: usize = 500;

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

/// Whether something is, or was, in the folder that is rolled back: of nothing else is anything told.
pub fn within(c: &Changed) -> bool {
    [&c.then, &c.now].into_iter().flatten().any(|stand| stand.within)
}

/// What is known of the nodes that changed.
pub struct Inputs {
    pub then: HashMap<NodeId, Row>,
    pub now: HashMap<NodeId, Row>,
    pub changed: Vec<Changed>,
}

/// Whether something stands where it stood.
fn at_its_place(then: &Option<Stand>, now: &Option<Stand>) -> bool {
    match (then, now) {
        (Some(then), Some(now)) => (then.parent, &then.key) == (now.parent, &now.key),
        _ => false,
    }
}

/// Whether somebody changed a file or folder after a rollback had begun. Moved to where it is to go: that is no work of
/// somebody's, but a step before, of this rollback or by hand.
fn is_newer(row: Option<&Row>, begun: Moment, aside: &str, at_its_place: bool) -> bool {
    row.is_some_and(|row| {
        let step_of_ours = row.how == ChangeKind::Restored
            || row.how == ChangeKind::Moved && at_its_place
            || row.name().starts_with(aside);
        row.since > begun && !step_of_ours
    })
}

impl History {
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
        let viewer = self.0.grants().viewer(actor);
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

    pub(crate) async fn check_rollback(
        &self,
        actor: &Actor,
        top: NodeId,
        goal: Moment,
    ) -> Result<Vec<Arc<Row>>> {
        let chain = self.0.files().chain(actor, top, Level::Edit).await?;
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
            .fetch_one(&self.0.shared.view.pool)
            .await?;
            let made = jiff::Timestamp::from_millisecond(first).map(|t| t.to_string()).unwrap_or_default();
            return Err(StoreError::NotThereYet { name: row.name().into(), made });
        }
        self.check_past(actor, top, goal).await?;
        Ok(chain)
    }

    /// The way from the folder that is rolled back to something in it: all of it as it was at a number, or all of it as it
    /// is. Of a way that leads through something hidden, what comes after it.
    pub(crate) async fn path_within(
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
                (None, None) => self.0.shared.view.row(id).await?.map(|r| (*r).clone()),
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
                    self.0.shared.view.chain(top).await?.unwrap_or_default().iter().map(|r| r.node).collect()
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
    pub(crate) async fn rollback_ground(
        &self,
        actor: &Actor,
        top: NodeId,
        goal: Moment,
        begun: Option<Moment>,
        id: i64,
    ) -> Result<Inputs> {
        let pool = &self.0.shared.view.pool;
        let shelf = match self.0.shared.view.chain(top).await? {
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
        let viewer = self.0.grants().viewer(actor);
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
                    true => self.0.shared.view.folder(node).await?,
                    false => None,
                };
                stands[i] = Some(Stand {
                    parent: parent.0,
                    key: row.key.to_string(),
                    bytes: row.content.map(|c| c.hash),
                    executable: row.executable,
                    size: sums.map_or(row.size(), |s| s.bytes),
                    files: sums.map_or(i64::from(!row.is_folder()), |s| s.files),
                    within,
                    alive,
                    held: row
                        .content
                        .is_none_or(|c| matches!(c.life, ContentState::Live | ContentState::Past)),
                });
            }
            let [then, now] = stands;
            let newer = begun.is_some_and(|begun| {
                is_newer(ground.now.get(&node), begun, &aside, at_its_place(&then, &now))
            });
            let way_back = match &then {
                Some(then) if !then.within && then.alive => {
                    self.0.shared.view.chain(NodeId(then.parent)).await?.is_some()
                }
                _ => true,
            };
            changed.push(Changed { node: node.0, then, now, newer, way_back });
        }
        ground.changed = changed;
        Ok(ground)
    }

    /// What of all that changed somebody may not see: where it was at a number, or where it is or was last.
    pub(crate) async fn unseen(
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
    pub(crate) async fn way_of_then(
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
                        None => self.0.shared.view.row(id).await?.map(|r| (*r).clone()),
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
}

//! Rollbacks as they run: one step after the other, made anew from what is.

use crate::catalogue::rows;
use crate::engine::held::RunningRollback;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ChangeKind, Row};
use crate::ops::Place;
use crate::timeline::History;
use crate::timeline::rollback::{Left, Rollback, why};
use crate::timeline::rollback_plan::{Inputs, within};
use async_recursion::async_recursion as boxed;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::rollback::{Step, plan};
use yellow_attic_core::{DeviceId, Moment, Name, NodeId};

/// Files brought back side by side.
pub const ABREAST: usize = 24;

pub fn aside_prefix(id: i64) -> String {
    format!(".rollback-{id}-")
}

/// So long a step waits for a folder that is being brought back.
const BROUGHT_BACK_WITHIN: Duration = Duration::from_secs(600);

impl History {
    /// Carries a rollback out, from wherever it is.
    #[boxed]
    pub async fn run_rollback(&self, id: i64) -> Result<Rollback> {
        let gone = || StoreError::NotFound("The rollback".into());
        let found = self.rollback(id).await?.filter(|r| r.state == "running").ok_or_else(gone)?;
        let (device, from, keep): (Option<i64>, String, String) =
            sqlx::query_as("SELECT device, sent_from, keep FROM rollbacks WHERE id = ?")
                .bind(id)
                .fetch_one(&self.0.shared.view.pool)
                .await?;
        let actor = Actor {
            account: found.account,
            device: device.map(DeviceId),
            who: found.who.as_str().into(),
            from: from.into(),
            through: None,
            scope: None,
            tokens: Default::default(),
        };
        let keep: HashSet<i64> = rows::parse::<Vec<i64>>(&keep)?.into_iter().collect();
        let running = Arc::new(RunningRollback::default());
        running.done.store(found.done.max(0) as u64, Ordering::Relaxed);
        running.bytes.store(found.bytes_done.max(0) as u64, Ordering::Relaxed);
        {
            let mut all = self.0.shared.rolling.lock();
            if all.contains_key(&id) {
                return Err(StoreError::Busy);
            }
            all.insert(id, running.clone());
        }
        let mut outcome = self.roll(&actor, &found, &keep, &running).await;
        if let Ok((_, left)) = &mut outcome {
            match self.named_again(&actor, &found).await {
                Ok(more) => left.extend(more),
                Err(e) => outcome = Err(e),
            }
        }
        let (state, left) = match &outcome {
            // It goes on at the next start.
            Err(StoreError::Stopping) => {
                self.0.shared.rolling.lock().remove(&id);
                return Err(StoreError::Stopping);
            }
            Err(e) => ("stopped", vec![Left { name: String::new(), why: e.to_string() }]),
            Ok((true, left)) => ("done", left.clone()),
            Ok((false, left)) => ("stopped", left.clone()),
        };
        let (done, bytes) =
            (running.done.load(Ordering::Relaxed) as i64, running.bytes.load(Ordering::Relaxed) as i64);
        let left = serde_json::to_string(&left).unwrap_or_default();
        let now = self.0.now_ms();
        let word = if state == "done" { "rollback done" } else { "rollback stopped" };
        let ended = self
            .0.people().change(&actor, word, &format!("#{id}: {done} steps"), move |conn| {
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
        self.0.shared.rolling.lock().remove(&id);
        ended?;
        outcome?;
        self.rollback(id).await?.ok_or_else(gone)
    }

    pub(crate) async fn roll(
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
                let (began, before, own) = (Instant::now(), self.0.operations(), 3 * lot.len() as u64);
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
                        Err(
                            e @ (StoreError::DiskFull { .. }
                            | StoreError::NoMoreFiles { .. }
                            | StoreError::QuotaFull { .. }),
                        ) => {
                            return Err(e);
                        }
                        Err(e) => {
                            let row = ground.then.get(&NodeId(node)).or(ground.now.get(&NodeId(node)));
                            let name = row.map_or_else(String::new, |r| r.name().to_string());
                            let lies = NodeId(node);
                            let in_the_trash = matches!(e, StoreError::NotFound(_))
                                && self.0.shared.view.row(lies).await?.is_some()
                                && self.0.shared.view.chain(lies).await?.is_none();
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
                self.0.rest(began, before, own).await;
            }
        }
        Ok((false, failed.into_values().collect()))
    }

    /// What still stands aside when a rollback ends gets a name again: its last one, or that with a number if it is taken.
    async fn named_again(&self, actor: &Actor, found: &Rollback) -> Result<Vec<Left>> {
        let nodes: Vec<i64> = sqlx::query_scalar(
            "SELECT node FROM entries_now WHERE shelf = ? AND since > ? AND instr(sort_key, ?) > 0",
        )
        .bind(found.shelf.0)
        .bind(found.begun.0)
        .bind(format!("\u{1}{}", aside_prefix(found.id)))
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        let mut left = Vec::new();
        for node in nodes.into_iter().map(NodeId) {
            let (Some(chain), Some(past)) =
                (self.0.shared.view.chain(node).await?, self.last_past(node).await?)
            else {
                continue;
            };
            let (Some(parent), was) = (chain[0].parent, Name::new(past.row.name())?) else { continue };
            for number in 1.. {
                let name = if number == 1 { was.clone() } else { was.numbered(number) };
                let moved = self
                    .0
                    .files()
                    .move_node(actor, node, parent, name.clone(), false, Conditions::default())
                    .await;
                let (name, why) = match moved {
                    Ok(_) => (name, "its place is that of what was there then".to_string()),
                    Err(StoreError::NameTaken(_) | StoreError::FolderInTheWay(_)) if number < 1000 => {
                        continue;
                    }
                    Err(e) => (was, e.to_string()),
                };
                left.push(Left { name: name.to_string(), why });
                break;
            }
        }
        Ok(left)
    }

    pub(crate) async fn keep_progress(&self, id: i64, running: &RunningRollback) -> Result<()> {
        let (done, bytes) =
            (running.done.load(Ordering::Relaxed) as i64, running.bytes.load(Ordering::Relaxed) as i64);
        self.0
            .files()
            .catalogue(&Actor::service(), move |conn| {
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

    /// One step. A folder that an earlier one brought back may not be there yet, because its files come back by a job:
    /// whatever needs it waits.
    #[allow(clippy::too_many_arguments)]
    pub(crate) async fn one_step(
        &self,
        actor: &Actor,
        ground: &Inputs,
        pending: &HashSet<i64>,
        node: NodeId,
        step: Step,
        goal: Moment,
        id: i64,
    ) -> Result<i64> {
        let patience = Instant::now() + BROUGHT_BACK_WITHIN;
        loop {
            match self.try_step(actor, ground, pending, node, step, goal, id).await {
                Err(StoreError::Busy) if Instant::now() < patience && !self.is_stopping(id) => {
                    self.a_little_later().await?;
                }
                done => return done,
            }
        }
    }

    #[allow(clippy::too_many_arguments)]
    pub(crate) async fn try_step(
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
            return self.0.files().remove(actor, node, free).await.map(|_| 0);
        }
        let then = ground.then.get(&node).ok_or_else(|| StoreError::NotFound("The file or folder".into()))?;
        let parent = then.parent.ok_or(StoreError::ShelfTop)?;
        let name = Name::new(then.name())?;
        for attempt in 0..3 {
            let done = match step {
                Step::FolderReturns => {
                    let was = self.last_past(node).await?.and_then(|p| Some((p.row.parent?, p.row.key)));
                    self.0
                        .files()
                        .revive_folder(
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
                Step::MovesBack => self
                    .0
                    .files()
                    .move_node(actor, node, parent, name.clone(), false, free.clone())
                    .await
                    .map(|_| 0),
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

    /// Whether somebody asked to stop a rollback.
    fn is_stopping(&self, id: i64) -> bool {
        self.0.shared.rolling.lock().get(&id).is_some_and(|running| running.stop.load(Ordering::Relaxed))
    }

    /// Lets jobs go on.
    async fn a_little_later(&self) -> Result<()> {
        if self.0.shared.background {
            tokio::time::sleep(Duration::from_millis(20)).await;
            return Ok(());
        }
        // What the job needs is on its way to the past.
        self.0.settle().await?;
        match self.0.shared.jobs.next().await? {
            true => Ok(()),
            false => Err(StoreError::Busy),
        }
    }

    /// What stands at a name that was another's goes aside, if it is going or moving anyway.
    pub(crate) async fn out_of_the_way(
        &self,
        actor: &Actor,
        pending: &HashSet<i64>,
        parent: NodeId,
        name: &Name,
        id: i64,
    ) -> Result<()> {
        let key = yellow_attic_core::collate::sort_key(name).into();
        let Some(there) = self.0.shared.view.child(parent, &key).await? else { return Ok(()) };
        if !pending.contains(&there.node.0) {
            return Err(StoreError::NameTaken(name.to_string()));
        }
        let aside = Name::new(&format!("{}{:x}", aside_prefix(id), there.node.0))?;
        let free = Conditions::default();
        self.0.files().move_node(actor, there.node, parent, aside, false, free).await.map(|_| ())
    }
}

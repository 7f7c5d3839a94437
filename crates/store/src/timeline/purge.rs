//! Letting go what [`crate::timeline::retention`] planned, in small steps of the writer. Each step looks once more: what
//! came back meanwhile stays, and what somebody named or a rule holds by now.

use crate::catalogue::rows::hash_of;
use crate::files::filer::File;
use crate::fs::disk::ObjectId;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ChangeKind, Content, ContentState, FolderPlacement, Row};
use crate::ops::found::content_of;
use crate::ops::record::Note;
use crate::timeline::History;
use crate::timeline::retention::{Going, Key, Purge, Reach, Sum};
use crate::txn::operation::{Around, Operation};
use crate::txn::sums::Delta;
use crate::txn::write_txn::WriteTxn;
use async_recursion::async_recursion as boxed;
use std::collections::{HashMap, HashSet};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use yellow_attic_core::keeping::Keeping;
use yellow_attic_core::rules::Rules;
use yellow_attic_core::{ContentId, NodeId, ShelfId};

/// States let go in one step of the writer.
const STEP: usize = 128;

/// How far a purge is.
#[derive(Default)]
pub struct Progress {
    /// States to let go.
    pub of: AtomicU64,
    /// Those that went.
    pub done: AtomicU64,
    /// Their bytes.
    pub bytes: AtomicU64,
    /// Somebody wants it to end.
    pub stop: AtomicBool,
    /// Whether one runs.
    pub runs: AtomicBool,
}

/// What one step let go.
#[derive(Clone, Debug, Default)]
pub(crate) struct LetGone {
    pub states: u64,
    pub bytes: i64,
    pub hashes: Vec<[u8; 32]>,
}

impl History {
    /// Lets go what a plan says, in steps. With a token: refused if the plan is another by now.
    #[boxed]
    pub async fn apply_purge(
        &self,
        actor: &Actor,
        rules: &Rules,
        reach: &Reach,
        token: Option<&str>,
        progress: &Progress,
    ) -> Result<Sum> {
        if let Reach::Removed(nodes) = reach {
            self.take_apart_now(nodes).await?;
        }
        let purge = self.plan_purge(rules, reach).await?;
        if token.is_some_and(|t| t != purge.token) {
            return Err(StoreError::PlanStale);
        }
        let done = self.let_plan_go(actor, &purge, reach, progress).await?;
        if *reach == Reach::All {
            self.keep_snapshot_sums(&purge).await?;
        }
        Ok(done)
    }

    /// Lets go what was planned.
    pub(crate) async fn let_plan_go(
        &self,
        actor: &Actor,
        purge: &Purge,
        reach: &Reach,
        progress: &Progress,
    ) -> Result<Sum> {
        progress.of.store(purge.goes.len() as u64, Ordering::Relaxed);
        let mut done = Sum::default();
        // What is beneath a folder goes before it: the plan has each tree from the leaves up, past rows
        // of removed roots last.
        let (open, past): (Vec<Going>, Vec<Going>) =
            purge.goes.iter().partition(|g| matches!(g.key, Key::Open(_)));
        let roots = self.roots_among(&past).await?;
        let (roots, past): (Vec<Going>, Vec<Going>) = past.into_iter().partition(|g| roots.contains(&g.key));
        let open = self.leaves_first(open).await?;
        for lot in [past, open, roots] {
            for part in lot.chunks(STEP) {
                if progress.stop.load(Ordering::Relaxed) {
                    break;
                }
                let (began, before) = (std::time::Instant::now(), self.0.operations());
                let states = part.to_vec();
                let gone = self.0.ask(LetStatesGo { states }).await?;
                self.0.shared.listed.lock().clear();
                done.states += gone.states;
                done.bytes += gone.bytes;
                progress.done.fetch_add(part.len() as u64, Ordering::Relaxed);
                progress.bytes.fetch_add(gone.bytes.max(0) as u64, Ordering::Relaxed);
                self.0
                    .shared
                    .filing
                    .add(gone.hashes.chunks(32).map(|h| File::CondemnMany(h.to_vec())).collect());
                // Dropping the bytes takes the writer's time too: it counts as a part of the step.
                for _ in 0..500 {
                    if self.0.shared.filing.is_idle() {
                        break;
                    }
                    tokio::time::sleep(std::time::Duration::from_millis(2)).await;
                }
                // Others write meanwhile.
                self.0.rest(began, before, 24).await;
            }
        }
        if done.states > 0 {
            let actor = actor.clone();
            let detail = format!("{} states, {} bytes", done.states, done.bytes);
            let what = match reach {
                Reach::All => "by the rules".to_string(),
                Reach::Removed(_) | Reach::Version(..) => "by hand".into(),
            };
            self.0.ask(Note { actor, action: "let go", node: None, what, detail }).await?;
        }
        Ok(done)
    }

    /// Which of these are the last rows of removed folders.
    async fn roots_among(&self, past: &[Going]) -> Result<HashSet<Key>> {
        let ids: Vec<i64> =
            past.iter().filter_map(|g| if let Key::Past(id) = g.key { Some(id) } else { None }).collect();
        let found: Vec<i64> = sqlx::query_scalar(
            "SELECT e.id FROM json_each(?) j CROSS JOIN entries_past e WHERE e.id = j.value AND e.kind = 0",
        )
        .bind(serde_json::to_string(&ids).unwrap_or_default())
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        Ok(found.into_iter().map(Key::Past).collect())
    }

    /// Files first, then folders, the deepest first: their ids grow downwards only as a rule.
    async fn leaves_first(&self, open: Vec<Going>) -> Result<Vec<Going>> {
        let mut depths = Vec::with_capacity(open.len());
        let mut known: HashMap<NodeId, usize> = HashMap::new();
        for going in open {
            let Key::Open(node) = going.key else { continue };
            let mut way = Vec::new();
            let mut next = Some(NodeId(node));
            let mut depth = 0;
            while let Some(id) = next {
                if let Some(found) = known.get(&id) {
                    depth = *found;
                    break;
                }
                let Some(row) = self.0.shared.view.row(id).await? else { break };
                way.push(id);
                next = row.parent;
            }
            for id in way.into_iter().rev() {
                depth += 1;
                known.insert(id, depth);
            }
            depths.push((depth, going));
        }
        depths.sort_by_key(|(depth, _)| std::cmp::Reverse(*depth));
        Ok(depths.into_iter().map(|(_, going)| going).collect())
    }

    /// Removed folders that are still whole are taken apart now: their files must lie one by one.
    async fn take_apart_now(&self, nodes: &[NodeId]) -> Result<()> {
        let list = serde_json::to_string(nodes).unwrap_or_default();
        let now = self.0.kept_ms();
        self.0.files().catalogue(&Actor::service(), move |conn| {
            Box::pin(async move {
                sqlx::query("UPDATE jobs SET due = ? WHERE kind = 'take apart' AND node IN (SELECT value FROM json_each(?))")
                    .bind(now)
                    .bind(list)
                    .execute(conn)
                    .await?;
                Ok(())
            })
        })
        .await?;
        self.0.shared.jobs.wake.notify_one();
        for node in nodes {
            for _ in 0..3000 {
                let whole = self
                    .0
                    .shared
                    .view
                    .folder(*node)
                    .await?
                    .is_some_and(|f| f.lies == FolderPlacement::Removed);
                let owed: i64 =
                    sqlx::query_scalar("SELECT count(*) FROM jobs WHERE kind = 'take apart' AND due <= ?")
                        .bind(now)
                        .fetch_one(&self.0.shared.view.pool)
                        .await?;
                if !whole || owed == 0 {
                    break;
                }
                if !self.0.shared.background {
                    self.0.shared.jobs.next().await?;
                } else {
                    tokio::time::sleep(std::time::Duration::from_millis(20)).await;
                }
            }
        }
        Ok(())
    }

    pub(crate) async fn keep_snapshot_sums(&self, purge: &Purge) -> Result<()> {
        let before: Vec<(i64, i64)> = sqlx::query_as("SELECT shelf, snapshots FROM space_kept")
            .fetch_all(&self.0.shared.view.pool)
            .await?;
        let before: HashMap<ShelfId, i64> = before.into_iter().map(|(s, n)| (ShelfId(s), n)).collect();
        if before == purge.only_snapshots {
            return Ok(());
        }
        let set: Vec<(i64, i64)> = purge.only_snapshots.iter().map(|(s, n)| (s.0, *n)).collect();
        let set = serde_json::to_string(&set).unwrap_or_default();
        let now = self.0.kept_ms();
        self.0.people().change_rights(&Actor::service(), "", "", move |conn| {
            Box::pin(async move {
                sqlx::query("DELETE FROM space_kept").execute(&mut *conn).await?;
                sqlx::query("INSERT INTO space_kept (shelf, snapshots, at) SELECT value->>0, value->>1, ? FROM json_each(?)")
                    .bind(now)
                    .bind(set)
                    .execute(&mut *conn)
                    .await?;
                Ok(())
            })
        })
        .await
    }
}

/// Lets go states, within a group of the writer. What is needed again by now stays.
pub(crate) async fn let_go(txn: &mut WriteTxn, states: &[Going]) -> Result<LetGone> {
    let mut gone = LetGone::default();
    let drops = |going: &&Going| matches!(going.key, Key::Past(_)) && !going.erase;
    let ids: Vec<i64> = states
        .iter()
        .filter(drops)
        .filter_map(|going| if let Key::Past(id) = going.key { Some(id) } else { None })
        .collect();
    let alone = let_files_go(txn, &mut gone, &ids).await?;
    for going in states {
        match going.key {
            Key::Past(id) if going.erase || alone.contains(&id) => {
                let_past_go(txn, &mut gone, id, going.erase).await?;
            }
            Key::Past(_) => {}
            Key::Open(node) => let_open_go(txn, &mut gone, NodeId(node), going.erase).await?,
        }
    }
    Ok(gone)
}

/// Lets bytes of past states of files go, as one set. Which of these are none.
async fn let_files_go(txn: &mut WriteTxn, gone: &mut LetGone, ids: &[i64]) -> Result<HashSet<i64>> {
    let mut alone: HashSet<i64> = ids.iter().copied().collect();
    type Known = (i64, i64, i64, Option<i64>, i64);
    let known: Vec<Known> = sqlx::query_as(
        "SELECT e.id, e.shelf, e.held, e.content,
             EXISTS (SELECT 1 FROM named_versions v WHERE v.node = e.node AND v.since = e.since)
         FROM json_each(?) j CROSS JOIN entries_past e WHERE e.id = j.value AND e.kind = 1",
    )
    .bind(serde_json::to_string(ids).unwrap_or_default())
    .fetch_all(&mut txn.conn)
    .await?;
    let mut holds: HashMap<i64, bool> = HashMap::new();
    let (mut lets, mut contents) = (Vec::new(), HashSet::new());
    for (id, shelf, held, content, named) in known {
        alone.remove(&id);
        let hold =
            *holds.entry(shelf).or_insert_with(|| Keeping::of(txn.access.rules(), ShelfId(shelf)).hold);
        if held != 0 && named == 0 && !hold {
            lets.push(id);
            contents.extend(content);
        }
    }
    if lets.is_empty() {
        return Ok(alone);
    }
    sqlx::query("UPDATE entries_past SET held = 0 WHERE id IN (SELECT value FROM json_each(?))")
        .bind(serde_json::to_string(&lets).unwrap_or_default())
        .execute(&mut txn.conn)
        .await?;
    gone.states += lets.len() as u64;
    drop_contents(txn, gone, &contents.into_iter().collect::<Vec<_>>()).await?;
    Ok(alone)
}

/// Bytes that no state needs any more, and that an end owns: bytes that no end owns go on in an open row.
async fn drop_contents(txn: &mut WriteTxn, gone: &mut LetGone, contents: &[i64]) -> Result<()> {
    type Raw = (i64, Vec<u8>, i64, i64, i64, i64, i64, Option<i64>, i64);
    let needless: Vec<Raw> = sqlx::query_as(
        // It was counted where its last state was. Of a removed node only what it was last is in the trash.
        "SELECT c.id, c.hash, c.size, c.ino, c.btime, c.mark, e.node, e.parent,
             iif(EXISTS (SELECT 1 FROM entries_past n WHERE n.node = e.node AND n.until > e.until), 1, e.ended_how)
         FROM json_each(?) j CROSS JOIN contents c
         JOIN entries_past e ON e.id = (SELECT id FROM entries_past WHERE content = c.id ORDER BY until DESC LIMIT 1)
         WHERE c.id = j.value AND c.state = 1
           AND NOT EXISTS (SELECT 1 FROM entries_past p WHERE p.content = c.id AND p.held = 1)
           AND EXISTS (SELECT 1 FROM entries_past p WHERE p.content = c.id AND p.ended_how IN (1, 3, 5, 7))",
    )
    .bind(serde_json::to_string(contents).unwrap_or_default())
    .fetch_all(&mut txn.conn)
    .await?;
    let mut deltas: HashMap<NodeId, Delta> = HashMap::new();
    for (id, hash, size, ino, btime, mark, node, parent, how) in needless {
        let content = Content {
            id: ContentId(id),
            hash: hash_of(&hash, &format!("content {id}"))?,
            size,
            life: ContentState::Gone,
            object: ObjectId { ino, btime },
            mark,
        };
        if let Some(parent) = parent {
            let removed =
                ChangeKind::from_number(how) == ChangeKind::Removed && txn.row(NodeId(node)).await?.is_none();
            let its = deltas.entry(NodeId(parent)).or_default();
            its.past_bytes -= size;
            its.past_files -= 1;
            if removed {
                its.trash_bytes -= size;
                its.trash_files -= 1;
            }
        }
        txn.set_content(content);
        gone.hashes.push(content.hash);
        gone.bytes += size;
    }
    for (parent, delta) in deltas {
        txn.charge(parent, delta, 0).await?;
    }
    Ok(())
}

/// Whether something stands above letting go that was not there when it was planned: a rule that holds
/// everything, or a name.
async fn is_kept(txn: &mut WriteTxn, node: NodeId, shelf: ShelfId, since: i64, erase: bool) -> Result<bool> {
    if Keeping::of(txn.access.rules(), shelf).hold {
        return Ok(true);
    }
    if erase {
        return Ok(false);
    }
    let named: i64 = sqlx::query_scalar("SELECT count(*) FROM named_versions WHERE node = ? AND since = ?")
        .bind(node.0)
        .bind(since)
        .fetch_one(&mut txn.conn)
        .await?;
    Ok(named > 0)
}

async fn let_past_go(txn: &mut WriteTxn, gone: &mut LetGone, id: i64, erase: bool) -> Result<()> {
    let row: Option<(i64, Option<i64>, i64, i64, i64, i64)> =
        sqlx::query_as("SELECT node, content, held, kind, shelf, since FROM entries_past WHERE id = ?")
            .bind(id)
            .fetch_optional(&mut txn.conn)
            .await?;
    let Some((node, content, held, kind, shelf, since)) = row else { return Ok(()) };
    if is_kept(txn, NodeId(node), ShelfId(shelf), since, erase).await? {
        return Ok(());
    }
    // A folder that came back meanwhile stays as it is.
    if kind == 0 && held != 0 && txn.row(NodeId(node)).await?.is_some() && !erase {
        return Ok(());
    }
    if held != 0 {
        sqlx::query("UPDATE entries_past SET held = 0 WHERE id = ?").bind(id).execute(&mut txn.conn).await?;
        if let Some(content) = content {
            let (needed, owned): (i64, i64) = sqlx::query_as(
                "SELECT coalesce(sum(held), 0), coalesce(sum(ended_how IN (1, 3, 5, 7)), 0) FROM entries_past WHERE content = ?",
            )
            .bind(content)
            .fetch_one(&mut txn.conn)
            .await?;
            // Bytes that no end owns go on in an open row.
            if needed == 0 && owned > 0 {
                drop_content(txn, gone, ContentId(content)).await?;
            }
        }
        gone.states += 1;
    }
    if erase {
        // Whoever follows from before its end cannot be told of it any more.
        sqlx::query(
            "UPDATE heads SET forgotten = max(forgotten, (SELECT until FROM entries_past WHERE id = ?))",
        )
        .bind(id)
        .execute(&mut txn.conn)
        .await?;
        sqlx::query("DELETE FROM entries_past WHERE id = ?").bind(id).execute(&mut txn.conn).await?;
        sqlx::query("DELETE FROM named_versions WHERE node = ?1 AND NOT EXISTS (SELECT 1 FROM entries_past WHERE node = ?1 AND since = named_versions.since)")
            .bind(node)
            .execute(&mut txn.conn)
            .await?;
        forget_node(txn, NodeId(node), content).await?;
        gone.states += u64::from(held == 0);
    }
    Ok(())
}

async fn let_open_go(txn: &mut WriteTxn, gone: &mut LetGone, node: NodeId, erase: bool) -> Result<()> {
    let Some(row) = txn.row(node).await? else { return Ok(()) };
    // Its folder came back meanwhile.
    if txn.chain(node).await?.is_some() || is_kept(txn, node, row.shelf, row.since.0, erase).await? {
        return Ok(());
    }
    let before = gone.states;
    if let (Some(content), Some(parent)) = (row.content, row.parent)
        && content.life == ContentState::Past
    {
        let needed: i64 =
            sqlx::query_scalar("SELECT count(*) FROM entries_past WHERE content = ? AND held = 1")
                .bind(content.id.0)
                .fetch_one(&mut txn.conn)
                .await?;
        if needed > 0 {
            return Ok(());
        }
        let delta = Delta { bytes: -content.size, files: -1, ..Delta::default() };
        txn.charge(parent, delta, 0).await?;
        let dropped = Content { life: ContentState::Gone, ..content };
        txn.set_content(dropped);
        txn.open_row(Row { content: Some(dropped), ..(*row).clone() }, true);
        gone.hashes.push(content.hash);
        gone.bytes += content.size;
        gone.states += 1;
    } else if row.content.is_some_and(|c| c.life == ContentState::Live) {
        // Not taken apart yet: the next look takes it.
        return Ok(());
    }
    if erase {
        let left: i64 = sqlx::query_scalar(
            "SELECT (SELECT count(*) FROM entries_past WHERE node = ?1 OR parent = ?1) + (SELECT count(*) FROM entries_now WHERE parent = ?1)",
        )
        .bind(node.0)
        .fetch_one(&mut txn.conn)
        .await?;
        if left == 0 {
            let row = txn.row(node).await?.unwrap_or(row);
            txn.erase_row(&row);
            sqlx::query("DELETE FROM entries_now WHERE node = ?").bind(node.0).execute(&mut txn.conn).await?;
            if let Some(parent) = row.parent.filter(|_| row.is_folder()) {
                txn.charge(parent, Delta { folders: -1, ..Delta::default() }, 0).await?;
            }
            forget_node(txn, node, row.content.map(|c| c.id.0)).await?;
            gone.states += u64::from(gone.states == before);
        }
    }
    Ok(())
}

async fn drop_content(txn: &mut WriteTxn, gone: &mut LetGone, id: ContentId) -> Result<()> {
    let Some(content) = content_of(txn, id).await? else { return Ok(()) };
    if content.life != ContentState::Past {
        return Ok(());
    }
    txn.uncharge(&content).await?;
    txn.set_content(Content { life: ContentState::Gone, ..content });
    gone.hashes.push(content.hash);
    gone.bytes += content.size;
    Ok(())
}

/// Nothing tells of a node any more: neither does what is kept beside its rows.
async fn forget_node(txn: &mut WriteTxn, node: NodeId, content: Option<i64>) -> Result<()> {
    if let Some(content) = content {
        sqlx::query(
            "DELETE FROM contents WHERE id = ?1 AND state IN (2, 3) AND NOT EXISTS (SELECT 1 FROM entries_past WHERE content = ?1)
               AND NOT EXISTS (SELECT 1 FROM entries_now WHERE node = ?2)",
        )
        .bind(content)
        .bind(node.0)
        .execute(&mut txn.conn)
        .await?;
    }
    if txn.row(node).await?.is_some() {
        return Ok(());
    }
    for statement in [
        "DELETE FROM folders WHERE node = ?1 AND NOT EXISTS (SELECT 1 FROM entries_past WHERE node = ?1)",
        "DELETE FROM activity WHERE node = ?1 AND NOT EXISTS (SELECT 1 FROM entries_past WHERE node = ?1)",
        "DELETE FROM properties WHERE node = ?1 AND NOT EXISTS (SELECT 1 FROM entries_past WHERE node = ?1)",
    ] {
        sqlx::query(statement).bind(node.0).execute(&mut txn.conn).await?;
    }
    Ok(())
}

/// Lets states of the past go.
pub(crate) struct LetStatesGo {
    pub states: Vec<Going>,
}

impl Operation for LetStatesGo {
    type Told = LetGone;

    fn writes_by_itself(&self) -> bool {
        true
    }

    async fn decide(&mut self, txn: &mut WriteTxn, _: &mut Around<'_>) -> Result<LetGone> {
        let_go(txn, &self.states).await
    }
}

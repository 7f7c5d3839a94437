//! What readers see: the catalogue through a few read-only connections, with the rows that
//! are asked for again and again answered from memory.

use crate::catalogue::rows::{self, hash_of};
use crate::fs::error::Result;
use crate::fs::model::{Content, ContentState, Folder, Row, Shelf, ShelfKind};
use crate::rights::access::Access;
use crate::txn::write_txn::Changed;
use parking_lot::RwLock;
use quick_cache::sync::Cache;
use sqlx::sqlite::SqlitePool;
use std::collections::{HashMap, HashSet, VecDeque};
use std::sync::Arc;
use tokio::sync::watch;
use yellow_attic_core::{AccountId, ContentId, Moment, NodeId, ShelfId};

/// Rows kept in memory: about 20 MiB at most.
const ROWS_KEPT: usize = 50_000;

/// All shelves, found in the ways in which they are asked for: there may be ten thousand homes.
#[derive(Default)]
struct Shelves {
    by_id: HashMap<ShelfId, Arc<Shelf>>,
    homes: HashMap<AccountId, Arc<Shelf>>,
    shared: HashMap<String, Arc<Shelf>>,
}

impl Shelves {
    fn new(all: HashMap<ShelfId, Arc<Shelf>>) -> Shelves {
        let mut shelves = Shelves::default();
        all.into_values().for_each(|s| shelves.insert(s));
        shelves
    }

    fn insert(&mut self, shelf: Arc<Shelf>) {
        match (shelf.kind, shelf.owner) {
            (ShelfKind::Home, Some(owner)) => {
                self.homes.insert(owner, shelf.clone());
            }
            (ShelfKind::Home, None) => {}
            (ShelfKind::Shared, _) => {
                self.shared.insert(shelf.name.clone(), shelf.clone());
            }
        }
        self.by_id.insert(shelf.id, shelf);
    }

    fn remove(&mut self, id: ShelfId) {
        let Some(shelf) = self.by_id.remove(&id) else { return };
        // Another may have its name by now.
        self.homes.retain(|_, s| s.id != id);
        self.shared.retain(|_, s| s.id != shelf.id);
    }
}

/// Commits whose changes are known: longer than any look-up takes.
const COMMITS_KEPT: usize = 64;

/// What may be remembered of what was read. It counts commits: what one of them changed after it was read is not
/// remembered; what none of them touched is, so that much writing does not keep readers from remembering.
#[derive(Default)]
struct Gate {
    commits: u64,
    recent: VecDeque<Touched>,
}

/// What a commit changed.
#[derive(Default)]
struct Touched {
    rows: HashSet<NodeId>,
    names: HashSet<(NodeId, Arc<str>)>,
    folders: HashSet<NodeId>,
}

impl Gate {
    fn passed(&mut self, touched: Touched) {
        self.commits += 1;
        if self.recent.len() == COMMITS_KEPT {
            self.recent.pop_front();
        }
        self.recent.push_back(touched);
    }

    /// Whether something is still as it was after so many commits.
    fn is_as_at(&self, seen: u64, touches: impl Fn(&Touched) -> bool) -> bool {
        let since = (self.commits - seen) as usize;
        since <= self.recent.len() && !self.recent.iter().rev().take(since).any(touches)
    }
}

/// Rows and sums in memory.
pub(crate) struct Caches {
    gate: RwLock<Gate>,
    rows: Cache<NodeId, Arc<Row>>,
    /// What stands at a name; also that nothing does.
    names: Cache<(NodeId, Arc<str>), Option<Arc<Row>>>,
    folders: Cache<NodeId, Folder>,
    shelves: RwLock<Shelves>,
    /// All rights; whoever follows what may be seen waits for them to change.
    access: watch::Sender<Arc<Access>>,
    /// All locks; open pages wait for them to change.
    locks: watch::Sender<Arc<crate::rights::locks::Locks>>,
    /// The last change on each shelf since the start.
    touched: RwLock<HashMap<ShelfId, i64>>,
    /// The last number given out: whoever follows changes waits for it to grow.
    head: watch::Sender<i64>,
    /// The last number at the start.
    begun: i64,
}

impl Caches {
    pub fn new(
        shelves: HashMap<ShelfId, Arc<Shelf>>,
        access: Arc<Access>,
        locks: Arc<crate::rights::locks::Locks>,
        head: i64,
    ) -> Caches {
        Caches {
            locks: watch::Sender::new(locks),
            access: watch::Sender::new(access),
            gate: RwLock::default(),
            rows: Cache::new(ROWS_KEPT),
            names: Cache::new(ROWS_KEPT),
            folders: Cache::new(ROWS_KEPT / 4),
            shelves: RwLock::new(Shelves::new(shelves)),
            touched: RwLock::default(),
            head: watch::Sender::new(head),
            begun: head,
        }
    }

    /// A group was committed: forget what it changed, and keep what it wrote.
    pub fn commit(&self, changed: &Changed) {
        let mut gate = self.gate.write();
        gate.passed(Touched {
            rows: changed.rows.iter().map(|(node, _)| *node).collect(),
            names: changed.names.iter().cloned().collect(),
            folders: changed.folders.iter().copied().collect(),
        });
        for key in &changed.names {
            self.names.remove(key);
        }
        for (node, row) in &changed.rows {
            match row {
                Some(row) => {
                    if let Some(parent) = row.parent {
                        self.names.insert((parent, row.key.clone()), Some(row.clone()));
                    }
                    self.rows.insert(*node, row.clone());
                }
                None => {
                    self.rows.remove(node);
                }
            }
        }
        for node in &changed.folders {
            self.folders.remove(node);
        }
        let mut shelves = self.shelves.write();
        for shelf in &changed.shelves {
            shelves.insert(shelf.clone());
        }
        for shelf in &changed.ended_shelves {
            shelves.remove(*shelf);
        }
        drop((gate, shelves));
        if let Some(locks) = &changed.locks {
            self.locks.send_replace(locks.clone());
        }
        if let Some(access) = &changed.access {
            self.access.send_replace(access.clone());
        }
        if !changed.touched.is_empty() {
            let mut touched = self.touched.write();
            for shelf in &changed.touched {
                touched.insert(*shelf, changed.moment);
            }
        }
        self.head.send_if_modified(|head| std::mem::replace(head, changed.moment) < changed.moment);
    }

    /// Grows with every change that is committed.
    pub fn head(&self) -> watch::Receiver<i64> {
        self.head.subscribe()
    }

    /// Whether something on a shelf may have changed after a number.
    pub fn touched_since(&self, shelf: ShelfId, since: i64) -> bool {
        since < self.begun || self.touched.read().get(&shelf).is_some_and(|last| *last > since)
    }

    /// What the catalogue holds was read anew.
    pub fn renew(
        &self,
        shelves: &HashMap<ShelfId, Arc<Shelf>>,
        access: &Arc<Access>,
        locks: &Arc<crate::rights::locks::Locks>,
        head: i64,
    ) {
        self.clear();
        *self.shelves.write() = Shelves::new(shelves.clone());
        // What changed on which shelf is not known: followers look at all of them.
        self.touched.write().extend(shelves.keys().map(|id| (*id, head)));
        self.access.send_replace(access.clone());
        self.locks.send_replace(locks.clone());
        self.head.send_if_modified(|known| std::mem::replace(known, head.max(*known)) < head);
    }

    /// Nothing is known for certain any more.
    pub fn clear(&self) {
        let mut gate = self.gate.write();
        gate.commits += 1;
        gate.recent.clear();
        self.rows.clear();
        self.names.clear();
        self.folders.clear();
    }
}

/// Reads the catalogue.
#[derive(Clone)]
pub(crate) struct View {
    pub pool: SqlitePool,
    pub caches: Arc<Caches>,
}

impl View {
    /// The shelf with this id.
    pub fn shelf(&self, id: ShelfId) -> Option<Arc<Shelf>> {
        self.caches.shelves.read().by_id.get(&id).cloned()
    }

    /// All shelves.
    pub fn shelves(&self) -> Vec<Arc<Shelf>> {
        self.caches.shelves.read().by_id.values().cloned().collect()
    }

    /// All shared shelves.
    pub fn shared_shelves(&self) -> Vec<Arc<Shelf>> {
        self.caches.shelves.read().shared.values().cloned().collect()
    }

    /// The shared shelf of this name.
    pub fn shared_shelf(&self, name: &str) -> Option<Arc<Shelf>> {
        self.caches.shelves.read().shared.get(name).cloned()
    }

    /// The home shelf of an account.
    pub fn home_of(&self, account: AccountId) -> Option<Arc<Shelf>> {
        self.caches.shelves.read().homes.get(&account).cloned()
    }

    /// All rights as they are now.
    pub fn access(&self) -> Arc<Access> {
        self.caches.access.borrow().clone()
    }

    /// All locks as they are now.
    pub fn locks(&self) -> Arc<crate::rights::locks::Locks> {
        self.caches.locks.borrow().clone()
    }

    /// Tells of each change of locks.
    pub fn locks_changed(&self) -> watch::Receiver<Arc<crate::rights::locks::Locks>> {
        self.caches.locks.subscribe()
    }

    /// Tells of each change of rights.
    pub fn rights_changed(&self) -> watch::Receiver<Arc<Access>> {
        self.caches.access.subscribe()
    }

    /// The open row of a node.
    pub async fn row(&self, node: NodeId) -> Result<Option<Arc<Row>>> {
        if let Some(row) = self.caches.rows.get(&node) {
            return Ok(Some(row));
        }
        let seen = self.caches.gate.read().commits;
        let mut conn = self.pool.acquire().await?;
        let row = rows::row(&mut conn, node).await?.map(Arc::new);
        if let Some(row) = &row {
            let gate = self.caches.gate.read();
            if gate.is_as_at(seen, |t| t.rows.contains(&node)) {
                self.caches.rows.insert(node, row.clone());
            }
        }
        Ok(row)
    }

    /// The row at a name in a folder.
    pub async fn child(&self, parent: NodeId, key: &Arc<str>) -> Result<Option<Arc<Row>>> {
        let wanted = (parent, key.clone());
        if let Some(known) = self.caches.names.get(&wanted) {
            return Ok(known);
        }
        let seen = self.caches.gate.read().commits;
        let mut conn = self.pool.acquire().await?;
        let row = rows::child(&mut conn, parent, key).await?.map(Arc::new);
        let gate = self.caches.gate.read();
        let its = row.as_ref().map(|r| r.node);
        if gate.is_as_at(seen, |t| t.names.contains(&wanted) || its.is_some_and(|n| t.rows.contains(&n))) {
            self.caches.names.insert(wanted, row.clone());
            if let Some(row) = &row {
                self.caches.rows.insert(row.node, row.clone());
            }
        }
        drop(gate);
        Ok(row)
    }

    /// A folder's sums.
    pub async fn folder(&self, node: NodeId) -> Result<Option<Folder>> {
        if let Some(folder) = self.caches.folders.get(&node) {
            return Ok(Some(folder));
        }
        let seen = self.caches.gate.read().commits;
        let mut conn = self.pool.acquire().await?;
        let folder = rows::folder(&mut conn, node).await?;
        if let Some(folder) = folder {
            let gate = self.caches.gate.read();
            if gate.is_as_at(seen, |t| t.folders.contains(&node)) {
                self.caches.folders.insert(node, folder);
            }
        }
        Ok(folder)
    }

    /// The way up to the shelf's top, the node first; `None` if it is not alive.
    pub async fn chain(&self, node: NodeId) -> Result<Option<Vec<Arc<Row>>>> {
        let mut chain = Vec::new();
        let mut next = Some(node);
        while let Some(id) = next {
            let Some(row) = self.row(id).await? else { return Ok(None) };
            next = row.parent;
            chain.push(row);
        }
        Ok(Some(chain))
    }

    /// The shelf on which a folder stands, or stood last.
    pub async fn shelf_of_place(&self, node: NodeId) -> Result<Option<ShelfId>> {
        let mut next = node;
        loop {
            let above = match self.row(next).await? {
                Some(row) => row.parent.ok_or(row.shelf),
                None => {
                    let mut conn = self.pool.acquire().await?;
                    match rows::past_of(&mut conn, next, 1).await?.into_iter().next() {
                        Some(past) => past.row.parent.ok_or(past.row.shelf),
                        None => return Ok(None),
                    }
                }
            };
            match above {
                Ok(parent) => next = parent,
                Err(shelf) => return Ok(Some(shelf)),
            }
        }
    }

    /// The time of modification with which a content was put, and the node that it belongs to.
    pub async fn put_of(&self, content: ContentId) -> Result<Option<(NodeId, i64)>> {
        let past: Option<(i64, i64)> = sqlx::query_as(
            "SELECT node, mtime FROM entries_past WHERE content = ? ORDER BY until DESC LIMIT 1",
        )
        .bind(content.0)
        .fetch_optional(&self.pool)
        .await?;
        Ok(past.map(|(node, mtime)| (NodeId(node), mtime)))
    }

    /// The file that has a content now, if it came by it after a number. Asked for seldom: it looks through all that changed
    /// since then.
    pub async fn holder_of(&self, content: ContentId, since: Moment) -> Result<Option<Arc<Row>>> {
        let node: Option<i64> = sqlx::query_scalar(
            "SELECT node FROM entries_now WHERE shelf IN (SELECT id FROM shelves) AND since > ? AND content = ? LIMIT 1",
        )
        .bind(since.0)
        .bind(content.0)
        .fetch_optional(&self.pool)
        .await?;
        match node {
            Some(node) => self.row(NodeId(node)).await,
            None => Ok(None),
        }
    }

    /// A content by its id, as it is in the catalogue now.
    pub async fn content(&self, id: ContentId) -> Result<Option<Content>> {
        type Raw = (Vec<u8>, i64, i64, i64, i64, i64);
        let raw: Option<Raw> =
            sqlx::query_as("SELECT hash, size, state, ino, btime, mark FROM contents WHERE id = ?")
                .bind(id.0)
                .fetch_optional(&self.pool)
                .await?;
        let read = |(hash, size, state, ino, btime, mark): Raw| {
            Ok(Content {
                id,
                hash: hash_of(&hash, &format!("content {}", id.0))?,
                size,
                life: ContentState::from_number(state),
                object: crate::fs::disk::ObjectId { ino, btime },
                mark,
            })
        };
        raw.map(read).transpose()
    }

    /// Whether a past content is kept as chunks.
    pub async fn is_packed(&self, hash: &[u8; 32]) -> Result<bool> {
        let found: i64 = sqlx::query_scalar("SELECT count(*) FROM packed WHERE org = 1 AND hash = ?")
            .bind(&hash[..])
            .fetch_one(&self.pool)
            .await?;
        Ok(found > 0)
    }
}

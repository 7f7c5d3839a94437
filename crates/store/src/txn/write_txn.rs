//! The writer's view of the catalogue: what the database holds, overlaid with what the
//! present group of operations has decided. Written out as sets, a handful of statements
//! for a whole group, whatever its size.

use crate::catalogue::rows::{self, ROW_COLUMNS, ROW_FROM, Told};
use crate::fs::disk::hex;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ChangeKind, Content, ContentState, Folder, PastRow, Row, Shelf, ShelfKind};
use crate::fs::pending_rename::Task;
use crate::fs::record_key::RecordKey;
use crate::rights::access::{self, Access, Viewer};
use crate::txn::sums::Delta;
use serde_json::{Value, json};
use sqlx::SqliteConnection;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use yellow_attic_core::conditions::RequestId;
use yellow_attic_core::rights::Level;
use yellow_attic_core::{AccountId, ContentId, Moment, NodeId, ShelfId, record};

/// Entries kept from one group to the next before the overlay is emptied.
pub(crate) const KEEP: usize = 40_000;
pub(crate) const DAY_MS: i64 = 86_400_000;
/// Changes that are read at a time, and at most, to tell whether anything beneath a folder changed.
const LOOKED_AT_ONCE: usize = 1_000;
const MOST_LOOKED_AT: usize = 50_000;

/// Where everything stands.
#[derive(Clone, Debug)]
pub(crate) struct Counters {
    pub moment: i64,
    pub at: i64,
    pub node: i64,
    pub mark: i64,
    pub placed: i64,
    pub record: i64,
    pub link: record::Digest,
    /// How many groups were committed.
    pub commits: i64,
    /// The last id given out for bytes in staging.
    pub content: i64,
}

pub(crate) struct WriteTxn {
    pub conn: SqliteConnection,
    pub heads: Counters,
    /// What rows of the record are marked with.
    pub record_key: RecordKey,
    /// The present group's time.
    pub now: i64,
    pub shelves: HashMap<ShelfId, Arc<Shelf>>,
    names_of_shelves: HashSet<(ShelfKind, String)>,
    last_shelf: i64,
    /// All locks as this group has changed them so far.
    pub locks: Arc<crate::rights::locks::Locks>,
    /// Rights as this group has changed them so far.
    pub access: Arc<Access>,
    /// They were changed in the catalogue, and are to be read before anything is decided by them.
    pub access_behind: bool,
    pub(crate) rows: HashMap<NodeId, Option<Arc<Row>>>,
    pub(crate) names: HashMap<(NodeId, Arc<str>), Option<NodeId>>,
    pub(crate) folders: HashMap<NodeId, Folder>,
    pub(crate) paths: HashMap<NodeId, Arc<str>>,
    /// Above which folder one lay that was removed; none if it never had a place.
    pub(crate) above_removed: HashMap<NodeId, Option<NodeId>>,
    /// Live bytes of the whole organisation, counted once it has a line.
    pub(crate) whole: Option<i64>,
    /// Shelves that take no writes for now, with why.
    pub stopped: HashMap<ShelfId, StoreError>,
    pub group: Group,
}

/// What the present group has decided.
#[derive(Clone, Default)]
pub(crate) struct Group {
    /// The number that all that is decided just now has, where it is one change.
    pub(crate) one: Option<Moment>,
    pub(crate) first_moment: Option<i64>,
    /// Nodes whose row changed, and whether the database holds a row for them.
    pub(crate) touched: HashMap<NodeId, bool>,
    pub(crate) ended: Vec<PastRow>,
    pub(crate) contents: Vec<(Content, Option<u16>)>,
    pub(crate) lives: HashMap<ContentId, Content>,
    pub(crate) sums: HashSet<NodeId>,
    pub(crate) activity: HashMap<(NodeId, i64), i64>,
    pub tasks: Vec<Task>,
    pub(crate) records: Vec<Value>,
    pub jobs: Vec<Value>,
    pub(crate) findings: Vec<Value>,
    pub(crate) uploads: Vec<Value>,
    /// What named requests were answered with.
    pub(crate) requests: HashMap<(AccountId, RequestId), Told>,
    pub(crate) new_shelves: Vec<Arc<Shelf>>,
    pub(crate) ended_shelves: Vec<ShelfId>,
    pub(crate) ended_locks: Vec<Value>,
    pub(crate) access: bool,
    pub(crate) locks: bool,
}

impl Group {
    /// Locks that end with what they lay on.
    pub fn end_locks(&mut self, tokens: Vec<String>) {
        self.locks = true;
        self.ended_locks.extend(tokens.into_iter().map(Value::from));
    }
}

/// What a group changed, for the caches of readers.
pub(crate) struct Changed {
    pub rows: Vec<(NodeId, Option<Arc<Row>>)>,
    pub names: Vec<(NodeId, Arc<str>)>,
    pub folders: Vec<NodeId>,
    pub tasks: Vec<Task>,
    pub shelves: Vec<Arc<Shelf>>,
    pub ended_shelves: Vec<ShelfId>,
    /// The shelves on which something changed, and the number of the last change.
    pub touched: HashSet<ShelfId>,
    pub moment: i64,
    pub jobs: bool,
    /// All rights, if any changed.
    pub access: Option<Arc<Access>>,
    /// All locks, if any changed.
    pub locks: Option<Arc<crate::rights::locks::Locks>>,
}

impl WriteTxn {
    pub async fn open(
        mut conn: SqliteConnection,
        shelves: HashMap<ShelfId, Arc<Shelf>>,
        record_key: RecordKey,
    ) -> Result<WriteTxn> {
        let heads = load_heads(&mut conn).await?;
        let access = Arc::new(Access::load(&mut conn).await?);
        let locks = Arc::new(crate::rights::locks::load(&mut conn).await?);
        let mut txn = WriteTxn {
            conn,
            access,
            locks,
            access_behind: false,
            record_key,
            now: heads.at,
            heads,
            names_of_shelves: HashSet::new(),
            last_shelf: 0,
            shelves: HashMap::new(),
            rows: HashMap::new(),
            names: HashMap::new(),
            folders: HashMap::new(),
            paths: HashMap::new(),
            above_removed: HashMap::new(),
            whole: None,
            stopped: HashMap::new(),
            group: Group::default(),
        };
        let last = rows::last_shelf(&mut txn.conn).await?;
        txn.set_shelves(shelves, last);
        Ok(txn)
    }

    // --- looking ---

    /// The open row of a node.
    pub async fn row(&mut self, node: NodeId) -> Result<Option<Arc<Row>>> {
        if let Some(known) = self.rows.get(&node) {
            return Ok(known.clone());
        }
        let found = rows::row(&mut self.conn, node).await?.map(Arc::new);
        self.rows.insert(node, found.clone());
        Ok(found)
    }

    /// The node at a name in a folder.
    pub async fn child(&mut self, parent: NodeId, key: &Arc<str>) -> Result<Option<Arc<Row>>> {
        if let Some(known) = self.names.get(&(parent, key.clone())) {
            return match *known {
                Some(node) => self.row(node).await,
                None => Ok(None),
            };
        }
        let found = rows::child(&mut self.conn, parent, key).await?.map(Arc::new);
        // A row that this group has changed is known by its node; the database is behind.
        let found = match found {
            Some(row) if self.rows.contains_key(&row.node) => match &self.rows[&row.node] {
                Some(open) if open.parent == Some(parent) && open.key == *key => Some(open.clone()),
                _ => None,
            },
            other => other,
        };
        self.names.insert((parent, key.clone()), found.as_ref().map(|r| r.node));
        if let Some(row) = &found {
            self.rows.insert(row.node, found.clone());
        }
        Ok(found)
    }

    /// Looks up many names by one statement.
    pub async fn prefetch(&mut self, wanted: &[(NodeId, Arc<str>)]) -> Result<()> {
        let missing: Vec<_> = wanted.iter().filter(|w| !self.names.contains_key(*w)).collect();
        if missing.len() < 2 {
            return Ok(());
        }
        let list: Vec<(i64, &str)> = missing.iter().map(|(p, k)| (p.0, &**k)).collect();
        let found: String = sqlx::query_scalar(constcat(
            "SELECT json_group_array(json_array(",
            ROW_COLUMNS,
            ")) FROM json_each(?1) j CROSS JOIN ",
            ROW_FROM,
            " WHERE e.parent = j.value->>0 AND e.sort_key = j.value->>1",
        ))
        .bind(json!(list).to_string())
        .fetch_one(&mut self.conn)
        .await?;
        let mut hits = HashMap::new();
        for row in rows::parse_rows(&found)? {
            if let (Some(parent), false) = (row.parent, self.rows.contains_key(&row.node)) {
                hits.insert((parent, row.key.clone()), row.node);
                self.rows.insert(row.node, Some(Arc::new(row)));
            }
        }
        for (parent, key) in missing.into_iter().cloned().collect::<Vec<_>>() {
            let hit = hits.get(&(parent, key.clone())).copied();
            self.names.entry((parent, key)).or_insert(hit);
        }
        Ok(())
    }

    /// A folder's sums.
    pub async fn folder(&mut self, node: NodeId) -> Result<Option<Folder>> {
        if let Some(known) = self.folders.get(&node) {
            return Ok(Some(*known));
        }
        let found = rows::folder(&mut self.conn, node).await?;
        if let Some(folder) = found {
            self.folders.insert(node, folder);
        }
        Ok(found)
    }

    /// The way from a node up to the top of its shelf, itself first. `None` if it is not alive.
    pub async fn chain(&mut self, node: NodeId) -> Result<Option<Vec<Arc<Row>>>> {
        let mut chain = Vec::new();
        let mut next = Some(node);
        while let Some(id) = next {
            let Some(row) = self.row(id).await? else { return Ok(None) };
            next = row.parent;
            chain.push(row);
        }
        Ok(Some(chain))
    }

    /// The chain of a node that is alive, on whose shelf the actor has at least this level.
    pub async fn require(&mut self, actor: &Actor, node: NodeId, need: Level) -> Result<Vec<Arc<Row>>> {
        let gone = || StoreError::NotFound("The file or folder".into());
        let chain = self.chain(node).await?.ok_or_else(gone)?;
        access::need(self.level(actor, &chain)?, need)?;
        Ok(chain)
    }

    /// Whoever acts, with the rights of this moment.
    pub fn viewer(&self, actor: &Actor) -> Viewer {
        Viewer::of(self.access.clone(), actor, self.now)
    }

    /// What the actor may do at the end of a way, the node first.
    pub fn level(&self, actor: &Actor, chain: &[Arc<Row>]) -> Result<Option<Level>> {
        let top = chain.last().ok_or_else(|| StoreError::NotFound("The file or folder".into()))?;
        Ok(self.viewer(actor).standing(top.shelf, chain.iter().map(|r| r.node)).level())
    }

    /// Rights changed: what is decided from here on goes by the new ones.
    pub async fn reload_access(&mut self) -> Result<()> {
        self.access_behind = false;
        let mut access = Access::load(&mut self.conn).await?;
        // Shelves of this group are not written yet.
        self.group.new_shelves.iter().for_each(|s| access.add_owner(s));
        self.access = Arc::new(access);
        self.group.access = true;
        Ok(())
    }

    /// Locks changed: what is decided from here on goes by the new ones.
    pub async fn reload_locks(&mut self) -> Result<()> {
        self.locks = Arc::new(crate::rights::locks::load(&mut self.conn).await?);
        self.group.locks = true;
        Ok(())
    }

    /// How a node's place is written for people.
    pub async fn path(&mut self, node: NodeId) -> Result<String> {
        let Some(row) = self.row(node).await? else { return Ok(format!("(removed) #{node}")) };
        match row.parent {
            None => Ok(self.shelves.get(&row.shelf).map_or_else(String::new, |s| shelf_word(s))),
            Some(parent) => Ok(format!("{}/{}", self.folder_path(parent).await?, row.name())),
        }
    }

    /// The path of a folder, remembered for the group: many files go into one folder.
    pub async fn folder_path(&mut self, node: NodeId) -> Result<Arc<str>> {
        if let Some(known) = self.paths.get(&node) {
            return Ok(known.clone());
        }
        let path: Arc<str> = Box::pin(self.path(node)).await?.into();
        self.paths.insert(node, path.clone());
        Ok(path)
    }

    /// Whether anything beneath a folder is in a state that began after a number.
    pub async fn changed_beneath(&mut self, top: &[Arc<Row>], seen: Moment) -> Result<bool> {
        let (node, shelf) = (top[0].node, top[top.len() - 1].shelf);
        let mut after = (seen, NodeId(i64::MAX));
        let mut looked_at = 0;
        let mut own: Vec<NodeId> = self.group.touched.keys().copied().collect();
        loop {
            let found = rows::changed_on(&mut self.conn, shelf, after, LOOKED_AT_ONCE).await?;
            looked_at += found.len();
            if let Some(last) = found.last() {
                after = *last;
            }
            let whole = found.len() < LOOKED_AT_ONCE;
            own.extend(found.into_iter().map(|(_, node)| node));
            for changed in std::mem::take(&mut own) {
                let Some(chain) = self.chain(changed).await? else { continue };
                if chain[0].since > seen && chain.iter().any(|row| row.node == node) {
                    return Ok(true);
                }
            }
            // Whoever knows so little of the present looks again first.
            if whole || looked_at > MOST_LOOKED_AT {
                return Ok(!whole);
            }
        }
    }

    // --- deciding ---

    /// Takes the next number on the timeline.
    pub fn next_moment(&mut self) -> Moment {
        if let Some(one) = self.group.one {
            return one;
        }
        self.heads.moment += 1;
        self.group.first_moment.get_or_insert(self.heads.moment);
        Moment(self.heads.moment)
    }

    /// A new node's id.
    pub fn next_node(&mut self) -> NodeId {
        self.heads.node += 1;
        NodeId(self.heads.node)
    }

    /// Opens a row.
    pub fn open_row(&mut self, row: Row, existed: bool) {
        self.above_removed.remove(&row.node);
        self.group.touched.entry(row.node).or_insert(existed);
        if let Some(parent) = row.parent {
            self.names.insert((parent, row.key.clone()), Some(row.node));
        }
        if row.is_folder() {
            self.paths.clear();
        }
        self.rows.insert(row.node, Some(Arc::new(row)));
    }

    /// Ends the open row of a node at a number.
    pub fn end_row(&mut self, row: &Row, at: Moment, how: ChangeKind, actor: &Actor) {
        self.group.touched.entry(row.node).or_insert(true);
        if let Some(parent) = row.parent {
            self.names.insert((parent, row.key.clone()), None);
        }
        self.rows.insert(row.node, None);
        if row.is_folder() {
            self.paths.clear();
            self.above_removed.insert(row.node, row.parent);
        }
        self.add_past(row.clone(), at, how, actor);
    }

    /// The state that was ended last holds no bytes.
    pub fn let_last_go(&mut self) {
        if let Some(last) = self.group.ended.last_mut() {
            last.held = false;
        }
    }

    /// The row of something removed goes for good: it is nowhere any more.
    pub fn erase_row(&mut self, row: &Row) {
        self.group.touched.entry(row.node).or_insert(true);
        if let Some(parent) = row.parent {
            self.names.insert((parent, row.key.clone()), None);
        }
        self.rows.insert(row.node, None);
        self.folders.remove(&row.node);
        self.group.sums.remove(&row.node);
    }

    /// What a node was last is a version of it from here on, no longer in the trash.
    pub async fn untrash(&mut self, node: NodeId) -> Result<()> {
        let last = match self.group.ended.iter().rev().find(|p| p.row.node == node) {
            Some(last) => Some(last.clone()),
            None => crate::catalogue::rows::past_of(&mut self.conn, node, 1).await?.into_iter().next(),
        };
        let Some(last) = last.filter(|p| p.ended_how == ChangeKind::Removed && p.held) else { return Ok(()) };
        if let (Some(content), Some(parent)) = (last.row.content, last.row.parent)
            && content.life == ContentState::Past
        {
            let delta = Delta { trash_bytes: -content.size, trash_files: -1, ..Delta::default() };
            self.charge(parent, delta, 0).await?;
        }
        Ok(())
    }

    /// Enters a state that is already over.
    pub fn add_past(&mut self, row: Row, until: Moment, how: ChangeKind, actor: &Actor) {
        if row.since >= until {
            return;
        }
        self.group.ended.push(PastRow {
            row,
            until,
            ended_at: self.now,
            ended_how: how,
            ended_account: actor.author(),
            ended_device: actor.device,
            held: true,
        });
    }

    /// A new content.
    pub fn add_content(&mut self, content: Content) {
        self.group.contents.push((content, None));
    }

    /// The same, of which is known how much it looks like noise.
    pub fn add_measured(&mut self, content: Content, noise: u16) {
        self.group.contents.push((content, Some(noise)));
    }

    /// A content goes on in its life.
    pub fn set_content(&mut self, content: Content) {
        match self.group.contents.iter_mut().find(|(c, _)| c.id == content.id) {
            Some(new) => new.0 = content,
            None => {
                self.group.lives.insert(content.id, content);
            }
        }
    }

    pub fn set_folder(&mut self, node: NodeId, folder: Folder) {
        self.folders.insert(node, folder);
        self.group.sums.insert(node);
    }

    /// Owes the disk a rename. Returns its mark.
    pub fn add_task(&mut self, mut task: Task) -> i64 {
        self.heads.mark += 1;
        task.mark = self.heads.mark;
        self.group.tasks.push(task);
        self.heads.mark
    }

    /// Writes a row of the record.
    pub fn add_record(
        &mut self,
        actor: &Actor,
        action: &str,
        node: Option<NodeId>,
        what: &str,
        detail: &str,
    ) {
        let head = (self.heads.record, self.heads.link);
        self.heads.record += 1;
        let device = actor.device.map_or_else(String::new, |d| d.0.to_string());
        let fields = [action, &*actor.who, &device, &*actor.from, what, detail];
        let mut salt = [0u8; 16];
        // Without randomness a salt is only predictable, never wrong: go on with zeros.
        let _ = getrandom::fill(&mut salt);
        let digest = record::digest(&salt, &fields);
        let (number, account) = (self.heads.record, actor.author().map(|a| a.0));
        let covered = record::Covered { number, at_ms: self.now, action, account, node: node.map(|n| n.0) };
        self.heads.link = record::link_all(&head.1, covered, &digest);
        let (key, mac) = self.record_key.mark(self.now, (head.0, &head.1), &self.heads.link);
        self.group.records.push(json!([
            self.heads.record,
            self.now,
            action,
            actor.author(),
            node,
            serde_json::to_string(&fields).unwrap_or_default(),
            hex(&salt),
            hex(&digest),
            hex(&self.heads.link),
            key,
            hex(&mac)
        ]));
    }

    /// Has work done later, in steps.
    pub fn add_job(&mut self, kind: &str, node: NodeId, moment: Moment, due: i64) {
        self.group.jobs.push(json!([kind, node, moment, due]));
    }

    /// Reports something found on the disk.
    pub fn add_finding(&mut self, kind: &str, node: Option<NodeId>, detail: &str) {
        self.group.findings.push(json!([self.now, kind, node, detail]));
    }

    /// An upload became a file.
    pub fn finish_upload(&mut self, id: String, node: NodeId) {
        self.group.uploads.push(json!([id, node]));
    }

    /// The shelves as the catalogue has them: what was not written counts no more.
    pub fn set_shelves(&mut self, shelves: HashMap<ShelfId, Arc<Shelf>>, last: i64) {
        self.names_of_shelves = shelves.values().map(|s| (s.kind, s.name.clone())).collect();
        self.last_shelf = last;
        self.shelves = shelves;
    }

    /// Whether a shelf has this name.
    pub fn shelf_named(&self, kind: ShelfKind, name: &str) -> bool {
        self.names_of_shelves.contains(&(kind, name.to_string()))
    }

    /// The id of the next shelf.
    pub fn next_shelf(&self) -> ShelfId {
        ShelfId(self.last_shelf + 1)
    }

    /// Enters a new shelf.
    pub fn add_shelf(&mut self, shelf: Shelf) {
        let shelf = Arc::new(shelf);
        Arc::make_mut(&mut self.access).add_owner(&shelf);
        self.group.access = true;
        self.shelves.insert(shelf.id, shelf.clone());
        self.names_of_shelves.insert((shelf.kind, shelf.name.clone()));
        self.last_shelf = self.last_shelf.max(shelf.id.0);
        self.group.new_shelves.push(shelf);
    }

    /// A shelf is none any more. What was on it stays in the past under its id.
    pub fn end_shelf(&mut self, shelf: &Shelf) {
        self.shelves.remove(&shelf.id);
        self.names_of_shelves.remove(&(shelf.kind, shelf.name.clone()));
        self.group.ended_shelves.push(shelf.id);
        self.group.access = true;
    }
}

pub(crate) async fn load_heads(conn: &mut SqliteConnection) -> Result<Counters> {
    type Raw = (i64, i64, i64, i64, i64, i64, Vec<u8>, i64, i64);
    let (moment, at, node, mark, placed, record, link, commits, content): Raw =
        sqlx::query_as("SELECT moment, at, node, mark, placed, record, link, commits, content FROM heads")
            .fetch_one(conn)
            .await?;
    let link = link.try_into().map_err(|_| StoreError::Catalogue("heads.link has a wrong length".into()))?;
    Ok(Counters { moment, at, node, mark, placed, record, link, commits, content })
}

/// How a shelf is written in paths.
pub(crate) fn shelf_word(shelf: &Shelf) -> String {
    match shelf.kind {
        crate::fs::model::ShelfKind::Home => format!("home of {}:", shelf.name),
        crate::fs::model::ShelfKind::Shared => format!("{}:", shelf.name),
    }
}

/// Joins SQL from constants.
pub(crate) fn constcat(a: &str, b: &str, c: &str, d: &str, e: &str) -> sqlx::AssertSqlSafe<String> {
    sqlx::AssertSqlSafe(format!("{a}{b}{c}{d}{e}"))
}

//! Locks: all that hold are in memory, with the writer and with readers; each change of them is in the catalogue
//! before it is answered. Whoever changes something must pass them, whichever way they came.

use crate::catalogue::rows::parse;
use crate::engine::Engine;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, Row};
use crate::txn::write_txn::WriteTxn;
use crate::txn::writer::Operation;
use async_recursion::async_recursion as boxed;
use sqlx::SqliteConnection;
use std::collections::HashMap;
use std::sync::Arc;
use yellow_attic_core::locks::{Lock, MOST_HELD, Touch, barred, conflict};
use yellow_attic_core::rights::Level;
use yellow_attic_core::{AccountId, NodeId};

/// A lock, with what is shown of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Held {
    /// What it keeps others from.
    pub lock: Lock,
    /// Its holder, as everybody may read it.
    pub who: String,
    /// When it was taken, in milliseconds.
    pub made_at: i64,
}

/// Everything that is locked.
pub(crate) type Locks = Vec<Held>;

/// A lock that is asked for.
#[derive(Clone, Debug)]
pub struct NewLock {
    /// Where.
    pub node: NodeId,
    /// For all beneath too.
    pub deep: bool,
    /// Whether nobody else may hold one.
    pub exclusive: bool,
    /// Whether its holder must name the token.
    pub by_token: bool,
    /// Who the holder says to be.
    pub owner: Option<String>,
    /// How long it lives, in milliseconds.
    pub lives_ms: i64,
}

/// A change of locks.
#[derive(Clone, Debug)]
pub(crate) enum Locking {
    Take(NewLock, String),
    Refresh(NodeId, String, Option<i64>),
    Release(NodeId, String),
    End(NodeId),
}

type LockJson = (String, i64, i64, i64, i64, String, i64, Option<String>, i64, i64, i64);

pub(crate) async fn load(conn: &mut SqliteConnection) -> Result<Locks> {
    let text: String = sqlx::query_scalar(
        "SELECT json_group_array(json_array(token, node, deep, exclusive, account, who, by_token, owner, lives_ms, made_at, until))
         FROM (SELECT l.token, l.node, l.deep, l.exclusive, l.account, l.by_token, l.owner, l.lives_ms, l.made_at, l.until,
                 -- Strangers may read it, too: nobody's name to sign in with, as long as there is another.
                 coalesce((SELECT nullif(a.display_name, '') FROM accounts a WHERE a.id = l.account), l.who) AS who
               FROM locks l ORDER BY l.made_at, l.token)",
    )
    .fetch_one(conn)
    .await?;
    let rows = parse::<Vec<LockJson>>(&text)?;
    let held = rows.into_iter().map(
        |(token, node, deep, exclusive, holder, who, by_token, owner, lives_ms, made_at, until)| Held {
            lock: Lock {
                token,
                node: NodeId(node),
                deep: deep != 0,
                exclusive: exclusive != 0,
                holder: AccountId(holder),
                by_token: by_token != 0,
                owner,
                lives_ms,
                until,
            },
            who,
            made_at,
        },
    );
    Ok(held.collect())
}

/// Who may hold a lock: a stranger who comes through somebody's link is not them.
fn holder(actor: &Actor) -> Option<AccountId> {
    actor.account.filter(|_| actor.through.is_none())
}

fn refused(name: &str, held: &Held) -> StoreError {
    StoreError::Locked {
        name: name.to_string(),
        node: held.lock.node,
        by: held.who.clone(),
        until: held.lock.until,
        by_token: held.lock.by_token,
    }
}

/// The ways of all locks' own nodes.
async fn ways(txn: &mut WriteTxn) -> Result<HashMap<NodeId, Vec<NodeId>>> {
    let nodes: Vec<NodeId> = txn.locks.iter().map(|h| h.lock.node).collect();
    let mut found = HashMap::new();
    for node in nodes {
        if let Some(chain) = txn.chain(node).await? {
            found.insert(node, chain.iter().map(|r| r.node).collect());
        }
    }
    Ok(found)
}

impl WriteTxn {
    /// Refuses a change of a node's bytes or properties, or of which names are in a folder, that somebody's
    /// lock stands against. `chain`: the node first.
    pub fn check_lock(&self, actor: &Actor, chain: &[Arc<Row>]) -> Result<()> {
        if self.locks.is_empty() {
            return Ok(());
        }
        let way: Vec<NodeId> = chain.iter().map(|r| r.node).collect();
        let none = |_: NodeId| None;
        let all = self.locks.iter().map(|h| &h.lock);
        let found = barred(all, Touch::Itself(&way), holder(actor), actor.tokens.list(), self.now, none);
        self.told(found, chain)
    }

    /// The same for a node that goes from its place with all beneath.
    pub async fn check_locks_beneath(&mut self, actor: &Actor, chain: &[Arc<Row>]) -> Result<()> {
        if self.locks.is_empty() {
            return Ok(());
        }
        let ways = ways(self).await?;
        let way: Vec<NodeId> = chain.iter().map(|r| r.node).collect();
        let way_of = |n: NodeId| ways.get(&n).map(Vec::as_slice);
        let all = self.locks.iter().map(|h| &h.lock);
        let found = barred(all, Touch::Whole(&way), holder(actor), actor.tokens.list(), self.now, way_of);
        self.told(found, chain)
    }

    fn told(&self, found: Option<&Lock>, chain: &[Arc<Row>]) -> Result<()> {
        let Some(held) = found.and_then(|l| self.locks.iter().find(|h| h.lock.token == l.token)) else {
            return Ok(());
        };
        let name = chain.iter().find(|r| r.node == held.lock.node).or(chain.first());
        Err(refused(name.map_or("", |r| r.name()), held))
    }

    /// What leaves its place leaves its locks behind. Asked before it does; refuses nothing.
    pub async fn end_locks_beneath(&mut self, node: NodeId) -> Result<()> {
        if self.locks.is_empty() {
            return Ok(());
        }
        let ways = ways(self).await?;
        let gone = |h: &Held| ways.get(&h.lock.node).is_none_or(|way| way.contains(&node));
        let ended: Vec<String> =
            self.locks.iter().filter(|h| gone(h)).map(|h| h.lock.token.clone()).collect();
        if !ended.is_empty() {
            Arc::make_mut(&mut self.locks).retain(|h| !ended.contains(&h.lock.token));
            self.group.end_locks(ended);
        }
        Ok(())
    }
}

/// Decides and writes a change of locks. Refused, it has changed nothing.
pub(crate) async fn apply(txn: &mut WriteTxn, actor: &Actor, change: &Locking) -> Result<Option<Held>> {
    let account = holder(actor);
    let now = txn.now;
    let gone = || StoreError::NotFound("The lock".into());
    let done = match change {
        Locking::Take(new, token) => {
            let account = account.ok_or(StoreError::NotAllowed { need: "edit", have: "view" })?;
            let chain = txn.require(actor, new.node, Level::Edit).await?;
            let way: Vec<NodeId> = chain.iter().map(|r| r.node).collect();
            let ways = ways(txn).await?;
            let way_of = |n: NodeId| ways.get(&n).map(Vec::as_slice);
            let all = txn.locks.iter().map(|h| &h.lock);
            if let Some(other) = conflict(all, &way, new.deep, new.exclusive, now, way_of) {
                let held = txn.locks.iter().find(|h| h.lock.token == other.token).ok_or_else(gone)?;
                return Err(refused(chain[0].name(), held));
            }
            if txn.locks.iter().filter(|h| h.lock.holder == account && h.lock.holds(now)).count() >= MOST_HELD
            {
                return Err(StoreError::BadInput(format!(
                    "One account may hold {MOST_HELD} locks; end some that are no longer needed."
                )));
            }
            sqlx::query("DELETE FROM locks WHERE until <= ?").bind(now).execute(&mut txn.conn).await?;
            sqlx::query("INSERT INTO locks VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)")
                .bind(token)
                .bind(new.node.0)
                .bind(new.deep)
                .bind(new.exclusive)
                .bind(account.0)
                .bind(&*actor.who)
                .bind(new.by_token)
                .bind(&new.owner)
                .bind(new.lives_ms)
                .bind(now)
                .bind(now + new.lives_ms)
                .execute(&mut txn.conn)
                .await?;
            let what = txn.path(new.node).await?;
            txn.add_record(
                actor,
                "locked",
                Some(new.node),
                &what,
                if new.deep { "with all beneath" } else { "" },
            );
            Some(token.clone())
        }
        Locking::Refresh(node, token, lives) => {
            let chain = txn.require(actor, *node, Level::Edit).await?;
            let way: Vec<NodeId> = chain.iter().map(|r| r.node).collect();
            let its = |h: &&Held| h.lock.token == *token && h.lock.holds(now) && h.lock.covers(&way);
            let held =
                txn.locks.iter().find(its).filter(|h| Some(h.lock.holder) == account).ok_or_else(gone)?;
            let lives = lives.unwrap_or(held.lock.lives_ms);
            sqlx::query("UPDATE locks SET lives_ms = ?, until = ? WHERE token = ?")
                .bind(lives)
                .bind(now + lives)
                .bind(token)
                .execute(&mut txn.conn)
                .await?;
            Some(token.clone())
        }
        Locking::Release(node, token) => {
            let chain = txn.require(actor, *node, Level::View).await?;
            let way: Vec<NodeId> = chain.iter().map(|r| r.node).collect();
            let its = |h: &&Held| h.lock.token == *token && h.lock.holds(now) && h.lock.covers(&way);
            let held = txn.locks.iter().find(its).cloned().ok_or_else(gone)?;
            if Some(held.lock.holder) != account {
                return Err(refused(chain[0].name(), &held));
            }
            end(txn, actor, &[held]).await?;
            None
        }
        Locking::End(node) => {
            let chain = txn.require(actor, *node, Level::View).await?;
            let here: Vec<Held> =
                txn.locks.iter().filter(|h| h.lock.node == *node && h.lock.holds(now)).cloned().collect();
            if here.is_empty() {
                return Err(gone());
            }
            // One's own; all, for whoever manages the place.
            let all = txn.level(actor, &chain)? == Some(Level::Manage);
            let mine: Vec<Held> =
                here.iter().filter(|h| all || Some(h.lock.holder) == account).cloned().collect();
            if mine.is_empty() {
                return Err(refused(chain[0].name(), &here[0]));
            }
            end(txn, actor, &mine).await?;
            None
        }
    };
    txn.reload_locks().await?;
    Ok(done.and_then(|token| txn.locks.iter().find(|h| h.lock.token == token).cloned()))
}

async fn end(txn: &mut WriteTxn, actor: &Actor, these: &[Held]) -> Result<()> {
    for held in these {
        sqlx::query("DELETE FROM locks WHERE token = ?")
            .bind(&held.lock.token)
            .execute(&mut txn.conn)
            .await?;
        let what = txn.path(held.lock.node).await?;
        let of = format!("of {}", held.who);
        txn.add_record(actor, "unlocked", Some(held.lock.node), &what, &of);
    }
    Ok(())
}

/// Follows locks as they are taken, live on, and end.
pub struct LocksWatch {
    seen: Arc<Locks>,
    changed: tokio::sync::watch::Receiver<Arc<Locks>>,
}

impl LocksWatch {
    /// Waits for a change: the nodes on which locks are others now. None when the engine is gone.
    pub async fn next(&mut self) -> Option<Vec<NodeId>> {
        self.changed.changed().await.ok()?;
        let now = self.changed.borrow_and_update().clone();
        let is_in = |held: &Held, all: &Locks| {
            all.iter().any(|h| h.lock.token == held.lock.token && h.lock.until == held.lock.until)
        };
        let other =
            now.iter().filter(|h| !is_in(h, &self.seen)).chain(self.seen.iter().filter(|h| !is_in(h, &now)));
        let mut nodes: Vec<NodeId> = other.map(|h| h.lock.node).collect();
        nodes.sort_unstable();
        nodes.dedup();
        self.seen = now;
        Some(nodes)
    }
}

impl Engine {
    /// Follows locks from now on.
    pub fn locks_watch(&self) -> LocksWatch {
        let mut changed = self.shared.view.locks_changed();
        let seen = changed.borrow_and_update().clone();
        LocksWatch { seen, changed }
    }

    /// Locks that lie over a way (the node first, the top last), those of folders above that hold beneath too.
    pub fn locks_over(&self, way: &[NodeId]) -> Vec<Held> {
        let locks = self.shared.view.locks();
        let now = self.now_ms();
        locks.iter().filter(|h| h.lock.holds(now) && h.lock.covers(way)).cloned().collect()
    }

    /// Refuses what would be refused at the commit, before a byte is sent. `way`: the node first.
    pub(crate) fn check_lock(&self, actor: &Actor, way: &[Arc<Row>]) -> Result<()> {
        let locks = self.shared.view.locks();
        if locks.is_empty() {
            return Ok(());
        }
        let nodes: Vec<NodeId> = way.iter().map(|r| r.node).collect();
        let (touch, who) = (Touch::Itself(&nodes), holder(actor));
        let all = locks.iter().map(|h| &h.lock);
        match barred(all, touch, who, actor.tokens.list(), self.now_ms(), |_| None) {
            None => Ok(()),
            Some(lock) => {
                let held = locks.iter().find(|h| h.lock.token == lock.token);
                let name = way.iter().find(|r| r.node == lock.node).or(way.first());
                held.map_or(Ok(()), |h| Err(refused(name.map_or("", |r| r.name()), h)))
            }
        }
    }

    /// Whether anything at all is locked. Costs no look-up.
    pub fn has_locks(&self) -> bool {
        !self.shared.view.locks().is_empty()
    }

    /// Every lock that holds, by the node on which it lies: for lists, so that they ask once.
    pub fn locks_by_node(&self) -> HashMap<NodeId, Vec<Held>> {
        let locks = self.shared.view.locks();
        let now = self.now_ms();
        let mut found: HashMap<NodeId, Vec<Held>> = HashMap::new();
        for held in locks.iter().filter(|h| h.lock.holds(now)) {
            found.entry(held.lock.node).or_default().push(held.clone());
        }
        found
    }

    /// Takes a lock, named by a token that nobody else knows.
    #[boxed]
    pub async fn lock(&self, actor: &Actor, new: NewLock) -> Result<Held> {
        let token = new_token()?;
        let actor = actor.clone();
        let taken = self
            .ask(|answer| Operation::Locking { actor, change: Locking::Take(new, token), answer })
            .await?;
        taken.ok_or_else(|| StoreError::NotFound("The lock".into()))
    }

    /// Lets a lock live on.
    #[boxed]
    pub async fn refresh_lock(
        &self,
        actor: &Actor,
        node: NodeId,
        token: &str,
        lives_ms: Option<i64>,
    ) -> Result<Held> {
        let (actor, change) = (actor.clone(), Locking::Refresh(node, token.into(), lives_ms));
        let held = self.ask(|answer| Operation::Locking { actor, change, answer }).await?;
        held.ok_or_else(|| StoreError::NotFound("The lock".into()))
    }

    /// Ends the lock of this token over a node.
    #[boxed]
    pub async fn release_lock(&self, actor: &Actor, node: NodeId, token: &str) -> Result<()> {
        let (actor, change) = (actor.clone(), Locking::Release(node, token.into()));
        self.ask(|answer| Operation::Locking { actor, change, answer }).await.map(drop)
    }

    /// Ends one's own locks on a node, whatever took them; for whoever manages it, all.
    #[boxed]
    pub async fn end_locks(&self, actor: &Actor, node: NodeId) -> Result<()> {
        let (actor, change) = (actor.clone(), Locking::End(node));
        self.ask(|answer| Operation::Locking { actor, change, answer }).await.map(drop)
    }
}

/// A URN of a random UUID (RFC 9562, version 4).
fn new_token() -> Result<String> {
    let mut b = [0u8; 16];
    getrandom::fill(&mut b)
        .map_err(|e| StoreError::Io { context: "making a token".into(), reason: e.to_string() })?;
    b[6] = b[6] & 0x0f | 0x40;
    b[8] = b[8] & 0x3f | 0x80;
    let h = crate::fs::disk::hex(&b);
    Ok(format!("urn:uuid:{}-{}-{}-{}-{}", &h[..8], &h[8..12], &h[12..16], &h[16..20], &h[20..]))
}

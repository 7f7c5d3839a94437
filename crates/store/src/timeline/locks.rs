//! Locks as they are asked for, taken, told and ended.

use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, Row};
use crate::ops::locks::{ChangeLocks, holder, refused};
use crate::rights::locks::{Held, Locking, Locks, NewLock};
use crate::timeline::Files;
use async_recursion::async_recursion as boxed;
use std::collections::HashMap;
use std::sync::Arc;
use yellow_attic_core::NodeId;
use yellow_attic_core::locks::{Touch, barred};

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

impl Files {
    /// Follows locks from now on.
    pub fn locks_watch(&self) -> LocksWatch {
        let mut changed = self.0.shared.view.locks_changed();
        let seen = changed.borrow_and_update().clone();
        LocksWatch { seen, changed }
    }

    /// Locks that lie over a way (the node first, the top last), those of folders above that hold beneath too.
    pub fn locks_over(&self, way: &[NodeId]) -> Vec<Held> {
        let locks = self.0.shared.view.locks();
        let now = self.0.now_ms();
        locks.iter().filter(|h| h.lock.holds(now) && h.lock.covers(way)).cloned().collect()
    }

    /// Refuses what would be refused at the commit, before a byte is sent. `way`: the node first.
    pub(crate) fn check_lock(&self, actor: &Actor, way: &[Arc<Row>]) -> Result<()> {
        let locks = self.0.shared.view.locks();
        if locks.is_empty() {
            return Ok(());
        }
        let nodes: Vec<NodeId> = way.iter().map(|r| r.node).collect();
        let (touch, who) = (Touch::Itself(&nodes), holder(actor));
        let all = locks.iter().map(|h| &h.lock);
        match barred(all, touch, who, actor.tokens.list(), self.0.now_ms(), |_| None) {
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
        !self.0.shared.view.locks().is_empty()
    }

    /// Every lock that holds, by the node on which it lies: for lists, so that they ask once.
    pub fn locks_by_node(&self) -> HashMap<NodeId, Vec<Held>> {
        let locks = self.0.shared.view.locks();
        let now = self.0.now_ms();
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
        let taken = self.0.ask(ChangeLocks { actor, change: Locking::Take(new, token) }).await?;
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
        let held = self.0.ask(ChangeLocks { actor, change }).await?;
        held.ok_or_else(|| StoreError::NotFound("The lock".into()))
    }

    /// Ends the lock of this token over a node.
    #[boxed]
    pub async fn release_lock(&self, actor: &Actor, node: NodeId, token: &str) -> Result<()> {
        let (actor, change) = (actor.clone(), Locking::Release(node, token.into()));
        self.0.ask(ChangeLocks { actor, change }).await.map(drop)
    }

    /// Ends one's own locks on a node, whatever took them; for whoever manages it, all.
    #[boxed]
    pub async fn end_locks(&self, actor: &Actor, node: NodeId) -> Result<()> {
        let (actor, change) = (actor.clone(), Locking::End(node));
        self.0.ask(ChangeLocks { actor, change }).await.map(drop)
    }
}

/// A URN of a random UUID (RFC 9562, version 4).
fn new_token() -> Result<String> {
    let mut b = [0u8; 16];
    getrandom::fill(&mut b).map_err(|e| StoreError::io("making a token", &std::io::Error::other(e)))?;
    b[6] = b[6] & 0x0f | 0x40;
    b[8] = b[8] & 0x3f | 0x80;
    let h = crate::fs::disk::hex(&b);
    Ok(format!("urn:uuid:{}-{}-{}-{}-{}", &h[..8], &h[8..12], &h[12..16], &h[16..20], &h[20..]))
}

//! Taking and ending locks, and whom they keep from changing something.

use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, Row};
use crate::rights::locks::{Held, Locking};
use crate::txn::operation::{Around, Operation};
use crate::txn::write_txn::WriteTxn;
use std::collections::HashMap;
use std::sync::Arc;
use yellow_attic_core::locks::{Lock, MOST_HELD, Touch, barred, conflict};
use yellow_attic_core::rights::Level;
use yellow_attic_core::{AccountId, NodeId};

/// Who may hold a lock: a stranger who comes through somebody's link is not them.
pub(crate) fn holder(actor: &Actor) -> Option<AccountId> {
    actor.account.filter(|_| actor.through.is_none())
}

pub(crate) fn refused(name: &str, held: &Held) -> StoreError {
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

/// Takes, prolongs or ends locks.
pub(crate) struct ChangeLocks {
    pub actor: Actor,
    pub change: Locking,
}

impl Operation for ChangeLocks {
    type Told = Option<Held>;

    fn writes_by_itself(&self) -> bool {
        true
    }

    fn within_savepoint(&self) -> bool {
        true
    }

    async fn decide(&mut self, txn: &mut WriteTxn, _: &mut Around<'_>) -> Result<Option<Held>> {
        apply(txn, &self.actor, &self.change).await
    }
}

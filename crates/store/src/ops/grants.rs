//! Giving and taking rights.

use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, Row};
use crate::rights::access::LetIn;
use crate::txn::operation::{Around, Operation};
use crate::txn::write_txn::WriteTxn;
use sqlx::SqliteConnection;
use std::sync::Arc;
use yellow_attic_core::rights::{Gives, Level, Subject};
use yellow_attic_core::{AccountId, GrantId, GroupId, NodeId};

/// The longest message that goes with a grant, in bytes.
pub const LONGEST_MESSAGE: usize = 2_000;

/// A grant to be given. A subject has one grant on a node: a new one takes the place of the old.
#[derive(Clone, Debug)]
pub struct NewGrant {
    /// Where.
    pub node: NodeId,
    /// To whom.
    pub subject: Subject,
    /// What.
    pub gives: Gives,
    /// Until when, in milliseconds.
    pub until: Option<i64>,
    /// A word to whom it is given.
    pub message: String,
}

/// A change of rights.
#[derive(Clone, Debug)]
pub(crate) enum Granting {
    Give(NewGrant),
    End(GrantId),
    Afresh(NodeId, bool),
}

pub(crate) async fn insert(
    conn: &mut SqliteConnection,
    actor: &Actor,
    new: &NewGrant,
    now: i64,
) -> Result<GrantId> {
    let (account, group) = match new.subject {
        Subject::Account(account) => (Some(account.0), None),
        Subject::Group(group) => (None, Some(group.0)),
        Subject::Everyone => (None, None),
    };
    let id: i64 = sqlx::query_scalar(
        "INSERT INTO grants (org, node, account, grp, level, until, message, made_by, made_at)
         VALUES (1, ?, ?, ?, ?, ?, ?, ?, ?)
         ON CONFLICT DO UPDATE SET level = excluded.level, until = excluded.until, message = excluded.message,
           made_by = excluded.made_by, made_at = excluded.made_at
         RETURNING id",
    )
    .bind(new.node.0)
    .bind(account)
    .bind(group)
    .bind(new.gives.word())
    .bind(new.until)
    .bind(&new.message)
    .bind(actor.account.map(|a| a.0))
    .bind(now)
    .fetch_one(conn)
    .await?;
    Ok(GrantId(id))
}

async fn subject_word(conn: &mut SqliteConnection, subject: Subject) -> Result<Option<String>> {
    let (text, id) = match subject {
        Subject::Everyone => return Ok(Some("everyone".into())),
        Subject::Account(id) => ("SELECT sign_in FROM accounts WHERE id = ?", id.0),
        Subject::Group(id) => ("SELECT 'group:' || name FROM groups WHERE id = ?", id.0),
    };
    Ok(sqlx::query_scalar(text).bind(id).fetch_optional(conn).await?)
}

/// Decides and writes a change of rights. Refused, it has changed nothing.
pub(crate) async fn apply(txn: &mut WriteTxn, actor: &Actor, change: &Granting) -> Result<GrantId> {
    let done = match change {
        Granting::Give(new) => {
            let chain = txn.require(actor, new.node, Level::Manage).await?;
            let shelf = chain.last().map_or_else(Default::default, |top| top.shelf);
            if matches!(new.subject, Subject::Account(a) if txn.access.owns(a, shelf)) {
                return Err(StoreError::BadInput(
                    "The owner of the shelf may do everything on it; nothing can be given or denied them."
                        .into(),
                ));
            }
            if new.until.is_some_and(|until| until <= txn.now) {
                return Err(StoreError::BadInput("The end lies in the past.".into()));
            }
            if new.message.len() > LONGEST_MESSAGE {
                return Err(StoreError::BadInput(format!(
                    "The message is longer than {LONGEST_MESSAGE} bytes."
                )));
            }
            let Some(who) = subject_word(&mut txn.conn, new.subject).await? else {
                return Err(StoreError::NotFound("The account or group".into()));
            };
            let id = insert(&mut txn.conn, actor, new, txn.now).await?;
            let what = txn.path(new.node).await?;
            let action = if new.gives == Gives::Deny { "access denied" } else { "access given" };
            txn.add_record(actor, action, Some(new.node), &what, &format!("{} to {who}", new.gives.word()));
            id
        }
        Granting::End(id) => {
            let found: Option<(i64, String, Option<i64>, Option<i64>)> =
                sqlx::query_as("SELECT node, level, account, grp FROM grants WHERE id = ?")
                    .bind(id.0)
                    .fetch_optional(&mut txn.conn)
                    .await?;
            let gone = || StoreError::NotFound("The grant".into());
            let (node, level, account, group) = found.ok_or_else(gone)?;
            let node = NodeId(node);
            // Whoever has something may give it back.
            let mine = level != "deny" && account.is_some() && account == actor.account.map(|a| a.0);
            if !mine {
                txn.require(actor, node, Level::Manage).await.map_err(|e| match e {
                    StoreError::NotFound(_) => gone(),
                    other => other,
                })?;
            }
            let subject = match (account, group) {
                (Some(account), _) => Subject::Account(AccountId(account)),
                (None, Some(group)) => Subject::Group(GroupId(group)),
                (None, None) => Subject::Everyone,
            };
            let who = subject_word(&mut txn.conn, subject).await?.unwrap_or_default();
            sqlx::query("DELETE FROM grants WHERE id = ?").bind(id.0).execute(&mut txn.conn).await?;
            let what = txn.path(node).await?;
            txn.add_record(actor, "access ended", Some(node), &what, &format!("{level} to {who}"));
            *id
        }
        Granting::Afresh(node, afresh) => {
            let chain = txn.require(actor, *node, Level::Manage).await?;
            if chain[0].parent.is_none() {
                return Err(StoreError::ShelfTop);
            }
            let text = match afresh {
                true => "INSERT OR IGNORE INTO afresh (org, node) VALUES (1, ?)",
                false => "DELETE FROM afresh WHERE node = ?",
            };
            sqlx::query(text).bind(node.0).execute(&mut txn.conn).await?;
            // Whoever managed by what is given further up goes on managing here.
            if *afresh {
                let shelf = chain.last().map_or_else(Default::default, |top| top.shelf);
                if let Some(account) = actor.account.filter(|a| !txn.access.owns(*a, shelf)) {
                    let gives = Gives::Allow(Level::Manage);
                    let subject = Subject::Account(account);
                    let new = NewGrant { node: *node, subject, gives, until: None, message: String::new() };
                    insert(&mut txn.conn, actor, &new, txn.now).await?;
                }
            }
            let what = txn.path(*node).await?;
            let action = if *afresh { "rights start afresh" } else { "rights inherited again" };
            txn.add_record(actor, action, Some(*node), &what, "");
            GrantId(0)
        }
    };
    txn.reload_access().await?;
    Ok(done)
}

/// Refuses to move or remove a folder that holds something the actor may not change.
pub(crate) async fn check_beneath(txn: &mut WriteTxn, actor: &Actor, node: NodeId) -> Result<()> {
    let viewer = txn.viewer(actor);
    for bar in viewer.access.bars() {
        if *bar == node {
            continue;
        }
        let Some(chain) = txn.chain(*bar).await? else { continue };
        if chain.iter().any(|r| r.node == node) {
            let shelf = chain.last().map_or_else(Default::default, |top| top.shelf);
            if viewer.standing(shelf, chain.iter().map(|r| r.node)).level() < Some(Level::Edit) {
                return Err(StoreError::HoldsOthers);
            }
        }
    }
    Ok(())
}

/// Refuses a move that lets somebody in who could not see it before, unless the actor may decide
/// that. Both ways are those of the folders above.
pub(crate) async fn check_widening(
    txn: &mut WriteTxn,
    actor: &Actor,
    node: &[Arc<Row>],
    to: &[Arc<Row>],
) -> Result<()> {
    let (Some(from_top), Some(to_top)) = (node.last(), to.last()) else { return Ok(()) };
    let shelf = |txn: &WriteTxn, row: &Row| txn.shelves.get(&row.shelf).cloned();
    let (Some(from_shelf), Some(to_shelf)) = (shelf(txn, from_top), shelf(txn, to_top)) else {
        return Ok(());
    };
    let access = txn.access.clone();
    let before = LetIn::at(&access, &from_shelf, &node[1..], txn.now);
    let after = LetIn::at(&access, &to_shelf, to, txn.now);
    let Some(who) = before.widened_by(&after, &access, access.here(node[0].node)) else { return Ok(()) };
    if txn.level(actor, node)? >= Some(Level::Manage) {
        return Ok(());
    }
    let who = subject_word(&mut txn.conn, who).await?.unwrap_or_default();
    Err(StoreError::Widens(who))
}

/// Gives or takes a right.
pub(crate) struct ChangeGrant {
    pub actor: Actor,
    pub change: Granting,
}

impl Operation for ChangeGrant {
    type Told = GrantId;

    fn writes_by_itself(&self) -> bool {
        true
    }

    fn within_savepoint(&self) -> bool {
        true
    }

    async fn decide(&mut self, txn: &mut WriteTxn, _: &mut Around<'_>) -> Result<GrantId> {
        apply(txn, &self.actor, &self.change).await
    }
}

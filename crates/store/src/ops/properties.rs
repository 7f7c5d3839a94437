//! Properties that programs keep with files and folders, and times that they set.

use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ChangeKind, Row};
use crate::ops::{Outcome, stamped};
use crate::txn::operation::{Around, Operation};
use crate::txn::write_txn::WriteTxn;
use std::collections::HashMap;
use yellow_attic_core::NodeId;
use yellow_attic_core::dav::PropName;
use yellow_attic_core::rights::Level;

/// The longest value, in bytes.
pub const LONGEST: usize = 64 * 1024;
/// The most that one node may have, in bytes of names and values.
const MOST: i64 = 256 * 1024;

/// Properties by node, each with its value.
pub type Properties = HashMap<NodeId, Vec<(PropName, String)>>;

/// Sets properties, or removes those without a value. All of it, or none.
pub(crate) async fn apply(
    txn: &mut WriteTxn,
    actor: &Actor,
    node: NodeId,
    changes: &[(PropName, Option<String>)],
    mtime: Option<i64>,
) -> Result<()> {
    let chain = txn.require(actor, node, Level::Edit).await?;
    txn.check_lock(actor, &chain)?;
    for (name, value) in changes {
        match value {
            Some(value) if value.len() > LONGEST => {
                return Err(StoreError::BadInput(format!(
                    "The property \"{}\" has {} bytes; the longest has {LONGEST}.",
                    name.name,
                    value.len()
                )));
            }
            Some(value) => {
                sqlx::query("INSERT OR REPLACE INTO properties VALUES (?, ?, ?, ?)")
                    .bind(node.0)
                    .bind(&name.ns)
                    .bind(&name.name)
                    .bind(value)
                    .execute(&mut txn.conn)
                    .await?;
            }
            None => {
                sqlx::query("DELETE FROM properties WHERE node = ? AND ns = ? AND name = ?")
                    .bind(node.0)
                    .bind(&name.ns)
                    .bind(&name.name)
                    .execute(&mut txn.conn)
                    .await?;
            }
        }
    }
    let bytes: i64 = sqlx::query_scalar(
        "SELECT coalesce(sum(length(ns) + length(name) + length(value)), 0) FROM properties WHERE node = ?",
    )
    .bind(node.0)
    .fetch_one(&mut txn.conn)
    .await?;
    if bytes > MOST {
        return Err(StoreError::BadInput(format!(
            "All properties of one file or folder together may have {MOST} bytes."
        )));
    }
    if let Some(mtime) = mtime.filter(|m| *m != chain[0].mtime) {
        // The same state, of which the file's own time is set: no new number, like a file that was touched.
        txn.open_row(Row { mtime, ..(*chain[0]).clone() }, true);
    }
    Ok(())
}

/// What was made takes on the properties of something else, in its own transaction: a copy is never seen without them.
pub(crate) async fn take_on(
    txn: &mut WriteTxn,
    like: Option<NodeId>,
    done: Result<Outcome>,
) -> Result<Outcome> {
    if let (Some(like), Ok(Outcome { row: Some(row), .. })) = (like, &done) {
        for text in [
            "DELETE FROM properties WHERE ?1 <> ?2 AND node = ?2",
            "INSERT INTO properties SELECT ?2, ns, name, value FROM properties WHERE ?1 <> ?2 AND node = ?1",
        ] {
            sqlx::query(text).bind(like.0).bind(row.node.0).execute(&mut txn.conn).await?;
        }
    }
    done
}

/// Says of a file whether it is a program: another state, of the same bytes.
pub(crate) struct Mark {
    pub actor: Actor,
    pub node: NodeId,
    pub executable: bool,
}

impl Operation for Mark {
    type Told = ();

    async fn decide(&mut self, txn: &mut WriteTxn, _: &mut Around<'_>) -> Result<()> {
        let chain = txn.require(&self.actor, self.node, Level::Edit).await?;
        txn.check_lock(&self.actor, &chain)?;
        let row = chain[0].clone();
        if row.is_folder() {
            return Err(StoreError::NotAFile(row.name().into()));
        }
        if row.executable == self.executable {
            return Ok(());
        }
        let what = txn.path(self.node).await?;
        let moment = txn.next_moment();
        txn.end_row(&row, moment, ChangeKind::Marked, &self.actor);
        let next = stamped(&row, moment, ChangeKind::Marked, &self.actor, txn.now);
        txn.open_row(Row { executable: self.executable, shelf: chain[chain.len() - 1].shelf, ..next }, true);
        let told = if self.executable { "a program" } else { "no program" };
        txn.add_record(&self.actor, "file marked", Some(self.node), &what, told);
        Ok(())
    }
}

/// Sets and removes properties.
pub(crate) struct SetProperties {
    pub actor: Actor,
    pub node: NodeId,
    pub changes: Vec<(PropName, Option<String>)>,
    pub mtime: Option<i64>,
}

impl Operation for SetProperties {
    type Told = ();

    fn writes_by_itself(&self) -> bool {
        true
    }

    fn within_savepoint(&self) -> bool {
        true
    }

    async fn decide(&mut self, txn: &mut WriteTxn, _: &mut Around<'_>) -> Result<()> {
        apply(txn, &self.actor, self.node, &self.changes, self.mtime).await
    }
}

//! Properties that programs keep with files and folders, and times that they set.

use crate::catalogue::rows::parse;
use crate::engine::Engine;
use crate::fs::disk::set_mtime;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, Row};
use crate::ops::Outcome;
use crate::txn::write_txn::WriteTxn;
use crate::txn::writer::Operation;
use async_recursion::async_recursion as boxed;
use std::collections::HashMap;
use std::sync::Arc;
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

impl Engine {
    /// The properties of some nodes.
    #[boxed]
    pub async fn properties(&self, nodes: &[NodeId]) -> Result<Properties> {
        let mut found = Properties::new();
        let nodes: Vec<i64> = nodes.iter().map(|n| n.0).collect();
        let text: String = sqlx::query_scalar(
            "SELECT json_group_array(json_array(p.node, p.ns, p.name, p.value))
             FROM json_each(?) j CROSS JOIN properties p ON p.node = j.value",
        )
        .bind(serde_json::Value::from(nodes).to_string())
        .fetch_one(&self.shared.view.pool)
        .await?;
        for (node, ns, name, value) in parse::<Vec<(i64, String, String, String)>>(&text)? {
            found.entry(NodeId(node)).or_default().push((PropName { ns, name }, value));
        }
        Ok(found)
    }

    /// When nodes came to be, in milliseconds: of those that have a past.
    #[boxed]
    pub async fn first_times(&self, nodes: &[NodeId]) -> Result<HashMap<NodeId, i64>> {
        let nodes: Vec<i64> = nodes.iter().map(|n| n.0).collect();
        let text: String = sqlx::query_scalar(
            "SELECT json_group_array(json_array(j.value, (SELECT min(at) FROM entries_past p WHERE p.node = j.value)))
             FROM json_each(?) j",
        )
        .bind(serde_json::Value::from(nodes).to_string())
        .fetch_one(&self.shared.view.pool)
        .await?;
        let found = parse::<Vec<(i64, Option<i64>)>>(&text)?;
        Ok(found.into_iter().filter_map(|(node, at)| Some((NodeId(node), at?))).collect())
    }

    /// Sets properties of a node, removes those without a value, and sets its own time of modification.
    #[boxed]
    pub async fn set_properties(
        &self,
        actor: &Actor,
        node: NodeId,
        changes: Vec<(PropName, Option<String>)>,
        mtime: Option<i64>,
    ) -> Result<()> {
        let chain = self.chain(actor, node, Level::Edit).await?;
        if let Some(mtime) = mtime.filter(|_| !chain[0].is_folder()) {
            self.set_time(&chain[0], mtime).await?;
        }
        let actor = actor.clone();
        self.ask(|answer| Operation::Properties { actor, node, changes, mtime, answer }).await
    }

    /// Sets the time of the file on the disk, first: a stop between this and the catalogue is a file that
    /// was touched, which is noticed and taken up.
    async fn set_time(&self, row: &Row, mtime: i64) -> Result<()> {
        let (file, now) = self.open_bytes(row).await?;
        if now.content.map(|c| c.id) != row.content.map(|c| c.id) {
            return Err(StoreError::Busy);
        }
        let set = tokio::task::spawn_blocking(move || set_mtime(&file, mtime)).await;
        set.map_err(|_| StoreError::Stopping)?.map_err(|e| StoreError::io("setting a file's time", &e))
    }

    /// What a copy takes properties on from: none if there is nothing to take on, nor anything to be replaced by it.
    pub(crate) async fn to_take_on(&self, node: NodeId, there: Option<NodeId>) -> Result<Option<NodeId>> {
        let any: Option<i64> = sqlx::query_scalar("SELECT 1 FROM properties WHERE node IN (?, ?) LIMIT 1")
            .bind(node.0)
            .bind(there.map(|t| t.0))
            .fetch_optional(&self.shared.view.pool)
            .await?;
        Ok(any.map(|_| node))
    }

    /// Gives copies that nobody sees yet the properties of what they were copied from.
    pub(crate) async fn copy_properties(&self, pairs: Vec<(NodeId, NodeId)>) -> Result<()> {
        let any: Option<i64> = sqlx::query_scalar("SELECT 1 FROM properties LIMIT 1")
            .fetch_optional(&self.shared.view.pool)
            .await?;
        if any.is_none() || pairs.is_empty() {
            return Ok(());
        }
        let pairs: Vec<(i64, i64)> = pairs.into_iter().map(|(a, b)| (a.0, b.0)).collect();
        let pairs = serde_json::to_string(&pairs).unwrap_or_default();
        self.catalogue(&Actor::service(), move |conn| {
            Box::pin(async move {
                for text in [
                    "DELETE FROM properties WHERE node IN (SELECT value->>1 FROM json_each(?))",
                    "INSERT OR REPLACE INTO properties
                       SELECT j.value->>1, p.ns, p.name, p.value FROM json_each(?) j JOIN properties p ON p.node = j.value->>0",
                ] {
                    sqlx::query(text).bind(&pairs).execute(&mut *conn).await?;
                }
                Ok(())
            })
        })
        .await
    }

    /// The way of a node, for locks and answers.
    #[boxed]
    pub async fn way(&self, node: NodeId) -> Result<Vec<NodeId>> {
        let chain: Option<Vec<Arc<Row>>> = self.shared.view.chain(node).await?;
        Ok(chain.unwrap_or_default().iter().map(|r| r.node).collect())
    }
}

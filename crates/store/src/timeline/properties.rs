//! What programs keep with files, asked for and set.

use crate::catalogue::rows::parse;
use crate::fs::disk::{mark_executable, set_mtime};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, Row};
use crate::ops::properties::{Mark, Properties, SetProperties};
use crate::timeline::Files;
use async_recursion::async_recursion as boxed;
use std::collections::HashMap;
use std::sync::Arc;
use yellow_attic_core::NodeId;
use yellow_attic_core::dav::PropName;
use yellow_attic_core::rights::Level;

impl Files {
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
        .fetch_one(&self.0.shared.view.pool)
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
        .fetch_one(&self.0.shared.view.pool)
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
        self.0.ask(SetProperties { actor, node, changes, mtime }).await
    }

    /// Gives a file another time of its own. No state is made. Bytes that come meanwhile bring their own time.
    #[boxed]
    pub async fn set_time_of(&self, actor: &Actor, node: NodeId, mtime: i64) -> Result<()> {
        let chain = self.chain(actor, node, Level::Edit).await?;
        if chain[0].is_folder() {
            return Err(StoreError::NotAFile(chain[0].name().into()));
        }
        match self.set_properties(actor, node, Vec::new(), Some(mtime)).await {
            Err(StoreError::Busy) => Ok(()),
            other => other,
        }
    }

    /// Says of a file whether it is a program. The bytes stay.
    #[boxed]
    pub async fn set_executable(&self, actor: &Actor, node: NodeId, executable: bool) -> Result<()> {
        let actor = actor.clone();
        self.0.ask(Mark { actor, node, executable }).await?;
        // On the disk it is a convenience for whoever reads the tree there: the catalogue knows it.
        let row = self.0.shared.view.row(node).await?.filter(|row| row.executable == executable);
        let Some(row) = row else { return Ok(()) };
        if let Ok((file, _)) = self.open_bytes(&row).await {
            let set = tokio::task::spawn_blocking(move || mark_executable(&file, executable)).await;
            if let Ok(Err(error)) = set {
                tracing::warn!(%error, "the mode of \"{}\" could not be set on the disk", row.name());
            }
        }
        Ok(())
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
            .fetch_optional(&self.0.shared.view.pool)
            .await?;
        Ok(any.map(|_| node))
    }

    /// Gives copies that nobody sees yet the properties of what they were copied from.
    pub(crate) async fn copy_properties(&self, pairs: Vec<(NodeId, NodeId)>) -> Result<()> {
        let any: Option<i64> = sqlx::query_scalar("SELECT 1 FROM properties LIMIT 1")
            .fetch_optional(&self.0.shared.view.pool)
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
        let chain: Option<Vec<Arc<Row>>> = self.0.shared.view.chain(node).await?;
        Ok(chain.unwrap_or_default().iter().map(|r| r.node).collect())
    }
}

//! Putting bytes at a name.

use crate::fs::disk::Disk;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ChangeKind};
use crate::fs::staging::{Staged, StagedContent, Staging};
use crate::ops::{self, Outcome, properties};
use crate::txn::operation::{Around, Brought, Operation};
use crate::txn::write_txn::WriteTxn;
use std::sync::Arc;
use yellow_attic_core::collate::sort_key;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::{Name, NodeId};

/// Puts staged bytes at a name.
pub(crate) struct Put {
    pub actor: Actor,
    pub parent: NodeId,
    pub name: Name,
    pub staged: Staged,
    pub mtime: i64,
    pub conditions: Conditions,
    pub how: ChangeKind,
    /// The upload that these bytes came by: finished in the same transaction.
    pub upload: Option<String>,
    /// Whose properties the file takes on, in the same transaction.
    pub like: Option<NodeId>,
    /// The bytes as they lie in staging.
    pub content: Option<StagedContent>,
}

impl Operation for Put {
    type Told = Outcome;

    fn bring(&mut self, _disk: &Arc<Disk>, _staging: &Arc<Staging>) -> Result<Brought> {
        self.content = Some(self.staged.lie_down(self.mtime)?);
        Ok(Brought::Something)
    }

    fn staged(&self) -> Vec<&Staged> {
        vec![&self.staged]
    }

    fn writes_by_itself(&self) -> bool {
        self.like.is_some()
    }

    fn meets(&self) -> Option<(NodeId, Arc<str>)> {
        Some((self.parent, sort_key(&self.name).into()))
    }

    async fn decide(&mut self, txn: &mut WriteTxn, around: &mut Around<'_>) -> Result<Outcome> {
        let content = self.content.as_ref().ok_or(StoreError::Stopping)?;
        let done = ops::put(
            txn,
            around.memory,
            &self.actor,
            self.parent,
            &self.name,
            content,
            self.mtime,
            &self.conditions,
            self.how,
        )
        .await;
        if let (Ok(Outcome { row: Some(row), .. }), Some(upload)) = (&done, self.upload.take()) {
            txn.finish_upload(upload, row.node);
        }
        properties::take_on(txn, self.like, done).await
    }

    fn kept(self) {
        self.staged.keep();
    }
}

//! Moving, renaming, removing.

use crate::fs::disk::{ObjectId, look};
use crate::fs::error::Result;
use crate::fs::model::Actor;
use crate::ops::{self, Outcome};
use crate::txn::operation::{Around, Operation};
use crate::txn::write_txn::WriteTxn;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::{Name, NodeId};

/// The object that stands where a node belongs, if it is another than the catalogue knows: an editor saved it
/// anew. What is decided of the node concerns that one too.
async fn seen_at(txn: &mut WriteTxn, around: &Around<'_>, node: NodeId) -> Result<Option<ObjectId>> {
    let Some(row) = txn.row(node).await? else { return Ok(None) };
    let object = match row.content {
        Some(content) => content.object,
        None => txn.folder(node).await?.map_or(ObjectId::default(), |f| f.object),
    };
    let Some(parent) = row.parent.filter(|_| around.placing.places_of(object).is_empty()) else {
        return Ok(None);
    };
    let Ok(dir) = around.folders.now(parent).await else { return Ok(None) };
    Ok(look(&*dir, row.name()).ok().flatten().map(|there| there.id).filter(|id| *id != object))
}

/// Moves or renames. `replace`: a file at the target may be replaced.
pub(crate) struct MoveNode {
    pub actor: Actor,
    pub node: NodeId,
    pub parent: NodeId,
    pub name: Name,
    pub replace: bool,
    pub conditions: Conditions,
}

impl Operation for MoveNode {
    type Told = Outcome;

    async fn decide(&mut self, txn: &mut WriteTxn, around: &mut Around<'_>) -> Result<Outcome> {
        let (seen, owed) = (seen_at(txn, around, self.node).await?, txn.group.tasks.len());
        let done = ops::move_node(
            txn,
            around.memory,
            &self.actor,
            self.node,
            self.parent,
            &self.name,
            self.replace,
            &self.conditions,
        )
        .await;
        txn.group.tasks[owed..].iter_mut().for_each(|task| task.seen = seen);
        done
    }
}

/// Removes. What was there stays in the past.
pub(crate) struct Remove {
    pub actor: Actor,
    pub node: NodeId,
    pub conditions: Conditions,
}

impl Operation for Remove {
    type Told = Outcome;

    async fn decide(&mut self, txn: &mut WriteTxn, around: &mut Around<'_>) -> Result<Outcome> {
        let (seen, owed) = (seen_at(txn, around, self.node).await?, txn.group.tasks.len());
        let (memory, after) = (&mut *around.memory, around.take_apart_after);
        let done = ops::remove(txn, memory, &self.actor, self.node, &self.conditions, after).await;
        txn.group.tasks[owed..].iter_mut().for_each(|task| task.seen = seen);
        done
    }
}

//! Making shelves and folders.

use crate::fs::disk::{Disk, ObjectId, look_at_open};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, shelf_parts};
use crate::fs::staging::Staging;
use crate::ops::{NewShelf, Outcome, make_folder, make_shelf, properties, repeats};
use crate::txn::operation::{Around, Brought, Operation, StagedFolder};
use crate::txn::write_txn::WriteTxn;
use std::sync::Arc;
use yellow_attic_core::conditions::Known;
use yellow_attic_core::{Name, NodeId};

/// Makes a shelf.
pub(crate) struct MakeShelf {
    actor: Actor,
    new: NewShelf,
    object: ObjectId,
}

impl MakeShelf {
    pub fn new(actor: Actor, new: NewShelf) -> MakeShelf {
        MakeShelf { actor, new, object: ObjectId::default() }
    }
}

impl Operation for MakeShelf {
    type Told = Outcome;

    fn bring(&mut self, disk: &Arc<Disk>, _staging: &Arc<Staging>) -> Result<Brought> {
        let made = disk
            .make_shelf_dir(&shelf_parts(self.new.kind, self.new.name.as_str()))
            .and_then(|dir| look_at_open(&dir));
        self.object = made.map_err(|e| StoreError::io("making the shelf's folder", &e))?.id;
        Ok(Brought::Something)
    }

    fn writes_by_itself(&self) -> bool {
        true
    }

    fn precedes_rights(&self) -> bool {
        true
    }

    async fn decide(&mut self, txn: &mut WriteTxn, _: &mut Around<'_>) -> Result<Outcome> {
        make_shelf(txn, &self.actor, &self.new, self.object).await
    }
}

/// Makes a folder.
pub(crate) struct MakeFolder {
    actor: Actor,
    parent: NodeId,
    name: Name,
    /// Whose properties it takes on, in the same transaction.
    like: Option<NodeId>,
    known: Known,
    made: Option<StagedFolder>,
}

impl MakeFolder {
    pub fn new(actor: Actor, parent: NodeId, name: Name, like: Option<NodeId>, known: Known) -> MakeFolder {
        MakeFolder { actor, parent, name, like, known, made: None }
    }
}

impl Operation for MakeFolder {
    type Told = Outcome;

    fn bring(&mut self, disk: &Arc<Disk>, staging: &Arc<Staging>) -> Result<Brought> {
        self.made = Some(StagedFolder::make(disk, staging)?);
        Ok(Brought::Something)
    }

    fn writes_by_itself(&self) -> bool {
        self.like.is_some()
    }

    async fn decide(&mut self, txn: &mut WriteTxn, _: &mut Around<'_>) -> Result<Outcome> {
        if let Some(done) = repeats::answered(txn, &self.actor, &self.known).await? {
            self.made.iter_mut().for_each(|made| made.wanted = false);
            return Ok(done);
        }
        let made = self.made.as_ref().map(|made| (made.id, made.object)).ok_or(StoreError::Stopping)?;
        let done = make_folder(txn, &self.actor, self.parent, &self.name, made).await;
        let done = properties::take_on(txn, self.like, done).await?;
        repeats::remember(txn, &self.actor, &self.known, NodeId(0), &done);
        Ok(done)
    }

    fn kept(self) {
        self.made.into_iter().for_each(StagedFolder::keep);
    }
}

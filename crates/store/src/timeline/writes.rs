//! What is put, made, moved and removed.

use crate::fs::error::Result;
use crate::fs::model::{Actor, ChangeKind};
use crate::fs::staging::Staged;
use crate::ops::make::MakeFolder;
use crate::ops::put::Put;
use crate::ops::relocate::{MoveNode, Remove};
use crate::ops::revive::{ReviveFile, ReviveFolder};
use crate::ops::{Outcome, Place};
use crate::timeline::Files;
use async_recursion::async_recursion as boxed;
use std::sync::Arc;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::{Name, NodeId};

impl Files {
    /// Makes a folder.
    #[boxed]
    pub async fn make_folder(&self, actor: &Actor, parent: NodeId, name: Name) -> Result<Outcome> {
        self.make_folder_like(actor, parent, name, None).await
    }

    /// The same with the properties of something else.
    pub(crate) async fn make_folder_like(
        &self,
        actor: &Actor,
        parent: NodeId,
        name: Name,
        like: Option<NodeId>,
    ) -> Result<Outcome> {
        let actor = actor.clone();
        self.0.ask(MakeFolder::new(actor, parent, name, like)).await
    }

    /// Puts staged bytes at a name. After the answer they are on the disk.
    #[boxed]
    pub async fn put(
        &self,
        actor: &Actor,
        parent: NodeId,
        name: Name,
        staged: Staged,
        mtime: i64,
        conditions: Conditions,
    ) -> Result<Outcome> {
        self.put_as(actor, parent, name, staged, mtime, conditions, ChangeKind::Made, None).await
    }

    #[allow(clippy::too_many_arguments)]
    pub(crate) async fn put_as(
        &self,
        actor: &Actor,
        parent: NodeId,
        name: Name,
        staged: Staged,
        mtime: i64,
        conditions: Conditions,
        how: ChangeKind,
        like: Option<NodeId>,
    ) -> Result<Outcome> {
        let actor = actor.clone();
        self.0
            .ask(Put {
                actor,
                parent,
                name,
                staged,
                mtime,
                conditions,
                how,
                upload: None,
                like,
                content: None,
            })
            .await
    }

    /// Moves or renames. `replace`: a file at the target may be replaced.
    #[boxed]
    pub async fn move_node(
        &self,
        actor: &Actor,
        node: NodeId,
        parent: NodeId,
        name: Name,
        replace: bool,
        conditions: Conditions,
    ) -> Result<Outcome> {
        let actor = actor.clone();
        self.0.ask(MoveNode { actor, node, parent, name, replace, conditions }).await
    }

    /// Removes. What was there stays in the past.
    #[boxed]
    pub async fn remove(&self, actor: &Actor, node: NodeId, conditions: Conditions) -> Result<Outcome> {
        let actor = actor.clone();
        self.0.ask(Remove { actor, node, conditions }).await
    }

    pub(crate) async fn revive_file(
        &self,
        actor: &Actor,
        node: NodeId,
        place: Place,
        last: Option<(NodeId, Arc<str>)>,
        staged: Staged,
        mtime: i64,
    ) -> Result<Outcome> {
        let actor = actor.clone();
        self.0.ask(ReviveFile { actor, node, place, last, staged, mtime, content: None }).await
    }

    pub(crate) async fn revive_folder(
        &self,
        actor: &Actor,
        node: NodeId,
        place: Place,
        last: Option<(NodeId, Arc<str>)>,
        how: ChangeKind,
    ) -> Result<Outcome> {
        let actor = actor.clone();
        self.0.ask(ReviveFolder { actor, node, place, last, how, made: None }).await
    }
}

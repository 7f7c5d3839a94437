//! Copying, and bringing back what was.

use crate::copying::CopyItem;
use crate::engine::Engine;
use crate::error::{Result, StoreError};
use crate::model::{Actor, How, Row};
use crate::ops::{Done, Place};
use crate::reading::Sort;
use crate::staging::Staged;
use crate::writer::Ask;
use std::collections::VecDeque;
use yellow_attic_core::conditions::{Conditions, Tags};
use yellow_attic_core::rights::Level;
use yellow_attic_core::timeline::Kind;
use yellow_attic_core::{Moment, Name, NodeId};

/// Files copied between two commits.
const BATCH: usize = 200;

impl Engine {
    pub(crate) async fn stage_copy(&self, row: &Row) -> Result<Staged> {
        let (mut file, _) = self.open_bytes(row).await?;
        let staging = self.shared.staging.clone();
        tokio::task::spawn_blocking(move || staging.copy_of(&mut file))
            .await
            .map_err(|_| StoreError::Stopping)?
    }

    /// Copies a file or a whole folder. A folder's copy appears when it is complete.
    pub async fn copy(&self, actor: &Actor, node: NodeId, parent: NodeId, name: Name) -> Result<Done> {
        let from = self.chain(actor, node, Level::View).await?;
        let to = self.chain(actor, parent, Level::Add).await?;
        if !to[0].is_folder() {
            return Err(StoreError::NotAFolder(to[0].name().into()));
        }
        if to.iter().any(|r| r.node == node) {
            return Err(StoreError::IntoItself);
        }
        let key = yellow_attic_core::collate::sort_key(&name).into();
        if self.shared.view.child(parent, &key).await?.is_some() {
            return Err(match self.child(actor, parent, &name).await? {
                Some(_) => StoreError::NameTaken(name.to_string()),
                None => StoreError::NameUnusable(name.to_string()),
            });
        }
        let source = from[0].clone();
        if source.kind == Kind::File {
            let staged = self.stage_copy(&source).await?;
            let free = Conditions { if_match: None, if_none_match: Some(Tags::Any) };
            return match self
                .put_as(actor, parent, name.clone(), staged, source.mtime, free, How::Copied)
                .await
            {
                Err(StoreError::ConditionFailed { .. }) => Err(StoreError::NameTaken(name.to_string())),
                other => other,
            };
        }
        let bytes = self.folder(node).await?.map_or(0, |f| f.bytes);
        self.check_room(bytes.max(0) as u64)?;
        let top = self.ask(|answer| Ask::CopyTop { answer }).await?;
        let mut waiting = VecDeque::from([(node, top)]);
        while let Some((from, to)) = waiting.pop_front() {
            let mut cursor = None;
            loop {
                let page = self.list(actor, from, Sort::Name, false, BATCH, cursor.as_deref()).await?;
                let mut items = Vec::with_capacity(page.items.len());
                for entry in &page.items {
                    let staged = match entry.row.kind {
                        Kind::Folder => None,
                        Kind::File => Some(self.stage_copy(&entry.row).await?),
                    };
                    items.push(CopyItem {
                        parent: to,
                        key: entry.row.key.clone(),
                        mtime: entry.row.mtime,
                        staged,
                        is_folder: entry.row.is_folder(),
                    });
                }
                let actor = actor.clone();
                let made = self.ask(|answer| Ask::CopyBatch { actor, items, answer }).await?;
                for (entry, made) in page.items.iter().zip(made) {
                    if entry.row.is_folder() {
                        waiting.push_back((entry.row.node, made));
                    }
                }
                cursor = page.next;
                if cursor.is_none() {
                    break;
                }
            }
        }
        self.revive_folder(actor, top, Place::At(parent, name), None, How::Copied).await
    }

    /// Gives a file the bytes it had at a number, or brings back a removed file or folder.
    /// A file that is there keeps its place and name, and its present state stays in its history.
    pub async fn restore(
        &self,
        actor: &Actor,
        node: NodeId,
        at: Option<Moment>,
        place: Place,
    ) -> Result<Done> {
        let gone = || StoreError::NotFound("The file or folder".into());
        let open = self.shared.view.row(node).await?;
        let last = self.last_past(node).await?;
        let state = match at {
            Some(at) => {
                self.check_past(actor, node, at).await?;
                self.state_at(node, at).await?.ok_or_else(gone)?
            }
            None => match (&open, &last) {
                (Some(row), _) => (**row).clone(),
                (None, Some(past)) => past.row.clone(),
                (None, None) => return Err(gone()),
            },
        };
        // The node must be visible by today's grants, wherever it is or was last.
        self.history(actor, node, 1).await?;
        let was =
            last.as_ref().filter(|_| open.is_none()).and_then(|p| Some((p.row.parent?, p.row.key.clone())));
        if last.as_ref().is_some_and(|p| open.is_none() && !p.held) && state.kind == Kind::Folder {
            return Err(StoreError::NotHeld(state.name().into()));
        }
        if state.kind == Kind::Folder {
            return self.revive_folder(actor, node, place, was, How::Restored).await;
        }
        if open.is_some() && at.is_none() {
            return match self.shared.view.chain(node).await? {
                Some(_) => Err(StoreError::StillHere),
                None => Err(StoreError::PlaceGone),
            };
        }
        let staged = self.stage_copy(&state).await?;
        self.revive_file(actor, node, place, was, staged, state.mtime).await
    }
}

//! Copying, and bringing back what was.

use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ChangeKind, Row};
use crate::fs::staging::Staged;
use crate::ops::copy::{CopyBatch, CopyItem, CopyTop};
use crate::ops::{Outcome, Place};
use crate::timeline::History;
use crate::timeline::reading::Sort;
use async_recursion::async_recursion as boxed;
use std::collections::VecDeque;
use std::sync::Arc;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::rights::Level;
use yellow_attic_core::timeline::Kind;
use yellow_attic_core::{Moment, Name, NodeId};

/// Files copied between two commits.
const BATCH: usize = 200;

impl History {
    pub(crate) async fn stage_copy(&self, row: &Row) -> Result<Staged> {
        let (mut file, _) = self.0.files().open_bytes(row).await?;
        let staging = self.0.shared.staging.clone();
        tokio::task::spawn_blocking(move || staging.copy_of(&mut file))
            .await
            .map_err(|_| StoreError::Stopping)?
    }

    /// Copies a file or a whole folder. A folder's copy appears when it is complete.
    #[boxed]
    pub async fn copy(&self, actor: &Actor, node: NodeId, parent: NodeId, name: Name) -> Result<Outcome> {
        self.copy_over(actor, node, parent, name, false).await
    }

    /// The same; `replace`: what stands at the name makes room. A file gives its place to a file as a new
    /// state of it; else it is removed when the copy is complete, and stays in the past.
    #[boxed]
    pub async fn copy_over(
        &self,
        actor: &Actor,
        node: NodeId,
        parent: NodeId,
        name: Name,
        replace: bool,
    ) -> Result<Outcome> {
        let from = self.0.files().chain(actor, node, Level::View).await?;
        let to = self.0.files().chain(actor, parent, Level::Add).await?;
        if to.iter().any(|r| r.node == node) {
            return Err(StoreError::IntoItself);
        }
        let there = self.in_the_way(actor, &to, &name, replace).await?;
        // Nobody copies a thing onto itself, or onto what it lies in.
        if there.as_ref().is_some_and(|there| from.iter().any(|r| r.node == there.node)) {
            return Err(StoreError::IntoItself);
        }
        self.copy_from(actor, (from[0].clone(), None), (parent, name), (there, replace)).await
    }

    /// Copies a file or a whole folder as it was at a moment. It may go where it is still: its newest state is what was then.
    #[boxed]
    pub async fn copy_past(
        &self,
        actor: &Actor,
        (node, at): (NodeId, Moment),
        parent: NodeId,
        name: Name,
        replace: bool,
    ) -> Result<Outcome> {
        let was = self.check_past(actor, node, at).await?;
        let source =
            was.into_iter().next().ok_or_else(|| StoreError::NotFound("The file or folder".into()))?;
        let to = self.0.files().chain(actor, parent, Level::Add).await?;
        let there = self.in_the_way(actor, &to, &name, replace).await?;
        // What stands there makes room: not the folder that it is to be in.
        if there.as_ref().is_some_and(|there| to.iter().any(|r| r.node == there.node)) {
            return Err(StoreError::IntoItself);
        }
        self.copy_from(actor, (Arc::new(source), Some(at)), (parent, name), (there, replace)).await
    }

    /// What stands at a name in a folder to which something is to be copied.
    async fn in_the_way(
        &self,
        actor: &Actor,
        to: &[Arc<Row>],
        name: &Name,
        replace: bool,
    ) -> Result<Option<Arc<Row>>> {
        if !to[0].is_folder() {
            return Err(StoreError::NotAFolder(to[0].name().into()));
        }
        let key = yellow_attic_core::collate::sort_key(name).into();
        let there = self.0.shared.view.child(to[0].node, &key).await?;
        if there.is_some() && !replace {
            return Err(match self.0.files().child(actor, to[0].node, name).await? {
                Some(_) => StoreError::NameTaken(name.to_string()),
                None => StoreError::NameUnusable(name.to_string()),
            });
        }
        Ok(there)
    }

    async fn copy_from(
        &self,
        actor: &Actor,
        (source, at): (Arc<Row>, Option<Moment>),
        (parent, name): (NodeId, Name),
        (there, replace): (Option<Arc<Row>>, bool),
    ) -> Result<Outcome> {
        let node = source.node;
        if source.kind == Kind::File {
            let staged = self.stage_copy(&source).await?;
            let in_the_way = there.as_ref().filter(|t| t.is_folder());
            let made_room = self.make_room(actor, in_the_way.map(|t| t.node)).await?;
            let free = if replace { Conditions::default() } else { Conditions::nothing_there() };
            // Properties are those of now: who sees the past only may not see them.
            let like = match at {
                None => self.0.files().to_take_on(node, there.as_ref().map(|t| t.node)).await?,
                Some(_) => None,
            };
            let put = self
                .0
                .files()
                .put_as(actor, parent, name.clone(), staged, source.facts(), free, ChangeKind::Copied, like)
                .await;
            let done = match put {
                Err(StoreError::ConditionFailed { .. }) => Err(StoreError::NameTaken(name.to_string())),
                other => other,
            };
            return self.or_put_back(actor, made_room, done).await;
        }
        let bytes = self.0.files().folder(node).await?.map_or(0, |f| f.bytes);
        self.0.check_room(bytes.max(0) as u64)?;
        let top = self.0.ask(CopyTop::default()).await?;
        let mut waiting = VecDeque::from([(node, top)]);
        while let Some((from, to)) = waiting.pop_front() {
            let mut cursor: Option<String> = None;
            loop {
                let after = cursor.as_deref();
                let page = match at {
                    None => self.0.files().list(actor, from, Sort::Name, false, BATCH, after).await?,
                    Some(at) => self.list_at(actor, from, at, BATCH, after).await?,
                };
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
                        executable: entry.row.executable,
                        staged,
                        is_folder: entry.row.is_folder(),
                    });
                }
                let actor = actor.clone();
                let made = self.0.ask(CopyBatch::new(actor, items)).await?;
                if at.is_none() {
                    let pairs = page.items.iter().zip(&made).map(|(e, made)| (e.row.node, *made)).collect();
                    self.0.files().copy_properties(pairs).await?;
                }
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
        if at.is_none() {
            self.0.files().copy_properties(vec![(node, top)]).await?;
        }
        let made_room = self.make_room(actor, there.map(|t| t.node)).await?;
        let done =
            self.0.files().revive_folder(actor, top, Place::At(parent, name), None, ChangeKind::Copied).await;
        self.or_put_back(actor, made_room, done).await
    }

    /// Copies a folder without what is in it.
    #[boxed]
    pub async fn copy_alone(
        &self,
        actor: &Actor,
        node: NodeId,
        parent: NodeId,
        name: Name,
        replace: bool,
    ) -> Result<Outcome> {
        let from = self.0.files().chain(actor, node, Level::View).await?;
        let there = self.0.files().child(actor, parent, &name).await?;
        // What makes room must not take with it what is copied.
        if there.as_ref().is_some_and(|t| from.iter().any(|r| r.node == t.node)) {
            return Err(StoreError::IntoItself);
        }
        let room = match (&there, replace) {
            (Some(there), true) => Some(there.node),
            _ => None,
        };
        let made_room = self.make_room(actor, room).await?;
        let like = self.0.files().to_take_on(node, None).await?;
        let done = self.0.files().make_folder_like(actor, parent, name, like).await;
        self.or_put_back(actor, made_room, done).await
    }

    /// Moves or renames; what stands at the name makes room, whatever it is.
    #[boxed]
    pub async fn move_over(
        &self,
        actor: &Actor,
        node: NodeId,
        parent: NodeId,
        name: Name,
        conditions: Conditions,
    ) -> Result<Outcome> {
        match self.0.files().move_node(actor, node, parent, name.clone(), true, conditions.clone()).await {
            Err(StoreError::FolderInTheWay(_) | StoreError::NameTaken(_)) => {}
            other => return other,
        }
        let from = self.0.files().chain(actor, node, Level::Edit).await?;
        let there = self.0.files().child(actor, parent, &name).await?.ok_or(StoreError::Busy)?;
        if from.iter().any(|r| r.node == there.node) {
            return Err(StoreError::IntoItself);
        }
        let made_room = self.make_room(actor, Some(there.node)).await?;
        let done = self.0.files().move_node(actor, node, parent, name, false, conditions).await;
        self.or_put_back(actor, made_room, done).await
    }

    /// Removes what is in the way.
    async fn make_room(&self, actor: &Actor, there: Option<NodeId>) -> Result<Option<NodeId>> {
        if let Some(there) = there {
            self.0.files().remove(actor, there, Conditions::default()).await?;
        }
        Ok(there)
    }

    /// What made room in vain comes back.
    async fn or_put_back(
        &self,
        actor: &Actor,
        made_room: Option<NodeId>,
        done: Result<Outcome>,
    ) -> Result<Outcome> {
        if let (Err(_), Some(there)) = (&done, made_room) {
            let _ = self.restore(actor, there, None, Place::Last).await;
        }
        done
    }

    /// Gives a file the bytes it had at a number, or brings back a removed file or folder.
    /// A file that is there keeps its place and name, and its present state stays in its history.
    #[boxed]
    pub async fn restore(
        &self,
        actor: &Actor,
        node: NodeId,
        at: Option<Moment>,
        place: Place,
    ) -> Result<Outcome> {
        let gone = || StoreError::NotFound("The file or folder".into());
        let open = self.0.shared.view.row(node).await?;
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
        self.0.history().states(actor, node, 1).await?;
        let was =
            last.as_ref().filter(|_| open.is_none()).and_then(|p| Some((p.row.parent?, p.row.key.clone())));
        if last.as_ref().is_some_and(|p| open.is_none() && !p.held) && state.kind == Kind::Folder {
            return Err(StoreError::NotHeld(state.name().into()));
        }
        if state.kind == Kind::Folder {
            return self.0.files().revive_folder(actor, node, place, was, ChangeKind::Restored).await;
        }
        if open.is_some() && at.is_none() {
            return match self.0.shared.view.chain(node).await? {
                Some(_) => Err(StoreError::StillHere),
                None => Err(StoreError::PlaceGone),
            };
        }
        let staged = self.stage_copy(&state).await?;
        self.0.files().revive_file(actor, node, place, was, staged, &state).await
    }
}

//! Copies of folders: built where nobody sees them, then made to appear by one row.

use crate::fs::disk::{Disk, ObjectId, content_name};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ChangeKind, Content, ContentState, Folder, FolderPlacement, Row};
use crate::fs::pending_rename::{DiskLocation, Task};
use crate::fs::staging::{Staged, StagedContent, Staging};
use crate::txn::operation::{Around, Brought, Operation, StagedFolder};
use crate::txn::sums::Delta;
use crate::txn::write_txn::WriteTxn;
use std::sync::Arc;
use yellow_attic_core::timeline::Kind;
use yellow_attic_core::{ContentId, Moment, NodeId, ShelfId};

/// A copy that nobody finished is dropped after a day.
const ABANDONED_AFTER_MS: i64 = 86_400_000;

/// One thing in a copy.
pub(crate) struct CopyItem {
    pub parent: NodeId,
    pub key: Arc<str>,
    pub mtime: i64,
    pub executable: bool,
    /// None for a folder.
    pub staged: Option<Staged>,
    pub is_folder: bool,
}

pub(crate) enum Ready {
    File(StagedContent),
    Folder(ContentId, ObjectId),
}

pub(crate) fn bring(disk: &Arc<Disk>, staging: &Arc<Staging>, item: &mut CopyItem) -> Result<Ready> {
    match &mut item.staged {
        Some(staged) => Ok(Ready::File(staged.lie_down(item.mtime)?)),
        None => {
            let id = staging.next_id();
            let object =
                disk.make_staged_dir(&content_name(id)).map_err(|e| StoreError::io("copying", &e))?;
            Ok(Ready::Folder(id, object))
        }
    }
}

/// The top of a copy: a folder without a row.
pub(crate) async fn make_top(txn: &mut WriteTxn, staged: (ContentId, ObjectId)) -> Result<NodeId> {
    let node = txn.next_node();
    let (from, to) = (DiskLocation::Staging(staged.0), DiskLocation::Removed(node));
    txn.add_task(Task::new(staged.1, node, true, from, to));
    txn.set_folder(node, Folder { lies: FolderPlacement::Removed, ..Folder::new(staged.1, txn.now) });
    txn.add_job("take apart", node, Moment(txn.heads.moment), txn.now + ABANDONED_AFTER_MS);
    Ok(node)
}

/// Adds files and folders to a copy.
pub(crate) async fn add_batch(
    txn: &mut WriteTxn,
    actor: &Actor,
    items: &[CopyItem],
    ready: &[Ready],
) -> Result<Vec<NodeId>> {
    let moment = txn.next_moment();
    let mut nodes = Vec::with_capacity(items.len());
    for (item, ready) in items.iter().zip(ready) {
        let node = txn.next_node();
        let name: Arc<str> = crate::fs::model::name_in(&item.key).into();
        let mut row = Row {
            node,
            shelf: ShelfId(0),
            parent: Some(item.parent),
            key: item.key.clone(),
            kind: if item.is_folder { Kind::Folder } else { Kind::File },
            mtime: item.mtime,
            executable: item.executable,
            content: None,
            since: moment,
            at: txn.now,
            how: ChangeKind::Copied,
            account: actor.author(),
            device: actor.device,
        };
        let task = |from, object, folder| {
            Task::new(object, node, folder, from, DiskLocation::In(item.parent, name.clone()))
                .program(item.executable)
        };
        let delta = match ready {
            Ready::File(a) => {
                let mark = txn.add_task(task(DiskLocation::Staging(a.id), a.object, false));
                let content = Content {
                    id: a.id,
                    hash: a.hash,
                    size: a.size,
                    life: ContentState::Live,
                    object: a.object,
                    mark,
                };
                txn.add_measured(content, a.noise);
                row.content = Some(content);
                Delta { bytes: a.size, files: 1, ..Delta::default() }
            }
            Ready::Folder(id, object) => {
                txn.add_task(task(DiskLocation::Staging(*id), *object, true));
                txn.set_folder(node, Folder::new(*object, txn.now));
                Delta { folders: 1, ..Delta::default() }
            }
        };
        txn.open_row(row, false);
        txn.charge(item.parent, delta, 0).await?;
        nodes.push(node);
    }
    Ok(nodes)
}

/// Makes the top of a copy: a folder without a row.
#[derive(Default)]
pub(crate) struct CopyTop {
    made: Option<StagedFolder>,
}

impl Operation for CopyTop {
    type Told = NodeId;

    fn bring(&mut self, disk: &Arc<Disk>, staging: &Arc<Staging>) -> Result<Brought> {
        self.made = Some(StagedFolder::make(disk, staging)?);
        Ok(Brought::Something)
    }

    async fn decide(&mut self, txn: &mut WriteTxn, _: &mut Around<'_>) -> Result<NodeId> {
        let made = self.made.as_ref().map(|made| (made.id, made.object)).ok_or(StoreError::Stopping)?;
        make_top(txn, made).await
    }

    fn kept(self) {
        self.made.into_iter().for_each(StagedFolder::keep);
    }
}

/// Adds some things to a copy that grows.
pub(crate) struct CopyBatch {
    actor: Actor,
    items: Vec<CopyItem>,
    ready: Vec<Ready>,
}

impl CopyBatch {
    pub fn new(actor: Actor, items: Vec<CopyItem>) -> CopyBatch {
        CopyBatch { actor, items, ready: Vec::new() }
    }
}

impl Operation for CopyBatch {
    type Told = Vec<NodeId>;

    fn bring(&mut self, disk: &Arc<Disk>, staging: &Arc<Staging>) -> Result<Brought> {
        self.ready =
            self.items.iter_mut().map(|item| bring(disk, staging, item)).collect::<Result<Vec<_>>>()?;
        Ok(Brought::Something)
    }

    fn staged(&self) -> Vec<&Staged> {
        self.items.iter().filter_map(|i| i.staged.as_ref()).collect()
    }

    fn arriving(&self) -> usize {
        self.items.len()
    }

    async fn decide(&mut self, txn: &mut WriteTxn, _: &mut Around<'_>) -> Result<Vec<NodeId>> {
        add_batch(txn, &self.actor, &self.items, &self.ready).await
    }

    fn kept(self) {
        self.items.into_iter().filter_map(|i| i.staged).for_each(Staged::keep);
    }
}

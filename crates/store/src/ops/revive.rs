//! Bringing back: a file's earlier bytes, a removed file, a removed folder, a copy that appears.

use crate::fs::disk::{Disk, ObjectId};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ChangeKind, Content, ContentState, Folder, FolderPlacement, Row};
use crate::fs::pending_rename::{DiskLocation, Task};
use crate::fs::staging::{Staged, StagedContent, Staging};
use crate::ops::{Outcome, Place, key_of, stamped, taken, writable_folder};
use crate::txn::operation::{Around, Brought, Operation, StagedFolder};
use crate::txn::sums::Delta;
use crate::txn::write_txn::WriteTxn;
use std::sync::Arc;
use yellow_attic_core::rights::Level;
use yellow_attic_core::timeline::Kind;
use yellow_attic_core::{ContentId, Name, NodeId, ShelfId};

/// Gives a node the bytes of an earlier state: as a new entry where it is, or back from removal.
pub(crate) async fn revive_file(
    txn: &mut WriteTxn,
    actor: &Actor,
    node: NodeId,
    place: &Place,
    last: Option<(NodeId, Arc<str>)>,
    arrived: &StagedContent,
    (mtime, executable): (i64, bool),
) -> Result<Outcome> {
    if let Some(row) = txn.row(node).await? {
        let chain = txn.chain(node).await?.ok_or(StoreError::PlaceGone)?;
        let parent = row.parent.ok_or(StoreError::ShelfTop)?;
        txn.require(actor, node, Level::Edit).await?;
        txn.check_lock(actor, &chain)?;
        txn.check_going(&chain)?;
        let old = row.content;
        let shelf = chain[chain.len() - 1].shelf;
        txn.need_space(parent, None, arrived.size, row.size()).await?;
        let moment = txn.next_moment();
        txn.end_row(&row, moment, ChangeKind::Restored, actor);
        let next =
            Row { shelf, mtime, executable, ..stamped(&row, moment, ChangeKind::Restored, actor, txn.now) };
        let content = place_bytes(txn, node, parent, &next, arrived, old);
        let what = format!("{}/{}", txn.folder_path(parent).await?, row.name());
        txn.open_row(Row { content: Some(content), ..next }, true);
        let gone = old.map_or(0, |c| c.size);
        let delta = Delta {
            bytes: arrived.size - gone,
            past_bytes: gone,
            past_files: i64::from(old.is_some()),
            ..Delta::default()
        };
        txn.charge(parent, delta, 1).await?;
        txn.add_record(actor, "restored", Some(node), &what, &arrived.size.to_string());
        return Ok(Outcome { row: txn.row(node).await?, created: false, moment, same: false });
    }
    let (parent, key, shelf) = free_place(txn, actor, place, last).await?;
    txn.need_space(parent, None, arrived.size, 0).await?;
    let moment = txn.next_moment();
    let row = Row {
        node,
        shelf,
        parent: Some(parent),
        key,
        kind: Kind::File,
        mtime,
        executable,
        content: None,
        since: moment,
        at: txn.now,
        how: ChangeKind::Restored,
        account: actor.author(),
        device: actor.device,
    };
    let content = place_bytes(txn, node, parent, &row, arrived, None);
    let what = format!("{}/{}", txn.folder_path(parent).await?, row.name());
    txn.untrash(node).await?;
    txn.open_row(Row { content: Some(content), ..row }, false);
    txn.charge(parent, Delta { bytes: arrived.size, files: 1, ..Delta::default() }, 1).await?;
    txn.add_record(actor, "restored", Some(node), &what, &arrived.size.to_string());
    crate::ops::sleep::put_to_sleep(&mut txn.conn, node).await?;
    Ok(Outcome { row: txn.row(node).await?, created: true, moment, same: false })
}

fn place_bytes(
    txn: &mut WriteTxn,
    node: NodeId,
    parent: NodeId,
    row: &Row,
    arrived: &StagedContent,
    old: Option<Content>,
) -> Content {
    let mark = txn.add_task(
        Task::new(
            arrived.object,
            node,
            false,
            DiskLocation::Staging(arrived.id),
            DiskLocation::In(parent, row.name().into()),
        )
        .onto(old.map(|c| (c.id, c.object)))
        .program(row.executable),
    );
    if let Some(old) = old {
        txn.set_content(Content { life: ContentState::Past, ..old });
    }
    let content = Content {
        id: arrived.id,
        hash: arrived.hash,
        size: arrived.size,
        life: ContentState::Live,
        object: arrived.object,
        mark,
    };
    txn.add_measured(content, arrived.noise);
    content
}

/// Finds the place for something brought back, and that it is free.
async fn free_place(
    txn: &mut WriteTxn,
    actor: &Actor,
    place: &Place,
    last: Option<(NodeId, Arc<str>)>,
) -> Result<(NodeId, Arc<str>, ShelfId)> {
    let (parent, key) = match place {
        Place::At(parent, name) => (*parent, key_of(name)),
        Place::Last => last.ok_or(StoreError::PlaceGone)?,
    };
    if txn.chain(parent).await?.is_none() {
        return Err(StoreError::PlaceGone);
    }
    let chain = txn.require(actor, parent, Level::Edit).await?;
    writable_folder(txn, &chain).await?;
    txn.check_lock(actor, &chain)?;
    if let Some(there) = txn.child(parent, &key).await? {
        let name = Name::new(there.name())?;
        return Err(taken(txn, actor, &there, &chain, &name)?);
    }
    Ok((parent, key, chain[chain.len() - 1].shelf))
}

/// Brings a removed folder back, or lets a finished copy appear. While it is whole in
/// `past/removed`, that is one rename; `staged` is a new directory for one taken apart.
pub(crate) async fn revive_folder(
    txn: &mut WriteTxn,
    actor: &Actor,
    node: NodeId,
    place: &Place,
    last: Option<(NodeId, Arc<str>)>,
    staged: (ContentId, ObjectId),
    how: ChangeKind,
) -> Result<Outcome> {
    if txn.row(node).await?.is_some() {
        return Err(match txn.chain(node).await? {
            Some(_) => StoreError::StillHere,
            None => StoreError::PlaceGone,
        });
    }
    let sums = txn.folder(node).await?.ok_or_else(|| StoreError::NotFound("The folder".into()))?;
    let charged = last.as_ref().map(|l| l.0);
    let (parent, key, shelf) = free_place(txn, actor, place, last).await?;
    txn.need_space(parent, None, sums.bytes, 0).await?;

    let moment = txn.next_moment();
    let row = Row {
        node,
        shelf,
        parent: Some(parent),
        key,
        kind: Kind::Folder,
        mtime: txn.now,
        executable: false,
        content: None,
        since: moment,
        at: txn.now,
        how,
        account: actor.author(),
        device: actor.device,
    };
    let to = DiskLocation::In(parent, row.name().into());
    let (object, from) = match sums.lies {
        FolderPlacement::Apart => (staged.1, DiskLocation::Staging(staged.0)),
        _ => (sums.object, DiskLocation::Removed(node)),
    };
    txn.add_task(Task::new(object, node, true, from, to));
    txn.open_row(row, false);
    txn.set_folder(node, Folder { lies: FolderPlacement::Placed, object, ..sums });
    if how == ChangeKind::Restored {
        txn.add_job("rebuild", node, moment, txn.now);
        crate::ops::sleep::put_to_sleep(&mut txn.conn, node).await?;
    }
    txn.add_job("restamp", node, moment, txn.now);
    if let (Some(charged), ChangeKind::Restored) = (charged, how) {
        // What was counted as past where it was removed is counted as live where it comes back.
        txn.charge(charged, Delta::of(&sums).removed().negated(), 0).await?;
    }
    txn.charge(parent, Delta::of(&sums), 1).await?;
    let what = txn.path(node).await?;
    let action = if how == ChangeKind::Restored { "restored" } else { "copied" };
    txn.add_record(actor, action, Some(node), &what, &format!("{} files, {} bytes", sums.files, sums.bytes));
    Ok(Outcome { row: txn.row(node).await?, created: true, moment, same: false })
}

/// Brings a file back.
pub(crate) struct ReviveFile {
    pub actor: Actor,
    pub node: NodeId,
    pub place: Place,
    pub last: Option<(NodeId, Arc<str>)>,
    pub staged: Staged,
    pub mtime: i64,
    pub executable: bool,
    /// The bytes as they lie in staging.
    pub content: Option<StagedContent>,
}

impl Operation for ReviveFile {
    type Told = Outcome;

    fn bring(&mut self, _disk: &Arc<Disk>, _staging: &Arc<Staging>) -> Result<Brought> {
        self.content = Some(self.staged.lie_down(self.mtime)?);
        Ok(Brought::Something)
    }

    fn staged(&self) -> Vec<&Staged> {
        vec![&self.staged]
    }

    fn writes_by_itself(&self) -> bool {
        true
    }

    async fn decide(&mut self, txn: &mut WriteTxn, _: &mut Around<'_>) -> Result<Outcome> {
        let content = self.content.as_ref().ok_or(StoreError::Stopping)?;
        revive_file(
            txn,
            &self.actor,
            self.node,
            &self.place,
            self.last.take(),
            content,
            (self.mtime, self.executable),
        )
        .await
    }

    fn kept(self) {
        self.staged.keep();
    }
}

/// Brings a folder back.
pub(crate) struct ReviveFolder {
    pub actor: Actor,
    pub node: NodeId,
    pub place: Place,
    pub last: Option<(NodeId, Arc<str>)>,
    pub how: ChangeKind,
    /// A new directory, for one that was taken apart.
    pub made: Option<StagedFolder>,
}

impl Operation for ReviveFolder {
    type Told = Outcome;

    fn bring(&mut self, disk: &Arc<Disk>, staging: &Arc<Staging>) -> Result<Brought> {
        self.made = Some(StagedFolder::make(disk, staging)?);
        Ok(Brought::Something)
    }

    fn writes_by_itself(&self) -> bool {
        true
    }

    async fn decide(&mut self, txn: &mut WriteTxn, _: &mut Around<'_>) -> Result<Outcome> {
        let made = self.made.as_mut().ok_or(StoreError::Stopping)?;
        // Only a folder that was taken apart needs the new directory.
        made.wanted = txn.folder(self.node).await?.is_some_and(|f| f.lies == FolderPlacement::Apart);
        let (staged, last) = ((made.id, made.object), self.last.take());
        revive_folder(txn, &self.actor, self.node, &self.place, last, staged, self.how).await
    }

    fn kept(self) {
        self.made.into_iter().for_each(StagedFolder::keep);
    }
}

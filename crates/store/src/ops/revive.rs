//! Bringing back: a file's earlier bytes, a removed file, a removed folder, a copy that appears.

use crate::fs::disk::ObjectId;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ChangeKind, Content, ContentState, Folder, FolderPlacement, Row};
use crate::fs::pending_rename::{DiskLocation, Task};
use crate::ops::{Outcome, Place, StagedContent, key_of, stamped, taken, writable_folder};
use crate::txn::write_txn::{Delta, WriteTxn};
use std::sync::Arc;
use yellow_attic_core::rights::Level;
use yellow_attic_core::timeline::Kind;
use yellow_attic_core::{ContentId, Name, NodeId, ShelfId};

/// Gives a node the bytes of an earlier state: as a new entry where it is, or back from removal.
pub(crate) async fn revive_file(
    book: &mut WriteTxn,
    actor: &Actor,
    node: NodeId,
    place: &Place,
    last: Option<(NodeId, Arc<str>)>,
    arrived: &StagedContent,
    mtime: i64,
) -> Result<Outcome> {
    if let Some(row) = book.row(node).await? {
        let chain = book.chain(node).await?.ok_or(StoreError::PlaceGone)?;
        let parent = row.parent.ok_or(StoreError::ShelfTop)?;
        book.require(actor, node, Level::Edit).await?;
        book.check_lock(actor, &chain)?;
        book.check_going(&chain)?;
        let old = row.content;
        let shelf = chain[chain.len() - 1].shelf;
        book.need_space(parent, None, arrived.size, row.size()).await?;
        let moment = book.next_moment();
        book.end_row(&row, moment, ChangeKind::Restored, actor);
        let next = Row { shelf, mtime, ..stamped(&row, moment, ChangeKind::Restored, actor, book.now) };
        let content = place_bytes(book, node, parent, &next, arrived, old);
        let what = format!("{}/{}", book.folder_path(parent).await?, row.name());
        book.open_row(Row { content: Some(content), ..next }, true);
        let gone = old.map_or(0, |c| c.size);
        let delta = Delta {
            bytes: arrived.size - gone,
            past_bytes: gone,
            past_files: i64::from(old.is_some()),
            ..Delta::default()
        };
        book.charge(parent, delta, 1).await?;
        book.add_record(actor, "restored", Some(node), &what, &arrived.size.to_string());
        return Ok(Outcome { row: book.row(node).await?, created: false, moment });
    }
    let (parent, key, shelf) = free_place(book, actor, place, last).await?;
    book.need_space(parent, None, arrived.size, 0).await?;
    let moment = book.next_moment();
    let row = Row {
        node,
        shelf,
        parent: Some(parent),
        key,
        kind: Kind::File,
        mtime,
        content: None,
        since: moment,
        at: book.now,
        how: ChangeKind::Restored,
        account: actor.author(),
        device: actor.device,
    };
    let content = place_bytes(book, node, parent, &row, arrived, None);
    let what = format!("{}/{}", book.folder_path(parent).await?, row.name());
    book.untrash(node).await?;
    book.open_row(Row { content: Some(content), ..row }, false);
    book.charge(parent, Delta { bytes: arrived.size, files: 1, ..Delta::default() }, 1).await?;
    book.add_record(actor, "restored", Some(node), &what, &arrived.size.to_string());
    crate::sharing::decide::put_to_sleep(&mut book.conn, node).await?;
    Ok(Outcome { row: book.row(node).await?, created: true, moment })
}

fn place_bytes(
    book: &mut WriteTxn,
    node: NodeId,
    parent: NodeId,
    row: &Row,
    arrived: &StagedContent,
    old: Option<Content>,
) -> Content {
    let mark = book.add_task(
        Task::new(
            arrived.object,
            node,
            false,
            DiskLocation::Staging(arrived.id),
            DiskLocation::In(parent, row.name().into()),
        )
        .onto(old.map(|c| (c.id, c.object))),
    );
    if let Some(old) = old {
        book.set_content(Content { life: ContentState::Past, ..old });
    }
    let content = Content {
        id: arrived.id,
        hash: arrived.hash,
        size: arrived.size,
        life: ContentState::Live,
        object: arrived.object,
        mark,
    };
    book.add_measured(content, arrived.noise);
    content
}

/// Finds the place for something brought back, and that it is free.
async fn free_place(
    book: &mut WriteTxn,
    actor: &Actor,
    place: &Place,
    last: Option<(NodeId, Arc<str>)>,
) -> Result<(NodeId, Arc<str>, ShelfId)> {
    let (parent, key) = match place {
        Place::At(parent, name) => (*parent, key_of(name)),
        Place::Last => last.ok_or(StoreError::PlaceGone)?,
    };
    if book.chain(parent).await?.is_none() {
        return Err(StoreError::PlaceGone);
    }
    let chain = book.require(actor, parent, Level::Edit).await?;
    writable_folder(book, &chain).await?;
    book.check_lock(actor, &chain)?;
    if let Some(there) = book.child(parent, &key).await? {
        let name = Name::new(there.name())?;
        return Err(taken(book, actor, &there, &chain, &name)?);
    }
    Ok((parent, key, chain[chain.len() - 1].shelf))
}

/// Brings a removed folder back, or lets a finished copy appear. While it is whole in
/// `past/removed`, that is one rename; `staged` is a new directory for one taken apart.
pub(crate) async fn revive_folder(
    book: &mut WriteTxn,
    actor: &Actor,
    node: NodeId,
    place: &Place,
    last: Option<(NodeId, Arc<str>)>,
    staged: (ContentId, ObjectId),
    how: ChangeKind,
) -> Result<Outcome> {
    if book.row(node).await?.is_some() {
        return Err(match book.chain(node).await? {
            Some(_) => StoreError::StillHere,
            None => StoreError::PlaceGone,
        });
    }
    let sums = book.folder(node).await?.ok_or_else(|| StoreError::NotFound("The folder".into()))?;
    let charged = last.as_ref().map(|l| l.0);
    let (parent, key, shelf) = free_place(book, actor, place, last).await?;
    book.need_space(parent, None, sums.bytes, 0).await?;

    let moment = book.next_moment();
    let row = Row {
        node,
        shelf,
        parent: Some(parent),
        key,
        kind: Kind::Folder,
        mtime: book.now,
        content: None,
        since: moment,
        at: book.now,
        how,
        account: actor.author(),
        device: actor.device,
    };
    let to = DiskLocation::In(parent, row.name().into());
    let (object, from) = match sums.lies {
        FolderPlacement::Apart => (staged.1, DiskLocation::Staging(staged.0)),
        _ => (sums.object, DiskLocation::Removed(node)),
    };
    book.add_task(Task::new(object, node, true, from, to));
    book.open_row(row, false);
    book.set_folder(node, Folder { lies: FolderPlacement::Placed, object, ..sums });
    if how == ChangeKind::Restored {
        book.add_job("rebuild", node, moment, book.now);
        crate::sharing::decide::put_to_sleep(&mut book.conn, node).await?;
    }
    book.add_job("restamp", node, moment, book.now);
    if let (Some(charged), ChangeKind::Restored) = (charged, how) {
        // What was counted as past where it was removed is counted as live where it comes back.
        book.charge(charged, Delta::of(&sums).removed().negated(), 0).await?;
    }
    book.charge(parent, Delta::of(&sums), 1).await?;
    let what = book.path(node).await?;
    let action = if how == ChangeKind::Restored { "restored" } else { "copied" };
    book.add_record(actor, action, Some(node), &what, &format!("{} files, {} bytes", sums.files, sums.bytes));
    Ok(Outcome { row: book.row(node).await?, created: true, moment })
}

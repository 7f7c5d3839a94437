//! The operations on the timeline: each looks first, and changes the transaction only when nothing
//! can refuse any more, so that one refusal in a group harms no other.

pub(crate) mod convert;
pub(crate) mod copy;
pub(crate) mod found;
pub mod grants;
pub(crate) mod hands;
pub(crate) mod locks;
pub(crate) mod make;
pub mod properties;
pub(crate) mod put;
pub(crate) mod record;
pub(crate) mod relocate;
pub(crate) mod repeats;
pub(crate) mod revive;
pub(crate) mod sleep;
pub mod together;

use crate::fs::disk::ObjectId;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ChangeKind, Folder, FolderPlacement, Row, Shelf, ShelfKind};
use crate::fs::pending_rename::{DiskLocation, Task};
use crate::ops::grants::NewGrant;
use crate::ops::put::put;
use crate::txn::save_heuristics::SaveHeuristics;
use crate::txn::sums::Delta;
use crate::txn::write_txn::WriteTxn;
use std::sync::Arc;
use yellow_attic_core::collate::sort_key;
use yellow_attic_core::path::MAX_DEPTH;
use yellow_attic_core::rights::{Gives, Level, Subject};
use yellow_attic_core::timeline::{Kind, Left, LeftTo};
use yellow_attic_core::{AccountId, ContentId, Moment, Name, NodeId, OrgId, ShelfId};

/// What an operation did.
#[derive(Clone, Debug)]
pub struct Outcome {
    /// The node as it is now; none if it was removed.
    pub row: Option<Arc<Row>>,
    /// Whether something new was made.
    pub created: bool,
    /// The number of the change; the last one before, if nothing changed.
    pub moment: Moment,
    /// Whether its bytes were there already, so that no state was made.
    pub same: bool,
}

/// A new shelf.
#[derive(Clone, Debug)]
pub struct NewShelf {
    /// Home or shared.
    pub kind: ShelfKind,
    /// Its name, also on the disk.
    pub name: Name,
    /// Who owns it.
    pub owner: Option<AccountId>,
    /// Who else may enter.
    pub grants: Vec<(Subject, Gives)>,
}

/// How a place is chosen for something brought back.
#[derive(Clone, Debug)]
pub enum Place {
    /// Where it was last.
    Last,
    /// In this folder, under this name.
    At(NodeId, Name),
}

pub(crate) async fn left_at(
    txn: &mut WriteTxn,
    memory: &SaveHeuristics,
    actor: &Actor,
    parent: NodeId,
    key: &Arc<str>,
) -> Result<Option<Left>> {
    let Some(memo) = memory.left.get(&(parent, key.clone())).filter(|m| m.holds(actor, txn.now)) else {
        return Ok(None);
    };
    let now = match txn.row(memo.node).await? {
        None => LeftTo::Past,
        Some(row) if row.parent == Some(parent) => LeftTo::Beside,
        Some(_) => LeftTo::Elsewhere,
    };
    Ok(Some(Left { node: memo.node, now }))
}

pub(crate) fn stamped(row: &Row, moment: Moment, how: ChangeKind, actor: &Actor, now: i64) -> Row {
    Row { since: moment, at: now, how, account: actor.author(), device: actor.device, ..row.clone() }
}

/// Refuses a folder into which nothing can be written now; it is the first of its chain.
pub(crate) async fn writable_folder(txn: &mut WriteTxn, chain: &[Arc<Row>]) -> Result<()> {
    txn.check_going(chain)?;
    let row = &chain[0];
    if !row.is_folder() {
        return Err(StoreError::NotAFolder(row.name().into()));
    }
    match txn.folder(row.node).await? {
        Some(folder) if folder.lies == FolderPlacement::Placed => Ok(()),
        Some(_) => Err(StoreError::Busy),
        None => Err(StoreError::Catalogue(format!("folder {} has no sums", row.node))),
    }
}

pub(crate) fn key_of(name: &Name) -> Arc<str> {
    sort_key(name).into()
}

/// A name is taken, or cannot be used: by what the actor may not see.
pub(crate) fn taken(
    txn: &WriteTxn,
    actor: &Actor,
    there: &Arc<Row>,
    above: &[Arc<Row>],
    name: &Name,
) -> Result<StoreError> {
    let way: Vec<Arc<Row>> = std::iter::once(there).chain(above).cloned().collect();
    Ok(match txn.level(actor, &way)? {
        Some(_) => StoreError::NameTaken(name.to_string()),
        None => StoreError::NameUnusable(name.to_string()),
    })
}

/// Makes a shelf. Its directory is there already.
pub(crate) async fn make_shelf(
    txn: &mut WriteTxn,
    actor: &Actor,
    new: &NewShelf,
    object: ObjectId,
) -> Result<Outcome> {
    if txn.shelf_named(new.kind, new.name.as_str()) {
        return Err(StoreError::Exists(format!("There is a shelf named \"{}\" already", new.name)));
    }
    let moment = txn.next_moment();
    let id = txn.next_shelf();
    let root = txn.next_node();
    let row = Row {
        node: root,
        shelf: id,
        parent: None,
        key: key_of(&new.name),
        kind: Kind::Folder,
        mtime: txn.now,
        executable: false,
        content: None,
        since: moment,
        at: txn.now,
        how: ChangeKind::Made,
        account: actor.author(),
        device: actor.device,
    };
    txn.open_row(row, false);
    txn.set_folder(root, Folder::new(object, txn.now));
    txn.add_shelf(Shelf {
        id,
        org: OrgId(1),
        kind: new.kind,
        name: new.name.to_string(),
        disk_name: new.name.to_string(),
        owner: new.owner,
        root,
    });
    for (subject, gives) in &new.grants {
        let grant =
            NewGrant { node: root, subject: *subject, gives: *gives, until: None, message: String::new() };
        grants::insert(&mut txn.conn, actor, &grant, txn.now).await?;
    }
    if !new.grants.is_empty() {
        txn.reload_access().await?;
    }
    txn.add_record(actor, "shelf made", Some(root), new.name.as_str(), "");
    Ok(Outcome { row: txn.row(root).await?, created: true, moment, same: false })
}

/// Makes a folder. Its directory lies in staging. `hidden`: inside a copy that nobody can see yet.
pub(crate) async fn make_folder(
    txn: &mut WriteTxn,
    actor: &Actor,
    parent: NodeId,
    name: &Name,
    staged: (ContentId, ObjectId),
) -> Result<Outcome> {
    let chain = txn.require(actor, parent, Level::Add).await?;
    writable_folder(txn, &chain).await?;
    txn.check_lock(actor, &chain)?;
    if chain.len() > MAX_DEPTH {
        return Err(StoreError::TooDeep(chain.len()));
    }
    let key = key_of(name);
    if let Some(there) = txn.child(parent, &key).await? {
        return Err(taken(txn, actor, &there, &chain, name)?);
    }
    let what = format!("{}/{name}", txn.folder_path(parent).await?);
    let shelf = chain[chain.len() - 1].shelf;
    let moment = txn.next_moment();
    let node = add_folder(txn, actor, shelf, parent, key, staged, moment).await?;
    txn.add_record(actor, "folder made", Some(node), &what, "");
    Ok(Outcome { row: txn.row(node).await?, created: true, moment, same: false })
}

async fn add_folder(
    txn: &mut WriteTxn,
    actor: &Actor,
    shelf: ShelfId,
    parent: NodeId,
    key: Arc<str>,
    staged: (ContentId, ObjectId),
    moment: Moment,
) -> Result<NodeId> {
    let node = txn.next_node();
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
        how: ChangeKind::Made,
        account: actor.author(),
        device: actor.device,
    };
    let to = DiskLocation::In(parent, row.name().into());
    txn.open_row(row, false);
    txn.set_folder(node, Folder::new(staged.1, txn.now));
    txn.charge(parent, Delta { folders: 1, ..Delta::default() }, 1).await?;
    txn.add_task(Task::new(staged.1, node, true, DiskLocation::Staging(staged.0), to));
    Ok(node)
}

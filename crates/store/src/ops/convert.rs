//! A folder becomes a shared shelf, a shelf becomes a folder, a shelf goes: one row and one rename,
//! whatever is beneath. Ids, history, links and grants stay with what they are on.

use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ChangeKind, Folder, FolderPlacement, Row, Shelf, ShelfKind};
use crate::fs::pending_rename::{DiskLocation, Task};
use crate::ops::Outcome;
use crate::ops::grants::{self, NewGrant};
use crate::txn::operation::{Around, Operation};
use crate::txn::sums::Delta;
use crate::txn::write_txn::WriteTxn;
use std::collections::BTreeMap;
use std::sync::Arc;
use yellow_attic_core::collate::sort_key;
use yellow_attic_core::path::MAX_DEPTH;
use yellow_attic_core::rights::{Gives, Level, Subject};
use yellow_attic_core::{AccountId, Moment, Name, NodeId, OrgId, ShelfId};

/// What becomes of a folder or a shelf.
#[derive(Clone, Debug)]
pub(crate) enum Converting {
    /// A folder becomes a shared shelf.
    Raise { node: NodeId, name: Name },
    /// A shelf becomes a folder.
    Lower { shelf: ShelfId, parent: NodeId, name: Name },
    /// A shelf is removed, with all that is on it.
    Drop { shelf: ShelfId },
}

pub(crate) async fn apply(
    txn: &mut WriteTxn,
    actor: &Actor,
    change: &Converting,
    take_apart_after: i64,
) -> Result<Outcome> {
    match change {
        Converting::Raise { node, name } => raise(txn, actor, *node, name).await,
        Converting::Lower { shelf, parent, name } => lower(txn, actor, *shelf, *parent, name).await,
        Converting::Drop { shelf } => drop_shelf(txn, actor, *shelf, take_apart_after).await,
    }
}

async fn sums_of(txn: &mut WriteTxn, node: NodeId) -> Result<Folder> {
    match txn.folder(node).await? {
        Some(sums) if sums.lies == FolderPlacement::Placed => Ok(sums),
        Some(_) => Err(StoreError::Busy),
        None => Err(StoreError::Catalogue(format!("folder {node} has no sums"))),
    }
}

/// The row of a node at another place, from a number on.
fn placed(
    row: &Row,
    shelf: ShelfId,
    parent: Option<NodeId>,
    name: &Name,
    at: (Moment, i64),
    actor: &Actor,
) -> Row {
    Row {
        shelf,
        parent,
        key: sort_key(name).into(),
        since: at.0,
        at: at.1,
        how: ChangeKind::Arrived,
        account: actor.account,
        device: actor.device,
        ..row.clone()
    }
}

async fn raise(txn: &mut WriteTxn, actor: &Actor, node: NodeId, name: &Name) -> Result<Outcome> {
    let chain = txn.require(actor, node, Level::Manage).await?;
    let row = chain[0].clone();
    let Some(parent) = row.parent else { return Err(StoreError::ShelfTop) };
    if !row.is_folder() {
        return Err(StoreError::NotAFolder(row.name().into()));
    }
    let sums = sums_of(txn, node).await?;
    grants::check_beneath(txn, actor, node).await?;
    txn.check_locks_beneath(actor, &chain).await?;
    if txn.shelf_named(ShelfKind::Shared, name.as_str()) {
        return Err(StoreError::Exists(format!("There is a shelf named \"{name}\" already")));
    }
    let what = txn.path(node).await?;
    let from = chain[chain.len() - 1].shelf;
    let owners = txn.access.owners(from).to_vec();
    let inherited = inherited(txn, &chain);

    // Who could enter by what was given further up can enter by the same, given here.
    for grant in &inherited {
        grants::insert(&mut txn.conn, actor, grant, txn.now).await?;
    }
    let moment = txn.next_moment();
    let shelf = Shelf {
        id: txn.next_shelf(),
        org: OrgId(1),
        kind: ShelfKind::Shared,
        name: name.to_string(),
        disk_name: name.to_string(),
        owner: owners.first().copied().or(actor.account),
        root: node,
    };
    txn.end_row(&row, moment, ChangeKind::Left, actor);
    txn.add_task(Task::new(
        sums.object,
        node,
        true,
        DiskLocation::In(parent, row.name().into()),
        DiskLocation::Top(ShelfKind::Shared, name.as_str().into()),
    ));
    txn.open_row(placed(&row, shelf.id, None, name, (moment, txn.now), actor), true);
    txn.add_job("restamp", node, moment, txn.now);
    txn.charge(parent, Delta::of(&sums).negated(), 1).await?;
    txn.forget_whole();
    txn.add_shelf(shelf);
    if !inherited.is_empty() {
        txn.reload_access().await?;
    }
    txn.add_record(actor, "folder made a shared shelf", Some(node), &what, name.as_str());
    Ok(Outcome { row: txn.row(node).await?, created: true, moment, same: false })
}

/// What counts at a node by grants further up, added to its own: one grant a subject.
fn inherited(txn: &WriteTxn, chain: &[Arc<Row>]) -> Vec<NewGrant> {
    let mut found: BTreeMap<String, NewGrant> = BTreeMap::new();
    let mut afresh = false;
    for (i, row) in chain.iter().enumerate() {
        let Some(here) = txn.access.here(row.node) else { continue };
        for grant in here.grants.iter().filter(|g| !g.ended(txn.now)) {
            if afresh && i > 0 && grant.gives != Gives::Deny {
                continue;
            }
            let new = NewGrant {
                node: chain[0].node,
                subject: grant.subject,
                gives: grant.gives,
                until: grant.until,
                message: String::new(),
            };
            let stronger = |a: Gives, b: Gives| match (a, b) {
                (Gives::Deny, _) => true,
                (_, Gives::Deny) => false,
                (Gives::Allow(a), Gives::Allow(b)) => a > b,
            };
            match found.entry(format!("{:?}", grant.subject)) {
                std::collections::btree_map::Entry::Vacant(free) => drop(free.insert(new)),
                std::collections::btree_map::Entry::Occupied(mut there) => {
                    if stronger(new.gives, there.get().gives) {
                        there.insert(new);
                    }
                }
            }
        }
        afresh |= here.afresh;
    }
    // Its own stay as they are, with their messages.
    let own = txn.access.here(chain[0].node);
    found.retain(|_, new| {
        !own.is_some_and(|h| h.grants.iter().any(|g| g.subject == new.subject && g.gives == new.gives))
    });
    found.into_values().collect()
}

async fn lower(
    txn: &mut WriteTxn,
    actor: &Actor,
    id: ShelfId,
    parent: NodeId,
    name: &Name,
) -> Result<Outcome> {
    let gone = || StoreError::NotFound("The shelf".into());
    let shelf = txn.shelves.get(&id).cloned().ok_or_else(gone)?;
    let chain = txn.require(actor, shelf.root, Level::Manage).await?;
    let row = chain[0].clone();
    let above = txn.require(actor, parent, Level::Manage).await?;
    if !above[0].is_folder() {
        return Err(StoreError::NotAFolder(above[0].name().into()));
    }
    sums_of(txn, parent).await?;
    if above.iter().any(|r| r.node == shelf.root) {
        return Err(StoreError::IntoItself);
    }
    if above.len() > MAX_DEPTH {
        return Err(StoreError::TooDeep(above.len()));
    }
    if txn.child(parent, &sort_key(name).into()).await?.is_some() {
        return Err(StoreError::NameTaken(name.to_string()));
    }
    let sums = sums_of(txn, shelf.root).await?;
    grants::check_beneath(txn, actor, shelf.root).await?;
    txn.check_locks_beneath(actor, &chain).await?;
    let to = above[above.len() - 1].shelf;
    // What the service itself moves is let in: nothing may be lost for want of space.
    if actor.account.is_some() {
        txn.need_space(parent, Some(shelf.root), sums.bytes, 0).await?;
    }
    let (what, target) = (txn.path(shelf.root).await?, format!("{}/{name}", txn.folder_path(parent).await?));

    // Its owners keep what they may do, unless the shelf was a home: that one is handed over.
    let owners: Vec<AccountId> = match shelf.kind {
        ShelfKind::Home => Vec::new(),
        ShelfKind::Shared => txn.access.owners(id).to_vec(),
    };
    let mut given = false;
    for owner in owners.into_iter().filter(|o| !txn.access.owns(*o, to)) {
        let grant = NewGrant {
            node: shelf.root,
            subject: Subject::Account(owner),
            gives: Gives::Allow(Level::Manage),
            until: None,
            message: String::new(),
        };
        grants::insert(&mut txn.conn, actor, &grant, txn.now).await?;
        given = true;
    }
    let moment = txn.next_moment();
    txn.end_row(&row, moment, ChangeKind::Left, actor);
    txn.add_task(Task::new(
        sums.object,
        shelf.root,
        true,
        DiskLocation::Top(shelf.kind, shelf.disk_name.as_str().into()),
        DiskLocation::In(parent, name.as_str().into()),
    ));
    txn.open_row(placed(&row, to, Some(parent), name, (moment, txn.now), actor), true);
    txn.add_job("restamp", shelf.root, moment, txn.now);
    txn.charge(parent, Delta::of(&sums), 1).await?;
    txn.forget_whole();
    txn.end_shelf(&shelf);
    if given {
        txn.reload_access().await?;
    }
    txn.add_record(actor, "shelf made a folder", Some(shelf.root), &what, &target);
    Ok(Outcome { row: txn.row(shelf.root).await?, created: false, moment, same: false })
}

async fn drop_shelf(
    txn: &mut WriteTxn,
    actor: &Actor,
    id: ShelfId,
    take_apart_after: i64,
) -> Result<Outcome> {
    let gone = || StoreError::NotFound("The shelf".into());
    let shelf = txn.shelves.get(&id).cloned().ok_or_else(gone)?;
    let chain = txn.require(actor, shelf.root, Level::Manage).await?;
    let row = chain[0].clone();
    let sums = sums_of(txn, shelf.root).await?;
    grants::check_beneath(txn, actor, shelf.root).await?;
    txn.check_locks_beneath(actor, &chain).await?;
    let what = txn.path(shelf.root).await?;

    let moment = txn.next_moment();
    txn.end_row(&row, moment, ChangeKind::Removed, actor);
    txn.set_folder(shelf.root, Folder { lies: FolderPlacement::Removed, ..sums });
    txn.add_task(Task::new(
        sums.object,
        shelf.root,
        true,
        DiskLocation::Top(shelf.kind, shelf.disk_name.as_str().into()),
        DiskLocation::Removed(shelf.root),
    ));
    txn.add_job("take apart", shelf.root, moment, txn.now + take_apart_after);
    txn.end_shelf(&shelf);
    let detail = format!("{} files, {} bytes", sums.files, sums.bytes);
    txn.add_record(actor, "shelf removed", Some(shelf.root), &what, &detail);
    Ok(Outcome { row: None, created: false, moment, same: false })
}

/// Makes a folder a shelf, or a shelf a folder.
pub(crate) struct Convert {
    pub actor: Actor,
    pub change: Converting,
}

impl Operation for Convert {
    type Told = Outcome;

    fn writes_by_itself(&self) -> bool {
        true
    }

    fn within_savepoint(&self) -> bool {
        true
    }

    async fn decide(&mut self, txn: &mut WriteTxn, around: &mut Around<'_>) -> Result<Outcome> {
        apply(txn, &self.actor, &self.change, around.take_apart_after).await
    }
}

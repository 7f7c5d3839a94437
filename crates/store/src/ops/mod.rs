//! The operations on the timeline: each looks first, and changes the transaction only when nothing
//! can refuse any more, so that one refusal in a group harms no other.

pub(crate) mod convert;
pub(crate) mod copy;
pub(crate) mod found;
pub mod grants;
pub(crate) mod locks;
pub(crate) mod make;
pub mod properties;
pub(crate) mod put;
pub(crate) mod record;
pub(crate) mod relocate;
pub(crate) mod revive;
pub(crate) mod sleep;

use crate::fs::disk::ObjectId;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{
    Actor, ChangeKind, Content, ContentState, Folder, FolderPlacement, Row, Shelf, ShelfKind,
};
use crate::fs::pending_rename::{DiskLocation, Task};
use crate::fs::staging::StagedContent;
use crate::ops::grants::NewGrant;
use crate::rights::access::may_put;
use crate::txn::save_heuristics::SaveHeuristics;
use crate::txn::write_txn::{Delta, WriteTxn};
use std::sync::Arc;
use yellow_attic_core::collate::sort_key;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::path::MAX_DEPTH;
use yellow_attic_core::rights::{Gives, Level, Subject};
use yellow_attic_core::timeline::{
    Kind, Left, LeftTo, MovePlan, Mover, Occupant, PutPlan, plan_move, plan_put,
};
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

async fn left_at(
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
    Ok(Outcome { row: txn.row(root).await?, created: true, moment })
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
    Ok(Outcome { row: txn.row(node).await?, created: true, moment })
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

/// Puts bytes at a name: new, or a new entry of what stands there.
#[allow(clippy::too_many_arguments)]
pub(crate) async fn put(
    txn: &mut WriteTxn,
    memory: &mut SaveHeuristics,
    actor: &Actor,
    parent: NodeId,
    name: &Name,
    arrived: &StagedContent,
    mtime: i64,
    conditions: &Conditions,
    how: ChangeKind,
) -> Result<Outcome> {
    let gone = || StoreError::NotFound("The file or folder".into());
    let chain = txn.chain(parent).await?.ok_or_else(gone)?;
    let key = key_of(name);
    let there = txn.child(parent, &key).await?;
    let here = match &there {
        Some(row) => {
            let way: Vec<Arc<Row>> = std::iter::once(row).chain(&chain).cloned().collect();
            Some(txn.level(actor, &way)?)
        }
        None => None,
    };
    may_put(txn.level(actor, &chain)?, here, name.as_str())?;
    writable_folder(txn, &chain).await?;
    if chain.len() > MAX_DEPTH {
        return Err(StoreError::TooDeep(chain.len()));
    }
    let shelf = chain[chain.len() - 1].shelf;
    let present = there.as_ref().map(|r| r.standing());
    if !conditions.hold(present.as_ref()) {
        return Err(StoreError::ConditionFailed { present: present.and_then(|p| p.tag) });
    }
    let left = match &there {
        Some(_) => None,
        None => left_at(txn, memory, actor, parent, &key).await?,
    };
    match &there {
        Some(row) => {
            let way: Vec<Arc<Row>> = std::iter::once(row).chain(&chain).cloned().collect();
            txn.check_lock(actor, &way)?;
        }
        None => txn.check_lock(actor, &chain)?,
    }
    let occupant = there.as_ref().map(|r| Occupant { node: r.node, kind: r.kind });
    let plan = plan_put(occupant, left);
    if matches!(plan, PutPlan::FolderInTheWay) {
        return Err(StoreError::FolderInTheWay(name.to_string()));
    }
    let replaced = there.as_ref().map_or(0, |r| r.size());
    txn.need_space(parent, None, arrived.size, replaced).await?;
    let what = format!("{}/{name}", txn.folder_path(parent).await?);

    // Nothing refuses from here on.
    let moment = txn.next_moment();
    let mut row = Row {
        node: NodeId(0),
        shelf,
        parent: Some(parent),
        key,
        kind: Kind::File,
        mtime,
        content: None,
        since: moment,
        at: txn.now,
        how,
        account: actor.author(),
        device: actor.device,
    };
    let created = !matches!(plan, PutPlan::Replace(_));
    let mut old = None;
    match plan {
        PutPlan::Replace(node) => {
            row.node = node;
            row.how = if how == ChangeKind::Made { ChangeKind::Changed } else { how };
            if let Some(there) = &there {
                old = there.content;
                txn.end_row(there, moment, ChangeKind::Changed, actor);
            }
        }
        PutPlan::Resume(node) => {
            txn.untrash(node).await?;
            row.node = node;
            row.how = ChangeKind::Changed;
        }
        PutPlan::Return(node) => {
            row.node = node;
            row.how = ChangeKind::Changed;
            stay_behind(txn, actor, node, None, moment).await?;
        }
        PutPlan::New | PutPlan::FolderInTheWay => {
            row.node = txn.next_node();
            memory.remember_made(row.node, actor, txn.now);
        }
    }
    let node = row.node;
    let existed = !matches!(plan, PutPlan::New);
    let task = Task::new(
        arrived.object,
        node,
        false,
        DiskLocation::Staging(arrived.id),
        DiskLocation::In(parent, row.name().into()),
    )
    .onto(old.map(|c| (c.id, c.object)));
    let mark = txn.add_task(task);
    let content = Content {
        id: arrived.id,
        hash: arrived.hash,
        size: arrived.size,
        life: ContentState::Live,
        object: arrived.object,
        mark,
    };
    txn.add_measured(content, arrived.noise);
    row.content = Some(content);
    txn.open_row(row, existed && !matches!(plan, PutPlan::Resume(_)));
    let old_size = old.map_or(0, |c| c.size);
    if let Some(old) = old {
        txn.set_content(Content { life: ContentState::Past, ..old });
    }
    let delta = Delta {
        bytes: arrived.size - old_size,
        files: i64::from(created),
        past_bytes: old_size,
        past_files: i64::from(old.is_some()),
        ..Delta::default()
    };
    txn.charge(parent, delta, 1).await?;
    txn.add_record(
        actor,
        if created { "file put" } else { "file replaced" },
        Some(node),
        &what,
        &arrived.size.to_string(),
    );
    Ok(Outcome { row: txn.row(node).await?, created, moment })
}

/// The node that was renamed away leaves its present name and bytes to another node: to
/// `heir`, or to a new one.
async fn stay_behind(
    txn: &mut WriteTxn,
    actor: &Actor,
    node: NodeId,
    heir: Option<NodeId>,
    moment: Moment,
) -> Result<()> {
    let Some(beside) = txn.row(node).await? else { return Ok(()) };
    txn.end_row(&beside, moment, ChangeKind::Moved, actor);
    let (heir, existed) = match heir {
        Some(heir) => (heir, true),
        None => (txn.next_node(), false),
    };
    txn.open_row(Row { node: heir, ..stamped(&beside, moment, ChangeKind::Moved, actor, txn.now) }, existed);
    Ok(())
}

/// Moves or renames a node.
#[allow(clippy::too_many_arguments)]
pub(crate) async fn move_node(
    txn: &mut WriteTxn,
    memory: &mut SaveHeuristics,
    actor: &Actor,
    node: NodeId,
    parent: NodeId,
    name: &Name,
    replace: bool,
    conditions: &Conditions,
) -> Result<Outcome> {
    let from_chain = txn.require(actor, node, Level::Edit).await?;
    let mover = from_chain[0].clone();
    let Some(from_parent) = mover.parent else { return Err(StoreError::ShelfTop) };
    // A name is changed by whoever may edit the thing itself.
    let to_chain = match parent == from_parent {
        true => from_chain[1..].to_vec(),
        false => txn.require(actor, parent, Level::Add).await?,
    };
    writable_folder(txn, &to_chain).await?;
    txn.check_going(&from_chain)?;
    if let Some(row) = txn.folder(node).await?
        && row.lies != FolderPlacement::Placed
    {
        return Err(StoreError::Busy);
    }
    let present = mover.standing();
    if !conditions.hold(Some(&present)) {
        return Err(StoreError::ConditionFailed { present: present.tag });
    }
    if mover.is_folder() && to_chain.iter().any(|r| r.node == node) {
        return Err(StoreError::IntoItself);
    }
    if to_chain.len() > MAX_DEPTH {
        return Err(StoreError::TooDeep(to_chain.len()));
    }
    let key = key_of(name);
    let there = txn.child(parent, &key).await?;
    let left = match &there {
        Some(_) => None,
        None => left_at(txn, memory, actor, parent, &key).await?,
    };
    let plan = plan_move(
        Mover { node, kind: mover.kind, fresh: memory.fresh(node, actor, txn.now) },
        there.as_ref().map(|r| Occupant { node: r.node, kind: r.kind }),
        left,
        replace,
    );
    match plan {
        MovePlan::Nothing => {
            return Ok(Outcome { row: Some(mover), created: false, moment: Moment(txn.heads.moment) });
        }
        MovePlan::Taken | MovePlan::FolderInTheWay | MovePlan::Onto(_) => {
            if let Some(there) = &there {
                if let StoreError::NameUnusable(name) = taken(txn, actor, there, &to_chain, name)? {
                    return Err(StoreError::NameUnusable(name));
                }
                match plan {
                    MovePlan::Taken => return Err(StoreError::NameTaken(name.to_string())),
                    MovePlan::Onto(kept) => drop(txn.require(actor, kept, Level::Edit).await?),
                    _ => return Err(StoreError::FolderInTheWay(name.to_string())),
                }
            }
        }
        _ => {}
    }
    if mover.is_folder() {
        grants::check_beneath(txn, actor, node).await?;
    }
    txn.check_locks_beneath(actor, &from_chain).await?;
    txn.check_lock(actor, &from_chain[1..])?;
    match (&plan, &there) {
        (MovePlan::Onto(_), Some(there)) => {
            let way: Vec<Arc<Row>> = std::iter::once(there).chain(&to_chain).cloned().collect();
            txn.check_lock(actor, &way)?;
        }
        _ => txn.check_lock(actor, &to_chain)?,
    }
    if parent != from_parent {
        grants::check_widening(txn, actor, &from_chain, &to_chain).await?;
    }
    let what = txn.path(node).await?;
    let target = format!("{}/{name}", txn.folder_path(parent).await?);
    let sums = txn.folder(node).await?;
    let (from_shelf, to_shelf) = (from_chain[from_chain.len() - 1].shelf, to_chain[to_chain.len() - 1].shelf);
    let crossing = from_shelf != to_shelf;
    if parent != from_parent {
        let more = sums.map_or_else(|| mover.size(), |s| s.bytes);
        txn.need_space(parent, Some(from_parent), more, 0).await?;
    }
    let object = match (&mover.content, &sums) {
        (Some(content), _) => content.object,
        (None, Some(sums)) => sums.object,
        (None, None) => return Err(StoreError::Catalogue(format!("folder {node} has no sums"))),
    };

    // Nothing refuses from here on.
    txn.end_locks_beneath(node).await?;
    let moment = txn.next_moment();
    let moved = Row {
        shelf: to_shelf,
        parent: Some(parent),
        key,
        ..stamped(
            &mover,
            moment,
            if crossing { ChangeKind::Arrived } else { ChangeKind::Moved },
            actor,
            txn.now,
        )
    };
    let task = |expect| {
        Task::new(
            object,
            node,
            mover.is_folder(),
            DiskLocation::In(from_parent, mover.name().into()),
            DiskLocation::In(parent, moved.name().into()),
        )
        .onto(expect)
    };
    let mut result = node;
    let mut old = None;
    match plan {
        MovePlan::Onto(kept) => {
            let there = there.ok_or_else(|| StoreError::NotFound(name.to_string()))?;
            old = there.content;
            txn.end_row(&mover, moment, ChangeKind::Merged, actor);
            txn.end_row(&there, moment, ChangeKind::Changed, actor);
            txn.add_task(task(old.map(|c| (c.id, c.object))));
            txn.open_row(Row { node: kept, how: ChangeKind::Changed, ..moved }, true);
            result = kept;
        }
        MovePlan::Resume(kept) => {
            txn.untrash(kept).await?;
            txn.end_row(&mover, moment, ChangeKind::Merged, actor);
            txn.add_task(task(None));
            txn.open_row(Row { node: kept, how: ChangeKind::Changed, ..moved }, false);
            result = kept;
        }
        MovePlan::Swap(kept) => {
            txn.end_row(&mover, moment, ChangeKind::Merged, actor);
            txn.add_task(task(None));
            stay_behind(txn, actor, kept, Some(node), moment).await?;
            txn.open_row(Row { node: kept, how: ChangeKind::Changed, ..moved }, true);
            result = kept;
        }
        _ => {
            memory.remember_left(&mover, actor, txn.now);
            txn.end_row(&mover, moment, if crossing { ChangeKind::Left } else { ChangeKind::Moved }, actor);
            txn.add_task(task(None));
            txn.open_row(moved, true);
            if crossing && mover.is_folder() {
                txn.add_job("restamp", node, moment, txn.now);
            }
        }
    }
    if let Some(old) = old {
        txn.set_content(Content { life: ContentState::Past, ..old });
    }
    let load = match sums {
        Some(s) => Delta::of(&s),
        None => Delta { bytes: mover.size(), files: 1, ..Delta::default() },
    };
    txn.charge(from_parent, load.negated(), i64::from(from_parent != parent)).await?;
    let gone = old.map_or(0, |c| c.size);
    let load = Delta {
        bytes: load.bytes - gone,
        files: load.files - i64::from(old.is_some()),
        past_bytes: load.past_bytes + gone,
        past_files: load.past_files + i64::from(old.is_some()),
        ..load
    };
    txn.charge(parent, load, 1).await?;
    txn.add_record(
        actor,
        if from_parent == parent { "renamed" } else { "moved" },
        Some(result),
        &what,
        &target,
    );
    Ok(Outcome { row: txn.row(result).await?, created: false, moment })
}

/// Removes a node. A folder goes as a whole, by one row and one rename.
pub(crate) async fn remove(
    txn: &mut WriteTxn,
    memory: &mut SaveHeuristics,
    actor: &Actor,
    node: NodeId,
    conditions: &Conditions,
    take_apart_after: i64,
) -> Result<Outcome> {
    let chain = txn.require(actor, node, Level::Edit).await?;
    let row = chain[0].clone();
    let Some(parent) = row.parent else { return Err(StoreError::ShelfTop) };
    let present = row.standing();
    if !conditions.hold(Some(&present)) {
        return Err(StoreError::ConditionFailed { present: present.tag });
    }
    txn.check_going(&chain)?;
    let sums = txn.folder(node).await?;
    if sums.is_some_and(|s| s.lies != FolderPlacement::Placed) {
        return Err(StoreError::Busy);
    }
    if row.is_folder() {
        grants::check_beneath(txn, actor, node).await?;
    }
    txn.check_locks_beneath(actor, &chain).await?;
    txn.check_lock(actor, &chain[1..])?;
    let what = txn.path(node).await?;
    txn.end_locks_beneath(node).await?;

    let moment = txn.next_moment();
    memory.remember_left(&row, actor, txn.now);
    txn.end_row(&row, moment, ChangeKind::Removed, actor);
    let from = DiskLocation::In(parent, row.name().into());
    let task = |object, to| Task::new(object, node, row.is_folder(), from, to);
    let detail;
    let delta = match (row.content, sums) {
        (Some(content), _) => {
            txn.set_content(Content { life: ContentState::Past, ..content });
            txn.add_task(task(content.object, DiskLocation::Incoming(content.id)));
            detail = content.size.to_string();
            Delta {
                bytes: -content.size,
                files: -1,
                past_bytes: content.size,
                past_files: 1,
                trash_bytes: content.size,
                trash_files: 1,
                ..Delta::default()
            }
        }
        (None, Some(s)) => {
            txn.set_folder(node, Folder { lies: FolderPlacement::Removed, ..s });
            txn.add_task(task(s.object, DiskLocation::Removed(node)));
            txn.add_job("take apart", node, moment, txn.now + take_apart_after);
            detail = format!("{} files, {} bytes", s.files, s.bytes);
            Delta {
                bytes: -s.bytes,
                files: -s.files,
                folders: -s.folders - 1,
                past_bytes: s.bytes,
                past_files: s.files,
                trash_bytes: s.bytes,
                trash_files: s.files,
            }
        }
        (None, None) => return Err(StoreError::Catalogue(format!("folder {node} has no sums"))),
    };
    txn.charge(parent, delta, 1).await?;
    txn.add_record(actor, "removed", Some(node), &what, &detail);
    Ok(Outcome { row: None, created: false, moment })
}

//! Moving, renaming, removing.

use crate::fs::disk::{ObjectId, look};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ChangeKind, Content, ContentState, Folder, FolderPlacement, Row};
use crate::fs::pending_rename::{DiskLocation, Task};
use crate::ops::put::stay_behind;
use crate::ops::{Outcome, grants, key_of, left_at, repeats, stamped, taken, writable_folder};
use crate::txn::operation::{Around, Operation};
use crate::txn::save_heuristics::SaveHeuristics;
use crate::txn::sums::Delta;
use crate::txn::write_txn::WriteTxn;
use std::sync::Arc;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::path::MAX_DEPTH;
use yellow_attic_core::rights::Level;
use yellow_attic_core::timeline::{MovePlan, Mover, Occupant, plan_move};
use yellow_attic_core::{Moment, Name, NodeId};

/// The object that stands where a node belongs, if it is another than the catalogue knows: an editor saved it
/// anew. What is decided of the node concerns that one too.
pub(crate) async fn seen_at(
    txn: &mut WriteTxn,
    around: &Around<'_>,
    node: NodeId,
) -> Result<Option<ObjectId>> {
    let Some(row) = txn.row(node).await? else { return Ok(None) };
    let object = match row.content {
        Some(content) => content.object,
        None => txn.folder(node).await?.map_or(ObjectId::default(), |f| f.object),
    };
    let Some(parent) = row.parent.filter(|_| around.placing.places_of(object).is_empty()) else {
        return Ok(None);
    };
    let Ok(dir) = around.folders.now(parent).await else { return Ok(None) };
    Ok(look(&*dir, row.name()).ok().flatten().map(|there| there.id).filter(|id| *id != object))
}

/// Moves or renames. `replace`: a file at the target may be replaced.
pub(crate) struct MoveNode {
    pub actor: Actor,
    pub node: NodeId,
    pub parent: NodeId,
    pub name: Name,
    pub replace: bool,
    pub conditions: Conditions,
}

impl Operation for MoveNode {
    type Told = Outcome;

    async fn decide(&mut self, txn: &mut WriteTxn, around: &mut Around<'_>) -> Result<Outcome> {
        if let Some(done) = repeats::answered(txn, &self.actor, &self.conditions.known).await? {
            return Ok(done);
        }
        let (seen, owed) = (seen_at(txn, around, self.node).await?, txn.group.tasks.len());
        let done = move_node(
            txn,
            around.memory,
            &self.actor,
            self.node,
            self.parent,
            &self.name,
            self.replace,
            &self.conditions,
        )
        .await;
        txn.group.tasks[owed..].iter_mut().for_each(|task| task.seen = seen);
        if let Ok(done) = &done {
            repeats::remember(txn, &self.actor, &self.conditions.known, self.node, done);
        }
        done
    }
}

/// Removes. What was there stays in the past.
pub(crate) struct Remove {
    pub actor: Actor,
    pub node: NodeId,
    pub conditions: Conditions,
}

impl Operation for Remove {
    type Told = Outcome;

    async fn decide(&mut self, txn: &mut WriteTxn, around: &mut Around<'_>) -> Result<Outcome> {
        if let Some(done) = repeats::answered(txn, &self.actor, &self.conditions.known).await? {
            return Ok(done);
        }
        let (seen, owed) = (seen_at(txn, around, self.node).await?, txn.group.tasks.len());
        let (memory, after) = (&mut *around.memory, around.take_apart_after);
        let done = remove(txn, memory, &self.actor, self.node, &self.conditions, after).await;
        txn.group.tasks[owed..].iter_mut().for_each(|task| task.seen = seen);
        if let Ok(done) = &done {
            repeats::remember(txn, &self.actor, &self.conditions.known, self.node, done);
        }
        done
    }
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
        return Err(StoreError::ConditionFailed { present: Some(Box::new(present)) });
    }
    if mover.is_folder() && to_chain.iter().any(|r| r.node == node) {
        return Err(StoreError::IntoItself);
    }
    if to_chain.len() > MAX_DEPTH {
        return Err(StoreError::TooDeep(to_chain.len()));
    }
    let key = key_of(name);
    let there = txn.child(parent, &key).await?;
    // Whoever says what they move saves nothing by it.
    let says_which = conditions.known.says_which();
    if let Some(there) = there.as_ref().filter(|t| t.node != node)
        && says_which
        && replace
        && !conditions.known.onto.is_some_and(|(node, seen)| node == there.node && there.since <= seen)
    {
        return Err(StoreError::ConditionFailed { present: Some(Box::new(there.standing())) });
    }
    let left = match &there {
        Some(_) => None,
        None if says_which => None,
        None => left_at(txn, memory, actor, parent, &key).await?,
    };
    let fresh = !says_which && memory.fresh(node, actor, txn.now);
    let plan = plan_move(
        Mover { node, kind: mover.kind, fresh },
        there.as_ref().map(|r| Occupant { node: r.node, kind: r.kind }),
        left,
        replace,
    );
    match plan {
        MovePlan::Nothing => {
            return Ok(Outcome {
                row: Some(mover),
                created: false,
                moment: Moment(txn.heads.moment),
                same: false,
            });
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
            if !says_which {
                memory.remember_left(&mover, actor, txn.now);
            }
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
    Ok(Outcome { row: txn.row(result).await?, created: false, moment, same: false })
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
        return Err(StoreError::ConditionFailed { present: Some(Box::new(present)) });
    }
    if let (true, Some(seen)) = (row.is_folder(), conditions.known.seen)
        && txn.changed_beneath(&chain, seen).await?
    {
        return Err(StoreError::ConditionFailed { present: Some(Box::new(present)) });
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
    if !conditions.known.says_which() {
        memory.remember_left(&row, actor, txn.now);
    }
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
    Ok(Outcome { row: None, created: false, moment, same: false })
}

//! What hands did on the disk, taken into the timeline. Each is looked at once more within the writer: only what is still so, and rests on
//! nothing that is owed to the disk, counts. Nothing of it is refused for want of rights or room, since it is there already.

use crate::fs::disk::{Look, ObjectId, Plain, look};
use crate::fs::error::Result;
use crate::fs::model::{Actor, ChangeKind, Content, ContentState, Folder, FolderPlacement, Row};
use crate::fs::pending_rename::DiskLocation;
use crate::ops::found::Foreign;
use crate::ops::put::stay_behind;
use crate::ops::{key_of, left_at, stamped};
use crate::txn::operation::{Around, Operation};
use crate::txn::sums::Delta;
use crate::txn::write_txn::WriteTxn;
use std::os::fd::OwnedFd;
use std::sync::Arc;
use yellow_attic_core::path::MAX_DEPTH;
use yellow_attic_core::reconcile::PLACED_WITHIN_MS;
use yellow_attic_core::timeline::{Kind, PutPlan, plan_put};
use yellow_attic_core::{ContentId, Name, NodeId};

/// A name in a folder.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct Spot {
    pub parent: NodeId,
    pub name: Name,
}

/// Something that a hand did.
#[derive(Clone, Debug)]
pub(crate) enum Hand {
    /// It lies elsewhere now.
    Moved { node: NodeId, object: ObjectId, to: Spot },
    /// A folder that nobody knew.
    Folder { at: Spot, object: ObjectId },
    /// A folder is another directory by now.
    OtherFolder { node: NodeId, object: ObjectId },
    /// A file that nobody knew.
    File { at: Spot, foreign: Foreign, seen: Look },
    /// A file has other bytes, or is another object with the same.
    Changed { node: NodeId, was: ContentId, foreign: Foreign, seen: Look },
    /// A file has the bytes that it should have, though something of it was changed.
    Sound { content: ContentId, changed: i64 },
    /// The disk has damaged a file: sound bytes in staging take its place, and the damaged ones are kept.
    Heal { node: NodeId, was: ContentId, seen: Look, staged: ContentId },
    /// It is nowhere.
    Gone { node: NodeId, object: ObjectId },
}

/// Takes up what hands did. Tells of each which node it concerns, or none if it is not so any more.
pub(crate) struct Hands(pub Vec<Hand>);

impl Operation for Hands {
    type Told = Vec<Option<NodeId>>;

    fn writes_by_itself(&self) -> bool {
        true
    }

    async fn decide(&mut self, txn: &mut WriteTxn, around: &mut Around<'_>) -> Result<Self::Told> {
        let mut told = vec![None; self.0.len()];
        let mut moves = Vec::new();
        for (i, hand) in self.0.iter().enumerate() {
            if let Hand::Moved { node, object, to } = hand
                && has_moved(txn, around, *node, *object, to).await?
            {
                moves.push((i, *node, to.clone()));
            }
        }
        take_moves(txn, around, moves, &mut told).await?;
        for (i, hand) in self.0.iter().enumerate() {
            told[i] = match hand {
                Hand::Moved { .. } => continue,
                Hand::Folder { at, object } => take_folder(txn, around, at, *object).await?,
                Hand::OtherFolder { node, object } => other_folder(txn, around, *node, *object).await?,
                Hand::File { at, foreign, seen } => take_file(txn, around, at, foreign, seen).await?,
                Hand::Changed { node, was, foreign, seen } => {
                    take_change(txn, around, *node, *was, foreign, seen).await?
                }
                Hand::Sound { content, changed } => {
                    is_sound(txn, *content, 0, *changed).await?;
                    Some(NodeId(0))
                }
                Hand::Heal { node, was, seen, staged } => {
                    heal(txn, around, *node, *was, seen, *staged).await?
                }
                Hand::Gone { node, object } => take_leave(txn, around, *node, *object).await?,
            };
        }
        Ok(told)
    }
}

/// The bytes of a content were read from its object as that was then: notes it, where the row's own time does not tell.
async fn is_sound(txn: &mut WriteTxn, content: ContentId, at: i64, changed: i64) -> Result<()> {
    if changed > at + PLACED_WITHIN_MS {
        sqlx::query("INSERT OR REPLACE INTO verified (content, changed) VALUES (?, ?)")
            .bind(content.0)
            .bind(changed)
            .execute(&mut txn.conn)
            .await?;
    }
    Ok(())
}

/// Whether something is to be done with an object that has not been done yet. Asked before it is looked at: what is carried out between
/// the two is not there any more when it is looked at.
fn is_owed(txn: &WriteTxn, around: &Around<'_>, spot: &Spot, object: ObjectId) -> bool {
    let place = DiskLocation::In(spot.parent, spot.name.as_str().into());
    around.placing.is_owed(&place, object)
        || txn.group.tasks.iter().any(|task| task.object == object || task.from == place || task.to == place)
}

/// Where a row says that it lies.
fn spot_of(row: &Row) -> Result<Option<Spot>> {
    let Some(parent) = row.parent else { return Ok(None) };
    Ok(Some(Spot { parent, name: Name::new(row.name())? }))
}

/// The directory of a folder that is alive and in its place.
async fn dir_of(txn: &mut WriteTxn, around: &Around<'_>, folder: NodeId) -> Result<Option<Arc<OwnedFd>>> {
    if txn.chain(folder).await?.is_none() {
        return Ok(None);
    }
    match txn.folder(folder).await? {
        Some(sums) if sums.lies == FolderPlacement::Placed => Ok(around.folders.now(folder).await.ok()),
        _ => Ok(None),
    }
}

/// What lies at a spot.
async fn at(txn: &mut WriteTxn, around: &Around<'_>, spot: &Spot) -> Result<Option<Look>> {
    let Some(dir) = dir_of(txn, around, spot.parent).await? else { return Ok(None) };
    Ok(look(&*dir, spot.name.as_str()).ok().flatten())
}

/// Whether the place of something is seen to be empty, or to hold another object. Of a place that cannot be seen, nothing is known.
async fn is_away(txn: &mut WriteTxn, around: &Around<'_>, row: &Row, object: ObjectId) -> Result<bool> {
    let Some(parent) = row.parent else { return Ok(false) };
    let Some(dir) = dir_of(txn, around, parent).await? else { return Ok(false) };
    Ok(look(&*dir, row.name()).is_ok_and(|there| there.is_none_or(|there| there.id != object)))
}

async fn object_of(txn: &mut WriteTxn, row: &Row) -> Result<ObjectId> {
    Ok(match row.content {
        Some(content) => content.object,
        None => txn.folder(row.node).await?.map_or(ObjectId::default(), |folder| folder.object),
    })
}

/// The open row of a node of which the catalogue holds this object, and which is in its place.
async fn held_as(
    txn: &mut WriteTxn,
    around: &Around<'_>,
    node: NodeId,
    object: ObjectId,
) -> Result<Option<Arc<Row>>> {
    let Some(row) = txn.row(node).await? else { return Ok(None) };
    let Some(spot) = spot_of(&row)? else { return Ok(None) };
    if txn.chain(node).await?.is_none()
        || object_of(txn, &row).await? != object
        || is_owed(txn, around, &spot, object)
    {
        return Ok(None);
    }
    let in_its_place = match row.content {
        Some(content) => content.life == ContentState::Live,
        None => txn.folder(node).await?.is_some_and(|folder| folder.lies == FolderPlacement::Placed),
    };
    Ok(in_its_place.then_some(row))
}

async fn has_moved(
    txn: &mut WriteTxn,
    around: &Around<'_>,
    node: NodeId,
    object: ObjectId,
    to: &Spot,
) -> Result<bool> {
    let Some(row) = held_as(txn, around, node, object).await? else { return Ok(false) };
    let Some(way) = txn.chain(to.parent).await? else { return Ok(false) };
    if is_owed(txn, around, to, object) {
        return Ok(false);
    }
    Ok(way.len() <= MAX_DEPTH
        && way.iter().all(|above| above.node != node)
        && at(txn, around, to).await?.is_some_and(|there| there.id == object)
        && is_away(txn, around, &row, object).await?)
}

/// A move on its way from its old row to its new one.
struct Moving {
    told: usize,
    to: Spot,
    row: Arc<Row>,
    depth: usize,
    what: String,
    load: Delta,
    ended: bool,
}

/// Moves as one set: those whose places others of them take leave these first, so that two that changed places do not stand in
/// each other's way.
async fn take_moves(
    txn: &mut WriteTxn,
    around: &mut Around<'_>,
    moves: Vec<(usize, NodeId, Spot)>,
    told: &mut [Option<NodeId>],
) -> Result<()> {
    let actor = Actor::service();
    let mut set: Vec<Moving> = Vec::new();
    for (i, node, to) in moves {
        let Some(way) = txn.chain(node).await? else { continue };
        if set.iter().any(|other| other.row.node == node) {
            continue;
        }
        let what = txn.path(node).await?;
        let (row, depth) = (way[0].clone(), way.len());
        let load = match txn.folder(node).await?.filter(|_| row.is_folder()) {
            Some(sums) => Delta::of(&sums),
            None => Delta { bytes: row.size(), files: 1, ..Delta::default() },
        };
        set.push(Moving { told: i, to, row, depth, what, load, ended: false });
    }
    // What lies deeper goes first, while what it lies in is still there.
    set.sort_by_key(|moving| std::cmp::Reverse(moving.depth));
    for i in 0..set.len() {
        let moment = txn.next_moment();
        leave(txn, &mut set[i], moment).await?;
        let (to, row) = (set[i].to.clone(), set[i].row.clone());
        let key = key_of(&to.name);
        if let Some(there) = txn.child(to.parent, &key).await? {
            match set.iter_mut().find(|other| other.row.node == there.node) {
                Some(other) => leave(txn, other, moment).await?,
                // Its object is not there any more: this one is.
                None => end_gone(txn, around, &there).await?,
            }
        }
        let shelf = shelf_of(txn, to.parent).await?.unwrap_or(row.shelf);
        let crossing = shelf != row.shelf;
        let how = if crossing { ChangeKind::Arrived } else { ChangeKind::Moved };
        let moved = stamped(&row, moment, how, &actor, txn.now);
        txn.open_row(Row { shelf, parent: Some(to.parent), key, ..moved }, true);
        if crossing && row.is_folder() {
            txn.add_job("restamp", row.node, moment, txn.now);
        }
        txn.charge(to.parent, set[i].load, 1).await?;
        let target = txn.path(row.node).await?;
        txn.add_record(&actor, "moved on disk", Some(row.node), &set[i].what, &target);
        told[set[i].told] = Some(row.node);
    }
    Ok(())
}

/// Ends the row of what moves, once.
async fn leave(txn: &mut WriteTxn, moving: &mut Moving, moment: yellow_attic_core::Moment) -> Result<()> {
    if std::mem::replace(&mut moving.ended, true) {
        return Ok(());
    }
    let row = moving.row.clone();
    txn.end_locks_beneath(row.node).await?;
    let same = shelf_of(txn, moving.to.parent).await? == Some(row.shelf);
    let how = if same { ChangeKind::Moved } else { ChangeKind::Left };
    txn.end_row(&row, moment, how, &Actor::service());
    match row.parent {
        Some(from) => txn.charge(from, moving.load.negated(), i64::from(from != moving.to.parent)).await,
        None => Ok(()),
    }
}

async fn shelf_of(txn: &mut WriteTxn, folder: NodeId) -> Result<Option<yellow_attic_core::ShelfId>> {
    Ok(txn.chain(folder).await?.and_then(|way| way.last().map(|top| top.shelf)))
}

/// The way up from a spot that is free, if something can be there.
async fn free_way(txn: &mut WriteTxn, spot: &Spot, key: &Arc<str>) -> Result<Option<Vec<Arc<Row>>>> {
    let way = txn.chain(spot.parent).await?.filter(|way| way.len() <= MAX_DEPTH);
    match txn.child(spot.parent, key).await? {
        Some(_) => Ok(None),
        None => Ok(way),
    }
}

async fn take_folder(
    txn: &mut WriteTxn,
    around: &Around<'_>,
    spot: &Spot,
    object: ObjectId,
) -> Result<Option<NodeId>> {
    if is_owed(txn, around, spot, object)
        || at(txn, around, spot).await?.is_none_or(|seen| seen.id != object || seen.kind != Plain::Folder)
    {
        return Ok(None);
    }
    let key = key_of(&spot.name);
    let Some(way) = free_way(txn, spot, &key).await? else { return Ok(None) };
    let actor = Actor::service();
    let (node, moment) = (txn.next_node(), txn.next_moment());
    txn.open_row(new_row(txn, node, &way, key, moment, None), false);
    txn.set_folder(node, Folder::new(object, txn.now));
    txn.charge(spot.parent, Delta { folders: 1, ..Delta::default() }, 1).await?;
    let what = txn.path(node).await?;
    txn.add_record(&actor, "found on disk", Some(node), &what, "a folder");
    Ok(Some(node))
}

fn new_row(
    txn: &WriteTxn,
    node: NodeId,
    way: &[Arc<Row>],
    key: Arc<str>,
    moment: yellow_attic_core::Moment,
    file: Option<(Content, i64, bool)>,
) -> Row {
    let (content, mtime, executable) = match file {
        Some((content, mtime, executable)) => (Some(content), mtime, executable),
        None => (None, txn.now, false),
    };
    Row {
        node,
        shelf: way[way.len() - 1].shelf,
        parent: Some(way[0].node),
        key,
        kind: if content.is_some() { Kind::File } else { Kind::Folder },
        mtime,
        executable,
        content,
        since: moment,
        at: txn.now,
        how: ChangeKind::Found,
        account: None,
        device: None,
    }
}

async fn other_folder(
    txn: &mut WriteTxn,
    around: &Around<'_>,
    node: NodeId,
    object: ObjectId,
) -> Result<Option<NodeId>> {
    let Some(row) = txn.row(node).await? else { return Ok(None) };
    let (Some(spot), Some(sums)) = (spot_of(&row)?, txn.folder(node).await?) else { return Ok(None) };
    if is_owed(txn, around, &spot, sums.object)
        || is_owed(txn, around, &spot, object)
        || sums.lies != FolderPlacement::Placed
    {
        return Ok(None);
    }
    if at(txn, around, &spot).await?.is_none_or(|seen| seen.id != object || seen.kind != Plain::Folder) {
        return Ok(None);
    }
    txn.set_folder(node, Folder { object, ..sums });
    Ok(Some(node))
}

async fn take_file(
    txn: &mut WriteTxn,
    around: &mut Around<'_>,
    spot: &Spot,
    foreign: &Foreign,
    seen: &Look,
) -> Result<Option<NodeId>> {
    if is_owed(txn, around, spot, seen.id) || at(txn, around, spot).await?.as_ref() != Some(seen) {
        return Ok(None);
    }
    let key = key_of(&spot.name);
    let Some(way) = free_way(txn, spot, &key).await? else { return Ok(None) };
    let actor = Actor::service();
    let left = left_at(txn, around.memory, &actor, spot.parent, &key).await?;
    let moment = txn.next_moment();
    let (node, existed) = match plan_put(None, left) {
        PutPlan::Resume(node) => {
            txn.untrash(node).await?;
            (node, false)
        }
        PutPlan::Return(node) => {
            stay_behind(txn, &actor, node, None, moment).await?;
            (node, true)
        }
        _ => (txn.next_node(), false),
    };
    let content = live(foreign);
    txn.add_content(content);
    let row = new_row(txn, node, &way, key, moment, Some((content, foreign.mtime, seen.runs)));
    is_sound(txn, content.id, row.at, seen.changed).await?;
    txn.open_row(row, existed);
    txn.charge(spot.parent, Delta { bytes: foreign.size, files: 1, ..Delta::default() }, 1).await?;
    let what = txn.path(node).await?;
    txn.add_record(&actor, "found on disk", Some(node), &what, &foreign.size.to_string());
    Ok(Some(node))
}

fn live(foreign: &Foreign) -> Content {
    Content {
        id: foreign.id,
        hash: foreign.hash,
        size: foreign.size,
        life: ContentState::Live,
        object: foreign.object,
        mark: 0,
    }
}

async fn take_change(
    txn: &mut WriteTxn,
    around: &Around<'_>,
    node: NodeId,
    was: ContentId,
    foreign: &Foreign,
    seen: &Look,
) -> Result<Option<NodeId>> {
    let Some(row) = txn.row(node).await? else { return Ok(None) };
    let (Some(old), Some(spot)) = (row.content.filter(|c| c.id == was), spot_of(&row)?) else {
        return Ok(None);
    };
    if is_owed(txn, around, &spot, old.object) || is_owed(txn, around, &spot, seen.id) {
        return Ok(None);
    }
    if at(txn, around, &spot).await?.as_ref() != Some(seen) {
        return Ok(None);
    }
    let now = crate::ops::found::take_up(txn, node, was, foreign, false).await?;
    if let Some((row, content)) = now.and_then(|row| Some((row.clone(), row.content?))) {
        is_sound(txn, content.id, row.at, seen.changed).await?;
    }
    Ok(Some(node))
}

/// Sound bytes and damaged ones change places, so that there is always a file; then the damaged ones are kept.
async fn heal(
    txn: &mut WriteTxn,
    around: &Around<'_>,
    node: NodeId,
    was: ContentId,
    seen: &Look,
    staged: ContentId,
) -> Result<Option<NodeId>> {
    let Some(row) = txn.row(node).await? else { return Ok(None) };
    let (Some(content), Some(spot)) = (row.content.filter(|c| c.id == was), spot_of(&row)?) else {
        return Ok(None);
    };
    if is_owed(txn, around, &spot, content.object) || at(txn, around, &spot).await?.as_ref() != Some(seen) {
        return Ok(None);
    }
    let Some(dir) = dir_of(txn, around, spot.parent).await? else { return Ok(None) };
    let (disk, name) = (around.folders.disk(), crate::fs::disk::content_name(staged));
    let aside = format!("{name}.damaged");
    let failed = |e: &std::io::Error| crate::fs::error::StoreError::io("putting a damaged file right", e);
    disk.exchange(&*disk.staging, &name, &*dir, spot.name.as_str()).map_err(|e| failed(&e))?;
    if look(&*disk.staging, &name).map_err(|e| failed(&e))?.is_none_or(|there| there.id != seen.id) {
        // Somebody was quicker, and what he put there is not what was looked at: it goes back.
        disk.exchange(&*disk.staging, &name, &*dir, spot.name.as_str()).map_err(|e| failed(&e))?;
        return Ok(None);
    }
    disk.sync(&*dir).map_err(|e| failed(&e))?;
    disk.rename(&*disk.staging, &name, &*disk.past, &aside).map_err(|e| failed(&e))?;
    disk.sync(&*disk.past).map_err(|e| failed(&e))?;
    let Some(now) = at(txn, around, &spot).await? else { return Ok(None) };
    let healed = Content { object: now.id, ..content };
    txn.set_content(healed);
    txn.open_row(Row { content: Some(healed), ..(*row).clone() }, true);
    is_sound(txn, content.id, row.at, now.changed).await?;
    let what = txn.path(node).await?;
    txn.add_record(&Actor::service(), "damage healed", Some(node), &what, &content.size.to_string());
    txn.add_finding(
        "damage healed",
        Some(node),
        &format!("the bytes of {what} were not what they had been, though nobody had touched them: they are again, and the damaged ones are in past/{aside}"),
    );
    Ok(Some(node))
}

async fn take_leave(
    txn: &mut WriteTxn,
    around: &mut Around<'_>,
    node: NodeId,
    object: ObjectId,
) -> Result<Option<NodeId>> {
    let Some(row) = held_as(txn, around, node, object).await? else { return Ok(None) };
    if row.parent.is_none() || !is_away(txn, around, &row, object).await? {
        return Ok(None);
    }
    end_gone(txn, around, &row).await?;
    Ok(Some(node))
}

/// Ends the row of something that a hand took away: one row, whatever was beneath. Its bytes are nowhere, so it is in no trash.
async fn end_gone(txn: &mut WriteTxn, around: &mut Around<'_>, row: &Row) -> Result<()> {
    let actor = Actor::service();
    let Some(parent) = row.parent else { return Ok(()) };
    let (what, sums) = (txn.path(row.node).await?, txn.folder(row.node).await?.filter(|_| row.is_folder()));
    txn.end_locks_beneath(row.node).await?;
    let moment = txn.next_moment();
    around.memory.remember_left(row, &actor, txn.now);
    txn.end_row(row, moment, ChangeKind::Removed, &actor);
    txn.let_last_go();
    let (delta, detail) = match (row.content, sums) {
        (Some(content), _) => {
            txn.set_content(Content { life: ContentState::Gone, ..content });
            (Delta { bytes: -content.size, files: -1, ..Delta::default() }, content.size.to_string())
        }
        (None, Some(sums)) => {
            txn.set_folder(row.node, Folder { lies: FolderPlacement::Removed, ..sums });
            txn.add_job("gone", row.node, moment, txn.now);
            // As if it lay in the trash, until the job has seen what was in it.
            let delta = Delta {
                bytes: -sums.bytes,
                files: -sums.files,
                folders: -sums.folders - 1,
                past_bytes: sums.bytes,
                past_files: sums.files,
                trash_bytes: sums.bytes,
                trash_files: sums.files,
            };
            (delta, format!("{} files, {} bytes", sums.files, sums.bytes))
        }
        (None, None) => (Delta::default(), String::new()),
    };
    txn.charge(parent, delta, 1).await?;
    txn.add_record(&actor, "gone from the disk", Some(row.node), &what, &detail);
    Ok(())
}

/// Children of a removed folder that are taken to lie in it still.
pub(crate) async fn still_in(txn: &mut WriteTxn, node: NodeId, most: usize) -> Result<Vec<i64>> {
    Ok(sqlx::query_scalar(
        "SELECT e.node FROM entries_now e LEFT JOIN contents c ON c.id = e.content LEFT JOIN folders f ON f.node = e.node
         WHERE e.parent = ? AND coalesce(c.state, f.lies) = 0 LIMIT ?",
    )
    .bind(node.0)
    .bind(most as i64)
    .fetch_all(&mut txn.conn)
    .await?)
}

/// The next children of a folder that is gone are gone with it.
pub(crate) async fn gone_beneath(txn: &mut WriteTxn, job: i64, node: NodeId, most: usize) -> Result<()> {
    let folder = txn.folder(node).await?.filter(|folder| folder.lies == FolderPlacement::Removed);
    let (Some(folder), None) = (folder, txn.chain(node).await?) else {
        sqlx::query("DELETE FROM jobs WHERE id = ?").bind(job).execute(&mut txn.conn).await?;
        return Ok(());
    };
    let children = still_in(txn, node, most).await?;
    for child in &children {
        let Some(row) = txn.row(NodeId(*child)).await?.filter(|row| row.parent == Some(node)) else {
            continue;
        };
        match (row.content, txn.folder(row.node).await?) {
            (Some(content), _) if content.life == ContentState::Live => {
                let gone = Content { life: ContentState::Gone, ..content };
                txn.set_content(gone);
                txn.open_row(Row { content: Some(gone), ..(*row).clone() }, true);
                txn.charge(node, Delta { bytes: -content.size, files: -1, ..Delta::default() }, 0).await?;
            }
            (None, Some(its)) if its.lies == FolderPlacement::Placed => {
                txn.set_folder(row.node, Folder { lies: FolderPlacement::Removed, ..its });
                txn.add_job("gone", row.node, yellow_attic_core::Moment(txn.heads.moment), txn.now);
            }
            _ => {}
        }
    }
    if children.is_empty() {
        txn.set_folder(node, Folder { lies: FolderPlacement::Apart, ..folder });
        sqlx::query("DELETE FROM jobs WHERE id = ?").bind(job).execute(&mut txn.conn).await?;
    }
    Ok(())
}

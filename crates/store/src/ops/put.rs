//! Putting bytes at a name.

use crate::fs::disk::Disk;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ChangeKind, Content, ContentState, Row};
use crate::fs::pending_rename::{DiskLocation, Task};
use crate::fs::staging::{Staged, StagedContent, Staging};
use crate::ops::{self, Outcome, key_of, left_at, properties, repeats, stamped, writable_folder};
use crate::rights::access::may_put;
use crate::txn::operation::{Around, Brought, Operation};
use crate::txn::save_heuristics::SaveHeuristics;
use crate::txn::sums::Delta;
use crate::txn::write_txn::WriteTxn;
use std::sync::Arc;
use yellow_attic_core::collate::sort_key;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::path::MAX_DEPTH;
use yellow_attic_core::timeline::{Kind, Occupant, PutPlan, plan_put};
use yellow_attic_core::{Moment, Name, NodeId};

/// What a file brings beside its bytes.
#[derive(Clone, Copy, Debug)]
pub struct FileFacts {
    /// Its own time of modification, in milliseconds.
    pub mtime: i64,
    /// Whether it is a program; if nothing is said, what stands there is asked.
    pub executable: Option<bool>,
}

impl Row {
    /// What a copy of it brings beside its bytes.
    pub(crate) fn facts(&self) -> FileFacts {
        FileFacts { mtime: self.mtime, executable: Some(self.executable) }
    }
}

impl From<i64> for FileFacts {
    fn from(mtime: i64) -> FileFacts {
        FileFacts { mtime, executable: None }
    }
}

/// Puts staged bytes at a name.
pub(crate) struct Put {
    pub actor: Actor,
    pub parent: NodeId,
    pub name: Name,
    pub staged: Staged,
    pub facts: FileFacts,
    pub conditions: Conditions,
    /// The file that gets a new state, wherever it is by then; else whatever the name says.
    pub onto: Option<NodeId>,
    pub how: ChangeKind,
    /// The upload that these bytes came by: finished in the same transaction.
    pub upload: Option<String>,
    /// Whose properties the file takes on, in the same transaction.
    pub like: Option<NodeId>,
    /// The bytes as they lie in staging.
    pub content: Option<StagedContent>,
    /// They are not needed: the request was answered before, or the file has them already.
    pub needless: bool,
}

impl Operation for Put {
    type Told = Outcome;

    fn bring(&mut self, _disk: &Arc<Disk>, _staging: &Arc<Staging>) -> Result<Brought> {
        self.content = Some(self.staged.lie_down(self.facts.mtime)?);
        Ok(Brought::Something)
    }

    fn staged(&self) -> Vec<&Staged> {
        vec![&self.staged]
    }

    fn writes_by_itself(&self) -> bool {
        self.like.is_some()
    }

    fn meets(&self) -> Option<(NodeId, Arc<str>)> {
        self.onto.is_none().then(|| (self.parent, sort_key(&self.name).into()))
    }

    async fn decide(&mut self, txn: &mut WriteTxn, around: &mut Around<'_>) -> Result<Outcome> {
        let content = self.content.as_ref().ok_or(StoreError::Stopping)?;
        if let Some(done) = repeats::answered(txn, &self.actor, &self.conditions.known).await? {
            self.needless = true;
            return Ok(done);
        }
        if let Some(node) = self.onto {
            let gone = || StoreError::NotFound("The file or folder".into());
            let row = txn.row(node).await?.ok_or_else(gone)?;
            self.parent = row.parent.ok_or(StoreError::ShelfTop)?;
            self.name = Name::new(row.name())?;
        }
        let done = ops::put(
            txn,
            around.memory,
            &self.actor,
            self.parent,
            &self.name,
            content,
            self.facts,
            &self.conditions,
            self.how,
        )
        .await;
        if let (Ok(Outcome { row: Some(row), .. }), Some(upload)) = (&done, self.upload.take()) {
            txn.finish_upload(upload, row.node);
        }
        if let Ok(Outcome { row: Some(row), .. }) = &done {
            self.needless = row.content.is_some_and(|there| there.id != content.id);
        }
        let done = properties::take_on(txn, self.like, done).await?;
        repeats::remember(txn, &self.actor, &self.conditions.known, NodeId(0), &done);
        Ok(done)
    }

    fn kept(self) {
        if !self.needless {
            self.staged.keep();
        }
    }
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
    FileFacts { mtime, executable }: FileFacts,
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
        return Err(StoreError::ConditionFailed { present: present.map(Box::new) });
    }
    let says_which = conditions.known.says_which();
    let left = match &there {
        Some(_) => None,
        None if says_which => None,
        None => left_at(txn, memory, actor, parent, &key).await?,
    };
    match &there {
        Some(row) => {
            let way: Vec<Arc<Row>> = std::iter::once(row).chain(&chain).cloned().collect();
            txn.check_lock(actor, &way)?;
        }
        None => txn.check_lock(actor, &chain)?,
    }
    // Whoever keeps a tree in step may send what is there already: that makes no state.
    if let (true, Some(row)) = (says_which, &there)
        && row.content.is_some_and(|c| c.hash == arrived.hash && c.life == ContentState::Live)
    {
        let moment = Moment(txn.heads.moment);
        return Ok(Outcome { row: Some(row.clone()), created: false, moment, same: true });
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
        executable: executable.unwrap_or_else(|| there.as_ref().is_some_and(|r| r.executable)),
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
            if !says_which {
                memory.remember_made(row.node, actor, txn.now);
            }
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
    .onto(old.map(|c| (c.id, c.object)))
    .program(row.executable);
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
    Ok(Outcome { row: txn.row(node).await?, created, moment, same: false })
}

/// The node that was renamed away leaves its present name and bytes to another node: to
/// `heir`, or to a new one.
pub async fn stay_behind(
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

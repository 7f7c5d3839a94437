//! Many moves as one change: all of them are done, at one number, or none. Names may go round in circles.

use crate::catalogue::rows;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, Row};
use crate::ops::relocate::{move_node, seen_at};
use crate::ops::{Outcome, key_of, repeats};
use crate::txn::operation::{Around, Operation};
use crate::txn::write_txn::WriteTxn;
use std::collections::{HashSet, VecDeque};
use std::sync::Arc;
use yellow_attic_core::conditions::{Conditions, Known, RequestId, Thing};
use yellow_attic_core::{Moment, Name, NodeId};

/// States of a thing that are looked through for the one that it was answered with.
const MOST_STATES: i64 = 10_000;

/// One of several moves.
#[derive(Clone, Debug)]
pub struct OneMove {
    /// What is moved.
    pub node: NodeId,
    /// Into which folder.
    pub parent: NodeId,
    /// Under which name.
    pub name: Name,
    /// The last moment that the caller knows of it.
    pub seen: Option<Moment>,
}

/// What became of them: what was moved, as it is since then, or which of them is refused, and why.
pub type Moved = std::result::Result<Vec<Arc<Row>>, (usize, StoreError)>;

/// Moves many things as one change.
pub(crate) struct MoveTogether {
    pub actor: Actor,
    pub moves: Vec<OneMove>,
    pub request: Option<RequestId>,
}

impl Operation for MoveTogether {
    type Told = Moved;

    async fn decide(&mut self, txn: &mut WriteTxn, around: &mut Around<'_>) -> Result<Moved> {
        let known = Known { request: self.request, ..Known::default() };
        if let Some(done) = repeats::answered(txn, &self.actor, &known).await? {
            return Ok(Ok(self.as_they_were(txn, done.moment).await?));
        }
        let so_far = txn.so_far();
        let moment = txn.next_moment();
        txn.group.one = Some(moment);
        let done = self.all(txn, around).await;
        match done {
            Ok(rows) => {
                txn.group.one = None;
                // One that was moved: what stayed where it was is in a state of before.
                if let Some(one) = rows.iter().find(|row| row.since == moment).or(rows.first()) {
                    let done = Outcome { row: Some(one.clone()), created: false, moment, same: false };
                    repeats::remember(txn, &self.actor, &known, one.node, &done);
                }
                Ok(Ok(rows))
            }
            Err((which, refusal)) => {
                txn.back_to(so_far);
                match refusal {
                    e @ (StoreError::Sqlite(_)
                    | StoreError::Catalogue(_)
                    | StoreError::DamagedRow(_)
                    | StoreError::Io { .. }
                    | StoreError::Stopping) => Err(e),
                    refusal => Ok(Err((which, refusal))),
                }
            }
        }
    }
}

impl MoveTogether {
    /// What was moved, as it was right after.
    async fn as_they_were(&self, txn: &mut WriteTxn, moment: Moment) -> Result<Vec<Arc<Row>>> {
        let mut found = Vec::with_capacity(self.moves.len());
        for one in &self.moves {
            let row = match txn.row(one.node).await?.filter(|row| row.since <= moment) {
                Some(row) => Some(row),
                None => {
                    let past = rows::past_of(&mut txn.conn, one.node, MOST_STATES).await?;
                    past.into_iter()
                        .find(|p| p.row.since <= moment && p.until > moment)
                        .map(|p| Arc::new(p.row))
                }
            };
            found.extend(row);
        }
        Ok(found)
    }

    async fn all(
        &self,
        txn: &mut WriteTxn,
        around: &mut Around<'_>,
    ) -> std::result::Result<Vec<Arc<Row>>, (usize, StoreError)> {
        let mut nodes = HashSet::new();
        if let Some(twice) = self.moves.iter().position(|one| !nodes.insert(one.node)) {
            return Err((twice, StoreError::BadInput("It is moved twice.".into())));
        }
        let mut waiting: VecDeque<usize> = (0..self.moves.len()).collect();
        let mut aside: HashSet<usize> = HashSet::new();
        // How many were looked at since one was done.
        let mut idle = 0;
        while let Some(which) = waiting.pop_front() {
            let one = &self.moves[which];
            let in_the_way = async |txn: &mut WriteTxn| -> Result<Option<NodeId>> {
                let there = txn.child(one.parent, &key_of(&one.name)).await?;
                Ok(there.map(|row| row.node).filter(|node| *node != one.node))
            };
            let blocked = in_the_way(txn).await.map_err(|e| (which, e))?;
            if blocked.is_some_and(|node| nodes.contains(&node)) && idle <= waiting.len() {
                // It goes away by itself: later.
                waiting.push_back(which);
                idle += 1;
                continue;
            }
            if blocked.is_some_and(|node| nodes.contains(&node)) && aside.insert(which) {
                // They wait for each other: this one makes room.
                self.make_room(txn, around, which).await.map_err(|e| (which, e))?;
                waiting.push_back(which);
                idle = 0;
                continue;
            }
            let seen = one.seen.filter(|_| !aside.contains(&which));
            self.one(txn, around, which, one.parent, &one.name, seen).await.map_err(|e| (which, e))?;
            idle = 0;
        }
        let mut rows = Vec::with_capacity(self.moves.len());
        for (which, one) in self.moves.iter().enumerate() {
            rows.extend(txn.row(one.node).await.map_err(|e| (which, e))?);
        }
        Ok(rows)
    }

    /// A thing gets a name for the moment, which nobody ever sees.
    async fn make_room(&self, txn: &mut WriteTxn, around: &mut Around<'_>, which: usize) -> Result<()> {
        let one = &self.moves[which];
        let gone = || StoreError::NotFound("The file or folder".into());
        let parent = txn.row(one.node).await?.ok_or_else(gone)?.parent.ok_or(StoreError::ShelfTop)?;
        let name = Name::new(&format!(".room-{}-{}", one.node.0, txn.heads.mark))?;
        let record = (txn.heads.record, txn.heads.link, txn.group.records.len());
        self.one(txn, around, which, parent, &name, one.seen).await?;
        // The record tells what was done, not by which way.
        (txn.heads.record, txn.heads.link) = (record.0, record.1);
        txn.group.records.truncate(record.2);
        Ok(())
    }

    async fn one(
        &self,
        txn: &mut WriteTxn,
        around: &mut Around<'_>,
        which: usize,
        parent: NodeId,
        name: &Name,
        seen: Option<Moment>,
    ) -> Result<()> {
        let node = self.moves[which].node;
        let known = Known { thing: Some(Thing::Node(node)), seen, ..Known::default() };
        let conditions = Conditions { known, ..Conditions::default() };
        let (object, owed) = (seen_at(txn, around, node).await?, txn.group.tasks.len());
        move_node(txn, around.memory, &self.actor, node, parent, name, false, &conditions).await?;
        txn.group.tasks[owed..].iter_mut().for_each(|task| task.seen = object);
        Ok(())
    }
}

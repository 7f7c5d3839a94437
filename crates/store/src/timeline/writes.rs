//! What is put, made, moved and removed.

use crate::catalogue::rows::{self, Made};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ChangeKind, Row};
use crate::fs::staging::Staged;
use crate::ops::make::MakeFolder;
use crate::ops::put::{FileFacts, Put};
use crate::ops::relocate::{MoveNode, Remove};
use crate::ops::repeats;
use crate::ops::revive::{ReviveFile, ReviveFolder};
use crate::ops::together::{MoveTogether, Moved, OneMove};
use crate::ops::{Outcome, Place};
use crate::timeline::Files;
use async_recursion::async_recursion as boxed;
use std::sync::Arc;
use yellow_attic_core::conditions::{Conditions, Known, RequestId};
use yellow_attic_core::rights::Level;
use yellow_attic_core::{Moment, Name, NodeId};

/// Changes that are read at a time, and at most, to tell whether anything beneath a folder changed.
const LOOKED_AT_ONCE: usize = 1_000;
const MOST_LOOKED_AT: usize = 200_000;
/// So long a named request may be repeated: a week.
const REQUESTS_KEPT_MS: i64 = 7 * 86_400_000;

impl Files {
    /// Makes a folder.
    #[boxed]
    pub async fn make_folder(&self, actor: &Actor, parent: NodeId, name: Name) -> Result<Outcome> {
        self.make_folder_like(actor, parent, name, None).await
    }

    /// The same by a request that may come again.
    #[boxed]
    pub async fn make_folder_as(
        &self,
        actor: &Actor,
        parent: NodeId,
        name: Name,
        known: Known,
    ) -> Result<Outcome> {
        self.0.ask(MakeFolder::new(actor.clone(), parent, name, None, known)).await
    }

    /// Gives a file a new state, wherever it is by then.
    #[boxed]
    pub async fn put_onto(
        &self,
        actor: &Actor,
        node: NodeId,
        staged: Staged,
        facts: FileFacts,
        conditions: Conditions,
    ) -> Result<Outcome> {
        let place = self.0.shared.view.row(node).await?;
        let gone = || StoreError::NotFound("The file or folder".into());
        let row = place.ok_or_else(gone)?;
        let (who, parent) = (actor.clone(), row.parent.ok_or(StoreError::ShelfTop)?);
        let done = self
            .0
            .ask(Put {
                actor: who.clone(),
                parent,
                name: Name::new(row.name())?,
                staged,
                facts,
                conditions,
                onto: Some(node),
                how: ChangeKind::Made,
                upload: None,
                like: None,
                content: None,
                needless: false,
            })
            .await?;
        self.keep_facts(&who, done, facts).await
    }

    /// What a request that its sender named was answered with, if it came before.
    #[boxed]
    pub async fn answered(&self, actor: &Actor, known: &Known) -> Result<Option<Outcome>> {
        let Some((account, id)) = repeats::named(actor, known) else { return Ok(None) };
        let mut conn = self.0.shared.view.pool.acquire().await?;
        let Some(told) = rows::request(&mut conn, account, id).await? else { return Ok(None) };
        drop(conn);
        let (created, moment) = (told.made == Made::New, told.moment);
        if told.made == Made::Removed {
            return Ok(Some(Outcome { row: None, created, moment, same: false }));
        }
        let row = match self.0.shared.view.row(told.node).await?.filter(|row| row.since == moment) {
            Some(row) => Some(row),
            None => self.0.history().state_at(told.node, moment).await?.map(Arc::new),
        };
        Ok(Some(Outcome { row, created, moment, same: false }))
    }

    /// Forgets requests that nobody repeats any more.
    #[boxed]
    pub async fn forget_requests(&self) -> Result<()> {
        let before = self.0.now_ms() - REQUESTS_KEPT_MS;
        loop {
            let old: bool = sqlx::query_scalar("SELECT EXISTS (SELECT 1 FROM requests WHERE at < ?)")
                .bind(before)
                .fetch_one(&self.0.shared.view.pool)
                .await?;
            if !old {
                return Ok(());
            }
            self.catalogue(&Actor::service(), move |conn| {
                Box::pin(async move {
                    sqlx::query(
                        "DELETE FROM requests WHERE (account, id) IN
                           (SELECT account, id FROM requests WHERE at < ? LIMIT 2000)",
                    )
                    .bind(before)
                    .execute(conn)
                    .await?;
                    Ok(())
                })
            })
            .await?;
        }
    }

    /// The same with the properties of something else.
    pub(crate) async fn make_folder_like(
        &self,
        actor: &Actor,
        parent: NodeId,
        name: Name,
        like: Option<NodeId>,
    ) -> Result<Outcome> {
        let actor = actor.clone();
        self.0.ask(MakeFolder::new(actor, parent, name, like, Known::default())).await
    }

    /// Puts staged bytes at a name. After the answer they are on the disk.
    #[boxed]
    pub async fn put(
        &self,
        actor: &Actor,
        parent: NodeId,
        name: Name,
        staged: Staged,
        mtime: i64,
        conditions: Conditions,
    ) -> Result<Outcome> {
        self.put_with(actor, parent, name, staged, mtime.into(), conditions).await
    }

    /// The same, with all that a file brings.
    #[boxed]
    pub async fn put_with(
        &self,
        actor: &Actor,
        parent: NodeId,
        name: Name,
        staged: Staged,
        facts: FileFacts,
        conditions: Conditions,
    ) -> Result<Outcome> {
        self.put_as(actor, parent, name, staged, facts, conditions, ChangeKind::Made, None).await
    }

    #[allow(clippy::too_many_arguments)]
    pub(crate) async fn put_as(
        &self,
        actor: &Actor,
        parent: NodeId,
        name: Name,
        staged: Staged,
        facts: FileFacts,
        conditions: Conditions,
        how: ChangeKind,
        like: Option<NodeId>,
    ) -> Result<Outcome> {
        let done = self
            .0
            .ask(Put {
                actor: actor.clone(),
                parent,
                name,
                staged,
                facts,
                conditions,
                onto: None,
                how,
                upload: None,
                like,
                content: None,
                needless: false,
            })
            .await?;
        self.keep_facts(actor, done, facts).await
    }

    /// Bytes that were there already made no state; their time is the file's from here on, and whether it is a program.
    async fn keep_facts(&self, actor: &Actor, done: Outcome, facts: FileFacts) -> Result<Outcome> {
        let Some(row) = done.row.as_ref().filter(|_| done.same) else { return Ok(done) };
        let (node, mut kept) = (row.node, Ok(()));
        if row.mtime != facts.mtime {
            kept = self.set_time_of(actor, node, facts.mtime).await;
        }
        if let (Ok(()), Some(executable)) = (&kept, facts.executable) {
            kept = self.set_executable(actor, node, executable).await;
        }
        match kept {
            Ok(()) => Ok(Outcome { row: self.0.shared.view.row(node).await?, ..done }),
            // Somebody removed it meanwhile.
            Err(StoreError::NotFound(_)) => Ok(done),
            Err(e) => Err(e),
        }
    }

    /// Moves or renames. `replace`: a file at the target may be replaced.
    #[boxed]
    pub async fn move_node(
        &self,
        actor: &Actor,
        node: NodeId,
        parent: NodeId,
        name: Name,
        replace: bool,
        conditions: Conditions,
    ) -> Result<Outcome> {
        let actor = actor.clone();
        self.0.ask(MoveNode { actor, node, parent, name, replace, conditions }).await
    }

    /// Moves many things as one change: all of them, or none. Names may go round in circles. `request` names the moves
    /// too: its repeat is told what became of these.
    #[boxed]
    pub async fn move_together(
        &self,
        actor: &Actor,
        moves: Vec<OneMove>,
        request: Option<RequestId>,
    ) -> Result<Moved> {
        self.0.ask(MoveTogether { actor: actor.clone(), moves, request }).await
    }

    /// Removes. What was there stays in the past.
    #[boxed]
    pub async fn remove(&self, actor: &Actor, node: NodeId, conditions: Conditions) -> Result<Outcome> {
        let actor = actor.clone();
        let conditions = self.looked_ahead(&actor, node, conditions).await?;
        self.0.ask(Remove { actor, node, conditions }).await
    }

    /// Looks at what happened beneath a folder since it was seen, as far as it can be looked at before the writer does:
    /// that one only looks at what comes after.
    async fn looked_ahead(
        &self,
        actor: &Actor,
        node: NodeId,
        mut conditions: Conditions,
    ) -> Result<Conditions> {
        let Some(seen) = conditions.known.seen else { return Ok(conditions) };
        if self.answered(actor, &conditions.known).await?.is_some() {
            return Ok(conditions);
        }
        // Up to here all is known to readers, whatever was committed since.
        let upto = Moment(*self.0.head().borrow());
        let chain = self.chain(actor, node, Level::View).await?;
        let failed = || StoreError::ConditionFailed { present: Some(Box::new(chain[0].standing())) };
        if !chain[0].is_folder() || upto <= seen {
            return Ok(conditions);
        }
        if chain[0].since > seen {
            return Err(failed());
        }
        let (shelf, mut after, mut looked_at) = (chain[chain.len() - 1].shelf, (seen, NodeId(i64::MAX)), 0);
        loop {
            let mut conn = self.0.shared.view.pool.acquire().await?;
            let found = rows::changed_on(&mut conn, shelf, after, LOOKED_AT_ONCE).await?;
            drop(conn);
            looked_at += found.len();
            let Some(last) = found.last() else { break };
            after = *last;
            for (since, changed) in found {
                if since > upto {
                    break;
                }
                let its = self.0.shared.view.chain(changed).await?;
                if its.is_some_and(|its| its.iter().any(|row| row.node == node)) {
                    return Err(failed());
                }
            }
            // Whoever knows so little of the present looks again first.
            if looked_at > MOST_LOOKED_AT {
                return Err(failed());
            }
        }
        conditions.known.seen = Some(upto);
        Ok(conditions)
    }

    pub(crate) async fn revive_file(
        &self,
        actor: &Actor,
        node: NodeId,
        place: Place,
        last: Option<(NodeId, Arc<str>)>,
        staged: Staged,
        state: &Row,
    ) -> Result<Outcome> {
        let (actor, mtime, executable) = (actor.clone(), state.mtime, state.executable);
        self.0.ask(ReviveFile { actor, node, place, last, staged, mtime, executable, content: None }).await
    }

    pub(crate) async fn revive_folder(
        &self,
        actor: &Actor,
        node: NodeId,
        place: Place,
        last: Option<(NodeId, Arc<str>)>,
        how: ChangeKind,
    ) -> Result<Outcome> {
        let actor = actor.clone();
        self.0.ask(ReviveFolder { actor, node, place, last, how, made: None }).await
    }
}

//! What the writer is asked to do, one operation a type: what it brings to the disk first, how it is decided, and what
//! becomes of what it brought. A new operation is a new type beside the others, and nothing here knows it.

use crate::fs::disk::{Disk, ObjectId, content_name};
use crate::fs::error::{Result, StoreError};
use crate::fs::staging::{Staged, Staging};
use crate::txn::owed::Placing;
use crate::txn::save_heuristics::SaveHeuristics;
use crate::txn::write_txn::WriteTxn;
use std::future::Future;
use std::io;
use std::os::fd::OwnedFd;
use std::pin::Pin;
use std::sync::Arc;
use tokio::sync::oneshot;
use yellow_attic_core::{ContentId, NodeId};

/// Where somebody waits for the outcome.
pub(crate) type Answer<T> = oneshot::Sender<Result<T>>;

/// Where folders are on the disk just now, as far as all that was answered before is carried out.
pub(crate) trait Folders: Send + Sync {
    /// The directory of a folder.
    fn now(&self, folder: NodeId) -> Pin<Box<dyn Future<Output = Result<Arc<OwnedFd>>> + Send + '_>>;

    /// The disk on which they lie.
    fn disk(&self) -> &crate::fs::disk::Disk;
}

/// What an operation may look at beside the transaction.
pub(crate) struct Around<'w> {
    pub memory: &'w mut SaveHeuristics,
    pub folders: &'w dyn Folders,
    pub placing: &'w Placing,
    pub take_apart_after: i64,
}

/// What an operation brought to the disk before it is decided.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Brought {
    Nothing,
    /// Something that a sync must cover.
    Something,
}

/// One operation.
pub(crate) trait Operation: Send + 'static {
    /// What whoever asked is told.
    type Told: Send + 'static;

    /// Brings to the disk what must lie there before it is decided.
    fn bring(&mut self, _disk: &Arc<Disk>, _staging: &Arc<Staging>) -> Result<Brought> {
        Ok(Brought::Nothing)
    }

    /// The bytes that it brings: synced with its group.
    fn staged(&self) -> Vec<&Staged> {
        Vec::new()
    }

    fn start_flush(&self) {
        self.staged().into_iter().for_each(Staged::start_flush);
    }

    fn sync(&self, disk: &Disk) -> io::Result<()> {
        self.staged().into_iter().try_for_each(|s| s.sync(disk))
    }

    fn write_back(&self, disk: &Disk) -> io::Result<()> {
        self.staged().into_iter().try_for_each(|s| s.write_back(disk))
    }

    /// How many files are synced with it.
    fn arriving(&self) -> usize {
        self.staged().len()
    }

    /// Whether it writes to the catalogue beside the transaction's sets, and so needs an open one.
    fn writes_by_itself(&self) -> bool {
        false
    }

    /// Whether a refusal must take back what it wrote: it is decided within a savepoint.
    fn within_savepoint(&self) -> bool {
        false
    }

    /// Whether it may go before rights that were changed in the same group are read anew.
    fn precedes_rights(&self) -> bool {
        false
    }

    /// The name in a folder that it meets: read with those of the others, in one statement.
    fn meets(&self) -> Option<(NodeId, Arc<str>)> {
        None
    }

    /// Decides it. A refusal changes nothing.
    fn decide(
        &mut self,
        txn: &mut WriteTxn,
        around: &mut Around<'_>,
    ) -> impl Future<Output = Result<Self::Told>> + Send;

    /// It is committed: what it brought belongs to the catalogue.
    fn kept(self)
    where
        Self: Sized,
    {
    }
}

/// A new folder in staging: it goes again unless it was kept.
pub(crate) struct StagedFolder {
    disk: Arc<Disk>,
    pub id: ContentId,
    pub object: ObjectId,
    /// Whether it is needed after all.
    pub wanted: bool,
    kept: bool,
}

impl StagedFolder {
    /// Makes one.
    pub fn make(disk: &Arc<Disk>, staging: &Arc<Staging>) -> Result<StagedFolder> {
        let id = staging.next_id();
        let made = disk.make_staged_dir(&content_name(id));
        let object = made.map_err(|e| StoreError::io("making a staged folder", &e))?;
        Ok(StagedFolder { disk: disk.clone(), id, object, wanted: true, kept: false })
    }

    pub fn keep(mut self) {
        self.kept = self.wanted;
    }
}

impl Drop for StagedFolder {
    fn drop(&mut self) {
        if !self.kept {
            let _ = self.disk.drop_staged(&content_name(self.id), true);
        }
    }
}

/// What became of a group.
#[derive(Clone)]
pub(crate) enum Fate {
    Committed,
    /// Nothing of it is in the catalogue, and nothing of it can appear there.
    Refused(StoreError),
    /// Its frames may lie in the catalogue's log, and appear when that is read anew: what they speak of must stay until
    /// a later commit has overwritten them.
    Unknown(StoreError),
}

/// What a group of unknown outcome brought to the disk: kept until the next commit.
pub(crate) type Limbo = Vec<Box<dyn Send>>;

/// Gives a caller its answer.
pub(crate) type Pending = Box<dyn FnOnce(Fate, &mut Limbo) + Send>;

/// An operation with whoever waits for it, whatever it is.
pub(crate) trait Asked: Send {
    fn bring(&mut self, disk: &Arc<Disk>, staging: &Arc<Staging>) -> Result<Brought>;
    fn start_flush(&self);
    fn sync(&self, disk: &Disk) -> io::Result<()>;
    fn write_back(&self, disk: &Disk) -> io::Result<()>;
    fn arriving(&self) -> usize;
    fn writes_by_itself(&self) -> bool;
    fn precedes_rights(&self) -> bool;
    fn meets(&self) -> Option<(NodeId, Arc<str>)>;

    /// Decides it, and keeps the answer for after the commit. An error is the whole group's.
    fn decide<'a, 'w: 'a>(
        self: Box<Self>,
        txn: &'a mut WriteTxn,
        around: &'a mut Around<'w>,
        answers: &'a mut Vec<Pending>,
    ) -> Pin<Box<dyn Future<Output = Result<()>> + Send + 'a>>;

    /// Tells whoever waits that it is not done.
    fn refuse(self: Box<Self>, why: &StoreError);
}

/// An operation on its way to the writer.
pub(crate) type Queued = Box<dyn Asked>;

/// An operation, and where its outcome is told.
pub(crate) fn asked<O: Operation>(operation: O) -> (Queued, oneshot::Receiver<Result<O::Told>>) {
    let (answer, answered) = oneshot::channel();
    (Box::new(Waiting { operation, answer }), answered)
}

struct Waiting<O: Operation> {
    operation: O,
    answer: Answer<O::Told>,
}

impl<O: Operation> Asked for Waiting<O> {
    fn bring(&mut self, disk: &Arc<Disk>, staging: &Arc<Staging>) -> Result<Brought> {
        self.operation.bring(disk, staging)
    }

    fn start_flush(&self) {
        self.operation.start_flush();
    }

    fn sync(&self, disk: &Disk) -> io::Result<()> {
        self.operation.sync(disk)
    }

    fn write_back(&self, disk: &Disk) -> io::Result<()> {
        self.operation.write_back(disk)
    }

    fn arriving(&self) -> usize {
        self.operation.arriving()
    }

    fn writes_by_itself(&self) -> bool {
        self.operation.writes_by_itself()
    }

    fn precedes_rights(&self) -> bool {
        self.operation.precedes_rights()
    }

    fn meets(&self) -> Option<(NodeId, Arc<str>)> {
        self.operation.meets()
    }

    fn decide<'a, 'w: 'a>(
        self: Box<Self>,
        txn: &'a mut WriteTxn,
        around: &'a mut Around<'w>,
        answers: &'a mut Vec<Pending>,
    ) -> Pin<Box<dyn Future<Output = Result<()>> + Send + 'a>> {
        Box::pin(async move {
            let Waiting { mut operation, answer } = *self;
            let outcome = match operation.within_savepoint() {
                true => within_savepoint(&mut operation, txn, around).await,
                false => operation.decide(txn, around).await,
            };
            finish(outcome, answer, operation, answers)
        })
    }

    fn refuse(self: Box<Self>, why: &StoreError) {
        let _ = self.answer.send(Err(why.clone()));
    }
}

async fn within_savepoint<O: Operation>(
    operation: &mut O,
    txn: &mut WriteTxn,
    around: &mut Around<'_>,
) -> Result<O::Told> {
    sqlx::query("SAVEPOINT one").execute(&mut txn.conn).await?;
    let outcome = operation.decide(txn, around).await;
    if outcome.is_err() {
        sqlx::query("ROLLBACK TO one").execute(&mut txn.conn).await?;
    }
    sqlx::query("RELEASE one").execute(&mut txn.conn).await?;
    outcome
}

/// Keeps the answer for after the commit; an error of the catalogue is the whole group's.
fn finish<O: Operation>(
    outcome: Result<O::Told>,
    answer: Answer<O::Told>,
    operation: O,
    answers: &mut Vec<Pending>,
) -> Result<()> {
    match outcome {
        Ok(told) => {
            answers.push(Box::new(move |fate, limbo| match fate {
                Fate::Committed => {
                    operation.kept();
                    let _ = answer.send(Ok(told));
                }
                Fate::Refused(e) => {
                    drop(operation);
                    let _ = answer.send(Err(e));
                }
                Fate::Unknown(e) => {
                    limbo.push(Box::new(operation));
                    let _ = answer.send(Err(e));
                }
            }));
            Ok(())
        }
        Err(
            e @ (StoreError::Sqlite(_)
            | StoreError::Catalogue(_)
            | StoreError::DamagedRow(_)
            | StoreError::Io { .. }),
        ) => {
            let _ = answer.send(Err(e.clone()));
            Err(e)
        }
        Err(refusal) => {
            drop(operation);
            // Told after the commit: it may rest on what the same group does, and whoever looks
            // then must see that.
            answers.push(Box::new(move |fate, _| {
                let _ = answer.send(Err(match fate {
                    Fate::Committed => refusal,
                    Fate::Refused(e) | Fate::Unknown(e) => e,
                }));
            }));
            Ok(())
        }
    }
}

//! One writer. Many operations are gathered, their bytes synced together, decided one after
//! the other, and committed in one transaction; only then does each caller get its answer.

use crate::fs::clock::Timekeeper;
use crate::fs::commits::Commits;
use crate::fs::disk::{Disk, ObjectId, content_name, look};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ChangeKind, Row};
use crate::fs::staging::{Staged, Staging};
use crate::ops::convert::{self, Converting};
use crate::ops::copy::{self, CopyItem};
use crate::ops::found::{self, Foreign};
use crate::ops::grants::{self, Granting};
use crate::ops::revive;
use crate::ops::{self, NewShelf, Outcome, Place, SaveHeuristics, StagedContent};
use crate::rights::locks::{Held, Locking};
use crate::txn::owed::Placing;
use crate::txn::read_cache::Caches;
use crate::txn::write_txn::{Changed, WriteTxn};
use sqlx::SqliteConnection;
use std::future::Future;
use std::os::fd::OwnedFd;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use tokio::sync::{OwnedSemaphorePermit, Semaphore, mpsc, oneshot};
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::dav::PropName;
use yellow_attic_core::{ContentId, GrantId, Name, NodeId};

/// The most operations in one transaction: it must not hold the writer for more than 100 ms.
const GROUP: usize = 512;
/// So many waiting operations are a group of their own while another is committed.
const WORTH_A_SYNC: usize = 128;
/// So long a group waits for callers who were answered just now: they ask again at once, and one group of all
/// costs hardly more than one of half of them.
const RETURN: Duration = Duration::from_millis(1);

/// What the writer has done, for whoever watches: times in microseconds.
#[derive(Debug, Default)]
pub struct Work {
    /// Groups committed.
    pub groups: AtomicU64,
    /// Operations in them.
    pub operations: AtomicU64,
    /// Waiting for callers to come back.
    pub gathering_us: AtomicU64,
    /// Writing bytes to staging.
    pub writing_us: AtomicU64,
    /// Making them durable.
    pub syncing_us: AtomicU64,
    /// Deciding and committing.
    pub committing_us: AtomicU64,
}

/// How many callers there are just now.
#[derive(Default)]
struct Callers {
    /// One that was taken from the queue and waits for its turn.
    in_hand: AtomicUsize,
    /// So many may be there for the next group.
    expected: AtomicUsize,
}

fn count(stage: &AtomicU64, since: Instant) {
    stage.fetch_add(since.elapsed().as_micros() as u64, Ordering::Relaxed);
}

pub(crate) type Answer<T> = oneshot::Sender<Result<T>>;
type Catalogue = Box<
    dyn for<'c> FnOnce(&'c mut SqliteConnection) -> Pin<Box<dyn Future<Output = Result<()>> + Send + 'c>>
        + Send,
>;

/// What the writer is asked to do.
pub(crate) enum Operation {
    MakeShelf {
        actor: Actor,
        new: NewShelf,
        answer: Answer<Outcome>,
    },
    MakeFolder {
        actor: Actor,
        parent: NodeId,
        name: Name,
        /// Whose properties it takes on, in the same transaction.
        like: Option<NodeId>,
        answer: Answer<Outcome>,
    },
    Put(Box<Put>),
    Move {
        actor: Actor,
        node: NodeId,
        parent: NodeId,
        name: Name,
        replace: bool,
        conditions: Conditions,
        answer: Answer<Outcome>,
    },
    Remove {
        actor: Actor,
        node: NodeId,
        conditions: Conditions,
        answer: Answer<Outcome>,
    },
    ReviveFile {
        actor: Actor,
        node: NodeId,
        place: Place,
        last: Option<(NodeId, Arc<str>)>,
        staged: Staged,
        mtime: i64,
        answer: Answer<Outcome>,
    },
    ReviveFolder {
        actor: Actor,
        node: NodeId,
        place: Place,
        last: Option<(NodeId, Arc<str>)>,
        how: ChangeKind,
        answer: Answer<Outcome>,
    },
    CopyTop {
        answer: Answer<NodeId>,
    },
    CopyBatch {
        actor: Actor,
        items: Vec<CopyItem>,
        answer: Answer<Vec<NodeId>>,
    },
    Displaced {
        node: NodeId,
        foreign: Foreign,
        instead_of: Option<ContentId>,
        answer: Answer<()>,
    },
    TakeUp {
        node: NodeId,
        was: ContentId,
        foreign: Foreign,
        answer: Answer<Option<Arc<Row>>>,
    },
    EnterRemoved {
        parent: NodeId,
        key: Arc<str>,
        known: Option<NodeId>,
        foreign: Option<Foreign>,
        object: ObjectId,
        answer: Answer<NodeId>,
    },
    Lost {
        content: ContentId,
        node: NodeId,
        answer: Answer<()>,
    },
    Finding {
        kind: &'static str,
        node: Option<NodeId>,
        detail: String,
        answer: Answer<()>,
    },
    Step {
        step: crate::files::jobs::Step,
        answer: Answer<()>,
    },
    LetGo {
        states: Vec<crate::timeline::retention::Going>,
        answer: Answer<crate::timeline::purge::LetGone>,
    },
    /// Bytes of an upload in parts are on the disk up to here: noted once they are.
    Synced {
        upload: String,
        file: std::fs::File,
        size: u64,
        answer: Answer<()>,
    },
    Note {
        actor: Actor,
        action: &'static str,
        node: Option<NodeId>,
        what: String,
        detail: String,
        answer: Answer<()>,
    },
    Catalogue {
        change: Catalogue,
        actor: Actor,
        action: &'static str,
        what: String,
        /// Whether it touches who may do what.
        rights: bool,
        answer: Answer<()>,
    },
    Granting {
        actor: Actor,
        change: Granting,
        answer: Answer<GrantId>,
    },
    Converting {
        actor: Actor,
        change: Converting,
        answer: Answer<Outcome>,
    },
    Locking {
        actor: Actor,
        change: Locking,
        answer: Answer<Option<Held>>,
    },
    Properties {
        actor: Actor,
        node: NodeId,
        changes: Vec<(PropName, Option<String>)>,
        mtime: Option<i64>,
        answer: Answer<()>,
    },
}

pub(crate) struct Put {
    pub actor: Actor,
    pub parent: NodeId,
    pub name: Name,
    pub staged: Staged,
    pub mtime: i64,
    pub conditions: Conditions,
    pub how: ChangeKind,
    /// The upload that these bytes came by: finished in the same transaction.
    pub upload: Option<String>,
    /// Whose properties the file takes on, in the same transaction.
    pub like: Option<NodeId>,
    pub answer: Answer<Outcome>,
}

/// What must be on the disk before an operation is decided.
enum Ready {
    Nothing,
    /// Bytes that belong to nothing yet.
    Part,
    Bytes(StagedContent),
    Folder(ContentId, ObjectId),
    Many(Vec<copy::Ready>),
    Failed(StoreError),
}

/// Why nothing is written for now, if so: the outcome of a commit is not known, or the catalogue cannot be read.
#[derive(Default)]
pub(crate) struct Latch(parking_lot::Mutex<Option<StoreError>>);

impl Latch {
    /// The first error of the commit path, until the engine has recovered from it.
    pub fn reason(&self) -> Option<StoreError> {
        self.0.lock().clone()
    }

    fn set(&self, why: Option<StoreError>) {
        *self.0.lock() = why;
    }
}

/// What became of a group.
#[derive(Clone)]
enum Fate {
    Outcome,
    /// Nothing of it is in the catalogue, and nothing of it can appear there.
    Refused(StoreError),
    /// Its frames may lie in the catalogue's log, and appear when that is read anew: what they speak of must stay until
    /// a later commit has overwritten them.
    Unknown(StoreError),
}

/// What a group of unknown outcome brought to the disk: kept until the next commit.
type Limbo = Vec<Box<dyn Send>>;

/// Gives a caller its answer.
type Pending = Box<dyn FnOnce(Fate, &mut Limbo) + Send>;

/// How a commit failed.
enum Failed {
    /// It was not tried.
    Before(StoreError),
    /// It was, and what became of it is to be found out.
    During(StoreError),
}

/// While the outcome of a commit is in doubt, it is looked at again after this.
const LOOK_AGAIN: Duration = Duration::from_millis(250);

/// Where folders are on the disk just now, as far as all that was answered before is carried out.
pub(crate) trait Folders: Send + Sync {
    /// The directory of a folder.
    fn now(&self, folder: NodeId) -> Pin<Box<dyn Future<Output = Result<Arc<OwnedFd>>> + Send + '_>>;
}

pub(crate) struct Writer {
    pub disk: Arc<Disk>,
    pub folders: Arc<dyn Folders>,
    pub staging: Arc<Staging>,
    pub time: Arc<Timekeeper>,
    pub latch: Arc<Latch>,
    pub caches: Arc<Caches>,
    pub placing: Placing,
    pub stopped: Arc<AtomicBool>,
    pub take_apart_after: i64,
    pub jobs: Arc<tokio::sync::Notify>,
    pub work: Arc<Work>,
    pub queue: mpsc::WeakSender<Operation>,
}

impl Writer {
    /// Runs until every sender is gone and everything asked is done.
    pub async fn run(self, mut asked: mpsc::Receiver<Operation>, mut txn: WriteTxn) -> WriteTxn {
        // While one group is decided and committed, the next is synced and the one after that written;
        // but only if it is worth a sync of its own: a few waiting callers are better served together.
        // The permit of a small group, whose bytes are synced already.
        type Group = (Vec<(Operation, Ready)>, Option<OwnedSemaphorePermit>);
        let (ready_tx, mut ready_rx) = mpsc::channel::<Group>(1);
        let (written_tx, mut written_rx) = mpsc::channel::<Group>(1);
        let turn = Arc::new(Semaphore::new(1));
        let (disk, staging, placing) = (self.disk.clone(), self.staging.clone(), self.placing.clone());
        let (its_disk, disk_path) = (disk.clone(), disk.clone());
        let callers = Arc::new(Callers::default());
        let its_callers = callers.clone();
        let (work, its_work) = (self.work.clone(), self.work.clone());
        let syncing = tokio::spawn(async move {
            while let Some((written, permit)) = written_rx.recv().await {
                let (disk, work) = (its_disk.clone(), its_work.clone());
                let ready = match permit {
                    Some(_) => written,
                    None => {
                        match tokio::task::spawn_blocking(move || sync_group(&disk, &work, written)).await {
                            Ok(ready) => ready,
                            Err(_) => break,
                        }
                    }
                };
                if ready_tx.send((ready, permit)).await.is_err() {
                    break;
                }
            }
        });
        let writing = tokio::spawn(async move {
            while let Some(first) = asked.recv().await {
                its_callers.in_hand.store(1, Ordering::SeqCst);
                let permit = match asked.len() {
                    n if n >= WORTH_A_SYNC => None,
                    _ => turn.clone().acquire_owned().await.ok(),
                };
                its_callers.in_hand.store(0, Ordering::SeqCst);
                let mut group = vec![first];
                if permit.is_some() {
                    let (began, expected) = (Instant::now(), its_callers.expected.load(Ordering::SeqCst));
                    let until = tokio::time::Instant::now() + RETURN;
                    while group.len() < expected.min(GROUP) {
                        match tokio::time::timeout_at(until, asked.recv()).await {
                            Ok(Some(next)) => group.push(next),
                            _ => break,
                        }
                    }
                    count(&work.gathering_us, began);
                }
                while group.len() < GROUP {
                    match asked.try_recv() {
                        Ok(next) => group.push(next),
                        Err(_) => break,
                    }
                }
                placing.wait_for_room().await;
                let (disk, staging, work, small) =
                    (disk.clone(), staging.clone(), work.clone(), permit.is_some());
                let write = move || {
                    let written = write_group(&disk, &staging, &work, group);
                    if small { sync_group(&disk, &work, written) } else { written }
                };
                let Ok(written) = tokio::task::spawn_blocking(write).await else {
                    break;
                };
                if written_tx.send((written, permit)).await.is_err() {
                    break;
                }
            }
        });
        let mut memory = SaveHeuristics::default();
        let mut commits = Commits::open(disk_path.path());
        let mut limbo = Limbo::new();
        loop {
            let next = match self.latch.reason() {
                None => ready_rx.recv().await,
                Some(_) => match tokio::time::timeout(LOOK_AGAIN, ready_rx.recv()).await {
                    Ok(next) => next,
                    Err(_) => {
                        self.recover(&mut txn, &mut limbo).await;
                        continue;
                    }
                },
            };
            let Some((group, permit)) = next else { break };
            let (began, n) = (Instant::now(), group.len());
            if self.latch.reason().is_some() {
                self.recover(&mut txn, &mut limbo).await;
            }
            match self.latch.reason() {
                Some(why) => group.into_iter().for_each(|(ask, _)| ask.refuse(&why)),
                None => {
                    self.group(&mut txn, &mut memory, group, &mut limbo).await;
                    if self.latch.reason().is_none() {
                        commits.note(txn.heads.commits);
                    }
                }
            }
            // Those who were answered, and those who wait.
            let waiting = self.queue.upgrade().map_or(0, |q| q.max_capacity() - q.capacity());
            callers.expected.store(n + waiting + callers.in_hand.load(Ordering::SeqCst), Ordering::SeqCst);
            drop(permit);
            count(&self.work.committing_us, began);
            self.work.groups.fetch_add(1, Ordering::Relaxed);
            self.work.operations.fetch_add(n as u64, Ordering::Relaxed);
        }
        let _ = tokio::join!(writing, syncing);
        txn
    }

    async fn group(
        &self,
        txn: &mut WriteTxn,
        memory: &mut SaveHeuristics,
        group: Vec<(Operation, Ready)>,
        limbo: &mut Limbo,
    ) {
        txn.begin(self.time.stamp());
        txn.stopped = self.placing.stopped_shelves();
        memory.prune(txn.now);
        let mut answers: Vec<Pending> = Vec::with_capacity(group.len());
        // The writer is alone: what only looks before it writes needs no transaction until then.
        let begun = group.iter().any(|(ask, _)| ask.writes_by_itself());
        let outcome = match self.decide(txn, memory, group, begun, &mut answers).await {
            Ok(()) => self.commit(txn, begun).await,
            Err(e) => Err(Failed::Before(e)),
        };
        let fate = match outcome {
            Ok(changed) => {
                // Whatever was in doubt is overwritten by now.
                limbo.clear();
                self.caches.commit(&changed);
                self.placing.add(changed.tasks, txn.heads.mark);
                if changed.jobs {
                    self.jobs.notify_one();
                }
                answers.into_iter().for_each(|answer| answer(Fate::Outcome, limbo));
                return;
            }
            Err(Failed::Before(error)) => {
                tracing::error!(%error, "a group could not be decided");
                Fate::Refused(error)
            }
            Err(Failed::During(error)) => {
                // Refused by SQLite if the commit took effect after all.
                let _ = sqlx::query("ROLLBACK").execute(&mut txn.conn).await;
                // Whether it did is unknown: look before answering.
                let took_effect = match crate::txn::write_txn::load_heads(&mut txn.conn).await {
                    Ok(heads) => heads.commits >= txn.heads.commits,
                    Err(_) => false,
                };
                tracing::error!(%error, took_effect, "a group could not be committed");
                if took_effect { Fate::Outcome } else { Fate::Unknown(error) }
            }
        };
        // Memory is ahead of the catalogue, or behind it: nothing is decided by it before it is read anew.
        self.caches.clear();
        let why = match &fate {
            Fate::Outcome => "what was committed last must be read anew".to_string(),
            Fate::Refused(error) | Fate::Unknown(error) => error.to_string(),
        };
        self.latch.set(Some(StoreError::WritesStopped(why)));
        // Before anybody is answered: whoever asks again at once finds an engine that goes on.
        if matches!(fate, Fate::Unknown(_)) {
            limbo.push(Box::new(()));
        }
        self.recover(txn, limbo).await;
        let fate = match fate {
            // Nothing of it can appear any more.
            Fate::Unknown(error) if limbo.is_empty() => Fate::Refused(error),
            other => other,
        };
        answers.into_iter().for_each(|answer| answer(fate.clone(), limbo));
    }

    /// After a failed group: makes sure that nothing of it can still appear, and reads anew what is in memory. Until
    /// that has worked once, nothing is written.
    async fn recover(&self, txn: &mut WriteTxn, limbo: &mut Limbo) {
        let recovered = async {
            let _ = sqlx::query("ROLLBACK").execute(&mut txn.conn).await;
            if !limbo.is_empty() {
                // A commit of its own: in the log it takes the place of the one that failed.
                self.disk.step("commit").map_err(|e| StoreError::io("recovering", &e))?;
                sqlx::raw_sql("BEGIN IMMEDIATE; UPDATE heads SET commits = commits + 1; COMMIT;")
                    .execute(&mut txn.conn)
                    .await?;
                limbo.clear();
            }
            txn.recover().await?;
            let tasks = crate::catalogue::marks::load_marks(&mut txn.conn).await?;
            self.placing.add_missing(tasks, txn.heads.mark);
            Ok::<_, StoreError>(())
        };
        match recovered.await {
            Ok(()) => {
                self.caches.renew(&txn.shelves, &txn.access, &txn.locks, txn.heads.moment);
                self.latch.set(None);
            }
            Err(error) => {
                tracing::error!(%error, "the catalogue does not recover yet; writing is stopped");
                self.latch.set(Some(StoreError::WritesStopped(error.to_string())));
            }
        }
    }

    /// Decides each operation of a group. An error here is the whole group's.
    async fn decide(
        &self,
        txn: &mut WriteTxn,
        memory: &mut SaveHeuristics,
        group: Vec<(Operation, Ready)>,
        begin: bool,
        answers: &mut Vec<Pending>,
    ) -> Result<()> {
        if self.stopped.load(Ordering::SeqCst) {
            for (ask, _) in group {
                ask.refuse(&StoreError::Stopping);
            }
            return Ok(());
        }
        let wanted: Vec<_> = group
            .iter()
            .filter_map(|(ask, _)| match ask {
                Operation::Put(p) => {
                    Some((p.parent, Arc::<str>::from(yellow_attic_core::collate::sort_key(&p.name))))
                }
                _ => None,
            })
            .collect();
        let mut begun = if begin { self.begin(txn).await } else { Ok(()) };
        if begun.is_ok() {
            begun = txn.prefetch(&wanted).await;
        }
        for (ask, ready) in group {
            if let Err(e) = &begun {
                ask.refuse(e);
                continue;
            }
            if let Err(e) = self.one(txn, memory, ask, ready, answers).await {
                begun = Err(e);
            }
        }
        if begun.is_ok() && txn.access_behind {
            begun = txn.reload_access().await;
        }
        begun
    }

    async fn begin(&self, txn: &mut WriteTxn) -> Result<()> {
        self.disk.step("begin").map_err(|e| StoreError::io("beginning", &e))?;
        sqlx::query("BEGIN IMMEDIATE").execute(&mut txn.conn).await?;
        Ok(())
    }

    async fn commit(&self, txn: &mut WriteTxn, begun: bool) -> Result<Changed, Failed> {
        txn.heads.placed = self.placing.placed().max(txn.heads.placed);
        txn.heads.content = self.staging.last_id().max(txn.heads.content);
        let stuck = self.placing.stuck();
        let step = |name| self.disk.step(name).map_err(|e| StoreError::io("committing", &e));
        step("commit").map_err(Failed::Before)?;
        let changed = txn.commit(begun, &stuck).await.map_err(Failed::During)?;
        step("committed").map_err(Failed::During)?;
        Ok(changed)
    }

    /// The object that stands where a node belongs, if it is another than the catalogue knows: an editor saved it
    /// anew. What is decided of the node concerns that one too.
    async fn seen_at(&self, txn: &mut WriteTxn, node: NodeId) -> Result<Option<ObjectId>> {
        let Some(row) = txn.row(node).await? else { return Ok(None) };
        let object = match row.content {
            Some(content) => content.object,
            None => txn.folder(node).await?.map_or(ObjectId::default(), |f| f.object),
        };
        let Some(parent) = row.parent.filter(|_| self.placing.places_of(object).is_empty()) else {
            return Ok(None);
        };
        let Ok(dir) = self.folders.now(parent).await else { return Ok(None) };
        Ok(look(&*dir, row.name()).ok().flatten().map(|there| there.id).filter(|id| *id != object))
    }

    async fn one(
        &self,
        txn: &mut WriteTxn,
        memory: &mut SaveHeuristics,
        ask: Operation,
        ready: Ready,
        answers: &mut Vec<Pending>,
    ) -> Result<()> {
        if let Ready::Failed(e) = ready {
            ask.refuse(&e);
            return Ok(());
        }
        // Many changes of rights in a row are read once, before the next thing that goes by them.
        if txn.access_behind && !matches!(ask, Operation::Catalogue { .. } | Operation::MakeShelf { .. }) {
            txn.reload_access().await?;
        }
        match ask {
            Operation::MakeShelf { actor, new, answer } => {
                let Ready::Folder(_, object) = ready else { return Ok(()) };
                finish(ops::make_shelf(txn, &actor, &new, object).await, answer, (), answers)
            }
            Operation::MakeFolder { actor, parent, name, like, answer } => {
                let Ready::Folder(id, object) = ready else { return Ok(()) };
                let left = StagedFolder::new(&self.disk, id);
                let done = ops::make_folder(txn, &actor, parent, &name, (id, object)).await;
                let done = crate::ops::properties::take_on(txn, like, done).await;
                finish(done, answer, left, answers)
            }
            Operation::Put(p) => {
                let Ready::Bytes(arrived) = ready else { return Ok(()) };
                let p = *p;
                let done = ops::put(
                    txn,
                    memory,
                    &p.actor,
                    p.parent,
                    &p.name,
                    &arrived,
                    p.mtime,
                    &p.conditions,
                    p.how,
                )
                .await;
                if let (Ok(Outcome { row: Some(row), .. }), Some(upload)) = (&done, p.upload) {
                    txn.finish_upload(upload, row.node);
                }
                let done = crate::ops::properties::take_on(txn, p.like, done).await;
                finish(done, p.answer, p.staged, answers)
            }
            Operation::Move { actor, node, parent, name, replace, conditions, answer } => {
                let (seen, owed) = (self.seen_at(txn, node).await?, txn.group.tasks.len());
                let done =
                    ops::move_node(txn, memory, &actor, node, parent, &name, replace, &conditions).await;
                txn.group.tasks[owed..].iter_mut().for_each(|task| task.seen = seen);
                finish(done, answer, (), answers)
            }
            Operation::Remove { actor, node, conditions, answer } => {
                let (seen, owed) = (self.seen_at(txn, node).await?, txn.group.tasks.len());
                let done = ops::remove(txn, memory, &actor, node, &conditions, self.take_apart_after).await;
                txn.group.tasks[owed..].iter_mut().for_each(|task| task.seen = seen);
                finish(done, answer, (), answers)
            }
            Operation::ReviveFile { actor, node, place, last, staged, mtime, answer } => {
                let Ready::Bytes(arrived) = ready else { return Ok(()) };
                let done = revive::revive_file(txn, &actor, node, &place, last, &arrived, mtime).await;
                finish(done, answer, staged, answers)
            }
            Operation::ReviveFolder { actor, node, place, last, how, answer } => {
                let Ready::Folder(id, object) = ready else { return Ok(()) };
                let mut left = StagedFolder::new(&self.disk, id);
                // Only a folder that was taken apart needs the new directory.
                left.wanted = txn
                    .folder(node)
                    .await?
                    .is_some_and(|f| f.lies == crate::fs::model::FolderPlacement::Apart);
                let done = revive::revive_folder(txn, &actor, node, &place, last, (id, object), how).await;
                finish(done, answer, left, answers)
            }
            Operation::CopyTop { answer } => {
                let Ready::Folder(id, object) = ready else { return Ok(()) };
                let left = StagedFolder::new(&self.disk, id);
                finish(copy::make_top(txn, (id, object)).await, answer, left, answers)
            }
            Operation::CopyBatch { actor, items, answer } => {
                let Ready::Many(ready) = ready else { return Ok(()) };
                let done = copy::add_batch(txn, &actor, &items, &ready).await;
                let left: Vec<_> = items.into_iter().filter_map(|i| i.staged).collect();
                finish(done, answer, left, answers)
            }
            Operation::Displaced { node, foreign, instead_of, answer } => {
                finish(found::enter_displaced(txn, node, &foreign, instead_of).await, answer, (), answers)
            }
            Operation::TakeUp { node, was, foreign, answer } => {
                finish(found::take_up(txn, node, was, &foreign).await, answer, (), answers)
            }
            Operation::EnterRemoved { parent, key, known, foreign, object, answer } => finish(
                found::enter_removed(txn, parent, &key, known, foreign.as_ref(), object).await,
                answer,
                (),
                answers,
            ),
            Operation::Lost { content, node, answer } => {
                finish(found::lose(txn, content, node).await, answer, (), answers)
            }
            Operation::Finding { kind, node, detail, answer } => {
                txn.add_finding(kind, node, &detail);
                finish(Ok(()), answer, (), answers)
            }
            Operation::Step { step, answer } => finish(step.apply(txn).await, answer, (), answers),
            Operation::Synced { upload, file: _, size, answer } => {
                // Nobody is answered for bytes whose row is gone: the upload ended meanwhile.
                sqlx::query("UPDATE uploads SET synced = max(synced, ?) WHERE id = ?")
                    .bind(size as i64)
                    .bind(upload)
                    .execute(&mut txn.conn)
                    .await?;
                finish(Ok(()), answer, (), answers)
            }
            Operation::LetGo { states, answer } => {
                finish(crate::timeline::purge::let_go(txn, &states).await, answer, (), answers)
            }
            Operation::Note { actor, action, node, what, detail, answer } => {
                txn.add_record(&actor, action, node, &what, &detail);
                finish(Ok(()), answer, (), answers)
            }
            Operation::Granting { actor, change, answer } => {
                sqlx::query("SAVEPOINT one").execute(&mut txn.conn).await?;
                let done = grants::apply(txn, &actor, &change).await;
                if done.is_err() {
                    sqlx::query("ROLLBACK TO one").execute(&mut txn.conn).await?;
                }
                sqlx::query("RELEASE one").execute(&mut txn.conn).await?;
                finish(done, answer, (), answers)
            }
            Operation::Converting { actor, change, answer } => {
                // Rights of the new place are written beside: a refusal must leave none.
                sqlx::query("SAVEPOINT one").execute(&mut txn.conn).await?;
                let done = convert::apply(txn, &actor, &change, self.take_apart_after).await;
                if done.is_err() {
                    sqlx::query("ROLLBACK TO one").execute(&mut txn.conn).await?;
                }
                sqlx::query("RELEASE one").execute(&mut txn.conn).await?;
                finish(done, answer, (), answers)
            }
            Operation::Locking { actor, change, answer } => {
                sqlx::query("SAVEPOINT one").execute(&mut txn.conn).await?;
                let done = crate::ops::locks::apply(txn, &actor, &change).await;
                if done.is_err() {
                    sqlx::query("ROLLBACK TO one").execute(&mut txn.conn).await?;
                }
                sqlx::query("RELEASE one").execute(&mut txn.conn).await?;
                finish(done, answer, (), answers)
            }
            Operation::Properties { actor, node, changes, mtime, answer } => {
                sqlx::query("SAVEPOINT one").execute(&mut txn.conn).await?;
                let done = crate::ops::properties::apply(txn, &actor, node, &changes, mtime).await;
                if done.is_err() {
                    sqlx::query("ROLLBACK TO one").execute(&mut txn.conn).await?;
                }
                sqlx::query("RELEASE one").execute(&mut txn.conn).await?;
                finish(done, answer, (), answers)
            }
            Operation::Catalogue { change, actor, action, what, rights, answer } => {
                // A savepoint of its own: a refusal here must not undo the others.
                sqlx::query("SAVEPOINT one").execute(&mut txn.conn).await?;
                let done = change(&mut txn.conn).await;
                if done.is_err() {
                    sqlx::query("ROLLBACK TO one").execute(&mut txn.conn).await?;
                } else if !action.is_empty() {
                    // One row for each of many.
                    what.split('\n').for_each(|what| txn.add_record(&actor, action, None, what, ""));
                }
                txn.access_behind |= done.is_ok() && rights;
                sqlx::query("RELEASE one").execute(&mut txn.conn).await?;
                finish(done, answer, (), answers)
            }
        }
    }
}

/// What waits in staging for the outcome.
trait Leftover: Send + 'static {
    fn kept(self);
}
impl Leftover for () {
    fn kept(self) {}
}
impl Leftover for Staged {
    fn kept(self) {
        self.keep();
    }
}
impl Leftover for Vec<Staged> {
    fn kept(self) {
        self.into_iter().for_each(Staged::keep);
    }
}

struct StagedFolder {
    disk: Arc<Disk>,
    id: ContentId,
    wanted: bool,
    kept: bool,
}

impl StagedFolder {
    fn new(disk: &Arc<Disk>, id: ContentId) -> StagedFolder {
        StagedFolder { disk: disk.clone(), id, wanted: true, kept: false }
    }
}

impl Leftover for StagedFolder {
    fn kept(mut self) {
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

/// Keeps the answer for after the commit; an error of the catalogue is the whole group's.
fn finish<T: Send + 'static>(
    outcome: Result<T>,
    answer: Answer<T>,
    left: impl Leftover,
    answers: &mut Vec<Pending>,
) -> Result<()> {
    match outcome {
        Ok(done) => {
            answers.push(Box::new(move |fate, limbo| match fate {
                Fate::Outcome => {
                    left.kept();
                    let _ = answer.send(Ok(done));
                }
                Fate::Refused(e) => {
                    drop(left);
                    let _ = answer.send(Err(e));
                }
                Fate::Unknown(e) => {
                    limbo.push(Box::new(left));
                    let _ = answer.send(Err(e));
                }
            }));
            Ok(())
        }
        Err(e @ (StoreError::Catalogue(_) | StoreError::Io { .. })) => {
            let _ = answer.send(Err(e.clone()));
            Err(e)
        }
        Err(refusal) => {
            drop(left);
            // Told after the commit: it may rest on what the same group does, and whoever looks
            // then must see that.
            answers.push(Box::new(move |fate, _| {
                let _ = answer.send(Err(match fate {
                    Fate::Outcome => refusal,
                    Fate::Refused(e) | Fate::Unknown(e) => e,
                }));
            }));
            Ok(())
        }
    }
}

/// Writes out what a group's operations need on the disk.
fn write_group(
    disk: &Arc<Disk>,
    staging: &Arc<Staging>,
    work: &Work,
    group: Vec<Operation>,
) -> Vec<(Operation, Ready)> {
    let began = Instant::now();
    let bring = |mut ask: Operation| {
        let got = ask.bring(disk, staging);
        (ask, got)
    };
    let written = group.into_iter().map(bring).collect();
    count(&work.writing_us, began);
    written
}

/// Syncs what was written for a group: one sync for all.
fn sync_group(disk: &Arc<Disk>, work: &Work, mut ready: Vec<(Operation, Ready)>) -> Vec<(Operation, Ready)> {
    let began = Instant::now();
    let by_journal = disk.is_journaled();
    let each = by_journal || ready.iter().map(|(ask, _)| ask.arriving()).sum::<usize>() <= 32;
    let any = ready.iter().any(|(_, got)| !matches!(got, Ready::Nothing | Ready::Failed(_)));
    if each {
        // Writing begins for all before the first is waited for: then one commit of the journal
        // carries them all, and the syncs after the first find little left to do.
        for (ask, _) in &ready {
            ask.start_flush();
        }
        for (ask, got) in &mut ready {
            let done = if by_journal { ask.write_back(disk) } else { ask.sync(disk) };
            if let Err(e) = done {
                *got = Ready::Failed(StoreError::io("syncing staged bytes", &e));
            }
        }
    }
    if any {
        let synced = match (by_journal, each) {
            (true, _) => disk.commit_journal(),
            (false, true) => disk.sync(&disk.staging),
            (false, false) => disk.sync_all(),
        };
        if let Err(e) = synced {
            // After a failed sync nothing is known of these bytes: they are refused, and sent again.
            for (_, got) in &mut ready {
                if !matches!(got, Ready::Nothing | Ready::Failed(_)) {
                    *got = Ready::Failed(StoreError::io("syncing staged bytes", &e));
                }
            }
        }
    }
    count(&work.syncing_us, began);
    ready
}

impl Operation {
    /// Whether it writes to the catalogue beside it, and so needs an open transaction.
    fn writes_by_itself(&self) -> bool {
        matches!(self, Operation::Put(p) if p.like.is_some())
            || matches!(
                self,
                Operation::MakeFolder { like: Some(_), .. }
                    | Operation::MakeShelf { .. }
                    | Operation::Step { .. }
                    | Operation::Synced { .. }
                    | Operation::LetGo { .. }
                    | Operation::Catalogue { .. }
                    | Operation::Granting { .. }
                    | Operation::Converting { .. }
                    | Operation::Locking { .. }
                    | Operation::Properties { .. }
                    | Operation::ReviveFile { .. }
                    | Operation::ReviveFolder { .. }
            )
    }

    fn start_flush(&self) {
        if let Operation::Synced { file, .. } = self {
            crate::fs::syscalls::start_writeback(std::os::fd::AsRawFd::as_raw_fd(file), 0, 0);
        }
        self.staged().into_iter().for_each(Staged::start_flush);
    }

    /// The bytes that it brings.
    fn staged(&self) -> Vec<&Staged> {
        match self {
            Operation::Put(p) => vec![&p.staged],
            Operation::ReviveFile { staged, .. } => vec![staged],
            Operation::CopyBatch { items, .. } => items.iter().filter_map(|i| i.staged.as_ref()).collect(),
            _ => Vec::new(),
        }
    }

    fn sync(&self, disk: &Disk) -> std::io::Result<()> {
        if let Operation::Synced { file, .. } = self {
            return disk.sync(file);
        }
        self.staged().into_iter().try_for_each(|s| s.sync(disk))
    }

    fn write_back(&self, disk: &Disk) -> std::io::Result<()> {
        if let Operation::Synced { file, .. } = self {
            return disk.write_back(file);
        }
        self.staged().into_iter().try_for_each(|s| s.write_back(disk))
    }

    fn arriving(&self) -> usize {
        match self {
            Operation::Put(_) | Operation::ReviveFile { .. } | Operation::Synced { .. } => 1,
            Operation::CopyBatch { items, .. } => items.len(),
            _ => 0,
        }
    }

    fn bring(&mut self, disk: &Arc<Disk>, staging: &Arc<Staging>) -> Ready {
        let bytes = |staged: &mut Staged, mtime: i64| match staged.write_out(mtime) {
            Ok(look) => Ready::Bytes(StagedContent {
                id: staged.id,
                hash: staged.hash,
                size: staged.size,
                noise: staged.noise(),
                object: look.id,
            }),
            Err(e) => Ready::Failed(StoreError::io("writing staged bytes", &e)),
        };
        match self {
            Operation::Put(p) => bytes(&mut p.staged, p.mtime),
            Operation::ReviveFile { staged, mtime, .. } => bytes(staged, *mtime),
            Operation::MakeFolder { .. } | Operation::ReviveFolder { .. } | Operation::CopyTop { .. } => {
                let id = staging.next_id();
                match disk.make_staged_dir(&content_name(id)) {
                    Ok(object) => Ready::Folder(id, object),
                    Err(e) => Ready::Failed(StoreError::io("making a staged folder", &e)),
                }
            }
            Operation::MakeShelf { new, .. } => match shelf_object(disk, new) {
                Ok(object) => Ready::Folder(ContentId(0), object),
                Err(e) => Ready::Failed(StoreError::io("making the shelf's folder", &e)),
            },
            Operation::CopyBatch { items, .. } => {
                match items.iter_mut().map(|i| copy::bring(disk, staging, i)).collect::<Result<Vec<_>>>() {
                    Ok(ready) => Ready::Many(ready),
                    Err(e) => Ready::Failed(e),
                }
            }
            Operation::Synced { .. } => Ready::Part,
            Operation::Step { step, .. } => match step.bring(disk) {
                Ok(()) => Ready::Nothing,
                Err(e) => Ready::Failed(e),
            },
            _ => Ready::Nothing,
        }
    }

    fn refuse(self, e: &StoreError) {
        let e = e.clone();
        match self {
            Operation::MakeShelf { answer, .. }
            | Operation::MakeFolder { answer, .. }
            | Operation::Move { answer, .. }
            | Operation::Remove { answer, .. }
            | Operation::ReviveFile { answer, .. }
            | Operation::ReviveFolder { answer, .. } => drop(answer.send(Err(e))),
            Operation::Put(p) => drop(p.answer.send(Err(e))),
            Operation::CopyTop { answer } => drop(answer.send(Err(e))),
            Operation::CopyBatch { answer, .. } => drop(answer.send(Err(e))),
            Operation::TakeUp { answer, .. } => drop(answer.send(Err(e))),
            Operation::EnterRemoved { answer, .. } => drop(answer.send(Err(e))),
            Operation::Displaced { answer, .. }
            | Operation::Lost { answer, .. }
            | Operation::Finding { answer, .. }
            | Operation::Step { answer, .. }
            | Operation::Synced { answer, .. }
            | Operation::Note { answer, .. }
            | Operation::Properties { answer, .. }
            | Operation::Catalogue { answer, .. } => drop(answer.send(Err(e))),
            Operation::LetGo { answer, .. } => drop(answer.send(Err(e))),
            Operation::Granting { answer, .. } => drop(answer.send(Err(e))),
            Operation::Converting { answer, .. } => drop(answer.send(Err(e))),
            Operation::Locking { answer, .. } => drop(answer.send(Err(e))),
        }
    }
}

fn shelf_object(disk: &Disk, new: &NewShelf) -> std::io::Result<ObjectId> {
    let dir = disk.make_shelf_dir(&shelf_parts(new.kind, new.name.as_str()))?;
    Ok(crate::fs::disk::look_at_open(&dir)?.id)
}

/// Where a shelf lies below `shelves/`.
pub(crate) fn shelf_parts(kind: crate::fs::model::ShelfKind, disk_name: &str) -> [&str; 3] {
    match kind {
        crate::fs::model::ShelfKind::Home => ["main", "home", disk_name],
        crate::fs::model::ShelfKind::Shared => ["main", "shared", disk_name],
    }
}

//! One writer. Many operations are gathered, their bytes synced together, decided one after
//! the other, and committed in one transaction; only then does each caller get its answer.

use crate::catalogue::log::Log;
use crate::catalogue::marks::load_marks;
use crate::fs::clock::Timekeeper;
use crate::fs::commits::Commits;
use crate::fs::disk::Disk;
use crate::fs::error::{Result, StoreError};
use crate::fs::staging::Staging;
use crate::txn::operation::{Around, Brought, Fate, Folders, Limbo, Pending, Queued};
use crate::txn::owed::{CarriedOut, NOTHING, Placing};
use crate::txn::read_cache::Caches;
use crate::txn::save_heuristics::SaveHeuristics;
use crate::txn::write_txn::{Changed, WriteTxn};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use tokio::sync::{OwnedSemaphorePermit, Semaphore, mpsc};

/// The most operations in one transaction: it must not hold the writer for more than 100 ms.
const GROUP: usize = 512;
/// So many waiting operations are a group of their own while another is committed.
const WORTH_A_SYNC: usize = 128;
/// So long a group waits for callers who were answered just now: they ask again at once, and one group of all
/// costs hardly more than one of half of them. Where a commit takes longer, more is to be gained: up to a third of it.
const RETURN: (Duration, Duration) = (Duration::from_millis(1), Duration::from_millis(8));

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
    /// What a commit took of late, in microseconds.
    commit_us: AtomicU64,
}

impl Callers {
    /// How long they are waited for.
    fn patience(&self) -> Duration {
        Duration::from_micros(self.commit_us.load(Ordering::Relaxed) / 3).clamp(RETURN.0, RETURN.1)
    }

    fn commit_took(&self, took: Duration) {
        let before = self.commit_us.load(Ordering::Relaxed);
        self.commit_us.store((before * 7 + took.as_micros() as u64) / 8, Ordering::Relaxed);
    }
}

fn count(stage: &AtomicU64, since: Instant) {
    stage.fetch_add(since.elapsed().as_micros() as u64, Ordering::Relaxed);
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

/// Whether what an operation needs lies on the disk.
enum Ready {
    Nothing,
    Something,
    Failed(StoreError),
}

/// How a commit failed.
enum Failed {
    /// It was not tried.
    Before(StoreError),
    /// It was, and what became of it is to be found out.
    During(StoreError),
    /// It took effect, and whether it would after a power cut is not known.
    After(StoreError),
}

/// While the outcome of a commit is in doubt, it is looked at again after this.
const LOOK_AGAIN: Duration = Duration::from_millis(250);

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
    pub queue: mpsc::WeakSender<Queued>,
}

impl Writer {
    /// Runs until every sender is gone and everything asked is done.
    pub async fn run(self, mut asked: mpsc::Receiver<Queued>, mut txn: WriteTxn) -> WriteTxn {
        // While one group is decided and committed, the next is synced and the one after that written;
        // but only if it is worth a sync of its own: a few waiting callers are better served together.
        // The permit of a small group, whose bytes are synced already.
        type Group = (Vec<(Queued, Ready)>, Option<OwnedSemaphorePermit>);
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
                    let until = tokio::time::Instant::now() + its_callers.patience();
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
        let mut log = Log::of(&self.disk);
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
                    self.group(&mut txn, &mut log, &mut memory, group, &mut limbo).await;
                    callers.commit_took(began.elapsed());
                    if self.latch.reason().is_none() {
                        commits.note(txn.heads.commits);
                        if !self.disk.log_stays.is_held()
                            && let Err(error) = log.carry_over(&mut txn.conn).await
                        {
                            tracing::warn!(%error, "the catalogue's log could not be carried over; it is tried again");
                        }
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
        log: &mut Log,
        memory: &mut SaveHeuristics,
        mut group: Vec<(Queued, Ready)>,
        limbo: &mut Limbo,
    ) {
        txn.begin(self.time.stamp());
        let settled = self.settle(log, &mut group).await;
        txn.stopped = self.placing.stopped_shelves();
        memory.prune(txn.now);
        let mut answers: Vec<Pending> = Vec::with_capacity(group.len());
        // The writer is alone: what only looks before it writes needs no transaction until then.
        let begun = group.iter().any(|(ask, _)| ask.writes_by_itself());
        let outcome = match self.decide(txn, memory, group, begun, &mut answers).await {
            Ok(()) => self.commit(txn, log, begun, settled).await,
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
                answers.into_iter().for_each(|answer| answer(Fate::Committed, limbo));
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
                if took_effect { Fate::Committed } else { Fate::Unknown(error) }
            }
            Err(Failed::After(error)) => {
                tracing::error!(%error, "a group is committed, and may not outlast a power cut");
                Fate::Unknown(error)
            }
        };
        // Memory is ahead of the catalogue, or behind it: nothing is decided by it before it is read anew.
        self.caches.clear();
        let why = match &fate {
            Fate::Committed => "what was committed last must be read anew".to_string(),
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
            let tasks = load_marks(&mut txn.conn).await?;
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
        group: Vec<(Queued, Ready)>,
        begin: bool,
        answers: &mut Vec<Pending>,
    ) -> Result<()> {
        if self.stopped.load(Ordering::SeqCst) {
            for (ask, _) in group {
                ask.refuse(&StoreError::Stopping);
            }
            return Ok(());
        }
        let wanted: Vec<_> = group.iter().filter_map(|(ask, _)| ask.meets()).collect();
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

    /// How far the renames are.
    fn carried_out(&self) -> CarriedOut {
        let placed = self.placing.placed();
        CarriedOut { placed, waiting: self.placing.waiting() }
    }

    /// Makes a group's bytes durable where its own commit does not, and tells which renames may be called carried out in it.
    /// None: those that are by then.
    async fn settle(&self, log: &Log, group: &mut [(Queued, Ready)]) -> Option<CarriedOut> {
        if !self.disk.is_journaled() || log.carries() {
            return None;
        }
        let carried_out = self.carried_out();
        match self.commit_journal().await {
            Ok(()) => Some(carried_out),
            Err(e) => {
                refuse_bytes(group, &e);
                Some(CarriedOut { placed: NOTHING, waiting: Vec::new() })
            }
        }
    }

    async fn commit_journal(&self) -> std::io::Result<()> {
        let disk = self.disk.clone();
        tokio::task::spawn_blocking(move || disk.commit_journal()).await.map_err(std::io::Error::other)?
    }

    async fn commit(
        &self,
        txn: &mut WriteTxn,
        log: &mut Log,
        begun: bool,
        settled: Option<CarriedOut>,
    ) -> Result<Changed, Failed> {
        let by_itself = settled.is_none();
        let carried_out = settled.unwrap_or_else(|| self.carried_out());
        txn.heads.placed = carried_out.placed.max(txn.heads.placed);
        txn.heads.content = self.staging.last_id().max(txn.heads.content);
        let step = |name| self.disk.step(name).map_err(|e| StoreError::io("committing", &e));
        step("commit").map_err(Failed::Before)?;
        let changed = txn.commit(begun, &carried_out).await.map_err(Failed::During)?;
        let carried = log.has_carried();
        step("committed").map_err(Failed::During)?;
        // It was to make durable what was done before, and somebody else has shortened the log meanwhile.
        if self.disk.is_journaled() && by_itself && !carried {
            let done = self.commit_journal().await;
            done.map_err(|e| Failed::After(StoreError::io("syncing staged bytes", &e)))?;
        }
        Ok(changed)
    }

    async fn one(
        &self,
        txn: &mut WriteTxn,
        memory: &mut SaveHeuristics,
        ask: Queued,
        ready: Ready,
        answers: &mut Vec<Pending>,
    ) -> Result<()> {
        if let Ready::Failed(e) = ready {
            ask.refuse(&e);
            return Ok(());
        }
        // Many changes of rights in a row are read once, before the next thing that goes by them.
        if txn.access_behind && !ask.precedes_rights() {
            txn.reload_access().await?;
        }
        let mut around = Around {
            memory,
            folders: &*self.folders,
            placing: &self.placing,
            take_apart_after: self.take_apart_after,
        };
        ask.decide(txn, &mut around, answers).await
    }
}

/// Writes out what a group's operations need on the disk.
fn write_group(
    disk: &Arc<Disk>,
    staging: &Arc<Staging>,
    work: &Work,
    group: Vec<Queued>,
) -> Vec<(Queued, Ready)> {
    let began = Instant::now();
    let bring = |mut ask: Queued| {
        let got = match ask.bring(disk, staging) {
            Ok(Brought::Nothing) => Ready::Nothing,
            Ok(Brought::Something) => Ready::Something,
            Err(e) => Ready::Failed(e),
        };
        (ask, got)
    };
    let written = group.into_iter().map(bring).collect();
    count(&work.writing_us, began);
    written
}

/// Syncs what was written for a group: one sync for all.
fn sync_group(disk: &Arc<Disk>, work: &Work, mut ready: Vec<(Queued, Ready)>) -> Vec<(Queued, Ready)> {
    let began = Instant::now();
    // Then the group's commit makes them durable: what is left to do is to bring the bytes to the disk.
    let by_journal = disk.is_journaled();
    let each = by_journal || ready.iter().map(|(ask, _)| ask.arriving()).sum::<usize>() <= 32;
    let any = ready.iter().any(|(_, got)| matches!(got, Ready::Something));
    if each {
        // Writing begins for all before the first is waited for: the syncs after the first find little left to do.
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
    if any && !by_journal {
        let synced = if each { disk.sync(&disk.staging) } else { disk.sync_all() };
        if let Err(e) = synced {
            refuse_bytes(&mut ready, &e);
        }
    }
    count(&work.syncing_us, began);
    ready
}

/// After a failed sync nothing is known of a group's bytes: they are refused, and sent again.
fn refuse_bytes(group: &mut [(Queued, Ready)], why: &std::io::Error) {
    for (_, got) in group {
        if matches!(got, Ready::Something) {
            *got = Ready::Failed(StoreError::io("syncing staged bytes", why));
        }
    }
}

//! The engine, put together: open it, ask it, stop it.

mod free_pages;
pub(crate) mod held;
pub mod identity;
pub mod mending;
pub mod secrets;

use crate::engine::held::Uploads;
use crate::engine::identity::Missing;
use crate::engine::secrets::Secrets;
use crate::files::dirs::Dirs;
use crate::files::filer::Filing;
use crate::files::jobs::{Jobs, Step};
use crate::files::packs::Packing;
use crate::fs::clock::{Clock, Timekeeper};
use crate::fs::disk::Disk;
use crate::fs::error::{Result, StoreError};
use crate::fs::fault_points::{AllSteps, Steps};
use crate::fs::model::{Actor, Row, Shelf};
use crate::fs::staging::{Arriving, Staged, Staging};
use crate::rights::quota::Claims;
use crate::txn::operation::{Operation, Queued, asked};
use crate::txn::owed::Placing;
use crate::txn::read_cache::View;
use crate::txn::write_txn::WriteTxn;
use crate::txn::writer::Latch;
use async_recursion::async_recursion as boxed;
use parking_lot::Mutex;
use sqlx::Connection;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use tokio::sync::mpsc;
use yellow_attic_core::AccountId;
use yellow_attic_core::cursor::Seal;

/// How an engine is opened.
pub struct Options {
    /// The data folder.
    pub data: PathBuf,
    /// Whether a store is made in it if there is none.
    pub missing: Missing,
    /// The time.
    pub clock: Arc<dyn Clock>,
    /// Asked before each I/O step.
    pub steps: Arc<dyn Steps>,
    /// How long a removed folder stays whole, in milliseconds.
    pub take_apart_after_ms: i64,
    /// How long small contents stay files of their own after they were let go, in milliseconds; then they go into packs.
    pub gather_after_ms: i64,
    /// Renames that the disk may owe before writers wait, and how long it may owe one.
    pub most_owed: (usize, std::time::Duration),
    /// Whether background jobs run by themselves; else by [`Engine::run_jobs`].
    pub background: bool,
    /// Whether what hands do on the disk is taken up by itself.
    pub watch: bool,
    /// The file with the key of the secrets; in the data folder, if nobody says.
    pub secrets_key: Option<PathBuf>,
}

impl Options {
    /// The usual ones.
    pub fn new(data: impl Into<PathBuf>) -> Options {
        Options {
            data: data.into(),
            missing: Missing::Make,
            clock: Arc::new(crate::fs::clock::SystemClock),
            steps: Arc::new(AllSteps),
            take_apart_after_ms: 3_600_000,
            gather_after_ms: 86_400_000,
            most_owed: (10_000, std::time::Duration::from_secs(5)),
            background: true,
            watch: true,
            secrets_key: None,
        }
    }
}

/// Whether anything of who may do what has changed.
pub struct RightsWatch(tokio::sync::watch::Receiver<Arc<crate::rights::access::Access>>);

impl RightsWatch {
    /// Whether it has since this watch began, or since [`RightsWatch::seen`].
    pub fn changed(&self) -> bool {
        self.0.has_changed().unwrap_or(true)
    }

    /// What is now is known.
    pub fn seen(&mut self) {
        self.0.mark_unchanged();
    }
}

/// The store. Cloning shares it.
#[derive(Clone)]
pub struct Engine {
    pub(crate) shared: Arc<Shared>,
}

pub(crate) struct Shared {
    pub disk: Arc<Disk>,
    pub staging: Arc<Staging>,
    pub view: View,
    pub dirs: Dirs,
    pub placing: Placing,
    pub filing: Filing,
    pub uploads: Uploads,
    pub claims: Claims,
    pub delivering: held::Delivering,
    pub packing: Packing,
    /// Rollbacks that run, with how far they are.
    pub rolling: Mutex<std::collections::HashMap<i64, Arc<held::RunningRollback>>>,
    /// What was found suspicious lately.
    pub suspected: Mutex<held::Suspected>,
    /// Held while somebody notes a finding that is noted once.
    pub noting: tokio::sync::Mutex<()>,
    /// Folders as they were, kept from one page to the next.
    pub listed: Mutex<Vec<held::Listed>>,
    pub seal: Seal,
    /// What names the timeline.
    pub timeline: String,
    pub(crate) secrets: Secrets,
    /// The record's first key, if it was made at this start.
    pub first_key: Option<String>,
    /// Whether jobs run by themselves.
    pub background: bool,
    pub time: Arc<Timekeeper>,
    pub jobs: Jobs,
    pub latch: Arc<Latch>,
    /// How far the newest catalogue was, if this is an older one.
    pub doubt: Option<i64>,
    pub work: Arc<crate::txn::writer::Work>,
    pub stopped: Arc<AtomicBool>,
    /// Taken away at the stop: the writer ends when no sender is left.
    pub writer: Mutex<Option<mpsc::Sender<Queued>>>,
    pub running: Mutex<Running>,
    /// How the disk is watched.
    pub watching: Arc<crate::engine::held::Watching>,
    /// Where the engine's own tasks run, whatever runtime its callers come from.
    pub(crate) runtime: tokio::runtime::Handle,
}

#[derive(Default)]
pub(crate) struct Running {
    pub writer: Option<tokio::task::JoinHandle<WriteTxn>>,
    pub jobs: Option<tokio::task::JoinHandle<()>>,
    pub threads: Vec<JoinHandle<()>>,
}

impl Engine {
    /// Finishes what was asked, places what is owed, and closes. Reading must have ended.
    #[boxed]
    pub async fn stop(&self) {
        let shared = &self.shared;
        self.stop_watching().await;
        self.file_first().await;
        drop(shared.writer.lock().take());
        let running = std::mem::take(&mut *shared.running.lock());
        let stopped = shared.stopped.clone();
        shared.jobs.wake.notify_one();
        if let Some(jobs) = running.jobs {
            stopped.store(true, Ordering::SeqCst);
            // Its step, if one is under way, has the writer's weak sender only.
            jobs.abort();
            let _ = jobs.await;
            stopped.store(false, Ordering::SeqCst);
        }
        let txn = match running.writer {
            Some(writer) => writer.await.ok(),
            None => None,
        };
        let _ = shared.placing.settle().await;
        shared.placing.stop();
        shared.filing.stop();
        shared.packing.stop();
        let _ = tokio::task::spawn_blocking(move || {
            for thread in running.threads {
                let _ = thread.join();
            }
        })
        .await;
        shared.view.pool.close().await;
        if let Some(mut txn) = txn {
            let (placed, waiting) = (shared.placing.placed(), shared.placing.waiting());
            let waiting = serde_json::to_string(&waiting).unwrap_or_default();
            let disk = shared.disk.clone();
            let settled = move || if disk.is_journaled() { disk.commit_journal() } else { Ok(()) };
            let closed = async {
                // Renames that no commit has taken along yet, before their marks go.
                let settled = tokio::task::spawn_blocking(settled).await;
                settled.map_err(|_| StoreError::Stopping)?.map_err(|e| StoreError::io("closing", &e))?;
                sqlx::query("UPDATE heads SET placed = max(placed, ?)")
                    .bind(placed)
                    .execute(&mut txn.conn)
                    .await?;
                sqlx::query("DELETE FROM marks WHERE id <= ? AND id NOT IN (SELECT value FROM json_each(?))")
                    .bind(placed)
                    .bind(waiting)
                    .execute(&mut txn.conn)
                    .await?;
                txn.conn.close().await.map_err(StoreError::from)
            };
            if let Err(error) = closed.await {
                tracing::warn!(%error, "the catalogue was not closed cleanly; it is carried forward at the next start");
            }
        }
        // Somebody may still hold a clone of this engine: let go of the folder now.
        let _ = rustix::fs::flock(&shared.disk.shelves, rustix::fs::FlockOperation::Unlock);
    }

    async fn stop_watching(&self) {
        self.shared.watching.stop.store(true, Ordering::SeqCst);
        let watcher = self.shared.watching.thread.lock().take();
        let ended = tokio::task::spawn_blocking(move || watcher.map(JoinHandle::join));
        // One that reads a very large file ends by itself when it asks for something.
        let _ = tokio::time::timeout(std::time::Duration::from_secs(10), ended).await;
    }

    /// What left its place is filed while the writer can still be told what became of it; for a moment, because what lies in
    /// `past/incoming` is looked at again at the next start in any case.
    async fn file_first(&self) {
        let _ = self.shared.placing.settle().await;
        for _ in 0..200 {
            if self.shared.filing.is_idle() || self.shared.writer.lock().is_none() {
                return;
            }
            tokio::time::sleep(std::time::Duration::from_millis(10)).await;
        }
    }

    /// Sends the writer something and waits for the answer. Runs to its end even if the
    /// caller stops waiting.
    pub(crate) async fn ask<O: Operation>(&self, operation: O) -> Result<O::Told> {
        if let Some(why) = self.shared.latch.reason() {
            return Err(why);
        }
        if let Some(trouble) = self.shared.placing.trouble() {
            return Err(match trouble {
                StoreError::DiskFull { .. } => self.shared.staging.check_room(0).err().unwrap_or(trouble),
                StoreError::ReadOnlyDisk => trouble,
                other => StoreError::WritesStopped(other.to_string()),
            });
        }
        let sender = self.shared.writer.lock().clone().ok_or(StoreError::Stopping)?;
        let (queued, answered) = asked(operation);
        sender.send(queued).await.map_err(|_| StoreError::Stopping)?;
        drop(sender);
        let done = answered.await.map_err(|_| StoreError::Stopping)?;
        match done {
            Err(StoreError::DiskFull { free: 0, .. }) => Err(self
                .shared
                .staging
                .check_room(0)
                .err()
                .unwrap_or(StoreError::DiskFull { free: 0, reserve: 0 })),
            other => other,
        }
    }

    /// Has the writer do something that nobody waits for; not at all if it has much to do.
    pub(crate) fn ask_later<O: Operation>(&self, operation: O) {
        if let Some(sender) = self.shared.writer.lock().clone() {
            let _ = sender.try_send(asked(operation).0);
        }
    }

    /// Why the key of the secrets is not there, if it is not: second factors cannot be checked or set up meanwhile.
    pub fn secrets_trouble(&self) -> Option<String> {
        self.shared.secrets.key().err().map(|why| why.to_string())
    }

    /// The data folder.
    pub fn data_path(&self) -> &std::path::Path {
        self.shared.disk.path()
    }

    /// The time, for ends of links, grants and sign-ins: the later of the wall clock and the newest time kept, so that a
    /// clock that was set back opens nothing again.
    pub fn now_ms(&self) -> i64 {
        self.shared.time.latest()
    }

    /// The time by which the past goes and snapshots are taken: of a wall clock that is not believed, nothing.
    pub fn kept_ms(&self) -> i64 {
        self.shared.time.stamp()
    }

    /// What the wall clock says, believed or not: for what others compare with their own.
    pub fn wall_ms(&self) -> i64 {
        self.shared.time.wall()
    }

    /// Why the wall clock is not believed, if it is not: nothing of the past goes meanwhile.
    pub fn clock_doubt(&self) -> Option<yellow_attic_core::trust::ClockDoubt> {
        self.shared.time.doubt()
    }

    /// An administrator says that the wall clock is right.
    pub fn believe_clock(&self) {
        self.shared.time.believe();
    }

    /// Whether the catalogue is older than the data beside it: nothing is swept, packed or let go.
    pub fn has_older_catalogue(&self) -> bool {
        self.shared.doubt.is_some()
    }

    /// The first key of the record, if it was made at this start: to be told once, and kept elsewhere.
    pub fn first_record_key(&self) -> Option<&str> {
        self.shared.first_key.as_deref()
    }

    /// Who on this machine reads the tree of shelves.
    pub fn tree_access(&self) -> crate::fs::tree_access::TreeAccess {
        self.shared.disk.access()
    }

    /// What the file system under the data folder promises.
    pub fn durability(&self) -> &crate::fs::disk::Durability {
        self.shared.disk.durability()
    }

    /// Shelves that take no writes for now, with why.
    pub fn stopped_shelves(&self) -> Vec<(Arc<Shelf>, StoreError)> {
        let stopped = self.shared.placing.stopped_shelves();
        stopped.into_iter().filter_map(|(id, why)| Some((self.shared.view.shelf(id)?, why))).collect()
    }

    /// A place in a list, to come back with: read by nobody else, and of use to nobody else.
    pub fn cursor(&self, actor: &Actor, list: &str, place: &str) -> String {
        self.shared.seal.encode(&actor.whose(), list, place)
    }

    /// Something sealed for a purpose and somebody: nobody else can read or make it.
    pub fn sealed(&self, purpose: &str, whose: &str, what: &str) -> String {
        self.shared.seal.encode(whose, purpose, what)
    }

    /// What was sealed, if it was sealed here for this purpose and somebody.
    pub fn unsealed(&self, purpose: &str, whose: &str, text: &str) -> Option<String> {
        self.shared.seal.decode(whose, purpose, text).ok()
    }

    /// A mark by which a text is known again in the record, and not read: eight hexadecimal digits.
    pub fn mark_of(&self, text: &str) -> String {
        crate::fs::disk::hex(&self.shared.seal.mark_of(text))[..8].to_string()
    }

    /// The place in a cursor that somebody came back with.
    pub fn place_of(&self, actor: &Actor, list: &str, cursor: &str) -> Result<String> {
        Ok(self.shared.seal.decode(&actor.whose(), list, cursor)?)
    }

    /// What names this timeline: ids and moments of another one mean other things.
    pub fn timeline(&self) -> &str {
        &self.shared.timeline
    }

    /// Grows with every change that is committed: for following changes without asking again
    /// and again.
    pub fn head(&self) -> tokio::sync::watch::Receiver<i64> {
        self.shared.view.caches.head()
    }

    /// Whether something on a shelf may have changed after a number. Costs no look-up.
    pub fn touched_since(&self, shelf: &Shelf, since: yellow_attic_core::Moment) -> bool {
        self.shared.view.caches.touched_since(shelf.id, since.0)
    }

    /// Bytes that are announced and have not arrived yet.
    pub fn reserved(&self) -> u64 {
        self.shared.staging.reserved()
    }

    /// What the writer has done since the start.
    pub fn work(&self) -> &crate::txn::writer::Work {
        &self.shared.work
    }

    /// Operations committed so far.
    pub(crate) fn operations(&self) -> u64 {
        self.shared.work.operations.load(Ordering::Relaxed)
    }

    /// Work in the background rests after a step: three times as long as it took while others write, who must
    /// not be held up by it, and hardly at all while nobody does. `before`: operations when the step began;
    /// `own`: how many of those since may be its own, with what they make the filer do.
    pub(crate) async fn rest(&self, began: std::time::Instant, before: u64, own: u64) {
        let others = self.operations().saturating_sub(before + own);
        let took = began.elapsed();
        let rest = if others > 0 { took * 3 } else { took / 4 };
        tokio::time::sleep(rest.min(std::time::Duration::from_millis(300))).await;
    }

    /// Renames that the disk owes.
    pub fn owed(&self) -> usize {
        self.shared.placing.owed()
    }

    /// Whether large past contents wait to be packed, or packs to be tidied.
    pub fn is_packing(&self) -> bool {
        !self.shared.packing.is_idle() || !self.shared.filing.is_idle()
    }

    /// Where the engine's tasks run.
    pub fn runtime(&self) -> &tokio::runtime::Handle {
        &self.shared.runtime
    }

    // --- changing ---

    /// Takes a small body as a whole (see [`crate::SMALL`]).
    pub fn stage_small(&self, bytes: Vec<u8>) -> Result<Staged> {
        Ok(self.shared.staging.small(bytes))
    }

    /// Begins a body. Blocks.
    pub fn stage(&self, announced: u64) -> Result<Arriving> {
        self.shared.staging.begin(announced)
    }

    /// Refuses what the disk has no room for.
    pub fn check_room(&self, bytes: u64) -> Result<()> {
        self.shared.staging.check_room(bytes)
    }

    // --- for tests and tools ---

    /// Runs the jobs that are due, to their end.
    #[boxed]
    pub async fn run_jobs(&self) -> Result<()> {
        while self.shared.jobs.next().await? {}
        Ok(())
    }

    /// Waits until the disk is in step: all is placed and filed.
    #[boxed]
    pub async fn settle(&self) -> Result<()> {
        loop {
            self.shared.placing.settle().await?;
            if self.shared.filing.is_idle() && self.shared.placing.is_idle() {
                break;
            }
            tokio::time::sleep(std::time::Duration::from_millis(1)).await;
        }
        self.ask(Step::Nothing).await
    }

    /// The shelf with its present name, by id.
    pub fn shelf_of(&self, row: &Row) -> Option<Arc<Shelf>> {
        self.shared.view.shelf(row.shelf)
    }

    /// Every shelf.
    pub fn shelves(&self) -> Vec<Arc<Shelf>> {
        self.shared.view.shelves()
    }

    /// The home shelf of an account.
    pub fn home_of(&self, account: AccountId) -> Option<Arc<Shelf>> {
        self.shared.view.home_of(account)
    }

    /// Tells whether anything of who may do what has changed since.
    pub fn rights_watch(&self) -> RightsWatch {
        RightsWatch(self.shared.view.rights_changed())
    }

    /// Tells of each change of who may do what: what somebody sees may be something else by now.
    pub fn rights_changed(&self) -> impl Future<Output = ()> + Send + 'static {
        let mut access = self.shared.view.rights_changed();
        async move {
            let _ = access.changed().await;
        }
    }

    /// Free and total bytes of the disk.
    pub fn disk_space(&self) -> Result<(u64, u64)> {
        self.shared.disk.space().map_err(|e| StoreError::io("asking for free space", &e))
    }

    /// Why writing is stopped, if it is.
    pub fn trouble(&self) -> Option<StoreError> {
        self.shared.latch.reason().or_else(|| self.shared.placing.trouble())
    }
}

/// Two engines on one data folder would overwrite each other: the second is refused.
pub(crate) fn lock(disk: &Disk) -> Result<()> {
    rustix::fs::flock(&disk.shelves, rustix::fs::FlockOperation::NonBlockingLockExclusive).map_err(|_| {
        StoreError::WritesStopped("another process has this data folder open; stop it first".into())
    })
}

//! The engine, put together: open it, ask it, stop it.

mod free_pages;
pub mod identity;
pub mod mending;
pub mod secrets;

use crate::catalogue::marks::load_marks;
use crate::catalogue::{db, rows};
use crate::engine::identity::Missing;
use crate::engine::secrets::Secrets;
use crate::files::dirs::Dirs;
use crate::files::filer::{Filer, Filing};
use crate::files::jobs::{Jobs, Step};
use crate::files::packs::{Packer, Packing};
use crate::files::placer::Placer;
use crate::fs::clock::{Clock, Timekeeper};
use crate::fs::disk::Disk;
use crate::fs::error::{Result, StoreError};
use crate::fs::fault_points::{AllSteps, Steps};
use crate::fs::model::shelf_parts;
use crate::fs::model::{Actor, ChangeKind, Row, Shelf};
use crate::fs::record_key::RecordKey;
use crate::fs::staging::{Arriving, Staged, Staging};
use crate::ops::make::MakeFolder;
use crate::ops::make::MakeShelf;
use crate::ops::put::Put;
use crate::ops::record::Note;
use crate::ops::relocate::MoveNode;
use crate::ops::relocate::Remove;
use crate::ops::revive::ReviveFile;
use crate::ops::revive::ReviveFolder;
use crate::ops::{NewShelf, Outcome, Place};
use crate::rights::quota::Claims;
use crate::timeline::uploads::Uploads;
use crate::txn::operation::Operation;
use crate::txn::operation::Queued;
use crate::txn::operation::asked;
use crate::txn::owed::Placing;
use crate::txn::read_cache::{Caches, View};
use crate::txn::write_txn::WriteTxn;
use crate::txn::writer::{Latch, Writer};
use async_recursion::async_recursion as boxed;
use parking_lot::Mutex;
use sqlx::Connection;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use tokio::sync::{Notify, mpsc};
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::cursor::Seal;
use yellow_attic_core::{AccountId, Name, NodeId};

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
    /// Renames that the disk may owe before writers wait, and how long it may owe one.
    pub most_owed: (usize, std::time::Duration),
    /// Whether background jobs run by themselves; else by [`Engine::run_jobs`].
    pub background: bool,
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
            most_owed: (10_000, std::time::Duration::from_secs(5)),
            background: true,
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
    pub delivering: crate::sharing::deliveries::Delivering,
    pub packing: Packing,
    /// Rollbacks that run, with how far they are.
    pub rolling: Mutex<std::collections::HashMap<i64, Arc<crate::timeline::rollback::Running>>>,
    /// What was found suspicious lately.
    pub suspected: Mutex<crate::timeline::alarms::Suspected>,
    /// Folders as they were, kept from one page to the next.
    pub listed: Mutex<Vec<crate::timeline::history::Listed>>,
    seal: Seal,
    pub(crate) secrets: Secrets,
    /// The record's first key, if it was made at this start.
    first_key: Option<String>,
    /// Whether jobs run by themselves.
    pub background: bool,
    pub time: Arc<Timekeeper>,
    pub jobs: Jobs,
    latch: Arc<Latch>,
    /// How far the newest catalogue was, if this is an older one.
    doubt: Option<i64>,
    work: Arc<crate::txn::writer::Work>,
    stopped: Arc<AtomicBool>,
    /// Taken away at the stop: the writer ends when no sender is left.
    writer: Mutex<Option<mpsc::Sender<Queued>>>,
    running: Mutex<Running>,
    /// Where the engine's own tasks run, whatever runtime its callers come from.
    pub(crate) runtime: tokio::runtime::Handle,
}

#[derive(Default)]
struct Running {
    writer: Option<tokio::task::JoinHandle<WriteTxn>>,
    jobs: Option<tokio::task::JoinHandle<()>>,
    threads: Vec<JoinHandle<()>>,
}

impl Engine {
    /// Opens a data folder, making it if it is missing, and carries forward whatever was
    /// under way when it was last open. One engine at a time may have it open.
    #[boxed]
    pub async fn open(options: Options) -> Result<Engine> {
        // On a thread of its own, where it need not be able to move to another one.
        let runtime = tokio::runtime::Handle::current();
        let opened = tokio::task::spawn_blocking(move || runtime.block_on(Engine::opened(options)));
        opened.await.map_err(|_| StoreError::Stopping)?
    }

    async fn opened(options: Options) -> Result<Engine> {
        identity::look(&options.data, options.missing)?;
        let disk = Arc::new(Disk::open(&options.data, options.steps)?);
        lock(&disk)?;
        let mut conn = db::open_writer(&disk.catalogue()).await?;
        let doubt = match identity::recognise(&mut conn, options.data.clone(), options.missing).await {
            Ok(doubt) => doubt,
            Err(error) => {
                // Let go of the files before anybody is told: they may be put right at once.
                let _ = sqlx::Connection::close(conn).await;
                return Err(error);
            }
        };
        let seal = identity::seal(&mut conn).await?;
        let usual = || options.data.join(crate::engine::secrets::USUAL_NAME);
        let secrets = Secrets::open(&mut conn, options.secrets_key.unwrap_or_else(usual)).await?;
        crate::fs::tree_access::close(&options.data);
        let shelves = rows::shelves(&mut conn).await?;
        let began = crate::txn::write_txn::load_heads(&mut conn).await?.at;
        let time = Arc::new(Timekeeper::new(options.clock, began));
        let record_key = RecordKey::open(&options.data, time.stamp())?;
        let first_key = record_key.first();
        let key_id = record_key.id.clone();
        let mut txn = WriteTxn::open(conn, shelves.clone(), record_key).await?;
        let staging = Arc::new(Staging::new(disk.clone(), highest_id(disk.clone(), &mut txn).await?));
        let (uploads, spared) = crate::timeline::uploads::recover(&mut txn.conn, &staging).await?;
        let mut marks = load_marks(&mut txn.conn).await?;
        owe_again(disk.clone(), &mut txn, &mut marks).await?;
        if doubt.is_none() {
            sweep(&disk, &marks, &spared)?;
        }

        let view = View {
            pool: db::open_readers(&disk.catalogue()).await?,
            caches: Arc::new(Caches::new(shelves, txn.access.clone(), txn.locks.clone(), txn.heads.moment)),
        };
        let placing = Placing::new(txn.heads.placed, options.most_owed);
        let filing = Filing::default();
        let dirs = Dirs::new(disk.clone(), view.clone(), placing.clone());
        for shelf in shelves_missing(&disk, &view)? {
            let missing = StoreError::ShelfMissing(shelf.name.clone());
            tracing::error!(error = %missing, "a shelf takes no writes until its folder is there");
            placing.stop_shelf(shelf.id, missing);
        }
        let (sender, receiver) = mpsc::channel(1024);
        let work = Arc::new(crate::txn::writer::Work::default());
        let stopped = Arc::new(AtomicBool::new(false));
        let wake = Arc::new(Notify::new());
        let runtime = tokio::runtime::Handle::current();

        let placer = Placer {
            disk: disk.clone(),
            dirs: dirs.clone(),
            view: view.clone(),
            placing: placing.clone(),
            filing: filing.clone(),
            handle: runtime.clone(),
            writer: sender.downgrade(),
        };
        let highest = txn.heads.mark;
        let (placer, recovered) = tokio::task::spawn_blocking(move || {
            let done = placer.recover(marks, highest);
            (placer, done)
        })
        .await
        .map_err(|_| StoreError::Stopping)?;
        if let Err(error) = recovered {
            // A full or read-only disk does not keep the service from starting: reading works,
            // writing is refused until the placer has caught up.
            tracing::error!(%error, "what was under way could not be carried forward yet");
        }

        let packing = Packing::new(doubt.is_some());
        let packer = Packer {
            disk: disk.clone(),
            view: view.clone(),
            staging: staging.clone(),
            packing: packing.clone(),
            filing: filing.clone(),
            writer: sender.downgrade(),
            handle: runtime.clone(),
            open: None,
        };
        let filer = Filer {
            disk: disk.clone(),
            view: view.clone(),
            staging: staging.clone(),
            filing: filing.clone(),
            packing: packing.clone(),
            writer: sender.downgrade(),
            handle: runtime.clone(),
            owed: Mutex::default(),
        };
        filer.recover()?;
        let jobs = Jobs {
            disk: disk.clone(),
            view: view.clone(),
            staging: staging.clone(),
            placing: placing.clone(),
            filing: filing.clone(),
            packing: packing.clone(),
            time: time.clone(),
            writer: sender.downgrade(),
            wake: wake.clone(),
            stopped: stopped.clone(),
        };
        let latch = Arc::new(Latch::default());
        let writer = Writer {
            disk: disk.clone(),
            folders: Arc::new(dirs.clone()),
            staging: staging.clone(),
            time: time.clone(),
            latch: latch.clone(),
            caches: view.caches.clone(),
            placing: placing.clone(),
            stopped: stopped.clone(),
            take_apart_after: options.take_apart_after_ms,
            jobs: wake,
            work: work.clone(),
            queue: sender.downgrade(),
        };
        let running = Running {
            writer: Some(tokio::spawn(writer.run(receiver, txn))),
            jobs: options.background.then(|| tokio::spawn(jobs.clone().run())),
            threads: vec![
                std::thread::Builder::new().name("placer".into()).spawn(move || placer.run()),
                std::thread::Builder::new().name("filer".into()).spawn(move || behind(|| filer.run())),
                std::thread::Builder::new().name("packer".into()).spawn(move || behind(|| packer.run())),
            ]
            .into_iter()
            .collect::<std::io::Result<_>>()
            .map_err(|e| StoreError::io("starting a thread", &e))?,
        };
        let engine = Engine {
            shared: Arc::new(Shared {
                disk,
                staging,
                view,
                dirs,
                placing,
                filing,
                uploads,
                time,
                jobs,
                latch,
                doubt,
                work,
                stopped,
                writer: Mutex::new(Some(sender)),
                running: Mutex::new(running),
                runtime,
                claims: Claims::default(),
                packing,
                rolling: Mutex::default(),
                listed: Mutex::default(),
                suspected: Mutex::default(),
                seal,
                secrets,
                first_key,
                background: options.background,
                delivering: Default::default(),
            }),
        };
        engine.claim_unfinished().await?;
        if engine.shared.first_key.is_some() {
            engine.note(&Actor::service(), "record key begun", None, &key_id, "").await?;
        }
        Ok(engine)
    }

    /// Finishes what was asked, places what is owed, and closes. Reading must have ended.
    #[boxed]
    pub async fn stop(&self) {
        let shared = &self.shared;
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
            let (placed, stuck) = (shared.placing.placed(), shared.placing.stuck());
            let stuck = serde_json::to_string(&stuck).unwrap_or_default();
            let closed = async {
                sqlx::query("UPDATE heads SET placed = max(placed, ?)")
                    .bind(placed)
                    .execute(&mut txn.conn)
                    .await?;
                sqlx::query("DELETE FROM marks WHERE id <= ? AND id NOT IN (SELECT value FROM json_each(?))")
                    .bind(placed)
                    .bind(stuck)
                    .execute(&mut txn.conn)
                    .await?;
                txn.conn.close().await
            };
            if let Err(error) = closed.await {
                tracing::warn!(%error, "the catalogue was not closed cleanly; it is carried forward at the next start");
            }
        }
        // Somebody may still hold a clone of this engine: let go of the folder now.
        let _ = rustix::fs::flock(&shared.disk.shelves, rustix::fs::FlockOperation::Unlock);
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

    /// Makes a shelf.
    #[boxed]
    pub async fn make_shelf(&self, actor: &Actor, new: NewShelf) -> Result<Arc<Shelf>> {
        let actor = actor.clone();
        let done = self.ask(MakeShelf::new(actor, new)).await?;
        let id = done.row.map(|r| r.shelf).unwrap_or_default();
        self.shared.view.shelf(id).ok_or_else(|| StoreError::NotFound("The shelf".into()))
    }

    /// Makes a folder.
    #[boxed]
    pub async fn make_folder(&self, actor: &Actor, parent: NodeId, name: Name) -> Result<Outcome> {
        self.make_folder_like(actor, parent, name, None).await
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
        self.ask(MakeFolder::new(actor, parent, name, like)).await
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
        self.put_as(actor, parent, name, staged, mtime, conditions, ChangeKind::Made, None).await
    }

    #[allow(clippy::too_many_arguments)]
    pub(crate) async fn put_as(
        &self,
        actor: &Actor,
        parent: NodeId,
        name: Name,
        staged: Staged,
        mtime: i64,
        conditions: Conditions,
        how: ChangeKind,
        like: Option<NodeId>,
    ) -> Result<Outcome> {
        let actor = actor.clone();
        self.ask(Put {
            actor,
            parent,
            name,
            staged,
            mtime,
            conditions,
            how,
            upload: None,
            like,
            content: None,
        })
        .await
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
        self.ask(MoveNode { actor, node, parent, name, replace, conditions }).await
    }

    /// Removes. What was there stays in the past.
    #[boxed]
    pub async fn remove(&self, actor: &Actor, node: NodeId, conditions: Conditions) -> Result<Outcome> {
        let actor = actor.clone();
        self.ask(Remove { actor, node, conditions }).await
    }

    pub(crate) async fn revive_file(
        &self,
        actor: &Actor,
        node: NodeId,
        place: Place,
        last: Option<(NodeId, Arc<str>)>,
        staged: Staged,
        mtime: i64,
    ) -> Result<Outcome> {
        let actor = actor.clone();
        self.ask(ReviveFile { actor, node, place, last, staged, mtime, content: None }).await
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
        self.ask(ReviveFolder { actor, node, place, last, how, made: None }).await
    }

    /// Writes a row of the record for something that changes no file.
    #[boxed]
    pub async fn note(
        &self,
        actor: &Actor,
        action: &'static str,
        node: Option<NodeId>,
        what: &str,
        detail: &str,
    ) -> Result<()> {
        let (actor, what, detail) = (actor.clone(), what.to_string(), detail.to_string());
        self.ask(Note { actor, action, node, what, detail }).await
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
    pub fn space(&self) -> Result<(u64, u64)> {
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

fn staged_names(disk: &Disk) -> Result<Vec<String>> {
    let names = disk.names(&disk.staging).map_err(|e| StoreError::io("reading staging", &e))?;
    Ok(names.into_iter().filter_map(|n| String::from_utf8(n).ok()).collect())
}

fn staged_id(name: &str) -> Option<i64> {
    i64::from_str_radix(name.strip_prefix('c')?, 16).ok()
}

/// The highest id in use, on the disk or in the catalogue, or given out before.
async fn highest_id(disk: Arc<Disk>, txn: &mut WriteTxn) -> Result<i64> {
    let known: i64 = sqlx::query_scalar(
        "SELECT max(coalesce((SELECT max(id) FROM contents), 0), coalesce((SELECT max(content) FROM uploads), 0),
           coalesce((SELECT max(id) FROM packs), 0))",
    )
    .fetch_one(&mut txn.conn)
    .await?;
    let names = |dir, what: &str| disk.names(dir).map_err(|e| StoreError::io(format!("reading {what}"), &e));
    let lying = [
        names(&disk.staging, "staging")?,
        names(&disk.incoming, "past/incoming")?,
        names(&disk.packs, "past/packs")?,
    ];
    let lying = lying
        .iter()
        .flatten()
        .filter_map(|n| std::str::from_utf8(n).ok())
        .filter_map(|n| staged_id(n).or_else(|| i64::from_str_radix(n.strip_prefix('p')?, 16).ok()));
    Ok(lying.chain([known, txn.heads.content]).max().unwrap_or(0))
}

/// Bytes in staging that a living content names and no mark: they could not be placed once, and are owed again. They
/// are all that there is of what was answered.
async fn owe_again(
    disk: Arc<Disk>,
    txn: &mut WriteTxn,
    marks: &mut Vec<crate::fs::pending_rename::Task>,
) -> Result<()> {
    use crate::fs::pending_rename::{DiskLocation, Task};
    let marked: std::collections::HashSet<String> =
        marks.iter().filter(|t| matches!(t.from, DiskLocation::Staging(_))).map(|t| t.from.name()).collect();
    let ids: Vec<i64> =
        staged_names(&disk)?.iter().filter(|n| !marked.contains(*n)).filter_map(|n| staged_id(n)).collect();
    let living: Vec<(i64, i64, Option<i64>, i64)> = sqlx::query_as(
        "SELECT c.id, c.state, (SELECT node FROM entries_now e WHERE e.content = c.id), c.size
         FROM json_each(?) j JOIN contents c ON c.id = j.value WHERE c.state IN (0, 1)",
    )
    .bind(serde_json::to_string(&ids).unwrap_or_default())
    .fetch_all(&mut txn.conn)
    .await?;
    for (id, state, node, size) in living {
        let (id, name) = (
            yellow_attic_core::ContentId(id),
            crate::fs::disk::content_name(yellow_attic_core::ContentId(id)),
        );
        let Some(there) = crate::fs::disk::look(&disk.staging, &name)
            .map_err(|e| StoreError::io("looking at staged bytes", &e))?
            .filter(|l| l.size == size && l.kind == crate::fs::disk::Plain::File)
        else {
            continue;
        };
        let row = match node {
            Some(node) => txn.row(NodeId(node)).await?,
            None => None,
        };
        let place = row
            .as_ref()
            .filter(|_| state == 0)
            .and_then(|r| Some(DiskLocation::In(r.parent?, r.name().into())));
        tracing::warn!(content = id.0, "bytes that could not be placed are placed again");
        let task = Task::new(
            there.id,
            row.map_or(NodeId(0), |r| r.node),
            false,
            DiskLocation::Staging(id),
            place.unwrap_or(DiskLocation::Incoming(id)),
        );
        marks.push(Task { mark: txn.heads.placed, ..task });
    }
    Ok(())
}

/// Shelves whose folders are not there: they may lie on a disk that is not mounted.
fn shelves_missing(disk: &Disk, view: &View) -> Result<Vec<Arc<Shelf>>> {
    let mut missing = Vec::new();
    for shelf in view.shelves() {
        let path = shelf_parts(shelf.kind, &shelf.disk_name).join("/");
        match crate::fs::disk::look(&disk.shelves, &path) {
            Ok(Some(_)) => {}
            Ok(None) => missing.push(shelf),
            Err(e) => return Err(StoreError::io(format!("looking for the shelf \"{}\"", shelf.name), &e)),
        }
    }
    Ok(missing)
}

/// Removes from staging what no mark and no upload answers for: operations that never got their answer.
fn sweep(
    disk: &Disk,
    marks: &[crate::fs::pending_rename::Task],
    uploads: &[yellow_attic_core::ContentId],
) -> Result<()> {
    let wanted: std::collections::HashSet<String> = marks
        .iter()
        .filter(|t| matches!(t.from, crate::fs::pending_rename::DiskLocation::Staging(_)))
        .map(|t| t.from.name())
        .chain(uploads.iter().map(|id| crate::fs::disk::content_name(*id)))
        .collect();
    for name in staged_names(disk)? {
        if !wanted.contains(&name) && staged_id(&name).is_some() && disk.drop_staged(&name, false).is_err() {
            let _ = disk.drop_staged(&name, true);
        }
    }
    Ok(())
}

/// Work that nobody waits for leaves the processor to those who do.
fn behind(work: impl FnOnce()) {
    // It only concerns the present thread. Where it is refused, nothing is lost but a little time.
    let _ = rustix::process::setpriority_process(None, 10);
    work();
}

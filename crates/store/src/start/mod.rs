//! The start: a data folder is opened, and whatever was under way is carried forward.

pub mod rebuild;

use crate::catalogue::marks::load_marks;
use crate::catalogue::{db, rows};
use crate::engine::secrets::Secrets;
use crate::engine::{Engine, Options, Running, Shared, identity, lock};
use crate::files::dirs::Dirs;
use crate::files::filer::{Filer, Filing};
use crate::files::jobs::Jobs;
use crate::files::packer::Packer;
use crate::files::packs::Packing;
use crate::files::placer::Placer;
use crate::fs::clock::Timekeeper;
use crate::fs::disk::Disk;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, Shelf, shelf_parts};
use crate::fs::pending_rename::Task;
use crate::fs::record_key::RecordKey;
use crate::fs::staging::Staging;
use crate::rights::quota::Claims;
use crate::txn::operation::Queued;
use crate::txn::owed::Placing;
use crate::txn::read_cache::{Caches, View};
use crate::txn::write_txn::WriteTxn;
use crate::txn::writer::{Latch, Work, Writer};
use async_recursion::async_recursion as boxed;
use parking_lot::Mutex;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use tokio::sync::{Notify, mpsc};
use yellow_attic_core::NodeId;

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
        let timeline = identity::timeline(&mut conn).await?;
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
        let work = Arc::new(Work::default());
        let stopped = Arc::new(AtomicBool::new(false));
        let latch = Arc::new(Latch::default());
        let packing = Packing::new(doubt.is_some());
        let workers = Workers {
            disk: &disk,
            staging: &staging,
            view: &view,
            dirs: &dirs,
            placing: &placing,
            filing: &filing,
            packing: &packing,
            time: &time,
            writer: sender.downgrade(),
            wake: Arc::new(Notify::new()),
            stopped: &stopped,
            runtime: tokio::runtime::Handle::current(),
        };
        let placer = workers.placer(marks, txn.heads.mark).await?;
        let filer = workers.filer()?;
        let jobs = workers.jobs();
        let writer = workers.writer(&latch, &work, options.take_apart_after_ms);
        let packer = workers.packer(options.gather_after_ms);
        let runtime = workers.runtime;
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
                noting: tokio::sync::Mutex::default(),
                listed: Mutex::default(),
                suspected: Mutex::default(),
                seal,
                timeline,
                secrets,
                first_key,
                background: options.background,
                delivering: Default::default(),
                watching: Arc::default(),
            }),
        };
        engine.files().claim_unfinished().await?;
        if engine.shared.first_key.is_some() {
            engine.people().note(&Actor::service(), "record key begun", None, &key_id, "").await?;
        }
        // Of an older catalogue's differences nobody knows whose they are.
        if options.background && options.watch && engine.shared.doubt.is_none() {
            watch(&engine);
        }
        Ok(engine)
    }
}

/// Has what hands do on the disk taken up by itself.
fn watch(engine: &Engine) {
    let watcher = crate::reconcile::watcher::Watcher::new(engine);
    let begun = watcher.and_then(|watcher| {
        std::thread::Builder::new().name("watcher".into()).spawn(move || behind(|| watcher.run()))
    });
    match begun {
        Ok(thread) => *engine.shared.watching.thread.lock() = Some(thread),
        Err(error) => tracing::warn!(
            %error,
            "the disk cannot be watched (fs.inotify.max_user_instances): what hands do there is taken up by yatticd reconcile"
        ),
    }
}

fn staged_names(disk: &Disk) -> Result<Vec<String>> {
    let names = disk.names(&disk.staging).map_err(|e| StoreError::io("reading staging", &e))?;
    Ok(names.into_iter().filter_map(|n| String::from_utf8(n).ok()).collect())
}

fn staged_id(name: &str) -> Option<i64> {
    i64::from_str_radix(name.strip_prefix('c')?, 16).ok()
}

/// What those who work on the disk are made of.
struct Workers<'w> {
    disk: &'w Arc<Disk>,
    staging: &'w Arc<Staging>,
    view: &'w View,
    dirs: &'w Dirs,
    placing: &'w Placing,
    filing: &'w Filing,
    packing: &'w Packing,
    time: &'w Arc<Timekeeper>,
    /// A weak one: the writer ends when nobody asks it any more.
    writer: mpsc::WeakSender<Queued>,
    wake: Arc<Notify>,
    stopped: &'w Arc<AtomicBool>,
    runtime: tokio::runtime::Handle,
}

impl Workers<'_> {
    /// Carries out the renames that are owed, before anybody reads.
    async fn placer(&self, marks: Vec<Task>, highest: i64) -> Result<Placer> {
        let placer = Placer {
            disk: self.disk.clone(),
            dirs: self.dirs.clone(),
            view: self.view.clone(),
            placing: self.placing.clone(),
            filing: self.filing.clone(),
            handle: self.runtime.clone(),
            writer: self.writer.clone(),
        };
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
        Ok(placer)
    }

    fn packer(&self, gather_after: i64) -> Packer {
        Packer {
            disk: self.disk.clone(),
            view: self.view.clone(),
            staging: self.staging.clone(),
            packing: self.packing.clone(),
            filing: self.filing.clone(),
            writer: self.writer.clone(),
            handle: self.runtime.clone(),
            open: None,
            tidies: std::time::Instant::now(),
            gather_after,
            gathers: std::time::Instant::now(),
        }
    }

    fn filer(&self) -> Result<Filer> {
        let filer = Filer {
            disk: self.disk.clone(),
            view: self.view.clone(),
            staging: self.staging.clone(),
            filing: self.filing.clone(),
            packing: self.packing.clone(),
            writer: self.writer.clone(),
            handle: self.runtime.clone(),
            owed: Mutex::default(),
        };
        filer.recover()?;
        Ok(filer)
    }

    fn jobs(&self) -> Jobs {
        Jobs {
            disk: self.disk.clone(),
            view: self.view.clone(),
            staging: self.staging.clone(),
            placing: self.placing.clone(),
            filing: self.filing.clone(),
            packing: self.packing.clone(),
            time: self.time.clone(),
            writer: self.writer.clone(),
            wake: self.wake.clone(),
            stopped: self.stopped.clone(),
        }
    }

    fn writer(&self, latch: &Arc<Latch>, work: &Arc<Work>, take_apart_after: i64) -> Writer {
        Writer {
            disk: self.disk.clone(),
            folders: Arc::new(self.dirs.clone()),
            staging: self.staging.clone(),
            time: self.time.clone(),
            latch: latch.clone(),
            caches: self.view.caches.clone(),
            placing: self.placing.clone(),
            stopped: self.stopped.clone(),
            take_apart_after,
            jobs: self.wake.clone(),
            work: work.clone(),
            queue: self.writer.clone(),
        }
    }
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

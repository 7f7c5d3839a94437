//! Takes up by itself what hands do on the disk, while it happens.
//!
//! An event is a hint: what is at the name is looked at, and compared. Those of the service's own renames find nothing that differs. What is
//! gone is looked at once more a moment later, because it may have moved to where nobody had looked yet.

use crate::engine::held::Watching;
use crate::engine::{Engine, Shared};
use crate::fs::error::{Result, StoreError};
use crate::ops::record::Finding;
use crate::reconcile::report::Report;
use crate::reconcile::{Looking, OnDisk};
use ref_cast::RefCast;
use std::collections::{HashMap, HashSet};
use std::sync::atomic::Ordering;
use std::sync::{Arc, Weak};
use std::time::{Duration, Instant};
use tokio::runtime::Handle;
use yellow_attic_core::NodeId;
use yellow_attic_watch::{Heard, Watch};

/// Folders that are watched at the most: each takes a kilobyte of the kernel's memory.
const MOST: usize = 50_000;
/// With nothing more for so long, what was heard is looked at; after so long in any case.
const QUIET: Duration = Duration::from_millis(150);
const RESTLESS: Duration = Duration::from_millis(700);
/// What is gone, or did not stand still, is looked at again after this; what never does, each time after twice as long, up to 64 times this.
const AGAIN: Duration = Duration::from_millis(1000);
const DOUBLED: u32 = 6;
/// What does not stand still for so many looks is left, until something else happens to it.
const TRIES: u32 = 60;
/// More names than this in one folder: it is looked at as a whole.
const MANY: usize = 2_000;
/// So many things that cannot be read are told of one look.
const TOLD: usize = 20;
/// All is looked at so often, where not all is watched; else once a day, for what no event told.
const WALKS: Duration = Duration::from_secs(3600);
const DAILY: Duration = Duration::from_secs(86_400);
/// So long after the start all is looked at: what happened meanwhile nobody heard.
const FIRST_WALK: Duration = Duration::from_secs(1);
/// After an error all is looked at, so much later.
const TROUBLED: Duration = Duration::from_secs(30);
/// So often is seen whether it is to end.
const TICK: Duration = Duration::from_millis(250);

/// Names of folders; all of them where there is none.
#[derive(Default)]
struct Pending(HashMap<NodeId, Option<HashSet<String>>>);

impl Pending {
    fn add(&mut self, folder: NodeId, name: Option<String>) {
        let known = self.0.entry(folder).or_insert_with(|| Some(HashSet::new()));
        match (known.as_mut(), name) {
            (Some(names), Some(name)) if names.len() < MANY => drop(names.insert(name)),
            (None, _) => {}
            _ => *known = None,
        }
    }

    fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

pub(crate) struct Watcher {
    shared: Weak<Shared>,
    handle: Handle,
    watching: Arc<Watching>,
    watch: Watch<NodeId>,
    /// Heard, and not looked at yet.
    heard: Pending,
    /// To be looked at again: from when on, and how often it was looked at in vain. Events change nothing of that.
    again: HashMap<(NodeId, String), (Instant, u32)>,
    walk_at: Instant,
    told_limit: bool,
    /// What was told before.
    asked: HashSet<String>,
}

impl Watcher {
    pub fn new(engine: &Engine) -> std::io::Result<Watcher> {
        Ok(Watcher {
            shared: Arc::downgrade(&engine.shared),
            handle: engine.shared.runtime.clone(),
            watching: engine.shared.watching.clone(),
            watch: Watch::new()?,
            heard: Pending::default(),
            again: HashMap::new(),
            walk_at: Instant::now() + FIRST_WALK,
            told_limit: false,
            asked: HashSet::new(),
        })
    }

    /// Runs on a thread of its own until it is told to stop.
    pub fn run(mut self) {
        crate::fs::syscalls::be_patient();
        let mut begun = false;
        while let Some(shared) = self.shared.upgrade().filter(|_| !self.watching.stop.load(Ordering::SeqCst))
        {
            let engine = Engine { shared };
            let step = if begun { self.step(&engine) } else { self.begin(&engine) };
            match step {
                Ok(()) => begun = true,
                Err(StoreError::Stopping) => return,
                Err(error) => {
                    tracing::warn!(%error, "what changes on the disk cannot be looked at just now; it is tried again");
                    // Whatever was to be looked at: all is, but not again and again while the disk is in trouble.
                    self.walk_at = Instant::now() + TROUBLED;
                    std::thread::sleep(AGAIN);
                }
            }
            drop(engine);
            if self.heard.is_empty() {
                self.watch.wait(TICK);
            }
        }
    }

    fn begin(&mut self, engine: &Engine) -> Result<()> {
        let roots: Vec<NodeId> = engine.shared.view.shelves().iter().map(|shelf| shelf.root).collect();
        roots.into_iter().try_for_each(|root| self.watch_beneath(engine, root, false))
    }

    /// Watches a folder and all beneath it that the catalogue knows. `anew`: what was looked at before it was watched is looked at again.
    fn watch_beneath(&mut self, engine: &Engine, top: NodeId, anew: bool) -> Result<()> {
        let shared = &engine.shared;
        let mut next = vec![top];
        while let Some(node) = next.pop() {
            if self.watching.stop.load(Ordering::SeqCst) {
                return Err(StoreError::Stopping);
            }
            if self.watch.count() >= MOST || self.watch.limited {
                return self.tell_limit(engine);
            }
            match self.handle.block_on(shared.dirs.find(node)) {
                Ok(dir) => {
                    if anew && !self.watch.watches(node) {
                        self.heard.add(node, None);
                    }
                    self.watch.add(node, &dir);
                }
                Err(StoreError::Stopping) => return Err(StoreError::Stopping),
                // Told when it is looked at; the others are watched all the same.
                Err(_) => continue,
            }
            let inside: Vec<i64> = self.handle.block_on(
                sqlx::query_scalar("SELECT node FROM entries_now WHERE parent = ? AND kind = 0")
                    .bind(node.0)
                    .fetch_all(&shared.view.pool),
            )?;
            next.extend(inside.into_iter().map(NodeId));
        }
        self.watching.folders.store(self.watch.count() as u64, Ordering::Relaxed);
        Ok(())
    }

    fn tell_limit(&mut self, engine: &Engine) -> Result<()> {
        self.watching.limited.store(true, Ordering::Relaxed);
        self.watching.folders.store(self.watch.count() as u64, Ordering::Relaxed);
        if std::mem::replace(&mut self.told_limit, true) {
            return Ok(());
        }
        let why = match self.watch.limited {
            true => "the system gives no more watches (fs.inotify.max_user_watches): raise that, and start the service anew".to_string(),
            false => format!("more than {MOST} would take too much of the system's memory"),
        };
        let detail = format!(
            "{} folders are watched for what is done to them on the disk, and the others are looked at once an hour: {why}",
            self.watch.count()
        );
        self.note(engine, "not all watched", detail)
    }

    fn note(&self, engine: &Engine, kind: &'static str, detail: String) -> Result<()> {
        self.handle.block_on(engine.ask(Finding { kind, node: None, detail }))
    }

    fn step(&mut self, engine: &Engine) -> Result<()> {
        self.watch_new_shelves(engine)?;
        self.listen();
        if !self.heard.is_empty() {
            let begun = Instant::now();
            while self.watch.wait(QUIET) && begun.elapsed() < RESTLESS {
                self.listen();
            }
            let heard = std::mem::take(&mut self.heard);
            self.look(engine, heard, false)?;
        }
        let now = Instant::now();
        let mut due = Pending::default();
        for ((folder, name), (at, _)) in &self.again {
            if *at <= now {
                due.add(*folder, Some(name.clone()));
            }
        }
        if !due.is_empty() {
            self.look(engine, due, true)?;
        }
        if Instant::now() >= self.walk_at {
            self.walk(engine)?;
        }
        Ok(())
    }

    fn listen(&mut self) {
        for heard in self.watch.heard() {
            match heard {
                // Names that are no text are left alone whatever happens to them.
                Heard::Stirred { folder, name: Some(name) } => {
                    if let Ok(name) = String::from_utf8(name)
                        && !self.again.contains_key(&(folder, name.clone()))
                    {
                        self.heard.add(folder, Some(name));
                    }
                }
                // Of the folder itself: where it lies is what the one above it tells.
                Heard::Stirred { name: None, .. } => {}
                Heard::Anything => self.walk_at = Instant::now(),
            }
        }
    }

    /// Looks at what was heard of. `believe`: what is gone now has been for a moment.
    fn look(&mut self, engine: &Engine, pending: Pending, believe: bool) -> Result<()> {
        let names: Vec<(NodeId, Option<HashSet<String>>)> =
            pending.0.iter().map(|(folder, names)| (*folder, names.clone())).collect();
        let report = self.handle.block_on(OnDisk::ref_cast(engine).look_at(names, believe))?;
        self.take_note(engine, &report)?;
        let mut tried = HashMap::new();
        for (folder, names) in &pending.0 {
            for name in names.iter().flatten() {
                let at = (*folder, name.clone());
                tried.extend(self.again.remove(&at).map(|(_, tries)| (at, tries)));
            }
        }
        for at in report.again {
            let tries = tried.get(&at).copied().unwrap_or(0);
            if tries < TRIES {
                let rest = AGAIN * (1 << tries.min(DOUBLED));
                self.again.insert(at, (Instant::now() + rest, tries + 1));
            }
        }
        for (folder, names) in pending.0 {
            self.watch_new(engine, folder, names.map(|names| names.into_iter().collect()))?;
        }
        Ok(())
    }

    /// Shelves that were made since, or whose folders came back. What lay there before is looked at.
    fn watch_new_shelves(&mut self, engine: &Engine) -> Result<()> {
        for shelf in engine.shared.view.shelves() {
            if !self.watch.watches(shelf.root) && self.watch.count() < MOST && !self.watch.limited {
                self.watch_beneath(engine, shelf.root, true)?;
            }
        }
        Ok(())
    }

    /// Watches the folders among what was looked at, whoever made them.
    fn watch_new(&mut self, engine: &Engine, folder: NodeId, names: Option<Vec<String>>) -> Result<()> {
        let view = &engine.shared.view;
        let mut found = Vec::new();
        match names {
            Some(names) => {
                for name in names {
                    let Ok(name) = yellow_attic_core::Name::new(&name) else { continue };
                    let key = yellow_attic_core::collate::sort_key(&name).into();
                    let row = self.handle.block_on(view.child(folder, &key))?;
                    found.extend(row.filter(|row| row.is_folder()).map(|row| row.node));
                }
            }
            None => {
                let inside: Vec<i64> = self.handle.block_on(
                    sqlx::query_scalar("SELECT node FROM entries_now WHERE parent = ? AND kind = 0")
                        .bind(folder.0)
                        .fetch_all(&view.pool),
                )?;
                found.extend(inside.into_iter().map(NodeId));
            }
        }
        for node in found {
            // One that came back, or was made anew, is another directory.
            self.watch_beneath(engine, node, true)?;
        }
        Ok(())
    }

    fn walk(&mut self, engine: &Engine) -> Result<()> {
        let looking = Looking { take_up: true, paced: true, ..Looking::default() };
        let report = self.handle.block_on(OnDisk::ref_cast(engine).reconcile(&looking))?;
        self.take_note(engine, &report)?;
        if report.differences() > 0 {
            tracing::info!(found = report.differences(), "what had been done on the disk is taken up");
            self.begin(engine)?;
        }
        let rest = if self.watching.limited.load(Ordering::Relaxed) { WALKS } else { DAILY };
        self.walk_at = Instant::now() + rest;
        self.watching.walks.fetch_add(1, Ordering::Relaxed);
        Ok(())
    }

    /// Says once what cannot be read, and of each shelf from which much is gone that somebody is to say whether it is true.
    fn take_note(&mut self, engine: &Engine, report: &Report) -> Result<()> {
        for what in report.unreadable.names.iter().take(TOLD) {
            if self.asked.len() < MANY && self.asked.insert(what.clone()) {
                self.note(
                    engine,
                    "cannot be read",
                    format!("{what}. It is taken up once the service may read it"),
                )?;
            }
        }
        for what in report.nobodys.names.iter().take(TOLD) {
            if self.asked.len() < MANY && self.asked.insert(what.clone()) {
                self.note(engine, "belongs to nobody", what.clone())?;
            }
        }
        for asks in &report.asks {
            if self.asked.insert(asks.shelf.clone()) {
                let detail = format!(
                    "{} of the {} files of \"{}\" are not on the disk any more. Until somebody says that this is meant, they stay listed. Put them back, or say: yatticd reconcile --take-up --accept-gone",
                    asks.gone, asks.of, asks.shelf
                );
                self.note(engine, "much is gone", detail)?;
            }
        }
        Ok(())
    }
}

//! Carrying out what the disk owes the catalogue, in the order of the marks.

use crate::dirs::Dirs;
use crate::disk::{Disk, Look, ObjectId, Plain, content_name, look};
use crate::error::{Result, StoreError};
use crate::filer::{File, Filing};
use crate::rows::parse;
use crate::task::{Loc, Task};
use parking_lot::Mutex;
use sqlx::SqliteConnection;
use std::collections::{HashMap, HashSet, VecDeque};
use std::os::fd::{AsRawFd, OwnedFd};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use std::time::{Duration, Instant};
use tokio::runtime::Handle;
use tokio::sync::Notify;

/// Renames between two syncs.
const BATCH: usize = 1024;
/// While fewer are owed, more are waited for a little: one sync then serves many.
const GATHER: Duration = Duration::from_millis(20);

/// What is owed: shared by the writer, the readers and the placer.
#[derive(Clone)]
pub(crate) struct Placing(Arc<Inner>);

struct Inner {
    /// Protects the queue and the places of objects on their way, which must agree.
    state: Mutex<State>,
    placed: AtomicI64,
    work: Notify,
    room: Notify,
    stop: AtomicBool,
    /// How many wait for the disk to be in step.
    settling: AtomicI64,
    /// Beyond so many renames, or one so old, writers wait.
    most: (usize, Duration),
}

#[derive(Default)]
struct State {
    queue: VecDeque<Task>,
    under_way: usize,
    places: HashMap<ObjectId, Vec<Loc>>,
    highest: i64,
    /// Since when something has been owed without a pause, batch by batch.
    owed_since: Option<Instant>,
    trouble: Option<StoreError>,
}

impl Placing {
    pub fn new(placed: i64, most: (usize, Duration)) -> Placing {
        Placing(Arc::new(Inner {
            state: Mutex::new(State { highest: placed, ..State::default() }),
            placed: AtomicI64::new(placed),
            work: Notify::new(),
            room: Notify::new(),
            stop: AtomicBool::new(false),
            settling: AtomicI64::new(0),
            most,
        }))
    }

    /// Every mark up to this one is carried out and synced.
    pub fn placed(&self) -> i64 {
        self.0.placed.load(Ordering::SeqCst)
    }

    /// Owes these renames, in order. `highest`: the last mark given out.
    pub fn add(&self, tasks: Vec<Task>, highest: i64) {
        let mut state = self.0.state.lock();
        for task in &tasks {
            let places = state.places.entry(task.object).or_default();
            places.push(task.from.clone());
            places.push(task.to.clone());
        }
        if !tasks.is_empty() {
            state.owed_since.get_or_insert_with(Instant::now);
        }
        state.queue.extend(tasks);
        state.highest = state.highest.max(highest);
        drop(state);
        self.0.work.notify_one();
    }

    /// Adds those of the catalogue's marks that are not known here yet.
    pub fn add_missing(&self, tasks: Vec<Task>, highest: i64) {
        let known = self.0.state.lock().highest;
        self.add(tasks.into_iter().filter(|t| t.mark > known).collect(), highest);
    }

    /// Where an object on its way can be.
    pub fn places_of(&self, object: ObjectId) -> Vec<Loc> {
        self.0.state.lock().places.get(&object).cloned().unwrap_or_default()
    }

    pub fn is_idle(&self) -> bool {
        self.owed() == 0
    }

    /// How many renames are owed.
    pub fn owed(&self) -> usize {
        let state = self.0.state.lock();
        state.queue.len() + state.under_way
    }

    /// Why the disk does not follow, if it does not: writing is refused until it does.
    pub fn trouble(&self) -> Option<StoreError> {
        self.0.state.lock().trouble.clone()
    }

    /// Waits while the disk owes too much, unless it is in trouble.
    pub async fn wait_for_room(&self) {
        loop {
            let room = self.0.room.notified();
            {
                let state = self.0.state.lock();
                let (most, oldest) = self.0.most;
                let many = state.queue.len() + state.under_way >= most;
                let old = state.owed_since.is_some_and(|since| since.elapsed() >= oldest);
                if !(many || old) || state.trouble.is_some() {
                    return;
                }
            }
            tokio::select! {
                () = room => {}
                () = tokio::time::sleep(Duration::from_millis(50)) => {}
            }
        }
    }

    /// Waits until all that was owed at the call is carried out, or the disk is in trouble.
    pub async fn settle(&self) -> Result<()> {
        self.0.settling.fetch_add(1, Ordering::SeqCst);
        let settled = self.settled().await;
        self.0.settling.fetch_sub(1, Ordering::SeqCst);
        settled
    }

    async fn settled(&self) -> Result<()> {
        loop {
            if let Some(trouble) = self.trouble() {
                return Err(trouble);
            }
            if self.is_idle() || self.0.stop.load(Ordering::SeqCst) {
                return Ok(());
            }
            tokio::time::sleep(Duration::from_millis(1)).await;
        }
    }

    pub fn stop(&self) {
        self.0.stop.store(true, Ordering::SeqCst);
        self.0.work.notify_one();
    }
}

/// Reads the marks that are still set, in order.
pub(crate) async fn load_marks(conn: &mut SqliteConnection) -> Result<Vec<Task>> {
    let rows: Vec<(i64, String)> =
        sqlx::query_as("SELECT id, task FROM marks ORDER BY id").fetch_all(conn).await?;
    rows.into_iter()
        .map(|(mark, text)| {
            let mut task: Task = parse(&text)?;
            task.mark = mark;
            Ok(task)
        })
        .collect()
}

/// Carries out renames. Runs on a thread of its own.
pub(crate) struct Placer {
    pub disk: Arc<Disk>,
    pub dirs: Dirs,
    pub placing: Placing,
    pub filing: Filing,
    pub handle: Handle,
}

impl Placer {
    /// Carries forward what was owed when the engine stopped.
    pub fn recover(&self, tasks: Vec<Task>, highest: i64) -> Result<()> {
        self.placing.add(tasks, highest);
        while self.batch(true)? {}
        Ok(())
    }

    /// Works until told to stop. After an error it tries again every half second; meanwhile
    /// writing is refused with that reason.
    pub fn run(self) {
        // After an error the same renames are replayed: some of them are done already.
        let mut again = false;
        loop {
            let outcome = self.batch(again);
            again = outcome.is_err();
            match outcome {
                Ok(true) => self.gather(),
                Ok(false) => {
                    if self.placing.0.stop.load(Ordering::SeqCst) {
                        return;
                    }
                    self.handle.block_on(self.placing.0.work.notified());
                    self.gather();
                }
                Err(error) => {
                    let mut state = self.placing.0.state.lock();
                    if state.trouble.is_none() {
                        tracing::error!(%error, "the disk does not follow the catalogue; writing is stopped");
                    }
                    state.trouble = Some(error);
                    drop(state);
                    if self.placing.0.stop.load(Ordering::SeqCst) {
                        return;
                    }
                    std::thread::sleep(Duration::from_millis(500));
                }
            }
        }
    }

    /// Waits a little for more, unless somebody waits for the disk to be in step.
    fn gather(&self) {
        let urgent = || {
            let inner = &self.placing.0;
            inner.settling.load(Ordering::SeqCst) > 0 || inner.stop.load(Ordering::SeqCst)
        };
        for _ in 0..10 {
            if urgent() || self.placing.0.state.lock().queue.len() >= BATCH {
                return;
            }
            std::thread::sleep(GATHER / 10);
        }
    }

    /// One batch: renames, then one sync of what they touched, then the marks count as placed.
    fn batch(&self, recovering: bool) -> Result<bool> {
        let began = Instant::now();
        let tasks: Vec<Task> = {
            let mut state = self.placing.0.state.lock();
            // A replay must see every later mark of an object.
            let n = if recovering { state.queue.len() } else { state.queue.len().min(BATCH) };
            state.under_way = n;
            state.queue.drain(..n).collect()
        };
        let Some(last) = tasks.last().map(|t| t.mark) else {
            self.placing.0.state.lock().under_way = 0;
            return Ok(false);
        };
        let mut touched = Touched::default();
        let mut to_file = Vec::new();
        let outcome = (|| {
            for (i, task) in tasks.iter().enumerate() {
                let later = if recovering { &tasks[i + 1..] } else { &[] };
                self.carry_out(task, later, recovering, &mut touched, &mut to_file)?;
            }
            touched.sync(&self.disk)
        })();
        if let Err(e) = outcome {
            // Nothing is taken back: the same renames are looked at again, object by object.
            let mut state = self.placing.0.state.lock();
            for task in tasks.into_iter().rev() {
                state.queue.push_front(task);
            }
            state.under_way = 0;
            return Err(e);
        }
        let mut state = self.placing.0.state.lock();
        for task in &tasks {
            if let Some(places) = state.places.get_mut(&task.object) {
                places.drain(..2.min(places.len()));
                if places.is_empty() {
                    state.places.remove(&task.object);
                }
            }
        }
        state.under_way = 0;
        // What is left came while this batch was carried out: it has waited no longer than that.
        state.owed_since = (!state.queue.is_empty()).then_some(began);
        state.trouble = None;
        self.placing.0.placed.store(last, Ordering::SeqCst);
        drop(state);
        self.filing.add(to_file);
        self.placing.0.room.notify_waiters();
        Ok(true)
    }

    fn carry_out(
        &self,
        task: &Task,
        later: &[Task],
        recovering: bool,
        touched: &mut Touched,
        to_file: &mut Vec<File>,
    ) -> Result<()> {
        let say = |e: &std::io::Error| StoreError::io(format!("placing \"{}\"", task.to.name()), e);
        let Some(to) = self.dir(&task.to)? else {
            return self.nowhere(task, to_file);
        };
        let to_name = task.to.name();
        // 1. Look for the object at its target: after a crash it may be there already.
        let mut there = look(&*to, &to_name).map_err(|e| say(&e))?;
        let arrived = there.is_some_and(|l| l.id == task.object);
        if arrived || (recovering && self.went_on(task, later)?) {
            self.settle_expected(task, to_file);
            if let (true, Loc::Incoming(id)) = (arrived, &task.to) {
                to_file.push(File::Content(*id));
            }
            // The rename itself may not be synced yet.
            touched.add(&to);
            return Ok(());
        }
        // 2. Look for it at its source.
        let Some(from) = self.dir(&task.from)? else {
            return self.nowhere(task, to_file);
        };
        let from_name = task.from.name();
        let here = look(&*from, &from_name).map_err(|e| say(&e))?;
        if recovering && here.is_none_or(|h| h.id != task.object) {
            // 2a. Neither here nor there: it went on by a later mark, and may have been filed since.
            //     What stands at the source was brought there by a later mark: it stays.
            let went_on = later.iter().any(|t| t.object == task.object);
            let newer = here.is_some_and(|h| later.iter().any(|t| t.object == h.id));
            let filed = here.is_none() && matches!(task.to, Loc::Incoming(_));
            if went_on || newer || filed {
                self.settle_expected(task, to_file);
                if let Loc::Incoming(id) = &task.to {
                    to_file.push(File::Content(*id));
                }
                touched.add(&to);
                return Ok(());
            }
        }
        let Some(here) = here.filter(|h| (h.kind == Plain::Folder) == task.folder && h.kind != Plain::Other)
        else {
            return self.nowhere(task, to_file);
        };
        if here.id != task.object && matches!(task.from, Loc::Staging(_)) {
            return self.nowhere(task, to_file);
        }
        // 3. Move aside what stands in the way, unseen by nobody: it is compared afterwards.
        for _ in 0..100 {
            if let Some(occupant) = there {
                self.move_aside(task, &to, &to_name, occupant, to_file)?;
                touched.add(&self.disk.incoming);
            }
            // 4. Rename, never replacing. A crash before or after is found by 1 and 2.
            match self.disk.rename(&*from, &from_name, &*to, &to_name) {
                Ok(()) => break,
                Err(e) if e.kind() == std::io::ErrorKind::AlreadyExists => {
                    there = look(&*to, &to_name).map_err(|e| say(&e))?;
                }
                Err(e) => return Err(say(&e)),
            }
        }
        if task.expect.is_some() && there.is_none() {
            self.settle_expected(task, to_file);
        }
        if let Loc::Incoming(id) = &task.to {
            to_file.push(File::Content(*id));
        }
        touched.add(&from);
        touched.add(&to);
        Ok(())
    }

    /// The directory of a place; none if it is nowhere on the disk any more.
    fn dir(&self, loc: &Loc) -> Result<Option<Arc<OwnedFd>>> {
        match self.handle.block_on(self.dirs.of(loc)) {
            Ok(dir) => Ok(Some(dir)),
            Err(StoreError::BytesMissing(_)) => Ok(None),
            Err(e) => Err(e),
        }
    }

    /// Whether a later rename of the same object was carried out before the crash.
    fn went_on(&self, task: &Task, later: &[Task]) -> Result<bool> {
        for next in later.iter().filter(|t| t.object == task.object) {
            let Some(dir) = self.dir(&next.to)? else { continue };
            let found =
                look(&*dir, &next.to.name()).map_err(|e| StoreError::io("looking for an object", &e))?;
            if found.is_some_and(|l| l.id == task.object) {
                return Ok(true);
            }
        }
        Ok(false)
    }

    fn move_aside(
        &self,
        task: &Task,
        to: &OwnedFd,
        to_name: &str,
        occupant: Look,
        to_file: &mut Vec<File>,
    ) -> Result<()> {
        let expected = task.expect.filter(|(_, object)| *object == occupant.id);
        let (aside, file) = match expected {
            Some((content, _)) => (content_name(content), File::Content(content)),
            None => {
                let name = format!("x{:x}.{:x}", task.mark, task.node.0);
                let instead_of = task.expect.map(|(content, _)| content);
                (name.clone(), File::Stranger { name, node: task.node, instead_of })
            }
        };
        match self.disk.rename(to, to_name, &self.disk.incoming, &aside) {
            Ok(()) => {
                to_file.push(file);
                Ok(())
            }
            // Gone again meanwhile: nothing stands in the way.
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(()),
            Err(e) => Err(StoreError::io(format!("moving \"{to_name}\" aside"), &e)),
        }
    }

    /// The state that was to be replaced did not stand there: see whether it is in the past.
    fn settle_expected(&self, task: &Task, to_file: &mut Vec<File>) {
        if let Some((content, _)) = task.expect {
            to_file.push(File::Content(content));
        }
    }

    /// The object is nowhere. Reported; only what depends on it is missing.
    fn nowhere(&self, task: &Task, to_file: &mut Vec<File>) -> Result<()> {
        tracing::warn!(node = task.node.0, target = %task.to.name(), "an object is not on the disk where it belongs");
        self.settle_expected(task, to_file);
        to_file.push(File::Nowhere { node: task.node, name: task.to.name() });
        if let Loc::Incoming(id) = &task.to {
            to_file.push(File::Content(*id));
        }
        Ok(())
    }
}

/// Directories touched since the last sync.
#[derive(Default)]
struct Touched {
    seen: HashSet<i32>,
    dirs: Vec<Arc<OwnedFd>>,
}

impl Touched {
    fn add(&mut self, dir: &Arc<OwnedFd>) {
        if self.seen.insert(dir.as_raw_fd()) {
            self.dirs.push(dir.clone());
        }
    }

    fn sync(self, disk: &Disk) -> Result<()> {
        let say = |e: &std::io::Error| StoreError::io("syncing folders", e);
        if disk.is_journaled() && !self.dirs.is_empty() {
            return disk.commit_journal().map_err(|e| say(&e));
        }
        if self.dirs.len() > 64 {
            return disk.sync_all().map_err(|e| say(&e));
        }
        for dir in &self.dirs {
            disk.sync(&**dir).map_err(|e| say(&e))?;
        }
        Ok(())
    }
}

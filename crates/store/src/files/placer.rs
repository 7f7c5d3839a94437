//! Carrying out what the disk owes the catalogue, in the order of the marks.

use crate::files::dirs::Dirs;
use crate::files::filer::{File, Filing};
use crate::files::jobs::Step;
use crate::fs::disk::{Disk, ObjectId, Plain, look};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::shelf_parts;
use crate::fs::pending_rename::{DiskLocation, Task};
use crate::txn::operation::{Queued, asked};
use crate::txn::owed::Placing;
use crate::txn::read_cache::View;
use std::collections::HashSet;
use std::os::fd::{AsRawFd, OwnedFd};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};
use tokio::runtime::Handle;
use tokio::sync::mpsc;
use yellow_attic_core::{NodeId, ShelfId};

/// Renames between two syncs.
const BATCH: usize = 1024;
/// While fewer are owed, more are waited for a little: one sync then serves many.
const GATHER: Duration = Duration::from_millis(20);
/// What could not be carried out is tried again after this.
const AGAIN: Duration = Duration::from_millis(500);
/// Within this time what failed once was tried again.
pub(crate) const TRIED_AGAIN_WITHIN: Duration = Duration::from_millis(1500);
/// With nothing to do for so long, how far all is carried out is written to the catalogue: a later start must not
/// look at marks again whose places somebody has used for something else since.
const QUIET: Duration = Duration::from_millis(300);

/// Carries out renames. Runs on a thread of its own.
pub(crate) struct Placer {
    pub disk: Arc<Disk>,
    pub dirs: Dirs,
    pub view: View,
    pub placing: Placing,
    pub filing: Filing,
    pub handle: Handle,
    pub writer: mpsc::WeakSender<Queued>,
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
        // How far the catalogue knows that all is carried out, and what it knows to be stuck.
        let mut written = (self.placing.placed(), self.placing.waiting());
        let mut looked = Instant::now();
        loop {
            // Also while others write without a pause: each of them wakes this.
            if self.waits() && looked.elapsed() >= AGAIN {
                self.look_again();
                (again, looked) = (true, Instant::now());
            }
            let outcome = self.batch(again);
            again = outcome.is_err();
            match outcome {
                Ok(true) => self.gather(),
                Ok(false) => {
                    if self.placing.0.stop.load(Ordering::SeqCst) {
                        return;
                    }
                    let state = (self.placing.placed(), self.placing.waiting());
                    let waits = self.waits();
                    let patience = match (waits, state == written) {
                        (_, false) => Some(QUIET),
                        (true, true) => Some(AGAIN),
                        (false, true) => None,
                    };
                    if self.wait(patience) {
                        self.gather();
                        continue;
                    }
                    if state != written {
                        self.write_placed();
                        written = state;
                    }
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
                    std::thread::sleep(AGAIN);
                    self.look_again();
                }
            }
        }
    }

    /// Whether something is stuck, or a shelf takes no writes.
    fn waits(&self) -> bool {
        self.placing.0.waiting.load(Ordering::SeqCst) > 0 || self.placing.0.stopped.load(Ordering::SeqCst) > 0
    }

    /// Waits for work; at most so long. Whether there is some.
    fn wait(&self, patience: Option<Duration>) -> bool {
        let (work, there_is) = &self.placing.0.work;
        let mut work = work.lock();
        if !*work {
            match patience {
                None => there_is.wait(&mut work),
                Some(patience) => drop(there_is.wait_for(&mut work, patience)),
            }
        }
        std::mem::take(&mut *work)
    }

    /// Has the catalogue know how far all is carried out, without waiting for it.
    fn write_placed(&self) {
        if let Some(writer) = self.writer.upgrade() {
            let _ = writer.try_send(asked(Step::Nothing).0);
        }
    }

    /// What is stuck is tried once more, in its order, before anything newer; shelves whose folders are there again
    /// take writes.
    fn look_again(&self) {
        let mut state = self.placing.0.state.lock();
        let stuck = std::mem::take(&mut state.stuck);
        for (task, _) in stuck.into_iter().rev() {
            state.queue.push_front(task);
        }
        let stopped = std::mem::take(&mut state.stopped);
        let missing = stopped.into_iter().filter(|(id, _)| {
            self.view.shelf(*id).is_some_and(|shelf| {
                let path = shelf_parts(shelf.kind, &shelf.disk_name).join("/");
                !matches!(look(&self.disk.shelves, &path), Ok(Some(there)) if there.kind == Plain::Folder)
            })
        });
        state.stopped = missing.collect();
        self.placing.0.stopped.store(state.stopped.len(), Ordering::SeqCst);
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

    /// One batch: renames, then one sync of what they touched, then the marks count as placed. What cannot be
    /// carried out in its place waits, with all that rests on it; the rest goes on.
    fn batch(&self, recovering: bool) -> Result<bool> {
        let began = Instant::now();
        let tasks: Vec<Task> = {
            let mut state = self.placing.0.state.lock();
            // A replay must see every later mark of an object.
            let n = if recovering { state.queue.len() } else { state.queue.len().min(BATCH) };
            state.under_way = n;
            state.queue.drain(..n).collect()
        };
        if tasks.is_empty() {
            self.placing.0.state.lock().under_way = 0;
            return Ok(false);
        }
        let mut touched = Touched::default();
        let mut to_file = Vec::new();
        let mut waits = Waits::of(&self.placing.0.state.lock().stuck);
        let mut stuck = Vec::new();
        let outcome = (|| {
            for (i, task) in tasks.iter().enumerate() {
                let later = if recovering { &tasks[i + 1..] } else { &[] };
                if let Some(why) = waits.reason(task) {
                    // It rests on what waits, whatever it concerns.
                    waits.add(task, &why);
                    stuck.push((i, Vec::new(), why));
                    continue;
                }
                let mut found = [&task.from, &task.to].into_iter();
                let found = found.try_for_each(|place| self.find_as_it_was(place, &tasks[i + 1..]));
                let done =
                    found.and_then(|()| self.carry_out(task, later, recovering, &mut touched, &mut to_file));
                match done {
                    Ok(()) => {}
                    Err(e) if is_of_the_whole_disk(&e) => return Err(e),
                    Err(e) => {
                        let shelves = self.shelves_of(task);
                        if shelves.is_empty() {
                            return Err(e);
                        }
                        waits.add(task, &e);
                        stuck.push((i, shelves, e));
                    }
                }
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
        state.carried_out(&tasks, stuck.iter().map(|(i, ..)| *i), self.placing.placed());
        for (i, shelves, error) in stuck {
            for shelf in shelves {
                state.stopped.entry(shelf.id).or_insert_with(|| {
                    let error = match &error {
                        StoreError::ShelfMissing(_) => error.clone(),
                        other => {
                            StoreError::ShelfStopped { shelf: shelf.name.clone(), reason: other.to_string() }
                        }
                    };
                    tracing::error!(%error, "a shelf takes no writes until its folder is as it should be");
                    error
                });
            }
            state.stuck.push((tasks[i].clone(), error));
        }
        // Before they count as passed: whoever reads how far all is carried out then reads what is not.
        self.placing.0.waiting.store(state.waiting.len(), Ordering::SeqCst);
        self.placing.0.stopped.store(state.stopped.len(), Ordering::SeqCst);
        state.under_way = 0;
        // What is left came while this batch was carried out: it has waited no longer than that.
        state.owed_since = (!state.queue.is_empty()).then_some(began);
        state.trouble = None;
        let last = tasks.last().map_or(0, |t| t.mark);
        self.placing.0.placed.fetch_max(last, Ordering::SeqCst);
        drop(state);
        self.filing.add(to_file);
        self.placing.0.room.notify_waiters();
        Ok(true)
    }

    /// The shelves in whose folders a rename reads or writes.
    fn shelves_of(&self, task: &Task) -> Vec<Arc<crate::fs::model::Shelf>> {
        let ids = [&task.from, &task.to].into_iter().filter_map(|loc| match loc {
            DiskLocation::In(node, _) => self.handle.block_on(self.view.shelf_of_place(*node)).ok().flatten(),
            DiskLocation::Top(kind, name) => self
                .view
                .shelves()
                .into_iter()
                .find(|s| s.kind == *kind && s.disk_name == **name)
                .map(|s| s.id),
            _ => None,
        });
        let ids: HashSet<ShelfId> = ids.collect();
        ids.into_iter().filter_map(|id| self.view.shelf(id)).collect()
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
        let Some(to) = self.target(&task.to, to_file)? else {
            return self.without_a_place(task, touched, to_file);
        };
        let to_name = task.to.name();
        // 1. Look for the object at its target: after a crash it may be there already.
        let mut there = look(&*to, &to_name).map_err(|e| say(&e))?;
        let arrived = there.is_some_and(|l| task.means(l.id));
        if arrived || (recovering && self.went_on(task, later)?) {
            self.settle_expected(task, to_file);
            if let (true, DiskLocation::Incoming(id)) = (arrived, &task.to) {
                to_file.push(File::Content(*id, task.node));
            }
            if arrived {
                self.mark_program(task, &to, &to_name);
                self.note_arrival(task, &to, &to_name);
            }
            // The rename itself may not be synced yet.
            touched.add(&to);
            return Ok(());
        }
        // 1a. A new folder whose name somebody gave to a folder by hand: that one is it, with all in it.
        if let (DiskLocation::Staging(_), true, Some(found)) = (&task.from, task.folder, there)
            && found.kind == Plain::Folder
        {
            return self.adopt(task, &to, &to_name, found, touched, to_file);
        }
        // 2. Look for it at its source.
        let Some(from) = self.dir(&task.from)? else {
            return self.nowhere(task, to_file);
        };
        let from_name = task.from.name();
        let here = look(&*from, &from_name).map_err(|e| say(&e))?;
        if recovering && here.is_none_or(|h| !task.means(h.id)) {
            // 2a. Neither here nor there: it went on by a later mark, and may have been filed since.
            //     What stands at the source was brought there by a later mark: it stays.
            let went_on = later.iter().any(|t| t.object == task.object);
            let newer = here.is_some_and(|h| later.iter().any(|t| t.means(h.id)));
            let filed = here.is_none() && matches!(task.to, DiskLocation::Incoming(_));
            if went_on || newer || filed {
                self.settle_expected(task, to_file);
                if let DiskLocation::Incoming(id) = &task.to {
                    to_file.push(File::Content(*id, task.node));
                }
                touched.add(&to);
                return Ok(());
            }
            // 2b. Somebody put something else there since: it is not ours to move. In a data folder that was
            //     copied all objects are others, and what has the same bytes is what is meant.
            if here.is_some() && !self.is_a_copy(task, &from, &from_name)? {
                return self.nowhere(task, to_file);
            }
        }
        let Some(here) = here.filter(|h| (h.kind == Plain::Folder) == task.folder && h.kind != Plain::Other)
        else {
            return self.nowhere(task, to_file);
        };
        if !task.means(here.id)
            && matches!(task.from, DiskLocation::Staging(_) | DiskLocation::Removed(_))
            && !self.is_a_copy(task, &from, &from_name)?
        {
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
        if let DiskLocation::Incoming(id) = &task.to {
            to_file.push(File::Content(*id, task.node));
        }
        self.note_arrival(task, &to, &to_name);
        self.mark_program(task, &to, &to_name);
        touched.add(&from);
        touched.add(&to);
        Ok(())
    }

    /// The directory of a place; none if it is nowhere on the disk any more.
    pub(crate) fn dir(&self, loc: &DiskLocation) -> Result<Option<Arc<OwnedFd>>> {
        match self.handle.block_on(self.dirs.of(loc)) {
            Ok(dir) => Ok(Some(dir)),
            Err(StoreError::BytesMissing(_)) => Ok(None),
            Err(e) => Err(e),
        }
    }
}

/// An error that is not of one place: nothing can be carried out.
fn is_of_the_whole_disk(error: &StoreError) -> bool {
    matches!(error, StoreError::DiskFull { .. } | StoreError::ReadOnlyDisk | StoreError::Stopping)
}

/// What waits, and so what else must: order is kept among renames of one object, of one name, in a folder that itself
/// waits for its place, and of a folder in which something waits.
#[derive(Default)]
struct Waits {
    objects: HashSet<ObjectId>,
    nodes: HashSet<NodeId>,
    /// Folders out of which or into which something waits to go: they stay where they are.
    within: HashSet<NodeId>,
    places: Vec<DiskLocation>,
    why: Option<StoreError>,
}

impl Waits {
    fn of(stuck: &[(Task, StoreError)]) -> Waits {
        let mut waits = Waits::default();
        stuck.iter().for_each(|(task, why)| waits.add(task, why));
        waits
    }

    fn add(&mut self, task: &Task, why: &StoreError) {
        self.objects.insert(task.object);
        if task.folder {
            self.nodes.insert(task.node);
        }
        for place in [&task.from, &task.to] {
            if let DiskLocation::In(node, _) = place {
                self.within.insert(*node);
            }
            self.places.push(place.clone());
        }
        self.why.get_or_insert_with(|| why.clone());
    }

    fn reason(&self, task: &Task) -> Option<StoreError> {
        let why = self.why.as_ref()?;
        let within =
            |loc: &DiskLocation| matches!(loc, DiskLocation::In(node, _) if self.nodes.contains(node));
        let rests = self.objects.contains(&task.object)
            || (task.folder && self.within.contains(&task.node))
            || [&task.from, &task.to].into_iter().any(|loc| within(loc) || self.places.contains(loc));
        rests.then(|| why.clone())
    }
}

/// Directories touched since the last sync.
#[derive(Default)]
pub(crate) struct Touched {
    seen: HashSet<i32>,
    dirs: Vec<Arc<OwnedFd>>,
}

impl Touched {
    pub(crate) fn add(&mut self, dir: &Arc<OwnedFd>) {
        if self.seen.insert(dir.as_raw_fd()) {
            self.dirs.push(dir.clone());
        }
    }

    /// Where one journal orders all, the commit that says they are carried out makes the renames durable.
    fn sync(self, disk: &Disk) -> Result<()> {
        let say = |e: &std::io::Error| StoreError::io("syncing folders", e);
        if disk.is_journaled() {
            return Ok(());
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

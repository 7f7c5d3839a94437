//! What the disk owes the catalogue: the queue that the writer fills and the placer empties.

use crate::fs::disk::ObjectId;
use crate::fs::error::{Result, StoreError};
use crate::fs::pending_rename::{DiskLocation, Task};
use parking_lot::{Condvar, Mutex};
use std::collections::{BTreeMap, HashMap, VecDeque};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use tokio::sync::Notify;
use yellow_attic_core::ShelfId;

/// What is owed: shared by the writer, the readers and the placer.
#[derive(Clone)]
pub(crate) struct Placing(pub(crate) Arc<Inner>);

/// Which renames are carried out, and need no mark any more: all up to one, but for those that wait.
pub(crate) struct CarriedOut {
    pub placed: i64,
    pub waiting: Vec<i64>,
}

/// No mark is dropped.
pub(crate) const NOTHING: i64 = -1;

/// The queue, as its worker has it.
pub(crate) struct Inner {
    /// Protects the queue and the places of objects on their way, which must agree.
    pub state: Mutex<State>,
    pub placed: AtomicI64,
    /// How many marks up to `placed` wait all the same: the size of [`State::waiting`].
    pub waiting: AtomicUsize,
    /// How many shelves take no writes.
    pub stopped: AtomicUsize,
    /// Something to do, for the placer's thread.
    pub work: (Mutex<bool>, Condvar),
    pub room: Notify,
    pub stop: AtomicBool,
    /// How many wait for the disk to be in step.
    pub settling: AtomicI64,
    /// Beyond so many renames, or one so old, writers wait.
    pub most: (usize, Duration),
}

/// What is owed, and what of it cannot be done just now.
#[derive(Default)]
pub(crate) struct State {
    pub queue: VecDeque<Task>,
    pub under_way: usize,
    pub places: HashMap<ObjectId, Vec<DiskLocation>>,
    /// The names out of which or into which something is to be brought, each with how often.
    names: HashMap<DiskLocation, usize>,
    pub highest: i64,
    /// Since when something has been owed without a pause, batch by batch.
    pub owed_since: Option<Instant>,
    pub trouble: Option<StoreError>,
    /// Renames that cannot be carried out now, in their order, with the reason; all else goes on.
    pub stuck: Vec<(Task, StoreError)>,
    /// Marks up to `placed` that are not carried out all the same, with how many renames: those that are stuck, and
    /// those that are just tried again. The catalogue keeps them.
    pub waiting: BTreeMap<i64, usize>,
    /// Shelves whose folders are not as they should be: they take no writes, and the others do.
    pub stopped: HashMap<ShelfId, StoreError>,
}

impl State {
    /// Of these renames all are carried out but those that are held, by their places in the list. Marks up to `placed` were
    /// passed before: they waited.
    pub fn carried_out(&mut self, tasks: &[Task], held: impl Iterator<Item = usize>, placed: i64) {
        let mut held = held.peekable();
        for (i, task) in tasks.iter().enumerate() {
            if held.next_if_eq(&i).is_some() {
                if task.mark > placed {
                    *self.waiting.entry(task.mark).or_default() += 1;
                }
                continue;
            }
            if task.mark <= placed {
                self.no_more_waiting(task.mark);
            }
            for place in [&task.from, &task.to] {
                if let Some(owed) = self.names.get_mut(place) {
                    *owed -= 1;
                    if *owed == 0 {
                        self.names.remove(place);
                    }
                }
            }
            if let Some(places) = self.places.get_mut(&task.object) {
                places.drain(..2.min(places.len()));
                if places.is_empty() {
                    self.places.remove(&task.object);
                }
            }
        }
    }

    /// A rename of a mark that waited is carried out.
    fn no_more_waiting(&mut self, mark: i64) {
        if let Some(left) = self.waiting.get_mut(&mark) {
            *left -= 1;
            if *left == 0 {
                self.waiting.remove(&mark);
            }
        }
    }
}

impl Placing {
    pub fn new(placed: i64, most: (usize, Duration)) -> Placing {
        Placing(Arc::new(Inner {
            state: Mutex::new(State { highest: placed, ..State::default() }),
            placed: AtomicI64::new(placed),
            waiting: AtomicUsize::new(0),
            stopped: AtomicUsize::new(0),
            work: Default::default(),
            room: Notify::new(),
            stop: AtomicBool::new(false),
            settling: AtomicI64::new(0),
            most,
        }))
    }

    /// Every mark up to this one is carried out, but for those that are stuck; and synced, unless one journal orders all.
    pub fn placed(&self) -> i64 {
        self.0.placed.load(Ordering::SeqCst)
    }

    /// Whether a mark is carried out.
    pub fn is_placed(&self, mark: i64) -> bool {
        mark <= self.placed()
            && (self.0.waiting.load(Ordering::SeqCst) == 0
                || !self.0.state.lock().waiting.contains_key(&mark))
    }

    /// The marks that wait although later ones are carried out. Asked after [`Placing::placed`], never before it.
    pub fn waiting(&self) -> Vec<i64> {
        match self.0.waiting.load(Ordering::SeqCst) {
            0 => Vec::new(),
            _ => self.0.state.lock().waiting.keys().copied().collect(),
        }
    }

    /// Owes these renames, in order. `highest`: the last mark given out.
    pub fn add(&self, tasks: Vec<Task>, highest: i64) {
        let mut state = self.0.state.lock();
        for task in &tasks {
            let places = state.places.entry(task.object).or_default();
            places.push(task.from.clone());
            places.push(task.to.clone());
            for place in [&task.from, &task.to] {
                if matches!(place, DiskLocation::In(..)) {
                    *state.names.entry(place.clone()).or_default() += 1;
                }
            }
        }
        // Read from the catalogue at the start, which knows later ones to be carried out.
        let placed = self.placed();
        for task in tasks.iter().filter(|task| task.mark <= placed) {
            *state.waiting.entry(task.mark).or_default() += 1;
        }
        self.0.waiting.store(state.waiting.len(), Ordering::SeqCst);
        if !tasks.is_empty() {
            state.owed_since.get_or_insert_with(Instant::now);
        }
        state.queue.extend(tasks);
        state.highest = state.highest.max(highest);
        drop(state);
        self.wake();
    }

    pub fn wake(&self) {
        *self.0.work.0.lock() = true;
        self.0.work.1.notify_one();
    }

    /// Adds those of the catalogue's marks that are not known here yet.
    pub fn add_missing(&self, tasks: Vec<Task>, highest: i64) {
        let known = self.0.state.lock().highest;
        self.add(tasks.into_iter().filter(|t| t.mark > known).collect(), highest);
    }

    /// Where an object on its way can be.
    pub fn places_of(&self, object: ObjectId) -> Vec<DiskLocation> {
        self.0.state.lock().places.get(&object).cloned().unwrap_or_default()
    }

    /// Whether something is to be brought to a name, or away from it, or something of it is that object.
    pub fn is_owed(&self, place: &DiskLocation, object: ObjectId) -> bool {
        let state = self.0.state.lock();
        state.names.contains_key(place) || state.places.contains_key(&object)
    }

    /// Whether nothing is owed but what is stuck.
    pub fn is_idle(&self) -> bool {
        let state = self.0.state.lock();
        state.queue.is_empty() && state.under_way == 0
    }

    /// How many renames are owed.
    pub fn owed(&self) -> usize {
        let state = self.0.state.lock();
        state.queue.len() + state.under_way + state.stuck.len()
    }

    /// Why the disk does not follow, if it does not: writing is refused until it does.
    pub fn trouble(&self) -> Option<StoreError> {
        self.0.state.lock().trouble.clone()
    }

    /// Why shelves take no writes, for those that take none.
    pub fn stopped_shelves(&self) -> HashMap<ShelfId, StoreError> {
        match self.0.stopped.load(Ordering::SeqCst) {
            0 => HashMap::new(),
            _ => self.0.state.lock().stopped.clone(),
        }
    }

    /// A shelf takes no writes until its folder is as it should be.
    pub fn stop_shelf(&self, shelf: ShelfId, why: StoreError) {
        let mut state = self.0.state.lock();
        state.stopped.insert(shelf, why);
        self.0.stopped.store(state.stopped.len(), Ordering::SeqCst);
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
        self.wake();
    }
}

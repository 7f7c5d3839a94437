//! How guessing is slowed here: tries are counted before they are looked at, hashing takes turns, and the same wrong
//! password again costs nothing.

use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use std::collections::{HashMap, VecDeque};
use std::net::IpAddr;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::sync::{Notify, oneshot};
use yellow_attic_core::guessing::{By, Limiter, Next, Slowed};
use yellow_attic_store::Engine;

/// How long a try waits for others that are being looked at.
const PATIENCE: Duration = Duration::from_secs(30);
/// Tries that wait at a time: for others, and for their turn at hashing.
const MOST_WAITING: usize = 4_096;
/// Of them from one place.
const MOST_IN_LANE: usize = 1_024;
/// Passwords are hashed so many at a time: each takes a core for tens of milliseconds.
const ABREAST: usize = 2;
/// Wrong pairs of name and password that are remembered.
const MOST_WRONG: usize = 20_000;

fn lock<T>(of: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    of.lock().unwrap_or_else(PoisonError::into_inner)
}

/// All tries at passwords and codes.
#[derive(Default)]
pub struct Guessing {
    limiter: Mutex<Limiter>,
    /// A try has ended.
    ended: Notify,
    waiting: AtomicUsize,
    turns: Arc<Turns>,
    wrong: Mutex<HashMap<[u8; 32], String>>,
}

/// A try that is being looked at. Dropped, it counts as wrong: whoever goes away has had the look all the same.
pub struct Try<'g> {
    of: &'g Guessing,
    engine: Engine,
    by: Vec<By>,
    open: bool,
}

impl Try<'_> {
    /// It was right.
    pub fn succeeded(mut self) {
        self.open = false;
        lock(&self.of.limiter).succeeded(&self.by);
        self.of.ended.notify_waiters();
    }

    /// It was not looked at after all.
    pub fn given_back(mut self) {
        self.open = false;
        lock(&self.of.limiter).given_back(&self.by);
        self.of.ended.notify_waiters();
    }
}

impl Drop for Try<'_> {
    fn drop(&mut self) {
        if self.open {
            lock(&self.of.limiter).failed(&self.by, self.engine.now_ms());
            self.of.ended.notify_waiters();
        }
    }
}

fn too_many(wait_ms: i64) -> Refusal {
    let seconds = (wait_ms + 999) / 1000;
    refusals::TOO_MANY_ATTEMPTS
        .of(&format!("Several attempts failed. The next one is looked at in {seconds} s."))
        .retry_after(seconds)
}

/// More passwords wait than are looked at.
pub fn too_busy() -> Refusal {
    refusals::SIGN_INS_WAITING
        .of("So many passwords wait to be looked at that this one was not.")
        .retry_after(5)
}

impl Guessing {
    /// Begins a try, counted by all of these: at once, or when others that are under way have given their places back.
    pub async fn begin<'g>(&'g self, engine: &Engine, by: Vec<By>) -> Result<Try<'g>, Refusal> {
        let until = tokio::time::Instant::now() + PATIENCE;
        let mut counted = None;
        loop {
            let ended = self.ended.notified();
            tokio::pin!(ended);
            // Listening before looking: none that ends meanwhile is missed.
            ended.as_mut().enable();
            match lock(&self.limiter).begin(&by, engine.now_ms()) {
                Next::Now => return Ok(Try { of: self, engine: engine.clone(), by, open: true }),
                Next::Wait(ms) => return Err(too_many(ms)),
                Next::Later => {}
            }
            if counted.is_none() {
                counted = Some(Waiting::one(&self.waiting).ok_or_else(too_busy)?);
            }
            if tokio::time::timeout_at(until, ended).await.is_err() {
                return Err(too_busy());
            }
        }
    }

    /// A turn at hashing. Places take turns: however many wait in one, another's waits for one of them.
    pub async fn turn(&self, lane: Lane) -> Result<Turn, Refusal> {
        self.turns.clone().take(lane).await.ok_or_else(too_busy)
    }

    /// Whether this pair is known to be wrong, for an account whose password is still the same.
    pub fn is_wrong(&self, pair: &[u8; 32], hash: &str) -> bool {
        lock(&self.wrong).get(pair).is_some_and(|h| h == hash)
    }

    /// A pair was wrong.
    pub fn note_wrong(&self, pair: [u8; 32], hash: &str) {
        let mut wrong = lock(&self.wrong);
        if wrong.len() >= MOST_WRONG {
            wrong.clear();
        }
        wrong.insert(pair, hash.to_string());
    }

    /// Who has to wait now.
    pub fn slowed(&self, now: i64) -> Vec<Slowed> {
        lock(&self.limiter).slowed(now)
    }

    /// Lets those go on at once that match. Returns how many had to wait.
    pub fn release(&self, matches: impl Fn(&By) -> bool) -> usize {
        let released = lock(&self.limiter).release(matches);
        self.ended.notify_waiters();
        released
    }
}

struct Waiting<'w>(&'w AtomicUsize);

impl<'w> Waiting<'w> {
    fn one(all: &'w AtomicUsize) -> Option<Waiting<'w>> {
        let before = all.fetch_add(1, Ordering::SeqCst);
        let waiting = Waiting(all);
        (before < MOST_WAITING).then_some(waiting)
    }
}

impl Drop for Waiting<'_> {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::SeqCst);
    }
}

/// Those who wait for each other at hashing.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Lane {
    /// All that comes from one address.
    Address(IpAddr),
    /// A browser that was signed in before.
    Browser([u8; 16]),
    /// Behind a machine that is not trusted to say who: by the name that is given.
    Name([u8; 16]),
    /// What somebody who is signed in does.
    Inside,
}

/// Turns at hashing.
#[derive(Default)]
struct Turns(Mutex<Queue>);

#[derive(Default)]
struct Queue {
    running: usize,
    waiting: usize,
    lanes: HashMap<Lane, VecDeque<oneshot::Sender<Turn>>>,
    order: VecDeque<Lane>,
}

/// A turn. Dropped, it is the next one's.
pub struct Turn(Arc<Turns>);

impl Turns {
    async fn take(self: Arc<Self>, lane: Lane) -> Option<Turn> {
        let turn = {
            let mut queue = lock(&self.0);
            if queue.running < ABREAST {
                queue.running += 1;
                return Some(Turn(self.clone()));
            }
            let length = queue.lanes.get(&lane).map_or(0, VecDeque::len);
            if queue.waiting >= MOST_WAITING || length >= MOST_IN_LANE {
                return None;
            }
            let (sender, turn) = oneshot::channel();
            if length == 0 {
                queue.order.push_back(lane.clone());
            }
            queue.lanes.entry(lane).or_default().push_back(sender);
            queue.waiting += 1;
            turn
        };
        turn.await.ok()
    }
}

impl Queue {
    /// Whose turn it is now.
    fn next(&mut self) -> Option<oneshot::Sender<Turn>> {
        let lane = self.order.pop_front()?;
        let waiting = self.lanes.get_mut(&lane)?;
        let next = waiting.pop_front();
        if waiting.is_empty() {
            self.lanes.remove(&lane);
        } else {
            self.order.push_back(lane);
        }
        self.waiting -= usize::from(next.is_some());
        next
    }
}

impl Drop for Turn {
    fn drop(&mut self) {
        let mut queue = lock(&self.0.0);
        // Whoever has gone away meanwhile has no turn.
        while let Some(next) = queue.next() {
            if !next.is_closed() {
                drop(queue);
                // If it closes this very moment, what comes back is dropped, and so passed on.
                let _ = next.send(Turn(self.0.clone()));
                return;
            }
        }
        queue.running -= 1;
    }
}

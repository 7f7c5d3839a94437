//! Time as a parameter, and which of it is believed.
//!
//! A wall clock can be wrong: set by hand, by a dead battery, by a machine that woke up in another year. Whatever
//! goes by time goes wrong with it, and what a purge took does not come back. So the engine believes a wall clock
//! only within limits ([`judge_clock`]), and stamps what it keeps by [`Timekeeper::stamp`], which never goes back.

use parking_lot::Mutex;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use yellow_attic_core::trust::{ClockDoubt, LEAP_MS, judge_clock};

/// Tells the time.
pub trait Clock: Send + Sync + 'static {
    /// Milliseconds since 1970 UTC, as the wall clock has it.
    fn now_ms(&self) -> i64;

    /// Milliseconds since some moment; never set, never goes back.
    fn steady_ms(&self) -> i64;

    /// Whether the kernel says that the wall clock is kept in step with others.
    fn is_synchronised(&self) -> bool;

    /// Whether it is believed whatever it shows: where history is made, not lived through.
    fn is_beyond_doubt(&self) -> bool {
        false
    }
}

/// The machine's clock.
pub struct SystemClock;

impl Clock for SystemClock {
    fn now_ms(&self) -> i64 {
        std::time::SystemTime::now()
            .duration_since(std::time::UNIX_EPOCH)
            .map_or(0, |d| i64::try_from(d.as_millis()).unwrap_or(i64::MAX))
    }

    fn steady_ms(&self) -> i64 {
        // It goes on while the machine sleeps: a suspended laptop's clock has not leapt.
        let now = rustix::time::clock_gettime(rustix::time::ClockId::Boottime);
        now.tv_sec * 1000 + now.tv_nsec / 1_000_000
    }

    fn is_synchronised(&self) -> bool {
        crate::fs::syscalls::clock_is_synchronised()
    }
}

/// A clock that shows what it was set to: for tests, and for making history.
pub struct SetClock {
    wall: AtomicI64,
    steady: AtomicI64,
    synchronised: AtomicBool,
}

impl SetClock {
    /// A clock that shows `ms`, and is said to be in step.
    pub fn at(ms: i64) -> SetClock {
        SetClock { wall: AtomicI64::new(ms), steady: AtomicI64::new(ms), synchronised: AtomicBool::new(true) }
    }

    /// Sets it; as much time has passed as it goes forwards.
    pub fn set(&self, ms: i64) {
        let before = self.wall.swap(ms, Ordering::SeqCst);
        self.steady.fetch_add((ms - before).max(0), Ordering::SeqCst);
    }

    /// Moves it on.
    pub fn advance(&self, ms: i64) {
        self.set(self.wall.load(Ordering::SeqCst) + ms);
    }

    /// Sets the wall clock alone, as somebody does by mistake: no time has passed.
    pub fn leap(&self, ms: i64) {
        self.wall.fetch_add(ms, Ordering::SeqCst);
    }

    /// Whether it is said to be in step.
    pub fn set_synchronised(&self, is: bool) {
        self.synchronised.store(is, Ordering::SeqCst);
    }
}

impl Clock for SetClock {
    fn now_ms(&self) -> i64 {
        self.wall.load(Ordering::SeqCst)
    }

    fn steady_ms(&self) -> i64 {
        self.steady.load(Ordering::SeqCst)
    }

    fn is_synchronised(&self) -> bool {
        self.synchronised.load(Ordering::SeqCst)
    }
}

/// Stamps of a clock that is behind go so many times slower than it.
const CREEP: i64 = 8;

/// A clock that is set to and fro while history is made up, and believed each time.
pub struct StoryClock(pub SetClock);

impl std::ops::Deref for StoryClock {
    type Target = SetClock;

    fn deref(&self) -> &SetClock {
        &self.0
    }
}

impl Clock for StoryClock {
    fn now_ms(&self) -> i64 {
        self.0.now_ms()
    }

    fn steady_ms(&self) -> i64 {
        self.0.steady_ms()
    }

    fn is_synchronised(&self) -> bool {
        true
    }

    fn is_beyond_doubt(&self) -> bool {
        true
    }
}

/// Which time it is for what is kept.
pub(crate) struct Timekeeper {
    clock: Arc<dyn Clock>,
    /// Protects the newest stamp and whether the clock is believed, which must agree.
    state: Mutex<Kept>,
}

struct Kept {
    /// The newest time that anything is stamped with.
    newest: i64,
    /// A stamp, and the steady clock when it was given: stamps advance from there while the wall clock is not believed.
    base: (i64, i64),
    /// Wall and steady clock when they were last compared.
    compared: (i64, i64),
    doubt: Option<ClockDoubt>,
}

impl Timekeeper {
    /// `newest`: the newest time that the catalogue knows, 0 in an empty one.
    pub fn new(clock: Arc<dyn Clock>, newest: i64) -> Timekeeper {
        let (wall, steady) = (clock.now_ms(), clock.steady_ms());
        let doubt = match newest {
            0 => None,
            _ if clock.is_beyond_doubt() => None,
            _ => judge_clock(wall - newest, clock.is_synchronised()),
        };
        if let Some(doubt) = doubt {
            say(doubt);
        }
        let base = (newest, steady);
        Timekeeper { clock, state: Mutex::new(Kept { newest, base, compared: (wall, steady), doubt }) }
    }

    /// The wall clock, whether or not it is believed.
    pub fn wall(&self) -> i64 {
        self.clock.now_ms()
    }

    /// The time with which something is stamped, and by which the past goes: the wall clock while it is believed,
    /// else the newest time kept and what has passed since. Never goes back.
    pub fn stamp(&self) -> i64 {
        let (wall, steady) = (self.clock.now_ms(), self.clock.steady_ms());
        if self.clock.is_beyond_doubt() {
            return wall;
        }
        let mut kept = self.state.lock();
        kept.compare(wall, steady);
        let passed = (steady - kept.base.1).max(0);
        let stamp = match kept.doubt {
            Some(_) => kept.base.0 + passed,
            None if wall >= kept.newest => wall,
            // Behind what is kept: stamps go on slowly, until the clock has caught up with them.
            None => kept.newest + passed / CREEP,
        };
        kept.newest = kept.newest.max(stamp);
        if kept.doubt.is_none() {
            let rest = if wall >= kept.newest { 0 } else { passed % CREEP };
            kept.base = (kept.newest, steady - rest);
        }
        kept.newest
    }

    /// The time for ends of links, grants and sign-ins: the later of the wall clock and the newest time kept. A clock
    /// that was set back opens nothing again.
    pub fn latest(&self) -> i64 {
        self.stamp().max(self.clock.now_ms())
    }

    /// Why the wall clock is not believed, if it is not.
    pub fn doubt(&self) -> Option<ClockDoubt> {
        self.stamp();
        let mut kept = self.state.lock();
        // It was put in step meanwhile.
        if kept.doubt.is_some() {
            kept.doubt = judge_clock(self.clock.now_ms() - kept.newest, self.clock.is_synchronised());
        }
        kept.doubt
    }

    /// An administrator says that the wall clock is right.
    pub fn believe(&self) {
        let (wall, steady) = (self.clock.now_ms(), self.clock.steady_ms());
        let mut kept = self.state.lock();
        kept.compared = (wall, steady);
        kept.doubt = None;
        kept.base = (kept.newest, steady);
    }
}

impl Kept {
    /// Doubts a wall clock that leapt against the steady one since both were compared.
    fn compare(&mut self, wall: i64, steady: i64) {
        let leapt = (wall - self.compared.0) - (steady - self.compared.1);
        if self.doubt.is_none() && leapt.abs() > LEAP_MS {
            let doubt = ClockDoubt { ahead_ms: leapt };
            say(doubt);
            self.doubt = Some(doubt);
            self.base = (self.newest.max(self.compared.0), self.compared.1);
        }
        if self.doubt.is_none() {
            self.compared = (wall, steady);
        }
    }
}

fn say(doubt: ClockDoubt) {
    tracing::error!(
        ahead_ms = doubt.ahead_ms,
        "the wall clock is not believed: nothing of the past goes and no snapshot is taken until it is in step, or an administrator confirms it on the desk"
    );
}

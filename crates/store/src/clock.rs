//! Time as a parameter.

use std::sync::atomic::{AtomicI64, Ordering};

/// Tells the time.
pub trait Clock: Send + Sync + 'static {
    /// Milliseconds since 1970 UTC.
    fn now_ms(&self) -> i64;
}

/// The machine's clock.
pub struct SystemClock;

impl Clock for SystemClock {
    fn now_ms(&self) -> i64 {
        std::time::SystemTime::now()
            .duration_since(std::time::UNIX_EPOCH)
            .map_or(0, |d| i64::try_from(d.as_millis()).unwrap_or(i64::MAX))
    }
}

/// A clock that shows what it was set to: for tests, and for making history.
#[derive(Default)]
pub struct SetClock(AtomicI64);

impl SetClock {
    /// A clock that shows `ms`.
    pub fn at(ms: i64) -> SetClock {
        SetClock(AtomicI64::new(ms))
    }

    /// Sets it.
    pub fn set(&self, ms: i64) {
        self.0.store(ms, Ordering::SeqCst);
    }

    /// Moves it on.
    pub fn advance(&self, ms: i64) {
        self.0.fetch_add(ms, Ordering::SeqCst);
    }
}

impl Clock for SetClock {
    fn now_ms(&self) -> i64 {
        self.0.load(Ordering::SeqCst)
    }
}

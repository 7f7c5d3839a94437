//! Errors at the engine's I/O steps.

use std::io;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use yellow_attic_store::fs::fault_points::Steps;

/// Lets so many steps pass; then everything fails, as if the process had ended.
pub struct StopAfter(pub AtomicI64);

impl Steps for StopAfter {
    fn before(&self, _: &'static str) -> io::Result<()> {
        match self.0.fetch_sub(1, Ordering::SeqCst) > 0 {
            true => Ok(()),
            false => Err(io::Error::other("stopped here")),
        }
    }
}

/// Lets so many steps pass; then one fails, and all is well again.
pub struct FailOnce(pub AtomicI64);

impl FailOnce {
    /// Whether the error has come.
    pub fn has_come(&self) -> bool {
        self.0.load(Ordering::SeqCst) < 0
    }
}

impl Steps for FailOnce {
    fn before(&self, name: &'static str) -> io::Result<()> {
        match self.0.fetch_sub(1, Ordering::SeqCst) {
            0 => {
                eprintln!("\"{name}\" fails once");
                Err(io::Error::other("once only"))
            }
            _ => Ok(()),
        }
    }
}

/// Steps of one name fail while it is switched on.
pub struct Failing {
    name: &'static str,
    on: AtomicBool,
}

impl Failing {
    /// Off at first.
    pub fn at(name: &'static str) -> Failing {
        Failing { name, on: false.into() }
    }

    /// Switches it.
    pub fn switch(&self, on: bool) {
        self.on.store(on, Ordering::SeqCst);
    }
}

impl Steps for Failing {
    fn before(&self, name: &'static str) -> io::Result<()> {
        match name == self.name && self.on.load(Ordering::SeqCst) {
            true => Err(io::Error::other("switched on")),
            false => Ok(()),
        }
    }
}

/// Steps of one name fail with an error; those that come after [`Held::hold`] are held until they are let go, and
/// fail then.
pub struct Held {
    name: &'static str,
    error: i32,
    hold: AtomicBool,
    held: AtomicBool,
}

impl Held {
    /// `error`: the number of the error that they fail with.
    pub fn at(name: &'static str, error: i32) -> Held {
        Held { name, error, hold: false.into(), held: false.into() }
    }

    /// Holds the next ones, or lets them go.
    pub fn hold(&self, hold: bool) {
        self.hold.store(hold, Ordering::SeqCst);
    }

    /// Whether one is held.
    pub fn holds(&self) -> bool {
        self.held.load(Ordering::SeqCst)
    }
}

impl Steps for Held {
    fn before(&self, name: &'static str) -> io::Result<()> {
        if name != self.name {
            return Ok(());
        }
        while self.hold.load(Ordering::SeqCst) {
            self.held.store(true, Ordering::SeqCst);
            std::thread::sleep(std::time::Duration::from_millis(2));
        }
        self.held.store(false, Ordering::SeqCst);
        Err(io::Error::from_raw_os_error(self.error))
    }
}

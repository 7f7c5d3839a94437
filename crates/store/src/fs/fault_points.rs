//! The I/O steps of the engine, so that a test can stop between any two of them.

use std::io;

/// Is asked before each step that touches the disk or the catalogue. An error stops the
/// engine there, as if the process had ended.
pub trait Steps: Send + Sync + 'static {
    /// `name` tells the step; the answer decides whether it is done.
    fn before(&self, name: &'static str) -> io::Result<()>;
}

/// Never stops.
pub struct AllSteps;

impl Steps for AllSteps {
    fn before(&self, _: &'static str) -> io::Result<()> {
        Ok(())
    }
}

//! What befalls a store, for tests: the power goes, an error comes, the line breaks, hands change the disk.
//!
//! - [`disk`]: file systems in images, on a disk with a cache of its own if need be, and how they lose their power.
//! - [`faults`]: an engine that stops at a step, and errors that come once and go away.
//! - [`sync_errors`]: a sync of the catalogue's log that fails once, in a real process.
//! - [`line`]: a line that is cut, and refuses to come back for a while.
//! - [`hands`]: somebody with a file manager.

#![allow(clippy::disallowed_methods)]

pub mod disk;
pub mod faults;
pub mod hands;
pub mod line;
pub mod sync_errors;

/// Numbers that look random and are the same each time.
pub fn numbers(mut seed: u64) -> impl FnMut(u64) -> u64 + Clone {
    move |below| {
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (seed >> 33) % below
    }
}

/// Runs a program that must succeed.
pub(crate) fn run(program: &str, arguments: &[&str]) {
    let done = std::process::Command::new(program)
        .args(arguments)
        .output()
        .unwrap_or_else(|e| panic!("{program}: {e}"));
    assert!(done.status.success(), "{program} {arguments:?}: {}", String::from_utf8_lossy(&done.stderr));
}

//! The file system as the engine uses it: handles, system calls, bytes arriving, renames that are owed, the clock, and the types
//! and errors that all else speaks of.

pub mod clock;
pub(crate) mod commits;
pub mod disk;
pub mod error;
pub mod fault_points;
pub(crate) mod hold;
pub mod model;
pub(crate) mod pending_rename;
pub mod probe;
pub mod process;
pub mod progress;
pub mod record_key;
pub(crate) mod staging;
pub(crate) mod syscalls;
pub mod tree_access;

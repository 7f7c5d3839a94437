//! The file system as the engine uses it: handles, system calls, bytes arriving, renames that are owed, the clock, and the types
//! and errors that all else speaks of.

pub mod clock;
pub mod disk;
pub mod error;
pub(crate) mod kernel;
pub mod model;
pub mod probe;
pub mod process;
pub mod record_key;
pub(crate) mod staging;
pub mod steps;
pub(crate) mod task;
pub mod tree_access;

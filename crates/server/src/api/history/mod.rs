//! The past: what is kept, snapshots, rollbacks, alarms.

pub mod retention;
pub mod rollbacks;
pub mod snapshots;

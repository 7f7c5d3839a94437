//! What the timeline is asked for: lists, history, changes, bytes, and what goes from it.

pub mod alarms;
pub mod bringing;
pub mod bytes;
pub mod changes;
pub mod keeping;
pub mod letting;
pub mod places;
pub mod reading;
pub mod rollback;
pub mod searching;
pub mod snapshots;
pub mod space;
pub mod then;
pub mod trash;
pub mod tree;
pub mod uploads;

//! What the timeline is asked for: lists, history, changes, bytes, and what goes from it.

pub mod alarms;
pub mod changes;
pub mod content_read;
pub mod history;
pub mod locks;
pub mod paths;
pub mod properties;
pub mod purge;
pub mod reading;
pub mod restore;
pub mod retention;
pub mod retention_judge;
pub mod rollback;
pub mod rollback_plan;
pub mod rollback_run;
pub mod search;
pub mod shelves;
pub mod snapshots;
pub mod space;
pub mod trash;
pub mod tree;
pub mod upload_ends;
pub mod upload_parts;
pub mod uploads;

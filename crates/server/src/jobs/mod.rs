//! What the service does by itself.

pub mod backups;
pub mod chores;
pub mod deliveries;
pub mod mail_queue;
pub mod retention;
pub mod rollbacks;
pub mod thumbnails;
pub mod work;

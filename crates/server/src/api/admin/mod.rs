//! What administrators see and set.

pub mod jobs;
pub mod mailing;
pub mod metrics;
pub mod rules;
pub mod slowed;
pub mod space;
pub mod store_state;

//! What administrators see and set.

pub mod mailing;
pub mod rules;
pub mod slowed;
pub mod space;
pub mod store_state;

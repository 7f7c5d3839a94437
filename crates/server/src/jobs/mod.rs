//! What the service does by itself.

pub mod retention;

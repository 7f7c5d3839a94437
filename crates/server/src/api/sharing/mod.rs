//! What was given out, and to whom.

pub mod openings;
pub mod rights;
pub mod shared_items;

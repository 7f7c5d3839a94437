//! Who may do what, what is locked, and how full something may get: all in memory.

pub(crate) mod access;
pub mod locks;
pub mod quota;

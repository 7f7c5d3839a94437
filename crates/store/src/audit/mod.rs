//! Whether all is as it should be.

pub mod check;
pub mod work;

//! Signing in and out, and one's own account.

pub mod factors;
pub mod me;
pub mod proof;
pub mod sessions;
pub mod signing;

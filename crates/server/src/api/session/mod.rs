//! Signing in and out, and one's own account.

pub mod factors;
pub mod me;
pub mod sessions;
pub mod signing;

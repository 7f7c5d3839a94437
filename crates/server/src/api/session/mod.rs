//! Signing in and out, and one's own account.

pub mod client_program;
pub mod connections;
pub mod devices;
pub mod factors;
pub mod me;
pub mod proof;
pub mod sessions;
pub mod signing;

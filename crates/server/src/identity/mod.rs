//! Who asks, and by which door.

pub mod basic;
pub mod factors;
pub mod principal;
pub mod public_address;

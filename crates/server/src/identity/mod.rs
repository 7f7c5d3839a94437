//! Who asks, and by which door.

pub mod address;
pub mod basic;
pub mod cookies;
pub mod doors;
pub mod factors;
pub mod invitations;
pub mod origin;
pub mod passwords;
pub mod principal;
pub mod public_address;
pub mod sessions;
pub mod visitor;

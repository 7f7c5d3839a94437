//! Files and folders, now.

pub mod archives;
pub mod by_path;
pub mod delta;
pub mod events;
pub mod locks;
pub mod nodes;
pub mod search;
pub mod shelves;
pub mod states;
pub mod tree;
pub mod uploads;

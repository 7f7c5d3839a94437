//! Rows become API objects here, and nowhere else.

pub mod account;
pub mod directory;
pub mod factors;
pub mod grants;
pub mod group;
pub mod history;
pub mod node;
pub mod opening;
pub mod quota;
pub mod record;
pub mod removal;
pub mod rollback;
pub mod rules;
pub mod search;
pub mod shared_item;
pub mod shelf;
pub mod snapshot;
pub mod space;
pub mod store;
pub mod upload;

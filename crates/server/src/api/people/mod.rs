//! Accounts, groups, guests, lists of people.

pub mod account_removal;
pub mod accounts;
pub mod groups;
pub mod guests;
pub mod importing;
pub mod listing;
pub mod lists;
pub mod plans;

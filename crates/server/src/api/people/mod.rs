//! Accounts, groups, guests, lists of people.

pub mod account_removal;
pub mod accounts;
pub mod groups;
pub mod guests;
pub mod importing;
pub mod people;
pub mod plans;

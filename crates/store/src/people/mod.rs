//! Accounts, groups, how one signs in, rules, mail, and the record.

pub mod accounts;
pub mod factors;
pub mod granting;
pub mod groups;
pub mod leaving;
pub mod letters;
pub mod recorded;
pub mod ruling;
pub mod signing;

//! Accounts, groups, how one signs in, rules, mail, and the record.

pub mod account_lookup;
pub mod accounts;
pub mod grants;
pub mod groups;
pub mod mail_queue;
pub mod quotas;
pub mod record;
pub mod removal;
pub mod rules;
pub mod second_factor;
pub mod sessions;
pub mod sign_ins;

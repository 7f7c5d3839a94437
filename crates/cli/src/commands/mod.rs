//! One command per file.

pub mod account;
pub mod cat;
pub mod completions;
pub mod connect;
pub mod cp;
pub mod disconnect;
pub mod find;
pub mod get;
pub mod group;
pub mod history;
pub mod info;
pub mod ls;
pub mod manual;
pub mod mkdir;
pub mod mv;
pub mod put;
pub mod restore;
pub mod rm;
pub mod share;
pub mod shelf;
pub mod unshare;
pub mod who;
pub mod why;

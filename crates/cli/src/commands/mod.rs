//! One command per file.

pub mod cat;
pub mod connect;
pub mod cp;
pub mod disconnect;
pub mod get;
pub mod history;
pub mod info;
pub mod ls;
pub mod mkdir;
pub mod mv;
pub mod put;
pub mod restore;
pub mod rm;

//! Letters: how they look, and the way to the mail server.

pub mod compose;
pub mod smtp;

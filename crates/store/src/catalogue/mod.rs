//! The catalogue in SQLite: opening it, and its rows.

pub(crate) mod db;
pub(crate) mod log;
pub(crate) mod marks;
pub(crate) mod rows;

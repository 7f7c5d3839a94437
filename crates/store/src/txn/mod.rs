//! One group of operations: gathered, staged, decided, committed; and what readers share.

pub(crate) mod book;
pub(crate) mod view;
pub(crate) mod writer;

//! Rows become API objects here, and nowhere else.

pub mod node;

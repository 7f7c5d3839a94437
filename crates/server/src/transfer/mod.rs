//! Bytes in and out.

pub mod archive;
pub mod reader;
pub mod receive;
pub mod send;
pub mod tar_in;
pub mod thumbnails;
pub mod tus;

//! The service: the engine behind HTTP, with the console in the binary.
//!
//! In reading order: [`config`] (what is in force and where from), [`service`] (start and stop),
//! [`app`] (what every request meets), [`methods`] (which methods an address takes), [`auth`] (who asks), [`api`] (one resource per file),
//! [`content`] and [`archive`] (bytes out), [`conditional`] (what requests demand), [`body`], [`upload`] and [`tar_in`] (what comes in), [`patience`] (with senders), [`console`] (the
//! pages), [`thumbnails`] (small pictures, drawn by a helper), [`problem`] (how refusals look), [`reads`] (who
//! looked at what), [`metrics`] (what there is to watch), [`strangers`] (links and intakes: their pages), [`dav`] (WebDAV), [`reader`] (whoever bytes go to), [`public`] (the
//! address that links carry), [`guessing`] (how guessing is slowed), [`listening`] and [`lines`] (connections), [`tls`], [`times`].

#![forbid(unsafe_code)]

pub mod api;
pub mod app;
pub mod archive;
pub mod auth;
pub mod body;
pub mod conditional;
pub mod config;
pub mod console;
pub mod content;
pub mod dav;
pub mod factors;
pub mod guessing;
pub mod kept;
pub mod lines;
pub mod listening;
pub mod mail;
pub mod methods;
pub mod metrics;
pub mod patience;
pub mod problem;
pub mod public;
pub mod reader;
pub mod reads;
pub mod service;
pub mod strangers;
pub mod tar_in;
pub mod thumbnails;
pub mod times;
pub mod tls;
pub mod upload;

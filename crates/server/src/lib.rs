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
pub mod config;
pub mod console;
pub mod dav;
pub mod dto;
pub mod http;
pub mod identity;
pub mod jobs;
pub mod mail;
pub mod methods;
pub mod service;
pub mod state;
pub mod strangers;
pub mod transfer;

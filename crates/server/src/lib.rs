//! The service: the engine behind HTTP, with the console in the binary.
//!
//! From below to above, each using only what stands before it: [`config`] (what is in force and where from), [`http`] (what any
//! request is), [`mail`], [`state`] (what handlers share), [`console`] (the built pages), [`identity`] (who asks), [`dto`] (rows
//! become API objects), [`transfer`] (bytes in and out), [`jobs`] (what happens by itself), [`dav`], [`api`], [`methods`] (which
//! methods an address takes), [`strangers`] (pages of links and intakes), [`middleware`] and [`routes`] (what every request
//! meets, and where it goes), [`control`] (the socket for commands on this machine), [`service`] (start and stop).

#![forbid(unsafe_code)]

pub mod api;
pub mod config;
pub mod console;
pub mod control;
pub mod dav;
pub mod dto;
pub mod http;
pub mod identity;
pub mod jobs;
pub mod mail;
pub mod methods;
pub mod middleware;
pub mod routes;
pub mod service;
pub mod state;
pub mod strangers;
pub mod transfer;

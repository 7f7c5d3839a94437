//! The real service on loopback, through its client, its network interface and its console.
#![allow(clippy::disallowed_methods)]

mod api;
mod around;
mod backups;
mod bad_input;
mod broken_line;
mod browser;
mod client;
mod commands;
mod computer;
mod console;
mod dav;
mod desk;
mod desktop;
mod devices;
mod disks;
mod doors;
mod durability;
mod events;
mod everyday;
mod feed;
mod hand;
mod hidden;
mod history;
mod looking_back;
mod mount;
mod pairs;
mod people;
mod refusals;
mod rights;
mod standards;
mod stated;
mod strangers;
mod support;
mod transfers;

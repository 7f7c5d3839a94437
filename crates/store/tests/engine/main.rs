//! The engine through its public verbs, on real files.
#![allow(clippy::disallowed_methods)]

mod basics;
mod bounds;
mod identity;
mod model;
mod on_disk;
mod past;
mod people;
mod rights;
mod strangers;
mod support;

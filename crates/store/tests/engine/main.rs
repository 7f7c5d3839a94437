//! The engine through its public verbs, on real files.
#![allow(clippy::disallowed_methods)]

mod after_trouble;
mod alarm;
mod backup;
mod basics;
mod bounds;
mod damage;
mod due;
mod feed;
mod gathering;
mod hands;
mod identity;
mod keeping;
mod locks;
mod model;
mod models;
mod older;
mod on_disk;
mod past;
mod people;
mod quotas;
mod rebuild;
mod reconcile;
mod rights;
mod rollback;
mod seen;
mod shelves_and_locks;
mod strangers;
mod support;
mod together;
mod versions;

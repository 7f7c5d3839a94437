//! The engine of Yellow Attic: a catalogue in SQLite, plain files on the disk, and the promise
//! that what was answered is there whatever happens next.
//!
//! In reading order, from what stands highest (each folder uses only those that come after it here):
//!
//! - [`backup`]: copies of the whole store in another folder, and the way back.
//! - [`audit`]: whether all is as it should be.
//! - [`sharing`]: links and intakes, whether they act, downloads that are counted, what strangers hand in.
//! - [`people`]: accounts, groups, how one signs in, rights and quotas as they are given, rules, mail, the record of
//!   everything done.
//! - [`timeline`]: what stands where, now and then; what changed; the bytes of a state; uploads; bringing back, rolling
//!   back; which past states go, and letting them go; alarms; where the space went.
//! - [`reconcile`]: what lies on the disk, compared with the catalogue and taken up.
//! - [`engine`]: open it, change things with it, stop it; which store a folder holds.
//! - `files`: the workers on the disk: what was answered is put in its place, what left it is filed, packed, taken apart.
//! - [`ops`]: what each operation means, decided against the writer's transaction.
//! - `txn`: groups of operations, one transaction each; and what readers share.
//! - [`rights`]: who may do what, locks, quota lines, all in memory.
//! - `catalogue`: SQLite and its rows.
//! - [`fs`]: handles, system calls, bytes arriving, renames that are owed, the clock; the types and errors of all this.
//!
//! What it promises: an answered change survives the end of the process and of the power; an
//! unanswered one leaves nothing half-done; nothing on the disk is overwritten unseen.

#![deny(unsafe_code)]

pub mod audit;
pub mod backup;
mod catalogue;
pub mod engine;
mod files;
pub mod fs;
pub mod ops;
pub mod people;
pub mod reconcile;
pub mod rights;
pub mod sharing;
pub mod start;
pub mod timeline;
mod txn;

pub use engine::identity::Missing;
pub use engine::{Engine, Options};
pub use fs::disk::Durability;
pub use fs::error::{Result, StoreError};
pub use fs::model::{
    Actor, ChangeKind, Content, ContentState, Folder, Row, Shelf, ShelfKind, Through, TokenScope,
};
pub use fs::staging::{Arriving, SMALL, Staged};
pub use fs::tree_access::TreeAccess;
pub use ops::put::FileFacts;
pub use ops::{NewShelf, Outcome, Place};
pub use timeline::changes::Change;
pub use timeline::history::{SinceThen, State};
pub use timeline::reading::{Entry, Page, Sort};
pub use txn::writer::Work;

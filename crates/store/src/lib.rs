//! The engine of Yellow Attic: a catalogue in SQLite, plain files on the disk, and the promise
//! that what was answered is there whatever happens next.
//!
//! In reading order:
//!
//! - [`engine`]: open it, change things with it, stop it.
//! - [`timeline::paths`]: what stands where, and what one may do there; [`timeline::reading`]: lists as they are now;
//!   [`timeline::history`]: as they were, and history; [`timeline::changes`]: what changed since.
//! - [`timeline::search`]: by name. [`timeline::tree`]: all that is, or was, beneath some nodes.
//! - [`timeline::content_read`]: the bytes of a state; [`timeline::restore`]: copies, and bringing back what was.
//! - [`timeline::retention`]: which past states go; [`timeline::purge`]: letting them go; [`timeline::snapshots`]: what keeps them; [`timeline::trash`]: what was
//!   removed; [`timeline::rollback`]: a folder as it was; [`timeline::alarms`]: when a device changes too much; [`timeline::space`]: where it went.
//! - [`timeline::uploads`]: files that arrive in parts, over days if need be.
//! - [`people::grants`]: who may do what, and why. [`people::accounts`]: accounts, sessions, devices; [`people::groups`]; [`people::sessions`]: choosing passwords; [`people::record`]: the record of everything done;
//!   [`people::second_factor`]: what proves more than a password; [`people::rules`]: rules that are set; [`rights::quota`]: how full a shelf
//!   may get; [`people::removal`]: deleting accounts, after a while; [`people::mail_queue`]: mail that waits; [`audit::check`]: whether all is as it should be.
//! - [`rights::locks`]: what is locked; [`ops::properties`]: what programs keep with files.
//! - [`sharing::openings`]: links and intakes; [`sharing::decide`]: whether they act; [`sharing::download_tickets`]: downloads that are counted;
//!   [`sharing::deliveries`]: what strangers hand in.
//! - [`engine::mending`]: what is done to a store that no service has open.
//! - [`fs::record_key`]: what rows of the record are marked with.
//! - [`fs::tree_access`]: who on the machine reads the data folder; [`fs::process`]: whom the service's commands act as.
//! - [`engine::identity`]: which store a folder holds, and whether its catalogue is the newest.
//! - [`fs::model`], [`fs::error`], [`fs::clock`], [`fs::fault_points`]: what all of these speak of.
//!
//! Behind them, from the answer to the disk: `staging` (bytes arriving), `writer` (groups of
//! operations, one transaction), `ops`, `reviving`, `copying`, `converting` and `found` (what each operation means),
//! `book` (the writer's view), `access` (all rights, in memory), `rows` and `db` (the catalogue), `task` and `placer` (renames
//! owed to the disk), `filer`, `past` and `packs` (what left its place), `jobs` (in steps, later), `dirs` and `disk`
//! (the file system), `view` (what readers share).
//!
//! What it promises: an answered change survives the end of the process and of the power; an
//! unanswered one leaves nothing half-done; nothing on the disk is overwritten unseen.

#![deny(unsafe_code)]

pub mod audit;
mod catalogue;
pub mod engine;
mod files;
pub mod fs;
pub mod ops;
pub mod people;
pub mod rights;
pub mod sharing;
pub mod timeline;
mod txn;

pub use engine::identity::Missing;
pub use engine::{Engine, Options};
pub use fs::disk::Durability;
pub use fs::error::{Result, StoreError};
pub use fs::model::{Actor, ChangeKind, Content, ContentState, Folder, Row, Shelf, ShelfKind, Through};
pub use fs::staging::{Arriving, SMALL, Staged};
pub use fs::tree_access::TreeAccess;
pub use ops::{NewShelf, Outcome, Place};
pub use timeline::changes::Change;
pub use timeline::history::{SinceThen, State};
pub use timeline::reading::{Entry, Page, Sort};
pub use txn::writer::Work;

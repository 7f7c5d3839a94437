//! The rules of Yellow Attic, as functions of their arguments.
//!
//! Nothing here reads a clock, a disk or a random source, so every rule is tested alone.
//! In reading order:
//!
//! - [`ids`]: one type per kind of number, so that a shelf is never taken for a node.
//! - [`name`] and [`path`]: which names can be, and how places are written (`shelf:/path`).
//! - [`collate`]: the order in which names are shown, as a key that an index can hold.
//! - [`interval`]: the key that makes "as of n" cost what the answer costs.
//! - [`timeline`]: what a write means for the identity of nodes.
//! - [`rights`]: levels, grants, and who may do what where, and why.
//! - [`trust`]: whether a wall clock is believed.
//! - [`record`]: the chained, salted digests of the record of everything done.
//! - [`conditions`] and [`range`]: If-Match, If-None-Match and byte ranges (RFC 9110). [`digests`]: digest fields (RFC 9530).
//! - [`cursor`]: opaque places in a list, bound to that list.
//! - [`forwarded`]: which address a request really came from.
//! - [`guessing`], [`password`] and [`factor`]: how guessing is slowed, which passwords are refused,
//!   which one-time codes count. [`secret`]: how what must be read again is sealed.
//! - [`rules`]: settings with a scope, of which the tightest counts. [`people`]: what a plan or a list
//!   of people asks for, against what there is.
//! - [`keeping`]: which past states are still needed, by which rule, and until when. [`schedule`]: when
//!   snapshots are taken. [`rollback`]: how a folder becomes again what it was. [`mass`]: when one device
//!   changes too much at once. [`chunking`]: how large past contents are cut. [`delta`]: a new state told by what is the same in an older one.
//! - [`merge`]: a folder on a computer and one of the service, kept the same. [`mounted`]: everything at hand, little on the disk.
//! - [`openings`]: when links and intakes act, and their addresses. [`intake`]: what one takes, and under
//!   which names it is kept.
//! - [`dav`]: WebDAV's headers and bodies. [`locks`]: who may change what while somebody holds a lock.
//! - [`zip`] and [`tar`]: the parts of an archive whose length is known beforehand. [`thumbnail`]: which names are those of
//!   pictures, and where the freedesktop standard has small ones.
//! - [`size`]: sizes as people read them. [`table`]: CSV
//!   without formulas. [`contrast`]: colours, and what can be read on them.
//!
//! What it promises: no function here panics on any input, and none depends on anything
//! but its arguments.

#![forbid(unsafe_code)]

pub mod chunking;
pub mod collate;
pub mod conditions;
pub mod contrast;
pub mod cursor;
pub mod dav;
pub mod delta;
pub mod digests;
pub mod factor;
pub mod forwarded;
pub mod guessing;
pub mod ids;
pub mod intake;
pub mod interval;
pub mod keeping;
pub mod limits;
pub mod locks;
pub mod mass;
pub mod merge;
pub mod mounted;
pub mod name;
pub mod openings;
pub mod password;
pub mod path;
pub mod people;
pub mod proof;
pub mod range;
pub mod reconcile;
pub mod record;
pub mod rights;
pub mod rollback;
pub mod rules;
pub mod schedule;
pub mod secret;
pub mod size;
pub mod table;
pub mod tar;
pub mod thumbnail;
pub mod timeline;
pub mod trust;
pub mod zip;

pub use ids::{AccountId, ContentId, DeviceId, GrantId, GroupId, Moment, NodeId, OpeningId, OrgId, ShelfId};
pub use name::{Name, NameError};
pub use path::{PathError, ShelfPath};

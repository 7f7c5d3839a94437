//! WebDAV's texts without any I/O: headers, bodies, answers (RFC 4918 and its neighbours).
//!
//! - [`headers`]: Depth, Overwrite, Timeout, Destination, and the parts of an address.
//! - [`condition`]: the If header, read and decided.
//! - [`xml`]: small bodies as trees, with limits; no entity is ever expanded.
//! - [`bodies`]: what PROPFIND, PROPPATCH, LOCK and REPORT ask for.
//! - [`answer`]: multi-status answers, written piece by piece.

pub mod answer;
pub mod bodies;
pub mod condition;
pub mod headers;
pub mod xml;

/// The namespace of WebDAV.
pub const DAV: &str = "DAV:";
/// A namespace whose properties some clients set to keep a file's times.
pub const TIMES: &str = "urn:schemas-microsoft-com:";

/// A property's name: a namespace and a local name.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct PropName {
    /// The namespace; empty for none.
    pub ns: String,
    /// The local name.
    pub name: String,
}

impl PropName {
    /// A name.
    pub fn new(ns: &str, name: &str) -> PropName {
        PropName { ns: ns.into(), name: name.into() }
    }

    /// A name in WebDAV's own namespace.
    pub fn dav(name: &str) -> PropName {
        PropName::new(DAV, name)
    }

    /// Whether it is this one of WebDAV's.
    pub fn is_dav(&self, name: &str) -> bool {
        self.ns == DAV && self.name == name
    }
}

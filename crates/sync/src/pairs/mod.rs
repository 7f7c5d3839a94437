//! Folders on this computer that are kept the same as folders of a service.
//!
//! What is to be done is decided by [`yellow_attic_core::merge`]; here is what sees and what acts:
//!
//! - [`ground`]: the folder here. [`watch`]: what stirs in it.
//! - [`feed`]: what the service tells.
//! - [`act`]: carries out what was decided; `fetch` and `send`: the bytes of one file; `many`: small files, many in one request.
//! - [`limits`]: how fast and when. [`halves`]: what goes from one pair to another.
//! - [`at_hand`]: what pairs of a mounted folder and that tell each other; `stubs`: files whose bytes are only on the service; `releases`: made of those that lie here.
//! - [`state`]: what is known of a pair, kept in SQLite.
//! - [`run`]: a pair at work. [`status`]: what it is doing, for whoever looks. [`preview`]: what joining both would do.

pub mod act;
mod again;
pub mod at_hand;
pub mod feed;
mod fetch;
pub mod ground;
pub mod halves;
mod landing;
pub mod limits;
mod look;
mod many;
pub mod preview;
mod releases;
pub mod run;
mod send;
pub mod state;
pub mod status;
pub(crate) mod stubs;
mod taken;
pub mod tell;
pub mod watch;

use state::About;
use yellow_attic_core::NodeId;
use yellow_attic_core::merge::{Object, Pair};

/// What all pairs of this computer have together.
#[derive(Default)]
pub struct Shared {
    /// How fast may be sent.
    pub up: limits::Pace,
    /// How fast may be fetched.
    pub down: limits::Pace,
    /// What goes from one pair to another.
    pub halves: halves::Halves,
    /// The mounted folder that all of them are of, if they are of one.
    pub at_hand: Option<std::sync::Arc<at_hand::AtHand>>,
}

impl Shared {
    /// Goes by other limits from now on.
    pub fn set(&self, limits: &yellow_attic_core::limits::Limits) {
        self.up.set(limits.up);
        self.down.set(limits.down);
    }
}

/// RFC 3339 to milliseconds since 1970.
pub fn read_time(text: &str) -> Option<i64> {
    text.parse::<jiff::Timestamp>().ok().map(jiff::Timestamp::as_millisecond)
}

/// Milliseconds since 1970 to RFC 3339.
pub fn show_time(ms: i64) -> Option<String> {
    jiff::Timestamp::from_millisecond(ms).ok().map(|at| at.to_string())
}

/// Now, in milliseconds since 1970.
pub fn now_ms() -> i64 {
    jiff::Timestamp::now().as_millisecond()
}

/// A number of its own for something that is told by a text.
pub fn name_of(text: &str) -> String {
    blake3::hash(text.as_bytes()).to_hex()[..16].to_string()
}

/// A pair of which nothing is known yet.
fn new_pair(about: &About, object: Object, mounted: bool) -> Pair {
    as_ordered(Pair::new(&about.device, about.way, NodeId(about.node), object), about, mounted)
}

/// A pair that does what it is to do.
fn as_ordered(mut pair: Pair, about: &About, mounted: bool) -> Pair {
    pair.set_filter(about.filter.clone());
    if mounted {
        pair.never_ask();
    }
    pair
}

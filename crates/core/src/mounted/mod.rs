//! A mounted folder: everything is at hand, and little of it lies on this computer's disk.
//!
//! What differs between here and there is decided by [`crate::merge`], as for any pair. To that comes what is decided here:
//!
//! - [`stub`]: what a file whose bytes are only on the service says of itself.
//! - [`room`]: how much lies here, what may be released, and whether more may be written.
//! - [`ahead`]: what is fetched before it is asked for, and how those are slowed who read everything.
//! - [`past`]: which names stand in `.then`, and which time a name means.

pub mod ahead;
pub mod past;
pub mod room;
pub mod stub;

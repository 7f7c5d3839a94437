//! Moving whole trees between a computer and a service. No terminal: progress is told to
//! whoever asks.
//!
//! - [`progress`]: what is under way, what is done, what failed and why.
//! - [`patience`]: trying again while the line is broken.
//! - [`up`]: a local folder to a shelf; [`large`]: one file in parts.
//! - [`down`]: from a shelf to a local folder. [`delta`]: both ways, only what differs.
//! - [`pairs`]: folders that are kept the same. [`computer`]: all of them on this computer, for whoever asks.
//! - [`mount`]: all that one may see, as a folder of this computer.

pub mod computer;
pub mod delta;
pub mod down;
pub mod large;
pub mod mount;
pub mod pairs;
pub mod patience;
pub mod progress;
mod syscalls;
pub mod up;

pub use progress::{Fate, Progress, Sum};

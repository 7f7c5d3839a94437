//! Links and intakes, and what strangers do by them.

pub mod decide;
pub mod deliveries;
pub mod download_tickets;
pub mod openings;

use crate::engine::Engine;
use ref_cast::RefCast;

/// Links and intakes, and what strangers do by them.
#[derive(Clone, RefCast)]
#[repr(transparent)]
pub struct Sharing(pub(crate) Engine);

impl Engine {
    /// What was given out.
    pub fn sharing(&self) -> &Sharing {
        Sharing::ref_cast(self)
    }
}

//! Links and intakes, and what strangers do by them.

pub mod acting;
pub mod deliveries;
pub mod openings;
pub mod slips;

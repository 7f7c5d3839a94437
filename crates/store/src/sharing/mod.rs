//! Links and intakes, and what strangers do by them.

pub mod decide;
pub mod deliveries;
pub mod download_tickets;
pub mod openings;

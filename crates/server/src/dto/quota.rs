//! Quotas.

use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use yellow_attic_core::people::read_quota;

/// Reads a quota.
pub fn quota(text: &str) -> Result<Option<u64>, Refusal> {
    read_quota(text).ok_or_else(|| refusals::SIZE_MALFORMED.of(&format!("\"{text}\" is no size.")))
}

//! Quotas.

use crate::http::problem::Refusal;
use yellow_attic_core::people::read_quota;

/// Reads a quota.
pub fn quota(text: &str) -> Result<Option<u64>, Refusal> {
    read_quota(text).ok_or_else(|| {
        Refusal::bad(
            "size_malformed",
            &format!("\"{text}\" is no size."),
            "Write it like 20 GiB or 500 MiB, or none.",
        )
    })
}

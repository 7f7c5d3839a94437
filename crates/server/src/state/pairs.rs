//! Passwords that were given with requests and are right.

use yellow_attic_core::AccountId;

/// The most pairs that are remembered.
pub const MOST: usize = 10_000;

/// Passwords that were checked: by a keyed hash of name and password the account, and the hash of its password
/// as it was. Counts for as long as that is the account's. Of many who come with the same pair at once, one is checked.
pub struct Pairs(pub quick_cache::sync::Cache<[u8; 32], (AccountId, String)>);

impl Default for Pairs {
    fn default() -> Pairs {
        Pairs(quick_cache::sync::Cache::new(MOST))
    }
}

//! Secrets: new ones, and how they are kept and told apart.

use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use std::sync::OnceLock;

/// A hash that tells nothing without a key which dies with the process.
pub fn keyed(parts: &[&[u8]]) -> [u8; 32] {
    static KEY: OnceLock<[u8; 32]> = OnceLock::new();
    let key = KEY.get_or_init(|| {
        let mut key = [0; 32];
        if let Err(error) = getrandom::fill(&mut key) {
            tracing::error!(%error, "the machine gives no random numbers");
        }
        key
    });
    let mut hasher = blake3::Hasher::new_keyed(key);
    for part in parts {
        hasher.update(&(part.len() as u64).to_le_bytes()).update(part);
    }
    *hasher.finalize().as_bytes()
}

/// The first half of such a hash.
pub fn keyed_short(parts: &[&[u8]]) -> [u8; 16] {
    let mut half = [0; 16];
    half.copy_from_slice(&keyed(parts)[..16]);
    half
}

/// A new secret: 32 random bytes, as text.
pub fn new_secret() -> Result<String, Refusal> {
    let mut bytes = [0u8; 32];
    getrandom::fill(&mut bytes).map_err(|e| {
        tracing::error!(error = %e, "no randomness");
        refusals::INTERNAL.with("The machine gives no random numbers.", "See its log.")
    })?;
    Ok(yellow_attic_store::fs::disk::hex(&bytes))
}

/// How a secret is kept: its hash only.
pub fn hash_secret(secret: &str) -> [u8; 32] {
    blake3::derive_key("Yellow Attic secret 1", secret.as_bytes())
}

//! Secrets that the store keeps and must be able to read again, sealed by a key that lies elsewhere.
//!
//! AES-256-GCM (NIST SP 800-38D) with a random nonce; what the secret is and whose it is are bound in, so that a sealed
//! secret counts nowhere else.

use aes_gcm::aead::{AeadInOut, KeyInit};
use aes_gcm::{Aes256Gcm, Nonce, Tag};

/// Bytes of a nonce.
pub const NONCE: usize = 12;
/// Bytes that prove that nothing was changed.
const PROOF: usize = 16;

/// The key of the secrets.
pub struct SecretsKey {
    cipher: Aes256Gcm,
    id: String,
}

impl SecretsKey {
    /// From 32 random bytes.
    pub fn new(key: &[u8; 32]) -> SecretsKey {
        let derived = |what| *blake3::Hasher::new_derive_key(what).update(key).finalize().as_bytes();
        let id = derived("Yellow Attic secrets 1: id");
        let id = id[..8].iter().map(|byte| format!("{byte:02x}")).collect();
        SecretsKey { cipher: Aes256Gcm::new(&derived("Yellow Attic secrets 1: cipher").into()), id }
    }

    /// Which key it is: 16 hexadecimal digits that tell nothing of it.
    pub fn id(&self) -> &str {
        &self.id
    }

    /// Seals a secret: the nonce, the proof, then as many bytes as it has. `what`: what it is, and whose. A nonce serves
    /// once.
    pub fn seal(&self, what: &str, nonce: [u8; NONCE], secret: &[u8]) -> Vec<u8> {
        let mut body = secret.to_vec();
        let mut out = nonce.to_vec();
        // Refused only for more bytes than a machine has.
        if let Ok(proof) =
            self.cipher.encrypt_inout_detached(&nonce.into(), what.as_bytes(), (&mut body[..]).into())
        {
            out.extend_from_slice(&proof);
            out.extend_from_slice(&body);
        }
        out
    }

    /// Opens what was sealed as the same thing by the same key; else none.
    pub fn open(&self, what: &str, sealed: &[u8]) -> Option<Vec<u8>> {
        let (nonce, rest) = sealed.split_at_checked(NONCE)?;
        let (proof, body) = rest.split_at_checked(PROOF)?;
        let (nonce, proof) = (Nonce::try_from(nonce).ok()?, Tag::try_from(proof).ok()?);
        let mut body = body.to_vec();
        let opened =
            self.cipher.decrypt_inout_detached(&nonce, what.as_bytes(), (&mut body[..]).into(), &proof);
        opened.ok().map(|()| body)
    }
}

impl std::fmt::Debug for SecretsKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "SecretsKey({})", self.id)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_secret_opens_as_what_it_was_sealed_as_by_the_same_key_and_unchanged(
            key: [u8; 32], other: [u8; 32], nonce: [u8; NONCE], secret: Vec<u8>, at: prop::sample::Index, bit in 0u8..8
        ) {
            let sealed = SecretsKey::new(&key).seal("factor of 1", nonce, &secret);
            prop_assert_eq!(SecretsKey::new(&key).open("factor of 1", &sealed), Some(secret.clone()));
            prop_assert_eq!(SecretsKey::new(&key).open("factor of 2", &sealed), None);
            prop_assume!(key != other);
            prop_assert_eq!(SecretsKey::new(&other).open("factor of 1", &sealed), None);
            let ids = [&key, &other].map(|key| SecretsKey::new(key).id().to_string());
            prop_assert_ne!(&ids[0], &ids[1]);
            let mut changed = sealed.clone();
            changed[at.index(sealed.len())] ^= 1 << bit;
            prop_assert_eq!(SecretsKey::new(&key).open("factor of 1", &changed), None);
            prop_assert_eq!(SecretsKey::new(&key).open("factor of 1", &sealed[..sealed.len() - 1]), None);
        }
    }
}

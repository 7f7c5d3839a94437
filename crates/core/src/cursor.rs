//! Places in a list, sealed: whoever holds one can come back with it, and read nothing from it.
//!
//! AES-256-GCM, with whom it was made for and the list (what, sorted how, at which moment) bound in. The nonce is a keyed
//! hash of all that goes in (as in RFC 8452's idea of a synthetic one), so that equal cursors look equal and no two
//! others share one. The place is padded: its length tells nothing of a name's.

use aes_gcm::aead::{AeadInOut, KeyInit};
use aes_gcm::{Aes256Gcm, Nonce, Tag};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;

/// Why a cursor is not taken.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum CursorError {
    /// Not made by this service, or changed since.
    #[error("the cursor is malformed")]
    Malformed,
    /// Made for another list, order, moment or caller.
    #[error("the cursor belongs to another list")]
    OtherList,
}

/// Bytes of the mark that says for which list a cursor is.
const MARK: usize = 8;
/// Bytes of a nonce.
const NONCE: usize = 12;
/// Bytes that prove that nothing was changed.
const PROOF: usize = 16;
/// Shorter places are padded to this many bytes, longer ones to the next power of two.
const SHORTEST: usize = 128;

/// Makes and reads cursors, with a key that stays in the store.
pub struct Seal {
    cipher: Aes256Gcm,
    marks: [u8; 32],
    nonces: [u8; 32],
}

impl Seal {
    /// With the store's key. `epoch`: cursors of another one are of other lists.
    pub fn new(key: &[u8; 32], epoch: i64) -> Seal {
        let own = |what: &str| {
            let mut hasher = blake3::Hasher::new_derive_key(what);
            *hasher.update(key).update(&epoch.to_le_bytes()).finalize().as_bytes()
        };
        Seal {
            cipher: Aes256Gcm::new(&own("Yellow Attic cursor 2: cipher").into()),
            marks: own("Yellow Attic cursor 2: lists"),
            nonces: own("Yellow Attic cursor 2: nonces"),
        }
    }

    fn mark(&self, whose: &str, list: &str) -> [u8; MARK] {
        let mut hasher = blake3::Hasher::new_keyed(&self.marks);
        hasher.update(&(whose.len() as u64).to_le_bytes()).update(whose.as_bytes()).update(list.as_bytes());
        let mut mark = [0; MARK];
        hasher.finalize_xof().fill(&mut mark);
        mark
    }

    /// A mark by which a text is known again, and not read.
    pub fn mark_of(&self, text: &str) -> [u8; MARK] {
        self.mark("", text)
    }

    /// A cursor: for whom, the list's own description, and where in it the next page begins.
    pub fn encode(&self, whose: &str, list: &str, place: &str) -> String {
        let mark = self.mark(whose, list);
        let room = (4 + place.len()).next_power_of_two().max(SHORTEST);
        let mut body = Vec::with_capacity(room);
        body.extend_from_slice(&u32::try_from(place.len()).unwrap_or(u32::MAX).to_le_bytes());
        body.extend_from_slice(place.as_bytes());
        body.resize(room, 0);
        let mut nonce = [0; NONCE];
        let mut hasher = blake3::Hasher::new_keyed(&self.nonces);
        hasher.update(&mark).update(&body).finalize_xof().fill(&mut nonce);
        let mut out = [&mark[..], &nonce[..]].concat();
        // Refused only for more bytes than a machine has.
        if let Ok(proof) = self.cipher.encrypt_inout_detached(&nonce.into(), &mark, (&mut body[..]).into()) {
            out.extend_from_slice(&proof);
            out.extend_from_slice(&body);
        }
        URL_SAFE_NO_PAD.encode(out)
    }

    /// The place in a cursor for the same caller and list.
    pub fn decode(&self, whose: &str, list: &str, cursor: &str) -> Result<String, CursorError> {
        let bytes = URL_SAFE_NO_PAD.decode(cursor).map_err(|_| CursorError::Malformed)?;
        if bytes.len() < MARK + NONCE + PROOF + SHORTEST {
            return Err(CursorError::Malformed);
        }
        let (mark, rest) = bytes.split_at(MARK);
        let (nonce, rest) = rest.split_at(NONCE);
        let (proof, body) = rest.split_at(PROOF);
        let (Ok(nonce), Ok(proof)) = (Nonce::try_from(nonce), Tag::try_from(proof)) else {
            return Err(CursorError::Malformed);
        };
        let mut body = body.to_vec();
        self.cipher
            .decrypt_inout_detached(&nonce, mark, (&mut body[..]).into(), &proof)
            .map_err(|_| CursorError::Malformed)?;
        if mark != self.mark(whose, list) {
            return Err(CursorError::OtherList);
        }
        let (size, place) = body.split_at(4);
        let size = size.try_into().map(u32::from_le_bytes).map_err(|_| CursorError::Malformed)? as usize;
        let place = place.get(..size).ok_or(CursorError::Malformed)?;
        String::from_utf8(place.to_vec()).map_err(|_| CursorError::Malformed)
    }
}

impl std::fmt::Debug for Seal {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Seal")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_cursor_leads_back_to_its_place_for_its_own_list_and_caller_only() {
        let seal = Seal::new(&[7; 32], 1);
        let cursor = seal.encode("ines", "node 7 by name", "p\u{1}é");
        assert_eq!(seal.decode("ines", "node 7 by name", &cursor).unwrap(), "p\u{1}é");
        assert_eq!(seal.decode("ines", "node 8 by name", &cursor), Err(CursorError::OtherList));
        assert_eq!(seal.decode("ruben", "node 7 by name", &cursor), Err(CursorError::OtherList));
        for other in [Seal::new(&[7; 32], 2), Seal::new(&[8; 32], 1)] {
            assert_eq!(other.decode("ines", "node 7 by name", &cursor), Err(CursorError::Malformed));
        }
        for bad in ["", "abc", "zz00000000000000", "ééééééééé", &cursor[1..]] {
            assert_eq!(seal.decode("ines", "node 7 by name", bad), Err(CursorError::Malformed), "{bad}");
        }
    }

    proptest! {
        #[test]
        fn nothing_is_read_from_a_cursor_and_nothing_changed_in_one(place in ".{0,80}", at in 0usize..400, bit in 0u8..8) {
            let seal = Seal::new(&[3; 32], 5);
            let cursor = seal.encode("ines", "list", &place);
            prop_assert_eq!(seal.decode("ines", "list", &cursor).unwrap(), place.clone());
            let bytes = URL_SAFE_NO_PAD.decode(&cursor).unwrap();
            if place.len() >= 4 {
                prop_assert!(!bytes.windows(place.len()).any(|w| w == place.as_bytes()));
            }
            if place.len() <= 100 {
                prop_assert_eq!(cursor.len(), seal.encode("ines", "list", "").len());
            }
            let mut changed = bytes.clone();
            let at = at % changed.len();
            changed[at] ^= 1 << bit;
            prop_assert!(seal.decode("ines", "list", &URL_SAFE_NO_PAD.encode(changed)).is_err());
        }
    }
}

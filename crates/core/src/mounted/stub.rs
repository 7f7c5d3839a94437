//! What a file whose bytes are only on the service says of itself: which state it is of. It is kept with the file, so that
//! both are there, or neither.

use crate::ids::{Moment, NodeId};
use crate::merge::Hash;

/// The state of the service that a file stands for. While a file says so, its own bytes mean nothing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stub {
    /// BLAKE3 of the bytes.
    pub hash: Hash,
    /// How many.
    pub size: u64,
    /// The node.
    pub node: NodeId,
    /// The moment at which it has them.
    pub moment: Moment,
}

impl Stub {
    /// As it is kept.
    pub fn text(&self) -> String {
        let hash: String = self.hash.iter().map(|byte| format!("{byte:02x}")).collect();
        format!("1 {hash} {} {} {}", self.size, self.node.0, self.moment.0)
    }

    /// Reads what was kept; none if it is nothing of the kind.
    pub fn read(text: &[u8]) -> Option<Stub> {
        let text = std::str::from_utf8(text).ok()?;
        let mut parts = text.split(' ');
        if parts.next()? != "1" {
            return None;
        }
        let digits = parts.next()?.as_bytes();
        let mut hash = Hash::default();
        if digits.len() != 2 * hash.len() {
            return None;
        }
        for (byte, pair) in hash.iter_mut().zip(digits.chunks(2)) {
            *byte = u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok()?;
        }
        let stub = Stub {
            hash,
            size: parts.next()?.parse().ok()?,
            node: NodeId(parts.next()?.parse().ok()?),
            moment: Moment(parts.next()?.parse().ok()?),
        };
        parts.next().is_none().then_some(stub)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn what_was_kept_is_read_again(hash: [u8; 32], size: u64, node in 0..i64::MAX, moment in 0..i64::MAX) {
            let stub = Stub { hash, size, node: NodeId(node), moment: Moment(moment) };
            prop_assert_eq!(Stub::read(stub.text().as_bytes()), Some(stub));
            // Cut short it is nothing, or at worst another number of the last part: never another content.
            let text = stub.text();
            let cut = &text[..text.len() / 2];
            prop_assert!(Stub::read(cut.as_bytes()).is_none());
        }

        #[test]
        fn anything_else_is_none(text: Vec<u8>) {
            if let Some(stub) = Stub::read(&text) {
                prop_assert_eq!(Stub::read(stub.text().as_bytes()), Some(stub));
            }
        }
    }
}

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

/// The form in which it is kept.
const FORM: u8 = 1;

impl Stub {
    /// As it is kept: few bytes, so that they have room beside what a file system keeps of a file anyway.
    pub fn bytes(&self) -> Vec<u8> {
        let mut bytes = vec![FORM];
        bytes.extend_from_slice(&self.hash);
        for mut number in [self.size, self.node.0 as u64, self.moment.0 as u64] {
            // LEB128.
            while number >= 0x80 {
                bytes.push(number as u8 | 0x80);
                number >>= 7;
            }
            bytes.push(number as u8);
        }
        bytes
    }

    /// Reads what was kept; none if it is nothing of the kind.
    pub fn read(bytes: &[u8]) -> Option<Stub> {
        let (form, rest) = bytes.split_first()?;
        let (hash, mut rest) = rest.split_first_chunk::<32>()?;
        if *form != FORM {
            return None;
        }
        let mut next = || {
            let mut number = 0_u64;
            for shift in (0..64).step_by(7) {
                let (byte, more) = rest.split_first()?;
                rest = more;
                let bits = u64::from(byte & 0x7f);
                number |= bits << shift;
                if bits << shift >> shift != bits {
                    return None;
                }
                if byte & 0x80 == 0 {
                    return Some(number);
                }
            }
            None
        };
        let (size, node, moment) = (next()?, next()?, next()?);
        let stub = Stub {
            hash: *hash,
            size,
            node: NodeId(i64::try_from(node).ok()?),
            moment: Moment(i64::try_from(moment).ok()?),
        };
        rest.is_empty().then_some(stub)
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
            let kept = stub.bytes();
            prop_assert_eq!(Stub::read(&kept), Some(stub));
            // Cut short it is nothing.
            for end in 0..kept.len() {
                prop_assert!(Stub::read(&kept[..end]).is_none());
            }
        }

        #[test]
        fn anything_else_is_none(bytes: Vec<u8>) {
            if let Some(stub) = Stub::read(&bytes) {
                prop_assert_eq!(Stub::read(&stub.bytes()), Some(stub));
            }
        }
    }
}

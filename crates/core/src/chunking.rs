//! Content-defined chunks: where a content is cut, and how a list of chunks is written.
//!
//! Cuts follow FastCDC (Xia and others, USENIX ATC 2016), so a change in the middle moves no cut far
//! from it. A list of chunks is written as runs of ids: what was packed together costs a few bytes.

use std::io::{self, Read};

/// No chunk is smaller, but the last.
pub const SMALLEST: u32 = 16 * 1024;
/// What chunks are about.
pub const USUAL: u32 = 64 * 1024;
/// No chunk is larger.
pub const LARGEST: u32 = 256 * 1024;
/// Past contents of this size and more are kept as chunks.
pub const WORTH: i64 = 1024 * 1024;

/// Cuts what is read into chunks, in order.
pub fn cut<R: Read>(from: R) -> impl Iterator<Item = io::Result<Vec<u8>>> {
    fastcdc::v2020::StreamCDC::new(from, SMALLEST, USUAL, LARGEST)
        .map(|chunk| chunk.map(|c| c.data).map_err(io::Error::from))
}

/// Writes a list of chunk ids: runs of (step from the last run's end, length), as varints.
pub fn write_recipe(ids: &[i64]) -> Vec<u8> {
    let mut out = Vec::new();
    let mut last = 0i64;
    let mut i = 0;
    while i < ids.len() {
        let mut length = 1;
        while i + length < ids.len() && ids[i + length] == ids[i] + length as i64 {
            length += 1;
        }
        put(&mut out, zigzag(ids[i] - last));
        put(&mut out, length as u64);
        last = ids[i] + length as i64;
        i += length;
    }
    out
}

/// Reads what [`write_recipe`] wrote, as runs (first id, length); none if it is damaged.
pub fn read_recipe(bytes: &[u8]) -> Option<Vec<(i64, u64)>> {
    let mut runs = Vec::new();
    let mut rest = bytes;
    let mut last = 0i64;
    while !rest.is_empty() {
        let step = take(&mut rest)?;
        let length = take(&mut rest)?;
        let first = last.checked_add(unzigzag(step))?;
        if first < 0 || length == 0 || length > 1 << 40 {
            return None;
        }
        last = first.checked_add(length as i64)?;
        runs.push((first, length));
    }
    Some(runs)
}

fn zigzag(n: i64) -> u64 {
    ((n << 1) ^ (n >> 63)) as u64
}

fn unzigzag(n: u64) -> i64 {
    (n >> 1) as i64 ^ -((n & 1) as i64)
}

fn put(out: &mut Vec<u8>, mut n: u64) {
    while n >= 0x80 {
        out.push(n as u8 | 0x80);
        n >>= 7;
    }
    out.push(n as u8);
}

fn take(rest: &mut &[u8]) -> Option<u64> {
    let mut n = 0u64;
    for shift in (0..64).step_by(7) {
        let (byte, more) = rest.split_first()?;
        *rest = more;
        n |= u64::from(byte & 0x7f) << shift;
        if byte & 0x80 == 0 {
            return Some(n);
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn noise(seed: u64, length: usize) -> Vec<u8> {
        let mut bytes = vec![0; length];
        blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof().fill(&mut bytes);
        bytes
    }

    fn hashes(bytes: &[u8]) -> Vec<blake3::Hash> {
        cut(bytes).map(|c| blake3::hash(&c.unwrap())).collect()
    }

    #[test]
    fn an_insertion_changes_few_chunks_whatever_comes_after_it() {
        let before = noise(1, 8 << 20);
        let mut after = before.clone();
        after.splice(3_000_000..3_000_000, noise(2, 1000));
        let (old, new) = (hashes(&before), hashes(&after));
        let known: std::collections::HashSet<_> = old.iter().collect();
        let fresh = new.iter().filter(|h| !known.contains(h)).count();
        assert!(fresh <= 4, "{fresh} of {} chunks are new", new.len());
    }

    #[test]
    fn chunks_keep_their_limits_and_give_the_bytes_back() {
        let bytes = noise(3, 3_000_001);
        let parts: Vec<Vec<u8>> = cut(&bytes[..]).map(|c| c.unwrap()).collect();
        assert_eq!(parts.concat(), bytes);
        let (last, all) = parts.split_last().unwrap();
        assert!(all.iter().all(|c| (SMALLEST as usize..=LARGEST as usize).contains(&c.len())));
        assert!(last.len() <= LARGEST as usize);
        assert_eq!(cut(&b""[..]).count(), 0);
    }

    proptest! {
        #[test]
        fn a_list_is_read_as_it_was_written(ids in proptest::collection::vec(1i64..1_000, 0..200)) {
            let runs = read_recipe(&write_recipe(&ids)).unwrap();
            let back: Vec<i64> = runs.iter().flat_map(|(first, n)| (*first..).take(*n as usize)).collect();
            prop_assert_eq!(back, ids);
        }

        #[test]
        fn a_damaged_list_is_refused_and_never_panics(bytes in proptest::collection::vec(any::<u8>(), 0..40)) {
            let _ = read_recipe(&bytes);
        }
    }

    #[test]
    fn what_was_packed_together_costs_a_few_bytes() {
        assert!(write_recipe(&(1..=4096).collect::<Vec<_>>()).len() <= 4);
    }
}

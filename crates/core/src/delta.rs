//! Deltas: a new state of a file, told by what is the same as in states that both sides hold.
//!
//! Downwards the service lists the chunks of a content ([`Chunk`]); whoever holds an older one cuts that in the
//! same way ([`crate::chunking`]) and fetches only what it lacks ([`plan`]). Upwards a delta is a stream of
//! records ([`Reader`], [`copy`], [`bytes`]): parts of states that the sender may read, named by it, and bytes.
//! Nothing is ever looked for by its hash, so nobody learns what others hold.

use std::collections::HashMap;

/// How many bytes of a chunk's BLAKE3 hash stand in a list: 128 bits.
pub const HASH: usize = 16;
/// The most states that one delta may name.
pub const MOST_BASES: usize = 16;
/// The most bytes in one record: what is read must be held.
pub const MOST_BYTES: u64 = 1 << 20;

/// A chunk of a content: how long it is, and the beginning of its BLAKE3 hash.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Chunk {
    /// In bytes.
    pub length: u32,
    /// The first 128 bits of its hash.
    pub hash: [u8; HASH],
}

impl Chunk {
    /// Of these bytes.
    pub fn of(bytes: &[u8]) -> Chunk {
        let mut hash = [0; HASH];
        hash.copy_from_slice(&blake3::hash(bytes).as_bytes()[..HASH]);
        Chunk { length: bytes.len() as u32, hash }
    }

    /// As it stands in a list.
    pub fn word(&self) -> String {
        let mut word = format!("{} ", self.length);
        for byte in self.hash {
            word.push_str(&format!("{byte:02x}"));
        }
        word
    }

    /// Reads [`Chunk::word`].
    pub fn from_word(word: &str) -> Option<Chunk> {
        let (length, hex) = word.split_once(' ')?;
        let length = length.parse().ok()?;
        if hex.len() != HASH * 2 || !hex.is_ascii() {
            return None;
        }
        let mut hash = [0; HASH];
        for (i, byte) in hash.iter_mut().enumerate() {
            *byte = u8::from_str_radix(&hex[i * 2..i * 2 + 2], 16).ok()?;
        }
        Some(Chunk { length, hash })
    }
}

/// A piece of a new state, in order.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Piece {
    /// The same as in the old state.
    Same {
        /// Where in the old one.
        at: u64,
        /// How long.
        length: u64,
    },
    /// Only in the new state.
    New {
        /// Where in the new one.
        at: u64,
        /// How long.
        length: u64,
    },
}

/// How a new state is made of an old one and of what is new; pieces that lie beside each other are one.
pub fn plan(old: &[Chunk], new: &[Chunk]) -> Vec<Piece> {
    let mut places: HashMap<Chunk, u64> = HashMap::with_capacity(old.len());
    let mut at = 0;
    for chunk in old {
        places.entry(*chunk).or_insert(at);
        at += u64::from(chunk.length);
    }
    let mut pieces: Vec<Piece> = Vec::new();
    let mut at = 0;
    for chunk in new {
        let length = u64::from(chunk.length);
        let known = places.get(chunk).copied();
        match (pieces.last_mut(), known) {
            (Some(Piece::Same { at, length: so_far }), Some(place)) if *at + *so_far == place => {
                *so_far += length
            }
            (Some(Piece::New { length: so_far, .. }), None) => *so_far += length,
            (_, Some(place)) => pieces.push(Piece::Same { at: place, length }),
            (_, None) => pieces.push(Piece::New { at, length }),
        }
        at += length;
    }
    pieces
}

/// What is left of a plan when so many bytes of the new state are there.
pub fn after(pieces: &[Piece], there: u64) -> Vec<Piece> {
    let mut skip = there;
    let mut left = Vec::with_capacity(pieces.len());
    for piece in pieces {
        let (Piece::Same { at, length } | Piece::New { at, length }) = *piece;
        let gone = skip.min(length);
        skip -= gone;
        if gone == length {
            continue;
        }
        let (at, length) = (at + gone, length - gone);
        left.push(match piece {
            Piece::Same { .. } => Piece::Same { at, length },
            Piece::New { .. } => Piece::New { at, length },
        });
    }
    left
}

/// How many bytes of a plan are new.
pub fn new_bytes(pieces: &[Piece]) -> u64 {
    let new = pieces.iter().map(|p| if let Piece::New { length, .. } = p { *length } else { 0 });
    new.sum()
}

/// A record of a delta.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Record {
    /// A part of a state that was named.
    Copy {
        /// Which, from 0.
        base: u8,
        /// Where in it.
        at: u64,
        /// How long.
        length: u64,
    },
    /// Bytes follow: this many of them.
    Bytes(u64),
    /// Nothing more comes.
    End,
}

/// Writes a record that copies: 0x01, the base, offset and length (unsigned, 64 bits, little-endian).
pub fn copy(base: u8, at: u64, length: u64) -> Vec<u8> {
    let mut out = vec![1, base];
    out.extend_from_slice(&at.to_le_bytes());
    out.extend_from_slice(&length.to_le_bytes());
    out
}

/// Writes the head of a record of bytes: 0x02 and their number (unsigned, 32 bits, little-endian).
pub fn bytes(length: u32) -> Vec<u8> {
    let mut out = vec![2];
    out.extend_from_slice(&length.to_le_bytes());
    out
}

/// The record that ends a delta.
pub const END: u8 = 0;

/// Why a delta is refused.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum DeltaError {
    /// A record of an unknown kind.
    #[error("a record begins with 0x{0:02x}")]
    Kind(u8),
    /// A record that copies or brings nothing, or more bytes than one may.
    #[error("a record has a length of {0}")]
    Length(u64),
    /// Bytes behind the end.
    #[error("bytes follow the end")]
    After,
}

/// Reads records from pieces of a stream, however they are cut. Bytes of records are handed on as they come.
#[derive(Debug, Default)]
pub struct Reader {
    head: Vec<u8>,
    /// Bytes of the present record that are still to come.
    left: u64,
    ended: bool,
}

/// What comes out of a stream.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Event<'b> {
    /// A record that copies.
    Copy {
        /// Which state.
        base: u8,
        /// Where in it.
        at: u64,
        /// How long.
        length: u64,
    },
    /// Bytes.
    Bytes(&'b [u8]),
}

impl Reader {
    /// Takes a piece of the stream, and tells what is in it.
    pub fn take<'b, E: From<DeltaError>>(
        &mut self,
        mut piece: &'b [u8],
        mut tell: impl FnMut(Event<'b>) -> Result<(), E>,
    ) -> Result<(), E> {
        while !piece.is_empty() {
            if self.ended {
                return Err(DeltaError::After.into());
            }
            if self.left > 0 {
                let n = self.left.min(piece.len() as u64) as usize;
                tell(Event::Bytes(&piece[..n]))?;
                self.left -= n as u64;
                piece = &piece[n..];
                continue;
            }
            self.head.push(piece[0]);
            piece = &piece[1..];
            match self.record()? {
                None => {}
                Some(Record::End) => self.ended = true,
                Some(Record::Copy { base, at, length }) => tell(Event::Copy { base, at, length })?,
                Some(Record::Bytes(n)) => self.left = n,
            }
        }
        Ok(())
    }

    /// Whether its end has come.
    pub fn is_ended(&self) -> bool {
        self.ended
    }

    fn record(&mut self) -> Result<Option<Record>, DeltaError> {
        let number = |bytes: &[u8]| bytes.iter().rev().fold(0u64, |n, b| n << 8 | u64::from(*b));
        let record = match (self.head[0], self.head.len()) {
            (END, _) => Record::End,
            (1, 18) => Record::Copy {
                base: self.head[1],
                at: number(&self.head[2..10]),
                length: number(&self.head[10..18]),
            },
            (2, 5) => Record::Bytes(number(&self.head[1..5])),
            (1 | 2, _) => return Ok(None),
            (other, _) => return Err(DeltaError::Kind(other)),
        };
        self.head.clear();
        match record {
            Record::Copy { length: 0, .. } | Record::Bytes(0) => Err(DeltaError::Length(0)),
            Record::Bytes(n) if n > MOST_BYTES => Err(DeltaError::Length(n)),
            other => Ok(Some(other)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::chunking::cut;
    use proptest::prelude::*;

    fn noise(seed: u64, length: usize) -> Vec<u8> {
        let mut bytes = vec![0; length];
        blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof().fill(&mut bytes);
        bytes
    }

    fn chunks(bytes: &[u8]) -> Vec<Chunk> {
        cut(bytes).map(|c| Chunk::of(&c.unwrap())).collect()
    }

    fn made(pieces: &[Piece], old: &[u8], new: &[u8]) -> Vec<u8> {
        let part = |of: &[u8], at: u64, n: u64| of[at as usize..(at + n) as usize].to_vec();
        let piece = |p: &Piece| match p {
            Piece::Same { at, length } => part(old, *at, *length),
            Piece::New { at, length } => part(new, *at, *length),
        };
        pieces.iter().flat_map(piece).collect()
    }

    /// The vectors of docs/protocol.md: whoever writes a client of their own compares with these.
    #[test]
    fn the_test_vectors_are_those_of_the_description() {
        let text = include_str!("../../../docs/protocol.md");
        let listed: Vec<&str> = text
            .split("```chunks\n")
            .nth(1)
            .and_then(|t| t.split("\n```").next())
            .expect("the description has its vectors")
            .lines()
            .collect();
        let mut bytes = vec![0; 1 << 20];
        blake3::Hasher::new().update(b"Yellow Attic").finalize_xof().fill(&mut bytes);
        let cut: Vec<String> = chunks(&bytes).iter().map(Chunk::word).collect();
        assert_eq!(listed, cut);
        let mut delta = copy(0, 65_536, 131_072);
        delta.extend(super::bytes(5));
        delta.extend(b"fog\r\n");
        delta.push(END);
        let hex: String = delta.iter().map(|b| format!("{b:02x}")).collect();
        assert!(text.contains(&hex), "{hex}");
    }

    #[test]
    fn a_change_in_the_middle_costs_what_changed() {
        let old = noise(1, 8 << 20);
        let mut new = old.clone();
        new.splice(3 << 20..(3 << 20) + 1000, noise(2, 40_000));
        let plan = plan(&chunks(&old), &chunks(&new));
        assert_eq!(made(&plan, &old, &new), new);
        assert!(new_bytes(&plan) < 700_000, "{}", new_bytes(&plan));
        assert!(plan.len() <= 3, "{plan:?}");
    }

    proptest! {
        #[test]
        fn a_plan_makes_the_new_state(
            seeds in prop::collection::vec(0u64..4, 1..4), others in prop::collection::vec(0u64..4, 0..4),
            cut_at in 0usize..200_000,
        ) {
            let old: Vec<u8> = seeds.iter().flat_map(|s| noise(*s, 200_000)).skip(cut_at).collect();
            let new: Vec<u8> = others.iter().flat_map(|s| noise(*s, 200_000)).collect();
            let plan = plan(&chunks(&old), &chunks(&new));
            prop_assert_eq!(made(&plan, &old, &new), new);
        }

        #[test]
        fn records_are_read_however_the_stream_is_cut(
            records in prop::collection::vec((any::<bool>(), 0u8..4, 0u64..1000, 1u64..300), 0..12),
            at in 1usize..40,
        ) {
            let (mut stream, mut wanted) = (Vec::new(), Vec::new());
            for (copies, base, offset, length) in records {
                match copies {
                    true => {
                        stream.extend(copy(base, offset, length));
                        wanted.push((Some((base, offset, length)), Vec::new()));
                    }
                    false => {
                        let body = noise(offset, length as usize);
                        stream.extend(super::bytes(length as u32));
                        stream.extend(&body);
                        wanted.push((None, body));
                    }
                }
            }
            stream.push(END);
            let mut reader = Reader::default();
            type Seen = (Option<(u8, u64, u64)>, Vec<u8>);
            let mut seen: Vec<Seen> = Vec::new();
            let mut open = false;
            for piece in stream.chunks(at) {
                reader.take::<DeltaError>(piece, |event| {
                    match event {
                        Event::Copy { base, at, length } => {
                            seen.push((Some((base, at, length)), Vec::new()));
                            open = false;
                        }
                        Event::Bytes(bytes) => {
                            let whole = wanted[seen.len().saturating_sub(usize::from(open))].1.len();
                            if !open {
                                seen.push((None, Vec::new()));
                            }
                            let last = &mut seen.last_mut().unwrap().1;
                            last.extend(bytes);
                            open = last.len() < whole;
                        }
                    }
                    Ok(())
                }).unwrap();
            }
            prop_assert!(reader.is_ended());
            prop_assert_eq!(seen, wanted);
        }

        #[test]
        fn no_stream_makes_the_reader_fail(bytes in prop::collection::vec(0u8..4, 0..60)) {
            let mut reader = Reader::default();
            let _ = reader.take::<DeltaError>(&bytes, |_| Ok(()));
        }
    }
}

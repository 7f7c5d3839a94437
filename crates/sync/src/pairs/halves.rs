//! What is moved from one pair to another is gone in one and new in the other, in any order. What is gone is removed from the
//! service only when what may be its other half was sent.

use parking_lot::Mutex;
use std::collections::{BTreeMap, BTreeSet};
use yellow_attic_core::merge::{Hash, Item, Pair};

/// A file that is only here yet: its size, and its hash if it was read. Empty files are the same as any other.
pub type Half = (u64, Option<Hash>);

/// What each pair of this computer has not sent yet.
#[derive(Default)]
pub struct Halves(Mutex<BTreeMap<String, BTreeSet<Half>>>);

impl Halves {
    /// What a pair has not sent yet.
    pub fn tell(&self, pair: &str, unsent: BTreeSet<Half>) {
        let mut all = self.0.lock();
        match unsent.is_empty() {
            true => drop(all.remove(pair)),
            false => drop(all.insert(pair.to_string(), unsent)),
        }
    }

    /// Whether another pair has one of these files, and has not sent it yet.
    pub fn waits(&self, pair: &str, files: &[(u64, Hash)]) -> bool {
        let all = self.0.lock();
        let others = || all.iter().filter(|(other, _)| *other != pair).flat_map(|(_, unsent)| unsent);
        files.iter().any(|(size, hash)| others().any(|(s, h)| s == size && h.is_none_or(|h| h == *hash)))
    }
}

/// What a pair has not sent yet.
pub fn unsent(pair: &Pair) -> BTreeSet<Half> {
    let halves = pair.only_here().filter_map(|(_, facets)| {
        let here = facets.here.as_ref()?;
        Some((here.stat?.size, here.hash))
    });
    halves.filter(|(size, _)| *size > 0).collect()
}

/// The files that go with a thing of the service.
pub fn files_of(pair: &Pair, item: Item) -> Vec<(u64, Hash)> {
    let (mut files, mut waiting) = (Vec::new(), vec![item]);
    while let Some(next) = waiting.pop() {
        let bytes = pair.facets(next).and_then(|f| f.there.as_ref()).and_then(|there| there.bytes);
        files.extend(bytes.filter(|(_, size)| *size > 0).map(|(hash, size)| (size, hash)));
        waiting.extend(pair.children_there(next));
    }
    files
}

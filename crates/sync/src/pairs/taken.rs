//! Files between their place and the look at them.

use yellow_attic_core::merge::{Object, Stat};

/// What a file is called while it is between its place and the look at it: what was seen in that place, and which file is to
/// take it (0: none). So a stop in between finds what it is.
pub(super) struct Taken {
    inode: u64,
    /// The file that is to take its place.
    pub(super) fresh: u64,
    size: u64,
    modified: i64,
}

impl Taken {
    pub(super) fn of((object, stat): (Object, Stat), fresh: u64) -> Taken {
        Taken { inode: object.inode, fresh, size: stat.size, modified: stat.modified }
    }

    pub(super) fn name(&self) -> String {
        format!("out-{:x}-{:x}-{:x}-{:x}", self.inode, self.fresh, self.size, self.modified)
    }

    pub(super) fn read(name: &[u8]) -> Option<Taken> {
        let text = std::str::from_utf8(name.strip_prefix(b"out-")?).ok()?;
        let parts: Vec<u64> =
            text.split('-').map(|part| u64::from_str_radix(part, 16).ok()).collect::<Option<_>>()?;
        let [inode, fresh, size, modified] = parts[..] else { return None };
        Some(Taken { inode, fresh, size, modified: modified as i64 })
    }

    /// Whether it is what was seen.
    pub(super) fn is(&self, object: Object, stat: Option<Stat>) -> bool {
        object.inode == self.inode && stat.is_some_and(|s| (s.size, s.modified) == (self.size, self.modified))
    }
}

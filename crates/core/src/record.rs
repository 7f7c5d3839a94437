//! The chained digests of the record of everything done.
//!
//! A row's digest covers its salted fields; its link covers the row's number, its time, its
//! digest and the link before it. So a row that is removed or altered shows, and the fields
//! and salt of a person who must be forgotten can be dropped without breaking the chain.

/// A BLAKE3 hash.
pub type Digest = [u8; 32];

/// The link before the first row.
pub const FIRST: Digest = [0; 32];

/// The digest of a row's fields. Each field is preceded by its length, so that no two
/// different sets of fields are the same bytes.
pub fn digest(salt: &[u8], fields: &[&str]) -> Digest {
    let mut hasher = blake3::Hasher::new_derive_key("Yellow Attic record row 1");
    for part in std::iter::once(salt).chain(fields.iter().map(|f| f.as_bytes())) {
        hasher.update(&(part.len() as u64).to_le_bytes());
        hasher.update(part);
    }
    *hasher.finalize().as_bytes()
}

/// The link of a row: what the next row builds on.
pub fn link(before: &Digest, number: i64, at_ms: i64, digest: &Digest) -> Digest {
    let mut hasher = blake3::Hasher::new_derive_key("Yellow Attic record link 1");
    hasher.update(before);
    hasher.update(&number.to_le_bytes());
    hasher.update(&at_ms.to_le_bytes());
    hasher.update(digest);
    *hasher.finalize().as_bytes()
}

/// What of a row its link covers beside the digest of its fields.
#[derive(Clone, Copy, Debug)]
pub struct Covered<'r> {
    /// Its number.
    pub number: i64,
    /// When, in milliseconds.
    pub at_ms: i64,
    /// What was done.
    pub action: &'r str,
    /// The account it is filed under.
    pub account: Option<i64>,
    /// The file or folder it is filed under.
    pub node: Option<i64>,
}

/// The link of a row of the second version: it covers every column.
pub fn link_all(before: &Digest, row: Covered<'_>, digest: &Digest) -> Digest {
    let mut hasher = blake3::Hasher::new_derive_key("Yellow Attic record link 2");
    hasher.update(before);
    hasher.update(&row.number.to_le_bytes());
    hasher.update(&row.at_ms.to_le_bytes());
    hasher.update(&(row.action.len() as u64).to_le_bytes()).update(row.action.as_bytes());
    for id in [row.account, row.node] {
        hasher.update(&[u8::from(id.is_some())]).update(&id.unwrap_or(0).to_le_bytes());
    }
    hasher.update(digest);
    *hasher.finalize().as_bytes()
}

/// The key of the next day. There is no way back.
pub fn next_key(key: &Digest) -> Digest {
    *blake3::Hasher::new_derive_key("Yellow Attic record key 1").update(key).finalize().as_bytes()
}

/// The mark of a row by a key: only who has the key, or one before it, can make it.
pub fn mac(key: &Digest, link: &Digest) -> Digest {
    *blake3::keyed_hash(key, link).as_bytes()
}

/// The mark of the last row of a day.
pub fn mac_of_head(key: &Digest, number: i64, link: &Digest) -> Digest {
    let mut hasher = blake3::Hasher::new_keyed(key);
    *hasher.update(b"head").update(&number.to_le_bytes()).update(link).finalize().as_bytes()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_part_of_a_row_shows_in_its_link() {
        let base = digest(b"salt", &["ines", "put", "home:/a"]);
        assert_ne!(base, digest(b"salt", &["ines", "puth", "ome:/a"]));
        assert_ne!(base, digest(b"tlas", &["ines", "put", "home:/a"]));
        let row = link(&FIRST, 1, 1000, &base);
        assert_ne!(row, link(&FIRST, 2, 1000, &base));
        assert_ne!(row, link(&FIRST, 1, 1001, &base));
        assert_ne!(row, link(&row, 1, 1000, &base));
        assert_eq!(row, link(&FIRST, 1, 1000, &base));
        let covered = Covered { number: 1, at_ms: 1000, action: "put", account: Some(7), node: None };
        let row = link_all(&FIRST, covered, &base);
        for other in [
            Covered { number: 2, ..covered },
            Covered { at_ms: 1001, ..covered },
            Covered { action: "puts", ..covered },
            Covered { account: Some(8), ..covered },
            Covered { account: None, node: Some(7), ..covered },
            Covered { node: Some(0), ..covered },
        ] {
            assert_ne!(row, link_all(&FIRST, other, &base));
        }
        assert_eq!(row, link_all(&FIRST, covered, &base));
    }

    #[test]
    fn a_later_key_makes_no_mark_of_an_earlier_one() {
        let first = [5; 32];
        let second = next_key(&first);
        let row = link(&FIRST, 1, 1000, &[1; 32]);
        assert_ne!(mac(&first, &row), mac(&second, &row));
        assert_ne!(mac(&first, &row), mac_of_head(&first, 1, &row));
        assert_ne!(next_key(&second), first);
    }
}

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
    }
}

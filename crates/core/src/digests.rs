//! Digest fields (RFC 9530): what a sender says the bytes are, and what a receiver wants to be told.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;

/// Digests that are understood. Others are passed over, as the standard has it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Algorithm {
    /// SHA-256.
    Sha256,
    /// SHA-512.
    Sha512,
}

impl Algorithm {
    /// Its name in the fields.
    pub fn word(self) -> &'static str {
        match self {
            Algorithm::Sha256 => "sha-256",
            Algorithm::Sha512 => "sha-512",
        }
    }

    fn from_word(word: &str) -> Option<Algorithm> {
        [Algorithm::Sha256, Algorithm::Sha512].into_iter().find(|a| a.word() == word)
    }

    fn length(self) -> usize {
        match self {
            Algorithm::Sha256 => 32,
            Algorithm::Sha512 => 64,
        }
    }
}

/// Reads Content-Digest or Repr-Digest: a dictionary of byte sequences (RFC 9651). `None`: malformed.
pub fn parse(value: &str) -> Option<Vec<(Algorithm, Vec<u8>)>> {
    let mut found = Vec::new();
    for member in value.split(',') {
        let (key, value) = member.trim().split_once('=')?;
        if key.is_empty()
            || !key.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b"-_.*".contains(&b))
        {
            return None;
        }
        let value = value.split(';').next().unwrap_or(value).trim();
        let coded = value.strip_prefix(':')?.strip_suffix(':')?;
        let bytes = STANDARD.decode(coded).ok()?;
        if let Some(algorithm) = Algorithm::from_word(key) {
            if bytes.len() != algorithm.length() {
                return None;
            }
            found.push((algorithm, bytes));
        }
    }
    Some(found)
}

/// Reads Want-Content-Digest or Want-Repr-Digest: the algorithm that is wanted most, of those understood.
/// What cannot be read wants nothing.
pub fn wanted(value: &str) -> Option<Algorithm> {
    let mut best: Option<(u8, Algorithm)> = None;
    for member in value.split(',') {
        let (key, weight) = member.trim().split_once('=')?;
        let weight: u8 = weight.split(';').next()?.trim().parse().ok().filter(|w| *w <= 10)?;
        if let Some(algorithm) = Algorithm::from_word(key)
            && weight > best.map_or(0, |(w, _)| w)
        {
            best = Some((weight, algorithm));
        }
    }
    best.map(|(_, algorithm)| algorithm)
}

/// Writes a field.
pub fn write(algorithm: Algorithm, bytes: &[u8]) -> String {
    format!("{}=:{}:", algorithm.word(), STANDARD.encode(bytes))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn fields_are_read_as_the_standard_has_them() {
        // From RFC 9530, section 2 and appendix B: the digest of {"hello": "world"} with a line end.
        let field = "sha-256=:RK/0qy18MlBSVnWgjwz6lZEWjP/lF5HF9bvEF8FabDg=:";
        let read = parse(field).unwrap();
        assert_eq!((read[0].0, read[0].1.len()), (Algorithm::Sha256, 32));
        assert_eq!(write(read[0].0, &read[0].1), field);
        assert_eq!(
            parse("unixsum=:AAA=:, sha-256=:RK/0qy18MlBSVnWgjwz6lZEWjP/lF5HF9bvEF8FabDg=:;x=1")
                .unwrap()
                .len(),
            1
        );
        for bad in [
            "",
            "sha-256",
            "sha-256=abc",
            "sha-256=:abc",
            "sha-256=:YQ==:",
            "sha-256=:***:",
            "SHA-256=:YQ==:",
        ] {
            assert_eq!(parse(bad), None, "{bad}");
        }
        assert_eq!(wanted("sha-512=3, sha-256=10, unixsum=0"), Some(Algorithm::Sha256));
        assert_eq!(wanted("sha-512=3, sha-256=2"), Some(Algorithm::Sha512));
        for none in ["", "sha-256=0", "unixsum=10", "sha-256=11", "sha-256"] {
            assert_eq!(wanted(none), None, "{none}");
        }
    }

    proptest! {
        #[test]
        fn no_field_makes_the_reader_fail(text in "[a-z0-9=:;, -]{0,60}") {
            let _ = (parse(&text), wanted(&text));
        }
    }
}

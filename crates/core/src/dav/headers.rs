//! Headers of WebDAV (RFC 4918, section 10), and the parts of an address.

use percent_encoding::percent_decode_str;

/// How far down a request reaches.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Depth {
    /// The thing itself.
    Zero,
    /// With what lies in it.
    One,
    /// With all beneath.
    Infinity,
}

/// Reads a Depth header; `None`: malformed.
pub fn depth(value: &str) -> Option<Depth> {
    match value.trim() {
        "0" => Some(Depth::Zero),
        "1" => Some(Depth::One),
        other if other.eq_ignore_ascii_case("infinity") => Some(Depth::Infinity),
        _ => None,
    }
}

/// Reads an Overwrite header: whether what stands at the destination may be replaced. `None`: malformed.
pub fn overwrite(value: Option<&str>) -> Option<bool> {
    match value.map(str::trim) {
        None | Some("T" | "t") => Some(true),
        Some("F" | "f") => Some(false),
        Some(_) => None,
    }
}

/// Reads a Timeout header: the first wish that can be understood, in seconds. A lock that is to live
/// for ever asks for the most there is.
pub fn timeout(value: &str) -> Option<u64> {
    value.split(',').map(str::trim).find_map(|wish| {
        if wish.eq_ignore_ascii_case("infinite") {
            return Some(u64::MAX);
        }
        let (word, seconds) = wish.split_at_checked(7)?;
        (word.eq_ignore_ascii_case("second-") && seconds.bytes().all(|b| b.is_ascii_digit()))
            .then(|| seconds.parse().unwrap_or(u64::MAX))
            .filter(|_| !seconds.is_empty())
    })
}

/// Why an address is no place of ours.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum AddressError {
    /// Not to be read as an address.
    #[error("it is no address")]
    Malformed,
    /// Another server, or another part of this one.
    #[error("it lies elsewhere")]
    Elsewhere,
    /// A part of it is no UTF-8.
    #[error("a name in it is not UTF-8")]
    NotUtf8,
    /// `#` or `?`: a fragment or a query names no place.
    #[error("it contains # or ?; in a name they are sent as %23 and %3F")]
    Unencoded,
    /// `.` or `..`: nobody means that.
    #[error("it contains . or ..")]
    Dots,
}

/// The parts of a path as they are sent: parted at slashes, then decoded. A name that contains an
/// encoded slash stays one part, and is refused as a name later.
pub fn parts(path: &str) -> Result<Vec<String>, AddressError> {
    let mut found = Vec::new();
    for part in path.split('/').filter(|p| !p.is_empty()) {
        let name = percent_decode_str(part).decode_utf8().map_err(|_| AddressError::NotUtf8)?;
        if name == "." || name == ".." {
            return Err(AddressError::Dots);
        }
        found.push(name.into_owned());
    }
    Ok(found)
}

/// The parts behind `prefix` of an address in a header: absolute, with one of our own hosts, or a path.
pub fn address(
    value: &str,
    prefix: &str,
    is_own: impl Fn(&str) -> bool,
) -> Result<Vec<String>, AddressError> {
    let value = value.trim();
    let path = if value.starts_with('/') {
        if value.starts_with("//") {
            return Err(AddressError::Elsewhere);
        }
        value
    } else {
        let (scheme, rest) = value.split_once("://").ok_or(AddressError::Malformed)?;
        if !scheme.eq_ignore_ascii_case("http") && !scheme.eq_ignore_ascii_case("https") {
            return Err(AddressError::Elsewhere);
        }
        let end = rest.find(['/', '?', '#']).unwrap_or(rest.len());
        let (authority, path) = rest.split_at(end);
        let host = authority.rsplit_once('@').map_or(authority, |(_, host)| host);
        if host.is_empty() {
            return Err(AddressError::Malformed);
        }
        if !is_own(host) {
            return Err(AddressError::Elsewhere);
        }
        if path.is_empty() { "/" } else { path }
    };
    // A client that did not encode a name means another place than what would be left of it.
    if path.contains(['?', '#']) {
        return Err(AddressError::Unencoded);
    }
    if path.bytes().any(|b| b < 0x21 || b == 0x7f) {
        return Err(AddressError::Malformed);
    }
    match path.strip_prefix(prefix) {
        Some(rest) if rest.is_empty() || rest.starts_with('/') => parts(rest),
        _ => Err(AddressError::Elsewhere),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn small_headers_are_read_as_the_standard_has_them() {
        assert_eq!(depth("0"), Some(Depth::Zero));
        assert_eq!(depth("Infinity"), Some(Depth::Infinity));
        assert_eq!(depth("2"), None);
        assert_eq!(overwrite(None), Some(true));
        assert_eq!(overwrite(Some("F")), Some(false));
        assert_eq!(overwrite(Some("yes")), None);
        assert_eq!(timeout("Infinite, Second-4100000000"), Some(u64::MAX));
        assert_eq!(timeout("Extend-1, Second-60"), Some(60));
        assert_eq!(timeout("Second-99999999999999999999999"), Some(u64::MAX));
        for none in ["", "Second-", "Second-x", "Second--1", "Sec"] {
            assert_eq!(timeout(none), None, "{none}");
        }
    }

    #[test]
    fn a_destination_is_a_place_of_ours_or_refused() {
        let own = |host: &str| host == "attic.example:8470";
        let read = |text: &str| address(text, "/dav", own);
        assert_eq!(read("/dav/home/a%20b/"), Ok(vec!["home".into(), "a b".into()]));
        assert_eq!(read("http://attic.example:8470/dav/home/%C3%A4"), Ok(vec!["home".into(), "ä".into()]));
        assert_eq!(read("https://ines@attic.example:8470/dav"), Ok(vec![]));
        for (text, why) in [
            ("http://elsewhere.example/dav/home/a", AddressError::Elsewhere),
            ("ftp://attic.example:8470/dav/home/a", AddressError::Elsewhere),
            ("//elsewhere.example/dav/home", AddressError::Elsewhere),
            ("/davide/home", AddressError::Elsewhere),
            ("/api/v1/shelves", AddressError::Elsewhere),
            ("http://attic.example:8470/dav/home/a?x", AddressError::Unencoded),
            ("/dav/home/a#y", AddressError::Unencoded),
            ("dav/home", AddressError::Malformed),
            ("", AddressError::Malformed),
            ("/dav/home/a b", AddressError::Malformed),
            ("/dav/home/%ff", AddressError::NotUtf8),
            ("/dav/home/%2e%2e/other", AddressError::Dots),
            ("/dav/home/../other", AddressError::Dots),
        ] {
            assert_eq!(read(text), Err(why), "{text}");
        }
        assert_eq!(read("/dav/home/a%2Fb"), Ok(vec!["home".into(), "a/b".into()]));
    }

    proptest! {
        #[test]
        fn no_header_makes_a_reader_fail(text in "\\PC{0,60}") {
            let _ = (depth(&text), overwrite(Some(&text)), timeout(&text));
            if let Ok(names) = address(&text, "/dav", |_| true) {
                prop_assert!(names.iter().all(|n| n != ".." && n != "." && !n.is_empty()));
            }
        }
    }
}

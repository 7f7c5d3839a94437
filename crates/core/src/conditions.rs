//! Conditional requests: If-Match and If-None-Match (RFC 9110, section 13).

/// The tag of a file's bytes, quoted as it stands in an ETag header.
pub fn etag(hash: &[u8; 32]) -> String {
    let mut tag = String::with_capacity(34);
    tag.push('"');
    for byte in &hash[..16] {
        tag.push(char::from_digit(u32::from(byte >> 4), 16).unwrap_or('0'));
        tag.push(char::from_digit(u32::from(byte & 15), 16).unwrap_or('0'));
    }
    tag.push('"');
    tag
}

/// What a list of tags asks for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Tags {
    /// `*`: anything at all.
    Any,
    /// One of these, without their quotes.
    OneOf(Vec<String>),
}

/// Reads the value of an If-Match or If-None-Match header. Weak tags are kept out: they
/// never match where bytes are replaced. `None`: malformed.
pub fn parse_tags(value: &str) -> Option<Tags> {
    if value.trim() == "*" {
        return Some(Tags::Any);
    }
    let mut tags = Vec::new();
    for part in value.split(',') {
        let part = part.trim();
        let (weak, quoted) = match part.strip_prefix("W/") {
            Some(rest) => (true, rest),
            None => (false, part),
        };
        let tag = quoted.strip_prefix('"')?.strip_suffix('"')?;
        if tag.contains('"') {
            return None;
        }
        if !weak {
            tags.push(tag.to_string());
        }
    }
    Some(Tags::OneOf(tags))
}

/// What a write demands of what stands there. Both are checked at the start and again at
/// the commit.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct Conditions {
    /// If-Match: the present state must be one of these.
    pub if_match: Option<Tags>,
    /// If-None-Match: the present state must be none of these.
    pub if_none_match: Option<Tags>,
}

impl Conditions {
    /// Whether a write may go on, given the tag of what stands there.
    pub fn hold(&self, present: Option<&str>) -> bool {
        let matches = |tags: &Tags| match (tags, present) {
            (_, None) => false,
            (Tags::Any, Some(_)) => true,
            (Tags::OneOf(tags), Some(present)) => tags.iter().any(|t| t == present.trim_matches('"')),
        };
        self.if_match.as_ref().is_none_or(matches) && !self.if_none_match.as_ref().is_some_and(matches)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tags_are_read_as_the_standard_has_them() {
        assert_eq!(parse_tags("*"), Some(Tags::Any));
        assert_eq!(parse_tags(r#""a", W/"b","c""#), Some(Tags::OneOf(vec!["a".into(), "c".into()])));
        for bad in ["", "a", "\"a", "\"a\"b\""] {
            assert_eq!(parse_tags(bad), None, "{bad}");
        }
    }

    #[test]
    fn a_write_goes_on_only_if_its_conditions_hold() {
        let hash = [0xab; 32];
        let tag = etag(&hash);
        let same = Conditions { if_match: parse_tags(&tag), if_none_match: None };
        assert!(same.hold(Some(&tag)));
        assert!(!same.hold(Some(&etag(&[1; 32]))));
        assert!(!same.hold(None));
        let new = Conditions { if_match: None, if_none_match: Some(Tags::Any) };
        assert!(new.hold(None));
        assert!(!new.hold(Some(&tag)));
        assert!(Conditions::default().hold(None));
    }
}

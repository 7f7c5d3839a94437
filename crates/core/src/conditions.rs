//! Conditional requests: If-Match, If-None-Match, If-Unmodified-Since, If-Modified-Since (RFC 9110, section 13).

use crate::{Moment, NodeId};

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

/// Reads the value of an If-Match header. Weak tags are kept out: they never match where bytes are replaced (strong
/// comparison, RFC 9110, section 8.8.3.2). `None`: malformed.
pub fn parse_tags(value: &str) -> Option<Tags> {
    parse(value, false)
}

/// Reads the value of an If-None-Match header, which compares weakly: a tag that somebody on the way made weak is the
/// same one.
pub fn parse_tags_weakly(value: &str) -> Option<Tags> {
    parse(value, true)
}

fn parse(value: &str, weakly: bool) -> Option<Tags> {
    if value.trim() == "*" {
        return Some(Tags::Any);
    }
    let mut tags = Vec::new();
    // Empty elements of a list mean nothing (section 5.6.1).
    for part in value.split(',').map(str::trim).filter(|part| !part.is_empty()) {
        let (weak, quoted) = match part.strip_prefix("W/") {
            Some(rest) => (true, rest),
            None => (false, part),
        };
        let tag = quoted.strip_prefix('"')?.strip_suffix('"')?;
        if tag.contains('"') {
            return None;
        }
        if !weak || weakly {
            tags.push(tag.to_string());
        }
    }
    match value.trim().is_empty() {
        true => None,
        false => Some(Tags::OneOf(tags)),
    }
}

/// What stands there, as far as conditions ask.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Standing {
    /// Which thing it is.
    pub node: NodeId,
    /// The number since which it is as it is.
    pub since: Moment,
    /// The tag of its bytes, quoted; a folder has none.
    pub tag: Option<String>,
    /// Its own time, which Last-Modified tells, in milliseconds.
    pub mtime: i64,
    /// When it came to be as it is, in milliseconds.
    pub at: i64,
}

impl Standing {
    fn is_one_of(&self, tags: &Tags) -> bool {
        match (tags, &self.tag) {
            (Tags::Any, _) => true,
            (Tags::OneOf(_), None) => false,
            (Tags::OneOf(tags), Some(tag)) => tags.iter().any(|t| t == tag.trim_matches('"')),
        }
    }

    /// Whether it is as it was at a second that a caller names. People set times of files back, and then a later state
    /// has an earlier time: so it is as it was if its time is the very one named, or if nothing has happened to it since.
    fn unmodified_since(&self, second: i64) -> bool {
        let of = |ms: i64| ms.div_euclid(1000);
        of(self.mtime) == second || (of(self.mtime) <= second && of(self.at) <= second)
    }
}

/// Which thing a caller means to write.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Thing {
    /// One that is not there yet.
    New,
    /// This one.
    Node(NodeId),
}

/// A name that a caller gives a request, so that its repeat is known: 128 bits of a hash of what was sent.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct RequestId(pub [u8; 16]);

impl RequestId {
    /// Of a text of the caller's own.
    pub fn of(text: &str) -> RequestId {
        let mut id = [0; 16];
        id.copy_from_slice(&blake3::hash(text.as_bytes()).as_bytes()[..16]);
        RequestId(id)
    }
}

/// What a program that keeps a tree in step says of a write. Where it says which thing it writes, nothing is guessed of
/// how programs save.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct Known {
    /// Which thing it is.
    pub thing: Option<Thing>,
    /// The last moment that the caller knows of: nothing may have happened to the thing since, nor, where a folder is
    /// removed, to anything beneath it.
    pub seen: Option<Moment>,
    /// What stands at the target of a move, and the last moment that the caller knows of it.
    pub onto: Option<(NodeId, Moment)>,
    /// The request's own name.
    pub request: Option<RequestId>,
}

impl Known {
    /// Whether the caller says what it writes.
    pub fn says_which(&self) -> bool {
        self.thing.is_some() || self.seen.is_some() || self.onto.is_some()
    }

    fn holds(&self, present: Option<&Standing>) -> bool {
        let thing = match (self.thing, present) {
            (None, _) | (Some(Thing::New), None) => true,
            (Some(Thing::New), Some(_)) | (Some(Thing::Node(_)), None) => false,
            (Some(Thing::Node(node)), Some(present)) => present.node == node,
        };
        let newer = |seen: Moment| present.is_some_and(|p| p.since > seen);
        thing && !self.seen.is_some_and(newer)
    }
}

/// What a request demands of what stands there (RFC 9110, section 13). For a write checked at the start and again at the
/// commit.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct Conditions {
    /// If-Match: the present state must be one of these.
    pub if_match: Option<Tags>,
    /// If-None-Match: the present state must be none of these.
    pub if_none_match: Option<Tags>,
    /// If-Unmodified-Since, in seconds. It counts where there is no If-Match.
    pub if_unmodified_since: Option<i64>,
    /// If-Modified-Since, in seconds, for reads. It counts where there is no If-None-Match.
    pub if_modified_since: Option<i64>,
    /// What the caller knows of what it writes.
    pub known: Known,
}

/// What a conditional read is answered with.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ReadAnswer {
    /// What was asked for.
    Send,
    /// 304: the caller has it.
    NotModified,
    /// 412: it is not what the caller means.
    Failed,
}

impl Conditions {
    /// Only where nothing stands yet.
    pub fn nothing_there() -> Conditions {
        Conditions { if_none_match: Some(Tags::Any), ..Conditions::default() }
    }

    /// Whether a write may go on, given what stands there.
    pub fn hold(&self, present: Option<&Standing>) -> bool {
        self.first(present)
            && self.known.holds(present)
            && !self.if_none_match.as_ref().is_some_and(|tags| present.is_some_and(|p| p.is_one_of(tags)))
    }

    /// If-Match, else If-Unmodified-Since.
    fn first(&self, present: Option<&Standing>) -> bool {
        match (&self.if_match, self.if_unmodified_since, present) {
            (Some(tags), ..) => present.is_some_and(|p| p.is_one_of(tags)),
            (None, Some(second), Some(present)) => present.unmodified_since(second),
            // What is not there has no time.
            _ => true,
        }
    }

    /// What to answer to a read of what stands there.
    pub fn read(&self, present: &Standing) -> ReadAnswer {
        if !self.first(Some(present)) {
            return ReadAnswer::Failed;
        }
        let known = match (&self.if_none_match, self.if_modified_since) {
            (Some(tags), _) => present.is_one_of(tags),
            (None, Some(second)) => present.unmodified_since(second),
            (None, None) => false,
        };
        if known { ReadAnswer::NotModified } else { ReadAnswer::Send }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn tags_are_read_as_the_standard_has_them() {
        assert_eq!(parse_tags("*"), Some(Tags::Any));
        assert_eq!(parse_tags(r#""a", W/"b",, "c","#), Some(Tags::OneOf(vec!["a".into(), "c".into()])));
        assert_eq!(parse_tags_weakly(r#"W/"b", "c""#), Some(Tags::OneOf(vec!["b".into(), "c".into()])));
        for bad in ["", "a", "\"a", "\"a\"b\""] {
            assert_eq!(parse_tags(bad), None, "{bad}");
        }
    }

    fn standing(hash: u8, mtime: i64, at: i64) -> Standing {
        Standing { node: NodeId(1), since: Moment(1), tag: Some(etag(&[hash; 32])), mtime, at }
    }

    #[test]
    fn a_write_goes_on_only_if_its_conditions_hold() {
        let there = standing(0xab, 5_000, 9_000);
        let same = Conditions { if_match: parse_tags(&etag(&[0xab; 32])), ..Conditions::default() };
        assert!(same.hold(Some(&there)));
        assert!(!same.hold(Some(&standing(1, 5_000, 9_000))));
        assert!(!same.hold(None));
        let folder = Standing { node: NodeId(1), since: Moment(1), tag: None, mtime: 0, at: 0 };
        assert!(Conditions::nothing_there().hold(None));
        assert!(!Conditions::nothing_there().hold(Some(&there)));
        assert!(!Conditions::nothing_there().hold(Some(&folder)));
        let some = Conditions { if_match: Some(Tags::Any), ..Conditions::default() };
        assert!(some.hold(Some(&folder)));
        assert!(Conditions::default().hold(None));
    }

    #[test]
    fn a_time_set_back_does_not_make_a_later_state_an_earlier_one() {
        let since = |second| Conditions { if_unmodified_since: Some(second), ..Conditions::default() };
        // The caller saw a state of second 5, which was put at 9.
        assert!(since(5).hold(Some(&standing(1, 5_400, 9_000))));
        // A later one, put at 20, has the time 3.
        assert!(!since(5).hold(Some(&standing(2, 3_000, 20_000))));
        // By the caller's own clock, later than all that happened.
        assert!(since(21).hold(Some(&standing(2, 3_000, 20_000))));
        assert!(!since(5).hold(Some(&standing(2, 6_000, 20_000))));
        // What is not there has no time; where there is an If-Match, it alone counts.
        assert!(since(5).hold(None));
        let both = Conditions { if_match: Some(Tags::Any), ..since(1) };
        assert!(both.hold(Some(&standing(2, 6_000, 20_000))));
    }

    proptest! {
        #[test]
        fn a_read_is_never_told_that_it_has_what_differs(
            mine in 0u8..3, theirs in 0u8..3, at in 0i64..9, saw in 0i64..9, weak: bool
        ) {
            let there = standing(theirs, at * 1000, at * 1000);
            let tag = etag(&[mine; 32]);
            let tags = parse_tags_weakly(&if weak { format!("W/{tag}") } else { tag });
            let asked = Conditions { if_none_match: tags, if_modified_since: Some(saw), ..Conditions::default() };
            prop_assert_eq!(asked.read(&there) == ReadAnswer::NotModified, mine == theirs);
            let by_time = Conditions { if_modified_since: Some(saw), ..Conditions::default() };
            prop_assert_eq!(by_time.read(&there) == ReadAnswer::NotModified, at <= saw);
            let guarded = Conditions { if_unmodified_since: Some(saw), ..by_time };
            prop_assert_eq!(guarded.read(&there) == ReadAnswer::Failed, at > saw);
        }
    }
}

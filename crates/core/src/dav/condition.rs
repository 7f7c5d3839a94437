//! The If header (RFC 4918, section 10.4): lists of conditions, for the thing asked or for others.

/// The most lists, and conditions in all, that a header may have: no client sends more than a few.
const MOST: usize = 256;

/// What must hold of a thing, or not.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Condition {
    /// Whether it must not hold.
    pub not: bool,
    /// What.
    pub what: What,
}

/// What a condition speaks of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum What {
    /// It is locked by this token.
    Token(String),
    /// Its bytes have this tag, without its quotes; none for a weak one, which never matches.
    Tag(Option<String>),
}

/// A list: all of it must hold of one thing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct List {
    /// The address of the thing; none for the one that is asked for.
    pub of: Option<String>,
    /// What must hold.
    pub all: Vec<Condition>,
}

/// What stands at an address, for deciding.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Facts {
    /// Tokens of the locks that hold there.
    pub tokens: Vec<String>,
    /// The tag of its bytes, with or without its quotes.
    pub tag: Option<String>,
}

/// An If header: one of its lists must hold.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct If(pub Vec<List>);

struct Scan<'t>(&'t str);

impl<'t> Scan<'t> {
    fn skip(&mut self) {
        self.0 = self.0.trim_start_matches([' ', '\t', '\r', '\n']);
    }

    fn take(&mut self, what: &str) -> bool {
        self.skip();
        match self.0.strip_prefix(what) {
            Some(rest) => {
                self.0 = rest;
                true
            }
            None => false,
        }
    }

    fn until(&mut self, end: char) -> Option<&'t str> {
        let (found, rest) = self.0.split_once(end)?;
        self.0 = rest;
        Some(found)
    }

    fn not(&mut self) -> bool {
        self.skip();
        match self.0.split_at_checked(3) {
            Some((word, rest)) if word.eq_ignore_ascii_case("not") => {
                self.0 = rest;
                true
            }
            _ => false,
        }
    }
}

impl If {
    /// Reads it; `None`: malformed.
    pub fn read(value: &str) -> Option<If> {
        let mut scan = Scan(value);
        let (mut lists, mut of, mut count) = (Vec::new(), None, 0);
        // Lists of the thing asked and lists of named things are not mixed.
        let tagged = value.trim_start().starts_with('<');
        scan.skip();
        while !scan.0.is_empty() {
            if tagged && scan.take("<") {
                let address = scan.until('>')?;
                if address.is_empty() {
                    return None;
                }
                of = Some(address.to_string());
                if !scan.take("(") {
                    return None;
                }
            } else if !scan.take("(") {
                return None;
            }
            let mut all = Vec::new();
            while !scan.take(")") {
                let not = scan.not();
                let what = if scan.take("<") {
                    What::Token(scan.until('>').filter(|t| !t.is_empty())?.to_string())
                } else if scan.take("[") {
                    let tag = scan.until(']')?.trim();
                    let (weak, quoted) = match tag.strip_prefix("W/") {
                        Some(rest) => (true, rest),
                        None => (false, tag),
                    };
                    let tag = quoted.strip_prefix('"')?.strip_suffix('"')?;
                    What::Tag((!weak).then(|| tag.to_string()))
                } else {
                    return None;
                };
                all.push(Condition { not, what });
                count += 1;
                if count > MOST {
                    return None;
                }
            }
            if all.is_empty() {
                return None;
            }
            lists.push(List { of: of.clone(), all });
            scan.skip();
        }
        (!lists.is_empty()).then_some(If(lists))
    }

    /// Every token that it names: what the sender claims to hold.
    pub fn tokens(&self) -> impl Iterator<Item = &str> {
        self.0.iter().flat_map(|l| &l.all).filter_map(|c| match &c.what {
            What::Token(token) => Some(token.as_str()),
            What::Tag(_) => None,
        })
    }

    /// Whether it holds; `facts` are those of each list's thing, in order.
    pub fn holds(&self, facts: &[Facts]) -> bool {
        self.0.iter().zip(facts).any(|(list, facts)| {
            list.all.iter().all(|c| {
                let is = match &c.what {
                    What::Token(token) => facts.tokens.iter().any(|t| t == token),
                    What::Tag(None) => false,
                    What::Tag(Some(tag)) => facts.tag.as_deref().is_some_and(|t| t.trim_matches('"') == tag),
                };
                is != c.not
            })
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn facts(tokens: &[&str], tag: &str) -> Facts {
        Facts { tokens: tokens.iter().map(|t| t.to_string()).collect(), tag: Some(tag.into()) }
    }

    #[test]
    fn the_examples_of_the_standard_are_decided_as_it_says() {
        // 10.4.6, 10.4.7, 10.4.8 and 10.4.9 of RFC 4918.
        let one = If::read(
            r#"(<urn:uuid:181d4fae-7d8c-11d0-a765-00a0c91e6bf2> ["I am an ETag"]) (["I am another ETag"])"#,
        )
        .unwrap();
        let lock = "urn:uuid:181d4fae-7d8c-11d0-a765-00a0c91e6bf2";
        let at = |f: &Facts| vec![f.clone(), f.clone()];
        assert!(one.holds(&at(&facts(&[lock], "\"I am an ETag\""))));
        assert!(one.holds(&at(&facts(&[], "I am another ETag"))));
        assert!(!one.holds(&at(&facts(&[lock], "else"))));
        let not = If::read("(Not <urn:uuid:a> <urn:uuid:b>)").unwrap();
        assert!(not.holds(&[facts(&["urn:uuid:b"], "")]));
        assert!(!not.holds(&[facts(&["urn:uuid:a", "urn:uuid:b"], "")]));
        let always = If::read("(<urn:uuid:a>) (Not <DAV:no-lock>)").unwrap();
        assert!(always.holds(&[facts(&[], ""), facts(&[], "")]));
        let tagged =
            If::read(r#"</one> (<urn:uuid:a> [W/"weak"]) (["strong"]) <http://a.example/two> (["x"])"#)
                .unwrap();
        assert_eq!(tagged.0.len(), 3);
        assert_eq!(tagged.0[1].of.as_deref(), Some("/one"));
        assert_eq!(tagged.0[2].of.as_deref(), Some("http://a.example/two"));
        assert_eq!(tagged.tokens().collect::<Vec<_>>(), ["urn:uuid:a"]);
        assert!(!tagged.holds(&[facts(&["urn:uuid:a"], "weak"), facts(&[], ""), facts(&[], "")]));
    }

    #[test]
    fn headers_that_no_client_should_send_are_refused() {
        for bad in [
            "",
            " ",
            "()",
            "(",
            "(<>)",
            "<urn:a>",
            "(<urn:a>",
            "([\"a\")",
            "([a])",
            "(<urn:a>) x",
            "(Not)",
            "(<urn:a>) <http://a.example/> (<urn:b>)",
            "</a> </b> (<urn:a>)",
        ] {
            assert_eq!(If::read(bad), None, "{bad}");
        }
        assert_eq!(If::read(&"(<urn:a>)".repeat(MOST + 1)), None);
        assert!(If::read(&"(<urn:a>)".repeat(MOST)).is_some());
    }

    fn written(list: &[(bool, bool, String)]) -> String {
        let one = |(not, token, text): &(bool, bool, String)| {
            let not = if *not { "Not " } else { "" };
            if *token { format!("{not}<urn:{text}>") } else { format!("{not}[\"{text}\"]") }
        };
        format!("({})", list.iter().map(one).collect::<Vec<_>>().join(" "))
    }

    proptest! {
        #[test]
        fn no_text_makes_the_reader_fail(text in "[(<>)\\[\\]\"NotW/ a-c:]{0,40}") {
            let _ = If::read(&text);
        }

        #[test]
        fn what_is_written_is_read_and_decided_the_same(
            lists in prop::collection::vec(prop::collection::vec((any::<bool>(), any::<bool>(), "[ab]"), 1..4), 1..4),
            tokens in prop::collection::vec("urn:[ab]", 0..3), tag in prop::option::of("[ab]"),
        ) {
            let text: String = lists.iter().map(|l| written(l)).collect::<Vec<_>>().join(" ");
            let read = If::read(&text).expect("it is well-formed");
            let facts = Facts { tokens: tokens.clone(), tag: tag.clone() };
            let wanted = lists.iter().any(|list| list.iter().all(|(not, token, text)| {
                let is = if *token { tokens.contains(&format!("urn:{text}")) } else { tag.as_ref() == Some(text) };
                is != *not
            }));
            prop_assert_eq!(read.holds(&vec![facts; lists.len()]), wanted);
        }
    }
}

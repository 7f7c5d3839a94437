//! The order of names in lists, as a key that compares byte by byte.
//!
//! Letters compare without case, runs of digits by their value (`p9` before `p10`). The
//! key ends with the name itself, so two names have one key only if they are one name:
//! one index serves both the order and the look-up.

use crate::name::Name;
use unicode_casefold::UnicodeCaseFold;
use unicode_normalization::UnicodeNormalization;

/// The key of a name. Keys sort as the names are shown; they are valid UTF-8.
pub fn sort_key(name: &Name) -> String {
    let text = name.as_str();
    match text.is_ascii() {
        // The same for these, without a look into the tables.
        true => key_of(text, text.bytes().map(|b| char::from(b.to_ascii_lowercase()))),
        false => key_of(text, text.case_fold()),
    }
}

fn key_of(text: &str, folded: impl Iterator<Item = char>) -> String {
    let mut key = String::with_capacity(text.len() * 2 + 8);
    let mut chars = folded.peekable();
    let mut digits = String::new();
    while let Some(c) = chars.next() {
        if !c.is_ascii_digit() {
            key.push(c);
            continue;
        }
        digits.clear();
        digits.push(c);
        while let Some(d) = chars.next_if(char::is_ascii_digit) {
            digits.push(d);
        }
        let value = digits.trim_start_matches('0');
        // The count of digits first, so that a longer number is larger: '0' + count, in the
        // range of digits and letters' low neighbours. A name has at most 255 bytes.
        key.push('0');
        key.push(char::from_u32(0x20 + value.len() as u32).unwrap_or(' '));
        key.push_str(value);
    }
    key.push('\u{1}');
    key.push_str(text);
    key
}

/// A text as names are compared with it: without case.
pub fn fold(text: &str) -> String {
    text.case_fold().collect()
}

/// A text as it looks: two that differ only by case, width, spaces or look-alike characters (UTS 39)
/// are the same.
pub fn looks(text: &str) -> String {
    let plain: String = text.nfkc().collect::<String>().case_fold().collect();
    let spaced = plain.split_whitespace().collect::<Vec<_>>().join(" ");
    unicode_security::skeleton(&spaced).collect()
}

/// The runs of digits and of anything else in a folded text. A key that holds the name of
/// something holds each of these.
pub fn pieces(folded: &str) -> Vec<String> {
    let mut found: Vec<String> = Vec::new();
    let mut digits = None;
    for c in folded.chars() {
        match found.last_mut() {
            Some(piece) if digits == Some(c.is_ascii_digit()) => piece.push(c),
            _ => found.push(c.to_string()),
        }
        digits = Some(c.is_ascii_digit());
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_that_look_alike_are_found_out() {
        for alike in ["READERS", "  Readers ", "\u{ff32}eaders", "R\u{435}aders"] {
            assert_eq!(looks(alike), looks("Readers"), "{alike}");
        }
        for other in ["Reader", "Front desk", "Re aders"] {
            assert_ne!(looks(other), looks("Readers"), "{other}");
        }
    }
    use proptest::prelude::*;

    fn key(text: &str) -> String {
        sort_key(&Name::new(text).unwrap())
    }

    #[test]
    fn names_sort_as_people_expect() {
        let wanted = ["a", "A b", "ab", "p9.png", "p10.png", "p100.png", "Q", "Übung", "zebra"];
        let mut sorted = wanted.to_vec();
        sorted.sort_by_key(|n| key(n));
        assert_eq!(sorted, ["a", "A b", "ab", "p9.png", "p10.png", "p100.png", "Q", "zebra", "Übung"]);
    }

    proptest! {
        #[test]
        fn a_key_holds_every_piece_of_every_part_of_its_name(name in "[a-zA-Z0-9éßÄ ._-]{1,20}", from in 0usize..10, length in 1usize..8) {
            if let Ok(name) = Name::new(&name) {
                let part: String = name.as_str().chars().skip(from).take(length).collect();
                if fold(name.as_str()).contains(&fold(&part)) {
                    for piece in pieces(&fold(&part)) {
                        prop_assert!(sort_key(&name).contains(&piece), "{} in {:?}", piece, sort_key(&name));
                    }
                }
            }
        }

        #[test]
        fn different_names_have_different_keys(a in "[a-cA-C0-2é ]{1,6}", b in "[a-cA-C0-2é ]{1,6}") {
            prop_assert_eq!(a == b, key(&a) == key(&b));
        }

        #[test]
        fn numbers_sort_by_value(a in 0u64..1_000_000, b in 0u64..1_000_000) {
            let (ka, kb) = (key(&format!("p{a}.png")), key(&format!("p{b}.png")));
            prop_assert_eq!(a.cmp(&b), ka.cmp(&kb));
        }
    }
}

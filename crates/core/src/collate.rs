//! The order of names in lists, as a key that compares byte by byte.
//!
//! Letters compare without case, runs of digits by their value (`p9` before `p10`). The
//! key ends with the name itself, so two names have one key only if they are one name:
//! one index serves both the order and the look-up.

use crate::name::Name;
use unicode_casefold::UnicodeCaseFold;

/// The key of a name. Keys sort as the names are shown; they are valid UTF-8.
pub fn sort_key(name: &Name) -> String {
    let text = name.as_str();
    let mut key = String::with_capacity(text.len() * 2 + 4);
    let mut chars = text.case_fold().peekable();
    while let Some(c) = chars.next() {
        if !c.is_ascii_digit() {
            key.push(c);
            continue;
        }
        let mut digits = String::from(c);
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

#[cfg(test)]
mod tests {
    use super::*;
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

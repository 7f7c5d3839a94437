//! Byte ranges (RFC 9110, section 14).

/// What a Range header asks of a file of known size.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Asked {
    /// The whole file: no header, a unit other than bytes, several ranges, or malformed.
    Whole,
    /// This many bytes from this offset; never empty.
    Part {
        /// The first byte.
        from: u64,
        /// How many.
        length: u64,
    },
    /// Nothing of the file lies in the range (status 416).
    Outside,
}

/// Reads a Range header. Several ranges are answered with the whole file, which the
/// standard allows.
pub fn parse(header: Option<&str>, size: u64) -> Asked {
    let Some(spec) = header.and_then(|h| h.trim().strip_prefix("bytes=")) else {
        return Asked::Whole;
    };
    let Some((first, last)) = spec.split_once('-') else {
        return Asked::Whole;
    };
    let number = |text: &str| -> Option<u64> {
        if text.is_empty() || !text.bytes().all(|b| b.is_ascii_digit()) { None } else { text.parse().ok() }
    };
    match (first.trim(), last.trim()) {
        ("", last) => match number(last) {
            None => Asked::Whole,
            Some(0) => Asked::Outside,
            Some(_) if size == 0 => Asked::Outside,
            Some(n) => Asked::Part { from: size.saturating_sub(n), length: n.min(size) },
        },
        (first, last) => match (number(first), number(last)) {
            (None, _) => Asked::Whole,
            (Some(_), None) if !last.is_empty() => Asked::Whole,
            (Some(from), Some(to)) if to < from => Asked::Whole,
            (Some(from), _) if from >= size => Asked::Outside,
            (Some(from), to) => {
                let end = to.map_or(size, |to| to.saturating_add(1).min(size));
                Asked::Part { from, length: end - from }
            }
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn ranges_are_read_as_the_standard_has_them() {
        let part = |from, length| Asked::Part { from, length };
        for (header, wanted) in [
            ("bytes=0-499", part(0, 499 + 1)),
            ("bytes=9500-", part(9500, 500)),
            ("bytes=-500", part(9500, 500)),
            ("bytes=-20000", part(0, 10_000)),
            ("bytes=9999-99999999999999999999", Asked::Whole),
            ("bytes=9999-20000", part(9999, 1)),
            ("bytes=10000-", Asked::Outside),
            ("bytes=-0", Asked::Outside),
            ("bytes=5-2", Asked::Whole),
            ("bytes=0-1,4-5", Asked::Whole),
            ("lines=0-1", Asked::Whole),
            ("bytes=a-b", Asked::Whole),
        ] {
            assert_eq!(parse(Some(header), 10_000), wanted, "{header}");
        }
        assert_eq!(parse(None, 10), Asked::Whole);
        assert_eq!(parse(Some("bytes=0-"), 0), Asked::Outside);
    }

    proptest! {
        #[test]
        fn a_part_is_never_empty_and_never_outside(text in "bytes=[0-9,-]{0,12}", size in 0u64..5000) {
            if let Asked::Part { from, length } = parse(Some(&text), size) {
                prop_assert!(length > 0 && from + length <= size);
            }
        }
    }
}

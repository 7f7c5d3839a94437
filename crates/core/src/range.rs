//! Byte ranges (RFC 9110, section 14).

/// What a Range header asks of a file of known size.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Asked {
    /// The whole file: no header, a unit other than bytes, or malformed.
    Whole,
    /// This many bytes from this offset; never empty.
    Part {
        /// The first byte.
        from: u64,
        /// How many.
        length: u64,
    },
    /// Several parts, in the order asked for: offset and length. None overlaps another.
    Parts(Vec<(u64, u64)>),
    /// Nothing of the file lies in the range (status 416).
    Outside,
}

/// The most parts that are sent for one request; whoever asks for more gets the whole file.
pub const MOST_PARTS: usize = 32;

/// Reads a Range header. Parts that overlap, and more than [`MOST_PARTS`], are answered with the whole file,
/// which the standard allows (section 14.2: such requests are broken clients or attacks).
pub fn parse(header: Option<&str>, size: u64) -> Asked {
    let Some((unit, spec)) = header.and_then(|h| h.trim().split_once('=')) else {
        return Asked::Whole;
    };
    if !unit.trim().eq_ignore_ascii_case("bytes") {
        return Asked::Whole;
    }
    let mut parts = Vec::new();
    let mut any = false;
    for one in spec.split(',').map(str::trim).filter(|o| !o.is_empty()) {
        any = true;
        match parse_one(one, size) {
            One::Malformed => return Asked::Whole,
            One::Outside => {}
            One::Part { from, length } => parts.push((from, length)),
        }
        if parts.len() > MOST_PARTS {
            return Asked::Whole;
        }
    }
    match parts.as_slice() {
        [] if any => Asked::Outside,
        [] => Asked::Whole,
        [(from, length)] => Asked::Part { from: *from, length: *length },
        _ => {
            let mut sorted = parts.clone();
            sorted.sort_unstable();
            match sorted.windows(2).any(|w| w[0].0 + w[0].1 > w[1].0) {
                true => Asked::Whole,
                false => Asked::Parts(parts),
            }
        }
    }
}

enum One {
    Malformed,
    Outside,
    Part { from: u64, length: u64 },
}

fn parse_one(spec: &str, size: u64) -> One {
    let Some((first, last)) = spec.split_once('-') else {
        return One::Malformed;
    };
    let number = |text: &str| -> Option<u64> {
        if text.is_empty() || !text.bytes().all(|b| b.is_ascii_digit()) { None } else { text.parse().ok() }
    };
    match (first.trim(), last.trim()) {
        ("", last) => match number(last) {
            None => One::Malformed,
            Some(0) => One::Outside,
            Some(_) if size == 0 => One::Outside,
            Some(n) => One::Part { from: size.saturating_sub(n), length: n.min(size) },
        },
        (first, last) => match (number(first), number(last)) {
            (None, _) => One::Malformed,
            (Some(_), None) if !last.is_empty() => One::Malformed,
            (Some(from), Some(to)) if to < from => One::Malformed,
            (Some(from), _) if from >= size => One::Outside,
            (Some(from), to) => {
                let end = to.map_or(size, |to| to.saturating_add(1).min(size));
                One::Part { from, length: end - from }
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
            ("bytes=4-5, 0-1", Asked::Parts(vec![(4, 2), (0, 2)])),
            ("bytes=0-1,20000-", part(0, 2)),
            ("bytes=0-5,5-9", Asked::Whole),
            ("bytes=0-1,x", Asked::Whole),
            ("bytes=,", Asked::Whole),
            ("BYTES=0-1", part(0, 2)),
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
            match parse(Some(&text), size) {
                Asked::Part { from, length } => prop_assert!(length > 0 && from + length <= size),
                Asked::Parts(parts) => {
                    prop_assert!(parts.len() > 1 && parts.iter().all(|(f, n)| *n > 0 && f + n <= size));
                    prop_assert!(parts.iter().map(|(_, n)| n).sum::<u64>() <= size);
                }
                Asked::Whole | Asked::Outside => {}
            }
        }
    }
}

//! Colours that an organisation chooses, and what can be read on them.

/// Reads `#F5B916`.
pub fn read_colour(text: &str) -> Option<[u8; 3]> {
    let digits = text.trim().strip_prefix('#')?;
    if digits.len() != 6 || !digits.is_ascii() {
        return None;
    }
    // A sign would be read as part of a number.
    let part = |at: usize| {
        let two = digits.get(at..at + 2).filter(|t| t.bytes().all(|b| b.is_ascii_hexdigit()))?;
        u8::from_str_radix(two, 16).ok()
    };
    Some([part(0)?, part(2)?, part(4)?])
}

/// Relative luminance (WCAG 2.2), 0 to 1.
fn luminance([r, g, b]: [u8; 3]) -> f64 {
    let linear = |c: u8| {
        let c = f64::from(c) / 255.0;
        if c <= 0.040_45 { c / 12.92 } else { ((c + 0.055) / 1.055).powf(2.4) }
    };
    0.2126 * linear(r) + 0.7152 * linear(g) + 0.0722 * linear(b)
}

/// The contrast of two colours (WCAG 2.2), 1 to 21.
pub fn contrast(a: [u8; 3], b: [u8; 3]) -> f64 {
    let (a, b) = (luminance(a), luminance(b));
    (a.max(b) + 0.05) / (a.min(b) + 0.05)
}

/// Dark ink.
pub const INK: [u8; 3] = [0x20, 0x1d, 0x18];
/// White.
pub const WHITE: [u8; 3] = [0xff; 3];

/// Whether dark text is read better on a colour than white.
pub fn wants_dark_text(colour: [u8; 3]) -> bool {
    contrast(colour, INK) >= contrast(colour, WHITE)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn colours_are_read_or_refused() {
        assert_eq!(read_colour("#F5B916"), Some([0xf5, 0xb9, 0x16]));
        for wrong in ["F5B916", "#F5B91", "#F5B9166", "#GGGGGG", "", "#+1+1+1"] {
            assert_eq!(read_colour(wrong), None, "{wrong}");
        }
        assert!((contrast([0; 3], WHITE) - 21.0).abs() < 0.01);
    }

    proptest! {
        #[test]
        fn whatever_is_chosen_can_be_read(colour: [u8; 3]) {
            let on = if wants_dark_text(colour) { INK } else { WHITE };
            // The worst grey still lets one of them be read: AA for large text, and nearly that for small.
            prop_assert!(contrast(colour, on) >= 4.0);
        }
    }
}

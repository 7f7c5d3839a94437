//! Sizes as people read them.

/// A size in binary units with three digits: `4.21 GiB`, `31.0 MiB`, `212 KiB`, `17 B`.
pub fn human(bytes: u64) -> String {
    const UNITS: [&str; 6] = ["KiB", "MiB", "GiB", "TiB", "PiB", "EiB"];
    if bytes < 1024 {
        return format!("{bytes} B");
    }
    let mut value = bytes as f64 / 1024.0;
    let mut unit = 0;
    // 999.5 would be shown with four digits: go on to the next unit before that.
    while value >= 999.5 && unit + 1 < UNITS.len() {
        value /= 1024.0;
        unit += 1;
    }
    let digits = if value < 9.995 {
        2
    } else if value < 99.95 {
        1
    } else {
        0
    };
    format!("{value:.digits$} {}", UNITS[unit])
}

/// Reads a size in binary units: `20 GiB`, `1.5 TiB`, `500 MiB`, or a number of bytes.
pub fn read(text: &str) -> Option<u64> {
    let text = text.trim();
    let digits = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
    let shift = match text[digits..].trim() {
        "" | "B" => 0,
        "KiB" => 10,
        "MiB" => 20,
        "GiB" => 30,
        "TiB" => 40,
        _ => return None,
    };
    let (whole, part) = text[..digits].split_once('.').unwrap_or((&text[..digits], "0"));
    if part.is_empty() || part.len() > 6 || part.contains('.') || (shift == 0 && text.contains('.')) {
        return None;
    }
    let (whole, part): (u64, u64) =
        (whole.parse().ok()?, part.parse::<u64>().ok()? * 10u64.pow(6 - part.len() as u32));
    let whole = whole.checked_shl(shift).filter(|n| n >> shift == whole)?;
    whole.checked_add(((u128::from(part) << shift) / 1_000_000) as u64)
}

#[cfg(test)]
mod tests {
    use super::{human, read};

    #[test]
    fn sizes_have_three_digits() {
        for (bytes, text) in [
            (0, "0 B"),
            (1023, "1023 B"),
            (1024, "1.00 KiB"),
            (10 * 1024 + 512, "10.5 KiB"),
            (1023 * 1024, "1.00 MiB"),
            (4_520_000_000, "4.21 GiB"),
            (u64::MAX, "16.0 EiB"),
        ] {
            assert_eq!(human(bytes), text);
        }
    }

    #[test]
    fn sizes_are_read_in_binary_units() {
        assert_eq!(read("20 GiB"), Some(20 << 30));
        assert_eq!(read("123"), Some(123));
        assert_eq!(read("99999999999 TiB"), None);
        assert_eq!(read("1.5 GiB"), Some(3 << 29));
        assert_eq!(read("0.25 KiB"), Some(256));
        for wrong in ["1 GB", "", "1.2.3 GiB", "1. GiB", ".5 GiB", "1.5", "-1"] {
            assert_eq!(read(wrong), None, "{wrong}");
        }
    }
}

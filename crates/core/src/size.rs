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

#[cfg(test)]
mod tests {
    use super::human;

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
}

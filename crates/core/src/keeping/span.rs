//! Spans of time as people write them: `90 days`, `8 weeks`, `1 year`.

/// Milliseconds of a day.
pub const DAY_MS: i64 = 86_400_000;
const HOUR_MS: i64 = 3_600_000;

/// A length of time, in milliseconds; never nothing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Span(pub i64);

/// Units, longest first: a year is 365 days, a month 30.
const UNITS: [(&str, i64); 5] = [
    ("year", 365 * DAY_MS),
    ("month", 30 * DAY_MS),
    ("week", 7 * DAY_MS),
    ("day", DAY_MS),
    ("hour", HOUR_MS),
];

impl Span {
    /// Days.
    pub fn days(n: u32) -> Span {
        Span(i64::from(n) * DAY_MS)
    }

    /// Reads `8 weeks`; at most ten years, and never nothing.
    pub fn read(text: &str) -> Option<Span> {
        let (number, unit) = text.trim().split_once(' ')?;
        let n: i64 = number.parse().ok()?;
        let unit = unit.trim();
        let unit = unit.strip_suffix('s').unwrap_or(unit);
        let (_, ms) = UNITS.into_iter().find(|(name, _)| *name == unit)?;
        let span = n.checked_mul(ms)?;
        (n > 0 && span <= 3660 * DAY_MS).then_some(Span(span))
    }

    /// How it is written: in the longest unit that divides it.
    pub fn word(self) -> String {
        let (unit, ms) = UNITS.into_iter().find(|(_, ms)| self.0 % ms == 0).unwrap_or(("hour", HOUR_MS));
        let n = self.0 / ms;
        format!("{n} {unit}{}", if n == 1 { "" } else { "s" })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_span_is_read_as_it_is_written() {
        for text in ["1 hour", "36 hours", "1 day", "8 weeks", "2 months", "1 year", "10 years"] {
            assert_eq!(Span::read(text).map(Span::word).as_deref(), Some(text));
        }
        assert_eq!(Span::read("14 days").map(Span::word).as_deref(), Some("2 weeks"));
        for wrong in ["", "0 days", "-1 days", "3", "days", "3 moons", "11 years", "9999999999999 years"] {
            assert_eq!(Span::read(wrong), None, "{wrong}");
        }
    }
}

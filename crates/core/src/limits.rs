//! How fast and when a computer carries anything.

use serde::{Deserialize, Serialize};

/// How fast and when.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Limits {
    /// The most that is sent, in bytes a second.
    pub up: Option<u64>,
    /// The most that is fetched, in bytes a second.
    pub down: Option<u64>,
    /// From when to when, each day by this computer's clock, nothing is carried: `HH:MM`.
    pub quiet: Option<(String, String)>,
}

/// A time of day, in minutes.
pub fn minute(text: &str) -> Option<u32> {
    let (hour, minute) = text.split_once(':')?;
    let (hour, minute): (u32, u32) = (hour.parse().ok()?, minute.parse().ok()?);
    (hour < 24 && minute < 60).then_some(hour * 60 + minute)
}

impl Limits {
    /// Until when nothing is carried, at a minute of the day; none if it may be.
    pub fn quiet_until(&self, now: u32) -> Option<&str> {
        let (from, to) = self.quiet.as_ref()?;
        let (begins, ends) = (minute(from)?, minute(to)?);
        let within = match begins <= ends {
            true => (begins..ends).contains(&now),
            // Over midnight.
            false => now >= begins || now < ends,
        };
        within.then_some(to)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn quiet_hours_go_over_midnight() {
        let limits =
            |from: &str, to: &str| Limits { quiet: Some((from.into(), to.into())), ..Limits::default() };
        let at = |text: &str| minute(text).unwrap();
        let night = limits("22:00", "06:30");
        assert_eq!(night.quiet_until(at("23:10")), Some("06:30"));
        assert_eq!(night.quiet_until(at("06:29")), Some("06:30"));
        assert_eq!(night.quiet_until(at("06:30")), None);
        let day = limits("09:00", "17:00");
        assert_eq!((day.quiet_until(at("08:59")), day.quiet_until(at("09:00"))), (None, Some("17:00")));
        for bad in ["24:00", "9", "9:60", "a:b", ""] {
            assert_eq!(minute(bad), None, "{bad}");
        }
    }
}

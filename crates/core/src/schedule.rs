//! When snapshots are taken by themselves: `daily at 02:00 kept 8 weeks`.

use crate::keeping::span::Span;
use jiff::civil::{Date, Time, Weekday};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};

/// How often.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Often {
    /// At each full hour.
    Hourly,
    /// Each day.
    Daily,
    /// On one day of the week.
    Weekly(Weekday),
    /// On one day of the month; months that have no such day are left out.
    Monthly(i8),
}

/// One schedule.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Schedule {
    /// How often.
    pub often: Often,
    /// At what time of the day, in the service's zone.
    pub at: Time,
    /// How long each snapshot lives.
    pub kept: Span,
}

/// Why a schedule is refused.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ScheduleError {
    /// It cannot be read.
    #[error("it cannot be read")]
    Malformed,
    /// No month has such a day.
    #[error("it never comes: no month has such a day")]
    Never,
    /// Its snapshots would live for no time at all.
    #[error("its snapshots would be gone at once: say for how long they are kept")]
    NoLife,
    /// Its snapshots would be gone before the next one is taken: at times there would be none.
    #[error(
        "its snapshots would be gone before the next one is taken; keep them longer, or take them more often"
    )]
    Gaps,
}

const DAYS: [(&str, Weekday); 7] = [
    ("monday", Weekday::Monday),
    ("tuesday", Weekday::Tuesday),
    ("wednesday", Weekday::Wednesday),
    ("thursday", Weekday::Thursday),
    ("friday", Weekday::Friday),
    ("saturday", Weekday::Saturday),
    ("sunday", Weekday::Sunday),
];

impl Schedule {
    /// What can be written.
    pub const WANTED: &str = "none, or some of: hourly kept TIME, daily at HH:MM kept TIME, weekly on DAY at HH:MM kept TIME, monthly on N at HH:MM kept TIME; with commas between them, such as \"daily at 02:00 kept 8 weeks\"";

    /// Reads what [`Schedule::word`] writes.
    pub fn read(text: &str) -> Result<Schedule, ScheduleError> {
        use ScheduleError::{Gaps, Malformed, Never, NoLife};
        let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
        if !["hourly", "daily", "weekly", "monthly"].contains(&text.split(' ').next().unwrap_or("")) {
            return Err(Malformed);
        }
        let (when, kept) = text.split_once(" kept").ok_or(NoLife)?;
        let kept = kept.trim();
        if kept.is_empty() || kept.starts_with("0 ") {
            return Err(NoLife);
        }
        let kept = Span::read(kept).ok_or(Malformed)?;
        let (when, at) = match when.split_once(" at ") {
            Some((when, at)) => (when, Time::strptime("%H:%M", at).map_err(|_| Malformed)?),
            None => (when, Time::midnight()),
        };
        let often = match when.split_once(" on ") {
            None if when == "hourly" && at == Time::midnight() => Often::Hourly,
            None if when == "daily" => Often::Daily,
            None if when == "weekly" => Often::Weekly(Weekday::Monday),
            None if when == "monthly" => Often::Monthly(1),
            Some(("weekly", day)) => {
                Often::Weekly(DAYS.into_iter().find(|(name, _)| *name == day).ok_or(Malformed)?.1)
            }
            Some(("monthly", n)) => match n.parse::<u32>() {
                Ok(n @ 1..=31) => Often::Monthly(n as i8),
                Ok(_) => return Err(Never),
                Err(_) => return Err(Malformed),
            },
            _ => return Err(Malformed),
        };
        let least = match often {
            Often::Hourly => 3_600_000,
            Often::Daily => Span::days(1).0,
            Often::Weekly(_) => Span::days(7).0,
            Often::Monthly(_) => Span::days(30).0,
        };
        if kept.0 < least {
            return Err(Gaps);
        }
        Ok(Schedule { often, at, kept })
    }

    /// How it is written.
    pub fn word(&self) -> String {
        let at = self.at.strftime("%H:%M");
        let when = match self.often {
            Often::Hourly => "hourly".to_string(),
            Often::Daily => format!("daily at {at}"),
            Often::Weekly(day) => {
                let name = DAYS.into_iter().find(|(_, d)| *d == day).map_or("monday", |d| d.0);
                format!("weekly on {name} at {at}")
            }
            Often::Monthly(n) => format!("monthly on {n} at {at}"),
        };
        format!("{when} kept {}", self.kept.word())
    }

    /// The first time after a moment at which it is due, in milliseconds. A time of day that the
    /// zone leaves out comes as soon as there is one again.
    pub fn next_after(&self, ms: i64, zone: &TimeZone) -> Option<i64> {
        let from = Timestamp::from_millisecond(ms).ok()?.to_zoned(zone.clone());
        if self.often == Often::Hourly {
            return Some(ms.div_euclid(3_600_000) * 3_600_000 + 3_600_000);
        }
        let mut day: Date = from.date();
        // No schedule is further apart than two months.
        for _ in 0..70 {
            let falls = match self.often {
                Often::Hourly | Often::Daily => true,
                Often::Weekly(on) => day.weekday() == on,
                Often::Monthly(on) => day.day() == on,
            };
            if falls {
                let at = day.to_datetime(self.at).to_zoned(zone.clone()).ok()?.timestamp().as_millisecond();
                if at > ms {
                    return Some(at);
                }
            }
            day = day.checked_add(1.day()).ok()?;
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn at(text: &str) -> i64 {
        text.parse::<Timestamp>().unwrap().as_millisecond()
    }

    #[test]
    fn a_schedule_is_read_as_it_is_written() {
        for text in [
            "hourly kept 2 days",
            "daily at 02:00 kept 8 weeks",
            "weekly on sunday at 23:30 kept 1 year",
            "monthly on 31 at 00:00 kept 2 years",
        ] {
            assert_eq!(Schedule::read(text).map(|s| s.word()).as_deref(), Ok(text));
        }
        assert_eq!(Schedule::read("monthly on 32 at 02:00 kept 1 year"), Err(ScheduleError::Never));
        assert_eq!(Schedule::read("daily at 02:00"), Err(ScheduleError::NoLife));
        assert_eq!(Schedule::read("daily at 02:00 kept 0 days"), Err(ScheduleError::NoLife));
        assert_eq!(Schedule::read("weekly kept 3 days"), Err(ScheduleError::Gaps));
        for wrong in
            ["daily at 25:00 kept 1 week", "yearly kept 5 years", "hourly at 03:00 kept 1 day", "kept 3 days"]
        {
            assert!(Schedule::read(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn it_is_due_by_the_clock_on_the_wall_in_summer_and_winter() {
        let zone = TimeZone::get("Europe/Amsterdam").unwrap_or(TimeZone::UTC);
        let daily = Schedule::read("daily at 02:30 kept 1 week").unwrap();
        if zone != TimeZone::UTC {
            assert_eq!(daily.next_after(at("2026-07-01T10:00:00Z"), &zone), Some(at("2026-07-02T00:30:00Z")));
            assert_eq!(daily.next_after(at("2026-12-01T10:00:00Z"), &zone), Some(at("2026-12-02T01:30:00Z")));
        }
        let last = Schedule::read("monthly on 31 at 00:00 kept 1 year").unwrap();
        assert_eq!(
            last.next_after(at("2026-01-31T00:00:00Z"), &TimeZone::UTC),
            Some(at("2026-03-31T00:00:00Z"))
        );
    }

    proptest! {
        #[test]
        fn the_next_time_lies_ahead_and_none_is_left_out(start in 0i64..4_000_000_000_000, which in 0usize..4) {
            let texts = ["hourly kept 2 days", "daily at 02:00 kept 8 weeks", "weekly on friday at 12:00 kept 1 year", "monthly on 15 at 06:00 kept 1 year"];
            let schedule = Schedule::read(texts[which]).unwrap();
            let first = schedule.next_after(start, &TimeZone::UTC).unwrap();
            prop_assert!(first > start);
            // Asked a moment before it, the answer is the same; asked at it, the next.
            prop_assert_eq!(schedule.next_after(first - 1, &TimeZone::UTC), Some(first));
            prop_assert!(schedule.next_after(first, &TimeZone::UTC).unwrap() > first);
        }
    }
}

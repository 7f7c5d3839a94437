//! Which versions are kept: the last ones, and more and more widely spaced ones with age.

use super::span::{DAY_MS, Span};
use std::collections::BTreeMap;

/// How far apart versions are that are kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Spacing {
    /// Every one.
    Everything,
    /// The file as it was at each full hour.
    Hourly,
    /// As it was at each midnight.
    Daily,
    /// As it was at the end of each Sunday.
    Weekly,
    /// As it was at the end of each month.
    Monthly,
}

impl Spacing {
    /// All of them.
    pub const ALL: [Spacing; 5] =
        [Spacing::Everything, Spacing::Hourly, Spacing::Daily, Spacing::Weekly, Spacing::Monthly];

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Spacing::Everything => "everything",
            Spacing::Hourly => "hourly",
            Spacing::Daily => "daily",
            Spacing::Weekly => "weekly",
            Spacing::Monthly => "monthly",
        }
    }

    /// How far apart two boundaries are at most, in milliseconds; none where there are none.
    pub fn longest(self) -> Option<i64> {
        match self {
            Spacing::Everything => None,
            Spacing::Hourly => Some(3_600_000),
            Spacing::Daily => Some(DAY_MS),
            Spacing::Weekly => Some(7 * DAY_MS),
            Spacing::Monthly => Some(31 * DAY_MS),
        }
    }

    /// The last boundary at or after `from` and before `to`, in UTC; none if none lies between.
    /// For [`Spacing::Everything`], the end itself.
    pub fn last_boundary(self, from: i64, to: i64) -> Option<i64> {
        let step = |step: i64, shift: i64| {
            let last = (to - 1 - shift).div_euclid(step) * step + shift;
            (last >= from && last < to).then_some(last)
        };
        match self {
            Spacing::Everything => Some(to),
            Spacing::Hourly => step(3_600_000, 0),
            Spacing::Daily => step(DAY_MS, 0),
            // 1970-01-01 was a Thursday: weeks end as Monday begins, four days later.
            Spacing::Weekly => step(7 * DAY_MS, 4 * DAY_MS),
            Spacing::Monthly => {
                let at = jiff::Timestamp::from_millisecond(to - 1).ok()?;
                let first =
                    at.to_zoned(jiff::tz::TimeZone::UTC).first_of_month().ok()?.start_of_day().ok()?;
                let last = first.timestamp().as_millisecond();
                (last >= from && last < to).then_some(last)
            }
        }
    }
}

/// Which versions are kept, as a rule says it: `last 10, everything for 2 days, daily for 8 weeks`.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct Ladder {
    /// So many of the last versions, whatever their age. `u32::MAX`: all.
    pub last: u32,
    /// Further ones, for a while.
    pub steps: BTreeMap<Spacing, Span>,
}

impl Ladder {
    /// Every version, for ever.
    pub fn all() -> Ladder {
        Ladder { last: u32::MAX, steps: BTreeMap::new() }
    }

    /// What can be written.
    pub const WANTED: &str = "all, none, or some of: last N, everything for TIME, hourly for TIME, daily for TIME, weekly for TIME, monthly for TIME; with commas between them, such as \"last 10, everything for 2 days, daily for 8 weeks\"";

    /// Reads what [`Ladder::word`] writes.
    pub fn read(text: &str) -> Option<Ladder> {
        match text.trim() {
            "all" => return Some(Ladder::all()),
            "none" => return Some(Ladder::default()),
            _ => {}
        }
        let mut ladder = Ladder::default();
        for part in text.split(',') {
            let part = part.split_whitespace().collect::<Vec<_>>().join(" ");
            if let Some(n) = part.strip_prefix("last ") {
                let n: u32 = n.parse().ok().filter(|n| (1..=10_000).contains(n))?;
                if std::mem::replace(&mut ladder.last, n) != 0 {
                    return None;
                }
                continue;
            }
            let (spacing, span) = part.split_once(" for ")?;
            let spacing = Spacing::ALL.into_iter().find(|s| s.word() == spacing)?;
            if ladder.steps.insert(spacing, Span::read(span)?).is_some() {
                return None;
            }
        }
        Some(ladder)
    }

    /// How it is written.
    pub fn word(&self) -> String {
        if self.last == u32::MAX {
            return "all".into();
        }
        let last = (self.last > 0).then(|| format!("last {}", self.last));
        let steps =
            self.steps.iter().map(|(spacing, span)| format!("{} for {}", spacing.word(), span.word()));
        let words: Vec<_> = last.into_iter().chain(steps).collect();
        if words.is_empty() { "none".into() } else { words.join(", ") }
    }

    /// What both promise together.
    pub fn union(&self, other: &Ladder) -> Ladder {
        if self.last == u32::MAX || other.last == u32::MAX {
            return Ladder::all();
        }
        let mut both = Ladder { last: self.last.max(other.last), steps: self.steps.clone() };
        for (spacing, span) in &other.steps {
            let its = both.steps.entry(*spacing).or_insert(*span);
            *its = (*its).max(*span);
        }
        both
    }

    /// For how long it promises something whatever comes after; none: for ever.
    pub fn longest(&self) -> Option<i64> {
        match self.last {
            u32::MAX => None,
            _ => Some(self.steps.values().map(|s| s.0).max().unwrap_or(0)),
        }
    }

    /// Until when a state is kept that was there from `at` to `ended_at`, and by which spacing.
    pub fn until(&self, at: i64, ended_at: i64) -> Option<(Spacing, i64)> {
        self.steps
            .iter()
            .filter_map(|(spacing, span)| Some((*spacing, spacing.last_boundary(at, ended_at)? + span.0)))
            .max_by_key(|(_, until)| *until)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_ladder_is_read_as_it_is_written() {
        for text in [
            "all",
            "none",
            "last 3",
            "last 10, everything for 2 days, daily for 8 weeks, monthly for 2 years",
        ] {
            assert_eq!(Ladder::read(text).map(|l| l.word()).as_deref(), Some(text));
        }
        assert_eq!(
            Ladder::read("weekly for 1 year, last 2").map(|l| l.word()).as_deref(),
            Some("last 2, weekly for 1 year")
        );
        for wrong in [
            "",
            "last 0",
            "last",
            "last 3, last 4",
            "daily",
            "daily for 0 days",
            "daily for ever",
            "yearly for 2 years",
            "daily for 2 days, daily for 3 days",
        ] {
            assert_eq!(Ladder::read(wrong), None, "{wrong}");
        }
    }

    #[test]
    fn boundaries_are_midnights_sundays_and_ends_of_months() {
        let at = |text: &str| text.parse::<jiff::Timestamp>().unwrap().as_millisecond();
        let (from, to) = (at("2026-10-30T08:00:00Z"), at("2026-11-03T12:30:00Z"));
        assert_eq!(Spacing::Hourly.last_boundary(from, to), Some(at("2026-11-03T12:00:00Z")));
        assert_eq!(Spacing::Daily.last_boundary(from, to), Some(at("2026-11-03T00:00:00Z")));
        assert_eq!(Spacing::Weekly.last_boundary(from, to), Some(at("2026-11-02T00:00:00Z")));
        assert_eq!(Spacing::Monthly.last_boundary(from, to), Some(at("2026-11-01T00:00:00Z")));
        assert_eq!(Spacing::Monthly.last_boundary(from, at("2026-10-31T23:59:59Z")), None);
        assert_eq!(Spacing::Daily.last_boundary(from, from), None);
    }

    proptest! {
        /// Of states that follow each other, each midnight keeps exactly the one that was there.
        #[test]
        fn each_midnight_keeps_one(mut cuts in proptest::collection::btree_set(0i64..20 * DAY_MS, 2..40)) {
            cuts.insert(0);
            let cuts: Vec<i64> = cuts.into_iter().collect();
            for midnight in 0..20 {
                let midnight = midnight * DAY_MS;
                let there = cuts.windows(2).filter(|w| w[0] <= midnight && midnight < w[1]).count();
                let last: Vec<_> = cuts.windows(2).filter(|w| Spacing::Daily.last_boundary(w[0], w[1]) == Some(midnight)).collect();
                // A state that lasted over several midnights is named by the last of them.
                prop_assert!(last.len() <= there);
            }
            for w in cuts.windows(2) {
                let naive = (0..20).map(|d| d * DAY_MS).filter(|m| w[0] <= *m && *m < w[1]).max();
                prop_assert_eq!(Spacing::Daily.last_boundary(w[0], w[1]), naive);
            }
        }
    }
}

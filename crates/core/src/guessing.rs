//! How guessing is slowed: longer and longer waits, never a lock for ever.

/// Attempts that cost nothing: people mistype.
pub const FREE_FAILURES: u32 = 5;
/// The longest wait, in milliseconds.
pub const LONGEST_WAIT_MS: i64 = 60_000;
/// After this much quiet, in milliseconds, past failures are forgotten.
pub const FORGET_AFTER_MS: i64 = 15 * 60_000;

/// The failures of one account from one address.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Failures {
    /// How many in a row.
    pub count: u32,
    /// When the last one was, in milliseconds.
    pub last_ms: i64,
}

impl Failures {
    /// How long to wait before the next attempt is looked at, in milliseconds; 0 is now.
    pub fn wait_ms(self, now_ms: i64) -> i64 {
        if self.count <= FREE_FAILURES || now_ms - self.last_ms >= FORGET_AFTER_MS {
            return 0;
        }
        let steps = (self.count - FREE_FAILURES - 1).min(20);
        let wait = (1000i64 << steps).min(LONGEST_WAIT_MS);
        (self.last_ms + wait - now_ms).clamp(0, LONGEST_WAIT_MS)
    }

    /// One more failure.
    pub fn failed(self, now_ms: i64) -> Failures {
        let before = if now_ms - self.last_ms >= FORGET_AFTER_MS { 0 } else { self.count };
        Failures { count: before.saturating_add(1), last_ms: now_ms }
    }
}

/// Tries within a minute, counted from the first of them.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Minute {
    /// When the first was, in milliseconds.
    pub begun_ms: i64,
    /// How many since.
    pub count: u32,
}

impl Minute {
    /// One more try, if there may be `most` a minute; else how long to wait, in milliseconds.
    pub fn take(&mut self, now_ms: i64, most: u32) -> Result<(), i64> {
        if !(0..60_000).contains(&(now_ms - self.begun_ms)) {
            *self = Minute { begun_ms: now_ms, count: 0 };
        }
        if self.count >= most {
            return Err(self.begun_ms + 60_000 - now_ms);
        }
        self.count += 1;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mistyping_is_free_and_guessing_waits_but_never_for_ever() {
        let mut failures = Failures::default();
        for n in 1..=FREE_FAILURES {
            failures = failures.failed(i64::from(n));
            assert_eq!(failures.wait_ms(i64::from(n)), 0);
        }
        let waits: Vec<i64> = (0..10)
            .map(|_| {
                failures = failures.failed(1000);
                failures.wait_ms(1000)
            })
            .collect();
        assert_eq!(waits[..4], [1000, 2000, 4000, 8000]);
        assert_eq!(waits[9], LONGEST_WAIT_MS);
        assert_eq!(failures.wait_ms(1000 + LONGEST_WAIT_MS), 0);
        assert_eq!(failures.failed(1000 + FORGET_AFTER_MS).count, 1);
    }

    #[test]
    fn so_many_tries_a_minute_and_no_more() {
        let mut minute = Minute::default();
        let taken = (0..15).filter(|n| minute.take(1_000_000 + n, 10).is_ok()).count();
        assert_eq!(taken, 10);
        assert_eq!(minute.take(1_030_000, 10), Err(30_000));
        assert_eq!(minute.take(1_060_000, 10), Ok(()));
        // A clock that was set back forgives.
        assert_eq!(minute.take(0, 1), Ok(()));
    }
}

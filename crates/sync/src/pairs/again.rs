//! When what could not be done is tried again.

use super::run::{ASK, Running};
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};
use yellow_attic_core::merge::Item;

/// What was refused is tried again after so long.
const AGAIN: Duration = Duration::from_secs(60);
/// And after so long, what waits for another pair.
pub(super) const HALF: Duration = Duration::from_secs(4);
/// What is being written to is looked at again after so long at first, and then more seldom.
const WRITTEN: Duration = Duration::from_millis(100);
const SELDOM: Duration = Duration::from_secs(3);

/// When something is tried again.
pub(super) struct Again {
    at: Instant,
    written_at: Instant,
    written_after: Duration,
}

impl Again {
    pub(super) fn new(now: Instant) -> Again {
        Again { at: now, written_at: now, written_after: WRITTEN }
    }
}

impl Running {
    /// Tries again what is due.
    pub(super) fn try_again(&mut self) {
        let again = &mut self.again;
        if again.at.elapsed() > if self.half { HALF } else { AGAIN } {
            again.at = Instant::now();
            self.half = false;
            self.refused.clear();
            self.pair.try_again();
            let unreadable: Vec<Item> = self.left.keys().copied().collect();
            unreadable.into_iter().for_each(|folder| self.pair.stirred(folder));
        }
        let since = again.written_at.elapsed();
        if self.pair.has_written() && since > again.written_after {
            again.written_at = Instant::now();
            again.written_after = (again.written_after * 2).min(SELDOM);
            self.pair.try_written();
        } else if since > again.written_after * 2 + Duration::from_secs(1) {
            again.written_after = WRITTEN;
        }
    }

    /// Why nothing is carried for now.
    pub(super) fn rests(&self) -> Option<String> {
        if self.about.paused {
            return Some("paused, until yattic sync resume".into());
        }
        let now = jiff::Zoned::now();
        let minute = now.hour() as u32 * 60 + now.minute() as u32;
        self.limits.quiet_until(minute).map(|until| format!("quiet hours, until {until}"))
    }

    /// How long nobody asks what the service has: longer while it tells by itself.
    pub(super) fn ask_after(&self) -> Duration {
        if self.tells.load(Ordering::Relaxed) { ASK * 12 } else { ASK }
    }

    /// How soon that is to be looked at, whatever else happens.
    pub(super) fn again_after(&self) -> Duration {
        match self.pair.has_written() {
            true => {
                self.again.written_after.saturating_sub(self.again.written_at.elapsed())
                    + Duration::from_millis(5)
            }
            false => Duration::MAX,
        }
    }
}

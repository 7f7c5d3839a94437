//! Whether a wall clock is believed.

/// A clock that differs by more than this from what it should show has leapt.
pub const LEAP_MS: i64 = 86_400_000;
/// The longest time that a machine may have been off, for a clock in step with others to be believed by itself.
pub const LONGEST_OFF_MS: i64 = 30 * 86_400_000;

/// A wall clock that is not believed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ClockDoubt {
    /// By how much it differs from the newest time kept, in milliseconds; forwards is more than zero.
    pub ahead_ms: i64,
}

/// Judges a clock that shows so much more than the newest time kept. `synchronised`: the kernel says that it is kept
/// in step with others.
///
/// Within a day it is believed. A machine that was off for days is believed if its clock is in step; one that seems
/// to have been off for more than 30 days, or whose clock lies behind what is kept, never by itself.
pub fn judge_clock(ahead_ms: i64, synchronised: bool) -> Option<ClockDoubt> {
    let near = ahead_ms.abs() <= LEAP_MS;
    let was_off = synchronised && (0..LONGEST_OFF_MS).contains(&ahead_ms);
    (!near && !was_off).then_some(ClockDoubt { ahead_ms })
}

#[cfg(test)]
mod tests {
    use super::*;

    const DAY: i64 = 86_400_000;

    #[test]
    fn a_weekend_off_is_believed_in_step_and_a_year_never() {
        assert_eq!(judge_clock(0, false), None);
        assert_eq!(judge_clock(DAY, false), None);
        assert_eq!(judge_clock(-DAY, false), None);
        assert_eq!(judge_clock(3 * DAY, true), None);
        assert_eq!(judge_clock(29 * DAY, true), None);
        for (ahead, synchronised) in
            [(3 * DAY, false), (30 * DAY, true), (400 * DAY, true), (-2 * DAY, true), (-2 * DAY, false)]
        {
            assert_eq!(judge_clock(ahead, synchronised), Some(ClockDoubt { ahead_ms: ahead }));
        }
    }
}

//! What is fetched before it is asked for, and how those are slowed who read everything.

use std::ops::Range;

/// Blocks are as long.
pub const BLOCK: u64 = 128 << 10;
/// So much is fetched ahead at first,
const FIRST: u64 = 512 << 10;
/// and so much at most.
const MOST: u64 = 32 << 20;

/// How a program reads one file.
#[derive(Clone, Debug, Default)]
pub struct Reader {
    /// Where its last reading ended.
    end: u64,
    /// How many in a row began where the one before ended.
    row: u32,
    /// So much is fetched ahead.
    window: u64,
    /// Up to here it was asked for.
    asked: u64,
}

impl Reader {
    /// It reads here. What is to be fetched ahead of it, beyond what it reads: nothing before it has read twice in order.
    pub fn reads(&mut self, at: Range<u64>, size: u64) -> Range<u64> {
        // The system reads ahead itself, and its parts may come in another order.
        let near = at.start <= self.end.saturating_add(2 * BLOCK) && at.end > self.end.saturating_sub(BLOCK);
        if near && (self.end > 0 || at.start == 0) {
            self.row += 1;
        } else {
            *self = Reader::default();
        }
        self.end = at.end.max(if near { self.end } else { 0 });
        if self.row < 3 {
            return 0..0;
        }
        self.window = (self.window * 2).clamp(FIRST, MOST);
        let until = self.end.saturating_add(self.window).min(size);
        let from = self.asked.max(self.end);
        // Not for every little thing.
        if until <= from || until - from < self.window / 4 && until < size {
            return 0..0;
        }
        self.asked = until;
        from..until
    }
}

/// The numbers of the blocks in which a range of bytes lies.
pub fn blocks(at: Range<u64>) -> Range<u64> {
    if at.is_empty() {
        return 0..0;
    }
    at.start / BLOCK..at.end.div_ceil(BLOCK)
}

/// In so many seconds
const MINUTE: u64 = 60;
/// so many files may be begun freely by one program.
const FREE: u32 = 2_000;

/// How many files whose bytes were only on the service one program has begun to read lately.
#[derive(Clone, Copy, Debug, Default)]
pub struct Budget {
    minute: u64,
    begun: u32,
}

impl Budget {
    /// It begins another, at this second: so many milliseconds it waits before anything is fetched for it. Whoever reads
    /// everything is served, but does not take the line from those who read something.
    pub fn begins(&mut self, second: u64) -> u64 {
        let minute = second / MINUTE;
        if minute != self.minute {
            // Half of it is remembered: who goes on as before is as slow as before.
            *self = Budget { minute, begun: if minute == self.minute + 1 { self.begun / 2 } else { 0 } };
        }
        self.begun = self.begun.saturating_add(1);
        u64::from(self.begun.saturating_sub(FREE) / 50).min(100)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn in_order_it_runs_ahead_and_not_otherwise() {
        let (mut reader, size, step) = (Reader::default(), 1 << 30, 128 << 10);
        let mut ahead = 0;
        for n in 0..1000 {
            let wants = reader.reads(n * step..(n + 1) * step, size);
            assert!(wants.is_empty() || n >= 2, "not before it has read in order");
            if !wants.is_empty() {
                assert!(wants.start >= ahead && wants.end - wants.start <= MOST);
                ahead = wants.end;
            }
        }
        assert!(ahead > 1000 * step + MOST / 2, "far enough ahead that nobody waits");
        // The head, the end, and here and there: a program that looks, and does not read.
        let mut looks = Reader::default();
        for at in [0, size - step, 400 << 20, 12 << 20, 800 << 20] {
            assert!(looks.reads(at..at + step, size).is_empty());
        }
    }

    proptest! {
        #[test]
        fn never_beyond_the_end_and_nothing_twice(
            steps in prop::collection::vec((0..4_u8, 1..300_000_u64, any::<u64>()), 1..100), size in 1..50_000_000_u64
        ) {
            let (mut reader, mut at, mut asked) = (Reader::default(), 0, 0);
            for (kind, length, jump) in steps {
                if kind == 0 {
                    at = jump % size;
                    asked = 0;
                }
                let end = (at + length).min(size);
                let wants = reader.reads(at..end, size);
                prop_assert!(wants.end <= size);
                if !wants.is_empty() {
                    prop_assert!(wants.start >= asked.min(wants.start));
                    asked = wants.end;
                }
                at = if end == size { 0 } else { end };
            }
        }
    }

    #[test]
    fn whoever_reads_everything_is_slowed_and_forgiven() {
        let mut budget = Budget::default();
        assert!((0..FREE).all(|_| budget.begins(100) == 0));
        let waits: Vec<u64> = (0..10_000).map(|_| budget.begins(101)).collect();
        assert!(waits.is_sorted() && waits.iter().all(|ms| *ms <= 100) && waits[9_999] == 100);
        assert!(budget.begins(160) > 0, "a new minute forgives half");
        assert_eq!(budget.begins(100_000), 0);
    }

    #[test]
    fn a_range_lies_in_its_blocks() {
        assert_eq!(blocks(0..0), 0..0);
        assert_eq!(blocks(0..1), 0..1);
        assert_eq!(blocks(BLOCK - 1..BLOCK + 1), 0..2);
        assert_eq!(blocks(BLOCK..2 * BLOCK), 1..2);
    }
}

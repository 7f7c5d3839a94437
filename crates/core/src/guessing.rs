//! How guessing is slowed: by account, by address and in all, counted before a try is looked at.
//!
//! A try is counted when it begins, and given back when it was right: what runs side by side gets no more looks than
//! what comes one after the other. Waits grow and end; nothing is locked. Whoever was signed in before, by a browser that
//! proves it, is counted alone: nobody else can use that up.

use std::collections::HashMap;
use std::net::IpAddr;

/// Failures of one account that cost nothing: people mistype.
pub const FREE_FAILURES: u32 = 5;
/// The longest wait, in milliseconds.
pub const LONGEST_WAIT_MS: i64 = 60_000;
/// After this much quiet, in milliseconds, past failures are forgotten.
pub const FORGET_AFTER_MS: i64 = 15 * 60_000;
/// The most that is remembered at a time; what failed least goes first.
pub const MOST_REMEMBERED: usize = 20_000;

/// What tries are counted by.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum By {
    /// The password of an account, by whichever of its names.
    Account(i64),
    /// A name that nobody has, hashed.
    Name([u8; 16]),
    /// The second factor of an account: whoever tries knows its password.
    Factor(i64),
    /// A browser in which an account was signed in before.
    Browser([u8; 16]),
    /// A link or an intake.
    Opening(i64),
    /// Where it comes from: an address, or the /64 of one.
    Address(IpAddr),
    /// The same for the passwords of links, which strangers may mistype.
    Visitor(IpAddr),
    /// A machine that passes on what others send, and is not trusted to say who.
    Proxy(IpAddr),
    /// Something that anybody may ask for, such as an account.
    Act(&'static str, Option<IpAddr>),
    /// Letters to an address that a stranger gave, hashed.
    LettersTo([u8; 16]),
    /// Letters to addresses that strangers gave at an intake.
    LettersOf(i64),
    /// The same, from one address.
    LettersFrom(IpAddr),
    /// Everything.
    All,
}

/// How failures turn into waits.
enum Pace {
    /// So many are free, then each one doubles the wait.
    Doubling(u32),
    /// So many at once, and one more each time so many milliseconds have passed.
    Steady(u32, i64),
}

impl By {
    fn pace(&self) -> Pace {
        match self {
            By::Account(_) | By::Name(_) | By::Factor(_) | By::Browser(_) => Pace::Doubling(FREE_FAILURES),
            By::Act(..) => Pace::Doubling(FREE_FAILURES),
            By::Address(_) => Pace::Steady(30, 10_000),
            By::Visitor(_) => Pace::Steady(10, 6_000),
            By::Opening(_) => Pace::Steady(100, 600),
            By::LettersTo(_) => Pace::Steady(3, 3_600_000),
            By::LettersOf(_) => Pace::Steady(60, 60_000),
            By::LettersFrom(_) => Pace::Steady(10, 600_000),
            By::Proxy(_) => Pace::Steady(300, 1_000),
            By::All => Pace::Steady(1_200, 100),
        }
    }
}

/// The failures counted by one thing.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
struct Bucket {
    /// Tries that are being looked at.
    under_way: u32,
    /// Failures since the last quiet.
    count: u32,
    /// When the last failure was, in milliseconds.
    last_ms: i64,
    /// When a steady pace has forgiven all.
    clear_ms: i64,
}

impl Bucket {
    /// How long to wait before a try is looked at, in milliseconds, if none were under way; 0 is now.
    fn wait_ms(&self, pace: &Pace, now_ms: i64) -> i64 {
        match *pace {
            Pace::Doubling(free) => {
                if self.count < free || now_ms - self.last_ms >= FORGET_AFTER_MS {
                    return 0;
                }
                let wait = (1000i64 << (self.count - free).min(20)).min(LONGEST_WAIT_MS);
                (self.last_ms + wait - now_ms).clamp(0, LONGEST_WAIT_MS)
            }
            Pace::Steady(free, every) => {
                // A clock that was set back forgives.
                let ahead = (self.clear_ms - now_ms).min(every * i64::from(free));
                (ahead + every - every * i64::from(free)).max(0)
            }
        }
    }

    /// How many more may be looked at side by side.
    fn room(&self, pace: &Pace, now_ms: i64) -> u32 {
        let most = match *pace {
            Pace::Doubling(free) => {
                let count = if now_ms - self.last_ms >= FORGET_AFTER_MS { 0 } else { self.count };
                free.saturating_sub(count).max(1)
            }
            Pace::Steady(free, every) => {
                let ahead = (self.clear_ms - now_ms).max(0);
                free.saturating_sub(u32::try_from((ahead + every - 1) / every).unwrap_or(u32::MAX))
            }
        };
        most.saturating_sub(self.under_way)
    }

    fn failed(&mut self, pace: &Pace, now_ms: i64) {
        if now_ms - self.last_ms >= FORGET_AFTER_MS {
            self.count = 0;
        }
        self.count = self.count.saturating_add(1);
        self.last_ms = now_ms;
        if let Pace::Steady(_, every) = *pace {
            self.clear_ms = self.clear_ms.max(now_ms) + every;
        }
    }

    fn is_over(&self, now_ms: i64) -> bool {
        self.under_way == 0 && now_ms - self.last_ms >= FORGET_AFTER_MS && self.clear_ms <= now_ms
    }
}

/// What becomes of a try that wants to begin.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Next {
    /// It is looked at, and counted from now on.
    Now,
    /// As many as may are being looked at: one of them may be right and give its place back.
    Later,
    /// Not before so many milliseconds.
    Wait(i64),
}

/// Something that has to wait.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Slowed {
    /// What is counted.
    pub by: By,
    /// How many failures.
    pub failures: u32,
    /// When the last one was, in milliseconds.
    pub last_ms: i64,
    /// When the next try is looked at, in milliseconds.
    pub until_ms: i64,
}

/// All that is counted.
#[derive(Default)]
pub struct Limiter {
    buckets: HashMap<By, Bucket>,
}

impl Limiter {
    /// A try wants to begin. Counted by each of these, or by none.
    pub fn begin(&mut self, by: &[By], now_ms: i64) -> Next {
        let mut later = false;
        let mut wait = 0;
        for one in by {
            let (pace, bucket) = (one.pace(), self.buckets.get(one).copied().unwrap_or_default());
            wait = wait.max(bucket.wait_ms(&pace, now_ms));
            later |= bucket.room(&pace, now_ms) == 0;
        }
        match (wait, later) {
            (0, false) => {
                for one in by {
                    self.bucket(one, now_ms).under_way += 1;
                }
                Next::Now
            }
            (0, true) => Next::Later,
            _ => Next::Wait(wait),
        }
    }

    fn bucket(&mut self, by: &By, now_ms: i64) -> &mut Bucket {
        if !self.buckets.contains_key(by) && self.buckets.len() >= MOST_REMEMBERED {
            self.make_room(now_ms);
        }
        self.buckets.entry(by.clone()).or_default()
    }

    /// Forgets what is over; if that is not enough, those with the fewest failures.
    fn make_room(&mut self, now_ms: i64) {
        self.buckets.retain(|_, b| !b.is_over(now_ms));
        let mut more = (self.buckets.len() + MOST_REMEMBERED / 10).saturating_sub(MOST_REMEMBERED);
        let mut counts: Vec<u32> =
            self.buckets.values().filter(|b| b.under_way == 0).map(|b| b.count).collect();
        counts.sort_unstable();
        let Some(&most) = counts.get(more.saturating_sub(1)) else { return };
        self.buckets.retain(|_, b| {
            let goes = more > 0 && b.under_way == 0 && b.count <= most;
            more -= usize::from(goes);
            !goes
        });
    }

    fn end(&mut self, by: &[By], each: impl Fn(&By, &mut Bucket)) {
        for one in by {
            if let Some(bucket) = self.buckets.get_mut(one) {
                bucket.under_way = bucket.under_way.saturating_sub(1);
                each(one, bucket);
                if *bucket == Bucket::default() {
                    self.buckets.remove(one);
                }
            }
        }
    }

    /// A try that was under way was wrong, or nobody waits for its answer any more.
    pub fn failed(&mut self, by: &[By], now_ms: i64) {
        self.end(by, |one, bucket| bucket.failed(&one.pace(), now_ms));
    }

    /// A try that was under way was right: its place is given back, and what is counted by who one is begins anew.
    /// What is counted by where one is does not: whoever has one account could guess at all others.
    pub fn succeeded(&mut self, by: &[By]) {
        self.end(by, |one, bucket| {
            if matches!(one, By::Account(_) | By::Factor(_) | By::Browser(_)) {
                *bucket = Bucket { under_way: bucket.under_way, ..Bucket::default() };
            }
        });
    }

    /// A try that was under way was not looked at after all.
    pub fn given_back(&mut self, by: &[By]) {
        self.end(by, |_, _| {});
    }

    /// Who has to wait now, those with the most failures first.
    pub fn slowed(&self, now_ms: i64) -> Vec<Slowed> {
        let mut all: Vec<Slowed> = self
            .buckets
            .iter()
            .filter_map(|(by, bucket)| {
                let wait = bucket.wait_ms(&by.pace(), now_ms);
                (wait > 0).then(|| Slowed {
                    by: by.clone(),
                    failures: bucket.count,
                    last_ms: bucket.last_ms,
                    until_ms: now_ms + wait,
                })
            })
            .collect();
        all.sort_by(|a, b| b.failures.cmp(&a.failures).then_with(|| a.by.cmp(&b.by)));
        all
    }

    /// Forgets the failures of those that match. Returns how many there were.
    pub fn release(&mut self, matches: impl Fn(&By) -> bool) -> usize {
        let mut released = 0;
        self.buckets.retain(|by, bucket| {
            if !matches(by) {
                return true;
            }
            released += usize::from(bucket.count > 0);
            *bucket = Bucket { under_way: bucket.under_way, ..Bucket::default() };
            bucket.under_way > 0
        });
        released
    }

    /// How much is remembered.
    pub fn remembered(&self) -> usize {
        self.buckets.len()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn ip(n: u8) -> IpAddr {
        IpAddr::from([192, 0, 2, n])
    }

    #[test]
    fn mistyping_is_free_and_guessing_waits_but_never_for_ever() {
        let mut limiter = Limiter::default();
        let by = [By::Account(1)];
        let mut now = 1_000_000;
        for _ in 0..FREE_FAILURES {
            assert_eq!(limiter.begin(&by, now), Next::Now);
            limiter.failed(&by, now);
        }
        let mut waits = Vec::new();
        for _ in 0..8 {
            let Next::Wait(wait) = limiter.begin(&by, now) else { panic!("let through") };
            waits.push(wait);
            now += wait;
            assert_eq!(limiter.begin(&by, now), Next::Now);
            limiter.failed(&by, now);
        }
        assert_eq!(waits, [1000, 2000, 4000, 8000, 16_000, 32_000, 60_000, 60_000]);
        assert_eq!(limiter.slowed(now).len(), 1);
        assert_eq!(limiter.begin(&by, now + FORGET_AFTER_MS), Next::Now);
        limiter.succeeded(&by);
        assert_eq!((limiter.slowed(now), limiter.remembered()), (vec![], 0));
    }

    #[test]
    fn what_runs_side_by_side_gets_no_more_looks() {
        let mut limiter = Limiter::default();
        let by = [By::Account(1), By::Address(ip(1))];
        let begun = (0..400).filter(|_| limiter.begin(&by, 5) == Next::Now).count();
        assert_eq!(begun, FREE_FAILURES as usize);
        assert_eq!(limiter.begin(&by, 5), Next::Later);
        // Another account from there, and this one from elsewhere: each has its own bounds.
        assert_eq!(limiter.begin(&[By::Account(2), By::Address(ip(1))], 5), Next::Now);
        assert_eq!(limiter.begin(&[By::Account(1), By::Address(ip(2))], 5), Next::Later);
        for _ in 0..FREE_FAILURES {
            limiter.failed(&by, 6);
        }
        assert_eq!(limiter.begin(&by, 6), Next::Wait(1000));
        // Nothing is left of tries that were right, and their number is not bounded.
        for n in 0..2000 {
            assert_eq!(limiter.begin(&[By::Account(9), By::Address(ip(9))], n), Next::Now);
            limiter.succeeded(&[By::Account(9), By::Address(ip(9))]);
        }
        // A browser that was signed in before is counted alone.
        assert_eq!(limiter.begin(&[By::Browser([1; 16])], 6), Next::Now);
    }

    #[test]
    fn an_account_of_ones_own_does_not_help_to_guess_at_others() {
        let mut limiter = Limiter::default();
        let mut looks = 0;
        for n in 0..200 {
            let by = [By::Account(n), By::Address(ip(1))];
            if limiter.begin(&by, 7) == Next::Now {
                looks += 1;
                limiter.failed(&by, 7);
            }
            let own = [By::Account(-1), By::Address(ip(1))];
            if limiter.begin(&own, 7) == Next::Now {
                limiter.succeeded(&own);
            }
        }
        assert_eq!(looks, 30);
        assert_eq!(limiter.release(|by| matches!(by, By::Address(_))), 1);
        assert_eq!(limiter.begin(&[By::Account(500), By::Address(ip(1))], 7), Next::Now);
    }

    #[test]
    fn what_is_remembered_has_a_bound_and_the_worst_stay() {
        let mut limiter = Limiter::default();
        for _ in 0..50 {
            let by = [By::Address(ip(1))];
            if limiter.begin(&by, 1) == Next::Now {
                limiter.failed(&by, 1);
            }
        }
        for n in 0..3 * MOST_REMEMBERED as i64 {
            let by = [By::Account(n)];
            assert_eq!(limiter.begin(&by, 2), Next::Now);
            limiter.failed(&by, 2);
        }
        assert!(limiter.remembered() <= MOST_REMEMBERED);
        assert!(matches!(limiter.begin(&[By::Address(ip(1))], 2), Next::Wait(_)));
    }

    proptest! {
        /// However tries come, side by side or not, from where they will: of one account no more than the free ones and
        /// what the waits allow are looked at.
        #[test]
        fn of_one_account_no_more_is_looked_at_than_the_waits_allow(
            steps in prop::collection::vec((0u8..4, 0i64..3_000, 0usize..8), 1..300),
        ) {
            let mut limiter = Limiter::default();
            let mut open: Vec<[By; 3]> = Vec::new();
            let (mut now, mut looks) = (0i64, 0);
            for (place, later, which) in steps {
                now += later;
                let by = [By::Account(1), By::Address(ip(place)), By::All];
                if limiter.begin(&by, now) == Next::Now {
                    looks += 1;
                    open.push(by);
                }
                if which < open.len() {
                    let by = open.swap_remove(which);
                    limiter.failed(&by, now);
                }
            }
            // 5 are free; then 1, 2, 4 … seconds, and at last one a minute.
            let mut most = i64::from(FREE_FAILURES) + 1;
            let (mut at, mut wait) = (1000, 1000);
            while at <= now {
                most += 1;
                wait = (wait * 2).min(LONGEST_WAIT_MS);
                at += wait;
            }
            prop_assert!(looks <= most, "{looks} looks in {now} ms, at most {most}");
        }
    }
}

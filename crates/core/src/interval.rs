//! The key that makes "as of n" cost what the answer costs.
//!
//! Past rows are valid over an interval of moments. Each interval is filed at its fork: the
//! one number within it that stands highest in the binary tree over all numbers (the
//! relational interval tree of Kriegel, Pötke and Seidl, VLDB 2000). A moment can lie only
//! in intervals whose fork is on the way from the root to that moment, so a question costs
//! one index probe per level, and otherwise only the rows it returns.

/// Moments fit in this many bits; more than can ever be counted through.
const LEVELS: u32 = 48;

/// The fork of the closed interval `[from, to]`, with `1 <= from <= to`.
pub fn fork(from: i64, to: i64) -> i64 {
    debug_assert!(1 <= from && from <= to);
    // The highest bit in which from-1 and to differ: `to` with everything below it cleared
    // is the number in the interval with the most trailing zeros.
    let differing = ((from - 1) ^ to) as u64;
    let bit = 63 - differing.leading_zeros();
    to >> bit << bit
}

/// Where rows that are valid at a moment can be filed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Forks {
    /// Forks below the moment: rows filed there are valid if they last until it.
    pub below: Vec<i64>,
    /// The moment itself and the forks above it: valid if they began by then.
    pub above: Vec<i64>,
}

/// The forks at which an interval that holds `n` can be filed. `last` is the newest moment
/// there is: no interval has ended after it, so no fork above its highest level is in use.
pub fn forks(n: i64, last: i64) -> Forks {
    let mut found = Forks { below: Vec::new(), above: Vec::new() };
    if n < 1 {
        return found;
    }
    let top = (64 - (last.max(n) as u64).leading_zeros()).min(LEVELS);
    for level in (0..top).rev() {
        let node = n >> (level + 1) << (level + 1) | 1 << level;
        if node < n {
            found.below.push(node);
        } else {
            found.above.push(node);
        }
        if node == n {
            break;
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn an_interval_of_one_is_filed_at_itself() {
        for n in [1, 2, 3, 100, 4096] {
            assert_eq!(fork(n, n), n);
        }
        assert_eq!(fork(5, 9), 8);
        assert_eq!(fork(1, 7), 4);
    }

    proptest! {
        #[test]
        fn an_interval_is_found_at_exactly_the_moments_it_holds(
            from in 1i64..5000, length in 0i64..3000, n in 1i64..9000, later in 0i64..5000,
        ) {
            let to = from + length;
            let at = fork(from, to);
            prop_assert!(from <= at && at <= to);
            let last = to.max(n) + later;
            let forks = forks(n, last);
            let found = (forks.below.contains(&at) && to >= n)
                || (forks.above.contains(&at) && from <= n);
            prop_assert_eq!(found, from <= n && n <= to);
            prop_assert!(forks.below.len() + forks.above.len() <= 15);
        }
    }
}

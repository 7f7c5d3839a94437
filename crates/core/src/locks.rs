//! Locks: who may change what while somebody holds one (RFC 4918, sections 6 and 7).
//!
//! A lock lies on a node: on what it holds itself (a file's bytes and properties, a folder's list of
//! names), or, if it is deep, on all beneath as well. Whoever changes something under a lock must name
//! its token and be its holder; a lock taken by hand asks its holder for no token.

use crate::{AccountId, NodeId};

/// How long a lock lives if nobody says, in milliseconds: an hour.
pub const USUAL_MS: i64 = 3_600_000;
/// The longest that one lives without being refreshed: a week.
pub const LONGEST_MS: i64 = 7 * 86_400_000;
/// The most locks that one account may hold.
pub const MOST_HELD: usize = 1000;

/// A lock.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Lock {
    /// What names it: a URN.
    pub token: String,
    /// Where it lies.
    pub node: NodeId,
    /// Whether it holds for all beneath.
    pub deep: bool,
    /// Whether nobody else may hold one there.
    pub exclusive: bool,
    /// Who holds it.
    pub holder: AccountId,
    /// Whether its holder must name the token: else it was taken by hand, and being its holder will do.
    pub by_token: bool,
    /// Who the holder says to be: XML as it came.
    pub owner: Option<String>,
    /// How long it lives after each refreshing, in milliseconds.
    pub lives_ms: i64,
    /// When it ends, in milliseconds.
    pub until: i64,
}

impl Lock {
    /// Whether it counts.
    pub fn holds(&self, now: i64) -> bool {
        self.until > now
    }

    /// Whether it lies over the first node of a way (the node first, the top last).
    pub fn covers(&self, way: &[NodeId]) -> bool {
        way.first() == Some(&self.node) || (self.deep && way.contains(&self.node))
    }

    /// Whether somebody may do what it keeps others from.
    pub fn lets(&self, who: Option<AccountId>, tokens: &[String]) -> bool {
        who == Some(self.holder) && (!self.by_token || tokens.contains(&self.token))
    }
}

/// How long a lock lives for which so many seconds are wished, in milliseconds.
pub fn life(seconds: Option<u64>) -> i64 {
    match seconds {
        None => USUAL_MS,
        Some(s) => i64::try_from(s.saturating_mul(1000)).unwrap_or(i64::MAX).clamp(1000, LONGEST_MS),
    }
}

/// What a change touches. A way is the node first, the top of its shelf last.
#[derive(Clone, Copy, Debug)]
pub enum Touch<'w> {
    /// The node itself: its bytes or properties; of a folder, which names are in it.
    Itself(&'w [NodeId]),
    /// The node and all beneath: it goes away from its place.
    Whole(&'w [NodeId]),
}

/// Locks over the same thing: whether one of them is held, and one that is not.
#[derive(Clone, Copy, Default)]
struct Over<'l> {
    held: bool,
    other: Option<&'l Lock>,
}

impl<'l> Over<'l> {
    fn add(&mut self, lock: &'l Lock, lets: bool) {
        match lets {
            true => self.held = true,
            false => self.other = self.other.or(Some(lock)),
        }
    }

    fn barred(&self) -> Option<&'l Lock> {
        self.other.filter(|_| !self.held)
    }
}

/// Locks over a node, and those of them that lie over all beneath it too: holding one on the node alone
/// is not enough for what is in it.
#[derive(Clone, Copy, Default)]
struct Place<'l> {
    itself: Over<'l>,
    beneath: Over<'l>,
}

impl<'l> Place<'l> {
    fn add(&mut self, lock: &'l Lock, lets: bool) {
        self.itself.add(lock, lets);
        if lock.deep {
            self.beneath.add(lock, lets);
        }
    }

    fn barred(&self) -> Option<&'l Lock> {
        self.itself.barred().or(self.beneath.barred())
    }
}

/// The lock that keeps somebody from a change, if one does. Of several shared ones over the same
/// place, holding one will do. `way_of` gives the way of a lock's own node.
pub fn barred<'l, 'w>(
    locks: impl IntoIterator<Item = &'l Lock>,
    touch: Touch<'_>,
    who: Option<AccountId>,
    tokens: &[String],
    now: i64,
    way_of: impl Fn(NodeId) -> Option<&'w [NodeId]>,
) -> Option<&'l Lock> {
    let (way, whole) = match touch {
        Touch::Itself(way) => (way, false),
        Touch::Whole(way) => (way, true),
    };
    let mut here = Place::default();
    let mut beneath: Vec<(NodeId, Place<'l>)> = Vec::new();
    for lock in locks.into_iter().filter(|l| l.holds(now)) {
        let lets = lock.lets(who, tokens);
        if lock.covers(way) {
            here.add(lock, lets);
        } else if whole
            && let (Some(top), Some(its)) = (way.first(), way_of(lock.node))
            && its.contains(top)
        {
            match beneath.iter_mut().find(|(node, _)| *node == lock.node) {
                Some((_, place)) => place.add(lock, lets),
                None => {
                    let mut place = Place::default();
                    place.add(lock, lets);
                    beneath.push((lock.node, place));
                }
            }
        }
    }
    match whole {
        false => here.itself.barred(),
        true => here.barred().or_else(|| beneath.iter().find_map(|(_, place)| place.barred())),
    }
}

/// The lock that a new one cannot lie beside, if there is one.
pub fn conflict<'l, 'w>(
    locks: impl IntoIterator<Item = &'l Lock>,
    way: &[NodeId],
    deep: bool,
    exclusive: bool,
    now: i64,
    way_of: impl Fn(NodeId) -> Option<&'w [NodeId]>,
) -> Option<&'l Lock> {
    locks.into_iter().filter(|l| l.holds(now)).find(|lock| {
        let beneath = || match (way.first(), way_of(lock.node)) {
            (Some(top), Some(its)) => its.contains(top),
            _ => false,
        };
        (exclusive || lock.exclusive) && (lock.covers(way) || (deep && beneath()))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A tree of nodes 1 to 15, each under half its number.
    fn way(node: i64) -> Vec<NodeId> {
        let mut way = Vec::new();
        let mut n = node;
        while n > 0 {
            way.push(NodeId(n));
            n /= 2;
        }
        way
    }

    fn ways() -> Vec<Vec<NodeId>> {
        (0..16).map(way).collect()
    }

    #[derive(Clone, Debug)]
    enum Step {
        Lock { who: i64, node: i64, deep: bool, exclusive: bool, by_token: bool },
        Unlock { which: usize },
        Change { who: i64, node: i64, whole: bool, names: Vec<usize> },
        Wait { ms: i64 },
    }

    fn steps() -> impl Strategy<Value = Step> {
        prop_oneof![
            3 => (1i64..4, 1i64..16, any::<bool>(), any::<bool>(), any::<bool>())
                .prop_map(|(who, node, deep, exclusive, by_token)| Step::Lock { who, node, deep, exclusive, by_token }),
            1 => (0usize..8).prop_map(|which| Step::Unlock { which }),
            5 => (1i64..4, 1i64..16, any::<bool>(), prop::collection::vec(0usize..8, 0..3))
                .prop_map(|(who, node, whole, names)| Step::Change { who, node, whole, names }),
            1 => (1i64..5000).prop_map(|ms| Step::Wait { ms }),
        ]
    }

    proptest! {
        /// The model marks, for each lock, every node whose own state it guards, and asks per node.
        #[test]
        fn locks_keep_others_out_like_the_model(script in prop::collection::vec(steps(), 1..40)) {
            let ways = ways();
            let way_of = |n: NodeId| Some(ways[n.0 as usize].as_slice());
            let guards = |l: &Lock| -> Vec<i64> {
                (1..16).filter(|n| *n == l.node.0 || (l.deep && way(*n).contains(&l.node))).collect()
            };
            let (mut locks, mut now, mut made) = (Vec::<Lock>::new(), 0, 0);
            for step in script {
                match step {
                    Step::Lock { who, node, deep, exclusive, by_token } => {
                        let new = Lock {
                            token: format!("urn:{made}"), node: NodeId(node), deep, exclusive,
                            holder: AccountId(who), by_token, owner: None, lives_ms: 3000, until: now + 3000,
                        };
                        made += 1;
                        let clash = locks.iter().any(|l| l.holds(now) && (l.exclusive || exclusive)
                            && guards(l).iter().any(|n| guards(&new).contains(n)));
                        let told = conflict(&locks, &way(node), deep, exclusive, now, way_of).is_some();
                        prop_assert_eq!(told, clash);
                        if !clash {
                            locks.push(new);
                        }
                    }
                    Step::Unlock { which } => {
                        if which < locks.len() {
                            locks.remove(which);
                        }
                    }
                    Step::Wait { ms } => now += ms,
                    Step::Change { who, node, whole, names } => {
                        let tokens: Vec<String> =
                            names.iter().filter_map(|i| locks.get(*i).map(|l| l.token.clone())).collect();
                        let touched: Vec<i64> =
                            (1..16).filter(|n| *n == node || (whole && way(*n).contains(&NodeId(node)))).collect();
                        let free = touched.iter().all(|n| {
                            let over: Vec<&Lock> =
                                locks.iter().filter(|l| l.holds(now) && guards(l).contains(n)).collect();
                            over.is_empty() || over.iter().any(|l| l.lets(Some(AccountId(who)), &tokens))
                        });
                        let way = way(node);
                        let touch = if whole { Touch::Whole(&way) } else { Touch::Itself(&way) };
                        let told = barred(&locks, touch, Some(AccountId(who)), &tokens, now, way_of);
                        // The model asks every node by itself; the function asks each lock's own place, which is
                        // stricter only where shared locks lie over each other.
                        let shared = locks.iter().filter(|l| l.holds(now) && !l.exclusive).count() > 1;
                        match told {
                            None => prop_assert!(free),
                            Some(lock) => {
                                prop_assert!(!lock.lets(Some(AccountId(who)), &tokens));
                                prop_assert!(!free || shared);
                            }
                        }
                    }
                }
            }
        }
    }

    #[test]
    fn a_lock_lives_as_long_as_is_wished_within_a_week() {
        assert_eq!(life(None), USUAL_MS);
        assert_eq!(life(Some(0)), 1000);
        assert_eq!(life(Some(600)), 600_000);
        assert_eq!(life(Some(u64::MAX)), LONGEST_MS);
    }
}

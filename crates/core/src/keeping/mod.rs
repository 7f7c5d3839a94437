//! Which past states are still needed, by which rule, and until when.
//!
//! One pure function, [`judge`], for the preview of a purge and for the purge itself. Precedence:
//! hold, erase, snapshot or named version, keep rules, space. Dropping takes the bytes and leaves
//! the row ("was here, no longer held"); erasing takes the row as well.

pub mod ladder;
pub mod span;

use crate::ShelfId;
use crate::rules::{Rule, Rules, Value};
use ladder::{Ladder, Spacing};
use span::Span;

/// What the rules say about the past of one shelf.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Keeping {
    /// Nothing of this goes.
    pub hold: bool,
    /// Past states are gone for good after so long, whatever else says.
    pub erase: Option<Span>,
    /// Which versions are kept.
    pub versions: Ladder,
    /// Files above this size have no versions.
    pub largest: Option<u64>,
    /// How long removed things are kept; none: for ever.
    pub trash: Option<Span>,
    /// What is younger than this does not give way when space is short; none: nothing gives way.
    pub floor: Option<Span>,
}

impl Default for Keeping {
    fn default() -> Keeping {
        Keeping { hold: false, erase: None, versions: Ladder::all(), largest: None, trash: None, floor: None }
    }
}

impl Keeping {
    /// What counts on a shelf.
    pub fn of(rules: &Rules, shelf: ShelfId) -> Keeping {
        let decide = |rule| rules.decide_on(rule, &[], Some(shelf)).value;
        let days = |rule| match decide(rule) {
            Value::Number(Some(n)) => Some(Span::days(n)),
            _ => None,
        };
        Keeping {
            hold: decide(Rule::Hold) == Value::Switch(true),
            erase: days(Rule::EraseDays),
            versions: match decide(Rule::Versions) {
                Value::Ladder(ladder) => ladder,
                _ => Ladder::all(),
            },
            largest: match decide(Rule::VersionsLargest) {
                Value::Size(most) => most,
                _ => None,
            },
            trash: days(Rule::TrashDays),
            floor: match decide(Rule::MakeRoom) {
                Value::Room(Some(room)) => Some(room.floor),
                _ => None,
            },
        }
    }
}

/// A snapshot of a shelf: a named number.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Mark {
    /// Its number.
    pub moment: i64,
    /// When it ends, in milliseconds; none: never by itself.
    pub ends_at: Option<i64>,
}

/// A past state of a node.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct State {
    /// Valid from this number,
    pub since: i64,
    /// up to, not including, this one.
    pub until: i64,
    /// When it began, in milliseconds.
    pub at: i64,
    /// When it ended.
    pub ended_at: i64,
    /// Which bytes; none for a folder.
    pub content: Option<i64>,
    /// How many bytes.
    pub size: i64,
    /// Somebody gave it a name, so that it stays.
    pub named: bool,
    /// It ended because the node was removed, and the node is still gone.
    pub removed: bool,
}

/// Why a state is kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Why {
    /// Nothing on this shelf goes.
    Hold,
    /// It has a name.
    Named,
    /// A snapshot shows it.
    Snapshot(i64),
    /// It is one of the last versions.
    Last(u32),
    /// It is what the file was at a full hour, at a midnight and so on.
    Spaced(Spacing),
    /// Removed things are kept for a while.
    Trash,
    /// No rule says that it goes.
    NoRule,
}

/// Why a state goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Goes {
    /// Its time in the trash is over.
    Trash,
    /// No rule keeps this version.
    Version,
    /// Files above a size have no versions.
    TooLarge,
    /// Space is short, and it is the oldest.
    Room,
    /// By the rule that erases, row and all.
    Erased,
    /// By hand.
    Hand,
}

impl Goes {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Goes::Trash => "trash",
            Goes::Version => "versions",
            Goes::TooLarge => "size",
            Goes::Room => "room",
            Goes::Erased => "erase",
            Goes::Hand => "hand",
        }
    }
}

/// What becomes of a state.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fate {
    /// It is needed: by what, and until when as far as is known.
    Kept(Why, Option<i64>),
    /// Its bytes go; the row stays.
    Drops(Goes),
    /// The row goes too.
    Erased,
}

/// What else bears on a judgement.
#[derive(Clone, Copy, Debug)]
pub struct Setting<'a> {
    /// The rules of the shelf.
    pub keeping: &'a Keeping,
    /// Its snapshots, in any order.
    pub snapshots: &'a [Mark],
    /// The time, in milliseconds.
    pub now: i64,
    /// States that ended before this give way, because space is short.
    pub room_before: Option<i64>,
    /// Somebody removes this for good by hand: keep rules do not count.
    pub by_hand: bool,
}

/// Decides over all past states of one node, newest first. `present`: the bytes it has now, if it is
/// alive. Answers in the order of the states.
pub fn judge(setting: &Setting<'_>, present: Option<i64>, states: &[State]) -> Vec<Fate> {
    let mut rank = 0u32;
    let mut newer = present;
    let mut first = true;
    states
        .iter()
        .map(|state| {
            // Renames share the bytes: a version is a change of bytes. Of a removed node, what it was
            // last is the thing itself; its versions are counted from there.
            let changed = state.content != newer && !(first && present.is_none());
            rank = rank.saturating_add(u32::from(changed && state.content.is_some()));
            newer = state.content;
            first = false;
            fate(setting, state, rank)
        })
        .collect()
}

fn fate(setting: &Setting<'_>, state: &State, rank: u32) -> Fate {
    let Setting { keeping, snapshots, now, .. } = *setting;
    if keeping.hold {
        return Fate::Kept(Why::Hold, None);
    }
    let erased_at = keeping.erase.map(|span| state.ended_at + span.0);
    if erased_at.is_some_and(|at| at <= now) {
        return Fate::Erased;
    }
    let cap = |until: Option<i64>| match (until, erased_at) {
        (Some(a), Some(b)) => Some(a.min(b)),
        (a, b) => a.or(b),
    };
    if state.named {
        return Fate::Kept(Why::Named, cap(None));
    }
    // The snapshot that lasts longest.
    let shown = snapshots
        .iter()
        .filter(|s| state.since <= s.moment && s.moment < state.until)
        .filter(|s| s.ends_at.is_none_or(|end| end > now))
        .max_by_key(|s| s.ends_at.unwrap_or(i64::MAX));
    let by_rule = match setting.by_hand {
        true => Err(Goes::Hand),
        false => by_rules(keeping, state, rank, now),
    };
    match (shown, by_rule) {
        (Some(shown), Ok((_, Some(until)))) if shown.ends_at.is_none_or(|end| end > until) => {
            Fate::Kept(Why::Snapshot(shown.moment), cap(shown.ends_at))
        }
        (Some(shown), Err(_)) => Fate::Kept(Why::Snapshot(shown.moment), cap(shown.ends_at)),
        (None, Ok(_)) if gives_way(setting, state) => Fate::Drops(Goes::Room),
        (_, Ok((why, until))) => Fate::Kept(why, cap(until)),
        (None, Err(goes)) => Fate::Drops(goes),
    }
}

/// Whether space is so short that a state gives way that the keep rules alone would keep.
pub fn gives_way(setting: &Setting<'_>, state: &State) -> bool {
    match (setting.room_before, setting.keeping.floor) {
        (Some(before), Some(floor)) => state.ended_at < before && state.ended_at + floor.0 <= setting.now,
        _ => false,
    }
}

fn by_rules(keeping: &Keeping, state: &State, rank: u32, now: i64) -> Result<(Why, Option<i64>), Goes> {
    if state.removed {
        return match keeping.trash {
            None => Ok((Why::NoRule, None)),
            Some(span) if state.ended_at + span.0 > now => Ok((Why::Trash, Some(state.ended_at + span.0))),
            Some(_) => Err(Goes::Trash),
        };
    }
    if keeping.largest.is_some_and(|most| state.size.max(0) as u64 > most) {
        return Err(Goes::TooLarge);
    }
    if keeping.versions.last == u32::MAX {
        return Ok((Why::NoRule, None));
    }
    if keeping.versions.last > 0 && rank <= keeping.versions.last {
        return Ok((Why::Last(keeping.versions.last), None));
    }
    match keeping.versions.until(state.at, state.ended_at) {
        Some((spacing, until)) if until > now => Ok((Why::Spaced(spacing), Some(until))),
        _ => Err(Goes::Version),
    }
}

/// When a judgement may turn out otherwise though nothing changes: the time to look again.
pub fn look_again(fates: &[Fate]) -> Option<i64> {
    fates.iter().filter_map(|f| if let Fate::Kept(_, until) = f { *until } else { None }).min()
}

/// When states ended that may be judged otherwise at `to` than at `from`, though nothing changed: after the first of each two times,
/// and not after the second. For what is looked at now and then: only these need be.
pub fn due_between(keeping: &Keeping, from: i64, to: i64) -> Vec<(i64, i64)> {
    if keeping.hold || to <= from {
        return Vec::new();
    }
    let mut due: Vec<(i64, i64)> =
        [keeping.erase, keeping.trash].into_iter().flatten().map(|s| (from - s.0, to - s.0)).collect();
    for (spacing, span) in &keeping.versions.steps {
        let (from, to) = (from - span.0, to - span.0);
        match spacing.longest() {
            None => due.push((from, to)),
            // What was there at a boundary in between, and ended before the next one.
            Some(longest) => {
                let mut end = to;
                while let Some(boundary) = spacing.last_boundary(from + 1, end + 1) {
                    due.push((boundary, boundary + longest));
                    end = boundary - 1;
                }
            }
        }
    }
    due.sort_unstable();
    // What lies in one another or touches is one.
    let mut joined: Vec<(i64, i64)> = Vec::with_capacity(due.len());
    for (begins, ends) in due {
        match joined.last_mut().filter(|last| begins <= last.1) {
            Some(last) => last.1 = last.1.max(ends),
            None => joined.push((begins, ends)),
        }
    }
    joined
}

/// Which states give way when so many bytes are needed: the time before which they ended, oldest
/// first. `candidates`: when they ended and how many bytes they hold, of those that keep rules alone keep.
pub fn room_before(candidates: &mut [(i64, i64)], needed: i64) -> Option<i64> {
    if needed <= 0 {
        return None;
    }
    candidates.sort_unstable();
    let mut freed = 0;
    let mut before = None;
    for (ended_at, bytes) in candidates {
        before = Some(*ended_at + 1);
        freed += *bytes;
        if freed >= needed {
            break;
        }
    }
    before
}

/// The same of so many candidates that they do not fit into memory: they are counted by the day they ended on, and only those
/// of one day are sorted.
#[derive(Clone, Debug, Default)]
pub struct Days(std::collections::BTreeMap<i64, i64>);

/// Which states give way, as far as the days tell.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Gives {
    /// None.
    Nothing,
    /// All that ended before this.
    Before(i64),
    /// Those of this day decide, of which so many bytes are needed.
    Within(i64, i64),
}

impl Days {
    /// On which day something ended.
    pub fn of(ended_at: i64) -> i64 {
        ended_at.div_euclid(span::DAY_MS)
    }

    /// Counts one.
    pub fn count(&mut self, ended_at: i64, bytes: i64) {
        *self.0.entry(Days::of(ended_at)).or_default() += bytes;
    }

    /// What gives way when so many bytes are needed.
    pub fn give(&self, needed: i64) -> Gives {
        if needed <= 0 {
            return Gives::Nothing;
        }
        let mut freed = 0;
        for (day, bytes) in &self.0 {
            if freed + bytes >= needed {
                return Gives::Within(*day, needed - freed);
            }
            freed += bytes;
        }
        match self.0.last_key_value() {
            Some((day, _)) => Gives::Before((day + 1) * span::DAY_MS),
            None => Gives::Nothing,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::keeping::span::DAY_MS;
    use proptest::prelude::*;

    const NOW: i64 = 1_000 * DAY_MS;

    fn state(since: i64, until: i64, content: i64) -> State {
        // Number n was at day n.
        State {
            since,
            until,
            at: since * DAY_MS + 5,
            ended_at: until * DAY_MS + 5,
            content: Some(content),
            size: 100,
            named: false,
            removed: false,
        }
    }

    fn setting<'a>(keeping: &'a Keeping, snapshots: &'a [Mark]) -> Setting<'a> {
        Setting { keeping, snapshots, now: NOW, room_before: None, by_hand: false }
    }

    #[test]
    fn without_a_rule_everything_stays() {
        let keeping = Keeping::default();
        let fates = judge(&setting(&keeping, &[]), Some(9), &[state(3, 5, 2), state(1, 3, 1)]);
        assert_eq!(fates, [Fate::Kept(Why::NoRule, None); 2]);
    }

    #[test]
    fn hold_comes_before_erasing_and_erasing_before_a_snapshot() {
        let hold = Keeping { hold: true, erase: Some(Span::days(1)), ..Keeping::default() };
        let snapshots = [Mark { moment: 4, ends_at: None }];
        assert_eq!(
            judge(&setting(&hold, &snapshots), None, &[state(3, 5, 2)]),
            [Fate::Kept(Why::Hold, None)]
        );
        let erase = Keeping { hold: false, ..hold };
        assert_eq!(judge(&setting(&erase, &snapshots), None, &[state(3, 5, 2)]), [Fate::Erased]);
        let named = State { named: true, ..state(3, 999, 2) };
        let later =
            Keeping { erase: Some(Span::days(30)), versions: Ladder::default(), ..Keeping::default() };
        assert_eq!(
            judge(&setting(&later, &[]), Some(1), &[named]),
            [Fate::Kept(Why::Named, Some(999 * DAY_MS + 5 + 30 * DAY_MS))]
        );
    }

    #[test]
    fn a_snapshot_keeps_the_states_valid_at_its_number_and_no_newer_ones() {
        let none = Keeping { versions: Ladder::default(), ..Keeping::default() };
        let snapshots = [Mark { moment: 4, ends_at: Some(NOW + 1) }, Mark { moment: 2, ends_at: Some(NOW) }];
        let fates =
            judge(&setting(&none, &snapshots), Some(9), &[state(5, 7, 3), state(3, 5, 2), state(1, 3, 1)]);
        assert_eq!(
            fates,
            [
                Fate::Drops(Goes::Version),
                Fate::Kept(Why::Snapshot(4), Some(NOW + 1)),
                Fate::Drops(Goes::Version)
            ]
        );
    }

    #[test]
    fn the_last_versions_are_counted_by_their_bytes_not_by_renames() {
        let two = Keeping { versions: Ladder { last: 2, ..Ladder::default() }, ..Keeping::default() };
        // Newest first: renamed with the present bytes, two versions (one renamed), an older one.
        let states = [state(8, 9, 4), state(6, 8, 3), state(5, 6, 3), state(3, 5, 2), state(1, 3, 1)];
        let fates = judge(&setting(&two, &[]), Some(4), &states);
        assert_eq!(fates[..4], [Fate::Kept(Why::Last(2), None); 4]);
        assert_eq!(fates[4], Fate::Drops(Goes::Version));
    }

    #[test]
    fn removed_things_go_by_the_rule_for_the_trash_and_their_versions_by_theirs() {
        let keeping = Keeping {
            trash: Some(Span::days(30)),
            versions: Ladder { last: 1, ..Ladder::default() },
            ..Keeping::default()
        };
        let removed = State { removed: true, ..state(5, 980, 3) };
        let fates = judge(&setting(&keeping, &[]), None, &[removed, state(3, 5, 2), state(1, 3, 1)]);
        assert_eq!(fates[0], Fate::Kept(Why::Trash, Some(980 * DAY_MS + 5 + 30 * DAY_MS)));
        assert_eq!(fates[1], Fate::Kept(Why::Last(1), None));
        assert_eq!(fates[2], Fate::Drops(Goes::Version));
    }

    #[test]
    fn what_gives_way_is_the_oldest_and_never_below_the_floor() {
        let mut candidates = vec![(30, 5), (10, 5), (20, 5)];
        assert_eq!(room_before(&mut candidates, 6), Some(21));
        assert_eq!(room_before(&mut candidates, 0), None);
        let keeping = Keeping { floor: Some(Span::days(10)), ..Keeping::default() };
        let short = Setting { room_before: Some(NOW), ..setting(&keeping, &[]) };
        let fates = judge(&short, Some(9), &[state(980, 995, 2), state(900, 980, 1)]);
        assert_eq!(fates, [Fate::Kept(Why::NoRule, None), Fate::Drops(Goes::Room)]);
    }

    /// What the rules say, written down once more, as plainly as can be.
    fn needed(s: &Setting<'_>, present: Option<i64>, states: &[State], i: usize) -> (bool, bool) {
        let state = &states[i];
        let k = s.keeping;
        if k.hold {
            return (true, true);
        }
        if let Some(erase) = k.erase
            && s.now - state.ended_at >= erase.0
        {
            return (false, false);
        }
        if state.named {
            return (true, true);
        }
        if s.snapshots
            .iter()
            .any(|m| (state.since..state.until).contains(&m.moment) && m.ends_at.is_none_or(|e| e > s.now))
        {
            return (true, true);
        }
        if s.by_hand {
            return (false, true);
        }
        let kept = if state.removed {
            k.trash.is_none_or(|t| s.now - state.ended_at < t.0)
        } else {
            // Each change of bytes between this state and now is one version nearer to now.
            let mut all: Vec<Option<i64>> = present.map(Some).into_iter().collect();
            all.extend(states[..=i].iter().map(|s| s.content));
            let rank = all.windows(2).filter(|w| w[0] != w[1]).count() as u32;
            let spaced = k.versions.steps.iter().any(|(spacing, span)| match spacing {
                Spacing::Everything => state.ended_at + span.0 > s.now,
                Spacing::Daily => (0..1_100).map(|d| d * DAY_MS).any(|midnight| {
                    state.at <= midnight && midnight < state.ended_at && midnight + span.0 > s.now
                }),
                other => other.last_boundary(state.at, state.ended_at).is_some_and(|b| b + span.0 > s.now),
            });
            k.largest.is_none_or(|most| state.size as u64 <= most)
                && (k.versions.last == u32::MAX || k.versions.last > 0 && rank <= k.versions.last || spaced)
        };
        let away = matches!((s.room_before, k.floor), (Some(b), Some(f)) if state.ended_at < b && s.now - state.ended_at >= f.0);
        (kept && !away, true)
    }

    fn any_keeping() -> impl Strategy<Value = Keeping> {
        (
            proptest::bool::weighted(0.05),
            proptest::option::weighted(0.3, 1u32..400),
            (
                0u32..4,
                proptest::option::of(1u32..20),
                proptest::option::of(1u32..200),
                proptest::bool::weighted(0.2),
            ),
            proptest::option::weighted(0.2, 50u64..150),
            proptest::option::of(1u32..200),
            proptest::option::of(0u32..50),
        )
            .prop_map(|(hold, erase, (last, every, daily, all), largest, trash, floor)| {
                let steps = every.map(|d| (Spacing::Everything, Span::days(d))).into_iter();
                let steps = steps.chain(daily.map(|d| (Spacing::Daily, Span::days(d)))).collect();
                Keeping {
                    hold,
                    erase: erase.map(Span::days),
                    versions: if all { Ladder::all() } else { Ladder { last, steps } },
                    largest,
                    trash: trash.map(Span::days),
                    floor: floor.map(Span::days),
                }
            })
    }

    proptest! {
        /// No state is dropped that any rule needs, none is kept that none needs.
        #[test]
        fn kept_is_exactly_what_a_rule_needs(
            keeping in any_keeping(),
            cuts in proptest::collection::btree_set(700i64..999, 2..12),
            contents in proptest::collection::vec((0i64..4, proptest::bool::weighted(0.1), 50i64..150), 12),
            marks in proptest::collection::vec((700i64..1000, proptest::option::of(-5i64..5)), 0..3),
            alive in proptest::bool::ANY,
            room in proptest::option::of(700i64..1000),
            by_hand in proptest::bool::weighted(0.2),
        ) {
            let cuts: Vec<i64> = cuts.into_iter().collect();
            let mut states: Vec<State> = cuts.windows(2).zip(&contents).map(|(w, (content, named, size))| State {
                named: *named, size: *size, ..state(w[0], w[1], *content)
            }).collect();
            states.reverse();
            let present = alive.then_some(1);
            if !alive {
                states[0].removed = true;
            }
            let marks: Vec<Mark> = marks.iter().map(|(m, e)| Mark { moment: *m, ends_at: e.map(|d| NOW + d * DAY_MS) }).collect();
            let s = Setting { keeping: &keeping, snapshots: &marks, now: NOW, room_before: room.map(|d| d * DAY_MS), by_hand };
            let fates = judge(&s, present, &states);
            for (i, fate) in fates.iter().enumerate() {
                let (bytes, row) = needed(&s, present, &states, i);
                prop_assert_eq!(matches!(fate, Fate::Kept(..)), bytes, "{:?} {:?}", states[i], fate);
                prop_assert_eq!(!matches!(fate, Fate::Erased), row);
            }
            // Nothing turns out otherwise before the time it named.
            if let Some(again) = look_again(&fates) {
                prop_assert!(again > NOW);
                let before = judge(&Setting { now: again - 1, ..s }, present, &states);
                let kept = |f: &Fate| matches!(f, Fate::Kept(..));
                if room.is_none() && keeping.erase.is_none() {
                    prop_assert!(fates.iter().zip(&before).all(|(a, b)| kept(a) == kept(b)));
                }
            }
        }

        /// Whatever is judged otherwise at a later time, though nothing changed, ended when it is said to be looked for.
        #[test]
        fn what_is_due_is_looked_for(
            keeping in any_keeping(),
            further in proptest::collection::vec((0usize..3, 1u32..300), 0..3),
            begins in 900 * DAY_MS..NOW,
            lasts in proptest::collection::vec(1i64..50 * 3_600_000, 1..12),
            alive in proptest::bool::ANY,
            between in 1i64..40 * 3_600_000,
        ) {
            let mut keeping = keeping;
            let spacings = [Spacing::Hourly, Spacing::Weekly, Spacing::Monthly];
            for (which, days) in further {
                keeping.versions.steps.insert(spacings[which], Span::days(days));
            }
            let mut at = begins;
            let mut states = Vec::new();
            for (n, lasted) in lasts.iter().enumerate() {
                let (since, until) = (n as i64, n as i64 + 1);
                states.push(State { at, ended_at: at + lasted, ..state(since, until, n as i64) });
                at += lasted;
            }
            states.reverse();
            states[0].removed = !alive;
            let present = alive.then_some(99);
            // Each time at which something turns, and one between two of them.
            let turns = |now: i64| look_again(&judge(&Setting { now, ..setting(&keeping, &[]) }, present, &states));
            let mut from = NOW;
            for _ in 0..20 {
                let to = from + between;
                let judged = |now: i64| judge(&Setting { now, ..setting(&keeping, &[]) }, present, &states);
                let kept = |fate: &Fate| (matches!(fate, Fate::Kept(..)), matches!(fate, Fate::Erased));
                let due = due_between(&keeping, from, to);
                for (state, (before, after)) in states.iter().zip(judged(from).iter().zip(&judged(to))) {
                    let looked_for = due.iter().any(|(a, b)| *a < state.ended_at && state.ended_at <= *b);
                    prop_assert!(kept(before) == kept(after) || looked_for, "{:?} {:?} {:?}", state, before, after);
                }
                from = turns(from).map_or(to, |again| again - 1).max(from + 1);
            }
        }

        /// What gives way is the same whether all candidates are known at once or by their days.
        #[test]
        fn days_tell_what_gives_way(
            candidates in proptest::collection::vec((0i64..20 * DAY_MS, 0i64..9), 0..60),
            needed in -3i64..300,
        ) {
            let mut days = Days::default();
            candidates.iter().for_each(|(at, bytes)| days.count(*at, *bytes));
            let before = match days.give(needed) {
                Gives::Nothing => None,
                Gives::Before(all) => Some(all),
                Gives::Within(day, rest) => {
                    let mut its: Vec<_> = candidates.iter().filter(|(at, _)| Days::of(*at) == day).copied().collect();
                    room_before(&mut its, rest)
                }
            };
            let goes = |before: Option<i64>| -> Vec<_> {
                candidates.iter().filter(|(at, _)| before.is_some_and(|b| *at < b)).copied().collect()
            };
            let plain = room_before(&mut candidates.clone(), needed);
            prop_assert_eq!(goes(before), goes(plain));
        }
    }
}

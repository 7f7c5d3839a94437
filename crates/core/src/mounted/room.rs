//! How much of a mounted folder lies on this computer, and what of it may go.
//!
//! Two kinds of things take room: files that lie here whole, because they were written or kept here, and contents of which
//! blocks were fetched. What the service does not have yet is owed to it: it never goes. What is kept goes only when its
//! keeping ends. Of the rest that goes first which was not used for longest.

use crate::merge::{Hash, Object};
use std::collections::{BTreeMap, HashMap};

/// Something that takes room here.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Thing {
    /// A file that lies here whole.
    File(Object),
    /// Blocks of a content, fetched.
    Blocks(Hash),
}

#[derive(Clone, Copy, Debug, Default)]
struct Place {
    bytes: u64,
    used: u64,
    open: u32,
    owed: bool,
    kept: bool,
}

impl Place {
    fn may_go(&self) -> bool {
        self.bytes > 0 && self.open == 0 && !self.owed && !self.kept
    }
}

/// What a writer is told who brings more bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Answer {
    /// They may come.
    Go,
    /// Not yet: bytes leave, or may be released, and room comes with that.
    Wait,
    /// There is no room, and none comes.
    Full,
}

/// What lies here.
#[derive(Clone, Debug)]
pub struct Room {
    limit: u64,
    floor: u64,
    things: HashMap<Thing, Place>,
    /// What may go, that first which was not used for longest.
    idle: BTreeMap<u64, Thing>,
    clock: u64,
    held: u64,
    owed: u64,
    /// Of what is owed, that which nobody has open: it can leave.
    leaves: u64,
    /// So many bytes somebody waits for.
    wanted: u64,
}

impl Room {
    /// For so many bytes at most, while so many stay free on the disk.
    pub fn new(limit: u64, floor: u64) -> Room {
        Room {
            limit,
            floor,
            things: HashMap::new(),
            idle: BTreeMap::new(),
            clock: 0,
            held: 0,
            owed: 0,
            leaves: 0,
            wanted: 0,
        }
    }

    /// Other limits from now on.
    pub fn set(&mut self, limit: u64, floor: u64) {
        (self.limit, self.floor) = (limit, floor);
    }

    /// So many bytes at most.
    pub fn limit(&self) -> u64 {
        self.limit
    }

    /// Bytes that lie here.
    pub fn held(&self) -> u64 {
        self.held
    }

    /// Bytes that the service does not have yet.
    pub fn owed(&self) -> u64 {
        self.owed
    }

    /// Bytes of one thing that lie here.
    pub fn of(&self, thing: Thing) -> u64 {
        self.things.get(&thing).map_or(0, |place| place.bytes)
    }

    fn change(&mut self, thing: Thing, change: impl FnOnce(&mut Place)) {
        let place = self.things.entry(thing).or_default();
        let before = *place;
        change(place);
        let after = *place;
        if before.may_go() {
            self.idle.remove(&before.used);
        }
        if after.may_go() {
            self.idle.insert(after.used, thing);
        }
        self.held = self.held - before.bytes + after.bytes;
        let owed = |place: &Place| if place.owed { place.bytes } else { 0 };
        self.owed = self.owed - owed(&before) + owed(&after);
        let leaves = |place: &Place| if place.open == 0 { owed(place) } else { 0 };
        self.leaves = self.leaves - leaves(&before) + leaves(&after);
        if after.bytes == 0 && after.open == 0 && !after.owed && !after.kept {
            self.things.remove(&thing);
        }
    }

    /// So many bytes of it lie here now.
    pub fn holds(&mut self, thing: Thing, bytes: u64) {
        let tick = self.tick();
        self.change(thing, |place| {
            // What is new was used just now.
            if place.bytes == 0 && place.used == 0 {
                place.used = tick;
            }
            place.bytes = bytes;
        });
    }

    /// So many more bytes of it lie here.
    pub fn grows(&mut self, thing: Thing, bytes: u64) {
        let before = self.of(thing);
        self.holds(thing, before.saturating_add(bytes));
    }

    /// So many bytes of it do not lie here any more, or do not come.
    pub fn shrinks(&mut self, thing: Thing, bytes: u64) {
        let before = self.of(thing);
        self.holds(thing, before.saturating_sub(bytes));
    }

    fn tick(&mut self) -> u64 {
        self.clock += 1;
        self.clock
    }

    /// It is used.
    pub fn used(&mut self, thing: Thing) {
        let tick = self.tick();
        self.change(thing, |place| place.used = tick);
    }

    /// A program has opened it.
    pub fn opened(&mut self, thing: Thing) {
        let tick = self.tick();
        self.change(thing, |place| {
            place.open += 1;
            place.used = tick;
        });
    }

    /// And closed it.
    pub fn closed(&mut self, thing: Thing) {
        self.change(thing, |place| place.open = place.open.saturating_sub(1));
    }

    /// The service does not have it yet, or it has.
    pub fn owes(&mut self, thing: Thing, owed: bool) {
        self.change(thing, |place| place.owed = owed);
    }

    /// It is kept here, or no more.
    pub fn keeps(&mut self, thing: Thing, kept: bool) {
        self.change(thing, |place| place.kept = kept);
    }

    /// Whether the service does not have it yet.
    pub fn is_owed(&self, thing: Thing) -> bool {
        self.things.get(&thing).is_some_and(|place| place.owed)
    }

    /// Whether it is neither open, owed nor kept.
    pub fn is_idle(&self, thing: Thing) -> bool {
        self.things.get(&thing).is_some_and(Place::may_go)
    }

    /// How many bytes have to go, while so many are free on the disk, for so many more.
    pub fn presses(&self, more: u64, free: u64) -> u64 {
        let over = self.held.saturating_add(more).saturating_sub(self.limit);
        over.max(self.floor.saturating_add(more).saturating_sub(free)).min(self.held)
    }

    /// What is to be released for so many bytes to go, that first which was not used for longest.
    pub fn to_release(&self, bytes: u64) -> Vec<Thing> {
        let mut gone = 0;
        let mut things = Vec::new();
        for thing in self.idle.values() {
            if gone >= bytes {
                break;
            }
            gone += self.of(*thing);
            things.push(*thing);
        }
        things
    }

    /// Takes so many more bytes for a thing, if they may come: nobody else has the room meanwhile.
    pub fn takes(&mut self, thing: Thing, more: u64, free: u64, leaving: bool) -> Answer {
        let answer = self.may_write(more, free, leaving);
        match answer {
            Answer::Go => {
                self.grows(thing, more);
                self.wanted = 0;
            }
            Answer::Wait => self.wanted = self.wanted.max(more),
            Answer::Full => {}
        }
        answer
    }

    /// So many bytes are to be released for whoever waits: some more than that, so that not every write waits anew.
    pub fn wanted(&self) -> u64 {
        match self.wanted {
            0 => 0,
            bytes => bytes.max(self.limit / 16),
        }
    }

    /// Whether so many more bytes may be written here, while so many are free on the disk. `leaving`: bytes are on their way
    /// to the service.
    pub fn may_write(&self, more: u64, free: u64, leaving: bool) -> Answer {
        let fits = self.held.saturating_add(more) <= self.limit;
        if fits && free >= self.floor.saturating_add(more) {
            return Answer::Go;
        }
        match !self.idle.is_empty() || leaving && self.leaves > 0 {
            true => Answer::Wait,
            false => Answer::Full,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[derive(Clone, Debug)]
    enum Event {
        Holds(u8, u16),
        Grows(u8, u16),
        Used(u8),
        Opened(u8),
        Closed(u8),
        Owes(u8, bool),
        Keeps(u8, bool),
        Presses(u16, u16),
        Takes(u8, u16, u16),
    }

    fn thing(number: u8) -> Thing {
        match number % 2 {
            0 => Thing::File(Object { device: 1, inode: number.into(), born: 0 }),
            _ => Thing::Blocks([number; 32]),
        }
    }

    fn event() -> impl Strategy<Value = Event> {
        let n = 0..12_u8;
        prop_oneof![
            (n.clone(), any::<u16>()).prop_map(|(n, bytes)| Event::Holds(n, bytes)),
            (n.clone(), any::<u16>()).prop_map(|(n, bytes)| Event::Grows(n, bytes)),
            n.clone().prop_map(Event::Used),
            n.clone().prop_map(Event::Opened),
            n.clone().prop_map(Event::Closed),
            (n.clone(), any::<bool>()).prop_map(|(n, on)| Event::Owes(n, on)),
            (n, any::<bool>()).prop_map(|(n, on)| Event::Keeps(n, on)),
            (any::<u16>(), any::<u16>()).prop_map(|(more, free)| Event::Presses(more, free)),
            (0..12_u8, any::<u16>(), any::<u16>()).prop_map(|(n, more, free)| Event::Takes(n, more, free)),
        ]
    }

    /// The same, told in the plainest way.
    #[derive(Default)]
    struct Plain(std::collections::BTreeMap<Thing, (u64, u64, u32, bool, bool)>);

    impl Plain {
        fn at(&mut self, n: u8) -> &mut (u64, u64, u32, bool, bool) {
            self.0.entry(thing(n)).or_default()
        }
    }

    proptest! {
        #[test]
        fn what_is_owed_open_or_kept_never_goes_and_sums_are_true(
            events in prop::collection::vec(event(), 1..200), limit in 0..200_000_u64, floor in 0..50_000_u64
        ) {
            let mut room = Room::new(limit, floor);
            let mut plain = Plain::default();
            for (tick, event) in events.into_iter().enumerate() {
                let tick = tick as u64 + 1;
                match event {
                    Event::Holds(n, bytes) => {
                        room.holds(thing(n), bytes.into());
                        plain.at(n).0 = bytes.into();
                    }
                    Event::Grows(n, bytes) => {
                        room.grows(thing(n), bytes.into());
                        plain.at(n).0 += u64::from(bytes);
                    }
                    Event::Used(n) => {
                        room.used(thing(n));
                        plain.at(n).1 = tick;
                    }
                    Event::Opened(n) => {
                        room.opened(thing(n));
                        plain.at(n).2 += 1;
                        plain.at(n).1 = tick;
                    }
                    Event::Closed(n) => {
                        room.closed(thing(n));
                        plain.at(n).2 = plain.at(n).2.saturating_sub(1);
                    }
                    Event::Owes(n, on) => {
                        room.owes(thing(n), on);
                        plain.at(n).3 = on;
                    }
                    Event::Keeps(n, on) => {
                        room.keeps(thing(n), on);
                        plain.at(n).4 = on;
                    }
                    Event::Takes(n, more, free) => {
                        let (more, free, held) = (u64::from(more), u64::from(free), room.held());
                        if room.takes(thing(n), more, free, true) == Answer::Go {
                            plain.at(n).0 += more;
                            prop_assert!(held + more <= limit && free >= floor + more);
                        }
                    }
                    Event::Presses(more, free) => {
                        let (more, free) = (u64::from(more), u64::from(free));
                        let need = room.presses(more, free);
                        let go = room.to_release(need);
                        let may = |p: &(u64, u64, u32, bool, bool)| p.0 > 0 && p.2 == 0 && !p.3 && !p.4;
                        for thing in &go {
                            prop_assert!(plain.0.get(thing).is_some_and(may));
                        }
                        let gone: u64 = go.iter().map(|thing| plain.0[thing].0).sum();
                        let all: u64 = plain.0.values().filter(|p| may(p)).map(|p| p.0).sum();
                        // Enough goes, or all that may.
                        prop_assert!(gone >= need.min(all));
                        // And not one more than is needed.
                        if let Some(last) = go.last() {
                            prop_assert!(gone - plain.0[last].0 < need);
                        }
                        let answer = room.may_write(more, free, false);
                        if answer == Answer::Go {
                            prop_assert!(room.held() + more <= limit && free >= floor + more);
                        } else {
                            prop_assert_eq!(answer == Answer::Full, all == 0);
                        }
                    }
                }
                prop_assert_eq!(room.held(), plain.0.values().map(|p| p.0).sum::<u64>());
                prop_assert_eq!(room.owed(), plain.0.values().filter(|p| p.3).map(|p| p.0).sum::<u64>());
            }
        }
    }

    #[test]
    fn what_was_not_used_for_longest_goes_first() {
        let mut room = Room::new(1000, 0);
        (0..10).for_each(|n| room.holds(thing(n), 100));
        (0..3).for_each(|n| room.used(thing(n)));
        assert_eq!(room.presses(150, u64::MAX), 150);
        assert_eq!(room.to_release(150), vec![thing(3), thing(4)]);
        // What somebody writes to waits for it, and goes on when there is room.
        assert_eq!(room.may_write(150, u64::MAX, false), Answer::Wait);
        room.holds(thing(3), 0);
        room.holds(thing(4), 0);
        assert_eq!(room.may_write(150, u64::MAX, false), Answer::Go);
    }

    #[test]
    fn what_somebody_waits_for_is_released_though_nothing_is_over_the_limit() {
        let mut room = Room::new(1600, 0);
        (0..16).for_each(|n| room.holds(thing(n), 100));
        let writes = thing(20);
        assert_eq!((room.presses(0, u64::MAX), room.wanted()), (0, 0));
        assert_eq!(room.takes(writes, 10, u64::MAX, false), Answer::Wait);
        let wanted = room.wanted();
        let goes = room.to_release(room.presses(wanted, u64::MAX));
        assert_eq!(goes, vec![thing(0)]);
        goes.into_iter().for_each(|thing| room.holds(thing, 0));
        assert_eq!(room.takes(writes, 10, u64::MAX, false), Answer::Go);
        assert_eq!((room.of(writes), room.wanted()), (10, 0));
    }

    #[test]
    fn when_nothing_may_go_and_nothing_leaves_it_is_full() {
        let mut room = Room::new(1000, 0);
        room.holds(thing(0), 900);
        room.owes(thing(0), true);
        assert_eq!(room.may_write(200, u64::MAX, true), Answer::Wait);
        assert_eq!(room.may_write(200, u64::MAX, false), Answer::Full);
        // What is still being written cannot leave.
        room.opened(thing(0));
        assert_eq!(room.may_write(200, u64::MAX, true), Answer::Full);
        // The floor of the disk holds as well, whatever the limit is.
        assert_eq!(Room::new(1000, 500).may_write(10, 400, true), Answer::Full);
    }
}

//! What only the service has: it is brought here, or was removed here.

use super::filter::Why;
use super::names;
use super::plan::{Does, Look, Slot};
use super::rules::{Rule, holds};
use super::{Common, Facets, Held, Item, Pair, TOP, There, Way};
use std::collections::BTreeSet;

impl Pair {
    pub(super) fn look_there(&mut self, item: Item, facets: &Facets, there: &There, time: &str) -> Look {
        let Some(common) = &facets.common else { return self.bring(item, there, time) };
        if facets.removing {
            return self.anew(item);
        }
        if self.way == Way::Down {
            // Removed here, and the service is not to hear of it: it stays away until it changes there.
            return match there.bytes.is_some_and(|(hash, _)| Some(hash) != common.hash) {
                true => self.anew(item),
                false => Look::Hold(Held::OtherWay),
            };
        }
        if let Beneath::Leaves(child) = self.what_is_beneath(item) {
            self.index.dirty.insert(child);
            return Look::Wait(child);
        }
        if !self.is_removable(item) {
            return match there.bytes {
                // What changed there since it was removed here stays, and so does a folder that holds such a thing.
                _ if there.bytes.is_none() || self.has_changed_there(facets) => self.anew(item),
                _ => Look::Done,
            };
        }
        if let Some(size) = there.bytes.map(|(_, size)| size).filter(|size| *size > 0)
            && let Some(unread) = self.unread_of(size)
        {
            // It may be that one, moved to where its object is another.
            self.index.dirty.insert(unread);
            return Look::Wait(unread);
        }
        if there.parent != TOP {
            let above = self.get(there.parent);
            let goes = above.here.is_none() && above.common.is_some() && above.there.is_some();
            if goes && !above.removing && above.held.is_none() {
                // It goes with its folder, or its folder stays: that is looked at first.
                if !self.index.busy.contains(&there.parent) {
                    self.index.dirty.insert(there.parent);
                }
                return Look::Wait(there.parent);
            }
        }
        let seen = if there.bytes.is_none() { self.upto.max(there.moment) } else { there.moment };
        Look::act(item, Does::RemoveThere { node: there.node, seen })
    }

    /// It is brought here as if it had never been.
    pub(super) fn anew(&mut self, item: Item) -> Look {
        self.at_mut(item).common = None;
        Look::Again
    }

    pub(super) fn has_changed_there(&self, facets: &Facets) -> bool {
        match (&facets.there, &facets.common) {
            (Some(there), Some(common)) => {
                there.bytes.is_some_and(|(hash, _)| Some(hash) != common.hash && Some(hash) != facets.sent)
            }
            _ => true,
        }
    }

    /// Whether something was removed here, with all that the service has beneath it, and nothing of it changed there.
    pub(super) fn is_removable(&self, item: Item) -> bool {
        matches!(self.what_is_beneath(item), Beneath::Goes)
    }

    /// What becomes of something that is gone here, with all that the service has beneath it.
    pub(super) fn what_is_beneath(&self, top: Item) -> Beneath {
        let mut beneath = Beneath::Goes;
        let (mut seen, mut waiting) = (BTreeSet::from([top]), vec![top]);
        while let Some(item) = waiting.pop() {
            let Some(facets) = self.items.get(&item) else { continue };
            let gone = facets.here.is_none() && facets.common.is_some() && !facets.removing;
            if item != top && (self.index.busy.contains(&item) || leaves(facets)) {
                // With all that is beneath it.
                beneath = Beneath::Leaves(item);
                continue;
            }
            if !gone || facets.held.is_some() || self.has_changed_there(facets) {
                return Beneath::Stays;
            }
            waiting.extend(self.children_there(item).into_iter().filter(|child| seen.insert(*child)));
        }
        beneath
    }

    /// A file here of this size whose bytes are not known yet, and that is nothing which the service has.
    pub(super) fn unread_of(&self, size: u64) -> Option<Item> {
        let unread = self.index.unread.range((size, TOP)..).take_while(|(its, _)| *its == size);
        let mut unread = unread.map(|(_, item)| *item);
        unread.find(|item| self.items.get(item).is_some_and(|f| f.held.is_none()))
    }

    pub(super) fn bring(&mut self, item: Item, there: &There, time: &str) -> Look {
        if self.way == Way::Up {
            return Look::Hold(Held::OtherWay);
        }
        let slot = (there.parent, there.name.clone());
        match self.made_from_here(&slot, there) {
            // What became of it here is found out first.
            Some(own) if self.get(own).unsettled.is_some() => return Look::Listed,
            Some(own) => return self.join(item, own),
            None => {}
        }
        if self.lays_a_ghost(&slot, there) {
            // It was made from here, and is gone here by now.
            let hash = there.bytes.map(|(hash, _)| hash);
            let (parent, name) = slot;
            self.at_mut(item).common = Some(Common { parent, name, hash, executable: there.executable });
            return Look::Again;
        }
        if let Some(look) = self.slot_here(item, &slot, time) {
            return look;
        }
        match there.bytes {
            None => Look::act(item, Does::MakeFolderHere(slot)),
            Some(_) => Look::act(item, Does::Fetch { slot, state: there.clone(), over: None }),
        }
    }

    /// Why a thing cannot come into a slot here yet; none if it can.
    pub(super) fn slot_here(&mut self, item: Item, slot: &Slot, time: &str) -> Option<Look> {
        let above = self.get(slot.0);
        match above.here {
            None if matches!(above.held, Some(Held::Left(_))) => {
                self.index.in_the_way.entry(slot.0).or_default().insert(item);
                return Some(Look::Hold(Held::Left(Why::InTheWay)));
            }
            None => {
                // A folder that is needed is made, though it was removed here.
                if above.there.is_some() && above.common.is_some() && slot.0 != TOP {
                    self.at_mut(slot.0).common = None;
                    self.index.dirty.insert(slot.0);
                }
                return Some(if above.there.is_some() { Look::Wait(slot.0) } else { Look::Told });
            }
            Some(_) if self.index.lost.contains(&slot.0) || self.index.fresh.contains(&slot.0) => {
                return Some(Look::Listed);
            }
            Some(_) => {}
        }
        if let Some(undone) = self.own_move_above(item, slot.0) {
            return Some(undone);
        }
        let occupant = self.index.here.get(slot).copied().filter(|other| *other != item)?;
        let other = self.get(occupant);
        let here = other.here.as_ref()?;
        if self.index.fresh.contains(&occupant) {
            return Some(Look::Listed);
        }
        if self.index.busy.contains(&occupant) {
            return Some(Look::Wait(occupant));
        }
        if matches!(other.held, Some(Held::Left(_))) {
            self.index.in_the_way.entry(occupant).or_default().insert(item);
            return Some(Look::Hold(Held::Left(Why::InTheWay)));
        }
        if self.why_left(occupant).is_some() {
            // It is told first whether it goes.
            self.index.dirty.insert(occupant);
            return Some(Look::Wait(occupant));
        }
        if other.there.is_none() && other.common.is_none() {
            return Some(self.meet(item, occupant, time));
        }
        let moves_on = match (&other.there, &other.common) {
            // The service has it elsewhere.
            (Some(there), Some(common)) => {
                let place = (there.parent, &there.name);
                place != (common.parent, &common.name) && place != (here.parent, &here.name)
            }
            // It is going, if nothing changed in it.
            (None, Some(common)) => here.stat.is_some() && here.hash.is_some() && here.hash == common.hash,
            _ => false,
        };
        if moves_on && self.waits_in_a_circle(item, occupant) {
            // One of a circle steps aside.
            let aside = self.free_name(slot.0, &format!("{}.moving", here.name), "", 1);
            return Some(self.move_here(occupant, (slot.0, aside)));
        }
        if moves_on || (other.there.is_none() && here.hash.is_none() && here.stat.is_some()) {
            self.index.dirty.insert(occupant);
            return Some(Look::Wait(occupant));
        }
        Some(self.make_way(occupant, time))
    }

    pub(super) fn move_here(&self, item: Item, slot: Slot) -> Look {
        let facets = self.get(item);
        let follows = facets.there.is_some_and(|there| (there.parent, &there.name) == (slot.0, &slot.1));
        Look::act(item, Does::MoveHere { slot, was: facets.here.and_then(|here| here.stat), follows })
    }

    /// Whether what the service has in a slot was made from here, by a request whose answer was lost, and is gone here.
    fn lays_a_ghost(&mut self, slot: &Slot, there: &There) -> bool {
        let is_it = |item: &Item| {
            self.items.get(item).is_some_and(|f| {
                let sent = there.bytes.map(|(hash, _)| hash);
                f.here.is_none() && f.there.is_none() && f.moving.as_ref() == Some(slot) && f.sent == sent
            })
        };
        let ghost = self.index.asked.iter().copied().find(is_it);
        ghost.into_iter().for_each(|ghost| self.forget(ghost));
        ghost.is_some()
    }

    /// What was sent from here to this slot, and whose answer was lost: it may be elsewhere here by now.
    pub(super) fn made_from_here(&mut self, slot: &Slot, there: &There) -> Option<Item> {
        let is_it = |facets: &Facets| {
            facets.moving.as_ref() == Some(slot)
                && facets.there.is_none()
                && facets.here.as_ref().is_some_and(|here| here.stat.is_none() == there.bytes.is_none())
                && (there.bytes.is_none() || facets.sent == there.bytes.map(|(hash, _)| hash))
        };
        let asked: Vec<Item> = self.index.asked.iter().copied().collect();
        for item in asked {
            match self.items.get(&item) {
                Some(facets) if facets.moving.is_none() => drop(self.index.asked.remove(&item)),
                None => drop(self.index.asked.remove(&item)),
                Some(facets) if is_it(facets) && !self.index.busy.contains(&item) => return Some(item),
                Some(_) => {}
            }
        }
        None
    }

    /// Two things meet in one slot that know nothing of each other. If they are the same, they are one from now on.
    pub(super) fn meet(&mut self, item: Item, occupant: Item, time: &str) -> Look {
        let (its, other) = (self.get(item), self.get(occupant));
        let (Some(there), Some(here)) = (&its.there, &other.here) else { return Look::Told };
        if its.here.is_some() || there.bytes.is_none() != here.stat.is_none() || its.common.is_some() {
            return self.make_way(occupant, time);
        }
        let Some((hash, _)) = there.bytes else { return self.join(item, occupant) };
        let Some(known) = here.hash else {
            self.index.dirty.insert(occupant);
            return Look::Wait(occupant);
        };
        if known == hash || other.sent == Some(hash) || !holds(Rule::SlotsAreFree) {
            return self.join(item, occupant);
        }
        self.make_way(occupant, time)
    }

    /// What the service has, and what lies here, are one thing.
    pub(super) fn join(&mut self, item: Item, occupant: Item) -> Look {
        let other = self.get(occupant);
        let Some(here) = other.here.clone() else { return Look::Again };
        self.hand_over(occupant, item);
        let unlisted = self.index.unlisted.contains(&occupant);
        self.forget(occupant);
        let Some(there) = self.get(item).there else { return Look::Again };
        let executable = here.stat.is_some_and(|s| s.executable);
        let (parent, name, hash) = (there.parent, there.name, there.bytes.map(|(hash, _)| hash));
        self.at_mut(item).sent = other.sent;
        self.at_mut(item).common = Some(Common { parent, name, hash, executable });
        self.set_here(item, Some(here));
        if unlisted {
            self.index.unlisted.insert(item);
        }
        Look::Again
    }

    /// The service's thing has the slot: what stands there here takes the name of a copy.
    pub(super) fn make_way(&mut self, occupant: Item, time: &str) -> Look {
        let Some(here) = self.get(occupant).here else { return Look::Listed };
        let folder = self.aside(here.parent);
        let name = self.free_name(folder, &here.name, time, 1);
        self.move_here(occupant, (folder, name))
    }

    /// The folder for a copy of what lies in another: the same, but beside a repository, never in it.
    pub(super) fn aside(&self, folder: Item) -> Item {
        let (mut aside, mut next, mut steps) = (folder, folder, 0);
        while next != TOP && steps < 1000 {
            let Some(here) = self.get(next).here else { break };
            if names::is_repository(&here.name) {
                aside = here.parent;
            }
            (next, steps) = (here.parent, steps + 1);
        }
        aside
    }

    /// A name that is free on both sides.
    pub(super) fn free_name(&self, folder: Item, name: &str, time: &str, from: u32) -> String {
        let mut number = from;
        loop {
            let copy = names::beside(name, &self.device, time, number);
            let slot = (folder, copy);
            if !self.index.here.contains_key(&slot) && !self.index.there.contains_key(&slot) {
                return slot.1;
            }
            number += 1;
        }
    }

    /// Where something cannot go beneath itself, what was moved here is put back to where the service has it.
    pub(super) fn own_move_above(&mut self, item: Item, folder: Item) -> Option<Look> {
        let mut way = Vec::new();
        let mut next = folder;
        while next != TOP && next != item && way.len() < 1000 {
            way.push(next);
            next = self.get(next).here?.parent;
        }
        if next != item {
            return None;
        }
        for above in way {
            let facets = self.get(above);
            if let (Some(there), Some(here)) = (&facets.there, &facets.here)
                && (there.parent, &there.name) != (here.parent, &here.name)
                && !self.index.busy.contains(&above)
                && !self.is_beneath_here(there.parent, above)
                && self.get(there.parent).here.is_some()
            {
                let slot = (there.parent, there.name.clone());
                if self.index.here.contains_key(&slot) {
                    let Some(here) = self.get(above).here else { continue };
                    let name = self.free_name(slot.0, &here.name, "moving", 1);
                    return Some(self.move_here(above, (slot.0, name)));
                }
                return Some(self.move_here(above, slot));
            }
        }
        // It goes on when what it is to go into has left it.
        let first = self.leaves_first(item, folder);
        if let Some(left) = first.filter(|first| matches!(self.get(*first).held, Some(Held::Left(_)))) {
            self.index.in_the_way.entry(left).or_default().insert(item);
            return Some(Look::Hold(Held::Left(Why::InTheWay)));
        }
        Some(first.map_or(Look::Told, Look::Wait))
    }

    /// Of the folders on the way from one up to another, the first that the service has elsewhere.
    pub(super) fn leaves_first(&self, item: Item, folder: Item) -> Option<Item> {
        let (mut next, mut steps) = (folder, 0);
        while next != TOP && next != item && steps < 1000 {
            let facets = self.items.get(&next)?;
            let here = facets.here.as_ref()?;
            let elsewhere = |there: &There| (there.parent, &there.name) != (here.parent, &here.name);
            if facets.there.as_ref().is_some_and(elsewhere) {
                return Some(next);
            }
            (next, steps) = (here.parent, steps + 1);
        }
        None
    }

    pub(super) fn is_beneath_here(&self, item: Item, folder: Item) -> bool {
        let (mut next, mut steps) = (item, 0);
        while next != TOP && steps < 1000 {
            if next == folder {
                return true;
            }
            let Some(here) = self.items.get(&next).and_then(|f| f.here.as_ref()) else { return false };
            next = here.parent;
            steps += 1;
        }
        false
    }

    pub(super) fn is_beneath_there(&self, item: Item, folder: Item) -> bool {
        let (mut next, mut steps) = (item, 0);
        while next != TOP && steps < 1000 {
            if next == folder {
                return true;
            }
            let Some(there) = self.items.get(&next).and_then(|f| f.there.as_ref()) else { return false };
            next = there.parent;
            steps += 1;
        }
        false
    }

    /// Whether what stands in the way waits, in the end, for this one.
    pub(super) fn waits_in_a_circle(&self, item: Item, occupant: Item) -> bool {
        let mut seen = BTreeSet::new();
        let mut next = occupant;
        while seen.insert(next) {
            match self.stands_in_its_way(next) {
                Some(other) if other == item => return true,
                Some(other) => next = other,
                None => return false,
            }
        }
        false
    }

    /// What keeps a thing from going to where the service has it: its folder, which is not here yet, or what stands there.
    pub(super) fn stands_in_its_way(&self, item: Item) -> Option<Item> {
        let there = self.items.get(&item)?.there.as_ref()?;
        if there.parent != TOP && self.items.get(&there.parent).is_some_and(|above| above.here.is_none()) {
            return Some(there.parent);
        }
        if self.is_beneath_here(there.parent, item) {
            return self.leaves_first(item, there.parent);
        }
        let slot = (there.parent, there.name.clone());
        self.index.here.get(&slot).copied().filter(|other| *other != item)
    }
}

/// What becomes of what the service has beneath something that is gone here.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Beneath {
    /// All of it goes.
    Goes,
    /// This one moves out first, or something is being done with it.
    Leaves(Item),
    /// Something of it stays.
    Stays,
}

/// Whether something was moved away here, and the service does not know it yet.
fn leaves(facets: &Facets) -> bool {
    let (Some(there), Some(here), Some(common)) = (&facets.there, &facets.here, &facets.common) else {
        return false;
    };
    let place = (there.parent, &there.name);
    facets.held.is_none() && place == (common.parent, &common.name) && place != (here.parent, &here.name)
}

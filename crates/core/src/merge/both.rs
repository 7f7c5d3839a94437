//! What both have: bytes, places and marks that differ.

use super::plan::{Does, Look, Move, Slot};
use super::rules::{Rule, holds};
use super::{Common, Facets, Hash, Held, Item, Pair, Stat, There, Way};

/// So many copies are made of a thing within an hour, before a person is asked.
const COPIES: u8 = 5;

/// The hour of a time as people read it, as one number.
fn hour_of(time: &str) -> u32 {
    let digits = time.bytes().take(13).filter(u8::is_ascii_digit);
    digits.fold(0, |number: u32, digit| number.wrapping_mul(10).wrapping_add(u32::from(digit - b'0')))
}

impl Pair {
    pub(super) fn look_both(&mut self, item: Item, facets: &Facets, time: &str) -> Look {
        let (Some(there), Some(here)) = (&facets.there, &facets.here) else { return Look::Done };
        let executable = here.stat.is_some_and(|stat| stat.executable);
        let Some(mut common) = facets.common.clone() else {
            let common = Common {
                parent: there.parent,
                name: there.name.clone(),
                hash: facets.sent,
                executable: there.executable,
            };
            self.at_mut(item).common = Some(common);
            return Look::Again;
        };
        if let (Some((hash, _)), Some(stat)) = (there.bytes, here.stat) {
            let Some(known) = here.hash else { return Look::act(item, Does::ReadHash(stat)) };
            // Its answer was lost: the service has what was sent from here.
            if facets.sent == Some(hash) {
                common.hash = Some(hash);
            }
            if known != hash {
                return self.look_bytes(item, facets, &common, (hash, known, stat), time);
            }
            common.hash = Some(hash);
            if there.executable != executable {
                let changed_here = common.executable == there.executable;
                return match (changed_here, self.way) {
                    (true, Way::Down) | (false, Way::Up) => Look::Hold(Held::OtherWay),
                    (true, _) => Look::act(item, Does::MarkThere { node: there.node, executable }),
                    (false, _) => Look::act(item, Does::MarkHere(there.executable, here.stat)),
                };
            }
            common.executable = executable;
        }
        if facets.moving.as_ref().is_some_and(|(parent, name)| (*parent, name) == (there.parent, &there.name))
        {
            // It was moved there from here.
            (common.parent, common.name) = (there.parent, there.name.clone());
        }
        if (there.parent, &there.name) == (here.parent, &here.name) {
            (common.parent, common.name) = (there.parent, there.name.clone());
            if facets.common.as_ref() != Some(&common) || facets.sent.is_some() || facets.moving.is_some() {
                self.at_mut(item).common = Some(common);
                self.at_mut(item).sent = None;
                self.at_mut(item).moving = None;
                self.touch(item);
                self.index.dirty.remove(&item);
            }
            return Look::Done;
        }
        self.at_mut(item).common = Some(common.clone());
        let theirs = (there.parent, &there.name) != (common.parent, &common.name);
        match (theirs, self.way) {
            (true, Way::Up) | (false, Way::Down) => return Look::Hold(Held::OtherWay),
            (true, _) => {
                let slot = (there.parent, there.name.clone());
                if let Some(look) = self.slot_here(item, &slot, time) {
                    return look;
                }
                return self.move_here(item, slot);
            }
            (false, _) => {}
        }
        self.look_move(item, there, (here.parent, here.name.clone()), time)
    }

    pub(super) fn look_bytes(
        &mut self,
        item: Item,
        facets: &Facets,
        common: &Common,
        (hash, known, stat): (Hash, Hash, Stat),
        time: &str,
    ) -> Look {
        let (Some(there), Some(here)) = (&facets.there, &facets.here) else { return Look::Done };
        if common.hash == Some(known) || common.hash != Some(hash) && !holds(Rule::BothEdits) {
            if self.way == Way::Up {
                return Look::Hold(Held::OtherWay);
            }
            let slot = (here.parent, here.name.clone());
            return Look::act(item, Does::Fetch { slot, state: there.clone(), over: Some(stat) });
        }
        if common.hash == Some(hash) {
            if self.way == Way::Down {
                return Look::Hold(Held::OtherWay);
            }
            self.at_mut(item).sent = Some(known);
            let (node, seen) = (there.node, there.moment);
            return Look::act(item, Does::PutOnto { node, seen, bytes: known, stat });
        }
        if self.way == Way::Up {
            return Look::Hold(Held::OtherWay);
        }
        if facets.rolled_back {
            return Look::Hold(Held::RolledBack);
        }
        // Both changed: what lies here becomes a copy beside it.
        let hour = hour_of(time);
        let many = facets.copied.filter(|(in_hour, _)| *in_hour == hour).map_or(0, |(_, many)| many);
        if many >= COPIES {
            return Look::Hold(Held::Copies);
        }
        self.at_mut(item).copied = Some((hour, many.saturating_add(1)));
        let folder = self.aside(here.parent);
        let name = self.free_name(folder, &here.name, time, 1);
        Look::act(item, Does::SetAside((folder, name), here.stat))
    }

    /// It was moved here, and the service is to move it too.
    pub(super) fn look_move(&mut self, item: Item, there: &There, slot: Slot, time: &str) -> Look {
        let parent = match self.parent_there(slot.0) {
            Ok(parent) => parent,
            Err(look) => return look,
        };
        if self.is_beneath_there(slot.0, item) {
            // The service moved one into the other meanwhile: there it stays as it is, and here it is put back.
            let back = (there.parent, there.name.clone());
            if let Some(look) = self.slot_here(item, &back, time) {
                return look;
            }
            return self.move_here(item, back);
        }
        let one = |pair: &Pair, item: Item| -> Option<(Move, Slot)> {
            let facets = pair.get(item);
            let (there, here, common) = (facets.there?, facets.here?, facets.common?);
            let place = (there.parent, &there.name);
            if place != (common.parent, &common.name) || place == (here.parent, &here.name) {
                return None;
            }
            let parent = pair.get(here.parent).there?.node;
            let beneath = pair.is_beneath_there(here.parent, item);
            let free = !pair.index.busy.contains(&item) && !pair.index.lost.contains(&item) && !beneath;
            let slot = (here.parent, here.name.clone());
            free.then_some((
                Move { item, node: there.node, parent, name: here.name, seen: there.moment },
                slot,
            ))
        };
        // Names that go round in a circle go as one change.
        let mut circle = Vec::new();
        let mut next = item;
        while let Some((step, slot)) = one(self, next) {
            circle.push(step);
            match self.index.there.get(&slot) {
                Some(other) if *other == item => return Look::act(item, Does::MoveThere(circle)),
                Some(other) if circle.iter().all(|m| m.item != *other) => next = *other,
                _ => break,
            }
        }
        if let Some(look) = self.slot_there(item, &slot, time) {
            return look;
        }
        let (node, seen) = (there.node, there.moment);
        Look::act(item, Does::MoveThere(vec![Move { item, node, parent, name: slot.1, seen }]))
    }
}

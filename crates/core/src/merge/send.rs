//! What only lies here: it is sent, or was removed on the service.

use super::bring::Beneath;
use super::plan::{Does, Look, Move, Slot};
use super::rules::{Rule, holds};
use super::{Facets, Held, Item, Pair, Way};
use crate::ids::NodeId;
use std::collections::BTreeSet;

impl Pair {
    pub(super) fn look_here(&mut self, item: Item, facets: &Facets, time: &str) -> Look {
        let Some(here) = &facets.here else { return Look::Done };
        if facets.out_of_sight {
            return Look::Hold(Held::OutOfSight);
        }
        let Some(common) = &facets.common else { return self.send(item, facets, time) };
        let Some(stat) = here.stat else {
            let children = self.children_here(item);
            if let Some(child) = children.into_iter().find(|child| !self.rests(*child, 0)) {
                self.index.dirty.insert(child);
                return Look::Wait(child);
            }
            if !self.children_here(item).is_empty() {
                // What is held stays, and so does its folder.
                return Look::Done;
            }
            if self.index.unlisted.contains(&item) {
                return Look::Listed;
            }
            if self.way == Way::Up {
                return self.anew(item);
            }
            return Look::act(item, Does::RemoveHere(None));
        };
        let Some(hash) = here.hash else { return Look::act(item, Does::ReadHash(stat)) };
        if (Some(hash) == common.hash || !holds(Rule::EditsStay)) && self.way != Way::Up {
            return Look::act(item, Does::RemoveHere(Some(stat)));
        }
        if self.way == Way::Down {
            return Look::Hold(Held::OtherWay);
        }
        if facets.rolled_back {
            return Look::Hold(Held::RolledBack);
        }
        // Changed here, removed there: it comes back, with the folders on its way.
        // If another thing here is that one by now, this is a new one.
        let Some(node) = facets.was.filter(|node| !self.index.by_node.contains_key(node)) else {
            return self.anew(item);
        };
        match self.parent_there(here.parent) {
            Ok(parent) => {
                let slot = (here.parent, here.name.clone());
                if let Some(look) = self.slot_there(item, &slot, time) {
                    return look;
                }
                Look::act(item, Does::Revive { node, parent, name: here.name.clone() })
            }
            Err(look) => look,
        }
    }

    /// Whether something here stays where it is: it is held, or a folder that stays for what is held in it.
    pub(super) fn rests(&self, item: Item, depth: usize) -> bool {
        let Some(facets) = self.items.get(&item) else { return false };
        if facets.held.is_some() {
            return true;
        }
        let emptied = facets.there.is_none() && facets.common.is_some();
        let folder = facets.here.as_ref().is_some_and(|here| here.stat.is_none());
        let children = self.children_here(item);
        let known = !self.index.dirty.contains(&item) && !self.index.unlisted.contains(&item);
        let deep = depth < 1000;
        folder
            && emptied
            && known
            && deep
            && !children.is_empty()
            && children.iter().all(|c| self.rests(*c, depth + 1))
    }

    pub(super) fn send(&mut self, item: Item, facets: &Facets, time: &str) -> Look {
        let Some(here) = &facets.here else { return Look::Done };
        if self.way == Way::Down {
            return Look::Hold(Held::OtherWay);
        }
        if let Some(other) = self.is_there_already(item, facets) {
            self.index.dirty.insert(other);
            return self.join(other, item);
        }
        let bytes = match (here.stat, here.hash) {
            (Some(stat), None) => return Look::act(item, Does::ReadHash(stat)),
            (Some(stat), Some(hash)) => Some((hash, stat)),
            (None, _) => None,
        };
        let parent = match self.parent_there(here.parent) {
            Ok(parent) => parent,
            Err(look) => return look,
        };
        let slot = (here.parent, here.name.clone());
        if let Some(look) = self.slot_there(item, &slot, time) {
            return look;
        }
        let name = here.name.clone();
        match bytes {
            None => Look::act(item, Does::MakeFolderThere { parent, name }),
            Some((bytes, stat)) => {
                self.at_mut(item).sent = Some(bytes);
                Look::act(item, Does::PutNew { parent, name, bytes, stat })
            }
        }
    }

    /// The node of a folder that something goes into. One that was removed there is made again.
    pub(super) fn parent_there(&mut self, folder: Item) -> Result<NodeId, Look> {
        let above = self.get(folder);
        if let Some(there) = above.there {
            return Ok(there.node);
        }
        if above.common.is_some() && !above.out_of_sight {
            self.at_mut(folder).common = None;
        }
        if let Some(why) = above.held {
            return Err(Look::Hold(why));
        }
        self.index.dirty.insert(folder);
        Err(Look::Wait(folder))
    }

    /// What it became on the service, by a request whose answer was lost.
    fn is_there_already(&mut self, item: Item, facets: &Facets) -> Option<Item> {
        let slot = facets.moving.as_ref()?;
        let other = self.index.there.get(slot).copied()?;
        let its = self.items.get(&other).filter(|f| f.here.is_none() && f.common.is_none())?;
        let there = its.there.clone()?;
        (self.made_from_here(slot, &there) == Some(item)).then_some(other)
    }

    /// Why a thing cannot go into a slot on the service yet; none if it can.
    pub(super) fn slot_there(&mut self, item: Item, slot: &Slot, time: &str) -> Option<Look> {
        let occupant = self.index.there.get(slot).copied().filter(|other| *other != item)?;
        let (its, other) = (self.get(item), self.get(occupant));
        if self.index.busy.contains(&occupant) {
            return Some(Look::Wait(occupant));
        }
        if its.held.is_none() && matches!(other.held, Some(Held::Left(_))) {
            // What is left out keeps its name.
            return Some(self.make_way(item, time));
        }
        if let (Some(there), true) = (&other.there, other.here.is_none() && other.common.is_none())
            && self.made_from_here(slot, there).is_some_and(|own| own != item)
        {
            // It is another of this computer's things, which has moved on here.
            self.index.dirty.insert(occupant);
            return Some(Look::Wait(occupant));
        }
        if other.here.is_none() && other.common.is_none() && its.there.is_none() && its.common.is_none() {
            return Some(match self.meet(occupant, item, time) {
                Look::Wait(same) if same == item => Look::Again,
                // The one that is left is looked at.
                Look::Again => {
                    self.index.dirty.insert(occupant);
                    Look::Done
                }
                look => look,
            });
        }
        let (Some(there), Some(common)) = (&other.there, &other.common) else {
            return Some(self.make_way(item, time));
        };
        let place = (there.parent, &there.name);
        let leaves = match &other.here {
            // Moved away here, and the service does not know it yet.
            Some(here) => place == (common.parent, &common.name) && place != (here.parent, &here.name),
            None => self.what_is_beneath(occupant) != Beneath::Stays && other.held.is_none(),
        };
        if self.index.lost.contains(&occupant) {
            return Some(Look::Listed);
        }
        match leaves {
            true if self.is_in_the_way(item, occupant, other.here.is_some()) => {
                // It is to go into what waits for its place: it steps aside.
                let Some(parent) = self.get(there.parent).there.map(|above| above.node) else {
                    return Some(Look::Told);
                };
                let name = self.free_name(there.parent, &format!("{}.moving", there.name), "", 1);
                let (node, seen) = (there.node, there.moment);
                let step = Move { item: occupant, node, parent, name, seen };
                Some(Look::act(occupant, Does::MoveThere(vec![step])))
            }
            true => {
                self.index.dirty.insert(occupant);
                Some(Look::Wait(occupant))
            }
            false => Some(self.make_way(item, time)),
        }
    }

    /// Whether what stands in the way on the service cannot leave before this one has come.
    fn is_in_the_way(&self, item: Item, occupant: Item, is_here: bool) -> bool {
        match is_here {
            true => self.sent_in_a_circle(item, occupant),
            false => {
                matches!(self.what_is_beneath(occupant), Beneath::Leaves(child) if !self.index.busy.contains(&child))
            }
        }
    }

    /// Whether what stands in the way on the service waits, in the end, for this one.
    pub(super) fn sent_in_a_circle(&self, item: Item, occupant: Item) -> bool {
        let mut seen = BTreeSet::new();
        let mut next = occupant;
        while seen.insert(next) {
            let Some(here) = self.items.get(&next).and_then(|f| f.here.as_ref()) else { return false };
            let above = self.items.get(&here.parent);
            let blocks = match above.is_some_and(|above| above.there.is_none()) {
                true => Some(here.parent),
                false => {
                    let slot = (here.parent, here.name.clone());
                    self.index.there.get(&slot).copied().filter(|other| *other != next)
                }
            };
            match blocks {
                Some(other) if other == item => return true,
                Some(other) => next = other,
                None => return false,
            }
        }
        false
    }
}

//! What is to be done next with each thing.

use super::{Common, Facets, Hash, Held, Item, Pair, Stat, TOP, There, Way, names};
use crate::ids::{Moment, NodeId};
use std::collections::BTreeSet;

/// Something to do, with what must hold when it is done: else it is not done, and is told so.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Action {
    /// The thing.
    pub item: Item,
    /// Which of its actions this is: the same again if nobody knows what became of it, so that the service can be asked
    /// by the same name for it.
    pub turn: u32,
    /// What is done.
    pub does: Does,
}

/// A slot here: a folder and a name in it.
pub type Slot = (Item, String);

/// What can be done.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Does {
    /// Reads a file here for its hash.
    ReadHash(Stat),
    /// Makes a folder here, where nothing may stand.
    MakeFolderHere(Slot),
    /// Fetches a state of a file into a slot: over the file that is known there, or where nothing may stand.
    Fetch {
        /// Where to.
        slot: Slot,
        /// What the service has.
        state: There,
        /// What lies there, as it was seen last.
        over: Option<Stat>,
    },
    /// Renames or moves here what is as it was seen last, to where nothing may stand.
    MoveHere {
        /// Where to.
        slot: Slot,
        /// As it was seen last.
        was: Option<Stat>,
        /// Whether the service has it there.
        follows: bool,
    },
    /// Renames a file here that is as it was seen last to the name of a copy, where nothing may stand: it is another file
    /// from then on.
    SetAside(Slot, Option<Stat>),
    /// Removes a file that is as it was seen last, or an empty folder.
    RemoveHere(Option<Stat>),
    /// Lets a file run here that is as it was seen last, or not.
    MarkHere(bool, Option<Stat>),
    /// Makes a folder on the service.
    MakeFolderThere {
        /// In this folder.
        parent: NodeId,
        /// Under this name.
        name: String,
    },
    /// Puts a new file on the service, where nothing may stand.
    PutNew {
        /// In this folder.
        parent: NodeId,
        /// Under this name.
        name: String,
        /// The bytes that it has here.
        bytes: Hash,
        /// As it was seen last.
        stat: Stat,
    },
    /// Gives a file of the service new bytes.
    PutOnto {
        /// The file.
        node: NodeId,
        /// The last moment that is known of it.
        seen: Moment,
        /// The bytes that it has here.
        bytes: Hash,
        /// As it was seen last.
        stat: Stat,
    },
    /// Brings a removed file back on the service, without what else was in its folder.
    Revive {
        /// The file.
        node: NodeId,
        /// To this folder.
        parent: NodeId,
        /// Under this name.
        name: String,
    },
    /// Renames and moves on the service, as one change.
    MoveThere(Vec<Move>),
    /// Removes on the service, with all beneath, if nothing happened to any of it since.
    RemoveThere {
        /// The file or folder.
        node: NodeId,
        /// The last moment that is known.
        seen: Moment,
    },
    /// Says of a file whether it is a program.
    MarkThere {
        /// The file.
        node: NodeId,
        /// Whether it is.
        executable: bool,
    },
}

/// One of many moves.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Move {
    /// The thing.
    pub item: Item,
    /// Its node.
    pub node: NodeId,
    /// The folder that it goes to.
    pub parent: NodeId,
    /// Its name there.
    pub name: String,
    /// The last moment that is known of it.
    pub seen: Moment,
}

/// What looking at a thing came to.
enum Look {
    /// Nothing is to be done.
    Done,
    /// It was changed in what is known of it: look again.
    Again,
    /// Something is to be done, to this item.
    Do(Item, Does),
    /// It waits for another thing.
    Wait(Item),
    /// It waits for the service's changes to be read.
    Told,
    /// It waits for folders here to be listed.
    Listed,
    /// Nothing is done, for this reason.
    Hold(Held),
}

impl Pair {
    /// What to do next, at most so many things; each is under way until its outcome is told. `time`: the service's, as
    /// people read it, for the names of copies.
    pub fn next(&mut self, most: usize, time: &str) -> Vec<Action> {
        let mut actions = Vec::new();
        // What is in a folder may be what something here is waiting for.
        if !self.index.unexpanded.is_empty() {
            return actions;
        }
        let many = !self.allowed && self.mass().is_some();
        let mut looks = self.index.dirty.len() * 4 + 1000;
        while actions.len() < most && looks > 0 {
            let Some(item) = self.index.dirty.pop_first() else { break };
            looks -= 1;
            let unsettled = self.index.fresh.contains(&item) || self.index.lost.contains(&item);
            if self.index.busy.contains(&item) || unsettled || !self.items.contains_key(&item) {
                continue;
            }
            match self.look(item, time) {
                Look::Done => {}
                Look::Again => drop(self.index.dirty.insert(item)),
                Look::Do(_, Does::RemoveHere(_) | Does::RemoveThere { .. }) if many => {
                    self.index.until_allowed.insert(item);
                }
                Look::Do(of, does) => {
                    match &does {
                        Does::MoveThere(moves) => self.index.busy.extend(moves.iter().map(|m| m.item)),
                        Does::RemoveHere(_) => self.at_mut(of).removing = true,
                        _ => {}
                    }
                    self.index.busy.insert(of);
                    if of != item {
                        self.index.waiting.entry(of).or_default().insert(item);
                    }
                    let turn = self.get(of).turn;
                    actions.push(Action { item: of, turn, does });
                }
                Look::Wait(other) => drop(self.index.waiting.entry(other).or_default().insert(item)),
                Look::Told => drop(self.index.until_told.insert(item)),
                Look::Listed => drop(self.index.until_listed.insert(item)),
                Look::Hold(why) => self.at_mut(item).held = Some(why),
            }
        }
        if self.allowed && actions.is_empty() && self.is_quiet() {
            self.allowed = false;
            self.changed.insert(TOP);
        }
        actions
    }

    fn look(&mut self, item: Item, time: &str) -> Look {
        let facets = self.get(item);
        if item == TOP || facets.held.is_some() {
            return Look::Done;
        }
        match (&facets.there, &facets.here) {
            (None, None) => {
                if !facets.out_of_sight {
                    self.forget(item);
                }
                Look::Done
            }
            (Some(there), None) => self.look_there(item, &facets, there, time),
            (None, Some(_)) => self.look_here(item, &facets, time),
            (Some(there), Some(here)) => {
                if there.bytes.is_none() != here.stat.is_none() {
                    // They only have the name in common.
                    return self.part(item);
                }
                self.look_both(item, &facets, time)
            }
        }
    }

    /// What lies here is another thing than what the service has.
    fn part(&mut self, item: Item) -> Look {
        let here = self.get(item).here;
        let other = self.new_item();
        self.hand_over(item, other);
        self.set_here(item, None);
        self.at_mut(item).common = None;
        self.set_here(other, here);
        Look::Again
    }

    // --- what only the service has ---

    fn look_there(&mut self, item: Item, facets: &Facets, there: &There, time: &str) -> Look {
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
            if above.here.is_none() && above.common.is_some() && self.is_removable(there.parent) {
                // It goes with its folder.
                return Look::Wait(there.parent);
            }
        }
        if there.bytes.is_none()
            && self.children_there(item).iter().any(|child| self.index.busy.contains(child))
        {
            return Look::Told;
        }
        let seen = if there.bytes.is_none() { self.upto.max(there.moment) } else { there.moment };
        Look::Do(item, Does::RemoveThere { node: there.node, seen })
    }

    /// It is brought here as if it had never been.
    fn anew(&mut self, item: Item) -> Look {
        self.at_mut(item).common = None;
        Look::Again
    }

    fn has_changed_there(&self, facets: &Facets) -> bool {
        match (&facets.there, &facets.common) {
            (Some(there), Some(common)) => {
                there.bytes.is_some_and(|(hash, _)| Some(hash) != common.hash && Some(hash) != facets.sent)
            }
            _ => true,
        }
    }

    /// Whether something was removed here, with all that the service has beneath it, and nothing of it changed there.
    fn is_removable(&self, item: Item) -> bool {
        let all = self.beneath_there(item).into_iter().chain([item]);
        all.into_iter().all(|item| {
            let Some(facets) = self.items.get(&item) else { return true };
            let gone = facets.here.is_none() && facets.common.is_some() && !facets.removing;
            gone && facets.held.is_none()
                && !self.index.busy.contains(&item)
                && !self.has_changed_there(facets)
        })
    }

    /// A file here of this size whose bytes are not known yet, and that is nothing which the service has.
    fn unread_of(&self, size: u64) -> Option<Item> {
        let mut unread = self.items.iter().filter(|(_, f)| {
            f.there.is_none()
                && f.held.is_none()
                && f.here.as_ref().is_some_and(|h| h.hash.is_none() && h.stat.is_some_and(|s| s.size == size))
        });
        unread.next().map(|(item, _)| *item)
    }

    fn bring(&mut self, item: Item, there: &There, time: &str) -> Look {
        if self.way == Way::Up {
            return Look::Hold(Held::OtherWay);
        }
        let slot = (there.parent, there.name.clone());
        if let Some(look) = self.slot_here(item, &slot, time) {
            return look;
        }
        match there.bytes {
            None => Look::Do(item, Does::MakeFolderHere(slot)),
            Some(_) => Look::Do(item, Does::Fetch { slot, state: there.clone(), over: None }),
        }
    }

    /// Why a thing cannot come into a slot here yet; none if it can.
    fn slot_here(&mut self, item: Item, slot: &Slot, time: &str) -> Option<Look> {
        let above = self.get(slot.0);
        match above.here {
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

    fn move_here(&self, item: Item, slot: Slot) -> Look {
        let facets = self.get(item);
        let follows = facets.there.is_some_and(|there| (there.parent, &there.name) == (slot.0, &slot.1));
        Look::Do(item, Does::MoveHere { slot, was: facets.here.and_then(|here| here.stat), follows })
    }

    /// Two things meet in one slot that know nothing of each other. If they are the same, they are one from now on.
    fn meet(&mut self, item: Item, occupant: Item, time: &str) -> Look {
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
        if known == hash || other.sent == Some(hash) {
            return self.join(item, occupant);
        }
        self.make_way(occupant, time)
    }

    /// What the service has, and what lies here, are one thing.
    fn join(&mut self, item: Item, occupant: Item) -> Look {
        let other = self.get(occupant);
        let Some(here) = other.here.clone() else { return Look::Again };
        self.hand_over(occupant, item);
        let unlisted = self.index.unlisted.contains(&occupant);
        self.forget(occupant);
        let (parent, name, executable) =
            (here.parent, here.name.clone(), here.stat.is_some_and(|s| s.executable));
        let hash = self.get(item).there.and_then(|there| there.bytes).map(|(hash, _)| hash);
        self.at_mut(item).sent = other.sent;
        self.at_mut(item).common = Some(Common { parent, name, hash, executable });
        self.set_here(item, Some(here));
        if unlisted {
            self.index.unlisted.insert(item);
        }
        Look::Again
    }

    /// The service's thing has the slot: what stands there here takes the name of a copy.
    fn make_way(&mut self, occupant: Item, time: &str) -> Look {
        let Some(here) = self.get(occupant).here else { return Look::Listed };
        let name = self.free_name(here.parent, &here.name, time, 1);
        self.move_here(occupant, (here.parent, name))
    }

    /// A name that is free on both sides.
    fn free_name(&self, folder: Item, name: &str, time: &str, from: u32) -> String {
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
    fn own_move_above(&mut self, item: Item, folder: Item) -> Option<Look> {
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
        Some(self.leaves_first(item, folder).map_or(Look::Told, Look::Wait))
    }

    /// Of the folders on the way from one up to another, the first that the service has elsewhere.
    fn leaves_first(&self, item: Item, folder: Item) -> Option<Item> {
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

    fn is_beneath_here(&self, item: Item, folder: Item) -> bool {
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

    fn is_beneath_there(&self, item: Item, folder: Item) -> bool {
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
    fn waits_in_a_circle(&self, item: Item, occupant: Item) -> bool {
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
    fn stands_in_its_way(&self, item: Item) -> Option<Item> {
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

    // --- what only lies here ---

    fn look_here(&mut self, item: Item, facets: &Facets, time: &str) -> Look {
        let Some(here) = &facets.here else { return Look::Done };
        if facets.out_of_sight {
            return Look::Hold(Held::OutOfSight);
        }
        let Some(common) = &facets.common else { return self.send(item, facets, time) };
        let Some(stat) = here.stat else {
            let children = self.children_here(item);
            if let Some(child) = children.into_iter().find(|child| !self.get(*child).held.is_some()) {
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
            return Look::Do(item, Does::RemoveHere(None));
        };
        let Some(hash) = here.hash else { return Look::Do(item, Does::ReadHash(stat)) };
        if Some(hash) == common.hash && self.way != Way::Up {
            return Look::Do(item, Does::RemoveHere(Some(stat)));
        }
        if self.way == Way::Down {
            return Look::Hold(Held::OtherWay);
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
                Look::Do(item, Does::Revive { node, parent, name: here.name.clone() })
            }
            Err(look) => look,
        }
    }

    fn send(&mut self, item: Item, facets: &Facets, time: &str) -> Look {
        let Some(here) = &facets.here else { return Look::Done };
        if self.way == Way::Down {
            return Look::Hold(Held::OtherWay);
        }
        let bytes = match (here.stat, here.hash) {
            (Some(stat), None) => return Look::Do(item, Does::ReadHash(stat)),
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
            None => Look::Do(item, Does::MakeFolderThere { parent, name }),
            Some((bytes, stat)) => {
                self.at_mut(item).sent = Some(bytes);
                Look::Do(item, Does::PutNew { parent, name, bytes, stat })
            }
        }
    }

    /// The node of a folder that something goes into. One that was removed there is made again.
    fn parent_there(&mut self, folder: Item) -> Result<NodeId, Look> {
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

    /// Why a thing cannot go into a slot on the service yet; none if it can.
    fn slot_there(&mut self, item: Item, slot: &Slot, time: &str) -> Option<Look> {
        let occupant = self.index.there.get(slot).copied().filter(|other| *other != item)?;
        let (its, other) = (self.get(item), self.get(occupant));
        if self.index.busy.contains(&occupant) {
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
            None => self.is_removable(occupant) && other.held.is_none(),
        };
        if self.index.lost.contains(&occupant) {
            return Some(Look::Listed);
        }
        match leaves {
            true if other.here.is_some() && self.sent_in_a_circle(item, occupant) => {
                // It is to go into what waits for its place: it steps aside.
                let Some(parent) = self.get(there.parent).there.map(|above| above.node) else {
                    return Some(Look::Told);
                };
                let name = self.free_name(there.parent, &format!("{}.moving", there.name), "", 1);
                let (node, seen) = (there.node, there.moment);
                let step = Move { item: occupant, node, parent, name, seen };
                Some(Look::Do(occupant, Does::MoveThere(vec![step])))
            }
            true => {
                self.index.dirty.insert(occupant);
                Some(Look::Wait(occupant))
            }
            false => Some(self.make_way(item, time)),
        }
    }

    /// Whether what stands in the way on the service waits, in the end, for this one.
    fn sent_in_a_circle(&self, item: Item, occupant: Item) -> bool {
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

    // --- what both have ---

    fn look_both(&mut self, item: Item, facets: &Facets, time: &str) -> Look {
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
            let Some(known) = here.hash else { return Look::Do(item, Does::ReadHash(stat)) };
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
                    (true, _) => Look::Do(item, Does::MarkThere { node: there.node, executable }),
                    (false, _) => Look::Do(item, Does::MarkHere(there.executable, here.stat)),
                };
            }
            common.executable = executable;
        }
        if (there.parent, &there.name) == (here.parent, &here.name) {
            (common.parent, common.name) = (there.parent, there.name.clone());
            if facets.common.as_ref() != Some(&common) || facets.sent.is_some() {
                self.at_mut(item).common = Some(common);
                self.at_mut(item).sent = None;
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

    fn look_bytes(
        &mut self,
        item: Item,
        facets: &Facets,
        common: &Common,
        (hash, known, stat): (Hash, Hash, Stat),
        time: &str,
    ) -> Look {
        let (Some(there), Some(here)) = (&facets.there, &facets.here) else { return Look::Done };
        if common.hash == Some(known) {
            if self.way == Way::Up {
                return Look::Hold(Held::OtherWay);
            }
            let slot = (here.parent, here.name.clone());
            return Look::Do(item, Does::Fetch { slot, state: there.clone(), over: Some(stat) });
        }
        if common.hash == Some(hash) {
            if self.way == Way::Down {
                return Look::Hold(Held::OtherWay);
            }
            self.at_mut(item).sent = Some(known);
            let (node, seen) = (there.node, there.moment);
            return Look::Do(item, Does::PutOnto { node, seen, bytes: known, stat });
        }
        if self.way == Way::Up {
            return Look::Hold(Held::OtherWay);
        }
        // Both changed: what lies here becomes a copy beside it.
        let name = self.free_name(here.parent, &here.name, time, 1);
        Look::Do(item, Does::SetAside((here.parent, name), here.stat))
    }

    /// It was moved here, and the service is to move it too.
    fn look_move(&mut self, item: Item, there: &There, slot: Slot, time: &str) -> Look {
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
            free.then(|| (Move { item, node: there.node, parent, name: here.name, seen: there.moment }, slot))
        };
        // Names that go round in a circle go as one change.
        let mut circle = Vec::new();
        let mut next = item;
        while let Some((step, slot)) = one(self, next) {
            circle.push(step);
            match self.index.there.get(&slot) {
                Some(other) if *other == item => return Look::Do(item, Does::MoveThere(circle)),
                Some(other) if circle.iter().all(|m| m.item != *other) => next = *other,
                _ => break,
            }
        }
        if let Some(look) = self.slot_there(item, &slot, time) {
            return look;
        }
        let (node, seen) = (there.node, there.moment);
        Look::Do(item, Does::MoveThere(vec![Move { item, node, parent, name: slot.1, seen }]))
    }
}

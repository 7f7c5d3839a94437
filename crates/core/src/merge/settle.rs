//! What became of things whose places are empty: decided when all is listed, because a move shows as two halves.

use super::{Item, Object, Pair};
use std::collections::{BTreeMap, BTreeSet};

/// What is known of things that came up and things that were lost, while it is decided what is what.
struct Halves {
    /// Things that came up, by their object; none where several have it (hard links).
    fresh: BTreeMap<(Object, bool), Option<Item>>,
    /// Objects of what was lost.
    lost: BTreeMap<(Object, bool), Item>,
    /// Files that were lost, by the slot in which they stood.
    slots: BTreeMap<(Item, String), Item>,
}

impl Pair {
    /// All is listed, and nothing has stirred since: what is elsewhere has moved, and what is nowhere is gone, if it was so
    /// the last time already. Returns `false` if more is to be listed first.
    pub fn settle(&mut self) -> bool {
        if !self.index.unlisted.is_empty() {
            return false;
        }
        self.lose_all_beneath();
        if self.look_where_it_should_be() {
            return false;
        }
        let mut order: Vec<(usize, Item)> =
            self.index.lost.iter().map(|item| (self.depth_here(*item), *item)).collect();
        order.sort_unstable();
        let halves = self.halves();
        let mut gone = Vec::new();
        for (_, item) in order {
            match self.what_became_of(item, &halves) {
                Some(found) => self.relink(item, found),
                None => gone.push(item),
            }
        }
        for item in gone {
            // Its other half may not have been seen yet.
            if self.index.missed.insert(item) || !self.index.unreadable.is_empty() {
                continue;
            }
            self.free(item);
            self.set_here(item, None);
        }
        for item in std::mem::take(&mut self.index.fresh) {
            self.at_mut(item).unsettled = None;
            self.touch(item);
        }
        let waited = std::mem::take(&mut self.index.until_listed);
        self.index.dirty.extend(waited);
        true
    }

    /// Whether something is missed that may still be found.
    pub fn misses(&self) -> bool {
        !self.index.lost.is_empty()
    }

    fn lose_all_beneath(&mut self) {
        let mut waiting: Vec<Item> = self.index.lost.iter().copied().collect();
        while let Some(folder) = waiting.pop() {
            for child in self.children_here(folder) {
                self.lose(child);
                if self.index.lost.contains(&child) {
                    waiting.push(child);
                }
            }
        }
    }

    /// Something came up that is still known elsewhere: either it has moved since that place was listed, or it has two
    /// names. That place is listed once more. Whether there is such a place.
    fn look_where_it_should_be(&mut self) -> bool {
        let fresh: BTreeSet<Object> =
            self.index.fresh.iter().filter_map(|item| self.get(*item).here).map(|here| here.object).collect();
        if fresh.is_empty() {
            return false;
        }
        let mut again = Vec::new();
        for (item, facets) in &self.items {
            let Some(here) = &facets.here else { continue };
            let stands =
                !self.index.fresh.contains(item) && !self.index.lost.contains(item) && *item != super::TOP;
            if stands && here.object.born != 0 && fresh.contains(&here.object) {
                again.push((*item, here.parent));
            }
        }
        let mut any = false;
        for (item, folder) in again {
            // Once: a second name of it stays one.
            if self.index.doubled.insert(item) {
                self.index.unlisted.insert(folder);
                any = true;
            }
        }
        any
    }

    fn depth_here(&self, item: Item) -> usize {
        let (mut depth, mut next) = (0, item);
        while next != super::TOP && depth < 1000 {
            let Some(here) = self.items.get(&next).and_then(|f| f.here.as_ref()) else { break };
            next = here.parent;
            depth += 1;
        }
        depth
    }

    fn halves(&self) -> Halves {
        let mut halves = Halves { fresh: BTreeMap::new(), lost: BTreeMap::new(), slots: BTreeMap::new() };
        for item in &self.index.fresh {
            let Some(here) = self.get(*item).here.filter(|here| here.object.born != 0) else { continue };
            let key = (here.object, here.stat.is_none());
            halves.fresh.entry(key).and_modify(|found| *found = None).or_insert(Some(*item));
        }
        for item in &self.index.lost {
            let Some(here) = self.get(*item).here else { continue };
            halves.lost.insert((here.object, here.stat.is_none()), *item);
            if here.stat.is_some() {
                halves.slots.insert((here.parent, here.name), *item);
            }
        }
        halves
    }

    fn what_became_of(&self, item: Item, halves: &Halves) -> Option<Item> {
        let here = self.get(item).here?;
        let folder = here.stat.is_none();
        let is_fresh = |found: &Item| {
            self.index.fresh.contains(found)
                && self.get(*found).here.is_some_and(|f| f.stat.is_none() == folder)
        };
        let moved = halves.fresh.get(&(here.object, folder)).copied().flatten().filter(is_fresh);
        let slot = (here.parent, here.name.clone());
        // What was being removed here leaves its place to others.
        let in_its_place =
            self.index.here.get(&slot).copied().filter(is_fresh).filter(|_| !self.get(item).removing);
        // Whose object stands in its place now, if it is one that was lost elsewhere.
        let owner = in_its_place.and_then(|found| {
            let object = self.get(found).here?.object;
            halves.lost.get(&(object, folder)).copied().filter(|owner| *owner != item && object.born != 0)
        });
        if folder {
            return moved.or(in_its_place.filter(|_| owner.is_none()));
        }
        match (moved, in_its_place) {
            (Some(moved), Some(new)) if owner.is_none() => {
                // It was put aside in its folder, and a new file was written under its name: programs save like this.
                let aside = self.get(moved).here.is_some_and(|m| m.parent == here.parent);
                Some(if aside { new } else { moved })
            }
            (Some(moved), _) => {
                // It was written beside a document, and took its place.
                let place = self.get(moved).here.map(|m| (m.parent, m.name));
                let document = place.and_then(|place| halves.slots.get(&place).copied());
                let saved = document.is_some_and(|document| {
                    document != item && self.is_passing(item) && !self.was_moved(document, halves)
                });
                (!saved).then_some(moved)
            }
            (None, Some(new)) => match owner {
                None => Some(new),
                Some(owner) => self.is_passing(owner).then_some(new),
            },
            (None, None) => None,
        }
    }

    fn was_moved(&self, item: Item, halves: &Halves) -> bool {
        let here = self.get(item).here;
        here.is_some_and(|h| matches!(halves.fresh.get(&(h.object, h.stat.is_none())), Some(Some(_))))
    }

    /// Whether the service never had it: a file that a program writes on its way to another name.
    fn is_passing(&self, item: Item) -> bool {
        let facets = self.get(item);
        facets.there.is_none() && facets.common.is_none()
    }
}

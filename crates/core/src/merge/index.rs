//! What is known of things, and the ways to find them: both change together.

use super::{Facets, Hash, Here, Index, Item, Pair, TOP, There, Unsettled};
use std::collections::{BTreeMap, BTreeSet};

/// How a file that only one side has is found by its bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Mark {
    /// It only lies here, has this size, and was not read yet.
    Unread(u64),
    /// It only lies here.
    OnlyHere,
    /// Only the service has it: its bytes.
    OnlyThere(Hash, u64),
}

impl Index {
    /// Finds it by what is known of it now.
    pub(super) fn mark(&mut self, item: Item, facets: &Facets) {
        let mark = match (&facets.here, &facets.there) {
            (Some(here), None) => here.stat.map(|stat| match here.hash {
                None => Mark::Unread(stat.size),
                Some(_) => Mark::OnlyHere,
            }),
            (None, Some(there)) => there.bytes.map(|(hash, size)| Mark::OnlyThere(hash, size)),
            _ => None,
        };
        let old = match mark {
            Some(mark) => self.marks.insert(item, mark),
            None => self.marks.remove(&item),
        };
        if old == mark {
            return;
        }
        match old {
            Some(Mark::Unread(size)) => drop(self.unread.remove(&(size, item))),
            Some(Mark::OnlyThere(hash, size)) => drop(self.only_there.remove(&(hash, size, item))),
            Some(Mark::OnlyHere) | None => {}
        }
        match mark {
            Some(Mark::Unread(size)) => drop(self.unread.insert((size, item))),
            Some(Mark::OnlyThere(hash, size)) => drop(self.only_there.insert((hash, size, item))),
            Some(Mark::OnlyHere) | None => {}
        }
        match mark {
            Some(Mark::Unread(_) | Mark::OnlyHere) => drop(self.only_here.insert(item)),
            Some(Mark::OnlyThere(..)) | None => drop(self.only_here.remove(&item)),
        }
    }
}

impl Pair {
    pub(super) fn children_here(&self, folder: Item) -> Vec<Item> {
        children(&self.index.here, folder)
    }

    /// What lies in a folder here, by its names.
    pub(super) fn named_here(&self, folder: Item) -> BTreeMap<String, Item> {
        let range = (folder, String::new())..;
        let its = self.index.here.range(range).take_while(|((parent, _), _)| *parent == folder);
        its.map(|((_, name), item)| (name.clone(), *item)).collect()
    }

    /// What the service has under a name in a folder.
    pub fn in_slot_there(&self, folder: Item, name: &str) -> Option<Item> {
        self.index.there.get(&(folder, name.to_string())).copied()
    }

    /// What lies in a slot here.
    pub fn in_slot_here(&self, folder: Item, name: &str) -> Option<Item> {
        self.index.here.get(&(folder, name.to_string())).copied()
    }

    /// What the service has in a folder.
    pub fn children_there(&self, folder: Item) -> Vec<Item> {
        children(&self.index.there, folder)
    }

    /// All that the service has beneath a folder. While its changes are read, folders may lie in each other.
    pub(super) fn beneath_there(&self, folder: Item) -> Vec<Item> {
        let (mut seen, mut waiting) = (BTreeSet::from([folder]), vec![folder]);
        let mut found = Vec::new();
        while let Some(above) = waiting.pop() {
            for child in self.children_there(above) {
                if seen.insert(child) {
                    found.push(child);
                    waiting.push(child);
                }
            }
        }
        found
    }

    pub(super) fn set_there(&mut self, item: Item, there: Option<There>) {
        if let Some(old) = self.at_mut(item).there.take() {
            let slot = (old.parent, old.name);
            if self.index.there.get(&slot) == Some(&item) {
                self.index.there.remove(&slot);
            }
            if self.index.by_node.get(&old.node) == Some(&item) {
                self.index.by_node.remove(&old.node);
            }
            self.at_mut(item).was = Some(old.node);
            self.at_mut(item).unexpanded = false;
            self.index.unexpanded.remove(&item);
            self.index.was.insert(old.node, item);
        }
        if let Some(new) = there {
            self.index.was.remove(&new.node);
            self.index.by_node.insert(new.node, item);
            if item != TOP {
                self.index.there.insert((new.parent, new.name.clone()), item);
            }
            self.at_mut(item).there = Some(new);
        }
        self.marked(item);
        self.renamed(item);
        self.touch(item);
    }

    pub(super) fn set_here(&mut self, item: Item, here: Option<Here>) {
        if let Some(old) = self.at_mut(item).here.take() {
            if self.index.folders.get(&old.object) == Some(&item) {
                self.index.folders.remove(&old.object);
            }
            // A folder may go when what was in it has left.
            self.index.dirty.insert(old.parent);
            let slot = (old.parent, old.name);
            if self.index.here.get(&slot) == Some(&item) {
                self.index.here.remove(&slot);
            }
        }
        self.index.lost.remove(&item);
        self.index.missed.remove(&item);
        if self.at_mut(item).unsettled == Some(Unsettled::Lost) {
            self.at_mut(item).unsettled = None;
        }
        match here {
            Some(new) => {
                let slot = (new.parent, new.name.clone());
                if new.stat.is_none() {
                    self.index.folders.insert(new.object, item);
                }
                self.at_mut(item).here = Some(new);
                self.at_mut(item).removing = false;
                // Where this one is, no other can be.
                if item != TOP
                    && let Some(other) = self.index.here.insert(slot, item).filter(|other| *other != item)
                {
                    self.lose(other);
                }
            }
            None => {
                self.index.gone.insert(item);
                // What was in it is not where it was.
                for child in self.children_here(item) {
                    self.lose(child);
                }
                self.index.fresh.remove(&item);
                self.index.unlisted.remove(&item);
                self.index.until_listed.remove(&item);
            }
        }
        self.marked(item);
        self.renamed(item);
        self.touch(item);
    }

    fn marked(&mut self, item: Item) {
        let Some(facets) = self.items.get(&item) else { return };
        self.index.mark(item, facets);
        if facets.here.is_some() {
            self.index.gone.remove(&item);
        }
    }

    /// Something about it changed: it is looked at again, and so is what waits for it.
    pub(super) fn touch(&mut self, item: Item) {
        self.index.until_allowed.remove(&item);
        self.index.dirty.insert(item);
        if let Some(waiting) = self.index.waiting.remove(&item) {
            self.index.dirty.extend(waiting);
        }
        for other in self.index.in_the_way.remove(&item).unwrap_or_default() {
            if self.items.contains_key(&other) {
                self.free(other);
            }
        }
        // A folder goes when what is in it has gone.
        let facets = self.get(item);
        let above =
            [facets.here.map(|h| h.parent), facets.there.map(|t| t.parent), facets.common.map(|c| c.parent)];
        self.index.dirty.extend(above.into_iter().flatten().filter(|above| *above != item));
    }

    /// What lies in one folder here lies in another from now on.
    pub(super) fn hand_over(&mut self, from: Item, to: Item) {
        for child in self.children_here(from) {
            if let Some(here) = self.get(child).here {
                self.set_here(child, Some(Here { parent: to, ..here }));
            }
        }
    }

    /// What the service has in one folder it has in another from now on: both are one.
    pub(super) fn hand_over_there(&mut self, from: Item, to: Item) {
        for child in self.children_there(from) {
            if let Some(there) = self.get(child).there {
                self.set_there(child, Some(There { parent: to, ..there }));
            }
            if let Some(common) = self.at_mut(child).common.as_mut().filter(|common| common.parent == from) {
                common.parent = to;
            }
        }
    }

    pub(super) fn forget(&mut self, item: Item) {
        self.set_here(item, None);
        self.set_there(item, None);
        self.items.remove(&item);
        self.changed.insert(item);
        self.index.gone.remove(&item);
        self.index.ghosts.remove(&item);
        self.index.unreadable.remove(&item);
        self.index.asked.remove(&item);
        self.index.dirty.remove(&item);
        self.index.busy.remove(&item);
        self.index.until_told.remove(&item);
        self.index.until_allowed.remove(&item);
        self.index.until_listed.remove(&item);
    }
}

fn children(index: &BTreeMap<(Item, String), Item>, folder: Item) -> Vec<Item> {
    let range = (folder, String::new())..;
    index.range(range).take_while(|((parent, _), _)| *parent == folder).map(|(_, item)| *item).collect()
}

#[cfg(test)]
impl Pair {
    /// Whether files are found by their bytes just as they would be if that were told anew.
    pub(super) fn finds_by_bytes(&self) -> bool {
        let mut anew = Index::default();
        self.items.iter().for_each(|(item, facets)| anew.mark(*item, facets));
        let found =
            |i: &Index| (i.marks.clone(), i.unread.clone(), i.only_here.clone(), i.only_there.clone());
        found(&anew) == found(&self.index)
    }
}

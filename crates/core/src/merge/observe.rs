//! What was seen: on the computer folder by folder, on the service by its changes.

use super::rules::{Rule, holds};
use super::{Facets, Hash, Held, Here, Item, Object, Pair, Stat, There, Unsettled};
use crate::ids::{Moment, NodeId};
use std::collections::{BTreeMap, BTreeSet};

/// A file or folder, as a folder here holds it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// Its name, as the service would call it.
    pub name: String,
    /// The object.
    pub object: Object,
    /// What is known of a file without reading it; none for a folder.
    pub stat: Option<Stat>,
}

/// A file or folder, as the service tells of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Node {
    /// Its id.
    pub node: NodeId,
    /// The folder that it is in.
    pub parent: NodeId,
    /// Its name.
    pub name: String,
    /// The hash of its bytes and how many; none for a folder.
    pub bytes: Option<(Hash, u64)>,
    /// Whether it is a program.
    pub executable: bool,
    /// The file's own time of modification, in milliseconds.
    pub modified: i64,
    /// The moment from which this is so.
    pub moment: Moment,
}

/// A change on the service.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// It is so now.
    Is(Node),
    /// It was removed, or went where the pair does not reach, with all beneath.
    Gone(NodeId, Moment),
    /// It may not be seen any more, with all beneath.
    OutOfSight(NodeId, Moment),
}

/// A rollback on the service: what it changed is no work of somebody's.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Rollback {
    /// The folder.
    pub node: NodeId,
    /// The last moment before its first change.
    pub begun: Moment,
    /// The last moment at which it changed something; none while it runs.
    pub until: Option<Moment>,
}

impl Pair {
    /// The same as [`Pair::told`], with the rollbacks that changed something meanwhile.
    pub fn told_with(&mut self, changes: Vec<Change>, upto: Moment, rollbacks: Vec<Rollback>) {
        self.index.rolling = rollbacks;
        self.told(changes, upto);
        self.index.rolling.clear();
    }

    /// Whether a change comes from a rollback, by where the thing is or was.
    fn is_rolled_back(&self, item: Item, moment: Moment) -> bool {
        self.index.rolling.iter().any(|r| {
            let top = self.index.by_node.get(&r.node).copied();
            let within = top.is_none_or(|top| top == super::TOP || self.is_beneath_there(item, top));
            r.begun < moment && r.until.is_none_or(|until| moment <= until) && within
        })
    }

    /// A folder here was listed: only its files and folders, under names that the service takes.
    pub fn listed(&mut self, folder: Item, entries: Vec<Entry>) {
        if self.get(folder).here.is_none_or(|here| here.stat.is_some()) {
            return;
        }
        self.index.unlisted.remove(&folder);
        self.index.unreadable.remove(&folder);
        let mut gone: BTreeMap<String, Item> = self.named_here(folder);
        for entry in entries {
            let known = gone.remove(&entry.name).filter(|child| {
                let here = self.items.get(child).and_then(|facets| facets.here.as_ref());
                let same = here
                    .is_some_and(|h| h.object == entry.object && h.stat.is_none() == entry.stat.is_none());
                if !same {
                    self.lose(*child);
                }
                same
            });
            match known {
                Some(child) => self.seen_again(child, entry.stat),
                None => self.found(folder, entry),
            }
        }
        gone.into_values().for_each(|child| self.lose(child));
        // What waited for this look is looked at again.
        let waited: Vec<Item> = self.index.until_listed.iter().copied().collect();
        for item in waited {
            if self.get(item).here.is_none_or(|here| here.parent == folder) {
                self.index.until_listed.remove(&item);
                self.index.dirty.insert(item);
            }
        }
        self.touch(folder);
    }

    /// A folder here has changed: it is to be listed before anything more is decided.
    pub fn stirred(&mut self, folder: Item) {
        if self.get(folder).here.is_some_and(|here| here.stat.is_none()) {
            self.index.unlisted.insert(folder);
        }
        // Who wrote to a file there may have closed it: nothing else need have changed.
        self.free_written(|here| here.parent == folder);
    }

    /// Whether anything is held because it is being written to.
    pub fn has_written(&self) -> bool {
        !self.index.written.is_empty()
    }

    /// What is held because it is being written to is tried again. That it was closed may be told before it is, and while it is
    /// being looked at: whoever only waits for that may wait for ever.
    pub fn try_written(&mut self) {
        self.free_written(|_| true);
    }

    fn free_written(&mut self, which: impl Fn(&Here) -> bool) {
        let busy: Vec<Item> = self.index.written.iter().copied().collect();
        for item in busy {
            if self.get(item).here.is_none_or(|here| which(&here)) {
                self.index.written.remove(&item);
                if self.get(item).held == Some(Held::Busy) {
                    self.free(item);
                }
            }
        }
    }

    /// A folder here cannot be read: what is known of it stays as it is, and nothing of it counts as gone.
    pub fn unreadable(&mut self, folder: Item) {
        self.index.unlisted.remove(&folder);
        self.index.unreadable.insert(folder);
    }

    fn seen_again(&mut self, child: Item, stat: Option<Stat>) {
        let Some(facets) = self.items.get(&child) else { return };
        let (removing, same) = (facets.removing, facets.here.as_ref().is_none_or(|here| here.stat == stat));
        if removing && !self.index.busy.contains(&child) {
            self.at_mut(child).removing = false;
        }
        if !same && let Some(mut here) = self.get(child).here {
            here.stat = stat;
            here.hash = None;
            self.free(child);
            self.set_here(child, Some(here));
        }
    }

    fn found(&mut self, folder: Item, entry: Entry) {
        let item = self.new_item();
        let Entry { name, object, stat } = entry;
        self.set_here(item, Some(Here { object, parent: folder, name, stat, hash: None }));
        self.index.fresh.insert(item);
        self.at_mut(item).unsettled = Some(Unsettled::Fresh);
        if stat.is_none() {
            self.index.unlisted.insert(item);
        }
    }

    /// What stood here is not in its place any more. Its slot is free; what became of it is decided when all is listed.
    pub(super) fn lose(&mut self, item: Item) {
        let Some(here) = self.get(item).here else { return };
        let slot = (here.parent, here.name);
        if self.index.here.get(&slot) == Some(&item) {
            self.index.here.remove(&slot);
        }
        self.index.unlisted.remove(&item);
        if self.index.fresh.contains(&item) {
            for child in self.children_here(item) {
                self.lose(child);
            }
            self.forget(item);
            return;
        }
        self.index.lost.insert(item);
        self.at_mut(item).unsettled = Some(Unsettled::Lost);
    }

    /// Whatever held it may be over.
    pub(super) fn free(&mut self, item: Item) {
        self.at_mut(item).held = None;
        self.index.until_told.remove(&item);
        self.index.dirty.insert(item);
    }

    /// What changed on the service since the last time, in its order, and up to which moment all is told. Folders of which
    /// only themselves are known by that are [`Pair::unexpanded`].
    pub fn told(&mut self, changes: Vec<Change>, upto: Moment) {
        for change in changes {
            match change {
                Change::Is(node) => self.is_so(node),
                Change::Gone(node, moment) => self.gone(node, moment, false),
                Change::OutOfSight(node, moment) => self.gone(node, moment, true),
            }
        }
        self.upto = self.upto.max(upto);
        let waited = std::mem::take(&mut self.index.until_told);
        self.index.dirty.extend(waited);
    }

    /// All that is in a folder of which only itself was known, at some moment.
    pub fn told_beneath(&mut self, folder: NodeId, nodes: Vec<Node>) {
        let upto = self.upto;
        self.told(nodes.into_iter().map(Change::Is).collect(), upto);
        let Some(top) = self.index.by_node.get(&folder).copied() else { return };
        for item in self.beneath_there(top).into_iter().chain([top]) {
            self.at_mut(item).unexpanded = false;
            self.index.unexpanded.remove(&item);
        }
    }

    /// All that is beneath the top at one moment: what is not among it is not there.
    pub fn told_all(&mut self, nodes: Vec<Node>, moment: Moment) {
        let named: BTreeSet<NodeId> = nodes.iter().map(|node| node.node).collect();
        let top = self.get(super::TOP).there.map(|there| there.node);
        let known: Vec<(NodeId, Moment)> =
            self.items.values().filter_map(|f| f.there.as_ref()).map(|t| (t.node, t.moment)).collect();
        for (node, its) in known {
            if !named.contains(&node) && Some(node) != top && its <= moment {
                self.gone(node, moment, false);
            }
        }
        self.told(nodes.into_iter().map(Change::Is).collect(), moment);
        for item in std::mem::take(&mut self.index.unexpanded) {
            self.at_mut(item).unexpanded = false;
        }
    }

    fn is_so(&mut self, node: Node) {
        let known = self.index.by_node.get(&node.node).copied();
        if known.is_some_and(|item| {
            item == super::TOP || self.get(item).there.is_some_and(|there| there.moment > node.moment)
        }) {
            return;
        }
        let Some(parent) = self.index.by_node.get(&node.parent).copied() else {
            // It is where the pair does not reach.
            return self.gone(node.node, node.moment, false);
        };
        let is_new = known.is_none();
        let folder = node.bytes.is_none();
        let was = || {
            let item = *self.index.was.get(&node.node)?;
            let facets = self.items.get(&item)?;
            let is_it = facets.there.is_none() && facets.was == Some(node.node) && facets.here.is_some();
            (is_it && facets.is_folder() == folder).then_some(item)
        };
        let item = known.or_else(was).unwrap_or_else(|| self.new_item());
        let Node { node, name, bytes, executable, modified, moment, .. } = node;
        self.at_mut(item).out_of_sight = false;
        self.free(item);
        self.set_there(item, Some(There { node, parent, name, bytes, executable, modified, moment }));
        let rolled_back = self.is_rolled_back(item, moment);
        self.at_mut(item).rolled_back = rolled_back;
        if is_new && folder && holds(Rule::IntoSight) {
            self.at_mut(item).unexpanded = true;
            self.index.unexpanded.insert(item);
        }
    }

    pub(super) fn gone(&mut self, node: NodeId, moment: Moment, out_of_sight: bool) {
        let Some(item) = self.index.by_node.get(&node).copied() else { return };
        if item == super::TOP || self.get(item).there.is_some_and(|there| there.moment > moment) {
            return;
        }
        let beneath = self.beneath_there(item);
        for item in beneath.into_iter().chain([item]) {
            // What went elsewhere after that is told by itself.
            if item == super::TOP || self.get(item).there.is_some_and(|there| there.moment > moment) {
                continue;
            }
            let rolled_back = !out_of_sight && self.is_rolled_back(item, moment);
            self.at_mut(item).rolled_back = rolled_back;
            self.at_mut(item).out_of_sight = out_of_sight;
            self.set_there(item, None);
            self.free(item);
        }
    }

    /// Puts what lies at one item to another: they are the same thing.
    pub(super) fn relink(&mut self, item: Item, found: Item) {
        let (Some(here), old) = (self.get(found).here, self.get(item).here) else { return };
        self.hand_over(found, item);
        let unlisted = self.index.unlisted.contains(&found);
        self.forget(found);
        // The same object with the same look has the same bytes.
        let hash = match &old {
            Some(old) if old.object == here.object && old.stat == here.stat => old.hash,
            _ => here.hash,
        };
        self.free(item);
        self.set_here(item, Some(Here { hash, ..here }));
        if unlisted {
            self.index.unlisted.insert(item);
        }
    }

    /// Things of this pair with why nothing is done with them.
    pub fn held(&self) -> impl Iterator<Item = (Item, &Facets, &Held)> {
        self.items.iter().filter_map(|(item, facets)| Some((*item, &**facets, facets.held.as_ref()?)))
    }
}

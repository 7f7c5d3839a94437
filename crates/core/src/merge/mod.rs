//! A folder on a computer and a folder of the service, kept the same: what is to be done, decided by three states.
//!
//! Of each thing in a [`Pair`] there is what the service has ([`There`]), what lies on the computer ([`Here`]), and what both
//! last had in common ([`Common`]). A difference from the common state is a change; who changed what decides what is done.
//! A pair does nothing itself: what was seen is told to it ([`observe`]), it says what to do next ([`Pair::next`], [`plan`]),
//! and it is told what became of that ([`outcome`]). All that it knows is in it, so a copy of it kept on a disk goes on where
//! it stood: an action that was begun and whose end is not known is simply decided anew.
//!
//! The rules, in short:
//! - A removal never takes an edit: what was changed on one side and removed on the other stays, with the folders on its way.
//! - Two edits of one file are both kept: the service's under the name, the computer's beside it ([`names::beside`]).
//! - Where both moved a thing, it is where the service has it.
//! - A file of which another program makes a new object under the same name stays that file; an object that is found
//!   elsewhere has moved.
//! - Nothing is removed that was not held in the state that is removed, and no folder that holds anything else.

mod both;
mod bring;
pub mod filter;
mod guard;
mod index;
pub mod names;
pub mod observe;
pub mod outcome;
pub mod plan;
mod rules;
mod send;
mod settle;
#[cfg(test)]
mod trial;

pub use guard::Mass;

use crate::ids::{Moment, NodeId};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// A thing of a pair, by its own number: the same on both sides.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct Item(pub u64);

/// The top of a pair.
pub const TOP: Item = Item(0);

/// BLAKE3 of a file's bytes.
pub type Hash = [u8; 32];

/// An object of the computer's file system. Inode numbers are used again, so the time of its birth belongs to it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, Default)]
pub struct Object {
    /// The device that it lies on.
    pub device: u64,
    /// The number of the inode.
    pub inode: u64,
    /// When it was made, in nanoseconds; 0 if the file system does not say: then it is known by its name and bytes alone.
    pub born: i64,
}

/// What a file system tells of a file without its bytes being read: while it is the same, so are they.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, Default)]
pub struct Stat {
    /// In bytes.
    pub size: u64,
    /// When it was modified, in nanoseconds.
    pub modified: i64,
    /// When anything of it changed, in nanoseconds.
    pub changed: i64,
    /// Whether its owner may run it.
    pub executable: bool,
}

/// What the service has.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct There {
    /// Its id there.
    pub node: NodeId,
    /// The folder that it is in.
    pub parent: Item,
    /// Its name.
    pub name: String,
    /// The hash of its bytes and how many; none for a folder.
    pub bytes: Option<(Hash, u64)>,
    /// Whether it is a program.
    pub executable: bool,
    /// The file's own time of modification, in milliseconds. It decides nothing.
    #[serde(default)]
    pub modified: i64,
    /// The last moment that is known of it.
    pub moment: Moment,
}

/// What lies on the computer.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Here {
    /// The object.
    pub object: Object,
    /// The folder that it lies in.
    pub parent: Item,
    /// Its name, as the service would call it.
    pub name: String,
    /// What is known without reading; none for a folder.
    pub stat: Option<Stat>,
    /// The hash of its bytes, if they were read since.
    pub hash: Option<Hash>,
}

/// What both sides last had in common.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Common {
    /// The folder.
    pub parent: Item,
    /// The name.
    pub name: String,
    /// The hash of the bytes; none for a folder.
    pub hash: Option<Hash>,
    /// Whether it is a program.
    pub executable: bool,
}

/// One thing, as far as it is known.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Facets {
    /// What the service has.
    pub there: Option<There>,
    /// What lies here.
    pub here: Option<Here>,
    /// What both last had.
    pub common: Option<Common>,
    /// The bytes that were last sent up, whose answer may have been lost.
    pub sent: Option<Hash>,
    /// Where it was last made or moved on the service, by a request whose answer may have been lost.
    #[serde(default)]
    pub moving: Option<(Item, String)>,
    /// The node that it was, if the service has it no more: so that it can be brought back.
    pub was: Option<NodeId>,
    /// It is being removed here because the service has it no more: if it is gone, nobody here did away with it.
    pub removing: bool,
    /// How many of its actions have come to a known end.
    pub turn: u32,
    /// It is seen no more, which is no removal: what lies here stays as it is.
    pub out_of_sight: bool,
    /// Why nothing is done with it for now.
    pub held: Option<Held>,
    /// Of a folder of the service only itself is known: what is in it is to be told, before anything is decided.
    #[serde(default)]
    pub unexpanded: bool,
    /// What the service has, or that it has it no more, comes from a rollback.
    #[serde(default)]
    pub rolled_back: bool,
    /// Whether it is known yet what it is: something that came up, or whose place is empty, is not.
    pub unsettled: Option<Unsettled>,
    /// In which hour copies were made of it last, and how many in it.
    #[serde(default)]
    pub copied: Option<(u32, u8)>,
}

/// What is not known yet of something.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Unsettled {
    /// It came up here, and may be something that has moved.
    Fresh,
    /// It is not in its place here, and may have moved.
    Lost,
}

impl Facets {
    /// Whether it is a folder on the side that knows it.
    pub fn is_folder(&self) -> bool {
        match (&self.here, &self.there, &self.common) {
            (Some(here), _, _) => here.stat.is_none(),
            (_, Some(there), _) => there.bytes.is_none(),
            (_, _, Some(common)) => common.hash.is_none(),
            _ => false,
        }
    }
}

/// Why nothing is done with a thing, until something happens that lets it go on.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Held {
    /// It may not be seen any more on the service.
    OutOfSight,
    /// The service refused it for good: its code says why.
    Refused(String),
    /// This computer cannot hold it: the reason, as people read it.
    NotHere(String),
    /// This pair only goes the other way.
    OtherWay,
    /// It is being written to.
    Busy,
    /// It is gone here, and another pair may have it now, and has not sent it yet.
    OtherHalf,
    /// This pair leaves it out.
    Left(filter::Why),
    /// A rollback undid on the service what was changed on here: a person decides what becomes of that.
    RolledBack,
    /// It was kept twice so often within this hour that a person is asked first: somebody else writes to it as well.
    Copies,
}

/// Which way a pair goes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Way {
    /// Both ways.
    #[default]
    Both,
    /// Only from the service to the computer.
    Down,
    /// Only from the computer to the service.
    Up,
}

/// A pair of folders, with all that is known of what is in them.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Pair {
    /// What this computer is called in the names of copies.
    pub device: String,
    /// Which way it goes.
    pub way: Way,
    /// Each in a place of its own: in the map they would take half as much again.
    items: BTreeMap<Item, Box<Facets>>,
    next: u64,
    /// Up to here the service's changes are known.
    upto: Moment,
    /// Whether a person has allowed the many removals that are to be done now.
    #[serde(default)]
    allowed: bool,
    /// Whether many removals are never asked about.
    #[serde(skip)]
    never_asks: bool,
    /// What is left out.
    #[serde(default)]
    filter: filter::Filter,
    #[serde(skip)]
    index: Index,
    /// What was changed since it was kept last.
    #[serde(skip)]
    changed: BTreeSet<Item>,
    /// How often anything was changed.
    #[serde(skip)]
    revision: u64,
}

/// What can be told from the items, and what is under way: not kept.
#[derive(Clone, Debug, Default)]
struct Index {
    by_node: BTreeMap<NodeId, Item>,
    there: BTreeMap<(Item, String), Item>,
    here: BTreeMap<(Item, String), Item>,
    /// Things whose place here is empty, or another's: what became of them is decided by [`Pair::settle`].
    lost: BTreeSet<Item>,
    /// Things that came up since, of which it is not known yet what they were.
    fresh: BTreeSet<Item>,
    /// Things that were sent to a slot of the service, whose answers may have been lost.
    asked: BTreeSet<Item>,
    /// Things that are gone here, and may have been made on the service by a request whose answer was lost.
    ghosts: BTreeSet<Item>,
    /// Folders of the service of which only themselves are known.
    unexpanded: BTreeSet<Item>,
    /// Folders here that must be listed before anything is decided.
    unlisted: BTreeSet<Item>,
    /// Things that the service has no more, by what they were.
    was: BTreeMap<NodeId, Item>,
    /// Things that went here, though the service has them; some may have come back.
    gone: BTreeSet<Item>,
    /// Folders here, by their objects.
    folders: BTreeMap<Object, Item>,
    /// Folders here that cannot be read: what is missed may be in one of them.
    unreadable: BTreeSet<Item>,
    /// What is to be looked at.
    dirty: BTreeSet<Item>,
    /// What waits for something else.
    waiting: BTreeMap<Item, BTreeSet<Item>>,
    /// What is under way.
    busy: BTreeSet<Item>,
    /// What waits for the service's changes to be read.
    until_told: BTreeSet<Item>,
    /// Removals that a person has to allow first, because they are so many.
    until_allowed: BTreeSet<Item>,
    /// What waits for its folder here to be listed.
    until_listed: BTreeSet<Item>,
    /// Things whose object came up a second time, and whose folders were listed once more for that.
    doubled: BTreeSet<Item>,
    /// Rollbacks, while what they changed is told.
    rolling: Vec<observe::Rollback>,
    /// Things whose names are taken here by what is left out.
    in_the_way: BTreeMap<Item, BTreeSet<Item>>,
    /// What is held because it is being written to.
    written: BTreeSet<Item>,
    /// Lost things that were gone once before when all was quiet: only then it is believed.
    missed: BTreeSet<Item>,
    /// Files that only lie here and were not read yet, by their sizes.
    unread: BTreeSet<(u64, Item)>,
    /// Files that only lie here.
    only_here: BTreeSet<Item>,
    /// Files that only the service has, by their bytes.
    only_there: BTreeSet<(Hash, u64, Item)>,
    /// In which of these a thing is.
    marks: BTreeMap<Item, index::Mark>,
}

impl Pair {
    /// A new pair: nothing is known but its two tops.
    pub fn new(device: &str, way: Way, node: NodeId, object: Object) -> Pair {
        let there = There {
            node,
            parent: TOP,
            name: String::new(),
            bytes: None,
            executable: false,
            modified: 0,
            moment: Moment(0),
        };
        let here = Here { object, parent: TOP, name: String::new(), stat: None, hash: None };
        let common = Common { parent: TOP, name: String::new(), hash: None, executable: false };
        let top = Facets { there: Some(there), here: Some(here), common: Some(common), ..Facets::default() };
        let mut pair = Pair {
            device: device.into(),
            way,
            items: BTreeMap::from([(TOP, Box::new(top))]),
            next: 1,
            upto: Moment(0),
            allowed: false,
            never_asks: false,
            filter: filter::Filter::default(),
            index: Index::default(),
            changed: BTreeSet::from([TOP]),
            revision: 0,
        };
        pair.begin();
        pair
    }

    /// After it was read from where it was kept: all folders here are to be listed, and nothing is under way.
    pub fn begin(&mut self) {
        let mut index = Index::default();
        // What came up is found once more.
        self.items.retain(|_, facets| facets.unsettled != Some(Unsettled::Fresh));
        for facets in self.items.values_mut().filter(|f| matches!(f.held, Some(Held::Left(_)))) {
            facets.held = None;
        }
        for (item, facets) in &self.items {
            if let Some(there) = &facets.there {
                index.by_node.insert(there.node, *item);
                if *item != TOP {
                    index.there.insert((there.parent, there.name.clone()), *item);
                }
            }
            if facets.unsettled == Some(Unsettled::Lost) {
                index.lost.insert(*item);
            } else if let Some(here) = &facets.here {
                if *item != TOP {
                    index.here.insert((here.parent, here.name.clone()), *item);
                }
                if here.stat.is_none() {
                    index.folders.insert(here.object, *item);
                    index.unlisted.insert(*item);
                }
            }
            if facets.moving.is_some() {
                index.asked.insert(*item);
            }
            if facets.unexpanded {
                index.unexpanded.insert(*item);
            }
            if facets.held == Some(Held::Busy) {
                index.written.insert(*item);
            }
            if let (None, Some(node)) = (&facets.there, facets.was) {
                index.was.insert(node, *item);
            }
            if facets.here.is_none() && facets.there.is_some() {
                index.gone.insert(*item);
            }
            index.mark(*item, facets);
            // Whether it was made there is told first.
            match facets.moving.is_some() && facets.there.is_none() {
                true => index.until_told.insert(*item),
                false => index.dirty.insert(*item),
            };
        }
        self.index = index;
    }

    /// What is known of a thing.
    pub fn facets(&self, item: Item) -> Option<&Facets> {
        self.items.get(&item).map(|facets| &**facets)
    }

    /// All things, with what is known of them.
    pub fn items(&self) -> impl Iterator<Item = (Item, &Facets)> {
        self.items.iter().map(|(item, facets)| (*item, &**facets))
    }

    /// Files that only lie here, with what is known of them.
    pub fn only_here(&self) -> impl Iterator<Item = (Item, &Facets)> {
        self.index.only_here.iter().filter_map(|item| Some((*item, self.facets(*item)?)))
    }

    /// The thing that a node is.
    pub fn of_node(&self, node: NodeId) -> Option<Item> {
        self.index.by_node.get(&node).copied()
    }

    /// The folder here that is this object.
    pub fn folder_of(&self, object: Object) -> Option<Item> {
        self.index.folders.get(&object).copied()
    }

    /// Up to here the service's changes are known.
    pub fn upto(&self) -> Moment {
        self.upto
    }

    /// Folders of the service whose contents are to be told, by [`Pair::told_beneath`].
    pub fn unexpanded(&self) -> Vec<NodeId> {
        let nodes = self.index.unexpanded.iter().filter_map(|item| self.items.get(item)?.there.as_ref());
        nodes.map(|there| there.node).collect()
    }

    /// Folders here that are to be listed.
    pub fn unlisted(&self) -> Vec<Item> {
        self.index.unlisted.iter().copied().collect()
    }

    /// Whether a thing is the same on both sides, as far as is known.
    pub fn is_same(&self, item: Item) -> bool {
        let Some(facets) = self.items.get(&item) else { return false };
        let (Some(here), Some(there), Some(_)) = (&facets.here, &facets.there, &facets.common) else {
            return false;
        };
        let hash = there.bytes.map(|(hash, _)| hash);
        let bytes = here.hash.is_none_or(|read| Some(read) == hash);
        let place = (here.parent, &here.name) == (there.parent, &there.name);
        bytes && place && !self.index.dirty.contains(&item) && !self.index.busy.contains(&item)
    }

    /// Whether nothing is to be done, nothing is under way, and nothing waits but what is held.
    pub fn is_quiet(&self) -> bool {
        let index = &self.index;
        index.dirty.is_empty()
            && index.busy.is_empty()
            && index.unlisted.is_empty()
            && index.unexpanded.is_empty()
            && index.lost.is_empty()
            && index.fresh.is_empty()
            && index.waiting.is_empty()
            && index.until_told.is_empty()
            && index.until_allowed.is_empty()
            && index.until_listed.is_empty()
    }

    /// Whether something waits for the service's changes to be read.
    pub fn waits_for_service(&self) -> bool {
        !self.index.until_told.is_empty()
    }

    /// What is not at rest, for whoever looks for the reason.
    pub fn restless(&self) -> String {
        let i = &self.index;
        format!(
            "to do {:?}, under way {:?}, to list {:?}, missed {:?}, new {:?}, waiting {:?}, for the service {:?}, for folders {:?}",
            i.dirty, i.busy, i.unlisted, i.lost, i.fresh, i.waiting, i.until_told, i.until_listed
        )
    }

    /// What lies at the end of a way here.
    pub fn at(&self, way: &[String]) -> Option<Item> {
        way.iter().try_fold(TOP, |above, name| self.index.here.get(&(above, name.clone())).copied())
    }

    /// The way to a thing here, from the top.
    pub fn path_here(&self, item: Item) -> Option<Vec<String>> {
        let (mut path, mut next) = (Vec::new(), item);
        while next != TOP {
            let here = self.items.get(&next)?.here.as_ref()?;
            path.push(here.name.clone());
            next = here.parent;
            if path.len() > 1000 {
                return None;
            }
        }
        path.reverse();
        Some(path)
    }

    /// The way to a thing on the service, from the top.
    pub fn path_there(&self, item: Item) -> Option<Vec<String>> {
        let (mut path, mut next) = (Vec::new(), item);
        while next != TOP {
            let there = self.items.get(&next)?.there.as_ref()?;
            path.push(there.name.clone());
            next = there.parent;
            if path.len() > 1000 {
                return None;
            }
        }
        path.reverse();
        Some(path)
    }

    fn get(&self, item: Item) -> Facets {
        self.facets(item).cloned().unwrap_or_default()
    }

    /// Another number after anything has changed.
    pub fn revision(&self) -> u64 {
        self.revision
    }

    /// What was changed since this was asked last: it is to be kept.
    pub fn take_changed(&mut self) -> Vec<Item> {
        std::mem::take(&mut self.changed).into_iter().collect()
    }

    /// It could not be kept.
    pub fn mark_changed(&mut self, items: impl Iterator<Item = Item>) {
        self.changed.extend(items);
    }

    /// The pair without its things, which are kept one by one.
    pub fn bare(&self) -> Pair {
        Pair {
            device: self.device.clone(),
            way: self.way,
            items: BTreeMap::new(),
            next: self.next,
            upto: self.upto,
            allowed: self.allowed,
            never_asks: self.never_asks,
            filter: self.filter.clone(),
            index: Index::default(),
            changed: BTreeSet::new(),
            revision: 0,
        }
    }

    /// A thing, as it was kept. [`Pair::begin`] comes after all of them.
    pub fn put_back(&mut self, item: Item, facets: Facets) {
        self.items.insert(item, Box::new(facets));
    }

    fn at_mut(&mut self, item: Item) -> &mut Facets {
        self.revision += 1;
        self.changed.insert(item);
        self.items.entry(item).or_default()
    }

    fn new_item(&mut self) -> Item {
        let item = Item(self.next);
        self.next += 1;
        self.items.insert(item, Box::default());
        self.changed.insert(item);
        item
    }
}

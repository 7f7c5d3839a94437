//! What is to be done next with each thing.

use super::filter::Why;
use super::rules::{Rule, holds};
use super::{Facets, Hash, Held, Item, Pair, Stat, TOP, There};
use crate::ids::{Moment, NodeId};

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
pub(super) enum Look {
    /// Nothing is to be done.
    Done,
    /// It was changed in what is known of it: look again.
    Again,
    /// Something is to be done, to this item.
    Do(Item, Box<Does>),
    /// It waits for another thing.
    Wait(Item),
    /// It waits for the service's changes to be read.
    Told,
    /// It waits for folders here to be listed.
    Listed,
    /// Nothing is done, for this reason.
    Hold(Held),
}

impl Look {
    /// Something is to be done.
    pub(super) fn act(item: Item, does: Does) -> Look {
        Look::Do(item, Box::new(does))
    }
}

impl Pair {
    /// What lies here and is to go aside may be a state that the service had of what has its place there: of which node, and
    /// what it is. [`super::outcome::Outcome::WasThere`] says that it is.
    pub fn may_have_been(&self, action: &Action) -> Option<(NodeId, Hash)> {
        let facets = self.facets(action.item)?;
        let here = facets.here.as_ref()?;
        let owner = match &action.does {
            Does::SetAside(..) => action.item,
            // It has no other place there; and what has this one lies nowhere here, so that it can be that.
            Does::MoveHere { follows: false, .. } if facets.there.is_none() && facets.common.is_none() => {
                let owner = self.in_slot_there(here.parent, &here.name)?;
                self.facets(owner)?.here.is_none().then_some(owner)?
            }
            _ => return None,
        };
        Some((self.facets(owner)?.there.as_ref()?.node, here.hash?))
    }

    /// What to do next, at most so many things; each is under way until its outcome is told. `time`: the service's, as
    /// people read it, for the names of copies.
    pub fn next(&mut self, most: usize, time: &str) -> Vec<Action> {
        let mut actions = Vec::new();
        // What is in a folder may be what something here is waiting for.
        if !self.index.unexpanded.is_empty() {
            return actions;
        }
        let many = self.removals_wait();
        let mut looks = self.index.dirty.len() * 4 + 1000;
        while actions.len() < most && looks > 0 {
            let Some(item) = self.index.dirty.pop_first() else { break };
            looks -= 1;
            let unsettled = self.index.fresh.contains(&item) || self.index.lost.contains(&item);
            if self.index.busy.contains(&item) || unsettled || !self.items.contains_key(&item) {
                continue;
            }
            match self.look(item, time) {
                // A folder that stays for what is held in it: what waits for it stays as well.
                Look::Done if self.index.waiting.contains_key(&item) && self.rests(item, 0) => {
                    let waited = self.index.waiting.remove(&item).unwrap_or_default();
                    self.index.dirty.extend(waited);
                }
                Look::Done => {}
                Look::Again => drop(self.index.dirty.insert(item)),
                Look::Do(_, does)
                    if many && matches!(*does, Does::RemoveHere(_) | Does::RemoveThere { .. }) =>
                {
                    self.index.until_allowed.insert(item);
                }
                Look::Do(of, does) => {
                    let does = *does;
                    match &does {
                        Does::MakeFolderThere { parent, name } | Does::PutNew { parent, name, .. } => {
                            self.remember_place(of, *parent, name);
                        }
                        Does::MoveThere(moves) => {
                            self.index.busy.extend(moves.iter().map(|m| m.item));
                            moves.iter().for_each(|m| self.remember_place(m.item, m.parent, &m.name));
                        }
                        Does::RemoveHere(_) if holds(Rule::OwnRemovals) => self.at_mut(of).removing = true,
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
                Look::Hold(why) => {
                    self.at_mut(item).held = Some(why);
                    // What waits for it waits no more.
                    let waited = self.index.waiting.remove(&item).unwrap_or_default();
                    self.index.dirty.extend(waited);
                }
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
        // A folder that is left out goes when what was in it has gone.
        let emptied = facets.held == Some(Held::Left(Why::NotChosen)) && self.goes_here(item, &facets);
        if item == TOP || facets.held.is_some() && !emptied {
            return Look::Done;
        }
        if let Some(why) = self.why_left(item) {
            return self.leave(item, &facets, why);
        }
        match (&facets.there, &facets.here) {
            (None, None) => {
                // What it may have become on the service is told first: else it would come back from there.
                if facets.moving.is_some() && self.index.ghosts.insert(item) {
                    return Look::Told;
                }
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

    /// It is left out: it stays as it is on both sides, but what was not chosen and is just what the service has goes here.
    fn leave(&mut self, item: Item, facets: &Facets, why: Why) -> Look {
        match why == Why::NotChosen && self.goes_here(item, facets) {
            true => Look::act(item, Does::RemoveHere(facets.here.as_ref().and_then(|here| here.stat))),
            false => Look::Hold(Held::Left(why)),
        }
    }

    /// Where something is made or moved to is known before anybody is asked: the answer may be lost.
    fn remember_place(&mut self, item: Item, parent: NodeId, name: &str) {
        if let Some(parent) = self.index.by_node.get(&parent).copied() {
            self.at_mut(item).moving = Some((parent, name.to_string()));
            self.index.asked.insert(item);
        }
    }

    /// What lies here is another thing than what the service has.
    pub(super) fn part(&mut self, item: Item) -> Look {
        let here = self.get(item).here;
        let other = self.new_item();
        self.hand_over(item, other);
        self.set_here(item, None);
        self.at_mut(item).common = None;
        self.set_here(other, here);
        Look::Again
    }
}

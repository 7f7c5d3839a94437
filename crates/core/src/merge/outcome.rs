//! What became of an action.

use super::observe::{Change, Node};
use super::plan::{Action, Does};
use super::rules::{Rule, holds};
use super::{Common, Facets, Hash, Held, Here, Item, Object, Pair, Stat, There};

/// What became of an action.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// A file was read, and was the same before and after.
    Read(Hash),
    /// A file or folder here was made, fetched, moved or marked: what it is now.
    Here(Object, Option<Stat>),
    /// It was removed, here or on the service.
    Removed,
    /// The service did it: what it has now.
    There(Vec<Node>),
    /// Here it was otherwise than it was seen last: nothing was done.
    OtherwiseHere,
    /// On the service it is otherwise by now: nothing was done, and its changes are to be read.
    OtherwiseThere,
    /// What was to be brought back is not gone: it is where the pair does not reach.
    Elsewhere,
    /// The service refuses it, by this code, until something changes.
    Refused(String),
    /// It is being written to: nothing was done.
    Busy,
    /// What was to be kept beside is a state that the service had: nobody changed it here.
    WasThere,
    /// Another pair of this computer may have what is to be removed, and has not sent it yet.
    OtherHalf,
    /// Nobody knows: the line broke, or the disk failed. It is tried again.
    Unknown,
}

impl Pair {
    /// An action has come to its end, or to nobody knows what.
    pub fn ended(&mut self, action: &Action, outcome: Outcome) {
        let item = action.item;
        self.index.busy.remove(&item);
        if let Does::MoveThere(moves) = &action.does {
            for step in moves {
                self.index.busy.remove(&step.item);
                self.touch(step.item);
            }
        }
        if !self.items.contains_key(&item) {
            return;
        }
        if outcome != Outcome::Unknown {
            self.at_mut(item).turn += 1;
        }
        match outcome {
            Outcome::Read(hash) => self.was_read(item, &action.does, hash),
            Outcome::Here(object, stat) => self.did_here(item, &action.does, object, stat),
            Outcome::Removed => match &action.does {
                Does::RemoveHere(_) => {
                    // The service may have it again by now: nobody here removed it.
                    self.at_mut(item).common = None;
                    self.set_here(item, None);
                }
                Does::RemoveThere { node, .. } => {
                    if let Some(there) = self.get(item).there.filter(|there| there.node == *node) {
                        // With all that was known beneath: else it would have been refused.
                        let moment = self.upto.max(there.moment);
                        self.gone(*node, moment, false);
                    }
                }
                _ => {}
            },
            Outcome::There(nodes) => self.did_there(item, &action.does, nodes),
            Outcome::OtherwiseHere => {
                // Its folder is listed once more; an item whose folder stirs is looked at after that.
                if let Some(here) = self.get(item).here {
                    self.stirred(here.parent);
                    if here.stat.is_none() {
                        self.stirred(item);
                    }
                }
                if let Does::MakeFolderHere((folder, _))
                | Does::Fetch { slot: (folder, _), .. }
                | Does::MoveHere { slot: (folder, _), .. } = &action.does
                {
                    self.stirred(*folder);
                }
                self.index.until_listed.insert(item);
            }
            Outcome::OtherwiseThere => drop(self.index.until_told.insert(item)),
            Outcome::Elsewhere => {
                // It is another thing from now on.
                self.at_mut(item).was = None;
                self.at_mut(item).common = None;
            }
            Outcome::Refused(code) => self.at_mut(item).held = Some(Held::Refused(code)),
            Outcome::Busy => {
                self.at_mut(item).held = Some(Held::Busy);
                self.index.written.insert(item);
            }
            Outcome::WasThere => {
                // A stop, or an answer that was lost, came between the bytes and what is known of them.
                let here = self.get(item).here;
                let hash = here.as_ref().and_then(|here| here.hash);
                if let Does::MoveHere { .. } = &action.does {
                    // It lay in the way of what it is an earlier state of.
                    let slot = here.map(|here| (here.parent, here.name));
                    let Some(owner) = slot.and_then(|slot| self.index.there.get(&slot).copied()) else {
                        return;
                    };
                    if self.get(owner).here.is_none() && self.get(item).there.is_none() && owner != item {
                        let _ = self.join(owner, item);
                        if let Some(common) = self.at_mut(owner).common.as_mut().filter(|_| hash.is_some()) {
                            common.hash = hash;
                        }
                        self.touch(owner);
                    }
                    return;
                }
                if let Some(common) = self.at_mut(item).common.as_mut().filter(|_| hash.is_some()) {
                    common.hash = hash;
                }
                self.at_mut(item).copied = None;
            }
            Outcome::OtherHalf => self.at_mut(item).held = Some(Held::OtherHalf),
            Outcome::Unknown => {}
        }
        self.touch(item);
    }

    /// The bytes of a file that both have were let go here, and nothing else of it changed: it is what it was.
    pub fn let_go(&mut self, item: Item, was: Stat, now: Stat) {
        let same = (was.size, was.modified, was.executable) == (now.size, now.modified, now.executable);
        if let Some(here) = self.items.get(&item).and_then(|f| f.here.clone())
            && here.stat == Some(was)
            && same
        {
            self.set_here(item, Some(Here { stat: Some(now), ..here }));
        }
    }

    /// What was being written to, or was refused, is tried again.
    pub fn try_again(&mut self) {
        let may = |f: &Facets| {
            matches!(f.held, Some(Held::Busy | Held::OtherHalf | Held::Refused(_) | Held::Copies))
        };
        let held: Vec<Item> = self.items.iter().filter(|(_, f)| may(f)).map(|(item, _)| *item).collect();
        held.into_iter().for_each(|item| self.free(item));
    }

    fn was_read(&mut self, item: Item, does: &Does, hash: Hash) {
        let Does::ReadHash(stat) = does else { return };
        let Some(here) = self.get(item).here.filter(|here| here.stat == Some(*stat)) else { return };
        self.set_here(item, Some(Here { hash: Some(hash), ..here }));
        let facets = self.get(item);
        if facets.there.is_some() || facets.common.is_some() || stat.size == 0 {
            return;
        }
        // The only thing that is missed here with just these bytes is this one, moved to another file system.
        let is_it = |f: &Facets| f.held.is_none() && f.common.as_ref().is_some_and(|c| c.hash == Some(hash));
        let may = |other: &Item| self.facets(*other).is_some_and(is_it) && !self.index.busy.contains(other);
        let only_there = self.index.only_there.range((hash, stat.size, super::TOP)..);
        let same = only_there.take_while(|(its, size, _)| (*its, *size) == (hash, stat.size));
        let mut missed = same.map(|(.., item)| *item).filter(may);
        let (first, second) = (missed.next(), missed.next());
        if let (Some(missed), None) = (first, second) {
            self.relink(missed, item);
        }
    }

    fn did_here(&mut self, item: Item, does: &Does, object: Object, stat: Option<Stat>) {
        let facets = self.get(item);
        match does {
            Does::MakeFolderHere((parent, name)) => {
                let here = Here { object, parent: *parent, name: name.clone(), stat: None, hash: None };
                self.set_here(item, Some(here));
                self.index.unlisted.insert(item);
                let common = Common { parent: *parent, name: name.clone(), hash: None, executable: false };
                self.at_mut(item).common = Some(common);
            }
            Does::Fetch { slot: (parent, name), state, .. } => {
                let hash = state.bytes.map(|(hash, _)| hash);
                let here = Here { object, parent: *parent, name: name.clone(), stat, hash };
                let executable = stat.is_some_and(|stat| stat.executable);
                let common = match facets.common {
                    Some(common) => Common { hash, executable: state.executable, ..common },
                    None => Common { parent: *parent, name: name.clone(), hash, executable },
                };
                self.set_here(item, Some(here));
                self.at_mut(item).common = Some(common);
                self.at_mut(item).sent = None;
            }
            Does::MoveHere { slot: (parent, name), was, follows } => {
                let Some(here) = facets.here else { return };
                let hash = hash_after(&here, *was, stat);
                let (parent, name) = (*parent, name.clone());
                if let Some(common) = self.at_mut(item).common.as_mut().filter(|_| *follows) {
                    (common.parent, common.name) = (parent, name.clone());
                }
                self.set_here(item, Some(Here { object, parent, name, stat, hash }));
            }
            Does::SetAside((parent, name), was) => {
                let Some(here) = facets.here else { return };
                let hash = hash_after(&here, *was, stat);
                let (parent, name) = (*parent, name.clone());
                let copy = self.new_item();
                self.set_here(item, None);
                self.at_mut(item).common = None;
                self.at_mut(item).sent = None;
                self.set_here(copy, Some(Here { object, parent, name, stat, hash }));
            }
            Does::MarkHere(executable, was) => {
                let Some(here) = facets.here else { return };
                let hash = hash_after(&here, *was, stat);
                self.set_here(item, Some(Here { stat, hash, ..here }));
                if let Some(common) = &mut self.at_mut(item).common {
                    common.executable = *executable;
                }
            }
            _ => {}
        }
    }

    fn did_there(&mut self, item: Item, does: &Does, nodes: Vec<Node>) {
        // A new node is this item, before it is told as one that nobody knows.
        // Unless it has come back as another meanwhile: then there are two.
        if let (Does::MakeFolderThere { .. } | Does::PutNew { .. } | Does::Revive { .. }, [node]) =
            (does, &nodes[..])
            && self.get(item).there.is_none_or(|there| there.node == node.node)
        {
            match self.index.by_node.get(&node.node).copied() {
                // A late answer: its changes were read since, and it is not there any more.
                None if node.moment <= self.upto && holds(Rule::LateAnswers) => {
                    return self.went_since(item, node);
                }
                None => {
                    if let Some(parent) = self.index.by_node.get(&node.parent).copied() {
                        let Node { node, name, bytes, executable, modified, moment, .. } = node.clone();
                        self.set_there(
                            item,
                            Some(There { node, parent, name, bytes, executable, modified, moment }),
                        );
                    }
                }
                // The service's changes told of it first, and maybe of more: both are one.
                Some(other) if other != item && self.get(other).here.is_none() => {
                    let there = self.get(other).there;
                    self.hand_over_there(other, item);
                    self.forget(other);
                    self.set_there(item, there);
                }
                Some(_) => {}
            }
        }
        if let Does::MoveThere(_) = does {
            // It was moved from here: what is another place by now is a change after that.
            for node in &nodes {
                let known = (self.index.by_node.get(&node.node), self.index.by_node.get(&node.parent));
                let (Some(moved), Some(parent)) = known else { continue };
                let (moved, parent, name) = (*moved, *parent, node.name.clone());
                if let Some(common) = &mut self.at_mut(moved).common {
                    (common.parent, common.name) = (parent, name);
                }
            }
        }
        // A late answer tells of what is not there any more: its changes were read since.
        let moment = self.upto;
        let known = |node: &Node| {
            node.moment > moment || self.index.by_node.contains_key(&node.node) || !holds(Rule::LateAnswers)
        };
        let nodes: Vec<Node> = nodes.into_iter().filter(known).collect();
        let answer = nodes.first().cloned();
        self.told(nodes.into_iter().map(Change::Is).collect(), moment);
        // What both have in common is what was answered, though the service may have more by now.
        let Some(answer) = answer.filter(|node| self.index.by_node.get(&node.node) == Some(&item)) else {
            return;
        };
        let Some(parent) = self.index.by_node.get(&answer.parent).copied() else { return };
        let Node { name, bytes, executable, .. } = answer;
        let common = Common { parent, name, hash: bytes.map(|(hash, _)| hash), executable };
        match does {
            Does::PutOnto { bytes, stat, .. } => {
                let facets = self.at_mut(item);
                facets.sent = None;
                if let Some(common) = &mut facets.common {
                    (common.hash, common.executable) = (Some(*bytes), stat.executable);
                }
            }
            Does::PutNew { .. } | Does::MakeFolderThere { .. } | Does::Revive { .. } => {
                let facets = self.at_mut(item);
                (facets.sent, facets.common) = (None, Some(common));
            }
            Does::MarkThere { executable, .. } => {
                if let Some(common) = &mut self.at_mut(item).common {
                    common.executable = *executable;
                }
            }
            _ => {}
        }
    }

    /// What was sent up came there, and somebody has removed it since.
    fn went_since(&mut self, item: Item, node: &Node) {
        let Some(here) = self.get(item).here else { return };
        let (parent, name) = (here.parent, here.name);
        let hash = node.bytes.map(|(hash, _)| hash);
        let facets = self.at_mut(item);
        facets.common = Some(Common { parent, name, hash, executable: node.executable });
        (facets.was, facets.sent) = (Some(node.node), None);
    }
}

/// What is known of a file's bytes after something was done to it of which it kept its size and its time: nothing, if it
/// was not as it was seen before, or is not so any more.
fn hash_after(here: &Here, was: Option<Stat>, now: Option<Stat>) -> Option<Hash> {
    let same = was.zip(now).is_some_and(|(was, now)| (was.size, was.modified) == (now.size, now.modified));
    here.hash.filter(|_| same && here.stat == was || !holds(Rule::LooksTheSame))
}

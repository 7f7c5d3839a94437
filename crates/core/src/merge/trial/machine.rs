//! A computer: its disk, the person at it, and the program that carries out what a pair says.

use super::chance::Chance;
use super::disk::{Disk, Is, TOP};
use super::service::Service;
use super::{Ledger, Tree, new_bytes};
use crate::ids::{Moment, NodeId};
use crate::merge::filter::Filter;
use crate::merge::observe::Entry;
use crate::merge::outcome::Outcome;
use crate::merge::plan::{Action, Does};
use crate::merge::rules::{Rule, holds};
use crate::merge::{self, Hash, Held, Item, Pair, Stat, There, Way};

const NAMES: [&str; 6] = ["a.txt", "b.txt", "c", "d", "e.odt", "f"];

pub struct Machine {
    pub name: String,
    pub disk: Disk,
    pub pair: Pair,
    /// As it was kept last.
    saved: Pair,
    pub doing: Vec<Action>,
    pub quietly: bool,
    pub actions: usize,
    /// So many hours have gone by.
    hours: usize,
    /// Whether its folder is mounted: what is told is there, and its bytes stay on the service.
    pub mounted: bool,
    /// What programs have open, and what it was when they opened it.
    pub open: Vec<(super::mounted::State, Hash)>,
}

impl Machine {
    pub fn new(name: &str) -> Machine {
        let disk = Disk::new();
        let pair = Pair::new(name, Way::Both, NodeId(super::service::PAIR), disk.object(TOP));
        Machine {
            name: name.into(),
            disk,
            saved: pair.clone(),
            pair,
            doing: Vec::new(),
            quietly: false,
            actions: 0,
            hours: 0,
            mounted: false,
            open: Vec::new(),
        }
    }

    /// Somebody says what is left out.
    pub fn set_filter(&mut self, filter: Filter) {
        self.pair.set_filter(filter.clone());
        self.saved.set_filter(filter);
    }

    /// Whether what is not left out differs between both sides.
    pub fn differs(&self, here: &Tree, there: &Tree) -> bool {
        let (mut left_here, mut left_there) = (Vec::new(), Vec::new());
        for (item, facets) in self.pair.items() {
            if !matches!(facets.held, Some(Held::Left(_))) {
                continue;
            }
            left_here.extend(self.pair.path_here(item).filter(|_| facets.here.is_some()));
            left_there.extend(self.pair.path_there(item).filter(|_| facets.there.is_some()));
        }
        let beneath = |path: &str, above: &str| path.starts_with(&format!("{above}/"));
        let keep = |tree: &Tree, left: &[String]| -> Tree {
            let is_left = |path: &str| left.iter().any(|l| path == l || beneath(path, l));
            tree.iter().filter(|(path, _)| !is_left(path)).map(|(p, v)| (p.clone(), *v)).collect()
        };
        let paths = |left: Vec<Vec<String>>| -> Vec<String> {
            left.into_iter().map(|path| format!("/{}", path.join("/"))).collect()
        };
        let (left_here, left_there) = (paths(left_here), paths(left_there));
        let (mut here, there) = (keep(here, &left_here), keep(there, &left_there));
        // A folder stays for what is left out in it.
        here.retain(|path, is| {
            is.is_some() || there.contains_key(path) || !left_here.iter().any(|l| beneath(l, path))
        });
        here != there
    }

    // --- the person ---

    /// Something that somebody does to the files.
    pub fn person(&mut self, chance: &mut Chance, ledger: &mut Ledger) -> String {
        let folders = self.disk.folders();
        let all = self.disk.all();
        let files: Vec<u64> = all.iter().copied().filter(|n| self.disk.hash(*n).is_some()).collect();
        let name = NAMES[chance.below(NAMES.len())];
        let (folder, file, any) =
            (chance.pick(&folders).unwrap_or(TOP), chance.pick(&files), chance.pick(&all));
        match chance.below(11) {
            0 | 1 => {
                let bytes = new_bytes(chance, ledger);
                let is = Is::File { hash: bytes.0, size: bytes.1, executable: false };
                if self.disk.make(folder, name, is).is_some() {
                    ledger.saved(bytes.0);
                }
                format!("makes {name} in {folder} #{}", bytes.0[7])
            }
            2 => {
                self.disk.make(folder, name, Is::Folder(Default::default()));
                format!("makes folder {name} in {folder}")
            }
            3 => {
                let Some(file) = file else { return String::new() };
                let bytes = new_bytes(chance, ledger);
                ledger.killed(self.disk.hash(file));
                self.disk.write(file, bytes, None);
                ledger.saved(bytes.0);
                format!("writes {file} #{}", bytes.0[7])
            }
            4 | 5 => {
                // By a file beside it that takes its place; or the old one is put aside first.
                let Some(file) = file else { return String::new() };
                let Some((folder, name)) = self.disk.parent(file) else { return String::new() };
                let bytes = new_bytes(chance, ledger);
                let is = Is::File { hash: bytes.0, size: bytes.1, executable: false };
                if chance.percent(50) {
                    let Some(new) = self.disk.make(folder, &format!("{name}.tmp"), is) else {
                        return String::new();
                    };
                    ledger.killed(self.disk.hash(file));
                    self.disk.rename(new, (folder, &name), true);
                } else {
                    let old = format!("{name}~");
                    if let Some(old) = self.disk.child(folder, &old) {
                        if self.disk.hash(old).is_none() {
                            return String::new();
                        }
                        ledger.killed(self.disk.hash(old));
                    }
                    self.disk.rename(file, (folder, &old), true);
                    self.disk.make(folder, &name, is);
                }
                ledger.saved(bytes.0);
                format!("saves {name} in {folder} #{}", bytes.0[7])
            }
            6 | 7 => {
                let Some(any) = any else { return String::new() };
                let over = chance.percent(30);
                if over
                    && let Some(there) = self.disk.child(folder, name)
                    && there != any
                    && self.disk.hash(any).is_some()
                {
                    ledger.killed(self.disk.hash(there));
                }
                let done = self.disk.rename(any, (folder, name), over);
                format!("moves {any} to {name} in {folder}: {done}")
            }
            8 => self.swaps(any, chance.pick(&all)),
            9 => {
                let Some(file) = file else { return String::new() };
                let on = chance.percent(50);
                self.disk.mark(file, on);
                format!("marks {file} {on}")
            }
            _ => {
                let Some(any) = any else { return String::new() };
                let mut waiting = vec![any];
                while let Some(inode) = waiting.pop() {
                    ledger.killed(self.disk.hash(inode));
                    waiting
                        .extend(self.disk.names(inode).into_iter().flat_map(|names| names.values().copied()));
                }
                self.disk.remove(any);
                format!("removes {any}")
            }
        }
    }

    /// Two change their names.
    fn swaps(&mut self, one: Option<u64>, two: Option<u64>) -> String {
        let (Some(one), Some(two)) = (one, two) else { return String::new() };
        let (Some(a), Some(b)) = (self.disk.parent(one), self.disk.parent(two)) else { return String::new() };
        if one == two || self.disk.is_beneath(one, two) || self.disk.is_beneath(two, one) {
            return String::new();
        }
        if self.disk.rename(one, (a.0, "passing"), false) {
            self.disk.rename(two, (a.0, &a.1), false);
            self.disk.rename(one, (b.0, &b.1), false);
        }
        format!("swaps {one} and {two}")
    }

    // --- the program ---

    fn inode(&self, item: Item) -> Option<u64> {
        self.disk.of(self.pair.facets(item)?.here.as_ref()?.object)
    }

    /// The inode of a thing, if it is where the pair knows it.
    fn in_place(&self, item: Item) -> Option<u64> {
        let here = self.pair.facets(item)?.here.as_ref()?;
        let inode = self.disk.of(here.object)?;
        let above = self.inode(here.parent)?;
        (self.disk.parent(inode)? == (above, here.name.clone())).then_some(inode)
    }

    /// Hears of some folders in which something happened; some of it is lost.
    pub fn notice(&mut self, chance: &mut Chance, lossy: bool) {
        let many =
            if self.quietly { self.disk.stirred.len() } else { chance.below(self.disk.stirred.len() + 1) };
        for inode in self.disk.stirred.drain(..many).collect::<Vec<_>>() {
            if lossy && chance.percent(3) {
                continue;
            }
            let object = self.disk.object(inode);
            if let Some(item) = self.pair.folder_of(object) {
                self.pair.stirred(item);
            }
        }
    }

    /// Looks at everything, as once a day.
    pub fn walk(&mut self) {
        let all: Vec<Item> = self.pair.items().map(|(item, _)| item).collect();
        all.into_iter().for_each(|item| self.pair.stirred(item));
    }

    pub fn list(&mut self, chance: &mut Chance) -> bool {
        let Some(item) = chance.pick(&self.pair.unlisted()) else { return false };
        let entries = match self.inode(item).and_then(|inode| self.disk.names(inode)) {
            Some(names) => names
                .iter()
                .map(|(name, inode)| Entry {
                    name: name.clone(),
                    object: self.disk.object(*inode),
                    stat: self.disk.stat(*inode),
                })
                .collect(),
            None => {
                // It is not there: its folder says so.
                if let Some(here) = self.pair.facets(item).and_then(|f| f.here.clone()) {
                    self.pair.stirred(here.parent);
                }
                Vec::new()
            }
        };
        self.pair.listed(item, entries);
        true
    }

    pub fn settle(&mut self) -> bool {
        (self.disk.stirred.is_empty() || self.quietly) && self.pair.settle()
    }

    /// Reads the service's changes, all there are.
    pub fn hear(&mut self, service: &Service, chance: &mut Chance) -> bool {
        let before = self.pair.upto();
        self.expand(service);
        loop {
            let (changes, upto) = service.changes(self.pair.upto(), 1 + chance.below(6));
            self.pair.told(changes, upto);
            self.expand(service);
            if self.pair.upto() >= Moment(service.moment) {
                return before != self.pair.upto();
            }
        }
    }

    /// Is told what is in folders that came into sight.
    fn expand(&mut self, service: &Service) {
        while let Some(folder) = self.pair.unexpanded().pop() {
            let nodes = service.beneath(folder.0).into_iter().map(|child| service.node(child)).collect();
            self.pair.told_beneath(folder, nodes);
        }
    }

    /// An hour goes by, and what was held is tried again.
    pub fn an_hour_later(&mut self) {
        self.hours += 1;
        self.pair.try_again();
    }

    /// What the service's clock shows, as people read it.
    fn time(&self) -> String {
        format!("2026-11-{:02} {:02}.03", 1 + self.hours / 24 % 28, self.hours % 24)
    }

    pub fn think(&mut self, chance: &mut Chance) -> usize {
        let actions = self.pair.next(1 + chance.below(4), &self.time());
        let many = actions.len();
        self.doing.extend(actions);
        self.actions += many;
        // What is about to be sent is known after a stop.
        self.saved = self.pair.clone();
        many
    }

    pub fn keep(&mut self) {
        self.saved = self.pair.clone();
    }

    /// The power goes: what was under way is done, or not.
    pub fn stop(&mut self) {
        self.pair = self.saved.clone();
        self.pair.begin();
        self.doing.clear();
        self.disk.stirred.clear();
    }

    /// Carries out one of the things that are under way; sometimes its answer is lost.
    pub fn act(&mut self, service: &mut Service, chance: &mut Chance, faulty: bool) -> Option<String> {
        if self.doing.is_empty() {
            return None;
        }
        let action = self.doing.swap_remove(chance.below(self.doing.len()));
        if faulty && chance.percent(5) {
            self.pair.ended(&action, Outcome::Unknown);
            return Some(super::short(&format!("{action:?}: never sent")));
        }
        let outcome = self.carry_out(&action, service);
        let told = super::short(&format!("{action:?}: {outcome:?}"));
        let lost = faulty && chance.percent(10);
        self.pair.ended(&action, if lost { Outcome::Unknown } else { outcome });
        if lost {
            return Some(format!("{told}, and nobody heard"));
        }
        Some(told)
    }

    fn brings(&mut self, item: Item, slot: &(Item, String), state: &There, over: Option<Stat>) -> Outcome {
        let Some((hash, size)) = state.bytes else { return Outcome::Unknown };
        let Some(folder) = self.inode(slot.0) else { return Outcome::OtherwiseHere };
        if over.is_some() {
            match self.in_place(item) {
                Some(inode) if self.disk.stat(inode) == over => self.disk.remove(inode),
                _ => return Outcome::OtherwiseHere,
            }
        }
        match self.disk.make(folder, &slot.1, Is::File { hash, size, executable: state.executable }) {
            Some(inode) => {
                if self.mounted && size > 0 {
                    self.disk.stubs.insert(inode, (state.node.0, state.moment.0));
                }
                Outcome::Here(self.disk.object(inode), self.disk.stat(inode))
            }
            None => Outcome::OtherwiseHere,
        }
    }

    fn carry_out(&mut self, action: &Action, service: &mut Service) -> Outcome {
        let request = format!("{} {} {} {:?}", self.name, action.item.0, action.turn, action.does);
        match &action.does {
            Does::ReadHash(stat) => match self.in_place(action.item) {
                Some(inode) if self.disk.stat(inode) == Some(*stat) => {
                    Outcome::Read(self.disk.hash(inode).unwrap_or_default())
                }
                _ => Outcome::OtherwiseHere,
            },
            Does::MakeFolderHere((folder, name)) => {
                let made =
                    self.inode(*folder).and_then(|f| self.disk.make(f, name, Is::Folder(Default::default())));
                match made {
                    Some(inode) => Outcome::Here(self.disk.object(inode), None),
                    None => Outcome::OtherwiseHere,
                }
            }
            Does::Fetch { slot, state, over } => self.brings(action.item, slot, state, *over),
            Does::SetAside(..) | Does::MoveHere { follows: false, .. } if self.was_there(action, service) => {
                Outcome::WasThere
            }
            Does::MoveHere { slot: (folder, name), was, .. } | Does::SetAside((folder, name), was) => {
                let (Some(inode), Some(folder)) = (self.in_place(action.item), self.inode(*folder)) else {
                    return Outcome::OtherwiseHere;
                };
                if self.disk.stat(inode) != *was && holds(Rule::LooksTheSame) {
                    return Outcome::OtherwiseHere;
                }
                match self.disk.child(folder, name).is_none()
                    && self.disk.rename(inode, (folder, name), false)
                {
                    true => Outcome::Here(self.disk.object(inode), self.disk.stat(inode)),
                    false => Outcome::OtherwiseHere,
                }
            }
            Does::RemoveHere(stat) => {
                let Some(inode) = self.in_place(action.item) else { return Outcome::OtherwiseHere };
                let empty = self.disk.names(inode).is_none_or(|names| names.is_empty());
                if self.disk.stat(inode) != *stat || !empty {
                    return Outcome::OtherwiseHere;
                }
                self.disk.remove(inode);
                Outcome::Removed
            }
            Does::MarkHere(executable, was) => {
                let Some(inode) = self.in_place(action.item) else { return Outcome::OtherwiseHere };
                if self.disk.stat(inode) != *was {
                    return Outcome::OtherwiseHere;
                }
                self.disk.mark(inode, *executable);
                Outcome::Here(self.disk.object(inode), self.disk.stat(inode))
            }
            Does::MakeFolderThere { parent, name } => {
                there(service.once(request, |s| s.make(parent.0, name, None, false)))
            }
            Does::PutNew { bytes, .. } | Does::PutOnto { bytes, .. }
                if self.has_no_bytes(action.item, bytes, service) =>
            {
                Outcome::Refused("not_at_hand".into())
            }
            Does::PutNew { parent, name, bytes, stat } => match self.sends(action.item, *stat, bytes) {
                false => Outcome::OtherwiseHere,
                true => {
                    let bytes = Some((*bytes, stat.size));
                    there(service.once(request, |s| s.make(parent.0, name, bytes, stat.executable)))
                }
            },
            Does::PutOnto { node, seen, bytes, stat } => match self.sends(action.item, *stat, bytes) {
                false => Outcome::OtherwiseHere,
                true => {
                    let bytes = (*bytes, stat.size);
                    there(service.once(request, |s| s.put_onto(node.0, seen.0, bytes, stat.executable)))
                }
            },
            Does::Revive { node, .. }
                if service.rows.get(&node.0).is_some_and(|row| row.alive && !service.is_told(node.0)) =>
            {
                Outcome::Elsewhere
            }
            Does::Revive { node, parent, name } => {
                there(service.once(request, |s| s.revive(node.0, parent.0, name)))
            }
            Does::MoveThere(moves) => there(service.once(request, |s| s.moves(moves))),
            Does::RemoveThere { node, seen } => match service.once(request, |s| s.remove(node.0, seen.0)) {
                Ok(_) => Outcome::Removed,
                Err(_) => Outcome::OtherwiseThere,
            },
            Does::MarkThere { node, executable } => {
                there(service.once(request, |s| s.mark(node.0, *executable)))
            }
        }
    }

    fn stub(&self, item: Item) -> Option<super::mounted::State> {
        self.disk.stubs.get(&self.in_place(item)?).copied()
    }

    /// Whether what lies here is a state that the service had of what has its place: then nobody here changed it.
    fn was_there(&self, action: &Action, service: &Service) -> bool {
        let Some((node, hash)) = self.pair.may_have_been(action) else { return false };
        let stands_for_it = self.stub(action.item).is_some_and(|(stands_for, _)| stands_for == node.0);
        stands_for_it || service.was(node.0, hash)
    }

    /// Whether a file stands for a state of the service that this has no more: it is made of that, there.
    fn has_no_bytes(&self, item: Item, bytes: &Hash, service: &Service) -> bool {
        self.stub(item).is_some_and(|(node, moment)| service.state(node, moment) != Some(*bytes))
    }

    /// Whether a file can be sent as it was seen.
    fn sends(&self, item: Item, stat: merge::Stat, bytes: &Hash) -> bool {
        let Some(inode) = self.in_place(item) else { return false };
        self.disk.stat(inode) == Some(stat) && self.disk.hash(inode).as_ref() == Some(bytes)
    }
}

fn there(done: Result<Vec<merge::observe::Node>, super::service::Otherwise>) -> Outcome {
    match done {
        Ok(nodes) => Outcome::There(nodes),
        Err(_) => Outcome::OtherwiseThere,
    }
}

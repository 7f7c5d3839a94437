//! The service, as far as a computer that keeps a folder the same meets it.

use crate::ids::{Moment, NodeId};
use crate::merge::Hash;
use crate::merge::observe::{Change, Node};
use crate::merge::plan::Move;
use std::collections::{BTreeMap, BTreeSet};

/// The node of the folder that is kept the same, and of one beside it.
pub const PAIR: i64 = 1;
pub const ELSEWHERE: i64 = 2;

#[derive(Clone, Debug)]
pub struct Row {
    pub parent: i64,
    pub name: String,
    pub bytes: Option<(Hash, u64)>,
    pub executable: bool,
    pub moment: i64,
    pub alive: bool,
}

/// Why something is not done.
#[derive(Debug, PartialEq, Eq)]
pub struct Otherwise;

#[derive(Default)]
pub struct Service {
    pub rows: BTreeMap<i64, Row>,
    pub moment: i64,
    /// All bytes that it ever had.
    pub held: BTreeSet<Hash>,
    answered: BTreeMap<String, Vec<Node>>,
    /// What each file was, from which moment on.
    states: BTreeMap<i64, Vec<(i64, Hash)>>,
}

type Done = Result<Vec<Node>, Otherwise>;

impl Service {
    pub fn new() -> Service {
        let mut service = Service::default();
        for id in [0, PAIR, ELSEWHERE] {
            let row = Row {
                parent: -1,
                name: format!("top {id}"),
                bytes: None,
                executable: false,
                moment: 0,
                alive: true,
            };
            service.rows.insert(id, row);
        }
        service
    }

    fn tick(&mut self) -> i64 {
        self.moment += 1;
        self.moment
    }

    pub fn node(&self, id: i64) -> Node {
        let row = &self.rows[&id];
        Node {
            node: NodeId(id),
            parent: NodeId(row.parent),
            name: row.name.clone(),
            bytes: row.bytes,
            executable: row.executable,
            modified: 0,
            moment: Moment(row.moment),
        }
    }

    pub fn child(&self, parent: i64, name: &str) -> Option<i64> {
        self.rows.iter().find(|(_, r)| r.alive && r.parent == parent && r.name == name).map(|(id, _)| *id)
    }

    pub fn children(&self, parent: i64) -> Vec<i64> {
        self.rows.iter().filter(|(_, r)| r.alive && r.parent == parent).map(|(id, _)| *id).collect()
    }

    pub fn beneath(&self, top: i64) -> Vec<i64> {
        let (mut found, mut waiting) = (Vec::new(), vec![top]);
        while let Some(folder) = waiting.pop() {
            for child in self.children(folder) {
                found.push(child);
                waiting.push(child);
            }
        }
        found
    }

    fn folder(&self, id: i64) -> Result<(), Otherwise> {
        match self.rows.get(&id) {
            Some(row) if row.alive && row.bytes.is_none() => Ok(()),
            _ => Err(Otherwise),
        }
    }

    fn living(&self, id: i64) -> Result<&Row, Otherwise> {
        self.rows.get(&id).filter(|row| row.alive).ok_or(Otherwise)
    }

    /// A repeat gets the first answer.
    pub fn once(&mut self, request: String, does: impl FnOnce(&mut Service) -> Done) -> Done {
        if let Some(first) = self.answered.get(&request) {
            return Ok(first.clone());
        }
        let done = does(self)?;
        self.answered.insert(request, done.clone());
        Ok(done)
    }

    pub fn make(&mut self, parent: i64, name: &str, bytes: Option<(Hash, u64)>, executable: bool) -> Done {
        self.folder(parent)?;
        if self.child(parent, name).is_some() {
            return Err(Otherwise);
        }
        let id = self.rows.keys().last().map_or(1, |last| last + 1);
        let moment = self.tick();
        self.held.extend(bytes.map(|(hash, _)| hash));
        if let Some((hash, _)) = bytes {
            self.states.entry(id).or_default().push((moment, hash));
        }
        self.rows.insert(id, Row { parent, name: name.into(), bytes, executable, moment, alive: true });
        Ok(vec![self.node(id)])
    }

    /// What a file was at a moment.
    pub fn state(&self, id: i64, at: i64) -> Option<Hash> {
        let states = self.states.get(&id)?;
        states.iter().rev().find(|(moment, _)| *moment <= at).map(|(_, hash)| *hash)
    }

    /// Whether a file ever was that.
    pub fn was(&self, id: i64, hash: Hash) -> bool {
        self.states.get(&id).is_some_and(|states| states.iter().any(|(_, was)| *was == hash))
    }

    pub fn put_onto(&mut self, id: i64, seen: i64, bytes: (Hash, u64), executable: bool) -> Done {
        let row = self.living(id)?;
        if row.moment > seen || row.bytes.is_none() {
            return Err(Otherwise);
        }
        if row.bytes == Some(bytes) && row.executable == executable {
            return Ok(vec![self.node(id)]);
        }
        let moment = self.tick();
        self.held.insert(bytes.0);
        self.states.entry(id).or_default().push((moment, bytes.0));
        let Some(row) = self.rows.get_mut(&id) else { return Err(Otherwise) };
        (row.bytes, row.executable, row.moment) = (Some(bytes), executable, moment);
        Ok(vec![self.node(id)])
    }

    pub fn mark(&mut self, id: i64, executable: bool) -> Done {
        if self.living(id)?.executable != executable {
            let moment = self.tick();
            let Some(row) = self.rows.get_mut(&id) else { return Err(Otherwise) };
            (row.executable, row.moment) = (executable, moment);
        }
        Ok(vec![self.node(id)])
    }

    pub fn revive(&mut self, id: i64, parent: i64, name: &str) -> Done {
        self.folder(parent)?;
        let row = self.rows.get(&id).ok_or(Otherwise)?;
        if row.alive || self.child(parent, name).is_some() {
            return Err(Otherwise);
        }
        let moment = self.tick();
        let Some(row) = self.rows.get_mut(&id) else { return Err(Otherwise) };
        (row.parent, row.name, row.alive, row.moment) = (parent, name.into(), true, moment);
        Ok(vec![self.node(id)])
    }

    pub fn remove(&mut self, id: i64, seen: i64) -> Done {
        self.living(id)?;
        let all: Vec<i64> = std::iter::once(id).chain(self.beneath(id)).collect();
        if all.iter().any(|id| self.rows[id].moment > seen) {
            return Err(Otherwise);
        }
        let moment = self.tick();
        for id in all {
            if let Some(row) = self.rows.get_mut(&id) {
                (row.alive, row.moment) = (false, moment);
            }
        }
        Ok(Vec::new())
    }

    pub fn moves(&mut self, moves: &[Move]) -> Done {
        let before = self.rows.clone();
        let moment = self.moment + 1;
        for step in moves {
            let row = self.living(step.node.0)?;
            if row.moment > step.seen.0 {
                return Err(Otherwise);
            }
            self.folder(step.parent.0)?;
        }
        for step in moves {
            if let Some(row) = self.rows.get_mut(&step.node.0) {
                (row.parent, row.name, row.moment) = (step.parent.0, step.name.clone(), moment);
            }
        }
        let whole = moves.iter().all(|step| {
            let id = step.node.0;
            let alone = self.rows.iter().all(|(other, r)| {
                *other == id || !r.alive || (r.parent, &r.name) != (step.parent.0, &step.name)
            });
            alone && self.reaches_a_top(id)
        });
        if !whole {
            self.rows = before;
            return Err(Otherwise);
        }
        self.moment = moment;
        Ok(moves.iter().map(|step| self.node(step.node.0)).collect())
    }

    fn reaches_a_top(&self, mut id: i64) -> bool {
        for _ in 0..1000 {
            match self.rows.get(&id) {
                Some(row) if row.parent == -1 => return true,
                Some(row) => id = row.parent,
                None => return false,
            }
        }
        false
    }

    /// Whether a node is where the pair reaches.
    pub fn is_told(&self, mut id: i64) -> bool {
        while id > ELSEWHERE {
            id = self.rows[&id].parent;
        }
        id == PAIR
    }

    /// The next changes, and up to which moment that is all.
    pub fn changes(&self, since: Moment, most: usize) -> (Vec<Change>, Moment) {
        let mut changed: Vec<(i64, i64)> =
            self.rows.iter().filter(|(_, r)| r.moment > since.0).map(|(id, r)| (r.moment, *id)).collect();
        changed.sort_unstable();
        let mut end = changed.len().min(most);
        // What happened at one moment is told together.
        while end > 0 && end < changed.len() && changed[end].0 == changed[end - 1].0 {
            end += 1;
        }
        let upto = if end < changed.len() { changed[end - 1].0 } else { self.moment };
        let told = changed[..end].iter().map(|(moment, id)| match self.rows[id].alive {
            true => Change::Is(self.node(*id)),
            false => Change::Gone(NodeId(*id), Moment(*moment)),
        });
        (told.collect(), Moment(upto))
    }

    /// What is kept the same, by its paths.
    pub fn tree(&self) -> super::Tree {
        let mut tree = super::Tree::new();
        let mut waiting = vec![(PAIR, String::new())];
        while let Some((folder, path)) = waiting.pop() {
            for child in self.children(folder) {
                let row = &self.rows[&child];
                let path = format!("{path}/{}", row.name);
                tree.insert(path.clone(), row.bytes.map(|(hash, _)| (hash, row.executable)));
                waiting.push((child, path));
            }
        }
        tree
    }
}

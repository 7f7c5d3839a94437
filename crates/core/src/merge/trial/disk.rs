//! A computer's file system, with the habits of real ones: numbers of inodes are used again, and a look at a file tells
//! its size and times, not its bytes.

use crate::merge::{Hash, Object, Stat};
use std::collections::BTreeMap;

#[derive(Clone, Debug)]
pub enum Is {
    Folder(BTreeMap<String, u64>),
    File { hash: Hash, size: u64, executable: bool },
}

#[derive(Clone, Debug)]
pub struct Inode {
    pub is: Is,
    pub born: i64,
    pub modified: i64,
    pub changed: i64,
}

pub struct Disk {
    pub inodes: BTreeMap<u64, Inode>,
    pub clock: i64,
    /// Folders in which something happened, oldest first.
    pub stirred: Vec<u64>,
    /// Files whose bytes are only on the service, and for which of its states they stand.
    pub stubs: BTreeMap<u64, super::mounted::State>,
}

pub const TOP: u64 = 1;

impl Disk {
    pub fn new() -> Disk {
        let top = Inode { is: Is::Folder(BTreeMap::new()), born: 1, modified: 1, changed: 1 };
        Disk { inodes: BTreeMap::from([(TOP, top)]), clock: 1, stirred: Vec::new(), stubs: BTreeMap::new() }
    }

    fn tick(&mut self) -> i64 {
        self.clock += 1;
        self.clock
    }

    pub fn object(&self, inode: u64) -> Object {
        Object { device: 1, inode, born: self.inodes.get(&inode).map_or(0, |i| i.born) }
    }

    pub fn of(&self, object: Object) -> Option<u64> {
        self.inodes.get(&object.inode).filter(|i| i.born == object.born).map(|_| object.inode)
    }

    pub fn stat(&self, inode: u64) -> Option<Stat> {
        let i = self.inodes.get(&inode)?;
        match i.is {
            Is::Folder(_) => None,
            Is::File { size, executable, .. } => {
                Some(Stat { size, modified: i.modified, changed: i.changed, executable })
            }
        }
    }

    pub fn names(&self, folder: u64) -> Option<&BTreeMap<String, u64>> {
        match self.inodes.get(&folder).map(|i| &i.is) {
            Some(Is::Folder(names)) => Some(names),
            _ => None,
        }
    }

    fn names_mut(&mut self, folder: u64) -> Option<&mut BTreeMap<String, u64>> {
        self.stirred.push(folder);
        match self.inodes.get_mut(&folder).map(|i| &mut i.is) {
            Some(Is::Folder(names)) => Some(names),
            _ => None,
        }
    }

    pub fn child(&self, folder: u64, name: &str) -> Option<u64> {
        self.names(folder)?.get(name).copied()
    }

    pub fn hash(&self, inode: u64) -> Option<Hash> {
        match self.inodes.get(&inode)?.is {
            Is::File { hash, .. } => Some(hash),
            Is::Folder(_) => None,
        }
    }

    pub fn parent(&self, inode: u64) -> Option<(u64, String)> {
        self.inodes.iter().find_map(|(folder, i)| match &i.is {
            Is::Folder(names) => {
                names.iter().find(|(_, child)| **child == inode).map(|(name, _)| (*folder, name.clone()))
            }
            Is::File { .. } => None,
        })
    }

    pub fn is_beneath(&self, mut inode: u64, folder: u64) -> bool {
        loop {
            if inode == folder {
                return true;
            }
            match self.parent(inode) {
                Some((above, _)) => inode = above,
                None => return false,
            }
        }
    }

    pub fn make(&mut self, folder: u64, name: &str, is: Is) -> Option<u64> {
        if self.names(folder).is_none_or(|names| names.contains_key(name)) {
            return None;
        }
        let now = self.tick();
        // The lowest number that is free, as some file systems do.
        let inode = (2..).find(|n| !self.inodes.contains_key(n))?;
        self.inodes.insert(inode, Inode { is, born: now, modified: now, changed: now });
        self.names_mut(folder)?.insert(name.into(), inode);
        Some(inode)
    }

    pub fn write(&mut self, inode: u64, bytes: (Hash, u64), executable: Option<bool>) {
        let now = self.tick();
        let folder = self.parent(inode).map(|(folder, _)| folder);
        self.stirred.extend(folder);
        // What is written from its beginning on need not be fetched.
        self.stubs.remove(&inode);
        if let Some(i) = self.inodes.get_mut(&inode)
            && let Is::File { hash, size, executable: x } = &mut i.is
        {
            (*hash, *size) = bytes;
            *x = executable.unwrap_or(*x);
            (i.modified, i.changed) = (now, now);
        }
    }

    /// Something of it changes that is neither its bytes nor its time.
    pub fn touch(&mut self, inode: u64) {
        let now = self.tick();
        let folder = self.parent(inode).map(|(folder, _)| folder);
        self.stirred.extend(folder);
        if let Some(i) = self.inodes.get_mut(&inode) {
            i.changed = now;
        }
    }

    pub fn mark(&mut self, inode: u64, executable: bool) {
        let now = self.tick();
        let folder = self.parent(inode).map(|(folder, _)| folder);
        self.stirred.extend(folder);
        if let Some(i) = self.inodes.get_mut(&inode)
            && let Is::File { executable: x, .. } = &mut i.is
        {
            *x = executable;
            i.changed = now;
        }
    }

    /// Renames; what stands there is replaced if `over`.
    pub fn rename(&mut self, inode: u64, to: (u64, &str), over: bool) -> bool {
        let Some((from, old)) = self.parent(inode) else { return false };
        if self.names(to.0).is_none() || self.is_beneath(to.0, inode) {
            return false;
        }
        if let Some(there) = self.child(to.0, to.1) {
            if there == inode {
                return true;
            }
            let plain = |n| self.names(n).is_none();
            if !over || !plain(there) || !plain(inode) {
                return false;
            }
            self.remove(there);
        }
        let now = self.tick();
        if let Some(names) = self.names_mut(from) {
            names.remove(&old);
        }
        if let Some(names) = self.names_mut(to.0) {
            names.insert(to.1.into(), inode);
        }
        if let Some(i) = self.inodes.get_mut(&inode) {
            i.changed = now;
        }
        true
    }

    /// Removes a file, or a folder with all in it.
    pub fn remove(&mut self, inode: u64) {
        let children: Vec<u64> =
            self.names(inode).map_or(Vec::new(), |names| names.values().copied().collect());
        children.into_iter().for_each(|child| self.remove(child));
        if let Some((folder, name)) = self.parent(inode)
            && let Some(names) = self.names_mut(folder)
        {
            names.remove(&name);
        }
        self.inodes.remove(&inode);
        self.stubs.remove(&inode);
    }

    pub fn all(&self) -> Vec<u64> {
        self.inodes.keys().copied().filter(|n| *n != TOP).collect()
    }

    pub fn folders(&self) -> Vec<u64> {
        self.inodes.keys().copied().filter(|n| self.names(*n).is_some()).collect()
    }

    pub fn tree(&self) -> super::Tree {
        let mut tree = super::Tree::new();
        let mut waiting = vec![(TOP, String::new())];
        while let Some((folder, path)) = waiting.pop() {
            for (name, child) in self.names(folder).into_iter().flatten() {
                let path = format!("{path}/{name}");
                let is = match self.inodes[child].is {
                    Is::Folder(_) => None,
                    Is::File { hash, executable, .. } => Some((hash, executable)),
                };
                tree.insert(path.clone(), is);
                waiting.push((*child, path));
            }
        }
        tree
    }
}

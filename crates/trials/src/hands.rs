//! Somebody with a file manager: makes, edits, replaces, renames and removes files and folders, by chance.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

/// What a hand did.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Deed {
    /// Made a file, with these bytes.
    Made(PathBuf, Vec<u8>),
    /// Wrote these bytes over a file in its place: what was in it is gone.
    Edited(PathBuf, Vec<u8>),
    /// Saved a file anew by renaming another one over it: what was in it is gone.
    Replaced(PathBuf, Vec<u8>),
    /// Renamed something to a free name.
    Renamed(PathBuf, PathBuf),
    /// Removed something, with all in it.
    Removed(PathBuf),
    /// Made a folder.
    Folder(PathBuf),
    /// Nothing there to do it to.
    Nothing,
}

/// Hands in a folder. All bytes that they write are different.
pub struct Hands<N> {
    folder: PathBuf,
    chance: N,
    written: u64,
}

impl<N: FnMut(u64) -> u64> Hands<N> {
    /// Hands that do what `chance` says (a number below the one that it is given).
    pub fn new(folder: &Path, chance: N) -> Hands<N> {
        Hands { folder: folder.to_path_buf(), chance, written: 0 }
    }

    fn bytes(&mut self) -> Vec<u8> {
        self.written += 1;
        format!("by hand {} ", self.written).repeat(1 + (self.chance)(20) as usize).into_bytes()
    }

    fn pick(&mut self, folders: bool) -> Option<PathBuf> {
        let all: Vec<PathBuf> = walk(&self.folder).into_iter().filter(|p| p.is_dir() == folders).collect();
        (!all.is_empty()).then(|| all[(self.chance)(all.len() as u64) as usize].clone())
    }

    /// A place in one of the folders, perhaps taken.
    fn place(&mut self) -> PathBuf {
        let folder = self.pick(true).filter(|_| true).unwrap_or_else(|| self.folder.clone());
        let folder = if (self.chance)(3) == 0 { self.folder.clone() } else { folder };
        folder.join(["a", "b", "c", "d"][(self.chance)(4) as usize])
    }

    /// Does one thing.
    pub fn act(&mut self) -> Deed {
        match (self.chance)(10) {
            0..=2 => {
                let (at, bytes) = (self.place(), self.bytes());
                match at.exists() {
                    true => Deed::Nothing,
                    false => fs::write(&at, &bytes).map_or(Deed::Nothing, |()| Deed::Made(at, bytes)),
                }
            }
            3 | 4 => match self.pick(false) {
                Some(at) => {
                    let bytes = self.bytes();
                    fs::write(&at, &bytes).map_or(Deed::Nothing, |()| Deed::Edited(at, bytes))
                }
                None => Deed::Nothing,
            },
            5 => match self.pick(false) {
                Some(at) => {
                    let (new, bytes) = (self.folder.join(".saving"), self.bytes());
                    let saved = fs::write(&new, &bytes).and_then(|()| fs::rename(&new, &at));
                    saved.map_or(Deed::Nothing, |()| Deed::Replaced(at, bytes))
                }
                None => Deed::Nothing,
            },
            6 | 7 => {
                let folders = (self.chance)(2) == 0;
                let (Some(from), to) = (self.pick(folders), self.place()) else { return Deed::Nothing };
                match to.exists() || to.starts_with(&from) {
                    true => Deed::Nothing,
                    false => fs::rename(&from, &to).map_or(Deed::Nothing, |()| Deed::Renamed(from, to)),
                }
            }
            8 => {
                let folders = (self.chance)(3) == 0;
                let Some(at) = self.pick(folders) else { return Deed::Nothing };
                let gone = if folders { fs::remove_dir_all(&at) } else { fs::remove_file(&at) };
                gone.map_or(Deed::Nothing, |()| Deed::Removed(at))
            }
            _ => {
                let at = self.place();
                fs::create_dir(&at).map_or(Deed::Nothing, |()| Deed::Folder(at))
            }
        }
    }
}

/// All that lies below a folder.
pub fn walk(folder: &Path) -> BTreeSet<PathBuf> {
    let mut found = BTreeSet::new();
    let mut waiting = vec![folder.to_path_buf()];
    while let Some(dir) = waiting.pop() {
        let Ok(entries) = fs::read_dir(&dir) else { continue };
        for entry in entries.flatten() {
            let path = entry.path();
            if entry.file_type().is_ok_and(|t| t.is_dir()) {
                waiting.push(path.clone());
            }
            found.insert(path);
        }
    }
    found
}

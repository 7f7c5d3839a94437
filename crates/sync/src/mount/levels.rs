//! What the caller may do where: by the level of the shelf, and of what beneath it has another one.

use super::inner::{Inner, Place, error};
use super::nodes::{PAST, Seen};
use fuser::FileType;
use std::io;
use yellow_attic_core::merge::Object;
use yellow_attic_core::mounted::room::Thing;
use yellow_attic_core::rights::Level;

impl Place {
    /// What may be done here: what was said deepest on the way counts.
    pub(super) fn level(&self) -> Level {
        let said = self.top.beneath.iter().filter(|(way, _)| self.way.starts_with(way));
        said.max_by_key(|(way, _)| way.len()).map_or(self.top.level, |(_, level)| *level)
    }

    /// The same of what stands in it under a name.
    pub(super) fn level_of(&self, name: &[u8]) -> Level {
        if self.top.beneath.is_empty() {
            return self.top.level;
        }
        self.child(name).level()
    }

    /// What stands in it under a name.
    pub(super) fn child(&self, name: &[u8]) -> Place {
        let mut way = self.way.clone();
        way.push(name.to_vec());
        Place { top: self.top.clone(), way }
    }
}

impl Inner {
    /// Where something new is to stand.
    pub(super) fn to_add(&self, folder: u64) -> io::Result<Place> {
        self.may(folder, |place| place.level() >= Level::Add)
    }

    /// What a program is to change, by its number.
    pub(super) fn to_edit(&self, ino: u64) -> io::Result<Place> {
        let object = self.nodes.object(ino);
        self.may(ino, |place| object.is_ok_and(|object| self.may_edit(place.level(), object)))
    }

    /// What stands in a folder under a name, and is to be changed or go.
    pub(super) fn to_edit_in(&self, folder: u64, name: &[u8], object: Object) -> io::Result<Place> {
        self.may(folder, |place| self.may_edit(place.level_of(name), object))
    }

    fn may(&self, ino: u64, may: impl FnOnce(&Place) -> bool) -> io::Result<Place> {
        if ino >= PAST {
            return Err(error(libc::EROFS));
        }
        match self.place(ino)? {
            Some(place) if may(&place) => Ok(place),
            // Shelves and what was given stand there, and nothing else.
            _ => Err(error(libc::EACCES)),
        }
    }

    /// Whoever may only add may change what the service does not have yet.
    fn may_edit(&self, level: Level, object: Object) -> bool {
        level >= Level::Edit
            || level == Level::Add && self.at_hand.room().is_owed(Thing::File(object))
            || level == Level::Add && self.is_open_here(object)
    }

    /// Whether it was made here just now, and is still open.
    fn is_open_here(&self, object: Object) -> bool {
        let open = self.files.is_open(self.nodes.number(object));
        open.is_some_and(|file| file.is_written())
    }

    /// What may be done with something; none for what is above the shelves.
    pub(super) fn level(&self, ino: u64) -> Option<Level> {
        self.place(ino).ok().flatten().map(|place| place.level())
    }

    /// As programs see it: what may not be written says so.
    pub(super) fn shown(&self, mut seen: Seen, level: Option<Level>) -> Seen {
        let open = self.files.is_open(seen.attr.ino.0).and_then(|file| file.here());
        if let Some(now) = open.and_then(|file| self.nodes.look_at(&*file).ok()) {
            seen.attr = now.attr;
        }
        let level = level.unwrap_or(Level::View);
        let writes = match seen.attr.kind {
            FileType::Directory => level >= Level::Add,
            _ => self.may_edit(level, seen.object),
        };
        if seen.attr.kind == FileType::Directory {
            // The body is for nobody else; what is mounted is for whoever may enter it at all.
            seen.attr.perm |= 0o555;
            seen.attr.size = 4096;
            seen.attr.nlink = 2;
        }
        if !writes {
            seen.attr.perm &= 0o555;
        }
        seen
    }
}

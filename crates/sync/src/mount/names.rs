//! Folders and names of a mounted folder: looked up, listed, made, renamed, removed.

use super::inner::{Inner, Top, error};
use super::nodes::Seen;
use rustix::fs::{self, AtFlags, Dir, Mode, OFlags, RenameFlags};
use std::fs::File;
use std::io;
use yellow_attic_core::mounted::room::Thing;

/// One entry of a folder, as it was when the folder was opened.
pub(super) struct Entry {
    /// Its name.
    pub(super) name: Vec<u8>,
    /// What it is; none for the folder itself and the one above.
    pub(super) seen: Option<Seen>,
}

impl Inner {
    /// What stands in a folder under a name.
    pub(super) fn look_up(&self, folder: u64, name: &[u8]) -> io::Result<Seen> {
        if self.hides(folder, name) {
            return Err(error(libc::ENOENT));
        }
        let dir = self.nodes.folder(folder)?;
        let seen = self.nodes.look(&dir, name)?;
        self.nodes.tell(folder, name, &seen);
        let level = self.level(seen.attr.ino.0);
        Ok(self.shown(seen, level))
    }

    /// What a folder holds.
    pub(super) fn list(&self, folder: u64) -> io::Result<Vec<Entry>> {
        let dir = self.nodes.folder(folder)?;
        let place = self.place(folder)?;
        let mut entries =
            vec![Entry { name: b".".to_vec(), seen: None }, Entry { name: b"..".to_vec(), seen: None }];
        for entry in Dir::read_from(&*dir)? {
            let entry = entry?;
            let name = entry.file_name().to_bytes();
            if name == b"." || name == b".." || self.hides(folder, name) {
                continue;
            }
            match self.nodes.look(&dir, name) {
                Ok(seen) => {
                    let level = match &place {
                        Some(place) => Some(place.level_of(name)),
                        None => self.tops.read().get(&seen.object).map(Top::own_level),
                    };
                    let seen = self.shown(seen, level);
                    entries.push(Entry { name: name.to_vec(), seen: Some(seen) });
                }
                // Gone again, or nothing that is shown.
                Err(e) if e.kind() == io::ErrorKind::NotFound => {}
                Err(e) => return Err(e),
            }
        }
        Ok(entries)
    }

    /// Makes a folder.
    pub(super) fn make_folder(&self, parent: u64, name: &[u8], mode: u32) -> io::Result<Seen> {
        self.takes(&self.to_add(parent)?, name)?;
        let dir = self.nodes.folder(parent)?;
        fs::mkdirat(&*dir, name, Mode::from_raw_mode(mode & 0o777 | 0o700))?;
        self.at_hand.changed();
        self.look_up(parent, name)
    }

    /// Makes a file, and opens it.
    pub(super) fn make_file(
        &self,
        parent: u64,
        name: &[u8],
        mode: u32,
        flags: i32,
    ) -> io::Result<(Seen, u64)> {
        self.takes(&self.to_add(parent)?, name)?;
        let dir = self.nodes.folder(parent)?;
        let mut how = OFlags::RDWR | OFlags::CREATE | OFlags::CLOEXEC | OFlags::NOFOLLOW;
        if flags & libc::O_EXCL != 0 {
            how |= OFlags::EXCL;
        }
        let file = File::from(fs::openat(&*dir, name, how, Mode::from_raw_mode(mode & 0o777 | 0o600))?);
        self.at_hand.changed();
        let seen = self.nodes.look_at(&file)?;
        self.nodes.tell(parent, name, &seen);
        let ino = seen.attr.ino.0;
        let made = (|| {
            let handle = self.files.made(ino, file)?;
            if flags & libc::O_TRUNC != 0 {
                let open = self.files.get(handle)?;
                self.cut_to_nothing(&open.file)?;
            }
            Ok((self.see(ino)?, handle))
        })();
        if made.is_err() {
            self.nodes.forget(ino, 1);
        }
        made
    }

    /// Makes a file without opening it.
    pub(super) fn make_plain(&self, parent: u64, name: &[u8], mode: u32) -> io::Result<Seen> {
        if mode & libc::S_IFMT != libc::S_IFREG {
            return Err(error(libc::EPERM));
        }
        self.takes(&self.to_add(parent)?, name)?;
        let dir = self.nodes.folder(parent)?;
        let how = OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::CLOEXEC | OFlags::NOFOLLOW;
        fs::openat(&*dir, name, how, Mode::from_raw_mode(mode & 0o777 | 0o600))?;
        self.at_hand.changed();
        self.look_up(parent, name)
    }

    /// Removes a file.
    pub(super) fn remove(&self, parent: u64, name: &[u8]) -> io::Result<()> {
        if self.hides(parent, name) {
            return Err(error(libc::ENOENT));
        }
        let dir = self.nodes.folder(parent)?;
        let seen = self.nodes.look(&dir, name)?;
        self.to_edit_in(parent, name, seen.object)?;
        fs::unlinkat(&*dir, name, AtFlags::empty())?;
        self.at_hand.changed();
        self.gone(&seen);
        Ok(())
    }

    /// What lay here of something takes no room any more.
    fn gone(&self, seen: &Seen) {
        let mut room = self.at_hand.room();
        let thing = Thing::File(seen.object);
        room.owes(thing, false);
        room.holds(thing, 0);
        drop(room);
        let _ = self.at_hand.keep(seen.object, false);
    }

    /// Removes a folder.
    pub(super) fn remove_folder(&self, parent: u64, name: &[u8]) -> io::Result<()> {
        if self.hides(parent, name) {
            return Err(error(libc::ENOENT));
        }
        let dir = self.nodes.folder(parent)?;
        let seen = self.nodes.look(&dir, name)?;
        self.to_edit_in(parent, name, seen.object)?;
        fs::unlinkat(&*dir, name, AtFlags::REMOVEDIR)?;
        self.at_hand.changed();
        let _ = self.at_hand.keep(seen.object, false);
        Ok(())
    }

    /// Renames or moves.
    pub(super) fn rename(&self, from: (u64, &[u8]), to: (u64, &[u8]), flags: u32) -> io::Result<()> {
        if self.hides(from.0, from.1) {
            return Err(error(libc::ENOENT));
        }
        let (old, new) = (self.nodes.folder(from.0)?, self.nodes.folder(to.0)?);
        let moves = self.nodes.look(&old, from.1)?;
        let over = self.nodes.look(&new, to.1).ok();
        let (above, below) = (self.to_edit_in(from.0, from.1, moves.object)?, self.to_add(to.0)?);
        if let Some(over) = &over {
            self.to_edit_in(to.0, to.1, over.object)?;
        }
        if above.top.pair != below.top.pair {
            // As between two disks: programs copy, and remove after that.
            return Err(error(libc::EXDEV));
        }
        self.takes(&below, to.1)?;
        let flags = RenameFlags::from_bits(flags).filter(|f| !f.contains(RenameFlags::WHITEOUT));
        let flags = flags.ok_or_else(|| error(libc::EINVAL))?;
        fs::renameat_with(&*old, from.1, &*new, to.1, flags)?;
        self.at_hand.changed();
        self.nodes.moved(moves.attr.ino.0, to.0, to.1);
        match over {
            Some(over) if flags.contains(RenameFlags::EXCHANGE) => {
                self.nodes.moved(over.attr.ino.0, from.0, from.1);
            }
            Some(over) if over.object != moves.object => {
                // A program saves by this: what was kept stays kept.
                self.at_hand.follows(over.object, moves.object);
                self.gone(&over);
            }
            _ => {}
        }
        Ok(())
    }
}

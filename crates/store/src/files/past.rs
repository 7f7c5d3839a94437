//! The past on the disk: bytes under their hash, sealed.
//!
//! A program that holds a file open can write on into it after the file went to the past. The
//! seal is a time of modification that no program sets: who writes breaks it. Bytes whose seal
//! is broken are hashed again before anybody is given them.

use crate::fs::disk::{Disk, Look, content_name, hex, look_at_open, set_mtime};
use crate::fs::staging::{Staging, hash_file};
use crate::ops::found::Foreign;
use std::fs::File;
use std::io;
use std::os::fd::OwnedFd;

/// The seal: one millisecond after the beginning of 1970.
pub(crate) const SEAL_MS: i64 = 1;

/// Bytes that stand still: hashed, and nobody wrote to them meanwhile.
#[must_use]
pub(crate) struct Still {
    pub hash: [u8; 32],
    pub size: i64,
    /// How the file looked before.
    pub before: Look,
    /// A private copy in staging, if the file itself has other names or is still written to.
    copy: Option<String>,
    file: File,
}

/// What another program wrote, as it is before anything of it is touched.
pub(crate) struct Seen {
    pub hash: [u8; 32],
    pub size: i64,
    pub look: Look,
}

impl Seen {
    /// As a state that the catalogue does not know yet.
    pub fn foreign(&self, staging: &Staging) -> Foreign {
        Foreign {
            id: staging.next_id(),
            hash: self.hash,
            size: self.size,
            mtime: self.look.mtime,
            object: self.look.id,
        }
    }
}

/// Hashes a file without sealing it: its own time of modification is still to be recorded. Makes it durable, since the
/// timeline will speak of it. One that somebody writes to meanwhile counts as it was read: when it is sealed it is
/// hashed again, and what it is then is a state of its own.
pub(crate) fn see(disk: &Disk, from: &OwnedFd, name: &str) -> io::Result<Seen> {
    let (mut file, look) = disk.open_file(from, name)?;
    let (hash, size) = hash_file(&mut file)?;
    disk.sync(&file)?;
    Ok(Seen { hash, size: size as i64, look })
}

/// Hashes a file where it lies. None if it is not as it was seen, or does not stay so meanwhile.
pub(crate) fn hash_as_seen(disk: &Disk, dir: &OwnedFd, name: &str, seen: &Look) -> io::Result<Option<Seen>> {
    let (mut file, look) = disk.open_file(dir, name)?;
    if look != *seen {
        return Ok(None);
    }
    let (hash, size) = hash_file(&mut file)?;
    let still = look_at_open(&file)? == look && size as i64 == look.size;
    Ok(still.then_some(Seen { hash, size: size as i64, look }))
}

/// Seals and hashes a file that left its place, and makes it durable; copies it if it will not stand still.
pub(crate) fn hold_still(disk: &Disk, staging: &Staging, from: &OwnedFd, name: &str) -> io::Result<Still> {
    let still = look_still(disk, staging, from, name)?;
    still.sync(disk)?;
    Ok(still)
}

/// The same without a sync: see [`Still::sync`].
pub(crate) fn look_still(disk: &Disk, staging: &Staging, from: &OwnedFd, name: &str) -> io::Result<Still> {
    let (mut file, before) = disk.open_file(from, name)?;
    if before.names == 1 && set_mtime(&file, SEAL_MS).is_ok() {
        let (hash, size) = hash_file(&mut file)?;
        let after = look_at_open(&file)?;
        if after.mtime == SEAL_MS && after.size == size as i64 {
            return Ok(Still { hash, size: size as i64, before, copy: None, file });
        }
    }
    let (mut source, _) = disk.open_file(from, name)?;
    let copy = content_name(staging.next_id());
    let mut to = disk.make_staged(&copy)?;
    io::copy(&mut source, &mut to)?;
    io::Seek::rewind(&mut to)?;
    let (hash, size) = hash_file(&mut to)?;
    set_mtime(&to, SEAL_MS)?;
    disk.sync(&to)?;
    Ok(Still { hash, size: size as i64, before, copy: Some(copy), file: to })
}

impl Still {
    /// Makes the bytes durable. What was put by us was, before it was answered; what another program wrote is
    /// before the timeline speaks of it.
    pub fn sync(&self, disk: &Disk) -> io::Result<()> {
        disk.sync(&self.file)
    }

    /// Files the bytes under their hash, durably.
    pub fn file(self, disk: &Disk, staging: &Staging, from: &OwnedFd, name: &str) -> io::Result<()> {
        let text = hex(&self.hash);
        self.file_later(disk, staging, from, name)?;
        disk.sync(&disk.past_dir(&text)?)
    }

    /// Files the bytes under their hash. Equal bytes that are there already are hashed again
    /// before these are dropped. Durable once the caller has synced: until then they may be found where they were, which
    /// is looked at when the engine starts.
    pub fn file_later(self, disk: &Disk, staging: &Staging, from: &OwnedFd, name: &str) -> io::Result<()> {
        let text = hex(&self.hash);
        let dir = disk.past_dir(&text)?;
        let (source, source_name) = match &self.copy {
            Some(copy) => (&*disk.staging, copy.as_str()),
            None => (from, name),
        };
        match disk.rename(source, source_name, &dir, &text) {
            Ok(()) => {}
            Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {
                if open_sound(disk, &dir, &self.hash)?.is_some() {
                    disk.unlink(source, source_name, false)?;
                } else {
                    tracing::error!(hash = %text, "past bytes are damaged; sound ones take their place");
                    set_aside(disk, staging, &dir, &text)?;
                    disk.rename(source, source_name, &dir, &text)?;
                }
            }
            Err(e) => return Err(e),
        }
        if self.copy.is_some() {
            // Only one of the two may go.
            disk.sync(&dir)?;
            disk.unlink(from, name, false)?;
        }
        Ok(())
    }
}

/// Keeps damaged bytes beside their name, out of everybody's way.
pub(crate) fn set_aside(disk: &Disk, staging: &Staging, dir: &OwnedFd, text: &str) -> io::Result<()> {
    disk.rename(dir, text, dir, &format!("{text}.damaged-{}", staging.next_id()))
}

/// Puts sound bytes in the place of past ones that are damaged or missing; what is there is kept beside. False if the bytes that are given are
/// not sound.
pub(crate) fn heal_past(disk: &Disk, staging: &Staging, hash: &[u8; 32], mut from: File) -> io::Result<bool> {
    let (name, text) = (content_name(staging.next_id()), hex(hash));
    let mut to = disk.make_staged(&name)?;
    io::copy(&mut from, &mut to)?;
    io::Seek::rewind(&mut to)?;
    if hash_file(&mut to)?.0 != *hash {
        disk.drop_staged(&name, false)?;
        return Ok(false);
    }
    set_mtime(&to, SEAL_MS)?;
    disk.sync(&to)?;
    let _filing = disk.filing.lock();
    let dir = disk.past_dir(&text)?;
    match disk.rename(&dir, &text, &dir, &format!("{text}.damaged-{}", staging.next_id())) {
        Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(e),
        _ => {}
    }
    disk.rename(&*disk.staging, &name, &dir, &text)?;
    disk.sync(&dir)?;
    Ok(true)
}

/// Past bytes as they are found.
pub(crate) enum Past {
    Sound(File),
    /// Somebody wrote on in them.
    Damaged,
    Missing,
}

/// Opens past bytes; if their seal is broken, hashes them first. Blocks then.
pub(crate) fn open_past(disk: &Disk, hash: &[u8; 32], size: i64) -> io::Result<Past> {
    let text = hex(hash);
    let dir = match disk.open_dir(&disk.past, &text[..2]) {
        Ok(dir) => dir,
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(Past::Missing),
        Err(e) => return Err(e),
    };
    match disk.open_file(&dir, &text) {
        Ok((file, look)) if look.mtime == SEAL_MS && look.size == size => Ok(Past::Sound(file)),
        Ok(_) => Ok(open_sound(disk, &dir, hash)?.map_or(Past::Damaged, Past::Sound)),
        Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(Past::Missing),
        Err(e) => Err(e),
    }
}

/// Opens past bytes after hashing them, and seals them again; none if they are not what their
/// name says.
fn open_sound(disk: &Disk, dir: &OwnedFd, hash: &[u8; 32]) -> io::Result<Option<File>> {
    let (mut file, _) = disk.open_file(dir, &hex(hash))?;
    set_mtime(&file, SEAL_MS)?;
    let sound = hash_file(&mut file)?.0 == *hash && look_at_open(&file)?.mtime == SEAL_MS;
    if !sound {
        return Ok(None);
    }
    io::Seek::rewind(&mut file)?;
    Ok(Some(file))
}

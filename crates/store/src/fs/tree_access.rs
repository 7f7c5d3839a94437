//! Who on this machine reads the data folder: the catalogue, the past and what is staged nobody but the service; the
//! tree of shelves as it was decided, since people read it with other tools.
//!
//! What was decided shows in the mode of `shelves/` itself, so that it is carried over with the folder. Files and folders
//! get it when they are made, by their descriptors: a rename inherits neither a group nor a default list.

use crate::fs::error::{Result, StoreError};
use rustix::fs::{self, AtFlags, Gid, Mode};
use std::io;
use std::os::fd::AsFd;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;

/// Who reads the tree of shelves, beside the service.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TreeAccess {
    /// Nobody.
    Private,
    /// A group of the machine, by its number.
    Group(u32),
    /// Everybody who can sign in to the machine.
    Open,
}

impl TreeAccess {
    /// As the folder `shelves/` says it.
    pub fn of(shelves: &std::fs::Metadata) -> TreeAccess {
        match shelves.mode() & 0o7777 {
            mode if mode & 0o005 != 0 => TreeAccess::Open,
            mode if mode & 0o050 != 0 => TreeAccess::Group(shelves.gid()),
            _ => TreeAccess::Private,
        }
    }

    /// Reads `private`, `open` or `group:NAME`.
    pub fn read(text: &str) -> std::result::Result<TreeAccess, String> {
        match text.trim().split_once(':') {
            None if text.trim() == "private" => Ok(TreeAccess::Private),
            None if text.trim() == "open" => Ok(TreeAccess::Open),
            Some(("group", name)) => group_named(name.trim()).map(TreeAccess::Group),
            _ => Err("it is none of private, open and group:NAME".into()),
        }
    }

    /// How it is written.
    pub fn word(self) -> String {
        match self {
            TreeAccess::Private => "private".into(),
            TreeAccess::Group(id) => format!("group:{}", name_of(id).unwrap_or_else(|| id.to_string())),
            TreeAccess::Open => "open".into(),
        }
    }

    fn mode(self, folder: bool) -> Mode {
        Mode::from_raw_mode(match (self, folder) {
            (TreeAccess::Private, true) => 0o700,
            (TreeAccess::Private, false) => 0o600,
            (TreeAccess::Group(_), true) => 0o2750,
            (TreeAccess::Group(_), false) => 0o640,
            (TreeAccess::Open, true) => 0o755,
            (TreeAccess::Open, false) => 0o644,
        })
    }

    /// Gives it to a file that was just made for the service alone.
    pub(crate) fn give_file(self, file: impl AsFd) -> io::Result<()> {
        if let TreeAccess::Group(id) = self {
            fs::fchown(file.as_fd(), None, Some(Gid::from_raw(id)))?;
        }
        if self != TreeAccess::Private {
            fs::fchmod(file.as_fd(), self.mode(false))?;
        }
        Ok(())
    }

    /// The same for a folder.
    pub(crate) fn give_folder(self, above: impl AsFd, name: &str) -> io::Result<()> {
        if let TreeAccess::Group(id) = self {
            fs::chownat(above.as_fd(), name, None, Some(Gid::from_raw(id)), AtFlags::SYMLINK_NOFOLLOW)?;
        }
        if self != TreeAccess::Private {
            fs::chmodat(above.as_fd(), name, self.mode(true), AtFlags::empty())?;
        }
        Ok(())
    }

    /// Gives it to the whole tree, and to what of the past may come back into it. Links are left alone. Returns how many
    /// files and folders were changed.
    pub fn give_all(self, data: &Path) -> Result<u64> {
        let failed = |path: &Path, e: &io::Error| StoreError::io(format!("changing {}", path.display()), e);
        let mut changed = self.give_path(data, &data.join("shelves"), true)?;
        for top in ["shelves", "past"] {
            let mut folders = vec![data.join(top)];
            while let Some(folder) = folders.pop() {
                let entries = std::fs::read_dir(&folder).map_err(|e| failed(&folder, &e))?;
                for entry in entries {
                    let entry = entry.map_err(|e| failed(&folder, &e))?;
                    let kind = entry.file_type().map_err(|e| failed(&entry.path(), &e))?;
                    if kind.is_dir() {
                        folders.push(entry.path());
                    }
                    // Folders of the past stay the service's alone.
                    if kind.is_file() || kind.is_dir() && top == "shelves" {
                        changed += self.give_path(data, &entry.path(), kind.is_dir())?;
                    }
                }
            }
        }
        // Whoever reads the tree has to get to it.
        let mode = match self {
            TreeAccess::Private => 0o700,
            TreeAccess::Group(_) => 0o710,
            TreeAccess::Open => 0o711,
        };
        if let TreeAccess::Group(id) = self {
            std::os::unix::fs::chown(data, None, Some(id)).map_err(|e| failed(data, &e))?;
        }
        std::fs::set_permissions(data, PermissionsExt::from_mode(mode)).map_err(|e| failed(data, &e))?;
        Ok(changed)
    }

    fn give_path(self, data: &Path, path: &Path, folder: bool) -> Result<u64> {
        let failed = |e: &io::Error| StoreError::io(format!("changing {}", path.display()), e);
        let is = std::fs::symlink_metadata(path).map_err(|e| failed(&e))?;
        let readable = self.mode(folder).as_raw_mode();
        // A program stays one, for those who may read it.
        let runs = if !folder && is.mode() & 0o100 != 0 { (readable & 0o444) >> 2 } else { 0 };
        let mode = readable | runs;
        let group = match self {
            TreeAccess::Group(id) => id,
            _ => is.gid(),
        };
        if is.mode() & 0o7777 == mode && is.gid() == group {
            return Ok(0);
        }
        let owner = std::fs::metadata(data).map_err(|e| failed(&e))?.uid();
        if group != is.gid() {
            std::os::unix::fs::lchown(path, None, Some(group)).map_err(|e| {
                StoreError::BadInput(format!(
                    "{} cannot be given to the group: {e}. The owner of the data folder (number {owner}) must be a member of it; else do it as root.",
                    path.display()
                ))
            })?;
        }
        std::fs::set_permissions(path, PermissionsExt::from_mode(mode)).map_err(|e| failed(&e))?;
        Ok(1)
    }
}

/// Closes what is nobody's but the service's. What belongs to somebody else is left, and told.
pub(crate) fn close(data: &Path) {
    let me = rustix::process::geteuid().as_raw();
    let own = |name: &str, mode: u32| {
        let path = data.join(name);
        let Ok(is) = std::fs::symlink_metadata(&path) else { return };
        if is.uid() != me && me != 0 {
            let (owner, data) = (is.uid(), data.display());
            tracing::warn!(
                "{} belongs to user {owner}, and the service runs as {me}: give it the folder by chown -R {me} {data}",
                path.display()
            );
            return;
        }
        if is.mode() & 0o077 & !mode != 0
            && let Err(error) = std::fs::set_permissions(&path, PermissionsExt::from_mode(mode))
        {
            tracing::warn!(%error, "{} stays open to others", path.display());
        }
    };
    for folder in ["staging", "past"] {
        own(folder, 0o700);
    }
    for file in ["catalogue.db", "catalogue.db-wal", "catalogue.db-shm", "store", "commits"] {
        own(file, 0o600);
    }
}

/// The number of a group of the machine: from its list, else from wherever the machine asks for groups.
fn group_named(name: &str) -> std::result::Result<u32, String> {
    if let Ok(id) = name.parse() {
        return Ok(id);
    }
    let list = std::fs::read_to_string("/etc/group").unwrap_or_default();
    let asked = || {
        let asked = std::process::Command::new("getent").args(["group", "--", name]).output().ok()?;
        Some(String::from_utf8_lossy(&asked.stdout).into_owned())
    };
    let of = |list: &str| {
        list.lines().find_map(|line| {
            let mut parts = line.split(':');
            (parts.next() == Some(name)).then(|| parts.nth(1)?.parse().ok()).flatten()
        })
    };
    of(&list).or_else(|| of(&asked()?)).ok_or_else(|| format!("there is no group \"{name}\" on this machine"))
}

fn name_of(id: u32) -> Option<String> {
    let list = std::fs::read_to_string("/etc/group").ok()?;
    list.lines().find_map(|line| {
        let mut parts = line.split(':');
        let name = parts.next()?;
        (parts.nth(1)?.parse() == Ok(id)).then(|| name.to_string())
    })
}

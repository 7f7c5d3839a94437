//! What stands where something is to be placed, and what becomes of it.

use crate::files::filer::File;
use crate::files::placer::{Placer, Touched};
use crate::fs::disk::{Look, content_name, look};
use crate::fs::error::{Result, StoreError};
use crate::fs::pending_rename::{DiskLocation, Task};
use std::os::fd::OwnedFd;
use std::sync::Arc;

impl Placer {
    /// From here on a folder that came back is its new directory, for all later marks.
    pub(crate) fn note_arrival(&self, task: &Task, to: &OwnedFd, to_name: &str) {
        if task.folder
            && matches!(task.from, DiskLocation::Staging(_))
            && let Ok(dir) = self.disk.open_dir(to, to_name)
        {
            self.dirs.arrived(task.node, dir);
        }
    }

    /// A program's mode says that it is one, if it still is one: looked at once more afterwards, because somebody may
    /// say otherwise meanwhile.
    pub(crate) fn mark_program(&self, task: &Task, to: &OwnedFd, to_name: &str) {
        if !task.executable {
            return;
        }
        let marked = || -> Result<()> {
            let say = |e: &std::io::Error| StoreError::io("setting its mode", e);
            let (file, look) = self.disk.open_file(to, to_name).map_err(|e| say(&e))?;
            let is_program = || -> Result<bool> {
                Ok(self.handle.block_on(self.view.row(task.node))?.is_none_or(|row| row.executable))
            };
            let mut runs = task.means(look.id) && is_program()?;
            while runs {
                crate::fs::disk::mark_executable(&file, true).map_err(|e| say(&e))?;
                runs = is_program()?;
                if runs {
                    return Ok(());
                }
                crate::fs::disk::mark_executable(&file, false).map_err(|e| say(&e))?;
                runs = is_program()?;
            }
            Ok(())
        };
        if let Err(error) = marked() {
            tracing::warn!(%error, "the mode of \"{to_name}\" could not be set on the disk");
        }
    }

    /// The catalogue knows how things are in the end. Where a later mark moves the directory that a folder was then, that is
    /// the one which an earlier mark means, though the folder is another one by now.
    pub(crate) fn find_as_it_was(&self, place: &DiskLocation, later: &[Task]) -> Result<()> {
        let DiskLocation::In(node, _) = place else { return Ok(()) };
        if self.dirs.is_placed(*node) {
            return Ok(());
        }
        let moves = |t: &&Task| t.folder && t.node == *node;
        let next = later.iter().find(moves).cloned();
        let next = next.or_else(|| self.placing.0.state.lock().queue.iter().find(moves).cloned());
        let Some(next) = next else { return Ok(()) };
        let now = self.handle.block_on(self.view.folder(*node))?;
        if matches!(next.from, DiskLocation::Staging(_))
            || now.is_some_and(|folder| folder.object == next.object)
        {
            return Ok(());
        }
        for place in [&next.from, &next.to] {
            let Some(above) = self.dir(place)? else { continue };
            let Ok(dir) = self.disk.open_dir(&*above, &place.name()) else { continue };
            if crate::fs::disk::look_at_open(&dir).is_ok_and(|l| l.id == next.object) {
                self.dirs.arrived(*node, dir);
                return Ok(());
            }
        }
        Ok(())
    }

    /// A folder that was laid there by hand takes the place of the new, empty one.
    pub(crate) fn adopt(
        &self,
        task: &Task,
        to: &Arc<OwnedFd>,
        to_name: &str,
        found: Look,
        touched: &mut Touched,
        to_file: &mut Vec<File>,
    ) -> Result<()> {
        let say = |e: &std::io::Error| {
            StoreError::io(format!("taking the folder \"{to_name}\" for the new one"), e)
        };
        let dir = self.disk.open_dir(&**to, to_name).map_err(|e| say(&e))?;
        match self.disk.drop_staged(&task.from.name(), true) {
            Err(e) if e.kind() != std::io::ErrorKind::NotFound => return Err(say(&e)),
            _ => {}
        }
        self.dirs.learn(task.node, dir, task.object);
        to_file.push(File::Adopted {
            node: task.node,
            name: to_name.into(),
            object: found.id,
            remade: false,
        });
        touched.add(to);
        Ok(())
    }

    /// The folder into which something goes, where the catalogue says that it lies; made anew there if it is
    /// nowhere. None: it was removed, and is nowhere.
    pub(crate) fn target(&self, loc: &DiskLocation, to_file: &mut Vec<File>) -> Result<Option<Arc<OwnedFd>>> {
        let DiskLocation::In(node, _) = loc else { return self.dir(loc) };
        let Some((dir, made)) = self.handle.block_on(self.dirs.target(*node))? else { return Ok(None) };
        to_file.extend(made.into_iter().map(|made| {
            tracing::warn!(folder = made.name, "a folder was not where it belongs, and was made anew");
            File::Adopted { node: made.node, name: made.name, object: made.object, remade: true }
        }));
        Ok(Some(dir))
    }

    /// Its folder was removed and is nowhere: bytes go to the past, where the folder's other files are looked for.
    pub(crate) fn without_a_place(
        &self,
        task: &Task,
        touched: &mut Touched,
        to_file: &mut Vec<File>,
    ) -> Result<()> {
        let DiskLocation::Staging(id) = &task.from else { return self.nowhere(task, to_file) };
        let name = task.from.name();
        if !task.folder {
            match self.disk.rename(&*self.disk.staging, &name, &*self.disk.incoming, &name) {
                Ok(()) => touched.add(&self.disk.incoming),
                Err(e) if e.kind() == std::io::ErrorKind::NotFound => {}
                Err(e) => return Err(StoreError::io(format!("keeping \"{}\"", task.to.name()), &e)),
            }
            self.settle_expected(task, to_file);
            to_file.push(File::Content(*id, task.node));
            return Ok(());
        }
        self.nowhere(task, to_file)
    }

    /// Whether a file has the bytes of the state that is meant, though it is another object.
    pub(crate) fn is_a_copy(&self, task: &Task, dir: &OwnedFd, name: &str) -> Result<bool> {
        let say = |e: &std::io::Error| StoreError::io(format!("looking at \"{name}\""), e);
        if task.folder {
            // A new folder is empty: one is like the other.
            return Ok(matches!(task.from, DiskLocation::Staging(_)));
        }
        let content = match (&task.from, &task.to) {
            (DiskLocation::Staging(id), _) | (_, DiskLocation::Incoming(id)) => {
                self.handle.block_on(self.view.content(*id))?
            }
            _ => self.handle.block_on(self.view.row(task.node))?.and_then(|row| row.content),
        };
        let Some(content) = content.filter(|c| c.object == task.object) else { return Ok(false) };
        let (mut file, look) = self.disk.open_file(dir, name).map_err(|e| say(&e))?;
        if look.size != content.size {
            return Ok(false);
        }
        Ok(crate::fs::staging::hash_file(&mut file).map_err(|e| say(&e))?.0 == content.hash)
    }

    /// Whether a later rename of the same object was carried out before the crash.
    pub(crate) fn went_on(&self, task: &Task, later: &[Task]) -> Result<bool> {
        for next in later.iter().filter(|t| t.object == task.object) {
            let Some(dir) = self.dir(&next.to)? else { continue };
            let found =
                look(&*dir, &next.to.name()).map_err(|e| StoreError::io("looking for an object", &e))?;
            if found.is_some_and(|l| l.id == task.object) {
                return Ok(true);
            }
        }
        Ok(false)
    }

    pub(crate) fn move_aside(
        &self,
        task: &Task,
        to: &OwnedFd,
        to_name: &str,
        occupant: Look,
        to_file: &mut Vec<File>,
    ) -> Result<()> {
        let expected = task.expect.filter(|(_, object)| *object == occupant.id);
        let (aside, file) = match expected {
            Some((content, _)) => (content_name(content), File::Content(content, task.node)),
            None => {
                let instead_of = task.expect.map(|(content, _)| content);
                let name = crate::files::filer::stranger_name(task.mark, task.node, instead_of);
                (name.clone(), File::Stranger { name, node: task.node, instead_of })
            }
        };
        match self.disk.rename(to, to_name, &self.disk.incoming, &aside) {
            Ok(()) => {
                to_file.push(file);
                Ok(())
            }
            // Gone again meanwhile: nothing stands in the way.
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(()),
            // It was brought there before a power cut, and the file system has given it both names since (btrfs does).
            Err(e)
                if e.kind() == std::io::ErrorKind::AlreadyExists
                    && look(&*self.disk.incoming, &aside)
                        .is_ok_and(|l| l.is_some_and(|l| l.id == occupant.id)) =>
            {
                let say = |e: &std::io::Error| StoreError::io(format!("moving \"{to_name}\" aside"), e);
                self.disk.sync(&*self.disk.incoming).map_err(|e| say(&e))?;
                self.disk.unlink(to, to_name, false).map_err(|e| say(&e))?;
                to_file.push(file);
                Ok(())
            }
            Err(e) => Err(StoreError::io(format!("moving \"{to_name}\" aside"), &e)),
        }
    }

    /// The state that was to be replaced did not stand there: see whether it is in the past.
    pub(crate) fn settle_expected(&self, task: &Task, to_file: &mut Vec<File>) {
        if let Some((content, _)) = task.expect {
            to_file.push(File::Content(content, task.node));
        }
    }

    /// The object is nowhere. Reported; only what depends on it is missing.
    pub(crate) fn nowhere(&self, task: &Task, to_file: &mut Vec<File>) -> Result<()> {
        tracing::warn!(node = task.node.0, target = %task.to.name(), "an object is not on the disk where it belongs");
        self.settle_expected(task, to_file);
        to_file.push(File::Nowhere { node: task.node, name: task.to.name() });
        if let DiskLocation::Incoming(id) = &task.to {
            to_file.push(File::Content(*id, task.node));
        }
        Ok(())
    }
}

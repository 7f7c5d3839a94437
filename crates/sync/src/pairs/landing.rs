//! What arrives in the folder of a pair, on its way to its place: whole and on the disk before it has its name.

use super::ground::{BENEATH, Done, Ground, NotDone, Stands, Way, is_written, look, look_at, time_of};
use super::stubs::{THERE, set_stub};
use super::taken::Taken;
use rustix::fs::{self, AtFlags, Mode, OFlags, RenameFlags};
use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::fs::File;
use std::io::{self, Write};
use std::os::fd::OwnedFd;
use std::sync::atomic::Ordering;
use yellow_attic_core::merge::{Object, Stat};
use yellow_attic_core::mounted::stub::Stub;

/// Syncs of the whole file system that serve all who wait for one.
#[derive(Default)]
pub(super) struct Group {
    /// How many have begun, how many are over, and whether one is under way.
    state: parking_lot::Mutex<(u64, u64, bool)>,
    over: parking_lot::Condvar,
}

/// So few sync their own files: the whole file system may hold what others write.
const FEW: usize = 3;

/// A small file on its way to its place.
pub struct Landing {
    /// The folder.
    pub above: Way,
    /// Its name.
    pub name: Vec<u8>,
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// Or what it stands for, if they stay on the service.
    pub stub: Option<Stub>,
    /// Its own time, in milliseconds.
    pub modified_ms: i64,
    /// Whether it is a program.
    pub executable: bool,
}

impl Ground {
    /// A file of our own in which something arrives: gone on with if it is there.
    pub fn arriving(&self, name: &str) -> io::Result<File> {
        let flags = OFlags::RDWR | OFlags::CREATE | OFlags::CLOEXEC | OFlags::NOFOLLOW;
        Ok(File::from(fs::openat2(&self.own, name, flags, Mode::from_raw_mode(0o666), BENEATH)?))
    }

    /// Forgets it.
    pub fn drop_arriving(&self, name: &str) {
        let _ = fs::unlinkat(&self.own, name, AtFlags::empty());
    }

    /// Brings many small files to their places, where nothing may stand. They are on the disk before they have their names:
    /// one sync serves all of them.
    pub fn land_many(&self, files: Vec<Landing>) -> Vec<Done<Stands>> {
        let mut dirs: HashMap<Way, OwnedFd> = HashMap::new();
        let mut written = Vec::with_capacity(files.len());
        {
            // One at a time: side by side they wait for the same folder, and for the file system's lists.
            let _one = self.writing.lock();
            for file in &files {
                let name = format!("new-{:x}", self.fresh.fetch_add(1, Ordering::Relaxed));
                written.push(self.write_new(&name, file).map(|()| name));
            }
        }
        let synced = self.sync_with_others();
        let _one = self.writing.lock();
        let mut landed = Vec::with_capacity(files.len());
        for (file, name) in files.into_iter().zip(written) {
            landed.push(name.and_then(|name| {
                if let Err(e) = &synced {
                    self.drop_arriving(&name);
                    return Err(io::Error::new(e.kind(), e.to_string()).into());
                }
                let placed = self.place(&name, &file, &mut dirs);
                if placed.is_err() {
                    self.drop_arriving(&name);
                }
                placed
            }));
        }
        landed
    }

    fn write_new(&self, name: &str, file: &Landing) -> Done<()> {
        let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::TRUNC | OFlags::CLOEXEC | OFlags::NOFOLLOW;
        let runs = if file.executable { 0o111 } else { 0 };
        let made = fs::openat2(&self.own, name, flags, Mode::from_raw_mode(0o666 | runs), BENEATH)?;
        let mut made = File::from(made);
        let filled = match &file.stub {
            Some(stub) => set_stub(&made, stub).and_then(|()| made.set_len(stub.size)),
            None => made.write_all(&file.bytes),
        };
        let done = filled.and_then(|()| made.set_modified(time_of(file.modified_ms)));
        if let Err(e) = done {
            self.drop_arriving(name);
            return Err(e.into());
        }
        Ok(())
    }

    fn place(&self, name: &str, file: &Landing, dirs: &mut HashMap<Way, OwnedFd>) -> Done<Stands> {
        let dir = match dirs.entry(file.above.clone()) {
            Entry::Occupied(there) => there.into_mut(),
            Entry::Vacant(free) => free.insert(self.folder(&file.above)?),
        };
        fs::renameat_with(&self.own, name, &*dir, &file.name, RenameFlags::NOREPLACE)?;
        self.did(dir, &file.name);
        look(dir, &file.name)?.ok_or(NotDone::Otherwise)
    }

    /// Brings what has arrived to its place: over the file that was seen there, or where nothing stands. It is on the disk
    /// for certain after [`Ground::sync`].
    pub fn land(
        &self,
        arrived: &str,
        above: &[Vec<u8>],
        name: &[u8],
        over: Option<(Object, Stat)>,
        (modified_ms, executable): (i64, bool),
    ) -> Done<Stands> {
        let dir = self.folder(above)?;
        let file = self.arriving(arrived)?;
        let mut mode = fs::fstat(&file)?.st_mode & 0o7777;
        if let Some(seen) = over {
            let old = self.open_file(&dir, name, seen, false)?;
            if is_written(&old) {
                return Err(NotDone::Busy);
            }
            // What others may do with it stays, and what other programs keep with it.
            mode = fs::fstat(&old)?.st_mode & 0o7777;
            carry_over(&old, &file);
        }
        let runs = if executable { (mode & 0o444) >> 2 } else { 0 };
        fs::fchmod(&file, Mode::from_raw_mode(mode & !0o111 | runs))?;
        file.set_modified(time_of(modified_ms))?;
        // Before it has its name: after a power cut there is no file of that name with other bytes.
        let others = self.landing.fetch_add(1, Ordering::SeqCst);
        let synced = if others < FEW { file.sync_data() } else { self.sync_with_others() };
        self.landing.fetch_sub(1, Ordering::SeqCst);
        synced?;
        match over {
            None => fs::renameat_with(&self.own, arrived, &dir, name, RenameFlags::NOREPLACE)?,
            Some(seen) => {
                // By this name a stop in between finds what came out, and puts it back.
                let taken = Taken::of(seen, look_at(&file)?.0.inode).name();
                fs::renameat_with(&self.own, arrived, &self.own, &taken, RenameFlags::NOREPLACE)?;
                let exchanged = fs::renameat_with(&self.own, &taken, &dir, name, RenameFlags::EXCHANGE);
                if let Err(e) = exchanged {
                    fs::renameat_with(&self.own, &taken, &self.own, arrived, RenameFlags::NOREPLACE)?;
                    return Err(e.into());
                }
                // What came out is judged now that nobody finds it by its name any more.
                let out = look(&self.own, taken.as_bytes())?;
                let same = out.is_some_and(|(object, stat)| {
                    object == seen.0
                        && stat.is_some_and(|s| (s.size, s.modified) == (seen.1.size, seen.1.modified))
                });
                if !same {
                    fs::renameat_with(&self.own, &taken, &dir, name, RenameFlags::EXCHANGE)?;
                    fs::renameat_with(&self.own, &taken, &self.own, arrived, RenameFlags::NOREPLACE)?;
                    return Err(NotDone::Otherwise);
                }
                fs::unlinkat(&self.own, &taken, AtFlags::empty())?;
            }
        }
        self.did(&dir, name);
        look(&dir, name)?.ok_or(NotDone::Otherwise)
    }

    /// Makes durable what was written before, by one sync for all who wait.
    fn sync_with_others(&self) -> io::Result<()> {
        let mut state = self.group.state.lock();
        // One that has begun already may have passed these bytes.
        let mine = state.0 + 1;
        while state.1 < mine {
            if state.2 {
                self.group.over.wait(&mut state);
                continue;
            }
            *state = (state.0 + 1, state.1, true);
            drop(state);
            let synced = self.sync();
            state = self.group.state.lock();
            state.2 = false;
            if synced.is_ok() {
                state.1 = state.0;
            }
            self.group.over.notify_all();
            synced?;
        }
        Ok(())
    }
}

/// Copies what other programs keep with a file: extended attributes, and with them its access list.
fn carry_over(from: &File, to: &File) {
    let mut names = vec![0_u8; 64 * 1024];
    let Ok(length) = fs::flistxattr(from, names.as_mut_slice()) else { return };
    for name in names[..length].split(|b| *b == 0).filter(|name| !name.is_empty()) {
        // Which state its bytes are of is its own.
        let Ok(name) = std::ffi::CString::new(name) else { continue };
        if name.as_bytes() == THERE.as_bytes() {
            continue;
        }
        let mut value = vec![0_u8; 64 * 1024];
        if let Ok(length) = fs::fgetxattr(from, &name, value.as_mut_slice()) {
            let _ = fs::fsetxattr(to, &name, &value[..length], fs::XattrFlags::empty());
        }
    }
}

//! Files that programs have open. Of a file whose bytes are only on the service, blocks are read as they are asked for;
//! before anything is written to it, all of it is brought here.

use super::blocks::Blocks;
use super::content::Content;
use super::nodes::{Nodes, stale};
use crate::pairs::at_hand::{AtHand, what_is};
use crate::pairs::stubs::{set_whole, stub_of};
use parking_lot::{Mutex, RwLock};
use std::collections::HashMap;
use std::fs::File;
use std::io;
use std::os::fd::AsRawFd;
use std::os::unix::fs::{FileExt, MetadataExt};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};
use yellow_attic_core::merge::Object;
use yellow_attic_core::mounted::ahead::{BLOCK, Reader};
use yellow_attic_core::mounted::room::{Answer, Thing};
use yellow_attic_core::mounted::stub::Stub;

/// A file that stays open for writing is handed to the service after it was still for so long.
const STILL: Duration = Duration::from_secs(8);
/// So long a writer waits for room, if none comes.
const PATIENCE: Duration = Duration::from_secs(30);
/// There is no room if there was none for so long.
const SURE: Duration = Duration::from_secs(1);

/// Where the bytes of an open file are.
enum Where {
    /// Here: for reading, and for writing while somebody writes.
    Here(Arc<File>, Option<Arc<File>>),
    /// On the service.
    There(Stub, Arc<Content>),
}

/// One file, open, however many programs have it.
pub(super) struct Opened {
    pub(super) object: Object,
    pub(super) ino: u64,
    bytes: RwLock<Where>,
    /// One at a time brings it here.
    turn: tokio::sync::Mutex<()>,
    /// How many have it open for writing.
    writers: Mutex<u32>,
    wrote: Mutex<Option<Instant>>,
    /// Up to where the room knows of its bytes.
    end: AtomicU64,
    /// Bytes written since they were counted.
    uncounted: AtomicU64,
    /// Whether something was written since it was told to be owed.
    unsaid: AtomicBool,
}

/// A file as one program has it open.
pub(super) struct Handle {
    pub(super) file: Arc<Opened>,
    pub(super) writes: bool,
    pub(super) reader: Mutex<Reader>,
    /// It was written to through this.
    pub(super) dirty: AtomicBool,
}

/// All open files.
pub(super) struct Files {
    nodes: Arc<Nodes>,
    blocks: Arc<Blocks>,
    at_hand: Arc<AtHand>,
    opened: Mutex<HashMap<u64, (Arc<Opened>, u32)>>,
    handles: Mutex<HashMap<u64, Arc<Handle>>>,
    next: AtomicU64,
}

impl Opened {
    fn new(object: Object, ino: u64, how: Where) -> Opened {
        let end = match &how {
            Where::Here(file, _) => file.metadata().map_or(0, |facts| facts.len()),
            Where::There(..) => 0,
        };
        Opened {
            object,
            ino,
            bytes: RwLock::new(how),
            turn: tokio::sync::Mutex::new(()),
            writers: Mutex::new(0),
            wrote: Mutex::default(),
            end: AtomicU64::new(end),
            uncounted: AtomicU64::new(0),
            unsaid: AtomicBool::new(false),
        }
    }

    /// Bytes that are here; none if they have to be fetched.
    pub(super) fn read_here(&self, at: u64, length: usize) -> io::Result<Option<Vec<u8>>> {
        match &*self.bytes.read() {
            Where::Here(file, _) => {
                let mut bytes = vec![0; length];
                let mut got = 0;
                while got < length {
                    match file.read_at(&mut bytes[got..], at + got as u64) {
                        Ok(0) => break,
                        Ok(n) => got += n,
                        Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
                        Err(e) => return Err(e),
                    }
                }
                bytes.truncate(got);
                Ok(Some(bytes))
            }
            Where::There(_, content) if at >= content.size => Ok(Some(Vec::new())),
            Where::There(_, content) => Ok(content.read_here(at..at.saturating_add(length as u64))),
        }
    }

    /// What it stands for, if its bytes are on the service.
    pub(super) fn there(&self) -> Option<(Stub, Arc<Content>)> {
        match &*self.bytes.read() {
            Where::There(stub, content) => Some((*stub, content.clone())),
            Where::Here(..) => None,
        }
    }

    /// The file here, for reading: its stat is what programs see.
    pub(super) fn here(&self) -> Option<Arc<File>> {
        match &*self.bytes.read() {
            Where::Here(file, _) => Some(file.clone()),
            Where::There(..) => None,
        }
    }

    /// The file here, for writing; none if its bytes have to be brought here first.
    pub(super) fn to_write(&self) -> io::Result<Option<Arc<File>>> {
        let mut bytes = self.bytes.write();
        let Where::Here(read, write) = &mut *bytes else { return Ok(None) };
        if let Some(file) = write {
            return Ok(Some(file.clone()));
        }
        let file = Arc::new(File::options().read(true).write(true).open(fd_path(read))?);
        *write = Some(file.clone());
        Ok(Some(file))
    }

    /// Whether some program has it open for writing.
    pub(super) fn is_written(&self) -> bool {
        *self.writers.lock() > 0
    }

    /// Nobody is taken to write to it until somebody does again.
    pub(super) fn rests(&self) {
        if let Where::Here(_, write) = &mut *self.bytes.write() {
            *write = None;
        }
    }

    /// It ends here now: what lay behind takes no room any more.
    pub(super) fn ends(&self, at: u64) {
        self.end.store(at, Ordering::Relaxed);
    }

    /// Somebody has written to it.
    pub(super) fn wrote(&self, at_hand: &AtHand, bytes: u64) {
        *self.wrote.lock() = Some(Instant::now());
        at_hand.changed();
        self.unsaid.store(true, Ordering::Relaxed);
        let more = self.uncounted.fetch_add(bytes, Ordering::Relaxed) + bytes;
        let thing = Thing::File(self.object);
        if more >= 1 << 20 || at_hand.room().of(thing) == 0 {
            self.counts(at_hand);
        }
    }

    /// Tells the room how much of it lies here.
    pub(super) fn counts(&self, at_hand: &AtHand) {
        self.uncounted.store(0, Ordering::Relaxed);
        if let Some(file) = self.here()
            && let Ok((_, bytes, size)) = what_is(&*file)
        {
            let mut room = at_hand.room();
            let thing = Thing::File(self.object);
            // What has no name any more goes when it is closed.
            if has_no_name(&file) {
                room.owes(thing, false);
                room.holds(thing, 0);
                return;
            }
            // What was written just now has no place on the disk yet, and what is being written will have.
            room.holds(thing, bytes.max(size).max(self.end.load(Ordering::Relaxed)));
            if self.unsaid.swap(false, Ordering::Relaxed) {
                room.owes(thing, true);
            }
        }
    }
}

impl Files {
    pub(super) fn new(nodes: Arc<Nodes>, blocks: Arc<Blocks>, at_hand: Arc<AtHand>) -> Files {
        Files {
            nodes,
            blocks,
            at_hand,
            opened: Mutex::default(),
            handles: Mutex::default(),
            next: AtomicU64::new(1),
        }
    }

    fn how(&self, file: File) -> io::Result<Where> {
        match stub_of(&file) {
            Some(stub) => Ok(Where::There(stub, self.blocks.content(&stub)?)),
            None => Ok(Where::Here(Arc::new(file), None)),
        }
    }

    /// Opens a file that the system knows.
    pub(super) fn open(&self, ino: u64, writes: bool) -> io::Result<u64> {
        // Nothing is released meanwhile.
        let _gate = self.at_hand.gate.read();
        let opened = self.hold(ino, None)?;
        Ok(self.handle(opened, writes))
    }

    /// Opens a file of the past, which stands for a state of the service.
    pub(super) fn open_past(&self, ino: u64, stub: Stub) -> io::Result<u64> {
        let mut opened = self.opened.lock();
        let file = match opened.get_mut(&ino) {
            Some((file, times)) => {
                *times += 1;
                file.clone()
            }
            None => {
                let content = self.blocks.content(&stub)?;
                self.blocks.opened(&content);
                let object = Object { device: 0, inode: ino, born: 0 };
                let file = Arc::new(Opened::new(object, ino, Where::There(stub, content)));
                opened.insert(ino, (file.clone(), 1));
                file
            }
        };
        drop(opened);
        Ok(self.handle(file, false))
    }

    /// The same of a file that was made just now.
    pub(super) fn made(&self, ino: u64, file: File) -> io::Result<u64> {
        let _gate = self.at_hand.gate.read();
        let opened = self.hold(ino, Some(file))?;
        Ok(self.handle(opened, true))
    }

    fn handle(&self, file: Arc<Opened>, writes: bool) -> u64 {
        if writes {
            *file.writers.lock() += 1;
        }
        let number = self.next.fetch_add(1, Ordering::Relaxed);
        let handle = Handle { file, writes, reader: Mutex::default(), dirty: AtomicBool::new(false) };
        self.handles.lock().insert(number, Arc::new(handle));
        number
    }

    fn hold(&self, ino: u64, made: Option<File>) -> io::Result<Arc<Opened>> {
        let mut opened = self.opened.lock();
        if let Some((file, times)) = opened.get_mut(&ino) {
            *times += 1;
            return Ok(file.clone());
        }
        let object = self.nodes.object(ino)?;
        let how = match made {
            // For writing only as long as somebody writes: a pair that wants to read it is told of that.
            Some(file) => Where::Here(Arc::new(File::open(fd_path(&file))?), Some(Arc::new(file))),
            None => self.how(self.nodes.open(ino, false)?)?,
        };
        if let Where::There(_, content) = &how {
            self.blocks.opened(content);
        }
        self.at_hand.room().opened(Thing::File(object));
        let file = Arc::new(Opened::new(object, ino, how));
        opened.insert(ino, (file.clone(), 1));
        Ok(file)
    }

    /// Lets go of what [`Files::hold`] gave.
    pub(super) fn let_go(&self, file: &Arc<Opened>) {
        let mut opened = self.opened.lock();
        let Some((_, times)) = opened.get_mut(&file.ino) else { return };
        *times -= 1;
        if *times > 0 {
            return;
        }
        opened.remove(&file.ino);
        if let Some((_, content)) = file.there() {
            self.blocks.closed(&content);
        }
        self.at_hand.room().closed(Thing::File(file.object));
    }

    /// The file that a handle is of.
    pub(super) fn get(&self, handle: u64) -> io::Result<Arc<Handle>> {
        self.handles.lock().get(&handle).cloned().ok_or_else(stale)
    }

    /// A file that some program has open.
    pub(super) fn is_open(&self, ino: u64) -> Option<Arc<Opened>> {
        self.opened.lock().get(&ino).map(|(file, _)| file.clone())
    }

    /// A program has closed it.
    pub(super) fn close(&self, handle: u64) {
        let Some(handle) = self.handles.lock().remove(&handle) else { return };
        if handle.writes {
            let mut writers = handle.file.writers.lock();
            *writers -= 1;
            if *writers == 0 {
                if let Some(size) = handle.file.here().and_then(|file| Some(file.metadata().ok()?.len())) {
                    handle.file.ends(size);
                }
                if handle.file.wrote.lock().is_some() {
                    handle.file.counts(&self.at_hand);
                }
                handle.file.rests();
            }
        }
        self.let_go(&handle.file);
    }

    /// What was open for writing for a while, and is still, is handed to the service as it is; whoever goes on writing to it
    /// opens it again.
    pub(super) fn hand_over_what_is_still(&self) {
        let open: Vec<Arc<Opened>> = self.opened.lock().values().map(|(file, _)| file.clone()).collect();
        for file in open {
            let mut wrote = file.wrote.lock();
            if wrote.is_some_and(|at| at.elapsed() > STILL) && !self.has_journal(file.ino) {
                *wrote = None;
                drop(wrote);
                file.counts(&self.at_hand);
                file.rests();
                // Its folder hears of it, as when it is closed.
                if let Some(here) = file.here() {
                    let _ = here.metadata().and_then(|m| here.set_modified(m.modified()?));
                }
            }
        }
    }

    /// Whether a database is in the middle of a change: the journal beside it says so.
    fn has_journal(&self, ino: u64) -> bool {
        let Ok(way) = self.nodes.way(ino) else { return false };
        let Some(((_, name), above)) = way.split_last() else { return false };
        let folder = above.last().map_or(1, |(ino, _)| *ino);
        let journal = [name.as_slice(), b"-journal"].concat();
        self.nodes
            .folder(folder)
            .is_ok_and(|dir| self.nodes.look(&dir, &journal).is_ok_and(|seen| seen.attr.size > 0))
    }

    /// Brings all of a file here, so that it can be written to, or is kept. Whether it had to be brought.
    pub(super) async fn bring(&self, file: &Arc<Opened>) -> Result<bool, i32> {
        let _turn = file.turn.lock().await;
        let Some((stub, content)) = file.there() else { return Ok(false) };
        // All of it takes room from now on, however far this comes.
        self.room_for(file, stub.size).await?;
        let brought = self.bring_all(file, &stub, &content).await;
        if brought.is_err() {
            file.ends(0);
            self.at_hand.room().holds(Thing::File(file.object), 0);
        }
        brought
    }

    async fn bring_all(&self, file: &Arc<Opened>, stub: &Stub, content: &Arc<Content>) -> Result<bool, i32> {
        let target = Arc::new(self.nodes.open(file.ino, true).map_err(|e| errno(&e))?);
        let mut hasher = blake3::Hasher::new();
        let step = 8 * BLOCK;
        let mut at = 0;
        while at < stub.size {
            let end = (at + step).min(stub.size);
            // The next ones are on their way while these are written.
            self.blocks.ask(content, stub, end / BLOCK..(end + 4 * step).div_ceil(BLOCK));
            let bytes = loop {
                self.blocks.bring(content, stub, at..end).await?;
                // They may be gone again, where room is short.
                if let Some(bytes) = content.read_here(at..end) {
                    break bytes;
                }
            };
            hasher.update(&bytes);
            let target = target.clone();
            let wrote = tokio::task::spawn_blocking(move || target.write_all_at(&bytes, at)).await;
            wrote.map_err(|_| libc::EIO)?.map_err(|e| errno(&e))?;
            at = end;
        }
        if *hasher.finalize().as_bytes() != stub.hash {
            self.blocks.closed(content);
            self.blocks.drop_content(stub.hash);
            self.blocks.opened(content);
            return Err(libc::EIO);
        }
        let done = {
            let target = target.clone();
            tokio::task::spawn_blocking(move || {
                // On the disk before it counts.
                target.sync_data()?;
                set_whole(&*target)?;
                target.sync_all()
            })
        };
        done.await.map_err(|_| libc::EIO)?.map_err(|e| errno(&e))?;
        self.is_here(file, target, content);
        Ok(true)
    }

    /// Makes it one without bytes, which is here.
    pub(super) fn cut(&self, file: &Arc<Opened>) -> io::Result<()> {
        let Some((_, content)) = file.there() else { return Ok(()) };
        let target = self.nodes.open(file.ino, true)?;
        target.set_len(0)?;
        set_whole(&target)?;
        self.is_here(file, Arc::new(target), &content);
        Ok(())
    }

    fn is_here(&self, file: &Arc<Opened>, target: Arc<File>, content: &Arc<Content>) {
        let read = File::open(fd_path(&target)).map_or(target, Arc::new);
        *file.bytes.write() = Where::Here(read, None);
        self.blocks.closed(content);
    }

    /// Takes room for a file that is to reach to an end. What it has already counts.
    fn takes(&self, file: &Opened, end: u64, leaving: bool) -> Answer {
        let free = self.blocks.free();
        let mut room = self.at_hand.room();
        let more = end.saturating_sub(file.end.load(Ordering::Relaxed));
        if more == 0 {
            return Answer::Go;
        }
        let answer = match more > room.limit() {
            true => Answer::Full,
            false => room.takes(Thing::File(file.object), more, free, leaving),
        };
        if answer == Answer::Go {
            file.end.fetch_max(end, Ordering::Relaxed);
        }
        answer
    }

    /// Waits until a file that is to reach to an end has room here.
    pub(super) async fn room_for(&self, file: &Opened, end: u64) -> Result<(), i32> {
        let mut news = self.at_hand.news();
        let (mut known, mut since) = ((u64::MAX, 0), Instant::now());
        let mut full: Option<Instant> = None;
        loop {
            news.borrow_and_update();
            // Bytes leave as long as less is owed than before, or more was carried.
            let now = (self.at_hand.room().owed(), self.at_hand.moved());
            if now.0 < known.0 || now.1 > known.1 {
                (known, since) = (now, Instant::now());
            }
            match self.takes(file, end, since.elapsed() < PATIENCE) {
                Answer::Go => return Ok(()),
                // What was closed just now counts as open for a moment.
                Answer::Full if full.get_or_insert_with(Instant::now).elapsed() > SURE => {
                    return Err(libc::ENOSPC);
                }
                Answer::Full => {}
                Answer::Wait if since.elapsed() >= PATIENCE => return Err(libc::ENOSPC),
                Answer::Wait => full = None,
            }
            let more = end.saturating_sub(file.end.load(Ordering::Relaxed));
            self.blocks.make_room(more).await;
            self.at_hand.wake();
            let _ = tokio::time::timeout(Duration::from_millis(100), news.changed()).await;
        }
    }

    /// Takes room for a file that is to reach to an end, if there is some now.
    pub(super) fn has_room(&self, file: &Opened, end: u64) -> bool {
        self.takes(file, end, true) == Answer::Go
    }
}

/// By what is open: it may have no name any more.
fn fd_path(file: &File) -> String {
    format!("/proc/self/fd/{}", file.as_raw_fd())
}

fn has_no_name(file: &File) -> bool {
    file.metadata().is_ok_and(|facts| facts.nlink() == 0)
}

/// The number of an error.
pub(super) fn errno(error: &io::Error) -> i32 {
    error.raw_os_error().unwrap_or(match error.kind() {
        io::ErrorKind::NotFound => libc::ENOENT,
        io::ErrorKind::StorageFull => libc::ENOSPC,
        io::ErrorKind::PermissionDenied => libc::EACCES,
        _ => libc::EIO,
    })
}

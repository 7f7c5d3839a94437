//! Blocks of contents that were fetched, kept by what the content is: each with a checksum, and the whole looked at by its
//! hash once it is whole. All of it may be deleted at any time: then it is fetched again.

use crate::pairs::Shared;
use crate::pairs::at_hand::AtHand;
use parking_lot::Mutex;
use std::collections::{HashMap, HashSet, VecDeque};
use std::fs::File;
use std::io;
use std::ops::Range;
use std::os::unix::fs::{FileExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;
use tokio::runtime::Handle;
use tokio::sync::watch;
use tokio::time::timeout;
use yellow_attic_client::{Client, Error};
use yellow_attic_core::merge::Hash;
use yellow_attic_core::mounted::ahead::{BLOCK, blocks};
use yellow_attic_core::mounted::room::{Answer, Thing};
use yellow_attic_core::mounted::stub::Stub;

/// So many blocks are asked for in one request.
const TOGETHER: u64 = 32;
/// Whoever waits for bytes is told that they do not come, when none came for so long.
const PATIENCE: Duration = Duration::from_secs(5);
/// Blocks wait so long for room.
const ROOM: Duration = Duration::from_secs(2);
/// So long after a line broke it is tried again.
const AGAIN: Duration = Duration::from_millis(300);

/// How far one request is.
#[derive(Clone, Copy, Default)]
struct Got {
    /// The first block that is not there yet.
    next: u64,
    /// Why no more come.
    failed: Option<i32>,
}

type Coming = watch::Receiver<Got>;

/// A content of which blocks may lie here.
pub(super) struct Content {
    hash: Hash,
    /// In bytes.
    pub(super) size: u64,
    bytes: File,
    sums: File,
    known: Mutex<Known>,
    /// Whether the whole was looked at by its hash.
    proved: AtomicBool,
}

struct Known {
    sums: Vec<u64>,
    here: u64,
    /// In which order they came.
    order: VecDeque<u64>,
    coming: HashMap<u64, Coming>,
}

/// All contents of which blocks lie here.
pub(super) struct Blocks {
    folder: PathBuf,
    contents: Mutex<HashMap<Hash, Arc<Content>>>,
    at_hand: Arc<AtHand>,
    shared: Arc<Shared>,
    client: Client,
    runtime: Handle,
    /// Bytes that were fetched.
    pub(super) fetched: AtomicU64,
}

fn sum_of(block: &[u8]) -> u64 {
    let hash = blake3::hash(block);
    let mut first = [0; 8];
    first.copy_from_slice(&hash.as_bytes()[..8]);
    // None is 0: that is a block that is not here.
    u64::from_le_bytes(first).max(1)
}

fn length_of(size: u64, block: u64) -> usize {
    (size - block * BLOCK).min(BLOCK) as usize
}

fn name_of(hash: &Hash) -> String {
    blake3::Hash::from_bytes(*hash).to_hex().to_string()
}

impl Content {
    fn open(folder: &Path, hash: Hash, size: u64) -> io::Result<Content> {
        let name = name_of(&hash);
        let shelf = folder.join(&name[..2]);
        std::fs::create_dir_all(&shelf)?;
        let open = |name: String| {
            File::options().read(true).write(true).create(true).truncate(false).open(shelf.join(name))
        };
        let (bytes, sums) = (open(name.clone())?, open(format!("{name}.sums"))?);
        if bytes.metadata()?.len() != size {
            bytes.set_len(0)?;
            bytes.set_len(size)?;
            sums.set_len(0)?;
        }
        let count = size.div_ceil(BLOCK);
        let mut kept = vec![0; (count * 8) as usize];
        let length = sums.metadata()?.len().min(count * 8) as usize;
        sums.read_exact_at(&mut kept[..length], 0)?;
        let sums_here: Vec<u64> =
            kept.as_chunks::<8>().0.iter().map(|sum| u64::from_le_bytes(*sum)).collect();
        let order: VecDeque<u64> = (0..count).filter(|n| sums_here[*n as usize] != 0).collect();
        let known = Known { sums: sums_here, here: order.len() as u64, order, coming: HashMap::new() };
        Ok(Content { hash, size, bytes, sums, known: Mutex::new(known), proved: AtomicBool::new(false) })
    }

    fn thing(&self) -> Thing {
        Thing::Blocks(self.hash)
    }

    fn has(&self, block: u64) -> bool {
        self.known.lock().sums.get(block as usize).is_some_and(|sum| *sum != 0)
    }

    /// A block as it lies here; none if it does not, or was damaged.
    fn block(&self, block: u64, into: &mut Vec<u8>) -> bool {
        let sum = self.known.lock().sums.get(block as usize).copied().unwrap_or(0);
        if sum == 0 {
            return false;
        }
        into.resize(length_of(self.size, block), 0);
        let good = self.bytes.read_exact_at(into, block * BLOCK).is_ok() && sum_of(into) == sum;
        if !good {
            self.lose(block);
        }
        good
    }

    fn lose(&self, block: u64) {
        let mut known = self.known.lock();
        if let Some(sum) = known.sums.get_mut(block as usize).filter(|sum| **sum != 0) {
            *sum = 0;
            known.here -= 1;
            let _ = self.sums.write_all_at(&[0; 8], block * 8);
        }
        self.proved.store(false, Ordering::Relaxed);
    }

    /// Bytes as they lie here; none if any of them does not.
    pub(super) fn read_here(&self, at: Range<u64>) -> Option<Vec<u8>> {
        let at = at.start..at.end.min(self.size);
        let mut bytes = Vec::with_capacity((at.end.saturating_sub(at.start)) as usize);
        let mut block = Vec::new();
        for number in blocks(at.clone()) {
            if !self.block(number, &mut block) {
                return None;
            }
            let begins = number * BLOCK;
            let from = at.start.saturating_sub(begins).min(block.len() as u64) as usize;
            let to = (at.end - begins).min(block.len() as u64) as usize;
            bytes.extend_from_slice(&block[from..to]);
        }
        Some(bytes)
    }

    fn keep(&self, block: u64, bytes: &[u8]) -> io::Result<bool> {
        let sum = sum_of(bytes);
        self.bytes.write_all_at(bytes, block * BLOCK)?;
        self.sums.write_all_at(&sum.to_le_bytes(), block * 8)?;
        let mut known = self.known.lock();
        let new = known.sums[block as usize] == 0;
        known.sums[block as usize] = sum;
        if new {
            known.here += 1;
            known.order.push_back(block);
        }
        Ok(new)
    }

    /// Whether all of it lies here.
    pub(super) fn is_whole(&self) -> bool {
        let known = self.known.lock();
        known.here == known.sums.len() as u64
    }

    /// How many bytes of it lie here.
    pub(super) fn here(&self) -> u64 {
        (self.known.lock().here * BLOCK).min(self.size)
    }

    /// Lets the blocks go that came first, as many bytes. How many went.
    fn let_go(&self, bytes: u64) -> u64 {
        let mut gone = 0;
        while gone < bytes {
            let block = {
                let mut known = self.known.lock();
                let Some(block) = known.order.pop_front() else { break };
                let sum = std::mem::take(&mut known.sums[block as usize]);
                if sum == 0 {
                    continue;
                }
                known.here -= 1;
                block
            };
            let length = length_of(self.size, block) as u64;
            let _ = self.sums.write_all_at(&[0; 8], block * 8);
            let all = rustix::fs::FallocateFlags::PUNCH_HOLE | rustix::fs::FallocateFlags::KEEP_SIZE;
            let _ = rustix::fs::fallocate(&self.bytes, all, block * BLOCK, length);
            gone += length;
        }
        gone
    }
}

/// What a refusal of the service means for a program.
pub(super) fn errno_of(error: &Error) -> i32 {
    match error {
        Error::Line(_) => libc::EHOSTUNREACH,
        Error::Refused(p) => match p.status {
            401 | 403 => libc::EACCES,
            404 | 410 => libc::ESTALE,
            507 | 413 => libc::EDQUOT,
            429 | 503 => libc::EAGAIN,
            _ => libc::EIO,
        },
        _ => libc::EIO,
    }
}

impl Blocks {
    /// In a folder that may be deleted at any time.
    pub(super) fn open(
        folder: PathBuf,
        client: Client,
        at_hand: Arc<AtHand>,
        shared: Arc<Shared>,
    ) -> io::Result<Arc<Blocks>> {
        std::fs::create_dir_all(&folder)?;
        let mut found = Vec::new();
        for shelf in std::fs::read_dir(&folder)?.filter_map(Result::ok) {
            for file in std::fs::read_dir(shelf.path()).into_iter().flatten().filter_map(Result::ok) {
                let name = file.file_name().to_string_lossy().into_owned();
                let hash = blake3::Hash::from_hex(&name).ok().map(|hash| *hash.as_bytes());
                if let (Some(hash), Ok(about)) = (hash, file.metadata()) {
                    found.push((about.mtime(), hash, about.blocks() * 512));
                }
            }
        }
        // What was fetched last was used last, as far as is known.
        found.sort_unstable();
        for (_, hash, bytes) in found {
            at_hand.room().holds(Thing::Blocks(hash), bytes);
        }
        Ok(Arc::new(Blocks {
            folder,
            contents: Mutex::default(),
            at_hand,
            shared,
            client,
            runtime: Handle::current(),
            fetched: AtomicU64::new(0),
        }))
    }

    /// The content that a file stands for.
    pub(super) fn content(&self, stub: &Stub) -> io::Result<Arc<Content>> {
        let mut contents = self.contents.lock();
        if let Some(content) = contents.get(&stub.hash) {
            return Ok(content.clone());
        }
        let content = Arc::new(Content::open(&self.folder, stub.hash, stub.size)?);
        contents.insert(stub.hash, content.clone());
        Ok(content)
    }

    /// A program has opened a file of it.
    pub(super) fn opened(&self, content: &Content) {
        self.at_hand.room().opened(content.thing());
    }

    /// And closed it.
    pub(super) fn closed(&self, content: &Content) {
        let idle = {
            let mut room = self.at_hand.room();
            room.closed(content.thing());
            !room.is_idle(content.thing())
        };
        // What nobody has open, and of which nothing lies here, need not be known.
        let mut contents = self.contents.lock();
        if idle
            && contents.get(&content.hash).is_some_and(|it| Arc::strong_count(it) <= 2)
            && content.here() == 0
        {
            contents.remove(&content.hash);
        }
    }

    /// Fetches what is missing of a range, and waits for it.
    pub(super) async fn bring(
        self: &Arc<Blocks>,
        content: &Arc<Content>,
        stub: &Stub,
        at: Range<u64>,
    ) -> Result<(), i32> {
        for block in blocks(at.start..at.end.min(content.size)) {
            let mut tries = 0;
            while !content.has(block) {
                self.ask(content, stub, block..blocks(at.clone()).end);
                let Some(mut coming) = content.known.lock().coming.get(&block).cloned() else {
                    tries += 1;
                    if tries > 3 {
                        return Err(libc::EIO);
                    }
                    continue;
                };
                loop {
                    let got = *coming.borrow_and_update();
                    if got.next > block {
                        break;
                    }
                    if let Some(errno) = got.failed {
                        return Err(errno);
                    }
                    match timeout(PATIENCE * 2, coming.changed()).await {
                        Ok(Ok(())) => {}
                        Ok(Err(_)) => break,
                        Err(_) => return Err(libc::ETIMEDOUT),
                    }
                }
            }
        }
        Ok(())
    }

    /// Begins to fetch what is missing of some blocks and does not come yet.
    pub(super) fn ask(self: &Arc<Blocks>, content: &Arc<Content>, stub: &Stub, range: Range<u64>) {
        let count = content.size.div_ceil(BLOCK);
        let mut next = range.start;
        let end = range.end.min(count);
        while next < end {
            let mut known = content.known.lock();
            let comes = |known: &Known, block: u64| {
                known.sums[block as usize] != 0
                    || known
                        .coming
                        .get(&block)
                        .is_some_and(|c| c.borrow().failed.is_none() && c.borrow().next <= block)
            };
            if comes(&known, next) {
                next += 1;
                continue;
            }
            let mut to = next + 1;
            while to < end && to - next < TOGETHER && !comes(&known, to) {
                to += 1;
            }
            let (got, coming) = watch::channel(Got { next, failed: None });
            for block in next..to {
                known.coming.insert(block, coming.clone());
            }
            drop(known);
            self.runtime.spawn(self.clone().fetch(content.clone(), *stub, next..to, got));
            next = to;
        }
    }

    async fn fetch(
        self: Arc<Blocks>,
        content: Arc<Content>,
        stub: Stub,
        range: Range<u64>,
        got: watch::Sender<Got>,
    ) {
        // Room is taken before anything comes, and given back as far as nothing did.
        let bytes = (range.end * BLOCK).min(content.size) - range.start * BLOCK;
        self.take_room(content.thing(), bytes).await;
        let mut kept = 0;
        let mut next = range.start;
        let mut since = tokio::time::Instant::now();
        let errno = loop {
            let before = next;
            let errno = match self.stream(&content, &stub, (&mut next, range.end), &got, &mut kept).await {
                Ok(()) => break None,
                Err(errno) => errno,
            };
            if next > before {
                since = tokio::time::Instant::now();
            }
            let waits = matches!(errno, libc::EHOSTUNREACH | libc::ETIMEDOUT | libc::EAGAIN);
            if !waits || since.elapsed() >= PATIENCE - AGAIN {
                break Some(errno);
            }
            tokio::time::sleep(AGAIN).await;
        };
        self.at_hand.room().shrinks(content.thing(), bytes.saturating_sub(kept));
        if errno.is_some() {
            got.send_modify(|got| got.failed = errno);
        }
        {
            let mut known = content.known.lock();
            for block in range {
                known.coming.remove(&block);
            }
        }
        drop(got);
        if errno.is_none() && content.is_whole() && !content.proved.load(Ordering::Relaxed) {
            self.prove(content).await;
        }
    }

    async fn stream(
        &self,
        content: &Content,
        stub: &Stub,
        (next, end): (&mut u64, u64),
        got: &watch::Sender<Got>,
        kept: &mut u64,
    ) -> Result<(), i32> {
        use futures_util::StreamExt;
        let (from, to) = (*next * BLOCK, (end * BLOCK).min(content.size));
        let moment = stub.moment.token();
        let late = |_| libc::ETIMEDOUT;
        let part = self.client.content_part(stub.node.0, Some(&moment), from, to - from);
        let stream = timeout(PATIENCE, part).await.map_err(late)?.map_err(|e| errno_of(&e))?;
        let mut stream = std::pin::pin!(stream);
        let mut block: Vec<u8> = Vec::with_capacity(BLOCK as usize);
        while let Some(piece) = timeout(PATIENCE, stream.next()).await.map_err(late)? {
            let mut piece = piece.map_err(|e| errno_of(&e))?;
            self.shared.down.take(piece.len() as u64).await;
            self.fetched.fetch_add(piece.len() as u64, Ordering::Relaxed);
            while !piece.is_empty() && *next < end {
                let wants = length_of(content.size, *next) - block.len();
                let some = piece.split_to(wants.min(piece.len()));
                block.extend_from_slice(&some);
                if block.len() == length_of(content.size, *next) {
                    let new =
                        content.keep(*next, &block).map_err(|e| e.raw_os_error().unwrap_or(libc::EIO))?;
                    if new {
                        *kept += block.len() as u64;
                    }
                    *next += 1;
                    got.send_modify(|got| got.next = *next);
                    block.clear();
                }
            }
        }
        if *next < end { Err(libc::EHOSTUNREACH) } else { Ok(()) }
    }

    /// Looks at the whole by its hash.
    async fn prove(&self, content: Arc<Content>) {
        let it = content.clone();
        let good = tokio::task::spawn_blocking(move || {
            let mut hasher = blake3::Hasher::new();
            let mut block = Vec::new();
            for number in 0..it.size.div_ceil(BLOCK) {
                if !it.block(number, &mut block) {
                    return None;
                }
                hasher.update(&block);
            }
            Some(*hasher.finalize().as_bytes() == it.hash)
        });
        match good.await {
            Ok(Some(true)) => content.proved.store(true, Ordering::Relaxed),
            // Other bytes than were promised: none of them stays.
            Ok(Some(false)) => {
                let gone = content.let_go(u64::MAX);
                let mut room = self.at_hand.room();
                let before = room.of(content.thing());
                room.holds(content.thing(), before.saturating_sub(gone));
            }
            _ => {}
        }
    }

    /// Takes room for bytes that are to come. Whoever reads them gets them, though all that lies here is owed or kept: then they are
    /// the first to go.
    async fn take_room(&self, thing: Thing, bytes: u64) {
        let until = tokio::time::Instant::now() + ROOM;
        loop {
            let free = self.free();
            if self.at_hand.room().takes(thing, bytes, free, false) == Answer::Go {
                return;
            }
            if tokio::time::Instant::now() >= until {
                self.at_hand.room().grows(thing, bytes);
                return;
            }
            self.make_room(bytes).await;
            self.at_hand.wake();
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    }

    /// Lets blocks go until so many more bytes have room, as far as that is up to blocks.
    pub(super) async fn make_room(&self, more: u64) {
        let free = self.free();
        let (presses, goes) = {
            let room = self.at_hand.room();
            let presses = room.presses(more, free);
            (presses, room.to_release(presses))
        };
        if presses == 0 {
            return;
        }
        let mut gone = 0;
        for thing in &goes {
            match thing {
                Thing::Blocks(hash) => gone += self.drop_content(*hash),
                Thing::File(object) => gone += self.at_hand.room().of(Thing::File(*object)),
            }
        }
        if goes.iter().any(|thing| matches!(thing, Thing::File(_))) {
            self.at_hand.wake();
        }
        // Of what programs read just now, that which came first.
        let open: Vec<Arc<Content>> = self.contents.lock().values().cloned().collect();
        for content in open {
            if gone >= presses {
                break;
            }
            // What was fetched just now is about to be read.
            let most = content.here().saturating_sub(64 << 20).max(content.here() / 2);
            let some = content.let_go((presses - gone).min(most));
            let mut room = self.at_hand.room();
            let before = room.of(content.thing());
            room.holds(content.thing(), before.saturating_sub(some));
            gone += some;
        }
    }

    /// Lets all blocks of a content go that nobody has open. How many bytes.
    pub(super) fn drop_content(&self, hash: Hash) -> u64 {
        let mut contents = self.contents.lock();
        let mut room = self.at_hand.room();
        let thing = Thing::Blocks(hash);
        if !room.is_idle(thing) {
            return 0;
        }
        contents.remove(&hash);
        let name = name_of(&hash);
        let shelf = self.folder.join(&name[..2]);
        // The sums first: bytes without them are nothing.
        let _ = std::fs::remove_file(shelf.join(format!("{name}.sums")));
        let _ = std::fs::remove_file(shelf.join(&name));
        let gone = room.of(thing);
        room.holds(thing, 0);
        gone
    }

    /// Free bytes of the disk.
    pub(super) fn free(&self) -> u64 {
        rustix::fs::statvfs(&self.folder)
            .or_else(|_| rustix::fs::statvfs(self.folder.parent().unwrap_or(Path::new("/"))))
            .map_or(u64::MAX, |s| s.f_bavail.saturating_mul(s.f_frsize))
    }

    /// Contents that are not known any more are not looked for: their files were deleted by somebody.
    pub(super) fn forget_deleted(&self) {
        let known: HashSet<Hash> = self.contents.lock().keys().copied().collect();
        for hash in known {
            let name = name_of(&hash);
            if !self.folder.join(&name[..2]).join(&name).exists() {
                self.contents.lock().remove(&hash);
                let mut room = self.at_hand.room();
                room.holds(Thing::Blocks(hash), 0);
            }
        }
    }
}

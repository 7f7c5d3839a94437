//! Blocks of contents that were fetched, kept by what the content is: each with a checksum, and the whole looked at by its
//! hash once it is whole. All of it may be deleted at any time: then it is fetched again.

use super::content::{Content, Got, Known, length_of, name_of};
use crate::pairs::Shared;
use crate::pairs::at_hand::AtHand;
use parking_lot::Mutex;
use std::collections::{HashMap, HashSet};
use std::io;
use std::ops::Range;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
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
        let good = tokio::task::spawn_blocking(move || it.is_what_it_should_be());
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

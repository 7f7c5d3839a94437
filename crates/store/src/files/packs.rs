//! Large past contents as content-defined chunks, gathered in pack files: a new version costs what
//! changed.
//!
//! A thread of its own packs what is worth it. The order of steps, and the crash that each survives:
//!
//! 1. new chunks are appended to a pack file and synced: a crash leaves bytes that no row names, and
//!    the file is cut back to what the catalogue knows at the next start;
//! 2. one transaction writes the pack, the chunks and the recipe: from here on the content is packed;
//! 3. the whole is read back through its recipe and hashed: what is not equal is taken back;
//! 4. the whole file under its hash is unlinked, if it is still the same: a crash before leaves it
//!    beside its chunks, and the next start looks again.
//!
//! Nothing counts references. What no recipe names any more is found by walking the recipes, which
//! are short, and its space is taken back by writing what is left of a pack into a new one.

use crate::catalogue::rows::hash_of;
use crate::fs::disk::{Disk, hex};
use crate::fs::error::{Result, StoreError};
use crate::txn::read_cache::View;
use parking_lot::{Condvar, Mutex};
use rustix::fs::{Mode, OFlags, openat};
use std::collections::{HashMap, VecDeque};
use std::fs::File;
use std::io::{self, Write};
use std::os::fd::AsRawFd;
use std::os::unix::fs::FileExt;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};
use tokio::runtime::Handle;
use yellow_attic_core::chunking::read_recipe;

/// Packed contents that were put together lately, so that a part after a part costs little.
const KEPT_WHOLE: usize = 8;
const KEPT_FOR: Duration = Duration::from_secs(120);

/// Where a chunk lies.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Chunk {
    hash: [u8; 32],
    pack: i64,
    at: i64,
    stored: i64,
    size: i64,
}

/// Asks the packer for work, and hands out packed contents as files.
#[derive(Clone)]
pub(crate) struct Packing(pub(crate) Arc<Inner>);

#[derive(Default)]
pub(crate) struct Inner {
    work: (Mutex<bool>, Condvar),
    stop: AtomicBool,
    pub(crate) busy: AtomicBool,
    /// What is to be packed.
    pub(crate) queue: Mutex<VecDeque<([u8; 32], i64)>>,
    /// Something was let go: look for chunks that nobody needs.
    pub(crate) tidy: AtomicBool,
    /// Held while it is being looked for.
    pub(crate) tidying: Mutex<()>,
    /// The catalogue is older than the data beside it: nothing of the past goes.
    spares: bool,
    whole: Mutex<VecDeque<([u8; 32], File, Instant)>>,
}

impl Packing {
    /// Busy from the beginning: what a stop left is looked over first.
    pub fn new(spares: bool) -> Packing {
        Packing(Arc::new(Inner { busy: AtomicBool::new(true), spares, ..Inner::default() }))
    }

    /// Whether nothing of the past may go.
    pub fn spares_all(&self) -> bool {
        self.0.spares
    }

    /// These bytes are past now, and worth being packed.
    pub fn add(&self, hash: [u8; 32], size: i64) {
        if self.0.spares {
            return;
        }
        let mut queue = self.0.queue.lock();
        queue.push_back((hash, size));
        self.wake();
    }

    /// Something was let go: chunks may be needed no more.
    pub fn tidy(&self) {
        if self.0.spares {
            return;
        }
        let _queue = self.0.queue.lock();
        self.0.tidy.store(true, Ordering::SeqCst);
        self.wake();
    }

    /// With the queue locked: whoever goes idle looks at it under the same lock.
    fn wake(&self) {
        self.0.busy.store(true, Ordering::SeqCst);
        self.wake_up();
    }

    fn wake_up(&self) {
        *self.0.work.0.lock() = true;
        self.0.work.1.notify_one();
    }

    /// Waits for work, at most so long.
    pub(crate) fn rest(&self, most: Duration) {
        let mut work = self.0.work.0.lock();
        if !*work {
            let _ = self.0.work.1.wait_for(&mut work, most);
        }
        *work = false;
    }

    pub fn stop(&self) {
        self.0.stop.store(true, Ordering::SeqCst);
        self.wake_up();
    }

    /// Whether nothing is under way.
    pub fn is_idle(&self) -> bool {
        !self.0.busy.load(Ordering::SeqCst)
    }

    pub(crate) fn stopped(&self) -> bool {
        self.0.stop.load(Ordering::SeqCst)
    }

    /// A packed content as a file without a name; none if it is not packed. Blocks. Verified: bytes
    /// that are not what their hash says are given to nobody.
    pub fn open(&self, disk: &Disk, view: &View, handle: &Handle, hash: &[u8; 32]) -> Result<Option<File>> {
        let mut known = self.0.whole.lock();
        known.retain(|(_, _, since)| since.elapsed() < KEPT_FOR);
        if let Some((_, file, _)) = known.iter().find(|(h, _, _)| h == hash) {
            return Ok(Some(again(file).map_err(|e| StoreError::io("opening packed bytes", &e))?));
        }
        drop(known);
        let Some(recipe) = handle.block_on(load_recipe(view, hash))? else { return Ok(None) };
        let io = |e: &io::Error| StoreError::io(format!("putting {} together", hex(hash)), e);
        let flags = OFlags::TMPFILE | OFlags::RDWR | OFlags::CLOEXEC;
        let fd = openat(&disk.staging, ".", flags, Mode::from_raw_mode(0o600)).map_err(|e| io(&e.into()))?;
        let mut file = File::from(fd);
        let mut hasher = blake3::Hasher::new();
        let mut packs = Packs::default();
        for run in recipe {
            for chunk in handle.block_on(load_chunks(view, run))? {
                let bytes = packs.read(disk, &chunk).map_err(|e| io(&e))?;
                hasher.update(&bytes);
                file.write_all(&bytes).map_err(|e| io(&e))?;
            }
        }
        if hasher.finalize().as_bytes() != hash {
            return Err(StoreError::BytesMissing(hex(hash)));
        }
        let given = again(&file).map_err(|e| io(&e))?;
        let mut known = self.0.whole.lock();
        known.push_back((*hash, file, Instant::now()));
        while known.len() > KEPT_WHOLE {
            known.pop_front();
        }
        Ok(Some(given))
    }
}

/// The same file, with a place of its own to read from.
fn again(file: &File) -> io::Result<File> {
    File::open(format!("/proc/self/fd/{}", file.as_raw_fd()))
}

/// Pack files that are open.
#[derive(Default)]
pub(crate) struct Packs(HashMap<i64, File>);

impl Packs {
    pub(crate) fn read(&mut self, disk: &Disk, chunk: &Chunk) -> io::Result<Vec<u8>> {
        self.read_by(&|name| Ok(disk.open_file(&*disk.packs, name)?.0), chunk)
    }

    /// The same of packs that lie elsewhere.
    fn read_by(&mut self, open: &dyn Fn(&str) -> io::Result<File>, chunk: &Chunk) -> io::Result<Vec<u8>> {
        let file = match self.0.entry(chunk.pack) {
            std::collections::hash_map::Entry::Occupied(open) => open.into_mut(),
            std::collections::hash_map::Entry::Vacant(free) => free.insert(open(&pack_name(chunk.pack))?),
        };
        let mut stored = vec![0; chunk.stored.max(0) as usize];
        file.read_exact_at(&mut stored, chunk.at as u64)?;
        let bytes = match chunk.stored == chunk.size {
            true => stored,
            false => zstd::bulk::decompress(&stored, chunk.size.max(0) as usize)?,
        };
        match blake3::hash(&bytes).as_bytes() == &chunk.hash {
            true => Ok(bytes),
            false => Err(io::Error::new(
                io::ErrorKind::InvalidData,
                format!("chunk {} is damaged", hex(&chunk.hash)),
            )),
        }
    }
}

pub(crate) fn pack_name(id: i64) -> String {
    format!("p{id:x}")
}

type Run = (i64, u64);

pub(crate) async fn raw_recipe(view: &View, hash: &[u8; 32]) -> Result<Option<Vec<u8>>> {
    let found = sqlx::query_scalar("SELECT recipe FROM packed WHERE org = 1 AND hash = ?")
        .bind(&hash[..])
        .fetch_optional(&view.pool)
        .await?;
    Ok(found)
}

pub(crate) fn runs_of(recipe: &[u8], hash: &[u8; 32]) -> Result<Vec<Run>> {
    read_recipe(recipe)
        .ok_or_else(|| StoreError::Catalogue(format!("the recipe of {} is damaged", hex(hash))))
}

pub(crate) async fn load_recipe(view: &View, hash: &[u8; 32]) -> Result<Option<Vec<Run>>> {
    raw_recipe(view, hash).await?.map(|recipe| runs_of(&recipe, hash)).transpose()
}

pub(crate) async fn load_chunks(view: &View, run: Run) -> Result<Vec<Chunk>> {
    type ChunkRow = (Vec<u8>, i64, i64, i64, i64);
    let rows: Vec<ChunkRow> = sqlx::query_as(
        "SELECT hash, pack, at, stored, size FROM chunks WHERE id >= ? AND id < ? ORDER BY id",
    )
    .bind(run.0)
    .bind(run.0 + run.1 as i64)
    .fetch_all(&view.pool)
    .await?;
    if rows.len() as u64 != run.1 {
        return Err(StoreError::Catalogue(format!("chunks after {} are missing", run.0)));
    }
    rows.into_iter().map(|(hash, pack, at, stored, size)| chunk_at(&hash, pack, at, stored, size)).collect()
}

/// A chunk, as the catalogue knows it.
pub(crate) fn chunk_at(hash: &[u8], pack: i64, at: i64, stored: i64, size: i64) -> Result<Chunk> {
    Ok(Chunk { hash: hash_of(hash, &format!("a chunk of pack {pack}"))?, pack, at, stored, size })
}

/// Drops the recipes of contents (a JSON list of hashes), but of those that are needed again by now.
pub(crate) async fn drop_recipes(conn: &mut sqlx::SqliteConnection, hashes: String) -> Result<()> {
    sqlx::query(
        "DELETE FROM packed WHERE org = 1 AND hash IN (SELECT unhex(value) FROM json_each(?))
           AND NOT EXISTS (SELECT 1 FROM contents c WHERE c.hash = packed.hash AND c.state = 1)",
    )
    .bind(hashes)
    .execute(conn)
    .await?;
    Ok(())
}

/// What a check of the packs found.
#[derive(Default)]
pub(crate) struct PackCheck {
    /// Chunks that are not what their name says.
    pub damaged: Vec<String>,
    pub bytes: u64,
}

/// Reads every chunk of packs that are opened so. Blocks.
pub(crate) fn check_packs(
    open: &dyn Fn(&str) -> io::Result<File>,
    chunks: &[(Vec<u8>, i64, i64, i64, i64)],
    progress: &mut dyn FnMut(u64),
) -> PackCheck {
    let mut found = PackCheck::default();
    let mut packs = Packs::default();
    for (hash, pack, at, stored, size) in chunks {
        let Ok(hash) = hash_of(hash, "a chunk") else {
            found.damaged.push(format!("a chunk of {}: its hash has {} bytes", pack_name(*pack), hash.len()));
            continue;
        };
        let chunk = Chunk { hash, pack: *pack, at: *at, stored: *stored, size: *size };
        if packs.read_by(open, &chunk).is_err() {
            found.damaged.push(format!("chunk {} of {}", hex(&hash), pack_name(*pack)));
        }
        found.bytes += *stored as u64;
        progress(found.bytes);
    }
    found
}

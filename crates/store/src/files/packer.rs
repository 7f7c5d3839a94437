//! Packs written: large past contents as chunks, each once; and packs tidied.

use crate::catalogue::rows::hash_of;
use crate::files::filer::{File as ToFile, Filing};
use crate::files::packs::{Packing, Packs, load_chunks, load_recipe, pack_name, raw_recipe, runs_of};
use crate::files::past::{Past, open_past};
use crate::fs::disk::{Disk, hex, unhex};
use crate::fs::error::{Result, StoreError};
use crate::fs::staging::Staging;
use crate::ops::record::ChangeCatalogue;
use crate::txn::operation::{Operation, Queued, asked};
use crate::txn::read_cache::View;
use rustix::fs::{Mode, OFlags, openat};
use std::collections::HashMap;
use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};
use tokio::runtime::Handle;
use tokio::sync::mpsc;
use yellow_attic_core::chunking::{cut, write_recipe};

/// A pack file that is full.
pub const FULL: u64 = 64 << 20;

/// So many times as long as tidying took, nothing is tidied after it.
const TIDIES: u32 = 20;

/// So often small contents are looked for that have been past for long enough.
const GATHERS: Duration = Duration::from_secs(3600);

/// While it waits for that, it looks so often whether there is something else to do.
const AGAIN: Duration = Duration::from_millis(20);

/// Before each chunk: its hash, its bytes there, its size. So a pack tells what it holds.
pub const HEAD: usize = 40;

/// The pack that is being written.
pub(crate) struct Open {
    pub(super) id: i64,
    pub(super) file: File,
    bytes: u64,
}

/// Packs and tidies. Runs on a thread of its own, so that neither uploads nor placing wait for it.
pub(crate) struct Packer {
    pub disk: Arc<Disk>,
    pub view: View,
    pub staging: Arc<Staging>,
    pub packing: Packing,
    pub filing: Filing,
    pub writer: mpsc::WeakSender<Queued>,
    pub handle: Handle,
    pub open: Option<Open>,
    /// Not before this is it tidied again: that looks at all there is.
    pub tidies: Instant,
    /// How long small contents stay as they are, in milliseconds.
    pub gather_after: i64,
    /// When they are looked at next.
    pub gathers: Instant,
}

impl Packer {
    pub fn run(mut self) {
        crate::fs::syscalls::be_patient();
        if self.packing.spares_all() {
            self.packing.0.queue.lock().clear();
            self.packing.0.busy.store(false, Ordering::SeqCst);
            return;
        }
        match self.recover().and_then(|()| self.pack_all()) {
            Err(StoreError::Stopping) => return,
            Err(error) => tracing::error!(%error, "the packs could not be looked over; nothing is lost"),
            Ok(()) => {}
        }
        loop {
            if self.packing.stopped() {
                return;
            }
            let next = {
                let mut queue = self.packing.0.queue.lock();
                let next = queue.pop_front();
                let rests = !self.packing.0.tidy.load(Ordering::SeqCst) && Instant::now() < self.gathers;
                let idle = next.is_none() && rests;
                self.packing.0.busy.store(!idle, Ordering::SeqCst);
                next
            };
            let done = match next {
                Some((hash, size)) => self.pack_or_leave(&hash, size),
                None if Instant::now() >= self.tidies
                    && !self.disk.past_stays.is_held()
                    && self.packing.0.tidy.swap(false, Ordering::SeqCst) =>
                {
                    let begun = Instant::now();
                    let done = self.tidy();
                    self.tidies = Instant::now() + begun.elapsed() * TIDIES;
                    done
                }
                None if Instant::now() >= self.gathers => {
                    let done = self.gather();
                    self.gathers = Instant::now() + GATHERS;
                    done
                }
                None => {
                    let rest = match self.packing.0.tidy.load(Ordering::SeqCst) {
                        true => AGAIN,
                        false => self.gathers.saturating_duration_since(Instant::now()),
                    };
                    self.packing.rest(rest);
                    Ok(())
                }
            };
            match done {
                Err(StoreError::Stopping) => return,
                Err(error) => tracing::warn!(%error, "the packs could not be tidied; they are next time"),
                Ok(()) => {}
            }
        }
    }

    pub fn ask<O: Operation>(&self, operation: O) -> Result<O::Told> {
        let writer = self.writer.upgrade().ok_or(StoreError::Stopping)?;
        let (queued, answered) = asked(operation);
        self.handle.block_on(async {
            writer.send(queued).await.map_err(|_| StoreError::Stopping)?;
            drop(writer);
            answered.await.map_err(|_| StoreError::Stopping)?
        })
    }

    pub fn write(
        &self,
        change: impl for<'c> FnOnce(
            &'c mut sqlx::SqliteConnection,
        ) -> std::pin::Pin<Box<dyn Future<Output = Result<()>> + Send + 'c>>
        + Send
        + 'static,
    ) -> Result<()> {
        self.ask(ChangeCatalogue::quiet(change))
    }

    /// Finds what a stop left: packs that no row names, tails of packs, bytes that were let go.
    pub fn recover(&mut self) -> Result<()> {
        let io = |e: &io::Error| StoreError::io("looking over the packs", e);
        let known: Vec<(i64, i64)> =
            self.handle.block_on(sqlx::query_as("SELECT id, bytes FROM packs").fetch_all(&self.view.pool))?;
        let known: HashMap<String, i64> = known.into_iter().map(|(id, n)| (pack_name(id), n)).collect();
        for name in self.disk.names(&*self.disk.packs).map_err(|e| io(&e))? {
            let Ok(name) = String::from_utf8(name) else { continue };
            match known.get(&name) {
                None => self.disk.unlink(&*self.disk.packs, &name, false).map_err(|e| io(&e))?,
                Some(bytes) => {
                    let (_, look) = self.disk.open_file(&*self.disk.packs, &name).map_err(|e| io(&e))?;
                    if look.size > *bytes {
                        self.disk.step("cut a pack back").map_err(|e| io(&e))?;
                        let flags = OFlags::WRONLY | OFlags::CLOEXEC | OFlags::NOFOLLOW;
                        let fd = openat(&*self.disk.packs, name.as_str(), flags, Mode::empty())
                            .map_err(|e| io(&e.into()))?;
                        File::from(fd).set_len(*bytes as u64).map_err(|e| io(&e))?;
                    }
                }
            }
        }
        // Past bytes that nothing needs: let go, and stopped before they went.
        for shard in self.disk.names(&*self.disk.past).map_err(|e| io(&e))? {
            let Ok(shard) = String::from_utf8(shard) else { continue };
            if shard.len() != 2 {
                continue;
            }
            let dir = self.disk.open_dir(&*self.disk.past, &shard).map_err(|e| io(&e))?;
            let names: Vec<String> = self
                .disk
                .names(&dir)
                .map_err(|e| io(&e))?
                .into_iter()
                .filter_map(|n| String::from_utf8(n).ok())
                .filter(|n| unhex(n).is_some())
                .collect();
            for part in names.chunks(500) {
                let list = serde_json::to_string(part).unwrap_or_default();
                let needless: Vec<String> = self.handle.block_on(
                    sqlx::query_scalar(
                        "SELECT j.value FROM json_each(?) j WHERE NOT EXISTS
                           (SELECT 1 FROM contents c WHERE c.hash = unhex(j.value) AND c.state = 1)",
                    )
                    .bind(list)
                    .fetch_all(&self.view.pool),
                )?;
                let hashes: Vec<_> = needless.iter().filter_map(|n| unhex(n)).collect();
                if !hashes.is_empty() {
                    self.filing.add(vec![ToFile::CondemnMany(hashes)]);
                }
            }
            if self.packing.stopped() {
                return Err(StoreError::Stopping);
            }
        }
        self.packing.0.tidy.store(true, Ordering::SeqCst);
        Ok(())
    }

    /// What was past before the start: packed if it is not, and its whole dropped if it is.
    pub fn pack_all(&mut self) -> Result<()> {
        let mut after = 0i64;
        loop {
            let lot: Vec<(i64, Vec<u8>, i64)> = self.handle.block_on(
                sqlx::query_as(
                    "SELECT id, hash, size FROM contents WHERE state = 1 AND size >= 1048576 AND id > ?
                     ORDER BY id LIMIT 50",
                )
                .bind(after)
                .fetch_all(&self.view.pool),
            )?;
            let Some(last) = lot.last() else { return Ok(()) };
            after = last.0;
            for (id, hash, size) in lot {
                if self.packing.stopped() {
                    return Err(StoreError::Stopping);
                }
                // A damaged one is left, and told; the others go on.
                match hash_of(&hash, &format!("content {id}")) {
                    Ok(hash) => self.pack_or_leave(&hash, size)?,
                    Err(error) => tracing::error!(%error, "a content is not packed"),
                }
            }
        }
    }

    pub fn pack_or_leave(&mut self, hash: &[u8; 32], size: i64) -> Result<()> {
        match self.pack(hash, size) {
            Err(error) if !matches!(error, StoreError::Stopping) => {
                tracing::warn!(%error, hash = hex(hash), "could not be packed; it stays as it is");
                Ok(())
            }
            other => other,
        }
    }

    pub fn pack(&mut self, hash: &[u8; 32], size: i64) -> Result<()> {
        let io = |e: &io::Error| StoreError::io(format!("packing {}", hex(hash)), e);
        let whole = match open_past(&self.disk, hash, size).map_err(|e| io(&e))? {
            Past::Sound(file) => file,
            // Not here yet, packed already, or reported elsewhere.
            Past::Damaged | Past::Missing => return Ok(()),
        };
        if self.handle.block_on(load_recipe(&self.view, hash))?.is_none() {
            // What is packed has to fit beside the whole for a while.
            if self.staging.check_room(size.max(0) as u64).is_err() {
                return Ok(());
            }
            self.write_chunks(hash, size, whole)?;
        }
        // 3. read back and compared, before the whole goes.
        let Some(recipe) = self.handle.block_on(raw_recipe(&self.view, hash))? else { return Ok(()) };
        let mut packs = Packs::default();
        let mut hasher = blake3::Hasher::new();
        let mut sound = true;
        for run in runs_of(&recipe, hash)? {
            for chunk in self.handle.block_on(load_chunks(&self.view, run))? {
                match packs.read(&self.disk, &chunk) {
                    Ok(bytes) => drop(hasher.update(&bytes)),
                    Err(error) => {
                        tracing::error!(%error, "a chunk cannot be read; the whole is kept");
                        sound = false;
                    }
                }
            }
        }
        if !sound || hasher.finalize().as_bytes() != hash {
            let hash = hash.to_vec();
            return self.write(move |conn| {
                Box::pin(async move {
                    sqlx::query("DELETE FROM packed WHERE org = 1 AND hash = ?")
                        .bind(hash)
                        .execute(conn)
                        .await?;
                    Ok(())
                })
            });
        }
        // 4. within a transaction of the writer, which nothing else comes between: the recipe may have been dropped
        //    since it was read, with bytes filed under this hash that rely on the whole.
        let text = hex(hash);
        let dir = self.disk.past_dir(&text).map_err(|e| io(&e))?;
        let (disk, hash) = (self.disk.clone(), hash.to_vec());
        self.write(move |conn| {
            Box::pin(async move {
                let still: i64 = sqlx::query_scalar(
                    "SELECT count(*) FROM packed WHERE org = 1 AND hash = ? AND recipe = ?",
                )
                .bind(hash)
                .bind(recipe)
                .fetch_one(conn)
                .await?;
                match still {
                    0 => Ok(()),
                    _ => match disk.unlink(&dir, &text, false) {
                        Err(e) if e.kind() != io::ErrorKind::NotFound => {
                            Err(StoreError::BadInput(e.to_string()))
                        }
                        _ => Ok(()),
                    },
                }
            })
        })
    }

    /// Cuts a content and writes the chunks that are not there yet.
    pub fn write_chunks(&mut self, hash: &[u8; 32], size: i64, whole: File) -> Result<()> {
        let io = |e: &io::Error| StoreError::io(format!("packing {}", hex(hash)), e);
        let mut ids: Vec<Result<i64, usize>> = Vec::new();
        // New ones: hash, pack, at, stored, size.
        let mut new: Vec<([u8; 32], i64, i64, i64, i64)> = Vec::new();
        let mut fresh: HashMap<[u8; 32], usize> = HashMap::new();
        let mut touched: HashMap<i64, u64> = HashMap::new();
        let mut chunks = cut(io::BufReader::with_capacity(1 << 20, whole));
        loop {
            let lot: Vec<Vec<u8>> =
                chunks.by_ref().take(128).collect::<io::Result<_>>().map_err(|e| io(&e))?;
            if lot.is_empty() {
                break;
            }
            let hashes: Vec<[u8; 32]> = lot.iter().map(|c| *blake3::hash(c).as_bytes()).collect();
            let there = self.known(&hashes)?;
            for (bytes, its) in lot.iter().zip(hashes) {
                if let Some(id) = there.get(&its) {
                    ids.push(Ok(*id));
                } else if let Some(i) = fresh.get(&its) {
                    ids.push(Err(*i));
                } else {
                    let small = zstd::bulk::compress(bytes, 3).map_err(|e| io(&e))?;
                    let stored = if small.len() * 100 <= bytes.len() * 97 { &small } else { bytes };
                    let (pack, at) = self.append(&its, stored, bytes.len()).map_err(|e| io(&e))?;
                    touched.insert(pack, at as u64 + stored.len() as u64);
                    fresh.insert(its, new.len());
                    ids.push(Err(new.len()));
                    new.push((its, pack, at, stored.len() as i64, bytes.len() as i64));
                }
            }
            if self.packing.stopped() {
                return Err(StoreError::Stopping);
            }
        }
        let first: i64 = self.handle.block_on(
            sqlx::query_scalar("SELECT coalesce(max(id), 0) FROM chunks").fetch_one(&self.view.pool),
        )?;
        // Only this thread makes chunks: the ids are known before they are written.
        let all: Vec<i64> = ids
            .into_iter()
            .map(|id| match id {
                Ok(id) => id,
                Err(i) => first + 1 + i as i64,
            })
            .collect();
        let recipe = write_recipe(&all);
        let rows: Vec<_> = new
            .iter()
            .enumerate()
            .map(|(i, (hash, pack, at, stored, size))| {
                (first + 1 + i as i64, hex(hash), *pack, *at, *stored, *size)
            })
            .collect();
        self.note_chunks(touched, &rows, &[(hex(hash), size, hex(&recipe))])
    }

    /// Makes durable what was appended to packs, then says so in the catalogue: with the new chunks (id, hash, pack, place, bytes
    /// there, size) and the recipes (hash, size, recipe) that need them.
    pub fn note_chunks(
        &self,
        touched: HashMap<i64, u64>,
        chunks: &[(i64, String, i64, i64, i64, i64)],
        recipes: &[(String, i64, String)],
    ) -> Result<()> {
        let io = |e: &io::Error| StoreError::io("packing", e);
        // 1. on the disk before the catalogue says so.
        if let Some(open) = &self.open {
            self.disk.sync(&open.file).map_err(|e| io(&e))?;
            self.disk.sync(&*self.disk.packs).map_err(|e| io(&e))?;
        }
        let packs: Vec<(i64, u64)> = touched.into_iter().collect();
        let rows = serde_json::to_string(chunks).unwrap_or_default();
        let recipes = serde_json::to_string(recipes).unwrap_or_default();
        // 2.
        self.disk.step("pack").map_err(|e| io(&e))?;
        self.write(move |conn| {
            Box::pin(async move {
                note_packs(conn, &packs).await?;
                sqlx::query(
                    "INSERT INTO chunks (id, org, hash, pack, at, stored, size)
                     SELECT value->>0, 1, unhex(value->>1), value->>2, value->>3, value->>4, value->>5 FROM json_each(?)",
                )
                .bind(rows)
                .execute(&mut *conn)
                .await?;
                sqlx::query(
                    "INSERT OR REPLACE INTO packed (org, hash, size, recipe)
                     SELECT 1, unhex(value->>0), value->>1, unhex(value->>2) FROM json_each(?)",
                )
                .bind(recipes)
                .execute(conn)
                .await?;
                Ok(())
            })
        })
    }

    pub fn known(&self, hashes: &[[u8; 32]]) -> Result<HashMap<[u8; 32], i64>> {
        let list: Vec<String> = hashes.iter().map(|h| hex(h)).collect();
        let found: Vec<(Vec<u8>, i64)> = self.handle.block_on(
            sqlx::query_as(
                "SELECT c.hash, c.id FROM json_each(?) j CROSS JOIN chunks c WHERE c.org = 1 AND c.hash = unhex(j.value)",
            )
            .bind(serde_json::to_string(&list).unwrap_or_default())
            .fetch_all(&self.view.pool),
        )?;
        Ok(found.into_iter().filter_map(|(h, id)| Some((h.try_into().ok()?, id))).collect())
    }

    /// Appends a chunk to the pack that is being written.
    pub fn append(&mut self, hash: &[u8; 32], stored: &[u8], size: usize) -> io::Result<(i64, i64)> {
        if self.open.as_ref().is_none_or(|o| o.bytes >= FULL) {
            self.begin()?;
        }
        let Some(open) = &mut self.open else { return Err(io::Error::other("no pack")) };
        let mut head = Vec::with_capacity(HEAD + stored.len());
        head.extend_from_slice(hash);
        head.extend_from_slice(&(stored.len() as u32).to_le_bytes());
        head.extend_from_slice(&(size as u32).to_le_bytes());
        head.extend_from_slice(stored);
        self.disk.step("write to a pack")?;
        open.file.write_all_at(&head, open.bytes)?;
        let at = open.bytes + HEAD as u64;
        open.bytes += head.len() as u64;
        Ok((open.id, at as i64))
    }

    /// Begins a new pack. One is never gone on with after a start.
    pub fn begin(&mut self) -> io::Result<()> {
        if let Some(open) = &self.open {
            self.disk.sync(&open.file)?;
        }
        // Of the numbers for bytes in staging, none of which is given out twice: whoever still looks for a chunk of a
        // pack that is gone must not find another one there.
        let id = self.staging.next_id().0;
        self.disk.step("make a pack")?;
        let flags = OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::CLOEXEC | OFlags::NOFOLLOW;
        let fd = openat(&*self.disk.packs, pack_name(id).as_str(), flags, Mode::from_raw_mode(0o644))?;
        self.open = Some(Open { id, file: File::from(fd), bytes: 0 });
        Ok(())
    }
}

/// Writes how far packs reach by now.
pub async fn note_packs(conn: &mut sqlx::SqliteConnection, packs: &[(i64, u64)]) -> Result<()> {
    sqlx::query(
        "INSERT INTO packs (id, org, bytes) SELECT value->>0, 1, value->>1 FROM json_each(?) WHERE true
         ON CONFLICT DO UPDATE SET bytes = max(bytes, excluded.bytes)",
    )
    .bind(serde_json::to_string(packs).unwrap_or_default())
    .execute(conn)
    .await?;
    Ok(())
}

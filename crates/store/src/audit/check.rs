//! Whether all is as it should be: the record's chain, and the bytes of the past.

use crate::fs::disk::{Disk, content_name, unhex};
use crate::fs::error::{Result, StoreError};
use crate::fs::fault_points::AllSteps;
use crate::fs::staging::hash_file;
use crate::people::record::{Anchors, RecordCheck, follow_chain};
use async_recursion::async_recursion as boxed;
use std::collections::{BTreeSet, HashSet};
use std::path::Path;
use std::sync::Arc;
use yellow_attic_core::ContentId;

/// Hears how many bytes have been read, and says whether it goes on.
pub type Hears = Box<dyn FnMut(u64) -> bool + Send>;

/// What a check found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Check {
    /// The record's chain.
    pub record: RecordCheck,
    /// Past contents hashed.
    pub past: u64,
    /// Their bytes.
    pub past_bytes: u64,
    /// Those that are not what their name says, or that were set aside for that; by file name.
    pub damaged: Vec<String>,
    /// Past contents that the catalogue knows and the disk does not have.
    pub missing: Vec<String>,
    /// What the service noticed and left to a person, newest first, at most 1,000.
    pub findings: Vec<Finding>,
}

/// Something noticed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// When, in milliseconds.
    pub at: i64,
    /// What kind of thing.
    pub kind: String,
    /// In words.
    pub detail: String,
}

impl Check {
    /// Whether nothing is wrong. Findings alone do not count: they tell of what was kept.
    pub fn is_sound(&self) -> bool {
        self.record.broken.is_none() && self.damaged.is_empty() && self.missing.is_empty()
    }
}

/// Checks the record alone.
#[boxed]
pub async fn check_record(data: &Path, anchors: Anchors) -> Result<RecordCheck> {
    if !data.join("catalogue.db").is_file() {
        return Err(StoreError::NotFound(format!("A catalogue in {}", data.display())));
    }
    let pool = crate::catalogue::db::open_readers(&data.join("catalogue.db")).await?;
    let found = follow_chain(&pool, &anchors).await;
    pool.close().await;
    found
}

impl crate::engine::Engine {
    /// Puts past contents right that a check found damaged or missing, from folders with backups. Returns how many of them.
    #[boxed]
    pub async fn heal_past(&self, found: &Check, from: &[std::path::PathBuf]) -> Result<u64> {
        let mut healed = 0;
        for hash in found.damaged.iter().chain(&found.missing).filter_map(|name| unhex(name)) {
            for folder in from {
                let Ok(file) = std::fs::File::open(folder.join(crate::fs::disk::content_place(&hash))) else {
                    continue;
                };
                let shared = self.shared.clone();
                let done = tokio::task::spawn_blocking(move || {
                    crate::files::past::heal_past(&shared.disk, &shared.staging, &hash, file)
                });
                let done = done.await.map_err(|_| StoreError::Stopping)?;
                if done.map_err(|e| StoreError::io("putting a past state right", &e))? {
                    healed += 1;
                    let detail = format!(
                        "a past state was damaged or missing, and is as it was again, from a backup: past/{}",
                        crate::fs::disk::hex(&hash)
                    );
                    self.ask(crate::ops::record::Finding { kind: "damage healed", node: None, detail })
                        .await?;
                    break;
                }
            }
        }
        Ok(healed)
    }

    /// What was noticed on the disk and left to a person, newest first.
    #[boxed]
    pub async fn findings(&self, most: i64) -> Result<Vec<Finding>> {
        let found: Vec<(i64, String, String)> =
            sqlx::query_as("SELECT at, kind, detail FROM findings ORDER BY id DESC LIMIT ?")
                .bind(most)
                .fetch_all(&self.shared.view.pool)
                .await?;
        Ok(found.into_iter().map(|(at, kind, detail)| Finding { at, kind, detail }).collect())
    }

    /// Notes for the desk, once, that somebody met a damaged row.
    #[boxed]
    pub async fn note_damaged_row(&self, detail: &str) -> Result<()> {
        const KIND: &str = "damaged row";
        let _one = self.shared.noting.lock().await;
        let known: bool =
            sqlx::query_scalar("SELECT EXISTS (SELECT 1 FROM findings WHERE kind = ? AND detail = ?)")
                .bind(KIND)
                .bind(detail)
                .fetch_one(&self.shared.view.pool)
                .await?;
        if known {
            return Ok(());
        }
        self.ask(crate::ops::record::Finding { kind: KIND, node: None, detail: detail.to_string() }).await
    }
}

/// Checks a data folder, whether or not a service has it open. Changes nothing. `progress`
/// hears how many bytes have been hashed, and says whether it goes on.
#[boxed]
pub async fn check(data: &Path, anchors: Anchors, progress: Hears) -> Result<Check> {
    if !data.join("catalogue.db").is_file() {
        return Err(StoreError::NotFound(format!("A catalogue in {}", data.display())));
    }
    let pool = crate::catalogue::db::open_readers(&data.join("catalogue.db")).await?;
    let record = follow_chain(&pool, &anchors).await?;
    let noticed: Vec<(i64, String, String)> =
        sqlx::query_as("SELECT at, kind, detail FROM findings ORDER BY id DESC LIMIT 1000")
            .fetch_all(&pool)
            .await?;
    let disk = Arc::new(Disk::open(data, Arc::new(AllSteps))?);
    let mut found = Hashed { progress: Some(progress), ..Hashed::default() };
    // Part by part: all hashes at once would take memory by the gigabyte.
    for shard in shards_of(&disk).map_err(|e| StoreError::io("checking the past", &e))? {
        let known = hashes_of(&pool, &shard).await?;
        let disk = disk.clone();
        found = off_the_runtime(move || found.hash_shard(&disk, &shard, known)).await?;
    }
    let packs: Vec<i64> =
        sqlx::query_scalar("SELECT DISTINCT pack FROM chunks ORDER BY pack").fetch_all(&pool).await?;
    for pack in packs {
        type ChunkRow = (Vec<u8>, i64, i64, i64, i64);
        let chunks: Vec<ChunkRow> =
            sqlx::query_as("SELECT hash, pack, at, stored, size FROM chunks WHERE pack = ? ORDER BY at")
                .bind(pack)
                .fetch_all(&pool)
                .await?;
        let disk = disk.clone();
        found = off_the_runtime(move || {
            let done = found.bytes;
            let open = |name: &str| Ok(disk.open_file(&*disk.packs, name)?.0);
            let packs = crate::files::packs::check_packs(&open, &chunks, &mut |n| found.tell(done + n));
            found.bytes += packs.bytes;
            found.damaged.extend(packs.damaged);
            Ok(found)
        })
        .await?;
    }
    // What a service is filing while we look is no loss: look for it on its way.
    let mut missing = Vec::new();
    for hash in found.missing {
        let ids: Vec<i64> = sqlx::query_scalar("SELECT id FROM contents WHERE hash = ? AND state = 1")
            .bind(unhex(&hash).unwrap_or_default().to_vec())
            .fetch_all(&pool)
            .await?;
        let owed: i64 =
            sqlx::query_scalar("SELECT count(*) FROM marks WHERE id > (SELECT placed FROM heads)")
                .fetch_one(&pool)
                .await?;
        let on_its_way = |id: &i64| {
            let name = content_name(ContentId(*id));
            data.join("past/incoming").join(&name).exists() || data.join("staging").join(&name).exists()
        };
        let packed: i64 = sqlx::query_scalar("SELECT count(*) FROM packed WHERE hash = ?")
            .bind(unhex(&hash).unwrap_or_default().to_vec())
            .fetch_one(&pool)
            .await?;
        let there = packed > 0 || data.join("past").join(&hash[..2]).join(&hash).exists();
        if !ids.is_empty() && !there && owed == 0 && !ids.iter().any(on_its_way) {
            missing.push(hash);
        }
    }
    found.damaged.sort();
    pool.close().await;
    Ok(Check {
        record,
        past: found.files,
        past_bytes: found.bytes,
        damaged: found.damaged,
        missing,
        findings: noticed.into_iter().map(|(at, kind, detail)| Finding { at, kind, detail }).collect(),
    })
}

async fn off_the_runtime(work: impl FnOnce() -> std::io::Result<Hashed> + Send + 'static) -> Result<Hashed> {
    let done = tokio::task::spawn_blocking(work).await.map_err(|_| StoreError::Stopping)?;
    match done.map_err(|e| StoreError::io("checking the past", &e))? {
        hashed if hashed.stopped => Err(StoreError::Stopped),
        hashed => Ok(hashed),
    }
}

/// The folders that past bytes lie in, whether or not they are there: by the first two digits of their hashes.
fn shards_of(disk: &Disk) -> std::io::Result<BTreeSet<String>> {
    let there = disk.names(&disk.past)?.into_iter().filter_map(|name| String::from_utf8(name).ok());
    Ok(there.filter(|name| name.len() == 2).chain((0..=255u8).map(|n| format!("{n:02x}"))).collect())
}

/// What the catalogue knows to lie in one of them.
async fn hashes_of(pool: &sqlx::SqlitePool, shard: &str) -> Result<HashSet<[u8; 32]>> {
    let Ok(first) = u8::from_str_radix(shard, 16) else { return Ok(HashSet::new()) };
    let next = first.checked_add(1).map(|next| vec![next]);
    let known: Vec<Vec<u8>> = sqlx::query_scalar(
        "SELECT DISTINCT hash FROM contents WHERE state = 1 AND hash >= ?1 AND (?2 IS NULL OR hash < ?2)",
    )
    .bind(vec![first])
    .bind(next)
    .fetch_all(pool)
    .await?;
    Ok(known.into_iter().filter_map(|hash| hash.try_into().ok()).collect())
}

#[derive(Default)]
struct Hashed {
    files: u64,
    bytes: u64,
    damaged: Vec<String>,
    missing: Vec<String>,
    progress: Option<Hears>,
    stopped: bool,
}

impl Hashed {
    fn tell(&mut self, bytes: u64) {
        if let Some(progress) = &mut self.progress {
            self.stopped |= !progress(bytes);
        }
    }

    fn hash_shard(
        mut self,
        disk: &Disk,
        shard: &str,
        mut wanted: HashSet<[u8; 32]>,
    ) -> std::io::Result<Hashed> {
        let dir = match disk.open_dir(&disk.past, shard) {
            Ok(dir) => Some(dir),
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => None,
            Err(e) => return Err(e),
        };
        let names = dir.as_ref().map_or(Ok(Vec::new()), |dir| disk.names(dir))?;
        for (name, dir) in names.into_iter().zip(dir.iter().cycle()) {
            let Ok(name) = String::from_utf8(name) else { continue };
            let Some(hash) = unhex(&name) else {
                self.damaged.push(name);
                continue;
            };
            let (mut file, _) = match disk.open_file(dir, &name) {
                Ok(opened) => opened,
                // Filed elsewhere or no longer needed since the names were read.
                Err(e) if e.kind() == std::io::ErrorKind::NotFound => continue,
                Err(e) => return Err(e),
            };
            let (got, size) = hash_file(&mut file)?;
            self.files += 1;
            self.bytes += size;
            self.tell(self.bytes);
            if self.stopped {
                return Ok(self);
            }
            wanted.remove(&hash);
            if got != hash {
                self.damaged.push(name);
            }
        }
        // On their way into the past, or in a removed folder that is still whole.
        self.missing.extend(wanted.iter().map(|hash| crate::fs::disk::hex(hash)));
        Ok(self)
    }
}

//! Small past contents gathered in packs. As a file each they would use up what a disk has of inodes long before its space, and take a
//! block each; for the first day they stay as they are, because most of what is let go is let go by then.
//!
//! The order of steps is that of [`crate::files::packs`], for many at once.

use crate::files::packer::Packer;
use crate::files::packs::{Packs, chunk_at};
use crate::files::past::{Past, open_past};
use crate::fs::disk::{Plain, hex, unhex};
use crate::fs::error::{Result, StoreError};
use std::collections::{HashMap, HashSet};
use std::io::{self, Read};
use std::time::SystemTime;
use yellow_attic_core::chunking::{WORTH, write_recipe};

/// So many are packed by one sync and one transaction.
const LOT: usize = 256;
/// Fewer than this are not worth it: they wait for more.
const FEW: usize = 32;
/// The most bytes of a lot.
const BYTES: i64 = 16 << 20;

/// A small content that has been past for long enough.
struct Small {
    hash: [u8; 32],
    size: i64,
}

/// The recipe of a content of one chunk, and that chunk.
type OfOne = (Vec<u8>, i64);

impl Packer {
    /// Packs the small contents that have lain in the past for long enough.
    pub fn gather(&mut self) -> Result<()> {
        let io = |e: &io::Error| StoreError::io("gathering small past contents", e);
        let mut lot: Vec<Small> = Vec::new();
        for shard in self.disk.names(&*self.disk.past).map_err(|e| io(&e))? {
            let Ok(shard) = String::from_utf8(shard) else { continue };
            if shard.len() != 2 {
                continue;
            }
            let dir = self.disk.open_dir(&*self.disk.past, &shard).map_err(|e| io(&e))?;
            for name in self.disk.names(&dir).map_err(|e| io(&e))? {
                let Ok(name) = String::from_utf8(name) else { continue };
                let Some(hash) = unhex(&name) else { continue };
                let look = crate::fs::disk::look(&dir, &name).map_err(|e| io(&e))?;
                let Some(look) = look.filter(|l| l.kind == Plain::File && l.size < WORTH) else { continue };
                if !self.is_old(look.changed) {
                    continue;
                }
                lot.push(Small { hash, size: look.size });
                if lot.len() == LOT || lot.iter().map(|small| small.size).sum::<i64>() >= BYTES {
                    self.pack_small(std::mem::take(&mut lot))?;
                }
                if self.packing.stopped() {
                    return Err(StoreError::Stopping);
                }
            }
        }
        match lot.len() >= FEW {
            true => self.pack_small(lot),
            false => Ok(()),
        }
    }

    /// Whether something was changed last (its name included) so long ago that it counts as settled.
    fn is_old(&self, changed: i64) -> bool {
        let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
        now.as_millis() as i64 - changed >= self.gather_after
    }

    fn pack_small(&mut self, lot: Vec<Small>) -> Result<()> {
        if self.staging.check_room(lot.iter().map(|small| small.size.max(0) as u64).sum()).is_err() {
            return Ok(());
        }
        self.append_small(&lot)?;
        let sound = self.read_back(&lot)?;
        self.drop_wholes(sound)
    }

    /// Writes those that are not packed yet as a chunk each, and says so in the catalogue.
    fn append_small(&mut self, lot: &[Small]) -> Result<()> {
        let packed: HashSet<[u8; 32]> = self.recipes_of(lot)?.into_keys().collect();
        let todo: Vec<&Small> = lot.iter().filter(|small| !packed.contains(&small.hash)).collect();
        let there = self.known(&todo.iter().map(|small| small.hash).collect::<Vec<_>>())?;
        let mut next: i64 = self.handle.block_on(
            sqlx::query_scalar("SELECT coalesce(max(id), 0) FROM chunks").fetch_one(&self.view.pool),
        )?;
        let (mut chunks, mut recipes) = (Vec::new(), Vec::new());
        let mut touched: HashMap<i64, u64> = HashMap::new();
        for small in todo {
            let io = |e: &io::Error| StoreError::io(format!("packing {}", hex(&small.hash)), e);
            let id = match there.get(&small.hash) {
                Some(id) => *id,
                None => {
                    let Past::Sound(whole) =
                        open_past(&self.disk, &small.hash, small.size).map_err(|e| io(&e))?
                    else {
                        continue;
                    };
                    let mut bytes = Vec::with_capacity(small.size.max(0) as usize);
                    whole.take(WORTH as u64).read_to_end(&mut bytes).map_err(|e| io(&e))?;
                    if *blake3::hash(&bytes).as_bytes() != small.hash {
                        tracing::error!(
                            hash = hex(&small.hash),
                            "past bytes are damaged; they are not packed"
                        );
                        continue;
                    }
                    let short = zstd::bulk::compress(&bytes, 3).map_err(|e| io(&e))?;
                    let stored = if short.len() * 100 <= bytes.len() * 97 { &short } else { &bytes };
                    let (pack, at) = self.append(&small.hash, stored, bytes.len()).map_err(|e| io(&e))?;
                    touched.insert(pack, at as u64 + stored.len() as u64);
                    next += 1;
                    chunks.push((next, hex(&small.hash), pack, at, stored.len() as i64, bytes.len() as i64));
                    next
                }
            };
            recipes.push((hex(&small.hash), small.size, hex(&write_recipe(&[id]))));
        }
        if recipes.is_empty() {
            return Ok(());
        }
        self.note_chunks(touched, &chunks, &recipes)
    }

    /// The recipes that there are, each with its only chunk; none of those that consist of more.
    fn recipes_of(&self, lot: &[Small]) -> Result<HashMap<[u8; 32], OfOne>> {
        let list: Vec<String> = lot.iter().map(|small| hex(&small.hash)).collect();
        let found: Vec<(Vec<u8>, Vec<u8>)> = self.handle.block_on(
            sqlx::query_as(
                "SELECT p.hash, p.recipe FROM json_each(?) j CROSS JOIN packed p WHERE p.org = 1 AND p.hash = unhex(j.value)",
            )
            .bind(serde_json::to_string(&list).unwrap_or_default())
            .fetch_all(&self.view.pool),
        )?;
        let one = |(hash, recipe): (Vec<u8>, Vec<u8>)| {
            let runs = yellow_attic_core::chunking::read_recipe(&recipe)?;
            match runs[..] {
                [(id, 1)] => Some((hash.try_into().ok()?, (recipe, id))),
                _ => None,
            }
        };
        Ok(found.into_iter().filter_map(one).collect())
    }

    /// Reads what was packed back from the packs: those that are what their hash says, each with its recipe.
    fn read_back(&self, lot: &[Small]) -> Result<Vec<([u8; 32], Vec<u8>)>> {
        let recipes = self.recipes_of(lot)?;
        let ids: Vec<i64> = recipes.values().map(|(_, id)| *id).collect();
        let rows: Vec<(i64, Vec<u8>, i64, i64, i64, i64)> = self.handle.block_on(
            sqlx::query_as(
                "SELECT c.id, c.hash, c.pack, c.at, c.stored, c.size FROM json_each(?) j CROSS JOIN chunks c WHERE c.id = j.value",
            )
            .bind(serde_json::to_string(&ids).unwrap_or_default())
            .fetch_all(&self.view.pool),
        )?;
        let mut packs = Packs::default();
        let mut sound = HashSet::new();
        for (id, hash, pack, at, stored, size) in rows {
            let chunk = chunk_at(&hash, pack, at, stored, size)?;
            match packs.read(&self.disk, &chunk) {
                Ok(_) => drop(sound.insert((id, hash))),
                Err(error) => tracing::error!(%error, "a chunk cannot be read; the whole is kept"),
            }
        }
        let whole = recipes.into_iter().filter(|(hash, (_, id))| sound.contains(&(*id, hash.to_vec())));
        Ok(whole.map(|(hash, (recipe, _))| (hash, recipe)).collect())
    }

    /// The files of those that are in packs go. Nobody else drops a recipe, or relies on a whole anew, while this is held.
    fn drop_wholes(&self, sound: Vec<([u8; 32], Vec<u8>)>) -> Result<()> {
        let _filing = self.disk.filing.lock();
        let list: Vec<(String, String)> =
            sound.iter().map(|(hash, recipe)| (hex(hash), hex(recipe))).collect();
        let still: Vec<String> = self.handle.block_on(
            sqlx::query_scalar(
                "SELECT j.value->>0 FROM json_each(?) j CROSS JOIN packed p
                 WHERE p.org = 1 AND p.hash = unhex(j.value->>0) AND p.recipe = unhex(j.value->>1)",
            )
            .bind(serde_json::to_string(&list).unwrap_or_default())
            .fetch_all(&self.view.pool),
        )?;
        for text in still {
            let io = |e: &io::Error| StoreError::io(format!("packing {text}"), e);
            let dir = self.disk.past_dir(&text).map_err(|e| io(&e))?;
            match self.disk.unlink(&dir, &text, false) {
                Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(io(&e)),
                _ => {}
            }
        }
        Ok(())
    }
}

//! Packs tidied: chunks that no recipe names go, and packs that hold little are written anew. All there is is looked at, some at
//! a time, outside the writer.

use crate::catalogue::rows::hash_of;
use crate::files::packer::{Packer, note_packs};
use crate::files::packs::{drop_recipes, pack_name};
use crate::fs::disk::hex;
use crate::fs::error::{Result, StoreError};
use std::collections::HashMap;
use std::io;
use std::os::unix::fs::FileExt;
use std::sync::atomic::Ordering;
use yellow_attic_core::chunking::read_recipe;

/// A pack of which less than this share is needed is written anew.
const WORTH_TIDYING: (u64, u64) = (2, 3);

/// Recipes read in one go.
const RECIPES: i64 = 2_000;

/// Of a content in packs: its hash, its recipe, whether something needs it.
type Recipe = (Vec<u8>, Vec<u8>, i64);

impl Packer {
    /// Drops chunks that no recipe names, and takes back the space of packs that hold little.
    pub fn tidy(&mut self) -> Result<()> {
        let packing = self.packing.clone();
        let _tidying = packing.0.tidying.lock();
        if self.disk.past_stays.is_held() {
            packing.0.tidy.store(true, Ordering::SeqCst);
            return Ok(());
        }
        self.drop_needless_recipes()?;
        let last: i64 = self.handle.block_on(
            sqlx::query_scalar("SELECT coalesce(max(id), 0) FROM chunks").fetch_one(&self.view.pool),
        )?;
        let mut needed = vec![0u64; last as usize / 64 + 1];
        self.each_recipe(|packer, lot| {
            for (_, recipe, _) in lot {
                let runs =
                    read_recipe(recipe).ok_or_else(|| StoreError::Catalogue("a recipe is damaged".into()))?;
                for (first, n) in runs {
                    for id in first..first + n as i64 {
                        if let Some(word) = needed.get_mut(id as usize / 64) {
                            *word |= 1 << (id % 64);
                        }
                    }
                }
            }
            if packer.packing.stopped() { Err(StoreError::Stopping) } else { Ok(()) }
        })?;
        let is_needed = |id: i64| needed.get(id as usize / 64).is_some_and(|w| w >> (id % 64) & 1 == 1);
        let mut after = 0i64;
        loop {
            let ids: Vec<i64> = self.handle.block_on(
                sqlx::query_scalar("SELECT id FROM chunks WHERE id > ? ORDER BY id LIMIT 50000")
                    .bind(after)
                    .fetch_all(&self.view.pool),
            )?;
            let Some(end) = ids.last().copied() else { break };
            let needless: Vec<i64> = ids.into_iter().filter(|id| !is_needed(*id)).collect();
            for part in needless.chunks(2000) {
                let list = serde_json::to_string(part).unwrap_or_default();
                self.write(move |conn| {
                    Box::pin(async move {
                        sqlx::query("DELETE FROM chunks WHERE id IN (SELECT value FROM json_each(?))")
                            .bind(list)
                            .execute(conn)
                            .await?;
                        Ok(())
                    })
                })?;
            }
            after = end;
        }
        let packs: Vec<(i64, i64, i64)> = self.handle.block_on(
            sqlx::query_as(
                "SELECT p.id, p.bytes, coalesce(sum(c.stored + 40), 0) FROM packs p LEFT JOIN chunks c ON c.pack = p.id
                 GROUP BY p.id",
            )
            .fetch_all(&self.view.pool),
        )?;
        let open = self.open.as_ref().map(|o| o.id);
        for (id, bytes, live) in packs {
            if self.packing.stopped() {
                return Err(StoreError::Stopping);
            }
            // Somebody has begun to copy packs: the rest another time.
            if self.disk.past_stays.is_held() {
                packing.0.tidy.store(true, Ordering::SeqCst);
                return Ok(());
            }
            if live as u64 * WORTH_TIDYING.1 < bytes as u64 * WORTH_TIDYING.0 {
                if open == Some(id) {
                    self.open = None;
                }
                self.rewrite(id)?;
            }
        }
        Ok(())
    }

    /// What was let go while it was packed, or before a stop: nobody else finds it.
    fn drop_needless_recipes(&mut self) -> Result<()> {
        self.each_recipe(|packer, lot| {
            let needless: Vec<String> =
                lot.iter().filter(|(.., needed)| *needed == 0).map(|(hash, ..)| hex(hash)).collect();
            if needless.is_empty() {
                return Ok(());
            }
            let list = serde_json::to_string(&needless).unwrap_or_default();
            packer.write(move |conn| Box::pin(drop_recipes(conn, list)))
        })
    }

    /// Goes through all recipes, some at a time.
    fn each_recipe(&self, mut does: impl FnMut(&Packer, &[Recipe]) -> Result<()>) -> Result<()> {
        let mut after: Vec<u8> = Vec::new();
        loop {
            let lot: Vec<Recipe> = self.handle.block_on(
                sqlx::query_as(
                    "SELECT hash, recipe, EXISTS (SELECT 1 FROM contents c WHERE c.hash = packed.hash AND c.state = 1)
                     FROM packed WHERE org = 1 AND hash > ? ORDER BY hash LIMIT ?",
                )
                .bind(after)
                .bind(RECIPES)
                .fetch_all(&self.view.pool),
            )?;
            let Some((last, ..)) = lot.last() else { return Ok(()) };
            after = last.clone();
            does(self, &lot)?;
        }
    }

    /// Writes what is needed of a pack to another one, then drops it.
    pub fn rewrite(&mut self, pack: i64) -> Result<()> {
        let io = |e: &io::Error| StoreError::io("tidying a pack", e);
        type ChunkRow = (i64, Vec<u8>, i64, i64, i64);
        let chunks: Vec<ChunkRow> = self.handle.block_on(
            sqlx::query_as("SELECT id, hash, at, stored, size FROM chunks WHERE pack = ? ORDER BY at")
                .bind(pack)
                .fetch_all(&self.view.pool),
        )?;
        let mut moved = Vec::with_capacity(chunks.len());
        let mut touched: HashMap<i64, u64> = HashMap::new();
        if !chunks.is_empty() {
            let (from, _) = self.disk.open_file(&*self.disk.packs, &pack_name(pack)).map_err(|e| io(&e))?;
            for (id, hash, at, stored, size) in chunks {
                let mut bytes = vec![0; stored.max(0) as usize];
                from.read_exact_at(&mut bytes, at as u64).map_err(|e| io(&e))?;
                let hash = hash_of(&hash, &format!("chunk {id}"))?;
                let (to, at) = self.append(&hash, &bytes, size.max(0) as usize).map_err(|e| io(&e))?;
                touched.insert(to, at as u64 + stored as u64);
                moved.push((id, to, at));
            }
            if let Some(open) = &self.open {
                self.disk.sync(&open.file).map_err(|e| io(&e))?;
                self.disk.sync(&*self.disk.packs).map_err(|e| io(&e))?;
            }
        }
        let packs: Vec<(i64, u64)> = touched.into_iter().collect();
        let moved = serde_json::to_string(&moved).unwrap_or_default();
        self.disk.step("tidy a pack").map_err(|e| io(&e))?;
        self.write(move |conn| {
            Box::pin(async move {
                note_packs(conn, &packs).await?;
                sqlx::query(
                    "UPDATE chunks SET pack = j.value->>1, at = j.value->>2 FROM json_each(?) j WHERE chunks.id = j.value->>0",
                )
                .bind(moved)
                .execute(&mut *conn)
                .await?;
                sqlx::query("DELETE FROM packs WHERE id = ?").bind(pack).execute(conn).await?;
                Ok(())
            })
        })?;
        match self.disk.unlink(&*self.disk.packs, &pack_name(pack), false) {
            Err(e) if e.kind() != io::ErrorKind::NotFound => Err(io(&e)),
            _ => Ok(()),
        }
    }
}

//! Whether what a group of operations brings still fits below every line.

use crate::fs::error::Result;
use crate::fs::model::{Shelf, ShelfKind};
use crate::rights::quota::{Counts, over};
use crate::txn::write_txn::{WriteTxn, shelf_word};
use std::collections::HashSet;
use yellow_attic_core::NodeId;

impl WriteTxn {
    /// Refuses what would pass a line above `parent`. `from`: where the same bytes counted until now;
    /// what counts there already is counted once. What is there already is never refused.
    pub async fn need_space(
        &mut self,
        parent: NodeId,
        from: Option<NodeId>,
        arriving: i64,
        replaced: i64,
    ) -> Result<()> {
        if !self.access.has_lines() {
            return Ok(());
        }
        let counts = Counts::of(self.access.rules());
        // What is replaced goes on counting where versions do.
        let more = if counts.versions { arriving } else { arriving - replaced };
        if more <= 0 {
            return Ok(());
        }
        let mut already = HashSet::new();
        let mut next = from;
        while let Some(node) = next {
            already.insert(node);
            next = self.row(node).await?.and_then(|r| r.parent);
        }
        let mut next = Some(parent);
        while let Some(node) = next {
            let Some(row) = self.row(node).await? else { return Ok(()) };
            next = row.parent;
            if already.contains(&node) {
                return Ok(());
            }
            if let Some(hard) = self.access.folder_lines(node).and_then(|l| l.hard) {
                let used = self.folder(node).await?.map_or(0, |f| counts.count(&f, 0));
                if used.saturating_add(more as u64) > hard {
                    let name = format!("the folder {}", self.folder_path(node).await?);
                    return Err(over(&name, hard, used, 0, more as u64));
                }
            }
            if next.is_none()
                && let Some(its) = self.shelves.get(&row.shelf).cloned()
                && let Some(hard) = self.access.line(&its)
            {
                let used = self.used(&its, counts).await?;
                if used.saturating_add(more as u64) > hard {
                    return Err(over(&shelf_word(&its), hard, used, 0, more as u64));
                }
            }
        }
        if let (Some(hard), None) = (self.access.whole_lines().hard, from) {
            let used = self.whole_used(counts).await?;
            if used.saturating_add(more as u64) > hard {
                return Err(over("the organisation", hard, used, 0, more as u64));
            }
        }
        Ok(())
    }

    async fn used(&mut self, shelf: &Shelf, counts: Counts) -> Result<u64> {
        let only = self.access.only_snapshots(shelf.id);
        let mut used = self.folder(shelf.root).await?.map_or(0, |f| counts.count(&f, only));
        if let (true, ShelfKind::Home, Some(owner)) = (counts.given, shelf.kind, shelf.owner) {
            for node in self.access.given_to(owner) {
                let Some(row) = self.row(node).await? else { continue };
                if row.shelf != shelf.id {
                    let sums = self.folder(node).await?.map_or(row.size(), |f| f.bytes);
                    used = used.saturating_add(sums.max(0) as u64);
                }
            }
        }
        Ok(used)
    }

    async fn whole_used(&mut self, counts: Counts) -> Result<u64> {
        if counts == Counts::default() {
            return Ok(self.whole().await?.max(0) as u64);
        }
        let shelves: Vec<_> = self.shelves.values().cloned().collect();
        let mut used = 0;
        for shelf in shelves {
            let only = self.access.only_snapshots(shelf.id);
            used += self.folder(shelf.root).await?.map_or(0, |f| counts.count(&f, only));
        }
        Ok(used)
    }
}

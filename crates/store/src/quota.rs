//! Space spoken for: an upload claims its bytes when it begins, so that parallel ones cannot pass a
//! quota together. What counts is the logical bytes that are live on the shelf; at the commit
//! they are counted once more, exactly.

use crate::engine::Engine;
use crate::error::{Result, StoreError};
use parking_lot::Mutex;
use std::collections::HashMap;
use std::sync::Arc;
use yellow_attic_core::{NodeId, ShelfId};

/// What is spoken for, by shelf.
#[derive(Clone, Default)]
pub(crate) struct Claims(Arc<Mutex<HashMap<ShelfId, u64>>>);

/// Space spoken for, until this is dropped: after the commit, or when the upload ended otherwise.
#[must_use]
pub struct Claim {
    of: Option<Claimed>,
}

struct Claimed {
    claims: Claims,
    shelf: ShelfId,
    name: String,
    line: u64,
    /// On the shelf when the claim was made.
    used: u64,
    bytes: u64,
    /// What the new bytes take the place of.
    replaced: u64,
}

impl Claim {
    /// Claims more: for a body whose length nobody announced.
    pub fn grow(&mut self, bytes: u64) -> Result<()> {
        let Some(of) = &mut self.of else { return Ok(()) };
        let before = of.bytes.saturating_sub(of.replaced);
        let after = of.bytes.saturating_add(bytes).saturating_sub(of.replaced);
        of.claims.take(of.shelf, &of.name, of.line, of.used, after - before)?;
        of.bytes = of.bytes.saturating_add(bytes);
        Ok(())
    }
}

impl Drop for Claimed {
    fn drop(&mut self) {
        let held = self.bytes.saturating_sub(self.replaced);
        let mut claims = self.claims.0.lock();
        if let Some(all) = claims.get_mut(&self.shelf) {
            *all = all.saturating_sub(held);
            if *all == 0 {
                claims.remove(&self.shelf);
            }
        }
    }
}

impl Claims {
    fn take(&self, shelf: ShelfId, name: &str, line: u64, used: u64, bytes: u64) -> Result<()> {
        let mut claims = self.0.lock();
        let claimed = claims.get(&shelf).copied().unwrap_or(0);
        if bytes > 0 && used.saturating_add(claimed).saturating_add(bytes) > line {
            return Err(over(name, line, used, claimed, bytes));
        }
        if bytes > 0 {
            *claims.entry(shelf).or_default() += bytes;
        }
        Ok(())
    }

    fn claimed(&self, shelf: ShelfId) -> u64 {
        self.0.lock().get(&shelf).copied().unwrap_or(0)
    }
}

pub(crate) fn over(shelf: &str, line: u64, used: u64, claimed: u64, wanted: u64) -> StoreError {
    StoreError::QuotaFull { shelf: shelf.trim_end_matches(':').to_string(), line, used, claimed, wanted }
}

/// How full a shelf is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Fullness {
    /// The most bytes it may hold.
    pub line: Option<u64>,
    /// Live bytes on it.
    pub used: u64,
    /// Bytes of uploads that have begun.
    pub claimed: u64,
}

impl Engine {
    /// Speaks for bytes that will be put into a folder, in the place of `replaced` bytes. Refused if
    /// its shelf could not hold them.
    pub async fn claim(&self, parent: NodeId, bytes: u64, replaced: u64) -> Result<Claim> {
        self.claim_with(parent, bytes, replaced, true).await
    }

    /// The same for an upload found at a start: it was let in once, and nobody asks again.
    pub(crate) async fn claim_again(&self, parent: NodeId, bytes: u64) -> Result<Claim> {
        self.claim_with(parent, bytes, 0, false).await
    }

    async fn claim_with(&self, parent: NodeId, bytes: u64, replaced: u64, ask: bool) -> Result<Claim> {
        let none = Claim { of: None };
        let Some(chain) = self.shared.view.chain(parent).await? else { return Ok(none) };
        let Some(shelf) = chain.last().and_then(|top| self.shared.view.shelf(top.shelf)) else {
            return Ok(none);
        };
        let Some(line) = self.shared.view.access().line(&shelf) else { return Ok(none) };
        let used = self.shared.view.folder(shelf.root).await?.map_or(0, |f| f.bytes.max(0) as u64);
        let mut claimed = Claimed {
            claims: self.shared.claims.clone(),
            shelf: shelf.id,
            name: crate::book::shelf_word(&shelf),
            line: if ask { line } else { u64::MAX },
            used,
            bytes: 0,
            replaced,
        };
        claimed.claims.take(shelf.id, &claimed.name, claimed.line, used, bytes.saturating_sub(replaced))?;
        claimed.bytes = bytes;
        Ok(Claim { of: Some(claimed) })
    }

    /// How full a shelf is, and what is spoken for.
    pub async fn fullness(&self, shelf: &crate::model::Shelf) -> Result<Fullness> {
        let used = self.shared.view.folder(shelf.root).await?.map_or(0, |f| f.bytes.max(0) as u64);
        Ok(Fullness {
            line: self.shared.view.access().line(shelf),
            used,
            claimed: self.shared.claims.claimed(shelf.id),
        })
    }
}

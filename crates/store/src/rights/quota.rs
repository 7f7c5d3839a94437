//! Quotas: lines that a shelf, a folder, an account's home and the organisation may not pass. All that
//! apply hold at once.
//!
//! An upload claims its bytes when it begins, so that parallel ones cannot pass a line together; at
//! the commit they are counted once more, exactly. What counts is a rule: live logical bytes, and
//! beside them versions, trash, what only snapshots keep, and what others gave.

use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Folder, Shelf, ShelfKind};
use crate::rights::access::Access;
use parking_lot::Mutex;
use std::collections::HashMap;
use std::sync::Arc;
use yellow_attic_core::rights::Subject;
use yellow_attic_core::rules::{Rule, Rules, Value};
use yellow_attic_core::{AccountId, NodeId, ShelfId};

/// Whose line it is. A home's line is its account's.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum LineOf {
    /// The whole organisation.
    Organisation,
    /// A shelf: shared, or the home of an account.
    Shelf(ShelfId),
    /// A folder.
    Folder(NodeId),
}

/// Lines that are set somewhere.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Lines {
    /// From here on people are warned, and can go on.
    pub soft: Option<u64>,
    /// Nothing passes this one.
    pub hard: Option<u64>,
}

/// What counts beside what is there now.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Counts {
    /// Earlier versions.
    pub versions: bool,
    /// What was removed.
    pub trash: bool,
    /// Of these, what only a snapshot keeps.
    pub snapshots: bool,
    /// What others gave to an account itself.
    pub given: bool,
}

impl Counts {
    /// As the rules say.
    pub fn of(rules: &Rules) -> Counts {
        let Value::Words(words) = rules.decide(Rule::QuotaCounts, &[]).value else {
            return Counts::default();
        };
        let has = |word: &str| words.contains(word);
        Counts {
            versions: has("versions"),
            trash: has("trash"),
            snapshots: has("snapshots"),
            given: has("given"),
        }
    }

    /// What counts of a folder. `only_snapshots`: the past bytes beneath it that only snapshots keep.
    pub fn count(self, folder: &Folder, only_snapshots: i64) -> u64 {
        let versions = folder.past_bytes - folder.trash_bytes;
        let mut past = 0;
        past += if self.versions { versions } else { 0 };
        past += if self.trash { folder.trash_bytes } else { 0 };
        if self.snapshots && past < only_snapshots {
            past = only_snapshots;
        } else if !self.snapshots && past > 0 {
            past = (past - only_snapshots).max(0);
        }
        (folder.bytes + past).max(0) as u64
    }
}

/// What is spoken for, by line.
#[derive(Clone, Default)]
pub(crate) struct Claims(Arc<Mutex<HashMap<LineOf, u64>>>);

/// Space spoken for, until this is dropped: after the commit, or when the upload ended otherwise.
#[must_use]
#[derive(Default)]
pub struct Claim {
    of: Vec<Claimed>,
}

/// A line that is to be claimed on.
pub(crate) struct Full {
    pub line: LineOf,
    pub name: String,
    pub hard: u64,
    pub used: u64,
}

struct Claimed {
    claims: Claims,
    line: LineOf,
    name: String,
    hard: u64,
    /// Counted when the claim was made.
    used: u64,
    bytes: u64,
    /// What the new bytes take the place of.
    replaced: u64,
}

impl Claim {
    /// Claims on one more line, in the place of `replaced` bytes. Refused if it would be passed.
    pub(crate) fn add(&mut self, claims: &Claims, full: Full, bytes: u64, replaced: u64) -> Result<()> {
        let Full { line, name, hard, used } = full;
        claims.take(line, &name, hard, used, bytes.saturating_sub(replaced))?;
        self.of.push(Claimed { claims: claims.clone(), line, name, hard, used, bytes, replaced });
        Ok(())
    }

    /// Claims more: for a body whose length nobody announced.
    pub fn grow(&mut self, bytes: u64) -> Result<()> {
        for of in &mut self.of {
            let before = of.bytes.saturating_sub(of.replaced);
            let after = of.bytes.saturating_add(bytes).saturating_sub(of.replaced);
            of.claims.take(of.line, &of.name, of.hard, of.used, after - before)?;
            of.bytes = of.bytes.saturating_add(bytes);
        }
        Ok(())
    }
}

impl Drop for Claimed {
    fn drop(&mut self) {
        let held = self.bytes.saturating_sub(self.replaced);
        let mut claims = self.claims.0.lock();
        if let Some(all) = claims.get_mut(&self.line) {
            *all = all.saturating_sub(held);
            if *all == 0 {
                claims.remove(&self.line);
            }
        }
    }
}

impl Claims {
    fn take(&self, line: LineOf, name: &str, hard: u64, used: u64, bytes: u64) -> Result<()> {
        let mut claims = self.0.lock();
        let claimed = claims.get(&line).copied().unwrap_or(0);
        if bytes > 0 && used.saturating_add(claimed).saturating_add(bytes) > hard {
            return Err(over(name, hard, used, claimed, bytes));
        }
        if bytes > 0 {
            *claims.entry(line).or_default() += bytes;
        }
        Ok(())
    }

    pub(crate) fn claimed(&self, line: LineOf) -> u64 {
        self.0.lock().get(&line).copied().unwrap_or(0)
    }
}

pub(crate) fn over(name: &str, line: u64, used: u64, claimed: u64, wanted: u64) -> StoreError {
    StoreError::QuotaFull { shelf: name.trim_end_matches(':').to_string(), line, used, claimed, wanted }
}

/// How full something is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Fullness {
    /// The most bytes it may hold.
    pub line: Option<u64>,
    /// From which people are warned.
    pub soft: Option<u64>,
    /// What counts on it.
    pub used: u64,
    /// Bytes of uploads that have begun.
    pub claimed: u64,
}

/// A line with how full it is: for lists, warnings and previews.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Filled {
    /// Whose.
    pub of: LineOf,
    /// The account, of a home.
    pub account: Option<AccountId>,
    /// The shelf that it is on.
    pub shelf: Option<ShelfId>,
    /// In words.
    pub name: String,
    /// The lines.
    pub lines: Lines,
    /// Whether the lines come from the account's groups.
    pub by_groups: bool,
    /// What counts.
    pub used: u64,
}

impl Filled {
    /// Whether people are to be warned: past the soft line, or past a share of the hard one.
    pub fn warns(&self, percent: u32) -> bool {
        let share = self.lines.hard.map(|hard| (u128::from(hard) * u128::from(percent) / 100) as u64);
        let at = match (self.lines.soft, share) {
            (Some(soft), Some(share)) => Some(soft.min(share)),
            (soft, share) => soft.or(share),
        };
        at.is_some_and(|at| self.used >= at)
    }
}

impl Access {
    /// The line of a shelf.
    pub fn shelf_lines(&self, shelf: &Shelf) -> Lines {
        let soft = match shelf.kind {
            ShelfKind::Home => shelf.owner.and_then(|o| self.soft.get(&("account", o.0))),
            ShelfKind::Shared => self.soft.get(&("shelf", shelf.id.0)),
        };
        Lines { soft: soft.copied(), hard: self.line(shelf) }
    }

    /// Nodes given to an account itself, wherever they are.
    pub(crate) fn given_to(&self, account: AccountId) -> Vec<NodeId> {
        self.places()
            .filter(|(_, here)| here.grants.iter().any(|g| g.subject == Subject::Account(account)))
            .map(|(node, _)| node)
            .collect()
    }
}

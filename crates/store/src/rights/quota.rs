//! Quotas: lines that a shelf, a folder, an account's home and the organisation may not pass. All that
//! apply hold at once.
//!
//! An upload claims its bytes when it begins, so that parallel ones cannot pass a line together; at
//! the commit they are counted once more, exactly. What counts is a rule: live logical bytes, and
//! beside them versions, trash, what only snapshots keep, and what others gave.

use crate::engine::Engine;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, Folder, Shelf, ShelfKind};
use crate::rights::access::Access;
use crate::txn::write_txn::{WriteTxn, shelf_word};
use async_recursion::async_recursion as boxed;
use parking_lot::Mutex;
use std::collections::{HashMap, HashSet};
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
pub struct Claim {
    of: Vec<Claimed>,
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

    fn claimed(&self, line: LineOf) -> u64 {
        self.0.lock().get(&line).copied().unwrap_or(0)
    }
}

fn over(name: &str, line: u64, used: u64, claimed: u64, wanted: u64) -> StoreError {
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
    fn given_to(&self, account: AccountId) -> Vec<NodeId> {
        self.places()
            .filter(|(_, here)| here.grants.iter().any(|g| g.subject == Subject::Account(account)))
            .map(|(node, _)| node)
            .collect()
    }
}

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

impl Engine {
    /// Speaks for bytes that will be put into a folder, in the place of `replaced` bytes. Refused if
    /// a line above it would be passed.
    #[boxed]
    pub async fn claim(&self, parent: NodeId, bytes: u64, replaced: u64) -> Result<Claim> {
        self.claim_with(parent, bytes, replaced, true).await
    }

    /// The same for an upload found at a start: it was let in once, and nobody asks again.
    pub(crate) async fn claim_again(&self, parent: NodeId, bytes: u64) -> Result<Claim> {
        self.claim_with(parent, bytes, 0, false).await
    }

    async fn claim_with(&self, parent: NodeId, bytes: u64, replaced: u64, ask: bool) -> Result<Claim> {
        let mut claim = Claim { of: Vec::new() };
        let access = self.shared.view.access();
        if !access.has_lines() {
            return Ok(claim);
        }
        let Some(chain) = self.shared.view.chain(parent).await? else { return Ok(claim) };
        let counts = Counts::of(access.rules());
        let replaced = if counts.versions { 0 } else { replaced };
        let mut lines = Vec::new();
        for row in &chain {
            if let Some(hard) = access.folder_lines(row.node).and_then(|l| l.hard) {
                let used = self.shared.view.folder(row.node).await?.map_or(0, |f| counts.count(&f, 0));
                lines.push((LineOf::Folder(row.node), format!("the folder {}", row.name()), hard, used));
            }
        }
        let shelf = chain.last().and_then(|top| self.shared.view.shelf(top.shelf));
        if let Some(shelf) = shelf
            && let Some(hard) = access.line(&shelf)
        {
            let used = self.used_on(&access, &shelf, counts).await?;
            lines.push((LineOf::Shelf(shelf.id), shelf_word(&shelf), hard, used));
        }
        if let Some(hard) = access.whole_lines().hard {
            let used = self.used_in_all(&access, counts).await?;
            lines.push((LineOf::Organisation, "the organisation".into(), hard, used));
        }
        for (line, name, hard, used) in lines {
            let mut claimed = Claimed {
                claims: self.shared.claims.clone(),
                line,
                name,
                hard: if ask { hard } else { u64::MAX },
                used,
                bytes: 0,
                replaced,
            };
            let more = bytes.saturating_sub(replaced);
            claimed.claims.take(line, &claimed.name, claimed.hard, used, more)?;
            claimed.bytes = bytes;
            claim.of.push(claimed);
        }
        Ok(claim)
    }

    async fn used_on(&self, access: &Access, shelf: &Shelf, counts: Counts) -> Result<u64> {
        let view = &self.shared.view;
        let only = access.only_snapshots(shelf.id);
        let mut used = view.folder(shelf.root).await?.map_or(0, |f| counts.count(&f, only));
        if let (true, ShelfKind::Home, Some(owner)) = (counts.given, shelf.kind, shelf.owner) {
            for node in access.given_to(owner) {
                let Some(row) = view.row(node).await? else { continue };
                if row.shelf != shelf.id {
                    let sums = view.folder(node).await?.map_or(row.size(), |f| f.bytes);
                    used = used.saturating_add(sums.max(0) as u64);
                }
            }
        }
        Ok(used)
    }

    async fn used_in_all(&self, access: &Access, counts: Counts) -> Result<u64> {
        let mut used = 0u64;
        for shelf in self.shared.view.shelves() {
            let only = access.only_snapshots(shelf.id);
            used += self.shared.view.folder(shelf.root).await?.map_or(0, |f| counts.count(&f, only));
        }
        Ok(used)
    }

    /// How full a shelf is, and what is spoken for.
    #[boxed]
    pub async fn fullness(&self, shelf: &Shelf) -> Result<Fullness> {
        let access = self.shared.view.access();
        let lines = access.shelf_lines(shelf);
        Ok(Fullness {
            line: lines.hard,
            soft: lines.soft,
            used: self.used_on(&access, shelf, Counts::of(access.rules())).await?,
            claimed: self.shared.claims.claimed(LineOf::Shelf(shelf.id)),
        })
    }

    /// All lines with how full they are, and with `counts` in the place of the rule: for looking at a
    /// change of it. Homes and shelves without a line are among them if `all`.
    #[boxed]
    pub async fn filled(&self, counts: Option<Counts>, all: bool) -> Result<Vec<Filled>> {
        let access = self.shared.view.access();
        let counts = counts.unwrap_or_else(|| Counts::of(access.rules()));
        let mut found = Vec::new();
        let whole = access.whole_lines();
        if all || whole != Lines::default() {
            found.push(Filled {
                of: LineOf::Organisation,
                account: None,
                shelf: None,
                name: "the organisation".into(),
                lines: whole,
                by_groups: false,
                used: self.used_in_all(&access, counts).await?,
            });
        }
        let mut shelves = self.shared.view.shelves();
        shelves
            .sort_by(|a, b| (a.kind == ShelfKind::Home, &a.name).cmp(&(b.kind == ShelfKind::Home, &b.name)));
        for shelf in shelves {
            let lines = access.shelf_lines(&shelf);
            if all || lines != Lines::default() {
                let home = shelf.kind == ShelfKind::Home;
                found.push(Filled {
                    of: LineOf::Shelf(shelf.id),
                    account: shelf.owner.filter(|_| home),
                    shelf: Some(shelf.id),
                    name: shelf_word(&shelf).trim_end_matches(':').to_string(),
                    lines,
                    by_groups: home && shelf.owner.is_some_and(|o| !access.has_own_line(o)),
                    used: self.used_on(&access, &shelf, counts).await?,
                });
            }
        }
        let mut folders: Vec<_> = access.all_folder_lines().collect();
        folders.sort_unstable_by_key(|(node, _)| *node);
        for (node, lines) in folders {
            let Some(chain) = self.shared.view.chain(node).await? else { continue };
            let Some(shelf) = chain.last().and_then(|top| self.shared.view.shelf(top.shelf)) else {
                continue;
            };
            let names: Vec<_> = chain.iter().rev().skip(1).map(|r| r.name()).collect();
            found.push(Filled {
                of: LineOf::Folder(node),
                account: None,
                shelf: Some(shelf.id),
                name: format!("{}/{}", shelf_word(&shelf), names.join("/")),
                lines,
                by_groups: false,
                used: self.shared.view.folder(node).await?.map_or(0, |f| counts.count(&f, 0)),
            });
        }
        Ok(found)
    }

    /// Sets the lines of something; the outer option: whether this one is changed.
    #[boxed]
    pub async fn set_lines(
        &self,
        actor: &Actor,
        of: LineOf,
        name: &str,
        soft: Option<Option<u64>>,
        hard: Option<Option<u64>>,
    ) -> Result<()> {
        let (kind, id) = match of {
            LineOf::Organisation => ("organisation", 1),
            LineOf::Folder(node) => ("folder", node.0),
            LineOf::Shelf(id) => {
                let shelf =
                    self.shared.view.shelf(id).ok_or_else(|| StoreError::NotFound("The shelf".into()))?;
                match (shelf.kind, shelf.owner) {
                    (ShelfKind::Home, Some(owner)) => ("account", owner.0),
                    _ => ("shelf", id.0),
                }
            }
        };
        let text = |line: Option<Option<u64>>, what: &str| match line {
            None => String::new(),
            Some(None) => format!(", no {what} line"),
            Some(Some(n)) => format!(", {what} line {n}"),
        };
        let what = format!("{name}{}{}", text(soft, "soft"), text(hard, "hard"));
        let number = |n: Option<u64>| n.map(|n| i64::try_from(n).unwrap_or(i64::MAX));
        self.change_rights(actor, "quota set", &what, move |conn| {
            Box::pin(async move {
                if let Some(hard) = hard {
                    let sql = match kind {
                        "account" => "UPDATE accounts SET quota = ? WHERE id = ?",
                        "shelf" => "UPDATE shelves SET quota = ? WHERE id = ?",
                        "organisation" => {
                            "INSERT INTO quotas (kind, of, org, hard) VALUES ('organisation', ?2, 1, ?1)
                             ON CONFLICT DO UPDATE SET hard = excluded.hard"
                        }
                        _ => {
                            "INSERT INTO quotas (kind, of, org, hard) VALUES ('folder', ?2, 1, ?1)
                             ON CONFLICT DO UPDATE SET hard = excluded.hard"
                        }
                    };
                    sqlx::query(sql).bind(number(hard)).bind(id).execute(&mut *conn).await?;
                }
                if let Some(soft) = soft {
                    sqlx::query(
                        "INSERT INTO quotas (kind, of, org, soft) VALUES (?, ?, 1, ?)
                         ON CONFLICT DO UPDATE SET soft = excluded.soft",
                    )
                    .bind(kind)
                    .bind(id)
                    .bind(number(soft))
                    .execute(&mut *conn)
                    .await?;
                }
                sqlx::query("DELETE FROM quotas WHERE soft IS NULL AND hard IS NULL")
                    .execute(&mut *conn)
                    .await?;
                Ok(())
            })
        })
        .await
    }

    /// Lines that were crossed since the last look, to be told once; those with room again are forgotten.
    #[boxed]
    pub async fn crossings(&self) -> Result<Vec<Filled>> {
        let percent = match self.rules().decide(Rule::QuotaWarns, &[]).value {
            Value::Number(Some(n)) => n,
            _ => 90,
        };
        let filled = self.filled(None, false).await?;
        let known: Vec<(String, i64)> =
            sqlx::query_as("SELECT kind, of FROM crossed").fetch_all(&self.shared.view.pool).await?;
        let known: HashSet<(String, i64)> = known.into_iter().collect();
        let key = |of: LineOf| match of {
            LineOf::Organisation => ("organisation".to_string(), 1),
            LineOf::Shelf(id) => ("shelf".to_string(), id.0),
            LineOf::Folder(id) => ("folder".to_string(), id.0),
        };
        let over: HashSet<(String, i64)> =
            filled.iter().filter(|f| f.warns(percent)).map(|f| key(f.of)).collect();
        if over == known {
            return Ok(Vec::new());
        }
        let new: Vec<Filled> =
            filled.into_iter().filter(|f| f.warns(percent) && !known.contains(&key(f.of))).collect();
        let set = serde_json::to_string(&over.into_iter().collect::<Vec<_>>())
            .map_err(|e| StoreError::Catalogue(e.to_string()))?;
        let now = self.now_ms();
        self.catalogue(&Actor::service(), move |conn| {
            Box::pin(async move {
                sqlx::query(
                    "DELETE FROM crossed WHERE NOT EXISTS (SELECT 1 FROM json_each(?) j
                       WHERE j.value->>0 = crossed.kind AND j.value->>1 = crossed.of)",
                )
                .bind(&set)
                .execute(&mut *conn)
                .await?;
                sqlx::query(
                    "INSERT OR IGNORE INTO crossed (kind, of, at)
                     SELECT value->>0, value->>1, ? FROM json_each(?)",
                )
                .bind(now)
                .bind(&set)
                .execute(&mut *conn)
                .await?;
                Ok(())
            })
        })
        .await?;
        Ok(new)
    }
}

//! Quotas as they are asked for, spoken for and set.

use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, Shelf, ShelfKind};
use crate::rights::access::Access;
use crate::rights::quota::{Claim, Counts, Filled, Full, Fullness, LineOf, Lines};
use crate::timeline::Space;
use crate::txn::write_txn::shelf_word;
use async_recursion::async_recursion as boxed;
use std::collections::HashSet;
use yellow_attic_core::NodeId;
use yellow_attic_core::rules::{Rule, Value};

impl Space {
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
        let mut claim = Claim::default();
        let access = self.0.shared.view.access();
        if !access.has_lines() {
            return Ok(claim);
        }
        let Some(chain) = self.0.shared.view.chain(parent).await? else { return Ok(claim) };
        let counts = Counts::of(access.rules());
        let replaced = if counts.versions { 0 } else { replaced };
        let mut lines = Vec::new();
        for row in &chain {
            if let Some(hard) = access.folder_lines(row.node).and_then(|l| l.hard) {
                let used = self.0.shared.view.folder(row.node).await?.map_or(0, |f| counts.count(&f, 0));
                lines.push((LineOf::Folder(row.node), format!("the folder {}", row.name()), hard, used));
            }
        }
        let shelf = chain.last().and_then(|top| self.0.shared.view.shelf(top.shelf));
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
            let full = Full { line, name, hard: if ask { hard } else { u64::MAX }, used };
            claim.add(&self.0.shared.claims, full, bytes, replaced)?;
        }
        Ok(claim)
    }

    async fn used_on(&self, access: &Access, shelf: &Shelf, counts: Counts) -> Result<u64> {
        let view = &self.0.shared.view;
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
        for shelf in self.0.shared.view.shelves() {
            let only = access.only_snapshots(shelf.id);
            used += self.0.shared.view.folder(shelf.root).await?.map_or(0, |f| counts.count(&f, only));
        }
        Ok(used)
    }

    /// How full a shelf is, and what is spoken for.
    #[boxed]
    pub async fn fullness(&self, shelf: &Shelf) -> Result<Fullness> {
        let access = self.0.shared.view.access();
        let lines = access.shelf_lines(shelf);
        Ok(Fullness {
            line: lines.hard,
            soft: lines.soft,
            used: self.used_on(&access, shelf, Counts::of(access.rules())).await?,
            claimed: self.0.shared.claims.claimed(LineOf::Shelf(shelf.id)),
        })
    }

    /// All lines with how full they are, and with `counts` in the place of the rule: for looking at a
    /// change of it. Homes and shelves without a line are among them if `all`.
    #[boxed]
    pub async fn filled(&self, counts: Option<Counts>, all: bool) -> Result<Vec<Filled>> {
        let access = self.0.shared.view.access();
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
        let mut shelves = self.0.shared.view.shelves();
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
            let Some(chain) = self.0.shared.view.chain(node).await? else { continue };
            let Some(shelf) = chain.last().and_then(|top| self.0.shared.view.shelf(top.shelf)) else {
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
                used: self.0.shared.view.folder(node).await?.map_or(0, |f| counts.count(&f, 0)),
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
                    self.0.shared.view.shelf(id).ok_or_else(|| StoreError::NotFound("The shelf".into()))?;
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
        self.0
            .people()
            .change_rights(actor, "quota set", &what, move |conn| {
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
        let percent = match self.0.people().rules().decide(Rule::QuotaWarns, &[]).value {
            Value::Number(Some(n)) => n,
            _ => 90,
        };
        let filled = self.filled(None, false).await?;
        let known: Vec<(String, i64)> =
            sqlx::query_as("SELECT kind, of FROM crossed").fetch_all(&self.0.shared.view.pool).await?;
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
        let now = self.0.now_ms();
        self.0
            .files()
            .catalogue(&Actor::service(), move |conn| {
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

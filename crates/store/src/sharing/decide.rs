//! Whether links and intakes act now: their terms, against the present state of maker, target and rules;
//! and what becomes of them by themselves.

use crate::fs::error::Result;
use crate::fs::model::{Actor, Row, Shelf};
use crate::rights::access::Viewer;
use crate::sharing::Sharing;
use crate::sharing::openings::{Opening, Wanted};
use async_recursion::async_recursion as boxed;
use std::collections::HashMap;
use std::sync::Arc;
use yellow_attic_core::openings::{Breaks, Facts, Kind, Maker, Open, Shut, breaks, decide};
use yellow_attic_core::rights::Level;
use yellow_attic_core::rules::{Rule, Rules, Value};
use yellow_attic_core::{NodeId, OpeningId};

/// An ended opening can be opened again for so long, and its ending stays taken: ninety days.
const KEPT_MS: i64 = 90 * 86_400_000;

impl Sharing {
    /// What decides besides its terms, by some rules: those in force, or those that are looked at.
    #[boxed]
    pub async fn facts_with(&self, opening: &Opening, rules: &Rules) -> Result<Facts> {
        let access = self.0.shared.view.access();
        let chain = self.0.shared.view.chain(opening.node).await?;
        let (makers, days, door) = opening.rules();
        let by = opening.made_by;
        let shelf = chain.as_ref().and_then(|c| c.last()).map(|top| top.shelf);
        let groups = access.groups_of(by);
        let viewer = Viewer::of_account(access.clone(), Some(by), self.0.now_ms());
        let manages = |chain: &Vec<Arc<Row>>| {
            shelf.is_some_and(|s| {
                viewer.standing(s, chain.iter().map(|r| r.node)).level() == Some(Level::Manage)
            })
        };
        let maker = if access.is_disabled(by) {
            Maker::Disabled
        } else if access.is_closed(by, door) {
            Maker::DoorClosed
        } else if chain.as_ref().is_some_and(manages) || chain.is_none() {
            Maker::Manages
        } else {
            Maker::LostIt
        };
        let on = |rule| rules.decide_on(rule, &groups, shelf).value == Value::Switch(true);
        Ok(Facts {
            now: self.0.now_ms(),
            used: opening.used,
            target: chain.is_some(),
            maker,
            makers: access.makes(rules, makers, by),
            kept_inside: on(Rule::KeptInside),
            password: opening.kind == Kind::Link && on(Rule::LinksPassword),
            days: match rules.decide_on(days, &groups, shelf).value {
                Value::Number(n) => n,
                _ => None,
            },
        })
    }

    /// Whether an opening acts now. Costs no look-up for a target that was looked at lately.
    #[boxed]
    pub async fn acts(&self, opening: &Opening) -> Result<std::result::Result<Open, Shut>> {
        let rules = self.0.shared.view.access();
        let facts = self.facts_with(opening, rules.rules()).await?;
        Ok(decide(&opening.terms(), &facts))
    }

    /// What openings break under some rules.
    #[boxed]
    pub async fn breaking(&self, rules: &Rules) -> Result<Vec<(Opening, Breaks)>> {
        let mut found = Vec::new();
        for opening in self.openings(&Wanted::default()).await? {
            let facts = self.facts_with(&opening, rules).await?;
            // One whose target is gone does not act anyway.
            if facts.target
                && let Some(broken) = breaks(&opening.terms(), &facts)
            {
                found.push((opening, broken));
            }
        }
        Ok(found)
    }

    /// The shelf on which something is.
    #[boxed]
    pub async fn shelf_at(&self, node: NodeId) -> Result<Option<Arc<Shelf>>> {
        let chain = self.0.shared.view.chain(node).await?;
        Ok(chain.and_then(|c| c.last().and_then(|top| self.0.shared.view.shelf(top.shelf))))
    }

    /// What is used without being counted: how often, when last, and from where.
    #[boxed]
    pub async fn note_uses(&self, uses: HashMap<OpeningId, (u32, i64, String)>) -> Result<()> {
        let rows: Vec<_> = uses
            .into_iter()
            .map(|(id, (times, at, from))| serde_json::json!([id.0, times, at, from]))
            .collect();
        let rows = serde_json::Value::from(rows).to_string();
        self.0.people().change(&Actor::service(), "", "", move |conn| {
            Box::pin(async move {
                sqlx::query(
                    "UPDATE openings SET used = used + j.value->>1, used_at = j.value->>2, used_from = j.value->>3
                     FROM json_each(?) j WHERE openings.id = j.value->>0",
                )
                .bind(rows)
                .execute(conn)
                .await?;
                Ok(())
            })
        })
        .await
    }

    /// Too many passwords were tried. Returns whether its maker is to be told: once an hour.
    #[boxed]
    pub async fn note_guessing(&self, actor: &Actor, opening: &Opening) -> Result<bool> {
        let (id, now) = (opening.id.0, self.0.now_ms());
        if opening.guessed_at.is_some_and(|at| now - at < 3_600_000) {
            return Ok(false);
        }
        let what = format!("{} {}", opening.kind.word(), opening.id);
        self.0
            .people()
            .change(actor, "passwords guessed", &what, move |conn| {
                Box::pin(async move {
                    sqlx::query("UPDATE openings SET guessed_at = ? WHERE id = ?")
                        .bind(now)
                        .bind(id)
                        .execute(conn)
                        .await?;
                    Ok(())
                })
            })
            .await?;
        Ok(true)
    }

    /// Forgets openings that were ended long ago: their endings can be taken again.
    #[boxed]
    pub async fn forget_openings(&self) -> Result<()> {
        let before = self.0.now_ms() - KEPT_MS;
        let due: i64 = sqlx::query_scalar("SELECT count(*) FROM openings WHERE ended_at < ?")
            .bind(before)
            .fetch_one(&self.0.shared.view.pool)
            .await?;
        if due == 0 {
            return Ok(());
        }
        self.0.people().change(&Actor::service(), "openings forgotten", &due.to_string(), move |conn| {
            Box::pin(async move {
                for text in [
                    "DELETE FROM slips WHERE opening IN (SELECT id FROM openings WHERE ended_at < ?)",
                    "DELETE FROM delivered WHERE delivery IN (SELECT d.id FROM deliveries d JOIN openings o ON o.id = d.opening
                       WHERE o.ended_at < ?)",
                    "DELETE FROM deliveries WHERE opening IN (SELECT id FROM openings WHERE ended_at < ?)",
                    "DELETE FROM openings WHERE ended_at < ?",
                ] {
                    sqlx::query(text).bind(before).execute(&mut *conn).await?;
                }
                Ok(())
            })
        })
        .await
    }
}

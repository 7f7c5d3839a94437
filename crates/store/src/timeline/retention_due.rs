//! The look at the rules that is taken every hour: over what is due by now, or changed since the last one, and once a day over all.
//!
//! A state is judged otherwise at a later time for four reasons: its node changed, a time that the rules name has passed
//! since it ended ([`due_between`]), a snapshot that showed it is gone, or the rules of its shelf are others. Each is
//! found by an index. What a name, a hold or a broken tree kept longer goes with the look over all.

use crate::fs::error::Result;
use crate::fs::model::Actor;
use crate::timeline::History;
use crate::timeline::purge::Progress;
use crate::timeline::retention::{LOT, Purge, Reach, Sum};
use async_recursion::async_recursion as boxed;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::atomic::Ordering;
use yellow_attic_core::ShelfId;
use yellow_attic_core::keeping::span::DAY_MS;
use yellow_attic_core::keeping::{Keeping, due_between};
use yellow_attic_core::rules::Rules;

/// What a look went by.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
struct ByWhat {
    /// The rules of each shelf.
    rules: BTreeMap<i64, String>,
    /// Snapshots: shelf, number, end.
    snapshots: BTreeSet<(i64, i64, Option<i64>)>,
}

/// The last look.
struct Looked {
    at: i64,
    moment: i64,
    whole_at: i64,
    by: ByWhat,
}

/// Of a shelf, the past rows that ended after one number, up to another, and began at or before a third.
type Range = (i64, i64, i64);

impl History {
    /// Lets go what the rules let go by now. Looks at what may have become due since the last time.
    #[boxed]
    pub async fn let_go_due(&self, rules: &Rules, progress: &Progress) -> Result<Sum> {
        if !rules.all().any(|(_, rule, _)| rule.drops()) {
            return Ok(Sum::default());
        }
        let (now, head) = (self.0.kept_ms(), self.now_moment().await?.0);
        let by = self.by_what(rules).await?;
        let last = self.recent_look(rules, now, head).await?;
        let purge = match &last {
            Some(last) => self.plan_due(rules, last, &by, now).await?,
            None => self.plan_purge(rules, &Reach::All).await?,
        };
        let of = purge.goes.len() as u64;
        let done = self.let_plan_go(&Actor::service(), &purge, &Reach::All, progress).await?;
        if last.is_none() {
            self.keep_snapshot_sums(&purge).await?;
        }
        // What did not go is due the next time as well, as long as that leads anywhere.
        let goes_on = done.states < of && (done.states > 0 || progress.stop.load(Ordering::Relaxed));
        let looked = match (goes_on, last) {
            (true, _) => return Ok(done),
            (false, Some(last)) => Looked { at: now, moment: head, whole_at: last.whole_at, by },
            (false, None) => Looked { at: now, moment: head, whole_at: now, by },
        };
        self.keep_look(looked).await?;
        Ok(done)
    }

    /// What would go by rules that need not be those that count: for a preview. Shelves for which they say the same are not looked
    /// at whole.
    #[boxed]
    pub async fn plan_change(&self, rules: &Rules) -> Result<Purge> {
        let (now, head) = (self.0.kept_ms(), self.now_moment().await?.0);
        let by_any = rules.all().any(|(_, rule, _)| rule.drops());
        match self.recent_look(rules, now, head).await?.filter(|_| by_any) {
            Some(last) => {
                let by = self.by_what(rules).await?;
                self.plan_due(rules, &last, &by, now).await
            }
            None => self.plan_purge(rules, &Reach::All).await,
        }
    }

    /// The last look, if what may be due can be told from it.
    async fn recent_look(&self, rules: &Rules, now: i64, head: i64) -> Result<Option<Looked>> {
        let room = self.room_needed(rules)?.is_some();
        let last = self.last_look().await?;
        Ok(last.filter(|l| !room && l.at <= now && l.moment <= head && now - l.whole_at < DAY_MS))
    }

    /// What would go of what may have become due since the last look.
    async fn plan_due(&self, rules: &Rules, last: &Looked, by: &ByWhat, now: i64) -> Result<Purge> {
        let mut wanted: BTreeMap<Range, Vec<i64>> = BTreeMap::new();
        // Most shelves have the same rules.
        let mut ranges_of: HashMap<&str, Vec<Range>> = HashMap::new();
        for (shelf, rule) in &by.rules {
            if last.by.rules.get(shelf) != Some(rule) {
                wanted.entry((0, i64::MAX, i64::MAX)).or_default().push(*shelf);
                continue;
            }
            if !ranges_of.contains_key(rule.as_str()) {
                let mut ranges = vec![(last.moment, i64::MAX, i64::MAX)];
                for (after, upto) in due_between(&Keeping::of(rules, ShelfId(*shelf)), last.at, now) {
                    ranges.push((self.moment_at(after).await?.0, self.moment_at(upto).await?.0, i64::MAX));
                }
                ranges_of.insert(rule, ranges);
            }
            for range in ranges_of.get(rule.as_str()).into_iter().flatten() {
                wanted.entry(*range).or_default().push(*shelf);
            }
        }
        for (shelf, moment, ends_at) in &last.by.snapshots {
            let stays = by.snapshots.contains(&(*shelf, *moment, *ends_at));
            if !stays || ends_at.is_some_and(|end| end <= now) {
                wanted.entry((*moment, i64::MAX, *moment)).or_default().push(*shelf);
            }
        }
        let mut nodes: BTreeSet<i64> = BTreeSet::new();
        for ((after, upto, began), shelves) in &wanted {
            let found: Vec<i64> = sqlx::query_scalar(
                "SELECT DISTINCT e.node FROM json_each(?1) s CROSS JOIN entries_past e INDEXED BY entries_past_shelf
                 WHERE e.shelf = s.value AND e.until > ?2 AND e.until <= ?3 AND e.since <= ?4",
            )
            .bind(serde_json::to_string(shelves).unwrap_or_default())
            .bind(after)
            .bind(upto)
            .bind(began)
            .fetch_all(&self.0.shared.view.pool)
            .await?;
            nodes.extend(found);
        }
        // What came back is judged by other rules than what was removed.
        let back: Vec<i64> = sqlx::query_scalar(
            "SELECT n.node FROM json_each(?1) s CROSS JOIN entries_now n INDEXED BY entries_now_since
             WHERE n.shelf = s.value AND n.since > ?2 AND EXISTS (SELECT 1 FROM entries_past e WHERE e.node = n.node)",
        )
        .bind(serde_json::to_string(&by.rules.keys().collect::<Vec<_>>()).unwrap_or_default())
        .bind(last.moment)
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        nodes.extend(back);
        let mut ground = self.ground(rules, false).await?;
        let (mut purge, mut trees) = (Purge::default(), Vec::new());
        let nodes: Vec<i64> = nodes.into_iter().collect();
        for some in nodes.chunks(LOT as usize) {
            let list = serde_json::to_string(some).unwrap_or_default();
            let rows =
                self.past_rows("node IN (SELECT value FROM json_each(?1)) AND ?2 = ?2", &list, 0).await?;
            self.judge_rows(&mut ground, &mut purge, &rows, &mut trees).await?;
        }
        self.look_over_trees(&mut ground, &mut purge, trees).await?;
        self.show_largest(&mut purge).await?;
        purge.seal();
        Ok(purge)
    }

    async fn by_what(&self, rules: &Rules) -> Result<ByWhat> {
        let pool = &self.0.shared.view.pool;
        let shelves: Vec<i64> = sqlx::query_scalar("SELECT id FROM shelves").fetch_all(pool).await?;
        let snapshots: Vec<(i64, i64, Option<i64>)> =
            sqlx::query_as("SELECT shelf, moment, ends_at FROM snapshots").fetch_all(pool).await?;
        let word = |shelf: i64| {
            let keeping = format!("{:?}", Keeping::of(rules, ShelfId(shelf)));
            blake3::hash(keeping.as_bytes()).to_hex()[..16].to_string()
        };
        Ok(ByWhat {
            rules: shelves.into_iter().map(|shelf| (shelf, word(shelf))).collect(),
            snapshots: snapshots.into_iter().collect(),
        })
    }

    async fn last_look(&self) -> Result<Option<Looked>> {
        let row: Option<(i64, i64, i64, String)> =
            sqlx::query_as("SELECT at, moment, whole_at, by_what FROM looked")
                .fetch_optional(&self.0.shared.view.pool)
                .await?;
        Ok(row.and_then(|(at, moment, whole_at, by)| {
            Some(Looked { at, moment, whole_at, by: serde_json::from_str(&by).ok()? })
        }))
    }

    async fn keep_look(&self, looked: Looked) -> Result<()> {
        let by = serde_json::to_string(&looked.by).unwrap_or_default();
        self.0
            .files()
            .catalogue(&Actor::service(), move |conn| {
                Box::pin(async move {
                    sqlx::query("INSERT OR REPLACE INTO looked (id, at, moment, whole_at, by_what) VALUES (1, ?, ?, ?, ?)")
                        .bind(looked.at)
                        .bind(looked.moment)
                        .bind(looked.whole_at)
                        .bind(by)
                        .execute(conn)
                        .await?;
                    Ok(())
                })
            })
            .await
    }
}

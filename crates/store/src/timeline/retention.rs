//! What of the past goes: looked at, then done. Both ask the same function of core.
//!
//! A purge looks first ([`History::plan_purge`](crate::timeline::History::plan_purge)) and then lets go in small steps of the writer
//! ([`History::apply_purge`](crate::timeline::History::apply_purge), in [`crate::timeline::purge`]). Bytes go from the disk after the commit that says so; a stop between the two is
//! found by [`crate::files::packs`] at the next start.

use crate::catalogue::rows;
use crate::fs::disk::hex;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::ChangeKind;
use crate::timeline::History;
use crate::timeline::retention_judge::{Inputs, by_node};
use async_recursion::async_recursion as boxed;
use serde::Serialize;
use std::collections::{BTreeMap, HashMap, HashSet};
use yellow_attic_core::keeping::{Fate, Goes, Mark, State, Why, judge};
use yellow_attic_core::rules::{Rule, Rules, Value};
use yellow_attic_core::{NodeId, ShelfId};

/// Rows read in one go.
pub(crate) const LOT: i64 = 20_000;

/// What is let go.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
pub(crate) enum Key {
    /// A past row, by its id.
    Past(i64),
    /// The row of something beneath a removed folder.
    Open(i64),
}

/// One state that goes.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Going {
    pub key: Key,
    /// The row goes as well.
    pub erase: bool,
}

/// What goes of one shelf for one reason.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Sum {
    /// States.
    pub states: u64,
    /// Bytes that are no longer held.
    pub bytes: i64,
    /// When the oldest of them ended, in milliseconds.
    pub oldest: i64,
    /// And the newest.
    pub newest: i64,
}

/// A thing that loses states: for showing what it is about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Sample {
    /// Which.
    pub node: NodeId,
    /// Its shelf.
    pub shelf: ShelfId,
    /// Its name then.
    pub name: String,
    /// How many bytes.
    pub size: i64,
    /// When the state ended.
    pub ended_at: i64,
    /// Why it goes.
    pub why: Goes,
}

/// What a purge takes.
#[derive(Clone, Debug, Default)]
pub struct Purge {
    pub(crate) goes: Vec<Going>,
    /// By shelf and reason.
    pub sums: BTreeMap<(ShelfId, Goes), Sum>,
    /// The largest of what goes.
    pub largest: Vec<Sample>,
    /// States that were looked at.
    pub looked_at: u64,
    /// When something more may be due, though nothing changes.
    pub look_again: Option<i64>,
    /// Of what is past, the bytes that only a snapshot keeps.
    pub only_snapshots: HashMap<ShelfId, i64>,
    /// What was asked to go by hand and is kept all the same, with why.
    pub kept: Vec<(NodeId, Why)>,
    /// Stands for exactly this: whoever saw a preview applies what they saw, or nothing.
    pub token: String,
    /// What goes already: what lies beneath a removed folder is looked at twice.
    pub(crate) taken: HashSet<Key>,
}

impl Purge {
    /// All together.
    pub fn total(&self) -> Sum {
        self.sums.values().fold(Sum::default(), |a, b| Sum {
            states: a.states + b.states,
            bytes: a.bytes + b.bytes,
            oldest: if a.oldest == 0 { b.oldest } else { a.oldest.min(b.oldest) },
            newest: a.newest.max(b.newest),
        })
    }

    pub(crate) fn take(&mut self, going: Going, shelf: ShelfId, why: Goes, bytes: i64, ended_at: i64) {
        if self.taken.contains(&going.key) {
            return;
        }
        let sum = self.sums.entry((shelf, why)).or_default();
        sum.states += 1;
        sum.bytes += bytes;
        sum.oldest = if sum.oldest == 0 { ended_at } else { sum.oldest.min(ended_at) };
        sum.newest = sum.newest.max(ended_at);
        self.goes.push(going);
    }

    pub(crate) fn seal(&mut self) {
        self.goes.sort_unstable_by_key(|g| g.key);
        let mut hasher = blake3::Hasher::new();
        for going in &self.goes {
            let (kind, id) = match going.key {
                Key::Past(id) => (0u8, id),
                Key::Open(id) => (1, id),
            };
            hasher.update(&[kind, u8::from(going.erase)]).update(&id.to_le_bytes());
        }
        self.token = hex(&hasher.finalize().as_bytes()[..12]);
    }
}

/// Which states are looked at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Reach {
    /// All of them.
    All,
    /// These removed things, by hand.
    Removed(Vec<NodeId>),
    /// This one version, by hand: the number since which it was.
    Version(NodeId, yellow_attic_core::Moment),
}

impl History {
    /// What would go by these rules, which may be other ones than those that count.
    #[boxed]
    pub async fn plan_purge(&self, rules: &Rules, reach: &Reach) -> Result<Purge> {
        let by_hand = matches!(reach, Reach::Removed(_) | Reach::Version(..));
        if !by_hand && !rules.all().any(|(_, rule, _)| rule.drops()) {
            // Without such a rule everything stays: nothing needs to be looked at.
            let mut none = Purge::default();
            none.seal();
            return Ok(none);
        }
        let mut ground = self.ground(rules, by_hand).await?;
        let mut purge = self.look_over(&mut ground, reach).await?;
        if let (Reach::All, Some(needed)) = (reach, self.room_needed(rules)?) {
            // Space is short: see what gives way, and look over all with that in mind.
            let freed = purge.total().bytes;
            ground.room_before = self.gives_way_before(&mut ground, needed - freed).await?;
            if ground.room_before.is_some() {
                purge = self.look_over(&mut ground, reach).await?;
            }
        }
        purge.seal();
        Ok(purge)
    }

    /// Why each past state of a node is kept, by the number since which it was; for a list of versions.
    #[boxed]
    pub async fn fates_of(&self, node: NodeId) -> Result<HashMap<i64, Fate>> {
        let rules = self.0.people().rules();
        let mut ground = self.ground(&rules, false).await?;
        let rows = self.past_rows("node = ?2 AND ?1 = ?1", "", node.0).await?;
        let open = self.open_rows(&rows).await?;
        let mut fates = HashMap::new();
        for states in by_node(&rows) {
            let present = open.get(&node.0).copied();
            let gone = present.is_none();
            let all: Vec<State> = states
                .iter()
                .enumerate()
                .map(|(i, s)| s.state(&ground.named, gone && i == 0 && s.how() != ChangeKind::Left))
                .collect();
            for (i, state) in states.iter().enumerate().filter(|(_, s)| s.held()) {
                ground.prepare(state.shelf());
                let Some(setting) = ground.setting(state.shelf()) else { continue };
                let present = present.map(|p| p.unwrap_or(0));
                fates.insert(state.since, judge(&setting, present, &all)[i]);
            }
        }
        Ok(fates)
    }

    pub(crate) async fn ground<'r>(&self, rules: &'r Rules, by_hand: bool) -> Result<Inputs<'r>> {
        let pool = &self.0.shared.view.pool;
        let mut snapshots: HashMap<ShelfId, Vec<Mark>> = HashMap::new();
        let found: Vec<(i64, i64, Option<i64>)> =
            sqlx::query_as("SELECT shelf, moment, ends_at FROM snapshots").fetch_all(pool).await?;
        for (shelf, moment, ends_at) in found {
            snapshots.entry(ShelfId(shelf)).or_default().push(Mark { moment, ends_at });
        }
        let named: Vec<(i64, i64)> =
            sqlx::query_as("SELECT node, since FROM named_versions").fetch_all(pool).await?;
        let now = self.0.kept_ms();
        Ok(Inputs {
            rules,
            keeping: HashMap::new(),
            snapshots,
            named: named.into_iter().collect(),
            now,
            room_before: None,
            by_hand,
        })
    }

    /// Bytes that must be freed by the rule about short space.
    pub(crate) fn room_needed(&self, rules: &Rules) -> Result<Option<i64>> {
        let Value::Room(Some(room)) = rules.decide(Rule::MakeRoom, &[]).value else { return Ok(None) };
        let (free, _) =
            self.0.shared.disk.space().map_err(|e| StoreError::io("asking for free space", &e))?;
        Ok((free < room.below).then(|| (room.below - free) as i64))
    }

    /// Writes the names of what is shown.
    pub(crate) async fn name(&self, purge: &mut Purge) -> Result<()> {
        for sample in &mut purge.largest {
            let mut conn = self.0.shared.view.pool.acquire().await?;
            let row = match rows::past_of(&mut conn, sample.node, 1).await?.into_iter().next() {
                Some(past) => Some(past.row),
                None => rows::row(&mut conn, sample.node).await?,
            };
            sample.name = row.map_or_else(String::new, |r| r.name().to_string());
        }
        Ok(())
    }
}

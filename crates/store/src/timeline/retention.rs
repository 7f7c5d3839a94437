//! What of the past goes: looked at, then done. Both ask the same function of core.
//!
//! A purge looks first ([`Engine::plan_purge`]) and then lets go in small steps of the writer
//! ([`Engine::apply_purge`], in [`crate::timeline::purge`]). Bytes go from the disk after the commit that says so; a stop between the two is
//! found by [`crate::files::packs`] at the next start.

use crate::catalogue::rows::{self, parse, sql};
use crate::engine::Engine;
use crate::fs::disk::hex;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::ChangeKind;
use async_recursion::async_recursion as boxed;
use serde::Serialize;
use std::collections::{BTreeMap, HashMap, HashSet};
use yellow_attic_core::keeping::{
    Fate, Goes, Keeping, Mark, Setting, State, Why, judge, look_again, room_before,
};
use yellow_attic_core::rules::{Rule, Rules, Value};
use yellow_attic_core::{NodeId, ShelfId};

/// Rows read in one go.
const LOT: i64 = 20_000;

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
    taken: HashSet<Key>,
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

    fn take(&mut self, going: Going, shelf: ShelfId, why: Goes, bytes: i64, ended_at: i64) {
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

    fn seal(&mut self) {
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

/// A past row, as far as deciding over it needs.
#[derive(serde::Deserialize, Clone, Copy)]
struct Past(i64, i64, i64, i64, i64, Option<i64>, i64, i64, i64, i64, i64, i64);

impl Past {
    fn node(&self) -> i64 {
        self.1
    }
    fn shelf(&self) -> ShelfId {
        ShelfId(self.2)
    }
    fn how(&self) -> ChangeKind {
        ChangeKind::from_number(self.10)
    }
    fn held(&self) -> bool {
        self.11 != 0
    }
    /// Its end was the end of its bytes: they count here.
    fn owns(&self) -> bool {
        self.5.is_some()
            && matches!(
                self.how(),
                ChangeKind::Changed | ChangeKind::Restored | ChangeKind::Found | ChangeKind::Removed
            )
    }

    fn state(&self, named: &HashSet<(i64, i64)>, gone: bool) -> State {
        State {
            since: self.6,
            until: self.7,
            at: self.8,
            ended_at: self.9,
            content: self.5,
            size: self.4,
            named: named.contains(&(self.1, self.6)),
            removed: gone,
        }
    }
}

const PAST: &str = "id, node, shelf, kind, size, content, since, until, at, ended_at, ended_how, held";

/// All that bears on what goes, read once.
struct Inputs<'r> {
    rules: &'r Rules,
    keeping: HashMap<ShelfId, Keeping>,
    snapshots: HashMap<ShelfId, Vec<Mark>>,
    named: HashSet<(i64, i64)>,
    now: i64,
    room_before: Option<i64>,
    by_hand: bool,
}

impl Inputs<'_> {
    fn prepare(&mut self, shelf: ShelfId) {
        if !self.keeping.contains_key(&shelf) {
            self.keeping.insert(shelf, Keeping::of(self.rules, shelf));
        }
    }

    fn setting(&self, shelf: ShelfId) -> Option<Setting<'_>> {
        Some(Setting {
            keeping: self.keeping.get(&shelf)?,
            snapshots: self.snapshots.get(&shelf).map_or(&[], Vec::as_slice),
            now: self.now,
            room_before: self.room_before,
            by_hand: self.by_hand,
        })
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

impl Engine {
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
            let mut candidates = Vec::new();
            self.candidates(&mut ground, &mut candidates).await?;
            ground.room_before = room_before(&mut candidates, needed - freed);
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
        let rules = self.rules();
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
                fates.insert(state.6, judge(&setting, present, &all)[i]);
            }
        }
        Ok(fates)
    }

    async fn ground<'r>(&self, rules: &'r Rules, by_hand: bool) -> Result<Inputs<'r>> {
        let pool = &self.shared.view.pool;
        let mut snapshots: HashMap<ShelfId, Vec<Mark>> = HashMap::new();
        let found: Vec<(i64, i64, Option<i64>)> =
            sqlx::query_as("SELECT shelf, moment, ends_at FROM snapshots").fetch_all(pool).await?;
        for (shelf, moment, ends_at) in found {
            snapshots.entry(ShelfId(shelf)).or_default().push(Mark { moment, ends_at });
        }
        let named: Vec<(i64, i64)> =
            sqlx::query_as("SELECT node, since FROM named_versions").fetch_all(pool).await?;
        let now = self.kept_ms();
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
    fn room_needed(&self, rules: &Rules) -> Result<Option<i64>> {
        let Value::Room(Some(room)) = rules.decide(Rule::MakeRoom, &[]).value else { return Ok(None) };
        let (free, _) = self.shared.disk.space().map_err(|e| StoreError::io("asking for free space", &e))?;
        Ok((free < room.below).then(|| (room.below - free) as i64))
    }

    async fn look_over(&self, ground: &mut Inputs<'_>, reach: &Reach) -> Result<Purge> {
        let mut purge = Purge::default();
        let mut trees: Vec<Past> = Vec::new();
        match reach {
            Reach::Removed(nodes) => {
                let list = serde_json::to_string(nodes).unwrap_or_default();
                let rows =
                    self.past_rows("node IN (SELECT value FROM json_each(?1)) AND ?2 = ?2", &list, 0).await?;
                let open = self.open_rows(&rows).await?;
                for states in by_node(&rows) {
                    // Alive again, or never removed.
                    if open.contains_key(&states[0].node()) || states[0].how() != ChangeKind::Removed {
                        continue;
                    }
                    self.judge_node(ground, &mut purge, None, states, &mut trees);
                }
            }
            Reach::Version(node, since) => {
                let rows = self.past_rows("node = ?2 AND ?1 = ?1", "", node.0).await?;
                let open = self.open_rows(&rows).await?;
                for states in by_node(&rows) {
                    let mut one = Purge::default();
                    let present = open.get(&states[0].node()).copied().flatten();
                    // All rows with the bytes of that version, and no others.
                    let content = states.iter().find(|s| s.6 == since.0).and_then(|s| s.5);
                    let these: Vec<Past> = states
                        .iter()
                        .filter(|s| s.6 == since.0 || (content.is_some() && s.5 == content))
                        .copied()
                        .collect();
                    if these.iter().all(|s| s.5 != present) || present.is_none() {
                        self.judge_node(ground, &mut one, present, &these, &mut trees);
                    }
                    purge = one;
                }
                trees.clear();
            }
            Reach::All => {
                let mut after = 0i64;
                loop {
                    let last: Option<i64> = sqlx::query_scalar(
                        "SELECT node FROM entries_past WHERE node > ? ORDER BY node LIMIT 1 OFFSET ?",
                    )
                    .bind(after)
                    .bind(LOT)
                    .fetch_optional(&self.shared.view.pool)
                    .await?;
                    let upto = last.unwrap_or(i64::MAX);
                    let rows =
                        self.past_rows("node > ?2 AND node <= (?1 + 0)", &upto.to_string(), after).await?;
                    let open = self.open_rows(&rows).await?;
                    for states in by_node(&rows) {
                        let present = open.get(&states[0].node()).copied();
                        let present = present.map(Option::unwrap_or_default);
                        self.judge_node(ground, &mut purge, present, states, &mut trees);
                    }
                    after = upto;
                    if last.is_none() {
                        break;
                    }
                }
            }
        }
        if !trees.is_empty() {
            purge.taken = purge.goes.iter().map(|g| g.key).collect();
        }
        for tree in trees {
            self.look_over_tree(ground, &mut purge, &tree).await?;
        }
        purge.largest.sort_by_key(|s| std::cmp::Reverse(s.size));
        purge.largest.truncate(100);
        self.name(&mut purge).await?;
        Ok(purge)
    }

    async fn past_rows(&self, which: &str, text: &str, number: i64) -> Result<Vec<Past>> {
        let found: String = sqlx::query_scalar(sql(format!(
            "SELECT json_group_array(json_array({PAST})) FROM
               (SELECT {PAST} FROM entries_past WHERE {which} ORDER BY node, until DESC)"
        )))
        .bind(text)
        .bind(number)
        .fetch_one(&self.shared.view.pool)
        .await?;
        parse(&found)
    }

    /// The present bytes of nodes that have an open row.
    async fn open_rows(&self, rows: &[Past]) -> Result<HashMap<i64, Option<i64>>> {
        let mut nodes: Vec<i64> = rows.iter().map(Past::node).collect();
        nodes.dedup();
        let list = serde_json::to_string(&nodes).unwrap_or_default();
        let found: String = sqlx::query_scalar(
            "SELECT json_group_array(json_array(e.node, e.content)) FROM json_each(?) j CROSS JOIN entries_now e
             WHERE e.node = j.value",
        )
        .bind(list)
        .fetch_one(&self.shared.view.pool)
        .await?;
        Ok(parse::<Vec<(i64, Option<i64>)>>(&found)?.into_iter().collect())
    }

    /// Decides over the states of one node, newest first. `present`: its bytes, 0 for a folder; none
    /// if it has no open row.
    fn judge_node(
        &self,
        ground: &mut Inputs<'_>,
        purge: &mut Purge,
        present: Option<i64>,
        states: &[Past],
        trees: &mut Vec<Past>,
    ) {
        purge.looked_at += states.len() as u64;
        // A node that was merged into another one, or removed: what it was last goes like what is removed.
        let gone = present.is_none();
        let all: Vec<State> = states
            .iter()
            .enumerate()
            .map(|(i, s)| s.state(&ground.named, gone && i == 0 && s.how() != ChangeKind::Left))
            .collect();
        let mut shelves: Vec<ShelfId> = states.iter().map(Past::shelf).collect();
        shelves.dedup();
        let mut fates: Vec<Option<Fate>> = vec![None; states.len()];
        for shelf in shelves {
            ground.prepare(shelf);
            let Some(setting) = ground.setting(shelf) else { continue };
            let present = present.filter(|p| *p != 0);
            for (i, fate) in
                judge(&setting, if gone { None } else { present.or(Some(0)) }, &all).into_iter().enumerate()
            {
                if states[i].shelf() == shelf {
                    fates[i] = Some(fate);
                }
            }
            let again = look_again(&fates.iter().flatten().copied().collect::<Vec<_>>());
            purge.look_again = match (purge.look_again, again) {
                (Some(a), Some(b)) => Some(a.min(b)),
                (a, b) => a.or(b),
            };
        }
        // Bytes go with the last of the rows that need them.
        let needed: HashSet<i64> = states
            .iter()
            .zip(&fates)
            .filter(|(s, f)| s.held() && matches!(f, Some(Fate::Kept(..)) | None))
            .filter_map(|(s, _)| s.5)
            .chain(present)
            .collect();
        for (state, fate) in states.iter().zip(fates) {
            let Some(fate) = fate else { continue };
            let frees = state.owns() && state.5.is_some_and(|c| !needed.contains(&c)) && state.held();
            let bytes = if frees { state.4 } else { 0 };
            let folder = state.3 == 0;
            if folder {
                // Folders cost nothing: their rows go when they are erased, or with what was in them.
                let removed = gone && state.how() == ChangeKind::Removed && std::ptr::eq(state, &states[0]);
                let keeping = &ground.keeping[&state.shelf()];
                let due = |span: Option<yellow_attic_core::keeping::span::Span>| {
                    span.is_some_and(|s| state.9 + s.0 <= ground.now)
                };
                let over = !keeping.hold && (due(keeping.erase) || due(keeping.trash) || ground.by_hand);
                if removed && over && (state.held() || due(keeping.erase)) {
                    trees.push(*state);
                } else if fate == Fate::Erased && !removed {
                    purge.take(
                        Going { key: Key::Past(state.0), erase: true },
                        state.shelf(),
                        Goes::Erased,
                        0,
                        state.9,
                    );
                }
                if let (true, true, Fate::Kept(why, _)) = (removed, ground.by_hand, fate) {
                    purge.kept.push((NodeId(state.node()), why));
                }
                continue;
            }
            match fate {
                Fate::Kept(why, _) => {
                    if matches!(why, Why::Snapshot(_)) && state.owns() && state.held() {
                        *purge.only_snapshots.entry(state.shelf()).or_default() += state.4;
                    }
                    if ground.by_hand && state.held() {
                        purge.kept.push((NodeId(state.node()), why));
                    }
                }
                Fate::Drops(why) if state.held() => {
                    purge.take(
                        Going { key: Key::Past(state.0), erase: false },
                        state.shelf(),
                        why,
                        bytes,
                        state.9,
                    );
                    sample(purge, state, why, bytes);
                }
                Fate::Erased => {
                    purge.take(
                        Going { key: Key::Past(state.0), erase: true },
                        state.shelf(),
                        Goes::Erased,
                        bytes,
                        state.9,
                    );
                    sample(purge, state, Goes::Erased, bytes);
                }
                Fate::Drops(_) => {}
            }
        }
    }

    /// Decides over everything beneath a removed folder whose time is over, from the leaves up.
    async fn look_over_tree(&self, ground: &mut Inputs<'_>, purge: &mut Purge, root: &Past) -> Result<()> {
        let shelf = root.shelf();
        ground.prepare(shelf);
        let erase = ground.keeping[&shelf].erase.is_some_and(|s| root.9 + s.0 <= ground.now);
        let why = match (erase, ground.by_hand) {
            (true, _) => Goes::Erased,
            (_, true) => Goes::Hand,
            _ => Goes::Trash,
        };
        let mut folders = vec![root.1];
        let mut at = 0;
        let mut kept = false;
        while at < folders.len() {
            let folder = folders[at];
            at += 1;
            let text: String = sqlx::query_scalar(
                "SELECT json_group_array(json_array(e.node, e.kind, e.size, e.content, e.since, e.at, c.state))
                 FROM entries_now e LEFT JOIN contents c ON c.id = e.content WHERE e.parent = ?",
            )
            .bind(folder)
            .fetch_one(&self.shared.view.pool)
            .await?;
            type Open = (i64, i64, i64, Option<i64>, i64, i64, Option<i64>);
            for (node, kind, size, content, since, began, life) in parse::<Vec<Open>>(&text)? {
                purge.looked_at += 1;
                let state = State {
                    since,
                    until: root.7,
                    at: began,
                    ended_at: root.9,
                    content,
                    size,
                    named: ground.named.contains(&(node, since)),
                    removed: true,
                };
                let Some(setting) = ground.setting(shelf) else { continue };
                // Its time is over: only what stands above the keep rules counts.
                let setting = Setting { by_hand: true, ..setting };
                let fate = judge(&setting, None, &[state])[0];
                let goes = !matches!(fate, Fate::Kept(..));
                let held = life.is_some_and(|l| l < 2);
                if let Fate::Kept(w, _) = fate {
                    kept = true;
                    if ground.by_hand && held {
                        purge.kept.push((NodeId(node), w));
                    }
                    if matches!(w, Why::Snapshot(_)) && held {
                        *purge.only_snapshots.entry(shelf).or_default() += size;
                    }
                }
                if kind == 0 {
                    folders.push(node);
                }
                let here = if fate == Fate::Erased { Goes::Erased } else { why };
                let rows = self.past_rows("node = ?2 AND ?1 = ?1", "", node).await?;
                let mut nothing = Vec::new();
                if !rows.is_empty() {
                    let by_hand = std::mem::replace(&mut ground.by_hand, true);
                    let mut one = Purge { taken: std::mem::take(&mut purge.taken), ..Purge::default() };
                    self.judge_node(ground, &mut one, Some(content.unwrap_or(0)), &rows, &mut nothing);
                    ground.by_hand = by_hand;
                    purge.taken = one.taken;
                    for ((its, w), sum) in one.sums {
                        let w = if w == Goes::Hand { here } else { w };
                        let all = purge.sums.entry((its, w)).or_default();
                        all.states += sum.states;
                        all.bytes += sum.bytes;
                        all.oldest = if all.oldest == 0 { sum.oldest } else { all.oldest.min(sum.oldest) };
                        all.newest = all.newest.max(sum.newest);
                    }
                    for (its, bytes) in one.only_snapshots {
                        *purge.only_snapshots.entry(its).or_default() += bytes;
                    }
                    purge.goes.extend(one.goes);
                }
                if kind != 0 && goes && (held || fate == Fate::Erased) {
                    let bytes = if held { size } else { 0 };
                    let going = Going { key: Key::Open(node), erase: fate == Fate::Erased };
                    purge.take(going, shelf, here, bytes, root.9);
                    if bytes > 0 {
                        let name = String::new();
                        purge.largest.push(Sample {
                            node: NodeId(node),
                            shelf,
                            name,
                            size: bytes,
                            ended_at: root.9,
                            why: here,
                        });
                    }
                }
            }
            if purge.largest.len() > 10_000 {
                purge.largest.sort_by_key(|s| std::cmp::Reverse(s.size));
                purge.largest.truncate(100);
            }
        }
        if erase && !kept {
            for folder in folders.iter().skip(1).rev() {
                purge.take(Going { key: Key::Open(*folder), erase: true }, shelf, Goes::Erased, 0, root.9);
            }
        }
        if !kept {
            purge.take(Going { key: Key::Past(root.0), erase }, shelf, why, 0, root.9);
        }
        Ok(())
    }

    /// What keep rules alone keep: when it ended, and how many bytes it holds.
    async fn candidates(&self, ground: &mut Inputs<'_>, found: &mut Vec<(i64, i64)>) -> Result<()> {
        let rows: String = sqlx::query_scalar(
            "SELECT json_group_array(json_array(ended_at, size, shelf, since, until)) FROM entries_past
             WHERE held = 1 AND content IS NOT NULL AND ended_how IN (1, 3, 5, 7)",
        )
        .fetch_one(&self.shared.view.pool)
        .await?;
        for (ended_at, size, shelf, since, until) in parse::<Vec<(i64, i64, i64, i64, i64)>>(&rows)? {
            let shelf = ShelfId(shelf);
            ground.prepare(shelf);
            let Some(setting) = ground.setting(shelf) else { continue };
            let young = setting.keeping.floor.is_none_or(|f| ended_at + f.0 > ground.now);
            let shown = setting.snapshots.iter().any(|m| since <= m.moment && m.moment < until);
            if !young && !shown && !setting.keeping.hold {
                found.push((ended_at, size));
            }
        }
        Ok(())
    }

    /// Writes the names of what is shown.
    async fn name(&self, purge: &mut Purge) -> Result<()> {
        for sample in &mut purge.largest {
            let mut conn = self.shared.view.pool.acquire().await?;
            let row = match rows::past_of(&mut conn, sample.node, 1).await?.into_iter().next() {
                Some(past) => Some(past.row),
                None => rows::row(&mut conn, sample.node).await?,
            };
            sample.name = row.map_or_else(String::new, |r| r.name().to_string());
        }
        Ok(())
    }
}

fn sample(purge: &mut Purge, state: &Past, why: Goes, bytes: i64) {
    if bytes == 0 {
        return;
    }
    purge.largest.push(Sample {
        node: NodeId(state.node()),
        shelf: state.shelf(),
        name: String::new(),
        size: bytes,
        ended_at: state.9,
        why,
    });
    if purge.largest.len() > 10_000 {
        purge.largest.sort_by_key(|s| std::cmp::Reverse(s.size));
        purge.largest.truncate(100);
    }
}

fn by_node(rows: &[Past]) -> impl Iterator<Item = &[Past]> {
    rows.chunk_by(|a, b| a.node() == b.node())
}

//! Which past states go, by the rules in force: looked over node by node, or as a whole tree.

use crate::catalogue::rows::{parse, sql};
use crate::fs::error::Result;
use crate::fs::model::ChangeKind;
use crate::timeline::History;
use crate::timeline::retention::{Going, Key, LOT, Purge, Reach, Sample};
use std::collections::{HashMap, HashSet};
use yellow_attic_core::keeping::{
    Days, Fate, Gives, Goes, Keeping, Mark, Setting, State, Why, judge, look_again, room_before,
};
use yellow_attic_core::rules::Rules;
use yellow_attic_core::{NodeId, ShelfId};

pub(crate) fn sample(purge: &mut Purge, state: &Past, why: Goes, bytes: i64) {
    if bytes == 0 {
        return;
    }
    purge.largest.push(Sample {
        node: NodeId(state.node()),
        shelf: state.shelf(),
        name: String::new(),
        size: bytes,
        ended_at: state.ended_at,
        why,
    });
    if purge.largest.len() > 10_000 {
        purge.largest.sort_by_key(|s| std::cmp::Reverse(s.size));
        purge.largest.truncate(100);
    }
}

impl History {
    pub(crate) async fn look_over(&self, ground: &mut Inputs<'_>, reach: &Reach) -> Result<Purge> {
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
                    let content = states.iter().find(|s| s.since == since.0).and_then(|s| s.content);
                    let these: Vec<Past> = states
                        .iter()
                        .filter(|s| s.since == since.0 || (content.is_some() && s.content == content))
                        .copied()
                        .collect();
                    if these.iter().all(|s| s.content != present) || present.is_none() {
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
                    .fetch_optional(&self.0.shared.view.pool)
                    .await?;
                    let upto = last.unwrap_or(i64::MAX);
                    let rows =
                        self.past_rows("node > ?2 AND node <= (?1 + 0)", &upto.to_string(), after).await?;
                    self.judge_rows(ground, &mut purge, &rows, &mut trees).await?;
                    after = upto;
                    if last.is_none() {
                        break;
                    }
                }
            }
        }
        self.look_over_trees(ground, &mut purge, trees).await?;
        self.show_largest(&mut purge).await?;
        Ok(purge)
    }

    pub(crate) async fn show_largest(&self, purge: &mut Purge) -> Result<()> {
        purge.largest.sort_by_key(|s| std::cmp::Reverse(s.size));
        purge.largest.truncate(100);
        self.name(purge).await
    }

    /// Decides over whole nodes.
    pub(crate) async fn judge_rows(
        &self,
        ground: &mut Inputs<'_>,
        purge: &mut Purge,
        rows: &[Past],
        trees: &mut Vec<Past>,
    ) -> Result<()> {
        let open = self.open_rows(rows).await?;
        for states in by_node(rows) {
            let present = open.get(&states[0].node()).copied();
            let present = present.map(Option::unwrap_or_default);
            self.judge_node(ground, purge, present, states, trees);
        }
        Ok(())
    }

    /// Decides over removed folders whose time is over.
    pub(crate) async fn look_over_trees(
        &self,
        ground: &mut Inputs<'_>,
        purge: &mut Purge,
        trees: Vec<Past>,
    ) -> Result<()> {
        if trees.is_empty() {
            return Ok(());
        }
        purge.taken = purge.goes.iter().map(|g| g.key).collect();
        // What states of others need is known when all of them were looked at.
        let mut first = Purge { taken: purge.taken.clone(), ..Purge::default() };
        for tree in &trees {
            self.look_over_tree(ground, &mut first, tree, None).await?;
        }
        let mut going = purge.taken.clone();
        going.extend(first.goes.iter().map(|g| g.key));
        for tree in &trees {
            self.look_over_tree(ground, purge, tree, Some(&going)).await?;
        }
        Ok(())
    }

    pub(crate) async fn past_rows(&self, which: &str, text: &str, number: i64) -> Result<Vec<Past>> {
        let found: String = sqlx::query_scalar(sql(format!(
            "SELECT json_group_array(json_array({PAST})) FROM
               (SELECT {PAST} FROM entries_past WHERE {which} ORDER BY node, until DESC)"
        )))
        .bind(text)
        .bind(number)
        .fetch_one(&self.0.shared.view.pool)
        .await?;
        parse(&found)
    }

    /// The present bytes of nodes that have an open row.
    pub(crate) async fn open_rows(&self, rows: &[Past]) -> Result<HashMap<i64, Option<i64>>> {
        let mut nodes: Vec<i64> = rows.iter().map(Past::node).collect();
        nodes.dedup();
        let list = serde_json::to_string(&nodes).unwrap_or_default();
        let found: String = sqlx::query_scalar(
            "SELECT json_group_array(json_array(e.node, e.content)) FROM json_each(?) j CROSS JOIN entries_now e
             WHERE e.node = j.value",
        )
        .bind(list)
        .fetch_one(&self.0.shared.view.pool)
        .await?;
        Ok(parse::<Vec<(i64, Option<i64>)>>(&found)?.into_iter().collect())
    }

    /// Decides over the states of one node, newest first. `present`: its bytes, 0 for a folder; none
    /// if it has no open row.
    pub(crate) fn judge_node(
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
            .filter_map(|(s, _)| s.content)
            .chain(present)
            .collect();
        for (state, fate) in states.iter().zip(fates) {
            let Some(fate) = fate else { continue };
            let frees = state.owns() && state.content.is_some_and(|c| !needed.contains(&c)) && state.held();
            let bytes = if frees { state.size } else { 0 };
            let folder = state.kind == 0;
            if folder {
                // Folders cost nothing: their rows go when they are erased, or with what was in them.
                let removed = gone && state.how() == ChangeKind::Removed && std::ptr::eq(state, &states[0]);
                let keeping = &ground.keeping[&state.shelf()];
                let due = |span: Option<yellow_attic_core::keeping::span::Span>| {
                    span.is_some_and(|s| state.ended_at + s.0 <= ground.now)
                };
                let over = !keeping.hold && (due(keeping.erase) || due(keeping.trash) || ground.by_hand);
                if removed && over && (state.held() || due(keeping.erase)) {
                    trees.push(*state);
                } else if fate == Fate::Erased && !removed {
                    purge.take(
                        Going { key: Key::Past(state.id), erase: true },
                        state.shelf(),
                        Goes::Erased,
                        0,
                        state.ended_at,
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
                        *purge.only_snapshots.entry(state.shelf()).or_default() += state.size;
                    }
                    if ground.by_hand && state.held() {
                        purge.kept.push((NodeId(state.node()), why));
                    }
                }
                Fate::Drops(why) if state.held() => {
                    purge.take(
                        Going { key: Key::Past(state.id), erase: false },
                        state.shelf(),
                        why,
                        bytes,
                        state.ended_at,
                    );
                    sample(purge, state, why, bytes);
                }
                Fate::Erased => {
                    purge.take(
                        Going { key: Key::Past(state.id), erase: true },
                        state.shelf(),
                        Goes::Erased,
                        bytes,
                        state.ended_at,
                    );
                    sample(purge, state, Goes::Erased, bytes);
                }
                Fate::Drops(_) => {}
            }
        }
    }

    /// Decides over everything beneath a removed folder whose time is over, from the leaves up.
    pub(crate) async fn look_over_tree(
        &self,
        ground: &mut Inputs<'_>,
        purge: &mut Purge,
        root: &Past,
        going: Option<&HashSet<Key>>,
    ) -> Result<()> {
        let shelf = root.shelf();
        ground.prepare(shelf);
        let erase = ground.keeping[&shelf].erase.is_some_and(|s| root.ended_at + s.0 <= ground.now);
        let why = match (erase, ground.by_hand) {
            (true, _) => Goes::Erased,
            (_, true) => Goes::Hand,
            _ => Goes::Trash,
        };
        let mut folders = vec![root.node];
        let mut at = 0;
        let mut kept = false;
        while at < folders.len() {
            let folder = folders[at];
            at += 1;
            let text: String = sqlx::query_scalar(
                "SELECT json_group_array(json_array(e.node, e.kind, e.size, e.content, e.since, e.at, c.state,
                     (SELECT json_group_array(p.id) FROM entries_past p WHERE p.content = e.content AND p.held = 1)))
                 FROM entries_now e LEFT JOIN contents c ON c.id = e.content WHERE e.parent = ?",
            )
            .bind(folder)
            .fetch_one(&self.0.shared.view.pool)
            .await?;
            type Open = (i64, i64, i64, Option<i64>, i64, i64, Option<i64>, Vec<i64>);
            for (node, kind, size, content, since, began, life, needed_by) in parse::<Vec<Open>>(&text)? {
                purge.looked_at += 1;
                let state = State {
                    since,
                    until: root.until,
                    at: began,
                    ended_at: root.ended_at,
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
                // Bytes that an earlier state still needs, of this one or of what it goes on from, stay with this one as well.
                let shared = going.is_some_and(|g| needed_by.iter().any(|id| !g.contains(&Key::Past(*id))));
                kept |= shared;
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
                if kind != 0 && goes && !shared && (held || fate == Fate::Erased) {
                    let bytes = if held { size } else { 0 };
                    let going = Going { key: Key::Open(node), erase: fate == Fate::Erased };
                    purge.take(going, shelf, here, bytes, root.ended_at);
                    if bytes > 0 {
                        let name = String::new();
                        purge.largest.push(Sample {
                            node: NodeId(node),
                            shelf,
                            name,
                            size: bytes,
                            ended_at: root.ended_at,
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
                purge.take(
                    Going { key: Key::Open(*folder), erase: true },
                    shelf,
                    Goes::Erased,
                    0,
                    root.ended_at,
                );
            }
        }
        if !kept {
            purge.take(Going { key: Key::Past(root.id), erase }, shelf, why, 0, root.ended_at);
        }
        Ok(())
    }

    /// Before which time what keep rules alone keep gives way, so that so many bytes become free; none if none need be.
    pub(crate) async fn gives_way_before(&self, ground: &mut Inputs<'_>, needed: i64) -> Result<Option<i64>> {
        let mut days = Days::default();
        self.candidates(ground, &mut |at, bytes| days.count(at, bytes)).await?;
        let (day, rest) = match days.give(needed) {
            Gives::Nothing => return Ok(None),
            Gives::Before(all) => return Ok(Some(all)),
            Gives::Within(day, rest) => (day, rest),
        };
        let mut of_day = Vec::new();
        let mut take = |at, bytes| {
            if Days::of(at) == day {
                of_day.push((at, bytes));
            }
        };
        self.candidates(ground, &mut take).await?;
        Ok(room_before(&mut of_day, rest))
    }

    /// What keep rules alone keep: when it ended, and how many bytes it holds.
    async fn candidates(
        &self,
        ground: &mut Inputs<'_>,
        found: &mut (dyn FnMut(i64, i64) + Send),
    ) -> Result<()> {
        let mut after = 0_i64;
        loop {
            type Row = (i64, i64, i64, i64, i64, i64);
            let rows: Vec<Row> = sqlx::query_as(
                "SELECT id, ended_at, size, shelf, since, until FROM entries_past
                 WHERE id > ? AND held = 1 AND content IS NOT NULL AND ended_how IN (1, 3, 5, 7) ORDER BY id LIMIT ?",
            )
            .bind(after)
            .bind(LOT)
            .fetch_all(&self.0.shared.view.pool)
            .await?;
            let Some(last) = rows.last() else { return Ok(()) };
            after = last.0;
            for (_, ended_at, size, shelf, since, until) in rows {
                let shelf = ShelfId(shelf);
                ground.prepare(shelf);
                let Some(setting) = ground.setting(shelf) else { continue };
                let young = setting.keeping.floor.is_none_or(|f| ended_at + f.0 > ground.now);
                let shown = setting.snapshots.iter().any(|m| since <= m.moment && m.moment < until);
                if !young && !shown && !setting.keeping.hold {
                    found(ended_at, size);
                }
            }
        }
    }
}

/// A past row, as far as deciding over it needs.
#[derive(serde::Deserialize, Clone, Copy)]
pub(crate) struct Past {
    pub(crate) id: i64,
    pub(crate) node: i64,
    pub(crate) shelf: i64,
    pub(crate) kind: i64,
    pub(crate) size: i64,
    pub(crate) content: Option<i64>,
    pub(crate) since: i64,
    pub(crate) until: i64,
    pub(crate) at: i64,
    pub(crate) ended_at: i64,
    pub(crate) ended_how: i64,
    pub(crate) held: i64,
}

impl Past {
    pub(crate) fn node(&self) -> i64 {
        self.node
    }
    pub(crate) fn shelf(&self) -> ShelfId {
        ShelfId(self.shelf)
    }
    pub(crate) fn how(&self) -> ChangeKind {
        ChangeKind::from_number(self.ended_how)
    }
    pub(crate) fn held(&self) -> bool {
        self.held != 0
    }
    /// Its end was the end of its bytes: they count here.
    pub(crate) fn owns(&self) -> bool {
        self.content.is_some()
            && matches!(
                self.how(),
                ChangeKind::Changed | ChangeKind::Restored | ChangeKind::Found | ChangeKind::Removed
            )
    }

    pub(crate) fn state(&self, named: &HashSet<(i64, i64)>, gone: bool) -> State {
        State {
            since: self.since,
            until: self.until,
            at: self.at,
            ended_at: self.ended_at,
            content: self.content,
            size: self.size,
            named: named.contains(&(self.node, self.since)),
            removed: gone,
        }
    }
}

pub(crate) const PAST: &str =
    "id, node, shelf, kind, size, content, since, until, at, ended_at, ended_how, held";

/// All that bears on what goes, read once.
pub(crate) struct Inputs<'r> {
    pub(crate) rules: &'r Rules,
    pub(crate) keeping: HashMap<ShelfId, Keeping>,
    pub(crate) snapshots: HashMap<ShelfId, Vec<Mark>>,
    pub(crate) named: HashSet<(i64, i64)>,
    pub(crate) now: i64,
    pub(crate) room_before: Option<i64>,
    pub(crate) by_hand: bool,
}

impl Inputs<'_> {
    pub(crate) fn prepare(&mut self, shelf: ShelfId) {
        if !self.keeping.contains_key(&shelf) {
            self.keeping.insert(shelf, Keeping::of(self.rules, shelf));
        }
    }

    pub(crate) fn setting(&self, shelf: ShelfId) -> Option<Setting<'_>> {
        Some(Setting {
            keeping: self.keeping.get(&shelf)?,
            snapshots: self.snapshots.get(&shelf).map_or(&[], Vec::as_slice),
            now: self.now,
            room_before: self.room_before,
            by_hand: self.by_hand,
        })
    }
}

pub(crate) fn by_node(rows: &[Past]) -> impl Iterator<Item = &[Past]> {
    rows.chunk_by(|a, b| a.node() == b.node())
}

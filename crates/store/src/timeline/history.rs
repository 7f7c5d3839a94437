//! The past: moments, a folder as it was, the states of a node, and who may look at them.

use crate::catalogue::rows::{self, ROW_COLUMNS, ROW_FROM, parse, sql};
use crate::engine::held::Listed;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ChangeKind, PastRow, Row};
use crate::rights::access::Viewer;
use crate::timeline::History;
use crate::timeline::reading::{Entry, MOST_ENTRIES, Page};
use async_recursion::async_recursion as boxed;
use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};
use yellow_attic_core::interval::forks;
use yellow_attic_core::rights::{Level, Standing};
use yellow_attic_core::{Moment, NodeId, ShelfId};

/// What became of a past entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SinceThen {
    /// The same bytes in the same place.
    Same,
    /// Other bytes.
    Different,
    /// In another place, or under another name.
    Moved,
    /// No longer there.
    Removed,
    /// A folder in the same place, in which something has changed.
    Inside,
}

/// What one may do at a past place, and at where the same thing is now or was last.
#[derive(Clone, Copy)]
pub(crate) struct Visibility {
    then: Standing,
    last: Standing,
}

/// So long.
const LISTED_FOR: Duration = Duration::from_secs(10);
/// So many rows in all.
const MOST_LISTED: usize = 100_000;

fn compared(then: &Row, now: &Row) -> SinceThen {
    if now.content.map(|c| c.hash) != then.content.map(|c| c.hash) {
        SinceThen::Different
    } else if now.parent != then.parent || now.key != then.key {
        SinceThen::Moved
    } else {
        SinceThen::Same
    }
}

impl Visibility {
    /// The same for something in the folder that is still in it.
    fn enter(&self, viewer: &Viewer, node: NodeId) -> Visibility {
        Visibility { then: viewer.enter(self.then, node), last: viewer.enter(self.last, node) }
    }

    /// A past state is shown only to who may look at both.
    pub fn sees(&self) -> bool {
        self.then.level().is_some() && self.last.level().is_some()
    }
}

/// A state in the history of a node, newest first.
#[derive(Clone, Debug)]
pub struct State {
    /// The state.
    pub row: Row,
    /// When and how it ended; none for the present one.
    pub ended: Option<(Moment, i64, ChangeKind)>,
}

impl History {
    /// The number that was the last one at a time.
    #[boxed]
    pub async fn moment_at(&self, at_ms: i64) -> Result<Moment> {
        let next: Option<i64> = sqlx::query_scalar("SELECT min(n) FROM moments WHERE at > ?")
            .bind(at_ms)
            .fetch_one(&self.0.shared.view.pool)
            .await?;
        match next {
            Some(n) => Ok(Moment(n - 1)),
            None => self.now_moment().await,
        }
    }

    /// The last number given out.
    #[boxed]
    pub async fn now_moment(&self) -> Result<Moment> {
        let n: i64 =
            sqlx::query_scalar("SELECT moment FROM heads").fetch_one(&self.0.shared.view.pool).await?;
        Ok(Moment(n))
    }

    /// The time of a number.
    #[boxed]
    pub async fn time_of(&self, moment: Moment) -> Result<i64> {
        let at: Option<i64> =
            sqlx::query_scalar("SELECT at FROM moments WHERE n <= ? ORDER BY n DESC LIMIT 1")
                .bind(moment.0)
                .fetch_optional(&self.0.shared.view.pool)
                .await?;
        Ok(at.unwrap_or(0))
    }

    /// The state of a node at a number, whether or not its folder was there.
    #[boxed]
    pub async fn state_at(&self, node: NodeId, at: Moment) -> Result<Option<Row>> {
        if let Some(row) = self.0.shared.view.row(node).await?
            && row.since <= at
        {
            return Ok(Some((*row).clone()));
        }
        let text: String = sqlx::query_scalar(sql(format!(
            "SELECT json_group_array(json_array({ROW_COLUMNS}))
             FROM (SELECT * FROM entries_past WHERE node = ? AND until > ? ORDER BY until LIMIT 1) e
             LEFT JOIN contents c ON c.id = e.content"
        )))
        .bind(node.0)
        .bind(at.0)
        .fetch_one(&self.0.shared.view.pool)
        .await?;
        Ok(rows::parse_rows(&text)?.into_iter().find(|r| r.since <= at))
    }

    /// The same for somebody who may see where it was then.
    #[boxed]
    pub async fn seen_at(&self, actor: &Actor, node: NodeId, at: Moment) -> Result<Option<Row>> {
        let Some(row) = self.state_at(node, at).await? else { return Ok(None) };
        let seen = self.saw(&self.0.grants().viewer(actor), node, row.parent, row.shelf, at).await?;
        Ok(Some(row).filter(|_| seen))
    }

    /// The way up from a node as it was at a number; none if it was not alive then.
    #[boxed]
    pub async fn chain_at(&self, node: NodeId, at: Moment) -> Result<Option<Vec<Row>>> {
        let mut chain = Vec::new();
        let mut next = Some(node);
        while let Some(id) = next {
            let Some(row) = self.state_at(id, at).await? else { return Ok(None) };
            next = row.parent;
            chain.push(row);
        }
        Ok(Some(chain))
    }

    /// What was in a folder at a number, unsorted. Costs what the answer costs.
    pub(crate) async fn children_at(&self, node: NodeId, at: Moment) -> Result<Vec<Row>> {
        let last = self.now_moment().await?;
        let forks = forks(at.0, last.0);
        let json = |list: &[i64]| serde_json::to_string(list).unwrap_or_default();
        let text: String = sqlx::query_scalar(sql(format!(
            "SELECT json_group_array(json_array({ROW_COLUMNS})) FROM (
               SELECT e.node, e.shelf, e.parent, e.sort_key, e.kind, e.mtime, e.executable, e.since, e.at, e.how, e.account, e.device, e.content
                 FROM json_each(?2) j CROSS JOIN entries_past e INDEXED BY entries_past_to
                 WHERE e.parent = ?1 AND e.fork = j.value AND e.until > ?4
               UNION ALL
               SELECT e.node, e.shelf, e.parent, e.sort_key, e.kind, e.mtime, e.executable, e.since, e.at, e.how, e.account, e.device, e.content
                 FROM json_each(?3) j CROSS JOIN entries_past e INDEXED BY entries_past_from
                 WHERE e.parent = ?1 AND e.fork = j.value AND e.since <= ?4
               UNION ALL
               SELECT e.node, e.shelf, e.parent, e.sort_key, e.kind, e.mtime, e.executable, e.since, e.at, e.how, e.account, e.device, e.content
                 FROM entries_now e WHERE e.parent = ?1 AND e.since <= ?4
             ) e LEFT JOIN contents c ON c.id = e.content"
        )))
        .bind(node.0)
        .bind(json(&forks.below))
        .bind(json(&forks.above))
        .bind(at.0)
        .fetch_one(&self.0.shared.view.pool)
        .await?;
        rows::parse_rows(&text)
    }

    /// The entries of a folder as it was at a number, by name, with what became of each.
    #[boxed]
    pub async fn list_at(
        &self,
        actor: &Actor,
        node: NodeId,
        at: Moment,
        limit: usize,
        from: Option<&str>,
    ) -> Result<Page<Entry>> {
        self.check_past(actor, node, at).await?;
        let viewer = self.0.grants().viewer(actor);
        let Some((_, sight)) = self.sight(&viewer, node, at).await? else {
            return Err(StoreError::NoSuchMoment);
        };
        let limit = limit.clamp(1, MOST_ENTRIES);
        let list = format!("entries of {node} at {at}");
        let after = from.map(|c| self.0.place_of(actor, &list, c)).transpose()?;
        let all = self.listed_at(node, at).await?;
        let place = |r: &Row| format!("{}{}", u8::from(!r.is_folder()), r.key);
        let begins = after.map_or(0, |after| all.partition_point(|r| place(r) <= after));
        let mut items: Vec<Entry> = Vec::with_capacity(limit);
        let mut more = false;
        let time = self.time_of(at).await?;
        let here = self.0.shared.view.chain(node).await?.is_some();
        let mut now = HashMap::new();
        for (i, row) in all[begins..].iter().cloned().enumerate() {
            if i % limit == 0 {
                // What most of them need is read at once: where they are now, and whether their folder is there.
                now = self.open_rows_of(&all[begins + i..all.len().min(begins + i + limit)]).await?;
            }
            let stayed = now.get(&row.node).filter(|now| now.parent == row.parent);
            let sees = match stayed {
                Some(_) => sight.enter(&viewer, row.node).sees(),
                None => self.sight_in(&viewer, &sight, &row).await?.sees(),
            };
            if sees && items.len() == limit {
                more = true;
                break;
            }
            if sees {
                let mut since_then = match stayed {
                    Some(_) if !here => SinceThen::Removed,
                    Some(now) => compared(&row, now),
                    None => self.since_then(&row).await?,
                };
                if since_then == SinceThen::Same
                    && row.is_folder()
                    && self.0.files().sums(actor, row.node).await?.is_some_and(|f| f.changed_at > time)
                {
                    since_then = SinceThen::Inside;
                }
                let since_then = Some(since_then);
                items.push(Entry { row, folder: None, since_then });
            }
        }
        let next = items.last().filter(|_| more).map(|e| self.0.cursor(actor, &list, &place(&e.row)));
        Ok(Page { items, next })
    }

    async fn since_then(&self, then: &Row) -> Result<SinceThen> {
        let Some(chain) = self.0.shared.view.chain(then.node).await? else { return Ok(SinceThen::Removed) };
        Ok(compared(then, &chain[0]))
    }

    /// The entries of a folder as it was, in order. The past does not change, but for bytes that are let go: what
    /// was gathered for one page is kept for the next.
    async fn listed_at(&self, node: NodeId, at: Moment) -> Result<Arc<Vec<Row>>> {
        let mut kept = self.0.shared.listed.lock().clone();
        kept.retain(|l| l.made.elapsed() < LISTED_FOR);
        if let Some(found) = kept.iter().find(|l| (l.node, l.at) == (node, at)) {
            return Ok(found.rows.clone());
        }
        let mut rows = self.children_at(node, at).await?;
        rows.sort_by(|a, b| (a.kind, &a.key).cmp(&(b.kind, &b.key)));
        let rows = Arc::new(rows);
        kept.insert(0, Listed { node, at, rows: rows.clone(), made: Instant::now() });
        let mut room = MOST_LISTED;
        kept.retain(|l| {
            let fits = l.rows.len() <= room;
            room = room.saturating_sub(l.rows.len());
            fits
        });
        *self.0.shared.listed.lock() = kept;
        Ok(rows)
    }

    /// The open rows of some nodes, by one statement.
    async fn open_rows_of(&self, rows: &[Row]) -> Result<HashMap<NodeId, Row>> {
        let nodes: Vec<i64> = rows.iter().map(|r| r.node.0).collect();
        let text: String = sqlx::query_scalar(sql(format!(
            "SELECT json_group_array(json_array({ROW_COLUMNS})) FROM json_each(?1) j CROSS JOIN {ROW_FROM} WHERE e.node = j.value"
        )))
        .bind(serde_json::to_string(&nodes).unwrap_or_default())
        .fetch_one(&self.0.shared.view.pool)
        .await?;
        Ok(rows::parse_rows(&text)?.into_iter().map(|r| (r.node, r)).collect())
    }

    /// A past state is shown only to who may view both the node's present or last place and
    /// its place then.
    #[boxed]
    pub async fn check_past(&self, actor: &Actor, node: NodeId, at: Moment) -> Result<Vec<Row>> {
        let gone = || StoreError::NotFound("The file or folder at that moment".into());
        if at > self.now_moment().await? {
            return Err(StoreError::NoSuchMoment);
        }
        let (chain, sight) = self.sight(&self.0.grants().viewer(actor), node, at).await?.ok_or_else(gone)?;
        if sight.sees() { Ok(chain) } else { Err(gone()) }
    }

    /// The way to a node as it was, and what one may do there then and at its present or last place.
    pub(crate) async fn sight(
        &self,
        viewer: &Viewer,
        node: NodeId,
        at: Moment,
    ) -> Result<Option<(Vec<Row>, Visibility)>> {
        let Some(chain) = self.chain_at(node, at).await? else { return Ok(None) };
        let Some(shelf) = chain.last().map(|r| r.shelf) else { return Ok(None) };
        let then = self.standing_on(viewer, shelf, chain.iter().map(|r| r.node));
        let last = match self.last_way(node).await? {
            Some((way, shelf)) => self.standing_on(viewer, shelf, way.into_iter()),
            None => then,
        };
        Ok(Some((chain, Visibility { then, last })))
    }

    /// The same for what was in a folder then: where it has not moved since, nothing is read.
    pub(crate) async fn sight_in(
        &self,
        viewer: &Viewer,
        folder: &Visibility,
        child: &Row,
    ) -> Result<Visibility> {
        let then = viewer.enter(folder.then, child.node);
        let stayed = self.0.shared.view.row(child.node).await?.is_some_and(|now| now.parent == child.parent);
        let last = match stayed {
            true => viewer.enter(folder.last, child.node),
            false => match self.last_way(child.node).await? {
                Some((way, shelf)) => self.standing_on(viewer, shelf, way.into_iter()),
                None => then,
            },
        };
        Ok(Visibility { then, last })
    }

    fn standing_on(
        &self,
        viewer: &Viewer,
        shelf: ShelfId,
        way: impl DoubleEndedIterator<Item = NodeId>,
    ) -> Standing {
        viewer.standing(shelf, way)
    }

    pub(crate) fn sees(&self, viewer: &Viewer, way: &[NodeId], shelf: ShelfId) -> bool {
        self.standing_on(viewer, shelf, way.iter().copied()).level().is_some()
    }

    /// The way to a node and its shelf, as they are or were last.
    pub(crate) async fn last_way(&self, node: NodeId) -> Result<Option<(Vec<NodeId>, ShelfId)>> {
        let mut next = Some(node);
        let mut shelf = None;
        let mut way = Vec::new();
        while let (Some(id), true) = (next, way.len() < 1000) {
            let row = match self.0.shared.view.row(id).await? {
                Some(row) => (*row).clone(),
                None => {
                    let mut conn = self.0.shared.view.pool.acquire().await?;
                    match rows::past_of(&mut conn, id, 1).await?.into_iter().next() {
                        Some(past) => past.row,
                        None => return Ok(None),
                    }
                }
            };
            way.push(id);
            shelf = Some(row.shelf);
            next = row.parent;
        }
        Ok(shelf.map(|shelf| (way, shelf)))
    }

    /// Whether one sees a place as it was: the folders above something at a number.
    pub(crate) async fn saw(
        &self,
        viewer: &Viewer,
        node: NodeId,
        parent: Option<NodeId>,
        shelf: ShelfId,
        at: Moment,
    ) -> Result<bool> {
        let mut way = vec![node];
        let mut shelf = shelf;
        if let Some(parent) = parent {
            match self.chain_at(parent, at).await? {
                Some(chain) => {
                    shelf = chain.last().map_or(shelf, |r| r.shelf);
                    way.extend(chain.iter().map(|r| r.node));
                }
                // What was found in a removed folder was entered after it was gone: where it was last.
                None => {
                    let Some((above, its)) = self.last_way(parent).await? else { return Ok(false) };
                    shelf = its;
                    way.extend(above);
                }
            }
        }
        Ok(self.sees(viewer, &way, shelf))
    }

    /// The states of a node, newest first. For one that is gone, what there was.
    #[boxed]
    pub async fn states(&self, actor: &Actor, node: NodeId, limit: usize) -> Result<Vec<State>> {
        let gone = || StoreError::NotFound("The file or folder".into());
        let viewer = self.0.grants().viewer(actor);
        let (way, shelf) = self.last_way(node).await?.ok_or_else(gone)?;
        if !self.sees(&viewer, &way, shelf) {
            return Err(gone());
        }
        let mut states = Vec::new();
        if let Some(row) = self.0.shared.view.row(node).await? {
            states.push(State { row: (*row).clone(), ended: None });
        }
        let mut conn = self.0.shared.view.pool.acquire().await?;
        let found = rows::past_of(&mut conn, node, limit.clamp(1, MOST_ENTRIES) as i64).await?;
        drop(conn);
        for past in found {
            // By today's grants, on its place then as well.
            let row = &past.row;
            if self.saw(&viewer, node, row.parent, row.shelf, Moment(past.until.0 - 1)).await? {
                states
                    .push(State { row: past.row, ended: Some((past.until, past.ended_at, past.ended_how)) });
            }
        }
        if states.is_empty() { Err(gone()) } else { Ok(states) }
    }

    /// The last past row of a node.
    pub(crate) async fn last_past(&self, node: NodeId) -> Result<Option<PastRow>> {
        let mut conn = self.0.shared.view.pool.acquire().await?;
        Ok(rows::past_of(&mut conn, node, 1).await?.into_iter().next())
    }

    /// Changes per day beneath a folder, oldest first: (day since 1970, changes).
    #[boxed]
    pub async fn activity(&self, actor: &Actor, node: NodeId) -> Result<Vec<(i64, i64)>> {
        self.0.files().chain(actor, node, Level::View).await?;
        if self.0.files().sums(actor, node).await?.is_none() {
            return Ok(Vec::new());
        }
        let text: String = sqlx::query_scalar(
            "SELECT json_group_array(json_array(day, changes)) FROM (SELECT day, changes FROM activity WHERE node = ? ORDER BY day)",
        )
        .bind(node.0)
        .fetch_one(&self.0.shared.view.pool)
        .await?;
        parse(&text)
    }

    /// The numbers at which something in this folder itself changed, newest first, at most 500.
    #[boxed]
    pub async fn turning_points(&self, actor: &Actor, node: NodeId) -> Result<Vec<(Moment, i64)>> {
        let chain = self.0.files().chain(actor, node, Level::View).await?;
        let viewer = self.0.grants().viewer(actor);
        let top = chain.last().map_or_else(Default::default, |top| top.shelf);
        let standing = viewer.standing(top, chain.iter().map(|r| r.node));
        let found: Vec<(i64, i64, i64, i64)> = sqlx::query_as(
            "SELECT n, at, node, sure FROM (
               SELECT since AS n, at, node, 1 AS sure FROM entries_now WHERE parent = ?1
               UNION SELECT since, at, node, 0 FROM entries_past WHERE parent = ?1
               UNION SELECT until, ended_at, node, 0 FROM entries_past WHERE parent = ?1
             ) ORDER BY n DESC LIMIT 2000",
        )
        .bind(node.0)
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        let mut points = Vec::new();
        // Whether what is in other places now may be known at all: looked up once for each.
        let mut elsewhere: HashMap<NodeId, bool> = HashMap::new();
        for (n, at, child, here) in found {
            let child = NodeId(child);
            let mut seen = viewer.enter(standing, child).level().is_some();
            if seen && here == 0 && !viewer.access.bars().is_empty() {
                seen = match elsewhere.get(&child) {
                    Some(seen) => *seen,
                    None => {
                        let seen = match self.last_way(child).await? {
                            Some((way, shelf)) => self.sees(&viewer, &way, shelf),
                            None => false,
                        };
                        elsewhere.insert(child, seen);
                        seen
                    }
                };
            }
            // The folder itself may have been somewhere else at that time.
            if seen && here == 0 && !viewer.access.bars().is_empty() {
                seen = self.saw(&viewer, child, Some(node), top, Moment(n)).await?
                    || self.saw(&viewer, child, Some(node), top, Moment(n - 1)).await?;
            }
            if seen && points.last() != Some(&(Moment(n), at)) {
                points.push((Moment(n), at));
                if points.len() == 500 {
                    break;
                }
            }
        }
        Ok(points)
    }
}

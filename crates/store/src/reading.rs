//! Reading: resolving places, lists now and then, history, what changed since.

use crate::book::check_level;
use crate::engine::Engine;
use crate::error::{Result, StoreError};
use crate::model::{Actor, Folder, How, PastRow, Row, Shelf, ShelfKind};
use crate::rows::{self, END_COLUMNS, FOLDER_COLUMNS, FolderJson, ROW_COLUMNS, RowJson, parse, sql};
use std::sync::Arc;
use yellow_attic_core::collate::sort_key;
use yellow_attic_core::cursor;
use yellow_attic_core::interval::forks;
use yellow_attic_core::rights::{Level, level_on_shelf};
use yellow_attic_core::{Moment, Name, NodeId, ShelfId};

/// The most entries of one page.
pub const MOST_ENTRIES: usize = 1000;

/// How a list is sorted. Folders always come before files.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum Sort {
    /// By name, as people count.
    #[default]
    Name,
    /// By size; of a folder, of all beneath.
    Size,
    /// By the last change.
    Changed,
}

/// An entry of a list.
#[derive(Clone, Debug)]
pub struct Entry {
    /// Its state.
    pub row: Row,
    /// Its sums, if it is a folder as it is now.
    pub folder: Option<Folder>,
    /// In a list of the past: what became of it.
    pub since_then: Option<SinceThen>,
}

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
}

/// A page of a list.
#[derive(Clone, Debug)]
pub struct Page<T> {
    /// What is on it.
    pub items: Vec<T>,
    /// Where the next one begins; none at the end.
    pub next: Option<String>,
}

/// A state in the history of a node, newest first.
#[derive(Clone, Debug)]
pub struct State {
    /// The state.
    pub row: Row,
    /// When and how it ended; none for the present one.
    pub ended: Option<(Moment, i64, How)>,
}

/// Something that changed since a number.
#[derive(Clone, Debug)]
pub enum Change {
    /// New, or in a new state.
    Changed(Row),
    /// Removed, at this number.
    Removed(PastRow),
    /// A folder with all beneath came: expand it by listing.
    Arrived(Row),
    /// A node with all beneath went to another shelf.
    Left(PastRow),
}

impl Change {
    /// The number at which it changed.
    pub fn moment(&self) -> Moment {
        match self {
            Change::Changed(row) | Change::Arrived(row) => row.since,
            Change::Removed(past) | Change::Left(past) => past.until,
        }
    }
}

impl Engine {
    /// The shelves that an account may enter, with its level; its own first.
    pub fn shelves_for(&self, actor: &Actor) -> Vec<(Arc<Shelf>, Level)> {
        let Some(account) = actor.account else { return Vec::new() };
        let mut found: Vec<_> = self
            .shared
            .view
            .shelves()
            .into_iter()
            .filter_map(|s| level_on_shelf(s.owner, &s.grants, account).map(|level| (s, level)))
            .collect();
        found.sort_by(|a, b| {
            (a.0.kind == ShelfKind::Shared, &a.0.name).cmp(&(b.0.kind == ShelfKind::Shared, &b.0.name))
        });
        found
    }

    /// The shelf that a path begins with: `home` is the actor's own.
    pub fn shelf_named(&self, actor: &Actor, name: &str) -> Result<Arc<Shelf>> {
        let account = actor.account;
        self.shared
            .view
            .shelves()
            .into_iter()
            .find(|s| match s.kind {
                ShelfKind::Home => name == "home" && s.owner == account && account.is_some(),
                ShelfKind::Shared => s.name == name && check_level(actor, s, Level::View).is_ok(),
            })
            .ok_or_else(|| StoreError::NotFound(format!("The shelf \"{name}\"")))
    }

    /// The way to a node, the node first, if the actor may do this much there.
    pub async fn chain(&self, actor: &Actor, node: NodeId, need: Level) -> Result<Vec<Arc<Row>>> {
        let gone = || StoreError::NotFound("The file or folder".into());
        let chain = self.shared.view.chain(node).await?.ok_or_else(gone)?;
        let top = chain.last().ok_or_else(gone)?;
        let shelf = self.shared.view.shelf(top.shelf).ok_or_else(gone)?;
        check_level(actor, &shelf, need)?;
        Ok(chain)
    }

    /// What stands at a path now.
    pub async fn resolve(&self, actor: &Actor, shelf: &str, names: &[Name]) -> Result<Arc<Row>> {
        let shelf = self.shelf_named(actor, shelf)?;
        let gone = || StoreError::NotFound(format!("\"{}\"", names.last().map_or("", Name::as_str)));
        let mut row = self.shared.view.row(shelf.root).await?.ok_or_else(gone)?;
        for name in names {
            let key: Arc<str> = sort_key(name).into();
            row = self.shared.view.child(row.node, &key).await?.ok_or_else(gone)?;
        }
        Ok(row)
    }

    /// What stands at a name in a folder now.
    pub async fn child(&self, actor: &Actor, parent: NodeId, name: &Name) -> Result<Option<Arc<Row>>> {
        self.chain(actor, parent, Level::View).await?;
        self.shared.view.child(parent, &sort_key(name).into()).await
    }

    /// What stood at a path at a number.
    pub async fn resolve_at(&self, actor: &Actor, shelf: &str, names: &[Name], at: Moment) -> Result<Row> {
        let shelf = self.shelf_named(actor, shelf)?;
        let gone =
            || StoreError::NotFound(format!("\"{}\" at that moment", names.last().map_or("", Name::as_str)));
        let mut row = self.state_at(shelf.root, at).await?.ok_or_else(gone)?;
        for name in names {
            let key = sort_key(name);
            let below = self.children_at(row.node, at).await?;
            row = below.into_iter().find(|r| *r.key == *key).ok_or_else(gone)?;
        }
        Ok(row)
    }

    /// A folder's sums.
    pub async fn folder(&self, node: NodeId) -> Result<Option<Folder>> {
        self.shared.view.folder(node).await
    }

    /// The entries of a folder as it is now, a page at a time.
    pub async fn list(
        &self,
        actor: &Actor,
        node: NodeId,
        sort: Sort,
        descending: bool,
        limit: usize,
        from: Option<&str>,
    ) -> Result<Page<Entry>> {
        let chain = self.chain(actor, node, Level::View).await?;
        if !chain[0].is_folder() {
            return Err(StoreError::NotAFolder(chain[0].name().into()));
        }
        let limit = limit.clamp(1, MOST_ENTRIES);
        let list = format!("entries of {node} by {sort:?} {descending}");
        let place = from.map(|c| cursor::decode(&list, c)).transpose()?;
        let mut items = match sort {
            Sort::Name => self.list_by_name(node, descending, limit, place.as_deref()).await?,
            _ => self.list_by_value(node, sort, descending, limit, place.as_deref()).await?,
        };
        let more = items.len() > limit;
        items.truncate(limit);
        let next = if more {
            items.last().map(|e| {
                let kind = u8::from(!e.row.is_folder());
                let place = match sort {
                    Sort::Name => format!("{kind}{}", e.row.key),
                    _ => format!("{kind}{}\u{2}{}", value_of(e, sort), e.row.key),
                };
                cursor::encode(&list, &place)
            })
        } else {
            None
        };
        Ok(Page { items, next })
    }

    async fn list_by_name(
        &self,
        node: NodeId,
        descending: bool,
        limit: usize,
        place: Option<&str>,
    ) -> Result<Vec<Entry>> {
        let (kind, key) = match place {
            Some(place) => (place.starts_with('1'), place.get(1..).unwrap_or("")),
            None => (false, ""),
        };
        let mut items = Vec::new();
        let mut after = key;
        for files in [false, true] {
            if kind && !files {
                continue;
            }
            if files != kind {
                after = "";
            }
            let wanted = limit + 1 - items.len();
            if wanted == 0 {
                break;
            }
            let (sums, join, index) = if files {
                ("null".to_string(), "", "entries_now_name")
            } else {
                (
                    format!("json_array({FOLDER_COLUMNS})"),
                    "JOIN folders f ON f.node = e.node",
                    "entries_now_folders",
                )
            };
            let (kind, compare, order) = match (descending, after.is_empty()) {
                (false, _) => (i64::from(files), ">", "ASC"),
                (true, true) => (i64::from(files), "<>", "DESC"),
                (true, false) => (i64::from(files), "<", "DESC"),
            };
            let text: String = sqlx::query_scalar(sql(format!(
                "SELECT json_group_array(json_array(json_array({ROW_COLUMNS}), {sums}))
                 FROM (SELECT * FROM entries_now INDEXED BY {index}
                       WHERE parent = ? AND kind = {kind} AND sort_key {compare} ? ORDER BY sort_key {order} LIMIT ?) e
                 LEFT JOIN contents c ON c.id = e.content {join}"
            )))
            .bind(node.0)
            .bind(after)
            .bind(wanted as i64)
            .fetch_one(&self.shared.view.pool)
            .await?;
            items.extend(entries(&text)?);
        }
        Ok(items)
    }

    async fn list_by_value(
        &self,
        node: NodeId,
        sort: Sort,
        descending: bool,
        limit: usize,
        place: Option<&str>,
    ) -> Result<Vec<Entry>> {
        let value = match sort {
            Sort::Size => "CASE e.kind WHEN 0 THEN f.bytes ELSE e.size END",
            _ => "CASE e.kind WHEN 0 THEN f.changed_at ELSE e.at END",
        };
        let (kind, after, key) = match place
            .and_then(|p| p.get(1..)?.split_once('\u{2}').map(|(v, k)| (p, v, k)))
        {
            Some((place, value, key)) => (i64::from(place.starts_with('1')), value.parse().unwrap_or(0), key),
            None => (-1, 0i64, ""),
        };
        let (compare, order) = if descending { ("<", "DESC") } else { (">", "ASC") };
        let text: String = sqlx::query_scalar(sql(format!(
            "SELECT json_group_array(json_array(json_array({ROW_COLUMNS}),
                 iif(e.kind = 0, json_array({FOLDER_COLUMNS}), null)))
             FROM (SELECT e.* FROM entries_now e LEFT JOIN folders f ON f.node = e.node
                   WHERE e.parent = ?1
                     AND (e.kind > ?2 OR (e.kind = ?2 AND ({value} {compare} ?3 OR ({value} = ?3 AND e.sort_key > ?4))))
                   ORDER BY e.kind, {value} {order}, e.sort_key LIMIT ?5) e
             LEFT JOIN contents c ON c.id = e.content LEFT JOIN folders f ON f.node = e.node"
        )))
        .bind(node.0)
        .bind(kind)
        .bind(after)
        .bind(key)
        .bind(limit as i64 + 1)
        .fetch_one(&self.shared.view.pool)
        .await?;
        entries(&text)
    }

    /// The number that was the last one at a time.
    pub async fn moment_at(&self, at_ms: i64) -> Result<Moment> {
        let next: Option<i64> = sqlx::query_scalar("SELECT min(n) FROM moments WHERE at > ?")
            .bind(at_ms)
            .fetch_one(&self.shared.view.pool)
            .await?;
        match next {
            Some(n) => Ok(Moment(n - 1)),
            None => self.now_moment().await,
        }
    }

    /// The last number given out.
    pub async fn now_moment(&self) -> Result<Moment> {
        let n: i64 = sqlx::query_scalar("SELECT moment FROM heads").fetch_one(&self.shared.view.pool).await?;
        Ok(Moment(n))
    }

    /// The time of a number.
    pub async fn time_of(&self, moment: Moment) -> Result<i64> {
        let at: Option<i64> =
            sqlx::query_scalar("SELECT at FROM moments WHERE n <= ? ORDER BY n DESC LIMIT 1")
                .bind(moment.0)
                .fetch_optional(&self.shared.view.pool)
                .await?;
        Ok(at.unwrap_or(0))
    }

    /// The state of a node at a number, whether or not its folder was there.
    pub async fn state_at(&self, node: NodeId, at: Moment) -> Result<Option<Row>> {
        if let Some(row) = self.shared.view.row(node).await?
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
        .fetch_one(&self.shared.view.pool)
        .await?;
        Ok(rows::parse_rows(&text)?.into_iter().find(|r| r.since <= at))
    }

    /// The way up from a node as it was at a number; none if it was not alive then.
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
               SELECT e.node, e.shelf, e.parent, e.sort_key, e.kind, e.mtime, e.since, e.at, e.how, e.account, e.device, e.content
                 FROM json_each(?2) j CROSS JOIN entries_past e INDEXED BY entries_past_to
                 WHERE e.parent = ?1 AND e.fork = j.value AND e.until > ?4
               UNION ALL
               SELECT e.node, e.shelf, e.parent, e.sort_key, e.kind, e.mtime, e.since, e.at, e.how, e.account, e.device, e.content
                 FROM json_each(?3) j CROSS JOIN entries_past e INDEXED BY entries_past_from
                 WHERE e.parent = ?1 AND e.fork = j.value AND e.since <= ?4
               UNION ALL
               SELECT e.node, e.shelf, e.parent, e.sort_key, e.kind, e.mtime, e.since, e.at, e.how, e.account, e.device, e.content
                 FROM entries_now e WHERE e.parent = ?1 AND e.since <= ?4
             ) e LEFT JOIN contents c ON c.id = e.content"
        )))
        .bind(node.0)
        .bind(json(&forks.below))
        .bind(json(&forks.above))
        .bind(at.0)
        .fetch_one(&self.shared.view.pool)
        .await?;
        rows::parse_rows(&text)
    }

    /// The entries of a folder as it was at a number, by name, with what became of each.
    pub async fn list_at(
        &self,
        actor: &Actor,
        node: NodeId,
        at: Moment,
        limit: usize,
        from: Option<&str>,
    ) -> Result<Page<Entry>> {
        self.check_past(actor, node, at).await?;
        let limit = limit.clamp(1, MOST_ENTRIES);
        let list = format!("entries of {node} at {at}");
        let after = from.map(|c| cursor::decode(&list, c)).transpose()?;
        let mut found = self.children_at(node, at).await?;
        found.sort_by(|a, b| (a.kind, &a.key).cmp(&(b.kind, &b.key)));
        let place = |r: &Row| format!("{}{}", u8::from(!r.is_folder()), r.key);
        if let Some(after) = after {
            found.retain(|r| place(r) > after);
        }
        let more = found.len() > limit;
        found.truncate(limit);
        let next = found.last().filter(|_| more).map(|r| cursor::encode(&list, &place(r)));
        let mut items = Vec::with_capacity(found.len());
        for row in found {
            let since_then = Some(self.since_then(&row).await?);
            items.push(Entry { row, folder: None, since_then });
        }
        Ok(Page { items, next })
    }

    async fn since_then(&self, then: &Row) -> Result<SinceThen> {
        let Some(chain) = self.shared.view.chain(then.node).await? else { return Ok(SinceThen::Removed) };
        let now = &chain[0];
        Ok(if now.content.map(|c| c.hash) != then.content.map(|c| c.hash) {
            SinceThen::Different
        } else if now.parent != then.parent || now.key != then.key {
            SinceThen::Moved
        } else {
            SinceThen::Same
        })
    }

    /// A past state is shown only to who may view both the node's present or last place and
    /// its place then.
    pub async fn check_past(&self, actor: &Actor, node: NodeId, at: Moment) -> Result<Vec<Row>> {
        let gone = || StoreError::NotFound("The file or folder at that moment".into());
        if at > self.now_moment().await? {
            return Err(StoreError::NoSuchMoment);
        }
        let chain = self.chain_at(node, at).await?.ok_or_else(gone)?;
        let then = chain.last().map(|r| r.shelf).ok_or_else(gone)?;
        let last = self.last_shelf(node).await?.unwrap_or(then);
        for shelf in [then, last] {
            let shelf = self.shared.view.shelf(shelf).ok_or_else(gone)?;
            check_level(actor, &shelf, Level::View)?;
        }
        Ok(chain)
    }

    /// The shelf on which a node is, or was last.
    async fn last_shelf(&self, node: NodeId) -> Result<Option<ShelfId>> {
        let mut next = Some(node);
        let mut shelf = None;
        for _ in 0..1000 {
            let Some(id) = next else { break };
            let row = match self.shared.view.row(id).await? {
                Some(row) => (*row).clone(),
                None => {
                    let mut conn = self.shared.view.pool.acquire().await?;
                    match rows::past_of(&mut conn, id, 1).await?.into_iter().next() {
                        Some(past) => past.row,
                        None => return Ok(None),
                    }
                }
            };
            shelf = Some(row.shelf);
            next = row.parent;
        }
        Ok(shelf)
    }

    /// The states of a node, newest first. For one that is gone, what there was.
    pub async fn history(&self, actor: &Actor, node: NodeId, limit: usize) -> Result<Vec<State>> {
        let gone = || StoreError::NotFound("The file or folder".into());
        let shelf = self.last_shelf(node).await?.and_then(|s| self.shared.view.shelf(s)).ok_or_else(gone)?;
        check_level(actor, &shelf, Level::View)?;
        let mut states = Vec::new();
        if let Some(row) = self.shared.view.row(node).await? {
            states.push(State { row: (*row).clone(), ended: None });
        }
        let mut conn = self.shared.view.pool.acquire().await?;
        for past in rows::past_of(&mut conn, node, limit.clamp(1, MOST_ENTRIES) as i64).await? {
            // By today's grants, on its place then as well.
            let visible = self
                .shared
                .view
                .shelf(past.row.shelf)
                .is_some_and(|s| check_level(actor, &s, Level::View).is_ok());
            if visible {
                states
                    .push(State { row: past.row, ended: Some((past.until, past.ended_at, past.ended_how)) });
            }
        }
        if states.is_empty() { Err(gone()) } else { Ok(states) }
    }

    /// The last past row of a node.
    pub(crate) async fn last_past(&self, node: NodeId) -> Result<Option<PastRow>> {
        let mut conn = self.shared.view.pool.acquire().await?;
        Ok(rows::past_of(&mut conn, node, 1).await?.into_iter().next())
    }

    /// Changes per day beneath a folder, oldest first: (day since 1970, changes).
    pub async fn activity(&self, actor: &Actor, node: NodeId) -> Result<Vec<(i64, i64)>> {
        self.chain(actor, node, Level::View).await?;
        let text: String = sqlx::query_scalar(
            "SELECT json_group_array(json_array(day, changes)) FROM (SELECT day, changes FROM activity WHERE node = ? ORDER BY day)",
        )
        .bind(node.0)
        .fetch_one(&self.shared.view.pool)
        .await?;
        parse(&text)
    }

    /// The numbers at which something in this folder itself changed, newest first, at most 500.
    pub async fn turning_points(&self, actor: &Actor, node: NodeId) -> Result<Vec<(Moment, i64)>> {
        self.chain(actor, node, Level::View).await?;
        let found: Vec<(i64, i64)> = sqlx::query_as(
            "SELECT n, at FROM (
               SELECT since AS n, at FROM entries_now WHERE parent = ?1
               UNION SELECT since, at FROM entries_past WHERE parent = ?1
               UNION SELECT until, ended_at FROM entries_past WHERE parent = ?1
             ) ORDER BY n DESC LIMIT 500",
        )
        .bind(node.0)
        .fetch_all(&self.shared.view.pool)
        .await?;
        Ok(found.into_iter().map(|(n, at)| (Moment(n), at)).collect())
    }

    /// The files changed last on a shelf, newest first.
    pub async fn latest(&self, actor: &Actor, shelf: &Shelf, limit: usize) -> Result<Vec<Row>> {
        check_level(actor, shelf, Level::View)?;
        let text: String = sqlx::query_scalar(sql(format!(
            "SELECT json_group_array(json_array({ROW_COLUMNS})) FROM
               (SELECT * FROM entries_now WHERE shelf = ? AND kind = 1 ORDER BY since DESC LIMIT ?) e
             LEFT JOIN contents c ON c.id = e.content"
        )))
        .bind(shelf.id.0)
        .bind(limit.clamp(1, 100) as i64 * 3)
        .fetch_one(&self.shared.view.pool)
        .await?;
        let mut found = Vec::new();
        for row in rows::parse_rows(&text)? {
            if found.len() < limit && self.shared.view.chain(row.node).await?.is_some() {
                found.push(row);
            }
        }
        Ok(found)
    }

    /// What changed on a shelf after a number, oldest first, and the number to ask from next.
    pub async fn changes(
        &self,
        actor: &Actor,
        shelf: &Shelf,
        since: Moment,
        limit: usize,
    ) -> Result<(Vec<Change>, Moment, bool)> {
        check_level(actor, shelf, Level::View)?;
        let head = self.now_moment().await?;
        if since > head {
            return Err(StoreError::NoSuchMoment);
        }
        let limit = limit.clamp(1, MOST_ENTRIES);
        let now: String = sqlx::query_scalar(sql(format!(
            "SELECT json_group_array(json_array({ROW_COLUMNS})) FROM
               (SELECT * FROM entries_now WHERE shelf = ? AND since > ? ORDER BY since LIMIT ?) e
             LEFT JOIN contents c ON c.id = e.content"
        )))
        .bind(shelf.id.0)
        .bind(since.0)
        .bind(limit as i64 + 1)
        .fetch_one(&self.shared.view.pool)
        .await?;
        let past: String = sqlx::query_scalar(sql(format!(
            "SELECT json_group_array(json_array(json_array({ROW_COLUMNS}), json_array({END_COLUMNS}))) FROM
               (SELECT * FROM entries_past WHERE shelf = ? AND until > ? AND ended_how IN (?, ?, ?) ORDER BY until LIMIT ?) e
             LEFT JOIN contents c ON c.id = e.content"
        )))
        .bind(shelf.id.0)
        .bind(since.0)
        .bind(How::Removed as i64)
        .bind(How::Merged as i64)
        .bind(How::Left as i64)
        .bind(limit as i64 + 1)
        .fetch_one(&self.shared.view.pool)
        .await?;
        let mut all: Vec<Change> = rows::parse_rows(&now)?
            .into_iter()
            .map(|row| match row.how {
                How::Arrived | How::Restored | How::Copied if row.is_folder() => Change::Arrived(row),
                _ => Change::Changed(row),
            })
            .collect();
        all.extend(rows::parse_past(&past)?.into_iter().map(|p| match p.ended_how {
            How::Left => Change::Left(p),
            _ => Change::Removed(p),
        }));
        all.sort_by_key(Change::moment);
        // A page ends between two numbers, never within one.
        let more = all.len() > limit;
        if more {
            let cut = all[limit].moment();
            let whole = all.iter().take_while(|c| c.moment() < cut).count();
            if whole > 0 {
                all.truncate(whole);
            }
        }
        let upto = if more { all.last().map_or(head, Change::moment) } else { head };
        let mut shown = Vec::with_capacity(all.len());
        for change in all {
            let told = match &change {
                // An open row beneath something removed is not alive; its folder's own change tells it.
                // But whoever knew it elsewhere must hear that it is gone from there.
                Change::Changed(row) | Change::Arrived(row) => {
                    let alive = self.shared.view.chain(row.node).await?.is_some();
                    if !alive && self.state_at(row.node, since).await?.is_some() {
                        shown.push(Change::Removed(PastRow {
                            until: row.since,
                            ended_at: row.at,
                            ended_how: How::Removed,
                            ended_account: row.account,
                            ended_device: row.device,
                            row: row.clone(),
                        }));
                    }
                    alive
                }
                // Here again by now: its open row tells it.
                Change::Removed(past) | Change::Left(past) => {
                    match self.shared.view.row(past.row.node).await? {
                        Some(row) => row.shelf != shelf.id,
                        None => true,
                    }
                }
            };
            if told {
                shown.push(change);
            }
        }
        Ok((shown, upto, more))
    }
}

fn value_of(entry: &Entry, sort: Sort) -> i64 {
    match (sort, &entry.folder) {
        (Sort::Size, Some(f)) => f.bytes,
        (Sort::Size, None) => entry.row.size(),
        (_, Some(f)) => f.changed_at,
        (_, None) => entry.row.at,
    }
}

fn entries(text: &str) -> Result<Vec<Entry>> {
    let list: Vec<(RowJson, Option<FolderJson>)> = parse(text)?;
    Ok(list
        .into_iter()
        .map(|(row, folder)| Entry {
            row: row.row(),
            folder: folder.map(FolderJson::folder),
            since_then: None,
        })
        .collect())
}

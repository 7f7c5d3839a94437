//! Reading: resolving places, lists now and then, history, what changed since.

use crate::access::{Eyes, may_put};
use crate::engine::Engine;
use crate::error::{Result, StoreError};
use crate::model::{Actor, Folder, How, PastRow, Row, Shelf, ShelfKind};
use crate::rows::{self, END_COLUMNS, FOLDER_COLUMNS, FolderJson, ROW_COLUMNS, RowJson, parse, sql};
use std::sync::Arc;
use yellow_attic_core::collate::sort_key;
use yellow_attic_core::cursor;
use yellow_attic_core::interval::forks;
use yellow_attic_core::rights::{Level, Standing};
use yellow_attic_core::{Moment, Name, NodeId, ShelfId, ShelfPath};

/// The word before the colon for what one was given below the top of a shelf.
pub const GIVEN: &str = "given";

/// The name of something given among all that is: with its number if another has the same.
pub fn given_name(all: &[&Row], row: &Row) -> String {
    match all.iter().filter(|r| r.name() == row.name()).count() {
        0 | 1 => row.name().to_string(),
        _ => format!("{} #{}", row.name(), row.node),
    }
}

/// The most entries of one page.
pub const MOST_ENTRIES: usize = 1000;

/// Where somebody finds a node.
#[derive(Clone, Debug)]
pub struct Way {
    /// `shelf:/path`.
    pub path: String,
    /// The word before the colon.
    pub shelf: String,
    /// The folders from the top that can be seen down to the node, with the names to show.
    pub steps: Vec<(NodeId, String)>,
}

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

/// What one may do at a past place, and at where the same thing is now or was last.
#[derive(Clone, Copy)]
pub(crate) struct Sight {
    then: Standing,
    last: Standing,
}

impl Sight {
    /// A past state is shown only to who may look at both.
    pub fn sees(&self) -> bool {
        self.then.level().is_some() && self.last.level().is_some()
    }
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
    /// The shelves that an account may enter, with its level; its own first. Another's home is no
    /// shelf of one's own, but something given.
    pub fn shelves_for(&self, actor: &Actor) -> Vec<(Arc<Shelf>, Level)> {
        let Some(account) = actor.account else { return Vec::new() };
        let eyes = self.eyes(actor);
        let mut found: Vec<_> = self
            .shared
            .view
            .shelves()
            .into_iter()
            .filter(|s| s.kind == ShelfKind::Shared || s.owner == Some(account))
            .filter_map(|s| {
                let level = eyes.standing(s.owner, std::iter::once(s.root)).level()?;
                Some((s, level))
            })
            .collect();
        found.sort_by(|a, b| {
            (a.0.kind == ShelfKind::Shared, &a.0.name).cmp(&(b.0.kind == ShelfKind::Shared, &b.0.name))
        });
        found
    }

    /// The node that a path begins at, and the names that are left: `home` is the actor's own, what
    /// was given stands under [`GIVEN`] by its name.
    async fn begin_of<'n>(
        &self,
        eyes: &Eyes,
        actor: &Actor,
        shelf: &str,
        names: &'n [Name],
    ) -> Result<(NodeId, &'n [Name])> {
        let account = actor.account;
        if shelf == GIVEN {
            let gone = || StoreError::NotFound(format!("\"{}\"", names.first().map_or("", Name::as_str)));
            let (first, rest) = names.split_first().ok_or_else(gone)?;
            let given = self.given_nodes(eyes).await?;
            let all: Vec<&Row> = given.iter().map(|(chain, _)| &*chain[0]).collect();
            let node = all.iter().find(|row| given_name(&all, row) == first.as_str()).ok_or_else(gone)?.node;
            return Ok((node, rest));
        }
        let found = self.shared.view.shelves().into_iter().find(|s| match s.kind {
            ShelfKind::Home => shelf == "home" && s.owner == account && account.is_some(),
            ShelfKind::Shared => {
                s.name == shelf && eyes.standing(s.owner, std::iter::once(s.root)).level().is_some()
            }
        });
        let found = found.ok_or_else(|| StoreError::NotFound(format!("The shelf \"{shelf}\"")))?;
        Ok((found.root, names))
    }

    /// The way to a node, the node first, if the actor may do this much there.
    pub async fn chain(&self, actor: &Actor, node: NodeId, need: Level) -> Result<Vec<Arc<Row>>> {
        let gone = || StoreError::NotFound("The file or folder".into());
        let chain = self.shared.view.chain(node).await?.ok_or_else(gone)?;
        self.check(&self.eyes(actor), &chain, need)?;
        Ok(chain)
    }

    /// What stands at a path now.
    pub async fn resolve(&self, actor: &Actor, shelf: &str, names: &[Name]) -> Result<Arc<Row>> {
        let eyes = self.eyes(actor);
        let gone = || StoreError::NotFound(format!("\"{}\"", names.last().map_or("", Name::as_str)));
        let (top, names) = self.begin_of(&eyes, actor, shelf, names).await?;
        let mut row = self.shared.view.row(top).await?.ok_or_else(gone)?;
        for name in names {
            let key: Arc<str> = sort_key(name).into();
            row = self.shared.view.child(row.node, &key).await?.ok_or_else(gone)?;
        }
        let chain = self.shared.view.chain(row.node).await?.ok_or_else(gone)?;
        match self.level_along(&eyes, &chain) {
            Some(_) => Ok(row),
            None => Err(gone()),
        }
    }

    /// The folder and name at which bytes for a path are put.
    pub async fn target(&self, actor: &Actor, path: &ShelfPath) -> Result<(NodeId, Name)> {
        let (name, above) = path.names.split_last().ok_or(StoreError::ShelfTop)?;
        if path.shelf == GIVEN && above.is_empty() {
            // Only what is there already can be put anew.
            let row = self.resolve(actor, &path.shelf, &path.names).await?;
            let parent = row.parent.ok_or(StoreError::ShelfTop)?;
            return Ok((parent, Name::new(row.name())?));
        }
        Ok((self.resolve(actor, &path.shelf, above).await?.node, name.clone()))
    }

    /// Refuses bytes for a name before any are sent.
    pub async fn check_put(&self, actor: &Actor, parent: NodeId, name: &Name) -> Result<Option<Arc<Row>>> {
        let gone = || StoreError::NotFound("The file or folder".into());
        let eyes = self.eyes(actor);
        let chain = self.shared.view.chain(parent).await?.ok_or_else(gone)?;
        let there = self.shared.view.child(parent, &sort_key(name).into()).await?;
        let here = there.as_ref().map(|row| {
            let way: Vec<Arc<Row>> = std::iter::once(row).chain(&chain).cloned().collect();
            self.level_along(&eyes, &way)
        });
        may_put(self.level_along(&eyes, &chain), here, name.as_str())?;
        if !chain[0].is_folder() {
            return Err(StoreError::NotAFolder(chain[0].name().into()));
        }
        Ok(there)
    }

    /// What stands at a name in a folder now.
    pub async fn child(&self, actor: &Actor, parent: NodeId, name: &Name) -> Result<Option<Arc<Row>>> {
        let eyes = self.eyes(actor);
        let chain = self.chain(actor, parent, Level::View).await?;
        let found = self.shared.view.child(parent, &sort_key(name).into()).await?;
        Ok(found.filter(|row| {
            let way: Vec<Arc<Row>> = std::iter::once(row).chain(&chain).cloned().collect();
            self.level_along(&eyes, &way).is_some()
        }))
    }

    /// Where somebody finds a node, as far as they can see upwards. `chain`: the node first, as it is
    /// or was.
    pub async fn way_of(&self, actor: &Actor, chain: &[&Row]) -> Result<Way> {
        let gone = || StoreError::NotFound("The file or folder".into());
        let eyes = self.eyes(actor);
        let shelf = chain.last().and_then(|r| self.shared.view.shelf(r.shelf)).ok_or_else(gone)?;
        let nodes: Vec<NodeId> = chain.iter().map(|r| r.node).collect();
        let hidden = (1..nodes.len())
            .find(|i| eyes.standing(shelf.owner, nodes[*i..].iter().copied()).level().is_none());
        let seen = &chain[..hidden.unwrap_or(chain.len())];
        let own = shelf.kind == ShelfKind::Shared || shelf.owner == actor.account;
        let mut steps: Vec<(NodeId, String)> =
            seen.iter().rev().map(|r| (r.node, r.name().to_string())).collect();
        if hidden.is_none() && own {
            let home = shelf.kind == ShelfKind::Home;
            if let Some(top) = steps.first_mut() {
                top.1 = if home { "Home".into() } else { shelf.name.clone() };
            }
            let shelf = if home { "home".into() } else { shelf.name.clone() };
            let path = steps.iter().skip(1).map(|s| s.1.as_str()).collect::<Vec<_>>().join("/");
            return Ok(Way { path: format!("{shelf}:/{path}"), shelf, steps });
        }
        if let (Some(first), Some(top)) = (steps.first_mut(), seen.last()) {
            let given = self.given_nodes(&eyes).await?;
            let all: Vec<&Row> = given.iter().map(|(chain, _)| &*chain[0]).collect();
            first.1 = given_name(&all, top);
        }
        let path = steps.iter().map(|s| s.1.as_str()).collect::<Vec<_>>().join("/");
        Ok(Way { path: format!("{GIVEN}:/{path}"), shelf: GIVEN.into(), steps })
    }

    /// What stood at a path at a number.
    pub async fn resolve_at(&self, actor: &Actor, shelf: &str, names: &[Name], at: Moment) -> Result<Row> {
        let eyes = self.eyes(actor);
        let gone =
            || StoreError::NotFound(format!("\"{}\" at that moment", names.last().map_or("", Name::as_str)));
        let (top, rest) = self.begin_of(&eyes, actor, shelf, names).await?;
        let mut row = self.state_at(top, at).await?.ok_or_else(gone)?;
        for name in rest {
            let key = sort_key(name);
            let below = self.children_at(row.node, at).await?;
            row = below.into_iter().find(|r| *r.key == *key).ok_or_else(gone)?;
        }
        self.check_past(actor, row.node, at).await.map_err(|e| match e {
            StoreError::NotFound(_) => gone(),
            other => other,
        })?;
        Ok(row)
    }

    /// A folder's sums.
    pub(crate) async fn folder(&self, node: NodeId) -> Result<Option<Folder>> {
        self.shared.view.folder(node).await
    }

    /// The sums of a whole shelf, whoever asks: for figures of the service.
    pub async fn shelf_sums(&self, root: NodeId) -> Result<Option<Folder>> {
        self.shared.view.folder(root).await
    }

    /// A folder's sums as the actor may know them: none if they would tell of something hidden.
    pub async fn sums(&self, actor: &Actor, node: NodeId) -> Result<Option<Folder>> {
        let eyes = self.eyes(actor);
        if !eyes.access.bars().is_empty() && self.hiding(&eyes).await?.contains(&node) {
            return Ok(None);
        }
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
        let eyes = self.eyes(actor);
        let owner = chain.last().and_then(|top| self.shared.view.shelf(top.shelf)).and_then(|s| s.owner);
        let standing = eyes.standing(owner, chain.iter().map(|r| r.node));
        let hiding = self.hiding(&eyes).await?;
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
        // What is hidden leaves no trace: not in the list, and not in the sums of what it lies in.
        items.retain_mut(|e| {
            if hiding.contains(&e.row.node) {
                e.folder = None;
            }
            eyes.enter(standing, e.row.node).level().is_some()
        });
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
        let eyes = self.eyes(actor);
        let Some((_, sight)) = self.sight(&eyes, node, at).await? else {
            return Err(StoreError::NoSuchMoment);
        };
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
            if self.sight_in(&eyes, &sight, &row).await?.sees() {
                let since_then = Some(self.since_then(&row).await?);
                items.push(Entry { row, folder: None, since_then });
            }
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
        let (chain, sight) = self.sight(&self.eyes(actor), node, at).await?.ok_or_else(gone)?;
        if sight.sees() { Ok(chain) } else { Err(gone()) }
    }

    /// The way to a node as it was, and what one may do there then and at its present or last place.
    pub(crate) async fn sight(
        &self,
        eyes: &Eyes,
        node: NodeId,
        at: Moment,
    ) -> Result<Option<(Vec<Row>, Sight)>> {
        let Some(chain) = self.chain_at(node, at).await? else { return Ok(None) };
        let Some(shelf) = chain.last().map(|r| r.shelf) else { return Ok(None) };
        let then = self.standing_on(eyes, shelf, chain.iter().map(|r| r.node));
        let last = match self.last_way(node).await? {
            Some((way, shelf)) => self.standing_on(eyes, shelf, way.into_iter()),
            None => then,
        };
        Ok(Some((chain, Sight { then, last })))
    }

    /// The same for what was in a folder then: where it has not moved since, nothing is read.
    pub(crate) async fn sight_in(&self, eyes: &Eyes, folder: &Sight, child: &Row) -> Result<Sight> {
        let then = eyes.enter(folder.then, child.node);
        let stayed = self.shared.view.row(child.node).await?.is_some_and(|now| now.parent == child.parent);
        let last = match stayed {
            true => eyes.enter(folder.last, child.node),
            false => match self.last_way(child.node).await? {
                Some((way, shelf)) => self.standing_on(eyes, shelf, way.into_iter()),
                None => then,
            },
        };
        Ok(Sight { then, last })
    }

    fn standing_on(
        &self,
        eyes: &Eyes,
        shelf: ShelfId,
        way: impl DoubleEndedIterator<Item = NodeId>,
    ) -> Standing {
        eyes.standing(self.shared.view.shelf(shelf).and_then(|s| s.owner), way)
    }

    fn sees(&self, eyes: &Eyes, way: &[NodeId], shelf: ShelfId) -> bool {
        self.standing_on(eyes, shelf, way.iter().copied()).level().is_some()
    }

    /// The way to a node and its shelf, as they are or were last.
    async fn last_way(&self, node: NodeId) -> Result<Option<(Vec<NodeId>, ShelfId)>> {
        let mut next = Some(node);
        let mut shelf = None;
        let mut way = Vec::new();
        while let (Some(id), true) = (next, way.len() < 1000) {
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
            way.push(id);
            shelf = Some(row.shelf);
            next = row.parent;
        }
        Ok(shelf.map(|shelf| (way, shelf)))
    }

    /// Whether one sees a place as it was: the folders above something at a number.
    async fn saw(
        &self,
        eyes: &Eyes,
        node: NodeId,
        parent: Option<NodeId>,
        shelf: ShelfId,
        at: Moment,
    ) -> Result<bool> {
        let mut way = vec![node];
        let mut shelf = shelf;
        if let Some(parent) = parent {
            let Some(chain) = self.chain_at(parent, at).await? else { return Ok(false) };
            shelf = chain.last().map_or(shelf, |r| r.shelf);
            way.extend(chain.iter().map(|r| r.node));
        }
        Ok(self.sees(eyes, &way, shelf))
    }

    /// The states of a node, newest first. For one that is gone, what there was.
    pub async fn history(&self, actor: &Actor, node: NodeId, limit: usize) -> Result<Vec<State>> {
        let gone = || StoreError::NotFound("The file or folder".into());
        let eyes = self.eyes(actor);
        let (way, shelf) = self.last_way(node).await?.ok_or_else(gone)?;
        if !self.sees(&eyes, &way, shelf) {
            return Err(gone());
        }
        let mut states = Vec::new();
        if let Some(row) = self.shared.view.row(node).await? {
            states.push(State { row: (*row).clone(), ended: None });
        }
        let mut conn = self.shared.view.pool.acquire().await?;
        let found = rows::past_of(&mut conn, node, limit.clamp(1, MOST_ENTRIES) as i64).await?;
        drop(conn);
        for past in found {
            // By today's grants, on its place then as well.
            let row = &past.row;
            if self.saw(&eyes, node, row.parent, row.shelf, Moment(past.until.0 - 1)).await? {
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
        if self.sums(actor, node).await?.is_none() {
            return Ok(Vec::new());
        }
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
        let eyes = self.eyes(actor);
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
            if found.len() < limit
                && let Some(chain) = self.shared.view.chain(row.node).await?
                && self.level_along(&eyes, &chain).is_some()
            {
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
        let eyes = self.eyes(actor);
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
                    let chain = self.shared.view.chain(row.node).await?;
                    let alive = chain.is_some_and(|chain| self.level_along(&eyes, &chain).is_some());
                    let before = match alive {
                        true => None,
                        false => self.state_at(row.node, since).await?,
                    };
                    if let Some(before) = before
                        && self.saw(&eyes, row.node, before.parent, before.shelf, since).await?
                    {
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
                    let here = self.shared.view.row(past.row.node).await?;
                    let row = &past.row;
                    here.is_none_or(|here| here.shelf != shelf.id)
                        && self.saw(&eyes, row.node, row.parent, row.shelf, Moment(past.until.0 - 1)).await?
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

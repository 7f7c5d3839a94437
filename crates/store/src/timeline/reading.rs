//! Lists of folders as they are now, and what changed last.

use crate::catalogue::rows::{self, FOLDER_COLUMNS, FolderJson, ROW_COLUMNS, RowJson, parse, sql};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, Folder, Row, Shelf};
use crate::timeline::Files;
use crate::timeline::history::SinceThen;
use async_recursion::async_recursion as boxed;
use yellow_attic_core::NodeId;
use yellow_attic_core::rights::Level;

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

/// A page of a list.
#[derive(Clone, Debug)]
pub struct Page<T> {
    /// What is on it.
    pub items: Vec<T>,
    /// Where the next one begins; none at the end.
    pub next: Option<String>,
}

impl Files {
    /// A folder's sums.
    pub(crate) async fn folder(&self, node: NodeId) -> Result<Option<Folder>> {
        self.0.shared.view.folder(node).await
    }

    /// The sums of a whole shelf, whoever asks: for figures of the service.
    #[boxed]
    pub async fn shelf_sums(&self, root: NodeId) -> Result<Option<Folder>> {
        self.0.shared.view.folder(root).await
    }

    /// A folder's sums as the actor may know them: none if they would tell of something hidden.
    #[boxed]
    pub async fn sums(&self, actor: &Actor, node: NodeId) -> Result<Option<Folder>> {
        let viewer = self.0.grants().viewer(actor);
        if !viewer.access.bars().is_empty() && self.0.grants().hiding(&viewer).await?.contains(&node) {
            return Ok(None);
        }
        self.0.shared.view.folder(node).await
    }

    /// The entries of a folder as it is now, a page at a time.
    #[boxed]
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
        let viewer = self.0.grants().viewer(actor);
        let standing = viewer.standing(
            chain.last().map_or_else(Default::default, |top| top.shelf),
            chain.iter().map(|r| r.node),
        );
        let hiding = self.0.grants().hiding(&viewer).await?;
        let limit = limit.clamp(1, MOST_ENTRIES);
        let list = format!("entries of {node} by {sort:?} {descending}");
        let mut place = from.map(|c| self.0.place_of(actor, &list, c)).transpose()?;
        let mut items: Vec<Entry> = Vec::new();
        // What is hidden leaves no trace: not in the list, nor in how full a page is, nor in where the next one begins.
        let mut wanted = limit;
        loop {
            let found = match sort {
                Sort::Name => self.list_by_name(node, descending, wanted, place.as_deref()).await?,
                _ => self.list_by_value(node, sort, descending, wanted, place.as_deref()).await?,
            };
            let last = found.len() <= wanted;
            place = found.last().map(|e| place_in(e, sort));
            items.extend(found.into_iter().filter(|e| viewer.enter(standing, e.row.node).level().is_some()));
            if last || items.len() > limit {
                break;
            }
            wanted = limit.max(200);
        }
        let more = items.len() > limit;
        items.truncate(limit);
        let next = items.last().filter(|_| more).map(|e| self.0.cursor(actor, &list, &place_in(e, sort)));
        // The sums of what something hidden lies in would tell of it.
        for entry in items.iter_mut().filter(|e| hiding.contains(&e.row.node)) {
            entry.folder = None;
        }
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
            .fetch_one(&self.0.shared.view.pool)
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
        .fetch_one(&self.0.shared.view.pool)
        .await?;
        entries(&text)
    }

    /// The files changed last on a shelf, newest first.
    #[boxed]
    pub async fn latest(&self, actor: &Actor, shelf: &Shelf, limit: usize) -> Result<Vec<Row>> {
        let viewer = self.0.grants().viewer(actor);
        let text: String = sqlx::query_scalar(sql(format!(
            "SELECT json_group_array(json_array({ROW_COLUMNS})) FROM
               (SELECT * FROM entries_now WHERE shelf = ? AND kind = 1 ORDER BY since DESC LIMIT ?) e
             LEFT JOIN contents c ON c.id = e.content"
        )))
        .bind(shelf.id.0)
        .bind(limit.clamp(1, 100) as i64 * 3)
        .fetch_one(&self.0.shared.view.pool)
        .await?;
        let mut found = Vec::new();
        for row in rows::parse_rows(&text)? {
            if found.len() < limit
                && let Some(chain) = self.0.shared.view.chain(row.node).await?
                && self.0.grants().level_along(&viewer, &chain).is_some()
            {
                found.push(row);
            }
        }
        Ok(found)
    }
}

/// Where an entry stands in its list.
fn place_in(entry: &Entry, sort: Sort) -> String {
    let kind = u8::from(!entry.row.is_folder());
    match sort {
        Sort::Name => format!("{kind}{}", entry.row.key),
        _ => format!("{kind}{}\u{2}{}", value_of(entry, sort), entry.row.key),
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
    let read = |(row, folder): (RowJson, Option<FolderJson>)| {
        Ok(Entry { row: row.row()?, folder: folder.map(FolderJson::folder), since_then: None })
    };
    list.into_iter().map(read).collect()
}

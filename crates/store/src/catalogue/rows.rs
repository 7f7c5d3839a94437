//! Reading rows out of the catalogue: one value per statement, decoded at once, because a
//! row fetched by itself costs ten times as much.

use crate::fs::disk::{ObjectId, unhex};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{
    ChangeKind, Content, ContentState, Folder, FolderPlacement, PastRow, Row, Shelf, ShelfKind,
};
use serde::Deserialize;
use sqlx::SqliteConnection;
use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;
use yellow_attic_core::rules::Door;
use yellow_attic_core::timeline::Kind;
use yellow_attic_core::{AccountId, ContentId, DeviceId, Moment, NodeId, OrgId, ShelfId};

/// The columns of an open row, in the order of [`RowJson`].
pub(crate) const ROW_COLUMNS: &str = "e.node, e.shelf, e.parent, e.sort_key, e.kind, e.mtime, e.since, e.at, \
     e.how, e.account, e.device, c.id, hex(c.hash), c.size, c.state, c.ino, c.btime, c.mark";
/// Where they come from.
pub(crate) const ROW_FROM: &str = "entries_now e LEFT JOIN contents c ON c.id = e.content";
/// The further columns of a past row, in the order of [`EndJson`].
pub(crate) const END_COLUMNS: &str =
    "e.until, e.ended_at, e.ended_how, e.ended_account, e.ended_device, e.held";
pub(crate) const FOLDER_COLUMNS: &str = "f.lies, f.ino, f.btime, f.bytes, f.files, f.folders, f.past_bytes, f.past_files, f.changed_at, f.trash_bytes, f.trash_files";

#[derive(Deserialize)]
pub(crate) struct RowJson<'a>(
    NodeId,
    ShelfId,
    Option<NodeId>,
    #[serde(borrow)] std::borrow::Cow<'a, str>,
    i64,
    i64,
    Moment,
    i64,
    i64,
    Option<AccountId>,
    Option<DeviceId>,
    Option<ContentId>,
    #[serde(borrow)] Option<std::borrow::Cow<'a, str>>,
    Option<i64>,
    Option<i64>,
    Option<i64>,
    Option<i64>,
    Option<i64>,
);

#[derive(Deserialize)]
pub(crate) struct EndJson(Moment, i64, i64, Option<AccountId>, Option<DeviceId>, i64);

#[derive(Deserialize)]
pub(crate) struct FolderJson(i64, i64, i64, i64, i64, i64, i64, i64, i64, i64, i64);

impl RowJson<'_> {
    pub(crate) fn row(self) -> Row {
        let content = self.11.map(|id| Content {
            id,
            hash: self.12.and_then(|h| unhex(&h)).unwrap_or_default(),
            size: self.13.unwrap_or(0),
            life: ContentState::from_number(self.14.unwrap_or(2)),
            object: ObjectId { ino: self.15.unwrap_or(0), btime: self.16.unwrap_or(0) },
            mark: self.17.unwrap_or(0),
        });
        Row {
            node: self.0,
            shelf: self.1,
            parent: self.2,
            key: Arc::from(&*self.3),
            kind: if self.4 == 0 { Kind::Folder } else { Kind::File },
            mtime: self.5,
            content,
            since: self.6,
            at: self.7,
            how: ChangeKind::from_number(self.8),
            account: self.9,
            device: self.10,
        }
    }
}

impl FolderJson {
    pub(crate) fn folder(self) -> Folder {
        Folder {
            lies: match self.0 {
                0 => FolderPlacement::Placed,
                1 => FolderPlacement::Removed,
                _ => FolderPlacement::Apart,
            },
            object: ObjectId { ino: self.1, btime: self.2 },
            bytes: self.3,
            files: self.4,
            folders: self.5,
            past_bytes: self.6,
            past_files: self.7,
            changed_at: self.8,
            trash_bytes: self.9,
            trash_files: self.10,
        }
    }
}

fn damaged(e: &serde_json::Error) -> StoreError {
    StoreError::Catalogue(format!("a row cannot be read: {e}"))
}

pub(crate) fn parse_rows(text: &str) -> Result<Vec<Row>> {
    let list: Vec<RowJson> = serde_json::from_str(text).map_err(|e| damaged(&e))?;
    Ok(list.into_iter().map(RowJson::row).collect())
}

pub(crate) fn parse_past(text: &str) -> Result<Vec<PastRow>> {
    let list: Vec<(RowJson, EndJson)> = serde_json::from_str(text).map_err(|e| damaged(&e))?;
    Ok(list.into_iter().map(|(row, end)| end.past(row)).collect())
}

impl EndJson {
    pub(crate) fn past(self, row: RowJson<'_>) -> PastRow {
        PastRow {
            row: row.row(),
            until: self.0,
            ended_at: self.1,
            ended_how: ChangeKind::from_number(self.2),
            ended_account: self.3,
            ended_device: self.4,
            held: self.5 != 0,
        }
    }
}

pub(crate) fn parse<'a, T: Deserialize<'a>>(text: &'a str) -> Result<T> {
    serde_json::from_str(text).map_err(|e| damaged(&e))
}

/// SQL from constants of this crate only.
pub(crate) fn sql(text: String) -> sqlx::AssertSqlSafe<String> {
    sqlx::AssertSqlSafe(text)
}

pub(crate) async fn row(conn: &mut SqliteConnection, node: NodeId) -> Result<Option<Row>> {
    static SQL: std::sync::LazyLock<String> = std::sync::LazyLock::new(|| {
        format!("SELECT json_array({ROW_COLUMNS}) FROM {ROW_FROM} WHERE e.node = ?")
    });
    let text: Option<String> =
        sqlx::query_scalar(sqlx::AssertSqlSafe(SQL.as_str())).bind(node.0).fetch_optional(conn).await?;
    text.map(|t| Ok(parse::<RowJson>(&t)?.row())).transpose()
}

pub(crate) async fn child(conn: &mut SqliteConnection, parent: NodeId, key: &str) -> Result<Option<Row>> {
    static SQL: std::sync::LazyLock<String> = std::sync::LazyLock::new(|| {
        format!("SELECT json_array({ROW_COLUMNS}) FROM {ROW_FROM} WHERE e.parent = ? AND e.sort_key = ?")
    });
    let text: Option<String> = sqlx::query_scalar(sqlx::AssertSqlSafe(SQL.as_str()))
        .bind(parent.0)
        .bind(key)
        .fetch_optional(conn)
        .await?;
    text.map(|t| Ok(parse::<RowJson>(&t)?.row())).transpose()
}

pub(crate) async fn folder(conn: &mut SqliteConnection, node: NodeId) -> Result<Option<Folder>> {
    static SQL: std::sync::LazyLock<String> = std::sync::LazyLock::new(|| {
        format!("SELECT json_array({FOLDER_COLUMNS}) FROM folders f WHERE f.node = ?")
    });
    let text: Option<String> =
        sqlx::query_scalar(sqlx::AssertSqlSafe(SQL.as_str())).bind(node.0).fetch_optional(conn).await?;
    text.map(|t| Ok(parse::<FolderJson>(&t)?.folder())).transpose()
}

/// The past rows of a node, newest first.
pub(crate) async fn past_of(conn: &mut SqliteConnection, node: NodeId, most: i64) -> Result<Vec<PastRow>> {
    let text: String = sqlx::query_scalar(sql(format!(
        "SELECT json_group_array(json_array(json_array({ROW_COLUMNS}), json_array({END_COLUMNS})))
         FROM (SELECT * FROM entries_past WHERE node = ? ORDER BY until DESC LIMIT ?) e
         LEFT JOIN contents c ON c.id = e.content"
    )))
    .bind(node.0)
    .bind(most)
    .fetch_one(conn)
    .await?;
    parse_past(&text)
}

type ShelfRow = (i64, i64, String, String, String, Option<i64>, i64);

pub(crate) async fn shelves(conn: &mut SqliteConnection) -> Result<HashMap<ShelfId, Arc<Shelf>>> {
    let rows: Vec<ShelfRow> = sqlx::query_as(
        "SELECT id, org, kind, name, disk_name, owner, root FROM shelves WHERE ended_at IS NULL",
    )
    .fetch_all(&mut *conn)
    .await?;
    Ok(rows
        .into_iter()
        .map(|(id, org, kind, name, disk_name, owner, root)| {
            let shelf = Shelf {
                id: ShelfId(id),
                org: OrgId(org),
                kind: if kind == "home" { ShelfKind::Home } else { ShelfKind::Shared },
                name,
                disk_name,
                owner: owner.map(AccountId),
                root: NodeId(root),
            };
            (shelf.id, Arc::new(shelf))
        })
        .collect())
}

pub(crate) async fn insert_shelf(conn: &mut SqliteConnection, shelf: &Shelf, now: i64) -> Result<()> {
    let kind = match shelf.kind {
        ShelfKind::Home => "home",
        ShelfKind::Shared => "shared",
    };
    sqlx::query(
        "INSERT INTO shelves (id, org, kind, name, disk_name, owner, root, made_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
    )
    .bind(shelf.id.0)
    .bind(shelf.org.0)
    .bind(kind)
    .bind(&shelf.name)
    .bind(&shelf.disk_name)
    .bind(shelf.owner.map(|o| o.0))
    .bind(shelf.root.0)
    .bind(now)
    .execute(&mut *conn)
    .await?;
    if let (ShelfKind::Shared, Some(owner)) = (shelf.kind, shelf.owner) {
        sqlx::query("INSERT INTO shelf_owners (shelf, account) VALUES (?, ?)")
            .bind(shelf.id.0)
            .bind(owner.0)
            .execute(&mut *conn)
            .await?;
    }
    Ok(())
}

/// The highest id that a shelf has had: those that ended keep theirs.
pub(crate) async fn last_shelf(conn: &mut SqliteConnection) -> Result<i64> {
    Ok(sqlx::query_scalar("SELECT coalesce(max(id), 0) FROM shelves").fetch_one(conn).await?)
}

/// Frees a shelf's name and keeps its row: past rows speak of it.
pub(crate) async fn end_shelf(conn: &mut SqliteConnection, shelf: ShelfId, now: i64) -> Result<()> {
    sqlx::query("UPDATE shelves SET ended_at = ?, name = '~' || id WHERE id = ?")
        .bind(now)
        .bind(shelf.0)
        .execute(conn)
        .await?;
    Ok(())
}

/// Doors as they are written.
pub(crate) fn doors_word(doors: &BTreeSet<Door>) -> String {
    doors.iter().map(|d| d.word()).collect::<Vec<_>>().join(",")
}

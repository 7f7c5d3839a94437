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
use yellow_attic_core::conditions::RequestId;
use yellow_attic_core::rules::Door;
use yellow_attic_core::timeline::Kind;
use yellow_attic_core::{AccountId, ContentId, DeviceId, Moment, NodeId, OrgId, ShelfId};

/// The columns of an open row, in the order of [`RowJson`].
pub(crate) const ROW_COLUMNS: &str = "e.node, e.shelf, e.parent, e.sort_key, e.kind, e.mtime, e.executable, e.since, e.at, \
     e.how, e.account, e.device, c.id, hex(c.hash), c.size, c.state, c.ino, c.btime, c.mark";
/// Where they come from.
pub(crate) const ROW_FROM: &str = "entries_now e LEFT JOIN contents c ON c.id = e.content";
/// The further columns of a past row, in the order of [`EndJson`].
pub(crate) const END_COLUMNS: &str =
    "e.until, e.ended_at, e.ended_how, e.ended_account, e.ended_device, e.held";
pub(crate) const FOLDER_COLUMNS: &str = "f.lies, f.ino, f.btime, f.bytes, f.files, f.folders, f.past_bytes, f.past_files, f.changed_at, f.trash_bytes, f.trash_files";

#[derive(Deserialize)]
pub(crate) struct RowJson<'a> {
    node: NodeId,
    shelf: ShelfId,
    parent: Option<NodeId>,
    #[serde(borrow)]
    key: std::borrow::Cow<'a, str>,
    kind: i64,
    mtime: i64,
    executable: i64,
    since: Moment,
    at: i64,
    how: i64,
    account: Option<AccountId>,
    device: Option<DeviceId>,
    content: Option<ContentId>,
    #[serde(borrow)]
    hash: Option<std::borrow::Cow<'a, str>>,
    size: Option<i64>,
    state: Option<i64>,
    ino: Option<i64>,
    btime: Option<i64>,
    mark: Option<i64>,
}

#[derive(Deserialize)]
pub(crate) struct EndJson {
    until: Moment,
    ended_at: i64,
    ended_how: i64,
    ended_account: Option<AccountId>,
    ended_device: Option<DeviceId>,
    held: i64,
}

#[derive(Deserialize)]
pub(crate) struct FolderJson {
    lies: i64,
    ino: i64,
    btime: i64,
    bytes: i64,
    files: i64,
    folders: i64,
    past_bytes: i64,
    past_files: i64,
    changed_at: i64,
    trash_bytes: i64,
    trash_files: i64,
}

impl RowJson<'_> {
    pub(crate) fn row(self) -> Result<Row> {
        let content = match (self.content, self.hash) {
            (None, _) => None,
            // Its bytes went, and what was known of them: the state that it was remains.
            (Some(id), None) => Some(Content {
                id,
                hash: [0; 32],
                size: 0,
                life: ContentState::Lost,
                object: ObjectId::default(),
                mark: 0,
            }),
            (Some(id), Some(hash)) => Some(Content {
                id,
                hash: unhex(&hash)
                    .ok_or_else(|| damaged_hash(&format!("content {}", id.0), hash.len() / 2))?,
                size: self.size.unwrap_or(0),
                life: ContentState::from_number(self.state.unwrap_or(2)),
                object: ObjectId { ino: self.ino.unwrap_or(0), btime: self.btime.unwrap_or(0) },
                mark: self.mark.unwrap_or(0),
            }),
        };
        Ok(Row {
            node: self.node,
            shelf: self.shelf,
            parent: self.parent,
            key: Arc::from(&*self.key),
            kind: if self.kind == 0 { Kind::Folder } else { Kind::File },
            mtime: self.mtime,
            executable: self.executable != 0,
            content,
            since: self.since,
            at: self.at,
            how: ChangeKind::from_number(self.how),
            account: self.account,
            device: self.device,
        })
    }
}

fn damaged_hash(of: &str, bytes: usize) -> StoreError {
    StoreError::DamagedRow(format!("the hash of {of} has {bytes} bytes, not 32"))
}

/// A hash as the catalogue holds it. One of another length is damage, and never read as if it were none.
pub(crate) fn hash_of(bytes: &[u8], of: &str) -> Result<[u8; 32]> {
    bytes.try_into().map_err(|_| damaged_hash(of, bytes.len()))
}

impl FolderJson {
    pub(crate) fn folder(self) -> Folder {
        Folder {
            lies: match self.lies {
                0 => FolderPlacement::Placed,
                1 => FolderPlacement::Removed,
                _ => FolderPlacement::Apart,
            },
            object: ObjectId { ino: self.ino, btime: self.btime },
            bytes: self.bytes,
            files: self.files,
            folders: self.folders,
            past_bytes: self.past_bytes,
            past_files: self.past_files,
            changed_at: self.changed_at,
            trash_bytes: self.trash_bytes,
            trash_files: self.trash_files,
        }
    }
}

fn damaged(e: &serde_json::Error) -> StoreError {
    StoreError::Catalogue(format!("a row cannot be read: {e}"))
}

pub(crate) fn parse_rows(text: &str) -> Result<Vec<Row>> {
    let list: Vec<RowJson> = serde_json::from_str(text).map_err(|e| damaged(&e))?;
    list.into_iter().map(RowJson::row).collect()
}

pub(crate) fn parse_past(text: &str) -> Result<Vec<PastRow>> {
    let list: Vec<(RowJson, EndJson)> = serde_json::from_str(text).map_err(|e| damaged(&e))?;
    list.into_iter().map(|(row, end)| end.past(row)).collect()
}

impl EndJson {
    pub(crate) fn past(self, row: RowJson<'_>) -> Result<PastRow> {
        Ok(PastRow {
            row: row.row()?,
            until: self.until,
            ended_at: self.ended_at,
            ended_how: ChangeKind::from_number(self.ended_how),
            ended_account: self.ended_account,
            ended_device: self.ended_device,
            held: self.held != 0,
        })
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
    text.map(|t| parse::<RowJson>(&t)?.row()).transpose()
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
    text.map(|t| parse::<RowJson>(&t)?.row()).transpose()
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

/// The state of a node that began at a number and is over.
pub(crate) async fn past_since(
    conn: &mut SqliteConnection,
    node: NodeId,
    since: Moment,
) -> Result<Option<Row>> {
    let text: String = sqlx::query_scalar(sql(format!(
        "SELECT json_group_array(json_array(json_array({ROW_COLUMNS}), json_array({END_COLUMNS})))
         FROM (SELECT * FROM entries_past WHERE node = ? AND since = ?) e
         LEFT JOIN contents c ON c.id = e.content"
    )))
    .bind(node.0)
    .bind(since.0)
    .fetch_one(conn)
    .await?;
    Ok(parse_past(&text)?.into_iter().next().map(|past| past.row))
}

/// Nodes on a shelf that are in a state that began after a number, by that number and node. While something that came
/// from another shelf still has that one's stamp, those of all shelves.
pub(crate) async fn changed_on(
    conn: &mut SqliteConnection,
    shelf: ShelfId,
    after: (Moment, NodeId),
    most: usize,
) -> Result<Vec<(Moment, NodeId)>> {
    let restamping: bool = sqlx::query_scalar("SELECT EXISTS (SELECT 1 FROM jobs WHERE kind = 'restamp')")
        .fetch_one(&mut *conn)
        .await?;
    let which = if restamping { "(? OR true)" } else { "shelf = ?" };
    let found: Vec<(i64, i64)> = sqlx::query_as(sql(format!(
        "SELECT since, node FROM entries_now WHERE {which} AND (since, node) > (?, ?) ORDER BY since, node LIMIT ?"
    )))
    .bind(shelf.0)
    .bind(after.0.0)
    .bind(after.1.0)
    .bind(most as i64)
    .fetch_all(conn)
    .await?;
    Ok(found.into_iter().map(|(since, node)| (Moment(since), NodeId(node))).collect())
}

/// What a named request was answered with.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Told {
    pub node: NodeId,
    pub moment: Moment,
    pub made: Made,
}

/// What became of the node that a named request was about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Made {
    Changed = 0,
    New = 1,
    Removed = 2,
}

/// The same from the catalogue.
pub(crate) async fn request(
    conn: &mut SqliteConnection,
    account: AccountId,
    id: RequestId,
) -> Result<Option<Told>> {
    let found: Option<(i64, i64, i64)> =
        sqlx::query_as("SELECT node, moment, made FROM requests WHERE account = ? AND id = ?")
            .bind(account.0)
            .bind(&id.0[..])
            .fetch_optional(conn)
            .await?;
    Ok(found.map(|(node, moment, made)| Told {
        node: NodeId(node),
        moment: Moment(moment),
        made: match made {
            1 => Made::New,
            2 => Made::Removed,
            _ => Made::Changed,
        },
    }))
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

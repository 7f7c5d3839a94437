//! What a catalogue says to lie in folders: the shelves, and the removed folders that are whole still.

use crate::catalogue::rows::{hash_of, shelves};
use crate::fs::disk::folder_name;
use crate::fs::error::Result;
use crate::fs::model::{ContentState, ShelfKind, name_in, shelf_parts};
use sqlx::SqliteConnection;
use yellow_attic_core::{ContentId, NodeId};

/// A tree of folders and files.
pub(crate) struct Tree {
    pub root: NodeId,
    /// As a person reads it.
    pub path: String,
    /// Below `shelves/`; in `past/removed/` if it was removed.
    pub parts: Vec<String>,
    pub removed: bool,
}

/// A child of a folder.
pub(crate) struct Child {
    pub node: NodeId,
    pub name: String,
    pub mtime: i64,
    pub executable: bool,
    /// Of a file whose bytes lie here: the content.
    pub file: Option<Bytes>,
    /// Whether it is a folder that lies here.
    pub is_folder: bool,
}

/// The bytes of a file, as the catalogue knows them.
#[derive(Clone, Copy)]
pub(crate) struct Bytes {
    pub content: ContentId,
    pub hash: [u8; 32],
    pub size: i64,
}

/// Every tree: the shelves first.
pub(crate) async fn trees(conn: &mut SqliteConnection) -> Result<Vec<Tree>> {
    let mut found: Vec<Tree> = shelves(conn)
        .await?
        .into_values()
        .map(|shelf| Tree {
            root: shelf.root,
            path: match shelf.kind {
                ShelfKind::Home => format!("home/{}", shelf.name),
                ShelfKind::Shared => format!("shared/{}", shelf.name),
            },
            parts: shelf_parts(shelf.kind, &shelf.disk_name).map(String::from).to_vec(),
            removed: false,
        })
        .collect();
    found.sort_by(|a, b| a.path.cmp(&b.path));
    let removed: Vec<(i64, Option<String>)> = sqlx::query_as(
        "SELECT f.node, (SELECT sort_key FROM entries_past e WHERE e.node = f.node ORDER BY until DESC LIMIT 1)
         FROM folders f WHERE f.lies = 1 ORDER BY f.node",
    )
    .fetch_all(conn)
    .await?;
    found.extend(removed.into_iter().map(|(node, key)| Tree {
        root: NodeId(node),
        path: format!("removed/{}", key.as_deref().map_or("", name_in)),
        parts: vec![folder_name(NodeId(node))],
        removed: true,
    }));
    Ok(found)
}

/// The children of a folder that lie in it, folders and files.
pub(crate) async fn children(conn: &mut SqliteConnection, folder: NodeId) -> Result<Vec<Child>> {
    type Raw =
        (i64, String, i64, i64, i64, Option<i64>, Option<Vec<u8>>, Option<i64>, Option<i64>, Option<i64>);
    let rows: Vec<Raw> = sqlx::query_as(
        "SELECT e.node, e.sort_key, e.kind, e.mtime, e.executable, c.id, c.hash, c.size, c.state, f.lies
         FROM entries_now e LEFT JOIN contents c ON c.id = e.content LEFT JOIN folders f ON f.node = e.node
         WHERE e.parent = ? ORDER BY e.sort_key",
    )
    .bind(folder.0)
    .fetch_all(conn)
    .await?;
    rows.into_iter()
        .map(|(node, key, kind, mtime, executable, content, hash, size, state, lies)| {
            let live = state == Some(ContentState::Live as i64);
            let file = match (content, hash) {
                (Some(id), Some(hash)) if live && kind == 1 => Some(Bytes {
                    content: ContentId(id),
                    hash: hash_of(&hash, &format!("content {id}"))?,
                    size: size.unwrap_or(0),
                }),
                _ => None,
            };
            Ok(Child {
                node: NodeId(node),
                name: name_in(&key).to_string(),
                mtime,
                executable: executable != 0,
                file,
                is_folder: kind == 0 && lies == Some(0),
            })
        })
        .collect()
}

//! What is known of a folder, and what is seen in it.

use crate::catalogue::rows;
use crate::fs::disk::{Disk, Look, ObjectId, Plain, look};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{ContentState, FolderPlacement, Row};
use crate::txn::read_cache::View;
use std::collections::{HashMap, HashSet};
use std::os::fd::OwnedFd;
use std::sync::Arc;
use yellow_attic_core::NodeId;
use yellow_attic_core::reconcile::{Known, Lies, Object, PLACED_WITHIN_MS, There};

/// Rows read in one go.
const PAGE: i64 = 10_000;

pub(super) fn object(id: ObjectId) -> Object {
    (id.ino, id.btime)
}

/// The children of a folder, with what is known of their objects.
pub(super) struct Children {
    pub rows: HashMap<NodeId, Row>,
    pub known: Vec<Known>,
    /// Until when what was changed of a content's object is known, where that was read.
    pub verified: HashMap<i64, i64>,
}

/// Reads the children of a folder: all, or those with some names.
pub(super) async fn children(
    view: &View,
    folder: NodeId,
    names: Option<&HashSet<String>>,
) -> Result<Children> {
    let keys: Option<Vec<String>> = names.map(|names| {
        let named = |name: &String| yellow_attic_core::Name::new(name).ok();
        names.iter().filter_map(named).map(|name| yellow_attic_core::collate::sort_key(&name)).collect()
    });
    let mut list = Vec::new();
    match keys {
        Some(keys) => {
            for key in keys {
                list.extend(view.child(folder, &key.into()).await?.as_deref().cloned());
            }
        }
        None => {
            let mut after = String::new();
            loop {
                let text: String = sqlx::query_scalar(rows::sql(format!(
                    "SELECT json_group_array(json_array({})) FROM
                       (SELECT * FROM entries_now WHERE parent = ? AND sort_key > ? ORDER BY sort_key LIMIT {PAGE}) e
                       LEFT JOIN contents c ON c.id = e.content",
                    rows::ROW_COLUMNS
                )))
                .bind(folder.0)
                .bind(&after)
                .fetch_one(&view.pool)
                .await?;
                let page = rows::parse_rows(&text)?;
                let Some(last) = page.last() else { break };
                after = last.key.to_string();
                list.extend(page);
            }
        }
    }
    let verified = verified(view, folder, &list).await?;
    let mut known = Vec::with_capacity(list.len());
    for row in &list {
        let (object, size) = match row.content {
            Some(content) if content.life == ContentState::Live => (object(content.object), content.size),
            // No bytes are expected of it.
            Some(_) => continue,
            None => match view.folder(row.node).await? {
                Some(sums) if sums.lies == FolderPlacement::Placed => (object(sums.object), 0),
                _ => continue,
            },
        };
        let after = row.content.and_then(|content| verified.get(&content.id.0).copied()).unwrap_or(0);
        known.push(Known {
            node: row.node,
            name: row.name().into(),
            kind: row.kind,
            object,
            size,
            mtime: row.mtime,
            seen: after.max(row.at + PLACED_WITHIN_MS),
        });
    }
    Ok(Children { rows: list.into_iter().map(|row| (row.node, row)).collect(), known, verified })
}

async fn verified(view: &View, folder: NodeId, rows: &[Row]) -> Result<HashMap<i64, i64>> {
    let found: Vec<(i64, i64)> = match rows.len() {
        0 => Vec::new(),
        1..100 => {
            let ids: Vec<i64> = rows.iter().filter_map(|row| row.content.map(|c| c.id.0)).collect();
            sqlx::query_as("SELECT content, changed FROM verified WHERE content IN (SELECT value FROM json_each(?))")
                .bind(serde_json::to_string(&ids).unwrap_or_default())
                .fetch_all(&view.pool)
                .await?
        }
        _ => {
            sqlx::query_as(
                "SELECT v.content, v.changed FROM entries_now e JOIN verified v ON v.content = e.content WHERE e.parent = ?",
            )
            .bind(folder.0)
            .fetch_all(&view.pool)
            .await?
        }
    };
    Ok(found.into_iter().collect())
}

/// What was seen in a directory, and what could not be looked at.
pub(super) struct Seen {
    pub there: Vec<There>,
    pub looks: HashMap<Vec<u8>, Look>,
    pub unreadable: Vec<(String, String)>,
}

/// Looks at a directory: at all of it, or at some names. Blocks.
pub(super) fn see(disk: &Disk, dir: &OwnedFd, names: Option<&HashSet<String>>) -> std::io::Result<Seen> {
    let raw: Vec<Vec<u8>> = match names {
        Some(names) => names.iter().map(|name| name.as_bytes().to_vec()).collect(),
        None => disk.names(dir)?,
    };
    let mut seen =
        Seen { there: Vec::with_capacity(raw.len()), looks: HashMap::new(), unreadable: Vec::new() };
    for raw in raw {
        // Told with its name alone where that is no text: it is left alone whatever it is.
        let Ok(text) = std::str::from_utf8(&raw) else {
            let (object, lies) = ((0, 0), Lies::Other);
            seen.there.push(There { raw, lies, object, size: 0, mtime: 0, changed: 0 });
            continue;
        };
        match look(dir, text) {
            Ok(Some(found)) => {
                let lies = match found.kind {
                    Plain::File => Lies::File,
                    Plain::Folder => Lies::Folder,
                    Plain::Other => Lies::Other,
                };
                let (object, changed) = (object(found.id), found.changed);
                let (size, mtime) = (found.size, found.mtime);
                seen.looks.insert(raw.clone(), found);
                seen.there.push(There { raw, lies, object, size, mtime, changed });
            }
            Ok(None) => {}
            Err(e) => seen.unreadable.push((text.to_string(), e.to_string())),
        }
    }
    Ok(seen)
}

/// Of objects that were found somewhere, the nodes that are them, as the catalogue has it.
pub(super) async fn nodes_of(view: &View, objects: &[Object]) -> Result<HashMap<Object, Vec<NodeId>>> {
    let mut found: HashMap<Object, Vec<NodeId>> = HashMap::new();
    for part in objects.chunks(1_000) {
        let list = serde_json::to_string(part).map_err(|e| StoreError::Catalogue(e.to_string()))?;
        let rows: Vec<(i64, i64, i64)> = sqlx::query_as(
            "SELECT c.ino, c.btime, e.node FROM json_each(?1) j CROSS JOIN contents c
               ON c.state = 0 AND c.ino = j.value->>0 AND c.btime = j.value->>1
               CROSS JOIN entries_now e ON e.content = c.id
             UNION ALL
             SELECT f.ino, f.btime, f.node FROM json_each(?1) j CROSS JOIN folders f
               ON f.lies = 0 AND f.ino = j.value->>0 AND f.btime = j.value->>1",
        )
        .bind(list)
        .fetch_all(&view.pool)
        .await?;
        for (ino, btime, node) in rows {
            found.entry((ino, btime)).or_default().push(NodeId(node));
        }
    }
    Ok(found)
}

/// The path of a node for people: its shelf, then its way down.
pub(super) async fn path_of(view: &View, node: NodeId) -> Result<String> {
    let Some(way) = view.chain(node).await? else { return Ok(format!("#{node}")) };
    let shelf = way.last().and_then(|top| view.shelf(top.shelf));
    let mut path = shelf.map_or_else(String::new, |shelf| crate::txn::write_txn::shelf_word(&shelf));
    for row in way.iter().rev().skip(1) {
        path.push('/');
        path.push_str(row.name());
    }
    Ok(path)
}

/// A directory, shared with a thread that looks at it.
pub(super) type Dir = Arc<OwnedFd>;

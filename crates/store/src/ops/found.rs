//! What is found on the disk is taken into the timeline: nothing is overwritten unseen.

use crate::catalogue::rows::{self, hash_of};
use crate::fs::disk::ObjectId;
use crate::fs::error::Result;
use crate::fs::model::{Actor, ChangeKind, Content, ContentState, Folder, FolderPlacement, PastRow, Row};
use crate::txn::operation::{Around, Operation};
use crate::txn::sums::Delta;
use crate::txn::write_txn::WriteTxn;
use std::sync::Arc;
use yellow_attic_core::timeline::Kind;
use yellow_attic_core::{ContentId, NodeId};

/// Bytes found on the disk that the catalogue did not know.
#[derive(Clone, Debug)]
pub(crate) struct Foreign {
    pub id: ContentId,
    pub hash: [u8; 32],
    pub size: i64,
    pub mtime: i64,
    pub object: ObjectId,
}

/// Another program's state of a node was moved aside when ours took its place. It becomes
/// number m, and what stands there now m+1. `instead_of`: the state that it had replaced on the
/// disk, whose bytes are lost.
pub(crate) async fn enter_displaced(
    txn: &mut WriteTxn,
    node: NodeId,
    foreign: &Foreign,
    instead_of: Option<ContentId>,
) -> Result<()> {
    let actor = Actor::service();
    if is_entered(txn, node, foreign).await? {
        return Ok(());
    }
    let last = rows::past_of(&mut txn.conn, node, 1).await?.into_iter().next();
    let open = txn.row(node).await?;
    let Some(model) = open.as_deref().cloned().or_else(|| last.as_ref().map(|p: &PastRow| p.row.clone()))
    else {
        // Of nobody's states: kept all the same, and known by its content.
        txn.add_content(past_content(foreign));
        txn.add_finding("unknown file", Some(node), &format!("kept as past content {}", foreign.id));
        return Ok(());
    };
    let m = txn.next_moment();
    let content = past_content(foreign);
    txn.add_content(content);
    let state = Row {
        content: Some(content),
        kind: Kind::File,
        mtime: foreign.mtime,
        since: m,
        at: txn.now,
        how: ChangeKind::Found,
        account: None,
        device: None,
        ..model
    };
    let next = txn.next_moment();
    match &open {
        Some(row) => {
            txn.end_row(row, m, ChangeKind::Found, &actor);
            txn.add_past(state.clone(), next, ChangeKind::Changed, &actor);
            txn.open_row(Row { since: next, ..(**row).clone() }, true);
        }
        None => {
            txn.untrash(node).await?;
            txn.add_past(state.clone(), next, ChangeKind::Removed, &actor);
        }
    }
    if let Some(parent) = state.parent {
        let delta = Delta { past_bytes: foreign.size, past_files: 1, ..Delta::default() };
        let delta = match open {
            Some(_) => delta,
            None => Delta { trash_bytes: foreign.size, trash_files: 1, ..delta },
        };
        txn.charge(parent, delta, 1).await?;
    }
    if let Some(lost) = instead_of {
        lose(txn, lost, node).await?;
    }
    let what = match state.parent {
        Some(parent) => format!("{}/{}", txn.folder_path(parent).await?, state.name()),
        None => String::new(),
    };
    txn.add_record(&actor, "found on disk", Some(node), &what, &foreign.size.to_string());
    Ok(())
}

/// Whether the very same object with the same bytes was entered already: the engine stopped between entering and
/// filing it.
async fn is_entered(txn: &mut WriteTxn, node: NodeId, foreign: &Foreign) -> Result<bool> {
    let found: i64 = sqlx::query_scalar(
        "SELECT count(*) FROM contents c JOIN entries_past e ON e.content = c.id
         WHERE c.hash = ? AND c.state = 1 AND c.ino = ? AND c.btime = ? AND e.node = ?",
    )
    .bind(&foreign.hash[..])
    .bind(foreign.object.ino)
    .bind(foreign.object.btime)
    .bind(node.0)
    .fetch_one(&mut txn.conn)
    .await?;
    Ok(found > 0)
}

const OVERWRITTEN: &str = "changed or removed on the disk by another program";

/// A live file was changed in its place by another program: that is its present state now. `told`: the desk tells that the bytes of
/// before are lost.
pub(crate) async fn take_up(
    txn: &mut WriteTxn,
    node: NodeId,
    was: ContentId,
    foreign: &Foreign,
    told: bool,
) -> Result<Option<Arc<Row>>> {
    let actor = Actor::service();
    let Some(row) = txn.row(node).await? else { return Ok(None) };
    let Some(old) = row.content.filter(|c| c.id == was) else { return Ok(Some(row)) };
    if old.hash == foreign.hash {
        // The same bytes, touched or saved anew: the object and the time are new, the state is not.
        txn.set_content(Content { object: foreign.object, ..old });
        let same = Content { object: foreign.object, ..old };
        txn.open_row(Row { content: Some(same), mtime: foreign.mtime, ..(*row).clone() }, true);
        return txn.row(node).await;
    }
    let m = txn.next_moment();
    let content = Content { life: ContentState::Live, mark: 0, ..past_content(foreign) };
    txn.add_content(content);
    txn.end_row(&row, m, ChangeKind::Found, &actor);
    txn.open_row(
        Row {
            content: Some(content),
            mtime: foreign.mtime,
            since: m,
            at: txn.now,
            how: ChangeKind::Found,
            account: None,
            device: None,
            ..(*row).clone()
        },
        true,
    );
    txn.set_content(Content { life: ContentState::Lost, ..old });
    if told {
        txn.add_finding("bytes lost", Some(node), OVERWRITTEN);
    }
    if let Some(parent) = row.parent {
        txn.charge(parent, Delta { bytes: foreign.size - old.size, ..Delta::default() }, 1).await?;
    }
    let what = txn.path(node).await?;
    txn.add_record(&actor, "found on disk", Some(node), &what, &foreign.size.to_string());
    txn.row(node).await
}

/// A file or folder that stood in a removed folder unknown to the catalogue: entered as
/// removed with it. `known`: the node whose recorded state it replaced on the disk.
pub(crate) async fn enter_removed(
    txn: &mut WriteTxn,
    parent: NodeId,
    key: &Arc<str>,
    known: Option<NodeId>,
    foreign: Option<&Foreign>,
    folder_object: ObjectId,
) -> Result<NodeId> {
    let actor = Actor::service();
    if let Some(entered) = entered_with(txn, parent, key, foreign, folder_object).await? {
        return Ok(entered);
    }
    let shelf = match rows::past_of(&mut txn.conn, parent, 1).await?.first() {
        Some(past) => past.row.shelf,
        None => txn.row(parent).await?.map_or(yellow_attic_core::ShelfId(0), |r| r.shelf),
    };
    let m = txn.next_moment();
    let until = txn.next_moment();
    let node = known.unwrap_or_else(|| txn.next_node());
    let content = foreign.map(past_content);
    let row = Row {
        node,
        shelf,
        parent: Some(parent),
        key: key.clone(),
        kind: if foreign.is_some() { Kind::File } else { Kind::Folder },
        mtime: foreign.map_or(txn.now, |f| f.mtime),
        executable: false,
        content,
        since: m,
        at: txn.now,
        how: ChangeKind::Found,
        account: None,
        device: None,
    };
    if let Some(content) = content {
        txn.add_content(content);
        let size = content.size;
        let delta =
            Delta { past_bytes: size, past_files: 1, trash_bytes: size, trash_files: 1, ..Delta::default() };
        txn.charge(parent, delta, 0).await?;
    } else {
        txn.set_folder(
            node,
            Folder { lies: FolderPlacement::Removed, ..Folder::new(folder_object, txn.now) },
        );
        txn.came_apart(node, parent);
        // Not at once: it is still to be brought to where removed folders lie.
        txn.add_job("take apart", node, m, txn.now + 60_000);
    }
    txn.add_past(row.clone(), until, ChangeKind::Removed, &actor);
    txn.add_record(&actor, "found on disk", Some(node), row.name(), "removed with its folder");
    Ok(node)
}

/// The node as which something in a removed folder was entered already, before a stop.
async fn entered_with(
    txn: &mut WriteTxn,
    parent: NodeId,
    key: &Arc<str>,
    foreign: Option<&Foreign>,
    folder: ObjectId,
) -> Result<Option<NodeId>> {
    let object = foreign.map_or(folder, |f| f.object);
    let node: Option<i64> = sqlx::query_scalar(
        "SELECT e.node FROM entries_past e LEFT JOIN contents c ON c.id = e.content LEFT JOIN folders f ON f.node = e.node
         WHERE e.parent = ?1 AND e.sort_key = ?2 AND coalesce(c.ino, f.ino) = ?3 AND coalesce(c.btime, f.btime) = ?4
           AND (c.hash IS NULL OR c.hash = ?5) AND coalesce(c.state, f.lies) = 1 LIMIT 1",
    )
    .bind(parent.0)
    .bind(&**key)
    .bind(object.ino)
    .bind(object.btime)
    .bind(foreign.map(|f| f.hash.to_vec()))
    .fetch_optional(&mut txn.conn)
    .await?;
    Ok(node.map(NodeId))
}

/// The bytes of a content are gone: another program overwrote or removed them.
pub(crate) async fn lose(txn: &mut WriteTxn, content: ContentId, node: NodeId) -> Result<()> {
    if let Some(known) = content_of(txn, content).await?.filter(|c| c.life != ContentState::Lost) {
        if known.life == ContentState::Past {
            txn.uncharge(&known).await?;
        }
        txn.set_content(Content { life: ContentState::Lost, ..known });
        txn.add_finding("bytes lost", Some(node), OVERWRITTEN);
    }
    Ok(())
}

/// A content by its id.
pub(crate) async fn content_of(txn: &mut WriteTxn, id: ContentId) -> Result<Option<Content>> {
    type Raw = (Vec<u8>, i64, i64, i64, i64, i64);
    let raw: Option<Raw> =
        sqlx::query_as("SELECT hash, size, state, ino, btime, mark FROM contents WHERE id = ?")
            .bind(id.0)
            .fetch_optional(&mut txn.conn)
            .await?;
    let read = |(hash, size, state, ino, btime, mark): Raw| {
        Ok(Content {
            id,
            hash: hash_of(&hash, &format!("content {}", id.0))?,
            size,
            life: ContentState::from_number(state),
            object: ObjectId { ino, btime },
            mark,
        })
    };
    raw.map(read).transpose()
}

fn past_content(foreign: &Foreign) -> Content {
    Content {
        id: foreign.id,
        hash: foreign.hash,
        size: foreign.size,
        life: ContentState::Past,
        object: foreign.object,
        mark: 0,
    }
}

/// Bytes that another program put in a file's place become a state of it.
pub(crate) struct Displaced {
    pub node: NodeId,
    pub foreign: Foreign,
    pub instead_of: Option<ContentId>,
}

impl Operation for Displaced {
    type Told = ();

    async fn decide(&mut self, txn: &mut WriteTxn, _: &mut Around<'_>) -> Result<()> {
        enter_displaced(txn, self.node, &self.foreign, self.instead_of).await
    }
}

/// What stands in a file's place by now is taken up.
pub(crate) struct TakeUp {
    pub node: NodeId,
    pub was: ContentId,
    pub foreign: Foreign,
}

impl Operation for TakeUp {
    type Told = Option<Arc<Row>>;

    async fn decide(&mut self, txn: &mut WriteTxn, _: &mut Around<'_>) -> Result<Option<Arc<Row>>> {
        take_up(txn, self.node, self.was, &self.foreign, true).await
    }
}

/// Something left in a removed folder by others enters the past.
pub(crate) struct EnterRemoved {
    pub parent: NodeId,
    pub key: Arc<str>,
    pub known: Option<NodeId>,
    pub foreign: Option<Foreign>,
    pub object: ObjectId,
}

impl Operation for EnterRemoved {
    type Told = NodeId;

    async fn decide(&mut self, txn: &mut WriteTxn, _: &mut Around<'_>) -> Result<NodeId> {
        enter_removed(txn, self.parent, &self.key, self.known, self.foreign.as_ref(), self.object).await
    }
}

/// Bytes are nowhere any more.
pub(crate) struct Lost {
    pub content: ContentId,
    pub node: NodeId,
}

impl Operation for Lost {
    type Told = ();

    async fn decide(&mut self, txn: &mut WriteTxn, _: &mut Around<'_>) -> Result<()> {
        lose(txn, self.content, self.node).await
    }
}

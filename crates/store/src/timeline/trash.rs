//! What was removed: seen in one place, brought back to where it was, its folders with it.

use crate::catalogue::rows::{self, END_COLUMNS, EndJson, ROW_COLUMNS, RowJson, sql};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ChangeKind, ContentState, Folder, PastRow, Row};
use crate::ops::{Outcome, Place};
use crate::rights::access::Viewer;
use crate::timeline::History;
use async_recursion::async_recursion as boxed;
use yellow_attic_core::collate::sort_key;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::cursor::CursorError;
use yellow_attic_core::keeping::Keeping;
use yellow_attic_core::rights::Level;
use yellow_attic_core::{Moment, Name, NodeId};

/// Something that was removed.
#[derive(Clone, Debug)]
pub struct Removed {
    /// What it was last, and who removed it when.
    pub past: PastRow,
    /// Of a folder, what was in it; none where that would tell of something hidden.
    pub sums: Option<Folder>,
    /// The folders in which it stood, from the top of the shelf down.
    pub way: Vec<(NodeId, String)>,
    /// Whether the folder in which it stood is still there.
    pub place: bool,
    /// When it goes for good, in milliseconds, as the rules are now; none: not by itself.
    pub goes_at: Option<i64>,
    /// Nothing of it goes: by the rule of the shelf.
    pub hold: bool,
}

/// A page of what was removed.
#[derive(Clone, Debug, Default)]
pub struct TrashPage {
    /// Newest first.
    pub items: Vec<Removed>,
    /// Where the next page begins.
    pub next: Option<String>,
}

impl History {
    /// What was removed from a folder and from all beneath it, newest first. Shown to whoever may see
    /// where it was.
    #[boxed]
    pub async fn trash(
        &self,
        actor: &Actor,
        folder: NodeId,
        cursor: Option<&str>,
        limit: usize,
    ) -> Result<TrashPage> {
        let chain = self.0.files().chain(actor, folder, Level::View).await?;
        let top = chain.last().ok_or_else(|| StoreError::NotFound("The folder".into()))?;
        let (shelf, whole) = (top.shelf, top.node == folder);
        let list = format!("removed from {folder}");
        let (mut before, mut before_id) = match cursor {
            None => (i64::MAX, i64::MAX),
            Some(text) => self
                .0
                .place_of(actor, &list, text)?
                .split_once(' ')
                .and_then(|(at, id)| Some((at.parse().ok()?, id.parse().ok()?)))
                .ok_or(CursorError::Malformed)?,
        };
        let mut last_shown = (before, before_id);
        let limit = limit.clamp(1, 500);
        let viewer = self.0.grants().viewer(actor);
        let keeping = Keeping::of(&self.0.people().rules(), shelf);
        let mut page = TrashPage::default();
        loop {
            let text: String = sqlx::query_scalar(sql(format!(
                "SELECT json_group_array(json_array(json_array({ROW_COLUMNS}), json_array({END_COLUMNS}), e.id)) FROM (
                   SELECT * FROM entries_past p WHERE p.shelf = ?1 AND p.ended_how = 7 AND p.held = 1
                     AND (p.ended_at, p.id) < (?2, ?3)
                     AND NOT EXISTS (SELECT 1 FROM entries_now n WHERE n.node = p.node)
                     AND NOT EXISTS (SELECT 1 FROM entries_past l WHERE l.node = p.node AND l.until > p.until)
                   ORDER BY p.ended_at DESC, p.id DESC LIMIT 200) e
                 LEFT JOIN contents c ON c.id = e.content"
            )))
            .bind(shelf.0)
            .bind(before)
            .bind(before_id)
            .fetch_one(&self.0.shared.view.pool)
            .await?;
            let found: Vec<(RowJson, EndJson, i64)> = rows::parse(&text)?;
            let last = found.len() < 200;
            for (row, end, id) in found {
                let past = end.past(row)?;
                (before, before_id) = (past.ended_at, id);
                let row = &past.row;
                if !self.saw(&viewer, row.node, row.parent, row.shelf, Moment(past.until.0 - 1)).await? {
                    continue;
                }
                let (way, place) = self.way_to(row.parent).await?;
                if !whole && !way.iter().any(|(node, _)| *node == folder) {
                    continue;
                }
                if page.items.len() == limit {
                    let (at, id) = last_shown;
                    page.next = Some(self.0.cursor(actor, &list, &format!("{at} {id}")));
                    return Ok(page);
                }
                last_shown = (before, before_id);
                let sums = match row.is_folder() && !self.hides_in(&viewer, row.node).await? {
                    true => self.0.shared.view.folder(row.node).await?,
                    false => None,
                };
                let due =
                    |span: Option<yellow_attic_core::keeping::span::Span>| span.map(|s| past.ended_at + s.0);
                let goes_at = match (due(keeping.trash), due(keeping.erase)) {
                    (Some(a), Some(b)) => Some(a.min(b)),
                    (a, b) => a.or(b),
                };
                let hold = keeping.hold;
                page.items.push(Removed { sums, way, place, goes_at: goes_at.filter(|_| !hold), hold, past });
            }
            if last {
                return Ok(page);
            }
        }
    }

    /// Whether something beneath a removed folder is hidden from somebody: its sums would tell of it.
    async fn hides_in(&self, viewer: &Viewer, folder: NodeId) -> Result<bool> {
        for bar in viewer.access.bars() {
            if let Some((way, shelf)) = self.last_way(*bar).await?
                && way[1..].contains(&folder)
                && viewer.standing(shelf, way.into_iter()).level().is_none()
            {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// Refuses unless somebody manages the place where something was, or the nearest folder above it that
    /// is still there: only they remove for good.
    #[boxed]
    pub async fn check_for_good(&self, actor: &Actor, node: NodeId) -> Result<()> {
        self.0.history().states(actor, node, 1).await?;
        let mut next = Some(node);
        while let Some(id) = next {
            if self.0.shared.view.chain(id).await?.is_some() {
                return self.0.files().chain(actor, id, Level::Manage).await.map(|_| ());
            }
            next = match self.0.shared.view.row(id).await? {
                Some(row) => row.parent,
                None => self.last_past(id).await?.and_then(|p| p.row.parent),
            };
        }
        Err(StoreError::NotFound("The file or folder".into()))
    }

    /// The folders down to a parent as they are or were last, and whether all of them are there.
    async fn way_to(&self, parent: Option<NodeId>) -> Result<(Vec<(NodeId, String)>, bool)> {
        let mut way = Vec::new();
        let mut there = true;
        let mut next = parent;
        while let (Some(id), true) = (next, way.len() < 1000) {
            let row = match self.0.shared.view.row(id).await? {
                Some(row) => (*row).clone(),
                None => {
                    there = false;
                    match self.last_past(id).await? {
                        Some(past) => past.row,
                        None => break,
                    }
                }
            };
            next = row.parent;
            way.push((id, row.name().to_string()));
        }
        way.reverse();
        Ok((way, there))
    }

    /// Brings back something removed, and makes the folders on the way to it again where they are
    /// gone. Something in a removed folder comes back as a copy: the folder itself stays in the trash.
    #[boxed]
    pub async fn restore_with_folders(
        &self,
        actor: &Actor,
        node: NodeId,
        at: Option<Moment>,
    ) -> Result<Outcome> {
        let gone = || StoreError::NotFound("The file or folder".into());
        self.0.history().states(actor, node, 1).await?;
        let open = self.0.shared.view.row(node).await?;
        let was = match &open {
            Some(row) => (**row).clone(),
            None => self.last_past(node).await?.ok_or_else(gone)?.row,
        };
        let name = Name::new(was.name())?;
        let (way, _) = self.way_to(was.parent).await?;
        // Down to the last folder that is still there.
        let mut base = None;
        let mut missing = Vec::new();
        for (id, name) in way {
            match self.0.shared.view.chain(id).await? {
                Some(_) if missing.is_empty() => base = Some(id),
                _ => missing.push(name),
            }
        }
        let mut parent = base.ok_or(StoreError::PlaceGone)?;
        for name in missing {
            let name = Name::new(&name)?;
            let key = sort_key(&name).into();
            parent = match self.0.shared.view.child(parent, &key).await? {
                Some(row) if row.is_folder() => row.node,
                Some(_) => return Err(StoreError::NameTaken(name.to_string())),
                None => self.0.files().make_folder(actor, parent, name).await?.row.ok_or_else(gone)?.node,
            };
        }
        match open {
            None => self.restore(actor, node, at, Place::At(parent, name)).await,
            Some(_) => self.bring_copy(actor, &was, at, parent, name).await,
        }
    }

    /// A copy of what lies in a removed folder.
    async fn bring_copy(
        &self,
        actor: &Actor,
        was: &Row,
        at: Option<Moment>,
        parent: NodeId,
        name: Name,
    ) -> Result<Outcome> {
        if self.0.shared.view.chain(was.node).await?.is_some() {
            return Err(StoreError::StillHere);
        }
        let at = match at {
            Some(at) => at,
            None => self.last_seen(was.node).await?,
        };
        let tree = self.0.files().tree(actor, &[was.node], at, 100_000).await?;
        let mut folders = std::collections::HashMap::new();
        let mut top = None;
        for item in tree.items {
            let path = item.path.to_string();
            let (above, own) = match path.rsplit_once('/') {
                Some((above, own)) => {
                    (folders.get(above).copied().ok_or(StoreError::PlaceGone)?, Name::new(own)?)
                }
                None => (parent, name.clone()),
            };
            let done = if item.folder {
                let done = self.0.files().make_folder(actor, above, own).await?;
                if let Some(row) = &done.row {
                    folders.insert(path, row.node);
                }
                done
            } else {
                let Some(state) = self.state_at(item.node, at).await? else { continue };
                if state.content.is_some_and(|c| c.life == ContentState::Gone) {
                    continue;
                }
                let staged = self.stage_copy(&state).await?;
                let free = Conditions::nothing_there();
                match self
                    .0
                    .files()
                    .put_as(
                        actor,
                        above,
                        own.clone(),
                        staged,
                        state.facts(),
                        free,
                        ChangeKind::Restored,
                        None,
                    )
                    .await
                {
                    Err(StoreError::ConditionFailed { .. }) => {
                        return Err(StoreError::NameTaken(own.to_string()));
                    }
                    other => other?,
                }
            };
            top.get_or_insert(done);
        }
        top.ok_or_else(|| StoreError::NotHeld(was.name().into()))
    }

    /// The last number at which something beneath a removed folder was there.
    pub(crate) async fn last_seen(&self, node: NodeId) -> Result<Moment> {
        let mut last = self.now_moment().await?;
        let mut next = Some(node);
        while let Some(id) = next {
            next = match self.0.shared.view.row(id).await? {
                Some(row) => row.parent,
                None => match self.last_past(id).await? {
                    Some(past) => {
                        last = last.min(Moment(past.until.0 - 1));
                        past.row.parent
                    }
                    None => None,
                },
            };
        }
        Ok(last)
    }
}

//! The feed: what changed on a shelf since a number, as somebody may see it.

use crate::catalogue::rows::{self, END_COLUMNS, ROW_COLUMNS, sql};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ChangeKind, PastRow, Row, Shelf};
use crate::rights::access::Viewer;
use crate::timeline::Files;
use crate::timeline::reading::MOST_ENTRIES;
use async_recursion::async_recursion as boxed;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use yellow_attic_core::{Moment, NodeId, ShelfId};

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
    /// What was seen is seen no more: as it was when it was seen last. What became of it is not told.
    OutOfSight(PastRow),
}

impl Change {
    /// The number at which it changed.
    pub fn moment(&self) -> Moment {
        match self {
            Change::Changed(row) | Change::Arrived(row) => row.since,
            Change::Removed(past) | Change::Left(past) | Change::OutOfSight(past) => past.until,
        }
    }

    /// The order in which to tell changes of several shelves: by number, and at one number what went before what came,
    /// so that something that went from one shelf to another ends as being there.
    pub fn order(&self) -> (Moment, bool) {
        (self.moment(), matches!(self, Change::Changed(_) | Change::Arrived(_)))
    }
}

/// What somebody may see: where something is given to them or kept from them, and which shelves are theirs.
pub struct Sight {
    viewer: Viewer,
    places: BTreeMap<NodeId, String>,
    shelves: BTreeSet<NodeId>,
}

impl Files {
    /// A short word for what somebody may see: another one after anything of that has changed.
    pub fn sight_of(&self, actor: &Actor) -> String {
        let viewer = self.0.grants().viewer(actor);
        let now = self.0.now_ms();
        let mut places: Vec<_> = viewer
            .access
            .places()
            .filter(|(_, here)| here.afresh || here.grants.iter().any(|g| viewer.takes(g)))
            .collect();
        places.sort_by_key(|(node, _)| *node);
        let mut hasher = blake3::Hasher::new();
        for (node, here) in places {
            let mut text = format!("{} {}", node.0, here.afresh);
            for grant in here.grants.iter().filter(|g| viewer.takes(g) && !g.ended(now)) {
                text.push_str(&format!(" {} {}", grant.id.0, grant.gives.word()));
            }
            hasher.update(text.as_bytes()).update(b"\n");
        }
        let owned = |shelf: &Shelf| actor.account.is_some_and(|a| viewer.access.owns(a, shelf.id));
        let mut shelves: Vec<i64> =
            self.0.shared.view.shelves().iter().filter(|s| owned(s)).map(|s| s.id.0).collect();
        shelves.sort_unstable();
        hasher.update(format!("{shelves:?}").as_bytes());
        hasher.finalize().to_hex()[..16].to_string()
    }

    /// What somebody may see, to be compared with later.
    pub fn sight(&self, actor: &Actor) -> Sight {
        let viewer = self.0.grants().viewer(actor);
        let now = self.0.now_ms();
        let mut places = BTreeMap::new();
        for (node, here) in viewer.access.places() {
            let mut text = if here.afresh { "afresh".to_string() } else { String::new() };
            for grant in here.grants.iter().filter(|g| viewer.takes(g) && !g.ended(now)) {
                text.push_str(&format!(" {} {}", grant.id.0, grant.gives.word()));
            }
            if !text.is_empty() {
                places.insert(node, text);
            }
        }
        let owned = |shelf: &&Arc<Shelf>| actor.account.is_some_and(|a| viewer.access.owns(a, shelf.id));
        let shelves = self.0.shared.view.shelves().iter().filter(owned).map(|s| s.root).collect();
        Sight { viewer, places, shelves }
    }

    /// Where somebody's sight is another than before, as far as they saw or see anything there.
    #[boxed]
    pub async fn sight_differs(&self, before: &Sight, now: &Sight) -> Result<Vec<NodeId>> {
        let all: BTreeSet<NodeId> = before.places.keys().chain(now.places.keys()).copied().collect();
        let mut differs: Vec<NodeId> = before.shelves.symmetric_difference(&now.shelves).copied().collect();
        for node in all.into_iter().filter(|n| before.places.get(n) != now.places.get(n)) {
            let Some(chain) = self.0.shared.view.chain(node).await? else { continue };
            let sees = |viewer: &Viewer| self.0.grants().level_along(viewer, &chain).is_some();
            if sees(&before.viewer) || sees(&now.viewer) {
                differs.push(node);
            }
        }
        differs.sort();
        differs.dedup();
        Ok(differs)
    }

    /// Refuses a number before which not all that went is known any more: whoever knows no more than it must list anew.
    #[boxed]
    pub async fn check_known_since(&self, since: Moment) -> Result<()> {
        match since.0 > 0 && since < self.forgotten_before().await? {
            true => Err(StoreError::Forgotten),
            false => Ok(()),
        }
    }

    /// The number before which not all that went is known any more: rows of the past were erased.
    #[boxed]
    pub async fn forgotten_before(&self) -> Result<Moment> {
        let n: i64 =
            sqlx::query_scalar("SELECT forgotten FROM heads").fetch_one(&self.0.shared.view.pool).await?;
        Ok(Moment(n))
    }

    /// The next nodes on a shelf, by number: those of others too, so the caller looks whether they may be told. While
    /// something that came from another shelf still has that one's stamp, those of all shelves.
    #[boxed]
    pub async fn nodes_on(&self, shelf: ShelfId, after: NodeId, limit: usize) -> Result<Vec<NodeId>> {
        let found: Vec<i64> = sqlx::query_scalar(
            "SELECT node FROM entries_now WHERE node > ? AND (shelf = ? OR EXISTS (SELECT 1 FROM jobs WHERE kind = 'restamp'))
             ORDER BY node LIMIT ?",
        )
        .bind(after.0)
        .bind(shelf.0)
        .bind(limit as i64)
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        Ok(found.into_iter().map(NodeId).collect())
    }

    /// What changed on a shelf after a number, oldest first, and the number to ask from next.
    #[boxed]
    pub async fn changes(
        &self,
        actor: &Actor,
        shelf: &Shelf,
        since: Moment,
        limit: usize,
    ) -> Result<(Vec<Change>, Moment, bool)> {
        let head = self.0.history().now_moment().await?;
        self.changes_until(actor, shelf, since, head, limit).await
    }

    /// The same, with nothing later than `head`: for whoever reads several shelves up to one number.
    #[boxed]
    pub async fn changes_until(
        &self,
        actor: &Actor,
        shelf: &Shelf,
        since: Moment,
        head: Moment,
        limit: usize,
    ) -> Result<(Vec<Change>, Moment, bool)> {
        let viewer = self.0.grants().viewer(actor);
        if since > head {
            return Err(StoreError::NoSuchMoment);
        }
        let limit = limit.clamp(1, MOST_ENTRIES);
        let now: String = sqlx::query_scalar(sql(format!(
            "SELECT json_group_array(json_array({ROW_COLUMNS})) FROM
               (SELECT * FROM entries_now WHERE shelf = ? AND since > ? AND since <= ? ORDER BY since LIMIT ?) e
             LEFT JOIN contents c ON c.id = e.content"
        )))
        .bind(shelf.id.0)
        .bind(since.0)
        .bind(head.0)
        .bind(limit as i64 + 1)
        .fetch_one(&self.0.shared.view.pool)
        .await?;
        let past: String = sqlx::query_scalar(sql(format!(
            "SELECT json_group_array(json_array(json_array({ROW_COLUMNS}), json_array({END_COLUMNS}))) FROM
               (SELECT * FROM entries_past WHERE shelf = ? AND until > ? AND until <= ? AND ended_how IN (?, ?, ?) ORDER BY until LIMIT ?) e
             LEFT JOIN contents c ON c.id = e.content"
        )))
        .bind(shelf.id.0)
        .bind(since.0)
        .bind(head.0)
        .bind(ChangeKind::Removed as i64)
        .bind(ChangeKind::Merged as i64)
        .bind(ChangeKind::Left as i64)
        .bind(limit as i64 + 1)
        .fetch_one(&self.0.shared.view.pool)
        .await?;
        let mut all = read(&now, &past)?;
        all.sort_by_key(Change::order);
        // A page ends between two numbers, never within one.
        let more = all.len() > limit;
        if more {
            let cut = all[limit].moment();
            let whole = all.iter().take_while(|c| c.moment() < cut).count();
            if whole > 0 {
                all.truncate(whole);
            } else {
                // More happened at one number than fits a page: all of it is one.
                all = self.changed_at(shelf, cut).await?;
            }
        }
        let upto = if more { all.last().map_or(head, Change::moment) } else { head };
        let mut shown = Vec::with_capacity(all.len());
        for change in all {
            let told = match &change {
                // An open row beneath something removed is not alive; its folder's own change tells it.
                // But whoever knew it elsewhere must hear that it is gone from there.
                Change::Changed(row) | Change::Arrived(row) => {
                    let chain = self.0.shared.view.chain(row.node).await?;
                    let alive =
                        chain.is_some_and(|chain| self.0.grants().level_along(&viewer, &chain).is_some());
                    if !alive {
                        shown.extend(self.gone_from_sight(&viewer, row.node, since, upto).await?);
                    }
                    alive
                }
                // Here again by now: its open row tells it.
                Change::Removed(past) | Change::Left(past) | Change::OutOfSight(past) => {
                    let here = self.0.shared.view.row(past.row.node).await?;
                    let row = &past.row;
                    let gone = here.is_none_or(|here| here.shelf != shelf.id);
                    let saw = gone
                        && self
                            .0
                            .history()
                            .saw(&viewer, row.node, row.parent, row.shelf, Moment(past.until.0 - 1))
                            .await?;
                    if gone && !saw {
                        shown.extend(self.gone_from_sight(&viewer, row.node, since, upto).await?);
                    }
                    saw
                }
            };
            if told {
                shown.push(change);
            }
        }
        Ok((shown, upto, more))
    }

    /// Something that can be seen no more, for whoever saw it at `since`: as it was then, by nobody, some time up to
    /// `upto`. Where it is now, and what became of it there, is not theirs to know.
    async fn gone_from_sight(
        &self,
        viewer: &Viewer,
        node: NodeId,
        since: Moment,
        upto: Moment,
    ) -> Result<Option<Change>> {
        let Some(row) = self.0.history().state_at(node, since).await? else { return Ok(None) };
        if !self.0.history().saw(viewer, node, row.parent, row.shelf, since).await? {
            return Ok(None);
        }
        let past = PastRow {
            until: upto,
            ended_at: row.at,
            ended_how: ChangeKind::Removed,
            ended_account: None,
            ended_device: None,
            held: true,
            row,
        };
        // Gone for good from where it could be seen, with a folder perhaps: then it is removed. Else nothing is told of it.
        let removed = self.0.shared.view.chain(node).await?.is_none()
            && match self.0.history().last_way(node).await? {
                Some((way, shelf)) => self.0.history().sees(viewer, &way, shelf),
                None => false,
            };
        Ok(Some(if removed { Change::Removed(past) } else { Change::OutOfSight(past) }))
    }

    /// All that changed on a shelf at one number.
    async fn changed_at(&self, shelf: &Shelf, at: Moment) -> Result<Vec<Change>> {
        let now: String = sqlx::query_scalar(sql(format!(
            "SELECT json_group_array(json_array({ROW_COLUMNS})) FROM entries_now e LEFT JOIN contents c ON c.id = e.content
             WHERE e.shelf = ? AND e.since = ?"
        )))
        .bind(shelf.id.0)
        .bind(at.0)
        .fetch_one(&self.0.shared.view.pool)
        .await?;
        let past: String = sqlx::query_scalar(sql(format!(
            "SELECT json_group_array(json_array(json_array({ROW_COLUMNS}), json_array({END_COLUMNS})))
             FROM entries_past e LEFT JOIN contents c ON c.id = e.content
             WHERE e.shelf = ? AND e.until = ? AND e.ended_how IN (?, ?, ?)"
        )))
        .bind(shelf.id.0)
        .bind(at.0)
        .bind(ChangeKind::Removed as i64)
        .bind(ChangeKind::Merged as i64)
        .bind(ChangeKind::Left as i64)
        .fetch_one(&self.0.shared.view.pool)
        .await?;
        read(&now, &past)
    }
}

fn read(now: &str, past: &str) -> Result<Vec<Change>> {
    let open = rows::parse_rows(now)?.into_iter().map(|row| match row.how {
        ChangeKind::Arrived | ChangeKind::Restored | ChangeKind::Copied if row.is_folder() => {
            Change::Arrived(row)
        }
        _ => Change::Changed(row),
    });
    let ended = rows::parse_past(past)?.into_iter().map(|p| match p.ended_how {
        ChangeKind::Left => Change::Left(p),
        _ => Change::Removed(p),
    });
    Ok(open.chain(ended).collect())
}

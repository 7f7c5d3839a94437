//! Giving and taking rights, and saying who has which and why.

use crate::catalogue::rows::sql;
use crate::fs::error::Result;
use crate::fs::model::{Actor, Row, Shelf};
use crate::ops::grants::{ChangeGrant, Granting, NewGrant};
use crate::people::Grants;
use crate::rights::access::{Access, Viewer, need};
use async_recursion::async_recursion as boxed;
use std::collections::BTreeSet;
use std::sync::Arc;
use yellow_attic_core::rights::{Explained, Gives, Level, Subject};
use yellow_attic_core::{AccountId, GrantId, GroupId, NodeId};

/// A grant as it is shown.
#[derive(Clone, Debug)]
pub struct Given {
    /// Its id.
    pub id: GrantId,
    /// Where it is given.
    pub node: NodeId,
    /// To whom.
    pub subject: Subject,
    /// What.
    pub gives: Gives,
    /// Until when, in milliseconds.
    pub until: Option<i64>,
    /// The word that goes with it.
    pub message: String,
    /// Who gave it.
    pub made_by: Option<AccountId>,
    /// When, in milliseconds.
    pub made_at: i64,
}

/// Who may do what at a node.
#[derive(Clone, Debug)]
pub struct Reach {
    /// The way up, the node first: what is set on each of these counts here.
    pub chain: Vec<Arc<Row>>,
    /// The shelf's owners.
    pub owners: Vec<AccountId>,
    /// Nodes of the chain that start afresh.
    pub afresh: Vec<NodeId>,
    /// The grants on all of the chain.
    pub grants: Vec<Given>,
}

impl Grants {
    /// Gives a right, or takes one's place.
    #[boxed]
    pub async fn give(&self, actor: &Actor, new: NewGrant) -> Result<GrantId> {
        let actor = actor.clone();
        self.0.ask(ChangeGrant { actor, change: Granting::Give(new) }).await
    }

    /// Ends a grant.
    #[boxed]
    pub async fn end_grant(&self, actor: &Actor, grant: GrantId) -> Result<()> {
        let actor = actor.clone();
        self.0.ask(ChangeGrant { actor, change: Granting::End(grant) }).await.map(drop)
    }

    /// Lets a folder start afresh, or inherit again.
    #[boxed]
    pub async fn set_afresh(&self, actor: &Actor, node: NodeId, afresh: bool) -> Result<()> {
        let actor = actor.clone();
        let change = Granting::Afresh(node, afresh);
        self.0.ask(ChangeGrant { actor, change }).await.map(drop)
    }

    /// The right of whoever asks.
    pub(crate) fn viewer(&self, actor: &Actor) -> Viewer {
        Viewer::of(self.0.shared.view.access(), actor, self.0.now_ms())
    }

    /// The level at the end of a way, the node first.
    pub(crate) fn level_along(&self, viewer: &Viewer, chain: &[Arc<Row>]) -> Option<Level> {
        let shelf = chain.last().map_or_else(Default::default, |top| top.shelf);
        viewer.standing(shelf, chain.iter().map(|r| r.node)).level()
    }

    /// What the actor may do at the end of a way.
    pub fn level(&self, actor: &Actor, chain: &[Arc<Row>]) -> Option<Level> {
        self.level_along(&self.viewer(actor), chain)
    }

    /// What the actor may do in a folder, and where beneath it that is otherwise than just above: the way to each such place,
    /// from it upwards and without the folder. What cannot be seen, or only from elsewhere, is not among them.
    #[boxed]
    pub async fn levels_beneath(
        &self,
        actor: &Actor,
        folder: NodeId,
    ) -> Result<(Level, Vec<(Vec<Arc<Row>>, Level)>)> {
        let own = self.0.files().chain(actor, folder, Level::View).await?;
        let viewer = self.viewer(actor);
        let level = self.level_along(&viewer, &own).unwrap_or(Level::View);
        let mut found = Vec::new();
        for (node, _) in viewer.access.places() {
            let Some(chain) = self.0.shared.view.chain(node).await? else { continue };
            let Some(depth) = chain.iter().position(|row| row.node == folder).filter(|depth| *depth > 0)
            else {
                continue;
            };
            let Some(here) = self.level_along(&viewer, &chain) else { continue };
            let levels: Option<Vec<Level>> =
                (1..=depth).map(|i| self.level_along(&viewer, &chain[i..])).collect();
            if levels.is_some_and(|above| above[0] != here) {
                found.push((chain[..depth].to_vec(), here));
            }
        }
        Ok((level, found))
    }

    /// Whether a level is given on this very node: to others, and to the actor.
    pub fn given_here(&self, actor: &Actor, node: NodeId) -> (bool, bool) {
        let viewer = self.viewer(actor);
        let now = self.0.now_ms();
        let Some(here) = viewer.access.here(node) else { return (false, false) };
        let counts = here.grants.iter().filter(|g| !g.ended(now) && g.gives != Gives::Deny);
        let mine = counts.clone().any(|g| viewer.takes(g));
        let own = |subject| matches!((subject, actor.account), (Subject::Account(a), Some(b)) if a == b);
        let others = counts.clone().any(|g| !own(g.subject));
        (others, mine)
    }

    /// Who else is let in at the top of a shelf.
    pub fn let_in(&self, shelf: &Shelf) -> Vec<Subject> {
        let (access, now) = (self.0.shared.view.access(), self.0.now_ms());
        let Some(here) = access.here(shelf.root) else { return Vec::new() };
        let counts = here.grants.iter().filter(|g| !g.ended(now) && g.gives != Gives::Deny);
        counts.map(|g| g.subject).collect()
    }

    /// Everything set on the way to a node. Only for who manages it.
    #[boxed]
    pub async fn reach(&self, actor: &Actor, node: NodeId) -> Result<Reach> {
        let chain = self.0.files().chain(actor, node, Level::Manage).await?;
        let access = self.0.shared.view.access();
        let afresh = chain.iter().map(|r| r.node).filter(|n| access.here(*n).is_some_and(|h| h.afresh));
        let afresh: Vec<NodeId> = afresh.collect();
        let nodes: Vec<i64> = chain.iter().map(|r| r.node.0).collect();
        let grants =
            self.grants_where(&format!("node IN (SELECT value FROM json_each('{nodes:?}'))")).await?;
        let shelf = chain.last().map_or_else(Default::default, |top| top.shelf);
        let owners = self.0.shared.view.access().owners(shelf).to_vec();
        Ok(Reach { chain, owners, afresh, grants })
    }

    /// The grants that an explanation speaks of.
    #[boxed]
    pub async fn grants_of(&self, told: &Explained) -> Result<Vec<Given>> {
        let ids: Vec<i64> = told.reasons.iter().map(|r| r.grant.id.0).collect();
        self.grants_where(&format!("id IN (SELECT value FROM json_each('{ids:?}'))")).await
    }

    /// What somebody gave to others, or all that anybody gave.
    #[boxed]
    pub async fn grants_made(&self, by: Option<AccountId>) -> Result<Vec<Given>> {
        match by {
            Some(by) => self.grants_where(&format!("made_by = {by} AND level <> 'deny'")).await,
            None => self.grants_where("level <> 'deny'").await,
        }
    }

    async fn grants_where(&self, which: &str) -> Result<Vec<Given>> {
        type Raw = (i64, i64, Option<i64>, Option<i64>, String, Option<i64>, String, Option<i64>, i64);
        let rows: Vec<Raw> = sqlx::query_as(sql(format!(
            "SELECT id, node, account, grp, level, until, message, made_by, made_at FROM grants WHERE {which} ORDER BY id"
        )))
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        Ok(rows
            .into_iter()
            .filter_map(|(id, node, account, group, level, until, message, made_by, made_at)| {
                Some(Given {
                    id: GrantId(id),
                    node: NodeId(node),
                    subject: match (account, group) {
                        (Some(account), _) => Subject::Account(AccountId(account)),
                        (None, Some(group)) => Subject::Group(GroupId(group)),
                        (None, None) => Subject::Everyone,
                    },
                    gives: Gives::from_word(&level)?,
                    until,
                    message,
                    made_by: made_by.map(AccountId),
                    made_at,
                })
            })
            .collect())
    }

    /// What an account may do at a node, and why. Of others only for who manages it.
    #[boxed]
    pub async fn why(&self, actor: &Actor, account: AccountId, node: NodeId) -> Result<Explained> {
        let needed = if actor.account == Some(account) { Level::View } else { Level::Manage };
        let chain = self.0.files().chain(actor, node, needed).await?;
        let viewer = Viewer::of_account(self.0.shared.view.access(), Some(account), self.0.now_ms());
        let shelf = chain.last().map_or_else(Default::default, |top| top.shelf);
        Ok(viewer.explain(shelf, chain.iter().map(|r| r.node)))
    }

    /// Everybody who may do something at a node, with why. Only for who manages it.
    #[boxed]
    pub async fn who(&self, actor: &Actor, node: NodeId) -> Result<Vec<(AccountId, Explained)>> {
        let chain = self.0.files().chain(actor, node, Level::Manage).await?;
        let shelf = chain.last().map_or_else(Default::default, |top| top.shelf);
        let (access, now) = (self.0.shared.view.access(), self.0.now_ms());
        let mut found = Vec::new();
        for account in self.0.people().accounts().await?.into_iter().filter(|a| a.disabled_at.is_none()) {
            let viewer = Viewer::of_account(access.clone(), Some(account.id), now);
            let told = viewer.explain(shelf, chain.iter().map(|r| r.node));
            if told.level.is_some() {
                found.push((account.id, told));
            }
        }
        Ok(found)
    }

    /// What was given to the actor below the top of a shelf, and is not reached from above: each
    /// with its level and the grants that give it. By name.
    #[boxed]
    pub async fn given(&self, actor: &Actor) -> Result<Vec<(Vec<Arc<Row>>, Level, Vec<Given>)>> {
        let viewer = self.viewer(actor);
        let mut found = Vec::new();
        for node in self.given_nodes(&viewer).await? {
            let (chain, level) = node;
            let mine: Vec<i64> = viewer
                .access
                .here(chain[0].node)
                .map(|h| h.grants.iter().filter(|g| viewer.has(g)).map(|g| g.id.0).collect())
                .unwrap_or_default();
            let grants =
                self.grants_where(&format!("id IN (SELECT value FROM json_each('{mine:?}'))")).await?;
            found.push((chain, level, grants));
        }
        Ok(found)
    }

    pub(crate) async fn given_nodes(&self, viewer: &Viewer) -> Result<Vec<(Vec<Arc<Row>>, Level)>> {
        let access: &Access = &viewer.access;
        let mut found = Vec::new();
        let given =
            access.places().filter(|(_, h)| h.grants.iter().any(|g| viewer.has(g))).map(|(node, _)| node);
        // What a token is bound to is reached from nowhere else, either.
        let all: BTreeSet<NodeId> = given.chain(viewer.scoped_to().iter().copied()).collect();
        for node in all {
            let Some(chain) = self.0.shared.view.chain(node).await? else { continue };
            let Some(level) = self.level_along(viewer, &chain) else { continue };
            let Some(shelf) = chain.last().and_then(|top| self.0.shared.view.shelf(top.shelf)) else {
                continue;
            };
            if self.stands_alone(viewer, &shelf, &chain) {
                found.push((chain, level));
            }
        }
        found.sort_by(|a, b| (&a.0[0].key, a.0[0].node).cmp(&(&b.0[0].key, b.0[0].node)));
        Ok(found)
    }

    /// Whether something that can be seen is not reached from what is above it.
    fn stands_alone(&self, viewer: &Viewer, shelf: &Shelf, chain: &[Arc<Row>]) -> bool {
        if chain.len() == 1 {
            // The tops of shared shelves are shelves, and so is one's own home; another's is something given.
            return shelf.kind == crate::fs::model::ShelfKind::Home && !viewer.is(shelf.owner);
        }
        self.level_along(viewer, &chain[1..]).is_none()
    }

    /// The part of a way that the actor can see, from the node upwards, without a gap.
    pub fn seen_of<'c>(&self, actor: &Actor, chain: &'c [Arc<Row>]) -> &'c [Arc<Row>] {
        let viewer = self.viewer(actor);
        let hidden = (1..chain.len()).find(|i| self.level_along(&viewer, &chain[*i..]).is_none());
        &chain[..hidden.unwrap_or(chain.len())]
    }

    /// Folders, of those on the ways to what is hidden from the actor, there or removed, whose sums would tell of it.
    pub(crate) async fn hiding(&self, viewer: &Viewer) -> Result<std::collections::HashSet<NodeId>> {
        let mut found = std::collections::HashSet::new();
        for bar in viewer.access.bars() {
            if let Some(chain) = self.0.shared.view.chain(*bar).await? {
                if self.level_along(viewer, &chain).is_none() {
                    found.extend(chain[1..].iter().map(|r| r.node));
                }
            } else if let Some((way, shelf)) = self.0.history().last_way(*bar).await?
                && viewer.standing(shelf, way.iter().copied()).level().is_none()
            {
                // Removed, and still in the sums of what is kept.
                found.extend(&way[1..]);
            }
        }
        Ok(found)
    }

    /// Refuses a level that is not there.
    pub(crate) fn check(&self, viewer: &Viewer, chain: &[Arc<Row>], level: Level) -> Result<()> {
        need(self.level_along(viewer, chain), level)
    }
}

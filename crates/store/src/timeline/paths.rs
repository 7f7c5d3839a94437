//! Places: which shelves somebody may enter, what stands at a path, and where something is found.

use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, Row, Shelf, ShelfKind};
use crate::rights::access::{Viewer, may_put};
use crate::timeline::Files;
use async_recursion::async_recursion as boxed;
use std::sync::Arc;
use yellow_attic_core::collate::sort_key;
use yellow_attic_core::rights::Level;
use yellow_attic_core::{Moment, Name, NodeId, ShelfPath};

/// The word before the colon for what one was given below the top of a shelf.
pub const GIVEN: &str = "given";

/// The name of something given among all that is: with its number if another has the same.
pub fn given_name(all: &[&Row], row: &Row) -> String {
    match all.iter().filter(|r| r.name() == row.name()).count() {
        0 | 1 => row.name().to_string(),
        _ => format!("{} #{}", row.name(), row.node),
    }
}

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

impl Files {
    /// The shelves that an account may enter, with its level; its own first. Another's home is no
    /// shelf of one's own, but something given.
    pub fn shelves_for(&self, actor: &Actor) -> Vec<(Arc<Shelf>, Level)> {
        let Some(account) = actor.account else { return Vec::new() };
        let viewer = self.0.grants().viewer(actor);
        let mut found: Vec<_> = self
            .0
            .shared
            .view
            .shared_shelves()
            .into_iter()
            .chain(self.0.shared.view.home_of(account))
            .filter_map(|s| {
                let level = viewer.standing(s.id, std::iter::once(s.root)).level()?;
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
        viewer: &Viewer,
        actor: &Actor,
        shelf: &str,
        names: &'n [Name],
    ) -> Result<(NodeId, &'n [Name])> {
        let account = actor.account;
        if shelf == GIVEN {
            let gone = || StoreError::NotFound(format!("\"{}\"", names.first().map_or("", Name::as_str)));
            let (first, rest) = names.split_first().ok_or_else(gone)?;
            let given = self.0.grants().given_nodes(viewer).await?;
            let all: Vec<&Row> = given.iter().map(|(chain, _)| &*chain[0]).collect();
            let node = all.iter().find(|row| given_name(&all, row) == first.as_str()).ok_or_else(gone)?.node;
            return Ok((node, rest));
        }
        let found = match (shelf, account) {
            ("home", Some(account)) => self.0.shared.view.home_of(account),
            _ => self
                .0
                .shared
                .view
                .shared_shelf(shelf)
                .filter(|s| viewer.standing(s.id, std::iter::once(s.root)).level().is_some()),
        };
        let found = found.ok_or_else(|| StoreError::NotFound(format!("The shelf \"{shelf}\"")))?;
        Ok((found.root, names))
    }

    /// The way to a node, the node first, if the actor may do this much there.
    #[boxed]
    pub async fn chain(&self, actor: &Actor, node: NodeId, need: Level) -> Result<Vec<Arc<Row>>> {
        let gone = || StoreError::NotFound("The file or folder".into());
        let chain = self.0.shared.view.chain(node).await?.ok_or_else(gone)?;
        self.0.grants().check(&self.0.grants().viewer(actor), &chain, need)?;
        Ok(chain)
    }

    /// What stands at a path now.
    #[boxed]
    pub async fn resolve(&self, actor: &Actor, shelf: &str, names: &[Name]) -> Result<Arc<Row>> {
        let viewer = self.0.grants().viewer(actor);
        let gone = || StoreError::NotFound(format!("\"{}\"", names.last().map_or("", Name::as_str)));
        let (top, names) = self.begin_of(&viewer, actor, shelf, names).await?;
        let mut row = self.0.shared.view.row(top).await?.ok_or_else(gone)?;
        for name in names {
            let key: Arc<str> = sort_key(name).into();
            row = self.0.shared.view.child(row.node, &key).await?.ok_or_else(gone)?;
        }
        let chain = self.0.shared.view.chain(row.node).await?.ok_or_else(gone)?;
        match self.0.grants().level_along(&viewer, &chain) {
            Some(_) => Ok(row),
            None => Err(gone()),
        }
    }

    /// The folder and name at which bytes for a path are put.
    #[boxed]
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

    /// Whether the look at what stands at a name in a folder can wait for the commit, which looks again in any case:
    /// the actor may change whatever it is, no lock is anywhere, and no line counts what it replaces. For bytes that
    /// are few: taken in vain, they cost nothing. One look-up less for each small file.
    #[boxed]
    pub async fn look_can_wait(&self, actor: &Actor, folder: NodeId) -> Result<bool> {
        if self.0.shared.view.access().has_lines() || !self.0.shared.view.locks().is_empty() {
            return Ok(false);
        }
        let Some(chain) = self.0.shared.view.chain(folder).await? else { return Ok(false) };
        Ok(chain[0].is_folder()
            && self.0.grants().level_along(&self.0.grants().viewer(actor), &chain) >= Some(Level::Edit))
    }

    /// Refuses bytes for a name before any are sent.
    #[boxed]
    pub async fn check_put(&self, actor: &Actor, parent: NodeId, name: &Name) -> Result<Option<Arc<Row>>> {
        let gone = || StoreError::NotFound("The file or folder".into());
        let viewer = self.0.grants().viewer(actor);
        let chain = self.0.shared.view.chain(parent).await?.ok_or_else(gone)?;
        let there = self.0.shared.view.child(parent, &sort_key(name).into()).await?;
        let here = there.as_ref().map(|row| {
            let way: Vec<Arc<Row>> = std::iter::once(row).chain(&chain).cloned().collect();
            self.0.grants().level_along(&viewer, &way)
        });
        may_put(self.0.grants().level_along(&viewer, &chain), here, name.as_str())?;
        if !chain[0].is_folder() {
            return Err(StoreError::NotAFolder(chain[0].name().into()));
        }
        let way: Vec<Arc<Row>> = there.iter().chain(&chain).cloned().collect();
        self.check_lock(actor, &way)?;
        Ok(there)
    }

    /// Whether the folder that a row names as its own may be known: of something that was given alone, what is above it
    /// may not. Costs a look-up only for what was given itself.
    #[boxed]
    pub async fn shows_parent(&self, actor: &Actor, row: &Row) -> Result<bool> {
        let Some(parent) = row.parent else { return Ok(true) };
        let viewer = self.0.grants().viewer(actor);
        if !viewer.begins_at(row.node) {
            return Ok(true);
        }
        match self.0.history().last_way(parent).await? {
            Some((way, shelf)) => Ok(viewer.standing(shelf, way.into_iter()).level().is_some()),
            None => Ok(false),
        }
    }

    /// What stands at a name in a folder now.
    #[boxed]
    pub async fn child(&self, actor: &Actor, parent: NodeId, name: &Name) -> Result<Option<Arc<Row>>> {
        let viewer = self.0.grants().viewer(actor);
        let chain = self.chain(actor, parent, Level::View).await?;
        let found = self.0.shared.view.child(parent, &sort_key(name).into()).await?;
        Ok(found.filter(|row| {
            let way: Vec<Arc<Row>> = std::iter::once(row).chain(&chain).cloned().collect();
            self.0.grants().level_along(&viewer, &way).is_some()
        }))
    }

    /// Where somebody finds a node, as far as they can see upwards. `chain`: the node first, as it is
    /// or was.
    #[boxed]
    pub async fn way_of(&self, actor: &Actor, chain: &[&Row]) -> Result<Way> {
        let gone = || StoreError::NotFound("The file or folder".into());
        let viewer = self.0.grants().viewer(actor);
        let shelf = chain.last().and_then(|r| self.0.shared.view.shelf(r.shelf)).ok_or_else(gone)?;
        let nodes: Vec<NodeId> = chain.iter().map(|r| r.node).collect();
        let hidden = (1..nodes.len())
            .find(|i| viewer.standing(shelf.id, nodes[*i..].iter().copied()).level().is_none());
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
            let given = self.0.grants().given_nodes(&viewer).await?;
            let all: Vec<&Row> = given.iter().map(|(chain, _)| &*chain[0]).collect();
            first.1 = given_name(&all, top);
        }
        let path = steps.iter().map(|s| s.1.as_str()).collect::<Vec<_>>().join("/");
        Ok(Way { path: format!("{GIVEN}:/{path}"), shelf: GIVEN.into(), steps })
    }

    /// What stood at a path at a number.
    #[boxed]
    pub async fn resolve_at(&self, actor: &Actor, shelf: &str, names: &[Name], at: Moment) -> Result<Row> {
        let viewer = self.0.grants().viewer(actor);
        let gone =
            || StoreError::NotFound(format!("\"{}\" at that moment", names.last().map_or("", Name::as_str)));
        let (top, rest) = self.begin_of(&viewer, actor, shelf, names).await?;
        let mut row = self.0.history().state_at(top, at).await?.ok_or_else(gone)?;
        for name in rest {
            let key = sort_key(name);
            let below = self.0.history().children_at(row.node, at).await?;
            row = below.into_iter().find(|r| *r.key == *key).ok_or_else(gone)?;
        }
        self.0.history().check_past(actor, row.node, at).await.map_err(|e| match e {
            StoreError::NotFound(_) => gone(),
            other => other,
        })?;
        Ok(row)
    }
}

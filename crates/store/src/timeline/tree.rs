//! All that is, or was, beneath some nodes, in a fixed order: for archives.

use crate::engine::Engine;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ContentState, Row};
use crate::rights::access::Viewer;
use crate::timeline::Files;
use crate::timeline::history::Visibility;
use async_recursion::async_recursion as boxed;
use std::collections::HashSet;
use yellow_attic_core::{Moment, NodeId};

/// One file or folder of a tree: as little as is needed to fetch it later.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TreeItem {
    /// The way to it from the top of the tree, with slashes.
    pub path: Box<str>,
    /// The node; its state is the one at the tree's moment.
    pub node: NodeId,
    /// Whether it is a folder.
    pub folder: bool,
    /// In bytes.
    pub size: u64,
    /// In milliseconds.
    pub mtime: i64,
    /// Whether it is a program.
    pub executable: bool,
}

/// A tree at a moment.
#[derive(Clone, Debug, Default)]
pub struct Tree {
    /// Each folder before what is in it; folders first, then by name.
    pub items: Vec<TreeItem>,
    /// Files whose bytes are not held: another program overwrote them, or a rule let them go.
    pub lost: Vec<String>,
}

impl Files {
    /// The trees at some nodes at a moment. Names that come twice at the top are numbered.
    /// More than `most` items are refused.
    #[boxed]
    pub async fn tree(&self, actor: &Actor, nodes: &[NodeId], at: Moment, most: usize) -> Result<Tree> {
        let mut tree = Tree::default();
        let mut tops = HashSet::new();
        for node in nodes {
            let chain = self.0.history().check_past(actor, *node, at).await?;
            let Some(row) = chain.into_iter().next() else { continue };
            let name = unlike(&tops, row.name());
            tops.insert(name.clone());
            self.grow(actor, &mut tree, row, name, at, most).await?;
        }
        Ok(tree)
    }

    async fn grow(
        &self,
        actor: &Actor,
        tree: &mut Tree,
        top: Row,
        name: String,
        at: Moment,
        most: usize,
    ) -> Result<()> {
        let viewer = self.0.grants().viewer(actor);
        let Some((_, sight)) = self.0.history().sight(&viewer, top.node, at).await? else { return Ok(()) };
        let mut waiting = vec![(top, name, sight)];
        while let Some((row, path, sight)) = waiting.pop() {
            if row.content.is_some_and(|c| matches!(c.life, ContentState::Lost | ContentState::Gone)) {
                tree.lost.push(path);
                continue;
            }
            if tree.items.len() >= most {
                return Err(StoreError::TooMany(most));
            }
            tree.items.push(TreeItem {
                path: path.as_str().into(),
                node: row.node,
                folder: row.is_folder(),
                size: row.size().max(0) as u64,
                mtime: if row.is_folder() { row.at } else { row.mtime },
                executable: row.executable,
            });
            if row.is_folder() {
                let mut children = self.0.history().children_at(row.node, at).await?;
                // The last pushed is looked at first.
                children.sort_by(|a, b| (b.kind, &b.key).cmp(&(a.kind, &a.key)));
                for child in children {
                    let sight = self.0.history().sight_in(&viewer, &sight, &child).await?;
                    if sight.sees() {
                        let path = format!("{path}/{}", child.name());
                        waiting.push((child, path, sight));
                    }
                }
            }
        }
        Ok(())
    }
}

/// A tree at a moment, folder after folder: each before what is in it.
pub struct Growing {
    engine: Engine,
    viewer: Viewer,
    at: Moment,
    /// What is left of the folder that is being told.
    open: std::vec::IntoIter<(Row, Visibility)>,
    beneath: Vec<(NodeId, Visibility)>,
    waiting: Vec<(NodeId, Visibility)>,
}

impl Growing {
    /// The next of what was beneath, by folder and name, at most so many; none after the last.
    pub async fn next(&mut self, most: usize) -> Result<Option<Vec<Row>>> {
        loop {
            let mut rows = Vec::new();
            for (row, sight) in self.open.by_ref().take(most) {
                if row.is_folder() {
                    self.beneath.push((row.node, sight));
                }
                rows.push(row);
            }
            if !rows.is_empty() {
                return Ok(Some(rows));
            }
            self.waiting.extend(self.beneath.drain(..).rev());
            let Some((folder, sight)) = self.waiting.pop() else { return Ok(None) };
            self.open = self.seen_in(folder, &sight).await?.into_iter();
        }
    }

    async fn seen_in(&self, folder: NodeId, sight: &Visibility) -> Result<Vec<(Row, Visibility)>> {
        let history = self.engine.history();
        let mut children = history.children_at(folder, self.at).await?;
        children.sort_by(|a, b| (a.kind, &a.key).cmp(&(b.kind, &b.key)));
        let mut seen = Vec::with_capacity(children.len());
        for child in children {
            let sight = history.sight_in(&self.viewer, sight, &child).await?;
            if sight.sees() {
                seen.push((child, sight));
            }
        }
        Ok(seen)
    }
}

impl Files {
    /// All that was beneath a folder at a moment, as far as the actor may see it: the folder, and what follows.
    #[boxed]
    pub async fn grow_at(&self, actor: &Actor, node: NodeId, at: Moment) -> Result<(Row, Growing)> {
        let gone = || StoreError::NotFound("The file or folder".into());
        let viewer = self.0.grants().viewer(actor);
        self.0.history().check_past(actor, node, at).await?;
        let (chain, sight) = self.0.history().sight(&viewer, node, at).await?.ok_or_else(gone)?;
        let top = chain.into_iter().next().ok_or_else(gone)?;
        if !top.is_folder() {
            return Err(StoreError::NotAFolder(top.name().into()));
        }
        let waiting = vec![(node, sight)];
        let (open, beneath) = (Vec::new().into_iter(), Vec::new());
        Ok((top, Growing { engine: self.0.clone(), viewer, at, open, beneath, waiting }))
    }
}

/// A name that is not among the others: numbered before its ending.
fn unlike(others: &HashSet<String>, name: &str) -> String {
    if !others.contains(name) {
        return name.to_string();
    }
    let (stem, ending) = match name.rfind('.').filter(|i| *i > 0) {
        Some(i) => name.split_at(i),
        None => (name, ""),
    };
    (2..).map(|n| format!("{stem} ({n}){ending}")).find(|n| !others.contains(n)).unwrap_or_default()
}

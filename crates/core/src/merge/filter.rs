//! What a pair leaves out: by place, by name, by size. Leaving it is never a removal on either side.

use super::{Facets, Held, Item, Pair, TOP};
use crate::ids::NodeId;
use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use serde::{Deserialize, Serialize};
use std::sync::OnceLock;

/// A folder that was chosen, or not.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Chosen {
    /// Its node: it stays the same, wherever the folder goes.
    pub node: NodeId,
    /// The way to it below the pair when it was chosen.
    pub way: Vec<String>,
}

/// What is left out.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Filter {
    /// Nothing but what is in these folders, if there are any.
    pub only: Vec<Chosen>,
    /// These folders, with all in them.
    pub without: Vec<Chosen>,
    /// Patterns for names, or for ways below the pair where they hold a slash.
    pub patterns: Vec<String>,
    /// Files of more bytes than this.
    pub larger: Option<u64>,
    #[serde(skip)]
    set: OnceLock<GlobSet>,
}

impl PartialEq for Filter {
    fn eq(&self, other: &Filter) -> bool {
        (&self.only, &self.without, &self.patterns, self.larger)
            == (&other.only, &other.without, &other.patterns, other.larger)
    }
}

/// Why something is left out.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Why {
    /// Its folder was not chosen.
    NotChosen,
    /// Its name, or that of a folder above it, is like this pattern.
    Named(String),
    /// It has more bytes than this.
    Larger(u64),
    /// Something that is left out has its name.
    InTheWay,
}

/// A pattern that cannot be read.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("\"{pattern}\" is no pattern: {why}")]
pub struct NoPattern {
    /// The pattern.
    pub pattern: String,
    /// What is wrong with it.
    pub why: String,
}

/// One step of a way: what it is there, and what it is called.
struct Step<'p> {
    node: Option<NodeId>,
    name: &'p str,
}

fn glob(pattern: &str) -> Result<globset::Glob, NoPattern> {
    // A slash at the end says that a folder is meant.
    let text = pattern.trim_end_matches('/');
    let made = GlobBuilder::new(text).literal_separator(true).case_insensitive(true).build();
    made.map_err(|e| NoPattern { pattern: pattern.into(), why: e.kind().to_string() })
}

impl Filter {
    /// That leaves out what is named like one of these.
    pub fn named(patterns: Vec<String>) -> Filter {
        Filter { patterns, ..Filter::default() }
    }

    /// Reads patterns: whether all of them can be.
    pub fn check(&self) -> Result<(), NoPattern> {
        match self.patterns.iter().find(|p| p.trim_matches('/').is_empty()) {
            Some(empty) => Err(NoPattern { pattern: empty.clone(), why: "it is empty".into() }),
            None => self.patterns.iter().try_for_each(|pattern| glob(pattern).map(drop)),
        }
    }

    /// Whether it leaves nothing out.
    pub fn is_empty(&self) -> bool {
        *self == Filter::default()
    }

    fn set(&self) -> &GlobSet {
        self.set.get_or_init(|| {
            let mut set = GlobSetBuilder::new();
            for glob in self.patterns.iter().filter_map(|pattern| glob(pattern).ok()) {
                set.add(glob);
            }
            set.build().unwrap_or_default()
        })
    }

    /// Why what is at the end of a way is left out. `above`: whether a chosen folder lies beneath it.
    fn leaves(&self, way: &[Step<'_>], size: Option<u64>, above: bool) -> Option<Why> {
        let chosen = |among: &[Chosen]| {
            among.iter().any(|c| {
                way.iter().any(|step| step.node == Some(c.node))
                    || way.len() >= c.way.len()
                        && !c.way.is_empty()
                        && way.iter().zip(&c.way).all(|(step, name)| step.name == name)
                        && way[c.way.len() - 1].node.is_none_or(|node| node == c.node)
            })
        };
        if chosen(&self.without) || !self.only.is_empty() && !chosen(&self.only) && !above {
            return Some(Why::NotChosen);
        }
        if !self.patterns.is_empty() {
            let mut path = String::new();
            for step in way {
                if !path.is_empty() {
                    path.push('/');
                }
                path.push_str(step.name);
                let found = self.set().matches(step.name);
                let found = found.first().copied().or_else(|| self.set().matches(&path).first().copied());
                if let Some(n) = found {
                    return Some(Why::Named(self.patterns.get(n).cloned().unwrap_or_default()));
                }
            }
        }
        let larger = self.larger?;
        (size? > larger).then_some(Why::Larger(larger))
    }
}

impl Pair {
    /// What this pair leaves out.
    pub fn filter(&self) -> &Filter {
        &self.filter
    }

    /// Says what is left out from now on: all is looked at anew.
    pub fn set_filter(&mut self, filter: Filter) {
        if self.filter == filter {
            return;
        }
        self.filter = filter;
        self.changed.insert(TOP);
        self.revision += 1;
        self.index.in_the_way.clear();
        self.index.waiting.clear();
        self.look_at_all();
    }

    fn look_at_all(&mut self) {
        let all: Vec<Item> = self.items.keys().copied().filter(|item| *item != TOP).collect();
        for item in all {
            match self.items.get(&item).is_some_and(|f| matches!(f.held, Some(Held::Left(_)))) {
                true => self.free(item),
                false => drop(self.index.dirty.insert(item)),
            }
        }
    }

    /// Why something is left out, by where the service has it and by where it lies here.
    pub fn why_left(&self, item: Item) -> Option<Why> {
        if self.filter.is_empty() || item == TOP {
            return None;
        }
        let facets = self.items.get(&item)?;
        self.why_left_there(item, facets).or_else(|| {
            let size = facets.here.as_ref()?.stat.map(|stat| stat.size);
            let way = self.steps(item, |f| f.here.as_ref().map(|h| (h.parent, h.name.as_str())))?;
            self.filter.leaves(&way, size, self.has_chosen(item, facets, &way))
        })
    }

    fn why_left_there(&self, item: Item, facets: &Facets) -> Option<Why> {
        let size = facets.there.as_ref()?.bytes.map(|(_, size)| size);
        let way = self.steps(item, |f| f.there.as_ref().map(|t| (t.parent, t.name.as_str())))?;
        self.filter.leaves(&way, size, self.has_chosen(item, facets, &way))
    }

    /// Whether the service has it in a folder that was not chosen, and what lies here is just that.
    pub(super) fn goes_here(&self, item: Item, facets: &Facets) -> bool {
        let not_chosen = self.why_left_there(item, facets) == Some(Why::NotChosen);
        let (Some(there), Some(here), Some(common)) = (&facets.there, &facets.here, &facets.common) else {
            return false;
        };
        let same = match (there.bytes, here.stat) {
            (None, None) => self.children_here(item).is_empty() && !self.index.unlisted.contains(&item),
            (Some((hash, _)), Some(_)) => here.hash == Some(hash) && common.hash == Some(hash),
            _ => false,
        };
        not_chosen && same && facets.sent.is_none() && facets.moving.is_none()
    }

    /// Whether a chosen folder lies beneath this one: then it is needed.
    fn has_chosen(&self, item: Item, facets: &Facets, way: &[Step<'_>]) -> bool {
        facets.is_folder()
            && self.filter.only.iter().any(|chosen| {
                let above = way.len() < chosen.way.len()
                    && way.iter().zip(&chosen.way).all(|(step, name)| step.name == name);
                let top = self.index.by_node.get(&chosen.node).copied();
                above
                    || top.is_some_and(|top| {
                        self.is_beneath_there(top, item) || self.is_beneath_here(top, item)
                    })
            })
    }

    fn steps<'p>(
        &'p self,
        item: Item,
        place: impl Fn(&'p Facets) -> Option<(Item, &'p str)>,
    ) -> Option<Vec<Step<'p>>> {
        let (mut way, mut next) = (Vec::new(), item);
        while next != TOP {
            let facets = self.items.get(&next)?;
            let (parent, name) = place(facets)?;
            way.push(Step { node: facets.there.as_ref().map(|there| there.node), name });
            next = parent;
            if way.len() > 1000 {
                return None;
            }
        }
        way.reverse();
        Some(way)
    }

    /// A folder is called otherwise, or elsewhere: what was left out in it may not be any more.
    pub(super) fn renamed(&mut self, folder: Item) {
        if self.filter.is_empty() {
            return;
        }
        let of_chosen = self.filter.only.iter().any(|chosen| {
            let top = self.index.by_node.get(&chosen.node).copied();
            top.is_some_and(|top| self.is_beneath_there(top, folder) || self.is_beneath_here(top, folder))
        });
        if of_chosen {
            // Other folders are on the way to it now.
            self.look_at_all();
            return;
        }
        let (mut waiting, mut steps) = (vec![folder], 0);
        while let Some(item) = waiting.pop() {
            steps += 1;
            if steps > self.items.len() * 2 {
                break;
            }
            let left = self.items.get(&item).is_some_and(|f| matches!(f.held, Some(Held::Left(_))));
            if left {
                self.free(item);
            } else if item != folder {
                self.index.dirty.insert(item);
            }
            waiting.extend(self.children_there(item));
            waiting.extend(self.children_here(item));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn way(names: &[&'static str]) -> Vec<Step<'static>> {
        names.iter().map(|name| Step { node: None, name }).collect()
    }

    #[test]
    fn patterns_are_of_names_or_of_ways_and_hold_for_all_beneath() {
        let filter = Filter {
            patterns: vec!["*.tmp".into(), "build/".into(), "Films/*.mkv".into()],
            larger: Some(10),
            ..Filter::default()
        };
        filter.check().unwrap();
        let left = |names: &[&'static str], size| filter.leaves(&way(names), size, false);
        assert_eq!(left(&["a", "b.TMP"], Some(1)), Some(Why::Named("*.tmp".into())));
        assert_eq!(left(&["src", "build", "deep", "x"], Some(1)), Some(Why::Named("build/".into())));
        assert_eq!(left(&["Films", "x.mkv"], Some(1)), Some(Why::Named("Films/*.mkv".into())));
        assert_eq!(left(&["Films", "deep", "x.mkv"], Some(1)), None);
        assert_eq!(left(&["a"], Some(11)), Some(Why::Larger(10)));
        assert_eq!(left(&["a"], Some(10)), None);
        assert_eq!(left(&["a"], None), None);
        for bad in ["a[", "", "/"] {
            let filter = Filter { patterns: vec![bad.into()], ..Filter::default() };
            assert!(filter.check().is_err(), "{bad}");
        }
    }

    #[test]
    fn chosen_folders_hold_what_is_in_them_and_need_what_is_above() {
        let chosen = |node, names: &[&str]| Chosen {
            node: NodeId(node),
            way: names.iter().map(|n| n.to_string()).collect(),
        };
        let only = Filter { only: vec![chosen(7, &["a", "b"])], ..Filter::default() };
        assert_eq!(only.leaves(&way(&["a", "b", "c"]), None, false), None);
        assert_eq!(only.leaves(&way(&["a"]), None, true), None);
        assert_eq!(only.leaves(&way(&["a", "x"]), Some(1), false), Some(Why::NotChosen));
        // It was renamed: it is that folder still, and another one of its name is not.
        let renamed = vec![Step { node: Some(NodeId(7)), name: "z" }];
        assert_eq!(only.leaves(&renamed, None, false), None);
        let without = Filter { without: vec![chosen(7, &["a"])], ..Filter::default() };
        assert_eq!(without.leaves(&renamed, None, false), Some(Why::NotChosen));
        let other = vec![Step { node: Some(NodeId(8)), name: "a" }];
        assert_eq!(without.leaves(&other, None, false), None);
    }
}

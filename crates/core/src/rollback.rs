//! Rolling a folder back: what has to be done so that it is again what it was.
//!
//! The input is every node that changed since, as it was and as it is; the rest needs nothing. The
//! plan is a difference, so that it can be made again at any time and goes on from where things are.

use std::collections::{HashMap, HashSet};

/// A node at one of the two moments: where it is and what it holds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Stand {
    /// The folder in which it stands.
    pub parent: i64,
    /// The key of its name.
    pub key: String,
    /// The hash of its bytes; none for a folder.
    pub bytes: Option<[u8; 32]>,
    /// How many bytes, of a folder all beneath it.
    pub size: i64,
    /// Files: 1, or of a folder all beneath it.
    pub files: i64,
    /// Whether the way up from it to the folder that is rolled back is whole.
    pub within: bool,
    /// Whether it is alive at all.
    pub alive: bool,
    /// Whether its bytes are still held.
    pub held: bool,
}

/// A node that changed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Changed {
    /// Which.
    pub node: i64,
    /// As it was; none if it was not there.
    pub then: Option<Stand>,
    /// As it is; none if its own row ended.
    pub now: Option<Stand>,
    /// It changed again after the rollback was asked for, by somebody else.
    pub newer: bool,
}

/// What is done with one node.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Step {
    /// A folder that was removed comes back.
    FolderReturns,
    /// A file that was removed comes back.
    FileReturns,
    /// Back to its place or name.
    MovesBack,
    /// Its earlier bytes again.
    Changes,
    /// Was not there: is removed.
    Goes,
}

/// Why something stays as it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Conflict {
    /// Its bytes are no longer held.
    NotHeld,
    /// Somebody changed it meanwhile.
    Newer,
    /// It came from elsewhere, and its place there is gone.
    NoWayBack,
}

/// What a rollback does.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Plan {
    /// In the order in which it can be done: folders from the top, then files, then what goes.
    pub steps: Vec<(i64, Step)>,
    /// What stays as it is.
    pub conflicts: Vec<(i64, Conflict)>,
    /// Files that come back.
    pub returns: i64,
    /// Their bytes.
    pub return_bytes: i64,
    /// Files whose bytes change.
    pub changes: i64,
    /// Bytes that they will have.
    pub change_bytes: i64,
    /// Things that move back.
    pub moves: i64,
    /// Files that go.
    pub goes: i64,
    /// Their bytes.
    pub go_bytes: i64,
}

impl Plan {
    /// Whether there is nothing to do.
    pub fn is_empty(&self) -> bool {
        self.steps.is_empty()
    }
}

/// Makes the plan. `top`: the folder that is rolled back, which itself stays where it is.
pub fn plan(top: i64, changed: &[Changed]) -> Plan {
    let mut plan = Plan::default();
    let by_node: HashMap<i64, &Changed> = changed.iter().map(|c| (c.node, c)).collect();
    let mut folders: Vec<(usize, i64, Step)> = Vec::new();
    let mut files: Vec<(i64, Step)> = Vec::new();
    let mut going: Vec<i64> = Vec::new();
    // How deep a node stood then, as far as that is known from what changed.
    let depth = |mut node: i64| {
        let mut n = 0;
        while let Some(then) = by_node.get(&node).and_then(|c| c.then.as_ref()) {
            n += 1;
            node = then.parent;
            if node == top || n > 1000 {
                break;
            }
        }
        n
    };
    for c in changed.iter().filter(|c| c.node != top) {
        let there_then = c.then.as_ref().filter(|t| t.within);
        match (there_then, &c.now) {
            // As it was already: whatever happened to it since is no matter.
            (Some(then), Some(now))
                if (then.parent, &then.key, then.bytes) == (now.parent, &now.key, now.bytes) => {}
            (Some(then), _) if !then.held => plan.conflicts.push((c.node, Conflict::NotHeld)),
            (Some(_), _) if c.newer => plan.conflicts.push((c.node, Conflict::Newer)),
            (Some(then), None) => {
                plan.returns += then.files;
                plan.return_bytes += then.size;
                match then.bytes {
                    None => folders.push((depth(c.node), c.node, Step::FolderReturns)),
                    Some(_) => files.push((c.node, Step::FileReturns)),
                }
            }
            (Some(then), Some(now)) => {
                let moved = then.parent != now.parent || then.key != now.key;
                if moved {
                    plan.moves += 1;
                    match then.bytes {
                        None => folders.push((depth(c.node), c.node, Step::MovesBack)),
                        Some(_) => files.push((c.node, Step::MovesBack)),
                    }
                }
                if then.bytes != now.bytes {
                    plan.changes += 1;
                    plan.change_bytes += then.size;
                    files.push((c.node, Step::Changes));
                }
            }
            (None, Some(now)) if now.within && now.alive => match (&c.then, c.newer) {
                (_, true) => plan.conflicts.push((c.node, Conflict::Newer)),
                // It was there, elsewhere: a rollback never removes it.
                (Some(then), _) if then.alive => {
                    plan.moves += 1;
                    match then.bytes {
                        None => folders.push((depth(c.node), c.node, Step::MovesBack)),
                        Some(_) => files.push((c.node, Step::MovesBack)),
                    }
                }
                (Some(_), _) => plan.conflicts.push((c.node, Conflict::NoWayBack)),
                (None, _) => going.push(c.node),
            },
            _ => {}
        }
    }
    // Only the tops of what goes are removed; what is beneath goes with them.
    let all: HashSet<i64> = going.iter().copied().collect();
    let mut tops: Vec<i64> = Vec::new();
    for node in going {
        let now = by_node[&node].now.as_ref();
        let Some(now) = now else { continue };
        if now.bytes.is_some() {
            plan.goes += 1;
            plan.go_bytes += now.size;
        }
        if !all.contains(&now.parent) {
            tops.push(node);
        }
    }
    folders.sort_unstable();
    plan.steps.extend(folders.into_iter().map(|(_, node, step)| (node, step)));
    // What moves makes room before anything needs its name; bytes come last.
    files.sort_unstable_by_key(|(node, step)| (*step == Step::Changes, *step, *node));
    // A folder that goes may stand where one returns: what goes is moved out of the way first.
    plan.steps.extend(files);
    plan.steps.extend(tops.into_iter().map(|node| (node, Step::Goes)));
    plan.conflicts.sort_unstable();
    plan
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file(parent: i64, key: &str, byte: u8) -> Stand {
        Stand {
            parent,
            key: key.into(),
            bytes: Some([byte; 32]),
            size: 10,
            files: 1,
            within: true,
            alive: true,
            held: true,
        }
    }

    fn folder(parent: i64, key: &str) -> Stand {
        Stand { bytes: None, size: 30, files: 3, ..file(parent, key, 0) }
    }

    fn changed(node: i64, then: Option<Stand>, now: Option<Stand>) -> Changed {
        Changed { node, then, now, newer: false }
    }

    #[test]
    fn what_was_removed_returns_and_what_was_made_goes() {
        let plan = plan(
            1,
            &[
                changed(2, Some(folder(1, "a")), None),
                changed(3, Some(file(2, "b", 1)), None),
                changed(4, None, Some(folder(1, "new"))),
                changed(5, None, Some(file(4, "c", 1))),
                changed(6, Some(file(1, "d", 1)), Some(file(1, "d", 2))),
                changed(7, Some(file(1, "e", 1)), Some(file(1, "f", 1))),
            ],
        );
        assert_eq!(
            plan.steps,
            [
                (2, Step::FolderReturns),
                (3, Step::FileReturns),
                (7, Step::MovesBack),
                (6, Step::Changes),
                (4, Step::Goes),
            ]
        );
        assert_eq!((plan.returns, plan.return_bytes), (4, 40));
        assert_eq!((plan.goes, plan.go_bytes, plan.changes, plan.moves), (1, 10, 1, 1));
    }

    #[test]
    fn what_stood_elsewhere_then_is_never_removed() {
        let outside = Stand { within: false, ..file(99, "x", 1) };
        let gone = Stand { alive: false, ..outside.clone() };
        let plan = plan(
            1,
            &[
                changed(2, Some(outside), Some(file(1, "x", 1))),
                changed(3, Some(gone), Some(file(1, "y", 1))),
            ],
        );
        assert_eq!(plan.steps, [(2, Step::MovesBack)]);
        assert_eq!(plan.conflicts, [(3, Conflict::NoWayBack)]);
    }

    #[test]
    fn newer_work_and_bytes_that_are_gone_are_told_and_left() {
        let lost = Stand { held: false, ..file(1, "a", 1) };
        let mut newer = changed(3, Some(file(1, "b", 1)), Some(file(1, "b", 2)));
        newer.newer = true;
        let plan = plan(1, &[changed(2, Some(lost), None), newer]);
        assert!(plan.is_empty());
        assert_eq!(plan.conflicts, [(2, Conflict::NotHeld), (3, Conflict::Newer)]);
    }

    #[test]
    fn folders_come_back_from_the_top() {
        let plan = plan(
            1,
            &[changed(9, Some(folder(8, "inner")), None), changed(8, Some(folder(1, "outer")), None)],
        );
        assert_eq!(plan.steps, [(8, Step::FolderReturns), (9, Step::FolderReturns)]);
    }
}

//! Rolling a folder back: what has to be done so that it is again what it was.
//!
//! The input is every node that changed since, as it was and as it is; the rest needs nothing. The
//! plan is a difference, so that it can be made again at any time and goes on from where things are.

use crate::{AccountId, DeviceId};
use std::collections::{BTreeMap, HashMap, HashSet};

/// A node at one of the two moments: where it is and what it holds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Stand {
    /// The folder in which it stands.
    pub parent: i64,
    /// The key of its name.
    pub key: String,
    /// The hash of its bytes; none for a folder.
    pub bytes: Option<[u8; 32]>,
    /// Whether it is a program.
    pub executable: bool,
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

impl Stand {
    /// What it is beside where it stands.
    fn holds(&self) -> (Option<[u8; 32]>, bool) {
        (self.bytes, self.executable)
    }
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
    /// Of what came from elsewhere: whether the folder in which it stood is there.
    pub way_back: bool,
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
    /// A folder that was not there, and something in it stays.
    Holds,
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

/// Makes the plan. `top`: the folder that is rolled back, which itself stays where it is. `refused`: what was
/// tried and cannot be done; it stays, and so does every folder above it.
pub fn plan(top: i64, changed: &[Changed], refused: &HashSet<i64>) -> Plan {
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
    for c in changed.iter().filter(|c| c.node != top && !refused.contains(&c.node)) {
        let there_then = c.then.as_ref().filter(|t| t.within);
        match (there_then, &c.now) {
            // As it was already: whatever happened to it since is no matter.
            (Some(then), Some(now))
                if (then.parent, &then.key, then.holds()) == (now.parent, &now.key, now.holds()) => {}
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
                if then.holds() != now.holds() {
                    plan.changes += 1;
                    plan.change_bytes += then.size;
                    files.push((c.node, Step::Changes));
                }
            }
            (None, Some(now)) if now.within && now.alive => match (&c.then, c.newer) {
                (_, true) => plan.conflicts.push((c.node, Conflict::Newer)),
                // It was there, elsewhere: a rollback never removes it.
                (Some(then), _) if then.alive && !c.way_back => {
                    plan.conflicts.push((c.node, Conflict::NoWayBack));
                }
                (Some(then), _) if then.alive => {
                    plan.moves += 1;
                    match then.bytes {
                        None => folders.push((depth(c.node), c.node, Step::MovesBack)),
                        Some(_) => files.push((c.node, Step::MovesBack)),
                    }
                }
                // Not there, or in the trash with a folder that was removed by then.
                _ => going.push(c.node),
            },
            _ => {}
        }
    }
    // What stays keeps the folders above it: they would take it with them.
    let mut holding: HashSet<i64> = HashSet::new();
    for node in plan.conflicts.iter().map(|(node, _)| node).chain(refused) {
        let mut next = *node;
        while let Some(now) = by_node.get(&next).and_then(|c| c.now.as_ref()) {
            if !holding.insert(now.parent) {
                break;
            }
            next = now.parent;
        }
    }
    going.retain(|node| {
        let stays = holding.contains(node);
        if stays {
            plan.conflicts.push((*node, Conflict::Holds));
        }
        !stays
    });
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

/// Who made a state, and with what.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Author {
    /// Whose account; none: found on the disk.
    pub account: Option<AccountId>,
    /// The device; none: a browser.
    pub device: Option<DeviceId>,
}

/// Of present states that a rollback would undo, those that are not the mishap itself. Where one author made
/// more than half of them, that is the mishap, and all the others' is work in its way; where nobody did, it is
/// all that was made by others than the one who asks.
pub fn work_of_others(states: &[(i64, Author)], asks: Option<AccountId>) -> HashSet<i64> {
    let mut counts: BTreeMap<Author, usize> = BTreeMap::new();
    for (_, author) in states {
        *counts.entry(*author).or_default() += 1;
    }
    let most = counts.into_iter().find(|(_, n)| n * 2 > states.len()).map(|(author, _)| author);
    let others = states.iter().filter(|(_, author)| match most {
        Some(most) => *author != most,
        None => author.account != asks,
    });
    others.map(|(node, _)| *node).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file(parent: i64, key: &str, byte: u8) -> Stand {
        Stand {
            parent,
            key: key.into(),
            bytes: Some([byte; 32]),
            executable: false,
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
        Changed { node, then, now, newer: false, way_back: true }
    }

    fn planned(changed: &[Changed]) -> Plan {
        plan(1, changed, &HashSet::new())
    }

    #[test]
    fn a_folder_that_holds_what_stays_does_not_go() {
        let mut stranded =
            changed(6, Some(Stand { within: false, ..file(99, "x", 1) }), Some(file(5, "x", 1)));
        stranded.way_back = false;
        let all = [
            changed(4, None, Some(folder(1, "new"))),
            changed(5, None, Some(folder(4, "inner"))),
            stranded,
            changed(7, None, Some(file(4, "y", 1))),
        ];
        let seen = planned(&all);
        assert_eq!(seen.steps, [(7, Step::Goes)], "what is beside it goes by itself");
        assert_eq!(seen.conflicts, [(4, Conflict::Holds), (5, Conflict::Holds), (6, Conflict::NoWayBack)]);
        // The same for what was tried and refused.
        let moved = [
            changed(4, None, Some(folder(1, "new"))),
            changed(6, Some(file(1, "x", 1)), Some(file(4, "x", 1))),
        ];
        assert_eq!(planned(&moved).steps, [(6, Step::MovesBack), (4, Step::Goes)]);
        assert!(plan(1, &moved, &HashSet::from([6])).is_empty());
    }

    #[test]
    fn what_was_removed_returns_and_what_was_made_goes() {
        let plan = planned(&[
            changed(2, Some(folder(1, "a")), None),
            changed(3, Some(file(2, "b", 1)), None),
            changed(4, None, Some(folder(1, "new"))),
            changed(5, None, Some(file(4, "c", 1))),
            changed(6, Some(file(1, "d", 1)), Some(file(1, "d", 2))),
            changed(7, Some(file(1, "e", 1)), Some(file(1, "f", 1))),
        ]);
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
        let mut stranded = changed(3, Some(outside.clone()), Some(file(1, "y", 1)));
        stranded.way_back = false;
        // In the trash by then: as if it had not been there.
        let trashed = Stand { alive: false, ..outside.clone() };
        let plan = planned(&[
            changed(2, Some(outside), Some(file(1, "x", 1))),
            stranded,
            changed(4, Some(trashed), Some(file(1, "z", 1))),
        ]);
        assert_eq!(plan.steps, [(2, Step::MovesBack), (4, Step::Goes)]);
        assert_eq!(plan.conflicts, [(3, Conflict::NoWayBack)]);
    }

    #[test]
    fn newer_work_and_bytes_that_are_gone_are_told_and_left() {
        let lost = Stand { held: false, ..file(1, "a", 1) };
        let mut newer = changed(3, Some(file(1, "b", 1)), Some(file(1, "b", 2)));
        newer.newer = true;
        let plan = planned(&[changed(2, Some(lost), None), newer]);
        assert!(plan.is_empty());
        assert_eq!(plan.conflicts, [(2, Conflict::NotHeld), (3, Conflict::Newer)]);
    }

    #[test]
    fn who_made_most_of_it_is_the_mishap_and_the_rest_is_work_in_its_way() {
        let by = |account, device| Author { account: Some(AccountId(account)), device };
        let laptop = by(1, Some(DeviceId(7)));
        let states = [(1, laptop), (2, laptop), (3, laptop), (4, by(1, None)), (5, by(2, None))];
        assert_eq!(work_of_others(&states, Some(AccountId(1))), HashSet::from([4, 5]));
        // Nobody made most of it: one's own is no work of others.
        let even = [(1, by(1, None)), (2, by(2, None)), (3, by(1, None)), (4, by(3, None))];
        assert_eq!(work_of_others(&even, Some(AccountId(1))), HashSet::from([2, 4]));
        assert!(work_of_others(&[], None).is_empty());
    }

    #[test]
    fn folders_come_back_from_the_top() {
        let plan = planned(&[
            changed(9, Some(folder(8, "inner")), None),
            changed(8, Some(folder(1, "outer")), None),
        ]);
        assert_eq!(plan.steps, [(8, Step::FolderReturns), (9, Step::FolderReturns)]);
    }
}

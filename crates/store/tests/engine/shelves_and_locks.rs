//! Random days against small models: folders that become shelves and back, and locks of every kind.

use crate::support::{Attic, name, on_disk};
use std::collections::BTreeMap;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::{NodeId, ShelfId};
use yellow_attic_store::fs::model::Tokens;
use yellow_attic_store::rights::locks::{Held, NewLock};
use yellow_attic_store::{Actor, StoreError};
use yellow_attic_trials::numbers;

/// Its folder (none: the top of a shelf), its name and its bytes (none: a folder).
type Thing = (Option<NodeId>, String, Option<Vec<u8>>);

/// What stands where.
#[derive(Default)]
struct Tree {
    things: BTreeMap<NodeId, Thing>,
}

impl Tree {
    fn way(&self, node: NodeId) -> Vec<NodeId> {
        let mut way = vec![node];
        while let Some((Some(parent), ..)) = way.last().and_then(|n| self.things.get(n)) {
            way.push(*parent);
        }
        way
    }

    fn some(&self, dice: u64, wanted: impl Fn(&NodeId, bool) -> bool) -> Option<NodeId> {
        let all: Vec<NodeId> =
            self.things.iter().filter(|(n, t)| wanted(n, t.2.is_none())).map(|(n, _)| *n).collect();
        all.get(dice as usize % all.len().max(1)).copied()
    }

    /// Everything beneath, and it.
    fn beneath(&self, node: NodeId) -> Vec<NodeId> {
        self.things.keys().copied().filter(|n| self.way(*n).contains(&node)).collect()
    }
}

/// Each thing is what it was, where it should be, with its bytes, by its id and by its folder's list; and the disk says the same.
async fn compare(attic: &Attic, tree: &Tree, shelves: &BTreeMap<ShelfId, NodeId>) {
    attic.engine.settle().await.unwrap();
    attic.engine.run_jobs().await.unwrap();
    for (node, (parent, named, bytes)) in &tree.things {
        let chain = attic
            .engine
            .files()
            .chain(&attic.ines, *node, yellow_attic_core::rights::Level::View)
            .await
            .unwrap();
        let way: Vec<NodeId> = chain.iter().map(|r| r.node).collect();
        assert_eq!(way, tree.way(*node), "{named}");
        if let Some(bytes) = bytes {
            assert!(attic.bytes_of(&chain[0]).await == *bytes, "{named} has other bytes");
        }
        let shelf = attic.engine.shelf_of(&chain[0]).unwrap();
        let top = *way.last().unwrap();
        assert_eq!(shelf.root, top, "{named} is on the shelf whose top it lies under");
        if parent.is_none() && *node != attic.home {
            assert_eq!(shelves.get(&shelf.id), Some(node));
        }
        if bytes.is_none() {
            let page = attic
                .engine
                .files()
                .list(&attic.ines, *node, Default::default(), false, 1000, None)
                .await
                .unwrap();
            let mut listed: Vec<NodeId> = page.items.iter().map(|e| e.row.node).collect();
            let mut wanted: Vec<NodeId> =
                tree.things.iter().filter(|(_, t)| t.0 == Some(*node)).map(|(n, _)| *n).collect();
            listed.sort();
            wanted.sort();
            assert_eq!(listed, wanted, "in {named}");
        }
    }
    // The sums of all shelves are those of the model, and each file lies on the disk once.
    let total: usize = tree.things.values().filter_map(|t| t.2.as_ref().map(Vec::len)).sum();
    let mut sum = 0;
    for top in tree.things.iter().filter(|(_, t)| t.0.is_none()).map(|(n, _)| *n) {
        sum += attic.engine.files().shelf_sums(top).await.unwrap().unwrap().bytes;
    }
    assert_eq!(sum as usize, total, "all shelves together");
    let there = on_disk(&attic.data().join("shelves"));
    for (named, bytes) in tree.things.values().filter_map(|t| t.2.as_ref().map(|b| (&t.1, b))) {
        let found: Vec<&String> = there.iter().filter(|(_, b)| *b == bytes).map(|(p, _)| p).collect();
        assert!(found.len() == 1 && found[0].ends_with(named.as_str()), "{named}: {found:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn folders_become_shelves_and_back_and_everything_stays_what_it_was() {
    let (mut raised, mut lowered) = (0, 0);
    for seed in 0..8 {
        let mut attic = Attic::new().await;
        let mut next = numbers(seed);
        let mut tree = Tree::default();
        tree.things.insert(attic.home, (None, "home".into(), None));
        let mut shelves: BTreeMap<ShelfId, NodeId> = BTreeMap::new();
        for step in 0..70 {
            let folder = tree.some(next(1000), |_, folder| folder).unwrap();
            let any = tree.some(next(1000), |n, _| tree.things[n].0.is_some());
            let named = format!("n{step}");
            let (engine, ines) = (attic.engine.clone(), attic.ines.clone());
            match next(12) {
                0..=2 => {
                    let made = engine.files().make_folder(&ines, folder, name(&named)).await.unwrap();
                    tree.things.insert(made.row.unwrap().node, (Some(folder), named, None));
                }
                3..=5 => {
                    let bytes = format!("{seed} {step} {}", "x".repeat(next(3000) as usize)).into_bytes();
                    let staged = engine.stage_small(bytes.clone()).unwrap();
                    let put = engine
                        .files()
                        .put(&ines, folder, name(&named), staged, 1, Conditions::default())
                        .await
                        .unwrap();
                    tree.things.insert(put.row.unwrap().node, (Some(folder), named, Some(bytes)));
                }
                6 | 7 => {
                    let Some(node) = any else { continue };
                    let into_itself = tree.way(folder).contains(&node);
                    let moved = engine
                        .files()
                        .move_node(&ines, node, folder, name(&named), false, Conditions::default())
                        .await;
                    assert_eq!(moved.is_err(), into_itself, "{moved:?}");
                    if moved.is_ok() {
                        let thing = tree.things.get_mut(&node).unwrap();
                        (thing.0, thing.1) = (Some(folder), named);
                    }
                }
                8 => {
                    let Some(node) = any.filter(|_| next(2) == 0) else { continue };
                    engine.files().remove(&ines, node, Conditions::default()).await.unwrap();
                    for gone in tree.beneath(node) {
                        tree.things.remove(&gone);
                    }
                }
                9 => {
                    // Only a folder that is inside a shelf.
                    let Some(node) = tree.some(next(1000), |n, f| f && tree.things[n].0.is_some()) else {
                        continue;
                    };
                    let shelf = engine.space().raise_folder(&ines, node, name(&named)).await.unwrap();
                    assert_eq!(shelf.root, node, "it is the same folder");
                    tree.things.insert(node, (None, named, None));
                    shelves.insert(shelf.id, node);
                    raised += 1;
                }
                10 => {
                    let all: Vec<ShelfId> = shelves.keys().copied().collect();
                    let Some(id) = all.get(next(100) as usize % all.len().max(1)).copied() else { continue };
                    let node = shelves[&id];
                    let into_itself = tree.way(folder).contains(&node);
                    let done = engine.space().lower_shelf(&ines, id, folder, name(&named)).await;
                    assert_eq!(done.is_err(), into_itself, "{done:?}");
                    if done.is_ok() {
                        tree.things.insert(node, (Some(folder), named, None));
                        shelves.remove(&id);
                        lowered += 1;
                    }
                }
                _ => {
                    compare(&attic, &tree, &shelves).await;
                    if next(2) == 0 {
                        attic = attic.reopen().await;
                    }
                }
            }
        }
        compare(&attic, &tree, &shelves).await;
        attic = attic.reopen().await;
        compare(&attic, &tree, &shelves).await;
        attic.engine.stop().await;
    }
    assert!(raised > 20 && lowered > 10, "{raised} raised, {lowered} lowered");
}

/// A lock as the model knows it.
struct Taken {
    on: NodeId,
    deep: bool,
    until: i64,
    held: Held,
}

#[tokio::test(flavor = "multi_thread")]
async fn locks_keep_out_exactly_whom_they_should() {
    let (mut kept_out, mut let_in, mut clashed) = (0, 0, 0);
    for seed in 0..10 {
        let attic = Attic::new().await;
        let mut next = numbers(seed);
        let mut tree = Tree::default();
        tree.things.insert(attic.home, (None, "home".into(), None));
        let mut parent = attic.home;
        for n in 0..5 {
            let into = if n % 2 == 0 { parent } else { attic.home };
            let made = attic.engine.files().make_folder(&attic.ines, into, name(&format!("f{n}"))).await;
            parent = made.unwrap().row.unwrap().node;
            tree.things.insert(parent, (Some(into), format!("f{n}"), None));
        }
        let mut taken: Vec<Taken> = Vec::new();
        for step in 0..120 {
            let now = attic.engine.now_ms();
            taken.retain(|t| t.until > now);
            let (engine, named) = (attic.engine.clone(), format!("n{step}"));
            // Some of the tokens are named, by chance.
            let said: Vec<usize> = (0..taken.len()).filter(|_| next(2) == 0).collect();
            let tokens = Tokens::new(said.iter().map(|i| taken[*i].held.lock.token.clone()));
            let who = Actor { tokens, ..attic.ines.clone() };
            let folder = tree.some(next(1000), |_, folder| folder).unwrap();
            let file = tree.some(next(1000), |_, folder| !folder);
            // The locks over a thing: its own, and deep ones further up.
            let over = |tree: &Tree, node: NodeId| -> Vec<usize> {
                let way = tree.way(node);
                (0..taken.len())
                    .filter(|i| taken[*i].on == node || (taken[*i].deep && way.contains(&taken[*i].on)))
                    .collect()
            };
            let may = |locks: Vec<usize>| locks.iter().all(|i| said.contains(i));
            let mut check = |what: &str, allowed: bool, done: Result<(), StoreError>| match done {
                Ok(()) => {
                    assert!(allowed, "seed {seed}, step {step}: {what} went through a lock");
                    let_in += 1;
                    true
                }
                Err(StoreError::Locked { .. }) => {
                    assert!(!allowed, "seed {seed}, step {step}: {what} was kept out by no lock");
                    kept_out += 1;
                    false
                }
                Err(other) => panic!("seed {seed}, step {step}: {what}: {other}"),
            };
            match next(10) {
                0..=2 => {
                    // A folder's lock keeps others from what is in it.
                    let allowed = may(over(&tree, folder));
                    let staged = engine.stage_small(named.clone().into_bytes()).unwrap();
                    let done = engine
                        .files()
                        .put(&who, folder, name(&named), staged, 1, Conditions::default())
                        .await;
                    let node = done.as_ref().ok().map(|d| d.row.clone().unwrap().node);
                    if check("a new file", allowed, done.map(drop)) {
                        tree.things.insert(node.unwrap(), (Some(folder), named.clone(), Some(vec![])));
                    }
                }
                3 => {
                    let Some(file) = file else { continue };
                    let (parent, known, _) = tree.things[&file].clone();
                    let allowed = may(over(&tree, file));
                    let staged = engine.stage_small(named.into_bytes()).unwrap();
                    let done = engine
                        .files()
                        .put(&who, parent.unwrap(), name(&known), staged, 1, Conditions::default())
                        .await;
                    check("other bytes", allowed, done.map(drop));
                }
                4 => {
                    let Some(file) = file else { continue };
                    let parent = tree.things[&file].0.unwrap();
                    let allowed = may(over(&tree, file)) && may(over(&tree, parent));
                    let done = engine.files().remove(&who, file, Conditions::default()).await;
                    if check("a removal", allowed, done.map(drop)) {
                        tree.things.remove(&file);
                        taken.retain(|t| t.on != file);
                    }
                }
                5 => {
                    let Some(file) = file else { continue };
                    if taken.iter().any(|t| t.on == file) {
                        continue;
                    }
                    let parent = tree.things[&file].0.unwrap();
                    let allowed = may(over(&tree, parent)) && may(over(&tree, folder));
                    let done = engine
                        .files()
                        .move_node(&who, file, folder, name(&named), false, Conditions::default())
                        .await;
                    if check("a move", allowed, done.map(drop)) {
                        tree.things.insert(file, (Some(folder), named, Some(vec![])));
                    }
                }
                6 | 7 => {
                    let Some(on) = tree.some(next(1000), |n, _| *n != attic.home) else { continue };
                    let deep = next(2) == 0;
                    let lives_ms = 1_000 * (1 + next(20) as i64);
                    let clash = !over(&tree, on).is_empty()
                        || (deep && taken.iter().any(|t| tree.way(t.on).contains(&on)));
                    let new =
                        NewLock { node: on, deep, exclusive: true, by_token: true, owner: None, lives_ms };
                    match engine.files().lock(&who, new).await {
                        Ok(held) => {
                            assert!(!clash, "seed {seed}, step {step}: two exclusive locks");
                            taken.push(Taken { on, deep, until: held.lock.until, held });
                        }
                        Err(StoreError::Locked { .. }) => {
                            assert!(clash, "seed {seed}, step {step}: no lock is in its way");
                            clashed += 1;
                        }
                        Err(other) => panic!("{other}"),
                    }
                }
                8 => {
                    if taken.is_empty() {
                        continue;
                    }
                    let one = taken.swap_remove(next(taken.len() as u64) as usize);
                    let token = &one.held.lock.token;
                    engine.files().release_lock(&attic.ines, one.on, token).await.unwrap();
                }
                _ => attic.clock.advance(1 + next(6_000) as i64),
            }
        }
        attic.engine.stop().await;
    }
    assert!(kept_out > 50 && let_in > 50 && clashed > 10, "{kept_out} {let_in} {clashed}");
}

//! Many moves as one change: any of them, in any circles, wherever it is stopped.

use crate::support::{Attic, StopAfter, name, on_disk};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};
use yellow_attic_core::{Moment, NodeId};
use yellow_attic_store::StoreError;
use yellow_attic_store::audit::check::check;
use yellow_attic_store::fs::fault_points::AllSteps;
use yellow_attic_store::ops::together::OneMove;
use yellow_attic_trials::numbers;

fn to(node: NodeId, parent: NodeId, wanted: &str, seen: Option<Moment>) -> OneMove {
    OneMove { node, parent, name: name(wanted), seen }
}

async fn moved(attic: &Attic, moves: Vec<OneMove>) -> Result<Moment, StoreError> {
    let done = attic.engine.files().move_together(&attic.ines, moves, None).await?;
    done.map(|rows| rows[0].since).map_err(|(_, e)| e)
}

#[tokio::test(flavor = "multi_thread")]
async fn names_go_round_in_circles_at_one_number_or_nothing_happens() {
    let attic = Attic::new().await;
    let (left, right) = (attic.mkdir("left").await, attic.mkdir("right").await);
    for file in ["left/a", "left/b", "right/c"] {
        attic.put(file, file.as_bytes()).await;
    }
    let id = async |path: &str| attic.find(path).await.unwrap().node;
    let (a, b, c) = (id("left/a").await, id("left/b").await, id("right/c").await);
    // Two that change places, in one folder; three, over two folders; two folders with all in them.
    let at = moved(&attic, vec![to(a, left, "b", None), to(b, left, "a", None)]).await.unwrap();
    assert_eq!((id("left/a").await, id("left/b").await), (b, a));
    let moves = vec![to(a, right, "c", None), to(c, left, "a", None), to(b, left, "b", None)];
    moved(&attic, moves).await.unwrap();
    assert_eq!((id("left/a").await, id("left/b").await, id("right/c").await), (c, b, a));
    moved(&attic, vec![to(left, attic.home, "right", None), to(right, attic.home, "left", None)])
        .await
        .unwrap();
    assert_eq!((id("right/a").await, id("right/b").await, id("left/c").await), (c, b, a));
    attic.engine.settle().await.unwrap();
    let disk: BTreeMap<String, Vec<u8>> = on_disk(&attic.files());
    let wanted = [("left/c", "left/a"), ("right/a", "right/c"), ("right/b", "left/b")];
    assert_eq!(disk, wanted.map(|(p, b)| (p.to_string(), b.as_bytes().to_vec())).into());
    // Each is one change: nobody ever had another name between.
    let states = attic.engine.history().states(&attic.ines, a, 10).await.unwrap();
    let names: Vec<&str> = states.iter().map(|s| s.row.name()).collect();
    assert_eq!((names, states[1].row.since), (vec!["c", "b", "a"], at));

    // One that cannot be: none of them is done, and which one it was is told.
    let before =
        (attic.ls("left").await, attic.ls("right").await, attic.engine.history().now_moment().await.unwrap());
    let now = attic.find("left/c").await.unwrap().since;
    for (moves, which) in [
        (vec![to(b, left, "x", None), to(a, left, "y", Some(Moment(now.0 - 1)))], 1),
        (vec![to(b, left, "x", None), to(c, left, "x", None)], 1),
        (vec![to(left, right, "in", None), to(right, left, "in", None)], 1),
        (vec![to(b, left, "x", None), to(b, left, "y", None)], 1),
        (vec![to(b, left, "x", None), to(attic.home, left, "home", None)], 1),
        (vec![to(b, left, "a", None)], 0),
        (vec![to(b, left, "x", None), to(NodeId(9999), left, "y", None)], 1),
    ] {
        let refused =
            attic.engine.files().move_together(&attic.ines, moves, None).await.unwrap().unwrap_err();
        assert_eq!(refused.0, which, "{refused:?}");
    }
    let after =
        (attic.ls("left").await, attic.ls("right").await, attic.engine.history().now_moment().await.unwrap());
    assert_eq!(before, after);
    // What is decided beside it goes on.
    attic.put("left/d", b"4").await;
    attic.engine.stop().await;
    assert!(check(&attic.data(), Default::default(), Box::new(|_| true)).await.unwrap().is_sound());
}

/// Where everything is: by its id.
async fn places(attic: &Attic, nodes: &[NodeId]) -> BTreeMap<NodeId, String> {
    let mut found = BTreeMap::new();
    for node in nodes {
        let chain = attic
            .engine
            .files()
            .chain(&attic.ines, *node, yellow_attic_core::rights::Level::View)
            .await
            .unwrap();
        let names: Vec<&str> = chain.iter().rev().skip(1).map(|r| r.name()).collect();
        found.insert(*node, names.join("/"));
    }
    found
}

#[tokio::test(flavor = "multi_thread")]
async fn any_rearrangement_is_done_as_a_whole_and_lies_so_on_the_disk() {
    let (mut done, mut refused) = (0, 0);
    for seed in 0..12 {
        let mut attic = Attic::new().await;
        let mut next = numbers(seed);
        let mut folders = vec![attic.home];
        let mut all = Vec::new();
        for n in 0..5 {
            let into = folders[next(folders.len() as u64) as usize];
            let made =
                attic.engine.files().make_folder(&attic.ines, into, name(&format!("n{n}"))).await.unwrap();
            folders.push(made.row.unwrap().node);
            all.push(folders[folders.len() - 1]);
        }
        for n in 5..14 {
            let into = folders[next(folders.len() as u64) as usize];
            let staged = attic.engine.stage_small(format!("bytes {n}").into_bytes()).unwrap();
            let put = attic.engine.files().put(
                &attic.ines,
                into,
                name(&format!("n{n}")),
                staged,
                1,
                Default::default(),
            );
            all.push(put.await.unwrap().row.unwrap().node);
        }
        for _ in 0..25 {
            let before = places(&attic, &all).await;
            let mut chosen = all.clone();
            let moves: Vec<OneMove> = (0..1 + next(5))
                .map(|_| {
                    let node = chosen.swap_remove(next(chosen.len() as u64) as usize);
                    // Often the very place of another.
                    let parent = folders[next(folders.len() as u64) as usize];
                    to(node, parent, &format!("n{}", next(8)), None)
                })
                .collect();
            let wanted: Vec<(NodeId, NodeId, String)> =
                moves.iter().map(|m| (m.node, m.parent, m.name.to_string())).collect();
            match attic.engine.files().move_together(&attic.ines, moves, None).await.unwrap() {
                Ok(rows) => {
                    done += 1;
                    for (row, (node, parent, name)) in rows.iter().zip(&wanted) {
                        assert_eq!((row.node, row.parent, row.name()), (*node, Some(*parent), name.as_str()));
                    }
                    // What stayed where it was is in the state that it was in.
                    let after = places(&attic, &all).await;
                    let mut since: Vec<Moment> = rows
                        .iter()
                        .filter(|r| {
                            let last = |places: &BTreeMap<NodeId, String>| {
                                let path = &places[&r.node];
                                path.rsplit('/').next().unwrap_or(path).to_string()
                            };
                            last(&before) != last(&after)
                        })
                        .map(|r| r.since)
                        .collect();
                    since.dedup();
                    assert!(since.len() <= 1, "one change: {since:?}");
                }
                Err(_) => {
                    refused += 1;
                    assert_eq!(places(&attic, &all).await, before, "seed {seed}: a part of it was done");
                }
            }
            if next(6) == 0 {
                attic = attic.reopen().await;
            }
        }
        attic.engine.settle().await.unwrap();
        let now = places(&attic, &all).await;
        let disk = on_disk(&attic.files());
        for (n, node) in all.iter().enumerate().skip(5) {
            let bytes = format!("bytes {n}").into_bytes();
            assert_eq!(disk.get(&now[node]), Some(&bytes), "seed {seed}: {}", now[node]);
        }
        assert_eq!(disk.len(), 9);
        attic.engine.stop().await;
    }
    assert!(done > 60 && refused > 40, "{done} {refused}");
}

#[test]
fn a_circle_is_whole_wherever_it_is_stopped() {
    let runtime =
        || tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
    for stop in 0..200 {
        let steps = Arc::new(StopAfter(AtomicI64::new(i64::MAX)));
        let (attic, answered, nodes) = runtime().block_on(async {
            let attic = Attic::new().await.reopen_with(steps.clone()).await;
            let folder = attic.mkdir("folder").await;
            let mut nodes = Vec::new();
            for file in ["folder/a", "b", "c"] {
                attic.put(file, file.as_bytes()).await;
                nodes.push(attic.find(file).await.unwrap().node);
            }
            attic.engine.settle().await.unwrap();
            steps.0.store(stop, Ordering::SeqCst);
            let moves = vec![
                to(nodes[0], attic.home, "b", None),
                to(nodes[1], attic.home, "c", None),
                to(nodes[2], folder, "a", None),
            ];
            let answered = moved(&attic, moves).await.is_ok();
            let _ = attic.engine.settle().await;
            attic.engine.stop().await;
            (attic, answered, nodes)
        });
        let finished = steps.0.load(Ordering::SeqCst) > 0;
        runtime().block_on(async {
            let attic = attic.reopen_with(Arc::new(AllSteps)).await;
            attic.engine.settle().await.unwrap();
            let places = places(&attic, &nodes).await;
            let there: Vec<&str> = nodes.iter().map(|n| places[n].as_str()).collect();
            let moved = there == ["b", "c", "folder/a"];
            assert!(moved || (!answered && there == ["folder/a", "b", "c"]), "stopped at {stop}: {there:?}");
            let disk = on_disk(&attic.files());
            for (place, bytes) in there.iter().zip(["folder/a", "b", "c"]) {
                assert_eq!(
                    disk.get(*place).map(Vec::as_slice),
                    Some(bytes.as_bytes()),
                    "stopped at {stop}: {disk:?}"
                );
            }
            assert_eq!(disk.len(), 3, "stopped at {stop}: {disk:?}");
            let data = attic.data();
            attic.engine.stop().await;
            assert!(
                check(&data, Default::default(), Box::new(|_| true)).await.unwrap().is_sound(),
                "stopped at {stop}"
            );
        });
        if finished {
            assert!(stop > 4, "{stop} steps");
            return;
        }
    }
    panic!("it never came to its end");
}

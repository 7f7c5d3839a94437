//! Random days against small models: uploads in parts with crashes between, rollbacks to any moment and back.

use crate::support::{Attic, as_after_a_crash, name, options};
use std::collections::BTreeMap;
use std::sync::Arc;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::rights::Level;
use yellow_attic_core::{Moment, NodeId};
use yellow_attic_store::fs::fault_points::AllSteps;
use yellow_attic_store::timeline::rollback::Begin;
use yellow_attic_store::timeline::uploads::{Joining, NewUpload};
use yellow_attic_store::{Engine, Place, StoreError};
use yellow_attic_trials::numbers;

/// What an upload should be: all its bytes, how many were written, and how many of them were answered for.
struct Sent {
    id: String,
    name: String,
    bytes: Vec<u8>,
    written: usize,
    confirmed: usize,
}

fn upload(parent: NodeId, named: &str, size: usize) -> NewUpload {
    NewUpload {
        parent,
        name: name(named),
        size: size as u64,
        open_length: false,
        mtime: None,
        if_match: None,
        if_none_match: None,
        hash: None,
        joining: Joining::Alone,
    }
}

async fn bytes_at(engine: &Engine, attic: &Attic, path: &str) -> Vec<u8> {
    let row = engine.files().resolve(&attic.ines, "home", &[name(path)]).await.unwrap();
    let (mut file, _) = engine.files().open_bytes(&row).await.unwrap();
    let mut bytes = Vec::new();
    std::io::Read::read_to_end(&mut file, &mut bytes).unwrap();
    bytes
}

/// Everything that was answered for is there after a crash, and every upload can be gone on with to its own bytes.
async fn check_after_crash(attic: &Attic, sent: &[Sent]) {
    let crash = as_after_a_crash(&attic.data());
    let opened = options(&crash.path().join("data"), &attic.clock, Arc::new(AllSteps));
    let engine = Engine::open(opened).await.unwrap();
    for one in sent {
        let there = engine.files().upload(&attic.ines, &one.id).await.unwrap().received as usize;
        assert!((one.confirmed..=one.written).contains(&there), "{}: {there}", one.name);
        let mut part = engine.files().append(&attic.ines, &one.id, there as u64).await.unwrap();
        part.write(&one.bytes[there..]).unwrap();
        part.pause().await.unwrap();
        assert!(engine.files().finish_upload(&attic.ines, &one.id, None).await.unwrap().is_some());
        engine.settle().await.unwrap();
        assert!(bytes_at(&engine, attic, &one.name).await == one.bytes, "{} has other bytes", one.name);
    }
    engine.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn uploads_in_parts_do_what_the_model_does_whatever_breaks_between() {
    let (mut finished, mut crashes) = (0, 0);
    for seed in 0..8 {
        let mut attic = Attic::new().await;
        let mut next = numbers(seed);
        let mut sent: Vec<Sent> = Vec::new();
        let mut done: BTreeMap<String, Vec<u8>> = BTreeMap::new();
        for step in 0..60 {
            let at = next(sent.len().max(1) as u64) as usize;
            match next(10) {
                0 | 1 if sent.len() < 4 => {
                    let bytes: Vec<u8> =
                        (0..1 + next(200_000)).map(|n| (n * (seed + 7) + step) as u8).collect();
                    let named = format!("film {step}");
                    let new = upload(attic.home, &named, bytes.len());
                    let id = attic.engine.files().begin_upload(&attic.ines, new).await.unwrap().id;
                    sent.push(Sent { id, name: named, bytes, written: 0, confirmed: 0 });
                }
                // A part arrives: answered for, or broken off before that.
                kind @ 2..=6 if !sent.is_empty() => {
                    let one = &mut sent[at];
                    let left = one.bytes.len() - one.written;
                    let count = if next(3) == 0 { left } else { next(left as u64 + 1) as usize };
                    let mut part =
                        attic.engine.files().append(&attic.ines, &one.id, one.written as u64).await.unwrap();
                    part.write(&one.bytes[one.written..one.written + count]).unwrap();
                    one.written += count;
                    if kind == 6 {
                        drop(part);
                    } else {
                        assert_eq!(part.pause().await.unwrap() as usize, one.written);
                        one.confirmed = one.written;
                    }
                }
                // What does not fit is refused, and changes nothing.
                7 if !sent.is_empty() => {
                    let one = &sent[at];
                    let ahead =
                        attic.engine.files().append(&attic.ines, &one.id, one.written as u64 + 1).await.err();
                    assert!(matches!(ahead, Some(StoreError::WrongOffset { .. })), "{ahead:?}");
                    let mut part =
                        attic.engine.files().append(&attic.ines, &one.id, one.written as u64).await.unwrap();
                    let more = vec![0; one.bytes.len() - one.written + 1];
                    assert!(matches!(part.write(&more), Err(StoreError::MoreThanAnnounced(_))));
                    drop(part);
                    assert_eq!(
                        attic.engine.files().upload(&attic.ines, &one.id).await.unwrap().received as usize,
                        one.written
                    );
                }
                8 if !sent.is_empty() => {
                    let whole = sent[at].written == sent[at].bytes.len();
                    let put =
                        attic.engine.files().finish_upload(&attic.ines, &sent[at].id, None).await.unwrap();
                    assert_eq!(put.is_some(), whole);
                    if whole {
                        let one = sent.remove(at);
                        done.insert(one.name, one.bytes);
                    } else if next(4) == 0 {
                        let one = sent.remove(at);
                        attic.engine.files().end_upload(&attic.ines, &one.id).await.unwrap();
                        assert!(attic.engine.files().upload(&attic.ines, &one.id).await.is_err());
                    }
                }
                9 if step % 3 == 0 => {
                    crashes += 1;
                    check_after_crash(&attic, &sent).await;
                    attic = attic.reopen().await;
                    for one in &mut sent {
                        let there = attic.engine.files().upload(&attic.ines, &one.id).await.unwrap().received
                            as usize;
                        assert!((one.confirmed..=one.written).contains(&there));
                        (one.written, one.confirmed) = (there, there);
                    }
                }
                _ => {}
            }
        }
        attic.engine.settle().await.unwrap();
        let listed = attic.ls("").await;
        let wanted: Vec<String> = done.keys().cloned().collect();
        assert_eq!(
            listed.iter().cloned().collect::<std::collections::BTreeSet<_>>(),
            wanted.into_iter().collect()
        );
        for (path, bytes) in &done {
            assert!(attic.cat(path).await == *bytes, "{path}");
        }
        // What is unfinished can be found, and nothing else lies about.
        assert_eq!(attic.engine.files().uploads(&attic.ines).await.unwrap().len(), sent.len());
        finished += done.len();
        attic.engine.stop().await;
    }
    assert!(finished > 8 && crashes > 3, "{finished} finished, {crashes} crashes");
}

/// All beneath a folder: paths to bytes; folders end with a slash.
async fn tree(attic: &Attic, top: &str) -> BTreeMap<String, Vec<u8>> {
    let mut found = BTreeMap::new();
    let mut waiting = vec![top.to_string()];
    while let Some(folder) = waiting.pop() {
        for entry in attic.ls(&folder).await {
            let path = format!("{folder}/{entry}");
            let row = attic.find(&path).await.unwrap();
            if row.is_folder() {
                found.insert(format!("{path}/"), Vec::new());
                waiting.push(path);
            } else {
                let bytes = attic.bytes_of(&row).await;
                found.insert(path, bytes);
            }
        }
    }
    found
}

/// The paths at which two trees differ.
fn differing(one: &BTreeMap<String, Vec<u8>>, other: &BTreeMap<String, Vec<u8>>) -> Vec<String> {
    let all: std::collections::BTreeSet<&String> = one.keys().chain(other.keys()).collect();
    all.into_iter().filter(|path| one.get(*path) != other.get(*path)).cloned().collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rollback_to_any_moment_makes_what_was_there_then_and_taking_it_back_what_was_there_before() {
    let (rolled, partly) = rollbacks(0..12, 50).await;
    assert!(rolled > 2 * partly && rolled > 20, "{rolled} whole, {partly} in part");
}

/// The same where names are left and filled again, which makes other files of files: what stays otherwise is told.
#[tokio::test(flavor = "multi_thread")]
async fn a_rollback_over_names_that_were_left_and_filled_again_tells_all_that_stays_otherwise() {
    let (rolled, partly) = rollbacks(0..12, 6).await;
    assert!(rolled > partly && rolled > 15, "{rolled} whole, {partly} in part");
}

/// Days with so many names, rolled back now and then: how often wholly, how often in part.
async fn rollbacks(seeds: std::ops::Range<u64>, names: u64) -> (usize, usize) {
    let (mut rolled, mut partly) = (0, 0);
    for seed in seeds {
        let attic = Attic::new().await;
        let mut next = numbers(seed + 90);
        let top = attic.mkdir("top").await;
        let (mut folders, mut all): (Vec<NodeId>, Vec<NodeId>) = (vec![top], Vec::new());
        let mut known: Vec<(Moment, BTreeMap<String, Vec<u8>>)> = Vec::new();
        for step in 0..50 {
            let parent = folders[next(folders.len() as u64) as usize];
            let wanted = name(&format!("n{}", if names < 50 { next(names) } else { step }));
            let some = (!all.is_empty()).then(|| all[next(all.len() as u64) as usize]);
            let free = Conditions::default();
            match (next(8), some) {
                (0 | 1, _) => {
                    if let Ok(made) = attic.engine.files().make_folder(&attic.ines, parent, wanted).await {
                        let node = made.row.unwrap().node;
                        folders.push(node);
                        all.push(node);
                    }
                }
                (2..=4, _) => {
                    let staged = attic.engine.stage_small(format!("step {step}").into_bytes()).unwrap();
                    let now = attic.engine.now_ms();
                    // Something new, or another state of what is there.
                    let (to, called) = match some {
                        Some(node) if next(2) == 0 => {
                            match attic.engine.files().chain(&attic.ines, node, Level::View).await {
                                Ok(chain) if !chain[0].is_folder() => {
                                    (chain[0].parent.unwrap(), name(chain[0].name()))
                                }
                                _ => (parent, wanted),
                            }
                        }
                        _ => (parent, wanted),
                    };
                    if let Ok(made) =
                        attic.engine.files().put(&attic.ines, to, called, staged, now, free).await
                    {
                        all.push(made.row.unwrap().node);
                    }
                }
                (5, Some(node)) => {
                    let _ =
                        attic.engine.files().move_node(&attic.ines, node, parent, wanted, false, free).await;
                }
                (6, Some(node)) => {
                    let _ = attic.engine.files().remove(&attic.ines, node, free).await;
                }
                (7, Some(node)) => {
                    let _ = attic.engine.history().restore(&attic.ines, node, None, Place::Last).await;
                }
                _ => {}
            }
            attic.clock.advance(1000);
            if step % 5 == 4 {
                known.push((attic.engine.history().now_moment().await.unwrap(), tree(&attic, "top").await));
            }
            if step % 12 == 11 {
                let before = tree(&attic, "top").await;
                let (then, wanted) = known[next(known.len() as u64) as usize].clone();
                let Ok(begun) =
                    attic.engine.history().begin_rollback(&attic.ines, top, then, Begin::default()).await
                else {
                    continue;
                };
                let done = attic.engine.history().run_rollback(begun.id).await.unwrap();
                attic.engine.run_jobs().await.unwrap();
                assert_eq!(done.state, "done", "seed {seed} step {step}");
                // What stays otherwise is told by its name; nothing else does.
                let now = tree(&attic, "top").await;
                let told: Vec<&str> = done.left_alone.iter().map(|left| left.name.as_str()).collect();
                for path in differing(&now, &wanted) {
                    let known = path.split('/').any(|part| told.contains(&part));
                    assert!(
                        known,
                        "seed {seed} step {step}: {path} is otherwise, and only {told:?} are told"
                    );
                }
                if !told.is_empty() {
                    partly += 1;
                    continue;
                }
                let how = Begin { undoes: Some(begun.id), ..Begin::default() };
                let back =
                    attic.engine.history().begin_rollback(&attic.ines, top, begun.begun, how).await.unwrap();
                let back = attic.engine.history().run_rollback(back.id).await.unwrap();
                attic.engine.run_jobs().await.unwrap();
                if back.left_alone.is_empty() {
                    assert_eq!(tree(&attic, "top").await, before, "seed {seed} step {step}");
                } else {
                    partly += 1;
                }
                rolled += 1;
            }
        }
        attic.engine.settle().await.unwrap();
        attic.engine.stop().await;
    }
    (rolled, partly)
}

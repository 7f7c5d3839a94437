//! The disk is the truth: what hands did is taken up, and nothing that they did not do.

use crate::keeping::counted;
use crate::support::{Attic, name, on_disk};
use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::time::{Duration, SystemTime};
use yellow_attic_core::NodeId;
use yellow_attic_store::reconcile::Looking;
use yellow_attic_store::reconcile::report::Report;
use yellow_attic_store::{ChangeKind, ContentState};
use yellow_attic_trials::hands::Hands;
use yellow_attic_trials::numbers;

async fn reconcile(attic: &Attic, looking: Looking) -> Report {
    attic.engine.on_disk().reconcile(&looking).await.unwrap()
}

async fn taken_up(attic: &Attic) -> Report {
    reconcile(attic, Looking { take_up: true, ..Looking::default() }).await
}

/// All that the catalogue knows beneath the home: paths, with the bytes that are served for files.
pub async fn listed(attic: &Attic) -> BTreeMap<String, Option<Vec<u8>>> {
    let mut found = BTreeMap::new();
    let mut next = vec![(attic.home, String::new())];
    while let Some((folder, path)) = next.pop() {
        for row in attic.rows(folder).await {
            let path = format!("{path}{}", row.name());
            if row.is_folder() {
                next.push((row.node, format!("{path}/")));
                found.insert(path, None);
            } else {
                found.insert(path, Some(attic.bytes_of(&row).await));
            }
        }
    }
    found
}

/// The same of the disk.
pub fn lying(folder: &Path) -> BTreeMap<String, Option<Vec<u8>>> {
    let name = |path: &Path| path.strip_prefix(folder).unwrap().display().to_string();
    let all = yellow_attic_trials::hands::walk(folder);
    all.into_iter().map(|path| (name(&path), fs::read(&path).ok())).collect()
}

async fn agrees(attic: &Attic) {
    assert_eq!(listed(attic).await, lying(&attic.files()));
}

fn counts(report: &Report) -> [u64; 6] {
    [
        report.new_files.count,
        report.new_folders.count,
        report.changed.count,
        report.touched.count,
        report.moved.count,
        report.gone.count,
    ]
}

#[tokio::test(flavor = "multi_thread")]
async fn files_and_folders_laid_into_a_home_are_listed_and_read() {
    let attic = Attic::new().await;
    attic.put("known", b"1").await;
    attic.engine.settle().await.unwrap();
    let home = attic.files();
    fs::create_dir_all(home.join("old server/plans/east")).unwrap();
    fs::create_dir(home.join("old server/empty")).unwrap();
    for n in 0..300 {
        fs::write(home.join(format!("old server/plans/{n}.txt")), format!("plan {n}")).unwrap();
    }
    fs::write(home.join("old server/plans/east/tool"), b"#!/bin/sh\n").unwrap();
    fs::set_permissions(home.join("old server/plans/east/tool"), fs::Permissions::from_mode(0o755)).unwrap();
    std::os::unix::fs::symlink("/etc/passwd", home.join("link")).unwrap();
    fs::write(home.join("cafe\u{301}"), b"apart").unwrap();
    let before = listed(&attic).await;
    // Told first, and nothing is done by that.
    let plan = reconcile(&attic, Looking::default()).await;
    assert_eq!(counts(&plan), [301, 4, 0, 0, 0, 0], "{plan:#?}");
    assert_eq!(listed(&attic).await, before);
    let done = taken_up(&attic).await;
    assert_eq!(counts(&done), counts(&plan));
    assert_eq!((done.new_files.bytes, done.not_any_more), (plan.new_files.bytes, 0));
    let left = done.left_alone.names.join("\n");
    assert_eq!(done.left_alone.count, 2, "{left}");
    assert!(
        left.contains("home of ines:/link: it is neither") && left.contains("another form of Unicode"),
        "{left}"
    );
    let mut wanted = lying(&home);
    wanted.retain(|path, _| path != "link" && path != "cafe\u{301}");
    assert_eq!(listed(&attic).await, wanted);
    let tool = attic.find("old server/plans/east/tool").await.unwrap();
    assert_eq!((tool.how, tool.account, tool.executable), (ChangeKind::Found, None, true));
    assert_eq!(fs::read_link(home.join("link")).unwrap(), Path::new("/etc/passwd"));
    // A second look finds nothing, and what was found is as any other file.
    assert_eq!(taken_up(&attic).await.differences(), 0);
    attic.put("old server/plans/7.txt", b"new").await;
    attic.mv("old server/plans", "plans").await;
    attic.engine.settle().await.unwrap();
    assert_eq!(attic.cat("plans/7.txt").await, b"new");
    assert_eq!(taken_up(&attic).await.differences(), 0);
    fs::remove_file(home.join("link")).unwrap();
    fs::remove_file(home.join("cafe\u{301}")).unwrap();
    agrees(&attic).await;
    counted(attic).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_renamed_and_moved_by_hand_keeps_its_node_and_its_history() {
    let attic = Attic::new().await;
    for folder in ["a", "a/deep", "b"] {
        attic.mkdir(folder).await;
    }
    for (path, bytes) in [("a/one", "1"), ("a/deep/two", "2"), ("b/three", "3"), ("x", "x"), ("y", "y")] {
        attic.put(path, b"before").await;
        attic.put(path, bytes.as_bytes()).await;
    }
    attic.engine.settle().await.unwrap();
    let node = async |path: &str| attic.find(path).await.unwrap().node;
    let (one, two, three, deep) =
        (node("a/one").await, node("a/deep/two").await, node("b/three").await, node("a/deep").await);
    let (x, y) = (node("x").await, node("y").await);
    let home = attic.files();
    let mv = |from: &str, to: &str| fs::rename(home.join(from), home.join(to)).unwrap();
    fs::create_dir_all(home.join("new/er")).unwrap();
    mv("a/one", "new/er/uno");
    mv("a/deep", "b/deeper");
    mv("b/three", "b/deeper/drei");
    // Two that change places.
    mv("x", "tmp");
    mv("y", "x");
    mv("tmp", "y");
    let done = taken_up(&attic).await;
    assert_eq!(counts(&done), [0, 2, 0, 0, 5, 0], "{done:#?}");
    agrees(&attic).await;
    assert_eq!((node("new/er/uno").await, node("b/deeper").await), (one, deep));
    assert_eq!((node("b/deeper/two").await, node("b/deeper/drei").await), (two, three));
    assert_eq!((node("y").await, node("x").await), (x, y));
    for node in [one, two, three, x, y] {
        let states = attic.engine.history().states(&attic.ines, node, 10).await.unwrap();
        let mut all = Vec::new();
        for state in &states {
            all.push(attic.bytes_of(&state.row).await);
        }
        assert!(all.contains(&b"before".to_vec()), "{node}: {all:?}");
    }
    assert!(done.moved.names.iter().any(|n| n.ends_with("/a/one -> home of ines:/new/er/uno")), "{done:#?}");
    // A folder with much in it, at once, and a file on its way that was edited as well.
    mv("new", "newer");
    fs::write(home.join("newer/er/uno"), b"edited on the way").unwrap();
    let done = taken_up(&attic).await;
    assert_eq!(counts(&done), [0, 0, 1, 0, 1, 0], "{done:#?}");
    assert_eq!(node("newer/er/uno").await, one);
    agrees(&attic).await;
    counted(attic).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_edit_that_keeps_size_and_time_is_found_and_what_only_has_another_mode_is_not_one() {
    let attic = Attic::new().await;
    for file in ["kept", "edited", "replaced", "copied over"] {
        attic.put(file, b"same length").await;
    }
    attic.engine.settle().await.unwrap();
    let home = attic.files();
    let node = attic.find("edited").await.unwrap().node;
    for file in ["kept", "edited", "replaced"] {
        let path = home.join(file);
        let time = fs::metadata(&path).unwrap().modified().unwrap();
        match file {
            "kept" => fs::set_permissions(&path, fs::Permissions::from_mode(0o640)).unwrap(),
            "edited" => fs::write(&path, b"other bytes").unwrap(),
            _ => {
                fs::write(home.join("t"), b"other bytes").unwrap();
                fs::rename(home.join("t"), &path).unwrap();
            }
        }
        fs::File::options().write(true).open(&path).unwrap().set_modified(time).unwrap();
    }
    // The same bytes, as another object.
    fs::copy(home.join("copied over"), home.join("t")).unwrap();
    fs::rename(home.join("t"), home.join("copied over")).unwrap();
    let done = taken_up(&attic).await;
    assert_eq!(counts(&done), [0, 0, 2, 1, 0, 0], "{done:#?}");
    agrees(&attic).await;
    assert_eq!(attic.find("edited").await.unwrap().node, node);
    // What was looked into is not read again.
    let again = taken_up(&attic).await;
    assert_eq!((again.differences(), again.hashed), (0, 0), "{again:#?}");
    let all = reconcile(&attic, Looking { verify: true, ..Looking::default() }).await;
    assert_eq!((all.differences(), all.hashed), (0, 4));
    counted(attic).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_gone_is_gone_with_all_in_it_and_told_apart_from_what_somebody_removed() {
    let attic = Attic::new().await;
    for folder in ["a", "a/b", "keep"] {
        attic.mkdir(folder).await;
    }
    for n in 0..40 {
        attic.put(&format!("a/b/{n}"), format!("{n}").as_bytes()).await;
        attic.put(&format!("keep/{n}"), format!("{n}").as_bytes()).await;
    }
    attic.put("a/b/0", b"newer").await;
    attic.put("alone", b"1").await;
    attic.engine.settle().await.unwrap();
    let (zero, alone) = (attic.find("a/b/0").await.unwrap().node, attic.find("alone").await.unwrap().node);
    fs::remove_dir_all(attic.files().join("a")).unwrap();
    fs::remove_file(attic.files().join("alone")).unwrap();
    let done = taken_up(&attic).await;
    assert_eq!(counts(&done), [0, 0, 0, 0, 0, 2], "{done:#?}");
    assert_eq!(done.gone.bytes, attic_bytes());
    agrees(&attic).await;
    attic.engine.run_jobs().await.unwrap();
    let trash = attic.engine.history().trash(&attic.ines, attic.home, None, 100).await.unwrap();
    let names: Vec<_> = trash.items.iter().map(|removed| removed.past.row.name().to_string()).collect();
    assert!(names.iter().all(|name| !["a", "alone"].contains(&&**name)), "to be had back: {names:?}");
    // What was before is still there, and what is gone says so.
    let states = attic.engine.history().states(&attic.ines, zero, 10).await.unwrap();
    let held: Vec<_> = states.iter().map(|s| s.row.content.map(|c| c.life)).collect();
    assert!(held.contains(&Some(ContentState::Past)) && held.contains(&Some(ContentState::Gone)), "{held:?}");
    // Laid back within the minute, it goes on as what it was.
    fs::write(attic.files().join("alone"), b"back").unwrap();
    taken_up(&attic).await;
    assert_eq!(attic.find("alone").await.unwrap().node, alone);
    let record = attic.engine.people().recorded(None, 50).await.unwrap();
    let actions = format!("{record:?}");
    assert!(actions.contains("gone from the disk"), "{actions}");
    counted(attic).await;
}

/// Bytes in the folder `a`, and beside it.
fn attic_bytes() -> u64 {
    let numbers: u64 = (1..40).map(|n| n.to_string().len() as u64).sum();
    numbers + "newer".len() as u64 + 1
}

#[tokio::test(flavor = "multi_thread")]
async fn much_that_is_gone_is_asked_about_and_nothing_is_believed_of_a_root_that_is_missing() {
    let attic = Attic::new().await;
    attic.mkdir("films").await;
    for n in 0..150 {
        attic.put(&format!("films/{n}"), format!("{n}").as_bytes()).await;
    }
    attic.put("new", b"1").await;
    attic.engine.settle().await.unwrap();
    let before = listed(&attic).await.len();
    fs::remove_dir_all(attic.files().join("films")).unwrap();
    let done = taken_up(&attic).await;
    let [asks] = &done.asks[..] else { panic!("{done:#?}") };
    assert_eq!((asks.shelf.as_str(), asks.gone, asks.of), ("ines", 150, 151));
    assert!(attic.find("films/7").await.is_ok(), "taken away without asking");
    let done = reconcile(&attic, Looking { take_up: true, accept_gone: true, ..Looking::default() }).await;
    assert_eq!((done.gone.count, done.asks.len()), (1, 1));
    assert!(attic.find("films").await.is_err());
    agrees(&attic).await;
    // The shelf's own folder is away: its disk is not mounted, or somebody renamed it.
    let (home, aside) = (attic.files(), attic.data().join("aside"));
    fs::rename(&home, &aside).unwrap();
    let attic = attic.reopen().await;
    let done = reconcile(&attic, Looking { take_up: true, accept_gone: true, ..Looking::default() }).await;
    assert_eq!((done.gone.count, done.unreadable.count), (0, 1), "{done:#?}");
    assert!(attic.find("new").await.is_ok());
    fs::rename(&aside, &home).unwrap();
    let attic = attic.reopen().await;
    assert_eq!(taken_up(&attic).await.differences(), 0);
    assert!(before > 150);
    counted(attic).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_became_a_folder_and_a_hard_link_are_taken_for_what_they_are() {
    let attic = Attic::new().await;
    attic.put("doc", b"a file").await;
    attic.put("linked", b"twice").await;
    attic.mkdir("folder").await;
    attic.put("folder/in", b"1").await;
    attic.engine.settle().await.unwrap();
    let home = attic.files();
    fs::remove_file(home.join("doc")).unwrap();
    fs::create_dir(home.join("doc")).unwrap();
    fs::write(home.join("doc/inside"), b"2").unwrap();
    fs::remove_dir_all(home.join("folder")).unwrap();
    fs::write(home.join("folder"), b"a file now").unwrap();
    fs::hard_link(home.join("linked"), home.join("again")).unwrap();
    taken_up(&attic).await;
    // What stood at the name had to leave it first.
    taken_up(&attic).await;
    agrees(&attic).await;
    assert_eq!(taken_up(&attic).await.differences(), 0);
    attic.put("linked", b"other").await;
    attic.engine.settle().await.unwrap();
    assert_eq!((attic.cat("linked").await, attic.cat("again").await), (b"other".to_vec(), b"twice".to_vec()));
    counted(attic).await;
}

async fn round(seed: u64) {
    let mut chance = numbers(seed);
    let mut attic = Attic::new().await;
    let mut hands = Hands::new(&attic.files(), numbers(seed ^ 0x7a5e));
    let mut log = Vec::new();
    let mut put = BTreeMap::new();
    for n in 0..40 {
        for _ in 0..chance(4) {
            attic.engine.settle().await.unwrap();
            log.push(format!("{:?}", hands.act()).chars().take(140).collect::<String>());
        }
        let place = ["a", "b", "c", "d", "a/a", "a/b", "b/c"][chance(7) as usize];
        let above = place.rsplit_once('/').map_or("", |(above, _)| above);
        match chance(6) {
            0..=2 => {
                if let Ok(row) = attic.find(above).await
                    && row.is_folder()
                {
                    let bytes = format!("by call {seed} {n}").into_bytes();
                    let staged = attic.engine.stage_small(bytes.clone()).unwrap();
                    let last = name(place.rsplit('/').next().unwrap());
                    let files = attic.engine.files();
                    let done = files.put(&attic.ines, row.node, last, staged, 5, Default::default()).await;
                    log.push(format!("put {place} {}", done.is_ok()));
                    if done.is_ok() {
                        put.insert(bytes, place);
                    }
                }
            }
            3 => {
                if let Ok(row) = attic.find(place).await {
                    let done = attic.engine.files().remove(&attic.ines, row.node, Default::default()).await;
                    log.push(format!("remove {place} {}", done.is_ok()));
                }
            }
            4 => log.push(format!("move {place} {}", attic.mv_if(place, "b/a").await.is_ok())),
            _ if chance(3) == 0 => attic = attic.reopen().await,
            _ => {}
        }
        if chance(4) == 0 {
            let done =
                reconcile(&attic, Looking { take_up: true, accept_gone: true, ..Looking::default() }).await;
            log.push(format!("reconciled {:?}", counts(&done)));
        }
        if n % 10 == 9 {
            attic.engine.run_jobs().await.unwrap();
        }
    }
    // What stood in the way of something is taken apart a minute later.
    attic.clock.advance(120_000);
    attic.engine.settle().await.unwrap();
    attic.engine.run_jobs().await.unwrap();
    let looking = Looking { take_up: true, accept_gone: true, ..Looking::default() };
    // One look finds what there is; what stands in the way of something else leaves in it, and the next one takes that up.
    let mut looks = 0;
    while reconcile(&attic, looking.clone()).await.differences() > 0 {
        looks += 1;
        assert!(looks < 4, "seed {seed}: it comes to no rest\n{log:#?}");
    }
    assert_eq!(listed(&attic).await, lying(&attic.files()), "seed {seed}\n{log:#?}");
    let verified = reconcile(&attic, Looking { verify: true, ..Looking::default() }).await;
    assert_eq!(verified.differences(), 0, "seed {seed}: {verified:#?}");
    attic.engine.run_jobs().await.unwrap();
    assert_eq!(attic.engine.people().check_record().await.unwrap().broken, None);
    attic.clock.advance(120_000);
    eprintln!("seed {seed}");
    counted(attic).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn after_hands_and_calls_at_random_the_catalogue_is_what_lies_on_the_disk() {
    // 40 rounds; more by YATTIC_HANDS_ROUNDS.
    let count = std::env::var("YATTIC_HANDS_ROUNDS").ok().and_then(|n| n.parse().ok()).unwrap_or(40);
    for seed in 1..=count {
        round(seed).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn beside_others_who_write_a_look_takes_up_nothing_that_no_hand_did() {
    let attic = Attic::new().await;
    attic.mkdir("busy").await;
    let busy = attic.find("busy").await.unwrap().node;
    let writing = {
        let (engine, ines) = (attic.engine.clone(), attic.ines.clone());
        tokio::spawn(async move {
            let mut nodes: Vec<NodeId> = Vec::new();
            for n in 0..600u32 {
                let staged = engine.stage_small(format!("{n}").into_bytes()).unwrap();
                let last = name(&format!("f{}", n % 40));
                let done =
                    engine.files().put(&ines, busy, last, staged, 5, Default::default()).await.unwrap();
                nodes.push(done.row.unwrap().node);
                if n % 3 == 0 {
                    let to = name(&format!("m{}", n % 50));
                    let _ = engine
                        .files()
                        .move_node(&ines, nodes[n as usize], busy, to, true, Default::default())
                        .await;
                }
                if n % 7 == 0 {
                    let _ = engine.files().remove(&ines, nodes[n as usize / 2], Default::default()).await;
                }
            }
        })
    };
    let began = SystemTime::now();
    let mut looks = 0;
    while !writing.is_finished() {
        let done = taken_up(&attic).await;
        assert_eq!(done.differences(), 0, "{done:#?}");
        looks += 1;
        assert!(began.elapsed().unwrap() < Duration::from_secs(90));
    }
    writing.await.unwrap();
    assert!(looks > 3, "{looks}");
    attic.engine.settle().await.unwrap();
    agrees(&attic).await;
    assert!(on_disk(&attic.files()).len() > 10);
    counted(attic).await;
}

//! The promise about writes, by stopping the thing: SIGKILL under load, and power cuts.

use crate::support::{PATIENCE, Service};
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use yellow_attic_client::{Body, Client, NewUpload, When, api};
use yellow_attic_store::{Engine, Options};
use yellow_attic_trials::disk::{Image, Kind};

/// What was answered: the name of a file to the bytes that it must have, or `None` if it was removed.
type Answered = Arc<Mutex<BTreeMap<String, Option<Vec<u8>>>>>;
/// What was asked and not answered: either state may be found.
type Open = Arc<Mutex<BTreeMap<String, Option<Vec<u8>>>>>;

/// Puts, replaces, renames and removes files until the service is gone. Each worker has its own names.
async fn load(
    client: Client,
    worker: usize,
    round: usize,
    answered: Answered,
    open: Open,
    stop: Arc<AtomicBool>,
) {
    let Ok(home) = client.place("home:/", None).await else { return };
    let mut ids = BTreeMap::new();
    for n in 0.. {
        if stop.load(Ordering::SeqCst) {
            return;
        }
        let name = format!("w{worker} r{round} f{}", n % 7);
        let bytes = format!("{worker} {round} {n} ").repeat(1 + (n * 131) % 3000).into_bytes();
        let known = ids.get(&name).copied();
        let (key, wanted, done) = match (n % 5, known) {
            (3, Some(id)) => {
                let to = format!("{name} moved {n}");
                // Both names are open until the answer is there.
                let was = answered.lock().unwrap().get(&name).cloned().flatten();
                open.lock().unwrap().insert(name.clone(), None);
                open.lock().unwrap().insert(to.clone(), was.clone());
                let target = api::Target { name: Some(to.clone()), ..Default::default() };
                let done = client.change(id, &target).await.is_ok();
                if done {
                    answered.lock().unwrap().insert(name.clone(), None);
                    open.lock().unwrap().remove(&name);
                    ids.remove(&name);
                }
                (to, was, done)
            }
            (4, Some(id)) => {
                open.lock().unwrap().insert(name.clone(), None);
                let done = client.remove(id).await.is_ok();
                ids.remove(&name);
                (name, None, done)
            }
            _ => {
                open.lock().unwrap().insert(name.clone(), Some(bytes.clone()));
                let put = client.put(home.node.id, &name, None, &When::default(), bytes.clone().into()).await;
                if let Ok(node) = &put {
                    ids.insert(name.clone(), node.id);
                }
                (name, Some(bytes), put.is_ok())
            }
        };
        if !done {
            return;
        }
        answered.lock().unwrap().insert(key.clone(), wanted);
        open.lock().unwrap().remove(&key);
    }
}

/// All that was answered is there, and nothing else is.
async fn check(service: &Service, answered: &Answered, open: &Open, round: usize) {
    let client = service.client().await;
    let home = client.place("home:/", None).await.unwrap().node;
    let mut there = BTreeMap::new();
    for entry in client.all_entries(home.id, &Default::default()).await.unwrap() {
        there.insert(entry.name.clone(), entry);
    }
    let (mut answered, open) = (answered.lock().unwrap().clone(), open.lock().unwrap().clone());
    for (name, entry) in &there {
        let mut stream = std::pin::pin!(client.content(entry.id, None, 0).await.unwrap());
        let mut bytes = Vec::new();
        while let Some(piece) = futures_util::StreamExt::next(&mut stream).await {
            bytes.extend_from_slice(&piece.unwrap());
        }
        let wanted = answered.remove(name).flatten();
        let maybe = open.get(name).cloned().flatten();
        assert!(
            Some(&bytes) == wanted.as_ref() || Some(&bytes) == maybe.as_ref(),
            "round {round}: \"{name}\" has {} bytes that were neither answered ({:?}) nor asked ({:?})",
            bytes.len(),
            wanted.map(|w| w.len()),
            maybe.map(|m| m.len()),
        );
    }
    for (name, wanted) in answered {
        let may_be_gone = open.get(&name).is_some_and(Option::is_none);
        assert!(wanted.is_none() || may_be_gone, "round {round}: \"{name}\" was answered and is gone");
    }
}

async fn rounds(data: &Path, rounds: usize, cut: &dyn Fn(&mut Service)) {
    let (answered, open) = (Answered::default(), Open::default());
    let mut service = Service::start_in(data);
    if service.set_up_code.is_some() {
        service.set_up().await;
    }
    for round in 0..rounds {
        let stop = Arc::new(AtomicBool::new(false));
        let client = service.client().await;
        let workers: Vec<_> = (0..6)
            .map(|w| {
                tokio::spawn(load(client.clone(), w, round, answered.clone(), open.clone(), stop.clone()))
            })
            .collect();
        // Somewhere under load, differently each round.
        tokio::time::sleep(Duration::from_millis(20 + (round as u64 * 37) % 160)).await;
        cut(&mut service);
        stop.store(true, Ordering::SeqCst);
        for worker in workers {
            worker.await.unwrap();
        }
        drop(service);
        service = Service::start_in(data);
        check(&service, &answered, &open, round).await;
        // What was unknown is known now: take it as it is.
        let client = service.client().await;
        let home = client.place("home:/", None).await.unwrap().node;
        let names: Vec<_> = client.all_entries(home.id, &Default::default()).await.unwrap();
        for node in names {
            client.remove(node.id).await.unwrap();
        }
        answered.lock().unwrap().clear();
        open.lock().unwrap().clear();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn killed_under_load_all_that_was_answered_is_there() {
    // 200 rounds; more by YATTIC_KILL_ROUNDS.
    let count = std::env::var("YATTIC_KILL_ROUNDS").ok().and_then(|n| n.parse().ok()).unwrap_or(200);
    let dir = tempfile::tempdir().unwrap();
    rounds(&dir.path().join("data"), count, &|service| {
        service.child.kill().unwrap();
        service.child.wait().unwrap();
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn stopped_in_peace_under_load_all_that_was_answered_is_there() {
    let dir = tempfile::tempdir().unwrap();
    rounds(&dir.path().join("data"), 8, &|service| {
        std::process::Command::new("kill").arg(service.child.id().to_string()).status().unwrap();
        let ended = service.child.wait().unwrap();
        assert!(ended.success(), "{ended}");
    })
    .await;
}

/// Cuts the power of a disk with a cache of its own, under each file system on which the promise holds.
async fn nested(kind: Kind) {
    // 5 rounds; more by YATTIC_NESTED_ROUNDS.
    let count = std::env::var("YATTIC_NESTED_ROUNDS").ok().and_then(|n| n.parse().ok()).unwrap_or(5);
    let disk = Image::nested(kind, 512);
    rounds(&disk.at.join("data"), count, &|service| {
        disk.cut_power_under(&service.child);
        service.child.kill().unwrap();
        service.child.wait().unwrap();
        disk.mount_again();
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn power_cuts_with_a_disk_that_caches_lose_nothing_on_ext4_in_its_modes() {
    for kind in [Kind::Ext4, Kind::Ext4Writeback, Kind::Ext4DataJournal, Kind::Ext4FastCommit] {
        eprintln!("{kind:?}");
        nested(kind).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn power_cuts_with_a_disk_that_caches_lose_nothing_on_xfs() {
    nested(Kind::Xfs).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn power_cuts_with_a_disk_that_caches_lose_nothing_on_btrfs() {
    nested(Kind::Btrfs).await;
}

/// The bytes of a large file: no two places of it are alike.
fn film(mib: u64) -> Vec<u8> {
    let mut bytes = vec![0; (mib << 20) as usize];
    blake3::Hasher::new().update(b"film").finalize_xof().fill(&mut bytes);
    bytes
}

#[tokio::test(flavor = "multi_thread")]
async fn an_upload_in_parts_goes_on_after_a_power_cut_with_its_own_bytes() {
    let disk = Image::nested(Kind::Ext4Writeback, 768);
    let data = disk.at.join("data");
    let mut service = Service::start_in(&data);
    service.set_up().await;
    let bytes = film(72);
    for round in 0..4u64 {
        let client = service.client().await;
        let home = client.place("home:/", None).await.unwrap().node.id;
        let name = format!("film {round}");
        let new = NewUpload {
            parent: home,
            name: name.clone(),
            size: bytes.len() as u64,
            modified: None,
            blake3: None,
            only_kept: false,
        };
        let id = client.begin_upload(&new).await.unwrap();
        let answered = client.append(&id, 0, bytes[..3 << 20].to_vec().into()).await.unwrap();
        assert_eq!(answered, 3 << 20);
        // The next part is under way when the power goes.
        let sending = {
            let (client, id) = (client.clone(), id.clone());
            let pieces: Vec<_> =
                bytes[3 << 20..].chunks(1 << 18).map(|p| Ok(bytes::Bytes::copy_from_slice(p))).collect();
            tokio::spawn(async move {
                let slow = futures_util::StreamExt::then(futures_util::stream::iter(pieces), |p| async {
                    tokio::time::sleep(Duration::from_millis(6)).await;
                    p
                });
                client.append(&id, 3 << 20, Body::stream(None, slow)).await
            })
        };
        tokio::time::sleep(Duration::from_millis(150 + round * 170)).await;
        disk.cut_power_under(&service.child);
        service.child.kill().unwrap();
        service.child.wait().unwrap();
        disk.mount_again();
        let _ = sending.await;
        drop(service);
        service = Service::start_in(&data);
        let client = service.client().await;
        let from = client.upload_offset(&id).await.unwrap();
        assert!((3 << 20..bytes.len() as u64).contains(&from), "{from}");
        let upto = client.append(&id, from, bytes[from as usize..].to_vec().into()).await.unwrap();
        assert_eq!(upto, bytes.len() as u64);
        let node = client.place(&format!("home:/{name}"), None).await.unwrap().node;
        assert!(content(&client, node.id, None).await == bytes, "round {round}: other bytes, from {from} on");
        client.remove(node.id).await.unwrap();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_commit_whose_sync_failed_once_never_comes_back_without_its_bytes() {
    let dir = tempfile::tempdir().unwrap();
    let (library, flag) = (yellow_attic_trials::sync_errors::library(dir.path()), dir.path().join("fail"));
    let data = dir.path().join("data");
    let set = [("LD_PRELOAD", library.to_str().unwrap()), ("FAIL_SYNC", flag.to_str().unwrap())];
    let mut service = Service::start_in(&data);
    service.set_up().await;
    for round in 0..6u32 {
        drop(service);
        service = Service::start_set(&data, &[], &set);
        let client = service.client().await;
        let home = client.place("home:/", None).await.unwrap().node.id;
        let body = |text: &str| format!("{text} {round}").into_bytes();
        client.put(home, "before", None, &When::default(), body("before").into()).await.unwrap();
        std::fs::write(&flag, b"").unwrap();
        let failed = client.put(home, "failed", None, &When::default(), body("failed").into()).await;
        assert!(!flag.exists(), "no sync was asked for");
        let mut answered = vec!["before"];
        if failed.is_ok() {
            answered.push("failed");
        }
        if round % 2 == 0 {
            // It goes on by itself.
            client.put(home, "after", None, &When::default(), body("after").into()).await.unwrap();
            answered.push("after");
        }
        service = service.killed_and_started_again();
        let client = service.client().await;
        for node in client.all_entries(home, &Default::default()).await.unwrap() {
            let found = content(&client, node.id, None).await;
            let text = String::from_utf8(found).unwrap();
            assert!(text.starts_with(&node.name), "{text}");
            if answered.contains(&&*node.name) {
                assert_eq!(text.into_bytes(), body(&node.name), "round {round}");
                answered.retain(|name| *name != node.name);
            }
        }
        assert!(answered.is_empty(), "round {round}: {answered:?} is gone");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn after_a_power_cut_on_ext4_all_that_was_answered_is_there() {
    let disk = Image::make(Kind::Ext4, 768);
    let count = std::env::var("YATTIC_POWER_ROUNDS").ok().and_then(|n| n.parse().ok()).unwrap_or(20);
    let data = disk.at.join("data");
    rounds(&data, count, &|service| {
        // The file system stops at this instant: what was not synced is lost, journal and all.
        disk.cut_power_under(&service.child);
        service.child.kill().unwrap();
        service.child.wait().unwrap();
        disk.mount_again();
    })
    .await;
}

/// Bytes that packing cuts into chunks, the same for the same numbers.
fn large(n: u64, version: u64) -> Vec<u8> {
    let mut bytes = vec![0; 1_500_000];
    blake3::Hasher::new().update(&n.to_le_bytes()).finalize_xof().fill(&mut bytes);
    let at = 10_000 + (version as usize * 77_777) % 1_400_000;
    blake3::Hasher::new().update(&version.to_le_bytes()).finalize_xof().fill(&mut bytes[at..at + 9_000]);
    bytes
}

pub async fn content(client: &Client, node: i64, at: Option<&str>) -> Vec<u8> {
    let mut stream = std::pin::pin!(client.content(node, at, 0).await.unwrap());
    let mut bytes = Vec::new();
    while let Some(piece) = futures_util::StreamExt::next(&mut stream).await {
        bytes.extend_from_slice(&piece.unwrap());
    }
    bytes
}

/// Versions that are packed, let go and rolled back while the service is stopped again and again: every state
/// that is said to be held gives its bytes, a rollback that was begun comes to its end by itself, and at last
/// every sum agrees with the disk to the byte.
async fn past_rounds(data: &Path, rounds: usize, cut: &dyn Fn(&mut Service)) {
    const FILES: u64 = 4;
    let mut service = Service::start_in(data);
    if service.set_up_code.is_some() {
        service.set_up().await;
    }
    // What each number of a file holds: by the moment since which it was.
    let mut held: BTreeMap<(i64, String), Vec<u8>> = BTreeMap::new();
    let mut version = 0;
    for round in 0..rounds {
        let client = service.client().await;
        let home = client.place("home:/", None).await.unwrap().node.id;
        let mut moments = Vec::new();
        for n in 0..FILES {
            let bytes = large(n, version);
            let name = format!("log-{n}.bin");
            let node = client.put(home, &name, None, &When::default(), bytes.clone().into()).await.unwrap();
            moments.push(node.moment.clone());
            held.insert((node.id, node.moment), bytes);
            version += 1;
        }
        // Something that goes to the trash and is let go for good while the rest is packed.
        let gone = client.put(home, "gone.bin", None, &When::default(), large(90 + version, 0).into()).await;
        let gone = gone.unwrap().id;
        client.remove(gone).await.unwrap();
        let back = match round % 3 {
            // A rollback to the version before, or one that takes things back that were removed.
            1 | 2 if round > 0 => {
                let states = client.history(home).await.unwrap().states;
                assert!(!states.is_empty());
                let to = held.keys().rev().nth(1).map(|(_, m)| m.clone()).unwrap_or(moments[0].clone());
                let new = api::NewRollback { to, token: None, keep: vec![] };
                client.begin_rollback(home, &new).await.ok().map(|r| r.id)
            }
            _ => None,
        };
        let letting = {
            let client = client.clone();
            tokio::spawn(async move {
                let what = api::LetGo { nodes: vec![gone], ..Default::default() };
                let _ = client.let_go(&what).await;
            })
        };
        tokio::time::sleep(Duration::from_millis(5 + (round as u64 * 53) % 240)).await;
        cut(&mut service);
        let _ = letting.await;
        drop(service);
        service = Service::start_in(data);
        let client = service.client().await;
        if let Some(id) = back {
            // It goes on by itself.
            let mut now = client.rollback(id).await.unwrap();
            let begun = std::time::Instant::now();
            while begun.elapsed() < PATIENCE && now.state == "running" {
                tokio::time::sleep(Duration::from_millis(20)).await;
                now = client.rollback(id).await.unwrap();
            }
            assert_eq!(now.state, "done", "round {round}: {now:?}");
        }
        for ((node, moment), bytes) in &held {
            let found = content(&client, *node, Some(moment)).await;
            assert!(found == *bytes, "round {round}: the state {moment} of {node} has other bytes");
        }
        for state in client.history(gone).await.map(|h| h.states).unwrap_or_default() {
            if state.node.held != Some(false) && state.node.size > 0 {
                assert_eq!(content(&client, gone, Some(&state.node.moment)).await.len(), 1_500_000);
            }
        }
    }
    // Stopped in peace, so that nothing is under way: everything is counted once more.
    std::process::Command::new("kill").arg(service.child.id().to_string()).status().unwrap();
    service.child.wait().unwrap();
    // What was being packed when it stopped is packed now.
    let engine = Engine::open(Options::new(data)).await.unwrap();
    while engine.is_packing() {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    engine.settle().await.unwrap();
    engine.stop().await;
    let found = yellow_attic_store::timeline::space::recount(data).await.unwrap();
    assert!(found.differs.is_empty() && found.live == found.live_on_disk, "{found:#?}");
    assert_eq!((found.whole.0, found.packs.0), (found.whole.1, found.packs.1), "{found:#?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn killed_while_packing_letting_go_and_rolling_back_no_state_that_is_held_is_lost() {
    let count = std::env::var("YATTIC_KILL_ROUNDS").ok().and_then(|n| n.parse().ok()).unwrap_or(24);
    let dir = tempfile::tempdir().unwrap();
    past_rounds(&dir.path().join("data"), count, &|service| {
        service.child.kill().unwrap();
        service.child.wait().unwrap();
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn after_power_cuts_while_packing_letting_go_and_rolling_back_no_state_that_is_held_is_lost() {
    let disk = Image::make(Kind::Ext4, 768);
    let data = disk.at.join("data");
    past_rounds(&data, 8, &|service| {
        disk.cut_power_under(&service.child);
        service.child.kill().unwrap();
        service.child.wait().unwrap();
        disk.mount_again();
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn stopped_in_peace_and_then_without_power_all_that_was_answered_is_there() {
    for kind in [Kind::Ext4, Kind::Xfs] {
        let disk = Image::nested(kind, 512);
        rounds(&disk.at.join("data"), 4, &|service| {
            std::process::Command::new("kill").arg(service.child.id().to_string()).status().unwrap();
            assert!(service.child.wait().unwrap().success());
            disk.cut_power();
            disk.mount_again();
        })
        .await;
    }
}

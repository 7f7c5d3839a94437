//! The promise about writes, by stopping the thing: SIGKILL under load, and power cuts.

use crate::support::Service;
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use yellow_attic_client::{Client, When, api};
use yellow_attic_store::{Engine, Options};

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
            "round {round}: \"{name}\" has {} bytes that were neither answered nor asked",
            bytes.len()
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

#[tokio::test(flavor = "multi_thread")]
async fn after_a_power_cut_on_ext4_all_that_was_answered_is_there() {
    let disk = crate::disks::Ext4::make(768);
    let count = std::env::var("YATTIC_POWER_ROUNDS").ok().and_then(|n| n.parse().ok()).unwrap_or(20);
    let data = disk.at.join("data");
    rounds(&data, count, &|service| {
        // The file system stops at this instant: what was not synced is lost, journal and all.
        disk.cut_power();
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

async fn content(client: &Client, node: i64, at: Option<&str>) -> Vec<u8> {
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
            for _ in 0..500 {
                if now.state != "running" {
                    break;
                }
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
    let found = yellow_attic_store::space::recount(data).await.unwrap();
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
    let disk = crate::disks::Ext4::make(768);
    let data = disk.at.join("data");
    past_rounds(&data, 8, &|service| {
        disk.cut_power();
        service.child.kill().unwrap();
        service.child.wait().unwrap();
        disk.mount_again();
    })
    .await;
}

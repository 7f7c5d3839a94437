//! Hands on the disk at random, beside calls, crashes and restarts.
//!
//! What a hand or a call last left in a living place is there; whatever the engine replaced, moved or removed is in the
//! past; nothing that is not ours is moved; and no shelf's trouble stops another's.

use crate::support::{Attic, START, actor, name, on_disk};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use yellow_attic_core::conditions::Conditions;
use yellow_attic_store::people::accounts::Role;
use yellow_attic_store::{Actor, StoreError};
use yellow_attic_trials::hands::{Deed, Hands, walk};
use yellow_attic_trials::numbers;

/// Who touched a place last, and what must be there.
#[derive(Default)]
struct Ledger {
    /// Bytes that must be somewhere: in a living place, or in the past.
    owed: BTreeMap<Vec<u8>, String>,
    /// Files that a hand made and no call has touched since, nor a folder above them.
    theirs: BTreeMap<PathBuf, Vec<u8>>,
}

impl Ledger {
    /// What was in a file is gone, by hand.
    fn lose(&mut self, bytes: Option<Vec<u8>>) {
        bytes.map(|bytes| self.owed.remove(&bytes));
    }

    fn hand(&mut self, deed: &Deed, before: &BTreeMap<PathBuf, Vec<u8>>) {
        match deed {
            Deed::Made(at, bytes) => {
                self.owed.insert(bytes.clone(), format!("{deed:?}"));
                self.theirs.insert(at.clone(), bytes.clone());
            }
            Deed::Edited(at, bytes) | Deed::Replaced(at, bytes) => {
                self.lose(before.get(at).cloned());
                self.owed.insert(bytes.clone(), format!("{at:?} by hand"));
                if self.theirs.contains_key(at) {
                    self.theirs.insert(at.clone(), bytes.clone());
                }
            }
            Deed::Renamed(from, to) => {
                let moved: Vec<_> = self
                    .theirs
                    .iter()
                    .filter(|(p, _)| p.starts_with(from))
                    .map(|(p, b)| (p.clone(), b.clone()))
                    .collect();
                for (path, bytes) in moved {
                    self.theirs.remove(&path);
                    let rest = path.strip_prefix(from).unwrap();
                    let path = if rest.as_os_str().is_empty() { to.clone() } else { to.join(rest) };
                    self.theirs.insert(path, bytes);
                }
            }
            Deed::Removed(at) => {
                for (path, bytes) in before.iter().filter(|(p, _)| p.starts_with(at)) {
                    self.owed.remove(bytes);
                    self.theirs.remove(path);
                }
            }
            Deed::Folder(_) | Deed::Nothing => {}
        }
    }

    /// A call concerns a place and all beneath it.
    fn called(&mut self, at: &Path) {
        self.theirs.retain(|path, _| !path.starts_with(at) && !at.starts_with(path));
    }
}

fn files(folder: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    walk(folder).into_iter().filter_map(|p| Some((p.clone(), std::fs::read(&p).ok()?))).collect()
}

async fn round(seed: u64, steps: usize) {
    let mut chance = numbers(seed);
    let attic = Attic::new().await;
    let tomas = attic
        .engine
        .people()
        .make_account(&Actor::service(), "tomas", "Tomas", Role::Member, "x")
        .await
        .unwrap();
    let (his, tomas) = (attic.engine.home_of(tomas.id).unwrap().root, actor(tomas.id, "tomas"));
    let mut attic = attic;
    let mut ledger = Ledger::default();
    let mut hands = Hands::new(&attic.files(), numbers(seed ^ 0x5eed));
    let mut log = Vec::new();
    for n in 0..steps {
        // The hand acts on a disk that is in step, and on one that is not: then only that nothing is lost is asked.
        if chance(2) == 0 {
            let _ = attic.engine.settle().await;
        }
        let before = files(&attic.files());
        let in_step = attic.engine.owed() == 0;
        if in_step {
            let deed = hands.act();
            ledger.hand(&deed, &before);
            log.push(format!("{deed:?}").chars().take(120).collect::<String>());
        }
        let place = ["a", "b", "c", "d", "a/a", "a/b", "b/c"][chance(7) as usize];
        let on = attic.files().join(place);
        let done = match chance(9) {
            0..=3 => {
                let bytes = format!("by call {seed} {n} ").repeat(1 + chance(30) as usize).into_bytes();
                match attic.find(place.rsplit_once('/').map_or("", |p| p.0)).await {
                    Ok(row) if row.is_folder() => {
                        let staged = attic.engine.stage_small(bytes.clone()).unwrap();
                        let last = name(place.rsplit('/').next().unwrap());
                        let put = attic
                            .engine
                            .files()
                            .put(&attic.ines, row.node, last, staged, START, Conditions::default())
                            .await;
                        if put.is_ok() {
                            ledger.owed.insert(bytes, format!("put {place}"));
                        }
                        put.map(|_| "put")
                    }
                    _ => Ok("nothing"),
                }
            }
            4 => match attic.find(place.rsplit_once('/').map_or("", |p| p.0)).await {
                Ok(row) if row.is_folder() => {
                    let last = name(place.rsplit('/').next().unwrap());
                    attic.engine.files().make_folder(&attic.ines, row.node, last).await.map(|_| "mkdir")
                }
                _ => Ok("nothing"),
            },
            5 => match attic.find(place).await {
                Ok(row) => attic
                    .engine
                    .files()
                    .remove(&attic.ines, row.node, Conditions::default())
                    .await
                    .map(|_| "remove"),
                Err(_) => Ok("nothing"),
            },
            6 => {
                let to = ["c", "d", "b/a"][chance(3) as usize];
                ledger.called(&attic.files().join(to));
                match attic.mv_if(place, to).await {
                    Ok(_) => Ok("move"),
                    Err(StoreError::NotFound(_)) => Ok("nothing"),
                    Err(e) => Err(e),
                }
            }
            7 => match attic.find(place).await {
                Ok(row) if !row.is_folder() => attic.engine.files().open_bytes(&row).await.map(|_| "read"),
                _ => Ok("nothing"),
            },
            _ => {
                // A stop, or a crash whose data folder is the same: the process ends with marks open.
                attic = attic.reopen().await;
                Ok("restart")
            }
        };
        log.push(format!("{n}: {place} {done:?}"));
        if !matches!(done, Ok("restart" | "nothing" | "read")) {
            ledger.called(&on);
        }
        // Whatever befalls one home, the other takes files.
        let staged = attic.engine.stage_small(vec![n as u8; 10]).unwrap();
        let other =
            attic.engine.files().put(&tomas, his, name("doc"), staged, START, Conditions::default()).await;
        assert!(other.is_ok(), "seed {seed}: {other:?}\n{log:#?}");
        if n % 10 == 9 {
            attic.engine.run_jobs().await.unwrap();
        }
    }
    attic.engine.settle().await.unwrap();
    attic.engine.run_jobs().await.unwrap();
    attic.engine.settle().await.unwrap();
    let living = files(&attic.files());
    // In its place, in the past, or waiting for a place that a hand has taken away.
    let elsewhere =
        ["past", "staging"].into_iter().flat_map(|dir| on_disk(&attic.data().join(dir)).into_values());
    let everywhere: std::collections::BTreeSet<Vec<u8>> = living.values().cloned().chain(elsewhere).collect();
    for (bytes, what) in &ledger.owed {
        let text = String::from_utf8_lossy(&bytes[..bytes.len().min(24)]);
        assert!(everywhere.contains(bytes), "seed {seed}: {what} ({text}) is nowhere\n{log:#?}");
    }
    for (path, bytes) in &ledger.theirs {
        assert_eq!(living.get(path), Some(bytes), "seed {seed}: {path:?} was moved\n{log:#?}");
    }
    assert_eq!(attic.engine.people().check_record().await.unwrap().broken, None);
}

#[tokio::test(flavor = "multi_thread")]
async fn hands_and_calls_at_random_lose_nothing_and_move_nothing_of_others() {
    // 40 rounds; more by YATTIC_HANDS_ROUNDS.
    let count = std::env::var("YATTIC_HANDS_ROUNDS").ok().and_then(|n| n.parse().ok()).unwrap_or(40);
    for seed in 1..=count {
        round(seed, 60).await;
    }
}

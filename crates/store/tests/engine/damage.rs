//! What the disk does to files by itself is told apart from what hands do, and put right from wherever sound bytes are.

use crate::keeping::noise;
use crate::support::{Attic, StopAfter, on_disk};
use std::fs;
use std::os::unix::fs::FileExt;
use std::path::Path;
use yellow_attic_store::audit::check::check;
use yellow_attic_store::people::record::Anchors;
use yellow_attic_store::reconcile::Looking;
use yellow_attic_store::reconcile::report::Report;

/// Changes a byte of a file as a disk does: no time of it changes. (That one did is made unseen.)
fn rot(path: &Path) {
    let file = fs::File::options().write(true).open(path).unwrap();
    let modified = file.metadata().unwrap().modified().unwrap();
    file.write_all_at(b"?", 1).unwrap();
    file.set_modified(modified).unwrap();
}

/// As if all that was changed of live files until now had been known.
async fn unseen(attic: Attic) -> Attic {
    attic.engine.stop().await;
    let pool = sqlx::SqlitePool::connect(attic.data().join("catalogue.db").to_str().unwrap()).await.unwrap();
    sqlx::query("INSERT OR REPLACE INTO verified (content, changed) SELECT id, 4102444800000 FROM contents WHERE state = 0")
        .execute(&pool)
        .await
        .unwrap();
    pool.close().await;
    attic.reopen().await
}

async fn verified(attic: &Attic, heal: bool) -> Report {
    let looking = Looking {
        verify: true,
        take_up: true,
        heal,
        heal_from: vec![attic.dir.path().join("backup")],
        ..Looking::default()
    };
    attic.engine.on_disk().reconcile(&looking).await.unwrap()
}

async fn states(attic: &Attic, path: &str) -> usize {
    let node = attic.find(path).await.unwrap().node;
    attic.engine.history().states(&attic.ines, node, 100).await.unwrap().len()
}

#[tokio::test(flavor = "multi_thread")]
async fn damaged_files_are_put_right_and_the_damaged_bytes_are_kept() {
    let attic = Attic::new().await;
    let bytes: Vec<Vec<u8>> = (0..4).map(|n| noise(n, 5000)).collect();
    // Sound bytes are in the history, in another file, in a backup, nowhere.
    attic.put("history", &bytes[0]).await;
    attic.put("history", b"between").await;
    attic.put("history", &bytes[0]).await;
    attic.put("twin", &bytes[1]).await;
    attic.put("its twin", &bytes[1]).await;
    attic.put("backed up", &bytes[2]).await;
    attic.put("by hand", b"before").await;
    attic.engine.settle().await.unwrap();
    attic.engine.backups().make(&attic.dir.path().join("backup"), Default::default()).await.unwrap();
    attic.put("nowhere", &bytes[3]).await;
    attic.engine.settle().await.unwrap();
    assert_eq!(verified(&attic, true).await.damaged.count, 0);
    let files = attic.files();
    for name in ["history", "twin", "backed up", "nowhere"] {
        rot(&files.join(name));
    }
    let attic = unseen(attic).await;
    // Told, and nothing is changed: it is no state, whatever it is.
    let found = verified(&attic, false).await;
    assert_eq!((found.damaged.count, found.healed.count, found.differences()), (4, 0, 0), "{found:?}");
    let said = found.damaged.names.join("\n");
    for place in ["in the history", "in another file", "in a backup", "nowhere"] {
        assert!(said.contains(&format!("sound bytes are {place}")), "{said}");
    }
    assert_ne!(fs::read(files.join("twin")).unwrap(), bytes[1]);
    // What a hand does at the same time is a change like any other.
    fs::write(files.join("by hand"), b"edited").unwrap();
    let attic = {
        let found = verified(&attic, true).await;
        assert_eq!((found.damaged.count, found.healed.count, found.changed.count), (4, 3, 1), "{found:?}");
        attic
    };
    for (name, bytes) in [("history", &bytes[0]), ("twin", &bytes[1]), ("backed up", &bytes[2])] {
        assert_eq!(&attic.cat(name).await, bytes);
        assert_eq!(&fs::read(files.join(name)).unwrap(), bytes);
    }
    assert_eq!(attic.cat("by hand").await, b"edited");
    assert_eq!([states(&attic, "history").await, states(&attic, "twin").await], [3, 1]);
    assert_eq!(states(&attic, "by hand").await, 2);
    let kept = on_disk(&attic.data().join("past"));
    assert_eq!(kept.keys().filter(|name| name.ends_with(".damaged")).count(), 3, "{:?}", kept.keys());
    let found = verified(&attic, true).await;
    assert_eq!((found.damaged.count, found.differences()), (1, 0), "{found:?}");
    let told = attic.engine.findings(50).await.unwrap();
    assert_eq!(told.iter().filter(|finding| finding.kind == "damage healed").count(), 3);
    // Nobody watches, and hands go on: all of it is there after a start.
    let attic = attic.reopen().await;
    assert_eq!(attic.cat("twin").await, bytes[1]);
    crate::keeping::counted(attic).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn damaged_and_missing_past_states_come_back_from_a_backup() {
    let attic = Attic::new().await;
    let (first, second) = (noise(1, 4000), noise(2, 4000));
    for (name, bytes) in [("a", &first), ("b", &second)] {
        attic.put(name, bytes).await;
        attic.put(name, b"now").await;
    }
    attic.engine.settle().await.unwrap();
    let backup = attic.dir.path().join("backup");
    attic.engine.backups().make(&backup, Default::default()).await.unwrap();
    let past = |bytes: &[u8]| {
        let hash = blake3::hash(bytes).to_hex().to_string();
        attic.data().join("past").join(&hash[..2]).join(&hash)
    };
    rot(&past(&first));
    fs::remove_file(past(&second)).unwrap();
    let looked = async || check(&attic.data(), Anchors::default(), Box::new(|_| true)).await.unwrap();
    let found = looked().await;
    assert_eq!((found.damaged.len(), found.missing.len()), (1, 1));
    // A backup whose bytes are damaged too helps nobody.
    let odd = attic.dir.path().join("odd");
    for hash in found.damaged.iter().chain(&found.missing) {
        fs::create_dir_all(odd.join("contents").join(&hash[..2])).unwrap();
        fs::write(odd.join("contents").join(&hash[..2]).join(hash), b"odd").unwrap();
    }
    assert_eq!(attic.engine.heal_past(&found, std::slice::from_ref(&odd)).await.unwrap(), 0);
    assert_eq!(attic.engine.heal_past(&found, &[odd, backup]).await.unwrap(), 2);
    for (name, bytes) in [("a", &first), ("b", &second)] {
        let node = attic.find(name).await.unwrap().node;
        let states = attic.engine.history().states(&attic.ines, node, 9).await.unwrap();
        assert_eq!(&attic.bytes_of(&states[1].row).await, bytes);
    }
    let found = looked().await;
    assert_eq!(found.missing.len(), 0);
    assert!(found.damaged.iter().all(|name| name.contains(".damaged-")), "{found:?}");
    assert!(on_disk(&attic.data().join("staging")).is_empty());
}

/// Whatever step the process ends at: the file is there, and after another look it is sound.
#[tokio::test(flavor = "multi_thread")]
async fn a_stop_at_any_step_of_healing_leaves_the_file_in_its_place() {
    let bytes = noise(9, 3000);
    let mut stopped = 0;
    for steps in 0..40 {
        let attic = Attic::new().await;
        attic.put("a", &bytes).await;
        attic.put("twin", &bytes).await;
        attic.engine.settle().await.unwrap();
        rot(&attic.files().join("a"));
        let attic = unseen(attic).await;
        let stop = std::sync::Arc::new(StopAfter(std::sync::atomic::AtomicI64::new(1 << 40)));
        let attic = attic.reopen_with(stop.clone()).await;
        stop.0.store(steps, std::sync::atomic::Ordering::SeqCst);
        let looking = Looking { verify: true, take_up: true, heal: true, ..Looking::default() };
        let done = attic.engine.on_disk().reconcile(&looking).await;
        let healed = done.is_ok_and(|report| report.healed.count == 1);
        stopped += usize::from(!healed);
        assert!(attic.files().join("a").exists(), "after {steps} steps");
        let attic = attic.reopen().await;
        let found = verified(&attic, true).await;
        assert_eq!(found.gone.count, 0, "after {steps} steps: {found:?}");
        assert_eq!(attic.cat("a").await, bytes, "after {steps} steps");
        assert_eq!(states(&attic, "a").await, 1, "after {steps} steps");
        if healed {
            break;
        }
    }
    assert!(stopped >= 3, "{stopped}");
}

//! Which store a folder holds: an empty folder is no new store, and an older catalogue sweeps nothing.

use crate::support::{Attic, on_disk, options};
use std::path::Path;
use std::sync::Arc;
use yellow_attic_store::engine::mending;
use yellow_attic_store::fs::fault_points::AllSteps;
use yellow_attic_store::{Engine, Missing, Options, StoreError};

fn refusing(attic: &Attic, data: &Path) -> Options {
    Options { missing: Missing::Refuse, ..options(data, &attic.clock, Arc::new(AllSteps)) }
}

async fn refused(attic: &Attic, data: &Path) -> String {
    match Engine::open(refusing(attic, data)).await.err() {
        Some(StoreError::NoStore(why)) => why,
        other => panic!("{other:?}"),
    }
}

fn copy(from: &Path, to: &Path) {
    std::fs::create_dir_all(to).unwrap();
    for name in ["catalogue.db", "catalogue.db-wal", "catalogue.db-shm"] {
        let _ = std::fs::remove_file(to.join(name));
        if from.join(name).exists() {
            std::fs::copy(from.join(name), to.join(name)).unwrap();
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_without_a_store_is_refused_and_left_as_it_is() {
    let attic = Attic::new().await;
    let empty = attic.dir.path().join("not mounted");
    std::fs::create_dir(&empty).unwrap();
    let why = refused(&attic, &empty).await;
    assert!(why.contains("yatticd init"), "{why}");
    assert_eq!(std::fs::read_dir(&empty).unwrap().count(), 0, "something was made");
    // One that was made is opened.
    attic.put("doc", b"1").await;
    attic.engine.stop().await;
    let engine = Engine::open(refusing(&attic, &attic.data())).await.unwrap();
    engine.stop().await;
    // Its name is missing, or the catalogue is, or another store's lies there.
    let data = attic.data();
    std::fs::rename(data.join("store"), data.join("aside")).unwrap();
    assert!(refused(&attic, &data).await.contains("\"store\" is missing"));
    std::fs::rename(data.join("aside"), data.join("store")).unwrap();
    let kept = attic.dir.path().join("kept");
    copy(&data, &kept);
    std::fs::remove_file(data.join("catalogue.db")).unwrap();
    assert!(refused(&attic, &data).await.contains("no catalogue.db"));
    let other = Attic::new().await;
    other.engine.stop().await;
    copy(&other.data(), &data);
    assert!(refused(&attic, &data).await.contains("two different stores"));
    copy(&kept, &data);
    let engine = Engine::open(refusing(&attic, &data)).await.unwrap();
    engine.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_store_of_before_gets_its_name_once() {
    let attic = Attic::new().await;
    attic.put("doc", b"1").await;
    attic.engine.stop().await;
    let data = attic.data();
    let pool = sqlx::SqlitePool::connect(data.join("catalogue.db").to_str().unwrap()).await.unwrap();
    sqlx::query("DELETE FROM store").execute(&pool).await.unwrap();
    pool.close().await;
    for name in ["store", "commits"] {
        std::fs::remove_file(data.join(name)).unwrap();
    }
    let engine = Engine::open(refusing(&attic, &data)).await.unwrap();
    engine.stop().await;
    assert!(data.join("store").exists());
    std::fs::remove_file(data.join("store")).unwrap();
    assert!(refused(&attic, &data).await.contains("\"store\" is missing"));
}

/// Bytes that packing takes: large, and different for each number.
fn large(n: u8) -> Vec<u8> {
    let mut bytes = vec![0; 1_500_000];
    blake3::Hasher::new().update(&[n]).finalize_xof().fill(&mut bytes);
    bytes
}

async fn packed(engine: &Engine) {
    engine.settle().await.unwrap();
    while engine.is_packing() {
        tokio::time::sleep(std::time::Duration::from_millis(5)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_older_catalogue_beside_newer_data_sweeps_nothing() {
    let attic = Attic::new().await;
    attic.put("small", b"one").await;
    attic.put("large", &large(1)).await;
    packed(&attic.engine).await;
    attic.engine.stop().await;
    let (data, backup) = (attic.data(), attic.dir.path().join("backup"));
    copy(&data, &backup);
    // Life goes on: newer states are all that there is of what was replaced.
    let engine = Engine::open(refusing(&attic, &data)).await.unwrap();
    let timeline = engine.timeline().to_string();
    let attic = Attic { engine, ..attic };
    for n in 2..6u8 {
        attic.put("small", &[n; 9]).await;
        attic.put("large", &large(n)).await;
    }
    packed(&attic.engine).await;
    attic.engine.stop().await;
    let newest = attic.dir.path().join("newest");
    copy(&data, &newest);
    let past = |data: &Path| on_disk(&data.join("past"));
    let before = past(&data);
    assert!(before.len() >= 4, "{:?}", before.keys());

    copy(&backup, &data);
    let engine = Engine::open(refusing(&attic, &data)).await.unwrap();
    assert!(engine.has_older_catalogue());
    // Its numbers may be given out a second time: whoever followed the other one must not go on with this one.
    assert_ne!(engine.timeline(), timeline);
    packed(&engine).await;
    engine.run_jobs().await.unwrap();
    // It works, and says so; what it does not know stays.
    engine.stop().await;
    let engine = Engine::open(refusing(&attic, &data)).await.unwrap();
    assert!(engine.has_older_catalogue(), "a doubt does not end by itself");
    packed(&engine).await;
    engine.stop().await;
    assert_eq!(past(&data), before);

    // The newest one is put back: all is there.
    copy(&newest, &data);
    let engine = Engine::open(refusing(&attic, &data)).await.unwrap();
    assert!(!engine.has_older_catalogue());
    assert_eq!(engine.timeline(), timeline, "it is the one that was followed");
    let attic = Attic { engine, ..attic };
    let node = attic.find("large").await.unwrap().node;
    for (state, n) in
        attic.engine.history().states(&attic.ines, node, 10).await.unwrap().iter().zip([5u8, 4, 3, 2, 1])
    {
        assert!(attic.bytes_of(&state.row).await == large(n), "state {n}");
    }
    attic.engine.stop().await;

    // Or the older one is accepted: what it does not know is kept aside, and it counts from then on.
    copy(&backup, &data);
    let engine = Engine::open(refusing(&attic, &data)).await.unwrap();
    engine.stop().await;
    let accepted = mending::accept_catalogue(&data).await.unwrap();
    assert!(accepted.was_older && accepted.kept_aside > 0, "{accepted:?}");
    let engine = Engine::open(refusing(&attic, &data)).await.unwrap();
    assert!(!engine.has_older_catalogue());
    assert_ne!(engine.timeline(), timeline);
    packed(&engine).await;
    let attic = Attic { engine, ..attic };
    let moment = attic.put("small", b"after").await.moment;
    assert!(moment.0 > 1 << 40, "{moment:?} may have been given out before");
    attic.engine.stop().await;
    let kept: Vec<Vec<u8>> = on_disk(&data.join("past/unknown")).into_values().collect();
    assert_eq!(kept.len() as u64, accepted.kept_aside);
}

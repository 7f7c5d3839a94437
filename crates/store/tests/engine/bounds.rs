//! What may not grow or stay: renames owed to the disk (rule 9), the reach of a program that
//! holds a file open (rule 12), leftovers in staging (rule 14).

use crate::support::{Attic, name, options};
use std::io::{Seek, SeekFrom, Write};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Condvar, Mutex};
use std::time::Duration;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_store::audit::check::check;
use yellow_attic_store::fs::fault_points::Steps;
use yellow_attic_store::{Engine, StoreError};

/// Holds every rename until it is let go.
#[derive(Default)]
struct HeldRenames {
    held: AtomicBool,
    gate: Mutex<()>,
    opened: Condvar,
}

impl Steps for HeldRenames {
    fn before(&self, step: &'static str) -> std::io::Result<()> {
        let mut gate = self.gate.lock().unwrap();
        while step == "rename" && self.held.load(Ordering::SeqCst) {
            gate = self.opened.wait(gate).unwrap();
        }
        Ok(())
    }
}

impl HeldRenames {
    fn let_go(&self) {
        let _gate = self.gate.lock().unwrap();
        self.held.store(false, Ordering::SeqCst);
        self.opened.notify_all();
    }
}

/// Writers wait while the disk owes too much, and go on when it has caught up.
async fn writers_wait(most: (usize, Duration), before_they_wait: usize) {
    let attic = Attic::new().await;
    attic.engine.stop().await;
    let steps = Arc::new(HeldRenames::default());
    let held = options(&attic.data(), &attic.clock, steps.clone());
    let engine = Engine::open(yellow_attic_store::Options { most_owed: most, ..held }).await.unwrap();
    steps.held.store(true, Ordering::SeqCst);
    let put = |i: usize| {
        let (engine, ines, home) = (engine.clone(), attic.ines.clone(), attic.home);
        async move {
            let staged = engine.stage_small(vec![i as u8]).unwrap();
            engine
                .files()
                .put(&ines, home, name(&format!("f{i}")), staged, 0, Conditions::default())
                .await
                .unwrap();
        }
    };
    for i in 0..before_they_wait {
        put(i).await;
    }
    tokio::time::sleep(most.1.min(Duration::from_millis(200))).await;
    let next = tokio::spawn(put(before_they_wait));
    tokio::time::sleep(Duration::from_millis(300)).await;
    assert!(!next.is_finished(), "the writer waits for the disk");
    steps.let_go();
    next.await.unwrap();
    engine.settle().await.unwrap();
    assert_eq!(std::fs::read_dir(attic.files()).unwrap().count(), before_they_wait + 1);
    engine.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn writers_wait_when_the_disk_owes_too_many_renames() {
    writers_wait((20, Duration::from_secs(3600)), 20).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn writers_wait_when_the_disk_owes_one_rename_for_too_long() {
    writers_wait((10_000, Duration::from_millis(100)), 1).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_program_writes_on_into_the_past_is_given_to_nobody_and_found_by_the_check() {
    let attic = Attic::new().await;
    let first = attic.put("doc", b"first").await.row.unwrap();
    attic.engine.settle().await.unwrap();
    let mut open = std::fs::OpenOptions::new().write(true).open(attic.files().join("doc")).unwrap();
    attic.put("doc", b"second").await;
    attic.engine.settle().await.unwrap();
    let before = attic.engine.history().states(&attic.ines, first.node, 10).await.unwrap().remove(1).row;
    assert_eq!(attic.bytes_of(&before).await, b"first");
    let sound = check(&attic.data(), Default::default(), Box::new(|_| true)).await.unwrap();
    assert!(sound.is_sound() && sound.past == 1, "{sound:?}");

    // As long as before, so that only the seal tells.
    open.seek(SeekFrom::Start(0)).unwrap();
    open.write_all(b"FIRST").unwrap();
    let found = check(&attic.data(), Default::default(), Box::new(|_| true)).await.unwrap();
    assert_eq!(found.damaged.len(), 1, "{found:?}");
    assert!(!found.is_sound());
    let refused = attic.engine.files().open_bytes(&before).await.unwrap_err();
    assert!(matches!(refused, StoreError::BytesMissing(_)), "{refused}");
    assert_eq!(attic.cat("doc").await, b"second");
    attic.engine.settle().await.unwrap();
    let found = check(&attic.data(), Default::default(), Box::new(|_| true)).await.unwrap();
    assert_eq!(found.findings.iter().filter(|f| f.kind == "damaged past").count(), 1, "{found:?}");
    assert_eq!((found.damaged.len(), found.missing.len()), (1, 1), "{found:?}");

    // The same bytes, put again and replaced, mend it.
    attic.put("doc", b"first").await;
    attic.put("doc", b"third").await;
    attic.engine.settle().await.unwrap();
    assert_eq!(attic.bytes_of(&before).await, b"first");
}

#[tokio::test(flavor = "multi_thread")]
async fn past_bytes_whose_seal_is_broken_but_that_are_whole_are_given_and_sealed_again() {
    let attic = Attic::new().await;
    let first = attic.put("doc", b"first").await.row.unwrap();
    attic.put("doc", b"second").await;
    attic.engine.settle().await.unwrap();
    let hash = blake3_hex(b"first");
    let file = attic.data().join("past").join(&hash[..2]).join(&hash);
    std::fs::File::open(&file).unwrap().set_modified(std::time::SystemTime::now()).unwrap();
    let before = attic.engine.history().states(&attic.ines, first.node, 10).await.unwrap().remove(1).row;
    assert_eq!(attic.bytes_of(&before).await, b"first");
    let sealed = std::fs::metadata(&file).unwrap().modified().unwrap();
    assert!(sealed < std::time::UNIX_EPOCH + Duration::from_secs(1));
}

fn blake3_hex(bytes: &[u8]) -> String {
    blake3::hash(bytes).to_hex().to_string()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_sweeper_takes_what_nobody_answers_for_and_spares_what_is_marked() {
    let attic = Attic::new().await;
    attic.engine.stop().await;
    let engine = Engine::open(options(&attic.data(), &attic.clock, Arc::new(NoRenames))).await.unwrap();
    let staged = engine.stage_small(b"answered, not placed".to_vec()).unwrap();
    engine
        .files()
        .put(&attic.ines, attic.home, name("kept"), staged, 0, Conditions::default())
        .await
        .unwrap();
    engine.stop().await;
    let staging = attic.data().join("staging");
    assert_eq!(std::fs::read_dir(&staging).unwrap().count(), 1);
    std::fs::write(staging.join("cffff"), b"never answered").unwrap();

    let attic = attic.reopen().await;
    attic.engine.settle().await.unwrap();
    assert_eq!(std::fs::read_dir(&staging).unwrap().count(), 0);
    assert_eq!(std::fs::read(attic.files().join("kept")).unwrap(), b"answered, not placed");
}

/// Stops at every rename.
struct NoRenames;

impl Steps for NoRenames {
    fn before(&self, step: &'static str) -> std::io::Result<()> {
        if step == "rename" { Err(std::io::Error::other("stopped here")) } else { Ok(()) }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn free_pages_of_the_catalogue_go_back_to_the_disk_in_steps_while_others_write() {
    use sqlx::ConnectOptions;
    let attic = Attic::new().await;
    let path = attic.data().join("catalogue.db");
    let pages = async || -> (i64, i64) {
        let options = sqlx::sqlite::SqliteConnectOptions::new().filename(&path).read_only(true);
        let mut conn = options.connect().await.unwrap();
        let number = async |what: &'static str, conn: &mut sqlx::SqliteConnection| -> i64 {
            sqlx::query_scalar(what).fetch_one(conn).await.unwrap()
        };
        (number("PRAGMA page_count", &mut conn).await, number("PRAGMA freelist_count", &mut conn).await)
    };
    assert_eq!(attic.engine.give_back_pages().await.unwrap(), 0, "a small catalogue keeps what it has");
    attic.engine.stop().await;
    let mut conn = sqlx::sqlite::SqliteConnectOptions::new().filename(&path).connect().await.unwrap();
    for statement in [
        "CREATE TABLE junk AS WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 12000)
         SELECT i, randomblob(3000) AS bytes FROM n",
        "DROP TABLE junk",
    ] {
        sqlx::query(statement).execute(&mut conn).await.unwrap();
    }
    sqlx::Connection::close(conn).await.unwrap();
    let attic = attic.reopen().await;
    let (all, free) = pages().await;
    assert!(free > 9_000, "{free} of {all}");
    let writing = {
        let (engine, ines, home) = (attic.engine.clone(), attic.ines.clone(), attic.home);
        tokio::spawn(async move {
            for n in 0..50 {
                engine.files().make_folder(&ines, home, name(&format!("{n}"))).await.unwrap();
            }
        })
    };
    let given = attic.engine.give_back_pages().await.unwrap();
    writing.await.unwrap();
    let (after, left) = pages().await;
    assert!(left <= 2_000 && given >= 7_000, "{given} given back, {left} free");
    assert!(after < all - 6_000, "{after} pages after {all}");
}

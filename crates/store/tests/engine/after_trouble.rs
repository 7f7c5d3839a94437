//! What a crash, a full queue of renames, an error that came once, or a hand on the disk leaves: nothing that was
//! answered is lost, nothing of others is moved, and the rest goes on.

use crate::support::{Attic, START, StopAfter, actor, as_after_a_crash, name, on_disk, options};
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};
use std::time::Duration;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::{Moment, NodeId};
use yellow_attic_store::fs::fault_points::AllSteps;
use yellow_attic_store::people::accounts::Role;
use yellow_attic_store::timeline::uploads::{Joining, NewUpload};
use yellow_attic_store::{Actor, Change, Engine, Place, StoreError};
use yellow_attic_trials::faults::{Failing, Held};

fn upload(parent: NodeId, name: &str, size: u64) -> NewUpload {
    NewUpload {
        parent,
        name: crate::support::name(name),
        size,
        open_length: false,
        mtime: None,
        if_match: None,
        if_none_match: None,
        hash: None,
        joining: Joining::Alone,
    }
}

async fn opened(data: &std::path::Path, attic: &Attic) -> Engine {
    Engine::open(options(data, &attic.clock, Arc::new(AllSteps))).await.unwrap()
}

async fn read(engine: &Engine, ines: &Actor, path: &str) -> Vec<u8> {
    let names: Vec<_> = path.split('/').map(name).collect();
    let row = engine.files().resolve(ines, "home", &names).await.unwrap();
    let (mut file, _) = engine.files().open_bytes(&row).await.unwrap_or_else(|e| panic!("{path}: {e}"));
    let mut bytes = Vec::new();
    std::io::Read::read_to_end(&mut file, &mut bytes).unwrap();
    bytes
}

async fn findings(engine: &Engine) -> Vec<String> {
    engine.findings(100).await.unwrap().into_iter().map(|f| f.kind).collect()
}

/// Waits until something is so.
async fn until(what: &str, mut is: impl AsyncFnMut() -> bool) {
    for _ in 0..500 {
        if is().await {
            return;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    panic!("{what} did not come");
}

#[tokio::test(flavor = "multi_thread")]
async fn of_an_upload_only_what_is_on_the_disk_for_certain_counts_after_a_crash() {
    let attic = Attic::new().await;
    let begun =
        attic.engine.files().begin_upload(&attic.ines, upload(attic.home, "film", 1000)).await.unwrap();
    let mut part = attic.engine.files().append(&attic.ines, &begun.id, 0).await.unwrap();
    part.write(&[1; 400]).unwrap();
    assert_eq!(part.pause().await.unwrap(), 400);
    // Arrived, and nobody was told: a power cut may leave zeros in its place.
    let mut part = attic.engine.files().append(&attic.ines, &begun.id, 400).await.unwrap();
    part.write(&[2; 300]).unwrap();
    drop(part);
    assert_eq!(attic.engine.files().upload(&attic.ines, &begun.id).await.unwrap().received, 700);
    let crash = as_after_a_crash(&attic.data());
    let engine = opened(&crash.path().join("data"), &attic).await;
    assert_eq!(engine.files().upload(&attic.ines, &begun.id).await.unwrap().received, 400);
    // The sender goes on from there.
    assert!(matches!(
        engine.files().append(&attic.ines, &begun.id, 700).await.err(),
        Some(StoreError::WrongOffset { present: 400, .. })
    ));
    let mut part = engine.files().append(&attic.ines, &begun.id, 400).await.unwrap();
    part.write(&[3; 600]).unwrap();
    part.pause().await.unwrap();
    engine.files().finish_upload(&attic.ines, &begun.id, None).await.unwrap();
    engine.settle().await.unwrap();
    let bytes = read(&engine, &attic.ines, "film").await;
    assert!(bytes[..400].iter().all(|b| *b == 1) && bytes[400..].iter().all(|b| *b == 3), "other bytes");
    engine.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_part_that_is_checked_as_a_whole_counts_not_before() {
    let attic = Attic::new().await;
    let size = 80 << 20;
    let begun =
        attic.engine.files().begin_upload(&attic.ines, upload(attic.home, "film", size)).await.unwrap();
    let other =
        attic.engine.files().begin_upload(&attic.ines, upload(attic.home, "other", size)).await.unwrap();
    let mut checked = attic.engine.files().append(&attic.ines, &begun.id, 0).await.unwrap();
    checked.counts_only_whole();
    let mut plain = attic.engine.files().append(&attic.ines, &other.id, 0).await.unwrap();
    for _ in 0..70 {
        checked.write(&[7; 1 << 20]).unwrap();
        plain.write(&[7; 1 << 20]).unwrap();
    }
    // What is noted on the way is noted behind a group of the writer.
    attic.put("doc", b"1").await;
    let crash = as_after_a_crash(&attic.data());
    let engine = opened(&crash.path().join("data"), &attic).await;
    assert_eq!(engine.files().upload(&attic.ines, &begun.id).await.unwrap().received, 0);
    let noted = engine.files().upload(&attic.ines, &other.id).await.unwrap().received;
    assert!((16 << 20..70 << 20).contains(&noted), "{noted} bytes are noted on the way");
    engine.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn two_uploads_never_share_a_file_even_if_one_lost_its_own() {
    let attic = Attic::new().await;
    let first =
        attic.engine.files().begin_upload(&attic.ines, upload(attic.home, "first", 100)).await.unwrap();
    let crash = as_after_a_crash(&attic.data());
    let data = crash.path().join("data");
    // The cut took the file, whose name was not on the disk yet; its row stands.
    for file in std::fs::read_dir(data.join("staging")).unwrap() {
        std::fs::remove_file(file.unwrap().path()).unwrap();
    }
    let engine = opened(&data, &attic).await;
    let second = engine.files().begin_upload(&attic.ines, upload(attic.home, "second", 100)).await.unwrap();
    let mut part = engine.files().append(&attic.ines, &second.id, 0).await.unwrap();
    part.write(&[2; 50]).unwrap();
    part.pause().await.unwrap();
    let gone = engine.files().upload(&attic.ines, &first.id).await;
    assert!(matches!(gone, Err(StoreError::NotFound(_))), "{gone:?}");
    assert_eq!(engine.files().upload(&attic.ines, &second.id).await.unwrap().received, 50);
    engine.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn ids_in_staging_are_not_given_out_twice_even_if_all_that_had_one_is_gone() {
    let attic = Attic::new().await;
    let mut used = std::collections::BTreeSet::new();
    let mut attic = attic;
    for round in 0..4 {
        let staged = attic.engine.stage_small(vec![round; 10]).unwrap();
        assert!(used.insert(staged.id), "{:?} again", staged.id);
        let parent = attic.home;
        attic
            .engine
            .files()
            .put(&attic.ines, parent, name("doc"), staged, START, Conditions::default())
            .await
            .unwrap();
        // One that is refused uses an id as well.
        let refused = attic.engine.stage_small(vec![round; 10]).unwrap();
        assert!(used.insert(refused.id));
        drop(refused);
        attic.put("x", b"1").await;
        attic = attic.reopen().await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_brought_back_while_it_is_taken_apart_has_all_its_bytes() {
    let attic = Attic::new().await;
    for round in 0..120u32 {
        let (folder, within) = (format!("f{round}"), format!("f{round}/inside"));
        let node = attic.mkdir(&folder).await;
        attic.mkdir(&within).await;
        let texts = [format!("{folder}/x"), format!("{within}/y")];
        for text in &texts {
            attic.put(text, text.as_bytes()).await;
        }
        attic.rm(&folder).await;
        let engine = attic.engine.clone();
        let jobs = tokio::spawn(async move { engine.run_jobs().await });
        // Sometimes before, sometimes in the midst, sometimes at the end.
        for _ in 0..round % 40 {
            tokio::task::yield_now().await;
        }
        tokio::time::sleep(Duration::from_micros(u64::from(round) * 97 % 6000)).await;
        let back = attic.engine.history().restore(&attic.ines, node, None, Place::Last).await;
        jobs.await.unwrap().unwrap();
        if let Err(e) = back {
            assert!(matches!(e, StoreError::Busy), "{e}");
            attic.engine.history().restore(&attic.ines, node, None, Place::Last).await.unwrap();
        }
        attic.engine.run_jobs().await.unwrap();
        for text in &texts {
            assert_eq!(attic.cat(text).await, text.as_bytes(), "round {round}");
        }
    }
    attic.engine.settle().await.unwrap();
    attic.engine.run_jobs().await.unwrap();
    attic.engine.settle().await.unwrap();
    let files = on_disk(&attic.files());
    assert_eq!(files.len(), 240);
    assert!(files.iter().all(|(path, bytes)| path.as_bytes() == *bytes));
    assert_eq!(findings(&attic.engine).await, Vec::<String>::new());
    let data = attic.data();
    attic.engine.stop().await;
    let found = yellow_attic_store::timeline::space::recount(&data).await.unwrap();
    assert!(found.agrees(), "{found:#?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_put_into_a_folder_that_was_renamed_by_hand_stays_and_the_folder_is_made_anew() {
    let attic = Attic::new().await;
    attic.mkdir("a").await;
    attic.mkdir("a/deep").await;
    attic.put("a/deep/x", b"before").await;
    attic.engine.settle().await.unwrap();
    std::fs::rename(attic.files().join("a"), attic.files().join("b")).unwrap();
    attic.put("a/deep/y", b"answered").await;
    attic.engine.settle().await.unwrap();
    assert_eq!(attic.cat("a/deep/y").await, b"answered");
    let mut attic = attic;
    for _ in 0..3 {
        attic = attic.reopen().await;
        attic.engine.settle().await.unwrap();
        assert_eq!(attic.cat("a/deep/y").await, b"answered");
    }
    assert_eq!(std::fs::read(attic.files().join("a/deep/y")).unwrap(), b"answered");
    // Theirs lies where they brought it.
    assert_eq!(std::fs::read(attic.files().join("b/deep/x")).unwrap(), b"before");
    assert!(findings(&attic.engine).await.contains(&"folder made anew".to_string()));
}

#[tokio::test(flavor = "multi_thread")]
async fn bytes_in_staging_that_a_living_state_needs_are_never_swept() {
    let attic = Attic::new().await;
    attic.put("doc", b"all there is").await;
    attic.engine.settle().await.unwrap();
    let content = attic.find("doc").await.unwrap().content.unwrap();
    let (data, files) = (attic.data(), attic.files());
    attic.engine.stop().await;
    // As a version before left it: its mark is gone, and it never came to its place.
    std::fs::rename(files.join("doc"), data.join(format!("staging/c{:x}", content.id.0))).unwrap();
    for _ in 0..2 {
        let engine = opened(&data, &attic).await;
        engine.settle().await.unwrap();
        assert_eq!(read(&engine, &attic.ines, "doc").await, b"all there is");
        engine.stop().await;
    }
    assert_eq!(std::fs::read(files.join("doc")).unwrap(), b"all there is");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_removed_by_hand_takes_files_again_without_a_restart() {
    let attic = Attic::new().await;
    attic.mkdir("a").await;
    attic.mkdir("a/b").await;
    attic.put("a/b/x", b"1").await;
    attic.engine.settle().await.unwrap();
    std::fs::remove_dir_all(attic.files().join("a")).unwrap();
    attic.put("a/b/y", b"2").await;
    attic.engine.settle().await.unwrap();
    attic.put("elsewhere", b"3").await;
    attic.engine.settle().await.unwrap();
    assert!(attic.engine.trouble().is_none() && attic.engine.stopped_shelves().is_empty());
    assert_eq!(attic.cat("a/b/y").await, b"2");
    assert_eq!(attic.cat("elsewhere").await, b"3");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_shelf_whose_folder_is_gone_stops_no_other_and_goes_on_when_it_is_back() {
    let attic = Attic::new().await;
    let tomas = attic
        .engine
        .people()
        .make_account(&Actor::service(), "tomas", "Tomas", Role::Member, "x")
        .await
        .unwrap();
    let his = attic.engine.home_of(tomas.id).unwrap().root;
    let tomas = actor(tomas.id, "tomas");
    attic.put("kept", b"1").await;
    attic.engine.settle().await.unwrap();
    let away = attic.dir.path().join("away");
    std::fs::rename(attic.files(), &away).unwrap();
    // The first is answered before anybody noticed: it must be there in the end.
    attic.put("answered", b"2").await;
    until("the shelf's stop", async || !attic.engine.stopped_shelves().is_empty()).await;
    let refused = attic.put_as(&attic.ines, "refused", b"3").await;
    assert!(matches!(refused, Err(StoreError::ShelfMissing(_))), "{refused:?}");
    assert_eq!(attic.cat("answered").await, b"2");
    let staged = attic.engine.stage_small(b"his".to_vec()).unwrap();
    attic.engine.files().put(&tomas, his, name("doc"), staged, START, Conditions::default()).await.unwrap();
    until("his file", async || attic.data().join("shelves/main/home/tomas/doc").exists()).await;
    assert!(!attic.files().exists(), "nobody may make it anew");
    // A restart meanwhile changes nothing of that.
    let attic = attic.reopen().await;
    assert!(!attic.files().exists());
    assert!(matches!(attic.put_as(&attic.ines, "refused", b"3").await, Err(StoreError::ShelfMissing(_))));
    assert!(matches!(
        attic.engine.files().open_bytes(&attic.find("kept").await.unwrap()).await,
        Err(StoreError::ShelfMissing(_))
    ));
    std::fs::rename(&away, attic.files()).unwrap();
    until("the shelf", async || attic.engine.stopped_shelves().is_empty()).await;
    attic.put("later", b"4").await;
    attic.engine.settle().await.unwrap();
    let names: Vec<String> = on_disk(&attic.files()).into_keys().collect();
    assert_eq!(names, ["answered", "kept", "later"]);
    assert_eq!(attic.cat("answered").await, b"2");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_just_tried_again_is_owed_as_much_as_before_whoever_writes_meanwhile() {
    const EIO: i32 = 5;
    const ENOSPC: i32 = 28;
    let attic = Attic::new().await;
    let service = Actor::service();
    let tomas = attic.engine.people().make_account(&service, "tomas", "Tomas", Role::Member, "x");
    let tomas = tomas.await.unwrap();
    let his = attic.engine.home_of(tomas.id).unwrap().root;
    let tomas = actor(tomas.id, "tomas");
    attic.engine.settle().await.unwrap();
    attic.engine.stop().await;
    let steps = Arc::new(Held::at("rename", EIO));
    let engine = Engine::open(options(&attic.data(), &attic.clock, steps.clone())).await.unwrap();
    engine.files().make_folder(&attic.ines, attic.home, name("album")).await.unwrap();
    until("the shelf's stop", async || !engine.stopped_shelves().is_empty()).await;
    // The catalogue learns that all is carried out but this.
    engine.files().make_folder(&tomas, his, name("one")).await.unwrap();
    steps.hold(true);
    until("another try", async || steps.holds()).await;
    engine.people().note(&Actor::service(), "looked", None, "a", "").await.unwrap();
    let crash = as_after_a_crash(&attic.data());
    steps.hold(false);
    engine.stop().await;

    // Tried again at the start, where the whole disk is full: that is no reason to forget it either.
    let data = crash.path().join("data");
    let full = Arc::new(Held::at("rename", ENOSPC));
    let engine = Engine::open(options(&data, &attic.clock, full)).await.unwrap();
    assert!(engine.owed() > 0 && !data.join("shelves/main/home/ines/album").exists());
    engine.stop().await;

    let engine = opened(&data, &attic).await;
    engine.settle().await.unwrap();
    assert!(data.join("shelves/main/home/ines/album").is_dir(), "its folder is nowhere");
    assert!(data.join("shelves/main/home/tomas/one").is_dir(), "his folder is nowhere");
    assert!(findings(&engine).await.is_empty(), "{:?}", findings(&engine).await);
    engine.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn recovery_moves_nothing_that_somebody_put_where_a_mark_pointed() {
    let attic = Attic::new().await;
    for doc in ["removed", "moved"] {
        attic.put(doc, b"ours").await;
    }
    attic.engine.settle().await.unwrap();
    let no_renames = Arc::new(Failing::at("rename"));
    let attic = attic.reopen_with(no_renames.clone()).await;
    no_renames.switch(true);
    attic.rm("removed").await;
    attic.mv("moved", "elsewhere").await;
    // It ends before anything is carried out, and somebody uses the names for something else.
    attic.engine.stop().await;
    for doc in ["removed", "moved"] {
        std::fs::remove_file(attic.files().join(doc)).unwrap();
        std::fs::write(attic.files().join(doc), format!("theirs, {doc}")).unwrap();
    }
    let engine = opened(&attic.data(), &attic).await;
    engine.settle().await.unwrap();
    let there = on_disk(&attic.files());
    assert_eq!(there["removed"], b"theirs, removed");
    assert_eq!(there["moved"], b"theirs, moved");
    assert!(findings(&engine).await.contains(&"not on the disk".to_string()));
    engine.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_an_editor_saved_before_it_was_removed_or_moved_goes_along_after_a_crash_too() {
    let attic = Attic::new().await;
    for doc in ["removed", "moved"] {
        attic.put(doc, b"ours").await;
    }
    attic.engine.settle().await.unwrap();
    let no_renames = Arc::new(Failing::at("rename"));
    let attic = attic.reopen_with(no_renames.clone()).await;
    for doc in ["removed", "moved"] {
        std::fs::write(attic.files().join("saving"), format!("edited, {doc}")).unwrap();
        std::fs::rename(attic.files().join("saving"), attic.files().join(doc)).unwrap();
    }
    no_renames.switch(true);
    let removed = attic.find("removed").await.unwrap().node;
    attic.rm("removed").await;
    attic.mv("moved", "elsewhere").await;
    attic.engine.stop().await;
    let engine = opened(&attic.data(), &attic).await;
    engine.settle().await.unwrap();
    let there = on_disk(&attic.files());
    assert_eq!(there.keys().collect::<Vec<_>>(), ["elsewhere"]);
    assert_eq!(there["elsewhere"], b"edited, moved");
    let mut kept = Vec::new();
    for state in engine.history().states(&attic.ines, removed, 10).await.unwrap() {
        if let Ok((mut file, _)) = engine.files().open_bytes(&state.row).await {
            let mut text = String::new();
            std::io::Read::read_to_string(&mut file, &mut text).unwrap();
            kept.push(text);
        }
    }
    assert!(kept.contains(&"edited, removed".to_string()), "{kept:?}");
    engine.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn how_far_all_is_carried_out_is_written_while_nothing_happens() {
    let attic = Attic::new().await;
    for n in 0..5 {
        attic.put(&format!("doc {n}"), b"1").await;
    }
    let path = attic.data().join("catalogue.db");
    let pool = sqlx::SqlitePool::connect(path.to_str().unwrap()).await.unwrap();
    until("the marks' end", async || {
        let left: i64 = sqlx::query_scalar("SELECT count(*) FROM marks").fetch_one(&pool).await.unwrap();
        left == 0
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_new_folder_where_somebody_laid_one_is_that_one_with_all_in_it() {
    let attic = Attic::new().await;
    std::fs::create_dir_all(attic.files().join("logbooks/1911")).unwrap();
    std::fs::write(attic.files().join("logbooks/1911/june"), b"fog").unwrap();
    attic.mkdir("logbooks").await;
    attic.put("logbooks/new", b"1").await;
    attic.engine.settle().await.unwrap();
    assert_eq!(std::fs::read(attic.files().join("logbooks/1911/june")).unwrap(), b"fog");
    assert_eq!(attic.cat("logbooks/new").await, b"1");
    let attic = attic.reopen().await;
    assert_eq!(attic.cat("logbooks/new").await, b"1");
    assert!(!on_disk(&attic.data().join("past")).into_values().any(|b| b == b"fog"), "it was moved away");
    assert!(findings(&attic.engine).await.contains(&"folder taken up".to_string()));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_copied_data_folder_has_other_objects_and_has_lost_nothing() {
    let attic = Attic::new().await;
    attic.mkdir("a").await;
    for doc in ["doc", "a/x", "gone", "moved"] {
        attic.put(doc, doc.as_bytes()).await;
    }
    attic.engine.settle().await.unwrap();
    // Something is still on its way when it is copied.
    attic.put("late", b"late").await;
    let crash = as_after_a_crash(&attic.data());
    let data = crash.path().join("data");
    let engine = opened(&data, &attic).await;
    engine.settle().await.unwrap();
    let copy =
        Attic { engine, dir: crash, clock: attic.clock.clone(), ines: attic.ines.clone(), home: attic.home };
    assert_eq!(copy.cat("late").await, b"late");
    let doc = copy.find("doc").await.unwrap().node;
    let gone = copy.find("gone").await.unwrap().node;
    copy.put("doc", b"new").await;
    copy.rm("gone").await;
    copy.mv("moved", "a/moved").await;
    copy.engine.settle().await.unwrap();
    assert_eq!(copy.cat("a/moved").await, b"moved");
    for (node, wanted) in [(doc, vec!["new", "doc"]), (gone, vec!["gone"])] {
        let mut texts = Vec::new();
        for state in copy.engine.history().states(&copy.ines, node, 10).await.unwrap() {
            texts.push(String::from_utf8(copy.bytes_of(&state.row).await).unwrap());
        }
        assert_eq!(texts, wanted);
    }
    assert_eq!(findings(&copy.engine).await, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_hand_left_in_the_way_is_entered_once_with_its_own_time_wherever_it_stops() {
    for stop in 0.. {
        let attic = Attic::new().await;
        attic.put("doc", b"one").await;
        attic.engine.settle().await.unwrap();
        let node = attic.find("doc").await.unwrap().node;
        attic.engine.stop().await;
        let steps = Arc::new(StopAfter(AtomicI64::new(i64::MAX)));
        let engine = Engine::open(options(&attic.data(), &attic.clock, steps.clone())).await.unwrap();
        let attic = Attic { engine, ..attic };
        std::fs::write(attic.files().join("saving"), b"by hand").unwrap();
        let file = std::fs::File::options().write(true).open(attic.files().join("saving")).unwrap();
        let its_own = std::time::UNIX_EPOCH + Duration::from_secs(1_600_000_000);
        file.set_modified(its_own).unwrap();
        std::fs::rename(attic.files().join("saving"), attic.files().join("doc")).unwrap();
        steps.0.store(stop, Ordering::SeqCst);
        let put = attic.put_as(&attic.ines, "doc", b"two").await;
        let _ = attic.engine.settle().await;
        let finished = steps.0.load(Ordering::SeqCst) > 0;
        attic.engine.stop().await;
        let engine = opened(&attic.data(), &attic).await;
        engine.settle().await.unwrap();
        if put.is_ok() {
            let mut by_hand = Vec::new();
            for state in engine.history().states(&attic.ines, node, 20).await.unwrap() {
                let content = state.row.content.unwrap();
                if content.hash == *blake3::hash(b"by hand").as_bytes() {
                    by_hand.push(state.row.mtime);
                }
            }
            assert_eq!(by_hand, [1_600_000_000_000], "stopped at step {stop}");
            assert_eq!(read(&engine, &attic.ines, "doc").await, b"two");
        }
        engine.stop().await;
        if finished {
            assert!(stop > 10, "only {stop} steps");
            return;
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_of_changes_never_cuts_what_happened_at_one_number() {
    let attic = Attic::new().await;
    let shelf = yellow_attic_store::NewShelf {
        kind: yellow_attic_store::ShelfKind::Shared,
        name: name("Logbooks"),
        owner: attic.ines.account,
        grants: vec![],
    };
    let shelf = attic.engine.space().make_shelf(&attic.ines, shelf).await.unwrap();
    let folder = attic.mkdir("folder").await;
    for n in 0..120 {
        attic.put(&format!("folder/{n}"), b"1").await;
    }
    let free = Conditions::default();
    attic
        .engine
        .files()
        .move_node(&attic.ines, folder, shelf.root, name("folder"), false, free)
        .await
        .unwrap();
    attic.engine.run_jobs().await.unwrap();
    let (mut since, mut seen) = (Moment(0), std::collections::BTreeSet::new());
    loop {
        let (changes, upto, more) =
            attic.engine.files().changes(&attic.ines, &shelf, since, 20).await.unwrap();
        for change in changes {
            if let Change::Changed(row) | Change::Arrived(row) = change {
                seen.insert(row.name().to_string());
            }
        }
        assert!(upto > since || !more);
        since = upto;
        if !more {
            break;
        }
    }
    assert!((0..120).all(|n| seen.contains(&n.to_string())), "only {} were told", seen.len());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_clock_that_leapt_takes_nothing_and_freezes_nothing() {
    use yellow_attic_core::rules::Rule;
    use yellow_attic_store::timeline::retention::Reach;
    const DAY: i64 = 86_400_000;
    let attic = Attic::new().await;
    attic.put("doc", b"one").await;
    attic.put("doc", b"two").await;
    attic.put("gone", b"three").await;
    attic.rm("gone").await;
    attic.engine.settle().await.unwrap();
    let rules = crate::keeping::rules(&[(Rule::Versions, "last 1"), (Rule::TrashDays, "1")]);
    let purged = async |attic: &Attic| {
        let done = yellow_attic_store::timeline::purge::Progress::default();
        attic
            .engine
            .history()
            .apply_purge(&attic.ines, &rules, &Reach::All, None, &done)
            .await
            .unwrap()
            .states
    };
    // It starts with a clock 400 days ahead: no purge sees that time, and what is put is stamped as if nothing were.
    attic.clock.leap(400 * DAY);
    let attic = attic.reopen().await;
    assert_eq!(attic.engine.clock_doubt().map(|d| d.ahead_ms / DAY), Some(400));
    let kept = attic.engine.kept_ms();
    assert!(kept - START < DAY, "{kept}");
    attic.put("late", b"4").await;
    assert!(attic.find("late").await.unwrap().at - START < DAY);
    // Ends count by the later of the two: a link that would be over is over.
    assert!(attic.engine.now_ms() - START >= 400 * DAY);
    assert_eq!(purged(&attic).await, 0);
    // Time goes on meanwhile, and the trash is due after its day by that.
    let kept = attic.engine.kept_ms();
    attic.clock.advance(2 * DAY);
    assert_eq!(attic.engine.kept_ms() - kept, 2 * DAY);
    assert_eq!(purged(&attic).await, 1);
    // The clock is put right: it is believed again, and nothing was stamped wrongly.
    attic.clock.leap(-400 * DAY);
    let attic = attic.reopen().await;
    assert_eq!(attic.engine.clock_doubt(), None);
    // In step, and off for a weekend: no doubt. Not in step: one, until an administrator says so.
    attic.clock.leap(3 * DAY);
    let attic = attic.reopen().await;
    assert_eq!(attic.engine.clock_doubt(), None);
    attic.put("monday", b"5").await;
    attic.clock.set_synchronised(false);
    attic.clock.leap(3 * DAY);
    let attic = attic.reopen().await;
    assert!(attic.engine.clock_doubt().is_some());
    attic.engine.believe_clock();
    attic.put("confirmed", b"6").await;
    assert_eq!(attic.find("confirmed").await.unwrap().at, attic.engine.wall_ms());
    let attic = attic.reopen().await;
    assert_eq!(attic.engine.clock_doubt(), None);
    // Put back by a year while it runs: times do not stand still, and do not go back.
    let newest = attic.engine.kept_ms();
    attic.clock.leap(-365 * DAY);
    attic.clock.advance(10_000);
    assert!(attic.engine.clock_doubt().is_some());
    assert_eq!(attic.engine.kept_ms(), newest + 10_000);
}

#[tokio::test(flavor = "multi_thread")]
async fn times_that_a_wrong_clock_left_are_mended_in_their_order() {
    const YEAR: i64 = 365 * 86_400_000;
    let attic = Attic::new().await;
    attic.put("before", b"1").await;
    attic.clock.leap(YEAR);
    attic.engine.believe_clock();
    attic.put("doc", b"2").await;
    attic.put("doc", b"3").await;
    assert!(attic.find("doc").await.unwrap().at > START + YEAR / 2);
    attic.engine.stop().await;
    let now = START + 1_000;
    let found = yellow_attic_store::engine::mending::look_at_times(&attic.data(), now).await.unwrap();
    assert!(found.newest > now && found.ahead >= 2, "{found:?}");
    yellow_attic_store::engine::mending::mend_times(&attic.data(), now).await.unwrap();
    attic.clock.leap(-YEAR);
    let engine = opened(&attic.data(), &attic).await;
    assert_eq!(engine.clock_doubt(), None);
    let attic = Attic { engine, ..attic };
    attic.clock.advance(60_000);
    attic.put("after", b"4").await;
    let (doc, after) = (attic.find("doc").await.unwrap(), attic.find("after").await.unwrap());
    assert!(doc.at <= now && doc.at < after.at && doc.since < after.since);
    assert_eq!(attic.engine.people().check_record().await.unwrap().broken, None);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_that_came_back_is_the_new_directory_while_its_old_one_still_stands() {
    let nothing_goes = Arc::new(Failing::at("unlink"));
    let attic = Attic::new().await.reopen_with(nothing_goes.clone()).await;
    let dir = attic.mkdir("plan").await;
    attic.put("plan/early", b"1").await;
    attic.engine.settle().await.unwrap();
    attic.rm("plan").await;
    nothing_goes.switch(true);
    attic.clock.advance(61_000);
    // Taken apart, but for its empty directory.
    assert!(attic.engine.run_jobs().await.is_err());
    attic.engine.history().restore(&attic.ines, dir, None, Place::Last).await.unwrap();
    attic.put("plan/late", b"2").await;
    attic.engine.settle().await.unwrap();
    nothing_goes.switch(false);
    attic.clock.advance(61_000);
    attic.engine.run_jobs().await.unwrap();
    attic.engine.settle().await.unwrap();
    assert_eq!(attic.cat("plan/late").await, b"2");
    assert_eq!(attic.cat("plan/early").await, b"1");
    let there = on_disk(&attic.files());
    assert_eq!(there.keys().collect::<Vec<_>>(), ["plan/early", "plan/late"]);
    assert_eq!(std::fs::read_dir(attic.data().join("past/removed")).unwrap().count(), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn marks_of_a_folder_that_is_another_directory_by_now_mean_the_one_that_it_was() {
    for crash in [false, true] {
        let attic = Attic::new().await;
        let dir = attic.mkdir("plan").await;
        attic.put("plan/early", b"1").await;
        attic.engine.settle().await.unwrap();
        // Nothing is known of its directory, and nothing is carried out: the marks of a whole day are owed at once.
        let no_renames = Arc::new(Failing::at("rename"));
        let attic = attic.reopen_with(no_renames.clone()).await;
        no_renames.switch(true);
        attic.rm("plan").await;
        attic.clock.advance(61_000);
        let engine = attic.engine.clone();
        let apart = tokio::spawn(async move { engine.run_jobs().await });
        tokio::time::sleep(Duration::from_millis(100)).await;
        let back = attic.engine.history().restore(&attic.ines, dir, None, Place::Last).await;
        let attic = match crash {
            false => {
                no_renames.switch(false);
                let _ = apart.await.unwrap();
                attic
            }
            true => {
                apart.abort();
                attic.reopen().await
            }
        };
        if let Err(first) = back {
            // Refused while the disk did not follow; it comes as soon as that does.
            let mut last = first;
            for _ in 0..400 {
                match attic.engine.history().restore(&attic.ines, dir, None, Place::Last).await {
                    Ok(_) | Err(StoreError::StillHere) => break,
                    Err(e) => last = e,
                }
                tokio::time::sleep(Duration::from_millis(25)).await;
            }
            assert!(attic.find("plan").await.is_ok(), "{last}, crash: {crash}");
        }
        until("the disk", async || attic.engine.settle().await.is_ok()).await;
        attic.clock.advance(61_000);
        attic.engine.run_jobs().await.unwrap();
        attic.engine.settle().await.unwrap();
        assert_eq!(attic.cat("plan/early").await, b"1", "crash: {crash}");
        assert_eq!(findings(&attic.engine).await, Vec::<String>::new(), "crash: {crash}");
    }
}

/// Somebody's program carries the catalogue's log over in the moment before a commit; then the disk does not sync.
struct Meddling {
    data: std::path::PathBuf,
    on: std::sync::atomic::AtomicBool,
    syncs: AtomicI64,
}

impl yellow_attic_store::fs::fault_points::Steps for Meddling {
    fn before(&self, step: &'static str) -> std::io::Result<()> {
        if !self.on.load(Ordering::SeqCst) {
            return Ok(());
        }
        if step == "commit" {
            let path = self.data.join("catalogue.db");
            let meddle = async move {
                use sqlx::ConnectOptions;
                let options = sqlx::sqlite::SqliteConnectOptions::new().filename(path);
                let mut conn = options.connect().await.unwrap();
                sqlx::query("PRAGMA wal_checkpoint(PASSIVE)").execute(&mut conn).await.unwrap();
            };
            let runtime = || tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
            std::thread::spawn(move || runtime().block_on(meddle)).join().unwrap();
        }
        if step == "commit the journal" && self.syncs.fetch_sub(1, Ordering::SeqCst) == 1 {
            return Err(std::io::Error::other("once only"));
        }
        Ok(())
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_commit_that_did_not_take_the_bytes_with_it_is_not_called_done() {
    let disk = yellow_attic_trials::disk::Image::make(yellow_attic_trials::disk::Kind::Ext4, 200);
    let data = disk.at.join("data");
    let clock = Arc::new(yellow_attic_store::fs::clock::SetClock::at(START));
    let steps = Arc::new(Meddling { data: data.clone(), on: false.into(), syncs: 0.into() });
    let engine = Engine::open(options(&data, &clock, steps.clone())).await.unwrap();
    let account = engine
        .people()
        .make_account(&Actor::service(), "ines", "Ines", Role::Administrator, "x")
        .await
        .unwrap();
    let ines = actor(account.id, "ines");
    let home = engine.home_of(account.id).unwrap().root;
    let put = async |text: &str| {
        let staged = engine.stage_small(text.as_bytes().to_vec()).unwrap();
        engine.files().put(&ines, home, name(text), staged, START, Conditions::default()).await
    };
    for text in ["one", "two", "three"] {
        put(text).await.unwrap();
    }
    // Its commit overwrites the log, unlike what was foreseen: the journal is asked once more, and answers.
    steps.on.store(true, Ordering::SeqCst);
    steps.syncs.store(2, Ordering::SeqCst);
    put("four").await.unwrap();
    let asked = 2 - steps.syncs.load(Ordering::SeqCst);
    assert_eq!(asked, 1, "the journal was asked {asked} times");
    steps.on.store(false, Ordering::SeqCst);
    for text in ["five", "six"] {
        put(text).await.unwrap();
    }
    // The same, and it does not answer: nobody is told that all is well.
    steps.on.store(true, Ordering::SeqCst);
    steps.syncs.store(1, Ordering::SeqCst);
    let outcome = put("seven").await;
    assert!(outcome.is_err(), "{outcome:?}");
    steps.on.store(false, Ordering::SeqCst);
    put("eight").await.unwrap();
    for text in ["one", "two", "three", "four", "five", "six", "eight"] {
        assert_eq!(read(&engine, &ines, text).await, text.as_bytes());
    }
    engine.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_state_that_a_power_cut_left_under_both_its_names_stands_in_nobodys_way() {
    let attic = Attic::new().await;
    let before = attic.put("doc", b"before").await.row.unwrap();
    attic.engine.settle().await.unwrap();
    // As btrfs leaves it: at its place still, and where it was moved to.
    let content = before.content.unwrap();
    let incoming = attic.data().join(format!("past/incoming/c{:x}", content.id.0));
    std::fs::hard_link(attic.files().join("doc"), &incoming).unwrap();
    attic.put("doc", b"after").await;
    attic.engine.settle().await.unwrap();
    assert!(attic.engine.stopped_shelves().is_empty(), "the shelf takes no writes");
    assert_eq!(attic.cat("doc").await, b"after");
    until("the state of before", async || !incoming.exists()).await;
    let states = attic.engine.history().states(&attic.ines, before.node, 10).await.unwrap();
    let mut all = Vec::new();
    for state in &states {
        all.push(attic.bytes_of(&state.row).await);
    }
    assert!(all.contains(&b"before".to_vec()), "{all:?}");
}

//! The past: as it was, restoring, removed folders, taking apart and putting together.

use crate::support::{Attic, START, name, on_disk};
use yellow_attic_store::{Actor, NewShelf, Place, ShelfKind, SinceThen, StoreError};

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_is_shown_as_it_was_at_any_moment() {
    let attic = Attic::new().await;
    attic.mkdir("a").await;
    attic.put("a/kept", b"1").await;
    attic.put("a/changed", b"1").await;
    attic.put("a/moved", b"1").await;
    attic.put("a/removed", b"1").await;
    let then = attic.engine.history().now_moment().await.unwrap();
    attic.clock.advance(60_000);
    attic.put("a/changed", b"22").await;
    attic.mv("a/moved", "moved").await;
    attic.rm("a/removed").await;
    attic.put("a/new", b"1").await;
    let a = attic.find("a").await.unwrap().node;
    let page = attic.engine.history().list_at(&attic.ines, a, then, 100, None).await.unwrap();
    let told: Vec<_> = page.items.iter().map(|e| (e.row.name().to_string(), e.since_then.unwrap())).collect();
    assert_eq!(
        told,
        [
            ("changed".to_string(), SinceThen::Different),
            ("kept".to_string(), SinceThen::Same),
            ("moved".to_string(), SinceThen::Moved),
            ("removed".to_string(), SinceThen::Removed)
        ]
    );
    for entry in &page.items {
        assert_eq!(attic.bytes_of(&entry.row).await, b"1", "{}", entry.row.name());
    }
    // By time as well, page by page, and not for a time before anything was.
    assert_eq!(attic.engine.history().moment_at(START + 59_000).await.unwrap(), then);
    let first = attic.engine.history().list_at(&attic.ines, a, then, 2, None).await.unwrap();
    let second =
        attic.engine.history().list_at(&attic.ines, a, then, 2, first.next.as_deref()).await.unwrap();
    assert_eq!((first.items.len(), second.items.len(), second.next), (2, 2, None));
    let before = attic.engine.history().moment_at(START - 1).await.unwrap();
    assert!(matches!(
        attic.engine.history().list_at(&attic.ines, a, before, 9, None).await,
        Err(StoreError::NotFound(_))
    ));
}

#[tokio::test(flavor = "multi_thread")]
async fn many_states_are_all_found_again() {
    let attic = Attic::new().await;
    let mut moments = Vec::new();
    for i in 0..70u32 {
        attic.put("doc", format!("state {i}").as_bytes()).await;
        attic.put(&format!("f{}", i % 7), b"x").await;
        if i % 5 == 4 {
            attic.rm(&format!("f{}", i % 7)).await;
        }
        moments.push((attic.engine.history().now_moment().await.unwrap(), attic.ls("").await, i));
    }
    for (moment, names, i) in moments {
        let page = attic.engine.history().list_at(&attic.ines, attic.home, moment, 100, None).await.unwrap();
        let then: Vec<_> = page.items.iter().map(|e| e.row.name().to_string()).collect();
        assert_eq!(then, names);
        let doc = page.items.iter().find(|e| e.row.name() == "doc").unwrap();
        assert_eq!(attic.bytes_of(&doc.row).await, format!("state {i}").as_bytes());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_restore_is_a_new_state_and_can_be_taken_back() {
    let attic = Attic::new().await;
    attic.put("doc", b"one").await;
    let then = attic.engine.history().now_moment().await.unwrap();
    attic.put("doc", b"two").await;
    let doc = attic.find("doc").await.unwrap().node;
    attic.engine.history().restore(&attic.ines, doc, Some(then), Place::Last).await.unwrap();
    assert_eq!(attic.cat("doc").await, b"one");
    assert_eq!(attic.engine.history().states(&attic.ines, doc, 10).await.unwrap().len(), 3);
    let here = attic.engine.history().restore(&attic.ines, doc, None, Place::Last).await;
    assert!(matches!(here, Err(StoreError::StillHere)));
    attic.rm("doc").await;
    attic.engine.history().restore(&attic.ines, doc, None, Place::Last).await.unwrap();
    assert_eq!(attic.find("doc").await.unwrap().node, doc);
    assert_eq!(attic.cat("doc").await, b"one");
    attic.engine.settle().await.unwrap();
    assert_eq!(on_disk(&attic.files())["doc"], b"one");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_in_a_removed_folder_comes_back_with_it_only() {
    let attic = Attic::new().await;
    attic.mkdir("a").await;
    attic.put("a/x", b"1").await;
    let (a, x) = (attic.find("a").await.unwrap().node, attic.find("a/x").await.unwrap().node);
    attic.rm("a").await;
    assert!(matches!(attic.find("a/x").await, Err(StoreError::NotFound(_))));
    let gone = attic.engine.history().restore(&attic.ines, x, None, Place::Last).await;
    assert!(matches!(gone, Err(StoreError::PlaceGone)));
    attic.put("other", b"2").await;
    attic.engine.history().restore(&attic.ines, a, None, Place::At(attic.home, name("b"))).await.unwrap();
    assert_eq!(attic.cat("b/x").await, b"1");
    attic.rm("b").await;
    attic.put("b", b"in the way").await;
    let taken = attic.engine.history().restore(&attic.ines, a, None, Place::Last).await;
    assert!(matches!(taken, Err(StoreError::NameTaken(_))));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_removed_folder_goes_as_one_and_is_taken_apart_and_put_together_again() {
    let attic = Attic::new().await;
    attic.mkdir("a").await;
    attic.mkdir("a/deep").await;
    attic.put("a/x", b"one").await;
    attic.put("a/same", b"one").await;
    attic.put("a/deep/y", b"two").await;
    attic.engine.settle().await.unwrap();
    let before = attic.engine.files().sums(&attic.ines, attic.home).await.unwrap().unwrap();
    let a = attic.find("a").await.unwrap().node;
    let then = attic.engine.history().now_moment().await.unwrap();
    attic.rm("a").await;
    attic.engine.settle().await.unwrap();
    let removed = attic.data().join("past/removed");
    assert_eq!(on_disk(&removed).len(), 3);
    assert!(on_disk(&attic.files()).is_empty());

    attic.engine.run_jobs().await.unwrap();
    attic.engine.settle().await.unwrap();
    assert_eq!(on_disk(&removed).keys().collect::<Vec<_>>(), Vec::<&String>::new());
    // Equal bytes are kept once.
    assert_eq!(on_disk(&attic.data().join("past")).len(), 2);
    let row = attic.engine.history().list_at(&attic.ines, a, then, 9, None).await.unwrap();
    let x = row.items.iter().find(|e| e.row.name() == "x").unwrap();
    assert_eq!(attic.bytes_of(&x.row).await, b"one");

    attic.engine.history().restore(&attic.ines, a, None, Place::Last).await.unwrap();
    // Readable at once, and on the disk when the job is done.
    assert_eq!(attic.cat("a/deep/y").await, b"two");
    attic.engine.run_jobs().await.unwrap();
    attic.engine.settle().await.unwrap();
    assert_eq!(on_disk(&attic.files())["a/deep/y"], b"two");
    assert_eq!(on_disk(&attic.files()).len(), 3);
    let after = attic.engine.files().sums(&attic.ines, attic.home).await.unwrap().unwrap();
    assert_eq!(
        (before.bytes, before.files, before.folders, before.past_bytes),
        (after.bytes, after.files, after.folders, after.past_bytes)
    );
    attic.put("a/deep/y", b"three").await;
    assert_eq!(attic.cat("a/deep/y").await, b"three");
}

#[tokio::test(flavor = "multi_thread")]
async fn unknown_and_changed_files_in_a_removed_folder_are_entered_as_removed_with_it() {
    let attic = Attic::new().await;
    attic.mkdir("a").await;
    attic.put("a/x", b"one").await;
    attic.engine.settle().await.unwrap();
    let x = attic.find("a/x").await.unwrap().node;
    let a = attic.find("a").await.unwrap().node;
    std::fs::write(attic.files().join("a/x"), b"changed behind our back").unwrap();
    std::fs::write(attic.files().join("a/unknown"), b"never seen").unwrap();
    std::fs::create_dir(attic.files().join("a/dir")).unwrap();
    std::fs::write(attic.files().join("a/dir/z"), b"deep").unwrap();
    attic.rm("a").await;
    attic.engine.settle().await.unwrap();
    attic.engine.run_jobs().await.unwrap();
    attic.engine.settle().await.unwrap();
    let kept: Vec<_> = on_disk(&attic.data().join("past")).into_values().collect();
    for bytes in [&b"changed behind our back"[..], b"never seen", b"deep"] {
        assert!(kept.iter().any(|k| k == bytes));
    }
    let history = attic.engine.history().states(&attic.ines, x, 10).await.unwrap();
    assert!(history.iter().any(|s| s.row.size() == 23));
    let last = attic.engine.history().now_moment().await.unwrap();
    assert!(attic.engine.history().chain_at(a, last).await.unwrap().is_none());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_move_to_another_shelf_shows_at_once_and_is_restamped_later() {
    let attic = Attic::new().await;
    let new = NewShelf {
        kind: ShelfKind::Shared,
        name: name("Collections"),
        owner: attic.ines.account,
        grants: Vec::new(),
    };
    let shelf = attic.engine.space().make_shelf(&attic.ines, new).await.unwrap();
    attic.mkdir("a").await;
    attic.mkdir("a/b").await;
    attic.put("a/b/x", b"one").await;
    let then = attic.engine.history().now_moment().await.unwrap();
    let a = attic.find("a").await.unwrap().node;
    attic
        .engine
        .files()
        .move_node(&attic.ines, a, shelf.root, name("a"), false, Default::default())
        .await
        .unwrap();
    let x =
        attic.engine.files().resolve(&attic.ines, "Collections", &["a", "b", "x"].map(name)).await.unwrap();
    assert_eq!(attic.bytes_of(&x).await, b"one");
    attic.engine.run_jobs().await.unwrap();
    attic.engine.settle().await.unwrap();
    let x =
        attic.engine.files().resolve(&attic.ines, "Collections", &["a", "b", "x"].map(name)).await.unwrap();
    assert_eq!(x.shelf, shelf.id);
    attic.engine.settle().await.unwrap();
    assert_eq!(on_disk(&attic.data().join("shelves/main/shared/Collections"))["a/b/x"], b"one");
    // Earlier states stay where they were.
    let past =
        attic.engine.files().resolve_at(&attic.ines, "home", &["a", "b", "x"].map(name), then).await.unwrap();
    assert_eq!(attic.bytes_of(&past).await, b"one");
    // And who may not see the present place may not see the past one either.
    let tomas = attic
        .engine
        .people()
        .make_account(
            &Actor::service(),
            "tomas",
            "T",
            yellow_attic_store::people::accounts::Role::Member,
            "x",
        )
        .await
        .unwrap();
    let tomas = Actor { account: Some(tomas.id), ..attic.ines.clone() };
    assert!(matches!(
        attic.engine.history().check_past(&tomas, x.node, then).await,
        Err(StoreError::NotFound(_))
    ));
    assert!(matches!(attic.engine.history().states(&tomas, x.node, 9).await, Err(StoreError::NotFound(_))));
}

//! A folder is removed by who knows all of it, and by nobody else.

use crate::support::{Attic, name};
use yellow_attic_core::conditions::{Conditions, Known};
use yellow_attic_core::{Moment, NodeId};
use yellow_attic_store::{NewShelf, ShelfKind, StoreError};
use yellow_attic_trials::numbers;

fn seen(moment: Moment) -> Conditions {
    Conditions { known: Known { seen: Some(moment), ..Known::default() }, ..Conditions::default() }
}

/// The last number at which a folder, or anything beneath it, came to be as it is.
async fn newest(attic: &Attic, folder: NodeId) -> Moment {
    let chain = attic
        .engine
        .files()
        .chain(&attic.ines, folder, yellow_attic_core::rights::Level::View)
        .await
        .unwrap();
    let (mut newest, mut waiting) = (chain[0].since, vec![folder]);
    while let Some(folder) = waiting.pop() {
        let page = attic
            .engine
            .files()
            .list(&attic.ines, folder, Default::default(), false, 1000, None)
            .await
            .unwrap();
        for entry in page.items {
            newest = newest.max(entry.row.since);
            if entry.row.is_folder() {
                waiting.push(entry.row.node);
            }
        }
    }
    newest
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_is_removed_exactly_by_who_has_seen_all_beneath() {
    let (mut removed, mut refused) = (0, 0);
    for seed in 0..12 {
        let attic = Attic::new().await;
        let shelf = NewShelf {
            kind: ShelfKind::Shared,
            name: name("Plans"),
            owner: attic.ines.account,
            grants: vec![],
        };
        let shelf = attic.engine.space().make_shelf(&attic.ines, shelf).await.unwrap();
        let mut next = numbers(seed);
        let mut folders = vec![attic.home, shelf.root];
        let mut all: Vec<NodeId> = Vec::new();
        for step in 0..150 {
            let parent = folders[next(folders.len() as u64) as usize];
            let wanted = name(&format!("n{step}"));
            let free = Conditions::default();
            match next(8) {
                0 | 1 => {
                    if let Ok(made) = attic.engine.files().make_folder(&attic.ines, parent, wanted).await {
                        folders.push(made.row.as_ref().unwrap().node);
                        all.push(made.row.unwrap().node);
                    }
                }
                2..=4 => {
                    let staged = attic.engine.stage_small(vec![1]).unwrap();
                    if let Ok(put) =
                        attic.engine.files().put(&attic.ines, parent, wanted, staged, 1, free).await
                    {
                        all.push(put.row.unwrap().node);
                    }
                }
                5 if !all.is_empty() => {
                    // Also onto the other shelf, whose stamp comes later.
                    let node = all[next(all.len() as u64) as usize];
                    let _ =
                        attic.engine.files().move_node(&attic.ines, node, parent, wanted, false, free).await;
                    if next(2) == 0 {
                        attic.engine.run_jobs().await.unwrap();
                    }
                }
                _ if folders.len() > 4 => {
                    let folder = folders[2 + next(folders.len() as u64 - 2) as usize];
                    let chain = attic.engine.files().chain(
                        &attic.ines,
                        folder,
                        yellow_attic_core::rights::Level::View,
                    );
                    if chain.await.is_err() {
                        continue;
                    }
                    let newest = newest(&attic, folder).await;
                    let known = Moment((newest.0 - 3 + next(6) as i64).max(1));
                    match attic.engine.files().remove(&attic.ines, folder, seen(known)).await {
                        Ok(_) => {
                            removed += 1;
                            assert!(
                                newest <= known,
                                "seed {seed}, step {step}: {newest:?} was not seen at {known:?}"
                            );
                        }
                        Err(StoreError::ConditionFailed { .. }) => {
                            refused += 1;
                            assert!(
                                newest > known,
                                "seed {seed}, step {step}: all of it was seen at {known:?}"
                            );
                        }
                        Err(e) => panic!("{e}"),
                    }
                }
                _ => {}
            }
        }
        attic.engine.stop().await;
    }
    assert!(removed > 40 && refused > 40, "{removed} {refused}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_comes_while_a_folder_is_removed_is_never_taken_with_it() {
    let attic = Attic::new().await;
    let (mut removed, mut kept) = (0, 0);
    for round in 0..60 {
        let folder = attic.mkdir(&format!("folder {round}")).await;
        let deep = attic.engine.files().make_folder(&attic.ines, folder, name("deep")).await.unwrap();
        let (deep, known) = (deep.row.unwrap().node, deep.moment);
        let (engine, ines) = (attic.engine.clone(), attic.ines.clone());
        let first = std::sync::Arc::new(tokio::sync::Notify::new());
        let its_first = first.clone();
        let putting = tokio::spawn(async move {
            let mut put = Vec::new();
            for n in 0..4 {
                if n == 1 {
                    its_first.notify_one();
                }
                let staged = engine.stage_small(vec![n]).unwrap();
                let done = engine
                    .files()
                    .put(&ines, deep, name(&format!("f{n}")), staged, 1, Conditions::default())
                    .await;
                put.extend(done.ok().map(|d| d.moment));
                tokio::task::yield_now().await;
            }
            put
        });
        if round % 2 == 0 {
            first.notified().await;
        }
        let done = attic.engine.files().remove(&attic.ines, folder, seen(known)).await;
        let put = putting.await.unwrap();
        match done {
            Ok(done) => {
                removed += 1;
                assert!(put.iter().all(|m| *m > done.moment), "{put:?} before {:?}", done.moment);
                assert!(put.is_empty(), "nothing is put into what is removed");
            }
            Err(StoreError::ConditionFailed { .. }) => {
                kept += 1;
                assert_eq!(put.len(), 4, "what was not removed takes what comes");
            }
            Err(e) => panic!("{e}"),
        }
    }
    assert_eq!(removed + kept, 60);
    assert!(kept > 0, "{removed} removed");
    attic.engine.stop().await;
}

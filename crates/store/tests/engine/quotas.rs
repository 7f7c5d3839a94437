//! Quotas: all lines hold at once, under parallel writers too.

use crate::support::{Attic, name};
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::rules::{Rule, Scope};
use yellow_attic_store::rights::quota::{Counts, LineOf};
use yellow_attic_store::{Actor, StoreError};

fn refused<T>(done: &Result<T, StoreError>) -> bool {
    matches!(done, Err(StoreError::QuotaFull { .. }))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_and_the_organisation_have_lines_of_their_own() {
    let attic = Attic::new().await;
    let hall = attic.mkdir("hall").await;
    attic.mkdir("hall/inner").await;
    attic.put("big", &[1; 60]).await;
    let engine = &attic.engine;
    engine.space().set_lines(&attic.ines, LineOf::Folder(hall), "hall", None, Some(Some(100))).await.unwrap();
    attic.put("hall/inner/a", &[1; 80]).await;
    let full = attic.put_as(&attic.ines, "hall/inner/b", &[1; 30]).await;
    assert!(refused(&full), "{full:?}");
    attic.put("elsewhere", &[1; 30]).await;
    // Moving in counts, moving within does not.
    assert!(refused(&attic.mv_as(&attic.ines, "elsewhere", "hall/e", false).await));
    attic.mv("hall/inner/a", "hall/a").await;
    // Replacing counts the difference.
    attic.put("hall/a", &[1; 95]).await;
    assert!(refused(&attic.put_as(&attic.ines, "hall/a", &[1; 101]).await));
    engine.space().set_lines(&attic.ines, LineOf::Organisation, "all", None, Some(Some(200))).await.unwrap();
    assert!(refused(&attic.put_as(&attic.ines, "more", &[1; 30]).await));
    attic.put("more", &[1; 15]).await;
    attic.rm("big").await;
    attic.put("again", &[1; 50]).await;
    // A claim meets the same lines.
    assert!(refused(&engine.space().claim(hall, 6, 0).await.map(drop)));
    let claim = engine.space().claim(hall, 5, 0).await.unwrap();
    assert!(refused(&engine.space().claim(hall, 1, 0).await.map(drop)));
    drop(claim);
    drop(engine.space().claim(hall, 5, 0).await.unwrap());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_counts_is_a_rule() {
    let attic = Attic::new().await;
    let shelf = attic.engine.home_of(attic.ines.account.unwrap()).unwrap();
    attic.put("a", &[1; 40]).await;
    attic.put("a", &[2; 10]).await;
    attic.put("b", &[1; 7]).await;
    attic.rm("b").await;
    let used = async |counts: Counts| {
        let all = attic.engine.space().filled(Some(counts), true).await.unwrap();
        all.iter().find(|f| f.of == LineOf::Shelf(shelf.id)).unwrap().used
    };
    assert_eq!(used(Counts::default()).await, 10);
    assert_eq!(used(Counts { versions: true, ..Counts::default() }).await, 50);
    assert_eq!(used(Counts { trash: true, ..Counts::default() }).await, 17);
    assert_eq!(used(Counts { versions: true, trash: true, snapshots: true, given: false }).await, 57);
    let value = Rule::QuotaCounts.read("versions").unwrap();
    let engine = &attic.engine;
    engine
        .people()
        .set_rule(&attic.ines, Scope::Service, Rule::QuotaCounts, Some(value), "all")
        .await
        .unwrap();
    engine
        .space()
        .set_lines(&attic.ines, LineOf::Shelf(shelf.id), "home", None, Some(Some(55)))
        .await
        .unwrap();
    // What is replaced goes on counting.
    assert!(refused(&attic.put_as(&attic.ines, "a", &[3; 10]).await));
    attic.put("c", &[1; 5]).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_crossing_is_told_once_until_there_is_room_again() {
    let attic = Attic::new().await;
    let shelf = attic.engine.home_of(attic.ines.account.unwrap()).unwrap();
    let engine = &attic.engine;
    engine
        .space()
        .set_lines(&attic.ines, LineOf::Shelf(shelf.id), "home", Some(Some(50)), Some(Some(100)))
        .await
        .unwrap();
    attic.put("a", &[1; 40]).await;
    assert!(engine.space().crossings().await.unwrap().is_empty());
    attic.put("b", &[1; 20]).await;
    let told = engine.space().crossings().await.unwrap();
    assert_eq!((told.len(), told[0].used), (1, 60), "the soft line lets it pass, and warns");
    assert!(engine.space().crossings().await.unwrap().is_empty());
    attic.rm("b").await;
    assert!(engine.space().crossings().await.unwrap().is_empty());
    attic.put("b", &[1; 20]).await;
    assert_eq!(engine.space().crossings().await.unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_hard_line_holds_under_parallel_uploads() {
    let attic = Attic::new().await;
    let hall = attic.mkdir("hall").await;
    attic
        .engine
        .space()
        .set_lines(&attic.ines, LineOf::Folder(hall), "hall", None, Some(Some(1000)))
        .await
        .unwrap();
    let mut set = tokio::task::JoinSet::new();
    for i in 0..60 {
        let (engine, ines): (_, Actor) = (attic.engine.clone(), attic.ines.clone());
        set.spawn(async move {
            let claim = engine.space().claim(hall, 50, 0).await?;
            let staged = engine.stage_small(vec![i; 50])?;
            let done = engine
                .files()
                .put(&ines, hall, name(&format!("{i}")), staged, 7, Conditions::default())
                .await;
            drop(claim);
            done
        });
    }
    let mut done = 0;
    while let Some(one) = set.join_next().await {
        match one.unwrap() {
            Ok(_) => done += 1,
            Err(e) => assert!(refused::<()>(&Err(e))),
        }
    }
    // Claims are generous while others run; the commit is exact. Never above the line.
    let bytes = attic.engine.files().sums(&attic.ines, hall).await.unwrap().unwrap().bytes;
    assert_eq!(bytes, done * 50);
    assert!((900..=1000).contains(&bytes), "{bytes}");
}

//! Folders rolled back, and that taken back; mass change.

use crate::keeping::noise;
use crate::support::{Attic, name};
use proptest::prelude::*;
use std::collections::BTreeMap;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::rules::{Rule, Scope};
use yellow_attic_core::{Moment, NodeId};
use yellow_attic_store::timeline::rollback::{Begin, Rollback};
use yellow_attic_store::timeline::space::recount;
use yellow_attic_store::{Sort, StoreError};

/// Paths to bytes and node ids, beneath a folder.
async fn tree(attic: &Attic, top: NodeId) -> BTreeMap<String, (i64, Vec<u8>)> {
    let mut found = BTreeMap::new();
    let mut waiting = vec![(top, String::new())];
    while let Some((folder, prefix)) = waiting.pop() {
        let page =
            attic.engine.files().list(&attic.ines, folder, Sort::Name, false, 1000, None).await.unwrap();
        for entry in page.items {
            let path = format!("{prefix}{}", entry.row.name());
            if entry.row.is_folder() {
                found.insert(format!("{path}/"), (entry.row.node.0, Vec::new()));
                waiting.push((entry.row.node, format!("{path}/")));
            } else {
                let bytes = attic.bytes_of(&entry.row).await;
                found.insert(path, (entry.row.node.0, bytes));
            }
        }
    }
    found
}

async fn roll(attic: &Attic, top: NodeId, goal: Moment, undoes: Option<i64>) -> Rollback {
    let seen = attic.engine.history().plan_rollback(&attic.ines, top, goal, &[]).await.unwrap();
    let begun = attic
        .engine
        .history()
        .begin_rollback(&attic.ines, top, goal, Begin { token: Some(&seen.token), undoes, keep: &[] })
        .await
        .unwrap();
    let done = attic.engine.history().run_rollback(begun.id).await.unwrap();
    attic.engine.run_jobs().await.unwrap();
    done
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_is_rolled_back_and_that_is_taken_back() {
    let attic = Attic::new().await;
    let top = attic.mkdir("plans").await;
    attic.mkdir("plans/hall").await;
    attic.put("plans/hall/a", b"a1").await;
    attic.put("plans/hall/b", b"b1").await;
    attic.put("plans/c", b"c1").await;
    attic.put("plans/swap-1", b"1").await;
    attic.put("plans/swap-2", b"2").await;
    attic.put("plans/leaves", b"leaves").await;
    attic.put("outside", b"outside").await;
    let then = attic.engine.history().now_moment().await.unwrap();
    let as_then = tree(&attic, top).await;
    attic.clock.advance(3_600_000);
    // Rewritten, renamed, removed, swapped, moved out and in, a folder gone and one made.
    attic.put("plans/c", b"c2 is longer").await;
    attic.mv("plans/hall/a", "plans/hall/renamed").await;
    attic.put("plans/hall/b", b"b2").await;
    attic.rm("plans/hall").await;
    attic.mkdir("plans/hall").await;
    attic.put("plans/hall/new", b"new").await;
    attic.mv("plans/swap-1", "plans/tmp").await;
    attic.mv("plans/swap-2", "plans/swap-1").await;
    attic.mv("plans/tmp", "plans/swap-2").await;
    attic.mv("plans/leaves", "leaves").await;
    attic.mv("outside", "plans/outside").await;
    let before = tree(&attic, top).await;
    let done = roll(&attic, top, then, None).await;
    assert_eq!((done.state.as_str(), &done.left_alone[..]), ("done", &[][..]));
    assert_eq!(tree(&attic, top).await, as_then);
    assert_eq!(attic.cat("outside").await, b"outside", "what came from elsewhere went back there");
    // Nothing is left to do; and it can be taken back.
    assert!(attic.engine.history().plan_rollback(&attic.ines, top, then, &[]).await.unwrap().plan.is_empty());
    let undone = roll(&attic, top, done.begun, Some(done.id)).await;
    assert_eq!(undone.undoes, Some(done.id));
    assert_eq!(tree(&attic, top).await, before);
    assert_eq!(attic.engine.people().check_record().await.unwrap().broken, None);
    let data = attic.data();
    attic.engine.settle().await.unwrap();
    attic.engine.stop().await;
    let found = recount(&data).await.unwrap();
    assert!(found.agrees(), "{found:#?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_others_change_meanwhile_stays_and_is_told() {
    let attic = Attic::new().await;
    let top = attic.mkdir("plans").await;
    for i in 0..4 {
        attic.put(&format!("plans/{i}"), b"before").await;
    }
    let then = attic.engine.history().now_moment().await.unwrap();
    for i in 0..4 {
        attic.put(&format!("plans/{i}"), b"after").await;
    }
    let begun =
        attic.engine.history().begin_rollback(&attic.ines, top, then, Begin::default()).await.unwrap();
    attic.put("plans/2", b"newer work").await;
    attic.put("plans/brand new", b"too").await;
    // It was stopped before it did anything, and goes on.
    let attic = attic.reopen().await;
    assert_eq!(attic.engine.history().running_rollbacks().await.unwrap(), [begun.id]);
    let done = attic.engine.history().run_rollback(begun.id).await.unwrap();
    assert_eq!(done.state, "done");
    let mut told: Vec<_> = done.left_alone.iter().map(|l| l.name.as_str()).collect();
    told.sort_unstable();
    assert_eq!(told, ["2", "brand new"]);
    assert_eq!(attic.cat("plans/2").await, b"newer work");
    assert_eq!(attic.cat("plans/3").await, b"before");
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_that_was_there_then_goes_with_a_folder_that_was_not() {
    let attic = Attic::new().await;
    let top = attic.mkdir("plans").await;
    attic.mkdir("other").await;
    attic.put("other/guest", b"guest").await;
    let then = attic.engine.history().now_moment().await.unwrap();
    attic.mkdir("plans/new").await;
    attic.put("plans/new/made", b"made").await;
    attic.mv("other/guest", "plans/new/guest").await;
    attic.rm("other").await;
    let done = roll(&attic, top, then, None).await;
    assert_eq!(attic.cat("plans/new/guest").await, b"guest", "its place is gone: it stays");
    assert_eq!(attic.ls("plans/new").await, ["guest"]);
    let mut told: Vec<_> = done.left_alone.iter().map(|l| l.name.as_str()).collect();
    told.sort_unstable();
    assert_eq!(told, ["guest", "new"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rollback_refuses_what_it_cannot_do() {
    let attic = Attic::new().await;
    attic.put("x", b"1").await;
    let early = attic.engine.history().now_moment().await.unwrap();
    let top = attic.mkdir("plans").await;
    let then = attic.engine.history().now_moment().await.unwrap();
    attic.put("plans/a", b"1").await;
    let engine = &attic.engine;
    assert!(matches!(
        engine.history().plan_rollback(&attic.ines, top, early, &[]).await,
        Err(StoreError::NotThereYet { .. })
    ));
    let x = attic.find("x").await.unwrap().node;
    assert!(matches!(
        engine.history().plan_rollback(&attic.ines, x, then, &[]).await,
        Err(StoreError::NotAFolder(_))
    ));
    let seen = engine.history().plan_rollback(&attic.ines, top, then, &[]).await.unwrap();
    attic.put("plans/b", b"1").await;
    assert!(matches!(
        engine
            .history()
            .begin_rollback(&attic.ines, top, then, Begin { token: Some(&seen.token), ..Begin::default() })
            .await,
        Err(StoreError::PlanStale)
    ));
    let first = engine.history().begin_rollback(&attic.ines, top, then, Begin::default()).await.unwrap();
    assert!(matches!(
        engine.history().begin_rollback(&attic.ines, top, then, Begin::default()).await,
        Err(StoreError::RollingBack(_))
    ));
    engine.history().run_rollback(first.id).await.unwrap();
    assert!(attic.ls("plans").await.is_empty());
}

#[derive(Clone, Debug)]
enum Act {
    Put(u8, u8),
    Mkdir(u8),
    Move(u8, u8),
    Remove(u8),
}

fn path(n: u8) -> String {
    let part = |n: u8| char::from(b'a' + n % 3);
    match n % 9 {
        0..=2 => format!("top/{}", part(n)),
        3..=6 => format!("top/{}/{}", part(n), part(n / 3)),
        7 => format!("{}", part(n / 3)),
        _ => format!("top/{}/{}/{}", part(n), part(n / 3), part(n / 9)),
    }
}

async fn act(attic: &Attic, act: &Act) {
    let free = Conditions::default();
    let split =
        |p: String| p.rsplit_once('/').map_or((String::new(), p.clone()), |(a, b)| (a.into(), b.into()));
    match act {
        Act::Put(p, tag) => {
            let (parent, last) = split(path(*p));
            if let Ok(parent) = attic.find(&parent).await {
                let staged = attic.engine.stage_small(vec![*tag; 5]).unwrap();
                let _ =
                    attic.engine.files().put(&attic.ines, parent.node, name(&last), staged, 7, free).await;
            }
        }
        Act::Mkdir(p) => {
            let (parent, last) = split(path(*p));
            if let Ok(parent) = attic.find(&parent).await {
                let _ = attic.engine.files().make_folder(&attic.ines, parent.node, name(&last)).await;
            }
        }
        Act::Move(a, b) => {
            let _ = attic.mv_if(&path(*a), &path(*b)).await;
        }
        Act::Remove(p) => {
            if let Ok(row) = attic.find(&path(*p)).await {
                let _ = attic.engine.files().remove(&attic.ines, row.node, free).await;
            }
        }
    }
    // Two saves a minute apart are no longer how a program saves one file.
    attic.clock.advance(61_000);
}

fn any_act() -> impl Strategy<Value = Act> {
    prop_oneof![
        5 => (any::<u8>(), any::<u8>()).prop_map(|(p, b)| Act::Put(p, b)),
        3 => any::<u8>().prop_map(Act::Mkdir),
        3 => (any::<u8>(), any::<u8>()).prop_map(|(a, b)| Act::Move(a, b)),
        2 => any::<u8>().prop_map(Act::Remove),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, max_shrink_iters: 150, failure_persistence: None, ..ProptestConfig::default() })]

    /// Rolled back to a number, a folder is what it was at that number; taken back, what it was before.
    #[test]
    fn a_rollback_shows_the_folder_as_it_was_and_taking_it_back_is_the_identity(
        first in prop::collection::vec(any_act(), 1..16),
        second in prop::collection::vec(any_act(), 1..16),
    ) {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
        runtime.block_on(async {
            let attic = Attic::new().await;
            let top = attic.mkdir("top").await;
            for a in &first {
                act(&attic, a).await;
            }
            let (then, as_then) = (attic.engine.history().now_moment().await.unwrap(), tree(&attic, top).await);
            for a in &second {
                act(&attic, a).await;
            }
            // Moved or removed itself, it is another matter.
            if !attic.find("top").await.is_ok_and(|r| r.node == top) {
                return;
            }
            let before = tree(&attic, top).await;
            let done = roll(&attic, top, then, None).await;
            // Only what came from a place outside may be left as it was: one that is gone, or taken by something else now.
            for left in &done.left_alone {
                let taken = left.why.contains("is taken") && attic.find(&left.name).await.is_ok();
                let gone = left.why.contains("its place there is gone")
                    || left.why.contains("into a folder that was removed");
                assert!(taken || gone || left.why.contains("something in it stays"), "{left:?}");
            }
            if !done.left_alone.is_empty() {
                return;
            }
            assert_eq!(tree(&attic, top).await, as_then);
            let undone = roll(&attic, top, done.begun, Some(done.id)).await;
            if undone.left_alone.is_empty() {
                assert_eq!(tree(&attic, top).await, before);
            }
            let data = attic.data();
            attic.engine.settle().await.unwrap();
            attic.engine.stop().await;
            let found = recount(&data).await.unwrap();
            assert!(found.agrees(), "{found:#?}");
        });
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_device_that_makes_noise_of_much_raises_an_alarm_and_is_shut_out_by_rule() {
    let attic = Attic::new().await;
    let account = attic.ines.account.unwrap();
    attic.engine.sign_ins().make_device(&attic.ines, account, "desk", [7; 32], None).await.unwrap();
    let device = attic.engine.sign_ins().devices(account).await.unwrap()[0].id;
    let laptop = attic.device(device.0);
    attic.mkdir("logs").await;
    for i in 0..60 {
        let text = format!("day {i}: wind west, lamp lit at four, two ships passed\n").repeat(20);
        attic.put(&format!("logs/{i}.csv"), text.as_bytes()).await;
    }
    assert!(attic.engine.history().watch_for_mass_change().await.unwrap().is_empty());
    let before = attic.engine.history().now_moment().await.unwrap();
    attic.clock.advance(3_600_000);
    for i in 0..15 {
        attic.put_as(&laptop, &format!("logs/{i}.csv"), &noise(i, 2000)).await.unwrap();
    }
    assert!(attic.engine.history().watch_for_mass_change().await.unwrap().is_empty(), "fifteen are too few");
    let value = Rule::MassChange.read("close").unwrap();
    attic
        .engine
        .people()
        .set_rule(&attic.ines, Scope::Service, Rule::MassChange, Some(value), "service")
        .await
        .unwrap();
    for i in 15..40 {
        attic.put_as(&laptop, &format!("logs/{i}.csv"), &noise(i, 2000)).await.unwrap();
    }
    let raised = attic.engine.history().watch_for_mass_change().await.unwrap();
    assert_eq!(raised.len(), 1);
    let alarm = &raised[0];
    assert_eq!((alarm.device, alarm.before, alarm.files), (Some(device), before, 40));
    assert!(alarm.shut);
    let left = attic.engine.sign_ins().devices(attic.ines.account.unwrap()).await.unwrap();
    assert!(left.is_empty(), "it can do nothing any more");
    // It is told once, and the moment before leads back.
    attic.put("other", b"x").await;
    assert!(attic.engine.history().watch_for_mass_change().await.unwrap().is_empty());
    // What others did meanwhile is told apart, and stays if that is asked for.
    attic.clock.advance(1_000);
    let written = b"what was written in a browser since";
    let hers = attic.put("logs/3.csv", written).await.row.unwrap().node;
    let logs = attic.find("logs").await.unwrap().node;
    let seen = attic.engine.history().plan_rollback(&attic.ines, logs, alarm.before, &[]).await.unwrap();
    assert_eq!(seen.others, 1, "the browser's state is not the laptop's");
    assert!(seen.lines[0].others && seen.lines[0].node == hers);
    let seen = attic.engine.history().plan_rollback(&attic.ines, logs, alarm.before, &[hers]).await.unwrap();
    assert_eq!((seen.plan.changes, seen.others, seen.kept), (39, 0, 1));
    let how = Begin { token: Some(&seen.token), keep: &[hers], ..Begin::default() };
    let begun = attic.engine.history().begin_rollback(&attic.ines, logs, alarm.before, how).await.unwrap();
    let done = attic.engine.history().run_rollback(begun.id).await.unwrap();
    assert_eq!((done.state.as_str(), done.left_alone.len()), ("done", 1));
    assert_eq!(attic.cat("logs/3.csv").await, written);
    assert!(attic.cat("logs/4.csv").await.starts_with(b"day 4"));
    // Taken back, it is again what it was before, the work that stayed included.
    let how = Begin { undoes: Some(done.id), ..Begin::default() };
    let back = attic.engine.history().begin_rollback(&attic.ines, logs, done.begun, how).await.unwrap();
    attic.engine.history().run_rollback(back.id).await.unwrap();
    assert_eq!(attic.cat("logs/3.csv").await, written);
    assert_eq!(attic.cat("logs/4.csv").await, noise(4, 2000));
    attic.engine.history().settle_alarm(&attic.ines, alarm.id).await.unwrap();
    assert!(attic.engine.history().alarms(true).await.unwrap().is_empty());
}

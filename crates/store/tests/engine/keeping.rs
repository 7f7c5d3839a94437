//! What of the past is kept, and what goes: versions, trash, snapshots, chunks.

use crate::support::{Attic, StopAfter, on_disk, options};
use std::io::Read;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};
use yellow_attic_core::keeping::{Goes, Why};
use yellow_attic_core::rules::{Rule, Rules, Scope};
use yellow_attic_core::{Moment, NodeId};
use yellow_attic_store::timeline::purge::Progress;
use yellow_attic_store::timeline::retention::{Purge, Reach};
use yellow_attic_store::timeline::space::recount;
use yellow_attic_store::{ContentState, Engine, Place, StoreError};

const DAY: i64 = 86_400_000;

pub fn rules(set: &[(Rule, &str)]) -> Rules {
    set.iter().fold(Rules::default(), |rules, (rule, text)| {
        rules.with(Scope::Service, *rule, Some(rule.read(text).unwrap())).unwrap()
    })
}

pub async fn purge(attic: &Attic, rules: &Rules) -> Purge {
    let seen = attic.engine.history().plan_purge(rules, &Reach::All).await.unwrap();
    let done = attic
        .engine
        .history()
        .apply_purge(&attic.ines, rules, &Reach::All, Some(&seen.token), &Progress::default())
        .await
        .unwrap();
    // What was shown is what happened.
    assert_eq!((done.states, done.bytes), (seen.total().states, seen.total().bytes));
    seen
}

pub async fn counted(attic: Attic) {
    attic.engine.run_jobs().await.unwrap();
    attic.engine.settle().await.unwrap();
    let data = attic.data();
    attic.engine.stop().await;
    let found = recount(&data).await.unwrap();
    assert!(found.agrees(), "{found:#?}");
}

/// Bytes that look like nothing else.
pub fn noise(seed: u64, length: usize) -> Vec<u8> {
    let mut bytes = vec![0; length];
    blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof().fill(&mut bytes);
    bytes
}

pub async fn packed(attic: &Attic) {
    attic.engine.settle().await.unwrap();
    while attic.engine.is_packing() {
        tokio::time::sleep(std::time::Duration::from_millis(5)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn old_versions_go_by_rule_and_leave_their_names() {
    let attic = Attic::new().await;
    for i in 0..5u8 {
        attic.put("log.csv", &[i; 100]).await;
        attic.clock.advance(DAY);
    }
    let node = attic.find("log.csv").await.unwrap().node;
    let none = attic.engine.history().plan_purge(&attic.engine.people().rules(), &Reach::All).await.unwrap();
    assert_eq!(none.total().states, 0, "without a rule nothing goes");
    let seen = purge(&attic, &rules(&[(Rule::Versions, "last 2")])).await;
    assert_eq!((seen.total().states, seen.total().bytes), (2, 200));
    assert!(seen.sums.keys().all(|(_, why)| *why == Goes::Version));
    let states = attic.engine.history().states(&attic.ines, node, 10).await.unwrap();
    assert_eq!(states.len(), 5, "the rows tell that something was there");
    let gone: Vec<bool> =
        states.iter().map(|s| s.row.content.is_some_and(|c| c.life == ContentState::Gone)).collect();
    assert_eq!(gone, [false, false, false, true, true]);
    let oldest = &states[4].row;
    assert!(matches!(attic.engine.files().open_bytes(oldest).await, Err(StoreError::NotHeld(_))));
    assert!(matches!(
        attic.engine.history().restore(&attic.ines, node, Some(oldest.since), Place::Last).await,
        Err(StoreError::NotHeld(_))
    ));
    assert_eq!(attic.bytes_of(&states[2].row).await, [2; 100]);
    assert_eq!(attic.engine.files().shelf_sums(attic.home).await.unwrap().unwrap().past_bytes, 200);
    attic.engine.settle().await.unwrap();
    while attic.engine.is_packing() {
        tokio::time::sleep(std::time::Duration::from_millis(5)).await;
    }
    assert_eq!(on_disk(&attic.data().join("past")).len(), 2, "their bytes are off the disk");
    // A second look finds nothing more.
    assert_eq!(purge(&attic, &rules(&[(Rule::Versions, "last 2")])).await.total().states, 0);
    counted(attic).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_preview_that_no_longer_holds_is_not_applied() {
    let attic = Attic::new().await;
    for i in 0..4u8 {
        attic.put("a", &[i]).await;
    }
    let last = rules(&[(Rule::Versions, "last 1")]);
    let seen = attic.engine.history().plan_purge(&last, &Reach::All).await.unwrap();
    attic.put("a", b"new").await;
    let stale = attic
        .engine
        .history()
        .apply_purge(&attic.ines, &last, &Reach::All, Some(&seen.token), &Progress::default())
        .await;
    assert!(matches!(stale, Err(StoreError::PlanStale)));
    let node = attic.find("a").await.unwrap().node;
    let states = attic.engine.history().states(&attic.ines, node, 10).await.unwrap();
    assert!(states.iter().all(|s| s.row.content.is_some_and(|c| c.life != ContentState::Gone)));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_trash_goes_with_all_beneath_and_erasing_takes_the_names_too() {
    let attic = Attic::new().await;
    let dir = attic.mkdir("old").await;
    attic.mkdir("old/deep").await;
    attic.put("old/deep/x", b"first").await;
    attic.put("old/deep/x", b"second").await;
    attic.put("old/y", b"yyy").await;
    attic.put("kept", b"kept").await;
    attic.rm("old").await;
    attic.engine.run_jobs().await.unwrap();
    attic.clock.advance(20 * DAY);
    let trash = rules(&[(Rule::TrashDays, "30")]);
    assert_eq!(purge(&attic, &trash).await.total().states, 0, "ten days are left");
    let page = attic.engine.history().trash(&attic.ines, attic.home, None, 10).await.unwrap();
    assert_eq!(page.items.len(), 1);
    assert_eq!(page.items[0].sums.unwrap().files, 2);
    attic.clock.advance(11 * DAY);
    let seen = purge(&attic, &trash).await;
    assert_eq!(seen.total().bytes, 14, "{:?}", seen.sums);
    assert!(attic.engine.history().trash(&attic.ines, attic.home, None, 10).await.unwrap().items.is_empty());
    assert!(matches!(
        attic.engine.history().restore(&attic.ines, dir, None, Place::Last).await,
        Err(StoreError::NotHeld(_))
    ));
    let sums = attic.engine.files().shelf_sums(attic.home).await.unwrap().unwrap();
    assert_eq!((sums.bytes, sums.past_bytes, sums.trash_bytes), (4, 0, 0));
    // The rows still tell; then they go as well, from the leaves up.
    assert_eq!(attic.engine.history().states(&attic.ines, dir, 9).await.unwrap().len(), 1);
    attic.clock.advance(40 * DAY);
    let erased = purge(&attic, &rules(&[(Rule::EraseDays, "60")])).await;
    assert!(erased.total().states >= 5, "{:?}", erased.sums);
    assert!(attic.engine.history().states(&attic.ines, dir, 9).await.is_err());
    assert_eq!(purge(&attic, &rules(&[(Rule::EraseDays, "60")])).await.total().states, 0);
    assert_eq!(attic.cat("kept").await, b"kept");
    assert_eq!(attic.engine.people().check_record().await.unwrap().broken, None);
    counted(attic).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_snapshot_and_a_name_keep_what_no_other_rule_keeps() {
    let attic = Attic::new().await;
    let shelf = attic.engine.home_of(attic.ines.account.unwrap()).unwrap();
    attic.put("plan", b"one").await;
    attic.put("gone", b"was here").await;
    let snapshot =
        attic.engine.history().take_snapshot(&attic.ines, &shelf, "before the move", None).await.unwrap();
    attic.put("plan", b"two").await;
    let two = attic.find("plan").await.unwrap();
    attic.put("plan", b"three").await;
    attic.put("plan", b"four").await;
    attic.rm("gone").await;
    attic.engine.history().name_version(&attic.ines, two.node, two.since, "as printed").await.unwrap();
    attic.clock.advance(100 * DAY);
    let none = rules(&[(Rule::Versions, "none"), (Rule::TrashDays, "1")]);
    let seen = purge(&attic, &none).await;
    assert_eq!((seen.total().states, seen.total().bytes), (1, 5), "only \"three\" goes");
    assert_eq!(seen.only_snapshots.get(&shelf.id), Some(&11));
    let page =
        attic.engine.history().list_at(&attic.ines, attic.home, snapshot.moment, 10, None).await.unwrap();
    let mut bytes = Vec::new();
    for entry in &page.items {
        bytes.push((entry.row.name().to_string(), attic.bytes_of(&entry.row).await));
    }
    assert_eq!(bytes, [("gone".into(), b"was here".to_vec()), ("plan".into(), b"one".to_vec())]);
    assert_eq!(attic.bytes_of(&two).await, b"two");
    // By hand neither goes; it is told why.
    let gone = page.items[0].row.node;
    let by_hand = attic.engine.history().plan_purge(&none, &Reach::Removed(vec![gone])).await.unwrap();
    assert_eq!(by_hand.kept, [(gone, Why::Snapshot(snapshot.moment.0))]);
    attic.engine.history().end_snapshot(&attic.ines, snapshot.id).await.unwrap();
    attic.engine.history().name_version(&attic.ines, two.node, two.since, "").await.unwrap();
    assert_eq!(purge(&attic, &none).await.total().bytes, 14);
    counted(attic).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn by_hand_goes_what_was_asked_for_and_nothing_else() {
    let attic = Attic::new().await;
    attic.mkdir("a").await;
    attic.put("a/x", b"xx").await;
    attic.put("b", b"bbb").await;
    attic.put("c", b"1").await;
    attic.put("c", b"22").await;
    attic.put("c", b"333").await;
    let a = attic.find("a").await.unwrap().node;
    attic.rm("a").await;
    attic.rm("b").await;
    let all = attic.engine.people().rules();
    let hand = |nodes: Vec<NodeId>| Reach::Removed(nodes);
    let done = attic
        .engine
        .history()
        .apply_purge(&attic.ines, &all, &hand(vec![a]), None, &Progress::default())
        .await
        .unwrap();
    assert_eq!(done.bytes, 2);
    let left = attic.engine.history().trash(&attic.ines, attic.home, None, 9).await.unwrap();
    assert_eq!(left.items.iter().map(|r| r.past.row.name()).collect::<Vec<_>>(), ["b"]);
    // One version of a file that is there.
    let c = attic.find("c").await.unwrap().node;
    let states = attic.engine.history().states(&attic.ines, c, 9).await.unwrap();
    let reach = Reach::Version(c, states[1].row.since);
    let done = attic
        .engine
        .history()
        .apply_purge(&attic.ines, &all, &reach, None, &Progress::default())
        .await
        .unwrap();
    assert_eq!((done.states, done.bytes), (1, 2));
    let states = attic.engine.history().states(&attic.ines, c, 9).await.unwrap();
    let gone: Vec<bool> =
        states.iter().map(|s| s.row.content.is_some_and(|c| c.life == ContentState::Gone)).collect();
    assert_eq!(gone, [false, true, false]);
    // What is there now never goes.
    let reach = Reach::Version(c, states[0].row.since);
    let done = attic
        .engine
        .history()
        .apply_purge(&attic.ines, &all, &reach, None, &Progress::default())
        .await
        .unwrap();
    assert_eq!(done.states, 0);
    // Nor what was brought back meanwhile.
    let b = left.items[0].past.row.node;
    attic.engine.history().restore(&attic.ines, b, None, Place::Last).await.unwrap();
    let done = attic
        .engine
        .history()
        .apply_purge(&attic.ines, &all, &hand(vec![b]), None, &Progress::default())
        .await
        .unwrap();
    assert_eq!(done.states, 0);
    assert_eq!(attic.cat("b").await, b"bbb");
    counted(attic).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_removed_comes_back_with_its_folders() {
    let attic = Attic::new().await;
    attic.mkdir("a").await;
    attic.mkdir("a/b").await;
    attic.put("a/b/x", b"one").await;
    attic.put("a/b/y", b"why").await;
    attic.rm("a/b/x").await;
    let removed = attic.engine.history().trash(&attic.ines, attic.home, None, 9).await.unwrap().items;
    let x = removed[0].past.row.node;
    let y = attic.find("a/b/y").await.unwrap().node;
    attic.rm("a").await;
    attic.engine.run_jobs().await.unwrap();
    assert!(matches!(
        attic.engine.history().restore(&attic.ines, x, None, Place::Last).await,
        Err(StoreError::PlaceGone)
    ));
    attic.engine.history().restore_with_folders(&attic.ines, x, None).await.unwrap();
    assert_eq!(attic.cat("a/b/x").await, b"one");
    // Something within the removed folder comes back as a copy, into the same folders.
    attic.engine.history().restore_with_folders(&attic.ines, y, None).await.unwrap();
    assert_eq!(attic.cat("a/b/y").await, b"why");
    assert_eq!(attic.ls("a/b").await, ["x", "y"]);
    counted(attic).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_new_version_of_a_large_file_costs_what_changed_and_comes_back_whole() {
    let attic = Attic::new().await;
    let mut bytes = noise(1, 6 << 20);
    let mut versions = Vec::new();
    for i in 0..6u64 {
        let staged = {
            let mut arriving = attic.engine.stage(bytes.len() as u64).unwrap();
            arriving.write(&bytes).unwrap();
            arriving.finish().unwrap()
        };
        let (parent, name) = attic.place("survey.bin").await;
        attic
            .engine
            .files()
            .put(&attic.ines, parent, name, staged, attic.engine.now_ms(), Default::default())
            .await
            .unwrap();
        versions.push((attic.engine.history().now_moment().await.unwrap(), bytes.clone()));
        attic.clock.advance(1000);
        let at = (i as usize * 700_001) % (5 << 20);
        // Some are inserted, so that all after them shifts.
        match i % 2 {
            0 => drop(bytes.splice(at..at, noise(i + 10, 5000))),
            _ => bytes[at..at + 5000].copy_from_slice(&noise(i + 20, 5000)),
        }
    }
    packed(&attic).await;
    let past = on_disk(&attic.data().join("past"));
    assert!(past.keys().all(|k| k.starts_with("packs/")), "{:?}", past.keys());
    let stored: usize = past.values().map(Vec::len).sum();
    assert!(stored < 9 << 20, "five past versions of 6 MiB take {stored} bytes");
    let node = attic.find("survey.bin").await.unwrap().node;
    let attic = attic.reopen().await;
    for (moment, wanted) in &versions {
        let row = attic.engine.history().state_at(node, *moment).await.unwrap().unwrap();
        assert!(attic.bytes_of(&row).await == *wanted, "at {moment:?}");
        // A part from the middle, as a range asks for it.
        let (file, _) = attic.engine.files().open_bytes(&row).await.unwrap();
        let mut part = vec![0; 1000];
        std::os::unix::fs::FileExt::read_exact_at(&file, &mut part, 3_000_000).unwrap();
        assert_eq!(part, wanted[3_000_000..3_001_000]);
    }
    attic.engine.history().restore(&attic.ines, node, Some(versions[1].0), Place::Last).await.unwrap();
    assert!(attic.cat("survey.bin").await == versions[1].1);
    // What nobody needs any more leaves the packs again.
    packed(&attic).await;
    purge(&attic, &rules(&[(Rule::Versions, "none")])).await;
    packed(&attic).await;
    packed(&attic).await;
    let left: usize = on_disk(&attic.data().join("past")).values().map(Vec::len).sum();
    assert!(left < 1 << 20, "{left} bytes are left of the past");
    counted(attic).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_damaged_chunk_is_given_to_nobody_and_found_by_the_check() {
    let attic = Attic::new().await;
    let put = async |seed: u64| {
        let mut arriving = attic.engine.stage(2 << 20).unwrap();
        arriving.write(&noise(seed, 2 << 20)).unwrap();
        let (parent, name) = attic.place("film").await;
        let staged = arriving.finish().unwrap();
        attic.engine.files().put(&attic.ines, parent, name, staged, 5, Default::default()).await.unwrap()
    };
    let first = put(1).await.row.unwrap();
    put(2).await;
    packed(&attic).await;
    let packs = attic.data().join("past/packs");
    let pack = std::fs::read_dir(&packs).unwrap().next().unwrap().unwrap().path();
    let mut bytes = std::fs::read(&pack).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    std::fs::write(&pack, bytes).unwrap();
    let state = attic.engine.history().state_at(first.node, first.since).await.unwrap().unwrap();
    assert!(attic.engine.files().open_bytes(&state).await.is_err());
    let found =
        yellow_attic_store::audit::check::check(&attic.data(), Default::default(), Box::new(|_| true))
            .await
            .unwrap();
    assert_eq!(found.damaged.len(), 1, "{:?}", found.damaged);
}

/// One round: versions of a large file, stopped at a step while they are packed or let go.
async fn stop_while_packing(step: i64) -> bool {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("data");
    let clock = Arc::new(yellow_attic_store::fs::clock::SetClock::at(crate::support::START));
    let steps = Arc::new(StopAfter(AtomicI64::new(i64::MAX)));
    let engine = Engine::open(options(&data, &clock, steps.clone())).await.unwrap();
    let account = engine
        .people()
        .make_account(
            &yellow_attic_store::Actor::service(),
            "ines",
            "Ines",
            yellow_attic_store::people::accounts::Role::Administrator,
            "x",
        )
        .await
        .unwrap();
    let ines =
        yellow_attic_store::Actor { account: Some(account.id), ..yellow_attic_store::Actor::service() };
    let home = engine.home_of(account.id).unwrap().root;
    engine.settle().await.unwrap();
    while engine.is_packing() {
        tokio::time::sleep(std::time::Duration::from_millis(2)).await;
    }
    steps.0.store(step, Ordering::SeqCst);
    let mut answered: Vec<(Moment, u64)> = Vec::new();
    for seed in 0..3u64 {
        let put = async {
            let mut arriving = engine.stage(1_200_000)?;
            arriving.write(&noise(seed, 1_200_000))?;
            let staged = arriving.finish()?;
            let name = crate::support::name("film");
            engine.files().put(&ines, home, name, staged, 5, Default::default()).await
        };
        match put.await {
            Ok(done) => answered.push((done.moment, seed)),
            Err(_) => break,
        }
    }
    let _ = engine.settle().await;
    while engine.is_packing() && steps.0.load(Ordering::SeqCst) > 0 {
        tokio::time::sleep(std::time::Duration::from_millis(2)).await;
    }
    let last = rules(&[(Rule::Versions, "last 1")]);
    let _ = engine.history().apply_purge(&ines, &last, &Reach::All, None, &Progress::default()).await;
    let _ = engine.settle().await;
    let finished = steps.0.load(Ordering::SeqCst) > 0;
    engine.stop().await;
    drop(engine);

    let engine =
        Engine::open(options(&data, &clock, Arc::new(yellow_attic_store::fs::fault_points::AllSteps)))
            .await
            .unwrap();
    engine.settle().await.unwrap();
    while engine.is_packing() {
        tokio::time::sleep(std::time::Duration::from_millis(2)).await;
    }
    for (moment, seed) in &answered {
        let row = engine.files().child(&ines, home, &crate::support::name("film")).await.unwrap().unwrap();
        let state = engine.history().state_at(row.node, *moment).await.unwrap().unwrap();
        if state.content.is_some_and(|c| c.life == ContentState::Gone) {
            // Let go by the rule: only the oldest of three can be.
            assert_eq!(*seed, 0, "stopped at {step}");
            continue;
        }
        let (mut file, _) = engine.files().open_bytes(&state).await.unwrap();
        let mut bytes = Vec::new();
        file.read_to_end(&mut bytes).unwrap();
        assert!(bytes == noise(*seed, 1_200_000), "version {seed}, stopped at {step}");
    }
    engine.settle().await.unwrap();
    while engine.is_packing() {
        tokio::time::sleep(std::time::Duration::from_millis(2)).await;
    }
    engine.stop().await;
    let found = recount(&data).await.unwrap();
    assert!(found.agrees(), "stopped at {step}: {found:#?}");
    finished
}

#[tokio::test(flavor = "multi_thread")]
async fn stopped_anywhere_while_packing_or_letting_go_every_version_is_there() {
    for step in 1.. {
        // The first steps of putting are the model's; the packer has some hundred.
        if stop_while_packing(step * 5 - 3).await {
            assert!(step > 8, "packing has more steps than {}", step * 5);
            return;
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn snapshots_are_taken_by_schedule_once_each_time_and_end_by_themselves() {
    let attic = Attic::new().await;
    let shelf = attic.engine.home_of(attic.ines.account.unwrap()).unwrap();
    let value = Rule::Snapshots.read("daily at 02:00 kept 2 days").unwrap();
    let scope = Scope::Shelf(shelf.id);
    attic.engine.people().set_rule(&attic.ines, scope, Rule::Snapshots, Some(value), "home").await.unwrap();
    let utc = jiff::tz::TimeZone::UTC;
    assert_eq!(attic.engine.history().run_schedules(&utc).await.unwrap(), 0, "not before its time");
    attic.clock.advance(DAY);
    assert_eq!(attic.engine.history().run_schedules(&utc).await.unwrap(), 1);
    assert_eq!(attic.engine.history().run_schedules(&utc).await.unwrap(), 0, "once each time");
    attic.clock.advance(DAY);
    attic.engine.history().run_schedules(&utc).await.unwrap();
    assert_eq!(attic.engine.history().snapshots(&attic.ines, &shelf).await.unwrap().len(), 2);
    // Missed many times over, one is taken; those whose time is over are gone.
    attic.clock.advance(10 * DAY);
    assert_eq!(attic.engine.history().run_schedules(&utc).await.unwrap(), 1);
    assert_eq!(attic.engine.history().snapshots(&attic.ines, &shelf).await.unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_somebody_names_while_a_purge_runs_stays() {
    let attic = Attic::new().await;
    for i in 0..700u32 {
        attic.put("log", &i.to_le_bytes()).await;
    }
    let node = attic.find("log").await.unwrap().node;
    let states = attic.engine.history().states(&attic.ines, node, 1000).await.unwrap();
    let last = rules(&[(Rule::Versions, "last 1")]);
    let (engine, ines) = (attic.engine.clone(), attic.ines.clone());
    let purging = tokio::spawn(async move {
        engine.history().apply_purge(&ines, &last, &Reach::All, None, &Progress::default()).await.unwrap()
    });
    let mut named = Vec::new();
    for state in states[5..].iter().step_by(13) {
        if attic.engine.history().name_version(&attic.ines, node, state.row.since, "kept").await.is_ok() {
            named.push(state.row.since);
        }
    }
    purging.await.unwrap();
    let after = attic.engine.history().states(&attic.ines, node, 1000).await.unwrap();
    for state in after.iter().filter(|s| named.contains(&s.row.since)) {
        assert_eq!(state.row.content.unwrap().life, ContentState::Past, "{:?}", state.row.since);
    }
    counted(attic).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_archive_of_what_was_leaves_out_what_is_no_longer_held() {
    let attic = Attic::new().await;
    let dir = attic.mkdir("a").await;
    attic.put("a/x", b"one").await;
    attic.put("a/y", b"why").await;
    let then = attic.engine.history().now_moment().await.unwrap();
    attic.put("a/x", b"two").await;
    purge(&attic, &rules(&[(Rule::Versions, "none")])).await;
    let tree = attic.engine.files().tree(&attic.ines, &[dir], then, 100).await.unwrap();
    assert_eq!(tree.items.iter().map(|i| &*i.path).collect::<Vec<_>>(), ["a", "a/y"]);
    assert_eq!(tree.lost, ["a/x"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_file_goes_on_from_is_a_version_and_no_longer_in_the_trash() {
    let attic = Attic::new().await;
    let node = attic.put("log", b"first").await.row.unwrap().node;
    attic.rm("log").await;
    let in_trash =
        async || attic.engine.files().sums(&attic.ines, attic.home).await.unwrap().unwrap().trash_bytes;
    assert_eq!(in_trash().await, 5);
    // As programs save: removed, and put again at once by the same device.
    assert_eq!(attic.put("log", b"second").await.row.unwrap().node, node);
    assert_eq!(in_trash().await, 0);
    attic.put("other", b"other").await;
    attic.rm("log").await;
    // The same by a rename onto the name that was left.
    assert_eq!(attic.mv("other", "log").await.row.unwrap().node, node);
    assert_eq!(in_trash().await, 0);
    let data = attic.data();
    attic.engine.settle().await.unwrap();
    attic.engine.stop().await;
    let found = recount(&data).await.unwrap();
    assert!(found.agrees(), "{found:#?}");
}

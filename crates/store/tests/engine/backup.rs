//! Backups: made while the store is in use, and a store made again from them.

use crate::keeping::{noise, packed};
use crate::reconcile::{listed, lying};
use crate::support::{Attic, actor, options};
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::rules::Rules;
use yellow_attic_store::audit::check::check;
use yellow_attic_store::backup::restore::{Restored, restore};
use yellow_attic_store::backup::target::runs;
use yellow_attic_store::backup::verify::{Keep, let_go, take_out, verify};
use yellow_attic_store::backup::{About, Progress};
use yellow_attic_store::fs::fault_points::AllSteps;
use yellow_attic_store::people::record::Anchors;
use yellow_attic_store::reconcile::Looking;
use yellow_attic_store::timeline::purge::Progress as Going;
use yellow_attic_store::timeline::retention::Reach;
use yellow_attic_store::timeline::space::recount;
use yellow_attic_store::{Engine, StoreError};

fn progress() -> Arc<Progress> {
    Arc::default()
}

async fn back_up(attic: &Attic) -> (String, About) {
    let made = attic.engine.backups().make(&attic.dir.path().join("backup"), progress()).await.unwrap();
    assert_eq!(made.1.missing, Vec::<String>::new());
    made
}

impl Attic {
    fn backup(&self) -> PathBuf {
        self.dir.path().join("backup")
    }
}

/// Restores a run, looks it over, and opens it.
async fn restored(attic: &Attic, run: Option<&str>) -> (Attic, Restored) {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("data");
    let found = restore(&attic.backup(), run, &data, None, progress()).await.unwrap();
    assert_eq!(found.missing, Vec::<String>::new());
    let past = check(&data, Anchors::default(), Box::new(|_| true)).await.unwrap();
    assert!(past.is_sound(), "{past:?}");
    let sums = recount(&data).await.unwrap();
    assert!(sums.agrees(), "{sums:#?}");
    let engine = Engine::open(options(&data, &attic.clock, Arc::new(AllSteps))).await.unwrap();
    let ines = actor(attic.ines.account.unwrap(), "ines");
    let home = engine.home_of(attic.ines.account.unwrap()).unwrap().root;
    let looked = engine.on_disk().reconcile(&Looking::default()).await.unwrap();
    assert_eq!((looked.differences(), looked.hashed), (0, 0), "{looked:?}");
    (Attic { dir, clock: attic.clock.clone(), engine, ines, home }, found)
}

/// Every state of every file that is there, with its bytes.
async fn states(attic: &Attic) -> BTreeMap<String, Vec<Vec<u8>>> {
    let mut found = BTreeMap::new();
    for (path, bytes) in listed(attic).await {
        if bytes.is_none() {
            continue;
        }
        let node = attic.find(&path).await.unwrap().node;
        let mut all = Vec::new();
        for state in attic.engine.history().states(&attic.ines, node, 100).await.unwrap() {
            all.push(attic.bytes_of(&state.row).await);
        }
        found.insert(path, all);
    }
    found
}

#[tokio::test(flavor = "multi_thread")]
async fn a_store_is_made_again_from_a_backup_with_all_that_it_was() {
    let attic = Attic::new().await;
    attic.mkdir("Plans").await;
    attic.mkdir("Plans/Étage – 1").await;
    attic.put("Plans/Étage – 1/a.txt", b"one").await;
    attic.put("Plans/Étage – 1/a.txt", b"two").await;
    attic.put("empty", b"").await;
    let film = noise(1, 3 << 20);
    attic.put("film", &film).await;
    attic.put("film", &[&film[..], b"and an end"].concat()).await;
    attic.mkdir("Old").await;
    attic.mkdir("Old/inner").await;
    attic.put("Old/inner/x", b"in the trash, with its folder").await;
    attic.rm("Old").await;
    attic.put("gone", b"in the trash by itself").await;
    attic.rm("gone").await;
    packed(&attic).await;
    let (first, about) = back_up(&attic).await;
    assert_eq!((about.files, about.bytes), (3, 3 + film.len() as u64 + 10));
    let (was, had) = (listed(&attic).await, states(&attic).await);

    // What comes later is in the next one alone, and nothing is copied twice.
    attic.put("later", b"two").await;
    attic.put("film", b"short now").await;
    packed(&attic).await;
    let (second, about) = back_up(&attic).await;
    assert!(about.new <= 3, "{about:?}");
    let (_, about) = back_up(&attic).await;
    assert_eq!((about.new, about.new_bytes), (0, 0));
    assert_eq!(runs(&attic.backup()).unwrap().len(), 3);
    assert_eq!(verify(&attic.backup(), progress()).await.unwrap().damaged, Vec::<String>::new());

    let (is_now, had_now) = (listed(&attic).await, states(&attic).await);
    for (run, listed_then, states_then) in [(&first, was, had), (&second, is_now, had_now)] {
        let (again, found) = restored(&attic, Some(run)).await;
        assert_eq!(found.files, listed_then.values().flatten().count() as u64);
        assert_eq!(listed(&again).await, listed_then);
        assert_eq!(states(&again).await, states_then);
        assert_eq!(lying(&again.files()), listed_then);
        // The trash too: the folder with what was in it, and the single file.
        let trash = again.engine.history().trash(&again.ines, again.home, None, 9).await.unwrap();
        for item in trash.items {
            let (node, key) = (item.past.row.node, item.past.row.name().to_string());
            again.engine.history().restore_with_folders(&again.ines, node, None).await.unwrap();
            assert!(again.find(&key).await.is_ok());
        }
        assert_eq!(again.cat("Old/inner/x").await, b"in the trash, with its folder");
        assert_eq!(again.cat("gone").await, b"in the trash by itself");
        // It goes on, with numbers that nobody ever saw.
        let put = again.put("new", b"n").await;
        assert!(put.moment.0 > about.moment + (1 << 39));
        assert!(put.row.unwrap().node.0 > 1 << 39);
        assert_ne!(again.engine.timeline(), attic.engine.timeline());
    }
}

/// What was written last to each name, by the number of the change.
type Log = Arc<parking_lot::Mutex<Vec<(i64, String, Option<Vec<u8>>)>>>;

#[tokio::test(flavor = "multi_thread")]
async fn a_backup_of_a_store_that_is_written_to_is_of_one_moment() {
    let attic = Arc::new(Attic::new().await);
    let log: Log = Arc::default();
    let (stop, goes) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)));
    let mut writers = tokio::task::JoinSet::new();
    for seed in 0..3u64 {
        let (attic, log, stop, goes) = (attic.clone(), log.clone(), stop.clone(), goes.clone());
        writers.spawn(async move {
            let mut next = yellow_attic_trials::numbers(seed);
            while !stop.load(Ordering::Relaxed) {
                let path = format!("w{seed} {}", next(30));
                let row = attic.find(&path).await.ok();
                let (done, bytes) = match row.filter(|_| next(4) == 0) {
                    Some(row) => {
                        let gone = attic.engine.files().remove(&attic.ines, row.node, Conditions::default());
                        let done = gone.await.unwrap();
                        // For good, sometimes: its bytes are not needed any more from now on.
                        if next(2) == 0 {
                            let (all, reach) = (Rules::default(), Reach::Removed(vec![row.node]));
                            let going = Going::default();
                            let history = attic.engine.history();
                            history.apply_purge(&attic.ines, &all, &reach, None, &going).await.unwrap();
                            goes.fetch_add(1, Ordering::Relaxed);
                        }
                        (done, None)
                    }
                    None => {
                        let bytes = noise(next(u64::MAX), 1 + next(9000) as usize);
                        (attic.put(&path, &bytes).await, Some(bytes))
                    }
                };
                log.lock().push((done.moment.0, path, bytes));
            }
        });
    }
    let mut made = Vec::new();
    for _ in 0..6 {
        tokio::time::sleep(std::time::Duration::from_millis(300)).await;
        made.push(back_up(&attic).await);
    }
    stop.store(true, Ordering::Relaxed);
    writers.join_all().await;
    assert!(goes.load(Ordering::Relaxed) > 5 && log.lock().len() > 100);
    for (run, about) in made {
        let mut then: BTreeMap<String, (i64, Option<Vec<u8>>)> = BTreeMap::new();
        for (moment, path, bytes) in log.lock().iter().filter(|(moment, ..)| *moment <= about.moment) {
            let known = then.entry(path.clone()).or_default();
            if *moment > known.0 {
                *known = (*moment, bytes.clone());
            }
        }
        let wanted: BTreeMap<_, _> =
            then.into_iter().filter_map(|(path, (_, bytes))| Some((path, Some(bytes?)))).collect();
        let (again, _) = restored(&attic, Some(&run)).await;
        assert_eq!(listed(&again).await, wanted, "{run}");
    }
    // What was let go meanwhile has gone since, from the disk too.
    attic.engine.settle().await.unwrap();
    assert!(!attic.data().join("past/condemned").exists());
    let found = check(&attic.data(), Anchors::default(), Box::new(|_| true)).await.unwrap();
    assert!(found.is_sound());
    let pool = sqlx::SqlitePool::connect(attic.data().join("catalogue.db").to_str().unwrap()).await.unwrap();
    let known: Vec<String> =
        sqlx::query_scalar("SELECT DISTINCT lower(hex(hash)) FROM contents WHERE state = 1")
            .fetch_all(&pool)
            .await
            .unwrap();
    pool.close().await;
    let mut on_disk: Vec<String> = crate::support::on_disk(&attic.data().join("past"))
        .into_keys()
        .filter_map(|path| Some(path.rsplit_once('/')?.1.to_string()).filter(|hash| hash.len() == 64))
        .collect();
    on_disk.sort();
    let mut known = known;
    known.sort();
    assert_eq!(on_disk, known);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_let_go_in_a_backup_that_did_not_end_goes_at_the_next_start() {
    let attic = Attic::new().await;
    attic.put("a", b"1").await;
    attic.put("a", b"22").await;
    attic.engine.settle().await.unwrap();
    let past = |attic: &Attic| crate::support::on_disk(&attic.data().join("past"));
    let (one, _) = past(&attic).into_iter().next().unwrap();
    let hash = one.rsplit('/').next().unwrap().to_string();
    // As a stop leaves it: noted, and still there. Something that is needed is noted in vain.
    fs::write(attic.data().join("past/condemned"), format!("{hash}\n{}\nx", "0".repeat(64))).unwrap();
    let attic = attic.reopen().await;
    attic.engine.settle().await.unwrap();
    assert_eq!(past(&attic).into_keys().collect::<Vec<_>>(), std::slice::from_ref(&one));
    let node = attic.find("a").await.unwrap().node;
    let states = attic.engine.history().states(&attic.ines, node, 9).await.unwrap();
    let reach = Reach::Version(node, states[1].row.since);
    let (all, going) = (Rules::default(), Going::default());
    attic.engine.history().apply_purge(&attic.ines, &all, &reach, None, &going).await.unwrap();
    attic.engine.settle().await.unwrap();
    assert!(past(&attic).is_empty());
    fs::create_dir_all(attic.data().join("past").join(&hash[..2])).unwrap();
    fs::write(attic.data().join("past").join(&one), b"1").unwrap();
    fs::write(attic.data().join("past/condemned"), format!("{hash}\n")).unwrap();
    let attic = attic.reopen().await;
    attic.engine.settle().await.unwrap();
    assert!(past(&attic).is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_that_was_stopped_counts_for_nothing_and_harms_none() {
    let attic = Attic::new().await;
    for n in 0..300 {
        attic.put(&format!("f{n}"), &noise(n, 3000)).await;
    }
    let (first, _) = back_up(&attic).await;
    let mut next = yellow_attic_trials::numbers(7);
    for round in 0..12u64 {
        for n in 0..300 {
            attic.put(&format!("f{n}"), &noise(1000 * (round + 1) + n, 3000)).await;
        }
        let going = progress();
        let (watched, at) = (going.clone(), next(300_000));
        let stopper = tokio::spawn(async move {
            while watched.bytes.load(Ordering::Relaxed) < at && !watched.stop.load(Ordering::Relaxed) {
                tokio::task::yield_now().await;
            }
            watched.stop.store(true, Ordering::Relaxed);
        });
        let made = attic.engine.backups().make(&attic.backup(), going.clone()).await;
        going.stop.store(true, Ordering::Relaxed);
        stopper.await.unwrap();
        let known = runs(&attic.backup()).unwrap();
        assert_eq!(known.len(), 1 + usize::from(made.is_ok()));
        if let Ok((name, _)) = made {
            fs::remove_dir_all(attic.backup().join("runs").join(name)).unwrap();
        }
    }
    assert_eq!(verify(&attic.backup(), progress()).await.unwrap().damaged, Vec::<String>::new());
    restored(&attic, Some(&first)).await;
    let (last, _) = back_up(&attic).await;
    let (again, _) = restored(&attic, Some(&last)).await;
    assert_eq!(listed(&again).await, listed(&attic).await);
    assert!(fs::read_dir(attic.backup().join("incoming")).unwrap().next().is_none());
}

fn says(result: Result<impl Sized, StoreError>, what: &str) {
    let error = result.err().expect(what).to_string();
    assert!(error.contains(what), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_is_refused_and_changes_nothing() {
    let (attic, other) = (Attic::new().await, Attic::new().await);
    attic.put("a", b"1").await;
    let make = async |attic: &Attic, to: &Path| attic.engine.backups().make(to, progress()).await;
    says(make(&attic, &attic.data().join("shelves/b")).await, "lie in each other");
    says(make(&attic, attic.dir.path()).await, "lie in each other");
    // A stop while the folder was made its own leaves no folder that nobody can use.
    fs::create_dir(attic.backup()).unwrap();
    fs::write(attic.backup().join("yellow-attic-backup.new"), b"{").unwrap();
    let (run, _) = back_up(&attic).await;
    says(make(&other, &attic.backup()).await, "another store");
    let full = attic.dir.path().join("full");
    fs::create_dir(&full).unwrap();
    fs::write(full.join("letter"), b"mine").unwrap();
    says(make(&attic, &full).await, "holds other things");
    let into = async |run: Option<&str>, to: &Path| restore(&attic.backup(), run, to, None, progress()).await;
    says(into(None, &full).await, "not empty");
    assert_eq!(fs::read_dir(&full).unwrap().count(), 1);
    says(into(Some("1999"), &attic.dir.path().join("x")).await, "A run called 1999");
    says(restore(&full, None, &attic.dir.path().join("x"), None, progress()).await, "no backup");
    // A run of which something was changed is not restored, and a content that is damaged is not passed on.
    let place = fs::read_to_string(attic.backup().join("runs").join(&run).join("files.txt")).unwrap();
    let place = place.lines().nth(1).unwrap().split('\t').next().unwrap().to_string();
    fs::write(attic.backup().join(&place), b"2").unwrap();
    let found = verify(&attic.backup(), progress()).await.unwrap();
    assert_eq!(found.damaged, std::slice::from_ref(&place));
    let found = into(None, &attic.dir.path().join("x")).await.unwrap();
    assert_eq!((found.files, &found.missing[..]), (0, &["home/ines/a".to_string()][..]));
    let out =
        take_out(&attic.backup(), None, "home/ines", &attic.dir.path().join("out"), &progress()).unwrap();
    assert_eq!((out.given, out.done, out.failed.len()), (1, 0, 1));
    assert!(!attic.dir.path().join("out/ines/a").exists());
    fs::write(attic.backup().join("runs").join(&run).join("files.txt"), b"").unwrap();
    says(into(None, &attic.dir.path().join("y")).await, "not as it was written");
    // One that was cut off is no store, and says so.
    let half = attic.dir.path().join("x");
    fs::rename(half.join("catalogue.db"), half.join("restoring.db")).unwrap();
    says(Engine::open(options(&half, &attic.clock, Arc::new(AllSteps))).await, "did not come to its end");
}

#[tokio::test(flavor = "multi_thread")]
async fn single_files_are_taken_out_and_nothing_is_replaced() {
    let attic = Attic::new().await;
    attic.mkdir("Plans").await;
    attic.mkdir("Plans/East").await;
    attic.put("Plans/East/a", b"aa").await;
    attic.put("Plans/b", b"b").await;
    attic.put("Plans and more", b"c").await;
    let (_, about) = back_up(&attic).await;
    assert_eq!(about.files, 3);
    let out = attic.dir.path().join("out");
    let take = |path: &str| take_out(&attic.backup(), None, path, &out, &progress());
    let done = take("home/ines/Plans").unwrap();
    assert_eq!((done.given, done.done, done.bytes), (2, 2, 3));
    assert_eq!(fs::read(out.join("Plans/East/a")).unwrap(), b"aa");
    fs::write(out.join("Plans/b"), b"mine").unwrap();
    let done = take("/home/ines/Plans/").unwrap();
    assert_eq!((done.given, done.done, done.skipped, done.failed.len()), (2, 0, 1, 1));
    assert_eq!(fs::read(out.join("Plans/b")).unwrap(), b"mine");
    assert_eq!(take("home/ines/Plans and more").unwrap().done, 1);
    says(take("home/ines/Nothing"), "Nothing");
}

#[tokio::test(flavor = "multi_thread")]
async fn runs_go_by_rule_and_take_along_only_what_no_other_names() {
    let attic = Attic::new().await;
    let mut all = Vec::new();
    for n in 0..5u64 {
        attic.put("stays", b"the same").await;
        attic.put("a", &noise(n, 2000)).await;
        all.push(back_up(&attic).await.0);
    }
    // As if they were made a month from each other, the last two on one day.
    for (name, month) in all.iter().zip([1i64, 2, 3, 4, 4]) {
        let path = attic.backup().join("runs").join(name).join("about.json");
        let mut about: About = serde_json::from_slice(&fs::read(&path).unwrap()).unwrap();
        about.ended_at = month * 31 * 86_400_000;
        fs::write(&path, serde_json::to_vec(&about).unwrap()).unwrap();
    }
    let now = 4 * 31 * 86_400_000 + 1000;
    let go = |keep: Keep, really: bool| let_go(&attic.backup(), keep, now, really, &progress()).unwrap();
    let seen = go(Keep { days: 2, months: 2 }, false);
    assert_eq!(runs(&attic.backup()).unwrap().len(), 5, "it is only told");
    let done = go(Keep { days: 2, months: 2 }, true);
    assert_eq!((&seen, done.stay, done.runs.len()), (&done, 3, 2));
    let left = runs(&attic.backup()).unwrap();
    assert_eq!(left.iter().map(|run| run.0.clone()).collect::<Vec<_>>(), [&all[4][..], &all[3], &all[2]]);
    assert_eq!(verify(&attic.backup(), progress()).await.unwrap().damaged, Vec::<String>::new());
    restored(&attic, Some(&all[2])).await;
    let done = go(Keep { days: 0, months: 0 }, true);
    assert_eq!((done.stay, done.runs.len()), (1, 2));
    let (again, _) = restored(&attic, None).await;
    assert_eq!(listed(&again).await, listed(&attic).await);
}

//! Random operations against a small model in memory; the same stopped at every I/O step,
//! reopened, and compared: all that was answered is there, and nothing half is.

use crate::support::{START, StopAfter, name, options};
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::io::Read;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};
use yellow_attic_core::NodeId;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::rules::Rule;
use yellow_attic_store::fs::clock::SetClock;
use yellow_attic_store::fs::fault_points::{AllSteps, Steps};
use yellow_attic_store::people::accounts::Role;
use yellow_attic_store::timeline::purge::Progress;
use yellow_attic_store::timeline::retention::Reach;

use yellow_attic_store::{Actor, Engine, Place, Sort, StoreError};
use yellow_attic_trials::faults::FailOnce;

/// What the store should hold: paths to bytes; folders end with a slash.
type Tree = BTreeMap<String, Vec<u8>>;

#[derive(Clone, Debug)]
enum Act {
    Put(String, u8),
    Mkdir(String),
    Move(String, String, bool),
    Copy(String, String),
    Remove(String),
    BringBack,
    Wait,
    Purge,
}

fn path() -> impl Strategy<Value = String> {
    prop_oneof![
        4 => "[a-c]",
        4 => "[a-c]/[a-c]",
        1 => "[a-c]/[a-c]/[a-c]",
    ]
}

fn act() -> impl Strategy<Value = Act> {
    prop_oneof![
        6 => (path(), any::<u8>()).prop_map(|(p, b)| Act::Put(p, b)),
        4 => path().prop_map(Act::Mkdir),
        5 => (path(), path(), any::<bool>()).prop_map(|(a, b, r)| Act::Move(a, b, r)),
        2 => (path(), path()).prop_map(|(a, b)| Act::Copy(a, b)),
        3 => path().prop_map(Act::Remove),
        2 => Just(Act::BringBack),
        1 => Just(Act::Wait),
        1 => Just(Act::Purge),
    ]
}

fn bytes(tag: u8) -> Vec<u8> {
    vec![tag; usize::from(tag) * 3]
}

/// The model: what each act does to a tree, or `None` if it must be refused.
#[derive(Clone, Default)]
struct Model {
    tree: Tree,
    /// Removed last: its path and what was there.
    removed: Option<(String, Tree)>,
}

fn is_folder(tree: &Tree, path: &str) -> bool {
    path.is_empty() || tree.contains_key(&format!("{path}/"))
}

fn exists(tree: &Tree, path: &str) -> bool {
    is_folder(tree, path) || tree.contains_key(path)
}

fn parent(path: &str) -> &str {
    path.rsplit_once('/').map_or("", |(p, _)| p)
}

/// Takes out a path with all beneath, relative to it.
fn part(tree: &Tree, path: &str) -> Tree {
    let below = format!("{path}/");
    tree.iter()
        .filter(|(k, _)| *k == path || k.starts_with(&below))
        .map(|(k, v)| (k[path.len()..].to_string(), v.clone()))
        .collect()
}

impl Model {
    fn take(&mut self, path: &str) -> Tree {
        let part = part(&self.tree, path);
        for key in part.keys() {
            self.tree.remove(&format!("{path}{key}"));
        }
        part
    }

    fn give(&mut self, path: &str, part: Tree) {
        for (key, value) in part {
            self.tree.insert(format!("{path}{key}"), value);
        }
    }

    fn apply(&self, act: &Act) -> Option<Model> {
        let mut next = self.clone();
        match act {
            Act::Put(path, tag) => {
                if !is_folder(&self.tree, parent(path)) || is_folder(&self.tree, path) {
                    return None;
                }
                next.tree.insert(path.clone(), bytes(*tag));
            }
            Act::Mkdir(path) => {
                if !is_folder(&self.tree, parent(path)) || exists(&self.tree, path) {
                    return None;
                }
                next.tree.insert(format!("{path}/"), Vec::new());
            }
            Act::Move(from, to, replace) => {
                let folder = is_folder(&self.tree, from);
                if !exists(&self.tree, from) || !is_folder(&self.tree, parent(to)) {
                    return None;
                }
                if folder && format!("{}/", parent(to)).starts_with(&format!("{from}/")) {
                    return None;
                }
                if from == to {
                    return Some(next);
                }
                if exists(&self.tree, to) && (!replace || folder || is_folder(&self.tree, to)) {
                    return None;
                }
                let moved = next.take(from);
                next.give(to, moved);
            }
            Act::Copy(from, to) => {
                let into = format!("{to}/").starts_with(&format!("{from}/")) && is_folder(&self.tree, from);
                if !exists(&self.tree, from)
                    || !is_folder(&self.tree, parent(to))
                    || exists(&self.tree, to)
                    || into
                {
                    return None;
                }
                let copied = part(&self.tree, from);
                next.give(to, copied);
            }
            Act::Remove(path) => {
                if !exists(&self.tree, path) {
                    return None;
                }
                let gone = next.take(path);
                next.removed = Some((path.clone(), gone));
            }
            Act::BringBack => {
                let (path, gone) = next.removed.take()?;
                if exists(&self.tree, &path) || !is_folder(&self.tree, parent(&path)) {
                    return None;
                }
                next.give(&path, gone);
            }
            Act::Wait => {}
            Act::Purge => next.removed = None,
        }
        Some(next)
    }
}

/// Drives the engine by the same acts.
struct Driver {
    engine: Engine,
    clock: Arc<SetClock>,
    ines: Actor,
    home: NodeId,
    removed: Option<(NodeId, NodeId)>,
}

impl Driver {
    async fn open(data: &Path, clock: &Arc<SetClock>, steps: Arc<dyn Steps>) -> Result<Driver, StoreError> {
        let engine = Engine::open(options(data, clock, steps)).await?;
        let account = match engine.people().account_named("ines").await? {
            Some(account) => account,
            None => {
                engine.people().make_account(&Actor::service(), "ines", "Ines", Role::Member, "x").await?
            }
        };
        engine.people().ensure_home(&Actor::service(), &account).await?;
        let ines = Actor { account: Some(account.id), ..Actor::service() };
        let home = engine.home_of(account.id).map(|s| s.root).unwrap_or_default();
        Ok(Driver { engine, clock: clock.clone(), ines, home, removed: None })
    }

    async fn node(&self, path: &str) -> Result<NodeId, StoreError> {
        let names: Vec<_> = path.split('/').filter(|p| !p.is_empty()).map(name).collect();
        Ok(self.engine.files().resolve(&self.ines, "home", &names).await?.node)
    }

    async fn place(&self, path: &str) -> Result<(NodeId, yellow_attic_core::Name), StoreError> {
        Ok((self.node(parent(path)).await?, name(path.rsplit('/').next().unwrap())))
    }

    async fn act(&mut self, act: &Act) -> Result<(), StoreError> {
        // Each act has its own second, so that identity by the minute does not tie them.
        self.clock.advance(61_000);
        let free = Conditions::default();
        match act {
            Act::Put(path, tag) => {
                let (parent, name) = self.place(path).await?;
                let staged = self.engine.stage_small(bytes(*tag))?;
                self.engine.files().put(&self.ines, parent, name, staged, START, free).await.map(|_| ())
            }
            Act::Mkdir(path) => {
                let (parent, name) = self.place(path).await?;
                self.engine.files().make_folder(&self.ines, parent, name).await.map(|_| ())
            }
            Act::Move(from, to, replace) => {
                let node = self.node(from).await?;
                let (parent, name) = self.place(to).await?;
                self.engine
                    .files()
                    .move_node(&self.ines, node, parent, name, *replace, free)
                    .await
                    .map(|_| ())
            }
            Act::Copy(from, to) => {
                let node = self.node(from).await?;
                let (parent, name) = self.place(to).await?;
                self.engine.history().copy(&self.ines, node, parent, name).await.map(|_| ())
            }
            Act::Remove(path) => {
                let node = self.node(path).await?;
                let above = self.node(parent(path)).await?;
                self.engine.files().remove(&self.ines, node, free).await?;
                self.removed = Some((node, above));
                Ok(())
            }
            Act::BringBack => {
                let (node, _) = self.removed.take().ok_or(StoreError::PlaceGone)?;
                self.engine.history().restore(&self.ines, node, None, Place::Last).await.map(|_| ())
            }
            Act::Wait => self.engine.run_jobs().await,
            Act::Purge => {
                self.engine.run_jobs().await?;
                self.clock.advance(2 * 86_400_000);
                let rules = crate::keeping::rules(&[(Rule::Versions, "last 1"), (Rule::TrashDays, "1")]);
                self.engine
                    .history()
                    .apply_purge(&self.ines, &rules, &Reach::All, None, &Progress::default())
                    .await?;
                Ok(())
            }
        }
    }

    /// What the store holds, read through the engine; the sums are checked on the way.
    async fn tree(&self) -> Result<Tree, StoreError> {
        let mut tree = Tree::new();
        let mut waiting = vec![(self.home, String::new())];
        let mut sums = Vec::new();
        while let Some((node, prefix)) = waiting.pop() {
            let page = self.engine.files().list(&self.ines, node, Sort::Name, false, 1000, None).await?;
            for entry in page.items {
                let path = format!("{prefix}{}", entry.row.name());
                if let Some(folder) = entry.folder {
                    tree.insert(format!("{path}/"), Vec::new());
                    sums.push((format!("{path}/"), folder));
                    waiting.push((entry.row.node, format!("{path}/")));
                } else {
                    let (mut file, _) = self.engine.files().open_bytes(&entry.row).await?;
                    let mut bytes = Vec::new();
                    file.read_to_end(&mut bytes).unwrap();
                    tree.insert(path, bytes);
                }
            }
        }
        sums.push((String::new(), self.engine.files().shelf_sums(self.home).await?.unwrap()));
        for (path, folder) in sums {
            let below = tree.iter().filter(|(k, _)| k.starts_with(&path) && **k != path);
            let (mut bytes, mut files, mut folders) = (0, 0, 0);
            for (k, v) in below {
                if k.ends_with('/') {
                    folders += 1
                } else {
                    files += 1
                }
                bytes += v.len() as i64;
            }
            assert_eq!(
                (folder.bytes, folder.files, folder.folders),
                (bytes, files, folders),
                "sums of {path:?}"
            );
        }
        Ok(tree)
    }

    /// The plain files on the disk, once everything is placed.
    fn on_disk(data: &Path) -> Tree {
        fn walk(dir: &Path, prefix: &str, tree: &mut Tree) {
            for entry in std::fs::read_dir(dir).unwrap() {
                let entry = entry.unwrap();
                let path = format!("{prefix}{}", entry.file_name().to_string_lossy());
                if entry.file_type().unwrap().is_dir() {
                    tree.insert(format!("{path}/"), Vec::new());
                    walk(&entry.path(), &format!("{path}/"), tree);
                } else {
                    tree.insert(path, std::fs::read(entry.path()).unwrap());
                }
            }
        }
        let mut tree = Tree::new();
        walk(&data.join("shelves/main/home/ines"), "", &mut tree);
        tree
    }
}

fn runtime() -> tokio::runtime::Runtime {
    tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap()
}

/// Runs acts to their end, comparing with the model after each.
async fn follow(acts: &[Act]) {
    let dir = tempfile::tempdir().unwrap();
    let clock = Arc::new(SetClock::at(START));
    let mut driver = Driver::open(dir.path(), &clock, Arc::new(AllSteps)).await.unwrap();
    let mut model = Model::default();
    for act in acts {
        let wanted = model.apply(act);
        let got = driver.act(act).await;
        assert_eq!(got.is_ok(), wanted.is_some(), "{act:?} answered {got:?} on {:?}", model.tree);
        if let Some(next) = wanted {
            model = next;
        } else if matches!(act, Act::BringBack) {
            model.removed = None;
        }
        assert_eq!(driver.tree().await.unwrap(), model.tree, "after {act:?}");
    }
    driver.engine.run_jobs().await.unwrap();
    in_step(&driver.engine).await;
    assert_eq!(Driver::on_disk(dir.path()), model.tree, "on the disk");
    assert_eq!(std::fs::read_dir(dir.path().join("staging")).unwrap().count(), 0, "staging");
    assert_eq!(driver.engine.people().check_record().await.unwrap().broken, None);
    driver.engine.stop().await;
    counted(dir.path()).await;
}

/// Waits until the disk is in step: what was let go before a stop is found by the look over the past at the start.
async fn in_step(engine: &Engine) {
    try_in_step(engine).await.unwrap();
}

async fn try_in_step(engine: &Engine) -> Result<(), StoreError> {
    engine.settle().await?;
    while engine.is_packing() {
        tokio::time::sleep(std::time::Duration::from_millis(2)).await;
    }
    engine.settle().await
}

/// Every sum, counted once more from the rows and from the disk.
async fn counted(data: &Path) {
    let found = yellow_attic_store::timeline::space::recount(data).await.unwrap();
    assert!(found.agrees(), "{found:#?}");
}

/// Runs acts until the engine stops at a step, opens it again, and compares. Returns whether it
/// came to the end before the step.
async fn stop_and_reopen(acts: &[Act], step: i64) -> bool {
    let dir = tempfile::tempdir().unwrap();
    let clock = Arc::new(SetClock::at(START));
    let steps = Arc::new(StopAfter(AtomicI64::new(i64::MAX)));
    let mut driver = Driver::open(dir.path(), &clock, steps.clone()).await.unwrap();
    driver.engine.settle().await.unwrap();
    steps.0.store(step, Ordering::SeqCst);
    let mut model = Model::default();
    let mut unknown = None;
    for act in acts {
        let wanted = model.apply(act);
        let got = driver.act(act).await;
        let stopped = steps.0.load(Ordering::SeqCst) <= 0;
        match (got, wanted) {
            (Ok(()), Some(next)) => model = next,
            (Ok(()), None) => panic!("{act:?} was not refused"),
            // Not answered: it may or may not have taken effect.
            (Err(_), wanted) if stopped => {
                unknown = wanted;
                break;
            }
            (Err(e), Some(_)) => panic!("{act:?} was refused: {e}"),
            (Err(_), None) => {
                if matches!(act, Act::BringBack) {
                    model.removed = None;
                }
            }
        }
    }
    // What is still owed to the disk is done, or stops at its step.
    let _ = driver.engine.settle().await;
    let finished = steps.0.load(Ordering::SeqCst) > 0;
    driver.engine.stop().await;
    drop(driver);

    let driver = Driver::open(dir.path(), &clock, Arc::new(AllSteps)).await.unwrap();
    let tree = driver.tree().await.unwrap();
    let as_wanted = tree == model.tree || unknown.as_ref().is_some_and(|m| tree == m.tree);
    assert!(
        as_wanted,
        "stopped at {step} of {acts:?}:\n{tree:?}\nis neither\n{:?}\nnor\n{:?}",
        model.tree,
        unknown.map(|m| m.tree)
    );
    driver.engine.run_jobs().await.unwrap();
    in_step(&driver.engine).await;
    assert_eq!(Driver::on_disk(dir.path()), tree, "on the disk, stopped at {step} of {acts:?}");
    assert_eq!(driver.tree().await.unwrap(), tree);
    assert_eq!(
        std::fs::read_dir(dir.path().join("staging")).unwrap().count(),
        0,
        "staging, stopped at {step}"
    );
    assert_eq!(driver.engine.people().check_record().await.unwrap().broken, None);
    driver.engine.stop().await;
    counted(dir.path()).await;
    finished
}

/// Runs acts while one step fails once, wherever it is: what was answered is so, what was refused is not, and the engine
/// goes on by itself. Returns whether the error came at all.
async fn fail_once(acts: &[Act], step: i64) -> bool {
    let dir = tempfile::tempdir().unwrap();
    let clock = Arc::new(SetClock::at(START));
    let steps = Arc::new(FailOnce(AtomicI64::new(i64::MAX)));
    let mut driver = Driver::open(dir.path(), &clock, steps.clone()).await.unwrap();
    driver.engine.settle().await.unwrap();
    steps.0.store(step, Ordering::SeqCst);
    let mut model = Model::default();
    for act in acts {
        let wanted = model.apply(act);
        match (driver.act(act).await, wanted) {
            (Ok(()), Some(next)) => model = next,
            (Ok(()), None) => panic!("{act:?} was not refused"),
            (Err(_), None) if matches!(act, Act::BringBack) => model.removed = None,
            (Err(_), None) => {}
            (Err(e), Some(_)) => {
                assert!(steps.has_come(), "{act:?} was refused: {e}");
                // Refused, so not done; and what was removed can still be brought back by hand, not by this model.
                if matches!(act, Act::BringBack | Act::Purge) {
                    model.removed = None;
                    driver.removed = None;
                }
            }
        }
        let tree = driver.tree().await;
        let tree = tree.unwrap_or_else(|e| panic!("{e} after {act:?}, with an error at step {step}"));
        assert_eq!(tree, model.tree, "after {act:?}, with an error at step {step}");
    }
    // The disk follows by itself, in a while.
    let begun = std::time::Instant::now();
    while driver.engine.trouble().is_some() || driver.engine.owed() > 0 {
        assert!(
            begun.elapsed().as_secs() < 10,
            "it does not go on after step {step}: {:?}",
            driver.engine.trouble()
        );
        tokio::time::sleep(std::time::Duration::from_millis(5)).await;
    }
    while driver.engine.run_jobs().await.is_err() {
        assert!(begun.elapsed().as_secs() < 20, "a job does not go on");
        clock.advance(10_000);
    }
    // The error may come only now.
    while let Err(e) = try_in_step(&driver.engine).await {
        assert!(begun.elapsed().as_secs() < 20, "it does not come in step: {e}");
    }
    assert_eq!(driver.tree().await.unwrap(), model.tree);
    driver.engine.stop().await;
    drop(driver);
    let driver = Driver::open(dir.path(), &clock, Arc::new(AllSteps)).await.unwrap();
    clock.advance(10_000);
    driver.engine.run_jobs().await.unwrap();
    in_step(&driver.engine).await;
    assert_eq!(driver.tree().await.unwrap(), model.tree, "reopened, with an error at step {step}");
    assert_eq!(Driver::on_disk(dir.path()), model.tree, "on the disk, with an error at step {step}");
    let left = std::fs::read_dir(dir.path().join("staging")).unwrap().count();
    assert_eq!(left, 0, "staging, with an error at step {step}");
    assert_eq!(driver.engine.people().check_record().await.unwrap().broken, None);
    driver.engine.stop().await;
    counted(dir.path()).await;
    steps.has_come()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, max_shrink_iters: 200, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn any_sequence_of_operations_does_what_the_model_does(acts in prop::collection::vec(act(), 1..25)) {
        runtime().block_on(follow(&acts));
    }

    #[test]
    fn stopped_anywhere_all_that_was_answered_is_there(acts in prop::collection::vec(act(), 1..14), step in 1i64..160) {
        runtime().block_on(stop_and_reopen(&acts, step));
    }
}

/// A day with something of everything.
fn day() -> Vec<Act> {
    let path = |p: &str| p.to_string();
    vec![
        Act::Mkdir(path("a")),
        Act::Put(path("a/x"), 1),
        Act::Put(path("b"), 2),
        Act::Put(path("a/x"), 3),
        Act::Move(path("a"), path("c"), false),
        Act::Mkdir(path("a")),
        Act::Move(path("b"), path("c/x"), true),
        Act::Copy(path("c"), path("a/c")),
        Act::Remove(path("c")),
        Act::Wait,
        Act::BringBack,
        Act::Put(path("c/x"), 5),
        Act::Remove(path("a/c")),
        Act::BringBack,
        Act::Purge,
        Act::Remove(path("c")),
        Act::Purge,
    ]
}

#[test]
fn an_error_that_comes_once_at_any_step_of_a_day_leaves_what_was_answered_and_goes_away() {
    for step in 1.. {
        if !runtime().block_on(fail_once(&day(), step)) {
            assert!(step > 60, "a day has more steps than {step}");
            return;
        }
    }
}

#[test]
fn stopped_at_every_single_step_of_a_day_all_that_was_answered_is_there() {
    let day = day();
    for step in 1.. {
        if runtime().block_on(stop_and_reopen(&day, step)) {
            assert!(step > 60, "a day has more steps than {step}");
            return;
        }
    }
}

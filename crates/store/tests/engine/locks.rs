//! Locks, properties, and what makes room for copies and moves.

use crate::support::{Attic, START, StopAfter, actor, name, options};
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};
use yellow_attic_core::NodeId;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::dav::PropName;
use yellow_attic_store::audit::check::check;
use yellow_attic_store::fs::clock::SetClock;
use yellow_attic_store::fs::fault_points::AllSteps;
use yellow_attic_store::fs::model::Tokens;
use yellow_attic_store::people::accounts::Role;
use yellow_attic_store::rights::locks::{Held, NewLock};
use yellow_attic_store::timeline::uploads::{Joining, NewUpload};
use yellow_attic_store::{Actor, Engine, Place, Row, StoreError};

fn new(node: NodeId, deep: bool, by_token: bool) -> NewLock {
    NewLock { node, deep, exclusive: true, by_token, owner: None, lives_ms: 600_000 }
}

async fn lock(attic: &Attic, path: &str, deep: bool) -> Held {
    let node = attic.find(path).await.unwrap().node;
    attic.engine.files().lock(&attic.ines, new(node, deep, true)).await.unwrap()
}

fn with(attic: &Attic, held: &Held) -> Actor {
    Actor { tokens: Tokens::new(std::iter::once(held.lock.token.clone())), ..attic.ines.clone() }
}

#[track_caller]
fn locked<T: std::fmt::Debug>(done: Result<T, StoreError>) {
    assert!(matches!(&done, Err(StoreError::Locked { by, .. }) if by == "Ines"), "{done:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn every_change_under_a_lock_is_refused_and_changes_nothing() {
    let attic = Attic::new().await;
    attic.mkdir("plans").await;
    attic.put("plans/roof", b"one").await;
    attic.put("other", b"o").await;
    let (roof, plans) =
        (attic.find("plans/roof").await.unwrap().node, attic.find("plans").await.unwrap().node);
    let before = attic.engine.history().now_moment().await.unwrap();
    attic.put("plans/roof", b"two").await;
    let held = lock(&attic, "plans", true).await;
    let other = attic.find("other").await.unwrap().node;
    let (engine, ines) = (attic.engine.clone(), attic.ines.clone());
    let at = engine.history().now_moment().await.unwrap();
    locked(attic.put_as(&ines, "plans/roof", b"three").await);
    locked(attic.put_as(&ines, "plans/new", b"n").await);
    locked(engine.files().make_folder(&ines, plans, name("deep")).await);
    locked(engine.files().remove(&ines, roof, Default::default()).await);
    locked(engine.files().remove(&ines, plans, Default::default()).await);
    locked(attic.mv_as(&ines, "plans/roof", "roof", false).await);
    locked(attic.mv_as(&ines, "other", "plans/other", false).await);
    locked(attic.mv_as(&ines, "other", "plans/roof", true).await);
    locked(attic.mv_as(&ines, "plans", "elsewhere", false).await);
    locked(engine.history().restore(&ines, roof, Some(before), Place::Last).await);
    locked(engine.history().copy(&ines, other, plans, name("copy")).await);
    locked(
        engine
            .files()
            .set_properties(&ines, roof, vec![(PropName::new("urn:z", "a"), Some("<a/>".into()))], None)
            .await,
    );
    assert!(matches!(
        engine.files().check_put(&ines, plans, &name("roof")).await,
        Err(StoreError::Locked { .. })
    ));
    // Looking, and copying from there, go on.
    assert_eq!(attic.cat("plans/roof").await, b"two");
    engine.history().copy(&ines, plans, attic.home, name("copied")).await.unwrap();
    engine.files().remove(&ines, attic.find("copied").await.unwrap().node, Default::default()).await.unwrap();
    assert_eq!(engine.history().states(&ines, roof, 100).await.unwrap().len(), 2);
    assert!(engine.history().now_moment().await.unwrap() > at);
    // With the token all of it goes.
    let holder = with(&attic, &held);
    attic.put_as(&holder, "plans/roof", b"three").await.unwrap();
    engine.history().restore(&holder, roof, Some(before), Place::Last).await.unwrap();
    assert_eq!(attic.cat("plans/roof").await, b"one");
    // What somebody does on the disk itself is not ours to refuse.
    engine.settle().await.unwrap();
    std::fs::write(attic.files().join("plans/roof"), b"by hand").unwrap();
    assert_eq!(attic.cat("plans/roof").await, b"by hand");
    // It outlives the engine, ends when its place goes, and by itself.
    let attic = attic.reopen().await;
    locked(attic.put_as(&attic.ines, "plans/roof", b"four").await);
    attic.mv_as(&holder, "plans", "elsewhere", false).await.unwrap();
    attic.put_as(&attic.ines, "elsewhere/roof", b"four").await.unwrap();
    let held = lock(&attic, "elsewhere/roof", false).await;
    locked(attic.put_as(&attic.ines, "elsewhere/roof", b"five").await);
    attic.clock.advance(600_001);
    attic.put_as(&attic.ines, "elsewhere/roof", b"five").await.unwrap();
    let gone = attic.engine.files().refresh_lock(&attic.ines, held.lock.node, &held.lock.token, None).await;
    assert!(matches!(gone, Err(StoreError::NotFound(_))));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_lock_by_hand_keeps_others_out_and_its_holders_links_too() {
    let attic = Attic::new().await;
    attic.put("doc", b"one").await;
    let doc = attic.find("doc").await.unwrap().node;
    attic.engine.files().lock(&attic.ines, new(doc, false, false)).await.unwrap();
    attic.put("doc", b"two").await;
    // A stranger comes with the account of whoever made the link, and is not them.
    let stranger = Actor {
        through: Some(yellow_attic_store::Through {
            opening: yellow_attic_core::OpeningId(1),
            node: doc,
            most: yellow_attic_core::rights::Level::Edit,
        }),
        ..attic.ines.clone()
    };
    locked(attic.put_as(&stranger, "doc", b"three").await);
    let oona = attic
        .engine
        .people()
        .make_account(&Actor::service(), "oona", "Oona", Role::Member, "x")
        .await
        .unwrap();
    let oona = Actor { account: Some(oona.id), who: "oona".into(), ..attic.ines.clone() };
    let refused = attic.engine.files().end_locks(&oona, doc).await;
    assert!(matches!(refused, Err(StoreError::NotFound(_))), "what one cannot see has no locks: {refused:?}");
    attic.engine.files().end_locks(&attic.ines, doc).await.unwrap();
    attic.put_as(&stranger, "doc", b"three").await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn copies_and_moves_take_places_and_what_makes_room_in_vain_comes_back() {
    let attic = Attic::new().await;
    let (engine, ines) = (attic.engine.clone(), attic.ines.clone());
    for (path, text) in [("a/x", "ax"), ("a/sub/y", "y"), ("b/x", "bx"), ("file", "f")] {
        if let Some((folder, _)) = path.rsplit_once('/')
            && attic.find(folder).await.is_err()
        {
            attic.mkdir(folder).await;
        }
        attic.put(path, text.as_bytes()).await;
    }
    let node = async |path: &str| attic.find(path).await.unwrap().node;
    let (a, b, file) = (node("a").await, node("b").await, node("file").await);
    let mark = |n: &str| vec![(PropName::new("urn:z", n), Some(format!("<{n} xmlns=\"urn:z\"/>")))];
    engine.files().set_properties(&ines, a, mark("folder"), None).await.unwrap();
    engine.files().set_properties(&ines, node("a/sub/y").await, mark("deep"), None).await.unwrap();
    // A folder over a folder, with what programs keep.
    engine.history().copy_over(&ines, a, attic.home, name("b"), true).await.unwrap();
    assert_eq!(attic.cat("b/x").await, b"ax");
    let copied = [node("b").await, node("b/sub/y").await];
    let kept = engine.files().properties(&copied).await.unwrap();
    assert_eq!(copied.map(|n| kept[&n][0].0.name.clone()), ["folder", "deep"]);
    // What made room is in the trash, and comes back.
    engine.history().restore(&ines, b, None, Place::At(attic.home, name("b-before"))).await.unwrap();
    assert_eq!(attic.cat("b-before/x").await, b"bx");
    // A file over a folder, and a folder over a file.
    engine.history().copy_over(&ines, file, attic.home, name("b"), true).await.unwrap();
    assert_eq!(attic.cat("b").await, b"f");
    engine.history().move_over(&ines, a, attic.home, name("file"), Conditions::default()).await.unwrap();
    assert_eq!(attic.cat("file/sub/y").await, b"y");
    // Into itself, or onto what it lies in: nothing is removed for that.
    let (whole, sub) = (node("file").await, node("file/sub").await);
    for done in [
        engine.history().copy_over(&ines, sub, attic.home, name("file"), true).await,
        engine.history().copy_alone(&ines, sub, attic.home, name("file"), true).await,
        engine.history().move_over(&ines, sub, attic.home, name("file"), Conditions::default()).await,
        engine.history().move_over(&ines, whole, sub, name("in"), Conditions::default()).await,
    ] {
        assert!(matches!(done, Err(StoreError::IntoItself)), "{done:?}");
    }
    // In vain: what it would replace holds something locked, or the place is full.
    let held = lock(&attic, "b-before/x", false).await;
    locked(engine.history().copy_over(&ines, whole, attic.home, name("b-before"), true).await);
    assert_eq!(attic.cat("b-before/x").await, b"bx");
    engine.files().release_lock(&ines, held.lock.node, &held.lock.token).await.unwrap();
    assert_eq!(attic.cat("file/x").await, b"ax");
    assert_eq!(attic.reopen().await.cat("b-before/x").await, b"bx");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_files_own_time_is_set_without_a_new_state_and_on_the_disk() {
    let attic = Attic::new().await;
    attic.put("doc", b"one").await;
    let row = attic.find("doc").await.unwrap();
    for when in [1_772_000_000_123, -86_400_000] {
        attic.engine.files().set_properties(&attic.ines, row.node, Vec::new(), Some(when)).await.unwrap();
        assert_eq!(attic.find("doc").await.unwrap().mtime, when);
        assert_eq!(attic.cat("doc").await, b"one");
        attic.engine.settle().await.unwrap();
        let facts = std::fs::metadata(attic.files().join("doc")).unwrap();
        assert_eq!(std::os::unix::fs::MetadataExt::mtime(&facts), when.div_euclid(1000));
    }
    assert_eq!(attic.engine.history().states(&attic.ines, row.node, 10).await.unwrap().len(), 1);
    // What it replaces keeps its own.
    attic.put("doc", b"two").await;
    let attic = attic.reopen().await;
    let states = attic.engine.history().states(&attic.ines, row.node, 10).await.unwrap();
    assert_eq!(states[1].row.mtime, -86_400_000);
    assert_eq!(attic.bytes_of(&states[1].row).await, b"one");
}

fn colour() -> PropName {
    PropName::new("urn:lamp", "colour")
}

const TEAL: &str = "<colour xmlns=\"urn:lamp\">teal</colour>";

fn upload(parent: NodeId, to: &str, size: u64, joining: Joining) -> NewUpload {
    let (mtime, if_match, if_none_match, hash) = (None, None, None, None);
    NewUpload {
        parent,
        name: name(to),
        size,
        open_length: false,
        mtime,
        if_match,
        if_none_match,
        hash,
        joining,
    }
}

/// What was answered before the engine stopped.
#[derive(Debug, Default)]
struct Answered {
    token: Option<String>,
    set: bool,
    copied: bool,
    released: bool,
    /// How many bytes of how many parts.
    parts: Vec<(String, u64)>,
    joined: Option<String>,
    put: bool,
}

/// A lock, properties under it, a copy that takes them along, and a file of two parts; as far as it comes.
async fn a_morning(
    engine: &Engine,
    ines: &Actor,
    work: &Row,
    roof: NodeId,
) -> (Answered, Result<(), StoreError>) {
    let mut got = Answered::default();
    let done = async {
        let held = engine.files().lock(ines, new(roof, false, true)).await?;
        got.token = Some(held.lock.token.clone());
        let holder = Actor { tokens: Tokens::new(std::iter::once(held.lock.token.clone())), ..ines.clone() };
        engine.files().set_properties(&holder, roof, vec![(colour(), Some(TEAL.into()))], None).await?;
        got.set = true;
        engine.history().copy(ines, roof, work.node, name("copy")).await?;
        got.copied = true;
        engine.files().release_lock(ines, roof, &held.lock.token).await?;
        got.released = true;
        for (n, bytes) in [b"fog at ", b"seven, "].into_iter().enumerate() {
            let part = engine.files().begin_upload(ines, upload(work.node, "part", 7, Joining::Part)).await?;
            got.parts.push((part.id.clone(), 0));
            let mut sent = engine.files().append(ines, &part.id, 0).await?;
            sent.write(bytes)?;
            got.parts[n].1 = sent.pause().await?;
        }
        let ids = got.parts.iter().map(|(id, _)| id.clone()).collect();
        let whole =
            engine.files().join_uploads(ines, upload(work.node, "joined", 0, Joining::Of(ids))).await?;
        got.joined = Some(whole.id.clone());
        got.put = engine.files().finish_upload(ines, &whole.id, None).await?.is_some();
        engine.settle().await
    };
    let done = done.await;
    (got, done)
}

#[test]
fn stopped_anywhere_locks_properties_and_joined_parts_are_as_answered() {
    let runtime =
        || tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
    for stop in 0..300 {
        let dir = tempfile::tempdir().unwrap();
        let data = dir.path().join("data");
        let clock = Arc::new(SetClock::at(START));
        let steps = Arc::new(StopAfter(AtomicI64::new(i64::MAX)));
        let (ines, roof, got, finished) = runtime().block_on(async {
            let engine = Engine::open(options(&data, &clock, steps.clone())).await.unwrap();
            let account = engine
                .people()
                .make_account(&Actor::service(), "ines", "", Role::Administrator, "x")
                .await
                .unwrap();
            let ines = actor(account.id, "ines");
            let home = engine.home_of(account.id).unwrap().root;
            let work = engine.files().make_folder(&ines, home, name("Work")).await.unwrap().row.unwrap();
            let staged = engine.stage_small(b"slates".to_vec()).unwrap();
            let put = engine.files().put(&ines, work.node, name("roof"), staged, 0, Default::default()).await;
            let roof = put.unwrap().row.unwrap().node;
            engine.settle().await.unwrap();
            steps.0.store(stop, Ordering::SeqCst);
            let (got, done) = a_morning(&engine, &ines, &work, roof).await;
            let finished = steps.0.load(Ordering::SeqCst) > 0;
            // What is done in the background can be what was stopped.
            assert!(done.is_ok() || !finished, "stopped at {stop}: {got:?}, {done:?}");
            engine.stop().await;
            (ines, roof, got, finished)
        });
        runtime().block_on(async {
            let engine = Engine::open(options(&data, &clock, Arc::new(AllSteps))).await.unwrap();
            engine.settle().await.unwrap();
            let say = |what: &str| format!("stopped at {stop}: {what}; answered {got:?}");
            // The lock: there once it was answered, gone once its end was.
            let way: Vec<NodeId> = vec![roof];
            let held = engine.files().locks_over(&way);
            match (&got.token, got.released) {
                (Some(_), true) => assert!(held.is_empty(), "{}", say("a lock that ended holds")),
                (Some(token), false) => {
                    let may_be_gone = got.copied;
                    let is_there = held.len() == 1 && held[0].lock.token == *token;
                    assert!(is_there || (may_be_gone && held.is_empty()), "{}", say("the lock is lost"));
                }
                // It may have been taken without an answer.
                (None, _) => assert!(held.len() <= 1),
            }
            let find = async |path: &str| {
                engine.files().resolve(&ines, "home", &[name("Work"), name(path)]).await.ok()
            };
            let props = async |node: NodeId| {
                engine.files().properties(&[node]).await.unwrap().remove(&node).unwrap_or_default()
            };
            let teal = vec![(colour(), TEAL.to_string())];
            let own = props(roof).await;
            assert!(own == teal || (!got.set && own.is_empty()), "{}: {own:?}", say("properties"));
            let copy = find("copy").await;
            assert!(copy.is_some() || !got.copied, "{}", say("the copy is lost"));
            if let Some(copy) = copy {
                assert_eq!(props(copy.node).await, teal, "{}", say("properties of the copy"));
            }
            // The parts: as many bytes as were answered, or joined by then.
            let uploads = engine.files().uploads(&ines).await.unwrap();
            let joined = find("joined").await;
            for (id, bytes) in &got.parts {
                match uploads.iter().find(|u| u.id == *id) {
                    Some(part) => assert!(part.received >= *bytes, "{}", say("bytes of a part are lost")),
                    None => {
                        let whole = joined.is_some() || uploads.iter().any(|u| u.received == 14);
                        assert!(*bytes == 0 || whole, "{}", say("a part is lost"));
                    }
                }
            }
            if let Some(id) = &got.joined {
                let is_there = got.put || uploads.iter().any(|u| u.id == *id) || joined.is_some();
                assert!(is_there, "{}", say("what was joined is lost"));
            }
            assert!(joined.is_some() || !got.put, "{}", say("the file of parts is lost"));
            if let Some(row) = joined {
                let (mut file, _) = engine.files().open_bytes(&row).await.unwrap();
                let mut text = String::new();
                std::io::Read::read_to_string(&mut file, &mut text).unwrap();
                assert_eq!(text, "fog at seven, ", "{}", say("bytes"));
            }
            // Nothing lies about: what is in staging is somebody's.
            let lying = std::fs::read_dir(data.join("staging")).unwrap().count();
            assert!(lying <= uploads.len(), "{}: {lying} of {}", say("staging"), uploads.len());
            for left in uploads {
                engine.files().end_upload(&ines, &left.id).await.unwrap();
            }
            assert_eq!(std::fs::read_dir(data.join("staging")).unwrap().count(), 0, "{}", say("staging"));
            assert_eq!(engine.people().check_record().await.unwrap().broken, None);
            engine.stop().await;
            assert!(
                check(&data, Default::default(), Box::new(|_| true)).await.unwrap().is_sound(),
                "{}",
                say("check")
            );
        });
        if finished {
            assert!(stop > 20, "all this has more steps than {stop}");
            return;
        }
    }
    panic!("it never went through");
}

//! What a program that keeps a tree in step reads: a tree at one moment, changes since one, and what it may see no more.

use crate::strangers::member;
use crate::support::{PASSWORD, PATIENCE, Service, eventually, in_the_catalogue};
use futures_util::StreamExt;
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use yellow_attic_client::{Client, Stated, When, api};

/// A tree as it was told: its moment, and each entry's folder, name and state.
type Tree = (String, BTreeMap<i64, (Option<i64>, String, String)>);

/// Reads a tree. An error if it did not come whole.
async fn tree(client: &Client, node: i64, at: Option<&str>) -> Result<Tree, String> {
    let mut lines = std::pin::pin!(client.tree(node, at).await.map_err(|e| e.to_string())?);
    let (mut moment, mut entries, mut end) = (None, BTreeMap::new(), None);
    let mut known = BTreeSet::from([node]);
    while let Some(line) = lines.next().await {
        match line.map_err(|e| e.to_string())? {
            api::TreeLine::Begin { moment: at, root, timeline } => {
                assert!(root.id == node && !timeline.is_empty() && moment.is_none());
                moment = Some(at);
            }
            api::TreeLine::Entry { node } => {
                assert!(node.parent.is_some_and(|p| known.contains(&p)), "each folder before what is in it");
                known.insert(node.id);
                let before = entries.insert(node.id, (node.parent, node.name, node.moment));
                assert!(before.is_none(), "told twice");
            }
            api::TreeLine::End { count, moment } => end = Some((count, moment)),
        }
    }
    let (count, last) = end.ok_or("it ended before its end")?;
    let moment = moment.unwrap();
    assert_eq!((count, &last), (entries.len() as u64, &moment));
    Ok((moment, entries))
}

async fn put(client: &Client, parent: i64, name: &str) -> api::Node {
    client.put(parent, name, None, &Default::default(), name.as_bytes().to_vec().into()).await.unwrap()
}

fn given(to: &str, can: &str) -> api::NewGrant {
    api::NewGrant { to: format!("account:{to}"), can: can.into(), until: None, message: String::new() }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_tree_is_of_one_moment_whatever_is_renamed_meanwhile() {
    let (_service, ines) = Service::ready().await;
    let top = ines.place("home:/", None).await.unwrap().node.id;
    let mut folders = vec![top];
    for n in 0..12 {
        let into = folders[n / 2];
        folders.push(ines.make_folder(into, &format!("z{n}")).await.unwrap().id);
    }
    let mut files = Vec::new();
    for n in 0..60 {
        files.push(put(&ines, folders[n % folders.len()], &format!("f{n}")).await.id);
    }
    let all: BTreeSet<i64> = folders[1..].iter().chain(&files).copied().collect();
    let (stop, done) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)));
    let mut writers = tokio::task::JoinSet::new();
    for seed in 0..3u64 {
        let (client, stop, done) = (ines.clone(), stop.clone(), done.clone());
        let (folders, files) = (folders.clone(), files.clone());
        writers.spawn(async move {
            let mut next = yellow_attic_trials::numbers(seed);
            while !stop.load(Ordering::Relaxed) {
                let node = if next(3) == 0 {
                    folders[1 + next(folders.len() as u64 - 1) as usize]
                } else {
                    files[next(files.len() as u64) as usize]
                };
                let target = api::Target {
                    parent: Some(folders[next(folders.len() as u64) as usize]),
                    name: Some(format!("{}{}", ["a", "m", "z"][next(3) as usize], next(1_000_000))),
                    ..Default::default()
                };
                // Not into itself; else it is done.
                done.fetch_add(u64::from(client.change(node, &target).await.is_ok()), Ordering::Relaxed);
            }
        });
    }
    let mut read = Vec::new();
    let begun = std::time::Instant::now();
    // However slow the disk is against the processor: both are to have happened.
    let enough = |trees: usize| trees >= 60 && done.load(Ordering::Relaxed) > 100;
    while !enough(read.len()) && begun.elapsed() < PATIENCE {
        let (moment, entries) = tree(&ines, top, None).await.unwrap();
        let told: BTreeSet<i64> = entries.keys().copied().collect();
        assert_eq!(told, all, "at {moment} something was on no page, or on two");
        read.push((moment, entries));
    }
    stop.store(true, Ordering::Relaxed);
    writers.join_all().await;
    let renames = done.load(Ordering::Relaxed);
    assert!(enough(read.len()), "{renames} renames, {} trees", read.len());
    for (moment, entries) in read {
        assert_eq!(
            tree(&ines, top, Some(&moment)).await.unwrap(),
            (moment, entries),
            "asked later, it is the same"
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_tree_leaves_out_what_is_hidden_and_ends_early_if_rights_change() {
    let (service, ines) = Service::ready().await;
    let (_, words) = member(&ines, "tomas").await;
    let asked = api::NewDevice {
        sign_in: "tomas".into(),
        password: words,
        device: "slow".into(),
        ..Default::default()
    };
    let token = ines.connect(&asked).await.unwrap().token;
    let tomas = Client::new(ines.address(), Some(&token)).unwrap();
    let top = ines.place("home:/", None).await.unwrap().node.id;
    let folder = ines.make_folder(top, "Given").await.unwrap().id;
    let hidden = ines.make_folder(folder, "Hidden").await.unwrap().id;
    let inside = put(&ines, hidden, "inside").await.id;
    let seen = put(&ines, folder, "seen").await.id;
    ines.give(folder, &given("tomas", "view")).await.unwrap();
    ines.give(hidden, &given("tomas", "deny")).await.unwrap();
    let (_, entries) = tree(&tomas, folder, None).await.unwrap();
    assert_eq!(entries.keys().copied().collect::<Vec<_>>(), [seen]);
    for node in [hidden, top, inside] {
        assert!(tree(&tomas, node, None).await.is_err());
    }
    // So much that it does not go into the line at once: whoever reads slowly is told no more after a change of rights.
    let mut tar = tar::Builder::new(Vec::new());
    for n in 0..20_000 {
        let mut head = tar::Header::new_gnu();
        head.set_size(0);
        head.set_mode(0o644);
        tar.append_data(&mut head, format!("{n:0200}"), &[][..]).unwrap();
    }
    let sent = tar.into_inner().unwrap();
    let mut fates = std::pin::pin!(ines.send_tar(folder, sent.into()).await.unwrap());
    while let Some(line) = fates.next().await {
        line.unwrap();
    }
    // Of a slow reader: what came, and whether it came whole.
    let slowly = async |between: Pin<Box<dyn Future<Output = ()> + '_>>| {
        let call = reqwest::Client::new()
            .get(format!("{}/api/v1/nodes/{folder}/tree", service.address))
            .bearer_auth(&token);
        let mut answer = call.send().await.unwrap().error_for_status().unwrap();
        let mut got = answer.chunk().await.unwrap().unwrap().to_vec();
        between.await;
        while let Ok(Some(piece)) = answer.chunk().await {
            got.extend(piece);
        }
        let whole =
            got.rsplit(|b| *b == b'\n').nth(1).is_some_and(|last| last.starts_with(br#"{"line":"end""#));
        (got.len(), whole)
    };
    let (all, whole) = slowly(Box::pin(async {})).await;
    assert!(whole && all > 10_000_000, "{all} bytes were told");
    // What others may do elsewhere, or a new account, is nobody's concern here.
    let elsewhere = ines.make_folder(top, "Elsewhere").await.unwrap().id;
    let others = slowly(Box::pin(async {
        member(&ines, "sena").await;
        ines.give(elsewhere, &given("sena", "edit")).await.unwrap();
        ines.give(folder, &given("sena", "view")).await.unwrap();
    }));
    assert_eq!(others.await, (all, true));
    let denied = slowly(Box::pin(async { drop(ines.give(folder, &given("tomas", "deny")).await.unwrap()) }));
    let (got, whole) = denied.await;
    assert!(!whole && got < all - 1_000_000, "{got} bytes were told");
    ines.give(folder, &given("tomas", "view")).await.unwrap();
    let own = tomas.devices().await.unwrap().devices.into_iter().find(|d| d.this).unwrap().id;
    let out = slowly(Box::pin(async {
        tomas.end_device(own).await.unwrap();
    }));
    let (got, whole) = out.await;
    assert!(!whole && got < all - 1_000_000, "{got} bytes were told");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_seen_no_more_is_told_apart_from_what_is_gone() {
    let (_service, ines) = Service::ready().await;
    let (tomas, _) = member(&ines, "tomas").await;
    let shelf = ines.make_shelf(&api::NewShelf { name: "Plans".into(), ..Default::default() }).await.unwrap();
    ines.give(shelf.root, &given("tomas", "edit")).await.unwrap();
    let hidden = ines.make_folder(shelf.root, "Board").await.unwrap().id;
    ines.give(hidden, &given("tomas", "deny")).await.unwrap();
    let (gone, away) = (put(&ines, shelf.root, "gone").await.id, put(&ines, shelf.root, "away").await.id);
    let query = |since: &str| api::ChangesQuery { since: Some(since.into()), ..Default::default() };
    let start = tomas.changes(shelf.root, &Default::default()).await.unwrap();
    ines.remove(gone).await.unwrap();
    let into = api::Target { parent: Some(hidden), name: Some("minutes".into()), ..Default::default() };
    ines.change(away, &into).await.unwrap();
    ines.put_onto(away, None, b"changed where nobody sees it".to_vec().into()).await.unwrap();
    let told = tomas.changes(shelf.root, &query(&start.upto)).await.unwrap();
    let what: BTreeMap<i64, (&str, &str)> =
        told.changes.iter().map(|c| (c.node.id, (c.what.as_str(), c.node.name.as_str()))).collect();
    assert_eq!(what, BTreeMap::from([(gone, ("removed", "gone")), (away, ("out_of_sight", "away"))]));
    // Removed where it was not seen: still only that it is out of sight.
    ines.remove(away).await.unwrap();
    let told = tomas.changes(shelf.root, &query(&start.upto)).await.unwrap();
    assert_eq!(told.changes.iter().filter(|c| c.node.id == away && c.what == "out_of_sight").count(), 1);
    assert_eq!(told.changes.len(), 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn moments_of_another_timeline_or_too_long_ago_are_refused() {
    let dir = tempfile::tempdir().unwrap();
    let mut service = Service::start_in(dir.path());
    service.set_up().await;
    let ines = service.client().await;
    let top = ines.place("home:/", None).await.unwrap().node.id;
    put(&ines, top, "a").await;
    let start = ines.changes(top, &Default::default()).await.unwrap();
    let ask = async |client: &Client, since: &str, timeline: &str| {
        let query = api::ChangesQuery {
            since: Some(since.into()),
            timeline: Some(timeline.into()),
            ..Default::default()
        };
        client.changes(top, &query).await.map_err(|e| e.code().unwrap_or_default().to_string())
    };
    assert!(ask(&ines, &start.upto, &start.timeline).await.unwrap().changes.is_empty());
    assert_eq!(ask(&ines, &start.upto, "elsewhere").await.unwrap_err(), "other_timeline");
    for n in 0..40 {
        put(&ines, top, &format!("n{n}")).await;
    }
    let later = ines.changes(top, &Default::default()).await.unwrap().upto;
    let token = ines.token().unwrap().to_string();
    // What a purge leaves: rows up to a number are not known any more.
    drop(service);
    in_the_catalogue(dir.path(), "UPDATE heads SET forgotten = moment - 5");
    let service = Service::start_in(dir.path());
    let ines = Client::new(&service.address, Some(&token)).unwrap();
    assert_eq!(ask(&ines, &start.upto, &start.timeline).await.unwrap_err(), "forgotten");
    assert!(ask(&ines, &later, &start.timeline).await.is_ok(), "the same store is the same timeline");
    // Who begins lists all there is.
    assert!(ines.changes(top, &Default::default()).await.unwrap().changes.len() > 40);
    // A listener goes on from now, and is told to list anew.
    let call = |last: &str| {
        reqwest::Client::new()
            .get(format!("{}/api/v1/events", service.address))
            .bearer_auth(&token)
            .header("last-event-id", last)
    };
    let mut events = call(&start.upto).send().await.unwrap().bytes_stream();
    let mut text = String::new();
    while !text.contains("event: anew") {
        text.push_str(&String::from_utf8_lossy(&events.next().await.unwrap().unwrap()));
        assert!(!text.contains("event: change"), "{text}");
    }
    assert!(text.contains(&format!("\"timeline\":\"{}\"", start.timeline)), "{text}");
}

/// Follows events, and keeps those of one kind.
fn listen(client: &Client, kind: &'static str) -> Arc<std::sync::Mutex<Vec<Value>>> {
    let heard = Arc::new(std::sync::Mutex::new(Vec::new()));
    let (its, call) = (
        heard.clone(),
        reqwest::Client::new()
            .get(format!("{}/api/v1/events", client.address()))
            .bearer_auth(client.token().unwrap()),
    );
    tokio::spawn(async move {
        let mut pieces = call.send().await.unwrap().bytes_stream();
        let mut text = String::new();
        while let Some(Ok(piece)) = pieces.next().await {
            text.push_str(&String::from_utf8_lossy(&piece));
            while let Some((event, rest)) =
                text.split_once("\n\n").map(|(a, b)| (a.to_string(), b.to_string()))
            {
                text = rest;
                for wanted in [kind, "ready"] {
                    if event.contains(&format!("event: {wanted}\n")) {
                        let data = event.lines().find_map(|l| l.strip_prefix("data: ")).unwrap_or("null");
                        its.lock().unwrap().push(serde_json::from_str(data).unwrap());
                    }
                }
            }
        }
    });
    heard
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_of_rights_is_told_to_those_whom_it_concerns_and_says_where() {
    let (_service, ines) = Service::ready().await;
    let (tomas, _) = member(&ines, "tomas").await;
    let (noor, _) = member(&ines, "noor").await;
    let top = ines.place("home:/", None).await.unwrap().node.id;
    let folder = ines.make_folder(top, "Given").await.unwrap().id;
    let deep = ines.make_folder(folder, "Deep").await.unwrap().id;
    let (his, hers) = (listen(&tomas, "access"), listen(&noor, "access"));
    assert!(eventually(async || !his.lock().unwrap().is_empty() && !hers.lock().unwrap().is_empty()).await);
    let told = async |heard: &Arc<std::sync::Mutex<Vec<Value>>>, count: usize| {
        assert!(eventually(async || heard.lock().unwrap().len() > count).await, "{heard:?}");
        heard.lock().unwrap()[count]["nodes"].clone()
    };
    let grant = ines.give(folder, &given("tomas", "view")).await.unwrap();
    assert_eq!(told(&his, 1).await, serde_json::json!([folder]));
    // Kept from something that he sees; from something beneath it, which he sees no more by then.
    ines.give(deep, &given("tomas", "deny")).await.unwrap();
    assert_eq!(told(&his, 2).await, serde_json::json!([deep]));
    let deeper = ines.make_folder(deep, "Deeper").await.unwrap().id;
    ines.give(deeper, &given("tomas", "deny")).await.unwrap();
    ines.end_grant(grant.id).await.unwrap();
    assert_eq!(told(&his, 3).await, serde_json::json!([folder]), "of what he never saw nothing is told");
    assert_eq!(his.lock().unwrap().len(), 4);
    assert_eq!(hers.lock().unwrap().len(), 1, "none of it concerns her: {hers:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rollback_is_named_to_who_follows() {
    let (_service, ines) = Service::ready().await;
    let top = ines.place("home:/", None).await.unwrap().node.id;
    let folder = ines.make_folder(top, "Films").await.unwrap().id;
    let mut files = Vec::new();
    for n in 0..8 {
        files.push(put(&ines, folder, &format!("f{n}")).await);
    }
    let goal = files.last().unwrap().moment.clone();
    for file in &files {
        ines.put_onto(file.id, None, b"noise".to_vec().into()).await.unwrap();
    }
    let start = ines.changes(top, &Default::default()).await.unwrap();
    let begun = ines
        .begin_rollback(folder, &api::NewRollback { to: goal.clone(), keep: vec![], token: None })
        .await
        .unwrap();
    assert!(eventually(async || ines.rollback(begun.id).await.unwrap().state == "done").await);
    let query = api::ChangesQuery { since: Some(start.upto.clone()), ..Default::default() };
    let told = ines.changes(top, &query).await.unwrap();
    let [rollback] = &told.rollbacks[..] else { panic!("{:?}", told.rollbacks) };
    assert_eq!((rollback.id, rollback.node, &rollback.to), (begun.id, folder, &goal));
    let number = |token: &str| i64::from_str_radix(&token[1..], 16).unwrap();
    let until = number(rollback.until.as_deref().unwrap());
    for change in &told.changes {
        assert!((number(&rollback.begun) + 1..=until).contains(&number(&change.moment)), "{change:?}");
    }
    assert_eq!(told.changes.len(), 8);
    // Later it is none of the news.
    let later = put(&ines, top, "later").await;
    let query = api::ChangesQuery { since: Some(later.moment), ..Default::default() };
    tokio::time::sleep(std::time::Duration::from_millis(5)).await;
    put(&ines, top, "latest").await;
    assert!(ines.changes(top, &query).await.unwrap().rollbacks.is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn many_states_come_as_one_stream_and_what_may_not_be_seen_is_left_out() {
    let (service, owner) = Service::ready().await;
    let home = owner.place("home:/", None).await.unwrap().node.id;
    let (put, program) = (When::default(), Stated { executable: Some(true), ..Stated::default() });
    let one = owner
        .put(home, "one", Some("2026-11-02T16:20:00.123Z"), &put, b"first".to_vec().into())
        .await
        .unwrap();
    let two = owner.stating(program).put(home, "two", None, &put, Vec::new().into()).await.unwrap();
    let large = owner.put(home, "large", None, &put, vec![1; (1 << 20) + 1].into()).await.unwrap();
    let again = owner.put(home, "one", None, &put, b"second".to_vec().into()).await.unwrap();
    assert_eq!(one.id, again.id);
    let wanted = |all: &[(i64, &str)]| -> Vec<api::WantedState> {
        all.iter().map(|(node, moment)| api::WantedState { node: *node, moment: (*moment).into() }).collect()
    };
    let list = [
        (one.id, one.moment.as_str()),
        (one.id, again.moment.as_str()),
        (large.id, large.moment.as_str()),
        (two.id, two.moment.as_str()),
        (home, two.moment.as_str()),
        (999_999, two.moment.as_str()),
        // Before it was there.
        (two.id, one.moment.as_str()),
    ];
    let read = async |client: &Client, list: &[(i64, &str)]| {
        let pieces: Vec<_> = client.states(wanted(list)).await.unwrap().collect().await;
        let bytes: Vec<u8> = pieces.into_iter().flat_map(|piece| piece.unwrap().to_vec()).collect();
        assert!(bytes.ends_with(&[0; 1024]));
        let mut found = Vec::new();
        for entry in tar::Archive::new(&bytes[..]).entries().unwrap() {
            let mut entry = entry.unwrap();
            let place: usize = entry.path().unwrap().to_str().unwrap().parse().unwrap();
            let runs = entry.header().mode().unwrap() & 0o100 != 0;
            let mut text = String::new();
            std::io::Read::read_to_string(&mut entry, &mut text).unwrap();
            found.push((place, text, runs));
        }
        found
    };
    let all = read(&owner, &list).await;
    assert_eq!(all, [(0, "first".into(), false), (1, "second".into(), false), (3, String::new(), true)]);
    // Somebody else sees none of it.
    let new =
        api::NewAccount { sign_in: "mara".into(), password: Some(PASSWORD.into()), ..Default::default() };
    owner.make_account(&new).await.unwrap();
    let asked =
        api::NewDevice { sign_in: "mara".into(), password: PASSWORD.into(), device: "d".into(), code: None };
    let token = owner.connect(&asked).await.unwrap().token;
    let mara = Client::new(&service.address, Some(&token)).unwrap();
    assert_eq!(read(&mara, &list).await, []);
    let many: Vec<(i64, &str)> = (0..1001).map(|_| list[0]).collect();
    let refused = owner.states(wanted(&many)).await.err().unwrap();
    assert_eq!(refused.code(), Some("too_many_states"));
    assert_eq!(read(&owner, &many[..1000]).await.len(), 1000);
}

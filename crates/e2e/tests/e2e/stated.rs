//! Writes that say what they are of: which thing, how it was known, and by which request.

use crate::strangers::member;
use crate::support::{Service, Yattic, eventually, program, wait_for};
use futures_util::StreamExt;
use serde_json::{Value, json};
use std::fs::Permissions;
use std::os::unix::fs::PermissionsExt;
use std::process::Command;
use yellow_attic_client::{Client, Stated, api};

async fn home(client: &Client) -> i64 {
    client.place("home:/", None).await.unwrap().node.id
}

fn new() -> Stated {
    Stated { thing: Some("new".into()), ..Stated::default() }
}

/// As a node was when it was told last.
fn as_it_was(node: &api::Node) -> Stated {
    Stated { thing: Some(node.id.to_string()), seen: Some(node.moment.clone()), ..Stated::default() }
}

fn called(request: &str) -> Stated {
    Stated { request: Some(request.into()), ..Stated::default() }
}

async fn put(client: &Client, parent: i64, name: &str, bytes: &[u8]) -> Result<api::Node, String> {
    let done = client.put(parent, name, None, &Default::default(), bytes.to_vec().into()).await;
    done.map_err(|e| e.code().unwrap_or_default().to_string())
}

async fn states(client: &Client, node: i64) -> usize {
    client.history(node).await.unwrap().states.len()
}

/// What stands there instead, by a refusal.
fn present(refused: yellow_attic_client::Error) -> api::Present {
    match refused {
        yellow_attic_client::Error::Refused(problem) => {
            assert_eq!((problem.status, problem.code.as_str()), (412, "changed_meanwhile"), "{problem:?}");
            problem.present.expect("what stands there is told")
        }
        other => panic!("{other}"),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_says_which_thing_is_written_writes_that_one() {
    let (_service, ines) = Service::ready().await;
    let top = home(&ines).await;
    // A log that is turned over: by its name alone it would be taken for a save.
    let log = put(&ines, top, "app.log", b"old").await.unwrap();
    let target = api::Target { name: Some("app.log.1".into()), ..Default::default() };
    let moved = ines.stating(as_it_was(&log)).change(log.id, &target).await.unwrap();
    let fresh = put(&ines.stating(new()), top, "app.log", b"new").await.unwrap();
    assert_ne!(fresh.id, log.id, "it is another thing");
    ines.stating(as_it_was(&moved)).remove(moved.id).await.unwrap();
    assert_eq!(ines.place("home:/app.log", None).await.unwrap().node.id, fresh.id);
    assert_eq!(states(&ines, fresh.id).await, 1);
    // Something is there: what is new is not put over it, and what is there is told.
    let refused = put(&ines.stating(new()), top, "app.log", b"newer").await;
    assert_eq!(refused.unwrap_err(), "changed_meanwhile");

    // A file that moved meanwhile gets its new state where it is.
    let plan = put(&ines, top, "plan", b"one").await.unwrap();
    let away = ines.make_folder(top, "Away").await.unwrap().id;
    let target = api::Target { parent: Some(away), name: Some("tower".into()), ..Default::default() };
    let moved = ines.change(plan.id, &target).await.unwrap();
    let late = ines.stating(as_it_was(&plan)).put_onto(plan.id, None, b"two".to_vec().into()).await;
    let there = present(late.unwrap_err());
    assert_eq!((there.node, &there.moment), (plan.id, &moved.moment));
    let two = ines.stating(as_it_was(&moved)).put_onto(plan.id, None, b"two".to_vec().into()).await.unwrap();
    assert_eq!((two.id, two.parent, two.name.as_str()), (plan.id, Some(away), "tower"));
    assert_eq!(ines.put_onto(plan.id, None, b"three".to_vec().into()).await.unwrap().id, plan.id);
    // Another that stands at its name is not it.
    let other = put(&ines, top, "plan", b"another").await.unwrap();
    let meant = Stated { thing: Some(plan.id.to_string()), ..Stated::default() };
    let refused = ines.stating(meant).put(top, "plan", None, &Default::default(), b"x".to_vec().into()).await;
    assert_eq!(present(refused.unwrap_err()).node, other.id);
    ines.remove(plan.id).await.unwrap();
    let gone = ines.put_onto(plan.id, None, b"four".to_vec().into()).await.unwrap_err();
    assert_eq!(gone.code(), Some("not_found"));
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_removed_moved_or_replaced_that_is_otherwise_by_now() {
    let (_service, ines) = Service::ready().await;
    let top = home(&ines).await;
    let folder = ines.make_folder(top, "Films").await.unwrap();
    let deep = ines.make_folder(folder.id, "Deep").await.unwrap().id;
    let known = put(&ines, deep, "seen", b"1").await.unwrap();
    // Whoever knows all of it removes it; whoever does not, because somebody put or changed something, does not.
    let unseen = put(&ines, deep, "unseen", b"2").await.unwrap();
    let by = |seen: &str| {
        ines.stating(Stated {
            thing: Some(folder.id.to_string()),
            seen: Some(seen.into()),
            ..Stated::default()
        })
    };
    assert_eq!(present(by(&known.moment).remove(folder.id).await.unwrap_err()).node, folder.id);
    let changed = ines.put_onto(known.id, None, b"11".to_vec().into()).await.unwrap();
    assert_eq!(present(by(&unseen.moment).remove(folder.id).await.unwrap_err()).node, folder.id);
    // What came from another shelf is not what was seen either.
    let shelf = ines.make_shelf(&api::NewShelf { name: "Plans".into(), ..Default::default() }).await.unwrap();
    let strange = put(&ines, shelf.root, "strange", b"3").await.unwrap();
    let target = api::Target { parent: Some(deep), ..Default::default() };
    let arrived = ines.change(strange.id, &target).await.unwrap();
    assert_eq!(present(by(&changed.moment).remove(folder.id).await.unwrap_err()).node, folder.id);
    // What left it, or happened elsewhere, is in nobody's way.
    put(&ines, top, "elsewhere", b"4").await.unwrap();
    ines.remove(unseen.id).await.unwrap();
    by(&arrived.moment).remove(folder.id).await.unwrap();

    // Two renames of one state: one of them is done.
    let letter = put(&ines, top, "letter", b"5").await.unwrap();
    let rename = async |name: &str| {
        let target = api::Target { name: Some(name.into()), ..Default::default() };
        ines.stating(as_it_was(&letter)).change(letter.id, &target).await
    };
    let renamed = rename("letter a").await.unwrap();
    assert_eq!(present(rename("letter b").await.unwrap_err()).moment, renamed.moment);
    // A target is replaced only by whoever knows what stands there.
    let there = put(&ines, top, "there", b"6").await.unwrap();
    let onto = async |onto: Option<api::Onto>| {
        let target = api::Target { name: Some("there".into()), replace: true, onto, ..Default::default() };
        ines.stating(as_it_was(&renamed)).change(renamed.id, &target).await
    };
    assert_eq!(present(onto(None).await.unwrap_err()).node, there.id);
    let newer = ines.put_onto(there.id, None, b"66".to_vec().into()).await.unwrap();
    let old = api::Onto { node: there.id, seen: there.moment.clone() };
    assert_eq!(present(onto(Some(old)).await.unwrap_err()).moment, newer.moment);
    let other = api::Onto { node: renamed.id, seen: newer.moment.clone() };
    assert_eq!(present(onto(Some(other)).await.unwrap_err()).node, there.id);
    onto(Some(api::Onto { node: there.id, seen: newer.moment })).await.unwrap();
    for malformed in [("thing", "plan"), ("seen", "yesterday"), ("idempotency-key", "")] {
        let call = reqwest::Client::new()
            .delete(format!("{}/api/v1/nodes/{top}", ines.address()))
            .bearer_auth(ines.token().unwrap())
            .header(malformed.0, malformed.1);
        assert_eq!(call.send().await.unwrap().status(), 400, "{malformed:?}");
    }
}

/// Asks as JSON; status and answer.
async fn ask(
    client: &Client,
    method: &str,
    path: &str,
    key: &str,
    body: Vec<u8>,
    kind: &str,
) -> (u16, Value) {
    let call = reqwest::Client::new()
        .request(method.parse().unwrap(), format!("{}/api/v1{path}", client.address()))
        .bearer_auth(client.token().unwrap())
        .header("idempotency-key", key)
        .header("content-type", kind)
        .body(body);
    let answer = call.send().await.unwrap();
    (answer.status().as_u16(), answer.json().await.unwrap_or_default())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_request_that_comes_again_gets_the_first_answer_and_does_nothing() {
    let (service, ines) = Service::ready().await;
    let (tomas, _) = member(&ines, "tomas").await;
    let top = home(&ines).await;
    let plan = put(&ines, top, "plan", b"one").await.unwrap();
    let gone = put(&ines, top, "gone", b"one").await.unwrap().id;
    let head = json!({ "bases": [], "size": 3, "blake3": blake3::hash(b"abc").to_hex().to_string() });
    let delta = [format!("{head}\n").as_bytes(), &yellow_attic_core::delta::bytes(3), b"abc", &[0]].concat();
    let json_of = |value: Value| serde_json::to_vec(&value).unwrap();
    let bytes = "application/octet-stream";
    let asked: Vec<(&str, String, Vec<u8>, &str)> = vec![
        ("PUT", format!("/nodes/{top}/files/fresh"), b"1".to_vec(), bytes),
        ("PUT", format!("/nodes/{top}/files/large"), vec![7; 600_000], bytes),
        ("PUT", format!("/nodes/{top}/files/plan"), b"two".to_vec(), bytes),
        ("PUT", format!("/nodes/{}/content", plan.id), b"three".to_vec(), bytes),
        ("PUT", "/files/home/by path".into(), b"1".to_vec(), bytes),
        ("POST", format!("/nodes/{top}/folders"), json_of(json!({ "name": "Folder" })), "application/json"),
        ("PATCH", format!("/nodes/{}", plan.id), json_of(json!({ "name": "plan b" })), "application/json"),
        ("POST", format!("/nodes/{top}/assembled/made"), delta, bytes),
        ("DELETE", format!("/nodes/{gone}"), Vec::new(), bytes),
    ];
    let mut first = Vec::new();
    for (n, (method, path, body, kind)) in asked.iter().enumerate() {
        let (status, told) = ask(&ines, method, path, &format!("r{n}"), body.clone(), kind).await;
        assert!((200..300).contains(&status), "{method} {path}: {status} {told}");
        first.push((status, told));
    }
    let all = async || {
        let page = ines.all_entries(top, &Default::default()).await.unwrap();
        let mut all: Vec<String> = page.iter().map(|n| format!("{} {} {}", n.id, n.name, n.moment)).collect();
        all.sort();
        all
    };
    let again = async |what: &str| {
        for (n, (method, path, body, kind)) in asked.iter().enumerate() {
            let (status, told) = ask(&ines, method, path, &format!("r{n}"), body.clone(), kind).await;
            // A first answer may say more than that it is there: who may do what, what lies in it.
            let same = |name: &str| told[name] == first[n].1[name];
            assert!(
                status / 100 == 2
                    && ["id", "name", "parent", "moment", "etag", "modified"].into_iter().all(same),
                "{what}: {method} {path}: {status} {told}, not {}",
                first[n].1
            );
        }
    };
    let before = all().await;
    again("at once").await;
    assert_eq!(all().await, before);
    assert!(service.staging_is_clean(), "bytes that were not needed are gone");
    // Others change it, remove it; the power goes: the answer stays.
    ines.put_onto(plan.id, None, b"by somebody else".to_vec().into()).await.unwrap();
    let folder = first[5].1["id"].as_i64().unwrap();
    ines.remove(folder).await.unwrap();
    let before = all().await;
    again("after changes of others").await;
    assert_eq!(all().await, before);
    let service = service.killed_and_started_again();
    let ines = Client::new(&service.address, ines.token()).unwrap();
    for (n, (method, path, body, kind)) in asked.iter().enumerate() {
        let (status, told) = ask(&ines, method, path, &format!("r{n}"), body.clone(), kind).await;
        assert!(
            status / 100 == 2 && told["moment"] == first[n].1["moment"],
            "{method} {path}: {status} {told}"
        );
    }
    // The name is its sender's: another account, or another device, means something else by it.
    let tomas = Client::new(&service.address, tomas.token()).unwrap();
    let own = home(&tomas).await;
    let (status, told) =
        ask(&tomas, "PUT", &format!("/nodes/{own}/files/fresh"), "r0", b"1".to_vec(), bytes).await;
    assert_eq!((status, told["parent"].as_i64()), (201, Some(own)));
    let other = service.client().await;
    let (status, told) =
        ask(&other, "PUT", &format!("/nodes/{top}/files/theirs"), "r0", b"1".to_vec(), bytes).await;
    assert_eq!((status, told["name"].as_str()), (201, Some("theirs")));
}

#[tokio::test(flavor = "multi_thread")]
async fn four_hundred_of_one_request_make_one_thing() {
    let (service, ines) = Service::ready().await;
    let top = home(&ines).await;
    let plan = put(&ines, top, "plan", b"one").await.unwrap().id;
    let mut all = tokio::task::JoinSet::new();
    for n in 0..400 {
        let client = ines.stating(called(if n % 2 == 0 { "put" } else { "folder" }));
        all.spawn(async move {
            match n % 2 {
                0 => {
                    let bytes = format!("bytes {n}").into_bytes();
                    let done = client.put_onto(plan, None, bytes.into()).await.unwrap();
                    (done.id, done.moment)
                }
                _ => {
                    let made = client.make_folder(top, "Folder").await.unwrap();
                    (made.id, made.moment)
                }
            }
        });
    }
    let told: std::collections::BTreeSet<_> = all.join_all().await.into_iter().collect();
    assert_eq!(told.len(), 2, "{told:?}");
    assert_eq!(states(&ines, plan).await, 2);
    assert_eq!(ines.all_entries(top, &Default::default()).await.unwrap().len(), 2);
    assert!(service.staging_is_clean());
}

#[tokio::test(flavor = "multi_thread")]
async fn the_same_bytes_make_no_state_and_keep_their_new_time() {
    let (service, ines) = Service::ready().await;
    let (tomas, _) = member(&ines, "tomas").await;
    let top = home(&ines).await;
    let plan = put(&ines, top, "plan", b"one").await.unwrap();
    let time = Some("2026-03-01T10:00:00Z");
    let again = ines.stating(as_it_was(&plan)).put_onto(plan.id, time, b"one".to_vec().into()).await.unwrap();
    assert_eq!((&again.moment, again.modified.as_str()), (&plan.moment, "2026-03-01T10:00:00Z"));
    assert_eq!(states(&ines, plan.id).await, 1);
    let place = service.data.join("shelves/main/home/ines/plan");
    let on_disk =
        || std::fs::metadata(&place).ok()?.modified().ok()?.duration_since(std::time::UNIX_EPOCH).ok();
    assert!(wait_for(|| on_disk().is_some_and(|at| at.as_secs() == 1_772_359_200)), "{:?}", on_disk());
    assert!(service.staging_is_clean());
    // By itself, it is in nobody's way, and makes no state; with a move it comes along.
    let target = |name: Option<&str>, modified: &str| api::Target {
        name: name.map(Into::into),
        modified: Some(modified.into()),
        ..api::Target::default()
    };
    let newer = ines.put_onto(plan.id, None, b"two".to_vec().into()).await.unwrap();
    let timed =
        ines.stating(as_it_was(&plan)).change(plan.id, &target(None, "2026-03-02T10:00:00Z")).await.unwrap();
    assert_eq!((&timed.moment, timed.modified.as_str()), (&newer.moment, "2026-03-02T10:00:00Z"));
    let both = ines.change(plan.id, &target(Some("plan b"), "2026-03-03T10:00:00Z")).await.unwrap();
    assert_eq!((both.name.as_str(), both.modified.as_str()), ("plan b", "2026-03-03T10:00:00Z"));
    assert_eq!(states(&ines, plan.id).await, 3);
    let place = service.data.join("shelves/main/home/ines/plan b");
    let on_disk =
        || std::fs::metadata(&place).ok()?.modified().ok()?.duration_since(std::time::UNIX_EPOCH).ok();
    assert!(wait_for(|| on_disk().is_some_and(|at| at.as_secs() == 1_772_532_000)), "{:?}", on_disk());
    for (node, text, code) in
        [(plan.id, "yesterday", "time_malformed"), (top, "2026-03-03T10:00:00Z", "not_a_file")]
    {
        assert_eq!(ines.change(node, &target(None, text)).await.unwrap_err().code(), Some(code));
    }
    assert_eq!(
        tomas.change(plan.id, &target(None, "2026-03-03T10:00:00Z")).await.unwrap_err().code(),
        Some("not_found")
    );
}

/// Its path, its bytes, and what it says of itself.
type Sent<'a> = (&'a str, &'a [u8], &'a [(&'a str, &'a str)]);

/// A tar stream of files.
fn stream(files: &[Sent<'_>]) -> Vec<u8> {
    let mut tar = tar::Builder::new(Vec::new());
    for (path, bytes, says) in files {
        tar.append_pax_extensions(says.iter().map(|(key, value)| (*key, value.as_bytes()))).unwrap();
        let mut head = tar::Header::new_ustar();
        head.set_size(bytes.len() as u64);
        head.set_mode(0o644);
        tar.append_data(&mut head, path, *bytes).unwrap();
    }
    tar.into_inner().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn each_file_of_a_stream_says_what_it_is_of() {
    let (_service, ines) = Service::ready().await;
    let top = home(&ines).await;
    let folder = ines.make_folder(top, "Folder").await.unwrap().id;
    let away = ines.make_folder(top, "Away").await.unwrap().id;
    let known = put(&ines, folder, "known", b"1").await.unwrap();
    let newer = put(&ines, folder, "newer", b"1").await.unwrap();
    let moved = put(&ines, folder, "moved", b"1").await.unwrap();
    ines.put_onto(newer.id, None, b"by another device".to_vec().into()).await.unwrap();
    let target = api::Target { parent: Some(away), ..Default::default() };
    let at = ines.change(moved.id, &target).await.unwrap();
    // Folders were moved, too: by their id they are found where they are.
    ines.change(folder, &api::Target { parent: Some(away), ..Default::default() }).await.unwrap();
    let (a, b, c) = (known.id.to_string(), newer.id.to_string(), moved.id.to_string());
    let into = folder.to_string();
    let sent = stream(&[
        ("known", b"2", &[("YATTIC.thing", &a), ("YATTIC.seen", &known.moment), ("YATTIC.request", "a")]),
        ("newer", b"2", &[("YATTIC.thing", &b), ("YATTIC.seen", &newer.moment)]),
        ("moved", b"2", &[("YATTIC.thing", &c), ("YATTIC.seen", &at.moment)]),
        ("fresh", b"2", &[("YATTIC.thing", "new"), ("YATTIC.parent", &into), ("YATTIC.request", "d")]),
        ("odd", b"2", &[("YATTIC.unheard", "of")]),
        ("odder", b"2", &[("YATTIC.thing", "of")]),
    ]);
    let send = async || {
        let mut lines = std::pin::pin!(ines.send_tar(top, sent.clone().into()).await.unwrap());
        let (mut fates, mut end) = (Vec::new(), None);
        while let Some(line) = lines.next().await {
            match line.unwrap() {
                api::TarLine::Entry(entry) => fates.push(entry),
                api::TarLine::End { sums, .. } => end = Some(sums),
            }
        }
        let sums = end.unwrap();
        assert!(sums.whole);
        assert_eq!(sums.made + sums.replaced + sums.there + sums.refused, 6, "{sums:?}");
        fates.sort_by(|a, b| a.path.cmp(&b.path));
        fates
    };
    let fates = send().await;
    let of = |path: &str| fates.iter().find(|f| f.path == path).unwrap();
    let code = |path: &str| of(path).problem.as_ref().map(|p| p.code.clone()).unwrap_or_default();
    assert_eq!((of("known").node, of("moved").node), (Some(known.id), Some(moved.id)));
    assert_eq!(code("newer"), "changed_meanwhile");
    assert!(of("newer").problem.as_ref().unwrap().present.is_some());
    assert_eq!((code("odd"), code("odder")), ("condition_malformed".into(), "condition_malformed".into()));
    let fresh = ines.facts(of("fresh").node.unwrap()).await.unwrap();
    assert_eq!(fresh.path, "home:/Away/Folder/fresh");
    assert_eq!(of("fresh").moment.as_ref(), Some(&fresh.node.moment));
    assert_eq!(ines.facts(moved.id).await.unwrap().path, "home:/Away/moved");
    // The line broke, and all of it comes again: what has a name is answered as before.
    let again = send().await;
    for path in ["known", "fresh"] {
        let second = again.iter().find(|f| f.path == path).unwrap();
        assert_eq!((second.node, &second.moment), (of(path).node, &of(path).moment), "{path}");
    }
    assert_eq!((states(&ines, known.id).await, states(&ines, newer.id).await), (2, 2));
    assert_eq!(ines.all_entries(folder, &Default::default()).await.unwrap().len(), 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn many_moves_are_one_change_by_one_request() {
    let (service, ines) = Service::ready().await;
    let (tomas, _) = member(&ines, "tomas").await;
    let top = home(&ines).await;
    let (a, b) = (put(&ines, top, "a", b"a").await.unwrap(), put(&ines, top, "b", b"b").await.unwrap());
    let swap = || {
        let to = |node: &api::Node, name: &str| api::OneMove {
            node: node.id,
            name: Some(name.into()),
            seen: Some(node.moment.clone()),
            ..api::OneMove::default()
        };
        vec![to(&a, "b"), to(&b, "a")]
    };
    let named = ines.stating(called("swap"));
    let done = named.move_together(swap()).await.unwrap().nodes;
    assert_eq!(done.iter().map(|n| (n.id, n.name.as_str())).collect::<Vec<_>>(), [(a.id, "b"), (b.id, "a")]);
    assert_eq!(done[0].moment, done[1].moment);
    // Again, with the same name: the answer of before. Without: what was seen is over.
    let again = named.move_together(swap()).await.unwrap().nodes;
    assert_eq!((&again[0].moment, again[0].name.as_str()), (&done[0].moment, "b"));
    let there = present(ines.move_together(swap()).await.unwrap_err());
    assert_eq!((there.node, &there.moment), (a.id, &done[0].moment));
    let query = api::ChangesQuery { since: Some(b.moment.clone()), ..Default::default() };
    // A follower hears of it at one moment.
    let told = ines.changes(top, &query).await.unwrap().changes;
    assert!(told.len() == 2 && told.iter().all(|c| c.moment == done[0].moment), "{told:?}");
    // Also where one of them stays where it is, and others changed since.
    let c = put(&ines, top, "c", b"c").await.unwrap();
    let stays =
        |node: i64, name: &str| api::OneMove { node, name: Some(name.into()), ..api::OneMove::default() };
    let some = || vec![stays(c.id, "c"), stays(a.id, "d")];
    let mixed = ines.stating(called("mixed"));
    let first = mixed.move_together(some()).await.unwrap().nodes;
    ines.change(a.id, &api::Target { name: Some("b".into()), ..Default::default() }).await.unwrap();
    let again = mixed.move_together(some()).await.unwrap().nodes;
    let told = |nodes: &[api::Node]| -> Vec<(i64, String, String)> {
        nodes.iter().map(|n| (n.id, n.name.clone(), n.moment.clone())).collect()
    };
    assert_eq!(told(&again), told(&first));
    ines.remove(c.id).await.unwrap();
    assert_eq!(
        told(&mixed.move_together(some()).await.unwrap().nodes),
        told(&first),
        "whatever became of it"
    );
    assert_eq!(told(&first)[0], (c.id, "c".to_string(), c.moment.clone()));
    // The same name with other things is another request: it tells of nothing that its sender may not know.
    let own = put(&tomas, home(&tomas).await, "own", b"1").await.unwrap();
    let his = tomas.stating(called("his"));
    his.move_together(vec![stays(own.id, "owned")]).await.unwrap();
    for node in [a.id, b.id, top] {
        let other = his.move_together(vec![stays(node, "owned")]).await;
        assert_eq!(other.unwrap_err().code(), Some("not_found"));
    }
    // What one may not see, or not change, moves nobody.
    assert_eq!(tomas.move_together(swap()).await.unwrap_err().code(), Some("not_found"));
    for wrong in [Vec::new(), vec![swap()[0].clone(); 1_001]] {
        assert_eq!(ines.move_together(wrong).await.unwrap_err().code(), Some("too_many_moves"));
    }
    let service = service.killed_and_started_again();
    let ines = Client::new(&service.address, ines.token()).unwrap();
    assert_eq!(ines.place("home:/a", None).await.unwrap().node.id, b.id);
    let bytes = |name: &str| {
        std::fs::read(service.data.join("shelves/main/home/ines").join(name)).unwrap_or_default()
    };
    assert!(wait_for(|| bytes("a") == b"b" && bytes("b") == b"a"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_program_stays_one_wherever_it_goes() {
    let dir = tempfile::tempdir().unwrap();
    let mut service = Service::start_in(dir.path());
    service.set_up().await;
    let ines = service.client().await;
    let top = home(&ines).await;
    let on_disk = |path: &str| {
        let path = dir.path().join("shelves/main/home/ines").join(path);
        std::fs::metadata(path).is_ok_and(|facts| facts.permissions().mode() & 0o100 != 0)
    };
    let programs = ines.stating(Stated { executable: Some(true), ..Stated::default() });
    let tool = put(&programs, top, "tool", b"#!/bin/sh\nexit 1\n").await.unwrap();
    assert!(tool.executable && !put(&ines, top, "words", b"w").await.unwrap().executable);
    assert!(eventually(async || on_disk("tool")).await, "its mode says so on the disk");
    assert!(!on_disk("words"));
    // New bytes of which nothing is said.
    let newer = put(&ines, top, "tool", b"#!/bin/sh\nexit 2\n").await.unwrap();
    assert!(newer.executable && newer.id == tool.id);
    // The bit alone: the same bytes, another state, and those who follow hear it.
    let since = ines.changes(top, &Default::default()).await.unwrap().upto;
    let mark = |executable| api::Target { executable: Some(executable), ..Default::default() };
    let plain = ines.change(tool.id, &mark(false)).await.unwrap();
    assert!(!plain.executable && plain.etag == newer.etag && plain.moment != newer.moment);
    assert_eq!(plain.how, "made not executable");
    assert_eq!(ines.change(tool.id, &mark(false)).await.unwrap().moment, plain.moment, "it is so already");
    let query = api::ChangesQuery { since: Some(since), ..Default::default() };
    let told = ines.changes(top, &query).await.unwrap().changes;
    assert_eq!(told.len(), 1);
    assert!(told[0].what == "changed" && !told[0].node.executable);
    assert!(eventually(async || !on_disk("tool")).await);
    // As it was: its bytes and its bit.
    let was = ines.place("home:/tool", Some(&newer.moment)).await.unwrap();
    assert!(was.node.executable);
    let back = api::Restore { at: Some(newer.moment.clone()), ..Default::default() };
    assert!(ines.restore(tool.id, &back).await.unwrap().executable);
    assert!(eventually(async || on_disk("tool")).await);
    let folder = ines.make_folder(top, "bin").await.unwrap().id;
    let into = api::Target { parent: Some(folder), ..Default::default() };
    assert!(ines.copy(tool.id, &into).await.unwrap().executable);
    let whole = api::Target { parent: Some(top), name: Some("bin2".into()), ..Default::default() };
    ines.copy(folder, &whole).await.unwrap();
    assert!(ines.place("home:/bin2/tool", None).await.unwrap().node.executable);
    ines.remove(folder).await.unwrap();
    ines.restore(folder, &api::Restore::default()).await.unwrap();
    assert!(ines.place("home:/bin/tool", None).await.unwrap().node.executable);
    assert!(eventually(async || on_disk("bin/tool") && on_disk("bin2/tool")).await);
    // Equal bytes make no state; what is said of them counts.
    let same =
        ines.stating(Stated { thing: Some("new".into()), executable: Some(false), ..Stated::default() });
    assert!(put(&same, top, "tool", b"#!/bin/sh\nexit 2\n").await.is_err(), "it is not new");
    let known = Stated { thing: Some(tool.id.to_string()), executable: Some(false), ..Stated::default() };
    assert!(!put(&ines.stating(known), top, "tool", b"#!/bin/sh\nexit 2\n").await.unwrap().executable);
    // Folders and those who may only look.
    assert_eq!(ines.change(folder, &mark(true)).await.unwrap_err().code(), Some("not_a_file"));
    let (tomas, _) = member(&ines, "tomas").await;
    let view =
        api::NewGrant { to: "account:tomas".into(), can: "view".into(), until: None, message: String::new() };
    ines.give(folder, &view).await.unwrap();
    let inside = ines.place("home:/bin/tool", None).await.unwrap().node;
    assert_eq!(tomas.change(inside.id, &mark(false)).await.unwrap_err().code(), Some("not_allowed"));
    let to = inside.moment.clone();
    assert!(!ines.change(inside.id, &mark(false)).await.unwrap().executable);
    let begun =
        ines.begin_rollback(folder, &api::NewRollback { to, keep: vec![], token: None }).await.unwrap();
    assert!(eventually(async || ines.rollback(begun.id).await.unwrap().state == "done").await);
    assert!(ines.place("home:/bin/tool", None).await.unwrap().node.executable, "rolled back");
    // By a stream and back out of one, and by the client.
    let yattic = Yattic::new();
    yattic.connect(&service);
    let local = tempfile::tempdir().unwrap();
    std::fs::create_dir_all(local.path().join("sent/deep")).unwrap();
    let large = vec![7; 9 << 20];
    for (path, bytes) in [("sent/deep/small", &b"#!"[..]), ("sent/large", &large), ("single", b"#!x")] {
        let path = local.path().join(path);
        std::fs::write(&path, bytes).unwrap();
        std::fs::set_permissions(&path, Permissions::from_mode(0o755)).unwrap();
    }
    std::fs::write(local.path().join("sent/plain"), b"p").unwrap();
    let at = |path: &str| local.path().join(path).display().to_string();
    yattic.ok(&["put", &at("sent"), "home:/"]);
    yattic.ok(&["put", &at("single"), "home:/"]);
    yattic.ok(&["get", "home:/sent", &at("got")]);
    yattic.ok(&["get", "home:/single", &at("one")]);
    let runs = |path: &str| std::fs::metadata(at(path)).unwrap().permissions().mode() & 0o100 != 0;
    for path in ["deep/small", "large"] {
        assert!(ines.place(&format!("home:/sent/{path}"), None).await.unwrap().node.executable, "{path}");
        assert!(runs(&format!("got/{path}")), "{path}");
    }
    assert!(!ines.place("home:/sent/plain", None).await.unwrap().node.executable && !runs("got/plain"));
    assert!(ines.place("home:/single", None).await.unwrap().node.executable && runs("one"));
    let sent = ines.place("home:/sent", None).await.unwrap().node.id;
    for format in ["tar", "zip"] {
        let file = at(&format!("sent.{format}"));
        let address = format!("{}/api/v1/nodes/{sent}/archive?format={format}", service.address);
        let call = reqwest::Client::new().get(address).bearer_auth(ines.token().unwrap());
        std::fs::write(&file, call.send().await.unwrap().bytes().await.unwrap()).unwrap();
        let list = match format {
            "tar" => Command::new("tar").args(["-tvf", &file]).output(),
            _ => Command::new("unzip").args(["-Z", &file]).output(),
        };
        let list = String::from_utf8(list.unwrap().stdout).unwrap();
        let line = |name: &str| list.lines().find(|l| l.ends_with(name)).unwrap_or_default().to_string();
        assert!(line("deep/small").starts_with("-rwx") && line("plain").starts_with("-rw-"), "{list}");
    }
    // The tree is opened to others of the machine.
    drop(service);
    let data = dir.path().display().to_string();
    let given = Command::new(program("yatticd"))
        .args(["init", "--data", &data])
        .env("YATTIC_SHELF_ACCESS", "open")
        .output()
        .unwrap();
    assert!(given.status.success(), "{given:?}");
    let mode =
        std::fs::metadata(dir.path().join("shelves/main/home/ines/single")).unwrap().permissions().mode();
    assert_eq!(mode & 0o777, 0o755);
}

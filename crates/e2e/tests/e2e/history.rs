//! What is kept, and getting back: by commands and through the API.

use crate::support::{Service, Yattic};
use serde_json::Value;
use yellow_attic_client::api;

fn json(text: &str) -> Value {
    serde_json::from_str(text).unwrap()
}

fn put(yattic: &Yattic, text: &str, to: &str) {
    let local = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(local.path(), text).unwrap();
    yattic.ok(&["put", local.path().to_str().unwrap(), to]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_is_rolled_back_by_commands_and_that_is_taken_back() {
    let (service, _) = Service::ready().await;
    let ines = Yattic::new();
    ines.connect(&service);
    ines.ok(&["mkdir", "home:/Plans"]);
    put(&ines, "one", "home:/Plans/a.txt");
    put(&ines, "bee", "home:/Plans/b.txt");
    let taken = json(&ines.ok(&["--json", "snapshot", "new", "home:", "--label", "before the mess"]));
    let moment = taken["moment"].as_str().unwrap();
    put(&ines, "rewritten", "home:/Plans/a.txt");
    ines.ok(&["rm", "home:/Plans/b.txt", "--yes"]);
    put(&ines, "new", "home:/Plans/c.txt");
    let seen = ines.ok(&["rollback", "home:/Plans", "--to", moment, "--preview"]);
    assert!(seen.contains("returns  b.txt") && seen.contains("goes     c.txt"), "{seen}");
    assert_eq!(ines.ok(&["cat", "home:/Plans/a.txt"]), "rewritten", "a preview does nothing");
    let asked = ines.fails(1, &["rollback", "home:/Plans", "--to", moment]);
    assert!(asked.contains("--yes"), "{asked}");
    let done = json(&ines.ok(&["--json", "rollback", "home:/Plans", "--to", moment, "--yes"]));
    assert_eq!((&done["state"], &done["steps"]), (&"done".into(), &3.into()));
    assert_eq!(ines.ok(&["cat", "home:/Plans/a.txt"]), "one");
    assert_eq!(ines.ok(&["cat", "home:/Plans/b.txt"]), "bee");
    ines.fails(1, &["cat", "home:/Plans/c.txt"]);
    // A snapshot is searched like the present: what was renamed, removed or made since does not count.
    ines.ok(&["mv", "home:/Plans/a.txt", "home:/Plans/attic.txt"]);
    let then = ines.ok(&["find", "TXT", "--within", "home:/", "--at", moment]);
    assert!(then.contains("home:/Plans/a.txt") && then.contains("home:/Plans/b.txt"), "{then}");
    assert!(!then.contains("attic") && !then.contains("c.txt"), "{then}");
    assert!(ines.ok(&["find", "attic", "--within", "home:/", "--at", moment]).contains("Nothing"));
    ines.fails(2, &["find", "TXT", "--at", moment]);
    ines.ok(&["mv", "home:/Plans/attic.txt", "home:/Plans/a.txt"]);
    let id = done["id"].to_string();
    ines.ok(&["rollback", "--undo", &id, "--yes"]);
    assert_eq!(ines.ok(&["cat", "home:/Plans/a.txt"]), "rewritten");
    assert_eq!(ines.ok(&["cat", "home:/Plans/c.txt"]), "new");
    let early = ines.fails(1, &["rollback", "home:/Plans", "--to", "2001-01-01", "--yes"]);
    assert!(early.contains("was not there yet"), "{early}");
    let all = ines.ok(&["snapshot", "ls"]);
    assert!(all.contains("before the mess") && all.contains("Schedules: none"), "{all}");
    ines.ok(&["snapshot", "end", &taken["id"].to_string()]);
    assert!(ines.ok(&["snapshot", "ls"]).contains("No snapshot"));
}

#[tokio::test(flavor = "multi_thread")]
async fn removed_things_are_found_brought_back_with_their_folders_and_removed_for_good() {
    let (service, owner) = Service::ready().await;
    let ines = Yattic::new();
    ines.connect(&service);
    assert!(ines.ok(&["trash", "ls"]).contains("Nothing was removed"));
    ines.ok(&["mkdir", "--parents", "home:/a/b"]);
    put(&ines, "first", "home:/a/b/x.txt");
    put(&ines, "why", "home:/y.txt");
    ines.ok(&["rm", "home:/a/b/x.txt", "--yes"]);
    ines.ok(&["rm", "home:/a", "--yes"]);
    ines.ok(&["rm", "home:/y.txt", "--yes"]);
    let all = json(&ines.ok(&["--json", "trash", "ls"]));
    let items = all["items"].as_array().unwrap();
    let paths: Vec<&str> = items.iter().map(|i| i["path"].as_str().unwrap()).collect();
    assert_eq!(paths, ["home:/y.txt", "home:/a", "home:/a/b/x.txt"]);
    assert_eq!((&all["bytes"], &items[2]["place"]), (&8.into(), &false.into()));
    let x = items[2]["node"]["id"].as_i64().unwrap();
    let back = api::Restore { at: None, parent: None, name: None, with_folders: true, seen: None };
    owner.restore(x, &back).await.unwrap();
    assert_eq!(ines.ok(&["cat", "home:/a/b/x.txt"]), "first");
    // By its path, though its folders are gone; also what went with a folder.
    put(&ines, "second", "home:/a/b/w.txt");
    ines.ok(&["rm", "home:/a/b/x.txt", "--yes"]);
    ines.ok(&["rm", "home:/a", "--yes"]);
    assert!(ines.fails(1, &["restore", "home:/a/b/x.txt"]).contains("is gone too"));
    ines.ok(&["restore", "home:/a/b/x.txt", "--with-folders"]);
    ines.ok(&["restore", "home:/a/b/w.txt", "--with-folders"]);
    assert_eq!(ines.ok(&["cat", "home:/a/b/x.txt"]), "first");
    assert_eq!(ines.ok(&["cat", "home:/a/b/w.txt"]), "second");
    // A snapshot keeps what was there; by hand it does not go then, and it is told why.
    let y = items[0]["node"]["id"].to_string();
    let home = owner.place("home:/", None).await.unwrap().node.id;
    put(&ines, "kept", "home:/z.txt");
    let taken = owner.take_snapshot(home, &api::SnapshotChange::default()).await.unwrap();
    let z = owner.place("home:/z.txt", None).await.unwrap().node.id.to_string();
    ines.ok(&["rm", "home:/z.txt", "--yes"]);
    let kept = ines.fails(1, &["trash", "end", &z, "--yes"]);
    assert!(kept.contains("a snapshot shows it"), "{kept}");
    let told = ines.ok(&["trash", "end", &y, "--preview"]);
    assert!(told.contains("1 state of 3 B would go for good"), "{told}");
    ines.ok(&["trash", "end", &y, "--yes"]);
    ines.fails(1, &["restore", "home:/y.txt"]);
    owner.end_snapshot(taken.id).await.unwrap();
    ines.ok(&["trash", "empty", "home:/", "--yes"]);
    assert!(ines.ok(&["trash", "ls"]).contains("Nothing was removed"));
}

#[tokio::test(flavor = "multi_thread")]
async fn versions_tell_why_they_are_kept_are_compared_and_go_by_rule_after_a_preview() {
    let (service, owner) = Service::ready().await;
    let ines = Yattic::new();
    ines.connect(&service);
    for text in ["one\ntwo\nthree\n", "one\n2\nthree\n", "one\n2\nthree\nfour\n"] {
        put(&ines, text, "home:/log.txt");
    }
    let node = owner.place("home:/log.txt", None).await.unwrap().node.id;
    let states = owner.history(node).await.unwrap().states;
    let oldest = &states[2].node;
    assert_eq!(states[2].kept.as_ref().unwrap().why, "no rule lets it go");
    let query = api::CompareQuery { from: oldest.moment.clone(), to: None };
    let compared = owner.compare(node, &query).await.unwrap();
    let told: Vec<_> = compared.lines.iter().map(|l| (l.what.as_str(), l.text.as_str())).collect();
    assert_eq!(
        told,
        [("same", "one"), ("removed", "two"), ("added", "2"), ("same", "three"), ("added", "four")]
    );
    let told = ines.ok(&["rule", "set", "versions-kept", "last 1", "--preview"]);
    assert!(told.contains("1 state of 14 B would go for good"), "{told}");
    owner.name_version(node, &oldest.moment, "as signed").await.unwrap();
    let told = ines.ok(&["rule", "set", "versions-kept", "last 1", "--preview"]);
    assert!(told.contains("changes nothing"), "{told}");
    ines.ok(&["rule", "set", "versions-kept", "last 1", "--yes"]);
    owner.name_version(node, &oldest.moment, "").await.unwrap();
    assert!(ines.ok(&["history", "home:/log.txt"]).contains("goes with the next look"));
    let all = api::LetGo { by_rules: true, preview: true, ..Default::default() };
    let seen = owner.let_go(&all).await.unwrap();
    assert_eq!((seen.states, seen.done), (1, false));
    put(&ines, "again\n", "home:/log.txt");
    let stale = api::LetGo { preview: false, token: Some(seen.token), ..all.clone() };
    assert_eq!(owner.let_go(&stale).await.unwrap_err().code(), Some("plan_stale"));
    let seen = owner.let_go(&all).await.unwrap();
    let done = owner.let_go(&api::LetGo { preview: false, token: Some(seen.token), ..all }).await.unwrap();
    assert_eq!((done.states, done.done), (2, true));
    let states = owner.history(node).await.unwrap().states;
    assert_eq!(
        states.iter().map(|s| s.node.held).collect::<Vec<_>>(),
        [None, None, Some(false), Some(false)]
    );
    let gone = api::Restore {
        at: Some(oldest.moment.clone()),
        parent: None,
        name: None,
        with_folders: false,
        seen: None,
    };
    assert_eq!(owner.restore(node, &gone).await.unwrap_err().code(), Some("not_held"));
    // Over a newer state than one has seen nothing is restored.
    let seen = Some(states[1].node.moment.clone());
    let over = api::Restore { at: seen.clone(), seen, ..gone };
    assert_eq!(owner.restore(node, &over).await.unwrap_err().code(), Some("newer_state"));
    // Rules that cannot be kept are refused with the reason.
    ines.ok(&["rule", "set", "erase-days", "30", "--yes"]);
    let refused = ines.fails(1, &["rule", "set", "trash-days", "60", "--yes"]);
    assert!(refused.contains("would promise to keep things for 2 months"), "{refused}");
    let never = ines.fails(1, &["rule", "set", "snapshots-taken", "monthly on 32 kept 1 year", "--yes"]);
    assert!(never.contains("it never comes"), "{never}");
}

#[tokio::test(flavor = "multi_thread")]
async fn space_adds_up_and_quotas_hold_on_folders() {
    let (service, _) = Service::ready().await;
    let ines = Yattic::new();
    ines.connect(&service);
    ines.ok(&["mkdir", "home:/Hall"]);
    put(&ines, &"x".repeat(600), "home:/Hall/a.txt");
    put(&ines, &"y".repeat(500), "home:/Hall/a.txt");
    put(&ines, &"z".repeat(90), "home:/gone.txt");
    ines.ok(&["rm", "home:/gone.txt", "--yes"]);
    let found = json(&ines.ok(&["--json", "space"]));
    let held = &found["held"];
    assert_eq!(
        (&held["live"], &held["versions"], &held["trash"], &held["all"]),
        (&500.into(), &600.into(), &90.into(), &1190.into())
    );
    let shelves = found["shelves"].as_array().unwrap();
    let sum: i64 = shelves.iter().map(|s| s["held"]["all"].as_i64().unwrap()).sum();
    assert_eq!(sum, 1190);
    let hall = json(&ines.ok(&["--json", "space", "home:/Hall"]));
    assert_eq!(hall["held"]["versions"], 600);
    assert!(ines.ok(&["space", "--largest"]).contains("home:/Hall/a.txt"));
    ines.ok(&["quota", "set", "home:/Hall", "--hard", "1 KiB", "--soft", "400 B"]);
    let all = ines.ok(&["quota", "ls"]);
    assert!(all.contains("nearly full") && all.contains("1.00 KiB"), "{all}");
    let local = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(local.path(), "w".repeat(600)).unwrap();
    let full = ines.fails(1, &["put", local.path().to_str().unwrap(), "home:/Hall/b.txt"]);
    assert!(full.contains("may hold 1.00 KiB"), "{full}");
    let wrong = ines.fails(1, &["quota", "set", "home:/Hall", "--hard", "1 KiB", "--soft", "2 KiB"]);
    assert!(wrong.contains("soft line lies above"), "{wrong}");
    let told = ines.ok(&["rule", "set", "quota-counts", "versions", "--preview"]);
    assert!(told.contains("1.07 KiB"), "{told}");
}

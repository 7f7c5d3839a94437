//! Changes since a token: a client that only uses these reports stays equal to the tree.

use super::{Answer, Dav, for_oona, make_oona};
use crate::support::Service;
use std::collections::BTreeMap;
use yellow_attic_client::{When, api};
use yellow_attic_trials::numbers;

/// What a follower knows: tags by address; folders have none.
type Known = BTreeMap<String, String>;

fn report(since: &str, level: &str, most: Option<u64>) -> String {
    let limit = most.map_or(String::new(), |n| format!("<limit><nresults>{n}</nresults></limit>"));
    format!(
        "<sync-collection xmlns=\"DAV:\"><sync-token>{since}</sync-token><sync-level>{level}</sync-level>{limit}\
         <prop><getetag/><resourcetype/></prop></sync-collection>"
    )
}

fn token(answer: &Answer) -> String {
    answer.xml().dav("sync-token").unwrap().text()
}

/// Applies a report as the standard has it. Whether more is to come.
fn apply(known: &mut Known, answer: &Answer, collection: &str) -> bool {
    let mut more = false;
    for (href, props) in answer.found() {
        match props.get("status").map(String::as_str) {
            Some("404") => {
                let beneath = format!("{}/", href.trim_end_matches('/'));
                known.retain(|k, _| *k != href && !k.starts_with(&beneath));
            }
            Some("507") if href == collection => more = true,
            Some(other) => panic!("{href}: {other}"),
            None => {
                // A file that is now a folder, or the other way round.
                let other = match href.strip_suffix('/') {
                    Some(file) => file.to_string(),
                    None => format!("{href}/"),
                };
                known
                    .retain(|k, _| *k != other && !(href.ends_with('/').eq(&false) && k.starts_with(&other)));
                known.insert(href, props.get("getetag").cloned().unwrap_or_default());
            }
        }
    }
    more
}

async fn truth(dav: &Dav, collection: &str, depth: &str) -> Known {
    let answer = dav.find(collection, depth, "<getetag/>").await.is(207);
    let found = answer.found().into_iter().filter(|(href, _)| href != collection);
    found.map(|(href, props)| (href, props.get("getetag").cloned().unwrap_or_default())).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_client_that_only_follows_changes_stays_equal_to_the_tree() {
    let (service, client) = Service::ready().await;
    let dav = Dav::ines(&service);
    let mut next = numbers(7);
    let collection = "/dav/home/followed/";
    for path in ["/dav/home/followed", "/dav/home/other"] {
        dav.ask("MKCOL", path, &[], "").await.is(201);
    }
    let home = client.place("home:/", None).await.unwrap().node.id;
    let first = dav.ask("REPORT", collection, &[], report("", "infinite", None)).await.is(207);
    let (mut known, mut since) = (Known::new(), token(&first));
    apply(&mut known, &first, collection);
    let (mut shallow, mut shallow_since) = (Known::new(), String::new());
    let folders = ["followed", "followed/a", "followed/b", "followed/a/c", "other", "other/d"];
    let names = ["x", "y", "a", "b", "c", "d"];
    for round in 0..40 {
        for step in 0..1 + next(6) {
            let place = |f: u64, n: u64| format!("/dav/home/{}/{}", folders[f as usize], names[n as usize]);
            let (from, to) = (place(next(6), next(6)), place(next(6), next(6)));
            let to = ("destination", to.as_str());
            // Whatever comes of it: what is in the way, or not there, is a part of the game.
            match next(8) {
                0 | 1 => drop(dav.put(&from, format!("{round} {step}")).await),
                2 => drop(dav.ask("MKCOL", &from, &[], "").await),
                3 => drop(dav.ask("DELETE", &from, &[], "").await),
                4 | 5 => drop(dav.ask("MOVE", &from, &[to], "").await),
                6 => drop(dav.ask("COPY", &from, &[to], "").await),
                _ => {
                    // Something removed comes back, where it was.
                    if let Ok(trash) = client.trash(home, &api::PageQuery::default()).await
                        && let Some(gone) = trash.items.get(next(4) as usize)
                    {
                        let _ = client.restore(gone.node.id, &api::Restore::default()).await;
                    }
                }
            }
        }
        if next(3) == 0 {
            continue;
        }
        let most = [None, Some(1), Some(3)][next(3) as usize];
        loop {
            let answer = dav.ask("REPORT", collection, &[], report(&since, "infinite", most)).await;
            if answer.status == 403 && answer.body.contains("number-of-matches-within-limits") {
                // More came with one change than it takes at once: then without a line.
                let answer =
                    dav.ask("REPORT", collection, &[], report(&since, "infinite", None)).await.is(207);
                since = token(&answer);
                assert!(!apply(&mut known, &answer, collection));
                break;
            }
            let answer = answer.is(207);
            since = token(&answer);
            if !apply(&mut known, &answer, collection) {
                break;
            }
            // Something happens between two pages.
            if next(4) == 0 {
                dav.put(&format!("/dav/home/followed/{}", names[next(6) as usize]), format!("{round}")).await;
            }
        }
        assert_eq!(known, truth(&dav, collection, "infinity").await, "round {round}");
        let answer = dav.ask("REPORT", collection, &[], report(&shallow_since, "1", None)).await.is(207);
        shallow_since = token(&answer);
        apply(&mut shallow, &answer, collection);
        assert_eq!(shallow, truth(&dav, collection, "1").await, "round {round}, what lies in it");
    }
    assert!(known.len() > 3, "something was followed: {known:?}");

    // Tokens that cannot be, and one from before a right was changed: all is read anew.
    for bad in ["urn:other", "urn:yellow-attic:sync:1:x::y", &since.replace(":sync:", ":sync:9")] {
        let refused = dav.ask("REPORT", collection, &[], report(bad, "infinite", None)).await.is(403);
        assert!(refused.body.contains("valid-sync-token"), "{}", refused.body);
    }
    make_oona(&client).await;
    let followed = client.place("home:/followed", None).await.unwrap().node.id;
    client.give(followed, &for_oona("view")).await.unwrap();
    let other = Dav::with(&service, "oona", crate::support::PASSWORD);
    let seen = other.ask("REPORT", "/dav/given/followed/", &[], report("", "infinite", None)).await.is(207);
    assert_eq!(seen.found().len(), known.len());
    let node = client.put(followed, "hidden", None, &When::default(), b"h".to_vec().into()).await.unwrap().id;
    client.give(node, &for_oona("deny")).await.unwrap();
    let refused = other
        .ask("REPORT", "/dav/given/followed/", &[], report(&token(&seen), "infinite", None))
        .await
        .is(403);
    assert!(refused.body.contains("valid-sync-token"));
    let again = other.ask("REPORT", "/dav/given/followed/", &[], report("", "infinite", None)).await.is(207);
    assert!(!again.body.contains("hidden"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_limit_gives_full_pages_whatever_else_happened_on_the_shelf() {
    let (service, client) = Service::ready().await;
    let dav = Dav::ines(&service);
    let home = client.place("home:/", None).await.unwrap().node.id;
    let few = client.make_folder(home, "Few").await.unwrap().id;
    let many = client.make_folder(home, "Many").await.unwrap().id;
    let put = async |folder, name: &str, text: &str| {
        client.put(folder, name, None, &When::default(), text.as_bytes().to_vec().into()).await.unwrap();
    };
    for n in 0..10 {
        put(few, &format!("{n}"), "1").await;
        for m in 0..30 {
            put(many, &format!("{n} {m}"), "1").await;
        }
    }
    // Everything there is, three at a time: four pages for ten files, at the top of a shelf as beneath it.
    for (collection, level, wanted) in
        [("/dav/home/Few/", "1", 10), ("/dav/home/Few/", "infinite", 10), ("/dav/home/", "1", 2)]
    {
        let (mut known, mut since, mut pages) = (Known::new(), String::new(), 0);
        loop {
            let answer = dav.ask("REPORT", collection, &[], report(&since, level, Some(3))).await.is(207);
            let more = apply(&mut known, &answer, collection);
            since = token(&answer);
            pages += 1;
            if !more {
                break;
            }
        }
        assert_eq!(known.len(), wanted, "{collection}");
        assert!(pages <= wanted / 3 + 1, "{pages} pages for {wanted} in {collection}");
        let depth = if level == "1" { "1" } else { "infinity" };
        assert_eq!(known, truth(&dav, collection, depth).await);
        // What happens elsewhere fills no page here.
        for m in 0..60 {
            put(many, &format!("later {level} {m}"), "2").await;
        }
        let after = dav.ask("REPORT", collection, &[], report(&since, level, Some(3))).await.is(207);
        let told = after.found().into_iter().filter(|(href, _)| href.contains("/Few/")).count();
        assert_eq!(told, 0, "{}", after.body);
        assert!(!after.body.contains("507"), "{}", after.body);
        put(few, "3", &format!("changed {level} {collection}")).await;
        client.remove(client.place("home:/Few/4", None).await.unwrap().node.id).await.unwrap();
        let mut since = token(&after);
        let mut rounds = 0;
        loop {
            let answer = dav.ask("REPORT", collection, &[], report(&since, level, Some(3))).await.is(207);
            let more = apply(&mut known, &answer, collection);
            since = token(&answer);
            rounds += 1;
            if !more {
                break;
            }
        }
        assert!(rounds <= 2, "{rounds} pages for two changes");
        assert_eq!(
            known.keys().cloned().collect::<Vec<_>>(),
            truth(&dav, collection, depth).await.keys().cloned().collect::<Vec<_>>()
        );
        put(few, "4", "back").await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn pages_miss_nothing_of_what_just_came_from_another_shelf() {
    let (service, client) = Service::ready().await;
    let dav = Dav::ines(&service);
    let new = api::NewShelf { name: "Collections".into(), ..Default::default() };
    let shelf = client.make_shelf(&new).await.unwrap();
    let home = client.place("home:/", None).await.unwrap().node.id;
    let away = client.make_folder(shelf.root, "Logbooks").await.unwrap().id;
    let dir = tempfile::tempdir().unwrap();
    // Many small folders: each of them is a step of its own behind the move.
    for n in 0..240 {
        let folder = dir.path().join(format!("{n:03}"));
        std::fs::create_dir(&folder).unwrap();
        for m in 0..3 {
            std::fs::write(folder.join(m.to_string()), "x").unwrap();
        }
    }
    let yattic = crate::support::Yattic::new();
    yattic.connect(&service);
    yattic.ok(&["put", dir.path().to_str().unwrap(), "Collections:/Logbooks/in"]);
    // It is there at once; which shelf each of its nodes is on is written behind that.
    client
        .change(
            away,
            &api::Target {
                parent: Some(home),
                name: Some("Logbooks".into()),
                replace: false,
                ..Default::default()
            },
        )
        .await
        .unwrap();
    // One page takes it all, and is asked for before that can be done.
    let answer = dav.ask("REPORT", "/dav/home/", &[], report("", "infinite", Some(1_000))).await.is(207);
    let told = answer.body.matches("<D:href>/dav/home/Logbooks/in/").count();
    assert_eq!(told, 1 + 240 * 4, "the folder, and all in it");
    assert!(!answer.body.contains("507"));
}

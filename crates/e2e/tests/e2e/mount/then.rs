//! What a folder was, by the mounted folder and by WebDAV, against what the API says of that moment.

use super::Mounted;
use crate::dav::{Dav, for_oona, make_oona};
use crate::support::{PASSWORD, Service};
use futures_util::StreamExt;
use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::time::Duration;
use yellow_attic_client::{Client, api};

/// Paths to the hash of what is there; none for a folder.
type Tree = BTreeMap<String, Option<String>>;

async fn of_the_api(ines: &Client, node: i64, at: &str) -> Tree {
    let mut lines = std::pin::pin!(ines.tree(node, Some(at)).await.unwrap());
    let (mut paths, mut tree) = (BTreeMap::from([(node, String::new())]), Tree::new());
    while let Some(line) = lines.next().await {
        if let api::TreeLine::Entry { node } = line.unwrap() {
            let above = &paths[&node.parent.unwrap()];
            let path = if above.is_empty() { node.name.clone() } else { format!("{above}/{}", node.name) };
            paths.insert(node.id, path.clone());
            tree.insert(path, node.blake3);
        }
    }
    tree
}

async fn of_the_present(ines: &Client, node: i64) -> Tree {
    of_the_api(ines, node, &now_text()).await
}

fn now_text() -> String {
    // What was answered is of the past by now.
    std::thread::sleep(Duration::from_millis(1100));
    let at = jiff::Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC);
    at.strftime("%Y-%m-%dT%H:%M:%SZ").to_string()
}

fn of_the_mount(top: &Path) -> Tree {
    fn walk(dir: &Path, above: &str, tree: &mut Tree) {
        for entry in fs::read_dir(dir).unwrap() {
            let entry = entry.unwrap();
            let path = format!("{above}{}", entry.file_name().to_string_lossy());
            if entry.file_type().unwrap().is_dir() {
                walk(&entry.path(), &format!("{path}/"), tree);
                tree.insert(path, None);
            } else {
                let bytes = fs::read(entry.path()).unwrap();
                tree.insert(path, Some(blake3::hash(&bytes).to_hex().to_string()));
            }
        }
    }
    let mut tree = Tree::new();
    walk(top, "", &mut tree);
    tree
}

async fn of_webdav(dav: &Dav, top: &str) -> Tree {
    let (mut tree, mut waiting) = (Tree::new(), vec![top.to_string()]);
    while let Some(folder) = waiting.pop() {
        let found = dav.find(&folder, "1", "<resourcetype/><getcontentlength/>").await.is(207).found();
        for (href, properties) in found.iter().filter(|(href, _)| percent(href) != percent(&folder)) {
            // The service escapes more than it has to.
            let path = percent(href);
            let path = path[percent(top).len()..].trim_end_matches('/').to_string();
            if properties["resourcetype"] == "collection" {
                tree.insert(path, None);
                waiting.push(href.clone());
            } else {
                let bytes = dav.ask("GET", href, &[], "").await.is(200).body;
                assert_eq!(properties["getcontentlength"], bytes.len().to_string());
                tree.insert(path, Some(blake3::hash(bytes.as_bytes()).to_hex().to_string()));
            }
        }
    }
    tree
}

fn percent(text: &str) -> String {
    url::Url::parse(&format!("http://x/{text}")).unwrap();
    let mut bytes = Vec::new();
    let mut rest = text.bytes();
    while let Some(byte) = rest.next() {
        if byte == b'%' {
            let digits = [rest.next().unwrap(), rest.next().unwrap()];
            bytes.push(u8::from_str_radix(std::str::from_utf8(&digits).unwrap(), 16).unwrap());
        } else {
            bytes.push(byte);
        }
    }
    String::from_utf8(bytes).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_happened_it_is_what_the_api_says_of_that_moment() {
    let (service, ines) = Service::ready().await;
    let home = ines.place("home:/", None).await.unwrap().node.id;
    let top = ines.make_folder(home, "Things").await.unwrap().id;
    let mut chance = yellow_attic_trials::numbers(20_261_203);
    let mut moments = Vec::new();
    let mut n = 0;
    for _ in 0..5 {
        for _ in 0..12 {
            n += 1;
            let mut all = Vec::new();
            let mut folders = vec![top];
            let mut lines = std::pin::pin!(ines.tree(top, None).await.unwrap());
            while let Some(line) = lines.next().await {
                if let api::TreeLine::Entry { node } = line.unwrap() {
                    folders.extend((node.kind == api::Kind::Folder).then_some(node.id));
                    all.push(node);
                }
            }
            let folder = folders[chance(folders.len() as u64) as usize];
            let any = (!all.is_empty()).then(|| all[chance(all.len() as u64) as usize].clone());
            // Some of it is refused: into itself, onto another. That is no matter here.
            match (chance(6), any) {
                (0 | 1, _) | (_, None) => {
                    let text = format!("thing {n}").into_bytes();
                    let name = format!("a & b {}", n % 7);
                    let _ = ines.put(folder, &name, None, &Default::default(), text.into()).await;
                }
                (2, _) => drop(ines.make_folder(folder, &format!("folder {}", n % 5)).await),
                (3, Some(any)) if any.kind == api::Kind::File => {
                    let _ = ines.put_onto(any.id, None, format!("changed {n}").into_bytes().into()).await;
                }
                (4, Some(any)) => drop(ines.remove(any.id).await),
                (_, Some(any)) => {
                    let to = api::Target {
                        parent: Some(folder),
                        name: Some(format!("moved {}", n % 6)),
                        ..Default::default()
                    };
                    drop(ines.change(any.id, &to).await);
                }
            }
        }
        tokio::time::sleep(Duration::from_millis(1100)).await;
        let at = jiff::Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC);
        moments.push(at.strftime("%Y-%m-%dT%H:%M:%SZ").to_string());
        tokio::time::sleep(Duration::from_millis(1100)).await;
    }
    // The folder is the same one, whatever it is called by now.
    let other = api::Target { name: Some("Old things".into()), ..Default::default() };
    ines.change(top, &other).await.unwrap();
    let laptop = Mounted::new(&service, "LAPTOP", &[]);
    let dav = Dav::ines(&service);
    for at in &moments {
        let wanted = of_the_api(&ines, top, at).await;
        assert!(!wanted.is_empty());
        let mounted = of_the_mount(&laptop.at(&format!("Old things/.then/{at}")));
        assert_eq!(mounted, wanted, "{at}");
        assert_eq!(of_webdav(&dav, &format!("/dav/home/Old%20things/.then/{at}/")).await, wanted, "{at}");
    }
    // Copying out of it is restoring: to another place, and to where it is still.
    let whole = of_the_api(&ines, top, &moments[2]).await;
    let then = format!("/dav/home/Old%20things/.then/{}", moments[2]);
    let copy = async |from: &str, to: &str, overwrite: &str| {
        let to = format!("{}{to}", service.address);
        dav.ask("COPY", from, &[("destination", &to), ("overwrite", overwrite)], "").await.status
    };
    assert_eq!(copy(&then, "/dav/home/As%20it%20was", "F").await, 201);
    let back = ines.place("home:/As it was", None).await.unwrap().node.id;
    assert_eq!(of_the_present(&ines, back).await, whole);
    let (name, hash) = whole.iter().find(|(name, hash)| hash.is_some() && !name.contains('/')).unwrap();
    let inside = format!("{then}/{}", name.replace(' ', "%20").replace('&', "%26"));
    assert_eq!(copy(&inside, "/dav/home/Old%20things/one", "F").await, 201);
    ines.put(top, "one", None, &Default::default(), b"changed since".to_vec().into()).await.unwrap();
    assert_eq!(copy(&inside, "/dav/home/Old%20things/one", "F").await, 412);
    assert_eq!(copy(&inside, "/dav/home/Old%20things/one", "T").await, 204);
    let one = ines.place("home:/Old things/one", None).await.unwrap().node;
    assert_eq!(one.blake3, *hash);
    assert_eq!(ines.history(one.id).await.unwrap().states.len(), 3, "what was there stays in its history");
    assert_eq!(copy(&then, "/dav/home/Old%20things", "T").await, 204, "the folder itself, as it was");
    let back = ines.place("home:/Old things", None).await.unwrap().node.id;
    assert_eq!(of_the_present(&ines, back).await, whole);
    assert_eq!(
        copy(&inside, &format!("{}/new", then.replace("Old%20things", "As%20it%20was")), "T").await,
        404
    );
    // It is read only, and its name is nobody else's, at any door.
    let top = back;
    let inside = format!("/dav/home/As%20it%20was/.then/{}", now_text());
    for (method, path) in [
        ("PUT", format!("{inside}/new")),
        ("MKCOL", format!("{inside}/new")),
        ("DELETE", inside.clone()),
        ("MOVE", inside.clone()),
        ("PROPPATCH", inside.clone()),
        ("PUT", "/dav/home/.then".into()),
        ("MKCOL", "/dav/home/.THEN".into()),
    ] {
        let answer = dav.ask(method, &path, &[], "").await;
        assert!((400..500).contains(&answer.status), "{method} {path}: {}", answer.status);
    }
    let refused = ines.put(top, ".then", None, &Default::default(), b"x".to_vec().into()).await.unwrap_err();
    assert_eq!(refused.code(), Some("name_then"));
    assert_eq!(ines.make_folder(top, ".Then").await.unwrap_err().code(), Some("name_then"));
    let name = api::Target { name: Some(".then".into()), ..Default::default() };
    assert_eq!(ines.change(top, &name).await.unwrap_err().code(), Some("name_then"));
    dav.find("/dav/home/.then/", "infinity", "<displayname/>").await.is(403);
    dav.find("/dav/home/.then/tomorrow/", "0", "<displayname/>").await.is(404);
    dav.find("/dav/home/.then/2999-01-01/", "0", "<displayname/>").await.is(404);
    let listed = dav.find("/dav/home/", "1", "<displayname/>").await.is(207);
    assert!(!listed.body.contains(".then"), "no list shows it");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_may_not_be_seen_is_not_there_in_the_past_either() {
    let (service, ines) = Service::ready().await;
    make_oona(&ines).await;
    let home = ines.place("home:/", None).await.unwrap().node.id;
    let given = ines.make_folder(home, "Given").await.unwrap().id;
    let hidden = ines.make_folder(given, "Hidden").await.unwrap().id;
    let secret =
        ines.put(hidden, "secret", None, &Default::default(), b"secret".to_vec().into()).await.unwrap();
    ines.put(given, "open", None, &Default::default(), b"open".to_vec().into()).await.unwrap();
    ines.give(given, &for_oona("view")).await.unwrap();
    ines.give(hidden, &for_oona("deny")).await.unwrap();
    let snapshot = api::SnapshotChange { label: Some("of Ines's own shelf".into()), ..Default::default() };
    ines.take_snapshot(home, &snapshot).await.unwrap();
    tokio::time::sleep(Duration::from_millis(1100)).await;
    let at =
        jiff::Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC).strftime("%Y-%m-%dT%H:%M:%SZ").to_string();
    tokio::time::sleep(Duration::from_millis(1100)).await;
    let oona = Dav::with(&service, "oona", PASSWORD);
    let then = format!("/dav/given/Given/.then/{at}/");
    let seen = oona.find(&then, "1", "<displayname/>").await.is(207);
    assert!(seen.body.contains("open") && !seen.body.contains("Hidden"), "{}", seen.body);
    for path in [
        format!("{then}Hidden/"),
        format!("{then}Hidden/secret"),
        format!("/dav/given/Given/Hidden/.then/{at}/"),
        format!("/dav/home/.then/{at}/Given/"),
    ] {
        let answer = oona.ask("PROPFIND", &path, &[("depth", "1")], "").await;
        assert_eq!(answer.status, 404, "{path}: {}", answer.body);
        assert_eq!(oona.ask("GET", &path, &[], "").await.status, 404, "{path}");
    }
    // Snapshots are of the whole shelf, and told to those who may see that.
    let told = oona.find("/dav/given/Given/.then/", "1", "<displayname/>").await.is(207);
    assert!(!told.body.contains("own shelf"), "{}", told.body);
    // And what one copies out of it is only what one sees.
    let to = format!("{}/dav/home/copy", service.address);
    let copied = oona.ask("COPY", &then, &[("destination", &to)], "").await;
    assert_eq!(copied.status, 201, "{}", copied.body);
    let oonas = service.client_of("oona").await;
    let copy = oonas.place("home:/copy", None).await.unwrap().node.id;
    let names: Vec<String> =
        oonas.all_entries(copy, &Default::default()).await.unwrap().into_iter().map(|n| n.name).collect();
    assert_eq!(names, ["open"]);
    let hidden = oona.ask("COPY", &format!("{then}Hidden"), &[("destination", &to)], "").await;
    assert_eq!(hidden.status, 404, "{}", hidden.body);
    // By a mounted folder as little.
    let yattic = crate::support::Yattic::new();
    let asked = ["connect", &service.address, "--sign-in", "oona", "--password-stdin", "--device", "TABLET"];
    assert!(yattic.fed(&asked, format!("{PASSWORD}\n").as_bytes()).status.success());
    let tablet = Mounted::of(yattic, &[]);
    let top = tablet.top().join("given/Given");
    let names = |at: &Path| -> Vec<String> {
        let mut names: Vec<String> =
            fs::read_dir(at).unwrap().map(|e| e.unwrap().file_name().into_string().unwrap()).collect();
        names.sort();
        names
    };
    assert_eq!(names(&top), ["open"]);
    assert_eq!(names(&top.join(".then").join(&at)), ["open"]);
    assert!(!top.join(".then").join(&at).join("Hidden").exists());
    assert!(!top.join("Hidden/.then").exists());
    assert_eq!(secret.size, 6);
}

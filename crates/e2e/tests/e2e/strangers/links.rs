//! Links: when they open, what they let do, how downloads are counted, and passwords.

use super::*;
use crate::people::{Sink, address_in};
use crate::support::{Service, wait_for};
use std::collections::BTreeSet;

#[tokio::test(flavor = "multi_thread")]
async fn a_link_follows_its_target_and_ends_with_it_its_maker_or_its_time() {
    let (service, ines) = Service::ready().await;
    let top = home(&ines).await;
    let folder = ines.make_folder(top, "Charts").await.unwrap().id;
    let file = put(&ines, folder, "north.txt", b"shoals to the north").await;
    let (id, address) = made(&ines, link(file, set())).await;
    let out = Stranger::new();

    let (status, page) = out.page(&address).await;
    assert!(status == 200 && page.contains("north.txt") && page.contains("shoals to the north"), "{page}");
    assert!(
        !page.contains("Charts") && !page.contains("Yellow Attic</span>\u{0}"),
        "what is above is not told"
    );
    let taken = out.get(&format!("{address}/take/")).await;
    assert_eq!(taken.headers()["content-disposition"], "attachment; filename*=UTF-8''north.txt");
    assert_eq!(taken.bytes().await.unwrap(), &b"shoals to the north"[..]);
    let part = out.call(Method::GET, &format!("{address}/take/"), &[("range", "bytes=10-")], vec![]).await;
    assert_eq!((part.status().as_u16(), part.text().await.unwrap().as_str()), (206, "the north"));

    // Moved and renamed it still opens; put anew it opens the new state, and nothing older.
    ines.change(
        file,
        &api::Target { name: Some("south.txt".into()), parent: Some(top), ..Default::default() },
    )
    .await
    .unwrap();
    put(&ines, top, "south.txt", b"sand to the south").await;
    let answer = out.get(&format!("{address}/take/")).await;
    assert_eq!(answer.text().await.unwrap(), "sand to the south");
    let before = out.get(&format!("{address}/take/?at=2020-01-01T00:00:00Z&version=1")).await;
    assert_eq!(before.text().await.unwrap(), "sand to the south", "history is never shown");

    // Removed: as if it had never been. Brought back: asleep, until its maker confirms it.
    let never = address.replace("/open/", "/open/z");
    ines.remove(file).await.unwrap();
    let gone = out.page(&address).await;
    assert_eq!(gone.0, 404);
    assert_eq!(gone, out.page(&never).await, "both look the same");
    ines.restore(file, &Default::default()).await.unwrap();
    assert_eq!(out.code(&format!("{address}/take/")).await, (404, "no_such_address".into()));
    assert_eq!(ines.opening(id).await.unwrap().state, "asleep");
    ines.change_opening(id, &api::OpeningSet { confirmed: true, ..set() }).await.unwrap();
    assert_eq!(out.get(&format!("{address}/take/")).await.status(), 200);

    // Time: not yet, open, over.
    let begins = api::OpeningSet { begins: Some(hours(5)), ends: Some(hours(9)), ..set() };
    ines.change_opening(id, &begins).await.unwrap();
    assert_eq!(out.code(&format!("{address}/take/")).await, (403, "not_yet".into()));
    assert!(out.page(&address).await.1.contains("This opens on"));
    ines.change_opening(id, &api::OpeningSet { begins: Some(String::new()), ..set() }).await.unwrap();
    assert_eq!(out.get(&format!("{address}/take/")).await.status(), 200);
    let past = api::OpeningSet { ends: Some(hours(-1)), ..set() };
    assert_eq!(refused(ines.change_opening(id, &past).await), "bad_input");
    let backwards = api::OpeningSet { begins: Some(hours(20)), ..set() };
    assert_eq!(refused(ines.change_opening(id, &backwards).await), "bad_input");

    // Paused, and ended: with its ending still taken.
    ines.change_opening(id, &api::OpeningSet { paused: Some(true), ..set() }).await.unwrap();
    assert_eq!(out.code(&format!("{address}/take/")).await, (403, "paused".into()));
    ines.change_opening(id, &api::OpeningSet { paused: Some(false), ended: Some(true), ..set() })
        .await
        .unwrap();
    assert_eq!(out.code(&format!("{address}/take/")).await.0, 404);
    ines.change_opening(id, &api::OpeningSet { ended: Some(false), ..set() }).await.unwrap();
    assert_eq!(out.get(&format!("{address}/take/")).await.status(), 200);

    // Its maker: the right, the door, the account.
    let (tomas, _) = member(&ines, "tomas").await;
    let shelf = shelf_for(&ines, "Archive", "tomas", "manage").await;
    let log = put(&tomas, shelf, "log.txt", b"fog").await;
    let (_, theirs) = made(&tomas, link(log, set())).await;
    assert_eq!(out.get(&format!("{theirs}/take/")).await.status(), 200);
    let edit =
        api::NewGrant { to: "account:tomas".into(), can: "edit".into(), until: None, message: String::new() };
    ines.give(shelf, &edit).await.unwrap();
    assert_eq!(out.get(&format!("{theirs}/take/")).await.status(), 404);
    ines.give(shelf, &api::NewGrant { can: "manage".into(), ..edit }).await.unwrap();
    assert_eq!(out.get(&format!("{theirs}/take/")).await.status(), 200);
    let closed = |doors: &[&str]| api::AccountChange {
        closed: Some(doors.iter().map(|d| d.to_string()).collect()),
        ..Default::default()
    };
    ines.change_account("tomas", &closed(&["links"])).await.unwrap();
    assert_eq!(out.get(&format!("{theirs}/take/")).await.status(), 404);
    assert_eq!(refused(tomas.make_opening(&link(log, set())).await), "opening_refused");
    ines.change_account("tomas", &closed(&[])).await.unwrap();
    assert_eq!(out.get(&format!("{theirs}/take/")).await.status(), 200);
    ines.change_account("tomas", &api::AccountChange { disabled: Some(true), ..Default::default() })
        .await
        .unwrap();
    assert_eq!(out.get(&format!("{theirs}/take/")).await.status(), 404);
    drop(service);
}

#[tokio::test(flavor = "multi_thread")]
async fn endings_of_ones_own_are_checked_and_random_ones_cannot_be_guessed() {
    let (_service, ines) = Service::ready().await;
    let file = put(&ines, home(&ines).await, "a.txt", b"a").await;
    let with = |ending: &str| api::NewOpening { ending: Some(ending.into()), ..link(file, set()) };
    let mine = ines.make_opening(&with("press-pictures")).await.unwrap();
    assert!(mine.own_ending && mine.address.unwrap().ends_with("/open/press-pictures"));
    assert_eq!(refused(ines.make_opening(&with("press-pictures")).await), "ending_taken");
    for bad in ["api", "a", "Press", "press pictures", "../up", "ä", "x%2f", "-x-", &"y".repeat(65)] {
        assert_eq!(refused(ines.make_opening(&with(bad)).await), "ending_cannot_be", "{bad}");
    }
    // An ended one's ending leads nowhere else.
    ines.change_opening(mine.id, &api::OpeningSet { ended: Some(true), ..set() }).await.unwrap();
    assert_eq!(refused(ines.make_opening(&with("press-pictures")).await), "ending_taken");

    // 300 random endings: of 26 places each letter of the 32 turns up everywhere about as often.
    let mut seen = BTreeSet::new();
    let mut counts = vec![[0u32; 256]; 26];
    for _ in 0..300 {
        let (_, address) = made(&ines, link(file, set())).await;
        let ending = address.rsplit('/').next().unwrap().to_string();
        assert_eq!(ending.len(), 26);
        ending.bytes().enumerate().for_each(|(i, c)| counts[i][c as usize] += 1);
        assert!(seen.insert(ending));
    }
    for place in &counts {
        let entropy: f64 =
            place.iter().filter(|n| **n > 0).map(|n| f64::from(*n) / 300.0).map(|p| -p * p.log2()).sum();
        // Five bits at most; 300 tries of 32 letters show 4.9 or more of them, and 26 places hold 128.
        assert!(entropy > 4.75, "{entropy} bits");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn downloads_are_counted_exactly_whatever_breaks_off() {
    let (service, ines) = Service::ready().await;
    let top = home(&ines).await;
    let bytes: Vec<u8> = (0..3_000_000u32).map(|n| (n % 251) as u8).collect();
    let file = put(&ines, top, "survey.bin", &bytes).await;
    let ten = api::OpeningSet { most: Some(10), ..set() };
    let (id, address) = made(&ines, link(file, ten)).await;
    let out = Stranger::new();

    // Looking counts nothing, and shows nothing that would be a download.
    for _ in 0..3 {
        assert_eq!(out.page(&address).await.0, 200);
        out.call(Method::HEAD, &format!("{address}/take/"), &[], vec![]).await;
    }
    assert_eq!(out.code(&format!("{address}/look/")).await, (403, "counted".into()));
    assert_eq!(out.code(&format!("{address}/take/")).await, (403, "slip_needed".into()));
    assert_eq!(ines.opening(id).await.unwrap().used, 0);

    // A hundred at once: ten get one.
    let mut asking = tokio::task::JoinSet::new();
    for _ in 0..100 {
        let address = address.clone();
        asking.spawn(async move { Stranger::new().slip(&address, "").await });
    }
    let got: Vec<_> = asking.join_all().await;
    let slips: Vec<String> = got.iter().filter_map(|s| s.clone().ok()).collect();
    assert_eq!(slips.len(), 10);
    assert!(got.iter().filter_map(|s| s.as_ref().err()).all(|status| *status == 410));
    assert_eq!(ines.opening(id).await.unwrap().used, 10);
    assert_eq!(out.page(&address).await.0, 410);

    // Broken off and gone on with: still the same download, though all are used.
    let host = service.address.trim_start_matches("http://").to_string();
    for slip in &slips {
        let path = slip.trim_start_matches(&service.address).to_string();
        let mut line = std::net::TcpStream::connect(&host).unwrap();
        let ask = format!("GET {path} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n\r\n");
        std::io::Write::write_all(&mut line, ask.as_bytes()).unwrap();
        let mut some = [0u8; 4096];
        std::io::Read::read_exact(&mut line, &mut some).unwrap();
        drop(line);
        let rest = out.call(Method::GET, slip, &[("range", "bytes=1000000-")], vec![]).await;
        assert_eq!(rest.status(), 206);
        assert_eq!(rest.bytes().await.unwrap(), &bytes[1_000_000..]);
    }
    assert_eq!(ines.opening(id).await.unwrap().used, 10);
    // A slip is for its file and its link alone, and cannot be made up.
    let (_, other) = made(&ines, link(file, api::OpeningSet { most: Some(1), ..set() })).await;
    let secret = slips[0].split_once("slip=").unwrap().1;
    assert_eq!(out.code(&format!("{other}/take/?slip={secret}")).await, (410, "slip_over".into()));
    assert_eq!(out.code(&format!("{address}/take/?slip=00")).await.0, 410);

    // Killed while slips are taken: each is as answered, or as asked last.
    let many = api::OpeningSet { most: Some(1000), ..set() };
    let (id, address) = made(&ines, link(file, many)).await;
    let counter = std::sync::Arc::new(std::sync::atomic::AtomicU32::new(0));
    let mut asking = tokio::task::JoinSet::new();
    for _ in 0..8 {
        let (address, counter) = (address.clone(), counter.clone());
        asking.spawn(async move {
            let http = Stranger::new().http;
            while let Ok(answer) = http.post(format!("{address}/slip/")).send().await {
                if answer.status() == 303 {
                    counter.fetch_add(1, std::sync::atomic::Ordering::SeqCst);
                }
            }
        });
    }
    assert!(wait_for(|| counter.load(std::sync::atomic::Ordering::SeqCst) > 40));
    let service = service.killed_and_started_again();
    asking.join_all().await;
    let used = service.client().await.opening(id).await.unwrap().used;
    let answered = counter.load(std::sync::atomic::Ordering::SeqCst);
    assert!((answered..=answered + 8).contains(&used), "{used} counted, {answered} answered");
}

#[tokio::test(flavor = "multi_thread")]
async fn ending_a_link_cuts_what_runs() {
    let (service, ines) = Service::ready().await;
    let size = 64 << 20;
    let file = put(&ines, home(&ines).await, "film.bin", &vec![5; size]).await;
    let (id, address) = made(&ines, link(file, set())).await;
    let host = service.address.trim_start_matches("http://").to_string();
    let path = format!("{}/take/", address.trim_start_matches(&service.address));
    let mut line = std::net::TcpStream::connect(&host).unwrap();
    let ask = format!("GET {path} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n\r\n");
    std::io::Write::write_all(&mut line, ask.as_bytes()).unwrap();
    let mut some = [0u8; 65_536];
    std::io::Read::read_exact(&mut line, &mut some).unwrap();
    ines.change_opening(id, &api::OpeningSet { ended: Some(true), ..set() }).await.unwrap();
    let mut rest = Vec::new();
    let _ = std::io::Read::read_to_end(&mut line, &mut rest);
    assert!(rest.len() + some.len() < size, "{} of {size} bytes left after it was ended", rest.len());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_password_keeps_out_whoever_guesses_and_nobody_who_is_in() {
    let sink = Sink::start(&[]);
    let dir = tempfile::tempdir().unwrap();
    let config = dir.path().join("yatticd.toml");
    let text = format!(
        "organisation = \"Lamp House\"\nmail_server = \"127.0.0.1:{}\"\nmail_tls = \"none\"\n\
         mail_from = \"Lamp House <files@lamp.example>\"\ntrusted_proxies = \"127.0.0.1\"\n",
        sink.port
    );
    std::fs::write(&config, text).unwrap();
    let mut service = Service::start_with(&dir.path().join("data"), &["--config", config.to_str().unwrap()]);
    service.set_up().await;
    let ines = service.client().await;
    let mail = api::AccountChange { mail: Some("ines@lamp.example".into()), ..Default::default() };
    ines.change_account("ines", &mail).await.unwrap();
    let file = put(&ines, home(&ines).await, "tide table.txt", b"high at noon").await;
    let easy = api::OpeningSet { password: Some("password1".into()), ..set() };
    assert_eq!(refused(ines.make_opening(&link(file, easy)).await), "password_refused");
    let locked =
        api::OpeningSet { password: Some("kelp ladder seven".into()), ends: Some(hours(48)), ..set() };
    let (id, address) = made(&ines, link(file, locked)).await;

    let begun = std::time::Instant::now();
    let mut friend = Stranger::new();
    let (status, page) = friend.page(&address).await;
    assert!(status == 200 && page.contains("A password, please"), "{page}");
    assert!(!page.contains("tide") && !page.contains("Ines"), "nothing is told before: {page}");
    assert_eq!(friend.code(&format!("{address}/take/")).await, (403, "password_asked".into()));
    assert_eq!(friend.enter(&address, "kelp ladder six").await, 403);
    assert_eq!(friend.enter(&address, "kelp ladder seven").await, 303);
    assert_eq!(friend.get(&format!("{address}/take/")).await.text().await.unwrap(), "high at noon");

    // Ten wrong ones from one address; from others, it goes on. The same again costs nothing.
    let guess = async |from: &str, password: &str| {
        let headers = [("x-forwarded-for", from), ("content-type", "application/x-www-form-urlencoded")];
        let body = format!("password={}", password.replace(' ', "+")).into_bytes();
        let call = Stranger::new();
        call.call(Method::POST, &format!("{address}/enter"), &headers, body).await.status().as_u16()
    };
    for n in 0..10 {
        for _ in 0..3 {
            assert_eq!(guess("192.0.2.7", &format!("guess {n}")).await, 403);
        }
    }
    assert_eq!(guess("192.0.2.7", "guess 11").await, 429);
    assert_eq!(guess("192.0.2.7", "kelp ladder seven").await, 429, "even the right one waits");
    assert_eq!(guess("192.0.2.8", "kelp ladder seven").await, 303);
    assert_eq!(friend.get(&format!("{address}/take/")).await.status(), 200, "whoever is in goes on");
    // The owner is told, once.
    let letter = sink.letter("ines@lamp.example", "somebody tries many passwords");
    assert!(letter.contains("tide table.txt"), "{letter}");
    assert!(ines.opening(id).await.unwrap().guessed_at.is_some());
    // A hundred of one link, wherever they come from, and one more each 0.6 s. All at once: they count when they come, not
    // when they are looked at.
    let strangers: Vec<Stranger> = (0..400).map(|_| Stranger::new()).collect();
    let mut trying = tokio::task::JoinSet::new();
    for (n, stranger) in strangers.into_iter().enumerate() {
        let address = address.clone();
        trying.spawn(async move {
            let from = format!("198.51.{}.{}", n / 200, n % 200);
            let headers =
                [("x-forwarded-for", from.as_str()), ("content-type", "application/x-www-form-urlencoded")];
            let body = format!("password=another+{n}").into_bytes();
            stranger.call(Method::POST, &format!("{address}/enter"), &headers, body).await.status()
        });
    }
    let statuses = trying.join_all().await;
    let tried = statuses.iter().filter(|status| **status == 403).count();
    let refused = statuses.iter().filter(|status| **status == 429).count();
    assert_eq!(tried + refused, 400, "{statuses:?}");
    // Of the hundred the one friend and the ten guesses before took some.
    let most = 100 + (begun.elapsed().as_secs_f64() / 0.6) as usize;
    assert!((85..=most).contains(&tried), "{tried} were looked at, {most} at most may be");

    // By mail, with an address that works; the password travels otherwise.
    let to = api::OpeningMail { to: vec!["nora@outside.example".into()], message: "As promised".into() };
    ines.mail_opening(id, &to).await.unwrap();
    let letter = sink.letter("nora@outside.example", "As promised");
    assert!(letter.contains("Ines Marrow shares") && !letter.contains("kelp"), "{letter}");
    assert_eq!(address_in(&letter), address);
    // A new password lets nobody in by the old one.
    let changed = api::OpeningSet { password: Some("four other words here".into()), ..set() };
    ines.change_opening(id, &changed).await.unwrap();
    assert_eq!(friend.code(&format!("{address}/take/")).await.0, 403);
    // No address is in the record or the log: that is looked at where they are written.
    let ending = address.rsplit('/').next().unwrap();
    let catalogue = std::fs::read(service.data.join("catalogue.db")).unwrap();
    let wal = std::fs::read(service.data.join("catalogue.db-wal")).unwrap_or_default();
    let all = [catalogue, wal].concat();
    let made = b"link made";
    let records: Vec<&[u8]> =
        (0..all.len() - 200).filter(|i| all[*i..].starts_with(made)).map(|i| &all[i..i + 200]).collect();
    let holds = |record: &[u8]| record.windows(ending.len()).any(|w| w == ending.as_bytes());
    assert!(!records.is_empty() && !records.iter().any(|r| holds(r)));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_link_lets_do_what_its_level_says_and_nothing_beside() {
    let (_service, ines) = Service::ready().await;
    let top = home(&ines).await;
    let folder = ines.make_folder(top, "Open day").await.unwrap().id;
    let secret = put(&ines, top, "secret.txt", b"not for you").await;
    let note = put(&ines, folder, "note.txt", b"first").await;
    put(&ines, folder, "data.bin", &[0, 1, 2]).await;
    let can = |word: &str| api::OpeningSet { can: Some(word.into()), ..set() };
    let out = Stranger::new();

    let (_, view) = made(&ines, link(folder, can("view"))).await;
    let (_, page) = out.page(&view).await;
    assert!(
        page.contains("note.txt") && page.contains("for looking only") && !page.contains("Download"),
        "{page}"
    );
    assert_eq!(out.code(&format!("{view}/take/note.txt")).await, (403, "view_only".into()));
    assert_eq!(out.slip(&view, "").await, Err(403));
    assert_eq!(out.get(&format!("{view}/look/note.txt")).await.text().await.unwrap(), "first");
    assert_eq!(out.code(&format!("{view}/look/data.bin")).await, (403, "view_only".into()));
    // Path tricks lead nowhere.
    for way in ["../secret.txt", "..%2fsecret.txt", "%2e%2e/secret.txt", "note.txt/..", "%00", "a%ff"] {
        let raw = format!("{view}/take/{way}");
        let status = out.get(&raw).await.status().as_u16();
        assert!([403, 404].contains(&status), "{way}: {status}");
        let body = out.get(&format!("{view}/at/{way}")).await.text().await.unwrap();
        assert!(!body.contains("not for you"), "{way}");
    }
    let _ = secret;

    // All as an archive, that can be gone on with, and is of one moment.
    let (_, down) = made(&ines, link(folder, can("download"))).await;
    let slip = out.slip(&down, "").await.unwrap();
    let whole = out.get(&slip).await.bytes().await.unwrap();
    put(&ines, folder, "note.txt", b"second").await;
    let rest = out.call(Method::GET, &slip, &[("range", "bytes=40-")], vec![]).await;
    assert_eq!(rest.bytes().await.unwrap(), whole.slice(40..), "the very same archive");
    assert!(String::from_utf8_lossy(&whole).contains("first"));
    // Nothing of before the slip by another moment in If-Range.
    let newer = out.slip(&down, "").await.unwrap();
    let tag =
        out.call(Method::HEAD, &slip, &[], vec![]).await.headers()["etag"].to_str().unwrap().to_string();
    let headers = [("range", "bytes=0-"), ("if-range", tag.as_str())];
    let got = out.call(Method::GET, &newer, &headers, vec![]).await.bytes().await.unwrap();
    assert!(!String::from_utf8_lossy(&got).contains("first"));
    // Nothing can be added, changed, or removed.
    assert_eq!(out.send(&down, "", "", "x.txt", b"x").await, (403, "not_to_add_to".into()));
    let form = [("content-type", "application/x-www-form-urlencoded")];
    let change = async |address: &str, way: &str, what: &str, name: &str| {
        let body = format!("what={what}&name={name}").into_bytes();
        let answer = out.call(Method::POST, &format!("{address}/change/{way}"), &form, body).await;
        answer.status().as_u16()
    };
    assert_eq!(change(&down, "", "folder", "New").await, 403);
    assert_eq!(change(&down, "note.txt", "remove", "").await, 403);

    // Adding: both are kept.
    let (adding, add) = made(&ines, link(folder, can("add"))).await;
    assert_eq!(out.send(&add, "", "", "note.txt", b"another").await.0, 201);
    assert_eq!(out.send(&add, "", "deep/er", "note.txt", b"deep").await.0, 201);
    assert_eq!(out.get(&format!("{add}/take/note%20%282%29.txt")).await.text().await.unwrap(), "another");
    assert_eq!(ines.read(note).await, b"second");
    assert_eq!(out.get(&format!("{add}/take/deep/er/note.txt")).await.status(), 200);
    assert_eq!(change(&add, "note.txt", "remove", "").await, 403);
    for (way, name) in [("", "../up.txt"), ("..", "up.txt"), ("", ""), ("a//b", "x\u{7}"), ("", ".")] {
        let (status, code) = out.send(&add, "", way, name, b"x").await;
        assert_eq!(status, 400, "{way}/{name}: {code}");
    }
    // Who did it is said, and who was not there is not.
    let history =
        ines.history(ines.place("home:/Open day/note (2).txt", None).await.unwrap().node.id).await.unwrap();
    let by = history.states[0].node.by.clone().unwrap_or_default();
    assert!(by.contains("somebody by link") && by.contains(&adding.to_string()), "{by}");

    // Editing: a new state, with the old one kept; renaming, removing, but not the target itself.
    let (_, edit) = made(&ines, link(folder, can("edit"))).await;
    assert_eq!(out.send(&edit, "", "", "note.txt", b"third").await.0, 201);
    assert_eq!(ines.read(note).await, b"third");
    // What somebody has locked stays as it is, and who holds it is said.
    ines.lock(note, 60).await.unwrap();
    assert_eq!(out.send(&edit, "", "", "note.txt", b"fourth").await, (423, "locked".into()));
    for (what, name) in [("rename", "notes.txt"), ("remove", "")] {
        let body = format!("what={what}&name={name}").into_bytes();
        let asked = [form[0], ("accept", "text/html")];
        let answer = out.call(Method::POST, &format!("{edit}/change/note.txt"), &asked, body).await;
        assert_eq!(answer.status().as_u16(), 423);
        let page = answer.text().await.unwrap();
        assert!(page.contains("is locked by Ines Marrow"), "{page}");
    }
    assert_eq!(ines.read(note).await, b"third");
    ines.unlock(note).await.unwrap();
    assert_eq!(change(&edit, "note.txt", "rename", "notes.txt").await, 303);
    assert_eq!(change(&edit, "notes.txt", "remove", "").await, 303);
    assert_eq!(change(&edit, "", "remove", "").await, 403);
    assert_eq!(change(&edit, "", "folder", "New").await, 303);
    assert!(ines.history(note).await.unwrap().states.len() >= 3, "nothing is lost");
    // Of a file no more than a download can be given.
    assert_eq!(refused(ines.make_opening(&link(secret, can("add"))).await), "bad_input");
}

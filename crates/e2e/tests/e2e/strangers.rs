//! What people outside see and do: links and intakes, through the network, in Chromium, and as their
//! makers keep track of them.

use crate::browser::Browser;
use crate::people::{Sink, address_in};
use crate::support::{Service, Yattic, wait_for};
use base64::Engine as _;
use reqwest::{Method, Response};
use serde_json::{Value, json};
use std::collections::BTreeSet;
use yellow_attic_client::{Client, api};

/// Somebody without an account: no redirect is followed, no cookie is kept but by hand.
struct Stranger {
    http: reqwest::Client,
    cookie: String,
}

impl Stranger {
    fn new() -> Stranger {
        let http = reqwest::Client::builder().redirect(reqwest::redirect::Policy::none()).build().unwrap();
        Stranger { http, cookie: String::new() }
    }

    async fn call(&self, method: Method, address: &str, headers: &[(&str, &str)], body: Vec<u8>) -> Response {
        let mut call = self.http.request(method, address).header("cookie", &self.cookie).body(body);
        for (name, value) in headers {
            call = call.header(*name, *value);
        }
        call.send().await.unwrap()
    }

    async fn get(&self, address: &str) -> Response {
        self.call(Method::GET, address, &[], Vec::new()).await
    }

    /// A page: its status and text.
    async fn page(&self, address: &str) -> (u16, String) {
        let answer = self.call(Method::GET, address, &[("accept", "text/html")], Vec::new()).await;
        (answer.status().as_u16(), answer.text().await.unwrap())
    }

    async fn code(&self, address: &str) -> (u16, String) {
        let answer = self.get(address).await;
        let status = answer.status().as_u16();
        let body: Value = answer.json().await.unwrap_or_default();
        (status, body["code"].as_str().unwrap_or_default().to_string())
    }

    async fn enter(&mut self, address: &str, password: &str) -> u16 {
        let form = [("content-type", "application/x-www-form-urlencoded")];
        let body = format!("password={}", password.replace(' ', "+")).into_bytes();
        let answer = self.call(Method::POST, &format!("{address}/enter"), &form, body).await;
        if let Some(cookie) = answer.headers().get("set-cookie") {
            self.cookie = cookie.to_str().unwrap().split(';').next().unwrap().to_string();
        }
        answer.status().as_u16()
    }

    /// Takes a slip: where it leads to, or the status and code of the refusal.
    async fn slip(&self, address: &str, way: &str) -> Result<String, u16> {
        let answer = self.call(Method::POST, &format!("{address}/slip/{way}"), &[], Vec::new()).await;
        match answer.status().as_u16() {
            303 => {
                let origin = &address[..address.find("/open/").unwrap()];
                Ok(format!("{origin}{}", answer.headers()["location"].to_str().unwrap()))
            }
            other => Err(other),
        }
    }

    /// Sends a file by an intake or a link in one request. The status, and the code of a refusal.
    async fn send(
        &self,
        address: &str,
        delivery: &str,
        way: &str,
        name: &str,
        bytes: &[u8],
    ) -> (u16, String) {
        let word = |text: &str| base64::engine::general_purpose::STANDARD.encode(text);
        let metadata = format!("filename {},way {}", word(name), word(way));
        let length = bytes.len().to_string();
        let headers = [
            ("tus-resumable", "1.0.0"),
            ("upload-length", length.as_str()),
            ("upload-metadata", metadata.as_str()),
            ("content-type", "application/offset+octet-stream"),
            ("delivery", delivery),
        ];
        let answer = self.call(Method::POST, &format!("{address}/uploads"), &headers, bytes.to_vec()).await;
        let status = answer.status().as_u16();
        let body: Value = answer.json().await.unwrap_or_default();
        (status, body["code"].as_str().unwrap_or_default().to_string())
    }

    async fn begin(&self, address: &str, name: &str) -> Result<String, (u16, String)> {
        let body = json!({ "name": name }).to_string().into_bytes();
        let json = [("content-type", "application/json")];
        let answer = self.call(Method::POST, &format!("{address}/deliveries"), &json, body).await;
        let status = answer.status().as_u16();
        let body: Value = answer.json().await.unwrap();
        match status {
            201 => Ok(body["delivery"].as_str().unwrap().to_string()),
            _ => Err((status, body["code"].as_str().unwrap_or_default().to_string())),
        }
    }

    async fn done(&self, address: &str, delivery: &str) -> (u16, Value) {
        let answer =
            self.call(Method::POST, &format!("{address}/done"), &[("delivery", delivery)], Vec::new()).await;
        (answer.status().as_u16(), answer.json().await.unwrap())
    }
}

fn link(node: i64, set: api::OpeningSet) -> api::NewOpening {
    api::NewOpening { kind: "link".into(), node, ending: None, set }
}

fn intake(node: i64, set: api::OpeningSet) -> api::NewOpening {
    api::NewOpening { kind: "intake".into(), node, ending: None, set }
}

fn set() -> api::OpeningSet {
    api::OpeningSet::default()
}

async fn made(client: &Client, new: api::NewOpening) -> (i64, String) {
    let made = client.make_opening(&new).await.unwrap();
    (made.id, made.address.unwrap())
}

async fn home(client: &Client) -> i64 {
    client.place("home:/", None).await.unwrap().node.id
}

async fn put(client: &Client, folder: i64, name: &str, bytes: &[u8]) -> i64 {
    client.put(folder, name, None, &Default::default(), bytes.to_vec().into()).await.unwrap().id
}

fn refused<T: std::fmt::Debug>(done: Result<T, yellow_attic_client::Error>) -> String {
    done.unwrap_err().code().unwrap_or_default().to_string()
}

/// A time as the service takes it.
fn hours(from_now: i64) -> String {
    let at = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs() as i64;
    let days = (at + from_now * 3600) / 86_400;
    let rest = (at + from_now * 3600).rem_euclid(86_400);
    // Civil date from days (proleptic Gregorian).
    let z = days + 719_468;
    let (era, doe) = (z.div_euclid(146_097), z.rem_euclid(146_097));
    let yoe = (doe - doe / 1460 + doe / 36_524 - doe / 146_096) / 365;
    let doy = doe - (365 * yoe + yoe / 4 - yoe / 100);
    let (mp, y) = ((5 * doy + 2) / 153, yoe + era * 400);
    let (d, m) = (doy - (153 * mp + 2) / 5 + 1, if mp < 10 { mp + 3 } else { mp - 9 });
    let y = if m <= 2 { y + 1 } else { y };
    format!("{y:04}-{m:02}-{d:02}T{:02}:{:02}:{:02}Z", rest / 3600, rest / 60 % 60, rest % 60)
}

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

/// A member with a computer of their own.
async fn member(ines: &Client, name: &str) -> (Client, String) {
    let words = "gulls over the harbour".to_string();
    let new = api::NewAccount { sign_in: name.into(), password: Some(words.clone()), ..Default::default() };
    ines.make_account(&new).await.unwrap();
    let asked = api::NewDevice {
        sign_in: name.into(),
        password: words.clone(),
        device: "d".into(),
        ..Default::default()
    };
    let token = ines.connect(&asked).await.unwrap().token;
    (Client::new(ines.address(), Some(&token)).unwrap(), words)
}

async fn shelf_for(ines: &Client, name: &str, who: &str, level: &str) -> i64 {
    let people = vec![api::ShelfPerson { to: format!("account:{who}"), level: level.into() }];
    ines.make_shelf(&api::NewShelf { name: name.into(), people, ..Default::default() }).await.unwrap().root
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

    let mut friend = Stranger::new();
    let (status, page) = friend.page(&address).await;
    assert!(status == 200 && page.contains("A password, please"), "{page}");
    assert!(!page.contains("tide") && !page.contains("Ines"), "nothing is told before: {page}");
    assert_eq!(friend.code(&format!("{address}/take/")).await, (403, "password_asked".into()));
    assert_eq!(friend.enter(&address, "kelp ladder six").await, 403);
    assert_eq!(friend.enter(&address, "kelp ladder seven").await, 303);
    assert_eq!(friend.get(&format!("{address}/take/")).await.text().await.unwrap(), "high at noon");

    // Ten tries a minute from one address; from others, it goes on.
    let mut guesser = Stranger::new();
    let mut fates = Vec::new();
    for _ in 0..9 {
        fates.push(guesser.enter(&address, "guess").await);
    }
    assert_eq!(fates[..8], [403; 8], "the friend's two tries count too");
    assert_eq!(fates[8], 429);
    assert_eq!(guesser.enter(&address, "kelp ladder seven").await, 429, "even the right one waits");
    assert_eq!(friend.get(&format!("{address}/take/")).await.status(), 200, "whoever is in goes on");
    // The owner is told, once.
    let letter = sink.letter("ines@lamp.example", "somebody tries many passwords");
    assert!(letter.contains("tide table.txt"), "{letter}");
    assert!(ines.opening(id).await.unwrap().guessed_at.is_some());
    // A hundred of one link, wherever they come from.
    let mut refused = 0;
    for n in 0..110 {
        let from = format!("198.51.100.{n}");
        let headers =
            [("x-forwarded-for", from.as_str()), ("content-type", "application/x-www-form-urlencoded")];
        let body = b"password=guess".to_vec();
        let answer = guesser.call(Method::POST, &format!("{address}/enter"), &headers, body).await;
        refused += i32::from(answer.status() == 429);
    }
    assert!((10..=30).contains(&refused), "{refused} of 110 were refused");

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
    let text = String::from_utf8_lossy(&[catalogue, wal].concat()).into_owned();
    let records: Vec<&str> =
        text.match_indices("link made").map(|(at, _)| &text[at..(at + 200).min(text.len())]).collect();
    assert!(!records.is_empty() && records.iter().all(|r| !r.contains(ending)));
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
    assert_eq!(change(&edit, "note.txt", "rename", "notes.txt").await, 303);
    assert_eq!(change(&edit, "notes.txt", "remove", "").await, 303);
    assert_eq!(change(&edit, "", "remove", "").await, 403);
    assert_eq!(change(&edit, "", "folder", "New").await, 303);
    assert!(ines.history(note).await.unwrap().states.len() >= 3, "nothing is lost");
    // Of a file no more than a download can be given.
    assert_eq!(refused(ines.make_opening(&link(secret, can("add"))).await), "bad_input");
}

trait Reads {
    async fn read(&self, node: i64) -> Vec<u8>;
}

impl Reads for Client {
    async fn read(&self, node: i64) -> Vec<u8> {
        let http = reqwest::Client::new();
        let call = http.get(format!("{}/api/v1/nodes/{node}/content", self.address()));
        call.bearer_auth(self.token().unwrap()).send().await.unwrap().bytes().await.unwrap().to_vec()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_intake_takes_what_it_says_keeps_all_and_tells_nothing() {
    let (service, ines) = Service::ready().await;
    let top = home(&ines).await;
    let folder = ines.make_folder(top, "Drawings").await.unwrap().id;
    put(&ines, folder, "Elm School", b"a file of that name is here").await;
    let terms = api::OpeningSet {
        kinds: Some("pictures, .txt".into()),
        largest_file: Some(1000),
        largest_all: Some(2500),
        most: Some(5),
        ..set()
    };
    let (id, address) = made(&ines, intake(folder, terms)).await;
    let out = Stranger::new();
    let (status, page) = out.page(&address).await;
    assert!(status == 200 && page.contains("pictures") && page.contains("1000 B"), "{page}");
    assert!(!page.contains("Drawings") && !page.contains("Elm"), "where it goes is not told: {page}");

    // The same name twice, by two senders and in folders; the receipt does not reveal the number.
    let one = out.begin(&address, "Elm School").await.unwrap();
    assert_eq!(out.send(&address, &one, "", "tower.txt", b"one").await.0, 201);
    assert_eq!(out.send(&address, &one, "", "tower.txt", b"two").await.0, 201);
    assert_eq!(out.send(&address, &one, "class 2/a", "tower.txt", b"three").await.0, 201);
    let (status, receipt) = out.done(&address, &one).await;
    assert_eq!(status, 200);
    let names: Vec<&str> =
        receipt["files"].as_array().unwrap().iter().map(|f| f["path"].as_str().unwrap()).collect();
    assert_eq!(names, ["tower.txt", "tower.txt", "class 2/a/tower.txt"]);
    assert_eq!(receipt["files"][0]["blake3"], blake3::hash(b"one").to_hex().to_string());
    assert_eq!(out.send(&address, &one, "", "late.txt", b"x").await, (409, "delivery_done".into()));
    let two = out.begin(&address, "Elm School").await.unwrap();
    assert_eq!(out.send(&address, &two, "", "tower.txt", b"four").await.0, 201);
    let lies =
        async |place: &str| ines.place(&format!("home:/Drawings/{place}"), None).await.map(|f| f.node.id);
    for (place, bytes) in [
        ("Elm School (2)/tower.txt", "one"),
        ("Elm School (2)/tower (2).txt", "two"),
        ("Elm School (2)/class 2/a/tower.txt", "three"),
        ("Elm School (3)/tower.txt", "four"),
        ("Elm School", "a file of that name is here"),
    ] {
        assert_eq!(ines.read(lies(place).await.unwrap()).await, bytes.as_bytes(), "{place}");
    }

    // What is refused leaves nothing.
    let sender = "../../etc/cron.d";
    let three = out.begin(&address, sender).await.unwrap();
    let fate = async |way: &str, name: &str, bytes: &[u8]| out.send(&address, &three, way, name, bytes).await;
    assert_eq!(fate("", "a.exe", b"MZ").await, (415, "kind_not_taken".into()));
    assert_eq!(fate("", "a.png", b"<html><script>alert(1)</script>").await, (415, "kind_lies".into()));
    assert_eq!(fate("", "big.txt", &[b'x'; 1001]).await, (413, "file_too_large".into()));
    assert_eq!(fate("../..", "up.txt", b"x").await.0, 400);
    assert_eq!(fate("", "../up.txt", b"x").await.0, 400);
    assert_eq!(out.done(&address, &three).await.0, 409, "nothing has arrived");
    assert!(lies("etc cron.d").await.is_err(), "no folder without a file");
    assert_eq!(fate("", "a.txt", &[b'x'; 1000]).await.0, 201);
    assert_eq!(fate("", "b.txt", &[b'x'; 1000]).await.0, 201);
    assert_eq!(fate("", "c.txt", &[b'x'; 1000]).await, (413, "delivery_too_large".into()));
    assert!(lies("etc cron.d/a.txt").await.is_ok());
    assert!(service.staging_is_clean());

    // Another's delivery, a made-up one, other routes: nothing.
    for path in ["at/Elm School (2)/tower.txt", "take/", "look/", "delivery"] {
        assert_eq!(out.get(&format!("{address}/{path}")).await.status(), 404, "{path}");
    }
    let ending = address.rsplit('/').next().unwrap();
    assert_eq!(out.get(&format!("{}/open/{ending}", service.address)).await.status(), 404);
    for name in ["", "  ", "a\nb", &"n".repeat(81)] {
        assert_eq!(out.begin(&address, name).await.unwrap_err().0, 400, "{name:?}");
    }

    // Deliveries are counted: two more, then none; one under way goes on.
    let four = out.begin(&address, "Reed Point").await.unwrap();
    out.begin(&address, "Gull Bay").await.unwrap();
    assert_eq!(out.begin(&address, "Too late").await, Err((410, "used_up".into())));
    assert_eq!(out.send(&address, &four, "", "d.txt", b"d").await.0, 201);
    assert_eq!(out.done(&address, &four).await.0, 200);

    // Its maker sees who sent what from where.
    let deliveries = ines.deliveries(id).await.unwrap().deliveries;
    let senders: Vec<(&str, u64, &str)> =
        deliveries.iter().map(|d| (d.sender.as_str(), d.files, d.state.as_str())).collect();
    assert_eq!(
        senders,
        [
            ("Gull Bay", 0, "under way"),
            ("Reed Point", 1, "done"),
            (sender, 2, "under way"),
            ("Elm School", 1, "under way"),
            ("Elm School", 3, "done"),
        ]
    );
    assert!(deliveries.iter().all(|d| d.from == "127.0.0.1"));
    // Over a restart all goes on.
    let service = service.killed_and_started_again();
    let address = format!("{}/give/{ending}", service.address);
    assert_eq!(out.send(&address, &two, "", "e.txt", b"e").await.0, 201);
    let (_, receipt) = out.done(&address, &two).await;
    assert_eq!(receipt["files"].as_array().unwrap().len(), 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_delivery_goes_on_after_a_broken_line_and_a_flood_of_tiny_files_arrives_whole() {
    let (service, ines) = Service::ready().await;
    let folder = ines.make_folder(home(&ines).await, "In").await.unwrap().id;
    let (id, address) = made(&ines, intake(folder, set())).await;
    let out = Stranger::new();
    let delivery = out.begin(&address, "Harbour").await.unwrap();

    // Half a file, then the line breaks; it is asked how far, and gone on with.
    let word = |text: &str| base64::engine::general_purpose::STANDARD.encode(text);
    let metadata = format!("filename {},way ", word("half.bin"));
    let headers = [
        ("tus-resumable", "1.0.0"),
        ("upload-length", "2000000"),
        ("upload-metadata", metadata.as_str()),
        ("delivery", delivery.as_str()),
    ];
    let begun = out.call(Method::POST, &format!("{address}/uploads"), &headers, vec![]).await;
    assert_eq!(begun.status(), 201);
    let place = format!("{}{}", service.address, begun.headers()["location"].to_str().unwrap());
    assert!(!begun.headers().contains_key("content-location"), "no number of a file is told");
    let host = service.address.trim_start_matches("http://");
    let path = place.trim_start_matches(&service.address).to_string();
    let half = vec![7u8; 900_000];
    let ask = format!(
        "PATCH {path} HTTP/1.1\r\nHost: {host}\r\nTus-Resumable: 1.0.0\r\nUpload-Offset: 0\r\nDelivery: {delivery}\r\n\
         Content-Type: application/offset+octet-stream\r\nContent-Length: 2000000\r\n\r\n"
    );
    service.raw(&[ask.as_bytes(), &half].concat());
    let asked = [("tus-resumable", "1.0.0"), ("delivery", delivery.as_str())];
    let so_far = out.call(Method::HEAD, &place, &asked, vec![]).await;
    let offset = so_far.headers()["upload-offset"].to_str().unwrap().to_string();
    assert_eq!(offset, "900000");
    // Not by another delivery.
    let other = out.begin(&address, "Somebody else").await.unwrap();
    let foreign = [("tus-resumable", "1.0.0"), ("delivery", other.as_str())];
    assert_eq!(out.call(Method::HEAD, &place, &foreign, vec![]).await.status(), 404);
    let go_on = [
        ("tus-resumable", "1.0.0"),
        ("upload-offset", offset.as_str()),
        ("content-type", "application/offset+octet-stream"),
        ("delivery", delivery.as_str()),
    ];
    assert_eq!(out.call(Method::PATCH, &place, &go_on, vec![7u8; 1_100_000]).await.status(), 204);

    // Two thousand tiny files, twenty at a time.
    let mut sending = tokio::task::JoinSet::new();
    for worker in 0..20 {
        let (address, delivery) = (address.clone(), delivery.clone());
        sending.spawn(async move {
            let out = Stranger::new();
            for n in 0..100 {
                let name = format!("tiny-{worker}-{n}.txt");
                assert_eq!(out.send(&address, &delivery, "all", &name, name.as_bytes()).await.0, 201);
            }
        });
    }
    sending.join_all().await;
    let (status, receipt) = out.done(&address, &delivery).await;
    assert_eq!((status, receipt["files"].as_array().unwrap().len()), (200, 2001));
    let told = &ines.deliveries(id).await.unwrap().deliveries[1];
    assert_eq!((told.files, told.state.as_str()), (2001, "done"));
    let all = ines.place("home:/In/Harbour/all", None).await.unwrap();
    assert_eq!(all.node.sums.map(|s| s.files), Some(2000));
    assert!(service.staging_is_clean());

    // It cannot fill the disk: the quota of the shelf holds, and both sides are told.
    let quota = api::AccountChange { quota: Some("2000000".into()), ..Default::default() };
    ines.change_account("ines", &quota).await.unwrap();
    let (status, code) = out.send(&address, &other, "", "more.txt", &[1; 100_000]).await;
    assert_eq!((status, code.as_str()), (507, "quota_full"));
}

#[tokio::test(flavor = "multi_thread")]
async fn rules_bind_what_is_given_out_and_a_stricter_one_lists_what_breaks_it() {
    let (_service, ines) = Service::ready().await;
    let (tomas, _) = member(&ines, "tomas").await;
    let shelf = shelf_for(&ines, "Board", "tomas", "manage").await;
    let file = put(&tomas, shelf, "minutes.txt", b"seven were present").await;
    let out = Stranger::new();
    let rule = async |name: &str, scope: &str, value: &str, preview: bool, breaking: &str| {
        let change = api::RuleChange {
            scope: scope.into(),
            value: Some(value.into()),
            preview,
            breaking: Some(breaking.into()),
        };
        ines.set_rule(name, &change).await
    };
    let (plain, open) = made(&tomas, link(file, set())).await;
    let long =
        api::OpeningSet { ends: Some(hours(24 * 60)), password: Some("kelp ladder seven".into()), ..set() };
    let (longer, _) = made(&tomas, link(file, long)).await;

    // A preview changes nothing, and names both; one shelf alone is touched.
    let told = rule("links-longest-days", "shelf:Board", "30", true, "leave").await.unwrap();
    let broken: BTreeSet<i64> = told.broken.iter().map(|b| b.id).collect();
    assert_eq!(broken, BTreeSet::from([plain, longer]));
    assert!(told.broken.iter().all(|b| b.shorten.is_some() && b.breaks == "lives longer than allowed"));
    assert!(tomas.opening(longer).await.unwrap().until.unwrap() > hours(24 * 50));
    rule("links-longest-days", "shelf:Board", "30", false, "shorten").await.unwrap();
    assert!(tomas.opening(longer).await.unwrap().ends.unwrap() < hours(24 * 31));
    let year = api::OpeningSet { ends: Some(hours(24 * 365)), ..set() };
    assert_eq!(refused(tomas.make_opening(&link(file, year)).await), "opening_too_long");

    // A password demanded: what has none sleeps until it has one.
    let told = rule("links-password", "organisation", "on", false, "leave").await.unwrap();
    assert_eq!(told.broken.iter().map(|b| b.id).collect::<Vec<_>>(), [plain]);
    assert_eq!(out.page(&open).await.0, 404);
    let state = tomas.opening(plain).await.unwrap();
    assert_eq!((state.state.as_str(), state.sentence.contains("Set one")), ("against a rule", true));
    assert_eq!(refused(tomas.make_opening(&link(file, set())).await), "opening_refused");
    let mended = api::OpeningSet { password: Some("plinth salt hinge".into()), ..set() };
    tomas.change_opening(plain, &mended).await.unwrap();
    assert!(out.page(&open).await.1.contains("A password, please"));

    // Who may make them: a group; renamed, it goes on counting.
    let group = api::NewGroup { name: "Press".into(), note: String::new(), members: vec![] };
    ines.make_group(&group).await.unwrap();
    assert_eq!(refused(rule("links-made-by", "service", "Nobody there", true, "leave").await), "nobody");
    rule("links-made-by", "service", "Press", false, "leave").await.unwrap();
    assert_eq!(out.page(&open).await.0, 404);
    let members =
        api::GroupChange { add: vec!["tomas".into()], name: Some("Public".into()), ..Default::default() };
    ines.change_group("Press", &members).await.unwrap();
    assert_eq!(out.page(&open).await.0, 200);

    // A shelf that never leaves the house: no link, no guest; an intake still may.
    let told = rule("kept-inside", "shelf:Board", "on", false, "end").await.unwrap();
    assert_eq!(told.broken.len(), 2);
    assert_eq!(tomas.opening(plain).await.unwrap().state, "ended");
    let locked = api::OpeningSet { password: Some("plinth salt hinge".into()), ..set() };
    assert_eq!(refused(tomas.make_opening(&link(file, locked)).await), "opening_refused");
    let guest = api::NewGuest {
        mail: "nora@outside.example".into(),
        display_name: String::new(),
        node: file,
        can: "view".into(),
        until: None,
        message: String::new(),
    };
    assert_eq!(refused(tomas.invite_guest(&guest).await), "guests_not_invited");
    assert!(tomas.make_opening(&intake(shelf, set())).await.is_ok());
    assert_eq!(refused(rule("kept-inside", "group:Public", "on", true, "leave").await), "rule_refused");
}

#[tokio::test(flavor = "multi_thread")]
async fn all_that_was_given_out_is_in_one_list_and_can_be_ended_there() {
    let (service, ines) = Service::ready().await;
    let (tomas, _) = member(&ines, "tomas").await;
    let shelf = shelf_for(&ines, "Collections", "tomas", "manage").await;
    let file = put(&tomas, shelf, "=cmd|x.txt", b"formula").await;
    let mine = home(&tomas).await;
    let (id, address) = made(&tomas, link(file, set())).await;
    let (taking, _) = made(&tomas, intake(mine, set())).await;
    let give =
        api::NewGrant { to: "account:ines".into(), can: "view".into(), until: None, message: String::new() };
    tomas.give(file, &give).await.unwrap();
    let out = Stranger::new();
    out.get(&format!("{address}/take/")).await;
    out.get(&format!("{address}/take/")).await;

    let list = tomas.given_out(&Default::default()).await.unwrap();
    let kinds: BTreeSet<&str> = list.given.iter().map(|g| g.kind.as_str()).collect();
    assert_eq!(kinds, BTreeSet::from(["intake", "link", "share"]));
    let given = list.given.iter().find(|g| g.kind == "link").unwrap();
    assert_eq!((given.used, given.used_from.as_deref()), (Some(2), Some("127.0.0.1")));
    assert_eq!(given.path.as_deref(), Some("Collections:/=cmd|x.txt"));
    assert_eq!(list.given.iter().find(|g| g.kind == "share").unwrap().to, "Ines Marrow");
    let table = tomas.given_table(&Default::default()).await.unwrap();
    assert!(table.contains(",'=cmd|x.txt,"), "{table}");
    // By page.
    let mut query = api::GivenQuery { limit: Some(1), ..Default::default() };
    let mut seen = Vec::new();
    loop {
        let page = tomas.given_out(&query).await.unwrap();
        assert_eq!(page.total, 3);
        seen.extend(page.given.iter().map(|g| (g.kind.clone(), g.id)));
        query.cursor = page.next;
        if query.cursor.is_none() {
            break;
        }
    }
    assert_eq!(seen.iter().collect::<BTreeSet<_>>().len(), 3);

    // A member sees their own; an administrator all, without the addresses of what they do not manage.
    assert_eq!(
        refused(tomas.given_out(&api::GivenQuery { all: true, ..Default::default() }).await),
        "administrators_only"
    );
    let everything = ines.given_out(&api::GivenQuery { all: true, ..Default::default() }).await.unwrap();
    let theirs = everything.given.iter().find(|g| g.kind == "intake").unwrap();
    assert_eq!((theirs.address.as_deref(), theirs.mine, theirs.path.as_deref()), (None, false, None));
    let widened = api::OpeningSet { title: Some("Mine now".into()), ..set() };
    assert_eq!(refused(ines.change_opening(taking, &widened).await), "only_to_close");
    let of = seen.iter().map(|(kind, id)| api::GivenId { kind: kind.clone(), id: *id }).collect::<Vec<_>>();
    let unknown = api::GivenId { kind: "link".into(), id: 99_999 };
    let all = of.into_iter().chain([unknown]).collect();
    let done =
        ines.change_given(&api::GivenChange { of: all, end: true, ..Default::default() }).await.unwrap();
    assert_eq!((done.done, done.refused.len()), (3, 1));
    assert_eq!(out.get(&format!("{address}/take/")).await.status(), 404);
    assert_eq!(tomas.opening(id).await.unwrap().state, "ended");

    // By command.
    let yattic = Yattic::new();
    yattic.connect(&service);
    std::fs::write(yattic.home.path().join("a.txt"), "from afar").unwrap();
    yattic.ok(&["put", yattic.home.path().join("a.txt").to_str().unwrap(), "home:/a.txt"]);
    let made = yattic.ok(&[
        "link",
        "new",
        "home:/a.txt",
        "--times",
        "1",
        "--until",
        "2099-12-31",
        "--title",
        "A letter",
    ]);
    let address = made.lines().next().unwrap();
    assert!(out.page(address).await.1.contains("A letter"));
    assert!(yattic.ok(&["link", "ls"]).contains("0 of 1"));
    let number: Value = serde_json::from_str(&yattic.ok(&["--json", "link", "ls"])).unwrap();
    let number = number[0]["id"].to_string();
    let shown = yattic.ok(&["link", "show", &number, "--qr"]);
    assert!(shown.contains(address) && shown.contains('█'), "{shown}");
    yattic.ok(&["link", "set", &number, "--paused", "on"]);
    assert_eq!(out.page(address).await.0, 403);
    assert!(yattic.fails(2, &["link", "set", &number]).contains("nothing is to be changed"));
    assert!(yattic.fails(1, &["intake", "show", &number]).contains("is a link"));
    assert!(yattic.fails(1, &["link", "end", &number]).contains("--yes"));
    yattic.ok(&["link", "end", &number, "--yes"]);
    assert_eq!(out.page(address).await.0, 404);
    assert!(yattic.fails(1, &["link", "new", "home:/a.txt", "--ending", "API"]).contains("can be"));
    let give = yattic.ok(&["intake", "new", "home:/", "--kinds", "pictures", "--largest", "2MiB"]);
    let give = give.lines().next().unwrap();
    assert!(out.page(give).await.1.contains("2.00 MiB"));
    assert!(yattic.ok(&["given-out"]).contains("intake"));
    assert!(yattic.ok(&["given-out", "--csv", "--all"]).starts_with("kind,id,"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_uploaded_never_runs_with_the_services_origin() {
    let (service, ines) = Service::ready().await;
    let top = home(&ines).await;
    let script = "try { localStorage.setItem('ran', location.pathname) } catch (e) {}";
    let page = format!("<!doctype html><script>{script}</script><body onload=\"{script}\">text</body>");
    let svg = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" onload=\"{script}\"><script>{script}</script><rect width=\"9\" height=\"9\"/></svg>"
    );
    let pdf = format!(
        "%PDF-1.4\n1 0 obj<</Type/Catalog/Pages 2 0 R/OpenAction<</S/JavaScript/JS({})>>>>endobj\n2 0 obj<</Type/Pages/Kids[]/Count 0>>endobj\ntrailer<</Root 1 0 R>>",
        script.replace(['(', ')'], "")
    );
    let files = [("a.html", page), ("a.svg", svg), ("a.pdf", pdf)];
    let folder = ines.make_folder(top, "Sent").await.unwrap().id;
    for (name, text) in &files {
        put(&ines, folder, name, text.as_bytes()).await;
    }
    // One that lies about what it is.
    put(&ines, folder, "a.png", files[0].1.as_bytes()).await;
    let (_, address) = made(&ines, link(folder, set())).await;
    let out = Stranger::new();
    for name in ["a.html", "a.svg", "a.pdf", "a.png"] {
        for verb in ["look", "take"] {
            let answer = out.get(&format!("{address}/{verb}/{name}")).await;
            let head = |h: &str| answer.headers()[h].to_str().unwrap().to_string();
            assert_eq!(head("content-security-policy"), "sandbox; default-src 'none'", "{verb} {name}");
            assert_eq!(head("x-content-type-options"), "nosniff");
            assert!(!head("content-type").contains("html") && !head("content-type").contains("svg"));
        }
        let worker = out
            .call(Method::GET, &format!("{address}/look/{name}"), &[("service-worker", "script")], vec![])
            .await;
        assert_eq!(worker.status(), 403);
    }
    let browser = Browser::open(1280, 800).await;
    // That the browser would see it: the same script on a page of its own, in this origin's storage.
    browser.page.goto(&format!("{address}/at/a.html")).await.unwrap();
    browser.says("localStorage.setItem").await;
    let stored = async || {
        let script = "return localStorage.getItem('ran')";
        browser.page.execute(script, vec![]).await.unwrap()
    };
    browser.page.execute("localStorage.setItem('ran', 'it can be seen')", vec![]).await.unwrap();
    assert_eq!(stored().await, json!("it can be seen"));
    browser.page.execute("localStorage.removeItem('ran')", vec![]).await.unwrap();
    for name in ["a.html", "a.svg", "a.pdf", "a.png"] {
        for verb in ["at", "look", "take"] {
            // A download leaves the page where it was.
            let _ = browser.page.goto(&format!("{address}/{verb}/{name}")).await;
        }
    }
    browser.page.goto(&format!("{address}/at/a.pdf")).await.unwrap();
    browser.press("Look at the pages").await;
    browser.says_no_more("Look at the pages").await;
    assert_eq!(stored().await, Value::Null);
    browser.close().await;
    drop(service);
}

#[tokio::test(flavor = "multi_thread")]
async fn both_pages_in_a_browser_wide_and_narrow() {
    let (_service, ines) = Service::ready().await;
    let top = home(&ines).await;
    let folder = ines.make_folder(top, "Views").await.unwrap().id;
    put(&ines, folder, "harbour.png", &picture()).await;
    put(&ines, folder, "lamp.png", &picture()).await;
    put(&ines, folder, "notes.md", b"# Notes\n\nOf the lamp").await;
    let terms = api::OpeningSet { can: Some("edit".into()), title: Some("The views".into()), ..set() };
    let (_, open) = made(&ines, link(folder, terms)).await;
    let locked = api::OpeningSet { password: Some("kelp ladder seven".into()), ..set() };
    let (_, shut) = made(&ines, link(folder, locked)).await;
    let into = ines.make_folder(top, "In").await.unwrap().id;
    let (id, give) = made(&ines, intake(into, set())).await;
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("drawing.txt");
    std::fs::write(&file, "a lighthouse").unwrap();

    for (width, height) in [(1280, 800), (390, 844)] {
        let browser = Browser::open(width, height).await;
        let at = |what: &str| format!("{what}, {width} wide");
        browser.page.goto(&open).await.unwrap();
        browser.says("The views").await;
        browser.is_accessible(&at("a folder by link")).await;
        browser.click(".gallery a").await;
        browser.says("harbour.png").await;
        browser.is_accessible(&at("a picture by link")).await;
        browser.click("a[rel=next]").await;
        browser.says("lamp.png").await;
        browser.page.goto(&format!("{open}/at/notes.md")).await.unwrap();
        browser.says("Of the lamp").await;
        browser.is_accessible(&at("a text by link")).await;
        browser.page.goto(&format!("{open}x")).await.unwrap();
        browser.says("leads nowhere").await;
        browser.is_accessible(&at("nothing here")).await;
        browser.page.goto(&shut).await.unwrap();
        browser.fill("Password", "wrong").await;
        browser.press("Open").await;
        browser.says("The password is wrong").await;
        browser.is_accessible(&at("a wrong password")).await;
        browser.fill("Password", "kelp ladder seven").await;
        browser.press("Open").await;
        browser.says("notes.md").await;

        // Handed in, and a receipt.
        browser.page.goto(&give).await.unwrap();
        browser.says("Hand files in").await;
        browser.is_accessible(&at("an intake")).await;
        browser.fill("Your name", "Elm School").await;
        let input = browser.find("[data-give] input[type=file]").await;
        input.send_keys(file.to_str().unwrap()).await.unwrap();
        browser.says("1 files").await;
        browser.is_accessible(&at("an intake with a file")).await;
        browser.press("Hand in").await;
        browser.says("It has arrived").await;
        browser.says(&blake3::hash(b"a lighthouse").to_hex()[..12]).await;
        browser.is_accessible(&at("a receipt")).await;
        browser.close().await;
    }
    // Added by the link that lets it.
    let browser = Browser::open(1280, 800).await;
    browser.page.goto(&open).await.unwrap();
    let input = browser.find("[data-send] input[type=file]").await;
    input.send_keys(file.to_str().unwrap()).await.unwrap();
    browser.find("a[href$='drawing.txt']").await;
    browser.close().await;
    let deliveries = ines.deliveries(id).await.unwrap().deliveries;
    assert_eq!(
        deliveries.iter().map(|d| (d.files, d.state.as_str())).collect::<Vec<_>>(),
        [(1, "done"), (1, "done")]
    );
}

fn picture() -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut writer = png::Encoder::new(&mut bytes, 8, 8).write_header().unwrap();
    writer.write_image_data(&[128; 64]).unwrap();
    writer.finish().unwrap();
    bytes
}

#[tokio::test(flavor = "multi_thread")]
async fn requests_under_another_address_are_noticed_with_the_remedy() {
    let (service, ines) = Service::ready().await;
    let http = reqwest::Client::new();
    let call = http.get(format!("{}/api/v1/welcome", service.address));
    let call = call.header("host", "cloud.other.example").header("x-forwarded-proto", "https");
    call.header("x-forwarded-for", "198.51.100.7").send().await.unwrap();
    let told = ines.public_address().await.unwrap();
    assert_eq!(told.address, service.address);
    let other = told.seen.iter().find(|s| s.address.ends_with("cloud.other.example")).unwrap();
    // Who is no trusted proxy is not believed about the scheme either.
    assert_eq!((other.address.as_str(), other.times, other.right), ("http://cloud.other.example", 1, false));
    let found =
        |says: &str| told.findings.iter().any(|f| !f.good && f.what.contains(says) && !f.remedy.is_empty());
    assert!(found("No public address is set") && found("not a trusted proxy"), "{:?}", told.findings);
    // What is handed out never goes by the Host that was asked.
    let file = put(&ines, home(&ines).await, "a.txt", b"a").await;
    let body = json!({ "kind": "link", "node": file }).to_string();
    let call = http.post(format!("{}/api/v1/openings", service.address)).bearer_auth(ines.token().unwrap());
    let call =
        call.header("host", "cloud.other.example").header("content-type", "application/json").body(body);
    let made: Value = call.send().await.unwrap().json().await.unwrap();
    assert!(made["address"].as_str().unwrap().starts_with(&service.address));
    let config = std::process::Command::new(crate::support::program("yatticd"))
        .args(["config", "--public-address", "http://192.168.1.5:7460"])
        .env_clear()
        .output()
        .unwrap();
    let said = String::from_utf8(config.stdout).unwrap();
    assert!(said.contains("leads somewhere only inside") && said.contains("without TLS"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_delivery_is_told_by_event_and_by_mail_gathered() {
    let sink = Sink::start(&[]);
    let dir = tempfile::tempdir().unwrap();
    let config = dir.path().join("yatticd.toml");
    let text = format!(
        "mail_server = \"127.0.0.1:{}\"\nmail_tls = \"none\"\nmail_from = \"Lamp House <files@lamp.example>\"\n",
        sink.port
    );
    std::fs::write(&config, text).unwrap();
    let mut service = Service::start_with(&dir.path().join("data"), &["--config", config.to_str().unwrap()]);
    service.set_up().await;
    let ines = service.client().await;
    let mail = api::AccountChange { mail: Some("ines@lamp.example".into()), ..Default::default() };
    ines.change_account("ines", &mail).await.unwrap();
    let folder = ines.make_folder(home(&ines).await, "In").await.unwrap().id;
    let terms = api::OpeningSet { asks_mail: Some(true), title: Some("Drawings".into()), ..set() };
    let (_, address) = made(&ines, intake(folder, terms)).await;
    let http = reqwest::Client::new();
    let mut events = http
        .get(format!("{}/api/v1/events", service.address))
        .bearer_auth(ines.token().unwrap())
        .send()
        .await
        .unwrap();
    let out = Stranger::new();
    assert_eq!(out.begin(&address, "Elm School").await.unwrap_err().1, "mail_needed");
    for (sender, to) in [("Elm School", "elm@school.example"), ("Gull Bay", "gull@school.example")] {
        let body = json!({ "name": sender, "mail": to }).to_string().into_bytes();
        let kind = [("content-type", "application/json")];
        let begun = out.call(Method::POST, &format!("{address}/deliveries"), &kind, body).await;
        let begun: Value = begun.json().await.unwrap();
        let delivery = begun["delivery"].as_str().unwrap();
        out.send(&address, delivery, "", "tower.txt", b"tower").await;
        assert_eq!(out.done(&address, delivery).await.0, 200);
        // The sender has a receipt, with the checksum.
        let receipt = sink.letter(to, "this is what has arrived from you");
        assert!(receipt.contains(&blake3::hash(b"tower").to_hex().to_string()), "{receipt}");
    }
    let told = async {
        let mut text = String::new();
        while let Some(piece) = events.chunk().await.unwrap() {
            text.push_str(&String::from_utf8_lossy(&piece));
            if text.contains("event: openings") {
                return true;
            }
        }
        false
    };
    assert!(tokio::time::timeout(std::time::Duration::from_secs(10), told).await.unwrap());
    // Both in one letter, once nothing has come for a while.
    let begun = std::time::Instant::now();
    let letter = loop {
        if let Some(letter) = sink.find("ines@lamp.example", "handed in at") {
            break letter;
        }
        assert!(begun.elapsed().as_secs() < 120, "the owner was not told");
        tokio::time::sleep(std::time::Duration::from_millis(200)).await;
    };
    assert!(letter.contains("Elm School") && letter.contains("Gull Bay"), "{letter}");
    assert!(letter.contains("2 deliveries"), "{letter}");
}

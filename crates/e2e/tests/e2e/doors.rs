//! Doors that hold: nobody guesses side by side, nobody from outside holds others up or takes their room, and what is
//! kept is the service's alone.

use crate::people::{Console, code_at, step_now};
use crate::support::{PASSWORD, PATIENCE, Service, in_the_catalogue, program, wait_for};
use base64::Engine as _;
use reqwest::Method;
use serde_json::{Value, json};
use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;
use yellow_attic_client::{NewUpload, api};
use yellow_attic_trials::disk::{Image, Kind};

/// A service behind a proxy that is trusted: the tests say for whom they ask.
async fn behind_a_proxy(set: &[(&str, &str)]) -> (Service, tempfile::TempDir) {
    let dir = tempfile::tempdir().unwrap();
    let set = [&[("YATTIC_TRUSTED_PROXIES", "127.0.0.1")], set].concat();
    let mut service = Service::start_set(&dir.path().join("data"), &[], &set);
    service.set_up().await;
    (service, dir)
}

/// Tries to connect a computer: the status, and what it was refused for.
async fn connect(
    http: &reqwest::Client,
    at: &str,
    from: &[&str],
    name: &str,
    password: &str,
) -> (u16, String) {
    let body = json!({ "sign_in": name, "password": password, "device": "one" });
    let mut call = http.post(format!("{at}/api/v1/devices")).json(&body);
    for line in from {
        call = call.header("x-forwarded-for", *line);
    }
    let answer = call.send().await.unwrap();
    let status = answer.status().as_u16();
    let told: Value = answer.json().await.unwrap_or_default();
    (status, told["code"].as_str().unwrap_or_default().to_string())
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_tried_side_by_side_gets_no_more_looks() {
    let (service, _dir) = behind_a_proxy(&[]).await;
    let http = reqwest::Client::new();
    let at = service.address.clone();
    // A browser that was signed in before.
    let mut known = Console::new(&service);
    assert_eq!(known.sign_in("ines", PASSWORD).await.0, 200);
    assert!(known.cookie.contains("attic_browser="), "{}", known.cookie);
    let begun = std::time::Instant::now();
    let mut tries = tokio::task::JoinSet::new();
    for n in 0..400 {
        let (http, at) = (http.clone(), at.clone());
        // The right one among them, from wherever they come.
        let password = if n == 200 { PASSWORD.to_string() } else { format!("guess {n}") };
        tries.spawn(async move {
            connect(&http, &at, &[&format!("198.51.{}.{}", n % 7, n % 250)], "ines", &password).await
        });
    }
    // Meanwhile whoever was here before signs in, with the password that others guess at.
    let (status, told) = known.sign_in("ines", PASSWORD).await;
    assert_eq!(status, 200, "{told}");
    let fates = tries.join_all().await;
    let count = |wanted: (u16, &str)| fates.iter().filter(|f| (f.0, f.1.as_str()) == wanted).count();
    let (looked_at, found) = (count((401, "wrong_sign_in")), count((201, "")));
    // Five for nothing; then one after a second, after two more, after four more.
    let most = 6 + (begun.elapsed().as_secs() + 1).ilog2() as usize;
    assert!(looked_at <= most, "{looked_at} guesses were looked at, of {most}");
    assert!(found <= 1, "the right one was found {found} times");
    assert_eq!(looked_at + found + count((429, "too_many_attempts")), 400, "{fates:?}");
    // However they fell: a few more, one after the other, and whoever has the right one waits.
    for n in 0..8 {
        connect(&http, &at, &["203.0.113.9"], "ines", &format!("one more {n}")).await;
    }
    // By its mail address it is the same account.
    let mail = json!({ "mail": "ines@lamp.example" });
    assert_eq!(known.ask("PATCH", "/accounts/ines", mail).await.0, 200);
    for name in ["ines", "Ines@lamp.example"] {
        assert_eq!(connect(&http, &at, &["203.0.113.1"], name, PASSWORD).await.0, 429, "{name}");
    }
    // The desk says who waits, and lets them go on.
    let (status, slowed) = known.ask_get("/slowed").await;
    assert_eq!(status, 200);
    let of = |kind: &str| {
        let all = slowed["slowed"].as_array().unwrap();
        all.iter().find(|s| s["kind"] == kind).map(|s| s["of"].as_str().unwrap().to_string())
    };
    assert_eq!(of("account").as_deref(), Some("ines"), "{slowed}");
    let (status, released) = known.ask("DELETE", "/slowed?of=ines", json!({})).await;
    assert_eq!((status, released["released"].as_u64()), (200, Some(1)), "{released}");
    assert_eq!(connect(&http, &at, &["203.0.113.1"], "ines", PASSWORD).await.0, 201);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_flood_of_made_up_names_holds_nobody_else_up() {
    let (service, _dir) = behind_a_proxy(&[]).await;
    let http = reqwest::Client::new();
    let at = service.address.clone();
    let done = Arc::new(AtomicUsize::new(0));
    let mut flood = tokio::task::JoinSet::new();
    for n in 0..1500 {
        let (http, at, done) = (http.clone(), at.clone(), done.clone());
        flood.spawn(async move {
            let fate = connect(&http, &at, &["198.51.100.7"], &format!("nobody{n}"), "guess").await;
            done.fetch_add(1, Ordering::SeqCst);
            fate
        });
    }
    assert!(wait_for(|| done.load(Ordering::SeqCst) > 0));
    assert_eq!(connect(&http, &at, &["203.0.113.9"], "ines", PASSWORD).await.0, 201);
    let fates = flood.join_all().await;
    let looked_at = fates.iter().filter(|f| f.0 == 401).count();
    assert!((1..=40).contains(&looked_at), "{looked_at} of 1,500 were looked at");
    assert!(fates.iter().all(|f| [401, 429, 503].contains(&f.0)), "{fates:?}");
    // A proxy that adds a line of its own, with a port: the last one counts, whatever stands before it.
    for n in 0..40 {
        let lines = [format!("192.0.2.{n}"), "198.51.100.8:4711".to_string()];
        let lines: Vec<&str> = lines.iter().map(String::as_str).collect();
        let fate = connect(&http, &at, &lines, &format!("other{n}"), "guess").await.0;
        assert_eq!(fate, if n < 30 { 401 } else { 429 }, "{n}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn many_programs_with_one_password_come_back_at_once_and_an_old_password_locks_nobody_out() {
    let (service, _dir) = behind_a_proxy(&[]).await;
    let http = reqwest::Client::new();
    let ask = async |password: &str, from: &str| {
        let call =
            http.request(Method::from_bytes(b"PROPFIND").unwrap(), format!("{}/dav/", service.address));
        let call = call.header("depth", "0").header("x-forwarded-for", from);
        call.basic_auth("ines", Some(password)).send().await.unwrap().status().as_u16()
    };
    let back = futures_util::future::join_all((0..200).map(|_| ask(PASSWORD, "203.0.113.9"))).await;
    assert!(back.iter().all(|s| *s == 207), "{back:?}");
    // A mount with an old password, again and again: neither a try nor a hash after the first.
    for _ in 0..60 {
        assert_eq!(ask("the old password", "203.0.113.9").await, 401);
    }
    assert_eq!(ask(PASSWORD, "203.0.113.9").await, 207);
    assert_eq!(connect(&http, &service.address, &["203.0.113.10"], "ines", PASSWORD).await.0, 201);
    // Where a second factor is set, passwords are not looked at, and count all the same.
    let mut ines = Console::new(&service);
    assert_eq!(ines.sign_in("ines", PASSWORD).await.0, 200);
    ines.add_codes().await;
    let mut fates = Vec::new();
    for n in 0..8 {
        fates.push(ask(&format!("guess {n}"), "203.0.113.11").await);
    }
    assert_eq!(fates.iter().filter(|s| **s == 401).count(), 5, "{fates:?}");
    assert!(fates[5..].iter().all(|s| *s == 429), "{fates:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_counts_once_is_taken_once() {
    // The set-up address.
    let mut service = Service::new();
    let code = service.set_up_code.take().unwrap();
    let http = reqwest::Client::new();
    let made = futures_util::future::join_all((0..8).map(|n| {
        let body =
            json!({ "code": code, "sign_in": format!("first{n}"), "display_name": "", "password": PASSWORD });
        http.post(format!("{}/api/v1/set-up", service.address)).json(&body).send()
    }))
    .await;
    let made: Vec<u16> = made.into_iter().map(|a| a.unwrap().status().as_u16()).collect();
    assert_eq!(made.iter().filter(|s| **s == 201).count(), 1, "{made:?}");
    // A ticket for the second factor: one try at a time, and five before the first wait.
    let (service, _owner) = Service::ready().await;
    let mut ines = Console::new(&service);
    assert_eq!(ines.sign_in("ines", PASSWORD).await.0, 200);
    let secret = ines.add_codes().await;
    let (status, told) = Console::new(&service).sign_in("ines", PASSWORD).await;
    assert_eq!((status, told["code"].as_str()), (401, Some("second_factor_needed")));
    let give = async |code: &str| {
        let body = json!({ "ticket": told["ticket"], "code": code });
        Console::new(&service).ask("POST", "/session/second", body).await.0
    };
    let codes: Vec<String> = (0..300).map(|n| format!("{:06}", 10 * n)).collect();
    let fates = futures_util::future::join_all(codes.iter().map(|code| give(code))).await;
    let looked_at = fates.iter().filter(|s| **s == 401).count();
    assert!(looked_at <= 6, "{looked_at} codes were looked at");
    // What changes how one signs in asks for the factor, not for the password alone.
    let mut later = ines.clone();
    let (status, listed) = later.ask_get("/me/factors").await;
    assert_eq!(status, 200);
    let id = listed["factors"][0]["id"].as_i64().unwrap();
    let (status, told) = later.ask("DELETE", &format!("/me/factors/{id}"), json!({})).await;
    assert_eq!((status, told["code"].as_str()), (403, Some("factor_needed")));
    assert_eq!(later.ask("POST", "/proof", json!({ "password": PASSWORD })).await.0, 204);
    assert_eq!(later.ask("DELETE", &format!("/me/factors/{id}"), json!({})).await.0, 403);
    // The tries above made it wait; a release ends that, and the next code counts.
    assert_eq!(later.ask("DELETE", "/slowed", json!({})).await.0, 200);
    let proof = json!({ "password": PASSWORD, "code": code_at(&secret, step_now() + 1) });
    assert_eq!(later.ask("POST", "/proof", proof).await.0, 204);
    assert_eq!(later.ask("DELETE", &format!("/me/factors/{id}"), json!({})).await.0, 204);
}

#[tokio::test(flavor = "multi_thread")]
async fn under_a_name_that_is_not_ours_nobody_signs_in_and_tokens_go_on() {
    let dir = tempfile::tempdir().unwrap();
    let set = [("YATTIC_ADDRESSES", "files.lan")];
    let mut service = Service::start_set(&dir.path().join("data"), &[], &set);
    service.set_up().await;
    let mut ines = Console::new(&service);
    assert_eq!(ines.sign_in("ines", PASSWORD).await.0, 200);
    let client = service.client().await;
    let http = reqwest::Client::new();
    let ask = async |path: &str, host: &str, cookie: bool| {
        let call = http.get(format!("{}{path}", service.address)).header("host", host);
        let call = if cookie {
            call.header("cookie", &ines.cookie)
        } else {
            call.bearer_auth(client.token().unwrap())
        };
        call.send().await.unwrap().status().as_u16()
    };
    for (host, with_cookie) in [
        ("127.0.0.1:7460", 200),
        ("localhost", 200),
        ("[::1]:7460", 200),
        ("files.lan", 200),
        ("other.example", 421),
    ] {
        assert_eq!(ask("/api/v1/shelves", host, true).await, with_cookie, "{host}");
        assert_eq!(ask("/api/v1/shelves", host, false).await, 200, "{host}");
        assert_eq!(ask("/healthz", host, true).await, 200, "{host}");
    }
    let body = json!({ "sign_in": "ines", "password": PASSWORD });
    let call = http.post(format!("{}/api/v1/session", service.address)).header("host", "other.example");
    let told: Value =
        call.header("origin", "http://other.example").json(&body).send().await.unwrap().json().await.unwrap();
    assert_eq!(told["code"], "other_address");
    assert!(told["remedy"].as_str().unwrap().contains("addresses"), "{told}");
    // People who come by https get cookies that no other page of the host's can set.
    drop(service);
    let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().to_string();
    let mut child = Command::new(program("yatticd"))
        .args(["serve", "--log", "error", "--listen", &free, "--data"])
        .arg(dir.path().join("data"))
        .env_clear()
        .env("YATTIC_PUBLIC_ADDRESS", "https://files.lan")
        .stdout(std::process::Stdio::null())
        .spawn()
        .unwrap();
    assert!(wait_for(|| TcpStream::connect(&free).is_ok()));
    let call = http.post(format!("http://{free}/api/v1/session")).header("host", "files.lan");
    let answer = call.header("origin", "https://files.lan").json(&body).send().await.unwrap();
    assert_eq!(answer.status(), 200);
    let cookies: Vec<&str> =
        answer.headers().get_all("set-cookie").iter().map(|c| c.to_str().unwrap()).collect();
    assert_eq!(cookies.len(), 2);
    for cookie in cookies {
        assert!(
            cookie.starts_with("__Host-attic_") && cookie.contains("Secure") && cookie.contains("Path=/;"),
            "{cookie}"
        );
    }
    child.kill().unwrap();
    child.wait().unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn names_that_are_too_long_are_not_kept_and_odd_ones_are_made_plain() {
    let (service, owner) = Service::ready().await;
    let http = reqwest::Client::new();
    let long = "n".repeat(100_000);
    let (status, code) = connect(&http, &service.address, &[], &long, "x").await;
    assert_eq!((status, code.as_str()), (400, "sign_in_name_too_long"));
    // What nobody is called may be a password in the wrong field.
    let typed = "my secret password";
    assert_eq!(connect(&http, &service.address, &[], typed, "x").await.0, 401);
    let all = || {
        let read = |name: &str| std::fs::read(service.data.join(name)).unwrap_or_default();
        [read("catalogue.db"), read("catalogue.db-wal")].concat()
    };
    assert!(wait_for(|| memchr::memmem::find(&all(), b"a name that nobody has").is_some()));
    assert!(memchr::memmem::find(&all(), typed.as_bytes()).is_none());
    assert!(memchr::memmem::find(&all(), &long.as_bytes()[..1000]).is_none());
    // Strangers' names: without what is not seen, and without what others take for a separator or a drive.
    let home = owner.place("home:/", None).await.unwrap().node.id;
    let folder = owner.make_folder(home, "Open day").await.unwrap().id;
    let set = api::OpeningSet { can: Some("add".into()), ..Default::default() };
    let new = api::NewOpening { kind: "link".into(), node: folder, ending: None, set };
    let link = owner.make_opening(&new).await.unwrap().address.unwrap();
    let word = |text: &str| base64::engine::general_purpose::STANDARD.encode(text);
    for (sent, kept) in [
        ("C:\\Users\\x.txt", "C__Users_x.txt"),
        ("gpj.\u{202e}exe.txt", "gpj.exe.txt"),
        ("\u{646}\u{645}\u{200c}\u{627}.txt", "\u{646}\u{645}\u{200c}\u{627}.txt"),
        ("a\\b.txt", "a_b.txt"),
    ] {
        let call = http
            .post(format!("{link}/uploads"))
            .header("tus-resumable", "1.0.0")
            .header("upload-length", "1");
        let call = call
            .header("upload-metadata", format!("filename {}", word(sent)))
            .header("content-type", "application/offset+octet-stream");
        let answer = call.body("x").send().await.unwrap();
        assert_eq!(answer.status(), 201, "{sent:?}: {}", answer.text().await.unwrap());
        let there = owner.all_entries(folder, &Default::default()).await.unwrap();
        assert!(
            there.iter().any(|e| e.name == kept),
            "{sent:?}: {:?}",
            there.iter().map(|e| &e.name).collect::<Vec<_>>()
        );
    }
    // A small entry of a tar that is a file of gigabytes: refused, by GNU's way and by that in pax headers.
    let dir = tempfile::tempdir().unwrap();
    let run = |arguments: &[&str]| {
        let done = Command::new(arguments[0]).args(&arguments[1..]).current_dir(dir.path()).output().unwrap();
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    };
    run(&["truncate", "-s", "3G", "holes"]);
    std::fs::write(dir.path().join("plain"), b"plain").unwrap();
    for format in ["gnu", "pax"] {
        run(&["tar", "-S", "--format", format, "-cf", "in.tar", "holes", "plain"]);
        let bytes = std::fs::read(dir.path().join("in.tar")).unwrap();
        assert!(bytes.len() < 100_000);
        let into = owner.make_folder(home, format).await.unwrap().id;
        let call = http.post(format!("{}/api/v1/nodes/{into}/tar", service.address)).body(bytes);
        let said = call.bearer_auth(owner.token().unwrap()).send().await.unwrap().text().await.unwrap();
        assert!(said.contains("holes") && said.contains("\"refused\":1"), "{said}");
        let there = owner.all_entries(into, &Default::default()).await.unwrap();
        assert_eq!(there.iter().map(|e| e.name.as_str()).collect::<Vec<_>>(), ["plain"]);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_strangers_announce_takes_nobodys_room_and_ends_with_the_intake() {
    // A disk of its own: what is free on the machine's changes under other tests.
    let disk = Image::make(Kind::Ext4, 900);
    let mut service = Service::start_in(&disk.at.join("data"));
    service.set_up().await;
    let owner = service.client().await;
    let home = owner.place("home:/", None).await.unwrap().node.id;
    let folder = owner.make_folder(home, "Handed in").await.unwrap().id;
    let set = api::OpeningSet { can: Some("add".into()), ..Default::default() };
    let new = api::NewOpening { kind: "link".into(), node: folder, ending: None, set };
    let made = owner.make_opening(&new).await.unwrap();
    let (id, link) = (made.id, made.address.unwrap());
    let http = reqwest::Client::new();
    let word = |text: &str| base64::engine::general_purpose::STANDARD.encode(text);
    // Each more than half of what is free: two of them, if they were spoken for, would leave no room at all.
    let free = owner.shelves().await.unwrap().disk_free;
    let announced = free / 10 * 6;
    let mut places = Vec::new();
    for n in 0..3 {
        let call = http.post(format!("{link}/uploads")).header("tus-resumable", "1.0.0");
        let call = call.header("upload-length", announced.to_string());
        let call = call.header("upload-metadata", format!("filename {}", word(&format!("film {n}"))));
        let answer = call.send().await.unwrap();
        assert_eq!(answer.status(), 201, "{}", answer.text().await.unwrap());
        places.push(answer.headers()["location"].to_str().unwrap().to_string());
    }
    // So members have theirs; and many announcements of one leave room for others.
    let begin = async |name: &str, tenths: u64| {
        let size = free / 100 * tenths;
        let new = NewUpload {
            parent: home,
            name: name.into(),
            size,
            modified: None,
            blake3: None,
            only_kept: false,
        };
        owner.begin_upload(&new).await
    };
    let first = begin("first", 34).await.unwrap();
    let second = begin("second", 34).await.unwrap();
    assert_eq!(begin("third", 20).await.err().unwrap().code(), Some("too_much_announced"));
    owner.end_upload(&first).await.unwrap();
    owner.end_upload(&second).await.unwrap();
    // A part arrives; whoever made the link sees what is under way, and ends it all.
    let address = format!("{}{}", service.address, places[0].trim_start_matches(&service.address));
    let call = http.patch(&address).header("tus-resumable", "1.0.0").header("upload-offset", "0");
    let call = call.header("content-type", "application/offset+octet-stream").body(vec![7; 3 << 20]);
    assert_eq!(call.send().await.unwrap().status(), 204);
    let shown = owner.opening(id).await.unwrap();
    assert_eq!((shown.coming, shown.coming_bytes), (3, 3 << 20));
    let end = api::OpeningSet { ended: Some(true), ..Default::default() };
    let ended = owner.change_opening(id, &end).await.unwrap();
    assert_eq!((ended.coming, ended.coming_bytes), (0, 0));
    assert!(service.staging_is_clean());
}

/// Asks for a file and reads nothing; what comes once it is read after a while.
fn stand_still(service: &Service, path: &str, token: &str, wait: Duration) -> usize {
    let mut line = TcpStream::connect(service.address.trim_start_matches("http://")).unwrap();
    let ask = format!("GET {path} HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer {token}\r\n\r\n");
    line.write_all(ask.as_bytes()).unwrap();
    std::thread::sleep(wait);
    let mut got = 0;
    let mut piece = vec![0; 1 << 20];
    line.set_read_timeout(Some(PATIENCE)).unwrap();
    loop {
        match line.read(&mut piece) {
            Ok(0) | Err(_) => return got,
            Ok(n) => got += n,
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_reader_that_stands_still_is_cut_and_a_slow_one_is_not() {
    let dir = tempfile::tempdir().unwrap();
    let set = [("YATTIC_READER_PATIENCE", "2")];
    let mut service = Service::start_set(&dir.path().join("data"), &[], &set);
    service.set_up().await;
    let owner = service.client().await;
    let home = owner.place("home:/", None).await.unwrap().node.id;
    const SIZE: usize = 96 << 20;
    let film = owner.put(home, "film", None, &Default::default(), vec![7; SIZE].into()).await.unwrap().id;
    let path = format!("/api/v1/nodes/{film}/content");
    let token = owner.token().unwrap().to_string();
    let service = Arc::new(service);
    let still = {
        let (service, path, token) = (service.clone(), path.clone(), token.clone());
        std::thread::spawn(move || stand_still(&service, &path, &token, Duration::from_secs(6)))
    };
    // A slow one: a little every half second, for longer than the patience.
    let slow = {
        let (service, path, token) = (service.clone(), path.clone(), token.clone());
        std::thread::spawn(move || {
            let mut line = TcpStream::connect(service.address.trim_start_matches("http://")).unwrap();
            let ask = format!(
                "GET {path} HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer {token}\r\nConnection: close\r\n\r\n"
            );
            line.write_all(ask.as_bytes()).unwrap();
            let mut got = 0;
            let mut piece = vec![0; 4 << 20];
            for _ in 0..12 {
                std::thread::sleep(Duration::from_millis(500));
                got += line.read(&mut piece).unwrap();
            }
            loop {
                match line.read(&mut piece).unwrap() {
                    0 => return got,
                    n => got += n,
                }
            }
        })
    };
    // Whoever listens for events waits as long as it takes.
    let http = reqwest::Client::new();
    let mut events =
        http.get(format!("{}/api/v1/events", service.address)).bearer_auth(&token).send().await.unwrap();
    assert!(events.chunk().await.unwrap().is_some());
    assert!(still.join().unwrap() < SIZE, "it was not cut");
    assert!(slow.join().unwrap() > SIZE, "the slow one was cut");
    owner.make_folder(home, "later").await.unwrap();
    assert!(events.chunk().await.unwrap().is_some());
}

#[tokio::test(flavor = "multi_thread")]
async fn the_record_is_proved_by_the_key_that_init_told() {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("data");
    let yatticd = |arguments: &[&str]| {
        let done = Command::new(program("yatticd"))
            .args(arguments)
            .arg("--data")
            .arg(&data)
            .env_clear()
            .output()
            .unwrap();
        (done.status.success(), String::from_utf8_lossy(&[done.stdout, done.stderr].concat()).into_owned())
    };
    let (made, told) = yatticd(&["init", "--accept-unsafe-disk"]);
    assert!(made && told.contains("private"), "{told}");
    let key = told.lines().find_map(|l| l.strip_prefix("Record key    ")).unwrap().to_string();
    // It is told once.
    assert!(!yatticd(&["init", "--accept-unsafe-disk"]).1.contains(&key));
    let mut service = Service::start_in(&data);
    service.set_up().await;
    let owner = service.client().await;
    let home = owner.place("home:/", None).await.unwrap().node.id;
    owner.put(home, "a", None, &Default::default(), b"1".to_vec().into()).await.unwrap();
    let kept = dir.path().join("key");
    std::fs::write(&kept, &key).unwrap();
    let (sound, told) = yatticd(&["check", "--record"]);
    assert!(sound && told.contains("Proved    nothing beside the chain"), "{told}");
    let (sound, told) = yatticd(&["check", "--record", "--record-key", kept.to_str().unwrap()]);
    assert!(sound && told.contains("Proved    rows 1 to "), "{told}");
    let (sound, told) = yatticd(&["check", "--record-key", kept.to_str().unwrap(), "--json"]);
    let told: Value = serde_json::from_str(&told).unwrap();
    assert!(sound && told["record"]["proved_to"] == told["record"]["rows"], "{told}");
}

/// Whether bytes lie anywhere in the catalogue's files.
fn lies_in_the_catalogue(data: &Path, bytes: &[u8]) -> bool {
    ["catalogue.db", "catalogue.db-wal"].iter().any(|name| {
        let file = std::fs::read(data.join(name)).unwrap_or_default();
        file.windows(bytes.len()).any(|w| w == bytes)
    })
}

#[tokio::test(flavor = "multi_thread")]
async fn second_factors_are_sealed_and_without_the_key_a_recovery_code_signs_in() {
    let dir = tempfile::tempdir().unwrap();
    let (data, key) = (dir.path().join("data"), dir.path().join("apart.key"));
    let set = [("YATTIC_SECRETS_KEY", key.to_str().unwrap())];
    let mut service = Service::start_set(&data, &[], &set);
    service.set_up().await;
    let mut ines = Console::new(&service);
    ines.sign_in("ines", PASSWORD).await;
    let (_, begun) = ines.ask("POST", "/me/factors/codes", json!({})).await;
    let secret = begun["secret"].as_str().unwrap().to_string();
    let confirm = json!({ "ticket": begun["ticket"], "code": code_at(&secret, step_now()), "name": "Phone" });
    let (_, made) = ines.ask("POST", "/me/factors/codes/confirm", confirm).await;
    let recovery: Vec<String> = serde_json::from_value(made["codes"].clone()).unwrap();
    let raw = totp_rs::Secret::try_from_base32(&secret).unwrap();
    assert!(!lies_in_the_catalogue(&data, raw.as_bytes()));
    let fit = |what: &str| {
        let done = Command::new(program("yatticd"))
            .args(["key", what, "--data"])
            .arg(&data)
            .env_clear()
            .envs(set)
            .output()
            .unwrap();
        (done.status.code(), String::from_utf8_lossy(&[done.stdout, done.stderr].concat()).into_owned())
    };
    let (status, told) = fit("check");
    assert!(status == Some(0) && told.contains("1 of 1 opened by it"), "{told}");
    let text = std::fs::read_to_string(&key).unwrap();
    assert!(!told.contains(text.trim()) && fit("show").1.contains(text.trim()));

    // The key is away, and the service begins again.
    let away = dir.path().join("away.key");
    std::fs::rename(&key, &away).unwrap();
    let again = |mut service: Service| {
        service.child.kill().unwrap();
        service.child.wait().unwrap();
        Service::start_set(&data, &[], &set)
    };
    let service = again(service);
    let second = async |code: &str| {
        let mut console = Console::new(&service);
        let ticket = console.sign_in("ines", PASSWORD).await.1["ticket"].clone();
        let (status, told) =
            console.ask("POST", "/session/second", json!({ "ticket": ticket, "code": code })).await;
        (status, told["code"].as_str().unwrap_or_default().to_string(), console)
    };
    let (status, code, _) = second(&code_at(&secret, step_now() + 1)).await;
    assert_eq!((status, code.as_str()), (503, "secrets_key_missing"));
    let (status, _, mut ines) = second(&recovery[0]).await;
    assert_eq!(status, 200);
    let told = ines.ask_get("/store").await.1["secrets"].as_str().unwrap_or_default().to_string();
    assert!(told.contains("apart.key is not there"), "{told}");
    assert_eq!(ines.ask("POST", "/me/factors/codes", json!({})).await.0, 503, "nothing is set up unsealed");
    let (status, told) = fit("check");
    assert!(status == Some(1) && told.contains("let-in"), "{told}");
    // Another one is not taken for it.
    std::fs::write(&key, "0".repeat(64)).unwrap();
    let (status, told) = fit("check");
    assert!(status == Some(1) && told.contains("another key"), "{told}");
    assert_eq!(second(&code_at(&secret, step_now() + 1)).await.0, 503);
    // Put back, it counts at once.
    std::fs::rename(&away, &key).unwrap();
    assert_eq!(second(&code_at(&secret, step_now() + 1)).await.0, 200);
    assert_eq!(ines.ask_get("/store").await.1["secrets"], Value::Null);

    // As a version before left it: unsealed. It is sealed at the start, and nothing of it stays.
    let mut service = service;
    service.child.kill().unwrap();
    service.child.wait().unwrap();
    let hex: String = raw.as_bytes().iter().map(|b| format!("{b:02x}")).collect();
    let unseal = || {
        in_the_catalogue(
            &data,
            &format!(
                "UPDATE factors SET secret = x'{hex}', sealed = 0, step = NULL; UPDATE store SET secrets_key = NULL"
            ),
        );
        let _ = std::fs::remove_file(&key);
    };
    unseal();
    assert!(lies_in_the_catalogue(&data, raw.as_bytes()));
    // Stopped at any moment of that, it is done by the next start.
    for round in 0..12u64 {
        if round % 4 == 0 {
            unseal();
        }
        let mut child = Command::new(program("yatticd"))
            .args(["serve", "--listen", "127.0.0.1:0", "--data"])
            .arg(&data)
            .env_clear()
            .envs(set)
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_millis(5 + round * 7));
        child.kill().unwrap();
        child.wait().unwrap();
    }
    let service = Service::start_set(&data, &[], &set);
    assert!(!lies_in_the_catalogue(&data, raw.as_bytes()));
    assert_eq!(fit("check").0, Some(0));
    let mut console = Console::new(&service);
    let ticket = console.sign_in("ines", PASSWORD).await.1["ticket"].clone();
    let code = code_at(&secret, step_now());
    assert_eq!(
        console.ask("POST", "/session/second", json!({ "ticket": ticket, "code": code })).await.0,
        200
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn the_sole_administrator_who_lost_everything_is_let_in_from_the_machine_once() {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("data");
    let mut service = Service::start_in(&data);
    service.set_up().await;
    let mut ines = Console::new(&service);
    ines.sign_in("ines", PASSWORD).await;
    ines.add_codes().await;
    let let_in = |more: &[&str]| {
        let done = Command::new(program("yatticd"))
            .args(["let-in", "--data"])
            .arg(&data)
            .args(more)
            .env_clear()
            .output()
            .unwrap();
        (done.status.success(), String::from_utf8_lossy(&[done.stdout, done.stderr].concat()).into_owned())
    };
    // Not beside a service at work, nor for somebody who is not there.
    assert!(!let_in(&["ines"]).0);
    service.child.kill().unwrap();
    service.child.wait().unwrap();
    let (made, told) = let_in(&["nobody"]);
    assert!(!made && told.contains("no account"), "{told}");
    let (made, told) = let_in(&["ines", "--without-factors"]);
    assert!(made && told.contains("taken away"), "{told}");
    let secret = told.rsplit_once("/welcome#").unwrap().1.trim().to_string();
    let service = Service::start_in(&data);
    let mut console = Console::new(&service);
    let new = "three lamps over water";
    let accept = json!({ "secret": secret, "password": new });
    assert_eq!(console.ask("POST", "/invitation/accept", accept.clone()).await.0, 200);
    assert_eq!(Console::new(&service).sign_in("ines", PASSWORD).await.0, 401);
    assert_eq!(Console::new(&service).sign_in("ines", new).await.0, 200, "and no code is asked for");
    let again = Console::new(&service).ask("POST", "/invitation/accept", accept).await;
    assert_eq!(again.1["code"], "invitation_used");
    // It stands in the record, and cannot be taken for somebody's own doing.
    assert!(lies_in_the_catalogue(&data, b"yatticd let-in"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_browser_that_was_left_alone_is_signed_out_by_a_rule() {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("data");
    let mut service = Service::start_in(&data);
    service.set_up().await;
    let mut ines = Console::new(&service);
    ines.sign_in("ines", PASSWORD).await;
    let rule = json!({ "value": "2", "scope": "service" });
    let (status, told) = ines.ask("PUT", "/rules/browsers-idle-hours", rule).await;
    assert_eq!(status, 200, "{told}");
    let later = |mut service: Service, hours: i64| {
        service.child.kill().unwrap();
        service.child.wait().unwrap();
        let ago = format!("CAST(strftime('%s') AS INTEGER) * 1000 - {hours} * 3600000 - 60000");
        in_the_catalogue(&data, &format!("UPDATE sessions SET made_at = {ago}, used_at = {ago}"));
        Service::start_in(&data)
    };
    let service = later(service, 1);
    ines.address = service.address.clone();
    // What a page asks for by itself is no use; what somebody does is.
    let alone = reqwest::Client::new().get(format!("{}/api/v1/me", ines.address));
    let alone = alone.header("cookie", &ines.cookie).header("attic-unattended", "1");
    assert_eq!(alone.try_clone().unwrap().send().await.unwrap().status(), 200);
    let service = later(service, 2);
    ines.address = service.address.clone();
    let (status, told) = ines.ask_get("/me").await;
    assert_eq!((status, told["code"].as_str()), (401, Some("browser_left_alone")));
    // Coming back does not help: it is over.
    assert_eq!(ines.ask_get("/me").await.0, 401);
    assert_eq!(ines.sign_in("ines", PASSWORD).await.0, 200);
    assert_eq!(ines.ask_get("/me").await.0, 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn made_up_invitations_are_slowed_and_the_right_one_counts_elsewhere() {
    let (service, _dir) = behind_a_proxy(&[]).await;
    let owner = service.client().await;
    let new = api::NewAccount { sign_in: "celia".into(), ..Default::default() };
    owner.make_account(&new).await.unwrap();
    let address = owner.invite("celia").await.unwrap().address;
    let secret = address.split_once('#').unwrap().1.to_string();
    let http = reqwest::Client::new();
    let look = async |from: &str, secret: &str| {
        let call = http.post(format!("{}/api/v1/invitation/look", service.address));
        let call = call.header("x-forwarded-for", from).json(&json!({ "secret": secret }));
        call.send().await.unwrap().status().as_u16()
    };
    let mut last = 0;
    for n in 0..40 {
        last = look("198.51.100.7", &format!("made up {n}")).await;
    }
    assert_eq!(last, 429);
    assert_eq!(look("198.51.100.8", &secret).await, 200);
}

/// Streams over one HTTP/2 connection that ask for one thing: how many were refused as too many, how many bytes came,
/// and whether the connection was ended by the service while it was waited.
fn streams(
    dir: &Path,
    address: &str,
    path: &str,
    token: &str,
    count: usize,
    how: &str,
    secs: u64,
) -> (usize, u64, bool) {
    let done = crate::support::python("h2_streams.py")
        .arg(dir.join("used.pem"))
        .args([address.trim_start_matches("https://"), path, token])
        .args([count.to_string().as_str(), how, secs.to_string().as_str()])
        .output()
        .unwrap();
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let told: serde_json::Value = serde_json::from_slice(&done.stdout).unwrap();
    let number = |key: &str| told[key].as_u64().unwrap();
    (number("refused") as usize, number("bytes"), told["ended"].as_bool().unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn answers_over_http_2_are_counted_and_one_that_stands_still_is_cut() {
    let dir = tempfile::tempdir().unwrap();
    crate::around::certificate(dir.path(), "used");
    let path = |name: &str| dir.path().join(name).to_str().unwrap().to_string();
    let mut plain = Service::start_in(&dir.path().join("data"));
    plain.set_up().await;
    let owner = plain.client().await;
    let home = owner.place("home:/", None).await.unwrap().node.id;
    const SIZE: usize = 8 << 20;
    let film = owner.put(home, "film", None, &Default::default(), vec![7; SIZE].into()).await.unwrap().id;
    let token = owner.token().unwrap().to_string();
    drop(plain);
    let tls = ["--tls-certificate", &path("used.pem"), "--tls-key", &path("used.key")];
    let set = [("YATTIC_READER_PATIENCE", "3")];
    let service = Service::start_set(&dir.path().join("data"), &tls, &set);
    let ask = format!("/api/v1/nodes/{film}/content");
    let run = |count, how: &'static str, secs| {
        let (dir, address, ask, token) =
            (dir.path().to_path_buf(), service.address.clone(), ask.clone(), token.clone());
        std::thread::spawn(move || streams(&dir, &address, &ask, &token, count, how, secs))
    };
    // So many at once, and those beyond are told to wait.
    let (refused, _, _) = run(160, "still", 1).join().unwrap();
    assert_eq!(refused, 60);
    // One that takes nothing is ended; one that takes a little now and then is not, for longer than the patience.
    let (still, slow) = (run(3, "still", 12), run(1, "slow", 8));
    let (still, slow) = (still.join().unwrap(), slow.join().unwrap());
    assert!(still.2, "it was not cut: {still:?}");
    assert!(!slow.2 && slow.1 > 0, "the slow one was cut: {slow:?}");
    // And whoever takes all gets all.
    let (refused, bytes, _) = run(4, "all", 60).join().unwrap();
    assert_eq!((refused, bytes), (0, 4 * SIZE as u64));
}

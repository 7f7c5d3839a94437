//! What one computer shows of itself: its page, what is kept twice, several services, and what goes from pair to pair.

use crate::browser::Browser;
use crate::devices::bound;
use crate::looking_back::sign_in;
use crate::pairs::Computer;
use crate::support::{PASSWORD, Service, Yattic, eventually};
use serde_json::Value;
use std::fs;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::os::unix::fs::PermissionsExt;
use yellow_attic_client::{Client, When};
use yellow_attic_trials::line::Line;

/// The address and the code that open the page, from the file that opens it.
pub fn opener(yattic: &Yattic) -> (String, String, String) {
    let told = yattic.ok(&["sync", "page", "--print", "--json"]);
    let told: Value = serde_json::from_str(&told).unwrap();
    let file = told["file"].as_str().unwrap().to_string();
    let mode = fs::metadata(&file).unwrap().permissions().mode() & 0o777;
    assert_eq!(mode, 0o600, "only this account may read the code");
    let page = fs::read_to_string(&file).unwrap();
    let part = |before: &str| page.split_once(before).unwrap().1.split('"').next().unwrap().to_string();
    (file.clone(), part("action=\"").replace("/enter", ""), part("value=\""))
}

/// Puts a file, with the folder that it is in.
async fn put_at(client: &Client, path: &str, bytes: &[u8]) {
    let (folder, name) = path.rsplit_once('/').unwrap();
    let folder = if folder.ends_with(':') { format!("{folder}/") } else { folder.to_string() };
    let parent = match client.place(&folder, None).await {
        Ok(facts) => facts.node.id,
        Err(_) => {
            let home = client.place("home:/", None).await.unwrap().node.id;
            client.make_folder(home, folder.rsplit('/').next().unwrap()).await.unwrap().id
        }
    };
    client.put(parent, name, None, &When::default(), bytes.to_vec().into()).await.unwrap();
}

/// Names and sizes of what is in a folder.
async fn entries_at(client: &Client, path: &str) -> Vec<(String, i64)> {
    let node = client.place(path, None).await.unwrap().node.id;
    let all = client.all_entries(node, &Default::default()).await.unwrap();
    all.into_iter().map(|node| (node.name, node.size)).collect()
}

/// One request as it is written, and its answer: status, head, body.
fn asked(address: &str, request: &str) -> (u16, String, String) {
    let mut line = TcpStream::connect(address.trim_start_matches("http://")).unwrap();
    line.write_all(request.replace('\n', "\r\n").as_bytes()).unwrap();
    let mut answer = String::new();
    line.read_to_string(&mut answer).unwrap();
    let (head, body) = answer.split_once("\r\n\r\n").unwrap();
    let status = head.split(' ').nth(1).unwrap().parse().unwrap();
    (status, head.to_string(), body.to_string())
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_but_its_account_gets_at_the_page_of_a_computer() {
    let (service, _) = Service::ready().await;
    let mut desk = Computer::new(&service, "DESK");
    let said = desk.yattic.fails(1, &["sync", "page"]);
    assert!(said.contains("not at work") && said.contains("yattic sync install"), "{said}");
    desk.pair("home:/");
    desk.run();
    assert!(eventually(async || desk.yattic.run(&["sync", "page", "--print"]).status.success()).await);
    let (_, address, code) = opener(&desk.yattic);
    let host = address.trim_start_matches("http://").to_string();
    let enter = |code: &str| {
        let body = format!("code={code}");
        format!(
            "POST /enter HTTP/1.1\nHost: {host}\nConnection: close\nOrigin: null\nContent-Type: application/x-www-form-urlencoded\nContent-Length: {}\n\n{body}",
            body.len()
        )
    };
    let get = |more: &str| format!("GET /here/now HTTP/1.1\nHost: {host}\nConnection: close\n{more}\n");
    // Without a cookie, with a made-up one, with a wrong code: nothing.
    assert_eq!(asked(&address, &get("")).0, 403);
    assert_eq!(asked(&address, &get("Cookie: yattic-here=00\n")).0, 403);
    assert_eq!(asked(&address, &enter(&"0".repeat(64))).0, 403);
    let (status, head, _) = asked(&address, &enter(&code));
    assert_eq!(status, 200, "{head}");
    let cookie = head.lines().find_map(|line| line.strip_prefix("set-cookie: ")).unwrap();
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"), "{cookie}");
    let cookie = format!("Cookie: {}\n", cookie.split(';').next().unwrap());
    // A code counts once.
    assert_eq!(asked(&address, &enter(&code)).0, 403);
    let (status, head, body) = asked(&address, &get(&cookie));
    assert_eq!(status, 200);
    assert!(head.contains("no-store") && head.contains("nosniff"), "{head}");
    assert!(body.contains("\"home:/\""), "{body}");
    // A name that leads here is not this page; and another page cannot ask in its name.
    for other in ["localhost:1", "evil.example", &format!("evil.example:{}", host.split(':').nth(1).unwrap())]
    {
        let request = get(&cookie).replacen(&host, other, 1);
        assert_eq!(asked(&address, &request).0, 421, "{other}");
    }
    let pause = |origin: &str| {
        let body = r#"{"paused":true}"#;
        format!(
            "POST /here/pause HTTP/1.1\nHost: {host}\nConnection: close\n{cookie}{origin}Content-Type: application/json\nContent-Length: {}\n\n{body}",
            body.len()
        )
    };
    for origin in ["", "Origin: null\n", "Origin: http://localhost\n", "Origin: https://evil.example\n"] {
        assert_eq!(asked(&address, &pause(origin)).0, 403, "{origin}");
    }
    assert!(!desk.yattic.ok(&["sync", "ls"]).contains("paused"));
    assert_eq!(asked(&address, &pause(&format!("Origin: {address}\n"))).0, 200);
    assert!(desk.yattic.ok(&["sync", "ls"]).contains("paused"));
    // What only the socket may be asked for is not on the page; nor is any file but what is kept twice.
    let post = pause(&format!("Origin: {address}\n"));
    for path in ["/here/code", "/here/look"] {
        assert_ne!(asked(&address, &post.replacen("/here/pause", path, 1)).0, 200, "{path}");
    }
    let status: Value = serde_json::from_str(&desk.yattic.ok(&["sync", "status", "--json"])).unwrap();
    let pair = status[0]["id"].as_str().unwrap().to_string();
    fs::write(desk.at("secret.txt"), b"secret").unwrap();
    for path in ["secret.txt", "../../etc/passwd", "%2e%2e%2fconnection.toml"] {
        let request = get(&cookie).replacen("/here/now", &format!("/here/bytes?pair={pair}&path={path}"), 1);
        assert_eq!(asked(&address, &request).0, 404, "{path}");
    }
    // Another account of this computer gets no answer from the socket, even if its folder were open to it.
    let pairs = desk.yattic.home.path().join("pairs");
    for folder in [desk.yattic.home.path(), &pairs] {
        fs::set_permissions(folder, fs::Permissions::from_mode(0o777)).unwrap();
    }
    fs::set_permissions(pairs.join("socket"), fs::Permissions::from_mode(0o777)).unwrap();
    let as_other = |user: &str| {
        let socket = pairs.join("socket");
        let socket = socket.to_str().unwrap();
        let mut command = std::process::Command::new("setpriv");
        command.args(["--reuid", user, "--clear-groups", "curl", "-s", "-m", "5", "--unix-socket", socket]);
        let done = command.args(["-X", "POST", "http://here/here/code"]).output().unwrap();
        String::from_utf8(done.stdout).unwrap()
    };
    assert!(as_other("0").contains("\"code\""));
    assert_eq!(as_other("65534"), "");
    fs::set_permissions(&pairs, fs::Permissions::from_mode(0o700)).unwrap();
    // Each request fails or is answered, and the page goes on: strangers may send what they like.
    for request in ["\n\n", "GET\n\n", "POST /enter HTTP/1.1\nHost: x\nContent-Length: 99999999999\n\n"] {
        let mut line = TcpStream::connect(host.as_str()).unwrap();
        line.write_all(request.replace('\n', "\r\n").as_bytes()).unwrap();
    }
    assert_eq!(asked(&address, &get(&cookie)).0, 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pair_is_made_and_looked_after_on_the_page_alone() {
    let (service, ines) = Service::ready().await;
    put_at(&ines, "home:/Letters/1.txt", b"dear Edda").await;
    put_at(&ines, "home:/Films/harbour.mov", &[7; 300_000]).await;
    let mut desk = Computer::new(&service, "DESK");
    // It runs before there is any pair.
    desk.run();
    assert!(eventually(async || desk.yattic.run(&["sync", "page", "--print"]).status.success()).await);
    let (file, address, _) = opener(&desk.yattic);
    let browser = Browser::open(1280, 900).await;
    browser.page.goto(&format!("file://{file}")).await.unwrap();
    browser.says("No folder is kept the same yet").await;
    browser.is_accessible("the page without pairs").await;
    browser.press("Keep a folder the same").await;
    browser.says("Which folder of this computer").await;
    // The test's folder lies below another home: it is walked to by its address.
    let folder = desk.folder.path().display().to_string();
    for part in ["Up", "tmp"].iter().chain([&folder.rsplit('/').next().unwrap()]) {
        if *part == "Up" {
            while browser
                .page
                .find(fantoccini::Locator::XPath("//button[normalize-space()='Up']"))
                .await
                .is_ok()
            {
                browser.press("Up").await;
                tokio::time::sleep(std::time::Duration::from_millis(300)).await;
            }
            continue;
        }
        browser.press_in_dialog(part).await;
        tokio::time::sleep(std::time::Duration::from_millis(300)).await;
    }
    browser.says(&folder).await;
    browser.is_accessible("choosing a folder").await;
    browser.press("This one").await;
    browser.says("The same as which folder").await;
    let home = ines.shelves().await.unwrap().shelves.into_iter().find(|s| s.name == "home").unwrap().title;
    browser.press_in_dialog(&home).await;
    browser.says("Letters").await;
    browser.press("This one").await;
    browser.fill("Leave out what is named like", "*.mov").await;
    browser.press("Look first").await;
    browser.says("Left out as chosen").await;
    browser.is_accessible("the preview").await;
    assert!(!desk.at("Letters").exists(), "nothing was changed");
    browser.press("Keep them the same").await;
    assert!(eventually(async || desk.at("Letters/1.txt").exists()).await);
    browser.says("It carries nothing named like *.mov").await;
    assert!(!desk.at("Films/harbour.mov").exists());
    // What two change at once is looked at and settled here.
    desk.yattic.ok(&["sync", "pause"]);
    browser.says("Paused: nothing is carried.").await;
    fs::write(desk.at("Letters/1.txt"), b"dear Edda, from the desk").unwrap();
    put_at(&ines, "home:/Letters/1.txt", b"dear Edda, from elsewhere").await;
    browser.press("Go on").await;
    browser.says("Kept twice").await;
    browser.press("Look and choose").await;
    browser.says("dear Edda, from the desk").await;
    browser.says("dear Edda, from elsewhere").await;
    browser.is_accessible("two sides of one file").await;
    browser.press("Keep the copy").await;
    browser.says_no_more("Kept twice").await;
    let settled =
        async || fs::read(desk.at("Letters/1.txt")).unwrap_or_default() == b"dear Edda, from the desk";
    assert!(eventually(settled).await);
    let there = async || entries_at(&ines, "home:/Letters").await == vec![("1.txt".to_string(), 24)];
    assert!(eventually(there).await, "{:?}", entries_at(&ines, "home:/Letters").await);
    // Limits, and the end of the pair.
    browser.press("Change").await;
    browser.is_accessible("the page with a pair").await;
    browser.page.goto(&address).await.unwrap();
    browser.says("As fast as it goes").await;
    browser.close().await;
    desk.yattic.ok(&["sync", "end", "1", "--yes"]);
    assert!(desk.yattic.ok(&["sync", "ls"]).contains("no pair") && desk.at("Letters/1.txt").exists());
    fs::write(desk.at("later.txt"), b"later").unwrap();
    tokio::time::sleep(std::time::Duration::from_secs(2)).await;
    assert!(ines.place("home:/later.txt", None).await.is_err(), "an ended pair carries nothing");
    // One that is added while it runs begins at once.
    desk.pair("home:/");
    assert!(eventually(async || ines.place("home:/later.txt", None).await.is_ok()).await);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_kept_twice_is_settled_from_any_computer() {
    let (service, ines) = Service::ready().await;
    let (mut desk, mut laptop) = (Computer::new(&service, "DESK"), Computer::new(&service, "LAPTOP"));
    for name in ["a.txt", "b.txt", "c.txt"] {
        put_at(&ines, &format!("home:/{name}"), b"first").await;
    }
    for computer in [&desk, &laptop] {
        computer.pair("home:/");
        computer.once();
    }
    for name in ["a.txt", "b.txt", "c.txt"] {
        fs::write(desk.at(name), format!("{name} at the desk")).unwrap();
        put_at(&ines, &format!("home:/{name}"), format!("{name} elsewhere").as_bytes()).await;
    }
    desk.run();
    laptop.run();
    let copies = async |computer: &Computer| -> Vec<Value> {
        serde_json::from_str(&computer.yattic.ok(&["sync", "conflicts", "--json"])).unwrap()
    };
    assert!(eventually(async || copies(&laptop).await.len() == 3).await);
    let of = |all: &[Value], name: &str| {
        let is_it = |twice: &&Value| twice["original"]["path"] == name;
        all.iter().find(is_it).unwrap()["copy"]["local"].as_str().unwrap().to_string()
    };
    let all = copies(&laptop).await;
    let said =
        laptop.yattic.fails(2, &["sync", "settle", laptop.at("a.txt").to_str().unwrap(), "--keep", "copy"]);
    assert!(said.contains("is no copy") && said.contains("yattic sync conflicts"), "{said}");
    laptop.yattic.ok(&["sync", "settle", &of(&all, "a.txt"), "--keep", "copy"]);
    laptop.yattic.ok(&["sync", "settle", &of(&all, "b.txt"), "--keep", "original"]);
    laptop.yattic.ok(&["sync", "settle", &of(&all, "c.txt"), "--keep", "both"]);
    let wanted = [
        ("a.txt", "a.txt at the desk"),
        ("b.txt", "b.txt elsewhere"),
        ("c 2.txt", "c.txt at the desk"),
        ("c.txt", "c.txt elsewhere"),
    ];
    let is_settled = async |computer: &Computer| {
        let tree = computer.tree();
        tree.len() == 4
            && wanted.iter().all(|(name, text)| {
                tree.get(*name)
                    .is_some_and(|is| is.as_ref().is_some_and(|(bytes, _)| bytes == text.as_bytes()))
            })
    };
    for computer in [&desk, &laptop] {
        assert!(eventually(async || is_settled(computer).await).await, "{:?}", computer.tree().keys());
        assert!(eventually(async || copies(computer).await.is_empty()).await);
    }
    // Both states that somebody saved are still to be had.
    assert_eq!(
        ines.history(ines.place("home:/a.txt", None).await.unwrap().node.id).await.unwrap().states.len(),
        3
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn one_computer_keeps_folders_of_two_services_the_same() {
    let (one, ines) = Service::ready().await;
    let (two, other) = Service::ready().await;
    let mut desk = Computer::new(&one, "DESK");
    desk.pair("home:/");
    desk.yattic.connect_as(&two, "DESK");
    let said = desk.yattic.ok(&["connect"]);
    assert!(said.starts_with(&format!("{}  as ines   (commands mean this one)", two.address)), "{said}");
    assert!(said.contains(&one.address), "{said}");
    let second = tempfile::tempdir().unwrap();
    desk.yattic.ok(&["sync", "add", second.path().to_str().unwrap(), "home:/"]);
    fs::write(desk.at("one.txt"), b"one").unwrap();
    fs::write(second.path().join("two.txt"), b"two").unwrap();
    desk.run();
    assert!(eventually(async || ines.place("home:/one.txt", None).await.is_ok()).await);
    assert!(eventually(async || other.place("home:/two.txt", None).await.is_ok()).await);
    assert!(
        ines.place("home:/two.txt", None).await.is_err() && other.place("home:/one.txt", None).await.is_err()
    );
    // Commands turn to the other without a new sign-in.
    assert!(desk.yattic.ok(&["connect", &one.address]).contains("already"));
    assert!(desk.yattic.ok(&["ls", "home:/"]).contains("one.txt"));
    // One of them goes: its pair says why it stands still, and the other's goes on.
    desk.yattic.ok(&["disconnect", &two.address]);
    assert!(!desk.yattic.ok(&["connect"]).contains(&two.address));
    let told = async |words: &str| desk.yattic.ok(&["sync", "status", "--once"]).contains(words);
    assert!(eventually(async || told("lets this computer in no more").await).await);
    fs::write(desk.at("more.txt"), b"more").unwrap();
    assert!(eventually(async || ines.place("home:/more.txt", None).await.is_ok()).await);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_moves_from_pair_to_pair_is_never_gone_on_both() {
    let (service, ines) = Service::ready().await;
    let mut desk = Computer::new(&service, "DESK");
    let second = tempfile::tempdir().unwrap();
    put_at(&ines, "home:/A/film.mov", &vec![5; 6_000_000]).await;
    put_at(&ines, "home:/A/stays.txt", b"stays").await;
    put_at(&ines, "home:/B/other.txt", b"other").await;
    desk.pair("home:/A");
    desk.yattic.ok(&["sync", "add", second.path().to_str().unwrap(), "home:/B"]);
    desk.once();
    desk.yattic.ok(&["sync", "limits", "--up", "1MiB"]);
    desk.run();
    let same = async || desk.yattic.ok(&["sync", "ls"]).matches("the same").count() == 2;
    assert!(eventually(same).await);
    fs::rename(desk.at("film.mov"), second.path().join("film.mov")).unwrap();
    // Six seconds long it is sent; all that time the service has it where it was.
    let there = async |place: &str| ines.place(place, None).await.is_ok();
    loop {
        let (before, after) = (there("home:/A/film.mov").await, there("home:/B/film.mov").await);
        if after {
            break;
        }
        assert!(before || there("home:/B/film.mov").await, "for a while the service had it nowhere");
        tokio::time::sleep(std::time::Duration::from_millis(200)).await;
    }
    // What waited is looked at again each minute.
    assert!(eventually(async || !there("home:/A/film.mov").await).await);
    assert!(there("home:/A/stays.txt").await && second.path().join("other.txt").exists());
}

/// How many bytes a pair has moved over the line since it began to run.
fn moved(yattic: &Yattic) -> u64 {
    let told: Value = serde_json::from_str(&yattic.ok(&["sync", "status", "--json"])).unwrap();
    told[0]["moved"].as_u64().unwrap()
}

fn noise(seed: u64, length: usize) -> Vec<u8> {
    let mut bytes = vec![0; length];
    blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof().fill(&mut bytes);
    bytes
}

#[tokio::test(flavor = "multi_thread")]
async fn of_a_large_file_only_what_differs_goes_over_the_line_even_if_it_breaks() {
    let (service, ines) = Service::ready().await;
    let mut desk = Computer::new(&service, "DESK");
    let line = Line::to(&service.address, || None);
    let mut laptop = Computer::new(&service, "LAPTOP");
    laptop.yattic.connect_to(&line.address);
    let mut film = noise(1, 64 << 20);
    fs::write(desk.at("film.mov"), &film).unwrap();
    for computer in [&desk, &laptop] {
        computer.pair("home:/");
        computer.once();
    }
    assert!(fs::read(laptop.at("film.mov")).unwrap() == film);
    desk.run();
    laptop.run();
    let same = async || [&desk, &laptop].iter().all(|c| c.yattic.ok(&["sync", "ls"]).contains("the same"));
    assert!(eventually(same).await);
    // A part of it is changed in place, and some is put in before.
    let changed = noise(2, 700_000);
    film.splice(30_000_000..30_400_000, changed);
    film.splice(0..0, *b"a title");
    fs::write(desk.at("film.mov"), &film).unwrap();
    fs::set_permissions(desk.at("film.mov"), fs::Permissions::from_mode(0o755)).unwrap();
    let has = async || fs::read(laptop.at("film.mov")).unwrap_or_default() == film;
    assert!(eventually(has).await);
    // What was moved is told a moment later.
    for computer in [&desk, &laptop] {
        let little = async || (700_000..3_000_000).contains(&moved(&computer.yattic));
        assert!(eventually(little).await, "moved {} bytes", moved(&computer.yattic));
    }
    assert_eq!(fs::metadata(laptop.at("film.mov")).unwrap().permissions().mode() & 0o100, 0o100);
    let node = ines.place("home:/film.mov", None).await.unwrap().node;
    assert!(node.executable);
    assert_eq!(ines.history(node.id).await.unwrap().states.len(), 2);
    // The same over lines that break after some bytes: nothing wrong comes of it, and what arrived is kept.
    laptop.yattic.ok(&["sync", "limits", "--down", "1MiB"]);
    film.splice(10_000_000..10_000_100, noise(3, 2_500_000));
    film.truncate(60 << 20);
    fs::write(desk.at("film.mov"), &film).unwrap();
    for _ in 0..8 {
        tokio::time::sleep(std::time::Duration::from_millis(500)).await;
        line.cut_all();
    }
    assert!(eventually(async || fs::read(laptop.at("film.mov")).unwrap_or_default() == film).await);
    let down = moved(&laptop.yattic);
    assert!(down < 40_000_000, "fetched {down} bytes over a line that breaks");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_link_wanted_from_a_device_is_decided_on_in_the_browser() {
    let (service, ines) = Service::ready().await;
    put_at(&ines, "home:/Letters/to Edda.txt", b"dear Edda").await;
    let yattic = Yattic::new();
    // As after a code that was typed in the browser: no password was given here.
    let token = bound(&service, "ines", PASSWORD, &[], false).await;
    let known = format!("address = \"{}\"\nsign_in = \"ines\"\ntoken = \"{token}\"\n", service.address);
    fs::write(yattic.home.path().join("connection.toml"), known).unwrap();
    // Where there is no screen, the address is told.
    let said =
        yattic.fails(1, &["link", "new", "home:/Letters/to Edda.txt", "--can", "view", "--title", "A & B"]);
    assert!(said.contains("nothing was given out yet"), "{said}");
    let address = said.split_whitespace().find(|word| word.starts_with("http://")).unwrap().to_string();
    assert!(address.contains("give=link") && address.contains("title=A%20%26%20B"), "{address}");
    assert!(openings(&ines).await == 0);
    // Where there is one, it is opened.
    let tools = tempfile::tempdir().unwrap();
    let opens = tools.path().join("xdg-open");
    fs::write(&opens, format!("#!/bin/sh\nprintf '%s' \"$1\" > {}/opened\n", tools.path().display()))
        .unwrap();
    fs::set_permissions(&opens, fs::Permissions::from_mode(0o755)).unwrap();
    let mut command = yattic.command(&["share", "home:/Letters", "--with", "everyone", "--can", "view"]);
    let path = format!("{}:/usr/bin:/bin", tools.path().display());
    let done = command.env("PATH", path).env("DISPLAY", ":0").output().unwrap();
    assert_eq!(done.status.code(), Some(1));
    let opened = fs::read_to_string(tools.path().join("opened")).unwrap();
    assert!(opened.contains("give=access") && opened.contains("to=everyone"), "{opened}");
    // In the console both dialogs are filled in, and nothing is done before somebody does it.
    let browser = sign_in(&service).await;
    browser.page.goto(&address).await.unwrap();
    browser.says("New link to \"to Edda.txt\"").await;
    let value = browser.find("input[value='A & B']").await;
    assert_eq!(value.prop("value").await.unwrap().as_deref(), Some("A & B"));
    browser.is_accessible("a link that was asked for").await;
    assert!(openings(&ines).await == 0);
    browser.press("Make the link").await;
    assert!(eventually(async || openings(&ines).await == 1).await);
    browser.page.goto(&opened).await.unwrap();
    browser.says("Access to \"Letters\"").await;
    let to = browser.find("input[value='everyone']").await;
    assert_eq!(to.prop("value").await.unwrap().as_deref(), Some("everyone"));
    browser.close().await;
}

async fn openings(client: &Client) -> usize {
    client.openings(&Default::default()).await.unwrap().openings.len()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_shelf_that_is_closed_to_pairs_stays_as_it_lies_and_opens_again() {
    let (service, ines) = Service::ready().await;
    put_at(&ines, "home:/list.txt", b"first").await;
    let mut desk = Computer::new(&service, "DESK");
    desk.pair("home:/");
    desk.run();
    assert!(eventually(async || desk.at("list.txt").exists()).await);
    let rule = |value: &str| ["rule", "set", "sync-closed", value].map(String::from);
    let set = |value: &str| {
        let words = rule(value);
        desk.yattic.ok(&words.iter().map(String::as_str).chain(["--yes"]).collect::<Vec<_>>())
    };
    set("on");
    put_at(&ines, "home:/list.txt", b"second").await;
    let told = async || desk.yattic.ok(&["sync", "status", "--once"]);
    assert!(
        eventually(async || told().await.contains("not kept the same on computers")).await,
        "{}",
        told().await
    );
    fs::write(desk.at("more.txt"), b"more").unwrap();
    tokio::time::sleep(std::time::Duration::from_secs(3)).await;
    assert_eq!(fs::read(desk.at("list.txt")).unwrap(), b"first", "what lies here stays");
    assert!(ines.place("home:/more.txt", None).await.is_err(), "and nothing is carried");
    // Single commands go on.
    assert!(desk.yattic.ok(&["ls", "home:/"]).contains("list.txt"));
    let code = ines.changes(ines.place("home:/", None).await.unwrap().node.id, &Default::default()).await;
    assert_eq!(code.err().and_then(|e| e.code().map(String::from)).as_deref(), Some("shelf_not_synced"));
    set("off");
    assert!(eventually(async || fs::read(desk.at("list.txt")).unwrap() == b"second").await);
    assert!(eventually(async || ines.place("home:/more.txt", None).await.is_ok()).await);
}

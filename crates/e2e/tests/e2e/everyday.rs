//! The console all day long: pages that stay true, transfers that go on, texts, many at once.

use crate::browser::Browser;
use crate::console::{row, upload};
use crate::support::{PASSWORD, Service, python, wait_for};
use fantoccini::key::Key;
use serde_json::json;
use std::fs;
use std::process::Command;
use std::time::Duration;
use yellow_attic_client::{Client, api};
use yellow_attic_trials::line::Line;

/// A browser with Ines signed in, at an address of the service.
pub async fn signed_in(address: &str) -> Browser {
    let browser = Browser::open(1280, 947).await;
    browser.page.goto(address).await.unwrap();
    browser.fill("Sign-in name", "ines").await;
    browser.fill("Password", PASSWORD).await;
    browser.press("Sign in").await;
    browser.says("yours alone").await;
    browser
}

async fn home(client: &Client) -> i64 {
    client.place("home:/", None).await.unwrap().node.id
}

async fn put(client: &Client, parent: i64, name: &str, bytes: &[u8]) -> yellow_attic_client::api::Node {
    client.put(parent, name, None, &Default::default(), bytes.to_vec().into()).await.unwrap()
}

async fn keys(browser: &Browser, keys: &str) {
    browser.page.active_element().await.unwrap().send_keys(keys).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_follows_changes_of_others_and_a_line_that_breaks_and_comes_back() {
    let (service, client) = Service::ready().await;
    let home = home(&client).await;
    let line = Line::to(&service.address, || None);
    let browser = signed_in(&line.address).await;
    browser.page.goto(&format!("{}/shelf/home", line.address)).await.unwrap();
    browser.says("Nothing is in this folder").await;
    let folder = client.make_folder(home, "Made elsewhere").await.unwrap();
    row(&browser, "Made elsewhere").await;
    let file = put(&client, home, "Put elsewhere.txt", b"x").await;
    row(&browser, "Put elsewhere.txt").await;
    // Moved out of the folder in sight, renamed, removed: the page says so each time.
    let target = yellow_attic_client::api::Target { parent: Some(folder.id), ..Default::default() };
    client.change(file.id, &target).await.unwrap();
    browser.says_no_more("Put elsewhere.txt").await;
    browser.says("1 file").await;
    let target = yellow_attic_client::api::Target { name: Some("Renamed".into()), ..Default::default() };
    client.change(folder.id, &target).await.unwrap();
    row(&browser, "Renamed").await;
    browser.says_no_more("Made elsewhere").await;

    // The line breaks; what happens meanwhile is there when it is back, without a reload.
    line.lead_to("http://127.0.0.1:9");
    line.cut_all();
    browser.says("The service cannot be reached").await;
    browser.is_accessible("offline").await;
    put(&client, home, "Meanwhile.txt", b"x").await;
    line.lead_to(&service.address);
    row(&browser, "Meanwhile.txt").await;
    browser.says_no_more("The service cannot be reached").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_upload_begun_before_is_shown_and_goes_on_when_the_file_is_chosen_again() {
    let (service, client) = Service::ready().await;
    let home = home(&client).await;
    let dir = tempfile::tempdir().unwrap();
    // Two files of one size and time. What was begun of the first is its own bytes; of the second, others'.
    let own: Vec<u8> = [vec![b'1'; 5_000_000], vec![b'2'; 7_000_000]].concat();
    let other = vec![b'3'; 12_000_000];
    let moment = std::time::UNIX_EPOCH + Duration::from_millis(1_790_000_000_123);
    for (name, bytes) in [("film.raw", &own), ("other.raw", &other)] {
        fs::write(dir.path().join(name), bytes).unwrap();
        let file = fs::File::options().write(true).open(dir.path().join(name)).unwrap();
        file.set_modified(moment).unwrap();
    }
    let browser = signed_in(&service.address).await;
    let hash = blake3::hash(&own).to_hex().to_string();
    for name in ["film.raw", "other.raw"] {
        let began = browser
            .page
            .execute_async(
                "const done = arguments[arguments.length - 1]; const b = (t) => btoa(t);
                 fetch('/api/v1/uploads', { method: 'POST', headers: { 'Tus-Resumable': '1.0.0', 'Upload-Length': '12000000',
                   'Upload-Metadata': `parent ${b(String(arguments[0]))},filename ${b(arguments[1])},modified ${b('2026-09-21T14:13:20.123Z')},blake3 ${b(arguments[2])}`,
                   'Content-Type': 'application/offset+octet-stream' }, body: '1'.repeat(5000000) })
                 .then((r) => done(r.status), (e) => done(String(e)))",
                vec![json!(home), json!(name), json!(hash)],
            )
            .await
            .unwrap();
        assert_eq!(began, 201);
    }
    browser.page.goto(&format!("{}/shelf/home", service.address)).await.unwrap();
    browser.says("2 uploads not finished").await;
    browser.says("41 %").await;
    browser.is_accessible("an unfinished upload").await;
    for (name, bytes, fewest, most) in
        [("film.raw", own, 6_000_000, 8_000_000), ("other.raw", other, 11_000_000, 13_000_000)]
    {
        let before = service.received().await;
        upload(&browser, &dir.path().join(name)).await;
        row(&browser, name).await;
        let put = service.data.join("shelves/main/home/ines").join(name);
        assert!(
            crate::support::wait_for(|| fs::read(&put).is_ok_and(|there| there == bytes)),
            "{name} has other bytes"
        );
        let sent = service.received().await - before;
        assert!((fewest..most).contains(&sent), "{name}: {sent} bytes were sent");
    }
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn many_files_go_up_with_one_question_for_all_names_that_are_taken() {
    let (service, client) = Service::ready().await;
    let home = home(&client).await;
    for name in ["a.txt", "b.txt"] {
        put(&client, home, name, b"old").await;
    }
    let dir = tempfile::tempdir().unwrap();
    for i in 0..60 {
        fs::write(dir.path().join(format!("n{i}.txt")), vec![b'n'; i * 50]).unwrap();
    }
    for name in ["a.txt", "b.txt"] {
        fs::write(dir.path().join(name), b"new").unwrap();
    }
    let all: Vec<String> =
        fs::read_dir(dir.path()).unwrap().map(|e| e.unwrap().path().to_str().unwrap().to_string()).collect();
    let browser = signed_in(&service.address).await;
    browser.page.goto(&format!("{}/shelf/home", service.address)).await.unwrap();
    row(&browser, "a.txt").await;
    browser.find("input[data-testid=picker]").await.send_keys(&all.join("\n")).await.unwrap();
    browser.says("2 files are there already").await;
    browser.press("Keep both").await;
    browser.says("62 files sent").await;
    row(&browser, "a (2).txt").await;
    let names = client.all_entries(home, &Default::default()).await.unwrap();
    assert_eq!(names.len(), 64);
    assert_eq!(fs::read(service.data.join("shelves/main/home/ines/a.txt")).unwrap(), b"old");
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_text_is_edited_and_never_covers_anothers_change_unseen() {
    let (service, client) = Service::ready().await;
    let home = home(&client).await;
    let notes = put(&client, home, "notes.md", b"The lamp is lit.\n").await;
    let browser = signed_in(&service.address).await;
    browser.page.goto(&format!("{}/shelf/home", service.address)).await.unwrap();
    let css = row(&browser, "notes.md").await;
    browser.click(&css).await;
    browser.press("Edit").await;
    browser.find("[role=dialog] .cm-content[contenteditable=true]").await;
    browser.is_accessible("the editor").await;
    let text = browser.find("[role=dialog] .cm-content").await;
    text.send_keys("Mine. ").await.unwrap();
    browser.says("Not saved yet").await;
    put(&client, home, "notes.md", b"The lamp is out.\n").await;
    browser.press("Save").await;
    browser.says("was changed meanwhile").await;
    browser.says("scanner room").await;
    browser.is_accessible("a conflict of texts").await;
    let present = client.facts(notes.id).await.unwrap().node;
    assert_eq!(present.size, 17, "nothing was covered");
    browser.press("Go on writing").await;
    browser.press("Save").await;
    browser.says("was changed meanwhile").await;
    browser.press("Save mine over it").await;
    browser.says("Saved \"notes.md\"").await;
    assert!(wait_for(|| fs::read(service.data.join("shelves/main/home/ines/notes.md"))
        .is_ok_and(|b| b == b"Mine. The lamp is lit.\n")));
    assert_eq!(client.history(notes.id).await.unwrap().states.len(), 3);
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn several_things_are_moved_by_dragging_and_fetched_as_one_zip() {
    let (service, client) = Service::ready().await;
    let home = home(&client).await;
    let folder = client.make_folder(home, "Box").await.unwrap();
    put(&client, folder.id, "inside.txt", b"inside").await;
    for name in ["a.txt", "b.txt", "c.txt"] {
        put(&client, home, name, name.as_bytes()).await;
    }
    let browser = signed_in(&service.address).await;
    browser.page.goto(&format!("{}/shelf/home", service.address)).await.unwrap();
    row(&browser, "c.txt").await;
    // All, by key; then as one archive.
    browser.click(&row(&browser, "Box").await).await;
    browser.find("[data-testid=list]").await.send_keys(&format!("{}{}", Key::Control, "a")).await.unwrap();
    browser.says("4 selected").await;
    browser.press("Download 4 as ZIP").await;
    let zip = || {
        fs::read_dir(browser.downloads.path())
            .unwrap()
            .flatten()
            .map(|e| e.path())
            .find(|p| p.extension().is_some_and(|e| e == "zip"))
    };
    assert!(wait_for(|| zip().is_some_and(|z| Command::new("unzip")
        .arg("-tq")
        .arg(z)
        .status()
        .unwrap()
        .success())));
    let listed = Command::new("unzip").arg("-Z1").arg(zip().unwrap()).output().unwrap();
    let mut listed: Vec<_> = String::from_utf8(listed.stdout).unwrap().lines().map(str::to_string).collect();
    listed.sort();
    assert_eq!(listed, ["Box/", "Box/inside.txt", "a.txt", "b.txt", "c.txt"]);

    // Two of them, dragged onto the folder.
    browser.find("[data-testid=list]").await.send_keys(&Key::Escape.to_string()).await.unwrap();
    let drag = "const [from, to] = arguments; const data = new DataTransfer();
        const send = (css, kind) => document.querySelector(css).dispatchEvent(
          new DragEvent(kind, { bubbles: true, cancelable: true, dataTransfer: data }));
        send(from, 'dragstart'); send(to, 'dragover'); send(to, 'drop');";
    browser.click(&row(&browser, "a.txt").await).await;
    browser
        .find("[data-testid=list]")
        .await
        .send_keys(&format!("{}{}", Key::Shift, Key::Down))
        .await
        .unwrap();
    browser.says("2 selected").await;
    browser.page.execute(drag, vec![json!("[data-name='a.txt']"), json!("[data-name='Box']")]).await.unwrap();
    browser.says("Moved 2 things to \"Box\"").await;
    let inside = client.all_entries(folder.id, &Default::default()).await.unwrap();
    assert_eq!(inside.len(), 3);
    browser.press("Undo").await;
    row(&browser, "a.txt").await;
    assert_eq!(client.all_entries(folder.id, &Default::default()).await.unwrap().len(), 1);
    // Held above a folder, it opens.
    browser.page.execute("const data = new DataTransfer(); const send = (css, kind) => document.querySelector(css).dispatchEvent(
          new DragEvent(kind, { bubbles: true, cancelable: true, dataTransfer: data }));
        send(\"[data-name='c.txt']\", 'dragstart'); send(\"[data-name='Box']\", 'dragover');", vec![]).await.unwrap();
    row(&browser, "inside.txt").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_palette_finds_and_goes_anywhere_and_devices_are_disconnected() {
    let (service, client) = Service::ready().await;
    let home = home(&client).await;
    let folder = client.make_folder(home, "Deep").await.unwrap();
    put(&client, folder.id, "lighthouse keeper.txt", b"Ada").await;
    let browser = signed_in(&service.address).await;
    keys(&browser, &format!("{}k", Key::Control)).await;
    browser.find("[cmdk-input]").await;
    browser.is_accessible("the palette").await;
    keys(&browser, "KEEPER").await;
    browser.says("lighthouse keeper.txt").await;
    browser.is_accessible("the palette with something found").await;
    keys(&browser, &Key::Enter.to_string()).await;
    let found = row(&browser, "lighthouse keeper.txt").await;
    browser.find(&format!("{found}[aria-selected=true]")).await;
    // Within the folder.
    let field = browser.find("input[type=search]").await;
    field.send_keys("nothing like it").await.unwrap();
    browser.says("Nothing in here has").await;
    field.send_keys(&Key::Escape.to_string()).await.unwrap();
    row(&browser, "lighthouse keeper.txt").await;
    browser.page.goto(&format!("{}/recent", service.address)).await.unwrap();
    browser.says("home:/Deep").await;
    browser.is_accessible("changed lately").await;

    browser.page.goto(&format!("{}/devices", service.address)).await.unwrap();
    browser.says("scanner room").await;
    browser.says("last used just now from 127.0.0.1").await;
    browser.is_accessible("devices").await;
    browser.press("Disconnect scanner room").await;
    browser.says("Its transfers stop at once").await;
    browser.press("Disconnect").await;
    browser.says("No device is connected").await;
    assert_eq!(client.shelves().await.unwrap_err().code(), Some("not_signed_in"));
    // A computer shows a code; it is bound to a folder, and reads only.
    let nobody = Client::new(&service.address, None).unwrap();
    let new = api::NewConnection { device: "harbour laptop".into(), program: "yattic".into() };
    let asked = nobody.begin_connection(&new).await.unwrap();
    browser.press("Connect a computer").await;
    browser.says("Code on the computer").await;
    browser.is_accessible("a computer's code").await;
    browser.fill("Code on the computer", "bbbbbbbb").await;
    browser.press("Go on").await;
    browser.says("No computer waits under this code").await;
    browser.fill("Code on the computer", &asked.user_code).await;
    browser.press("Go on").await;
    browser.says("harbour laptop").await;
    browser.says("127.0.0.1").await;
    browser.click("input[type=radio]:not(:checked)").await;
    browser.press("Choose a folder").await;
    browser.press_in_dialog("Home").await;
    browser.press_in_dialog("Deep").await;
    browser.press_in_dialog("This folder").await;
    browser.says("home:/Deep").await;
    browser.click("input[type=checkbox]").await;
    browser.is_accessible("what a computer may reach").await;
    browser.press("Connect it").await;
    browser.says("is let in").await;
    let token = nobody.collect_connection(&asked.device_code).await.unwrap().token;
    let its = Client::new(&service.address, Some(&token)).unwrap();
    assert_eq!(its.place("given:/Deep", None).await.unwrap().level, "view");
    browser.says("only reads").await;
    browser.is_accessible("devices with their reach").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn tables_sound_and_damaged_pictures_are_looked_at() {
    let (service, client) = Service::ready().await;
    let home = home(&client).await;
    let mut table = String::from("number,thing,year\n");
    for i in 0..20_000 {
        table.push_str(&format!("L{i:05},\"lamp, brass\",{}\n", 1850 + i % 100));
    }
    put(&client, home, "inventory.csv", table.as_bytes()).await;
    put(&client, home, "fog.wav", &yellow_attic_demo::files::signal_wav("fog", 20)).await;
    put(&client, home, "broken.png", b"\x89PNG\r\n\x1a\n nothing more").await;
    let browser = signed_in(&service.address).await;
    browser.page.goto(&format!("{}/shelf/home", service.address)).await.unwrap();
    let look = async |name: &str| {
        browser.click(&row(&browser, name).await).await;
        browser.press("Look").await;
    };
    look("inventory.csv").await;
    browser.says("lamp, brass").await;
    browser.is_accessible("a table").await;
    let rows = "return document.querySelectorAll('[role=table] [role=row]').length";
    let drawn = browser.page.execute(rows, vec![]).await.unwrap().as_i64().unwrap();
    assert!((10..100).contains(&drawn), "{drawn} rows are drawn");
    browser
        .page
        .execute("const t = document.querySelector('[role=table]'); t.scrollTop = t.scrollHeight", vec![])
        .await
        .unwrap();
    browser.says("L19999").await;
    browser.press("Close").await;

    look("fog.wav").await;
    browser.find("audio").await;
    let seek = "const done = arguments[arguments.length - 1]; const a = document.querySelector('audio');
        const go = () => { a.onseeked = () => done(a.currentTime); a.currentTime = 10; };
        if (a.readyState > 0) go(); else { a.onloadedmetadata = go; a.load(); } a.onerror = () => done('failed');";
    let at = browser.page.execute_async(seek, vec![]).await.unwrap();
    assert_eq!(at.as_f64(), Some(10.0), "{at}");
    browser.is_accessible("sound").await;
    browser.press("Close").await;

    look("broken.png").await;
    browser.says("This picture cannot be drawn").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dropped_folder_goes_up_whole_and_dropped_again_sends_only_what_is_not_there() {
    let (service, client) = Service::ready().await;
    let dir = tempfile::tempdir().unwrap();
    let season = dir.path().join("Season");
    for i in 0..40 {
        let folder = season.join(format!("box {}", i % 4));
        fs::create_dir_all(&folder).unwrap();
        fs::write(folder.join(format!("sheet {i}.txt")), format!("sheet {i}")).unwrap();
    }
    // A name that other systems keep for themselves, and an empty folder.
    fs::create_dir_all(season.join("CON")).unwrap();
    fs::write(season.join("CON/aux.txt"), b"one").unwrap();
    fs::create_dir_all(season.join("empty")).unwrap();
    let browser = signed_in(&service.address).await;
    let page = format!("{}/shelf/home", service.address);
    browser.page.goto(&page).await.unwrap();
    browser.says("Nothing is in this folder").await;
    browser.drop_on(600, 500, &[&season]).await;
    browser.says("41 files sent").await;
    let there = service.data.join("shelves/main/home/ines/Season");
    assert_eq!(fs::read(there.join("box 3/sheet 7.txt")).unwrap(), b"sheet 7");
    assert_eq!(fs::read(there.join("CON/aux.txt")).unwrap(), b"one");
    assert!(there.join("empty").is_dir());

    // The page is opened anew, one file was changed meanwhile and one is new: nothing else is sent,
    // and only the changed one is asked about.
    fs::write(season.join("box 0/sheet 0.txt"), b"sheet 0, changed").unwrap();
    fs::write(season.join("box 0/new.txt"), b"new").unwrap();
    browser.page.goto(&page).await.unwrap();
    row(&browser, "Season").await;
    browser.drop_on(600, 500, &[&season]).await;
    browser.says("\"sheet 0.txt\" is there already").await;
    browser.press("Replace").await;
    browser.says("2 files sent, 40 there already").await;
    let again = client.place("home:/Season/box 0/sheet 0.txt", None).await.unwrap().node;
    assert_eq!(client.history(again.id).await.unwrap().states.len(), 2);
    let same = client.place("home:/Season/box 1/sheet 1.txt", None).await.unwrap().node;
    assert_eq!(client.history(same.id).await.unwrap().states.len(), 1);
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_film_is_played_from_the_middle_and_pages_hold_at_twice_the_size() {
    let (service, client) = Service::ready().await;
    let home = home(&client).await;
    let dir = tempfile::tempdir().unwrap();
    let film = dir.path().join("film.webm");
    assert!(python("film.py").arg(&film).status().unwrap().success());
    put(&client, home, "lamp turning.webm", &fs::read(&film).unwrap()).await;
    // 1280x800 at 200 % is 640x400 to the page.
    let browser = Browser::open(640, 547).await;
    browser.page.goto(&service.address).await.unwrap();
    browser.fill("Sign-in name", "ines").await;
    browser.fill("Password", PASSWORD).await;
    browser.press("Sign in").await;
    browser.says("yours alone").await;
    let wide = "return document.documentElement.scrollWidth - document.documentElement.clientWidth";
    assert_eq!(browser.page.execute(wide, vec![]).await.unwrap(), 0);
    browser.page.goto(&format!("{}/shelf/home", service.address)).await.unwrap();
    browser.click(&row(&browser, "lamp turning.webm").await).await;
    assert_eq!(browser.page.execute(wide, vec![]).await.unwrap(), 0);
    browser.is_accessible("a folder at twice the size").await;
    browser.press("Look").await;
    browser.find("video").await;
    // Playing goes on from the middle, not from the beginning.
    let play = "const done = arguments[arguments.length - 1]; const v = document.querySelector('video');
        v.muted = true; v.onerror = () => done('failed');
        const go = () => { v.currentTime = 15; v.onseeked = () => { v.ontimeupdate = () => { if (v.currentTime > 15.3) done(v.currentTime) }; void v.play(); } };
        if (v.readyState > 0) go(); else { v.onloadedmetadata = go; v.load(); }";
    let at = browser.page.execute_async(play, vec![]).await.unwrap();
    let at = at.as_f64().unwrap_or_else(|| panic!("{at}"));
    assert!((15.3..20.0).contains(&at), "{at}");
    browser.close().await;
}

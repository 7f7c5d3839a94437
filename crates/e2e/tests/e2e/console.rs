//! The console in Chromium, as a new user meets it.

use crate::browser::Browser;
use crate::dav::{Dav, token};
use crate::looking_back::sign_in;
use crate::support::{PASSWORD, PATIENCE, Service, wait_for};
use fantoccini::key::Key;
use std::fs;
use yellow_attic_client::api;

pub async fn row(browser: &Browser, name: &str) -> String {
    let css = format!("[data-name=\"{name}\"]");
    browser.find(&css).await;
    css
}

pub async fn upload(browser: &Browser, path: &std::path::Path) {
    let input = browser.find("input[type=file][data-testid=picker]").await;
    input.send_keys(path.to_str().unwrap()).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn from_the_printed_address_to_a_file_found_again_as_it_was() {
    let service = Service::new();
    let browser = Browser::open(1280, 947).await;
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("log.txt");

    // Set up.
    browser.page.goto(&service.address).await.unwrap();
    browser.says("not set up yet").await;
    let code = service.set_up_code.clone().unwrap();
    browser.page.goto("about:blank").await.unwrap();
    browser.page.goto(&format!("{}/set-up#{code}", service.address)).await.unwrap();
    browser.fill("Sign-in name", "ines").await;
    browser.fill("Your name", "Ines Marrow").await;
    browser.fill("Password", "short").await;
    browser.is_accessible("set-up").await;
    browser.press("Set up and sign in").await;
    browser.says("it needs at least 10").await;
    browser.fill("Password", PASSWORD).await;
    browser.press("Set up and sign in").await;
    browser.says("Nothing changed since yesterday").await;
    browser.is_accessible("the shelves, empty").await;

    // Sign out and in again.
    browser.click("[aria-label$='account of Ines Marrow']").await;
    browser.find("[role=menuitem]").await;
    browser
        .page
        .find(fantoccini::Locator::XPath("//*[@role='menuitem'][normalize-space(.)='Sign out']"))
        .await
        .unwrap()
        .click()
        .await
        .unwrap();
    browser.fill("Sign-in name", "ines").await;
    browser.fill("Password", "not the password").await;
    browser.press("Sign in").await;
    browser.says("The sign-in name or the password is wrong").await;
    browser.is_accessible("sign-in, refused").await;
    browser.fill("Password", PASSWORD).await;
    browser.press("Sign in").await;
    browser.says("yours alone").await;

    // Upload into a new folder, and replace.
    browser.click("h2 a").await;
    browser.says("Nothing is in this folder").await;
    browser.is_accessible("a folder, empty").await;
    browser.press("New folder").await;
    browser.fill("Name", "Logbooks").await;
    browser.is_accessible("the dialog").await;
    browser.press("Make folder").await;
    let folder = row(&browser, "Logbooks").await;
    browser.click(&folder).await;
    browser.find("[data-testid=list]").await.send_keys(&Key::Enter.to_string()).await.unwrap();
    browser.says("Nothing is in this folder").await;
    fs::write(&file, "fog at six").unwrap();
    upload(&browser, &file).await;
    browser.says("1 file sent").await;
    let log = row(&browser, "log.txt").await;
    fs::write(&file, "clear all day").unwrap();
    upload(&browser, &file).await;
    browser.says("is there already").await;
    browser.is_accessible("a clash of names").await;
    browser.press("Replace").await;
    browser.says("2 files sent").await;
    browser.press("Close uploads").await;
    browser.click(&log).await;
    browser.says("clear all day").await;
    browser.says("13 bytes").await;
    browser.is_accessible("a folder with its facts").await;

    // Look back on the strip with the keyboard, and restore from there.
    let handle = browser.find("[role=slider]").await;
    handle.send_keys(&Key::Left.to_string()).await.unwrap();
    browser.says("Nothing can be changed in the past").await;
    browser.says("different now").await;
    let log = row(&browser, "log.txt").await;
    browser.click(&log).await;
    browser.says("fog at six").await;
    browser.is_accessible("a folder as it was").await;
    browser.press("Bring back this state").await;
    browser.says("Brought back").await;
    handle.send_keys(&Key::End.to_string()).await.unwrap();
    browser.says_no_more("Nothing can be changed in the past").await;
    let log = row(&browser, "log.txt").await;
    browser.click(&log).await;
    browser.says("fog at six").await;

    // Rename by key, move by the dialog, download and compare.
    browser.find("[data-testid=list]").await.send_keys(&Key::F2.to_string()).await.unwrap();
    browser.fill("Name", "log-1911.txt").await;
    browser.press("Rename").await;
    let log = row(&browser, "log-1911.txt").await;
    browser.click(&log).await;
    browser.press("Move").await;
    browser.press("Up").await;
    browser.press("Move here").await;
    browser.says("Moved 1 thing").await;
    browser.says("Nothing is in this folder").await;
    browser.page.goto(&format!("{}/shelf/home", service.address)).await.unwrap();
    let log = row(&browser, "log-1911.txt").await;
    browser.click(&log).await;
    browser.press("Download").await;
    let fetched = browser.downloads.path().join("log-1911.txt");
    assert!(
        wait_for(|| fs::read(&fetched).is_ok_and(|b| b == b"fog at six")),
        "the download is not the file"
    );

    // Remove by key, and undo.
    browser.find("[data-testid=list]").await.send_keys(&Key::Delete.to_string()).await.unwrap();
    browser.says("Removed \"log-1911.txt\"").await;
    browser.press("Undo").await;
    row(&browser, "log-1911.txt").await;
    assert_eq!(fs::read(service.data.join("shelves/main/home/ines/log-1911.txt")).unwrap(), b"fog at six");

    // Dark, and on a phone.
    browser.page.execute("localStorage.setItem('theme', 'dark')", vec![]).await.unwrap();
    browser.page.set_window_size(390, 844).await.unwrap();
    browser.page.refresh().await.unwrap();
    row(&browser, "log-1911.txt").await;
    browser.is_accessible("a folder, dark, on a phone").await;
    let wide = browser
        .page
        .execute("return document.documentElement.scrollWidth <= innerWidth", vec![])
        .await
        .unwrap();
    assert_eq!(wide, true, "the page is wider than the phone");
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn pictures_texts_and_documents_are_looked_at_without_downloading() {
    let (service, client) = Service::ready().await;
    let home = client.place("home:/", None).await.unwrap().node.id;
    let put = async |name: &str, bytes: Vec<u8>| {
        client.put(home, name, None, &Default::default(), bytes.into()).await.unwrap();
    };
    put("view.jpg", yellow_attic_demo::files::view_jpeg("test")).await;
    put("valuation.pdf", yellow_attic_demo::files::pdf("Valuation", &["One lamp".into()])).await;
    put("notes.md", b"# Notes\nThe lamp is lit.".to_vec()).await;
    put("data.bin", vec![0; 100]).await;
    let browser = sign_in(&service).await;
    browser.page.goto(&format!("{}/shelf/home", service.address)).await.unwrap();
    for (name, css) in [
        ("view.jpg", "[role=dialog] img"),
        ("valuation.pdf", "[role=dialog] canvas"),
        ("notes.md", "[role=dialog] [role=document]"),
    ] {
        let css_row = row(&browser, name).await;
        browser.click(&css_row).await;
        browser.press("Look").await;
        browser.find(css).await;
        // Drawn, not only there: a picture has its size, a page its width, a text its words.
        let mut drawn = serde_json::Value::Null;
        let begun = std::time::Instant::now();
        while begun.elapsed() < PATIENCE {
            let script = "const e = document.querySelector(arguments[0]);
                return e.tagName === 'IMG' ? e.complete && e.naturalWidth === 640
                    : e.tagName === 'CANVAS' ? e.width > 300 : e.innerText.includes('The lamp is lit');";
            drawn = browser.page.execute(script, vec![serde_json::json!(css)]).await.unwrap();
            if drawn == true {
                break;
            }
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        assert_eq!(drawn, true, "{name} is not drawn");
        browser.is_accessible(name).await;
        browser.press("Close").await;
    }
    let css_row = row(&browser, "data.bin").await;
    browser.click(&css_row).await;
    browser.press("Look").await;
    browser.says("There is no preview for this kind of file").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn locks_show_on_open_pages_as_they_come_and_go_and_are_taken_and_ended_there() {
    let (service, client) = Service::ready().await;
    let home = client.place("home:/", None).await.unwrap().node.id;
    client.put(home, "plan.txt", None, &Default::default(), b"walls".to_vec().into()).await.unwrap();
    let browser = sign_in(&service).await;
    browser.page.goto(&format!("{}/shelf/home", service.address)).await.unwrap();
    let plan = row(&browser, "plan.txt").await;
    browser.click(&plan).await;
    browser.says("Nobody keeps others from changing it").await;

    // A program takes one, and ends it: the page follows by itself.
    let dav = Dav::ines(&service);
    let held = token(&dav.lock("/dav/home/plan.txt", "0", "exclusive").await.is(200));
    browser.says("You hold it, by a program").await;
    browser.find("[data-name='plan.txt'] [aria-label='locked by you']").await;
    browser.is_accessible("a file that is locked").await;
    dav.ask("UNLOCK", "/dav/home/plan.txt", &[("lock-token", &format!("<{held}>"))], "").await.is(204);
    browser.says("Nobody keeps others from changing it").await;

    // By hand: it keeps a program out that does not know of it, and is ended here.
    browser.press("Lock for an hour").await;
    browser.says("nobody else changes this").await;
    crate::dav::make_oona(&client).await;
    let node = client.place("home:/plan.txt", None).await.unwrap().node.id;
    client.give(node, &crate::dav::for_oona("edit")).await.unwrap();
    let oona = Dav::with(&service, "oona", PASSWORD);
    let refused = oona.put("/dav/given/plan.txt", "doors").await.is(423);
    assert!(refused.body.contains("Ines Marrow"), "{}", refused.body);
    browser.press("End the lock").await;
    browser.says("Nobody keeps others from changing it").await;
    oona.put("/dav/given/plan.txt", "doors").await.is(204);

    // Somebody else's is said to be theirs.
    oona.lock("/dav/given/plan.txt", "0", "exclusive").await.is(200);
    browser.says("holds it, by a program").await;
    browser.says("other changes are refused").await;
    browser.press("End the lock").await;
    browser.says("Nobody keeps others from changing it").await;
    oona.put("/dav/given/plan.txt", "windows").await.is(204);
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_moves_under_the_pointer_and_a_rows_menu_has_all_that_can_be_done() {
    let (service, client) = Service::ready().await;
    let home = client.place("home:/", None).await.unwrap().node.id;
    for n in 0..12 {
        let name = format!("log {n:02}.txt");
        client.put(home, &name, None, &Default::default(), b"fog at six".to_vec().into()).await.unwrap();
    }
    let browser = sign_in(&service).await;
    browser.page.goto(&format!("{}/shelf/home", service.address)).await.unwrap();
    // Two clicks at one place open what was clicked first.
    for width in [1280, 1000, 390] {
        browser.page.set_window_size(width, 900).await.unwrap();
        let css = row(&browser, "log 05.txt").await;
        browser.says("log 05.txt").await;
        let top = async || browser.find(&css).await.rectangle().await.unwrap().1;
        let before = top().await;
        browser.click(&css).await;
        browser.find("[aria-label='Facts']").await;
        assert_eq!(top().await, before, "the row stays where it is at {width}");
        browser.click("[aria-label='Close the facts']").await;
    }
    browser.page.set_window_size(1280, 947).await.unwrap();
    // By right click, for what was not selected before.
    let ask = "const row = document.querySelector('[data-name=\"log 07.txt\"]'); const r = row.getBoundingClientRect(); \
        row.dispatchEvent(new MouseEvent('contextmenu', { bubbles: true, cancelable: true, clientX: r.left + 90, clientY: r.top + 9 }))";
    row(&browser, "log 07.txt").await;
    browser.page.execute(ask, vec![]).await.unwrap();
    browser.find("[role=menu]").await;
    browser.says("Make a link and copy it").await;
    browser.is_accessible("a row's menu").await;
    for word in [
        "Look",
        "Edit",
        "Download",
        "Links and intakes",
        "Who may do what",
        "Rename",
        "Move",
        "Copy",
        "Remove",
    ] {
        let item = format!("//*[@role='menuitem'][starts-with(normalize-space(.), '{word}')]");
        let found = browser.page.find(fantoccini::Locator::XPath(&item)).await;
        assert!(found.is_ok(), "{word} is missing in the menu");
    }
    let press = async |word: &str| {
        let item = format!("//*[@role='menuitem'][starts-with(normalize-space(.), '{word}')]");
        browser.page.find(fantoccini::Locator::XPath(&item)).await.unwrap().click().await.unwrap();
    };
    // A link by two presses; its terms in quick steps after.
    press("Make a link").await;
    browser.says("A link to \"log 07.txt\"").await;
    browser.says("with no end date").await;
    browser.is_accessible("a quick link").await;
    browser.press("Once").await;
    browser.says("may download it, once").await;
    browser.press("One week").await;
    browser.says(", until ").await;
    browser.press("Password").await;
    browser.fill("Its password", "tide table").await;
    browser.press("Set it").await;
    browser.says("and the password").await;
    browser.press("Done").await;
    let node = client.place("home:/log 07.txt", None).await.unwrap().node.id;
    let made = client.openings(&api::OpeningsQuery { node: Some(node), ..Default::default() }).await;
    let made = made.unwrap().openings;
    assert_eq!((made.len(), made[0].most, made[0].password), (1, Some(1), true));
    assert!(made[0].until.is_some());
    // The same by the button in the row; what is asked for happens.
    browser.click("[aria-label='Menu of log 03.txt']").await;
    browser.find("[role=menu]").await;
    press("Remove").await;
    browser.says("Removed \"log 03.txt\"").await;
    assert!(client.place("home:/log 03.txt", None).await.is_err());
    // Files or a whole folder.
    browser.press("Upload").await;
    browser.says("A whole folder").await;
    browser.close().await;
}

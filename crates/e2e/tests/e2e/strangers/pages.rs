//! Both pages in a browser, and that nothing uploaded runs there.

use super::*;
use crate::browser::Browser;
use crate::support::Service;

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

#[tokio::test(flavor = "multi_thread")]
async fn a_link_and_an_intake_are_made_kept_track_of_and_ended_in_the_console() {
    let (service, ines) = Service::ready().await;
    let top = home(&ines).await;
    ines.make_folder(top, "Views").await.unwrap();
    let browser = crate::everyday::signed_in(&service.address).await;
    browser.page.goto(&format!("{}/shelf/home/Views", service.address)).await.unwrap();
    browser.press("Links").await;
    browser.says("Nothing of it is given out").await;
    browser.is_accessible("what is given out of a folder").await;
    browser.press("New link").await;
    browser.fill("Title (optional)", "Views of the coast").await;
    browser.fill("Own ending (optional)", "Coast").await;
    browser.is_accessible("a new link").await;
    browser.press("Make the link").await;
    browser.says("small letters a to z").await;
    browser.fill("Own ending (optional)", "coast").await;
    browser.press("Make the link").await;
    browser.says("its ending can be guessed").await;
    browser.press("New intake").await;
    browser.fill("Title (optional)", "Send yours").await;
    browser.press("Make the intake").await;
    browser.says("Send yours").await;
    browser.is_accessible("a link and an intake").await;
    let address = format!("{}/open/coast", service.address);
    let out = Stranger::new();
    assert_eq!(out.page(&address).await.0, 200);

    // An open page follows what strangers do.
    browser.page.goto(&format!("{}/intake", service.address)).await.unwrap();
    browser.says("Nothing was handed in yet").await;
    let openings = ines.openings(&Default::default()).await.unwrap().openings;
    let give = openings.iter().find(|o| o.kind == "intake").unwrap().address.clone().unwrap();
    let delivery = out.begin(&give, "Elm School").await.unwrap();
    out.send(&give, &delivery, "", "a.txt", b"a").await;
    out.done(&give, &delivery).await;
    browser.says("Elm School").await;
    browser.is_accessible("intakes").await;

    browser.page.goto(&format!("{}/given-out", service.address)).await.unwrap();
    browser.says("Views of the coast").await;
    browser.is_accessible("what was given out").await;
    browser.click("input[aria-label^='Choose the link']").await;
    browser.press("Change or end them").await;
    browser.press("End").await;
    browser.says("1 changed").await;
    assert_eq!(out.page(&address).await.0, 404);
    browser.page.goto(&format!("{}/desk/outside", service.address)).await.unwrap();
    browser.says("No public address is set").await;
    browser.is_accessible("given out, on the desk").await;
    browser.close().await;
}

//! What the standards say, word for word.

use super::{Dav, for_oona, make_oona, token};
use crate::console::row;
use crate::support::{PASSWORD, Service, Yattic};
use serde_json::json;
use yellow_attic_client::{Client, When, api};

async fn set(client: &Client, rule: &str, value: &str) {
    let (scope, value) = ("service".to_string(), Some(value.to_string()));
    let change = api::RuleChange { scope, value, preview: false, breaking: None };
    client.set_rule(rule, &change).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn properties_are_answered_exactly_as_asked_in_any_script() {
    let (service, client) = Service::ready().await;
    let dav = Dav::ines(&service);
    // Decomposed on the way in, as some clients send it: the same name.
    dav.ask("MKCOL", "/dav/home/Cafe%CC%81%20%E5%90%8D", &[], "").await.is(201);
    let put = dav.put("/dav/home/Caf%C3%A9%20%E5%90%8D/a%26b%3C%25.txt", "lamp lit at four").await.is(201);
    assert!(client.place("home:/Café 名/a&b<%.txt", None).await.is_ok());
    let names = "<getetag/><getcontentlength/><displayname/><resourcetype/><x xmlns=\"urn:x\"/>";
    let answer = dav.find("/dav/home/Caf%C3%A9%20%E5%90%8D/", "1", names).await.is(207);
    let found = answer.found();
    let file = &found["/dav/home/Caf%C3%A9%20%E5%90%8D/a%26b%3C%25.txt"];
    assert_eq!(file["getetag"], put.header("etag"));
    assert_eq!((file["getcontentlength"].as_str(), file["displayname"].as_str()), ("16", "a&b<%.txt"));
    assert_eq!(found["/dav/home/Caf%C3%A9%20%E5%90%8D/"]["resourcetype"], "collection");
    assert!(answer.body.contains("<x xmlns=\"urn:x\"/></D:prop><D:status>HTTP/1.1 404"), "{}", answer.body);

    // All at the top: the shelves, and oneself.
    let top =
        dav.find("/dav/", "1", "<displayname/><current-user-principal/><quota-used-bytes/>").await.is(207);
    assert_eq!(top.found()["/dav/home/"]["displayname"], "Home");
    assert_eq!(top.found()["/dav/home/"]["quota-used-bytes"], "16");
    assert_eq!(top.found()["/dav/"]["current-user-principal"], "/dav/.person/");
    let me = dav.find("/dav/.person/", "0", "<displayname/><resourcetype/>").await.is(207);
    assert_eq!(me.found()["/dav/.person/"]["displayname"], "Ines Marrow");
    let may = dav.find("/dav/home/", "0", "<current-user-privilege-set/>").await.is(207);
    assert!(may.body.contains("<D:write/>") && may.body.contains("<D:bind/>"), "{}", may.body);

    // With all beneath: everything, and the standard's refusal where it would be too much.
    let deep = dav.find("/dav/home/", "infinity", "<getetag/>").await.is(207);
    assert_eq!(deep.found().len(), 3);
    let refused = dav.find("/dav/", "infinity", "<getetag/>").await.is(403);
    assert!(refused.body.contains("propfind-finite-depth"), "{}", refused.body);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_programs_keep_stays_with_the_file_and_goes_with_its_copies_even_through_a_kill() {
    let (service, client) = Service::ready().await;
    let dav = Dav::ines(&service);
    dav.put("/dav/home/plan.txt", "one").await.is(201);
    let etag = dav.ask("HEAD", "/dav/home/plan.txt", &[], "").await.is(200).header("etag").to_string();
    let body = r#"<D:propertyupdate xmlns:D="DAV:" xmlns:z="urn:z"><D:set><D:prop><z:mark xml:lang="en">to <z:b>print</z:b></z:mark>
      <getlastmodified xmlns="DAV:">Wed, 04 Mar 2026 05:06:07 GMT</getlastmodified></D:prop></D:set></D:propertyupdate>"#;
    dav.ask("PROPPATCH", "/dav/home/plan.txt", &[], body).await.is(207);
    // The file's own time, and no new state of it.
    let facts = client.place("home:/plan.txt", None).await.unwrap();
    assert!(facts.node.modified.starts_with("2026-03-04T05:06:07"), "{}", facts.node.modified);
    assert_eq!(client.history(facts.node.id).await.unwrap().states.len(), 1);
    let read = dav.ask("GET", "/dav/home/plan.txt", &[], "").await.is(200);
    assert_eq!((read.body.as_str(), read.header("etag")), ("one", etag.as_str()));
    assert_eq!(read.header("last-modified"), "Wed, 04 Mar 2026 05:06:07 GMT");

    // All or nothing: what the service keeps by itself is not set, and nothing beside it.
    let body = r#"<propertyupdate xmlns="DAV:"><set><prop><getetag>x</getetag><o xmlns="urn:z">1</o></prop></set></propertyupdate>"#;
    let refused = dav.ask("PROPPATCH", "/dav/home/plan.txt", &[], body).await.is(207);
    assert!(
        refused.body.contains("cannot-modify-protected-property") && refused.body.contains("424"),
        "{}",
        refused.body
    );

    dav.ask("COPY", "/dav/home/plan.txt", &[("destination", "/dav/home/copy.txt")], "").await.is(201);
    let locked = dav.lock("/dav/home/plan.txt", "0", "exclusive").await.is(200);
    let service = service.killed_and_started_again();
    let dav = Dav::ines(&service);
    for path in ["/dav/home/plan.txt", "/dav/home/copy.txt"] {
        let kept = dav.find(path, "0", "<z:mark xmlns:z=\"urn:z\"/><z:o xmlns:z=\"urn:z\"/>").await.is(207);
        assert!(kept.body.contains("to <z:b"), "{}", kept.body);
        assert!(!kept.found()[path].contains_key("o"));
    }
    // So does the lock.
    dav.put("/dav/home/plan.txt", "two").await.is(423);
    dav.ask("PUT", "/dav/home/plan.txt", &[("if", &format!("(<{}>)", token(&locked)))], "two").await.is(204);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_lock_holds_against_every_other_way_in_and_says_who_holds_it() {
    let (service, client) = Service::ready().await;
    let dav = Dav::ines(&service);
    let yattic = Yattic::new();
    yattic.connect(&service);
    dav.ask("MKCOL", "/dav/home/plans", &[], "").await.is(201);
    dav.put("/dav/home/plans/roof.txt", "one").await.is(201);
    let roof = client.place("home:/plans/roof.txt", None).await.unwrap().node.id;
    let plans = client.place("home:/plans", None).await.unwrap().node.id;
    let locked = dav.lock("/dav/home/plans/roof.txt", "0", "exclusive").await.is(200);
    assert!(locked.body.contains("Ines at the desk") && locked.body.contains("Second-"), "{}", locked.body);

    // The API, the commands, and by way of the folder above: refused, and nothing is changed.
    let refused =
        client.put(plans, "roof.txt", None, &When::default(), b"two".to_vec().into()).await.unwrap_err();
    assert!(refused.to_string().contains("\"roof.txt\" is locked by Ines Marrow"), "{refused}");
    for said in [
        yattic.fails(1, &["rm", "home:/plans/roof.txt"]),
        yattic.fails(1, &["rm", "--yes", "home:/plans"]),
        yattic.fails(1, &["mv", "home:/plans", "home:/elsewhere"]),
    ] {
        assert!(said.contains("is locked by Ines Marrow") && said.contains("yattic unlock"), "{said}");
    }
    let whole = dav.ask("DELETE", "/dav/home/plans/", &[], "").await.is(207);
    assert_eq!(whole.found()["/dav/home/plans/roof.txt"]["status"], "423");
    let refused = dav.put("/dav/home/plans/roof.txt", "two").await.is(423).body;
    assert!(
        refused.contains("lock-token-submitted") && refused.contains("is locked by Ines Marrow"),
        "{refused}"
    );
    assert_eq!(client.history(roof).await.unwrap().states.len(), 1);
    let shown = client.facts(roof).await.unwrap().node.locked.unwrap();
    assert!(shown.mine && shown.program, "{shown:?}");
    assert!(yattic.ok(&["info", "home:/plans/roof.txt"]).contains("by you until"));
    // Beside it all goes on.
    dav.put("/dav/home/plans/cellar.txt", "one").await.is(201);

    // With its token; and the lock goes with what is moved away.
    let condition = format!("(<{}>)", token(&locked));
    dav.ask("PUT", "/dav/home/plans/roof.txt", &[("if", &condition)], "two").await.is(204);
    dav.ask("PUT", "/dav/home/plans/roof.txt", &[("if", "(<urn:uuid:other>)")], "three").await.is(412);
    dav.lock("/dav/home/plans/roof.txt", "0", "shared").await.is(423);
    yattic.ok(&["unlock", "home:/plans/roof.txt"]);
    dav.put("/dav/home/plans/roof.txt", "three").await.is(204);

    // By hand: others are kept out, oneself is not; somebody who manages the folder ends it.
    make_oona(&client).await;
    client.give(plans, &for_oona("edit")).await.unwrap();
    yattic.ok(&["lock", "home:/plans", "--for", "2h"]);
    dav.put("/dav/home/plans/roof.txt", "four").await.is(204);
    let other = Dav::with(&service, "oona", PASSWORD);
    let body = other.put("/dav/given/plans/roof.txt", "five").await.is(423);
    // What is locked is the folder, by its address for whoever asks.
    assert!(body.body.contains("<D:href>/dav/given/plans/</D:href>"), "{}", body.body);
    let found = other.find("/dav/given/plans/roof.txt", "0", "<lockdiscovery/>").await.is(207);
    assert!(
        found.body.contains("<D:depth>infinity</D:depth>") && found.body.contains("Ines Marrow"),
        "{}",
        found.body
    );
    assert!(!found.body.contains("urn:uuid"), "no token that could be named: {}", found.body);
    yattic.ok(&["unlock", "home:/plans"]);
    other.put("/dav/given/plans/roof.txt", "five").await.is(204);
}

#[tokio::test(flavor = "multi_thread")]
async fn who_may_come_in_by_webdav_and_how() {
    let (service, client) = Service::ready().await;
    let dav = Dav::ines(&service);
    let none = dav.ask("PROPFIND", "/dav/home/", &[("authorization", "")], "").await.is(401);
    assert!(none.header("www-authenticate").starts_with("Basic realm="));
    // A cookie of the console is nobody here.
    let session = reqwest::Client::new()
        .post(format!("{}/api/v1/session", service.address))
        .header("origin", &service.address)
        .json(&json!({ "sign_in": "ines", "password": PASSWORD }))
        .send()
        .await
        .unwrap();
    let cookie = session.headers()["set-cookie"].to_str().unwrap().split(';').next().unwrap().to_string();
    dav.ask("GET", "/dav/home/", &[("authorization", ""), ("cookie", &cookie)], "").await.is(401);

    // A device's token, as a bearer's and as a password.
    let asked = api::NewDevice {
        sign_in: "ines".into(),
        password: PASSWORD.into(),
        device: "darkroom".into(),
        ..Default::default()
    };
    let device = Client::new(&service.address, None).unwrap().connect(&asked).await.unwrap().token;
    dav.ask("GET", "/dav/home/", &[("authorization", &format!("Bearer {device}"))], "").await.is(200);
    let by_token = Dav::with(&service, "ines", &device);
    by_token.put("/dav/home/a.txt", "a").await.is(201);
    Dav::with(&service, "oona", &device).find("/dav/home/", "0", "<getetag/>").await.is(401);

    // A wrong password is a wrong password, and slows the next ones down.
    for _ in 0..3 {
        Dav::with(&service, "ines", "wrong").find("/dav/home/", "0", "<getetag/>").await.is(401);
    }
    // What is demanded from today on: a password is not even looked at, a token still counts.
    make_oona(&client).await;
    let oona = Dav::with(&service, "oona", PASSWORD);
    oona.find("/dav/home/", "0", "<getetag/>").await.is(207);
    set(&client, "second-factor-from", "2026-01-01").await;
    let refused = oona.find("/dav/home/", "0", "<getetag/>").await.is(401);
    assert!(refused.body.contains("yattic connect"), "{}", refused.body);
    by_token.find("/dav/home/", "0", "<getetag/>").await.is(207);

    // The door.
    set(&client, "doors-closed", "dav").await;
    assert!(by_token.find("/dav/home/", "0", "<getetag/>").await.is(403).body.contains("door_closed"));
}

#[tokio::test(flavor = "multi_thread")]
async fn conditions_keep_a_newer_state_from_being_overwritten() {
    let (service, client) = Service::ready().await;
    let dav = Dav::ines(&service);
    let first = dav.put("/dav/home/a.txt", "one").await.is(201).header("etag").to_string();
    dav.ask("PUT", "/dav/home/a.txt", &[("if-none-match", "*")], "two").await.is(412);
    dav.ask("PUT", "/dav/home/a.txt", &[("if-match", &first)], "two").await.is(204);
    dav.ask("PUT", "/dav/home/a.txt", &[("if-match", &first)], "three").await.is(412);
    dav.ask("PUT", "/dav/home/a.txt", &[("if", &format!("([{first}])"))], "three").await.is(412);
    dav.ask("PUT", "/dav/home/a.txt", &[("if", &format!("(Not [{first}])"))], "three").await.is(204);
    dav.ask("DELETE", "/dav/home/a.txt", &[("if", &format!("</dav/home/a.txt> ([{first}])"))], "")
        .await
        .is(412);
    dav.ask("MOVE", "/dav/home/a.txt", &[("destination", "/dav/home/b.txt"), ("if-match", &first)], "")
        .await
        .is(412);
    let facts = client.place("home:/a.txt", None).await.unwrap();
    assert_eq!(client.history(facts.node.id).await.unwrap().states.len(), 3);
    // The states, through the report; each can be read.
    let body = r#"<version-tree xmlns="DAV:"><prop><version-name/><getcontentlength/><creator-displayname/></prop></version-tree>"#;
    let states = dav.ask("REPORT", "/dav/home/a.txt", &[], body).await.is(207);
    let mut sizes = Vec::new();
    for (href, props) in states.found() {
        assert!(props["creator-displayname"].starts_with("Ines Marrow"), "{props:?}");
        let read = dav.ask("GET", &href, &[], "").await.is(200);
        assert_eq!(read.body.len().to_string(), props["getcontentlength"]);
        sizes.push(read.body);
    }
    sizes.sort();
    assert_eq!(sizes, ["one", "three", "two"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn parts_of_a_file_and_digests_of_it() {
    let (service, _client) = Service::ready().await;
    let dav = Dav::ines(&service);
    let text: String = (0..30_000).map(|n| format!("{n:05}\n")).collect();
    let put = dav.put("/dav/home/numbers.txt", text.clone()).await.is(201);
    let two =
        dav.ask("GET", "/dav/home/numbers.txt", &[("range", "bytes=0-5, 60000-60011, -6")], "").await.is(206);
    let kind = two.header("content-type").to_string();
    let boundary = kind.strip_prefix("multipart/byteranges; boundary=").unwrap();
    let parts: Vec<&str> = two.body.split(&format!("--{boundary}")).collect();
    assert_eq!(parts.len(), 5, "{}", two.body);
    assert!(parts[1].contains("Content-Range: bytes 0-5/180000") && parts[1].ends_with("00000\n\r\n"));
    assert!(parts[2].ends_with("10000\n10001\n\r\n") && parts[3].ends_with("29999\n\r\n"));
    assert_eq!(two.header("content-length"), two.body.len().to_string());
    // Parts that overlap are an attack or a mistake: the whole.
    let whole = dav.ask("GET", "/dav/home/numbers.txt", &[("range", "bytes=0-9,5-20")], "").await.is(200);
    assert_eq!(whole.body.len(), text.len());
    // If-Range: a part only of the very state.
    let (range, etag) = (("range", "bytes=0-5"), put.header("etag"));
    assert_eq!(
        dav.ask("GET", "/dav/home/numbers.txt", &[range, ("if-range", etag)], "").await.is(206).body,
        "00000\n"
    );
    dav.ask("GET", "/dav/home/numbers.txt", &[range, ("if-range", "\"other\"")], "").await.is(200);
    dav.ask("GET", "/dav/home/numbers.txt", &[range, ("if-range", "Wed, 04 Mar 2026 05:06:07 GMT")], "")
        .await
        .is(200);

    // From RFC 9530, appendix B.1.
    let hello = "{\"hello\": \"world\"}\n";
    let right = "sha-256=:RK/0qy18MlBSVnWgjwz6lZEWjP/lF5HF9bvEF8FabDg=:";
    let wrong = "sha-256=:AAAAqy18MlBSVnWgjwz6lZEWjP/lF5HF9bvEF8FabDg=:";
    dav.ask("PUT", "/dav/home/hello.json", &[("repr-digest", wrong)], hello).await.is(422);
    dav.ask("GET", "/dav/home/hello.json", &[], "").await.is(404);
    let told = dav
        .ask(
            "PUT",
            "/dav/home/hello.json",
            &[("content-digest", right), ("want-repr-digest", "sha-256=10")],
            hello,
        )
        .await
        .is(201);
    assert_eq!(told.header("repr-digest"), right);
    let read = dav.ask("GET", "/dav/home/hello.json", &[("want-repr-digest", "sha-256=1")], "").await.is(200);
    assert_eq!(read.header("repr-digest"), right);
    assert_eq!(dav.ask("GET", "/dav/home/hello.json", &[], "").await.is(200).header("repr-digest"), "");
    dav.ask("PUT", "/dav/home/large", &[("repr-digest", wrong)], vec![7u8; 3_000_000]).await.is(422);
    assert!(service.staging_is_clean());
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_shows_locks_takes_and_ends_them_and_searches_the_past() {
    let (service, client) = Service::ready().await;
    let dav = Dav::ines(&service);
    dav.put("/dav/home/weather.txt", "fog at six").await.is(201);
    let browser = crate::looking_back::sign_in(&service).await;
    browser.click("h2 a").await;
    let file = row(&browser, "weather.txt").await;
    browser.click(&file).await;
    browser.says("Nobody keeps others from changing it").await;
    browser.press("Lock for an hour").await;
    browser.says("nobody else changes this").await;
    browser.find("[data-name='weather.txt'] [aria-label='locked by you']").await;
    browser.is_accessible("a file that is locked").await;
    browser.press("End the lock").await;
    browser.says("Nobody keeps others from changing it").await;
    // A program's: even its own account is told so, and can end it here.
    dav.lock("/dav/home/weather.txt", "0", "exclusive").await.is(200);
    browser.page.refresh().await.unwrap();
    let file = row(&browser, "weather.txt").await;
    browser.click(&file).await;
    browser.says("by a program").await;
    browser.press("Rename").await;
    browser.fill("Name", "fog.txt").await;
    browser.press_in_dialog("Rename").await;
    browser.says("is locked by Ines Marrow").await;
    browser.page.refresh().await.unwrap();
    let file = row(&browser, "weather.txt").await;
    browser.click(&file).await;
    browser.press("End the lock").await;
    browser.says("Nobody keeps others from changing it").await;
    assert!(client.place("home:/weather.txt", None).await.unwrap().node.locked.is_none());
    // What it was called then is found on its folder's page of then.
    dav.ask("MOVE", "/dav/home/weather.txt", &[("destination", "/dav/home/fog.txt")], "").await.is(201);
    row(&browser, "fog.txt").await;
    let handle = browser.find("[role=slider]").await;
    handle.send_keys(&fantoccini::key::Key::Left.to_string()).await.unwrap();
    browser.says("Nothing can be changed in the past").await;
    browser.find("[aria-label='Find in this folder']").await.send_keys("weather").await.unwrap();
    browser.says("1 thing in here and below").await;
    browser.is_accessible("what was found in the past").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_made_there_says_whether_the_folder_or_the_place_is_wrong() {
    let (service, client) = Service::ready().await;
    let dav = Dav::ines(&service);
    dav.put("/dav/home/a", "1").await.is(201);
    let to = |path: &str| format!("{}{path}", service.address);
    for (path, status) in [
        ("/dav/home/none/x", 409),
        ("/dav/none/x/y", 409),
        ("/dav/none/x", 409),
        ("/dav/home/a/x", 409),
        ("/dav/none", 403),
        ("/dav/given/none", 403),
    ] {
        dav.put(path, "1").await.is(status);
        dav.ask("MKCOL", path, &[], "").await.is(status);
        dav.lock(path, "0", "exclusive").await.is(status);
        for method in ["COPY", "MOVE"] {
            dav.ask(method, "/dav/home/a", &[("destination", &to(path))], "").await.is(status);
        }
        // To be read there is nothing.
        for method in ["GET", "PROPFIND", "DELETE", "PROPPATCH"] {
            let body = match method {
                "PROPPATCH" => {
                    "<propertyupdate xmlns=\"DAV:\"><set><prop><a xmlns=\"x\">1</a></prop></set></propertyupdate>"
                }
                _ => "",
            };
            dav.ask(method, path, &[("depth", "0")], body).await.is(404);
        }
    }
    // What is there is not made again, and it is said what can be done.
    let again = dav.ask("MKCOL", "/dav/home", &[], "").await.is(405);
    assert!(again.header("allow").contains("PROPFIND") && !again.header("allow").contains("MKCOL"));
    assert!(dav.ask("BREW", "/dav/home/a", &[], "").await.is(405).header("allow").contains("PUT"));
    // A name that was not encoded is not cut off.
    for cut in ["/dav/home/b#1", "/dav/home/b?1"] {
        for destination in [to(cut), cut.to_string()] {
            let refused = dav.ask("MOVE", "/dav/home/a", &[("destination", &destination)], "").await.is(400);
            assert!(refused.body.contains("%23"), "{}", refused.body);
        }
    }
    assert!(client.place("home:/b", None).await.is_err());
    let encoded = to("/dav/home/b%231");
    dav.ask("MOVE", "/dav/home/a", &[("destination", &encoded)], "").await.is(201);
    assert!(client.place("home:/b#1", None).await.is_ok());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_refusal_for_a_lock_names_what_is_locked() {
    let (service, client) = Service::ready().await;
    make_oona(&client).await;
    let dav = Dav::ines(&service);
    for folder in ["/dav/home/Hall", "/dav/home/Hall/Old"] {
        dav.ask("MKCOL", folder, &[], "").await.is(201);
    }
    dav.put("/dav/home/Hall/Old/plan", "1").await.is(201);
    dav.lock("/dav/home/Hall", "infinity", "exclusive").await.is(200);
    let href = "<D:lock-token-submitted><D:href>/dav/home/Hall/</D:href></D:lock-token-submitted>";
    let refused = dav.put("/dav/home/Hall/Old/plan", "2").await.is(423);
    assert!(refused.body.contains(href), "{}", refused.body);
    let refused = dav.ask("DELETE", "/dav/home/Hall/Old", &[], "").await.is(423);
    assert!(refused.body.contains(href), "{}", refused.body);
    // Further down: told in the multi-status, with its address.
    dav.ask("MKCOL", "/dav/home/Loft", &[], "").await.is(201);
    dav.put("/dav/home/Loft/plan", "1").await.is(201);
    dav.lock("/dav/home/Loft/plan", "0", "exclusive").await.is(200);
    let refused = dav.ask("DELETE", "/dav/home/Loft", &[], "").await.is(207);
    let href = "<D:lock-token-submitted><D:href>/dav/home/Loft/plan</D:href></D:lock-token-submitted>";
    assert!(refused.body.contains(href), "{}", refused.body);
}

#[tokio::test(flavor = "multi_thread")]
async fn bodies_in_utf_16_are_read_and_the_top_tells_ones_own_room() {
    let (service, client) = Service::ready().await;
    let dav = Dav::ines(&service);
    dav.put("/dav/home/a", vec![7; 5000]).await.is(201);
    let text = "<?xml version=\"1.0\" encoding=\"UTF-16\"?><propfind xmlns=\"DAV:\"><prop><getcontentlength/></prop></propfind>";
    let big: Vec<u8> = text.encode_utf16().flat_map(u16::to_be_bytes).collect();
    let little: Vec<u8> = text.encode_utf16().flat_map(u16::to_le_bytes).collect();
    let marked = |mark: [u8; 2], bytes: &[u8]| [&mark[..], bytes].concat();
    for body in [marked([0xfe, 0xff], &big), marked([0xff, 0xfe], &little), big.clone(), little.clone()] {
        let found = dav.ask("PROPFIND", "/dav/home/a", &[("depth", "0")], body).await.is(207).found();
        assert_eq!(found["/dav/home/a"]["getcontentlength"], "5000");
    }
    dav.ask("PROPFIND", "/dav/home/a", &[("depth", "0")], marked([0xfe, 0xff], &big[..big.len() - 1]))
        .await
        .is(400);
    dav.ask("PROPFIND", "/dav/home/a", &[("depth", "0")], marked([0xff, 0xfe], &[0, 0xd8, 0, 0]))
        .await
        .is(400);
    let set = api::QuotaChange { of: "home:ines".into(), hard: Some("1 MiB".into()), ..Default::default() };
    client.set_quota(&set).await.unwrap();
    let names = "<quota-used-bytes/><quota-available-bytes/>";
    let top = dav.find("/dav/", "0", names).await.is(207).found();
    let home = dav.find("/dav/home/", "0", names).await.is(207).found();
    assert_eq!(top["/dav/"], home["/dav/home/"]);
    assert_eq!(top["/dav/"]["quota-used-bytes"], "5000");
}

//! Refusals, asked for one by one: each has the code and the status that the table gives it, says what happened, and what helps.

use crate::people::{Console, code_at, step_now};
use crate::strangers::{refused, seconds};
use crate::support::{PASSWORD, PATIENCE, Service, eventually, in_the_catalogue};
use reqwest::Method;
use serde_json::{Value, json};
use std::collections::BTreeSet;
use yellow_attic_api::refusals::ALL;
use yellow_attic_client::{Client, api};

const WORDS: &str = "gulls over the harbour";

/// A way to ask: the administrator's computer, her browser, tomas' computer, or nobody.
#[derive(Clone, Copy, PartialEq)]
enum By {
    Ines,
    Browser,
    Tomas,
    Nobody,
}

use By::{Browser, Ines, Nobody, Tomas};

struct World {
    service: Service,
    http: reqwest::Client,
    ines: Client,
    tomas: Client,
    browser: Console,
    seen: BTreeSet<&'static str>,
    wrong: Vec<String>,
}

impl World {
    async fn send(
        &mut self,
        by: By,
        method: &str,
        path: &str,
        kind: &[(&str, &str)],
        body: Vec<u8>,
    ) -> (u16, Value) {
        let verb = Method::from_bytes(method.as_bytes()).unwrap();
        let path = if ["/open/", "/give/", "/dav/"].iter().any(|p| path.starts_with(p)) {
            path.to_string()
        } else {
            format!("/api/v1{path}")
        };
        let mut call = self.http.request(verb, format!("{}{path}", self.service.address));
        call = match by {
            Ines => call.bearer_auth(self.ines.token().unwrap()),
            Tomas => call.bearer_auth(self.tomas.token().unwrap()),
            Browser => {
                let call = call.header("cookie", &self.browser.cookie);
                match kind.iter().any(|(name, _)| *name == "origin") {
                    true => call,
                    false => call.header("origin", &self.service.address),
                }
            }
            Nobody => call.header("origin", &self.service.address),
        };
        for (name, value) in kind {
            call = call.header(*name, *value);
        }
        let answer = call.body(body).send().await.unwrap();
        (answer.status().as_u16(), answer.json().await.unwrap_or_default())
    }

    /// Asks, and compares with the table.
    async fn told(
        &mut self,
        code: &'static str,
        by: By,
        method: &str,
        path: &str,
        kind: &[(&str, &str)],
        body: Vec<u8>,
    ) {
        let (status, answer) = self.send(by, method, path, kind, body).await;
        let wanted =
            ALL.iter().find(|k| k.code == code).unwrap_or_else(|| panic!("no refusal is called {code}"));
        self.seen.insert(code);
        let text = |name: &str| answer[name].as_str().unwrap_or_default().to_string();
        if status != wanted.status || text("code") != code {
            self.wrong.push(format!("{method} {path}: {status} {answer}, not {} {code}", wanted.status));
        } else if text("detail").is_empty() || text("remedy").is_empty() || text("title").is_empty() {
            self.wrong.push(format!("{code} leaves something out: {answer}"));
        }
    }

    async fn json(&mut self, code: &'static str, by: By, method: &str, path: &str, body: Value) {
        let bytes = if body.is_null() { Vec::new() } else { serde_json::to_vec(&body).unwrap() };
        self.told(code, by, method, path, &[("content-type", "application/json")], bytes).await;
    }
}

async fn world() -> World {
    let (service, ines) = Service::ready().await;
    let new = api::NewAccount { sign_in: "tomas".into(), password: Some(WORDS.into()), ..Default::default() };
    ines.make_account(&new).await.unwrap();
    let asked = api::NewDevice {
        sign_in: "tomas".into(),
        password: WORDS.into(),
        device: "tablet".into(),
        ..Default::default()
    };
    let token = ines.connect(&asked).await.unwrap().token;
    let tomas = Client::new(&service.address, Some(&token)).unwrap();
    let mut browser = Console::new(&service);
    assert_eq!(browser.sign_in("ines", PASSWORD).await.0, 200);
    let http = reqwest::Client::new();
    World { service, http, ines, tomas, browser, seen: BTreeSet::new(), wrong: Vec::new() }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_refusal_that_can_be_asked_for_has_the_code_and_status_of_the_table() {
    let mut w = world().await;
    files(&mut w).await;
    uploads(&mut w).await;
    people(&mut w).await;
    sharing(&mut w).await;
    administration(&mut w).await;
    signing_in(&mut w).await;
    second_factors(&mut w).await;
    assert!(w.wrong.is_empty(), "{}", w.wrong.join("\n"));
    assert!(w.seen.len() >= 76, "{}", w.seen.len());
}

async fn files(w: &mut World) {
    let home = w.ines.place("home:/", None).await.unwrap().node.id;
    let folder = w.ines.make_folder(home, "folder").await.unwrap().id;
    let inner = w.ines.make_folder(folder, "inner").await.unwrap().id;
    let file =
        w.ines.put(home, "file.txt", None, &Default::default(), b"text".to_vec().into()).await.unwrap();
    let noise = w.ines.put(home, "noise", None, &Default::default(), vec![0xff; 100].into()).await.unwrap();
    let before = file.moment.clone();
    w.ines.put(home, "file.txt", None, &Default::default(), b"more".to_vec().into()).await.unwrap();
    w.json("moment_malformed", Ines, "GET", "/shelves/1/changes?since=yesterday", Value::Null).await;
    w.json("past_by_name", Ines, "GET", &format!("/nodes/{home}/entries?at={before}&sort=size"), Value::Null)
        .await;
    w.json("past_within", Ines, "GET", &format!("/find?name=file&at={before}"), Value::Null).await;
    w.json("nothing_chosen", Ines, "POST", "/archives", json!({ "nodes": [], "format": "zip" })).await;
    w.json("nothing_named", Ines, "POST", "/past/let-go", json!({})).await;
    w.json(
        "keep_malformed",
        Ines,
        "GET",
        &format!("/nodes/{folder}/rollback?to={before}&keep=x"),
        Value::Null,
    )
    .await;
    w.json("not_there_yet", Ines, "GET", &format!("/nodes/{}/rollback?to=m1", inner), Value::Null).await;
    w.json(
        "into_itself",
        Ines,
        "PATCH",
        &format!("/nodes/{folder}"),
        json!({ "parent": inner, "name": "x" }),
    )
    .await;
    w.json("shelf_top", Ines, "DELETE", &format!("/nodes/{home}"), Value::Null).await;
    w.json("still_here", Ines, "POST", &format!("/nodes/{}/restore", noise.id), json!({})).await;
    w.json(
        "no_text",
        Ines,
        "GET",
        &format!("/nodes/{}/comparison?from={}", noise.id, noise.moment),
        Value::Null,
    )
    .await;
    w.told(
        "range_outside",
        Ines,
        "GET",
        &format!("/nodes/{}/content", file.id),
        &[("range", "bytes=900-")],
        vec![],
    )
    .await;
    w.told(
        "digest_malformed",
        Ines,
        "PUT",
        &format!("/nodes/{home}/files/x"),
        &[("content-digest", "sha-256=no")],
        b"1".to_vec(),
    )
    .await;
    // Its folder is gone, and it was removed before that.
    let lost = w.ines.put(inner, "lost", None, &Default::default(), b"1".to_vec().into()).await.unwrap().id;
    w.ines.remove(lost).await.unwrap();
    w.ines.remove(folder).await.unwrap();
    w.json("place_gone", Ines, "POST", &format!("/nodes/{lost}/restore"), json!({})).await;
    w.json("letter_unknown", Browser, "PATCH", "/me", json!({ "muted": ["gossip"] })).await;
}

async fn uploads(w: &mut World) {
    use base64::Engine as _;
    let home = w.ines.place("home:/", None).await.unwrap().node.id;
    let coded = |text: &str| base64::engine::general_purpose::STANDARD.encode(text);
    let said = format!("parent {},filename {}", coded(&home.to_string()), coded("big"));
    let tus = ("tus-resumable", "1.0.0");
    w.told("tus_version", Ines, "POST", "/uploads", &[("tus-resumable", "0.1")], vec![]).await;
    w.told("header_malformed", Ines, "POST", "/uploads", &[tus, ("upload-length", "many")], vec![]).await;
    w.told("upload_has_no_place", Ines, "POST", "/uploads", &[tus, ("upload-length", "9")], vec![]).await;
    let wrong = format!("{said},blake3 {}", coded("zz"));
    w.told(
        "hash_malformed",
        Ines,
        "POST",
        "/uploads",
        &[tus, ("upload-length", "9"), ("upload-metadata", &wrong)],
        vec![],
    )
    .await;
    let begun = w
        .http
        .post(format!("{}/api/v1/uploads", w.service.address))
        .bearer_auth(w.ines.token().unwrap())
        .header("tus-resumable", "1.0.0")
        .header("upload-length", "9")
        .header("upload-metadata", &said)
        .send()
        .await
        .unwrap();
    let place = begun.headers()["location"].to_str().unwrap().to_string();
    let place = place.rsplit_once("/api/v1").map_or(place.clone(), |(_, rest)| rest.to_string());
    let part = [tus, ("upload-offset", "0"), ("content-type", "application/offset+octet-stream")];
    w.told(
        "content_type",
        Ines,
        "PATCH",
        &place,
        &[tus, ("upload-offset", "0"), ("content-type", "text/plain")],
        b"1".to_vec(),
    )
    .await;
    let with = |more: (&'static str, &'static str)| [&part[..], &[more]].concat();
    w.told(
        "checksum_malformed",
        Ines,
        "PATCH",
        &place,
        &with(("upload-checksum", "sha1 ???")),
        b"1".to_vec(),
    )
    .await;
    w.told(
        "checksum_mismatch",
        Ines,
        "PATCH",
        &place,
        &with(("upload-checksum", "sha1 Kq5sNclPz7QV2+lfQIuc6R7oRu0=")),
        b"1".to_vec(),
    )
    .await;
    w.json(
        "upload_unfinished",
        Ines,
        "POST",
        &format!("{place}/place"),
        json!({ "parent": home, "name": "there" }),
    )
    .await;
    w.told("length_known", Ines, "PATCH", &place, &with(("upload-length", "12")), b"1".to_vec()).await;
}

async fn people(w: &mut World) {
    let home = w.ines.place("home:/", None).await.unwrap().node.id;
    w.told(
        "columns_malformed",
        Ines,
        "POST",
        "/accounts/list?columns=x",
        &[("content-type", "text/csv")],
        b"a,b\n".to_vec(),
    )
    .await;
    w.told(
        "list_unreadable",
        Ines,
        "POST",
        "/accounts/list",
        &[("content-type", "text/csv")],
        b"a,b\n1,2\n".to_vec(),
    )
    .await;
    w.told(
        "list_too_large",
        Ines,
        "POST",
        "/accounts/list",
        &[("content-type", "text/csv")],
        vec![b'a'; 20 << 20],
    )
    .await;
    w.json("name_does_not_match", Ines, "PUT", "/accounts/tomas/removal", json!({ "name": "somebody" }))
        .await;
    w.json("days_cannot_be", Ines, "PUT", "/accounts/tomas/removal", json!({ "name": "tomas", "days": 0 }))
        .await;
    w.json(
        "heir_cannot_be",
        Ines,
        "PUT",
        "/accounts/tomas/removal",
        json!({ "name": "tomas", "heir": "tomas" }),
    )
    .await;
    w.json("last_administrator", Ines, "PATCH", "/accounts/ines", json!({ "role": "member" })).await;
    w.json("door_unknown", Ines, "PATCH", "/accounts/tomas", json!({ "closed": ["window"] })).await;
    w.json("role_unknown", Ines, "POST", "/accounts", json!({ "sign_in": "mara", "role": "emperor" })).await;
    w.json("size_malformed", Ines, "PATCH", "/accounts/tomas", json!({ "quota": "much" })).await;
    w.json(
        "mail_malformed",
        Ines,
        "POST",
        "/guests",
        json!({ "mail": "nowhere", "node": home, "can": "view" }),
    )
    .await;
    w.json(
        "level_cannot_be",
        Ines,
        "POST",
        "/guests",
        json!({ "mail": "a@b.example", "node": home, "can": "manage" }),
    )
    .await;
    w.json(
        "level_unknown",
        Ines,
        "POST",
        &format!("/nodes/{home}/rights"),
        json!({ "to": "account:tomas", "can": "fly" }),
    )
    .await;
    w.json(
        "subject_malformed",
        Ines,
        "POST",
        &format!("/nodes/{home}/rights"),
        json!({ "to": "tomas", "can": "view" }),
    )
    .await;
    w.json("exists", Ines, "POST", "/accounts", json!({ "sign_in": "tomas" })).await;
    let shelf = api::NewShelf { name: "Plans".into(), ..Default::default() };
    let shelf = w.ines.make_shelf(&shelf).await.unwrap();
    w.json("shelf_name_cannot_be", Ines, "POST", "/shelves", json!({ "name": "home" })).await;
    let may =
        api::NewGrant { to: "account:tomas".into(), can: "edit".into(), until: None, message: String::new() };
    w.ines.give(shelf.root, &may).await.unwrap();
    let folder = w.tomas.make_folder(shelf.root, "hall").await.unwrap().id;
    let inside = w.ines.make_folder(folder, "closed").await.unwrap().id;
    let no = api::NewGrant { can: "deny".into(), ..may.clone() };
    w.ines.give(inside, &no).await.unwrap();
    w.json("holds_others", Tomas, "DELETE", &format!("/nodes/{folder}"), Value::Null).await;
    w.json("not_allowed", Tomas, "GET", &format!("/nodes/{}/who", shelf.root), Value::Null).await;
}

async fn sharing(w: &mut World) {
    let home = w.ines.place("home:/", None).await.unwrap().node.id;
    let box_ = w.ines.make_folder(home, "box").await.unwrap().id;
    let set = api::OpeningSet {
        password: Some("seven lamps".into()),
        can: Some("edit".into()),
        ..Default::default()
    };
    let new = api::NewOpening { kind: "link".into(), node: box_, set, ..Default::default() };
    let link = w.ines.make_opening(&new).await.unwrap();
    let way = link.address.clone().unwrap();
    let way = format!("/open/{}", way.rsplit('/').next().unwrap());
    w.told(
        "wrong_password",
        Nobody,
        "POST",
        &format!("{way}/enter"),
        &[("content-type", "application/x-www-form-urlencoded")],
        b"password=eight".to_vec(),
    )
    .await;
    w.json(
        "no_mail_server",
        Ines,
        "POST",
        &format!("/openings/{}/mail", link.id),
        json!({ "to": ["a@b.example"] }),
    )
    .await;
    w.json(
        "nothing_to_change",
        Ines,
        "POST",
        "/given/change",
        json!({ "of": [{ "kind": "link", "id": link.id }] }),
    )
    .await;
    w.json(
        "level_unknown",
        Ines,
        "POST",
        "/openings",
        json!({ "kind": "link", "node": box_, "set": { "can": "fly" } }),
    )
    .await;
    w.json(
        "kind_unknown",
        Ines,
        "POST",
        "/openings",
        json!({ "kind": "intake", "node": box_, "set": { "kinds": "unicorns" } }),
    )
    .await;
    let open = api::OpeningSet { can: Some("edit".into()), ..Default::default() };
    let open = api::NewOpening { kind: "link".into(), node: box_, set: open, ..Default::default() };
    let open = w.ines.make_opening(&open).await.unwrap();
    let way = format!("/open/{}", open.address.unwrap().rsplit('/').next().unwrap());
    w.told(
        "the_target_itself",
        Nobody,
        "POST",
        &format!("{way}/change/"),
        &[("content-type", "application/x-www-form-urlencoded")],
        b"what=remove&name=x".to_vec(),
    )
    .await;
    let soon = api::OpeningSet { ends: Some(seconds(2)), ..Default::default() };
    w.ines.change_opening(open.id, &soon).await.unwrap();
    let address = format!("{}{way}/take/", w.service.address);
    let over = async || w.http.get(&address).send().await.unwrap().status() == 410;
    assert!(eventually(over).await);
    w.told("over", Nobody, "GET", &format!("{way}/take/"), &[], vec![]).await;
    let intake = api::NewOpening { kind: "intake".into(), node: box_, ..Default::default() };
    let intake = w.ines.make_opening(&intake).await.unwrap();
    let way = format!("/give/{}", intake.address.unwrap().rsplit('/').next().unwrap());
    w.json("sender_malformed", Nobody, "POST", &format!("{way}/deliveries"), json!({ "name": "" })).await;
    w.told("no_such_delivery", Nobody, "GET", &format!("{way}/delivery"), &[("delivery", "00")], vec![])
        .await;
    let (status, begun) = w
        .send(
            Nobody,
            "POST",
            &format!("{way}/deliveries"),
            &[("content-type", "application/json")],
            br#"{"name":"Jory"}"#.to_vec(),
        )
        .await;
    assert!(status < 300, "{begun}");
    let secret = begun["secret"].as_str().or(begun["delivery"].as_str()).unwrap_or_default().to_string();
    w.told("nothing_delivered", Nobody, "POST", &format!("{way}/done"), &[("delivery", &secret)], vec![])
        .await;
}

async fn administration(w: &mut World) {
    w.json("no_such_rule", Ines, "PUT", "/rules/nonsense", json!({ "scope": "service", "value": "1" })).await;
    w.json("scope_malformed", Ines, "PUT", "/rules/trash-days", json!({ "scope": "moon", "value": "1" }))
        .await;
    w.json(
        "soft_above_hard",
        Ines,
        "PUT",
        "/quotas",
        json!({ "of": "home:ines", "soft": "2 GiB", "hard": "1 GiB" }),
    )
    .await;
    w.json(
        "locks_everybody_out",
        Ines,
        "PUT",
        "/rules/doors-closed",
        json!({ "scope": "service", "value": "console" }),
    )
    .await;
    let group = api::NewGroup { name: "Friends".into(), note: String::new(), members: vec![] };
    w.ines.make_group(&group).await.unwrap();
    w.json(
        "group_spelled_otherwise",
        Ines,
        "PUT",
        "/rules/links-made-by",
        json!({ "scope": "service", "value": "friends" }),
    )
    .await;
    w.json("quota_of_nothing", Ines, "PUT", "/quotas", json!({ "of": "nothing", "hard": "1 GiB" })).await;
    w.json("mail_malformed", Ines, "POST", "/mail/test", json!({ "to": "nowhere" })).await;
    w.json("nobody_waits", Ines, "DELETE", "/slowed?of=nobody", Value::Null).await;
}

async fn signing_in(w: &mut World) {
    w.json(
        "device_name_cannot_be",
        Nobody,
        "POST",
        "/devices",
        json!({ "sign_in": "tomas", "password": WORDS, "device": "" }),
    )
    .await;
    w.json("not_a_device", Browser, "DELETE", "/devices/this", Value::Null).await;
    w.told(
        "other_origin",
        Browser,
        "POST",
        "/proof",
        &[("origin", "https://elsewhere.example"), ("content-type", "application/json")],
        b"{}".to_vec(),
    )
    .await;
    w.json("invitation_unknown", Nobody, "POST", "/invitation/look", json!({ "secret": "0".repeat(64) }))
        .await;
    w.json(
        "sign_up_closed",
        Nobody,
        "POST",
        "/sign-up",
        json!({ "sign_in": "noor", "display_name": "Noor", "mail": "noor@b.example" }),
    )
    .await;
    w.json(
        "ticket_over",
        Nobody,
        "POST",
        "/session/second",
        json!({ "ticket": "0".repeat(64), "code": "123456" }),
    )
    .await;
    w.json("cannot_look_as", Browser, "POST", "/look", json!({ "account": "ines" })).await;
    w.json("name_cannot_be", Browser, "PATCH", "/me", json!({ "display_name": "" })).await;
    w.told(
        "picture_unreadable",
        Browser,
        "PUT",
        "/me/picture",
        &[("content-type", "image/png")],
        b"no picture".to_vec(),
    )
    .await;
    w.told(
        "picture_too_large",
        Browser,
        "PUT",
        "/me/picture",
        &[("content-type", "image/png")],
        vec![0; 12 << 20],
    )
    .await;
    let (_, begun) = w.browser.ask("POST", "/me/factors/codes", json!({})).await;
    w.json(
        "wrong_code",
        Browser,
        "POST",
        "/me/factors/codes/confirm",
        json!({ "ticket": begun["ticket"], "code": "000000", "name": "Phone" }),
    )
    .await;
    let change = api::AccountChange { disabled: Some(true), ..Default::default() };
    w.ines.change_account("tomas", &change).await.unwrap();
    w.json("account_disabled", Nobody, "POST", "/session", json!({ "sign_in": "tomas", "password": WORDS }))
        .await;
}

async fn second_factors(w: &mut World) {
    w.json("passkeys_need_a_name", Browser, "POST", "/me/factors/passkey", json!({})).await;
    let named = w.service.address.replace("127.0.0.1", "localhost");
    let host = named.trim_start_matches("http://").to_string();
    let by_name = [("host", host.as_str()), ("origin", named.as_str()), ("content-type", "application/json")];
    let (status, begun) = w.send(Browser, "POST", "/me/factors/passkey", &by_name, b"{}".to_vec()).await;
    assert_eq!(status, 201, "{begun}");
    let confirm = json!({ "ticket": begun["ticket"], "credential": {}, "name": "Key" }).to_string();
    w.told(
        "passkey_malformed",
        Browser,
        "POST",
        "/me/factors/passkey/confirm",
        &by_name,
        confirm.into_bytes(),
    )
    .await;
    let secret = w.browser.add_codes().await;
    let (_, asked) = w.browser.clone().sign_in("ines", PASSWORD).await;
    let ticket = json!({ "ticket": asked["ticket"] });
    w.told("no_passkey", Nobody, "POST", "/session/passkey", &by_name, ticket.to_string().into_bytes()).await;
    w.json("no_second_factor_given", Nobody, "POST", "/session/second", ticket.clone()).await;
    let given = json!({ "ticket": asked["ticket"], "code": code_at(&secret, step_now() + 1) });
    assert_eq!(w.browser.ask("POST", "/session/second", given).await.0, 200);
    for _ in 0..19 {
        w.browser.add_codes().await;
    }
    w.json("too_many_factors", Browser, "POST", "/me/factors/codes", json!({})).await;
    // Looking as somebody else, nothing is done.
    let may = api::AccountChange { disabled: Some(false), ..Default::default() };
    w.ines.change_account("tomas", &may).await.unwrap();
    let (status, told) = w.browser.ask("POST", "/look", json!({ "account": "tomas" })).await;
    assert_eq!(status, 201, "{told}");
    w.json("looking_only", Browser, "PATCH", "/me", json!({ "display_name": "Somebody" })).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_first_account_has_a_name_that_can_be() {
    let service = Service::new();
    let code = service.set_up_code.clone().unwrap();
    let wanted =
        json!({ "code": code, "sign_in": "/", "display_name": "Ines", "password": "gulls over the harbour" });
    let call = reqwest::Client::new()
        .post(format!("{}/api/v1/set-up", service.address))
        .header("origin", &service.address)
        .json(&wanted);
    let answer = call.send().await.unwrap();
    assert_eq!(answer.status(), 400);
    assert_eq!(answer.json::<Value>().await.unwrap()["code"], "sign_in_name_cannot_be");
}

#[tokio::test(flavor = "multi_thread")]
async fn letters_have_bounds_and_one_lets_go_at_a_time() {
    let dir = tempfile::tempdir().unwrap();
    let config = dir.path().join("yatticd.toml");
    std::fs::write(
        &config,
        "mail_server = \"127.0.0.1:9\"\nmail_tls = \"none\"\nmail_from = \"Lamp House <files@lamp.example>\"\n",
    )
    .unwrap();
    let mut service = Service::start_with(&dir.path().join("data"), &["--config", config.to_str().unwrap()]);
    service.set_up().await;
    let ines = service.client().await;
    let home = ines.place("home:/", None).await.unwrap().node.id;
    let file = ines.put(home, "plan", None, &Default::default(), b"1".to_vec().into()).await.unwrap().id;
    let new = api::NewOpening { kind: "link".into(), node: file, ..Default::default() };
    let link = ines.make_opening(&new).await.unwrap().id;
    let mail = async |to: Vec<String>, message: String| {
        refused(ines.mail_opening(link, &api::OpeningMail { to, message }).await)
    };
    assert_eq!(mail(vec![], String::new()).await, "recipients");
    assert_eq!(mail(vec!["a@b.example".into()], "x".repeat(4_001)).await, "message_too_long");

    // Two let go at once: one of them is told that it runs already, and asked again it does it.
    let begun = std::time::Instant::now();
    let mut browser = Console::new(&service);
    assert_eq!(browser.sign_in("ines", PASSWORD).await.0, 200);
    let mut said = BTreeSet::new();
    while !said.contains("letting_go") && begun.elapsed() < PATIENCE {
        let mut at_once = tokio::task::JoinSet::new();
        for n in 0..8 {
            let name = format!("old {n}");
            let old = ines.put(home, &name, None, &Default::default(), vec![n; 10].into()).await.unwrap().id;
            ines.remove(old).await.unwrap();
            let mut browser = browser.clone();
            at_once.spawn(async move {
                let (status, told) = browser.ask("POST", "/past/let-go", json!({ "nodes": [old] })).await;
                (status, told["code"].as_str().unwrap_or_default().to_string())
            });
        }
        for (status, code) in at_once.join_all().await {
            assert!(status == 200 || code == "letting_go", "{status} {code}");
            said.insert(code);
        }
    }
    assert!(said.contains("letting_go"), "{said:?}");
}

#[test]
fn a_new_refusal_is_asked_for_by_some_test() {
    let here = std::path::Path::new(env!("CARGO_MANIFEST_DIR"));
    let mut text = String::new();
    let mut folders = vec![here.join("tests"), here.join("../store/tests"), here.join("../server/tests")];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                folders.push(path);
            } else if path.extension().is_some_and(|e| e == "rs" || e == "py") {
                text.push_str(&std::fs::read_to_string(path).unwrap());
            }
        }
    }
    let left: Vec<_> =
        ALL.iter().map(|k| k.code).filter(|code| !text.contains(&format!("\"{code}\""))).collect();
    assert!(left.is_empty(), "asked for by no test: {left:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_damaged_row_is_refused_by_every_door_and_stands_once_on_the_desk() {
    let dir = tempfile::tempdir().unwrap();
    let mut service = Service::start_in(dir.path());
    service.set_up().await;
    let ines = service.client().await;
    let home = ines.place("home:/", None).await.unwrap().node.id;
    let sound = ines.put(home, "sound", None, &Default::default(), b"1".to_vec().into()).await.unwrap().id;
    let plan = ines.put(home, "plan", None, &Default::default(), b"plan".to_vec().into()).await.unwrap().id;
    let token = ines.token().unwrap().to_string();
    drop(service);
    in_the_catalogue(dir.path(), "UPDATE contents SET hash = x'00ff' WHERE size = 4");
    let service = Service::start_in(dir.path());
    let ines = Client::new(&service.address, Some(&token)).unwrap();
    let http = reqwest::Client::new();
    for (method, path) in [
        ("GET", format!("/api/v1/nodes/{plan}/content")),
        ("GET", format!("/api/v1/nodes/{plan}")),
        ("GET", format!("/api/v1/nodes/{home}/entries")),
        ("PUT", format!("/api/v1/nodes/{home}/files/plan")),
        ("GET", "/dav/home/plan".to_string()),
        ("PROPFIND", "/dav/home/".to_string()),
    ] {
        let verb = Method::from_bytes(method.as_bytes()).unwrap();
        let call = http.request(verb, format!("{}{path}", service.address)).bearer_auth(&token);
        let answer = call.header("depth", "1").body("").send().await.unwrap();
        let (status, told) = (answer.status(), answer.text().await.unwrap());
        assert!(status == 500 && told.contains("\"row_damaged\""), "{method} {path}: {status} {told}");
        assert!(!told.contains("bytes, not 32"), "what it says is for the desk: {told}");
    }
    let call = http.get(format!("{}/api/v1/nodes/{sound}/content", service.address)).bearer_auth(&token);
    assert_eq!(call.send().await.unwrap().text().await.unwrap(), "1", "what is sound goes on");
    let noted = async || {
        let found = ines.store_state().await.unwrap().findings;
        found.into_iter().filter(|f| f.kind == "damaged row").collect::<Vec<_>>()
    };
    assert!(eventually(async || !noted().await.is_empty()).await);
    tokio::time::sleep(std::time::Duration::from_millis(300)).await;
    let found = noted().await;
    assert!(found.len() == 1 && found[0].detail.contains("has 2 bytes, not 32"), "{found:?}");
}

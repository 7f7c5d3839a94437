//! RFC 9110, word for word: what every program that speaks HTTP may count on, at every address.

use crate::support::Service;
use reqwest::Method;
use serde_json::Value;
use std::collections::BTreeMap;
use std::process::Command;
use yellow_attic_client::{Client, api};

/// One answer, as it came.
struct Told {
    status: u16,
    headers: reqwest::header::HeaderMap,
    body: Vec<u8>,
}

impl Told {
    fn header(&self, name: &str) -> &str {
        self.headers.get(name).and_then(|v| v.to_str().ok()).unwrap_or_default()
    }

    fn code(&self) -> String {
        let told: Value = serde_json::from_slice(&self.body).unwrap_or_default();
        told["code"].as_str().unwrap_or_default().into()
    }
}

/// A caller with a token, who says what is asked and nothing else.
struct Caller {
    http: reqwest::Client,
    at: String,
    token: String,
}

impl Caller {
    async fn ask(&self, method: &str, path: &str, headers: &[(&str, &str)], body: &[u8]) -> Told {
        let method = Method::from_bytes(method.as_bytes()).unwrap();
        let mut call = self.http.request(method, format!("{}{path}", self.at)).bearer_auth(&self.token);
        for (name, value) in headers {
            call = call.header(*name, *value);
        }
        let answer = call.body(body.to_vec()).send().await.unwrap();
        let (status, headers) = (answer.status().as_u16(), answer.headers().clone());
        Told { status, headers, body: answer.bytes().await.unwrap().to_vec() }
    }
}

/// A service with a file of 1,000 bytes, of a second that is known, and a caller.
async fn with_a_file() -> (Service, Client, Caller, api::Facts) {
    let (service, owner) = Service::ready().await;
    let home = owner.place("home:/", None).await.unwrap().node.id;
    let bytes: Vec<u8> = (0..1000u32).map(|n| (n % 251) as u8).collect();
    let at = "2026-01-02T03:04:05Z";
    owner.put(home, "film.mp4", Some(at), &Default::default(), bytes.into()).await.unwrap();
    owner.make_folder(home, "Letters").await.unwrap();
    let facts = owner.place("home:/film.mp4", None).await.unwrap();
    let token = owner.token().unwrap().to_string();
    let http = reqwest::Client::builder().redirect(reqwest::redirect::Policy::none()).build().unwrap();
    let caller = Caller { http, at: service.address.clone(), token };
    (service, owner, caller, facts)
}

const MADE: &str = "Fri, 02 Jan 2026 03:04:05 GMT";
const BEFORE: &str = "Fri, 02 Jan 2026 03:04:04 GMT";
const AFTER: &str = "Fri, 01 Jan 2027 00:00:00 GMT";

#[tokio::test(flavor = "multi_thread")]
async fn head_tells_all_that_get_does_and_sends_nothing() {
    let (service, owner, caller, facts) = with_a_file().await;
    let node = facts.node.id;
    let new = api::NewOpening { node, kind: "link".into(), ..Default::default() };
    let link = owner.make_opening(&new).await.unwrap().address.unwrap();
    let link = link.strip_prefix(&service.address).unwrap_or(&link).to_string();
    let page = String::from_utf8(caller.ask("GET", "/", &[], b"").await.body).unwrap();
    let script =
        page.split('"').find(|p| p.starts_with("/assets/") && p.ends_with(".js")).unwrap().to_string();
    let addresses = [
        "/".to_string(),
        "/desk/people".into(),
        script,
        "/healthz".into(),
        "/readyz".into(),
        "/api/openapi.json".into(),
        "/api/v1/me".into(),
        "/api/v1/shelves".into(),
        "/api/v1/rules".into(),
        format!("/api/v1/nodes/{node}"),
        format!("/api/v1/nodes/{node}/content"),
        format!("/api/v1/nodes/{}/entries", facts.node.parent.unwrap()),
        format!("/api/v1/nodes/{}/archive?format=zip", facts.node.parent.unwrap()),
        format!("/api/v1/nodes/{}/archive?format=tar", facts.node.parent.unwrap()),
        "/api/v1/files/home/film.mp4".into(),
        "/dav/home/film.mp4".into(),
        link.clone(),
        format!("{link}/take/"),
        format!("{link}/look/"),
    ];
    for path in &addresses {
        let get = caller.ask("GET", path, &[], b"").await;
        assert_eq!(get.status, 200, "{path}");
        for range in [None, Some("bytes=10-19")] {
            let headers: Vec<(&str, &str)> = range.map(|r| ("range", r)).into_iter().collect();
            let head = caller.ask("HEAD", path, &headers, b"").await;
            assert_eq!(head.status, 200, "HEAD {path} {range:?}: a range is of GET alone");
            assert!(head.body.is_empty(), "HEAD {path}");
            for name in ["content-type", "etag", "last-modified", "accept-ranges", "content-disposition"] {
                assert_eq!(head.header(name), get.header(name), "{name} of HEAD {path}");
            }
            assert_eq!(head.header("content-length"), get.body.len().to_string(), "HEAD {path}");
        }
    }
    // A line goes on after it, and what is not there is not there.
    for path in ["/api/v1/nodes/999999", "/api/v1/files/home/none", "/dav/home/none", "/nowhere"] {
        let (get, head) = (caller.ask("GET", path, &[], b"").await, caller.ask("HEAD", path, &[], b"").await);
        assert_eq!((get.status, head.status, head.body.len()), (404, 404, 0), "{path}");
    }
    let two = service.raw(b"HEAD /healthz HTTP/1.1\r\nhost: localhost\r\n\r\nGET /healthz HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n");
    assert_eq!(two.matches("HTTP/1.1 200").count(), 2, "{two}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_address_that_nobody_has_takes_nothing_and_a_wrong_method_says_which_is_right() {
    let (_service, _, caller, facts) = with_a_file().await;
    let node = facts.node.id;
    for path in
        ["/home/x", "/home/film.mp4", "/x", "/files/home/x", "/api/x", "/api/v1/x", "/api/v1/nodes", "/desks"]
    {
        for method in ["GET", "PUT", "POST", "DELETE", "PATCH", "PROPFIND", "MKCOL", "BREW"] {
            let told = caller.ask(method, path, &[], b"bytes").await;
            assert_eq!((told.status, told.code().as_str()), (404, "no_such_route"), "{method} {path}");
            assert_eq!(told.header("content-type"), "application/problem+json", "{method} {path}");
        }
    }
    // A browser gets a page that says so, and by no other status.
    let page = caller.ask("GET", "/nowhere", &[("accept", "text/html,*/*")], b"").await;
    assert!(page.status == 404 && page.header("content-type").starts_with("text/html"));
    let wrong = [
        ("PUT", "/".to_string(), "GET, HEAD, OPTIONS"),
        ("POST", "/desk".into(), "GET, HEAD, OPTIONS"),
        ("DELETE", "/shelf/home/film.mp4".into(), "GET, HEAD, OPTIONS"),
        ("POST", "/readyz".into(), "GET, HEAD, OPTIONS"),
        ("DELETE", "/api/openapi.json".into(), "GET, HEAD, OPTIONS"),
        ("PUT", "/api/v1/shelves".into(), "GET, HEAD, OPTIONS, POST"),
        ("POST", format!("/api/v1/nodes/{node}/content"), "GET, HEAD, OPTIONS, PUT"),
        ("POST", "/api/v1/files/home/a/b".into(), "GET, HEAD, OPTIONS, PUT"),
        ("PUT", "/api/v1/uploads".into(), "GET, HEAD, OPTIONS, POST"),
        ("GET", "/api/v1/uploads/none".into(), "DELETE, HEAD, OPTIONS, PATCH"),
        ("BREW", "/api/v1/me".into(), "GET, HEAD, OPTIONS, PATCH"),
        ("PUT", "/open/none/take/x".into(), "GET, HEAD, OPTIONS"),
        ("GET", "/open/none/enter".into(), "OPTIONS, POST"),
        ("DELETE", "/looks.css".into(), "GET, HEAD, OPTIONS"),
    ];
    for (method, path, allow) in wrong {
        let told = caller.ask(method, &path, &[], b"").await;
        assert_eq!((told.status, told.code().as_str()), (405, "method_not_allowed"), "{method} {path}");
        assert_eq!(told.header("allow"), allow, "{method} {path}");
        let options = caller.ask("OPTIONS", &path, &[], b"").await;
        assert_eq!(options.status, 204, "OPTIONS {path}");
        if path != "/api/v1/uploads" {
            assert_eq!(options.header("allow"), allow, "OPTIONS {path}");
        }
    }
    assert_eq!(caller.ask("OPTIONS", "/", &[], b"").await.header("dav"), "1, 2, 3");
    // The scheme's name in any case, and the body as what it is.
    let me = |scheme: &str| format!("{scheme} {}", caller.token);
    for scheme in ["Bearer", "bearer", "BEARER"] {
        let call = caller.http.get(format!("{}/api/v1/me", caller.at)).header("authorization", me(scheme));
        assert_eq!(call.send().await.unwrap().status(), 200, "{scheme}");
    }
    let told = caller.ask("POST", "/api/v1/groups", &[("content-type", "text/plain")], b"{}").await;
    assert_eq!((told.status, told.code().as_str()), (415, "wrong_media_type"));
    let large = format!("{{\"name\":\"{}\"}}", "x".repeat(300_000));
    let told =
        caller.ask("POST", "/api/v1/groups", &[("content-type", "application/json")], large.as_bytes()).await;
    assert_eq!((told.status, told.code().as_str()), (413, "body_too_large"));
    let told =
        caller.ask("POST", "/api/v1/groups", &[("content-type", "application/json")], b"{\"nme\":1}").await;
    let text = String::from_utf8_lossy(&told.body).to_lowercase();
    assert!(told.status == 400 && !text.contains("deserialize") && !text.contains("json payload"), "{text}");
}

/// What a conditional request says, and what must come of it.
struct Case(&'static str, Vec<(&'static str, String)>, u16);

fn reads(tag: &str) -> Vec<Case> {
    let other = "\"00000000000000000000000000000000\"";
    let h = |name: &'static str, value: &str| (name, value.to_string());
    let weak = format!("W/{tag}");
    let list = format!("{other}, {tag}");
    vec![
        Case("nothing asked", vec![], 200),
        Case("If-Match: the tag", vec![h("if-match", tag)], 200),
        Case("If-Match: *", vec![h("if-match", "*")], 200),
        Case("If-Match: another", vec![h("if-match", other)], 412),
        Case("If-Match: a list", vec![h("if-match", &list)], 200),
        Case("If-Match compares strongly", vec![h("if-match", &weak)], 412),
        Case("If-Match: malformed matches nothing", vec![h("if-match", "tag")], 412),
        Case("If-None-Match: the tag", vec![h("if-none-match", tag)], 304),
        Case("If-None-Match: *", vec![h("if-none-match", "*")], 304),
        Case("If-None-Match: another", vec![h("if-none-match", other)], 200),
        Case("If-None-Match: a list", vec![h("if-none-match", &list)], 304),
        Case("If-None-Match compares weakly", vec![h("if-none-match", &weak)], 304),
        Case("If-None-Match: in two lines", vec![h("if-none-match", other), h("if-none-match", tag)], 304),
        Case("If-None-Match: an empty element", vec![h("if-none-match", &format!(", {tag}"))], 304),
        Case("If-Modified-Since: its time", vec![h("if-modified-since", MADE)], 304),
        Case("If-Modified-Since: before", vec![h("if-modified-since", BEFORE)], 200),
        Case("If-Modified-Since: after all that happened", vec![h("if-modified-since", AFTER)], 304),
        Case("If-Modified-Since: no date", vec![h("if-modified-since", "yesterday")], 200),
        Case(
            "If-Modified-Since: RFC 850's form",
            vec![h("if-modified-since", "Friday, 02-Jan-26 03:04:05 GMT")],
            304,
        ),
        Case(
            "If-Modified-Since: asctime's form",
            vec![h("if-modified-since", "Fri Jan  2 03:04:05 2026")],
            304,
        ),
        Case(
            "If-None-Match counts before it",
            vec![h("if-none-match", other), h("if-modified-since", AFTER)],
            200,
        ),
        Case("the same, known", vec![h("if-none-match", tag), h("if-modified-since", BEFORE)], 304),
        Case("If-Unmodified-Since: its time", vec![h("if-unmodified-since", MADE)], 200),
        Case("If-Unmodified-Since: before", vec![h("if-unmodified-since", BEFORE)], 412),
        Case("If-Unmodified-Since: after", vec![h("if-unmodified-since", AFTER)], 200),
        Case("If-Unmodified-Since: no date", vec![h("if-unmodified-since", "soon")], 200),
        Case("If-Match counts before it", vec![h("if-match", tag), h("if-unmodified-since", BEFORE)], 200),
        Case("412 comes before 304", vec![h("if-match", other), h("if-none-match", tag)], 412),
        Case("a range", vec![h("range", "bytes=10-19")], 206),
        Case("a range to the end", vec![h("range", "bytes=990-")], 206),
        Case("the last ones", vec![h("range", "bytes=-10")], 206),
        Case("more than there are", vec![h("range", "bytes=990-5000")], 206),
        Case("a range outside", vec![h("range", "bytes=1000-")], 416),
        Case("none of the last ones", vec![h("range", "bytes=-0")], 416),
        Case("another unit is not understood", vec![h("range", "lines=1-2")], 200),
        Case("a malformed range is not understood", vec![h("range", "bytes=a-b")], 200),
        Case("backwards is malformed", vec![h("range", "bytes=20-10")], 200),
        Case("two ranges", vec![h("range", "bytes=0-9, 20-29")], 206),
        Case("If-Range: the tag", vec![h("range", "bytes=10-19"), h("if-range", tag)], 206),
        Case("If-Range: another", vec![h("range", "bytes=10-19"), h("if-range", other)], 200),
        Case("If-Range compares strongly", vec![h("range", "bytes=10-19"), h("if-range", &weak)], 200),
        Case("If-Range: its time", vec![h("range", "bytes=10-19"), h("if-range", MADE)], 206),
        Case("If-Range: the very time alone", vec![h("range", "bytes=10-19"), h("if-range", AFTER)], 200),
        Case("If-Range: before", vec![h("range", "bytes=10-19"), h("if-range", BEFORE)], 200),
        Case("If-Range without a range", vec![h("if-range", other)], 200),
        Case("304 comes before 206", vec![h("range", "bytes=10-19"), h("if-none-match", tag)], 304),
        Case("412 comes before 416", vec![h("range", "bytes=1000-"), h("if-match", other)], 412),
    ]
}

#[tokio::test(flavor = "multi_thread")]
async fn reads_are_conditional_as_the_standard_says_at_every_door() {
    let (service, owner, caller, facts) = with_a_file().await;
    let new = api::NewOpening { node: facts.node.id, kind: "link".into(), ..Default::default() };
    let link = owner.make_opening(&new).await.unwrap().address.unwrap();
    let link = link.strip_prefix(&service.address).unwrap_or(&link).to_string();
    let doors = [
        "/dav/home/film.mp4".to_string(),
        "/api/v1/files/home/film.mp4".into(),
        format!("/api/v1/nodes/{}/content", facts.node.id),
        format!("{link}/take/"),
    ];
    let whole = caller.ask("GET", &doors[0], &[], b"").await;
    let tag = whole.header("etag").to_string();
    assert_eq!(whole.header("last-modified"), MADE);
    let mut cases = 0;
    for door in &doors {
        for Case(what, headers, status) in reads(&tag) {
            let headers: Vec<(&str, &str)> = headers.iter().map(|(n, v)| (*n, v.as_str())).collect();
            let told = caller.ask("GET", door, &headers, b"").await;
            assert_eq!(told.status, status, "{what} at {door}");
            match status {
                200 => assert_eq!(told.body, whole.body, "{what} at {door}"),
                206 if !told.header("content-type").starts_with("multipart/") => {
                    let told_range = told.header("content-range").to_string();
                    let (from, to) = told_range
                        .strip_prefix("bytes ")
                        .and_then(|r| r.strip_suffix("/1000"))
                        .and_then(|r| r.split_once('-'))
                        .unwrap_or_else(|| panic!("{what} at {door}: {told_range}"));
                    let (from, to): (usize, usize) = (from.parse().unwrap(), to.parse().unwrap());
                    assert_eq!(told.body, whole.body[from..=to], "{what} at {door}");
                }
                304 => {
                    assert!(told.body.is_empty(), "{what} at {door}");
                    assert_eq!(told.header("etag"), tag, "{what} at {door}");
                    assert!(!told.header("cache-control").is_empty(), "{what} at {door}");
                }
                416 => {
                    assert_eq!(told.header("content-range"), "bytes */1000", "{what} at {door}");
                    assert!(!told.body.is_empty(), "{what} at {door}");
                }
                _ => {}
            }
            // The same by HEAD, for which there is no range.
            let head = caller.ask("HEAD", door, &headers, b"").await;
            let wanted = if matches!(status, 206 | 416) { 200 } else { status };
            assert_eq!(head.status, wanted, "HEAD: {what} at {door}");
            cases += 2;
        }
    }
    assert!(cases >= 150, "{cases}");
    // A later state that was given the same second: a part of it is not the rest of what the caller has.
    let home = facts.node.parent.unwrap();
    let at = Some("2026-01-02T03:04:05Z");
    owner.put(home, "film.mp4", at, &Default::default(), vec![7; 1000].into()).await.unwrap();
    for door in &doors {
        let told = caller.ask("GET", door, &[("range", "bytes=10-19"), ("if-range", MADE)], b"").await;
        assert_eq!((told.status, told.body.len()), (200, 1000), "{door}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_write_that_somebody_else_was_before_is_refused_by_date_as_by_tag() {
    let (_service, owner, caller, facts) = with_a_file().await;
    let home = facts.node.parent.unwrap();
    let old = "\"00000000000000000000000000000000\"";
    type Write = (&'static str, &'static str, Vec<(&'static str, &'static str)>);
    let destination: &'static str = Box::leak(format!("{}/dav/home/moved", caller.at).into_boxed_str());
    let writes: [Write; 6] = [
        ("PUT", "/dav/home/film.mp4", vec![]),
        ("PUT", "/api/v1/files/home/film.mp4", vec![]),
        ("DELETE", "/dav/home/film.mp4", vec![]),
        ("MOVE", "/dav/home/film.mp4", vec![("destination", destination)]),
        ("COPY", "/dav/home/film.mp4", vec![("destination", destination)]),
        ("PROPPATCH", "/dav/home/film.mp4", vec![]),
    ];
    let patch =
        br#"<propertyupdate xmlns="DAV:"><set><prop><a xmlns="urn:x">1</a></prop></set></propertyupdate>"#;
    let mut cases = 0;
    for (method, path, more) in &writes {
        let refusing: [(&str, &str); 5] = [
            ("if-unmodified-since", BEFORE),
            ("if-match", old),
            ("if-none-match", "*"),
            ("if-match", "W/\"x\""),
            // A time set back later than what the caller saw is told below.
            ("if-unmodified-since", "Thu, 01 Jan 1970 00:00:01 GMT"),
        ];
        for condition in refusing {
            let headers = [&more[..], &[condition]].concat();
            let body: &[u8] = if *method == "PROPPATCH" { patch } else { b"theirs" };
            let told = caller.ask(method, path, &headers, body).await;
            assert_eq!(told.status, 412, "{method} {path} {condition:?}");
            let now = owner.place("home:/film.mp4", None).await.unwrap();
            assert_eq!(now.node.etag, facts.node.etag, "{method} {path} {condition:?}");
            cases += 1;
        }
    }
    assert!(owner.place("home:/moved", None).await.is_err());
    // Somebody puts an older time on newer bytes: whoever saw the state of before is refused all the same.
    owner
        .put(home, "film.mp4", Some("2020-01-01T00:00:00Z"), &Default::default(), vec![1; 9].into())
        .await
        .unwrap();
    for (method, path, more) in &writes {
        let headers = [&more[..], &[("if-unmodified-since", MADE)]].concat();
        let body: &[u8] = if *method == "PROPPATCH" { patch } else { b"theirs" };
        assert_eq!(caller.ask(method, path, &headers, body).await.status, 412, "{method} {path}");
        cases += 1;
    }
    // By the time it has, it goes.
    let its = ("if-unmodified-since", "Wed, 01 Jan 2020 00:00:00 GMT");
    let told = caller.ask("PUT", "/api/v1/files/home/film.mp4", &[its], b"mine").await;
    assert_eq!(told.status, 200);
    // Where nothing is there is no time to compare, and If-None-Match: * makes it.
    let told = caller.ask("PUT", "/dav/home/new", &[("if-unmodified-since", BEFORE)], b"1").await;
    assert_eq!(told.status, 201);
    assert_eq!(caller.ask("PUT", "/dav/home/new2", &[("if-none-match", "*")], b"1").await.status, 201);
    assert_eq!(caller.ask("PUT", "/dav/home/new2", &[("if-none-match", "*")], b"2").await.status, 412);
    // Of a folder too: it is there, and has no tag.
    let folder = |condition| [("destination", destination), condition];
    assert_eq!(caller.ask("MOVE", "/dav/home/Letters", &folder(("if-match", old)), b"").await.status, 412);
    assert_eq!(caller.ask("MOVE", "/dav/home/Letters", &folder(("if-match", "*")), b"").await.status, 201);
    assert_eq!(caller.ask("DELETE", "/dav/home/moved", &[("if-none-match", "*")], b"").await.status, 412);
    assert_eq!(caller.ask("DELETE", "/dav/home/moved", &[("if-match", "*")], b"").await.status, 204);
    assert!(cases >= 36, "{cases}");
}

#[tokio::test(flavor = "multi_thread")]
async fn every_get_of_the_description_answers_head_and_options() {
    let (_service, _, caller, facts) = with_a_file().await;
    let described: Value =
        serde_json::from_slice(&caller.ask("GET", "/api/openapi.json", &[], b"").await.body).unwrap();
    let mut seen: BTreeMap<String, u16> = BTreeMap::new();
    for (path, item) in described["paths"].as_object().unwrap() {
        let node = facts.node.id.to_string();
        let asked = path.replace("{node}", &node).replace("{shelf}", "home").replace("{path}", "film.mp4");
        let options = caller.ask("OPTIONS", &asked, &[], b"").await;
        assert_eq!(options.status, 204, "OPTIONS {path}");
        if path == "/api/v1/uploads" {
            continue;
        }
        let allow: Vec<&str> = options.header("allow").split(", ").collect();
        for method in item.as_object().unwrap().keys() {
            assert!(allow.contains(&method.to_uppercase().as_str()), "{method} {path}: {allow:?}");
        }
        if item["get"].is_object() && !path.ends_with("/events") {
            assert!(allow.contains(&"HEAD"), "{path}");
            let (get, head) =
                (caller.ask("GET", &asked, &[], b"").await, caller.ask("HEAD", &asked, &[], b"").await);
            assert_eq!(get.status, head.status, "{path}");
            assert_eq!(get.header("content-type"), head.header("content-type"), "{path}");
            seen.insert(path.clone(), get.status);
        }
    }
    assert!(seen.len() > 40, "{}", seen.len());
}

#[tokio::test(flavor = "multi_thread")]
async fn the_description_is_valid_by_two_that_others_wrote_and_nothing_contradicts_it() {
    let (service, owner, caller, _) = with_a_file().await;
    let home = owner.place("home:/", None).await.unwrap().node.id;
    for n in 0..20 {
        owner.put(home, &format!("{n}.txt"), None, &Default::default(), vec![b'a'; n].into()).await.unwrap();
    }
    let dir = tempfile::tempdir().unwrap();
    let document = dir.path().join("api.json");
    std::fs::write(&document, caller.ask("GET", "/api/openapi.json", &[], b"").await.body).unwrap();
    let clients = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("clients");
    let tools = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/python/bin");
    let run = |command: &mut Command| {
        let done = command.output().unwrap();
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&[done.stdout, done.stderr].concat()));
    };
    run(Command::new(tools.join("openapi-spec-validator")).arg(&document));
    run(Command::new("node").arg(clients.join("openapi.mjs")).arg(&document));
    // 5 requests of each kind, always the same; others by YATTIC_SCHEMA_EXAMPLES and _SEED. What ends the caller's own sign-in goes last, and what
    // never ends not at all.
    let set = |name: &str, usual: &str| std::env::var(name).unwrap_or_else(|_| usual.into());
    let (examples, seed) = (set("YATTIC_SCHEMA_EXAMPLES", "5"), set("YATTIC_SCHEMA_SEED", "1"));
    let ends = "/devices/this|/devices/.device.|/session$|/sessions/|/events|/me/password";
    for (choice, pattern) in
        [("--exclude-path-regex", ends), ("--include-path-regex", "/devices/this|/me/password")]
    {
        let mut command = Command::new(tools.join("schemathesis"));
        command
            .arg("--config-file")
            .arg(clients.join("schemathesis.toml"))
            .args(["run", &format!("{}/api/openapi.json", service.address), "--checks", "all"])
            .args(["-H", &format!("Authorization: Bearer {}", caller.token), "--max-examples", &examples])
            .args([
                "--phases",
                "examples,coverage,fuzzing",
                "--request-timeout",
                "20",
                "--continue-on-failure",
            ])
            .args([choice, pattern, "--no-color", "--seed", &seed])
            .env("SCHEMATHESIS_HOOKS", "st_hooks")
            .env("PYTHONPATH", &clients)
            .current_dir(dir.path());
        run(&mut command);
    }
}

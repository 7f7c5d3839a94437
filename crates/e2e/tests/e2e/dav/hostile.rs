//! What no client should send: the standard's status, nothing half-written, the connection freed.

use super::{Dav, for_oona, make_oona, token};
use crate::support::{PASSWORD, PATIENCE, Service, wait_for};
use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::{Duration, Instant};

#[tokio::test(flavor = "multi_thread")]
async fn bodies_that_are_traps_are_refused_unread() {
    let (service, _client) = Service::ready().await;
    let dav = Dav::ines(&service);
    dav.put("/dav/home/a.txt", "a").await.is(201);
    let bomb = r#"<?xml version="1.0"?><!DOCTYPE l [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;">]>
      <propfind xmlns="DAV:"><prop><x xmlns="urn:x">&b;</x></prop></propfind>"#;
    let outside = r#"<!DOCTYPE l SYSTEM "file:///etc/hostname"><propfind xmlns="DAV:"><allprop/></propfind>"#;
    let deep = format!("<propfind xmlns=\"DAV:\">{}", "<a>".repeat(100_000));
    for (method, body) in [
        ("PROPFIND", bomb),
        ("PROPFIND", outside),
        ("PROPFIND", deep.get(..200_000).unwrap()),
        ("PROPFIND", "<propfind xmlns=\"DAV:\"><prop>"),
        ("PROPFIND", "<x:propfind/>"),
        ("PROPPATCH", bomb),
        ("PROPPATCH", "<propfind xmlns=\"DAV:\"/>"),
        ("LOCK", bomb),
        ("LOCK", "<lockinfo xmlns=\"DAV:\"><lockscope><exclusive/></lockscope></lockinfo>"),
        ("REPORT", bomb),
        ("REPORT", ""),
    ] {
        let answer = dav.ask(method, "/dav/home/a.txt", &[("depth", "0")], body).await;
        assert_eq!(answer.status, 400, "{method} {}: {}", &body[..body.len().min(80)], answer.body);
    }
    // A name that no namespace is known for is only not there.
    let unknown = dav.find("/dav/home/a.txt", "0", "<x xmlns=\"urn:nobody:knows\"/>").await.is(207);
    assert!(unknown.body.contains("404"));
    let large = format!("<propfind xmlns=\"DAV:\"><prop>{}</prop></propfind>", " ".repeat(300_000));
    dav.ask("PROPFIND", "/dav/home/a.txt", &[("depth", "0")], large).await.is(413);
    dav.ask("MKCOL", "/dav/home/new", &[], "<mkcol/>").await.is(415);
    dav.ask("GET", "/dav/home/new", &[], "").await.is(404);
    let long = format!(
        "<propertyupdate xmlns=\"DAV:\"><set><prop><x xmlns=\"urn:x\">{}</x></prop></set></propertyupdate>",
        "y".repeat(70_000)
    );
    let refused = dav.ask("PROPPATCH", "/dav/home/a.txt", &[], long).await.is(207);
    assert!(refused.body.contains("409") && refused.body.contains("64 KiB"), "{}", refused.body);
}

#[tokio::test(flavor = "multi_thread")]
async fn headers_and_destinations_that_cannot_be_are_refused() {
    let (service, client) = Service::ready().await;
    let dav = Dav::ines(&service);
    dav.put("/dav/home/a.txt", "a").await.is(201);
    dav.ask("MKCOL", "/dav/home/folder", &[], "").await.is(201);
    for (status, method, headers) in [
        (400, "PROPFIND", vec![("depth", "2")]),
        (400, "PUT", vec![("content-range", "bytes 0-1/4")]),
        (415, "PUT", vec![("content-encoding", "gzip")]),
        (400, "PUT", vec![("if", "(<urn:a>")]),
        (400, "PUT", vec![("if-match", "a")]),
        (400, "PUT", vec![("repr-digest", "sha-256=oops")]),
        (412, "PUT", vec![("if", "(<DAV:no-lock>)")]),
        (412, "PUT", vec![("if", "<http://elsewhere.example/a> (<urn:a>)")]),
        (400, "MOVE", vec![]),
        (400, "MOVE", vec![("destination", "nowhere")]),
        (502, "MOVE", vec![("destination", "http://elsewhere.example/dav/home/b.txt")]),
        (502, "COPY", vec![("destination", "/api/v1/shelves")]),
        (400, "COPY", vec![("destination", "/dav/home/%2e%2e/b.txt")]),
        (400, "COPY", vec![("destination", "/dav/home/../../etc/b.txt")]),
        (400, "COPY", vec![("destination", "/dav/home/%ff.txt")]),
        (400, "COPY", vec![("destination", "/dav/home/a%2fb.txt")]),
        (400, "COPY", vec![("destination", "/dav/home/a%00b.txt")]),
        (400, "COPY", vec![("destination", "/dav/home/b.txt"), ("overwrite", "maybe")]),
        (403, "COPY", vec![("destination", "/dav/home/a.txt")]),
        (409, "COPY", vec![("destination", "/dav/home/none/b.txt")]),
        (409, "MOVE", vec![("destination", "/dav/home/a.txt/b.txt")]),
        (412, "COPY", vec![("destination", "/dav/home/folder"), ("overwrite", "F")]),
        (403, "COPY", vec![("destination", "/dav/")]),
        (400, "UNLOCK", vec![]),
        (400, "UNLOCK", vec![("lock-token", "urn:uuid:x")]),
        (409, "UNLOCK", vec![("lock-token", "<urn:uuid:x>")]),
        (412, "LOCK", vec![("if", "(<urn:uuid:x>)")]),
        (405, "BREW", vec![]),
    ] {
        let answer = dav.ask(method, "/dav/home/a.txt", &headers, "").await;
        assert_eq!(answer.status, status, "{method} {headers:?}: {}", answer.body);
    }
    for (status, method, path) in [
        (403, "DELETE", "/dav/home/"),
        (403, "DELETE", "/dav/"),
        (403, "PROPPATCH", "/dav/.person/"),
        (404, "PROPFIND", "/dav/nowhere/"),
        (400, "GET", "/dav/.states/1/2"),
        (409, "PUT", "/dav/home/none/a.txt"),
        (409, "MKCOL", "/dav/home/none/b"),
        (405, "MKCOL", "/dav/home/a.txt"),
        (405, "PUT", "/dav/home/folder/"),
        (400, "GET", "/dav/home/%c3%28"),
    ] {
        let answer = dav
            .ask(
                method,
                path,
                &[],
                if method == "PROPPATCH" {
                    "<propertyupdate xmlns=\"DAV:\"><set><prop><a/></prop></set></propertyupdate>"
                } else {
                    ""
                },
            )
            .await;
        assert_eq!(answer.status, status, "{method} {path}: {}", answer.body);
    }
    let home = client.place("home:/", None).await.unwrap().node;
    assert_eq!(home.sums.map(|s| (s.files, s.folders)), Some((1, 1)), "nothing came of all this");
    let refused =
        dav.ask("MOVE", "/dav/home/folder/", &[("destination", "/dav/home/folder/inside")], "").await;
    assert_eq!(refused.status, 403, "{}", refused.body);

    // A flood of headers, and one that is very long.
    let flood: String = (0..2000).map(|n| format!("x-{n}: y\r\n")).collect();
    let long = format!("x: {}\r\n", "y".repeat(600_000));
    for headers in [flood, long] {
        let said =
            service.raw(format!("PROPFIND /dav/home/ HTTP/1.1\r\nHost: x\r\n{headers}\r\n").as_bytes());
        assert!(said.is_empty() || said.starts_with("HTTP/1.1 4"), "{said}");
    }
    dav.find("/dav/home/", "0", "<getetag/>").await.is(207);
}

#[tokio::test(flavor = "multi_thread")]
async fn expired_locks_count_no_more_and_others_cannot_end_or_use_a_lock() {
    let (service, client) = Service::ready().await;
    let dav = Dav::ines(&service);
    dav.put("/dav/home/a.txt", "a").await.is(201);
    let body = "<lockinfo xmlns=\"DAV:\"><lockscope><exclusive/></lockscope><locktype><write/></locktype></lockinfo>";
    let short = dav.ask("LOCK", "/dav/home/a.txt", &[("timeout", "Second-1")], body).await.is(200);
    dav.put("/dav/home/a.txt", "b").await.is(423);
    let begun = Instant::now();
    while dav.put("/dav/home/a.txt", "b").await.status == 423 {
        assert!(begun.elapsed() < PATIENCE, "it never ends");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    dav.ask("UNLOCK", "/dav/home/a.txt", &[("lock-token", &format!("<{}>", token(&short)))], "")
        .await
        .is(409);

    // Somebody else who knows the token.
    make_oona(&client).await;
    let node = client.place("home:/a.txt", None).await.unwrap().node.id;
    client.give(node, &for_oona("edit")).await.unwrap();
    let held = token(&dav.lock("/dav/home/a.txt", "0", "exclusive").await.is(200));
    let other = Dav::with(&service, "oona", PASSWORD);
    other.ask("PUT", "/dav/given/a.txt", &[("if", &format!("(<{held}>)"))], "c").await.is(423);
    other.ask("UNLOCK", "/dav/given/a.txt", &[("lock-token", &format!("<{held}>"))], "").await.is(403);
    other.ask("LOCK", "/dav/given/a.txt", &[("if", &format!("(<{held}>)"))], "").await.is(412);
    dav.ask("UNLOCK", "/dav/home/a.txt", &[("lock-token", &format!("<{held}>"))], "").await.is(204);
    // Shared ones lie beside each other; each holder may write.
    let mine = token(&dav.lock("/dav/home/a.txt", "0", "shared").await.is(200));
    let theirs = token(&other.lock("/dav/given/a.txt", "0", "shared").await.is(200));
    dav.ask("PUT", "/dav/home/a.txt", &[("if", &format!("(<{mine}>)"))], "d").await.is(204);
    other.ask("PUT", "/dav/given/a.txt", &[("if", &format!("(<{theirs}>)"))], "e").await.is(204);
    dav.put("/dav/home/a.txt", "f").await.is(423);
}

/// The head of a request of Ines.
fn head(service: &Service, method: &str, path: &str, length: usize, more: &str) -> String {
    let pair = base64::Engine::encode(&base64::engine::general_purpose::STANDARD, format!("ines:{PASSWORD}"));
    let at = service.address.trim_start_matches("http://");
    format!(
        "{method} {path} HTTP/1.1\r\nHost: {at}\r\nAuthorization: Basic {pair}\r\n{more}Content-Length: {length}\r\n\r\n"
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sender_that_disappears_leaves_nothing_and_frees_its_connection() {
    let (service, client) = Service::ready().await;
    let dav = Dav::ines(&service);
    let at = service.address.trim_start_matches("http://");
    let head = |length: usize| head(&service, "PUT", "/dav/home/half", length, "");
    for length in [10_000, 10_000_000] {
        let mut line = TcpStream::connect(at).unwrap();
        line.write_all(head(length).as_bytes()).unwrap();
        line.write_all(&vec![1; length / 2]).unwrap();
        drop(line);
    }
    // One that ends its sending, and waits for what is said.
    let mut line = TcpStream::connect(at).unwrap();
    line.set_read_timeout(Some(PATIENCE)).unwrap();
    line.write_all(head(1000).as_bytes()).unwrap();
    line.write_all(&[1; 10]).unwrap();
    line.shutdown(std::net::Shutdown::Write).unwrap();
    let mut said = String::new();
    let _ = line.read_to_string(&mut said);
    assert!(said.is_empty() || said.starts_with("HTTP/1.1 400"), "{said}");
    assert!(service.staging_is_clean());
    assert!(wait_for(|| service
        .raw(b"GET /healthz HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n")
        .contains("200")));
    dav.ask("GET", "/dav/home/half", &[], "").await.is(404);
    assert_eq!(client.uploads().await.unwrap().uploads.len(), 0);
}

/// Sends a head and pieces, each after a pause; what is said until the other side ends the line, and when it does.
fn sent_slowly(service: &Service, head: &str, pieces: usize, piece: &[u8], pause: u64) -> (String, Duration) {
    let mut line = TcpStream::connect(service.address.trim_start_matches("http://")).unwrap();
    line.set_read_timeout(Some(PATIENCE)).unwrap();
    let begun = Instant::now();
    line.write_all(head.as_bytes()).unwrap();
    let mut sending = line.try_clone().unwrap();
    let piece = piece.to_vec();
    let sender = std::thread::spawn(move || {
        for _ in 0..pieces {
            if sending.write_all(&piece).is_err() {
                return;
            }
            std::thread::sleep(Duration::from_millis(pause));
        }
    });
    let mut said = Vec::new();
    let end = line.read_to_end(&mut said);
    let took = begun.elapsed();
    // Nothing came for so long: the line was held.
    assert!(end.is_ok() || took < PATIENCE - Duration::from_secs(1), "the line is held");
    drop(line);
    sender.join().unwrap();
    (String::from_utf8_lossy(&said).into_owned(), took)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sender_that_falls_silent_or_trickles_is_cut_off_and_one_that_goes_on_is_not() {
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("yatticd.toml");
    std::fs::write(&file, "sender_patience = 1\n").unwrap();
    let with = ["--config", file.to_str().unwrap()];
    let mut service = Service::start_with(&dir.path().join("data"), &with);
    service.set_up().await;
    let client = service.client().await;
    let json = "Content-Type: application/json\r\nOrigin: http://x\r\n";
    for (method, path, length, more) in [
        ("PUT", "/dav/home/small", 30_000, ""),
        ("PUT", "/dav/home/large", 10_000_000, ""),
        ("PROPFIND", "/dav/home/", 5_000, "Depth: 0\r\n"),
        ("POST", "/api/v1/devices", 5_000, json),
    ] {
        let asked = head(&service, method, path, length, more);
        let (said, took) = sent_slowly(&service, &asked, 1, &[b' '; 10], 0);
        assert!(said.is_empty() || said.starts_with("HTTP/1.1 4"), "{method} {path}: {said}");
        assert!(took >= Duration::from_secs(1), "{method} {path} was cut off after {took:?}");
        // A byte now and then is no sending either.
        let (said, took) = sent_slowly(&service, &asked, 100, b" ", 200);
        assert!(said.is_empty() || said.starts_with("HTTP/1.1 4"), "{method} {path}: {said}");
        assert!(took >= Duration::from_secs(3), "{method} {path} was cut off after {took:?}");
    }
    assert!(service.staging_is_clean());
    // Whoever is slow and goes on gets done, in more time than anybody may be silent.
    let asked = head(&service, "PUT", "/dav/home/slow", 400_000, "Connection: close\r\n");
    let (said, took) = sent_slowly(&service, &asked, 10, &[7; 40_000], 500);
    assert!(said.starts_with("HTTP/1.1 201"), "{said}");
    assert!(took >= Duration::from_secs(4));
    assert_eq!(client.place("home:/slow", None).await.unwrap().node.size, 400_000);
    // Of an upload in parts what came stays.
    let encode = |text: &str| base64::Engine::encode(&base64::engine::general_purpose::STANDARD, text);
    let node = client.place("home:/", None).await.unwrap().node.id.to_string();
    let named = format!("parent {},filename {}", encode(&node), encode("parts"));
    let bearer =
        format!("Host: x\r\nTus-Resumable: 1.0.0\r\nAuthorization: Bearer {}\r\n", client.token().unwrap());
    let begin = format!(
        "POST /api/v1/uploads HTTP/1.1\r\n{bearer}Upload-Length: 50000\r\nUpload-Metadata: {named}\r\nConnection: close\r\n\r\n"
    );
    let begun = service.raw(begin.as_bytes());
    let place = begun.lines().find_map(|l| l.strip_prefix("location: ")).unwrap_or_else(|| panic!("{begun}"));
    let path = place.trim();
    let part = format!(
        "PATCH {path} HTTP/1.1\r\n{bearer}Upload-Offset: 0\r\n\
         Content-Type: application/offset+octet-stream\r\nContent-Length: 50000\r\n\r\n"
    );
    sent_slowly(&service, &part, 1, &[1; 20_000], 0);
    let ask = format!("HEAD {path} HTTP/1.1\r\n{bearer}Connection: close\r\n\r\n");
    let told = || service.raw(ask.as_bytes());
    assert!(wait_for(|| told().contains("upload-offset: 20000")), "{}", told());
}

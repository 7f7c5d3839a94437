//! What cannot be gets a clear problem with code and remedy; nothing is half-written.

use crate::support::Service;
use std::io::{Read, Write};
use std::net::TcpStream;

struct Rough<'a> {
    service: &'a Service,
    token: String,
}

impl Rough<'_> {
    fn ask(&self, method: &str, path: &str, headers: &str, body: &[u8]) -> (u16, serde_json::Value) {
        let mut request = format!(
            "{method} {path} HTTP/1.1\r\nHost: x\r\nConnection: close\r\nAuthorization: Bearer {}\r\n{headers}",
            self.token
        )
        .into_bytes();
        if !headers.to_ascii_lowercase().contains("content-length") {
            request.extend(format!("Content-Length: {}\r\n", body.len()).bytes());
        }
        request.extend_from_slice(b"\r\n");
        request.extend_from_slice(body);
        let answer = self.service.raw(&request);
        let status = answer.split(' ').nth(1).and_then(|s| s.parse().ok()).unwrap_or(0);
        let body = answer.split_once("\r\n\r\n").map_or("", |(_, b)| b);
        (status, serde_json::from_str(body).unwrap_or_default())
    }

    /// The request must be refused with this status and code, a reason and a remedy.
    fn refused(&self, status: u16, code: &str, method: &str, path: &str, headers: &str, body: &[u8]) {
        let (got, problem) = self.ask(method, path, headers, body);
        assert_eq!((got, problem["code"].as_str()), (status, Some(code)), "{method} {path}: {problem}");
        for part in ["title", "detail", "remedy"] {
            assert!(problem[part].as_str().is_some_and(|t| t.len() > 3), "{method} {path} has no {part}");
        }
    }
}

async fn rough(service: &Service) -> Rough<'_> {
    let asked =
        serde_json::json!({ "sign_in": "ines", "password": crate::support::PASSWORD, "device": "rough" });
    let answer = reqwest::Client::new()
        .post(format!("{}/api/v1/devices", service.address))
        .json(&asked)
        .send()
        .await
        .unwrap();
    let token: serde_json::Value = answer.json().await.unwrap();
    Rough { service, token: token["token"].as_str().unwrap().to_string() }
}

#[tokio::test(flavor = "multi_thread")]
async fn names_bodies_and_queries_that_cannot_be_are_refused_with_reason_and_remedy() {
    let (service, _) = Service::ready().await;
    let r = rough(&service).await;
    let json = "Content-Type: application/json\r\n";
    let long = format!("/api/v1/files/home/{}", "x".repeat(256));
    r.refused(400, "name_dots", "PUT", "/api/v1/files/home/%2e%2e", "", b"x");
    r.refused(400, "name_control_character", "PUT", "/api/v1/files/home/a%00b", "", b"x");
    r.refused(400, "name_too_long", "PUT", &long, "", b"x");
    r.refused(400, "name_not_nfc", "PUT", "/api/v1/files/home/cafe%CC%81", "", b"x");
    r.refused(400, "name_not_utf8", "PUT", "/api/v1/files/home/a%FFb", "", b"x");
    r.refused(404, "not_found", "PUT", "/api/v1/files/home/none/x", "", b"x");
    r.refused(404, "not_found", "GET", "/api/v1/files/Nowhere/x", "", b"");
    let (status, file) = r.ask("PUT", "/api/v1/files/home/file", "", b"x");
    assert_eq!(status, 201);
    r.refused(409, "not_a_folder", "PUT", "/api/v1/files/home/file/x", "", b"x");
    r.refused(409, "not_a_file", "GET", "/api/v1/files/home/", "", b"");
    r.refused(412, "changed_meanwhile", "PUT", "/api/v1/files/home/file", "If-Match: \"other\"\r\n", b"y");
    r.refused(400, "condition_malformed", "PUT", "/api/v1/files/home/file", "If-Match: other\r\n", b"y");
    r.refused(400, "time_malformed", "PUT", "/api/v1/files/home/file?modified=yesterday", "", b"y");
    let root = file["parent"].to_string();
    let (folders, entries) =
        (format!("/api/v1/nodes/{root}/folders"), format!("/api/v1/nodes/{root}/entries"));
    r.refused(400, "malformed", "POST", &folders, json, b"{\"name\":");
    r.refused(400, "unknown_field", "POST", &folders, json, b"{\"name\":\"a\",\"colour\":1}");
    r.refused(400, "name_slash", "POST", &folders, json, b"{\"name\":\"a/b\"}");
    r.refused(409, "name_taken", "POST", &folders, json, b"{\"name\":\"file\"}");
    r.refused(400, "unknown_field", "GET", &format!("{entries}?colour=1"), "", b"");
    r.refused(400, "word_unknown", "GET", &format!("{entries}?sort=colour"), "", b"");
    r.refused(400, "word_unknown", "GET", &format!("{entries}?limit=0"), "", b"");
    r.refused(400, "cursor_malformed", "GET", &format!("{entries}?cursor=zz"), "", b"");
    r.ask("PUT", "/api/v1/files/home/second", "", b"x");
    let (_, page) = r.ask("GET", &format!("{entries}?limit=1"), "", b"");
    let next = page["next"].as_str().unwrap();
    r.refused(
        400,
        "cursor_of_another_list",
        "GET",
        &format!("{entries}?limit=1&sort=size&cursor={next}"),
        "",
        b"",
    );
    r.refused(400, "time_malformed", "GET", &format!("{entries}?at=once"), "", b"");
    r.refused(400, "no_such_moment", "GET", &format!("{entries}?at=mffffff"), "", b"");
    r.refused(404, "no_such_route", "GET", "/api/v1/nothing", "", b"");
    r.refused(403, "not_with_a_device_token", "DELETE", "/api/v1/sessions/0011223344556677", "", b"");
    r.refused(404, "not_found", "DELETE", "/api/v1/devices/99999", "", b"");
    r.refused(403, "no_service_worker", "GET", "/api/v1/files/home/file", "Service-Worker: script\r\n", b"");
    let (status, _) = r.ask("GET", "/api/v1/files/home/file", "Range: bytes=5-\r\n", b"");
    assert_eq!(status, 416);
    let (_, kept) = r.ask("GET", &entries, "", b"");
    assert_eq!(kept["entries"].as_array().unwrap().len(), 2);
    assert!(service.staging_is_clean());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_body_cut_short_or_broken_off_leaves_nothing_behind() {
    let (service, client) = Service::ready().await;
    let r = rough(&service).await;
    for announced in [100, 5_000_000] {
        let head = format!(
            "PUT /api/v1/files/home/cut HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {}\r\nContent-Length: {announced}\r\n\r\n",
            r.token
        );
        let mut line = TcpStream::connect(service.address.trim_start_matches("http://")).unwrap();
        line.write_all(head.as_bytes()).unwrap();
        line.write_all(&vec![7; announced / 2]).unwrap();
        line.shutdown(std::net::Shutdown::Both).unwrap();
        let _ = line.read(&mut [0; 100]);
        drop(line);
        assert!(service.staging_is_clean(), "{announced}");
    }
    assert_eq!(client.place("home:/cut", None).await.unwrap_err().code(), Some("not_found"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_counts_only_for_our_own_pages() {
    let (service, _) = Service::ready().await;
    let http = reqwest::Client::new();
    let sign_in = serde_json::json!({ "sign_in": "ines", "password": crate::support::PASSWORD });
    let post = |origin: String| {
        http.post(format!("{}/api/v1/session", service.address))
            .header("Origin", origin)
            .json(&sign_in)
            .send()
    };
    assert_eq!(post("https://elsewhere.example".into()).await.unwrap().status(), 403);
    let signed = post(service.address.clone()).await.unwrap();
    let cookie = signed.headers()["set-cookie"].to_str().unwrap().to_string();
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"), "{cookie}");
    let pair = cookie.split(';').next().unwrap().to_string();
    let root = 1;
    let make = |origin: Option<String>| {
        let call =
            http.post(format!("{}/api/v1/nodes/{root}/folders", service.address)).header("Cookie", &pair);
        let call = call.json(&serde_json::json!({ "name": "by another page" }));
        match origin {
            Some(origin) => call.header("Origin", origin).send(),
            None => call.send(),
        }
    };
    assert_eq!(make(Some("https://elsewhere.example".into())).await.unwrap().status(), 403);
    assert_eq!(make(None).await.unwrap().status(), 403);
    assert_eq!(make(Some(service.address.clone())).await.unwrap().status(), 201);
}

#[tokio::test(flavor = "multi_thread")]
async fn stored_files_never_run_in_our_pages() {
    let (service, _) = Service::ready().await;
    let r = rough(&service).await;
    r.ask("PUT", "/api/v1/files/home/page.html", "", b"<script>alert(1)</script>");
    r.ask("PUT", "/api/v1/files/home/notes.txt", "", b"plain");
    for (name, kind, shown) in [
        ("page.html", "application/octet-stream", "attachment"),
        ("notes.txt", "text/plain; charset=utf-8", "inline"),
    ] {
        let answer = reqwest::Client::new()
            .get(format!("{}/api/v1/files/home/{name}", service.address))
            .bearer_auth(&r.token)
            .send()
            .await
            .unwrap();
        let header = |n: &str| answer.headers()[n].to_str().unwrap().to_string();
        assert_eq!(header("content-type"), kind);
        assert!(header("content-disposition").starts_with(shown));
        assert_eq!(header("content-security-policy"), "sandbox; default-src 'none'");
        assert_eq!(header("x-content-type-options"), "nosniff");
    }
}

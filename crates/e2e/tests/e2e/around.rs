//! TLS, what there is to watch, thumbnails, completions and manual pages.

use crate::support::{PASSWORD, PATIENCE, Service, Yattic, program, wait_for};
use std::fs;
use std::io::ErrorKind;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};
use yellow_attic_client::{Client, api};

/// Makes a certificate for this machine, and its key.
pub fn certificate(dir: &Path, name: &str) {
    let made = rcgen::generate_simple_self_signed(vec!["127.0.0.1".into(), "localhost".into()]).unwrap();
    fs::write(dir.join(format!("{name}.pem")), made.cert.pem()).unwrap();
    fs::write(dir.join(format!("{name}.key")), made.signing_key.serialize_pem()).unwrap();
}

/// Asks the service while trusting one certificate only: the version of HTTP, the status, and headers.
fn curl(dir: &Path, trusted: &str, address: &str) -> Option<String> {
    let done = Command::new("curl")
        .args(["-sS", "--max-time", "5", "-D", "-", "-o", "/dev/null", "-w", "version %{http_version}"])
        .args(["--cacert", trusted, &format!("{address}/api/v1/welcome")])
        .current_dir(dir)
        .output()
        .unwrap();
    done.status.success().then(|| String::from_utf8(done.stdout).unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn tls_is_served_from_files_and_a_renewed_pair_is_taken_up() {
    let dir = tempfile::tempdir().unwrap();
    certificate(dir.path(), "first");
    certificate(dir.path(), "second");
    for end in ["pem", "key"] {
        fs::copy(dir.path().join(format!("first.{end}")), dir.path().join(format!("used.{end}"))).unwrap();
    }
    let path = |name: &str| dir.path().join(name).to_str().unwrap().to_string();
    let tls = ["--tls-certificate", &path("used.pem"), "--tls-key", &path("used.key")];
    let service = Service::start_with(&dir.path().join("data"), &tls);
    assert!(service.address.starts_with("https://"));
    let said = curl(dir.path(), "first.pem", &service.address).unwrap();
    assert!(said.contains("version 2") && said.contains("strict-transport-security"), "{said}");
    assert!(curl(dir.path(), "second.pem", &service.address).is_none());
    for end in ["pem", "key"] {
        fs::copy(dir.path().join(format!("second.{end}")), dir.path().join(format!("used.{end}"))).unwrap();
    }
    let renewed = || curl(dir.path(), "second.pem", &service.address).is_some();
    assert!(wait_for(renewed));
    // A pair that does not fit leaves the one before in force.
    fs::copy(dir.path().join("first.key"), dir.path().join("used.key")).unwrap();
    std::thread::sleep(Duration::from_secs(7));
    assert!(curl(dir.path(), "second.pem", &service.address).is_some());
    drop(service);

    let refused = |arguments: &[&str]| {
        let done = Command::new(program("yatticd"))
            .args(["serve", "--listen", "127.0.0.1:0", "--data", &path("data")])
            .args(arguments)
            .env_clear()
            .output()
            .unwrap();
        assert_eq!(done.status.code(), Some(1));
        String::from_utf8(done.stderr).unwrap()
    };
    let (pem, key) = (path("second.pem"), path("first.key"));
    let said = refused(&["--tls-certificate", &pem, "--tls-key", &key]);
    assert!(said.contains("does not belong to the certificate"), "{said}");
    let said = refused(&["--tls-certificate", &pem]);
    assert!(said.contains("tls_key") && said.contains("beside tls_certificate"), "{said}");
    fs::write(dir.path().join("empty.pem"), "").unwrap();
    let said = refused(&["--tls-certificate", &path("empty.pem"), "--tls-key", &key]);
    assert!(said.contains("no certificate"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn over_tls_large_files_come_whole_the_cipher_suits_both_and_fragments_are_refused() {
    let dir = tempfile::tempdir().unwrap();
    certificate(dir.path(), "used");
    let path = |name: &str| dir.path().join(name).to_str().unwrap().to_string();
    let mut plain = Service::start_in(&dir.path().join("data"));
    plain.set_up().await;
    let client = plain.client().await;
    let mut bytes = vec![0; 24 << 20];
    blake3::Hasher::new().update(b"lens").finalize_xof().fill(&mut bytes);
    fs::write(dir.path().join("lens.bin"), &bytes).unwrap();
    let token = client.token().unwrap().to_string();
    let line = format!("{}/dav/home/lens.bin", plain.address);
    let twice = || {
        let bearer = format!("Authorization: Bearer {token}");
        let done = Command::new("curl").args(["-sSv", "-H", &bearer, &line, &line]).output().unwrap();
        assert!(done.stdout == [&bytes[..], &bytes].concat(), "{} bytes came", done.stdout.len());
        String::from_utf8_lossy(&done.stderr).into_owned()
    };
    let send = Command::new("curl")
        .args(["-sSf", "-T", &path("lens.bin"), "-H", &format!("Authorization: Bearer {token}")])
        .arg(format!("{}/dav/home/lens.bin", plain.address))
        .status()
        .unwrap();
    assert!(send.success());
    let told = twice();
    assert!(told.contains("Re-using existing"), "a line of its own for each: {told}");
    drop(plain);

    let tls = ["--tls-certificate", &path("used.pem"), "--tls-key", &path("used.key")];
    let service = Service::start_with(&dir.path().join("data"), &tls);
    let ask = |more: &[&str]| {
        let done = Command::new("curl")
            .args(["-sSv", "--max-time", "60", "--cacert", &path("used.pem")])
            .args(["-H", &format!("Authorization: Bearer {token}")])
            .args(more)
            .arg(format!("{}/dav/home/lens.bin", service.address))
            .output()
            .unwrap();
        (done.stdout, String::from_utf8_lossy(&done.stderr).into_owned())
    };
    for (more, cipher) in [
        (&["--http1.1"][..], "TLS_AES_128_GCM_SHA256"),
        (&["--http2"], "TLS_AES_128_GCM_SHA256"),
        (&["--tls-max", "1.2"], "ECDHE-ECDSA-AES128-GCM-SHA256"),
        // Who can only have one, and who names the one for processors without AES first.
        (&["--tls13-ciphers", "TLS_AES_256_GCM_SHA384"], "TLS_AES_256_GCM_SHA384"),
        (
            &["--tls13-ciphers", "TLS_CHACHA20_POLY1305_SHA256:TLS_AES_128_GCM_SHA256"],
            "TLS_CHACHA20_POLY1305_SHA256",
        ),
    ] {
        let (got, told) = ask(more);
        assert!(told.contains(cipher), "{more:?}: {told}");
        assert!(got == bytes, "{more:?}: {} bytes came", got.len());
    }
    let (got, _) = ask(&["--http1.1", "-r", "1000000-20000000"]);
    assert!(got == bytes[1_000_000..=20_000_000]);
    // Several answers on one line keep their order.
    let again = format!("{}/dav/home/lens.bin", service.address);
    let (got, told) = ask(&["--http1.1", &again, "-r", "5-20000004", "-o", "-"]);
    assert!(told.contains("Re-using existing"), "a line of its own for each: {told}");
    assert_eq!(got.len(), 40_000_000);
    assert!(got[..20_000_000] == bytes[5..20_000_005] && got[20_000_000..] == bytes[5..20_000_005]);
    let (said, _) = ask(&["--http1.1", "-X", "DELETE", "--request-target", "/dav/home/lens.bin#part"]);
    assert!(String::from_utf8_lossy(&said).contains("address_has_fragment"));
    assert_eq!(ask(&["-r", "0-3"]).0, &bytes[..4], "nothing was removed");
    // Who never says a word of TLS is let go.
    let at = service.address.trim_start_matches("https://");
    let mut line = std::net::TcpStream::connect(at).unwrap();
    line.set_read_timeout(Some(PATIENCE)).unwrap();
    std::io::Write::write_all(&mut line, b"GET / HTTP/1.1\r\n\r\n").unwrap();
    let mut said = Vec::new();
    let end = std::io::Read::read_to_end(&mut line, &mut said);
    let held = end.is_err_and(|e| matches!(e.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut));
    assert!(!held, "the line is held");
    assert!(!String::from_utf8_lossy(&said).contains("HTTP/1.1 200"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_figures_are_for_administrators_or_on_an_address_of_their_own() {
    let dir = tempfile::tempdir().unwrap();
    // A port of the system's choice, free again by the time it is used.
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let own = format!("127.0.0.1:{port}");
    let mut service = Service::start_with(&dir.path().join("data"), &["--metrics-listen", &own]);
    service.set_up().await;
    let client = service.client().await;
    let home = client.place("home:/", None).await.unwrap().node.id;
    client.put(home, "a", None, &Default::default(), vec![7; 5000].into()).await.unwrap();
    let http = reqwest::Client::new();
    let anonymous = http.get(format!("{}/metrics", service.address)).send().await.unwrap();
    assert_eq!(anonymous.status(), 401);
    let asked = api::NewDevice {
        sign_in: "ines".into(),
        password: PASSWORD.into(),
        device: "watcher".into(),
        ..Default::default()
    };
    let token = Client::new(&service.address, None).unwrap().connect(&asked).await.unwrap().token;
    let signed_in = http.get(format!("{}/metrics", service.address)).bearer_auth(token).send().await.unwrap();
    let open = http.get(format!("http://{own}/metrics")).send().await.unwrap();
    for answer in [signed_in, open] {
        assert_eq!(answer.status(), 200);
        let text = answer.text().await.unwrap();
        for line in [
            "yattic_files 1",
            "yattic_file_bytes 5000",
            "yattic_received_bytes_total 5000",
            "yattic_writable 1",
        ] {
            assert!(text.lines().any(|l| l == line), "{line} is not in\n{text}");
        }
        assert!(text.contains("yattic_requests_total{method=\"PUT\",status=\"201\"} 1"), "{text}");
        assert!(text.ends_with("# EOF\n"));
    }
}

pub fn png(width: u32, height: u32) -> Vec<u8> {
    let mut out = Vec::new();
    let mut encoder = png::Encoder::new(&mut out, width, height);
    encoder.set_color(png::ColorType::Rgb);
    let bytes: Vec<u8> = (0..width * height * 3).map(|i| (i / 7) as u8).collect();
    encoder.write_header().unwrap().write_image_data(&bytes).unwrap();
    out
}

#[tokio::test(flavor = "multi_thread")]
async fn thumbnails_are_drawn_of_pictures_and_of_nothing_that_only_says_so() {
    let (service, client) = Service::ready().await;
    let home = client.place("home:/", None).await.unwrap().node.id;
    let asked = api::NewDevice {
        sign_in: "ines".into(),
        password: PASSWORD.into(),
        device: "viewer".into(),
        ..Default::default()
    };
    let token = client.connect(&asked).await.unwrap().token;
    let put = |name: &'static str, bytes: Vec<u8>| {
        let client = client.clone();
        async move { client.put(home, name, None, &Default::default(), bytes.into()).await.unwrap() }
    };
    let ask = |node: i64| {
        reqwest::Client::new()
            .get(format!("{}/api/v1/nodes/{node}/thumbnail", service.address))
            .bearer_auth(&token)
            .send()
    };
    let good = put("view.png", png(1200, 800)).await;
    let answer = ask(good.id).await.unwrap();
    assert_eq!(
        (answer.status().as_u16(), answer.headers()["content-type"].as_bytes()),
        (200, &b"image/jpeg"[..])
    );
    assert_eq!(answer.headers()["content-security-policy"], "sandbox; default-src 'none'");
    let bytes = answer.bytes().await.unwrap();
    assert!(bytes.starts_with(b"\xff\xd8") && bytes.len() < 60_000);
    // Kept: deleted, it is made again.
    let cache = service.data.join("cache/thumbnails");
    assert!(wait_for(|| fs::remove_dir_all(&cache).is_ok()));
    assert_eq!(ask(good.id).await.unwrap().bytes().await.unwrap(), bytes);
    // Drawn before anybody asks.
    let early = put("early.png", png(400, 400)).await;
    let hash = early.blake3.unwrap();
    assert!(wait_for(|| cache.join(&hash[..2]).join(&hash).exists()));

    // What it says does not count, what it is does.
    let lying = put("a.jpg", png(500, 300)).await;
    assert_eq!(ask(lying.id).await.unwrap().status(), 200);
    let mut vast = png(1, 1);
    vast[16..24].copy_from_slice(&[0, 0, 0xea, 0x60, 0, 0, 0xea, 0x60]);
    let sum = crc32fast::hash(&vast[12..29]);
    vast[29..33].copy_from_slice(&sum.to_be_bytes());
    let mut broken = png(900, 900);
    broken.truncate(broken.len() / 2);
    for (name, bytes) in [
        ("vast.png", vast),
        ("broken.png", broken),
        ("text.png", b"no picture".to_vec()),
        ("empty.png", vec![]),
        ("a.txt", png(5, 5)),
    ] {
        let node = put(name, bytes).await;
        let begun = Instant::now();
        let answer = ask(node.id).await.unwrap();
        assert_eq!(answer.status(), 404, "{name}");
        let problem: api::Problem = answer.json().await.unwrap();
        assert_eq!(problem.code, "no_thumbnail");
        assert!(begun.elapsed() < Duration::from_secs(20), "{name}");
    }
    assert_eq!(ask(good.id).await.unwrap().status(), 200);
}

#[test]
fn completions_and_manual_pages_name_every_command() {
    let dir = tempfile::tempdir().unwrap();
    for (binary, commands) in
        [("yattic", ["put", "restore", "find"]), ("yatticd", ["serve", "check", "config"])]
    {
        let done = Command::new(program(binary)).args(["completions", "bash"]).env_clear().output().unwrap();
        let script = String::from_utf8(done.stdout).unwrap();
        let pages = Command::new(program(binary)).arg("manual").arg(dir.path()).env_clear().status().unwrap();
        assert!(pages.success());
        for command in commands {
            assert!(script.contains(command), "{binary} {command}");
            let page = fs::read_to_string(dir.path().join(format!("{binary}-{command}.1"))).unwrap();
            assert!(page.starts_with(".ie") && page.contains(command), "{page}");
        }
        assert!(!script.contains("draw"), "the helper is nobody's command");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn files_are_found_by_parts_of_their_names() {
    let (service, client) = Service::ready().await;
    let yattic = Yattic::new();
    yattic.connect(&service);
    let home = client.place("home:/", None).await.unwrap().node.id;
    let folder = client.make_folder(home, "Logbook scans").await.unwrap();
    for name in ["Page 007 Übersicht.tif", "page 008.tif", "notes.md"] {
        client.put(folder.id, name, None, &Default::default(), b"x".to_vec().into()).await.unwrap();
    }
    client.put(home, "PAGE at the top", None, &Default::default(), b"x".to_vec().into()).await.unwrap();
    assert!(yattic.ok(&["find", "übers", "PAGE"]).contains("home:/Logbook scans/Page 007 Übersicht.tif"));
    assert_eq!(yattic.ok(&["find", "page"]).lines().count(), 3);
    assert_eq!(yattic.ok(&["find", "page", "--within", "home:/Logbook scans"]).lines().count(), 2);
    assert_eq!(yattic.ok(&["find", "007"]).lines().count(), 1);
    assert!(yattic.ok(&["find", "scans"]).contains("home:/Logbook scans/"));
    // What lies in something removed is not there.
    client.remove(folder.id).await.unwrap();
    assert_eq!(yattic.ok(&["find", "page"]).lines().count(), 1);
    assert!(yattic.ok(&["find", "notes"]).contains("Nothing has such a name"));
}

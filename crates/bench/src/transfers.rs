//! Many files at once, whole trees, TLS, archives, events, thumbnails: each against its peer.

use crate::cases::{Failure, line, median};
use crate::disk::run as command;
use crate::http::many;
use crate::peers::{Nginx, Service, beside};
use std::io::{BufRead, BufReader, Read, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};
use yellow_attic_core::tar;

const PAIRS: usize = 3;
const FILES: usize = 5_000;

/// Runs those that are named, on an empty store of their own.
pub fn run(disk: &Path, on: &dyn Fn(&str) -> bool) -> Result<(), Failure> {
    let data = disk.join("store-transfers");
    if on("tar") || on("tree") || on("zip") || on("live") || on("thumbnails") {
        let service = Service::start(&data)?;
        if on("tar") {
            tar_stream(&service, disk)?;
        }
        if on("tree") || on("zip") {
            tree(&service, disk, on)?;
        }
        if on("live") {
            live(&service)?;
        }
        if on("thumbnails") {
            thumbnails(&service)?;
        }
        service.stop()?;
    }
    if on("tls") {
        tls(&data, disk)?;
    }
    Ok(())
}

fn content(n: usize, size: usize) -> Vec<u8> {
    let mut seed = n as u64 * 0x9e37_79b9 + 1;
    let mut bytes = Vec::with_capacity(size + 8);
    while bytes.len() < size {
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        bytes.extend_from_slice(&(seed >> 8).to_le_bytes());
    }
    bytes.truncate(size);
    bytes
}

/// curl with the service's token; its output goes nowhere unless it is wanted.
fn curl(service: &Service, arguments: &[&str], path: &str) -> Result<Duration, Failure> {
    let begun = Instant::now();
    let status = Command::new("curl")
        .args(["-sSf", "-o", "/dev/null", "-H", &format!("Authorization: Bearer {}", service.token)])
        .args(arguments)
        .arg(format!("http://{}/api/v1{path}", service.at))
        .status()?;
    if !status.success() {
        return Err(format!("curl {path}: {status}").into());
    }
    Ok(begun.elapsed())
}

fn home(service: &Service) -> Result<i64, Failure> {
    let facts = service.json("GET", "/api/v1/place?path=home:/", "")?;
    facts["node"]["id"].as_i64().ok_or_else(|| "no home".into())
}

fn tar_stream(service: &Service, disk: &Path) -> Result<(), Failure> {
    let file = disk.join("many.tar");
    let mut out = std::io::BufWriter::new(std::fs::File::create(&file)?);
    for n in 0..FILES {
        out.write_all(&tar::head(&format!("file-{n}"), tar::Entry::File, 8192, 0, "x"))?;
        out.write_all(&content(n, 8192))?;
    }
    out.write_all(&tar::END)?;
    out.flush()?;
    drop(out);
    let home = home(service)?;
    let (mut ours, mut theirs, mut ratios) = (Vec::new(), Vec::new(), Vec::new());
    for round in 0..PAIRS {
        // A fresh folder of the other side too: making files where many were is slower.
        let nginx = Nginx::start(&disk.join(format!("nginx-tar-{round}")))?;
        let them =
            many(nginx.at, 16, FILES, &|n| (Nginx::head("PUT", &format!("/f{n}"), 8192), content(n, 8192)))?;
        drop(nginx);
        // What the other side owes the disk is not ours to wait for.
        command("sync", &["-f", &disk.display().to_string()])?;
        let folder = service.json(
            "POST",
            &format!("/api/v1/nodes/{home}/folders"),
            &format!(r#"{{"name":"tar-{round}"}}"#),
        )?;
        let body = format!("@{}", file.display());
        let took = curl(
            service,
            &["-X", "POST", "-H", "Expect:", "--data-binary", &body],
            &format!("/nodes/{}/tar", folder["id"]),
        )?;
        let us = FILES as f64 / took.as_secs_f64();
        ours.push(us);
        theirs.push(them);
        ratios.push(us / them);
    }
    line(
        "5,000 x 8 KiB as one tar, durable; against DAV",
        median(ours) / 1000.0,
        median(theirs) / 1000.0,
        "k/s",
        median(ratios),
        "at least 0.7",
    );
    Ok(())
}

/// A real folder: 5,000 files, 2 GiB, most of them small.
fn make_tree(root: &Path) -> Result<(), Failure> {
    if root.exists() {
        return Ok(());
    }
    let mut left = 2usize << 30;
    for n in 0..FILES {
        let size = match n {
            0 => 512 << 20,
            1..=20 => 24 << 20,
            21..=400 => 2 << 20,
            _ => 2_000 + (n * 7919) % 60_000,
        };
        let size = size.min(left);
        left -= size;
        let folder = root.join(format!("folder {}/part {}", n % 40, n % 7));
        std::fs::create_dir_all(&folder)?;
        std::fs::write(folder.join(format!("file {n}.dat")), content(n, size))?;
    }
    Ok(())
}

fn timed(program: &Path, home: &Path, arguments: &[&str]) -> Result<Duration, Failure> {
    let begun = Instant::now();
    let done =
        Command::new(program).args(arguments).env("YATTIC_HOME", home).stdout(Stdio::null()).status()?;
    if !done.success() {
        return Err(format!("{} {arguments:?}: {done}", program.display()).into());
    }
    Ok(begun.elapsed())
}

/// Until what was measured before is on the disk and in its place: each pays for its own.
fn quiet(disk: &Path) -> Result<(), Failure> {
    std::thread::sleep(Duration::from_secs(2));
    command("sync", &["-f", &disk.display().to_string()]).map(|_| ())
}

fn copy_and_sync(from: &Path, to: &Path) -> Result<Duration, Failure> {
    let begun = Instant::now();
    command("cp", &["-r", &from.display().to_string(), &to.display().to_string()])?;
    command("sync", &["-f", &to.display().to_string()])?;
    Ok(begun.elapsed())
}

fn tree(service: &Service, disk: &Path, on: &dyn Fn(&str) -> bool) -> Result<(), Failure> {
    let source = disk.join("tree");
    make_tree(&source)?;
    let client = disk.join("client");
    std::fs::create_dir_all(&client)?;
    std::fs::write(
        client.join("connection.toml"),
        format!("address = \"http://{}\"\nsign_in = \"bench\"\ntoken = \"{}\"\n", service.at, service.token),
    )?;
    let yattic = beside("yattic")?;
    let from = source.display().to_string();
    let rounds = if on("tree") { PAIRS } else { 1 };
    let mut put = (Vec::new(), Vec::new());
    let mut get = (Vec::new(), Vec::new());
    for round in 0..rounds {
        let to = disk.join("copy");
        let them = copy_and_sync(&source, &to)?;
        std::fs::remove_dir_all(&to)?;
        quiet(disk)?;
        let us = timed(&yattic, &client, &["put", "-q", &from, &format!("home:/tree-{round}")])?;
        put.0.push(1.0 / us.as_secs_f64());
        put.1.push(them.as_secs_f64() / us.as_secs_f64());
        quiet(disk)?;
        let back = disk.join("back").display().to_string();
        let us = timed(&yattic, &client, &["get", "-q", &format!("home:/tree-{round}"), "--to", &back])?;
        get.0.push(1.0 / us.as_secs_f64());
        get.1.push(them.as_secs_f64() / us.as_secs_f64());
        if round == 0 {
            command("diff", &["-r", &from, &back])?;
        }
        std::fs::remove_dir_all(&back)?;
    }
    if on("tree") {
        for (what, (ours, ratios), reach) in [
            ("yattic put, 5,000 files, 2 GiB; against cp -r and sync", put, "at least 0.4"),
            ("yattic get of the same; against the same", get, "at least 0.5"),
        ] {
            let (us, ratio) = (median(ours) * 2.0, median(ratios));
            line(what, us, us / ratio, "GiB/s", ratio, reach);
        }
    }
    if on("zip") {
        let folder = service.json("GET", "/api/v1/place?path=home:/tree-0", "")?;
        let path = format!("/nodes/{}/archive?format=zip", folder["node"]["id"]);
        let (mut ours, mut ratios) = (Vec::new(), Vec::new());
        let (before, _) = service.memory()?;
        for _ in 0..PAIRS {
            let begun = Instant::now();
            command("sh", &["-c", &format!("find '{from}' -type f -exec cat {{}} + > /dev/null")])?;
            let them = begun.elapsed();
            let us = curl(service, &[], &path)?;
            ours.push(2.0 / us.as_secs_f64());
            ratios.push(them.as_secs_f64() / us.as_secs_f64());
        }
        let (after, _) = service.memory()?;
        let (us, ratio) = (median(ours), median(ratios));
        line(
            "zip of 5,000 files, 2 GiB; against cat of them",
            us,
            us / ratio,
            "GiB/s",
            ratio,
            "at least 0.3",
        );
        println!(
            "{:<52} {:>6.0} MiB {:>25}  at most 32 MiB",
            "memory that this added",
            after.saturating_sub(before) as f64 / 1048576.0,
            ""
        );
    }
    Ok(())
}

/// From a change's request to its event on another line.
fn live(service: &Service) -> Result<(), Failure> {
    let home = home(service)?;
    let mut stream = std::net::TcpStream::connect(service.at)?;
    stream.set_read_timeout(Some(Duration::from_secs(20)))?;
    stream.write_all(service.head("GET", "/api/v1/events", 0).as_bytes())?;
    let mut events = BufReader::new(stream).lines();
    let mut wait_for = |word: &str| -> Result<(), Failure> {
        for line in events.by_ref() {
            if line?.contains(word) {
                return Ok(());
            }
        }
        Err("the events ended".into())
    };
    wait_for("event: ready")?;
    let mut took = Vec::new();
    for n in 0..200 {
        let begun = Instant::now();
        let name = format!("live-{}-{n}", std::process::id());
        service.json("POST", &format!("/api/v1/nodes/{home}/folders"), &format!(r#"{{"name":"{name}"}}"#))?;
        wait_for(&name)?;
        took.push(begun.elapsed().as_secs_f64() * 1000.0);
    }
    took.sort_by(f64::total_cmp);
    println!(
        "{:<52} {:>6.0} ms   {:>25}  under 500 ms (median {:.0} ms)",
        "a change until its event, 95th percentile", took[190], "", took[100]
    );
    Ok(())
}

/// Photographs of 12 megapixels: ours in the helper, against decoding and resizing them at once here.
fn thumbnails(service: &Service) -> Result<(), Failure> {
    const PHOTOS: usize = 60;
    let home = home(service)?;
    let mut photos = Vec::new();
    for n in 0..PHOTOS {
        let mut picture = image::RgbImage::new(4000, 3000);
        let noise = content(n, 4096);
        for (x, y, p) in picture.enumerate_pixels_mut() {
            let grain = noise[((x * 31 + y * 17) % 4096) as usize] >> 4;
            *p = image::Rgb([(x / 16) as u8 ^ grain, (y / 12) as u8, ((x + y) / 28) as u8 + grain / 2]);
        }
        let mut bytes = std::io::Cursor::new(Vec::new());
        image::codecs::jpeg::JpegEncoder::new_with_quality(&mut bytes, 85).encode_image(&picture)?;
        photos.push(bytes.into_inner());
    }
    let begun = Instant::now();
    let next = std::sync::atomic::AtomicUsize::new(0);
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                while let Some(photo) = photos.get(next.fetch_add(1, std::sync::atomic::Ordering::Relaxed)) {
                    let small = image::load_from_memory(photo).map(|p| p.thumbnail(320, 320));
                    std::hint::black_box(small.map(|p| p.width()).unwrap_or(0));
                }
            });
        }
    });
    let bare = begun.elapsed();
    // Under a name that says nothing first, so that none is drawn before it is asked for.
    let mut nodes = Vec::new();
    for (n, photo) in photos.iter().enumerate() {
        let mut put = crate::http::Line::open(service.at)?;
        let path = format!("/api/v1/nodes/{home}/files/photo-{n}-{}.raw", std::process::id());
        let (_, body) = put.ask(&service.head("PUT", &path, photo.len()), photo, true)?;
        let node: serde_json::Value = serde_json::from_slice(&body)?;
        nodes.push(node["id"].as_i64().ok_or("no id")?);
    }
    let begun = Instant::now();
    // Renamed, they are pictures: drawn in the background, and asked for at once.
    for (n, node) in nodes.iter().enumerate() {
        let name = format!(r#"{{"name":"photo-{n}-{}.jpg"}}"#, std::process::id());
        service.json("PATCH", &format!("/api/v1/nodes/{node}"), &name)?;
    }
    many(service.at, 4, PHOTOS, &|n| {
        (service.head("GET", &format!("/api/v1/nodes/{}/thumbnail", nodes[n]), 0), Vec::new())
    })?;
    let us = begun.elapsed();
    let rate = |d: Duration| PHOTOS as f64 / d.as_secs_f64();
    line(
        "thumbnails of 12 megapixels; time against bare, 2 threads",
        rate(us),
        rate(bare),
        "/s",
        us.as_secs_f64() / bare.as_secs_f64(),
        "at most 1.5",
    );
    beside_thumbnails(service, home, &photos)
}

/// Uploads while photographs are drawn, against uploads alone.
fn beside_thumbnails(service: &Service, home: i64, photos: &[Vec<u8>]) -> Result<(), Failure> {
    const UPLOADS: usize = 2_000;
    let upload = |round: &str| {
        let begun = Instant::now();
        many(service.at, 4, UPLOADS, &|n| {
            let path = format!("/api/v1/nodes/{home}/files/{round}-{n}-{}.dat", std::process::id());
            let body = content(n, 8192);
            (service.head("PUT", &path, body.len()), body)
        })?;
        Ok::<_, Failure>(UPLOADS as f64 / begun.elapsed().as_secs_f64())
    };
    let (mut ours, mut ratios) = (Vec::new(), Vec::new());
    for round in 0..PAIRS {
        let alone = upload(&format!("alone-{round}"))?;
        for (n, photo) in photos.iter().enumerate() {
            // Something after its end makes each a picture that was never drawn.
            let photo = [&photo[..], format!("{round}").as_bytes()].concat();
            let path = format!("/api/v1/nodes/{home}/files/again-{round}-{n}-{}.jpg", std::process::id());
            let mut put = crate::http::Line::open(service.at)?;
            put.ask(&service.head("PUT", &path, photo.len()), &photo, true)?;
        }
        let beside = upload(&format!("beside-{round}"))?;
        ours.push(beside);
        ratios.push(beside / alone);
        // Until the last is drawn: the next round's uploads are alone.
        std::thread::sleep(Duration::from_secs(8));
    }
    let (us, ratio) = (median(ours), median(ratios));
    line("uploads of 8 KiB while photographs are drawn", us, us / ratio, "/s", ratio, "at least 0.8");
    Ok(())
}

fn tls(data: &Path, disk: &Path) -> Result<(), Failure> {
    let made = rcgen::generate_simple_self_signed(vec!["127.0.0.1".into()])?;
    let (pem, key) = (disk.join("tls.pem"), disk.join("tls.key"));
    std::fs::write(&pem, made.cert.pem())?;
    std::fs::write(&key, made.signing_key.serialize_pem())?;
    let large = content(1, 1 << 30);
    let service = Service::start(data)?;
    let mut put = crate::http::Line::open(service.at)?;
    put.ask(&service.head("PUT", "/api/v1/files/home/tls.bin", large.len()), &large, false)?;
    let token = service.token.clone();
    service.stop()?;
    let service = Service::start_with(
        data,
        &["--tls-certificate", &pem.display().to_string(), "--tls-key", &key.display().to_string()],
        token,
    )?;
    let nginx = Nginx::start_with_tls(&disk.join("nginx-tls"), &pem, &key)?;
    std::fs::write(nginx.root.join("tls.bin"), &large)?;
    drop(large);
    let fetch = |address: String, token: &str| -> Result<f64, Failure> {
        let begun = Instant::now();
        let mut child = Command::new("curl")
            .args(["-sSfk", "--http1.1", "-H", &format!("Authorization: Bearer {token}"), &address])
            .stdout(Stdio::piped())
            .spawn()?;
        let mut out = child.stdout.take().ok_or("no output")?;
        let (mut block, mut got) = (vec![0; 1 << 20], 0);
        loop {
            match out.read(&mut block)? {
                0 => break,
                n => got += n,
            }
        }
        if !child.wait()?.success() || got != 1 << 30 {
            return Err(format!("{address}: {got} bytes").into());
        }
        Ok(1.0 / begun.elapsed().as_secs_f64())
    };
    let (mut ours, mut theirs, mut ratios) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..5 {
        let us = fetch(format!("https://{}/api/v1/files/home/tls.bin", service.at), &service.token)?;
        let them = fetch(format!("https://{}/tls.bin", nginx.at), "")?;
        ours.push(us);
        theirs.push(them);
        ratios.push(us / them);
    }
    line(
        "1 GiB by GET over TLS; against a static server",
        median(ours),
        median(theirs),
        "GiB/s",
        median(ratios),
        "at least 1.1",
    );
    Ok(())
}

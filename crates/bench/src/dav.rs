//! Open protocols: WebDAV against general-purpose servers, deltas, and many connections that only wait.

use crate::cases::{Failure, PAIRS, line, median};
use crate::disk::run as command;
use crate::http::{Line, many};
use crate::peers::{Apache, Nginx, PASSWORD, Service, beside};
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

const FILES: usize = 10_000;
const SMALL: usize = 8192;

/// Runs those that are named.
pub fn run(disk: &Path, on: &dyn Fn(&str) -> bool) -> Result<(), Failure> {
    let data = disk.join("store-dav");
    if on("dav") || on("propfind") || on("delta") || on("idle") {
        let service = Service::start(&data)?;
        if on("dav") {
            puts(&service, disk)?;
        }
        if on("propfind") {
            propfind(&service, disk)?;
        }
        if on("delta") {
            delta(&service, disk)?;
        }
        if on("idle") {
            idle(&service)?;
        }
        service.stop()?;
    }
    Ok(())
}

fn figure(what: &str, value: f64, unit: &str, reach: &str) {
    println!("{what:<52} {value:>6.2} {unit:<4} {:>19}  {reach}", "");
}

fn bytes(n: usize, length: usize) -> Vec<u8> {
    let mut bytes = vec![0; length];
    blake3::Hasher::new().update(&n.to_le_bytes()).finalize_xof().fill(&mut bytes);
    bytes
}

/// Small files by PUT: new ones, and then the same names again.
fn puts(service: &Service, disk: &Path) -> Result<(), Failure> {
    let body = bytes(1, SMALL);
    let (mut new, mut again) = ((Vec::new(), Vec::new(), Vec::new()), (Vec::new(), Vec::new(), Vec::new()));
    let keep = |to: &mut (Vec<f64>, Vec<f64>, Vec<f64>), us: f64, them: f64| {
        to.0.push(us / 1000.0);
        to.1.push(them / 1000.0);
        to.2.push(us / them);
    };
    for round in 0..PAIRS {
        // A fresh folder on both sides each time: making files where many were is slower.
        let nginx = Nginx::start(&disk.join(format!("nginx-dav-{round}")))?;
        let mut line = Line::open(service.at)?;
        let (status, _) =
            line.ask(&service.head("MKCOL", &format!("/dav/home/round-{round}"), 0), b"", false)?;
        if status != 201 {
            return Err(format!("MKCOL: {status}").into());
        }
        let ours = || {
            many(service.at, 16, FILES, &|n| {
                (service.head("PUT", &format!("/dav/home/round-{round}/f{n}"), SMALL), body.clone())
            })
        };
        let theirs =
            || many(nginx.at, 16, FILES, &|n| (Nginx::head("PUT", &format!("/f{n}"), SMALL), body.clone()));
        let them = theirs()?;
        command("sync", &["-f", &disk.display().to_string()])?;
        keep(&mut new, ours()?, them);
        command("sync", &["-f", &disk.display().to_string()])?;
        let them = theirs()?;
        command("sync", &["-f", &disk.display().to_string()])?;
        keep(&mut again, ours()?, them);
        drop(nginx);
        // What is filed in the background is over before the next round.
        std::thread::sleep(Duration::from_secs(8));
    }
    line(
        "8 KiB by DAV PUT, new, durable; against DAV",
        median(new.0),
        median(new.1),
        "k/s",
        median(new.2),
        "at least 0.5",
    );
    line(
        "the same, replacing; against the same server",
        median(again.0),
        median(again.1),
        "k/s",
        median(again.2),
        "at least 1",
    );
    Ok(())
}

/// What a file manager asks for.
const ASKED: &str = "<?xml version=\"1.0\" encoding=\"utf-8\"?><D:propfind xmlns:D=\"DAV:\"><D:prop><D:creationdate/>\
    <D:displayname/><D:getcontentlength/><D:getcontenttype/><D:getetag/><D:getlastmodified/><D:resourcetype/></D:prop></D:propfind>";

/// One listing: until the first byte of the body, until the last, and its size.
fn listing(at: std::net::SocketAddr, head: &str) -> Result<(f64, f64, usize), Failure> {
    let mut stream = TcpStream::connect(at)?;
    stream.set_nodelay(true)?;
    let begun = Instant::now();
    stream.write_all(format!("{head}{ASKED}").as_bytes())?;
    let (mut buffer, mut got, mut first) = (vec![0; 1 << 18], 0, None);
    let mut tail = Vec::new();
    loop {
        let n = stream.read(&mut buffer)?;
        if n == 0 {
            break;
        }
        if first.is_none() && buffer[..n].windows(4).any(|w| w == b"\r\n\r\n") {
            first = Some(begun.elapsed());
        }
        got += n;
        tail.extend_from_slice(&buffer[n.saturating_sub(64)..n]);
        tail.drain(..tail.len().saturating_sub(64));
        if String::from_utf8_lossy(&tail).contains("multistatus>") && got > 100_000 {
            break;
        }
    }
    Ok((first.ok_or("no answer")?.as_secs_f64(), begun.elapsed().as_secs_f64(), got))
}

/// How long a listing of 10,000 takes on a store, in milliseconds.
pub fn propfind_time(data: &Path) -> Result<f64, Failure> {
    let service = Service::start(data)?;
    let mut line_to = Line::open(service.at)?;
    line_to.ask(&service.head("MKCOL", "/dav/home/listed", 0), b"", false)?;
    many(service.at, 16, FILES, &|n| {
        (service.head("PUT", &format!("/dav/home/listed/entry-{n:05}.txt"), 5), b"a day".to_vec())
    })?;
    let head = format!(
        "PROPFIND /dav/home/listed/ HTTP/1.1\r\nHost: x\r\nDepth: 1\r\nContent-Type: application/xml\r\nAuthorization: Bearer {}\r\nContent-Length: {}\r\n\r\n",
        service.token,
        ASKED.len()
    );
    let mut times = Vec::new();
    for _ in 0..PAIRS * 4 {
        let (_, all, size) = listing(service.at, &head)?;
        if size < FILES * 300 {
            return Err(format!("only {size} bytes came").into());
        }
        times.push(all * 1000.0);
    }
    service.stop()?;
    Ok(median(times))
}

fn propfind(service: &Service, disk: &Path) -> Result<(), Failure> {
    let mut line_to = Line::open(service.at)?;
    line_to.ask(&service.head("MKCOL", "/dav/home/many", 0), b"", false)?;
    many(service.at, 16, FILES, &|n| {
        (service.head("PUT", &format!("/dav/home/many/entry-{n:05}.txt"), 5), b"a day".to_vec())
    })?;
    let apache = Apache::start(&disk.join("apache"))?;
    std::fs::create_dir_all(apache.root.join("many"))?;
    for n in 0..FILES {
        std::fs::write(apache.root.join(format!("many/entry-{n:05}.txt")), "a day")?;
    }
    let ask = |path: &str, more: &str| {
        format!(
            "PROPFIND {path} HTTP/1.1\r\nHost: x\r\nDepth: 1\r\nContent-Type: application/xml\r\n{more}Content-Length: {}\r\n\r\n",
            ASKED.len()
        )
    };
    let ours = ask("/dav/home/many/", &format!("Authorization: Bearer {}\r\n", service.token));
    let theirs = ask("/many/", "");
    for _ in 0..2 {
        listing(service.at, &ours)?;
        listing(apache.at, &theirs)?;
    }
    let before = service.memory()?.0;
    let (mut us, mut them, mut ratios, mut firsts) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for _ in 0..PAIRS * 2 {
        let (_, theirs, _) = listing(apache.at, &theirs)?;
        let (first, all, size) = listing(service.at, &ours)?;
        if size < FILES * 300 {
            return Err(format!("only {size} bytes came").into());
        }
        us.push(all * 1000.0);
        them.push(theirs * 1000.0);
        ratios.push(all / theirs);
        firsts.push(first / all);
    }
    let added = service.memory()?.1.saturating_sub(before) as f64 / f64::from(1 << 20);
    line(
        "PROPFIND of 10,000; time against another server",
        median(us),
        median(them),
        "ms",
        median(ratios),
        "at most 0.33",
    );
    figure("its first byte, as a part of its time", median(firsts), "", "before the listing is complete");
    figure("memory that it added, at its highest", added, "MiB", "under 4 MiB");
    Ok(())
}

/// A line that counts what goes through it.
fn counted(to: std::net::SocketAddr) -> Result<(std::net::SocketAddr, Arc<AtomicU64>), Failure> {
    let listener = TcpListener::bind("127.0.0.1:0")?;
    let (at, count) = (listener.local_addr()?, Arc::new(AtomicU64::new(0)));
    let counter = count.clone();
    std::thread::spawn(move || {
        for near in listener.incoming().flatten() {
            let Ok(far) = TcpStream::connect(to) else { continue };
            for (mut from, mut into) in
                [(near.try_clone().expect("a socket"), far.try_clone().expect("a socket")), (far, near)]
            {
                let count = counter.clone();
                std::thread::spawn(move || {
                    let mut buffer = vec![0; 1 << 16];
                    while let Ok(n @ 1..) = from.read(&mut buffer) {
                        count.fetch_add(n as u64, Ordering::Relaxed);
                        if into.write_all(&buffer[..n]).is_err() {
                            break;
                        }
                    }
                    let _ = into.shutdown(std::net::Shutdown::Write);
                });
            }
        }
    });
    Ok((at, count))
}

fn delta(service: &Service, disk: &Path) -> Result<(), Failure> {
    let (at, count) = counted(service.at)?;
    let home = disk.join("yattic-home");
    std::fs::create_dir_all(&home)?;
    let yattic = |arguments: &[&str], input: &str| -> Result<(), Failure> {
        let mut child = Command::new(beside("yattic")?)
            .args(arguments)
            .env("YATTIC_HOME", &home)
            .stdin(std::process::Stdio::piped())
            .stdout(std::process::Stdio::null())
            .spawn()?;
        child.stdin.take().ok_or("no input")?.write_all(input.as_bytes())?;
        let status = child.wait()?;
        if status.success() { Ok(()) } else { Err(format!("yattic {arguments:?}: {status}").into()) }
    };
    let address = format!("http://{at}");
    yattic(
        &["connect", &address, "--sign-in", "bench", "--password-stdin", "--device", "bench"],
        &format!("{PASSWORD}\n"),
    )?;
    let (here, there) = (disk.join("drawings.bin"), disk.join("fetched.bin"));
    let mut content = bytes(1, 1 << 30);
    std::fs::write(&here, &content)?;
    let (here_text, there_text) = (here.display().to_string(), there.display().to_string());
    yattic(&["put", &here_text, "home:/drawings.bin"], "")?;
    yattic(&["get", "home:/drawings.bin", "--to", &there_text], "")?;
    let middle = content.len() / 2;
    content.splice(middle..middle + (1 << 20), bytes(2, 1 << 20));
    std::fs::write(&here, &content)?;
    let way = |what: &str, arguments: &[&str]| -> Result<(), Failure> {
        let (before, begun) = (count.load(Ordering::Relaxed), Instant::now());
        yattic(arguments, "")?;
        let wire = (count.load(Ordering::Relaxed) - before) as f64 / f64::from(1 << 20);
        figure(
            &format!("{what}, on the wire ({:.1} s)", begun.elapsed().as_secs_f64()),
            wire,
            "MiB",
            "under 6 MiB",
        );
        Ok(())
    };
    way("1 GiB with 1 MiB changed, up", &["put", &here_text, "home:/drawings.bin"])?;
    way("the same, down", &["get", "--replace", "home:/drawings.bin", "--to", &there_text])?;
    if std::fs::read(&there)? != content {
        return Err("what came down is not what went up".into());
    }
    Ok(())
}

fn idle(service: &Service) -> Result<(), Failure> {
    const IDLE: usize = 5000;
    let mut line_to = Line::open(service.at)?;
    line_to.ask(&service.head("PUT", "/dav/home/small.bin", SMALL), &bytes(1, SMALL), false)?;
    let busy =
        || many(service.at, 32, 40_000, &|_| (service.head("GET", "/dav/home/small.bin", 0), Vec::new()));
    busy()?;
    let (mut us, mut alone, mut ratios) = (Vec::new(), Vec::new(), Vec::new());
    let mut highest = 0;
    for _ in 0..3 {
        let before = busy()?;
        let head = service.head("HEAD", "/dav/home/small.bin", 0);
        let mut waiting = Vec::with_capacity(IDLE);
        for _ in 0..IDLE {
            let mut stream = TcpStream::connect(service.at)?;
            stream.write_all(head.as_bytes())?;
            let mut answer = [0; 1024];
            let n = stream.read(&mut answer)?;
            if !answer[..n].starts_with(b"HTTP/1.1 200") {
                return Err("an idle connection was refused".into());
            }
            waiting.push(stream);
        }
        let beside = busy()?;
        highest = highest.max(service.memory()?.0);
        drop(waiting);
        let after = busy()?;
        let both = (before + after) / 2.0;
        us.push(beside / 1000.0);
        alone.push(both / 1000.0);
        ratios.push(beside / both);
    }
    line(
        "8 KiB by GET beside 5,000 idle connections",
        median(us),
        median(alone),
        "k/s",
        median(ratios),
        "at least 0.9",
    );
    figure("memory with them", highest as f64 / f64::from(1 << 20), "MiB", "under 300 MiB");
    Ok(())
}

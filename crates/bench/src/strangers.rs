//! What strangers get: downloads by link against a signed-in client's, and two hundred of them who hand
//! files in at once against one client that sends the same.

use crate::cases::{Failure, PAIRS, line, median};
use crate::http::{Line, many};
use crate::peers::{PASSWORD, Service};
use base64::Engine as _;
use std::io::Write;
use std::path::Path;
use std::time::{Duration, Instant};

const GIB: usize = 1 << 30;
const STRANGERS: usize = 200;
const MIB: usize = 1 << 20;

/// Runs it on a service of its own.
pub fn run(disk: &Path) -> Result<(), Failure> {
    let data = disk.join("store-strangers");
    std::fs::create_dir_all(&data)?;
    let service = Service::start(&data)?;
    let home = service.json("GET", "/api/v1/place?path=home:/", "")?["node"]["id"].to_string();
    // Giving something out wants the password again.
    service.json("POST", "/api/v1/proof", &format!(r#"{{"password":"{PASSWORD}"}}"#))?;
    small(&service, &home)?;
    large(&service, &home)?;
    hand_in(&service, &home)?;
    service.stop()
}

/// Makes a link or an intake; the path of its address.
fn opening(service: &Service, kind: &str, node: &str) -> Result<String, Failure> {
    let made = service.json("POST", "/api/v1/openings", &format!(r#"{{"kind":"{kind}","node":{node}}}"#))?;
    let address = made["address"].as_str().ok_or_else(|| format!("no address: {made}"))?;
    let at = address.find("/open/").or_else(|| address.find("/give/")).ok_or("no path")?;
    Ok(address[at..].to_string())
}

fn bare(method: &str, path: &str, more: &str, length: usize) -> String {
    format!("{method} {path} HTTP/1.1\r\nHost: x\r\nContent-Length: {length}\r\n{more}\r\n")
}

fn put(service: &Service, folder: &str, name: &str, bytes: &[u8]) -> Result<String, Failure> {
    let head = service.head("PUT", &format!("/api/v1/nodes/{folder}/files/{name}"), bytes.len());
    let (status, body) = Line::open(service.at)?.ask(&head, bytes, true)?;
    if status != 201 {
        return Err(format!("PUT: {status} {}", String::from_utf8_lossy(&body)).into());
    }
    Ok(serde_json::from_slice::<serde_json::Value>(&body)?["id"].to_string())
}

fn small(service: &Service, home: &str) -> Result<(), Failure> {
    let node = put(service, home, "small.dat", &[7; 8192])?;
    let link = opening(service, "link", &node)?;
    let (mut ours, mut ratios) = (Vec::new(), Vec::new());
    for _ in 0..PAIRS {
        let head = bare("GET", &format!("{link}/take/"), "", 0);
        let us = many(service.at, 32, 40_000, &|_| (head.clone(), Vec::new()))?;
        let head = service.head("GET", &format!("/api/v1/nodes/{node}/content"), 0);
        let them = many(service.at, 32, 40_000, &|_| (head.clone(), Vec::new()))?;
        ours.push(us / 1000.0);
        ratios.push(us / them);
    }
    let (us, ratio) = (median(ours), median(ratios));
    line("8 KiB by link, 32 lines; against signed in", us, us / ratio, "k/s", ratio, "at least 0.9");
    Ok(())
}

fn large(service: &Service, home: &str) -> Result<(), Failure> {
    let head = service.head("PUT", &format!("/api/v1/nodes/{home}/files/large.bin"), GIB);
    let mut line_in = Line::open(service.at)?;
    line_in.stream().write_all(head.as_bytes())?;
    let block = vec![3u8; MIB];
    for _ in 0..GIB / MIB {
        line_in.stream().write_all(&block)?;
    }
    let (_, body) = line_in.answer(true)?;
    let node = serde_json::from_slice::<serde_json::Value>(&body)?["id"].to_string();
    let link = opening(service, "link", &node)?;
    let fetch = |head: String| -> Result<Duration, Failure> {
        let begun = Instant::now();
        let (status, _) = Line::open(service.at)?.ask(&head, &[], false)?;
        if status != 200 { Err(format!("GET: {status}").into()) } else { Ok(begun.elapsed()) }
    };
    let (mut ours, mut ratios) = (Vec::new(), Vec::new());
    for _ in 0..PAIRS {
        let us = fetch(bare("GET", &format!("{link}/take/"), "", 0))?;
        let them = fetch(service.head("GET", &format!("/api/v1/nodes/{node}/content"), 0))?;
        ours.push(1.0 / us.as_secs_f64());
        ratios.push(them.as_secs_f64() / us.as_secs_f64());
    }
    let (us, ratio) = (median(ours), median(ratios));
    line("1 GiB by link; against signed in", us, us / ratio, "GiB/s", ratio, "at least 0.95");
    Ok(())
}

fn hand_in(service: &Service, home: &str) -> Result<(), Failure> {
    let folder = |name: &str| -> Result<String, Failure> {
        let body = format!(r#"{{"name":"{name}"}}"#);
        Ok(service.json("POST", &format!("/api/v1/nodes/{home}/folders"), &body)?["id"].to_string())
    };
    let (mut ours, mut ratios) = (Vec::new(), Vec::new());
    for round in 0..PAIRS {
        let intake = opening(service, "intake", &folder(&format!("in-{round}"))?)?;
        let begun = Instant::now();
        std::thread::scope(|scope| -> Result<(), Failure> {
            let all: Vec<_> = (0..STRANGERS)
                .map(|n| {
                    let intake = &intake;
                    scope.spawn(move || stranger(service, intake, n).map_err(|e| e.to_string()))
                })
                .collect();
            for one in all {
                one.join().map_err(|_| "a stranger failed")??;
            }
            Ok(())
        })?;
        let us = begun.elapsed();
        let into = folder(&format!("sent-{round}"))?;
        let begun = Instant::now();
        many(service.at, 16, STRANGERS, &|n| {
            let head = service.head("PUT", &format!("/api/v1/nodes/{into}/files/f{n}.bin"), MIB);
            (head, vec![n as u8; MIB])
        })?;
        let them = begun.elapsed();
        ours.push(STRANGERS as f64 / us.as_secs_f64());
        ratios.push(them.as_secs_f64() / us.as_secs_f64());
    }
    let (us, ratio) = (median(ours), median(ratios));
    line("200 strangers hand in 1 MiB each; against one client", us, us / ratio, "/s", ratio, "at least 0.7");
    let (_, most) = service.memory()?;
    println!("{:<52} {:>6} MiB {:>27}  under 250 MiB", "memory at its highest, all of this", most >> 20, "");
    Ok(())
}

/// One of them: begins a delivery, sends a file, and is done.
fn stranger(service: &Service, intake: &str, n: usize) -> Result<(), Failure> {
    let mut line = Line::open(service.at)?;
    let body = format!(r#"{{"name":"Stranger {n}"}}"#);
    let json = "Content-Type: application/json\r\n";
    let (status, answer) =
        line.ask(&bare("POST", &format!("{intake}/deliveries"), json, body.len()), body.as_bytes(), true)?;
    if status != 201 {
        return Err(format!("deliveries: {status} {}", String::from_utf8_lossy(&answer)).into());
    }
    let begun: serde_json::Value = serde_json::from_slice(&answer)?;
    let delivery = begun["delivery"].as_str().ok_or("no delivery")?;
    let name = base64::engine::general_purpose::STANDARD.encode(format!("drawing {n}.bin"));
    let more = format!(
        "Delivery: {delivery}\r\nTus-Resumable: 1.0.0\r\nUpload-Length: {MIB}\r\nUpload-Metadata: filename {name}\r\n\
         Content-Type: application/offset+octet-stream\r\n"
    );
    let (status, answer) =
        line.ask(&bare("POST", &format!("{intake}/uploads"), &more, MIB), &vec![n as u8; MIB], true)?;
    if status != 201 {
        return Err(format!("uploads: {status} {}", String::from_utf8_lossy(&answer)).into());
    }
    let more = format!("Delivery: {delivery}\r\n");
    let (status, answer) = line.ask(&bare("POST", &format!("{intake}/done"), &more, 0), &[], true)?;
    if status != 200 {
        return Err(format!("done: {status} {}", String::from_utf8_lossy(&answer)).into());
    }
    Ok(())
}

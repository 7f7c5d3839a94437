//! Doors that hold: what a flood of wrong sign-ins, programs that come back, readers that stand still and idle lines cost
//! others.

use crate::cases::{Failure, PAIRS, line, median};
use crate::http::Line;
use crate::peers::{PASSWORD, Service};
use std::io::Write;
use std::net::SocketAddr;
use std::path::Path;
use std::time::Instant;

/// Runs it on a service of its own, which takes this machine for a proxy.
pub fn run(disk: &Path) -> Result<(), Failure> {
    let data = disk.join("store-doors");
    std::fs::create_dir_all(&data)?;
    let service = Service::start_set(&data, &[("YATTIC_TRUSTED_PROXIES", "127.0.0.1")])?;
    made_up_names(service.at)?;
    mounts(&service)?;
    one_account(service.at)?;
    still_and_idle(&service)?;
    service.stop()
}

/// Connects a computer from an address: the status.
fn connect(at: SocketAddr, from: &str, name: &str, password: &str) -> Result<u16, Failure> {
    let body = format!(r#"{{"sign_in":"{name}","password":"{password}","device":"bench"}}"#);
    let head = format!(
        "POST /api/v1/devices HTTP/1.1\r\nHost: localhost\r\nX-Forwarded-For: {from}\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n",
        body.len()
    );
    Ok(Line::open(at)?.ask(&head, body.as_bytes(), false)?.0)
}

fn flood(
    count: usize,
    each: impl Fn(usize) -> Result<u16, Failure> + Send + Sync + Clone + 'static,
) -> Vec<std::thread::JoinHandle<u16>> {
    (0..count)
        .filter_map(|n| {
            let each = each.clone();
            let thread = std::thread::Builder::new().stack_size(256 << 10);
            thread.spawn(move || each(n).unwrap_or(0)).ok()
        })
        .collect()
}

fn told(what: &str, seconds: f64, reach: &str) {
    println!("{what:<52} {seconds:>6.2} s    {:>22}  {reach}", "");
}

fn made_up_names(at: SocketAddr) -> Result<(), Failure> {
    let flood = flood(1500, move |n| connect(at, "198.51.100.7", &format!("nobody{n}"), "guess"));
    let begun = Instant::now();
    let status = connect(at, "203.0.113.9", "bench", PASSWORD)?;
    let took = begun.elapsed().as_secs_f64();
    if status != 201 {
        return Err(format!("the right sign-in was answered {status}").into());
    }
    flood.into_iter().for_each(|t| drop(t.join()));
    told("right sign-in beside 1,500 wrong ones, one address", took, "under 0.5 s");
    Ok(())
}

fn one_account(at: SocketAddr) -> Result<(), Failure> {
    let begun = Instant::now();
    let flood = flood(400, move |n| {
        let password = if n == 399 { PASSWORD.to_string() } else { format!("guess {n}") };
        connect(at, &format!("198.51.100.{}", n % 250), "bench", &password)
    });
    let fates: Vec<u16> = flood.into_iter().filter_map(|t| t.join().ok()).collect();
    let looked_at = fates.iter().filter(|s| **s == 401).count();
    let found = fates.iter().filter(|s| **s == 201).count();
    println!(
        "{:<52} {looked_at:>6} looked at, {found} found in {:.1} s      not found",
        "right password among 400 guesses on one account",
        begun.elapsed().as_secs_f64()
    );
    Ok(())
}

/// Mounts that come back after a restart, ten of each of 50 accounts, behind one address.
fn mounts(service: &Service) -> Result<(), Failure> {
    use base64::Engine as _;
    for n in 0..50 {
        let new = format!(r#"{{"sign_in":"mount{n}","password":"{PASSWORD}"}}"#);
        service.json("POST", "/api/v1/accounts", &new)?;
    }
    let at = service.at;
    let begun = Instant::now();
    let flood = flood(500, move |n| {
        let pair = base64::engine::general_purpose::STANDARD.encode(format!("mount{}:{PASSWORD}", n % 50));
        let head = format!(
            "PROPFIND /dav/ HTTP/1.1\r\nHost: localhost\r\nX-Forwarded-For: 203.0.113.20\r\nDepth: 0\r\nAuthorization: Basic {pair}\r\nContent-Length: 0\r\n\r\n"
        );
        Ok(Line::open(at)?.ask(&head, b"", false)?.0)
    });
    let fates: Vec<u16> = flood.into_iter().filter_map(|t| t.join().ok()).collect();
    let back = fates.iter().filter(|s| **s == 207).count();
    println!(
        "{:<52} {back:>6} of 500 in {:.2} s                    all in 30 s",
        "mounts back behind one address",
        begun.elapsed().as_secs_f64()
    );
    Ok(())
}

/// What 300 readers that stand still and 5,000 idle lines cost a small GET.
fn still_and_idle(service: &Service) -> Result<(), Failure> {
    let big = vec![7; 64 << 20];
    let mut put = Line::open(service.at)?;
    put.ask(&service.head("PUT", "/api/v1/files/home/big.bin", big.len()), &big, false)?;
    let small = vec![7; 8192];
    put.ask(&service.head("PUT", "/api/v1/files/home/small.bin", small.len()), &small, false)?;
    let rate = |line: &mut Line| -> Result<f64, Failure> {
        let head = service.head("GET", "/api/v1/files/home/small.bin", 0);
        let begun = Instant::now();
        for _ in 0..20_000 {
            line.ask(&head, b"", false)?;
        }
        Ok(20_000.0 / begun.elapsed().as_secs_f64())
    };
    let (mut alone, mut beside, mut ratios) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..PAIRS {
        let before = rate(&mut Line::open(service.at)?)?;
        let mut held = Vec::new();
        for n in 0..5300 {
            let mut line = Line::open(service.at)?;
            if n < 300 {
                line.stream().write_all(service.head("GET", "/api/v1/files/home/big.bin", 0).as_bytes())?;
            }
            held.push(line);
        }
        // What the readers' sockets take at first is no standing still yet.
        std::thread::sleep(std::time::Duration::from_secs(2));
        let with = rate(&mut Line::open(service.at)?)?;
        drop(held);
        std::thread::sleep(std::time::Duration::from_secs(1));
        alone.push(before);
        beside.push(with);
        ratios.push(with / before);
    }
    line(
        "8 KiB by GET beside 300 still readers, 5,000 idle",
        median(beside),
        median(alone),
        "/s",
        median(ratios),
        "at least 0.9",
    );
    Ok(())
}

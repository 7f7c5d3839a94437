//! What people cost: ten thousand accounts from a list, and sign-ins beside uploads.

use crate::cases::{Failure, PAIRS, line, median};
use crate::http::{Line, many};
use crate::peers::{PASSWORD, Service};
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

const ACCOUNTS: usize = 10_000;
const UPLOADS: usize = 3_000;

/// Runs it on a service of its own.
pub fn run(disk: &Path) -> Result<(), Failure> {
    let data = disk.join("store-people");
    std::fs::create_dir_all(&data)?;
    let service = Service::start(&data)?;
    sign_ins(&service)?;
    import(&service)?;
    service.stop()
}

/// Accounts without passwords, each with its home on the disk.
fn import(service: &Service) -> Result<(), Failure> {
    let mut list = "sign_in,display_name,mail\n".to_string();
    for n in 0..ACCOUNTS {
        list.push_str(&format!("member-{n},Member {n},member-{n}@museum.example\n"));
    }
    let head = format!(
        "POST /api/v1/accounts/list HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {}\r\nContent-Type: text/csv\r\nContent-Length: {}\r\n\r\n",
        service.token,
        list.len()
    );
    let begun = Instant::now();
    let (status, body) = Line::open(service.at)?.ask(&head, list.as_bytes(), true)?;
    let seconds = begun.elapsed().as_secs_f64();
    let told: serde_json::Value = serde_json::from_slice(&body)?;
    if status != 200 || told["sums"]["made"] != ACCOUNTS {
        return Err(format!("import: {status} {}", told["sums"]).into());
    }
    println!(
        "{:<52} {seconds:>6.2} s    {:>22}  under 10 s",
        "10,000 accounts from a list, with their homes", ""
    );
    let mut lists: Vec<f64> = Vec::new();
    for _ in 0..5 {
        let begun = Instant::now();
        service.json("GET", "/api/v1/accounts", "")?;
        lists.push(begun.elapsed().as_secs_f64() * 1000.0);
    }
    println!("{:<52} {:>6.0} ms", "a list of all of them", median(lists));
    Ok(())
}

/// Uploads while five sign-ins a second are checked, against uploads alone.
fn sign_ins(service: &Service) -> Result<(), Failure> {
    let home =
        service.json("GET", "/api/v1/place?path=home:/", "")?["node"]["id"].as_i64().ok_or("no home")?;
    let upload = |round: &str| {
        let begun = Instant::now();
        many(service.at, 4, UPLOADS, &|n| {
            let path = format!("/api/v1/nodes/{home}/files/{round}-{n}.dat");
            (service.head("PUT", &path, 8192), vec![n as u8; 8192])
        })?;
        Ok::<_, Failure>(UPLOADS as f64 / begun.elapsed().as_secs_f64())
    };
    let body = format!(r#"{{"sign_in":"bench","password":"{PASSWORD}"}}"#);
    let head = format!(
        "POST /api/v1/session HTTP/1.1\r\nHost: {0}\r\nOrigin: http://{0}\r\nContent-Type: application/json\r\nContent-Length: {1}\r\n\r\n",
        service.at,
        body.len()
    );
    let (mut ours, mut ratios) = (Vec::new(), Vec::new());
    for round in 0..PAIRS {
        let alone = upload(&format!("alone-{round}"))?;
        let (over, done) = (&AtomicBool::new(false), &AtomicUsize::new(0));
        let head = &head;
        let body = &body;
        let beside = std::thread::scope(|scope| {
            let signing = || {
                let mut line = Line::open(service.at)?;
                while !over.load(Ordering::SeqCst) {
                    let begun = Instant::now();
                    let (status, _) = line.ask(head, body.as_bytes(), true)?;
                    done.fetch_add(usize::from(status == 200), Ordering::SeqCst);
                    std::thread::sleep(Duration::from_millis(200).saturating_sub(begun.elapsed()));
                }
                Ok::<_, Failure>(())
            };
            // A line that breaks is seen by nobody having signed in.
            scope.spawn(move || drop(signing()));
            let beside = upload(&format!("beside-{round}"));
            over.store(true, Ordering::SeqCst);
            beside
        })?;
        if done.load(Ordering::SeqCst) == 0 {
            return Err("nobody signed in".into());
        }
        ours.push(beside);
        ratios.push(beside / alone);
    }
    let (us, ratio) = (median(ours), median(ratios));
    line("uploads of 8 KiB beside 5 sign-ins a second", us, us / ratio, "/s", ratio, "at least 0.8");
    Ok(())
}

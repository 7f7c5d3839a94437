//! What rights cost: the right to one path among thousands of grants, and a list with mixed rights.

use crate::cases::{Failure, PAIRS, line, median};
use crate::http::{Line, many};
use crate::peers::Service;
use std::collections::HashMap;
use std::hint::black_box;
use std::path::Path;
use std::time::Instant;
use yellow_attic_core::rights::{Gives, Grant, Here, Level, Person, Subject, walk};
use yellow_attic_core::{AccountId, GrantId, GroupId, NodeId};

/// Runs it on a service of its own.
pub fn run(disk: &Path) -> Result<(), Failure> {
    one_path();
    let data = disk.join("store-rights");
    std::fs::create_dir_all(&data)?;
    let service = Service::start(&data)?;
    mixed_list(&service)?;
    service.stop()
}

/// A path 12 deep, an account in 30 groups, 10,000 grants in memory.
fn one_path() {
    let mut all: HashMap<NodeId, Here> = HashMap::new();
    for n in 0..10_000i64 {
        // A part of them on the path itself, for groups and accounts of all kinds.
        let node = if n % 200 == 0 { n / 200 % 12 } else { 1_000 + n };
        let subject = match n % 3 {
            0 => Subject::Group(GroupId(n % 90)),
            1 => Subject::Account(AccountId(n % 500)),
            _ => Subject::Everyone,
        };
        let gives = Gives::Allow(Level::ALL[(n % 4) as usize]);
        let grant = Grant { id: GrantId(n), subject, gives, until: None };
        all.entry(NodeId(node)).or_default().grants.push(grant);
    }
    let groups: Vec<GroupId> = (0..30).map(|n| GroupId(n * 3)).collect();
    let person = Person { account: AccountId(7), groups: &groups, guest: false };
    let mut times: Vec<f64> = (0..20_000)
        .map(|_| {
            let begun = Instant::now();
            let way = (0..12).filter_map(|n| all.get(&NodeId(n)).map(|here| (NodeId(n), here)));
            black_box(walk(false, black_box(&person), way, 1, &mut ()).level());
            begun.elapsed().as_secs_f64() * 1e6
        })
        .collect();
    times.sort_by(f64::total_cmp);
    println!(
        "{:<52} {:>6.2} us   {:>22}  under 5 us",
        "right to a path 12 deep, 30 groups, 10,000 grants",
        times[times.len() / 2],
        ""
    );
}

/// A list of 10,000 entries for a member who may do more with some and nothing with others, against
/// the owner's.
fn mixed_list(service: &Service) -> Result<(), Failure> {
    let shelf = service.json("POST", "/api/v1/shelves", r#"{"name":"Mixed","people":[]}"#)?;
    let root = shelf["root"].as_i64().ok_or("no shelf")?;
    let words = "gulls over the harbour";
    let new = format!(r#"{{"sign_in":"member","password":"{words}"}}"#);
    service.json("POST", "/api/v1/accounts", &new)?;
    let give = |node: i64, can: &str| {
        let body = format!(r#"{{"to":"account:member","can":"{can}"}}"#);
        service.json("POST", &format!("/api/v1/nodes/{node}/rights"), &body)
    };
    give(root, "view")?;
    many(service.at, 16, 10_000, &|n| {
        (service.head("PUT", &format!("/api/v1/nodes/{root}/files/entry-{n}.txt"), 8), vec![b'x'; 8])
    })?;
    let first = service.json("GET", &format!("/api/v1/nodes/{root}/entries?limit=1000"), "")?;
    for (i, entry) in first["entries"].as_array().ok_or("no entries")?.iter().take(200).enumerate() {
        give(entry["id"].as_i64().ok_or("no id")?, if i % 2 == 0 { "edit" } else { "deny" })?;
    }
    let connect = format!(r#"{{"sign_in":"member","password":"{words}","device":"member"}}"#);
    let token = service.json("POST", "/api/v1/devices", &connect)?;
    let member = token["token"].as_str().ok_or("no token")?.to_string();
    let list = |token: &str| -> Result<f64, Failure> {
        let begun = Instant::now();
        let mut line = Line::open(service.at)?;
        let mut cursor = String::new();
        loop {
            let head = format!(
                "GET /api/v1/nodes/{root}/entries?limit=1000{cursor} HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {token}\r\nContent-Length: 0\r\n\r\n"
            );
            let (_, body) = line.ask(&head, b"", true)?;
            let tail = String::from_utf8_lossy(&body[body.len().saturating_sub(400)..]).into_owned();
            match tail.split_once("\"next\":\"") {
                Some((_, next)) => cursor = format!("&cursor={}", next.trim_end_matches(['"', '}'])),
                None => return Ok(begun.elapsed().as_secs_f64()),
            }
        }
    };
    let (mut ours, mut ratios) = (Vec::new(), Vec::new());
    for _ in 0..PAIRS * 4 {
        let owner = list(&service.token)?;
        let theirs = list(&member)?;
        ours.push(theirs * 1000.0);
        ratios.push(theirs / owner);
    }
    let (us, ratio) = (median(ours), median(ratios));
    line("list of 10,000, mixed rights; time against the owner", us, us / ratio, "ms", ratio, "at most 1.2");
    Ok(())
}

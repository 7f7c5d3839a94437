//! `put` and `get` over a line that is cut and refuses to come back for a while: nothing is said to be there that is
//! not, and the sum of all fates is what was given.

use crate::support::{Service, Yattic};
use std::fs;
use std::path::Path;
use std::sync::atomic::Ordering;
use yellow_attic_client::{NewUpload, api};
use yellow_attic_trials::line::Line;
use yellow_attic_trials::numbers;

fn set(name: &str, usual: u64) -> u64 {
    std::env::var(name).ok().and_then(|n| n.parse().ok()).unwrap_or(usual)
}

/// Folders with small files, each with bytes of its own.
fn tree(at: &Path, files: u64) {
    for n in 0..files {
        let folder = at.join(format!("folder {}", n % 17));
        fs::create_dir_all(&folder).unwrap();
        let text = format!("{n} ").repeat(1 + (n as usize * 131) % 1500);
        fs::write(folder.join(format!("file {n}")), text).unwrap();
    }
}

fn same(one: &Path, other: &Path) -> bool {
    std::process::Command::new("diff").args(["-rq"]).args([one, other]).status().unwrap().success()
}

/// Cuts at random, each followed by a refusal of up to so many milliseconds.
fn cuts(seed: u64, count: u64, most_ms: u64, bytes: u64) -> impl FnMut() -> Option<(u64, u64)> + Send {
    let (mut chance, mut left) = (numbers(seed), count);
    move || {
        left = left.checked_sub(1)?;
        Some((500 + chance(bytes), chance(most_ms)))
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn put_and_get_over_a_line_that_refuses_lose_nothing_and_say_only_what_is_so() {
    // 2 rounds of 700 files and 8 cuts; more by YATTIC_LINE_ROUNDS, _FILES and _CUTS.
    let (rounds, files) = (set("YATTIC_LINE_ROUNDS", 2), set("YATTIC_LINE_FILES", 700));
    let count = set("YATTIC_LINE_CUTS", 8);
    let (service, _) = Service::ready().await;
    let dir = tempfile::tempdir().unwrap();
    let source = dir.path().join("tree");
    tree(&source, files);
    let all = files * 3000 / count.max(1);
    for round in 0..rounds {
        let line = Line::refusing(&service.address, cuts(round, count, 1500, all));
        let yattic = over(&service, &line);
        let to = format!("home:/round {round}");
        let said = yattic.ok(&["--json", "put", source.to_str().unwrap(), &to]);
        let said: serde_json::Value = serde_json::from_str(&said).unwrap();
        assert_eq!(
            (&said["given"], &said["done"], &said["failed"]),
            (&files.into(), &files.into(), &0.into()),
            "{said}"
        );
        let cut = line.cuts.load(Ordering::SeqCst);
        assert!(cut > 0, "the line was never cut");
        // What is there is what was given: fetched over a line that holds.
        let plain = Yattic::new();
        plain.connect(&service);
        let back = dir.path().join(format!("back {round}"));
        plain.ok(&["get", &to, "--to", back.to_str().unwrap()]);
        assert!(same(&source, &back), "round {round}, {cut} cuts: what is there differs");
        // And the other way.
        let line = Line::refusing(&service.address, cuts(round + 1000, count, 1500, all));
        let yattic = over(&service, &line);
        let fetched = dir.path().join(format!("fetched {round}"));
        let said = yattic.ok(&["--json", "get", &to, "--to", fetched.to_str().unwrap()]);
        let said: serde_json::Value = serde_json::from_str(&said).unwrap();
        assert_eq!(
            (&said["given"], &said["done"], &said["failed"]),
            (&files.into(), &files.into(), &0.into()),
            "{said}"
        );
        assert!(same(&source, &fetched), "round {round}: what was fetched differs");
        for dir in [back, fetched] {
            fs::remove_dir_all(dir).unwrap();
        }
    }
}

/// A client whose calls go by a line; its sign-in does not.
fn over(service: &Service, line: &Line) -> Yattic {
    let yattic = Yattic::new();
    yattic.connect(service);
    for entry in fs::read_dir(yattic.home.path()).unwrap() {
        let path = entry.unwrap().path();
        if let Ok(text) = fs::read_to_string(&path) {
            fs::write(&path, text.replace(&service.address, &line.address)).unwrap();
        }
    }
    yattic
}

#[tokio::test(flavor = "multi_thread")]
async fn a_line_that_stays_away_is_no_success_and_the_same_command_completes_the_tree() {
    let (service, client) = Service::ready().await;
    let dir = tempfile::tempdir().unwrap();
    let source = dir.path().join("tree");
    tree(&source, 400);
    // Cut for good, from the command's point of view: it is stopped while it waits for the line.
    let line = Line::refusing(&service.address, cuts(3, 1, 1, 300_000));
    let yattic = over(&service, &line);
    let mut child = yattic.command(&["put", source.to_str().unwrap(), "home:/tree"]).spawn().unwrap();
    assert!(crate::support::wait_for(|| line.cuts.load(Ordering::SeqCst) > 0));
    line.lead_to("http://127.0.0.1:9");
    line.cut_all();
    std::thread::sleep(std::time::Duration::from_millis(700));
    child.kill().unwrap();
    assert!(!child.wait().unwrap().success());
    let plain = Yattic::new();
    plain.connect(&service);
    let said = plain.ok(&["--json", "put", "--skip-same", source.to_str().unwrap(), "home:/"]);
    let said: serde_json::Value = serde_json::from_str(&said).unwrap();
    assert_eq!(said["given"].as_u64(), Some(400), "{said}");
    assert_eq!(said["done"].as_u64().unwrap() + said["same"].as_u64().unwrap(), 400, "{said}");
    let back = dir.path().join("back");
    plain.ok(&["get", "home:/tree", "--to", back.to_str().unwrap()]);
    assert!(same(&source, &back));
    drop(client);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_upload_is_gone_on_with_only_for_the_bytes_that_it_was_begun_for() {
    let (service, client) = Service::ready().await;
    let home = client.place("home:/", None).await.unwrap().node.id;
    let yattic = Yattic::new();
    yattic.connect(&service);
    let local = yattic.home.path().join("film.bin");
    let of = |seed: u8| {
        let mut bytes = vec![0; 16 << 20];
        blake3::Hasher::new().update(&[seed]).finalize_xof().fill(&mut bytes);
        bytes
    };
    let (first, second) = (of(1), of(2));
    let time = std::time::UNIX_EPOCH + std::time::Duration::from_secs(1_750_000_000);
    let write = |bytes: &[u8]| {
        fs::write(&local, bytes).unwrap();
        fs::File::options().write(true).open(&local).unwrap().set_modified(time).unwrap();
    };
    // Stopped half-way; then the file changes, with its size and time kept.
    let new = NewUpload {
        parent: home,
        name: "film.bin".into(),
        size: first.len() as u64,
        modified: Some("2025-06-15T15:06:40Z".into()),
        blake3: Some(blake3::hash(&first).to_hex().to_string()),
        only_kept: false,
    };
    let id = client.begin_upload(&new).await.unwrap();
    client.append(&id, 0, first[..8 << 20].to_vec().into()).await.unwrap();
    let listed: Vec<api::Upload> = client.uploads().await.unwrap().uploads;
    assert_eq!(listed[0].blake3, new.blake3);
    write(&second);
    yattic.ok(&["put", local.to_str().unwrap(), "home:/"]);
    let node = client.place("home:/film.bin", None).await.unwrap().node;
    assert_eq!(node.blake3.as_deref(), Some(blake3::hash(&second).to_hex().as_str()));
    // The same bytes go on where they were.
    write(&first);
    let before = service.received().await;
    yattic.ok(&["put", local.to_str().unwrap(), "home:/"]);
    let node = client.place("home:/film.bin", None).await.unwrap().node;
    assert_eq!(node.blake3.as_deref(), Some(blake3::hash(&first).to_hex().as_str()));
    let sent = service.received().await - before;
    assert!(sent <= 8 << 20, "{sent} bytes went up again");
    assert!(client.uploads().await.unwrap().uploads.is_empty());
}

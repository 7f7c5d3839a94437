//! How much lies here: limits, keeping, releasing, working without the service.

use super::{Mounted, becomes, bytes_of};
use crate::support::{Service, Yattic, eventually, wait_for};
use std::fs;
use yellow_attic_trials::line::Line;

/// Where nobody listens.
const NOBODY: &str = "http://127.0.0.1:1";

fn came(laptop: &Mounted, act: &str, path: &str) -> serde_json::Value {
    let told = laptop.yattic.ok(&["--json", act, laptop.at(path).to_str().unwrap()]);
    serde_json::from_str(&told).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_kept_is_here_without_the_service_and_what_is_released_is_not() {
    let (service, ines) = Service::ready().await;
    let home = ines.place("home:/", None).await.unwrap().node.id;
    let folder = ines.make_folder(home, "Letters").await.unwrap().id;
    for n in 0..20 {
        let bytes = bytes_of(&format!("letter {n}"), 40_000);
        ines.put(folder, &format!("letter {n}"), None, &Default::default(), bytes.into()).await.unwrap();
    }
    ines.put(home, "film", None, &Default::default(), bytes_of("film", 5 << 20).into()).await.unwrap();
    let line = Line::to(&service.address, || None);
    let yattic = Yattic::new();
    yattic.connect_to(&line.address);
    let mut laptop = Mounted::of(yattic, &[]);
    let told = came(&laptop, "keep", "Letters");
    assert_eq!(
        (told["files"].as_u64(), told["done"].as_u64(), told["not"].as_u64()),
        (Some(20), Some(20), Some(0))
    );
    assert_eq!(laptop.told(&laptop.at("Letters/letter 3"), "state"), "here");
    assert_eq!(laptop.told(&laptop.at("Letters/letter 3"), "keep"), "yes");
    // What comes into it later, and what changes there.
    ines.put(folder, "later", None, &Default::default(), bytes_of("later", 30_000).into()).await.unwrap();
    ines.put(folder, "letter 3", None, &Default::default(), bytes_of("changed", 30_000).into())
        .await
        .unwrap();
    assert!(wait_for(|| laptop.told(&laptop.at("Letters/later"), "state") == "here"));
    becomes(&laptop.at("Letters/letter 3"), &bytes_of("changed", 30_000));
    // The line is gone.
    line.lead_to(NOBODY);
    line.cut_all();
    assert_eq!(fs::read(laptop.at("Letters/later")).unwrap(), bytes_of("later", 30_000));
    assert_eq!(fs::read(laptop.at("Letters/letter 19")).unwrap(), bytes_of("letter 19", 40_000));
    let begun = std::time::Instant::now();
    let refused = fs::read(laptop.at("film")).unwrap_err();
    assert_eq!(refused.raw_os_error(), Some(libc::EHOSTUNREACH), "{refused}");
    assert!(begun.elapsed().as_secs() < 30);
    // What is at hand is changed, and waits.
    fs::write(laptop.at("Letters/letter 1"), b"changed without the service").unwrap();
    fs::write(laptop.at("new"), b"new").unwrap();
    assert!(wait_for(|| laptop.told(&laptop.at("new"), "state") == "waiting to be sent up"));
    assert_eq!(laptop.told(&laptop.at("new"), "here"), "3");
    // Mounted without the service, all that is known is there.
    laptop.end();
    laptop.mount();
    assert_eq!(fs::read_dir(laptop.at("Letters")).unwrap().count(), 21);
    assert_eq!(fs::read(laptop.at("Letters/letter 1")).unwrap(), b"changed without the service");
    assert_eq!(fs::read(laptop.at("new")).unwrap(), b"new");
}

#[tokio::test(flavor = "multi_thread")]
async fn releasing_gives_room_back_at_once_and_never_what_is_owed() {
    let (service, ines) = Service::ready().await;
    let laptop = Mounted::new(&service, "LAPTOP", &[]);
    fs::create_dir(laptop.at("Films")).unwrap();
    for n in 0..8 {
        fs::write(laptop.at(&format!("Films/{n}")), bytes_of(&n.to_string(), 1 << 20)).unwrap();
    }
    laptop.all_sent();
    assert!(laptop.sum("held") >= 8 << 20);
    let told = came(&laptop, "release", "Films");
    assert_eq!(
        (told["files"].as_u64(), told["done"].as_u64()),
        (Some(8), Some(8)),
        "{told} {}",
        laptop.sums()
    );
    assert!(told["bytes"].as_u64().unwrap() >= 8 << 20);
    assert_eq!(laptop.sum("held"), 0);
    let taken: u64 = fs::read_dir(laptop.state().join("body/home/Films"))
        .unwrap()
        .map(|e| std::os::unix::fs::MetadataExt::blocks(&e.unwrap().metadata().unwrap()))
        .sum();
    assert!(taken * 512 < 100_000, "the disk has it back: {taken}");
    assert_eq!(laptop.told(&laptop.at("Films/3"), "state"), "only there");
    assert_eq!(fs::read(laptop.at("Films/3")).unwrap(), bytes_of("3", 1 << 20));
    // Released once more: what was fetched goes too.
    let told = came(&laptop, "release", "Films");
    assert!(told["bytes"].as_u64().unwrap() >= 1 << 20, "{told}");
    // Nothing of that was a change.
    let node = ines.place("home:/Films/3", None).await.unwrap().node;
    assert_eq!(ines.history(node.id).await.unwrap().states.len(), 1);
    // What a program has open stays.
    let open = fs::File::options().append(true).open(laptop.at("Films/4")).unwrap();
    std::io::Write::write_all(&mut &open, b"more").unwrap();
    let done = laptop.yattic.run(&["release", laptop.at("Films/4").to_str().unwrap()]);
    assert_eq!(done.status.code(), Some(3), "{}", String::from_utf8_lossy(&done.stderr));
    drop(open);
    let mut wanted = bytes_of("4", 1 << 20);
    wanted.extend_from_slice(b"more");
    assert_eq!(fs::read(laptop.at("Films/4")).unwrap(), wanted);
    laptop.all_sent();
}

#[tokio::test(flavor = "multi_thread")]
async fn more_than_has_room_goes_through_and_stays_within_the_limit() {
    let (service, ines) = Service::ready().await;
    let limit: u64 = 64 << 20;
    let laptop = Mounted::new(&service, "LAPTOP", &["--room", "64MiB", "--floor", "0B"]);
    fs::create_dir(laptop.at("Films")).unwrap();
    let mut most = 0;
    for n in 0..24 {
        fs::write(laptop.at(&format!("Films/{n}")), bytes_of(&n.to_string(), 8 << 20)).unwrap();
        most = most.max(laptop.sum("held"));
    }
    assert!(most <= limit, "{most}");
    laptop.all_sent();
    for n in 0..24 {
        assert!(
            fs::read(laptop.at(&format!("Films/{n}"))).unwrap() == bytes_of(&n.to_string(), 8 << 20),
            "{n}"
        );
        assert!(laptop.sum("held") <= limit, "{}", laptop.sums());
    }
    let sums = ines.place("home:/Films", None).await.unwrap().node.sums.unwrap();
    assert_eq!((sums.files, sums.bytes), (24, 24 * (8 << 20)));
}

#[tokio::test(flavor = "multi_thread")]
async fn without_the_service_it_ends_with_no_space_and_nothing_is_lost() {
    let (mut service, ines) = Service::ready().await;
    let laptop = Mounted::new(&service, "LAPTOP", &["--room", "64MiB", "--floor", "0B"]);
    fs::write(laptop.at("first"), b"first").unwrap();
    laptop.all_sent();
    drop(ines);
    service.child.kill().unwrap();
    service.child.wait().unwrap();
    let mut written = Vec::new();
    let ended = (0..20).find_map(|n| {
        let at = laptop.at(&format!("film {n}"));
        match fs::write(&at, bytes_of(&n.to_string(), 8 << 20)) {
            Ok(()) => {
                written.push(n);
                None
            }
            Err(e) => Some(e),
        }
    });
    assert_eq!(ended.unwrap().raw_os_error(), Some(libc::ENOSPC));
    assert!(!written.is_empty());
    for n in &written {
        assert!(fs::read(laptop.at(&format!("film {n}"))).unwrap() == bytes_of(&n.to_string(), 8 << 20));
    }
    let sums = laptop.sums();
    assert!(sums["owed"].as_u64().unwrap() >= written.len() as u64 * (8 << 20), "{sums}");
}

#[tokio::test(flavor = "multi_thread")]
async fn through_means_that_the_service_has_it() {
    let (service, ines) = Service::ready().await;
    let laptop = Mounted::new(&service, "LAPTOP", &["--through"]);
    for n in 0..5 {
        let bytes = bytes_of(&n.to_string(), 10_000 + n * 400_000);
        fs::write(laptop.at(&format!("{n}")), &bytes).unwrap();
        // The moment it is closed.
        let node = ines.place(&format!("home:/{n}"), None).await.unwrap().node;
        assert_eq!(node.blake3.unwrap(), blake3::hash(&bytes).to_hex().to_string());
    }
    // And when it is synced, though it stays open.
    let file = fs::File::create(laptop.at("open")).unwrap();
    std::io::Write::write_all(&mut &file, b"synced").unwrap();
    file.sync_all().unwrap();
    assert_eq!(ines.place("home:/open", None).await.unwrap().node.size, 6);
    std::io::Write::write_all(&mut &file, b", and more").unwrap();
    drop(file);
    assert!(eventually(async || ines.place("home:/open", None).await.unwrap().node.size == 16).await);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_two_changed_is_kept_twice() {
    let (service, ines) = Service::ready().await;
    let line = Line::to(&service.address, || None);
    let yattic = Yattic::new();
    yattic.connect_to(&line.address);
    let laptop = Mounted::of(yattic, &[]);
    fs::write(laptop.at("report.txt"), b"first").unwrap();
    laptop.all_sent();
    let node = ines.place("home:/report.txt", None).await.unwrap().node;
    line.lead_to(NOBODY);
    line.cut_all();
    fs::write(laptop.at("report.txt"), b"changed here").unwrap();
    ines.put(node.parent.unwrap(), "report.txt", None, &Default::default(), b"changed there".to_vec().into())
        .await
        .unwrap();
    line.lead_to(&service.address);
    becomes(&laptop.at("report.txt"), b"changed there");
    let copy = || {
        let mut names = fs::read_dir(laptop.at("")).unwrap().map(|e| e.unwrap().path());
        names.find(|path| path.to_string_lossy().contains("report ("))
    };
    assert!(wait_for(|| copy().is_some()));
    assert_eq!(fs::read(copy().unwrap()).unwrap(), b"changed here");
    laptop.all_sent();
}

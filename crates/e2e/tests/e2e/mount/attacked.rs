//! What befalls a mounted folder: its process is killed, its cache deleted or damaged, its service restored, its rights taken.

use super::{Mounted, attribute, bytes_of};
use crate::support::{PASSWORD, Service, Yattic, wait_for};
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::Write;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;
use std::time::Duration;
use yellow_attic_client::api;
use yellow_attic_trials::disk::{Image, Kind};
use yellow_attic_trials::line::Line;

#[tokio::test(flavor = "multi_thread")]
async fn killed_at_random_while_copying_all_that_was_synced_is_on_the_service_once() {
    let (mut service, ines) = Service::ready().await;
    let line = Line::to(&service.address, || None);
    let yattic = Yattic::new();
    yattic.connect_to(&line.address);
    let mut laptop = Mounted::of(yattic, &[]);
    drop(ines);
    let mut synced = Vec::new();
    let mut chance = yellow_attic_trials::numbers(20_261_202);
    for round in 0..6 {
        let folder = laptop.at(&format!("round {round}"));
        fs::create_dir_all(&folder).unwrap();
        let stop = std::time::Instant::now() + Duration::from_millis(300 + chance(1_500));
        for n in 0.. {
            if std::time::Instant::now() > stop {
                break;
            }
            let (name, bytes) =
                (format!("file {n}"), bytes_of(&format!("{round} {n}"), chance(300_000) as usize));
            let done = File::create(folder.join(&name)).and_then(|mut file| {
                file.write_all(&bytes)?;
                file.sync_all()
            });
            if done.is_ok() {
                synced.push((format!("round {round}/{name}"), bytes));
            }
        }
        // One of them, the other, or both.
        let which = chance(3);
        if which != 1 {
            laptop.kill();
        }
        if which != 0 {
            service = service.killed_and_started_again();
            line.lead_to(&service.address);
        }
        // What its process left stands there, and is freed.
        if which != 1 {
            laptop.mount();
        }
    }
    laptop.all_sent();
    let out = Yattic::new();
    out.connect(&service);
    let fetched = out.home.path().join("out");
    out.ok(&["get", "home:/", fetched.to_str().unwrap(), "--quiet"]);
    assert!(synced.len() > 50, "{}", synced.len());
    for (path, bytes) in &synced {
        assert!(fs::read(fetched.join(path)).is_ok_and(|there| there == *bytes), "{path}");
        assert!(fs::read(laptop.at(path)).is_ok_and(|here| here == *bytes), "{path} here");
    }
    // Once: no copies, nothing under another name.
    let mut all = Vec::new();
    let mut folders = vec![fetched.clone()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            match path.is_dir() {
                true => folders.push(path),
                false => all.push(path),
            }
        }
    }
    let odd: Vec<&PathBuf> =
        all.iter().filter(|p| !p.file_name().unwrap().to_string_lossy().starts_with("file ")).collect();
    assert!(odd.is_empty() && all.iter().all(|p| !p.to_string_lossy().contains('(')), "{odd:?}");
}

/// What was synced is on the disk that lost its power, and then on the service, once; nothing has bytes that nobody wrote.
async fn power_goes_under_it(kind: Kind) {
    let (service, ines) = Service::ready().await;
    let disk = Image::nested(kind, 400);
    let home = ines.place("home:/", None).await.unwrap().node.id;
    // What it knows of, and what is written over there.
    for n in 0..40 {
        let (name, bytes) = (format!("there {n}"), bytes_of(&format!("there {n}"), 20_000 + n * 700));
        ines.put(home, &name, None, &Default::default(), bytes.into()).await.unwrap();
    }
    let yattic = Yattic { home: tempfile::Builder::new().prefix("home").tempdir_in(&disk.at).unwrap() };
    yattic.connect_as(&service, "LAPTOP");
    let mut laptop = Mounted::of(yattic, &[]);
    let mut ledger: BTreeMap<String, Vec<Vec<u8>>> = (0..40)
        .map(|n| (format!("there {n}"), vec![bytes_of(&format!("there {n}"), 20_000 + n * 700)]))
        .collect();
    let mut synced: BTreeMap<String, usize> = (0..40).map(|n| (format!("there {n}"), 0)).collect();
    std::process::Command::new("sync").status().unwrap();
    let mut chance = yellow_attic_trials::numbers(20_261_204);
    for round in 0..5_u64 {
        let stop = std::time::Instant::now() + Duration::from_millis(200 + round * 350);
        for n in 0.. {
            if std::time::Instant::now() > stop {
                break;
            }
            // New ones, ones that are only there, and ones that are written in the middle; some are read or released.
            let name = match chance(3) {
                0 => format!("there {}", chance(40)),
                1 => format!("new {round} {n}"),
                _ => format!("new {} {}", chance(round + 1), chance(n + 1)),
            };
            let bytes = bytes_of(&format!("{name} {round} {n}"), chance(60_000) as usize);
            let states = ledger.entry(name.clone()).or_default();
            states.push(bytes.clone());
            let saved = (|| {
                let new = laptop.at(&format!(".saving {name}"));
                let mut file = File::create(&new)?;
                file.write_all(&bytes)?;
                file.sync_all()?;
                fs::rename(&new, laptop.at(&name))?;
                File::open(laptop.at(""))?.sync_all()
            })();
            if saved.is_ok() {
                synced.insert(name.clone(), ledger[&name].len() - 1);
            }
            if n % 7 == 3 {
                let _ = fs::read(laptop.at(&format!("there {}", chance(40))));
            }
        }
        disk.cut_power_under(laptop.process());
        laptop.kill();
        laptop.unmount();
        disk.mount_again();
        laptop.mount();
    }
    laptop.all_sent();
    let listed = ines.all_entries(home, &Default::default()).await.unwrap();
    for node in listed.iter().filter(|node| !node.name.starts_with('.')) {
        let states = ledger.get(&node.name).unwrap_or_else(|| panic!("nobody wrote {}", node.name));
        let hash = node.blake3.clone().unwrap();
        let known = states.iter().rposition(|bytes| blake3::hash(bytes).to_hex().to_string() == hash);
        let known = known.unwrap_or_else(|| panic!("{} has bytes that nobody wrote", node.name));
        if let Some(least) = synced.get(&node.name) {
            assert!(known >= *least, "{}: {known} of {least}", node.name);
        }
        assert!(fs::read(laptop.at(&node.name)).unwrap() == states[known], "{} here", node.name);
    }
    for name in synced.keys() {
        assert!(listed.iter().any(|node| node.name == *name), "{name} is missing");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_power_goes_under_what_it_keeps_on_this_computer() {
    power_goes_under_it(Kind::Ext4).await;
    power_goes_under_it(Kind::Xfs).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_computer_that_slept_goes_on() {
    let (service, ines) = Service::ready().await;
    let home = ines.place("home:/", None).await.unwrap().node.id;
    let laptop = Mounted::new(&service, "LAPTOP", &[]);
    fs::write(laptop.at("mine"), b"before").unwrap();
    laptop.all_sent();
    let pid = laptop.process().id().to_string();
    let signal = |name: &str| std::process::Command::new("kill").args([name, &pid]).status().unwrap();
    signal("-STOP");
    for n in 0..30 {
        ines.put(home, &format!("theirs {n}"), None, &Default::default(), bytes_of("theirs", n * 100).into())
            .await
            .unwrap();
    }
    tokio::time::sleep(Duration::from_secs(8)).await;
    signal("-CONT");
    fs::write(laptop.at("mine"), b"after").unwrap();
    assert!(wait_for(|| (0..30).all(|n| laptop.at(&format!("theirs {n}")).exists())));
    assert!(fs::read(laptop.at("theirs 29")).unwrap() == bytes_of("theirs", 2_900));
    laptop.all_sent();
    assert_eq!(ines.place("home:/mine", None).await.unwrap().node.size, 5);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_cache_may_be_deleted_or_damaged_while_it_is_mounted() {
    let (service, ines) = Service::ready().await;
    let home = ines.place("home:/", None).await.unwrap().node.id;
    let film = bytes_of("film", 3 << 20);
    ines.put(home, "film", None, &Default::default(), film.clone().into()).await.unwrap();
    let laptop = Mounted::new(&service, "LAPTOP", &[]);
    assert!(fs::read(laptop.at("film")).unwrap() == film);
    // A byte of what was fetched is another one: it is noticed, and fetched again. The system has not read it before.
    let hash = blake3::hash(&film).to_hex().to_string();
    let block = laptop.cache().join(&hash[..2]).join(&hash);
    let file = File::options().write(true).open(&block).unwrap();
    file.write_all_at(b"damaged", 1_000_000).unwrap();
    let before = laptop.sum("fetched");
    fs::write("/proc/sys/vm/drop_caches", b"1").unwrap();
    assert!(fs::read(laptop.at("film")).unwrap() == film);
    assert!(laptop.sum("fetched") > before, "it was fetched again");
    // All of it is gone.
    fs::write(laptop.at("owed"), b"not to be lost").unwrap();
    fs::remove_dir_all(laptop.cache()).unwrap();
    fs::write("/proc/sys/vm/drop_caches", b"1").unwrap();
    assert!(fs::read(laptop.at("film")).unwrap() == film);
    assert_eq!(fs::read(laptop.at("owed")).unwrap(), b"not to be lost");
    laptop.all_sent();
    std::thread::sleep(Duration::from_secs(3));
    assert!(fs::read(laptop.at("film")).unwrap() == film);
}

#[tokio::test(flavor = "multi_thread")]
async fn twice_in_one_place_and_on_what_is_not_empty_is_refused() {
    let (service, _ines) = Service::ready().await;
    let mut laptop = Mounted::new(&service, "LAPTOP", &[]);
    let top = laptop.top().display().to_string();
    let said = laptop.yattic.fails(1, &["mount", &top]);
    assert!(said.contains("mounted already"), "{said}");
    let full = tempfile::tempdir().unwrap();
    fs::write(full.path().join("mine"), b"mine").unwrap();
    let said = laptop.yattic.fails(1, &["mount", full.path().to_str().unwrap()]);
    assert!(said.contains("is not empty"), "{said}");
    laptop.yattic.fails(2, &["mount", &top, "--room", "1KiB"]);
    laptop.yattic.fails(2, &["keep", full.path().to_str().unwrap()]);
    // Killed with a file open in it, what stands there is nobody's, and is freed.
    let open = File::create(laptop.at("open")).unwrap();
    laptop.kill();
    assert!(fs::read_dir(&top).is_err());
    drop(open);
    laptop.mount();
    assert!(laptop.at("open").exists());
    assert!(laptop.end().contains("not mounted any more"));
    laptop.yattic.fails(1, &["mount", "--end", &top]);
    assert_eq!(fs::read_dir(&top).unwrap().count(), 0);
    let said = laptop.yattic.fails(1, &["keep", laptop.at("open").to_str().unwrap()]);
    assert!(said.contains("not mounted"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn ended_with_files_open_in_it_nothing_is_lost() {
    let (service, _ines) = Service::ready().await;
    let mut laptop = Mounted::new(&service, "LAPTOP", &[]);
    let mut open = File::create(laptop.at("open")).unwrap();
    open.write_all(b"written before it ended").unwrap();
    laptop.end();
    assert!(open.write_all(b"after").is_err());
    laptop.mount();
    assert_eq!(fs::read(laptop.at("open")).unwrap(), b"written before it ended");
    laptop.all_sent();
}

#[tokio::test(flavor = "multi_thread")]
async fn rights_that_are_taken_a_device_that_is_ended_and_a_file_that_is_gone() {
    let (service, ines) = Service::ready().await;
    let new =
        api::NewAccount { sign_in: "celia".into(), password: Some(PASSWORD.into()), ..Default::default() };
    ines.make_account(&new).await.unwrap();
    let person = |level: &str| api::ShelfPerson { to: "account:celia".into(), level: level.into() };
    let plans = api::NewShelf { name: "Plans".into(), ..Default::default() };
    let plans = ines.make_shelf(&plans).await.unwrap().root;
    let right = |to: &str, can: &str| api::NewGrant {
        to: to.into(),
        can: can.into(),
        until: None,
        message: String::new(),
    };
    let edits = ines.give(plans, &right("account:celia", "edit")).await.unwrap().id;
    let look = api::NewShelf { name: "Looks".into(), people: vec![person("view")], ..Default::default() };
    let looks = ines.make_shelf(&look).await.unwrap().root;
    for (folder, name) in [(plans, "plan"), (plans, "gone"), (plans, "never read"), (looks, "picture")] {
        ines.put(folder, name, None, &Default::default(), bytes_of(name, 600_000).into()).await.unwrap();
    }
    let yattic = Yattic::new();
    let asked = ["connect", &service.address, "--sign-in", "celia", "--password-stdin", "--device", "TABLET"];
    assert!(yattic.fed(&asked, format!("{PASSWORD}\n").as_bytes()).status.success());
    let tablet = Mounted::of(yattic, &[]);
    let at = |path: &str| tablet.top().join(path);
    // Only to be looked at: the bits say so, and so do the numbers.
    let bits =
        std::os::unix::fs::PermissionsExt::mode(&fs::metadata(at("Looks/picture")).unwrap().permissions());
    assert_eq!(bits & 0o222, 0);
    let number = |done: std::io::Result<()>| done.unwrap_err().raw_os_error();
    assert_eq!(number(fs::write(at("Looks/picture"), b"x")), Some(libc::EACCES));
    assert_eq!(number(fs::write(at("Looks/new"), b"x")), Some(libc::EACCES));
    assert_eq!(number(fs::remove_file(at("Looks/picture"))), Some(libc::EACCES));
    assert_eq!(fs::read(at("Looks/picture")).unwrap(), bytes_of("picture", 600_000));
    // A file that is removed there while it is open here: what was open stays readable as far as it was fetched.
    let open = File::open(at("Plans/gone")).unwrap();
    let mut first = vec![0; 1000];
    open.read_exact_at(&mut first, 0).unwrap();
    let node = ines.place("Plans:/gone", None).await.unwrap().node;
    ines.remove(node.id).await.unwrap();
    assert!(wait_for(|| !at("Plans/gone").exists()));
    open.read_exact_at(&mut first, 0).unwrap();
    assert_eq!(first, bytes_of("gone", 600_000)[..1000]);
    // The right to change is taken: what was changed stays here, and says why it does not go up.
    ines.give(plans, &right("everyone", "view")).await.unwrap();
    ines.end_grant(edits).await.unwrap();
    // At once, or when the mount has heard of it.
    if fs::write(at("Plans/plan"), b"changed").is_ok() {
        assert!(wait_for(
            || attribute(&at("Plans/plan"), "user.yattic.state").as_deref() == Some("in trouble")
        ));
        let why = attribute(&at("Plans/plan"), "user.yattic.why").unwrap();
        assert!(why.contains("refuses"), "{why}");
        assert_eq!(fs::read(at("Plans/plan")).unwrap(), b"changed");
    }
    assert!(wait_for(|| number_of(fs::write(at("Plans/other"), b"x")) == Some(libc::EACCES)));
    // The device is ended.
    let page = ines.account("celia").await.unwrap();
    let device = page.devices.iter().find(|d| d.name == "TABLET").unwrap().id;
    ines.end_device_of("celia", device).await.unwrap();
    fs::write("/proc/sys/vm/drop_caches", b"3").unwrap();
    assert_eq!(
        fs::read(at("Looks/picture")).unwrap(),
        bytes_of("picture", 600_000),
        "what was fetched is here"
    );
    assert_eq!(fs::read(at("Plans/never read")).unwrap_err().raw_os_error(), Some(libc::EACCES));
}

fn number_of(done: std::io::Result<()>) -> Option<i32> {
    done.err().and_then(|e| e.raw_os_error())
}

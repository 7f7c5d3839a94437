//! Folders on two computers that are kept the same: by the real client, against the real service.

use crate::support::{PATIENCE, Service, Yattic};
use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Stdio};
use std::time::Instant;
use yellow_attic_trials::line::Line;

/// Paths to what is there: none for a folder, else the bytes and whether it is a program.
type Tree = BTreeMap<String, Option<(Vec<u8>, bool)>>;

/// A computer with one pair.
pub struct Computer {
    pub yattic: Yattic,
    pub folder: tempfile::TempDir,
    running: Option<Child>,
}

impl Computer {
    pub fn new(service: &Service, device: &str) -> Computer {
        let yattic = Yattic::new();
        yattic.connect_as(service, device);
        let folder = tempfile::Builder::new().prefix("folder").tempdir().unwrap();
        Computer { yattic, folder, running: None }
    }

    pub fn at(&self, path: &str) -> PathBuf {
        self.folder.path().join(path)
    }

    pub fn pair(&self, remote: &str) {
        self.yattic.ok(&["sync", "add", &self.folder.path().display().to_string(), remote]);
    }

    pub fn once(&self) -> String {
        self.yattic.ok(&["sync", "run", "--once"])
    }

    pub fn run(&mut self) {
        let mut command = self.yattic.command(&["sync", "run"]);
        self.running = Some(command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap());
    }

    pub fn kill(&mut self) {
        if let Some(mut child) = self.running.take() {
            child.kill().unwrap();
            child.wait().unwrap();
        }
    }

    pub fn tree(&self) -> Tree {
        tree(self.folder.path())
    }
}

impl Drop for Computer {
    fn drop(&mut self) {
        self.kill();
    }
}

/// What a folder holds: none for a folder, else the bytes and whether it is a program.
fn tree(top: &Path) -> Tree {
    fn walk(dir: &Path, prefix: &str, tree: &mut Tree) {
        let Ok(entries) = fs::read_dir(dir) else { return };
        for entry in entries.flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            if prefix.is_empty() && name == ".yattic" {
                continue;
            }
            let path = format!("{prefix}{name}");
            let Ok(facts) = fs::symlink_metadata(entry.path()) else { continue };
            if facts.is_dir() {
                tree.insert(path.clone(), None);
                walk(&entry.path(), &format!("{path}/"), tree);
            } else if facts.is_file() {
                let bytes = fs::read(entry.path()).unwrap_or_default();
                tree.insert(path, Some((bytes, facts.permissions().mode() & 0o100 != 0)));
            }
        }
    }
    let mut found = BTreeMap::new();
    walk(top, "", &mut found);
    found
}

/// Waits until both have the same, and it is what is wanted.
fn same(one: &Computer, two: &Computer, wanted: impl Fn(&Tree) -> bool) {
    let begun = Instant::now();
    loop {
        let (a, b) = (one.tree(), two.tree());
        if a == b && wanted(&a) {
            return;
        }
        if begun.elapsed() > PATIENCE {
            let told = |c: &Computer| c.yattic.ok(&["sync", "status"]);
            let only = |a: &Tree, b: &Tree| -> Vec<String> {
                a.iter().filter(|(k, v)| b.get(*k) != Some(*v)).map(|(k, _)| k.clone()).collect()
            };
            panic!(
                "they are not the same: {:?} and {:?}\n{}\n{}",
                only(&a, &b),
                only(&b, &a),
                told(one),
                told(two)
            );
        }
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_changes_on_one_computer_is_on_the_other() {
    let (service, ines) = Service::ready().await;
    let (mut desk, mut laptop) = (Computer::new(&service, "DESK"), Computer::new(&service, "LAPTOP"));
    fs::create_dir_all(desk.at("Letters/1987")).unwrap();
    fs::write(desk.at("Letters/1987/a.txt"), b"a").unwrap();
    fs::write(desk.at("Letters/b.txt"), b"b").unwrap();
    fs::write(desk.at("tool"), b"#!/bin/sh\n").unwrap();
    fs::set_permissions(desk.at("tool"), fs::Permissions::from_mode(0o755)).unwrap();
    let large: Vec<u8> = (0..9_000_000_u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    fs::write(desk.at("film"), &large).unwrap();
    // Equal on both sides already: matched, and not carried over. Different: kept twice.
    fs::write(laptop.at("tool"), b"#!/bin/sh\n").unwrap();
    fs::write(laptop.at("film"), b"another film").unwrap();
    desk.pair("home:/");
    laptop.pair("home:/");
    desk.once();
    // Said before anything happens.
    let third = Computer::new(&service, "TABLET");
    fs::write(third.at("tool"), b"#!/bin/sh\n").unwrap();
    fs::write(third.at("film"), b"a third film").unwrap();
    fs::write(third.at("only here"), b"here").unwrap();
    std::os::unix::fs::symlink("/etc/hostname", third.at("link")).unwrap();
    let before = third.tree();
    let folder = third.folder.path().display().to_string();
    let said = third.yattic.ok(&["sync", "add", "--preview", "--json", &folder, "home:/"]);
    let said: serde_json::Value = serde_json::from_str(&said).unwrap();
    assert_eq!(
        (said["same"]["files"].as_u64(), said["send"]["files"].as_u64()),
        (Some(1), Some(2)),
        "{said}"
    );
    assert_eq!(
        (said["fetch"]["files"].as_u64(), said["fetch"]["bytes"].as_u64()),
        (Some(3), Some(9_000_002))
    );
    assert_eq!((said["twice"][0].as_str(), said["left"][0]["path"].as_str()), (Some("film"), Some("link")));
    assert!(
        third.tree() == before
            && !third.at(".yattic").exists()
            && third.yattic.ok(&["sync", "ls"]).contains("no pair")
    );
    assert!(ines.place("home:/only here", None).await.is_err());
    laptop.once();
    desk.once();
    let copy = |tree: &Tree| tree.keys().filter(|k| k.starts_with("film (LAPTOP, ")).count() == 1;
    same(&desk, &laptop, |tree| tree.len() == 7 && copy(tree));
    assert_eq!(fs::read(laptop.at("film")).unwrap(), large);
    assert!(laptop.yattic.ok(&["sync", "conflicts"]).contains("film (LAPTOP, "));
    let on_service = ines.place("home:/Letters/1987/a.txt", None).await.unwrap().node;
    // Both at once from here on.
    desk.run();
    laptop.run();
    fs::rename(desk.at("Letters"), desk.at("Post")).unwrap();
    same(&desk, &laptop, |tree| tree.contains_key("Post/1987/a.txt"));
    let moved = ines.place("home:/Post/1987/a.txt", None).await.unwrap().node;
    assert_eq!(moved.id, on_service.id, "a folder that is moved is moved, not sent again");
    fs::write(laptop.at("Post/1987/a.txt"), b"aa").unwrap();
    same(&desk, &laptop, |tree| tree["Post/1987/a.txt"].as_ref().is_some_and(|f| f.0 == b"aa"));
    // By a file beside it that takes its place.
    fs::write(desk.at("Post/.b.txt.swp"), b"bb").unwrap();
    fs::rename(desk.at("Post/.b.txt.swp"), desk.at("Post/b.txt")).unwrap();
    same(&desk, &laptop, |tree| tree["Post/b.txt"].as_ref().is_some_and(|f| f.0 == b"bb"));
    let saved = ines.place("home:/Post/b.txt", None).await.unwrap().node;
    assert_eq!(
        ines.history(saved.id).await.unwrap().states.len(),
        2,
        "made, and changed: it is the same file"
    );
    fs::remove_dir_all(laptop.at("Post/1987")).unwrap();
    same(&desk, &laptop, |tree| !tree.contains_key("Post/1987") && tree.contains_key("Post/b.txt"));
    // In the browser.
    let folder = ines.place("home:/Post", None).await.unwrap().node.id;
    ines.put(folder, "new", None, &Default::default(), b"from the browser".to_vec().into()).await.unwrap();
    same(&desk, &laptop, |tree| tree.contains_key("Post/new"));
    let said = desk.yattic.ok(&["sync", "status"]);
    assert!(said.contains("home:/") && !said.contains("trouble"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_would_take_much_away_stops_and_asks() {
    let (service, ines) = Service::ready().await;
    let mut desk = Computer::new(&service, "DESK");
    for n in 0..70 {
        fs::write(desk.at(&format!("file {n}")), format!("{n}")).unwrap();
    }
    desk.pair("home:/");
    desk.once();
    let top = ines.place("home:/", None).await.unwrap().node.id;
    let there = async || ines.entries(top, &Default::default()).await.unwrap().entries.len();
    assert_eq!(there().await, 70);
    // Most of it goes.
    (0..60).for_each(|n| fs::remove_file(desk.at(&format!("file {n}"))).unwrap());
    desk.once();
    assert_eq!(there().await, 70, "nothing goes before somebody says so");
    let said = desk.yattic.ok(&["sync", "status"]);
    assert!(
        said.contains("60 of 70 files were removed here") && said.contains("yattic sync allow"),
        "{said}"
    );
    desk.yattic.ok(&["sync", "allow", "1"]);
    desk.once();
    assert_eq!(there().await, 10);
    // The whole folder is not there: a disk that is not mounted.
    let away = desk.folder.path().with_extension("away");
    fs::rename(desk.folder.path(), &away).unwrap();
    fs::create_dir(desk.folder.path()).unwrap();
    let said = desk.yattic.fails(3, &["sync", "run", "--once"]);
    assert!(said.contains("may not be mounted"), "{said}");
    assert!(
        !desk.at("file 60").exists() && !desk.at(".yattic").exists(),
        "nothing is made in another folder"
    );
    assert_eq!(there().await, 10);
    fs::remove_dir_all(desk.folder.path()).unwrap();
    fs::rename(&away, desk.folder.path()).unwrap();
    desk.once();
    assert_eq!((there().await, desk.tree().len()), (10, 10));
    // A stop between the exchange of a file and the look at what came out: it goes back.
    fs::write(desk.at(".yattic/out-5"), b"saved in between").unwrap();
    desk.once();
    assert_eq!(fs::read(desk.at("kept 5 1")).unwrap(), b"saved in between");
    assert_eq!(there().await, 11);
    fs::remove_file(desk.at("kept 5 1")).unwrap();
    desk.once();
    // A state that is thrown away: both sides are compared, nothing is sent, fetched or removed, and nothing comes back.
    fs::remove_file(desk.at("file 60")).unwrap();
    desk.once();
    desk.yattic.ok(&["sync", "end", "1", "--yes"]);
    assert!(!desk.at(".yattic").exists());
    let received = service.received().await;
    desk.pair("home:/");
    desk.once();
    assert_eq!((there().await, desk.tree().len(), service.received().await), (9, 9, received));
    // Two that lie in each other, and two at work at once, are refused.
    fs::create_dir(desk.at("inside")).unwrap();
    let said = desk.yattic.fails(1, &["sync", "add", &desk.at("inside").display().to_string(), "home:/"]);
    assert!(said.contains("lie in each other"), "{said}");
    desk.run();
    let begun = Instant::now();
    while !desk.yattic.ok(&["sync", "ls"]).contains("the same") {
        assert!(begun.elapsed() < PATIENCE, "it does not begin to work");
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
    assert!(desk.yattic.fails(1, &["sync", "run"]).contains("at work already"));
    // Another service's token is of no use; the door says so, and nothing here is touched.
    let own = Computer::new(&service, "OTHER");
    drop(own);
    let devices = ines.devices().await.unwrap().devices;
    let its = devices.iter().find(|d| d.name == "DESK").unwrap().id;
    ines.end_device(its).await.unwrap();
    let begun = Instant::now();
    while !desk.yattic.ok(&["sync", "status"]).contains("lets this computer in no more") {
        assert!(begun.elapsed() < PATIENCE, "{}", desk.yattic.ok(&["sync", "status"]));
        std::thread::sleep(std::time::Duration::from_millis(200));
    }
    assert_eq!(desk.tree().len(), 10);
}

/// Something a program or a person does in a folder; what is never touched again is noted.
fn works(chance: &mut u64, computer: &Computer, name: &str, n: usize, kept: &mut Vec<Vec<u8>>) {
    let mut below = |most: u64| {
        *chance = chance.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (*chance >> 33) % most
    };
    let bytes = format!("{name} {n} ").repeat(1 + below(2000) as usize).into_bytes();
    let folder = computer.at(&format!("f{}", below(4)));
    let file = folder.join(format!("d{}", below(6)));
    match below(9) {
        0 | 1 => {
            // A file of its own, that nobody touches again.
            let _ = fs::create_dir_all(&folder);
            if fs::write(computer.at(&format!("{name}-{n}")), &bytes).is_ok() {
                kept.push(bytes);
            }
        }
        2 => {
            let _ = fs::create_dir_all(&folder);
            let _ = fs::write(&file, &bytes);
        }
        3 => {
            let beside = folder.join(format!(".d.{n}.tmp"));
            if fs::write(&beside, &bytes).is_ok() {
                let _ = fs::rename(&beside, &file);
            }
        }
        4 => {
            let old = file.with_extension("bak");
            if fs::rename(&file, old).is_ok() {
                let _ = fs::write(&file, &bytes);
            }
        }
        5 => drop(fs::remove_file(&file)),
        6 => drop(fs::rename(&folder, computer.at(&format!("f{}", below(6))))),
        7 => drop(fs::rename(&file, computer.at(&format!("f{}/d{}", below(4), below(6))))),
        _ => {
            let git = |arguments: &[&str]| {
                let mut command = std::process::Command::new("git");
                command.current_dir(computer.at(&format!("repository-{name}"))).args(arguments);
                command.env("GIT_CONFIG_GLOBAL", "/dev/null").env("HOME", "/nonexistent");
                let as_whom =
                    ["GIT_AUTHOR_NAME", "GIT_AUTHOR_EMAIL", "GIT_COMMITTER_NAME", "GIT_COMMITTER_EMAIL"];
                for variable in as_whom {
                    command.env(variable, "ines@museum.example");
                }
                let done = command.output().unwrap();
                assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
            };
            let repository = computer.at(&format!("repository-{name}"));
            if !repository.exists() {
                fs::create_dir(&repository).unwrap();
                git(&["init", "--quiet"]);
            }
            fs::write(repository.join(format!("t{}", n % 5)), &bytes).unwrap();
            git(&["add", "."]);
            git(&["commit", "--quiet", "-m", "more"]);
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn two_that_work_at_once_and_are_killed_now_and_then_end_with_the_same() {
    let (service, _ines) = Service::ready().await;
    let mut both = [Computer::new(&service, "DESK"), Computer::new(&service, "LAPTOP")];
    both.iter().for_each(|computer| computer.pair("home:/"));
    both.iter_mut().for_each(Computer::run);
    let (mut chance, mut kept) = (7_u64, Vec::new());
    for n in 0..150 {
        let which = n % 2;
        works(&mut chance, &both[which], ["desk", "laptop"][which], n, &mut kept);
        std::thread::sleep(std::time::Duration::from_millis(chance >> 33 & 127));
        if n % 25 == 24 {
            let which = (n / 25) % 2;
            both[which].kill();
            works(&mut chance, &both[which], ["desk", "laptop"][which], n + 1000, &mut kept);
            both[which].run();
        }
    }
    let [desk, laptop] = &both;
    same(desk, laptop, |_| true);
    // Nothing comes after that.
    std::thread::sleep(std::time::Duration::from_secs(4));
    same(desk, laptop, |tree| {
        let there: std::collections::HashSet<&Vec<u8>> = tree.values().flatten().map(|f| &f.0).collect();
        kept.iter().all(|bytes| there.contains(bytes))
    });
    for name in ["desk", "laptop"] {
        for computer in &both {
            let repository = computer.at(&format!("repository-{name}"));
            let checked = std::process::Command::new("git")
                .current_dir(&repository)
                .args(["fsck", "--strict"])
                .env("GIT_CONFIG_GLOBAL", "/dev/null")
                .output()
                .unwrap();
            assert!(checked.status.success(), "{}", String::from_utf8_lossy(&checked.stderr));
        }
    }
    let tree = desk.tree();
    let service_has =
        tree.keys().filter(|path| path.starts_with("desk-") || path.starts_with("laptop-")).count();
    assert_eq!(service_has, kept.len());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pair_of_one_way_carries_nothing_the_other_way() {
    let (service, ines) = Service::ready().await;
    let top = ines.place("home:/", None).await.unwrap().node.id;
    let put = async |name: &str, bytes: &[u8]| {
        ines.put(top, name, None, &Default::default(), bytes.to_vec().into()).await.unwrap();
    };
    put("there", b"1").await;
    let down = Computer::new(&service, "DOWN");
    fs::write(down.at("here"), b"2").unwrap();
    let folder = |computer: &Computer| computer.folder.path().display().to_string();
    down.yattic.ok(&["sync", "add", "--down", &folder(&down), "home:/"]);
    down.once();
    assert!(fs::read(down.at("there")).unwrap() == b"1" && ines.place("home:/here", None).await.is_err());
    fs::write(down.at("there"), b"changed here").unwrap();
    down.once();
    assert_eq!(ines.place("home:/there", None).await.unwrap().node.size, 1);
    assert_eq!(fs::read(down.at("there")).unwrap(), b"changed here", "nothing is taken back unasked");
    assert!(down.yattic.ok(&["sync", "status"]).contains("only goes the other way"));
    // Both changed: what lies here is kept beside it.
    put("there", b"changed there").await;
    down.once();
    assert_eq!(fs::read(down.at("there")).unwrap(), b"changed there");
    assert!(down.tree().values().flatten().any(|file| file.0 == b"changed here"));
    let up = Computer::new(&service, "UP");
    fs::write(up.at("sent"), b"3").unwrap();
    up.yattic.ok(&["sync", "add", "--up", &folder(&up), "home:/"]);
    up.once();
    assert_eq!(up.tree().len(), 1, "nothing comes down");
    assert_eq!(ines.place("home:/sent", None).await.unwrap().node.size, 1);
    fs::remove_file(up.at("sent")).unwrap();
    up.once();
    assert!(ines.place("home:/sent", None).await.is_err() && ines.place("home:/there", None).await.is_ok());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_pair_leaves_out_stays_on_both_sides_and_comes_when_it_is_let_in() {
    let (service, ines) = Service::ready().await;
    let mut desk = Computer::new(&service, "DESK");
    let mut laptop = Computer::new(&service, "LAPTOP");
    for (path, bytes) in [
        ("Films/harbour.mkv", vec![1; 3_000_000]),
        ("Films/notes.txt", b"notes".to_vec()),
        ("Papers/Old/1986.txt", b"old".to_vec()),
        ("Papers/now.txt", b"now".to_vec()),
        ("draft.tmp", b"draft".to_vec()),
    ] {
        fs::create_dir_all(desk.at(path).parent().unwrap()).unwrap();
        fs::write(desk.at(path), bytes).unwrap();
    }
    desk.pair("home:/");
    desk.once();
    desk.run();
    // Said before anything is fetched, and then just that is left out.
    let folder = laptop.folder.path().display().to_string();
    let add = [
        "sync",
        "add",
        &folder,
        "home:/",
        "--larger",
        "1MiB",
        "--leave",
        "*.TMP",
        "--without",
        "home:/Papers/Old",
    ];
    let said = laptop.yattic.ok(&[&add[..], &["--preview"]].concat());
    for line in [
        "to leave out        3 files",
        "Films/harbour.mkv: it has more than 1.00 MiB",
        "draft.tmp: it is named like \"*.TMP\"",
        "Papers/Old: its folder is not chosen",
    ] {
        assert!(said.contains(line), "{line}: {said}");
    }
    assert!(laptop.tree().is_empty());
    laptop.yattic.ok(&add);
    laptop.once();
    let names = |c: &Computer| c.tree().into_keys().collect::<Vec<_>>();
    assert_eq!(names(&laptop), ["Films", "Films/notes.txt", "Papers", "Papers/now.txt"]);
    laptop.run();
    // What is left out here is not sent either; what it stands beside is.
    fs::write(laptop.at("own.tmp"), b"own").unwrap();
    fs::write(laptop.at("own.txt"), b"own").unwrap();
    let all = async || {
        let find = ines.place("home:/", None).await.unwrap().node.id;
        let entries = ines.all_entries(find, &Default::default()).await.unwrap();
        entries.into_iter().map(|e| e.name).collect::<Vec<_>>()
    };
    assert!(crate::support::eventually(async || all().await.contains(&"own.txt".to_string())).await);
    assert!(!all().await.contains(&"own.tmp".to_string()));
    // A folder that holds such things goes here, and there only as far as it was here.
    fs::remove_dir_all(laptop.at("Films")).unwrap();
    assert!(
        crate::support::eventually(async || ines.place("home:/Films/notes.txt", None).await.is_err()).await
    );
    assert_eq!(ines.place("home:/Films/harbour.mkv", None).await.unwrap().node.size, 3_000_000);
    // How one file is, by its path here; and commands know what it is there.
    let said = laptop.yattic.ok(&["sync", "status"]);
    assert!(said.contains("4 files are left out as the pair was told"), "{said}");
    let told = laptop.yattic.ok(&["sync", "status", "--json", laptop.at("own.tmp").to_str().unwrap()]);
    let told: serde_json::Value = serde_json::from_str(&told).unwrap();
    assert_eq!((told["state"].as_str(), told["remote"].as_str()), (Some("left out"), Some("home:/own.tmp")));
    let told = laptop.yattic.ok(&["sync", "status", laptop.at("own.txt").to_str().unwrap()]);
    assert!(told.contains("the same: both sides have it"), "{told}");
    assert!(laptop.yattic.ok(&["history", laptop.at("own.txt").to_str().unwrap()]).contains("own.txt"));
    assert!(laptop.yattic.fails(2, &["history", "/etc/hostname"]).contains("hostname"));
    // A folder is let go: what the service has of it goes here, what it has not stays.
    fs::write(laptop.at("Papers/mine.tmp"), b"mine").unwrap();
    let said = laptop.yattic.ok(&["sync", "set", "1", "--preview", "--without", "home:/Papers"]);
    assert!(said.contains("Papers: its folder is not chosen"), "{said}");
    assert!(laptop.at("Papers/now.txt").exists());
    laptop.yattic.ok(&["sync", "set", "1", "--without", "home:/Papers"]);
    assert!(crate::support::wait_for(|| !laptop.at("Papers/now.txt").exists()));
    assert!(laptop.at("Papers/mine.tmp").exists());
    assert_eq!(ines.place("home:/Papers/now.txt", None).await.unwrap().node.size, 3);
    // All is let in again: both have all.
    laptop.yattic.ok(&["sync", "set", "1", "--everything"]);
    same(&desk, &laptop, |t| {
        t.contains_key("own.tmp") && t.contains_key("Films/harbour.mkv") && t.contains_key("Papers/mine.tmp")
    });
    for bad in [
        &["--leave", "a["][..],
        &["--larger", "much"],
        &["--without", "home:/own.txt"],
        &["--only", "home:/"],
    ] {
        laptop.yattic.fails(2, &[&["sync", "set", "1"], bad].concat());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pair_rests_when_it_is_told_to_and_goes_no_faster_than_it_may() {
    let (service, ines) = Service::ready().await;
    let mut desk = Computer::new(&service, "DESK");
    desk.pair("home:/");
    desk.run();
    fs::write(desk.at("first"), b"1").unwrap();
    let there = async |path: &str| ines.place(path, None).await.is_ok();
    assert!(crate::support::eventually(async || there("home:/first").await).await);
    assert!(desk.yattic.ok(&["sync", "pause"]).contains("until yattic sync resume"));
    let state = |c: &Computer| {
        let told = c.yattic.ok(&["sync", "status", "--json"]);
        let told: serde_json::Value = serde_json::from_str(&told).unwrap();
        told[0]["state"].as_str().unwrap().to_string()
    };
    assert!(crate::support::wait_for(|| state(&desk) == "paused"));
    fs::write(desk.at("second"), b"2").unwrap();
    std::thread::sleep(std::time::Duration::from_secs(3));
    assert!(!there("home:/second").await);
    // It is still so after a stop, in the middle of anything.
    desk.kill();
    desk.run();
    assert!(crate::support::wait_for(|| state(&desk) == "paused"));
    assert!(desk.yattic.ok(&["sync", "resume", "1"]).contains("goes on"));
    assert!(crate::support::eventually(async || there("home:/second").await).await);
    // Quiet hours all day but a minute: as a pause.
    desk.yattic.ok(&["sync", "limits", "--rest", "00:00-23:59", "--up", "1MiB"]);
    let said = desk.yattic.ok(&["sync", "limits"]);
    assert!(said.contains("at most 1.00 MiB a second") && said.contains("from 00:00 to 23:59"), "{said}");
    assert!(crate::support::wait_for(|| desk
        .yattic
        .ok(&["sync", "status"])
        .contains("quiet hours, until 23:59")));
    desk.yattic.ok(&["sync", "limits", "--rest", "none"]);
    // No faster than it may: twelve pieces of 256 KiB at a MiB a second.
    let begun = Instant::now();
    fs::write(desk.at("film"), vec![7; 3 << 20]).unwrap();
    assert!(crate::support::eventually(async || there("home:/film").await).await);
    assert!(begun.elapsed().as_secs_f64() > 2.5, "{:?}", begun.elapsed());
    for bad in [["--up", "slow"], ["--up", "1"], ["--rest", "9-25"]] {
        desk.yattic.fails(2, &[&["sync", "limits"][..], &bad].concat());
    }
    // The service shows how the pairs are.
    let told = crate::support::eventually(async || {
        let devices = ines.devices().await.unwrap().devices;
        let its = devices.into_iter().find(|d| d.name == "DESK").unwrap();
        its.report.is_some_and(|r| {
            r.program.starts_with("yattic ") && r.pairs[0].place == "home:/" && r.pairs[0].state == "in step"
        })
    });
    assert!(told.await);
    assert!(desk.yattic.ok(&["sync", "install", "--print"]).contains("sync run"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_rollback_undoes_goes_without_a_question_and_what_was_changed_on_it_waits() {
    let (service, ines) = Service::ready().await;
    let mut desk = Computer::new(&service, "DESK");
    fs::write(desk.at("plan"), b"plan").unwrap();
    desk.pair("home:/");
    desk.once();
    let home = ines.place("home:/", None).await.unwrap().node.id;
    let goal = ines.changes(home, &Default::default()).await.unwrap().upto;
    for n in 0..70 {
        let bytes = format!("mishap {n}").into_bytes();
        ines.put(home, &format!("mishap {n}"), None, &Default::default(), bytes.into()).await.unwrap();
    }
    desk.once();
    assert_eq!(desk.tree().len(), 71);
    // Changed here, and not sent before all of that is undone.
    fs::write(desk.at("mishap 7"), b"worked on").unwrap();
    let new = yellow_attic_client::api::NewRollback { to: goal, keep: vec![], token: None };
    let begun = ines.begin_rollback(home, &new).await.unwrap();
    assert!(
        crate::support::eventually(async || ines.rollback(begun.id).await.unwrap().state == "done").await
    );
    desk.run();
    assert!(crate::support::wait_for(|| desk.tree().len() == 2), "{:?}", desk.tree().keys());
    assert_eq!(fs::read(desk.at("mishap 7")).unwrap(), b"worked on");
    let told = |c: &Computer| c.yattic.ok(&["sync", "status"]);
    assert!(crate::support::wait_for(|| told(&desk).contains("mishap 7: it was rolled back on the service")));
    assert!(ines.place("home:/mishap 7", None).await.is_err(), "nothing is pushed");
    desk.yattic.ok(&["sync", "allow", "1"]);
    assert!(crate::support::eventually(async || ines.place("home:/mishap 7", None).await.is_ok()).await);
}

#[tokio::test(flavor = "multi_thread")]
async fn many_small_files_go_both_ways_over_lines_that_break_and_stay_away() {
    let (service, ines) = Service::ready().await;
    let over = |cuts: [u64; 4]| {
        let mut cuts = cuts.into_iter();
        Line::refusing(&service.address, move || Some((cuts.next()?, 2_000)))
    };
    let (up, down) =
        (over([300_000, 1_200_000, 200_000, 2_500_000]), over([400_000, 150_000, 1_900_000, 2_000_000]));
    let computer = |line: &Line| {
        let computer =
            Computer { yattic: Yattic::new(), folder: tempfile::tempdir().unwrap(), running: None };
        computer.yattic.connect_to(&line.address);
        computer
    };
    let (mut desk, mut laptop) = (computer(&up), computer(&down));
    for n in 0..600_u32 {
        fs::create_dir_all(desk.at(&format!("folder {}", n % 7))).unwrap();
        let bytes: Vec<u8> = (0..2_000_u32).flat_map(|m| (m.wrapping_mul(n + 3) ^ n).to_le_bytes()).collect();
        fs::write(desk.at(&format!("folder {}/file {n}", n % 7)), bytes).unwrap();
    }
    desk.pair("home:/");
    laptop.pair("home:/");
    laptop.run();
    desk.run();
    // Told at once, and by many: nobody who is nudged while it begins is ended by that.
    for act in ["pause", "resume"].repeat(5) {
        desk.yattic.ok(&["sync", act]);
    }
    same(&desk, &laptop, |tree| tree.len() == 607);
    assert!(desk.running.as_mut().unwrap().try_wait().unwrap().is_none());
    for line in [&up, &down] {
        assert!(line.cuts.load(std::sync::atomic::Ordering::SeqCst) >= 2, "the lines held");
    }
    // Nothing was made twice by an answer that was lost.
    let home = ines.place("home:/", None).await.unwrap().node.id;
    assert_eq!(ines.all_entries(home, &Default::default()).await.unwrap().len(), 7);
    assert!(!desk.tree().keys().any(|path| path.contains('(')));
}

/// What a person saved so that it is on the disk: the file first, and its folder.
fn saved(path: &Path, bytes: &[u8]) -> std::io::Result<()> {
    let fresh = path.with_extension("new");
    let mut file = fs::File::create(&fresh)?;
    std::io::Write::write_all(&mut file, bytes)?;
    file.sync_all()?;
    fs::rename(&fresh, path)?;
    fs::File::open(path.parent().unwrap())?.sync_all()
}

/// A power cut can leave the file empty in which a pair tells how it stands: nothing is known then until it runs, and nothing refuses.
#[tokio::test(flavor = "multi_thread")]
async fn a_status_of_which_a_power_cut_left_nothing_is_no_error() {
    let (service, _ines) = Service::ready().await;
    let yattic = Yattic::new();
    yattic.connect_as(&service, "LAPTOP");
    let folder = yattic.home.path().join("folder");
    fs::create_dir(&folder).unwrap();
    fs::write(folder.join("a"), b"a").unwrap();
    yattic.ok(&["sync", "add", folder.to_str().unwrap(), "home:/"]);
    yattic.ok(&["sync", "run", "--once"]);
    let mut emptied = 0;
    for path in yellow_attic_trials::hands::walk(yattic.home.path()) {
        if path.to_string_lossy().ends_with(".status.json") {
            fs::write(&path, b"").unwrap();
            emptied += 1;
        }
    }
    assert!(emptied > 0);
    yattic.ok(&["sync", "ls"]);
    yattic.ok(&["sync", "status", "--once"]);
    yattic.ok(&["sync", "run", "--once"]);
    let told = yattic.ok(&["sync", "ls"]);
    assert!(told.contains("folder"), "{told}");
}

/// The power of a computer goes while its pair fetches many and large files, sends, and somebody saves: on a disk with a cache of
/// its own. Nothing of half a file goes up or stays here, and what was saved is there.
async fn power_goes_under_a_pair(kind: yellow_attic_trials::disk::Kind) {
    let (service, ines) = Service::ready().await;
    let home = ines.place("home:/", None).await.unwrap().node.id;
    let disk = yellow_attic_trials::disk::Image::nested(kind, 400);
    // All bytes that a file ever had: nothing else may be found anywhere.
    let mut ledger: BTreeMap<String, Vec<Vec<u8>>> = BTreeMap::new();
    let mut chance = yellow_attic_trials::numbers(20_261_130);
    let mut bytes_of = |name: &str, length: usize| {
        let mut bytes = vec![0; length];
        let seed = format!("{name} {}", chance(u64::MAX));
        blake3::Hasher::new().update(seed.as_bytes()).finalize_xof().fill(&mut bytes);
        bytes
    };
    let put = async |name: &str, bytes: &[u8]| {
        ines.put(home, name, None, &Default::default(), bytes.to_vec().into()).await.unwrap();
    };
    for n in 0..300 {
        let name = format!("there {n}");
        let bytes = bytes_of(&name, 500 + n * 60);
        put(&name, &bytes).await;
        ledger.insert(name, vec![bytes]);
    }
    let film = bytes_of("film", 12 << 20);
    put("film", &film).await;
    ledger.insert("film".into(), vec![film]);
    let yattic = Yattic { home: tempfile::Builder::new().prefix("home").tempdir_in(&disk.at).unwrap() };
    yattic.connect_as(&service, "LAPTOP");
    let folder = disk.at.join("folder");
    fs::create_dir(&folder).unwrap();
    yattic.ok(&["sync", "add", folder.to_str().unwrap(), "home:/"]);
    std::process::Command::new("sync").status().unwrap();
    let run = || {
        let mut command = yattic.command(&["sync", "run"]);
        command.current_dir("/").stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    };
    for round in 0..6_u64 {
        let mut running = crate::support::Ends(run());
        let begun = Instant::now();
        let length = std::time::Duration::from_millis(300 + round * 450);
        let mut n = 0;
        while begun.elapsed() < length {
            let mine = format!("mine {round} {n}");
            let bytes = bytes_of(&mine, 3_000);
            saved(&folder.join(&mine), &bytes).unwrap();
            ledger.insert(mine, vec![bytes]);
            let theirs = format!("there {}", (round as usize * 50 + n) % 300);
            let bytes = bytes_of(&theirs, 4_000);
            put(&theirs, &bytes).await;
            ledger.get_mut(&theirs).unwrap().push(bytes);
            n += 1;
            tokio::time::sleep(std::time::Duration::from_millis(15)).await;
        }
        disk.cut_power_under(&running.0);
        running.0.kill().unwrap();
        running.0.wait().unwrap();
        disk.mount_again();
    }
    let running = crate::support::Ends(run());
    let told = || yattic.ok(&["sync", "status", "--once"]);
    let same = async || yattic.ok(&["sync", "ls"]).contains("the same");
    assert!(crate::support::eventually(same).await, "{}", told());
    drop(running);
    let said = yattic.ok(&["sync", "run", "--once"]);
    assert!(!said.contains("left alone"), "{}", told());
    let mut here = tree(&folder);
    // What was not renamed into its place yet when the power went was never said to be saved.
    here.retain(|name, _| !name.ends_with(".new"));
    // Not one copy more, and none less.
    let names =
        |only: &dyn Fn(&String) -> bool| here.keys().filter(|name| only(name)).cloned().collect::<Vec<_>>();
    assert_eq!(names(&|name| !ledger.contains_key(name)), Vec::<String>::new(), "{kind:?}");
    assert!(ledger.keys().all(|name| here.contains_key(name)), "{kind:?}");
    for (name, states) in &ledger {
        let (bytes, _) = here[name].as_ref().unwrap();
        assert!(
            bytes == states.last().unwrap(),
            "{kind:?}: {name} is {} bytes, and not what was saved last",
            bytes.len()
        );
        // The service never had anything else of it.
        let node = ines.place(&format!("home:/{name}"), None).await.unwrap().node;
        for state in ines.history(node.id).await.unwrap().states {
            let known = states.iter().map(|bytes| blake3::hash(bytes).to_hex().to_string());
            let hash = state.node.blake3.unwrap();
            assert!(known.into_iter().any(|known| known == hash), "{kind:?}: {name} was something else");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn when_the_power_of_a_computer_goes_nothing_of_half_a_file_goes_up_or_stays() {
    use yellow_attic_trials::disk::Kind;
    for kind in [Kind::Ext4, Kind::Ext4Writeback, Kind::Xfs] {
        power_goes_under_a_pair(kind).await;
    }
}

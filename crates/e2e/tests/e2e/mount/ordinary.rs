//! What one meets: names and sizes at once, bytes on opening, ways of saving, the past.

use super::{Mounted, attribute, becomes, bytes_of};
use crate::support::{Service, eventually, wait_for};
use std::fs::{self, File, OpenOptions};
use std::io::{Read, Seek, SeekFrom, Write};
use std::os::unix::fs::{FileExt, MetadataExt, PermissionsExt};
use yellow_attic_client::{Client, api};

async fn home(ines: &Client) -> i64 {
    ines.place("home:/", None).await.unwrap().node.id
}

async fn put(ines: &Client, folder: i64, name: &str, bytes: &[u8]) -> api::Node {
    ines.put(folder, name, None, &Default::default(), bytes.to_vec().into()).await.unwrap()
}

async fn content(ines: &Client, path: &str) -> Option<Vec<u8>> {
    use futures_util::StreamExt;
    let node = ines.place(path, None).await.ok()?.node;
    let mut stream = std::pin::pin!(ines.content(node.id, None, 0).await.ok()?);
    let mut all = Vec::new();
    while let Some(piece) = stream.next().await {
        all.extend_from_slice(&piece.ok()?);
    }
    Some(all)
}

#[tokio::test(flavor = "multi_thread")]
async fn everything_is_at_hand_and_only_what_is_read_is_fetched() {
    let (service, ines) = Service::ready().await;
    let home = home(&ines).await;
    let letters = ines.make_folder(home, "Letters").await.unwrap().id;
    let film = bytes_of("film", 64 << 20);
    put(&ines, home, "film", &film).await;
    for n in 0..200 {
        put(&ines, letters, &format!("letter {n}.txt"), format!("letter {n}").as_bytes()).await;
    }
    ines.make_shelf(&api::NewShelf { name: "Plans".into(), ..Default::default() }).await.unwrap();
    let laptop = Mounted::new(&service, "LAPTOP", &[]);
    // Names, sizes, times: of what nothing was fetched.
    let mut tops: Vec<String> =
        fs::read_dir(laptop.top()).unwrap().map(|e| e.unwrap().file_name().into_string().unwrap()).collect();
    tops.sort();
    assert_eq!(tops, ["Plans", "home"]);
    assert_eq!(fs::read_dir(laptop.at("Letters")).unwrap().count(), 200);
    let facts = fs::metadata(laptop.at("film")).unwrap();
    assert_eq!((facts.len(), facts.blocks()), (64 << 20, (64 << 20) / 512));
    let node = ines.place("home:/film", None).await.unwrap().node;
    let modified: jiff::Timestamp = node.modified.parse().unwrap();
    assert_eq!(facts.mtime(), modified.as_second());
    assert_eq!((laptop.sum("fetched"), laptop.sum("held")), (0, 0));
    assert_eq!(laptop.told(&laptop.at("film"), "state"), "only there");
    // The end of it, without the rest.
    let mut file = File::open(laptop.at("film")).unwrap();
    file.seek(SeekFrom::End(-65_536)).unwrap();
    let mut end = Vec::new();
    file.read_to_end(&mut end).unwrap();
    assert!(end == film[film.len() - 65_536..]);
    assert!(laptop.sum("fetched") < 2 << 20, "{}", laptop.sums());
    assert_eq!(laptop.told(&laptop.at("film"), "state"), "partly here");
    // And then all of it.
    assert!(fs::read(laptop.at("film")).unwrap() == film);
    assert!(laptop.sum("fetched") < (64 << 20) + (4 << 20), "nothing is fetched twice: {}", laptop.sums());
    assert_eq!(fs::read(laptop.at("Letters/letter 7.txt")).unwrap(), b"letter 7");
    // How much room there is.
    let room = rustix::fs::statvfs(laptop.top()).unwrap();
    assert!(room.f_blocks > 0 && room.f_bavail > 0 && room.f_bavail <= room.f_blocks);
}

#[tokio::test(flavor = "multi_thread")]
async fn however_programs_save_it_is_one_file_with_a_history() {
    let (service, ines) = Service::ready().await;
    let home = home(&ines).await;
    let node = put(&ines, home, "report.txt", b"first").await;
    let laptop = Mounted::new(&service, "LAPTOP", &[]);
    let at = laptop.at("report.txt");
    let becomes_there = async |bytes: &[u8]| {
        let told =
            eventually(async || content(&ines, "home:/report.txt").await.as_deref() == Some(bytes)).await;
        assert!(told, "{:?} {}", content(&ines, "home:/report.txt").await, laptop.told(&at, "state"));
    };
    // Truncate and write.
    fs::write(&at, b"second, written over").unwrap();
    assert_eq!(fs::read(&at).unwrap(), b"second, written over");
    becomes_there(b"second, written over").await;
    // Append.
    OpenOptions::new().append(true).open(&at).unwrap().write_all(b", and more").unwrap();
    becomes_there(b"second, written over, and more").await;
    // In place.
    let file = OpenOptions::new().write(true).open(&at).unwrap();
    file.write_all_at(b"SECOND", 0).unwrap();
    file.sync_all().unwrap();
    drop(file);
    becomes_there(b"SECOND, written over, and more").await;
    // Another name, and renamed: what programs expect is another inode, and what people expect is the same file.
    let inode = fs::metadata(&at).unwrap().ino();
    let temporary = laptop.at(".report.txt.tmp");
    let mut file = File::create(&temporary).unwrap();
    file.write_all(b"third").unwrap();
    file.sync_all().unwrap();
    drop(file);
    fs::rename(&temporary, &at).unwrap();
    assert_ne!(fs::metadata(&at).unwrap().ino(), inode);
    becomes_there(b"third").await;
    // Shortened and lengthened.
    let file = OpenOptions::new().write(true).open(&at).unwrap();
    file.set_len(2).unwrap();
    file.set_len(4).unwrap();
    drop(file);
    assert_eq!(fs::read(&at).unwrap(), b"th\0\0");
    becomes_there(b"th\0\0").await;
    let now = ines.place("home:/report.txt", None).await.unwrap().node;
    assert_eq!(now.id, node.id, "it is the file that it was");
    let history = ines.history(node.id).await.unwrap();
    assert!(history.states.len() >= 6, "{}", history.states.len());
    // Nothing else came there.
    let entries = ines.all_entries(home, &Default::default()).await.unwrap();
    assert_eq!(entries.len(), 1, "{:?}", entries.iter().map(|e| &e.name).collect::<Vec<_>>());
    laptop.all_sent();
    assert_eq!(laptop.told(&at, "state"), "here");
}

#[tokio::test(flavor = "multi_thread")]
async fn folders_names_and_marks_go_both_ways() {
    let (service, ines) = Service::ready().await;
    let laptop = Mounted::new(&service, "LAPTOP", &[]);
    let desk = Mounted::new(&service, "DESK", &[]);
    fs::create_dir_all(laptop.at("Plans/Hall")).unwrap();
    fs::write(laptop.at("Plans/Hall/tool"), b"#!/bin/sh\n").unwrap();
    fs::set_permissions(laptop.at("Plans/Hall/tool"), fs::Permissions::from_mode(0o755)).unwrap();
    becomes(&desk.at("Plans/Hall/tool"), b"#!/bin/sh\n");
    assert!(wait_for(|| fs::metadata(desk.at("Plans/Hall/tool")).unwrap().mode() & 0o100 != 0));
    let id = ines.place("home:/Plans/Hall/tool", None).await.unwrap().node.id;
    // A folder that is moved is moved, on both.
    fs::rename(desk.at("Plans"), desk.at("Old plans")).unwrap();
    assert!(wait_for(|| laptop.at("Old plans/Hall/tool").exists() && !laptop.at("Plans").exists()));
    assert_eq!(ines.place("home:/Old plans/Hall/tool", None).await.unwrap().node.id, id);
    // Programs that have it open go on with it.
    let file = File::open(laptop.at("Old plans/Hall/tool")).unwrap();
    fs::write(desk.at("Old plans/Hall/tool"), b"#!/bin/sh\necho\n").unwrap();
    becomes(&laptop.at("Old plans/Hall/tool"), b"#!/bin/sh\necho\n");
    let mut old = Vec::new();
    (&file).read_to_end(&mut old).unwrap();
    assert_eq!(old, b"#!/bin/sh\n", "what is open stays what it was");
    // Two names exchanged.
    fs::write(laptop.at("a"), b"a").unwrap();
    fs::write(laptop.at("b"), b"b").unwrap();
    becomes(&desk.at("b"), b"b");
    becomes(&desk.at("a"), b"a");
    fs::remove_file(desk.at("a")).unwrap();
    fs::remove_dir_all(desk.at("Old plans")).unwrap();
    assert!(wait_for(|| !laptop.at("a").exists() && !laptop.at("Old plans").exists()));
    // A program's own attributes stay with a file here.
    rustix::fs::setxattr(laptop.at("b"), "user.colour", b"yellow", rustix::fs::XattrFlags::empty()).unwrap();
    assert_eq!(attribute(&laptop.at("b"), "user.colour").as_deref(), Some("yellow"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_is_refused_by_the_right_number() {
    let (service, ines) = Service::ready().await;
    let shelf = ines.make_shelf(&api::NewShelf { name: "Plans".into(), ..Default::default() }).await.unwrap();
    put(&ines, shelf.root, "plan", b"plan").await;
    let laptop = Mounted::new(&service, "LAPTOP", &[]);
    fs::write(laptop.at("a"), b"a").unwrap();
    let number = |done: std::io::Result<()>| done.unwrap_err().raw_os_error().unwrap();
    assert_eq!(number(fs::create_dir(laptop.top().join("new"))), libc::EACCES);
    assert_eq!(number(fs::write(laptop.top().join("new"), b"")), libc::EACCES);
    assert_eq!(number(fs::hard_link(laptop.at("a"), laptop.at("b"))), libc::EPERM);
    assert_eq!(number(std::os::unix::fs::symlink("a", laptop.at("b"))), libc::EPERM);
    assert_eq!(number(fs::write(laptop.at("a\u{1}b"), b"")), libc::EINVAL);
    assert_eq!(number(fs::write(laptop.at(&"x".repeat(256)), b"")), libc::ENAMETOOLONG);
    assert_eq!(number(fs::create_dir(laptop.at(".then"))), libc::EEXIST);
    assert_eq!(number(fs::rename(laptop.at("a"), laptop.at(".then"))), libc::EISDIR);
    let name: &std::ffi::OsStr = std::os::unix::ffi::OsStrExt::from_bytes(b"\xff");
    assert_eq!(number(fs::write(laptop.at("").join(name), b"")), libc::EILSEQ);
    // From shelf to shelf as from disk to disk.
    assert_eq!(number(fs::rename(laptop.at("a"), laptop.top().join("Plans/a"))), libc::EXDEV);
    assert!(!laptop.at(".yattic").exists());
    assert_eq!(fs::read(laptop.at("a")).unwrap(), b"a");
    assert_eq!(attribute(&laptop.at("a"), "user.yattic.nothing"), None);
    let ours =
        rustix::fs::setxattr(laptop.at("a"), "user.yattic.state", b"here", rustix::fs::XattrFlags::empty());
    assert_eq!(ours.unwrap_err(), rustix::io::Errno::PERM);
}

#[tokio::test(flavor = "multi_thread")]
async fn every_folder_holds_what_it_was() {
    let (service, ines) = Service::ready().await;
    let home = home(&ines).await;
    let letters = ines.make_folder(home, "Letters").await.unwrap().id;
    put(&ines, letters, "may.txt", b"first").await;
    let root = home;
    ines.take_snapshot(
        root,
        &api::SnapshotChange { label: Some("before / the move".into()), ..Default::default() },
    )
    .await
    .unwrap();
    // To the second, and after that.
    tokio::time::sleep(std::time::Duration::from_millis(1100)).await;
    let before = jiff::Timestamp::now();
    tokio::time::sleep(std::time::Duration::from_millis(1500)).await;
    put(&ines, letters, "may.txt", b"second").await;
    put(&ines, letters, "june.txt", b"june").await;
    let moved = api::Target { name: Some("Old letters".into()), ..Default::default() };
    ines.change(letters, &moved).await.unwrap();
    let laptop = Mounted::new(&service, "LAPTOP", &[]);
    let now = laptop.at("Old letters");
    // No list shows it.
    assert!(fs::read_dir(&now).unwrap().all(|e| e.unwrap().file_name() != ".then"));
    let then = now.join(".then");
    assert!(then.is_dir());
    let snapshots: Vec<String> =
        fs::read_dir(&then).unwrap().map(|e| e.unwrap().file_name().into_string().unwrap()).collect();
    assert_eq!(snapshots.len(), 1, "{snapshots:?}");
    assert!(snapshots[0].ends_with(" before the move"), "{snapshots:?}");
    // By the snapshot's name, and by any time.
    let time = before.to_zoned(jiff::tz::TimeZone::UTC).strftime("%Y-%m-%dT%H:%M:%S").to_string();
    for name in [snapshots[0].clone(), time.clone(), format!("{time}Z"), format!("{time}+00:00")] {
        let at = then.join(&name);
        let names: Vec<_> = fs::read_dir(&at).unwrap().map(|e| e.unwrap().file_name()).collect();
        assert_eq!(names, ["may.txt"], "{name}");
        assert_eq!(fs::read(at.join("may.txt")).unwrap(), b"first", "{name}");
        assert_eq!(fs::metadata(at.join("may.txt")).unwrap().mode() & 0o222, 0);
        assert!(fs::write(at.join("may.txt"), b"x").is_err());
        assert!(fs::write(at.join("new"), b"x").is_err());
    }
    assert_eq!(fs::read(now.join("may.txt")).unwrap(), b"second");
    assert!(
        !then.join("yesterday").exists()
            && !then.join("2999-01-01").exists()
            && !then.join("1999-01-01").exists()
    );
    // Copied out of it is restored.
    fs::copy(then.join(&time).join("may.txt"), now.join("may.txt")).unwrap();
    assert!(
        eventually(async || content(&ines, "home:/Old letters/may.txt").await.as_deref() == Some(b"first"))
            .await
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_large_folder_that_is_removed_goes_without_a_question() {
    let (service, ines) = Service::ready().await;
    let home = home(&ines).await;
    let laptop = Mounted::new(&service, "LAPTOP", &[]);
    fs::create_dir(laptop.at("Old")).unwrap();
    for n in 0..150 {
        fs::write(laptop.at(&format!("Old/{n}")), n.to_string()).unwrap();
    }
    fs::write(laptop.at("stays"), b"stays").unwrap();
    laptop.all_sent();
    fs::remove_dir_all(laptop.at("Old")).unwrap();
    laptop.all_sent();
    let names: Vec<String> =
        ines.all_entries(home, &Default::default()).await.unwrap().into_iter().map(|n| n.name).collect();
    assert_eq!(names, ["stays"]);
    assert_eq!(laptop.sums()["away"], serde_json::Value::Null);
}

#[tokio::test(flavor = "multi_thread")]
async fn two_services_are_mounted_side_by_side_and_neither_knows_of_the_other() {
    let (museum, ines) = Service::ready().await;
    let (annexe, other) = Service::ready().await;
    put(&ines, home(&ines).await, "of the museum", b"museum").await;
    put(&other, home(&other).await, "of the annexe", b"annexe").await;
    let laptop = Mounted::new(&museum, "LAPTOP", &[]);
    laptop.yattic.connect_as(&annexe, "LAPTOP");
    let second = tempfile::tempdir().unwrap();
    let at = second.path().join("annexe");
    let mut running = laptop.yattic.command(&["mount", at.to_str().unwrap()]).spawn().unwrap();
    assert!(wait_for(|| at.join("home/of the annexe").exists()));
    assert_eq!(fs::read(laptop.at("of the museum")).unwrap(), b"museum");
    // The same name in both is two files.
    fs::write(laptop.at("plan"), "museum's").unwrap();
    fs::write(at.join("home/plan"), "annexe's").unwrap();
    assert!(eventually(async || content(&ines, "home:/plan").await.as_deref() == Some(b"museum's")).await);
    assert!(eventually(async || content(&other, "home:/plan").await.as_deref() == Some(b"annexe's")).await);
    assert!(!laptop.at("of the annexe").exists() && !at.join("home/of the museum").exists());
    let told = laptop.yattic.ok(&["mount"]);
    assert!(told.contains(&museum.address) && told.contains(&annexe.address), "{told}");
    // One service ends; the other's folder does not mind.
    drop(annexe);
    fs::write(laptop.at("still"), "works").unwrap();
    assert!(eventually(async || content(&ines, "home:/still").await.is_some()).await);
    fs::write(at.join("home/waits"), "waits").unwrap();
    assert_eq!(fs::read(at.join("home/waits")).unwrap(), b"waits");
    laptop.yattic.ok(&["mount", "--end", at.to_str().unwrap()]);
    assert!(running.wait().unwrap().success());
    assert!(laptop.at("still").exists());
}

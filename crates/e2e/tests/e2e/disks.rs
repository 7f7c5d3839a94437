//! Full and read-only disks, on small ext4 images; what `init` says of a disk.

use crate::support::{PATIENCE, Service, eventually, program};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use yellow_attic_client::{When, api};
use yellow_attic_trials::disk::{Image, Kind};

fn run(program: &str, arguments: &[&str]) {
    let done = Command::new(program).args(arguments).output().unwrap_or_else(|e| panic!("{program}: {e}"));
    assert!(done.status.success(), "{program} {arguments:?}: {}", String::from_utf8_lossy(&done.stderr));
}

fn fill(at: &Path) -> PathBuf {
    let ballast = at.join("ballast");
    let mut file = fs::File::create(&ballast).unwrap();
    let block = vec![0u8; 1 << 20];
    while std::io::Write::write_all(&mut file, &block).is_ok() {}
    ballast
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_disk_is_said_so_and_the_service_goes_on_when_there_is_space_again() {
    let disk = Image::make(Kind::Ext4, 200);
    let mut service = Service::start_in(&disk.at.join("data"));
    service.set_up().await;
    let client = service.client().await;
    let home = client.place("home:/", None).await.unwrap().node.id;
    let kept = client.put(home, "kept", None, &When::default(), vec![1; 100_000].into()).await.unwrap();
    let ballast = fill(&disk.at);
    for size in [10, 100_000, 5_000_000] {
        let refused =
            client.put(home, "more", None, &When::default(), vec![2; size].into()).await.unwrap_err();
        assert_eq!(refused.code(), Some("disk_full"), "{refused}");
    }
    // Reading goes on.
    assert_eq!(client.place("home:/kept", None).await.unwrap().node.size, 100_000);
    assert_eq!(client.place("home:/more", None).await.unwrap_err().code(), Some("not_found"));
    fs::remove_file(ballast).unwrap();
    assert!(service.staging_is_clean());
    let mut put = None;
    let begun = std::time::Instant::now();
    while begun.elapsed() < PATIENCE {
        match client.put(home, "more", None, &When::default(), vec![2; 100_000].into()).await {
            Ok(node) => {
                put = Some(node);
                break;
            }
            Err(_) => tokio::time::sleep(std::time::Duration::from_millis(100)).await,
        }
    }
    assert!(put.is_some(), "the service did not go on");
    client
        .change(kept.id, &api::Target { name: Some("renamed".into()), ..Default::default() })
        .await
        .unwrap();
    drop(service);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_disk_that_fills_while_a_body_arrives_refuses_it_and_keeps_nothing() {
    let disk = Image::make(Kind::Ext4, 160);
    let mut service = Service::start_in(&disk.at.join("data"));
    service.set_up().await;
    let client = service.client().await;
    let home = client.place("home:/", None).await.unwrap().node.id;
    // Of unknown length, and larger than the disk.
    let pieces = (0..400).map(|n| Ok(vec![n as u8; 1 << 20].into()));
    let body =
        yellow_attic_client::Body::stream(None, futures_util::stream::iter(pieces.collect::<Vec<_>>()));
    let refused = client.put(home, "huge", None, &When::default(), body).await;
    assert!(refused.is_err());
    assert!(service.staging_is_clean());
    client.put(home, "small", None, &When::default(), vec![1; 100].into()).await.unwrap();
    drop(service);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_read_only_disk_is_said_so_and_the_service_goes_on_when_it_is_writable_again() {
    let disk = Image::make(Kind::Ext4, 200);
    let mut service = Service::start_in(&disk.at.join("data"));
    service.set_up().await;
    let client = service.client().await;
    let home = client.place("home:/", None).await.unwrap().node.id;
    client.put(home, "kept", None, &When::default(), b"1".to_vec().into()).await.unwrap();
    assert!(service.staging_is_clean());
    // Files that are open for writing keep a disk writable: freeze it through its own error state.
    let remounted = Command::new("mount").args(["-o", "remount,ro"]).arg(&disk.at).status().unwrap();
    if !remounted.success() {
        // The catalogue's log is open: make the shelf itself refuse instead.
        run("chattr", &["+i", disk.at.join("data/staging").to_str().unwrap()]);
    }
    let refused = client.put(home, "more", None, &When::default(), b"2".to_vec().into()).await.unwrap_err();
    assert!(matches!(refused.code(), Some("disk_read_only" | "writes_stopped")), "{refused}");
    assert_eq!(client.place("home:/kept", None).await.unwrap().node.size, 1);
    if remounted.success() {
        disk.remount("rw");
    } else {
        run("chattr", &["-i", disk.at.join("data/staging").to_str().unwrap()]);
    }
    let goes_on =
        async || client.put(home, "more", None, &When::default(), b"2".to_vec().into()).await.is_ok();
    assert!(eventually(goes_on).await, "the service did not go on");
    drop(service);
}

fn init(data: &Path, more: &[&str]) -> (bool, String) {
    let done = Command::new(program("yatticd"))
        .args(["init", "--data"])
        .arg(data)
        .args(more)
        .env_clear()
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&done.stdout).into_owned() + &String::from_utf8_lossy(&done.stderr);
    (done.status.success(), said)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_disk_that_can_lose_what_was_answered_is_refused_at_first_and_said_ever_after() {
    for (kind, word) in [(Kind::Ext4NoJournal, "unsafe"), (Kind::Ext4, "kept"), (Kind::Xfs, "kept")] {
        let disk = Image::make(kind, 400);
        let data = disk.at.join("data");
        fs::create_dir(&data).unwrap();
        let (made, said) = init(&data, &[]);
        if word == "unsafe" {
            assert!(
                !made && said.contains("without a journal") && said.contains("--accept-unsafe-disk"),
                "{said}"
            );
            assert_eq!(fs::read_dir(&data).unwrap().count(), 0, "something was made");
            assert!(init(&data, &["--accept-unsafe-disk"]).0);
        } else {
            assert!(made && said.contains("Power cuts    kept"), "{said}");
        }
        let mut service = Service::start_in(&data);
        service.set_up().await;
        let state = service.client().await.store_state().await.unwrap();
        assert_eq!(state.durability, word, "{state:?}");
        assert!(!state.older_catalogue && state.stopped.is_empty());
    }
}

#[test]
fn a_service_makes_nothing_in_an_empty_folder_and_nothing_on_two_disks() {
    let dir = tempfile::tempdir().unwrap();
    let serve = |data: &Path| {
        let done = Command::new(program("yatticd"))
            .args(["serve", "--listen", "127.0.0.1:0", "--data"])
            .arg(data)
            .env_clear()
            .output()
            .unwrap();
        assert!(!done.status.success());
        let said =
            String::from_utf8_lossy(&done.stdout).into_owned() + &String::from_utf8_lossy(&done.stderr);
        assert!(!said.contains("/set-up#"), "{said}");
        said
    };
    let empty = dir.path().join("empty");
    fs::create_dir(&empty).unwrap();
    let said = serve(&empty);
    assert!(said.contains("yatticd init") && said.contains("mounted"), "{said}");
    assert_eq!(fs::read_dir(&empty).unwrap().count(), 0);
    // The past on another disk: renames between the two cannot be.
    let (data, disk) = (dir.path().join("data"), Image::make(Kind::Ext4, 100));
    assert!(init(&data, &["--accept-unsafe-disk"]).0);
    fs::remove_dir_all(data.join("past")).unwrap();
    std::os::unix::fs::symlink(&disk.at, data.join("past")).unwrap();
    let said = serve(&data);
    assert!(said.contains("another device"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_disk_that_can_hold_no_more_files_is_said_so_whatever_writes() {
    let disk = Image::make(Kind::Ext4FewFiles, 200);
    let mut service = Service::start_in(&disk.at.join("data"));
    service.set_up().await;
    let client = service.client().await;
    let home = client.place("home:/", None).await.unwrap().node.id;
    let kept = client.put(home, "kept", None, &When::default(), b"kept".to_vec().into()).await.unwrap();
    let gone = client.put(home, "gone", None, &When::default(), b"gone".to_vec().into()).await.unwrap();
    client.remove(gone.id).await.unwrap();
    let before = client.space().await.unwrap().stored.unwrap();
    assert!(before.free_files.unwrap() > 1_000 && before.total_files.unwrap() >= 3_000, "{before:?}");
    // Somebody makes as many files as there can be, none of which takes a byte.
    let ballast = disk.at.join("ballast");
    fs::create_dir(&ballast).unwrap();
    let mut made = 0;
    while fs::File::create(ballast.join(made.to_string())).is_ok() {
        made += 1;
    }
    assert!(made > 1_000);
    let full = |outcome: Result<(), yellow_attic_client::Error>, what: &str| {
        let refused = outcome.expect_err(what);
        assert_eq!(refused.code(), Some("disk_full"), "{what}: {refused}");
        assert!(refused.to_string().contains("files more"), "{what}: {refused}");
    };
    for size in [10, 100_000, 5_000_000] {
        let put = client.put(home, "more", None, &When::default(), vec![2; size].into()).await;
        full(put.map(drop), "a new file");
        let over = client.put(home, "kept", None, &When::default(), vec![3; size].into()).await;
        full(over.map(drop), "another state");
    }
    // All is as it was, and can be read.
    assert_eq!(client.place("home:/kept", None).await.unwrap().node.size, 4);
    assert_eq!(client.place("home:/more", None).await.unwrap_err().code(), Some("not_found"));
    fs::remove_dir_all(&ballast).unwrap();
    let again =
        async || client.put(home, "kept", None, &When::default(), b"another".to_vec().into()).await.is_ok();
    assert!(eventually(again).await, "the service did not go on");
    assert_eq!(client.history(kept.id).await.unwrap().states.len(), 2);
    // Nothing is left behind, and every sum is what lies on the disk once all has its place.
    let data = disk.at.join("data");
    let sums = async || {
        let mut check = Command::new(program("yatticd"));
        check.args(["check", "--space", "--data", data.to_str().unwrap()]);
        check.output().unwrap().status.success()
    };
    assert!(eventually(sums).await, "the sums differ");
    drop(service);
}

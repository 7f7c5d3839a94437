//! `yattic` as a process against a real service; every help page is a snapshot.

use crate::support::{Service, Yattic, program, wait_for};
use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::Path;
use std::process::Command;

#[tokio::test(flavor = "multi_thread")]
async fn a_computer_is_connected_used_and_disconnected() {
    let (service, _) = Service::ready().await;
    let yattic = Yattic::new();
    assert!(yattic.fails(1, &["ls"]).contains("not connected"));
    yattic.connect(&service);
    let kept = yattic.home.path().join("connection.toml");
    assert_eq!(fs::metadata(&kept).unwrap().permissions().mode() & 0o777, 0o600);

    assert!(yattic.fed(&["put", "-", "home:/notes.txt"], b"fog at six").status.success());
    assert_eq!(yattic.ok(&["cat", "home:/notes.txt"]), "fog at six");
    assert!(yattic.fed(&["put", "-", "home:/notes.txt"], b"clear").status.success());
    yattic.ok(&["mkdir", "-p", "home:/a/b"]);
    yattic.ok(&["mv", "home:/notes.txt", "home:/a/b/"]);
    yattic.ok(&["cp", "home:/a/b/notes.txt", "home:/copy.txt"]);
    assert_eq!(yattic.ok(&["cat", "home:/copy.txt"]), "clear");
    let history: serde_json::Value =
        serde_json::from_str(&yattic.ok(&["--json", "history", "home:/a/b/notes.txt"])).unwrap();
    assert_eq!(history["states"].as_array().unwrap().len(), 3);
    let first = history["states"][2]["node"]["moment"].as_str().unwrap();
    yattic.ok(&["restore", "home:/a/b/notes.txt", "--version", first]);
    assert_eq!(yattic.ok(&["cat", "home:/a/b/notes.txt"]), "fog at six");
    assert!(yattic.fails(1, &["restore", "home:/copy.txt"]).contains("still here"));

    assert!(yattic.fails(1, &["rm", "home:/a"]).contains("--yes"));
    yattic.ok(&["rm", "--yes", "home:/a"]);
    assert!(yattic.fails(1, &["ls", "home:/a"]).contains("not found"));
    yattic.ok(&["restore", "home:/a"]);
    assert_eq!(yattic.ok(&["cat", "home:/a/b/notes.txt"]), "fog at six");
    assert!(yattic.ok(&["ls", "home:/"]).contains("copy.txt"));
    assert!(yattic.ok(&["info", "home:/copy.txt"]).contains("5 B (5 bytes)"));
    assert!(yattic.fails(2, &["ls", "copy.txt"]).contains("home:/copy.txt"));
    assert!(yattic.fails(2, &["ls", "home:/", "--at", "once"]).contains("no moment"));
    let problem: serde_json::Value =
        serde_json::from_str(&yattic.fails(1, &["--json", "ls", "home:/none"])).unwrap();
    assert_eq!(problem["code"], "not_found");

    yattic.ok(&["disconnect"]);
    assert!(!kept.exists());
}

/// A folder of mixed files: deep paths, odd but legal names, empty files, large ones.
fn mixed(root: &Path, files: usize, large: usize) {
    let odd = [
        "...",
        " ",
        "-rf",
        "CON",
        "café",
        "名前",
        "😀",
        "a\\b",
        "#%?&=+",
        "~",
        "trailing ",
        "quote'\"",
        "%2e%2e",
    ];
    let mut dir = root.to_path_buf();
    for depth in 0..40 {
        dir = dir.join(format!("deep {depth}"));
    }
    fs::create_dir_all(&dir).unwrap();
    fs::write(dir.join("bottom"), b"deep down").unwrap();
    fs::create_dir_all(root.join("empty folder")).unwrap();
    for name in odd {
        let inside = root.join("odd").join(name);
        fs::create_dir_all(&inside).unwrap();
        fs::write(inside.join(name), name.as_bytes()).unwrap();
        fs::write(inside.join("empty"), b"").unwrap();
    }
    fs::write(root.join(format!("{}.txt", "é".repeat(125))), b"a long name").unwrap();
    for n in 0..files {
        let dir = root.join(format!("many/{}", n % 23));
        fs::create_dir_all(&dir).unwrap();
        let size = (n * 7919) % 30_000;
        let bytes: Vec<u8> = (0..size).map(|i| ((i * n) >> 3) as u8).collect();
        fs::write(dir.join(format!("file {n}.bin")), bytes).unwrap();
    }
    let block: Vec<u8> = (0..1 << 20).map(|i: u32| (i.wrapping_mul(2_654_435_761) >> 9) as u8).collect();
    let mut out = fs::File::create(root.join("large.bin")).unwrap();
    for n in 0..large as u32 {
        let mut block = block.clone();
        block[..4].copy_from_slice(&n.to_le_bytes());
        std::io::Write::write_all(&mut out, &block).unwrap();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_real_folder_goes_up_and_comes_back_identical() {
    let (service, _) = Service::ready().await;
    let yattic = Yattic::new();
    yattic.connect(&service);
    let dir = tempfile::tempdir().unwrap();
    let (from, to) = (dir.path().join("from"), dir.path().join("to"));
    // The full size, 5,000 files and 2 GiB, is asked for by YATTIC_TEST_FULL=1.
    let full = std::env::var_os("YATTIC_TEST_FULL").is_some();
    let (files, large) = if full { (5000, 2048) } else { (600, 64) };
    mixed(&from, files, large);
    let told = yattic.ok(&["put", from.to_str().unwrap(), "home:/"]);
    assert!(told.contains("files sent"), "{told}");
    yattic.ok(&["get", "home:/from", "--to", to.to_str().unwrap()]);
    let same = Command::new("diff").args(["-r", "--no-dereference"]).arg(&from).arg(&to).output().unwrap();
    assert!(same.status.success(), "{}", String::from_utf8_lossy(&same.stdout));
    let age = |p: &Path| fs::metadata(p.join("large.bin")).unwrap().modified().unwrap();
    let apart = age(&from).duration_since(age(&to)).unwrap_or_else(|e| e.duration());
    assert!(apart.as_millis() < 2, "the time of modification is kept");
    assert!(service.staging_is_clean());
    // And it lies on the disk as plain files.
    let plain = service.data.join("shelves/main/home/ines/from");
    let same = Command::new("diff").arg("-r").arg(&from).arg(&plain).output().unwrap();
    assert!(same.status.success(), "{}", String::from_utf8_lossy(&same.stdout));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_sent_is_told_and_the_rest_goes_on() {
    let (service, _) = Service::ready().await;
    let yattic = Yattic::new();
    yattic.connect(&service);
    let dir = tempfile::tempdir().unwrap();
    let from = dir.path().join("from");
    fs::create_dir(&from).unwrap();
    fs::write(from.join("good"), b"1").unwrap();
    fs::write(from.join("line\nbreak"), b"2").unwrap();
    symlink("good", from.join("link")).unwrap();
    let done = yattic.run(&["put", from.to_str().unwrap(), "home:/"]);
    assert_eq!(done.status.code(), Some(3));
    let told = String::from_utf8(done.stdout).unwrap();
    assert!(told.contains("control character U+000A") && told.contains("links are not followed"), "{told}");
    assert_eq!(yattic.ok(&["cat", "home:/from/good"]), "1");
}

#[test]
fn every_help_page_is_as_it_was_reviewed() {
    let mut pages = String::new();
    let mut page = |binary: &str, arguments: &[&str]| {
        let done = Command::new(program(binary))
            .args(arguments)
            .arg("--help")
            .env_clear()
            .env("COLUMNS", "100")
            .output()
            .unwrap();
        assert!(done.status.success());
        pages.push_str(&format!("$ {binary} {} --help\n\n", arguments.join(" ")));
        pages.push_str(&String::from_utf8(done.stdout).unwrap());
        pages.push('\n');
    };
    page("yattic", &[]);
    for command in [
        "connect",
        "disconnect",
        "ls",
        "info",
        "put",
        "get",
        "cat",
        "mkdir",
        "mv",
        "cp",
        "rm",
        "history",
        "restore",
        "find",
        "share",
        "unshare",
        "lock",
        "unlock",
        "sync",
        "link",
        "rollback",
        "trash",
        "snapshot",
        "space",
        "quota",
        "intake",
        "given-out",
        "who",
        "why",
        "account",
        "group",
        "shelf",
        "device",
        "rule",
        "door",
        "mail",
        "apply",
        "completions",
        "manual",
    ] {
        page("yattic", &[command]);
    }
    for command in ["link", "intake"] {
        for act in ["new", "ls", "show", "set", "end"] {
            page("yattic", &[command, act]);
        }
    }
    for act in [
        "add",
        "set",
        "ls",
        "run",
        "status",
        "conflicts",
        "allow",
        "pause",
        "resume",
        "limits",
        "install",
        "end",
    ] {
        page("yattic", &["sync", act]);
    }
    page("yatticd", &[]);
    for command in ["serve", "init", "clock", "check", "demo", "config", "completions", "manual"] {
        page("yatticd", &[command]);
    }
    insta::assert_snapshot!(pages);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_check_reads_a_service_at_work_and_tells_damage_in_the_past() {
    let (service, _) = Service::ready().await;
    let yattic = Yattic::new();
    yattic.connect(&service);
    assert!(yattic.fed(&["put", "-", "home:/notes.txt"], b"fog at six").status.success());
    assert!(yattic.fed(&["put", "-", "home:/notes.txt"], b"clear").status.success());
    let past = service.data.join("past");
    let hash = blake3::hash(b"fog at six").to_hex().to_string();
    let file = past.join(&hash[..2]).join(&hash);
    assert!(wait_for(|| file.exists()));
    let check = || {
        let done = Command::new(program("yatticd"))
            .args(["check", "--json", "--data"])
            .arg(&service.data)
            .env_clear()
            .output()
            .unwrap();
        (done.status.code(), serde_json::from_slice::<serde_json::Value>(&done.stdout).unwrap())
    };
    let (status, found) = check();
    assert_eq!((status, &found["sound"], &found["past"]["contents"]), (Some(0), &true.into(), &1.into()));
    assert!(found["record"]["rows"].as_i64().unwrap() >= 3, "{found}");
    fs::write(&file, b"FOG AT SIX").unwrap();
    let (status, found) = check();
    assert_eq!((status, &found["damaged"][0]), (Some(1), &hash.as_str().into()), "{found}");
}

#[test]
fn the_service_refuses_a_wrong_configuration_with_key_value_and_remedy() {
    let run = |arguments: &[&str]| {
        let done = Command::new(program("yatticd")).args(arguments).env_clear().output().unwrap();
        (
            done.status.code(),
            String::from_utf8(done.stdout).unwrap() + &String::from_utf8(done.stderr).unwrap(),
        )
    };
    let (status, told) = run(&["config", "--listen", "here"]);
    assert_eq!(status, Some(1));
    for part in ["listen", "here", "flag --listen", "127.0.0.1:7460"] {
        assert!(told.contains(part), "{told}");
    }
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("yatticd.toml");
    fs::write(&file, "data = \"/srv/files\"\nlargest = \"1 GiB\"\n").unwrap();
    let (status, told) = run(&["config", "--config", file.to_str().unwrap()]);
    assert_eq!(status, Some(1));
    assert!(told.contains("largest") && told.contains("largest_file"), "{told}");
    fs::write(&file, "data = \"/srv/files\"\n").unwrap();
    let (status, told) = run(&["config", "--json", "--config", file.to_str().unwrap()]);
    assert_eq!(status, Some(0));
    let shown: serde_json::Value = serde_json::from_str(&told).unwrap();
    let data = shown.as_array().unwrap().iter().find(|s| s["key"] == "data").unwrap();
    assert_eq!(data["value"], "/srv/files");
    assert!(data["source"].as_str().unwrap().starts_with("file "));
}

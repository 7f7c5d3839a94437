//! Real programs on a mounted folder.

use super::{Mounted, bytes_of};
use crate::support::{Service, Yattic};
use std::fs;
use std::path::Path;
use std::process::Command;

fn run(dir: &Path, program: &str, arguments: &[&str]) -> String {
    let done = Command::new(program)
        .args(arguments)
        .current_dir(dir)
        .env("GIT_CONFIG_GLOBAL", "/dev/null")
        .env("GIT_AUTHOR_NAME", "Ines")
        .env("GIT_AUTHOR_EMAIL", "ines@museum.example")
        .env("GIT_COMMITTER_NAME", "Ines")
        .env("GIT_COMMITTER_EMAIL", "ines@museum.example")
        .output()
        .unwrap();
    let said = format!("{}{}", String::from_utf8_lossy(&done.stdout), String::from_utf8_lossy(&done.stderr));
    assert!(done.status.success(), "{program} {arguments:?}: {said}");
    said
}

#[tokio::test(flavor = "multi_thread")]
async fn cp_rsync_git_a_database_and_mapped_memory() {
    let (service, _ines) = Service::ready().await;
    let mut laptop = Mounted::new(&service, "LAPTOP", &[]);
    let source = tempfile::tempdir().unwrap();
    let from = source.path();
    for n in 0..60 {
        let folder = from.join(format!("folder {}", n % 5));
        fs::create_dir_all(&folder).unwrap();
        fs::write(folder.join(format!("file {n}.dat")), bytes_of(&n.to_string(), n * 3_000)).unwrap();
    }
    let here = from.display().to_string();
    let home = laptop.at("");
    run(&home, "cp", &["-r", &here, "copied"]);
    run(&home, "diff", &["-r", &here, "copied"]);
    run(&home, "rsync", &["-a", "--checksum", &format!("{here}/"), "synced/"]);
    // The same again carries nothing.
    let again = run(&home, "rsync", &["-a", "--checksum", "--stats", &format!("{here}/"), "synced/"]);
    assert!(again.contains("regular files transferred: 0"), "{again}");
    // A repository: cloned, changed, looked at.
    run(from, "git", &["init", "-q", "-b", "main"]);
    run(from, "git", &["add", "."]);
    run(from, "git", &["commit", "-q", "-m", "first"]);
    run(&home, "git", &["clone", "-q", &here, "repository"]);
    let work = home.join("repository");
    assert_eq!(run(&work, "git", &["status", "--porcelain"]), "");
    fs::write(work.join("folder 1/file 1.dat"), b"changed").unwrap();
    run(&work, "git", &["commit", "-q", "-a", "-m", "second"]);
    run(&work, "git", &["gc", "-q"]);
    run(&work, "git", &["fsck", "--strict"]);
    // A database, with its journal; then with a log beside it. Mapped memory; locks.
    let script = r#"
import sqlite3, mmap, fcntl, os, sys
for mode in ("delete", "wal"):
    db = sqlite3.connect(mode + ".db")
    db.execute("pragma journal_mode = " + mode)
    db.execute("create table things (n integer primary key, text)")
    for n in range(300):
        with db:
            db.execute("insert into things values (?, ?)", (n, "thing " * 20))
    assert db.execute("pragma integrity_check").fetchone() == ("ok",)
    assert db.execute("select count(*) from things").fetchone() == (300,)
    db.close()
with open("mapped", "w+b") as file:
    file.truncate(3_000_000)
    with mmap.mmap(file.fileno(), 0) as memory:
        memory[1_000_000:1_000_004] = b"here"
        memory.flush()
        memory[2_999_990:2_999_994] = b"also"
with open("mapped", "rb") as file:
    bytes = file.read()
    assert bytes[1_000_000:1_000_004] == b"here" and bytes[2_999_990:2_999_994] == b"also" and len(bytes) == 3_000_000
one, two = open("locked", "w"), open("locked", "w")
fcntl.flock(one, fcntl.LOCK_EX)
try:
    fcntl.flock(two, fcntl.LOCK_EX | fcntl.LOCK_NB)
    sys.exit("two have it")
except BlockingIOError:
    pass
"#;
    run(&home, "python3", &["-c", script]);
    // An office program saves: a lock file, a new file beside, the old one renamed away, the new one into its place.
    fs::write(home.join("minutes.odt"), b"first").unwrap();
    laptop.all_sent();
    let office = r##"set -e
printf x > .~lock.minutes.odt#; cp minutes.odt lu1.tmp; printf second > lu2.tmp; sync -f lu2.tmp
mv minutes.odt minutes.bak; mv lu2.tmp minutes.odt; rm minutes.bak lu1.tmp .~lock.minutes.odt#"##;
    run(&home, "sh", &["-c", office]);
    laptop.all_sent();
    let history = laptop.yattic.ok(&["--json", "history", "home:/minutes.odt"]);
    let told: serde_json::Value = serde_json::from_str(&history).unwrap();
    assert!(told["states"].as_array().unwrap().len() >= 2, "it is the file that it was: {history}");
    // All of it is on the service, as it is here: seen by another computer that keeps all.
    let out = Yattic::new();
    out.connect(&service);
    let fetched = out.home.path().join("out");
    out.ok(&["get", "home:/", fetched.to_str().unwrap(), "--quiet"]);
    run(&home, "diff", &["-r", ".", fetched.to_str().unwrap()]);
    run(&fetched.join("repository"), "git", &["fsck", "--strict"]);
    // And when it is mounted anew.
    laptop.end();
    laptop.mount();
    run(&home, "diff", &["-r", ".", fetched.to_str().unwrap()]);
}

//! The client as a newcomer uses it: the same command again, things in the way, and how it ends.

use crate::support::{Service, Yattic, wait_for};
use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::os::unix::fs::{FileTypeExt, symlink};
use std::process::{Command, Stdio};

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

/// A connected client, and a folder with a little tree in it.
async fn ready() -> (Service, Yattic, tempfile::TempDir) {
    let (service, _) = Service::ready().await;
    let yattic = Yattic::new();
    yattic.connect(&service);
    let dir = tempfile::tempdir().unwrap();
    fs::create_dir_all(dir.path().join("letters/old")).unwrap();
    fs::write(dir.path().join("letters/a.txt"), b"first").unwrap();
    fs::write(dir.path().join("letters/old/b.txt"), b"second").unwrap();
    (service, yattic, dir)
}

#[tokio::test(flavor = "multi_thread")]
async fn the_same_command_again_means_the_same() {
    let (_service, yattic, dir) = ready().await;
    let run = |arguments: &[&str]| yattic.command(arguments).current_dir(dir.path()).output().unwrap();
    for put in [
        &["put", "letters", "home:/Sent"][..],
        &["put", "letters", "home:/"],
        &["put", "--into", "letters", "home:/Sent"],
        &["put", "letters/a.txt", "home:/Sent/"],
    ] {
        let listed = |_: &str| {
            let found = text(&run(&["find", "txt"]).stdout);
            let mut lines: Vec<String> = found.lines().map(str::to_string).collect();
            lines.sort();
            lines
        };
        assert!(run(put).status.success(), "{put:?}");
        let once = listed("once");
        for _ in 0..2 {
            assert!(run(put).status.success(), "{put:?}");
            assert_eq!(listed("again"), once, "{put:?}");
        }
    }
    let paths =
        ["home:/Sent/a.txt", "home:/Sent/old/b.txt", "home:/letters/a.txt", "home:/Sent/letters/old/b.txt"];
    for path in paths {
        assert!(run(&["info", path]).status.success(), "{path}");
    }
    assert!(!run(&["info", "home:/Sent/Sent"]).status.success());
    assert!(!run(&["info", "home:/letters/letters"]).status.success());
    for get in [
        &["get", "home:/Sent", "back"][..],
        &["get", "home:/letters"],
        &["get", "home:/letters", "into/"],
        &["get", "home:/letters", "--to", "into2", "--into"],
    ] {
        for _ in 0..3 {
            let done = run(get);
            assert!(done.status.success(), "{get:?}: {}", text(&done.stderr));
        }
    }
    for (path, there) in [
        ("back/a.txt", true),
        ("back/Sent", false),
        ("letters/letters", false),
        ("into/letters/a.txt", true),
        ("into/letters/letters", false),
        ("into2/letters/old/b.txt", true),
    ] {
        assert_eq!(dir.path().join(path).exists(), there, "{path}");
    }
    // A file is not put over a folder, nor guessed into it.
    let refused = run(&["put", "letters/a.txt", "home:/Sent"]);
    assert_eq!(refused.status.code(), Some(2));
    assert!(text(&refused.stderr).contains("home:/Sent/"), "{}", text(&refused.stderr));
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_here_is_replaced_unasked_and_all_is_looked_at_first() {
    let (_service, yattic, dir) = ready().await;
    let run = |arguments: &[&str]| yattic.command(arguments).current_dir(dir.path()).output().unwrap();
    assert!(run(&["put", "letters", "home:/"]).status.success());
    let mine = dir.path().join("letters/a.txt");
    fs::write(&mine, b"mine by now").unwrap();
    // A tree: what differs stays, and is told; the rest comes.
    fs::remove_file(dir.path().join("letters/old/b.txt")).unwrap();
    let done = run(&["get", "home:/letters"]);
    assert_eq!(done.status.code(), Some(3), "{}", text(&done.stderr));
    assert!(text(&done.stdout).contains("--replace"), "{}", text(&done.stdout));
    assert_eq!(fs::read(&mine).unwrap(), b"mine by now");
    assert_eq!(fs::read(dir.path().join("letters/old/b.txt")).unwrap(), b"second");
    // One file: refused before anything moves, the others of the command too.
    let done = run(&["get", "home:/letters/old/b.txt", "home:/letters/a.txt", "letters/"]);
    assert_eq!(done.status.code(), Some(1));
    assert_eq!(fs::read(&mine).unwrap(), b"mine by now");
    assert!(!dir.path().join("letters/b.txt").exists(), "all is looked at before anything moves");
    let done = run(&["get", "--replace", "home:/letters/a.txt", "letters/a.txt"]);
    assert!(done.status.success(), "{}", text(&done.stderr));
    assert_eq!(fs::read(&mine).unwrap(), b"first");
    // Where to stands at the end, is said once, and is not guessed.
    assert!(run(&["get", "home:/letters/a.txt", "-"]).stdout.starts_with(b"first"));
    assert_eq!(run(&["get", "home:/letters/a.txt", "here", "--to", "there"]).status.code(), Some(2));
    assert_eq!(run(&["get", "home:/letters/a.txt", "letters"]).status.code(), Some(2));
    assert!(run(&["get", "home:/letters/a.txt", "home:/letters/old/b.txt", "both/"]).status.success());
    assert!(dir.path().join("both/a.txt").exists() && dir.path().join("both/b.txt").exists());
    assert!(!dir.path().join("here").exists() && !dir.path().join("there").exists());
}

#[tokio::test(flavor = "multi_thread")]
async fn only_plain_files_are_replaced_and_pipes_neither_vanish_nor_hang() {
    let (_service, yattic, dir) = ready().await;
    let run = |arguments: &[&str]| yattic.command(arguments).current_dir(dir.path()).output().unwrap();
    assert!(run(&["put", "letters", "home:/"]).status.success());
    let pipe = dir.path().join("pipe");
    assert!(Command::new("mkfifo").arg(&pipe).status().unwrap().success());
    // Into a pipe that somebody reads.
    let mut reader = Command::new("cat").arg(&pipe).stdout(Stdio::piped()).spawn().unwrap();
    let done = run(&["get", "--replace", "home:/letters/a.txt", "--to", "pipe"]);
    assert!(done.status.success(), "{}", text(&done.stderr));
    let mut read = String::new();
    reader.stdout.take().unwrap().read_to_string(&mut read).unwrap();
    reader.wait().unwrap();
    assert_eq!(read, "first");
    assert!(fs::metadata(&pipe).unwrap().file_type().is_fifo());
    // Into a device, which stays one.
    let done = run(&["get", "home:/letters/a.txt", "--to", "/dev/null"]);
    assert!(done.status.success(), "{}", text(&done.stderr));
    assert!(fs::metadata("/dev/null").unwrap().file_type().is_char_device());
    // A link is neither followed nor replaced, alone or in a tree.
    fs::write(dir.path().join("target"), b"theirs").unwrap();
    symlink("target", dir.path().join("link")).unwrap();
    assert_eq!(run(&["get", "--replace", "home:/letters/a.txt", "--to", "link"]).status.code(), Some(2));
    fs::create_dir(dir.path().join("tree")).unwrap();
    symlink("../target", dir.path().join("tree/a.txt")).unwrap();
    assert_eq!(run(&["get", "--replace", "home:/letters", "tree"]).status.code(), Some(3));
    assert_eq!(fs::read(dir.path().join("target")).unwrap(), b"theirs");
    assert!(fs::symlink_metadata(dir.path().join("tree/a.txt")).unwrap().is_symlink());
    // A pipe is not sent, and not waited for; in a tree it is left out, which is said.
    let begun = std::time::Instant::now();
    let refused = run(&["put", "pipe", "home:/p"]);
    assert!(refused.status.code() == Some(2) && text(&refused.stderr).contains("put - "), "{refused:?}");
    fs::rename(&pipe, dir.path().join("letters/pipe")).unwrap();
    symlink("a.txt", dir.path().join("letters/link")).unwrap();
    let done = run(&["put", "letters", "home:/"]);
    assert!(done.status.success() && text(&done.stdout).contains("2 were left out"), "{done:?}");
    assert!(begun.elapsed().as_secs() < 60);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_batch_that_goes_half_way_is_told_thing_by_thing() {
    let (_service, yattic, dir) = ready().await;
    let run = |arguments: &[&str]| yattic.command(arguments).current_dir(dir.path()).output().unwrap();
    fs::write(dir.path().join("x"), b"1").unwrap();
    fs::write(dir.path().join("y\u{202e}"), b"2").unwrap();
    fs::write(dir.path().join("line\nbreak"), b"2").unwrap();
    fs::write(dir.path().join("z"), b"3").unwrap();
    let done = run(&["--json", "put", "x", "line\nbreak", "z", "home:/"]);
    assert_eq!(done.status.code(), Some(3), "{done:?}");
    let told: serde_json::Value = serde_json::from_slice(&done.stdout).unwrap();
    assert_eq!((&told["given"], &told["done"], &told["failed"]), (&3.into(), &2.into(), &1.into()), "{told}");
    assert_eq!(told["made"].as_array().unwrap().len(), 2);
    // What is not there is found before anything is sent.
    let done = run(&["put", "x", "none", "home:/"]);
    assert!(done.status.code() == Some(1) && text(&done.stderr).contains("none"), "{done:?}");
    // Several are moved into a folder, and all is looked at first.
    assert!(run(&["mkdir", "home:/Old"]).status.success());
    assert!(!run(&["mv", "home:/x", "home:/none", "home:/Old"]).status.success());
    assert!(run(&["info", "home:/x"]).status.success(), "nothing was moved");
    assert!(run(&["mv", "home:/x", "home:/z", "home:/Old"]).status.success());
    assert!(run(&["info", "home:/Old/x"]).status.success() && run(&["info", "home:/Old/z"]).status.success());
    assert_eq!(run(&["mv", "home:/Old/x", "home:/Old/z", "home:/Old/x"]).status.code(), Some(2));
    // From standard input the bytes are counted.
    let mut child = yattic
        .command(&["--json", "put", "-", "home:/piped"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(&[7; 5000]).unwrap();
    let done = child.wait_with_output().unwrap();
    let told: serde_json::Value = serde_json::from_slice(&done.stdout).unwrap();
    assert_eq!(
        (&told["given"], &told["done"], &told["bytes"]),
        (&1.into(), &1.into(), &5000.into()),
        "{told}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_stops_reading_or_presses_ctrl_c_is_answered_well() {
    let (service, yattic, dir) = ready().await;
    fs::create_dir(dir.path().join("many")).unwrap();
    for n in 0..900 {
        fs::write(dir.path().join(format!("many/{n}")), b"1").unwrap();
    }
    let many = dir.path().join("many");
    yattic.ok(&["put", many.to_str().unwrap(), "home:/"]);
    // A reader that goes away after the first line.
    for arguments in
        [&["ls", "home:/many"][..], &["--json", "ls", "home:/many"], &["find", "1"], &["rule", "ls"]]
    {
        let mut child =
            yattic.command(arguments).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        let mut first = String::new();
        BufReader::with_capacity(16, child.stdout.take().unwrap()).read_line(&mut first).unwrap();
        let done = child.wait_with_output().unwrap();
        let said = text(&done.stderr);
        assert!(!said.contains("panicked") && said.is_empty(), "{arguments:?}: {said}");
        assert!(done.status.success(), "{arguments:?}: {done:?}");
    }
    // Ctrl-C in the midst of a large file.
    let large = dir.path().join("large.bin");
    let mut bytes = vec![0; 200 << 20];
    blake3::Hasher::new().update(b"large").finalize_xof().fill(&mut bytes);
    fs::write(&large, &bytes).unwrap();
    let put = ["put", large.to_str().unwrap(), "home:/"];
    let child = yattic.command(&put).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let staging = service.data.join("staging");
    let there = || {
        fs::read_dir(&staging).unwrap().flatten().map(|e| e.metadata().map_or(0, |m| m.len())).sum::<u64>()
    };
    assert!(wait_for(|| there() > 20 << 20));
    let interrupt = Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
    assert!(interrupt.success());
    let done = child.wait_with_output().unwrap();
    let said = text(&done.stderr);
    if done.status.code() != Some(0) {
        assert_eq!(done.status.code(), Some(130), "{said}");
        assert!(
            said.contains("stopped: 0 files sent") && said.contains("The same command again goes on"),
            "{said}"
        );
        // It goes on, and counts what moved now.
        let told: serde_json::Value =
            serde_json::from_str(&yattic.ok(&["--json", put[0], put[1], put[2]])).unwrap();
        let moved = told["bytes"].as_u64().unwrap();
        assert!(told["done"] == 1 && moved < (200 << 20) - (8 << 20), "{moved} bytes moved after a resume");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_makes_no_sense_is_refused_and_no_preview_reads_as_done() {
    let (_service, yattic, dir) = ready().await;
    let letters = dir.path().join("letters");
    yattic.ok(&["put", letters.to_str().unwrap(), "home:/"]);
    assert!(yattic.fails(2, &["link", "new", "home:/letters", "--times", "0"]).contains("none"));
    assert!(yattic.fails(2, &["intake", "new", "home:/letters", "--largest", "0"]).contains("none"));
    yattic.ok(&["link", "new", "home:/letters", "--times", "none"]);
    assert!(yattic.fails(2, &["link", "ls", "--state", "blah"]).contains("used up"));
    for command in [
        &["ls", "home:/", "--at", "2999-01-01"][..],
        &["get", "home:/letters", "--at", "2999-01-01"],
        &["cat", "home:/letters/a.txt", "--at", "2999-01-01"],
        &["info", "home:/letters", "--at", "2999-01-01"],
        &["find", "a", "--within", "home:/", "--at", "2999-01-01"],
        &["restore", "home:/letters/a.txt", "--at", "2999-01-01"],
        &["rollback", "home:/letters", "--to", "2999-01-01"],
    ] {
        assert!(yattic.fails(2, command).contains("in the future"), "{command:?}");
    }
    // Without a terminal nothing is asked and nothing done, and it is said so.
    let before = yattic.ok(&["ls", "home:/"]);
    let said = yattic.fails(1, &["rm", "home:/letters"]);
    assert!(said.contains("nothing was done") && said.contains("--yes"), "{said}");
    assert_eq!(yattic.ok(&["ls", "home:/"]), before);
    let said = yattic.fails(1, &["rollback", "home:/none", "--to", "2020-01-01"]);
    assert!(!said.contains("rolled back"), "{said}");
    // Help on what commands have in common.
    assert!(yattic.ok(&["help", "moments"]).contains("m1a4"));
    assert!(yattic.ok(&["help"]).contains("The past:"));
    assert!(yattic.fails(2, &["help", "nothing"]).contains("no help on"));
    assert!(yattic.ok(&["help", "put"]).contains("Examples:"));
    // Options stand anywhere.
    let (last, first) = (yattic.ok(&["ls", "home:/", "--json"]), yattic.ok(&["--json", "ls", "home:/"]));
    assert!(last == first && serde_json::from_str::<serde_json::Value>(&first).is_ok(), "{last}");
}

#[tokio::test(flavor = "multi_thread")]
async fn where_something_goes_is_decided_by_how_it_is_written_for_copies_and_moves_too() {
    let (service, _) = Service::ready().await;
    let yattic = Yattic::new();
    yattic.connect(&service);
    for folder in ["home:/A", "home:/A/in", "home:/Old"] {
        yattic.ok(&["mkdir", folder]);
    }
    yattic.ok(&["cp", "home:/A", "home:/B"]);
    // Given again, it is the same place: refused, and no second copy inside the first.
    yattic.fails(1, &["cp", "home:/A", "home:/B"]);
    assert!(!yattic.ok(&["ls", "home:/B"]).contains('A'), "a second copy inside the first");
    yattic.ok(&["cp", "home:/A", "home:/Old/"]);
    yattic.ok(&["cp", "home:/B", "home:/Old", "--into"]);
    let old = yattic.ok(&["ls", "home:/Old"]);
    assert!(old.contains('A') && old.contains('B'), "{old}");
    // A file to the name of a folder says how to put it into it.
    yattic.fed(&["put", "-", "home:/note.txt"], b"ten");
    let told = yattic.fails(2, &["mv", "home:/note.txt", "home:/Old"]);
    assert!(told.contains("home:/Old/"), "{told}");
    yattic.ok(&["mv", "home:/note.txt", "home:/Old/"]);
    yattic.ok(&["mv", "home:/Old/note.txt", "home:/letter.txt"]);
    yattic.ok(&["rm", "home:/letter.txt"]);
    yattic.ok(&["restore", "home:/letter.txt", "--to", "home:/Old/"]);
    assert!(yattic.ok(&["ls", "home:/Old"]).contains("letter.txt"));
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_succeeds_prints_its_object_and_whatever_fails_has_a_code() {
    let (service, _) = Service::ready().await;
    let yattic = Yattic::new();
    yattic.connect(&service);
    let dir = tempfile::tempdir().unwrap();
    let local = dir.path().join("local.txt");
    std::fs::write(&local, "ten").unwrap();
    let local = local.to_str().unwrap();
    let wrong = std::cell::RefCell::new(Vec::new());
    let object = |arguments: &[&str]| {
        let mut all = arguments.to_vec();
        all.push("--json");
        let done = yattic.run(&all);
        let read = serde_json::from_slice::<serde_json::Value>(&done.stdout);
        if !done.status.success() || read.is_err() {
            wrong.borrow_mut().push(format!("{arguments:?}: {}{}", text(&done.stdout), text(&done.stderr)));
        }
    };
    object(&["account", "new", "celia"]);
    for line in [
        "mkdir home:/A",
        "put LOCAL home:/A/",
        "ls home:/",
        "info home:/A",
        "find local",
        "cp home:/A home:/B",
        "mv home:/B home:/C",
        "lock home:/A",
        "unlock home:/A",
        "history home:/A/local.txt",
        "rm -y home:/C",
        "restore home:/C",
        "trash ls home:/",
        "share home:/A --with celia --can view",
        "who home:/A",
        "why home:/A",
        "why celia home:/A",
        "unshare home:/A --with celia",
        "share home:/A --afresh on",
        "given-out",
        "link new home:/A",
        "link ls",
        "link end 1 --yes",
        "intake new home:/A",
        "intake ls",
        "intake show 2",
        "snapshot new home: --label first",
        "snapshot ls home:",
        "snapshot end 1",
        "group new Board",
        "group ls",
        "group show Board",
        "group set Board --add celia",
        "account ls",
        "account show celia",
        "account set celia --mail celia@museum.example",
        "account invite celia",
        "account sign-out celia --invitation",
        "door ls",
        "door slowed",
        "door close celia dav",
        "door open celia dav",
        "door release --all",
        "shelf new Plans",
        "shelf ls",
        "shelf ls --all",
        "space",
        "space home:/",
        "quota ls",
        "rule ls",
        "device ls",
        "device uploads",
        "mail ls",
        "account end celia --yes",
        "group end Board --yes",
        "rm -y home:/A",
    ] {
        let line = line.replace("LOCAL", local);
        object(&line.split(' ').collect::<Vec<_>>());
    }
    assert!(wrong.borrow().is_empty(), "{}", wrong.borrow().join("\n"));
    // And each failure is one problem on standard error, with a code that is no mere "failed" where a script must know.
    let code = |arguments: &[&str]| -> String {
        let mut all = arguments.to_vec();
        all.push("--json");
        let done = yattic.run(&all);
        assert!(!done.status.success(), "{arguments:?}");
        assert!(done.stdout.is_empty(), "{arguments:?}");
        let told: serde_json::Value = serde_json::from_slice(&done.stderr).unwrap();
        told["code"].as_str().unwrap().to_string()
    };
    assert_eq!(code(&["info", "home:/none"]), "not_found");
    assert_eq!(code(&["account", "show", "nobody"]), "nobody");
    assert_eq!(code(&["mkdir", "no place"]), "usage");
    object(&["mkdir", "home:/D"]);
    object(&["put", local, "home:/D/"]);
    assert_eq!(code(&["rm", "home:/D"]), "not_confirmed");
    let nowhere = Yattic::new();
    let done = nowhere
        .fed(&["connect", "http://127.0.0.1:9", "--sign-in", "ines", "--password-stdin", "--json"], b"x\n");
    let told: serde_json::Value = serde_json::from_slice(&done.stderr).unwrap();
    assert_eq!(told["code"], "service_unreachable");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_password_wanted_once_more_comes_from_standard_input_after_all_else_was_checked() {
    let (service, _) = Service::ready().await;
    let yattic = Yattic::new();
    yattic.connect(&service);
    // After a restart nothing is proved any more: as after ten minutes.
    let service = service.killed_and_started_again();
    yattic.follow(&service);
    let told = yattic.fails(1, &["group", "new", "Board"]);
    assert!(told.contains("--proof-stdin"), "{told}");
    // What is wrong is told before the password is asked for: none is read.
    let done = yattic.fed(&["group", "set", "None", "--note", "x", "--proof-stdin", "--json"], b"");
    let problem: serde_json::Value = serde_json::from_slice(&done.stderr).unwrap();
    assert_eq!(problem["code"], "nobody");
    let done = yattic.fed(&["group", "new", "Board", "--proof-stdin"], b"not the password\n");
    assert_eq!(done.status.code(), Some(1));
    let done = yattic.fed(
        &["group", "new", "Board", "--proof-stdin"],
        format!("{}\n", crate::support::PASSWORD).as_bytes(),
    );
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    assert!(yattic.ok(&["group", "ls"]).contains("Board"));
}

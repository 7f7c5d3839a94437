//! Backups as an administrator makes them: by command, by schedule, from the console; and the way back.

use crate::durability::content;
use crate::support::{Service, eventually, program};
use futures_util::StreamExt;
use serde_json::Value;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Command, Stdio};
use yellow_attic_client::{Client, Error, When, api};
use yellow_attic_trials::disk::{Image, Kind};

fn yatticd(arguments: &[&str]) -> (bool, String) {
    let done = Command::new(program("yatticd")).args(arguments).env_clear().output().unwrap();
    let said = String::from_utf8_lossy(&done.stdout).into_owned() + &String::from_utf8_lossy(&done.stderr);
    (done.status.success(), said)
}

fn text(path: &Path) -> &str {
    path.to_str().unwrap()
}

/// A service with some files; with a folder for backups, if that is wanted.
async fn with_files(dir: &Path, scheduled: bool, many: usize) -> (Service, Client) {
    let backup = dir.join("scheduled");
    let set = [("YATTIC_BACKUP_TO", text(&backup)), ("YATTIC_BACKUP_AT", "00:00")];
    let mut service = Service::start_set(&dir.join("data"), &[], if scheduled { &set } else { &[] });
    service.set_up().await;
    let client = service.client().await;
    let root = client.place("home:/", None).await.unwrap().node.id;
    let mut tar = tar::Builder::new(Vec::new());
    for n in 0..many {
        let mut head = tar::Header::new_gnu();
        let bytes = format!("file {n}").into_bytes();
        head.set_size(bytes.len() as u64);
        head.set_mode(0o644);
        tar.append_data(&mut head, format!("f{n}"), &bytes[..]).unwrap();
    }
    if many > 0 {
        let mut fates =
            std::pin::pin!(client.send_tar(root, tar.into_inner().unwrap().into()).await.unwrap());
        while let Some(fate) = fates.next().await {
            fate.unwrap();
        }
    }
    (service, client)
}

async fn ended(client: &Client, state: &str) -> bool {
    eventually(async || {
        let jobs = client.jobs().await.unwrap().jobs;
        jobs.first().is_some_and(|job| job.state == state)
    })
    .await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_store_is_backed_up_while_it_serves_and_made_again_from_that() {
    let dir = tempfile::tempdir().unwrap();
    let (service, client) = with_files(dir.path(), false, 40).await;
    let root = client.place("home:/", None).await.unwrap().node.id;
    let doc = client.put(root, "doc", None, &When::default(), b"one".to_vec().into()).await.unwrap();
    client.put(root, "doc", None, &When::default(), b"two".to_vec().into()).await.unwrap();
    let new = api::NewOpening { kind: "link".into(), node: doc.id, ending: None, set: Default::default() };
    let link = client.make_opening(&new).await.unwrap().address.unwrap();
    let socket = fs::metadata(service.data.join("control.sock")).unwrap();
    assert_eq!(socket.permissions().mode() & 0o777, 0o600);
    let data = text(&service.data).to_string();
    let backup = dir.path().join("backup");
    assert_eq!(client.jobs().await.unwrap().backup.state, "none");
    let (done, said) = yatticd(&["backup", text(&backup), "--data", &data]);
    assert!(
        done && said.contains("Files      41, ") && said.contains("41 files were brought back"),
        "{said}"
    );
    let jobs = client.jobs().await.unwrap();
    let job = &jobs.jobs[0];
    assert_eq!(
        (&*job.kind, &*job.state, &*job.by),
        ("backup", "done", "a command on this machine"),
        "{job:?}"
    );
    assert_eq!((&*jobs.backup.state, jobs.backup.last.as_ref().unwrap().files), ("kept", 41));
    let (done, said) = yatticd(&["backup", text(&backup), "--list", "--json"]);
    let runs: Value = serde_json::from_str(&said).unwrap();
    assert!(done && runs.as_array().unwrap().iter().all(|run| run["missing"] == 0), "{said}");
    client.put(root, "later", None, &When::default(), b"after the backup".to_vec().into()).await.unwrap();

    // Made again elsewhere, beside the first.
    let into = dir.path().join("again");
    let (done, said) = yatticd(&["restore", text(&backup), "--into", text(&into)]);
    assert!(done && said.contains("Files      41, "), "{said}");
    let (done, said) = yatticd(&["restore", text(&backup), "--into", text(&into)]);
    assert!(!done && said.contains("is not empty"), "{said}");
    fs::write(into.join("has-administrator"), b"").unwrap();
    let again = Service::start_in(&into);
    // Access is asked for anew: the token counts no more, the password does.
    let known = Client::new(&again.address, client.token()).unwrap();
    assert!(matches!(known.me().await, Err(Error::Refused(problem)) if problem.status == 401));
    let there = again.client().await;
    let its = there.place("home:/doc", None).await.unwrap().node;
    assert_eq!((its.id, content(&there, its.id, None).await), (doc.id, b"two".to_vec()));
    assert_eq!(there.history(its.id).await.unwrap().states.len(), 2);
    assert!(there.place("home:/later", None).await.is_err());
    let asleep = there.openings(&Default::default()).await.unwrap();
    assert!(asleep.openings.iter().all(|opening| opening.state == "asleep"), "{asleep:?}");
    let ending = link.rsplit('/').next().unwrap();
    let page = format!("GET /s/{ending} HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n");
    assert!(!again.raw(page.as_bytes()).contains(" 200 "));
    let found = there.store_state().await.unwrap().findings;
    assert!(found.iter().any(|finding| finding.kind == "restored"), "{found:?}");
    let (done, said) = yatticd(&["reconcile", "--data", text(&into)]);
    assert!(done && said.contains("The catalogue is what lies on the disk."), "{said}");

    // Single files come out with ordinary tools as well: the list says where each is.
    let out = dir.path().join("out");
    let (done, said) = yatticd(&["restore", text(&backup), "--path", "home/ines/doc", "--out", text(&out)]);
    assert!(done && fs::read(out.join("doc")).unwrap() == b"two", "{said}");
    let run = runs[0]["run"].as_str().unwrap();
    let list = fs::read_to_string(backup.join("runs").join(run).join("files.txt")).unwrap();
    let line = list.lines().find(|line| line.ends_with("\thome/ines/doc")).unwrap();
    assert_eq!(fs::read(backup.join(line.split('\t').next().unwrap())).unwrap(), b"two");

    // Its disk is not mounted: what lies beneath is not taken for it.
    let away = dir.path().join("away");
    fs::rename(&backup, &away).unwrap();
    let (done, said) = yatticd(&["backup", text(&backup), "--data", &data]);
    assert!(!done && said.contains("see that its disk is mounted") && !backup.exists(), "{said}");
    assert_eq!(client.jobs().await.unwrap().backup.state, "failed");
    let (done, said) = yatticd(&["backup", text(&backup), "--anew", "--data", &data]);
    assert!(done, "{said}");
    fs::remove_dir_all(&backup).unwrap();
    fs::rename(&away, &backup).unwrap();

    // Damage is told, by name.
    let (done, said) = yatticd(&["backup", text(&backup), "--verify"]);
    assert!(done && said.contains("All of it is as it was written."), "{said}");
    fs::write(backup.join(line.split('\t').next().unwrap()), b"odd").unwrap();
    let (done, said) = yatticd(&["backup", text(&backup), "--verify"]);
    assert!(!done && said.contains("Damaged    contents/"), "{said}");
    let (done, said) = yatticd(&["backup", text(&service.data.join("inside")), "--data", &data]);
    assert!(!done && said.contains("lie in each other"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn one_backup_runs_at_a_time_and_is_ended_from_anywhere() {
    let dir = tempfile::tempdir().unwrap();
    let (service, client) = with_files(dir.path(), true, 6000).await;
    let data = text(&service.data).to_string();
    let elsewhere = dir.path().join("elsewhere");
    // One that was missed is made by itself; afterwards none is due today.
    assert!(ended(&client, "done").await, "{:?}", client.jobs().await);
    // The console's own button.
    let before = client.jobs().await.unwrap().jobs.len();
    client.begin_backup().await.unwrap();
    let refused = client.begin_backup().await;
    assert_eq!(refused.unwrap_err().code(), Some("job_runs"));
    // However many ask: each is told that one runs, or begins one after it; never two at once.
    let mut all = tokio::task::JoinSet::new();
    for _ in 0..400 {
        let client = client.clone();
        all.spawn(async move { client.begin_backup().await });
    }
    let told = all.join_all().await;
    let begun = told.iter().filter(|told| told.is_ok()).count();
    let refused =
        told.iter().filter(|told| told.as_ref().is_err_and(|e| e.code() == Some("job_runs"))).count();
    assert_eq!(begun + refused, 400, "{told:?}");
    let all_done = async || {
        let jobs = client.jobs().await.unwrap().jobs;
        jobs.len() == before + 1 + begun && jobs.iter().all(|job| job.state == "done")
    };
    assert!(eventually(all_done).await, "{begun} of 400: {:?}", client.jobs().await);
    client.begin_backup().await.unwrap();
    let (done, said) = yatticd(&["backup", text(&elsewhere), "--data", &data]);
    assert!(!done && said.contains("a backup runs already"), "{said}");
    assert!(ended(&client, "done").await);
    // By Ctrl-C at the command. Each to a folder of its own: what one has copied would make the next too quick.
    let start = |to: &str| {
        Command::new(program("yatticd"))
            .args(["backup", text(&dir.path().join(to)), "--data", &data])
            .env_clear()
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap()
    };
    let mut command = start("first");
    assert!(ended(&client, "runs").await);
    command.kill().unwrap();
    command.wait().unwrap();
    assert!(ended(&client, "stopped").await);
    assert_eq!(client.jobs().await.unwrap().backup.state, "kept", "the one before is there still");
    // By its number.
    let mut command = start("second");
    assert!(ended(&client, "runs").await);
    let job = client.jobs().await.unwrap().jobs[0].id;
    client.stop_job(job).await.unwrap();
    assert!(!command.wait().unwrap().success());
    assert!(ended(&client, "stopped").await);
    let refused = client.stop_job(job).await;
    assert_eq!(refused.unwrap_err().code(), Some("no_such_job"));
    // By the end of the service, whose next start says so.
    let mut command = start("elsewhere");
    assert!(ended(&client, "runs").await);
    let service = service.killed_and_started_again();
    assert!(!command.wait().unwrap().success());
    let client = service.client().await;
    assert!(ended(&client, "cut off").await);
    let (done, said) = yatticd(&["backup", text(&elsewhere), "--data", &data]);
    assert!(done && said.contains("Files      6000, "), "{said}");
    let (done, said) = yatticd(&["backup", text(&elsewhere), "--verify"]);
    assert!(done, "{said}");
    // Without a folder in the configuration there is none to begin with.
    let refused = client.begin_backup().await;
    assert_eq!(refused.unwrap_err().code(), Some("no_backup_set"));
}

#[tokio::test(flavor = "multi_thread")]
async fn one_that_was_missed_is_made_when_the_service_runs_again_and_old_runs_go() {
    let dir = tempfile::tempdir().unwrap();
    let (_service, client) = with_files(dir.path(), true, 3).await;
    assert!(ended(&client, "done").await, "{:?}", client.jobs().await);
    let jobs = client.jobs().await.unwrap();
    assert_eq!(jobs.jobs[0].by, "the schedule");
    assert_eq!((jobs.backup.state.as_str(), jobs.backup.at.as_deref()), ("kept", Some("00:00")));
    assert!(jobs.backup.next.unwrap() > jobs.jobs[0].begun);
    let backup = dir.path().join("scheduled");
    let go = ["backup", text(&backup), "--let-go", "--keep-days", "0", "--keep-months", "0"];
    let (done, said) = yatticd(&go);
    assert!(done && said.contains("Nothing is to be let go."), "{said}");
    client.begin_backup().await.unwrap();
    assert!(
        eventually(async || client.jobs().await.unwrap().jobs.len() == 2).await
            && ended(&client, "done").await
    );
    let (done, said) = yatticd(&go);
    assert!(done && said.contains("Would go") && said.contains("Stay       1 run\n"), "{said}");
    let (done, said) = yatticd(&[&go[..], &["--really"]].concat());
    assert!(done && said.contains("Let go"), "{said}");
    let (_, said) = yatticd(&["backup", text(&backup), "--list"]);
    assert_eq!(said.lines().count(), 1, "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn everything_is_read_and_what_the_disk_has_damaged_is_put_right() {
    let dir = tempfile::tempdir().unwrap();
    let (mut service, client) = with_files(dir.path(), false, 20).await;
    let data = text(&service.data).to_string();
    let backup = dir.path().join("backup");
    let (done, said) = yatticd(&["backup", text(&backup), "--data", &data]);
    assert!(done, "{said}");
    let file = service.data.join("shelves/main/home/ines/f7");
    assert!(eventually(async || file.exists()).await);
    drop(client);
    service.child.kill().unwrap();
    service.child.wait().unwrap();
    // As a disk does it: no time of the file changes. (That they did is made unseen.)
    let modified = fs::metadata(&file).unwrap().modified().unwrap();
    fs::write(&file, b"f?le 7").unwrap();
    fs::File::options().write(true).open(&file).unwrap().set_modified(modified).unwrap();
    crate::support::in_the_catalogue(
        &service.data,
        "INSERT OR REPLACE INTO verified (content, changed) SELECT id, 4102444800000 FROM contents WHERE state = 0",
    );
    let service = Service::start_in(&service.data.clone());
    let client = service.client().await;
    let (done, said) = yatticd(&["check", "--live", "--data", &data]);
    assert!(!done && said.contains("f7: sound bytes are nowhere") && said.contains("Left      1"), "{said}");
    let (done, said) = yatticd(&["check", "--live", "--heal", "--from", text(&backup), "--data", &data]);
    assert!(
        done && said.contains("f7: sound bytes are in a backup") && said.contains("Healed    1"),
        "{said}"
    );
    let node = client.place("home:/f7", None).await.unwrap().node;
    assert_eq!(content(&client, node.id, None).await, b"file 7");
    assert_eq!(client.history(node.id).await.unwrap().states.len(), 1);
    let (done, said) = yatticd(&["check", "--live", "--json", "--data", &data]);
    let told: Value = serde_json::from_str(&said).unwrap();
    assert!(done && told["live"] == 20 && told["left"] == 0, "{said}");
    let jobs = client.jobs().await.unwrap().jobs;
    assert_eq!((&*jobs[0].kind, &*jobs[0].state, &*jobs[2].state), ("check", "done", "failed"));
}

/// The power of the disk with the backups goes at any moment of a run: each run is whole or it is none, and one that was said to be
/// there is.
async fn power_goes_under_the_backups(kind: Kind) {
    let dir = tempfile::tempdir().unwrap();
    let (mut service, mut client) = with_files(dir.path(), false, 300).await;
    let data = text(&service.data).to_string();
    let disk = Image::nested(kind, 300);
    let backup = disk.at.join("backup");
    let mut chance = yellow_attic_trials::numbers(20_261_202);
    let mut said: Vec<String> = Vec::new();
    let rounds = std::env::var("YATTIC_NESTED_ROUNDS").ok().and_then(|n| n.parse().ok()).unwrap_or(6);
    for round in 0..rounds {
        let root = client.place("home:/", None).await.unwrap().node.id;
        for n in 0..30 {
            let bytes = format!("{round} {n} ").repeat(1 + n * 20).into_bytes();
            client.put(root, &format!("n{n}"), None, &When::default(), bytes.into()).await.unwrap();
        }
        let mut command = Command::new(program("yatticd"))
            .args(["backup", text(&backup), "--json", "--data", &data])
            .env_clear()
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let begun = std::time::Instant::now();
        let length = std::time::Duration::from_millis(20 + chance(900));
        let mut done = None;
        while begun.elapsed() < length && done.is_none() {
            tokio::time::sleep(std::time::Duration::from_millis(2)).await;
            done = command.try_wait().unwrap();
        }
        disk.cut_power_under(&service.child);
        let _ = command.kill();
        let told = command.wait_with_output().unwrap();
        if done.is_some_and(|status| status.success()) {
            let told: Value = serde_json::from_slice(&told.stdout).unwrap();
            said.push(told["run"].as_str().unwrap().into());
        }
        service.child.kill().unwrap();
        service.child.wait().unwrap();
        disk.mount_again();
        service = Service::start_in(&service.data.clone());
        client = service.client().await;
        if !backup.join("yellow-attic-backup").exists() {
            assert!(said.is_empty(), "{kind:?}, round {round}");
            continue;
        }
        let (listed, all) = yatticd(&["backup", text(&backup), "--list", "--json"]);
        assert!(
            listed && said.iter().all(|run| all.contains(run)),
            "{kind:?}, round {round}: {said:?}, {all}"
        );
        let (sound, told) = yatticd(&["backup", text(&backup), "--verify"]);
        assert!(sound, "{kind:?}, round {round}: {told}");
    }
    let (done, told) = yatticd(&["backup", text(&backup), "--data", &data]);
    assert!(done && told.contains("Files      330, "), "{kind:?}: {told}");
    let (done, told) = yatticd(&["restore", text(&backup), "--into", text(&dir.path().join("again"))]);
    assert!(done && told.contains("Files      330, "), "{kind:?}: {told}");
}

#[tokio::test(flavor = "multi_thread")]
async fn power_goes_under_the_backups_on_ext4_and_xfs() {
    for kind in [Kind::Ext4, Kind::Xfs] {
        power_goes_under_the_backups(kind).await;
    }
}

//! What hands do on the disk, met over the network: taken up by itself while the service runs, and by a command while it does not.

use crate::support::{Service, eventually, program};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};
use yellow_attic_client::{Client, When};

fn home(service: &Service) -> PathBuf {
    service.data.join("shelves/main/home/ines")
}

/// The names in a folder, as they are listed.
async fn names(client: &Client, path: &str) -> Vec<String> {
    let Ok(place) = client.place(path, None).await else { return vec!["(not there)".into()] };
    let all = client.all_entries(place.node.id, &Default::default()).await.unwrap();
    let mut names: Vec<String> = all.into_iter().map(|node| node.name).collect();
    names.sort();
    names
}

/// Waits until a folder lists these names; tells how long that took.
async fn lists(client: &Client, path: &str, wanted: &[&str]) -> Duration {
    let begun = Instant::now();
    let there = eventually(async || names(client, path).await == wanted).await;
    assert!(there, "{path} lists {:?}, not {wanted:?}", names(client, path).await);
    begun.elapsed()
}

#[tokio::test(flavor = "multi_thread")]
async fn what_hands_do_in_a_home_is_listed_by_itself() {
    let (service, client) = Service::ready().await;
    let root = client.place("home:/", None).await.unwrap().node.id;
    let doc = client.put(root, "doc", None, &When::default(), b"by call".to_vec().into()).await.unwrap();
    let home = home(&service);
    // A whole tree at once, with files in folders that nobody knew.
    fs::create_dir_all(home.join("plans/east")).unwrap();
    fs::write(home.join("plans/one.txt"), b"1").unwrap();
    fs::write(home.join("plans/east/two.txt"), b"2").unwrap();
    lists(&client, "home:/", &["doc", "plans"]).await;
    lists(&client, "home:/plans", &["east", "one.txt"]).await;
    lists(&client, "home:/plans/east", &["two.txt"]).await;
    // In what was taken up it goes on: such folders are watched like any other.
    fs::write(home.join("plans/east/three.txt"), b"3").unwrap();
    lists(&client, "home:/plans/east", &["three.txt", "two.txt"]).await;
    // Renamed by hand it is the same thing.
    eventually(async || home.join("doc").exists()).await;
    fs::rename(home.join("doc"), home.join("plans/east/paper")).unwrap();
    lists(&client, "home:/plans/east", &["paper", "three.txt", "two.txt"]).await;
    lists(&client, "home:/", &["plans"]).await;
    let paper = client.place("home:/plans/east/paper", None).await.unwrap().node;
    assert_eq!(paper.id, doc.id);
    // Edited, and taken away.
    fs::write(home.join("plans/east/paper"), b"by hand").unwrap();
    let is = async |wanted: &[u8]| {
        let node = client.place("home:/plans/east/paper", None).await.unwrap().node;
        let bytes = crate::durability::content(&client, node.id, None).await;
        node.size as usize == wanted.len() && bytes == wanted
    };
    assert!(eventually(async || is(b"by hand").await).await);
    fs::remove_dir_all(home.join("plans")).unwrap();
    lists(&client, "home:/", &[]).await;
    // What is put by call meanwhile is no hand's: one node, one state.
    for n in 0..40 {
        client.put(root, &format!("f{n}"), None, &When::default(), vec![n; 9].into()).await.unwrap();
    }
    tokio::time::sleep(Duration::from_millis(2500)).await;
    for node in client.all_entries(root, &Default::default()).await.unwrap() {
        let history = client.history(node.id).await.unwrap();
        assert_eq!(history.states.len(), 1, "{}: {history:?}", node.name);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn homes_and_shelves_that_are_made_later_are_watched_and_folders_of_nobody_are_told() {
    let (service, client) = Service::ready().await;
    // Long after the first look at all there is.
    tokio::time::sleep(Duration::from_millis(2500)).await;
    let shelves = service.data.join("shelves/main");
    fs::create_dir_all(shelves.join("home/tomas")).unwrap();
    fs::write(shelves.join("home/tomas/was there"), b"before there was an account").unwrap();
    let (done, said) = reconcile(&service.data, &[]);
    assert!(done && said.contains("Nobody's     1") && said.contains("Make the account tomas"), "{said}");
    let new = yellow_attic_client::api::NewAccount {
        sign_in: "tomas".into(),
        display_name: "Tomas".into(),
        password: Some(crate::support::PASSWORD.into()),
        ..Default::default()
    };
    client.make_account(&new).await.unwrap();
    let tomas = service.client_of("tomas").await;
    lists(&tomas, "home:/", &["was there"]).await;
    fs::write(shelves.join("home/tomas/by hand"), b"1").unwrap();
    lists(&tomas, "home:/", &["by hand", "was there"]).await;
    client
        .make_shelf(&yellow_attic_client::api::NewShelf { name: "Loans".into(), ..Default::default() })
        .await
        .unwrap();
    assert!(eventually(async || shelves.join("shared/Loans").exists()).await);
    fs::create_dir(shelves.join("shared/Loans/in")).unwrap();
    fs::write(shelves.join("shared/Loans/in/list"), b"1").unwrap();
    lists(&client, "Loans:/in", &["list"]).await;
    let (done, said) = reconcile(&service.data, &[]);
    assert!(done && !said.contains("Nobody's"), "{said}");
}

fn reconcile(data: &Path, more: &[&str]) -> (bool, String) {
    let done = Command::new(program("yatticd"))
        .arg("reconcile")
        .arg("--data")
        .arg(data)
        .args(more)
        .env_clear()
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&done.stdout).into_owned() + &String::from_utf8_lossy(&done.stderr);
    (done.status.success(), said)
}

#[tokio::test(flavor = "multi_thread")]
async fn what_hands_did_while_the_service_was_stopped_is_told_and_taken_up() {
    let dir = tempfile::tempdir().unwrap();
    let mut service = Service::start_in(&dir.path().join("data"));
    service.set_up().await;
    let client = service.client().await;
    let root = client.place("home:/", None).await.unwrap().node.id;
    for n in 0..130 {
        client.put(root, &format!("f{n:03}"), None, &When::default(), vec![n; 20].into()).await.unwrap();
    }
    let second = client.place("home:/f002", None).await.unwrap().node.id;
    // A running service does it itself.
    let (done, said) = reconcile(&service.data, &["--verify"]);
    assert!(done && said.contains("130 files were read"), "{said}");
    assert!(service.data.join("control.sock").exists());
    service.child.kill().unwrap();
    service.child.wait().unwrap();
    let (data, home) = (service.data.clone(), home(&service));
    let (done, said) = reconcile(&data, &[]);
    assert!(done && said.contains("The catalogue is what lies on the disk"), "{said}");
    fs::write(home.join("new"), b"by hand").unwrap();
    fs::rename(home.join("f002"), home.join("second")).unwrap();
    fs::remove_file(home.join("f003")).unwrap();
    let (done, said) = reconcile(&data, &[]);
    assert!(!done && said.contains("3 differ. Nothing is changed yet."), "{said}");
    assert!(said.contains("home of ines:/f002 -> home of ines:/second"), "{said}");
    let (done, said) = reconcile(&data, &["--account", "tomas"]);
    assert!(!done && said.contains("An account with a home called \"tomas\" was not found"), "{said}");
    let (done, said) = reconcile(&data, &["--take-up", "--json", "--account", "ines"]);
    let told: serde_json::Value = serde_json::from_str(&said).unwrap_or_else(|e| panic!("{e}: {said}"));
    assert!(done && told["differences"] == 3 && told["found"]["gone"]["count"] == 1, "{said}");
    let (done, said) = reconcile(&data, &["--verify"]);
    assert!(done && said.contains("130 files were read"), "{said}");
    // Much of a shelf: nobody believes it unasked, the running service neither.
    for n in 4..120 {
        fs::remove_file(home.join(format!("f{n:03}"))).unwrap();
    }
    let (done, said) = reconcile(&data, &["--take-up"]);
    assert!(!done && said.contains("Much is gone 116 of the 130 files of \"ines\""), "{said}");
    let service = Service::start_in(&data);
    let client = service.client().await;
    let asked = async || {
        let state = client.store_state().await.unwrap();
        state.findings.iter().any(|finding| finding.detail.contains("116 of the 130 files of \"ines\""))
    };
    assert!(eventually(asked).await, "the desk does not tell");
    assert_eq!(names(&client, "home:/").await.len(), 130);
    assert_eq!(client.place("home:/second", None).await.unwrap().node.id, second);
    let (done, said) = reconcile(&data, &["--take-up"]);
    assert!(!done && said.contains("Much is gone 116 of the 130 files of \"ines\""), "{said}");
    let (done, said) = reconcile(&data, &["--take-up", "--accept-gone"]);
    assert!(done && said.contains("What was found is taken up."), "{said}");
    assert_eq!(names(&service.client().await, "home:/").await.len(), 14);
}

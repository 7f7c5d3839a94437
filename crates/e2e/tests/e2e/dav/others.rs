//! Programs that others wrote.

use super::Dav;
use crate::support::{PASSWORD, Service};
use std::fs;
use std::io::Write;
use std::process::{Command, Stdio};

#[tokio::test(flavor = "multi_thread")]
async fn litmus_passes_104_of_104_without_a_warning() {
    let (service, _client) = Service::ready().await;
    let dir = tempfile::tempdir().unwrap();
    let address = format!("{}/dav/home/", service.address);
    let done = Command::new("litmus")
        .args(["-k", &address, "ines", PASSWORD])
        .current_dir(dir.path())
        .output()
        .expect("litmus is installed by ./dev test");
    let said = String::from_utf8_lossy(&done.stdout).into_owned();
    let mut passed = 0;
    for suite in ["basic", "copymove", "props", "locks", "http"] {
        let line = said.lines().find(|l| l.contains(&format!("summary for `{suite}'")));
        let line = line.unwrap_or_else(|| panic!("{suite} did not run: {said}"));
        assert!(line.contains(" 0 failed"), "{said}");
        let after = line.split("tests run: ").nth(1).unwrap();
        passed += after.split(' ').next().unwrap().parse::<u32>().unwrap();
    }
    assert_eq!(passed, 104, "{said}");
    assert!(!said.contains("WARNING"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn cadaver_puts_fetches_moves_and_locks() {
    let (service, client) = Service::ready().await;
    let dir = tempfile::tempdir().unwrap();
    let host = service.address.trim_start_matches("http://").split(':').next().unwrap();
    let netrc = dir.path().join(".netrc");
    // cadaver's file of passwords knows no blanks: an account with a password of one word.
    let new = yellow_attic_client::api::NewAccount {
        sign_in: "oona".into(),
        password: Some("gulls-over-the-harbour-9".into()),
        ..Default::default()
    };
    client.make_account(&new).await.unwrap();
    fs::write(&netrc, format!("machine {host}\nlogin oona\npassword gulls-over-the-harbour-9\n")).unwrap();
    fs::write(dir.path().join("scan.txt"), "fog until noon\n").unwrap();
    let script = "mkcol Papers\ncd Papers\nput scan.txt\nls\nlock scan.txt\nput scan.txt scan.txt\nunlock scan.txt\n\
                  propset scan.txt shelf B4\npropget scan.txt shelf\nmove scan.txt fog.txt\ncopy fog.txt again.txt\n\
                  get fog.txt back.txt\ndelete again.txt\nls\nquit\n";
    let mut child = Command::new("cadaver")
        .arg(format!("{}/dav/home/", service.address))
        .env_clear()
        .env("HOME", dir.path())
        .env("TERM", "dumb")
        .current_dir(dir.path())
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("cadaver is installed by ./dev test");
    child.stdin.take().unwrap().write_all(script.as_bytes()).unwrap();
    let done = child.wait_with_output().unwrap();
    let said = format!("{}{}", String::from_utf8_lossy(&done.stdout), String::from_utf8_lossy(&done.stderr));
    assert!(!said.to_lowercase().contains("failed"), "{said}");
    assert!(said.contains("Value of shelf is: B4") && said.contains("fog.txt"), "{said}");
    assert_eq!(fs::read_to_string(dir.path().join("back.txt")).unwrap(), "fog until noon\n");
    let dav = Dav::with(&service, "oona", "gulls-over-the-harbour-9");
    let left = dav.find("/dav/home/Papers/", "1", "<getcontentlength/>").await.is(207).found();
    assert_eq!(left.keys().collect::<Vec<_>>(), ["/dav/home/Papers/", "/dav/home/Papers/fog.txt"]);
}

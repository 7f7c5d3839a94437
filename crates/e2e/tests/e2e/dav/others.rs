//! Programs that others wrote.

use super::Dav;
use crate::support::{PASSWORD, Service};
use std::fs;
use std::io::Write;
use std::process::{Command, Stdio};

/// All of litmus at an address; each of its tests must pass, without a warning, and so many must run.
fn litmus(address: &str, runs: u32) {
    let dir = tempfile::tempdir().unwrap();
    let done = Command::new("litmus")
        .args(["-k", address, "ines", PASSWORD])
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
    assert_eq!(passed, runs, "{said}");
    assert!(!said.contains("WARNING"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn litmus_passes_104_of_104_without_a_warning() {
    let (service, _client) = Service::ready().await;
    litmus(&format!("{}/dav/home/", service.address), 104);
}

#[tokio::test(flavor = "multi_thread")]
async fn litmus_passes_over_tls() {
    let dir = tempfile::tempdir().unwrap();
    crate::around::certificate(dir.path(), "used");
    let path = |name: &str| dir.path().join(name).to_str().unwrap().to_string();
    let mut plain = Service::start_in(&dir.path().join("data"));
    plain.set_up().await;
    drop(plain);
    let tls = ["--tls-certificate", &path("used.pem"), "--tls-key", &path("used.key")];
    let service = Service::start_with(&dir.path().join("data"), &tls);
    // It leaves out one of its own over TLS (Expect: 100-continue).
    litmus(&format!("{}/dav/home/", service.address), 103);
}

/// nginx with the very snippet of the documentation, on a port of its own.
struct Behind {
    child: std::process::Child,
    address: String,
    _dir: tempfile::TempDir,
}

impl Behind {
    fn nginx(service: &Service) -> Behind {
        let docs = include_str!("../../../../../docs/administrators.md");
        let from = docs.find("location / {").expect("the snippet");
        let snippet = &docs[from..from + docs[from..].find("\n}").unwrap() + 2];
        let snippet = snippet.replace("http://127.0.0.1:7460", &service.address);
        let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let dir = tempfile::tempdir().unwrap();
        let at = dir.path().display();
        let config = format!(
            "user root; pid {at}/pid; error_log {at}/error.log; events {{}}\n\
             http {{ access_log off; client_body_temp_path {at}/body; proxy_temp_path {at}/proxy; fastcgi_temp_path {at}/f;\n\
             uwsgi_temp_path {at}/u; scgi_temp_path {at}/s;\nserver {{ listen 127.0.0.1:{port};\n{snippet}\n}} }}\n"
        );
        fs::write(dir.path().join("nginx.conf"), config).unwrap();
        let child = Command::new("nginx")
            .args(["-g", "daemon off;", "-p", &at.to_string(), "-c", &format!("{at}/nginx.conf")])
            .stderr(Stdio::null())
            .spawn()
            .expect("nginx is installed by ./dev test");
        assert!(crate::support::wait_for(|| std::net::TcpStream::connect(("127.0.0.1", port)).is_ok()));
        Behind { child, address: format!("http://127.0.0.1:{port}"), _dir: dir }
    }
}

impl Drop for Behind {
    fn drop(&mut self) {
        // Its worker goes with it.
        let _ = Command::new("kill").args(["-TERM", &self.child.id().to_string()]).status();
        let _ = self.child.wait();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn litmus_passes_behind_nginx_with_our_snippet() {
    let dir = tempfile::tempdir().unwrap();
    let set = [("YATTIC_TRUSTED_PROXIES", "127.0.0.1")];
    let mut service = Service::start_set(&dir.path().join("data"), &[], &set);
    service.set_up().await;
    let behind = Behind::nginx(&service);
    litmus(&format!("{}/dav/home/", behind.address), 104);
}

#[tokio::test(flavor = "multi_thread")]
async fn downloads_are_gone_on_with_by_two_that_others_wrote() {
    let (service, client) = Service::ready().await;
    let home = client.place("home:/", None).await.unwrap().node.id;
    let mut bytes = vec![0; 12 << 20];
    blake3::Hasher::new().update(b"reel").finalize_xof().fill(&mut bytes);
    client.put(home, "reel.mp4", None, &Default::default(), bytes.clone().into()).await.unwrap();
    let dir = tempfile::tempdir().unwrap();
    let bearer = format!("Authorization: Bearer {}", client.token().unwrap());
    let address = format!("{}/dav/home/reel.mp4", service.address);
    // A third is here already.
    fs::write(dir.path().join("reel.mp4"), &bytes[..4 << 20]).unwrap();
    let before = service.sent().await;
    let done = Command::new("wget")
        .args(["-q", "-c", "--header", &bearer, &address])
        .current_dir(dir.path())
        .output()
        .expect("wget is installed by ./dev test");
    assert!(done.status.success(), "{done:?}");
    assert!(fs::read(dir.path().join("reel.mp4")).unwrap() == bytes);
    let moved = service.sent().await - before;
    assert!(moved < 9 << 20, "{moved} bytes came for two thirds of 12 MiB");
    // In four pieces at once.
    let done = Command::new("aria2c")
        .args(["-q", "-x4", "-s4", "-k1M", "-o", "again.mp4", "--header", &bearer, &address])
        .current_dir(dir.path())
        .env_clear()
        .env("HOME", dir.path())
        .env("PATH", "/usr/bin:/bin")
        .output()
        .expect("aria2c is installed by ./dev test");
    assert!(done.status.success(), "{done:?}");
    assert!(fs::read(dir.path().join("again.mp4")).unwrap() == bytes);
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

#[tokio::test(flavor = "multi_thread")]
async fn rsync_onto_a_mount_brings_a_tree_whole_and_raises_no_alarm() {
    use std::os::unix::fs::PermissionsExt;
    if !std::path::Path::new("/dev/fuse").exists() {
        eprintln!("left out: there is no /dev/fuse to mount by");
        return;
    }
    let (service, client) = Service::ready().await;
    let dir = tempfile::tempdir().unwrap();
    let path = |name: &str| dir.path().join(name);
    for name in ["mounted", "cache", "tree", "tree/old letters", "back"] {
        fs::create_dir(path(name)).unwrap();
    }
    // The mount's program works as a user of its own.
    for name in ["", "cache"] {
        fs::set_permissions(path(name), fs::Permissions::from_mode(0o777)).unwrap();
    }
    for i in 0..60u32 {
        let folder = if i % 3 == 0 { "tree/old letters" } else { "tree" };
        let mut noise = vec![0u8; (i as usize * 997) % 40_000 + 1];
        blake3::Hasher::new().update(&i.to_le_bytes()).finalize_xof().fill(&mut noise);
        fs::write(path(folder).join(format!("{i:02} letter.bin")), noise).unwrap();
    }
    let address = format!("{}/dav/home/", service.address);
    fs::write(path("secrets"), format!("{address} ines {}\n", PASSWORD.replace(' ', "\\ "))).unwrap();
    fs::set_permissions(path("secrets"), fs::Permissions::from_mode(0o600)).unwrap();
    let settings = format!(
        "use_locks 1\nask_auth 0\nsecrets {}\ncache_dir {}\ndelay_upload 0\n",
        path("secrets").display(),
        path("cache").display()
    );
    fs::write(path("settings"), settings).unwrap();
    let run = |program: &str, arguments: &[&str]| {
        let done =
            Command::new(program).args(arguments).output().unwrap_or_else(|e| panic!("{program}: {e}"));
        assert!(done.status.success(), "{program} {arguments:?}: {}", String::from_utf8_lossy(&done.stderr));
    };
    let mounted = path("mounted").to_str().unwrap().to_string();
    let set = format!("conf={}", path("settings").display());
    run("mount", &["-t", "davfs", "-o", &set, &address, &mounted]);
    let copied = Command::new("rsync")
        .args(["-rt", &format!("{}/", path("tree").display()), &format!("{mounted}/Letters/")])
        .output()
        .unwrap();
    // Whatever came of it, nothing stays mounted; unmounting waits for what is still to be sent.
    run("umount", &[&mounted]);
    assert!(copied.status.success(), "{}", String::from_utf8_lossy(&copied.stderr));
    let yattic = crate::support::Yattic::new();
    yattic.connect(&service);
    yattic.ok(&["get", "home:/Letters", path("back").join("Letters").to_str().unwrap()]);
    let same =
        Command::new("diff").arg("-rq").arg(path("tree")).arg(path("back").join("Letters")).output().unwrap();
    assert!(same.status.success(), "{}", String::from_utf8_lossy(&same.stdout));
    let alarms = client.alarms().await.unwrap().alarms;
    assert!(alarms.is_empty(), "{alarms:?}");
}

//! Many files at once, files in parts, archives: against other people's programs, over lines
//! that break, and through kills of the service.

use crate::support::{Service, Yattic, python, wait_for};
use std::fs;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use std::sync::atomic::Ordering;
use yellow_attic_client::{Client, api};
use yellow_attic_trials::line::Line;
use yellow_attic_trials::numbers;

async fn home(client: &Client) -> i64 {
    client.place("home:/", None).await.unwrap().node.id
}

fn succeeded(done: &Output) -> String {
    let said = String::from_utf8_lossy(&done.stdout).into_owned();
    assert!(done.status.success(), "{said}{}", String::from_utf8_lossy(&done.stderr));
    said
}

fn run(dir: &Path, program: &str, arguments: &[&str]) -> String {
    succeeded(&Command::new(program).args(arguments).current_dir(dir).output().unwrap())
}

/// Odd but legal names, empty files, deep paths.
fn odd_tree(root: &Path) {
    let names = [
        "...",
        ".hidden",
        " ",
        "-rf",
        "CON",
        "café",
        "名前 のファイル",
        "😀",
        "a\\b",
        "x".repeat(250).leak(),
    ];
    for (i, name) in names.iter().enumerate() {
        fs::create_dir_all(root.join("tree").join(name)).unwrap();
        fs::write(root.join("tree").join(name).join(name), vec![i as u8; i * 7000]).unwrap();
    }
    let deep = (0..40).fold(root.join("tree/deep"), |at, i| at.join(format!("level {i}")));
    fs::create_dir_all(&deep).unwrap();
    fs::write(deep.join("bottom"), b"").unwrap();
    fs::create_dir(root.join("tree/empty folder")).unwrap();
}

/// curl as somebody else's client.
struct Curl {
    address: String,
    token: String,
}

impl Curl {
    async fn of(service: &Service) -> Curl {
        let asked = api::NewDevice {
            sign_in: "ines".into(),
            password: crate::support::PASSWORD.into(),
            device: "curl".into(),
            ..Default::default()
        };
        let token = Client::new(&service.address, None).unwrap().connect(&asked).await.unwrap().token;
        Curl { address: service.address.clone(), token }
    }

    fn ask(&self, dir: &Path, path: &str, arguments: &[&str]) -> String {
        let done = Command::new("curl")
            .args(["-sS", "-H", &format!("Authorization: Bearer {}", self.token)])
            .args(arguments)
            .arg(format!("{}/api/v1{path}", self.address))
            .current_dir(dir)
            .output()
            .unwrap();
        succeeded(&done)
    }

    /// Sends a tar file; the answer's lines.
    fn send_tar(&self, dir: &Path, node: i64, file: &str) -> Vec<serde_json::Value> {
        let said = self.ask(
            dir,
            &format!("/nodes/{node}/tar"),
            &["-X", "POST", "--data-binary", &format!("@{file}")],
        );
        said.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_tree_goes_in_by_debians_tar_and_comes_back_the_same_by_tar_and_by_unzip() {
    let (service, client) = Service::ready().await;
    let (home, curl) = (home(&client).await, Curl::of(&service).await);
    let dir = tempfile::tempdir().unwrap();
    odd_tree(dir.path());
    run(dir.path(), "touch", &["-d", "2026-03-04T05:06:07.89Z", "tree/café/café"]);
    for format in ["pax", "gnu"] {
        run(dir.path(), "tar", &["--format", format, "-cf", "in.tar", "tree"]);
        let lines = curl.send_tar(dir.path(), home, "in.tar");
        let sums = &lines.last().unwrap()["end"]["sums"];
        assert_eq!((&sums["whole"], &sums["refused"]), (&true.into(), &0.into()), "{sums}");
        // Each entry has its line, beside the sums.
        assert_eq!(lines.len() - 1, 64);
    }
    let tree = client.place("home:/tree", None).await.unwrap().node;
    let timed = client.place("home:/tree/café/café", None).await.unwrap().node;
    assert!(timed.modified.starts_with("2026-03-04T05:06:07"), "{}", timed.modified);
    for (format, unpack) in
        [("tar", vec!["tar", "-xf", "../out.tar"]), ("zip", vec!["unzip", "-q", "../out.zip"])]
    {
        let file = format!("out.{format}");
        curl.ask(dir.path(), &format!("/nodes/{}/archive?format={format}", tree.id), &["-o", &file]);
        let back = dir.path().join(format!("back-{format}"));
        fs::create_dir(&back).unwrap();
        let done = Command::new(unpack[0])
            .args(&unpack[1..])
            .current_dir(&back)
            .env("LC_ALL", "C.UTF-8")
            .output()
            .unwrap();
        succeeded(&done);
        if format == "zip" {
            // What other systems take for a separator is written so that none of them does.
            let odd = |name: &str| back.join("tree").join(name);
            fs::rename(odd("a%5Cb"), odd("a\\b")).unwrap();
            fs::rename(odd("a\\b/a%5Cb"), odd("a\\b/a\\b")).unwrap();
        }
        run(dir.path(), "diff", &["-r", "tree", &format!("back-{format}/tree")]);
        let time = |path: PathBuf| fs::metadata(path.join("tree/café/café")).unwrap().modified().unwrap();
        let differs = time(back).duration_since(
            time(dir.path().to_path_buf()).checked_sub(std::time::Duration::from_secs(1)).unwrap(),
        );
        assert!(differs.unwrap().as_secs() < 2);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_archive_that_is_gone_on_with_is_the_same_even_if_its_folder_changed() {
    let (service, client) = Service::ready().await;
    let (home, curl) = (home(&client).await, Curl::of(&service).await);
    let dir = tempfile::tempdir().unwrap();
    odd_tree(dir.path());
    run(dir.path(), "tar", &["-cf", "in.tar", "tree"]);
    curl.send_tar(dir.path(), home, "in.tar");
    let tree = client.place("home:/tree", None).await.unwrap().node;
    let loose = client.put(home, "tree", None, &Default::default(), b"x".to_vec().into()).await;
    assert_eq!(loose.unwrap_err().code(), Some("folder_in_the_way"));
    let selection = api::NewArchive { nodes: vec![tree.id, tree.id], format: "zip".into(), at: None };
    let gathered = client.gather(&selection).await.unwrap();
    assert_eq!(gathered.files, 22);
    for (path, format) in [
        (format!("/nodes/{}/archive?format=zip", tree.id), "zip"),
        (format!("/nodes/{}/archive?format=tar", tree.id), "tar"),
        (gathered.address.trim_start_matches("/api/v1").to_string(), "gathered"),
    ] {
        let whole = format!("whole.{format}");
        curl.ask(dir.path(), &path, &["-o", &whole, "-D", "headers"]);
        let headers = fs::read_to_string(dir.path().join("headers")).unwrap();
        let tag = headers.lines().find_map(|l| l.strip_prefix("etag: ")).unwrap().to_string();
        let length = fs::metadata(dir.path().join(&whole)).unwrap().len();
        // Files are replaced, renamed and removed behind its back.
        for name in ["café", "CON", "-rf"] {
            let folder = client.place(&format!("home:/tree/{name}"), None).await.unwrap().node;
            let there = client.all_entries(folder.id, &Default::default()).await.unwrap();
            if let Some(file) = there.first() {
                client
                    .put(folder.id, &file.name, None, &Default::default(), b"new".to_vec().into())
                    .await
                    .unwrap();
                client.remove(file.id).await.unwrap();
            }
        }
        let mut numbers = numbers(7);
        let mut from = 0;
        let mut parts = Vec::new();
        while from < length {
            let to = from + 1 + numbers(length / 9);
            let range = format!("{from}-{}", to - 1);
            curl.ask(dir.path(), &path, &["-r", &range, "-H", &format!("If-Range: {tag}"), "-o", "part"]);
            parts.extend(fs::read(dir.path().join("part")).unwrap());
            from = to;
        }
        assert!(parts == fs::read(dir.path().join(&whole)).unwrap(), "{format}");
    }
    run(dir.path(), "unzip", &["-tq", "whole.gathered"]);
}

/// A tar entry as bytes, with whatever is wrong about it.
fn entry(path: &str, kind: tar::EntryType, bytes: &[u8]) -> Vec<u8> {
    let mut header = tar::Header::new_gnu();
    header.as_gnu_mut().unwrap().name[..path.len()].copy_from_slice(path.as_bytes());
    header.set_size(bytes.len() as u64);
    header.set_entry_type(kind);
    header.set_mode(0o644);
    header.set_cksum();
    let mut all = header.as_bytes().to_vec();
    all.extend(bytes);
    all.resize(all.len().next_multiple_of(512), 0);
    all
}

#[tokio::test(flavor = "multi_thread")]
async fn bad_entries_of_a_tar_are_named_and_the_rest_is_kept() {
    use tar::EntryType::{Block, Fifo, Link, Regular, Symlink};
    let (service, client) = Service::ready().await;
    let (home, curl) = (home(&client).await, Curl::of(&service).await);
    let dir = tempfile::tempdir().unwrap();
    let send = |bytes: &[u8]| {
        fs::write(dir.path().join("bad.tar"), bytes).unwrap();
        curl.send_tar(dir.path(), home, "bad.tar")
    };
    let good = |name: &str| entry(name, Regular, b"good");
    let mut all = good("first");
    for (path, kind) in [
        ("/etc/passwd", Regular),
        ("a/../../b", Regular),
        ("link", Symlink),
        ("hard", Link),
        ("dev", Block),
        ("pipe", Fifo),
        ("bell\u{7}", Regular),
    ] {
        all.extend(entry(path, kind, if kind == Regular { b"bad" } else { b"" }));
    }
    // One name twice: the second is a new state of the first.
    all.extend([good("twice"), entry("twice", Regular, b"again"), good("last"), vec![0; 1024]].concat());
    let lines = send(&all);
    let codes: Vec<_> = lines.iter().filter_map(|l| l["entry"]["problem"]["code"].as_str()).collect();
    assert_eq!(
        codes,
        [
            "bad_input",
            "name_dots",
            "tar_not_a_file",
            "tar_not_a_file",
            "tar_not_a_file",
            "tar_not_a_file",
            "name_control_character"
        ]
    );
    let sums = &lines.last().unwrap()["end"]["sums"];
    assert_eq!(
        (&sums["made"], &sums["replaced"], &sums["refused"]),
        (&3.into(), &1.into(), &7.into()),
        "{sums}"
    );
    let twice = client.place("home:/twice", None).await.unwrap().node;
    assert_eq!((twice.size, client.history(twice.id).await.unwrap().states.len()), (5, 2));

    // A wrong checksum: what came before is kept, and the end says why.
    let mut wrong = good("next");
    wrong[0] = b'X';
    let lines = send(&[good("before"), wrong, good("after")].concat());
    let end = &lines.last().unwrap()["end"];
    assert_eq!(
        (&end["sums"]["whole"], &end["problem"]["code"]),
        (&false.into(), &"tar_damaged".into()),
        "{end}"
    );
    assert!(client.place("home:/before", None).await.is_ok());
    assert!(client.place("home:/after", None).await.is_err());

    // A cut in the middle of an entry: that one is named.
    let large = entry("large", Regular, &vec![1; 300_000]);
    let lines = send(&[&good("whole")[..], &large[..200_000]].concat());
    let refused = lines.iter().find(|l| l["entry"]["fate"] == "refused").unwrap();
    assert_eq!(
        (&refused["entry"]["path"], &refused["entry"]["problem"]["code"]),
        (&"large".into(), &"tar_cut_short".into())
    );
    assert!(client.place("home:/whole", None).await.is_ok());
    assert!(client.place("home:/large", None).await.is_err());

    // A file where a folder is needed: everything beneath is refused with that reason.
    let lines = send(&[good("whole/in it"), vec![0; 1024]].concat());
    assert_eq!(lines[0]["entry"]["problem"]["code"], "not_a_folder", "{lines:?}");
    // No tar at all.
    let lines = send(&vec![b'x'; 4096]);
    assert_eq!(lines.last().unwrap()["end"]["problem"]["code"], "tar_damaged");
    assert!(service.staging_is_clean());
}

#[tokio::test(flavor = "multi_thread")]
async fn put_and_get_go_on_by_themselves_over_a_line_that_breaks() {
    let (service, _) = Service::ready().await;
    let mut next = numbers(11);
    // The connect call goes through; then cuts, fewer and fewer.
    let mut given = 0;
    let line = Line::to(&service.address, move || {
        given += 1;
        (2..120).contains(&given).then(|| 2_000 + next(6_000_000))
    });
    let yattic = Yattic::new();
    yattic.connect_to(&line.address);
    let dir = tempfile::tempdir().unwrap();
    odd_tree(dir.path());
    let tree = dir.path().join("tree");
    for i in 0..300 {
        fs::write(tree.join(format!("small {i}")), vec![i as u8; 9000]).unwrap();
    }
    let mut numbers = numbers(5);
    for i in 0..3 {
        let bytes: Vec<u8> = (0..20_000_000).map(|_| numbers(256) as u8).collect();
        fs::write(tree.join(format!("large {i}")), bytes).unwrap();
    }
    symlink("large 0", dir.path().join("link")).unwrap();
    yattic.ok(&["put", tree.to_str().unwrap(), "home:/"]);
    assert!(line.cuts.load(Ordering::SeqCst) > 3, "{}", line.cuts.load(Ordering::SeqCst));
    let back = dir.path().join("back");
    yattic.ok(&["get", "home:/tree", "--to", back.to_str().unwrap()]);
    run(dir.path(), "diff", &["-r", "tree", "back"]);
    // Again: nothing is sent or fetched.
    let again = yattic.ok(&["--json", "put", "--skip-same", tree.to_str().unwrap(), "home:/"]);
    let again: serde_json::Value = serde_json::from_str(&again).unwrap();
    assert_eq!(
        (&again["done"], &again["same"], &again["bytes"]),
        (&0.into(), &314.into(), &0.into()),
        "{again}"
    );
    let into = dir.path().join("into");
    fs::create_dir(&into).unwrap();
    fs::rename(&back, into.join("tree")).unwrap();
    fs::write(into.join("tree/small 7"), b"changed here").unwrap();
    let again = yattic.ok(&[
        "--json",
        "get",
        "--replace",
        "--skip-same",
        "--into",
        "home:/tree",
        "--to",
        into.to_str().unwrap(),
    ]);
    let again: serde_json::Value = serde_json::from_str(&again).unwrap();
    assert_eq!((&again["done"], &again["same"]), (&1.into(), &313.into()), "{again}");
    let leftovers = run(dir.path(), "find", &["into", "-name", "*.part"]);
    assert_eq!(leftovers, "");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_large_file_is_gone_on_with_after_both_sides_were_killed() {
    let (service, _) = Service::ready().await;
    let data = service.data.clone();
    let line = Line::to(&service.address, || None);
    let yattic = Yattic::new();
    yattic.connect_to(&line.address);
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("film.raw");
    let mut numbers = numbers(3);
    // So large that the line's buffers never hold all that is left when it is stopped.
    let some: Vec<u8> = (0..20_000_000).map(|_| numbers(256) as u8).collect();
    fs::write(&file, some.repeat(15)).unwrap();
    let mut sending = yattic.command(&["put", file.to_str().unwrap(), "home:/"]).spawn().unwrap();
    let staging = data.join("staging");
    let there = || {
        fs::read_dir(&staging).unwrap().flatten().map(|e| e.metadata().map_or(0, |m| m.len())).sum::<u64>()
    };
    assert!(wait_for(|| there() > 36_000_000));
    // It stands still, and the line with it: what is noted meanwhile is noted of a part that goes on.
    run(dir.path(), "kill", &["-STOP", &sending.id().to_string()]);
    let noted = || {
        let ask = "import sqlite3, sys; print(sqlite3.connect(sys.argv[1]).execute('SELECT max(synced) FROM uploads').fetchone()[0])";
        let python = concat!(env!("CARGO_MANIFEST_DIR"), "/../../target/python/bin/python3");
        let done = Command::new(python).args(["-c", ask]).arg(data.join("catalogue.db")).output().unwrap();
        String::from_utf8_lossy(&done.stdout).trim().parse::<u64>().unwrap_or(0)
    };
    assert!(wait_for(|| noted() >= 16 << 20), "it is noted every 16 MiB, before the part ends");
    sending.kill().unwrap();
    sending.wait().unwrap();
    let service = service.killed_and_started_again();
    line.lead_to(&service.address);
    let before = there();
    assert!(
        before >= 16 << 20,
        "what is on the disk for certain is spared, and that is noted every 16 MiB: {before} of {} noted",
        noted()
    );
    let said = yattic.ok(&["put", file.to_str().unwrap(), "home:/"]);
    assert!(said.contains("1 file sent"), "{said}");
    let back = dir.path().join("back");
    yattic.ok(&["get", "home:/film.raw", "--to", back.to_str().unwrap()]);
    assert!(fs::read(&file).unwrap() == fs::read(&back).unwrap());
    assert!(service.staging_is_clean());
}

/// Somebody else's clients of the protocol, through breaks and kills.
async fn by_a_foreign_client(command: impl Fn(&str, &str, &str, &Path) -> Command + Send + 'static) {
    let (service, client) = Service::ready().await;
    let home = home(&client).await.to_string();
    let curl = Curl::of(&service).await;
    let mut next = numbers(23);
    let mut given = 0;
    let line = Line::to(&service.address, move || {
        given += 1;
        (given < 12).then(|| 500_000 + next(5_000_000))
    });
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("scan.tif");
    let mut numbers = numbers(9);
    let bytes: Vec<u8> = (0..30_000_000).map(|_| numbers(256) as u8).collect();
    fs::write(&file, &bytes).unwrap();
    let address = format!("{}/api/v1/uploads", line.address);
    let mut sending = command(&address, &curl.token, &home, &file);
    let sending = std::thread::spawn(move || sending.output().unwrap());
    let cuts = line.cuts.clone();
    assert!(wait_for(|| cuts.load(Ordering::SeqCst) >= 2));
    let service = service.killed_and_started_again();
    line.lead_to(&service.address);
    succeeded(&sending.join().unwrap());
    let client = service.client().await;
    let node = client.place("home:/scan.tif", None).await.unwrap().node;
    assert_eq!(node.blake3.unwrap(), blake3::hash(&bytes).to_hex().to_string());
    assert!(client.uploads().await.unwrap().uploads.is_empty());
    assert!(service.staging_is_clean());
}

#[tokio::test(flavor = "multi_thread")]
async fn tuspy_sends_a_file_over_a_line_that_breaks_and_through_a_kill() {
    by_a_foreign_client(|address, token, home, file| {
        let mut python = python("tus.py");
        python.args([address, token, home]).arg(file);
        python
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn tus_js_client_sends_a_file_over_a_line_that_breaks_and_through_a_kill() {
    by_a_foreign_client(|address, token, home, file| {
        let mut node = Command::new("node");
        node.args([concat!(env!("CARGO_MANIFEST_DIR"), "/clients/tus.mjs"), address, token, home]).arg(file);
        node
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn tus_js_client_sends_parts_side_by_side_and_joins_them() {
    let (service, client) = Service::ready().await;
    let (home, curl) = (home(&client).await, Curl::of(&service).await);
    let dir = tempfile::tempdir().unwrap();
    let mut bytes = vec![0; 9_000_001];
    blake3::Hasher::new().update(b"scan").finalize_xof().fill(&mut bytes);
    fs::write(dir.path().join("scan.tif"), &bytes).unwrap();
    let mut node = Command::new("node");
    node.arg(Path::new(env!("CARGO_MANIFEST_DIR")).join("clients/tus.mjs"));
    let uploads = format!("{}/api/v1/uploads", service.address);
    let (home, file) = (home.to_string(), dir.path().join("scan.tif").display().to_string());
    succeeded(&node.args([&*uploads, &curl.token, &home, &file, "3"]).output().unwrap());
    let node = client.place("home:/scan.tif", None).await.unwrap().node;
    assert_eq!(node.blake3.as_deref(), Some(blake3::hash(&bytes).to_hex().as_str()));
    assert!(client.uploads().await.unwrap().uploads.is_empty());
    assert!(service.staging_is_clean());
}

#[tokio::test(flavor = "multi_thread")]
async fn an_upload_that_cannot_be_put_keeps_its_bytes_for_another_place() {
    let (service, client) = Service::ready().await;
    let home = home(&client).await;
    let folder = client.make_folder(home, "Scans").await.unwrap();
    let new = |parent: i64, name: &str| yellow_attic_client::NewUpload {
        parent,
        name: name.into(),
        size: 10,
        modified: None,
        blake3: None,
        only_kept: false,
    };
    let part = |text: &str| text.as_bytes().to_vec().into();

    // Lying about the offset, and more than was announced.
    let id = client.begin_upload(&new(folder.id, "a.txt")).await.unwrap();
    assert_eq!(client.append(&id, 3, part("abc")).await.unwrap_err().code(), Some("wrong_offset"));
    assert_eq!(
        client.append(&id, 0, part("0123456789ab")).await.unwrap_err().code(),
        Some("more_than_announced")
    );
    assert_eq!(client.upload_offset(&id).await.unwrap(), 0);
    assert_eq!(client.append(&id, 0, part("01234")).await.unwrap(), 5);
    // Its folder is moved and renamed meanwhile: the upload is bound to the folder, not to the name.
    client
        .change(folder.id, &api::Target { name: Some("Old scans".into()), ..Default::default() })
        .await
        .unwrap();
    assert_eq!(client.append(&id, 5, part("56789")).await.unwrap(), 10);
    assert_eq!(client.place("home:/Old scans/a.txt", None).await.unwrap().node.size, 10);
    // Asked again after the end, it is whole; somebody else's is not found.
    assert_eq!(client.upload_offset(&id).await.unwrap(), 10);
    assert_eq!(client.upload_offset("0123").await.unwrap_err().code(), Some("not_found"));

    // The folder is removed meanwhile.
    let id = client.begin_upload(&new(folder.id, "b.txt")).await.unwrap();
    client.append(&id, 0, part("01234")).await.unwrap();
    client.remove(folder.id).await.unwrap();
    assert_eq!(client.append(&id, 5, part("56789")).await.unwrap_err().code(), Some("not_found"));
    client.restore(folder.id, &Default::default()).await.unwrap();
    // All bytes there, and the name is taken by a folder by then: kept for another place.
    let taken = client.make_folder(folder.id, "b.txt").await.unwrap();
    assert_eq!(client.append(&id, 5, part("56789")).await.unwrap_err().code(), Some("folder_in_the_way"));
    let listed = client.uploads().await.unwrap().uploads;
    assert_eq!((listed.len(), listed[0].received), (1, 10));
    assert_eq!(client.upload_offset(&id).await.unwrap_err().code(), Some("wrong_offset"));
    let placed = client
        .place_upload(&id, &api::UploadPlace { parent: taken.id, name: "inside.txt".into(), replace: false })
        .await;
    assert_eq!(placed.unwrap().size, 10);
    assert!(client.uploads().await.unwrap().uploads.is_empty());

    // What would be refused at the end is refused at the beginning.
    let begun = client.begin_upload(&new(folder.id, "b.txt")).await;
    assert_eq!(begun.unwrap_err().code(), Some("folder_in_the_way"));

    // Ended: nothing stays.
    let id = client.begin_upload(&new(home, "c.txt")).await.unwrap();
    client.append(&id, 0, part("01234")).await.unwrap();
    client.end_upload(&id).await.unwrap();
    assert_eq!(client.upload_offset(&id).await.unwrap_err().code(), Some("not_found"));
    assert!(service.staging_is_clean());
}

#[tokio::test(flavor = "multi_thread")]
async fn parts_with_a_wrong_checksum_do_not_count_and_parts_are_joined() {
    let (service, client) = Service::ready().await;
    let (home, curl) = (home(&client).await, Curl::of(&service).await);
    let dir = tempfile::tempdir().unwrap();
    let encode = |text: &str| base64::Engine::encode(&base64::engine::general_purpose::STANDARD, text);
    fs::write(dir.path().join("one"), "fog until noon\n").unwrap();
    fs::write(dir.path().join("two"), vec![7u8; 3_000_000]).unwrap();
    let tus = ["-i", "-H", "Tus-Resumable: 1.0.0"];
    let begin = |more: &[&str]| {
        let said = curl.ask(dir.path(), "/uploads", &[&tus[..], &["-X", "POST"], more].concat());
        assert!(said.starts_with("HTTP/1.1 201"), "{said}");
        let place = said.lines().find_map(|l| l.strip_prefix("location: /api/v1")).unwrap();
        place.trim().to_string()
    };
    let patch = |place: &str, offset: &str, file: &str, more: &[&str]| {
        let offset = format!("Upload-Offset: {offset}");
        let part = format!("@{file}");
        let sent = [
            "-X",
            "PATCH",
            "-H",
            "Content-Type: application/offset+octet-stream",
            "-H",
            &offset,
            "--data-binary",
            &part,
        ];
        curl.ask(dir.path(), place, &[&tus[..], &sent, more].concat())
    };
    // SHA-1 of the text, and of something else.
    let named =
        format!("Upload-Metadata: parent {},filename {}", encode(&home.to_string()), encode("weather.txt"));
    let place = begin(&["-H", "Upload-Length: 15", "-H", &named]);
    let wrong = patch(&place, "0", "one", &["-H", "Upload-Checksum: sha1 2jmj7l5rSw0yVb/vlWAYkK/YBwk="]);
    assert!(wrong.starts_with("HTTP/1.1 460"), "{wrong}");
    let head = curl.ask(dir.path(), &place, &[&tus[..], &["-I"]].concat());
    assert!(head.contains("upload-offset: 0"), "{head}");
    let unknown = patch(&place, "0", "one", &["-H", "Upload-Checksum: crc32 AAAA"]);
    assert!(unknown.starts_with("HTTP/1.1 400"), "{unknown}");
    let code = "import base64,hashlib;print(base64.b64encode(hashlib.sha1(open('one','rb').read()).digest()).decode())";
    let sum = run(dir.path(), "python3", &["-c", code]);
    let right = patch(&place, "0", "one", &["-H", &format!("Upload-Checksum: sha1 {}", sum.trim())]);
    assert!(right.starts_with("HTTP/1.1 204") && right.contains("upload-offset: 15"), "{right}");
    assert_eq!(client.place("home:/weather.txt", None).await.unwrap().node.size, 15);

    // Two parts without a place, joined into a file.
    let one = begin(&["-H", "Upload-Length: 15", "-H", "Upload-Concat: partial"]);
    let two = begin(&["-H", "Upload-Length: 3000000", "-H", "Upload-Concat: partial"]);
    let whole = format!("Upload-Concat: final;/api/v1{two} {}/api/v1{one}", service.address);
    let named = format!("Upload-Metadata: path {}", encode("home:/joined.bin"));
    let early =
        curl.ask(dir.path(), "/uploads", &[&tus[..], &["-X", "POST", "-H", &whole, "-H", &named]].concat());
    assert!(early.starts_with("HTTP/1.1 400") && early.contains("not all its bytes"), "{early}");
    // Of the larger one curl asks first whether it may go on.
    assert!(patch(&two, "0", "two", &[]).contains("HTTP/1.1 204"));
    assert!(patch(&one, "0", "one", &[]).contains("HTTP/1.1 204"));
    let joined = begin(&["-H", &whole, "-H", &named]);
    let head = curl.ask(dir.path(), &joined, &[&tus[..], &["-I"]].concat());
    assert!(head.contains("upload-concat: final;") && head.contains("upload-offset: 3000015"), "{head}");
    let node = client.place("home:/joined.bin", None).await.unwrap().node;
    let mut wanted = vec![7u8; 3_000_000];
    wanted.extend(b"fog until noon\n");
    assert_eq!(node.blake3.as_deref(), Some(blake3::hash(&wanted).to_hex().as_str()));
    // The parts are gone, and nothing of anybody's can be joined by others.
    assert!(curl.ask(dir.path(), &one, &[&tus[..], &["-I"]].concat()).starts_with("HTTP/1.1 404"));
    assert!(client.uploads().await.unwrap().uploads.is_empty());
    assert!(service.staging_is_clean());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_large_file_that_changed_a_little_goes_up_and_comes_down_as_what_changed() {
    let (service, client) = Service::ready().await;
    let yattic = Yattic::new();
    // A line that counts, and never breaks.
    let line = Line::to(&service.address, || None);
    yattic.connect_to(&line.address);
    let dir = tempfile::tempdir().unwrap();
    let (here, there) = (dir.path().join("drawings.bin"), dir.path().join("fetched.bin"));
    let (here_text, there_text) = (here.display().to_string(), there.display().to_string());
    let mut bytes = vec![0; 24 << 20];
    blake3::Hasher::new().update(b"drawings").finalize_xof().fill(&mut bytes);
    fs::write(&here, &bytes).unwrap();
    yattic.ok(&["put", &here_text, "home:/drawings.bin"]);
    yattic.ok(&["get", "home:/drawings.bin", "--to", &there_text]);
    let whole = service.received().await;
    bytes.splice(9_000_000..9_000_100, vec![1; 70_000]);
    fs::write(&here, &bytes).unwrap();
    yattic.ok(&["put", &here_text, "home:/drawings.bin"]);
    let node = client.place("home:/drawings.bin", None).await.unwrap().node;
    assert_eq!(node.blake3.as_deref(), Some(blake3::hash(&bytes).to_hex().as_str()));
    assert_eq!(client.history(node.id).await.unwrap().states.len(), 2);
    let up = service.received().await - whole;
    assert!(up > 60_000 && up < 2_000_000, "{up} bytes went up");
    let before = service.sent().await;
    yattic.ok(&["get", "--replace", "home:/drawings.bin", "--to", &there_text]);
    assert_eq!(fs::read(&there).unwrap(), bytes);
    let down = service.sent().await - before;
    assert!(down > 60_000 && down < 2_000_000, "{down} bytes came down");

    // What a delta must not be: each refused, and nothing is changed.
    let home = home(&client).await;
    let chunks = client.chunks(node.id, None).await.unwrap();
    assert_eq!(chunks.size as usize, bytes.len());
    let head = |node: i64, etag: &str, size: u64, hash: &str| {
        format!(
            "{{\"bases\":[{{\"node\":{node},\"etag\":{etag:?}}}],\"size\":{size},\"blake3\":\"{hash}\"}}\n"
        )
        .into_bytes()
    };
    let of = |text: &[u8]| blake3::hash(text).to_hex().to_string();
    let copy = |at, n| yellow_attic_core::delta::copy(0, at, n);
    let hundred = of(&bytes[..100]);
    for (code, body) in [
        ("delta_malformed", b"no line".to_vec()),
        ("delta_malformed", [head(node.id, &chunks.etag, 100, &hundred), vec![9]].concat()),
        (
            "delta_malformed",
            [head(node.id, &chunks.etag, 100, &hundred), copy(bytes.len() as u64 - 5, 100), vec![0]].concat(),
        ),
        (
            "delta_malformed",
            [head(node.id, &chunks.etag, 100, &hundred), yellow_attic_core::delta::copy(1, 0, 100), vec![0]]
                .concat(),
        ),
        ("base_changed", [head(node.id, "\"other\"", 100, &hundred), copy(0, 100), vec![0]].concat()),
        ("not_found", [head(999_999, &chunks.etag, 100, &hundred), copy(0, 100), vec![0]].concat()),
        ("wrong_hash", [head(node.id, &chunks.etag, 100, &hundred), copy(1, 100), vec![0]].concat()),
        ("more_than_announced", [head(node.id, &chunks.etag, 100, &hundred), copy(0, 101), vec![0]].concat()),
        ("body_cut_short", [head(node.id, &chunks.etag, 100, &hundred), copy(0, 99), vec![0]].concat()),
        ("body_cut_short", [head(node.id, &chunks.etag, 100, &hundred), copy(0, 100)].concat()),
    ] {
        let refused = client.assemble(home, "cut.bin", body.into()).await.unwrap_err();
        assert_eq!(refused.code(), Some(code), "{refused}");
    }
    assert!(client.place("home:/cut.bin", None).await.is_err());
    assert!(service.staging_is_clean());
    let right = [head(node.id, &chunks.etag, 100, &hundred), copy(0, 100), vec![0]].concat();
    assert_eq!(client.assemble(home, "cut.bin", right.into()).await.unwrap().size, 100);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_upload_whose_length_is_told_later_is_put_when_it_was_told_and_all_is_here() {
    use base64::Engine;
    let word = |text: &str| base64::engine::general_purpose::STANDARD.encode(text);
    let (mut service, owner) = Service::ready().await;
    let token = owner.token().unwrap().to_string();
    let http = reqwest::Client::new();
    // Its status, where it is, how far, how long.
    type Told = (u16, String, String, String, String);
    let ask =
        async |address: &str, method: &str, path: &str, headers: &[(&str, String)], body: &[u8]| -> Told {
            let method = reqwest::Method::from_bytes(method.as_bytes()).unwrap();
            let mut call = http.request(method, format!("{address}{path}")).bearer_auth(&token);
            call = call.header("tus-resumable", "1.0.0");
            for (name, value) in headers {
                call = call.header(*name, value);
            }
            let answer = call.body(body.to_vec()).send().await.unwrap();
            let header = |name: &str| {
                answer.headers().get(name).map(|v| v.to_str().unwrap().to_string()).unwrap_or_default()
            };
            let told = (
                header("location"),
                header("upload-offset"),
                header("upload-length"),
                header("upload-defer-length"),
            );
            (answer.status().as_u16(), told.0, told.1, told.2, told.3)
        };
    let metadata = |path: &str| ("upload-metadata", format!("path {}", word(path)));
    let open = ("upload-defer-length", "1".to_string());
    let begin = async |address: &str, more: &[(&str, String)]| {
        let mut headers = vec![metadata("home:/stream.bin")];
        headers.extend_from_slice(more);
        ask(address, "POST", "/api/v1/uploads", &headers, b"").await
    };
    let base = service.address.clone();
    assert_eq!(begin(&base, &[]).await.0, 400, "no length at all");
    assert_eq!(begin(&base, &[open.clone(), ("upload-length", "3".into())]).await.0, 400);
    assert_eq!(begin(&base, &[("upload-defer-length", "2".into())]).await.0, 400);
    let (status, path, offset, length, deferred) = begin(&base, std::slice::from_ref(&open)).await;
    assert_eq!((status, &*offset, &*length, &*deferred), (201, "0", "", "1"));
    let part = |offset: u64, more: &[(&'static str, String)]| {
        let mut headers = vec![
            ("content-type", "application/offset+octet-stream".to_string()),
            ("upload-offset", offset.to_string()),
        ];
        headers.extend_from_slice(more);
        headers
    };
    let bytes: Vec<u8> = (0..300_000u32).map(|n| (n % 251) as u8).collect();
    let told = ask(&base, "PATCH", &path, &part(0, &[]), &bytes[..200_000]).await;
    assert_eq!((told.0, &*told.2, &*told.4), (204, "200000", "1"));
    let there = async |owner: &Client| owner.place("home:/stream.bin", None).await.is_ok();
    assert!(!there(&owner).await, "nobody said that this was all");
    let listed = owner.uploads().await.unwrap().uploads;
    assert!(listed.len() == 1 && listed[0].open && listed[0].size == 200_000, "{listed:?}");
    // Over a kill it stays open, with what was answered.
    service = service.killed_and_started_again();
    let base = service.address.clone();
    let owner = Client::new(&base, Some(&token)).unwrap();
    let told = ask(&base, "HEAD", &path, &[], b"").await;
    assert_eq!((told.0, &*told.2, &*told.3, &*told.4), (200, "200000", "", "1"));
    // A length that cannot be is refused, and changes nothing.
    for (length, status) in [("199999", 400), ("9999999999999", 413), ("much", 400)] {
        let wrong = part(200_000, &[("upload-length", length.to_string())]);
        assert_eq!(ask(&base, "PATCH", &path, &wrong, b"x").await.0, status, "{length}");
        assert_eq!(ask(&base, "HEAD", &path, &[], b"").await.4, "1");
    }
    let told = part(200_000, &[("upload-length", "300000".into())]);
    let told = ask(&base, "PATCH", &path, &told, &bytes[200_000..250_000]).await;
    assert_eq!((told.0, &*told.2, &*told.3, &*told.4), (204, "250000", "300000", ""));
    // Once told it is not told again, and no more than that comes.
    let again = part(250_000, &[("upload-length", "250000".into())]);
    assert_eq!(ask(&base, "PATCH", &path, &again, b"").await.0, 409);
    assert!(!there(&owner).await);
    let last = part(250_000, &[("upload-length", "300000".into())]);
    assert_eq!(ask(&base, "PATCH", &path, &last, &bytes[250_000..]).await.0, 204);
    let node = owner.place("home:/stream.bin", None).await.unwrap().node;
    assert_eq!(node.blake3.unwrap(), blake3::hash(&bytes).to_hex().as_str());
    // Near a quota: what was spoken for while nobody knew the length does not stand beside the whole.
    let line = api::AccountChange { quota: Some("40 MiB".into()), ..Default::default() };
    owner.prove(crate::support::PASSWORD, None).await.unwrap();
    owner.change_account("ines", &line).await.unwrap();
    let (_, path, ..) =
        ask(&base, "POST", "/api/v1/uploads", &[metadata("home:/large.bin"), open.clone()], b"").await;
    const LARGE: usize = 30 << 20;
    assert_eq!(ask(&base, "PATCH", &path, &part(0, &[]), &vec![7; LARGE]).await.0, 204);
    let end = part(LARGE as u64, &[("upload-length", LARGE.to_string())]);
    assert_eq!(ask(&base, "PATCH", &path, &end, b"").await.0, 204);
    assert_eq!(owner.place("home:/large.bin", None).await.unwrap().node.size, LARGE as i64);
    // It begins with a stretch of 16 MiB spoken for: nearer to the line none begins.
    let nearer =
        ask(&base, "POST", "/api/v1/uploads", &[metadata("home:/more.bin"), open.clone()], b"").await;
    assert_eq!(nearer.0, 507);
    let line = api::AccountChange { quota: Some("none".into()), ..Default::default() };
    owner.change_account("ines", &line).await.unwrap();
    // Nothing at all, said at the end, is an empty file.
    let (_, path, ..) =
        ask(&base, "POST", "/api/v1/uploads", &[metadata("home:/empty.bin"), open], b"").await;
    let end = part(0, &[("upload-length", "0".into())]);
    assert_eq!(ask(&base, "PATCH", &path, &end, b"").await.0, 204);
    assert_eq!(owner.place("home:/empty.bin", None).await.unwrap().node.size, 0);
    assert!(owner.uploads().await.unwrap().uploads.is_empty());
}

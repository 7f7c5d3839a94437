//! What stands around a mounted folder: small pictures, locks on the service, marks in a file manager, the computer's own page.

use super::{Mounted, becomes, bytes_of};
use crate::around::png;
use crate::browser::Browser;
use crate::computer::opener;
use crate::dav::for_oona;
use crate::support::{Service, Yattic, eventually, wait_for};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use yellow_attic_client::Client;
use yellow_attic_client::api::NewShelf;
use yellow_attic_trials::line::Line;

async fn home(ines: &Client) -> i64 {
    ines.place("home:/", None).await.unwrap().node.id
}

/// The texts of a PNG, and how many pixels it has a side.
fn texts(path: &Path) -> Option<(BTreeMap<String, String>, u32, u32)> {
    let reader = png::Decoder::new(std::io::BufReader::new(File::open(path).ok()?)).read_info().ok()?;
    let info = reader.info();
    let texts = info.uncompressed_latin1_text.iter().map(|text| (text.keyword.clone(), text.text.clone()));
    Some((texts.collect(), info.width, info.height))
}

fn all_in(folder: &Path) -> Vec<PathBuf> {
    fs::read_dir(folder).map(|all| all.map(|e| e.unwrap().path()).collect()).unwrap_or_default()
}

#[tokio::test(flavor = "multi_thread")]
async fn small_pictures_come_from_the_service_and_nobody_fetches_the_large_ones() {
    let (service, ines) = Service::ready().await;
    let folder = ines.make_folder(home(&ines).await, "Views & Ümläute").await.unwrap().id;
    let put = async |name: &str, bytes: Vec<u8>| {
        ines.put(folder, name, None, &Default::default(), bytes.into()).await.unwrap()
    };
    let view = put("a view.png", png(1200, 800)).await;
    put("tall.PNG", png(90, 200)).await;
    put("broken.jpg", b"no picture".to_vec()).await;
    put("letter.txt", b"letter".to_vec()).await;
    let yattic = Yattic::new();
    yattic.connect_as(&service, "LAPTOP");
    let thumbnails = yattic.home.path().join("xdg-cache/thumbnails");
    fs::create_dir_all(&thumbnails).unwrap();
    let laptop = Mounted::of(yattic, &[]);
    assert_eq!(fs::read_dir(laptop.at("Views & Ümläute")).unwrap().count(), 4);
    assert!(wait_for(|| all_in(&thumbnails.join("large")).len() == 2), "{:?}", all_in(&thumbnails));
    assert!(wait_for(|| all_in(&thumbnails.join("normal")).len() == 2));
    assert_eq!(laptop.sum("fetched"), 0, "no block of a picture was fetched");
    // Where the standard has it: by the MD5 of the address, with what it is of.
    let known = |name: &str| -> (BTreeMap<String, String>, u32, u32) {
        let at = laptop.at(&format!("Views & Ümläute/{name}"));
        let uri = url::Url::from_file_path(&at).unwrap().to_string();
        let all =
            all_in(&thumbnails.join("large")).into_iter().filter_map(|path| Some((texts(&path)?, path)));
        let (found, path) = all.into_iter().find(|((texts, ..), _)| texts["Thumb::URI"] == uri).unwrap();
        let sum = yellow_attic_core::thumbnail::file_name(&uri);
        assert_eq!(path.file_name().unwrap().to_str(), Some(sum.as_str()));
        let mode = std::os::unix::fs::PermissionsExt::mode(&fs::metadata(&path).unwrap().permissions());
        assert_eq!(mode & 0o777, 0o600);
        found
    };
    let (told, wide, high) = known("a view.png");
    assert!(wide == 256 && (170..=171).contains(&high), "{wide} {high}");
    let modified: jiff::Timestamp = view.modified.parse().unwrap();
    assert_eq!(told["Thumb::MTime"], modified.as_second().to_string());
    assert_eq!(told["Thumb::Size"], view.size.to_string());
    let (_, wide, high) = known("tall.PNG");
    assert!(wide < high && high <= 256);
    // The picture changes: another one is drawn when somebody looks in again, after a while.
    let modified = told["Thumb::MTime"].clone();
    tokio::time::sleep(std::time::Duration::from_millis(1100)).await;
    put("a view.png", png(300, 300)).await;
    let there = laptop.at("Views & Ümläute");
    assert!(
        wait_for(|| {
            let _ = fs::read_dir(&there).unwrap().count();
            let (told, wide, high) = known("a view.png");
            told["Thumb::MTime"] != modified && (wide, high) == (256, 256)
        }),
        "{:?}",
        known("a view.png")
    );
    assert_eq!(laptop.sum("fetched"), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_open_for_writing_is_locked_on_the_service() {
    let (service, ines) = Service::ready().await;
    let folder = ines.make_folder(home(&ines).await, "Plans").await.unwrap().id;
    let put = async |name: &str| {
        let bytes = format!("{name}, first").into_bytes();
        ines.put(folder, name, None, &Default::default(), bytes.into()).await.unwrap().id
    };
    let (plan, other, mine) = (put("plan").await, put("other").await, put("mine").await);
    crate::dav::make_oona(&ines).await;
    ines.give(folder, &for_oona("edit")).await.unwrap();
    let oona = crate::dav::Dav::with(&service, "oona", crate::support::PASSWORD);
    let oonas = service.client_of("oona").await;
    let line = Line::to(&service.address, || None);
    let yattic = Yattic::new();
    yattic.connect_to(&line.address);
    let laptop = Mounted::of(yattic, &["--lock"]);
    let locked = async |node: i64| ines.facts(node).await.unwrap().node.locked;
    // While it is open nobody else changes it.
    let mut file = File::options().append(true).open(laptop.at("Plans/plan")).unwrap();
    assert!(locked(plan).await.is_some());
    assert_eq!(oona.ask("PUT", "/dav/given/Plans/plan", &[], "oona's").await.status, 423);
    file.write_all(b", and more").unwrap();
    drop(file);
    // And until the service has it.
    assert!(eventually(async || locked(plan).await.is_none()).await);
    assert_eq!(ines.facts(plan).await.unwrap().node.size, 21);
    assert!(oona.ask("PUT", "/dav/given/Plans/plan", &[], "oona's").await.status < 300);
    becomes(&laptop.at("Plans/plan"), b"oona's");
    // What somebody else has locked is looked at, and not opened for writing: nothing of it changes, not even by emptying.
    oonas.lock(other, 10).await.unwrap();
    assert_eq!(fs::read(laptop.at("Plans/other")).unwrap(), b"other, first");
    assert_eq!(fs::write(laptop.at("Plans/other"), b"x").unwrap_err().raw_os_error(), Some(libc::EBUSY));
    assert_eq!(fs::read(laptop.at("Plans/other")).unwrap(), b"other, first");
    // A lock that a person took stays theirs.
    ines.lock(mine, 10).await.unwrap();
    fs::write(laptop.at("Plans/mine"), b"mine").unwrap();
    laptop.all_sent();
    tokio::time::sleep(std::time::Duration::from_secs(3)).await;
    assert!(locked(mine).await.is_some());
    // Without the service it is written all the same.
    line.lead_to("http://127.0.0.1:1");
    line.cut_all();
    fs::write(laptop.at("Plans/mine"), b"without the service").unwrap();
    line.lead_to(&service.address);
    laptop.all_sent();
    assert_eq!(ines.facts(mine).await.unwrap().node.size, 19);
    // What is open when it ends is not left locked.
    let open = File::options().append(true).open(laptop.at("Plans/plan")).unwrap();
    assert!(locked(plan).await.is_some());
    let mut laptop = laptop;
    laptop.end();
    drop(open);
    assert!(locked(plan).await.is_none());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_manager_marks_where_bytes_are_and_offers_what_can_be_done() {
    let (service, ines) = Service::ready().await;
    let top = home(&ines).await;
    let folder = ines.make_folder(top, "Letters").await.unwrap().id;
    for name in ["one", "two"] {
        ines.put(folder, name, None, &Default::default(), bytes_of(name, 300_000).into()).await.unwrap();
    }
    let laptop = Mounted::new(&service, "LAPTOP", &[]);
    let data = tempfile::tempdir().unwrap();
    let mut install = laptop.yattic.command(&["sync", "install", "--file-manager"]);
    assert!(install.env("XDG_DATA_HOME", data.path()).output().unwrap().status.success());
    let extension = data.path().join("nautilus-python/extensions");
    let ask = |path: &str| -> Value {
        let mut asked = crate::support::python("file_manager.py");
        let asked = asked.env("YATTIC_HOME", laptop.yattic.home.path()).arg(&extension);
        let asked = asked.arg(laptop.at(path)).output().unwrap();
        assert!(asked.status.success(), "{}", String::from_utf8_lossy(&asked.stderr));
        serde_json::from_slice(&asked.stdout).unwrap()
    };
    assert_eq!(
        ask("Letters/one"),
        json!({ "emblems": [], "items": ["Copy a link", "Earlier versions", "Keep on this computer"] })
    );
    laptop.yattic.ok(&["keep", laptop.at("Letters/one").to_str().unwrap()]);
    assert_eq!(
        ask("Letters/one"),
        json!({
            "emblems": ["emblem-favorite", "emblem-default"],
            "items": ["Copy a link", "Earlier versions", "Give its room back"],
        })
    );
    assert_eq!(ask("Letters")["items"][2], "Keep on this computer");
    // What the menu calls means the thing on the service.
    let path = laptop.at("Letters/two").display().to_string();
    let told = laptop.yattic.ok(&["history", "--browser", &path]);
    assert!(told.contains("/shelf/home/Letters?thing="), "{told}");
    let link = laptop.yattic.ok(&["--quiet", "link", "new", &path]);
    assert!(link.starts_with(&service.address), "{link}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_computers_page_and_the_list_tell_of_mounted_folders() {
    let (service, ines) = Service::ready().await;
    let hall = ines.make_folder(home(&ines).await, "Hall").await.unwrap().id;
    let mut laptop = Mounted::new(&service, "LAPTOP", &[]);
    fs::write(laptop.at("small"), bytes_of("small", 400_000)).unwrap();
    laptop.all_sent();
    let listed = laptop.yattic.ok(&["mount"]);
    assert!(listed.contains("mounted, all sent up"), "{listed}");
    let mut running = laptop.yattic.command(&["sync", "run"]);
    let mut running = running.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    assert!(eventually(async || laptop.yattic.run(&["sync", "page", "--print"]).status.success()).await);
    let (file, ..) = opener(&laptop.yattic);
    let browser = Browser::open(1280, 900).await;
    browser.page.goto(&format!("file://{file}")).await.unwrap();
    browser.says(&laptop.top().display().to_string()).await;
    browser.says("all sent up").await;
    browser.says("of at most 20.0 GiB lie on this computer").await;
    browser.is_accessible("the page with a mounted folder").await;
    // What the service refuses needs somebody.
    laptop.yattic.ok(&["quota", "set", "home:/Hall", "--hard", "1 MiB"]);
    fs::write(laptop.at("Hall/too large"), bytes_of("large", 3 << 20)).unwrap();
    browser.says("A mounted folder needs you.").await;
    browser.says("home/Hall/too large").await;
    browser.is_accessible("the page with trouble").await;
    let listed = laptop.yattic.ok(&["mount"]);
    assert!(
        listed.contains("in trouble") && listed.contains("home/Hall/too large: the service refuses it"),
        "{listed}"
    );
    fs::remove_file(laptop.at("Hall/too large")).unwrap();
    browser.says("All is sent up.").await;
    laptop.end();
    browser.says("Nothing is mounted now.").await;
    browser.close().await;
    running.kill().unwrap();
    running.wait().unwrap();
    assert_eq!(ines.facts(hall).await.unwrap().node.sums.unwrap().files, 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_one_may_do_is_told_folder_by_folder_and_refused_by_the_right_number() {
    let (service, ines) = Service::ready().await;
    crate::dav::make_oona(&ines).await;
    let shelf = ines.make_shelf(&NewShelf { name: "Plans".into(), ..Default::default() }).await.unwrap();
    let folder = async |above: i64, name: &str| ines.make_folder(above, name).await.unwrap().id;
    let (open, inbox, hidden) = (
        folder(shelf.root, "Open").await,
        folder(shelf.root, "Inbox").await,
        folder(shelf.root, "Hidden").await,
    );
    let closed = folder(open, "Closed").await;
    for above in [shelf.root, open, inbox, hidden, closed] {
        ines.put(above, "letter", None, &Default::default(), b"letter".to_vec().into()).await.unwrap();
    }
    ines.give(shelf.root, &for_oona("view")).await.unwrap();
    let edit = ines.give(open, &for_oona("edit")).await.unwrap();
    ines.give(inbox, &for_oona("add")).await.unwrap();
    ines.give(hidden, &for_oona("deny")).await.unwrap();
    ines.set_afresh(closed, true).await.unwrap();
    ines.give(closed, &for_oona("view")).await.unwrap();
    // What the service says, and to whom.
    let oonas = service.client_of("oona").await;
    let mut told = oonas.levels(shelf.root).await.unwrap();
    told.beneath.sort_by(|a, b| a.path.cmp(&b.path));
    let said: Vec<(&str, &str)> =
        told.beneath.iter().map(|at| (at.path.as_str(), at.level.as_str())).collect();
    assert_eq!(told.level, "view");
    assert_eq!(said, [("Inbox", "add"), ("Open", "edit"), ("Open/Closed", "view")]);
    assert_eq!(oonas.levels(hidden).await.unwrap_err().code(), Some("not_found"));
    assert!(ines.levels(shelf.root).await.unwrap().beneath.is_empty());
    let yattic = Yattic::new();
    let asked = ["connect", &service.address, "--sign-in", "oona", "--password-stdin", "--device", "TABLET"];
    assert!(yattic.fed(&asked, format!("{}\n", crate::support::PASSWORD).as_bytes()).status.success());
    let tablet = Mounted::of(yattic, &[]);
    let top = tablet.top().join("Plans");
    let mode = |path: &str| {
        std::os::unix::fs::PermissionsExt::mode(&fs::metadata(top.join(path)).unwrap().permissions()) & 0o222
    };
    let number = |done: std::io::Result<()>| done.unwrap_err().raw_os_error();
    // Looked at only.
    assert_eq!((mode(""), mode("letter"), mode("Open/Closed"), mode("Open/Closed/letter")), (0, 0, 0, 0));
    for path in ["new", "letter", "Open/Closed/new", "Open/Closed/letter"] {
        assert_eq!(number(fs::write(top.join(path), b"x")), Some(libc::EACCES), "{path}");
    }
    assert_eq!(number(fs::remove_file(top.join("letter"))), Some(libc::EACCES));
    assert_eq!(number(fs::rename(top.join("letter"), top.join("Open/letter 2"))), Some(libc::EACCES));
    assert_eq!(number(fs::rename(top.join("Open/letter"), top.join("letter 2"))), Some(libc::EACCES));
    // Changed.
    assert!(mode("Open") & 0o200 > 0 && mode("Open/letter") & 0o200 > 0);
    fs::write(top.join("Open/letter"), b"changed").unwrap();
    fs::create_dir(top.join("Open/new")).unwrap();
    // Added to: what is there stays as it is, and what one adds may be written until the service has it.
    assert!(mode("Inbox") & 0o200 > 0 && mode("Inbox/letter") == 0);
    assert_eq!(number(fs::write(top.join("Inbox/letter"), b"x")), Some(libc::EACCES));
    assert_eq!(number(fs::remove_file(top.join("Inbox/letter"))), Some(libc::EACCES));
    assert_eq!(number(fs::rename(top.join("Open/letter"), top.join("Inbox/letter"))), Some(libc::EACCES));
    let mut file = File::create(top.join("Inbox/mine")).unwrap();
    file.write_all(b"in ").unwrap();
    file.write_all(b"two parts").unwrap();
    drop(file);
    tablet.all_sent();
    assert_eq!(tablet.sums()["trouble"], json!([]));
    let there = async |path: &str| ines.place(&format!("Plans:/{path}"), None).await.unwrap().node.size;
    assert_eq!((there("Open/letter").await, there("Inbox/mine").await), (7, 12));
    assert!(!top.join("Hidden").exists());
    // It is taken back: what was told holds no more, within moments.
    ines.end_grant(edit.id).await.unwrap();
    assert!(wait_for(|| mode("Open") == 0 && mode("Open/letter") == 0));
    assert_eq!(number(fs::write(top.join("Open/letter"), b"x")), Some(libc::EACCES));
}

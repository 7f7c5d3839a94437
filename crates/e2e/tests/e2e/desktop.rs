//! What the desktop shows and keeps: the tray's icon, notifications, the keyring, the file manager's extension. The bus is a
//! real one, and so is the keyring; who shows icons and notifications is a small stand-in.

use crate::pairs::Computer;
use crate::support::{Ends, PASSWORD, Service, Yattic, eventually};
use serde_json::Value;
use std::collections::HashMap;
use std::fs;
use std::io::{BufRead, BufReader, Write};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex};
use yellow_attic_client::{Client, When};
use zbus::zvariant::{OwnedValue, Value as Variant};

/// A bus on which nothing is started because somebody asks for it: what is on it is what the test put there.
const CONFIG: &str = r#"<!DOCTYPE busconfig PUBLIC "-//freedesktop//DTD D-Bus Bus Configuration 1.0//EN" "http://www.freedesktop.org/standards/dbus/1.0/busconfig.dtd">
<busconfig>
  <type>session</type>
  <listen>unix:tmpdir=/tmp</listen>
  <auth>EXTERNAL</auth>
  <policy context="default">
    <allow send_destination="*" eavesdrop="true"/>
    <allow eavesdrop="true"/>
    <allow own="*"/>
  </policy>
</busconfig>
"#;

/// A bus of a session of its own.
struct Bus {
    daemon: Child,
    address: String,
    run: tempfile::TempDir,
}

impl Bus {
    fn new() -> Bus {
        let run = tempfile::tempdir().unwrap();
        let config = run.path().join("bus.conf");
        fs::write(&config, CONFIG).unwrap();
        let mut daemon = Command::new("dbus-daemon")
            .args(["--nofork", "--print-address", "--config-file"])
            .arg(&config)
            .env("XDG_RUNTIME_DIR", run.path())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let mut address = String::new();
        BufReader::new(daemon.stdout.take().unwrap()).read_line(&mut address).unwrap();
        Bus { daemon, address: address.trim().into(), run }
    }

    async fn connection(&self) -> zbus::Connection {
        let address: zbus::Address = self.address.as_str().try_into().unwrap();
        zbus::connection::Builder::address(address).unwrap().build().await.unwrap()
    }

    /// A command of yattic in this session.
    fn command(&self, yattic: &Yattic, arguments: &[&str]) -> Command {
        let mut command = yattic.command(arguments);
        command.env("DBUS_SESSION_BUS_ADDRESS", &self.address).env("XDG_RUNTIME_DIR", self.run.path());
        command
    }
}

impl Drop for Bus {
    fn drop(&mut self) {
        let _ = self.daemon.kill();
        let _ = self.daemon.wait();
    }
}

/// Notifications that are shown: their numbers, heads and texts; and how many were shown in all.
#[derive(Clone, Default)]
struct Shown(Arc<Mutex<(Vec<Note>, u32)>>);

/// Its number, head and text.
type Note = (u32, String, String);

struct Notifications(Shown);

#[zbus::interface(name = "org.freedesktop.Notifications")]
impl Notifications {
    #[allow(clippy::too_many_arguments)]
    fn notify(
        &self,
        _app: String,
        replaces: u32,
        _icon: String,
        head: String,
        text: String,
        _actions: Vec<String>,
        _hints: HashMap<String, OwnedValue>,
        _timeout: i32,
    ) -> u32 {
        let mut shown = self.0.0.lock().unwrap();
        shown.1 += 1;
        let number = if replaces == 0 { shown.1 } else { replaces };
        shown.0.retain(|(n, ..)| *n != number);
        shown.0.push((number, head, text));
        number
    }

    fn close_notification(&self, number: u32) {
        self.0.0.lock().unwrap().0.retain(|(n, ..)| *n != number);
    }
}

/// Who has an icon to show.
#[derive(Clone, Default)]
struct Items(Arc<Mutex<Vec<String>>>);

struct Watcher(Items);

#[zbus::interface(name = "org.kde.StatusNotifierWatcher")]
impl Watcher {
    fn register_status_notifier_item(
        &self,
        service: String,
        #[zbus(header)] header: zbus::message::Header<'_>,
    ) {
        let _ = service;
        self.0.0.lock().unwrap().push(header.sender().unwrap().to_string());
    }

    #[zbus(property)]
    fn is_status_notifier_host_registered(&self) -> bool {
        true
    }

    #[zbus(property)]
    fn protocol_version(&self) -> i32 {
        0
    }

    #[zbus(property)]
    fn registered_status_notifier_items(&self) -> Vec<String> {
        self.0.0.lock().unwrap().clone()
    }
}

/// A menu's lines, each with its number.
fn lines(layout: &Variant<'_>, found: &mut Vec<(i32, String)>) {
    let Variant::Structure(item) = layout else {
        if let Variant::Value(inner) = layout {
            lines(inner, found);
        }
        return;
    };
    let [Variant::I32(number), Variant::Dict(facts), Variant::Array(below)] = item.fields() else { return };
    for (name, value) in facts.iter() {
        let mut value = value;
        while let Variant::Value(inner) = value {
            value = inner;
        }
        if let (Variant::Str(name), Variant::Str(text)) = (name, value)
            && name.as_str() == "label"
        {
            found.push((*number, text.to_string()));
        }
    }
    below.iter().for_each(|item| lines(item, found));
}

async fn menu(line: &zbus::Connection, item: &str) -> Vec<(i32, String)> {
    let names: Vec<&str> = Vec::new();
    let asked = line
        .call_method(
            Some(item),
            "/MenuBar",
            Some("com.canonical.dbusmenu"),
            "GetLayout",
            &(0i32, -1i32, names),
        )
        .await
        .unwrap();
    let body = asked.body();
    type Item<'v> = (i32, HashMap<String, Variant<'v>>, Vec<Variant<'v>>);
    let (_, (_, _, below)): (u32, Item<'_>) = body.deserialize().unwrap();
    let mut found = Vec::new();
    below.iter().for_each(|item| lines(item, &mut found));
    found
}

async fn property(line: &zbus::Connection, item: &str, name: &str) -> OwnedValue {
    let asked = line
        .call_method(
            Some(item),
            "/StatusNotifierItem",
            Some("org.freedesktop.DBus.Properties"),
            "Get",
            &("org.kde.StatusNotifierItem", name),
        )
        .await
        .unwrap();
    asked.body().deserialize().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_tray_and_notifications_say_when_somebody_is_needed_and_when_it_is_over() {
    let (service, ines) = Service::ready().await;
    let home = ines.place("home:/", None).await.unwrap().node.id;
    for n in 0..70 {
        let bytes = format!("page {n}").into_bytes();
        ines.put(home, &format!("page {n}.txt"), None, &When::default(), bytes.into()).await.unwrap();
    }
    let bus = Bus::new();
    let line = bus.connection().await;
    let (shown, items) = (Shown::default(), Items::default());
    line.object_server().at("/org/freedesktop/Notifications", Notifications(shown.clone())).await.unwrap();
    line.object_server().at("/StatusNotifierWatcher", Watcher(items.clone())).await.unwrap();
    line.request_name("org.freedesktop.Notifications").await.unwrap();
    line.request_name("org.kde.StatusNotifierWatcher").await.unwrap();
    let desk = Computer::new(&service, "DESK");
    desk.pair("home:/");
    desk.once();
    let _running = Ends(bus.command(&desk.yattic, &["sync", "run"]).stderr(Stdio::null()).spawn().unwrap());
    assert!(eventually(async || items.0.lock().unwrap().len() == 1).await, "no icon came");
    let item = items.0.lock().unwrap()[0].clone();
    let says = async |words: &str| menu(&line, &item).await.iter().any(|(_, text)| text.contains(words));
    assert!(eventually(async || says("All is the same").await).await, "{:?}", menu(&line, &item).await);
    let status = async || property(&line, &item, "Status").await.to_string();
    assert!(status().await.contains("Active"), "{}", status().await);
    assert!(says("Open this computer's page").await && says("home:/").await && says("Pause").await);
    // A new file is named in it.
    ines.put(home, "news_today.txt", None, &When::default(), b"news".to_vec().into()).await.unwrap();
    assert!(eventually(async || says("news__today.txt").await).await, "{:?}", menu(&line, &item).await);
    // Pause and go on, from the menu.
    let press = async |words: &str| {
        let found = menu(&line, &item).await.into_iter().find(|(_, text)| text == words).unwrap().0;
        let event = (found, "clicked", Variant::I32(0), 0u32);
        let done = line.call_method(
            Some(item.as_str()),
            "/MenuBar",
            Some("com.canonical.dbusmenu"),
            "Event",
            &event,
        );
        done.await.unwrap();
    };
    press("Pause").await;
    assert!(eventually(async || desk.yattic.ok(&["sync", "ls"]).contains("paused")).await);
    assert!(eventually(async || says("Go on").await).await);
    press("Go on").await;
    assert!(eventually(async || desk.yattic.ok(&["sync", "ls"]).contains("the same")).await);
    assert!(shown.0.lock().unwrap().0.is_empty(), "nothing needed anybody yet");
    // Much is removed at once: that is said once, and taken back when somebody has allowed it.
    for n in 0..60 {
        fs::remove_file(desk.at(&format!("page {n}.txt"))).unwrap();
    }
    assert!(eventually(async || shown.0.lock().unwrap().0.len() == 1).await);
    let (_, head, text) = shown.0.lock().unwrap().0[0].clone();
    assert!(
        head.contains("needs you") && text.contains("60 of 71 files were removed here"),
        "{head}: {text}"
    );
    assert!(eventually(async || status().await.contains("NeedsAttention")).await);
    tokio::time::sleep(std::time::Duration::from_secs(5)).await;
    assert_eq!(shown.0.lock().unwrap().1, 1, "it is said once");
    desk.yattic.ok(&["sync", "allow", "1"]);
    assert!(eventually(async || shown.0.lock().unwrap().0.is_empty()).await);
    assert!(eventually(async || !status().await.contains("NeedsAttention")).await);
}

/// The desktop's keyring, unlocked with a password.
fn keyring(bus: &Bus, home: &Path, more: &[&str]) -> Ends {
    let mut child = Command::new("gnome-keyring-daemon")
        .args(["--foreground", "--unlock", "--components=secrets"])
        .args(more)
        .env("DBUS_SESSION_BUS_ADDRESS", &bus.address)
        .env("XDG_RUNTIME_DIR", bus.run.path())
        .env("XDG_DATA_HOME", home)
        .env("HOME", home)
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(b"a password of the desktop").unwrap();
    Ends(child)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_token_is_in_the_keyring_where_there_is_one_and_never_in_a_file_beside_it() {
    let (service, _) = Service::ready().await;
    let bus = Bus::new();
    let home = tempfile::tempdir().unwrap();
    let daemon = keyring(&bus, home.path(), &[]);
    let line = bus.connection().await;
    let secrets = ("/org/freedesktop/secrets", "org.freedesktop.Secret.Service");
    let is_there = async || {
        let path = zbus::zvariant::ObjectPath::try_from("/org/freedesktop/secrets/collection/login").unwrap();
        let asked = ("org.freedesktop.Secret.Collection", "Locked");
        let name = Some("org.freedesktop.DBus.Properties");
        let told = line.call_method(Some("org.freedesktop.secrets"), path, name, "Get", &asked).await;
        told.is_ok_and(|told| {
            told.body().deserialize::<Variant<'_>>().is_ok_and(|v| v == Variant::Bool(false))
        })
    };
    assert!(eventually(is_there).await, "the keyring did not start");
    let yattic = Yattic::new();
    let connect = |more: &[&str]| {
        let words =
            ["connect", &service.address, "--sign-in", "ines", "--password-stdin", "--device", "DESK"];
        let mut child = bus
            .command(&yattic, &[&words, more].concat())
            .stdin(Stdio::piped())
            .stderr(Stdio::piped())
            .stdout(Stdio::null())
            .spawn()
            .unwrap();
        child.stdin.take().unwrap().write_all(format!("{PASSWORD}\n").as_bytes()).unwrap();
        child.wait_with_output().unwrap()
    };
    let done = connect(&[]);
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let kept = || fs::read_to_string(yattic.home.path().join("connection.toml")).unwrap();
    assert!(kept().contains("keyring = true") && !kept().contains("token"), "{}", kept());
    let ls = || bus.command(&yattic, &["ls", "home:/"]).output().unwrap();
    assert!(ls().status.success());
    // Without the bus there is no token: that is said, and nothing else is tried.
    let said = yattic.fails(1, &["ls", "home:/"]);
    assert!(said.contains("keyring does not answer"), "{said}");
    // A pair waits while it is locked, says so, and goes on when it is open again.
    let folder = tempfile::tempdir().unwrap();
    let add = ["sync", "add", folder.path().to_str().unwrap(), "home:/"];
    assert!(bus.command(&yattic, &add).output().unwrap().status.success());
    let path = zbus::zvariant::ObjectPath::try_from("/org/freedesktop/secrets/collection/login").unwrap();
    line.call_method(Some("org.freedesktop.secrets"), secrets.0, Some(secrets.1), "Lock", &(vec![path],))
        .await
        .unwrap();
    let said = ls();
    assert!(!said.status.success());
    let said = String::from_utf8(said.stderr).unwrap();
    assert!(said.contains("keyring is locked") && said.contains("--token-in-file"), "{said}");
    fs::write(folder.path().join("list.txt"), b"list").unwrap();
    let running = Ends(bus.command(&yattic, &["sync", "run"]).stderr(Stdio::null()).spawn().unwrap());
    let told = || yattic.ok(&["sync", "status", "--once"]);
    assert!(eventually(async || told().contains("keyring is locked")).await, "{}", told());
    drop(daemon);
    let _daemon = keyring(&bus, home.path(), &["--replace"]);
    assert!(
        eventually(async || told().contains("2 the same") || told().contains("1 the same")).await,
        "{}",
        told()
    );
    drop(running);
    // Only when somebody asks for it is it in a file; and a disconnect leaves nothing in the keyring.
    let gone = bus.command(&yattic, &["disconnect"]).output().unwrap();
    assert!(gone.status.success(), "{}", String::from_utf8_lossy(&gone.stderr));
    let found = line
        .call_method(
            Some("org.freedesktop.secrets"),
            secrets.0,
            Some(secrets.1),
            "SearchItems",
            &(HashMap::from([("application", "yattic")]),),
        )
        .await
        .unwrap();
    let (open, locked): (Vec<zbus::zvariant::OwnedObjectPath>, Vec<zbus::zvariant::OwnedObjectPath>) =
        found.body().deserialize().unwrap();
    assert!(open.is_empty() && locked.is_empty());
    assert!(connect(&["--token-in-file"]).status.success());
    assert!(kept().contains("token = ") && kept().contains("keyring = false"), "{}", kept());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_manager_marks_what_lies_in_a_pair_and_offers_what_can_be_done() {
    let (service, ines) = Service::ready().await;
    let mut desk = Computer::new(&service, "DESK");
    let put = async |client: &Client, name: &str, bytes: &[u8]| {
        let home = client.place("home:/", None).await.unwrap().node.id;
        client.put(home, name, None, &When::default(), bytes.to_vec().into()).await.unwrap();
    };
    put(&ines, "a.txt", b"first").await;
    put(&ines, "b.txt", b"first").await;
    desk.pair("home:/");
    desk.once();
    fs::write(desk.at("b.txt"), b"at the desk").unwrap();
    put(&ines, "b.txt", b"elsewhere").await;
    Command::new("mkfifo").arg(desk.at("pipe")).status().unwrap();
    desk.run();
    assert!(eventually(async || desk.yattic.ok(&["sync", "conflicts"]).contains("b (DESK")).await);
    assert!(eventually(async || desk.yattic.ok(&["sync", "ls"]).contains("the same")).await);
    let copy = fs::read_dir(desk.folder.path()).unwrap().flatten().map(|e| e.path());
    let copy = copy.into_iter().find(|p| p.display().to_string().contains("(DESK")).unwrap();
    // What `yattic sync install --file-manager` writes, in the place of a file manager that calls it.
    let data = tempfile::tempdir().unwrap();
    let mut install = desk.yattic.command(&["sync", "install", "--file-manager"]);
    assert!(install.env("XDG_DATA_HOME", data.path()).output().unwrap().status.success());
    let extension = data.path().join("nautilus-python/extensions");
    let home = desk.yattic.home.path().to_path_buf();
    let ask = |path: &Path| -> Value {
        let mut asked = crate::support::python("file_manager.py");
        let asked = asked.env("YATTIC_HOME", &home).arg(&extension).arg(path).output().unwrap();
        assert!(asked.status.success(), "{}", String::from_utf8_lossy(&asked.stderr));
        serde_json::from_slice(&asked.stdout).unwrap()
    };
    let told = ask(&desk.at("a.txt"));
    assert_eq!(told["emblems"], serde_json::json!(["emblem-default"]));
    assert_eq!(told["items"], serde_json::json!(["Copy a link", "Earlier versions"]));
    let told = ask(&copy);
    assert_eq!(told["emblems"], serde_json::json!(["emblem-important"]));
    assert_eq!(told["items"][2], "Two changed it: choose");
    assert_eq!(ask(&desk.at("pipe"))["emblems"], serde_json::json!(["emblem-important"]));
    assert_eq!(ask(Path::new("/etc/hostname"))["items"], serde_json::json!([]));
    // A link is made by the command that it calls; this computer's password is fresh.
    let mut link = desk.yattic.command(&["--quiet", "link", "new", desk.at("a.txt").to_str().unwrap()]);
    let link = String::from_utf8(link.output().unwrap().stdout).unwrap();
    assert!(link.starts_with(&service.address), "{link}");
    let told = desk.yattic.ok(&["history", "--browser", desk.at("a.txt").to_str().unwrap()]);
    assert!(told.contains("/shelf/home?thing="), "{told}");
    // Nobody at work: nothing is marked, and nothing hangs.
    desk.kill();
    let told = ask(&desk.at("a.txt"));
    assert_eq!(
        (told["emblems"].clone(), told["items"].clone()),
        (serde_json::json!([]), serde_json::json!([]))
    );
    let mut remove = desk.yattic.command(&["sync", "install", "--file-manager", "--remove"]);
    assert!(remove.env("XDG_DATA_HOME", data.path()).output().unwrap().status.success());
    assert!(!extension.join("yellow_attic.py").exists());
}

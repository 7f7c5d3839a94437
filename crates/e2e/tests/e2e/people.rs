//! People: lists, plans, rules, doors, second factors, mail, guests, looking as somebody, leaving.

use crate::browser::Browser;
use crate::console::row;
use crate::dav::Dav;
use crate::support::{PASSWORD, Service, Yattic, python, wait_for};
use serde_json::{Value, json};
use std::io::{BufRead, BufReader};
use std::process::{Child, Stdio};
use totp_rs::{Algorithm, Builder, Secret};
use yellow_attic_client::{Client, api};

const WORDS: &str = "gulls over the harbour";

/// The code that an authenticator with this secret shows at some time.
pub fn code_at(secret: &str, step: u64) -> String {
    let secret = Secret::try_from_base32(secret).unwrap();
    let totp = Builder::new()
        .with_algorithm(Algorithm::SHA1)
        .with_digits(6)
        .with_step_duration(30)
        .with_secret(secret)
        .build_noncompliant();
    totp.generate(step * 30).to_string()
}

pub fn step_now() -> u64 {
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs() / 30
}

/// A browser's calls, without a browser: cookies are kept by hand.
/// A browser that shows the console, as far as the service sees it.
#[derive(Clone)]
pub struct Console {
    http: reqwest::Client,
    pub address: String,
    /// All its cookies.
    pub cookie: String,
}

impl Console {
    pub fn new(service: &Service) -> Console {
        Console { http: reqwest::Client::new(), address: service.address.clone(), cookie: String::new() }
    }

    /// Asks for something.
    pub async fn ask_get(&mut self, path: &str) -> (u16, Value) {
        self.ask("GET", path, Value::Null).await
    }

    /// Sets an authenticator up; its secret.
    pub async fn add_codes(&mut self) -> String {
        let (_, begun) = self.ask("POST", "/me/factors/codes", json!({})).await;
        let secret = begun["secret"].as_str().unwrap().to_string();
        let code = code_at(&secret, step_now());
        let confirm = json!({ "ticket": begun["ticket"], "code": code, "name": "Phone" });
        assert_eq!(self.ask("POST", "/me/factors/codes/confirm", confirm).await.0, 201);
        secret
    }

    pub async fn ask(&mut self, method: &str, path: &str, body: Value) -> (u16, Value) {
        let method = reqwest::Method::from_bytes(method.as_bytes()).unwrap();
        let call = self.http.request(method.clone(), format!("{}/api/v1{path}", self.address));
        let call = call.header("origin", &self.address).header("cookie", &self.cookie);
        let call = if method == reqwest::Method::GET { call } else { call.json(&body) };
        let answer = call.send().await.unwrap();
        let status = answer.status().as_u16();
        for set in answer.headers().get_all("set-cookie") {
            let new = set.to_str().unwrap().split_once(';').unwrap().0;
            let name = format!("{}=", new.split_once('=').unwrap().0);
            let mut all: Vec<&str> =
                self.cookie.split("; ").filter(|c| !c.is_empty() && !c.starts_with(&name)).collect();
            all.push(new);
            self.cookie = all.join("; ");
        }
        (status, answer.json().await.unwrap_or_default())
    }

    pub async fn sign_in(&mut self, name: &str, password: &str) -> (u16, Value) {
        self.ask("POST", "/session", json!({ "sign_in": name, "password": password })).await
    }
}

async fn account(admin: &Client, name: &str) {
    let new = api::NewAccount { sign_in: name.into(), password: Some(WORDS.into()), ..Default::default() };
    admin.make_account(&new).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn people_come_from_lists_and_plans_with_every_fate_told_first() {
    let (service, _) = Service::ready().await;
    let ines = Yattic::new();
    ines.connect(&service);
    ines.ok(&["group", "new", "Volunteers"]);
    let dir = tempfile::tempdir().unwrap();
    let file = |name: &str, text: &str| {
        let path = dir.path().join(name);
        std::fs::write(&path, text).unwrap();
        path.to_str().unwrap().to_string()
    };
    let list = file(
        "people.csv",
        "\u{feff}Kürzel;Name;E-Mail;Group;Quota;Remark\n\
         mara;Mara Quist;mara@museum.example;volunteers;1 GiB;x\n\
         noor;\"Noor; the younger\";noor@museum.example;Choir;;x\n\
         olav;Olav\n\
         mara;Again;;;;x\n\
         pia;Pia Lund;MARA@museum.example;;;x\n\
         ines;Ines Marrow;;Volunteers;;x\n",
    );
    let refused = ines.fails(1, &["account", "import", &list, "--preview"]);
    assert!(refused.contains("No column is taken for the sign-in name"), "{refused}");
    let columns = ["--column", "Kürzel=sign_in"];
    let told = ines.ok(&["account", "import", &list, "--preview", columns[0], columns[1]]);
    let line =
        |told: &str, n: &str| told.lines().find(|l| l.trim_start().starts_with(n)).unwrap().to_string();
    assert!(line(&told, "2").contains("made"), "{told}");
    assert!(line(&told, "3").contains("there is no group \"Choir\""), "{told}");
    assert!(line(&told, "4").contains("it has 2 fields, and the first line names 6"), "{told}");
    assert!(line(&told, "5").contains("stands on line 2 already"), "{told}");
    assert!(line(&told, "6").contains("is the address of \"mara\""), "{told}");
    assert!(line(&told, "7").contains("there already"), "{told}");
    assert!(!ines.ok(&["account", "ls"]).contains("mara"), "a preview writes nothing");
    let asked = ines.fails(1, &["account", "import", &list, columns[0], columns[1]]);
    assert!(asked.contains("give --yes"), "{asked}");
    let done = ines.fails(3, &["account", "import", &list, columns[0], columns[1], "--change", "--yes"]);
    assert!(done.contains("4 rows wrong"), "{done}");
    let shown = ines.ok(&["account", "show", "mara"]);
    for word in ["Mara Quist", "Volunteers", "1.00 GiB (its own)"] {
        assert!(shown.contains(word), "{shown}");
    }
    assert!(ines.ok(&["account", "show", "ines"]).contains("Volunteers"), "changed as asked");

    // A plan, looked at, applied, and applied again.
    let plan = file(
        "plan.toml",
        r#"
        [[group]]
        name = "Board"
        quota = "2 GiB"

        [[account]]
        sign_in = "edda"
        display_name = "Edda Storm"
        groups = ["Board"]

        [[shelf]]
        name = "Papers"
        note = "Minutes and budgets"
        quota = "5 GiB"

        [[grant]]
        path = "Papers:/"
        to = "group:Board"
        can = "edit"

        [[rule]]
        name = "second-factor-from"
        scope = "group:Board"
        value = "2099-01-01"
        "#,
    );
    let looked = ines.ok(&["apply", &plan, "--preview"]);
    assert_eq!(looked.matches(" made ").count() + looked.matches(" changed ").count(), 5, "{looked}");
    assert!(!ines.ok(&["group", "ls"]).contains("Board"));
    ines.ok(&["apply", &plan, "--yes"]);
    let again = ines.ok(&["apply", &plan]);
    assert_eq!(again.matches(" same").count(), 5, "{again}");
    assert!(ines.ok(&["account", "show", "edda"]).contains("2.00 GiB (by its groups)"));
    assert!(ines.ok(&["shelf", "ls", "--all"]).contains("Minutes and budgets"));
    let wrong = file(
        "wrong.toml",
        "[[grant]]\npath = \"Nowhere:/\"\nto = \"everyone\"\ncan = \"view\"\n[[group]]\nname = \"Late\"\n",
    );
    let refused = ines.fails(1, &["apply", &wrong, "--yes"]);
    assert!(refused.contains("nothing was changed"), "{refused}");
    assert!(!ines.ok(&["group", "ls"]).contains("Late"));
    let strange = file("strange.toml", "[[group]]\nnam = \"x\"\n");
    assert!(ines.fails(1, &["apply", &strange]).contains("unknown field `nam`"));
}

#[tokio::test(flavor = "multi_thread")]
async fn rules_doors_and_quotas_hold_and_say_why() {
    let (service, owner) = Service::ready().await;
    let (ines, tomas) = (Yattic::new(), Yattic::new());
    ines.connect(&service);
    account(&owner, "tomas").await;
    assert_eq!(tomas.try_connect(&service.address, "tomas", WORDS), "");
    ines.ok(&["group", "new", "Desk", "--member", "tomas"]);
    // A guessable password is refused with the reason; a stricter rule asks for more.
    let refused = ines.fed(&["account", "new", "oona", "--password-stdin"], b"password123");
    let told = String::from_utf8_lossy(&refused.stderr).to_string();
    assert!(told.contains("is easy to guess") && told.contains("words"), "{told}");
    let preview = ines.ok(&["rule", "set", "password-length", "30", "--preview"]);
    assert!(preview.contains("at least 30 characters") && preview.contains("tomas"), "{preview}");
    ines.ok(&["rule", "set", "password-length", "30", "--yes"]);
    let refused = ines.fed(&["account", "new", "oona", "--password-stdin"], WORDS.as_bytes());
    let told = String::from_utf8_lossy(&refused.stderr).to_string();
    assert!(told.contains("it needs at least 30"), "{told}");
    let widens = ines.fails(1, &["rule", "set", "password-length", "12", "--scope", "group:desk", "--yes"]);
    assert!(widens.contains("further up it is \"30\""), "{widens}");
    ines.ok(&["rule", "end", "password-length", "--yes"]);

    // A closed door says exactly that, to who has proved who they are; others learn nothing.
    ines.ok(&["door", "close", "group:desk", "sync"]);
    let shut = tomas.fails(1, &["ls"]);
    assert!(shut.contains("Connecting computers is closed to the account \"tomas\" (by a rule)"), "{shut}");
    let again = Yattic::new();
    assert!(again.try_connect(&service.address, "tomas", WORDS).contains("is closed"));
    assert!(
        again.try_connect(&service.address, "tomas", "not this").contains("name or the password is wrong")
    );
    ines.ok(&["door", "open", "group:desk", "sync"]);
    tomas.ok(&["ls"]);
    ines.ok(&["door", "close", "tomas", "console"]);
    let (status, told) = Console::new(&service).sign_in("tomas", WORDS).await;
    assert_eq!((status, told["code"].as_str()), (403, Some("door_closed")));
    let out = ines.fails(1, &["rule", "set", "doors-closed", "console", "--yes"]);
    assert!(out.contains("no administrator could open the console"), "{out}");

    // Quotas: of the account, with what is full and whose it is.
    ines.ok(&["account", "set", "tomas", "--quota", "1 KiB"]);
    let local = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(local.path(), vec![7; 1500]).unwrap();
    let full = tomas.fails(1, &["put", local.path().to_str().unwrap(), "home:/big.bin"]);
    assert!(
        full.contains("Home of tomas may hold 1.00 KiB") && full.contains("Nothing was written"),
        "{full}"
    );
    ines.ok(&["account", "set", "tomas", "--quota", "none"]);
    tomas.ok(&["put", local.path().to_str().unwrap(), "home:/big.bin"]);

    // A folder becomes a shelf with a quota and owners, and a folder again.
    tomas.ok(&["mkdir", "home:/Tides"]);
    tomas.ok(&["mv", "home:/big.bin", "home:/Tides/big.bin"]);
    tomas.ok(&["share", "home:/Tides", "--with", "ines", "--can", "manage"]);
    let raised = ines.ok(&["shelf", "raise", "given:/Tides"]);
    assert!(raised.contains("is the shelf Tides:/ now, owned by tomas"), "{raised}");
    assert!(tomas.ok(&["ls", "Tides:/"]).contains("big.bin"));
    ines.ok(&["shelf", "set", "Tides", "--quota", "1501", "--owner", "ines", "--owner", "tomas"]);
    let full = tomas.fails(1, &["put", local.path().to_str().unwrap(), "Tides:/more.bin"]);
    assert!(full.contains("Tides may hold 1.47 KiB"), "{full}");
    ines.ok(&["shelf", "lower", "Tides", "home:/Old tides"]);
    assert!(ines.ok(&["ls", "home:/Old tides"]).contains("big.bin"));
    assert!(tomas.ok(&["ls"]).contains("given:/Old tides"), "its owner can still manage it");

    // One's own computers: another one of the same name is ended by its number.
    let other = Yattic::new();
    assert_eq!(other.try_connect(&service.address, "tomas", WORDS), "");
    let listed = tomas.ok(&["device", "ls"]);
    assert!(listed.contains("this one"), "{listed}");
    let line =
        listed.lines().find(|l| l.contains("never") || !l.contains("this one") && !l.contains("device"));
    let number = line.unwrap().split_whitespace().next().unwrap().to_string();
    let this = listed.lines().find(|l| l.contains("this one")).unwrap().split_whitespace().next().unwrap();
    assert!(tomas.fails(1, &["device", "end", this]).contains("that is this computer"));
    tomas.ok(&["device", "end", &number, "--yes"]);
    assert!(other.fails(1, &["ls"]).contains("Nobody is signed in"));
    tomas.ok(&["ls"]);

    // Leaving: disabled first, the files named, undone, decided again.
    let early = ines.fails(1, &["account", "end", "tomas", "--delete", "--yes"]);
    assert!(early.contains("is not disabled"), "{early}");
    ines.ok(&["account", "end", "tomas", "--yes"]);
    let told =
        ines.ok(&["account", "end", "tomas", "--delete", "--days", "7", "--files-to", "ines", "--yes"]);
    assert!(told.contains("yattic account set tomas --keep"), "{told}");
    assert!(ines.ok(&["account", "ls"]).contains("is deleted"));
    ines.ok(&["account", "set", "tomas", "--keep", "--enable"]);
    tomas.ok(&["ls"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_factor_is_asked_for_counts_once_and_can_be_demanded() {
    let (service, owner) = Service::ready().await;
    account(&owner, "tomas").await;
    let mut tomas = Console::new(&service);
    assert_eq!(tomas.sign_in("tomas", WORDS).await.0, 200);
    let (status, begun) = tomas.ask("POST", "/me/factors/codes", json!({})).await;
    assert_eq!(status, 201);
    assert!(begun["address"].as_str().unwrap().starts_with("otpauth://totp/"));
    assert!(begun["picture"].as_str().unwrap().contains("<svg"));
    let secret = begun["secret"].as_str().unwrap().to_string();
    let confirm = |code: String| json!({ "ticket": begun["ticket"], "code": code, "name": "Phone" });
    assert_eq!(tomas.ask("POST", "/me/factors/codes/confirm", confirm("000000".into())).await.0, 401);
    let step = step_now();
    let (status, made) =
        tomas.ask("POST", "/me/factors/codes/confirm", confirm(code_at(&secret, step))).await;
    assert_eq!(status, 201);
    let recovery: Vec<String> = serde_json::from_value(made["codes"].clone()).unwrap();
    assert_eq!(recovery.len(), 10);

    // The password alone gets a ticket, and says which factors there are.
    let mut second = Console::new(&service);
    let (status, told) = second.sign_in("tomas", WORDS).await;
    assert_eq!((status, told["code"].as_str()), (401, Some("second_factor_needed")));
    assert_eq!(told["factors"], json!(["codes", "recovery"]));
    assert!(second.cookie.is_empty());
    let ticket = told["ticket"].clone();
    let mut give = async |code: &str| {
        second.ask("POST", "/session/second", json!({ "ticket": ticket, "code": code })).await.0
    };
    assert_eq!(give(&code_at(&secret, step)).await, 401, "the code that confirmed it counts no more");
    assert_eq!(give(&code_at(&secret, step - 5)).await, 401, "too old");
    assert_eq!(give(&code_at(&secret, step + 1)).await, 200);
    assert_eq!(give(&code_at(&secret, step + 2)).await, 410, "a ticket counts once");
    assert_eq!(second.ask("GET", "/me", json!({})).await.0, 200);
    // A recovery code counts once; a computer is connected with one as well.
    let computer = Yattic::new();
    let connect = |code: &str| {
        let arguments =
            ["connect", &service.address, "--sign-in", "tomas", "--password-stdin", "--code", code];
        computer.fed(&arguments, WORDS.as_bytes())
    };
    assert!(computer.try_connect(&service.address, "tomas", WORDS).contains("has a second factor"));
    // By WebDAV a password says nothing of the second factor: it is not even looked at.
    let by_password = Dav::with(&service, "tomas", WORDS).find("/dav/home/", "0", "<getetag/>").await.is(401);
    assert!(by_password.body.contains("yattic connect"), "{}", by_password.body);
    assert!(connect(&recovery[0].to_uppercase()).status.success());
    let again = connect(&recovery[0]);
    assert!(String::from_utf8_lossy(&again.stderr).contains("used already"), "{again:?}");
    // Guessing is slowed by account, whatever it comes from.
    let mut last = 0;
    for _ in 0..8 {
        let mut guess = Console::new(&service);
        let ticket = guess.sign_in("tomas", WORDS).await.1["ticket"].clone();
        last = guess.ask("POST", "/session/second", json!({ "ticket": ticket, "code": "123456" })).await.0;
    }
    assert_eq!(last, 429);

    // Demanded from today on: whoever has none gets no further than setting one up.
    account(&owner, "oona").await;
    let mut oona = Console::new(&service);
    oona.sign_in("oona", WORDS).await;
    assert_eq!(oona.ask("GET", "/shelves", json!({})).await.0, 200);
    owner
        .set_rule(
            "second-factor-from",
            &api::RuleChange {
                scope: "service".into(),
                value: Some("2026-01-01".into()),
                preview: false,
                breaking: None,
            },
        )
        .await
        .unwrap();
    let (status, told) = oona.ask("GET", "/shelves", json!({})).await;
    assert_eq!((status, told["code"].as_str()), (403, Some("second_factor_demanded")));
    let (_, welcome) = oona.ask("GET", "/welcome", json!({})).await;
    assert_eq!(welcome["me"]["needs_factor"], true);
    let (status, begun) = oona.ask("POST", "/me/factors/codes", json!({})).await;
    assert_eq!(status, 201, "{begun}");
    let code = code_at(begun["secret"].as_str().unwrap(), step_now());
    let confirm = json!({ "ticket": begun["ticket"], "code": code });
    assert_eq!(oona.ask("POST", "/me/factors/codes/confirm", confirm).await.0, 201);
    assert_eq!(oona.ask("GET", "/shelves", json!({})).await.0, 200);
    // Lost: an administrator takes it away, and it is demanded again.
    owner.end_factors("oona").await.unwrap();
    assert_eq!(oona.ask("GET", "/shelves", json!({})).await.0, 403);
    let connected = Yattic::new().try_connect(&service.address, "oona", WORDS);
    assert!(connected.contains("demands a second factor"), "{connected}");
}

/// A mail server that keeps what it takes.
pub struct Sink {
    server: Child,
    folder: tempfile::TempDir,
    pub port: u16,
}

impl Sink {
    pub fn start(login: &[&str]) -> Sink {
        let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let folder = tempfile::tempdir().unwrap();
        let mut server = python("post.py")
            .arg(port.to_string())
            .arg(folder.path())
            .args(login)
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut line = String::new();
        BufReader::new(server.stdout.take().unwrap()).read_line(&mut line).unwrap();
        assert_eq!(line.trim(), "ready");
        Sink { server, folder, port }
    }

    /// The letter to an address, as soon as it is there; decoded.
    pub fn letter(&self, to: &str, says: &str) -> String {
        let there = wait_for(|| self.find(to, says).is_some());
        assert!(there, "no letter to {to} that says {says}");
        self.find(to, says).unwrap()
    }

    /// The letter, if it is there.
    pub fn find(&self, to: &str, says: &str) -> Option<String> {
        let letters = std::fs::read_dir(self.folder.path()).unwrap().flatten();
        letters.filter(|entry| entry.file_name().to_string_lossy().ends_with(to)).find_map(|entry| {
            let text = std::fs::read_to_string(entry.path()).unwrap_or_default();
            let plain = text.replace("=\r\n", "").replace("=\n", "").replace("=3D", "=");
            plain.contains(says).then_some(plain)
        })
    }
}

impl Drop for Sink {
    fn drop(&mut self) {
        let _ = self.server.kill();
        let _ = self.server.wait();
    }
}

/// The address in a letter.
pub fn address_in(letter: &str) -> String {
    let begin = letter.find("http://").unwrap();
    letter[begin..].split_whitespace().next().unwrap().to_string()
}

#[tokio::test(flavor = "multi_thread")]
async fn mail_goes_out_waits_is_tried_again_and_says_what_the_server_said() {
    let sink = Sink::start(&["files", "tide table"]);
    let dir = tempfile::tempdir().unwrap();
    let (config, secret) = (dir.path().join("yatticd.toml"), dir.path().join("mail-password"));
    std::fs::write(&secret, "tide table\n").unwrap();
    let text = format!(
        "organisation = \"Lamp House\"\nmail_server = \"127.0.0.1:{}\"\nmail_tls = \"none\"\nmail_user = \"files\"\n\
         mail_password_file = \"{}\"\nmail_from = \"Lamp House <files@lamp.example>\"\n",
        sink.port,
        secret.display()
    );
    std::fs::write(&config, text).unwrap();
    let mut service = Service::start_with(&dir.path().join("data"), &["--config", config.to_str().unwrap()]);
    service.set_up().await;
    let ines = Yattic::new();
    ines.connect(&service);
    assert!(ines.ok(&["mail", "test", "ines@lamp.example"]).contains("250 Kept as 1"));
    assert!(ines.fails(1, &["mail", "test", "never@lamp.example"]).contains("No such mailbox"));
    // An invitation arrives, in the organisation's name, and counts.
    ines.ok(&["account", "set", "ines", "--mail", "ines@lamp.example"]);
    ines.ok(&["account", "new", "tomas", "--display-name", "Tomas Field", "--mail", "tomas@lamp.example"]);
    let letter = sink.letter("tomas@lamp.example", "Choose a password");
    assert!(letter.contains("Subject: Lamp House: your account"), "{letter}");
    let address = address_in(&letter);
    assert!(address.starts_with(&format!("{}/welcome#", service.address)), "{address}");
    let http = reqwest::Client::new();
    let accept = json!({ "secret": address.split_once('#').unwrap().1, "password": WORDS });
    let call = http.post(format!("{}/api/v1/invitation/accept", service.address)).json(&accept);
    assert_eq!(call.send().await.unwrap().status(), 200);
    // A server that asks to wait is asked again; one that refuses for good is not.
    ines.ok(&["account", "new", "hugo", "--mail", "later@lamp.example"]);
    ines.ok(&["account", "new", "celia", "--mail", "never@lamp.example"]);
    let listed = |what: &str| wait_for(|| ines.ok(&["mail", "ls"]).lines().any(|l| l.contains(what)));
    assert!(listed("Try again later"));
    assert!(ines.ok(&["mail", "ls"]).contains("tried 1 times, next"));
    assert!(listed("No such mailbox"));
    let listing = ines.ok(&["mail", "ls"]);
    let never = listing.lines().find(|l| l.contains("never@")).unwrap();
    assert!(never.contains("given up"), "{never}");
    assert!(!listing.contains("welcome#"), "no address is shown");
    let later = listing.lines().find(|l| l.contains("later@")).unwrap();
    ines.ok(&["mail", "end", later.split_whitespace().next().unwrap()]);
    assert!(listed("given up"));

    // Signing up: by rule, approved by an administrator, and told the same to whom is known.
    let sign_up = async |mail: &str, name: &str| {
        let body = json!({ "sign_in": name, "display_name": "Oona Reed", "mail": mail });
        let call = http.post(format!("{}/api/v1/sign-up", service.address)).json(&body);
        call.send().await.unwrap().status().as_u16()
    };
    assert_eq!(sign_up("oona@lamp.example", "oona").await, 403);
    ines.ok(&["rule", "set", "sign-up-domains", "lamp.example", "--yes"]);
    assert_eq!(sign_up("oona@elsewhere.example", "oona").await, 403);
    assert_eq!(sign_up("oona@lamp.example", "oona").await, 202);
    assert_eq!(sign_up("tomas@lamp.example", "other").await, 202);
    sink.letter("tomas@lamp.example", "There is one already");
    sink.letter("ines@lamp.example", "asks for an account");
    assert!(ines.ok(&["account", "ls"]).contains("waits to be approved"));
    ines.ok(&["account", "set", "oona", "--enable"]);
    address_in(&sink.letter("oona@lamp.example", "Choose a password"));

    // A guest: invited by a member to what they manage, signs in with the mail address.
    let tomas = Yattic::new();
    assert_eq!(tomas.try_connect(&service.address, "tomas@lamp.example", WORDS), "");
    tomas.ok(&["mkdir", "home:/Drawings"]);
    let told = tomas.ok(&["share", "home:/Drawings", "--with", "nora@harbour.example", "--can", "add"]);
    assert!(told.contains("is a guest now (account nora)") && told.contains("told by mail"), "{told}");
    let letter = sink.letter("nora@harbour.example", "Tomas Field shares");
    let accept = json!({ "secret": address_in(&letter).split_once('#').unwrap().1, "password": WORDS });
    let call = http.post(format!("{}/api/v1/invitation/accept", service.address)).json(&accept);
    assert_eq!(call.send().await.unwrap().status(), 200);
    let nora = Yattic::new();
    assert_eq!(nora.try_connect(&service.address, "nora@harbour.example", WORDS), "");
    assert!(nora.ok(&["ls"]).contains("given:/Drawings"));
    assert!(!nora.ok(&["ls"]).contains("home:/"), "a guest has no home");
    let client = Client::new(&service.address, Some(&token_of(&nora))).unwrap();
    let people = client.people().await.unwrap().people;
    assert_eq!(people.iter().map(|p| p.name.as_str()).collect::<Vec<_>>(), ["Tomas Field"]);
    ines.ok(&["rule", "set", "guests-invited", "off", "--yes"]);
    let refused =
        tomas.fails(1, &["share", "home:/Drawings", "--with", "x@harbour.example", "--can", "view"]);
    assert!(refused.contains("A rule says that you may not invite"), "{refused}");
    ines.ok(&["rule", "set", "people-seen", "nobody", "--yes"]);
    let client = Client::new(&service.address, Some(&token_of(&tomas))).unwrap();
    assert!(client.people().await.unwrap().people.is_empty());
}

fn token_of(yattic: &Yattic) -> String {
    let text = std::fs::read_to_string(yattic.home.path().join("connection.toml")).unwrap();
    let line = text.lines().find(|l| l.starts_with("token")).unwrap();
    line.split('"').nth(1).unwrap().to_string()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_running_download_is_cut_when_the_right_or_the_door_ends() {
    let (service, owner) = Service::ready().await;
    account(&owner, "tomas").await;
    let home = owner.place("home:/", None).await.unwrap().node.id;
    let folder = owner.make_folder(home, "Film").await.unwrap().id;
    let size = 96 << 20;
    let body = vec![5u8; size].into();
    let film = owner.put(folder, "film.bin", None, &Default::default(), body).await.unwrap().id;
    let grant =
        api::NewGrant { to: "account:tomas".into(), can: "view".into(), until: None, message: String::new() };
    let client = Client::new(&service.address, None).unwrap();
    let asked = api::NewDevice {
        sign_in: "tomas".into(),
        password: WORDS.into(),
        device: "d".into(),
        ..Default::default()
    };
    let token = client.connect(&asked).await.unwrap().token;
    let http = reqwest::Client::new();
    // Reads a little, has something happen, reads the rest: how many bytes came in all.
    let read = async |path: &str, then: &dyn Fn() -> std::pin::Pin<Box<dyn Future<Output = ()>>>| {
        let call = http.get(format!("{}/api/v1{path}", service.address)).bearer_auth(&token);
        let mut answer = call.send().await.unwrap();
        assert_eq!(answer.status(), 200);
        let mut got = answer.chunk().await.unwrap().unwrap().len();
        then().await;
        while let Ok(Some(piece)) = answer.chunk().await {
            got += piece.len();
        }
        got
    };
    let (content, archive) =
        (format!("/nodes/{film}/content"), format!("/nodes/{folder}/archive?format=tar"));
    let given = owner.give(folder, &grant).await.unwrap().id;
    let nothing = || Box::pin(async {}) as std::pin::Pin<Box<dyn Future<Output = ()>>>;
    assert_eq!(read(&content, &nothing).await, size);
    let end = |id: i64| {
        let owner = owner.clone();
        move || {
            let owner = owner.clone();
            Box::pin(async move { owner.end_grant(id).await.unwrap() })
                as std::pin::Pin<Box<dyn Future<Output = ()>>>
        }
    };
    assert!(read(&content, &end(given)).await < size);
    let given = owner.give(folder, &grant).await.unwrap().id;
    assert!(read(&archive, &end(given)).await < size);
    owner.give(folder, &grant).await.unwrap();
    let shut = || {
        let owner = owner.clone();
        Box::pin(async move {
            let change = api::AccountChange { closed: Some(vec!["sync".into()]), ..Default::default() };
            owner.change_account("tomas", &change).await.unwrap();
        }) as std::pin::Pin<Box<dyn Future<Output = ()>>>
    };
    assert!(read(&content, &shut).await < size);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_decided_over_people_and_rights_is_there_after_a_kill() {
    let (mut service, owner) = Service::ready().await;
    let home = owner.place("home:/", None).await.unwrap().node.id;
    let folder = owner.make_folder(home, "Plans").await.unwrap().id;
    account(&owner, "tomas").await;
    for round in 0..4u64 {
        let owner = Client::new(&service.address, owner.token()).unwrap();
        owner.prove(PASSWORD, None).await.unwrap();
        // Changes one after the other, until the service is gone: the last answered one, and what was asked.
        let begun = std::sync::Arc::new(std::sync::atomic::AtomicBool::new(false));
        let changing = {
            let (owner, begun) = (owner.clone(), begun.clone());
            tokio::spawn(async move {
                let (mut answered, mut asked) = (None, 0);
                for n in 0u64.. {
                    asked = n;
                    let can = ["view", "add", "edit"][(n % 3) as usize];
                    let grant = api::NewGrant {
                        to: "account:tomas".into(),
                        can: can.into(),
                        until: None,
                        message: n.to_string(),
                    };
                    let change =
                        api::AccountChange { quota: Some(format!("{} KiB", n + 1)), ..Default::default() };
                    let length = (8 + n % 50).to_string();
                    let rule = api::RuleChange {
                        scope: "service".into(),
                        value: Some(length),
                        preview: false,
                        breaking: None,
                    };
                    if owner.give(folder, &grant).await.is_err()
                        || owner.change_account("tomas", &change).await.is_err()
                        || owner.set_rule("password-length", &rule).await.is_err()
                    {
                        break;
                    }
                    answered = Some(n);
                    begun.store(true, std::sync::atomic::Ordering::SeqCst);
                }
                (answered, asked)
            })
        };
        // However slow the machine is: something was answered, and the next is under way.
        assert!(wait_for(|| begun.load(std::sync::atomic::Ordering::SeqCst)));
        tokio::time::sleep(std::time::Duration::from_millis(60 + round * 90)).await;
        service = service.killed_and_started_again();
        let (answered, asked) = changing.await.unwrap();
        let answered = answered.expect("something was answered before the kill");
        let owner = Client::new(&service.address, owner.token()).unwrap();
        let told = owner.rights(folder).await.unwrap().grants;
        let given: u64 = told.iter().find(|g| g.to == "account:tomas").unwrap().message.parse().unwrap();
        let tomas = owner.account("tomas").await.unwrap().account;
        let quota = tomas.quota.unwrap() / 1024 - 1;
        let rules = owner.rules().await.unwrap().rules;
        let length: u64 = rules.iter().find(|r| r.name == "password-length").unwrap().value.parse().unwrap();
        // Each is as it was answered last, or as it was asked last; never anything else.
        assert!((answered..=asked).contains(&given), "{given} of {answered}..={asked}");
        assert!((answered..=asked).contains(&quota), "{quota} of {answered}..={asked}");
        assert!((answered..=asked).any(|n| 8 + n % 50 == length), "{length} of {answered}..={asked}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn inviting_somebody_who_has_an_account_hands_out_no_way_into_it() {
    let (service, owner) = Service::ready().await;
    account(&owner, "tomas").await;
    let waiting = api::NewAccount {
        sign_in: "hugo".into(),
        mail: Some("hugo@lamp.example".into()),
        role: Some("administrator".into()),
        ..Default::default()
    };
    owner.make_account(&waiting).await.unwrap();
    let asked = api::NewDevice {
        sign_in: "tomas".into(),
        password: WORDS.into(),
        device: "d".into(),
        ..Default::default()
    };
    let token = owner.connect(&asked).await.unwrap().token;
    let tomas = Client::new(&service.address, Some(&token)).unwrap();
    let home = tomas.place("home:/", None).await.unwrap().node.id;
    let mut guest = api::NewGuest {
        mail: "hugo@lamp.example".into(),
        display_name: String::new(),
        node: tomas.make_folder(home, "Open").await.unwrap().id,
        can: "view".into(),
        until: None,
        message: String::new(),
    };
    let told = tomas.invite_guest(&guest).await.unwrap();
    assert!(!told.made && told.address.is_none(), "{told:?}");
    // One's own guest who has not come yet gets another address; nobody else's does.
    guest.mail = "nora@harbour.example".into();
    assert!(tomas.invite_guest(&guest).await.unwrap().address.is_some());
    assert!(tomas.invite_guest(&guest).await.unwrap().address.is_some());
    guest.node = owner.make_folder(owner.place("home:/", None).await.unwrap().node.id, "X").await.unwrap().id;
    assert!(owner.invite_guest(&guest).await.unwrap().address.is_none());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_picture_of_oneself_is_drawn_small_and_nothing_else_is_taken() {
    let (service, owner) = Service::ready().await;
    account(&owner, "tomas").await;
    let mut tomas = Console::new(&service);
    assert_eq!(tomas.sign_in("tomas", WORDS).await.0, 200);
    let put = async |bytes: Vec<u8>| {
        let call = tomas.http.put(format!("{}/api/v1/me/picture", service.address)).body(bytes);
        let call = call.header("origin", &service.address).header("cookie", &tomas.cookie);
        call.send().await.unwrap().status().as_u16()
    };
    for wrong in [b"<svg onload='alert(1)'/>".to_vec(), vec![0; 2000], Vec::new()] {
        assert_eq!(put(wrong).await, 400);
    }
    assert_eq!(put(vec![0; (8 << 20) + 1]).await, 413);
    assert_eq!(put(yellow_attic_demo::files::view_jpeg("tomas")).await, 204);
    let call = reqwest::Client::new().get(format!("{}/api/v1/people/tomas/picture", service.address));
    let answer = call.bearer_auth(owner.token().unwrap()).send().await.unwrap();
    assert_eq!(answer.headers()["content-type"], "image/jpeg");
    assert!(answer.headers()["content-security-policy"].to_str().unwrap().starts_with("sandbox"));
    let bytes = answer.bytes().await.unwrap();
    assert!(bytes.starts_with(&[0xff, 0xd8]) && bytes.len() < 60_000, "{}", bytes.len());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_passkey_signs_in_and_a_look_shows_what_somebody_sees_and_changes_nothing() {
    let (service, owner) = Service::ready().await;
    account(&owner, "tomas").await;
    let home = owner.place("home:/", None).await.unwrap().node.id;
    let plans = owner.make_folder(home, "Plans").await.unwrap().id;
    owner.put(plans, "tower.txt", None, &Default::default(), b"92 steps".to_vec().into()).await.unwrap();
    let grant =
        api::NewGrant { to: "account:tomas".into(), can: "edit".into(), until: None, message: String::new() };
    owner.give(plans, &grant).await.unwrap();
    // Passkeys are bound to a host name.
    let address = service.address.replace("127.0.0.1", "localhost");
    let ines = Browser::open(1280, 947).await;
    ines.virtual_authenticator().await;
    let sign_in = async |name: &str, password: &str| {
        ines.page.goto(&address).await.unwrap();
        ines.fill("Sign-in name", name).await;
        ines.fill("Password", password).await;
        ines.press("Sign in").await;
    };
    sign_in("ines", PASSWORD).await;
    ines.says("yours alone").await;
    ines.page.goto(&format!("{address}/account")).await.unwrap();
    ines.press("Add a passkey").await;
    ines.fill("What to call it (optional)", "Key on the desk").await;
    ines.press("Make the passkey").await;
    ines.says("Recovery codes").await;
    ines.is_accessible("recovery codes").await;
    ines.press("I have kept them").await;
    ines.says("Key on the desk").await;
    ines.says("10 recovery codes left").await;
    ines.is_accessible("second factors").await;
    // Signed in again: the password, then the passkey.
    let mut console = Console::new(&service);
    assert_eq!(console.sign_in("ines", PASSWORD).await.1["factors"], json!(["passkey", "recovery"]));
    ines.page.delete_all_cookies().await.unwrap();
    sign_in("ines", PASSWORD).await;
    ines.says("One more step").await;
    ines.is_accessible("the second step").await;
    ines.press("Use a passkey").await;
    ines.says("yours alone").await;
    // What no passkey of the account signed is not taken.
    let ticket = console.sign_in("ines", PASSWORD).await.1["ticket"].clone();
    let http = reqwest::Client::new();
    let ask = async |path: &str, body: Value| {
        let call = http.post(format!("{address}/api/v1{path}")).header("origin", &address).json(&body);
        let answer = call.send().await.unwrap();
        (answer.status().as_u16(), answer.json::<Value>().await.unwrap())
    };
    assert_eq!(ask("/session/passkey", json!({ "ticket": ticket })).await.0, 200);
    let made_up = json!({ "id": "AAAA", "rawId": "AAAA", "type": "public-key", "extensions": {},
        "response": { "authenticatorData": "AAAA", "clientDataJSON": "AAAA", "signature": "AAAA" } });
    let (status, told) = ask("/session/second", json!({ "ticket": ticket, "passkey": made_up })).await;
    assert_eq!((status, told["code"].as_str()), (401, Some("wrong_passkey")), "{told}");

    // Looking as Tomas: what he sees, nothing else, and nothing can be changed.
    ines.page.goto(&format!("{address}/desk/people")).await.unwrap();
    ines.press_part("tomas").await;
    ines.press("Look as tomas").await;
    ines.says("you see everything as tomas does").await;
    ines.says("Plans").await;
    ines.is_accessible("a look").await;
    ines.page.goto(&format!("{address}/shelf/given/Plans")).await.unwrap();
    row(&ines, "tower.txt").await;
    ines.says("You may look, and download").await;
    ines.page.goto(&format!("{address}/desk/people")).await.unwrap();
    ines.says("The desk is for administrators").await;
    ines.press("End the look").await;
    ines.says("From a list").await;
    let client = Client::new(&service.address, None).unwrap();
    let asked = api::NewDevice {
        sign_in: "tomas".into(),
        password: WORDS.into(),
        device: "d".into(),
        ..Default::default()
    };
    let token = client.connect(&asked).await.unwrap().token;
    let own = Client::new(&service.address, Some(&token)).unwrap().me().await.unwrap();
    assert_eq!(own.looks.iter().map(|l| l.by.as_str()).collect::<Vec<_>>(), ["Ines Marrow"]);

    // The rules: what a change does is shown before it is made.
    ines.page.goto(&format!("{address}/desk/rules")).await.unwrap();
    ines.says("Shortest password").await;
    ines.is_accessible("rules").await;
    ines.press_part("Shortest password").await;
    ines.fill("Value", "7").await;
    ines.says("a number from 8 to 64").await;
    ines.fill("Value", "14").await;
    ines.says("A password has at least 14 characters").await;
    ines.press("Set it for 2 people").await;
    ines.says("Shortest password: A password has at least 14 characters").await;
    for (part, says) in [("mail", "No mail server is set"), ("shelves", "No shared shelf yet")] {
        ines.page.goto(&format!("{address}/desk/{part}")).await.unwrap();
        ines.says(says).await;
        ines.is_accessible(part).await;
    }
    // A list of people: every fate is shown, then done.
    let list = tempfile::Builder::new().suffix(".csv").tempfile().unwrap();
    std::fs::write(list.path(), "login,name,mail\nmara,Mara Quist,mara@museum.example\nbad name,X,\n")
        .unwrap();
    ines.page.goto(&format!("{address}/desk/people")).await.unwrap();
    ines.press("From a list").await;
    let input = ines.find("input[type=file]").await;
    input.send_keys(list.path().to_str().unwrap()).await.unwrap();
    ines.says("1 wrong, 1 new").await;
    ines.is_accessible("a list of people").await;
    ines.press("Take 1 row over").await;
    ines.says("Done: 1 wrong, 1 new").await;
    ines.press("Done").await;
    ines.says("Mara Quist").await;
    ines.close().await;
}

//! Connecting a computer by a short code, how far its token reaches, and what it says of itself.

use crate::people::Console;
use crate::support::{PASSWORD, Service, Yattic, eventually, in_the_catalogue};
use serde_json::{Value, json};
use std::io::{BufRead, BufReader, Read};
use std::process::Stdio;
use yellow_attic_client::{Client, When, api};

/// A code as the service answers a request with it.
async fn code_of(answer: reqwest::Response) -> (u16, String) {
    let status = answer.status().as_u16();
    let said: Value = answer.json().await.unwrap_or_default();
    (status, said["code"].as_str().unwrap_or_default().to_string())
}

/// Connects a computer that is bound to some folders; its token.
pub async fn bound(
    service: &Service,
    sign_in: &str,
    password: &str,
    within: &[i64],
    read_only: bool,
) -> String {
    let nobody = Client::new(&service.address, None).unwrap();
    let new = api::NewConnection { device: "bound".into(), program: "a test".into() };
    let asked = nobody.begin_connection(&new).await.unwrap();
    let mut console = Console::new(service);
    assert_eq!(console.sign_in(sign_in, password).await.0, 200);
    let answer =
        json!({ "code": asked.user_code, "connect": true, "within": within, "read_only": read_only });
    let (status, said) = console.ask("POST", "/connections/answer", answer).await;
    assert_eq!(status, 204, "{said}");
    nobody.collect_connection(&asked.device_code).await.unwrap().token
}

#[tokio::test(flavor = "multi_thread")]
async fn a_computer_is_connected_by_a_code_that_is_typed_in_the_browser() {
    let (service, owner) = Service::ready().await;
    let yattic = Yattic::new();
    let mut running = yattic
        .command(&["connect", &service.address, "--device", "harbour laptop"])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut lines = BufReader::new(running.stderr.take().unwrap()).lines();
    let said: Vec<String> =
        lines.by_ref().map(Result::unwrap).take_while(|l| !l.starts_with("It counts")).collect();
    let words: Vec<&str> = said.iter().map(|l| l.trim()).filter(|l| !l.is_empty()).collect();
    assert!(words[1].ends_with("/connect"), "{words:?}");
    let code = words[3].to_string();
    assert_eq!(code.len(), 9, "{words:?}");
    // The browser shows whom one lets in before one does; a wrong code is nobody's.
    let mut console = Console::new(&service);
    assert_eq!(console.sign_in("ines", PASSWORD).await.0, 200);
    let (status, _) = console.ask("POST", "/connections/look", json!({ "code": "BBBB-BBBB" })).await;
    assert_eq!(status, 404);
    let typed = code.to_lowercase().replace('-', " ");
    let (_, seen) = console.ask("POST", "/connections/look", json!({ "code": typed })).await;
    assert_eq!((seen["device"].as_str(), seen["from"].as_str()), (Some("harbour laptop"), Some("127.0.0.1")));
    assert!(seen["program"].as_str().unwrap().starts_with("yattic "), "{seen}");
    let answer = json!({ "code": typed, "connect": true });
    assert_eq!(console.ask("POST", "/connections/answer", answer.clone()).await.0, 204);
    assert_eq!(console.ask("POST", "/connections/answer", answer).await.0, 404, "each code is answered once");
    let mut said = String::new();
    running.stdout.take().unwrap().read_to_string(&mut said).unwrap();
    assert!(running.wait().unwrap().success());
    assert!(said.contains("as ines; this computer is called \"harbour laptop\""), "{said}");
    assert!(yattic.ok(&["ls"]).contains("home:"));
    assert!(
        owner
            .devices()
            .await
            .unwrap()
            .devices
            .iter()
            .any(|d| d.name == "harbour laptop" && d.reach.is_none())
    );
    // Nobody lets a computer in long after the password was given, and no computer lets another one in.
    let token = bound(&service, "ines", PASSWORD, &[], true).await;
    let http = reqwest::Client::new();
    let call = http
        .post(format!("{}/api/v1/connections/answer", service.address))
        .bearer_auth(owner.token().unwrap());
    let (status, code) =
        code_of(call.json(&json!({ "code": "X", "connect": true })).send().await.unwrap()).await;
    assert_eq!((status, code.as_str()), (403, "not_with_a_device_token"));
    // Read only, all of the account.
    let reader = Client::new(&service.address, Some(&token)).unwrap();
    let home = reader.place("home:/", None).await.unwrap();
    assert_eq!(home.level, "view");
    let refused = reader.make_folder(home.node.id, "new").await.unwrap_err();
    assert_eq!(refused.code(), Some("not_allowed"), "{refused}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_answer_to_a_computer_that_waits_is_told_as_often_as_it_asks() {
    let (service, _) = Service::ready().await;
    let nobody = Client::new(&service.address, None).unwrap();
    let begin = async || {
        let new = api::NewConnection { device: "desk".into(), program: String::new() };
        nobody.begin_connection(&new).await.unwrap()
    };
    let mut console = Console::new(&service);
    assert_eq!(console.sign_in("ines", PASSWORD).await.0, 200);
    let asked = begin().await;
    assert_eq!(
        nobody.collect_connection(&asked.device_code).await.err().unwrap().code(),
        Some("authorization_pending")
    );
    // One after the other without a pause is too soon, however slow the machine is now and then.
    let code = async || {
        nobody.collect_connection(&asked.device_code).await.err().and_then(|e| e.code().map(String::from))
    };
    assert!(
        eventually(async || code().await.as_deref() == Some("slow_down")
            || code().await.as_deref() == Some("slow_down"))
        .await
    );
    assert_eq!(nobody.collect_connection("nothing").await.err().unwrap().code(), Some("expired_token"));
    let answer = json!({ "code": asked.user_code, "connect": true });
    assert_eq!(console.ask("POST", "/connections/answer", answer).await.0, 204);
    // Four hundred at once, as after a line that broke: one computer, one token.
    let all = (0..400).map(|_| nobody.collect_connection(&asked.device_code));
    let mut tokens: Vec<String> =
        futures_util::future::join_all(all).await.into_iter().map(|t| t.unwrap().token).collect();
    tokens.dedup();
    assert_eq!(tokens.len(), 1);
    let its = Client::new(&service.address, Some(&tokens[0])).unwrap();
    let devices = its.devices().await.unwrap().devices;
    assert_eq!(devices.iter().filter(|d| d.name == "desk").count(), 1);
    // Somebody says no.
    let asked = begin().await;
    let answer = json!({ "code": asked.user_code, "connect": false });
    assert_eq!(console.ask("POST", "/connections/answer", answer).await.0, 204);
    assert_eq!(
        nobody.collect_connection(&asked.device_code).await.err().unwrap().code(),
        Some("access_denied")
    );
    // Too many folders, and one that is nobody's.
    let asked = begin().await;
    let many: Vec<i64> = (0..51).collect();
    let answer = json!({ "code": asked.user_code, "connect": true, "within": many });
    assert_eq!(console.ask("POST", "/connections/answer", answer).await.1["code"], "too_many_folders");
    let answer = json!({ "code": asked.user_code, "connect": true, "within": [999_999] });
    assert_eq!(console.ask("POST", "/connections/answer", answer).await.1["code"], "not_found");
    let code = console.ask("POST", "/connections/look", json!({ "code": "BBBB-BBBB" })).await.1;
    assert_eq!(code["code"], "code_unknown");
    // A closed door says exactly that, and lets the computer in once it is open.
    let home = its.place("home:/", None).await.unwrap().node.id;
    let answer = json!({ "code": asked.user_code, "connect": true, "within": [home] });
    assert_eq!(console.ask("POST", "/connections/answer", answer).await.0, 204);
    let closed = json!({ "scope": "service", "value": "sync" });
    assert_eq!(console.ask("PUT", "/rules/doors-closed", closed).await.0, 200);
    assert_eq!(
        nobody.collect_connection(&asked.device_code).await.err().unwrap().code(),
        Some("door_closed")
    );
    let open = json!({ "scope": "service", "value": "none" });
    assert_eq!(console.ask("PUT", "/rules/doors-closed", open).await.0, 200);
    nobody.collect_connection(&asked.device_code).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_bound_computer_works_in_its_folders_and_finds_nothing_else() {
    let (service, owner) = Service::ready().await;
    let home = owner.place("home:/", None).await.unwrap().node.id;
    let plans = owner.make_folder(home, "Plans").await.unwrap().id;
    let secret = owner.make_folder(home, "Letters").await.unwrap().id;
    let letter =
        owner.put(secret, "letter", None, &When::default(), b"dear".to_vec().into()).await.unwrap().id;
    let token = bound(&service, "ines", PASSWORD, &[plans], false).await;
    let its = Client::new(&service.address, Some(&token)).unwrap();
    let seen = its.shelves().await.unwrap();
    assert!(seen.shelves.is_empty() && seen.disk_total == 0);
    assert_eq!(seen.given.iter().map(|g| g.path.as_str()).collect::<Vec<_>>(), ["given:/Plans"]);
    let made = its.put(plans, "a", None, &When::default(), b"1".to_vec().into()).await.unwrap().id;
    assert_eq!(its.place("given:/Plans/a", None).await.unwrap().node.id, made);
    // Nothing goes out, nothing comes in from elsewhere, nothing is found elsewhere.
    let target = |parent| api::Target { parent: Some(parent), ..Default::default() };
    assert_eq!(its.change(made, &target(secret)).await.unwrap_err().code(), Some("not_found"));
    assert_eq!(its.change(letter, &target(plans)).await.unwrap_err().code(), Some("not_found"));
    assert_eq!(its.change(made, &target(home)).await.unwrap_err().code(), Some("not_found"));
    for path in ["home:/", "home:/Letters/letter", "given:/Letters"] {
        assert_eq!(its.place(path, None).await.unwrap_err().code(), Some("not_found"), "{path}");
    }
    // What is begun elsewhere is not under way here.
    let new = yellow_attic_client::NewUpload {
        parent: secret,
        name: "film".into(),
        size: 10,
        modified: None,
        blake3: None,
        only_kept: false,
    };
    let begun = owner.begin_upload(&new).await.unwrap();
    let http = reqwest::Client::new();
    let get = async |path: &str| {
        http.get(format!("{}/api/v1{path}", service.address)).bearer_auth(&token).send().await.unwrap()
    };
    let all: Value = get("/uploads").await.json().await.unwrap();
    assert_eq!(all["uploads"].as_array().map(Vec::len), Some(0), "{all}");
    assert_eq!(its.end_upload(&begun).await.unwrap_err().code(), Some("not_found"));
    // Its reach is shown where it is listed.
    let mine = owner.devices().await.unwrap().devices;
    let reach = mine.iter().find(|d| d.name == "bound").and_then(|d| d.reach.clone()).unwrap();
    assert_eq!(reach.within[0].path.as_deref(), Some("home:/Plans"));
    // All that is not about files is refused, whatever it is.
    let described: Value = get("/../openapi.json").await.json().await.unwrap();
    let mut refused = 0;
    for (path, methods) in described["paths"].as_object().unwrap() {
        for method in methods.as_object().unwrap().keys() {
            let filled = path.replace("{node}", &plans.to_string()).replace("{root}", &home.to_string());
            let filled = filled.replace(['{', '}'], "");
            let own = [
                "/client",
                "/devices/this",
                "/welcome",
                "/events",
                "/connections",
                "/session",
                "/set-up",
                "/sign-up",
                "/invitation",
            ];
            let open = ["post:/api/v1/devices"].contains(&format!("{method}:{path}").as_str());
            if own.iter().any(|p| filled.starts_with(&format!("/api/v1{p}"))) || open {
                continue;
            }
            let verb = reqwest::Method::from_bytes(method.to_uppercase().as_bytes()).unwrap();
            let call = http.request(verb, format!("{}{filled}", service.address)).bearer_auth(&token);
            let (status, code) = code_of(call.send().await.unwrap()).await;
            let files = [
                "/nodes/",
                "/shelves",
                "/place",
                "/files/",
                "/moves",
                "/states",
                "/uploads",
                "/archives",
                "/find",
                "/recent",
            ];
            let about_files = files.iter().any(|f| path.starts_with(&format!("/api/v1{f}")));
            match about_files {
                true => refused += usize::from(code == "outside_its_reach"),
                false => {
                    assert_eq!((status, code.as_str()), (403, "outside_its_reach"), "{method} {path}");
                }
            }
        }
    }
    assert!(refused > 10, "rights, snapshots and the like are not its own: {refused}");
    // Something of it all removed the folder: nothing is left to see, and nothing else opens.
    assert!(its.shelves().await.unwrap().given.is_empty());
    assert_eq!(its.facts(plans).await.unwrap_err().code(), Some("not_found"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_computer_says_how_its_pairs_are_and_one_that_is_away_too_long_ends() {
    let (service, owner) = Service::ready().await;
    let token = bound(&service, "ines", PASSWORD, &[], false).await;
    let its = Client::new(&service.address, Some(&token)).unwrap();
    let pair = api::DevicePair {
        folder: "/home/ines/Plans".into(),
        place: "home:/Plans".into(),
        way: "both".into(),
        state: "waiting".into(),
        waiting: 3,
        trouble: 1,
        says: "The shelf is full.".into(),
        ..Default::default()
    };
    let report = api::DeviceReport { program: "yattic 0".into(), pairs: vec![pair.clone()] };
    its.report(&report).await.unwrap();
    let mine = owner.devices().await.unwrap().devices.into_iter().find(|d| d.name == "bound").unwrap();
    assert_eq!(mine.report.as_ref(), Some(&report));
    // Administrators see how others' pairs are, and not what their folders are called.
    let page = owner.account("ines").await.unwrap();
    let shown = page.devices.iter().find(|d| d.name == "bound").and_then(|d| d.report.clone()).unwrap();
    assert_eq!((shown.pairs[0].folder.as_str(), shown.pairs[0].place.as_str()), ("", "home"));
    assert_eq!(shown.pairs[0].trouble, 1);
    let many = api::DeviceReport { program: "p".into(), pairs: vec![pair; 101] };
    assert_eq!(its.report(&many).await.unwrap_err().code(), Some("report_too_long"));
    // A rule ends the sign-in of a computer that is away.
    let rule =
        api::RuleChange { scope: "service".into(), value: Some("30".into()), preview: false, breaking: None };
    owner.set_rule("devices-idle-days", &rule).await.unwrap();
    its.shelves().await.unwrap();
    let mut service = service;
    service.child.kill().unwrap();
    service.child.wait().unwrap();
    let ago = "CAST(strftime('%s') AS INTEGER) * 1000 - 31 * 86400000";
    let long_ago = format!("UPDATE devices SET made_at = {ago}, used_at = {ago} WHERE name = 'bound'");
    in_the_catalogue(&service.data, &long_ago);
    let service = service.killed_and_started_again();
    for token in [&token, owner.token().unwrap()] {
        let ended = *token == *its.token().unwrap();
        let its = Client::new(&service.address, Some(token)).unwrap();
        // Coming back does not help.
        for _ in 0..2 {
            let code = its.shelves().await.err().and_then(|e| e.code().map(String::from));
            assert_eq!(code.as_deref(), ended.then_some("device_away"));
        }
    }
}

//! Rules, the one list of all that was given out, and the public address.

use super::*;
use crate::support::{Service, Yattic};
use std::collections::BTreeSet;

#[tokio::test(flavor = "multi_thread")]
async fn rules_bind_what_is_given_out_and_a_stricter_one_lists_what_breaks_it() {
    let (_service, ines) = Service::ready().await;
    let (tomas, _) = member(&ines, "tomas").await;
    let shelf = shelf_for(&ines, "Board", "tomas", "manage").await;
    let file = put(&tomas, shelf, "minutes.txt", b"seven were present").await;
    let out = Stranger::new();
    let rule = async |name: &str, scope: &str, value: &str, preview: bool, breaking: &str| {
        let change = api::RuleChange {
            scope: scope.into(),
            value: Some(value.into()),
            preview,
            breaking: Some(breaking.into()),
        };
        ines.set_rule(name, &change).await
    };
    let (plain, open) = made(&tomas, link(file, set())).await;
    let long =
        api::OpeningSet { ends: Some(hours(24 * 60)), password: Some("kelp ladder seven".into()), ..set() };
    let (longer, _) = made(&tomas, link(file, long)).await;

    // A preview changes nothing, and names both; one shelf alone is touched.
    let told = rule("links-longest-days", "shelf:Board", "30", true, "leave").await.unwrap();
    let broken: BTreeSet<i64> = told.broken.iter().map(|b| b.id).collect();
    assert_eq!(broken, BTreeSet::from([plain, longer]));
    assert!(told.broken.iter().all(|b| b.shorten.is_some() && b.breaks == "lives longer than allowed"));
    assert!(tomas.opening(longer).await.unwrap().until.unwrap() > hours(24 * 50));
    rule("links-longest-days", "shelf:Board", "30", false, "shorten").await.unwrap();
    assert!(tomas.opening(longer).await.unwrap().ends.unwrap() < hours(24 * 31));
    let year = api::OpeningSet { ends: Some(hours(24 * 365)), ..set() };
    assert_eq!(refused(tomas.make_opening(&link(file, year)).await), "opening_too_long");

    // A password demanded: what has none sleeps until it has one.
    let told = rule("links-password", "organisation", "on", false, "leave").await.unwrap();
    assert_eq!(told.broken.iter().map(|b| b.id).collect::<Vec<_>>(), [plain]);
    assert_eq!(out.page(&open).await.0, 404);
    let state = tomas.opening(plain).await.unwrap();
    assert_eq!((state.state.as_str(), state.sentence.contains("Set one")), ("against a rule", true));
    assert_eq!(refused(tomas.make_opening(&link(file, set())).await), "opening_refused");
    let mended = api::OpeningSet { password: Some("plinth salt hinge".into()), ..set() };
    tomas.change_opening(plain, &mended).await.unwrap();
    assert!(out.page(&open).await.1.contains("A password, please"));

    // Who may make them: a group; renamed, it goes on counting.
    let group = api::NewGroup { name: "Press".into(), note: String::new(), members: vec![] };
    ines.make_group(&group).await.unwrap();
    assert_eq!(refused(rule("links-made-by", "service", "Nobody there", true, "leave").await), "nobody");
    rule("links-made-by", "service", "Press", false, "leave").await.unwrap();
    assert_eq!(out.page(&open).await.0, 404);
    let members =
        api::GroupChange { add: vec!["tomas".into()], name: Some("Public".into()), ..Default::default() };
    ines.change_group("Press", &members).await.unwrap();
    assert_eq!(out.page(&open).await.0, 200);

    // A shelf that never leaves the house: no link, no guest; an intake still may.
    let told = rule("kept-inside", "shelf:Board", "on", false, "end").await.unwrap();
    assert_eq!(told.broken.len(), 2);
    assert_eq!(tomas.opening(plain).await.unwrap().state, "ended");
    let locked = api::OpeningSet { password: Some("plinth salt hinge".into()), ..set() };
    assert_eq!(refused(tomas.make_opening(&link(file, locked)).await), "opening_refused");
    let guest = api::NewGuest {
        mail: "nora@outside.example".into(),
        display_name: String::new(),
        node: file,
        can: "view".into(),
        until: None,
        message: String::new(),
    };
    assert_eq!(refused(tomas.invite_guest(&guest).await), "guests_not_invited");
    assert!(tomas.make_opening(&intake(shelf, set())).await.is_ok());
    assert_eq!(refused(rule("kept-inside", "group:Public", "on", true, "leave").await), "rule_refused");
}

#[tokio::test(flavor = "multi_thread")]
async fn all_that_was_given_out_is_in_one_list_and_can_be_ended_there() {
    let (service, ines) = Service::ready().await;
    let (tomas, _) = member(&ines, "tomas").await;
    let shelf = shelf_for(&ines, "Collections", "tomas", "manage").await;
    let file = put(&tomas, shelf, "=cmd|x.txt", b"formula").await;
    let mine = home(&tomas).await;
    let (id, address) = made(&tomas, link(file, set())).await;
    let (taking, _) = made(&tomas, intake(mine, set())).await;
    let give =
        api::NewGrant { to: "everyone".into(), can: "view".into(), until: None, message: String::new() };
    tomas.give(file, &give).await.unwrap();
    let out = Stranger::new();
    out.get(&format!("{address}/take/")).await;
    out.get(&format!("{address}/take/")).await;

    let list = tomas.given_out(&Default::default()).await.unwrap();
    let kinds: BTreeSet<&str> = list.given.iter().map(|g| g.kind.as_str()).collect();
    assert_eq!(kinds, BTreeSet::from(["intake", "link", "share"]));
    let given = list.given.iter().find(|g| g.kind == "link").unwrap();
    assert_eq!((given.used, given.used_from.as_deref()), (Some(2), Some("127.0.0.1")));
    assert_eq!(given.path.as_deref(), Some("Collections:/=cmd|x.txt"));
    assert_eq!(list.given.iter().find(|g| g.kind == "share").unwrap().to, "Everyone");
    let table = tomas.given_table(&Default::default()).await.unwrap();
    assert!(table.contains(",'=cmd|x.txt,"), "{table}");
    // By page.
    let mut query = api::GivenQuery { limit: Some(1), ..Default::default() };
    let mut seen = Vec::new();
    loop {
        let page = tomas.given_out(&query).await.unwrap();
        assert_eq!(page.total, 3);
        seen.extend(page.given.iter().map(|g| (g.kind.clone(), g.id)));
        query.cursor = page.next;
        if query.cursor.is_none() {
            break;
        }
    }
    assert_eq!(seen.iter().collect::<BTreeSet<_>>().len(), 3);

    // A member sees their own; an administrator all, without the addresses of what they do not manage.
    assert_eq!(
        refused(tomas.given_out(&api::GivenQuery { all: true, ..Default::default() }).await),
        "administrators_only"
    );
    let everything = ines.given_out(&api::GivenQuery { all: true, ..Default::default() }).await.unwrap();
    let theirs = everything.given.iter().find(|g| g.kind == "intake").unwrap();
    assert_eq!((theirs.address.as_deref(), theirs.mine, theirs.path.as_deref()), (None, false, None));
    let widened = api::OpeningSet { title: Some("Mine now".into()), ..set() };
    assert_eq!(refused(ines.change_opening(taking, &widened).await), "only_to_close");
    let of = seen.iter().map(|(kind, id)| api::GivenId { kind: kind.clone(), id: *id }).collect::<Vec<_>>();
    let unknown = api::GivenId { kind: "link".into(), id: 99_999 };
    let all = of.into_iter().chain([unknown]).collect();
    let done =
        ines.change_given(&api::GivenChange { of: all, end: true, ..Default::default() }).await.unwrap();
    assert_eq!((done.done, done.refused.len()), (3, 1));
    assert_eq!(out.get(&format!("{address}/take/")).await.status(), 404);
    assert_eq!(tomas.opening(id).await.unwrap().state, "ended");

    // By command.
    let yattic = Yattic::new();
    yattic.connect(&service);
    std::fs::write(yattic.home.path().join("a.txt"), "from afar").unwrap();
    yattic.ok(&["put", yattic.home.path().join("a.txt").to_str().unwrap(), "home:/a.txt"]);
    let made = yattic.ok(&[
        "link",
        "new",
        "home:/a.txt",
        "--times",
        "1",
        "--until",
        "2099-12-31",
        "--title",
        "A letter",
    ]);
    let address = made.lines().next().unwrap();
    assert!(out.page(address).await.1.contains("A letter"));
    assert!(yattic.ok(&["link", "ls"]).contains("0 of 1"));
    let number: Value = serde_json::from_str(&yattic.ok(&["--json", "link", "ls"])).unwrap();
    let number = number[0]["id"].to_string();
    let shown = yattic.ok(&["link", "show", &number, "--qr"]);
    assert!(shown.contains(address) && shown.contains('█'), "{shown}");
    yattic.ok(&["link", "set", &number, "--paused", "on"]);
    assert_eq!(out.page(address).await.0, 403);
    assert!(yattic.fails(2, &["link", "set", &number]).contains("nothing is to be changed"));
    assert!(yattic.fails(1, &["intake", "show", &number]).contains("is a link"));
    assert!(yattic.fails(1, &["link", "end", &number]).contains("--yes"));
    yattic.ok(&["link", "end", &number, "--yes"]);
    assert_eq!(out.page(address).await.0, 404);
    assert!(yattic.fails(1, &["link", "new", "home:/a.txt", "--ending", "API"]).contains("can be"));
    let give = yattic.ok(&["intake", "new", "home:/", "--kinds", "pictures", "--largest", "2MiB"]);
    let give = give.lines().next().unwrap();
    assert!(out.page(give).await.1.contains("2.00 MiB"));
    assert!(yattic.ok(&["given-out"]).contains("intake"));
    assert!(yattic.ok(&["given-out", "--csv", "--all"]).starts_with("kind,id,"));
}

#[tokio::test(flavor = "multi_thread")]
async fn requests_under_another_address_are_noticed_with_the_remedy() {
    let (service, ines) = Service::ready().await;
    let http = reqwest::Client::new();
    let call = http.get(format!("{}/api/v1/welcome", service.address));
    let call = call.header("host", "cloud.other.example").header("x-forwarded-proto", "https");
    call.header("x-forwarded-for", "198.51.100.7").send().await.unwrap();
    let told = ines.public_address().await.unwrap();
    assert_eq!(told.address, service.address);
    let other = told.seen.iter().find(|s| s.address.ends_with("cloud.other.example")).unwrap();
    // Who is no trusted proxy is not believed about the scheme either.
    assert_eq!((other.address.as_str(), other.times, other.right), ("http://cloud.other.example", 1, false));
    let found =
        |says: &str| told.findings.iter().any(|f| !f.good && f.what.contains(says) && !f.remedy.is_empty());
    assert!(found("No public address is set") && found("not a trusted proxy"), "{:?}", told.findings);
    // What is handed out never goes by the Host that was asked.
    let file = put(&ines, home(&ines).await, "a.txt", b"a").await;
    let body = json!({ "kind": "link", "node": file }).to_string();
    let call = http.post(format!("{}/api/v1/openings", service.address)).bearer_auth(ines.token().unwrap());
    let call =
        call.header("host", "cloud.other.example").header("content-type", "application/json").body(body);
    let made: Value = call.send().await.unwrap().json().await.unwrap();
    assert!(made["address"].as_str().unwrap().starts_with(&service.address));
    let config = std::process::Command::new(crate::support::program("yatticd"))
        .args(["config", "--public-address", "http://192.168.1.5:7460"])
        .env_clear()
        .output()
        .unwrap();
    let said = String::from_utf8(config.stdout).unwrap();
    assert!(said.contains("leads somewhere only inside") && said.contains("without TLS"), "{said}");
}

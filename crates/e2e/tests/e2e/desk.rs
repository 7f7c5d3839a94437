//! The desk: accounts and groups by pages, one account on one page, days from a calendar, small windows.

use crate::browser::Browser;
use crate::people::Console;
use crate::strangers::refused;
use crate::support::{PASSWORD, PATIENCE, Service, Yattic, eventually};
use serde_json::{Value, json};
use yellow_attic_client::{Client, api};

const WORDS: &str = "gulls over the harbour";

async fn account(admin: &Client, name: &str, groups: &[&str]) {
    let new = api::NewAccount {
        sign_in: name.into(),
        display_name: format!("{name} of the desk"),
        password: Some(WORDS.into()),
        groups: groups.iter().map(|g| g.to_string()).collect(),
        ..Default::default()
    };
    admin.make_account(&new).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn accounts_and_groups_come_by_pages_and_each_comes_once() {
    let (_service, ines) = Service::ready().await;
    for i in 0..7 {
        let new = api::NewGroup {
            name: format!("{} group", ["éa", "Eb", "ed", "zz", "a", "B", "c"][i]),
            note: if i % 2 == 0 { "for the lamp".into() } else { String::new() },
            members: vec![],
        };
        ines.make_group(&new).await.unwrap();
    }
    for i in 0..11 {
        account(&ines, &format!("p{i:02}"), if i < 10 { &["zz group"] } else { &[] }).await;
    }
    let off = api::AccountChange { disabled: Some(true), ..Default::default() };
    ines.change_account("p03", &off).await.unwrap();

    // Of any length of page: all of them, in order, none twice; the sum is that of all pages.
    for limit in [1, 2, 5, 12, 1000] {
        let (mut seen, mut query) =
            (Vec::new(), api::AccountsQuery { limit: Some(limit), ..Default::default() });
        loop {
            let page = ines.accounts_page(&query).await.unwrap();
            assert_eq!(page.total, 12);
            assert!(page.accounts.len() <= limit);
            seen.extend(page.accounts.into_iter().map(|a| a.sign_in));
            query.cursor = page.next;
            if query.cursor.is_none() {
                break;
            }
        }
        let mut wanted: Vec<String> = (0..11).map(|i| format!("p{i:02}")).collect();
        wanted.insert(0, "ines".into());
        assert_eq!(seen, wanted);
        let (mut seen, mut query) =
            (Vec::new(), api::GroupsQuery { limit: Some(limit), ..Default::default() });
        loop {
            let page = ines.groups_page(&query).await.unwrap();
            assert_eq!(page.total, 7);
            seen.extend(page.groups.into_iter().map(|g| g.name));
            query.cursor = page.next;
            if query.cursor.is_none() {
                break;
            }
        }
        assert_eq!(seen.len(), 7);
        assert_eq!(seen.iter().collect::<std::collections::BTreeSet<_>>().len(), 7);
    }
    // By words, role and state; and what is none of them is refused.
    let of = async |query: api::AccountsQuery| {
        let found = ines.accounts(&query).await.unwrap();
        assert_eq!(found.accounts.len(), found.total);
        found.accounts.into_iter().map(|a| a.sign_in).collect::<Vec<_>>()
    };
    let query = api::AccountsQuery::default;
    let words = |w: &str| Some(w.to_string());
    assert_eq!(of(api::AccountsQuery { words: words("P0 desk"), ..query() }).await.len(), 10);
    assert_eq!(of(api::AccountsQuery { words: words("zz"), ..query() }).await.len(), 10);
    assert_eq!(of(api::AccountsQuery { role: words("administrator"), ..query() }).await, ["ines"]);
    assert_eq!(of(api::AccountsQuery { state: words("disabled"), ..query() }).await, ["p03"]);
    assert_eq!(of(api::AccountsQuery { state: words("active"), ..query() }).await.len(), 11);
    let bad = ines.accounts(&api::AccountsQuery { state: words("asleep"), ..query() }).await;
    assert_eq!(refused(bad), "unknown_state");
    let lamp = api::GroupsQuery { words: words("LAMP"), ..Default::default() };
    assert_eq!(ines.groups(&lamp).await.unwrap().total, 4);
    // A list tells of a group's members the first and their number; the group itself all.
    let all = ines.groups(&Default::default()).await.unwrap();
    let zz = all.groups.iter().find(|g| g.name == "zz group").unwrap();
    assert_eq!((zz.members.len(), zz.people), (8, 10));
    assert_eq!(ines.group("ZZ GROUP").await.unwrap().members.len(), 10);
    // A cursor counts for its own list only.
    let first = ines.accounts_page(&api::AccountsQuery { limit: Some(1), ..query() }).await.unwrap();
    let other = api::GroupsQuery { cursor: first.next, ..Default::default() };
    assert_eq!(refused(ines.groups_page(&other).await), "cursor_of_another_list");
}

#[tokio::test(flavor = "multi_thread")]
async fn one_page_tells_all_of_an_account_and_saves_it_in_one_request() {
    let (service, ines) = Service::ready().await;
    for name in ["Archive", "Board", "Choir"] {
        let new = api::NewGroup { name: name.into(), note: String::new(), members: vec![] };
        ines.make_group(&new).await.unwrap();
    }
    account(&ines, "tomas", &["Archive", "Board"]).await;
    let shelf =
        ines.make_shelf(&api::NewShelf { name: "Collections".into(), ..Default::default() }).await.unwrap();
    let logs = ines.make_folder(shelf.root, "Logbooks").await.unwrap().id;
    let give = |to: &str, can: &str| api::NewGrant {
        to: to.into(),
        can: can.into(),
        until: None,
        message: String::new(),
    };
    ines.give(logs, &give("group:Board", "edit")).await.unwrap();
    let mut browser = Console::new(&service);
    assert_eq!(browser.sign_in("tomas", WORDS).await.0, 200);
    let computer = Yattic::new();
    computer.try_connect(&service.address, "tomas", WORDS);
    computer.ok(&["mkdir", "home:/Own"]);
    let (_, link) = browser.ask("POST", "/proof", json!({ "password": WORDS })).await;
    assert_eq!(link, Value::Null);
    let (_, own) = browser.ask_get("/place?path=home:/Own").await;
    let link = json!({ "kind": "link", "node": own["node"]["id"] });
    assert_eq!(browser.ask("POST", "/openings", link).await.0, 201);

    let page = ines.account("tomas").await.unwrap();
    assert_eq!(page.account.groups, ["Archive", "Board"]);
    assert_eq!((page.devices.len(), page.sessions.len(), page.given), (1, 1, 1));
    assert!(page.devices[0].used.is_some());
    // What it may reach and why; of where it lies only what the caller may see.
    let reach: Vec<_> =
        page.reaches.iter().map(|r| (r.name.as_str(), r.path.as_deref(), r.level.as_str())).collect();
    assert_eq!(reach, [("Home", None, "manage"), ("Logbooks", Some("Collections:/Logbooks"), "edit")]);
    assert!(page.reaches[0].why[0].contains("owns the shelf"), "{:?}", page.reaches[0].why);
    assert_eq!(page.reaches[1].why, ["On Collections:/Logbooks, Board may edit: this decides."]);
    let did: Vec<_> = page.record.iter().map(|l| l.action.as_str()).collect();
    for what in ["signed in", "device connected"] {
        assert!(did.contains(&what), "{did:?}");
    }
    assert!(page.record.windows(2).all(|w| w[0].id > w[1].id), "the latest first");
    // What is given out by one account alone, with and without the right to ask.
    let theirs = api::GivenQuery { by: Some("tomas".into()), ..Default::default() };
    assert_eq!(ines.given_out(&theirs).await.unwrap().total, 1);
    assert_eq!(browser.ask_get("/given?by=ines").await.0, 403);
    assert_eq!(browser.ask_get("/accounts/ines").await.0, 403);

    // All of it in one request: and a part that cannot be is a refusal of the whole.
    let groups = vec!["Choir".to_string(), "Board".into()];
    let change = api::AccountChange {
        display_name: Some("Tomas Field".into()),
        quota: Some("1 GiB".into()),
        groups: Some(groups.clone()),
        closed: Some(vec!["dav".into()]),
        ..Default::default()
    };
    for bad in [
        api::AccountChange { groups: Some(vec!["Nobody's".into()]), ..change.clone() },
        api::AccountChange { quota: Some("much".into()), ..change.clone() },
        api::AccountChange { mail: Some("no address".into()), ..change.clone() },
        api::AccountChange { closed: Some(vec!["roof".into()]), ..change.clone() },
    ] {
        ines.change_account("tomas", &bad).await.unwrap_err();
        let still = ines.account("tomas").await.unwrap().account;
        assert_eq!(serde_json::to_value(&still).unwrap(), serde_json::to_value(&page.account).unwrap());
    }
    let saved = ines.change_account("tomas", &change).await.unwrap();
    assert_eq!(saved.display_name, "Tomas Field");
    assert_eq!((saved.groups, saved.quota), (vec!["Board".to_string(), "Choir".into()], Some(1 << 30)));

    // Its sign-ins end one by one, at once.
    let yattic = Yattic::new();
    yattic.connect(&service);
    let shown = yattic.ok(&["account", "show", "tomas"]);
    for word in
        ["may reach", "Collections:/Logbooks", "computers", "signed in", "did last", "given-out --by tomas"]
    {
        assert!(shown.contains(word), "{word}: {shown}");
    }
    let (device, session) = (page.devices[0].id.to_string(), page.sessions[0].id.clone());
    yattic.ok(&["account", "sign-out", "tomas", "--computer", &device]);
    assert!(computer.fails(1, &["ls"]).contains("Nobody is signed in"));
    assert_eq!(browser.ask_get("/shelves").await.0, 200);
    yattic.ok(&["account", "sign-out", "tomas", "--browser", &session]);
    assert_eq!(browser.ask_get("/shelves").await.0, 401);
    let told = yattic.fails(1, &["account", "sign-out", "tomas", "--browser", &session]);
    assert!(told.contains("not found"), "{told}");
    // An invitation that was not used yet is told, and can be ended: its address counts no more.
    let invited = ines.invite("tomas").await.unwrap();
    let open = ines.account("tomas").await.unwrap().invitation.unwrap();
    assert_eq!(open.by.as_deref(), Some("Ines Marrow"));
    yattic.ok(&["account", "sign-out", "tomas", "--invitation"]);
    assert!(ines.account("tomas").await.unwrap().invitation.is_none());
    let secret = invited.address.split_once('#').unwrap().1;
    assert_eq!(
        Console::new(&service).ask("POST", "/invitation/look", json!({ "secret": secret })).await.0,
        404
    );
}

async fn signed_in(service: &Service, width: u32, height: u32) -> Browser {
    let browser = Browser::open(width, height).await;
    browser.page.goto(&service.address).await.unwrap();
    browser.fill("Sign-in name", "ines").await;
    browser.fill("Password", PASSWORD).await;
    browser.press("Sign in").await;
    browser.says("yours alone").await;
    browser
}

#[tokio::test(flavor = "multi_thread")]
async fn an_administrator_changes_an_account_on_its_page_and_finds_groups_and_people_by_name() {
    let (service, ines) = Service::ready().await;
    for name in ["Archive", "Board"] {
        let new = api::NewGroup { name: name.into(), note: String::new(), members: vec![] };
        ines.make_group(&new).await.unwrap();
    }
    account(&ines, "tomas", &["Archive"]).await;
    assert_eq!(Console::new(&service).sign_in("tomas", WORDS).await.0, 200);
    let desk = signed_in(&service, 1280, 947).await;
    // What the first page needs before anything is done, packed as it is sent: scripts and style.
    let came = "return performance.getEntriesByType('resource').filter(e => /[.](js|css)$/.test(e.name))
        .reduce((sum, e) => sum + e.encodedBodySize, 0)";
    let bytes = desk.page.execute(came, vec![]).await.unwrap().as_u64().unwrap();
    assert!((50_000..200 * 1024).contains(&bytes), "{bytes} bytes of scripts and style at the first page");
    desk.page.goto(&format!("{}/desk/people", service.address)).await.unwrap();
    desk.press_part("tomas of the desk").await;
    desk.says("Signs in as tomas").await;
    desk.says("owns the shelf").await;
    desk.is_accessible("an account").await;
    // Groups are found by their names, with the keyboard alone.
    desk.fill("Groups", "boa").await;
    desk.says("Board").await;
    desk.find("[role=option][aria-selected=true]").await;
    desk.is_accessible("finding a group").await;
    desk.keys("Groups", "\u{e007}\u{e00c}").await;
    desk.fill("Home may hold", "2 GiB").await;
    // A file comes, and the page is read anew: what was typed and chosen stays.
    let tomas = Yattic::new();
    assert_eq!(tomas.try_connect(&service.address, "tomas", WORDS), "");
    assert!(tomas.fed(&["put", "-", "home:/note.txt"], &[7; 5000]).status.success());
    desk.press_part("Sign out: ").await;
    desk.says("Signed out there.").await;
    desk.says("last used").await;
    desk.press("Save").await;
    desk.says("Saved tomas of the desk").await;
    let now = ines.account("tomas").await.unwrap().account;
    assert_eq!((now.groups, now.quota), (vec!["Archive".to_string(), "Board".into()], Some(2 << 30)));
    assert!(ines.account("tomas").await.unwrap().sessions.is_empty());
    // A group's members, too.
    desk.page.goto(&format!("{}/desk/groups", service.address)).await.unwrap();
    desk.press_part("Board").await;
    desk.press("Without tomas of the desk").await;
    desk.press("Save").await;
    desk.says("Saved the group").await;
    assert_eq!(ines.group("Board").await.unwrap().people, 0);
    desk.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_day_is_written_or_taken_from_a_calendar_and_what_is_no_day_is_never_sent() {
    let (service, ines) = Service::ready().await;
    let home = ines.place("home:/", None).await.unwrap().node.id;
    ines.make_folder(home, "Plans").await.unwrap();
    let page = signed_in(&service, 1280, 800).await;
    page.page.goto(&format!("{}/shelf/home", service.address)).await.unwrap();
    page.click(&crate::console::row(&page, "Plans").await).await;
    page.press("Make a link and copy it").await;
    page.says("It is copied").await;
    page.press("All its terms").await;
    page.press("Change").await;
    page.fill("Until (optional)", "31 Feb 2030").await;
    page.press("Save").await;
    page.says("This is no day").await;
    page.is_accessible("a day that is none").await;
    let all = ines.given_out(&Default::default()).await.unwrap().given;
    assert!(all[0].until.is_none(), "what is no day was taken for none: {:?}", all[0].until);
    page.fill("Until (optional)", "24.12.2031").await;
    page.press("Calendar: Until (optional)").await;
    page.says("December 2031").await;
    page.is_accessible("a calendar").await;
    page.click("[data-day='2031-12-25'] button").await;
    page.press("Save").await;
    let until = || async { ines.given_out(&Default::default()).await.unwrap().given[0].until.clone() };
    assert!(eventually(async || until().await.is_some()).await);
    let until = until().await.unwrap();
    assert!(until.starts_with("2031-12-25") || until.starts_with("2031-12-26"), "{until}");
    page.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_buttons_of_every_dialog_stay_in_sight_in_a_small_window() {
    let (service, ines) = Service::ready().await;
    let home = ines.place("home:/", None).await.unwrap().node.id;
    ines.make_folder(home, "Plans").await.unwrap();
    account(&ines, "tomas", &[]).await;
    ines.make_shelf(&api::NewShelf { name: "Collections".into(), ..Default::default() }).await.unwrap();
    // As at 1280x800 with everything drawn twice as large.
    let page = signed_in(&service, 640, 547).await;
    let in_sight = async |what: &str| {
        let hidden = "const out = [];
            const d = [...document.querySelectorAll('[role=dialog]')].pop();
            if (!d) return ['no dialog'];
            const box = d.getBoundingClientRect();
            if (box.top < 0 || box.bottom > innerHeight || box.left < 0 || box.right > innerWidth) out.push('the dialog');
            const buttons = [...d.querySelectorAll('.sticky button, button[aria-label=Close]')];
            if (buttons.length === 0) out.push('no button');
            for (const b of buttons) {
              const r = b.getBoundingClientRect();
              const at = document.elementFromPoint(r.left + r.width / 2, r.top + r.height / 2);
              if (r.top < 0 || r.bottom > innerHeight || !b.contains(at)) out.push(b.innerText || b.ariaLabel);
            }
            return out;";
        let mut found = Value::Null;
        let begun = std::time::Instant::now();
        while begun.elapsed() < PATIENCE {
            found = page.page.execute(hidden, vec![]).await.unwrap();
            if found == json!([]) {
                return;
            }
            tokio::time::sleep(std::time::Duration::from_millis(100)).await;
        }
        panic!("{what}: out of sight: {found}");
    };
    let go = async |path: &str| {
        page.page.goto(&format!("{}{path}", service.address)).await.unwrap();
    };
    go("/desk/people").await;
    page.press("New account").await;
    in_sight("a new account").await;
    go("/desk/people").await;
    page.press("From a list").await;
    in_sight("a list of people").await;
    go("/desk/groups").await;
    page.press("New group").await;
    in_sight("a new group").await;
    go("/desk/shelves").await;
    page.press_part("Collections").await;
    in_sight("a shelf").await;
    go("/desk/rules").await;
    page.press_part("Shortest password").await;
    in_sight("a rule").await;
    let select = async || {
        go("/shelf/home").await;
        page.click(&crate::console::row(&page, "Plans").await).await;
    };
    for act in
        ["Give or take access", "Links and intakes", "Make a link and copy it", "Rename", "Move", "Remove"]
    {
        select().await;
        page.press(act).await;
        // Removing is undone, not asked about.
        if act != "Remove" {
            in_sight(act).await;
        }
    }
    go("/shelf/home").await;
    page.press("Snapshots").await;
    in_sight("snapshots").await;
    page.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn tiles_are_chosen_opened_and_removed_by_keys_as_rows_are_and_stay_as_they_were_left() {
    let (service, ines) = Service::ready().await;
    let home = ines.place("home:/", None).await.unwrap().node.id;
    for name in ["a.txt", "b.txt", "c.txt", "d.txt"] {
        ines.put(home, name, None, &Default::default(), b"x".to_vec().into()).await.unwrap();
    }
    ines.make_folder(home, "Plans").await.unwrap();
    let page = signed_in(&service, 1280, 947).await;
    page.page.goto(&format!("{}/shelf/home", service.address)).await.unwrap();
    let chosen = async || {
        let script = "return [...document.querySelectorAll('[aria-selected=true]')].map(e => e.dataset.name)";
        page.page.execute(script, vec![]).await.unwrap()
    };
    let wait = async |wanted: Value| {
        eventually(async || chosen().await == wanted).await;
        assert_eq!(chosen().await, wanted);
    };
    let key = |name: char| name.to_string();
    let (right, left, end, shift) = ('\u{e014}', '\u{e012}', '\u{e010}', '\u{e008}');
    for (what, next, before) in [("list", '\u{e015}', '\u{e013}'), ("tiles", right, left)] {
        if what == "tiles" {
            page.press("Show as tiles").await;
        }
        let list = page.find(&format!("[data-testid={what}]")).await;
        page.is_accessible(what).await;
        list.send_keys(&key('\u{e011}')).await.unwrap();
        wait(json!(["Plans"])).await;
        list.send_keys(&key(next)).await.unwrap();
        wait(json!(["a.txt"])).await;
        list.send_keys(&format!("{shift}{next}{next}")).await.unwrap();
        wait(json!(["a.txt", "b.txt", "c.txt"])).await;
        list.send_keys(&key(before)).await.unwrap();
        wait(json!(["b.txt"])).await;
        list.send_keys(&key(end)).await.unwrap();
        wait(json!(["d.txt"])).await;
        list.send_keys(&key('\u{e00c}')).await.unwrap();
        wait(json!([])).await;
    }
    // As it was left, for this folder alone.
    page.page.refresh().await.unwrap();
    let tiles = page.find("[data-testid=tiles]").await;
    tiles.send_keys(&key(end)).await.unwrap();
    wait(json!(["d.txt"])).await;
    tiles.send_keys(&key('\u{e017}')).await.unwrap();
    page.says_no_more("d.txt ").await;
    assert!(eventually(async || ines.place("home:/d.txt", None).await.is_err()).await, "removed by its key");
    let tiles = page.find("[data-testid=tiles]").await;
    tiles.send_keys(&format!("{}{}", '\u{e011}', '\u{e007}')).await.unwrap();
    page.says("Nothing is in this folder").await;
    page.close().await;
}

//! The pages about what is kept, in Chromium: snapshots, rollback, versions, trash, space, alarms, rules.

use crate::browser::Browser;
use crate::console::row;
use crate::support::{PASSWORD, PATIENCE, Service};
use fantoccini::Locator;
use yellow_attic_client::{Client, When, api};

/// A browser with Ines signed in.
pub async fn sign_in(service: &Service) -> Browser {
    let browser = Browser::open(1280, 947).await;
    browser.page.goto(&service.address).await.unwrap();
    browser.fill("Sign-in name", "ines").await;
    browser.fill("Password", PASSWORD).await;
    browser.press("Sign in").await;
    browser.says("yours alone").await;
    browser
}

async fn put(client: &Client, folder: i64, name: &str, bytes: impl Into<Vec<u8>>) -> api::Node {
    client.put(folder, name, None, &When::default(), bytes.into().into()).await.unwrap()
}

async fn text_of(client: &Client, node: i64) -> String {
    let mut stream = std::pin::pin!(client.content(node, None, 0).await.unwrap());
    let mut bytes = Vec::new();
    while let Some(piece) = futures_util::StreamExt::next(&mut stream).await {
        bytes.extend_from_slice(&piece.unwrap());
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

/// Chooses a word in the menu that is open.
async fn choose(browser: &Browser, word: &str) {
    let path = format!("//*[@role='menuitem'][normalize-space(.)='{word}']");
    let item = browser.page.wait().at_most(PATIENCE).for_element(Locator::XPath(&path)).await;
    item.unwrap_or_else(|e| panic!("no \"{word}\" in the menu: {e}")).click().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_is_looked_back_at_from_a_snapshot_rolled_back_and_that_is_taken_back() {
    let (service, client) = Service::ready().await;
    let home = client.place("home:/", None).await.unwrap().node.id;
    let plans = client.make_folder(home, "Plans").await.unwrap().id;
    let a = put(&client, plans, "a.txt", "first").await.id;
    let b = put(&client, plans, "b.txt", "bee").await.id;
    let browser = sign_in(&service).await;
    browser.page.goto(&format!("{}/shelf/home/Plans", service.address)).await.unwrap();
    row(&browser, "a.txt").await;

    // A snapshot is taken, and found again on the strip and in the list.
    browser.press("Snapshots").await;
    browser.says("None was taken so far").await;
    browser.fill("Label of a new one", "before the new hanging").await;
    browser.is_accessible("the snapshots").await;
    browser.press("Take it now").await;
    browser.says("by Ines Marrow").await;
    browser.press("Close").await;
    browser.find("[data-testid=strip] [data-mark]").await;

    // A computer rewrites one, removes one and adds one; in the browser somebody works on meanwhile.
    put(&client, plans, "a.txt", "rewritten by the computer").await;
    client.remove(b).await.unwrap();
    put(&client, plans, "c.txt", "new").await;
    put(&client, plans, "d.txt", "new as well").await;
    row(&browser, "d.txt").await;
    let dir = tempfile::tempdir().unwrap();
    let own = dir.path().join("minutes.txt");
    std::fs::write(&own, "what somebody wrote").unwrap();
    crate::console::upload(&browser, &own).await;
    row(&browser, "minutes.txt").await;
    browser.press("Close uploads").await;

    browser.press("Snapshots").await;
    browser.press_in_dialog("before the new hanging").await;
    browser.says("Snapshot \"before the new hanging\"").await;
    browser.says("get their earlier content").await;
    browser.says("Newer work in the way").await;
    browser.says("Roll back in 4 steps").await;
    browser.is_accessible("the folder then, with its rollback").await;
    browser.press("Roll back in 4 steps").await;
    browser.says("Rolled back: 4 steps").await;
    browser.says("it was to stay").await;
    assert_eq!(text_of(&client, a).await, "first");
    assert_eq!(text_of(&client, b).await, "bee");
    let names = async || {
        let entries = client.all_entries(plans, &Default::default()).await.unwrap();
        entries.into_iter().map(|e| e.name).collect::<Vec<_>>()
    };
    assert_eq!(names().await, ["a.txt", "b.txt", "minutes.txt"]);
    browser.press("Take it back").await;
    browser.says("Taken back").await;
    assert_eq!(names().await, ["a.txt", "c.txt", "d.txt", "minutes.txt"]);
    assert_eq!(text_of(&client, a).await, "rewritten by the computer");

    // On a phone the same is asked for, not in the way.
    browser.page.set_window_size(390, 844).await.unwrap();
    browser.page.refresh().await.unwrap();
    browser.says("Nothing can be changed in the past").await;
    browser.press("Roll back to here").await;
    browser.says("come back").await;
    browser.is_accessible("a rollback on a phone").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn versions_are_compared_named_restored_and_let_go_and_the_trash_is_looked_through() {
    let (service, client) = Service::ready().await;
    let home = client.place("home:/", None).await.unwrap().node.id;
    for text in ["lamp\nfog\n", "lamp\nmist\n", "lamp\nmist\ngull\n"] {
        put(&client, home, "log.txt", text).await;
    }
    for seed in ["one", "two"] {
        put(&client, home, "view.jpg", yellow_attic_demo::files::view_jpeg(seed)).await;
    }
    let inner = client.make_folder(home, "Old").await.unwrap().id;
    let lost = put(&client, inner, "lost.txt", "found again").await.id;
    let other = put(&client, home, "other.txt", "other").await.id;
    client.remove(lost).await.unwrap();
    client.remove(inner).await.unwrap();
    client.remove(other).await.unwrap();
    // By another device: the same one would go on with the same file.
    put(&service.client().await, home, "other.txt", "another of that name").await;
    let log = client.place("home:/log.txt", None).await.unwrap().node.id;
    let browser = sign_in(&service).await;
    browser.page.goto(&format!("{}/shelf/home", service.address)).await.unwrap();

    let css = row(&browser, "log.txt").await;
    browser.click(&css).await;
    browser.says("kept: no rule lets it go").await;
    let more = "[aria-label='History'] li:last-child [aria-label^='More about']";
    browser.click(more).await;
    browser.find("[role=menu]").await;
    browser.is_accessible("the menu of a version").await;
    choose(&browser, "Compare with now").await;
    browser.says("1 line only then, 2 lines only now").await;
    browser.is_accessible("a comparison of texts").await;
    browser.press("Close the comparison").await;
    browser.click(more).await;
    choose(&browser, "Give it a name, so that it stays").await;
    browser.fill("Name", "as signed").await;
    browser.press("Name it").await;
    browser.says("kept: it has a name").await;
    browser.click(more).await;
    choose(&browser, "Remove it for good").await;
    browser.says("Nothing of it can go").await;
    browser.says("log.txt: it has a name").await;
    browser.press("Cancel").await;
    let second = "[aria-label='History'] li:nth-child(2) [aria-label^='More about']";
    browser.click(second).await;
    choose(&browser, "Remove it for good").await;
    browser.says("1 state with 10 B would be gone for good").await;
    browser.is_accessible("removing for good").await;
    browser.press("Remove 10 B for good").await;
    browser.says("its bytes are no longer held").await;
    browser.click("[aria-label='History'] li:last-child [aria-label^='Restore the state']").await;
    browser.says("is again as it was").await;
    assert_eq!(text_of(&client, log).await, "lamp\nfog\n");

    let css = row(&browser, "view.jpg").await;
    browser.click(&css).await;
    browser.click("[aria-label='History'] li:last-child [aria-label^='More about']").await;
    choose(&browser, "Compare with now").await;
    browser.find("[role=dialog] input[type=range]").await;
    browser.is_accessible("a comparison of pictures").await;
    browser.press("Close the comparison").await;

    // The trash: where things were, whether their place is there, and the way back.
    browser.press("Show removed").await;
    browser.says("which is gone as well").await;
    browser.says("stays until somebody lets it go").await;
    browser.is_accessible("the trash").await;
    browser.press("Bring back lost.txt").await;
    browser.says("Brought back \"lost.txt\" to where it was").await;
    assert_eq!(client.place("home:/Old/lost.txt", None).await.unwrap().node.id, lost);
    browser.press("Bring back other.txt").await;
    browser.says("Something else is called \"other.txt\" by now").await;
    browser.press("Bring back under this name").await;
    browser.says_no_more("Something else is called").await;
    assert_eq!(client.place("home:/other brought back.txt", None).await.unwrap().node.id, other);
    client.remove(lost).await.unwrap();
    row(&browser, "lost.txt").await;
    browser.click("[aria-label='Choose lost.txt']").await;
    browser.press("Remove for good").await;
    // It was removed twice, and each time has its bytes.
    browser.press("Remove 22 B for good").await;
    browser.says("Gone for good: 2 states, 22 B").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_desk_tells_of_a_mass_change_and_shows_where_the_space_went() {
    let (service, client) = Service::ready().await;
    let home = client.place("home:/", None).await.unwrap().node.id;
    let season = client.make_folder(home, "Season").await.unwrap().id;
    for n in 0..30 {
        let text = format!("day {n}: wind west, lamp lit at four, two ships passed\n").repeat(30);
        put(&client, season, &format!("day-{n:02}.txt"), text).await;
    }
    // They have been there for an hour.
    let service = service.changed_and_started_again("UPDATE entries_now SET at = at - 3600000");
    let client = Client::new(&service.address, client.token()).unwrap();
    for n in 0..30u64 {
        let mut noise = vec![0; 3000];
        blake3::Hasher::new().update(&n.to_le_bytes()).finalize_xof().fill(&mut noise);
        put(&client, season, &format!("day-{n:02}.txt"), noise).await;
    }
    // Changes are looked at once a minute, and at the start.
    let service = service.killed_and_started_again();
    let browser = sign_in(&service).await;
    let address = &service.address;
    browser.page.goto(&format!("{address}/desk")).await.unwrap();
    browser.says("\"scanner room\" of Ines Marrow changed 30 files of 30").await;
    browser.is_accessible("what needs a decision").await;
    browser.press_part("Look and roll back").await;
    browser.says("This is the last moment before").await;
    browser.says("Roll back in 30 steps").await;
    browser.press("Roll back in 30 steps").await;
    browser.says("Rolled back: 30 steps").await;
    browser.page.goto(&format!("{address}/desk")).await.unwrap();
    browser.press_part("It is settled").await;
    // A disk under the test that can lose what was saved stays a thing to decide over.
    let left = match service.client().await.store_state().await.unwrap().durability.as_str() {
        "unsafe" => "A power cut can take away saved files",
        _ => "Nothing does, just now",
    };
    browser.says(left).await;
    browser.says_no_more("It is settled").await;

    // Where the space went: for everybody, and for the desk with quotas and the cost of history.
    browser.page.goto(&format!("{address}/space")).await.unwrap();
    browser.says("Where it is").await;
    browser.says("Largest files").await;
    browser.press_part("Home of ines").await;
    browser.press_part("Season").await;
    browser.is_accessible("space").await;
    browser.page.goto(&format!("{address}/desk/space")).await.unwrap();
    browser.says("What history costs on the disk").await;
    browser.press_part("Quota of a folder").await;
    browser.fill("Folder", "home:/Season").await;
    browser.fill("Soft line (optional)", "9 GiB").await;
    browser.fill("Hard line (optional)", "5 MiB").await;
    browser.press("Save").await;
    browser.says("The soft line lies above the hard one").await;
    browser.fill("Soft line (optional)", "20 KiB").await;
    browser.is_accessible("a quota").await;
    browser.press("Save").await;
    browser.says("nearly full").await;
    browser.is_accessible("space on the desk").await;
    browser.page.goto(&format!("{address}/desk/now")).await.unwrap();
    browser.says("left, soft line at 20.0 KiB").await;

    // A rule about what is kept shows what it would do while one writes it.
    browser.page.goto(&format!("{address}/desk/rules")).await.unwrap();
    browser.press_part("Which versions are kept").await;
    browser.fill("Value", "last 1").await;
    browser.says("would be gone for good; none do now").await;
    browser.is_accessible("a rule with its preview").await;
    browser.fill("Value", "last some").await;
    browser.says("It can be all, none, or some of").await;
    browser.close().await;
}

//! The API through the typed client.

use crate::support::{PASSWORD, Service};
use futures_util::StreamExt;
use yellow_attic_client::{Body, Client, When, api};

async fn bytes(client: &Client, node: i64, at: Option<&str>, from: u64) -> Vec<u8> {
    let mut stream = std::pin::pin!(client.content(node, at, from).await.unwrap());
    let mut all = Vec::new();
    while let Some(piece) = stream.next().await {
        all.extend_from_slice(&piece.unwrap());
    }
    all
}

async fn home(client: &Client) -> i64 {
    client.place("home:/", None).await.unwrap().node.id
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_goes_up_is_listed_comes_down_and_is_found_as_it_was() {
    let (service, client) = Service::ready().await;
    let home = home(&client).await;
    let folder = client.make_folder(home, "Logbooks").await.unwrap();
    let first = client
        .put(folder.id, "p014.txt", None, &When::default(), b"fog at six".to_vec().into())
        .await
        .unwrap();
    let when = When { matches: first.etag.clone(), ..When::default() };
    let second = client.put(folder.id, "p014.txt", None, &when, b"clear".to_vec().into()).await.unwrap();
    assert_eq!(first.id, second.id);
    let stale = client.put(folder.id, "p014.txt", None, &when, b"late".to_vec().into()).await.unwrap_err();
    assert_eq!(stale.code(), Some("changed_meanwhile"));
    let none = When { nothing_there: true, ..When::default() };
    let there = client.put(folder.id, "p014.txt", None, &none, b"late".to_vec().into()).await.unwrap_err();
    assert_eq!(there.code(), Some("changed_meanwhile"));
    assert_eq!(bytes(&client, first.id, None, 0).await, b"clear");
    assert_eq!(bytes(&client, first.id, Some(&first.moment), 4).await, b"at six");
    let listed = client.all_entries(folder.id, &Default::default()).await.unwrap();
    assert_eq!(listed.len(), 1);
    assert_eq!(listed[0].by.as_deref(), Some("Ines Marrow, scanner room"));
    let history = client.history(first.id).await.unwrap();
    assert_eq!(history.states.len(), 2);
    let back = api::Restore { at: Some(first.moment.clone()), ..Default::default() };
    client.restore(first.id, &back).await.unwrap();
    assert_eq!(bytes(&client, first.id, None, 0).await, b"fog at six");
    let shelves = client.shelves().await.unwrap();
    assert_eq!(shelves.shelves[0].sums.files, 1);
    assert_eq!(shelves.shelves[0].latest[0].name, "p014.txt");
    drop(service);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_large_body_streams_up_and_down_in_parts() {
    let (service, client) = Service::ready().await;
    let home = home(&client).await;
    let content: Vec<u8> = (0..9_000_000u32).map(|i| (i.wrapping_mul(2_654_435_761) >> 11) as u8).collect();
    let body = Body::stream(
        None,
        futures_util::stream::iter(content.chunks(70_000).map(|c| Ok(c.to_vec().into())).collect::<Vec<_>>()),
    );
    let node =
        client.put(home, "large.bin", Some("2026-01-02T03:04:05Z"), &When::default(), body).await.unwrap();
    assert_eq!(node.blake3.as_deref(), Some(blake3::hash(&content).to_hex().as_str()));
    assert_eq!(node.modified, "2026-01-02T03:04:05Z");
    assert!(bytes(&client, node.id, None, 0).await == content);
    assert!(bytes(&client, node.id, None, 8_999_990).await == content[8_999_990..]);
    assert!(service.staging_is_clean());
    assert_eq!(std::fs::read(service.data.join("shelves/main/home/ines/large.bin")).unwrap(), content);
}

#[tokio::test(flavor = "multi_thread")]
async fn changes_are_told_since_a_moment() {
    let (_service, client) = Service::ready().await;
    let home = home(&client).await;
    let start = client.changes(home, &Default::default()).await.unwrap();
    client.put(home, "a", None, &When::default(), b"1".to_vec().into()).await.unwrap();
    let b = client.put(home, "b", None, &When::default(), b"1".to_vec().into()).await.unwrap();
    client.remove(b.id).await.unwrap();
    let query = api::ChangesQuery { since: Some(start.upto), ..Default::default() };
    let told = client.changes(home, &query).await.unwrap();
    let words: Vec<_> = told.changes.iter().map(|c| (c.what.as_str(), c.node.name.as_str())).collect();
    assert_eq!(words, [("changed", "a"), ("removed", "b")]);
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_gets_in_without_signing_in_and_guessing_is_slowed() {
    let (service, client) = Service::ready().await;
    let stranger = Client::new(&service.address, None).unwrap();
    assert_eq!(stranger.shelves().await.unwrap_err().code(), Some("not_signed_in"));
    let wrong = Client::new(&service.address, Some(&"0".repeat(64))).unwrap();
    assert_eq!(wrong.shelves().await.unwrap_err().code(), Some("not_signed_in"));
    let guess = |password: &str| api::NewDevice {
        sign_in: "ines".into(),
        password: password.into(),
        device: "x".into(),
        ..Default::default()
    };
    for n in 0..5 {
        // The same wrong password again, as a program with an old one sends it, costs nothing.
        for _ in 0..4 {
            let told = stranger.connect(&guess(&format!("guess {n}"))).await.err().unwrap();
            assert_eq!(told.code(), Some("wrong_sign_in"));
        }
    }
    // Now even the right password waits; who is signed in goes on.
    assert_eq!(stranger.connect(&guess(PASSWORD)).await.err().unwrap().code(), Some("too_many_attempts"));
    client.shelves().await.unwrap();
    client.disconnect().await.unwrap();
    assert_eq!(client.shelves().await.unwrap_err().code(), Some("not_signed_in"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_set_up_address_works_once_and_refuses_weak_passwords() {
    let mut service = Service::new();
    let code = service.set_up_code.clone().unwrap();
    let stranger = Client::new(&service.address, None).unwrap();
    assert!(stranger.welcome().await.unwrap().needs_set_up);
    let body = |code: &str, password: &str| api::SetUp {
        code: code.into(),
        sign_in: "ines".into(),
        display_name: String::new(),
        password: password.into(),
    };
    assert_eq!(
        stranger.set_up(&body("nonsense", PASSWORD)).await.unwrap_err().code(),
        Some("set_up_code_wrong")
    );
    assert_eq!(stranger.set_up(&body(&code, "short")).await.unwrap_err().code(), Some("password_refused"));
    service.set_up().await;
    assert!(!stranger.welcome().await.unwrap().needs_set_up);
    assert_eq!(stranger.set_up(&body(&code, PASSWORD)).await.unwrap_err().code(), Some("set_up_code_wrong"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_api_describes_itself_and_says_how_it_is() {
    let (service, _) = Service::ready().await;
    let get = async |path: &str| reqwest::get(format!("{}{path}", service.address)).await.unwrap();
    let description: serde_json::Value = get("/api/openapi.json").await.json().await.unwrap();
    let paths = description["paths"].as_object().unwrap();
    for path in
        ["/api/v1/nodes/{node}/entries", "/api/v1/files/{shelf}/{path}", "/api/v1/place", "/api/v1/set-up"]
    {
        assert!(paths.contains_key(path), "{path} is not described");
    }
    assert_eq!(get("/healthz").await.text().await.unwrap(), "ok\n");
    assert_eq!(get("/readyz").await.text().await.unwrap(), "ready\n");
    let page = get("/").await;
    let policy = page.headers()["content-security-policy"].to_str().unwrap().to_string();
    assert!(policy.contains("default-src 'none'") && !policy.contains("unsafe"), "{policy}");
    assert_eq!(page.headers()["x-content-type-options"], "nosniff");
}

//! Intakes: what is taken, what is kept, and who is told.

use super::*;
use crate::people::Sink;
use crate::support::{PATIENCE, Service};

#[tokio::test(flavor = "multi_thread")]
async fn an_intake_takes_what_it_says_keeps_all_and_tells_nothing() {
    let (service, ines) = Service::ready().await;
    let top = home(&ines).await;
    let folder = ines.make_folder(top, "Drawings").await.unwrap().id;
    put(&ines, folder, "Elm School", b"a file of that name is here").await;
    let terms = api::OpeningSet {
        kinds: Some("pictures, .txt".into()),
        largest_file: Some(1000),
        largest_all: Some(2500),
        most: Some(5),
        ..set()
    };
    let (id, address) = made(&ines, intake(folder, terms)).await;
    let out = Stranger::new();
    let (status, page) = out.page(&address).await;
    assert!(status == 200 && page.contains("pictures") && page.contains("1000 B"), "{page}");
    assert!(!page.contains("Drawings") && !page.contains("Elm"), "where it goes is not told: {page}");

    // The same name twice, by two senders and in folders; the receipt does not reveal the number.
    let one = out.begin(&address, "Elm School").await.unwrap();
    assert_eq!(out.send(&address, &one, "", "tower.txt", b"one").await.0, 201);
    assert_eq!(out.send(&address, &one, "", "tower.txt", b"two").await.0, 201);
    assert_eq!(out.send(&address, &one, "class 2/a", "tower.txt", b"three").await.0, 201);
    let (status, receipt) = out.done(&address, &one).await;
    assert_eq!(status, 200);
    let names: Vec<&str> =
        receipt["files"].as_array().unwrap().iter().map(|f| f["path"].as_str().unwrap()).collect();
    assert_eq!(names, ["tower.txt", "tower.txt", "class 2/a/tower.txt"]);
    assert_eq!(receipt["files"][0]["blake3"], blake3::hash(b"one").to_hex().to_string());
    assert_eq!(out.send(&address, &one, "", "late.txt", b"x").await, (409, "delivery_done".into()));
    let two = out.begin(&address, "Elm School").await.unwrap();
    assert_eq!(out.send(&address, &two, "", "tower.txt", b"four").await.0, 201);
    let lies =
        async |place: &str| ines.place(&format!("home:/Drawings/{place}"), None).await.map(|f| f.node.id);
    for (place, bytes) in [
        ("Elm School (2)/tower.txt", "one"),
        ("Elm School (2)/tower (2).txt", "two"),
        ("Elm School (2)/class 2/a/tower.txt", "three"),
        ("Elm School (3)/tower.txt", "four"),
        ("Elm School", "a file of that name is here"),
    ] {
        assert_eq!(ines.read(lies(place).await.unwrap()).await, bytes.as_bytes(), "{place}");
    }

    // What is refused leaves nothing.
    let sender = "../../etc/cron.d";
    let three = out.begin(&address, sender).await.unwrap();
    let fate = async |way: &str, name: &str, bytes: &[u8]| out.send(&address, &three, way, name, bytes).await;
    assert_eq!(fate("", "a.exe", b"MZ").await, (415, "kind_not_taken".into()));
    assert_eq!(fate("", "a.png", b"<html><script>alert(1)</script>").await, (415, "kind_lies".into()));
    assert_eq!(fate("", "big.txt", &[b'x'; 1001]).await, (413, "file_too_large".into()));
    assert_eq!(fate("../..", "up.txt", b"x").await.0, 400);
    assert_eq!(fate("", "../up.txt", b"x").await.0, 400);
    assert_eq!(out.done(&address, &three).await.0, 409, "nothing has arrived");
    assert!(lies("etc cron.d").await.is_err(), "no folder without a file");
    assert_eq!(fate("", "a.txt", &[b'x'; 1000]).await.0, 201);
    assert_eq!(fate("", "b.txt", &[b'x'; 1000]).await.0, 201);
    assert_eq!(fate("", "c.txt", &[b'x'; 1000]).await, (413, "delivery_too_large".into()));
    assert!(lies("etc cron.d/a.txt").await.is_ok());
    assert!(service.staging_is_clean());

    // Another's delivery, a made-up one, other routes: nothing.
    for path in ["at/Elm School (2)/tower.txt", "take/", "look/", "delivery"] {
        assert_eq!(out.get(&format!("{address}/{path}")).await.status(), 404, "{path}");
    }
    let ending = address.rsplit('/').next().unwrap();
    assert_eq!(out.get(&format!("{}/open/{ending}", service.address)).await.status(), 404);
    for name in ["", "  ", "a\nb", &"n".repeat(81)] {
        assert_eq!(out.begin(&address, name).await.unwrap_err().0, 400, "{name:?}");
    }

    // Deliveries are counted: two more, then none; one under way goes on.
    let four = out.begin(&address, "Reed Point").await.unwrap();
    out.begin(&address, "Gull Bay").await.unwrap();
    assert_eq!(out.begin(&address, "Too late").await, Err((410, "used_up".into())));
    assert_eq!(out.send(&address, &four, "", "d.txt", b"d").await.0, 201);
    assert_eq!(out.done(&address, &four).await.0, 200);

    // Its maker sees who sent what from where.
    let deliveries = ines.deliveries(id).await.unwrap().deliveries;
    let senders: Vec<(&str, u64, &str)> =
        deliveries.iter().map(|d| (d.sender.as_str(), d.files, d.state.as_str())).collect();
    assert_eq!(
        senders,
        [
            ("Gull Bay", 0, "under way"),
            ("Reed Point", 1, "done"),
            (sender, 2, "under way"),
            ("Elm School", 1, "under way"),
            ("Elm School", 3, "done"),
        ]
    );
    assert!(deliveries.iter().all(|d| d.from == "127.0.0.1"));
    // Over a restart all goes on.
    let service = service.killed_and_started_again();
    let address = format!("{}/give/{ending}", service.address);
    assert_eq!(out.send(&address, &two, "", "e.txt", b"e").await.0, 201);
    let (_, receipt) = out.done(&address, &two).await;
    assert_eq!(receipt["files"].as_array().unwrap().len(), 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_delivery_goes_on_after_a_broken_line_and_a_flood_of_tiny_files_arrives_whole() {
    let (service, ines) = Service::ready().await;
    let folder = ines.make_folder(home(&ines).await, "In").await.unwrap().id;
    let (id, address) = made(&ines, intake(folder, set())).await;
    let out = Stranger::new();
    let delivery = out.begin(&address, "Harbour").await.unwrap();

    // Half a file, then the line breaks; it is asked how far, and gone on with.
    let word = |text: &str| base64::engine::general_purpose::STANDARD.encode(text);
    let metadata = format!("filename {},way ", word("half.bin"));
    let headers = [
        ("tus-resumable", "1.0.0"),
        ("upload-length", "2000000"),
        ("upload-metadata", metadata.as_str()),
        ("delivery", delivery.as_str()),
    ];
    let begun = out.call(Method::POST, &format!("{address}/uploads"), &headers, vec![]).await;
    assert_eq!(begun.status(), 201);
    let place = format!("{}{}", service.address, begun.headers()["location"].to_str().unwrap());
    assert!(!begun.headers().contains_key("content-location"), "no number of a file is told");
    let host = service.address.trim_start_matches("http://");
    let path = place.trim_start_matches(&service.address).to_string();
    let half = vec![7u8; 900_000];
    let ask = format!(
        "PATCH {path} HTTP/1.1\r\nHost: {host}\r\nTus-Resumable: 1.0.0\r\nUpload-Offset: 0\r\nDelivery: {delivery}\r\n\
         Content-Type: application/offset+octet-stream\r\nContent-Length: 2000000\r\n\r\n"
    );
    service.raw(&[ask.as_bytes(), &half].concat());
    let asked = [("tus-resumable", "1.0.0"), ("delivery", delivery.as_str())];
    let so_far = out.call(Method::HEAD, &place, &asked, vec![]).await;
    let offset = so_far.headers()["upload-offset"].to_str().unwrap().to_string();
    assert_eq!(offset, "900000");
    // Not by another delivery.
    let other = out.begin(&address, "Somebody else").await.unwrap();
    let foreign = [("tus-resumable", "1.0.0"), ("delivery", other.as_str())];
    assert_eq!(out.call(Method::HEAD, &place, &foreign, vec![]).await.status(), 404);
    let go_on = [
        ("tus-resumable", "1.0.0"),
        ("upload-offset", offset.as_str()),
        ("content-type", "application/offset+octet-stream"),
        ("delivery", delivery.as_str()),
    ];
    assert_eq!(out.call(Method::PATCH, &place, &go_on, vec![7u8; 1_100_000]).await.status(), 204);

    // Two thousand tiny files, twenty at a time.
    let mut sending = tokio::task::JoinSet::new();
    for worker in 0..20 {
        let (address, delivery) = (address.clone(), delivery.clone());
        sending.spawn(async move {
            let out = Stranger::new();
            for n in 0..100 {
                let name = format!("tiny-{worker}-{n}.txt");
                assert_eq!(out.send(&address, &delivery, "all", &name, name.as_bytes()).await.0, 201);
            }
        });
    }
    sending.join_all().await;
    let (status, receipt) = out.done(&address, &delivery).await;
    assert_eq!((status, receipt["files"].as_array().unwrap().len()), (200, 2001));
    let told = &ines.deliveries(id).await.unwrap().deliveries[1];
    assert_eq!((told.files, told.state.as_str()), (2001, "done"));
    let all = ines.place("home:/In/Harbour/all", None).await.unwrap();
    assert_eq!(all.node.sums.map(|s| s.files), Some(2000));
    assert!(service.staging_is_clean());

    // It cannot fill the disk: the quota of the shelf holds, and both sides are told.
    let quota = api::AccountChange { quota: Some("2000000".into()), ..Default::default() };
    ines.change_account("ines", &quota).await.unwrap();
    let (status, code) = out.send(&address, &other, "", "more.txt", &[1; 100_000]).await;
    assert_eq!((status, code.as_str()), (507, "quota_full"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_delivery_is_told_by_event_and_by_mail_gathered() {
    let sink = Sink::start(&[]);
    let dir = tempfile::tempdir().unwrap();
    let config = dir.path().join("yatticd.toml");
    let text = format!(
        "mail_server = \"127.0.0.1:{}\"\nmail_tls = \"none\"\nmail_from = \"Lamp House <files@lamp.example>\"\n",
        sink.port
    );
    std::fs::write(&config, text).unwrap();
    let mut service = Service::start_with(&dir.path().join("data"), &["--config", config.to_str().unwrap()]);
    service.set_up().await;
    let ines = service.client().await;
    let mail = api::AccountChange { mail: Some("ines@lamp.example".into()), ..Default::default() };
    ines.change_account("ines", &mail).await.unwrap();
    let folder = ines.make_folder(home(&ines).await, "In").await.unwrap().id;
    let terms = api::OpeningSet { asks_mail: Some(true), title: Some("Drawings".into()), ..set() };
    let (_, address) = made(&ines, intake(folder, terms)).await;
    let http = reqwest::Client::new();
    let mut events = http
        .get(format!("{}/api/v1/events", service.address))
        .bearer_auth(ines.token().unwrap())
        .send()
        .await
        .unwrap();
    let out = Stranger::new();
    assert_eq!(out.begin(&address, "Elm School").await.unwrap_err().1, "mail_needed");
    for (sender, to) in [("Elm School", "elm@school.example"), ("Gull Bay", "gull@school.example")] {
        let body = json!({ "name": sender, "mail": to }).to_string().into_bytes();
        let kind = [("content-type", "application/json")];
        let begun = out.call(Method::POST, &format!("{address}/deliveries"), &kind, body).await;
        let begun: Value = begun.json().await.unwrap();
        let delivery = begun["delivery"].as_str().unwrap();
        out.send(&address, delivery, "", "tower.txt", b"tower").await;
        assert_eq!(out.done(&address, delivery).await.0, 200);
        // The sender has a receipt, with the checksum, and with nothing that somebody else could have written.
        let receipt = sink.letter(to, "were handed in by somebody");
        assert!(receipt.contains(&blake3::hash(b"tower").to_hex().to_string()), "{receipt}");
        assert!(!receipt.contains("tower.txt") && !receipt.contains(sender), "{receipt}");
    }
    let told = async {
        let mut text = String::new();
        while let Some(piece) = events.chunk().await.unwrap() {
            text.push_str(&String::from_utf8_lossy(&piece));
            if text.contains("event: openings") {
                return true;
            }
        }
        false
    };
    assert!(tokio::time::timeout(PATIENCE, told).await.unwrap());
    // Both in one letter, once nothing has come for a while.
    let begun = std::time::Instant::now();
    let letter = loop {
        if let Some(letter) = sink.find("ines@lamp.example", "handed in at") {
            break letter;
        }
        assert!(begun.elapsed().as_secs() < 120, "the owner was not told");
        tokio::time::sleep(std::time::Duration::from_millis(200)).await;
    };
    assert!(letter.contains("Elm School") && letter.contains("Gull Bay"), "{letter}");
    assert!(letter.contains("2 deliveries"), "{letter}");
}

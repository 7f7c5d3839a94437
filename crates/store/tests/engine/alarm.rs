//! The alarm on mass change against ways of working, which must not raise it, and against what malware does.

use crate::support::Attic;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::rules::{Door, Rule, Scope};
use yellow_attic_store::Actor;

/// Files of each kind on the shelf.
const EACH: usize = 100;

/// Bytes that look like noise.
fn random(seed: &str, length: usize) -> Vec<u8> {
    let mut bytes = vec![0; length];
    blake3::Hasher::new().update(seed.as_bytes()).finalize_xof().fill(&mut bytes);
    bytes
}

/// Packed bytes that say what they are.
fn packed(kind: &[u8], seed: &str) -> Vec<u8> {
    [kind, &random(seed, 6000)].concat()
}

const JPEG: &[u8] = b"\xff\xd8\xff\xe0";
const MP4: &[u8] = b"\0\0\0\x20ftypmp42";
const MKV: &[u8] = b"\x1a\x45\xdf\xa3";
const ZIP: &[u8] = b"PK\x03\x04";
const GZIP: &[u8] = b"\x1f\x8b\x08\0";

fn text(seed: usize) -> Vec<u8> {
    format!("day {seed}: wind west, lamp lit at four, two ships passed; oil for three weeks\n")
        .repeat(90)
        .into_bytes()
}

/// A shelf with four hundred files of long ago, and a laptop that changes them.
struct Scene {
    attic: Attic,
    laptop: Actor,
}

impl Scene {
    async fn new() -> Scene {
        let attic = Attic::new().await;
        let account = attic.ines.account.unwrap();
        attic.engine.sign_ins().make_device(&attic.ines, account, "laptop", [7; 32], None).await.unwrap();
        let laptop = attic.device(attic.engine.sign_ins().devices(account).await.unwrap()[0].id.0);
        for folder in ["logs", "pictures", "films", "papers", "git", "new"] {
            attic.mkdir(folder).await;
        }
        for i in 0..EACH {
            attic.put(&format!("logs/{i}.csv"), &text(i)).await;
            attic.put(&format!("pictures/{i}.jpeg"), &packed(JPEG, &format!("p{i}"))).await;
            attic.put(&format!("films/{i}.mp4"), &packed(MP4, &format!("f{i}"))).await;
            attic.put(&format!("papers/{i}.docx"), &packed(ZIP, &format!("d{i}"))).await;
        }
        for i in 0..60 {
            attic.put(&format!("git/o{i}"), &packed(b"\x78\x01", &format!("o{i}"))).await;
        }
        attic.clock.advance(86_400_000);
        let scene = Scene { attic, laptop };
        assert!(!scene.alarmed().await);
        scene
    }

    async fn put(&self, path: &str, bytes: &[u8]) {
        self.attic.put_as(&self.laptop, path, bytes).await.unwrap();
        self.attic.clock.advance(300);
    }

    async fn mv(&self, from: &str, to: &str) {
        self.attic.mv_as(&self.laptop, from, to, true).await.unwrap();
        self.attic.clock.advance(200);
    }

    async fn rm(&self, path: &str) {
        let node = self.attic.find(path).await.unwrap().node;
        self.attic.engine.files().remove(&self.laptop, node, Conditions::default()).await.unwrap();
        self.attic.clock.advance(200);
    }

    /// Looks, and tells whether an alarm is up.
    async fn alarmed(&self) -> bool {
        self.attic.engine.history().watch_for_mass_change().await.unwrap();
        !self.attic.engine.history().alarms(true).await.unwrap().is_empty()
    }
}

/// One file's worth of a way of working.
async fn work(s: &Scene, way: &str, i: usize) {
    let temporary = format!("{:06x}", i * 7919 + 77);
    match way {
        "copying pictures in through a mounted folder" => {
            s.put(&format!("new/{i}.jpg"), b"").await;
            s.put(&format!("new/{i}.jpg"), &packed(JPEG, &format!("new{i}"))).await;
        }
        "copying sealed backups in, an empty file first" => {
            s.put(&format!("new/{i}.age"), b"").await;
            s.put(&format!("new/{i}.age"), &random(&format!("b{i}"), 500)).await;
            s.put(&format!("new/{i}.age"), &random(&format!("b{i}"), 9000)).await;
        }
        "unpacking an archive" => {
            s.put(&format!("new/{i}.txt"), &text(i)).await;
            s.put(&format!("new/{i}.dat"), &random(&format!("u{i}"), 5000)).await;
        }
        "rsync over texts that are there" => {
            s.put(&format!("logs/.{i}.csv.{temporary}"), &text(i + 1000)).await;
            s.mv(&format!("logs/.{i}.csv.{temporary}"), &format!("logs/{i}.csv")).await;
        }
        "rsync of large new files" => {
            s.put(&format!("new/.{i}.vault.{temporary}"), &random(&format!("r{i}"), 9000)).await;
            s.attic.clock.advance(90_000);
            s.mv(&format!("new/.{i}.vault.{temporary}"), &format!("new/{i}.vault")).await;
        }
        "git gathering its objects" => {
            if i == 0 {
                s.put("git/tmp_pack_x", &packed(b"PACK", "pack")).await;
                s.mv("git/tmp_pack_x", "git/pack-1.pack").await;
                s.put("git/index.lock", &packed(b"DIRC", "index")).await;
                s.mv("git/index.lock", "git/index").await;
            }
            s.put(&format!("git/tmp_obj_{temporary}"), &packed(b"\x78\x01", &format!("g{i}"))).await;
            s.mv(&format!("git/tmp_obj_{temporary}"), &format!("git/n{i}")).await;
            if i < 60 {
                s.rm(&format!("git/o{i}")).await;
            }
        }
        "exporting photos over earlier exports" => {
            s.put(&format!("pictures/{i}.jpeg"), &packed(JPEG, &format!("again{i}"))).await;
        }
        "re-encoding a folder of films" => {
            s.put(&format!("films/{i}.mkv.part"), &packed(MKV, &format!("k{i}"))).await;
            s.attic.clock.advance(70_000);
            s.mv(&format!("films/{i}.mkv.part"), &format!("films/{i}.mkv")).await;
            s.rm(&format!("films/{i}.mp4")).await;
        }
        "saving papers as programs do" => {
            s.put(&format!("papers/~wr{i:04}.tmp"), &packed(ZIP, &format!("s{i}"))).await;
            s.mv(&format!("papers/{i}.docx"), &format!("papers/{i}.docx~")).await;
            s.mv(&format!("papers/~wr{i:04}.tmp"), &format!("papers/{i}.docx")).await;
            s.rm(&format!("papers/{i}.docx~")).await;
        }
        "tidying endings up" => s.mv(&format!("pictures/{i}.jpeg"), &format!("pictures/{i}.jpg")).await,
        "packing logs one by one" => {
            s.put(&format!("logs/{i}.csv.gz"), &packed(GZIP, &format!("z{i}"))).await;
            s.rm(&format!("logs/{i}.csv")).await;
        }
        "packing logs in their place" => {
            s.put(&format!("logs/{i}.csv"), &packed(GZIP, &format!("z{i}"))).await
        }
        "sorting pictures into folders by day" => {
            s.mv(&format!("pictures/{i}.jpeg"), &format!("new/2026-03-{:02} {i}.jpeg", i % 28 + 1)).await;
        }
        "replacing words in all texts" => {
            s.put(&format!("logs/sed{temporary}"), &text(i + 5)).await;
            s.mv(&format!("logs/sed{temporary}"), &format!("logs/{i}.csv")).await;
        }
        "a sealed box that is written to all day" => {
            s.put("new/box.vault", &random(&format!("v{i}"), 20_000)).await;
            s.attic.clock.advance(120_000);
        }
        "downloads that are finished one by one" => {
            s.put(&format!("new/{i}.iso.crdownload"), &random(&format!("i{i}"), 9000)).await;
            s.attic.clock.advance(80_000);
            s.mv(&format!("new/{i}.iso.crdownload"), &format!("new/{i}.img")).await;
        }
        "clearing up, and adding sealed things elsewhere" => {
            s.rm(&format!("logs/{i}.csv")).await;
            s.put(&format!("new/{i}.age"), &random(&format!("e{i}"), 3000)).await;
        }
        other => panic!("{other}"),
    }
}

const QUIET: [&str; 17] = [
    "copying pictures in through a mounted folder",
    "copying sealed backups in, an empty file first",
    "unpacking an archive",
    "rsync over texts that are there",
    "rsync of large new files",
    "git gathering its objects",
    "exporting photos over earlier exports",
    "re-encoding a folder of films",
    "saving papers as programs do",
    "tidying endings up",
    "packing logs one by one",
    "packing logs in their place",
    "sorting pictures into folders by day",
    "replacing words in all texts",
    "a sealed box that is written to all day",
    "downloads that are finished one by one",
    "clearing up, and adding sealed things elsewhere",
];

#[tokio::test(flavor = "multi_thread")]
async fn ways_of_working_raise_no_alarm() {
    for way in QUIET {
        let scene = Scene::new().await;
        for i in 0..EACH {
            work(&scene, way, i).await;
            if i % 10 == 0 {
                assert!(!scene.alarmed().await, "{way}, at file {i}");
            }
        }
        assert!(!scene.alarmed().await, "{way}");
    }
}

/// What malware makes of one file of the shelf.
async fn harm(s: &Scene, kind: &str, i: usize) {
    let (dir, end) = [("logs", "csv"), ("pictures", "jpeg"), ("papers", "docx"), ("films", "mp4")][i % 4];
    let path = format!("{dir}/{}.{end}", i / 4);
    let noise = random(&format!("{kind} {i}"), 6000);
    match kind {
        "in place" => s.put(&path, &noise).await,
        "a copy beside, and the file removed" => {
            s.put(&format!("{path}.tide"), &noise).await;
            s.rm(&path).await;
        }
        "a copy by a name of its own, and the file removed" => {
            s.put(&format!("{dir}/{}", &blake3::hash(path.as_bytes()).to_hex()[..12]), &noise).await;
            s.rm(&path).await;
        }
        "renamed first" => {
            s.mv(&path, &format!("{path}.tide")).await;
            s.put(&format!("{path}.tide"), &noise).await;
        }
        "renamed at the end, by a known ending" => {
            s.put(&path, &noise).await;
            s.mv(&path, &format!("{path}.zip")).await;
        }
        "slowly" => {
            s.put(&path, &noise).await;
            s.attic.clock.advance(20 * 60_000);
        }
        "a part of each, the beginning spared" => {
            let mut bytes = text(i);
            let from = bytes.len() / 3;
            bytes[from..from + 2000].copy_from_slice(&noise[..2000]);
            s.put(&format!("logs/{i}.csv"), &bytes).await;
        }
        "emptied first, then written in bits" => {
            s.put(&path, b"").await;
            s.put(&path, &noise[..1000]).await;
            s.put(&path, &noise).await;
        }
        "moved away, and noise in its place" => {
            s.mv(&path, &format!("new/{i}.moved")).await;
            s.put(&path, &noise).await;
            s.rm(&format!("new/{i}.moved")).await;
        }
        other => panic!("{other}"),
    }
}

const HARMFUL: [&str; 9] = [
    "in place",
    "a copy beside, and the file removed",
    "a copy by a name of its own, and the file removed",
    "renamed first",
    "renamed at the end, by a known ending",
    "slowly",
    "a part of each, the beginning spared",
    "emptied first, then written in bits",
    "moved away, and noise in its place",
];

#[tokio::test(flavor = "multi_thread")]
async fn what_malware_does_raises_it_within_sixty_files() {
    for kind in HARMFUL {
        let scene = Scene::new().await;
        let mut hit = 0;
        while !scene.alarmed().await {
            assert!(hit < 60, "{kind}: {hit} files and no alarm");
            for _ in 0..5 {
                harm(&scene, kind, hit).await;
                hit += 1;
            }
        }
        let alarms = scene.attic.engine.history().alarms(true).await.unwrap();
        assert_eq!(alarms.len(), 1, "{kind}");
        assert_eq!(alarms[0].device, scene.laptop.device, "{kind}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_settled_does_not_count_again_and_what_comes_after_does() {
    let scene = Scene::new().await;
    for i in 0..60 {
        harm(&scene, "in place", i).await;
    }
    assert!(scene.alarmed().await);
    let first = scene.attic.engine.history().alarms(true).await.unwrap()[0].id;
    scene.attic.engine.history().settle_alarm(&scene.attic.ines, first).await.unwrap();
    scene.attic.clock.advance(60_000);
    scene.put("new/a", b"1").await;
    assert!(!scene.alarmed().await, "it was settled");
    for i in 60..120 {
        harm(&scene, "in place", i).await;
    }
    assert!(scene.alarmed().await, "it goes on");
    assert_ne!(scene.attic.engine.history().alarms(true).await.unwrap()[0].id, first);
}

#[tokio::test(flavor = "multi_thread")]
async fn who_comes_with_a_password_is_shut_out_of_that_door_until_it_is_settled() {
    let mut scene = Scene::new().await;
    scene.laptop = scene.attic.ines.clone();
    let engine = &scene.attic.engine;
    let close = Rule::MassChange.read("close").unwrap();
    engine
        .people()
        .set_rule(&scene.attic.ines, Scope::Service, Rule::MassChange, Some(close), "service")
        .await
        .unwrap();
    for i in 0..60 {
        harm(&scene, "in place", i).await;
    }
    assert!(scene.alarmed().await);
    let account = scene.attic.ines.account.unwrap();
    let alarm = engine.history().closed_by(account, Door::Dav).await.unwrap().unwrap();
    assert!(alarm.shut && alarm.device.is_none());
    let now = async || engine.people().account(account).await.unwrap().unwrap().closed;
    assert!(now().await.contains(&Door::Dav));
    engine.history().settle_alarm(&scene.attic.ines, alarm.id).await.unwrap();
    assert!(
        now().await.is_empty() && engine.history().closed_by(account, Door::Dav).await.unwrap().is_none()
    );
}

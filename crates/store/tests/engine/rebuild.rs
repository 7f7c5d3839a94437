//! A catalogue that is lost or damaged is made again, from a backup's or from the plain files alone; and nothing on the disk is lost by that.

use crate::reconcile::{listed, lying};
use crate::support::{Attic, actor, name, on_disk, options};
use std::fs;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;
use std::sync::Arc;
use yellow_attic_core::rules::Rules;
use yellow_attic_store::fs::fault_points::AllSteps;
use yellow_attic_store::people::accounts::Role;
use yellow_attic_store::start::rebuild::{Rebuilding, Rebuilt, rebuild};
use yellow_attic_store::timeline::purge::Progress;
use yellow_attic_store::timeline::retention::Reach;
use yellow_attic_store::timeline::space::recount;
use yellow_attic_store::{Actor, Engine, NewShelf, Result, ShelfKind};

/// Every content on the disk, wherever it lies.
fn contents(attic: &Attic) -> Vec<String> {
    let all = on_disk(&attic.data()).into_iter();
    let bytes =
        all.filter(|(path, _)| ["shelves/", "past/", "staging/"].iter().any(|top| path.starts_with(top)));
    let mut all: Vec<String> = bytes.map(|(_, bytes)| blake3::hash(&bytes).to_hex().to_string()).collect();
    all.sort();
    all.dedup();
    all
}

async fn made_again(attic: &Attic, asked: &Rebuilding) -> Result<Rebuilt> {
    rebuild(options(&attic.data(), &attic.clock, Arc::new(AllSteps)), asked).await
}

fn from_backup(attic: &Attic) -> Rebuilding {
    Rebuilding { backup: Some(attic.dir.path().join("backup")), ..Rebuilding::default() }
}

async fn opened(attic: Attic) -> Attic {
    let sums = recount(&attic.data()).await.unwrap();
    assert!(sums.differs.is_empty(), "{sums:#?}");
    let engine = Engine::open(options(&attic.data(), &attic.clock, Arc::new(AllSteps))).await.unwrap();
    let account = engine.people().account_named("ines").await.unwrap().unwrap();
    let home = engine.home_of(account.id).unwrap().root;
    Attic { engine, ines: actor(account.id, "ines"), home, ..attic }
}

#[tokio::test(flavor = "multi_thread")]
async fn from_a_backup_and_what_lies_on_the_disk_by_now() {
    let attic = Attic::new().await;
    attic.mkdir("Plans").await;
    let kept = attic.put("Plans/a", b"one").await.row.unwrap().node;
    attic.put("Plans/a", b"two").await;
    attic.put("removed", b"later removed").await;
    attic.put("let go", b"its first state").await;
    attic.put("let go", b"its second").await;
    // Large enough for packs, which are written anew when most of them is needed no more.
    let film = crate::keeping::noise(5, 3 << 20);
    attic.put("film", &film).await;
    attic.put("film", b"short").await;
    crate::keeping::packed(&attic).await;
    attic.mkdir("Folder").await;
    attic.put("Folder/x", b"in a folder that goes").await;
    attic.engine.settle().await.unwrap();
    attic.engine.backups().make(&attic.dir.path().join("backup"), Default::default()).await.unwrap();
    // Since then: changed, new, moved, removed.
    attic.put("Plans/a", b"three").await;
    attic.put("new", b"since the backup").await;
    attic.mv("Plans", "Renamed").await;
    attic.rm("removed").await;
    attic.rm("Folder").await;
    attic.engine.settle().await.unwrap();
    for path in ["let go", "film"] {
        let node = attic.find(path).await.unwrap().node;
        let states = attic.engine.history().states(&attic.ines, node, 9).await.unwrap();
        let reach = Reach::Version(node, states[1].row.since);
        let (all, going) = (Rules::default(), Progress::default());
        attic.engine.history().apply_purge(&attic.ines, &all, &reach, None, &going).await.unwrap();
    }
    attic.put("let go", b"its second").await;
    crate::keeping::packed(&attic).await;
    let (live, before) = (listed(&attic).await, contents(&attic));
    attic.engine.stop().await;
    // Sound as it is, nobody throws it away by accident.
    let refused = made_again(&attic, &from_backup(&attic)).await.unwrap_err();
    assert!(refused.to_string().contains("is sound"), "{refused}");
    let catalogue = fs::File::options().write(true).open(attic.data().join("catalogue.db")).unwrap();
    for page in 1..40 {
        catalogue.write_all_at(&[0x5a; 600], page * 4096).unwrap();
    }
    let other = Rebuilding { backup: Some(attic.dir.path().join("none")), ..Rebuilding::default() };
    assert!(made_again(&attic, &other).await.is_err());
    assert!(
        attic.data().join("catalogue.db").exists(),
        "nothing is moved before it is known that it can be done"
    );
    let done = made_again(&attic, &from_backup(&attic)).await.unwrap();
    assert!(done.kept.is_some() && done.left.is_empty(), "{done:?}");
    let attic = opened(attic).await;
    assert_eq!(listed(&attic).await, live);
    assert_eq!(lying(&attic.files()), live);
    // What moved is the same thing, with the history that the backup knew.
    let row = attic.find("Renamed/a").await.unwrap();
    assert_eq!(row.node, kept);
    let states = attic.engine.history().states(&attic.ines, kept, 9).await.unwrap();
    assert!(states.len() >= 3, "{states:?}");
    let now = contents(&attic);
    assert!(before.iter().all(|hash| now.contains(hash)), "all bytes are there still");
    // What the backup's catalogue names and the folder has let go since is brought from the backup: nothing is promised in vain.
    for (path, bytes) in [("let go", &b"its first state"[..]), ("film", &film[..])] {
        let node = attic.find(path).await.unwrap().node;
        let states = attic.engine.history().states(&attic.ines, node, 9).await.unwrap();
        let mut held = Vec::new();
        for state in &states {
            held.push(attic.bytes_of(&state.row).await);
        }
        assert!(held.iter().any(|held| held == bytes), "{path}");
    }
    // Another time it is whole: nothing is in doubt, and it is no older one.
    let attic = attic.reopen().await;
    assert!(!attic.engine.has_older_catalogue());
    assert!(attic.put("again", b"goes on").await.moment.0 > 1 << 39);
}

#[tokio::test(flavor = "multi_thread")]
async fn from_the_plain_files_alone() {
    let attic = Attic::new().await;
    attic.engine.people().make_account(&Actor::service(), "tomas", "Tomas", Role::Member, "x").await.unwrap();
    let shelf =
        NewShelf { kind: ShelfKind::Shared, name: name("Loans"), owner: attic.ines.account, grants: vec![] };
    attic.engine.space().make_shelf(&attic.ines, shelf).await.unwrap();
    attic.mkdir("Plans").await;
    attic.put("Plans/a", b"one").await;
    attic.put("Plans/a", b"two").await;
    attic.put("gone", b"removed").await;
    attic.rm("gone").await;
    attic.engine.settle().await.unwrap();
    let shelves: PathBuf = attic.data().join("shelves/main");
    fs::write(shelves.join("home/tomas/his"), b"his").unwrap();
    fs::write(shelves.join("shared/Loans/list"), b"a list").unwrap();
    fs::create_dir(shelves.join("home/Not A Name")).unwrap();
    let (live, before) = (listed(&attic).await, contents(&attic));
    attic.engine.stop().await;
    for end in ["", "-wal", "-shm"] {
        let _ = fs::remove_file(attic.data().join(format!("catalogue.db{end}")));
    }
    let asked = Rebuilding { administrator: "ines".into(), ..Rebuilding::default() };
    assert!(made_again(&attic, &Rebuilding::default()).await.is_err(), "somebody is to be the administrator");
    let done = made_again(&attic, &asked).await.unwrap();
    assert_eq!(
        (&done.accounts[..], &done.shelves[..]),
        (&["ines".to_string(), "tomas".into()][..], &["Loans".to_string()][..])
    );
    assert!(done.left[0].contains("Not A Name") && done.kept_aside >= 2, "{done:?}");
    let identity = fs::read_to_string(attic.data().join("store")).unwrap();
    assert!(identity.contains("\"epoch\": 2"), "{identity}");
    let attic = opened(attic).await;
    assert_eq!(listed(&attic).await, live);
    // A second time the numbers are above those of the first.
    let first = attic.put("first", b"1").await.row.unwrap().node.0;
    attic.engine.settle().await.unwrap();
    attic.engine.stop().await;
    made_again(&attic, &Rebuilding { even_if_sound: true, ..asked.clone() }).await.unwrap();
    let attic = opened(attic).await;
    assert!(attic.find("first").await.unwrap().node.0 > first + (1 << 39));
    fs::remove_file(attic.files().join("first")).unwrap();
    let taken = yellow_attic_store::reconcile::Looking { take_up: true, ..Default::default() };
    attic.engine.on_disk().reconcile(&taken).await.unwrap();
    let (tomas, loans) = {
        let shelves = attic.engine.shelves();
        let of = |name: &str| shelves.iter().find(|shelf| shelf.name == name).unwrap().root;
        (of("tomas"), of("Loans"))
    };
    assert_eq!(attic.rows(loans).await[0].name(), "list");
    let account = attic.engine.people().account_named("tomas").await.unwrap().unwrap();
    assert!(account.password.is_empty(), "nobody signs in before a password was chosen");
    let his = actor(account.id, "tomas");
    let page = attic.engine.files().list(&his, tomas, Default::default(), false, 9, None).await.unwrap();
    assert_eq!(page.items[0].row.name(), "his");
    assert_eq!(contents(&attic), before, "what nobody knows any more is kept");
    assert!(on_disk(&attic.data().join("past/unknown")).len() >= 2);
}

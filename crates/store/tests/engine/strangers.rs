//! Links and intakes in the engine: what strangers may, what is counted, what is given back.

use crate::support::{Attic, START, name};
use yellow_attic_core::NodeId;
use yellow_attic_core::intake::Kinds;
use yellow_attic_core::openings::{Can, Kind, Shut};
use yellow_attic_core::rights::Level;
use yellow_attic_store::sharing::deliveries::Delivery;
use yellow_attic_store::sharing::openings::{NewOpening, Opening, Set, Wanted};
use yellow_attic_store::timeline::uploads::NewUpload;
use yellow_attic_store::{Actor, Place, StoreError};

const HOUR: i64 = 3_600_000;
const DAY: i64 = 24 * HOUR;

impl Attic {
    async fn opening(&self, kind: Kind, node: NodeId, set: Set) -> Opening {
        let new = NewOpening { kind, node, ending: None, set };
        self.engine.sharing().make_opening(&self.ines, new).await.unwrap()
    }

    async fn again(&self, opening: &Opening) -> Opening {
        self.engine.sharing().opening(opening.id).await.unwrap().unwrap()
    }

    async fn hand_in(
        &self,
        intake: &Opening,
        delivery: &Delivery,
        path: &str,
        bytes: &[u8],
    ) -> Result<(), StoreError> {
        let actor = intake.actor("198.51.100.7");
        let size = bytes.len() as u64;
        let new = |parent, name| NewUpload {
            parent,
            name,
            size,
            open_length: false,
            mtime: None,
            if_match: None,
            if_none_match: None,
            hash: None,
            joining: Default::default(),
        };
        let upload = self.engine.sharing().begin_delivery_upload(&actor, intake, delivery, path, new).await?;
        let mut part = self.engine.files().append(&actor, &upload.id, 0).await?;
        part.write(bytes)?;
        part.pause().await?;
        self.engine.sharing().finish_delivery_upload(&actor, intake, delivery, &upload.id).await.map(drop)
    }
}

fn secret(n: u8) -> [u8; 32] {
    [n; 32]
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stranger_reaches_what_the_link_opens_at_its_level_and_nothing_else() {
    let attic = Attic::new().await;
    let open = attic.mkdir("Open").await;
    let inner = attic.mkdir("Open/Inner").await;
    attic.mkdir("Shut").await;
    attic.put("Open/Inner/a.txt", b"a").await;
    attic.put("Shut/b.txt", b"b").await;
    let inside = attic.find("Open/Inner/a.txt").await.unwrap().node;
    let beside = attic.find("Shut/b.txt").await.unwrap().node;
    let link = attic.opening(Kind::Link, open, Set { can: Some(Can::Add), ..Set::default() }).await;
    let out = link.actor("198.51.100.7");

    let level = async |node| {
        let chain = attic.engine.files().chain(&out, node, Level::View).await.ok()?;
        attic.engine.grants().level(&out, &chain)
    };
    assert_eq!([level(open).await, level(inner).await, level(inside).await], [Some(Level::Add); 3]);
    assert_eq!([level(beside).await, level(attic.home).await], [None, None]);
    assert!(attic.engine.find_shelves_of(&out).is_empty());
    // What adds may not change, and nothing may be moved out of it or into it from elsewhere.
    assert!(matches!(attic.put_as(&out, "Open/Inner/a.txt", b"x").await, Err(StoreError::NotAllowed { .. })));
    assert!(attic.put_as(&out, "Shut/c.txt", b"x").await.is_err());
    attic.put_as(&out, "Open/new.txt", b"new").await.unwrap();
    let edit = Set { can: Some(Can::Edit), ..Set::default() };
    let link = attic.engine.sharing().change_opening(&attic.ines, link.id, edit, false).await.unwrap();
    let out = link.actor("198.51.100.7");
    assert!(attic.mv_as(&out, "Open/new.txt", "Shut/new.txt", false).await.is_err());
    assert!(attic.mv_as(&out, "Shut/b.txt", "Open/b.txt", false).await.is_err());
    attic.mv_as(&out, "Open/new.txt", "Open/Inner/new.txt", false).await.unwrap();
    // Who did it is said: the link, not its maker.
    let row = attic.find("Open/Inner/new.txt").await.unwrap();
    assert_eq!(row.account.map(|a| a.0), Some(-link.id.0));
    let (names, _) = attic.engine.people().names().await.unwrap();
    assert!(names.iter().any(|(id, n)| id.0 == -link.id.0 && n.contains("somebody by link")));
}

trait Shelves {
    fn find_shelves_of(&self, actor: &Actor) -> Vec<String>;
}

impl Shelves for yellow_attic_store::Engine {
    fn find_shelves_of(&self, actor: &Actor) -> Vec<String> {
        self.files().shelves_for(actor).into_iter().map(|(s, _)| s.name.clone()).collect()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn slips_count_when_taken_and_are_given_back_if_no_byte_left() {
    let attic = Attic::new().await;
    let file = attic.put("a.bin", b"bytes").await.row.unwrap().node;
    let link = attic.opening(Kind::Link, file, Set { most: Some(Some(3)), ..Set::default() }).await;
    let out = link.actor("198.51.100.7");
    let engine = &attic.engine;
    for n in 1..=3 {
        engine.sharing().take_slip(&out, &link, secret(n), file, None).await.unwrap();
    }
    assert!(matches!(
        engine.sharing().take_slip(&out, &link, secret(4), file, None).await,
        Err(StoreError::UsedUp)
    ));
    assert_eq!(engine.sharing().acts(&attic.again(&link).await).await.unwrap(), Err(Shut::UsedUp));
    // One left, one came to nothing, of one nobody heard again.
    assert!(engine.sharing().begin_slip(secret(1)).await.unwrap());
    engine.sharing().return_slip(secret(1)).await.unwrap();
    assert_eq!(attic.again(&link).await.used, 3, "begun, it is not given back");
    engine.sharing().return_slip(secret(2)).await.unwrap();
    engine.sharing().return_slip(secret(2)).await.unwrap();
    assert_eq!(attic.again(&link).await.used, 2, "given back once");
    assert!(!engine.sharing().begin_slip(secret(2)).await.unwrap(), "and good for nothing any more");
    attic.clock.set(START + 2 * HOUR);
    assert!(engine.sharing().slip(secret(3)).await.unwrap().is_none());
    engine.sharing().sweep_slips().await.unwrap();
    assert_eq!(attic.again(&link).await.used, 1);
    // For a day after its first byte it can be gone on with, over a restart too.
    let attic = attic.reopen().await;
    assert!(attic.engine.sharing().slip(secret(1)).await.unwrap().is_some_and(|s| s.begun));
    attic.clock.set(START + 25 * HOUR);
    assert!(attic.engine.sharing().slip(secret(1)).await.unwrap().is_none());
    attic.engine.sharing().sweep_slips().await.unwrap();
    assert_eq!(attic.again(&link).await.used, 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_brought_back_wakes_no_link_to_it_or_beneath_it() {
    let attic = Attic::new().await;
    let folder = attic.mkdir("Charts").await;
    attic.mkdir("Charts/North").await;
    let deep = attic.put("Charts/North/a.txt", b"a").await.row.unwrap().node;
    let other = attic.put("b.txt", b"b").await.row.unwrap().node;
    let links = [
        attic.opening(Kind::Link, folder, Set::default()).await,
        attic.opening(Kind::Link, deep, Set::default()).await,
        attic.opening(Kind::Intake, folder, Set::default()).await,
    ];
    let awake = attic.opening(Kind::Link, other, Set::default()).await;
    attic.rm("Charts").await;
    attic.rm("b.txt").await;
    for link in &links {
        assert_eq!(attic.engine.sharing().acts(link).await.unwrap(), Err(Shut::Removed));
    }
    attic.engine.history().restore(&attic.ines, folder, None, Place::Last).await.unwrap();
    for link in &links {
        assert_eq!(attic.engine.sharing().acts(&attic.again(link).await).await.unwrap(), Err(Shut::Asleep));
    }
    assert!(!attic.again(&awake).await.asleep, "it was not brought back");
    let confirm = Set { confirmed: true, ..Set::default() };
    let woken =
        attic.engine.sharing().change_opening(&attic.ines, links[1].id, confirm, false).await.unwrap();
    assert!(attic.engine.sharing().acts(&woken).await.unwrap().is_ok());
    // An earlier state of what is there wakes and puts to sleep nothing.
    let before = attic.engine.history().now_moment().await.unwrap();
    attic.put("Charts/North/a.txt", b"other").await;
    attic.engine.history().restore(&attic.ines, deep, Some(before), Place::Last).await.unwrap();
    assert!(!attic.again(&links[1]).await.asleep);
}

#[tokio::test(flavor = "multi_thread")]
async fn deliveries_keep_all_in_folders_of_their_own_and_close_by_themselves() {
    let attic = Attic::new().await;
    let folder = attic.mkdir("In").await;
    let set = Set { most: Some(Some(3)), kinds: Some(Kinds::read("documents").unwrap()), ..Set::default() };
    let intake = attic.opening(Kind::Intake, folder, set).await;
    let out = intake.actor("198.51.100.7");
    let begin = async |n: u8| {
        attic.engine.sharing().begin_delivery(&out, &intake, secret(n), "Elm / School", None).await
    };
    let (one, two, silent) = (begin(1).await.unwrap(), begin(2).await.unwrap(), begin(3).await.unwrap());
    assert!(matches!(begin(4).await, Err(StoreError::UsedUp)));
    attic.hand_in(&intake, &one, "a.txt", b"1").await.unwrap();
    attic.hand_in(&intake, &one, "a.txt", b"2").await.unwrap();
    attic.hand_in(&intake, &two, "x/a.txt", b"3").await.unwrap();
    assert!(matches!(attic.hand_in(&intake, &two, "a.pdf", b"no pdf").await, Err(StoreError::OtherKind(_))));
    assert_eq!(attic.ls("In").await, ["Elm School", "Elm School (2)"]);
    assert_eq!(attic.ls("In/Elm School").await, ["a (2).txt", "a.txt"]);
    assert_eq!(attic.cat("In/Elm School (2)/x/a.txt").await, b"3");
    // Moved away by its owner, what comes later gets a folder of its own again.
    attic.mkdir("Kept").await;
    attic.mv("In/Elm School", "Kept/Elm School").await;
    attic.hand_in(&intake, &one, "b.txt", b"4").await.unwrap();
    assert_eq!(attic.ls("In/Elm School").await, ["b.txt"]);
    assert_eq!(attic.ls("Kept/Elm School").await.len(), 2);

    let now = async |n: u8| attic.engine.sharing().delivery(secret(n)).await.unwrap();
    attic.engine.sharing().finish_delivery(&out, &now(1).await.unwrap()).await.unwrap();
    assert!(matches!(
        attic.hand_in(&intake, &now(1).await.unwrap(), "c.txt", b"5").await,
        Err(StoreError::DeliveryDone)
    ));
    assert!(matches!(
        attic.engine.sharing().finish_delivery(&out, &silent).await,
        Err(StoreError::NothingDelivered)
    ));
    assert_eq!(
        attic.engine.sharing().untold_deliveries(1).await.unwrap().len(),
        0,
        "not while one was just done"
    );
    attic.clock.set(START + HOUR);
    let told = attic.engine.sharing().untold_deliveries(1).await.unwrap();
    assert_eq!(told.iter().map(|d| (d.files, d.bytes)).collect::<Vec<_>>(), [(3, 3)]);
    attic.engine.sharing().told_deliveries(vec![told[0].id]).await.unwrap();
    assert!(attic.engine.sharing().untold_deliveries(1).await.unwrap().is_empty());
    let paths: Vec<String> =
        attic.engine.sharing().delivered(one.id).await.unwrap().into_iter().map(|f| f.path).collect();
    assert_eq!(paths.len(), 3);
    assert!(paths.iter().all(|p| p == "a.txt" || p == "b.txt"), "as the sender named them");

    // Three days later the one that was broken off is closed, and the one of which nothing came is none.
    attic.clock.set(START + 4 * DAY);
    attic.engine.sharing().close_deliveries().await.unwrap();
    assert!(now(2).await.unwrap().broken);
    assert!(now(3).await.is_none());
    assert_eq!(attic.again(&intake).await.used, 2);
    // Ended for ninety days, it is forgotten, and what was handed in stays.
    let end = Set { ended: Some(true), ..Set::default() };
    attic.engine.sharing().change_opening(&attic.ines, intake.id, end, false).await.unwrap();
    attic.clock.set(START + 95 * DAY);
    attic.engine.sharing().forget_openings().await.unwrap();
    assert!(attic.engine.sharing().openings(&Wanted::default()).await.unwrap().is_empty());
    assert_eq!(attic.cat("In/Elm School (2)/x/a.txt").await, b"3");
    let _ = name("a");
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_does_not_manage_gives_nothing_out_and_decides_over_nothing() {
    let attic = Attic::new().await;
    let folder = attic.mkdir("Charts").await;
    let file = attic.put("Charts/a.txt", b"a").await.row.unwrap().node;
    let made = attic
        .engine
        .people()
        .make_account(&attic.ines, "tomas", "", yellow_attic_store::people::accounts::Role::Member, "-")
        .await
        .unwrap();
    let tomas = Actor { account: Some(made.id), ..attic.ines.clone() };
    let give = async |level| {
        let new = yellow_attic_store::ops::grants::NewGrant {
            node: folder,
            subject: yellow_attic_core::rights::Subject::Account(made.id),
            gives: yellow_attic_core::rights::Gives::Allow(level),
            until: None,
            message: String::new(),
        };
        attic.engine.grants().give(&attic.ines, new).await.unwrap();
    };
    let make = async |node| {
        let new = NewOpening { kind: Kind::Link, node, ending: None, set: Set::default() };
        attic.engine.sharing().make_opening(&tomas, new).await
    };
    assert!(matches!(make(file).await, Err(StoreError::NotFound(_))));
    give(Level::Edit).await;
    assert!(matches!(make(file).await, Err(StoreError::NotAllowed { .. })));
    give(Level::Manage).await;
    let theirs = make(file).await.unwrap();
    let mine = attic.opening(Kind::Link, file, Set::default()).await;
    // Whoever manages it decides over each of them.
    assert!(
        attic.engine.sharing().decides_over(&attic.ines, &theirs).await
            && attic.engine.sharing().decides_over(&tomas, &mine).await
    );
    give(Level::View).await;
    assert!(!attic.engine.sharing().decides_over(&tomas, &mine).await);
    let end = Set { ended: Some(true), ..Set::default() };
    assert!(attic.engine.sharing().change_opening(&tomas, mine.id, end.clone(), false).await.is_err());
    // An administrator closes what they do not manage, and opens nothing of it.
    let ends = |at| Set { ends_at: Some(at), ..Set::default() };
    attic.engine.sharing().change_opening(&tomas, mine.id, ends(Some(START + DAY)), true).await.unwrap();
    for wider in [ends(None), ends(Some(START + 2 * DAY)), Set { paused: Some(false), ..Set::default() }] {
        let done = attic.engine.sharing().change_opening(&tomas, mine.id, wider, true).await;
        assert!(matches!(done, Err(StoreError::NotAllowed { .. })));
    }
    // What closes and does more is looked at like any other change.
    let both = Set { paused: Some(true), can: Some(Can::Edit), ..Set::default() };
    let done = attic.engine.sharing().change_opening(&attic.ines, mine.id, both, false).await;
    assert!(matches!(done, Err(StoreError::BadInput(_))));
    // One's own can always be closed.
    attic.engine.sharing().change_opening(&tomas, theirs.id, end, false).await.unwrap();
    assert_eq!(attic.engine.sharing().acts(&mine).await.unwrap().map(|o| o.left), Ok(None));
}

//! Quotas, rules, second factors, folders that become shelves and shelves that become folders,
//! accounts that leave.

use crate::support::{Attic, START, StopAfter, actor, name, on_disk, options};
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};
use yellow_attic_core::rights::{Gives, Level, Subject};
use yellow_attic_core::rules::{Door, Rule, Scope, Value};
use yellow_attic_core::{AccountId, Name, NodeId};
use yellow_attic_store::audit::check::check;
use yellow_attic_store::fs::clock::SetClock;
use yellow_attic_store::ops::grants::NewGrant;
use yellow_attic_store::people::accounts::{Account, AccountChange, NewPerson, Role, Why};
use yellow_attic_store::people::second_factor::FactorKind;
use yellow_attic_store::timeline::uploads::NewUpload;
use yellow_attic_store::{Actor, Engine, NewShelf, ShelfKind, StoreError};

const DAY: i64 = 86_400_000;

impl Attic {
    async fn member(&self, sign_in: &str) -> (Account, Actor) {
        let made =
            self.engine.people().make_account(&self.ines, sign_in, "", Role::Member, "-").await.unwrap();
        let actor = Actor {
            account: Some(made.id),
            device: None,
            who: sign_in.into(),
            from: "test".into(),
            through: None,
            scope: None,
            tokens: Default::default(),
        };
        (made, actor)
    }

    async fn set_quota(&self, sign_in: &str, bytes: Option<u64>) {
        let change = AccountChange { quota: Some(bytes), ..AccountChange::default() };
        self.engine.people().change_account(&self.ines, sign_in, change).await.unwrap();
    }

    fn upload(&self, name_: &str, size: u64) -> NewUpload {
        NewUpload {
            parent: self.home,
            name: name(name_),
            size,
            open_length: false,
            mtime: None,
            if_match: None,
            if_none_match: None,
            hash: None,
            joining: Default::default(),
        }
    }
}

fn is_full<T>(result: Result<T, StoreError>) -> bool {
    matches!(result, Err(StoreError::QuotaFull { .. }))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_quota_refuses_what_would_pass_it_and_leaves_nothing_half_written() {
    let attic = Attic::new().await;
    attic.put("here.bin", &[1; 600]).await;
    attic.set_quota("ines", Some(1000)).await;
    assert!(is_full(attic.put_as(&attic.ines, "more.bin", &[2; 401]).await));
    attic.put("fits.bin", &[2; 400]).await;
    // What replaces counts by its difference.
    attic.put("here.bin", &[3; 500]).await;
    assert!(is_full(attic.put_as(&attic.ines, "here.bin", &[3; 601]).await));
    // A copy and what comes back count as well; what is there stays and can go.
    let here = attic.find("here.bin").await.unwrap().node;
    assert!(is_full(attic.engine.history().copy(&attic.ines, here, attic.home, name("copy.bin")).await));
    let removed = attic.find("fits.bin").await.unwrap();
    attic.rm("fits.bin").await;
    attic.put("other.bin", &[4; 500]).await;
    let back = attic
        .engine
        .history()
        .restore(&attic.ines, removed.node, None, yellow_attic_store::Place::Last)
        .await;
    assert!(is_full(back));
    attic.set_quota("ines", Some(10)).await;
    attic.put("here.bin", &[5; 20]).await;
    attic.engine.settle().await.unwrap();
    assert_eq!(on_disk(&attic.data().join("staging")).len(), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn parallel_uploads_cannot_pass_a_quota_together() {
    let attic = Attic::new().await;
    attic.set_quota("ines", Some(1000)).await;
    let first = attic.engine.space().claim(attic.home, 700, 0).await.unwrap();
    assert!(is_full(attic.engine.space().claim(attic.home, 301, 0).await));
    assert!(is_full(attic.engine.files().begin_upload(&attic.ines, attic.upload("late.bin", 301)).await));
    // What grows is looked at as it grows.
    let mut second = attic.engine.space().claim(attic.home, 100, 0).await.unwrap();
    assert!(second.grow(200).is_ok() && second.grow(1).is_err());
    drop((first, second));
    // An unfinished upload keeps its space over a restart.
    let begun = attic.engine.files().begin_upload(&attic.ines, attic.upload("big.bin", 900)).await.unwrap();
    let attic = attic.reopen().await;
    assert!(is_full(attic.engine.space().claim(attic.home, 101, 0).await));
    let home = attic.engine.home_of(attic.ines.account.unwrap()).unwrap();
    assert_eq!(attic.engine.space().fullness(&home).await.unwrap().claimed, 900);
    attic.engine.files().end_upload(&attic.ines, &begun.id).await.unwrap();
    assert!(attic.engine.space().claim(attic.home, 1000, 0).await.is_ok());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_home_has_its_own_quota_else_the_largest_of_its_groups() {
    let attic = Attic::new().await;
    let (tomas, _) = attic.member("tomas").await;
    let home = attic.engine.home_of(tomas.id).unwrap();
    let line = async || attic.engine.space().fullness(&home).await.unwrap().line;
    assert_eq!(line().await, None);
    for (group, quota) in [("Staff", 100), ("Board", 300)] {
        let made = attic.engine.people().make_group(&attic.ines, group, "").await.unwrap();
        attic
            .engine
            .people()
            .change_group(&attic.ines, made.id, None, None, Some(Some(quota)))
            .await
            .unwrap();
        attic.engine.people().change_members(&attic.ines, &made, vec![tomas.id], vec![]).await.unwrap();
    }
    assert_eq!(line().await, Some(300));
    attic.set_quota("tomas", Some(50)).await;
    assert_eq!(line().await, Some(50));
    attic.set_quota("tomas", None).await;
    let board = attic.engine.people().group_named("Board").await.unwrap();
    attic.engine.people().end_group(&attic.ines, &board).await.unwrap();
    assert_eq!(line().await, Some(100));
}

#[tokio::test(flavor = "multi_thread")]
async fn rules_count_at_once_tighten_downwards_and_survive_a_restart() {
    let attic = Attic::new().await;
    let (tomas, _) = attic.member("tomas").await;
    let board = attic.engine.people().make_group(&attic.ines, "Board", "").await.unwrap();
    attic.engine.people().change_members(&attic.ines, &board, vec![tomas.id], vec![]).await.unwrap();
    let set = async |engine: &Engine, scope, rule: Rule, value: &str| {
        engine
            .people()
            .set_rule(&Actor::service(), scope, rule, Some(rule.read(value).unwrap()), "test")
            .await
    };
    let group = Scope::Group(board.id);
    set(&attic.engine, Scope::Service, Rule::PasswordLength, "12").await.unwrap();
    set(&attic.engine, group, Rule::PasswordLength, "16").await.unwrap();
    set(&attic.engine, group, Rule::DoorsClosed, "sync").await.unwrap();
    let looser = set(&attic.engine, group, Rule::PasswordLength, "11").await;
    assert!(matches!(looser, Err(StoreError::Rule(_))), "{looser:?}");
    let attic = attic.reopen().await;
    let of = |id: AccountId| {
        attic.engine.people().rules_of(id, |rules, groups| {
            (rules.number(Rule::PasswordLength, groups), rules.closed(groups).contains(&Door::Sync))
        })
    };
    assert_eq!(of(tomas.id), (Some(16), true));
    assert_eq!(of(attic.ines.account.unwrap()), (Some(12), false));
    // A group that ends takes its rules with it.
    let board = attic.engine.people().group_named("Board").await.unwrap();
    attic.engine.people().end_group(&attic.ines, &board).await.unwrap();
    assert_eq!(of(tomas.id), (Some(12), false));
    assert_eq!(attic.engine.people().rules().all().count(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_code_counts_once_and_recovery_codes_go_with_the_last_factor() {
    let attic = Attic::new().await;
    let (tomas, actor) = attic.member("tomas").await;
    let codes = vec![[1; 32], [2; 32]];
    attic
        .engine
        .sign_ins()
        .add_factor(&actor, &tomas, FactorKind::Codes, "phone", vec![7; 20], Some(100), Some(codes))
        .await
        .unwrap();
    let factor = attic.engine.sign_ins().factors(tomas.id).await.unwrap().remove(0);
    assert!(
        !attic.engine.sign_ins().use_code(&actor, factor.id, 100).await.unwrap(),
        "used when it was set up"
    );
    assert!(attic.engine.sign_ins().use_code(&actor, factor.id, 101).await.unwrap());
    let again = tokio::join!(
        attic.engine.sign_ins().use_code(&actor, factor.id, 102),
        attic.engine.sign_ins().use_code(&actor, factor.id, 102)
    );
    assert_ne!(again.0.unwrap(), again.1.unwrap(), "of two at once one is refused");
    assert!(attic.engine.sign_ins().use_recovery(&actor, &tomas, [1; 32]).await.unwrap());
    assert!(!attic.engine.sign_ins().use_recovery(&actor, &tomas, [1; 32]).await.unwrap());
    assert_eq!(attic.engine.sign_ins().recovery_left(tomas.id).await.unwrap(), 1);
    attic.engine.sign_ins().end_factor(&actor, &tomas, Some(factor.id)).await.unwrap();
    assert_eq!(attic.engine.sign_ins().recovery_left(tomas.id).await.unwrap(), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_becomes_a_shelf_and_a_folder_again_with_all_that_is_in_it() {
    let attic = Attic::new().await;
    let (tomas, his) = attic.member("tomas").await;
    let (oona, hers) = attic.member("oona").await;
    let work = attic.mkdir("Work").await;
    let plans = attic.mkdir("Work/Plans").await;
    attic.put("Work/Plans/tower.txt", b"92 steps").await;
    attic.put("Work/Plans/tower.txt", b"93 steps").await;
    let file = attic.find("Work/Plans/tower.txt").await.unwrap();
    let give = async |node: NodeId, to: AccountId, gives: Gives| {
        let new =
            NewGrant { node, subject: Subject::Account(to), gives, until: None, message: String::new() };
        attic.engine.grants().give(&attic.ines, new).await.unwrap();
    };
    give(work, tomas.id, Gives::Allow(Level::Edit)).await;
    give(plans, oona.id, Gives::Allow(Level::View)).await;
    let before = attic.engine.history().now_moment().await.unwrap();

    let shelf = attic.engine.space().raise_folder(&attic.ines, plans, name("Plans")).await.unwrap();
    assert_eq!((shelf.root, shelf.kind), (plans, ShelfKind::Shared));
    // Whoever could enter still can, by what was given further up too; ids and history stay.
    let level = async |actor: &Actor| {
        attic.engine.files().shelves_for(actor).iter().find(|s| s.0.id == shelf.id).map(|s| s.1)
    };
    assert_eq!(level(&attic.ines).await, Some(Level::Manage));
    assert_eq!(level(&his).await, Some(Level::Edit));
    assert_eq!(level(&hers).await, Some(Level::View));
    let names = |path: &str| path.split('/').map(name).collect::<Vec<Name>>();
    let row = attic.engine.files().resolve(&his, "Plans", &names("tower.txt")).await.unwrap();
    assert_eq!(row.node, file.node);
    assert_eq!(attic.bytes_of(&row).await, b"93 steps");
    attic.engine.settle().await.unwrap();
    attic.engine.run_jobs().await.unwrap();
    assert_eq!(attic.engine.history().states(&attic.ines, file.node, 10).await.unwrap().len(), 3);
    let disk = attic.data().join("shelves/main/shared/Plans/tower.txt");
    assert_eq!(std::fs::read(&disk).unwrap(), b"93 steps");
    assert!(!attic.files().join("Work/Plans").exists());
    assert_eq!(attic.engine.files().sums(&attic.ines, work).await.unwrap().unwrap().bytes, 0);
    assert_eq!(attic.engine.files().sums(&attic.ines, plans).await.unwrap().unwrap().bytes, 8);
    // Where it was then it is still seen by whoever may see both places.
    let then = attic.engine.history().list_at(&attic.ines, work, before, 10, None).await.unwrap();
    assert_eq!(then.items.len(), 1);
    let taken = attic.engine.space().raise_folder(&attic.ines, work, name("Plans")).await;
    assert!(matches!(taken, Err(StoreError::Exists(_))), "{taken:?}");

    // And back, elsewhere, after a restart.
    let attic = attic.reopen().await;
    let shelf = attic.engine.shelves().into_iter().find(|s| s.name == "Plans").unwrap();
    let into_itself = attic.engine.space().lower_shelf(&attic.ines, shelf.id, plans, name("x")).await;
    assert!(matches!(into_itself, Err(StoreError::IntoItself)), "{into_itself:?}");
    attic.engine.space().lower_shelf(&attic.ines, shelf.id, attic.home, name("Old plans")).await.unwrap();
    attic.engine.settle().await.unwrap();
    attic.engine.run_jobs().await.unwrap();
    assert_eq!(attic.cat("Old plans/tower.txt").await, b"93 steps");
    assert_eq!(std::fs::read(attic.files().join("Old plans/tower.txt")).unwrap(), b"93 steps");
    assert!(attic.engine.shelves().iter().all(|s| s.name != "Plans"));
    assert_eq!(attic.find("Old plans/tower.txt").await.unwrap().node, file.node);
    let attic = attic.reopen().await;
    assert_eq!(attic.cat("Old plans/tower.txt").await, b"93 steps");
    // Its name is free again.
    let new = NewShelf { kind: ShelfKind::Shared, name: name("Plans"), owner: None, grants: vec![] };
    attic.engine.space().make_shelf(&attic.ines, new).await.unwrap();
    attic.engine.stop().await;
    assert!(check(&attic.data(), Default::default(), Box::new(|_| true)).await.unwrap().is_sound());
}

#[test]
fn a_folder_made_a_shelf_is_whole_wherever_it_is_stopped() {
    let runtime =
        || tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
    for stop in 0..200 {
        let dir = tempfile::tempdir().unwrap();
        let data = dir.path().join("data");
        let clock = Arc::new(SetClock::at(START));
        let steps = Arc::new(StopAfter(AtomicI64::new(i64::MAX)));
        let (ines, answered) = runtime().block_on(async {
            let engine = Engine::open(options(&data, &clock, steps.clone())).await.unwrap();
            let account = engine
                .people()
                .make_account(&Actor::service(), "ines", "", Role::Administrator, "x")
                .await
                .unwrap();
            let ines = actor(account.id, "ines");
            let home = engine.home_of(account.id).unwrap().root;
            let work = engine.files().make_folder(&ines, home, name("Work")).await.unwrap().row.unwrap().node;
            let staged = engine.stage_small(b"kept".to_vec()).unwrap();
            engine.files().put(&ines, work, name("a.txt"), staged, 0, Default::default()).await.unwrap();
            engine.settle().await.unwrap();
            steps.0.store(stop, Ordering::SeqCst);
            let raised = engine.space().raise_folder(&ines, work, name("Work")).await;
            let lowered = match &raised {
                Ok(shelf) => engine.space().lower_shelf(&ines, shelf.id, home, name("Again")).await.is_ok(),
                Err(_) => false,
            };
            let _ = engine.settle().await;
            engine.stop().await;
            (ines, (raised.is_ok(), lowered))
        });
        let finished = steps.0.load(Ordering::SeqCst) > 0;
        runtime().block_on(async {
            let all = Arc::new(yellow_attic_store::fs::fault_points::AllSteps);
            let engine = Engine::open(options(&data, &clock, all)).await.unwrap();
            engine.settle().await.unwrap();
            let there = async |shelf: &str, path: &str| {
                let names: Vec<Name> = path.split('/').map(name).collect();
                let row = engine.files().resolve(&ines, shelf, &names).await.ok()?;
                let (mut file, _) = engine.files().open_bytes(&row).await.unwrap();
                let mut text = String::new();
                std::io::Read::read_to_string(&mut file, &mut text).unwrap();
                Some(text)
            };
            let places = [
                there("home", "Work/a.txt").await,
                there("Work", "a.txt").await,
                there("home", "Again/a.txt").await,
            ];
            let found: Vec<&String> = places.iter().flatten().collect();
            assert_eq!(found, ["kept"], "stopped at {stop}: {places:?}, answered {answered:?}");
            match answered {
                (_, true) => assert!(places[2].is_some(), "stopped at {stop}"),
                (true, false) => assert!(places[0].is_none(), "stopped at {stop}"),
                _ => {}
            }
            engine.stop().await;
            assert!(
                check(&data, Default::default(), Box::new(|_| true)).await.unwrap().is_sound(),
                "stopped at {stop}"
            );
        });
        if finished {
            assert!(stop > 5, "a conversion has more steps than {stop}");
            return;
        }
    }
    panic!("it never went through");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_account_leaves_after_its_days_and_its_files_go_to_the_heir() {
    let attic = Attic::new().await;
    let (tomas, his) = attic.member("tomas").await;
    let home = attic.engine.home_of(tomas.id).unwrap().root;
    let staged = attic.engine.stage_small(b"log".to_vec()).unwrap();
    attic.engine.files().put(&his, home, name("log.txt"), staged, 0, Default::default()).await.unwrap();
    let ines = attic.engine.people().account_named("ines").await.unwrap().unwrap();
    let decide = async || {
        let tomas = attic.engine.people().account_named("tomas").await.unwrap().unwrap();
        attic
            .engine
            .people()
            .mark_leaving(&attic.ines, &tomas, attic.engine.now_ms() + 3 * DAY, Some(&ines))
            .await
    };
    assert!(matches!(decide().await, Err(StoreError::BadInput(_))), "not while it is enabled");
    let disable = AccountChange { disabled: Some(true), ..AccountChange::default() };
    attic.engine.people().change_account(&attic.ines, "tomas", disable).await.unwrap();
    let new = NewShelf { kind: ShelfKind::Shared, name: name("Logs"), owner: Some(tomas.id), grants: vec![] };
    let logs = attic.engine.space().make_shelf(&attic.ines, new).await.unwrap();
    assert!(matches!(decide().await, Err(StoreError::BadInput(_))), "not as the only owner of a shelf");
    attic.engine.space().change_shelf(&attic.ines, &logs, None, None, Some(vec![ines.id])).await.unwrap();
    decide().await.unwrap();
    // Undone, nothing happens; decided again, only when its time has come.
    let marked = attic.engine.people().account_named("tomas").await.unwrap().unwrap();
    assert_eq!(marked.why_disabled, Why::Leaving);
    attic.engine.people().unmark_leaving(&attic.ines, &marked).await.unwrap();
    attic.clock.advance(4 * DAY);
    assert!(attic.engine.people().delete_leavers().await.unwrap().is_empty());
    decide().await.unwrap();
    assert!(attic.engine.people().delete_leavers().await.unwrap().is_empty());
    attic.clock.advance(3 * DAY);
    assert_eq!(attic.engine.people().delete_leavers().await.unwrap(), ["tomas"]);
    assert!(attic.engine.people().delete_leavers().await.unwrap().is_empty());
    attic.engine.settle().await.unwrap();
    assert_eq!(attic.cat("Files of tomas/log.txt").await, b"log");
    assert!(attic.engine.people().account_named("tomas").await.unwrap().is_none());
    assert!(attic.engine.home_of(tomas.id).is_none());
    let states = attic.engine.history().states(
        &attic.ines,
        attic.find("Files of tomas/log.txt").await.unwrap().node,
        5,
    );
    assert_eq!(states.await.unwrap().last().unwrap().row.account, Some(tomas.id), "history says who it was");
    // An heir who is gone meanwhile gets nothing, and so nothing is deleted.
    let (oona, hers) = attic.member("oona").await;
    let (hugo, _) = attic.member("hugo").await;
    let place = attic.engine.home_of(oona.id).unwrap().root;
    let staged = attic.engine.stage_small(b"tide".to_vec()).unwrap();
    attic.engine.files().put(&hers, place, name("tide.txt"), staged, 0, Default::default()).await.unwrap();
    for (who, heir) in [("hugo", None), ("oona", Some(&hugo))] {
        let disable = AccountChange { disabled: Some(true), ..AccountChange::default() };
        let account = attic.engine.people().change_account(&attic.ines, who, disable).await.unwrap();
        attic
            .engine
            .people()
            .mark_leaving(&attic.ines, &account, attic.engine.now_ms() + DAY, heir)
            .await
            .unwrap();
    }
    attic.clock.advance(DAY);
    assert_eq!(attic.engine.people().delete_leavers().await.unwrap(), ["hugo"]);
    assert!(attic.engine.people().delete_leavers().await.unwrap().is_empty());
    assert_eq!(attic.engine.files().shelf_sums(place).await.unwrap().unwrap().files, 1);
    // The name is free, and a new one of that name is somebody else.
    let (again, _) = attic.member("tomas").await;
    assert_ne!(again.id, tomas.id);
    attic.engine.stop().await;
    assert!(check(&attic.data(), Default::default(), Box::new(|_| true)).await.unwrap().is_sound());
}

#[tokio::test(flavor = "multi_thread")]
async fn idle_guests_are_disabled_by_rule_and_come_back_when_enabled() {
    let attic = Attic::new().await;
    let new = NewPerson {
        mail: Some("nora@harbour.example".into()),
        invited_by: attic.ines.account,
        ..NewPerson::named("nora", "Nora", Role::Guest, "-")
    };
    let guest = attic.engine.people().make_person(&attic.ines, new).await.unwrap();
    assert!(attic.engine.home_of(guest.id).is_none(), "a guest has no home");
    // What everybody was given is for members; what everybody was denied counts for guests as well.
    let actor = Actor {
        account: Some(guest.id),
        device: None,
        who: "nora".into(),
        from: "test".into(),
        through: None,
        scope: None,
        tokens: Default::default(),
    };
    let (open, file) = (attic.mkdir("Open").await, attic.put("Open/a.txt", b"a").await.row.unwrap().node);
    let give = async |node: NodeId, subject: Subject, gives: Gives| {
        let new = NewGrant { node, subject, gives, until: None, message: String::new() };
        attic.engine.grants().give(&attic.ines, new).await.unwrap();
    };
    give(open, Subject::Everyone, Gives::Allow(Level::Edit)).await;
    assert!(attic.engine.files().chain(&actor, file, Level::View).await.is_err());
    give(open, Subject::Account(guest.id), Gives::Allow(Level::View)).await;
    assert!(attic.engine.files().chain(&actor, file, Level::View).await.is_ok());
    assert!(attic.engine.files().chain(&actor, file, Level::Edit).await.is_err());
    give(file, Subject::Everyone, Gives::Deny).await;
    assert!(attic.engine.files().chain(&actor, file, Level::View).await.is_err());
    attic.clock.advance(89 * DAY);
    assert!(attic.engine.people().disable_idle_guests().await.unwrap().is_empty());
    attic.clock.advance(DAY);
    assert_eq!(attic.engine.people().disable_idle_guests().await.unwrap(), ["nora"]);
    let now = attic.engine.people().account_at("NORA@harbour.example").await.unwrap().unwrap();
    assert_eq!(now.why_disabled, Why::Away);
    let enable = AccountChange { disabled: Some(false), ..AccountChange::default() };
    attic.engine.people().change_account(&attic.ines, "nora", enable).await.unwrap();
    assert!(attic.engine.people().disable_idle_guests().await.unwrap().is_empty(), "its days begin anew");
    let never = Rule::GuestsIdle.read("none").unwrap();
    assert_eq!(never, Value::Number(None));
    attic
        .engine
        .people()
        .set_rule(&attic.ines, Scope::Service, Rule::GuestsIdle, Some(never), "service")
        .await
        .unwrap();
    attic.clock.advance(400 * DAY);
    assert!(attic.engine.people().disable_idle_guests().await.unwrap().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn many_accounts_are_made_together_or_not_at_all() {
    let attic = Attic::new().await;
    let group = attic.engine.people().make_group(&attic.ines, "Friends", "").await.unwrap();
    let person = |n: usize| NewPerson {
        groups: vec![group.id],
        quota: Some(1000),
        mail: Some(format!("m{n}@museum.example")),
        ..NewPerson::named(&format!("m{n}"), "", Role::Member, "")
    };
    attic.engine.people().make_people(&attic.ines, (0..300).map(person).collect()).await.unwrap();
    let all = attic.engine.people().accounts().await.unwrap();
    assert_eq!(all.len(), 301);
    for account in all.iter().filter(|a| a.sign_in != "ines") {
        let home = attic.engine.home_of(account.id).unwrap();
        assert_eq!(attic.engine.space().fullness(&home).await.unwrap().line, Some(1000));
    }
    assert_eq!(attic.engine.people().group_named("Friends").await.unwrap().members.len(), 300);
    let twice = attic.engine.people().make_people(&attic.ines, vec![person(900), person(5)]).await;
    assert!(matches!(twice, Err(StoreError::Exists(_))), "{twice:?}");
    assert!(attic.engine.people().account_named("m900").await.unwrap().is_none());
    let attic = attic.reopen().await;
    assert_eq!(attic.engine.people().accounts().await.unwrap().len(), 301);
}

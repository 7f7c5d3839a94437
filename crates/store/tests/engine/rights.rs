//! Who may do what, and what is seen by whom.

use crate::support::{Attic, name};
use std::collections::BTreeMap;
use yellow_attic_core::rights::{Gives, Level, Subject};
use yellow_attic_core::{AccountId, GroupId, NodeId};
use yellow_attic_store::ops::grants::NewGrant;
use yellow_attic_store::people::accounts::{AccountChange, Role};
use yellow_attic_store::timeline::reading::Sort;
use yellow_attic_store::{Actor, Change, NewShelf, Place, ShelfKind, StoreError};

impl Attic {
    async fn person(&self, sign_in: &str) -> Actor {
        let made =
            self.engine.people().make_account(&self.ines, sign_in, "", Role::Member, "-").await.unwrap();
        Actor {
            account: Some(made.id),
            device: None,
            who: sign_in.into(),
            from: "test".into(),
            through: None,
            scope: None,
            tokens: Default::default(),
        }
    }

    async fn give(&self, node: NodeId, to: Subject, gives: Gives) {
        let new = NewGrant { node, subject: to, gives, until: None, message: String::new() };
        self.engine.grants().give(&self.ines, new).await.unwrap();
    }

    async fn seen_in(&self, actor: &Actor, node: NodeId) -> Vec<String> {
        let page = self.engine.files().list(actor, node, Sort::Name, false, 1000, None).await.unwrap();
        page.items.iter().map(|e| e.row.name().to_string()).collect()
    }
}

fn me(actor: &Actor) -> Subject {
    Subject::Account(actor.account.unwrap())
}

fn is_gone<T>(result: Result<T, StoreError>) -> bool {
    matches!(result, Err(StoreError::NotFound(_)))
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_hidden_shows_in_no_list_find_feed_sum_or_history() {
    let attic = Attic::new().await;
    let tomas = attic.person("tomas").await;
    let open = attic.mkdir("Open").await;
    let shut = attic.mkdir("Open/Salaries").await;
    attic.put("Open/plan.txt", b"plan").await;
    attic.put("Open/Salaries/list.txt", b"secret").await;
    let secret = attic.find("Open/Salaries/list.txt").await.unwrap().node;
    let begun = attic.engine.history().now_moment().await.unwrap();
    attic.give(open, me(&tomas), Gives::Allow(Level::Edit)).await;
    attic.give(shut, me(&tomas), Gives::Deny).await;

    assert_eq!(attic.seen_in(&tomas, open).await, ["plan.txt"]);
    assert_eq!(attic.seen_in(&attic.ines, open).await, ["Salaries", "plan.txt"]);
    assert!(is_gone(attic.engine.files().chain(&tomas, secret, Level::View).await));
    assert!(is_gone(attic.engine.history().states(&tomas, secret, 10).await));
    assert!(is_gone(attic.engine.history().check_past(&tomas, secret, begun).await));
    let then = attic.engine.history().list_at(&tomas, open, begun, 100, None).await.unwrap();
    assert_eq!(then.items.len(), 1);
    // Sums and strips that would tell of it are not shown; they are to who sees all.
    assert!(attic.engine.files().sums(&tomas, open).await.unwrap().is_none());
    assert!(attic.engine.history().activity(&tomas, open).await.unwrap().is_empty());
    assert!(attic.engine.files().sums(&attic.ines, open).await.unwrap().is_some());
    let (found, _) = attic.engine.files().find_names(&tomas, "list", None, 10).await.unwrap();
    assert!(found.is_empty());
    let (found, _) = attic.engine.files().find_names(&tomas, "plan", None, 10).await.unwrap();
    assert_eq!(found.len(), 1);
    assert!(attic.engine.files().recent(&tomas, 10).await.unwrap().iter().all(|c| c[0].name() != "list.txt"));
    // A name taken by what is hidden says no more than that it cannot be used.
    let made = attic.engine.files().make_folder(&tomas, open, name("Salaries")).await;
    assert!(matches!(made, Err(StoreError::NameUnusable(_))));
    let put = attic.put_as(&tomas, "Open/Salaries", b"x").await;
    assert!(matches!(put, Err(StoreError::NameUnusable(_))));
    // Neither moving nor removing the whole takes it along unseen.
    let removed = attic.engine.files().remove(&tomas, open, Default::default()).await;
    assert!(matches!(removed, Err(StoreError::HoldsOthers)), "{removed:?}");
    // An archive has what is seen.
    let at = attic.engine.history().now_moment().await.unwrap();
    let tree = attic.engine.files().tree(&tomas, &[open], at, 100).await.unwrap();
    assert_eq!(tree.items.iter().map(|i| &*i.path).collect::<Vec<_>>(), ["Open", "Open/plan.txt"]);
    let (changes, _, _) = attic
        .engine
        .files()
        .changes(&tomas, &attic.engine.home_of(attic.ines.account.unwrap()).unwrap(), begun, 100)
        .await
        .unwrap();
    assert!(changes.is_empty());
    attic.put("Open/Salaries/list.txt", b"secret, changed").await;
    attic.put("Open/plan.txt", b"changed").await;
    let home = attic.engine.home_of(attic.ines.account.unwrap()).unwrap();
    let (changes, _, _) = attic.engine.files().changes(&tomas, &home, at, 100).await.unwrap();
    assert_eq!(changes.len(), 1);
    // What goes where it is hidden is told as gone.
    let plan = attic.find("Open/plan.txt").await.unwrap().node;
    let at = attic.engine.history().now_moment().await.unwrap();
    attic
        .engine
        .files()
        .move_node(&attic.ines, plan, shut, name("plan.txt"), false, Default::default())
        .await
        .unwrap();
    let (changes, _, _) = attic.engine.files().changes(&tomas, &home, at, 100).await.unwrap();
    assert!(matches!(&changes[..], [Change::OutOfSight(p)] if p.row.node == plan), "{changes:?}");
    assert!(is_gone(attic.engine.history().states(&tomas, plan, 10).await));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_given_below_a_shelf_stands_alone_and_tells_nothing_of_what_is_above() {
    let attic = Attic::new().await;
    let tomas = attic.person("tomas").await;
    attic.mkdir("Private").await;
    let deep = attic.mkdir("Private/Deep").await;
    attic.put("Private/Deep/one.txt", b"1").await;
    attic.put("Private/note.txt", b"note").await;
    let note = attic.find("Private/note.txt").await.unwrap().node;
    attic.give(deep, me(&tomas), Gives::Allow(Level::Edit)).await;
    attic.give(note, me(&tomas), Gives::Allow(Level::Edit)).await;

    let given = attic.engine.grants().given(&tomas).await.unwrap();
    let names: Vec<_> = given.iter().map(|(chain, level, _)| (chain[0].name(), *level)).collect();
    assert_eq!(names, [("Deep", Level::Edit), ("note.txt", Level::Edit)]);
    let one = attic.engine.files().resolve(&tomas, "given", &["Deep", "one.txt"].map(name)).await.unwrap();
    let chain = attic.engine.files().chain(&tomas, one.node, Level::View).await.unwrap();
    let way: Vec<_> = chain.iter().map(|r| &**r).collect();
    let way = attic.engine.files().way_of(&tomas, &way).await.unwrap();
    assert_eq!((way.path.as_str(), way.steps.len()), ("given:/Deep/one.txt", 2));
    assert!(is_gone(attic.engine.files().chain(&tomas, chain[2].node, Level::View).await));
    assert!(is_gone(attic.engine.files().resolve(&tomas, "given", &["Private"].map(name)).await));

    // A file that may be edited gets new bytes and a new name, though nothing may be put beside it.
    let path = yellow_attic_core::ShelfPath { shelf: "given".into(), names: vec![name("note.txt")] };
    let (parent, target) = attic.engine.files().target(&tomas, &path).await.unwrap();
    assert!(attic.engine.files().check_put(&tomas, parent, &target).await.unwrap().is_some());
    attic.put_as(&tomas, "Private/note.txt", b"note, edited").await.unwrap();
    assert!(is_gone(attic.put_as(&tomas, "Private/other.txt", b"x").await));
    attic
        .engine
        .files()
        .move_node(&tomas, note, parent, name("note 2.txt"), false, Default::default())
        .await
        .unwrap();
    assert_eq!(attic.cat("Private/note 2.txt").await, b"note, edited");

    // Given back, it is gone at once; the file is not.
    let grant = given[1].2[0].id;
    attic.engine.grants().end_grant(&tomas, grant).await.unwrap();
    assert!(is_gone(attic.engine.files().chain(&tomas, note, Level::View).await));
    attic.find("Private/note 2.txt").await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn groups_add_up_end_dates_end_and_all_of_it_survives_a_restart() {
    let attic = Attic::new().await;
    let tomas = attic.person("tomas").await;
    let folder = attic.mkdir("Archive").await;
    let readers = attic.engine.people().make_group(&attic.ines, "Readers", "").await.unwrap();
    let writers = attic.engine.people().make_group(&attic.ines, "Writers", "").await.unwrap();
    for alike in ["readers", " READERS ", "\u{ff32}eaders", "R\u{435}aders"] {
        let made = attic.engine.people().make_group(&attic.ines, alike, "").await;
        assert!(matches!(made, Err(StoreError::Exists(_))), "{alike}");
    }
    attic.give(folder, Subject::Group(readers.id), Gives::Allow(Level::View)).await;
    attic.give(folder, Subject::Group(writers.id), Gives::Allow(Level::Edit)).await;
    let level = async |attic: &Attic| {
        let chain = attic.engine.files().chain(&attic.ines, folder, Level::View).await.unwrap();
        attic.engine.grants().level(&tomas, &chain)
    };
    assert_eq!(level(&attic).await, None);
    let account = tomas.account.unwrap();
    attic.engine.people().change_members(&attic.ines, &readers, vec![account], vec![]).await.unwrap();
    assert_eq!(level(&attic).await, Some(Level::View));
    attic.engine.people().change_members(&attic.ines, &writers, vec![account], vec![]).await.unwrap();
    assert_eq!(level(&attic).await, Some(Level::Edit));
    attic.engine.people().change_group(&attic.ines, writers.id, Some("Scribes"), None, None).await.unwrap();
    let attic = attic.reopen().await;
    assert_eq!(level(&attic).await, Some(Level::Edit));
    attic.engine.people().end_group(&attic.ines, &writers).await.unwrap();
    assert_eq!(level(&attic).await, Some(Level::View));
    // An end date counts without anybody doing anything.
    let until = attic.engine.now_ms() + 1000;
    let gives = Gives::Allow(Level::Manage);
    let new =
        NewGrant { node: folder, subject: me(&tomas), gives, until: Some(until), message: String::new() };
    attic.engine.grants().give(&attic.ines, new).await.unwrap();
    assert_eq!(level(&attic).await, Some(Level::Manage));
    attic.clock.set(until);
    assert_eq!(level(&attic).await, Some(Level::View));
    // One who is disabled is nobody's session; the last administrator stays.
    let off = AccountChange { disabled: Some(true), ..AccountChange::default() };
    attic.engine.people().change_account(&attic.ines, "tomas", off.clone()).await.unwrap();
    assert!(attic.engine.grants().who(&attic.ines, folder).await.unwrap().iter().all(|(a, _)| *a != account));
    let last = attic.engine.people().change_account(&attic.ines, "ines", off).await;
    assert!(matches!(last, Err(StoreError::LastAdministrator)), "{last:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn only_who_manages_gives_and_a_move_lets_nobody_in_unasked() {
    let attic = Attic::new().await;
    let (tomas, oona) = (attic.person("tomas").await, attic.person("oona").await);
    let closed = attic.mkdir("Closed").await;
    let open = attic.mkdir("Open").await;
    attic.put("Closed/plan.txt", b"plan").await;
    let plan = attic.find("Closed/plan.txt").await.unwrap().node;
    attic.give(closed, me(&tomas), Gives::Allow(Level::Edit)).await;
    attic.give(open, me(&tomas), Gives::Allow(Level::Edit)).await;
    attic.give(open, me(&oona), Gives::Allow(Level::View)).await;
    let new = NewGrant {
        node: closed,
        subject: me(&oona),
        gives: Gives::Allow(Level::View),
        until: None,
        message: String::new(),
    };
    let given = attic.engine.grants().give(&tomas, new.clone()).await;
    assert!(matches!(given, Err(StoreError::NotAllowed { need: "manage", .. })));
    assert!(is_gone(attic.engine.grants().give(&oona, new).await));
    let put = |actor: Actor| {
        let engine = attic.engine.clone();
        async move {
            engine.files().move_node(&actor, plan, open, name("plan.txt"), false, Default::default()).await
        }
    };
    let moved = put(tomas.clone()).await;
    assert!(matches!(&moved, Err(StoreError::Widens(who)) if who == "oona"), "{moved:?}");
    attic.give(closed, me(&oona), Gives::Allow(Level::View)).await;
    put(tomas.clone()).await.unwrap();
    // The owner decides over all of it.
    let back = attic.engine.files().move_node(
        &attic.ines,
        plan,
        closed,
        name("plan.txt"),
        false,
        Default::default(),
    );
    back.await.unwrap();

    // Starting afresh drops what is given further up; whoever managed goes on managing.
    attic.give(open, me(&tomas), Gives::Allow(Level::Manage)).await;
    let inner = attic.mkdir("Open/Inner").await;
    attic.engine.grants().set_afresh(&tomas, inner, true).await.unwrap();
    assert!(is_gone(attic.engine.files().chain(&oona, inner, Level::View).await));
    attic.engine.files().chain(&tomas, inner, Level::Manage).await.unwrap();
    attic.engine.files().chain(&attic.ines, inner, Level::Manage).await.unwrap();
    attic.engine.grants().set_afresh(&tomas, inner, false).await.unwrap();
    attic.engine.files().chain(&oona, inner, Level::View).await.unwrap();

    // Rights stay where they are given, whatever is removed and brought back.
    attic.engine.files().remove(&attic.ines, open, Default::default()).await.unwrap();
    assert!(is_gone(attic.engine.files().chain(&oona, open, Level::View).await));
    attic.engine.history().restore(&attic.ines, open, None, Place::Last).await.unwrap();
    attic.engine.files().chain(&oona, open, Level::View).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn an_invitation_counts_once_until_it_expires_and_until_a_later_one() {
    let attic = Attic::new().await;
    attic.person("tomas").await;
    let tomas = attic.engine.people().account_named("tomas").await.unwrap().unwrap();
    let accept = async |attic: &Attic, token: [u8; 32], hash: &str| {
        attic.engine.sign_ins().accept_invitation(&attic.ines, &tomas, token, hash.into()).await
    };
    let until = attic.engine.now_ms() + 1000;
    attic.engine.sign_ins().invite(&attic.ines, &tomas, [1; 32], until).await.unwrap();
    attic.engine.sign_ins().invite(&attic.ines, &tomas, [2; 32], until).await.unwrap();
    assert!(attic.engine.sign_ins().invitation([1; 32]).await.unwrap().is_none());
    assert!(is_gone(accept(&attic, [1; 32], "first").await));
    // Of two at once one is refused, and its password is not the one that counts.
    let (one, other) = tokio::join!(accept(&attic, [2; 32], "one"), accept(&attic, [2; 32], "other"));
    assert_eq!((one.is_ok(), other.is_ok()), (true, false));
    assert!(is_gone(other));
    assert_eq!(attic.engine.people().account_named("tomas").await.unwrap().unwrap().password, "one");
    assert!(attic.engine.sign_ins().invitation([2; 32]).await.unwrap().unwrap().used_at.is_some());
    attic.engine.sign_ins().invite(&attic.ines, &tomas, [3; 32], until).await.unwrap();
    let attic = attic.reopen().await;
    attic.clock.set(until);
    assert!(is_gone(accept(&attic, [3; 32], "late").await));
    assert_eq!(attic.engine.people().account_named("tomas").await.unwrap().unwrap().password, "one");
}

/// Against sentences read one after the other, under random grants, memberships and moves.
#[tokio::test(flavor = "multi_thread")]
async fn random_trees_groups_grants_and_moves_give_what_a_slow_model_gives() {
    let attic = Attic::new().await;
    let mut seed = 7u64;
    let mut dice = |below: u64| {
        seed = seed.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
        (seed >> 33) % below
    };
    let mut people = vec![attic.ines.clone()];
    for sign_in in ["tomas", "oona", "bruno"] {
        people.push(attic.person(sign_in).await);
    }
    let mut groups = Vec::new();
    for group in ["A", "B", "C"] {
        groups.push(attic.engine.people().make_group(&attic.ines, group, "").await.unwrap());
    }
    let new = NewShelf {
        kind: ShelfKind::Shared,
        name: name("Shared"),
        owner: people[1].account,
        grants: vec![(Subject::Everyone, Gives::Allow(Level::View))],
    };
    let shared = attic.engine.space().make_shelf(&attic.ines, new).await.unwrap();
    let mut parents: BTreeMap<NodeId, NodeId> = BTreeMap::new();
    let mut nodes = vec![attic.home, shared.root];
    let mut grants: BTreeMap<(NodeId, Subject), Gives> = BTreeMap::new();
    grants.insert((shared.root, Subject::Everyone), Gives::Allow(Level::View));
    let mut afresh: Vec<NodeId> = Vec::new();
    let mut members: Vec<(GroupId, AccountId)> = Vec::new();
    let service = Actor::service();
    for step in 0..220 {
        let node = nodes[dice(nodes.len() as u64) as usize];
        match dice(8) {
            0 | 1 => {
                let done = attic.engine.files().make_folder(&service, node, name(&format!("f{step}"))).await;
                if let Ok(done) = done {
                    let made = done.row.unwrap().node;
                    parents.insert(made, node);
                    nodes.push(made);
                }
            }
            2..=4 => {
                let subject = match dice(6) {
                    0 => Subject::Everyone,
                    1 | 2 => Subject::Group(groups[dice(3) as usize].id),
                    _ => me(&people[dice(4) as usize]),
                };
                let gives =
                    if dice(4) == 0 { Gives::Deny } else { Gives::Allow(Level::ALL[dice(4) as usize]) };
                let new = NewGrant { node, subject, gives, until: None, message: String::new() };
                if attic.engine.grants().give(&service, new).await.is_ok() {
                    grants.insert((node, subject), gives);
                }
            }
            5 => {
                let set = dice(2) == 0;
                if attic.engine.grants().set_afresh(&service, node, set).await.is_ok() {
                    afresh.retain(|n| *n != node);
                    if set {
                        afresh.push(node);
                    }
                }
            }
            6 => {
                let (group, account) = (&groups[dice(3) as usize], people[dice(4) as usize].account.unwrap());
                members.retain(|m| *m != (group.id, account));
                if dice(2) == 0 {
                    members.push((group.id, account));
                    attic
                        .engine
                        .people()
                        .change_members(&service, group, vec![account], vec![])
                        .await
                        .unwrap();
                } else {
                    attic
                        .engine
                        .people()
                        .change_members(&service, group, vec![], vec![account])
                        .await
                        .unwrap();
                }
            }
            _ => {
                let to = nodes[dice(nodes.len() as u64) as usize];
                let wanted = name(&format!("f{step}"));
                let moved = attic
                    .engine
                    .files()
                    .move_node(&service, node, to, wanted, false, Default::default())
                    .await;
                if moved.is_ok() {
                    parents.insert(node, to);
                }
            }
        }
        if step % 10 != 9 {
            continue;
        }
        for node in &nodes {
            let mut way = vec![*node];
            while let Some(parent) = parents.get(way.last().unwrap()) {
                way.push(*parent);
            }
            let owner = if way.last() == Some(&attic.home) { &people[0] } else { &people[1] };
            let chain = attic.engine.files().chain(&service, *node, Level::View).await.unwrap();
            assert_eq!(chain.iter().map(|r| r.node).collect::<Vec<_>>(), way);
            for person in &people {
                let account = person.account.unwrap();
                let mine = |s: &Subject| match s {
                    Subject::Everyone => true,
                    Subject::Account(a) => *a == account,
                    Subject::Group(g) => members.contains(&(*g, account)),
                };
                let all = |n: NodeId| {
                    grants.iter().filter(move |((at, s), _)| *at == n && mine(s)).map(|(_, g)| *g)
                };
                let denied = way.iter().any(|n| all(*n).any(|g| g == Gives::Deny));
                let upto = way.iter().position(|n| afresh.contains(n)).unwrap_or(way.len() - 1);
                let allowed = way[..=upto].iter().flat_map(|n| all(*n)).filter_map(|g| match g {
                    Gives::Allow(level) => Some(level),
                    Gives::Deny => None,
                });
                let expected = match person.account == owner.account {
                    true => Some(Level::Manage),
                    false if denied => None,
                    false => allowed.max(),
                };
                assert_eq!(
                    attic.engine.grants().level(person, &chain),
                    expected,
                    "step {step}, {} at {node}",
                    person.who
                );
                let told = attic.engine.grants().why(&service, account, *node).await.unwrap();
                assert_eq!(told.level, expected);
            }
        }
    }
}

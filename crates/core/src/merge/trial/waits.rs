//! What waits for a person: many removals, what a rollback undid, copies without end.

use super::*;

#[test]
fn many_removals_at_once_wait_until_somebody_allows_them() {
    let mut world = World::new(1, 2, false);
    for n in 0..80 {
        let bytes = new_bytes(&mut world.chance, &mut world.ledger);
        world.service.make(PAIR, &format!("file {n}"), Some(bytes), false).unwrap();
    }
    world.quiet().unwrap();
    // Its disk was emptied; a few would be nobody's concern.
    let all = world.machines[0].disk.all();
    all.iter().take(30).for_each(|inode| world.machines[0].disk.remove(*inode));
    world.quiet().unwrap();
    assert_eq!(world.service.tree().len(), 50);
    let all = world.machines[0].disk.all();
    all.into_iter().for_each(|inode| world.machines[0].disk.remove(inode));
    assert!(world.quiet().is_err(), "it waits");
    assert_eq!(world.service.tree().len(), 50, "nothing was removed");
    let asks = world.machines[0].pair.asks().unwrap();
    assert_eq!((asks.here, asks.there, asks.of), (0, 50, 50));
    // A stop forgets nothing of it.
    world.machines[0].keep();
    world.machines[0].stop();
    assert!(world.quiet().is_err() && world.service.tree().len() == 50);
    // Nor does it go without being asked for because much has come since, and it waits for somebody all the same.
    for n in 0..150 {
        let bytes = new_bytes(&mut world.chance, &mut world.ledger);
        world.service.make(PAIR, &format!("later {n}"), Some(bytes), false).unwrap();
    }
    assert!(world.quiet().is_err() && world.service.tree().len() == 200);
    assert_eq!(world.machines[0].pair.asks().map(|asks| (asks.there, asks.of)), Some((50, 200)));
    let later = world.machines[0].disk.all();
    assert_eq!(later.len(), 150);
    world.machines[0].pair.allow();
    // Where it comes all at once, the other computer asks as well.
    let _ = world.quiet();
    assert_eq!(world.service.tree().len(), 150);
    world.machines[1].pair.allow();
    world.quiet().and_then(|()| world.check()).unwrap();
    assert!(world.machines.iter().all(|m| m.disk.all().len() == 150));
}

#[test]
fn what_a_rollback_undoes_asks_nobody_and_what_was_changed_on_it_waits() {
    let mut world = World::new(1, 1, false);
    let make = |world: &mut World, name: &str| {
        let bytes = new_bytes(&mut world.chance, &mut world.ledger);
        world.service.make(PAIR, name, Some(bytes), false).unwrap();
    };
    for n in 0..80 {
        make(&mut world, &format!("file {n}"));
    }
    world.quiet().unwrap();
    // Two were changed here, and the service has not heard of it.
    let inode = |world: &World, name: &str| world.machines[0].disk.child(disk::TOP, name).unwrap();
    for name in ["file 3", "file 70"] {
        let (file, bytes) = (inode(&world, name), new_bytes(&mut world.chance, &mut world.ledger));
        world.machines[0].disk.write(file, bytes, None);
    }
    // A rollback removes most files and gives the others their bytes of before.
    let begun = Moment(world.service.moment);
    let rows: Vec<(i64, String)> = world
        .service
        .rows
        .iter()
        .filter(|(_, r)| r.bytes.is_some())
        .map(|(id, r)| (*id, r.name.clone()))
        .collect();
    for (id, name) in rows {
        let now = world.service.moment;
        match name.trim_start_matches("file ").parse::<u32>().unwrap() >= 20 {
            true => world.service.remove(id, now).map(drop).unwrap(),
            false => world.service.put_onto(id, now, ([9; 32], 5), false).map(drop).unwrap(),
        }
    }
    let machine = &mut world.machines[0];
    let (changes, upto) = world.service.changes(machine.pair.upto(), usize::MAX);
    let rollback = Rollback { node: NodeId(PAIR), begun, until: Some(upto) };
    machine.pair.told_with(changes, upto, vec![rollback]);
    world.quiet().unwrap();
    assert_eq!(world.machines[0].pair.asks(), None, "nobody is asked");
    assert_eq!(
        world.machines[0].disk.all().len(),
        21,
        "what was removed by it goes, but for what was changed"
    );
    assert!(!world.service.tree().keys().any(|path| path.contains("DESK")), "nothing is pushed");
    assert_eq!(world.machines[0].pair.held().filter(|(.., why)| **why == Held::RolledBack).count(), 2);
    // A stop forgets nothing of it; somebody lets it go up.
    world.machines[0].keep();
    world.machines[0].stop();
    world.quiet().unwrap();
    assert_eq!(world.machines[0].pair.held().count(), 2);
    world.machines[0].pair.allow();
    world.quiet().and_then(|()| world.check()).unwrap();
    assert_eq!(world.service.tree().len(), 22);
}

#[test]
fn of_what_two_write_to_all_the_time_few_copies_are_made_and_none_in_a_repository() {
    let mut world = World::new(1, 1, false);
    let make = |world: &mut World, folder: i64, name: &str, is_folder: bool| {
        let bytes = (!is_folder).then(|| new_bytes(&mut world.chance, &mut world.ledger));
        world.service.make(folder, name, bytes, false).unwrap()[0].node.0
    };
    let below = make(&mut world, PAIR, "project", true);
    let repository = make(&mut world, below, ".git", true);
    let refs = make(&mut world, repository, "refs", true);
    let files = [make(&mut world, PAIR, "log.txt", false), make(&mut world, refs, "head", false)];
    world.quiet().unwrap();
    let both_write = |world: &mut World| {
        for file in files {
            let now = world.service.moment;
            let bytes = new_bytes(&mut world.chance, &mut world.ledger);
            world.service.put_onto(file, now, bytes, false).unwrap();
        }
        for way in [&["log.txt"][..], &["project", ".git", "refs", "head"][..]] {
            let bytes = new_bytes(&mut world.chance, &mut world.ledger);
            let disk = &mut world.machines[0].disk;
            let inode = way.iter().fold(disk::TOP, |folder, name| disk.child(folder, name).unwrap());
            disk.write(inode, bytes, None);
        }
    };
    let copies = |world: &World, folder: &str| {
        let is_copy = |path: &&String| {
            let (its, name) = path.rsplit_once('/').unwrap_or(("", path));
            its == folder && crate::merge::names::original_of(name).is_some()
        };
        world.service.tree().keys().filter(is_copy).count()
    };
    for _ in 0..5 {
        both_write(&mut world);
        world.quiet_while(false).unwrap();
    }
    assert_eq!((copies(&world, ""), copies(&world, "/project")), (5, 5));
    assert!(!world.service.tree().keys().any(|path| path.contains(".git/refs/head ")));
    // From then on it is held, and what was written here stays here.
    both_write(&mut world);
    world.quiet_while(false).unwrap();
    assert_eq!((copies(&world, ""), copies(&world, "/project")), (5, 5));
    assert_eq!(world.machines[0].pair.held().filter(|(.., why)| **why == Held::Copies).count(), 2);
    // Somebody says that it is meant so; or an hour goes by.
    world.machines[0].pair.allow();
    world.quiet_while(false).unwrap();
    assert_eq!((copies(&world, ""), copies(&world, "/project")), (6, 6));
    for _ in 0..5 {
        both_write(&mut world);
        world.quiet_while(false).unwrap();
    }
    assert_eq!(world.machines[0].pair.held().count(), 2);
    world.quiet().and_then(|()| world.check()).unwrap();
    assert_eq!((copies(&world, ""), copies(&world, "/project")), (11, 11));
}

//! The everyday verbs.

use crate::support::{Attic, START, name, on_disk};
use yellow_attic_core::conditions::{Conditions, parse_tags};
use yellow_attic_store::{Actor, Change, Sort, StoreError};

#[tokio::test(flavor = "multi_thread")]
async fn a_file_lies_on_the_disk_under_its_real_name_and_comes_back_the_same() {
    let attic = Attic::new().await;
    attic.mkdir("Logbooks").await;
    attic.put("Logbooks/p014.txt", b"fog at six").await;
    assert_eq!(attic.cat("Logbooks/p014.txt").await, b"fog at six");
    attic.engine.settle().await.unwrap();
    assert_eq!(on_disk(&attic.files())["Logbooks/p014.txt"], b"fog at six");
    assert!(on_disk(&attic.data().join("staging")).is_empty());
    let attic = attic.reopen().await;
    assert_eq!(attic.cat("Logbooks/p014.txt").await, b"fog at six");
}

#[tokio::test(flavor = "multi_thread")]
async fn replacing_keeps_the_old_bytes_in_the_past() {
    let attic = Attic::new().await;
    let first = attic.put("a.txt", b"one").await;
    attic.clock.advance(1000);
    let second = attic.put("a.txt", b"two").await;
    assert_eq!(first.row.as_ref().unwrap().node, second.row.as_ref().unwrap().node);
    assert!(first.created && !second.created);
    let history = attic.engine.history().states(&attic.ines, first.row.unwrap().node, 10).await.unwrap();
    assert_eq!(history.len(), 2);
    assert_eq!(attic.bytes_of(&history[0].row).await, b"two");
    assert_eq!(attic.bytes_of(&history[1].row).await, b"one");
    attic.engine.settle().await.unwrap();
    assert_eq!(attic.bytes_of(&history[1].row).await, b"one");
}

#[tokio::test(flavor = "multi_thread")]
async fn conditions_are_checked_at_the_commit() {
    let attic = Attic::new().await;
    let tag = attic.put("a.txt", b"one").await.row.unwrap().etag().unwrap();
    attic.put("a.txt", b"two").await;
    let staged = attic.engine.stage_small(b"three".to_vec()).unwrap();
    let when = Conditions { if_match: parse_tags(&tag), ..Conditions::default() };
    let refused = attic.engine.files().put(&attic.ines, attic.home, name("a.txt"), staged, 0, when).await;
    assert!(matches!(refused, Err(StoreError::ConditionFailed { present: Some(_) })));
    assert_eq!(attic.cat("a.txt").await, b"two");
    attic.engine.settle().await.unwrap();
    assert!(on_disk(&attic.data().join("staging")).is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn sums_follow_every_change() {
    let attic = Attic::new().await;
    attic.mkdir("a").await;
    attic.mkdir("a/b").await;
    attic.put("a/b/x", &[1; 100]).await;
    attic.put("a/b/y", &[1; 50]).await;
    attic.put("a/b/x", &[2; 70]).await;
    let sums = async |path: &str| {
        let f = attic
            .engine
            .files()
            .sums(&attic.ines, attic.find(path).await.unwrap().node)
            .await
            .unwrap()
            .unwrap();
        (f.bytes, f.files, f.folders, f.past_bytes)
    };
    assert_eq!(sums("").await, (120, 2, 2, 100));
    attic.mkdir("c").await;
    attic.mv("a/b", "c/b").await;
    assert_eq!(sums("a").await, (0, 0, 0, 0));
    assert_eq!(sums("c").await, (120, 2, 1, 100));
    attic.rm("c/b").await;
    assert_eq!(sums("c").await, (0, 0, 0, 220));
    assert_eq!(sums("").await, (0, 0, 2, 220));
}

#[tokio::test(flavor = "multi_thread")]
async fn lists_come_in_pages_in_every_order_with_folders_first() {
    let attic = Attic::new().await;
    for (i, file) in ["p10.png", "p9.png", "a.txt", "Z.txt"].iter().enumerate() {
        attic.clock.advance(1000);
        attic.put(file, &vec![0; 10 * (i + 1)]).await;
    }
    attic.mkdir("zoo").await;
    assert_eq!(attic.ls("").await, ["zoo", "a.txt", "p9.png", "p10.png", "Z.txt"]);
    let order = async |sort, descending| {
        let mut names = Vec::new();
        let mut cursor: Option<String> = None;
        loop {
            let page = attic
                .engine
                .files()
                .list(&attic.ines, attic.home, sort, descending, 2, cursor.as_deref())
                .await
                .unwrap();
            assert!(page.items.len() <= 2);
            names.extend(page.items.iter().map(|e| e.row.name().to_string()));
            cursor = page.next;
            if cursor.is_none() {
                return names;
            }
        }
    };
    assert_eq!(order(Sort::Name, true).await, ["zoo", "Z.txt", "p10.png", "p9.png", "a.txt"]);
    assert_eq!(order(Sort::Size, false).await, ["zoo", "p10.png", "p9.png", "a.txt", "Z.txt"]);
    assert_eq!(order(Sort::Changed, true).await, ["zoo", "Z.txt", "a.txt", "p9.png", "p10.png"]);
    let page = attic.engine.files().list(&attic.ines, attic.home, Sort::Name, false, 2, None).await.unwrap();
    let other =
        attic.engine.files().list(&attic.ines, attic.home, Sort::Size, false, 2, page.next.as_deref()).await;
    assert!(matches!(other, Err(StoreError::Cursor(_))));
}

#[tokio::test(flavor = "multi_thread")]
async fn refusals_say_what_is_in_the_way_and_change_nothing() {
    let attic = Attic::new().await;
    attic.mkdir("a").await;
    attic.mkdir("a/b").await;
    attic.put("f", b"1").await;
    let to = |from: &'static str, to: &'static str| attic.mv_as(&attic.ines, from, to, true);
    assert!(matches!(to("a", "a/b/c").await, Err(StoreError::IntoItself)));
    assert!(matches!(to("f", "a").await, Err(StoreError::FolderInTheWay(_))));
    assert!(matches!(to("a", "f").await, Err(StoreError::FolderInTheWay(_))));
    assert!(matches!(attic.put_as(&attic.ines, "a", b"x").await, Err(StoreError::FolderInTheWay(_))));
    let file = attic.find("f").await.unwrap().node;
    let below = attic.engine.files().make_folder(&attic.ines, file, name("x")).await;
    assert!(matches!(below, Err(StoreError::NotAFolder(_))));
    let twice = attic.engine.files().make_folder(&attic.ines, attic.home, name("a")).await;
    assert!(matches!(twice, Err(StoreError::NameTaken(_))));
    let top = attic.engine.files().remove(&attic.ines, attic.home, Conditions::default()).await;
    assert!(matches!(top, Err(StoreError::ShelfTop)));
    assert_eq!(attic.ls("").await, ["a", "f"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn many_writers_at_once_all_get_their_answer_and_their_file() {
    let attic = std::sync::Arc::new(Attic::new().await);
    let mut running = Vec::new();
    for i in 0..200 {
        let attic = attic.clone();
        running.push(tokio::spawn(async move {
            attic.put(&format!("f{i}"), format!("bytes {i}").as_bytes()).await;
        }));
    }
    for task in running {
        task.await.unwrap();
    }
    attic.engine.settle().await.unwrap();
    let disk = on_disk(&attic.files());
    assert_eq!(disk.len(), 200);
    for i in 0..200 {
        assert_eq!(disk[&format!("f{i}")], format!("bytes {i}").as_bytes());
    }
    let check = attic.engine.people().check_record().await.unwrap();
    assert_eq!(check.broken, None);
    assert!(check.rows >= 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn changes_since_a_number_tell_what_came_and_went() {
    let attic = Attic::new().await;
    attic.mkdir("a").await;
    attic.put("a/x", b"1").await;
    let since = attic.engine.history().now_moment().await.unwrap();
    attic.put("a/x", b"2").await;
    attic.put("y", b"1").await;
    attic.rm("y").await;
    attic.mv("a", "b").await;
    let shelf = attic.engine.home_of(attic.ines.account.unwrap()).unwrap();
    let (changes, upto, more) = attic.engine.files().changes(&attic.ines, &shelf, since, 100).await.unwrap();
    let told: Vec<_> = changes
        .iter()
        .map(|c| match c {
            Change::Changed(r) => format!("changed {}", r.name()),
            Change::Removed(p) => format!("removed {}", p.row.name()),
            Change::Arrived(r) => format!("arrived {}", r.name()),
            Change::Left(p) => format!("left {}", p.row.name()),
            Change::OutOfSight(p) => format!("out of sight {}", p.row.name()),
        })
        .collect();
    assert_eq!(told, ["changed x", "removed y", "changed b"]);
    assert!(!more);
    let (none, _, _) = attic.engine.files().changes(&attic.ines, &shelf, upto, 100).await.unwrap();
    assert!(none.is_empty());
    let ahead = yellow_attic_core::Moment(upto.0 + 1);
    assert!(matches!(
        attic.engine.files().changes(&attic.ines, &shelf, ahead, 9).await,
        Err(StoreError::NoSuchMoment)
    ));
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_is_refused_for_a_taken_name_sees_what_took_it() {
    let attic = Attic::new().await;
    for n in 0..150 {
        let make = || {
            let (engine, ines, home) = (attic.engine.clone(), attic.ines.clone(), attic.home);
            tokio::spawn(async move {
                let wanted = name(&format!("folder {n}"));
                match engine.files().make_folder(&ines, home, wanted.clone()).await {
                    Ok(_) => true,
                    Err(StoreError::NameTaken(_)) => {
                        engine.files().child(&ines, home, &wanted).await.unwrap().is_some()
                    }
                    Err(e) => panic!("{e}"),
                }
            })
        };
        let (first, second, third) = (make(), make(), make());
        assert!(first.await.unwrap() && second.await.unwrap() && third.await.unwrap(), "folder {n}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_went_into_a_folder_and_was_removed_with_it_is_told_as_gone_from_where_it_was() {
    let attic = Attic::new().await;
    attic.mkdir("folder").await;
    let known = attic.put("known", b"1").await.row.unwrap().node;
    let since = attic.engine.history().now_moment().await.unwrap();
    attic.mv("known", "folder/known").await;
    attic.put("folder/never known", b"1").await;
    attic.rm("folder").await;
    let shelf = attic.engine.home_of(attic.ines.account.unwrap()).unwrap();
    let (changes, _, _) = attic.engine.files().changes(&attic.ines, &shelf, since, 100).await.unwrap();
    let removed: Vec<_> = changes
        .iter()
        .map(|c| match c {
            Change::Removed(p) => p.row.node,
            other => panic!("{other:?}"),
        })
        .collect();
    let folder = attic
        .engine
        .history()
        .state_at(known, attic.engine.history().now_moment().await.unwrap())
        .await
        .unwrap()
        .unwrap();
    assert_eq!(removed, [known, folder.parent.unwrap()]);
}

#[tokio::test(flavor = "multi_thread")]
async fn copies_of_files_and_folders_are_whole_and_their_own() {
    let attic = Attic::new().await;
    attic.mkdir("a").await;
    attic.mkdir("a/deep").await;
    attic.put("a/deep/x", b"one").await;
    attic.put("a/big", &vec![7; 200_000]).await;
    let a = attic.find("a").await.unwrap().node;
    let copy = attic.engine.history().copy(&attic.ines, a, attic.home, name("b")).await.unwrap();
    assert!(copy.created);
    attic.put("a/deep/x", b"two").await;
    assert_eq!(attic.cat("b/deep/x").await, b"one");
    assert_eq!(attic.cat("b/big").await, vec![7; 200_000]);
    attic.engine.run_jobs().await.unwrap();
    attic.engine.settle().await.unwrap();
    assert_eq!(on_disk(&attic.files())["b/deep/x"], b"one");
    let sums =
        attic.engine.files().sums(&attic.ines, attic.find("").await.unwrap().node).await.unwrap().unwrap();
    assert_eq!((sums.files, sums.folders, sums.bytes), (4, 4, 400_006));
    let again = attic.engine.history().copy(&attic.ines, a, attic.home, name("b")).await;
    assert!(matches!(again, Err(StoreError::NameTaken(_))));
    let inside = attic.engine.history().copy(&attic.ines, a, a, name("c")).await;
    assert!(matches!(inside, Err(StoreError::IntoItself)));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_changed_or_removed_row_of_the_record_shows() {
    let attic = Attic::new().await;
    attic.put("a", b"1").await;
    attic.put("b", b"1").await;
    attic.put("c", b"1").await;
    assert_eq!(attic.engine.people().check_record().await.unwrap().broken, None);
    let rows = attic.engine.people().check_record().await.unwrap().rows;
    let db = attic.data().join("catalogue.db");
    attic.engine.stop().await;
    let change = async |sql: &'static str| {
        let copy = attic.dir.path().join("copy");
        let _ = std::fs::remove_dir_all(&copy);
        std::fs::create_dir(&copy).unwrap();
        std::fs::copy(&db, copy.join("catalogue.db")).unwrap();
        let pool = sqlx::SqlitePool::connect(copy.join("catalogue.db").to_str().unwrap()).await.unwrap();
        sqlx::query(sql).execute(&pool).await.unwrap();
        pool.close().await;
        let engine = yellow_attic_store::Engine::open(yellow_attic_store::Options::new(&copy)).await.unwrap();
        let broken = engine.people().check_record().await.unwrap().broken;
        engine.stop().await;
        broken
    };
    assert!(
        change("UPDATE record SET fields = replace(fields, 'ines', 'otto') WHERE id = 3").await.is_some()
    );
    assert!(change("UPDATE record SET at = at + 1 WHERE id = 2").await.is_some());
    assert!(change("DELETE FROM record WHERE id = 3").await.is_some());
    let cut = change("DELETE FROM record WHERE id = (SELECT max(id) FROM record)").await;
    assert_eq!(cut.unwrap().0, rows);
    assert!(change("UPDATE record SET account = 99 WHERE id = 3").await.is_some());
    assert!(change("UPDATE record SET node = 1, action = 'x' WHERE id = 3").await.is_some());
    // Fields that are gone, the salt with them, show as well: no erasure names them.
    let blank = change("UPDATE record SET fields = NULL, salt = NULL WHERE id = 3").await;
    assert_eq!(blank, Some((3, "its fields are gone, and no erasure names it")));
}

/// Whoever can write the catalogue changes a row and writes all that follows from it anew.
async fn rewritten(db: &std::path::Path, row: i64) {
    use yellow_attic_core::record;
    let pool = sqlx::SqlitePool::connect(db.to_str().unwrap()).await.unwrap();
    sqlx::query("UPDATE record SET fields = replace(fields, 'ines', 'otto') WHERE id = ?")
        .bind(row)
        .execute(&pool)
        .await
        .unwrap();
    type Row = (i64, i64, String, Option<i64>, Option<i64>, String, Vec<u8>);
    let rows: Vec<Row> =
        sqlx::query_as("SELECT id, at, action, account, node, fields, salt FROM record ORDER BY id")
            .fetch_all(&pool)
            .await
            .unwrap();
    let mut link = record::FIRST;
    for (number, at_ms, action, account, node, fields, salt) in rows {
        let fields: Vec<String> = serde_json::from_str(&fields).unwrap();
        let digest = record::digest(&salt, &fields.iter().map(String::as_str).collect::<Vec<_>>());
        link = record::link_all(
            &link,
            record::Covered { number, at_ms, action: &action, account, node },
            &digest,
        );
        sqlx::query("UPDATE record SET digest = ?, link = ? WHERE id = ?")
            .bind(&digest[..])
            .bind(&link[..])
            .bind(number)
            .execute(&pool)
            .await
            .unwrap();
    }
    sqlx::query("UPDATE heads SET link = ?").bind(&link[..]).execute(&pool).await.unwrap();
    pool.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_first_key_proves_that_nobody_wrote_the_record_anew() {
    use yellow_attic_store::audit::check::check_record;
    use yellow_attic_store::people::record::Anchors;
    let attic = Attic::new().await;
    let key = attic.engine.first_record_key().unwrap().to_string();
    attic.put("a", b"1").await;
    // Two days later: the key has moved forward twice, and the end of the first day was kept.
    attic.clock.advance(2 * 86_400_000);
    attic.engine.believe_clock();
    attic.put("b", b"1").await;
    attic.put("c", b"1").await;
    attic.engine.stop().await;
    let data = attic.data();
    let kept = std::fs::read_to_string(data.join("record.heads")).unwrap();
    let (heads, bad) = yellow_attic_store::fs::record_key::heads(&kept);
    assert_eq!((heads.len(), bad), (1, 0));
    assert!(
        !std::fs::read_to_string(data.join("record.key")).unwrap().contains(&key),
        "the first key is wiped"
    );
    let with = |key: Option<&str>, heads| Anchors { key: key.map(str::to_string), heads };
    let found = check_record(&data, with(Some(&key), heads.clone())).await.unwrap();
    assert_eq!((found.broken, found.heads), (None, 1));
    let (from, to) = found.proved.unwrap();
    assert!(to == found.rows && from <= heads[0].row, "{found:?}");
    // Another key proves nothing, and breaks nothing.
    let other = check_record(&data, with(Some(&"0".repeat(64)), vec![])).await.unwrap();
    assert_eq!((other.broken, other.proved), (None, None));
    // Written anew, the chain alone does not tell; the key does, and so does an end of a day that was kept elsewhere.
    let db = data.join("catalogue.db");
    let copy = attic.dir.path().join("kept.db");
    std::fs::copy(&db, &copy).unwrap();
    rewritten(&db, heads[0].row).await;
    assert_eq!(check_record(&data, Anchors::default()).await.unwrap().broken, None);
    assert!(check_record(&data, with(Some(&key), vec![])).await.unwrap().broken.is_some());
    assert!(check_record(&data, with(None, heads.clone())).await.unwrap().broken.is_some());
    // The end cut off: only what was kept elsewhere tells.
    std::fs::copy(&copy, &db).unwrap();
    let _ = std::fs::remove_file(data.join("catalogue.db-wal"));
    let pool = sqlx::SqlitePool::connect(db.to_str().unwrap()).await.unwrap();
    let last = heads[0].row - 1;
    sqlx::query("DELETE FROM record WHERE id > ?").bind(last).execute(&pool).await.unwrap();
    sqlx::query("UPDATE heads SET record = ?1, link = (SELECT link FROM record WHERE id = ?1)")
        .bind(last)
        .execute(&pool)
        .await
        .unwrap();
    pool.close().await;
    assert_eq!(check_record(&data, with(Some(&key), vec![])).await.unwrap().broken, None);
    let told = check_record(&data, with(None, heads)).await.unwrap().broken;
    assert_eq!(told, Some((last + 1, "the last rows are missing")));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_folder_is_the_services_alone_and_the_tree_as_it_was_decided() {
    use std::os::unix::fs::PermissionsExt;
    use yellow_attic_store::TreeAccess;
    let mode = |path: &std::path::Path| std::fs::metadata(path).unwrap().permissions().mode() & 0o7777;
    let attic = Attic::new().await;
    attic.put("small", b"1").await;
    attic.engine.files().make_folder(&attic.ines, attic.home, name("folder")).await.unwrap();
    attic.engine.settle().await.unwrap();
    let data = attic.data();
    for (what, wanted) in [
        ("", 0o700),
        ("catalogue.db", 0o600),
        ("staging", 0o700),
        ("past", 0o700),
        ("shelves", 0o700),
        ("record.key", 0o600),
    ] {
        assert_eq!(mode(&data.join(what)), wanted, "{what}");
    }
    assert_eq!((mode(&attic.files().join("small")), mode(&attic.files().join("folder"))), (0o600, 0o700));
    attic.engine.stop().await;
    assert!(TreeAccess::Open.give_all(&data).unwrap() >= 3);
    // Opened again by whoever it belongs to: the tree stays as it was decided, and what is new is like the rest.
    let attic = attic.reopen().await;
    assert_eq!(attic.engine.tree_access(), TreeAccess::Open);
    attic.put("small", b"2").await;
    attic.put("large", &[7; 300_000]).await;
    attic.engine.files().make_folder(&attic.ines, attic.home, name("other")).await.unwrap();
    let copied = attic.find("folder").await.unwrap().node;
    attic.engine.history().copy(&attic.ines, copied, attic.home, name("copied")).await.unwrap();
    attic.engine.settle().await.unwrap();
    for (what, wanted) in
        [("small", 0o644), ("large", 0o644), ("other", 0o755), ("copied", 0o755), ("folder", 0o755)]
    {
        assert_eq!(mode(&attic.files().join(what)), wanted, "{what}");
    }
    assert_eq!((mode(&data.join("past")), mode(&data.join("catalogue.db"))), (0o700, 0o600));
    attic.engine.stop().await;
    // Only root may give it to any group.
    if std::fs::metadata("/proc/self").is_ok_and(|m| std::os::unix::fs::MetadataExt::uid(&m) == 0) {
        TreeAccess::Group(1).give_all(&data).unwrap();
        let attic = attic.reopen().await;
        attic.put("theirs", b"3").await;
        attic.engine.files().make_folder(&attic.ines, attic.home, name("shared")).await.unwrap();
        attic.engine.settle().await.unwrap();
        for (what, wanted) in [("theirs", 0o640), ("large", 0o640), ("shared", 0o2750)] {
            let path = attic.files().join(what);
            let group = std::os::unix::fs::MetadataExt::gid(&std::fs::metadata(&path).unwrap());
            assert_eq!((mode(&path), group), (wanted, 1), "{what}");
        }
        attic.engine.stop().await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn uploads_in_parts_speak_for_their_room_are_found_again_and_expire() {
    use yellow_attic_store::timeline::uploads::{KEPT_MS, NewUpload};
    let attic = Attic::new().await;
    let home = attic.home;
    let new = |name_of: &str, size| NewUpload {
        parent: home,
        name: name(name_of),
        size,
        open_length: false,
        mtime: None,
        if_match: None,
        if_none_match: None,
        hash: None,
        joining: Default::default(),
    };
    let upload = attic.engine.files().begin_upload(&attic.ines, new("film", 1000)).await.unwrap();
    assert_eq!(attic.engine.reserved(), 1000);
    let (free, _) = attic.engine.disk_space().unwrap();
    // What is spoken for cannot be announced a second time.
    let first =
        attic.engine.files().begin_upload(&attic.ines, new("vast", free - (300 << 20))).await.unwrap();
    let second = attic.engine.files().begin_upload(&attic.ines, new("vast too", free / 2)).await;
    assert!(matches!(second, Err(StoreError::DiskFull { .. })));
    attic.engine.files().end_upload(&attic.ines, &first.id).await.unwrap();
    assert_eq!(attic.engine.reserved(), 1000);
    let mut part = attic.engine.files().append(&attic.ines, &upload.id, 0).await.unwrap();
    part.write(&[1; 400]).unwrap();
    assert_eq!(part.pause().await.unwrap(), 400);
    assert_eq!(attic.engine.reserved(), 600);

    // After a restart it is there, with its room; somebody else does not find it.
    let attic = attic.reopen().await;
    assert_eq!(attic.engine.reserved(), 600);
    let other = Actor { account: Some(yellow_attic_core::AccountId(99)), ..attic.ines.clone() };
    assert!(matches!(attic.engine.files().upload(&other, &upload.id).await, Err(StoreError::NotFound(_))));
    let mut part = attic.engine.files().append(&attic.ines, &upload.id, 400).await.unwrap();
    part.write(&[2; 600]).unwrap();
    // A later sender takes over from one that hangs.
    let waiting = {
        let (engine, ines, id) = (attic.engine.clone(), attic.ines.clone(), upload.id.clone());
        tokio::spawn(async move { engine.files().append(&ines, &id, 1000).await.map(drop) })
    };
    loop {
        match part.write(&[]) {
            Ok(()) => tokio::time::sleep(std::time::Duration::from_millis(5)).await,
            Err(e) => break assert!(matches!(e, StoreError::TakenOver), "{e}"),
        }
    }
    drop(part);
    waiting.await.unwrap().unwrap();
    assert_eq!(attic.engine.reserved(), 0);
    let done = attic.engine.files().finish_upload(&attic.ines, &upload.id, None).await.unwrap().unwrap();
    assert_eq!(done.row.unwrap().size(), 1000);
    assert_eq!(attic.cat("film").await, [vec![1; 400], vec![2; 600]].concat());

    // One that nobody goes on with is dropped after three days, and its room is free again.
    let left = attic.engine.files().begin_upload(&attic.ines, new("left", 5)).await.unwrap();
    attic.clock.set(START + KEPT_MS - 1);
    assert_eq!(attic.engine.files().expire_uploads().await.unwrap(), 0);
    attic.clock.set(START + KEPT_MS + 1);
    assert_eq!(attic.engine.files().expire_uploads().await.unwrap(), 2);
    assert!(attic.engine.files().upload(&attic.ines, &left.id).await.is_err());
    // The film goes from staging to its place after the answer.
    attic.engine.settle().await.unwrap();
    assert_eq!(
        (attic.engine.reserved(), std::fs::read_dir(attic.data().join("staging")).unwrap().count()),
        (0, 0)
    );
}

//! Catalogues of every version there was: each is brought up to date with all that is in it, and goes on.
//!
//! An old catalogue is made from the first migrations, and filled with the rows of a present one, in the columns that
//! there were: so every later migration meets rows.

use crate::support::{Attic, name, on_disk, options};
use sqlx::migrate::Migrator;
use sqlx::{Connection, Row as _, SqliteConnection};
use std::path::Path;
use std::sync::Arc;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_store::fs::fault_points::AllSteps;
use yellow_attic_store::{Engine, Missing, NewShelf, Options, ShelfKind, StoreError};

fn migrations() -> Vec<sqlx::migrate::Migration> {
    sqlx::migrate!("./migrations").migrations.to_vec()
}

async fn names(conn: &mut SqliteConnection, of: &str, question: &str) -> Vec<String> {
    let rows = sqlx::query(sqlx::AssertSqlSafe(question.to_string()))
        .bind(of.to_string())
        .fetch_all(conn)
        .await
        .unwrap();
    rows.iter().map(|row| row.get::<String, _>(0)).collect()
}

/// Puts a catalogue of the first so many migrations in the place of the present one, with its rows.
async fn as_of_version(catalogue: &Path, version: usize) {
    let present = catalogue.with_extension("present");
    std::fs::rename(catalogue, &present).unwrap();
    for end in ["db-wal", "db-shm"] {
        let _ = std::fs::remove_file(catalogue.with_extension(end));
    }
    let options = sqlx::sqlite::SqliteConnectOptions::new()
        .filename(catalogue)
        .create_if_missing(true)
        .foreign_keys(false);
    let mut conn = SqliteConnection::connect_with(&options).await.unwrap();
    Migrator::with_migrations(migrations()[..version].to_vec()).run(&mut conn).await.unwrap();
    let attach = format!("ATTACH '{}' AS present", present.display());
    sqlx::query(sqlx::AssertSqlSafe(attach)).execute(&mut conn).await.unwrap();
    let tables =
        "SELECT name FROM main.sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%' AND name <> ?";
    for table in names(&mut conn, "_sqlx_migrations", tables).await {
        let columns = "SELECT o.name FROM pragma_table_info(?1) o JOIN pragma_table_info(?1, 'present') n ON n.name = o.name";
        let columns = names(&mut conn, &table, columns).await.join(", ");
        assert!(!columns.is_empty(), "{table} is gone");
        for statement in [
            format!("DELETE FROM main.{table}"),
            format!("INSERT INTO main.{table} ({columns}) SELECT {columns} FROM present.{table}"),
        ] {
            sqlx::query(sqlx::AssertSqlSafe(statement.clone()))
                .execute(&mut conn)
                .await
                .unwrap_or_else(|e| panic!("version {version}: {statement}: {e}"));
        }
    }
    conn.close().await.unwrap();
    std::fs::remove_file(present).unwrap();
}

/// A store with one of most things, stopped.
async fn filled() -> Attic {
    let attic = Attic::new().await;
    attic.mkdir("letters").await;
    attic.put("letters/one", b"first").await;
    attic.put("letters/one", b"second").await;
    attic.put("gone", b"removed").await;
    attic.rm("gone").await;
    attic.mv("letters/one", "letters/two").await;
    let shelf = NewShelf {
        kind: ShelfKind::Shared,
        name: name("Logbooks"),
        owner: attic.ines.account,
        grants: vec![],
    };
    let shelf = attic.engine.space().make_shelf(&attic.ines, shelf).await.unwrap();
    let staged = attic.engine.stage_small(b"a log".to_vec()).unwrap();
    let now = attic.engine.now_ms();
    attic
        .engine
        .files()
        .put(&attic.ines, shelf.root, name("log"), staged, now, Conditions::default())
        .await
        .unwrap();
    attic.engine.settle().await.unwrap();
    attic.engine.stop().await;
    attic
}

#[tokio::test(flavor = "multi_thread")]
async fn a_catalogue_of_every_version_is_opened_with_all_that_is_in_it() {
    let attic = filled().await;
    let all = migrations().len();
    assert!(all >= 15, "{all}");
    let before = on_disk(&attic.data().join("shelves"));
    for version in 1..=all {
        let copy = tempfile::tempdir().unwrap();
        let data = copy.path().join("data");
        let copied =
            std::process::Command::new("cp").arg("-a").arg(attic.data()).arg(&data).status().unwrap();
        assert!(copied.success());
        as_of_version(&data.join("catalogue.db"), version).await;
        if version < 11 {
            // Stores had no name of their own yet.
            for name in ["store", "commits"] {
                std::fs::remove_file(data.join(name)).unwrap();
            }
        }
        let refusing =
            Options { missing: Missing::Refuse, ..options(&data, &attic.clock, Arc::new(AllSteps)) };
        let engine = Engine::open(refusing).await.unwrap_or_else(|e| panic!("version {version}: {e}"));
        let old = Attic {
            dir: copy,
            clock: attic.clock.clone(),
            engine,
            ines: attic.ines.clone(),
            home: attic.home,
        };
        assert_eq!(old.ls("").await, ["letters"], "version {version}");
        assert_eq!(old.cat("letters/two").await, b"second", "version {version}");
        let node = old.find("letters/two").await.unwrap().node;
        let mut held = Vec::new();
        for state in old.engine.history().states(&old.ines, node, 10).await.unwrap() {
            held.push(old.bytes_of(&state.row).await);
        }
        assert!(
            held.contains(&b"first".to_vec()) && held.contains(&b"second".to_vec()),
            "version {version}: {held:?}"
        );
        let shelf = old.engine.shelves().into_iter().find(|s| s.name == "Logbooks").unwrap();
        let listed = old
            .engine
            .files()
            .list(&old.ines, shelf.root, Default::default(), false, 10, None)
            .await
            .unwrap();
        assert_eq!(listed.items.len(), 1, "version {version}");
        // It goes on: what is new is kept over another start, and what there was is as it was on the disk.
        old.put("letters/new", b"new").await;
        old.engine.settle().await.unwrap();
        let old = old.reopen().await;
        assert_eq!(old.cat("letters/new").await, b"new", "version {version}");
        old.rm("letters/new").await;
        old.engine.settle().await.unwrap();
        old.engine.stop().await;
        assert_eq!(on_disk(&old.data().join("shelves")), before, "version {version}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_damaged_row_is_an_error_that_says_so_and_never_read_as_if_it_were_empty() {
    let attic = filled().await;
    let catalogue = attic.data().join("catalogue.db");
    let options = sqlx::sqlite::SqliteConnectOptions::new().filename(&catalogue);
    let mut conn = SqliteConnection::connect_with(&options).await.unwrap();
    let hash: Vec<u8> = sqlx::query_scalar("SELECT hash FROM contents WHERE state = 0 AND size = 6")
        .fetch_one(&mut conn)
        .await
        .unwrap();
    assert_eq!(hash.len(), 32);
    sqlx::query("UPDATE contents SET hash = x'00ff' WHERE hash = ?")
        .bind(hash)
        .execute(&mut conn)
        .await
        .unwrap();
    conn.close().await.unwrap();
    let attic = attic.reopen().await;
    let says = |refused: StoreError| {
        assert!(matches!(&refused, StoreError::DamagedRow(_)), "{refused:?}");
        assert!(refused.to_string().contains("has 2 bytes, not 32"), "{refused}");
    };
    // Whatever meets it: by its path, in a list, in a history.
    says(attic.find("letters/two").await.unwrap_err());
    let folder = attic.find("letters").await.unwrap().node;
    let listed = attic.engine.files().list(&attic.ines, folder, Default::default(), false, 10, None).await;
    says(listed.err().unwrap());
    // It is not written over either, and what is beside it goes on.
    let put = attic.put_as(&attic.ines, "letters/two", b"third").await;
    says(put.err().unwrap());
    attic.put("letters/beside", b"sound").await;
    assert_eq!(attic.cat("letters/beside").await, b"sound");
    attic.engine.stop().await;
}

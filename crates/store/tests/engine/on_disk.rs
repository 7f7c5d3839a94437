//! Files that other programs change on the disk: nothing is overwritten unseen (rules 10, 11, 15).

use crate::support::{Attic, START, on_disk};
use std::os::unix::fs::symlink;
use std::sync::Arc;
use yellow_attic_store::fs::fault_points::AllSteps;
use yellow_attic_store::{Engine, StoreError};

async fn texts(attic: &Attic, path: &str) -> Vec<String> {
    let node = attic.find(path).await.unwrap().node;
    let mut found = Vec::new();
    for state in attic.engine.history().states(&attic.ines, node, 100).await.unwrap() {
        found.push(match state.row.content.map(|c| c.life) {
            Some(yellow_attic_store::ContentState::Lost) => "(lost)".to_string(),
            _ => String::from_utf8(attic.bytes_of(&state.row).await).unwrap(),
        });
    }
    found
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_in_place_is_taken_into_the_timeline_before_it_is_replaced() {
    let attic = Attic::new().await;
    attic.put("doc", b"one").await;
    attic.engine.settle().await.unwrap();
    std::fs::write(attic.files().join("doc"), b"by hand").unwrap();
    attic.put("doc", b"two").await;
    attic.engine.settle().await.unwrap();
    assert_eq!(attic.cat("doc").await, b"two");
    // Number m is the other program's state, m+1 the user's again.
    assert_eq!(texts(&attic, "doc").await, ["two", "by hand", "two", "(lost)"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_saved_anew_by_another_program_is_kept_when_it_is_replaced() {
    let attic = Attic::new().await;
    attic.put("doc", b"one").await;
    attic.engine.settle().await.unwrap();
    std::fs::write(attic.files().join("new"), b"by rename").unwrap();
    std::fs::rename(attic.files().join("new"), attic.files().join("doc")).unwrap();
    attic.put("doc", b"two").await;
    attic.engine.settle().await.unwrap();
    assert_eq!(attic.cat("doc").await, b"two");
    assert!(texts(&attic, "doc").await.contains(&"by rename".to_string()));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_unknown_file_in_the_way_is_kept() {
    let attic = Attic::new().await;
    std::fs::write(attic.files().join("doc"), b"was here first").unwrap();
    std::fs::create_dir(attic.files().join("dir")).unwrap();
    std::fs::write(attic.files().join("dir/inside"), b"in a folder").unwrap();
    attic.put("doc", b"ours").await;
    attic.put("dir", b"ours too").await;
    attic.engine.settle().await.unwrap();
    assert_eq!(attic.cat("doc").await, b"ours");
    assert_eq!(attic.cat("dir").await, b"ours too");
    assert!(texts(&attic, "doc").await.contains(&"was here first".to_string()));
    attic.engine.run_jobs().await.unwrap();
    assert!(on_disk(&attic.data().join("past")).into_values().any(|b| b == b"in a folder"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_in_place_is_the_present_state_when_it_is_read() {
    let attic = Attic::new().await;
    attic.put("doc", b"one").await;
    attic.engine.settle().await.unwrap();
    std::fs::write(attic.files().join("doc"), b"by hand, longer").unwrap();
    assert_eq!(attic.cat("doc").await, b"by hand, longer");
    let row = attic.find("doc").await.unwrap();
    assert_eq!(row.size(), 15);
    let sums = attic.engine.files().sums(&attic.ines, attic.home).await.unwrap().unwrap();
    assert_eq!((sums.bytes, sums.files), (15, 1));
    assert_eq!(texts(&attic, "doc").await, ["by hand, longer", "(lost)"]);
    // The same bytes with another time are the same state.
    std::fs::write(attic.files().join("doc"), b"by hand, longer").unwrap();
    assert_eq!(attic.cat("doc").await, b"by hand, longer");
    assert_eq!(texts(&attic, "doc").await.len(), 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_missing_file_says_so_and_a_link_is_never_followed() {
    let attic = Attic::new().await;
    attic.put("gone", b"one").await;
    attic.put("link", b"two").await;
    attic.engine.settle().await.unwrap();
    std::fs::remove_file(attic.files().join("gone")).unwrap();
    std::fs::remove_file(attic.files().join("link")).unwrap();
    symlink("/etc/hostname", attic.files().join("link")).unwrap();
    let gone = attic.engine.files().open_bytes(&attic.find("gone").await.unwrap()).await;
    assert!(matches!(gone, Err(StoreError::BytesMissing(_))));
    let link = attic.engine.files().open_bytes(&attic.find("link").await.unwrap()).await;
    assert!(matches!(link, Err(StoreError::NotPlain(_))));
    // Putting there moves the link aside and is fine again.
    attic.put("link", b"three").await;
    attic.engine.settle().await.unwrap();
    assert_eq!(attic.cat("link").await, b"three");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_with_another_name_elsewhere_is_copied_to_the_past() {
    let attic = Attic::new().await;
    attic.put("doc", b"one").await;
    attic.engine.settle().await.unwrap();
    let outside = attic.dir.path().join("outside");
    std::fs::hard_link(attic.files().join("doc"), &outside).unwrap();
    attic.put("doc", b"two").await;
    attic.engine.settle().await.unwrap();
    std::fs::write(&outside, b"xxx").unwrap();
    assert_eq!(texts(&attic, "doc").await, ["two", "one"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_made_anew_by_another_program_goes_on_being_that_folder() {
    let attic = Attic::new().await;
    attic.mkdir("a").await;
    attic.put("a/x", b"1").await;
    attic.engine.settle().await.unwrap();
    std::fs::remove_dir_all(attic.files().join("a")).unwrap();
    std::fs::create_dir(attic.files().join("a")).unwrap();
    let attic = attic.reopen().await;
    attic.put("a/y", b"2").await;
    attic.engine.settle().await.unwrap();
    assert_eq!(std::fs::read(attic.files().join("a/y")).unwrap(), b"2");
    assert_eq!(attic.cat("a/y").await, b"2");
}

#[tokio::test(flavor = "multi_thread")]
async fn replaying_a_rename_after_a_crash_never_puts_a_new_folder_over_the_moved_one() {
    // mv a b; mkdir a; then the marks are replayed as if they had not been cleared.
    let attic = Attic::new().await;
    attic.mkdir("a").await;
    attic.put("a/x", b"moved").await;
    attic.engine.settle().await.unwrap();
    attic.mv("a", "b").await;
    attic.mkdir("a").await;
    attic.put("a/x", b"new").await;
    attic.engine.settle().await.unwrap();
    let data = attic.data();
    let marks: Vec<(i64, String)>;
    attic.engine.stop().await;
    {
        // The record of what was owed, made again from what is known: three renames.
        let pool = sqlx::SqlitePool::connect(data.join("catalogue.db").to_str().unwrap()).await.unwrap();
        let (a, b): (i64, i64) = {
            let rows: Vec<(i64, String)> = sqlx::query_as(
                "SELECT node, sort_key FROM entries_now WHERE kind = 0 AND parent IS NOT NULL",
            )
            .fetch_all(&pool)
            .await
            .unwrap();
            let find = |n: &str| rows.iter().find(|r| r.1.ends_with(n)).unwrap().0;
            (find("\u{1}a"), find("\u{1}b"))
        };
        let object = async |node: i64| -> (i64, i64) {
            sqlx::query_as("SELECT ino, btime FROM folders WHERE node = ?")
                .bind(node)
                .fetch_one(&pool)
                .await
                .unwrap()
        };
        let (oa, ob) = (object(a).await, object(b).await);
        let home = attic.home.0;
        let task = |o: (i64, i64), node: i64, from: String, to: &str| {
            format!(
                r#"{{"object":{{"ino":{},"btime":{}}},"node":{node},"folder":true,"from":{from},"to":{{"In":[{home},"{to}"]}},"expect":null}}"#,
                o.0, o.1
            )
        };
        marks = vec![
            (1001, task(ob, b, r#"{"Staging":900}"#.into(), "a")),
            (1002, task(ob, b, format!(r#"{{"In":[{home},"a"]}}"#), "b")),
            (1003, task(oa, a, r#"{"Staging":901}"#.into(), "a")),
        ];
        for (id, task) in &marks {
            sqlx::query("INSERT INTO marks (id, task) VALUES (?, ?)")
                .bind(id)
                .bind(task)
                .execute(&pool)
                .await
                .unwrap();
        }
        sqlx::query("UPDATE heads SET mark = 1003, placed = 1000").execute(&pool).await.unwrap();
        pool.close().await;
    }
    let engine =
        Engine::open(crate::support::options(&data, &attic.clock, Arc::new(AllSteps))).await.unwrap();
    let attic = Attic { engine, ..attic };
    attic.engine.settle().await.unwrap();
    assert_eq!(attic.cat("a/x").await, b"new");
    assert_eq!(attic.cat("b/x").await, b"moved");
    assert_eq!(on_disk(&attic.files()).len(), 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn replaying_the_rename_of_a_file_that_is_in_the_past_by_now_leaves_the_new_one_alone() {
    // mv doc doc2; rm doc2 (filed by its hash); put doc; then the marks are replayed.
    let attic = Attic::new().await;
    attic.put("doc", b"old").await;
    attic.engine.settle().await.unwrap();
    let old = attic.find("doc").await.unwrap().content.unwrap();
    attic.mv("doc", "doc2").await;
    attic.rm("doc2").await;
    attic.clock.advance(61_000);
    attic.put("doc", b"new").await;
    attic.engine.settle().await.unwrap();
    let row = attic.find("doc").await.unwrap();
    let (node, new, home, data) = (row.node, row.content.unwrap(), attic.home.0, attic.data());
    attic.engine.stop().await;
    {
        let pool = sqlx::SqlitePool::connect(data.join("catalogue.db").to_str().unwrap()).await.unwrap();
        let task = |c: yellow_attic_store::Content, from: String, to: String| {
            let o = c.object;
            format!(
                r#"{{"object":{{"ino":{},"btime":{}}},"node":{node},"folder":false,"from":{from},"to":{to},"expect":null}}"#,
                o.ino, o.btime
            )
        };
        let at = |name: &str| format!(r#"{{"In":[{home},"{name}"]}}"#);
        let tasks = [
            task(old, at("doc"), at("doc2")),
            task(old, at("doc2"), format!(r#"{{"Incoming":{}}}"#, old.id)),
            task(new, format!(r#"{{"Staging":{}}}"#, new.id), at("doc")),
        ];
        for (n, text) in tasks.iter().enumerate() {
            let id = 1001 + n as i64;
            sqlx::query("INSERT INTO marks (id, task) VALUES (?, ?)")
                .bind(id)
                .bind(text)
                .execute(&pool)
                .await
                .unwrap();
        }
        sqlx::query("UPDATE heads SET mark = 1003, placed = 1000").execute(&pool).await.unwrap();
        pool.close().await;
    }
    let engine =
        Engine::open(crate::support::options(&data, &attic.clock, Arc::new(AllSteps))).await.unwrap();
    let attic = Attic { engine, ..attic };
    attic.engine.settle().await.unwrap();
    assert_eq!(attic.cat("doc").await, b"new");
    assert_eq!(on_disk(&attic.files()).keys().collect::<Vec<_>>(), ["doc"]);
    let history = attic.engine.history().states(&attic.ines, node, 10).await.unwrap();
    assert_eq!(attic.bytes_of(&history[0].row).await, b"new");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_engine_on_the_same_folder_is_refused_and_time_never_goes_back() {
    let attic = Attic::new().await;
    let second = Engine::open(crate::support::options(&attic.data(), &attic.clock, Arc::new(AllSteps))).await;
    assert!(matches!(second.err(), Some(StoreError::WritesStopped(_))));
    attic.put("a", b"1").await;
    attic.clock.set(START - 5_000_000);
    attic.put("b", b"1").await;
    let (a, b) = (attic.find("a").await.unwrap(), attic.find("b").await.unwrap());
    assert!(b.at >= a.at && b.since > a.since);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_reader_that_has_a_file_open_reads_on_while_it_is_replaced_and_moved() {
    use std::io::Read;
    let attic = Attic::new().await;
    attic.mkdir("a").await;
    attic.put("a/doc", &vec![1; 300_000]).await;
    attic.engine.settle().await.unwrap();
    let (mut file, _) = attic.engine.files().open_bytes(&attic.find("a/doc").await.unwrap()).await.unwrap();
    attic.put("a/doc", b"new").await;
    attic.mv("a", "b").await;
    attic.engine.settle().await.unwrap();
    let mut bytes = Vec::new();
    file.read_to_end(&mut bytes).unwrap();
    assert_eq!(bytes, vec![1; 300_000]);
    assert_eq!(attic.cat("b/doc").await, b"new");
}

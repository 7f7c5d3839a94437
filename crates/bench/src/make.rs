//! A store of any size, for seeing what costs more as it grows: rows of files and of their past states are made within SQLite,
//! by sets. None of their bytes lie on the disk; what is listed, looked at and searched does not know.

use crate::cases::Failure;
use crate::peers::Service;
use sqlx::sqlite::{SqliteConnectOptions, SqliteJournalMode, SqliteSynchronous};
use sqlx::{ConnectOptions, Connection, SqliteConnection};
use std::path::Path;
use std::time::Instant;

/// Files in a folder.
pub const PER: i64 = 1_000;
const DAY: i64 = 86_400_000;
/// All of it was made within so long.
const SPAN: i64 = 400 * DAY;
/// The size of each file.
const SIZE: i64 = 8_192;

const POWERS: &str = "CREATE TEMP TABLE powers (p INTEGER PRIMARY KEY);
    WITH RECURSIVE e(p) AS (VALUES(1) UNION ALL SELECT p * 2 FROM e WHERE p < 140737488355328) INSERT INTO powers SELECT p FROM e";

/// Makes a store with so many files, which have so many past states altogether.
pub fn make(data: &Path, files: i64, past: i64) -> Result<(), Failure> {
    let files = files.max(PER) / PER * PER;
    let states = (past + files - 1) / files;
    drop(Service::start(data)?);
    let begun = Instant::now();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    runtime.block_on(async {
        let mut conn = SqliteConnectOptions::new()
            .filename(data.join("catalogue.db"))
            .journal_mode(SqliteJournalMode::Wal)
            .synchronous(SqliteSynchronous::Off)
            .pragma("cache_size", "-1000000")
            .pragma("wal_autocheckpoint", "20000")
            .connect()
            .await?;
        fill(&mut conn, files, states).await?;
        let made: (i64, i64) = sqlx::query_as(
            "SELECT (SELECT count(*) FROM entries_now WHERE kind = 1), (SELECT count(*) FROM entries_past)",
        )
        .fetch_one(&mut conn)
        .await?;
        sqlx::raw_sql("PRAGMA wal_checkpoint(TRUNCATE)").execute(&mut conn).await?;
        conn.close().await?;
        println!(
            "{} files and {} past states in {:.0} s: a catalogue of {:.0} MiB",
            made.0,
            made.1,
            begun.elapsed().as_secs_f64(),
            std::fs::metadata(data.join("catalogue.db"))?.len() as f64 / f64::from(1 << 20)
        );
        Ok::<_, Failure>(())
    })
}

async fn fill(conn: &mut SqliteConnection, files: i64, states: i64) -> Result<(), Failure> {
    let (shelf, home, account): (i64, i64, i64) =
        sqlx::query_as("SELECT id, root, owner FROM shelves WHERE kind = 'home' ORDER BY id LIMIT 1")
            .fetch_one(&mut *conn)
            .await?;
    let (moment, node, content, org): (i64, i64, i64, i64) =
        sqlx::query_as("SELECT moment, node, content, (SELECT max(id) FROM contents) FROM heads")
            .fetch_one(&mut *conn)
            .await
            .map(|(moment, node, content, last): (i64, i64, i64, Option<i64>)| {
                (moment, node, content.max(last.unwrap_or(0)), 1)
            })?;
    let indexes = without_indexes(conn).await?;
    let now = jiff::Timestamp::now().as_millisecond();
    let (folders, total) = (files / PER, files * (states + 1) + files / PER);
    let (begins, step) = (now - SPAN, SPAN as f64 / total as f64);
    // Number n is given out at this time; a number of a thousand has a row.
    let at = |n: &str| format!("({begins} + CAST((({n}) - {moment}) / 1000 * 1000 * {step} AS INTEGER))");
    let first = moment + folders;
    let since = |state: &str| format!("({first} + ({state}) * {files} + i + 1)");
    let id = |state: &str| format!("({content} + ({state}) * {files} + i + 1)");
    let its_node = format!("({node} + {folders} + i + 1)");
    let its_folder = format!("({node} + i / {PER} + 1)");
    let each = |from: &str, most: i64| {
        format!(
            "WITH RECURSIVE each(i) AS (VALUES({from}) UNION ALL SELECT i + 1 FROM each WHERE i < {most} - 1)"
        )
    };
    let key = "printf('file-%08d.txt', i) || char(1) || printf('file-%08d.txt', i)";
    let mut run = vec![
        POWERS.to_string(),
        // Times of before would run backwards.
        format!("UPDATE moments SET at = {begins}"),
        format!(
            "{} INSERT INTO moments (n, at) SELECT {moment} + i * 1000 + 1000, {} FROM each",
            each("0", total / 1000 + 1),
            at(&format!("{moment} + i * 1000 + 1000"))
        ),
        format!(
            "{} INSERT INTO entries_now (node, org, shelf, parent, sort_key, kind, size, mtime, content, since, at, how, account)
             SELECT {node} + i + 1, {org}, {shelf}, {home}, printf('folder-%06d', i) || char(1) || printf('folder-%06d', i),
                 0, 0, {now}, NULL, {moment} + i + 1, {begins}, 0, {account} FROM each",
            each("0", folders)
        ),
        format!(
            "{} INSERT INTO entries_now (node, org, shelf, parent, sort_key, kind, size, mtime, content, since, at, how, account)
             SELECT {its_node}, {org}, {shelf}, {its_folder}, {key}, 1, {SIZE}, {now}, {}, {}, {}, 1, {account} FROM each",
            each("0", files),
            id(&states.to_string()),
            since(&states.to_string()),
            at(&since(&states.to_string()))
        ),
        format!(
            "{} INSERT INTO contents (id, org, hash, size, state, ino, btime, mark, noise)
             SELECT {content} + i + 1, {org}, randomblob(32), {SIZE}, iif(i < {files} * {states}, 1, 0), 0, 0, 0, 500 FROM each",
            each("0", files * (states + 1))
        ),
        format!(
            "{} INSERT INTO folders (node, lies, ino, btime, bytes, files, folders, past_bytes, past_files, changed_at)
             SELECT {node} + i + 1, 0, 0, 0, {}, {PER}, 0, {}, {}, {now} FROM each",
            each("0", folders),
            PER * SIZE,
            PER * SIZE * states,
            PER * states
        ),
        format!(
            "UPDATE folders SET bytes = bytes + {}, files = files + {files}, folders = folders + {folders},
                 past_bytes = past_bytes + {}, past_files = past_files + {} WHERE node = {home}",
            files * SIZE,
            files * SIZE * states,
            files * states
        ),
        format!(
            "UPDATE heads SET moment = {}, at = {now}, node = {}, content = {}",
            moment + total,
            node + folders + files,
            content + files * (states + 1)
        ),
        "UPDATE watched SET moment = (SELECT moment FROM heads)".into(),
    ];
    for state in 0..states {
        let (began, ended) = (since(&state.to_string()), since(&(state + 1).to_string()));
        // core::interval::fork, written as sums: the highest bit in which the two ends differ.
        let differing = format!("((({began} - 1) | ({ended} - 1)) - (({began} - 1) & ({ended} - 1)))");
        let bit = format!("(SELECT p FROM powers WHERE p <= {differing} ORDER BY p DESC LIMIT 1)");
        run.push(format!(
            "{} INSERT INTO entries_past (node, org, shelf, parent, sort_key, kind, size, mtime, content, since, until, fork, at, how,
                 account, ended_at, ended_how, ended_account)
             SELECT {its_node}, {org}, {shelf}, {its_folder}, {key}, 1, {SIZE}, {now}, {}, {began}, {ended},
                 ({ended} - 1) / {bit} * {bit}, {}, 1, {account}, {}, 1, {account} FROM each",
            each("0", files),
            id(&state.to_string()),
            at(&began),
            at(&ended)
        ));
    }
    run.extend(indexes);
    run_all(conn, run).await
}

/// Takes the indexes away, and tells how they are made: once, of what is there in the end, that takes a fraction of the time.
async fn without_indexes(conn: &mut SqliteConnection) -> Result<Vec<String>, Failure> {
    let indexes: Vec<(String, String)> = sqlx::query_as(
        "SELECT name, sql FROM sqlite_master WHERE type = 'index' AND sql IS NOT NULL
           AND tbl_name IN ('entries_now', 'entries_past', 'contents')",
    )
    .fetch_all(&mut *conn)
    .await?;
    let (names, made): (Vec<String>, Vec<String>) = indexes.into_iter().unzip();
    run_all(conn, names.iter().map(|name| format!("DROP INDEX {name}")).collect()).await?;
    Ok(made)
}

async fn run_all(conn: &mut SqliteConnection, statements: Vec<String>) -> Result<(), Failure> {
    for statement in statements {
        sqlx::raw_sql(sqlx::AssertSqlSafe(statement)).execute(&mut *conn).await?;
    }
    Ok(())
}

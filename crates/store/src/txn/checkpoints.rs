//! What was committed is carried from the catalogue's log into the catalogue beside the writer, so that no commit waits for it.
//!
//! Under load the log is never at its end, and so never begun anew: it would grow by gigabytes. Past a size the writer rests
//! between two groups until all of it is carried over, which is little by then; its next commit begins the log anew.

use crate::catalogue::db;
use crate::fs::error::Result;
use sqlx::{Connection, SqliteConnection};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use tokio::sync::Notify;
use tokio::task::JoinHandle;

/// So many pages of the log are carried over together: 16 MiB.
const TOGETHER: i64 = 4_000;
/// When the log is so long, the writer rests: 64 MiB.
const LONG: i64 = 16_000;
/// It is looked at so often at most.
const EVERY: Duration = Duration::from_millis(20);
/// What could not be carried over is tried again after this.
const AGAIN: Duration = Duration::from_secs(1);
/// The writer rests no longer than this.
const REST: Duration = Duration::from_millis(500);
/// For its last part it is tried so often.
const TRIES: usize = 5;

#[derive(Default)]
struct State {
    /// Something was committed.
    committed: Notify,
    rests: AtomicBool,
    rested: Notify,
    stop: AtomicBool,
}

/// The one who does that.
pub(crate) struct Checkpoints {
    state: Arc<State>,
    task: Option<JoinHandle<()>>,
}

impl Checkpoints {
    /// Begins, and tells the writer's connection that it need not.
    pub async fn begin(catalogue: &Path, writer: &mut SqliteConnection) -> Checkpoints {
        let state = Arc::new(State::default());
        let begun = async {
            let conn = db::open_beside(catalogue).await?;
            sqlx::raw_sql("PRAGMA wal_autocheckpoint = 0").execute(&mut *writer).await?;
            Ok::<_, crate::fs::error::StoreError>(conn)
        };
        let task = match begun.await {
            Ok(conn) => Some(tokio::spawn(run(conn, state.clone()))),
            Err(error) => {
                tracing::warn!(%error, "the catalogue's log is carried over by its writer");
                None
            }
        };
        Checkpoints { state, task }
    }

    /// A group was committed.
    pub async fn committed(&mut self, writer: &mut SqliteConnection) {
        if self.task.as_ref().is_some_and(JoinHandle::is_finished) {
            self.task = None;
            tracing::error!("the catalogue's log is carried over by its writer again");
            let again = format!("PRAGMA wal_autocheckpoint = {TOGETHER}");
            let _ = sqlx::raw_sql(sqlx::AssertSqlSafe(again)).execute(writer).await;
        }
        self.state.committed.notify_one();
        if self.state.rests.load(Ordering::SeqCst) {
            let rested = async {
                while self.state.rests.load(Ordering::SeqCst) {
                    self.state.rested.notified().await;
                }
            };
            let _ = tokio::time::timeout(REST, rested).await;
        }
    }

    /// Ends: whoever closes the catalogue last carries over what is left.
    pub async fn end(self) {
        self.state.stop.store(true, Ordering::SeqCst);
        self.state.committed.notify_one();
        if let Some(task) = self.task {
            let _ = task.await;
        }
    }
}

async fn run(mut conn: SqliteConnection, state: Arc<State>) {
    // So long the log was when the writer rested last: what a reader holds then is not waited for again and again.
    let mut longest = LONG;
    loop {
        state.committed.notified().await;
        if state.stop.load(Ordering::SeqCst) {
            break;
        }
        match carry_over(&mut conn, &state, &mut longest).await {
            Ok(()) => tokio::time::sleep(EVERY).await,
            Err(error) => {
                tracing::error!(%error, "the catalogue's log could not be carried over; it is tried again");
                tokio::time::sleep(AGAIN).await;
            }
        }
    }
    let _ = conn.close().await;
}

async fn carry_over(conn: &mut SqliteConnection, state: &State, longest: &mut i64) -> Result<()> {
    let (log, done) = look(conn, "NOOP").await?;
    if log < LONG {
        *longest = LONG;
    }
    if log - done < TOGETHER {
        return Ok(());
    }
    let (log, done) = look(conn, "PASSIVE").await?;
    if log < *longest || log == done {
        return Ok(());
    }
    state.rests.store(true, Ordering::SeqCst);
    let mut carried = Ok((log, done));
    for _ in 0..TRIES {
        carried = look(conn, "PASSIVE").await;
        if carried.as_ref().map_or(true, |(log, done)| log == done) {
            break;
        }
    }
    state.rests.store(false, Ordering::SeqCst);
    state.rested.notify_one();
    let (log, _) = carried?;
    *longest = log + LONG / 4;
    Ok(())
}

/// Carries over, or only looks: how many pages the log holds, and how many of them were carried over.
async fn look(conn: &mut SqliteConnection, how: &'static str) -> Result<(i64, i64)> {
    let statement = format!("PRAGMA wal_checkpoint({how})");
    let (_, log, done): (i64, i64, i64) =
        sqlx::query_as(sqlx::AssertSqlSafe(statement)).fetch_one(conn).await?;
    Ok((log, done))
}

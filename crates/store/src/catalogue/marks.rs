//! Renames that are owed to the disk, as the catalogue keeps them.

use crate::catalogue::rows::parse;
use crate::fs::error::Result;
use crate::fs::pending_rename::Task;
use sqlx::SqliteConnection;

/// Reads the marks that are still set, in order.
pub(crate) async fn load_marks(conn: &mut SqliteConnection) -> Result<Vec<Task>> {
    let rows: Vec<(i64, String)> =
        sqlx::query_as("SELECT id, task FROM marks ORDER BY id").fetch_all(conn).await?;
    rows.into_iter()
        .map(|(mark, text)| {
            let mut task: Task = parse(&text)?;
            task.mark = mark;
            Ok(task)
        })
        .collect()
}

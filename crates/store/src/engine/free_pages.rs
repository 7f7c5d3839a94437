//! Giving free pages of the catalogue back to the disk.

use crate::engine::Engine;
use crate::fs::error::Result;
use crate::fs::model::Actor;
use async_recursion::async_recursion as boxed;

/// Fewer free pages than these are kept for what comes next.
const SPARE_PAGES: i64 = 2_000;
/// Pages that are given back in one step of the writer.
const PAGES_A_STEP: i64 = 256;

impl Engine {
    /// Gives free pages of the catalogue back to the disk, in small steps between what others write. Returns how many.
    #[boxed]
    pub async fn give_back_pages(&self) -> Result<i64> {
        let count = "PRAGMA freelist_count";
        let before: i64 = sqlx::query_scalar(count).fetch_one(&self.shared.view.pool).await?;
        let (mut free, mut last) = (before, i64::MAX);
        // One that cannot shrink (it was made before, and not rewritten since) is left as it is.
        while free > SPARE_PAGES && free < last {
            self.people()
                .change(&Actor::service(), "", "", |conn| {
                    Box::pin(async move {
                        let step = sqlx::AssertSqlSafe(format!("PRAGMA incremental_vacuum({PAGES_A_STEP})"));
                        sqlx::query(step).execute(conn).await?;
                        Ok(())
                    })
                })
                .await?;
            last = free;
            free = sqlx::query_scalar(count).fetch_one(&self.shared.view.pool).await?;
        }
        Ok(before - free)
    }
}

//! Links and intakes of what is removed or brought back sleep until somebody confirms them.

use crate::fs::error::Result;
use yellow_attic_core::NodeId;

/// Openings of something that is brought back sleep until their makers confirm them: of the node
/// itself, and of all beneath.
pub(crate) async fn put_to_sleep(conn: &mut sqlx::SqliteConnection, node: NodeId) -> Result<()> {
    sqlx::query(
        "WITH RECURSIVE up (opening, node) AS (
           SELECT id, node FROM openings WHERE ended_at IS NULL AND asleep = 0
           UNION ALL
           SELECT up.opening, e.parent FROM up JOIN entries_now e ON e.node = up.node
           WHERE e.parent IS NOT NULL AND up.node <> ?1
         )
         UPDATE openings SET asleep = 1 WHERE id IN (SELECT opening FROM up WHERE node = ?1)",
    )
    .bind(node.0)
    .execute(conn)
    .await?;
    Ok(())
}

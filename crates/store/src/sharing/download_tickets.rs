//! Slips: downloads that were counted. Taking one counts, in the transaction that answers; it is good
//! for ranges for a day, and is given back if no byte of it ever left.

use crate::fs::error::{Result, StoreError};
use crate::fs::model::Actor;
use crate::sharing::Sharing;
use crate::sharing::openings::Opening;
use async_recursion::async_recursion as boxed;
use yellow_attic_core::{Moment, NodeId, OpeningId};

/// How long a slip is good for.
pub const GOOD_MS: i64 = 86_400_000;
/// A slip that nobody came back with is given back after this.
const UNUSED_MS: i64 = 3_600_000;

/// A download that was counted.
#[derive(Clone, Debug)]
pub struct Slip {
    /// Of which link.
    pub opening: OpeningId,
    /// What is fetched.
    pub node: NodeId,
    /// The moment of an archive; none for a file.
    pub moment: Option<Moment>,
    /// Whether a byte of it has left.
    pub begun: bool,
}

impl Sharing {
    /// Takes a slip, if one is left. `secret`: hashed.
    #[boxed]
    pub async fn take_slip(
        &self,
        actor: &Actor,
        opening: &Opening,
        secret: [u8; 32],
        node: NodeId,
        moment: Option<Moment>,
    ) -> Result<()> {
        let (id, now, from) = (opening.id.0, self.0.now_ms(), actor.from.to_string());
        let what = format!("{} {}", opening.kind.word(), opening.id);
        self.0
            .people()
            .change(actor, "download by link", &what, move |conn| {
                Box::pin(async move {
                    let taken = sqlx::query(
                        "UPDATE openings SET used = used + 1, used_at = ?, used_from = ?
                     WHERE id = ? AND ended_at IS NULL AND (most IS NULL OR used < most)",
                    )
                    .bind(now)
                    .bind(from)
                    .bind(id)
                    .execute(&mut *conn)
                    .await?;
                    if taken.rows_affected() == 0 {
                        return Err(StoreError::UsedUp);
                    }
                    sqlx::query(
                        "INSERT INTO slips (secret, opening, node, moment, made_at) VALUES (?, ?, ?, ?, ?)",
                    )
                    .bind(secret.to_vec())
                    .bind(id)
                    .bind(node.0)
                    .bind(moment.map(|m| m.0))
                    .bind(now)
                    .execute(conn)
                    .await?;
                    Ok(())
                })
            })
            .await
    }

    /// A slip that is still good.
    #[boxed]
    pub async fn slip(&self, secret: [u8; 32]) -> Result<Option<Slip>> {
        type Raw = (i64, i64, Option<i64>, Option<i64>);
        let found: Option<Raw> = sqlx::query_as(
            "SELECT opening, node, moment, begun_at FROM slips WHERE secret = ?1
             AND coalesce(begun_at + ?3, made_at + ?4) > ?2",
        )
        .bind(secret.to_vec())
        .bind(self.0.now_ms())
        .bind(GOOD_MS)
        .bind(UNUSED_MS)
        .fetch_optional(&self.0.shared.view.pool)
        .await?;
        Ok(found.map(|(opening, node, moment, begun)| Slip {
            opening: OpeningId(opening),
            node: NodeId(node),
            moment: moment.map(Moment),
            begun: begun.is_some(),
        }))
    }

    /// The first byte is about to leave: it counts for good. `false`: the slip is gone meanwhile, and
    /// nothing may leave.
    #[boxed]
    pub async fn begin_slip(&self, secret: [u8; 32]) -> Result<bool> {
        let now = self.0.now_ms();
        let done = self
            .0
            .people()
            .change(&Actor::service(), "", "", move |conn| {
                Box::pin(async move {
                    let done =
                        sqlx::query("UPDATE slips SET begun_at = coalesce(begun_at, ?) WHERE secret = ?")
                            .bind(now)
                            .bind(secret.to_vec())
                            .execute(conn)
                            .await?;
                    if done.rows_affected() == 0 { Err(StoreError::UsedUp) } else { Ok(()) }
                })
            })
            .await;
        match done {
            Ok(()) => Ok(true),
            Err(StoreError::UsedUp) => Ok(false),
            Err(e) => Err(e),
        }
    }

    /// Gives a slip back, if no byte left.
    #[boxed]
    pub async fn return_slip(&self, secret: [u8; 32]) -> Result<()> {
        self.0
            .people()
            .change(&Actor::service(), "", "", move |conn| {
                Box::pin(async move {
                    sqlx::query(
                        "UPDATE openings SET used = max(used - 1, 0)
                     WHERE id = (SELECT opening FROM slips WHERE secret = ? AND begun_at IS NULL)",
                    )
                    .bind(secret.to_vec())
                    .execute(&mut *conn)
                    .await?;
                    sqlx::query("DELETE FROM slips WHERE secret = ? AND begun_at IS NULL")
                        .bind(secret.to_vec())
                        .execute(conn)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Forgets slips that are no longer good; those of which no byte left are given back.
    #[boxed]
    pub async fn sweep_slips(&self) -> Result<()> {
        let now = self.0.now_ms();
        let due: i64 =
            sqlx::query_scalar("SELECT count(*) FROM slips WHERE coalesce(begun_at + ?, made_at + ?) <= ?")
                .bind(GOOD_MS)
                .bind(UNUSED_MS)
                .bind(now)
                .fetch_one(&self.0.shared.view.pool)
                .await?;
        if due == 0 {
            return Ok(());
        }
        self.0.people().change(&Actor::service(), "", "", move |conn| {
            Box::pin(async move {
                sqlx::query(
                    "UPDATE openings SET used = max(used - s.n, 0) FROM
                       (SELECT opening, count(*) AS n FROM slips WHERE begun_at IS NULL AND made_at <= ? GROUP BY opening) s
                     WHERE openings.id = s.opening",
                )
                .bind(now - UNUSED_MS)
                .execute(&mut *conn)
                .await?;
                sqlx::query("DELETE FROM slips WHERE coalesce(begun_at + ?, made_at + ?) <= ?")
                    .bind(GOOD_MS)
                    .bind(UNUSED_MS)
                    .bind(now)
                    .execute(conn)
                    .await?;
                Ok(())
            })
        })
        .await
    }
}

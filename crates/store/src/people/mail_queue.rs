//! Mail that waits to be sent, and what became of it. Kept in the catalogue: a letter survives a
//! restart, and a mail server that is away.

use crate::engine::secrets::wipe;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::Actor;
use crate::people::People;
use async_recursion::async_recursion as boxed;

/// A letter to be sent.
#[derive(Clone, Debug)]
pub struct NewQueuedLetter {
    /// What it is about, in a word.
    pub kind: &'static str,
    /// To which address.
    pub recipient: String,
    /// Its subject.
    pub subject: String,
    /// As plain text.
    pub plain: String,
    /// The same as HTML.
    pub rich: String,
}

/// A letter as it is kept.
#[derive(Clone, Debug)]
pub struct QueuedLetter {
    /// Its id.
    pub id: i64,
    /// What it is about.
    pub kind: String,
    /// To which address.
    pub recipient: String,
    /// Its subject.
    pub subject: String,
    /// As plain text; empty when it was sent.
    pub plain: String,
    /// The same as HTML.
    pub rich: String,
    /// When it was written, in milliseconds.
    pub made_at: i64,
    /// How often it was tried.
    pub tries: i64,
    /// When it is tried next.
    pub due_at: Option<i64>,
    /// When it was sent.
    pub sent_at: Option<i64>,
    /// What the mail server said last.
    pub said: String,
}

type LetterRow = (i64, String, String, String, String, String, i64, i64, Option<i64>, Option<i64>, String);
const LETTER: &str =
    "id, kind, recipient, subject, plain, rich, made_at, tries, due_at, sent_at, said FROM letters";

fn letter(row: LetterRow) -> QueuedLetter {
    let (id, kind, recipient, subject, plain, rich, made_at, tries, due_at, sent_at, said) = row;
    QueuedLetter { id, kind, recipient, subject, plain, rich, made_at, tries, due_at, sent_at, said }
}

/// Letters that are done with are forgotten after this: ninety days.
const KEPT_MS: i64 = 90 * 86_400_000;

impl People {
    /// Puts a letter into the queue.
    #[boxed]
    pub async fn write_letter(&self, actor: &Actor, new: NewQueuedLetter) -> Result<()> {
        let now = self.0.now_ms();
        self.change(actor, "mail written", &format!("{} to {}", new.kind, new.recipient), move |conn| {
            Box::pin(async move {
                sqlx::query(
                    "INSERT INTO letters (org, kind, recipient, subject, plain, rich, made_at, due_at)
                     VALUES (1, ?, ?, ?, ?, ?, ?, ?)",
                )
                .bind(new.kind)
                .bind(new.recipient)
                .bind(new.subject)
                .bind(new.plain)
                .bind(new.rich)
                .bind(now)
                .bind(now)
                .execute(conn)
                .await?;
                Ok(())
            })
        })
        .await
    }

    /// The letters that are due, the oldest first; and when the next one is.
    #[boxed]
    pub async fn due_letters(&self) -> Result<(Vec<QueuedLetter>, Option<i64>)> {
        let now = self.0.now_ms();
        let rows: Vec<LetterRow> = sqlx::query_as(crate::catalogue::rows::sql(format!(
            "SELECT {LETTER} WHERE due_at IS NOT NULL AND due_at <= ? ORDER BY due_at LIMIT 50"
        )))
        .bind(now)
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        let next: Option<i64> =
            sqlx::query_scalar("SELECT min(due_at) FROM letters WHERE due_at IS NOT NULL")
                .fetch_one(&self.0.shared.view.pool)
                .await?;
        Ok((rows.into_iter().map(letter).collect(), next))
    }

    /// The latest letters, newest first.
    #[boxed]
    pub async fn letters(&self, most: i64) -> Result<Vec<QueuedLetter>> {
        let rows: Vec<LetterRow> =
            sqlx::query_as(crate::catalogue::rows::sql(format!("SELECT {LETTER} ORDER BY id DESC LIMIT ?")))
                .bind(most)
                .fetch_all(&self.0.shared.view.pool)
                .await?;
        Ok(rows.into_iter().map(letter).collect())
    }

    /// A letter was taken by the mail server. What it said is emptied: it may hold an address that
    /// still counts.
    #[boxed]
    pub async fn letter_sent(&self, id: i64, said: String) -> Result<()> {
        let now = self.0.now_ms();
        self.change(&Actor::service(), "", "", move |conn| {
            Box::pin(async move {
                wipe(conn, true).await?;
                sqlx::query(
                    "UPDATE letters SET sent_at = ?, due_at = NULL, tries = tries + 1, said = ?, plain = '', rich = ''
                     WHERE id = ?",
                )
                .bind(now)
                .bind(said)
                .bind(id)
                .execute(&mut *conn)
                .await?;
                wipe(conn, false).await?;
                sqlx::query("DELETE FROM letters WHERE due_at IS NULL AND made_at < ?")
                    .bind(now - KEPT_MS)
                    .execute(conn)
                    .await?;
                Ok(())
            })
        })
        .await
    }

    /// A letter was not taken. `again_at`: when it is tried next; `None` gives it up.
    #[boxed]
    pub async fn letter_failed(&self, id: i64, said: String, again_at: Option<i64>) -> Result<()> {
        self.change(&Actor::service(), "", "", move |conn| {
            Box::pin(async move {
                wipe(conn, true).await?;
                sqlx::query(
                    "UPDATE letters SET due_at = ?1, tries = tries + 1, said = ?2,
                       plain = iif(?1 IS NULL, '', plain), rich = iif(?1 IS NULL, '', rich) WHERE id = ?3",
                )
                .bind(again_at)
                .bind(said)
                .bind(id)
                .execute(&mut *conn)
                .await?;
                wipe(conn, false).await
            })
        })
        .await
    }

    /// Tries a letter again now, or gives it up.
    #[boxed]
    pub async fn hurry_letter(&self, actor: &Actor, id: i64, again: bool) -> Result<()> {
        let now = self.0.now_ms();
        let action = if again { "mail tried again" } else { "mail given up" };
        self.change(actor, action, &id.to_string(), move |conn| {
            Box::pin(async move {
                wipe(conn, true).await?;
                let done = sqlx::query(
                    "UPDATE letters SET due_at = iif(?1, ?2, NULL), plain = iif(?1, plain, ''), rich = iif(?1, rich, '')
                     WHERE id = ?3 AND due_at IS NOT NULL",
                )
                .bind(again)
                .bind(now)
                .bind(id)
                .execute(&mut *conn)
                .await?;
                wipe(conn, false).await?;
                match done.rows_affected() {
                    0 => Err(StoreError::NotFound("The letter, waiting to be sent,".into())),
                    _ => Ok(()),
                }
            })
        })
        .await
    }
}

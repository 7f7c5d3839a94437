//! Choosing passwords: invitations that count once, one's own change, and where one is signed in.

use crate::catalogue::rows::hash_of;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::Actor;
use crate::people::SignIns;
use crate::people::accounts::Account;
use async_recursion::async_recursion as boxed;
use yellow_attic_core::AccountId;

/// An address that lets somebody choose a password, once.
#[derive(Clone, Debug)]
pub struct Invitation {
    /// Whose password.
    pub account: AccountId,
    /// Until when, in milliseconds.
    pub expires_at: i64,
    /// When it was used.
    pub used_at: Option<i64>,
}

/// An invitation that was not used yet.
#[derive(Clone, Debug)]
pub struct OpenInvitation {
    /// When it was made, in milliseconds.
    pub made_at: i64,
    /// Until when it counts.
    pub expires_at: i64,
    /// Who made it.
    pub made_by: Option<AccountId>,
}

/// A session in a browser.
#[derive(Clone, Debug)]
pub struct Session {
    /// BLAKE3 of its secret.
    pub token: [u8; 32],
    /// When it was opened, in milliseconds.
    pub made_at: i64,
    /// When it ends by itself.
    pub ends_at: i64,
    /// The address from which it was opened.
    pub from: String,
    /// What the browser said of itself.
    pub agent: String,
}

impl SignIns {
    /// Makes an invitation. Earlier ones of the account count no more. `token`: BLAKE3 of its secret.
    #[boxed]
    pub async fn invite(
        &self,
        actor: &Actor,
        account: &Account,
        token: [u8; 32],
        expires_at: i64,
    ) -> Result<()> {
        let (id, by, now) = (account.id.0, actor.account.map(|a| a.0), self.0.now_ms());
        self.0.people().change(actor, "invitation made", &account.sign_in, move |conn| {
            Box::pin(async move {
                sqlx::query("DELETE FROM invitations WHERE account = ? AND used_at IS NULL")
                    .bind(id)
                    .execute(&mut *conn)
                    .await?;
                sqlx::query(
                    "INSERT INTO invitations (token, org, account, made_by, made_at, expires_at) VALUES (?, 1, ?, ?, ?, ?)",
                )
                .bind(&token[..])
                .bind(id)
                .bind(by)
                .bind(now)
                .bind(expires_at)
                .execute(conn)
                .await?;
                Ok(())
            })
        })
        .await
    }

    /// The invitation with this secret, used or over or not.
    #[boxed]
    pub async fn invitation(&self, token: [u8; 32]) -> Result<Option<Invitation>> {
        let row: Option<(i64, i64, Option<i64>)> =
            sqlx::query_as("SELECT account, expires_at, used_at FROM invitations WHERE token = ?")
                .bind(&token[..])
                .fetch_optional(&self.0.shared.view.pool)
                .await?;
        Ok(row.map(|(account, expires_at, used_at)| Invitation {
            account: AccountId(account),
            expires_at,
            used_at,
        }))
    }

    /// The invitation of an account that counts still.
    #[boxed]
    pub async fn open_invitation(&self, account: AccountId) -> Result<Option<OpenInvitation>> {
        let row: Option<(i64, i64, Option<i64>)> = sqlx::query_as(
            "SELECT made_at, expires_at, made_by FROM invitations
             WHERE account = ? AND used_at IS NULL AND expires_at > ?",
        )
        .bind(account.0)
        .bind(self.0.now_ms())
        .fetch_optional(&self.0.shared.view.pool)
        .await?;
        Ok(row.map(|(made_at, expires_at, made_by)| OpenInvitation {
            made_at,
            expires_at,
            made_by: made_by.map(AccountId),
        }))
    }

    /// Ends the invitation of an account: its address counts no more.
    #[boxed]
    pub async fn end_invitation(&self, actor: &Actor, account: &Account) -> Result<()> {
        let (id, now) = (account.id.0, self.0.now_ms());
        self.0
            .people()
            .change(actor, "invitation ended", &account.sign_in, move |conn| {
                Box::pin(async move {
                    let done = sqlx::query(
                        "DELETE FROM invitations WHERE account = ? AND used_at IS NULL AND expires_at > ?",
                    )
                    .bind(id)
                    .bind(now)
                    .execute(conn)
                    .await?;
                    if done.rows_affected() == 0 {
                        return Err(StoreError::NotFound("The invitation".into()));
                    }
                    Ok(())
                })
            })
            .await
    }

    /// Sets the password by an invitation, which is used by that. Of two at once one is refused.
    /// Every sign-in of before ends.
    #[boxed]
    pub async fn accept_invitation(
        &self,
        actor: &Actor,
        account: &Account,
        token: [u8; 32],
        password: String,
    ) -> Result<()> {
        let (id, now) = (account.id.0, self.0.now_ms());
        self.0.people().change(actor, "password chosen", &account.sign_in, move |conn| {
            Box::pin(async move {
                let used = sqlx::query(
                    "UPDATE invitations SET used_at = ? WHERE token = ? AND used_at IS NULL AND expires_at > ?",
                )
                .bind(now)
                .bind(&token[..])
                .bind(now)
                .execute(&mut *conn)
                .await?;
                if used.rows_affected() == 0 {
                    return Err(StoreError::NotFound("The invitation".into()));
                }
                for text in [
                    "DELETE FROM sessions WHERE account = ?2",
                    "UPDATE devices SET ended_at = ?3 WHERE account = ?2 AND ended_at IS NULL",
                    "UPDATE accounts SET password = ?1 WHERE id = ?2",
                ] {
                    sqlx::query(text).bind(&password).bind(id).bind(now).execute(&mut *conn).await?;
                }
                Ok(())
            })
        })
        .await
    }

    /// Changes one's own password. Every other session ends; computers stay connected.
    #[boxed]
    pub async fn change_password(
        &self,
        actor: &Actor,
        account: &Account,
        password: String,
        keep: [u8; 32],
    ) -> Result<()> {
        let id = account.id.0;
        self.0
            .people()
            .change(actor, "password changed", &account.sign_in, move |conn| {
                Box::pin(async move {
                    sqlx::query("UPDATE accounts SET password = ? WHERE id = ?")
                        .bind(&password)
                        .bind(id)
                        .execute(&mut *conn)
                        .await?;
                    sqlx::query("DELETE FROM sessions WHERE account = ? AND token <> ?")
                        .bind(id)
                        .bind(&keep[..])
                        .execute(&mut *conn)
                        .await?;
                    sqlx::query("DELETE FROM invitations WHERE account = ? AND used_at IS NULL")
                        .bind(id)
                        .execute(conn)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Opens a session in which an administrator sees all as somebody else, reading only.
    #[boxed]
    pub async fn open_look(
        &self,
        actor: &Actor,
        by: &Account,
        seen: &Account,
        token: [u8; 32],
        ends_at: i64,
        told: bool,
    ) -> Result<()> {
        let (by, seen_id, now) = (by.id.0, seen.id.0, self.0.now_ms());
        let from = actor.from.to_string();
        self.0
            .people()
            .change(actor, "looks as somebody", &seen.sign_in, move |conn| {
                Box::pin(async move {
                    sqlx::query(
                        "INSERT INTO sessions (token, org, account, made_at, ends_at, opened_from, looks_as)
                     VALUES (?, 1, ?, ?, ?, ?, ?)",
                    )
                    .bind(&token[..])
                    .bind(by)
                    .bind(now)
                    .bind(ends_at)
                    .bind(from)
                    .bind(seen_id)
                    .execute(&mut *conn)
                    .await?;
                    sqlx::query("INSERT INTO looks (org, account, by, at, told) VALUES (1, ?, ?, ?, ?)")
                        .bind(seen_id)
                        .bind(by)
                        .bind(now)
                        .bind(told)
                        .execute(conn)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Who looked as an account, and when, as far as it is to be told: the latest first.
    #[boxed]
    pub async fn looks_told(&self, account: AccountId) -> Result<Vec<(String, i64)>> {
        Ok(sqlx::query_as(
            "SELECT a.display_name, l.at FROM looks l JOIN accounts a ON a.id = l.by
             WHERE l.account = ? AND l.told ORDER BY l.at DESC LIMIT 20",
        )
        .bind(account.0)
        .fetch_all(&self.0.shared.view.pool)
        .await?)
    }

    /// The picture of an account: a JPEG or PNG, and when it was made.
    #[boxed]
    pub async fn picture(&self, account: AccountId) -> Result<Option<(Vec<u8>, i64)>> {
        Ok(sqlx::query_as("SELECT bytes, made_at FROM pictures WHERE account = ?")
            .bind(account.0)
            .fetch_optional(&self.0.shared.view.pool)
            .await?)
    }

    /// When the picture of each account that has one was made.
    #[boxed]
    pub async fn pictured(&self) -> Result<std::collections::HashMap<AccountId, i64>> {
        let rows: Vec<(i64, i64)> = sqlx::query_as("SELECT account, made_at FROM pictures")
            .fetch_all(&self.0.shared.view.pool)
            .await?;
        Ok(rows.into_iter().map(|(a, at)| (AccountId(a), at)).collect())
    }

    /// Sets the picture of an account, or takes it away.
    #[boxed]
    pub async fn set_picture(&self, actor: &Actor, account: &Account, bytes: Option<Vec<u8>>) -> Result<()> {
        let (id, now) = (account.id.0, self.0.now_ms());
        let action = if bytes.is_some() { "picture set" } else { "picture removed" };
        self.0
            .people()
            .change(actor, action, &account.sign_in, move |conn| {
                Box::pin(async move {
                    sqlx::query("DELETE FROM pictures WHERE account = ?")
                        .bind(id)
                        .execute(&mut *conn)
                        .await?;
                    if let Some(bytes) = bytes {
                        sqlx::query("INSERT INTO pictures (account, bytes, made_at) VALUES (?, ?, ?)")
                            .bind(id)
                            .bind(bytes)
                            .bind(now)
                            .execute(conn)
                            .await?;
                    }
                    Ok(())
                })
            })
            .await
    }

    /// Forgets invitations that have counted no more for a month.
    #[boxed]
    pub async fn sweep_invitations(&self) -> Result<()> {
        let long_over = self.0.now_ms() - 30 * 86_400_000;
        self.0
            .people()
            .change(&Actor::service(), "", "", move |conn| {
                Box::pin(async move {
                    sqlx::query("DELETE FROM invitations WHERE expires_at < ?")
                        .bind(long_over)
                        .execute(conn)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Where an account is signed in to the console, the latest first.
    #[boxed]
    pub async fn sessions(&self, account: AccountId) -> Result<Vec<Session>> {
        let rows: Vec<(Vec<u8>, i64, i64, String, String)> = sqlx::query_as(
            "SELECT token, made_at, ends_at, opened_from, agent FROM sessions
             WHERE account = ? AND ends_at > ? AND looks_as IS NULL ORDER BY made_at DESC",
        )
        .bind(account.0)
        .bind(self.0.now_ms())
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        let read = |(token, made_at, ends_at, from, agent): (Vec<u8>, i64, i64, String, String)| {
            Ok(Session { token: hash_of(&token, "a session")?, made_at, ends_at, from, agent })
        };
        rows.into_iter().map(read).collect()
    }
}

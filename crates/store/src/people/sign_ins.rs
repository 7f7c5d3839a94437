//! Sign-ins of browsers, and computers that are connected.

use crate::catalogue::rows::{parse, sql};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::Actor;
use crate::people::SignIns;
use crate::people::account_lookup::{ACCOUNT, DeviceRow, THERE, account};
use crate::people::accounts::Account;
use async_recursion::async_recursion as boxed;
use yellow_attic_core::{AccountId, DeviceId};

/// A device as its owner sees it.
#[derive(Clone, Debug)]
pub struct Device {
    /// Its id.
    pub id: DeviceId,
    /// Its name.
    pub name: String,
    /// When it was signed in, in milliseconds.
    pub made_at: i64,
    /// When it was last used, in milliseconds, as far as it is written.
    pub used_at: Option<i64>,
    /// The address from which.
    pub used_from: Option<String>,
}

/// Who stands behind a session or a token.
#[derive(Clone, Debug)]
pub struct Principal {
    /// The account.
    pub account: Account,
    /// The device, if it is one.
    pub device: Option<DeviceId>,
    /// The administrator behind it, who looks as this account.
    pub seen_by: Option<Account>,
    /// When a browser was last used, as far as it is written; of a device, nothing is said here.
    pub used_at: i64,
}

impl SignIns {
    /// Opens a session. `token`: BLAKE3 of the secret that the browser holds.
    #[boxed]
    pub async fn open_session(
        &self,
        actor: &Actor,
        account: AccountId,
        token: [u8; 32],
        ends_at: i64,
        agent: &str,
    ) -> Result<()> {
        let now = self.0.now_ms();
        let (from, agent) = (actor.from.to_string(), agent.chars().take(200).collect::<String>());
        self.0.people().change(actor, "signed in", "console", move |conn| {
            Box::pin(async move {
                sqlx::query("DELETE FROM sessions WHERE ends_at < ?").bind(now).execute(&mut *conn).await?;
                sqlx::query(
                    "INSERT INTO sessions (token, org, account, made_at, ends_at, opened_from, agent) VALUES (?, 1, ?, ?, ?, ?, ?)",
                )
                .bind(&token[..])
                .bind(account.0)
                .bind(now)
                .bind(ends_at)
                .bind(from)
                .bind(agent)
                .execute(&mut *conn)
                .await?;
                sqlx::query("UPDATE accounts SET seen_at = ? WHERE id = ?")
                    .bind(now)
                    .bind(account.0)
                    .execute(conn)
                    .await?;
                Ok(())
            })
        })
        .await
    }

    /// Ends a session.
    #[boxed]
    pub async fn end_session(&self, actor: &Actor, token: [u8; 32]) -> Result<()> {
        self.0
            .people()
            .change(actor, "signed out", "console", move |conn| {
                Box::pin(async move {
                    sqlx::query("DELETE FROM sessions WHERE token = ?")
                        .bind(&token[..])
                        .execute(conn)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Who stands behind a session.
    #[boxed]
    pub async fn session(&self, token: [u8; 32]) -> Result<Option<Principal>> {
        let row: Option<(i64, String, Option<String>)> = sqlx::query_as(sql(format!(
            "SELECT coalesce(s.used_at, s.made_at), {ACCOUNT}, (SELECT {SEEN} FROM accounts b WHERE b.id = s.looks_as AND b.disabled_at IS NULL)
             FROM sessions s JOIN accounts a ON a.id = s.account
             WHERE s.token = ? AND s.ends_at > ? AND a.disabled_at IS NULL AND {THERE}",
            SEEN = ACCOUNT.replace("a.", "b.")
        )))
        .bind(&token[..])
        .bind(self.0.now_ms())
        .fetch_optional(&self.0.shared.view.pool)
        .await?;
        let Some((used_at, its, looked)) = row else { return Ok(None) };
        let its = account(parse(&its)?);
        Ok(Some(match looked {
            Some(other) => {
                Principal { account: account(parse(&other)?), device: None, seen_by: Some(its), used_at }
            }
            None => Principal { account: its, device: None, seen_by: None, used_at },
        }))
    }

    /// Signs a device in. `token`: BLAKE3 of its secret.
    #[boxed]
    pub async fn make_device(
        &self,
        actor: &Actor,
        account: AccountId,
        name: &str,
        token: [u8; 32],
    ) -> Result<()> {
        let (named, now) = (name.to_string(), self.0.now_ms());
        self.0.people().change(actor, "device connected", name, move |conn| {
            Box::pin(async move {
                sqlx::query("INSERT INTO devices (org, account, name, token, doors, made_at) VALUES (1, ?, ?, ?, 'client', ?)")
                    .bind(account.0)
                    .bind(named)
                    .bind(&token[..])
                    .bind(now)
                    .execute(conn)
                    .await?;
                Ok(())
            })
        })
        .await
    }

    /// Ends a device: its token counts no more.
    #[boxed]
    pub async fn end_device(&self, actor: &Actor, account: AccountId, device: DeviceId) -> Result<()> {
        let now = self.0.now_ms();
        self.0
            .people()
            .change(actor, "device disconnected", &device.to_string(), move |conn| {
                Box::pin(async move {
                    let done = sqlx::query(
                        "UPDATE devices SET ended_at = ? WHERE id = ? AND account = ? AND ended_at IS NULL",
                    )
                    .bind(now)
                    .bind(device.0)
                    .bind(account.0)
                    .execute(conn)
                    .await?;
                    if done.rows_affected() == 0 {
                        return Err(StoreError::NotFound("The device".into()));
                    }
                    Ok(())
                })
            })
            .await
    }

    /// The devices of an account that are signed in.
    #[boxed]
    pub async fn devices(&self, account: AccountId) -> Result<Vec<Device>> {
        let rows: Vec<DeviceRow> = sqlx::query_as(
            "SELECT id, name, made_at, used_at, used_from FROM devices
             WHERE account = ? AND ended_at IS NULL ORDER BY made_at",
        )
        .bind(account.0)
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        Ok(rows
            .into_iter()
            .map(|(id, name, made_at, used_at, used_from)| Device {
                id: DeviceId(id),
                name,
                made_at,
                used_at,
                used_from,
            })
            .collect())
    }

    /// Writes when and from where devices were last used.
    #[boxed]
    pub async fn note_use(
        &self,
        devices: Vec<(DeviceId, i64, String)>,
        browsers: Vec<([u8; 32], i64)>,
    ) -> Result<()> {
        let list: Vec<_> =
            devices.into_iter().map(|(id, at, from)| serde_json::json!([id, at, from])).collect();
        let list = serde_json::Value::Array(list).to_string();
        let tokens: Vec<_> =
            browsers.iter().map(|(token, at)| serde_json::json!([crate::fs::disk::hex(token), at])).collect();
        let tokens = serde_json::Value::Array(tokens).to_string();
        self.0
            .people()
            .change(&Actor::service(), "", "", move |conn| {
                Box::pin(async move {
                    sqlx::query(
                        "UPDATE devices SET used_at = j.value->>1, used_from = j.value->>2
                     FROM json_each(?) j WHERE devices.id = j.value->>0",
                    )
                    .bind(list)
                    .execute(&mut *conn)
                    .await?;
                    sqlx::query(
                        "UPDATE sessions SET used_at = j.value->>1 FROM json_each(?) j
                     WHERE sessions.token = unhex(j.value->>0)",
                    )
                    .bind(tokens)
                    .execute(conn)
                    .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Who stands behind a device token.
    #[boxed]
    pub async fn device(&self, token: [u8; 32]) -> Result<Option<Principal>> {
        let row: Option<(i64, String)> = sqlx::query_as(sql(format!(
            "SELECT d.id, {ACCOUNT} FROM devices d JOIN accounts a ON a.id = d.account
             WHERE d.token = ? AND d.ended_at IS NULL AND a.disabled_at IS NULL AND {THERE}"
        )))
        .bind(&token[..])
        .fetch_optional(&self.0.shared.view.pool)
        .await?;
        let Some((device, its)) = row else { return Ok(None) };
        let (account, device) = (account(parse(&its)?), Some(DeviceId(device)));
        Ok(Some(Principal { account, device, seen_by: None, used_at: 0 }))
    }
}

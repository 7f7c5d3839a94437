//! Sign-ins of browsers, and computers that are connected.

use crate::catalogue::rows::{parse, sql};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, TokenScope};
use crate::people::SignIns;
use crate::people::account_lookup::{ACCOUNT, THERE, account};
use crate::people::accounts::Account;
use async_recursion::async_recursion as boxed;
use std::sync::Arc;
use yellow_attic_core::rights::Level;
use yellow_attic_core::{AccountId, DeviceId, NodeId};

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
    /// How far its token reaches, where that is not all of the account.
    pub scope: Option<TokenScope>,
    /// What it says of itself.
    pub told: Option<Told>,
}

/// What a device says of itself.
#[derive(Clone, Debug)]
pub struct Told {
    /// The program and its version.
    pub program: String,
    /// Its pairs, as JSON of whoever asked it.
    pub pairs: String,
    /// When it said so, in milliseconds.
    pub at: i64,
}

/// A device as a row.
#[derive(sqlx::FromRow)]
struct DeviceRow {
    id: i64,
    name: String,
    made_at: i64,
    used_at: Option<i64>,
    used_from: Option<String>,
    most: Option<String>,
    within: Option<String>,
    program: Option<String>,
    pairs: Option<String>,
    told_at: Option<i64>,
}

impl DeviceRow {
    fn read(self) -> Result<Device> {
        let told = self.told_at.map(|at| Told {
            program: self.program.unwrap_or_default(),
            pairs: self.pairs.unwrap_or_default(),
            at,
        });
        Ok(Device {
            id: DeviceId(self.id),
            name: self.name,
            made_at: self.made_at,
            used_at: self.used_at,
            used_from: self.used_from,
            scope: scope(self.most.as_deref(), self.within.as_deref())?,
            told,
        })
    }
}

/// A token's scope from what is written. What cannot be read reaches nothing.
fn scope(most: Option<&str>, within: Option<&str>) -> Result<Option<TokenScope>> {
    let Some(most) = most else { return Ok(None) };
    let nodes: Vec<i64> = within.map_or(Ok(Vec::new()), parse)?;
    let most = Level::from_word(most).ok_or_else(|| StoreError::DamagedRow("a device's scope".into()))?;
    Ok(Some(TokenScope { nodes: nodes.into_iter().map(NodeId).collect(), most }))
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
    /// When a browser or device was last used, as far as it is written.
    pub used_at: i64,
    /// How far a device's token reaches, where that is not all of the account.
    pub scope: Option<Arc<TokenScope>>,
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
            Some(other) => Principal {
                account: account(parse(&other)?),
                device: None,
                seen_by: Some(its),
                used_at,
                scope: None,
            },
            None => Principal { account: its, device: None, seen_by: None, used_at, scope: None },
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
        scope: Option<TokenScope>,
    ) -> Result<()> {
        let (named, now) = (name.to_string(), self.0.now_ms());
        let most = scope.as_ref().map(|s| s.most.word());
        let within = scope.as_ref().filter(|s| !s.nodes.is_empty());
        let within = within.map(|s| format!("{:?}", s.nodes.iter().map(|n| n.0).collect::<Vec<_>>()));
        self.0.people().change(actor, "device connected", name, move |conn| {
            Box::pin(async move {
                sqlx::query("INSERT INTO devices (org, account, name, token, doors, made_at, most, within) VALUES (1, ?, ?, ?, 'client', ?, ?, ?)")
                    .bind(account.0)
                    .bind(named)
                    .bind(&token[..])
                    .bind(now)
                    .bind(most)
                    .bind(within)
                    .execute(conn)
                    .await?;
                Ok(())
            })
        })
        .await
    }

    /// Takes what a device says of itself. It is no change of anything, and not recorded.
    #[boxed]
    pub async fn tell_device(&self, device: DeviceId, program: &str, pairs: &str) -> Result<()> {
        let (program, pairs, now) = (program.to_string(), pairs.to_string(), self.0.now_ms());
        self.0
            .people()
            .change(&Actor::service(), "", "", move |conn| {
                Box::pin(async move {
                    sqlx::query("UPDATE devices SET program = ?, pairs = ?, told_at = ? WHERE id = ? AND ended_at IS NULL")
                        .bind(program)
                        .bind(pairs)
                        .bind(now)
                        .bind(device.0)
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
            "SELECT id, name, made_at, used_at, used_from, most, within, program, pairs, told_at FROM devices
             WHERE account = ? AND ended_at IS NULL ORDER BY made_at",
        )
        .bind(account.0)
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        rows.into_iter().map(DeviceRow::read).collect()
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
        type Found = (i64, String, i64, Option<String>, Option<String>);
        let row: Option<Found> = sqlx::query_as(sql(format!(
            "SELECT d.id, {ACCOUNT}, coalesce(d.used_at, d.made_at), d.most, d.within FROM devices d
             JOIN accounts a ON a.id = d.account
             WHERE d.token = ? AND d.ended_at IS NULL AND a.disabled_at IS NULL AND {THERE}"
        )))
        .bind(&token[..])
        .fetch_optional(&self.0.shared.view.pool)
        .await?;
        let Some((device, its, used_at, most, within)) = row else { return Ok(None) };
        let (account, device) = (account(parse(&its)?), Some(DeviceId(device)));
        let scope = scope(most.as_deref(), within.as_deref())?.map(Arc::new);
        Ok(Some(Principal { account, device, seen_by: None, used_at, scope }))
    }
}

//! Second factors: what proves more than a password. One-time codes, passkeys, recovery codes.

use crate::engine::secrets::{of_factor, wipe};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::Actor;
use crate::people::SignIns;
use crate::people::accounts::Account;
use async_recursion::async_recursion as boxed;
use yellow_attic_core::AccountId;

/// What kind of factor it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FactorKind {
    /// One-time codes of an authenticator; the secret is their key.
    Codes,
    /// A passkey; the secret is its credential as JSON.
    Passkey,
}

impl FactorKind {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            FactorKind::Codes => "codes",
            FactorKind::Passkey => "passkey",
        }
    }
}

/// A second factor.
#[derive(Clone, Debug)]
pub struct Factor {
    /// Its id.
    pub id: i64,
    /// What it is.
    pub kind: FactorKind,
    /// Its name.
    pub name: String,
    /// Its secret, or its credential; none while the key that seals it is missing.
    pub secret: Option<Vec<u8>>,
    /// The last step whose code was used.
    pub step: Option<i64>,
    /// When it was set up, in milliseconds.
    pub made_at: i64,
    /// When it was last used.
    pub used_at: Option<i64>,
}

type FactorRow = (i64, String, String, Vec<u8>, bool, Option<i64>, i64, Option<i64>);

impl SignIns {
    /// The second factors of an account.
    #[boxed]
    pub async fn factors(&self, account: AccountId) -> Result<Vec<Factor>> {
        let rows: Vec<FactorRow> = sqlx::query_as(
            "SELECT id, kind, name, secret, sealed, step, made_at, used_at FROM factors WHERE account = ? ORDER BY made_at",
        )
        .bind(account.0)
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        Ok(rows
            .into_iter()
            .map(|(id, kind, name, kept, sealed, step, made_at, used_at)| Factor {
                id,
                secret: match sealed {
                    true => self.0.shared.secrets.unseal(&of_factor(account.0, &kind), &kept).ok(),
                    false => Some(kept),
                },
                kind: if kind == "codes" { FactorKind::Codes } else { FactorKind::Passkey },
                name,
                step,
                made_at,
                used_at,
            })
            .collect())
    }

    /// The accounts that have a second factor.
    #[boxed]
    pub async fn with_factors(&self) -> Result<std::collections::HashSet<AccountId>> {
        let rows: Vec<i64> = sqlx::query_scalar("SELECT DISTINCT account FROM factors")
            .fetch_all(&self.0.shared.view.pool)
            .await?;
        Ok(rows.into_iter().map(AccountId).collect())
    }

    /// How many recovery codes of an account are left.
    #[boxed]
    pub async fn recovery_left(&self, account: AccountId) -> Result<i64> {
        Ok(sqlx::query_scalar("SELECT count(*) FROM recovery_codes WHERE account = ?")
            .bind(account.0)
            .fetch_one(&self.0.shared.view.pool)
            .await?)
    }

    /// Sets a factor up. `codes`: BLAKE3 of new recovery codes, which take the place of the old ones.
    #[allow(clippy::too_many_arguments)]
    #[boxed]
    pub async fn add_factor(
        &self,
        actor: &Actor,
        account: &Account,
        kind: FactorKind,
        name: &str,
        secret: Vec<u8>,
        step: Option<i64>,
        codes: Option<Vec<[u8; 32]>>,
    ) -> Result<()> {
        let (id, now, named) = (account.id.0, self.0.now_ms(), name.to_string());
        let secret = self.0.shared.secrets.seal(&of_factor(id, kind.word()), &secret)?;
        self.0.people().change(actor, "second factor set up", &account.sign_in, move |conn| {
            Box::pin(async move {
                sqlx::query(
                    "INSERT INTO factors (org, account, kind, name, secret, step, made_at, sealed) VALUES (1, ?, ?, ?, ?, ?, ?, 1)",
                )
                .bind(id)
                .bind(kind.word())
                .bind(named)
                .bind(secret)
                .bind(step)
                .bind(now)
                .execute(&mut *conn)
                .await?;
                match codes {
                    Some(codes) => write_codes(conn, id, &codes).await,
                    None => Ok(()),
                }
            })
        })
        .await
    }

    /// New recovery codes in the place of the old ones.
    #[boxed]
    pub async fn renew_recovery(&self, actor: &Actor, account: &Account, codes: Vec<[u8; 32]>) -> Result<()> {
        let id = account.id.0;
        self.0
            .people()
            .change(actor, "recovery codes renewed", &account.sign_in, move |conn| {
                Box::pin(async move { write_codes(conn, id, &codes).await })
            })
            .await
    }

    /// Takes a factor away; with the last one the recovery codes go too.
    #[boxed]
    pub async fn end_factor(&self, actor: &Actor, account: &Account, factor: Option<i64>) -> Result<()> {
        let id = account.id.0;
        self.0.people().change(actor, "second factor removed", &account.sign_in, move |conn| {
            Box::pin(async move {
                wipe(conn, true).await?;
                let done = sqlx::query("DELETE FROM factors WHERE account = ?1 AND (?2 IS NULL OR id = ?2)")
                    .bind(id)
                    .bind(factor)
                    .execute(&mut *conn)
                    .await?;
                wipe(conn, false).await?;
                if done.rows_affected() == 0 {
                    return Err(StoreError::NotFound("The second factor".into()));
                }
                sqlx::query(
                    "DELETE FROM recovery_codes WHERE account = ?1 AND NOT EXISTS (SELECT 1 FROM factors WHERE account = ?1)",
                )
                .bind(id)
                .execute(conn)
                .await?;
                Ok(())
            })
        })
        .await
    }

    /// Notes that the code of a step was used. Of two at once, and of a code sent again, one is
    /// refused.
    #[boxed]
    pub async fn use_code(&self, actor: &Actor, factor: i64, step: i64) -> Result<bool> {
        self.use_factor(
            actor,
            "UPDATE factors SET step = ?2, used_at = ?3 WHERE id = ?1 AND (step IS NULL OR step < ?2)",
            factor,
            step,
        )
        .await
    }

    /// Uses a recovery code up.
    #[boxed]
    pub async fn use_recovery(&self, actor: &Actor, account: &Account, code: [u8; 32]) -> Result<bool> {
        let id = account.id.0;
        let done = self
            .0
            .people()
            .change(actor, "recovery code used", &account.sign_in, move |conn| {
                Box::pin(async move {
                    let done = sqlx::query("DELETE FROM recovery_codes WHERE account = ? AND code = ?")
                        .bind(id)
                        .bind(&code[..])
                        .execute(conn)
                        .await?;
                    found(done.rows_affected())
                })
            })
            .await;
        was_found(done)
    }

    /// Notes that a passkey was used, with its credential as it is now.
    #[boxed]
    pub async fn use_passkey(
        &self,
        actor: &Actor,
        account: &Account,
        factor: i64,
        credential: Vec<u8>,
    ) -> Result<()> {
        let now = self.0.now_ms();
        let what = of_factor(account.id.0, FactorKind::Passkey.word());
        let credential = self.0.shared.secrets.seal(&what, &credential)?;
        self.0
            .people()
            .change(actor, "", "", move |conn| {
                Box::pin(async move {
                    sqlx::query("UPDATE factors SET secret = ?, sealed = 1, used_at = ? WHERE id = ?")
                        .bind(credential)
                        .bind(now)
                        .bind(factor)
                        .execute(conn)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    async fn use_factor(&self, actor: &Actor, text: &'static str, factor: i64, step: i64) -> Result<bool> {
        let now = self.0.now_ms();
        let done = self
            .0
            .people()
            .change(actor, "", "", move |conn| {
                Box::pin(async move {
                    let done = sqlx::query(text).bind(factor).bind(step).bind(now).execute(conn).await?;
                    found(done.rows_affected())
                })
            })
            .await;
        was_found(done)
    }
}

fn found(rows: u64) -> Result<()> {
    if rows == 0 { Err(StoreError::NotFound("The code".into())) } else { Ok(()) }
}

fn was_found(done: Result<()>) -> Result<bool> {
    match done {
        Ok(()) => Ok(true),
        Err(StoreError::NotFound(_)) => Ok(false),
        Err(e) => Err(e),
    }
}

async fn write_codes(conn: &mut sqlx::SqliteConnection, account: i64, codes: &[[u8; 32]]) -> Result<()> {
    sqlx::query("DELETE FROM recovery_codes WHERE account = ?").bind(account).execute(&mut *conn).await?;
    for code in codes {
        sqlx::query("INSERT INTO recovery_codes (account, code) VALUES (?, ?)")
            .bind(account)
            .bind(&code[..])
            .execute(&mut *conn)
            .await?;
    }
    Ok(())
}

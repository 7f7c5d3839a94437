//! Accounts, sessions, devices. Passwords are hashed by the caller: it takes long, and is no
//! work for the writer.

use crate::engine::Engine;
use crate::error::{Result, StoreError};
use crate::model::{Actor, ShelfKind};
use crate::ops::NewShelf;
use crate::writer::Ask;
use yellow_attic_core::{AccountId, DeviceId, Name, password};

/// What an account may do beside using its files.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Role {
    /// Decides about people, shelves and rules.
    Administrator,
    /// Uses files.
    Member,
}

impl Role {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Role::Administrator => "administrator",
            Role::Member => "member",
        }
    }

    fn from_word(word: &str) -> Role {
        if word == "administrator" { Role::Administrator } else { Role::Member }
    }
}

/// An account.
#[derive(Clone, Debug)]
pub struct Account {
    /// Its id.
    pub id: AccountId,
    /// The name to sign in with.
    pub sign_in: String,
    /// The name to show.
    pub display_name: String,
    /// What it may do.
    pub role: Role,
    /// The hash of its password, a PHC string.
    pub password: String,
}

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
}

type AccountRow = (i64, String, String, String, String);
type DeviceRow = (i64, String, i64, Option<i64>, Option<String>);

fn account((id, sign_in, display_name, role, password): AccountRow) -> Account {
    Account { id: AccountId(id), sign_in, display_name, role: Role::from_word(&role), password }
}

impl Engine {
    async fn change(
        &self,
        actor: &Actor,
        action: &'static str,
        what: &str,
        change: impl for<'c> FnOnce(
            &'c mut sqlx::SqliteConnection,
        ) -> std::pin::Pin<Box<dyn Future<Output = Result<()>> + Send + 'c>>
        + Send
        + 'static,
    ) -> Result<()> {
        let (actor, what) = (actor.clone(), what.to_string());
        self.ask(|answer| Ask::Catalogue { change: Box::new(change), actor, action, what, answer }).await
    }

    /// Makes an account with its home shelf.
    pub async fn make_account(
        &self,
        actor: &Actor,
        sign_in: &str,
        display_name: &str,
        role: Role,
        password_hash: &str,
    ) -> Result<Account> {
        if !password::check_sign_in(sign_in) {
            return Err(StoreError::BadInput(format!(
                "\"{sign_in}\" cannot be a sign-in name: use 1 to 64 of a-z, 0-9, \".\", \"-\", \"_\", beginning with a letter or digit"
            )));
        }
        if self.account_named(sign_in).await?.is_some() {
            return Err(StoreError::Exists(format!("There is an account named \"{sign_in}\" already")));
        }
        let (name, shown, hash, now) =
            (sign_in.to_string(), display_name.trim().to_string(), password_hash.to_string(), self.now_ms());
        let shown = if shown.is_empty() { name.clone() } else { shown };
        self.change(actor, "account made", sign_in, move |conn| {
            Box::pin(async move {
                sqlx::query(
                    "INSERT INTO accounts (org, sign_in, display_name, password, role, made_at) VALUES (1, ?, ?, ?, ?, ?)",
                )
                .bind(name)
                .bind(shown)
                .bind(hash)
                .bind(role.word())
                .bind(now)
                .execute(conn)
                .await?;
                Ok(())
            })
        })
        .await?;
        let made =
            self.account_named(sign_in).await?.ok_or_else(|| StoreError::NotFound("The account".into()))?;
        self.ensure_home(actor, &made).await?;
        Ok(made)
    }

    /// Makes the home shelf of an account if it has none: after a stop between the two.
    pub async fn ensure_home(&self, actor: &Actor, account: &Account) -> Result<()> {
        if self.home_of(account.id).is_some() {
            return Ok(());
        }
        let new = NewShelf {
            kind: ShelfKind::Home,
            name: Name::new(&account.sign_in)?,
            owner: Some(account.id),
            grants: Vec::new(),
        };
        self.make_shelf(actor, new).await.map(|_| ())
    }

    /// The account with this sign-in name.
    pub async fn account_named(&self, sign_in: &str) -> Result<Option<Account>> {
        let row: Option<AccountRow> = sqlx::query_as(
            "SELECT id, sign_in, display_name, role, password FROM accounts WHERE sign_in = ?",
        )
        .bind(sign_in)
        .fetch_optional(&self.shared.view.pool)
        .await?;
        Ok(row.map(account))
    }

    /// All accounts, by sign-in name.
    pub async fn accounts(&self) -> Result<Vec<Account>> {
        let rows: Vec<AccountRow> =
            sqlx::query_as("SELECT id, sign_in, display_name, role, password FROM accounts ORDER BY sign_in")
                .fetch_all(&self.shared.view.pool)
                .await?;
        Ok(rows.into_iter().map(account).collect())
    }

    /// Whether somebody administers this service yet.
    pub async fn has_administrator(&self) -> Result<bool> {
        let n: i64 = sqlx::query_scalar("SELECT count(*) FROM accounts WHERE role = 'administrator'")
            .fetch_one(&self.shared.view.pool)
            .await?;
        Ok(n > 0)
    }

    /// Opens a session. `token`: BLAKE3 of the secret that the browser holds.
    pub async fn open_session(
        &self,
        actor: &Actor,
        account: AccountId,
        token: [u8; 32],
        ends_at: i64,
    ) -> Result<()> {
        let now = self.now_ms();
        self.change(actor, "signed in", "console", move |conn| {
            Box::pin(async move {
                sqlx::query("DELETE FROM sessions WHERE ends_at < ?").bind(now).execute(&mut *conn).await?;
                sqlx::query(
                    "INSERT INTO sessions (token, org, account, made_at, ends_at) VALUES (?, 1, ?, ?, ?)",
                )
                .bind(&token[..])
                .bind(account.0)
                .bind(now)
                .bind(ends_at)
                .execute(conn)
                .await?;
                Ok(())
            })
        })
        .await
    }

    /// Ends a session.
    pub async fn end_session(&self, actor: &Actor, token: [u8; 32]) -> Result<()> {
        self.change(actor, "signed out", "console", move |conn| {
            Box::pin(async move {
                sqlx::query("DELETE FROM sessions WHERE token = ?").bind(&token[..]).execute(conn).await?;
                Ok(())
            })
        })
        .await
    }

    /// Who stands behind a session.
    pub async fn session(&self, token: [u8; 32]) -> Result<Option<Principal>> {
        let row: Option<AccountRow> = sqlx::query_as(
            "SELECT a.id, a.sign_in, a.display_name, a.role, a.password FROM sessions s JOIN accounts a ON a.id = s.account
             WHERE s.token = ? AND s.ends_at > ?",
        )
        .bind(&token[..])
        .bind(self.now_ms())
        .fetch_optional(&self.shared.view.pool)
        .await?;
        Ok(row.map(|r| Principal { account: account(r), device: None }))
    }

    /// Signs a device in. `token`: BLAKE3 of its secret.
    pub async fn make_device(
        &self,
        actor: &Actor,
        account: AccountId,
        name: &str,
        token: [u8; 32],
    ) -> Result<()> {
        let (named, now) = (name.to_string(), self.now_ms());
        self.change(actor, "device connected", name, move |conn| {
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
    pub async fn end_device(&self, actor: &Actor, account: AccountId, device: DeviceId) -> Result<()> {
        let now = self.now_ms();
        self.change(actor, "device disconnected", &device.to_string(), move |conn| {
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
    pub async fn devices(&self, account: AccountId) -> Result<Vec<Device>> {
        let rows: Vec<DeviceRow> = sqlx::query_as(
            "SELECT id, name, made_at, used_at, used_from FROM devices
             WHERE account = ? AND ended_at IS NULL ORDER BY made_at",
        )
        .bind(account.0)
        .fetch_all(&self.shared.view.pool)
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
    pub async fn note_device_use(&self, used: Vec<(DeviceId, i64, String)>) -> Result<()> {
        let list: Vec<_> = used.into_iter().map(|(id, at, from)| serde_json::json!([id, at, from])).collect();
        let list = serde_json::Value::Array(list).to_string();
        self.change(&Actor::service(), "", "", move |conn| {
            Box::pin(async move {
                sqlx::query(
                    "UPDATE devices SET used_at = j.value->>1, used_from = j.value->>2
                     FROM json_each(?) j WHERE devices.id = j.value->>0",
                )
                .bind(list)
                .execute(conn)
                .await?;
                Ok(())
            })
        })
        .await
    }

    /// Who stands behind a device token.
    pub async fn device(&self, token: [u8; 32]) -> Result<Option<Principal>> {
        let row: Option<(i64, i64, String, String, String, String)> = sqlx::query_as(
            "SELECT d.id, a.id, a.sign_in, a.display_name, a.role, a.password FROM devices d JOIN accounts a ON a.id = d.account
             WHERE d.token = ? AND d.ended_at IS NULL",
        )
        .bind(&token[..])
        .fetch_optional(&self.shared.view.pool)
        .await?;
        Ok(row.map(|(device, id, sign_in, shown, role, password)| Principal {
            account: account((id, sign_in, shown, role, password)),
            device: Some(DeviceId(device)),
        }))
    }

    /// The names to show for accounts and devices.
    pub async fn names(&self) -> Result<(Vec<(AccountId, String)>, Vec<(DeviceId, String)>)> {
        let accounts: Vec<(i64, String)> =
            sqlx::query_as("SELECT id, display_name FROM accounts").fetch_all(&self.shared.view.pool).await?;
        let devices: Vec<(i64, String)> =
            sqlx::query_as("SELECT id, name FROM devices").fetch_all(&self.shared.view.pool).await?;
        Ok((
            accounts.into_iter().map(|(id, n)| (AccountId(id), n)).collect(),
            devices.into_iter().map(|(id, n)| (DeviceId(id), n)).collect(),
        ))
    }
}

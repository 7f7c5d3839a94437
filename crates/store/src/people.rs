//! Accounts, sessions, devices. Passwords are hashed by the caller: it takes long, and is no
//! work for the writer.

use crate::engine::Engine;
use crate::error::{Result, StoreError};
use crate::model::{Actor, ShelfKind};
use crate::ops::NewShelf;
use crate::rows::sql;
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

    /// Reads the word.
    pub fn from_word(word: &str) -> Option<Role> {
        [Role::Administrator, Role::Member].into_iter().find(|r| r.word() == word)
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
    /// Its mail address.
    pub mail: Option<String>,
    /// Since when it can do nothing, in milliseconds. Nothing of its is lost.
    pub disabled_at: Option<i64>,
}

/// What of an account is to be changed. `None` leaves it as it is.
#[derive(Clone, Debug, Default)]
pub struct AccountChange {
    /// The name to show.
    pub display_name: Option<String>,
    /// The mail address; an empty one removes it.
    pub mail: Option<String>,
    /// What it may do.
    pub role: Option<Role>,
    /// The hash of a new password. It ends every session and device.
    pub password: Option<String>,
    /// Disable, or enable again.
    pub disabled: Option<bool>,
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

type AccountRow = (i64, String, String, String, String, Option<String>, Option<i64>);
const ACCOUNT: &str = "a.id, a.sign_in, a.display_name, a.role, a.password, a.mail, a.disabled_at";
type DeviceRow = (i64, String, i64, Option<i64>, Option<String>);

fn account((id, sign_in, display_name, role, password, mail, disabled_at): AccountRow) -> Account {
    let role = Role::from_word(&role).unwrap_or(Role::Member);
    Account { id: AccountId(id), sign_in, display_name, role, password, mail, disabled_at }
}

impl Engine {
    pub(crate) async fn change(
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
        let change = Box::new(change);
        self.ask(|answer| Ask::Catalogue { change, actor, action, what, rights: false, answer }).await
    }

    /// The same for what decides who may do what.
    pub(crate) async fn change_rights(
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
        let change = Box::new(change);
        self.ask(|answer| Ask::Catalogue { change, actor, action, what, rights: true, answer }).await
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
        let row: Option<AccountRow> =
            sqlx::query_as(sql(format!("SELECT {ACCOUNT} FROM accounts a WHERE sign_in = ?")))
                .bind(sign_in)
                .fetch_optional(&self.shared.view.pool)
                .await?;
        Ok(row.map(account))
    }

    /// All accounts, by sign-in name.
    pub async fn accounts(&self) -> Result<Vec<Account>> {
        let rows: Vec<AccountRow> =
            sqlx::query_as(sql(format!("SELECT {ACCOUNT} FROM accounts a ORDER BY sign_in")))
                .fetch_all(&self.shared.view.pool)
                .await?;
        Ok(rows.into_iter().map(account).collect())
    }

    /// Whether somebody administers this service yet.
    pub async fn has_administrator(&self) -> Result<bool> {
        let n: i64 = sqlx::query_scalar(
            "SELECT count(*) FROM accounts WHERE role = 'administrator' AND disabled_at IS NULL",
        )
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
        agent: &str,
    ) -> Result<()> {
        let now = self.now_ms();
        let (from, agent) = (actor.from.to_string(), agent.chars().take(200).collect::<String>());
        self.change(actor, "signed in", "console", move |conn| {
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
        let row: Option<AccountRow> = sqlx::query_as(sql(format!(
            "SELECT {ACCOUNT} FROM sessions s JOIN accounts a ON a.id = s.account
             WHERE s.token = ? AND s.ends_at > ? AND a.disabled_at IS NULL"
        )))
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
        type DeviceAccount = (i64, i64, String, String, String, String, Option<String>, Option<i64>);
        let row: Option<DeviceAccount> = sqlx::query_as(sql(format!(
            "SELECT d.id, {ACCOUNT} FROM devices d JOIN accounts a ON a.id = d.account
             WHERE d.token = ? AND d.ended_at IS NULL AND a.disabled_at IS NULL"
        )))
        .bind(&token[..])
        .fetch_optional(&self.shared.view.pool)
        .await?;
        Ok(row.map(|(device, id, sign_in, shown, role, password, mail, disabled)| Principal {
            account: account((id, sign_in, shown, role, password, mail, disabled)),
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

    /// Changes an account. The last administrator stays one.
    pub async fn change_account(
        &self,
        actor: &Actor,
        sign_in: &str,
        change: AccountChange,
    ) -> Result<Account> {
        let gone = || StoreError::NotFound(format!("The account \"{sign_in}\""));
        let found = self.account_named(sign_in).await?.ok_or_else(gone)?;
        if let Some(mail) = change.mail.as_deref().filter(|m| !m.is_empty())
            && !password::check_mail(mail)
        {
            return Err(StoreError::BadInput(format!("\"{mail}\" is no mail address.")));
        }
        let (id, now) = (found.id.0, self.now_ms());
        let action = match change.disabled {
            Some(true) => "account disabled",
            Some(false) => "account enabled",
            None if change.password.is_some() => "password set",
            None => "account changed",
        };
        self.change_rights(actor, action, sign_in, move |conn| {
            Box::pin(async move {
                if let Some(name) = change.display_name {
                    sqlx::query("UPDATE accounts SET display_name = ? WHERE id = ?")
                        .bind(name.trim())
                        .bind(id)
                        .execute(&mut *conn)
                        .await?;
                }
                if let Some(mail) = change.mail {
                    let mail = Some(mail.trim().to_string()).filter(|m| !m.is_empty());
                    sqlx::query("UPDATE accounts SET mail = ? WHERE id = ?")
                        .bind(&mail)
                        .bind(id)
                        .execute(&mut *conn)
                        .await
                        .map_err(|e| taken(e, "Another account has this mail address"))?;
                }
                if let Some(role) = change.role {
                    sqlx::query("UPDATE accounts SET role = ? WHERE id = ?")
                        .bind(role.word())
                        .bind(id)
                        .execute(&mut *conn)
                        .await?;
                }
                if let Some(disabled) = change.disabled {
                    sqlx::query("UPDATE accounts SET disabled_at = ? WHERE id = ?")
                        .bind(disabled.then_some(now))
                        .bind(id)
                        .execute(&mut *conn)
                        .await?;
                }
                if let Some(hash) = change.password {
                    sqlx::query("UPDATE accounts SET password = ? WHERE id = ?")
                        .bind(hash)
                        .bind(id)
                        .execute(&mut *conn)
                        .await?;
                    sqlx::query("DELETE FROM sessions WHERE account = ?")
                        .bind(id)
                        .execute(&mut *conn)
                        .await?;
                    sqlx::query("UPDATE devices SET ended_at = ? WHERE account = ? AND ended_at IS NULL")
                        .bind(now)
                        .bind(id)
                        .execute(&mut *conn)
                        .await?;
                }
                let left: i64 = sqlx::query_scalar(
                    "SELECT count(*) FROM accounts WHERE role = 'administrator' AND disabled_at IS NULL",
                )
                .fetch_one(&mut *conn)
                .await?;
                if left == 0 {
                    return Err(StoreError::LastAdministrator);
                }
                Ok(())
            })
        })
        .await?;
        self.account_named(sign_in).await?.ok_or_else(gone)
    }
}

/// A row that may stand only once stands already.
pub(crate) fn taken(error: sqlx::Error, what: &str) -> StoreError {
    match &error {
        sqlx::Error::Database(db) if db.is_unique_violation() => StoreError::Exists(what.into()),
        _ => error.into(),
    }
}

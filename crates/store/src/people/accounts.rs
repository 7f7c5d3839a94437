//! Accounts, sessions, devices. Passwords are hashed by the caller: it takes long, and is no
//! work for the writer.

use crate::catalogue::rows::doors_word;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ShelfKind};
use crate::ops::NewShelf;
use crate::ops::record::ChangeCatalogue;
use crate::people::People;
use async_recursion::async_recursion as boxed;
use std::collections::BTreeSet;
use yellow_attic_core::people::Notice;
use yellow_attic_core::rules::Door;
use yellow_attic_core::{AccountId, GroupId, Name, password};

/// Home shelves that are asked for at the same time.
const HOMES_AT_ONCE: usize = 400;

/// What an account may do beside using its files.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Role {
    /// Decides about people, shelves and rules.
    Administrator,
    /// Uses files.
    Member,
    /// From outside: has no home, and sees only what it was given and who gave it.
    Guest,
}

impl Role {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Role::Administrator => "administrator",
            Role::Member => "member",
            Role::Guest => "guest",
        }
    }

    /// Reads the word.
    pub fn from_word(word: &str) -> Option<Role> {
        [Role::Administrator, Role::Member, Role::Guest].into_iter().find(|r| r.word() == word)
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
    /// Why, if no administrator decided it for its own sake.
    pub why_disabled: Why,
    /// How many bytes its home may hold, if that is said of it alone.
    pub quota: Option<u64>,
    /// Doors that are closed to it alone.
    pub closed: BTreeSet<Door>,
    /// When it last signed in, in milliseconds.
    pub seen_at: Option<i64>,
    /// When it was made.
    pub made_at: i64,
    /// Who invited it, if it is a guest.
    pub invited_by: Option<AccountId>,
    /// Letters that it does not want.
    pub muted: BTreeSet<Notice>,
    /// When it is deleted, in milliseconds, and who gets its files then.
    pub leaves: Option<(i64, Option<AccountId>)>,
}

/// Why an account is disabled.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Why {
    /// An administrator said so.
    #[default]
    Said,
    /// A guest who was away for too long.
    Away,
    /// Somebody signed up, and nobody has approved it yet.
    Waiting,
    /// It will be deleted.
    Leaving,
}

impl Why {
    const ALL: [(Why, &'static str); 4] =
        [(Why::Said, ""), (Why::Away, "away"), (Why::Waiting, "waiting"), (Why::Leaving, "leaving")];

    /// The word for it; empty for an administrator's decision.
    pub fn word(self) -> &'static str {
        Why::ALL.iter().find(|(w, _)| *w == self).map_or("", |(_, word)| word)
    }

    pub(crate) fn from_word(word: &str) -> Why {
        Why::ALL.iter().find(|(_, w)| *w == word).map_or(Why::Said, |(why, _)| *why)
    }
}

/// An account to be made.
#[derive(Clone, Debug)]
pub struct NewPerson {
    /// The name to sign in with.
    pub sign_in: String,
    /// The name to show; the sign-in name if it is empty.
    pub display_name: String,
    /// What it may do.
    pub role: Role,
    /// The hash of its password; empty if one is still to be chosen.
    pub password: String,
    /// Its mail address.
    pub mail: Option<String>,
    /// Its groups.
    pub groups: Vec<GroupId>,
    /// How many bytes its home may hold.
    pub quota: Option<u64>,
    /// Who invited it.
    pub invited_by: Option<AccountId>,
    /// Whether it waits to be approved.
    pub waits: bool,
}

impl NewPerson {
    /// One of whom only the names are known.
    pub fn named(sign_in: &str, display_name: &str, role: Role, password: &str) -> NewPerson {
        NewPerson {
            sign_in: sign_in.into(),
            display_name: display_name.into(),
            role,
            password: password.into(),
            mail: None,
            groups: Vec::new(),
            quota: None,
            invited_by: None,
            waits: false,
        }
    }
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
    /// How many bytes its home may hold; `Some(None)`: what its groups say.
    pub quota: Option<Option<u64>>,
    /// The doors that are closed to it alone.
    pub closed: Option<BTreeSet<Door>>,
    /// Letters that it does not want.
    pub muted: Option<BTreeSet<Notice>>,
    /// All groups that it is in from now on.
    pub groups: Option<Vec<GroupId>>,
}

impl People {
    /// Changes the catalogue beside the timeline, with a row of the record.
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
        self.0.ask(ChangeCatalogue::new(actor, action, what, false, change)).await
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
        self.0.ask(ChangeCatalogue::new(actor, action, what, true, change)).await
    }

    /// Makes an account with its home shelf.
    #[boxed]
    pub async fn make_account(
        &self,
        actor: &Actor,
        sign_in: &str,
        display_name: &str,
        role: Role,
        password_hash: &str,
    ) -> Result<Account> {
        self.make_person(actor, NewPerson::named(sign_in, display_name, role, password_hash)).await
    }

    /// Makes an account; with its home shelf, unless it is a guest's.
    #[boxed]
    pub async fn make_person(&self, actor: &Actor, new: NewPerson) -> Result<Account> {
        let sign_in = new.sign_in.clone();
        self.make_people(actor, vec![new]).await?;
        self.account_named(&sign_in).await?.ok_or_else(|| StoreError::NotFound("The account".into()))
    }

    /// Makes many accounts, all or none of them, then their home shelves.
    #[boxed]
    pub async fn make_people(&self, actor: &Actor, people: Vec<NewPerson>) -> Result<()> {
        for new in &people {
            if !password::check_sign_in(&new.sign_in) {
                return Err(StoreError::BadInput(format!(
                    "\"{}\" cannot be a sign-in name: use 1 to 64 of a-z, 0-9, \".\", \"-\", \"_\", beginning with a letter or digit",
                    new.sign_in
                )));
            }
            if let Some(mail) = new.mail.as_deref()
                && !password::check_mail(mail)
            {
                return Err(StoreError::BadInput(format!("\"{mail}\" is no mail address.")));
            }
        }
        if let [one] = &people[..]
            && self.account_named(&one.sign_in).await?.is_some()
        {
            return Err(StoreError::Exists(format!("There is an account named \"{}\" already", one.sign_in)));
        }
        let now = self.0.now_ms();
        let rows: Vec<_> = people
            .iter()
            .map(|p| {
                let shown = Some(p.display_name.trim()).filter(|n| !n.is_empty()).unwrap_or(&p.sign_in);
                serde_json::json!([
                    p.sign_in,
                    shown,
                    p.password,
                    p.role.word(),
                    p.mail.as_deref().map(str::trim),
                    p.quota,
                    p.invited_by.map(|a| a.0),
                    p.waits.then_some(now),
                    if p.waits { Why::Waiting.word() } else { "" },
                    p.groups.iter().map(|g| g.0).collect::<Vec<_>>(),
                ])
            })
            .collect();
        let rows = serde_json::Value::Array(rows).to_string();
        let names: Vec<String> = people.iter().map(|p| p.sign_in.clone()).collect();
        self.change_rights(actor, "account made", &names.join("\n"), move |conn| {
            Box::pin(async move {
                sqlx::query(
                    "INSERT INTO accounts (org, sign_in, display_name, password, role, mail, quota, invited_by,
                       disabled_at, why_disabled, made_at)
                     SELECT 1, j.value->>0, j.value->>1, j.value->>2, j.value->>3, j.value->>4, j.value->>5,
                       j.value->>6, j.value->>7, j.value->>8, ?2 FROM json_each(?1) j",
                )
                .bind(&rows)
                .bind(now)
                .execute(&mut *conn)
                .await
                .map_err(|e| taken(e, "An account has this sign-in name or mail address already"))?;
                sqlx::query(
                    "INSERT OR IGNORE INTO members (grp, account)
                     SELECT g.value, a.id FROM json_each(?) j JOIN accounts a ON a.sign_in = j.value->>0,
                       json_each(j.value, '$[9]') g",
                )
                .bind(&rows)
                .execute(conn)
                .await?;
                Ok(())
            })
        })
        .await?;
        let made = self.accounts_named(&names).await?;
        let mut running = tokio::task::JoinSet::new();
        for account in made {
            // So many wait for one transaction together.
            while running.len() >= HOMES_AT_ONCE {
                joined(running.join_next().await)?;
            }
            let (engine, actor) = (self.clone(), actor.clone());
            running.spawn_on(async move { engine.ensure_home(&actor, &account).await }, self.0.runtime());
        }
        while let Some(done) = running.join_next().await {
            joined(Some(done))?;
        }
        Ok(())
    }

    /// Makes the home shelf of an account if it has none: after a stop between the two.
    #[boxed]
    pub async fn ensure_home(&self, actor: &Actor, account: &Account) -> Result<()> {
        if account.role == Role::Guest || self.0.home_of(account.id).is_some() {
            return Ok(());
        }
        let new = NewShelf {
            kind: ShelfKind::Home,
            name: Name::new(&account.sign_in)?,
            owner: Some(account.id),
            grants: Vec::new(),
        };
        self.0.space().make_shelf(actor, new).await.map(|_| ())
    }

    /// Changes an account. The last administrator stays one.
    #[boxed]
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
        let (id, now) = (found.id.0, self.0.now_ms());
        let action = match change.disabled {
            Some(true) => "account disabled",
            Some(false) => "account enabled",
            None if change.password.is_some() => "password set",
            None if change.closed.is_some() => "doors changed",
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
                    sqlx::query(
                        "UPDATE accounts SET disabled_at = ?, why_disabled = '', leaves_at = NULL, heir = NULL,
                           seen_at = iif(?1 IS NULL AND why_disabled = 'away', ?3, seen_at) WHERE id = ?2",
                    )
                        .bind(disabled.then_some(now))
                        .bind(id)
                        .bind(now)
                        .execute(&mut *conn)
                        .await?;
                }
                if let Some(quota) = change.quota {
                    sqlx::query("UPDATE accounts SET quota = ? WHERE id = ?")
                        .bind(quota.map(|q| i64::try_from(q).unwrap_or(i64::MAX)))
                        .bind(id)
                        .execute(&mut *conn)
                        .await?;
                }
                if let Some(closed) = change.closed {
                    sqlx::query("UPDATE accounts SET closed = ? WHERE id = ?")
                        .bind(doors_word(&closed))
                        .bind(id)
                        .execute(&mut *conn)
                        .await?;
                }
                if let Some(muted) = change.muted {
                    let words: Vec<_> = muted.iter().map(|n| n.word()).collect();
                    sqlx::query("UPDATE accounts SET muted = ? WHERE id = ?")
                        .bind(words.join(","))
                        .bind(id)
                        .execute(&mut *conn)
                        .await?;
                }
                if let Some(groups) = change.groups {
                    let groups = serde_json::to_string(&groups).unwrap_or_default();
                    sqlx::query("DELETE FROM members WHERE account = ? AND grp NOT IN (SELECT value FROM json_each(?))")
                        .bind(id)
                        .bind(&groups)
                        .execute(&mut *conn)
                        .await?;
                    sqlx::query("INSERT OR IGNORE INTO members (grp, account) SELECT value, ? FROM json_each(?)")
                        .bind(id)
                        .bind(&groups)
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

fn joined(done: Option<std::result::Result<Result<()>, tokio::task::JoinError>>) -> Result<()> {
    match done {
        Some(Ok(done)) => done,
        Some(Err(_)) => Err(StoreError::Stopping),
        None => Ok(()),
    }
}

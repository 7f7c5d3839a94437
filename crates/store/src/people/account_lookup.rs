//! Accounts by name, by address, by number.

use crate::catalogue::rows::{parse, sql};
use crate::fs::error::Result;
use crate::people::People;
use crate::people::accounts::{Account, Role, Why};
use async_recursion::async_recursion as boxed;
use yellow_attic_core::people::Notice;
use yellow_attic_core::rules::Door;
use yellow_attic_core::{AccountId, DeviceId};

pub type AccountJson = (
    i64,
    String,
    String,
    String,
    String,
    Option<String>,
    Option<i64>,
    String,
    Option<i64>,
    String,
    Option<i64>,
    i64,
    Option<i64>,
    Option<i64>,
    Option<i64>,
    String,
);

/// An account as one value: a tenth of the cost of a row of columns.
pub(crate) const ACCOUNT: &str =
    "json_array(a.id, a.sign_in, a.display_name, a.role, a.password, a.mail, a.disabled_at,
    a.why_disabled, a.quota, a.closed, a.seen_at, a.made_at, a.invited_by, a.leaves_at, a.heir, a.muted)";
/// Accounts that were not deleted.
pub(crate) const THERE: &str = "a.role <> 'gone'";

pub(crate) fn account(row: AccountJson) -> Account {
    let (
        id,
        sign_in,
        display_name,
        role,
        password,
        mail,
        disabled_at,
        why,
        quota,
        closed,
        seen_at,
        made_at,
        by,
        leaves_at,
        heir,
        muted,
    ) = row;
    Account {
        id: AccountId(id),
        sign_in,
        display_name,
        role: Role::from_word(&role).unwrap_or(Role::Member),
        password,
        mail,
        disabled_at,
        why_disabled: Why::from_word(&why),
        quota: quota.map(|q| q.max(0) as u64),
        closed: closed.split(',').filter_map(Door::from_word).collect(),
        seen_at,
        made_at,
        invited_by: by.map(AccountId),
        muted: muted.split(',').filter_map(Notice::from_word).collect(),
        leaves: leaves_at.map(|at| (at, heir.map(AccountId))),
    }
}

impl People {
    pub(crate) async fn accounts_named(&self, names: &[String]) -> Result<Vec<Account>> {
        let names = serde_json::to_string(names).unwrap_or_default();
        let list: String = sqlx::query_scalar(sql(format!(
            "SELECT json_group_array({ACCOUNT}) FROM json_each(?) j JOIN accounts a ON a.sign_in = j.value"
        )))
        .bind(names)
        .fetch_one(&self.0.shared.view.pool)
        .await?;
        Ok(parse::<Vec<AccountJson>>(&list)?.into_iter().map(account).collect())
    }

    pub(crate) async fn account_where(&self, condition: &str, value: &str) -> Result<Option<Account>> {
        let row: Option<String> = sqlx::query_scalar(sql(format!(
            "SELECT {ACCOUNT} FROM accounts a WHERE {THERE} AND {condition}"
        )))
        .bind(value)
        .fetch_optional(&self.0.shared.view.pool)
        .await?;
        row.map(|r| parse(&r).map(account)).transpose()
    }

    /// The account with this sign-in name.
    #[boxed]
    pub async fn account_named(&self, sign_in: &str) -> Result<Option<Account>> {
        self.account_where("a.sign_in = ?", sign_in).await
    }

    /// The account with this mail address.
    #[boxed]
    pub async fn account_at(&self, mail: &str) -> Result<Option<Account>> {
        self.account_where("lower(a.mail) = lower(?)", mail.trim()).await
    }

    /// The account with this id.
    #[boxed]
    pub async fn account(&self, id: AccountId) -> Result<Option<Account>> {
        self.account_where("a.id = CAST(? AS INTEGER)", &id.0.to_string()).await
    }

    /// All accounts, by sign-in name.
    #[boxed]
    pub async fn accounts(&self) -> Result<Vec<Account>> {
        let list: String = sqlx::query_scalar(sql(format!(
            "SELECT json_group_array({ACCOUNT} ORDER BY a.sign_in) FROM accounts a WHERE {THERE}"
        )))
        .fetch_one(&self.0.shared.view.pool)
        .await?;
        Ok(parse::<Vec<AccountJson>>(&list)?.into_iter().map(account).collect())
    }

    /// Whether somebody administers this service yet.
    #[boxed]
    pub async fn has_administrator(&self) -> Result<bool> {
        let n: i64 = sqlx::query_scalar(
            "SELECT count(*) FROM accounts WHERE role = 'administrator' AND disabled_at IS NULL",
        )
        .fetch_one(&self.0.shared.view.pool)
        .await?;
        Ok(n > 0)
    }

    /// The names to show for accounts and devices.
    #[boxed]
    pub async fn names(&self) -> Result<(Vec<(AccountId, String)>, Vec<(DeviceId, String)>)> {
        let accounts: Vec<(i64, String)> =
            // Strangers are named by what they came through, by its negative number.
            sqlx::query_as(
                "SELECT id, display_name FROM accounts UNION ALL
                 SELECT -id, 'somebody by ' || kind || ' \"' || iif(title = '', '#' || id, title) || '\"' FROM openings",
            )
            .fetch_all(&self.0.shared.view.pool)
            .await?;
        let devices: Vec<(i64, String)> =
            sqlx::query_as("SELECT id, name FROM devices").fetch_all(&self.0.shared.view.pool).await?;
        Ok((
            accounts.into_iter().map(|(id, n)| (AccountId(id), n)).collect(),
            devices.into_iter().map(|(id, n)| (DeviceId(id), n)).collect(),
        ))
    }
}

//! Rules that are set, and what is known of people when a change of them is looked at.

use crate::fs::error::{Result, StoreError};
use crate::fs::model::Actor;
use crate::people::People;
use crate::people::accounts::{Account, Role};
use async_recursion::async_recursion as boxed;
use yellow_attic_core::AccountId;
use yellow_attic_core::rules::{Facts, Rule, Rules, Scope, Value};

const DAY_MS: i64 = 86_400_000;

impl People {
    /// All rules that are set, from memory.
    pub fn rules(&self) -> Rules {
        self.0.shared.view.access().rules().clone()
    }

    /// What counts for somebody, from memory.
    pub fn rules_of<T>(
        &self,
        account: AccountId,
        ask: impl FnOnce(&Rules, &[yellow_attic_core::GroupId]) -> T,
    ) -> T {
        let access = self.0.shared.view.access();
        ask(access.rules(), &access.groups_of(account))
    }

    /// Sets a rule, or takes it away at its scope. Refused if it would widen.
    #[boxed]
    pub async fn set_rule(
        &self,
        actor: &Actor,
        scope: Scope,
        rule: Rule,
        value: Option<Value>,
        place: &str,
    ) -> Result<()> {
        let text = value.as_ref().map(|v| rule.word_of(v));
        let what = format!("{} of {place}: {}", rule.word(), text.as_deref().unwrap_or("as further up"));
        let (by, now) = (actor.account.map(|a| a.0), self.0.now_ms());
        self.change_rights(actor, "rule set", &what, move |conn| {
            Box::pin(async move {
                // Within the transaction: of two changes at once the second sees the first.
                let set: Vec<(i64, i64, String, String)> =
                    sqlx::query_as("SELECT kind, of, rule, value FROM rules").fetch_all(&mut *conn).await?;
                let set = set.into_iter().filter_map(crate::rights::access::read_rule);
                Rules::new(set).with(scope, rule, value)?;
                let (kind, of) = match scope {
                    Scope::Service => (0, 0),
                    Scope::Organisation => (1, 1),
                    Scope::Group(group) => (2, group.0),
                    Scope::Shelf(shelf) => (3, shelf.0),
                };
                sqlx::query("DELETE FROM rules WHERE kind = ? AND of = ? AND rule = ?")
                    .bind(kind)
                    .bind(of)
                    .bind(rule.word())
                    .execute(&mut *conn)
                    .await?;
                if let Some(text) = text {
                    sqlx::query(
                        "INSERT INTO rules (kind, of, rule, value, set_at, set_by) VALUES (?, ?, ?, ?, ?, ?)",
                    )
                    .bind(kind)
                    .bind(of)
                    .bind(rule.word())
                    .bind(text)
                    .bind(now)
                    .bind(by)
                    .execute(conn)
                    .await?;
                }
                Ok(())
            })
        })
        .await
    }

    /// What is known of everybody, for looking at a change of rules.
    #[boxed]
    pub async fn facts_of(&self, accounts: &[Account]) -> Result<Vec<Facts>> {
        let access = self.0.shared.view.access();
        let count = |rows: Vec<(i64, i64)>| rows.into_iter().collect::<std::collections::HashMap<i64, i64>>();
        let factors = count(
            sqlx::query_as("SELECT account, count(*) FROM factors GROUP BY account")
                .fetch_all(&self.0.shared.view.pool)
                .await?,
        );
        let devices = count(
            sqlx::query_as("SELECT account, count(*) FROM devices WHERE ended_at IS NULL GROUP BY account")
                .fetch_all(&self.0.shared.view.pool)
                .await?,
        );
        let now = self.0.now_ms();
        Ok(accounts
            .iter()
            .map(|a| Facts {
                account: a.id,
                groups: access.groups_of(a.id).to_vec(),
                guest: a.role == Role::Guest,
                factor: factors.contains_key(&a.id.0),
                computers: devices.get(&a.id.0).copied().unwrap_or(0) as usize,
                away_days: ((now - a.seen_at.unwrap_or(a.made_at)) / DAY_MS).max(0) as u32,
                disabled: a.disabled_at.is_some(),
            })
            .collect())
    }

    /// Disables guests who have been away for longer than the rule allows. Returns their names.
    #[boxed]
    pub async fn disable_idle_guests(&self) -> Result<Vec<String>> {
        let guests: Vec<Account> = self
            .accounts()
            .await?
            .into_iter()
            .filter(|a| a.role == Role::Guest && a.disabled_at.is_none())
            .collect();
        let now = self.0.now_ms();
        let idle: Vec<&Account> = guests
            .iter()
            .filter(|a| {
                let days = self.rules_of(a.id, |rules, groups| rules.number(Rule::GuestsIdle, groups));
                days.is_some_and(|d| now - a.seen_at.unwrap_or(a.made_at) >= i64::from(d) * DAY_MS)
            })
            .collect();
        if idle.is_empty() {
            return Ok(Vec::new());
        }
        let names: Vec<String> = idle.iter().map(|a| a.sign_in.clone()).collect();
        let ids = serde_json::to_string(&idle.iter().map(|a| a.id.0).collect::<Vec<_>>())
            .map_err(|e| StoreError::Catalogue(e.to_string()))?;
        self.change_rights(&Actor::service(), "guest disabled", &names.join("\n"), move |conn| {
            Box::pin(async move {
                sqlx::query(
                    "UPDATE accounts SET disabled_at = ?, why_disabled = 'away'
                     WHERE id IN (SELECT value FROM json_each(?)) AND disabled_at IS NULL",
                )
                .bind(now)
                .bind(ids)
                .execute(conn)
                .await?;
                Ok(())
            })
        })
        .await?;
        Ok(names)
    }
}

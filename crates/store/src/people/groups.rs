//! Groups of accounts: what is given to one reaches each member.

use crate::catalogue::rows::parse;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::Actor;
use crate::people::People;
use crate::people::accounts::taken;
use async_recursion::async_recursion as boxed;
use yellow_attic_core::rules::{Rule, Value};
use yellow_attic_core::{AccountId, GroupId};

/// A group.
#[derive(Clone, Debug)]
pub struct Group {
    /// Its id.
    pub id: GroupId,
    /// Its name.
    pub name: String,
    /// What it is for.
    pub note: String,
    /// Its members.
    pub members: Vec<AccountId>,
    /// How many bytes the home of each member may hold, if nothing is said of it alone.
    pub quota: Option<u64>,
}

impl People {
    /// All groups, by name.
    #[boxed]
    pub async fn groups(&self) -> Result<Vec<Group>> {
        let rows: Vec<(i64, String, String, Option<i64>, String)> = sqlx::query_as(
            "SELECT g.id, g.name, g.note, g.quota, (SELECT json_group_array(account) FROM members WHERE grp = g.id)
             FROM groups g ORDER BY g.name_key",
        )
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        rows.into_iter()
            .map(|(id, name, note, quota, members)| {
                let members = parse::<Vec<i64>>(&members)?.into_iter().map(AccountId).collect();
                Ok(Group { id: GroupId(id), name, note, members, quota: quota.map(|q| q.max(0) as u64) })
            })
            .collect()
    }

    /// The group of this name, however it is written.
    #[boxed]
    pub async fn group_named(&self, name: &str) -> Result<Group> {
        let key = group_key(name);
        let found = self.groups().await?.into_iter().find(|g| group_key(&g.name) == key);
        found.ok_or_else(|| StoreError::NotFound(format!("The group \"{name}\"")))
    }

    /// Makes a group.
    #[boxed]
    pub async fn make_group(&self, actor: &Actor, name: &str, note: &str) -> Result<Group> {
        let (named, noted, now) = (group_name(name)?, note.trim().to_string(), self.0.now_ms());
        let wanted = named.clone();
        self.change_rights(actor, "group made", &named, move |conn| {
            Box::pin(async move {
                sqlx::query("INSERT INTO groups (org, name, name_key, note, made_at) VALUES (1, ?, ?, ?, ?)")
                    .bind(&wanted)
                    .bind(group_key(&wanted))
                    .bind(noted)
                    .bind(now)
                    .execute(conn)
                    .await
                    .map_err(|e| {
                        taken(e, "There is a group of this name already, or one that looks like it")
                    })?;
                Ok(())
            })
        })
        .await?;
        self.group_named(&named).await
    }

    /// Renames a group or changes what it is for. What was given to it stays given.
    #[boxed]
    pub async fn change_group(
        &self,
        actor: &Actor,
        group: GroupId,
        name: Option<&str>,
        note: Option<&str>,
        quota: Option<Option<u64>>,
    ) -> Result<()> {
        let name = name.map(group_name).transpose()?;
        let note = note.map(|n| n.trim().to_string());
        let what = name.clone().unwrap_or_default();
        self.change_rights(actor, "group changed", &what, move |conn| {
            Box::pin(async move {
                let key = name.as_deref().map(group_key);
                if let Some(name) = &name {
                    rename_in_rules(conn, group, name).await?;
                }
                let done = sqlx::query(
                    "UPDATE groups SET name = coalesce(?, name), name_key = coalesce(?, name_key), note = coalesce(?, note),
                       quota = iif(?, ?, quota) WHERE id = ?",
                )
                .bind(name)
                .bind(key)
                .bind(note)
                .bind(quota.is_some())
                .bind(quota.flatten().map(|q| i64::try_from(q).unwrap_or(i64::MAX)))
                .bind(group.0)
                .execute(&mut *conn)
                .await
                .map_err(|e| taken(e, "There is a group of this name already, or one that looks like it"))?;
                match done.rows_affected() {
                    0 => Err(StoreError::NotFound("The group".into())),
                    _ => Ok(()),
                }
            })
        })
        .await
    }

    /// Ends a group, and all that was given to it.
    #[boxed]
    pub async fn end_group(&self, actor: &Actor, group: &Group) -> Result<()> {
        let id = group.id.0;
        self.change_rights(actor, "group ended", &group.name, move |conn| {
            Box::pin(async move {
                for text in [
                    "DELETE FROM grants WHERE grp = ?",
                    "DELETE FROM members WHERE grp = ?",
                    "DELETE FROM rules WHERE kind = 2 AND of = ?",
                    "DELETE FROM groups WHERE id = ?",
                ] {
                    sqlx::query(text).bind(id).execute(&mut *conn).await?;
                }
                Ok(())
            })
        })
        .await
    }

    /// Puts accounts into a group and takes others out.
    #[boxed]
    pub async fn change_members(
        &self,
        actor: &Actor,
        group: &Group,
        come: Vec<AccountId>,
        go: Vec<AccountId>,
    ) -> Result<()> {
        let id = group.id.0;
        let what = format!("{}: {} in, {} out", group.name, come.len(), go.len());
        self.change_rights(actor, "group members changed", &what, move |conn| {
            Box::pin(async move {
                let list = |accounts: &[AccountId]| {
                    serde_json::to_string(&accounts.iter().map(|a| a.0).collect::<Vec<_>>())
                        .unwrap_or_default()
                };
                sqlx::query("INSERT OR IGNORE INTO members (grp, account) SELECT ?, value FROM json_each(?)")
                    .bind(id)
                    .bind(list(&come))
                    .execute(&mut *conn)
                    .await?;
                sqlx::query(
                    "DELETE FROM members WHERE grp = ? AND account IN (SELECT value FROM json_each(?))",
                )
                .bind(id)
                .bind(list(&go))
                .execute(conn)
                .await?;
                Ok(())
            })
        })
        .await
    }
}

/// Names that look alike are one.
fn group_key(name: &str) -> String {
    yellow_attic_core::collate::looks(name)
}

fn group_name(name: &str) -> Result<String> {
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 64 || name.chars().any(|c| c.is_control() || c == ':') {
        return Err(StoreError::BadInput(
            "A group's name has 1 to 64 characters, and no colon or control characters.".into(),
        ));
    }
    Ok(name.to_string())
}

/// Rules that name a group go on naming it.
async fn rename_in_rules(conn: &mut sqlx::SqliteConnection, group: GroupId, name: &str) -> Result<()> {
    let before: Option<String> = sqlx::query_scalar("SELECT name FROM groups WHERE id = ?")
        .bind(group.0)
        .fetch_optional(&mut *conn)
        .await?;
    let Some(before) = before.filter(|b| b != name) else { return Ok(()) };
    let set: Vec<(i64, i64, String, String)> =
        sqlx::query_as("SELECT kind, of, rule, value FROM rules").fetch_all(&mut *conn).await?;
    for (kind, of, rule, value) in set {
        let Some(rule) = Rule::from_word(&rule).filter(|r| r.by_groups()) else { continue };
        let Ok(Value::Words(mut words)) = rule.read(&value) else { continue };
        if !words.remove(&before) {
            continue;
        }
        words.insert(name.to_string());
        sqlx::query("UPDATE rules SET value = ? WHERE kind = ? AND of = ? AND rule = ?")
            .bind(rule.word_of(&Value::Words(words)))
            .bind(kind)
            .bind(of)
            .bind(rule.word())
            .execute(&mut *conn)
            .await?;
    }
    Ok(())
}

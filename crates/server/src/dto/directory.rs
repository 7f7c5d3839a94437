//! Accounts and groups, as somebody may know them.

use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::state::State;
use crate::state::sessions::Who;
use std::collections::{HashMap, HashSet};
use yellow_attic_api as api;
use yellow_attic_core::collate::looks;
use yellow_attic_core::rights::Subject;
use yellow_attic_core::rules::{Rule, Rules, Value};
use yellow_attic_core::{AccountId, GroupId};
use yellow_attic_store::people::accounts::{Account, Role};
use yellow_attic_store::people::groups::Group;

/// Everybody, and every group, by name.
pub struct Directory {
    pub accounts: HashMap<AccountId, Account>,
    pub groups: Vec<Group>,
}

impl Directory {
    /// Reads it.
    pub async fn read(state: &State) -> Result<Directory, Refusal> {
        let accounts = state.engine.people().accounts().await?;
        let groups = state.engine.people().groups().await?;
        Ok(Directory { accounts: accounts.into_iter().map(|a| (a.id, a)).collect(), groups })
    }

    /// The name to show for an account.
    pub fn name(&self, id: AccountId) -> Option<String> {
        self.accounts.get(&id).map(|a| a.display_name.clone())
    }

    /// Its sign-in name.
    pub fn sign_in(&self, id: AccountId) -> String {
        self.accounts.get(&id).map(|a| a.sign_in.clone()).unwrap_or_default()
    }

    /// Whether this is the sign-in name of an account.
    pub fn is(&self, id: AccountId, name: &str) -> bool {
        self.sign_in(id) == name.trim().to_lowercase()
    }

    /// How a subject is written, and how it is shown.
    pub fn word(&self, subject: Subject) -> (String, String) {
        match subject {
            Subject::Everyone => ("everyone".into(), "Everyone".into()),
            Subject::Account(id) => {
                (format!("account:{}", self.sign_in(id)), self.name(id).unwrap_or_default())
            }
            Subject::Group(id) => {
                let name = self.groups.iter().find(|g| g.id == id).map(|g| g.name.clone());
                let name = name.unwrap_or_default();
                (format!("group:{name}"), name)
            }
        }
    }

    /// Reads a subject.
    pub fn subject(&self, word: &str) -> Result<Subject, Refusal> {
        match word.split_once(':') {
            None if word == "everyone" => Ok(Subject::Everyone),
            Some(("account", name)) => self.account(name).map(Subject::Account),
            Some(("group", name)) => self.group(name).map(|g| Subject::Group(g.id)),
            _ => Err(refusals::SUBJECT_MALFORMED.of(&format!("\"{word}\" names nobody."))),
        }
    }

    /// The account with this sign-in name.
    pub fn account(&self, name: &str) -> Result<AccountId, Refusal> {
        let name = name.trim().to_lowercase();
        self.accounts
            .values()
            .find(|a| a.sign_in == name)
            .map(|a| a.id)
            .ok_or_else(|| nobody(&format!("There is no account \"{name}\".")))
    }

    /// The group of this name, however it is written.
    pub fn group(&self, name: &str) -> Result<&Group, Refusal> {
        let wanted = looks(name);
        let found = self.groups.iter().find(|g| looks(&g.name) == wanted);
        found.ok_or_else(|| nobody(&format!("There is no group \"{name}\".")))
    }

    /// The names of an account's groups.
    pub fn groups_of(&self, id: AccountId) -> Vec<String> {
        self.groups.iter().filter(|g| g.members.contains(&id)).map(|g| g.name.clone()).collect()
    }

    pub fn person(&self, id: AccountId) -> Option<api::Person> {
        let account = self.accounts.get(&id)?;
        Some(api::Person { to: format!("account:{}", account.sign_in), name: account.display_name.clone() })
    }
}

pub fn nobody(detail: &str) -> Refusal {
    refusals::NOBODY.of(detail)
}

/// The accounts that the caller may see in lists of people: by rule, and for guests only those who
/// gave them something.
pub async fn sees(state: &State, all: &Directory, who: &Who) -> Result<HashSet<AccountId>, Refusal> {
    let everybody = || all.accounts.values().filter(|a| a.disabled_at.is_none()).map(|a| a.id).collect();
    match who.account.role {
        Role::Administrator => Ok(everybody()),
        Role::Guest => {
            let given = state.engine.grants().given(&who.actor).await?;
            let givers = given.iter().flat_map(|(_, _, grants)| grants).filter_map(|g| g.made_by);
            Ok(givers.chain(who.account.invited_by).collect())
        }
        Role::Member => {
            let rule = |rules: &Rules, groups: &[GroupId]| rules.decide(Rule::PeopleSeen, groups).value;
            Ok(match state.engine.people().rules_of(who.account.id, rule) {
                Value::Choice("everyone") => {
                    let guests = |id: &AccountId| all.accounts.get(id).is_some_and(|a| a.role != Role::Guest);
                    let everybody: HashSet<AccountId> = everybody();
                    everybody
                        .into_iter()
                        .filter(|id| guests(id) || all.accounts[id].invited_by == Some(who.account.id))
                        .collect()
                }
                Value::Choice("groups") => {
                    let mine = all.groups.iter().filter(|g| g.members.contains(&who.account.id));
                    let seen = mine.flat_map(|g| g.members.iter().copied());
                    seen.filter(|id| all.accounts.get(id).is_some_and(|a| a.disabled_at.is_none())).collect()
                }
                _ => HashSet::new(),
            })
        }
    }
}

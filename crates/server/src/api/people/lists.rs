//! Lists of people, carried out line by line.

use crate::dto::directory::Directory;
use crate::http::problem::Refusal;
use crate::identity::invitations::{invitation, mail_invitation};
use crate::state::State;
use futures_util::{StreamExt, stream};
use std::collections::BTreeMap;
use yellow_attic_core::collate::looks;
use yellow_attic_core::people::{Column, Fate, Present, Row, Wanted, Wrong};
use yellow_attic_core::{AccountId, GroupId};
use yellow_attic_store::people::accounts::{AccountChange, NewPerson, Role};
use yellow_attic_store::{Actor, StoreError};

/// All accounts as a plan sees them.
pub fn present(all: &Directory) -> Vec<Present> {
    let mut groups_of: BTreeMap<AccountId, Vec<String>> = BTreeMap::new();
    for group in &all.groups {
        for member in &group.members {
            groups_of.entry(*member).or_default().push(group.name.clone());
        }
    }
    all.accounts
        .values()
        .map(|a| Present {
            sign_in: a.sign_in.clone(),
            display_name: a.display_name.clone(),
            mail: a.mail.clone(),
            groups: groups_of.remove(&a.id).unwrap_or_default().into_iter().collect(),
            quota: a.quota,
            role: a.role.word().to_string(),
        })
        .collect()
}

/// A fate in words.
pub fn told(fate: &Fate) -> (&'static str, Vec<String>) {
    match fate {
        Fate::Make => ("made", Vec::new()),
        Fate::Same => ("same", Vec::new()),
        Fate::There => ("there", vec!["the account is there already".into()]),
        Fate::Change(changes) => (
            "changed",
            changes
                .iter()
                .map(|(column, was, will)| match was.is_empty() {
                    true => format!("{}: {will}", column.word()),
                    false => format!("{}: {was} → {will}", column.word()),
                })
                .collect(),
        ),
        Fate::Wrong(wrong) => (
            "wrong",
            wrong
                .iter()
                .map(|w| match w.column.is_empty() {
                    true => w.reason.clone(),
                    false => format!("{}: {}", w.column, w.reason),
                })
                .collect(),
        ),
    }
}

pub fn ids(all: &Directory, names: &[String]) -> Vec<GroupId> {
    names
        .iter()
        .filter_map(|n| all.groups.iter().find(|g| looks(&g.name) == looks(n)))
        .map(|g| g.id)
        .collect()
}

pub fn person(all: &Directory, wanted: &Wanted) -> NewPerson {
    let role = wanted.role.as_deref().and_then(Role::from_word).unwrap_or(Role::Member);
    let shown = wanted.display_name.as_deref().unwrap_or_default();
    NewPerson {
        mail: wanted.mail.clone().filter(|m| !m.is_empty()),
        groups: ids(all, wanted.groups.as_deref().unwrap_or_default()),
        quota: wanted.quota.flatten(),
        ..NewPerson::named(&wanted.sign_in, shown, role, "")
    }
}

pub fn failed(error: &StoreError) -> Fate {
    Fate::Wrong(vec![Wrong { column: String::new(), reason: error.to_string() }])
}

/// Does what the fates say. What fails after all becomes a fate of its own.
pub async fn carry_out(
    state: &State,
    actor: &Actor,
    all: &Directory,
    rows: &[Row],
    fates: &mut [Fate],
) -> Result<(), Refusal> {
    let made: Vec<usize> = (0..rows.len()).filter(|i| fates[*i] == Fate::Make).collect();
    for batch in made.chunks(BATCH) {
        let people = |i: &usize| rows[*i].wanted.as_ref().ok().map(|w| person(all, w));
        let together: Vec<NewPerson> = batch.iter().filter_map(people).collect();
        if state.engine.people().make_people(actor, together).await.is_ok() {
            continue;
        }
        // Somebody made one of them meanwhile: one by one, so that only that row is refused.
        for i in batch {
            let Some(new) = people(i) else { continue };
            if let Err(error) = state.engine.people().make_person(actor, new).await {
                fates[*i] = failed(&error);
            }
        }
    }
    let changes: Vec<(usize, String, AccountChange)> = (0..rows.len())
        .filter_map(|i| match (&fates[i], &rows[i].wanted) {
            (Fate::Change(changes), Ok(wanted)) => {
                Some((i, wanted.sign_in.clone(), change(all, wanted, changes)))
            }
            _ => None,
        })
        .collect();
    let mut running = stream::iter(changes)
        .map(|(i, name, change)| async move {
            (i, state.engine.people().change_account(actor, &name, change).await)
        })
        .buffer_unordered(AT_ONCE);
    while let Some((i, done)) = running.next().await {
        if let Err(error) = done {
            fates[i] = failed(&error);
        }
    }
    Ok(())
}

pub fn change(all: &Directory, wanted: &Wanted, changes: &[(Column, String, String)]) -> AccountChange {
    let has = |column: Column| changes.iter().any(|(c, _, _)| *c == column);
    AccountChange {
        display_name: wanted.display_name.clone().filter(|_| has(Column::Name)),
        mail: wanted.mail.clone().filter(|_| has(Column::Mail)),
        role: wanted.role.as_deref().and_then(Role::from_word).filter(|_| has(Column::Role)),
        quota: wanted.quota.filter(|_| has(Column::Quota)),
        groups: wanted.groups.as_deref().filter(|_| has(Column::Groups)).map(|g| ids(all, g)),
        ..AccountChange::default()
    }
}

pub async fn invite(state: &State, actor: &Actor, rows: &[Row], fates: &[Fate]) -> Result<usize, Refusal> {
    let mut invited = 0;
    let all = Directory::read(state).await?;
    for (row, _) in rows.iter().zip(fates).filter(|(_, fate)| **fate == Fate::Make) {
        let Ok(wanted) = &row.wanted else { continue };
        let Ok(id) = all.account(&wanted.sign_in) else { continue };
        let Some(account) = all.accounts.get(&id).filter(|a| a.mail.is_some()) else { continue };
        let (address, expires) = invitation(state, actor, account).await?;
        invited += usize::from(mail_invitation(state, actor, account, &address, expires).await?);
    }
    Ok(invited)
}

/// Accounts made in one transaction: it must not hold the writer for long.
pub const BATCH: usize = 500;

/// Changes that are asked for at the same time.
pub const AT_ONCE: usize = 200;

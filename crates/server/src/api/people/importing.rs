//! Lists of people: what each row asks for, what becomes of it, and the doing.

use crate::api::people::people::Directory;
use crate::api::session::signing::{invitation, mail_invitation};
use crate::http::problem::Refusal;
use crate::identity::principal::Who;
use crate::state::State;
use actix_web::{HttpResponse, post, web};
use futures_util::{StreamExt, stream};
use std::collections::BTreeMap;
use yellow_attic_api as api;
use yellow_attic_core::collate::looks;
use yellow_attic_core::people::{Column, Fate, Present, Row, Wanted, Wrong, plan_people, read_list};
use yellow_attic_core::proof::Deed;
use yellow_attic_core::{AccountId, GroupId};
use yellow_attic_store::people::accounts::{AccountChange, NewPerson, Role};
use yellow_attic_store::{Actor, StoreError};

/// The most bytes of a list.
const MOST: usize = 16 << 20;
/// Accounts made in one transaction: it must not hold the writer for long.
const BATCH: usize = 500;
/// Changes that are asked for at the same time.
const AT_ONCE: usize = 200;

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

/// Takes a list of people (CSV): tells what becomes of each row, and unless it is a preview does
/// it. A bad row stops no other.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(api::ListPeopleQuery),
    request_body(content = Vec<u8>, content_type = "text/csv"),
    responses((status = 200, body = api::ListedPeople), (status = 400, body = api::Problem), (status = 403, body = api::Problem), (status = 413, body = api::Problem)))]
#[post("/accounts/list")]
pub async fn take_list(
    state: web::Data<State>,
    who: Who,
    query: web::Query<api::ListPeopleQuery>,
    body: web::Payload,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let bytes = match body.to_bytes_limited(MOST).await {
        Ok(Ok(bytes)) => bytes,
        _ => {
            return Err(Refusal::new(
                413,
                "list_too_large",
                "The list is too large",
                "It has more than 16 MiB, or did not arrive whole.",
                "Send it in parts.",
            ));
        }
    };
    let mapping: BTreeMap<String, String> = match query.columns.as_str() {
        "" => BTreeMap::new(),
        text => serde_json::from_str(text).map_err(|e| {
            Refusal::bad("columns_malformed", &format!("{e}."), "Write {\"HEADING\": \"COLUMN\"}.")
        })?,
    };
    let list = read_list(&bytes, &mapping).map_err(|e| {
        let said = crate::api::session::sessions::capital(&e.to_string());
        Refusal::bad(
            "list_unreadable",
            &format!("{said}."),
            "Send CSV in UTF-8 whose first line names the columns: sign_in, display_name, mail, groups, quota, role.",
        )
    })?;
    let all = Directory::read(&state).await?;
    let groups: Vec<String> = all.groups.iter().map(|g| g.name.clone()).collect();
    let mut fates = plan_people(&list.rows, &present(&all), &groups, query.change);
    let mut invited = 0;
    if !query.preview {
        who.need(&state, Deed::ImportAccounts)?;
        carry_out(&state, &who.actor, &all, &list.rows, &mut fates).await?;
        if query.invite {
            invited = invite(&state, &who.actor, &list.rows, &fates).await?;
        }
        state.names.forget().await;
        state.revoked();
    }
    let rows: Vec<api::ListRow> =
        list.rows.iter().zip(&fates).map(|(row, fate)| shown(row.line, &row.wanted, fate)).collect();
    let mut sums = BTreeMap::new();
    for row in &rows {
        *sums.entry(row.fate.clone()).or_default() += 1;
    }
    let columns = list.columns.into_iter();
    Ok(HttpResponse::Ok().json(api::ListedPeople {
        columns: columns
            .map(|(heading, column)| api::ListColumn {
                heading,
                column: column.map(|c| c.word().to_string()),
            })
            .collect(),
        separator: list.separator.to_string(),
        rows,
        sums,
        done: !query.preview,
        invited,
    }))
}

fn shown(line: usize, wanted: &Result<Wanted, Vec<Wrong>>, fate: &Fate) -> api::ListRow {
    let (fate, details) = told(fate);
    let wanted = wanted.as_ref().ok();
    api::ListRow {
        line,
        sign_in: wanted.map(|w| w.sign_in.clone()).unwrap_or_default(),
        display_name: wanted.and_then(|w| w.display_name.clone()).unwrap_or_default(),
        fate: fate.to_string(),
        details,
    }
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

fn ids(all: &Directory, names: &[String]) -> Vec<GroupId> {
    names
        .iter()
        .filter_map(|n| all.groups.iter().find(|g| looks(&g.name) == looks(n)))
        .map(|g| g.id)
        .collect()
}

fn person(all: &Directory, wanted: &Wanted) -> NewPerson {
    let role = wanted.role.as_deref().and_then(Role::from_word).unwrap_or(Role::Member);
    let shown = wanted.display_name.as_deref().unwrap_or_default();
    NewPerson {
        mail: wanted.mail.clone().filter(|m| !m.is_empty()),
        groups: ids(all, wanted.groups.as_deref().unwrap_or_default()),
        quota: wanted.quota.flatten(),
        ..NewPerson::named(&wanted.sign_in, shown, role, "")
    }
}

fn failed(error: &StoreError) -> Fate {
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
        if state.engine.make_people(actor, together).await.is_ok() {
            continue;
        }
        // Somebody made one of them meanwhile: one by one, so that only that row is refused.
        for i in batch {
            let Some(new) = people(i) else { continue };
            if let Err(error) = state.engine.make_person(actor, new).await {
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
        .map(|(i, name, change)| async move { (i, state.engine.change_account(actor, &name, change).await) })
        .buffer_unordered(AT_ONCE);
    while let Some((i, done)) = running.next().await {
        if let Err(error) = done {
            fates[i] = failed(&error);
        }
    }
    Ok(())
}

fn change(all: &Directory, wanted: &Wanted, changes: &[(Column, String, String)]) -> AccountChange {
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

async fn invite(state: &State, actor: &Actor, rows: &[Row], fates: &[Fate]) -> Result<usize, Refusal> {
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

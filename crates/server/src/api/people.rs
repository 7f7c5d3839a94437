//! Accounts and groups.

use crate::app::State;
use crate::auth::{Who, hash_password};
use crate::problem::Refusal;
use crate::times::show;
use actix_web::{HttpRequest, HttpResponse, delete, get, patch, post, web};
use std::collections::HashMap;
use yellow_attic_api as api;
use yellow_attic_core::collate::looks;
use yellow_attic_core::rights::Subject;
use yellow_attic_core::{AccountId, password};
use yellow_attic_store::groups::Group;
use yellow_attic_store::people::{Account, AccountChange, Role};

/// Everybody, and every group, by name.
pub struct Directory {
    pub accounts: HashMap<AccountId, Account>,
    groups: Vec<Group>,
}

impl Directory {
    /// Reads it.
    pub async fn read(state: &State) -> Result<Directory, Refusal> {
        let accounts = state.engine.accounts().await?;
        let groups = state.engine.groups().await?;
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
            _ => Err(Refusal::bad(
                "subject_malformed",
                &format!("\"{word}\" names nobody."),
                "Write account:NAME, group:NAME or everyone.",
            )),
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

    fn group(&self, name: &str) -> Result<&Group, Refusal> {
        let wanted = looks(name);
        let found = self.groups.iter().find(|g| looks(&g.name) == wanted);
        found.ok_or_else(|| nobody(&format!("There is no group \"{name}\".")))
    }

    fn groups_of(&self, id: AccountId) -> Vec<String> {
        self.groups.iter().filter(|g| g.members.contains(&id)).map(|g| g.name.clone()).collect()
    }

    fn person(&self, id: AccountId) -> Option<api::Person> {
        let account = self.accounts.get(&id)?;
        Some(api::Person { to: format!("account:{}", account.sign_in), name: account.display_name.clone() })
    }
}

fn nobody(detail: &str) -> Refusal {
    Refusal::new(404, "nobody", "Nobody of that name", detail, "Look it up in the list of people and groups.")
}

/// All to whom something can be given: accounts and groups, by name.
#[utoipa::path(context_path = "/api/v1", tag = "people", responses((status = 200, body = api::People)))]
#[get("/people")]
pub async fn list_people(state: web::Data<State>, _who: Who) -> Result<HttpResponse, Refusal> {
    let all = Directory::read(&state).await?;
    let enabled = all.accounts.values().filter(|a| a.disabled_at.is_none());
    let mut people: Vec<api::Person> = enabled.filter_map(|a| all.person(a.id)).collect();
    people.extend(
        all.groups.iter().map(|g| api::Person { to: format!("group:{}", g.name), name: g.name.clone() }),
    );
    people.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(HttpResponse::Ok().json(api::People { people }))
}

/// Proves once more who one is: for ten minutes, what decides over people, rights and shelves may
/// be done.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", request_body = api::Proof,
    responses((status = 204), (status = 401, body = api::Problem), (status = 429, body = api::Problem)))]
#[post("/proof")]
pub async fn prove(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
    body: web::Json<api::Proof>,
) -> Result<HttpResponse, Refusal> {
    crate::auth::check_password(&state, &request, &who.account.sign_in, &body.password).await?;
    state.proofs.note(who.token, state.engine.now_ms());
    Ok(HttpResponse::NoContent().finish())
}

async fn shown(state: &State, all: &Directory, account: &Account) -> Result<api::Account, Refusal> {
    let home = state.engine.home_of(account.id);
    let bytes = match home {
        Some(home) => state.engine.shelf_sums(home.root).await?.map_or(0, |f| f.bytes),
        None => 0,
    };
    Ok(api::Account {
        sign_in: account.sign_in.clone(),
        display_name: account.display_name.clone(),
        mail: account.mail.clone(),
        role: account.role.word().to_string(),
        groups: all.groups_of(account.id),
        disabled: account.disabled_at.map(show),
        invited: account.password.is_empty(),
        bytes,
    })
}

async fn one(state: &State, sign_in: &str) -> Result<api::Account, Refusal> {
    let all = Directory::read(state).await?;
    let id = all.account(sign_in)?;
    let account = all.accounts.get(&id).ok_or_else(|| Refusal::not_found("The account"))?;
    shown(state, &all, account).await
}

/// All accounts. For administrators.
#[utoipa::path(context_path = "/api/v1", tag = "people", responses((status = 200, body = api::Accounts), (status = 403, body = api::Problem)))]
#[get("/accounts")]
pub async fn list_accounts(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let all = Directory::read(&state).await?;
    let mut list: Vec<&Account> = all.accounts.values().collect();
    list.sort_by(|a, b| a.sign_in.cmp(&b.sign_in));
    let mut accounts = Vec::with_capacity(list.len());
    for account in list {
        accounts.push(shown(&state, &all, account).await?);
    }
    Ok(HttpResponse::Ok().json(api::Accounts { accounts }))
}

fn role(word: &str) -> Result<Role, Refusal> {
    Role::from_word(word).ok_or_else(|| {
        Refusal::bad("role_unknown", &format!("\"{word}\" is no role."), "Choose administrator or member.")
    })
}

/// Checks a new password and hashes it, off the workers.
pub async fn hashed(state: &State, sign_in: &str, text: &str) -> Result<String, Refusal> {
    password::check(text, sign_in).map_err(|e| {
        let said = super::sessions::capital(&e.to_string());
        Refusal::bad("password_refused", &format!("{said}."), e.remedy())
    })?;
    let text = text.to_string();
    let _permit = state.hashing.acquire().await;
    web::block(move || hash_password(&text)).await.map_err(|_| Refusal::not_found("The password"))?
}

/// Makes an account with its home shelf.
#[utoipa::path(context_path = "/api/v1", tag = "people", request_body = api::NewAccount,
    responses((status = 201, body = api::Account), (status = 400, body = api::Problem), (status = 409, body = api::Problem)))]
#[post("/accounts")]
pub async fn make_account(
    state: web::Data<State>,
    who: Who,
    body: web::Json<api::NewAccount>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let all = Directory::read(&state).await?;
    let groups = body.groups.iter().map(|g| all.group(g)).collect::<Result<Vec<_>, _>>()?;
    let role = body.role.as_deref().map_or(Ok(Role::Member), role)?;
    who.need_proof(&state)?;
    let sign_in = body.sign_in.trim().to_lowercase();
    // Without a password nobody can sign in until one is chosen by an invitation.
    let hash = match &body.password {
        Some(text) => hashed(&state, &sign_in, text).await?,
        None => String::new(),
    };
    let made = state.engine.make_account(&who.actor, &sign_in, &body.display_name, role, &hash).await?;
    if let Some(mail) = &body.mail {
        let change = AccountChange { mail: Some(mail.clone()), ..AccountChange::default() };
        state.engine.change_account(&who.actor, &sign_in, change).await?;
    }
    for group in groups {
        state.engine.change_members(&who.actor, group, vec![made.id], Vec::new()).await?;
    }
    state.names.forget().await;
    Ok(HttpResponse::Created().json(one(&state, &sign_in).await?))
}

/// Changes an account.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(("sign_in" = String, Path)), request_body = api::AccountChange,
    responses((status = 200, body = api::Account), (status = 400, body = api::Problem), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
#[patch("/accounts/{sign_in}")]
pub async fn change_account(
    state: web::Data<State>,
    who: Who,
    path: web::Path<String>,
    body: web::Json<api::AccountChange>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    who.need_proof(&state)?;
    let sign_in = path.trim().to_lowercase();
    let change = AccountChange {
        display_name: body.display_name.clone(),
        mail: body.mail.clone(),
        role: body.role.as_deref().map(role).transpose()?,
        password: match &body.password {
            Some(text) => Some(hashed(&state, &sign_in, text).await?),
            None => None,
        },
        disabled: body.disabled,
    };
    state.engine.change_account(&who.actor, &sign_in, change).await?;
    state.names.forget().await;
    // What somebody may do counts at once, in whatever is open.
    state.revoked();
    Ok(HttpResponse::Ok().json(one(&state, &sign_in).await?))
}

fn shown_group(all: &Directory, group: &Group) -> api::Group {
    let mut members: Vec<api::Person> = group.members.iter().filter_map(|m| all.person(*m)).collect();
    members.sort_by(|a, b| a.name.cmp(&b.name));
    api::Group { name: group.name.clone(), note: group.note.clone(), members }
}

async fn one_group(state: &State, name: &str) -> Result<api::Group, Refusal> {
    let all = Directory::read(state).await?;
    Ok(shown_group(&all, all.group(name)?))
}

/// All groups with their members. For administrators.
#[utoipa::path(context_path = "/api/v1", tag = "people", responses((status = 200, body = api::Groups), (status = 403, body = api::Problem)))]
#[get("/groups")]
pub async fn list_groups(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let all = Directory::read(&state).await?;
    let groups = all.groups.iter().map(|g| shown_group(&all, g)).collect();
    Ok(HttpResponse::Ok().json(api::Groups { groups }))
}

/// Makes a group.
#[utoipa::path(context_path = "/api/v1", tag = "people", request_body = api::NewGroup,
    responses((status = 201, body = api::Group), (status = 400, body = api::Problem), (status = 409, body = api::Problem)))]
#[post("/groups")]
pub async fn make_group(
    state: web::Data<State>,
    who: Who,
    body: web::Json<api::NewGroup>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let all = Directory::read(&state).await?;
    let members = body.members.iter().map(|m| all.account(m)).collect::<Result<Vec<_>, _>>()?;
    who.need_proof(&state)?;
    let made = state.engine.make_group(&who.actor, &body.name, &body.note).await?;
    if !members.is_empty() {
        state.engine.change_members(&who.actor, &made, members, Vec::new()).await?;
    }
    Ok(HttpResponse::Created().json(one_group(&state, &made.name).await?))
}

/// Renames a group, says what it is for, changes its members. What was given to it stays given.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(("name" = String, Path)), request_body = api::GroupChange,
    responses((status = 200, body = api::Group), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
#[patch("/groups/{name}")]
pub async fn change_group(
    state: web::Data<State>,
    who: Who,
    path: web::Path<String>,
    body: web::Json<api::GroupChange>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let all = Directory::read(&state).await?;
    let group = all.group(&path)?;
    let ids = |names: &[String]| names.iter().map(|m| all.account(m)).collect::<Result<Vec<_>, _>>();
    let (add, remove) = (ids(&body.add)?, ids(&body.remove)?);
    who.need_proof(&state)?;
    if body.name.is_some() || body.note.is_some() {
        let (name, note) = (body.name.as_deref(), body.note.as_deref());
        state.engine.change_group(&who.actor, group.id, name, note).await?;
    }
    if !add.is_empty() || !remove.is_empty() {
        state.engine.change_members(&who.actor, group, add, remove).await?;
    }
    let name = body.name.as_deref().unwrap_or(&group.name);
    Ok(HttpResponse::Ok().json(one_group(&state, name).await?))
}

/// Ends a group, and all that was given to it.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(("name" = String, Path)),
    responses((status = 204), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[delete("/groups/{name}")]
pub async fn end_group(
    state: web::Data<State>,
    who: Who,
    path: web::Path<String>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let all = Directory::read(&state).await?;
    let group = all.group(&path)?;
    who.need_proof(&state)?;
    state.engine.end_group(&who.actor, group).await?;
    Ok(HttpResponse::NoContent().finish())
}

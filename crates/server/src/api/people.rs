//! Accounts and groups.

use crate::app::State;
use crate::auth::{Who, hash_password};
use crate::body::Json;
use crate::factors::{Held, ask_passkey, check_code, check_passkey};
use crate::problem::Refusal;
use crate::times::show;
use actix_web::{HttpRequest, HttpResponse, delete, get, patch, post, web};
use std::collections::{BTreeSet, HashMap, HashSet};
use yellow_attic_api as api;
use yellow_attic_core::collate::looks;
use yellow_attic_core::password::Demands;
use yellow_attic_core::people::read_quota;
use yellow_attic_core::proof::Deed;
use yellow_attic_core::rights::Subject;
use yellow_attic_core::rules::{Door, Rule, Rules, Scope, Value};
use yellow_attic_core::{AccountId, GroupId, password};
use yellow_attic_store::groups::Group;
use yellow_attic_store::people::{Account, AccountChange, NewPerson, Role, Why};

/// Everybody, and every group, by name.
pub struct Directory {
    pub accounts: HashMap<AccountId, Account>,
    pub groups: Vec<Group>,
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

    fn person(&self, id: AccountId) -> Option<api::Person> {
        let account = self.accounts.get(&id)?;
        Some(api::Person { to: format!("account:{}", account.sign_in), name: account.display_name.clone() })
    }
}

fn nobody(detail: &str) -> Refusal {
    Refusal::new(404, "nobody", "Nobody of that name", detail, "Look it up in the list of people and groups.")
}

/// The accounts that the caller may see in lists of people: by rule, and for guests only those who
/// gave them something.
pub async fn sees(state: &State, all: &Directory, who: &Who) -> Result<HashSet<AccountId>, Refusal> {
    let everybody = || all.accounts.values().filter(|a| a.disabled_at.is_none()).map(|a| a.id).collect();
    match who.account.role {
        Role::Administrator => Ok(everybody()),
        Role::Guest => {
            let given = state.engine.given(&who.actor).await?;
            let givers = given.iter().flat_map(|(_, _, grants)| grants).filter_map(|g| g.made_by);
            Ok(givers.chain(who.account.invited_by).collect())
        }
        Role::Member => {
            let rule = |rules: &Rules, groups: &[GroupId]| rules.decide(Rule::PeopleSeen, groups).value;
            Ok(match state.engine.rules_of(who.account.id, rule) {
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

/// All to whom something can be given, as far as the caller may see them: accounts and groups, by name.
#[utoipa::path(context_path = "/api/v1", tag = "people", responses((status = 200, body = api::People)))]
#[get("/people")]
pub async fn list_people(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    let all = Directory::read(&state).await?;
    let seen = sees(&state, &all, &who).await?;
    let mut people: Vec<api::Person> = seen.iter().filter_map(|id| all.person(*id)).collect();
    let every = who.account.role == Role::Administrator
        || who.account.role == Role::Member
            && state.engine.rules_of(who.account.id, |rules, groups| {
                rules.decide(Rule::PeopleSeen, groups).value == Value::Choice("everyone")
            });
    let none = who.account.role == Role::Guest || seen.is_empty() && !every;
    people.extend(
        all.groups
            .iter()
            .filter(|g| every || !none && g.members.contains(&who.account.id))
            .map(|g| api::Person { to: format!("group:{}", g.name), name: g.name.clone() }),
    );
    people.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(HttpResponse::Ok().json(api::People { people }))
}

/// Proves once more who one is: for ten minutes, what decides over people, rights and shelves may
/// be done; with a second factor, what changes how one signs in as well.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", request_body = api::Proof,
    responses((status = 204), (status = 401, body = api::Problem), (status = 429, body = api::Problem)))]
#[post("/proof")]
pub async fn prove(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
    body: Json<api::Proof>,
) -> Result<HttpResponse, Refusal> {
    crate::auth::check_own_password(&state, &request, &who, &body.password).await?;
    let factor = match (&body.passkey, &body.ticket, &body.code) {
        (Some(answer), Some(ticket), _) => {
            let ticket = state.tickets.take(ticket, state.engine.now_ms())?;
            let Some(Held::Proof(id, question)) = ticket.held() else {
                return Err(Refusal::not_found("The ticket"));
            };
            if *id != who.account.id {
                return Err(Refusal::not_found("The ticket"));
            }
            check_passkey(&state, &request, &who.actor, &who.account, question, answer.clone()).await?;
            ticket.used();
            true
        }
        (_, _, Some(code)) => {
            check_code(&state, &who.actor, &who.account, code).await?;
            true
        }
        _ => false,
    };
    state.proofs.note(who.token, factor, state.engine.now_ms());
    Ok(HttpResponse::NoContent().finish())
}

/// Asks for a passkey as a proof.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in",
    responses((status = 200, body = api::PasskeyProof), (status = 400, body = api::Problem), (status = 403, body = api::Problem)))]
#[post("/proof/passkey")]
pub async fn ask_proof(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
) -> Result<HttpResponse, Refusal> {
    who.need_session()?;
    let (options, question) = ask_passkey(&state, &request, who.account.id).await?;
    let held = Held::Proof(who.account.id, Box::new(question));
    let ticket = state.tickets.make(held, state.engine.now_ms())?;
    Ok(HttpResponse::Ok().json(api::PasskeyProof { ticket, options }))
}

/// What is shown of accounts beside themselves, read once for all of them.
struct Beside {
    factors: HashSet<AccountId>,
    pictures: HashMap<AccountId, i64>,
    groups_of: HashMap<AccountId, Vec<String>>,
}

impl Beside {
    async fn read(state: &State, all: &Directory) -> Result<Beside, Refusal> {
        let mut groups_of: HashMap<AccountId, Vec<String>> = HashMap::new();
        for group in &all.groups {
            for member in &group.members {
                groups_of.entry(*member).or_default().push(group.name.clone());
            }
        }
        Ok(Beside {
            factors: state.engine.with_factors().await?,
            pictures: state.engine.pictured().await?,
            groups_of,
        })
    }
}

async fn shown(
    state: &State,
    all: &Directory,
    beside: &Beside,
    account: &Account,
) -> Result<api::Account, Refusal> {
    let full = match state.engine.home_of(account.id) {
        Some(home) => Some(state.engine.fullness(&home).await?),
        None => None,
    };
    let shut = crate::auth::shut(state, account);
    Ok(api::Account {
        sign_in: account.sign_in.clone(),
        display_name: account.display_name.clone(),
        mail: account.mail.clone(),
        role: account.role.word().to_string(),
        groups: beside.groups_of.get(&account.id).cloned().unwrap_or_default(),
        disabled: account.disabled_at.map(show),
        invited: account.password.is_empty(),
        bytes: full.map_or(0, |f| f.used as i64),
        why_disabled: account.why_disabled.word().to_string(),
        leaves: account.leaves.map(|(at, _)| show(at)),
        quota: full.and_then(|f| f.line),
        own_quota: account.quota.is_some(),
        closed: account.closed.iter().map(|d| d.word().to_string()).collect(),
        shut: shut.into_iter().map(|(door, by)| format!("{} ({by})", door.word())).collect(),
        second_factor: beside.factors.contains(&account.id),
        seen: account.seen_at.map(show),
        invited_by: account.invited_by.and_then(|by| all.name(by)),
        picture: beside.pictures.get(&account.id).map(|at| show(*at)),
    })
}

async fn one(state: &State, sign_in: &str) -> Result<api::Account, Refusal> {
    let all = Directory::read(state).await?;
    let id = all.account(sign_in)?;
    let account = all.accounts.get(&id).ok_or_else(|| Refusal::not_found("The account"))?;
    shown(state, &all, &Beside::read(state, &all).await?, account).await
}

/// All accounts. For administrators.
#[utoipa::path(context_path = "/api/v1", tag = "people", responses((status = 200, body = api::Accounts), (status = 403, body = api::Problem)))]
#[get("/accounts")]
pub async fn list_accounts(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let all = Directory::read(&state).await?;
    let beside = Beside::read(&state, &all).await?;
    let mut list: Vec<&Account> = all.accounts.values().collect();
    list.sort_by(|a, b| a.sign_in.cmp(&b.sign_in));
    let mut accounts = Vec::with_capacity(list.len());
    for account in list {
        accounts.push(shown(&state, &all, &beside, account).await?);
    }
    Ok(HttpResponse::Ok().json(api::Accounts { accounts }))
}

fn role(word: &str) -> Result<Role, Refusal> {
    Role::from_word(word).ok_or_else(|| {
        Refusal::bad("role_unknown", &format!("\"{word}\" is no role."), "Choose administrator or member.")
    })
}

/// Checks a new password against the rules and hashes it, off the workers. `own`: words that
/// whoever guesses would try first.
pub async fn hashed(
    state: &State,
    sign_in: &str,
    own: &[&str],
    groups: &[GroupId],
    text: &str,
) -> Result<String, Refusal> {
    let rules = state.engine.rules();
    let usual = Demands::default();
    let demands = Demands {
        length: rules.number(Rule::PasswordLength, groups).unwrap_or(usual.length),
        strength: rules.number(Rule::PasswordStrength, groups).unwrap_or(usual.strength),
    };
    password::check(text, sign_in, own, demands).map_err(|e| {
        let said = super::sessions::capital(&e.to_string());
        Refusal::bad("password_refused", &format!("{said}."), &e.remedy())
    })?;
    let text = text.to_string();
    let turn = state.guessing.turn(crate::guessing::Lane::Inside).await?;
    let hashed = move || {
        let hash = hash_password(&text);
        drop(turn);
        hash
    };
    web::block(hashed).await.map_err(|_| Refusal::not_found("The password"))?
}

/// The same for an account that is there.
pub async fn hashed_for(state: &State, account: &Account, text: &str) -> Result<String, Refusal> {
    let groups = state.engine.rules_of(account.id, |_, groups| groups.to_vec());
    let own = [account.display_name.as_str(), account.mail.as_deref().unwrap_or_default()];
    hashed(state, &account.sign_in, &own, &groups, text).await
}

/// Reads a quota.
pub fn quota(text: &str) -> Result<Option<u64>, Refusal> {
    read_quota(text).ok_or_else(|| {
        Refusal::bad(
            "size_malformed",
            &format!("\"{text}\" is no size."),
            "Write it like 20 GiB or 500 MiB, or none.",
        )
    })
}

/// Reads doors.
fn doors(words: &[String]) -> Result<BTreeSet<Door>, Refusal> {
    words
        .iter()
        .map(|word| {
            Door::from_word(word).ok_or_else(|| {
                let known: Vec<_> = Door::ALL.iter().map(|d| d.word()).collect();
                Refusal::bad(
                    "door_unknown",
                    &format!("\"{word}\" is no door."),
                    &format!("There are: {}.", known.join(", ")),
                )
            })
        })
        .collect()
}

/// Makes an account with its home shelf.
#[utoipa::path(context_path = "/api/v1", tag = "people", request_body = api::NewAccount,
    responses((status = 201, body = api::Account), (status = 400, body = api::Problem), (status = 409, body = api::Problem)))]
#[post("/accounts")]
pub async fn make_account(
    state: web::Data<State>,
    who: Who,
    body: Json<api::NewAccount>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let all = Directory::read(&state).await?;
    let groups = body.groups.iter().map(|g| all.group(g)).collect::<Result<Vec<_>, _>>()?;
    let role = body.role.as_deref().map_or(Ok(Role::Member), role)?;
    who.need(&state, Deed::MakeAccount)?;
    let sign_in = body.sign_in.trim().to_lowercase();
    let quota = body.quota.as_deref().map(quota).transpose()?.flatten();
    let groups: Vec<GroupId> = groups.iter().map(|g| g.id).collect();
    // Without a password nobody can sign in until one is chosen by an invitation.
    let password = match &body.password {
        Some(text) => {
            let own = [body.display_name.as_str(), body.mail.as_deref().unwrap_or_default()];
            hashed(&state, &sign_in, &own, &groups, text).await?
        }
        None => String::new(),
    };
    let mail = body.mail.as_deref().map(str::trim).filter(|m| !m.is_empty()).map(str::to_string);
    let named = NewPerson::named(&sign_in, &body.display_name, role, &password);
    state.engine.make_person(&who.actor, NewPerson { mail, groups, quota, ..named }).await?;
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
    body: Json<api::AccountChange>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    who.need(&state, Deed::ChangeAccount)?;
    let sign_in = path.trim().to_lowercase();
    let all = Directory::read(&state).await?;
    let id = all.account(&sign_in)?;
    let account = all.accounts.get(&id).ok_or_else(|| Refusal::not_found("The account"))?;
    let change = AccountChange {
        display_name: body.display_name.clone(),
        mail: body.mail.clone(),
        role: body.role.as_deref().map(role).transpose()?,
        password: match &body.password {
            Some(text) => Some(hashed_for(&state, account, text).await?),
            None => None,
        },
        disabled: body.disabled,
        quota: body.quota.as_deref().map(quota).transpose()?,
        closed: body.closed.as_deref().map(doors).transpose()?,
        groups: None,
        muted: None,
    };
    if account.role == Role::Guest && change.role.is_some_and(|r| r != Role::Guest) {
        // A guest who stays gets a home, like everybody.
        state
            .engine
            .change_account(
                &who.actor,
                &sign_in,
                AccountChange { role: change.role, ..AccountChange::default() },
            )
            .await?;
        let now =
            state.engine.account_named(&sign_in).await?.ok_or_else(|| Refusal::not_found("The account"))?;
        state.engine.ensure_home(&who.actor, &now).await?;
    }
    if let Some(closed) = &change.closed {
        let mut after = Directory::read(&state).await?;
        if let Some(account) = after.accounts.get_mut(&id) {
            account.closed = closed.clone();
        }
        super::rules::check_way_in(&after, &state, &state.engine.rules())?;
    }
    state.engine.change_account(&who.actor, &sign_in, change).await?;
    if account.why_disabled == Why::Waiting && body.disabled == Some(false) && account.password.is_empty() {
        // Approved: only now the way to choose a password goes out.
        let (address, expires) = super::signing::invitation(&state, &who.actor, account).await?;
        super::signing::mail_invitation(&state, &who.actor, account, &address, expires).await?;
    }
    state.names.forget().await;
    // What somebody may do counts at once, in whatever is open.
    state.revoked();
    Ok(HttpResponse::Ok().json(one(&state, &sign_in).await?))
}

fn shown_group(state: &State, all: &Directory, group: &Group) -> api::Group {
    let mut members: Vec<api::Person> = group.members.iter().filter_map(|m| all.person(*m)).collect();
    members.sort_by(|a, b| a.name.cmp(&b.name));
    let closed = match state.engine.rules().at(Scope::Group(group.id), Rule::DoorsClosed) {
        Some(Value::Words(words)) => words.iter().cloned().collect(),
        _ => Vec::new(),
    };
    api::Group { name: group.name.clone(), note: group.note.clone(), members, quota: group.quota, closed }
}

async fn one_group(state: &State, name: &str) -> Result<api::Group, Refusal> {
    let all = Directory::read(state).await?;
    Ok(shown_group(state, &all, all.group(name)?))
}

/// All groups with their members. For administrators.
#[utoipa::path(context_path = "/api/v1", tag = "people", responses((status = 200, body = api::Groups), (status = 403, body = api::Problem)))]
#[get("/groups")]
pub async fn list_groups(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let all = Directory::read(&state).await?;
    let groups = all.groups.iter().map(|g| shown_group(&state, &all, g)).collect();
    Ok(HttpResponse::Ok().json(api::Groups { groups }))
}

/// Makes a group.
#[utoipa::path(context_path = "/api/v1", tag = "people", request_body = api::NewGroup,
    responses((status = 201, body = api::Group), (status = 400, body = api::Problem), (status = 409, body = api::Problem)))]
#[post("/groups")]
pub async fn make_group(
    state: web::Data<State>,
    who: Who,
    body: Json<api::NewGroup>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let all = Directory::read(&state).await?;
    let members = body.members.iter().map(|m| all.account(m)).collect::<Result<Vec<_>, _>>()?;
    who.need(&state, Deed::MakeGroup)?;
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
    body: Json<api::GroupChange>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let all = Directory::read(&state).await?;
    let group = all.group(&path)?;
    let ids = |names: &[String]| names.iter().map(|m| all.account(m)).collect::<Result<Vec<_>, _>>();
    let (add, remove) = (ids(&body.add)?, ids(&body.remove)?);
    who.need(&state, Deed::ChangeGroup)?;
    let quota = body.quota.as_deref().map(quota).transpose()?;
    if body.name.is_some() || body.note.is_some() || quota.is_some() {
        let (name, note) = (body.name.as_deref(), body.note.as_deref());
        state.engine.change_group(&who.actor, group.id, name, note, quota).await?;
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
    who.need(&state, Deed::RemoveGroup)?;
    state.engine.end_group(&who.actor, group).await?;
    Ok(HttpResponse::NoContent().finish())
}

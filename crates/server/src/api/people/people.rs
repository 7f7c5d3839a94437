//! Who there is: names of accounts and groups, who sees whom, proofs of who one is.

use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::identity::factors::{Held, ask_passkey, check_code, check_passkey};
use crate::identity::principal::{Who, hash_password};
use crate::state::State;
use actix_web::{HttpRequest, HttpResponse, get, post, web};
use std::collections::{HashMap, HashSet};
use yellow_attic_api as api;
use yellow_attic_core::collate::looks;
use yellow_attic_core::password::Demands;
use yellow_attic_core::people::read_quota;
use yellow_attic_core::rights::Subject;
use yellow_attic_core::rules::{Rule, Rules, Value};
use yellow_attic_core::{AccountId, GroupId, password};
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

    pub fn person(&self, id: AccountId) -> Option<api::Person> {
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
    crate::identity::principal::check_own_password(&state, &request, &who, &body.password).await?;
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
        let said = crate::api::session::sessions::capital(&e.to_string());
        Refusal::bad("password_refused", &format!("{said}."), &e.remedy())
    })?;
    let text = text.to_string();
    let turn = state.guessing.turn(crate::state::throttle::Lane::Inside).await?;
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

/// The words by which somebody looks for something.
pub fn words(text: Option<&str>) -> Vec<String> {
    text.unwrap_or_default().split_whitespace().map(str::to_lowercase).collect()
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

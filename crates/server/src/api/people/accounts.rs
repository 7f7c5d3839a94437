//! Accounts, as administrators see and change them.

use crate::dto::account::{device_to_api, session_id, session_to_api};
use crate::dto::directory::Directory;
use crate::dto::grants::reasons;
use crate::dto::opening::place;
use crate::dto::quota::quota;
use crate::dto::record::line;
use crate::dto::upload::upload_to_api;
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times::show;
use crate::identity::passwords::{hashed, hashed_for};
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, delete, get, patch, post, web};
use std::collections::{BTreeSet, HashMap, HashSet};
use yellow_attic_api as api;
use yellow_attic_core::proof::Deed;
use yellow_attic_core::rights::Level;
use yellow_attic_core::rules::Door;
use yellow_attic_core::{AccountId, DeviceId, GroupId};
use yellow_attic_store::Actor;
use yellow_attic_store::people::accounts::{Account, AccountChange, NewPerson, Role, Why};
use yellow_attic_store::sharing::openings::Wanted;

/// Accounts of a page if nobody says.
const PAGE: usize = 200;
/// Lines of the record on an account's page.
const LINES: usize = 50;

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
            factors: state.engine.sign_ins().with_factors().await?,
            pictures: state.engine.sign_ins().pictured().await?,
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
        Some(home) => Some(state.engine.space().fullness(&home).await?),
        None => None,
    };
    let shut = crate::identity::doors::shut(state, account);
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
    let account = found(&all, sign_in)?;
    shown(state, &all, &Beside::read(state, &all).await?, account).await
}

/// The accounts of one kind.
fn in_state(account: &Account, word: &str) -> bool {
    match word {
        "active" => account.disabled_at.is_none(),
        "disabled" => account.disabled_at.is_some(),
        "waiting" => account.why_disabled == Why::Waiting,
        "invited" => account.password.is_empty() && account.disabled_at.is_none(),
        _ => account.leaves.is_some(),
    }
}

/// Accounts, by pages. For administrators.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(api::AccountsQuery),
    responses((status = 200, body = api::Accounts), (status = 400, body = api::Problem), (status = 403, body = api::Problem)))]
#[get("/accounts")]
pub async fn list_accounts(
    state: web::Data<State>,
    who: Who,
    query: web::Query<api::AccountsQuery>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let wanted_role = query.role.as_deref().map(any_role).transpose()?;
    let states = ["active", "disabled", "waiting", "invited", "leaving"];
    if let Some(word) = query.state.as_deref().filter(|w| !states.contains(w)) {
        return Err(refusals::UNKNOWN_STATE.with(
            &format!("\"{word}\" is no state of an account."),
            &format!("Choose one of: {}.", states.join(", ")),
        ));
    }
    let all = Directory::read(&state).await?;
    let beside = Beside::read(&state, &all).await?;
    let words = crate::http::words::words(query.words.as_deref());
    let mut list: Vec<&Account> = all
        .accounts
        .values()
        .filter(|a| wanted_role.is_none_or(|role| a.role == role))
        .filter(|a| query.state.as_deref().is_none_or(|word| in_state(a, word)))
        .filter(|a| {
            let groups = beside.groups_of.get(&a.id).map(|g| g.join(" ")).unwrap_or_default();
            let mail = a.mail.as_deref().unwrap_or_default();
            let text = format!("{} {} {mail} {groups}", a.sign_in, a.display_name).to_lowercase();
            words.iter().all(|w| text.contains(w))
        })
        .collect();
    list.sort_by(|a, b| a.sign_in.cmp(&b.sign_in));
    let total = list.len();
    let name = format!("accounts {:?} {:?} {:?}", query.words, query.role, query.state);
    if let Some(cursor) = &query.cursor {
        let last = state.engine.place_of(&who.actor, &name, cursor)?;
        list.retain(|a| a.sign_in > last);
    }
    let limit = query.limit.unwrap_or(PAGE).clamp(1, 1000);
    let more = list.len() > limit;
    list.truncate(limit);
    let next = list.last().filter(|_| more).map(|a| state.engine.cursor(&who.actor, &name, &a.sign_in));
    let mut accounts = Vec::with_capacity(list.len());
    for account in list {
        accounts.push(shown(&state, &all, &beside, account).await?);
    }
    Ok(HttpResponse::Ok().json(api::Accounts { accounts, total, next }))
}

/// A computer as administrators see it: how its pairs are, and not how its owner's folders are called.
fn of_another(mut device: api::Device) -> api::Device {
    for pair in device.report.iter_mut().flat_map(|r| &mut r.pairs) {
        pair.folder.clear();
        pair.says.clear();
        let shelf = pair.place.split_once(':').map_or("", |(shelf, _)| shelf).to_string();
        pair.place = shelf;
    }
    device
}

/// All that is known of one account. For administrators.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(("sign_in" = String, Path)),
    responses((status = 200, body = api::AccountPage), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[get("/accounts/{sign_in}")]
pub async fn show_account(
    state: web::Data<State>,
    who: Who,
    path: web::Path<String>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let all = Directory::read(&state).await?;
    let account = found(&all, &path)?;
    let id = account.id;
    let by = Some(id);
    let links = state.engine.sharing().openings(&Wanted { by, ..Wanted::default() }).await?.len();
    let invitation = state.engine.sign_ins().open_invitation(id).await?;
    let devices = state.engine.sign_ins().devices(id).await?;
    let fresh = state.in_use.devices(&devices.iter().map(|d| d.id).collect::<Vec<_>>());
    let mut shown_devices = Vec::with_capacity(devices.len());
    for (device, fresh) in devices.into_iter().zip(fresh) {
        shown_devices.push(of_another(device_to_api(&state, &who, device, fresh).await?));
    }
    let as_them = Actor { account: Some(id), device: None, ..who.actor.clone() };
    Ok(HttpResponse::Ok().json(api::AccountPage {
        account: shown(&state, &all, &Beside::read(&state, &all).await?, account).await?,
        made: show(account.made_at),
        reaches: reached(&state, &who, &all, account).await?,
        devices: shown_devices,
        sessions: state
            .engine
            .sign_ins()
            .sessions(id)
            .await?
            .into_iter()
            .map(|s| session_to_api(&who, s))
            .collect(),
        factors: state
            .engine
            .sign_ins()
            .factors(id)
            .await?
            .into_iter()
            .map(crate::dto::account::factor_to_api)
            .collect(),
        recovery_left: state.engine.sign_ins().recovery_left(id).await?,
        invitation: invitation.map(|i| api::OpenInvitation {
            made: show(i.made_at),
            expires: show(i.expires_at),
            by: i.made_by.and_then(|by| all.name(by)),
        }),
        uploads: state.engine.files().uploads(&as_them).await?.iter().map(upload_to_api).collect(),
        given: links + state.engine.grants().grants_made(by).await?.len(),
        record: state.engine.people().recorded_of(id, LINES).await?.into_iter().map(line).collect(),
    }))
}

/// What an account may enter, and why: the walk that decides.
async fn reached(
    state: &State,
    who: &Who,
    all: &Directory,
    account: &Account,
) -> Result<Vec<api::Reached>, Refusal> {
    let as_them = Actor { account: Some(account.id), ..Actor::service() };
    let mut places = Vec::new();
    for (shelf, level) in state.engine.files().shelves_for(&as_them) {
        places.push((state.engine.files().chain(&as_them, shelf.root, Level::View).await?, level));
    }
    for (chain, level, _) in state.engine.grants().given(&as_them).await? {
        places.push((chain, level));
    }
    let mut found = Vec::with_capacity(places.len());
    for (chain, level) in places {
        let (name, path, folder) = place(state, who, chain[0].node).await;
        let told = state.engine.grants().why(&as_them, account.id, chain[0].node).await?;
        found.push(api::Reached {
            node: chain[0].node.0,
            why: reasons(state, all, who, (&chain, &name), account.id, &told).await?,
            name,
            path,
            folder,
            level: level.word().to_string(),
        });
    }
    Ok(found)
}

fn found<'a>(all: &'a Directory, sign_in: &str) -> Result<&'a Account, Refusal> {
    let id = all.account(sign_in)?;
    all.accounts.get(&id).ok_or_else(|| Refusal::not_found("The account"))
}

/// Ends one of an account's sessions: it counts no more at once.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(("sign_in" = String, Path), ("session" = String, Path)),
    responses((status = 204), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[delete("/accounts/{sign_in}/sessions/{session}")]
pub async fn end_session_of(
    state: web::Data<State>,
    who: Who,
    path: web::Path<(String, String)>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let (sign_in, session) = path.into_inner();
    let all = Directory::read(&state).await?;
    let sessions = state.engine.sign_ins().sessions(found(&all, &sign_in)?.id).await?;
    let token = sessions.iter().find(|s| session_id(&s.token) == session).map(|s| s.token);
    let token = token.ok_or_else(|| Refusal::not_found("The session"))?;
    who.need(&state, Deed::ChangeAccount)?;
    state.engine.sign_ins().end_session(&who.actor, token).await?;
    state.revoked();
    Ok(HttpResponse::NoContent().finish())
}

/// Disconnects one of an account's computers: its token counts no more.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(("sign_in" = String, Path), ("device" = i64, Path)),
    responses((status = 204), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[delete("/accounts/{sign_in}/devices/{device}")]
pub async fn end_device_of(
    state: web::Data<State>,
    who: Who,
    path: web::Path<(String, i64)>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let (sign_in, device) = path.into_inner();
    let all = Directory::read(&state).await?;
    let account = found(&all, &sign_in)?;
    who.need(&state, Deed::ChangeAccount)?;
    state.engine.sign_ins().end_device(&who.actor, account.id, DeviceId(device)).await?;
    state.revoked();
    Ok(HttpResponse::NoContent().finish())
}

/// Ends the invitation of an account: its address counts no more.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(("sign_in" = String, Path)),
    responses((status = 204), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[delete("/accounts/{sign_in}/invitation")]
pub async fn end_invitation(
    state: web::Data<State>,
    who: Who,
    path: web::Path<String>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let all = Directory::read(&state).await?;
    let account = found(&all, &path)?;
    who.need(&state, Deed::ChangeAccount)?;
    state.engine.sign_ins().end_invitation(&who.actor, account).await?;
    Ok(HttpResponse::NoContent().finish())
}

fn any_role(word: &str) -> Result<Role, Refusal> {
    Role::from_word(word).ok_or_else(|| refusals::ROLE_UNKNOWN.of(&format!("\"{word}\" is no role.")))
}

fn role(word: &str) -> Result<Role, Refusal> {
    Role::from_word(word).ok_or_else(|| {
        refusals::ROLE_UNKNOWN.with(&format!("\"{word}\" is no role."), "Choose administrator or member.")
    })
}

/// Reads doors.
fn doors(words: &[String]) -> Result<BTreeSet<Door>, Refusal> {
    words
        .iter()
        .map(|word| {
            Door::from_word(word).ok_or_else(|| {
                let known: Vec<_> = Door::ALL.iter().map(|d| d.word()).collect();
                refusals::DOOR_UNKNOWN
                    .with(&format!("\"{word}\" is no door."), &format!("There are: {}.", known.join(", ")))
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
    state.engine.people().make_person(&who.actor, NewPerson { mail, groups, quota, ..named }).await?;
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
    let account = found(&all, &sign_in)?;
    let id = account.id;
    let groups = match &body.groups {
        Some(names) => Some(names.iter().map(|g| all.group(g).map(|g| g.id)).collect::<Result<Vec<_>, _>>()?),
        None => None,
    };
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
        groups,
        muted: None,
    };
    if account.role == Role::Guest && change.role.is_some_and(|r| r != Role::Guest) {
        // A guest who stays gets a home, like everybody.
        state
            .engine
            .people()
            .change_account(
                &who.actor,
                &sign_in,
                AccountChange { role: change.role, ..AccountChange::default() },
            )
            .await?;
        let now = state
            .engine
            .people()
            .account_named(&sign_in)
            .await?
            .ok_or_else(|| Refusal::not_found("The account"))?;
        state.engine.people().ensure_home(&who.actor, &now).await?;
    }
    if let Some(closed) = &change.closed {
        let mut after = Directory::read(&state).await?;
        if let Some(account) = after.accounts.get_mut(&id) {
            account.closed = closed.clone();
        }
        crate::dto::rules::check_way_in(&after, &state, &state.engine.people().rules())?;
    }
    state.engine.people().change_account(&who.actor, &sign_in, change).await?;
    if account.why_disabled == Why::Waiting && body.disabled == Some(false) && account.password.is_empty() {
        // Approved: only now the way to choose a password goes out.
        let (address, expires) =
            crate::identity::invitations::invitation(&state, &who.actor, account).await?;
        crate::identity::invitations::mail_invitation(&state, &who.actor, account, &address, expires).await?;
    }
    state.names.forget().await;
    // What somebody may do counts at once, in whatever is open.
    state.revoked();
    Ok(HttpResponse::Ok().json(one(&state, &sign_in).await?))
}

//! Second factors: signing in with one, and setting them up.

use crate::dto::account::me;
use crate::dto::factors::to_api;
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::qr::qr;
use crate::http::refusals::{self, Say};
use crate::identity::address::from;
use crate::identity::factors::{check_code, check_passkey, credentials, new_recovery, passkeys};
use crate::identity::origin::{check_host, check_origin};
use crate::identity::principal::AnyWho;
use crate::identity::sessions::{open_session, with_cookies};
use crate::state::State;
use crate::state::secrets::hash_secret;
use crate::state::sessions::Who;
use crate::state::tickets::Held;
use actix_web::{HttpRequest, HttpResponse, delete, get, post, web};
use webauthn_rs::prelude::{RegisterPublicKeyCredential, Uuid};
use yellow_attic_api as api;
use yellow_attic_core::factor;
use yellow_attic_core::proof::Deed;
use yellow_attic_store::Actor;
use yellow_attic_store::people::accounts::Account;
use yellow_attic_store::people::second_factor::FactorKind;

/// The most second factors of one account.
const MOST: usize = 20;

async fn account(state: &State, id: yellow_attic_core::AccountId) -> Result<Account, Refusal> {
    let all = state.engine.people().accounts().await?;
    let found = all.into_iter().find(|a| a.id == id && a.disabled_at.is_none());
    found.ok_or_else(|| Refusal::not_found("The account"))
}

fn actor_of(request: &HttpRequest, state: &State, account: &Account) -> Actor {
    Actor::in_name_of(account.id, &account.sign_in, &from(request, state))
}

/// Asks for a passkey as the second step of signing in.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", request_body = api::Ticket,
    responses((status = 200, body = api::PasskeyQuestion), (status = 410, body = api::Problem)))]
#[post("/session/passkey")]
pub async fn ask_passkey(
    request: HttpRequest,
    state: web::Data<State>,
    body: Json<api::Ticket>,
) -> Result<HttpResponse, Refusal> {
    let Held::SignIn(id, _) = state.tickets.look(&body.ticket, state.engine.now_ms())? else {
        return Err(Refusal::not_found("The ticket"));
    };
    let (options, question) = crate::identity::factors::ask_passkey(&state, &request, id).await?;
    state.tickets.set(&body.ticket, Held::SignIn(id, Some(Box::new(question))));
    Ok(HttpResponse::Ok().json(api::PasskeyQuestion { options }))
}

/// Signs in by the second step: a code of the authenticator, a recovery code, or a passkey.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", request_body = api::SecondStep,
    responses((status = 200, body = api::Me), (status = 401, body = api::Problem), (status = 410, body = api::Problem)))]
#[post("/session/second")]
pub async fn second_step(
    request: HttpRequest,
    state: web::Data<State>,
    body: Json<api::SecondStep>,
) -> Result<HttpResponse, Refusal> {
    check_host(&request, &state)?;
    check_origin(&request, &state)?;
    let ticket = state.tickets.take(&body.ticket, state.engine.now_ms())?;
    let Some(Held::SignIn(id, question)) = ticket.held() else {
        return Err(Refusal::not_found("The ticket"));
    };
    let account = account(&state, *id).await?;
    let actor = actor_of(&request, &state, &account);
    match (&body.passkey, question, &body.code) {
        (Some(answer), Some(question), _) => {
            check_passkey(&state, &request, &actor, &account, question, answer.clone()).await?;
        }
        (None, _, Some(code)) => check_code(&state, &actor, &account, code).await?,
        _ => {
            return Err(refusals::NO_SECOND_FACTOR_GIVEN.of("Neither a code nor a passkey was given."));
        }
    }
    ticket.used();
    let cookies = open_session(&state, &account, &request, true).await?;
    Ok(with_cookies(HttpResponse::Ok(), cookies).json(me(&state, &account).await?))
}

/// The caller's second factors.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", responses((status = 200, body = api::Factors)))]
#[get("/me/factors")]
pub async fn list_factors(
    request: HttpRequest,
    state: web::Data<State>,
    who: AnyWho,
) -> Result<HttpResponse, Refusal> {
    who.0.need_own()?;
    Ok(HttpResponse::Ok().json(to_api(&state, &request, &who.0).await?))
}

async fn may_add(state: &State, who: &Who) -> Result<bool, Refusal> {
    who.need_own()?;
    who.need_session()?;
    if let Some(why) = state.engine.secrets_trouble() {
        return Err(yellow_attic_store::StoreError::SecretsShut(why).into());
    }
    let there = state.engine.sign_ins().factors(who.account.id).await?;
    // Whoever has one already proves themselves by it: a password alone adds none.
    who.need(state, if there.is_empty() { Deed::AddFactor } else { Deed::ChangeFactors })?;
    if there.len() >= MOST {
        return Err(refusals::TOO_MANY_FACTORS.of(&format!("An account has at most {MOST}.")));
    }
    Ok(there.is_empty())
}

/// Begins to set an authenticator up. It counts when one of its codes was confirmed.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in",
    responses((status = 201, body = api::NewCodes), (status = 403, body = api::Problem)))]
#[post("/me/factors/codes")]
pub async fn begin_codes(state: web::Data<State>, who: AnyWho) -> Result<HttpResponse, Refusal> {
    let who = who.0;
    may_add(&state, &who).await?;
    let mut secret = vec![0u8; 20];
    getrandom::fill(&mut secret).map_err(|e| yellow_attic_store::StoreError::BadInput(e.to_string()))?;
    let address = factor::address(&secret, &who.account.sign_in, &state.config.organisation);
    let picture = qr(&address)?;
    let written = factor::written(&secret);
    let ticket = state.tickets.make(Held::Codes(who.account.id, secret), state.engine.now_ms())?;
    Ok(HttpResponse::Created().json(api::NewCodes { ticket, secret: written, address, picture }))
}

fn named(name: &str, usual: &str) -> Result<String, Refusal> {
    let name = name.trim();
    if name.chars().count() > 60 || name.chars().any(char::is_control) {
        return Err(refusals::NAME_CANNOT_BE.of("The name is too long or holds control characters."));
    }
    Ok(if name.is_empty() { usual.to_string() } else { name.to_string() })
}

/// After the first factor: other browsers prove themselves anew.
fn counts_now(state: &State) {
    state.revoked();
}

/// Confirms an authenticator by one of its codes. With the first factor come recovery codes.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", request_body = api::ConfirmCodes,
    responses((status = 201, body = api::Recovery), (status = 401, body = api::Problem), (status = 410, body = api::Problem)))]
#[post("/me/factors/codes/confirm")]
pub async fn confirm_codes(
    state: web::Data<State>,
    who: AnyWho,
    body: Json<api::ConfirmCodes>,
) -> Result<HttpResponse, Refusal> {
    let who = who.0;
    let first = may_add(&state, &who).await?;
    let now = state.engine.now_ms();
    let ticket = state.tickets.take(&body.ticket, now)?;
    let secret = match ticket.held() {
        Some(Held::Codes(id, secret)) if *id == who.account.id => secret.clone(),
        _ => return Err(Refusal::not_found("The ticket")),
    };
    let name = named(&body.name, "Authenticator")?;
    let Some(step) = factor::step_of(&secret, &body.code, state.engine.wall_ms(), None) else {
        return Err(refusals::WRONG_CODE.of("This is not the code that the authenticator should show now."));
    };
    let (codes, kept) = new_recovery()?;
    let kept = first.then_some(kept);
    state
        .engine
        .sign_ins()
        .add_factor(&who.actor, &who.account, FactorKind::Codes, &name, secret, Some(step), kept)
        .await?;
    ticket.used();
    counts_now(&state);
    Ok(HttpResponse::Created().json(api::Recovery { codes: if first { codes } else { Vec::new() } }))
}

/// Begins to set a passkey up.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in",
    responses((status = 201, body = api::NewPasskey), (status = 403, body = api::Problem), (status = 409, body = api::Problem)))]
#[post("/me/factors/passkey")]
pub async fn begin_passkey(
    request: HttpRequest,
    state: web::Data<State>,
    who: AnyWho,
) -> Result<HttpResponse, Refusal> {
    let who = who.0;
    may_add(&state, &who).await?;
    let speaks = passkeys(&state, &request)?;
    let there = credentials(&state.engine.sign_ins().factors(who.account.id).await?);
    let known = there.iter().map(|(_, key)| key.cred_id().clone()).collect();
    // The same account has the same handle, which says nothing of it.
    let handle = hash_secret(&format!("passkey handle of {}", who.account.id));
    let handle = Uuid::from_slice(&handle[..16]).unwrap_or_default();
    let (options, begun) = speaks
        .start_passkey_registration(handle, &who.account.sign_in, &who.account.display_name, Some(known))
        .map_err(|e| yellow_attic_store::StoreError::BadInput(e.to_string()))?;
    let held = Held::Passkey(who.account.id, Box::new(begun));
    let ticket = state.tickets.make(held, state.engine.now_ms())?;
    let options = serde_json::to_value(options).unwrap_or_default();
    Ok(HttpResponse::Created().json(api::NewPasskey { ticket, options }))
}

/// Confirms a passkey by what the browser answered. With the first factor come recovery codes.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", request_body = api::ConfirmPasskey,
    responses((status = 201, body = api::Recovery), (status = 400, body = api::Problem), (status = 410, body = api::Problem)))]
#[post("/me/factors/passkey/confirm")]
pub async fn confirm_passkey(
    request: HttpRequest,
    state: web::Data<State>,
    who: AnyWho,
    body: Json<api::ConfirmPasskey>,
) -> Result<HttpResponse, Refusal> {
    let who = who.0;
    let first = may_add(&state, &who).await?;
    let ticket = state.tickets.take(&body.ticket, state.engine.now_ms())?;
    let begun = match ticket.held() {
        Some(Held::Passkey(id, begun)) if *id == who.account.id => begun.clone(),
        _ => return Err(Refusal::not_found("The ticket")),
    };
    let name = named(&body.name, "Passkey")?;
    let malformed = |e: String| refusals::PASSKEY_MALFORMED.of(&format!("{e}."));
    let answer: RegisterPublicKeyCredential =
        serde_json::from_value(body.credential.clone()).map_err(|e| malformed(e.to_string()))?;
    let key = passkeys(&state, &request)?
        .finish_passkey_registration(&answer, &begun)
        .map_err(|e| malformed(e.to_string()))?;
    let secret = serde_json::to_vec(&key).map_err(|e| malformed(e.to_string()))?;
    let (codes, kept) = new_recovery()?;
    let kept = first.then_some(kept);
    state
        .engine
        .sign_ins()
        .add_factor(&who.actor, &who.account, FactorKind::Passkey, &name, secret, None, kept)
        .await?;
    ticket.used();
    counts_now(&state);
    Ok(HttpResponse::Created().json(api::Recovery { codes: if first { codes } else { Vec::new() } }))
}

/// Takes one of the caller's second factors away.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", params(("factor" = i64, Path)),
    responses((status = 204), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[delete("/me/factors/{factor}")]
pub async fn end_factor(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    who.need_session()?;
    who.need(&state, Deed::ChangeFactors)?;
    state.engine.sign_ins().end_factor(&who.actor, &who.account, Some(*path)).await?;
    state.revoked();
    let said = format!(
        "A second factor was removed from your account, from {}. If that was not you, tell an administrator at once.",
        who.actor.from
    );
    crate::state::letters::tell(
        &state,
        &who.actor,
        &who.account,
        None,
        "a second factor was removed".into(),
        said,
    )
    .await;
    Ok(HttpResponse::NoContent().finish())
}

/// New recovery codes in the place of the old ones.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in",
    responses((status = 201, body = api::Recovery), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[post("/me/recovery")]
pub async fn renew_recovery(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    who.need_session()?;
    who.need(&state, Deed::RenewRecovery)?;
    if state.engine.sign_ins().factors(who.account.id).await?.is_empty() {
        return Err(Refusal::not_found("A second factor"));
    }
    let (codes, kept) = new_recovery()?;
    state.engine.sign_ins().renew_recovery(&who.actor, &who.account, kept).await?;
    Ok(HttpResponse::Created().json(api::Recovery { codes }))
}

/// Takes all second factors of an account away: for somebody who has lost them.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(("sign_in" = String, Path)),
    responses((status = 204), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[delete("/accounts/{sign_in}/factors")]
pub async fn end_factors(
    state: web::Data<State>,
    who: Who,
    path: web::Path<String>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let gone = || Refusal::not_found("The account");
    let account = state.engine.people().account_named(&path.trim().to_lowercase()).await?.ok_or_else(gone)?;
    who.need(&state, Deed::EndFactorsOfAnother)?;
    state.engine.sign_ins().end_factor(&who.actor, &account, None).await?;
    state.revoked();
    let said = format!(
        "{} took the second factors of your account away: the password alone lets you in. Set a new one up.",
        who.account.display_name
    );
    crate::state::letters::tell(
        &state,
        &who.actor,
        &account,
        None,
        "your second factors were removed".into(),
        said,
    )
    .await;
    Ok(HttpResponse::NoContent().finish())
}

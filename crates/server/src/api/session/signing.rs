//! Choosing passwords, and where one is signed in.

use crate::dto::account::{me, session_id, session_to_api};
use crate::dto::directory::Directory;
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times::show;
use crate::identity::address::from;
use crate::identity::doors::check_door;
use crate::identity::factors::ask_second;
use crate::identity::invitations::{invitation, mail_invitation};
use crate::identity::origin::check_host;
use crate::identity::passwords::{check_own_password, hashed_for};
use crate::identity::sessions::{open_session, with_cookies};
use crate::state::State;
use crate::state::secrets::hash_secret;
use crate::state::sessions::Who;
use actix_web::{HttpRequest, HttpResponse, delete, get, post, put, web};
use yellow_attic_api as api;
use yellow_attic_core::proof::Deed;
use yellow_attic_core::rules::Door;
use yellow_attic_store::Actor;
use yellow_attic_store::people::accounts::Account;

/// Makes an address by which an account's password is chosen, once, within seven days. Earlier ones
/// count no more.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(("sign_in" = String, Path)),
    responses((status = 201, body = api::Invitation), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[post("/accounts/{sign_in}/invitation")]
pub async fn invite(
    state: web::Data<State>,
    who: Who,
    path: web::Path<String>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let all = Directory::read(&state).await?;
    let id = all.account(&path)?;
    let account = all.accounts.get(&id).ok_or_else(|| Refusal::not_found("The account"))?;
    who.need(&state, Deed::Invite)?;
    let (address, expires) = invitation(&state, &who.actor, account).await?;
    let mailed = mail_invitation(&state, &who.actor, account, &address, expires).await?;
    Ok(HttpResponse::Created().json(api::Invitation { address, mailed, expires: show(expires) }))
}

/// The account of an invitation that still counts.
async fn invited(state: &State, request: &HttpRequest, secret: &str) -> Result<(Account, i64), Refusal> {
    let gone = |code, detail| {
        Refusal::new(410, code, "The address counts no more", detail, "Ask an administrator for a new one.")
    };
    let unknown =
        || refusals::INVITATION_UNKNOWN.of("It was never made, or a later one has taken its place.");
    let by = crate::identity::address::place(request, state, b"invitations").by;
    let attempt = state.guessing.begin(&state.engine, by).await?;
    let found = state.engine.sign_ins().invitation(hash_secret(secret)).await?.ok_or_else(unknown)?;
    // It was made once: nobody guessed it.
    attempt.succeeded();
    if found.used_at.is_some() {
        return Err(gone("invitation_used", "A password was chosen by it already."));
    }
    if found.expires_at <= state.engine.now_ms() {
        return Err(gone("invitation_expired", "Its seven days are over."));
    }
    let mut all = Directory::read(state).await?;
    let account = all.accounts.remove(&found.account).ok_or_else(unknown)?;
    if account.disabled_at.is_some() {
        return Err(gone("account_disabled", "An administrator has disabled this account."));
    }
    Ok((account, found.expires_at))
}

/// Whom an invitation is for.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", request_body = api::InvitationSecret,
    responses((status = 200, body = api::Invited), (status = 404, body = api::Problem), (status = 410, body = api::Problem)))]
#[post("/invitation/look")]
pub async fn look_at_invitation(
    request: HttpRequest,
    state: web::Data<State>,
    body: Json<api::InvitationSecret>,
) -> Result<HttpResponse, Refusal> {
    let (account, expires) = invited(&state, &request, &body.secret).await?;
    Ok(HttpResponse::Ok().json(api::Invited {
        again: !account.password.is_empty(),
        sign_in: account.sign_in,
        display_name: account.display_name,
        expires: show(expires),
    }))
}

/// Chooses the password by an invitation, and signs in to the console. Every sign-in of before ends.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", request_body = api::Accept,
    responses((status = 200, body = api::Me), (status = 400, body = api::Problem), (status = 404, body = api::Problem), (status = 410, body = api::Problem)))]
#[post("/invitation/accept")]
pub async fn accept_invitation(
    request: HttpRequest,
    state: web::Data<State>,
    body: Json<api::Accept>,
) -> Result<HttpResponse, Refusal> {
    check_host(&request, &state)?;
    let (account, _) = invited(&state, &request, &body.secret).await?;
    let hash = hashed_for(&state, &account, &body.password).await?;
    let actor = Actor::in_name_of(account.id, &account.sign_in, &from(&request, &state));
    state.engine.sign_ins().accept_invitation(&actor, &account, hash_secret(&body.secret), hash).await?;
    state.revoked();
    check_door(&state, &account, Door::Console)?;
    // Whoever holds the address knows no second factor: that one is asked for as ever.
    ask_second(&state, &account).await?;
    let cookies = open_session(&state, &account, &request, false).await?;
    Ok(with_cookies(HttpResponse::Ok(), cookies).json(me(&state, &account).await?))
}

/// Changes one's own password. Every other session ends; computers stay connected.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", request_body = api::PasswordChange,
    responses((status = 204), (status = 400, body = api::Problem), (status = 401, body = api::Problem), (status = 403, body = api::Problem)))]
#[put("/me/password")]
pub async fn change_password(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
    body: Json<api::PasswordChange>,
) -> Result<HttpResponse, Refusal> {
    who.need_session()?;
    check_own_password(&state, &request, &who, &body.present).await?;
    let hash = hashed_for(&state, &who.account, &body.new).await?;
    state.engine.sign_ins().change_password(&who.actor, &who.account, hash, who.token).await?;
    state.revoked();
    let said = format!(
        "Your password was changed, from {}. If that was not you, tell an administrator at once.",
        who.actor.from
    );
    crate::state::letters::tell(
        &state,
        &who.actor,
        &who.account,
        None,
        "your password was changed".into(),
        said,
    )
    .await;
    Ok(HttpResponse::NoContent().finish())
}

/// Where the caller is signed in to the console.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", responses((status = 200, body = api::Sessions)))]
#[get("/sessions")]
pub async fn list_sessions(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    let sessions = state.engine.sign_ins().sessions(who.account.id).await?;
    let sessions = sessions.into_iter().map(|s| session_to_api(&who, s)).collect();
    Ok(HttpResponse::Ok().json(api::Sessions { sessions }))
}

/// Ends one of the caller's sessions: it counts no more at once.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", params(("session" = String, Path)),
    responses((status = 204), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[delete("/sessions/{session}")]
pub async fn end_session(
    state: web::Data<State>,
    who: Who,
    path: web::Path<String>,
) -> Result<HttpResponse, Refusal> {
    who.need_session()?;
    let sessions = state.engine.sign_ins().sessions(who.account.id).await?;
    let found = sessions.iter().find(|s| session_id(&s.token) == *path);
    let found = found.ok_or_else(|| Refusal::not_found("The session"))?;
    state.engine.sign_ins().end_session(&who.actor, found.token).await?;
    state.revoked();
    Ok(HttpResponse::NoContent().finish())
}

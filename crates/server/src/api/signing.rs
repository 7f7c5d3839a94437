//! Choosing passwords, and where one is signed in.

use super::people::{Directory, hashed};
use super::sessions::{me, open_session};
use crate::app::State;
use crate::auth::{Who, check_password, from, hash_secret, new_secret};
use crate::problem::Refusal;
use crate::times::show;
use actix_web::{HttpRequest, HttpResponse, delete, get, post, put, web};
use yellow_attic_api as api;
use yellow_attic_store::Actor;
use yellow_attic_store::disk::hex;
use yellow_attic_store::people::Account;

/// How long an invitation counts.
const INVITED_MS: i64 = 7 * 86_400_000;

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
    who.need_proof(&state)?;
    let secret = new_secret()?;
    let expires = state.engine.now_ms() + INVITED_MS;
    state.engine.invite(&who.actor, account, hash_secret(&secret), expires).await?;
    let base = state.config.public_address.clone().unwrap_or_default();
    // After the #, so that it comes into no log on the way.
    let address = format!("{base}/welcome#{secret}");
    Ok(HttpResponse::Created().json(api::Invitation { address, expires: show(expires) }))
}

/// The account of an invitation that still counts.
async fn invited(state: &State, secret: &str) -> Result<(Account, i64), Refusal> {
    let gone = |code, detail| {
        Refusal::new(410, code, "The address counts no more", detail, "Ask an administrator for a new one.")
    };
    let unknown = || {
        Refusal::new(
            404,
            "invitation_unknown",
            "The address is not valid",
            "It was never made, or a later one has taken its place.",
            "See that it was copied whole, or ask an administrator for a new one.",
        )
    };
    let found = state.engine.invitation(hash_secret(secret)).await?.ok_or_else(unknown)?;
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
    state: web::Data<State>,
    body: web::Json<api::InvitationSecret>,
) -> Result<HttpResponse, Refusal> {
    let (account, expires) = invited(&state, &body.secret).await?;
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
    body: web::Json<api::Accept>,
) -> Result<HttpResponse, Refusal> {
    let (account, _) = invited(&state, &body.secret).await?;
    let hash = hashed(&state, &account.sign_in, &body.password).await?;
    let actor = Actor {
        account: Some(account.id),
        device: None,
        who: account.sign_in.as_str().into(),
        from: from(&request, &state).into(),
    };
    state.engine.accept_invitation(&actor, &account, hash_secret(&body.secret), hash).await?;
    state.revoked();
    let cookie = open_session(&state, &account, &request).await?;
    Ok(HttpResponse::Ok().cookie(cookie).json(me(&account)))
}

/// Changes one's own password. Every other session ends; computers stay connected.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", request_body = api::PasswordChange,
    responses((status = 204), (status = 400, body = api::Problem), (status = 401, body = api::Problem), (status = 403, body = api::Problem)))]
#[put("/me/password")]
pub async fn change_password(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
    body: web::Json<api::PasswordChange>,
) -> Result<HttpResponse, Refusal> {
    who.need_session()?;
    check_password(&state, &request, &who.account.sign_in, &body.present).await?;
    let hash = hashed(&state, &who.account.sign_in, &body.new).await?;
    state.engine.change_password(&who.actor, &who.account, hash, who.token).await?;
    state.revoked();
    Ok(HttpResponse::NoContent().finish())
}

/// How a session is named: by a part of the hash of its secret.
fn session_id(token: &[u8; 32]) -> String {
    hex(&token[..8])
}

/// Where the caller is signed in to the console.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", responses((status = 200, body = api::Sessions)))]
#[get("/sessions")]
pub async fn list_sessions(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    let sessions = state.engine.sessions(who.account.id).await?;
    let sessions = sessions
        .into_iter()
        .map(|s| api::Session {
            id: session_id(&s.token),
            opened: show(s.made_at),
            ends: show(s.ends_at),
            this: s.token == who.token,
            from: s.from,
            agent: s.agent,
        })
        .collect();
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
    let sessions = state.engine.sessions(who.account.id).await?;
    let found = sessions.iter().find(|s| session_id(&s.token) == *path);
    let found = found.ok_or_else(|| Refusal::not_found("The session"))?;
    state.engine.end_session(&who.actor, found.token).await?;
    state.revoked();
    Ok(HttpResponse::NoContent().finish())
}

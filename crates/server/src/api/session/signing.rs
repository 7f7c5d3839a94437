//! Choosing passwords, and where one is signed in.

use crate::api::people::people::{Directory, hashed_for};
use crate::api::session::sessions::{me, open_session, with_cookies};
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::times::show;
use crate::identity::factors::ask_second;
use crate::identity::principal::{
    Who, check_door, check_host, check_own_password, from, hash_secret, new_secret,
};
use crate::mail::{self, Letter};
use crate::state::State;
use actix_web::{HttpRequest, HttpResponse, delete, get, post, put, web};
use yellow_attic_api as api;
use yellow_attic_core::proof::Deed;
use yellow_attic_core::rules::Door;
use yellow_attic_store::Actor;
use yellow_attic_store::fs::disk::hex;
use yellow_attic_store::people::accounts::Account;
use yellow_attic_store::people::sessions::Session;

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
    who.need(&state, Deed::Invite)?;
    let (address, expires) = invitation(&state, &who.actor, account).await?;
    let mailed = mail_invitation(&state, &who.actor, account, &address, expires).await?;
    Ok(HttpResponse::Created().json(api::Invitation { address, mailed, expires: show(expires) }))
}

/// Makes an invitation: its address, and until when it counts.
pub async fn invitation(state: &State, actor: &Actor, account: &Account) -> Result<(String, i64), Refusal> {
    let secret = new_secret()?;
    let expires = state.engine.now_ms() + INVITED_MS;
    state.engine.invite(actor, account, hash_secret(&secret), expires).await?;
    // After the #, so that it comes into no log on the way.
    Ok((format!("{}/welcome#{secret}", state.base()), expires))
}

/// Sends an invitation, if there is a mail server and an address to send it to.
pub async fn mail_invitation(
    state: &State,
    actor: &Actor,
    account: &Account,
    address: &str,
    expires: i64,
) -> Result<bool, Refusal> {
    let Some(to) = &account.mail else { return Ok(false) };
    let organisation = &state.config.organisation;
    let (subject, what) = match account.password.is_empty() {
        true => (
            "your account",
            format!("there is an account for you at {organisation}: \"{}\".", account.sign_in),
        ),
        false => (
            "a new password",
            format!(
                "a new password can be chosen for your account \"{}\" at {organisation}.",
                account.sign_in
            ),
        ),
    };
    let day = crate::http::times::today(expires);
    let says = Letter {
        kind: if account.password.is_empty() { "invitation" } else { "password reset" },
        to,
        subject: subject.into(),
        paragraphs: vec![
            format!("Hello {},", account.display_name),
            what,
            format!("Choose a password at the address below. It counts once, until {day}."),
        ],
        open: Some(("Choose a password", address.to_string())),
    };
    Ok(mail::write(state, actor, says).await?)
}

/// The account of an invitation that still counts.
async fn invited(state: &State, request: &HttpRequest, secret: &str) -> Result<(Account, i64), Refusal> {
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
    let by = crate::state::throttle::place(request, state, b"invitations").by;
    let attempt = state.guessing.begin(&state.engine, by).await?;
    let found = state.engine.invitation(hash_secret(secret)).await?.ok_or_else(unknown)?;
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
    let actor = Actor {
        account: Some(account.id),
        device: None,
        who: account.sign_in.as_str().into(),
        from: from(&request, &state).into(),
        through: None,
        tokens: Default::default(),
    };
    state.engine.accept_invitation(&actor, &account, hash_secret(&body.secret), hash).await?;
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
    state.engine.change_password(&who.actor, &who.account, hash, who.token).await?;
    state.revoked();
    let said = format!(
        "Your password was changed, from {}. If that was not you, tell an administrator at once.",
        who.actor.from
    );
    mail::tell(&state, &who.actor, &who.account, None, "your password was changed".into(), said).await;
    Ok(HttpResponse::NoContent().finish())
}

/// How a session is named: by a part of the hash of its secret.
/// What a session is named by: the beginning of the hash of its secret.
pub fn session_id(token: &[u8; 32]) -> String {
    hex(&token[..8])
}

/// Where the caller is signed in to the console.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", responses((status = 200, body = api::Sessions)))]
#[get("/sessions")]
pub async fn list_sessions(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    let sessions = state.engine.sessions(who.account.id).await?;
    let sessions = sessions.into_iter().map(|s| shown_session(&who, s)).collect();
    Ok(HttpResponse::Ok().json(api::Sessions { sessions }))
}

/// A session as it is told.
pub fn shown_session(who: &Who, session: Session) -> api::Session {
    api::Session {
        id: session_id(&session.token),
        opened: show(session.made_at),
        ends: show(session.ends_at),
        this: session.token == who.token,
        from: session.from,
        agent: session.agent,
    }
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

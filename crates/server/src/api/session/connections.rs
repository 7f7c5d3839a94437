//! Connecting a computer by a short code, which somebody who is signed in types (the shape of RFC 8628): no password is
//! typed into the computer, and whatever one signs in with serves.

use crate::api::session::devices::{device_name, tell_connected};
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times::show;
use crate::identity::address::{address, from};
use crate::identity::doors::check_door;
use crate::identity::origin::check_host;
use crate::state::State;
use crate::state::connections::{Answer, CODE_MS, Found, INTERVAL, Waiting, shown};
use crate::state::secrets::{hash_secret, new_secret};
use crate::state::sessions::Who;
use actix_web::{HttpRequest, HttpResponse, post, web};
use yellow_attic_api as api;
use yellow_attic_core::NodeId;
use yellow_attic_core::forwarded::counted;
use yellow_attic_core::guessing::By;
use yellow_attic_core::proof::Deed;
use yellow_attic_core::rights::Level;
use yellow_attic_core::rules::Door;
use yellow_attic_store::{Actor, TokenScope};

/// The most folders to which a token is bound.
const MOST_FOLDERS: usize = 50;

/// A computer asks to be connected: it shows the code, and asks again with what else it is told here.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", request_body = api::NewConnection,
    responses((status = 201, body = api::Connection), (status = 400, body = api::Problem), (status = 503, body = api::Problem)))]
#[post("/connections")]
pub async fn begin_connection(
    request: HttpRequest,
    state: web::Data<State>,
    body: Json<api::NewConnection>,
) -> Result<HttpResponse, Refusal> {
    check_host(&request, &state)?;
    let device = device_name(&body.device)?;
    let program: String = body.program.chars().filter(|c| !c.is_control()).take(100).collect();
    let (from, at) = (from(&request, &state), address(&request, &state).map(counted));
    let (device_code, user_code) =
        state.connections.begin(device, &program, &from, at, state.engine.now_ms())?;
    Ok(HttpResponse::Created().json(api::Connection {
        device_code,
        user_code: shown(&user_code),
        verification_uri: format!("{}/connect", state.base()),
        expires_in: CODE_MS as u64 / 1000,
        interval: INTERVAL,
    }))
}

/// A computer asks whether somebody has answered: its token, told as often as it asks within the ten minutes; or, by the
/// codes of RFC 8628, `authorization_pending`, `slow_down`, `access_denied`, `expired_token`.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", request_body = api::Collect,
    responses((status = 200, body = api::DeviceToken), (status = 400, body = api::Problem), (status = 403, body = api::Problem)))]
#[post("/connections/token")]
pub async fn collect_connection(
    request: HttpRequest,
    state: web::Data<State>,
    body: Json<api::Collect>,
) -> Result<HttpResponse, Refusal> {
    let (answer, token) = match state.connections.collect(&body.device_code, state.engine.now_ms())? {
        Found::Pending => {
            return Err(refusals::AUTHORIZATION_PENDING.of("Nobody has answered yet."));
        }
        Found::Answered(answer, token) => (answer, token),
    };
    let Answer::Yes { account, device, scope } = answer else {
        return Err(
            refusals::ACCESS_DENIED.of("Somebody who is signed in said that it shall not be connected.")
        );
    };
    // One after the other: the first makes the device, whoever lost the answer gets the same.
    let mut token = token.lock().await;
    if let Some(token) = &*token {
        return Ok(HttpResponse::Ok().json(api::DeviceToken { token: token.clone() }));
    }
    let account = state.engine.people().account(account).await?.filter(|a| a.disabled_at.is_none());
    let Some(account) = account else {
        return Err(refusals::ACCESS_DENIED.of("The account that it was connected to is not there any more."));
    };
    check_door(&state, &account, Door::Sync)?;
    let actor = Actor::in_name_of(account.id, &account.sign_in, &from(&request, &state));
    let secret = new_secret()?;
    state.engine.sign_ins().make_device(&actor, account.id, &device, hash_secret(&secret), scope).await?;
    *token = Some(secret.clone());
    tell_connected(&state, &actor, &account, &device).await;
    Ok(HttpResponse::Ok().json(api::DeviceToken { token: secret }))
}

/// The computer that waits under a code. Guessing is slowed.
async fn waiting(request: &HttpRequest, state: &State, who: &Who, code: &str) -> Result<Waiting, Refusal> {
    who.need_own()?;
    who.need_session()?;
    let by = vec![By::Act("computer's code", address(request, state).map(counted)), By::All];
    let attempt = state.guessing.begin(&state.engine, by).await?;
    let found = state.connections.look(code, state.engine.now_ms()).ok_or_else(unknown)?;
    attempt.succeeded();
    Ok(found)
}

fn unknown() -> Refusal {
    refusals::CODE_UNKNOWN
        .of("No computer waits under this code: it was mistyped, answered already, or ten minutes are over.")
}

/// Which computer waits under a code: its name, its program, and the address from which it asks.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", request_body = api::TypedCode,
    responses((status = 200, body = api::AskedConnection), (status = 404, body = api::Problem), (status = 429, body = api::Problem)))]
#[post("/connections/look")]
pub async fn look_at_connection(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
    body: Json<api::TypedCode>,
) -> Result<HttpResponse, Refusal> {
    let found = waiting(&request, &state, &who, &body.code).await?;
    Ok(HttpResponse::Ok().json(api::AskedConnection {
        device: found.device,
        program: found.program,
        from: found.from,
        asked: show(found.asked_at),
        ends: show(found.asked_at + CODE_MS),
    }))
}

/// Connects the computer that waits under a code in the caller's name, to all or a part of what the caller may see; or
/// says that it shall not be.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", request_body = api::ConnectionAnswer,
    responses((status = 204), (status = 400, body = api::Problem), (status = 403, body = api::Problem), (status = 404, body = api::Problem), (status = 429, body = api::Problem)))]
#[post("/connections/answer")]
pub async fn answer_connection(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
    body: Json<api::ConnectionAnswer>,
) -> Result<HttpResponse, Refusal> {
    who.need_own()?;
    who.need_session()?;
    if body.connect {
        who.need(&state, Deed::ConnectDevice)?;
    }
    let found = waiting(&request, &state, &who, &body.code).await?;
    let answer = match body.connect {
        false => Answer::No,
        true => {
            check_door(&state, &who.account, Door::Sync)?;
            let device = device_name(body.device.as_deref().unwrap_or(&found.device))?.to_string();
            Answer::Yes { account: who.account.id, device, scope: scope(&state, &who, &body).await? }
        }
    };
    match state.connections.answer(&body.code, answer, state.engine.now_ms()) {
        true => Ok(HttpResponse::NoContent().finish()),
        false => Err(unknown()),
    }
}

/// How far the token reaches: only to folders that the caller may see.
async fn scope(
    state: &State,
    who: &Who,
    body: &api::ConnectionAnswer,
) -> Result<Option<TokenScope>, Refusal> {
    if body.within.len() > MOST_FOLDERS {
        return Err(
            refusals::TOO_MANY_FOLDERS.of(&format!("A computer is bound to at most {MOST_FOLDERS} folders."))
        );
    }
    let mut nodes = Vec::with_capacity(body.within.len());
    for node in body.within.iter().map(|n| NodeId(*n)) {
        let chain = state.engine.files().chain(&who.actor, node, Level::View).await?;
        if !chain[0].is_folder() {
            return Err(yellow_attic_store::StoreError::NotAFolder(chain[0].name().into()).into());
        }
        if !nodes.contains(&node) {
            nodes.push(node);
        }
    }
    Ok(match (nodes.is_empty(), body.read_only) {
        (true, false) => None,
        (_, true) => Some(TokenScope { nodes, most: Level::View }),
        (false, false) => Some(TokenScope { nodes, most: Level::Edit }),
    })
}

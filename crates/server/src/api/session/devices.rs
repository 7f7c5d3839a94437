//! Connected computers: listed, connected by a password, disconnected; what they say of themselves.

use crate::dto::account::device_to_api;
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::identity::address::from;
use crate::identity::doors::{check_door, lacks_factor};
use crate::identity::factors::{ask_second, check_code};
use crate::identity::passwords::check_password;
use crate::state::State;
use crate::state::secrets::{hash_secret, new_secret};
use crate::state::sessions::Who;
use actix_web::{HttpRequest, HttpResponse, delete, get, post, put, web};
use yellow_attic_api as api;
use yellow_attic_core::DeviceId;
use yellow_attic_core::people::Notice;
use yellow_attic_core::proof::Deed;
use yellow_attic_core::rules::Door;
use yellow_attic_store::Actor;
use yellow_attic_store::people::accounts::Account;

/// The most pairs that a computer tells of.
const MOST_PAIRS: usize = 100;
/// The longest text in what it tells, in characters.
const LONGEST_TEXT: usize = 1_000;

/// What a computer may be called.
pub fn device_name(text: &str) -> Result<&str, Refusal> {
    let name = text.trim();
    if name.is_empty() || name.chars().count() > 100 || name.chars().any(char::is_control) {
        return Err(refusals::DEVICE_NAME_CANNOT_BE
            .of("The computer's name is empty, too long, or holds control characters."));
    }
    Ok(name)
}

/// A computer was connected: its owner hears of it by mail.
pub async fn tell_connected(state: &State, actor: &Actor, account: &Account, name: &str) {
    state.names.forget().await;
    let said = format!(
        "The computer \"{name}\" was connected in your name, from {}. If that was not you, change your password and disconnect it.",
        actor.from
    );
    let subject = "a computer was connected".to_string();
    crate::state::letters::tell(state, actor, account, Some(Notice::Computer), subject, said).await;
}

/// The caller's computers.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", responses((status = 200, body = api::Devices)))]
#[get("/devices")]
pub async fn list_devices(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    let devices = state.engine.sign_ins().devices(who.account.id).await?;
    let fresh = state.in_use.devices(&devices.iter().map(|d| d.id).collect::<Vec<_>>());
    let mut shown = Vec::with_capacity(devices.len());
    for (device, fresh) in devices.into_iter().zip(fresh) {
        shown.push(device_to_api(&state, &who, device, fresh).await?);
    }
    let devices = shown;
    Ok(HttpResponse::Ok().json(api::Devices { devices }))
}

/// Connects a computer: answers with its own token, once.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", request_body = api::NewDevice,
    responses((status = 201, body = api::DeviceToken), (status = 401, body = api::Problem)))]
#[post("/devices")]
pub async fn connect(
    request: HttpRequest,
    state: web::Data<State>,
    body: Json<api::NewDevice>,
) -> Result<HttpResponse, Refusal> {
    let name = device_name(&body.device)?;
    let account = check_password(&state, &request, &body.sign_in, &body.password).await?;
    check_door(&state, &account, Door::Sync)?;
    let actor = Actor::in_name_of(account.id, &account.sign_in, &from(&request, &state));
    let factor = body.code.is_some();
    match &body.code {
        Some(code) => check_code(&state, &actor, &account, code).await?,
        None => ask_second(&state, &account).await?,
    }
    if lacks_factor(&state, &account).await? {
        return Err(refusals::SECOND_FACTOR_DEMANDED
            .of("A rule demands a second factor, and this account has none yet."));
    }
    let secret = new_secret()?;
    state.engine.sign_ins().make_device(&actor, account.id, name, hash_secret(&secret), None).await?;
    state.proofs.note(hash_secret(&secret), factor, state.engine.now_ms());
    tell_connected(&state, &actor, &account, name).await;
    Ok(HttpResponse::Created().json(api::DeviceToken { token: secret }))
}

/// Disconnects the computer that asks.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", responses((status = 204)))]
#[delete("/devices/this")]
pub async fn disconnect(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    let Some(device) = who.actor.device else {
        return Err(refusals::NOT_A_DEVICE.of("The caller is no connected computer."));
    };
    state.engine.sign_ins().end_device(&who.actor, who.account.id, device).await?;
    state.revoked();
    Ok(HttpResponse::NoContent().finish())
}

/// Disconnects one of the caller's computers: its token counts no more.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", params(("device" = i64, Path)),
    responses((status = 204), (status = 404, body = api::Problem)))]
#[delete("/devices/{device}")]
pub async fn end_device(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    // A token alone ends no other: the password given within ten minutes does.
    if who.actor.device.is_some() {
        who.need(&state, Deed::EndDevice)?;
    }
    state.engine.sign_ins().end_device(&who.actor, who.account.id, DeviceId(*path)).await?;
    state.revoked();
    Ok(HttpResponse::NoContent().finish())
}

/// Takes what the computer that asks says of itself: its program, its pairs and how they are. Shown to its owner and on
/// the desk.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", request_body = api::DeviceReport,
    responses((status = 204), (status = 400, body = api::Problem)))]
#[put("/devices/this")]
pub async fn report(
    state: web::Data<State>,
    who: Who,
    body: Json<api::DeviceReport>,
) -> Result<HttpResponse, Refusal> {
    let Some(device) = who.actor.device else {
        return Err(refusals::NOT_A_DEVICE.of("The caller is no connected computer."));
    };
    let texts = body.pairs.iter().flat_map(|p| [&p.folder, &p.place, &p.way, &p.state, &p.says]);
    let long = |text: &String| text.chars().count() > LONGEST_TEXT;
    let counts = body.pairs.iter().flat_map(|p| [p.waiting, p.trouble]);
    let many = counts.into_iter().any(|n| n > i64::MAX as u64);
    if many || body.pairs.len() > MOST_PAIRS || texts.chain([&body.program]).any(long) {
        return Err(refusals::REPORT_TOO_LONG.of(&format!(
            "A computer tells of at most {MOST_PAIRS} pairs, in texts of at most {LONGEST_TEXT} characters."
        )));
    }
    let pairs = serde_json::to_string(&body.pairs).unwrap_or_default();
    state.engine.sign_ins().tell_device(device, &body.program, &pairs).await?;
    Ok(HttpResponse::NoContent().finish())
}

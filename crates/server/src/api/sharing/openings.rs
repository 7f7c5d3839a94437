//! Links and intakes of whoever decides over them, and the public address that they carry.

use crate::dto::directory::Directory;
use crate::dto::opening::{base, kind, mine, name_of, set_of, to_api};
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times::{self, show};
use crate::mail::compose::Letter;
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, get, patch, post, web};
use yellow_attic_api as api;
use yellow_attic_core::openings::Kind;
use yellow_attic_core::proof::Deed;
use yellow_attic_core::rights::Level;
use yellow_attic_core::{NodeId, password};
use yellow_attic_store::sharing::openings::{NewOpening, Opening, Wanted};

/// Deliveries told at once.
const MOST_DELIVERIES: i64 = 1_000;
/// Letters sent at once.
const MOST_LETTERS: usize = 20;

/// Links and intakes: one's own, or those of something that one manages.
#[utoipa::path(context_path = "/api/v1", tag = "strangers", params(api::OpeningsQuery),
    responses((status = 200, body = api::Openings), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[get("/openings")]
pub async fn list_openings(
    state: web::Data<State>,
    who: Who,
    query: web::Query<api::OpeningsQuery>,
) -> Result<HttpResponse, Refusal> {
    let kind = query.kind.as_deref().map(kind).transpose()?;
    let node = query.node.map(NodeId);
    if let Some(node) = node {
        state.engine.files().chain(&who.actor, node, Level::Manage).await?;
    }
    let by = if node.is_some() { None } else { Some(who.account.id) };
    let all = Directory::read(&state).await?;
    let mut openings = Vec::new();
    for opening in state.engine.sharing().openings(&Wanted { by, node, kind }).await? {
        openings.push(to_api(&state, &who, &all, &opening).await?);
    }
    Ok(HttpResponse::Ok().json(api::Openings { openings }))
}

/// Makes a link or an intake for something that one manages.
#[utoipa::path(context_path = "/api/v1", tag = "strangers", request_body = api::NewOpening,
    responses((status = 201, body = api::Opening), (status = 400, body = api::Problem), (status = 403, body = api::Problem),
        (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
#[post("/openings")]
pub async fn make_opening(
    state: web::Data<State>,
    who: Who,
    body: Json<api::NewOpening>,
) -> Result<HttpResponse, Refusal> {
    let kind = kind(&body.kind)?;
    let node = NodeId(body.node);
    state.engine.files().chain(&who.actor, node, Level::Manage).await?;
    who.need(&state, Deed::MakeOpening)?;
    let set = set_of(&who, &body.set).await?;
    let new = NewOpening { kind, node, ending: body.ending.clone(), set };
    let made = state.engine.sharing().make_opening(&who.actor, new).await?;
    state.names.forget().await;
    state.openings_changed();
    let all = Directory::read(&state).await?;
    Ok(HttpResponse::Created().json(to_api(&state, &who, &all, &made).await?))
}

/// One that the caller decides over: only they see its address, and what was handed in.
async fn decided(state: &State, who: &Who, id: i64) -> Result<Opening, Refusal> {
    let opening = mine(state, who, id).await?;
    match state.engine.sharing().decides_over(&who.actor, &opening).await {
        true => Ok(opening),
        false => Err(Refusal::not_found("The address")),
    }
}

/// A link or an intake.
#[utoipa::path(context_path = "/api/v1", tag = "strangers", params(("id" = i64, Path)),
    responses((status = 200, body = api::Opening), (status = 404, body = api::Problem)))]
#[get("/openings/{id}")]
pub async fn show_opening(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    let opening = mine(&state, &who, *path).await?;
    let all = Directory::read(&state).await?;
    Ok(HttpResponse::Ok().json(to_api(&state, &who, &all, &opening).await?))
}

/// Changes a link or an intake: what is left out stays as it is. Closing it needs no password.
#[utoipa::path(context_path = "/api/v1", tag = "strangers", params(("id" = i64, Path)), request_body = api::OpeningSet,
    responses((status = 200, body = api::Opening), (status = 400, body = api::Problem), (status = 403, body = api::Problem),
        (status = 404, body = api::Problem)))]
#[patch("/openings/{id}")]
pub async fn change_opening(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    body: Json<api::OpeningSet>,
) -> Result<HttpResponse, Refusal> {
    let opening = mine(&state, &who, *path).await?;
    let own = state.engine.sharing().decides_over(&who.actor, &opening).await;
    let only_ends = api::OpeningSet {
        ended: body.ended,
        paused: body.paused,
        ends: body.ends.clone(),
        ..Default::default()
    };
    if !own
        && (serde_json::to_string(&*body).ok() != serde_json::to_string(&only_ends).ok()
            || body.ended == Some(false)
            || body.paused == Some(false))
    {
        return Err(refusals::ONLY_TO_CLOSE
            .of("You do not manage what it opens: you can pause it, end it, or set an earlier end."));
    }
    let set = set_of(&who, &body).await?;
    if !set.only_closes() {
        who.need(&state, Deed::ChangeOpening)?;
    }
    let changed = state.engine.sharing().change_opening(&who.actor, opening.id, set, !own).await?;
    state.names.forget().await;
    state.openings_changed();
    let all = Directory::read(&state).await?;
    Ok(HttpResponse::Ok().json(to_api(&state, &who, &all, &changed).await?))
}

/// The address as a QR code.
#[utoipa::path(context_path = "/api/v1", tag = "strangers", params(("id" = i64, Path)),
    responses((status = 200, description = "The picture", content_type = "image/svg+xml"), (status = 404, body = api::Problem)))]
#[get("/openings/{id}/qr")]
pub async fn draw_opening(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    let opening = decided(&state, &who, *path).await?;
    let address = format!("{}{}", state.base(), base(opening.kind, &opening.ending));
    Ok(HttpResponse::Ok()
        .content_type("image/svg+xml")
        .insert_header(("Content-Security-Policy", "sandbox; default-src 'none'"))
        .body(crate::http::qr::qr(&address)?))
}

/// Sends the address by mail.
#[utoipa::path(context_path = "/api/v1", tag = "strangers", params(("id" = i64, Path)), request_body = api::OpeningMail,
    responses((status = 202), (status = 400, body = api::Problem), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
#[post("/openings/{id}/mail")]
pub async fn mail_opening(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    body: Json<api::OpeningMail>,
) -> Result<HttpResponse, Refusal> {
    let opening = decided(&state, &who, *path).await?;
    if !state.post.is_set() {
        return Err(refusals::NO_MAIL_SERVER.of("This service has no mail server to send it with."));
    }
    if body.to.is_empty() || body.to.len() > MOST_LETTERS {
        return Err(refusals::RECIPIENTS.of(&format!("1 to {MOST_LETTERS} addresses are needed.")));
    }
    if let Some(wrong) = body.to.iter().find(|to| !password::check_mail(to)) {
        return Err(refusals::MAIL_MALFORMED.of(&format!("\"{wrong}\" is no mail address.")));
    }
    if body.message.len() > 4_000 {
        return Err(refusals::MESSAGE_TOO_LONG.of("The message is longer than 4000 bytes."));
    }
    let name = name_of(&state, &opening).await;
    let title = if opening.title.is_empty() { name } else { opening.title.clone() };
    let from = &who.account.display_name;
    let (subject, first, label) = match opening.kind {
        Kind::Link => {
            (format!("{from} shares \"{title}\""), format!("{from} shares \"{title}\" with you."), "Open it")
        }
        Kind::Intake => (
            format!("{from} asks for files: {title}"),
            format!("{from} asks you to hand files in: \"{title}\"."),
            "Hand files in",
        ),
    };
    for to in &body.to {
        let mut paragraphs = vec!["Hello,".to_string(), first.clone()];
        paragraphs.extend(
            [&opening.message, &body.message]
                .into_iter()
                .map(|m| m.trim().to_string())
                .filter(|m| !m.is_empty()),
        );
        if !opening.password.is_empty() {
            paragraphs.push("A password is asked for; it comes to you another way.".into());
        }
        if let Some(end) = opening.ends_at {
            let day = times::today(end);
            paragraphs.push(format!("It is open until {}.", day.strftime("%-d %B %Y")));
        }
        let address = format!("{}{}", state.base(), base(opening.kind, &opening.ending));
        let says = Letter {
            kind: "link",
            to: to.trim(),
            subject: subject.clone(),
            paragraphs,
            open: Some((label, address)),
        };
        crate::state::letters::write(&state, &who.actor, says).await?;
    }
    Ok(HttpResponse::Accepted().finish())
}

/// What was handed in at an intake.
#[utoipa::path(context_path = "/api/v1", tag = "strangers", params(("id" = i64, Path)),
    responses((status = 200, body = api::Deliveries), (status = 404, body = api::Problem)))]
#[get("/openings/{id}/deliveries")]
pub async fn list_deliveries(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    let opening = decided(&state, &who, *path).await?;
    let deliveries = state.engine.sharing().deliveries(opening.id, MOST_DELIVERIES).await?;
    let deliveries = deliveries
        .into_iter()
        .map(|d| api::Delivery {
            id: d.id,
            state: match (d.done_at, d.broken) {
                (None, _) => "under way",
                (_, true) => "broken off",
                _ => "done",
            }
            .to_string(),
            sender: d.sender,
            mail: d.mail,
            from: d.from,
            folder: d.folder.map(|f| f.0),
            begun: show(d.begun_at),
            done: d.done_at.map(show),
            files: d.files,
            bytes: d.bytes,
        })
        .collect();
    Ok(HttpResponse::Ok().json(api::Deliveries { deliveries }))
}

/// What strangers would get under the public address. For administrators.
#[utoipa::path(context_path = "/api/v1", tag = "strangers",
    responses((status = 200, body = api::AddressCheck), (status = 403, body = api::Problem)))]
#[get("/public-address")]
pub async fn check_address(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    Ok(HttpResponse::Ok().json(crate::identity::public_address::check(&state)))
}

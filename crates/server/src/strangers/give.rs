//! Intakes: a page on which strangers hand files in. They see nothing of what is there.
//!
//! Below `/give/ENDING`: `deliveries` (POST) begins one and answers with its secret, which all else
//! carries in the header `Delivery`; `uploads` (tus) takes files; `delivery` tells what has arrived;
//! `done` (POST) ends it with a receipt.

use super::page::{self, Page, Script};
use super::{Tried, enter, parts, refused};
use crate::dto::opening::base;
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times::show;
use crate::identity::address::address;
use crate::identity::visitor::{Gate, gate, visit};
use crate::mail::compose::Letter;
use crate::state::State;
use crate::state::secrets::{hash_secret, keyed_short, new_secret};
use crate::state::visits::Visit;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use maud::html;
use yellow_attic_api as api;
use yellow_attic_core::forwarded::counted;
use yellow_attic_core::guessing::By;
use yellow_attic_core::openings::{Kind, Told};
use yellow_attic_core::password::check_mail;
use yellow_attic_core::size::human;
use yellow_attic_store::fs::disk::hex;
use yellow_attic_store::sharing::deliveries::Delivery;
use yellow_attic_store::{Actor, StoreError};

/// The longest name of a sender, in characters.
const LONGEST_NAME: usize = 80;

pub fn routes(app: &mut web::ServiceConfig) {
    let scope = web::scope("/give/{ending}")
        .route("/uploads", web::post().to(begin_upload))
        .route("/uploads/{id}", web::route().to(one_upload))
        .route("/deliveries", web::post().to(begin))
        .route("/delivery", web::get().to(so_far))
        .route("/done", web::post().to(done))
        .route("/enter", web::post().to(let_in))
        .route("", web::get().to(page))
        .route("/", web::get().to(page));
    app.service(scope.default_service(web::route().to(super::nothing)));
}

fn ending(request: &HttpRequest) -> &str {
    request.match_info().get("ending").unwrap_or_default()
}

async fn let_in(request: HttpRequest, state: web::Data<State>, tried: web::Form<Tried>) -> HttpResponse {
    let ending = ending(&request).to_string();
    match enter(&request, &state, Kind::Intake, &ending, &tried.password).await {
        Ok(answer) => answer,
        Err(refusal) => super::open::wrong(&request, &state, Kind::Intake, &ending, refusal),
    }
}

/// The page of an intake.
async fn page(request: HttpRequest, state: web::Data<State>) -> HttpResponse {
    let ending = ending(&request).to_string();
    let visit = match gate(&request, &state, Kind::Intake, &ending, true).await {
        Ok(Gate::In(visit)) => visit,
        Ok(Gate::Password(_)) => return page::password(&state, &base(Kind::Intake, &ending), None),
        Ok(Gate::Shut(told)) => return page::refused(&state, super::refusal(told)),
        Err(refusal) => return page::refused(&state, refusal),
    };
    let opening = &visit.opening;
    let title = if opening.title.is_empty() { "Hand files in" } else { &opening.title };
    let taken = if opening.kinds.anything() { None } else { Some(opening.kinds.word()) };
    let accept = opening.kinds.endings().join(",");
    let full = visit.open.is_none();
    let body = html! {
        h1 { (title) }
        (page::text(&opening.message))
        section.send.give data-give=(base(Kind::Intake, &opening.ending)) data-full[full]
            data-largest=[opening.largest_file] data-all=[opening.largest_all] {
            noscript { p { "Handing files in needs JavaScript." } }
            @if full { p.full { "This intake has taken as many deliveries as it may. Ask whoever gave you the address." } }
            form.who {
                label for="sender" { "Your name" }
                input #sender name="name" required maxlength=(LONGEST_NAME) autocomplete="name";
                @if opening.asks_mail {
                    label for="mail" { "Your mail address" }
                    input #mail name="mail" type="email" required maxlength="200" autocomplete="email";
                }
            }
            div.drop {
                button.other type="button" { "Choose files" }
                input type="file" multiple hidden accept=[Some(accept).filter(|a| !a.is_empty())];
                button.other.tree type="button" { "Choose a folder" } input type="file" webkitdirectory hidden;
                span.muted { "or drop files and folders here" }
            }
            p.muted.limits {
                @if let Some(taken) = &taken { "Taken: " (taken) ". " }
                @if let Some(n) = opening.largest_file { "Each file up to " (human(n)) ". " }
                @if let Some(n) = opening.largest_all { "All together up to " (human(n)) ". " }
                @if let Some(until) = visit.open.and_then(|o| o.until) { "Open until " (page::moment(until)) ". " }
                "Nobody who hands something in sees what others have handed in."
            }
            ul.sending aria-live="polite" {}
            p.sum role="status" {}
            div.acts { button.main type="button" disabled { "Hand in" } }
        }
        section.receipt hidden aria-live="polite" {}
    };
    Page { title, body, script: Script::Send }.answer(&state, StatusCode::OK)
}

fn gone() -> Refusal {
    refusals::NO_SUCH_DELIVERY.of("There is no such delivery, or it was given up.")
}

/// A delivery that is under way may go on even when all are used: it is one of them.
async fn of_request(request: &HttpRequest, state: &State) -> Result<(Visit, Delivery, [u8; 32]), Refusal> {
    let visit = visit(request, state, Kind::Intake, ending(request)).await?;
    let secret = request.headers().get("delivery").and_then(|v| v.to_str().ok()).ok_or_else(gone)?;
    let secret = hash_secret(secret);
    let delivery = state
        .engine
        .sharing()
        .delivery(secret)
        .await?
        .filter(|d| d.opening == visit.opening.id)
        .ok_or_else(gone)?;
    Ok((visit, delivery, secret))
}

async fn begin(request: HttpRequest, state: web::Data<State>, body: Json<api::NewDelivery>) -> HttpResponse {
    match begun(&request, &state, &body).await {
        Ok(answer) => answer,
        Err(refusal) => refused(&request, &state, refusal),
    }
}

async fn begun(
    request: &HttpRequest,
    state: &State,
    body: &api::NewDelivery,
) -> Result<HttpResponse, Refusal> {
    let visit = visit(request, state, Kind::Intake, ending(request)).await?;
    let name = body.name.trim();
    if name.is_empty() || name.chars().count() > LONGEST_NAME || name.chars().any(char::is_control) {
        return Err(refusals::SENDER_MALFORMED.of("A name of 1 to 80 characters is needed."));
    }
    let to = body.mail.as_deref().map(str::trim).filter(|m| visit.opening.asks_mail && !m.is_empty());
    match to {
        Some(to) if !check_mail(to) => {
            return Err(refusals::MAIL_MALFORMED.of(&format!("\"{to}\" is no mail address.")));
        }
        None if visit.opening.asks_mail => {
            return Err(refusals::MAIL_NEEDED.of("A mail address is asked for."));
        }
        _ => {}
    }
    if visit.open.is_none() {
        return Err(super::refusal(Told::UsedUp));
    }
    let secret = new_secret()?;
    let mail = to.map(str::to_string);
    state
        .engine
        .sharing()
        .begin_delivery(&visit.actor, &visit.opening, hash_secret(&secret), name, mail)
        .await?;
    state.tell_openings();
    Ok(HttpResponse::Created().json(api::DeliveryBegun { delivery: secret }))
}

async fn begin_upload(request: HttpRequest, state: web::Data<State>, payload: web::Payload) -> HttpResponse {
    let begun = async {
        let (visit, delivery, _) = of_request(&request, &state).await?;
        parts::begin(&request, &state, &visit, Some(&delivery), payload).await
    };
    crate::transfer::tus::speak(begun.await)
}

async fn one_upload(request: HttpRequest, state: web::Data<State>, payload: web::Payload) -> HttpResponse {
    let done = async {
        let (visit, delivery, _) = of_request(&request, &state).await?;
        parts::one(&request, &state, &visit, Some(&delivery), payload).await
    };
    crate::transfer::tus::speak(done.await)
}

async fn receipt(state: &State, delivery: &Delivery) -> Result<api::Receipt, Refusal> {
    let files = state.engine.sharing().delivered(delivery.id).await?;
    Ok(api::Receipt {
        sender: delivery.sender.clone(),
        begun: show(delivery.begun_at),
        done: delivery.done_at.map(show),
        bytes: files.iter().map(|f| f.size).sum(),
        files: files
            .into_iter()
            .map(|f| api::Received { path: f.path, size: f.size, blake3: hex(&f.hash) })
            .collect(),
    })
}

/// What has arrived so far: for whoever comes back after a broken line.
async fn so_far(request: HttpRequest, state: web::Data<State>) -> HttpResponse {
    let found = async {
        let (_, delivery, _) = of_request(&request, &state).await?;
        Ok::<_, Refusal>(HttpResponse::Ok().json(receipt(&state, &delivery).await?))
    };
    found.await.unwrap_or_else(|refusal| refused(&request, &state, refusal))
}

async fn done(request: HttpRequest, state: web::Data<State>) -> HttpResponse {
    let finished = async {
        let (visit, delivery, secret) = of_request(&request, &state).await?;
        let before = delivery.done_at;
        state.engine.sharing().finish_delivery(&visit.actor, &delivery).await?;
        let delivery = state.engine.sharing().delivery(secret).await?.ok_or_else(gone)?;
        let receipt = receipt(&state, &delivery).await?;
        if before.is_none() {
            mail_receipt(&request, &state, &visit.actor, &delivery, &receipt).await?;
            state.tell_openings();
        }
        Ok::<_, Refusal>(HttpResponse::Ok().json(receipt))
    };
    finished.await.unwrap_or_else(|refusal| refused(&request, &state, refusal))
}

/// Sends the receipt to the address that the sender gave, which may be anybody's: in our own words, with numbers, and
/// nothing that the sender wrote. Few to one address, and few from one.
async fn mail_receipt(
    request: &HttpRequest,
    state: &State,
    actor: &Actor,
    delivery: &Delivery,
    receipt: &api::Receipt,
) -> Result<(), StoreError> {
    let Some(to) = delivery.mail.as_deref() else { return Ok(()) };
    let mut by = vec![By::LettersTo(keyed_short(&[b"letter", to.to_lowercase().as_bytes()]))];
    by.extend(actor.through.map(|t| By::LettersOf(t.opening.0)));
    let from = address(request, state).filter(|at| !at.to_canonical().is_loopback());
    by.extend(from.map(|at| By::LettersFrom(counted(at))));
    // Each letter counts, whether or not anybody wanted it.
    match state.guessing.begin(&state.engine, by).await {
        Ok(counted) => drop(counted),
        Err(_) => {
            tracing::warn!(
                delivery = delivery.id,
                "no receipt was mailed: too many were, to there or from there"
            );
            return Ok(());
        }
    }
    let mut lines: Vec<String> =
        receipt.files.iter().take(500).map(|f| format!("{}, BLAKE3 {}", human(f.size), f.blake3)).collect();
    if receipt.files.len() > 500 {
        lines.push(format!("and {} more", receipt.files.len() - 500));
    }
    let count = match receipt.files.len() {
        1 => "1 file".to_string(),
        n => format!("{n} files"),
    };
    let paragraphs = vec![
        "Hello,".to_string(),
        format!(
            "{count}, {} in all, were handed in by somebody who gave this address for the receipt. By its hash each can be \
             told from all others; their names stand on the page on which they were handed in.",
            human(receipt.bytes)
        ),
        lines.join("\n"),
        "If that was not you, somebody gave your address by mistake: nothing has to be done.".into(),
    ];
    let says =
        Letter { kind: "receipt", to, subject: "your files have arrived".into(), paragraphs, open: None };
    crate::state::letters::write(state, actor, says).await.map(|_| ())
}

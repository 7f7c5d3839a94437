//! Strangers: who comes through a link or an intake. They act with the present rights of whoever made
//! it, within its target and its level; each request asks anew whether it still acts.
//!
//! - [`open`]: links, `/open/…`; [`link_pages`]: their pages. [`give`]: intakes, `/give/…`. [`parts`]: uploads of both (tus).
//! - [`page`]: the frame of their pages, [`preview`]: what of a file is shown.

pub mod give;
mod link_pages;
pub mod open;
pub mod page;
mod parts;
pub mod preview;

use crate::dto::opening::base;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::identity::address::{address, from};
use crate::identity::origin::check_origin;
use crate::identity::passwords::verify;
use crate::identity::visitor::{Gate, VISIT, VISIT_MS, gate, refusal, seal};
use crate::state::State;
use crate::state::secrets::keyed;
use crate::state::throttle::Try;
use actix_web::cookie::{Cookie, SameSite};
use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse, web};
use yellow_attic_core::forwarded::counted;
use yellow_attic_core::guessing::By;
use yellow_attic_core::openings::{Kind, Told};
use yellow_attic_core::people::Notice;
use yellow_attic_store::Actor;
use yellow_attic_store::sharing::openings::Opening;

/// A password that is tried. A new one lets nobody in who gave the old one.
#[derive(serde::Deserialize)]
pub struct Tried {
    password: String,
}

/// Lets in who knows the password: the answer leads back to the page, with a cookie for that address
/// alone. Tries are limited, visits that were let in are not.
async fn enter(
    request: &HttpRequest,
    state: &State,
    kind: Kind,
    ending: &str,
    tried: &str,
) -> Result<HttpResponse, Refusal> {
    if request.headers().contains_key(header::ORIGIN) {
        check_origin(request, state)?;
    }
    let base = base(kind, ending);
    let opening = match gate(request, state, kind, ending, true).await? {
        Gate::Shut(told) => return Err(refusal(told)),
        Gate::In(_) => return Ok(to(&base).finish()),
        Gate::Password(opening) => opening,
    };
    let now = state.engine.now_ms();
    let pair = keyed(&[b"opening", &opening.id.0.to_le_bytes(), tried.as_bytes()]);
    let right = match state.guessing.is_wrong(&pair, &opening.password) {
        true => false,
        false => {
            let attempt = take_try(state, request, &opening).await?;
            let turn = match state
                .guessing
                .turn(crate::identity::address::place(request, state, ending.as_bytes()).lane)
                .await
            {
                Ok(turn) => turn,
                Err(refusal) => {
                    attempt.given_back();
                    return Err(refusal);
                }
            };
            let (password, hash) = (tried.to_string(), opening.password.clone());
            let right = web::block(move || {
                let right = verify(&password, &hash);
                drop(turn);
                right
            })
            .await
            .unwrap_or(false);
            if right {
                attempt.succeeded();
            } else {
                state.guessing.note_wrong(pair, &opening.password);
            }
            right
        }
    };
    if !right {
        return Err(refusals::WRONG_PASSWORD.of("The password is wrong."));
    }
    let until = now + VISIT_MS;
    let cookie = Cookie::build(VISIT, format!("{until}.{}", seal(&opening, until)))
        .path(base.clone())
        .http_only(true)
        // Lax: people come from a mail program.
        .same_site(SameSite::Lax)
        .secure(state.config.is_https())
        .finish();
    Ok(to(&base).cookie(cookie).finish())
}

/// Begins a try at an opening's password; its maker is told where many are tried.
async fn take_try<'s>(
    state: &'s State,
    request: &HttpRequest,
    opening: &Opening,
) -> Result<Try<'s>, Refusal> {
    let mut by = vec![By::Opening(opening.id.0)];
    // Behind a proxy on this machine that says nothing, many look like one.
    let at = address(request, state).filter(|at| !at.to_canonical().is_loopback());
    by.extend(at.map(|at| By::Visitor(counted(at))));
    let begun = state.guessing.begin(&state.engine, by).await;
    if let Err(refusal) = &begun
        && refusal.code() == "too_many_attempts"
    {
        let actor = opening.actor(&from(request, state));
        if state.engine.sharing().note_guessing(&actor, opening).await? {
            state.strangers.forget();
            tell_guessing(state, &actor, opening).await?;
        }
    }
    begun
}

async fn tell_guessing(state: &State, actor: &Actor, opening: &Opening) -> Result<(), Refusal> {
    let name = crate::dto::opening::name_of(state, opening).await;
    let accounts = state.engine.people().accounts().await?;
    if let Some(maker) = accounts.iter().find(|a| a.id == opening.made_by) {
        let said = format!(
            "somebody tries many passwords at your {} for \"{name}\", the last time from {}. Only tries are refused for a while; \
             whoever is in goes on. If its address got around, end it and make another one.",
            opening.kind.word(),
            actor.from,
        );
        let subject = format!("passwords are guessed at your {}", opening.kind.word());
        crate::state::letters::tell(state, &Actor::service(), maker, Some(Notice::Strangers), subject, said)
            .await;
    }
    Ok(())
}

fn to(place: &str) -> actix_web::HttpResponseBuilder {
    let mut answer = HttpResponse::SeeOther();
    answer.insert_header((header::LOCATION, place)).insert_header((header::CACHE_CONTROL, "no-store"));
    answer
}

/// A refusal as a page for who looks with a browser, and as a problem for programs.
pub fn refused(request: &HttpRequest, state: &State, refusal: Refusal) -> HttpResponse {
    let accepts = request.headers().get(header::ACCEPT).and_then(|v| v.to_str().ok()).unwrap_or("");
    if accepts.contains("text/html") {
        page::refused(state, refusal)
    } else {
        actix_web::ResponseError::error_response(&refusal)
    }
}

/// Anything else below an address.
async fn nothing(request: HttpRequest, state: web::Data<State>) -> HttpResponse {
    match crate::methods::refused_method(&request) {
        Some(wrong) => wrong,
        None => refused(&request, &state, refusal(Told::Nothing)),
    }
}

/// The routes for strangers.
pub fn routes(app: &mut web::ServiceConfig) {
    open::routes(app);
    give::routes(app);
    app.route("/looks.css", web::get().to(page::colours)).route("/looks/logo", web::get().to(page::logo));
}

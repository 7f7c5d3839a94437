//! Proving once more who one is.

use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::identity::factors::{ask_passkey, check_code, check_passkey};
use crate::state::State;
use crate::state::sessions::Who;
use crate::state::tickets::Held;
use actix_web::{HttpRequest, HttpResponse, post, web};
use yellow_attic_api as api;

/// Proves once more who one is: for ten minutes, what decides over people, rights and shelves may
/// be done; with a second factor, what changes how one signs in as well.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", request_body = api::Proof,
    responses((status = 204), (status = 401, body = api::Problem), (status = 429, body = api::Problem)))]
#[post("/proof")]
pub async fn prove(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
    body: Json<api::Proof>,
) -> Result<HttpResponse, Refusal> {
    crate::identity::passwords::check_own_password(&state, &request, &who, &body.password).await?;
    let factor = match (&body.passkey, &body.ticket, &body.code) {
        (Some(answer), Some(ticket), _) => {
            let ticket = state.tickets.take(ticket, state.engine.now_ms())?;
            let Some(Held::Proof(id, question)) = ticket.held() else {
                return Err(Refusal::not_found("The ticket"));
            };
            if *id != who.account.id {
                return Err(Refusal::not_found("The ticket"));
            }
            check_passkey(&state, &request, &who.actor, &who.account, question, answer.clone()).await?;
            ticket.used();
            true
        }
        (_, _, Some(code)) => {
            check_code(&state, &who.actor, &who.account, code).await?;
            true
        }
        _ => false,
    };
    state.proofs.note(who.token, factor, state.engine.now_ms());
    Ok(HttpResponse::NoContent().finish())
}

/// Asks for a passkey as a proof.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in",
    responses((status = 200, body = api::PasskeyProof), (status = 400, body = api::Problem), (status = 403, body = api::Problem)))]
#[post("/proof/passkey")]
pub async fn ask_proof(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
) -> Result<HttpResponse, Refusal> {
    who.need_session()?;
    let (options, question) = ask_passkey(&state, &request, who.account.id).await?;
    let held = Held::Proof(who.account.id, Box::new(question));
    let ticket = state.tickets.make(held, state.engine.now_ms())?;
    Ok(HttpResponse::Ok().json(api::PasskeyProof { ticket, options }))
}

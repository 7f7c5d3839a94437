//! The mail server and the queue of letters.

use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times::show;
use crate::mail::compose::{Letter, compose};
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, get, post, web};
use yellow_attic_api as api;
use yellow_attic_core::password;

/// How many letters are shown.
const SHOWN: i64 = 200;

/// The mail server, and the latest letters. For administrators.
#[utoipa::path(context_path = "/api/v1", tag = "mail", responses((status = 200, body = api::Mail), (status = 403, body = api::Problem)))]
#[get("/mail")]
pub async fn show_mail(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let letters = state.engine.people().letters(SHOWN).await?;
    let (server, from) = state.post.shown().unzip();
    let letters = letters
        .into_iter()
        .map(|l| api::Letter {
            id: l.id,
            kind: l.kind,
            to: l.recipient,
            subject: l.subject,
            written: show(l.made_at),
            state: match (l.sent_at, l.due_at) {
                (Some(_), _) => "sent",
                (None, Some(_)) => "waiting",
                (None, None) => "given up",
            }
            .to_string(),
            tries: l.tries,
            due: l.due_at.map(show),
            sent: l.sent_at.map(show),
            said: l.said,
        })
        .collect();
    Ok(HttpResponse::Ok().json(api::Mail { server, from, letters }))
}

/// Sends a letter at once, and tells what the mail server said.
#[utoipa::path(context_path = "/api/v1", tag = "mail", request_body = api::MailTest,
    responses((status = 200, body = api::MailTested), (status = 400, body = api::Problem), (status = 403, body = api::Problem)))]
#[post("/mail/test")]
pub async fn test_mail(
    state: web::Data<State>,
    who: Who,
    body: Json<api::MailTest>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let to = body.to.trim();
    if !password::check_mail(to) {
        return Err(refusals::MAIL_MALFORMED.of(&format!("\"{to}\" is no mail address.")));
    }
    let says = Letter {
        kind: "test",
        to,
        subject: "mail arrives".into(),
        paragraphs: vec![
            "This letter was sent to see whether mail arrives. It does.".into(),
            format!("{} asked for it.", who.account.display_name),
        ],
        open: None,
    };
    let (plain, rich) = compose(&state.config.organisation, &says);
    let subject = format!("{}: {}", state.config.organisation, says.subject);
    let tried = state.post.send(to, &subject, &plain, &rich).await;
    state.engine.people().note(&who.actor, "mail tested", None, to, &tried.said).await?;
    Ok(HttpResponse::Ok().json(api::MailTested {
        taken: tried.taken,
        said: tried.said,
        remedy: tried.remedy.to_string(),
    }))
}

/// Tries a letter again now, or gives it up.
#[utoipa::path(context_path = "/api/v1", tag = "mail", params(("letter" = i64, Path)), request_body = api::LetterChange,
    responses((status = 204), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[post("/mail/{letter}")]
pub async fn change_letter(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    body: Json<api::LetterChange>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    state.engine.people().hurry_letter(&who.actor, *path, body.again).await?;
    state.post.hurry();
    Ok(HttpResponse::NoContent().finish())
}

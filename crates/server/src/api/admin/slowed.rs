//! Who has to wait for guessing, and letting them go on.

use crate::dto::directory::Directory;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times::show;
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, delete, get, web};
use yellow_attic_api as api;
use yellow_attic_core::guessing::By;
use yellow_attic_core::proof::Deed;

/// What is counted: its kind, and of what. Names that nobody has may be passwords in the wrong field: they stay unsaid.
fn words(people: &Directory, by: &By) -> (&'static str, String) {
    let account = |id: i64| people.sign_in(yellow_attic_core::AccountId(id));
    match by {
        By::Account(id) => ("account", account(*id)),
        By::Factor(id) => ("second factor", account(*id)),
        By::Name(_) => ("name", "a name that nobody has".into()),
        By::Browser(_) => ("browser", "a browser that was signed in before".into()),
        By::Opening(id) => ("link", format!("number {id}")),
        By::Address(at) => ("address", at.to_string()),
        By::Visitor(at) => ("address at links", at.to_string()),
        By::Proxy(at) => ("proxy", at.to_string()),
        By::Act(act, at) => ("address", at.map_or_else(|| act.to_string(), |at| format!("{at} ({act})"))),
        By::LettersTo(_) => ("letters", "a mail address that a stranger gave".into()),
        By::LettersOf(id) => ("letters", format!("intake number {id}")),
        By::LettersFrom(at) => ("letters", at.to_string()),
        By::All => ("everything", "all attempts together".into()),
    }
}

/// Who has to wait before the next attempt is looked at. For administrators.
#[utoipa::path(context_path = "/api/v1", tag = "people",
    responses((status = 200, body = api::AllSlowed), (status = 403, body = api::Problem)))]
#[get("/slowed")]
pub async fn list_slowed(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let people = Directory::read(&state).await?;
    let slowed = state.guessing.slowed(state.engine.now_ms());
    let total = slowed.len();
    let slowed = slowed.iter().take(200).map(|s| {
        let (kind, of) = words(&people, &s.by);
        api::Slowed {
            kind: kind.into(),
            of,
            failures: s.failures,
            last: show(s.last_ms),
            until: show(s.until_ms),
        }
    });
    Ok(HttpResponse::Ok().json(api::AllSlowed {
        slowed: slowed.collect(),
        total,
        proxies: state.seen.untrusted().iter().map(ToString::to_string).collect(),
    }))
}

/// Lets somebody go on at once: an account, an address, or all. For administrators.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(api::SlowedQuery),
    responses((status = 200, body = api::Released), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[delete("/slowed")]
pub async fn release(
    state: web::Data<State>,
    who: Who,
    query: web::Query<api::SlowedQuery>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    who.need(&state, Deed::Release)?;
    let people = Directory::read(&state).await?;
    let released = state.guessing.release(|by| match &query.of {
        None => true,
        Some(of) => words(&people, by).1 == *of,
    });
    if released == 0 && query.of.is_some() {
        return Err(refusals::NOBODY_WAITS.of("Nobody and nothing of that name has to wait."));
    }
    let what = query.of.as_deref().unwrap_or("everybody");
    state.engine.people().note(&who.actor, "released from waiting", None, what, "").await?;
    Ok(HttpResponse::Ok().json(api::Released { released }))
}

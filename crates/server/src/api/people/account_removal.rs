//! Deleting accounts: what would go, when, and who gets the files.

use crate::dto::directory::Directory;
use crate::dto::removal::to_api;
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, delete, get, put, web};
use yellow_attic_api as api;
use yellow_attic_core::proof::Deed;
use yellow_attic_store::people::accounts::{Account, Role};

const DAY_MS: i64 = 86_400_000;
/// Days of grace if nobody says.
const USUAL_DAYS: u32 = 30;

async fn found(state: &State, path: &str) -> Result<(Directory, Account), Refusal> {
    let all = Directory::read(state).await?;
    let id = all.account(path)?;
    let account = all.accounts.get(&id).cloned().ok_or_else(|| Refusal::not_found("The account"))?;
    Ok((all, account))
}

/// What would go with an account.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(("sign_in" = String, Path)),
    responses((status = 200, body = api::Goes), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[get("/accounts/{sign_in}/removal")]
pub async fn show_removal(
    state: web::Data<State>,
    who: Who,
    path: web::Path<String>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let (all, account) = found(&state, &path).await?;
    Ok(HttpResponse::Ok().json(to_api(&state, &all, &account).await?))
}

/// Has a disabled account deleted after some days. Until then it can be undone.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(("sign_in" = String, Path)), request_body = api::Removal,
    responses((status = 200, body = api::Goes), (status = 400, body = api::Problem), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[put("/accounts/{sign_in}/removal")]
pub async fn decide_removal(
    state: web::Data<State>,
    who: Who,
    path: web::Path<String>,
    body: Json<api::Removal>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let (all, account) = found(&state, &path).await?;
    if body.name.trim() != account.sign_in {
        return Err(refusals::NAME_DOES_NOT_MATCH
            .of(&format!("\"{}\" is not the account's sign-in name.", body.name.trim())));
    }
    let days = body.days.unwrap_or(USUAL_DAYS);
    if !(1..=3650).contains(&days) {
        return Err(refusals::DAYS_CANNOT_BE.of(&format!("{days} days cannot be.")));
    }
    let heir = match &body.heir {
        None => None,
        Some(name) => {
            let id = all.account(name)?;
            let heir = all.accounts.get(&id).ok_or_else(|| Refusal::not_found("The account"))?;
            if heir.id == account.id || heir.role == Role::Guest || heir.disabled_at.is_some() {
                return Err(refusals::HEIR_CANNOT_BE.of(&format!(
                        "\"{name}\" cannot get the files: it goes itself, is disabled, or is a guest without a home."
                    )));
            }
            Some(heir)
        }
    };
    who.need(&state, Deed::RemoveAccount)?;
    let at = state.engine.now_ms() + i64::from(days) * DAY_MS;
    state.engine.people().mark_leaving(&who.actor, &account, at, heir).await?;
    let (all, account) = found(&state, &path).await?;
    Ok(HttpResponse::Ok().json(to_api(&state, &all, &account).await?))
}

/// Undoes that: the account stays, disabled.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(("sign_in" = String, Path)),
    responses((status = 204), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[delete("/accounts/{sign_in}/removal")]
pub async fn undo_removal(
    state: web::Data<State>,
    who: Who,
    path: web::Path<String>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let (_, account) = found(&state, &path).await?;
    who.need(&state, Deed::RemoveAccount)?;
    state.engine.people().unmark_leaving(&who.actor, &account).await?;
    Ok(HttpResponse::NoContent().finish())
}

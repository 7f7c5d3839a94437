//! How the store stands: the disk's promise, the catalogue's age, shelves that wait, and what was noticed.

use crate::dto::store::promise_of;
use crate::http::problem::Refusal;
use crate::http::times::show;
use crate::http::words::sentence;
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, get, web};
use yellow_attic_api as api;

/// How the store stands.
#[utoipa::path(context_path = "/api/v1", tag = "space",
    responses((status = 200, body = api::StoreState), (status = 403, body = api::Problem)))]
#[get("/store")]
pub async fn store_state(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let (durability, why) = promise_of(state.engine.durability());
    let stopped = state.engine.stopped_shelves().into_iter();
    let found = state.engine.findings(50).await?.into_iter();
    Ok(HttpResponse::Ok().json(api::StoreState {
        durability: durability.into(),
        why: sentence(&why),
        older_catalogue: state.engine.has_older_catalogue(),
        secrets: state.engine.secrets_trouble().map(|why| sentence(&why)),
        stopped: stopped
            .map(|(shelf, why)| api::StoppedShelf {
                shelf: shelf.name.clone(),
                why: sentence(&why.to_string()),
            })
            .collect(),
        findings: found
            .map(|f| api::StoreFinding { at: show(f.at), kind: f.kind, detail: f.detail })
            .collect(),
    }))
}

//! Finding by name, and what changed last.

use crate::dto::node;
use crate::dto::search::found;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, get, web};
use yellow_attic_api as api;
use yellow_attic_core::NodeId;
use yellow_attic_store::Row;

/// Files and folders whose names hold every word, last changed first.
#[utoipa::path(context_path = "/api/v1", tag = "nodes", params(api::FindQuery),
    responses((status = 200, body = api::Found), (status = 404, body = api::Problem)))]
#[get("/find")]
pub async fn find(
    state: web::Data<State>,
    who: Who,
    query: web::Query<api::FindQuery>,
) -> Result<HttpResponse, Refusal> {
    let limit = query.limit.unwrap_or(50).clamp(1, 200);
    let within = query.within.map(NodeId);
    if let Some(at) = &query.at {
        let Some(within) = within else {
            return Err(refusals::PAST_WITHIN.of("The past is searched beneath a folder."));
        };
        let at = crate::http::times::moment(&state.engine, at).await?;
        let (ways, more) =
            state.engine.files().find_names_at(&who.actor, &query.name, within, at, limit).await?;
        let names = state.names_for(&who).await;
        let mut found = Vec::with_capacity(ways.len());
        for way in &ways {
            let rows: Vec<&Row> = way.iter().collect();
            let path = state.engine.files().way_of(&who.actor, &rows).await?.path;
            found.push(api::FoundNode { node: node::seen(&state, &who, &way[0], None, &names).await?, path });
        }
        return Ok(HttpResponse::Ok().json(api::Found { found, more }));
    }
    let (chains, more) = state.engine.files().find_names(&who.actor, &query.name, within, limit).await?;
    let found = found(&state, &who, &chains).await?;
    Ok(HttpResponse::Ok().json(api::Found { found, more }))
}

/// The files changed last, on all shelves that one may enter: at most 100.
#[utoipa::path(context_path = "/api/v1", tag = "nodes", responses((status = 200, body = api::Found)))]
#[get("/recent")]
pub async fn recent(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    let chains = state.engine.files().recent(&who.actor, 100).await?;
    let found = found(&state, &who, &chains).await?;
    Ok(HttpResponse::Ok().json(api::Found { found, more: false }))
}

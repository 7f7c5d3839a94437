//! Finding by name, and what changed last.

use super::shown;
use crate::app::{NameMap, State};
use crate::auth::Who;
use crate::problem::Refusal;
use actix_web::{HttpResponse, get, web};
use yellow_attic_api as api;
use yellow_attic_core::NodeId;
use yellow_attic_store::ShelfKind;
use yellow_attic_store::searching::FoundChain;

fn found(state: &State, chain: &FoundChain, names: &NameMap) -> api::FoundNode {
    let shelf = chain.last().and_then(|top| state.engine.shelf_of(top));
    let word = match &shelf {
        Some(shelf) if shelf.kind == ShelfKind::Shared => shelf.name.clone(),
        _ => "home".to_string(),
    };
    let below: Vec<&str> = chain.iter().rev().skip(1).map(|row| row.name()).collect();
    api::FoundNode { node: shown::node(&chain[0], None, names), path: format!("{word}:/{}", below.join("/")) }
}

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
    let (chains, more) = state.engine.find_names(&who.actor, &query.name, within, limit).await?;
    let names = state.names.get(&state.engine).await;
    let found = chains.iter().map(|chain| found(&state, chain, &names)).collect();
    Ok(HttpResponse::Ok().json(api::Found { found, more }))
}

/// The files changed last, on all shelves that one may enter: at most 100.
#[utoipa::path(context_path = "/api/v1", tag = "nodes", responses((status = 200, body = api::Found)))]
#[get("/recent")]
pub async fn recent(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    let chains = state.engine.recent(&who.actor, 100).await?;
    let names = state.names.get(&state.engine).await;
    let found = chains.iter().map(|chain| found(&state, chain, &names)).collect();
    Ok(HttpResponse::Ok().json(api::Found { found, more: false }))
}

//! Locks by hand, and ending those that programs hold.

use crate::dto::node;
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, delete, put, web};
use yellow_attic_api as api;
use yellow_attic_core::NodeId;
use yellow_attic_core::locks::life;
use yellow_attic_store::rights::locks::NewLock;

/// Locks a file or folder for the caller: until it ends nobody else changes it, by whatever way they come.
/// Locking it again lets it live on from now.
#[utoipa::path(context_path = "/api/v1", tag = "nodes", params(("node" = i64, Path)), request_body = api::NewLock,
    responses((status = 200, body = api::Lock), (status = 404, body = api::Problem), (status = 423, body = api::Problem)))]
#[put("/nodes/{node}/lock")]
pub async fn take_lock(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    body: Json<api::NewLock>,
) -> Result<HttpResponse, Refusal> {
    let node = NodeId(*path);
    let engine = &state.engine;
    let lives_ms = life(Some(u64::from(body.minutes.unwrap_or(60)) * 60));
    let way = engine.files().way(node).await?;
    let mine = engine
        .files()
        .locks_over(&way)
        .into_iter()
        .find(|h| h.lock.node == node && !h.lock.by_token && who.actor.account == Some(h.lock.holder));
    let held = match mine {
        Some(mine) => engine.files().refresh_lock(&who.actor, node, &mine.lock.token, Some(lives_ms)).await?,
        None => {
            let new = NewLock { node, deep: true, exclusive: true, by_token: false, owner: None, lives_ms };
            engine.files().lock(&who.actor, new).await?
        }
    };
    let names = state.names_for(&who).await;
    Ok(HttpResponse::Ok().json(node::lock(&who, &names, &held)))
}

/// Ends one's own locks on a file or folder, whatever program took them; for whoever manages it, everybody's.
#[utoipa::path(context_path = "/api/v1", tag = "nodes", params(("node" = i64, Path)),
    responses((status = 204), (status = 404, body = api::Problem), (status = 423, body = api::Problem)))]
#[delete("/nodes/{node}/lock")]
pub async fn end_lock(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    state.engine.files().end_locks(&who.actor, NodeId(*path)).await?;
    Ok(HttpResponse::NoContent().finish())
}

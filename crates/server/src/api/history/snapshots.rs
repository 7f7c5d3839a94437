//! Snapshots of a shelf.

use crate::dto::history::shelf_at;
use crate::dto::snapshot::to_api;
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::times;
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, delete, get, patch, post, web};
use yellow_attic_api as api;
use yellow_attic_core::proof::Deed;
use yellow_attic_core::rules::Rule;

fn end(text: Option<&str>) -> Result<Option<Option<i64>>, Refusal> {
    match text {
        None => Ok(None),
        Some("never") => Ok(Some(None)),
        Some(text) => Ok(Some(Some(times::wanted(text)?))),
    }
}

/// The snapshots of a shelf, newest first.
#[utoipa::path(context_path = "/api/v1", tag = "history", params(("root" = i64, Path)),
    responses((status = 200, body = api::Snapshots), (status = 404, body = api::Problem)))]
#[get("/shelves/{root}/snapshots")]
pub async fn list_snapshots(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    let shelf = shelf_at(&state, *path)?;
    let mut snapshots = Vec::new();
    for snapshot in state.engine.history().snapshots(&who.actor, &shelf).await? {
        snapshots.push(to_api(&state, &snapshot).await);
    }
    let rules = state.engine.people().rules();
    let schedules = rules.decide_on(Rule::Snapshots, &[], Some(shelf.id)).value;
    Ok(HttpResponse::Ok().json(api::Snapshots {
        snapshots,
        schedules: Rule::Snapshots.word_of(&schedules),
        only_bytes: state.engine.space().held_on(&shelf).await?.only_snapshots,
    }))
}

/// Takes a snapshot of a shelf as it is now.
#[utoipa::path(context_path = "/api/v1", tag = "history", params(("root" = i64, Path)), request_body = api::SnapshotChange,
    responses((status = 201, body = api::Snapshot), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[post("/shelves/{root}/snapshots")]
pub async fn take_snapshot(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    body: Json<api::SnapshotChange>,
) -> Result<HttpResponse, Refusal> {
    let shelf = shelf_at(&state, *path)?;
    let ends = end(body.ends.as_deref())?.flatten();
    let label = body.label.as_deref().unwrap_or("by hand");
    let taken = state.engine.history().take_snapshot(&who.actor, &shelf, label, ends).await?;
    Ok(HttpResponse::Created().json(to_api(&state, &taken).await))
}

/// Changes a snapshot's label or its end.
#[utoipa::path(context_path = "/api/v1", tag = "history", params(("id" = i64, Path)), request_body = api::SnapshotChange,
    responses((status = 200, body = api::Snapshot), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[patch("/snapshots/{id}")]
pub async fn change_snapshot(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    body: Json<api::SnapshotChange>,
) -> Result<HttpResponse, Refusal> {
    let ends = end(body.ends.as_deref())?;
    state.engine.history().manages_snapshot(&who.actor, *path).await?;
    who.need(&state, Deed::ChangeSnapshot)?;
    let changed =
        state.engine.history().change_snapshot(&who.actor, *path, body.label.as_deref(), ends).await?;
    Ok(HttpResponse::Ok().json(to_api(&state, &changed).await))
}

/// Ends a snapshot: what only it kept goes with the next look at the rules.
#[utoipa::path(context_path = "/api/v1", tag = "history", params(("id" = i64, Path)),
    responses((status = 204, description = "Ended"), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[delete("/snapshots/{id}")]
pub async fn end_snapshot(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    state.engine.history().manages_snapshot(&who.actor, *path).await?;
    who.need(&state, Deed::EndSnapshot)?;
    state.engine.history().end_snapshot(&who.actor, *path).await?;
    Ok(HttpResponse::NoContent().finish())
}

//! Bytes in and out by path, and into a folder by name.

use crate::dto::node::{self, at_in};
use crate::http::conditions::{KnownHeaders, of_write};
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times;
use crate::state::State;
use crate::state::sessions::Who;
use crate::transfer::reader::Reader;
use crate::transfer::receive::{is_small, receive};
use crate::transfer::send;
use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse, post, put, route, web};
use yellow_attic_api as api;
use yellow_attic_core::conditions::{Conditions, Thing};
use yellow_attic_core::rights::Level;
use yellow_attic_core::{Name, NodeId, ShelfPath};
use yellow_attic_store::FileFacts;
use yellow_attic_store::StoreError;

/// The answer to a put.
fn answer(shown: &api::Node, created: bool, told: Option<String>) -> HttpResponse {
    let mut answer = if created { HttpResponse::Created() } else { HttpResponse::Ok() };
    if let Some(tag) = &shown.etag {
        answer.insert_header((header::ETAG, tag.as_str()));
    }
    if let Some(told) = told {
        answer.insert_header(("repr-digest", told));
    }
    answer.json(shown)
}

fn facts(state: &State, query: &api::PutQuery) -> Result<FileFacts, Refusal> {
    let mtime = match query.modified.as_deref() {
        None => state.engine.now_ms(),
        Some(text) => times::read(text)
            .ok_or_else(|| refusals::TIME_MALFORMED.of(&format!("modified={text} is no RFC 3339 time.")))?,
    };
    Ok(FileFacts { mtime, executable: query.executable })
}

async fn put(
    request: &HttpRequest,
    state: &State,
    who: &Who,
    parent: NodeId,
    name: Name,
    query: &api::PutQuery,
    payload: web::Payload,
) -> Result<HttpResponse, Refusal> {
    // Rights and conditions are looked at before a byte is taken, and again at the commit.
    let conditions = of_write(request)?;
    if let Some((shown, created)) = node::answered(state, who, &conditions.known).await? {
        return Ok(answer(&shown, created, None));
    }
    let waits = is_small(request)
        && conditions == Conditions::default()
        && state.engine.files().look_can_wait(&who.actor, parent).await?;
    let there = match waits {
        true => None,
        false => state.engine.files().check_put(&who.actor, parent, &name).await?,
    };
    if !waits && !conditions.hold(there.as_ref().map(|row| row.standing()).as_ref()) {
        return Err(StoreError::ConditionFailed { present: there.map(|row| Box::new(row.standing())) }.into());
    }
    let facts = facts(state, query)?;
    let replaced = there.map_or(0, |row| row.size().max(0) as u64);
    let arrived = receive(state, request, payload, parent, replaced).await?;
    let done =
        state.engine.files().put_with(&who.actor, parent, name, arrived.staged, facts, conditions).await?;
    drop(arrived.claim);
    let row = done.row.ok_or_else(|| Refusal::not_found("The file"))?;
    state.metrics.received.inc_by(row.size().max(0) as u64);
    Ok(answer(&node::present(state, who, &row).await?, done.created, arrived.told))
}

/// Gives a file a new state, wherever it is by then. The answer comes when it is on the disk.
#[utoipa::path(context_path = "/api/v1", tag = "files", params(("node" = i64, Path), api::PutQuery, KnownHeaders),
    request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 200, body = api::Node), (status = 404, body = api::Problem), (status = 412, body = api::Problem),
        (status = 413, body = api::Problem), (status = 507, body = api::Problem)))]
#[put("/nodes/{node}/content")]
pub async fn put_onto(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    query: web::Query<api::PutQuery>,
    payload: web::Payload,
) -> Result<HttpResponse, Refusal> {
    let node = NodeId(*path);
    let mut conditions = of_write(&request)?;
    if let Some((shown, created)) = node::answered(&state, &who, &conditions.known).await? {
        return Ok(answer(&shown, created, None));
    }
    // It says which file it is.
    conditions.known.thing.get_or_insert(Thing::Node(node));
    let row = state.engine.files().chain(&who.actor, node, Level::View).await?[0].clone();
    let parent = row.parent.ok_or(StoreError::ShelfTop)?;
    let name = Name::new(row.name()).map_err(StoreError::from)?;
    state.engine.files().check_put(&who.actor, parent, &name).await?;
    if !conditions.hold(Some(&row.standing())) {
        return Err(StoreError::ConditionFailed { present: Some(Box::new(row.standing())) }.into());
    }
    let facts = facts(&state, &query)?;
    let arrived = receive(&state, &request, payload, parent, row.size().max(0) as u64).await?;
    let done = state.engine.files().put_onto(&who.actor, node, arrived.staged, facts, conditions).await?;
    drop(arrived.claim);
    let row = done.row.ok_or_else(|| Refusal::not_found("The file"))?;
    state.metrics.received.inc_by(row.size().max(0) as u64);
    Ok(answer(&node::present(&state, &who, &row).await?, done.created, arrived.told))
}

/// Puts a file into a folder: new, or as a new state of the file of that name. The answer
/// comes when it is on the disk.
#[utoipa::path(context_path = "/api/v1", tag = "files", params(("node" = i64, Path), ("name" = String, Path), api::PutQuery, KnownHeaders),
    request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 200, body = api::Node), (status = 201, body = api::Node), (status = 412, body = api::Problem),
        (status = 413, body = api::Problem), (status = 507, body = api::Problem)))]
#[put("/nodes/{node}/files/{name}")]
pub async fn put_in_folder(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
    path: web::Path<(i64, String)>,
    query: web::Query<api::PutQuery>,
    payload: web::Payload,
) -> Result<HttpResponse, Refusal> {
    let (node, name) = path.into_inner();
    let name = name_in_address(&request, &name)?;
    put(&request, &state, &who, NodeId(node), name, &query, payload).await
}

/// A name from the address. A name that is no UTF-8 must be told from one with odd characters.
fn name_in_address(request: &HttpRequest, decoded: &str) -> Result<Name, Refusal> {
    check_utf8(request)?;
    Ok(Name::new(decoded).map_err(StoreError::from)?)
}

fn check_utf8(request: &HttpRequest) -> Result<(), Refusal> {
    if percent_encoding::percent_decode_str(request.uri().path()).decode_utf8().is_err() {
        return Err(StoreError::from(yellow_attic_core::NameError::NotUtf8).into());
    }
    Ok(())
}

/// The names behind the shelf in the address. A slash within a name cannot be.
fn names_in_address(request: &HttpRequest) -> Result<(String, Vec<Name>), Refusal> {
    check_utf8(request)?;
    let raw = request.uri().path().strip_prefix("/api/v1/files/").unwrap_or("");
    let decode = |part: &str| percent_encoding::percent_decode_str(part).decode_utf8_lossy().into_owned();
    let mut parts = raw.split('/').filter(|p| !p.is_empty()).map(decode);
    let shelf = parts.next().unwrap_or_default();
    let names = parts.map(|p| Name::new(&p)).collect::<Result<Vec<_>, _>>().map_err(StoreError::from)?;
    if names.len() > yellow_attic_core::path::MAX_DEPTH {
        return Err(StoreError::from(yellow_attic_core::PathError::TooDeep(names.len())).into());
    }
    Ok((shelf, names))
}

/// The bytes of the file at a path, as they are or were; with ranges.
#[utoipa::path(get, context_path = "/api/v1", path = "/files/{shelf}/{path}", tag = "files",
    params(("shelf" = String, Path), ("path" = String, Path), api::StateQuery),
    responses((status = 200, description = "The bytes"), (status = 206, description = "A range of them"),
        (status = 404, body = api::Problem)))]
#[route("/files/{shelf}/{path:.*}", method = "GET", method = "HEAD")]
pub async fn get_by_path(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
) -> Result<HttpResponse, Refusal> {
    let (shelf, names) = names_in_address(&request)?;
    let row = match at_in(&request) {
        None => (*state.engine.files().resolve(&who.actor, &shelf, &names).await?).clone(),
        Some(at) => {
            let at = times::moment(&state.engine, &at).await?;
            let row = state.engine.files().resolve_at(&who.actor, &shelf, &names, at).await?;
            state.engine.history().check_past(&who.actor, row.node, at).await?;
            row
        }
    };
    send::answer(&request, &state, &Reader::from(&who), &row).await
}

/// Puts a file at a path. Its folder must be there.
#[utoipa::path(context_path = "/api/v1", path = "/files/{shelf}/{path}", tag = "files",
    params(("shelf" = String, Path), ("path" = String, Path), api::PutQuery),
    request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 200, body = api::Node), (status = 201, body = api::Node), (status = 404, body = api::Problem),
        (status = 412, body = api::Problem), (status = 413, body = api::Problem), (status = 507, body = api::Problem)))]
#[put("/files/{shelf}/{path:.*}")]
pub async fn put_by_path(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
    query: web::Query<api::PutQuery>,
    payload: web::Payload,
) -> Result<HttpResponse, Refusal> {
    let (shelf, names) = names_in_address(&request)?;
    let (parent, name) = state.engine.files().target(&who.actor, &ShelfPath { shelf, names }).await?;
    put(&request, &state, &who, parent, name, &query, payload).await
}

/// Takes a tar stream into a folder: many files in one request. The answer tells each entry's
/// fate as it goes, a line of JSON each, and the sums at the end.
#[utoipa::path(context_path = "/api/v1", tag = "files", params(("node" = i64, Path), api::TarQuery),
    request_body(content = Vec<u8>, content_type = "application/x-tar"),
    responses((status = 200, body = api::TarLine, content_type = "application/x-ndjson"),
        (status = 403, body = api::Problem), (status = 404, body = api::Problem), (status = 507, body = api::Problem)))]
#[post("/nodes/{node}/tar")]
pub async fn take_tar(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    query: web::Query<api::TarQuery>,
    payload: web::Payload,
) -> Result<HttpResponse, Refusal> {
    let replace = match query.taken.as_deref() {
        None | Some("replace") => true,
        Some("refuse") => false,
        Some(other) => {
            return Err(refusals::WORD_UNKNOWN
                .with(&format!("taken={other} is unknown."), "Choose replace or refuse."));
        }
    };
    crate::transfer::tar_in::receive(&state, &who, NodeId(*path), replace, payload).await
}

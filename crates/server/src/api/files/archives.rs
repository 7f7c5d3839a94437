//! Folders and selections as one file.

use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times;
use crate::state::State;
use crate::state::archives::{Format, Wanted};
use crate::state::secrets::new_secret;
use crate::state::sessions::Who;
use crate::transfer::archive;
use crate::transfer::reader::Reader;
use actix_web::{HttpRequest, HttpResponse, post, route, web};
use yellow_attic_api as api;
use yellow_attic_core::NodeId;
use yellow_attic_store::{Row, ShelfKind, StoreError};

fn format(word: &str) -> Result<Format, Refusal> {
    Format::from_word(word).ok_or_else(|| {
        refusals::WORD_UNKNOWN.with(&format!("format={word} is unknown."), "Choose zip or tar.")
    })
}

/// What a file or folder is called; the top of one's own shelf is Home.
fn title(state: &State, row: &Row) -> String {
    let home = state.engine.shelf_of(row).is_some_and(|shelf| shelf.kind == ShelfKind::Home);
    if home && row.parent.is_none() { "Home".to_string() } else { row.name().to_string() }
}

/// The folder with all in it as one file, as it is or was; with ranges. Whoever goes on with
/// If-Range gets the same archive, even if the folder has changed.
#[utoipa::path(get, context_path = "/api/v1", path = "/nodes/{node}/archive", tag = "files",
    params(("node" = i64, Path), api::ArchiveQuery),
    responses((status = 200, description = "The archive"), (status = 206, description = "A range of it"),
        (status = 404, body = api::Problem), (status = 413, body = api::Problem)))]
#[route("/nodes/{node}/archive", method = "GET", method = "HEAD")]
pub async fn fetch_folder(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    query: web::Query<api::ArchiveQuery>,
) -> Result<HttpResponse, Refusal> {
    let now = state.engine.history().now_moment().await?;
    let at = match &query.at {
        Some(at) => times::moment(&state.engine, at).await?,
        None => archive::moment_in(&request).filter(|at| *at <= now).unwrap_or(now),
    };
    let node = NodeId(*path);
    let chain = state.engine.history().check_past(&who.actor, node, at).await?;
    let wanted = Wanted { nodes: vec![node], at, format: format(query.format.as_deref().unwrap_or("zip"))? };
    let name = title(&state, &chain[0]);
    archive::answer(&request, &state, &Reader::from(&who), wanted, &name).await
}

/// Gathers files and folders into one archive, to be fetched within a day.
#[utoipa::path(context_path = "/api/v1", tag = "files", request_body = api::NewArchive,
    responses((status = 201, body = api::Archive), (status = 404, body = api::Problem), (status = 413, body = api::Problem)))]
#[post("/archives")]
pub async fn gather(
    state: web::Data<State>,
    who: Who,
    body: Json<api::NewArchive>,
) -> Result<HttpResponse, Refusal> {
    if body.nodes.is_empty() {
        return Err(refusals::NOTHING_CHOSEN.of("No file or folder is named."));
    }
    let at = match &body.at {
        Some(at) => times::moment(&state.engine, at).await?,
        None => state.engine.history().now_moment().await?,
    };
    let format = format(&body.format)?;
    let wanted = Wanted { nodes: body.nodes.iter().map(|n| NodeId(*n)).collect(), at, format };
    let chain = state.engine.history().check_past(&who.actor, wanted.nodes[0], at).await?;
    let name = match (wanted.nodes.len(), chain.get(1)) {
        (1, _) => title(&state, &chain[0]),
        // Named after the folder in which they lie, where that may be known.
        (n, Some(parent)) if state.engine.history().check_past(&who.actor, parent.node, at).await.is_ok() => {
            format!("{}, {n} items", title(&state, parent))
        }
        (n, _) => format!("{n} items"),
    };
    let (bytes, files, left_out) = archive::measure(&state, &Reader::from(&who), &wanted).await?;
    let id = new_secret()?[..32].to_string();
    state.archives.keep(&id, who.account.id, wanted, state.engine.now_ms());
    Ok(HttpResponse::Created().json(api::Archive {
        address: format!(
            "/api/v1/archives/{id}/{}.{}",
            crate::transfer::send::encode_name(&name),
            format.word()
        ),
        name: format!("{name}.{}", format.word()),
        bytes,
        files,
        left_out,
    }))
}

/// An archive that was gathered; with ranges.
#[utoipa::path(get, context_path = "/api/v1", path = "/archives/{id}/{name}", tag = "files",
    params(("id" = String, Path), ("name" = String, Path)),
    responses((status = 200, description = "The archive"), (status = 206, description = "A range of it"),
        (status = 404, body = api::Problem)))]
#[route("/archives/{id}/{name}", method = "GET", method = "HEAD")]
pub async fn fetch_gathered(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
    path: web::Path<(String, String)>,
) -> Result<HttpResponse, Refusal> {
    let (id, name) = path.into_inner();
    let wanted = state
        .archives
        .kept(&id, who.account.id, state.engine.now_ms())
        .ok_or_else(|| StoreError::NotFound("The archive".into()))?;
    let stem = name.rsplit_once('.').map_or(name.as_str(), |(stem, _)| stem).to_string();
    archive::answer(&request, &state, &Reader::from(&who), wanted, &stem).await
}

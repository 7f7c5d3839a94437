//! Files and folders by their id: facts, lists now and then, changes, history.

use crate::dto::node::{self, at_in};
use crate::http::body::Json;
use crate::http::conditions::{KnownHeaders, RequestHeader, known, of_write, seen};
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times::{self, show};
use crate::state::State;
use crate::state::sessions::Who;
use crate::transfer::reader::Reader;
use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse, delete, get, patch, post, route, web};
use yellow_attic_api as api;
use yellow_attic_core::conditions::RequestId;
use yellow_attic_core::rights::Level;
use yellow_attic_core::{Name, NodeId, ShelfPath};
use yellow_attic_store::ops::together::OneMove;
use yellow_attic_store::{Place, Row, Sort, StoreError};

/// So many moves are one change at most.
const MOST_MOVES: usize = 1_000;

async fn facts_of(
    state: &State,
    who: &Who,
    mut node: api::Node,
    chain: &[&Row],
    level: Option<Level>,
) -> Result<api::Facts, Refusal> {
    let mut way = state.engine.files().way_of(&who.actor, chain).await?;
    if let (Some((_, name)), true) = (way.steps.pop(), node.parent.is_none()) {
        node.name = name;
    }
    if way.steps.is_empty() {
        // What is above is not to be known, not even that there is something.
        node.parent = None;
    }
    Ok(api::Facts {
        node,
        path: way.path,
        way: way.steps.into_iter().map(|(id, name)| api::Step { id: id.0, name }).collect(),
        level: level.map_or("", Level::word).to_string(),
        shelf: way.shelf,
    })
}

async fn present_facts(state: &State, who: &Who, node: NodeId) -> Result<api::Facts, Refusal> {
    let chain = state.engine.files().chain(&who.actor, node, Level::View).await?;
    let shown = node::present(state, who, &chain[0]).await?;
    let level = state.engine.grants().level(&who.actor, &chain);
    let chain: Vec<&Row> = chain.iter().map(|r| &**r).collect();
    facts_of(state, who, shown, &chain, level).await
}

async fn past_facts(state: &State, who: &Who, node: NodeId, at: &str) -> Result<api::Facts, Refusal> {
    let at = times::moment(&state.engine, at).await?;
    let chain = state.engine.history().check_past(&who.actor, node, at).await?;
    let names = state.names_for(who).await;
    let level = match state.engine.files().chain(&who.actor, node, Level::View).await {
        Ok(now) => state.engine.grants().level(&who.actor, &now),
        Err(_) => Some(Level::View),
    };
    let above: Vec<&Row> = chain.iter().collect();
    facts_of(state, who, node::node(&chain[0], None, &names), &above, level).await
}

fn facts_answer(found: &api::Facts) -> HttpResponse {
    let mut answer = HttpResponse::Ok();
    if let Some(tag) = &found.node.etag {
        answer.insert_header((header::ETAG, tag.as_str()));
    }
    answer.json(found)
}

/// What stands, or stood, at a place.
#[utoipa::path(context_path = "/api/v1", tag = "nodes", params(api::PlaceQuery),
    responses((status = 200, body = api::Facts), (status = 404, body = api::Problem)))]
#[get("/place")]
pub async fn resolve(
    state: web::Data<State>,
    who: Who,
    query: web::Query<api::PlaceQuery>,
) -> Result<HttpResponse, Refusal> {
    let path = ShelfPath::parse(&query.path).map_err(StoreError::from)?;
    let found = match &query.at {
        None => {
            let row = state.engine.files().resolve(&who.actor, &path.shelf, &path.names).await?;
            present_facts(&state, &who, row.node).await?
        }
        Some(at) => {
            let moment = times::moment(&state.engine, at).await?;
            let row = state.engine.files().resolve_at(&who.actor, &path.shelf, &path.names, moment).await?;
            past_facts(&state, &who, row.node, &moment.token()).await?
        }
    };
    Ok(facts_answer(&found))
}

/// The facts of a node.
#[utoipa::path(context_path = "/api/v1", tag = "nodes", params(("node" = i64, Path), api::StateQuery),
    responses((status = 200, body = api::Facts), (status = 404, body = api::Problem)))]
#[get("/nodes/{node}")]
pub async fn facts(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    query: web::Query<api::StateQuery>,
) -> Result<HttpResponse, Refusal> {
    let found = match &query.at {
        None => present_facts(&state, &who, NodeId(*path)).await?,
        Some(at) => past_facts(&state, &who, NodeId(*path), at).await?,
    };
    Ok(facts_answer(&found))
}

/// The entries of a folder, a page at a time; as it is, or as it was.
#[utoipa::path(context_path = "/api/v1", tag = "nodes", params(("node" = i64, Path), api::ListQuery),
    responses((status = 200, body = api::Entries), (status = 400, body = api::Problem), (status = 404, body = api::Problem)))]
#[get("/nodes/{node}/entries")]
pub async fn entries(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    query: web::Query<api::ListQuery>,
) -> Result<HttpResponse, Refusal> {
    let word = |name: &str, value: &str, wanted: &str| {
        refusals::WORD_UNKNOWN.with(&format!("{name}={value} is unknown."), &format!("Choose {wanted}."))
    };
    let sort = match query.sort.as_deref() {
        None | Some("name") => Sort::Name,
        Some("size") => Sort::Size,
        Some("changed") => Sort::Changed,
        Some(other) => return Err(word("sort", other, "name, size or changed")),
    };
    let down = match query.order.as_deref() {
        None | Some("up") => false,
        Some("down") => true,
        Some(other) => return Err(word("order", other, "up or down")),
    };
    let limit = query.limit.unwrap_or(200);
    if !(1..=1000).contains(&limit) {
        return Err(word("limit", &limit.to_string(), "1 to 1000"));
    }
    let node = NodeId(*path);
    let page = match &query.at {
        None => {
            state.engine.files().list(&who.actor, node, sort, down, limit, query.cursor.as_deref()).await?
        }
        Some(_) if sort != Sort::Name || down => {
            return Err(refusals::PAST_BY_NAME.of("A list of the past comes by name."));
        }
        Some(at) => {
            let at = times::moment(&state.engine, at).await?;
            state.engine.history().list_at(&who.actor, node, at, limit, query.cursor.as_deref()).await?
        }
    };
    let names = state.names_for(&who).await;
    // Locks are of the present alone.
    let locks = match query.at.is_none() && state.engine.files().has_locks() {
        true => state.engine.files().locks_by_node(),
        false => Default::default(),
    };
    let above = match locks.is_empty() {
        true => None,
        false => {
            let way = state.engine.files().way(node).await?;
            state.engine.files().locks_over(&way).into_iter().find(|h| h.lock.deep)
        }
    };
    let shown = page
        .items
        .iter()
        .map(|entry| api::Node {
            since_then: entry.since_then.map(node::since_then),
            given: node::given(&state, &who, &entry.row),
            locked: locks
                .get(&entry.row.node)
                .and_then(|l| l.first())
                .or(above.as_ref())
                .map(|h| node::lock(&who, &names, h)),
            ..node::node(&entry.row, entry.folder.as_ref(), &names)
        })
        .collect();
    Ok(HttpResponse::Ok().json(api::Entries { entries: shown, next: page.next }))
}

fn name(text: &str) -> Result<Name, Refusal> {
    Ok(Name::new(text).map_err(StoreError::from)?)
}

/// Makes a folder in a folder.
#[utoipa::path(context_path = "/api/v1", tag = "nodes", params(("node" = i64, Path), RequestHeader), request_body = api::NewFolder,
    responses((status = 201, body = api::Node), (status = 409, body = api::Problem)))]
#[post("/nodes/{node}/folders")]
pub async fn make_folder(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    body: Json<api::NewFolder>,
) -> Result<HttpResponse, Refusal> {
    let known = known(&request)?;
    if let Some((shown, _)) = node::answered(&state, &who, &known).await? {
        return Ok(HttpResponse::Created().json(shown));
    }
    let done =
        state.engine.files().make_folder_as(&who.actor, NodeId(*path), name(&body.name)?, known).await?;
    let row = done.row.ok_or_else(|| Refusal::not_found("The folder"))?;
    Ok(HttpResponse::Created().json(node::present(&state, &who, &row).await?))
}

async fn target(
    state: &State,
    who: &Who,
    node: NodeId,
    body: &api::Target,
) -> Result<(NodeId, Name), Refusal> {
    let chain = state.engine.files().chain(&who.actor, node, Level::View).await?;
    let parent = match (body.parent, chain[0].parent) {
        (Some(parent), _) => NodeId(parent),
        (None, Some(parent)) => parent,
        (None, None) => return Err(StoreError::ShelfTop.into()),
    };
    let wanted = match &body.name {
        Some(text) => name(text)?,
        None => name(chain[0].name())?,
    };
    Ok((parent, wanted))
}

/// Moves or renames a node. Costs the same for a file and for a folder of any size.
#[utoipa::path(context_path = "/api/v1", tag = "nodes", params(("node" = i64, Path), KnownHeaders), request_body = api::Target,
    responses((status = 200, body = api::Node), (status = 409, body = api::Problem), (status = 412, body = api::Problem)))]
#[patch("/nodes/{node}")]
pub async fn change(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    body: Json<api::Target>,
) -> Result<HttpResponse, Refusal> {
    let node = NodeId(*path);
    let mut conditions = of_write(&request)?;
    if let Some((shown, _)) = node::answered(&state, &who, &conditions.known).await? {
        return Ok(HttpResponse::Ok().json(shown));
    }
    conditions.known.onto = match &body.onto {
        Some(onto) => Some((NodeId(onto.node), seen(&onto.seen)?)),
        None => None,
    };
    let modified =
        match &body.modified {
            None => None,
            Some(text) => Some(times::read(text).ok_or_else(|| {
                refusals::TIME_MALFORMED.of(&format!("modified={text} is no RFC 3339 time."))
            })?),
        };
    let mut row = None;
    let only_facts = modified.is_some() || body.executable.is_some();
    if !only_facts || body.parent.is_some() || body.name.is_some() {
        let (parent, name) = target(&state, &who, node, &body).await?;
        let files = state.engine.files();
        row = files.move_node(&who.actor, node, parent, name, body.replace, conditions).await?.row;
    }
    if only_facts {
        let (node, files) = (row.as_ref().map_or(node, |row| row.node), state.engine.files());
        if let Some(modified) = modified {
            files.set_time_of(&who.actor, node, modified).await?;
        }
        if let Some(executable) = body.executable {
            files.set_executable(&who.actor, node, executable).await?;
        }
        row = state.engine.files().chain(&who.actor, node, Level::View).await?.into_iter().next();
    }
    let row = row.ok_or_else(|| Refusal::not_found("The file or folder"))?;
    Ok(HttpResponse::Ok().json(node::present(&state, &who, &row).await?))
}

/// Moves and renames many things as one change: all of them, at one moment, or none.
#[utoipa::path(context_path = "/api/v1", tag = "nodes", params(RequestHeader), request_body = api::Moves,
    responses((status = 200, body = api::MovedTogether), (status = 400, body = api::Problem), (status = 409, body = api::Problem), (status = 412, body = api::Problem)))]
#[post("/moves")]
pub async fn move_together(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
    body: Json<api::Moves>,
) -> Result<HttpResponse, Refusal> {
    if body.moves.is_empty() || body.moves.len() > MOST_MOVES {
        return Err(refusals::TOO_MANY_MOVES.of(&format!("1 to {MOST_MOVES} moves are one change.")));
    }
    let mut known = known(&request)?;
    // The same name with other moves is another request: the answer tells of those that were asked for, and no others.
    known.request = known.request.map(|id| {
        RequestId::of(&format!("{:?} {}", id.0, serde_json::to_string(&body.moves).unwrap_or_default()))
    });
    // Answered before, nothing is looked at but what was answered.
    let again = state.engine.files().answered(&who.actor, &known).await?.is_some();
    let mut moves = Vec::with_capacity(body.moves.len());
    for one in &body.moves {
        let wanted = api::Target { parent: one.parent, name: one.name.clone(), ..api::Target::default() };
        let node = NodeId(one.node);
        let (parent, name) = match again {
            true => (node, name("again")?),
            false => target(&state, &who, node, &wanted).await?,
        };
        let seen = one.seen.as_deref().map(seen).transpose()?;
        moves.push(OneMove { node, parent, name, seen });
    }
    let request = known.request;
    match state.engine.files().move_together(&who.actor, moves, request).await? {
        Ok(rows) => {
            let names = state.names_for(&who).await;
            let nodes = rows.iter().map(|row| node::node(row, None, &names)).collect();
            Ok(HttpResponse::Ok().json(api::MovedTogether { nodes }))
        }
        Err((which, e)) => {
            Err(Refusal::from(e).about(&format!("The move of {} is refused", body.moves[which].node)))
        }
    }
}

/// Copies a node, with all beneath. A folder's copy appears when it is complete.
#[utoipa::path(context_path = "/api/v1", tag = "nodes", params(("node" = i64, Path)), request_body = api::Target,
    responses((status = 201, body = api::Node), (status = 409, body = api::Problem)))]
#[post("/nodes/{node}/copy")]
pub async fn copy(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    body: Json<api::Target>,
) -> Result<HttpResponse, Refusal> {
    let node = NodeId(*path);
    let (parent, name) = target(&state, &who, node, &body).await?;
    let (engine, actor) = (state.engine.clone(), who.actor.clone());
    // On the engine's own runtime: it goes on if the caller stops waiting.
    let copied =
        state.engine.runtime().spawn(async move { engine.history().copy(&actor, node, parent, name).await });
    let done = copied.await.map_err(|_| StoreError::Stopping)??;
    let row = done.row.ok_or_else(|| Refusal::not_found("The copy"))?;
    Ok(HttpResponse::Created().json(node::present(&state, &who, &row).await?))
}

/// Removes a node, with all beneath. It stays in the past, and can be restored.
#[utoipa::path(context_path = "/api/v1", tag = "nodes", params(("node" = i64, Path), KnownHeaders),
    responses((status = 204, description = "The header Moment names the last moment at which it was there"),
        (status = 412, body = api::Problem)))]
#[delete("/nodes/{node}")]
pub async fn remove(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    let done = state.engine.files().remove(&who.actor, NodeId(*path), of_write(&request)?).await?;
    let before = yellow_attic_core::Moment(done.moment.0 - 1);
    Ok(HttpResponse::NoContent().insert_header(("Moment", before.token())).finish())
}

/// Gives a file an earlier state, or brings back something removed.
#[utoipa::path(context_path = "/api/v1", tag = "nodes", params(("node" = i64, Path)), request_body = api::Restore,
    responses((status = 200, body = api::Node), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
#[post("/nodes/{node}/restore")]
pub async fn restore(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    body: Json<api::Restore>,
) -> Result<HttpResponse, Refusal> {
    let node = NodeId(*path);
    // Before anything is looked at: of what may not be seen, nothing is told.
    state.engine.history().states(&who.actor, node, 1).await?;
    let at = match &body.at {
        Some(at) => Some(times::moment(&state.engine, at).await?),
        None => None,
    };
    let place = match (body.parent, &body.name) {
        (None, None) => Place::Last,
        (parent, wanted) => {
            let states = state.engine.history().states(&who.actor, node, 1).await?;
            let last =
                states.first().map(|s| &s.row).ok_or_else(|| Refusal::not_found("The file or folder"))?;
            let parent = parent.map(NodeId).or(last.parent).ok_or(StoreError::ShelfTop)?;
            Place::At(parent, name(wanted.as_deref().unwrap_or(last.name()))?)
        }
    };
    if let Some(seen) = &body.seen {
        let seen = times::moment(&state.engine, seen).await?;
        if let Some(now) =
            state.engine.history().state_at(node, state.engine.history().now_moment().await?).await?
            && now.since > seen
        {
            return Err(StoreError::NewerState { name: now.name().into(), changed: show(now.at) }.into());
        }
    }
    let done = match (body.with_folders, &place) {
        (true, Place::Last) => state.engine.history().restore_with_folders(&who.actor, node, at).await?,
        _ => state.engine.history().restore(&who.actor, node, at, place).await?,
    };
    // Links to what came back sleep until they are confirmed.
    state.openings_changed();
    let row = done.row.ok_or_else(|| Refusal::not_found("What was restored"))?;
    Ok(HttpResponse::Ok().json(node::present(&state, &who, &row).await?))
}

/// The history of a node, also of one that was removed: newest state first, at most 1000.
#[utoipa::path(context_path = "/api/v1", tag = "nodes", params(("node" = i64, Path)),
    responses((status = 200, body = api::History), (status = 404, body = api::Problem)))]
#[get("/nodes/{node}/history")]
pub async fn history(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    let states = state.engine.history().states(&who.actor, NodeId(*path), 1000).await?;
    let names = state.names_for(&who).await;
    let fates = state.engine.history().fates_of(NodeId(*path)).await?;
    let labels = state.engine.history().named_versions(NodeId(*path)).await?;
    let mut told = Vec::with_capacity(states.len());
    for s in &states {
        told.push(api::State {
            label: labels.iter().find(|l| l.since == s.row.since).map(|l| l.label.clone()),
            kept: fates
                .get(&s.row.since.0)
                .filter(|_| s.ended.is_some())
                .map(|f| crate::dto::history::kept(*f)),
            node: node::seen(&state, &who, &s.row, None, &names).await?,
            ended: s.ended.map(|(_, at, _)| show(at)),
            ended_how: s.ended.map(|(_, _, how)| how.word().to_string()),
        });
    }
    Ok(HttpResponse::Ok().json(api::History { states: told }))
}

/// What the time strip of a folder is drawn from.
#[utoipa::path(context_path = "/api/v1", tag = "nodes", params(("node" = i64, Path)),
    responses((status = 200, body = api::Activity), (status = 404, body = api::Problem)))]
#[get("/nodes/{node}/activity")]
pub async fn activity(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    let node = NodeId(*path);
    let days = state.engine.history().activity(&who.actor, node).await?;
    let turns = state.engine.history().turning_points(&who.actor, node).await?;
    Ok(HttpResponse::Ok().json(api::Activity {
        days: days.into_iter().map(|(day, changes)| api::Day { day, changes }).collect(),
        turns: turns.into_iter().map(|(n, at)| api::Turn { moment: n.token(), at: show(at) }).collect(),
    }))
}

/// The bytes of a file, as they are or were; with ranges.
#[utoipa::path(get, context_path = "/api/v1", path = "/nodes/{node}/content", tag = "files",
    params(("node" = i64, Path), api::StateQuery),
    responses((status = 200, description = "The bytes"), (status = 206, description = "A range of them"),
        (status = 404, body = api::Problem), (status = 416, description = "Nothing lies in the range")))]
#[route("/nodes/{node}/content", method = "GET", method = "HEAD")]
pub async fn content(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    let row = row_at(&request, &state, &who, NodeId(*path)).await?;
    crate::transfer::send::answer(&request, &state, &Reader::from(&who), &row).await
}

/// A small picture of a picture: at most 320 pixels a side. `of`, the ETag of the state, lets it be kept.
#[utoipa::path(context_path = "/api/v1", tag = "files", params(("node" = i64, Path), api::StateQuery),
    responses((status = 200, description = "image/jpeg or image/png"), (status = 404, body = api::Problem)))]
#[get("/nodes/{node}/thumbnail")]
pub async fn thumbnail(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    let row = row_at(&request, &state, &who, NodeId(*path)).await?;
    crate::transfer::thumbnails::answer(&request, &state, &row).await
}

/// The state of a node that a request asks for: present, or at a moment.
async fn row_at(request: &HttpRequest, state: &State, who: &Who, node: NodeId) -> Result<Row, Refusal> {
    let Some(at) = at_in(request) else {
        return Ok((*state.engine.files().chain(&who.actor, node, Level::View).await?[0]).clone());
    };
    let at = times::moment(&state.engine, &at).await?;
    let chain = state.engine.history().check_past(&who.actor, node, at).await?;
    chain.into_iter().next().ok_or_else(|| Refusal::not_found("The file"))
}

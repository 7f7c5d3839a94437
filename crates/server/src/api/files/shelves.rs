//! Shelves, and what changed on them.

use crate::dto::directory::Directory;
use crate::dto::grants::gives;
use crate::dto::node;
use crate::dto::shelf::{change_to_api, shared_to_api, shelf_name};
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times::show;
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, get, patch, post, web};
use yellow_attic_api as api;
use yellow_attic_core::proof::Deed;
use yellow_attic_core::rights::{Level, Subject};
use yellow_attic_core::rules::{Rule, Value};
use yellow_attic_core::{Moment, Name, NodeId};
use yellow_attic_store::people::accounts::Role;
use yellow_attic_store::{NewShelf, Row, Shelf, ShelfKind};

/// How many of the files changed last stand on a shelf's board.
const ON_THE_BOARD: usize = 12;

/// The shelves that the caller may enter.
#[utoipa::path(context_path = "/api/v1", tag = "shelves", responses((status = 200, body = api::Shelves)))]
#[get("/shelves")]
pub async fn list(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    let people = Directory::read(&state).await?;
    let mut shelves = Vec::new();
    for (shelf, level) in state.engine.files().shelves_for(&who.actor) {
        shelves.push(show_shelf(&state, &who, &people, &shelf, level).await?);
    }
    let mut given = Vec::new();
    for (chain, level, grants) in state.engine.grants().given(&who.actor).await? {
        let way: Vec<&Row> = chain.iter().map(|r| &**r).collect();
        let way = state.engine.files().way_of(&who.actor, &way).await?;
        let node = node::present(&state, &who, &chain[0]).await?;
        let last = grants.last();
        let alone = grants.iter().find(|g| g.subject == Subject::Account(who.account.id));
        given.push(api::GivenPlace {
            node,
            path: way.path,
            level: level.word().to_string(),
            by: last.and_then(|g| g.made_by).and_then(|a| people.name(a)),
            until: last.and_then(|g| g.until).map(show),
            message: last.map(|g| g.message.clone()).unwrap_or_default(),
            grant: alone.map(|g| g.id.0),
        });
    }
    // How much room the machine has is nothing for people from outside.
    let (disk_free, disk_total) = match who.account.role {
        Role::Guest => (0, 0),
        _ if who.actor.scope.is_some() => (0, 0),
        _ => state.engine.disk_space()?,
    };
    Ok(HttpResponse::Ok().json(api::Shelves { shelves, given, disk_free, disk_total }))
}

async fn show_shelf(
    state: &State,
    who: &Who,
    people: &Directory,
    shelf: &Shelf,
    level: Level,
) -> Result<api::Shelf, Refusal> {
    let names = state.names_for(who).await;
    let note = state.engine.space().shelf_notes().await?.remove(&shelf.id).unwrap_or_default();
    let folder = state.engine.files().sums(&who.actor, shelf.root).await?;
    let latest = state.engine.files().latest(&who.actor, shelf, ON_THE_BOARD).await?;
    let let_in = state.engine.grants().let_in(shelf);
    let people = match shelf.kind {
        ShelfKind::Home if let_in.is_empty() => "yours alone".to_string(),
        _ => {
            let owners = match shelf.kind {
                ShelfKind::Shared => state.engine.space().owners_of(shelf),
                ShelfKind::Home => Vec::new(),
            };
            let owners = owners.into_iter().filter_map(|o| people.name(o));
            let mut words: Vec<String> = let_in.iter().map(|s| people.word(*s).1).chain(owners).collect();
            words.sort();
            words.dedup();
            let shared = words.join(", ");
            if shelf.kind == ShelfKind::Home { format!("yours, open to {shared}") } else { shared }
        }
    };
    let mut shown_latest = Vec::with_capacity(latest.len());
    for row in &latest {
        shown_latest.push(node::seen(state, who, row, None, &names).await?);
    }
    Ok(api::Shelf {
        id: shelf.id.0,
        name: match shelf.kind {
            ShelfKind::Home => "home".to_string(),
            ShelfKind::Shared => shelf.name.clone(),
        },
        title: match shelf.kind {
            ShelfKind::Home => "Home".to_string(),
            ShelfKind::Shared => shelf.name.clone(),
        },
        kind: match shelf.kind {
            ShelfKind::Home => "home",
            ShelfKind::Shared => "shared",
        }
        .to_string(),
        root: shelf.root.0,
        level: level.word().to_string(),
        people,
        note,
        quota: state.engine.space().fullness(shelf).await?.line,
        sums: folder.as_ref().map(node::sums).unwrap_or_default(),
        changed: show(folder.map_or(0, |f| f.changed_at)),
        latest: shown_latest,
    })
}

/// Makes a shared shelf. Its maker owns it, unless others are named.
#[utoipa::path(context_path = "/api/v1", tag = "shelves", request_body = api::NewShelf,
    responses((status = 201, body = api::Shelf), (status = 403, body = api::Problem), (status = 409, body = api::Problem)))]
#[post("/shelves")]
pub async fn make(
    state: web::Data<State>,
    who: Who,
    body: Json<api::NewShelf>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let name = shelf_name(&body.name)?;
    let people = Directory::read(&state).await?;
    let mut grants = Vec::new();
    for person in &body.people {
        grants.push((people.subject(&person.to)?, gives(&person.level)?));
    }
    let owners = body.owners.iter().map(|o| people.account(o)).collect::<Result<Vec<_>, _>>()?;
    let quota = body.quota.as_deref().map(crate::dto::quota::quota).transpose()?;
    who.need(&state, Deed::MakeShelf)?;
    let owner = owners.first().copied().unwrap_or(who.account.id);
    let new = NewShelf { kind: ShelfKind::Shared, name, owner: Some(owner), grants };
    let shelf = state.engine.space().make_shelf(&who.actor, new).await?;
    let note = Some(body.note.trim().to_string()).filter(|n| !n.is_empty());
    if note.is_some() || quota.is_some() || owners.len() > 1 {
        let owners = Some(owners).filter(|o| o.len() > 1);
        state.engine.space().change_shelf(&who.actor, &shelf, note, quota, owners).await?;
    }
    Ok(HttpResponse::Created().json(show_shelf(&state, &who, &people, &shelf, Level::Manage).await?))
}

/// The shared shelf with this node at its top, whoever may enter it.
fn shared(state: &State, root: i64) -> Result<std::sync::Arc<Shelf>, Refusal> {
    let all = state.engine.shelves();
    let found = all.into_iter().find(|s| s.kind == ShelfKind::Shared && s.root == NodeId(root));
    found.ok_or_else(|| Refusal::not_found("The shelf"))
}

/// All shared shelves, with their owners and quotas. For administrators; what is on them is not shown.
#[utoipa::path(context_path = "/api/v1", tag = "shelves", responses((status = 200, body = api::SharedShelves), (status = 403, body = api::Problem)))]
#[get("/desk/shelves")]
pub async fn list_shared(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let people = Directory::read(&state).await?;
    let mut shelves = Vec::new();
    for shelf in state.engine.shelves().into_iter().filter(|s| s.kind == ShelfKind::Shared) {
        shelves.push(shared_to_api(&state, &people, &shelf).await?);
    }
    shelves.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(HttpResponse::Ok().json(api::SharedShelves { shelves }))
}

/// Says what a shared shelf is for, who owns it, and how much it may hold.
#[utoipa::path(context_path = "/api/v1", tag = "shelves", params(("root" = i64, Path)), request_body = api::ShelfChange,
    responses((status = 200, body = api::SharedShelf), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[patch("/shelves/{root}")]
pub async fn change_shelf(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    body: Json<api::ShelfChange>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let shelf = shared(&state, *path)?;
    let people = Directory::read(&state).await?;
    let owners = match &body.owners {
        Some(names) => Some(names.iter().map(|o| people.account(o)).collect::<Result<Vec<_>, _>>()?),
        None => None,
    };
    let quota = body.quota.as_deref().map(crate::dto::quota::quota).transpose()?;
    who.need(&state, Deed::ChangeShelf)?;
    state.engine.space().change_shelf(&who.actor, &shelf, body.note.clone(), quota, owners).await?;
    Ok(HttpResponse::Ok().json(shared_to_api(&state, &people, &shelf).await?))
}

/// A folder becomes a shared shelf, without copying. Whoever could enter it still can.
#[utoipa::path(context_path = "/api/v1", tag = "shelves", params(("node" = i64, Path)), request_body = api::Raise,
    responses((status = 201, body = api::SharedShelf), (status = 403, body = api::Problem), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
#[post("/nodes/{node}/raise")]
pub async fn raise(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    body: Json<api::Raise>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let name = shelf_name(&body.name)?;
    state.engine.files().chain(&who.actor, NodeId(*path), Level::Manage).await?;
    who.need(&state, Deed::RaiseShelf)?;
    let shelf = state.engine.space().raise_folder(&who.actor, NodeId(*path), name).await?;
    let people = Directory::read(&state).await?;
    Ok(HttpResponse::Created().json(shared_to_api(&state, &people, &shelf).await?))
}

/// A shared shelf becomes a folder, without copying. Its owners may manage the folder.
#[utoipa::path(context_path = "/api/v1", tag = "shelves", params(("root" = i64, Path)), request_body = api::Lower,
    responses((status = 200, body = api::Node), (status = 403, body = api::Problem), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
#[post("/shelves/{root}/lower")]
pub async fn lower(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    body: Json<api::Lower>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let shelf = shared(&state, *path)?;
    state.engine.files().chain(&who.actor, shelf.root, Level::Manage).await?;
    let name = Name::new(body.name.trim()).map_err(yellow_attic_store::StoreError::from)?;
    who.need(&state, Deed::LowerShelf)?;
    let done = state.engine.space().lower_shelf(&who.actor, shelf.id, NodeId(body.parent), name).await?;
    let row = done.row.ok_or_else(|| Refusal::not_found("The folder"))?;
    Ok(HttpResponse::Ok().json(node::present(&state, &who, &row).await?))
}

/// What changed on the shelf with this node at its top since a moment, oldest first.
#[utoipa::path(context_path = "/api/v1", tag = "shelves", params(("root" = i64, Path), api::ChangesQuery),
    responses((status = 200, body = api::Changes), (status = 400, body = api::Problem)))]
#[get("/shelves/{root}/changes")]
pub async fn changes(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    query: web::Query<api::ChangesQuery>,
) -> Result<HttpResponse, Refusal> {
    let chain = state.engine.files().chain(&who.actor, NodeId(*path), Level::View).await?;
    let shelf =
        state.engine.shelf_of(&chain[chain.len() - 1]).ok_or_else(|| Refusal::not_found("The shelf"))?;
    if who.actor.device.is_some() {
        let closed = state.engine.people().rules_of(who.account.id, |rules, groups| {
            rules.decide_on(Rule::SyncClosed, groups, Some(shelf.id)).value == Value::Switch(true)
        });
        if closed {
            return Err(refusals::SHELF_NOT_SYNCED
                .of("A rule says that folders of this shelf are not kept the same on computers."));
        }
    }
    let since = match &query.since {
        None => Moment(0),
        Some(token) => Moment::from_token(token).ok_or_else(|| {
            refusals::MOMENT_MALFORMED.with(
                &format!("\"{token}\" is no moment's token."),
                "Take it from \"upto\" of the answer before.",
            )
        })?,
    };
    if query.timeline.as_ref().is_some_and(|known| known != state.engine.timeline()) {
        return Err(refusals::OTHER_TIMELINE.of("This is another timeline than the one that you followed."));
    }
    state.engine.files().check_known_since(since).await?;
    let limit = query.limit.unwrap_or(500);
    let (found, upto, more) = state.engine.files().changes(&who.actor, &shelf, since, limit).await?;
    let names = state.names_for(&who).await;
    let mut told = Vec::with_capacity(found.len());
    for change in &found {
        told.push(change_to_api(&state, &who, change, &names).await?);
    }
    let mut rollbacks = Vec::new();
    for r in state.engine.history().rollbacks_since(&who.actor, shelf.id, since).await? {
        let until = match r.ended_at {
            Some(at) => Some(state.engine.history().moment_at(at).await?.token()),
            None => None,
        };
        rollbacks.push(api::FeedRollback {
            id: r.id,
            node: r.node.0,
            to: r.goal.token(),
            begun: r.begun.token(),
            until,
        });
    }
    Ok(HttpResponse::Ok().json(api::Changes {
        changes: told,
        upto: upto.token(),
        more,
        timeline: state.engine.timeline().to_string(),
        rollbacks,
    }))
}

//! Shelves, and what changed on them.

use super::people::Directory;
use super::rights::gives;
use super::shown;
use crate::app::State;
use crate::auth::Who;
use crate::problem::Refusal;
use crate::times::show;
use actix_web::{HttpResponse, get, post, web};
use yellow_attic_api as api;
use yellow_attic_core::rights::{Level, Subject};
use yellow_attic_core::{Moment, Name, NodeId};
use yellow_attic_store::places::GIVEN;
use yellow_attic_store::{Change, NewShelf, Row, Shelf, ShelfKind};

/// How many of the files changed last stand on a shelf's board.
const ON_THE_BOARD: usize = 12;

/// The shelves that the caller may enter.
#[utoipa::path(context_path = "/api/v1", tag = "shelves", responses((status = 200, body = api::Shelves)))]
#[get("/shelves")]
pub async fn list(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    let people = Directory::read(&state).await?;
    let mut shelves = Vec::new();
    for (shelf, level) in state.engine.shelves_for(&who.actor) {
        shelves.push(show_shelf(&state, &who, &people, &shelf, level).await?);
    }
    let mut given = Vec::new();
    for (chain, level, grants) in state.engine.given(&who.actor).await? {
        let way: Vec<&Row> = chain.iter().map(|r| &**r).collect();
        let way = state.engine.way_of(&who.actor, &way).await?;
        let node = shown::present(&state, &who, &chain[0]).await?;
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
    let (disk_free, disk_total) = state.engine.space()?;
    Ok(HttpResponse::Ok().json(api::Shelves { shelves, given, disk_free, disk_total }))
}

async fn show_shelf(
    state: &State,
    who: &Who,
    people: &Directory,
    shelf: &Shelf,
    level: Level,
) -> Result<api::Shelf, Refusal> {
    let names = state.names.get(&state.engine).await;
    let folder = state.engine.sums(&who.actor, shelf.root).await?;
    let latest = state.engine.latest(&who.actor, shelf, ON_THE_BOARD).await?;
    let let_in = state.engine.let_in(shelf);
    let people = match shelf.kind {
        ShelfKind::Home if let_in.is_empty() => "yours alone".to_string(),
        _ => {
            let owner = shelf.owner.filter(|_| shelf.kind == ShelfKind::Shared).and_then(|o| people.name(o));
            let mut words: Vec<String> = let_in.iter().map(|s| people.word(*s).1).chain(owner).collect();
            words.sort();
            words.dedup();
            let shared = words.join(", ");
            if shelf.kind == ShelfKind::Home { format!("yours, open to {shared}") } else { shared }
        }
    };
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
        sums: folder.as_ref().map(shown::sums).unwrap_or_default(),
        changed: show(folder.map_or(0, |f| f.changed_at)),
        latest: latest.iter().map(|row| shown::node(row, None, &names)).collect(),
    })
}

/// Makes a shared shelf. Its maker owns it.
#[utoipa::path(context_path = "/api/v1", tag = "shelves", request_body = api::NewShelf,
    responses((status = 201, body = api::Shelf), (status = 403, body = api::Problem), (status = 409, body = api::Problem)))]
#[post("/shelves")]
pub async fn make(
    state: web::Data<State>,
    who: Who,
    body: web::Json<api::NewShelf>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let name = Name::new(body.name.trim()).map_err(yellow_attic_store::StoreError::from)?;
    if ["home", GIVEN].contains(&name.as_str()) || name.as_str().contains(':') {
        return Err(Refusal::bad(
            "shelf_name_cannot_be",
            "A shelf cannot be named \"home\" or \"given\", and its name cannot contain \":\".",
            "Choose another name: it stands before the colon in paths.",
        ));
    }
    let people = Directory::read(&state).await?;
    let mut grants = Vec::new();
    for person in &body.people {
        grants.push((people.subject(&person.to)?, gives(&person.level)?));
    }
    who.need_proof(&state)?;
    let new = NewShelf { kind: ShelfKind::Shared, name, owner: Some(who.account.id), grants };
    let shelf = state.engine.make_shelf(&who.actor, new).await?;
    Ok(HttpResponse::Created().json(show_shelf(&state, &who, &people, &shelf, Level::Manage).await?))
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
    let chain = state.engine.chain(&who.actor, NodeId(*path), Level::View).await?;
    let shelf =
        state.engine.shelf_of(&chain[chain.len() - 1]).ok_or_else(|| Refusal::not_found("The shelf"))?;
    let since = match &query.since {
        None => Moment(0),
        Some(token) => Moment::from_token(token).ok_or_else(|| {
            Refusal::bad(
                "moment_malformed",
                &format!("\"{token}\" is no moment's token."),
                "Take it from \"upto\" of the answer before.",
            )
        })?,
    };
    let limit = query.limit.unwrap_or(500);
    let (found, upto, more) = state.engine.changes(&who.actor, &shelf, since, limit).await?;
    let names = state.names.get(&state.engine).await;
    let told = found.iter().map(|change| shown_change(change, &names)).collect();
    Ok(HttpResponse::Ok().json(api::Changes { changes: told, upto: upto.token(), more }))
}

/// A change as it stands in answers and events.
pub fn shown_change(change: &Change, names: &crate::app::NameMap) -> api::Change {
    let (what, row) = match change {
        Change::Changed(row) => ("changed", row),
        Change::Removed(past) => ("removed", &past.row),
        Change::Arrived(row) => ("arrived", row),
        Change::Left(past) => ("left", &past.row),
    };
    api::Change {
        what: what.to_string(),
        moment: change.moment().token(),
        node: shown::node(row, None, names),
    }
}

//! Shelves, and what changed on them.

use super::shown;
use crate::app::State;
use crate::auth::Who;
use crate::problem::Refusal;
use crate::times::show;
use actix_web::{HttpResponse, get, post, web};
use yellow_attic_api as api;
use yellow_attic_core::rights::{Grant, Level, Subject};
use yellow_attic_core::{Moment, Name, NodeId};
use yellow_attic_store::{Change, NewShelf, Shelf, ShelfKind};

/// How many of the files changed last stand on a shelf's board.
const ON_THE_BOARD: usize = 12;

/// The shelves that the caller may enter.
#[utoipa::path(context_path = "/api/v1", tag = "shelves", responses((status = 200, body = api::Shelves)))]
#[get("/shelves")]
pub async fn list(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    let mut shelves = Vec::new();
    for (shelf, level) in state.engine.shelves_for(&who.actor) {
        shelves.push(show_shelf(&state, &who, &shelf, level).await?);
    }
    let (disk_free, disk_total) = state.engine.space()?;
    Ok(HttpResponse::Ok().json(api::Shelves { shelves, disk_free, disk_total }))
}

async fn show_shelf(state: &State, who: &Who, shelf: &Shelf, level: Level) -> Result<api::Shelf, Refusal> {
    let names = state.names.get(&state.engine).await;
    let folder = state.engine.folder(shelf.root).await?;
    let latest = state.engine.latest(&who.actor, shelf, ON_THE_BOARD).await?;
    let people = match shelf.kind {
        ShelfKind::Home => "yours alone".to_string(),
        ShelfKind::Shared => {
            let mut words: Vec<String> = shelf
                .grants
                .iter()
                .filter_map(|g| match g.subject {
                    Subject::Everyone => Some("everyone".to_string()),
                    Subject::Account(id) => names.accounts.get(&id).cloned(),
                })
                .chain(shelf.owner.and_then(|o| names.accounts.get(&o).cloned()))
                .collect();
            words.sort();
            words.dedup();
            words.join(", ")
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
    if name.as_str() == "home" || name.as_str().contains(':') {
        return Err(Refusal::bad(
            "shelf_name_cannot_be",
            "A shelf cannot be named \"home\", and its name cannot contain \":\".",
            "Choose another name: it stands before the colon in paths.",
        ));
    }
    let mut grants = Vec::new();
    for person in &body.people {
        let level = Level::from_word(&person.level).ok_or_else(|| {
            Refusal::bad(
                "level_unknown",
                &format!("\"{}\" is no level.", person.level),
                "Choose view, add, edit or manage.",
            )
        })?;
        let subject = match person.sign_in.as_str() {
            "*" => Subject::Everyone,
            sign_in => match state.engine.account_named(sign_in).await? {
                Some(account) => Subject::Account(account.id),
                None => return Err(Refusal::not_found(&format!("The account \"{sign_in}\""))),
            },
        };
        grants.push(Grant { subject, level });
    }
    let new = NewShelf { kind: ShelfKind::Shared, name, owner: Some(who.account.id), grants };
    let shelf = state.engine.make_shelf(&who.actor, new).await?;
    Ok(HttpResponse::Created().json(show_shelf(&state, &who, &shelf, Level::Manage).await?))
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

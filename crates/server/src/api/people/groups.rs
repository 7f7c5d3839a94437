//! Groups, as administrators see and change them.

use crate::dto::directory::Directory;
use crate::dto::group::group_to_api;
use crate::dto::quota::quota;
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::words::words;
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, delete, get, patch, post, web};
use yellow_attic_api as api;
use yellow_attic_core::collate::looks;
use yellow_attic_core::proof::Deed;
use yellow_attic_store::people::groups::Group;

/// Groups of a page if nobody says.
const PAGE: usize = 200;
/// Members told of each group in a list.
const FIRST: usize = 8;

async fn one_group(state: &State, name: &str) -> Result<api::Group, Refusal> {
    let all = Directory::read(state).await?;
    Ok(group_to_api(state, &all, all.group(name)?))
}

/// Groups, by pages. For administrators.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(api::GroupsQuery),
    responses((status = 200, body = api::Groups), (status = 400, body = api::Problem), (status = 403, body = api::Problem)))]
#[get("/groups")]
pub async fn list_groups(
    state: web::Data<State>,
    who: Who,
    query: web::Query<api::GroupsQuery>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let all = Directory::read(&state).await?;
    let wanted = words(query.words.as_deref());
    let mut list: Vec<(String, &Group)> = all
        .groups
        .iter()
        .filter(|g| {
            let text = format!("{} {}", g.name, g.note).to_lowercase();
            wanted.iter().all(|w| text.contains(w))
        })
        .map(|g| (looks(&g.name), g))
        .collect();
    list.sort_by(|a, b| a.0.cmp(&b.0));
    let total = list.len();
    let name = format!("groups {:?}", query.words);
    if let Some(cursor) = &query.cursor {
        let last = state.engine.place_of(&who.actor, &name, cursor)?;
        list.retain(|(looks, _)| *looks > last);
    }
    let limit = query.limit.unwrap_or(PAGE).clamp(1, 1000);
    let more = list.len() > limit;
    list.truncate(limit);
    let next = list.last().filter(|_| more).map(|(looks, _)| state.engine.cursor(&who.actor, &name, looks));
    let groups = list
        .into_iter()
        .map(|(_, g)| {
            let mut shown = group_to_api(&state, &all, g);
            shown.members.truncate(FIRST);
            shown
        })
        .collect();
    Ok(HttpResponse::Ok().json(api::Groups { groups, total, next }))
}

/// A group with all its members. For administrators.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(("name" = String, Path)),
    responses((status = 200, body = api::Group), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[get("/groups/{name}")]
pub async fn show_group(
    state: web::Data<State>,
    who: Who,
    path: web::Path<String>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    Ok(HttpResponse::Ok().json(one_group(&state, &path).await?))
}

/// Makes a group.
#[utoipa::path(context_path = "/api/v1", tag = "people", request_body = api::NewGroup,
    responses((status = 201, body = api::Group), (status = 400, body = api::Problem), (status = 409, body = api::Problem)))]
#[post("/groups")]
pub async fn make_group(
    state: web::Data<State>,
    who: Who,
    body: Json<api::NewGroup>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let all = Directory::read(&state).await?;
    let members = body.members.iter().map(|m| all.account(m)).collect::<Result<Vec<_>, _>>()?;
    who.need(&state, Deed::MakeGroup)?;
    let made = state.engine.people().make_group(&who.actor, &body.name, &body.note).await?;
    if !members.is_empty() {
        state.engine.people().change_members(&who.actor, &made, members, Vec::new()).await?;
    }
    Ok(HttpResponse::Created().json(one_group(&state, &made.name).await?))
}

/// Renames a group, says what it is for, changes its members. What was given to it stays given.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(("name" = String, Path)), request_body = api::GroupChange,
    responses((status = 200, body = api::Group), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
#[patch("/groups/{name}")]
pub async fn change_group(
    state: web::Data<State>,
    who: Who,
    path: web::Path<String>,
    body: Json<api::GroupChange>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let all = Directory::read(&state).await?;
    let group = all.group(&path)?;
    let ids = |names: &[String]| names.iter().map(|m| all.account(m)).collect::<Result<Vec<_>, _>>();
    let (add, remove) = (ids(&body.add)?, ids(&body.remove)?);
    who.need(&state, Deed::ChangeGroup)?;
    let quota = body.quota.as_deref().map(quota).transpose()?;
    if body.name.is_some() || body.note.is_some() || quota.is_some() {
        let (name, note) = (body.name.as_deref(), body.note.as_deref());
        state.engine.people().change_group(&who.actor, group.id, name, note, quota).await?;
    }
    if !add.is_empty() || !remove.is_empty() {
        state.engine.people().change_members(&who.actor, group, add, remove).await?;
    }
    let name = body.name.as_deref().unwrap_or(&group.name);
    Ok(HttpResponse::Ok().json(one_group(&state, name).await?))
}

/// Ends a group, and all that was given to it.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(("name" = String, Path)),
    responses((status = 204), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[delete("/groups/{name}")]
pub async fn end_group(
    state: web::Data<State>,
    who: Who,
    path: web::Path<String>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let all = Directory::read(&state).await?;
    let group = all.group(&path)?;
    who.need(&state, Deed::RemoveGroup)?;
    state.engine.people().end_group(&who.actor, group).await?;
    Ok(HttpResponse::NoContent().finish())
}

//! Who may do what where, and why; giving and taking.

use crate::dto::directory::Directory;
use crate::dto::grants::{gives, grant_to_api, paths, why_of};
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::times;
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, delete, get, post, put, web};
use yellow_attic_api as api;
use yellow_attic_core::people::Notice;
use yellow_attic_core::proof::Deed;
use yellow_attic_core::rights::{Gives, Level, Subject};
use yellow_attic_core::{GrantId, NodeId};
use yellow_attic_store::StoreError;
use yellow_attic_store::ops::grants::NewGrant;
use yellow_attic_store::people::grants::Given;

/// All that is set on the way to a node. For whoever manages it.
#[utoipa::path(context_path = "/api/v1", tag = "rights", params(("node" = i64, Path)),
    responses((status = 200, body = api::Reach), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[get("/nodes/{node}/rights")]
pub async fn show_rights(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    let node = NodeId(*path);
    let found = state.engine.grants().reach(&who.actor, node).await?;
    let people = Directory::read(&state).await?;
    let paths = paths(&state, &who.actor, &found.chain).await?;
    let now = state.engine.now_ms();
    let depth = |n: NodeId| found.chain.iter().position(|r| r.node == n).unwrap_or(usize::MAX);
    // Levels from above the nearest fresh start do not reach down here.
    let cut = found.afresh.iter().map(|n| depth(*n)).min().unwrap_or(usize::MAX);
    let mut grants: Vec<&Given> = found.grants.iter().collect();
    grants.sort_by_key(|g| (depth(g.node), g.id));
    let grants = grants
        .into_iter()
        .map(|g| {
            let over = g.until.is_some_and(|until| until <= now);
            let counts = !over && (g.gives == Gives::Deny || depth(g.node) <= cut);
            grant_to_api(g, counts, &people, &paths)
        })
        .collect();
    Ok(HttpResponse::Ok().json(api::Reach {
        owners: found.owners.iter().filter_map(|o| people.name(*o)).collect(),
        afresh: found.afresh.contains(&node),
        grants,
        people: state.engine.grants().who(&who.actor, node).await?.len(),
    }))
}

/// Gives a right on a node to an account, a group or everyone. It takes the place of an earlier
/// one to the same.
#[utoipa::path(context_path = "/api/v1", tag = "rights", params(("node" = i64, Path)), request_body = api::NewGrant,
    responses((status = 201, body = api::Grant), (status = 400, body = api::Problem), (status = 403, body = api::Problem)))]
#[post("/nodes/{node}/rights")]
pub async fn give_right(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    body: Json<api::NewGrant>,
) -> Result<HttpResponse, Refusal> {
    let node = NodeId(*path);
    let gives = gives(&body.can)?;
    // Whoever may not is told so before anything is asked of them, or told of others.
    let chain = state.engine.files().chain(&who.actor, node, Level::Manage).await?;
    let people = Directory::read(&state).await?;
    let subject = people.subject(&body.to)?;
    let until = body.until.as_deref().map(times::wanted).transpose()?;
    who.need(&state, Deed::GiveRight)?;
    let new = NewGrant { node, subject, gives, until, message: body.message.trim().to_string() };
    let id = state.engine.grants().give(&who.actor, new).await?;
    if let (Subject::Account(to), Gives::Allow(level)) = (subject, gives)
        && let Some(account) = people.accounts.get(&to).filter(|a| a.id != who.account.id)
    {
        let mut said = format!(
            "{} gave you access: you may {} \"{}\".",
            who.account.display_name,
            level.word(),
            chain[0].name()
        );
        if !body.message.trim().is_empty() {
            said.push_str(&format!("\n\n{}", body.message.trim()));
        }
        let subject = format!("{} shares something with you", who.account.display_name);
        crate::state::letters::tell(&state, &who.actor, account, Some(Notice::Given), subject, said).await;
    }
    let found = state.engine.grants().reach(&who.actor, node).await?;
    let grant = found.grants.iter().find(|g| g.id == id).ok_or_else(|| Refusal::not_found("The grant"))?;
    let paths = paths(&state, &who.actor, &chain).await?;
    Ok(HttpResponse::Created().json(grant_to_api(grant, true, &people, &paths)))
}

/// Ends a grant. Whoever has something given to them alone may give it back.
#[utoipa::path(context_path = "/api/v1", tag = "rights", params(("grant" = i64, Path)),
    responses((status = 204), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[delete("/rights/{grant}")]
pub async fn end_grant(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    who.need(&state, Deed::EndRight)?;
    state.engine.grants().end_grant(&who.actor, GrantId(*path)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Lets rights start afresh at a folder, or be inherited again. Denials are always inherited.
#[utoipa::path(context_path = "/api/v1", tag = "rights", params(("node" = i64, Path)), request_body = api::Afresh,
    responses((status = 204), (status = 403, body = api::Problem), (status = 409, body = api::Problem)))]
#[put("/nodes/{node}/afresh")]
pub async fn set_afresh(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    body: Json<api::Afresh>,
) -> Result<HttpResponse, Refusal> {
    state.engine.files().chain(&who.actor, NodeId(*path), Level::Manage).await?;
    who.need(&state, Deed::SetAfresh)?;
    state.engine.grants().set_afresh(&who.actor, NodeId(*path), body.afresh).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Everybody who may do something at a node, and why. For whoever manages it.
#[utoipa::path(context_path = "/api/v1", tag = "rights", params(("node" = i64, Path)),
    responses((status = 200, body = api::Who), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[get("/nodes/{node}/who")]
pub async fn who_may(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    let node = NodeId(*path);
    let found = state.engine.grants().reach(&who.actor, node).await?;
    let paths = paths(&state, &who.actor, &found.chain).await?;
    let people = Directory::read(&state).await?;
    let mut all: Vec<api::Why> = Vec::new();
    for (account, told) in state.engine.grants().who(&who.actor, node).await? {
        all.push(why_of(&people, account, &told, &found.grants, &paths));
    }
    all.sort_by(|a, b| a.display_name.cmp(&b.display_name));
    Ok(HttpResponse::Ok().json(api::Who { people: all }))
}

/// What an account may do at a node, and why: the same walk that decides. Of others only for
/// whoever manages it.
#[utoipa::path(context_path = "/api/v1", tag = "rights", params(("node" = i64, Path), api::WhyQuery),
    responses((status = 200, body = api::Why), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[get("/nodes/{node}/why")]
pub async fn why_may(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    query: web::Query<api::WhyQuery>,
) -> Result<HttpResponse, Refusal> {
    let node = NodeId(*path);
    let people = Directory::read(&state).await?;
    let account = match &query.account {
        None => who.account.id,
        Some(name) if people.is(who.account.id, name) => who.account.id,
        Some(name) => {
            // Before the name is looked at: who has an account is nothing for those who may not ask.
            state.engine.files().chain(&who.actor, node, Level::Manage).await?;
            people.account(name)?
        }
    };
    let told = state.engine.grants().why(&who.actor, account, node).await?;
    let chain = state.engine.files().chain(&who.actor, node, Level::View).await?;
    let grants = match state.engine.grants().reach(&who.actor, node).await {
        Ok(reach) => reach.grants,
        // One's own reasons may be known without managing.
        Err(StoreError::NotAllowed { .. }) => state.engine.grants().grants_of(&told).await?,
        Err(e) => return Err(e.into()),
    };
    let paths = paths(&state, &who.actor, &chain).await?;
    Ok(HttpResponse::Ok().json(why_of(&people, account, &told, &grants, &paths)))
}

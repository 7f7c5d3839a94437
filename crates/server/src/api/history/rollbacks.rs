//! Rolling folders back, and alarms that ask for it.

use crate::dto::rollback::to_api;
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times::{self, show};
use crate::jobs::rollbacks::run;
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, get, post, web};
use yellow_attic_api as api;
use yellow_attic_core::NodeId;
use yellow_attic_core::proof::Deed;
use yellow_attic_core::rights::Level;
use yellow_attic_core::rollback::Step;
use yellow_attic_store::people::accounts::Role;
use yellow_attic_store::timeline::rollback::{Begin, why};
use yellow_attic_store::timeline::rollback_plan::What;

fn read_keep(text: Option<&str>) -> Result<Vec<NodeId>, Refusal> {
    let ids = text.unwrap_or_default().split(',').filter(|id| !id.is_empty());
    ids.map(|id| id.parse().map(NodeId))
        .collect::<Result<_, _>>()
        .map_err(|_| refusals::KEEP_MALFORMED.of("keep holds something that is no id."))
}

/// What rolling a folder back would do.
#[utoipa::path(context_path = "/api/v1", tag = "history", params(("node" = i64, Path), api::RollbackQuery),
    responses((status = 200, body = api::RollbackPreview), (status = 403, body = api::Problem), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
#[get("/nodes/{node}/rollback")]
pub async fn look_at_rollback(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    query: web::Query<api::RollbackQuery>,
) -> Result<HttpResponse, Refusal> {
    let goal = times::moment(&state.engine, &query.to).await?;
    let keep = read_keep(query.keep.as_deref())?;
    let seen = state.engine.history().plan_rollback(&who.actor, NodeId(*path), goal, &keep).await?;
    let names = state.names_for(&who).await;
    let plan = &seen.plan;
    let lines = seen.lines.iter().map(|line| {
        let (what, why) = match line.what {
            What::Step(Step::FolderReturns | Step::FileReturns) => ("returns", None),
            What::Step(Step::MovesBack) => ("moves back", None),
            What::Step(Step::Changes) => ("changes", None),
            What::Step(Step::Goes) => ("goes", None),
            What::Stays(conflict) => ("stays", Some(why(conflict).to_string())),
        };
        api::RollbackLine {
            others: line.others,
            by: line.by.and_then(|(account, device, _)| names.author(account, device)),
            changed: line.by.map(|(_, _, at)| show(at)),
            node: line.node.0,
            path: line.path.clone(),
            kind: if line.folder { api::Kind::Folder } else { api::Kind::File },
            what: what.into(),
            why,
            size: line.size,
        }
    });
    Ok(HttpResponse::Ok().json(api::RollbackPreview {
        to: goal.token(),
        at: show(state.engine.history().time_of(goal).await?),
        steps: plan.steps.len(),
        returns: plan.returns,
        return_bytes: plan.return_bytes,
        changes: plan.changes,
        change_bytes: plan.change_bytes,
        moves: plan.moves,
        goes: plan.goes,
        go_bytes: plan.go_bytes,
        stays: plan.conflicts.len(),
        others: seen.others,
        kept: seen.kept,
        lines: lines.collect(),
        token: seen.token,
    }))
}

/// Begins to roll a folder back. What it does can be taken back.
#[utoipa::path(context_path = "/api/v1", tag = "history", params(("node" = i64, Path)), request_body = api::NewRollback,
    responses((status = 202, body = api::Rollback), (status = 403, body = api::Problem), (status = 404, body = api::Problem), (status = 409, body = api::Problem), (status = 507, body = api::Problem)))]
#[post("/nodes/{node}/rollback")]
pub async fn begin_rollback(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    body: Json<api::NewRollback>,
) -> Result<HttpResponse, Refusal> {
    let goal = times::moment(&state.engine, &body.to).await?;
    let keep: Vec<NodeId> = body.keep.iter().map(|n| NodeId(*n)).collect();
    let how = Begin { token: body.token.as_deref(), undoes: None, keep: &keep };
    let begun = state.engine.history().begin_rollback(&who.actor, NodeId(*path), goal, how).await?;
    run(&state, begun.id);
    Ok(HttpResponse::Accepted().json(to_api(&state, &who, &begun).await?))
}

/// The rollbacks of a shelf, newest first.
#[utoipa::path(context_path = "/api/v1", tag = "history", params(("root" = i64, Path)),
    responses((status = 200, body = api::Rollbacks), (status = 404, body = api::Problem)))]
#[get("/shelves/{root}/rollbacks")]
pub async fn list_rollbacks(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    let shelf = crate::dto::history::shelf_at(&state, *path)?;
    state.engine.files().chain(&who.actor, shelf.root, Level::View).await?;
    let mut rollbacks = Vec::new();
    for one in state.engine.history().rollbacks(&who.actor, shelf.id).await? {
        rollbacks.push(to_api(&state, &who, &one).await?);
    }
    Ok(HttpResponse::Ok().json(api::Rollbacks { rollbacks }))
}

/// How far a rollback is.
#[utoipa::path(context_path = "/api/v1", tag = "history", params(("id" = i64, Path)),
    responses((status = 200, body = api::Rollback), (status = 404, body = api::Problem)))]
#[get("/rollbacks/{id}")]
pub async fn show_rollback(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    let found = state.engine.history().rollback_of(&who.actor, *path).await?;
    Ok(HttpResponse::Ok().json(to_api(&state, &who, &found).await?))
}

/// Stops a rollback where it is. What it has done stays, and can be taken back.
#[utoipa::path(context_path = "/api/v1", tag = "history", params(("id" = i64, Path)),
    responses((status = 200, body = api::Rollback), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[post("/rollbacks/{id}/stop")]
pub async fn stop_rollback(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    let found = state.engine.history().rollback_of(&who.actor, *path).await?;
    let found = match found.state.as_str() {
        "running" => state.engine.history().stop_rollback(&who.actor, *path).await?,
        _ => {
            state.engine.files().chain(&who.actor, found.node, Level::Edit).await?;
            found
        }
    };
    Ok(HttpResponse::Ok().json(to_api(&state, &who, &found).await?))
}

/// Takes a rollback back: the folder becomes what it was before it.
#[utoipa::path(context_path = "/api/v1", tag = "history", params(("id" = i64, Path)),
    responses((status = 202, body = api::Rollback), (status = 403, body = api::Problem), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
#[post("/rollbacks/{id}/undo")]
pub async fn undo_rollback(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    let found = state.engine.history().rollback_of(&who.actor, *path).await?;
    let how = Begin { undoes: Some(found.id), ..Begin::default() };
    let begun = state.engine.history().begin_rollback(&who.actor, found.node, found.begun, how).await?;
    run(&state, begun.id);
    Ok(HttpResponse::Accepted().json(to_api(&state, &who, &begun).await?))
}

/// Alarms on shelves that one manages; for administrators, all.
#[utoipa::path(context_path = "/api/v1", tag = "history", responses((status = 200, body = api::Alarms)))]
#[get("/alarms")]
pub async fn list_alarms(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    let everywhere = who.account.role == Role::Administrator;
    let names = state.names_for(&who).await;
    let mut alarms = Vec::new();
    for alarm in state.engine.history().alarms_for(&who.actor, false, everywhere).await? {
        let Some(shelf) = state.engine.shelves().into_iter().find(|s| s.id == alarm.shelf) else { continue };
        alarms.push(api::Alarm {
            id: alarm.id,
            shelf: crate::dto::space::title(&shelf),
            root: shelf.root.0,
            path: match state.engine.files().chain(&who.actor, shelf.root, Level::View).await {
                Ok(_) => Some(format!("{}/", crate::dto::space::head(&shelf, &who))),
                Err(_) => None,
            },
            by: alarm.account.and_then(|a| names.accounts.get(&a).cloned()),
            device: alarm.device.and_then(|d| names.devices.get(&d).cloned()),
            before: alarm.before.token(),
            before_at: show(state.engine.history().time_of(alarm.before).await?),
            from: show(alarm.from_at),
            until: show(alarm.to_at),
            files: alarm.files,
            of: alarm.of,
            ending: alarm.ending.clone(),
            shut: alarm.shut,
            settled: alarm.settled_at.map(show),
        });
    }
    Ok(HttpResponse::Ok().json(api::Alarms { alarms }))
}

/// Somebody has dealt with an alarm.
#[utoipa::path(context_path = "/api/v1", tag = "history", params(("id" = i64, Path)),
    responses((status = 204, description = "Settled"), (status = 404, body = api::Problem)))]
#[post("/alarms/{id}/settle")]
pub async fn settle_alarm(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    let everywhere = who.account.role == Role::Administrator;
    let known = state.engine.history().alarms_for(&who.actor, false, everywhere).await?;
    if !known.iter().any(|a| a.id == *path) {
        return Err(Refusal::not_found("The alarm"));
    }
    who.need(&state, Deed::SettleAlarm)?;
    state.engine.history().settle_alarm(&who.actor, *path).await?;
    // A door may be open again.
    state.revoked();
    Ok(HttpResponse::NoContent().finish())
}

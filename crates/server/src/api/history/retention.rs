//! The trash, versions with names, comparing texts, and letting go for good.

use crate::dto::history::{going, why};
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times::{self, show};
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, get, post, put, web};
use std::collections::HashSet;
use std::io::Read;
use std::sync::atomic::Ordering;
use yellow_attic_api as api;
use yellow_attic_core::proof::Deed;
use yellow_attic_core::rights::Level;
use yellow_attic_core::{Moment, NodeId};
use yellow_attic_store::timeline::retention::{Reach, Sum};
use yellow_attic_store::{Actor, Row, StoreError};

/// Texts above this are not compared.
const MOST_TEXT: u64 = 2 << 20;

/// What was removed from a folder and from beneath it, newest first.
#[utoipa::path(context_path = "/api/v1", tag = "history", params(("node" = i64, Path), api::PageQuery),
    responses((status = 200, body = api::Trash), (status = 404, body = api::Problem)))]
#[get("/nodes/{node}/trash")]
pub async fn show_trash(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    query: web::Query<api::PageQuery>,
) -> Result<HttpResponse, Refusal> {
    let folder = NodeId(*path);
    let page = state
        .engine
        .history()
        .trash(&who.actor, folder, query.cursor.as_deref(), query.limit.unwrap_or(100))
        .await?;
    let sums = state.engine.files().sums(&who.actor, folder).await?;
    let names = state.names_for(&who).await;
    let mut items = Vec::with_capacity(page.items.len());
    for removed in &page.items {
        let past = &removed.past;
        let mut node = crate::dto::node::seen(&state, &who, &past.row, None, &names).await?;
        node.size = removed.sums.map_or(node.size, |s| s.bytes);
        items.push(api::Removed {
            files: removed.sums.map_or(1, |s| s.files),
            path: path_of(&state, &who, removed).await,
            removed: show(past.ended_at),
            removed_by: names.author(past.ended_account, past.ended_device),
            last_there: Moment(past.until.0 - 1).token(),
            place: removed.place,
            goes: removed.goes_at.map(show),
            hold: removed.hold,
            node,
        });
    }
    Ok(HttpResponse::Ok().json(api::Trash {
        items,
        next: page.next,
        bytes: sums.map_or(0, |s| s.trash_bytes),
        files: sums.map_or(0, |s| s.trash_files),
    }))
}

/// Where something was. What is above all that one may see is left out.
async fn path_of(state: &State, who: &Who, removed: &yellow_attic_store::timeline::trash::Removed) -> String {
    let shelf = state.engine.shelves().into_iter().find(|s| s.id == removed.past.row.shelf);
    let mut words = Vec::new();
    let mut hidden = false;
    for (node, name) in removed.way.iter().skip(1) {
        let seen = state.engine.files().chain(&who.actor, *node, Level::View).await.is_ok();
        // A folder that is gone itself was seen where it was.
        if seen || state.engine.files().chain(&Actor::service(), *node, Level::View).await.is_err() {
            words.push(name.as_str());
        } else {
            words.clear();
            hidden = true;
        }
    }
    words.push(removed.past.row.name());
    let head = match (&shelf, hidden) {
        (Some(shelf), false) => crate::dto::space::head(shelf, who),
        _ => "given:".into(),
    };
    format!("{head}/{}", words.join("/"))
}

/// Lets go of removed things, of one version, or of all that the rules let go: for good.
#[utoipa::path(context_path = "/api/v1", tag = "history", request_body = api::LetGo,
    responses((status = 200, body = api::Going), (status = 403, body = api::Problem), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
#[post("/past/let-go")]
pub async fn let_go(
    state: web::Data<State>,
    who: Who,
    body: Json<api::LetGo>,
) -> Result<HttpResponse, Refusal> {
    let wrong = || refusals::NOTHING_NAMED.of("It is not said what is to go.");
    let reach = match (&body.version, body.folder, body.by_rules) {
        (None, None, true) if body.nodes.is_empty() => {
            who.need_administrator()?;
            Reach::All
        }
        (Some(version), None, false) => {
            let [node] = body.nodes[..] else { return Err(wrong()) };
            state.engine.files().chain(&who.actor, NodeId(node), Level::Manage).await?;
            let at = times::moment(&state.engine, version).await?;
            let row = state.engine.history().check_past(&who.actor, NodeId(node), at).await?;
            Reach::Version(NodeId(node), row.first().map_or(at, |r: &Row| r.since))
        }
        (None, Some(folder), false) if body.nodes.is_empty() => {
            state.engine.files().chain(&who.actor, NodeId(folder), Level::Manage).await?;
            let (mut nodes, mut cursor) = (Vec::new(), None);
            loop {
                let page =
                    state.engine.history().trash(&who.actor, NodeId(folder), cursor.as_deref(), 500).await?;
                nodes.extend(page.items.iter().map(|r| r.past.row.node));
                cursor = page.next;
                if cursor.is_none() {
                    break Reach::Removed(nodes);
                }
            }
        }
        (None, None, false) if !body.nodes.is_empty() => {
            for node in &body.nodes {
                state.engine.history().check_for_good(&who.actor, NodeId(*node)).await?;
            }
            Reach::Removed(body.nodes.iter().map(|n| NodeId(*n)).collect())
        }
        _ => return Err(wrong()),
    };
    let rules = state.engine.people().rules();
    let plan = state.engine.history().plan_purge(&rules, &reach).await?;
    let mut told = going(&state, &plan, false);
    let mut seen = HashSet::new();
    for (node, reason) in plan.kept.iter().filter(|(n, _)| seen.insert(*n)).take(100) {
        let states = state.engine.history().states(&who.actor, *node, 1).await;
        let name = states.ok().and_then(|s| Some(s.first()?.row.name().to_string())).unwrap_or_default();
        told.kept.push((name, why(*reason)));
    }
    if body.preview {
        return Ok(HttpResponse::Ok().json(told));
    }
    if plan.total().states == 0
        && let Some((name, reason)) = told.kept.first()
    {
        return Err(StoreError::KeptByRule(format!("\"{name}\""), reason.clone()).into());
    }
    who.need(&state, Deed::LetGo)?;
    let progress = state.going.clone();
    if progress.runs.swap(true, Ordering::SeqCst) {
        return Err(refusals::LETTING_GO.of("Somebody lets go of something just now."));
    }
    // Goes on though the caller stops waiting.
    let (engine, actor, token) = (state.engine.clone(), who.actor.clone(), body.token.clone());
    let done = state.engine.runtime().spawn(async move {
        progress.done.store(0, Ordering::Relaxed);
        progress.bytes.store(0, Ordering::Relaxed);
        progress.stop.store(false, Ordering::Relaxed);
        let done = engine.history().apply_purge(&actor, &rules, &reach, token.as_deref(), &progress).await;
        progress.runs.store(false, Ordering::SeqCst);
        done
    });
    let sum: Sum = done.await.map_err(|_| StoreError::Stopping)??;
    (told.states, told.bytes, told.done) = (sum.states, sum.bytes, true);
    Ok(HttpResponse::Ok().json(told))
}

/// How far letting go is.
#[utoipa::path(context_path = "/api/v1", tag = "history",
    responses((status = 200, body = api::GoingProgress), (status = 403, body = api::Problem)))]
#[get("/past/let-go")]
pub async fn show_going(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let going = &state.going;
    Ok(HttpResponse::Ok().json(api::GoingProgress {
        runs: going.runs.load(Ordering::SeqCst),
        of: going.of.load(Ordering::Relaxed),
        done: going.done.load(Ordering::Relaxed),
        bytes: going.bytes.load(Ordering::Relaxed),
    }))
}

/// What the wall clock says, and whether it was set by more than a day.
#[utoipa::path(context_path = "/api/v1", tag = "history",
    responses((status = 200, body = api::WallClock), (status = 403, body = api::Problem)))]
#[get("/past/clock")]
pub async fn show_clock(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    Ok(HttpResponse::Ok().json(clock(&state)))
}

/// Confirms that the wall clock is right: rules and schedules go by it again.
#[utoipa::path(context_path = "/api/v1", tag = "history",
    responses((status = 200, body = api::WallClock), (status = 403, body = api::Problem)))]
#[post("/past/clock")]
pub async fn confirm_clock(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    who.need(&state, Deed::BelieveClock)?;
    let now = state.engine.wall_ms();
    if let Some(doubt) = state.engine.clock_doubt() {
        let ahead = doubt.ahead_ms;
        let what = format!("set by {} s", ahead / 1000);
        state.engine.people().note(&who.actor, "clock confirmed", None, &times::show(now), &what).await?;
        state.engine.believe_clock();
    }
    Ok(HttpResponse::Ok().json(clock(&state)))
}

fn clock(state: &State) -> api::WallClock {
    let doubt = state.engine.clock_doubt();
    api::WallClock {
        now: times::show(state.engine.wall_ms()),
        kept: times::show(state.engine.kept_ms()),
        leapt_ms: doubt.map(|d| d.ahead_ms),
    }
}

/// Gives a version a name, so that no rule lets it go; an empty one takes the name away.
#[utoipa::path(context_path = "/api/v1", tag = "history", params(("node" = i64, Path), ("moment" = String, Path)),
    request_body = api::VersionName, responses((status = 204, description = "Done"), (status = 404, body = api::Problem)))]
#[put("/nodes/{node}/versions/{moment}")]
pub async fn name_version(
    state: web::Data<State>,
    who: Who,
    path: web::Path<(i64, String)>,
    body: Json<api::VersionName>,
) -> Result<HttpResponse, Refusal> {
    let at = times::moment(&state.engine, &path.1).await?;
    state.engine.history().name_version(&who.actor, NodeId(path.0), at, &body.label).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Two states of a text, line by line.
#[utoipa::path(context_path = "/api/v1", tag = "history", params(("node" = i64, Path), api::CompareQuery),
    responses((status = 200, body = api::Comparison), (status = 404, body = api::Problem), (status = 415, body = api::Problem)))]
#[get("/nodes/{node}/comparison")]
pub async fn compare(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    query: web::Query<api::CompareQuery>,
) -> Result<HttpResponse, Refusal> {
    let node = NodeId(*path);
    let before = text_at(&state, &who, node, Some(&query.from)).await?;
    let after = text_at(&state, &who, node, query.to.as_deref()).await?;
    let found = web::block(move || compared(&before, &after)).await.map_err(|_| StoreError::Stopping)?;
    Ok(HttpResponse::Ok().json(found))
}

async fn text_at(state: &State, who: &Who, node: NodeId, at: Option<&str>) -> Result<String, Refusal> {
    let row = match at {
        Some(at) => {
            let at = times::moment(&state.engine, at).await?;
            let chain = state.engine.history().check_past(&who.actor, node, at).await?;
            chain.into_iter().next().ok_or_else(|| Refusal::not_found("The version"))?
        }
        None => (*state.engine.files().chain(&who.actor, node, Level::View).await?[0]).clone(),
    };
    let (mut file, row) = state.engine.files().open_bytes(&row).await?;
    let not_text =
        || refusals::NO_TEXT.of(&format!("\"{}\" is no text in UTF-8 of at most 2 MiB.", row.name()));
    if row.size().max(0) as u64 > MOST_TEXT {
        return Err(not_text());
    }
    let bytes = web::block(move || {
        let mut bytes = Vec::new();
        file.read_to_end(&mut bytes).map(|_| bytes)
    });
    let bytes = bytes.await.map_err(|_| StoreError::Stopping)?;
    let bytes =
        bytes.map_err(|e| StoreError::Unreadable { path: row.name().into(), reason: e.to_string() })?;
    match String::from_utf8(bytes) {
        Ok(text) if !text.contains('\0') => Ok(text),
        _ => Err(not_text()),
    }
}

/// Lines that stay the same are shown three on each side of a change.
fn compared(before: &str, after: &str) -> api::Comparison {
    use similar::{ChangeTag, TextDiff};
    let diff = TextDiff::configure().timeout(std::time::Duration::from_secs(3)).diff_lines(before, after);
    let mut found = api::Comparison { lines: Vec::new(), removed: 0, added: 0 };
    let mut last = 0;
    for group in diff.grouped_ops(3) {
        let begins = group.first().map_or(0, |op| op.old_range().start);
        if begins > last {
            let n = begins - last;
            let text = format!("{n} line{}", if n == 1 { "" } else { "s" });
            found.lines.push(api::ComparedLine { what: "gap".into(), before: None, after: None, text });
        }
        for op in &group {
            for change in diff.iter_changes(op) {
                let what = match change.tag() {
                    ChangeTag::Equal => "same",
                    ChangeTag::Delete => "removed",
                    ChangeTag::Insert => "added",
                };
                found.removed += usize::from(what == "removed");
                found.added += usize::from(what == "added");
                found.lines.push(api::ComparedLine {
                    what: what.into(),
                    before: change.old_index().map(|i| i + 1),
                    after: change.new_index().map(|i| i + 1),
                    text: change.value().trim_end_matches(['\r', '\n']).to_string(),
                });
            }
            last = op.old_range().end;
        }
    }
    found
}

//! All that was given out and is taken in, in one list, and changing many of it at once.

use crate::dto::directory::Directory;
use crate::dto::opening::{kind, mine, set_of, to_api};
use crate::dto::shared_item::{given_opening, given_share};
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times;
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, get, post, web};
use yellow_attic_api as api;
use yellow_attic_core::GrantId;
use yellow_attic_core::openings::STATES;
use yellow_attic_core::proof::Deed;
use yellow_attic_store::Actor;
use yellow_attic_store::ops::grants::NewGrant;
use yellow_attic_store::sharing::openings::Wanted;

async fn all_given(state: &State, who: &Who, query: &api::GivenQuery) -> Result<Vec<api::Given>, Refusal> {
    if let Some(word) = query.state.as_deref().filter(|s| !STATES.contains(s)) {
        return Err(refusals::UNKNOWN_STATE.with(
            &format!("\"{word}\" is no state of a link, intake or share."),
            &format!("Choose one of: {}.", STATES.join(", ")),
        ));
    }
    let all = Directory::read(state).await?;
    let by = match &query.by {
        Some(name) => Some(all.account(name)?),
        None if query.all => None,
        None => Some(who.account.id),
    };
    let wants = |kind: &str| query.kind.as_deref().is_none_or(|k| k == kind);
    let mut given = Vec::new();
    if wants("link") || wants("intake") {
        for opening in state.engine.sharing().openings(&Wanted { by, ..Wanted::default() }).await? {
            if wants(opening.kind.word()) {
                given.push(given_opening(to_api(state, who, &all, &opening).await?));
            }
        }
    }
    if wants("share") {
        for grant in state.engine.grants().grants_made(by).await? {
            given.extend(given_share(state, who, &all, &grant).await);
        }
    }
    let words: Vec<String> =
        query.words.as_deref().unwrap_or("").split_whitespace().map(str::to_lowercase).collect();
    given.retain(|g| {
        let text = format!("{} {} {} {}", g.name, g.path.as_deref().unwrap_or(""), g.to, g.by).to_lowercase();
        let fits = match query.state.as_deref() {
            None => true,
            Some("open") => g.state == "open",
            Some("shut") => g.state != "open",
            Some(other) => g.state == other,
        };
        fits && words.iter().all(|w| text.contains(w))
    });
    given.sort_by(|a, b| (&b.at, &b.kind, b.id).cmp(&(&a.at, &a.kind, a.id)));
    Ok(given)
}

fn table(given: Vec<api::Given>) -> String {
    let header = [
        "kind",
        "id",
        "name",
        "path",
        "to",
        "can",
        "state",
        "until",
        "used",
        "most",
        "last used",
        "last from",
        "by",
        "at",
    ];
    let number = |n: Option<u32>| n.map(|n| n.to_string()).unwrap_or_default();
    let text = Option::<String>::unwrap_or_default;
    let rows = given.into_iter().map(|g| {
        vec![
            g.kind,
            g.id.to_string(),
            g.name,
            text(g.path),
            g.to,
            g.can,
            g.state,
            text(g.until),
            number(g.used),
            number(g.most),
            text(g.used_at),
            text(g.used_from),
            g.by,
            g.at,
        ]
    });
    yellow_attic_core::table::csv(&header, rows)
}

/// All that was given out and is taken in: links, intakes and shares. One's own; for administrators
/// everybody's.
#[utoipa::path(context_path = "/api/v1", tag = "strangers", params(api::GivenQuery),
    responses((status = 200, body = api::GivenOut), (status = 403, body = api::Problem)))]
#[get("/given")]
pub async fn list_given(
    state: web::Data<State>,
    who: Who,
    query: web::Query<api::GivenQuery>,
) -> Result<HttpResponse, Refusal> {
    if query.all || query.by.is_some() {
        who.need_administrator()?;
    }
    if let Some(kind) = query.kind.as_deref().filter(|k| !["link", "intake", "share"].contains(k)) {
        return Err(
            refusals::WORD_UNKNOWN.with(&format!("kind={kind} is unknown."), "Choose link, intake or share.")
        );
    }
    let mut given = all_given(&state, &who, &query).await?;
    match query.format.as_deref() {
        None | Some("json") => {}
        Some("csv") => {
            return Ok(HttpResponse::Ok()
                .content_type("text/csv; charset=utf-8")
                .insert_header(("Content-Disposition", crate::transfer::send::attachment("given out.csv")))
                .body(table(given)));
        }
        Some(other) => {
            return Err(
                refusals::WORD_UNKNOWN.with(&format!("format={other} is unknown."), "Choose json or csv.")
            );
        }
    }
    let total = given.len();
    let list =
        format!("given {} {:?} {:?} {:?} {:?}", query.all, query.by, query.words, query.kind, query.state);
    if let Some(cursor) = &query.cursor {
        let place = state.engine.place_of(&who.actor, &list, cursor)?;
        given.retain(|g| place_of(g) < place);
    }
    let limit = query.limit.unwrap_or(200).clamp(1, 1000);
    let more = given.len() > limit;
    given.truncate(limit);
    let next = given.last().filter(|_| more).map(|g| state.engine.cursor(&who.actor, &list, &place_of(g)));
    Ok(HttpResponse::Ok().json(api::GivenOut { given, total, next }))
}

fn place_of(g: &api::Given) -> String {
    format!("{} {} {:020}", g.at, g.kind, g.id)
}

/// Changes many at once: ends them, pauses them, or sets their end.
#[utoipa::path(context_path = "/api/v1", tag = "strangers", request_body = api::GivenChange,
    responses((status = 200, body = api::GivenChanged), (status = 400, body = api::Problem)))]
#[post("/given/change")]
pub async fn change_given(
    state: web::Data<State>,
    who: Who,
    body: Json<api::GivenChange>,
) -> Result<HttpResponse, Refusal> {
    who.need_own()?;
    let closes = (body.end || body.paused == Some(true)) && body.ends.is_none();
    if !body.end && body.paused.is_none() && body.ends.is_none() {
        return Err(refusals::NOTHING_TO_CHANGE.of("Nothing is to be changed."));
    }
    if !closes || body.of.iter().any(|g| g.kind == "share") {
        who.need(&state, Deed::ChangeGiven)?;
    }
    let set = api::OpeningSet {
        ended: body.end.then_some(true),
        paused: body.paused,
        ends: body.ends.clone(),
        ..Default::default()
    };
    let mut changed = api::GivenChanged { done: 0, refused: Vec::new() };
    for one in &body.of {
        let done = match one.kind.as_str() {
            "share" => change_share(&state, &who, &body, one.id).await,
            _ => change_one(&state, &who, &set, one).await,
        };
        match done {
            Ok(()) => changed.done += 1,
            Err(e) => changed.refused.push(api::GivenRefused {
                kind: one.kind.clone(),
                id: one.id,
                reason: e.to_string(),
            }),
        }
    }
    state.openings_changed();
    Ok(HttpResponse::Ok().json(changed))
}

async fn change_one(
    state: &State,
    who: &Who,
    set: &api::OpeningSet,
    one: &api::GivenId,
) -> Result<(), Refusal> {
    let opening = mine(state, who, one.id).await?;
    if opening.kind != kind(&one.kind)? {
        return Err(Refusal::not_found("The link or intake"));
    }
    let own = state.engine.sharing().decides_over(&who.actor, &opening).await;
    if !own && set.paused == Some(false) {
        return Err(Refusal::not_found("The link or intake"));
    }
    let set = set_of(who, set).await?;
    state.engine.sharing().change_opening(&who.actor, opening.id, set, !own).await?;
    Ok(())
}

async fn change_share(state: &State, who: &Who, change: &api::GivenChange, id: i64) -> Result<(), Refusal> {
    let id = GrantId(id);
    // A denial is no share: ending one would open something.
    let found = state.engine.grants().grants_made(None).await?.into_iter().find(|g| g.id == id);
    let grant = found.ok_or_else(|| Refusal::not_found("The share"))?;
    if change.end {
        let actor = match who.need_administrator() {
            // In the administrator's name, with the service's rights.
            Ok(()) => Actor { account: None, ..who.actor.clone() },
            Err(_) => who.actor.clone(),
        };
        return Ok(state.engine.grants().end_grant(&actor, id).await?);
    }
    let Some(ends) = &change.ends else {
        return Err(refusals::NOTHING_TO_CHANGE.of("A share is not paused."));
    };
    let until = if ends.trim().is_empty() { None } else { Some(times::wanted(ends)?) };
    let new = NewGrant {
        node: grant.node,
        subject: grant.subject,
        gives: grant.gives,
        until,
        message: grant.message,
    };
    state.engine.grants().give(&who.actor, new).await?;
    Ok(())
}

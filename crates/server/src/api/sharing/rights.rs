//! Who may do what where, and why; giving and taking.

use crate::api::people::people::Directory;
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::times::{self, show};
use crate::identity::principal::Who;
use crate::mail;
use crate::state::State;
use actix_web::{HttpResponse, delete, get, post, put, web};
use std::collections::HashMap;
use std::sync::Arc;
use yellow_attic_api as api;
use yellow_attic_core::people::Notice;
use yellow_attic_core::proof::Deed;
use yellow_attic_core::rights::{Effect, Explained, Gives, Level, Subject};
use yellow_attic_core::{AccountId, GrantId, NodeId};
use yellow_attic_store::ops::grants::NewGrant;
use yellow_attic_store::people::grants::Given;
use yellow_attic_store::{Actor, Row, StoreError};

/// Reads a level or deny.
pub fn gives(word: &str) -> Result<Gives, Refusal> {
    Gives::from_word(word).ok_or_else(|| {
        Refusal::bad(
            "level_unknown",
            &format!("\"{word}\" is no level."),
            "Choose view, add, edit, manage or deny.",
        )
    })
}

/// The paths of the nodes on a way, as far as the caller sees upwards.
async fn paths(state: &State, who: &Actor, chain: &[Arc<Row>]) -> Result<HashMap<NodeId, String>, Refusal> {
    let mut found = HashMap::new();
    for i in 0..state.engine.seen_of(who, chain).len() {
        let way: Vec<&Row> = chain[i..].iter().map(|r| &**r).collect();
        found.insert(chain[i].node, state.engine.way_of(who, &way).await?.path);
    }
    Ok(found)
}

/// Why an account may do something at a node, in sentences. Of places that the caller may not see only the name of
/// the node itself is told.
pub async fn reasons(
    state: &State,
    people: &Directory,
    who: &Who,
    (chain, name): (&[Arc<Row>], &str),
    account: AccountId,
    told: &Explained,
) -> Result<Vec<String>, Refusal> {
    let grants = state.engine.grants_of(told).await?;
    let mut known = match state.engine.chain(&who.actor, chain[0].node, Level::View).await {
        Ok(_) => paths(state, &who.actor, chain).await?,
        Err(_) => HashMap::new(),
    };
    known.entry(chain[0].node).or_insert_with(|| format!("\"{name}\""));
    let why = why_of(people, account, told, &grants, &known);
    let decide = why.reasons.into_iter().filter(|r| r.effect == "decides").map(|r| r.sentence);
    Ok(if told.owner { vec![why.sentence] } else { decide.collect() })
}

fn shown_grant(
    given: &Given,
    counts: bool,
    people: &Directory,
    paths: &HashMap<NodeId, String>,
) -> api::Grant {
    let (to, to_name) = people.word(given.subject);
    api::Grant {
        id: given.id.0,
        to,
        to_name,
        can: given.gives.word().to_string(),
        until: given.until.map(show),
        message: given.message.clone(),
        by: given.made_by.and_then(|a| people.name(a)),
        at: show(given.made_at),
        node: given.node.0,
        path: paths.get(&given.node).cloned(),
        counts,
    }
}

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
    let found = state.engine.reach(&who.actor, node).await?;
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
            shown_grant(g, counts, &people, &paths)
        })
        .collect();
    Ok(HttpResponse::Ok().json(api::Reach {
        owners: found.owners.iter().filter_map(|o| people.name(*o)).collect(),
        afresh: found.afresh.contains(&node),
        grants,
        people: state.engine.who(&who.actor, node).await?.len(),
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
    let chain = state.engine.chain(&who.actor, node, Level::Manage).await?;
    let people = Directory::read(&state).await?;
    let subject = people.subject(&body.to)?;
    let until = body.until.as_deref().map(times::wanted).transpose()?;
    who.need(&state, Deed::GiveRight)?;
    let new = NewGrant { node, subject, gives, until, message: body.message.trim().to_string() };
    let id = state.engine.give(&who.actor, new).await?;
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
        mail::tell(&state, &who.actor, account, Some(Notice::Given), subject, said).await;
    }
    let found = state.engine.reach(&who.actor, node).await?;
    let grant = found.grants.iter().find(|g| g.id == id).ok_or_else(|| Refusal::not_found("The grant"))?;
    let paths = paths(&state, &who.actor, &chain).await?;
    Ok(HttpResponse::Created().json(shown_grant(grant, true, &people, &paths)))
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
    state.engine.end_grant(&who.actor, GrantId(*path)).await?;
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
    state.engine.chain(&who.actor, NodeId(*path), Level::Manage).await?;
    who.need(&state, Deed::SetAfresh)?;
    state.engine.set_afresh(&who.actor, NodeId(*path), body.afresh).await?;
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
    let found = state.engine.reach(&who.actor, node).await?;
    let paths = paths(&state, &who.actor, &found.chain).await?;
    let people = Directory::read(&state).await?;
    let mut all: Vec<api::Why> = Vec::new();
    for (account, told) in state.engine.who(&who.actor, node).await? {
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
            state.engine.chain(&who.actor, node, Level::Manage).await?;
            people.account(name)?
        }
    };
    let told = state.engine.why(&who.actor, account, node).await?;
    let chain = state.engine.chain(&who.actor, node, Level::View).await?;
    let grants = match state.engine.reach(&who.actor, node).await {
        Ok(reach) => reach.grants,
        // One's own reasons may be known without managing.
        Err(StoreError::NotAllowed { .. }) => state.engine.grants_of(&told).await?,
        Err(e) => return Err(e.into()),
    };
    let paths = paths(&state, &who.actor, &chain).await?;
    Ok(HttpResponse::Ok().json(why_of(&people, account, &told, &grants, &paths)))
}

fn why_of(
    people: &Directory,
    account: AccountId,
    told: &Explained,
    grants: &[Given],
    paths: &HashMap<NodeId, String>,
) -> api::Why {
    let name = people.name(account).unwrap_or_default();
    let reasons: Vec<api::Reason> = told
        .reasons
        .iter()
        .filter_map(|reason| {
            let given = grants.iter().find(|g| g.id == reason.grant.id)?;
            let counts = matches!(reason.effect, Effect::Decides | Effect::GivesLess);
            let grant = shown_grant(given, counts, people, paths);
            let place = grant.path.clone().unwrap_or_else(|| "a folder further up".to_string());
            let what = match reason.grant.gives {
                Gives::Deny => format!("{} may do nothing", grant.to_name),
                Gives::Allow(level) => format!("{} may {}", grant.to_name, level.word()),
            };
            let (effect, end) = match reason.effect {
                Effect::Decides => ("decides", ": this decides."),
                Effect::GivesLess if told.owner => ("gives less", "; owning the shelf gives more."),
                Effect::GivesLess => ("gives less", "; another grant gives more."),
                Effect::Denied => ("denied", "; but a denial wins over it."),
                Effect::CutOff => ("cut off", "; but rights start afresh further down."),
                Effect::Ended => ("ended", "; but its time is over."),
            };
            let sentence = format!("On {place}, {what}{end}");
            Some(api::Reason { grant, effect: effect.to_string(), sentence })
        })
        .collect();
    let sentence = match (told.level, told.owner) {
        (_, true) => format!("{name} owns the shelf and may do everything here."),
        (Some(level), _) => format!("{name} may {} here.", level.word()),
        (None, _) if told.reasons.iter().any(|r| r.effect == Effect::Decides) => {
            format!("{name} is denied, and can see nothing here.")
        }
        (None, _) => format!("Nothing is given to {name} here: they cannot see it."),
    };
    api::Why {
        account: people.sign_in(account),
        display_name: name,
        level: told.level.map(|l| l.word().to_string()),
        sentence,
        reasons,
    }
}

//! Rights, and why somebody has them.

use crate::dto::directory::Directory;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times::show;
use crate::state::State;
use crate::state::sessions::Who;
use std::collections::HashMap;
use std::sync::Arc;
use yellow_attic_api as api;
use yellow_attic_core::rights::{Effect, Explained, Gives, Level};
use yellow_attic_core::{AccountId, NodeId};
use yellow_attic_store::people::grants::Given;
use yellow_attic_store::{Actor, Row};

/// Reads a level or deny.
pub fn gives(word: &str) -> Result<Gives, Refusal> {
    Gives::from_word(word).ok_or_else(|| refusals::LEVEL_UNKNOWN.of(&format!("\"{word}\" is no level.")))
}

/// The paths of the nodes on a way, as far as the caller sees upwards.
pub async fn paths(
    state: &State,
    who: &Actor,
    chain: &[Arc<Row>],
) -> Result<HashMap<NodeId, String>, Refusal> {
    let mut found = HashMap::new();
    for i in 0..state.engine.grants().seen_of(who, chain).len() {
        let way: Vec<&Row> = chain[i..].iter().map(|r| &**r).collect();
        found.insert(chain[i].node, state.engine.files().way_of(who, &way).await?.path);
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
    let grants = state.engine.grants().grants_of(told).await?;
    let mut known = match state.engine.files().chain(&who.actor, chain[0].node, Level::View).await {
        Ok(_) => paths(state, &who.actor, chain).await?,
        Err(_) => HashMap::new(),
    };
    known.entry(chain[0].node).or_insert_with(|| format!("\"{name}\""));
    let why = why_of(people, account, told, &grants, &known);
    let decide = why.reasons.into_iter().filter(|r| r.effect == "decides").map(|r| r.sentence);
    Ok(if told.owner { vec![why.sentence] } else { decide.collect() })
}

pub fn grant_to_api(
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

pub fn why_of(
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
            let grant = grant_to_api(given, counts, people, paths);
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

//! Links and intakes.

use crate::dto::directory::Directory;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times::{self, show};
use crate::identity::passwords::hash_password;
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::web;
use yellow_attic_api as api;
use yellow_attic_core::intake::Kinds;
use yellow_attic_core::openings::{Can, Kind};
use yellow_attic_core::rights::Level;
use yellow_attic_core::{NodeId, OpeningId, password};
use yellow_attic_store::sharing::openings::{Opening, Set};
use yellow_attic_store::{Actor, Row, ShelfKind, StoreError};

/// What an opening opens, by name; empty if it is gone.
pub async fn name_of(state: &State, opening: &Opening) -> String {
    match state.engine.files().chain(&Actor::service(), opening.node, Level::View).await {
        Ok(chain) => title_of(state, &chain[0]),
        Err(_) => String::new(),
    }
}

pub fn title_of(state: &State, row: &Row) -> String {
    match state.engine.shelf_of(row).filter(|_| row.parent.is_none()) {
        Some(shelf) if shelf.kind == ShelfKind::Home => "Home".into(),
        Some(shelf) => shelf.name.clone(),
        None => row.name().to_string(),
    }
}

/// What is shown of something that may be gone: name, path as the caller sees it, whether a folder.
pub async fn place(state: &State, who: &Who, node: NodeId) -> (String, Option<String>, bool) {
    let own = state.engine.files().chain(&who.actor, node, Level::View).await;
    let chain = match &own {
        Ok(chain) => Ok(chain.clone()),
        // What it is called by now is for administrators, not for whoever may not see it any more.
        Err(_) if who.need_administrator().is_err() => return (String::new(), None, false),
        Err(_) => state.engine.files().chain(&Actor::service(), node, Level::View).await,
    };
    let Ok(chain) = chain else { return (String::new(), None, false) };
    let rows: Vec<&Row> = chain.iter().map(|r| &**r).collect();
    let path = match own {
        Ok(_) => state.engine.files().way_of(&who.actor, &rows).await.ok().map(|w| w.path),
        Err(_) => None,
    };
    (title_of(state, &chain[0]), path, chain[0].is_folder())
}

/// An opening as whoever asks may see it.
pub async fn to_api(
    state: &State,
    who: &Who,
    all: &Directory,
    opening: &Opening,
) -> Result<api::Opening, Refusal> {
    let acts = state.engine.sharing().acts(opening).await?;
    let (name, path, folder) = place(state, who, opening.node).await;
    let mine = state.engine.sharing().decides_over(&who.actor, opening).await;
    let address = format!("{}{}", state.base(), base(opening.kind, &opening.ending));
    let unwritten = state.strangers.unwritten(opening.id);
    let (state_word, sentence) = match &acts {
        Ok(_) => ("open", String::new()),
        Err(shut) => (shut.word(), shut.sentence(opening.kind)),
    };
    let (coming, coming_bytes) = state.engine.files().coming_through(opening.id).await?;
    let facts = state.engine.sharing().facts_with(opening, &state.engine.people().rules()).await?;
    Ok(api::Opening {
        id: opening.id.0,
        kind: opening.kind.word().to_string(),
        state: state_word.to_string(),
        sentence,
        node: opening.node.0,
        name,
        path,
        folder,
        address: mine.then_some(address),
        own_ending: opening.ending.len() != 26,
        can: opening.can.word().to_string(),
        title: opening.title.clone(),
        message: opening.message.clone(),
        password: !opening.password.is_empty(),
        begins: opening.begins_at.map(show),
        ends: opening.ends_at.map(show),
        until: yellow_attic_core::openings::until(&opening.terms(), facts.days).map(show),
        most: opening.most,
        used: opening.used + unwritten.as_ref().map_or(0, |u| u.0),
        used_at: unwritten.as_ref().map(|u| u.1).or(opening.used_at).map(show),
        used_from: unwritten.map(|u| u.2).or_else(|| opening.used_from.clone()),
        guessed_at: opening.guessed_at.map(show),
        coming,
        coming_bytes,
        largest_file: opening.largest_file,
        largest_all: opening.largest_all,
        kinds: opening.kinds.word(),
        asks_mail: opening.asks_mail,
        by: all.name(opening.made_by).unwrap_or_default(),
        at: show(opening.made_at),
        mine,
    })
}

pub fn kind(word: &str) -> Result<Kind, Refusal> {
    Kind::from_word(word).ok_or_else(|| {
        refusals::WORD_UNKNOWN.with(&format!("kind={word} is unknown."), "Choose link or intake.")
    })
}

pub async fn set_of(who: &Who, set: &api::OpeningSet) -> Result<Set, Refusal> {
    let time = |text: &Option<String>| match text.as_deref().map(str::trim) {
        None => Ok(None),
        Some("" | "none") => Ok(Some(None)),
        Some(text) => times::wanted(text).map(|at| Some(Some(at))),
    };
    let password = match set.password.as_deref() {
        None => None,
        Some("") => Some(String::new()),
        Some(text) => {
            // It is passed on by word of mouth, and tries of it are limited: less is demanded than of
            // whoever signs in.
            let demands = password::Demands { length: 8, strength: 2 };
            password::check(text, &who.account.sign_in, &[], demands).map_err(|e| {
                let said = crate::http::words::capital(&e.to_string());
                refusals::PASSWORD_REFUSED.with(&format!("{said}."), &e.remedy())
            })?;
            let text = text.to_string();
            Some(web::block(move || hash_password(&text)).await.map_err(|_| StoreError::Stopping)??)
        }
    };
    Ok(Set {
        can: set
            .can
            .as_deref()
            .map(|word| {
                Can::from_word(word).ok_or_else(|| {
                    refusals::LEVEL_UNKNOWN.with(
                        &format!("\"{word}\" is nothing that a link lets do."),
                        "Choose view, download, add or edit.",
                    )
                })
            })
            .transpose()?,
        title: set.title.clone(),
        message: set.message.clone(),
        password,
        begins_at: time(&set.begins)?,
        ends_at: time(&set.ends)?,
        most: set.most.map(|n| Some(n).filter(|n| *n > 0)),
        largest_file: set.largest_file.map(|n| Some(n).filter(|n| *n > 0)),
        largest_all: set.largest_all.map(|n| Some(n).filter(|n| *n > 0)),
        kinds: set.kinds.as_deref().map(Kinds::read).transpose().map_err(StoreError::from)?,
        asks_mail: set.asks_mail,
        paused: set.paused,
        confirmed: set.confirmed,
        ended: set.ended,
    })
}

/// The path of an opening's page.
pub fn base(kind: Kind, ending: &str) -> String {
    match kind {
        Kind::Link => format!("/open/{ending}"),
        Kind::Intake => format!("/give/{ending}"),
    }
}

/// One that the caller decides over; of an administrator, any.
pub async fn mine(state: &State, who: &Who, id: i64) -> Result<Opening, Refusal> {
    let gone = || Refusal::not_found("The link or intake");
    let opening = state.engine.sharing().opening(OpeningId(id)).await?.ok_or_else(gone)?;
    if state.engine.sharing().decides_over(&who.actor, &opening).await || who.need_administrator().is_ok() {
        return Ok(opening);
    }
    Err(gone())
}

//! From the engine's rows to what callers see.

use crate::http::problem::Refusal;
use crate::http::times::show;
use crate::state::State;
use crate::state::names::NameMap;
use crate::state::sessions::Who;
use actix_web::HttpRequest;
use std::sync::Arc;
use yellow_attic_api as api;
use yellow_attic_core::conditions::Known;
use yellow_attic_store::fs::disk::hex;
use yellow_attic_store::rights::locks::Held;
use yellow_attic_store::{ContentState, Folder, Row, SinceThen};

/// A row as callers see it.
pub fn node(row: &Row, folder: Option<&Folder>, names: &NameMap) -> api::Node {
    api::Node {
        id: row.node.0,
        parent: row.parent.map(|p| p.0),
        name: row.name().to_string(),
        kind: if row.is_folder() { api::Kind::Folder } else { api::Kind::File },
        size: folder.map_or(row.size(), |f| f.bytes),
        modified: show(row.mtime),
        executable: row.executable,
        changed: show(folder.map_or(row.at, |f| f.changed_at.max(row.at))),
        by: names.author(row.account, row.device),
        how: row.how_word().to_string(),
        moment: row.since.token(),
        etag: row.etag(),
        blake3: row.content.map(|c| hex(&c.hash)),
        sums: folder.map(sums),
        since_then: None,
        given: None,
        locked: None,
        held: row
            .content
            .filter(|c| matches!(c.life, ContentState::Lost | ContentState::Gone))
            .map(|_| false),
    }
}

/// A row as somebody may see it: without the folder in which it lies, where that is hidden from them.
pub async fn seen(
    state: &State,
    who: &Who,
    row: &Row,
    folder: Option<&Folder>,
    names: &NameMap,
) -> Result<api::Node, crate::http::problem::Refusal> {
    let mut told = node(row, folder, names);
    if !state.engine.files().shows_parent(&who.actor, row).await? {
        told.parent = None;
    }
    Ok(told)
}

/// A folder's sums as callers see them.
pub fn sums(folder: &Folder) -> api::Sums {
    api::Sums {
        bytes: folder.bytes,
        files: folder.files,
        folders: folder.folders,
        history_bytes: folder.past_bytes,
    }
}

/// What became of a past entry.
pub fn since_then(what: SinceThen) -> api::SinceThen {
    match what {
        SinceThen::Same => api::SinceThen::Same,
        SinceThen::Different => api::SinceThen::Different,
        SinceThen::Moved => api::SinceThen::Moved,
        SinceThen::Removed => api::SinceThen::Removed,
        SinceThen::Inside => api::SinceThen::Inside,
    }
}

/// A present row, with its sums.
pub async fn present(
    state: &State,
    who: &Who,
    row: &Row,
) -> Result<api::Node, crate::http::problem::Refusal> {
    let names: Arc<NameMap> = state.names_for(who).await;
    let folder = if row.is_folder() { state.engine.files().sums(&who.actor, row.node).await? } else { None };
    let given = given(state, who, row);
    let locked = match state.engine.files().has_locks() {
        true => {
            let way = state.engine.files().way(row.node).await?;
            state.engine.files().locks_over(&way).first().map(|h| lock(who, &names, h))
        }
        false => None,
    };
    Ok(api::Node { given, locked, ..seen(state, who, row, folder.as_ref(), &names).await? })
}

/// A lock as callers see it.
pub fn lock(who: &Who, names: &NameMap, held: &Held) -> api::Lock {
    api::Lock {
        node: held.lock.node.0,
        by: names.accounts.get(&held.lock.holder).cloned().unwrap_or_else(|| held.who.clone()),
        mine: who.actor.account == Some(held.lock.holder),
        program: held.lock.by_token,
        since: show(held.made_at),
        until: show(held.lock.until),
    }
}

/// Whether something is given on this very node, out or in.
pub fn given(state: &State, who: &Who, row: &Row) -> Option<String> {
    let word = match state.engine.grants().given_here(&who.actor, row.node) {
        (true, true) => "both",
        (true, false) => "out",
        (false, true) => "in",
        (false, false) => return None,
    };
    Some(word.to_string())
}

/// The value of `at` in a query; the only one that content takes beside `download`.
pub fn at_in(request: &HttpRequest) -> Option<String> {
    let value = request.query_string().split('&').find_map(|p| p.strip_prefix("at="))?;
    Some(percent_encoding::percent_decode_str(value).decode_utf8_lossy().into_owned())
}

/// A file or folder as a request was answered with it before, to whoever asks by the same again: as it was then.
pub async fn answered(state: &State, who: &Who, known: &Known) -> Result<Option<(api::Node, bool)>, Refusal> {
    let Some(done) = state.engine.files().answered(&who.actor, known).await? else { return Ok(None) };
    // Its state may be erased by now.
    let row = done.row.ok_or_else(|| Refusal::not_found("What this request made"))?;
    let names = state.names_for(who).await;
    Ok(Some((node(&row, None, &names), done.created)))
}

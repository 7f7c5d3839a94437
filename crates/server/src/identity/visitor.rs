//! Who comes through a link or an intake: each request asks anew whether it still acts.

use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::identity::address::from;
use crate::state::State;
use crate::state::visits::Visit;
use actix_web::HttpRequest;
use std::sync::Arc;
use yellow_attic_core::openings::{Kind, Shut, Told};
use yellow_attic_core::rights::Level;
use yellow_attic_store::sharing::openings::Opening;

/// The cookie of somebody who gave a link's password.
pub const VISIT: &str = "attic_visit";

/// How long it lasts.
pub const VISIT_MS: i64 = 12 * 3_600_000;

/// How far somebody gets with an address.
pub enum Gate {
    /// Not at all.
    Shut(Told),
    /// A password is asked for.
    Password(Arc<Opening>),
    /// In.
    In(Visit),
}

/// Looks at who comes. `fresh`: counts are as they are this moment.
pub async fn gate(
    request: &HttpRequest,
    state: &State,
    kind: Kind,
    ending: &str,
    fresh: bool,
) -> Result<Gate, Refusal> {
    let (now, from) = (state.engine.now_ms(), from(request, state));
    if !fresh && let Some(visit) = state.strangers.again(ending, kind, now, &from) {
        return Ok(Gate::In(visit));
    }
    // Before anything is looked at: what changes meanwhile shows.
    let (head, rights) = (*state.strangers.head.borrow(), state.engine.rights_watch());
    let found = state.strangers.at(&state.engine, ending, fresh).await?.filter(|o| o.kind == kind);
    let Some(opening) = found else { return Ok(Gate::Shut(Told::Nothing)) };
    let open = match state.engine.sharing().acts(&opening).await? {
        Ok(open) => Some(open),
        Err(Shut::UsedUp) => None,
        Err(shut) => return Ok(Gate::Shut(shut.told())),
    };
    if !opening.password.is_empty() && !is_let_in(request, &opening, now) {
        return Ok(Gate::Password(opening));
    }
    let actor = opening.actor(&from);
    let Ok(chain) = state.engine.files().chain(&actor, opening.node, Level::View).await else {
        return Ok(Gate::Shut(Told::Nothing));
    };
    let visit = Visit { opening, actor, open, target: chain[0].clone() };
    state.strangers.remember(ending, &visit, now, head, rights);
    Ok(Gate::In(visit))
}

/// The same where only who is in gets on.
pub async fn visit(request: &HttpRequest, state: &State, kind: Kind, ending: &str) -> Result<Visit, Refusal> {
    match gate(request, state, kind, ending, false).await? {
        Gate::In(visit) => Ok(visit),
        Gate::Shut(told) => Err(refusal(told)),
        Gate::Password(_) => Err(refusals::PASSWORD_ASKED.of("This address is protected by a password.")),
    }
}

/// What a stranger hears of an opening that is shut.
pub fn refusal(told: Told) -> Refusal {
    let date = |at| crate::http::times::show(at);
    match told {
        Told::Nothing => refusals::NO_SUCH_ADDRESS.of("This address leads nowhere, or no longer."),
        Told::NotYet(at) => refusals::NOT_YET.of(&format!("This opens on {}.", date(at))),
        Told::Over(at) => refusals::OVER.of(&format!("This was open until {}.", date(at))),
        Told::Paused => refusals::PAUSED.of("This is closed for now."),
        Told::UsedUp => {
            refusals::USED_UP.with("This was used as often as it may be.", "Ask whoever gave it to you.")
        }
    }
}

pub fn seal(opening: &Opening, until: i64) -> String {
    let key =
        blake3::derive_key("Yellow Attic visit 1", format!("{} {}", opening.id, opening.password).as_bytes());
    blake3::keyed_hash(&key, &until.to_le_bytes()).to_hex().to_string()
}

pub fn is_let_in(request: &HttpRequest, opening: &Opening, now: i64) -> bool {
    let Some(cookie) = request.cookie(VISIT) else { return false };
    let Some((until, given)) = cookie.value().split_once('.') else { return false };
    let Ok(until) = until.parse::<i64>() else { return false };
    // Compared in constant time, as blake3's hashes are.
    let given = blake3::Hash::from_hex(given);
    until > now && given.is_ok_and(|g| blake3::Hash::from_hex(seal(opening, until)).is_ok_and(|own| own == g))
}

//! Beginning a session.

use crate::http::problem::Refusal;
use crate::identity::address::from;
use crate::identity::cookies::{BROWSER_COOKIE, BROWSER_MS, SESSION_MS, browser_proof, cookie, cookie_named};
use crate::state::State;
use crate::state::secrets::{hash_secret, new_secret};
use actix_web::cookie::Cookie;
use actix_web::{HttpRequest, HttpResponseBuilder};
use yellow_attic_store::Actor;
use yellow_attic_store::people::accounts::Account;

/// An answer that leaves cookies.
pub fn with_cookies(mut answer: HttpResponseBuilder, cookies: [Cookie<'static>; 2]) -> HttpResponseBuilder {
    for cookie in cookies {
        answer.cookie(cookie);
    }
    answer
}

/// Opens a session: its cookie, and the one by which the browser is known again. `factor`: a second one was given.
pub async fn open_session(
    state: &State,
    account: &Account,
    request: &HttpRequest,
    factor: bool,
) -> Result<[Cookie<'static>; 2], Refusal> {
    let secret = new_secret()?;
    let actor = Actor::in_name_of(account.id, &account.sign_in, &from(request, state));
    let ends = state.engine.now_ms() + SESSION_MS;
    let agent = request.headers().get("user-agent").and_then(|v| v.to_str().ok()).unwrap_or_default();
    state.engine.sign_ins().open_session(&actor, account.id, hash_secret(&secret), ends, agent).await?;
    state.proofs.note(hash_secret(&secret), factor, state.engine.now_ms());
    let known = cookie_named(BROWSER_COOKIE, state, browser_proof(state, account)?, BROWSER_MS / 1000);
    Ok([cookie(state, secret, SESSION_MS / 1000), known])
}

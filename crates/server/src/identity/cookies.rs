//! Cookies of sessions, of looks as somebody else, and of browsers that are known again.

use crate::http::problem::Refusal;
use crate::state::State;
use crate::state::secrets::{keyed_short, new_secret};
use actix_web::HttpRequest;
use actix_web::cookie::time::Duration;
use actix_web::cookie::{Cookie, SameSite};
use yellow_attic_store::people::accounts::Account;

/// The cookie that holds a session.
pub const COOKIE: &str = "attic_session";

/// The cookie that holds a look as somebody else.
pub const LOOK_COOKIE: &str = "attic_look";

/// How long a session lasts.
pub const SESSION_MS: i64 = 30 * 86_400_000;

/// The name of one of our cookies: where people come by https, one that no other page of the host's can set
/// (RFC 6265bis, `__Host-`).
pub fn cookie_name(state: &State, name: &str) -> String {
    if state.config.is_https() { format!("__Host-{name}") } else { name.to_string() }
}

/// One of our cookies.
pub fn own_cookie(
    request: &HttpRequest,
    state: &State,
    name: &str,
) -> Option<actix_web::cookie::Cookie<'static>> {
    request.cookie(&cookie_name(state, name))
}

/// The cookie of a browser in which an account was signed in before.
pub const BROWSER_COOKIE: &str = "attic_browser";

/// How long it counts, since the last sign-in.
pub const BROWSER_MS: i64 = 400 * 86_400_000;

/// What a browser keeps to be known again.
pub fn browser_proof(state: &State, account: &Account) -> Result<String, Refusal> {
    let until = state.engine.now_ms() + BROWSER_MS;
    Ok(state.engine.sealed("browser", &account.id.to_string(), &format!("{until} {}", new_secret()?)))
}

/// Whether an account was signed in before in the browser that asks.
pub fn known_browser(state: &State, request: &HttpRequest, account: &Account) -> Option<[u8; 16]> {
    let cookie = own_cookie(request, state, BROWSER_COOKIE)?;
    let proof = state.engine.unsealed("browser", &account.id.to_string(), cookie.value())?;
    let until: i64 = proof.split(' ').next()?.parse().ok()?;
    (until > state.engine.now_ms()).then(|| keyed_short(&[b"browser", proof.as_bytes()]))
}

pub fn cookie(state: &State, value: String, seconds: i64) -> Cookie<'static> {
    cookie_named(COOKIE, state, value, seconds)
}

/// The cookie of a look as somebody else.
pub fn look_cookie(state: &State, value: String, seconds: i64) -> Cookie<'static> {
    cookie_named(LOOK_COOKIE, state, value, seconds)
}

pub fn cookie_named(name: &str, state: &State, value: String, seconds: i64) -> Cookie<'static> {
    let https = state.config.is_https();
    Cookie::build(cookie_name(state, name), value)
        .path("/")
        .http_only(true)
        .secure(https)
        .same_site(SameSite::Strict)
        .max_age(Duration::seconds(seconds))
        .finish()
}

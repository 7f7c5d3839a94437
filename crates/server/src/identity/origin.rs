//! Under which address a page of ours asks.

use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::identity::address::came_by_https;
use crate::state::State;
use actix_web::HttpRequest;
use actix_web::http::Method;

/// A cookie counts only for what our own pages ask (the browser says where from).
pub fn check_origin(request: &HttpRequest, state: &State) -> Result<(), Refusal> {
    if matches!(*request.method(), Method::GET | Method::HEAD | Method::OPTIONS) {
        return Ok(());
    }
    let text = |name: &str| request.headers().get(name).and_then(|v| v.to_str().ok());
    let own = match (text("origin"), text("sec-fetch-site")) {
        (Some(origin), _) => match &state.config.public_address {
            Some(public) => origin == public,
            // Only one's own pages make a browser send an Origin that names the very Host asked.
            // What came by TLS is not asked for by a page that did not: others could have written it.
            None => origin.split_once("://").is_some_and(|(scheme, host)| {
                Some(host) == host_of(request)
                    && (scheme == "https" || scheme == "http" && !came_by_https(request, state))
            }),
        },
        (None, Some(site)) => site == "same-origin",
        (None, None) => false,
    };
    if own {
        return Ok(());
    }
    Err(refusals::OTHER_ORIGIN.of("The request carries a sign-in, but comes from a page of another address."))
}

/// The host that a request asks for, with its port.
pub fn host_of(request: &HttpRequest) -> Option<&str> {
    let named = request.headers().get("host").and_then(|v| v.to_str().ok());
    named.or_else(|| request.uri().authority().map(|a| a.as_str()))
}

/// Refuses a sign-in under a name that is not ours: pages of others can have their names lead here, and browsers take
/// them for one page then.
pub fn check_host(request: &HttpRequest, state: &State) -> Result<(), Refusal> {
    let Some(host) = host_of(request) else { return Ok(()) };
    if state.config.is_ours(host) {
        return Ok(());
    }
    let name: String = host.chars().take(200).collect();
    Err(refusals::OTHER_ADDRESS.of(&format!(
        "The service does not know \"{name}\" as its own address, so nobody signs in under it."
    )))
}

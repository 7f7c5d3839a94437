//! Where a request comes from: by the connection, and by what a trusted proxy tells.

use crate::state::State;
use crate::state::secrets::keyed_short;
use crate::state::throttle::Lane;
use actix_web::HttpRequest;
use std::net::IpAddr;
use yellow_attic_core::forwarded::{Header, client, counted};
use yellow_attic_core::guessing::By;

/// What a try is counted by, and where it waits.
pub struct Place {
    /// By where it comes from.
    pub by: Vec<By>,
    /// Where it waits for its turn.
    pub lane: Lane,
}

/// Where a request comes from, as far as guessing is concerned. The machine itself, and one that passes requests on and
/// is not trusted, are not one person.
pub fn place(request: &HttpRequest, state: &State, name: &[u8]) -> Place {
    let headers = request.headers();
    let passed_on = headers.contains_key("x-forwarded-for") || headers.contains_key("forwarded");
    let shared = Lane::Name(keyed_short(&[b"lane", name]));
    let from = address(request, state).filter(|at| !at.to_canonical().is_loopback());
    match from.map(counted) {
        None => Place { by: vec![By::All], lane: shared },
        Some(at) if passed_on && !crate::identity::address::is_trusted(request, state) => {
            Place { by: vec![By::Proxy(at), By::All], lane: Lane::Address(at) }
        }
        Some(at) => Place { by: vec![By::Address(at), By::All], lane: Lane::Address(at) },
    }
}

/// Whether a request came by a proxy that is believed.
pub fn is_trusted(request: &HttpRequest, state: &State) -> bool {
    request.peer_addr().is_some_and(|p| state.config.trusted_proxies.contains(&p.ip().to_canonical()))
}

/// The address that a request came from, for the record and the limits.
pub fn address(request: &HttpRequest, state: &State) -> Option<IpAddr> {
    let peer = request.peer_addr()?.ip();
    Some(told_by(request, state, peer).0)
}

/// What the header that is believed tells of a request: the address, and the scheme.
pub fn told_by(request: &HttpRequest, state: &State, peer: IpAddr) -> (IpAddr, Option<String>) {
    let config = &state.config;
    let lines = |name: &'static str| request.headers().get_all(name).filter_map(|v| v.to_str().ok());
    match config.forwarded_header {
        Header::Forwarded => client(peer, Header::Forwarded, lines("forwarded"), &config.trusted_proxies),
        Header::XForwarded => {
            let (from, _) =
                client(peer, Header::XForwarded, lines("x-forwarded-for"), &config.trusted_proxies);
            let scheme = lines("x-forwarded-proto").last().filter(|_| is_trusted(request, state));
            (from, scheme.map(|s| s.rsplit(',').next().unwrap_or(s).trim().to_ascii_lowercase()))
        }
    }
}

/// Whether a request came by https, as far as is known.
pub fn came_by_https(request: &HttpRequest, state: &State) -> bool {
    let told = request.peer_addr().and_then(|p| told_by(request, state, p.ip()).1);
    state.config.tls.is_some() || told.as_deref() == Some("https")
}

/// The same as text.
pub fn from(request: &HttpRequest, state: &State) -> String {
    address(request, state).map_or_else(|| "unknown".to_string(), |a| a.to_string())
}

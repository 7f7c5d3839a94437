//! The public address: what links begin with, and whether requests really come under it.

use crate::config::Config;
use crate::http::times::show;
use crate::state::State;
use crate::state::addresses::{LONGEST, MOST};
use actix_web::HttpRequest;
use std::sync::PoisonError;
use yellow_attic_api as api;

/// Notes under which address a request came. The scheme that a proxy tells is believed only from one
/// that is configured.
pub fn note(request: &HttpRequest, state: &State) {
    let path = request.path();
    // What watches the service from inside asks for these under any name.
    if ["/healthz", "/readyz", "/metrics"].contains(&path) {
        return;
    }
    let text = |name: &str| request.headers().get(name).and_then(|v| v.to_str().ok());
    let Some(host) = text("host").or_else(|| request.uri().authority().map(|a| a.as_str())) else { return };
    if host.len() > LONGEST {
        return;
    }
    let peer = request.peer_addr().map(|p| p.ip().to_canonical());
    let trusted = peer.is_some_and(|p| state.config.trusted_proxies.contains(&p));
    let scheme = if crate::identity::address::came_by_https(request, state) { "https" } else { "http" };
    let forwards = ["x-forwarded-for", "x-forwarded-proto", "forwarded"].iter().any(|n| text(n).is_some());
    let now = state.engine.now_ms();
    let mut noted = state.seen.0.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(peer) = peer.filter(|_| forwards && !trusted)
        && (noted.untrusted.len() < MOST || noted.untrusted.contains_key(&peer))
    {
        *noted.untrusted.entry(peer).or_default() += 1;
    }
    if let Some(known) = noted
        .addresses
        .iter_mut()
        .find(|(a, _)| a.len() == scheme.len() + 3 + host.len() && a.starts_with(scheme) && a.ends_with(host))
    {
        *known.1 = (known.1.0 + 1, now);
        return;
    }
    if noted.addresses.len() >= MOST {
        // Made-up names must not push out what is true.
        let least =
            noted.addresses.iter().min_by_key(|(_, (times, at))| (*times, *at)).map(|(a, _)| a.clone());
        if let Some(least) = least {
            noted.addresses.remove(&least);
        }
    }
    noted.addresses.insert(format!("{scheme}://{host}"), (1, now));
}

fn good(what: String) -> api::AddressFinding {
    api::AddressFinding { good: true, what, remedy: String::new() }
}

fn bad(what: String, remedy: &str) -> api::AddressFinding {
    api::AddressFinding { good: false, what, remedy: remedy.into() }
}

/// What the configuration alone tells of what a stranger would get.
pub fn check_config(config: &Config, address: &str) -> Vec<api::AddressFinding> {
    let mut found = Vec::new();
    let host = address.split_once("://").map_or("", |(_, h)| h);
    let host = host.rsplit_once(':').map_or(host, |(h, _)| h).trim_matches(['[', ']']);
    let inside = host == "localhost"
        || host.ends_with(".local")
        || host.ends_with(".internal")
        || host.parse::<std::net::IpAddr>().is_ok_and(|ip| match ip {
            std::net::IpAddr::V4(v4) => v4.is_loopback() || v4.is_private() || v4.is_link_local(),
            std::net::IpAddr::V6(v6) => {
                v6.is_loopback() || v6.is_unique_local() || v6.is_unicast_link_local()
            }
        });
    match &config.public_address {
        None => found.push(bad(
            format!("No public address is set: links begin with {address}."),
            "Set public_address to what people outside type, such as https://files.example.org.",
        )),
        Some(_) if inside => found.push(bad(
            format!("Links begin with {address}, which leads somewhere only inside."),
            "Set public_address to a name that people outside can reach.",
        )),
        Some(_) => found.push(good(format!("Links begin with {address}."))),
    }
    if config.public_address.is_some() && address.starts_with("http://") {
        found.push(bad(
            "Links open without TLS: passwords and files can be read on their way.".into(),
            "Serve TLS (tls_certificate, tls_key) or put a proxy with TLS in front, then write https:// in public_address.",
        ));
    }
    let behind = address.starts_with("https://") && config.tls.is_none();
    if behind && config.trusted_proxies.is_empty() {
        found.push(bad(
            "TLS comes from a proxy in front, and no proxy is trusted: every visitor seems to come from it.".into(),
            "Set trusted_proxies to the proxy's address, and have it send X-Forwarded-For and X-Forwarded-Proto.",
        ));
    }
    found
}

/// What a stranger would get, by the configuration and by how requests came.
pub fn check(state: &State) -> api::AddressCheck {
    let address = state.base();
    let mut findings = check_config(&state.config, &address);
    let noted = state.seen.0.lock().unwrap_or_else(PoisonError::into_inner);
    let mut seen: Vec<_> = noted
        .addresses
        .iter()
        .map(|(a, (times, last))| api::AddressSeen {
            right: *a == address,
            address: a.clone(),
            times: *times,
            last: show(*last),
        })
        .collect();
    seen.sort_by(|a, b| (b.right, b.times, &a.address).cmp(&(a.right, a.times, &b.address)));
    let public = state.config.public_address.is_some();
    for other in seen.iter().filter(|s| public && !s.right) {
        let times = if other.times == 1 { "1 request".into() } else { format!("{} requests", other.times) };
        let (scheme, host) = other.address.split_once("://").unwrap_or_default();
        let (right, right_host) = address.split_once("://").unwrap_or_default();
        findings.push(match host == right_host && scheme != right {
            true => bad(
                format!("{times} came as {scheme}://, not {right}://."),
                "Have the proxy send X-Forwarded-Proto, and set trusted_proxies to its address; or correct public_address.",
            ),
            false => bad(
                format!("{times} came under {}; links carry {address}.", other.address),
                "If people use that address, put it into public_address, or have the proxy send the Host on unchanged.",
            ),
        });
    }
    let mut untrusted: Vec<_> = noted.untrusted.iter().collect();
    untrusted.sort();
    for (peer, times) in untrusted {
        findings.push(bad(
            format!("{peer} sends forwarded addresses ({times} times), and is not a trusted proxy: they are not believed."),
            "If it is your proxy, add it to trusted_proxies; if not, somebody tries to hide where they come from.",
        ));
    }
    if public && seen.iter().any(|s| s.right) && findings.iter().all(|f| f.good) {
        findings.push(good("Requests come under it.".into()));
    }
    api::AddressCheck { address, findings, seen }
}

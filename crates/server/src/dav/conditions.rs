//! The If header against what is: which tokens a request brings, or that it must not go on.

use super::spot::Spot;
use super::then::Past;
use super::{Asked, Fault, PREFIX, malformed, refuse};
use crate::http::conditions::of_write;
use yellow_attic_core::NodeId;
use yellow_attic_core::dav::condition::{Facts, If};
use yellow_attic_core::dav::headers;

fn facts(asked: &Asked<'_>, spot: &Spot) -> Facts {
    let over = |way: Vec<NodeId>| {
        asked.state.engine.files().locks_over(&way).into_iter().map(|h| h.lock.token).collect::<Vec<_>>()
    };
    match spot {
        Spot::Node(at) => {
            Facts { tokens: over(at.chain.iter().map(|r| r.node).collect()), tag: at.row.etag() }
        }
        // What would be there lies under the deep locks of the folders above.
        Spot::Missing(missing) => Facts {
            tokens: missing.above.as_ref().map_or_else(Vec::new, |chain| {
                let way = std::iter::once(NodeId(0)).chain(chain.iter().map(|r| r.node)).collect();
                over(way)
            }),
            tag: None,
        },
        Spot::State(row) => Facts { tokens: Vec::new(), tag: row.etag() },
        Spot::Past(Past::File { row, .. }) => Facts { tokens: Vec::new(), tag: row.etag() },
        Spot::Past(_) => Facts::default(),
        Spot::Top | Spot::Given | Spot::Person => Facts::default(),
    }
}

/// Whether an address names this service.
pub fn is_own(asked: &Asked<'_>, host: &str) -> bool {
    let said = asked.request.headers().get("host").and_then(|v| v.to_str().ok());
    let bare = |text: &str| {
        let text = text.to_ascii_lowercase();
        text.strip_suffix(":80").or(text.strip_suffix(":443")).unwrap_or(&text).to_string()
    };
    let public = asked.state.config.public_address.as_deref();
    let public = public.and_then(|p| p.split_once("://")).map(|(_, host)| host.trim_end_matches('/'));
    // Behind HTTP/2 the host is part of the address.
    let authority = asked.request.uri().authority().map(|a| a.as_str());
    [said, public, authority].into_iter().flatten().any(|own| bare(own) == bare(host))
}

/// Decides If, If-Match and If-None-Match. Returns the tokens that were named.
pub async fn check(asked: &Asked<'_>, spot: &Spot) -> Result<Vec<String>, Fault> {
    let failed = || {
        refuse(
            412,
            "changed_meanwhile",
            "What stands there is not in the state, or not under the lock, that the request asks for.",
            "Look at its present state and its locks, then send the request again.",
        )
    };
    if !matches!(asked.request.method().as_str(), "GET" | "HEAD") {
        let present = match spot {
            Spot::Node(at) => Some(at.row.standing()),
            Spot::State(row) => Some(row.standing()),
            Spot::Past(Past::File { row, .. }) => Some(row.standing()),
            _ => None,
        };
        let conditions = of_write(asked.request).map_err(Fault::Refused)?;
        if !conditions.hold(present.as_ref()) {
            return Err(failed());
        }
    }
    let Some(text) = asked.text("if")? else { return Ok(Vec::new()) };
    let condition = If::read(text).ok_or_else(|| malformed("If"))?;
    let mut all = Vec::with_capacity(condition.0.len());
    for list in &condition.0 {
        all.push(match &list.of {
            None => facts(asked, spot),
            // What lies elsewhere, or nowhere, has no lock and no tag.
            Some(address) => match headers::address(address, PREFIX, |host| is_own(asked, host)) {
                Ok(parts) => match Box::pin(Spot::find(asked, parts)).await {
                    Ok(spot) => facts(asked, &spot),
                    Err(_) => Facts::default(),
                },
                Err(_) => Facts::default(),
            },
        });
    }
    match condition.holds(&all) {
        true => Ok(condition.tokens().map(str::to_string).collect()),
        false => Err(failed()),
    }
}

//! LOCK and UNLOCK.

use super::props::push_lock;
use super::spot::{At, Spot};
use super::{Answered, Asked, Fault, XML, bad_body, change, condition, malformed, refuse};
use crate::http::problem::Refusal;
use actix_web::HttpResponse;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::dav::bodies;
use yellow_attic_core::dav::condition::If;
use yellow_attic_core::dav::headers::{self, Depth};
use yellow_attic_core::locks::life;
use yellow_attic_core::rights::Level;
use yellow_attic_store::rights::locks::{Held, NewLock};
use yellow_attic_store::{Row, StoreError};

/// Takes a lock, or lets one live on.
pub async fn lock(asked: &Asked<'_>, spot: Spot, body: &[u8]) -> Answered {
    let wanted = bodies::lock(body).map_err(|e| bad_body(&e))?;
    let seconds = asked.text("timeout")?.and_then(headers::timeout);
    let Some(wanted) = wanted else {
        let at = spot.node()?;
        return refresh(asked, &at, seconds).await;
    };
    let deep = match asked.depth()? {
        None | Some(Depth::Infinity) => true,
        Some(Depth::Zero) => false,
        Some(Depth::One) => {
            return Err(refuse(
                400,
                "depth",
                "A lock is for the thing alone or for all beneath.",
                "Send Depth: 0 or infinity.",
            ));
        }
    };
    let (node, created, href) = match spot {
        Spot::Missing(missing) => {
            // The name is taken at once: by an empty file, as the standard has it.
            let (parent, name) = change::place(&missing)?;
            let engine = &asked.state.engine;
            let staged = engine.stage_small(Vec::new())?;
            let free = Conditions::nothing_there();
            let put = engine.files().put(asked.actor(), parent, name, staged, engine.now_ms(), free).await;
            let done = put.map_err(|e| change::fault(e, &missing.href))?;
            let row = done.row.ok_or_else(|| Refusal::not_found("The file"))?;
            (row.node, true, missing.href)
        }
        other => {
            let at = other.node()?;
            (at.row.node, false, at.href)
        }
    };
    let new = NewLock {
        node,
        deep,
        exclusive: wanted.exclusive,
        by_token: true,
        owner: wanted.owner,
        lives_ms: life(seconds),
    };
    let held = match asked.state.engine.files().lock(asked.actor(), new).await {
        Ok(held) => held,
        Err(e @ StoreError::Locked { node: at, .. }) => {
            let mut inside = String::from("<D:href>");
            yellow_attic_core::dav::xml::escape(&mut inside, &root(asked, at).await.unwrap_or(href));
            inside.push_str("</D:href>");
            let words = change::in_words(e);
            return Err(Fault::Condition { status: 423, name: "no-conflicting-lock", inside, words });
        }
        Err(e) => return Err(e.into()),
    };
    let mut answer = if created { HttpResponse::Created() } else { HttpResponse::Ok() };
    let body = told(&held, &href, asked.state.engine.now_ms());
    Ok(answer.insert_header(("lock-token", format!("<{}>", held.lock.token))).content_type(XML).body(body))
}

/// Where a lock lies, as the caller finds it.
async fn root(asked: &Asked<'_>, node: yellow_attic_core::NodeId) -> Option<String> {
    let chain = asked.state.engine.files().chain(asked.actor(), node, Level::View).await.ok()?;
    let rows: Vec<&Row> = chain.iter().map(|r| &**r).collect();
    let way = asked.state.engine.files().way_of(asked.actor(), &rows).await.ok()?;
    Some(super::spot::href_of(&way.path, chain[0].is_folder()))
}

fn told(held: &Held, root: &str, now: i64) -> String {
    let mut out = String::from(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<D:prop xmlns:D=\"DAV:\"><D:lockdiscovery>",
    );
    push_lock(&mut out, held, root, now);
    out.push_str("</D:lockdiscovery></D:prop>\n");
    out
}

async fn refresh(asked: &Asked<'_>, at: &At, seconds: Option<u64>) -> Answered {
    let text = asked.text("if")?.ok_or_else(|| {
        refuse(400, "no_token", "A lock that is to live on is named in the header If.", "Send If: (<token>).")
    })?;
    let condition = If::read(text).ok_or_else(|| malformed("If"))?;
    let way: Vec<_> = at.chain.iter().map(|r| r.node).collect();
    let over = asked.state.engine.files().locks_over(&way);
    let token = condition.tokens().find(|t| over.iter().any(|h| h.lock.token == *t));
    let Some(token) = token else {
        return Err(refuse(412, "no_such_lock", "No lock of that token lies here.", "Take a new one."));
    };
    let lives = seconds.map(|s| life(Some(s)));
    let held = match asked.state.engine.files().refresh_lock(asked.actor(), at.row.node, token, lives).await {
        Ok(held) => held,
        Err(StoreError::NotFound(_)) => {
            return Err(refuse(
                412,
                "no_such_lock",
                "No lock of yours of that token lies here.",
                "Take a new one.",
            ));
        }
        Err(e) => return Err(e.into()),
    };
    let root = root(asked, held.lock.node).await.unwrap_or_else(|| at.href.clone());
    Ok(HttpResponse::Ok().content_type(XML).body(told(&held, &root, asked.state.engine.now_ms())))
}

/// Ends a lock.
pub async fn unlock(asked: &Asked<'_>, spot: Spot) -> Answered {
    let at = spot.node()?;
    let text = asked.text("lock-token")?.ok_or_else(|| {
        refuse(400, "no_token", "The header Lock-Token is missing.", "Name the lock that is to end.")
    })?;
    let token = text
        .trim()
        .strip_prefix('<')
        .and_then(|t| t.strip_suffix('>'))
        .ok_or_else(|| malformed("Lock-Token"))?;
    match asked.state.engine.files().release_lock(asked.actor(), at.row.node, token).await {
        Ok(()) => Ok(HttpResponse::NoContent().finish()),
        Err(StoreError::NotFound(_)) => Err(condition(409, "lock-token-matches-request-uri")),
        // Another's: only whoever manages the place ends it, and not by this.
        Err(StoreError::Locked { .. }) => Err(refuse(
            403,
            "locked",
            "The lock is somebody else's.",
            "Ask its holder; whoever manages the folder can end it with yattic unlock or in the console.",
        )),
        Err(e) => Err(e.into()),
    }
}

//! Changes as they happen: server-sent events.
//!
//! Each event `change` holds one change as in `/shelves/{root}/changes`, with the shelf's root and,
//! if it was in another folder when the caller last heard, that folder (`from`); its id is the moment after which to go on (`Last-Event-ID`). Changes are read from the
//! timeline when the caller takes them: a caller that does not read costs nothing, and one that
//! comes back misses nothing. `upto` only moves the id on; `openings`: something happened at a link
//! or intake; `locks`: other locks than before lie on these nodes; `end` says that the sign-in has ended.

use crate::dto::shelf::change_to_api;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::identity::principal::still;
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpRequest, HttpResponse, get, web};
use bytes::Bytes;
use std::collections::VecDeque;
use std::pin::Pin;
use std::time::Duration;
use tokio::sync::watch;
use yellow_attic_api as api;
use yellow_attic_core::rights::Level;
use yellow_attic_core::{Moment, NodeId};
use yellow_attic_store::timeline::changes::Sight;
use yellow_attic_store::timeline::locks::LocksWatch;

/// Changes are told together if they come closer than this.
const GATHER: Duration = Duration::from_millis(80);
/// A comment so often keeps proxies from closing a quiet line.
const QUIET: Duration = Duration::from_secs(20);
/// Changes read at a time.
const PAGE: usize = 500;

struct Following {
    state: web::Data<State>,
    who: Who,
    upto: Moment,
    head: watch::Receiver<i64>,
    rights: Pin<Box<dyn Future<Output = ()> + Send>>,
    sight: Sight,
    revoked: watch::Receiver<u64>,
    openings: watch::Receiver<u64>,
    locks: LocksWatch,
    waiting: VecDeque<Bytes>,
    ended: bool,
    _counted: Counted,
}

/// Counted as long as it listens.
struct Counted(web::Data<State>);

impl Drop for Counted {
    fn drop(&mut self) {
        self.0.metrics.listeners.dec();
    }
}

/// Changes on all shelves that one may enter, as server-sent events.
#[utoipa::path(context_path = "/api/v1", tag = "shelves",
    params(("Last-Event-ID" = Option<String>, Header, description = "The id of the last event that was read")),
    responses((status = 200, description = "text/event-stream"), (status = 400, body = api::Problem)))]
#[get("/events")]
pub async fn events(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
) -> Result<HttpResponse, Refusal> {
    let last = request.headers().get("last-event-id").and_then(|v| v.to_str().ok()).map(str::to_string);
    let now = state.engine.history().now_moment().await?;
    let mut upto = match last.as_deref().map(|text| (text, Moment::from_token(text))) {
        None => now,
        Some((_, Some(moment))) if moment <= now => moment,
        Some((text, _)) => {
            return Err(
                refusals::MOMENT_MALFORMED.of(&format!("Last-Event-ID is {text}, which is no event's id."))
            );
        }
    };
    let ready = serde_json::json!({ "timeline": state.engine.timeline() });
    let mut first =
        vec![Bytes::from(format!("retry: 2000\nid: {}\nevent: ready\ndata: {ready}\n\n", upto.token()))];
    if state.engine.files().check_known_since(upto).await.is_err() {
        // It goes on from now: what went before that is not known any more.
        upto = now;
        first.push(Bytes::from(format!("id: {}\nevent: anew\ndata: {{}}\n\n", upto.token())));
    }
    // Little is written to it, and it may sleep with its computer.
    crate::http::listener::line(&request).iter().for_each(|line| line.be_patient());
    state.metrics.listeners.inc();
    let following = Following {
        head: state.engine.head(),
        rights: Box::pin(state.engine.rights_changed()),
        sight: state.engine.files().sight(&who.actor),
        revoked: state.revocations.subscribe(),
        openings: state.openings.subscribe(),
        locks: state.engine.files().locks_watch(),
        // Told at once, so that a caller knows from where it is in step.
        waiting: VecDeque::from(first),
        _counted: Counted(state.clone()),
        state,
        who,
        upto,
        ended: false,
    };
    let stream = futures_util::stream::unfold(following, |mut f| async move {
        let next = f.next().await?;
        Some((Ok::<_, actix_web::Error>(next), f))
    });
    Ok(HttpResponse::Ok()
        .content_type("text/event-stream")
        .insert_header(("Cache-Control", "no-store"))
        .insert_header(("X-Accel-Buffering", "no"))
        .streaming(stream))
}

/// Tells where the caller sees more or less than before, if that is so.
async fn access(state: &State, who: &Who, sight: &mut Sight) -> Option<Bytes> {
    let now = state.engine.files().sight(&who.actor);
    let differs = state.engine.files().sight_differs(sight, &now).await.ok()?;
    *sight = now;
    let nodes: Vec<i64> = differs.into_iter().map(|n| n.0).collect();
    let data = serde_json::json!({ "nodes": nodes });
    (!nodes.is_empty()).then(|| Bytes::from(format!("event: access\ndata: {data}\n\n")))
}

impl Following {
    async fn next(&mut self) -> Option<Bytes> {
        loop {
            if let Some(ready) = self.waiting.pop_front() {
                return Some(ready);
            }
            if self.ended {
                return None;
            }
            tokio::select! {
                grown = self.head.wait_for(|head| *head > self.upto.0) => {
                    if grown.is_err() {
                        return None;
                    }
                }
                revoked = self.revoked.changed() => {
                    if revoked.is_err() || !still(&self.state, &self.who).await {
                        self.ended = true;
                        return Some(Bytes::from_static(b"event: end\ndata: {}\n\n"));
                    }
                    continue;
                }
                told = self.openings.changed() => {
                    if told.is_err() {
                        return None;
                    }
                    // Many at once are told once.
                    tokio::time::sleep(GATHER).await;
                    self.openings.mark_unchanged();
                    return Some(Bytes::from_static(b"event: openings\ndata: {}\n\n"));
                }
                nodes = self.locks.next() => {
                    let mut seen = Vec::new();
                    for node in nodes? {
                        if self.state.engine.files().chain(&self.who.actor, node, Level::View).await.is_ok() {
                            seen.push(node.0);
                        }
                    }
                    if !seen.is_empty() {
                        let data = serde_json::json!({ "nodes": seen });
                        return Some(Bytes::from(format!("event: locks\ndata: {data}\n\n")));
                    }
                    continue;
                }
                () = &mut self.rights => {
                    self.rights = Box::pin(self.state.engine.rights_changed());
                    match access(&self.state, &self.who, &mut self.sight).await {
                        Some(told) => return Some(told),
                        None => continue,
                    }
                }
                () = tokio::time::sleep(QUIET) => {
                    if !still(&self.state, &self.who).await || !self.state.ready.load(std::sync::atomic::Ordering::SeqCst) {
                        return None;
                    }
                    // Something may have been given for so long, and no longer.
                    return Some(access(&self.state, &self.who, &mut self.sight).await.unwrap_or(Bytes::from_static(b": quiet\n\n")));
                }
            }
            tokio::time::sleep(GATHER).await;
            if self.read().await.is_err() {
                // The catalogue failed: the caller comes back and goes on from where it was.
                return None;
            }
        }
    }

    /// Reads what came after `upto` on every shelf that one may enter now.
    async fn read(&mut self) -> Result<(), Refusal> {
        let mut upto = Moment(*self.head.borrow_and_update());
        // Every shelf is told up to the same number, however many changes lie on it: what went out of sight is told
        // at the number up to which was read, and would be left out of a shorter answer, and never told again.
        let told = loop {
            match self.read_until(upto).await? {
                (told, reached) if reached == upto => break told,
                (_, reached) => upto = reached,
            }
        };
        // Several changes can share a number: only the last one carries it as its id.
        for i in 0..told.len() {
            let (moment, text) = &told[i];
            let last = told.get(i + 1).is_none_or(|(next, _)| next != moment);
            let id = if last { format!("id: {}\n\n", moment.token()) } else { "\n".to_string() };
            self.waiting.push_back(Bytes::from([text.as_ref(), id.as_bytes()].concat()));
        }
        if told.last().is_none_or(|(moment, _)| *moment < upto) {
            // Nothing of it is the caller's to see, but it need not be looked at again.
            self.waiting.push_back(Bytes::from(format!("id: {}\nevent: upto\ndata: {{}}\n\n", upto.token())));
        }
        self.upto = upto;
        Ok(())
    }

    /// What came up to a number, oldest first, and the number up to which one shelf's page reached.
    async fn read_until(&self, head: Moment) -> Result<(Vec<(Moment, Bytes)>, Moment), Refusal> {
        let engine = &self.state.engine;
        let names = self.state.names_for(&self.who).await;
        let mut told: Vec<((Moment, bool), Bytes)> = Vec::new();
        for shelf in engine.files().shelves_in_sight(&self.who.actor).await? {
            if !engine.touched_since(&shelf, self.upto) {
                continue;
            }
            let (found, reached, _) =
                engine.files().changes_until(&self.who.actor, &shelf, self.upto, head, PAGE).await?;
            if reached < head {
                return Ok((Vec::new(), reached));
            }
            for change in found {
                let shown = change_to_api(&self.state, &self.who, &change, &names).await?;
                // Where the caller knows it to be: several moves may lie between.
                let before =
                    engine.history().seen_at(&self.who.actor, NodeId(shown.node.id), self.upto).await?;
                let from = match before {
                    Some(row) if engine.files().shows_parent(&self.who.actor, &row).await? => row.parent,
                    _ => None,
                };
                let from = from.filter(|p| Some(p.0) != shown.node.parent);
                let data = serde_json::json!({ "root": shelf.root.0, "from": from, "change": shown });
                told.push((change.order(), Bytes::from(format!("event: change\ndata: {data}\n"))));
            }
        }
        told.sort_by_key(|(order, _)| *order);
        Ok((told.into_iter().map(|((moment, _), text)| (moment, text)).collect(), head))
    }
}

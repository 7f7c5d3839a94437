//! Many states of files in one answer.

use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::state::State;
use crate::state::sessions::Who;
use crate::transfer::reader::Reader;
use actix_web::{HttpResponse, post, web};
use bytes::Bytes;
use std::fs::File;
use std::io::Read;
use tokio::sync::mpsc;
use yellow_attic_api as api;
use yellow_attic_core::rights::Level;
use yellow_attic_core::tar::{self, Entry};
use yellow_attic_core::{Moment, NodeId};
use yellow_attic_store::Row;

/// The most states that are asked for at once.
const MOST: usize = 1_000;
/// Larger files are asked for one by one.
const LARGEST: i64 = 1 << 20;
/// So many are read together.
const TOGETHER: usize = 32;
/// So many bytes are read ahead of a caller that takes its time, at most, in pieces of what is read together.
const AHEAD: usize = 2;

/// The bytes of many states of files, as a tar stream: each under its place in the list, from 0 on. What is not there, is
/// not held, may not be seen, or has more than 1 MiB, is left out. Without its end (two empty blocks) it is not whole.
#[utoipa::path(context_path = "/api/v1", tag = "files", request_body = api::WantedStates,
    responses((status = 200, description = "The states", content_type = "application/x-tar", body = [u8]), (status = 400, body = api::Problem)))]
#[post("/states")]
pub async fn states(
    state: web::Data<State>,
    who: Who,
    body: Json<api::WantedStates>,
) -> Result<HttpResponse, Refusal> {
    if body.states.len() > MOST {
        return Err(refusals::TOO_MANY_STATES.of(&format!("At most {MOST} states are asked for at once.")));
    }
    let mut wanted = Vec::with_capacity(body.states.len());
    for one in &body.states {
        let moment = Moment::from_token(&one.moment)
            .ok_or_else(|| refusals::MOMENT_MALFORMED.of(&format!("\"{}\" is no moment.", one.moment)))?;
        wanted.push((NodeId(one.node), moment));
    }
    let (send, ready) = mpsc::channel::<Bytes>(AHEAD);
    let its = state.clone();
    actix_web::rt::spawn(async move {
        let mut place = 0;
        for some in wanted.chunks(TOGETHER) {
            let opened = futures_util::future::join_all(
                some.iter().map(|(node, moment)| open(&its, &who, *node, *moment)),
            );
            let opened = opened.await;
            let read = tokio::task::spawn_blocking(move || entries(place, opened)).await;
            let Ok(bytes) = read else { return };
            its.metrics.sent.inc_by(bytes.len() as u64);
            if send.send(bytes.into()).await.is_err() {
                return;
            }
            place += some.len();
        }
        let _ = send.send(Bytes::from_static(&[0; 1024])).await;
    });
    let stream = futures_util::stream::unfold(ready, |mut ready| async move {
        let piece = ready.recv().await?;
        Some((Ok::<_, actix_web::Error>(piece), ready))
    });
    Ok(HttpResponse::Ok().content_type("application/x-tar").streaming(stream))
}

/// A state that may be seen, and is small enough.
async fn open(state: &State, who: &Who, node: NodeId, at: Moment) -> Option<(File, Row)> {
    let files = state.engine.files();
    let now =
        files.chain(&who.actor, node, Level::View).await.ok().and_then(|chain| chain.into_iter().next());
    let row = match now {
        Some(now) if now.since <= at && !now.is_folder() => (*now).clone(),
        _ => state.engine.history().check_past(&who.actor, node, at).await.ok()?.into_iter().next()?,
    };
    if row.is_folder() || row.size() > LARGEST {
        return None;
    }
    let (file, row) = files.open_bytes(&row).await.ok()?;
    if row.since > at {
        // Another program wrote to it meanwhile.
        return None;
    }
    let reader = Reader::from(who);
    if state.reads.note(reader.actor(), row.node, row.name(), state.engine.now_ms()) {
        let (engine, reads) = (state.engine.clone(), state.reads.clone());
        state.engine.runtime().spawn(async move { reads.write(&engine).await });
    }
    Some((file, row))
}

/// Entries of a tar stream; what cannot be read as a whole is left out.
fn entries(from: usize, opened: Vec<Option<(File, Row)>>) -> Vec<u8> {
    let mut all = Vec::new();
    for (place, (mut file, row)) in
        opened.into_iter().enumerate().filter_map(|(n, one)| Some((from + n, one?)))
    {
        let size = row.size().max(0) as u64;
        let before = all.len();
        let name = place.to_string();
        all.extend_from_slice(&tar::head(&name, Entry::file(row.executable), size, row.mtime, &name));
        let read = (&mut file).take(size).read_to_end(&mut all);
        if read.is_ok_and(|n| n as u64 == size) {
            all.resize(all.len() + tar::padding(size) as usize, 0);
        } else {
            all.truncate(before);
        }
    }
    all
}

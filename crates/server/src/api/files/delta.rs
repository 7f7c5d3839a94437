//! Deltas: the chunks of a file, and a new state made of parts of older ones and what is new.
//! docs/protocol.md describes both.

use crate::dto::node;
use crate::http::conditions::of_write;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times;
use crate::state::State;
use crate::state::sessions::Who;
use crate::transfer::receive::{feed_on, lots};
use actix_web::{HttpRequest, HttpResponse, get, post, web};
use bytes::Bytes;
use futures_util::StreamExt;
use std::fs::File;
use std::os::unix::fs::FileExt;
use std::sync::Arc;
use yellow_attic_api as api;
use yellow_attic_core::chunking::cut;
use yellow_attic_core::delta::{Chunk, DeltaError, Event, MOST_BASES, Reader};
use yellow_attic_core::rights::Level;
use yellow_attic_core::{Name, NodeId};
use yellow_attic_store::{FileFacts, Row, StoreError};

/// The longest first line of a delta, in bytes.
const LONGEST_LINE: usize = 16 * 1024;

async fn state_of(state: &State, who: &Who, node: i64, at: Option<&str>) -> Result<Row, Refusal> {
    let node = NodeId(node);
    match at {
        None => Ok((*state.engine.files().chain(&who.actor, node, Level::View).await?[0]).clone()),
        Some(at) => {
            let at = times::moment(&state.engine, at).await?;
            let chain = state.engine.history().check_past(&who.actor, node, at).await?;
            chain.into_iter().next().ok_or_else(|| Refusal::not_found("The file"))
        }
    }
}

/// The chunks of a file as it is or was: whoever holds an older state fetches only what that lacks.
#[utoipa::path(context_path = "/api/v1", tag = "files", params(("node" = i64, Path), api::StateQuery),
    responses((status = 200, body = api::Chunks), (status = 404, body = api::Problem)))]
#[get("/nodes/{node}/chunks")]
pub async fn show_chunks(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    query: web::Query<api::StateQuery>,
) -> Result<HttpResponse, Refusal> {
    let row = state_of(&state, &who, *path, query.at.as_deref()).await?;
    let (file, row) = state.engine.files().open_bytes(&row).await?;
    let hash = row.content.map(|c| c.hash).unwrap_or_default();
    let chunks = match state.chunks.get(&hash) {
        Some(known) => known,
        None => {
            let cutting = web::block(move || {
                cut(file).map(|c| c.map(|c| Chunk::of(&c).word())).collect::<std::io::Result<Vec<_>>>()
            });
            let cut = cutting.await.map_err(|_| StoreError::Stopping)?;
            let cut =
                Arc::new(cut.map_err(|e| StoreError::Unreadable {
                    path: row.name().into(),
                    reason: e.to_string(),
                })?);
            state.chunks.insert(hash, cut.clone());
            cut
        }
    };
    if state.reads.note(&who.actor, row.node, row.name(), state.engine.now_ms()) {
        state.reads.write(&state.engine).await;
    }
    Ok(HttpResponse::Ok().json(api::Chunks {
        etag: row.etag().unwrap_or_default(),
        blake3: yellow_attic_store::fs::disk::hex(&hash),
        size: row.size(),
        chunks: (*chunks).clone(),
    }))
}

fn malformed(why: &str) -> Refusal {
    refusals::DELTA_MALFORMED.of(&format!("The delta cannot be read: {why}."))
}

/// What goes wrong while a delta is put together.
enum Broken {
    Store(StoreError),
    Delta(DeltaError),
    Outside,
    Base(u8),
}

impl From<DeltaError> for Broken {
    fn from(e: DeltaError) -> Broken {
        Broken::Delta(e)
    }
}

impl From<StoreError> for Broken {
    fn from(e: StoreError) -> Broken {
        Broken::Store(e)
    }
}

impl From<Broken> for Refusal {
    fn from(broken: Broken) -> Refusal {
        match broken {
            Broken::Store(e) => e.into(),
            Broken::Delta(e) => malformed(&e.to_string()),
            Broken::Outside => malformed("it copies from beyond the end of a state"),
            Broken::Base(n) => malformed(&format!("it copies from state {n}, which it does not name")),
        }
    }
}

/// Puts a file made of parts of states that the caller may read, and of bytes that come along.
#[utoipa::path(context_path = "/api/v1", tag = "files", params(("node" = i64, Path), ("name" = String, Path)),
    request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 200, body = api::Node), (status = 201, body = api::Node), (status = 400, body = api::Problem),
        (status = 412, body = api::Problem), (status = 422, body = api::Problem), (status = 507, body = api::Problem)))]
#[post("/nodes/{node}/assembled/{name}")]
pub async fn assemble(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
    path: web::Path<(i64, String)>,
    mut payload: web::Payload,
) -> Result<HttpResponse, Refusal> {
    let (parent, name) = path.into_inner();
    let (parent, name) = (NodeId(parent), Name::new(&name).map_err(StoreError::from)?);
    let conditions = of_write(&request)?;
    if let Some((shown, _)) = node::answered(&state, &who, &conditions.known).await? {
        return Ok(HttpResponse::Ok().json(shown));
    }
    let there = state.engine.files().check_put(&who.actor, parent, &name).await?;
    // The first line says what it is.
    let mut line = Vec::new();
    let rest = loop {
        let Some(Ok(piece)) = payload.next().await else {
            return Err(malformed("it ends within its first line"));
        };
        if let Some(end) = piece.iter().position(|b| *b == b'\n') {
            line.extend_from_slice(&piece[..end]);
            break piece.slice(end + 1..);
        }
        line.extend_from_slice(&piece);
        if line.len() > LONGEST_LINE {
            return Err(malformed("its first line is longer than 16 KiB"));
        }
    };
    let head: api::DeltaHead = serde_json::from_slice(&line).map_err(|e| malformed(&e.to_string()))?;
    let wanted =
        yellow_attic_store::fs::disk::unhex(&head.blake3).ok_or_else(|| malformed("blake3 is no hash"))?;
    let mtime = match &head.modified {
        None => state.engine.now_ms(),
        Some(text) => times::read(text).ok_or_else(|| malformed("modified is no RFC 3339 time"))?,
    };
    if head.size > state.config.largest_file {
        return Err(StoreError::TooLarge(state.config.largest_file).into());
    }
    if head.bases.len() > MOST_BASES {
        return Err(malformed("it names more than 16 states"));
    }
    let mut bases: Vec<(File, u64)> = Vec::new();
    for base in &head.bases {
        let row = state_of(&state, &who, base.node, base.at.as_deref()).await?;
        let (file, row) = state.engine.files().open_bytes(&row).await?;
        if row.etag().as_deref() != Some(base.etag.as_str()) {
            return Err(refusals::BASE_CHANGED
                .of(&format!("\"{}\" is not in the state that the delta was made from.", row.name())));
        }
        bases.push((file, row.size().max(0) as u64));
    }
    state.engine.check_room(head.size)?;
    let replaced = there.map_or(0, |row| row.size().max(0) as u64);
    let claim = state.engine.space().claim(parent, head.size, replaced).await?;
    let (engine, size) = (state.engine.clone(), head.size);
    let (send, mut lots) = lots();
    let writing = web::block(move || {
        let mut arriving = engine.stage(size)?;
        let (mut reader, mut whole, mut came) = (Reader::default(), false, 0);
        let mut buffer = vec![0; 1 << 20];
        while let Some(lot) = lots.blocking_recv() {
            if lot.is_empty() {
                whole = true;
                break;
            }
            for piece in &lot {
                reader.take::<Broken>(piece, |event| {
                    let more = match &event {
                        Event::Copy { length, .. } => *length,
                        Event::Bytes(bytes) => bytes.len() as u64,
                    };
                    if more > size - arriving.size().min(size) {
                        return Err(StoreError::MoreThanAnnounced(size).into());
                    }
                    match event {
                        Event::Bytes(bytes) => {
                            came += bytes.len() as u64;
                            Ok(arriving.write(bytes)?)
                        }
                        Event::Copy { base, mut at, mut length } => {
                            let (file, its) = bases.get(usize::from(base)).ok_or(Broken::Base(base))?;
                            if at.checked_add(length).is_none_or(|end| end > *its) {
                                return Err(Broken::Outside);
                            }
                            while length > 0 {
                                let n = length.min(buffer.len() as u64) as usize;
                                file.read_exact_at(&mut buffer[..n], at)
                                    .map_err(|e| StoreError::io("reading an older state", &e))?;
                                arriving.write(&buffer[..n])?;
                                (at, length) = (at + n as u64, length - n as u64);
                            }
                            Ok(())
                        }
                    }
                })?;
            }
        }
        if !whole || !reader.is_ended() {
            return Err(StoreError::BrokenBody(arriving.size()).into());
        }
        if arriving.size() != size {
            return Err(StoreError::ShortBody { announced: size, got: arriving.size() }.into());
        }
        Ok::<_, Broken>((arriving.finish()?, came))
    });
    let first = futures_util::stream::iter((!rest.is_empty()).then(|| Ok::<Bytes, _>(rest)));
    let (written, ()) = tokio::join!(writing, feed_on(first.chain(payload), send));
    let (staged, came) = written.map_err(|_| StoreError::Stopping)??;
    state.metrics.received.inc_by(came);
    if staged.hash != wanted {
        return Err(StoreError::WrongHash.into());
    }
    let facts = FileFacts { mtime, executable: head.executable };
    let done = state.engine.files().put_with(&who.actor, parent, name, staged, facts, conditions).await?;
    drop(claim);
    let row = done.row.ok_or_else(|| Refusal::not_found("The file"))?;
    let shown = node::present(&state, &who, &row).await?;
    let mut answer = if done.created { HttpResponse::Created() } else { HttpResponse::Ok() };
    if let Some(tag) = &shown.etag {
        answer.insert_header((actix_web::http::header::ETAG, tag.as_str()));
    }
    Ok(answer.json(shown))
}

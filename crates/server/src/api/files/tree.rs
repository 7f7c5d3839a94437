//! All that is beneath a folder, as it was at one moment.

use crate::dto::node::node;
use crate::http::problem::Refusal;
use crate::http::times;
use crate::identity::principal::still;
use crate::state::State;
use crate::state::names::NameMap;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, get, web};
use bytes::Bytes;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::watch;
use yellow_attic_api as api;
use yellow_attic_core::NodeId;
use yellow_attic_store::engine::RightsWatch;
use yellow_attic_store::timeline::changes::Sight;
use yellow_attic_store::timeline::tree::Growing;

/// Lines are gathered to pieces of this size.
const PIECE: usize = 64 * 1024;
/// Rows between two looks at whether the caller may still read on.
const ROWS: usize = 250;
/// What was given for so long, and no longer, ends without a change of rights: looked at so often.
const LOOK: Duration = Duration::from_secs(2);

/// What the caller may do in a folder, and where beneath it that is otherwise: all that a program has to know to say beforehand
/// what will be refused.
#[utoipa::path(context_path = "/api/v1", tag = "nodes", params(("node" = i64, Path)),
    responses((status = 200, body = api::Levels), (status = 404, body = api::Problem)))]
#[get("/nodes/{node}/levels")]
pub async fn levels(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<web::Json<api::Levels>, Refusal> {
    let (level, beneath) = state.engine.grants().levels_beneath(&who.actor, NodeId(*path)).await?;
    let beneath = beneath.into_iter().map(|(way, level)| api::LevelAt {
        node: way[0].node.0,
        path: way.iter().rev().map(|row| row.name()).collect::<Vec<_>>().join("/"),
        level: level.word().to_string(),
    });
    Ok(web::Json(api::Levels { level: level.word().to_string(), beneath: beneath.collect() }))
}

/// All that is, or was, beneath a folder at one moment, each folder before what is in it: one line for each, as JSON. The
/// first line says which folder and moment, the last how many there were. Without that last line it is not whole, and
/// what it leaves out may be there: so it ends if what the caller may see changes meanwhile, if the sign-in ends, or the
/// catalogue fails.
#[utoipa::path(context_path = "/api/v1", tag = "nodes", params(("node" = i64, Path), api::StateQuery),
    responses((status = 200, body = api::TreeLine, content_type = "application/x-ndjson"), (status = 404, body = api::Problem)))]
#[get("/nodes/{node}/tree")]
pub async fn tree(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
    query: web::Query<api::StateQuery>,
) -> Result<HttpResponse, Refusal> {
    let at = match &query.at {
        Some(at) => times::moment(&state.engine, at).await?,
        None => state.engine.history().now_moment().await?,
    };
    let watch = SightWatch::new(&state, &who);
    let names = state.names_for(&who).await;
    let (top, growing) = state.engine.files().grow_at(&who.actor, NodeId(*path), at).await?;
    let first = api::TreeLine::Begin {
        timeline: state.engine.timeline().to_string(),
        moment: at.token(),
        root: Box::new(node(&top, None, &names)),
    };
    let telling =
        Telling { growing, names, watch, moment: at.token(), count: 0, ready: line(&first), done: false };
    let stream = futures_util::stream::try_unfold(telling, |mut telling| async move {
        Ok::<_, actix_web::Error>(telling.next().await?.map(|piece| (piece, telling)))
    });
    Ok(HttpResponse::Ok().content_type("application/x-ndjson").streaming(stream))
}

fn line(line: &api::TreeLine) -> Vec<u8> {
    let mut text = serde_json::to_vec(line).unwrap_or_default();
    text.push(b'\n');
    text
}

/// Whether somebody who reads a long answer still is who they were, and sees what they saw.
struct SightWatch {
    state: web::Data<State>,
    who: Who,
    rights: RightsWatch,
    revoked: watch::Receiver<u64>,
    sight: Sight,
    looked: Instant,
}

impl SightWatch {
    fn new(state: &web::Data<State>, who: &Who) -> SightWatch {
        let mut rights = state.engine.rights_watch();
        rights.seen();
        SightWatch {
            rights,
            revoked: state.revocations.subscribe(),
            sight: state.engine.files().sight(&who.actor),
            looked: Instant::now(),
            state: state.clone(),
            who: who.clone(),
        }
    }

    async fn is_as_before(&mut self) -> Result<bool, Refusal> {
        let revoked = self.revoked.has_changed().unwrap_or(true);
        let looked = self.looked.elapsed() < LOOK;
        if !revoked && looked && !self.rights.changed() {
            return Ok(true);
        }
        self.looked = Instant::now();
        self.revoked.mark_unchanged();
        self.rights.seen();
        let files = self.state.engine.files();
        let now = files.sight(&self.who.actor);
        Ok(files.sight_differs(&self.sight, &now).await?.is_empty() && still(&self.state, &self.who).await)
    }
}

struct Telling {
    growing: Growing,
    names: Arc<NameMap>,
    watch: SightWatch,
    moment: String,
    count: u64,
    ready: Vec<u8>,
    done: bool,
}

impl Telling {
    async fn next(&mut self) -> Result<Option<Bytes>, Refusal> {
        while !self.done && self.ready.len() < PIECE {
            if !self.watch.is_as_before().await? {
                // What was told, and what was left out, may be otherwise by now.
                return Err(Refusal::not_found("The rest"));
            }
            match self.growing.next(ROWS).await? {
                Some(rows) => {
                    for row in &rows {
                        let node = Box::new(node(row, None, &self.names));
                        self.ready.extend(line(&api::TreeLine::Entry { node }));
                    }
                    self.count += rows.len() as u64;
                }
                None => {
                    let (count, moment) = (self.count, self.moment.clone());
                    self.ready.extend(line(&api::TreeLine::End { count, moment }));
                    self.done = true;
                }
            }
        }
        let piece = std::mem::take(&mut self.ready);
        Ok((!piece.is_empty()).then(|| piece.into()))
    }
}

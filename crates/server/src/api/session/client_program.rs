//! The client's program, from the service itself: for whoever connects a computer.

use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::state::State;
use actix_web::{HttpResponse, get, route, web};
use bytes::Bytes;
use std::io::Read;
use std::path::PathBuf;
use yellow_attic_api as api;

/// How much of it is sent at a time.
const PIECE: usize = 256 << 10;

/// Where it lies: beside the service's own program.
fn path() -> Option<PathBuf> {
    Some(std::env::current_exe().ok()?.parent()?.join("yattic")).filter(|p| p.is_file())
}

fn missing() -> Refusal {
    refusals::NOT_FOUND
        .with("The client's program does not lie beside the service's.", "Ask the administrator for yattic.")
}

/// The client's program for machines like the service's: its size and its SHA-256.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in",
    responses((status = 200, body = api::ClientProgram), (status = 404, body = api::Problem)))]
#[get("/client")]
pub async fn show_client(state: web::Data<State>) -> Result<HttpResponse, Refusal> {
    let path = path().ok_or_else(missing)?;
    let found = tokio::task::spawn_blocking(move || state.client_program.of(&path)).await;
    let (size, sha256) = found.ok().and_then(Result::ok).ok_or_else(missing)?;
    Ok(HttpResponse::Ok().json(api::ClientProgram {
        name: "yattic".into(),
        version: env!("CARGO_PKG_VERSION").into(),
        system: format!("{} {}", std::env::consts::OS, std::env::consts::ARCH),
        size,
        sha256,
    }))
}

/// The bytes of the client's program.
#[utoipa::path(get, context_path = "/api/v1", path = "/client/program", tag = "sign-in",
    responses((status = 200, content_type = "application/octet-stream", body = [u8]), (status = 404, body = api::Problem)))]
#[route("/client/program", method = "GET", method = "HEAD")]
pub async fn fetch_client() -> Result<HttpResponse, Refusal> {
    let path = path().ok_or_else(missing)?;
    let file = std::fs::File::open(path).map_err(|_| missing())?;
    let size = file.metadata().map_err(|_| missing())?.len();
    let pieces = futures_util::stream::try_unfold(file, async |mut file| {
        let read = tokio::task::spawn_blocking(move || {
            let mut piece = vec![0; PIECE];
            let n = file.read(&mut piece)?;
            piece.truncate(n);
            Ok::<_, std::io::Error>((piece, file))
        });
        let (piece, file) = read.await.map_err(std::io::Error::other)??;
        Ok::<_, std::io::Error>((!piece.is_empty()).then(|| (Bytes::from(piece), file)))
    });
    Ok(HttpResponse::Ok()
        .content_type("application/octet-stream")
        .insert_header(("Content-Disposition", "attachment; filename=\"yattic\""))
        .insert_header(("Cache-Control", "no-cache"))
        .body(actix_web::body::SizedStream::new(size, pieces)))
}

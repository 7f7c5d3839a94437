//! Uploads that arrive in parts: tus 1.0 with creation, creation-with-upload, creation-defer-length, termination,
//! expiration, checksum (sha1, sha256, sha512; of each part that names one) and concatenation (parts side by side).
//!
//! `Upload-Metadata` of a creation: `parent` (a folder's id) and `filename`, or `path`
//! (`shelf:/path`); `modified` (RFC 3339); `blake3` (64 hexadecimal digits: the whole must have
//! that hash); `ifmatch` (an ETag that must stand there); `ifnonematch` (`*`: nothing may stand
//! there). The file is put when its last byte has arrived; if that is refused, the bytes stay
//! until the upload expires, and another place can be chosen.

use crate::dto::upload::upload_to_api;
use crate::http::body::Json;
use crate::http::conditions::{KnownHeaders, known};
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times::show;
use crate::state::State;
use crate::state::sessions::Who;
use crate::transfer::receive::append;
use crate::transfer::tus::{
    ALL_EXTENSIONS, LENGTH, OFFSET, VERSION, announced, brings_part, check_part, check_version, number,
    speak, tell,
};
use actix_web::http::{Method, header};
use actix_web::{HttpRequest, HttpResponse, get, post, route, web};
use base64::Engine as _;
use yellow_attic_api as api;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::rights::Level;
use yellow_attic_core::{Name, NodeId};
use yellow_attic_store::StoreError;
use yellow_attic_store::timeline::upload_ends::OtherPlace;
use yellow_attic_store::timeline::uploads::{Joining, Upload};

/// What was said at the beginning, as far as it is kept.
fn told_again(upload: &Upload) -> String {
    let encoded =
        |key: &str, text: &str| format!("{key} {}", base64::engine::general_purpose::STANDARD.encode(text));
    let mut said = vec![encoded("filename", upload.new.name.as_str())];
    if upload.new.parent.0 != 0 {
        said.push(encoded("parent", &upload.new.parent.to_string()));
    }
    said.extend(upload.new.mtime.map(|ms| encoded("modified", &show(ms))));
    said.extend(upload.new.hash.map(|hash| encoded("blake3", &yellow_attic_store::fs::disk::hex(&hash))));
    said.join(",")
}

/// What the service can do of the protocol.
#[utoipa::path(options, context_path = "/api/v1", path = "/uploads", tag = "files",
    responses((status = 204, description = "The headers Tus-Version, Tus-Extension and Tus-Max-Size")))]
#[route("/uploads", method = "OPTIONS")]
pub async fn upload_options(state: web::Data<State>) -> HttpResponse {
    speak(Ok(HttpResponse::NoContent()
        .insert_header(("Tus-Version", VERSION))
        .insert_header(("Tus-Extension", ALL_EXTENSIONS))
        .insert_header(("Tus-Checksum-Algorithm", "sha1,sha256,sha512"))
        .insert_header(("Tus-Max-Size", state.config.largest_file))
        .finish()))
}

/// One's unfinished uploads: what a sender that was broken off can go on with.
#[utoipa::path(context_path = "/api/v1", tag = "files", responses((status = 200, body = api::Uploads)))]
#[get("/uploads")]
pub async fn list_uploads(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    let uploads = state.engine.files().uploads(&who.actor).await?;
    Ok(HttpResponse::Ok().json(api::Uploads { uploads: uploads.iter().map(upload_to_api).collect() }))
}

/// Begins an upload (tus creation; with a body, creation-with-upload). Its room is spoken for
/// from now on.
#[utoipa::path(context_path = "/api/v1", tag = "files",
    responses((status = 201, description = "The header Location names it"), (status = 400, body = api::Problem),
        (status = 403, body = api::Problem), (status = 413, body = api::Problem), (status = 507, body = api::Problem)))]
#[post("/uploads")]
pub async fn begin_upload(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
    payload: web::Payload,
) -> HttpResponse {
    speak(begin(&request, &state, &who, payload).await)
}

async fn begin(
    request: &HttpRequest,
    state: &State,
    who: &Who,
    payload: web::Payload,
) -> Result<HttpResponse, Refusal> {
    check_version(request)?;
    let new = announced(state, who, request).await?;
    let empty = new.size == 0 && !new.open_length;
    if matches!(new.joining, Joining::Of(_)) {
        let engine = state.engine.clone();
        let actor = who.actor.clone();
        // A sender that goes away does not stop what is already on the disk.
        let joined =
            state.engine.runtime().spawn(async move { engine.files().join_uploads(&actor, new).await });
        let upload = joined.await.map_err(|_| StoreError::Stopping)??;
        let upload = complete(state, who, &upload.id).await?;
        let mut answer = HttpResponse::Created();
        tell(&mut answer, &upload);
        return Ok(answer
            .insert_header((header::LOCATION, format!("/api/v1/uploads/{}", upload.id)))
            .finish());
    }
    let mut upload = state.engine.files().begin_upload(&who.actor, new).await?;
    if brings_part(request) {
        let part = state.engine.files().append(&who.actor, &upload.id, 0).await?;
        // A broken line ends only this part: the upload is there to go on with.
        append(state, part, request, payload).await?;
        upload = complete(state, who, &upload.id).await?;
    } else if empty {
        upload = complete(state, who, &upload.id).await?;
    }
    let mut answer = HttpResponse::Created();
    tell(&mut answer, &upload);
    Ok(answer.insert_header((header::LOCATION, format!("/api/v1/uploads/{}", upload.id))).finish())
}

/// Puts the file if all its bytes are here.
async fn complete(state: &State, who: &Who, id: &str) -> Result<Upload, Refusal> {
    // A sender that goes away does not stop what is already on the disk.
    let (engine, actor, its_id) = (state.engine.clone(), who.actor.clone(), id.to_string());
    let put = state
        .engine
        .runtime()
        .spawn(async move { engine.files().finish_upload(&actor, &its_id, None).await });
    put.await.map_err(|_| StoreError::Stopping)??;
    Ok(state.engine.files().upload(&who.actor, id).await?)
}

/// Tells how far an upload is (HEAD), goes on with it (PATCH), or ends it (DELETE). An upload
/// whose bytes are all here is put first, if it was not yet: a refusal of that is the answer.
#[utoipa::path(patch, context_path = "/api/v1", path = "/uploads/{id}", tag = "files", params(("id" = String, Path)),
    request_body(content = Vec<u8>, content_type = "application/offset+octet-stream"),
    responses((status = 204, description = "The header Upload-Offset tells how many bytes have arrived"),
        (status = 404, body = api::Problem), (status = 409, body = api::Problem), (status = 412, body = api::Problem),
        (status = 415, body = api::Problem), (status = 423, body = api::Problem), (status = 507, body = api::Problem)))]
#[route("/uploads/{id}", method = "HEAD", method = "PATCH", method = "DELETE")]
pub async fn one_upload(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
    path: web::Path<String>,
    payload: web::Payload,
) -> HttpResponse {
    let done = match check_version(&request) {
        Err(refusal) => Err(refusal),
        Ok(()) => match *request.method() {
            Method::PATCH => patch(&request, &state, &who, &path, payload).await,
            Method::DELETE => end(&state, &who, &path).await,
            _ => head(&state, &who, &path).await,
        },
    };
    speak(done)
}

async fn head(state: &State, who: &Who, id: &str) -> Result<HttpResponse, Refusal> {
    let upload = state.engine.files().settle_upload(&who.actor, id).await?;
    let whole = upload.received == upload.new.size && !upload.new.open_length;
    let upload = if whole { complete(state, who, id).await? } else { upload };
    let mut answer = HttpResponse::Ok();
    tell(&mut answer, &upload);
    // To whoever began it, and to nobody from outside: it names the folder.
    answer.insert_header(("Upload-Metadata", told_again(&upload)));
    Ok(answer.finish())
}

async fn patch(
    request: &HttpRequest,
    state: &State,
    who: &Who,
    id: &str,
    payload: web::Payload,
) -> Result<HttpResponse, Refusal> {
    check_part(request)?;
    let offset = number(request.headers(), &OFFSET)?;
    if request.headers().contains_key(LENGTH) {
        let length = number(request.headers(), &LENGTH)?;
        state.engine.files().tell_length(&who.actor, id, length).await?;
    }
    let part = state.engine.files().append(&who.actor, id, offset).await?;
    append(state, part, request, payload).await?;
    let upload = complete(state, who, id).await?;
    let mut answer = HttpResponse::NoContent();
    tell(&mut answer, &upload);
    Ok(answer.finish())
}

async fn end(state: &State, who: &Who, id: &str) -> Result<HttpResponse, Refusal> {
    state.engine.files().end_upload(&who.actor, id).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Chooses another place for an upload whose bytes are all here, and puts it there.
#[utoipa::path(context_path = "/api/v1", tag = "files", params(("id" = String, Path), KnownHeaders), request_body = api::UploadPlace,
    responses((status = 200, body = api::Node), (status = 404, body = api::Problem), (status = 409, body = api::Problem),
        (status = 412, body = api::Problem)))]
#[post("/uploads/{id}/place")]
pub async fn place_upload(
    request: HttpRequest,
    state: web::Data<State>,
    who: Who,
    path: web::Path<String>,
    body: Json<api::UploadPlace>,
) -> Result<HttpResponse, Refusal> {
    let conditions = if body.replace { Conditions::default() } else { Conditions::nothing_there() };
    let conditions = Conditions { known: known(&request)?, ..conditions };
    let other = OtherPlace {
        parent: NodeId(body.parent),
        name: Name::new(&body.name).map_err(StoreError::from)?,
        conditions,
    };
    state.engine.files().check_put(&who.actor, other.parent, &other.name).await?;
    let done = state
        .engine
        .files()
        .finish_upload(&who.actor, &path, Some(other))
        .await?
        .ok_or_else(|| refusals::UPLOAD_UNFINISHED.of("The upload has not all its bytes yet."))?;
    let row = done.row.ok_or_else(|| Refusal::not_found("The file"))?;
    // It may have been put long ago, and be out of sight by now.
    state.engine.files().chain(&who.actor, row.node, Level::View).await?;
    Ok(HttpResponse::Ok().json(crate::dto::node::present(&state, &who, &row).await?))
}

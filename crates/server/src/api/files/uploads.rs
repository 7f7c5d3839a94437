//! Uploads that arrive in parts: tus 1.0 with creation, creation-with-upload, creation-defer-length, termination,
//! expiration, checksum (sha1, sha256, sha512; of each part that names one) and concatenation (parts side by side).
//!
//! `Upload-Metadata` of a creation: `parent` (a folder's id) and `filename`, or `path`
//! (`shelf:/path`); `modified` (RFC 3339); `blake3` (64 hexadecimal digits: the whole must have
//! that hash); `ifmatch` (an ETag that must stand there); `ifnonematch` (`*`: nothing may stand
//! there). The file is put when its last byte has arrived; if that is refused, the bytes stay
//! until the upload expires, and another place can be chosen.

use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::times::{self, http_date, show};
use crate::identity::principal::Who;
use crate::state::State;
use crate::transfer::receive::append;
use actix_web::http::header::{HeaderMap, HeaderName, HeaderValue};
use actix_web::http::{Method, StatusCode, header};
use actix_web::{HttpRequest, HttpResponse, HttpResponseBuilder, ResponseError, get, post, route, web};
use base64::Engine as _;
use std::collections::HashMap;
use yellow_attic_api as api;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::rights::Level;
use yellow_attic_core::{Name, NodeId, ShelfPath};
use yellow_attic_store::StoreError;
use yellow_attic_store::timeline::uploads::{Joining, NewUpload, OtherPlace, Upload};

const VERSION: &str = "1.0.0";
/// What strangers may use.
pub const EXTENSIONS: &str = "creation,creation-with-upload,termination,expiration";
const ALL_EXTENSIONS: &str =
    "creation,creation-with-upload,creation-defer-length,termination,expiration,checksum,concatenation";
const CONCAT: HeaderName = HeaderName::from_static("upload-concat");
const RESUMABLE: HeaderName = HeaderName::from_static("tus-resumable");
pub const OFFSET: HeaderName = HeaderName::from_static("upload-offset");
pub const LENGTH: HeaderName = HeaderName::from_static("upload-length");
const DEFER: HeaderName = HeaderName::from_static("upload-defer-length");
pub const EXPIRES: HeaderName = HeaderName::from_static("upload-expires");

/// Every answer of the protocol names its version; refusals too.
pub fn speak(result: Result<HttpResponse, Refusal>) -> HttpResponse {
    let mut answer = result.unwrap_or_else(|refusal| refusal.error_response());
    let refused = answer.status() == StatusCode::PRECONDITION_FAILED;
    let headers = answer.headers_mut();
    headers.insert(RESUMABLE, HeaderValue::from_static(VERSION));
    if refused {
        // Which ones there are must be told with that.
        headers.insert(HeaderName::from_static("tus-version"), HeaderValue::from_static(VERSION));
    }
    answer
}

/// What of the protocol there is (tus 1.0.0, OPTIONS).
pub fn tell_protocol(answer: &mut HttpResponseBuilder, request: &HttpRequest) {
    let largest = request.app_data::<web::Data<State>>().map(|state| state.config.largest_file);
    answer
        .insert_header(("Tus-Resumable", VERSION))
        .insert_header(("Tus-Version", VERSION))
        .insert_header(("Tus-Extension", EXTENSIONS))
        .insert_header(("Tus-Max-Size", largest.unwrap_or_default()));
}

pub fn check_version(request: &HttpRequest) -> Result<(), Refusal> {
    match request.headers().get(RESUMABLE).map(|v| v.as_bytes()) {
        Some(version) if version == VERSION.as_bytes() => Ok(()),
        other => Err(Refusal::new(
            412,
            "tus_version",
            "Another version of the protocol",
            &match other {
                Some(v) => format!("Tus-Resumable is {}.", String::from_utf8_lossy(v)),
                None => "The header Tus-Resumable is missing.".to_string(),
            },
            "Send Tus-Resumable: 1.0.0.",
        )),
    }
}

pub fn number(headers: &HeaderMap, name: &HeaderName) -> Result<u64, Refusal> {
    headers.get(name).and_then(|v| v.to_str().ok()).and_then(|v| v.trim().parse().ok()).ok_or_else(|| {
        Refusal::bad(
            "header_malformed",
            &format!("The header {name} is missing or no number."),
            "Send a number of bytes.",
        )
    })
}

/// Reads `Upload-Metadata`: words, each with a value in Base64.
pub fn metadata(headers: &HeaderMap) -> Result<HashMap<String, String>, Refusal> {
    let malformed = || {
        Refusal::bad(
            "header_malformed",
            "The header Upload-Metadata is malformed.",
            "Send pairs of a word and a Base64 value, parted by commas.",
        )
    };
    let Some(value) = headers.get("upload-metadata") else { return Ok(HashMap::new()) };
    let text = value.to_str().map_err(|_| malformed())?;
    let mut found = HashMap::new();
    for pair in text.split(',').map(str::trim).filter(|p| !p.is_empty()) {
        let (word, value) = pair.split_once(' ').unwrap_or((pair, ""));
        let bytes =
            base64::engine::general_purpose::STANDARD.decode(value.trim()).map_err(|_| malformed())?;
        found.insert(word.to_ascii_lowercase(), String::from_utf8(bytes).map_err(|_| malformed())?);
    }
    Ok(found)
}

async fn announced(state: &State, who: &Who, request: &HttpRequest) -> Result<NewUpload, Refusal> {
    let joining = joining(request)?;
    let open_length = length_is_open(request.headers())?;
    let size = match &joining {
        // That of the parts together.
        Joining::Of(_) => 0,
        _ if open_length => state.config.largest_file,
        _ => number(request.headers(), &LENGTH)?,
    };
    if size > state.config.largest_file {
        return Err(StoreError::TooLarge(state.config.largest_file).into());
    }
    let mut said = metadata(request.headers())?;
    let name = |text: &str| Name::new(text).map_err(StoreError::from);
    let (parent, name) = match (said.get("parent"), said.get("filename"), said.get("path")) {
        (Some(parent), Some(filename), _) => {
            let parent = parent.parse().map_err(|_| Refusal::not_found("The folder"))?;
            (NodeId(parent), name(filename)?)
        }
        (_, _, Some(path)) => {
            let mut path = ShelfPath::parse(path).map_err(StoreError::from)?;
            let Some(last) = path.names.pop() else { return Err(StoreError::ShelfTop.into()) };
            (state.engine.resolve(&who.actor, &path.shelf, &path.names).await?.node, last)
        }
        _ if joining == Joining::Part => (NodeId(0), name("part")?),
        _ => {
            return Err(Refusal::bad(
                "upload_has_no_place",
                "Upload-Metadata does not say where the file goes.",
                "Send parent (a folder's id) and filename, or path.",
            ));
        }
    };
    let mtime = said
        .get("modified")
        .map(|text| {
            times::read(text).ok_or_else(|| {
                Refusal::bad(
                    "time_malformed",
                    &format!("modified is {text}, no RFC 3339 time."),
                    "Write it like 2026-11-02T16:20:00Z.",
                )
            })
        })
        .transpose()?;
    let hash = said
        .get("blake3")
        .map(|text| {
            yellow_attic_store::fs::disk::unhex(text).ok_or_else(|| {
                Refusal::bad("hash_malformed", "blake3 is no hash.", "Send 64 hexadecimal digits.")
            })
        })
        .transpose()?;
    let (if_match, if_none_match) = (said.remove("ifmatch"), said.remove("ifnonematch"));
    Ok(NewUpload { parent, name, size, open_length, mtime, if_match, if_none_match, hash, joining })
}

/// Whether the length is told later (`Upload-Defer-Length: 1`).
fn length_is_open(headers: &HeaderMap) -> Result<bool, Refusal> {
    let malformed = |what: &str| {
        Refusal::bad(
            "header_malformed",
            what,
            "Send Upload-Length, or Upload-Defer-Length: 1 and the length with a later part.",
        )
    };
    match headers.get(DEFER).map(|v| v.as_bytes()) {
        None => Ok(false),
        Some(b"1") if headers.contains_key(LENGTH) => Err(malformed("Two lengths are said.")),
        Some(b"1") => Ok(true),
        Some(_) => Err(malformed("The header Upload-Defer-Length is not 1.")),
    }
}

/// Reads `Upload-Concat`: `partial`, or `final;` and the addresses of parts.
fn joining(request: &HttpRequest) -> Result<Joining, Refusal> {
    let Some(value) = request.headers().get(CONCAT) else { return Ok(Joining::Alone) };
    let malformed = || {
        Refusal::bad(
            "header_malformed",
            "The header Upload-Concat is malformed.",
            "Send partial, or final; and the addresses of at most 64 parts, parted by blanks.",
        )
    };
    let value = value.to_str().map_err(|_| malformed())?.trim();
    if value == "partial" {
        return Ok(Joining::Part);
    }
    let parts: Vec<String> = value
        .strip_prefix("final;")
        .ok_or_else(malformed)?
        .split(' ')
        .filter(|p| !p.is_empty())
        .map(|p| p.rsplit('/').next().unwrap_or(p).to_string())
        .collect();
    match parts.len() {
        1..=64 => Ok(Joining::Of(parts)),
        _ => Err(malformed()),
    }
}

/// An upload as it is told.
pub fn shown_upload(upload: &Upload) -> api::Upload {
    api::Upload {
        id: upload.id.clone(),
        parent: upload.new.parent.0,
        name: upload.new.name.to_string(),
        size: if upload.new.open_length { upload.received } else { upload.new.size },
        open: upload.new.open_length,
        received: upload.received,
        modified: upload.new.mtime.map(show),
        blake3: upload.new.hash.map(|hash| yellow_attic_store::fs::disk::hex(&hash)),
        begun: show(upload.made_at),
        expires: show(upload.expires_at),
    }
}

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

pub fn tell(answer: &mut HttpResponseBuilder, upload: &Upload) {
    answer
        .insert_header((OFFSET, upload.received))
        .insert_header(match upload.new.open_length {
            true => (DEFER, 1),
            false => (LENGTH, upload.new.size),
        })
        .insert_header((EXPIRES, http_date(upload.expires_at)));
    match &upload.new.joining {
        Joining::Alone => {}
        Joining::Part => drop(answer.insert_header((CONCAT, "partial"))),
        Joining::Of(parts) => {
            let all: Vec<String> = parts.iter().map(|p| format!("/api/v1/uploads/{p}")).collect();
            answer.insert_header((CONCAT, format!("final;{}", all.join(" "))));
        }
    }
    if let Some(node) = upload.node {
        answer.insert_header((header::CONTENT_LOCATION, format!("/api/v1/nodes/{}", node.0)));
    }
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
    let uploads = state.engine.uploads(&who.actor).await?;
    Ok(HttpResponse::Ok().json(api::Uploads { uploads: uploads.iter().map(shown_upload).collect() }))
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
        let joined = state.engine.runtime().spawn(async move { engine.join_uploads(&actor, new).await });
        let upload = joined.await.map_err(|_| StoreError::Stopping)??;
        let upload = complete(state, who, &upload.id).await?;
        let mut answer = HttpResponse::Created();
        tell(&mut answer, &upload);
        return Ok(answer
            .insert_header((header::LOCATION, format!("/api/v1/uploads/{}", upload.id)))
            .finish());
    }
    let mut upload = state.engine.begin_upload(&who.actor, new).await?;
    if brings_part(request) {
        let part = state.engine.append(&who.actor, &upload.id, 0).await?;
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
    let put = state.engine.runtime().spawn(async move { engine.finish_upload(&actor, &its_id, None).await });
    put.await.map_err(|_| StoreError::Stopping)??;
    Ok(state.engine.upload(&who.actor, id).await?)
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
    let upload = state.engine.settle_upload(&who.actor, id).await?;
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
        state.engine.tell_length(&who.actor, id, length).await?;
    }
    let part = state.engine.append(&who.actor, id, offset).await?;
    append(state, part, request, payload).await?;
    let upload = complete(state, who, id).await?;
    let mut answer = HttpResponse::NoContent();
    tell(&mut answer, &upload);
    Ok(answer.finish())
}

/// Whether the body of a creation is its first part.
pub fn brings_part(request: &HttpRequest) -> bool {
    let kind = request.headers().get(header::CONTENT_TYPE).map(|v| v.as_bytes());
    kind == Some(b"application/offset+octet-stream".as_slice())
}

/// Refuses a part of another kind.
pub fn check_part(request: &HttpRequest) -> Result<(), Refusal> {
    if !brings_part(request) {
        return Err(Refusal::new(
            415,
            "content_type",
            "Another kind of body",
            "The Content-Type is not application/offset+octet-stream.",
            "Send the part's bytes with that Content-Type.",
        ));
    }
    Ok(())
}

async fn end(state: &State, who: &Who, id: &str) -> Result<HttpResponse, Refusal> {
    state.engine.end_upload(&who.actor, id).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Chooses another place for an upload whose bytes are all here, and puts it there.
#[utoipa::path(context_path = "/api/v1", tag = "files", params(("id" = String, Path)), request_body = api::UploadPlace,
    responses((status = 200, body = api::Node), (status = 404, body = api::Problem), (status = 409, body = api::Problem),
        (status = 412, body = api::Problem)))]
#[post("/uploads/{id}/place")]
pub async fn place_upload(
    state: web::Data<State>,
    who: Who,
    path: web::Path<String>,
    body: Json<api::UploadPlace>,
) -> Result<HttpResponse, Refusal> {
    let conditions = if body.replace { Conditions::default() } else { Conditions::nothing_there() };
    let other = OtherPlace {
        parent: NodeId(body.parent),
        name: Name::new(&body.name).map_err(StoreError::from)?,
        conditions,
    };
    state.engine.check_put(&who.actor, other.parent, &other.name).await?;
    let done = state.engine.finish_upload(&who.actor, &path, Some(other)).await?.ok_or_else(|| {
        Refusal::new(
            409,
            "upload_unfinished",
            "Bytes are missing",
            "The upload has not all its bytes yet.",
            "Go on with it first.",
        )
    })?;
    let row = done.row.ok_or_else(|| Refusal::not_found("The file"))?;
    // It may have been put long ago, and be out of sight by now.
    state.engine.chain(&who.actor, row.node, Level::View).await?;
    Ok(HttpResponse::Ok().json(crate::dto::node::present(&state, &who, &row).await?))
}

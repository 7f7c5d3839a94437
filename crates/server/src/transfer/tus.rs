//! The upload protocol: what its headers say and are told.

use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times::{self, http_date};
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::http::StatusCode;
use actix_web::http::header::{self, HeaderMap, HeaderName, HeaderValue};
use actix_web::{HttpRequest, HttpResponse, HttpResponseBuilder, ResponseError, web};
use base64::Engine as _;
use std::collections::HashMap;
use yellow_attic_core::{Name, NodeId, ShelfPath};
use yellow_attic_store::StoreError;
use yellow_attic_store::timeline::uploads::{Joining, NewUpload, Upload};

pub const VERSION: &str = "1.0.0";

/// What strangers may use.
pub const EXTENSIONS: &str = "creation,creation-with-upload,termination,expiration";

pub const ALL_EXTENSIONS: &str =
    "creation,creation-with-upload,creation-defer-length,termination,expiration,checksum,concatenation";
pub const CONCAT: HeaderName = HeaderName::from_static("upload-concat");
pub const RESUMABLE: HeaderName = HeaderName::from_static("tus-resumable");
pub const OFFSET: HeaderName = HeaderName::from_static("upload-offset");
pub const LENGTH: HeaderName = HeaderName::from_static("upload-length");
pub const DEFER: HeaderName = HeaderName::from_static("upload-defer-length");
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
        other => Err(refusals::TUS_VERSION.of(&match other {
            Some(v) => format!("Tus-Resumable is {}.", String::from_utf8_lossy(v)),
            None => "The header Tus-Resumable is missing.".to_string(),
        })),
    }
}

pub fn number(headers: &HeaderMap, name: &HeaderName) -> Result<u64, Refusal> {
    headers
        .get(name)
        .and_then(|v| v.to_str().ok())
        .and_then(|v| v.trim().parse().ok())
        .ok_or_else(|| refusals::HEADER_MALFORMED.of(&format!("The header {name} is missing or no number.")))
}

/// Reads `Upload-Metadata`: words, each with a value in Base64.
pub fn metadata(headers: &HeaderMap) -> Result<HashMap<String, String>, Refusal> {
    let malformed = || {
        refusals::HEADER_MALFORMED.with(
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

pub async fn announced(state: &State, who: &Who, request: &HttpRequest) -> Result<NewUpload, Refusal> {
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
            (state.engine.files().resolve(&who.actor, &path.shelf, &path.names).await?.node, last)
        }
        _ if joining == Joining::Part => (NodeId(0), name("part")?),
        _ => {
            return Err(refusals::UPLOAD_HAS_NO_PLACE.of("Upload-Metadata does not say where the file goes."));
        }
    };
    let mtime = said
        .get("modified")
        .map(|text| {
            times::read(text)
                .ok_or_else(|| refusals::TIME_MALFORMED.of(&format!("modified is {text}, no RFC 3339 time.")))
        })
        .transpose()?;
    let hash = said
        .get("blake3")
        .map(|text| {
            yellow_attic_store::fs::disk::unhex(text)
                .ok_or_else(|| refusals::HASH_MALFORMED.of("blake3 is no hash."))
        })
        .transpose()?;
    let (if_match, if_none_match) = (said.remove("ifmatch"), said.remove("ifnonematch"));
    Ok(NewUpload { parent, name, size, open_length, mtime, if_match, if_none_match, hash, joining })
}

/// Whether the length is told later (`Upload-Defer-Length: 1`).
pub fn length_is_open(headers: &HeaderMap) -> Result<bool, Refusal> {
    let malformed = |what: &str| {
        refusals::HEADER_MALFORMED
            .with(what, "Send Upload-Length, or Upload-Defer-Length: 1 and the length with a later part.")
    };
    match headers.get(DEFER).map(|v| v.as_bytes()) {
        None => Ok(false),
        Some(b"1") if headers.contains_key(LENGTH) => Err(malformed("Two lengths are said.")),
        Some(b"1") => Ok(true),
        Some(_) => Err(malformed("The header Upload-Defer-Length is not 1.")),
    }
}

/// Reads `Upload-Concat`: `partial`, or `final;` and the addresses of parts.
pub fn joining(request: &HttpRequest) -> Result<Joining, Refusal> {
    let Some(value) = request.headers().get(CONCAT) else { return Ok(Joining::Alone) };
    let malformed = || {
        refusals::HEADER_MALFORMED.with(
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

/// Whether the body of a creation is its first part.
pub fn brings_part(request: &HttpRequest) -> bool {
    let kind = request.headers().get(header::CONTENT_TYPE).map(|v| v.as_bytes());
    kind == Some(b"application/offset+octet-stream".as_slice())
}

/// Refuses a part of another kind.
pub fn check_part(request: &HttpRequest) -> Result<(), Refusal> {
    if !brings_part(request) {
        return Err(refusals::CONTENT_TYPE.of("The Content-Type is not application/offset+octet-stream."));
    }
    Ok(())
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

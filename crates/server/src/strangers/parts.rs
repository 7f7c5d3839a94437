//! Uploads of strangers (tus 1.0): into a folder that a link lets add to, or as a part of a delivery.
//!
//! `Upload-Metadata`: `filename`; `way`, the folders on the way to it; `modified`; `blake3`.

use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times;
use crate::state::State;
use crate::state::visits::Visit;
use crate::transfer::receive::append;
use crate::transfer::tus::{LENGTH, OFFSET, brings_part, check_part, check_version, metadata, number, tell};
use actix_web::http::{Method, header};
use actix_web::{HttpRequest, HttpResponse, web};
use yellow_attic_core::name::from_stranger;
use yellow_attic_core::openings::Can;
use yellow_attic_core::{Name, NodeId};
use yellow_attic_store::StoreError;
use yellow_attic_store::sharing::deliveries::Delivery;
use yellow_attic_store::timeline::uploads::{NewUpload, Upload};

/// Begins an upload.
pub async fn begin(
    request: &HttpRequest,
    state: &State,
    visit: &Visit,
    delivery: Option<&Delivery>,
    payload: web::Payload,
) -> Result<HttpResponse, Refusal> {
    check_version(request)?;
    let size = number(request.headers(), &LENGTH)?;
    if size > state.config.largest_file {
        return Err(StoreError::TooLarge(state.config.largest_file).into());
    }
    let said = metadata(request.headers())?;
    let word = |key: &str| said.get(key).map(String::as_str).unwrap_or_default();
    let file = word("filename");
    let way = word("way").trim_matches('/');
    let mtime = times::read(word("modified"));
    let hash = match word("blake3") {
        "" => None,
        text => Some(
            yellow_attic_store::fs::disk::unhex(text)
                .ok_or_else(|| refusals::HASH_MALFORMED.of("blake3 is no hash."))?,
        ),
    };
    let new = |parent: NodeId, name: Name| NewUpload {
        open_length: false,
        parent,
        name,
        size,
        mtime,
        if_match: None,
        if_none_match: None,
        hash,
        joining: Default::default(),
    };
    let actor = &visit.actor;
    let mut upload = match delivery {
        Some(delivery) => {
            let path = if way.is_empty() { file.to_string() } else { format!("{way}/{file}") };
            state.engine.sharing().begin_delivery_upload(actor, &visit.opening, delivery, &path, new).await?
        }
        None => {
            if visit.opening.can < Can::Add {
                return Err(refusals::NOT_TO_ADD_TO.of("This link does not let add files."));
            }
            let parent = state.engine.sharing().folder_below(actor, visit.opening.node, way).await?;
            let name = Name::new(&from_stranger(file)).map_err(StoreError::from)?;
            let name = match visit.opening.can {
                Can::Edit => name,
                _ => state.engine.sharing().free_name(parent, &name).await?,
            };
            let mut new = new(parent, name);
            if visit.opening.can < Can::Edit {
                new.if_none_match = Some("*".into());
            }
            state.engine.files().begin_upload(actor, new).await?
        }
    };
    if brings_part(request) {
        let part = state.engine.files().append(actor, &upload.id, 0).await?;
        append(state, part, request, payload).await?;
        upload = complete(state, visit, delivery, &upload.id).await?;
    } else if size == 0 {
        upload = complete(state, visit, delivery, &upload.id).await?;
    }
    let mut answer = HttpResponse::Created();
    say(&mut answer, &upload);
    let place = format!("{}/uploads/{}", super::base(visit.opening.kind, &visit.opening.ending), upload.id);
    Ok(answer.insert_header((header::LOCATION, place)).finish())
}

/// Tells how far it is; which file it became is none of a stranger's business.
fn say(answer: &mut actix_web::HttpResponseBuilder, upload: &Upload) {
    let mut upload = upload.clone();
    upload.node = None;
    tell(answer, &upload);
}

/// Puts the file if all its bytes are here.
async fn complete(
    state: &State,
    visit: &Visit,
    delivery: Option<&Delivery>,
    id: &str,
) -> Result<Upload, Refusal> {
    let (engine, actor, its_id) = (state.engine.clone(), visit.actor.clone(), id.to_string());
    let (opening, delivery) = (visit.opening.clone(), delivery.cloned());
    // A sender that goes away does not stop what is already on the disk.
    let put = state.engine.runtime().spawn(async move {
        match delivery {
            Some(delivery) => {
                engine.sharing().finish_delivery_upload(&actor, &opening, &delivery, &its_id).await
            }
            None => engine.files().finish_upload(&actor, &its_id, None).await,
        }
    });
    let done = put.await.map_err(|_| StoreError::Stopping)??;
    if done.is_some() && visit.opening.kind == yellow_attic_core::openings::Kind::Link {
        state.strangers.note_use(visit, state.engine.now_ms());
    }
    Ok(state.engine.files().upload(&visit.actor, id).await?)
}

/// Tells how far an upload is, goes on with it, or ends it.
pub async fn one(
    request: &HttpRequest,
    state: &State,
    visit: &Visit,
    delivery: Option<&Delivery>,
    payload: web::Payload,
) -> Result<HttpResponse, Refusal> {
    check_version(request)?;
    let id = request.match_info().get("id").unwrap_or_default();
    let actor = &visit.actor;
    let there = state.engine.files().upload(actor, id).await?;
    if there.delivery != delivery.map(|d| d.id) {
        return Err(Refusal::not_found("The upload"));
    }
    let mut answer = HttpResponse::NoContent();
    match *request.method() {
        Method::HEAD => {
            let mut upload = state.engine.files().settle_upload(actor, id).await?;
            if upload.received == upload.new.size {
                upload = complete(state, visit, delivery, id).await?;
            }
            let mut answer = HttpResponse::Ok();
            say(&mut answer, &upload);
            return Ok(answer.insert_header((header::CACHE_CONTROL, "no-store")).finish());
        }
        Method::PATCH => {
            check_part(request)?;
            let offset = number(request.headers(), &OFFSET)?;
            let part = state.engine.files().append(actor, id, offset).await?;
            append(state, part, request, payload).await?;
            say(&mut answer, &complete(state, visit, delivery, id).await?);
        }
        Method::DELETE => state.engine.files().end_upload(actor, id).await?,
        _ => {
            return Err(refusals::METHOD_NOT_ALLOWED
                .of("An upload is looked at (HEAD), gone on with (PATCH) or ended (DELETE)."));
        }
    }
    Ok(answer.finish())
}

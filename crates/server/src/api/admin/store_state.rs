//! How the store stands: the disk's promise, the catalogue's age, shelves that wait, and what was noticed.

use crate::http::problem::Refusal;
use crate::http::times::show;
use crate::identity::principal::Who;
use crate::state::State;
use actix_web::{HttpResponse, get, web};
use yellow_attic_api as api;
use yellow_attic_store::Durability;

/// How the store stands.
#[utoipa::path(context_path = "/api/v1", tag = "space",
    responses((status = 200, body = api::StoreState), (status = 403, body = api::Problem)))]
#[get("/store")]
pub async fn store_state(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let (durability, why) = promise_of(state.engine.durability());
    let stopped = state.engine.stopped_shelves().into_iter();
    let found = state.engine.findings(50).await?.into_iter();
    Ok(HttpResponse::Ok().json(api::StoreState {
        durability: durability.into(),
        why: sentence(&why),
        older_catalogue: state.engine.has_older_catalogue(),
        secrets: state.engine.secrets_trouble().map(|why| sentence(&why)),
        stopped: stopped
            .map(|(shelf, why)| api::StoppedShelf {
                shelf: shelf.name.clone(),
                why: sentence(&why.to_string()),
            })
            .collect(),
        findings: found
            .map(|f| api::StoreFinding { at: show(f.at), kind: f.kind, detail: f.detail })
            .collect(),
    }))
}

/// With a capital at its beginning and a stop at its end.
pub fn sentence(text: &str) -> String {
    let mut chars = text.chars();
    let first = chars.next().map(|c| c.to_uppercase().to_string()).unwrap_or_default();
    let end = if text.ends_with(['.', '?']) { "" } else { "." };
    format!("{first}{}{end}", chars.as_str())
}

/// What a file system promises, as a word and in words.
pub fn promise_of(durability: &Durability) -> (&'static str, String) {
    match durability {
        Durability::Journal => {
            ("kept", "ext4 with a journal: what was saved is there after a power cut".into())
        }
        Durability::EachFile(kind) => ("kept", format!("{kind}: what was saved is there after a power cut")),
        Durability::Unsafe(why) => {
            ("unsafe", format!("what was said to be saved can be lost in a power cut: {why}"))
        }
        Durability::Unknown(why) => {
            ("unknown", format!("whether what was saved survives a power cut cannot be known: {why}"))
        }
    }
}

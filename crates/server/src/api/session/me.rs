//! One's own account, and looking as somebody else.

use crate::dto::directory::Directory;
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times::show;
use crate::identity::cookies::look_cookie;
use crate::identity::principal::AnyWho;
use crate::mail::compose::Letter;
use crate::state::State;
use crate::state::secrets::{hash_secret, new_secret};
use crate::state::sessions::Who;
use actix_web::http::header;
use actix_web::{HttpResponse, delete, get, patch, post, put, web};
use yellow_attic_api as api;
use yellow_attic_core::people::Notice;
use yellow_attic_core::proof::Deed;
use yellow_attic_core::rules::Rule;
use yellow_attic_store::people::accounts::{AccountChange, Role};

/// How long a look lasts.
const LOOK_MS: i64 = 15 * 60_000;
/// The most bytes of a picture as it is sent.
const PICTURE_MOST: usize = 8 << 20;

/// One's own account.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", responses((status = 200, body = api::Own), (status = 401, body = api::Problem)))]
#[get("/me")]
pub async fn show_own(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    let all = Directory::read(&state).await?;
    let id = who.account.id;
    // What is kept of a token may be a minute old.
    let account = all.accounts.get(&id).ok_or_else(|| Refusal::not_found("The account"))?;
    let (quota, bytes) = match state.engine.home_of(id) {
        Some(home) => {
            let full = state.engine.space().fullness(&home).await?;
            (full.line, full.used as i64)
        }
        None => (None, 0),
    };
    let looks = state.engine.sign_ins().looks_told(id).await?;
    Ok(HttpResponse::Ok().json(api::Own {
        sign_in: account.sign_in.clone(),
        display_name: account.display_name.clone(),
        mail: account.mail.clone(),
        role: account.role.word().to_string(),
        groups: all.groups_of(id),
        quota,
        bytes,
        closed: crate::identity::doors::shut(&state, account).keys().map(|d| d.word().to_string()).collect(),
        picture: state.engine.sign_ins().picture(id).await?.map(|(_, at)| show(at)),
        letters: Notice::ALL
            .into_iter()
            .map(|n| api::OwnLetter {
                kind: n.word().to_string(),
                title: n.title().to_string(),
                wanted: !account.muted.contains(&n),
            })
            .collect(),
        looks: looks.into_iter().map(|(by, at)| api::Looked { by, at: show(at) }).collect(),
    }))
}

/// Changes one's own name, or which letters one wants.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", request_body = api::OwnChange,
    responses((status = 204), (status = 400, body = api::Problem), (status = 403, body = api::Problem)))]
#[patch("/me")]
pub async fn change_own(
    state: web::Data<State>,
    who: Who,
    body: Json<api::OwnChange>,
) -> Result<HttpResponse, Refusal> {
    who.need_session()?;
    let name = body.display_name.as_deref().map(str::trim);
    if name.is_some_and(|n| n.is_empty() || n.chars().count() > 100 || n.chars().any(char::is_control)) {
        return Err(refusals::NAME_CANNOT_BE
            .with("The name is empty, too long, or holds control characters.", "Use 1 to 100 characters."));
    }
    let muted = match &body.muted {
        None => None,
        Some(words) => Some(
            words
                .iter()
                .map(|w| {
                    Notice::from_word(w)
                        .ok_or_else(|| refusals::LETTER_UNKNOWN.of(&format!("\"{w}\" is no kind of letter.")))
                })
                .collect::<Result<_, _>>()?,
        ),
    };
    let change = AccountChange { display_name: name.map(str::to_string), muted, ..AccountChange::default() };
    state.engine.people().change_account(&who.actor, &who.account.sign_in, change).await?;
    state.names.forget().await;
    state.known.clear();
    Ok(HttpResponse::NoContent().finish())
}

/// Sets one's own picture: PNG, JPEG, GIF, WebP, BMP or TIFF; it is drawn small.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in",
    request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 204), (status = 400, body = api::Problem), (status = 403, body = api::Problem), (status = 413, body = api::Problem)))]
#[put("/me/picture")]
pub async fn set_picture(
    state: web::Data<State>,
    who: Who,
    body: web::Payload,
) -> Result<HttpResponse, Refusal> {
    who.need_session()?;
    let bytes = match body.to_bytes_limited(PICTURE_MOST).await {
        Ok(Ok(bytes)) => bytes,
        _ => {
            return Err(refusals::PICTURE_TOO_LARGE.of("It has more than 8 MiB, or did not arrive whole."));
        }
    };
    let made = state.thumbnails.draw_bytes(&bytes).await.map_err(|reason| {
        tracing::info!(%reason, "no picture of an account");
        refusals::PICTURE_UNREADABLE.of("This is no picture that can be drawn.")
    })?;
    state.engine.sign_ins().set_picture(&who.actor, &who.account, Some(made)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Takes one's own picture away.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", responses((status = 204), (status = 403, body = api::Problem)))]
#[delete("/me/picture")]
pub async fn end_picture(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    who.need_session()?;
    state.engine.sign_ins().set_picture(&who.actor, &who.account, None).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Somebody's picture, for whoever may see them.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(("sign_in" = String, Path)),
    responses((status = 200, description = "A JPEG or PNG"), (status = 404, body = api::Problem)))]
#[get("/people/{sign_in}/picture")]
pub async fn show_picture(
    state: web::Data<State>,
    who: Who,
    path: web::Path<String>,
) -> Result<HttpResponse, Refusal> {
    let gone = || Refusal::not_found("The picture");
    let all = Directory::read(&state).await?;
    let id = all.account(&path).map_err(|_| gone())?;
    if id != who.account.id && !crate::dto::directory::sees(&state, &all, &who).await?.contains(&id) {
        return Err(gone());
    }
    let (bytes, _) = state.engine.sign_ins().picture(id).await?.ok_or_else(gone)?;
    let kind = if bytes.starts_with(b"\x89PNG") { "image/png" } else { "image/jpeg" };
    Ok(HttpResponse::Ok()
        .content_type(kind)
        .insert_header((header::CACHE_CONTROL, "private, max-age=300"))
        .insert_header((header::CONTENT_SECURITY_POLICY, "sandbox; default-src 'none'"))
        .body(bytes))
}

/// An administrator begins to look as somebody: all is seen as by that account, for 15 minutes,
/// reading only.
#[utoipa::path(context_path = "/api/v1", tag = "people", request_body = api::Look,
    responses((status = 201, body = api::LookBegun), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[post("/look")]
pub async fn begin_look(
    state: web::Data<State>,
    who: Who,
    body: Json<api::Look>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    who.need_session()?;
    let all = Directory::read(&state).await?;
    let id = all.account(&body.account)?;
    let seen = all.accounts.get(&id).ok_or_else(|| Refusal::not_found("The account"))?;
    if seen.role == Role::Administrator || seen.disabled_at.is_some() {
        return Err(refusals::CANNOT_LOOK_AS
            .of("One looks as members and guests who are enabled, never as another administrator."));
    }
    who.need(&state, Deed::LookAs)?;
    let told = state.engine.people().rules_of(id, |rules, groups| rules.on(Rule::LooksTold, groups));
    let secret = new_secret()?;
    let ends = state.engine.now_ms() + LOOK_MS;
    state
        .engine
        .sign_ins()
        .open_look(&who.actor, &who.account, seen, hash_secret(&secret), ends, told)
        .await?;
    if let (true, Some(to)) = (told && !seen.muted.contains(&Notice::Look), &seen.mail) {
        let says = Letter {
            kind: "look",
            to,
            subject: "somebody looked at your files as you see them".into(),
            paragraphs: vec![
                format!("Hello {},", seen.display_name),
                format!(
                    "{} looks at the files as you see them, to help with access. Nothing can be changed that way, \
                     and the look ends after 15 minutes.",
                    who.account.display_name
                ),
            ],
            open: None,
        };
        crate::state::letters::write(&state, &who.actor, says).await?;
    }
    let begun = api::LookBegun { account: seen.sign_in.clone(), ends: show(ends), told };
    Ok(HttpResponse::Created().cookie(look_cookie(&state, secret, LOOK_MS / 1000)).json(begun))
}

/// Ends a look: the administrator is themselves again.
#[utoipa::path(context_path = "/api/v1", tag = "people", responses((status = 204), (status = 404, body = api::Problem)))]
#[delete("/look")]
pub async fn end_look(state: web::Data<State>, who: AnyWho) -> Result<HttpResponse, Refusal> {
    let who = who.0;
    if who.seen_by.is_none() {
        return Err(Refusal::not_found("A look"));
    }
    state.engine.sign_ins().end_session(&who.actor, who.token).await?;
    state.revoked();
    Ok(HttpResponse::NoContent().cookie(look_cookie(&state, String::new(), 0)).finish())
}

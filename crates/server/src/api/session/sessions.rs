//! Signing in and out, the first administrator.

use crate::dto::account::me;
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::identity::address::{address, from};
use crate::identity::cookies::cookie;
use crate::identity::doors::check_door;
use crate::identity::factors::ask_second;
use crate::identity::origin::{check_host, check_origin};
use crate::identity::passwords::check_password;
use crate::identity::principal::AnyWho;
use crate::identity::sessions::{open_session, with_cookies};
use crate::state::State;
use crate::state::secrets::hash_secret;
use crate::state::throttle::Try;
use actix_web::{HttpRequest, HttpResponse, delete, get, post, web};
use std::sync::PoisonError;
use yellow_attic_api as api;
use yellow_attic_core::forwarded::counted;
use yellow_attic_core::guessing::By;
use yellow_attic_core::password;
use yellow_attic_core::rules::{Door, Rule, Value};
use yellow_attic_store::Actor;
use yellow_attic_store::people::accounts::Role;

/// What a page must know first: whether there is an administrator, and who is signed in.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", responses((status = 200, body = api::Welcome)))]
#[get("/welcome")]
pub async fn welcome(state: web::Data<State>, who: Option<AnyWho>) -> Result<HttpResponse, Refusal> {
    let needs_set_up = state.set_up.lock().unwrap_or_else(PoisonError::into_inner).is_some();
    let me = match who {
        Some(AnyWho(who)) => {
            let seen_by = who.seen_by.as_ref().map(|by| by.display_name.clone());
            Some(api::Me { seen_by, needs_factor: who.needs_factor, ..me(&state, &who.account).await? })
        }
        None => None,
    };
    let sign_up = match state.engine.people().rules().decide(Rule::SignUpDomains, &[]).value {
        Value::Words(words) if state.post.is_set() => words.into_iter().collect(),
        _ => Vec::new(),
    };
    Ok(HttpResponse::Ok().json(api::Welcome {
        needs_set_up,
        me,
        organisation: state.config.organisation.clone(),
        sign_up,
        version: env!("CARGO_PKG_VERSION").to_string(),
        largest_file: state.config.largest_file,
    }))
}

/// The code of the set-up address while it is used. Unless it was used, it counts again afterwards.
struct SetUpCode<'s> {
    state: &'s State,
    code: Option<[u8; 32]>,
}

impl<'s> SetUpCode<'s> {
    fn take(state: &'s State, given: &str) -> Result<SetUpCode<'s>, Refusal> {
        let mut kept = state.set_up.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.as_ref().is_some_and(|c| *c == hash_secret(given)) {
            return Ok(SetUpCode { state, code: kept.take() });
        }
        Err(refusals::SET_UP_CODE_WRONG
            .of("Its code is wrong, was used already, or the service was started anew since."))
    }

    fn used(mut self) {
        self.code = None;
    }
}

impl Drop for SetUpCode<'_> {
    fn drop(&mut self) {
        if let Some(code) = self.code.take() {
            *self.state.set_up.lock().unwrap_or_else(PoisonError::into_inner) = Some(code);
        }
    }
}

/// Makes the first administrator, with the one-time code that the service printed.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", request_body = api::SetUp,
    responses((status = 201, body = api::Me), (status = 403, body = api::Problem)))]
#[post("/set-up")]
pub async fn set_up(
    request: HttpRequest,
    state: web::Data<State>,
    body: Json<api::SetUp>,
) -> Result<HttpResponse, Refusal> {
    check_host(&request, &state)?;
    // Where there is a code to guess at, tries are counted.
    let attempt = match state.set_up.lock().unwrap_or_else(PoisonError::into_inner).is_some() {
        true => Some(vec![By::Act("set-up", address(&request, &state).map(counted))]),
        false => None,
    };
    let attempt = match attempt {
        Some(by) => Some(state.guessing.begin(&state.engine, by).await?),
        None => None,
    };
    // Taken before anything else: of several at once, one makes the administrator.
    let code = SetUpCode::take(&state, &body.code)?;
    attempt.into_iter().for_each(Try::succeeded);
    let wanted = body.sign_in.trim().to_lowercase();
    if !password::check_sign_in(&wanted) {
        return Err(refusals::SIGN_IN_NAME_CANNOT_BE.of(&format!("\"{wanted}\" cannot be a sign-in name.")));
    }
    let hash =
        crate::identity::passwords::hashed(&state, &wanted, &[&body.display_name], &[], &body.password)
            .await?;
    let actor = Actor {
        account: None,
        device: None,
        who: "set-up".into(),
        from: from(&request, &state).into(),
        through: None,
        scope: None,
        tokens: Default::default(),
    };
    let account = state
        .engine
        .people()
        .make_account(&actor, &wanted, &body.display_name, Role::Administrator, &hash)
        .await?;
    code.used();
    state.names.forget().await;
    let cookies = open_session(&state, &account, &request, false).await?;
    Ok(with_cookies(HttpResponse::Created(), cookies).json(me(&state, &account).await?))
}

/// Signs in to the console: answers with a session cookie.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", request_body = api::SignIn,
    responses((status = 200, body = api::Me), (status = 401, body = api::Problem), (status = 429, body = api::Problem)))]
#[post("/session")]
pub async fn sign_in(
    request: HttpRequest,
    state: web::Data<State>,
    body: Json<api::SignIn>,
) -> Result<HttpResponse, Refusal> {
    check_host(&request, &state)?;
    check_origin(&request, &state)?;
    let account = check_password(&state, &request, &body.sign_in, &body.password).await?;
    check_door(&state, &account, Door::Console)?;
    ask_second(&state, &account).await?;
    let cookies = open_session(&state, &account, &request, false).await?;
    Ok(with_cookies(HttpResponse::Ok(), cookies).json(me(&state, &account).await?))
}

/// Signs out of the console.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", responses((status = 204)))]
#[delete("/session")]
pub async fn sign_out(state: web::Data<State>, who: AnyWho) -> Result<HttpResponse, Refusal> {
    let who = who.0;
    who.need_own()?;
    who.need_session()?;
    state.engine.sign_ins().end_session(&who.actor, who.token).await?;
    state.revoked();
    Ok(HttpResponse::NoContent().cookie(cookie(&state, String::new(), 0)).finish())
}

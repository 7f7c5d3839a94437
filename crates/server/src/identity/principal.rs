//! Who asks: sessions in cookies, device tokens, and how guessing is slowed.

use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::identity::address::from;
use crate::identity::cookies::{COOKIE, LOOK_COOKIE, own_cookie};
use crate::identity::doors::{check_door, ended, lacks_factor};
use crate::identity::origin::{check_host, check_origin};
use crate::state::State;
use crate::state::secrets::hash_secret;
use crate::state::sessions::Who;
use actix_web::dev::Payload;
use actix_web::http::{Method, header};
use actix_web::{FromRequest, HttpRequest, web};
use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use yellow_attic_core::proof::{Deed, Needs};
use yellow_attic_core::rules::{Door, Rule};
use yellow_attic_store::Actor;
use yellow_attic_store::people::accounts::Role;
use yellow_attic_store::people::sign_ins::Principal;

/// Who is signed in, even where a second factor is still missing: for the few things that
/// lead to one, and out.
#[derive(Clone)]
pub struct AnyWho(pub Who);

impl Who {
    /// Refuses members.
    pub fn need_administrator(&self) -> Result<(), Refusal> {
        if self.account.role != Role::Administrator {
            return Err(refusals::ADMINISTRATORS_ONLY
                .with("Only an administrator can do this.", "Ask an administrator."));
        }
        Ok(())
    }

    /// Refuses whoever has not given, within ten minutes, what a deed asks for: a stolen token alone decides nothing
    /// over people, rights, shelves and what goes for good.
    pub fn need(&self, state: &State, deed: Deed) -> Result<(), Refusal> {
        let needs = deed.needs();
        if state.proofs.holds(&self.token, needs, state.engine.now_ms()) {
            return Ok(());
        }
        Err(match needs {
            Needs::Password => refusals::PROOF_NEEDED.of("This decides over people, rights or what goes for good, and you gave your password more than ten minutes ago."),
            Needs::Factor => refusals::FACTOR_NEEDED.of("This changes how you sign in, and you gave a second factor more than ten minutes ago."),
        })
    }

    /// Refuses whoever looks as somebody else: accounts' own pages are not looked at.
    pub fn need_own(&self) -> Result<(), Refusal> {
        match self.seen_by {
            None => Ok(()),
            Some(_) => Err(looking_only()),
        }
    }

    /// Refuses device tokens: they cannot touch other devices.
    pub fn need_session(&self) -> Result<(), Refusal> {
        if self.actor.device.is_some() {
            return Err(refusals::NOT_WITH_A_DEVICE_TOKEN.of("A device's token cannot do this."));
        }
        Ok(())
    }
}

impl FromRequest for Who {
    type Error = Refusal;
    type Future = Pin<Box<dyn Future<Output = Result<Who, Refusal>>>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let request = request.clone();
        Box::pin(async move {
            let who = who(&request).await?;
            if who.needs_factor {
                return Err(refusals::SECOND_FACTOR_DEMANDED.with(
                    "A rule demands a second factor, and this account has none yet.",
                    "Sign in to the console and set one up under your account.",
                ));
            }
            if who.seen_by.is_some() {
                check_look(&request)?;
            }
            Ok(who)
        })
    }
}

impl FromRequest for AnyWho {
    type Error = Refusal;
    type Future = Pin<Box<dyn Future<Output = Result<AnyWho, Refusal>>>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let request = request.clone();
        Box::pin(async move { who(&request).await.map(AnyWho) })
    }
}

/// What may be read while looking as somebody: files and folders, and nothing of the account.
const LOOKABLE: [&str; 22] = [
    "/api/v1/shelves",
    "/api/v1/shelves/{root}/changes",
    "/api/v1/place",
    "/api/v1/nodes/{node}",
    "/api/v1/nodes/{node}/entries",
    "/api/v1/nodes/{node}/tree",
    "/api/v1/nodes/{node}/levels",
    "/api/v1/nodes/{node}/history",
    "/api/v1/nodes/{node}/activity",
    "/api/v1/nodes/{node}/content",
    "/api/v1/nodes/{node}/chunks",
    "/api/v1/nodes/{node}/thumbnail",
    "/api/v1/nodes/{node}/archive",
    "/api/v1/nodes/{node}/why",
    "/api/v1/files/{shelf}/{path:.*}",
    "/api/v1/nodes/{node}/trash",
    "/api/v1/nodes/{node}/comparison",
    "/api/v1/nodes/{node}/space",
    "/api/v1/shelves/{root}/snapshots",
    "/api/v1/shelves/{root}/rollbacks",
    "/api/v1/find",
    "/api/v1/recent",
];

/// What a token that reaches only a part of the account may ask for, besides what may be read while looking: files and
/// folders, all of which are judged by how far it reaches, and the computer's own.
const WITHIN_REACH: [(&str, &str); 27] = [
    ("GET", "/api/v1/events"),
    ("GET", "/api/v1/welcome"),
    ("PUT", "/api/v1/devices/this"),
    ("DELETE", "/api/v1/devices/this"),
    ("PUT", "/api/v1/files/{shelf}/{path:.*}"),
    ("PUT", "/api/v1/nodes/{node}/files/{name}"),
    ("PUT", "/api/v1/nodes/{node}/content"),
    ("PATCH", "/api/v1/nodes/{node}"),
    ("DELETE", "/api/v1/nodes/{node}"),
    ("POST", "/api/v1/nodes/{node}/folders"),
    ("POST", "/api/v1/nodes/{node}/copy"),
    ("POST", "/api/v1/nodes/{node}/restore"),
    ("POST", "/api/v1/nodes/{node}/tar"),
    ("POST", "/api/v1/nodes/{node}/assembled/{name}"),
    ("POST", "/api/v1/moves"),
    ("POST", "/api/v1/states"),
    ("PUT", "/api/v1/nodes/{node}/lock"),
    ("DELETE", "/api/v1/nodes/{node}/lock"),
    ("POST", "/api/v1/archives"),
    ("GET", "/api/v1/archives/{id}/{name}"),
    ("OPTIONS", "/api/v1/uploads"),
    ("GET", "/api/v1/uploads"),
    ("POST", "/api/v1/uploads"),
    ("HEAD", "/api/v1/uploads/{id}"),
    ("PATCH", "/api/v1/uploads/{id}"),
    ("DELETE", "/api/v1/uploads/{id}"),
    ("POST", "/api/v1/uploads/{id}/place"),
];

/// What may be read while looking, and tells more than how far a token reaches.
const BEYOND_REACH: [&str; 4] = [
    "/api/v1/nodes/{node}/why",
    "/api/v1/nodes/{node}/space",
    "/api/v1/shelves/{root}/snapshots",
    "/api/v1/shelves/{root}/rollbacks",
];

/// Refuses a token that reaches only a part of the account what is not about files and folders.
fn check_reach(request: &HttpRequest) -> Result<(), Refusal> {
    let pattern = request.match_pattern().unwrap_or_default();
    let reads = matches!(*request.method(), Method::GET | Method::HEAD);
    let looks = LOOKABLE.contains(&pattern.as_str()) && !BEYOND_REACH.contains(&pattern.as_str());
    let method = request.method().as_str();
    if reads && looks || WITHIN_REACH.iter().any(|(m, p)| *m == method && *p == pattern) {
        return Ok(());
    }
    Err(refusals::OUTSIDE_ITS_REACH.of(
        "This computer's token reaches files and folders only, and of these what was chosen when it was connected.",
    ))
}

/// Refuses all but reading files and folders, and the events that keep the pages true.
fn check_look(request: &HttpRequest) -> Result<(), Refusal> {
    let pattern = request.match_pattern().unwrap_or_default();
    let reads = matches!(*request.method(), Method::GET | Method::HEAD);
    if reads && (LOOKABLE.contains(&pattern.as_str()) || pattern == "/api/v1/events") {
        return Ok(());
    }
    Err(looking_only())
}

fn looking_only() -> Refusal {
    refusals::LOOKING_ONLY
        .of("While looking as somebody else, files and folders can be read, and nothing else can be done.")
}

async fn who(request: &HttpRequest) -> Result<Who, Refusal> {
    let state = state(request)?;
    let from = from(request, &state);
    let bearer = request.headers().get(header::AUTHORIZATION).and_then(|v| v.to_str().ok()).map(|v| {
        // The scheme's name is written in any case (RFC 9110, section 11.1).
        let (scheme, token) = v.split_once(' ').unwrap_or_default();
        if scheme.eq_ignore_ascii_case("bearer") { token.trim().to_string() } else { String::new() }
    });
    let (secret, device) = match bearer {
        Some(token) => (token, true),
        None => {
            // A look comes before one's own session; when it is over, that one counts again.
            if let Some(look) = own_cookie(request, &state, LOOK_COOKIE) {
                check_host(request, &state)?;
                check_origin(request, &state)?;
                match holder(&state, request, look.value(), false, &from).await {
                    Ok(who) if who.seen_by.is_some() => return Ok(who),
                    _ => {}
                }
            }
            match own_cookie(request, &state, COOKIE) {
                Some(cookie) => {
                    check_host(request, &state)?;
                    check_origin(request, &state)?;
                    (cookie.value().to_string(), false)
                }
                None => return Err(not_signed_in()),
            }
        }
    };
    let who = holder(&state, request, &secret, device, &from).await?;
    if who.actor.scope.is_some() {
        check_reach(request)?;
    }
    Ok(who)
}

/// Who holds a secret.
async fn holder(
    state: &State,
    request: &HttpRequest,
    secret: &str,
    device: bool,
    from: &str,
) -> Result<Who, Refusal> {
    let token = hash_secret(secret);
    let now = state.engine.now_ms();
    if let Some(Some(mut who)) = state.known.get(&token, now) {
        if *who.actor.from != *from {
            who.actor.from = from.into();
        }
        note_use(state, request, &who, now);
        return Ok(who);
    }
    let door = if device { Door::Sync } else { Door::Console };
    let principal = if device {
        state.engine.sign_ins().device(token).await?
    } else {
        state.engine.sign_ins().session(token).await?
    };
    let Some(principal) = principal else {
        return Err(match device {
            true => ended(state, token).await?.unwrap_or_else(not_signed_in),
            false => not_signed_in(),
        });
    };
    if is_idle(state, &principal, &token, now) {
        return Err(left_alone());
    }
    check_used(state, &principal, now)?;
    let Principal { account, device, seen_by, scope, .. } = principal;
    // A look ends with the role that it came from, and never goes upward.
    if let Some(by) = &seen_by
        && (by.role != Role::Administrator || account.role == Role::Administrator)
    {
        return Err(not_signed_in());
    }
    check_door(state, seen_by.as_ref().unwrap_or(&account), door)?;
    let needs_factor = device.is_none() && seen_by.is_none() && lacks_factor(state, &account).await?;
    let name = match &seen_by {
        Some(by) => format!("{} as {}", by.sign_in, account.sign_in),
        None => account.sign_in.clone(),
    };
    let actor = Actor {
        account: Some(account.id),
        device,
        who: name.into(),
        from: from.into(),
        through: None,
        scope,
        tokens: Default::default(),
    };
    let seen_by = seen_by.map(Arc::new);
    let who = Who { account: Arc::new(account), actor, token, door, seen_by, needs_factor };
    state.known.put(token, who.clone(), now);
    note_use(state, request, &who, now);
    Ok(who)
}

fn note_use(state: &State, request: &HttpRequest, who: &Who, now: i64) {
    state.in_use.note_device(&who.actor, now);
    if who.actor.device.is_none() && is_attended(request) {
        state.in_use.note_browser(who.token, now);
    }
}

/// Whether somebody who was signed in when a long answer began still is.
pub async fn still(state: &State, who: &Who) -> bool {
    if state.known.get(&who.token, state.engine.now_ms()).is_some_and(|known| known.is_some()) {
        return true;
    }
    if who.door == Door::Dav && who.actor.device.is_none() {
        return crate::identity::basic::still(state, who).await;
    }
    let door = who.door;
    let principal = match who.actor.device {
        Some(_) => state.engine.sign_ins().device(who.token).await,
        None => state.engine.sign_ins().session(who.token).await,
    };
    match principal {
        Ok(Some(p)) => {
            !is_idle(state, &p, &who.token, state.engine.now_ms())
                && check_door(state, p.seen_by.as_ref().unwrap_or(&p.account), door).is_ok()
        }
        _ => false,
    }
}

/// By this header our own pages say that nobody has touched them for a while: what they ask is no use of the browser.
const UNATTENDED: &str = "attic-unattended";

/// Whether a request tells that somebody sits there. A page that follows what happens does that by itself.
fn is_attended(request: &HttpRequest) -> bool {
    !request.headers().contains_key(UNATTENDED) && !request.path().ends_with("/events")
}

/// Whether a browser has been left alone for longer than a rule allows.
fn is_idle(state: &State, principal: &Principal, token: &[u8; 32], now: i64) -> bool {
    if principal.device.is_some() || principal.seen_by.is_some() {
        return false;
    }
    let hours = state
        .engine
        .people()
        .rules_of(principal.account.id, |r, groups| r.number(Rule::BrowsersIdle, groups));
    let used = state.in_use.browser(token).unwrap_or(0).max(principal.used_at);
    hours.is_some_and(|hours| now - used > i64::from(hours) * 3_600_000)
}

/// Refuses a computer that was away for longer than a rule allows.
pub fn check_used(state: &State, principal: &Principal, now: i64) -> Result<(), Refusal> {
    let Some(device) = principal.device else { return Ok(()) };
    let days =
        state.engine.people().rules_of(principal.account.id, |r, groups| r.number(Rule::DevicesIdle, groups));
    let Some(days) = days else { return Ok(()) };
    let fresh = state.in_use.devices(&[device]).pop().flatten().map_or(0, |(at, _)| at);
    if now - fresh.max(principal.used_at) <= i64::from(days) * 86_400_000 {
        return Ok(());
    }
    Err(refusals::DEVICE_AWAY.of(&format!(
        "A rule ends the sign-in of a computer that was away for more than {days} days, and this one was.",
    )))
}

fn state(request: &HttpRequest) -> Result<web::Data<State>, Refusal> {
    request.app_data::<web::Data<State>>().cloned().ok_or_else(not_signed_in)
}

fn left_alone() -> Refusal {
    refusals::BROWSER_LEFT_ALONE
        .of("A rule signs a browser out after it has been left alone for some hours, and this one was.")
}

fn not_signed_in() -> Refusal {
    refusals::NOT_SIGNED_IN.with(
        "Nobody is signed in, or the sign-in has ended.",
        "Sign in, or connect the computer again with yattic connect.",
    )
}

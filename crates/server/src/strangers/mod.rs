//! Strangers: who comes through a link or an intake. They act with the present rights of whoever made
//! it, within its target and its level; each request asks anew whether it still acts.
//!
//! - [`open`]: links, `/open/…`; [`link_pages`]: their pages. [`give`]: intakes, `/give/…`. [`parts`]: uploads of both (tus).
//! - [`page`]: the frame of their pages, [`preview`]: what of a file is shown.

pub mod give;
mod link_pages;
pub mod open;
pub mod page;
mod parts;
pub mod preview;

use crate::http::problem::Refusal;
use crate::identity::principal::{address, check_origin, from, verify};
use crate::mail;
use crate::state::State;
use crate::state::throttle::{self, Try, keyed};
use actix_web::cookie::{Cookie, SameSite};
use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse, web};
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use yellow_attic_core::OpeningId;
use yellow_attic_core::forwarded::counted;
use yellow_attic_core::guessing::By;
use yellow_attic_core::openings::{Kind, Open, Shut, Told};
use yellow_attic_core::people::Notice;
use yellow_attic_core::rights::Level;
use yellow_attic_store::engine::RightsWatch;
use yellow_attic_store::sharing::openings::Opening;
use yellow_attic_store::{Actor, Engine, Row};

/// The cookie of somebody who gave a link's password.
const VISIT: &str = "attic_visit";
/// How long it lasts.
const VISIT_MS: i64 = 12 * 3_600_000;
/// Openings kept in memory, and for how long at most.
const MOST_KNOWN: usize = 5_000;
const KNOWN_MS: i64 = 60_000;
/// For so long it is not asked again whether one acts, if nothing changes.
const DECIDED_MS: i64 = 1_000;

/// What is remembered of openings.
pub struct Strangers {
    known: Mutex<HashMap<String, Remembered>>,
    /// Grows with every change of a file or folder.
    head: tokio::sync::watch::Receiver<i64>,
    uses: Mutex<HashMap<OpeningId, (u32, i64, String)>>,
}

/// An opening as it was looked at last.
struct Remembered {
    opening: Arc<Opening>,
    until: i64,
    decided: Option<Decided>,
}

/// That it acts, for as long as no file, folder or right has changed since; a right that ends by its
/// date is noticed after [`DECIDED_MS`].
struct Decided {
    at: i64,
    head: i64,
    rights: RightsWatch,
    open: Open,
    target: Arc<Row>,
    who: Arc<str>,
}

fn lock<T>(of: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    of.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Strangers {
    /// Nothing is remembered yet.
    pub fn new(engine: &Engine) -> Strangers {
        Strangers { known: Mutex::default(), head: engine.head(), uses: Mutex::default() }
    }

    /// Somebody who comes through an opening that was found to act, if nothing has changed since. What is
    /// counted or asks for a password is looked at each time.
    fn again(&self, ending: &str, kind: Kind, now: i64, from: &str) -> Option<Visit> {
        let known = lock(&self.known);
        let remembered = known.get(ending).filter(|r| r.until > now && r.opening.kind == kind)?;
        let decided = remembered.decided.as_ref()?;
        let sound = (decided.at..decided.at + DECIDED_MS).contains(&now)
            && decided.head == *self.head.borrow()
            && !decided.rights.changed()
            && decided.open.until.is_none_or(|until| now < until);
        let actor = || remembered.opening.actor_named(decided.who.clone(), from);
        sound.then(|| Visit {
            opening: remembered.opening.clone(),
            actor: actor(),
            open: Some(decided.open),
            target: decided.target.clone(),
        })
    }

    fn remember(&self, ending: &str, visit: &Visit, now: i64, head: i64, rights: RightsWatch) {
        let (Some(open), None, true) = (visit.open, visit.opening.most, visit.opening.password.is_empty())
        else {
            return;
        };
        if let Some(remembered) = lock(&self.known).get_mut(ending) {
            let (target, who) = (visit.target.clone(), visit.actor.who.clone());
            remembered.decided = Some(Decided { at: now, head, rights, open, target, who });
        }
    }

    /// Something about openings changed, and counts at once.
    pub fn forget(&self) {
        lock(&self.known).clear();
    }

    /// The opening at an address. `fresh`: as it is in the catalogue this moment.
    async fn at(&self, state: &State, ending: &str, fresh: bool) -> Result<Option<Arc<Opening>>, Refusal> {
        let now = state.engine.now_ms();
        if !fresh
            && let Some(known) = lock(&self.known).get(ending)
            && known.until > now
        {
            return Ok(Some(known.opening.clone()));
        }
        let Some(found) = state.engine.opening_at(ending).await? else { return Ok(None) };
        let found = Arc::new(found);
        let mut known = lock(&self.known);
        if known.len() >= MOST_KNOWN {
            known.clear();
        }
        let remembered = Remembered { opening: found.clone(), until: now + KNOWN_MS, decided: None };
        known.insert(ending.to_string(), remembered);
        Ok(Some(found))
    }

    /// One more use that is not counted exactly.
    fn note_use(&self, visit: &Visit, now: i64) {
        let mut uses = lock(&self.uses);
        let entry = uses.entry(visit.opening.id).or_insert((0, now, String::new()));
        (entry.0, entry.1) = (entry.0 + 1, now);
        if *entry.2 != *visit.actor.from {
            entry.2 = visit.actor.from.to_string();
        }
    }

    /// Writes the uses that are not written yet.
    pub async fn write_uses(&self, engine: &yellow_attic_store::Engine) {
        let uses = std::mem::take(&mut *lock(&self.uses));
        if !uses.is_empty()
            && let Err(error) = engine.note_uses(uses).await
        {
            tracing::warn!(%error, "the uses of links could not be written");
        }
    }

    /// The uses that are not written yet.
    pub fn unwritten(&self, opening: OpeningId) -> Option<(u32, i64, String)> {
        lock(&self.uses).get(&opening).cloned()
    }
}

/// Somebody who came through an opening that acts.
#[derive(Clone)]
pub struct Visit {
    /// Through which.
    pub opening: Arc<Opening>,
    /// How the engine knows them.
    pub actor: Actor,
    /// Until when, and how much is left; none: all downloads are used, and only slips still count.
    pub open: Option<Open>,
    /// What it opens.
    pub target: Arc<Row>,
}

impl Visit {
    /// Whether it still acts, with the same password.
    pub async fn still(&self, state: &State) -> bool {
        let Ok(Some(now)) = state.engine.opening(self.opening.id).await else { return false };
        if now.password != self.opening.password || now.can < self.opening.can {
            return false;
        }
        matches!(state.engine.acts(&now).await, Ok(Ok(_) | Err(Shut::UsedUp)))
    }
}

/// How far somebody gets with an address.
pub enum Gate {
    /// Not at all.
    Shut(Told),
    /// A password is asked for.
    Password(Arc<Opening>),
    /// In.
    In(Visit),
}

/// Looks at who comes. `fresh`: counts are as they are this moment.
pub async fn gate(
    request: &HttpRequest,
    state: &State,
    kind: Kind,
    ending: &str,
    fresh: bool,
) -> Result<Gate, Refusal> {
    let (now, from) = (state.engine.now_ms(), from(request, state));
    if !fresh && let Some(visit) = state.strangers.again(ending, kind, now, &from) {
        return Ok(Gate::In(visit));
    }
    // Before anything is looked at: what changes meanwhile shows.
    let (head, rights) = (*state.strangers.head.borrow(), state.engine.rights_watch());
    let found = state.strangers.at(state, ending, fresh).await?.filter(|o| o.kind == kind);
    let Some(opening) = found else { return Ok(Gate::Shut(Told::Nothing)) };
    let open = match state.engine.acts(&opening).await? {
        Ok(open) => Some(open),
        Err(Shut::UsedUp) => None,
        Err(shut) => return Ok(Gate::Shut(shut.told())),
    };
    if !opening.password.is_empty() && !is_let_in(request, &opening, now) {
        return Ok(Gate::Password(opening));
    }
    let actor = opening.actor(&from);
    let Ok(chain) = state.engine.chain(&actor, opening.node, Level::View).await else {
        return Ok(Gate::Shut(Told::Nothing));
    };
    let visit = Visit { opening, actor, open, target: chain[0].clone() };
    state.strangers.remember(ending, &visit, now, head, rights);
    Ok(Gate::In(visit))
}

/// The same where only who is in gets on.
pub async fn visit(request: &HttpRequest, state: &State, kind: Kind, ending: &str) -> Result<Visit, Refusal> {
    match gate(request, state, kind, ending, false).await? {
        Gate::In(visit) => Ok(visit),
        Gate::Shut(told) => Err(refusal(told)),
        Gate::Password(_) => Err(Refusal::new(
            403,
            "password_asked",
            "A password is asked for",
            "This address is protected by a password.",
            "Open it in a browser, or send the password to its address with /enter.",
        )),
    }
}

/// What a stranger hears of an opening that is shut.
pub fn refusal(told: Told) -> Refusal {
    let date = |at| crate::http::times::show(at);
    match told {
        Told::Nothing => Refusal::new(
            404,
            "no_such_address",
            "Nothing here",
            "This address leads nowhere, or no longer.",
            "Check it, or ask whoever gave it to you.",
        ),
        Told::NotYet(at) => Refusal::new(
            403,
            "not_yet",
            "Not yet open",
            &format!("This opens on {}.", date(at)),
            "Come back then.",
        ),
        Told::Over(at) => Refusal::new(
            410,
            "over",
            "No longer open",
            &format!("This was open until {}.", date(at)),
            "Ask whoever gave it to you.",
        ),
        Told::Paused => Refusal::new(
            403,
            "paused",
            "Closed for now",
            "This is closed for now.",
            "Come back later, or ask whoever gave it to you.",
        ),
        Told::UsedUp => Refusal::new(
            410,
            "used_up",
            "Used up",
            "This was used as often as it may be.",
            "Ask whoever gave it to you.",
        ),
    }
}

fn seal(opening: &Opening, until: i64) -> String {
    let key =
        blake3::derive_key("Yellow Attic visit 1", format!("{} {}", opening.id, opening.password).as_bytes());
    blake3::keyed_hash(&key, &until.to_le_bytes()).to_hex().to_string()
}

fn is_let_in(request: &HttpRequest, opening: &Opening, now: i64) -> bool {
    let Some(cookie) = request.cookie(VISIT) else { return false };
    let Some((until, given)) = cookie.value().split_once('.') else { return false };
    let Ok(until) = until.parse::<i64>() else { return false };
    // Compared in constant time, as blake3's hashes are.
    let given = blake3::Hash::from_hex(given);
    until > now && given.is_ok_and(|g| blake3::Hash::from_hex(seal(opening, until)).is_ok_and(|own| own == g))
}

/// A password that is tried. A new one lets nobody in who gave the old one.
#[derive(serde::Deserialize)]
pub struct Tried {
    password: String,
}

/// Lets in who knows the password: the answer leads back to the page, with a cookie for that address
/// alone. Tries are limited, visits that were let in are not.
async fn enter(
    request: &HttpRequest,
    state: &State,
    kind: Kind,
    ending: &str,
    tried: &str,
) -> Result<HttpResponse, Refusal> {
    if request.headers().contains_key(header::ORIGIN) {
        check_origin(request, state)?;
    }
    let base = base(kind, ending);
    let opening = match gate(request, state, kind, ending, true).await? {
        Gate::Shut(told) => return Err(refusal(told)),
        Gate::In(_) => return Ok(to(&base).finish()),
        Gate::Password(opening) => opening,
    };
    let now = state.engine.now_ms();
    let pair = keyed(&[b"opening", &opening.id.0.to_le_bytes(), tried.as_bytes()]);
    let right = match state.guessing.is_wrong(&pair, &opening.password) {
        true => false,
        false => {
            let attempt = take_try(state, request, &opening).await?;
            let turn =
                match state.guessing.turn(throttle::place(request, state, ending.as_bytes()).lane).await {
                    Ok(turn) => turn,
                    Err(refusal) => {
                        attempt.given_back();
                        return Err(refusal);
                    }
                };
            let (password, hash) = (tried.to_string(), opening.password.clone());
            let right = web::block(move || {
                let right = verify(&password, &hash);
                drop(turn);
                right
            })
            .await
            .unwrap_or(false);
            if right {
                attempt.succeeded();
            } else {
                state.guessing.note_wrong(pair, &opening.password);
            }
            right
        }
    };
    if !right {
        return Err(Refusal::new(
            403,
            "wrong_password",
            "Wrong password",
            "The password is wrong.",
            "Check it; capital letters count. Or ask whoever gave you the address.",
        ));
    }
    let until = now + VISIT_MS;
    let cookie = Cookie::build(VISIT, format!("{until}.{}", seal(&opening, until)))
        .path(base.clone())
        .http_only(true)
        // Lax: people come from a mail program.
        .same_site(SameSite::Lax)
        .secure(state.config.is_https())
        .finish();
    Ok(to(&base).cookie(cookie).finish())
}

/// Begins a try at an opening's password; its maker is told where many are tried.
async fn take_try<'s>(
    state: &'s State,
    request: &HttpRequest,
    opening: &Opening,
) -> Result<Try<'s>, Refusal> {
    let mut by = vec![By::Opening(opening.id.0)];
    // Behind a proxy on this machine that says nothing, many look like one.
    let at = address(request, state).filter(|at| !at.to_canonical().is_loopback());
    by.extend(at.map(|at| By::Visitor(counted(at))));
    let begun = state.guessing.begin(&state.engine, by).await;
    if let Err(refusal) = &begun
        && refusal.code() == "too_many_attempts"
    {
        let actor = opening.actor(&from(request, state));
        if state.engine.note_guessing(&actor, opening).await? {
            state.strangers.forget();
            tell_guessing(state, &actor, opening).await?;
        }
    }
    begun
}

async fn tell_guessing(state: &State, actor: &Actor, opening: &Opening) -> Result<(), Refusal> {
    let name = crate::api::sharing::openings::name_of(state, opening).await;
    let accounts = state.engine.accounts().await?;
    if let Some(maker) = accounts.iter().find(|a| a.id == opening.made_by) {
        let said = format!(
            "somebody tries many passwords at your {} for \"{name}\", the last time from {}. Only tries are refused for a while; \
             whoever is in goes on. If its address got around, end it and make another one.",
            opening.kind.word(),
            actor.from,
        );
        let subject = format!("passwords are guessed at your {}", opening.kind.word());
        mail::tell(state, &Actor::service(), maker, Some(Notice::Strangers), subject, said).await;
    }
    Ok(())
}

/// The path of an opening's page.
pub fn base(kind: Kind, ending: &str) -> String {
    match kind {
        Kind::Link => format!("/open/{ending}"),
        Kind::Intake => format!("/give/{ending}"),
    }
}

fn to(place: &str) -> actix_web::HttpResponseBuilder {
    let mut answer = HttpResponse::SeeOther();
    answer.insert_header((header::LOCATION, place)).insert_header((header::CACHE_CONTROL, "no-store"));
    answer
}

/// A refusal as a page for who looks with a browser, and as a problem for programs.
pub fn refused(request: &HttpRequest, state: &State, refusal: Refusal) -> HttpResponse {
    let accepts = request.headers().get(header::ACCEPT).and_then(|v| v.to_str().ok()).unwrap_or("");
    if accepts.contains("text/html") {
        page::refused(state, refusal)
    } else {
        actix_web::ResponseError::error_response(&refusal)
    }
}

/// Anything else below an address.
async fn nothing(request: HttpRequest, state: web::Data<State>) -> HttpResponse {
    match crate::methods::refused_method(&request) {
        Some(wrong) => wrong,
        None => refused(&request, &state, refusal(Told::Nothing)),
    }
}

/// The routes for strangers.
pub fn routes(app: &mut web::ServiceConfig) {
    open::routes(app);
    give::routes(app);
    app.route("/looks.css", web::get().to(page::colours)).route("/looks/logo", web::get().to(page::logo));
}

//! Who asks: sessions in cookies, device tokens, and how guessing is slowed.

use crate::http::problem::Refusal;
use crate::state::State;
use crate::state::throttle::{self, Lane, keyed, keyed_short};
use actix_web::dev::Payload;
use actix_web::http::{Method, header};
use actix_web::{FromRequest, HttpRequest, web};
use argon2::password_hash::{PasswordHasher, PasswordVerifier};
use argon2::{Argon2, PasswordHash};
use std::collections::{BTreeMap, HashMap};
use std::future::Future;
use std::net::IpAddr;
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use yellow_attic_core::DeviceId;
use yellow_attic_core::forwarded::{Header, client};
use yellow_attic_core::guessing::By;
use yellow_attic_core::proof::{Deed, Needs};
use yellow_attic_core::rules::{Door, Rule, Value};
use yellow_attic_store::Actor;
use yellow_attic_store::people::accounts::{Account, Principal, Role, Why};
use yellow_attic_store::timeline::alarms::Alarm;

/// The cookie that holds a session.
pub const COOKIE: &str = "attic_session";
/// The cookie that holds a look as somebody else.
pub const LOOK_COOKIE: &str = "attic_look";
/// How long a session lasts.
pub const SESSION_MS: i64 = 30 * 86_400_000;
/// Principals kept in memory; each is asked for again after a minute.
const MOST_KNOWN: usize = 10_000;
const KNOWN_MS: i64 = 60_000;

/// Who is signed in, by session or device.
#[derive(Clone)]
pub struct Who {
    /// The account.
    pub account: Arc<Account>,
    /// How it enters the record.
    pub actor: Actor,
    /// The session's or device's token, hashed; of a password given with each request, its keyed hash.
    pub token: [u8; 32],
    /// The door they came by.
    pub door: Door,
    /// The administrator who looks as this account, reading only.
    pub seen_by: Option<Arc<Account>>,
    /// Nothing more may be done until a second factor is set up.
    pub needs_factor: bool,
}

/// Who is signed in, even where a second factor is still missing: for the few things that
/// lead to one, and out.
#[derive(Clone)]
pub struct AnyWho(pub Who);

impl Who {
    /// Refuses members.
    pub fn need_administrator(&self) -> Result<(), Refusal> {
        if self.account.role != Role::Administrator {
            return Err(Refusal::new(
                403,
                "administrators_only",
                "Not allowed",
                "Only an administrator can do this.",
                "Ask an administrator.",
            ));
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
            Needs::Password => Refusal::new(
                403,
                "proof_needed",
                "Your password is needed once more",
                "This decides over people, rights or what goes for good, and you gave your password more than ten minutes ago.",
                "Give your password (POST /api/v1/proof), then do it again.",
            ),
            Needs::Factor => Refusal::new(
                403,
                "factor_needed",
                "Your second factor is needed once more",
                "This changes how you sign in, and you gave a second factor more than ten minutes ago.",
                "Give your password with a code, a recovery code or a passkey (POST /api/v1/proof), then do it again.",
            ),
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
            return Err(Refusal::new(
                403,
                "not_with_a_device_token",
                "Not allowed",
                "A device's token cannot do this.",
                "Sign in to the console and do it there.",
            ));
        }
        Ok(())
    }
}

/// Principals by token, so that a request costs no look-up in the common case.
#[derive(Default)]
pub struct Known(Mutex<HashMap<[u8; 32], Remembered>>);

/// Who it is, and until when that is believed.
type Remembered = (Option<Who>, i64);

impl Known {
    pub fn get(&self, token: &[u8; 32], now: i64) -> Option<Option<Who>> {
        let known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        known.get(token).filter(|(_, until)| *until > now).map(|(who, _)| who.clone())
    }

    pub fn put(&self, token: [u8; 32], who: Who, now: i64) {
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if known.len() >= MOST_KNOWN {
            known.clear();
        }
        known.insert(token, (Some(who), now + KNOWN_MS));
    }

    /// Forgets everybody: something about tokens changed, and counts at once.
    pub fn clear(&self) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clear();
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
                return Err(Refusal::new(
                    403,
                    "second_factor_demanded",
                    "A second factor is demanded",
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
const LOOKABLE: [&str; 20] = [
    "/api/v1/shelves",
    "/api/v1/shelves/{root}/changes",
    "/api/v1/place",
    "/api/v1/nodes/{node}",
    "/api/v1/nodes/{node}/entries",
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
    Refusal::new(
        403,
        "looking_only",
        "Looking only",
        "While looking as somebody else, files and folders can be read, and nothing else can be done.",
        "End the look, and do it as yourself.",
    )
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
    holder(&state, request, &secret, device, &from).await
}

/// The name of one of our cookies: where people come by https, one that no other page of the host's can set
/// (RFC 6265bis, `__Host-`).
pub fn cookie_name(state: &State, name: &str) -> String {
    if state.config.is_https() { format!("__Host-{name}") } else { name.to_string() }
}

/// One of our cookies.
pub fn own_cookie(
    request: &HttpRequest,
    state: &State,
    name: &str,
) -> Option<actix_web::cookie::Cookie<'static>> {
    request.cookie(&cookie_name(state, name))
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
    let principal =
        if device { state.engine.device(token).await? } else { state.engine.session(token).await? };
    let Some(principal) = principal else {
        return Err(match device {
            true => ended(state, token).await?.unwrap_or_else(not_signed_in),
            false => not_signed_in(),
        });
    };
    if is_idle(state, &principal, &token, now) {
        return Err(left_alone());
    }
    let Principal { account, device, seen_by, .. } = principal;
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

/// Why a token that was good is not, where that can be told to whoever holds it.
pub async fn ended(state: &State, token: [u8; 32]) -> Result<Option<Refusal>, Refusal> {
    Ok(state.engine.shut_out_by(token).await?.map(|alarm| shut_out("This computer was disconnected", &alarm)))
}

/// What is said to whom an alarm has shut out.
pub fn shut_out(what: &str, alarm: &Alarm) -> Refusal {
    Refusal::new(
        403,
        "shut_out",
        "Shut out by an alarm",
        &format!(
            "{what} at {}, because {} files that had been there before turned to noise or got unknown endings within a short time, as malware would do. Nothing is lost: the states of before are kept.",
            crate::http::times::show(alarm.raised_at),
            alarm.files
        ),
        "Look for malware on this computer first; tell the administrator, who sees it on the desk and can roll the files back.",
    )
}

/// Refuses an account whose door is closed: said only to who has proved who they are.
pub fn check_door(state: &State, account: &Account, door: Door) -> Result<(), Refusal> {
    let Some(by) = shut(state, account).remove(&door) else { return Ok(()) };
    let way = crate::api::session::sessions::capital(door.what());
    Err(Refusal::new(
        403,
        "door_closed",
        "This door is closed",
        &format!(
            "{way} is closed to the account \"{}\" ({by}). The password or token is right.",
            account.sign_in
        ),
        "Ask an administrator to open it, or use another way in.",
    ))
}

/// The doors that are closed to an account, with who says so.
pub fn shut(state: &State, account: &Account) -> BTreeMap<Door, String> {
    let mut shut = BTreeMap::new();
    for door in state.engine.rules_of(account.id, |rules, groups| rules.closed(groups)) {
        shut.insert(door, "by a rule".to_string());
    }
    for door in &account.closed {
        shut.insert(*door, "to this account alone".to_string());
    }
    shut
}

/// Whether a second factor is demanded of an account that has none.
pub async fn lacks_factor(state: &State, account: &Account) -> Result<bool, Refusal> {
    let Some(day) = factor_demanded(state, account) else { return Ok(false) };
    let today = crate::http::times::today(state.engine.now_ms());
    Ok(day <= today && state.engine.factors(account.id).await?.is_empty())
}

/// From which day on a second factor is demanded of an account.
pub fn factor_demanded(state: &State, account: &Account) -> Option<jiff::civil::Date> {
    match state.engine.rules_of(account.id, |rules, groups| rules.decide(Rule::SecondFactor, groups)).value {
        Value::Day(day) => day,
        _ => None,
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
        Some(_) => state.engine.device(who.token).await,
        None => state.engine.session(who.token).await,
    };
    match principal {
        Ok(Some(p)) => {
            !is_idle(state, &p, &who.token, state.engine.now_ms())
                && check_door(state, p.seen_by.as_ref().unwrap_or(&p.account), door).is_ok()
        }
        _ => false,
    }
}

/// How long a password that was given counts as proof.
const PROOF_MS: i64 = 600_000;

/// When the holders of tokens last gave their passwords. In memory only: after a restart it is asked
/// for again.
#[derive(Default)]
pub struct Proofs(Mutex<HashMap<[u8; 32], Given>>);

/// When a password and a second factor were given last.
#[derive(Clone, Copy)]
struct Given {
    password: i64,
    factor: Option<i64>,
}

impl Proofs {
    /// The holder of a token has given their password, and a second factor with it or not.
    pub fn note(&self, token: [u8; 32], factor: bool, now: i64) {
        let mut given = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        given.retain(|_, given| now - given.password < PROOF_MS);
        let before = given.get(&token).and_then(|g| g.factor);
        given.insert(token, Given { password: now, factor: if factor { Some(now) } else { before } });
    }

    fn holds(&self, token: &[u8; 32], needs: Needs, now: i64) -> bool {
        let given = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(given) = given.get(token) else { return false };
        let at = match needs {
            Needs::Password => Some(given.password),
            Needs::Factor => given.factor,
        };
        at.is_some_and(|at| (0..PROOF_MS).contains(&(now - at)))
    }
}

/// When, and of devices from where, each was last used; not written yet.
#[derive(Default)]
pub struct InUse {
    devices: Mutex<HashMap<DeviceId, (i64, Arc<str>)>>,
    browsers: Mutex<HashMap<[u8; 32], i64>>,
}

impl InUse {
    /// A device was used.
    pub fn note_device(&self, actor: &Actor, now: i64) {
        if let Some(device) = actor.device {
            let mut used = self.devices.lock().unwrap_or_else(PoisonError::into_inner);
            used.insert(device, (now, actor.from.clone()));
        }
    }

    /// Somebody did something in a browser.
    fn note_browser(&self, token: [u8; 32], now: i64) {
        self.browsers.lock().unwrap_or_else(PoisonError::into_inner).insert(token, now);
    }

    /// When that was last, if it is not written yet.
    fn browser(&self, token: &[u8; 32]) -> Option<i64> {
        self.browsers.lock().unwrap_or_else(PoisonError::into_inner).get(token).copied()
    }

    /// What is known of devices and not written yet.
    pub fn devices(&self, devices: &[DeviceId]) -> Vec<Option<(i64, String)>> {
        let used = self.devices.lock().unwrap_or_else(PoisonError::into_inner);
        devices.iter().map(|d| used.get(d).map(|(at, from)| (*at, from.to_string()))).collect()
    }

    /// Writes it.
    pub async fn write(&self, engine: &yellow_attic_store::Engine) {
        let devices = std::mem::take(&mut *self.devices.lock().unwrap_or_else(PoisonError::into_inner));
        let browsers = self.browsers.lock().unwrap_or_else(PoisonError::into_inner).clone();
        if devices.is_empty() && browsers.is_empty() {
            return;
        }
        let devices = devices.into_iter().map(|(d, (at, from))| (d, at, from.to_string())).collect();
        let written: Vec<_> = browsers.into_iter().collect();
        if let Err(error) = engine.note_use(devices, written.clone()).await {
            tracing::warn!(%error, "the last use of devices and browsers could not be written");
            return;
        }
        // Only now: until it is written, it is known from here.
        let mut browsers = self.browsers.lock().unwrap_or_else(PoisonError::into_inner);
        for (token, at) in written {
            if browsers.get(&token) == Some(&at) {
                browsers.remove(&token);
            }
        }
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
    let hours = state.engine.rules_of(principal.account.id, |r, groups| r.number(Rule::BrowsersIdle, groups));
    let used = state.in_use.browser(token).unwrap_or(0).max(principal.used_at);
    hours.is_some_and(|hours| now - used > i64::from(hours) * 3_600_000)
}

fn state(request: &HttpRequest) -> Result<web::Data<State>, Refusal> {
    request.app_data::<web::Data<State>>().cloned().ok_or_else(not_signed_in)
}

fn left_alone() -> Refusal {
    Refusal::new(
        401,
        "browser_left_alone",
        "Signed out",
        "A rule signs a browser out after it has been left alone for some hours, and this one was.",
        "Sign in again.",
    )
}

fn not_signed_in() -> Refusal {
    Refusal::new(
        401,
        "not_signed_in",
        "Not signed in",
        "Nobody is signed in, or the sign-in has ended.",
        "Sign in, or connect the computer again with yattic connect.",
    )
}

/// A cookie counts only for what our own pages ask (the browser says where from).
pub fn check_origin(request: &HttpRequest, state: &State) -> Result<(), Refusal> {
    if matches!(*request.method(), Method::GET | Method::HEAD | Method::OPTIONS) {
        return Ok(());
    }
    let text = |name: &str| request.headers().get(name).and_then(|v| v.to_str().ok());
    let own = match (text("origin"), text("sec-fetch-site")) {
        (Some(origin), _) => match &state.config.public_address {
            Some(public) => origin == public,
            // Only one's own pages make a browser send an Origin that names the very Host asked.
            // What came by TLS is not asked for by a page that did not: others could have written it.
            None => origin.split_once("://").is_some_and(|(scheme, host)| {
                Some(host) == host_of(request)
                    && (scheme == "https" || scheme == "http" && !came_by_https(request, state))
            }),
        },
        (None, Some(site)) => site == "same-origin",
        (None, None) => false,
    };
    if own {
        return Ok(());
    }
    Err(Refusal::new(
        403,
        "other_origin",
        "Not from our own pages",
        "The request carries a sign-in, but comes from a page of another address.",
        "Open the console under its public address; set public_address if that is not known to the service.",
    ))
}

/// The host that a request asks for, with its port.
fn host_of(request: &HttpRequest) -> Option<&str> {
    let named = request.headers().get("host").and_then(|v| v.to_str().ok());
    named.or_else(|| request.uri().authority().map(|a| a.as_str()))
}

/// Refuses a sign-in under a name that is not ours: pages of others can have their names lead here, and browsers take
/// them for one page then.
pub fn check_host(request: &HttpRequest, state: &State) -> Result<(), Refusal> {
    let Some(host) = host_of(request) else { return Ok(()) };
    if state.config.is_ours(host) {
        return Ok(());
    }
    let name: String = host.chars().take(200).collect();
    Err(Refusal::new(
        421,
        "other_address",
        "Not under this address",
        &format!("The service does not know \"{name}\" as its own address, so nobody signs in under it."),
        "Use public_address, or have the administrator add the name to addresses in the configuration.",
    ))
}

/// Whether a request came by a proxy that is believed.
pub fn is_trusted(request: &HttpRequest, state: &State) -> bool {
    request.peer_addr().is_some_and(|p| state.config.trusted_proxies.contains(&p.ip().to_canonical()))
}

/// The address that a request came from, for the record and the limits.
pub fn address(request: &HttpRequest, state: &State) -> Option<IpAddr> {
    let peer = request.peer_addr()?.ip();
    Some(told_by(request, state, peer).0)
}

/// What the header that is believed tells of a request: the address, and the scheme.
fn told_by(request: &HttpRequest, state: &State, peer: IpAddr) -> (IpAddr, Option<String>) {
    let config = &state.config;
    let lines = |name: &'static str| request.headers().get_all(name).filter_map(|v| v.to_str().ok());
    match config.forwarded_header {
        Header::Forwarded => client(peer, Header::Forwarded, lines("forwarded"), &config.trusted_proxies),
        Header::XForwarded => {
            let (from, _) =
                client(peer, Header::XForwarded, lines("x-forwarded-for"), &config.trusted_proxies);
            let scheme = lines("x-forwarded-proto").last().filter(|_| is_trusted(request, state));
            (from, scheme.map(|s| s.rsplit(',').next().unwrap_or(s).trim().to_ascii_lowercase()))
        }
    }
}

/// Whether a request came by https, as far as is known.
pub fn came_by_https(request: &HttpRequest, state: &State) -> bool {
    let told = request.peer_addr().and_then(|p| told_by(request, state, p.ip()).1);
    state.config.tls.is_some() || told.as_deref() == Some("https")
}

/// The same as text.
pub fn from(request: &HttpRequest, state: &State) -> String {
    address(request, state).map_or_else(|| "unknown".to_string(), |a| a.to_string())
}

/// A new secret: 32 random bytes, as text.
pub fn new_secret() -> Result<String, Refusal> {
    let mut bytes = [0u8; 32];
    getrandom::fill(&mut bytes).map_err(|e| {
        tracing::error!(error = %e, "no randomness");
        Refusal::new(
            500,
            "internal",
            "The service failed",
            "The machine gives no random numbers.",
            "See its log.",
        )
    })?;
    Ok(yellow_attic_store::fs::disk::hex(&bytes))
}

/// How a secret is kept: its hash only.
pub fn hash_secret(secret: &str) -> [u8; 32] {
    blake3::derive_key("Yellow Attic secret 1", secret.as_bytes())
}

/// Hashes a password (argon2id). Blocks for tens of milliseconds.
pub fn hash_password(password: &str) -> Result<String, Refusal> {
    Argon2::default().hash_password(password.as_bytes()).map(|h| h.to_string()).map_err(|e| {
        tracing::error!(error = %e, "a password could not be hashed");
        Refusal::new(
            500,
            "internal",
            "The service failed",
            "The password could not be hashed.",
            "See the log.",
        )
    })
}

/// What is checked when there is no such account, so that both take the same time.
fn nobody() -> &'static str {
    static HASH: std::sync::OnceLock<String> = std::sync::OnceLock::new();
    HASH.get_or_init(|| hash_password("nobody has this password").unwrap_or_default())
}

/// Whether a password is the one of a hash. Blocks for tens of milliseconds.
pub fn verify(password: &str, hash: &str) -> bool {
    PasswordHash::new(hash)
        .is_ok_and(|parsed| Argon2::default().verify_password(password.as_bytes(), &parsed).is_ok())
}

/// The longest name that signs anybody in, in bytes: longer ones are refused before they are looked at.
const LONGEST_NAME: usize = 254;
/// The longest password that is looked at, in bytes.
const LONGEST_PASSWORD: usize = 4096;

fn wrong_sign_in() -> Refusal {
    Refusal::new(
        401,
        "wrong_sign_in",
        "Wrong sign-in",
        "The sign-in name or the password is wrong.",
        "Check both; capital letters count in the password.",
    )
}

/// The account of a sign-in name or a mail address: no sign-in name holds an "@".
pub async fn account_of(state: &State, name: &str) -> Result<Option<Account>, Refusal> {
    if name.len() > LONGEST_NAME {
        return Err(Refusal::bad(
            "sign_in_name_too_long",
            &format!("No sign-in name or mail address has more than {LONGEST_NAME} bytes."),
            "Check it.",
        ));
    }
    let name = name.trim().to_lowercase();
    Ok(match name.contains('@') {
        true => state.engine.account_at(&name).await?,
        false => state.engine.account_named(&name).await?,
    })
}

/// How a password is looked at.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Look {
    /// Right or wrong.
    Usual,
    /// Not at all, where more than a password is needed; it takes as long, and counts as wrong.
    Untested,
}

/// Checks a sign-in name and password. Tries are counted before they are looked at.
pub async fn check_password(
    state: &State,
    request: &HttpRequest,
    sign_in: &str,
    password: &str,
) -> Result<Account, Refusal> {
    let account = account_of(state, sign_in).await?;
    look_at_password(state, request, account, sign_in, password, Look::Usual).await
}

/// The password of somebody who is signed in, given once more: their tries are their own.
pub async fn check_own_password(
    state: &State,
    request: &HttpRequest,
    who: &Who,
    password: &str,
) -> Result<Account, Refusal> {
    let account = account_of(state, &who.account.sign_in).await?;
    let own = Some(keyed_short(&[b"signed in", &who.token]));
    look(state, request, account, &who.account.sign_in, password, Look::Usual, own).await
}

/// The same for an account that was found, or for nobody's name.
pub async fn look_at_password(
    state: &State,
    request: &HttpRequest,
    account: Option<Account>,
    sign_in: &str,
    password: &str,
    how: Look,
) -> Result<Account, Refusal> {
    let browser = account.as_ref().and_then(|account| known_browser(state, request, account));
    look(state, request, account, sign_in, password, how, browser).await
}

async fn look(
    state: &State,
    request: &HttpRequest,
    account: Option<Account>,
    sign_in: &str,
    password: &str,
    look: Look,
    browser: Option<[u8; 16]>,
) -> Result<Account, Refusal> {
    let name = sign_in.trim().to_lowercase();
    // Who has not chosen a password yet takes as long as everybody else, and as nobody.
    let known = account.filter(|a| !a.password.is_empty());
    let by = match &known {
        Some(account) => By::Account(account.id.0),
        None => By::Name(keyed_short(&[b"name", name.as_bytes()])),
    };
    let hash = match (&known, look) {
        (Some(account), Look::Usual) => account.password.clone(),
        _ => nobody().to_string(),
    };
    // The same wrong pair again, as programs with an old password send it, costs neither a try nor a hash.
    let untested: &[u8] = if look == Look::Untested { b"untested" } else { b"" };
    let pair = keyed(&[b"pair", format!("{by:?}").as_bytes(), untested, password.as_bytes()]);
    if state.guessing.is_wrong(&pair, &hash) {
        return Err(wrong_sign_in());
    }
    let place = throttle::place(request, state, name.as_bytes());
    let (by, lane) = match browser {
        Some(browser) => (vec![By::Browser(browser)], Lane::Browser(browser)),
        None => (std::iter::once(by).chain(place.by).collect(), place.lane),
    };
    let attempt = state.guessing.begin(&state.engine, by).await?;
    let turn = match state.guessing.turn(lane).await {
        Ok(turn) => turn,
        Err(refusal) => {
            attempt.given_back();
            return Err(refusal);
        }
    };
    let (tried, against) = (password.to_string(), hash.clone());
    let right = tried.len() <= LONGEST_PASSWORD
        && web::block(move || {
            let right = verify(&tried, &against);
            // Whoever stops waiting does not give the core to somebody else before it is free.
            drop(turn);
            right
        })
        .await
        .unwrap_or(false);
    match known {
        Some(account) if right && look == Look::Usual => {
            attempt.succeeded();
            if account.disabled_at.is_some() {
                return Err(disabled(&account));
            }
            Ok(account)
        }
        known => {
            drop(attempt);
            state.guessing.note_wrong(pair, &hash);
            let actor = Actor {
                account: None,
                device: None,
                who: "nobody".into(),
                from: from(request, state).into(),
                through: None,
                tokens: Default::default(),
            };
            // A name that nobody has may be a password in the wrong field.
            let what = match &known {
                Some(account) => account.sign_in.clone(),
                None => format!("a name that nobody has (#{})", state.engine.mark_of(&name)),
            };
            state.engine.note(&actor, "sign-in refused", None, &what, "").await?;
            Err(wrong_sign_in())
        }
    }
}

/// Said only to who has proved who they are.
fn disabled(account: &Account) -> Refusal {
    let reason = match account.why_disabled {
        Why::Said => "An administrator has disabled this account. Nothing of its is lost.",
        Why::Away => {
            "Nobody had signed in to it for a long time, so a rule has disabled it. Nothing of its is lost."
        }
        Why::Waiting => "An administrator has not approved this account yet.",
        Why::Leaving => "This account will be deleted. Until then nothing of its is lost.",
    };
    Refusal::new(
        403,
        "account_disabled",
        "The account is disabled",
        reason,
        "Ask an administrator to enable it.",
    )
}

/// The cookie of a browser in which an account was signed in before.
pub const BROWSER_COOKIE: &str = "attic_browser";
/// How long it counts, since the last sign-in.
pub const BROWSER_MS: i64 = 400 * 86_400_000;

/// What a browser keeps to be known again.
pub fn browser_proof(state: &State, account: &Account) -> Result<String, Refusal> {
    let until = state.engine.now_ms() + BROWSER_MS;
    Ok(state.engine.sealed("browser", &account.id.to_string(), &format!("{until} {}", new_secret()?)))
}

/// Whether an account was signed in before in the browser that asks.
fn known_browser(state: &State, request: &HttpRequest, account: &Account) -> Option<[u8; 16]> {
    let cookie = own_cookie(request, state, BROWSER_COOKIE)?;
    let proof = state.engine.unsealed("browser", &account.id.to_string(), cookie.value())?;
    let until: i64 = proof.split(' ').next()?.parse().ok()?;
    (until > state.engine.now_ms()).then(|| keyed_short(&[b"browser", proof.as_bytes()]))
}

//! Who may ask. A browser gets a cookie for a code, and the code comes over the socket, which only this account can open. The
//! host and the origin must be exactly ours: no other page, and no name that leads here, can ask in a browser's name.

use super::{Answer, Here, Known, No};
use axum::Form;
use axum::Json;
use axum::extract::{Request, State};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use http::{HeaderMap, HeaderValue, Method, StatusCode, header};
use parking_lot::Mutex;
use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};
use yellow_attic_sync::computer::Refused;

/// A code counts so long, and once.
const CODE: Duration = Duration::from_secs(60);
/// A browser that did not ask for so long has to be let in anew.
const IDLE: Duration = Duration::from_secs(12 * 3600);
/// So many browsers are let in, so many codes wait.
const MOST: usize = 64;
const COOKIE: &str = "yattic-here";

/// What opens the page.
#[derive(serde::Serialize, serde::Deserialize)]
pub struct Code {
    /// Where the page is.
    pub address: String,
    /// To be posted there as `code`.
    pub code: String,
}

/// Secrets with the time until which they count.
#[derive(Default)]
struct Secrets(Mutex<HashMap<String, Instant>>);

impl Secrets {
    fn make(&self, counts: Duration) -> Result<String, getrandom::Error> {
        let mut bytes = [0u8; 32];
        getrandom::fill(&mut bytes)?;
        let secret: String = bytes.iter().map(|b| format!("{b:02x}")).collect();
        let mut all = self.0.lock();
        let now = Instant::now();
        all.retain(|_, until| *until > now);
        if all.len() >= MOST
            && let Some(oldest) = all.iter().min_by_key(|(_, until)| **until).map(|(s, _)| s.clone())
        {
            all.remove(&oldest);
        }
        all.insert(secret.clone(), now + counts);
        Ok(secret)
    }

    /// Whether it counts, and until when from now on: not any more if that is over.
    fn counts(&self, secret: &str, then: Option<Duration>) -> bool {
        let mut all = self.0.lock();
        let now = Instant::now();
        if all.get(secret).is_none_or(|until| *until <= now) {
            return false;
        }
        match then {
            Some(counts) => all.insert(secret.to_string(), now + counts),
            None => all.remove(secret),
        };
        true
    }
}

/// Who may ask.
pub struct Guard {
    port: u16,
    codes: Secrets,
    browsers: Secrets,
}

impl Guard {
    pub fn new(port: u16) -> Guard {
        Guard { port, codes: Secrets::default(), browsers: Secrets::default() }
    }

    fn host(&self) -> String {
        format!("127.0.0.1:{}", self.port)
    }
}

fn no_chance(error: getrandom::Error) -> No {
    No(StatusCode::INTERNAL_SERVER_ERROR, Refused::new("no_chance", error.to_string(), ""))
}

/// A code for a browser.
pub async fn code(State(here): Known) -> Answer<Code> {
    let code = here.guard.codes.make(CODE).map_err(no_chance)?;
    Ok(Json(Code { address: format!("http://{}", here.guard.host()), code }))
}

#[derive(serde::Deserialize)]
pub struct Enters {
    code: String,
}

/// Lets a browser in that has a code.
pub async fn enter(State(here): Known, Form(enters): Form<Enters>) -> Result<Response, No> {
    if !here.guard.codes.counts(&enters.code, None) {
        return Err(No(StatusCode::FORBIDDEN, closed()));
    }
    let secret = here.guard.browsers.make(IDLE).map_err(no_chance)?;
    let cookie = format!("{COOKIE}={secret}; HttpOnly; SameSite=Strict; Path=/");
    // Not by a redirect: a browser leaves a strict cookie out of one that began elsewhere.
    let body = "<!doctype html><meta http-equiv=refresh content=\"0;url=/\"><title>Yellow Attic</title>";
    Ok(([(header::SET_COOKIE, cookie), (header::CONTENT_TYPE, "text/html; charset=utf-8".into())], body)
        .into_response())
}

fn closed() -> Refused {
    Refused::new(
        "page_closed",
        "this page was not opened from this computer's account, or too long ago",
        "Open it with: yattic sync page",
    )
}

fn cookie(headers: &HeaderMap) -> Option<&str> {
    let all = headers.get_all(header::COOKIE).iter().filter_map(|value| value.to_str().ok());
    all.flat_map(|value| value.split(';'))
        .find_map(|pair| pair.trim().strip_prefix(COOKIE)?.strip_prefix('='))
}

/// Lets in only who may ask.
pub async fn only_us(State(here): State<Arc<Here>>, request: Request, next: Next) -> Response {
    if let Err((status, refused)) = may_ask(&here.guard, &request) {
        let shows = request.headers().get(header::ACCEPT).and_then(|value| value.to_str().ok());
        return match shows.is_some_and(|shows| shows.contains("text/html")) {
            true => {
                let text = format!("{}.\n{}\n", refused.says, refused.remedy);
                (status, [(header::CONTENT_TYPE, "text/plain; charset=utf-8")], text).into_response()
            }
            false => No(status, refused).into_response(),
        };
    }
    let mut answer = next.run(request).await;
    let headers = answer.headers_mut();
    headers.insert(header::X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    headers.insert(header::REFERRER_POLICY, HeaderValue::from_static("no-referrer"));
    headers.entry(header::CACHE_CONTROL).or_insert(HeaderValue::from_static("no-store"));
    headers.entry(header::CONTENT_SECURITY_POLICY).or_insert(HeaderValue::from_static("default-src 'none'"));
    answer
}

fn may_ask(guard: &Guard, request: &Request) -> Result<(), (StatusCode, Refused)> {
    let is = |name, value: &str| request.headers().get(name).is_some_and(|there| there == value);
    if !is(header::HOST, &guard.host()) {
        let says = "this is the page of one computer, under its own address only";
        return Err((StatusCode::MISDIRECTED_REQUEST, Refused::new("wrong_host", says, "")));
    }
    let enters = request.uri().path() == "/enter" && request.method() == Method::POST;
    let reads = request.method() == Method::GET || request.method() == Method::HEAD;
    if !reads && !enters && !is(header::ORIGIN, &format!("http://{}", guard.host())) {
        let says = "another page asked in this one's name";
        return Err((StatusCode::FORBIDDEN, Refused::new("wrong_origin", says, "")));
    }
    let known = cookie(request.headers()).is_some_and(|secret| guard.browsers.counts(secret, Some(IDLE)));
    match enters || known {
        true => Ok(()),
        false => Err((StatusCode::FORBIDDEN, closed())),
    }
}

//! What every request meets: state, headers, limits, routes.

pub mod metrics;
pub mod read_log;
pub mod throttle;

use crate::api;
use crate::config::Config;
use crate::http::lines::Paced;
use crate::http::problem::{Refusal, unreadable};
use crate::identity::principal::{InUse, Known, Proofs, Who};
use crate::identity::public_address as public;
use crate::methods;
use crate::state::metrics::Metrics;
use crate::state::read_log::Reads;
use crate::state::throttle::Guessing;
use crate::strangers;
use crate::transfer::archive::{Archives, Checksums};
use crate::transfer::thumbnails::Thumbnails;
use actix_web::body::{BodySize, BoxBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::header::{self, HeaderMap, HeaderName, HeaderValue};
use actix_web::http::{Method, StatusCode, Version};
use actix_web::middleware::Next;
use actix_web::{HttpResponse, web};
use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use yellow_attic_core::{AccountId, DeviceId};
use yellow_attic_store::Engine;
use yellow_attic_store::people::accounts::Role;

/// What the handlers share.
pub struct State {
    /// The store.
    pub engine: Engine,
    /// What is in force.
    pub config: Config,
    /// Principals by token.
    pub known: Known,
    /// Tries at passwords and codes.
    pub guessing: Guessing,
    /// The code of the set-up address, hashed; none when there is an administrator.
    pub set_up: Mutex<Option<[u8; 32]>>,
    /// Who looked at what, not recorded yet.
    pub reads: Arc<Reads>,
    /// Names to show, asked for again after a change.
    pub names: Names,
    /// Passwords that were given with requests and are right.
    pub pairs: crate::identity::basic::Pairs,
    /// Who gave their password lately.
    pub proofs: Proofs,
    /// First steps of signing in, and factors that are being set up.
    pub tickets: crate::identity::factors::Tickets,
    /// The way to the mail server.
    pub post: crate::mail::Mailer,
    /// The address under which the service is reached, for what is sent out.
    pub address: std::sync::OnceLock<String>,
    /// Last uses of devices, not written yet.
    pub in_use: InUse,
    /// Checksums of contents that went into archives.
    pub checksums: Checksums,
    /// What is remembered of links and intakes.
    pub strangers: crate::strangers::Strangers,
    /// Under which addresses requests came.
    pub seen: crate::identity::public_address::Seen,
    /// Ticks when a link, an intake or a delivery changed.
    pub openings: tokio::sync::watch::Sender<u64>,
    /// Digests of contents that were asked for, by hash and algorithm.
    pub digests: quick_cache::sync::Cache<([u8; 32], &'static str), String>,
    /// The chunks of contents that were asked for lately.
    pub chunks: quick_cache::sync::Cache<[u8; 32], Arc<Vec<String>>>,
    /// Selections to fetch as archives.
    pub archives: Archives,
    /// Small pictures for lists.
    pub thumbnails: Thumbnails,
    /// Counted for whoever watches.
    pub metrics: Metrics,
    /// Ticks when a sign-in was revoked: long answers look again whether they may go on.
    pub revocations: tokio::sync::watch::Sender<u64>,
    /// How far letting go of the past is.
    pub going: Arc<yellow_attic_store::timeline::purge::Progress>,
    /// Whether the service takes requests.
    pub ready: AtomicBool,
}

impl State {
    /// The state of a service on this store.
    pub fn new(engine: Engine, config: Config, set_up: Option<[u8; 32]>) -> State {
        State {
            thumbnails: Thumbnails::new(&config.data),
            metrics: Metrics::default(),
            tickets: Default::default(),
            post: crate::mail::Mailer::new(&config),
            address: Default::default(),
            strangers: crate::strangers::Strangers::new(&engine),
            engine,
            config,
            known: Known::default(),
            guessing: Guessing::default(),
            set_up: Mutex::new(set_up),
            reads: Arc::default(),
            seen: Default::default(),
            openings: tokio::sync::watch::Sender::new(0),
            names: Names::default(),
            proofs: Proofs::default(),
            pairs: Default::default(),
            in_use: InUse::default(),
            checksums: Checksums::default(),
            digests: quick_cache::sync::Cache::new(1000),
            chunks: quick_cache::sync::Cache::new(8),
            archives: Archives::default(),
            revocations: tokio::sync::watch::Sender::new(0),
            going: Arc::default(),
            ready: AtomicBool::new(true),
        }
    }

    /// The beginning of addresses that are sent out.
    pub fn base(&self) -> String {
        let public = self.config.public_address.clone();
        public.or_else(|| self.address.get().cloned()).unwrap_or_default()
    }

    /// The names that somebody may know.
    pub async fn names_for(&self, who: &Who) -> Arc<NameMap> {
        let (all, outside) = self.names.both(&self.engine).await;
        if who.account.role == Role::Guest { outside } else { all }
    }

    /// A link or intake changed: it counts at once, for running answers too.
    pub fn openings_changed(&self) {
        self.strangers.forget();
        self.revocations.send_modify(|n| *n += 1);
        self.tell_openings();
    }

    /// Something happened at a link or intake: open pages are told.
    pub fn tell_openings(&self) {
        self.openings.send_modify(|n| *n += 1);
    }

    /// Something about tokens changed: it counts at once, for running answers too.
    pub fn revoked(&self) {
        self.known.clear();
        self.strangers.forget();
        self.revocations.send_modify(|n| *n += 1);
    }
}

/// Names of accounts and devices, for showing who did something.
#[derive(Default)]
pub struct Names(tokio::sync::RwLock<Option<BothMaps>>);

/// All names, and those that people from outside may know: nobody's computers.
type BothMaps = (Arc<NameMap>, Arc<NameMap>);

/// Names by id.
#[derive(Default)]
pub struct NameMap {
    /// Of accounts.
    pub accounts: HashMap<AccountId, String>,
    /// Of devices.
    pub devices: HashMap<DeviceId, String>,
}

impl NameMap {
    /// Who made something, and with which device; none if nobody is known.
    pub fn author(&self, account: Option<AccountId>, device: Option<DeviceId>) -> Option<String> {
        let account = account.and_then(|a| self.accounts.get(&a))?;
        match device.and_then(|d| self.devices.get(&d)) {
            Some(device) => Some(format!("{account}, {device}")),
            None => Some(account.clone()),
        }
    }
}

impl Names {
    /// The names as they are.
    pub async fn get(&self, engine: &Engine) -> Arc<NameMap> {
        self.both(engine).await.0
    }

    async fn both(&self, engine: &Engine) -> BothMaps {
        if let Some(maps) = &*self.0.read().await {
            return maps.clone();
        }
        let (accounts, devices) = match engine.names().await {
            Ok(names) => names,
            // Not remembered: the next look may find them.
            Err(error) => {
                tracing::warn!(%error, "names could not be read; an answer goes without them");
                return BothMaps::default();
            }
        };
        let accounts: HashMap<AccountId, String> = accounts.into_iter().collect();
        let outside = Arc::new(NameMap { accounts: accounts.clone(), devices: HashMap::new() });
        let all = Arc::new(NameMap { accounts, devices: devices.into_iter().collect() });
        let maps = (all, outside);
        *self.0.write().await = Some(maps.clone());
        maps
    }

    /// Something about them changed.
    pub async fn forget(&self) {
        *self.0.write().await = None;
    }
}

/// Headers on every answer.
const ALWAYS: [(HeaderName, &str); 5] = [
    (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
    (header::REFERRER_POLICY, "no-referrer"),
    (HeaderName::from_static("cross-origin-opener-policy"), "same-origin"),
    (HeaderName::from_static("cross-origin-resource-policy"), "same-origin"),
    (HeaderName::from_static("permissions-policy"), "camera=(), geolocation=(), microphone=()"),
];

/// Routes, for a service's workers.
pub fn configure(state: web::Data<State>) -> impl FnOnce(&mut web::ServiceConfig) {
    move |app: &mut web::ServiceConfig| {
        app.app_data(state)
            .app_data(web::QueryConfig::default().error_handler(|e, _| unreadable("query", &e)))
            .app_data(web::PathConfig::default().error_handler(|_, request| no_such_path(request)))
            .route("/healthz", web::get().to(healthz))
            .route("/readyz", web::get().to(readyz))
            .route("/metrics", web::get().to(crate::state::metrics::signed_in))
            .route("/api/openapi.json", web::get().to(api::openapi))
            .configure(crate::dav::routes)
            .service(
                web::scope("/api/v1")
                    .configure(api::routes)
                    .default_service(web::route().to(methods::nowhere)),
            )
            .configure(strangers::routes)
            .service(web::scope("/api").default_service(web::route().to(methods::nowhere)))
            .default_service(web::route().to(methods::elsewhere));
    }
}

/// A part of the address is not what the route takes: perhaps another route is meant, by another method.
fn no_such_path(request: &actix_web::HttpRequest) -> actix_web::Error {
    match methods::refused_method(request) {
        Some(wrong) => actix_web::error::InternalError::from_response("", wrong).into(),
        None => Refusal::not_found("The address").into(),
    }
}

/// Adds the headers, and logs what changed or failed.
pub async fn around(
    mut request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    let begun = std::time::Instant::now();
    let state = request.app_data::<web::Data<State>>().cloned();
    let https = state.as_ref().is_some_and(|s| s.config.is_https());
    if let Some(state) = &state {
        public::note(request.request(), state);
    }
    crate::http::patience::watch(&mut request);
    if let Some(meant) = methods::overridden(request.request()) {
        request.head_mut().method = meant;
    }
    let method = request.method().clone();
    let bare = method == Method::HEAD;
    if bare && !methods::has_own_head(request.path()) {
        request.head_mut().method = Method::GET;
    }
    // WebDAV refuses it in its own way.
    let cut = crate::http::listener::note_fragment(request.request()) && !request.path().starts_with("/dav");
    // Over HTTP/2 one connection carries many answers: each counts.
    let stream = match (request.version(), crate::http::listener::line(request.request())) {
        (Version::HTTP_2, Some(line)) => match line.stream() {
            Some(stream) => Some(stream),
            None => {
                let refused = actix_web::ResponseError::error_response(&Refusal::crowded());
                return Ok(request.into_response(refused).map_into_boxed_body());
            }
        },
        _ => None,
    };
    let answered = match cut {
        true => request
            .into_response(actix_web::ResponseError::error_response(&cut_address()))
            .map_into_boxed_body(),
        false => next.call(request).await?.map_into_boxed_body(),
    };
    let answered = match answered.status() {
        StatusCode::METHOD_NOT_ALLOWED
            if !answered.headers().contains_key(header::ALLOW)
                && !answered.request().path().starts_with("/dav") =>
        {
            let which = methods::say_which(answered.request());
            answered.into_response(which).map_into_boxed_body()
        }
        _ => answered,
    };
    let mut response = compressed(answered).await;
    if bare {
        response = without_body(response);
    }
    if let Some(stream) = stream {
        response = response.map_body(|_, body| BoxBody::new(Paced::new(body, stream)));
    }
    let api = response.request().path().starts_with("/api/");
    let headers = response.headers_mut();
    for (name, value) in ALWAYS {
        if !headers.contains_key(&name) {
            headers.insert(name, HeaderValue::from_static(value));
        }
    }
    if api && !headers.contains_key(header::CACHE_CONTROL) {
        headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
    if !headers.contains_key(header::CONTENT_SECURITY_POLICY) {
        headers.insert(
            header::CONTENT_SECURITY_POLICY,
            HeaderValue::from_static("default-src 'none'; frame-ancestors 'none'"),
        );
    }
    if https {
        headers.insert(header::STRICT_TRANSPORT_SECURITY, HeaderValue::from_static("max-age=31536000"));
    }
    let status = response.status().as_u16();
    let asked = response.request();
    let ms = begun.elapsed().as_secs_f64() * 1000.0;
    if let Some(state) = &state {
        state.metrics.answered(method.as_str(), status, ms / 1000.0);
    }
    // Paths hold no secrets: tokens travel in headers, the set-up code behind a #, and the endings of
    // links and intakes are left out.
    let path = logged(asked.path());
    if status >= 500 {
        tracing::warn!(%method, %path, status, ms, "answered");
    } else if method.is_safe() {
        tracing::debug!(%method, %path, status, ms, "answered");
    } else {
        tracing::info!(%method, %path, status, ms, "answered");
    }
    Ok(response)
}

/// The answer to a HEAD: all that GET would tell, and none of the bytes.
fn without_body(response: ServiceResponse<BoxBody>) -> ServiceResponse<BoxBody> {
    let told = response.headers().get(header::CONTENT_LENGTH);
    let told = told.and_then(|v| v.to_str().ok()).and_then(|v| v.parse().ok());
    let length = told.map_or_else(|| response.response().body().size(), BodySize::Sized);
    response.map_body(|_, _| BoxBody::new(methods::Bare(length)))
}

fn cut_address() -> Refusal {
    Refusal::bad(
        "address_has_fragment",
        "The address of a request has no fragment; what it means is not what would be done.",
        "Leave out # and what follows, or send # as %23.",
    )
}

/// From this size on an answer is worth compressing, in bytes.
const WORTH_COMPRESSING: usize = 2048;

/// Lists in JSON shrink to a tenth, and go so to whoever takes it. Stored bytes never do: they go out as they are.
async fn compressed(response: ServiceResponse<impl MessageBody + 'static>) -> ServiceResponse<BoxBody> {
    let response = response.map_into_boxed_body();
    let text = |headers: &HeaderMap, name: HeaderName| {
        headers.get(name).and_then(|v| v.to_str().ok()).unwrap_or_default().to_string()
    };
    let takes = text(response.request().headers(), header::ACCEPT_ENCODING);
    let takes = takes.split(',').map(str::trim).any(|one| {
        let (coding, weight) = one.split_once(';').unwrap_or((one, ""));
        coding.trim().eq_ignore_ascii_case("gzip")
            && weight.trim().trim_start_matches("q=").parse() != Ok(0.0f32)
    });
    let headers = response.headers();
    let kind = text(headers, header::CONTENT_TYPE);
    let stored =
        headers.contains_key(header::CONTENT_DISPOSITION) || headers.contains_key(header::CONTENT_ENCODING);
    if !takes || stored || !kind.starts_with("application/json") {
        return response;
    }
    let (request, response) = response.into_parts();
    let (mut head, body) = response.into_parts();
    let bytes = match body.try_into_bytes() {
        Ok(bytes) => bytes,
        // It comes piece by piece.
        Err(body) => return ServiceResponse::new(request, head.set_body(body)),
    };
    let shrunk = match bytes.len() >= WORTH_COMPRESSING {
        true => {
            let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
            std::io::Write::write_all(&mut encoder, &bytes).and_then(|()| encoder.finish()).ok()
        }
        false => None,
    };
    let headers = head.headers_mut();
    headers.append(header::VARY, HeaderValue::from_static("accept-encoding"));
    let body = match shrunk {
        Some(shrunk) => {
            headers.insert(header::CONTENT_ENCODING, HeaderValue::from_static("gzip"));
            BoxBody::new(shrunk)
        }
        None => BoxBody::new(bytes),
    };
    ServiceResponse::new(request, head.set_body(body))
}

fn logged(path: &str) -> std::borrow::Cow<'_, str> {
    let mut parts = path.split('/').filter(|p| !p.is_empty());
    let first = parts.next().unwrap_or_default();
    // However it is written: what leads to no page may still be meant for one.
    let place = percent_encoding::percent_decode_str(first).decode_utf8_lossy().to_lowercase();
    if !["open", "give"].contains(&place.as_str()) {
        return path.into();
    }
    let what = parts.nth(1).unwrap_or_default();
    format!("/{place}/…/{what}").into()
}

impl actix_web::Responder for Refusal {
    type Body = actix_web::body::BoxBody;
    fn respond_to(self, _: &actix_web::HttpRequest) -> HttpResponse {
        actix_web::ResponseError::error_response(&self)
    }
}

/// Alive.
async fn healthz() -> HttpResponse {
    HttpResponse::Ok().content_type("text/plain").body("ok\n")
}

/// Able to read and write.
async fn readyz(state: web::Data<State>) -> HttpResponse {
    if !state.ready.load(Ordering::SeqCst) {
        return HttpResponse::ServiceUnavailable().content_type("text/plain").body("stopping\n");
    }
    if let Err(error) = state.engine.now_moment().await {
        return HttpResponse::ServiceUnavailable().content_type("text/plain").body(format!("{error}\n"));
    }
    match state.engine.trouble().or_else(|| state.engine.check_room(0).err()) {
        None => HttpResponse::Ok().content_type("text/plain").body("ready\n"),
        Some(e) => {
            HttpResponse::ServiceUnavailable().content_type("text/plain").body(format!("read only: {e}\n"))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::logged;

    #[test]
    fn endings_of_links_come_into_no_log_however_they_are_written() {
        for path in [
            "/open/Sec-ret_1",
            "//open/Sec-ret_1/way/a",
            "/OPEN/Sec-ret_1",
            "/%6fpen//Sec-ret_1/",
            "/Give/Sec-ret_1/x",
        ] {
            assert!(!logged(path).contains("Sec-ret_1"), "{path}");
        }
        assert_eq!(logged("/open/abc/way/a/b"), "/open/…/way");
        assert_eq!(logged("/api/v1/nodes/7"), "/api/v1/nodes/7");
    }
}

//! Links: a page, what it shows, and downloads.
//!
//! Below `/open/ENDING`: `at/WAY` a file or folder in it, `look/WAY` its bytes to be shown, `small/WAY`
//! a small picture, `take/WAY` a download, `slip/WAY` (POST) a download that is counted, or an
//! archive, `change/WAY` (POST) for links that let change, `uploads` (tus).

use super::{Tried, enter, link_pages, page, parts, refused, to};
use crate::dto::opening::base;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::identity::origin::check_origin;
use crate::identity::visitor::{Gate, gate, visit};
use crate::state::State;
use crate::state::archives::{Format, Wanted};
use crate::state::secrets::{hash_secret, new_secret};
use crate::state::visits::Visit;
use crate::strangers::preview::{Kind as Shows, encoded, kind_of};
use crate::transfer::reader::Reader;
use crate::transfer::{archive, send};
use actix_web::body::{BodySize, BoxBody, MessageBody};
use actix_web::http::{Method, header};
use actix_web::{HttpRequest, HttpResponse, web};
use bytes::Bytes;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::name::from_stranger;
use yellow_attic_core::openings::{Can, Kind, Told};
use yellow_attic_core::range::Asked;
use yellow_attic_core::{Moment, Name, NodeId};
use yellow_attic_store::{Row, StoreError};

pub fn routes(app: &mut web::ServiceConfig) {
    let scope = web::scope("/open/{ending}")
        .route("/take/{way:.*}", web::get().to(take))
        .route("/take/{way:.*}", web::head().to(take))
        .route("/look/{way:.*}", web::get().to(look))
        .route("/look/{way:.*}", web::head().to(look))
        .route("/small/{way:.*}", web::get().to(small))
        .route("/slip/{way:.*}", web::post().to(slip))
        .route("/at/{way:.*}", web::get().to(show))
        .route("/change/{way:.*}", web::post().to(change))
        .route("/enter", web::post().to(let_in))
        .route("/uploads", web::post().to(begin_upload))
        .route("/uploads/{id}", web::route().to(one_upload))
        .route("", web::get().to(show))
        .route("/", web::get().to(show));
    app.service(scope.default_service(web::route().to(super::nothing)));
}

fn ending(request: &HttpRequest) -> &str {
    request.match_info().get("ending").unwrap_or_default()
}

/// The names on the way below the target, and what stands there.
pub async fn find(
    request: &HttpRequest,
    state: &State,
    visit: &Visit,
) -> Result<(Vec<String>, Arc<Row>), Refusal> {
    let gone = || super::refusal(Told::Nothing);
    let raw = request.match_info().get("way").unwrap_or_default();
    let mut row = visit.target.clone();
    let mut way = Vec::new();
    for part in raw.split('/').filter(|p| !p.is_empty()) {
        let name = percent_encoding::percent_decode_str(part).decode_utf8().map_err(|_| gone())?;
        let name = Name::new(&name).map_err(|_| gone())?;
        row = state
            .engine
            .files()
            .child(&visit.actor, row.node, &name)
            .await
            .map_err(|_| gone())?
            .ok_or_else(gone)?;
        way.push(name.to_string());
    }
    Ok((way, row))
}

async fn let_in(request: HttpRequest, state: web::Data<State>, tried: web::Form<Tried>) -> HttpResponse {
    let ending = ending(&request).to_string();
    match enter(&request, &state, Kind::Link, &ending, &tried.password).await {
        Ok(answer) => answer,
        Err(refusal) => wrong(&request, &state, Kind::Link, &ending, refusal),
    }
}

/// A password that was not taken: asked for again, or told to a program.
pub fn wrong(
    request: &HttpRequest,
    state: &State,
    kind: Kind,
    ending: &str,
    refusal: Refusal,
) -> HttpResponse {
    let accepts = request.headers().get(header::ACCEPT).and_then(|v| v.to_str().ok()).unwrap_or("");
    let again = ["wrong_password", "too_many_attempts"].contains(&refusal.code());
    match again && accepts.contains("text/html") {
        true => page::password(state, &base(kind, ending), Some(refusal)),
        false => refused(request, state, refusal),
    }
}

/// The page of a link, or of something in it.
async fn show(request: HttpRequest, state: web::Data<State>) -> HttpResponse {
    let ending = ending(&request).to_string();
    let shown = match gate(&request, &state, Kind::Link, &ending, true).await {
        Ok(Gate::In(visit)) => link_pages::show(&request, &state, &visit).await,
        Ok(Gate::Password(_)) => return page::password(&state, &base(Kind::Link, &ending), None),
        Ok(Gate::Shut(told)) => return page::refused(&state, super::refusal(told)),
        Err(refusal) => Err(refusal),
    };
    shown.unwrap_or_else(|refusal| page::refused(&state, refusal))
}

/// What a link that lets change is asked to do.
#[derive(serde::Deserialize)]
struct Changes {
    what: String,
    name: String,
}

async fn change(request: HttpRequest, state: web::Data<State>, asked: web::Form<Changes>) -> HttpResponse {
    match changed(&request, &state, &asked).await {
        Ok(answer) => answer,
        Err(refusal) => refused(&request, &state, refusal),
    }
}

async fn changed(request: &HttpRequest, state: &State, asked: &Changes) -> Result<HttpResponse, Refusal> {
    if request.headers().contains_key(header::ORIGIN) {
        check_origin(request, state)?;
    }
    let visit = visit(request, state, Kind::Link, ending(request)).await?;
    let (mut way, row) = find(request, state, &visit).await?;
    let none = Conditions::default();
    let name = || Name::new(&from_stranger(asked.name.trim())).map_err(StoreError::from);
    match asked.what.as_str() {
        "folder" => {
            state.engine.files().make_folder(&visit.actor, row.node, name()?).await?;
        }
        "rename" | "remove" if way.is_empty() => {
            return Err(refusals::THE_TARGET_ITSELF
                .of("What the link opens is not changed through it, only what is in it."));
        }
        "rename" => {
            let parent = row.parent.ok_or_else(|| super::refusal(Told::Nothing))?;
            state.engine.files().move_node(&visit.actor, row.node, parent, name()?, false, none).await?;
            way.pop();
        }
        "remove" => {
            state.engine.files().remove(&visit.actor, row.node, none).await?;
            way.pop();
        }
        other => {
            return Err(refusals::WORD_UNKNOWN
                .with(&format!("what={other} is unknown."), "Choose folder, rename or remove."));
        }
    }
    state.strangers.note_use(&visit, state.engine.now_ms());
    let base = base(Kind::Link, &visit.opening.ending);
    Ok(to(&if way.is_empty() { base } else { format!("{base}/at/{}", encoded(&way)) }).finish())
}

/// Bytes to be shown, not kept: only of kinds that a browser or our script shows.
async fn look(request: HttpRequest, state: web::Data<State>) -> HttpResponse {
    match looked(&request, &state).await {
        Ok(answer) => answer,
        Err(refusal) => refused(&request, &state, refusal),
    }
}

async fn looked(request: &HttpRequest, state: &State) -> Result<HttpResponse, Refusal> {
    let visit = visit(request, state, Kind::Link, ending(request)).await?;
    let (_, row) = find(request, state, &visit).await?;
    if row.is_folder() {
        return Err(StoreError::NotAFile(row.name().into()).into());
    }
    if visit.opening.most.is_some() {
        return Err(refusals::COUNTED.of("Where downloads are counted, the whole file is not shown."));
    }
    if kind_of(row.name()) == Shows::Other && visit.opening.can == Can::View {
        return Err(view_only());
    }
    send::answer(request, state, &Reader::from(&visit), &row).await
}

fn view_only() -> Refusal {
    refusals::VIEW_ONLY.of("This link is for looking only; there is no download.")
}

/// A small picture.
async fn small(request: HttpRequest, state: web::Data<State>) -> HttpResponse {
    let answer = async {
        let visit = visit(&request, &state, Kind::Link, ending(&request)).await?;
        if visit.open.is_none() {
            return Err(super::refusal(Told::UsedUp));
        }
        let (_, row) = find(&request, &state, &visit).await?;
        crate::transfer::thumbnails::answer(&request, &state, &row).await
    };
    answer.await.unwrap_or_else(|refusal| refused(&request, &state, refusal))
}

/// Takes a slip: a download that is counted now, or an archive of this moment.
async fn slip(request: HttpRequest, state: web::Data<State>) -> HttpResponse {
    match slipped(&request, &state).await {
        Ok(answer) => answer,
        Err(refusal) => refused(&request, &state, refusal),
    }
}

async fn slipped(request: &HttpRequest, state: &State) -> Result<HttpResponse, Refusal> {
    let visit = visit(request, state, Kind::Link, ending(request)).await?;
    if visit.opening.can < Can::Download {
        return Err(view_only());
    }
    let (way, row) = find(request, state, &visit).await?;
    let moment = match row.is_folder() {
        true => Some(state.engine.history().now_moment().await?),
        false => None,
    };
    if let Some(at) = moment {
        // What cannot be packed is said before it counts.
        archive::measure(state, &Reader::from(&visit), &wanted(row.node, at)).await?;
    }
    let secret = new_secret()?;
    state
        .engine
        .sharing()
        .take_slip(&visit.actor, &visit.opening, hash_secret(&secret), row.node, moment)
        .await?;
    let base = base(Kind::Link, &visit.opening.ending);
    state.tell_openings();
    Ok(to(&format!("{base}/take/{}?slip={secret}", encoded(&way))).finish())
}

fn wanted(node: NodeId, at: Moment) -> Wanted {
    Wanted { nodes: vec![node], at, format: Format::Zip }
}

/// A download: of a file directly where nobody counts, else with a slip.
async fn take(request: HttpRequest, state: web::Data<State>) -> HttpResponse {
    match taken(&request, &state).await {
        Ok(answer) => answer,
        Err(refusal) => refused(&request, &state, refusal),
    }
}

async fn taken(request: &HttpRequest, state: &web::Data<State>) -> Result<HttpResponse, Refusal> {
    let visit = visit(request, state, Kind::Link, ending(request)).await?;
    if visit.opening.can < Can::Download {
        return Err(view_only());
    }
    let (_, row) = find(request, state, &visit).await?;
    let reader = Reader::from(&visit);
    let secret = request.query_string().split('&').find_map(|p| p.strip_prefix("slip="));
    let Some(secret) = secret.map(hash_secret) else {
        if visit.opening.most.is_some() || row.is_folder() {
            return Err(refusals::SLIP_NEEDED.of("This download begins on the page of the link."));
        }
        let answer = send::answer(request, state, &reader, &row).await?;
        let whole = matches!(
            crate::http::conditions::asked(request, "", None, u64::MAX),
            Asked::Whole | Asked::Part { from: 0, .. }
        );
        if *request.method() == Method::GET && answer.status().is_success() && whole {
            state.strangers.note_use(&visit, state.engine.now_ms());
        }
        // What a browser could show says so; all else is a download already.
        let shows = send::safe_type(row.name()).is_some();
        return Ok(if shows { as_download(answer, row.name()) } else { answer });
    };
    let slip = state.engine.sharing().slip(secret).await?;
    let slip = slip.filter(|s| s.opening == visit.opening.id && s.node == row.node).ok_or_else(|| {
        refusals::SLIP_OVER.of("A download can be gone on with for 24 hours; this one cannot any more.")
    })?;
    let name = link_pages::name_for_strangers(state, &visit, &row);
    let answer = match slip.moment {
        None => send::answer(request, state, &reader, &row).await.map(|a| as_download(a, row.name())),
        Some(at) => archive::answer(request, state, &reader, wanted(row.node, at), &name).await,
    };
    let answer = match answer {
        Ok(answer) => answer,
        Err(refusal) => {
            state.engine.sharing().return_slip(secret).await?;
            return Err(refusal);
        }
    };
    if slip.begun || *request.method() != Method::GET || !answer.status().is_success() {
        return Ok(answer);
    }
    // It counts for good when its first byte leaves, and not before.
    let engine = state.engine.clone();
    let begin = Box::pin(async move { engine.sharing().begin_slip(secret).await.unwrap_or(false) });
    Ok(answer.map_body(|_, body| BoxBody::new(Counted { body, begin: Some(begin) })))
}

fn as_download(mut answer: HttpResponse, name: &str) -> HttpResponse {
    if let Ok(value) = header::HeaderValue::from_str(&send::attachment(name))
        && answer.headers().contains_key(header::CONTENT_DISPOSITION)
    {
        answer.headers_mut().insert(header::CONTENT_DISPOSITION, value);
    }
    answer
}

/// A body that counts as a download before its first byte leaves.
struct Counted {
    body: BoxBody,
    begin: Option<Pin<Box<dyn Future<Output = bool>>>>,
}

impl MessageBody for Counted {
    type Error = Box<dyn std::error::Error>;

    fn size(&self) -> BodySize {
        self.body.size()
    }

    fn poll_next(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Result<Bytes, Self::Error>>> {
        if let Some(begin) = &mut self.begin {
            match begin.as_mut().poll(cx) {
                Poll::Pending => return Poll::Pending,
                Poll::Ready(true) => self.begin = None,
                Poll::Ready(false) => return Poll::Ready(Some(Err("the slip is gone".into()))),
            }
        }
        Pin::new(&mut self.body).poll_next(cx)
    }
}

async fn begin_upload(request: HttpRequest, state: web::Data<State>, payload: web::Payload) -> HttpResponse {
    let begun = async {
        let visit = visit(&request, &state, Kind::Link, ending(&request)).await?;
        parts::begin(&request, &state, &visit, None, payload).await
    };
    crate::transfer::tus::speak(begun.await)
}

async fn one_upload(request: HttpRequest, state: web::Data<State>, payload: web::Payload) -> HttpResponse {
    let done = async {
        let visit = visit(&request, &state, Kind::Link, ending(&request)).await?;
        parts::one(&request, &state, &visit, None, payload).await
    };
    crate::transfer::tus::speak(done.await)
}

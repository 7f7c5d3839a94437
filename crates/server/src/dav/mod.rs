//! WebDAV at `/dav/`: classes 1, 2 and 3 (RFC 4918), quotas (4331), changes since a token (6578), who one is and may
//! do what (5397 and the readable part of 3744), and the states of a file (the version-tree of 3253).
//!
//! - [`who`]: who asks. [`spot`]: what an address means. [`conditions`]: the If header against what is.
//! - [`find`] and [`props`]: PROPFIND, in pieces. [`patch`]: PROPPATCH.
//! - [`change`]: PUT, MKCOL, DELETE, COPY, MOVE. [`locking`]: LOCK and UNLOCK.
//! - [`report`] answers REPORT.

mod change;
mod conditions;
mod find;
mod locking;
mod patch;
mod props;
mod report;
mod spot;
mod then;

use crate::http::problem::Refusal;
use crate::state::State;
use crate::state::sessions::Who;
use crate::transfer::reader::Reader;
use actix_web::http::{StatusCode, header};
use actix_web::{HttpRequest, HttpResponse, ResponseError, web};
use futures_util::StreamExt;
use spot::Spot;
use then::Past;
use yellow_attic_core::dav::answer;
use yellow_attic_core::dav::headers::{self, Depth};
use yellow_attic_store::fs::model::Tokens;
use yellow_attic_store::{Actor, StoreError};

/// Where it stands.
pub const PREFIX: &str = "/dav";
/// The largest body of XML that is read.
const LARGEST_XML: usize = 256 * 1024;
/// What the service does of WebDAV (RFC 4918, section 18).
pub const CLASSES: &str = "1, 2, 3";
const METHODS: &str =
    "OPTIONS, GET, HEAD, PUT, DELETE, PROPFIND, PROPPATCH, MKCOL, COPY, MOVE, LOCK, UNLOCK, REPORT";

/// Why a request is refused: in words, or with a condition of the standard.
pub enum Fault {
    /// In words.
    Refused(Refusal),
    /// With a body that names a condition.
    Condition {
        /// The status.
        status: u16,
        /// The condition's name.
        name: &'static str,
        /// What is in it.
        inside: String,
        /// The same in words, for whoever reads it; may be empty.
        words: String,
    },
    /// Somebody holds a lock, on this node, over that address.
    Locked {
        /// What is locked.
        node: yellow_attic_core::NodeId,
        /// What was asked for.
        over: String,
        /// The same in words.
        words: String,
    },
    /// The answer is made already.
    Answer(Box<HttpResponse>),
}

impl From<Refusal> for Fault {
    fn from(refusal: Refusal) -> Fault {
        Fault::Refused(refusal)
    }
}

impl From<StoreError> for Fault {
    fn from(error: StoreError) -> Fault {
        if matches!(error, StoreError::ShelfTop) {
            let detail = "The top of a shelf stays where it is.";
            return refuse(403, "shelf_top", detail, "Work with the files and folders on the shelf.");
        }
        Fault::Refused(error.into())
    }
}

type Answered = Result<HttpResponse, Fault>;

/// A refusal with a condition.
fn condition(status: u16, name: &'static str) -> Fault {
    Fault::Condition { status, name, inside: String::new(), words: String::new() }
}

/// A refusal in words.
fn refuse(status: u16, code: &str, detail: &str, remedy: &str) -> Fault {
    let title = match status {
        400 => "The request is malformed",
        405 => "Not here",
        409 => "It cannot be there",
        412 => "Changed meanwhile",
        413 => "The body is too large",
        415 => "Another kind of body",
        502 => "Elsewhere",
        _ => "Not allowed",
    };
    Fault::Refused(Refusal::new(status, code, title, detail, remedy))
}

/// One request, with who asks.
pub struct Asked<'r> {
    request: &'r HttpRequest,
    state: &'r State,
    who: Who,
}

impl Asked<'_> {
    fn actor(&self) -> &Actor {
        &self.who.actor
    }

    fn text(&self, name: &str) -> Result<Option<&str>, Fault> {
        match self.request.headers().get(name) {
            None => Ok(None),
            Some(value) => match value.to_str() {
                Ok(text) => Ok(Some(text)),
                Err(_) => match std::str::from_utf8(value.as_bytes()) {
                    Ok(text) => Ok(Some(text)),
                    Err(_) => Err(malformed(name)),
                },
            },
        }
    }

    fn depth(&self) -> Result<Option<Depth>, Fault> {
        match self.text("depth")? {
            None => Ok(None),
            Some(text) => headers::depth(text).map(Some).ok_or_else(|| malformed("Depth")),
        }
    }
}

fn malformed(header: &str) -> Fault {
    let detail = format!("The header {header} is malformed.");
    refuse(400, "header_malformed", &detail, "Send it as RFC 4918 has it.")
}

/// Routes.
pub fn routes(app: &mut web::ServiceConfig) {
    // The path is read from the address itself: encoded as it came, and without a pattern to match.
    app.service(web::scope(PREFIX).default_service(web::route().to(handle)));
}

async fn handle(request: HttpRequest, state: web::Data<State>, payload: web::Payload) -> HttpResponse {
    let answered = serve(&request, &state, payload).await;
    let mut answer = match answered {
        Ok(answer) => answer,
        Err(Fault::Answer(answer)) => *answer,
        Err(Fault::Refused(refusal)) => {
            let mut answer = refusal.error_response();
            if answer.status() == StatusCode::UNAUTHORIZED {
                let challenge =
                    header::HeaderValue::from_static("Basic realm=\"Yellow Attic\", charset=\"UTF-8\"");
                answer.headers_mut().insert(header::WWW_AUTHENTICATE, challenge);
            }
            answer
        }
        // Told with its address already; here only if who asks is not known.
        Err(Fault::Locked { over, words, .. }) => {
            let mut inside = String::from("<D:href>");
            yellow_attic_core::dav::xml::escape(&mut inside, &over);
            inside.push_str("</D:href>");
            let body = answer::error("lock-token-submitted", &inside, &words);
            HttpResponse::build(StatusCode::LOCKED).content_type(XML).body(body)
        }
        Err(Fault::Condition { status, name, inside, words }) => {
            let status = StatusCode::from_u16(status).unwrap_or(StatusCode::FORBIDDEN);
            HttpResponse::build(status).content_type(XML).body(answer::error(name, &inside, &words))
        }
    };
    let refused = (answer.status() == StatusCode::METHOD_NOT_ALLOWED).then(|| request.method().as_str());
    let headers = answer.headers_mut();
    if let Some(method) = refused.filter(|_| !headers.contains_key(header::ALLOW)) {
        // All but the one that does not go at what stands there.
        let allow: Vec<&str> = METHODS.split(", ").filter(|m| *m != method).collect();
        if let Ok(allow) = header::HeaderValue::from_str(&allow.join(", ")) {
            headers.insert(header::ALLOW, allow);
        }
    }
    headers.insert(header::HeaderName::from_static("dav"), header::HeaderValue::from_static(CLASSES));
    if !headers.contains_key(header::CONTENT_SECURITY_POLICY) {
        let policy = header::HeaderValue::from_static("sandbox; default-src 'none'");
        headers.insert(header::CONTENT_SECURITY_POLICY, policy);
    }
    if !headers.contains_key(header::CACHE_CONTROL) {
        headers.insert(header::CACHE_CONTROL, header::HeaderValue::from_static("private, no-cache"));
    }
    answer
}

/// The type of our XML.
const XML: &str = "application/xml; charset=utf-8";

async fn serve(request: &HttpRequest, state: &State, payload: web::Payload) -> Answered {
    let method = request.method().as_str();
    if method == "OPTIONS" {
        return Ok(HttpResponse::Ok()
            .insert_header(("allow", METHODS))
            // Some clients write only where they see this.
            .insert_header(("ms-author-via", "DAV"))
            .insert_header((header::CONTENT_LENGTH, 0))
            .finish());
    }
    if crate::http::listener::has_fragment(request) {
        let detail = "The address of a request has no fragment; what it means is not what would be done.";
        return Err(refuse(
            400,
            "address_has_fragment",
            detail,
            "Leave out # and what follows, or send # as %23.",
        ));
    }
    let mut asked = Asked { request, state, who: crate::identity::basic::who(request, state).await? };
    let raw = request.uri().path().strip_prefix(PREFIX).unwrap_or_default();
    let parts = headers::parts(raw).map_err(|_| {
        refuse(
            400,
            "path_cannot_be",
            "The address is no path of UTF-8 names.",
            "Encode names as UTF-8, and leave out . and ..",
        )
    })?;
    let unseen = match method == "PUT" && is_plain_and_small(request) {
        true => Spot::unseen(&asked, &parts).await?,
        false => None,
    };
    let spot = match unseen {
        Some(spot) => spot,
        None => Spot::find(&asked, parts).await?,
    };
    let tokens = conditions::check(&asked, &spot).await?;
    asked.who.actor.tokens = Tokens::new(tokens.into_iter());
    match done(&asked, method, spot, payload).await {
        Err(Fault::Locked { node, over, words }) => Err(change::held(&asked, node, over, words).await),
        answered => answered,
    }
}

async fn done(asked: &Asked<'_>, method: &str, spot: Spot, payload: web::Payload) -> Answered {
    match method {
        "GET" | "HEAD" => get(asked, spot).await,
        "PUT" => change::put(asked, spot, payload).await,
        "MKCOL" => {
            nothing(payload).await?;
            change::make(asked, spot).await
        }
        "DELETE" => change::remove(asked, spot).await,
        "COPY" => change::copy_or_move(asked, spot, false).await,
        "MOVE" => change::copy_or_move(asked, spot, true).await,
        "PROPFIND" => {
            let body = xml_body(payload).await?;
            find::answer(asked, spot, &body).await
        }
        "PROPPATCH" => {
            let body = xml_body(payload).await?;
            patch::answer(asked, spot, &body).await
        }
        "LOCK" => {
            let body = xml_body(payload).await?;
            locking::lock(asked, spot, &body).await
        }
        "UNLOCK" => locking::unlock(asked, spot).await,
        "REPORT" => {
            let body = xml_body(payload).await?;
            report::answer(asked, spot, &body).await
        }
        _ => Err(Fault::Answer(Box::new(
            HttpResponse::MethodNotAllowed()
                .insert_header(("allow", METHODS))
                .body(format!("{method} is not known here.\n")),
        ))),
    }
}

/// Whether a request puts a few bytes, whatever is there.
fn is_plain_and_small(request: &HttpRequest) -> bool {
    let has = |name: &str| request.headers().contains_key(name);
    let conditional = ["if", "if-match", "if-none-match", "if-unmodified-since"];
    crate::transfer::receive::is_small(request) && !conditional.into_iter().any(has)
}

/// Reads a small body.
async fn xml_body(mut payload: web::Payload) -> Result<Vec<u8>, Fault> {
    let mut body = Vec::new();
    while let Some(piece) = payload.next().await {
        let piece =
            piece.map_err(|_| refuse(400, "body_cut_short", "The body was cut short.", "Send it again."))?;
        if body.len() + piece.len() > LARGEST_XML {
            return Err(refuse(
                413,
                "body_too_large",
                "The body is larger than the 256 KiB that a request of this kind may have.",
                "Ask for less at once.",
            ));
        }
        body.extend_from_slice(&piece);
    }
    in_utf8(body)
}

/// XML may come in UTF-16 as well (RFC 4918, section 8.2; XML 1.0, appendix F).
fn in_utf8(body: Vec<u8>) -> Result<Vec<u8>, Fault> {
    let (units, big): (&[u8], bool) = match body.as_slice() {
        [0xfe, 0xff, rest @ ..] => (rest, true),
        [0xff, 0xfe, rest @ ..] => (rest, false),
        [0, b'<', ..] => (&body, true),
        [b'<', 0, ..] => (&body, false),
        [0xef, 0xbb, 0xbf, rest @ ..] => return Ok(rest.to_vec()),
        _ => return Ok(body),
    };
    let wrong = || refuse(400, "body_malformed", "The body is no UTF-16.", "Send it in UTF-8 or UTF-16.");
    if units.len() % 2 != 0 {
        return Err(wrong());
    }
    let units = units.chunks_exact(2).map(|two| match big {
        true => u16::from_be_bytes([two[0], two[1]]),
        false => u16::from_le_bytes([two[0], two[1]]),
    });
    let text: String = char::decode_utf16(units).collect::<Result<_, _>>().map_err(|_| wrong())?;
    // Its declaration says what it was.
    let begins = text.find("?>").filter(|_| text.starts_with("<?xml")).map_or(0, |at| at + 2);
    Ok(text.as_bytes()[begins..].to_vec())
}

/// Refuses a body where none belongs.
async fn nothing(mut payload: web::Payload) -> Result<(), Fault> {
    while let Some(piece) = payload.next().await {
        if piece.is_ok_and(|p| !p.is_empty()) {
            let detail = "The request brings a body, and none is understood here.";
            return Err(refuse(415, "body_unknown", detail, "Leave the body out."));
        }
    }
    Ok(())
}

fn bad_body(error: &yellow_attic_core::dav::bodies::BodyError) -> Fault {
    refuse(
        400,
        "body_malformed",
        &format!("{error}."),
        "Send it as RFC 4918 has it, without a document type.",
    )
}

/// The bytes of a file or of one of its states; of a folder, the names in it.
async fn get(asked: &Asked<'_>, spot: Spot) -> Answered {
    match &spot {
        Spot::Node(at) if !at.row.is_folder() => {
            Ok(crate::transfer::send::answer(asked.request, asked.state, &Reader::from(&asked.who), &at.row)
                .await?)
        }
        Spot::Past(Past::File { row, .. }) => {
            Ok(crate::transfer::send::answer(asked.request, asked.state, &Reader::from(&asked.who), row)
                .await?)
        }
        Spot::State(row) => {
            Ok(crate::transfer::send::answer(asked.request, asked.state, &Reader::from(&asked.who), row)
                .await?)
        }
        Spot::Missing(_) => Err(Refusal::not_found("The file or folder").into()),
        Spot::Node(_) | Spot::Top | Spot::Given | Spot::Person | Spot::Past(_) => {
            find::listing(asked, spot).await
        }
    }
}

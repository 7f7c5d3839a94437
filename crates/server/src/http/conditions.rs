//! What requests demand of what stands there: the conditional headers of RFC 9110, section 13, and If-Range.

use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use actix_web::HttpRequest;
use actix_web::http::{Method, header};
use yellow_attic_core::conditions::{
    Conditions, Known, RequestId, Tags, Thing, parse_tags, parse_tags_weakly,
};
use yellow_attic_core::range::{Asked, parse};
use yellow_attic_core::{Moment, NodeId};

/// The headers by which a caller that keeps a tree in step says what it writes.
#[derive(utoipa::IntoParams)]
#[into_params(parameter_in = Header)]
#[allow(dead_code)]
pub struct KnownHeaders {
    /// Which thing is written: its id, or `new`. Then nothing is guessed of how programs save, and another thing that
    /// stands there by now is refused.
    #[param(rename = "Thing")]
    thing: Option<String>,
    /// The last moment that the caller knows of the thing: refused if it is in a later state, or, where a folder is
    /// removed, if anything beneath it is.
    #[param(rename = "Seen")]
    seen: Option<String>,
    /// What the caller calls this request (1 to 200 characters, of its device alone): a repeat within a week gets the
    /// first answer and does nothing.
    #[param(rename = "Idempotency-Key")]
    idempotency_key: Option<String>,
}

/// The header by which a request is known again.
#[derive(utoipa::IntoParams)]
#[into_params(parameter_in = Header)]
#[allow(dead_code)]
pub struct RequestHeader {
    /// What the caller calls this request (1 to 200 characters, of its device alone): a repeat within a week gets the
    /// first answer and does nothing.
    #[param(rename = "Idempotency-Key")]
    idempotency_key: Option<String>,
}

fn text(request: &HttpRequest, name: &header::HeaderName) -> Option<String> {
    // Several lines of one header are one list.
    let lines: Vec<&str> = request.headers().get_all(name).filter_map(|v| v.to_str().ok()).collect();
    (!lines.is_empty()).then(|| lines.join(", "))
}

/// A date that is none counts as if it were not there (sections 13.1.3 and 13.1.4).
fn second(request: &HttpRequest, name: &header::HeaderName) -> Option<i64> {
    read_date(request.headers().get(name)?.to_str().ok()?)
}

/// Reads an HTTP date in any of its three forms, in seconds.
pub fn read_date(text: &str) -> Option<i64> {
    let at = httpdate::parse_http_date(text.trim()).ok()?;
    at.duration_since(std::time::UNIX_EPOCH).ok()?.as_secs().try_into().ok()
}

/// The conditions of a write. A malformed list of tags is refused: what was meant is not known.
pub fn of_write(request: &HttpRequest) -> Result<Conditions, Refusal> {
    type Parse = fn(&str) -> Option<Tags>;
    let read = |name: header::HeaderName, parse: Parse| match request.headers().contains_key(&name) {
        false => Ok(None),
        true => match text(request, &name).as_deref().and_then(parse) {
            Some(tags) => Ok(Some(tags)),
            None => Err(refusals::CONDITION_MALFORMED.of(&format!("The header {name} is malformed."))),
        },
    };
    Ok(Conditions {
        if_match: read(header::IF_MATCH, parse_tags)?,
        if_none_match: read(header::IF_NONE_MATCH, parse_tags_weakly)?,
        if_unmodified_since: second(request, &header::IF_UNMODIFIED_SINCE),
        if_modified_since: None,
        known: known(request)?,
    })
}

/// What a caller that keeps a tree in step says of its write: `Thing`, `Seen`, and `Idempotency-Key`.
pub fn known(request: &HttpRequest) -> Result<Known, Refusal> {
    let field = |name: &str| match request.headers().get(name) {
        None => Ok(None),
        Some(value) => match value.to_str().map(str::trim) {
            Ok(text) if !text.is_empty() && text.len() <= LONGEST_KEY => Ok(Some(text)),
            _ => Err(refusals::CONDITION_MALFORMED.of(&format!("The header {name} is malformed."))),
        },
    };
    Ok(Known {
        thing: field("thing")?.map(thing).transpose()?,
        seen: field("seen")?.map(seen).transpose()?,
        onto: None,
        request: field("idempotency-key")?.map(RequestId::of),
    })
}

/// The longest name of a request.
const LONGEST_KEY: usize = 200;

/// Reads which thing is meant: `new`, or its id.
pub fn thing(text: &str) -> Result<Thing, Refusal> {
    match text {
        "new" => Ok(Thing::New),
        id => id.parse().map(|id| Thing::Node(NodeId(id))).map_err(|_| {
            refusals::CONDITION_MALFORMED.of(&format!("\"{id}\" names no thing: it is its id, or \"new\"."))
        }),
    }
}

/// Reads the last moment that a caller knows of.
pub fn seen(text: &str) -> Result<Moment, Refusal> {
    Moment::from_token(text)
        .ok_or_else(|| refusals::MOMENT_MALFORMED.of(&format!("\"{text}\" is no moment's token.")))
}

/// The conditions of a read. A malformed If-Match matches nothing, a malformed If-None-Match is as if it were not there.
pub fn of_read(request: &HttpRequest) -> Conditions {
    let tags = |name, parse: fn(&str) -> Option<Tags>| text(request, &name).map(|text| parse(&text));
    Conditions {
        if_match: tags(header::IF_MATCH, parse_tags).map(|t| t.unwrap_or(Tags::OneOf(Vec::new()))),
        if_none_match: tags(header::IF_NONE_MATCH, parse_tags_weakly).flatten(),
        if_unmodified_since: second(request, &header::IF_UNMODIFIED_SINCE),
        if_modified_since: second(request, &header::IF_MODIFIED_SINCE),
        known: Known::default(),
    }
}

/// The date in If-Range, in seconds, if there is one.
pub fn if_range_date(request: &HttpRequest) -> Option<i64> {
    second(request, &header::IF_RANGE)
}

/// What part of something a request asks for. If-Range: a part only of the very state that the caller has the rest of.
/// `second`: the second that Last-Modified tells, where no other state could have had it. A range is of GET alone
/// (section 14.2).
pub fn asked(request: &HttpRequest, tag: &str, own_second: Option<i64>, size: u64) -> Asked {
    if *request.method() != Method::GET {
        return Asked::Whole;
    }
    let text = |name: header::HeaderName| request.headers().get(name).and_then(|v| v.to_str().ok());
    match text(header::IF_RANGE) {
        Some(wanted) if wanted.trim() == tag => parse(text(header::RANGE), size),
        Some(wanted) if own_second.is_some() && read_date(wanted) == own_second => {
            parse(text(header::RANGE), size)
        }
        Some(_) => Asked::Whole,
        None => parse(text(header::RANGE), size),
    }
}

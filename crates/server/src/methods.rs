//! Which methods an address takes: an address that nobody has is a 404, a wrong method at one that there is a 405 that
//! says which are right, and OPTIONS tells the same (RFC 9110, sections 9.3.7 and 15.5.6).

use crate::console;
use crate::http::refusals::{self, Say};
use crate::state::State;
use actix_web::body::{BodySize, MessageBody};
use actix_web::http::{Method, StatusCode, header};
use actix_web::{HttpRequest, HttpResponse, web};
use bytes::Bytes;
use std::convert::Infallible;
use std::pin::Pin;
use std::sync::OnceLock;
use std::task::{Context, Poll};

/// One kind of address: its parts, and what it takes.
struct Kind {
    parts: Vec<Part>,
    methods: Vec<String>,
}

enum Part {
    Fixed(String),
    /// Anything, once.
    One,
    /// Anything, to the end.
    Rest,
}

/// Those that the API's description does not hold.
const OTHERS: [(&str, &str); 20] = [
    ("/healthz", "GET"),
    ("/readyz", "GET"),
    ("/metrics", "GET"),
    ("/api/openapi.json", "GET"),
    ("/looks.css", "GET"),
    ("/looks/logo", "GET"),
    ("/open/{ending}", "GET"),
    ("/open/{ending}/take/{*}", "GET"),
    ("/open/{ending}/look/{*}", "GET"),
    ("/open/{ending}/small/{*}", "GET"),
    ("/open/{ending}/at/{*}", "GET"),
    ("/open/{ending}/slip/{*}", "POST"),
    ("/open/{ending}/change/{*}", "POST"),
    ("/open/{ending}/enter", "POST"),
    ("/open/{ending}/uploads", "POST"),
    ("/give/{ending}", "GET"),
    ("/give/{ending}/uploads", "POST"),
    ("/give/{ending}/deliveries", "POST"),
    ("/give/{ending}/enter", "POST"),
    ("/give/{ending}/done", "POST"),
];

fn read(template: &str, methods: &[&str]) -> Kind {
    let tail = template.starts_with("/api/v1/files/") || template.contains("/files/{path}");
    let parts: Vec<&str> = template.split('/').skip(1).collect();
    let last = parts.len() - 1;
    let part = |(at, part): (usize, &&str)| match part.starts_with('{') {
        true if *part == "{*}" || (tail && at == last) => Part::Rest,
        true => Part::One,
        false => Part::Fixed((*part).to_string()),
    };
    let mut methods: Vec<String> = methods.iter().map(|m| m.to_uppercase()).collect();
    if methods.iter().any(|m| m == "GET") && !methods.iter().any(|m| m == "HEAD") {
        methods.push("HEAD".into());
    }
    methods.push("OPTIONS".into());
    methods.sort();
    methods.dedup();
    Kind { parts: parts.iter().enumerate().map(part).collect(), methods }
}

/// All of them, put together once.
fn kinds() -> &'static [Kind] {
    static KINDS: OnceLock<Vec<Kind>> = OnceLock::new();
    KINDS.get_or_init(|| {
        let described = crate::api::description();
        let described = described["paths"].as_object().into_iter().flatten().filter_map(|(path, item)| {
            let mut methods: Vec<&str> = item.as_object()?.keys().map(String::as_str).collect();
            methods.retain(|m| ["get", "head", "put", "post", "patch", "delete", "options"].contains(m));
            Some(read(path, &methods))
        });
        OTHERS.iter().map(|(template, method)| read(template, &[method])).chain(described).collect()
    })
}

/// What an address takes; none if there is no such address.
fn taken_at(path: &str) -> Option<Vec<String>> {
    let asked: Vec<&str> = path.trim_end_matches('/').split('/').skip(1).collect();
    let mut taken: Vec<String> = Vec::new();
    // Of several kinds that fit the one that says most: /accounts/list is no account.
    let mut said = 0;
    for kind in kinds() {
        let rest = matches!(kind.parts.last(), Some(Part::Rest));
        let fits = if rest { asked.len() >= kind.parts.len() } else { asked.len() == kind.parts.len() };
        let same = |(part, asked): (&Part, &&str)| match part {
            Part::Fixed(text) => text == asked,
            Part::One | Part::Rest => !asked.is_empty(),
        };
        if !fits || !kind.parts.iter().zip(&asked).all(same) {
            continue;
        }
        let says = kind.parts.iter().filter(|part| matches!(part, Part::Fixed(_))).count();
        if says > said {
            (said, taken) = (says, Vec::new());
        }
        if says == said {
            taken.extend(kind.methods.iter().cloned());
        }
    }
    taken.sort();
    taken.dedup();
    (!taken.is_empty()).then_some(taken)
}

/// What is answered where no route takes a request.
pub async fn nowhere(request: HttpRequest) -> HttpResponse {
    refused(&request)
}

/// The same, where the console's own pages are.
pub async fn elsewhere(request: HttpRequest, state: web::Data<State>) -> HttpResponse {
    let page = console::is_page(request.path());
    if page && *request.method() == Method::GET {
        return console::page(request).await;
    }
    if page || request.path() == "/" {
        let allow = "GET, HEAD, OPTIONS";
        return match *request.method() {
            // Programs for WebDAV ask at the top whether there is any, and where.
            Method::OPTIONS => HttpResponse::NoContent()
                .insert_header((header::ALLOW, allow))
                .insert_header(("DAV", crate::dav::CLASSES))
                .insert_header((header::LINK, format!("<{}/dav/>; rel=\"alternate\"", state.base())))
                .finish(),
            _ => wrong_method(&request, allow),
        };
    }
    // A browser gets a page that says so.
    let shows = request.headers().get(header::ACCEPT).and_then(|v| v.to_str().ok());
    if *request.method() == Method::GET && shows.is_some_and(|v| v.contains("text/html")) {
        let mut answer = console::page(request).await;
        *answer.status_mut() = StatusCode::NOT_FOUND;
        return answer;
    }
    refused(&request)
}

/// What is said to a method that an address does not take; none if it takes it, or there is no such address.
pub fn refused_method(request: &HttpRequest) -> Option<HttpResponse> {
    let taken = taken_at(request.path())?;
    (!taken.iter().any(|m| m == request.method().as_str()) || *request.method() == Method::OPTIONS)
        .then(|| refused(request))
}

fn refused(request: &HttpRequest) -> HttpResponse {
    let path = request.path();
    match taken_at(path) {
        Some(taken) if *request.method() == Method::OPTIONS => {
            let mut answer = HttpResponse::NoContent();
            answer.insert_header((header::ALLOW, taken.join(", ")));
            if path.contains("/uploads") {
                crate::transfer::tus::tell_protocol(&mut answer, request);
            }
            answer.finish()
        }
        Some(taken) if !taken.iter().any(|m| m == request.method().as_str()) => {
            wrong_method(request, &taken.join(", "))
        }
        _ => {
            let (detail, remedy) = match path.starts_with("/api/") {
                true => ("The API has no such address.", "See /api/openapi.json."),
                false => (
                    "Nothing is here, and nothing was stored.",
                    "Files are under /dav/SHELF/PATH (WebDAV) and /api/v1/files/SHELF/PATH.",
                ),
            };
            let refusal = refusals::NO_SUCH_ROUTE.with(detail, remedy);
            actix_web::ResponseError::error_response(&refusal)
        }
    }
}

fn wrong_method(request: &HttpRequest, allow: &str) -> HttpResponse {
    let refusal = refusals::METHOD_NOT_ALLOWED.with(
        &format!("{} is not done here; nothing was changed.", request.method()),
        &format!("This address takes {allow}."),
    );
    let mut answer = actix_web::ResponseError::error_response(&refusal);
    if let Ok(allow) = header::HeaderValue::from_str(allow) {
        answer.headers_mut().insert(header::ALLOW, allow);
    }
    answer
}

/// In the place of a bare 405: one that says which methods there are.
pub fn say_which(request: &HttpRequest) -> HttpResponse {
    match *request.method() {
        Method::OPTIONS => refused(request),
        _ => wrong_method(request, &taken_at(request.path()).unwrap_or_default().join(", ")),
    }
}

/// The method that is meant, where something on the way lets only POST pass (tus, X-HTTP-Method-Override). For uploads alone.
pub fn overridden(request: &HttpRequest) -> Option<Method> {
    let meant = request.headers().get("x-http-method-override")?.as_bytes();
    let upload = request.path().contains("/uploads/") && *request.method() == Method::POST;
    [Method::PATCH, Method::DELETE, Method::HEAD]
        .into_iter()
        .find(|m| upload && m.as_str().as_bytes().eq_ignore_ascii_case(meant))
}

/// Whether an address answers HEAD by itself. Everywhere else it is what GET is, without the body.
pub fn has_own_head(path: &str) -> bool {
    path.starts_with("/dav")
        || path.starts_with("/open/") && ["/take/", "/look/", "/uploads/"].iter().any(|p| path.contains(p))
        || path.starts_with("/give/") && path.contains("/uploads/")
        || path.starts_with("/api/v1/uploads/")
        || path.starts_with("/api/v1/files/")
        || path.starts_with("/api/v1/archives/")
        || path.starts_with("/api/v1/nodes/") && (path.ends_with("/content") || path.ends_with("/archive"))
}

/// No body, for the answer to a HEAD: with the length that GET's would have.
pub struct Bare(pub BodySize);

impl MessageBody for Bare {
    type Error = Infallible;

    fn size(&self) -> BodySize {
        self.0
    }

    fn poll_next(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<Option<Result<Bytes, Infallible>>> {
        Poll::Ready(None)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_take_what_their_description_says() {
        let at = |path: &str| taken_at(path).unwrap_or_default().join(" ");
        assert_eq!(at("/healthz"), "GET HEAD OPTIONS");
        assert_eq!(at("/api/v1/files/home/Letters/1987/May.txt"), "GET HEAD OPTIONS PUT");
        assert_eq!(at("/api/v1/uploads/x"), "DELETE HEAD OPTIONS PATCH");
        assert_eq!(at("/open/abc/take/a/b"), "GET HEAD OPTIONS");
        assert_eq!(at("/open/abc"), "GET HEAD OPTIONS");
        assert_eq!(at("/api/v1/nothing"), "");
        assert_eq!(at("/home/x"), "");
    }
}

//! The console's built files, inside the binary.

use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse};
use flate2::Compression;
use flate2::write::GzEncoder;
use rust_embed::RustEmbed;
use std::collections::HashMap;
use std::io::Write;
use std::sync::{Mutex, OnceLock, PoisonError};

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
struct Built;

/// The policy of our own pages: everything from here, nothing inline, nothing framed. The
/// nonce is for the one style sheet that a page makes for itself.
fn policy(nonce: &str) -> String {
    format!(
        "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-{nonce}'; font-src 'self'; \
         img-src 'self' blob: data:; media-src 'self' blob:; connect-src 'self'; worker-src 'self'; \
         form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
    )
}

/// A built file.
pub fn built(name: &str) -> Option<Vec<u8>> {
    Built::get(name).map(|file| file.data.into_owned())
}

/// The console's own pages, by the first part of their address; its router (`console/src/app.tsx`) has the same.
const PAGES: [&str; 12] = [
    "shelf",
    "account",
    "welcome",
    "space",
    "computers",
    "given-out",
    "intake",
    "desk",
    "recent",
    "set-up",
    "sign-in",
    "index.html",
];

/// Whether the console has a page, or a file, there.
pub fn is_page(path: &str) -> bool {
    let path = path.trim_start_matches('/');
    let first = path.split('/').next().unwrap_or_default();
    path.is_empty() || PAGES.contains(&first) || first == "assets" || Built::get(path).is_some()
}

/// Serves a built file; any other path is a page of the console itself.
pub async fn page(request: HttpRequest) -> HttpResponse {
    let path = request.path().trim_start_matches('/');
    let (name, found) = match Built::get(path).filter(|_| !path.is_empty()) {
        Some(file) => (path, Some(file)),
        None if path.starts_with("assets/") => (path, None),
        None => ("index.html", Built::get("index.html")),
    };
    let Some(file) = found else {
        let why = if path.starts_with("assets/") {
            "There is no such file."
        } else {
            "The console was not built into this service. Build it with ./dev build."
        };
        return HttpResponse::NotFound().content_type("text/plain; charset=utf-8").body(why);
    };
    let kind = mime_guess::from_path(name).first_or_octet_stream();
    let lasting = name.starts_with("assets/");
    let nonce = crate::identity::principal::new_secret().unwrap_or_default();
    let mut answer = HttpResponse::Ok();
    answer
        .insert_header((header::CONTENT_TYPE, kind.as_ref()))
        .insert_header((header::CONTENT_SECURITY_POLICY, policy(&nonce)))
        .insert_header((header::VARY, "Accept-Encoding"))
        // Built names carry a hash of what is in them.
        .insert_header((
            header::CACHE_CONTROL,
            if lasting { "public, max-age=31536000, immutable" } else { "no-cache" },
        ));
    if name == "index.html" {
        let text = String::from_utf8_lossy(&file.data).replace("{{nonce}}", &nonce);
        return answer.body(text);
    }
    let wants = request
        .headers()
        .get(header::ACCEPT_ENCODING)
        .and_then(|v| v.to_str().ok())
        .is_some_and(|v| v.contains("gzip"));
    let packs = kind.type_() == "text" || matches!(kind.subtype().as_str(), "javascript" | "json" | "svg");
    if wants && packs {
        answer.insert_header((header::CONTENT_ENCODING, "gzip")).body(packed(name, &file.data))
    } else {
        answer.body(file.data.into_owned())
    }
}

fn packed(name: &str, data: &[u8]) -> Vec<u8> {
    static PACKED: OnceLock<Mutex<HashMap<String, Vec<u8>>>> = OnceLock::new();
    let known = PACKED.get_or_init(Mutex::default);
    let mut known = known.lock().unwrap_or_else(PoisonError::into_inner);
    known
        .entry(name.to_string())
        .or_insert_with(|| {
            let mut encoder = GzEncoder::new(Vec::new(), Compression::best());
            let written = encoder.write_all(data);
            debug_assert!(written.is_ok(), "writing to memory");
            encoder.finish().unwrap_or_default()
        })
        .clone()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_page_of_the_consoles_router_is_one_of_ours() {
        let router = include_str!("../../../console/src/app.tsx");
        let mut pages = 0;
        for part in router.split('"').filter(|p| p.starts_with('/') && !p.contains(' ')) {
            assert!(is_page(part.trim_end_matches(['?', '*'])), "{part}");
            pages += 1;
        }
        assert!(pages > 10, "{pages}");
        assert!(!is_page("/home/x") && !is_page("/api"));
    }
}

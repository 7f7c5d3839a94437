//! The console's built files, inside the binary.

use crate::http::encoding::takes_gzip;
use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse};
use flate2::read::GzDecoder;
use rust_embed::RustEmbed;
use std::borrow::Cow;
use std::io::Read;

/// As the build left them: texts compressed, with `.gz` after their names.
#[derive(RustEmbed)]
#[folder = "$OUT_DIR/console"]
struct Built;

/// A file as it lies in the program.
enum Lying {
    Plain(Cow<'static, [u8]>),
    Packed(Cow<'static, [u8]>),
}

impl Lying {
    fn find(name: &str) -> Option<Lying> {
        if name.ends_with(".gz") {
            return None;
        }
        let packed = Built::get(&format!("{name}.gz")).map(|file| Lying::Packed(file.data));
        packed.or_else(|| Built::get(name).map(|file| Lying::Plain(file.data)))
    }

    fn bytes(self) -> Vec<u8> {
        match self {
            Lying::Plain(data) => data.into_owned(),
            Lying::Packed(data) => {
                let mut bytes = Vec::new();
                let read = GzDecoder::new(&*data).read_to_end(&mut bytes);
                debug_assert!(read.is_ok(), "what the build packed");
                bytes
            }
        }
    }
}

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
    Lying::find(name).map(Lying::bytes)
}

/// The console's own pages, by the first part of their address; its router (`console/src/app.tsx`) has the same.
const PAGES: [&str; 13] = [
    "shelf",
    "account",
    "welcome",
    "space",
    "devices",
    "connect",
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
    path.is_empty() || PAGES.contains(&first) || first == "assets" || Lying::find(path).is_some()
}

/// Serves a built file; any other path is a page of the console itself.
pub async fn page(request: HttpRequest) -> HttpResponse {
    let path = request.path().trim_start_matches('/');
    let (name, found) = match Lying::find(path).filter(|_| !path.is_empty()) {
        Some(file) => (path, Some(file)),
        None if path.starts_with("assets/") => (path, None),
        None => ("index.html", Lying::find("index.html")),
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
    let nonce = crate::state::secrets::new_secret().unwrap_or_default();
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
        let text = String::from_utf8_lossy(&file.bytes()).replace("{{nonce}}", &nonce);
        return answer.body(text);
    }
    match file {
        Lying::Packed(data) if takes_gzip(request.headers()) => {
            answer.insert_header((header::CONTENT_ENCODING, "gzip")).body(data.into_owned())
        }
        file => answer.body(file.bytes()),
    }
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

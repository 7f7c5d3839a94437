//! Which codings an answer may have (RFC 9110, section 12.5.3).

use actix_web::http::header::{ACCEPT_ENCODING, HeaderMap};

/// Whether whoever asks takes gzip.
pub fn takes_gzip(headers: &HeaderMap) -> bool {
    let takes = headers.get(ACCEPT_ENCODING).and_then(|v| v.to_str().ok()).unwrap_or_default();
    takes.split(',').any(|one| {
        let (coding, weight) = one.split_once(';').unwrap_or((one, ""));
        coding.trim().eq_ignore_ascii_case("gzip")
            && weight.trim().trim_start_matches("q=").parse() != Ok(0.0f32)
    })
}

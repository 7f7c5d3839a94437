//! What every request meets: limits before, headers, compression and a line in the log after.

use crate::http::encoding::takes_gzip;
use crate::http::lines::Paced;
use crate::http::problem::{Damage, Refusal};
use crate::http::refusals::{self, Say};
use crate::identity::public_address as public;
use crate::methods;
use crate::state::State;
use actix_web::body::{BodySize, BoxBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::header::{self, HeaderMap, HeaderName, HeaderValue};
use actix_web::http::{Method, StatusCode, Version};
use actix_web::middleware::Next;
use actix_web::web;

/// Headers on every answer.
pub const ALWAYS: [(HeaderName, &str); 5] = [
    (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
    (header::REFERRER_POLICY, "no-referrer"),
    (HeaderName::from_static("cross-origin-opener-policy"), "same-origin"),
    (HeaderName::from_static("cross-origin-resource-policy"), "same-origin"),
    (HeaderName::from_static("permissions-policy"), "camera=(), geolocation=(), microphone=()"),
];

fn add_headers(response: &mut ServiceResponse<BoxBody>, https: bool) {
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
    if let Some(state) = &state {
        crate::http::patience::watch(&mut request, state.config.sender_patience);
    }
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
    add_headers(&mut response, https);
    if let Some(Damage(row)) = response.response().extensions().get::<Damage>()
        && let Some(state) = &state
    {
        let (engine, row) = (state.engine.clone(), row.clone());
        state.engine.runtime().spawn(async move {
            if let Err(e) = engine.note_damaged_row(&row).await {
                tracing::error!(error = %e, "a damaged row could not be noted");
            }
        });
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
pub fn without_body(response: ServiceResponse<BoxBody>) -> ServiceResponse<BoxBody> {
    let told = response.headers().get(header::CONTENT_LENGTH);
    let told = told.and_then(|v| v.to_str().ok()).and_then(|v| v.parse().ok());
    let length = told.map_or_else(|| response.response().body().size(), BodySize::Sized);
    response.map_body(|_, _| BoxBody::new(methods::Bare(length)))
}

pub fn cut_address() -> Refusal {
    refusals::ADDRESS_HAS_FRAGMENT
        .of("The address of a request has no fragment; what it means is not what would be done.")
}

/// From this size on an answer is worth compressing, in bytes.
pub const WORTH_COMPRESSING: usize = 2048;

/// Lists in JSON shrink to a tenth, and go so to whoever takes it. Stored bytes never do: they go out as they are.
pub async fn compressed(response: ServiceResponse<impl MessageBody + 'static>) -> ServiceResponse<BoxBody> {
    let response = response.map_into_boxed_body();
    let text = |headers: &HeaderMap, name: HeaderName| {
        headers.get(name).and_then(|v| v.to_str().ok()).unwrap_or_default().to_string()
    };
    let takes = takes_gzip(response.request().headers());
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

pub fn logged(path: &str) -> std::borrow::Cow<'_, str> {
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

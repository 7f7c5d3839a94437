//! Routes, for the workers of a service.

use crate::http::problem::{Refusal, unreadable};
use crate::state::State;
use crate::{api, methods, strangers};
use actix_web::{HttpResponse, web};
use std::sync::atomic::Ordering;

/// Routes, for a service's workers.
pub fn configure(state: web::Data<State>) -> impl FnOnce(&mut web::ServiceConfig) {
    move |app: &mut web::ServiceConfig| {
        app.app_data(state)
            .app_data(web::QueryConfig::default().error_handler(|e, _| unreadable("query", &e)))
            .app_data(web::PathConfig::default().error_handler(|_, request| no_such_path(request)))
            .route("/healthz", web::get().to(healthz))
            .route("/readyz", web::get().to(readyz))
            .route("/metrics", web::get().to(crate::api::admin::metrics::signed_in))
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
pub fn no_such_path(request: &actix_web::HttpRequest) -> actix_web::Error {
    match methods::refused_method(request) {
        Some(wrong) => actix_web::error::InternalError::from_response("", wrong).into(),
        None => Refusal::not_found("The address").into(),
    }
}

/// Alive.
pub async fn healthz() -> HttpResponse {
    HttpResponse::Ok().content_type("text/plain").body("ok\n")
}

/// Able to read and write.
pub async fn readyz(state: web::Data<State>) -> HttpResponse {
    if !state.ready.load(Ordering::SeqCst) {
        return HttpResponse::ServiceUnavailable().content_type("text/plain").body("stopping\n");
    }
    if let Err(error) = state.engine.history().now_moment().await {
        return HttpResponse::ServiceUnavailable().content_type("text/plain").body(format!("{error}\n"));
    }
    match state.engine.trouble().or_else(|| state.engine.check_room(0).err()) {
        None => HttpResponse::Ok().content_type("text/plain").body("ready\n"),
        Some(e) => {
            HttpResponse::ServiceUnavailable().content_type("text/plain").body(format!("read only: {e}\n"))
        }
    }
}

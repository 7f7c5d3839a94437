//! The frame of the pages for strangers: the organisation's name, logo and colour, and nothing of ours.

use crate::http::problem::Refusal;
use crate::state::State;
use actix_web::http::{StatusCode, header};
use actix_web::{HttpResponse, web};
use maud::{DOCTYPE, Markup, html};
use std::collections::HashMap;
use std::sync::OnceLock;

/// Everything from here, nothing inline, nothing framed.
const POLICY: &str = "default-src 'none'; script-src 'self'; style-src 'self'; font-src 'self'; img-src 'self' blob: data:; \
    media-src 'self'; connect-src 'self'; worker-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'";

/// A page: its title, what is on it, and which script it needs.
pub struct Page<'a> {
    pub title: &'a str,
    pub body: Markup,
    pub script: Script,
}

/// Which script a page needs.
#[derive(Clone, Copy, PartialEq)]
pub enum Script {
    /// Times in the reader's own words, and looking at pages of a PDF.
    Open,
    /// Sending files.
    Send,
}

#[derive(serde::Deserialize)]
struct Built {
    file: String,
    #[serde(default)]
    css: Vec<String>,
    #[serde(default)]
    imports: Vec<String>,
}

fn built() -> &'static HashMap<String, Built> {
    static BUILT: OnceLock<HashMap<String, Built>> = OnceLock::new();
    BUILT.get_or_init(|| {
        let text = crate::console::built("assets/manifest.json").unwrap_or_default();
        serde_json::from_slice(&text).unwrap_or_default()
    })
}

/// A script's address, and those of the style sheets that go with it.
fn assets(script: Script) -> (Option<&'static str>, Vec<&'static str>) {
    let all = built();
    let entry = |name: &str| all.get(&format!("src/strangers/{name}.ts"));
    let found = entry(if script == Script::Open { "open" } else { "send" });
    let mut sheets = Vec::new();
    let mut waiting: Vec<&Built> = found.into_iter().chain(entry("open")).collect();
    while let Some(next) = waiting.pop() {
        sheets
            .extend(next.css.iter().map(String::as_str).filter(|c| !sheets.contains(c)).collect::<Vec<_>>());
        waiting.extend(next.imports.iter().filter_map(|i| all.get(i)));
    }
    (found.map(|f| f.file.as_str()), sheets)
}

impl Page<'_> {
    /// The answer with this page.
    pub fn answer(self, state: &State, status: StatusCode) -> HttpResponse {
        let (script, sheets) = assets(self.script);
        let text = html! {
            (DOCTYPE)
            html lang="en" {
                head {
                    meta charset="utf-8";
                    meta name="viewport" content="width=device-width, initial-scale=1";
                    meta name="robots" content="noindex, nofollow";
                    meta name="description" content=(format!("{} from {}", self.title, state.config.organisation));
                    title { (self.title) " – " (state.config.organisation) }
                    link rel="icon" href="data:,";
                    @for sheet in sheets { link rel="stylesheet" href=(format!("/{sheet}")); }
                    @if state.config.colour.is_some() { link rel="stylesheet" href="/looks.css"; }
                    @if let Some(script) = script { script type="module" src=(format!("/{script}")) {} }
                }
                body {
                    header.top {
                        @if state.config.logo.is_some() { img src="/looks/logo" alt="" width="30" height="30"; }
                        span { (state.config.organisation) }
                    }
                    main { (self.body) }
                }
            }
        };
        HttpResponse::build(status)
            .content_type("text/html; charset=utf-8")
            .insert_header((header::CONTENT_SECURITY_POLICY, POLICY))
            .insert_header((header::CACHE_CONTROL, "no-store"))
            // Without a referrer the browser would not say that a form comes from here.
            .insert_header((header::REFERRER_POLICY, "same-origin"))
            .insert_header(("X-Robots-Tag", "noindex, nofollow"))
            .body(text.into_string())
    }
}

/// A moment: shown in the reader's own time by the script, and in UTC without it.
pub fn moment(ms: i64) -> Markup {
    let exact = crate::http::times::show(ms);
    let plain = jiff::Timestamp::from_millisecond(ms)
        .map(|t| t.strftime("%-d %B %Y, %H:%M UTC").to_string())
        .unwrap_or_default();
    html! { time datetime=(exact) { (plain) } }
}

/// Text with its paragraphs and lines.
pub fn text(message: &str) -> Markup {
    html! {
        @for paragraph in message.split("\n\n").filter(|p| !p.trim().is_empty()) {
            p.message { @for (i, line) in paragraph.lines().enumerate() { @if i > 0 { br; } (line) } }
        }
    }
}

/// A refusal as a page.
pub fn refused(state: &State, refusal: Refusal) -> HttpResponse {
    let problem = refusal.into_problem();
    let status = StatusCode::from_u16(problem.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
    let body = html! {
        div.quiet {
            h1 { (problem.title) }
            p { (problem.detail) }
            p.muted { (problem.remedy) }
        }
    };
    Page { title: &problem.title, body, script: Script::Open }.answer(state, status)
}

/// Asks for a password. `wrong`: why it is asked for again.
pub fn password(state: &State, base: &str, wrong: Option<Refusal>) -> HttpResponse {
    let problem = wrong.map(Refusal::into_problem);
    let status = problem.as_ref().map_or(200, |p| p.status);
    let body = html! {
        div.quiet {
            h1 { "A password, please" }
            p { "Whoever gave you this address gave you a password too." }
            form method="post" action=(format!("{base}/enter")) {
                label for="password" { "Password" }
                input #password name="password" type="password" required autofocus autocomplete="off"
                    aria-invalid=[problem.as_ref().map(|_| "true")] aria-describedby=[problem.as_ref().map(|_| "wrong")];
                @if let Some(problem) = &problem {
                    p #wrong .wrong role="alert" { (problem.detail) " " (problem.remedy) }
                }
                button.main type="submit" { "Open" }
            }
        }
    };
    let status = StatusCode::from_u16(status).unwrap_or(StatusCode::OK);
    Page { title: "A password, please", body, script: Script::Open }.answer(state, status)
}

/// The organisation's colour, where one is set.
pub async fn colours(state: web::Data<State>) -> HttpResponse {
    let sheet = state.config.colour.map_or_else(String::new, |colour| {
        let [r, g, b] = colour;
        let on = if yellow_attic_core::contrast::wants_dark_text(colour) { "#201d18" } else { "#ffffff" };
        format!(":root{{--gold:#{r:02x}{g:02x}{b:02x};--gold-deep:#{r:02x}{g:02x}{b:02x};--on-gold:{on}}}")
    });
    HttpResponse::Ok()
        .content_type("text/css; charset=utf-8")
        .insert_header((header::CACHE_CONTROL, "public, max-age=300"))
        .body(sheet)
}

/// The organisation's logo, where one is set.
pub async fn logo(state: web::Data<State>) -> HttpResponse {
    match &state.config.logo {
        Some((bytes, kind)) => HttpResponse::Ok()
            .content_type(*kind)
            .insert_header((header::CONTENT_SECURITY_POLICY, "sandbox; default-src 'none'"))
            .insert_header((header::CACHE_CONTROL, "public, max-age=300"))
            .body(bytes.clone()),
        None => HttpResponse::NotFound().finish(),
    }
}

//! The pages of a link: a file with what is shown of it, or a folder with its gallery and list.

use super::open::find;
use super::page::{self, Page, Script};
use crate::dto::opening::base;
use crate::http::problem::Refusal;
use crate::state::State;
use crate::state::visits::Visit;
use crate::strangers::preview::{Kind as Shows, encoded, kind_of, preview};
use crate::transfer::send;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use maud::{Markup, html};
use yellow_attic_core::openings::{Can, Kind, Told};
use yellow_attic_core::rights::Level;
use yellow_attic_core::size::human;
use yellow_attic_store::{Entry, Row, Sort};

/// Entries on one page of a folder.
const PAGE: usize = 500;

/// The page of what a link opens, or of something in it.
pub async fn show(request: &HttpRequest, state: &State, visit: &Visit) -> Result<HttpResponse, Refusal> {
    let Some(open) = visit.open else { return Err(super::refusal(Told::UsedUp)) };
    let (way, row) = find(request, state, visit).await?;
    let opening = &visit.opening;
    let base = base(Kind::Link, &opening.ending);
    let name = name_for_strangers(state, visit, &row);
    let top = way.is_empty();
    let title = if top && !opening.title.is_empty() { opening.title.clone() } else { name.clone() };
    let from = state.names.get(&state.engine).await.accounts.get(&opening.made_by).cloned();
    let body = match row.is_folder() {
        true => folder(request, state, visit, &row, &base, &way).await?,
        false => file(state, visit, &row, &base, &way).await?,
    };
    let body = html! {
        @if !top { (crumbs(&base, &opening.title, state, visit, &way).await) }
        (body.above)
        h1 { (title) }
        p.muted {
            @if title != name { span.name { (name) } ", " }
            (body.facts)
            @if let Some(until) = open.until { ". Open until " (page::moment(until)) }
            "."
        }
        @if top { (page::text(&opening.message)) }
        (body.below)
        footer {
            @if let Some(from) = from { "From " (from) ". " }
            @if let (Some(left), Some(most)) = (open.left, opening.most) {
                (most - left) " of " (most) @if most == 1 { " download" } @else { " downloads" } " used."
            }
        }
    };
    let script = if opening.can >= Can::Add && row.is_folder() { Script::Send } else { Script::Open };
    Ok(Page { title: &title, body, script }.answer(state, StatusCode::OK))
}

/// The top of a home shelf is named like its account, which is nobody's business.
pub fn name_for_strangers(state: &State, visit: &Visit, row: &Row) -> String {
    let top = row.parent.is_none();
    match state.engine.shelf_of(row) {
        Some(shelf) if top && shelf.kind == yellow_attic_store::ShelfKind::Home => "Files".into(),
        Some(shelf) if top => shelf.name.clone(),
        _ if row.node == visit.opening.node => row.name().to_string(),
        _ => row.name().to_string(),
    }
}

struct Body {
    above: Markup,
    facts: Markup,
    below: Markup,
}

async fn crumbs(base: &str, title: &str, state: &State, visit: &Visit, way: &[String]) -> Markup {
    let top = match state.engine.files().chain(&visit.actor, visit.opening.node, Level::View).await {
        Ok(chain) if title.is_empty() => name_for_strangers(state, visit, &chain[0]),
        _ => title.to_string(),
    };
    html! {
        nav.crumbs aria-label="Where this is" {
            a href=(base) { (top) }
            @for i in 0..way.len() {
                span aria-hidden="true" { " / " }
                @if i + 1 < way.len() { a href=(format!("{base}/at/{}", encoded(&way[..=i]))) { (way[i]) } }
                @else { span aria-current="page" { (way[i]) } }
            }
        }
    }
}

/// The button that downloads: counted downloads and archives take a slip first.
fn download(visit: &Visit, base: &str, way: &[String], row: &Row, label: &str) -> Markup {
    let place = encoded(way);
    match visit.opening.most.is_some() || row.is_folder() {
        true => html! {
            form method="post" action=(format!("{base}/slip/{place}")) { button.main type="submit" { (label) } }
        },
        false => html! { a.main href=(format!("{base}/take/{place}")) download=(row.name()) { (label) } },
    }
}

async fn file(state: &State, visit: &Visit, row: &Row, base: &str, way: &[String]) -> Result<Body, Refusal> {
    let can = visit.opening.can;
    let kind = kind_of(row.name());
    let larger = kind == Shows::Picture && visit.opening.most.is_none();
    let (before, after) = neighbours(state, visit, row, way).await;
    let beside = |name: &Option<String>| {
        name.as_ref().map(|name| {
            let mut way = way.to_vec();
            way.pop();
            way.push(name.clone());
            format!("{base}/at/{}", encoded(&way))
        })
    };
    let shown = preview(state, visit, row, base, way).await;
    let nothing = can == Can::View && kind == Shows::Other;
    Ok(Body {
        above: html! {
            (shown)
            @if before.is_some() || after.is_some() {
                nav.beside aria-label="Pictures beside this one" {
                    @if let Some(to) = beside(&before) { a rel="prev" href=(to) { "Previous" } } @else { span {} }
                    @if let Some(to) = beside(&after) { a rel="next" href=(to) { "Next" } }
                }
            }
        },
        facts: html! { (human(row.size().max(0) as u64)) },
        below: html! {
            @if nothing { p { "This kind of file cannot be shown here." } }
            div.acts {
                @if can >= Can::Download { (download(visit, base, way, row, "Download")) }
                @if larger { a.other href=(format!("{base}/look/{}", encoded(way))) { "Look at it larger" } }
            }
            @if can == Can::View {
                p.muted { "This is for looking only. There is no download; but whatever is shown can be kept by whoever sees it." }
            }
        },
    })
}

/// The pictures before and after this one in its folder.
async fn neighbours(
    state: &State,
    visit: &Visit,
    row: &Row,
    way: &[String],
) -> (Option<String>, Option<String>) {
    let (Some(parent), true) = (row.parent, !way.is_empty() && kind_of(row.name()) == Shows::Picture) else {
        return (None, None);
    };
    let Ok(list) = state.engine.files().list(&visit.actor, parent, Sort::Name, false, 1000, None).await
    else {
        return (None, None);
    };
    let pictures: Vec<&Entry> =
        list.items.iter().filter(|e| !e.row.is_folder() && kind_of(e.row.name()) == Shows::Picture).collect();
    let Some(at) = pictures.iter().position(|e| e.row.node == row.node) else { return (None, None) };
    let name = |i: usize| pictures.get(i).map(|e| e.row.name().to_string());
    (at.checked_sub(1).and_then(name), name(at + 1))
}

async fn folder(
    request: &HttpRequest,
    state: &State,
    visit: &Visit,
    row: &Row,
    base: &str,
    way: &[String],
) -> Result<Body, Refusal> {
    let can = visit.opening.can;
    let query: std::collections::HashMap<String, String> =
        web::Query::from_query(request.query_string()).map(web::Query::into_inner).unwrap_or_default();
    let cursor = query.get("from").map(String::as_str);
    let list = state.engine.files().list(&visit.actor, row.node, Sort::Name, false, PAGE, cursor).await?;
    let sums = state.engine.files().sums(&visit.actor, row.node).await?;
    let (pictures, others): (Vec<&Entry>, Vec<&Entry>) =
        list.items.iter().partition(|e| !e.row.is_folder() && kind_of(e.row.name()) == Shows::Picture);
    let here = encoded(way);
    let slash = if here.is_empty() { "" } else { "/" };
    let place = |name: &str| format!("{here}{slash}{}", send::encode_name(name));
    let empty = list.items.is_empty() && cursor.is_none();
    let facts = match &sums {
        Some(s) => html! {
            (s.files) @if s.files == 1 { " file" } @else { " files" } ", " (human(s.bytes.max(0) as u64))
        },
        None => html! { "A folder" },
    };
    let label = sums.map_or_else(
        || "Download all".to_string(),
        |s| format!("Download all, {}", human(s.bytes.max(0) as u64)),
    );
    Ok(Body {
        above: Markup::default(),
        facts,
        below: html! {
            @if can >= Can::Download && !empty { div.acts { (download(visit, base, way, row, &label)) } }
            @if can >= Can::Add { (send_area(visit, base, way)) }
            @if empty { p.muted { "Nothing is in this folder." @if can >= Can::Add { " What you add stands here." } } }
            @if !pictures.is_empty() {
                section aria-label="Pictures" { ul.gallery {
                    @for e in &pictures {
                        li {
                            a href=(format!("{base}/at/{}", place(e.row.name()))) {
                                img src=(format!("{base}/small/{}", place(e.row.name()))) alt="" loading="lazy";
                                span.name { (e.row.name()) }
                            }
                            @if can == Can::Edit { (change_of(base, &place(e.row.name()), e.row.name())) }
                        }
                    }
                } }
            }
            @if !others.is_empty() {
                ul.list aria-label="Files and folders" {
                    @for e in &others {
                        li {
                            a href=(format!("{base}/at/{}", place(e.row.name()))) {
                                span.name { (e.row.name()) @if e.row.is_folder() { "/" } }
                                span.size {
                                    @match &e.folder {
                                        Some(f) => { (f.files) @if f.files == 1 { " file" } @else { " files" } }
                                        None => { @if !e.row.is_folder() { (human(e.row.size().max(0) as u64)) } }
                                    }
                                }
                            }
                            @if can == Can::Edit { (change_of(base, &place(e.row.name()), e.row.name())) }
                        }
                    }
                }
            }
            @if let Some(next) = &list.next {
                p { a.other href=(format!("{base}/at/{here}?from={}", send::encode_name(next))) { "Go on" } }
            }
            @if can == Can::View {
                p.muted { "This is for looking only. There is no download; but whatever is shown can be kept by whoever sees it." }
            }
        },
    })
}

fn send_area(visit: &Visit, base: &str, way: &[String]) -> Markup {
    html! {
        section.send data-send=(base) data-way=(way.join("/")) data-replaces[visit.opening.can == Can::Edit] {
            h2 { "Add files" }
            p.muted {
                @if visit.opening.can == Can::Edit { "A file of the same name becomes the new state of the one that is here; the old one is kept." }
                @else { "What has the same name as something here is kept beside it, numbered." }
            }
            noscript { p { "Adding files needs JavaScript." } }
            div.drop {
                button.other type="button" { "Choose files" } input type="file" multiple hidden;
                span.muted { "or drop files and folders here" }
            }
            ul.sending aria-live="polite" {}
            form method="post" action=(format!("{base}/change/{}", encoded(way))) .line {
                input type="hidden" name="what" value="folder";
                label for="new-folder" { "New folder" }
                input #new-folder name="name" required maxlength="200" autocomplete="off";
                button.other type="submit" { "Make it" }
            }
        }
    }
}

fn change_of(base: &str, place: &str, name: &str) -> Markup {
    html! {
        details.change {
            summary { "Change" span.hidden { " " (name) } }
            form method="post" action=(format!("{base}/change/{place}")) {
                input type="hidden" name="what" value="rename";
                label { "Name " input name="name" value=(name) required maxlength="200" autocomplete="off"; }
                button.other type="submit" { "Rename" }
            }
            form method="post" action=(format!("{base}/change/{place}")) {
                input type="hidden" name="what" value="remove";
                input type="hidden" name="name" value="";
                button.other.loss type="submit" { "Remove" }
                span.muted { "Its owner can bring it back." }
            }
        }
    }
}

//! What of a file is shown to a stranger: the common kinds, by the browser's own means and never as
//! anything that could run; the pages of a PDF are drawn by our own script.

use crate::state::State;
use crate::state::visits::Visit;
use crate::transfer::send::{encode_name, safe_type};
use maud::{Markup, html};
use std::os::unix::fs::FileExt;
use yellow_attic_store::Row;

/// So much of a text is shown.
const TEXT: usize = 64 * 1024;

/// How a file is shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    Picture,
    Sound,
    Video,
    Text,
    Pdf,
    Other,
}

/// How a file of this name is shown.
pub fn kind_of(name: &str) -> Kind {
    let ending = name.rsplit_once('.').map_or("", |(_, e)| e).to_ascii_lowercase();
    match (safe_type(name), ending.as_str()) {
        (Some(t), _) if t.starts_with("image/") => Kind::Picture,
        (Some(t), _) if t.starts_with("audio/") => Kind::Sound,
        (Some(t), _) if t.starts_with("video/") => Kind::Video,
        (Some(_), _) | (_, "html" | "htm" | "svg" | "xml" | "css" | "js" | "ts") => Kind::Text,
        (_, "pdf") => Kind::Pdf,
        _ => Kind::Other,
    }
}

/// A way below the target as it stands in an address.
pub fn encoded(way: &[String]) -> String {
    way.iter().map(|n| encode_name(n)).collect::<Vec<_>>().join("/")
}

/// What is shown of a file. Where downloads are counted, no more than a small picture: the whole
/// would be a download that nobody counted.
pub async fn preview(state: &State, visit: &Visit, row: &Row, base: &str, way: &[String]) -> Markup {
    let place = encoded(way);
    let (look, small) = (format!("{base}/look/{place}"), format!("{base}/small/{place}"));
    let (kind, name) = (kind_of(row.name()), row.name());
    if visit.opening.most.is_some() {
        return match kind {
            Kind::Picture => {
                html! { div.shown { img src=(small) alt=(format!("{name}, a small picture of it")); } }
            }
            _ => Markup::default(),
        };
    }
    match kind {
        Kind::Picture => html! { div.shown { a href=(look) { img src=(look) alt=(name); } } },
        Kind::Sound => html! { div.shown { audio controls preload="metadata" src=(look) { } } },
        Kind::Video => html! { div.shown { video controls preload="metadata" src=(look) { } } },
        Kind::Pdf => html! {
            div.shown.pages data-pdf=(look) data-name=(name) { button type="button" { "Look at the pages" } }
        },
        Kind::Text => match beginning(state, row).await {
            Some((text, more)) => html! {
                div.shown { pre tabindex="0" aria-label=(format!("The text of {name}")) { (text) }
                    @if more { p.muted { "This is the beginning." } } }
            },
            None => Markup::default(),
        },
        Kind::Other => Markup::default(),
    }
}

async fn beginning(state: &State, row: &Row) -> Option<(String, bool)> {
    let (file, row) = state.engine.files().open_bytes(row).await.ok()?;
    let size = row.size().max(0) as usize;
    let bytes = actix_web::web::block(move || {
        let mut bytes = vec![0; TEXT.min(size)];
        file.read_exact_at(&mut bytes, 0).map(|()| bytes)
    });
    let bytes = bytes.await.ok()?.ok()?;
    if bytes.contains(&0) {
        return None;
    }
    let text = match std::str::from_utf8(&bytes) {
        Ok(text) => text.to_string(),
        // Cut in the middle of a character.
        Err(e) if e.error_len().is_none() => String::from_utf8_lossy(&bytes[..e.valid_up_to()]).into_owned(),
        Err(_) => String::from_utf8_lossy(&bytes).into_owned(),
    };
    Some((text, size > TEXT))
}

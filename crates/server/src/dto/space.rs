//! Where the space went.

use crate::http::problem::Refusal;
use crate::state::State;
use crate::state::sessions::Who;
use yellow_attic_api as api;
use yellow_attic_core::rules::{Rule, Value};
use yellow_attic_store::rights::quota::{Counts, LineOf};
use yellow_attic_store::timeline::space::Held;
use yellow_attic_store::{Shelf, ShelfKind};

/// A shelf's name for people.
pub fn title(shelf: &Shelf) -> String {
    match shelf.kind {
        ShelfKind::Home => format!("Home of {}", shelf.name),
        ShelfKind::Shared => shelf.name.clone(),
    }
}

/// How paths on a shelf begin, for somebody.
pub fn head(shelf: &Shelf, who: &Who) -> String {
    match shelf.kind {
        ShelfKind::Home if shelf.owner == Some(who.account.id) => "home:".into(),
        ShelfKind::Home => format!("home of {}:", shelf.name),
        ShelfKind::Shared => format!("{}:", shelf.name),
    }
}

/// All lines, with how full they are.
pub async fn quotas(state: &State, counts: Option<Counts>, all: bool) -> Result<Vec<api::Quota>, Refusal> {
    let percent = match state.engine.people().rules().decide(Rule::QuotaWarns, &[]).value {
        Value::Number(Some(n)) => n,
        _ => 90,
    };
    let shelves = state.engine.shelves();
    let of = |f: &yellow_attic_store::rights::quota::Filled| match f.of {
        LineOf::Organisation => "organisation".to_string(),
        LineOf::Folder(node) => format!("folder:{node}"),
        LineOf::Shelf(id) => {
            let name = shelves.iter().find(|s| s.id == id).map(|s| s.name.clone()).unwrap_or_default();
            if f.account.is_some() { format!("home:{name}") } else { format!("shelf:{name}") }
        }
    };
    Ok(state
        .engine
        .space()
        .filled(counts, all)
        .await?
        .iter()
        .map(|f| api::Quota {
            of: of(f),
            name: f.name.clone(),
            used: f.used,
            soft: f.lines.soft,
            hard: f.lines.hard,
            by_groups: f.by_groups,
            warns: f.warns(percent),
        })
        .collect())
}

pub async fn to_api(state: &State) -> Result<api::Quotas, Refusal> {
    let counts = state.engine.people().rules().decide(Rule::QuotaCounts, &[]).value;
    Ok(api::Quotas { quotas: quotas(state, None, true).await?, counts: Rule::QuotaCounts.sentence(&counts) })
}

pub fn held(h: &Held) -> api::Held {
    api::Held {
        live: h.live,
        files: h.files,
        versions: h.versions,
        version_states: h.version_states,
        trash: h.trash,
        trash_files: h.trash_files,
        only_snapshots: h.only_snapshots,
        all: h.all(),
    }
}

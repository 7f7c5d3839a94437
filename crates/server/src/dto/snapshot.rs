//! Snapshots.

use crate::http::times::show;
use crate::state::State;
use yellow_attic_api as api;
use yellow_attic_store::timeline::snapshots::Snapshot;

pub async fn to_api(state: &State, snapshot: &Snapshot) -> api::Snapshot {
    let names = state.names.get(&state.engine).await;
    let shelf = state.engine.shelves().into_iter().find(|s| s.id == snapshot.shelf);
    api::Snapshot {
        id: snapshot.id,
        shelf: shelf.map_or_else(String::new, |s| crate::dto::space::title(&s)),
        moment: snapshot.moment.token(),
        at: show(snapshot.at),
        label: snapshot.label.clone(),
        by: snapshot.made_by.and_then(|a| names.accounts.get(&a).cloned()),
        schedule: snapshot.schedule.clone(),
        ends: snapshot.ends_at.map(show),
    }
}

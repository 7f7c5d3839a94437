//! Carries out rollbacks.

use crate::state::State;
use actix_web::web;
use yellow_attic_store::StoreError;

/// Carries it out in the background; the answer to the request does not wait.
pub fn run(state: &web::Data<State>, id: i64) {
    let state = state.clone();
    state.engine.runtime().clone().spawn(async move {
        match state.engine.history().run_rollback(id).await {
            Ok(_) | Err(StoreError::Stopping) => {}
            Err(error) => tracing::warn!(%error, id, "a rollback was stopped"),
        }
        state.openings_changed();
    });
}

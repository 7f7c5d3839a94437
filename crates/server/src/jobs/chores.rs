//! What is looked after every few minutes.

use crate::state::State;
use actix_web::web;
use std::time::Duration;

/// So often.
pub const CHORES_EVERY: Duration = Duration::from_secs(300);

pub const DELIVERIES_EVERY: Duration = Duration::from_secs(15);

/// What is gathered is written, and what has expired is dropped, now and then.
pub async fn do_chores(state: web::Data<State>) {
    loop {
        if let Err(error) = state.engine.files().expire_uploads().await {
            tracing::warn!(%error, "expired uploads could not be dropped; they are looked at again");
        }
        if let Err(error) = state.engine.files().forget_requests().await {
            tracing::warn!(%error, "old requests could not be forgotten; they are looked at again");
        }
        people_chores(&state).await;
        if let Err(error) = state.engine.give_back_pages().await {
            tracing::warn!(%error, "free pages of the catalogue could not be given back; it is tried again");
        }
        state.strangers.write_uses(&state.engine).await;
        if let Err(error) = state.engine.sharing().sweep_slips().await {
            tracing::warn!(%error, "old slips could not be forgotten; they are looked at again");
        }
        if let Err(error) = state.engine.sharing().forget_openings().await {
            tracing::warn!(%error, "ended links could not be forgotten; they are looked at again");
        }
        tokio::time::sleep(CHORES_EVERY).await;
        state.reads.write(&state.engine).await;
        state.in_use.write(&state.engine).await;
    }
}

/// Whoever made an intake is told of what was handed in, gathered.
pub async fn watch_deliveries(state: web::Data<State>) {
    loop {
        if let Err(error) = crate::jobs::deliveries::tell_of_deliveries(&state).await {
            tracing::warn!(%error, "deliveries could not be told of; they are looked at again");
        }
        tokio::time::sleep(DELIVERIES_EVERY).await;
    }
}

/// Guests who stayed away are disabled, and accounts whose time has come are deleted.
pub async fn people_chores(state: &State) {
    match state.engine.people().disable_idle_guests().await {
        Ok(names) if !names.is_empty() => {
            tracing::info!(guests = names.join(", "), "idle guests were disabled by rule");
            state.revoked();
        }
        Ok(_) => {}
        Err(error) => tracing::warn!(%error, "idle guests could not be looked at; they are next time"),
    }
    match state.engine.people().delete_leavers().await {
        Ok(names) if !names.is_empty() => {
            tracing::info!(accounts = names.join(", "), "accounts were deleted as decided");
            state.names.forget().await;
            state.revoked();
        }
        Ok(_) => {}
        Err(error) => tracing::warn!(%error, "an account could not be deleted; it is tried again"),
    }
    if let Err(error) = state.engine.sign_ins().sweep_invitations().await {
        tracing::warn!(%error, "old invitations could not be forgotten");
    }
}

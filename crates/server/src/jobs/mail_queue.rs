//! Takes letters from the queue to the mail server.

use crate::state::State;
use actix_web::web;
use std::time::Duration;
use yellow_attic_store::StoreError;
use yellow_attic_store::people::mail_queue::QueuedLetter;

/// How long after each failed try the next one comes: three days in all.
pub const BACK_OFF_S: [i64; 8] = [60, 300, 1_800, 7_200, 21_600, 43_200, 86_400, 86_400];

/// Takes letters from the queue to the server, for as long as the service runs.
pub async fn deliver(state: web::Data<State>) {
    if !state.post.is_set() {
        return;
    }
    loop {
        let next = match state.engine.people().due_letters().await {
            Ok((letters, next)) if letters.is_empty() => next,
            Ok((letters, _)) => {
                for letter in letters {
                    if let Err(error) = try_letter(&state, letter).await {
                        tracing::warn!(%error, "a letter's fate could not be written");
                        tokio::time::sleep(Duration::from_secs(5)).await;
                    }
                }
                continue;
            }
            Err(error) => {
                tracing::warn!(%error, "the queue of letters could not be read");
                None
            }
        };
        let wait = next.map_or(60_000, |at| (at - state.engine.now_ms()).clamp(10, 60_000));
        tokio::select! {
            () = state.post.wake.notified() => {}
            () = tokio::time::sleep(Duration::from_millis(wait as u64)) => {}
        }
    }
}

pub async fn try_letter(state: &State, letter: QueuedLetter) -> Result<(), StoreError> {
    let tried = state.post.send(&letter.recipient, &letter.subject, &letter.plain, &letter.rich).await;
    if tried.taken {
        tracing::info!(letter = letter.id, kind = letter.kind, "a letter was sent");
        return state.engine.people().letter_sent(letter.id, tried.said).await;
    }
    let wait = BACK_OFF_S.get(letter.tries as usize).filter(|_| tried.again);
    let again_at = wait.map(|s| state.engine.now_ms() + s * 1000);
    tracing::warn!(
        letter = letter.id,
        said = tried.said,
        again = again_at.is_some(),
        "a letter was not taken"
    );
    state.engine.people().letter_failed(letter.id, tried.said, again_at).await
}

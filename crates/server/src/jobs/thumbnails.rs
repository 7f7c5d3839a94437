//! Draws what was put lately, before anybody asks for it.

use crate::state::State;
use actix_web::web;
use std::time::Duration;
use yellow_attic_core::Moment;
use yellow_attic_core::thumbnail::ENDINGS;

/// Draws what was put lately, before anybody asks for it.
pub async fn follow(state: web::Data<State>) {
    let mut head = state.engine.head();
    let mut upto = Moment(*head.borrow_and_update());
    while head.changed().await.is_ok() {
        tokio::time::sleep(Duration::from_millis(500)).await;
        let next = Moment(*head.borrow_and_update());
        for shelf in state.engine.shelves() {
            if !state.engine.touched_since(&shelf, upto) {
                continue;
            }
            let mut since = Some(upto);
            while let Some(from) = since {
                let Ok((found, next)) = state.engine.files().files_since(&shelf, from, &ENDINGS).await else {
                    break;
                };
                for row in found {
                    // A refusal here is met again by whoever asks.
                    let _ = state.thumbnails.get(&state.engine, &row).await;
                }
                since = next;
            }
        }
        upto = next;
    }
}

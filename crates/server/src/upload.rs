//! Bytes in: streamed to staging in constant memory, hashed as they pass.

use crate::app::State;
use crate::problem::Refusal;
use actix_web::http::header;
use actix_web::{HttpRequest, web};
use bytes::Bytes;
use futures_util::StreamExt;
use yellow_attic_store::{SMALL, Staged, StoreError};

/// Pieces are handed to the disk in lots of this size.
const LOT: usize = 1 << 20;

/// Takes a body. After an error staging is clean.
pub async fn receive(
    state: &State,
    request: &HttpRequest,
    mut payload: web::Payload,
) -> Result<Staged, Refusal> {
    let announced = match request.headers().get(header::CONTENT_LENGTH) {
        Some(value) => value.to_str().ok().and_then(|v| v.parse::<u64>().ok()),
        None => None,
    };
    let largest = state.config.largest_file;
    if announced.is_some_and(|n| n > largest) {
        return Err(StoreError::TooLarge(largest).into());
    }
    state.engine.check_room(announced.unwrap_or(0))?;
    if announced.is_some_and(|n| n as usize <= SMALL) {
        let wanted = announced.unwrap_or(0) as usize;
        let mut bytes = Vec::with_capacity(wanted);
        while let Some(piece) = payload.next().await {
            match piece {
                Ok(piece) => bytes.extend_from_slice(&piece),
                Err(_) => return Err(StoreError::BrokenBody(bytes.len() as u64).into()),
            }
            if bytes.len() > wanted {
                break;
            }
        }
        if bytes.len() != wanted {
            return Err(StoreError::ShortBody { announced: wanted as u64, got: bytes.len() as u64 }.into());
        }
        return Ok(state.engine.stage_small(bytes)?);
    }
    let engine = state.engine.clone();
    let (send, mut lots) = tokio::sync::mpsc::channel::<Vec<Bytes>>(4);
    let writing = web::block(move || {
        let mut arriving = engine.stage(announced.unwrap_or(0))?;
        let mut whole = false;
        while let Some(lot) = lots.blocking_recv() {
            if lot.is_empty() {
                whole = true;
                break;
            }
            for piece in &lot {
                arriving.write(piece)?;
            }
            if arriving.size() > largest {
                return Err(StoreError::TooLarge(largest));
            }
        }
        if !whole {
            return Err(StoreError::BrokenBody(arriving.size()));
        }
        if let Some(announced) = announced.filter(|n| *n != arriving.size()) {
            return Err(StoreError::ShortBody { announced, got: arriving.size() });
        }
        arriving.finish()
    });
    let feeding = async move {
        let mut lot = Vec::new();
        let mut size = 0;
        while let Some(piece) = payload.next().await {
            // A broken line: the sender goes away without the last, empty lot.
            let Ok(piece) = piece else { return };
            size += piece.len();
            lot.push(piece);
            if size >= LOT {
                if send.send(std::mem::take(&mut lot)).await.is_err() {
                    return;
                }
                size = 0;
            }
        }
        if !lot.is_empty() && send.send(lot).await.is_err() {
            return;
        }
        let _ = send.send(Vec::new()).await;
    };
    let (written, ()) = tokio::join!(writing, feeding);
    match written {
        Ok(staged) => Ok(staged?),
        Err(_) => Err(StoreError::Stopping.into()),
    }
}

//! Bytes in: streamed to staging in constant memory, hashed as they pass.

use crate::app::State;
use crate::problem::Refusal;
use actix_web::http::header;
use actix_web::{HttpRequest, web};
use bytes::Bytes;
use futures_util::StreamExt;
use yellow_attic_core::NodeId;
use yellow_attic_store::quota::Claim;
use yellow_attic_store::uploads::Appending;
use yellow_attic_store::{SMALL, Staged, StoreError};

/// Pieces are handed to the disk in lots of this size.
const LOT: usize = 1 << 20;

/// Takes a body. After an error staging is clean.
pub async fn receive(
    state: &State,
    request: &HttpRequest,
    mut payload: web::Payload,
    parent: NodeId,
    replaced: u64,
) -> Result<(Staged, Claim), Refusal> {
    let announced = match request.headers().get(header::CONTENT_LENGTH) {
        Some(value) => value.to_str().ok().and_then(|v| v.parse::<u64>().ok()),
        None => None,
    };
    let largest = state.config.largest_file;
    if announced.is_some_and(|n| n > largest) {
        return Err(StoreError::TooLarge(largest).into());
    }
    state.engine.check_room(announced.unwrap_or(0))?;
    // Spoken for until the file is there: parallel uploads cannot pass a quota together.
    let mut claim = state.engine.claim(parent, announced.unwrap_or(0), replaced).await?;
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
        return Ok((state.engine.stage_small(bytes)?, claim));
    }
    let engine = state.engine.clone();
    let (send, mut lots) = lots();
    let writing = web::block(move || {
        let mut arriving = engine.stage(announced.unwrap_or(0))?;
        let mut whole = false;
        while let Some(lot) = lots.blocking_recv() {
            if lot.is_empty() {
                whole = true;
                break;
            }
            if announced.is_none() {
                claim.grow(lot.iter().map(|p| p.len() as u64).sum())?;
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
        Ok((arriving.finish()?, claim))
    });
    let (written, ()) = tokio::join!(writing, feed(payload, send));
    match written {
        Ok(staged) => Ok(staged?),
        Err(_) => Err(StoreError::Stopping.into()),
    }
}

/// Adds a body to an upload that arrives in parts. What came before a break is kept; the
/// answer comes when it is on the disk.
pub async fn append(
    state: &State,
    mut part: Appending,
    request: &HttpRequest,
    payload: web::Payload,
) -> Result<u64, Refusal> {
    let announced = request.headers().get(header::CONTENT_LENGTH).is_some();
    let before = part.size();
    let (send, mut lots) = lots();
    let writing = web::block(move || {
        let mut whole = false;
        let mut refused = None;
        while let Some(lot) = lots.blocking_recv() {
            if lot.is_empty() {
                whole = true;
                break;
            }
            if let Err(e) = lot.iter().try_for_each(|piece| part.write(piece)) {
                refused = Some(e);
                break;
            }
        }
        let size = part.pause()?;
        match refused {
            Some(e) => Err(e),
            None if !whole && announced => Err(StoreError::BrokenPart(size)),
            None => Ok(size),
        }
    });
    let (written, ()) = tokio::join!(writing, feed(payload, send));
    match written {
        Ok(Ok(size)) => {
            state.metrics.received.inc_by(size.saturating_sub(before));
            Ok(size)
        }
        Ok(Err(e)) => Err(e.into()),
        Err(_) => Err(StoreError::Stopping.into()),
    }
}

type Lots = (tokio::sync::mpsc::Sender<Vec<Bytes>>, tokio::sync::mpsc::Receiver<Vec<Bytes>>);

/// A channel for [`feed`].
pub fn lots() -> Lots {
    tokio::sync::mpsc::channel(4)
}

/// Hands a body on in lots. After the last one comes an empty lot; after a broken line none.
/// If nobody takes them any more, the rest is left unread.
pub async fn feed(mut payload: web::Payload, send: tokio::sync::mpsc::Sender<Vec<Bytes>>) {
    let mut lot = Vec::new();
    let mut size = 0;
    while let Some(piece) = payload.next().await {
        let Ok(piece) = piece else {
            // What came before the break counts for an upload in parts.
            if !lot.is_empty() {
                let _ = send.send(lot).await;
            }
            return;
        };
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
}

//! Whoever sends a body goes on sending it. One who does not is cut off like a broken line, whatever the body is for:
//! what counts of an upload in parts stays, and can be gone on with.

use actix_web::HttpMessage;
use actix_web::dev::{Payload, ServiceRequest};
use actix_web::error::PayloadError;
use bytes::Bytes;
use futures_util::{Stream, StreamExt};
use std::time::{Duration, Instant};

/// So many times as long as a silence may last, less than [`ENOUGH`] may come.
const SPAN: u32 = 3;
/// In that time, so much must come: whoever sends a byte now and then holds no connection for hours.
const ENOUGH: u64 = 64 * 1024;
/// For a tar stream all is so many times as long: who walks a tree may find nothing to send for a while.
const WALKING: u32 = 10;

/// Lets a request's body be read only as long as its sender goes on.
pub fn watch(request: &mut ServiceRequest, patience: Duration) {
    let silence = match request.path().ends_with("/tar") {
        true => patience * WALKING,
        false => patience,
    };
    let payload = request.take_payload();
    request.set_payload(match payload {
        Payload::None => Payload::None,
        body => Payload::Stream { payload: Box::pin(patient(body, silence)) },
    });
}

fn patient(
    body: impl Stream<Item = Result<Bytes, PayloadError>> + Unpin,
    silence: Duration,
) -> impl Stream<Item = Result<Bytes, PayloadError>> {
    futures_util::stream::unfold(Some((body, Instant::now(), 0u64)), move |running| async move {
        let (mut body, mut since, mut came) = running?;
        let Ok(piece) = tokio::time::timeout(silence, body.next()).await else {
            return Some((Err(PayloadError::Incomplete(None)), None));
        };
        match piece? {
            Ok(piece) => {
                came += piece.len() as u64;
                if since.elapsed() > silence * SPAN {
                    if came < ENOUGH {
                        return Some((Err(PayloadError::Incomplete(None)), None));
                    }
                    (since, came) = (Instant::now(), 0);
                }
                Some((Ok(piece), Some((body, since, came))))
            }
            Err(e) => Some((Err(e), None)),
        }
    })
}

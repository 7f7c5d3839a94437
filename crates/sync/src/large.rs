//! One large file in parts: found again after a broken line, a restart of either side, or
//! another run of the command.

use crate::delta::send_delta;
use crate::up::{Item, PATIENCE, Up};
use futures_util::StreamExt;
use std::io::SeekFrom;
use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt, AsyncSeekExt};
use yellow_attic_client::{Body, Error, NewUpload};

/// Sends a file into a folder, from where an earlier try was broken off if there was one.
pub async fn send_large(up: &Up, item: &Item, parent: i64, name: &str) -> Result<(), Error> {
    let new =
        NewUpload { parent, name: name.to_string(), size: item.size, modified: (up.show_time)(item.mtime) };
    let known = up.client.uploads().await?.uploads.into_iter().find(|u| {
        u.parent == parent && u.name == new.name && u.size == new.size && u.modified == new.modified
    });
    let (id, mut from) = match known {
        Some(upload) => {
            let from = up.client.upload_offset(&upload.id).await?;
            (upload.id, from)
        }
        // Another state of it is there: only what differs is sent.
        None if send_delta(up, item, parent, name).await? => return Ok(()),
        None => (up.client.begin_upload(&new).await?, 0),
    };
    up.progress.moved(from);
    let mut broken_since = None;
    loop {
        let sent = send_from(up, item, &id, from).await;
        let error = match sent {
            Ok(upto) if upto == item.size => return Ok(()),
            Ok(upto) => {
                from = upto;
                continue;
            }
            Err(error) => error,
        };
        let since = *broken_since.get_or_insert_with(Instant::now);
        let may_pass = match &error {
            Error::Line(_) => true,
            Error::Refused(p) => ["part_cut_short", "wrong_offset", "taken_over", "busy", "stopping"]
                .contains(&p.code.as_str()),
            _ => false,
        };
        if !may_pass || since.elapsed() > PATIENCE {
            return Err(error);
        }
        tokio::time::sleep(Duration::from_millis(500)).await;
        // While the line is broken this fails too: then it is tried again from the same place.
        match up.client.upload_offset(&id).await {
            Ok(upto) => {
                if upto > from {
                    broken_since = None;
                }
                from = upto;
                if from == item.size {
                    return Ok(());
                }
            }
            Err(Error::Line(_)) => {}
            Err(other) => return Err(other),
        }
    }
}

async fn send_from(up: &Up, item: &Item, id: &str, from: u64) -> Result<u64, Error> {
    let mut file = tokio::fs::File::open(&item.local).await?;
    file.seek(SeekFrom::Start(from)).await?;
    let left = item.size - from;
    let progress = up.progress.clone();
    let sent = std::sync::Arc::new(std::sync::atomic::AtomicU64::new(0));
    let counted = sent.clone();
    let stream =
        tokio_util::io::ReaderStream::with_capacity(file.take(left), 1 << 20).inspect(move |piece| {
            if let Ok(piece) = piece {
                counted.fetch_add(piece.len() as u64, std::sync::atomic::Ordering::Relaxed);
                progress.moved(piece.len() as u64);
            }
        });
    let outcome = up.client.append(id, from, Body::stream(Some(left), stream)).await;
    if outcome.is_err() {
        up.progress.unmoved(sent.load(std::sync::atomic::Ordering::Relaxed));
        // What did arrive counts again when it is known.
        if let Ok(upto) = up.client.upload_offset(id).await {
            up.progress.moved(upto.saturating_sub(from));
            if upto == item.size {
                return Ok(upto);
            }
        }
    }
    outcome
}

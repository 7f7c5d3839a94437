//! One large file in parts: found again after a broken line, a restart of either side, or
//! another run of the command.

use crate::delta::send_delta;
use crate::patience::{AGAIN, PATIENCE, may_pass, patiently};
use crate::up::{Item, Up, hash_of};
use futures_util::StreamExt;
use std::io::SeekFrom;
use std::time::Instant;
use tokio::io::{AsyncReadExt, AsyncSeekExt};
use yellow_attic_client::{Body, Error, NewUpload};

/// A file that changes while it is sent is begun anew so often.
const TRIES: usize = 3;

/// Sends a file into a folder, from where an earlier try was broken off if there was one. Its hash is announced first:
/// only an upload of the very same bytes is gone on with, and what arrives is nothing else.
pub async fn send_large(up: &Up, item: &Item, parent: i64, name: &str) -> Result<(), Error> {
    let mut tries = 1;
    loop {
        match send_whole(up, item, parent, name).await {
            Err(e) if e.code() == Some("wrong_hash") && tries < TRIES => tries += 1,
            Ok(()) => return say_program(up, item, parent, name).await,
            other => return other,
        }
    }
}

/// Says of what was sent whether it is a program, if the service has it otherwise.
async fn say_program(up: &Up, item: &Item, parent: i64, name: &str) -> Result<(), Error> {
    let sent = up.at(parent, name).await?;
    if sent.executable != item.executable {
        let mark =
            yellow_attic_client::api::Target { executable: Some(item.executable), ..Default::default() };
        patiently(|| up.client.change(sent.id, &mark)).await?;
    }
    Ok(())
}

async fn send_whole(up: &Up, item: &Item, parent: i64, name: &str) -> Result<(), Error> {
    let facts = tokio::fs::metadata(&item.local).await?;
    let item = &Item { size: facts.len(), ..item.clone() };
    let blake3 = hash_of(&item.local).await?;
    let modified = (up.show_time)(item.mtime);
    let new = NewUpload {
        parent,
        name: name.to_string(),
        size: item.size,
        modified,
        blake3: Some(blake3),
        only_kept: false,
    };
    let known =
        patiently(|| up.client.uploads()).await?.uploads.into_iter().find(|u| {
            u.parent == parent && u.name == new.name && u.size == new.size && u.blake3 == new.blake3
        });
    let (id, mut from) = match known {
        Some(upload) => {
            let from = patiently(|| up.client.upload_offset(&upload.id)).await?;
            (upload.id, from)
        }
        // Another state of it is there: only what differs is sent.
        None if send_delta(up, item, parent, name).await? => return Ok(()),
        None => (patiently(|| up.client.begin_upload(&new)).await?, 0),
    };
    up.progress.kept(from);
    if from == item.size {
        return Ok(());
    }
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
        let goes_on = matches!(error.code(), Some("part_cut_short" | "wrong_offset" | "taken_over"));
        if !(goes_on || may_pass(&error)) || since.elapsed() > PATIENCE {
            return Err(error);
        }
        tokio::time::sleep(AGAIN).await;
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

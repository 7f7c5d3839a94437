//! Only what differs: a large file that is on both sides in another state goes as a delta.

use crate::down::Down;
use crate::progress::Progress;
use crate::up::{Item, Up, explain};
use bytes::Bytes;
use futures_util::StreamExt;
use std::fs::File;
use std::io::{Read, Seek, SeekFrom, Write};
use std::path::Path;
use std::sync::Arc;
use yellow_attic_client::{Body, Client, Error, api};
use yellow_attic_core::chunking::cut;
use yellow_attic_core::delta::{self, Chunk, MOST_BYTES, Piece, new_bytes, plan};

/// Files from this size on are looked at for what differs.
pub const WORTH: u64 = 8 << 20;
/// More requests for single parts than this cost more than sending all of it.
const MOST_PARTS: usize = 512;

/// Who is told how the bytes of a file are come by, and how fast they may.
pub(crate) trait Meter: Send + Sync + 'static {
    /// So many are the same as in an older state: they need not go over the line.
    fn same(&self, bytes: u64);
    /// So many go over the line, when they may.
    fn moves(&self, bytes: u64) -> impl Future<Output = ()> + Send;
}

impl Meter for Progress {
    fn same(&self, bytes: u64) {
        self.moved(bytes);
    }

    async fn moves(&self, bytes: u64) {
        self.moved(bytes);
    }
}

pub(crate) fn cut_file(file: File) -> std::io::Result<(Vec<Chunk>, String)> {
    let (mut chunks, mut hasher) = (Vec::new(), blake3::Hasher::new());
    for chunk in cut(file) {
        let chunk = chunk?;
        hasher.update(&chunk);
        chunks.push(Chunk::of(&chunk));
    }
    Ok((chunks, hasher.finalize().to_hex().to_string()))
}

async fn cut_local(path: &Path) -> Result<(Vec<Chunk>, String), Error> {
    let path = path.to_path_buf();
    let cutting = tokio::task::spawn_blocking(move || cut_file(File::open(path)?));
    Ok(cutting.await.map_err(|e| Error::Line(e.to_string()))??)
}

/// The chunks of a file as it is or was on the service.
pub(crate) async fn listed(
    client: &Client,
    node: i64,
    at: Option<&str>,
) -> Result<(api::Chunks, Vec<Chunk>), Error> {
    let listed = client.chunks(node, at).await?;
    let chunks: Option<Vec<Chunk>> = listed.chunks.iter().map(|w| Chunk::from_word(w)).collect();
    let chunks = chunks.ok_or_else(|| Error::Strange("the list of chunks cannot be read".into()))?;
    Ok((listed, chunks))
}

/// Whether so little is new that it is worth it.
pub(crate) fn is_worth(pieces: &[Piece], size: u64) -> bool {
    new_bytes(pieces) <= size / 4 * 3 && pieces.len() <= MOST_PARTS * 8
}

/// Whether so little is missing, in so few places, that it is fetched by its parts.
pub(crate) fn is_worth_fetching(pieces: &[Piece], size: u64) -> bool {
    let parts = pieces.iter().filter(|p| matches!(p, Piece::New { .. })).count();
    is_worth(pieces, size) && parts <= MOST_PARTS
}

/// The body of a delta, read from the new state as the line takes it.
pub(crate) fn body(
    head: &api::DeltaHead,
    pieces: Vec<Piece>,
    mut file: File,
    meter: Arc<impl Meter>,
) -> Result<Body, Error> {
    let (send, records) = tokio::sync::mpsc::channel::<(std::io::Result<Bytes>, u64)>(8);
    let mut first = serde_json::to_vec(head).map_err(|e| Error::Strange(e.to_string()))?;
    first.push(b'\n');
    let its = meter.clone();
    tokio::task::spawn_blocking(move || {
        let give = |record: Vec<u8>, new: u64| {
            send.blocking_send((Ok(record.into()), new)).map_err(|_| std::io::Error::other("the line broke"))
        };
        let feed = || {
            give(first, 0)?;
            for piece in pieces {
                match piece {
                    Piece::Same { at, length } => {
                        give(delta::copy(0, at, length), 0)?;
                        its.same(length);
                    }
                    Piece::New { at, length } => {
                        file.seek(SeekFrom::Start(at))?;
                        let mut left = length;
                        while left > 0 {
                            let n = left.min(MOST_BYTES);
                            let mut record = delta::bytes(n as u32);
                            let head = record.len();
                            record.resize(head + n as usize, 0);
                            file.read_exact(&mut record[head..])?;
                            give(record, n)?;
                            left -= n;
                        }
                    }
                }
            }
            give(vec![delta::END], 0)
        };
        if let Err(e) = feed() {
            let _ = send.blocking_send((Err(e), 0));
        }
    });
    Ok(Body::stream(
        None,
        futures_util::stream::unfold((records, meter), |(mut records, meter)| async move {
            let (record, new) = records.recv().await?;
            if new > 0 {
                meter.moves(new).await;
            }
            Some((record, (records, meter)))
        }),
    ))
}

/// Sends what differs from the file's present state in the service. False: nothing was sent, and the whole
/// is to be sent as if this had not been tried.
pub async fn send_delta(up: &Up, item: &Item, parent: i64, name: &str) -> Result<bool, Error> {
    if item.size < WORTH {
        return Ok(false);
    }
    let Ok(there) = up.at(parent, name).await else { return Ok(false) };
    if there.kind != api::Kind::File || (there.size as u64) < WORTH {
        return Ok(false);
    }
    let (listed, old) = match listed(&up.client, there.id, None).await {
        Ok(listed) => listed,
        Err(e @ Error::Line(_)) => return Err(e),
        Err(_) => return Ok(false),
    };
    let (new, blake3) = cut_local(&item.local).await?;
    let pieces = plan(&old, &new);
    if !is_worth(&pieces, item.size) || new.iter().map(|c| u64::from(c.length)).sum::<u64>() != item.size {
        return Ok(false);
    }
    let head = api::DeltaHead {
        bases: vec![api::DeltaBase { node: there.id, at: None, etag: listed.etag }],
        size: item.size,
        blake3,
        modified: (up.show_time)(item.mtime),
        executable: None,
    };
    let file = File::open(&item.local)?;
    let body = body(&head, pieces, file, up.progress.clone())?;
    match up.client.assemble(parent, name, body).await {
        Ok(_) => Ok(true),
        // It changed on either side while this ran: the whole goes the usual way.
        Err(Error::Refused(p))
            if ["base_changed", "wrong_hash", "delta_malformed"].contains(&p.code.as_str()) =>
        {
            up.progress.unmoved(item.size);
            Ok(false)
        }
        Err(e) => {
            up.progress.unmoved(item.size);
            match e {
                Error::Line(_) => Ok(false),
                other => Err(other),
            }
        }
    }
}

/// Makes a file's state from an older one that lies here and what is fetched, into `part`. False: nothing was
/// done, and the whole is to be fetched.
pub async fn fetch_delta(down: &Down, node: &api::Node, local: &Path, part: &Path) -> Result<bool, Error> {
    let size = node.size.max(0) as u64;
    let here = tokio::fs::symlink_metadata(local).await;
    if size < WORTH || !here.is_ok_and(|f| f.is_file() && f.len() >= WORTH) {
        return Ok(false);
    }
    let Ok((list, new)) = listed(&down.client, node.id, down.at.as_deref()).await else { return Ok(false) };
    if node.blake3.as_deref() != Some(&list.blake3) {
        return Ok(false);
    }
    let (old, _) = cut_local(local).await?;
    let pieces = plan(&old, &new);
    if !is_worth_fetching(&pieces, size) {
        return Ok(false);
    }
    let files = (File::open(local)?, File::create(part)?, blake3::Hasher::new());
    let state = (node.id, down.at.as_deref());
    match put_together(&down.client, state, files, &pieces, &*down.progress).await {
        Ok(hash) if Some(&hash) == node.blake3.as_ref() => Ok(true),
        other => {
            // Changed on either side meanwhile, or broken off: the whole is fetched.
            let _ = tokio::fs::remove_file(part).await;
            down.progress.unmoved(size);
            if let Err(e @ Error::Refused(_)) = other {
                return Err(Error::Strange(explain(&e)));
            }
            Ok(false)
        }
    }
}

/// Puts the pieces of a state of a file one after the other, from an older state that lies here and from the service, behind
/// what the hasher has seen of it. The BLAKE3 of all, as hexadecimal digits.
pub(crate) async fn put_together(
    client: &Client,
    (node, at_moment): (i64, Option<&str>),
    (mut old, mut file, mut hasher): (File, File, blake3::Hasher),
    pieces: &[Piece],
    meter: &impl Meter,
) -> Result<String, Error> {
    for piece in pieces {
        match *piece {
            Piece::Same { at, length } => {
                old.seek(SeekFrom::Start(at))?;
                let copying = tokio::task::spawn_blocking(move || {
                    let mut buffer = vec![0; 1 << 20];
                    let mut left = length;
                    while left > 0 {
                        let n = left.min(buffer.len() as u64) as usize;
                        old.read_exact(&mut buffer[..n])?;
                        hasher.update(&buffer[..n]);
                        file.write_all(&buffer[..n])?;
                        left -= n as u64;
                    }
                    Ok::<_, std::io::Error>((old, file, hasher))
                });
                (old, file, hasher) = copying.await.map_err(|e| Error::Line(e.to_string()))??;
                meter.same(length);
            }
            Piece::New { at, length } => {
                let stream = client.content_part(node, at_moment, at, length).await?;
                let mut stream = std::pin::pin!(stream);
                let mut got = 0;
                while let Some(bytes) = stream.next().await {
                    let bytes = bytes?;
                    meter.moves(bytes.len() as u64).await;
                    hasher.update(&bytes);
                    file.write_all(&bytes)?;
                    got += bytes.len() as u64;
                }
                if got != length {
                    return Err(Error::Line("a part was cut short".into()));
                }
            }
        }
    }
    Ok(hasher.finalize().to_hex().to_string())
}

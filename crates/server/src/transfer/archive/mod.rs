//! Folders and selections as one file: a tree of the timeline at one moment, in a fixed order,
//! so that its length is known before a byte is read and any range of it can be made again,
//! whatever happens to the files meanwhile.

pub mod parts;

use crate::http::conditions::asked;
use crate::http::problem::Refusal;
use crate::state::State;
use crate::state::archives::{Format, Wanted};
use crate::transfer::reader::Reader;
use crate::transfer::send::{BLOCK, StillMay, block, guarded};
use actix_web::body::SizedStream;
use actix_web::http::{Method, header};
use actix_web::{HttpRequest, HttpResponse};
use bytes::Bytes;
use parts::Layout;
use std::io::Read;
use std::sync::Arc;
use yellow_attic_core::Moment;
use yellow_attic_core::range::Asked;
use yellow_attic_store::timeline::tree::{Tree, TreeItem};
use yellow_attic_store::{Engine, StoreError};

/// Pieces of a file whose checksum is not known, and of the directory, have this size.
const PIECE: usize = 256 * 1024;

/// What an archive will be: its length, how many files, what is left out.
pub async fn measure(
    state: &State,
    reader: &Reader,
    wanted: &Wanted,
) -> Result<(u64, u64, Vec<String>), Refusal> {
    let tree = state.archives.tree(&state.engine, reader.actor(), wanted).await?;
    let files = tree.items.iter().filter(|i| !i.folder).count() as u64;
    Ok((Layout::of(wanted.format, &tree.items).length(), files, tree.lost.clone()))
}

/// Answers with an archive, or a range of it.
pub async fn answer(
    request: &HttpRequest,
    state: &actix_web::web::Data<State>,
    reader: &Reader,
    wanted: Wanted,
    name: &str,
) -> Result<HttpResponse, Refusal> {
    let tree = state.archives.tree(&state.engine, reader.actor(), &wanted).await?;
    let length = Layout::of(wanted.format, &tree.items).length();
    let tag = tag(&wanted);
    let (from, count, partial) = match asked(request, &tag, None, length) {
        Asked::Whole | Asked::Parts(_) => (0, length, false),
        Asked::Part { from, length } => (from, length, true),
        Asked::Outside => {
            return Ok(HttpResponse::RangeNotSatisfiable()
                .insert_header((header::CONTENT_RANGE, format!("bytes */{length}")))
                .finish());
        }
    };
    let mut answer = if partial { HttpResponse::PartialContent() } else { HttpResponse::Ok() };
    let file = format!("{name}.{}", wanted.format.word());
    answer
        .insert_header((header::ETAG, tag))
        .insert_header((header::ACCEPT_RANGES, "bytes"))
        .insert_header((header::CONTENT_TYPE, wanted.format.media_type()))
        .insert_header((header::CACHE_CONTROL, "private, no-cache"))
        .insert_header((header::CONTENT_SECURITY_POLICY, "sandbox; default-src 'none'"))
        .insert_header((header::CONTENT_DISPOSITION, crate::transfer::send::attachment(&file)));
    if partial {
        answer.insert_header((header::CONTENT_RANGE, format!("bytes {from}-{}/{length}", from + count - 1)));
    }
    if *request.method() == Method::HEAD {
        return Ok(answer.no_chunking(count).finish());
    }
    let may = StillMay::new(request, reader, &wanted.nodes);
    let (send, pieces) = tokio::sync::mpsc::channel::<Result<Bytes, std::io::Error>>(16);
    let sending =
        Sending { state: state.clone(), reader: reader.clone(), wanted, tree, send, from, left: count };
    // On this worker: it ends with the answer.
    actix_web::rt::spawn(sending.run());
    let stream = futures_util::stream::unfold(pieces, |mut pieces| async move {
        pieces.recv().await.map(|piece| (piece.map_err(actix_web::Error::from), pieces))
    });
    Ok(answer.body(SizedStream::new(count, guarded(stream, may))))
}

/// The tag of an archive holds its moment: whoever goes on with If-Range gets the same one.
fn tag(wanted: &Wanted) -> String {
    let nodes: String = wanted.nodes.iter().map(|n| format!("{n},")).collect();
    let hash = blake3::hash(nodes.as_bytes()).to_hex();
    format!("\"{}-{}-{}\"", wanted.format.word(), wanted.at.token(), &hash[..16])
}

/// The moment in the tag that a request to go on brings.
pub fn moment_in(request: &HttpRequest) -> Option<Moment> {
    let given = request.headers().get(header::IF_RANGE)?.to_str().ok()?;
    Moment::from_token(given.trim_matches('"').split('-').nth(1)?)
}

struct Sending {
    state: actix_web::web::Data<State>,
    reader: Reader,
    wanted: Wanted,
    tree: Arc<Tree>,
    send: tokio::sync::mpsc::Sender<Result<Bytes, std::io::Error>>,
    /// Bytes to leave out before the first, and to send from there on.
    from: u64,
    left: u64,
}

/// The answer is complete, or nobody reads it any more.
struct Enough;

impl Sending {
    async fn run(mut self) {
        let tree = self.tree.clone();
        let layout = Layout::of(self.wanted.format, &tree.items);
        let mut at = 0;
        for item in &tree.items {
            let (head, tail) = (layout.head_len(item), layout.tail_len(item));
            let whole = head + item.size + tail;
            if at + whole > self.from {
                match self.item(&layout, item, at, head).await {
                    Ok(()) => {}
                    Err(Ok(Enough)) => return,
                    Err(Err(error)) => return self.fail(&item.path, error).await,
                }
            }
            at += whole;
        }
        if let Err(Err(error)) = self.end(&layout, &tree.items, at).await {
            self.fail("the directory at its end", error).await;
        }
    }

    /// The length is promised: the only way to say that something went wrong is to break off.
    async fn fail(&self, what: &str, error: StoreError) {
        tracing::warn!(%error, what, "an archive was broken off");
        let _ = self.send.send(Err(std::io::Error::other(error.to_string()))).await;
    }

    async fn item(
        &mut self,
        layout: &Layout,
        item: &TreeItem,
        at: u64,
        head: u64,
    ) -> Result<(), Result<Enough, StoreError>> {
        self.put(at, layout.head(item).into()).await?;
        let mut crc = None;
        if !item.folder && at + head + item.size > self.from {
            crc = self.file(item, at + head).await?;
        }
        if layout.tail_len(item) > 0 && at + head + item.size + layout.tail_len(item) > self.from {
            let crc = match (layout.needs_checksums(), crc) {
                (true, None) => self.checksum(item).await.map_err(Err)?,
                (_, crc) => crc.unwrap_or(0),
            };
            self.put(at + head + item.size, layout.tail(item, crc).into()).await?;
        }
        Ok(())
    }

    /// Sends the bytes of a file. Returns their checksum if all of them were read.
    async fn file(&mut self, item: &TreeItem, at: u64) -> Result<Option<u32>, Result<Enough, StoreError>> {
        let (file, hash) = open(&self.state.engine, item, self.wanted.at).await.map_err(Err)?;
        let file = Arc::new(file);
        let mut done = self.from.saturating_sub(at).min(item.size);
        let whole = done == 0;
        let sums = whole && self.wanted.format == Format::Zip;
        let mut hasher = crc32fast::Hasher::new();
        while done < item.size {
            let n = (item.size - done).min(BLOCK) as usize;
            let piece = block(file.clone(), done, n).await.map_err(|e| Err(unread(item, &e)))?;
            if sums {
                hasher.update(&piece);
            }
            self.put(at + done, piece).await?;
            done += n as u64;
        }
        if !whole {
            return Ok(None);
        }
        let crc = hasher.finalize();
        if sums {
            self.state.checksums.0.insert(hash, crc);
        }
        let state = &self.state;
        if state.reads.note(self.reader.actor(), item.node, last_name(item), state.engine.now_ms()) {
            let (engine, reads) = (state.engine.clone(), state.reads.clone());
            state.engine.runtime().spawn(async move { reads.write(&engine).await });
        }
        Ok(Some(crc))
    }

    /// The checksum of a file that was not read as a whole in this answer.
    async fn checksum(&self, item: &TreeItem) -> Result<u32, StoreError> {
        let (mut file, hash) = open(&self.state.engine, item, self.wanted.at).await?;
        if let Some(crc) = self.state.checksums.0.get(&hash) {
            return Ok(crc);
        }
        let crc = tokio::task::spawn_blocking(move || {
            let mut hasher = crc32fast::Hasher::new();
            let mut piece = vec![0; PIECE];
            loop {
                match file.read(&mut piece)? {
                    0 => return Ok(hasher.finalize()),
                    n => hasher.update(&piece[..n]),
                }
            }
        })
        .await
        .map_err(|_| StoreError::Stopping)?
        .map_err(|e: std::io::Error| unread(item, &e))?;
        self.state.checksums.0.insert(hash, crc);
        Ok(crc)
    }

    async fn end(
        &mut self,
        layout: &Layout,
        items: &[TreeItem],
        at: u64,
    ) -> Result<(), Result<Enough, StoreError>> {
        let mut place = at;
        let mut offset = 0;
        let mut lot = Vec::new();
        for item in items {
            let length = layout.central_len(item, offset);
            if length > 0 && place + length > self.from {
                let crc = match item.folder {
                    true => 0,
                    false => self.checksum(item).await.map_err(Err)?,
                };
                lot.extend_from_slice(&layout.central(item, crc, offset));
                if lot.len() > PIECE {
                    let begin = place + length - lot.len() as u64;
                    self.put(begin, std::mem::take(&mut lot).into()).await?;
                }
            }
            place += length;
            offset += layout.head_len(item) + item.size + layout.tail_len(item);
        }
        let begin = place - lot.len() as u64;
        self.put(begin, lot.into()).await?;
        self.put(place, layout.end(items.len() as u64, at, place - at).into()).await
    }

    /// Sends what lies in the range of a piece that begins at `at`.
    async fn put(&mut self, at: u64, mut piece: Bytes) -> Result<(), Result<Enough, StoreError>> {
        if self.left == 0 {
            return Err(Ok(Enough));
        }
        if at + piece.len() as u64 <= self.from {
            return Ok(());
        }
        if at < self.from {
            let _ = piece.split_to((self.from - at) as usize);
        }
        if piece.len() as u64 > self.left {
            piece.truncate(self.left as usize);
        }
        self.left -= piece.len() as u64;
        self.state.metrics.sent.inc_by(piece.len() as u64);
        self.from += piece.len() as u64;
        self.send.send(Ok(piece)).await.map_err(|_| Ok(Enough))?;
        if self.left == 0 { Err(Ok(Enough)) } else { Ok(()) }
    }
}

async fn open(engine: &Engine, item: &TreeItem, at: Moment) -> Result<(std::fs::File, [u8; 32]), StoreError> {
    let gone = || StoreError::BytesMissing(last_name(item).into());
    let row = engine.history().state_at(item.node, at).await?.ok_or_else(gone)?;
    let wanted = row.content.ok_or_else(gone)?;
    let (file, got) = engine.files().open_bytes(&row).await?;
    // Another program changed it behind our back: not the state that was promised.
    match got.content {
        Some(content) if content.hash == wanted.hash => Ok((file, content.hash)),
        _ => Err(gone()),
    }
}

fn unread(item: &TreeItem, e: &std::io::Error) -> StoreError {
    StoreError::Unreadable { path: item.path.to_string(), reason: e.to_string() }
}

fn last_name(item: &TreeItem) -> &str {
    item.path.rsplit_once('/').map_or(&item.path, |(_, name)| name)
}

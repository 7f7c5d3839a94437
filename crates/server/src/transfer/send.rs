//! Bytes out: whole or in part, with the headers that keep what people uploaded from running
//! in our pages.

use crate::http::conditions::{asked, if_range_date, of_read};
use crate::http::listener::Outlet;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times;
use crate::state::State;
use crate::transfer::reader::Reader;
use actix_web::body::{BodyStream, SizedStream};
use actix_web::http::{Method, header};
use actix_web::{HttpRequest, HttpResponse, web};
use bytes::Bytes;
use futures_util::{Stream, StreamExt};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use std::fs::File;
use std::io::IoSliceMut;
use std::os::unix::fs::FileExt;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use yellow_attic_core::NodeId;
use yellow_attic_core::conditions::ReadAnswer;
use yellow_attic_core::range::Asked;
use yellow_attic_store::Row;
use yellow_attic_store::engine::RightsWatch;

/// Files up to this size go out in one piece.
const SMALL: u64 = 64 * 1024;
/// Larger ones in blocks of this size: small enough to stay in the processor's cache on their way.
pub const BLOCK: u64 = 64 * 1024;
/// Where much is to be sent, the next blocks are read while one is sent; then larger ones are better.
const LARGE_BLOCK: u64 = 1 << 20;
/// From this size on.
const WORTH_AHEAD: u64 = 8 << 20;
/// At most so many at a time.
const MOST_AHEAD: usize = 16;

/// Whoever keeps it asks each time whether it is still so.
const PRIVATE: &str = "private, no-cache";

const KEEP: &AsciiSet = &NON_ALPHANUMERIC.remove(b'.').remove(b'-').remove(b'_');

/// A file's name as it stands in a header or an address.
pub fn encode_name(name: &str) -> String {
    utf8_percent_encode(name, KEEP).to_string()
}

/// The header that makes a download of an answer.
pub fn attachment(name: &str) -> String {
    format!("attachment; filename*=UTF-8''{}", encode_name(name))
}

/// What a browser may show by itself; everything else is handed over as a download.
pub fn safe_type(name: &str) -> Option<&'static str> {
    let ending = name.rsplit_once('.').map_or("", |(_, e)| e).to_ascii_lowercase();
    Some(match ending.as_str() {
        "png" => "image/png",
        "jpg" | "jpeg" => "image/jpeg",
        "gif" => "image/gif",
        "webp" => "image/webp",
        "wav" => "audio/wav",
        "mp3" => "audio/mpeg",
        "ogg" => "audio/ogg",
        "flac" => "audio/flac",
        "mp4" => "video/mp4",
        "webm" => "video/webm",
        "txt" | "md" | "csv" | "log" | "json" | "toml" | "yaml" | "yml" | "ini" | "rs" | "py" | "c" | "h"
        | "sh" | "sql" | "tex" | "srt" => "text/plain; charset=utf-8",
        _ => return None,
    })
}

fn not_modified(tag: String, mtime: i64) -> HttpResponse {
    HttpResponse::NotModified()
        .insert_header((header::ETAG, tag))
        .insert_header((header::LAST_MODIFIED, times::http_date(mtime)))
        .insert_header((header::CACHE_CONTROL, PRIVATE))
        .finish()
}

/// Answers with the bytes of a state.
pub async fn answer(
    request: &HttpRequest,
    state: &State,
    reader: &Reader,
    row: &Row,
) -> Result<HttpResponse, Refusal> {
    // A service worker would keep answering in our origin's name.
    if request.headers().contains_key("service-worker") {
        return Err(refusals::NO_SERVICE_WORKER.of("Stored files are never run as service workers."));
    }
    let (file, row) = state.engine.files().open_bytes(row).await?;
    let size = row.size().max(0) as u64;
    let tag = row.etag().unwrap_or_default();
    match of_read(request).read(&row.standing()) {
        ReadAnswer::Send => {}
        ReadAnswer::NotModified => {
            return Ok(not_modified(tag, row.mtime));
        }
        ReadAnswer::Failed => {
            return Err(yellow_attic_store::StoreError::ConditionFailed {
                present: Some(Box::new(row.standing())),
            }
            .into());
        }
    }
    let own_second = match if_range_date(request) {
        Some(_) => state.engine.files().own_second(&row).await?,
        None => None,
    };
    let mut several = Vec::new();
    let (from, length, partial) = match asked(request, &tag, own_second, size) {
        Asked::Whole => (0, size, false),
        Asked::Part { from, length } => (from, length, true),
        Asked::Parts(parts) => {
            several = parts;
            (0, size, true)
        }
        Asked::Outside => return Ok(outside(size)),
    };
    let mut answer = if partial { HttpResponse::PartialContent() } else { HttpResponse::Ok() };
    let kind = safe_type(row.name());
    let disposition =
        if kind.is_some() && !request.query_string().contains("download") { "inline" } else { "attachment" };
    answer
        .insert_header((header::ETAG, tag))
        .insert_header((header::ACCEPT_RANGES, "bytes"))
        .insert_header((header::CONTENT_TYPE, kind.unwrap_or("application/octet-stream")))
        .insert_header((header::LAST_MODIFIED, times::http_date(row.mtime)))
        .insert_header((header::CACHE_CONTROL, PRIVATE))
        .insert_header((header::CONTENT_SECURITY_POLICY, "sandbox; default-src 'none'"))
        .insert_header((
            header::CONTENT_DISPOSITION,
            format!("{disposition}; filename*=UTF-8''{}", encode_name(row.name())),
        ));
    if let Some(algorithm) = crate::transfer::receive::wanted_digest(request)
        && let Some(told) = digest(state, &file, &row, algorithm).await?
    {
        answer.insert_header(("repr-digest", told));
    }
    if !several.is_empty() {
        return parts(request, state, reader, answer, Arc::new(file), &row, kind, several).await;
    }
    if partial {
        answer.insert_header((header::CONTENT_RANGE, format!("bytes {from}-{}/{size}", from + length - 1)));
    }
    if *request.method() == Method::HEAD {
        return Ok(answer.no_chunking(length).finish());
    }
    if state.reads.note(reader.actor(), row.node, row.name(), state.engine.now_ms()) {
        let (engine, reads) = (state.engine.clone(), state.reads.clone());
        state.engine.runtime().spawn(async move { reads.write(&engine).await });
    }
    state.metrics.sent.inc_by(length);
    if length <= SMALL {
        let bytes = match read_cached(&file, from, length as usize) {
            Some(bytes) => Ok(bytes),
            None => web::block(move || read_at(&file, from, length as usize))
                .await
                .unwrap_or_else(|_| Err(std::io::Error::other("stopping"))),
        };
        let bytes = bytes.map_err(|e| unreadable(&row, &e))?;
        return Ok(answer.body(bytes));
    }
    let may = StillMay::new(request, reader, &[row.node]);
    if length >= WORTH_AHEAD
        && let Some(outlet) = crate::http::listener::outlet(request)
    {
        let bytes = straight(outlet, Arc::new(file), from, length, may);
        // Not as a stream of a known size: of that the framework would miss every byte, and break the line at its end.
        return Ok(answer.no_chunking(length).body(BodyStream::new(bytes)));
    }
    if length >= WORTH_AHEAD
        && let Some(reading) = Reading::begin()
    {
        let bytes = ahead(Arc::new(file), from, length, reading);
        return Ok(answer.body(SizedStream::new(length, guarded(bytes, may))));
    }
    Ok(answer.body(SizedStream::new(length, guarded(blocks(Arc::new(file), from, length), may))))
}

/// 416: nothing of what there is lies in the range.
pub fn outside(size: u64) -> HttpResponse {
    let refusal =
        refusals::RANGE_OUTSIDE.of(&format!("There are {size} bytes; the range lies outside of them."));
    let mut answer = actix_web::ResponseError::error_response(&refusal);
    let told = header::HeaderValue::from_str(&format!("bytes */{size}"));
    if let Ok(told) = told {
        answer.headers_mut().insert(header::CONTENT_RANGE, told);
    }
    answer
}

/// Several parts of a file, each with its own headers (RFC 9110, section 14.6).
#[allow(clippy::too_many_arguments)]
async fn parts(
    request: &HttpRequest,
    state: &State,
    reader: &Reader,
    mut answer: actix_web::HttpResponseBuilder,
    file: Arc<File>,
    row: &Row,
    kind: Option<&str>,
    parts: Vec<(u64, u64)>,
) -> Result<HttpResponse, Refusal> {
    let size = row.size().max(0) as u64;
    let boundary = crate::state::secrets::new_secret()?[..32].to_string();
    let kind = kind.unwrap_or("application/octet-stream");
    let head = |from: u64, length: u64| {
        format!(
            "\r\n--{boundary}\r\nContent-Type: {kind}\r\nContent-Range: bytes {from}-{}/{size}\r\n\r\n",
            from + length - 1
        )
    };
    let end = format!("\r\n--{boundary}--\r\n");
    let heads: Vec<(String, u64, u64)> = parts.iter().map(|(f, n)| (head(*f, *n), *f, *n)).collect();
    let bytes: u64 = parts.iter().map(|(_, n)| n).sum();
    let length = heads.iter().map(|(h, ..)| h.len() as u64).sum::<u64>() + bytes + end.len() as u64;
    answer.insert_header((header::CONTENT_TYPE, format!("multipart/byteranges; boundary={boundary}")));
    if *request.method() == Method::HEAD {
        return Ok(answer.no_chunking(length).finish());
    }
    if state.reads.note(reader.actor(), row.node, row.name(), state.engine.now_ms()) {
        let (engine, reads) = (state.engine.clone(), state.reads.clone());
        state.engine.runtime().spawn(async move { reads.write(&engine).await });
    }
    state.metrics.sent.inc_by(bytes);
    let text = |text: String| futures_util::stream::once(async move { Ok(Bytes::from(text)) });
    let stream = futures_util::stream::iter(heads)
        .flat_map(move |(head, from, length)| text(head).chain(Box::pin(blocks(file.clone(), from, length))))
        .chain(text(end));
    let may = StillMay::new(request, reader, &[row.node]);
    Ok(answer.body(SizedStream::new(length, guarded(stream, may))))
}

/// Larger files are not hashed for an answer: that would take seconds of a core before its first byte.
const MOST_DIGESTED: i64 = 256 << 20;

/// What Repr-Digest says of a file, remembered by its bytes; none for what is too large.
async fn digest(
    state: &State,
    file: &File,
    row: &Row,
    algorithm: yellow_attic_core::digests::Algorithm,
) -> Result<Option<String>, Refusal> {
    use sha2::Digest as _;
    use yellow_attic_core::digests::{Algorithm, write};
    let Some(content) = row.content.filter(|c| c.size <= MOST_DIGESTED) else { return Ok(None) };
    let key = (content.hash, algorithm.word());
    if let Some(known) = state.digests.get(&key) {
        return Ok(Some(known));
    }
    let file = file.try_clone().map_err(|e| unreadable(row, &e))?;
    let hashed = web::block(move || {
        let (mut sha256, mut sha512) = (sha2::Sha256::new(), sha2::Sha512::new());
        let mut buffer = vec![0; 256 * 1024];
        let mut at = 0;
        loop {
            let n = file.read_at(&mut buffer, at)?;
            if n == 0 {
                break;
            }
            at += n as u64;
            match algorithm {
                Algorithm::Sha256 => sha256.update(&buffer[..n]),
                Algorithm::Sha512 => sha512.update(&buffer[..n]),
            }
        }
        Ok::<_, std::io::Error>(match algorithm {
            Algorithm::Sha256 => write(algorithm, &sha256.finalize()),
            Algorithm::Sha512 => write(algorithm, &sha512.finalize()),
        })
    });
    let told = hashed.await.map_err(|_| yellow_attic_store::StoreError::Stopping)?;
    let told = told.map_err(|e| unreadable(row, &e))?;
    state.digests.insert(key, told.clone());
    Ok(Some(told))
}

/// How often a right that may have ended by its date is looked at again.
const LOOK_AGAIN: Duration = Duration::from_secs(30);

/// Whether somebody to whom bytes are on their way may still have them: a sign-in that ends, a door
/// that closes, a right that is taken cuts what runs.
pub struct StillMay {
    state: Option<web::Data<State>>,
    reader: Reader,
    nodes: Vec<NodeId>,
    rights: Option<RightsWatch>,
    revoked: Option<tokio::sync::watch::Receiver<u64>>,
    looked: Instant,
}

impl StillMay {
    /// Begins to watch: now they may.
    pub fn new(request: &HttpRequest, reader: &Reader, nodes: &[NodeId]) -> StillMay {
        let state = request.app_data::<web::Data<State>>().cloned();
        StillMay {
            rights: state.as_ref().map(|s| s.engine.rights_watch()),
            revoked: state.as_ref().map(|s| s.revocations.subscribe()),
            reader: reader.clone(),
            nodes: nodes.to_vec(),
            looked: Instant::now(),
            state,
        }
    }

    async fn holds(&mut self) -> bool {
        let (Some(state), Some(rights), Some(revoked)) = (&self.state, &mut self.rights, &mut self.revoked)
        else {
            return false;
        };
        let told = rights.changed() || revoked.has_changed().unwrap_or(true);
        if !told && self.looked.elapsed() < LOOK_AGAIN {
            return true;
        }
        rights.seen();
        revoked.mark_unchanged();
        self.looked = Instant::now();
        if !self.reader.still(state).await {
            return false;
        }
        for node in &self.nodes {
            if !self.reader.sees(state, *node).await {
                return false;
            }
        }
        true
    }
}

/// A stream that breaks off when its reader may no longer read.
pub fn guarded<S>(stream: S, may: StillMay) -> impl Stream<Item = Result<Bytes, actix_web::Error>>
where
    S: Stream<Item = Result<Bytes, actix_web::Error>>,
{
    futures_util::stream::unfold(Some((Box::pin(stream), may)), |running| async move {
        let (mut stream, mut may) = running?;
        if !may.holds().await {
            return Some((Err(actix_web::error::ErrorForbidden("no longer allowed")), None));
        }
        let next = stream.next().await?;
        Some((next, Some((stream, may))))
    })
}

fn unreadable(row: &Row, e: &std::io::Error) -> Refusal {
    yellow_attic_store::StoreError::Unreadable { path: row.name().into(), reason: e.to_string() }.into()
}

/// Reads what is in memory already; `None` if the disk must be asked, off the worker.
fn read_cached(file: &File, from: u64, length: usize) -> Option<Vec<u8>> {
    let mut bytes = vec![0; length];
    let flags = rustix::io::ReadWriteFlags::NOWAIT;
    match rustix::io::preadv2(file, &mut [IoSliceMut::new(&mut bytes)], from, flags) {
        Ok(n) if n == length => Some(bytes),
        _ => None,
    }
}

fn read_at(file: &File, from: u64, length: usize) -> std::io::Result<Vec<u8>> {
    let mut bytes = vec![0; length];
    file.read_exact_at(&mut bytes, from)?;
    Ok(bytes)
}

/// Blocks that are used again: fresh memory for each would cost more than reading it.
struct Spare {
    blocks: Mutex<Vec<Vec<u8>>>,
    /// So many are kept for later.
    most: usize,
}

/// 4 MiB.
static SPARE: Spare = Spare { blocks: Mutex::new(Vec::new()), most: 64 };
/// 8 MiB.
static LARGE_SPARE: Spare = Spare { blocks: Mutex::new(Vec::new()), most: 8 };

/// A block on its way out; it goes back when it is sent.
struct Block {
    bytes: Vec<u8>,
    length: usize,
    spare: &'static Spare,
}

impl Block {
    fn new(length: usize) -> Block {
        Block::of(&SPARE, BLOCK as usize, length)
    }

    fn of(spare: &'static Spare, size: usize, length: usize) -> Block {
        let kept = spare.blocks.lock().unwrap_or_else(PoisonError::into_inner).pop();
        Block { bytes: kept.unwrap_or_else(|| vec![0; size]), length, spare }
    }
}

impl AsRef<[u8]> for Block {
    fn as_ref(&self) -> &[u8] {
        &self.bytes[..self.length]
    }
}

impl Drop for Block {
    fn drop(&mut self) {
        let mut spare = self.spare.blocks.lock().unwrap_or_else(PoisonError::into_inner);
        if spare.len() < self.spare.most {
            spare.push(std::mem::take(&mut self.bytes));
        }
    }
}

/// A block from memory at once, or from the disk off the worker.
pub async fn block(file: Arc<File>, from: u64, length: usize) -> std::io::Result<Bytes> {
    let mut block = Block::new(length);
    let flags = rustix::io::ReadWriteFlags::NOWAIT;
    let got = rustix::io::preadv2(&*file, &mut [IoSliceMut::new(&mut block.bytes[..length])], from, flags);
    let done = got.unwrap_or(0);
    if done < length {
        let read = tokio::task::spawn_blocking(move || {
            file.read_exact_at(&mut block.bytes[done..length], from + done as u64)?;
            Ok::<_, std::io::Error>(block)
        });
        block = read.await.map_err(std::io::Error::other)??;
    }
    Ok(Bytes::from_owner(block))
}

/// So much goes straight to the socket at first before it is looked at again whether its reader may still have it;
/// then what the line takes in about a twentieth of a second, within these bounds.
const STRAIGHT: (u64, u64) = (1 << 20, 64 << 20);

/// A stream without bytes of its own: they go from the disk's cache to the socket meanwhile.
fn straight(
    outlet: Outlet,
    file: Arc<File>,
    from: u64,
    length: u64,
    may: StillMay,
) -> impl Stream<Item = Result<Bytes, actix_web::Error>> {
    let end = from + length;
    let _ =
        rustix::fs::fadvise(&*file, from, std::num::NonZeroU64::new(length), rustix::fs::Advice::Sequential);
    futures_util::stream::unfold(Some((from, may)), move |running| {
        let (outlet, file) = (outlet.clone(), file.clone());
        async move {
            let (mut at, mut may) = running?;
            let mut step = STRAIGHT.0;
            while at < end {
                if !may.holds().await {
                    return Some((Err(actix_web::error::ErrorForbidden("no longer allowed")), None));
                }
                let n = step.min(end - at);
                // The disk reads the next ones while these are sent.
                if let Some(next) = std::num::NonZeroU64::new(step.min(end - at - n)) {
                    let _ = rustix::fs::fadvise(&*file, at + n, Some(next), rustix::fs::Advice::WillNeed);
                }
                let began = Instant::now();
                if let Err(e) = outlet.send(file.clone(), at, n).await {
                    return Some((Err(e.into()), None));
                }
                at += n;
                step = match began.elapsed().as_millis() {
                    0..25 => (step * 2).min(STRAIGHT.1),
                    25..100 => step,
                    _ => (step / 2).max(STRAIGHT.0),
                };
            }
            None
        }
    })
}

/// Streams that read ahead in large blocks just now.
static AHEAD: AtomicUsize = AtomicUsize::new(0);

/// One of the streams that read ahead.
struct Reading;

impl Reading {
    /// None if enough do: blocks in memory must not grow with the number of downloads.
    fn begin() -> Option<Reading> {
        let took =
            AHEAD.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |n| (n < MOST_AHEAD).then_some(n + 1));
        took.is_ok().then_some(Reading)
    }
}

impl Drop for Reading {
    fn drop(&mut self) {
        AHEAD.fetch_sub(1, Ordering::Relaxed);
    }
}

/// Large blocks, read off the worker while those before them are sent.
fn ahead(
    file: Arc<File>,
    from: u64,
    length: u64,
    reading: Reading,
) -> impl Stream<Item = Result<Bytes, actix_web::Error>> {
    let end = from + length;
    futures_util::stream::iter((from..end).step_by(LARGE_BLOCK as usize))
        .map(move |at| {
            let file = file.clone();
            tokio::task::spawn_blocking(move || {
                let length = LARGE_BLOCK.min(end - at) as usize;
                let mut block = Block::of(&LARGE_SPARE, LARGE_BLOCK as usize, length);
                file.read_exact_at(&mut block.bytes[..length], at)?;
                Ok::<_, std::io::Error>(Bytes::from_owner(block))
            })
        })
        .buffered(2)
        .map(move |done| {
            let _as_long_as_it_runs = &reading;
            match done {
                Ok(Ok(bytes)) => Ok(bytes),
                Ok(Err(e)) => Err(actix_web::Error::from(e)),
                Err(_) => Err(actix_web::error::ErrorInternalServerError("stopping")),
            }
        })
}

fn blocks(
    file: Arc<File>,
    from: u64,
    length: u64,
) -> impl futures_util::Stream<Item = Result<Bytes, actix_web::Error>> {
    let end = from + length;
    futures_util::stream::unfold(from, move |at| {
        let file = file.clone();
        async move {
            if at >= end {
                return None;
            }
            let n = BLOCK.min(end - at);
            match block(file, at, n as usize).await {
                Ok(bytes) => Some((Ok(bytes), at + n)),
                Err(e) => Some((Err(actix_web::Error::from(e)), end)),
            }
        }
    })
}

//! Bytes in: streamed to staging in constant memory, hashed as they pass.

use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::state::State;
use actix_web::error::PayloadError;
use actix_web::http::header;
use actix_web::{HttpRequest, web};
use bytes::Bytes;
use futures_util::{Stream, StreamExt};
use sha2::Digest as _;
use yellow_attic_core::NodeId;
use yellow_attic_core::digests::{self, Algorithm};
use yellow_attic_store::rights::quota::Claim;
use yellow_attic_store::timeline::upload_parts::Appending;
use yellow_attic_store::{SMALL, Staged, StoreError};

/// Pieces are handed to the disk in lots of this size.
const LOT: usize = 1 << 20;

/// A body that has arrived.
pub struct Received {
    /// Its bytes.
    pub staged: Staged,
    /// The room that is spoken for until they are put.
    pub claim: Claim,
    /// What Repr-Digest says of them, if the sender wants to be told.
    pub told: Option<String>,
}

/// Whether a body is announced that stays in memory until its group is written.
pub fn is_small(request: &HttpRequest) -> bool {
    announced(request).is_some_and(|n| n <= SMALL as u64)
}

fn announced(request: &HttpRequest) -> Option<u64> {
    request.headers().get(header::CONTENT_LENGTH)?.to_str().ok()?.parse().ok()
}

/// Takes a body. After an error staging is clean.
pub async fn receive(
    state: &State,
    request: &HttpRequest,
    mut payload: web::Payload,
    parent: NodeId,
    replaced: u64,
) -> Result<Received, Refusal> {
    let mut digests = Digests::of(request)?;
    let announced = announced(request);
    let largest = state.config.largest_file;
    if announced.is_some_and(|n| n > largest) {
        return Err(StoreError::TooLarge(largest).into());
    }
    state.engine.check_room(announced.unwrap_or(0))?;
    // Spoken for until the file is there: parallel uploads cannot pass a quota together.
    let mut claim = state.engine.space().claim(parent, announced.unwrap_or(0), replaced).await?;
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
        digests.update(&bytes);
        let told = digests.check()?;
        return Ok(Received { staged: state.engine.stage_small(bytes)?, claim, told });
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
                digests.update(piece);
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
        let told = digests.check()?;
        Ok(Received { staged: arriving.finish()?, claim, told })
    });
    let (written, ()) = tokio::join!(writing, feed_on(payload, send));
    match written {
        Ok(received) => Ok(received?),
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
    let mut sum = PartSum::of(request)?;
    let before = part.size();
    if sum.is_checked() {
        part.counts_only_whole();
    }
    let (send, mut lots) = lots();
    let runtime = state.engine.runtime().clone();
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
            lot.iter().for_each(|piece| sum.update(piece));
        }
        // Bytes of which nobody can say that they are the right ones do not count.
        let wrong = !sum.may_count(whole);
        if wrong {
            part.take_back()?;
        }
        let size = runtime.block_on(part.pause())?;
        match refused {
            None if wrong && whole => Ok(None),
            Some(e) => Err(e),
            None if !whole && announced => Err(StoreError::BrokenPart(size)),
            None => Ok(Some(size)),
        }
    });
    let (written, ()) = tokio::join!(writing, feed_on(payload, send));
    match written {
        Ok(Ok(Some(size))) => {
            state.metrics.received.inc_by(size.saturating_sub(before));
            Ok(size)
        }
        // The protocol's own status for it.
        Ok(Ok(None)) => Err(refusals::CHECKSUM_MISMATCH
            .of("The part does not have the checksum that was announced; nothing of it was kept.")),
        Ok(Err(e)) => Err(e.into()),
        Err(_) => Err(StoreError::Stopping.into()),
    }
}

/// The checksum of one part of an upload (tus, checksum).
#[derive(Default)]
struct PartSum {
    wanted: Vec<u8>,
    sha1: Option<sha1::Sha1>,
    sha256: Option<sha2::Sha256>,
    sha512: Option<sha2::Sha512>,
}

impl PartSum {
    fn of(request: &HttpRequest) -> Result<PartSum, Refusal> {
        use base64::Engine as _;
        let Some(value) = request.headers().get("upload-checksum") else { return Ok(PartSum::default()) };
        let malformed =
            |why: &str| refusals::CHECKSUM_MALFORMED.of(&format!("The header Upload-Checksum {why}."));
        let (word, coded) = value
            .to_str()
            .ok()
            .and_then(|v| v.trim().split_once(' '))
            .ok_or_else(|| malformed("is malformed"))?;
        let wanted = base64::engine::general_purpose::STANDARD
            .decode(coded.trim())
            .map_err(|_| malformed("is not in Base64"))?;
        let sum = PartSum { wanted, ..PartSum::default() };
        Ok(match word {
            "sha1" => PartSum { sha1: Some(Default::default()), ..sum },
            "sha256" => PartSum { sha256: Some(Default::default()), ..sum },
            "sha512" => PartSum { sha512: Some(Default::default()), ..sum },
            _ => return Err(malformed("names another algorithm")),
        })
    }

    /// Whether the sender named a checksum of the part.
    fn is_checked(&self) -> bool {
        !self.wanted.is_empty()
    }

    fn update(&mut self, bytes: &[u8]) {
        if let Some(hasher) = &mut self.sha1 {
            sha1::Digest::update(hasher, bytes);
        }
        if let Some(hasher) = &mut self.sha256 {
            hasher.update(bytes);
        }
        if let Some(hasher) = &mut self.sha512 {
            hasher.update(bytes);
        }
    }

    /// Whether what came may count: it has the checksum, or none was named.
    fn may_count(self, whole: bool) -> bool {
        let got = match (self.sha1, self.sha256, self.sha512) {
            (Some(h), _, _) => sha1::Digest::finalize(h).to_vec(),
            (_, Some(h), _) => h.finalize().to_vec(),
            (_, _, Some(h)) => h.finalize().to_vec(),
            (None, None, None) => return true,
        };
        whole && got == self.wanted
    }
}

/// Digests that a sender names, or wants to be told; computed only then.
#[derive(Default)]
struct Digests {
    sha256: Option<sha2::Sha256>,
    sha512: Option<sha2::Sha512>,
    named: Vec<(Algorithm, Vec<u8>)>,
    wanted: Option<Algorithm>,
}

impl Digests {
    fn of(request: &HttpRequest) -> Result<Digests, Refusal> {
        let mut digests = Digests::default();
        for field in ["content-digest", "repr-digest"] {
            for value in request.headers().get_all(field) {
                let read = value.to_str().ok().and_then(digests::parse).ok_or_else(|| {
                    refusals::DIGEST_MALFORMED.of(&format!("The header {field} is malformed."))
                })?;
                digests.named.extend(read);
            }
        }
        digests.wanted = wanted_digest(request);
        for algorithm in digests.named.iter().map(|(a, _)| *a).chain(digests.wanted) {
            match algorithm {
                Algorithm::Sha256 => digests.sha256 = Some(Default::default()),
                Algorithm::Sha512 => digests.sha512 = Some(Default::default()),
            }
        }
        Ok(digests)
    }

    fn update(&mut self, bytes: &[u8]) {
        if let Some(hasher) = &mut self.sha256 {
            hasher.update(bytes);
        }
        if let Some(hasher) = &mut self.sha512 {
            hasher.update(bytes);
        }
    }

    /// Refuses other bytes than were named; returns what is to be told.
    fn check(self) -> Result<Option<String>, StoreError> {
        let sha256 = self.sha256.map(|h| h.finalize().to_vec());
        let sha512 = self.sha512.map(|h| h.finalize().to_vec());
        let of = |algorithm| match algorithm {
            Algorithm::Sha256 => sha256.as_deref(),
            Algorithm::Sha512 => sha512.as_deref(),
        };
        if self.named.iter().any(|(algorithm, wanted)| of(*algorithm) != Some(wanted)) {
            return Err(StoreError::WrongHash);
        }
        Ok(self.wanted.and_then(|a| of(a).map(|bytes| digests::write(a, bytes))))
    }
}

/// The digest that an answer is to bring.
pub fn wanted_digest(request: &HttpRequest) -> Option<Algorithm> {
    let field = |name: &str| request.headers().get(name).and_then(|v| v.to_str().ok());
    field("want-repr-digest").or(field("want-content-digest")).and_then(digests::wanted)
}

type Lots = (tokio::sync::mpsc::Sender<Vec<Bytes>>, tokio::sync::mpsc::Receiver<Vec<Bytes>>);

/// A channel for [`feed_on`].
pub fn lots() -> Lots {
    tokio::sync::mpsc::channel(4)
}

/// Hands a body on in lots. After the last one comes an empty lot; after a broken line none.
/// If nobody takes them any more, the rest is left unread.
pub async fn feed_on(
    payload: impl Stream<Item = Result<Bytes, PayloadError>>,
    send: tokio::sync::mpsc::Sender<Vec<Bytes>>,
) {
    let mut payload = std::pin::pin!(payload);
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

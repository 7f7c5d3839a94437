//! Parts of uploads as they arrive: what came before a break counts.

use crate::engine::Engine;
use crate::engine::held::{Live, Progress, ahead};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::Actor;
use crate::fs::staging::Arriving;
use crate::ops::record::NoteSynced;
use crate::timeline::Files;
use crate::timeline::upload_ends::EXPIRY_STEP_MS;
use crate::timeline::uploads::{Joining, KEPT_MS, Upload};
use async_recursion::async_recursion as boxed;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use tokio::sync::OwnedMutexGuard;
use yellow_attic_core::rights::Level;

/// While a part arrives, what is on the disk for certain is noted this often.
pub const NOTE_EVERY: u64 = 16 << 20;

/// One part arriving. What came before a break counts.
pub struct Appending {
    pub(crate) engine: Engine,
    pub(crate) id: String,
    /// How much of it was asked to be noted as on the disk.
    pub(crate) noted: u64,
    /// Whether its bytes count before all of the part is there.
    pub(crate) counts_early: bool,
    pub(crate) arriving: Option<Arriving>,
    /// Where it began, for taking it back.
    pub(crate) began: (blake3::Hasher, u64),
    pub(crate) progress: OwnedMutexGuard<Progress>,
    pub(crate) leave: Arc<AtomicBool>,
    pub(crate) size: u64,
    /// Whether `size` is only the most that it may be.
    pub(crate) open_length: bool,
    /// Of one that grows: up to here it is spoken for.
    pub(crate) grows: Option<u64>,
}

impl Appending {
    /// Writes a piece. Blocks. More than was announced is refused.
    pub fn write(&mut self, piece: &[u8]) -> Result<()> {
        let Some(arriving) = &mut self.arriving else { return Ok(()) };
        if self.leave.load(Ordering::SeqCst) {
            return Err(StoreError::TakenOver);
        }
        if arriving.size() + piece.len() as u64 > self.size {
            return Err(match self.open_length {
                true => StoreError::TooLarge(self.size),
                false => StoreError::MoreThanAnnounced(self.size),
            });
        }
        if let Some(upto) = &mut self.grows
            && arriving.size() + piece.len() as u64 > *upto
        {
            // The next stretch: refused before it is written, where there is no room for it.
            let more = ahead(self.size - *upto, true).max(piece.len() as u64);
            arriving.speak_for(more)?;
            if let Some(claim) = self.engine.shared.uploads.1.lock().get_mut(&self.id) {
                claim.grow(more)?;
            }
            *upto += more;
        }
        arriving.write(piece)?;
        if self.counts_early && arriving.size() - self.noted >= NOTE_EVERY {
            self.noted = arriving.size();
            let (upload, file, size) = (self.id.clone(), arriving.file()?, arriving.size());
            // Nobody waits for it: a full queue means that the next one is noted.
            self.engine.ask_later(NoteSynced { upload, file, size });
        }
        Ok(())
    }

    /// A part whose bytes are checked as a whole: none of them counts before, after a power cut neither.
    pub fn counts_only_whole(&mut self) {
        self.counts_early = false;
    }

    /// How many bytes there are.
    pub fn size(&self) -> u64 {
        self.arriving.as_ref().map_or(0, Arriving::size)
    }

    /// Takes the whole part back: other bytes came than were announced. Blocks.
    pub fn take_back(&mut self) -> Result<()> {
        match &mut self.arriving {
            Some(arriving) => arriving.back_to(self.began.0.clone(), self.began.1),
            None => Ok(()),
        }
    }

    /// Ends the part once what arrived is on the disk, and noted so; returns how many bytes there are now. A power cut
    /// after the answer takes none of them away.
    #[boxed]
    pub async fn pause(mut self) -> Result<u64> {
        let Some(arriving) = &self.arriving else { return Ok(0) };
        let (upload, file, size) = (self.id.clone(), arriving.file()?, arriving.size());
        self.engine.ask(NoteSynced { upload, file, size }).await?;
        self.set_aside();
        Ok(size)
    }

    pub fn set_aside(&mut self) {
        if let Some(arriving) = self.arriving.take() {
            let (hasher, size, room) = arriving.set_aside();
            self.progress.hashed = Some((hasher, size));
            self.progress.room = Some(room);
        }
    }
}

impl Drop for Appending {
    fn drop(&mut self) {
        self.set_aside();
    }
}

impl Files {
    /// Waits until nobody writes to an upload, and takes over from whoever does: a sender whose
    /// line broke comes back before the service has noticed.
    pub(crate) async fn take_over(&self, upload: &Upload) -> Result<(Arc<Live>, OwnedMutexGuard<Progress>)> {
        let live = upload.live(&self.0.shared.uploads, &self.0.shared.staging);
        live.leave.lock().store(true, Ordering::SeqCst);
        let wait = std::time::Duration::from_secs(30);
        let progress = tokio::time::timeout(wait, live.progress.clone().lock_owned())
            .await
            .map_err(|_| StoreError::Busy)?;
        Ok((live, progress))
    }

    /// How far an upload is, once nobody writes to it any more.
    #[boxed]
    pub async fn settle_upload(&self, actor: &Actor, id: &str) -> Result<Upload> {
        let upload = self.upload(actor, id).await?;
        if upload.node.is_none() {
            drop(self.take_over(&upload).await?);
        }
        self.upload(actor, id).await
    }

    /// Goes on with an upload at an offset, which must be where it is.
    #[boxed]
    pub async fn append(&self, actor: &Actor, id: &str, offset: u64) -> Result<Appending> {
        let upload = self.upload(actor, id).await?;
        // Taken meanwhile, it can still be put under another name: only the folder counts until the end.
        if upload.new.joining != Joining::Part
            && self.chain(actor, upload.new.parent, Level::Add).await.is_err()
        {
            self.check_put(actor, upload.new.parent, &upload.new.name).await?;
        }
        let (live, mut progress) = self.take_over(&upload).await?;
        // Another sender may have moved on, or finished, while this one waited.
        let upload = self.upload(actor, id).await?;
        if upload.received != offset || upload.node.is_some() {
            return Err(StoreError::WrongOffset { offset, present: upload.received });
        }
        self.0.check_room(0)?;
        let leave = Arc::new(AtomicBool::new(false));
        *live.leave.lock() = leave.clone();
        let (hashed, staging) = (progress.hashed.take(), self.0.shared.staging.clone());
        let left = upload.new.size - upload.received;
        // Of one that grows as much as has arrived is spoken for, and a little more.
        let room = match (progress.room.take(), upload.grows()) {
            (Some(room), false) => room,
            (_, grows) => staging.reserve(ahead(left, grows)),
        };
        if upload.grows() {
            let claim =
                self.0.space().claim(upload.new.parent, upload.received + ahead(left, true), 0).await?;
            self.0.shared.uploads.1.lock().insert(upload.id.clone(), claim);
        }
        let content = upload.content;
        let arriving = tokio::task::spawn_blocking(move || staging.resume(content, hashed, room))
            .await
            .map_err(|_| StoreError::Stopping)??;
        self.prolong(&upload).await?;
        let began = arriving.so_far();
        let began_at = began.1;
        let grows = upload.grows().then_some(began_at + ahead(left, true));
        Ok(Appending {
            engine: self.0.clone(),
            id: upload.id,
            noted: began.1,
            counts_early: true,
            arriving: Some(arriving),
            began,
            progress,
            leave,
            size: upload.new.size,
            open_length: upload.new.open_length,
            grows,
        })
    }

    /// Says how long an upload is whose length was open. Less than has arrived is refused, and changes nothing.
    #[boxed]
    pub async fn tell_length(&self, actor: &Actor, id: &str, size: u64) -> Result<()> {
        let upload = self.upload(actor, id).await?;
        let (_, mut progress) = self.take_over(&upload).await?;
        // Told meanwhile, it stays as it was told.
        let upload = self.upload(actor, id).await?;
        if !upload.new.open_length {
            return match upload.new.size == size {
                true => Ok(()),
                false => Err(StoreError::LengthKnown(upload.new.size)),
            };
        }
        if size < upload.received {
            return Err(StoreError::MoreThanAnnounced(size));
        }
        if size > upload.new.size {
            return Err(StoreError::TooLarge(upload.new.size));
        }
        self.0.check_room(size - upload.received)?;
        // What was spoken for piece by piece is part of it, and is not counted beside it.
        drop(self.0.shared.uploads.1.lock().remove(&upload.id));
        let claim = self.0.space().claim(upload.new.parent, size, 0).await?;
        let its_id = upload.id.clone();
        self.catalogue(actor, move |conn| {
            Box::pin(async move {
                sqlx::query("UPDATE uploads SET size = ?, open_length = 0 WHERE id = ? AND open_length")
                    .bind(size as i64)
                    .bind(its_id)
                    .execute(conn)
                    .await?;
                Ok(())
            })
        })
        .await?;
        progress.room = Some(self.0.shared.staging.reserve(size - upload.received));
        self.0.shared.uploads.1.lock().insert(upload.id, claim);
        Ok(())
    }

    pub(crate) async fn prolong(&self, upload: &Upload) -> Result<()> {
        let until = self.0.now_ms() + KEPT_MS;
        if until - upload.expires_at < EXPIRY_STEP_MS {
            return Ok(());
        }
        let id = upload.id.clone();
        self.catalogue(&Actor::service(), move |conn| {
            Box::pin(async move {
                sqlx::query("UPDATE uploads SET expires_at = ? WHERE id = ?")
                    .bind(until)
                    .bind(id)
                    .execute(conn)
                    .await?;
                Ok(())
            })
        })
        .await
    }
}

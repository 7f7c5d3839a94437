//! Bytes on their way in: written to `staging/` and hashed as they pass.

use crate::fs::disk::{Disk, Look, content_name, look_at_open, set_mtime};
use crate::fs::error::{Result, StoreError};
use std::fs::File;
use std::io::{Read, Write};
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};
use yellow_attic_core::ContentId;

/// Bodies up to this size are kept in memory until their group is written.
pub const SMALL: usize = 64 * 1024;
/// Large bodies are flushed this often, so that one sync does not wait for gigabytes.
const FLUSH_EVERY: u64 = 16 * 1024 * 1024;

/// Gives out the names in staging and guards the reserve of space.
pub struct Staging {
    disk: Arc<Disk>,
    next: AtomicI64,
    /// Bytes announced that have not arrived yet: spoken for, so that uploads side by side
    /// cannot fill the disk together.
    reserved: AtomicI64,
}

/// Bytes that have all arrived. Dropped without being taken over, they leave staging again.
#[must_use]
pub struct Staged {
    /// The content that they will be.
    pub id: ContentId,
    /// BLAKE3.
    pub hash: [u8; 32],
    /// How many bytes.
    pub size: i64,
    pub(crate) bytes: Bytes,
    /// How much like noise they look, if that was seen while they were in memory.
    noise: Option<u16>,
    disk: Arc<Disk>,
    pub(crate) kept: bool,
}

pub(crate) enum Bytes {
    Memory(Vec<u8>),
    Disk(File),
}

/// Bytes that are still arriving.
#[must_use]
pub struct Arriving {
    staged: Staged,
    hasher: blake3::Hasher,
    flushed: u64,
    room: Room,
    staging: Arc<Staging>,
}

/// Room on the disk that is spoken for; given back when dropped.
pub(crate) struct Room {
    staging: Arc<Staging>,
    left: i64,
}

impl Room {
    fn arrived(&mut self, bytes: usize) {
        let bytes = (bytes as i64).min(self.left);
        self.left -= bytes;
        self.staging.reserved.fetch_sub(bytes, Ordering::Relaxed);
    }
}

impl Room {
    /// Bytes that had arrived are to come again.
    fn back(&mut self, bytes: u64) {
        self.left += bytes as i64;
        self.staging.reserved.fetch_add(bytes as i64, Ordering::Relaxed);
    }
}

impl Drop for Room {
    fn drop(&mut self) {
        self.staging.reserved.fetch_sub(self.left, Ordering::Relaxed);
    }
}

impl Staging {
    pub(crate) fn new(disk: Arc<Disk>, last: i64) -> Staging {
        Staging { disk, next: AtomicI64::new(last + 1), reserved: AtomicI64::new(0) }
    }

    /// The last id that was given out.
    pub(crate) fn last_id(&self) -> i64 {
        self.next.load(Ordering::SeqCst) - 1
    }

    pub(crate) fn next_id(&self) -> ContentId {
        ContentId(self.next.fetch_add(1, Ordering::SeqCst))
    }

    /// Refuses what would eat into the reserve: 256 MiB and 4,096 files, or 2 % of a small disk.
    pub fn check_room(&self, wanted: u64) -> Result<()> {
        let ((free, total), files) =
            self.disk.has_room_for().map_err(|e| StoreError::io("asking for free space", &e))?;
        if let Some((free, total)) = files {
            let reserve = 4_096.min(total / 50);
            if free < reserve {
                return Err(StoreError::NoMoreFiles { free, reserve });
            }
        }
        let reserve = (256u64 << 20).min(total / 50);
        let spoken_for = u64::try_from(self.reserved.load(Ordering::Relaxed)).unwrap_or(0);
        if free < reserve.saturating_add(wanted).saturating_add(spoken_for) {
            return Err(StoreError::DiskFull { free, reserve });
        }
        Ok(())
    }

    /// Speaks for bytes that will arrive.
    pub(crate) fn reserve(self: &Arc<Staging>, bytes: u64) -> Room {
        let left = i64::try_from(bytes).unwrap_or(i64::MAX);
        self.reserved.fetch_add(left, Ordering::Relaxed);
        Room { staging: self.clone(), left }
    }

    /// Bytes that are spoken for.
    pub fn reserved(&self) -> u64 {
        u64::try_from(self.reserved.load(Ordering::Relaxed)).unwrap_or(0)
    }

    /// Takes a small body as a whole.
    pub fn small(&self, bytes: Vec<u8>) -> Staged {
        Staged {
            id: self.next_id(),
            hash: *blake3::hash(&bytes).as_bytes(),
            size: bytes.len() as i64,
            noise: Some(yellow_attic_core::mass::noise(&bytes)),
            bytes: Bytes::Memory(bytes),
            disk: self.disk.clone(),
            kept: false,
        }
    }

    /// A copy of a file, sharing its blocks where the file system can. The hash is of what
    /// was copied. Blocks.
    pub fn copy_of(self: &Arc<Staging>, from: &mut File) -> Result<Staged> {
        use std::os::fd::AsRawFd;
        let size = from.metadata().map_err(|e| StoreError::io("looking at a file", &e))?.len();
        if size <= SMALL as u64 {
            let mut bytes = Vec::new();
            from.read_to_end(&mut bytes).map_err(|e| StoreError::io("reading a file", &e))?;
            return Ok(self.small(bytes));
        }
        let mut arriving = self.begin(size)?;
        if let Bytes::Disk(to) = &mut arriving.staged.bytes
            && crate::fs::syscalls::reflink(from.as_raw_fd(), to.as_raw_fd())
        {
            let (hash, size) = hash_file(to).map_err(|e| StoreError::io("hashing a copy", &e))?;
            self.disk.sync(&*to).map_err(|e| StoreError::io("syncing a copy", &e))?;
            arriving.staged.hash = hash;
            arriving.staged.size = size as i64;
            return Ok(arriving.staged);
        }
        let mut buffer = vec![0; 256 * 1024];
        loop {
            match from.read(&mut buffer).map_err(|e| StoreError::io("reading a file", &e))? {
                0 => return arriving.finish(),
                n => arriving.write(&buffer[..n])?,
            }
        }
    }

    /// Begins a body of any size. `announced` is checked against the free space at once.
    pub fn begin(self: &Arc<Staging>, announced: u64) -> Result<Arriving> {
        self.check_room(announced)?;
        let id = self.next_id();
        let file = self
            .disk
            .make_staged(&content_name(id))
            .map_err(|e| StoreError::io("making a staged file", &e))?;
        Ok(Arriving {
            staged: Staged {
                id,
                hash: [0; 32],
                size: 0,
                bytes: Bytes::Disk(file),
                noise: None,
                disk: self.disk.clone(),
                kept: false,
            },
            hasher: blake3::Hasher::new(),
            flushed: 0,
            room: self.reserve(announced),
            staging: self.clone(),
        })
    }

    /// Makes the file of an upload that arrives in parts, durably: its row must not speak of a file that a power cut
    /// takes away. Blocks.
    pub(crate) fn make_upload(&self) -> Result<ContentId> {
        let id = self.next_id();
        let made = self.disk.make_staged(&content_name(id)).and_then(|file| match self.disk.is_journaled() {
            true => self.disk.commit_journal(),
            false => self.disk.sync(&file).and_then(|()| self.disk.sync(&self.disk.staging)),
        });
        made.map_err(|e| StoreError::io("making a staged file", &e))?;
        Ok(id)
    }

    /// Cuts the file of an upload back to what is on the disk for certain, and tells how much there is: behind that a
    /// power cut may have left zeros. None: the file is gone.
    pub(crate) fn cut_upload(&self, id: ContentId, synced: i64) -> Result<Option<u64>> {
        let failed = |e: &std::io::Error| StoreError::io("cutting an upload back", e);
        let file = match self.disk.reopen_staged(&content_name(id)) {
            Ok(file) => file,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            Err(e) => return Err(failed(&e)),
        };
        let there = file.metadata().map_err(|e| failed(&e))?.len();
        let certain = u64::try_from(synced).map_or(there, |synced| synced.min(there));
        if certain < there {
            self.disk.step("cut an upload back").map_err(|e| failed(&e))?;
            file.set_len(certain).map_err(|e| failed(&e))?;
        }
        Ok(Some(certain))
    }

    /// Goes on with an upload where it stopped. What arrived before is hashed again unless
    /// `known` has its hash so far. Blocks. The bytes stay in staging whatever becomes of this.
    pub(crate) fn resume(
        self: &Arc<Staging>,
        id: ContentId,
        known: Option<(blake3::Hasher, u64)>,
        room: Room,
    ) -> Result<Arriving> {
        let io = |e: &std::io::Error| StoreError::io("going on with an upload", e);
        let mut file = self.disk.reopen_staged(&content_name(id)).map_err(|e| io(&e))?;
        let there = file.metadata().map_err(|e| io(&e))?.len();
        let hasher = match known.filter(|(_, size)| *size == there) {
            Some((hasher, _)) => hasher,
            None => hash_so_far(&mut file).map_err(|e| io(&e))?,
        };
        std::io::Seek::seek(&mut file, std::io::SeekFrom::Start(there)).map_err(|e| io(&e))?;
        let staged = Staged {
            id,
            hash: [0; 32],
            size: there as i64,
            bytes: Bytes::Disk(file),
            noise: None,
            disk: self.disk.clone(),
            kept: true,
        };
        Ok(Arriving { staged, hasher, flushed: there, room, staging: self.clone() })
    }
}

impl Arriving {
    /// Writes and hashes a piece. Blocks.
    pub fn write(&mut self, piece: &[u8]) -> Result<()> {
        let Bytes::Disk(file) = &mut self.staged.bytes else { return Ok(()) };
        if let Err(e) = file.write_all(piece) {
            // Half a piece: file and hash must say the same.
            let _ = file.set_len(self.staged.size as u64);
            return Err(StoreError::io("writing to staging", &e));
        }
        self.hasher.update(piece);
        self.staged.size += piece.len() as i64;
        self.room.arrived(piece.len());
        if self.staged.size as u64 - self.flushed >= FLUSH_EVERY {
            start_flush(file, self.flushed, self.staged.size as u64 - self.flushed);
            self.flushed = self.staged.size as u64;
            self.staging.check_room(0)?;
        }
        Ok(())
    }

    /// Speaks for more bytes that will arrive, if there is room for them.
    pub(crate) fn speak_for(&mut self, bytes: u64) -> Result<()> {
        self.staging.check_room(bytes)?;
        self.room.back(bytes);
        Ok(())
    }

    /// How many bytes have arrived.
    pub fn size(&self) -> u64 {
        self.staged.size as u64
    }

    /// What has arrived so far, for going back to it.
    pub(crate) fn so_far(&self) -> (blake3::Hasher, u64) {
        (self.hasher.clone(), self.staged.size as u64)
    }

    /// Drops what arrived after a place.
    pub(crate) fn back_to(&mut self, hasher: blake3::Hasher, size: u64) -> Result<()> {
        let Bytes::Disk(file) = &mut self.staged.bytes else { return Ok(()) };
        let failed = |e: std::io::Error| StoreError::io("dropping a part of staged bytes", &e);
        file.set_len(size).map_err(failed)?;
        std::io::Seek::seek(file, std::io::SeekFrom::Start(size)).map_err(failed)?;
        self.room.back(self.staged.size as u64 - size);
        (self.hasher, self.staged.size, self.flushed) = (hasher, size as i64, self.flushed.min(size));
        Ok(())
    }

    /// Waits until what arrived is on the disk. Blocks.
    pub(crate) fn sync(&self) -> Result<()> {
        let Bytes::Disk(file) = &self.staged.bytes else { return Ok(()) };
        self.staged.disk.sync(file).map_err(|e| StoreError::io("syncing staged bytes", &e))
    }

    /// The file that is written to.
    pub(crate) fn file(&self) -> Result<File> {
        match &self.staged.bytes {
            Bytes::Disk(file) => file.try_clone().map_err(|e| StoreError::io("going on with an upload", &e)),
            Bytes::Memory(_) => Err(StoreError::Stopping),
        }
    }

    /// The hash of all that arrived.
    pub(crate) fn hash(&self) -> [u8; 32] {
        *self.hasher.finalize().as_bytes()
    }

    /// Nothing more comes for now: what a later part needs to go on.
    pub(crate) fn set_aside(self) -> (blake3::Hasher, u64, Room) {
        (self.hasher, self.staged.size as u64, self.room)
    }

    /// All bytes are here. A large file is synced here, where nobody else waits for it; a
    /// smaller one with the group in which it is put. Blocks.
    pub fn finish(mut self) -> Result<Staged> {
        if self.size() > FLUSH_EVERY / 2 {
            self.sync()?;
        }
        self.staged.hash = self.hash();
        Ok(self.staged)
    }
}

impl Staged {
    /// How much like noise the bytes look (`core::mass`). Blocks.
    pub(crate) fn noise(&self) -> u16 {
        use std::os::unix::fs::FileExt;
        match (&self.bytes, self.noise) {
            (_, Some(noise)) => noise,
            (Bytes::Memory(bytes), None) => yellow_attic_core::mass::noise(bytes),
            (Bytes::Disk(file), None) => {
                let parts = yellow_attic_core::mass::samples(u64::try_from(self.size).unwrap_or(0));
                let read = parts.into_iter().map(|(from, length)| {
                    let mut part = vec![0; length];
                    let n = file.read_at(&mut part, from).unwrap_or(0);
                    part.truncate(n);
                    part
                });
                let read: Vec<Vec<u8>> = read.collect();
                yellow_attic_core::mass::noise_of(&read.iter().map(Vec::as_slice).collect::<Vec<_>>())
            }
        }
    }

    /// Brings the bytes to the disk, and tells what lies there. The caller syncs the whole batch.
    pub(crate) fn lie_down(&mut self, mtime: i64) -> Result<StagedContent> {
        let look = self.write_out(mtime).map_err(|e| StoreError::io("writing staged bytes", &e))?;
        Ok(StagedContent {
            id: self.id,
            hash: self.hash,
            size: self.size,
            noise: self.noise(),
            object: look.id,
        })
    }

    /// Brings the bytes to the disk, if they are not there, with their time of modification.
    /// The caller syncs the whole batch.
    pub(crate) fn write_out(&mut self, mtime: i64) -> std::io::Result<Look> {
        if let Bytes::Memory(bytes) = &self.bytes {
            let mut file = self.disk.make_staged(&content_name(self.id))?;
            // From here on the name in staging is ours to drop.
            let written = self.disk.step("write staged bytes").and_then(|()| file.write_all(bytes));
            self.bytes = Bytes::Disk(file);
            written?;
        }
        let Bytes::Disk(file) = &self.bytes else { unreachable!("just written") };
        set_mtime(file, mtime)?;
        look_at_open(file)
    }

    /// Asks the kernel to begin writing.
    pub(crate) fn start_flush(&self) {
        if let Bytes::Disk(file) = &self.bytes {
            start_flush(file, 0, 0);
        }
    }

    /// Brings the bytes to the disk, for one commit of the journal to make them durable.
    pub(crate) fn write_back(&self, disk: &Disk) -> std::io::Result<()> {
        match &self.bytes {
            Bytes::Disk(file) => disk.write_back(file),
            Bytes::Memory(_) => Ok(()),
        }
    }

    /// Waits until the bytes are on the disk.
    pub(crate) fn sync(&self, disk: &Disk) -> std::io::Result<()> {
        match &self.bytes {
            Bytes::Disk(file) => disk.sync(file),
            Bytes::Memory(_) => Ok(()),
        }
    }

    /// The catalogue answers for the bytes from here on.
    pub(crate) fn keep(mut self) {
        self.kept = true;
    }
}

impl Drop for Staged {
    fn drop(&mut self) {
        if !self.kept && matches!(self.bytes, Bytes::Disk(_)) {
            // A leftover is swept at the next start.
            let _ = self.disk.drop_staged(&content_name(self.id), false);
        }
    }
}

/// Asks the kernel to begin writing, without waiting for it.
fn start_flush(file: &File, from: u64, length: u64) {
    use std::os::fd::AsRawFd;
    crate::fs::syscalls::start_writeback(file.as_raw_fd(), from, length);
}

fn hash_so_far(file: &mut File) -> std::io::Result<blake3::Hasher> {
    let mut hasher = blake3::Hasher::new();
    // Zeroing a large buffer would cost more than hashing a small file.
    let size = file.metadata().map_or(u64::MAX, |m| m.len() + 1);
    let mut buffer = vec![0; size.clamp(512, 256 * 1024) as usize];
    loop {
        match file.read(&mut buffer)? {
            0 => return Ok(hasher),
            n => hasher.update(&buffer[..n]),
        };
    }
}

/// Hashes a file from its beginning. Returns the hash and the bytes read.
pub(crate) fn hash_file(file: &mut File) -> std::io::Result<([u8; 32], u64)> {
    let hasher = hash_so_far(file)?;
    Ok((*hasher.finalize().as_bytes(), hasher.count()))
}

/// Bytes that lie in staging, synced.
pub(crate) struct StagedContent {
    pub id: ContentId,
    pub hash: [u8; 32],
    pub size: i64,
    pub noise: u16,
    pub object: crate::fs::disk::ObjectId,
}

//! Bytes on their way in: written to `staging/` and hashed as they pass.

use crate::disk::{Disk, Look, content_name, look_at_open, set_mtime};
use crate::error::{Result, StoreError};
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
    disk: Arc<Disk>,
    kept: bool,
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
    staging: Arc<Staging>,
}

impl Staging {
    pub(crate) fn new(disk: Arc<Disk>, last: i64) -> Staging {
        Staging { disk, next: AtomicI64::new(last + 1) }
    }

    pub(crate) fn next_id(&self) -> ContentId {
        ContentId(self.next.fetch_add(1, Ordering::Relaxed))
    }

    /// Refuses what would eat into the reserve: 256 MiB, or 2 % of a small disk.
    pub fn check_room(&self, wanted: u64) -> Result<()> {
        let (free, total) = self.disk.space().map_err(|e| StoreError::io("asking for free space", &e))?;
        let reserve = (256u64 << 20).min(total / 50);
        if free < reserve.saturating_add(wanted) {
            return Err(StoreError::DiskFull { free, reserve });
        }
        Ok(())
    }

    /// Takes a small body as a whole.
    pub fn small(&self, bytes: Vec<u8>) -> Staged {
        Staged {
            id: self.next_id(),
            hash: *blake3::hash(&bytes).as_bytes(),
            size: bytes.len() as i64,
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
            && crate::kernel::reflink(from.as_raw_fd(), to.as_raw_fd())
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
                disk: self.disk.clone(),
                kept: false,
            },
            hasher: blake3::Hasher::new(),
            flushed: 0,
            staging: self.clone(),
        })
    }
}

impl Arriving {
    /// Writes and hashes a piece. Blocks.
    pub fn write(&mut self, piece: &[u8]) -> Result<()> {
        let Bytes::Disk(file) = &mut self.staged.bytes else { return Ok(()) };
        file.write_all(piece).map_err(|e| StoreError::io("writing to staging", &e))?;
        self.hasher.update(piece);
        self.staged.size += piece.len() as i64;
        if self.staged.size as u64 - self.flushed >= FLUSH_EVERY {
            start_flush(file, self.flushed, self.staged.size as u64 - self.flushed);
            self.flushed = self.staged.size as u64;
            self.staging.check_room(0)?;
        }
        Ok(())
    }

    /// How many bytes have arrived.
    pub fn size(&self) -> u64 {
        self.staged.size as u64
    }

    /// All bytes are here: syncs them. Blocks.
    pub fn finish(mut self) -> Result<Staged> {
        let Bytes::Disk(file) = &self.staged.bytes else { return Ok(self.staged) };
        self.staged.disk.sync(file).map_err(|e| StoreError::io("syncing staged bytes", &e))?;
        self.staged.hash = *self.hasher.finalize().as_bytes();
        Ok(self.staged)
    }
}

impl Staged {
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
    crate::kernel::start_writeback(file.as_raw_fd(), from, length);
}

/// Hashes a file from its beginning. Returns the hash and the bytes read.
pub(crate) fn hash_file(file: &mut File) -> std::io::Result<([u8; 32], u64)> {
    let mut hasher = blake3::Hasher::new();
    let mut buffer = vec![0; 256 * 1024];
    let mut size = 0;
    loop {
        let n = file.read(&mut buffer)?;
        if n == 0 {
            return Ok((*hasher.finalize().as_bytes(), size));
        }
        hasher.update(&buffer[..n]);
        size += n as u64;
    }
}

//! One content of which blocks lie here: each with a checksum, and the whole looked at by its hash.

use parking_lot::Mutex;
use std::collections::{HashMap, VecDeque};
use std::fs::File;
use std::io;
use std::ops::Range;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use tokio::sync::watch;
use yellow_attic_core::merge::Hash;
use yellow_attic_core::mounted::ahead::{BLOCK, blocks};
use yellow_attic_core::mounted::room::Thing;

/// How far one request is.
#[derive(Clone, Copy, Default)]
pub(super) struct Got {
    /// The first block that is not there yet.
    pub(super) next: u64,
    /// Why no more come.
    pub(super) failed: Option<i32>,
}

pub(super) type Coming = watch::Receiver<Got>;

/// A content of which blocks may lie here.
pub(super) struct Content {
    pub(super) hash: Hash,
    /// In bytes.
    pub(super) size: u64,
    bytes: File,
    sums: File,
    pub(super) known: Mutex<Known>,
    /// Whether the whole was looked at by its hash.
    pub(super) proved: AtomicBool,
    /// As far as that was done while blocks came in order.
    proving: Mutex<Proving>,
}

/// The hash of a content's first blocks.
#[derive(Default)]
struct Proving {
    hasher: blake3::Hasher,
    next: u64,
}

pub(super) struct Known {
    pub(super) sums: Vec<u64>,
    here: u64,
    /// In which order they came.
    order: VecDeque<u64>,
    pub(super) coming: HashMap<u64, Coming>,
}

pub(super) fn sum_of(block: &[u8]) -> u64 {
    let hash = blake3::hash(block);
    let mut first = [0; 8];
    first.copy_from_slice(&hash.as_bytes()[..8]);
    // None is 0: that is a block that is not here.
    u64::from_le_bytes(first).max(1)
}

pub(super) fn length_of(size: u64, block: u64) -> usize {
    (size - block * BLOCK).min(BLOCK) as usize
}

pub(super) fn name_of(hash: &Hash) -> String {
    blake3::Hash::from_bytes(*hash).to_hex().to_string()
}

impl Content {
    pub(super) fn open(folder: &Path, hash: Hash, size: u64) -> io::Result<Content> {
        let name = name_of(&hash);
        let shelf = folder.join(&name[..2]);
        std::fs::create_dir_all(&shelf)?;
        let open = |name: String| {
            File::options().read(true).write(true).create(true).truncate(false).open(shelf.join(name))
        };
        let (bytes, sums) = (open(name.clone())?, open(format!("{name}.sums"))?);
        if bytes.metadata()?.len() != size {
            bytes.set_len(0)?;
            bytes.set_len(size)?;
            sums.set_len(0)?;
        }
        let count = size.div_ceil(BLOCK);
        let mut kept = vec![0; (count * 8) as usize];
        let length = sums.metadata()?.len().min(count * 8) as usize;
        sums.read_exact_at(&mut kept[..length], 0)?;
        let sums_here: Vec<u64> =
            kept.as_chunks::<8>().0.iter().map(|sum| u64::from_le_bytes(*sum)).collect();
        let order: VecDeque<u64> = (0..count).filter(|n| sums_here[*n as usize] != 0).collect();
        let known = Known { sums: sums_here, here: order.len() as u64, order, coming: HashMap::new() };
        let (known, proving) = (Mutex::new(known), Mutex::default());
        Ok(Content { hash, size, bytes, sums, known, proved: AtomicBool::new(false), proving })
    }

    pub(super) fn thing(&self) -> Thing {
        Thing::Blocks(self.hash)
    }

    pub(super) fn has(&self, block: u64) -> bool {
        self.known.lock().sums.get(block as usize).is_some_and(|sum| *sum != 0)
    }

    /// A block as it lies here; none if it does not, or was damaged.
    pub(super) fn block(&self, block: u64, into: &mut Vec<u8>) -> bool {
        let sum = self.known.lock().sums.get(block as usize).copied().unwrap_or(0);
        if sum == 0 {
            return false;
        }
        into.resize(length_of(self.size, block), 0);
        let good = self.bytes.read_exact_at(into, block * BLOCK).is_ok() && sum_of(into) == sum;
        if !good {
            self.lose(block);
        }
        good
    }

    fn lose(&self, block: u64) {
        let mut known = self.known.lock();
        if let Some(sum) = known.sums.get_mut(block as usize).filter(|sum| **sum != 0) {
            *sum = 0;
            known.here -= 1;
            let _ = self.sums.write_all_at(&[0; 8], block * 8);
        }
        // Whoever goes on with the hash asks what is known while it does: never the other way round.
        drop(known);
        self.unproved();
    }

    /// What comes instead of what went is not what was looked at.
    fn unproved(&self) {
        self.proved.store(false, Ordering::Relaxed);
        *self.proving.lock() = Proving::default();
    }

    /// Goes on with the hash of the whole, if this block is the next of it, as far as blocks lie here.
    fn prove_with(&self, block: u64, bytes: &[u8]) {
        // Whoever has it takes this block as well.
        let Some(mut proving) = self.proving.try_lock() else { return };
        if proving.next != block {
            return;
        }
        proving.hasher.update(bytes);
        proving.next += 1;
        let mut more = Vec::new();
        while self.has(proving.next) {
            more.resize(length_of(self.size, proving.next), 0);
            if self.bytes.read_exact_at(&mut more, proving.next * BLOCK).is_err() {
                return;
            }
            proving.hasher.update(&more);
            proving.next += 1;
        }
    }

    /// Bytes as they lie here; none if any of them does not.
    pub(super) fn read_here(&self, at: Range<u64>) -> Option<Vec<u8>> {
        let at = at.start..at.end.min(self.size);
        let mut bytes = Vec::with_capacity((at.end.saturating_sub(at.start)) as usize);
        let mut block = Vec::new();
        for number in blocks(at.clone()) {
            if !self.block(number, &mut block) {
                return None;
            }
            let begins = number * BLOCK;
            let from = at.start.saturating_sub(begins).min(block.len() as u64) as usize;
            let to = (at.end - begins).min(block.len() as u64) as usize;
            bytes.extend_from_slice(&block[from..to]);
        }
        Some(bytes)
    }

    pub(super) fn keep(&self, block: u64, bytes: &[u8]) -> io::Result<bool> {
        let sum = sum_of(bytes);
        self.bytes.write_all_at(bytes, block * BLOCK)?;
        self.sums.write_all_at(&sum.to_le_bytes(), block * 8)?;
        let mut known = self.known.lock();
        let new = known.sums[block as usize] == 0;
        known.sums[block as usize] = sum;
        if new {
            known.here += 1;
            known.order.push_back(block);
        }
        drop(known);
        if new {
            self.prove_with(block, bytes);
        }
        Ok(new)
    }

    /// Looks at the whole by its hash; none if not all of it lies here.
    pub(super) fn is_what_it_should_be(&self) -> Option<bool> {
        let Proving { mut hasher, next } = std::mem::take(&mut *self.proving.lock());
        let mut block = Vec::new();
        for number in next..self.size.div_ceil(BLOCK) {
            if !self.block(number, &mut block) {
                return None;
            }
            hasher.update(&block);
        }
        Some(*hasher.finalize().as_bytes() == self.hash)
    }

    /// Whether all of it lies here.
    pub(super) fn is_whole(&self) -> bool {
        let known = self.known.lock();
        known.here == known.sums.len() as u64
    }

    /// How many bytes of it lie here.
    pub(super) fn here(&self) -> u64 {
        (self.known.lock().here * BLOCK).min(self.size)
    }

    /// Lets the blocks go that came first, as many bytes. How many went.
    pub(super) fn let_go(&self, bytes: u64) -> u64 {
        let mut gone = 0;
        while gone < bytes {
            let block = {
                let mut known = self.known.lock();
                let Some(block) = known.order.pop_front() else { break };
                let sum = std::mem::take(&mut known.sums[block as usize]);
                if sum == 0 {
                    continue;
                }
                known.here -= 1;
                block
            };
            let length = length_of(self.size, block) as u64;
            let _ = self.sums.write_all_at(&[0; 8], block * 8);
            let all = rustix::fs::FallocateFlags::PUNCH_HOLE | rustix::fs::FallocateFlags::KEEP_SIZE;
            let _ = rustix::fs::fallocate(&self.bytes, all, block * BLOCK, length);
            gone += length;
        }
        if gone > 0 {
            self.unproved();
        }
        gone
    }
}

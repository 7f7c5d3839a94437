//! What is known of the client's program.

use sha2::Digest as _;
use std::fs::File;
use std::io::Read;
use std::path::Path;
use std::sync::{Mutex, PoisonError};
use std::time::SystemTime;

/// How much of it is read at a time.
const PIECE: usize = 256 << 10;

/// The program as it was hashed: its size, its time, its hash.
#[derive(Default)]
pub struct Hashed(Mutex<Option<(u64, SystemTime, String)>>);

impl Hashed {
    /// Its size and its SHA-256; read again only if it has changed. Blocks.
    pub fn of(&self, path: &Path) -> std::io::Result<(u64, String)> {
        let mut file = File::open(path)?;
        let facts = file.metadata()?;
        let (size, time) = (facts.len(), facts.modified()?);
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, _, hash)) = known.as_ref().filter(|(s, t, _)| (*s, *t) == (size, time)) {
            return Ok((size, hash.clone()));
        }
        let (mut hasher, mut piece) = (sha2::Sha256::new(), vec![0; PIECE]);
        loop {
            match file.read(&mut piece)? {
                0 => break,
                n => hasher.update(&piece[..n]),
            }
        }
        let hash = yellow_attic_store::fs::disk::hex(&hasher.finalize());
        *known = Some((size, time, hash.clone()));
        Ok((size, hash))
    }
}

//! The folder that holds backups.
//!
//! ```text
//! yellow-attic-backup     which store it is of
//! contents/ab/<hash>      bytes, plain, once per BLAKE3 hash
//! packs/p<id>             packs of past contents: they grow at their end, and never change
//! incoming/               on their way; what is there when a run begins is left from one that was cut off
//! runs/<time>/            files.txt, past.txt, catalogue.db.zst, record.heads, about.json
//! ```

use crate::backup::{About, Progress};
pub(crate) use crate::fs::disk::content_place as place;
use crate::fs::disk::{hex, unhex};
use crate::fs::error::{Result, StoreError};
use rustix::fs::{FlockOperation, flock};
use std::collections::HashSet;
use std::fs::{self, File};
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::Ordering;

const MARK: &str = "yellow-attic-backup";
/// The mark, while it is written.
const UNFINISHED: &str = "yellow-attic-backup.new";
/// So many contents are made durable by one sync, and get their names after it.
const TOGETHER: usize = 512;

/// A backup folder, open and locked: one run, or one thinning, at a time.
pub struct Target {
    path: PathBuf,
    _lock: File,
    /// Contents that are there.
    known: HashSet<u128>,
    /// In `incoming`, with whole bytes: their hashes.
    arrived: Vec<[u8; 32]>,
}

pub(crate) fn failed(what: &Path, e: &io::Error) -> StoreError {
    StoreError::io(format!("the backup ({})", what.display()), e)
}

fn short(hash: &[u8; 32]) -> u128 {
    u128::from_be_bytes(std::array::from_fn(|i| hash[i]))
}

impl Target {
    /// Opens a folder for backups of a store, made if it is not there. Refuses one that holds something else, that is of
    /// another store, or that lies in the data folder or around it.
    pub fn open(path: &Path, store: &str, data: &Path) -> Result<Target> {
        fs::create_dir_all(path).map_err(|e| failed(path, &e))?;
        let real = path.canonicalize().map_err(|e| failed(path, &e))?;
        let data = data.canonicalize().map_err(|e| failed(data, &e))?;
        if real.starts_with(&data) || data.starts_with(&real) {
            return Err(StoreError::BadInput(format!(
                "{} and the data folder {} lie in each other: a backup goes elsewhere, best to another disk",
                path.display(),
                data.display()
            )));
        }
        let mark = real.join(MARK);
        match of_store(&real)? {
            Some(of) if of != store => {
                return Err(StoreError::BadInput(format!(
                    "{} holds backups of another store ({of}); this one is {store}. Name another folder",
                    path.display()
                )));
            }
            Some(_) => {}
            None => {
                // A stop while the mark was written leaves nothing but that.
                if names(&real)?.iter().any(|name| *name != UNFINISHED) {
                    return Err(StoreError::BadInput(format!(
                        "{} holds other things, and no backup: name an empty folder, or a new one",
                        path.display()
                    )));
                }
                let text = serde_json::json!({ "format": 1, "store": store }).to_string() + "\n";
                write_whole(&mark, text.as_bytes())?;
            }
        }
        Target::lock(real)
    }

    /// Opens a backup folder that is there.
    pub fn existing(path: &Path) -> Result<Target> {
        let real = path.canonicalize().map_err(|e| failed(path, &e))?;
        match of_store(&real)? {
            Some(_) => Target::lock(real),
            None => Err(no_backup(path)),
        }
    }

    fn lock(path: PathBuf) -> Result<Target> {
        let lock = File::open(path.join(MARK)).map_err(|e| failed(&path, &e))?;
        flock(&lock, FlockOperation::NonBlockingLockExclusive).map_err(|_| {
            StoreError::BadInput(format!("somebody else is at work in {} just now", path.display()))
        })?;
        for name in ["contents", "packs", "runs"] {
            fs::create_dir_all(path.join(name)).map_err(|e| failed(&path, &e))?;
        }
        Ok(Target { path, _lock: lock, known: HashSet::new(), arrived: Vec::new() })
    }

    pub(crate) fn path(&self) -> &Path {
        &self.path
    }

    /// What a run that was cut off has left goes; then looks what is there.
    pub(crate) fn begin(&mut self) -> Result<()> {
        let incoming = self.path.join("incoming");
        if incoming.exists() {
            fs::remove_dir_all(&incoming).map_err(|e| failed(&incoming, &e))?;
        }
        fs::create_dir(&incoming).map_err(|e| failed(&incoming, &e))?;
        for name in names(&self.path.join("runs"))? {
            let run = self.path.join("runs").join(&name);
            if !run.join("about.json").exists() {
                fs::remove_dir_all(&run).map_err(|e| failed(&run, &e))?;
            }
        }
        let shards = names(&self.path.join("contents"))?;
        for shard in shards {
            let found = names(&self.path.join("contents").join(&shard))?;
            self.known.extend(found.iter().filter_map(|name| unhex(name)).map(|hash| short(&hash)));
        }
        Ok(())
    }

    pub(crate) fn has(&self, hash: &[u8; 32]) -> bool {
        self.known.contains(&short(hash))
    }

    /// Where a content lies in it.
    pub(crate) fn place_of(&self, hash: &[u8; 32]) -> PathBuf {
        self.path.join(place(hash))
    }

    /// Takes the bytes of a content, hashing as they pass. False if they are not what the hash says: nothing is kept then.
    pub(crate) fn take(
        &mut self,
        hash: &[u8; 32],
        bytes: &mut dyn Read,
        progress: &Progress,
    ) -> Result<Option<u64>> {
        let to = self.path.join("incoming").join(hex(hash));
        let mut file = File::create(&to).map_err(|e| failed(&to, &e))?;
        let mut hasher = blake3::Hasher::new();
        let (mut size, mut part) = (0, vec![0; 1 << 17]);
        loop {
            progress.goes_on()?;
            let n = bytes.read(&mut part).map_err(|e| StoreError::io("reading what is to be copied", &e))?;
            progress.bytes.fetch_add(n as u64, Ordering::Relaxed);
            if n == 0 {
                break;
            }
            hasher.update(&part[..n]);
            file.write_all(&part[..n]).map_err(|e| failed(&to, &e))?;
            size += n as u64;
        }
        if hasher.finalize().as_bytes() != hash {
            fs::remove_file(&to).map_err(|e| failed(&to, &e))?;
            return Ok(None);
        }
        self.known.insert(short(hash));
        self.arrived.push(*hash);
        if self.arrived.len() >= TOGETHER {
            self.settle()?;
        }
        Ok(Some(size))
    }

    /// Makes durable what has arrived, and gives it its names: what has one is whole.
    pub(crate) fn settle(&mut self) -> Result<()> {
        self.sync()?;
        for hash in std::mem::take(&mut self.arrived) {
            let (from, to) = (self.path.join("incoming").join(hex(&hash)), self.place_of(&hash));
            if let Some(dir) = to.parent() {
                fs::create_dir_all(dir).map_err(|e| failed(dir, &e))?;
            }
            fs::rename(&from, &to).map_err(|e| failed(&to, &e))?;
        }
        Ok(())
    }

    pub(crate) fn sync(&self) -> Result<()> {
        let dir = File::open(&self.path).map_err(|e| failed(&self.path, &e))?;
        rustix::fs::syncfs(&dir).map_err(|e| failed(&self.path, &e.into()))
    }

    /// The runs, the newest first.
    pub fn runs(&self) -> Result<Vec<(String, About)>> {
        runs(&self.path)
    }
}

fn no_backup(path: &Path) -> StoreError {
    StoreError::BadInput(format!("{} holds no backup of Yellow Attic", path.display()))
}

/// Whether a folder holds backups.
pub fn is_backup(path: &Path) -> bool {
    path.join(MARK).exists()
}

/// Which store a folder holds backups of.
fn of_store(path: &Path) -> Result<Option<String>> {
    #[derive(serde::Deserialize)]
    struct Mark {
        format: u32,
        store: String,
    }
    let mark = path.join(MARK);
    let text = match fs::read(&mark) {
        Ok(text) => text,
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(e) => return Err(failed(&mark, &e)),
    };
    match serde_json::from_slice::<Mark>(&text) {
        Ok(found) if found.format == 1 => Ok(Some(found.store)),
        Ok(found) => Err(StoreError::BadInput(format!(
            "{} is of format {}; this version knows format 1",
            mark.display(),
            found.format
        ))),
        Err(e) => Err(StoreError::BadInput(format!("{} cannot be read: {e}", mark.display()))),
    }
}

/// The runs in a backup folder, the newest first. One whose `about.json` cannot be read is an error: it is not passed over in silence.
pub fn runs(path: &Path) -> Result<Vec<(String, About)>> {
    if of_store(path)?.is_none() {
        return Err(no_backup(path));
    }
    let mut found = Vec::new();
    for name in names(&path.join("runs"))? {
        let about = path.join("runs").join(&name).join("about.json");
        let text = match fs::read(&about) {
            Ok(text) => text,
            Err(e) if e.kind() == io::ErrorKind::NotFound => continue,
            Err(e) => return Err(failed(&about, &e)),
        };
        let read = serde_json::from_slice(&text)
            .map_err(|e| StoreError::BadInput(format!("{} cannot be read: {e}", about.display())))?;
        found.push((name, read));
    }
    found.sort_by(|a, b| b.0.cmp(&a.0));
    Ok(found)
}

/// A run by its name, or the newest.
pub fn run_of(path: &Path, name: Option<&str>) -> Result<(String, About)> {
    let all = runs(path)?;
    let found = match name {
        None => all.into_iter().next(),
        Some(name) => all.into_iter().find(|(its, _)| its == name),
    };
    found.ok_or_else(|| match name {
        None => StoreError::BadInput(format!("no run in {} has ended", path.display())),
        Some(name) => StoreError::NotFound(format!("A run called {name} in {}", path.display())),
    })
}

pub(crate) fn names(dir: &Path) -> Result<Vec<String>> {
    let mut found = Vec::new();
    let entries = match fs::read_dir(dir) {
        Ok(entries) => entries,
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(found),
        Err(e) => return Err(failed(dir, &e)),
    };
    for entry in entries {
        let entry = entry.map_err(|e| failed(dir, &e))?;
        found.extend(entry.file_name().into_string().ok());
    }
    Ok(found)
}

/// Writes a file beside its place, syncs it, then gives it its name: there is always a whole one.
pub(crate) fn write_whole(path: &Path, bytes: &[u8]) -> Result<()> {
    let new = path.with_extension("new");
    let write = || {
        let mut file = File::create(&new)?;
        file.write_all(bytes)?;
        file.sync_all()?;
        fs::rename(&new, path)?;
        path.parent().map_or(Ok(()), |dir| File::open(dir)?.sync_all())
    };
    write().map_err(|e| failed(path, &e))
}

/// BLAKE3 of a file, as text.
pub(crate) fn sum_of(path: &Path) -> Result<String> {
    let sum = || {
        let mut hasher = blake3::Hasher::new();
        hasher.update_reader(File::open(path)?)?;
        Ok(hasher.finalize().to_hex().to_string())
    };
    sum().map_err(|e| failed(path, &e))
}

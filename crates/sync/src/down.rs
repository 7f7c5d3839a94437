//! From a shelf to a local file or folder.

use crate::patience::{AGAIN, PATIENCE, may_pass, patiently};
use crate::progress::Progress;
use crate::up::{AT_ONCE, explain, hash_of};
use futures_util::StreamExt;
use std::fs::{File, Permissions};
use std::io::{Read, Write};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant, UNIX_EPOCH};
use tokio::sync::Semaphore;
use tokio::task::JoinSet;
use yellow_attic_client::{Client, Error, api};

/// Bytes written at a time.
const LOT: usize = 1 << 20;
/// Files from this size on are synced by themselves.
const EARLY: u64 = 1 << 20;

/// What a tree is fetched with.
#[derive(Clone)]
pub struct Down {
    /// The service.
    pub client: Client,
    /// Told as it goes.
    pub progress: Arc<Progress>,
    /// RFC 3339 to milliseconds since 1970.
    pub read_time: fn(&str) -> Option<i64>,
    /// As it was at this moment or time.
    pub at: Option<String>,
    /// Leave out files that are there already with the same bytes.
    pub skip_same: bool,
    /// Whether files that are there with other bytes are replaced.
    pub replace: bool,
}

impl Down {
    /// Fetches a file. It appears under its name when it is whole and its hash is right.
    pub async fn file(&self, node: &api::Node, local: &Path) -> Result<(), Error> {
        self.progress.found(node.size.max(0) as u64);
        self.fetch(node, local).await?;
        settle(local).await
    }

    /// Fetches a folder with all in it into a local folder. What cannot be fetched is told by the
    /// progress; the rest goes on.
    pub async fn tree(&self, node: &api::Node, local: &Path) -> Result<(), Error> {
        tokio::fs::create_dir_all(local).await?;
        let slots = Arc::new(Semaphore::new(AT_ONCE));
        let mut fetching = JoinSet::new();
        let mut waiting = vec![(node.id, local.to_path_buf())];
        while let Some((node, dir)) = waiting.pop() {
            let mut query = api::ListQuery { at: self.at.clone(), limit: Some(1000), ..Default::default() };
            loop {
                let page = match patiently(|| self.client.entries(node, &query)).await {
                    Ok(page) => page,
                    Err(e) => {
                        self.progress.not_taken(dir.display().to_string(), "failed", explain(&e));
                        break;
                    }
                };
                for entry in page.entries {
                    let path = dir.join(&entry.name);
                    if entry.kind == api::Kind::Folder {
                        match tokio::fs::create_dir_all(&path).await {
                            Ok(()) => waiting.push((entry.id, path)),
                            Err(e) => {
                                self.progress.not_taken(path.display().to_string(), "failed", e.to_string())
                            }
                        }
                        continue;
                    }
                    self.progress.found(entry.size.max(0) as u64);
                    let Ok(slot) = slots.clone().acquire_owned().await else { break };
                    let down = self.clone();
                    fetching.spawn(async move {
                        match down.fetch(&entry, &path).await {
                            Ok(()) => {}
                            Err(e) => down.progress.not(path.display().to_string(), "failed", explain(&e)),
                        }
                        drop(slot);
                    });
                    while fetching.try_join_next().is_some() {}
                }
                match page.next {
                    Some(next) => query.cursor = Some(next),
                    None => break,
                }
            }
        }
        while let Some(fetched) = fetching.join_next().await {
            fetched.map_err(|e| Error::Line(e.to_string()))?;
        }
        settle(local).await
    }

    async fn fetch(&self, node: &api::Node, local: &Path) -> Result<(), Error> {
        let size = node.size.max(0) as u64;
        match tokio::fs::symlink_metadata(local).await {
            Ok(there) if !there.is_file() => {
                return Err(Error::Strange("what is here under that name is no plain file; it stays".into()));
            }
            Ok(_) if (self.skip_same || !self.replace) && is_same(node, local).await => {
                self.progress.same(size);
                return Ok(());
            }
            Ok(_) if !self.replace => {
                return Err(Error::Strange(
                    "a file with other bytes is here under that name; it stays, unless --replace is given"
                        .into(),
                ));
            }
            _ => {}
        }
        let mtime = (self.read_time)(&node.modified).and_then(|ms| u64::try_from(ms).ok());
        let executable = node.executable;
        // The part of another state would be in the way; this state's is gone on with.
        let (part, local) = (part_of(local, node), local.to_path_buf());
        if !part.exists() && crate::delta::fetch_delta(self, node, &local, &part).await? {
            let (part, local) = (part.clone(), local.clone());
            work(move || {
                let file = File::options().write(true).open(&part)?;
                file.sync_data()?;
                if let Some(ms) = mtime {
                    file.set_modified(UNIX_EPOCH + Duration::from_millis(ms))?;
                }
                be_program(&file, executable)?;
                arrive(&part, &local, true)
            })
            .await?;
            self.progress.done();
            return Ok(());
        }
        let mut landing = work({
            let part = part.clone();
            move || Landing::open(part, size)
        })
        .await?;
        self.progress.kept(landing.got);
        match self.fill(node, &mut landing).await {
            // What arrived is kept for the next try.
            Err(e @ Error::Line(_)) => return Err(e),
            Err(e) => {
                let _ = tokio::fs::remove_file(&part).await;
                return Err(e);
            }
            Ok(()) => {}
        }
        let replace = self.replace;
        work(move || {
            let Some(file) = landing.file else { return Ok(()) };
            // A large file goes to the disk while others still come; the rest goes at the end.
            if size >= EARLY {
                file.sync_data()?;
            }
            if let Some(ms) = mtime {
                file.set_modified(UNIX_EPOCH + Duration::from_millis(ms))?;
            }
            be_program(&file, executable)?;
            arrive(&part, &local, replace)
        })
        .await?;
        self.progress.done();
        Ok(())
    }

    /// Writes a file's bytes into what is there already: a device, or a pipe that somebody reads. The hash is compared at
    /// the end.
    pub async fn pour_into(&self, node: &api::Node, local: &Path) -> Result<(), Error> {
        self.progress.found(node.size.max(0) as u64);
        let mut file = tokio::fs::File::options().write(true).open(local).await?;
        let mut hasher = blake3::Hasher::new();
        let stream = self.client.content(node.id, self.at.as_deref(), 0).await?;
        let mut stream = std::pin::pin!(stream);
        while let Some(piece) = stream.next().await {
            let piece = piece?;
            hasher.update(&piece);
            tokio::io::AsyncWriteExt::write_all(&mut file, &piece).await?;
            self.progress.moved(piece.len() as u64);
        }
        tokio::io::AsyncWriteExt::flush(&mut file).await?;
        if node.blake3.as_ref().is_some_and(|wanted| *wanted != hasher.finalize().to_hex().as_str()) {
            return Err(Error::Strange("the bytes that came are not those that were listed".into()));
        }
        self.progress.done();
        Ok(())
    }

    async fn fill(&self, node: &api::Node, landing: &mut Landing) -> Result<(), Error> {
        let size = node.size.max(0) as u64;
        let mut broken_since = None;
        while landing.got < size {
            let before = landing.got;
            let failed = match self.client.content(node.id, self.at.as_deref(), before).await {
                Err(e) => Some(e),
                Ok(stream) => self.pour(stream, landing).await?,
            };
            let Some(e) = failed else { break };
            if landing.got > before {
                broken_since = None;
            }
            let since = *broken_since.get_or_insert_with(Instant::now);
            if !may_pass(&e) || since.elapsed() > PATIENCE {
                self.progress.unmoved(landing.got);
                return Err(e);
            }
            tokio::time::sleep(AGAIN).await;
        }
        match &node.blake3 {
            Some(wanted) if *wanted != landing.hasher.finalize().to_hex().as_str() => {
                self.progress.unmoved(landing.got);
                Err(Error::Strange("the bytes that arrived are not those that were listed; the file changed meanwhile, fetch it again".into()))
            }
            _ => Ok(()),
        }
    }

    /// Writes what comes until the line breaks or all is there.
    async fn pour(
        &self,
        stream: impl futures_util::Stream<Item = Result<bytes::Bytes, Error>>,
        landing: &mut Landing,
    ) -> Result<Option<Error>, Error> {
        let mut stream = std::pin::pin!(stream);
        // Each write is a trip to another thread: gathered, there are few of them, and the next
        // lot comes in meanwhile.
        let (mut lot, mut held) = (Vec::new(), 0);
        let mut writing = None;
        let mut broken = None;
        loop {
            let next = stream.next().await;
            let over = !matches!(next, Some(Ok(_)));
            match next {
                Some(Ok(piece)) => {
                    held += piece.len();
                    lot.push(piece);
                }
                Some(Err(e)) => broken = Some(e),
                None => {}
            }
            if held >= LOT || over {
                if let Some(running) = writing.take() {
                    *landing = finished(running).await?;
                }
                self.progress.moved(held as u64);
                let (lot, mut there) = (std::mem::take(&mut lot), std::mem::take(landing));
                held = 0;
                writing = Some(tokio::task::spawn_blocking(move || there.write(&lot).map(|()| there)));
            }
            if over {
                break;
            }
        }
        if let Some(running) = writing {
            *landing = finished(running).await?;
        }
        Ok(broken)
    }
}

/// Runs what touches the disk off the workers.
async fn work<T: Send + 'static>(
    does: impl FnOnce() -> std::io::Result<T> + Send + 'static,
) -> Result<T, Error> {
    finished(tokio::task::spawn_blocking(does)).await
}

async fn finished<T>(running: tokio::task::JoinHandle<std::io::Result<T>>) -> Result<T, Error> {
    Ok(running.await.map_err(|e| Error::Line(e.to_string()))??)
}

/// A file on its way in.
#[derive(Default)]
struct Landing {
    file: Option<File>,
    hasher: blake3::Hasher,
    /// Bytes that are there, all of them hashed.
    got: u64,
}

impl Landing {
    /// Hashes what an earlier try left, and goes on at its end. More than the whole is begun anew.
    fn open(part: PathBuf, size: u64) -> std::io::Result<Landing> {
        let mut file = File::options().create(true).truncate(false).read(true).write(true).open(part)?;
        let mut hasher = blake3::Hasher::new();
        let mut got = file.metadata()?.len();
        if got > size {
            file.set_len(0)?;
            got = 0;
        }
        if got > 0 {
            got = std::io::copy(&mut (&mut file).take(got), &mut hasher)?;
        }
        Ok(Landing { file: Some(file), hasher, got })
    }

    fn write(&mut self, pieces: &[bytes::Bytes]) -> std::io::Result<()> {
        for piece in pieces {
            if let Some(file) = &mut self.file {
                file.write_all(piece)?;
            }
            self.hasher.update(piece);
            self.got += piece.len() as u64;
        }
        Ok(())
    }
}

/// A whole file takes its name. What has come to stand there meanwhile is not replaced unasked.
fn arrive(part: &Path, local: &Path, replace: bool) -> std::io::Result<()> {
    use rustix::fs::{CWD, RenameFlags, renameat_with};
    if replace {
        return std::fs::rename(part, local);
    }
    match renameat_with(CWD, part, CWD, local, RenameFlags::NOREPLACE) {
        Ok(()) => Ok(()),
        // A file system that cannot: looked at a moment before.
        Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) if !local.exists() => {
            std::fs::rename(part, local)
        }
        Err(e) => Err(e.into()),
    }
}

/// Whether a local file has the bytes of a state.
pub async fn is_same(node: &api::Node, local: &Path) -> bool {
    let facts = tokio::fs::symlink_metadata(local).await;
    let (Ok(facts), Some(wanted)) = (facts, &node.blake3) else { return false };
    facts.is_file() && facts.len() as i64 == node.size && hash_of(local).await.is_ok_and(|h| h == *wanted)
}

/// One sync for all that was fetched: when this returns it is on the disk.
async fn settle(local: &Path) -> Result<(), Error> {
    let local = local.to_path_buf();
    work(move || rustix::fs::syncfs(&File::open(local)?).map_err(std::io::Error::from)).await
}

/// A hidden name beside the file, of its own for each state of it.
fn part_of(local: &Path, node: &api::Node) -> PathBuf {
    let mut name = local.file_name().unwrap_or_default().to_os_string();
    // A name near the limit of the file system has no room for an ending.
    if name.len() > 240 {
        name = format!("{:x}", name.len()).into();
    }
    let mut hidden = std::ffi::OsString::from(".");
    hidden.push(&name);
    hidden.push(format!(
        ".{:x}.part",
        blake3::hash(format!("{} {:?}", local.display(), node.blake3).as_bytes()).as_bytes()[..4]
            .iter()
            .fold(0u32, |n, b| n << 8 | u32::from(*b))
    ));
    local.with_file_name(hidden)
}

/// Lets those run a program who may read it.
fn be_program(file: &File, executable: bool) -> std::io::Result<()> {
    if !executable {
        return Ok(());
    }
    let mode = file.metadata()?.permissions().mode();
    file.set_permissions(Permissions::from_mode(mode | (mode & 0o444) >> 2))
}

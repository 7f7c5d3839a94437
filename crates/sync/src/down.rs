//! From a shelf to a local file or folder.

use crate::progress::Progress;
use crate::up::{AT_ONCE, PATIENCE, explain, hash_of};
use futures_util::StreamExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant, UNIX_EPOCH};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
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
                let page = match self.client.entries(node, &query).await {
                    Ok(page) => page,
                    Err(e) => {
                        self.progress.not(dir.display().to_string(), "failed", explain(&e));
                        break;
                    }
                };
                for entry in page.entries {
                    let path = dir.join(&entry.name);
                    if entry.kind == api::Kind::Folder {
                        match tokio::fs::create_dir_all(&path).await {
                            Ok(()) => waiting.push((entry.id, path)),
                            Err(e) => self.progress.not(path.display().to_string(), "failed", e.to_string()),
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
        while fetching.join_next().await.is_some() {}
        settle(local).await
    }

    async fn fetch(&self, node: &api::Node, local: &Path) -> Result<(), Error> {
        let size = node.size.max(0) as u64;
        if self.skip_same && is_same(node, local).await {
            self.progress.same(size);
            return Ok(());
        }
        // The part of another state would be in the way; this state's is gone on with.
        let part = part_of(local, node);
        let mut file = tokio::fs::OpenOptions::new()
            .create(true)
            .truncate(false)
            .read(true)
            .write(true)
            .open(&part)
            .await?;
        match self.fill(node, &mut file).await {
            // What arrived is kept for the next try.
            Err(e @ Error::Line(_)) => return Err(e),
            Err(e) => {
                drop(file);
                let _ = tokio::fs::remove_file(&part).await;
                return Err(e);
            }
            Ok(()) => {}
        }
        file.flush().await?;
        // A large file goes to the disk while others still come; the rest goes at the end.
        if size >= EARLY {
            file.sync_data().await?;
        }
        let file = file.into_std().await;
        if let Some(ms) = (self.read_time)(&node.modified)
            && let Ok(ms) = u64::try_from(ms)
        {
            file.set_modified(UNIX_EPOCH + Duration::from_millis(ms))?;
        }
        tokio::fs::rename(&part, local).await?;
        self.progress.done();
        Ok(())
    }

    async fn fill(&self, node: &api::Node, file: &mut tokio::fs::File) -> Result<(), Error> {
        let size = node.size.max(0) as u64;
        let mut hasher = blake3::Hasher::new();
        let mut got = take_up(file, &mut hasher, size).await?;
        self.progress.moved(got);
        let mut broken_since = None;
        while got < size {
            let before = got;
            let failed = match self.client.content(node.id, self.at.as_deref(), got).await {
                Err(e) => Some(e),
                Ok(stream) => self.pour(stream, file, &mut hasher, &mut got).await?,
            };
            let Some(e) = failed else { break };
            if got > before {
                broken_since = None;
            }
            let since = *broken_since.get_or_insert_with(Instant::now);
            let may_pass = matches!(&e, Error::Line(_)) || matches!(e.code(), Some("busy" | "stopping"));
            if !may_pass || since.elapsed() > PATIENCE {
                file.flush().await?;
                self.progress.unmoved(got);
                return Err(e);
            }
            tokio::time::sleep(Duration::from_millis(500)).await;
        }
        match &node.blake3 {
            Some(wanted) if *wanted != hasher.finalize().to_hex().as_str() => {
                self.progress.unmoved(got);
                Err(Error::Strange("the bytes that arrived are not those that were listed; the file changed meanwhile, fetch it again".into()))
            }
            _ => Ok(()),
        }
    }

    /// Writes what comes until the line breaks or all is there.
    async fn pour(
        &self,
        stream: impl futures_util::Stream<Item = Result<bytes::Bytes, Error>>,
        file: &mut tokio::fs::File,
        hasher: &mut blake3::Hasher,
        got: &mut u64,
    ) -> Result<Option<Error>, Error> {
        let mut stream = std::pin::pin!(stream);
        // Each write is a trip to another thread: gathered, there are few of them.
        let mut lot: Vec<u8> = Vec::new();
        let mut broken = None;
        while broken.is_none() {
            let next = stream.next().await;
            let over = next.is_none();
            match next {
                Some(Ok(piece)) => lot.extend_from_slice(&piece),
                Some(Err(e)) => broken = Some(e),
                None => {}
            }
            if lot.len() >= LOT || over || broken.is_some() {
                hasher.update(&lot);
                file.write_all(&lot).await?;
                *got += lot.len() as u64;
                self.progress.moved(lot.len() as u64);
                lot.clear();
            }
            if over {
                break;
            }
        }
        Ok(broken)
    }
}

/// Hashes what an earlier try left, and goes on at its end. More than the whole is begun anew.
async fn take_up(file: &mut tokio::fs::File, hasher: &mut blake3::Hasher, size: u64) -> Result<u64, Error> {
    let there = file.metadata().await?.len();
    if there > size {
        file.set_len(0).await?;
        return Ok(0);
    }
    let mut piece = vec![0; if there > 0 { 1 << 20 } else { 0 }];
    let mut read = 0;
    while read < there {
        let n = file.read(&mut piece).await?;
        if n == 0 {
            break;
        }
        hasher.update(&piece[..n]);
        read += n as u64;
    }
    Ok(read)
}

async fn is_same(node: &api::Node, local: &Path) -> bool {
    let facts = tokio::fs::symlink_metadata(local).await;
    let (Ok(facts), Some(wanted)) = (facts, &node.blake3) else { return false };
    facts.is_file() && facts.len() as i64 == node.size && hash_of(local).await.is_ok_and(|h| h == *wanted)
}

/// One sync for all that was fetched: when this returns it is on the disk.
async fn settle(local: &Path) -> Result<(), Error> {
    let local = local.to_path_buf();
    let synced = tokio::task::spawn_blocking(move || {
        let file = std::fs::File::open(local)?;
        rustix::fs::syncfs(&file).map_err(std::io::Error::from)
    });
    synced.await.map_err(|e| Error::Line(e.to_string()))??;
    Ok(())
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

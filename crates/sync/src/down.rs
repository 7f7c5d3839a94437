//! From a shelf to a local file or folder.

use crate::progress::Progress;
use crate::up::{AT_ONCE, explain};
use futures_util::StreamExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, UNIX_EPOCH};
use tokio::io::AsyncWriteExt;
use tokio::sync::Semaphore;
use tokio::task::JoinSet;
use yellow_attic_client::{Client, Error, api};

/// How often a broken line is taken up again for one file.
const TRIES: u32 = 5;

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
}

impl Down {
    /// Fetches a file. It appears under its name when it is whole and its hash is right.
    pub async fn file(&self, node: &api::Node, local: &Path) -> Result<(), Error> {
        self.progress.found(node.size.max(0) as u64);
        self.fetch(node, local).await?;
        self.progress.done();
        Ok(())
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
                            Ok(()) => down.progress.done(),
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
        Ok(())
    }

    async fn fetch(&self, node: &api::Node, local: &Path) -> Result<(), Error> {
        let part = part_of(local);
        let mut file = tokio::fs::File::create(&part).await?;
        let outcome = self.fill(node, &mut file).await;
        if let Err(e) = outcome {
            drop(file);
            let _ = tokio::fs::remove_file(&part).await;
            return Err(e);
        }
        file.flush().await?;
        file.sync_all().await?;
        let file = file.into_std().await;
        if let Some(ms) = (self.read_time)(&node.modified)
            && let Ok(ms) = u64::try_from(ms)
        {
            file.set_modified(UNIX_EPOCH + Duration::from_millis(ms))?;
        }
        tokio::fs::rename(&part, local).await?;
        Ok(())
    }

    async fn fill(&self, node: &api::Node, file: &mut tokio::fs::File) -> Result<(), Error> {
        let mut hasher = blake3::Hasher::new();
        let mut got = 0u64;
        let mut broken = 0;
        loop {
            let mut stream = std::pin::pin!(self.client.content(node.id, self.at.as_deref(), got).await?);
            let mut failed = None;
            while let Some(piece) = stream.next().await {
                match piece {
                    Ok(piece) => {
                        hasher.update(&piece);
                        file.write_all(&piece).await?;
                        got += piece.len() as u64;
                        self.progress.moved(piece.len() as u64);
                    }
                    Err(e) => {
                        failed = Some(e);
                        break;
                    }
                }
            }
            let Some(e) = failed else { break };
            broken += 1;
            if broken >= TRIES {
                self.progress.unmoved(got);
                return Err(e);
            }
            tokio::time::sleep(Duration::from_millis(200 * u64::from(broken))).await;
        }
        match &node.blake3 {
            Some(wanted) if *wanted != hasher.finalize().to_hex().as_str() => {
                self.progress.unmoved(got);
                Err(Error::Strange("the bytes that arrived are not those that were listed; the file changed meanwhile, fetch it again".into()))
            }
            _ => Ok(()),
        }
    }
}

fn part_of(local: &Path) -> PathBuf {
    let mut name = local.file_name().unwrap_or_default().to_os_string();
    // A name near the limit of the file system has no room for an ending.
    if name.len() > 240 {
        name = format!("{:x}", name.len()).into();
    }
    let mut hidden = std::ffi::OsString::from(".");
    hidden.push(&name);
    hidden.push(format!(
        ".{:x}.part",
        blake3::hash(local.as_os_str().as_encoded_bytes()).as_bytes()[..4]
            .iter()
            .fold(0u32, |n, b| n << 8 | u32::from(*b))
    ));
    local.with_file_name(hidden)
}

//! A local file or folder to a shelf.

use crate::progress::Progress;
use bytes::Bytes;
use futures_util::StreamExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::UNIX_EPOCH;
use tokio::io::AsyncReadExt;
use tokio::sync::{Semaphore, mpsc};
use tokio::task::JoinSet;
use yellow_attic_client::{Body, Client, Error, When, api};

/// Files sent at a time.
pub const AT_ONCE: usize = 8;

struct Item {
    parent: i64,
    name: String,
    local: PathBuf,
    shown: String,
    size: u64,
    modified: Option<String>,
}

/// What a tree is sent with.
#[derive(Clone)]
pub struct Up {
    /// The service.
    pub client: Client,
    /// Told as it goes.
    pub progress: Arc<Progress>,
    /// Milliseconds since 1970 to RFC 3339.
    pub show_time: fn(i64) -> Option<String>,
}

impl Up {
    /// Sends one file into a folder.
    pub async fn file(&self, local: &Path, parent: i64, name: &str) -> Result<api::Node, Error> {
        let facts = tokio::fs::metadata(local).await?;
        self.progress.found(facts.len());
        let item =
            self.item(parent, name.to_string(), local.to_path_buf(), local.display().to_string(), &facts);
        let node = self.send(&item).await?;
        self.progress.done();
        Ok(node)
    }

    /// Sends a folder with all in it. What cannot be sent is told by the progress; the rest goes on.
    pub async fn tree(&self, local: &Path, parent: i64, name: &str) -> Result<api::Node, Error> {
        let top = self.folder(parent, name).await?;
        let (send, mut items) = mpsc::channel::<Item>(256);
        let walker = self.clone();
        let (root, node) = (local.to_path_buf(), top.id);
        let walking = tokio::spawn(async move { walker.walk(root, node, send).await });
        let slots = Arc::new(Semaphore::new(AT_ONCE));
        let mut sending = JoinSet::new();
        while let Some(item) = items.recv().await {
            let Ok(slot) = slots.clone().acquire_owned().await else { break };
            let up = self.clone();
            sending.spawn(async move {
                match up.send(&item).await {
                    Ok(_) => up.progress.done(),
                    Err(e) => up.progress.not(&item.shown, "failed", explain(&e)),
                }
                drop(slot);
            });
            while sending.try_join_next().is_some() {}
        }
        while sending.join_next().await.is_some() {}
        let _ = walking.await;
        Ok(top)
    }

    fn item(
        &self,
        parent: i64,
        name: String,
        local: PathBuf,
        shown: String,
        facts: &std::fs::Metadata,
    ) -> Item {
        let modified = facts
            .modified()
            .ok()
            .and_then(|t| t.duration_since(UNIX_EPOCH).ok())
            .and_then(|d| (self.show_time)(d.as_millis() as i64));
        Item { parent, name, local, shown, size: facts.len(), modified }
    }

    /// The folder of that name, made if it is missing.
    async fn folder(&self, parent: i64, name: &str) -> Result<api::Node, Error> {
        match self.client.make_folder(parent, name).await {
            Err(e) if e.code() == Some("name_taken") => {
                let base = self.client.facts(parent).await?.path;
                let path = format!("{}/{name}", base.trim_end_matches('/'));
                let there = self.client.place(&path, None).await?.node;
                if there.kind == api::Kind::Folder { Ok(there) } else { Err(e) }
            }
            other => other,
        }
    }

    async fn walk(&self, root: PathBuf, node: i64, send: mpsc::Sender<Item>) {
        let mut waiting = vec![(root, node)];
        while let Some((dir, node)) = waiting.pop() {
            let mut entries = match tokio::fs::read_dir(&dir).await {
                Ok(entries) => entries,
                Err(e) => {
                    self.progress.not(dir.display().to_string(), "failed", e.to_string());
                    continue;
                }
            };
            loop {
                let entry = match entries.next_entry().await {
                    Ok(Some(entry)) => entry,
                    Ok(None) => break,
                    Err(e) => {
                        self.progress.not(dir.display().to_string(), "failed", e.to_string());
                        break;
                    }
                };
                let (path, shown) = (entry.path(), entry.path().display().to_string());
                let name = entry.file_name();
                let Some(name) = name.to_str().map(str::to_string) else {
                    self.progress.not(
                        shown,
                        "failed",
                        "The name is not UTF-8. Rename it, then send it again.",
                    );
                    continue;
                };
                let facts = match entry.metadata().await {
                    Ok(facts) => facts,
                    Err(e) => {
                        self.progress.not(shown, "failed", e.to_string());
                        continue;
                    }
                };
                if facts.is_dir() {
                    match self.folder(node, &name).await {
                        Ok(made) => waiting.push((path, made.id)),
                        Err(e) => self.progress.not(shown, "failed", explain(&e)),
                    }
                } else if facts.is_file() {
                    self.progress.found(facts.len());
                    let item = self.item(node, name, path, shown, &facts);
                    if send.send(item).await.is_err() {
                        return;
                    }
                } else {
                    self.progress.not(
                        shown,
                        "skipped",
                        "Neither a file nor a folder; links are not followed.",
                    );
                }
            }
        }
    }

    async fn send(&self, item: &Item) -> Result<api::Node, Error> {
        let file = tokio::fs::File::open(&item.local).await?;
        let progress = self.progress.clone();
        let body = if item.size <= 64 * 1024 {
            let mut bytes = Vec::with_capacity(item.size as usize);
            let mut file = file;
            file.read_to_end(&mut bytes).await?;
            progress.moved(bytes.len() as u64);
            bytes.into()
        } else {
            let stream = tokio_util::io::ReaderStream::with_capacity(file, 1 << 20);
            Body::stream(
                Some(item.size),
                stream.inspect(move |piece| {
                    if let Ok(piece) = piece {
                        progress.moved(Bytes::len(piece) as u64);
                    }
                }),
            )
        };
        self.client.put(item.parent, &item.name, item.modified.as_deref(), &When::default(), body).await
    }
}

/// An error in words, with what to do.
pub fn explain(error: &Error) -> String {
    match error {
        Error::Refused(problem) => format!("{} {}", problem.detail, problem.remedy),
        other => other.to_string(),
    }
}

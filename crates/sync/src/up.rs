//! A local file or folder to a shelf: small files together in one stream, large ones in parts
//! that can be gone on with.

use crate::large::send_large;
use crate::patience::{AGAIN, PATIENCE, may_pass, patiently};
use crate::progress::Progress;
use bytes::Bytes;
use futures_util::StreamExt;
use std::collections::HashMap;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Instant, UNIX_EPOCH};
use tokio::sync::{Semaphore, mpsc};
use tokio::task::JoinSet;
use yellow_attic_client::{Body, Client, Error, Stated, When, api};
use yellow_attic_core::tar;

/// Files moved at a time.
pub const AT_ONCE: usize = 8;
/// Files from this size on are sent in parts of their own, so that a break costs nothing.
const LARGE: u64 = 8 << 20;

/// A file to send.
#[derive(Clone)]
pub struct Item {
    /// Where it lies.
    pub local: PathBuf,
    /// The way to it below the folder that is sent, with slashes.
    pub path: String,
    /// In bytes.
    pub size: u64,
    /// Its time of modification, in milliseconds.
    pub mtime: i64,
    /// Whether it is a program: its owner may run it.
    pub executable: bool,
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
    /// Leave out files that are there already with the same bytes.
    pub skip_same: bool,
}

/// Something found on the way through a local tree.
enum Found {
    Folder(String),
    File(Item),
}

impl Up {
    /// Sends one file into a folder.
    pub async fn file(&self, local: &Path, parent: i64, name: &str) -> Result<api::Node, Error> {
        let facts = tokio::fs::metadata(local).await?;
        self.progress.found(facts.len());
        let item = item(local.to_path_buf(), name.to_string(), &facts);
        if self.skip_same {
            let there = self.entries(parent).await?;
            if let Some(node) = there.get(name)
                && same(&item, node).await?
            {
                self.progress.same(item.size);
                return Ok(node.clone());
            }
        }
        if item.size >= LARGE {
            send_large(self, &item, parent, name).await?;
        } else {
            let bytes = Bytes::from(tokio::fs::read(local).await?);
            self.progress.moved(bytes.len() as u64);
            let modified = (self.show_time)(item.mtime);
            let free = When::default();
            let stated = Stated { executable: Some(item.executable), ..Stated::default() };
            let client = self.client.stating(stated);
            patiently(|| client.put(parent, name, modified.as_deref(), &free, bytes.clone().into())).await?;
        }
        self.progress.done();
        self.at(parent, name).await
    }

    /// Sends a folder with all in it. What cannot be sent is told by the progress; the rest goes on.
    pub async fn tree(&self, local: &Path, parent: i64, name: &str) -> Result<api::Node, Error> {
        let top = self.folder(parent, name).await?;
        let (send, found) = mpsc::channel::<Found>(4096);
        let walker = self.clone();
        let root = local.to_path_buf();
        let start = top.clone();
        let walking = tokio::spawn(async move { walker.walk(root, start, send).await });
        let sent = self.send_all(&top, found).await;
        walking.await.map_err(|e| Error::Line(e.to_string()))?;
        sent?;
        Ok(top)
    }

    /// The folder of that name, made if it is missing.
    async fn folder(&self, parent: i64, name: &str) -> Result<api::Node, Error> {
        match patiently(|| self.client.make_folder(parent, name)).await {
            Err(e) if e.code() == Some("name_taken") => {
                let there = self.at(parent, name).await?;
                if there.kind == api::Kind::Folder { Ok(there) } else { Err(e) }
            }
            other => other,
        }
    }

    pub(crate) async fn at(&self, parent: i64, name: &str) -> Result<api::Node, Error> {
        let base = patiently(|| self.client.facts(parent)).await?.path;
        let path = format!("{}/{name}", base.trim_end_matches('/'));
        Ok(patiently(|| self.client.place(&path, None)).await?.node)
    }

    async fn entries(&self, folder: i64) -> Result<HashMap<String, api::Node>, Error> {
        let query = api::ListQuery::default();
        let all = patiently(|| self.client.all_entries(folder, &query)).await?;
        Ok(all.into_iter().map(|node| (node.name.clone(), node)).collect())
    }

    async fn walk(&self, root: PathBuf, top: api::Node, send: mpsc::Sender<Found>) {
        let mut waiting = vec![(root, String::new(), Some(top))];
        while let Some((dir, path, remote)) = waiting.pop() {
            let there = match &remote {
                Some(node) if self.skip_same => self.entries(node.id).await.unwrap_or_default(),
                _ => HashMap::new(),
            };
            let listed = tokio::task::spawn_blocking(move || (read_folder(&dir), dir)).await;
            let Ok((listed, dir)) = listed else { return };
            let listed = match listed {
                Ok(listed) => listed,
                Err(e) => {
                    self.progress.not_taken(dir.display().to_string(), "failed", e.to_string());
                    continue;
                }
            };
            for (local, entry) in listed {
                let (name, facts) = match entry {
                    Ok(entry) => entry,
                    Err((fate, why)) => {
                        self.progress.not_taken(local.display().to_string(), fate, why);
                        continue;
                    }
                };
                let below = if path.is_empty() { name.clone() } else { format!("{path}/{name}") };
                let known = there.get(&name).cloned();
                if facts.is_dir() {
                    let known = known.filter(|n| n.kind == api::Kind::Folder);
                    if known.is_none() && send.send(Found::Folder(below.clone())).await.is_err() {
                        return;
                    }
                    waiting.push((local, below, known));
                    continue;
                }
                self.progress.found(facts.len());
                let item = item(local, below, &facts);
                if let Some(node) = known
                    && same(&item, &node).await.unwrap_or(false)
                {
                    self.progress.same(item.size);
                    continue;
                }
                if send.send(Found::File(item)).await.is_err() {
                    return;
                }
            }
        }
    }

    /// Small files and folders go in one stream, which is taken up again when the line breaks;
    /// large files beside it, two at a time.
    async fn send_all(&self, top: &api::Node, mut found: mpsc::Receiver<Found>) -> Result<(), Error> {
        let (small, streamed) = mpsc::channel::<Found>(1024);
        let stream = Stream { up: self.clone(), top: top.id, unanswered: Arc::default() };
        let streaming = tokio::spawn(stream.run(streamed));
        let slots = Arc::new(Semaphore::new(2));
        let mut sending = JoinSet::new();
        while let Some(next) = found.recv().await {
            match next {
                Found::File(item) if item.size >= LARGE => {
                    let Ok(slot) = slots.clone().acquire_owned().await else { break };
                    let (up, top) = (self.clone(), top.id);
                    sending.spawn(async move {
                        match up.large(&item, top).await {
                            Ok(()) => up.progress.done(),
                            Err(e) => {
                                up.progress.not(item.local.display().to_string(), "failed", explain(&e))
                            }
                        }
                        drop(slot);
                    });
                    while sending.try_join_next().is_some() {}
                }
                // Taken to the end, whatever becomes of it: each has its fate.
                other => drop(small.send(other).await),
            }
        }
        drop(small);
        while let Some(sent) = sending.join_next().await {
            sent.map_err(|e| Error::Line(e.to_string()))?;
        }
        streaming.await.map_err(|e| Error::Line(e.to_string()))?
    }

    async fn large(&self, item: &Item, top: i64) -> Result<(), Error> {
        let mut parent = top;
        let mut parts = item.path.split('/').peekable();
        while let Some(part) = parts.next() {
            if parts.peek().is_none() {
                return send_large(self, item, parent, part).await;
            }
            parent = self.folder(parent, part).await?.id;
        }
        Ok(())
    }
}

fn item(local: PathBuf, path: String, facts: &std::fs::Metadata) -> Item {
    let mtime = facts.modified().ok().map_or(0, |t| match t.duration_since(UNIX_EPOCH) {
        Ok(after) => after.as_millis() as i64,
        Err(before) => -(before.duration().as_millis() as i64),
    });
    let executable = facts.permissions().mode() & 0o100 != 0;
    Item { local, path, size: facts.len(), mtime, executable }
}

async fn same(item: &Item, node: &api::Node) -> Result<bool, Error> {
    if node.kind != api::Kind::File || node.size != item.size as i64 {
        return Ok(false);
    }
    let Some(wanted) = node.blake3.clone() else { return Ok(false) };
    Ok(hash_of(&item.local).await? == wanted)
}

/// The BLAKE3 hash of a local file.
pub async fn hash_of(local: &Path) -> Result<String, Error> {
    let local = local.to_path_buf();
    let hashed = tokio::task::spawn_blocking(move || {
        let mut hasher = blake3::Hasher::new();
        hasher.update_reader(std::fs::File::open(local)?)?;
        Ok::<_, std::io::Error>(hasher.finalize().to_hex().to_string())
    });
    Ok(hashed.await.map_err(|e| Error::Line(e.to_string()))??)
}

type Listed = Vec<(PathBuf, Result<(String, std::fs::Metadata), (&'static str, String)>)>;

/// What is in a local folder, in order of name, so that a tree goes the same way each time.
fn read_folder(dir: &Path) -> std::io::Result<Listed> {
    let mut all = Vec::new();
    for entry in std::fs::read_dir(dir)? {
        let entry = entry?;
        let facts = match (entry.file_name().into_string(), entry.metadata()) {
            (Err(_), _) => {
                Err(("failed", "The name is not UTF-8. Rename it, then send it again.".to_string()))
            }
            (_, Err(e)) => Err(("failed", e.to_string())),
            (Ok(name), Ok(facts)) if facts.is_dir() || facts.is_file() => Ok((name, facts)),
            _ => Err(("skipped", "Neither a file nor a folder; links are not followed.".to_string())),
        };
        all.push((entry.path(), facts));
    }
    all.sort_by(|a, b| a.0.cmp(&b.0));
    Ok(all)
}

/// One stream of small files, begun again with what was not answered whenever the line breaks.
struct Stream {
    up: Up,
    top: i64,
    /// What was sent and not answered, by its path; folders have no item. A thing leaves it only by the service's answer,
    /// or when it is given up, and then its fate is told.
    unanswered: Arc<Mutex<HashMap<String, Option<Item>>>>,
}

/// What is still to be sent for the first time.
type Coming = Arc<tokio::sync::Mutex<(Option<Found>, mpsc::Receiver<Found>)>>;

impl Stream {
    async fn run(self, mut found: mpsc::Receiver<Found>) -> Result<(), Error> {
        // Nothing to send: no stream.
        let Some(first) = found.recv().await else { return Ok(()) };
        let found: Coming = Arc::new(tokio::sync::Mutex::new((Some(first), found)));
        let mut broken_since = None;
        loop {
            let before = self.up.progress.settled();
            let Err(error) = self.once(found.clone()).await else { return Ok(()) };
            if self.up.progress.settled() > before {
                broken_since = None;
            }
            let since = *broken_since.get_or_insert_with(Instant::now);
            if !may_pass(&error) || since.elapsed() > PATIENCE {
                return self.give_up(error, found).await;
            }
            tokio::time::sleep(AGAIN).await;
        }
    }

    /// All that was not answered, and all that still comes, has not been sent: each is told so. An error by itself only
    /// if nothing was sent at all.
    async fn give_up(&self, error: Error, found: Coming) -> Result<(), Error> {
        let why = explain(&error);
        let not = |path: &str, item: Option<&Item>| match item {
            Some(item) => self.up.progress.not(item.local.display().to_string(), "failed", why.clone()),
            None => self.up.progress.not_taken(path, "failed", why.clone()),
        };
        let unanswered = std::mem::take(&mut *self.waiting());
        unanswered.iter().for_each(|(path, item)| not(path, item.as_ref()));
        let mut found = found.lock().await;
        let mut next = found.0.take();
        while let Some(thing) = match next.take() {
            Some(thing) => Some(thing),
            None => found.1.recv().await,
        } {
            match &thing {
                Found::Folder(path) => not(path, None),
                Found::File(item) => not(&item.path, Some(item)),
            }
        }
        let sum = self.up.progress.sum();
        if sum.done + sum.same == 0 { Err(error) } else { Ok(()) }
    }

    fn waiting(&self) -> std::sync::MutexGuard<'_, HashMap<String, Option<Item>>> {
        self.unanswered.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// One stream until its end, or until the line breaks.
    async fn once(&self, found: Coming) -> Result<(), Error> {
        let again: Vec<(String, Option<Item>)> = {
            let waiting = self.waiting();
            let mut again: Vec<_> = waiting.iter().map(|(path, item)| (path.clone(), item.clone())).collect();
            // Folders before what is in them.
            again.sort_by_key(|(path, item)| (item.is_some(), path.matches('/').count()));
            again
        };
        let (send, blocks) = mpsc::channel::<std::io::Result<Bytes>>(32);
        let (up, unanswered) = (self.up.clone(), self.unanswered.clone());
        let feeding = tokio::task::spawn_blocking(move || {
            let mut found = found.blocking_lock();
            let mut lot = Lot { send, bytes: Vec::new() };
            let unanswered = || unanswered.lock().unwrap_or_else(PoisonError::into_inner);
            for (path, item) in again {
                match item {
                    Some(item) => {
                        if !up.add_file(&mut lot, &item, true)? {
                            unanswered().remove(&path);
                        }
                    }
                    None => lot.add(&tar::head(&path, tar::Entry::Folder, 0, 0, "long-names/folder"))?,
                }
            }
            loop {
                let next = match found.0.take() {
                    Some(first) => Some(first),
                    None => match found.1.try_recv() {
                        Ok(next) => Some(next),
                        Err(mpsc::error::TryRecvError::Disconnected) => None,
                        Err(mpsc::error::TryRecvError::Empty) => {
                            // Nothing more for now: what is ready goes.
                            lot.flush()?;
                            found.1.blocking_recv()
                        }
                    },
                };
                match next {
                    // Noted before the line can break under it.
                    Some(Found::Folder(path)) => {
                        unanswered().insert(path.clone(), None);
                        lot.add(&tar::head(&path, tar::Entry::Folder, 0, 0, "long-names/folder"))?;
                    }
                    Some(Found::File(item)) => {
                        unanswered().insert(item.path.clone(), Some(item.clone()));
                        if !up.add_file(&mut lot, &item, false)? {
                            unanswered().remove(&item.path);
                        }
                    }
                    None => break,
                }
            }
            lot.add(&tar::END)?;
            lot.flush()
        });
        let blocks = futures_util::stream::unfold(blocks, |mut blocks| async move {
            blocks.recv().await.map(|block| (block, blocks))
        });
        let mut lines = std::pin::pin!(self.up.client.send_tar(self.top, Body::stream(None, blocks)).await?);
        while let Some(line) = lines.next().await {
            match line? {
                api::TarLine::Entry(entry) => self.told(entry),
                api::TarLine::End { problem: Some(problem), .. } => return Err(Error::Refused(problem)),
                api::TarLine::End { .. } => {
                    let fed = feeding.await.map_err(|e| Error::Line(e.to_string()))?;
                    let open = self.waiting().len();
                    return match (fed, open) {
                        (Ok(()), 0) => Ok(()),
                        (Err(e), _) => Err(Error::Line(e.to_string())),
                        (_, open) => {
                            Err(Error::Line(format!("the service gave no answer for {open} things")))
                        }
                    };
                }
            }
        }
        Err(Error::Line("the service ended the answer too early".into()))
    }

    fn told(&self, entry: api::TarEntry) {
        let path = entry.path.trim_end_matches('/');
        let Some(item) = self.waiting().remove(path) else { return };
        match (entry.problem, item) {
            (None, Some(_)) => self.up.progress.done(),
            (None, None) => {}
            (Some(problem), item) => {
                let why = format!("{} {}", problem.detail, problem.remedy);
                match item {
                    Some(item) => self.up.progress.not(item.local.display().to_string(), "failed", why),
                    None => self.up.progress.not_taken(path, "failed", why),
                }
            }
        }
    }
}

/// Bytes on their way into a stream, gathered.
struct Lot {
    send: mpsc::Sender<std::io::Result<Bytes>>,
    bytes: Vec<u8>,
}

impl Lot {
    fn add(&mut self, bytes: &[u8]) -> std::io::Result<()> {
        self.bytes.extend_from_slice(bytes);
        if self.bytes.len() >= 256 * 1024 { self.flush() } else { Ok(()) }
    }

    fn flush(&mut self) -> std::io::Result<()> {
        if self.bytes.is_empty() {
            return Ok(());
        }
        let bytes = Bytes::from(std::mem::take(&mut self.bytes));
        self.send.blocking_send(Ok(bytes)).map_err(|_| std::io::Error::other("the line broke"))
    }
}

impl Up {
    /// Adds a file as it is when it is read: its size is then known for certain.
    /// False: it cannot be read, which is told.
    fn add_file(&self, lot: &mut Lot, item: &Item, again: bool) -> std::io::Result<bool> {
        let bytes = match std::fs::read(&item.local) {
            Ok(bytes) => bytes,
            Err(e) => {
                self.progress.not(item.local.display().to_string(), "failed", e.to_string());
                return Ok(false);
            }
        };
        if again {
            self.progress.unmoved(item.size);
        }
        let size = bytes.len() as u64;
        lot.add(&tar::head(
            &item.path,
            tar::Entry::file(item.executable),
            size,
            item.mtime,
            "long-names/file",
        ))?;
        lot.add(&bytes)?;
        lot.add(&vec![0; tar::padding(size) as usize])?;
        self.progress.moved(item.size);
        Ok(true)
    }
}

/// An error in words, with what to do.
pub fn explain(error: &Error) -> String {
    match error {
        Error::Refused(problem) => format!("{} {}", problem.detail, problem.remedy),
        other => other.to_string(),
    }
}

//! Many files in one request: a tar stream, each entry's fate told as it goes.
//!
//! Entries are read one after the other and put many at a time, so that one sync of the disk
//! serves hundreds of them. What was answered is on the disk, whatever becomes of the rest.

use crate::http::conditions::{seen, thing};
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::state::State;
use crate::state::sessions::Who;
use crate::transfer::receive::{feed_on, lots};
use actix_web::{HttpResponse, web};
use bytes::{Buf, Bytes};
use std::collections::{HashMap, HashSet, VecDeque};
use std::io::{self, Read};
use std::sync::Arc;
use std::time::Duration;
use tar::EntryType;
use tokio::runtime::Handle;
use tokio::sync::{Semaphore, mpsc};
use yellow_attic_api::{Fate, Problem, TarEntry, TarLine, TarSums};
use yellow_attic_core::conditions::{Conditions, Known, RequestId, Thing};
use yellow_attic_core::path::MAX_DEPTH;
use yellow_attic_core::rights::Level;
use yellow_attic_core::{Name, NameError, NodeId, PathError};
use yellow_attic_store::FileFacts;
use yellow_attic_store::{Actor, Engine, Outcome, Result, SMALL, Staged, StoreError};

/// Small files being put at a time, in KiB of their bytes: 24 MiB. Each counts as 16 KiB at least, so
/// that they are 1,536 at most: a group being committed, one being synced, one being read.
const UNDER_WAY_KIB: usize = 24 * 1024;
const LEAST_KIB: usize = 16;
/// Folders that are made together.
const FOLDERS: usize = 512;
/// A caller that does not read what became of its files is waited for so long.
const PATIENCE: Duration = Duration::from_secs(60);

/// Takes a tar stream into a folder. `replace`: a file that is there gets a new state.
pub async fn receive(
    state: &web::Data<State>,
    who: &Who,
    parent: NodeId,
    replace: bool,
    payload: web::Payload,
) -> std::result::Result<HttpResponse, Refusal> {
    let chain = state.engine.files().chain(&who.actor, parent, Level::Add).await?;
    if !chain[0].is_folder() {
        return Err(StoreError::NotAFolder(chain[0].name().into()).into());
    }
    state.engine.check_room(0)?;
    let (send, bytes) = lots();
    let (lines, answered) = mpsc::channel::<Bytes>(1024);
    let taking = Taking {
        engine: state.engine.clone(),
        actor: who.actor.clone(),
        parent,
        replace,
        largest: state.config.largest_file,
        runtime: state.engine.runtime().clone(),
        lines,
        folders: HashMap::new(),
        waiting: Vec::new(),
        seen: HashSet::new(),
        under_way: Arc::new(Semaphore::new(UNDER_WAY_KIB)),
        sums: Arc::default(),
        received: state.metrics.received.clone(),
    };
    actix_web::rt::spawn(feed_on(payload, send));
    state
        .engine
        .runtime()
        .spawn_blocking(move || taking.run(Body { lots: bytes, pieces: VecDeque::new(), whole: false }));
    let stream = futures_util::stream::unfold(answered, |mut answered| async move {
        let mut line = answered.recv().await?.to_vec();
        // Lines that are ready go together.
        while line.len() < 32 * 1024 {
            match answered.try_recv() {
                Ok(more) => line.extend_from_slice(&more),
                Err(_) => break,
            }
        }
        Some((Ok::<_, actix_web::Error>(Bytes::from(line)), answered))
    });
    Ok(HttpResponse::Ok().content_type("application/x-ndjson").streaming(stream))
}

/// The request's body, read where it may block.
struct Body {
    lots: mpsc::Receiver<Vec<Bytes>>,
    pieces: VecDeque<Bytes>,
    whole: bool,
}

impl Read for Body {
    fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
        loop {
            if let Some(piece) = self.pieces.front_mut() {
                let n = piece.len().min(out.len());
                piece.copy_to_slice(&mut out[..n]);
                if piece.is_empty() {
                    self.pieces.pop_front();
                }
                if n > 0 {
                    return Ok(n);
                }
                continue;
            }
            if self.whole {
                return Ok(0);
            }
            match self.lots.blocking_recv() {
                Some(lot) if lot.is_empty() => self.whole = true,
                Some(lot) => self.pieces.extend(lot),
                None => return Err(io::Error::new(io::ErrorKind::ConnectionAborted, "the line broke")),
            }
        }
    }
}

#[derive(Default)]
struct Sums(parking_lot::Mutex<TarSums>);

/// A stream being taken in.
struct Taking {
    engine: Engine,
    actor: Actor,
    parent: NodeId,
    replace: bool,
    largest: u64,
    runtime: Handle,
    lines: mpsc::Sender<Bytes>,
    /// Folders by their path, or why there is none.
    folders: HashMap<String, std::result::Result<NodeId, Problem>>,
    /// Folders to be made together.
    waiting: Vec<(String, Vec<Name>)>,
    /// Hashes of the paths of files that came already.
    seen: HashSet<u64>,
    under_way: Arc<Semaphore>,
    sums: Arc<Sums>,
    received: prometheus_client::metrics::counter::Counter,
}

/// The caller does not read, or is gone.
struct Gone;

impl Taking {
    fn run(mut self, body: Body) {
        let mut archive = tar::Archive::new(body);
        let problem = match self.entries(&mut archive) {
            Ok(problem) => problem,
            Err(Gone) => return,
        };
        if self.make_folders().is_err() || self.wait_for_all().is_err() {
            return;
        }
        let mut sums = self.sums.0.lock().clone();
        sums.whole = problem.is_none();
        self.received.inc_by(sums.bytes);
        let _ = self.say(&TarLine::End { sums, problem: problem.map(Box::new) });
    }

    /// Takes entry after entry. The answer is why the stream did not come to its end.
    fn entries(&mut self, archive: &mut tar::Archive<Body>) -> std::result::Result<Option<Problem>, Gone> {
        let entries = match archive.entries() {
            Ok(entries) => entries,
            Err(e) => return Ok(Some(damaged(&e, None))),
        };
        for entry in entries {
            let mut entry = match entry {
                Ok(entry) => entry,
                Err(e) => return Ok(Some(damaged(&e, None))),
            };
            let raw = entry.path_bytes().into_owned();
            let path = String::from_utf8_lossy(&raw).into_owned();
            let kind = entry.header().entry_type();
            if matches!(kind, EntryType::XGlobalHeader) {
                continue;
            }
            let names = match names_in(&raw) {
                Ok(names) => names,
                Err(e) => {
                    self.refuse(&path, problem(e))?;
                    continue;
                }
            };
            match kind {
                EntryType::Directory if names.is_empty() => {}
                EntryType::Directory => self.folder(path, names)?,
                EntryType::Regular | EntryType::Continuous if !names.is_empty() && has_holes(&mut entry) => {
                    self.refuse(&path, not_a_file(EntryType::GNUSparse))?;
                }
                EntryType::Regular | EntryType::Continuous if !names.is_empty() => {
                    if let Some(broken) = self.file(&mut entry, path, names)? {
                        return Ok(Some(broken));
                    }
                }
                other => self.refuse(&path, not_a_file(other))?,
            }
        }
        Ok(None)
    }

    /// A folder waits for more of them: those of one depth are made together.
    fn folder(&mut self, path: String, names: Vec<Name>) -> std::result::Result<(), Gone> {
        self.waiting.push((path, names));
        if self.waiting.len() >= FOLDERS { self.make_folders() } else { Ok(()) }
    }

    fn make_folders(&mut self) -> std::result::Result<(), Gone> {
        let mut waiting = std::mem::take(&mut self.waiting);
        waiting.sort_by_key(|(_, names)| names.len());
        let mut waiting = waiting.into_iter().peekable();
        while let Some(depth) = waiting.peek().map(|(_, names)| names.len()) {
            let mut together = Vec::new();
            while let Some((path, names)) = waiting.next_if(|(_, names)| names.len() == depth) {
                let parent = self.folder_of(&names[..depth - 1])?;
                together.push((path, names, parent));
            }
            let (engine, actor) = (&self.engine, &self.actor);
            let made = self.runtime.block_on(futures_util::future::join_all(together.iter().map(
                |(_, names, parent)| async move {
                    match parent {
                        Ok(parent) => {
                            there_or_made(engine, actor, *parent, &names[depth - 1]).await.map_err(problem)
                        }
                        Err(e) => Err(e.clone()),
                    }
                },
            )));
            for ((path, names, _), made) in together.into_iter().zip(made) {
                self.folders.insert(joined(&names), made.clone().map(|m| m.0));
                match made {
                    Ok((node, new)) => {
                        let mut sums = self.sums.0.lock();
                        let fate = if new { Fate::Made } else { Fate::There };
                        if new {
                            sums.made += 1
                        } else {
                            sums.there += 1
                        }
                        drop(sums);
                        self.say(&TarLine::Entry(TarEntry {
                            path,
                            fate,
                            node: Some(node.0),
                            etag: None,
                            moment: None,
                            problem: None,
                        }))?;
                    }
                    Err(e) => self.refuse(&path, e)?,
                }
            }
        }
        Ok(())
    }

    /// The folder at a path, made with those above it if the stream did not name them.
    fn folder_of(
        &mut self,
        names: &[Name],
    ) -> std::result::Result<std::result::Result<NodeId, Problem>, Gone> {
        let mut at = Ok(self.parent);
        for depth in 1..=names.len() {
            let path = joined(&names[..depth]);
            at = match (self.folders.get(&path), at) {
                (Some(known), _) => known.clone(),
                (None, Err(e)) => Err(e),
                (None, Ok(parent)) => {
                    let made = self.runtime.block_on(there_or_made(
                        &self.engine,
                        &self.actor,
                        parent,
                        &names[depth - 1],
                    ));
                    if matches!(made, Ok((_, true))) {
                        self.sums.0.lock().made += 1;
                    }
                    let made = made.map(|m| m.0).map_err(problem);
                    self.folders.insert(path, made.clone());
                    made
                }
            };
        }
        Ok(at)
    }

    /// Takes one file. The answer is why the stream ends with it, if it does.
    fn file(
        &mut self,
        entry: &mut tar::Entry<'_, Body>,
        path: String,
        mut names: Vec<Name>,
    ) -> std::result::Result<Option<Problem>, Gone> {
        self.make_folders()?;
        let stated = match Stated::of(entry) {
            Ok(stated) => stated,
            Err(e) => {
                self.refuse(&path, e.into_problem())?;
                return Ok(None);
            }
        };
        // A folder that is named by its id is that one, wherever it is by now.
        let parent = match stated.parent {
            Some(parent) => Ok(parent),
            None => self.folder_of(&names[..names.len() - 1])?,
        };
        let parent = match parent {
            Ok(parent) => parent,
            Err(e) => {
                self.refuse(&path, e)?;
                return Ok(None);
            }
        };
        // The same name again: it comes after the first, as the stream has it.
        if !self.seen.insert(hash_of(&names)) {
            self.wait_for_all()?;
        }
        let size = entry.size();
        if size > self.largest {
            self.refuse(&path, problem(StoreError::TooLarge(self.largest)))?;
            return Ok(None);
        }
        let mtime = mtime_of(entry).unwrap_or_else(|| self.engine.now_ms());
        // A head without a mode says nothing.
        let executable = entry.header().mode().ok().filter(|mode| *mode != 0).map(|mode| mode & 0o100 != 0);
        let facts = FileFacts { mtime, executable };
        let staged = match self.read(entry, size) {
            Ok(staged) => staged,
            Err(ReadError::Refused(e)) => {
                self.refuse(&path, problem(e))?;
                return Ok(None);
            }
            Err(ReadError::Broken(e)) => {
                let broken = damaged(&e, Some(&path));
                self.refuse(&path, broken.clone())?;
                return Ok(Some(broken));
            }
        };
        let weight = (size.min(SMALL as u64) as usize / 1024).max(LEAST_KIB) as u32;
        let room = self.runtime.block_on(self.under_way.clone().acquire_many_owned(weight));
        let Some(name) = names.pop() else { return Ok(None) };
        let mut conditions = if self.replace { Conditions::default() } else { Conditions::nothing_there() };
        conditions.known = stated.known;
        let (engine, actor, lines, sums) =
            (self.engine.clone(), self.actor.clone(), self.lines.clone(), self.sums.clone());
        self.runtime.spawn(async move {
            // What is named by its id gets its new state wherever it is by now.
            let done = match conditions.known.thing {
                Some(Thing::Node(node)) if stated.parent.is_none() => {
                    engine.files().put_onto(&actor, node, staged, facts, conditions).await
                }
                _ => engine.files().put_with(&actor, parent, name, staged, facts, conditions).await,
            };
            let line = told(path, done, size, &sums);
            let _ = lines.send_timeout(written(&TarLine::Entry(line)), PATIENCE).await;
            drop(room);
        });
        Ok(None)
    }

    fn read(&self, entry: &mut tar::Entry<'_, Body>, size: u64) -> std::result::Result<Staged, ReadError> {
        if size <= SMALL as u64 {
            let mut bytes = Vec::with_capacity(size as usize);
            entry.read_to_end(&mut bytes).map_err(ReadError::Broken)?;
            if bytes.len() as u64 != size {
                return Err(ReadError::Broken(io::ErrorKind::UnexpectedEof.into()));
            }
            self.engine.check_room(size).map_err(ReadError::Refused)?;
            return self.engine.stage_small(bytes).map_err(ReadError::Refused);
        }
        let mut arriving = self.engine.stage(size).map_err(ReadError::Refused)?;
        let mut piece = vec![0; 256 * 1024];
        loop {
            match entry.read(&mut piece).map_err(ReadError::Broken)? {
                0 => break,
                n => arriving.write(&piece[..n]).map_err(ReadError::Refused)?,
            }
        }
        if arriving.size() != size {
            return Err(ReadError::Broken(io::ErrorKind::UnexpectedEof.into()));
        }
        arriving.finish().map_err(ReadError::Refused)
    }

    fn wait_for_all(&self) -> std::result::Result<(), Gone> {
        let all = self.runtime.block_on(self.under_way.acquire_many(UNDER_WAY_KIB as u32));
        if all.is_err() { Err(Gone) } else { Ok(()) }
    }

    fn refuse(&self, path: &str, problem: Problem) -> std::result::Result<(), Gone> {
        self.sums.0.lock().refused += 1;
        self.say(&TarLine::Entry(TarEntry {
            path: path.to_string(),
            fate: Fate::Refused,
            node: None,
            etag: None,
            moment: None,
            problem: Some(Box::new(problem)),
        }))
    }

    fn say(&self, line: &TarLine) -> std::result::Result<(), Gone> {
        self.runtime.block_on(self.lines.send_timeout(written(line), PATIENCE)).map_err(|_| Gone)
    }
}

enum ReadError {
    /// This file is refused; the stream goes on.
    Refused(StoreError),
    /// The stream itself cannot be read any further.
    Broken(io::Error),
}

fn told(path: String, done: Result<Outcome>, size: u64, sums: &Sums) -> TarEntry {
    let mut sums = sums.0.lock();
    let mut entry =
        TarEntry { path, fate: Fate::Refused, node: None, etag: None, moment: None, problem: None };
    match done {
        Ok(done) => {
            sums.bytes += size;
            if done.created {
                sums.made += 1;
                entry.fate = Fate::Made;
            } else {
                sums.replaced += 1;
                entry.fate = Fate::Replaced;
            }
            entry.node = done.row.as_ref().map(|r| r.node.0);
            entry.moment = done.row.as_ref().map(|r| r.since.token());
            entry.etag = done.row.and_then(|r| r.etag());
        }
        Err(e) => {
            sums.refused += 1;
            entry.problem = Some(Box::new(problem(e)));
        }
    }
    entry
}

async fn there_or_made(
    engine: &Engine,
    actor: &Actor,
    parent: NodeId,
    name: &Name,
) -> Result<(NodeId, bool)> {
    if let Some(row) = engine.files().child(actor, parent, name).await? {
        return if row.is_folder() {
            Ok((row.node, false))
        } else {
            Err(StoreError::NotAFolder(name.to_string()))
        };
    }
    match engine.files().make_folder(actor, parent, name.clone()).await {
        Ok(done) => Ok((done.row.map(|r| r.node).unwrap_or_default(), true)),
        // Made by somebody else meanwhile.
        Err(StoreError::NameTaken(_)) => match engine.files().child(actor, parent, name).await? {
            Some(row) if row.is_folder() => Ok((row.node, false)),
            _ => Err(StoreError::NotAFolder(name.to_string())),
        },
        Err(e) => Err(e),
    }
}

fn written(line: &TarLine) -> Bytes {
    let mut text = serde_json::to_vec(line).unwrap_or_default();
    text.push(b'\n');
    text.into()
}

fn joined(names: &[Name]) -> String {
    names.iter().map(Name::as_str).collect::<Vec<_>>().join("/")
}

fn hash_of(names: &[Name]) -> u64 {
    let hash = blake3::hash(joined(names).as_bytes());
    hash.as_bytes()[..8].iter().fold(0, |n, b| n << 8 | u64::from(*b))
}

/// The names on the way of an entry. A path from the top of a disk, or one that climbs, is refused.
fn names_in(raw: &[u8]) -> Result<Vec<Name>> {
    let text = std::str::from_utf8(raw).map_err(|_| NameError::NotUtf8)?;
    if text.starts_with('/') {
        return Err(StoreError::BadInput(format!("\"{text}\" begins at the top of a disk")));
    }
    let names = text
        .split('/')
        .filter(|part| !part.is_empty() && *part != ".")
        .map(Name::new)
        .collect::<std::result::Result<Vec<_>, _>>()?;
    if names.len() > MAX_DEPTH {
        return Err(PathError::TooDeep(names.len()).into());
    }
    Ok(names)
}

/// What an entry says of itself in pax headers of our own: what the headers `Thing`, `Seen` and `Idempotency-Key` say of
/// a request, and the folder that it goes into, by its id.
#[derive(Default)]
struct Stated {
    known: Known,
    parent: Option<NodeId>,
}

impl Stated {
    fn of(entry: &mut tar::Entry<'_, Body>) -> std::result::Result<Stated, Refusal> {
        let mut stated = Stated::default();
        let Ok(Some(all)) = entry.pax_extensions() else { return Ok(stated) };
        for one in all.flatten() {
            let Some(word) = one.key().ok().and_then(|key| key.strip_prefix("YATTIC.")) else { continue };
            let malformed =
                || refusals::CONDITION_MALFORMED.of(&format!("The pax header YATTIC.{word} is malformed."));
            let text = one.value().ok().filter(|text| !text.is_empty()).ok_or_else(malformed)?;
            match word {
                "thing" => stated.known.thing = Some(thing(text)?),
                "seen" => stated.known.seen = Some(seen(text)?),
                "request" => stated.known.request = Some(RequestId::of(text)),
                "parent" => stated.parent = Some(NodeId(text.parse().map_err(|_| malformed())?)),
                // A word that is not known may be a condition: what it forbids is not done.
                _ => return Err(malformed()),
            }
        }
        Ok(stated)
    }
}

/// To the millisecond, if a pax header has it.
fn mtime_of(entry: &mut tar::Entry<'_, Body>) -> Option<i64> {
    let pax = entry.pax_extensions().ok().flatten().and_then(|all| {
        all.flatten().find(|e| e.key() == Ok("mtime")).and_then(|e| e.value().ok()?.parse::<f64>().ok())
    });
    match pax {
        Some(seconds) if seconds.abs() < 9e12 => Some((seconds * 1000.0).round() as i64),
        _ => entry.header().mtime().ok().and_then(|s| i64::try_from(s).ok()?.checked_mul(1000)),
    }
}

fn problem(error: StoreError) -> Problem {
    Refusal::from(error).into_problem()
}

/// Whether the bytes of an entry are a map of holes and what lies between (GNU's way in pax headers).
fn has_holes(entry: &mut tar::Entry<'_, Body>) -> bool {
    let Ok(Some(extensions)) = entry.pax_extensions() else { return false };
    extensions.flatten().any(|e| e.key_bytes().starts_with(b"GNU.sparse."))
}

fn not_a_file(kind: EntryType) -> Problem {
    let what = match kind {
        EntryType::Symlink => "a symbolic link",
        EntryType::Link => "a hard link",
        EntryType::Char | EntryType::Block => "a device",
        EntryType::Fifo => "a pipe",
        EntryType::GNUSparse => "a file with holes, which takes more room than its bytes show",
        _ => "neither a file nor a folder",
    };
    refusals::TAR_NOT_A_FILE.of(&format!("The entry is {what}.")).into_problem()
}

fn damaged(error: &io::Error, path: Option<&str>) -> Problem {
    let (code, title, detail) = match error.kind() {
        io::ErrorKind::ConnectionAborted => {
            ("body_cut_short", "The stream was cut short", "the line broke".to_string())
        }
        io::ErrorKind::UnexpectedEof => {
            ("tar_cut_short", "The stream was cut short", "the stream ends within an entry".to_string())
        }
        _ => ("tar_damaged", "The stream cannot be read", error.to_string()),
    };
    let at = path.map(|p| format!(" at \"{p}\"")).unwrap_or_default();
    Refusal::new(
        400,
        code,
        title,
        &format!("It cannot be read on{at}: {detail}."),
        "What was answered before is kept. Send the rest again.",
    )
    .into_problem()
}

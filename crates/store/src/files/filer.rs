//! Filing what left its place: verified, then into the past under its hash.
//!
//! What waits lies in `past/incoming`; after a stop, that folder itself says what is to do.

use crate::files::packs::{Packing, drop_recipes};
use crate::files::past::{Past, SEAL_MS, Seen, hold_still, look_still, open_past, see};
use crate::fs::disk::{Disk, ObjectId, Plain, content_name, hex, look};
use crate::fs::error::{Result, StoreError};
use crate::fs::staging::Staging;
use crate::ops::found::{Displaced, EnterRemoved, Lost};
use crate::ops::record::{ChangeCatalogue, Finding};
use crate::txn::operation::{Operation, Queued, asked};
use crate::txn::read_cache::View;
use parking_lot::Mutex;
use std::collections::{HashSet, VecDeque};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use tokio::runtime::Handle;
use tokio::sync::{Notify, mpsc};
use yellow_attic_core::chunking::WORTH;
use yellow_attic_core::{ContentId, NodeId};

/// So much is filed before it is synced.
const TOGETHER: usize = 256;

/// So few are synced one by one: a sync of all would wait for what others write too.
const FEW: usize = 8;

/// Something to file.
#[derive(Clone, Debug)]
pub(crate) enum File {
    /// A content whose state ended, and the node whose it was; 0 if that is to be looked up.
    Content(ContentId, NodeId),
    /// Something unknown that stood in the way.
    Stranger { name: String, node: NodeId, instead_of: Option<ContentId> },
    /// A folder that is another object than was recorded: laid there by hand, or made anew where it was missing.
    Adopted { node: NodeId, name: String, object: ObjectId, remade: bool },
    /// Something that was to be placed and is nowhere.
    Nowhere { node: NodeId, name: String },
    /// Past contents that are live again, or let go: their bytes go if nothing else needs them.
    CondemnMany(Vec<[u8; 32]>),
}

/// The filer's queue.
#[derive(Clone, Default)]
pub(crate) struct Filing(Arc<FilingInner>);

#[derive(Default)]
struct FilingInner {
    queue: Mutex<VecDeque<File>>,
    busy: AtomicBool,
    work: Notify,
    stop: AtomicBool,
}

impl Filing {
    pub fn add(&self, files: Vec<File>) {
        if !files.is_empty() {
            self.0.queue.lock().extend(files);
            self.0.work.notify_one();
        }
    }

    /// What was to go while the past was held goes now.
    pub fn add_condemned(&self, disk: &Disk) -> Result<()> {
        let noted = disk.take_condemned().map_err(|e| StoreError::io("reading what is to go", &e))?;
        self.add(noted.chunks(32).map(|hashes| File::CondemnMany(hashes.to_vec())).collect());
        Ok(())
    }

    pub fn is_idle(&self) -> bool {
        self.0.queue.lock().is_empty() && !self.0.busy.load(Ordering::SeqCst)
    }

    pub fn stop(&self) {
        self.0.stop.store(true, Ordering::SeqCst);
        self.0.work.notify_one();
    }
}

/// Files things. Runs on a thread of its own: hashing a large file must not hold up placing.
pub(crate) struct Filer {
    pub disk: Arc<Disk>,
    pub view: View,
    pub staging: Arc<Staging>,
    pub filing: Filing,
    pub packing: Packing,
    pub writer: mpsc::WeakSender<Queued>,
    pub handle: Handle,
    /// What was filed since the last sync.
    pub owed: Mutex<Vec<[u8; 32]>>,
}

impl Filer {
    /// Finds what waited when the engine stopped.
    pub fn recover(&self) -> Result<()> {
        self.filing.add_condemned(&self.disk)?;
        let names =
            self.disk.names(&self.disk.incoming).map_err(|e| StoreError::io("reading past/incoming", &e))?;
        let files = names.iter().filter_map(|n| std::str::from_utf8(n).ok()).filter_map(waiting).collect();
        self.filing.add(files);
        Ok(())
    }

    pub fn run(self) {
        loop {
            // Filed and not synced yet: many small renames by one sync.
            let owed = self.owed.lock().len();
            let next = {
                let mut queue = self.filing.0.queue.lock();
                let next = queue.pop_front();
                self.filing.0.busy.store(next.is_some() || owed > 0, Ordering::SeqCst);
                next
            };
            if self.filing.0.stop.load(Ordering::SeqCst) {
                return;
            }
            match next {
                Some(file) => {
                    if let Err(error) = self.file(&file) {
                        tracing::error!(%error, ?file, "could not be filed; it waits in past/incoming");
                    }
                    if owed >= TOGETHER {
                        self.settle();
                    }
                }
                None if owed > 0 => self.settle(),
                None => self.handle.block_on(self.filing.0.work.notified()),
            }
        }
    }

    /// Makes durable what was filed.
    fn settle(&self) {
        let owed = std::mem::take(&mut *self.owed.lock());
        let each = |hash: &[u8; 32]| self.disk.past_dir(&hex(hash)).and_then(|dir| self.disk.sync(&dir));
        let synced = match (self.disk.is_journaled(), owed.len() <= FEW) {
            // One journal orders all: a power cut may take this back, and nothing that rests on it stays.
            (true, _) => Ok(()),
            (false, true) => owed.iter().try_for_each(each),
            (false, false) => self.disk.sync_all(),
        };
        if let Err(error) = synced {
            tracing::error!(%error, "what was filed could not be synced; it is looked at again at the next start");
        }
    }

    fn file(&self, file: &File) -> Result<()> {
        match file {
            File::Content(id, node) => self.content(*id, *node),
            File::Adopted { node, name, object, remade } => {
                let (node, object) = (*node, *object);
                self.ask(crate::files::jobs::Step::Adopt { node, object })?;
                let (kind, detail) = match remade {
                    false => (
                        "folder taken up",
                        format!("\"{name}\" was there already, made by hand; it is the folder now"),
                    ),
                    true => (
                        "folder made anew",
                        format!(
                            "\"{name}\" was not where it belongs: it was renamed, moved or removed on the disk. It was made anew, empty; what was in it is where it was moved to"
                        ),
                    ),
                };
                self.ask(Finding { kind, node: Some(node), detail })
            }
            File::Stranger { name, node, instead_of } => self.stranger(name, *node, *instead_of),
            File::Nowhere { node, name } => self.ask(Finding {
                kind: "not on the disk",
                node: Some(*node),
                detail: format!("\"{name}\" could not be placed: its bytes are nowhere"),
            }),
            File::CondemnMany(hashes) => {
                self.condemn(hashes)?;
                self.packing.tidy();
                Ok(())
            }
        }
    }

    fn ask<O: Operation>(&self, operation: O) -> Result<O::Told> {
        let writer = self.writer.upgrade().ok_or(StoreError::Stopping)?;
        let (queued, answered) = asked(operation);
        self.handle.block_on(async {
            writer.send(queued).await.map_err(|_| StoreError::Stopping)?;
            answered.await.map_err(|_| StoreError::Stopping)?
        })
    }

    fn content(&self, id: ContentId, node: NodeId) -> Result<()> {
        let io = |e: &std::io::Error| StoreError::io(format!("filing content {id}"), e);
        let Some(content) = self.handle.block_on(self.view.content(id))? else { return Ok(()) };
        let put = self.handle.block_on(self.view.put_of(id))?;
        let node = match node {
            NodeId(0) => put.map_or(NodeId(0), |(node, _)| node),
            known => known,
        };
        let name = content_name(id);
        let Some(there) = look(&self.disk.incoming, &name).map_err(|e| io(&e))? else {
            let gone = matches!(
                open_past(&self.disk, &content.hash, content.size).map_err(|e| io(&e))?,
                Past::Missing
            );
            if gone
                && content.life == crate::fs::model::ContentState::Past
                && !self.handle.block_on(self.view.is_packed(&content.hash))?
            {
                return self.ask(Lost { content: id, node });
            }
            return Ok(());
        };
        // Another program wrote to it, as its time says: that is entered while its own time is still to be seen.
        let own_time = put.map_or(there.mtime, |(_, mtime)| mtime);
        let mut known = content.hash;
        if there.mtime != SEAL_MS && there.mtime != own_time {
            let seen = see(&self.disk, &self.disk.incoming, &name).map_err(|e| io(&e))?;
            known = self.enter_if_other(seen, node, Some(id), content.hash)?;
        }
        let still = match look_still(&self.disk, &self.staging, &self.disk.incoming, &name) {
            Ok(still) => still,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(()),
            Err(e) => return Err(io(&e)),
        };
        if still.hash != known {
            // It kept its time, or was written to just now.
            still.sync(&self.disk).map_err(|e| io(&e))?;
            let mut look = still.before;
            if look.mtime == SEAL_MS {
                look.mtime = own_time;
            }
            let seen = Seen { hash: still.hash, size: still.size, look };
            self.enter_if_other(seen, node, Some(id), content.hash)?;
        }
        let (hash, size) = (still.hash, still.size);
        still.file_later(&self.disk, &self.staging, &self.disk.incoming, &name).map_err(|e| io(&e))?;
        self.owed.lock().push(hash);
        if size >= WORTH {
            self.packing.add(hash, size);
        }
        // Let go while it was on its way here.
        match self.handle.block_on(self.view.content(id))? {
            Some(now) if now.life == crate::fs::model::ContentState::Gone => self.condemn(&[content.hash]),
            _ => Ok(()),
        }
    }

    /// Enters what another program made of a state, unless it is the same bytes: a copied data folder has other
    /// objects, and nothing is lost. Returns the hash that is known now.
    fn enter_if_other(
        &self,
        seen: Seen,
        node: NodeId,
        instead_of: Option<ContentId>,
        recorded: [u8; 32],
    ) -> Result<[u8; 32]> {
        let hash = seen.hash;
        if hash != recorded {
            let foreign = seen.foreign(&self.staging);
            self.ask(Displaced { node, foreign, instead_of })?;
        }
        Ok(hash)
    }

    fn stranger(&self, name: &str, node: NodeId, instead_of: Option<ContentId>) -> Result<()> {
        let io = |e: &std::io::Error| StoreError::io(format!("filing {name}"), e);
        let Some(seen) = look(&self.disk.incoming, name).map_err(|e| io(&e))? else { return Ok(()) };
        match seen.kind {
            Plain::File => {
                let recorded = match instead_of {
                    Some(id) => self.handle.block_on(self.view.content(id))?.map_or([0; 32], |c| c.hash),
                    None => [0; 32],
                };
                // Entered before it is sealed: the seal takes its own time away.
                let mut known = recorded;
                if seen.mtime != SEAL_MS {
                    let seen = see(&self.disk, &self.disk.incoming, name).map_err(|e| io(&e))?;
                    known = self.enter_if_other(seen, node, instead_of, recorded)?;
                }
                let still =
                    hold_still(&self.disk, &self.staging, &self.disk.incoming, name).map_err(|e| io(&e))?;
                if still.hash != known {
                    let seen = Seen { hash: still.hash, size: still.size, look: still.before };
                    self.enter_if_other(seen, node, instead_of, recorded)?;
                }
                still.file(&self.disk, &self.staging, &self.disk.incoming, name).map_err(|e| io(&e))
            }
            Plain::Folder => {
                let Some(row) = self.handle.block_on(self.view.row(node))? else { return Ok(()) };
                let (Some(parent), key) = (row.parent, row.key.clone()) else { return Ok(()) };
                let folder =
                    self.ask(EnterRemoved { parent, key, known: None, foreign: None, object: seen.id })?;
                self.disk
                    .rename(
                        &self.disk.incoming,
                        name,
                        &self.disk.removed,
                        &crate::fs::disk::folder_name(folder),
                    )
                    .map_err(|e| io(&e))
            }
            Plain::Other => self.ask(Finding {
                kind: "left alone",
                node: Some(node),
                detail: format!(
                    "neither a file nor a folder stood in the way; it was moved to past/incoming/{name}"
                ),
            }),
        }
    }

    fn condemn(&self, hashes: &[[u8; 32]]) -> Result<()> {
        if self.packing.spares_all() {
            return Ok(());
        }
        let mut places = Vec::with_capacity(hashes.len());
        for hash in hashes {
            let text = hex(hash);
            let dir = self.disk.past_dir(&text).map_err(|e| StoreError::io("opening the past", &e))?;
            places.push((text, dir));
        }
        let list = serde_json::to_string(&places.iter().map(|(text, _)| text).collect::<Vec<_>>());
        let list = list.map_err(|e| StoreError::Catalogue(e.to_string()))?;
        // Whoever refers to such bytes anew files bytes of its own, after it was committed that it does: here on this thread, or
        // while it holds this. So what nothing needs now may go without the writer waiting for the disk.
        let _filing = self.disk.filing.lock();
        if self.disk.past_stays.is_held() {
            return self.disk.note_condemned(hashes).map_err(|e| StoreError::io("noting what is to go", &e));
        }
        let needless: Vec<(String, i64)> = self.handle.block_on(
            sqlx::query_as(
                "SELECT j.value, EXISTS (SELECT 1 FROM packed p WHERE p.org = 1 AND p.hash = unhex(j.value))
                 FROM json_each(?) j WHERE NOT EXISTS
                   (SELECT 1 FROM contents c WHERE c.hash = unhex(j.value) AND c.state = 1)",
            )
            .bind(list)
            .fetch_all(&self.view.pool),
        )?;
        let goes: HashSet<&str> = needless.iter().map(|(text, _)| text.as_str()).collect();
        for (text, dir) in places.iter().filter(|(text, _)| goes.contains(text.as_str())) {
            match self.disk.unlink(dir, text, false) {
                Err(e) if e.kind() != std::io::ErrorKind::NotFound => {
                    return Err(StoreError::io("letting go of past bytes", &e));
                }
                _ => {}
            }
        }
        let packed: Vec<&String> =
            needless.iter().filter(|(_, packed)| *packed != 0).map(|(text, _)| text).collect();
        if packed.is_empty() {
            return Ok(());
        }
        let packed = serde_json::to_string(&packed).unwrap_or_default();
        self.ask(ChangeCatalogue::quiet(move |conn| Box::pin(drop_recipes(conn, packed))))
    }
}

/// How something unknown that stood in the way is called in `past/incoming`: it says what it was found instead of.
pub(crate) fn stranger_name(mark: i64, node: NodeId, instead_of: Option<ContentId>) -> String {
    match instead_of {
        Some(content) => format!("x{mark:x}.{:x}.{:x}", node.0, content.0),
        None => format!("x{mark:x}.{:x}", node.0),
    }
}

/// What a name in `past/incoming` waits for.
fn waiting(name: &str) -> Option<File> {
    let number = |text: &str| i64::from_str_radix(text, 16).ok();
    if let Some(id) = name.strip_prefix('c') {
        return number(id).map(|id| File::Content(ContentId(id), NodeId(0)));
    }
    let mut parts = name.strip_prefix('x')?.split('.').skip(1);
    let node = NodeId(number(parts.next()?)?);
    let instead_of = parts.next().and_then(number).map(ContentId);
    Some(File::Stranger { name: name.into(), node, instead_of })
}

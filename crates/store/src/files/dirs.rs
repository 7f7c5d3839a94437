//! Where folders lie on the disk: found by the object, wherever it is on its way.

use crate::fs::disk::{Disk, ObjectId, Plain, folder_name, is_unlinked, look, look_at_open};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{FolderPlacement, shelf_parts};
use crate::fs::pending_rename::DiskLocation;
use crate::txn::operation::Folders;
use crate::txn::owed::Placing;
use crate::txn::read_cache::View;
use quick_cache::sync::Cache;
use std::future::Future;
use std::os::fd::OwnedFd;
use std::pin::Pin;
use std::sync::Arc;
use yellow_attic_core::NodeId;

/// Directory handles kept open; a handle stays right when its directory is moved.
const KEPT: usize = 400;

/// A search that may have to search the folders above first.
type Searching<'a> = Pin<Box<dyn Future<Output = Result<Option<Arc<OwnedFd>>>> + Send + 'a>>;

/// A folder that was made anew where the catalogue says that it lies.
pub(crate) struct Remade {
    pub node: NodeId,
    pub name: String,
    pub object: ObjectId,
}

type Remaking<'a> = Pin<Box<dyn Future<Output = Result<Option<(Arc<OwnedFd>, Vec<Remade>)>>> + Send + 'a>>;

/// Opens the directories of nodes.
#[derive(Clone)]
pub(crate) struct Dirs {
    disk: Arc<Disk>,
    view: View,
    placing: Placing,
    open: Arc<Cache<NodeId, Open>>,
    /// The same for the placer, which works through the marks in their order: while a folder that came back is still
    /// to come, its old directory is the one that an earlier mark means. [`Dirs::arrived`] sets the new one.
    placed: Arc<Cache<NodeId, Arc<OwnedFd>>>,
}

/// A handle, and the object for which the catalogue had its folder when it was opened. A folder that came back from
/// having been taken apart is another object: what its old directory was is not its place any more, though it may
/// still stand somewhere.
#[derive(Clone)]
struct Open {
    dir: Arc<OwnedFd>,
    taken_for: ObjectId,
}

impl Folders for Dirs {
    fn now(&self, folder: NodeId) -> Pin<Box<dyn Future<Output = Result<Arc<OwnedFd>>> + Send + '_>> {
        Box::pin(self.find_now(folder))
    }

    fn disk(&self) -> &Disk {
        &self.disk
    }
}

impl Dirs {
    pub fn new(disk: Arc<Disk>, view: View, placing: Placing) -> Dirs {
        let (open, placed) = (Arc::new(Cache::new(KEPT)), Arc::new(Cache::new(KEPT)));
        Dirs { disk, view, placing, open, placed }
    }

    /// The directory of a folder. An error of kind `BytesMissing` if it is nowhere.
    pub async fn find(&self, node: NodeId) -> Result<Arc<OwnedFd>> {
        // A rename can pass between two looks: look again before giving up.
        self.find_by(node, 20).await
    }

    /// The same for the placer, which alone renames: one look is enough.
    pub async fn find_now(&self, node: NodeId) -> Result<Arc<OwnedFd>> {
        if let Some(dir) = self.known_placed(node) {
            return Ok(dir);
        }
        let dir = self.find_by(node, 1).await?;
        self.placed.insert(node, dir.clone());
        Ok(dir)
    }

    /// The placer's own handle.
    fn known_placed(&self, node: NodeId) -> Option<Arc<OwnedFd>> {
        let dir = self.placed.get(&node)?;
        if is_unlinked(&*dir) {
            self.placed.remove(&node);
            return None;
        }
        Some(dir)
    }

    /// Whether the placer knows where a folder's directory is.
    pub fn is_placed(&self, node: NodeId) -> bool {
        self.known_placed(node).is_some()
    }

    /// A folder is this directory for the placer from now on.
    pub fn arrived(&self, node: NodeId, dir: OwnedFd) {
        self.placed.insert(node, Arc::new(dir));
    }

    async fn find_by(&self, node: NodeId, looks: usize) -> Result<Arc<OwnedFd>> {
        let placer = looks == 1;
        if !placer && let Some(open) = self.known(node).await? {
            return Ok(open);
        }
        let begun = std::time::Instant::now();
        for attempt in 0.. {
            if let Some(dir) = self.search(node, &mut Vec::new(), (false, placer)).await? {
                return Ok(dir);
            }
            if looks == 1 || attempt > 2 && self.placing.is_idle() {
                break;
            }
            // A rename that failed is tried again in half a second: it is waited for.
            if attempt + 1 >= looks && begun.elapsed() > crate::files::placer::TRIED_AGAIN_WITHIN {
                break;
            }
            tokio::time::sleep(std::time::Duration::from_millis(2)).await;
        }
        match self.search(node, &mut Vec::new(), (true, placer)).await? {
            Some(dir) => Ok(dir),
            None => Err(StoreError::BytesMissing(self.name_of(node).await)),
        }
    }

    /// An open handle whose directory is still somewhere, and still the folder's: one that was removed by hand takes
    /// nothing any more.
    async fn known(&self, node: NodeId) -> Result<Option<Arc<OwnedFd>>> {
        let Some(open) = self.open.get(&node) else { return Ok(None) };
        let other = self.view.folder(node).await?.is_some_and(|folder| folder.object != open.taken_for);
        if other || is_unlinked(&*open.dir) {
            self.open.remove(&node);
            return Ok(None);
        }
        Ok(Some(open.dir))
    }

    fn keep(&self, node: NodeId, dir: &Arc<OwnedFd>, taken_for: ObjectId) {
        self.open.insert(node, Open { dir: dir.clone(), taken_for });
    }

    /// The directory of a folder into which something is placed: where the catalogue says that it lies. One that was
    /// renamed or removed by hand is made anew there, and what was found is told; `None`: it was removed, and is nowhere.
    pub async fn target(&self, node: NodeId) -> Result<Option<(Arc<OwnedFd>, Vec<Remade>)>> {
        match self.find_now(node).await {
            Ok(dir) if self.is_at_home(node, &dir).await? => return Ok(Some((dir, Vec::new()))),
            Ok(_) => self.forget_way(node).await?,
            Err(StoreError::BytesMissing(_)) => {}
            Err(e) => return Err(e),
        }
        match self.find_now(node).await {
            Ok(dir) => Ok(Some((dir, Vec::new()))),
            Err(StoreError::BytesMissing(_)) => self.remake(node).await,
            Err(e) => Err(e),
        }
    }

    /// Whether a directory lies under the names that the catalogue has for it, up to the top of its shelf. One
    /// that is on its way counts as right.
    async fn is_at_home(&self, node: NodeId, dir: &OwnedFd) -> Result<bool> {
        let io = |e: &std::io::Error| StoreError::io("looking for a folder", e);
        let (mut node, mut object) = (node, look_at_open(dir).map_err(|e| io(&e))?.id);
        loop {
            let (Some(row), Some(folder)) = (self.view.row(node).await?, self.view.folder(node).await?)
            else {
                return Ok(true);
            };
            if folder.lies != FolderPlacement::Placed || !self.placing.places_of(folder.object).is_empty() {
                return Ok(true);
            }
            let Some(parent) = row.parent else {
                let Some(shelf) = self.view.shelf(row.shelf) else { return Ok(true) };
                let path = shelf_parts(shelf.kind, &shelf.disk_name).join("/");
                return Ok(look(&self.disk.shelves, &path)
                    .map_err(|e| io(&e))?
                    .is_some_and(|l| l.id == object));
            };
            let above = match self.find_now(parent).await {
                Ok(above) => above,
                Err(StoreError::BytesMissing(_)) => return Ok(false),
                Err(e) => return Err(e),
            };
            if look(&*above, row.name()).map_err(|e| io(&e))?.is_none_or(|l| l.id != object) {
                return Ok(false);
            }
            (node, object) = (parent, look_at_open(&*above).map_err(|e| io(&e))?.id);
        }
    }

    /// Drops the handles of a folder and of all above it.
    async fn forget_way(&self, node: NodeId) -> Result<()> {
        let mut next = Some(node);
        while let Some(node) = next {
            self.open.remove(&node);
            self.placed.remove(&node);
            next = self.view.row(node).await?.and_then(|row| row.parent);
        }
        Ok(())
    }

    /// Makes the directory of a folder where the catalogue says that it lies, with those above it.
    fn remake<'a>(&'a self, node: NodeId) -> Remaking<'a> {
        Box::pin(async move {
            let (Some(row), Some(folder)) = (self.view.row(node).await?, self.view.folder(node).await?)
            else {
                return Ok(None);
            };
            let Some(parent) = row.parent.filter(|_| folder.lies == FolderPlacement::Placed) else {
                return Ok(None);
            };
            let (above, mut made) = match self.find_now(parent).await {
                Ok(above) => (above, Vec::new()),
                Err(StoreError::BytesMissing(_)) => match self.remake(parent).await? {
                    Some(remade) => remade,
                    None => return Ok(None),
                },
                Err(e) => return Err(e),
            };
            let io =
                |e: &std::io::Error| StoreError::io(format!("making the folder \"{}\" anew", row.name()), e);
            self.disk.step("make a folder anew").map_err(|e| io(&e))?;
            if look(&*above, row.name()).map_err(|e| io(&e))?.is_some_and(|l| l.kind != Plain::Folder) {
                // Whoever put it there decides what becomes of it.
                let why = "a file has its name on the disk; give that another name";
                let context = format!("the folder \"{}\" is gone", row.name());
                return Err(StoreError::Io { context, source: Arc::new(std::io::Error::other(why)) });
            }
            let dir = Arc::new(self.disk.make_dir(&*above, row.name()).map_err(|e| io(&e))?);
            let object = look_at_open(&*dir).map_err(|e| io(&e))?.id;
            self.keep(node, &dir, folder.object);
            self.placed.insert(node, dir.clone());
            made.push(Remade { node, name: row.name().into(), object });
            Ok(Some((dir, made)))
        })
    }

    /// What a folder was taken to be is another object from now on.
    pub fn learn(&self, node: NodeId, dir: OwnedFd, taken_for: ObjectId) {
        let dir = Arc::new(dir);
        self.keep(node, &dir, taken_for);
        self.placed.insert(node, dir);
    }

    /// The directory of a location, for the placer.
    pub async fn of(&self, loc: &DiskLocation) -> Result<Arc<OwnedFd>> {
        match loc {
            DiskLocation::Staging(_) => Ok(self.disk.staging.clone()),
            DiskLocation::Incoming(_) => Ok(self.disk.incoming.clone()),
            DiskLocation::Removed(_) | DiskLocation::Apart(_) => Ok(self.disk.removed.clone()),
            DiskLocation::In(node, _) => self.find_now(*node).await,
            DiskLocation::Top(kind, name) => {
                let [org, kind, _] = shelf_parts(*kind, name);
                let dir = self.disk.make_shelf_dir(&[org, kind]);
                Ok(Arc::new(dir.map_err(|e| StoreError::io("opening the folder of the shelves", &e))?))
            }
        }
    }

    async fn name_of(&self, node: NodeId) -> String {
        match self.view.row(node).await {
            Ok(Some(row)) => row.name().to_string(),
            _ => format!("folder {node}"),
        }
    }

    /// `adopt`: take a directory that stands in the right place although it is another
    /// object: another program made it anew. `placer`: by the placer, for which its own handles come first.
    fn search<'a>(
        &'a self,
        node: NodeId,
        within: &'a mut Vec<NodeId>,
        (adopt, placer): (bool, bool),
    ) -> Searching<'a> {
        Box::pin(async move {
            if placer && let Some(dir) = self.known_placed(node) {
                return Ok(Some(dir));
            }
            if let Some(open) = self.known(node).await? {
                return Ok(Some(open));
            }
            if within.contains(&node) {
                return Ok(None);
            }
            let Some(folder) = self.view.folder(node).await? else { return Ok(None) };
            let row = self.view.row(node).await?;
            let pending = self.placing.places_of(folder.object);
            if let Some(row) = row.as_ref().filter(|r| r.parent.is_none() && pending.is_empty()) {
                let Some(shelf) = self.view.shelf(row.shelf) else { return Ok(None) };
                // Never made here: its disk may not be mounted.
                let dir =
                    self.disk.shelf_dir(&shelf_parts(shelf.kind, &shelf.disk_name)).map_err(|e| {
                        match e.kind() {
                            std::io::ErrorKind::NotFound => StoreError::ShelfMissing(shelf.name.clone()),
                            _ => StoreError::io(format!("opening the shelf \"{}\"", shelf.name), &e),
                        }
                    })?;
                let dir = Arc::new(dir);
                self.keep(node, &dir, folder.object);
                return Ok(Some(dir));
            }
            let mut candidates = Vec::new();
            if folder.lies == FolderPlacement::Removed {
                candidates.push(DiskLocation::Removed(node));
            } else if let Some(row) = &row
                && let Some(parent) = row.parent
            {
                candidates.push(DiskLocation::In(parent, row.name().into()));
            }
            candidates.extend(pending);
            within.push(node);
            for place in candidates {
                let opened = match &place {
                    DiskLocation::Removed(n) => self.disk.open_dir(&self.disk.removed, &folder_name(*n)).ok(),
                    DiskLocation::Staging(_) => self.disk.open_dir(&self.disk.staging, &place.name()).ok(),
                    DiskLocation::Apart(_) => self.disk.open_dir(&self.disk.removed, &place.name()).ok(),
                    DiskLocation::Incoming(_) => None,
                    DiskLocation::Top(..) => {
                        let above = self.of(&place).await?;
                        self.disk.open_dir(&*above, &place.name()).ok()
                    }
                    DiskLocation::In(parent, name) => {
                        match self.search(*parent, within, (adopt, placer)).await? {
                            Some(dir) => self.disk.open_dir(&*dir, name).ok(),
                            None => None,
                        }
                    }
                };
                if let Some(fd) = opened
                    && (adopt || is(&fd, folder.object))
                {
                    within.pop();
                    let dir = Arc::new(fd);
                    self.keep(node, &dir, folder.object);
                    return Ok(Some(dir));
                }
            }
            within.pop();
            Ok(None)
        })
    }
}

fn is(fd: &OwnedFd, object: ObjectId) -> bool {
    look_at_open(fd).is_ok_and(|l| l.id == object)
}

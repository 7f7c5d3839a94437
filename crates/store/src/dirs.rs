//! Where folders lie on the disk: found by the object, wherever it is on its way.

use crate::disk::{Disk, ObjectId, folder_name, look_at_open};
use crate::error::{Result, StoreError};
use crate::model::Lies;
use crate::placer::Placing;
use crate::task::Loc;
use crate::view::View;
use crate::writer::shelf_parts;
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

/// Opens the directories of nodes.
#[derive(Clone)]
pub(crate) struct Dirs {
    disk: Arc<Disk>,
    view: View,
    placing: Placing,
    open: Arc<Cache<NodeId, Arc<OwnedFd>>>,
}

impl Dirs {
    pub fn new(disk: Arc<Disk>, view: View, placing: Placing) -> Dirs {
        Dirs { disk, view, placing, open: Arc::new(Cache::new(KEPT)) }
    }

    /// The directory of a folder. An error of kind `BytesMissing` if it is nowhere.
    pub async fn find(&self, node: NodeId) -> Result<Arc<OwnedFd>> {
        if let Some(open) = self.open.get(&node) {
            return Ok(open);
        }
        // A rename can pass between two looks: look again before giving up.
        for attempt in 0..20 {
            if let Some(dir) = self.search(node, &mut Vec::new(), false).await? {
                return Ok(dir);
            }
            if attempt > 2 && self.placing.is_idle() {
                break;
            }
            tokio::time::sleep(std::time::Duration::from_millis(2)).await;
        }
        match self.search(node, &mut Vec::new(), true).await? {
            Some(dir) => Ok(dir),
            None => Err(StoreError::BytesMissing(self.name_of(node).await)),
        }
    }

    /// The directory of a location, for the placer.
    pub async fn of(&self, loc: &Loc) -> Result<Arc<OwnedFd>> {
        match loc {
            Loc::Staging(_) => Ok(self.disk.staging.clone()),
            Loc::Incoming(_) => Ok(self.disk.incoming.clone()),
            Loc::Removed(_) => Ok(self.disk.removed.clone()),
            Loc::In(node, _) => self.find(*node).await,
            Loc::Top(kind, name) => {
                let [org, kind, _] = shelf_parts(*kind, name);
                let dir = self.disk.shelf_dir(&[org, kind]);
                Ok(Arc::new(dir.map_err(|e| StoreError::io("opening the folder of the shelves", &e))?))
            }
        }
    }

    pub fn forget(&self, node: NodeId) {
        self.open.remove(&node);
    }

    async fn name_of(&self, node: NodeId) -> String {
        match self.view.row(node).await {
            Ok(Some(row)) => row.name().to_string(),
            _ => format!("folder {node}"),
        }
    }

    /// `adopt`: take a directory that stands in the right place although it is another
    /// object: another program made it anew.
    fn search<'a>(&'a self, node: NodeId, within: &'a mut Vec<NodeId>, adopt: bool) -> Searching<'a> {
        Box::pin(async move {
            if let Some(open) = self.open.get(&node) {
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
                let dir = self
                    .disk
                    .shelf_dir(&shelf_parts(shelf.kind, &shelf.disk_name))
                    .map_err(|e| StoreError::io(format!("opening the shelf \"{}\"", shelf.name), &e))?;
                let dir = Arc::new(dir);
                self.open.insert(node, dir.clone());
                return Ok(Some(dir));
            }
            let mut candidates = Vec::new();
            if folder.lies == Lies::Removed {
                candidates.push(Loc::Removed(node));
            } else if let Some(row) = &row
                && let Some(parent) = row.parent
            {
                candidates.push(Loc::In(parent, row.name().into()));
            }
            candidates.extend(pending);
            within.push(node);
            for place in candidates {
                let opened = match &place {
                    Loc::Removed(n) => self.disk.open_dir(&self.disk.removed, &folder_name(*n)).ok(),
                    Loc::Staging(_) => self.disk.open_dir(&self.disk.staging, &place.name()).ok(),
                    Loc::Incoming(_) => None,
                    Loc::Top(..) => {
                        let above = self.of(&place).await?;
                        self.disk.open_dir(&*above, &place.name()).ok()
                    }
                    Loc::In(parent, name) => match self.search(*parent, within, adopt).await? {
                        Some(dir) => self.disk.open_dir(&*dir, name).ok(),
                        None => None,
                    },
                };
                if let Some(fd) = opened
                    && (adopt || is(&fd, folder.object))
                {
                    within.pop();
                    let dir = Arc::new(fd);
                    self.open.insert(node, dir.clone());
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

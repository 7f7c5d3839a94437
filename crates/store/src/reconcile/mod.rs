//! What lies on the disk, compared with the catalogue and taken into the timeline.

mod bytes;
mod children;
mod heal;
mod pass;
pub mod report;
pub(crate) mod watcher;

use crate::engine::Engine;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::ShelfKind;
use crate::fs::progress::Progress;
use async_recursion::async_recursion as boxed;
use pass::Pass;
use ref_cast::RefCast;
use report::Report;
use std::collections::HashSet;
use std::sync::Arc;
use yellow_attic_core::NodeId;

/// The disk, as hands have left it.
#[derive(Clone, RefCast)]
#[repr(transparent)]
pub struct OnDisk(pub(crate) Engine);

impl Engine {
    /// The disk, as hands have left it.
    pub fn on_disk(&self) -> &OnDisk {
        OnDisk::ref_cast(self)
    }
}

/// Where is looked, and how.
#[derive(Clone, Debug, Default)]
pub struct Looking {
    /// All beneath these folders; beneath all shelves where there is none.
    pub folders: Vec<NodeId>,
    /// Whether each file is hashed, however much it looks as it was.
    pub verify: bool,
    /// Whether what is found is taken up; else it is only told.
    pub take_up: bool,
    /// Whether files that the disk has damaged are put right, if sound bytes are anywhere. Beside `verify` and `take_up`.
    pub heal: bool,
    /// Folders with backups in which sound bytes are looked for as well.
    pub heal_from: Vec<std::path::PathBuf>,
    /// Whether so much may be gone that it would be asked about.
    pub accept_gone: bool,
    /// Whether others go first: it rests as long as it looked.
    pub paced: bool,
    /// Whoever wants to know how far it is, or to end it: what was taken up until then stays.
    pub progress: Option<Arc<Progress>>,
}

impl OnDisk {
    /// Looks at all beneath some folders. What is taken up is told as it was found.
    #[boxed]
    pub async fn reconcile(&self, looking: &Looking) -> Result<Report> {
        self.0.shared.placing.settle().await?;
        if let Some(progress) = &looking.progress {
            progress.begin("looking at the disk", 0);
        }
        let mut pass = Pass::new(&self.0, looking.clone(), false);
        let folders = match looking.folders.is_empty() {
            false => looking.folders.clone(),
            true => self.0.shared.view.shelves().iter().map(|shelf| shelf.root).collect(),
        };
        if looking.folders.is_empty() {
            self.tell_nobodys(&mut pass.report)?;
        }
        for folder in folders {
            pass.look_beneath(folder).await?;
        }
        pass.finish().await
    }

    /// Folders beside the shelves that are no shelf's.
    fn tell_nobodys(&self, report: &mut Report) -> Result<()> {
        let (disk, shelves) = (&self.0.shared.disk, self.0.shared.view.shelves());
        for (kind, word) in [(ShelfKind::Home, "home"), (ShelfKind::Shared, "shared")] {
            let dir = match disk.shelf_dir(&["main", word]) {
                Ok(dir) => dir,
                Err(e) if e.kind() == std::io::ErrorKind::NotFound => continue,
                Err(e) => return Err(StoreError::io(format!("reading shelves/main/{word}"), &e)),
            };
            let names =
                disk.names(&dir).map_err(|e| StoreError::io(format!("reading shelves/main/{word}"), &e))?;
            for name in names {
                let name = String::from_utf8_lossy(&name).into_owned();
                if shelves.iter().any(|shelf| shelf.kind == kind && shelf.disk_name == name) {
                    continue;
                }
                let what = match kind {
                    ShelfKind::Home => format!(
                        "shelves/main/home/{name}: no account has it. Make the account {name} and it is that home with all in it, move it into a home or a shelf, or leave it"
                    ),
                    ShelfKind::Shared => format!(
                        "shelves/main/shared/{name}: no shelf has it. Make a shelf of that name and it is that shelf with all in it, move it into one, or leave it"
                    ),
                };
                report.nobodys.add(|| what, 0);
            }
        }
        Ok(())
    }

    /// Looks at some names in folders, and at all beneath folders that are new. `believe`: what is gone is.
    #[boxed]
    pub(crate) async fn look_at(
        &self,
        names: Vec<(NodeId, Option<HashSet<String>>)>,
        believe: bool,
    ) -> Result<Report> {
        let mut pass = Pass::new(&self.0, Looking { take_up: true, ..Looking::default() }, !believe);
        for (folder, names) in names {
            pass.look_into(folder, names.as_ref()).await?;
        }
        pass.finish().await
    }
}

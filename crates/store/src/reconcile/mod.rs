//! What lies on the disk, compared with the catalogue and taken into the timeline.

mod bytes;
mod children;
mod heal;
mod pass;
pub mod report;
pub(crate) mod watcher;

use crate::engine::Engine;
use crate::fs::error::Result;
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
        for folder in folders {
            pass.look_beneath(folder).await?;
        }
        pass.finish().await
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

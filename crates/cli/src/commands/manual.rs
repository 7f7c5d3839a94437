//! `yattic manual`

use crate::output::Done;
use std::path::PathBuf;

/// Write the manual pages into a folder.
#[derive(clap::Args)]
pub struct Manual {
    /// Where the pages go.
    folder: PathBuf,
}

impl Manual {
    pub fn run(self, command: clap::Command) -> Done {
        std::fs::create_dir_all(&self.folder)?;
        clap_mangen::generate_to(command, &self.folder)?;
        Ok(())
    }
}

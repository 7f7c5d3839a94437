//! How far the catalogue was, kept beside it: an older one is found out.

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::Path;

const COMMITS: &str = "commits";

/// How far the catalogue is, written beside it after each commit. Not synced each time: after a power cut it may say
/// less than the catalogue, never more.
pub(crate) struct Commits {
    file: Option<File>,
    newest: i64,
    synced: std::time::Instant,
}

impl Commits {
    /// At the most so much of it is unknown after a power cut.
    const SYNC_EVERY: std::time::Duration = std::time::Duration::from_secs(5);

    pub(crate) fn read(data: &Path) -> i64 {
        let text = std::fs::read_to_string(data.join(COMMITS)).unwrap_or_default();
        text.trim().parse().unwrap_or(0)
    }

    pub fn open(data: &Path) -> Commits {
        let file = File::options().create(true).truncate(false).write(true).open(data.join(COMMITS));
        Commits {
            newest: Commits::read(data),
            file: file
                .map_err(|error| tracing::warn!(%error, "how far the catalogue is cannot be noted beside it"))
                .ok(),
            synced: std::time::Instant::now(),
        }
    }

    /// Notes that so many groups are committed. A failure is no trouble: the next one is noted again.
    pub fn note(&mut self, commits: i64) {
        if commits <= self.newest {
            return;
        }
        self.newest = commits;
        let Some(file) = &self.file else { return };
        let _ = file.write_all_at(format!("{commits:020}\n").as_bytes(), 0);
        if self.synced.elapsed() > Commits::SYNC_EVERY {
            self.synced = std::time::Instant::now();
            if let Ok(file) = file.try_clone() {
                tokio::task::spawn_blocking(move || drop(file.sync_data()));
            }
        }
    }
}

//! How fast and when this computer's pairs carry anything: kept beside their states, for all of them together.

use parking_lot::Mutex;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use yellow_attic_core::limits::Limits;

fn file_of(folder: &Path) -> PathBuf {
    folder.join("limits.json")
}

/// Reads them; none are set if there is no file.
pub fn read(folder: &Path) -> std::io::Result<Limits> {
    match std::fs::read(file_of(folder)) {
        Ok(text) => serde_json::from_slice(&text).map_err(std::io::Error::other),
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(Limits::default()),
        Err(e) => Err(e),
    }
}

/// Writes them.
pub fn write(limits: &Limits, folder: &Path) -> std::io::Result<()> {
    let new = file_of(folder).with_extension("new");
    std::fs::write(&new, serde_json::to_vec(limits).map_err(std::io::Error::other)?)?;
    std::fs::rename(new, file_of(folder))
}

/// Bytes that go one way, no faster than so many a second.
#[derive(Default)]
pub struct Pace(Mutex<(Option<u64>, Option<Instant>)>);

impl Pace {
    pub(super) fn set(&self, rate: Option<u64>) {
        self.0.lock().0 = rate.filter(|rate| *rate > 0);
    }

    /// Waits until so many bytes may go.
    pub async fn take(&self, bytes: u64) {
        let until = {
            let mut pace = self.0.lock();
            let Some(rate) = pace.0 else { return };
            let now = Instant::now();
            let begins = pace.1.filter(|at| *at > now).unwrap_or(now);
            let ends = begins + Duration::from_secs_f64(bytes as f64 / rate as f64);
            pace.1 = Some(ends);
            ends
        };
        tokio::time::sleep_until(until.into()).await;
    }
}

//! How fast and when this computer's pairs carry anything: kept beside their states, for all of them together.

use parking_lot::Mutex;
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

/// How fast and when.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Limits {
    /// The most that is sent, in bytes a second.
    pub up: Option<u64>,
    /// The most that is fetched, in bytes a second.
    pub down: Option<u64>,
    /// From when to when, each day by this computer's clock, nothing is carried: `HH:MM`.
    pub quiet: Option<(String, String)>,
}

fn file_of(folder: &Path) -> PathBuf {
    folder.join("limits.json")
}

/// A time of day, in minutes.
pub fn minute(text: &str) -> Option<u32> {
    let (hour, minute) = text.split_once(':')?;
    let (hour, minute): (u32, u32) = (hour.parse().ok()?, minute.parse().ok()?);
    (hour < 24 && minute < 60).then_some(hour * 60 + minute)
}

impl Limits {
    /// Reads them; none are set if there is no file.
    pub fn read(folder: &Path) -> std::io::Result<Limits> {
        match std::fs::read(file_of(folder)) {
            Ok(text) => serde_json::from_slice(&text).map_err(std::io::Error::other),
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(Limits::default()),
            Err(e) => Err(e),
        }
    }

    /// Writes them.
    pub fn write(&self, folder: &Path) -> std::io::Result<()> {
        let new = file_of(folder).with_extension("new");
        std::fs::write(&new, serde_json::to_vec(self).map_err(std::io::Error::other)?)?;
        std::fs::rename(new, file_of(folder))
    }

    /// Until when nothing is carried, at a minute of the day; none if it may be.
    pub fn quiet_until(&self, now: u32) -> Option<&str> {
        let (from, to) = self.quiet.as_ref()?;
        let (begins, ends) = (minute(from)?, minute(to)?);
        let within = match begins <= ends {
            true => (begins..ends).contains(&now),
            // Over midnight.
            false => now >= begins || now < ends,
        };
        within.then_some(to)
    }
}

/// Bytes that go one way, no faster than so many a second.
#[derive(Default)]
pub struct Pace(Mutex<(Option<u64>, Option<Instant>)>);

impl Pace {
    fn set(&self, rate: Option<u64>) {
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

/// Both ways, for all pairs of this computer.
#[derive(Default)]
pub struct Paces {
    /// What is sent.
    pub up: Pace,
    /// What is fetched.
    pub down: Pace,
}

impl Paces {
    /// Goes by other limits from now on.
    pub fn set(self: &Arc<Paces>, limits: &Limits) {
        self.up.set(limits.up);
        self.down.set(limits.down);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn quiet_hours_go_over_midnight() {
        let limits =
            |from: &str, to: &str| Limits { quiet: Some((from.into(), to.into())), ..Limits::default() };
        let at = |text: &str| minute(text).unwrap();
        let night = limits("22:00", "06:30");
        assert_eq!(night.quiet_until(at("23:10")), Some("06:30"));
        assert_eq!(night.quiet_until(at("06:29")), Some("06:30"));
        assert_eq!(night.quiet_until(at("06:30")), None);
        let day = limits("09:00", "17:00");
        assert_eq!((day.quiet_until(at("08:59")), day.quiet_until(at("09:00"))), (None, Some("17:00")));
        for bad in ["24:00", "9", "9:60", "a:b", ""] {
            assert_eq!(minute(bad), None, "{bad}");
        }
    }

    #[tokio::test]
    async fn a_pace_is_kept_by_all_who_share_it() {
        let paces = Arc::new(Paces::default());
        paces.set(&Limits { up: Some(1000), ..Limits::default() });
        let begun = Instant::now();
        futures_util::future::join_all((0..10).map(|_| paces.up.take(100))).await;
        paces.down.take(1 << 40).await;
        let took = begun.elapsed().as_millis();
        assert!(took >= 990, "{took}");
    }
}

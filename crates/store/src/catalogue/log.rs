//! The catalogue's write-ahead log, and what it makes durable beside itself.
//!
//! A file system with one journal keeps one order of all that is done to names and sizes. So a log that has grown is found
//! longer after a power cut only if everything before is there too: bytes that were written back, files that were made, renames
//! that were carried out. They and the commit that speaks of them come to the disk by one flush, or not at all.
//!
//! The first commit after a check-point writes over the beginning of the log, and makes nothing durable but itself: before it
//! the journal is committed on its own.

use crate::fs::disk::Disk;
use crate::fs::error::Result;
use sqlx::SqliteConnection;
use std::path::PathBuf;

/// The log is carried over into the catalogue when it has grown to this.
const LARGE: u64 = 16 << 20;
/// A reader kept the log from being carried over: it is tried again when it has grown by this.
const MORE: u64 = 4 << 20;

/// What is known of the log. Only the writer makes it longer or shorter.
pub(crate) struct Log {
    path: PathBuf,
    /// Whether its growth orders all else in the data folder.
    orders: bool,
    /// The last commit made it longer, and nothing was carried over since.
    grows: bool,
    length: u64,
    check_point_at: u64,
}

impl Log {
    pub fn of(disk: &Disk) -> Log {
        let mut name = disk.catalogue().into_os_string();
        name.push("-wal");
        Log {
            path: name.into(),
            orders: disk.is_journaled() && disk.has_its_catalogue(),
            grows: false,
            length: 0,
            check_point_at: LARGE,
        }
    }

    fn measure(&self) -> u64 {
        std::fs::metadata(&self.path).map_or(0, |m| m.len())
    }

    /// Whether the next commit makes durable what was done before it.
    pub fn carries(&self) -> bool {
        self.orders && self.grows && self.measure() == self.length
    }

    /// After a commit: whether it has made durable what was done before it.
    pub fn has_carried(&mut self) -> bool {
        let length = self.measure();
        self.grows = length > self.length;
        if length < self.length {
            self.check_point_at = LARGE;
        }
        self.length = length;
        self.orders && self.grows
    }

    /// Carries the log over into the catalogue, if it has grown large.
    pub async fn carry_over(&mut self, conn: &mut SqliteConnection) -> Result<()> {
        if self.length < self.check_point_at {
            return Ok(());
        }
        self.grows = false;
        self.check_point_at = self.length + MORE;
        sqlx::query("PRAGMA wal_checkpoint(PASSIVE)").execute(conn).await?;
        Ok(())
    }
}

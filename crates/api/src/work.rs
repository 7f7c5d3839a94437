//! Work in the background: backups, looks at the disk.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Something that was asked for, and what became of it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Job {
    /// Its number.
    pub id: i64,
    /// backup or reconcile.
    pub kind: String,
    /// Who asked, in words.
    pub by: String,
    /// What was asked, in words.
    pub what: String,
    /// runs, done, failed, stopped, or cut off (the service ended first).
    pub state: String,
    /// What became of it, in words.
    pub said: String,
    /// When it began.
    pub begun: String,
    /// When it ended; none: it runs.
    pub ended: Option<String>,
    /// How far it is, while it runs.
    pub progress: Option<JobProgress>,
}

/// How far something is.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobProgress {
    /// What is being done, in words.
    pub step: String,
    /// Things done in this step.
    pub done: u64,
    /// Of so many; 0 if that is not known.
    pub of: u64,
    /// Bytes read or written so far.
    pub bytes: u64,
}

/// The list of jobs, and how it stands with backups.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Jobs {
    /// The newest first, at most 100.
    pub jobs: Vec<Job>,
    /// How it stands with backups.
    pub backup: BackupState,
}

/// How it stands with backups.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BackupState {
    /// kept: there is one, not too old. old, failed, none: something is to be done.
    pub state: String,
    /// The same as a sentence.
    pub why: String,
    /// The folder that is set; none: there is no schedule.
    pub to: Option<String>,
    /// The hour of each day at which it begins, in the machine's time zone.
    pub at: Option<String>,
    /// When the next one is due.
    pub next: Option<String>,
    /// The last one that is whole.
    pub last: Option<LastBackup>,
}

/// A backup that is whole, and was tried.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LastBackup {
    /// When it ended.
    pub ended: String,
    /// Where it is.
    pub to: String,
    /// Its name there.
    pub run: String,
    /// Files.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Bytes that it brought.
    pub new_bytes: u64,
    /// Files that were brought back from it and hashed.
    pub drilled: u64,
}

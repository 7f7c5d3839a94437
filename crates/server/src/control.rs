//! The socket in the data folder by which the commands of `yatticd` ask a running service: its owner's and root's alone.
//!
//! One request is one line of JSON; what comes back are lines, with how far it is, and in the end what became of it. Whoever closes
//! the line ends what he asked for.

use crate::jobs::work;
use crate::state::State;
use actix_web::web;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::fs::File;
use std::io;
use std::os::fd::AsRawFd;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::{UnixListener, UnixStream};
use yellow_attic_store::StoreError;
use yellow_attic_store::backup::verify::Keep;
use yellow_attic_store::fs::progress::Progress;

/// What the socket is called.
pub const NAME: &str = "control.sock";
/// Who asks by it, in words.
pub const BY: &str = "a command on this machine";
/// A request is no longer than this.
const LONGEST: u64 = 64 << 10;
const TELL_EVERY: Duration = Duration::from_millis(250);
/// A command that takes nothing for so long is taken for gone: what it asked for must not stand still with it.
const READS_WITHIN: Duration = Duration::from_secs(10);

/// What is asked for.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(tag = "do", rename_all = "snake_case")]
pub enum Request {
    /// A backup.
    BackUp {
        /// The folder.
        to: PathBuf,
        /// All runs of so many days stay, and the last of each of so many months; none: all stay.
        keep: Option<(i64, i64)>,
        /// Whether it begins anew where backups have been.
        anew: bool,
    },
    /// Everything is read.
    Check {
        /// Whether damage is put right.
        heal: bool,
        /// Folders with backups in which sound bytes may be.
        from: Vec<PathBuf>,
    },
    /// A look at the disk.
    Reconcile {
        /// Where, and how.
        wanted: work::Wanted,
    },
}

/// What comes back.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(tag = "told", rename_all = "snake_case")]
pub enum Told {
    /// How far it is.
    Going {
        /// What is being done.
        step: String,
        /// Things done.
        done: u64,
        /// Of so many; 0 if that is not known.
        of: u64,
        /// Bytes so far.
        bytes: u64,
    },
    /// It has ended.
    Ended {
        /// In words.
        words: String,
        /// For programs.
        report: Value,
        /// Whether it is less than was asked for.
        failed: bool,
    },
    /// It was not done.
    Refused {
        /// Why.
        why: String,
    },
}

/// The socket by a path that is short enough whatever the data folder is called.
fn path(data: &Path) -> io::Result<(File, PathBuf)> {
    let folder = File::open(data)?;
    let path = PathBuf::from(format!("/proc/self/fd/{}/{NAME}", folder.as_raw_fd()));
    Ok((folder, path))
}

/// Begins to listen. What is left of a service that ended is replaced: only one has the data folder open.
pub fn listen(data: &Path) -> io::Result<UnixListener> {
    let (_folder, path) = path(data)?;
    match std::fs::remove_file(&path) {
        Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(e),
        _ => {}
    }
    let listener = UnixListener::bind(&path)?;
    std::fs::set_permissions(&path, std::os::unix::fs::PermissionsExt::from_mode(0o600))?;
    Ok(listener)
}

/// Answers until the service ends.
pub async fn follow(state: web::Data<State>, listener: UnixListener) {
    loop {
        match listener.accept().await {
            Ok((line, _)) => {
                let state = state.clone();
                state.engine.runtime().clone().spawn(async move {
                    if let Err(error) = answer(&state, line).await {
                        tracing::debug!(%error, "a line of the control socket broke");
                    }
                });
            }
            Err(error) => {
                tracing::warn!(%error, "the control socket takes nobody just now");
                tokio::time::sleep(Duration::from_secs(1)).await;
            }
        }
    }
}

async fn answer(state: &State, line: UnixStream) -> io::Result<()> {
    let own = rustix::process::geteuid().as_raw();
    let theirs = line.peer_cred()?.uid();
    let (from, mut to) = line.into_split();
    let mut from = BufReader::new(from);
    if theirs != own && theirs != 0 {
        let why = "this socket is for root and for whom the service runs as".into();
        return tell(&mut to, &Told::Refused { why }).await;
    }
    let mut text = String::new();
    (&mut from).take(LONGEST).read_line(&mut text).await?;
    let request: Request = match serde_json::from_str(&text) {
        Ok(request) => request,
        Err(e) => {
            let why = format!("the service does not know this request ({e}): is it of another version?");
            return tell(&mut to, &Told::Refused { why }).await;
        }
    };
    let progress = Arc::new(Progress::default());
    let mut going = std::pin::pin!(carry_out(state, request, progress.clone()));
    let mut gone = std::pin::pin!(async move {
        let mut rest = [0u8; 1];
        // Nothing more is said on it: it ends, or breaks.
        while from.read(&mut rest).await.is_ok_and(|n| n > 0) {}
    });
    let mut alone = false;
    loop {
        tokio::select! {
            ended = &mut going => {
                return match ended {
                    Ok(said) => tell(&mut to, &Told::Ended { words: said.words, report: said.report, failed: said.failed }).await,
                    Err(error) => tell(&mut to, &Told::Refused { why: error.to_string() }).await,
                };
            }
            () = &mut gone, if !alone => {
                alone = true;
                progress.stop.store(true, Ordering::SeqCst);
            }
            () = tokio::time::sleep(TELL_EVERY), if !alone => {
                let step = progress.step.lock().to_string();
                let [done, of, bytes] = [&progress.done, &progress.of, &progress.bytes].map(|n| n.load(Ordering::Relaxed));
                // Whoever reads nothing more ends it as well.
                let told = Told::Going { step, done, of, bytes };
                let told = tokio::time::timeout(READS_WITHIN, tell(&mut to, &told)).await;
                if !matches!(told, Ok(Ok(()))) {
                    alone = true;
                    progress.stop.store(true, Ordering::SeqCst);
                }
            }
        }
    }
}

async fn carry_out(
    state: &State,
    request: Request,
    progress: Arc<Progress>,
) -> Result<work::Said, StoreError> {
    match request {
        Request::BackUp { to, keep, anew } => {
            let keep = keep.map(|(days, months)| Keep { days, months });
            let running = || StoreError::BadInput("a backup runs already: see the list of jobs".into());
            let _only = state.works.claim("backup").ok_or_else(running)?;
            let what = to.display().to_string();
            let work = work::back_up(&state.engine, &to, keep, anew, progress.clone());
            work::run(&state.engine, &state.works, "backup", BY, &what, progress, work).await
        }
        Request::Check { heal, mut from } => {
            let running = || StoreError::BadInput("a check runs already: see the list of jobs".into());
            let _only = state.works.claim("check").ok_or_else(running)?;
            from.extend(state.config.backup.as_ref().map(|backup| backup.to.clone()));
            let work = work::check_all(&state.engine, heal, &from, false, progress.clone());
            work::run(&state.engine, &state.works, "check", BY, work::ALL, progress, work).await
        }
        Request::Reconcile { wanted } => {
            let running = || StoreError::BadInput("somebody looks already: see the list of jobs".into());
            let _only = state.works.claim("reconcile").ok_or_else(running)?;
            let what = match [&wanted.accounts[..], &wanted.shelves[..]].concat() {
                all if all.is_empty() => "everything".into(),
                some => some.join(", "),
            };
            let (engine, its) = (state.engine.clone(), progress.clone());
            let work = async move {
                let report = work::reconcile(&engine, &wanted, its).await?;
                Ok(work::Said {
                    words: format!(
                        "{} entries looked at, {} differ{}",
                        report.entries,
                        report.differences(),
                        if wanted.take_up { ", and are taken up" } else { "; nothing was taken up" }
                    ),
                    failed: false,
                    report: serde_json::to_value(&report).unwrap_or_default(),
                })
            };
            work::run(&state.engine, &state.works, "reconcile", BY, &what, progress, work).await
        }
    }
}

async fn tell(to: &mut (impl AsyncWriteExt + Unpin), told: &Told) -> io::Result<()> {
    let mut line = serde_json::to_string(told)?;
    line.push('\n');
    to.write_all(line.as_bytes()).await
}

/// Asks the service that has a data folder open. None if none listens there.
pub async fn ask(
    data: &Path,
    request: &Request,
    mut going: impl FnMut(&Told),
) -> Result<Option<work::Said>, String> {
    let Ok((folder, path)) = path(data) else { return Ok(None) };
    let line = match UnixStream::connect(&path).await {
        Ok(line) => line,
        Err(e) if matches!(e.kind(), io::ErrorKind::NotFound | io::ErrorKind::ConnectionRefused) => {
            return Ok(None);
        }
        Err(e) => return Err(format!("asking the service by {}: {e}", data.join(NAME).display())),
    };
    drop(folder);
    let broke = |e: io::Error| {
        format!("the line to the service broke ({e}); what became of it, its list of jobs tells")
    };
    let (from, mut to) = line.into_split();
    let mut text = serde_json::to_string(request).map_err(|e| e.to_string())?;
    text.push('\n');
    to.write_all(text.as_bytes()).await.map_err(broke)?;
    let mut lines = BufReader::new(from).lines();
    while let Some(line) = lines.next_line().await.map_err(broke)? {
        match serde_json::from_str(&line) {
            Ok(Told::Ended { words, report, failed }) => {
                return Ok(Some(work::Said { words, report, failed }));
            }
            Ok(Told::Refused { why }) => return Err(why),
            Ok(told) => going(&told),
            Err(e) => return Err(format!("the service says what this command does not know: {e}")),
        }
    }
    Err(broke(io::ErrorKind::UnexpectedEof.into()))
}

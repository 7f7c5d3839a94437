//! How other programs of this account ask a mounted folder: by a socket in its own folder, a line of JSON each way.

use super::attributes::{State, is_trouble};
use super::inner::Inner;
use super::keeping::{Came, Told};
use crate::pairs::status::{Left, Status};
use crate::pairs::stubs::stub_of;
use serde::{Deserialize, Serialize};
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::net::UnixStream as Plain;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader};
use tokio::net::{UnixListener, UnixStream};
use tokio::sync::watch;

/// What is asked.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(tag = "do", rename_all = "snake_case")]
pub enum Ask {
    /// Keep this here.
    Keep {
        /// Below the mounted folder.
        path: PathBuf,
    },
    /// Give its room back.
    Release {
        /// Below the mounted folder.
        path: PathBuf,
    },
    /// Where its bytes are.
    State {
        /// Below the mounted folder.
        path: PathBuf,
    },
    /// How much lies here.
    Sums,
    /// Come to an end.
    End,
}

/// So much of what is in trouble is told.
const TROUBLES: usize = 20;

/// How much lies here.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Sums {
    /// Bytes that lie here.
    pub held: u64,
    /// Of so many at most.
    pub limit: u64,
    /// Bytes that the service does not have yet.
    pub owed: u64,
    /// Whether the service has all that was changed here, and all that it has is known here.
    pub in_step: bool,
    /// Bytes fetched since it was mounted.
    pub fetched: u64,
    /// The process.
    pub process: u32,
    /// Why the service does not answer, or takes nothing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub away: Option<String>,
    /// What is in trouble, and what to do about it, below the mounted folder: the first of it.
    #[serde(default)]
    pub trouble: Vec<Left>,
}

/// What is answered.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Answer {
    /// What keeping or releasing came to.
    Came(Came),
    /// Where the bytes are.
    State(State),
    /// How much lies here.
    Sums(Sums),
    /// It ends.
    Ends,
    /// Why not.
    Not(String),
}

/// Where the socket of a mount is.
pub fn socket_of(state: &Path) -> PathBuf {
    state.join("socket")
}

/// By the folder's own handle: a path may be longer than an address can be.
fn address(state: &Path) -> io::Result<(std::fs::File, PathBuf)> {
    use std::os::fd::AsRawFd;
    let folder = std::fs::File::open(state)?;
    let path = PathBuf::from(format!("/proc/self/fd/{}/socket", folder.as_raw_fd()));
    Ok((folder, path))
}

/// Asks a mount, and waits for what it answers.
pub async fn ask(state: &Path, ask: &Ask) -> io::Result<Answer> {
    let (_folder, path) = address(state)?;
    let mut stream = UnixStream::connect(path).await?;
    let mut line = serde_json::to_vec(ask).map_err(io::Error::other)?;
    line.push(b'\n');
    stream.write_all(&line).await?;
    let mut answer = String::new();
    BufReader::new(stream).read_line(&mut answer).await?;
    serde_json::from_str(&answer).map_err(io::Error::other)
}

/// Whether a mount answers.
pub fn answers(state: &Path) -> bool {
    address(state).is_ok_and(|(_folder, path)| Plain::connect(path).is_ok())
}

/// Answers until it is dropped.
pub(super) fn serve(
    state: &Path,
    inner: Arc<Inner>,
    end: watch::Sender<bool>,
) -> io::Result<tokio::task::JoinHandle<()>> {
    let (folder, path) = address(state)?;
    let _ = std::fs::remove_file(&path);
    // Nobody else reaches its folder.
    let listener = UnixListener::bind(&path)?;
    Ok(tokio::spawn(async move {
        let _folder = folder;
        while let Ok((stream, _)) = listener.accept().await {
            let own = stream.peer_cred().is_ok_and(|who| {
                let me = rustix::process::geteuid().as_raw();
                who.uid() == me || who.uid() == 0
            });
            if own {
                tokio::spawn(answer_one(stream, inner.clone(), end.clone()));
            }
        }
    }))
}

async fn answer_one(stream: UnixStream, inner: Arc<Inner>, end: watch::Sender<bool>) {
    let mut stream = BufReader::new(stream);
    let mut line = String::new();
    if stream.read_line(&mut line).await.is_err() {
        return;
    }
    let answer = match serde_json::from_str::<Ask>(&line) {
        Ok(ask) => answer(&inner, ask, &end).await,
        Err(e) => Answer::Not(e.to_string()),
    };
    if let Ok(mut text) = serde_json::to_vec(&answer) {
        text.push(b'\n');
        let _ = stream.write_all(&text).await;
    }
}

fn names(path: &Path) -> Vec<Vec<u8>> {
    path.components()
        .filter_map(|part| match part {
            std::path::Component::Normal(name) => Some(name.as_bytes().to_vec()),
            _ => None,
        })
        .collect()
}

async fn answer(inner: &Arc<Inner>, ask: Ask, end: &watch::Sender<bool>) -> Answer {
    let not = |e: io::Error| Answer::Not(e.to_string());
    match ask {
        Ask::Keep { path } => inner.keep(&names(&path)).await.map_or_else(not, Answer::Came),
        Ask::Release { path } => inner.release(&names(&path)).await.map_or_else(not, Answer::Came),
        Ask::State { path } => {
            let mut told = Told::new(inner);
            let found = inner.find(&names(&path), &mut told).await;
            found.and_then(|seen| inner.summed(seen.attr.ino.0)).map_or_else(not, Answer::State)
        }
        Ask::Sums => Answer::Sums(inner.sums()),
        Ask::End => {
            let _ = end.send(true);
            Answer::Ends
        }
    }
}

impl Inner {
    fn sums(&self) -> Sums {
        let mut pairs: Vec<String> = self.tops.read().values().map(|top| top.pair.clone()).collect();
        pairs.sort_unstable();
        let in_step = self.at_hand.is_settled(pairs.iter().map(String::as_str));
        let statuses: Vec<Arc<Status>> = pairs.iter().filter_map(|pair| self.at_hand.status(pair)).collect();
        let trouble = statuses.iter().flat_map(|status| {
            // Below the body each stands where it stands below the mounted folder.
            let top = Path::new(&status.local).strip_prefix(&self.body).unwrap_or(Path::new(""));
            let troubles = status.left.iter().filter(|left| is_trouble(left));
            troubles.map(move |left| Left {
                path: top.join(&left.path).display().to_string(),
                why: left.why.clone(),
            })
        });
        let trouble = trouble.take(TROUBLES).collect();
        let room = self.at_hand.room();
        Sums {
            held: room.held(),
            limit: room.limit(),
            owed: room.owed(),
            in_step,
            fetched: self.blocks.fetched.load(Ordering::Relaxed),
            process: std::process::id(),
            away: statuses.iter().find_map(|status| status.trouble.clone()),
            trouble,
        }
    }

    /// Where the bytes are of a file, or of all beneath a folder.
    fn summed(&self, ino: u64) -> io::Result<State> {
        let own = self.state(ino)?;
        if self.see(ino)?.attr.kind != fuser::FileType::Directory {
            return Ok(own);
        }
        let mut sum = State { state: "here".into(), ..own };
        let (mut whole, mut none) = (true, true);
        let mut told = Told::new(self);
        for entry in self.list(ino)? {
            let Some(seen) = entry.seen else { continue };
            told.tell(ino, &entry.name, &seen);
            let one = self.summed(seen.attr.ino.0)?;
            sum.here += one.here;
            sum.size += one.size;
            match one.state.as_str() {
                "here" => none &= one.size == 0,
                "there" => whole = false,
                "partly" => (whole, none) = (false, false),
                // What needs somebody is told before all else.
                other if sum.state != "trouble" => {
                    (sum.state, sum.why) = (other.to_string(), one.why);
                }
                _ => {}
            }
        }
        if sum.state == "here" && !whole {
            sum.state = if none { "there" } else { "partly" }.into();
        }
        Ok(sum)
    }
}

/// What a file beneath says of itself, for those who look at the body with no mount at work.
pub fn is_only_there(file: &Path) -> bool {
    std::fs::File::open(file).is_ok_and(|file| stub_of(file).is_some())
}

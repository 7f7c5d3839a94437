//! What this computer keeps the same, whoever asks: commands, the page, the tray.
//!
//! - [`Computer`]: its pairs, and what may be done to them.
//! - [`keeper`]: keeps them all at work. [`copies`]: what two changed at once, kept twice until somebody settles it.

pub mod copies;
pub mod keeper;

use crate::pairs::Shared;
use crate::pairs::ground::Ground;
use crate::pairs::name_of;
use crate::pairs::preview::{Out, Preview};
use crate::pairs::run::{Running, Stopped, machine};
use crate::pairs::state::{About, State, StateError, file_of};
use crate::pairs::status::Status;
use futures_util::future::BoxFuture;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use yellow_attic_client::{Client, Error};
use yellow_attic_core::merge::filter::Filter;
use yellow_attic_core::merge::{Pair, Way};

/// Why something was not done, and what to do about it.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{says}")]
pub struct Refused {
    /// For scripts.
    pub code: &'static str,
    /// What, and why.
    pub says: String,
    /// What to do about it.
    pub remedy: String,
}

impl Refused {
    /// With a code, a reason and a remedy.
    pub fn new(code: &'static str, says: impl Into<String>, remedy: impl Into<String>) -> Refused {
        Refused { code, says: says.into(), remedy: remedy.into() }
    }
}

impl From<StateError> for Refused {
    fn from(error: StateError) -> Refused {
        let remedy = match &error {
            StateError::Later(_) => "",
            _ => {
                "End the pair and add it again: both sides are compared, nothing is removed, and what is equal is not sent."
            }
        };
        Refused::new("state_unusable", error.to_string(), remedy)
    }
}

impl From<std::io::Error> for Refused {
    fn from(error: std::io::Error) -> Refused {
        Refused::new("disk_refuses", error.to_string(), "See that this computer's disk can be written to.")
    }
}

impl From<Error> for Refused {
    fn from(error: Error) -> Refused {
        match error {
            Error::Refused(problem) => {
                Refused::new("service_refuses", problem.detail.clone(), problem.remedy.clone())
            }
            other => Refused::new(
                "service_away",
                format!("the service does not answer: {other}"),
                "See that it runs and can be reached from here.",
            ),
        }
    }
}

impl From<Stopped> for Refused {
    fn from(stopped: Stopped) -> Refused {
        Refused::new("pair_stopped", stopped.to_string(), "Nothing was changed.")
    }
}

pub(crate) type Done<T> = Result<T, Refused>;

/// Gives a client of the service at an address, with this computer's token.
pub type Clients = Arc<dyn Fn(String) -> BoxFuture<'static, Done<Client>> + Send + Sync>;

/// A pair that is to be made.
pub struct NewPair {
    /// The service's address.
    pub service: String,
    /// The folder here; made if it is not there.
    pub local: PathBuf,
    /// The folder there, as shelf:/path.
    pub remote: String,
    /// Which way it goes.
    pub way: Way,
    /// What is left out.
    pub filter: Filter,
}

/// This computer.
#[derive(Clone)]
pub struct Computer {
    /// Where the states of its pairs lie.
    pub folder: PathBuf,
    clients: Clients,
}

impl Computer {
    /// With the states of its pairs in this folder.
    pub fn new(folder: PathBuf, clients: Clients) -> Computer {
        Computer { folder, clients }
    }

    /// A client of the service at an address.
    pub async fn client(&self, service: &str) -> Done<Client> {
        (self.clients)(service.to_string()).await
    }

    /// All pairs, by their folders here.
    pub async fn pairs(&self) -> Done<Vec<About>> {
        let mut pairs = Vec::new();
        for entry in fs::read_dir(&self.folder)? {
            let path = entry?.path();
            if path.extension().is_some_and(|e| e == "db") {
                let mut state = State::open(&path).await?;
                let about = state.about().await;
                state.close().await?;
                match about {
                    // It was ended, or is made, at this moment.
                    Err(StateError::Nothing) => {}
                    // Whoever looks is the only one who knows of it.
                    Ok(about) if about.preview => {}
                    about => pairs.push(about?),
                }
            }
        }
        pairs.sort_by(|a: &About, b| a.local.cmp(&b.local));
        Ok(pairs)
    }

    /// One pair, by its own number.
    pub async fn pair(&self, id: &str) -> Done<About> {
        let pairs = self.pairs().await?;
        pairs.into_iter().find(|pair| pair.id == id).ok_or_else(|| {
            Refused::new(
                "no_such_pair",
                "there is no such pair",
                "yattic sync ls names them, with their numbers.",
            )
        })
    }

    /// What a pair is doing, as it told last.
    pub fn status(&self, pair: &About) -> Done<Status> {
        let told = Status::read(&self.folder, &pair.id)?;
        Ok(told.unwrap_or_else(|| Status {
            id: pair.id.clone(),
            local: pair.local.display().to_string(),
            remote: pair.remote.clone(),
            state: "stopped".into(),
            ..Status::default()
        }))
    }

    /// Only one process works on the pairs.
    pub fn lock(&self) -> Done<File> {
        let path = self.folder.join("lock");
        let file = File::options().create(true).truncate(false).write(true).open(path)?;
        file.try_lock().map_err(|_| {
            let says = "yattic sync run is at work already";
            Refused::new("at_work", says, "Stop that one first, or leave it to it.")
        })?;
        Ok(file)
    }

    /// Whether one does.
    pub fn is_at_work(&self) -> bool {
        File::open(self.folder.join("lock")).is_ok_and(|file| file.try_lock_shared().is_err())
    }

    /// Makes a pair. Nothing is carried over before it works.
    pub async fn add(&self, new: NewPair) -> Done<About> {
        let about = self.about(&new).await?;
        self.make(&about).await?;
        Ok(about)
    }

    /// What joining both would do. Nothing is changed.
    pub async fn preview_new(&self, new: NewPair) -> Done<Preview> {
        let made = !new.local.exists();
        let about = About { preview: true, ..self.about(&new).await? };
        let told = async {
            self.make(&about).await?;
            let client = self.client(&about.service).await?;
            let running = Running::open(&self.folder, &about.id, client, Arc::<Shared>::default()).await?;
            Ok(running.preview().await?)
        };
        let told = told.await;
        self.forget(&about)?;
        if made {
            let _ = fs::remove_dir(&about.local);
        }
        told
    }

    async fn about(&self, new: &NewPair) -> Done<About> {
        let client = self.client(&new.service).await?;
        let facts = client.place(&new.remote, None).await?;
        if facts.node.kind != yellow_attic_client::api::Kind::Folder {
            let says = format!("{} is a file", facts.path);
            return Err(Refused::new("not_a_folder", says, "Name the folder that it is in."));
        }
        fs::create_dir_all(&new.local)
            .map_err(|e| Refused::new("disk_refuses", format!("{}: {e}", new.local.display()), ""))?;
        let local = fs::canonicalize(&new.local)?;
        for other in self.pairs().await? {
            if local.starts_with(&other.local) || other.local.starts_with(&local) {
                return Err(Refused::new(
                    "pairs_overlap",
                    format!("{} and {} lie in each other", local.display(), other.local.display()),
                    "Choose a folder that is in no other pair, and holds none.",
                ));
            }
        }
        let device = client.devices().await?.devices.into_iter().find(|d| d.this).map(|d| d.name);
        Ok(About {
            id: name_of(&format!("{} {} {}", local.display(), facts.node.id, jiff::Timestamp::now())),
            service: new.service.clone(),
            local,
            remote: facts.path.clone(),
            node: facts.node.id,
            shelf: facts.node.id,
            device: device.unwrap_or_else(|| "computer".into()),
            way: new.way,
            machine: machine(),
            paused: false,
            filter: new.filter.clone(),
            preview: false,
        })
    }

    async fn make(&self, about: &About) -> Done<()> {
        Ground::open(&about.local, &about.id, true).map_err(|why| {
            let says = format!("{}: {why}", about.local.display());
            Refused::new("disk_refuses", says, "Choose a folder that you may write to.")
        })?;
        let made = self.keep(about).await;
        if made.is_err() {
            let _ = self.forget(about);
        }
        made
    }

    /// Keeps what a pair is to do from now on; whoever works on it reads it when it is nudged.
    pub async fn keep(&self, about: &About) -> Done<()> {
        let mut state = State::open(&file_of(&self.folder, &about.id)).await?;
        state.set_about(about).await?;
        Ok(state.close().await?)
    }

    /// What is known of a pair, as it was kept last.
    pub async fn known(&self, about: &About) -> Done<Option<Pair>> {
        let mut state = State::open(&file_of(&self.folder, &about.id)).await?;
        let known = state.pair().await?;
        state.close().await?;
        Ok(known)
    }

    /// What a pair would leave out with another filter.
    pub async fn preview_filter(&self, about: &About, filter: &Filter) -> Done<Out> {
        if let Some(mut known) = self.known(about).await? {
            known.set_filter(filter.clone());
            return Ok(Out::of(&known));
        }
        // Nothing is known yet: it is looked at, which only one may do.
        let _lock = self.lock()?;
        self.keep(&About { filter: filter.clone(), ..about.clone() }).await?;
        let told = async {
            let client = self.client(&about.service).await?;
            let running = Running::open(&self.folder, &about.id, client, Arc::<Shared>::default()).await?;
            Ok(running.preview().await?.out)
        };
        let told = told.await;
        self.keep(about).await?;
        told
    }

    /// Lets a pair remove what it asked for.
    pub async fn allow(&self, about: &About) -> Done<()> {
        let mut state = State::open(&file_of(&self.folder, &about.id)).await?;
        state.allow().await?;
        Ok(state.close().await?)
    }

    /// Forgets a pair that nobody works on, and gives its folder back.
    pub fn forget(&self, about: &About) -> Done<()> {
        for ending in ["db", "db-wal", "db-shm", "status.json"] {
            match fs::remove_file(self.folder.join(format!("{}.{ending}", about.id))) {
                Err(e) if e.kind() != std::io::ErrorKind::NotFound => return Err(e.into()),
                _ => {}
            }
        }
        Ok(Ground::leave(&about.local, &about.id)?)
    }

    /// The pair in which a local path lies, and the way to it from the pair's folder.
    pub fn within<'p>(pairs: &'p [About], path: &Path) -> Option<(&'p About, PathBuf)> {
        pairs.iter().find_map(|pair| Some((pair, path.strip_prefix(&pair.local).ok()?.to_path_buf())))
    }
}

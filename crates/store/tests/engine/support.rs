//! A store in a folder of its own, with a clock that stands until it is moved.

use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::{AccountId, DeviceId, Name, NodeId, ShelfPath};
use yellow_attic_store::fs::clock::SetClock;
use yellow_attic_store::fs::fault_points::{AllSteps, Steps};
use yellow_attic_store::people::accounts::Role;
use yellow_attic_store::{Actor, Engine, Options, Outcome, Result, Row};
pub use yellow_attic_trials::faults::StopAfter;

/// 1 March 2026, 08:00 UTC.
pub const START: i64 = 1_772_352_000_000;

pub struct Attic {
    pub dir: tempfile::TempDir,
    pub clock: Arc<SetClock>,
    pub engine: Engine,
    pub ines: Actor,
    pub home: NodeId,
}

pub fn name(text: &str) -> Name {
    Name::new(text).unwrap()
}

pub fn options(data: &Path, clock: &Arc<SetClock>, steps: Arc<dyn Steps>) -> Options {
    Options { clock: clock.clone(), steps, background: false, take_apart_after_ms: 0, ..Options::new(data) }
}

/// Whoever acts from their own account.
pub fn actor(account: AccountId, who: &str) -> Actor {
    let (device, through, tokens) = (None, None, Default::default());
    Actor {
        account: Some(account),
        device,
        who: who.into(),
        from: "test".into(),
        through,
        scope: None,
        tokens,
    }
}

impl Attic {
    pub async fn new() -> Attic {
        let dir = tempfile::tempdir().unwrap();
        let clock = Arc::new(SetClock::at(START));
        let engine =
            Engine::open(options(&dir.path().join("data"), &clock, Arc::new(AllSteps))).await.unwrap();
        let account = engine
            .people()
            .make_account(&Actor::service(), "ines", "Ines", Role::Administrator, "x")
            .await
            .unwrap();
        let ines = actor(account.id, "ines");
        let home = engine.home_of(account.id).unwrap().root;
        Attic { dir, clock, engine, ines, home }
    }

    pub fn data(&self) -> PathBuf {
        self.dir.path().join("data")
    }

    /// Where Ines' files lie.
    pub fn files(&self) -> PathBuf {
        self.data().join("shelves/main/home/ines")
    }

    pub fn device(&self, number: i64) -> Actor {
        Actor { device: Some(DeviceId(number)), ..self.ines.clone() }
    }

    /// Stops the engine and opens it again.
    pub async fn reopen(self) -> Attic {
        self.reopen_with(Arc::new(AllSteps)).await
    }

    /// The same, and these are asked before each of its steps.
    pub async fn reopen_with(self, steps: Arc<dyn Steps>) -> Attic {
        self.engine.stop().await;
        let engine = Engine::open(options(&self.data(), &self.clock, steps)).await.unwrap();
        Attic { engine, ..self }
    }

    pub async fn find(&self, path: &str) -> Result<Arc<Row>> {
        let names = ShelfPath::names(path).unwrap();
        self.engine.files().resolve(&self.ines, "home", &names).await
    }

    /// The folder of a path, and its last name.
    pub async fn place(&self, path: &str) -> (NodeId, Name) {
        let (parent, last) = path.rsplit_once('/').unwrap_or(("", path));
        (self.find(parent).await.unwrap().node, name(last))
    }

    pub async fn put_as(&self, actor: &Actor, path: &str, bytes: &[u8]) -> Result<Outcome> {
        let (parent, name) = self.place(path).await;
        let staged = self.engine.stage_small(bytes.to_vec())?;
        self.engine
            .files()
            .put(actor, parent, name, staged, self.engine.now_ms(), Conditions::default())
            .await
    }

    pub async fn put(&self, path: &str, bytes: &[u8]) -> Outcome {
        self.put_as(&self.ines, path, bytes).await.unwrap()
    }

    pub async fn mkdir(&self, path: &str) -> NodeId {
        let (parent, name) = self.place(path).await;
        self.engine.files().make_folder(&self.ines, parent, name).await.unwrap().row.unwrap().node
    }

    pub async fn mv_as(&self, actor: &Actor, from: &str, to: &str, replace: bool) -> Result<Outcome> {
        let node = self.find(from).await?.node;
        let (parent, name) = self.place(to).await;
        self.engine.files().move_node(actor, node, parent, name, replace, Conditions::default()).await
    }

    pub async fn mv(&self, from: &str, to: &str) -> Outcome {
        self.mv_as(&self.ines, from, to, false).await.unwrap()
    }

    pub async fn mv_if(&self, from: &str, to: &str) -> Result<Outcome> {
        let node = self.find(from).await?.node;
        let (parent, last) = to.rsplit_once('/').unwrap_or(("", to));
        let parent = self.find(parent).await?.node;
        self.engine
            .files()
            .move_node(&self.ines, node, parent, name(last), false, Conditions::default())
            .await
    }

    pub async fn rm(&self, path: &str) -> Outcome {
        let node = self.find(path).await.unwrap().node;
        self.engine.files().remove(&self.ines, node, Conditions::default()).await.unwrap()
    }

    pub async fn bytes_of(&self, row: &Row) -> Vec<u8> {
        let (mut file, _) = self.engine.files().open_bytes(row).await.unwrap();
        let mut bytes = Vec::new();
        file.read_to_end(&mut bytes).unwrap();
        bytes
    }

    pub async fn cat(&self, path: &str) -> Vec<u8> {
        let row = self.find(path).await.unwrap();
        self.bytes_of(&row).await
    }

    /// The names in a folder, as they are listed.
    pub async fn ls(&self, path: &str) -> Vec<String> {
        let node = self.find(path).await.unwrap().node;
        self.rows(node).await.iter().map(|row| row.name().to_string()).collect()
    }

    /// What is in a folder, as it is listed.
    pub async fn rows(&self, node: NodeId) -> Vec<Row> {
        let mut rows = Vec::new();
        let mut cursor = None;
        loop {
            let page = self
                .engine
                .files()
                .list(&self.ines, node, Default::default(), false, 1000, cursor.as_deref())
                .await
                .unwrap();
            rows.extend(page.items.into_iter().map(|entry| entry.row));
            cursor = page.next;
            if cursor.is_none() {
                return rows;
            }
        }
    }
}

/// A data folder as it is at this instant, with an engine at work in it: what a crash leaves. The objects are others.
pub fn as_after_a_crash(data: &Path) -> tempfile::TempDir {
    let copy = tempfile::tempdir().unwrap();
    // What goes to its place meanwhile is not copied where it was; that is no failure.
    let done = std::process::Command::new("cp").arg("-a").arg(data).arg(copy.path().join("data")).output();
    assert!(done.is_ok() && copy.path().join("data/catalogue.db").exists());
    copy
}

/// Every file below a directory of the disk, with its bytes.
pub fn on_disk(dir: &Path) -> std::collections::BTreeMap<String, Vec<u8>> {
    fn walk(dir: &Path, prefix: &str, found: &mut std::collections::BTreeMap<String, Vec<u8>>) {
        for entry in std::fs::read_dir(dir).unwrap() {
            let entry = entry.unwrap();
            let name = format!("{prefix}{}", entry.file_name().to_string_lossy());
            if entry.file_type().unwrap().is_dir() {
                walk(&entry.path(), &format!("{name}/"), found);
            } else {
                found.insert(name, std::fs::read(entry.path()).unwrap_or_default());
            }
        }
    }
    let mut found = Default::default();
    walk(dir, "", &mut found);
    found
}

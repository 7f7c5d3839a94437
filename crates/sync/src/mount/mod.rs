//! A mounted folder: all that one may see on a service, as an ordinary folder of this computer (FUSE).
//!
//! Beneath it lies a body: a real folder for each shelf, kept the same by a pair like any other ([`crate::pairs`]), but that
//! files which were only told of have no bytes there (`pairs::stubs`). What programs write lies in the body, which is part of
//! the state; what they only read comes in blocks into a cache that may be deleted.
//!
//! - `fs`: what the system asks. `inner`: what its handlers share. `nodes`: numbers for things. `names`, `bytes`,
//!   `attributes`: what is done with them.
//! - `files`: what programs have open. `blocks`: bytes fetched; `content`: of one content. `past`: `.then`.
//! - `tops`: which shelves there are. `keeping`: what is kept and released. `levels`: what one may do. `locks`: on the service. `thumbs`: small pictures.
//!   [`control`]: how other programs ask.

mod attributes;
mod blocks;
mod bytes;
mod content;
pub mod control;
mod files;
mod fs;
mod inner;
mod keeping;
mod levels;
mod locks;
mod names;
mod nodes;
mod past;
mod thumbs;
mod tops;

pub use attributes::State;
pub use keeping::Came;

use crate::computer::keeper::Keeper;
use crate::computer::{Clients, Computer, Done, Refused};
use crate::pairs::Shared;
use crate::pairs::at_hand::{AtHand, Did, write_whole};
use blocks::Blocks;
use files::Files;
use fs::Mounted;
use fuser::{Config, INodeNo, MountOption, Notifier, SessionACL};
use inner::{Inner, space_of};
use nodes::Nodes;
use parking_lot::{Mutex, RwLock};
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use std::ffi::OsStr;
use std::fs::File;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{DirBuilderExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;
use thumbs::Thumbs;
use tokio::sync::watch;
use tops::Tops;
use yellow_attic_core::mounted::room::Room;

/// What a mounted folder is of.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Mount {
    /// Its own number.
    pub id: String,
    /// The service's address.
    pub service: String,
    /// Where it is mounted.
    pub at: PathBuf,
    /// So many bytes lie on this computer at most.
    pub room: u64,
    /// So many stay free on its disk.
    pub floor: u64,
    /// Whether closing and syncing wait for the service.
    pub through: bool,
    /// Whether a file is locked on the service while a program has it open for writing.
    #[serde(default)]
    pub lock: bool,
}

/// Where a mount keeps what it has.
#[derive(Clone, Debug)]
pub struct Folders {
    /// What must not be lost: what is known, what was written.
    pub state: PathBuf,
    /// What may be deleted at any time.
    pub cache: PathBuf,
    /// Where file managers look for small pictures.
    pub thumbnails: Option<PathBuf>,
}

impl Mount {
    fn file(state: &Path) -> PathBuf {
        state.join("mount.json")
    }

    /// Reads what is kept of it.
    pub fn read(state: &Path) -> Done<Option<Mount>> {
        match std::fs::read(Mount::file(state)) {
            Ok(text) => Ok(Some(serde_json::from_slice(&text).map_err(std::io::Error::other)?)),
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(None),
            Err(e) => Err(e.into()),
        }
    }

    /// Keeps it.
    pub fn write(&self, state: &Path) -> Done<()> {
        own_folder(state)?;
        Ok(write_whole(&Mount::file(state), &serde_json::to_vec(self).map_err(std::io::Error::other)?)?)
    }
}

fn own_folder(path: &Path) -> std::io::Result<()> {
    std::fs::DirBuilder::new().recursive(true).mode(0o700).create(path)?;
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o700))
}

/// The folder of the pairs of a mount.
pub fn pairs_of(state: &Path) -> PathBuf {
    state.join("pairs")
}

/// Only one mounts it.
fn lock(state: &Path) -> Done<File> {
    let file = File::options().create(true).truncate(false).write(true).open(state.join("lock"))?;
    file.try_lock().map_err(|_| {
        Refused::new("mounted_already", "it is mounted already", "End that first: yattic mount --end DIR.")
    })?;
    Ok(file)
}

/// A place where a mount whose process is gone still stands is freed.
fn free_place(at: &Path) -> Done<()> {
    let gone = |e: &std::io::Error| matches!(e.raw_os_error(), Some(libc::ENOTCONN | libc::ECONNABORTED));
    if let Err(e) = std::fs::read_dir(at)
        && gone(&e)
    {
        detach(at);
    }
    match std::fs::create_dir_all(at).and_then(|()| std::fs::read_dir(at)) {
        Ok(mut entries) => match entries.next() {
            None => Ok(()),
            Some(_) => Err(Refused::new(
                "not_empty",
                format!("{} is not empty", at.display()),
                "Choose an empty folder, or one that is not there yet: nothing in it would be seen while it is mounted.",
            )),
        },
        Err(e) => {
            let says = format!("{}: {e}", at.display());
            Err(Refused::new("disk_refuses", says, "Choose a folder that you may write to."))
        }
    }
}

/// Takes a mount away whatever has files open in it: they are told so when they go on.
pub fn detach(at: &Path) {
    let lazily = rustix::mount::UnmountFlags::DETACH;
    if rustix::mount::unmount(at, lazily).is_err() {
        for program in ["fusermount3", "fusermount"] {
            let done = std::process::Command::new(program).arg("-uz").arg(at).output();
            if done.is_ok_and(|done| done.status.success()) {
                break;
            }
        }
    }
}

/// Mounts, tells `ready` when it is, and works until it is to stop.
pub async fn run(
    mount: Mount,
    folders: Folders,
    clients: Clients,
    mut stop: watch::Receiver<bool>,
    ready: impl FnOnce(&Mount),
) -> Done<()> {
    own_folder(&folders.state)?;
    let _lock = lock(&folders.state)?;
    free_place(&mount.at)?;
    mount.write(&folders.state)?;
    let body = folders.state.join("body");
    let pairs = pairs_of(&folders.state);
    own_folder(&body)?;
    own_folder(&pairs)?;
    own_folder(&folders.cache)?;
    raise_open_files();
    let computer = Computer::new(pairs, clients);
    let client = computer.client(&mount.service).await?;
    let (did, told) = channel();
    let room = Room::new(mount.room, mount.floor);
    let at_hand = Arc::new(AtHand::new(room, did, folders.state.join("kept.json"))?);
    let shared = Arc::new(Shared { at_hand: Some(at_hand.clone()), ..Shared::default() });
    let keeper = Keeper::with(computer.clone(), shared.clone())?;
    let tops = Tops::new(body.clone(), folders.state.join("tops.json"), mount.service.clone());
    // The service may be away: what was known is there all the same.
    let looked = tokio::time::timeout(Duration::from_secs(5), tops.look(&client, &computer)).await;
    let known = tops.known()?;
    if let (Ok(Err(why)), true) = (looked, known.is_empty()) {
        return Err(why);
    }
    let nodes = Arc::new(Nodes::new(&body)?);
    let blocks = Blocks::open(folders.cache.clone(), client.clone(), at_hand.clone(), shared)?;
    let files = Arc::new(Files::new(nodes.clone(), blocks.clone(), at_hand.clone()));
    let space = client.shelves().await.map_or((0, 0), |shelves| space_of(&shelves));
    let inner = Arc::new(Inner {
        body,
        nodes,
        blocks,
        files,
        at_hand,
        runtime: tokio::runtime::Handle::current(),
        client: client.clone(),
        past: Default::default(),
        tops: RwLock::new(known),
        through: mount.through,
        locking: mount.lock,
        locks: Default::default(),
        thumbs: Thumbs::new(folders.thumbnails.clone(), mount.at.clone()),
        budgets: Mutex::default(),
        space: RwLock::new(space),
        asked_space: Mutex::default(),
    });
    let session = begin(&mount, inner.clone())?;
    let notifier = session.notifier();
    let its = inner.clone();
    std::thread::Builder::new().name("mount-news".into()).spawn(move || take_back(told, &its, &notifier))?;
    keeper.look().await?;
    let (end, mut ended) = watch::channel(false);
    let control = Ended(control::serve(&folders.state, inner.clone(), end)?);
    let chores = Ended(tokio::spawn(chores(inner.clone(), tops, keeper.clone(), client)));
    ready(&mount);
    tokio::select! {
        _ = stop.wait_for(|stop| *stop) => {}
        _ = ended.wait_for(|end| *end) => {}
        () = unmounted(mount.at.clone()) => {}
    }
    drop(chores);
    inner.see_to_locks(true).await;
    // Files that are open are told that it is over; what was written lies in the body.
    let at = mount.at.clone();
    let _ = tokio::task::spawn_blocking(move || {
        detach(&at);
        let _ = session.umount_and_join();
    })
    .await;
    keeper.stop().await;
    drop(control);
    let _ = std::fs::remove_file(control::socket_of(&folders.state));
    Ok(())
}

/// So many files may be open as this system lets it at most.
fn raise_open_files() {
    let mut limit = rustix::process::getrlimit(rustix::process::Resource::Nofile);
    limit.current = limit.maximum;
    let _ = rustix::process::setrlimit(rustix::process::Resource::Nofile, limit);
}

fn begin(mount: &Mount, inner: Arc<Inner>) -> Done<fuser::BackgroundSession> {
    let mut config = Config::default();
    config.mount_options = vec![
        MountOption::FSName("yattic".into()),
        MountOption::Subtype("yattic".into()),
        MountOption::DefaultPermissions,
        MountOption::NoSuid,
        MountOption::NoDev,
        MountOption::NoAtime,
    ];
    config.acl = SessionACL::Owner;
    config.n_threads = Some(4);
    config.clone_fd = true;
    fuser::spawn_mount(Mounted::new(inner), &mount.at, &config).map_err(|e| {
        let remedy = match e.kind() {
            std::io::ErrorKind::NotFound | std::io::ErrorKind::PermissionDenied => {
                "This needs /dev/fuse, and for others than root the program fusermount3: on Debian, apt install fuse3."
            }
            _ => "See that nothing else is mounted there.",
        };
        Refused::new("cannot_mount", format!("{} cannot be mounted: {e}", mount.at.display()), remedy)
    })
}

/// What pairs did is taken back from what the system remembers: on a thread of its own, which holds nothing that a handler
/// waits for.
fn take_back(told: Receiver<Did>, inner: &Inner, notifier: &Notifier) {
    while let Ok(first) = told.recv() {
        // Much is done at once, and each folder need be told of once.
        let mut all = vec![first];
        while let Ok(more) = told.try_recv() {
            all.push(more);
        }
        let mut folders = HashSet::new();
        if all.contains(&Did::Rights) {
            // What was told of permissions, and nothing of bytes.
            inner.nodes.all().into_iter().for_each(|ino| drop(notifier.inval_inode(INodeNo(ino), -1, 0)));
        }
        for did in &all {
            let Did::In { folder, name } = did else { continue };
            let folder = inner.nodes.number(*folder);
            if inner.nodes.knows(folder) {
                let _ = notifier.inval_entry(INodeNo(folder), OsStr::from_bytes(name));
                folders.insert(folder);
                inner.thumbs.changed(folder);
            }
        }
        for folder in folders {
            let _ = notifier.inval_inode(INodeNo(folder), 0, 0);
        }
        std::thread::sleep(Duration::from_millis(5));
    }
}

/// Waits until somebody else takes the mount away.
async fn unmounted(at: PathBuf) {
    loop {
        tokio::time::sleep(Duration::from_secs(2)).await;
        let path = at.clone();
        let looked = tokio::task::spawn_blocking(move || is_mounted(&path)).await;
        if looked.is_ok_and(|is| !is) {
            return;
        }
    }
}

/// Whether something of ours is mounted there, without touching it.
pub fn is_mounted(at: &Path) -> bool {
    let escaped = at.to_string_lossy().replace('\\', "\\134").replace(' ', "\\040").replace('\t', "\\011");
    std::fs::read_to_string("/proc/self/mounts").is_ok_and(|mounts| {
        mounts.lines().any(|line| {
            let parts: Vec<&str> = line.split(' ').collect();
            // Mounted by root itself, the kind is told without its second half.
            matches!(parts[..], ["yattic", at, "fuse" | "fuse.yattic", ..] if at == escaped)
        })
    })
}

/// So many turns, of two seconds, until it is asked again what there is and what may be done.
const LOOK: u64 = 5;
/// And until what is kept is looked for.
const KEEP: u64 = 15;

/// What is done now and then.
async fn chores(inner: Arc<Inner>, tops: Tops, keeper: Arc<Keeper>, client: yellow_attic_client::Client) {
    let mut turn = 0_u64;
    loop {
        let its = inner.clone();
        let _ = tokio::task::spawn_blocking(move || {
            its.files.hand_over_what_is_still();
            its.blocks.forget_deleted();
        })
        .await;
        inner.blocks.make_room(0).await;
        inner.see_to_locks(false).await;
        if turn.is_multiple_of(LOOK) {
            let looked = tops.look(&client, &keeper.computer).await;
            if let Ok(known) = tops.known() {
                *inner.tops.write() = known;
            }
            if looked == Ok(true) {
                inner.at_hand.rights_changed();
                let _ = keeper.look().await;
            }
        }
        if turn.is_multiple_of(KEEP) {
            let _ = inner.fetch_all_kept(1).await;
        }
        turn += 1;
        tokio::time::sleep(Duration::from_secs(2)).await;
    }
}

/// Ends with whatever holds it.
struct Ended(tokio::task::JoinHandle<()>);

impl Drop for Ended {
    fn drop(&mut self) {
        self.0.abort();
    }
}

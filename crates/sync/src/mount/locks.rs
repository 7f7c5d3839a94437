//! Locks on the service, by option: while a program has a file open for writing, and until the service has what it wrote, nobody
//! else changes it there.

use super::files::Opened;
use super::inner::{Inner, path_of};
use parking_lot::Mutex;
use std::collections::HashMap;
use std::io;
use std::sync::Arc;
use std::time::{Duration, Instant};
use yellow_attic_client::Error;
use yellow_attic_core::mounted::room::Thing;

/// For so many minutes each time; a lock ends by itself when this computer is gone.
const MINUTES: u32 = 20;
/// Renewed when so much of that is over.
const RENEW: Duration = Duration::from_secs(8 * 60);
/// Whoever opens a file waits so long for the service; if it does not answer they go on without.
const PATIENCE: Duration = Duration::from_secs(5);

struct Lock {
    node: i64,
    file: Arc<Opened>,
    renewed: Instant,
}

/// Those that are held, by the file's number here.
#[derive(Default)]
pub(super) struct Locks(Mutex<HashMap<u64, Lock>>);

impl Inner {
    /// Locks a file that a program wants to write to. EBUSY: somebody else has it locked.
    async fn lock_there(&self, ino: u64) -> Result<Option<i64>, i32> {
        if self.locks.0.lock().contains_key(&ino) {
            return Ok(None);
        }
        let Ok(Some(place)) = self.place(ino) else { return Ok(None) };
        let base = place.top.remote.trim_end_matches('/').to_string();
        let path = format!("{base}/{}", path_of(&place.way));
        let asked = async {
            let facts = self.client.place(&path, None).await?;
            match &facts.node.locked {
                // A person locked it: that is left as it is.
                Some(lock) if lock.mine && !lock.program => Ok(None),
                _ => self.client.lock(facts.node.id, MINUTES).await.map(|_| Some(facts.node.id)),
            }
        };
        match tokio::time::timeout(PATIENCE, asked).await {
            Ok(Err(Error::Refused(p))) if p.status == 423 => Err(libc::EBUSY),
            Ok(Ok(node)) => Ok(node),
            // It is not there yet, or the service is away: there is nothing to lock.
            Ok(Err(_)) | Err(_) => Ok(None),
        }
    }

    /// Opens a file for writing, and locks it on the service before anything of it is changed.
    pub(super) async fn open_locked(self: &Arc<Inner>, ino: u64, flags: i32) -> io::Result<u64> {
        let node = self.lock_there(ino).await.map_err(io::Error::from_raw_os_error)?;
        let opened = self.open(ino, flags);
        match (node, &opened) {
            (Some(node), Ok(handle)) => {
                if let Ok(open) = self.files.get(*handle) {
                    self.holds_lock(node, &open.file);
                }
            }
            (Some(node), Err(_)) => self.give_back(node).await,
            (None, _) => {}
        }
        opened
    }

    fn holds_lock(&self, node: i64, file: &Arc<Opened>) {
        let lock = Lock { node, file: file.clone(), renewed: Instant::now() };
        self.locks.0.lock().insert(file.ino, lock);
    }

    async fn give_back(&self, node: i64) {
        let _ = tokio::time::timeout(PATIENCE, self.client.unlock(node)).await;
    }

    /// Ends locks on files that nobody has open for writing any more and of which the service has all; renews the others.
    pub(super) async fn see_to_locks(&self, all: bool) {
        let (mut ended, mut renewed) = (Vec::new(), Vec::new());
        self.locks.0.lock().retain(|ino, lock| {
            let owed = self.at_hand.room().is_owed(Thing::File(lock.file.object));
            if all || !lock.file.is_written() && !owed {
                ended.push(lock.node);
                return false;
            }
            if lock.renewed.elapsed() > RENEW {
                renewed.push((*ino, lock.node));
            }
            true
        });
        for node in ended {
            self.give_back(node).await;
        }
        for (ino, node) in renewed {
            let again = tokio::time::timeout(PATIENCE, self.client.lock(node, MINUTES)).await;
            if let (Ok(Ok(_)), Some(lock)) = (again, self.locks.0.lock().get_mut(&ino)) {
                lock.renewed = Instant::now();
            }
        }
    }
}

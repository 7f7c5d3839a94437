//! What runs in the background just now: how far it is, and the way to end it.

use parking_lot::Mutex;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use yellow_attic_store::fs::progress::Progress;

/// What runs, by its number; and of which kinds there is to be one only.
#[derive(Default)]
pub struct Works(Mutex<BTreeMap<i64, Arc<Progress>>>, Arc<Mutex<BTreeSet<&'static str>>>);

/// While it is held nothing else of the kind begins.
#[must_use]
pub struct OfItsKind(&'static str, Arc<Mutex<BTreeSet<&'static str>>>);

impl Drop for OfItsKind {
    fn drop(&mut self) {
        self.1.lock().remove(self.0);
    }
}

impl Works {
    /// To be the only one of its kind. None if another one is.
    pub fn claim(&self, kind: &'static str) -> Option<OfItsKind> {
        self.1.lock().insert(kind).then(|| OfItsKind(kind, self.1.clone()))
    }

    /// Something begins.
    pub fn add(&self, id: i64, progress: Arc<Progress>) {
        self.0.lock().insert(id, progress);
    }

    /// It has ended.
    pub fn remove(&self, id: i64) {
        self.0.lock().remove(&id);
    }

    /// How far it is, if it runs.
    pub fn of(&self, id: i64) -> Option<Arc<Progress>> {
        self.0.lock().get(&id).cloned()
    }

    /// Ends it. False if it does not run.
    pub fn stop(&self, id: i64) -> bool {
        self.of(id).inspect(|progress| progress.stop.store(true, Ordering::SeqCst)).is_some()
    }

    /// Waits until none runs, for a while.
    pub async fn ended(&self, most: std::time::Duration) {
        let begun = std::time::Instant::now();
        while !self.0.lock().is_empty() && begun.elapsed() < most {
            tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        }
    }

    /// Ends all.
    pub fn stop_all(&self) {
        self.0.lock().values().for_each(|progress| progress.stop.store(true, Ordering::SeqCst));
    }
}

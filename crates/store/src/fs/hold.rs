//! Something that is not to go while somebody copies it.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

/// How many hold it.
#[derive(Clone, Debug, Default)]
pub(crate) struct Hold(Arc<AtomicUsize>);

/// Holds until it is dropped.
#[must_use]
#[derive(Debug)]
pub(crate) struct Held(Arc<AtomicUsize>);

impl Hold {
    pub fn hold(&self) -> Held {
        self.0.fetch_add(1, Ordering::SeqCst);
        Held(self.0.clone())
    }

    pub fn is_held(&self) -> bool {
        self.0.load(Ordering::SeqCst) > 0
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::SeqCst);
    }
}

//! Who looked at what, gathered per person, file and hour before it enters the record.

use std::collections::HashMap;
use std::sync::Mutex;
use yellow_attic_core::NodeId;
use yellow_attic_store::{Actor, Engine};

/// Files looked at that are kept in memory before they are written.
const MOST: usize = 5_000;
const HOUR_MS: i64 = 3_600_000;

/// Reads that are not written yet.
#[derive(Default)]
pub struct Reads(Mutex<HashMap<Key, Seen>>);

/// The account, the node, the hour.
type Key = (Option<i64>, i64, i64);

struct Seen {
    actor: Actor,
    name: String,
    times: u64,
}

impl Reads {
    /// Somebody read a file. Returns whether it is time to write.
    pub fn note(&self, actor: &Actor, node: NodeId, name: &str, now_ms: i64) -> bool {
        let key = (actor.account.map(|a| a.0), node.0, now_ms / HOUR_MS);
        let mut seen = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        match seen.get_mut(&key) {
            Some(known) => known.times += 1,
            None => {
                seen.insert(key, Seen { actor: actor.clone(), name: name.to_string(), times: 1 });
            }
        }
        seen.len() >= MOST
    }

    /// Writes what was gathered into the record.
    pub async fn write(&self, engine: &Engine) {
        let seen = std::mem::take(&mut *self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner));
        for ((_, node, _), seen) in seen {
            let detail =
                if seen.times == 1 { "once".to_string() } else { format!("{} times in an hour", seen.times) };
            if let Err(error) =
                engine.people().note(&seen.actor, "file read", Some(NodeId(node)), &seen.name, &detail).await
            {
                tracing::warn!(%error, "what was read could not be recorded");
            }
        }
    }
}

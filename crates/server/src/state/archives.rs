//! Selections to fetch as archives, trees fetched last, and checksums of what is in them.

use crate::http::problem::Refusal;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use yellow_attic_core::{AccountId, Moment, NodeId};
use yellow_attic_store::engine::RightsWatch;
use yellow_attic_store::timeline::tree::Tree;
use yellow_attic_store::{Actor, Engine};

/// Which kind of archive.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Format {
    /// ZIP, stored.
    Zip,
    /// POSIX tar with pax headers where they are needed.
    Tar,
}

impl Format {
    /// Reads the word for it.
    pub fn from_word(word: &str) -> Option<Format> {
        match word {
            "zip" => Some(Format::Zip),
            "tar" => Some(Format::Tar),
            _ => None,
        }
    }

    /// The word for it, which is the ending of its name too.
    pub fn word(self) -> &'static str {
        match self {
            Format::Zip => "zip",
            Format::Tar => "tar",
        }
    }

    /// Its media type.
    pub fn media_type(self) -> &'static str {
        match self {
            Format::Zip => "application/zip",
            Format::Tar => "application/x-tar",
        }
    }
}

/// Files and folders in one archive.
pub const MOST_ITEMS: usize = 500_000;

/// Selections that are kept, and for how long.
pub const MOST_KEPT: usize = 200;

pub const KEPT_MS: i64 = 86_400_000;

/// Trees kept in memory, counted by their items.
pub const MOST_ITEMS_KEPT: usize = 100_000;

/// Checksums (CRC-32) of contents by BLAKE3 hash: what a ZIP's directory needs, and what going on with
/// a download would otherwise read again.
pub struct Checksums(pub quick_cache::sync::Cache<[u8; 32], u32>);

impl Default for Checksums {
    fn default() -> Self {
        Checksums(quick_cache::sync::Cache::new(100_000))
    }
}

/// What to fetch.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wanted {
    /// The nodes, in order.
    pub nodes: Vec<NodeId>,
    /// As they were at this moment.
    pub at: Moment,
    /// Zip or tar.
    pub format: Format,
}

/// A tree last fetched: whose, what for, and whether rights have changed since.
pub type Kept = (Option<AccountId>, Wanted, Arc<Tree>, RightsWatch);

/// Selections by the end of their address, and the trees last fetched.
#[derive(Default)]
pub struct Archives {
    pub kept: Mutex<HashMap<String, (AccountId, Wanted, i64)>>,
    pub trees: Mutex<Vec<Kept>>,
}

impl Archives {
    /// Keeps a selection for a day.
    pub fn keep(&self, id: &str, account: AccountId, wanted: Wanted, now: i64) {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        kept.retain(|_, (_, _, until)| *until > now);
        while kept.len() >= MOST_KEPT {
            let Some(oldest) = kept.iter().min_by_key(|(_, k)| k.2).map(|(id, _)| id.clone()) else { break };
            kept.remove(&oldest);
        }
        kept.insert(id.to_string(), (account, wanted, now + KEPT_MS));
    }

    /// A selection of this account.
    pub fn kept(&self, id: &str, account: AccountId, now: i64) -> Option<Wanted> {
        let kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        kept.get(id).filter(|(owner, _, until)| *owner == account && *until > now).map(|k| k.1.clone())
    }

    /// The tree of what is wanted, as somebody may see it.
    pub async fn tree(&self, engine: &Engine, actor: &Actor, wanted: &Wanted) -> Result<Arc<Tree>, Refusal> {
        // Rights are looked at each time, whatever is kept.
        for node in &wanted.nodes {
            engine.history().check_past(actor, *node, wanted.at).await?;
        }
        let known = {
            let mut trees = self.trees.lock().unwrap_or_else(PoisonError::into_inner);
            // What may be seen may be less by now.
            trees.retain(|(_, _, _, watch)| !watch.changed());
            trees.iter().find(|(a, w, ..)| *a == actor.author() && w == wanted).map(|t| t.2.clone())
        };
        if let Some(tree) = known {
            return Ok(tree);
        }
        let watch = engine.rights_watch();
        let tree = Arc::new(engine.files().tree(actor, &wanted.nodes, wanted.at, MOST_ITEMS).await?);
        let mut trees = self.trees.lock().unwrap_or_else(PoisonError::into_inner);
        trees.push((actor.author(), wanted.clone(), tree.clone(), watch));
        while trees.len() > 1 && trees.iter().map(|t| t.2.items.len()).sum::<usize>() > MOST_ITEMS_KEPT {
            trees.remove(0);
        }
        Ok(tree)
    }
}

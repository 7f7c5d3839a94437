//! What is remembered of links and intakes, and who came through one.

use crate::http::problem::Refusal;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use yellow_attic_core::OpeningId;
use yellow_attic_core::openings::{Kind, Open, Shut};
use yellow_attic_store::engine::RightsWatch;
use yellow_attic_store::sharing::openings::Opening;
use yellow_attic_store::{Actor, Engine, Row};

/// Openings kept in memory, and for how long at most.
pub const MOST_KNOWN: usize = 5_000;

pub const KNOWN_MS: i64 = 60_000;

/// For so long it is not asked again whether one acts, if nothing changes.
pub const DECIDED_MS: i64 = 1_000;

/// What is remembered of openings.
pub struct Strangers {
    pub known: Mutex<HashMap<String, Remembered>>,
    /// Grows with every change of a file or folder.
    pub head: tokio::sync::watch::Receiver<i64>,
    pub uses: Mutex<HashMap<OpeningId, (u32, i64, String)>>,
}

/// An opening as it was looked at last.
pub struct Remembered {
    pub opening: Arc<Opening>,
    pub until: i64,
    pub decided: Option<Decided>,
}

/// That it acts, for as long as no file, folder or right has changed since; a right that ends by its
/// date is noticed after [`DECIDED_MS`].
pub struct Decided {
    pub at: i64,
    pub head: i64,
    pub rights: RightsWatch,
    pub open: Open,
    pub target: Arc<Row>,
    pub who: Arc<str>,
}

pub fn lock<T>(of: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    of.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Strangers {
    /// Nothing is remembered yet.
    pub fn new(engine: &Engine) -> Strangers {
        Strangers { known: Mutex::default(), head: engine.head(), uses: Mutex::default() }
    }

    /// Somebody who comes through an opening that was found to act, if nothing has changed since. What is
    /// counted or asks for a password is looked at each time.
    pub fn again(&self, ending: &str, kind: Kind, now: i64, from: &str) -> Option<Visit> {
        let known = lock(&self.known);
        let remembered = known.get(ending).filter(|r| r.until > now && r.opening.kind == kind)?;
        let decided = remembered.decided.as_ref()?;
        let sound = (decided.at..decided.at + DECIDED_MS).contains(&now)
            && decided.head == *self.head.borrow()
            && !decided.rights.changed()
            && decided.open.until.is_none_or(|until| now < until);
        let actor = || remembered.opening.actor_named(decided.who.clone(), from);
        sound.then(|| Visit {
            opening: remembered.opening.clone(),
            actor: actor(),
            open: Some(decided.open),
            target: decided.target.clone(),
        })
    }

    pub fn remember(&self, ending: &str, visit: &Visit, now: i64, head: i64, rights: RightsWatch) {
        let (Some(open), None, true) = (visit.open, visit.opening.most, visit.opening.password.is_empty())
        else {
            return;
        };
        if let Some(remembered) = lock(&self.known).get_mut(ending) {
            let (target, who) = (visit.target.clone(), visit.actor.who.clone());
            remembered.decided = Some(Decided { at: now, head, rights, open, target, who });
        }
    }

    /// Something about openings changed, and counts at once.
    pub fn forget(&self) {
        lock(&self.known).clear();
    }

    /// The opening at an address. `fresh`: as it is in the catalogue this moment.
    pub async fn at(
        &self,
        engine: &Engine,
        ending: &str,
        fresh: bool,
    ) -> Result<Option<Arc<Opening>>, Refusal> {
        let now = engine.now_ms();
        if !fresh
            && let Some(known) = lock(&self.known).get(ending)
            && known.until > now
        {
            return Ok(Some(known.opening.clone()));
        }
        let Some(found) = engine.sharing().opening_at(ending).await? else { return Ok(None) };
        let found = Arc::new(found);
        let mut known = lock(&self.known);
        if known.len() >= MOST_KNOWN {
            known.clear();
        }
        let remembered = Remembered { opening: found.clone(), until: now + KNOWN_MS, decided: None };
        known.insert(ending.to_string(), remembered);
        Ok(Some(found))
    }

    /// One more use that is not counted exactly.
    pub fn note_use(&self, visit: &Visit, now: i64) {
        let mut uses = lock(&self.uses);
        let entry = uses.entry(visit.opening.id).or_insert((0, now, String::new()));
        (entry.0, entry.1) = (entry.0 + 1, now);
        if *entry.2 != *visit.actor.from {
            entry.2 = visit.actor.from.to_string();
        }
    }

    /// Writes the uses that are not written yet.
    pub async fn write_uses(&self, engine: &yellow_attic_store::Engine) {
        let uses = std::mem::take(&mut *lock(&self.uses));
        if !uses.is_empty()
            && let Err(error) = engine.sharing().note_uses(uses).await
        {
            tracing::warn!(%error, "the uses of links could not be written");
        }
    }

    /// The uses that are not written yet.
    pub fn unwritten(&self, opening: OpeningId) -> Option<(u32, i64, String)> {
        lock(&self.uses).get(&opening).cloned()
    }
}

/// Somebody who came through an opening that acts.
#[derive(Clone)]
pub struct Visit {
    /// Through which.
    pub opening: Arc<Opening>,
    /// How the engine knows them.
    pub actor: Actor,
    /// Until when, and how much is left; none: all downloads are used, and only slips still count.
    pub open: Option<Open>,
    /// What it opens.
    pub target: Arc<Row>,
}

impl Visit {
    /// Whether it still acts, with the same password.
    pub async fn still(&self, engine: &Engine) -> bool {
        let Ok(Some(now)) = engine.sharing().opening(self.opening.id).await else { return false };
        if now.password != self.opening.password || now.can < self.opening.can {
            return false;
        }
        matches!(engine.sharing().acts(&now).await, Ok(Ok(_) | Err(Shut::UsedUp)))
    }
}

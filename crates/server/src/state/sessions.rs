//! Who is signed in, by token; what they proved lately, and when they were here last.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use yellow_attic_core::DeviceId;
use yellow_attic_core::proof::Needs;
use yellow_attic_core::rules::Door;
use yellow_attic_store::Actor;
use yellow_attic_store::people::accounts::Account;

/// Principals kept in memory; each is asked for again after a minute.
pub const MOST_KNOWN: usize = 10_000;

pub const KNOWN_MS: i64 = 60_000;

/// Who is signed in, by session or device.
#[derive(Clone)]
pub struct Who {
    /// The account.
    pub account: Arc<Account>,
    /// How it enters the record.
    pub actor: Actor,
    /// The session's or device's token, hashed; of a password given with each request, its keyed hash.
    pub token: [u8; 32],
    /// The door they came by.
    pub door: Door,
    /// The administrator who looks as this account, reading only.
    pub seen_by: Option<Arc<Account>>,
    /// Nothing more may be done until a second factor is set up.
    pub needs_factor: bool,
}

/// Principals by token, so that a request costs no look-up in the common case.
#[derive(Default)]
pub struct Known(pub Mutex<HashMap<[u8; 32], Remembered>>);

/// Who it is, and until when that is believed.
pub type Remembered = (Option<Who>, i64);

impl Known {
    pub fn get(&self, token: &[u8; 32], now: i64) -> Option<Option<Who>> {
        let known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        known.get(token).filter(|(_, until)| *until > now).map(|(who, _)| who.clone())
    }

    pub fn put(&self, token: [u8; 32], who: Who, now: i64) {
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if known.len() >= MOST_KNOWN {
            known.clear();
        }
        known.insert(token, (Some(who), now + KNOWN_MS));
    }

    /// Forgets everybody: something about tokens changed, and counts at once.
    pub fn clear(&self) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }
}

/// How long a password that was given counts as proof.
pub const PROOF_MS: i64 = 600_000;

/// When the holders of tokens last gave their passwords. In memory only: after a restart it is asked
/// for again.
#[derive(Default)]
pub struct Proofs(pub Mutex<HashMap<[u8; 32], Given>>);

/// When a password and a second factor were given last.
#[derive(Clone, Copy)]
pub struct Given {
    pub password: i64,
    pub factor: Option<i64>,
}

impl Proofs {
    /// The holder of a token has given their password, and a second factor with it or not.
    pub fn note(&self, token: [u8; 32], factor: bool, now: i64) {
        let mut given = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        given.retain(|_, given| now - given.password < PROOF_MS);
        let before = given.get(&token).and_then(|g| g.factor);
        given.insert(token, Given { password: now, factor: if factor { Some(now) } else { before } });
    }

    pub fn holds(&self, token: &[u8; 32], needs: Needs, now: i64) -> bool {
        let given = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(given) = given.get(token) else { return false };
        let at = match needs {
            Needs::Password => Some(given.password),
            Needs::Factor => given.factor,
        };
        at.is_some_and(|at| (0..PROOF_MS).contains(&(now - at)))
    }
}

/// When, and of devices from where, each was last used; not written yet.
#[derive(Default)]
pub struct InUse {
    pub devices: Mutex<HashMap<DeviceId, (i64, Arc<str>)>>,
    pub browsers: Mutex<HashMap<[u8; 32], i64>>,
}

impl InUse {
    /// A device was used.
    pub fn note_device(&self, actor: &Actor, now: i64) {
        if let Some(device) = actor.device {
            let mut used = self.devices.lock().unwrap_or_else(PoisonError::into_inner);
            used.insert(device, (now, actor.from.clone()));
        }
    }

    /// Somebody did something in a browser.
    pub fn note_browser(&self, token: [u8; 32], now: i64) {
        self.browsers.lock().unwrap_or_else(PoisonError::into_inner).insert(token, now);
    }

    /// When that was last, if it is not written yet.
    pub fn browser(&self, token: &[u8; 32]) -> Option<i64> {
        self.browsers.lock().unwrap_or_else(PoisonError::into_inner).get(token).copied()
    }

    /// What is known of devices and not written yet.
    pub fn devices(&self, devices: &[DeviceId]) -> Vec<Option<(i64, String)>> {
        let used = self.devices.lock().unwrap_or_else(PoisonError::into_inner);
        devices.iter().map(|d| used.get(d).map(|(at, from)| (*at, from.to_string()))).collect()
    }

    /// Writes it.
    pub async fn write(&self, engine: &yellow_attic_store::Engine) {
        let devices = std::mem::take(&mut *self.devices.lock().unwrap_or_else(PoisonError::into_inner));
        let browsers = self.browsers.lock().unwrap_or_else(PoisonError::into_inner).clone();
        if devices.is_empty() && browsers.is_empty() {
            return;
        }
        let devices = devices.into_iter().map(|(d, (at, from))| (d, at, from.to_string())).collect();
        let written: Vec<_> = browsers.into_iter().collect();
        if let Err(error) = engine.sign_ins().note_use(devices, written.clone()).await {
            tracing::warn!(%error, "the last use of devices and browsers could not be written");
            return;
        }
        // Only now: until it is written, it is known from here.
        let mut browsers = self.browsers.lock().unwrap_or_else(PoisonError::into_inner);
        for (token, at) in written {
            if browsers.get(&token) == Some(&at) {
                browsers.remove(&token);
            }
        }
    }
}

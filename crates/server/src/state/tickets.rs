//! First steps of signing in, and factors that are being set up.

use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::state::secrets::{hash_secret, new_secret};
use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use webauthn_rs::prelude::{PasskeyAuthentication, PasskeyRegistration};
use yellow_attic_core::AccountId;

/// How long a ticket counts.
pub const TICKET_MS: i64 = 600_000;

/// Tickets kept in memory.
pub const MOST_TICKETS: usize = 10_000;

/// What a ticket is for.
#[derive(Clone)]
pub enum Held {
    /// The password was right; a second factor is still to come.
    SignIn(AccountId, Option<Box<PasskeyAuthentication>>),
    /// Somebody who is signed in proves themselves once more.
    Proof(AccountId, Box<PasskeyAuthentication>),
    /// An authenticator to be confirmed: its secret.
    Codes(AccountId, Vec<u8>),
    /// A passkey to be confirmed.
    Passkey(AccountId, Box<PasskeyRegistration>),
}

/// Tickets that count. In memory only: after a restart one begins again.
#[derive(Default)]
pub struct Tickets(pub Mutex<HashMap<[u8; 32], (Held, i64)>>);

impl Tickets {
    /// Makes a ticket.
    pub fn make(&self, held: Held, now: i64) -> Result<String, Refusal> {
        let secret = new_secret()?;
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if all.len() >= MOST_TICKETS {
            all.retain(|_, (_, until)| *until > now);
        }
        if all.len() >= MOST_TICKETS {
            all.clear();
        }
        all.insert(hash_secret(&secret), (held, now + TICKET_MS));
        Ok(secret)
    }

    /// What a ticket is for, if it counts.
    pub fn look(&self, ticket: &str, now: i64) -> Result<Held, Refusal> {
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let found = all.get(&hash_secret(ticket)).filter(|(_, until)| *until > now);
        found.map(|(held, _)| held.clone()).ok_or_else(ticket_over)
    }

    /// Goes on with a ticket.
    pub fn set(&self, ticket: &str, held: Held) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(there) = all.get_mut(&hash_secret(ticket)) {
            there.0 = held;
        }
    }

    /// Takes a ticket: of many who come with it at once, one has it.
    pub fn take(&self, ticket: &str, now: i64) -> Result<Taken<'_>, Refusal> {
        let key = hash_secret(ticket);
        let found = self.0.lock().unwrap_or_else(PoisonError::into_inner).remove(&key);
        match found.filter(|(_, until)| *until > now) {
            Some((held, until)) => Ok(Taken { of: self, key, held: Some(held), until }),
            None => Err(ticket_over()),
        }
    }
}

/// A ticket that is being used. Unless it was [`Taken::used`], it counts again afterwards.
pub struct Taken<'t> {
    pub of: &'t Tickets,
    pub key: [u8; 32],
    pub held: Option<Held>,
    pub until: i64,
}

impl Taken<'_> {
    /// What it is for.
    pub fn held(&self) -> Option<&Held> {
        self.held.as_ref()
    }

    /// It led to what it was for, and counts no more.
    pub fn used(mut self) {
        self.held = None;
    }
}

impl Drop for Taken<'_> {
    fn drop(&mut self) {
        if let Some(held) = self.held.take() {
            let mut all = self.of.0.lock().unwrap_or_else(PoisonError::into_inner);
            all.insert(self.key, (held, self.until));
        }
    }
}

pub fn ticket_over() -> Refusal {
    refusals::TICKET_OVER.of("What was begun counts for ten minutes, once, and one at a time.")
}

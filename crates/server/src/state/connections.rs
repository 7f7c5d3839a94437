//! Computers that ask to be connected, and wait for somebody to answer. In memory only: after a restart they ask again.

use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::state::secrets::{hash_secret, new_secret};
use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use yellow_attic_core::AccountId;
use yellow_attic_store::TokenScope;

/// How long a code counts.
pub const CODE_MS: i64 = 600_000;
/// How long a computer waits between two questions, in seconds.
pub const INTERVAL: u64 = 2;
/// Sooner than this after the last question is too soon, in milliseconds.
const SOONEST_MS: i64 = 1_000;
/// The most that wait at a time.
const MOST_WAITING: usize = 1_000;
/// The most that wait at a time from one address.
const MOST_FROM: usize = 20;
/// The letters of a code: no vowels, so that it makes no words, and none that look like another (RFC 8628, section 6.1).
const LETTERS: &[u8; 20] = b"BCDFGHJKLMNPQRSTVWXZ";
/// How many letters a code has.
const LENGTH: usize = 8;

/// A computer that waits.
#[derive(Clone)]
pub struct Waiting {
    /// What is typed.
    pub user_code: String,
    /// What it calls itself.
    pub device: String,
    /// Its program.
    pub program: String,
    /// From where it asks.
    pub from: String,
    /// When it asked, in milliseconds.
    pub asked_at: i64,
    address: Option<IpAddr>,
    polled_at: i64,
    answer: Option<Answer>,
    /// Its token once it was made, for who asks again because the answer was lost. Whoever asks is served one after the
    /// other.
    token: Arc<tokio::sync::Mutex<Option<String>>>,
}

/// What somebody answered.
#[derive(Clone)]
pub enum Answer {
    /// It is not connected.
    No,
    /// It is.
    Yes {
        /// Whose it is.
        account: AccountId,
        /// What it is called.
        device: String,
        /// How far its token reaches.
        scope: Option<TokenScope>,
    },
}

/// What a computer that asks again finds.
pub enum Found {
    /// Nobody has answered yet.
    Pending,
    /// Somebody has.
    Answered(Answer, Arc<tokio::sync::Mutex<Option<String>>>),
}

/// All that wait, by the hash of what they come back with.
#[derive(Default)]
pub struct Connections(Mutex<HashMap<[u8; 32], Waiting>>);

impl Connections {
    fn all(&self, now: i64) -> MutexGuard<'_, HashMap<[u8; 32], Waiting>> {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all.retain(|_, w| now - w.asked_at < CODE_MS);
        all
    }

    /// A computer asks: what it comes back with, and what is typed.
    pub fn begin(
        &self,
        device: &str,
        program: &str,
        from: &str,
        address: Option<IpAddr>,
        now: i64,
    ) -> Result<(String, String), Refusal> {
        let secret = new_secret()?;
        let mut all = self.all(now);
        let same = all.values().filter(|w| w.answer.is_none() && w.address == address).count();
        if all.len() >= MOST_WAITING || same >= MOST_FROM {
            return Err(refusals::TOO_MANY_AT_ONCE.with(
                "Too many computers wait to be connected.",
                "Answer one, or wait: each ends after ten minutes.",
            ));
        }
        let user_code = loop {
            let code = new_code()?;
            if all.values().all(|w| w.user_code != code) {
                break code;
            }
        };
        let waiting = Waiting {
            user_code: user_code.clone(),
            device: device.to_string(),
            program: program.to_string(),
            from: from.to_string(),
            asked_at: now,
            address,
            polled_at: 0,
            answer: None,
            token: Arc::default(),
        };
        all.insert(hash_secret(&secret), waiting);
        Ok((secret, user_code))
    }

    /// The computer that waits under a typed code.
    pub fn look(&self, typed: &str, now: i64) -> Option<Waiting> {
        let code = written(typed);
        self.all(now).values().find(|w| w.user_code == code && w.answer.is_none()).cloned()
    }

    /// Answers the computer that waits under a typed code; of several answers at once the first counts.
    pub fn answer(&self, typed: &str, answer: Answer, now: i64) -> bool {
        let code = written(typed);
        let mut all = self.all(now);
        match all.values_mut().find(|w| w.user_code == code && w.answer.is_none()) {
            Some(waiting) => {
                waiting.answer = Some(answer);
                true
            }
            None => false,
        }
    }

    /// A computer asks whether it was answered.
    pub fn collect(&self, secret: &str, now: i64) -> Result<Found, Refusal> {
        let mut all = self.all(now);
        let Some(waiting) = all.get_mut(&hash_secret(secret)) else {
            return Err(refusals::EXPIRED_TOKEN
                .of("Nobody answered within ten minutes, or the service was started anew."));
        };
        match &waiting.answer {
            Some(answer) => Ok(Found::Answered(answer.clone(), waiting.token.clone())),
            None if now - waiting.polled_at < SOONEST_MS => {
                waiting.polled_at = now;
                Err(refusals::SLOW_DOWN.of("It asked less than a second ago."))
            }
            None => {
                waiting.polled_at = now;
                Ok(Found::Pending)
            }
        }
    }
}

/// A code as it is kept, from one that was typed.
fn written(typed: &str) -> String {
    typed.chars().filter(|c| c.is_ascii_alphanumeric()).map(|c| c.to_ascii_uppercase()).collect()
}

/// A code as it is shown.
pub fn shown(code: &str) -> String {
    let (first, last) = code.split_at(code.len() / 2);
    format!("{first}-{last}")
}

fn new_code() -> Result<String, Refusal> {
    let mut code = String::with_capacity(LENGTH);
    while code.len() < LENGTH {
        let secret = new_secret()?;
        // Bytes from 240 on would make some letters likelier than others.
        let bytes = secret.as_bytes().chunks_exact(2).filter_map(|pair| {
            let text = std::str::from_utf8(pair).ok()?;
            u8::from_str_radix(text, 16).ok().filter(|b| *b < 240)
        });
        code.extend(bytes.map(|b| LETTERS[usize::from(b) % LETTERS.len()] as char).take(LENGTH - code.len()));
    }
    Ok(code)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_code_is_found_as_people_type_it_and_is_answered_once() {
        let all = Connections::default();
        let (secret, code) = all.begin("laptop", "yattic 1", "192.0.2.7", None, 0).unwrap();
        assert!(code.len() == LENGTH && code.bytes().all(|b| LETTERS.contains(&b)));
        let typed = format!(" {} ", shown(&code).to_lowercase().replace('-', " - "));
        assert_eq!(all.look(&typed, 1).unwrap().device, "laptop");
        assert!(matches!(all.collect(&secret, 2_000), Ok(Found::Pending)));
        assert!(all.collect(&secret, 2_500).is_err(), "too soon");
        assert!(all.answer(&typed, Answer::No, 3_000));
        assert!(!all.answer(&typed, Answer::No, 3_000));
        assert!(all.look(&typed, 3_000).is_none());
        assert!(matches!(all.collect(&secret, 3_001), Ok(Found::Answered(Answer::No, _))));
        assert!(all.collect(&secret, CODE_MS).is_err(), "over");
    }

    #[test]
    fn those_of_one_address_leave_room_for_others() {
        let all = Connections::default();
        let at = |n: u8| Some(IpAddr::from([192, 0, 2, n]));
        for _ in 0..MOST_FROM {
            all.begin("a", "", "", at(1), 0).unwrap();
        }
        assert!(all.begin("a", "", "", at(1), 0).is_err());
        assert!(all.begin("a", "", "", at(2), 0).is_ok());
        assert!(all.begin("a", "", "", at(1), CODE_MS).is_ok());
    }
}

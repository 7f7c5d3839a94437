//! Passwords: how they are kept and looked at.

use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::identity::address::from;
use crate::identity::cookies::known_browser;
use crate::state::State;
use crate::state::secrets::{keyed, keyed_short};
use crate::state::sessions::Who;
use crate::state::throttle::Lane;
use actix_web::{HttpRequest, web};
use argon2::password_hash::{PasswordHasher, PasswordVerifier};
use argon2::{Argon2, PasswordHash};
use yellow_attic_core::GroupId;
use yellow_attic_core::guessing::By;
use yellow_attic_core::password::{self, Demands};
use yellow_attic_core::rules::Rule;
use yellow_attic_store::people::accounts::{Account, Why};
use yellow_attic_store::{Actor, StoreError};

/// Hashes a password (argon2id). Blocks for tens of milliseconds.
pub fn hash_password(password: &str) -> Result<String, Refusal> {
    Argon2::default().hash_password(password.as_bytes()).map(|h| h.to_string()).map_err(|e| {
        tracing::error!(error = %e, "a password could not be hashed");
        refusals::INTERNAL.with("The password could not be hashed.", "See the log.")
    })
}

/// What is checked when there is no such account, so that both take the same time.
pub fn nobody() -> &'static str {
    static HASH: std::sync::OnceLock<String> = std::sync::OnceLock::new();
    HASH.get_or_init(|| hash_password("nobody has this password").unwrap_or_default())
}

/// Whether a password is the one of a hash. Blocks for tens of milliseconds.
pub fn verify(password: &str, hash: &str) -> bool {
    PasswordHash::new(hash)
        .is_ok_and(|parsed| Argon2::default().verify_password(password.as_bytes(), &parsed).is_ok())
}

/// The longest name that signs anybody in, in bytes: longer ones are refused before they are looked at.
pub const LONGEST_NAME: usize = 254;

/// The longest password that is looked at, in bytes.
pub const LONGEST_PASSWORD: usize = 4096;

pub fn wrong_sign_in() -> Refusal {
    refusals::WRONG_SIGN_IN.of("The sign-in name or the password is wrong.")
}

/// The account of a sign-in name or a mail address: no sign-in name holds an "@".
pub async fn account_of(state: &State, name: &str) -> Result<Option<Account>, Refusal> {
    if name.len() > LONGEST_NAME {
        return Err(refusals::SIGN_IN_NAME_TOO_LONG
            .of(&format!("No sign-in name or mail address has more than {LONGEST_NAME} bytes.")));
    }
    let name = name.trim().to_lowercase();
    Ok(match name.contains('@') {
        true => state.engine.people().account_at(&name).await?,
        false => state.engine.people().account_named(&name).await?,
    })
}

/// How a password is looked at.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Look {
    /// Right or wrong.
    Usual,
    /// Not at all, where more than a password is needed; it takes as long, and counts as wrong.
    Untested,
}

/// Checks a sign-in name and password. Tries are counted before they are looked at.
pub async fn check_password(
    state: &State,
    request: &HttpRequest,
    sign_in: &str,
    password: &str,
) -> Result<Account, Refusal> {
    let account = account_of(state, sign_in).await?;
    look_at_password(state, request, account, sign_in, password, Look::Usual).await
}

/// The password of somebody who is signed in, given once more: their tries are their own.
pub async fn check_own_password(
    state: &State,
    request: &HttpRequest,
    who: &Who,
    password: &str,
) -> Result<Account, Refusal> {
    let account = account_of(state, &who.account.sign_in).await?;
    let own = Some(keyed_short(&[b"signed in", &who.token]));
    look(state, request, account, &who.account.sign_in, password, Look::Usual, own).await
}

/// The same for an account that was found, or for nobody's name.
pub async fn look_at_password(
    state: &State,
    request: &HttpRequest,
    account: Option<Account>,
    sign_in: &str,
    password: &str,
    how: Look,
) -> Result<Account, Refusal> {
    let browser = account.as_ref().and_then(|account| known_browser(state, request, account));
    look(state, request, account, sign_in, password, how, browser).await
}

pub async fn look(
    state: &State,
    request: &HttpRequest,
    account: Option<Account>,
    sign_in: &str,
    password: &str,
    look: Look,
    browser: Option<[u8; 16]>,
) -> Result<Account, Refusal> {
    let name = sign_in.trim().to_lowercase();
    // Who has not chosen a password yet takes as long as everybody else, and as nobody.
    let known = account.filter(|a| !a.password.is_empty());
    let by = match &known {
        Some(account) => By::Account(account.id.0),
        None => By::Name(keyed_short(&[b"name", name.as_bytes()])),
    };
    let hash = match (&known, look) {
        (Some(account), Look::Usual) => account.password.clone(),
        _ => nobody().to_string(),
    };
    // The same wrong pair again, as programs with an old password send it, costs neither a try nor a hash.
    let untested: &[u8] = if look == Look::Untested { b"untested" } else { b"" };
    let pair = keyed(&[b"pair", format!("{by:?}").as_bytes(), untested, password.as_bytes()]);
    if state.guessing.is_wrong(&pair, &hash) {
        return Err(wrong_sign_in());
    }
    let place = crate::identity::address::place(request, state, name.as_bytes());
    let (by, lane) = match browser {
        Some(browser) => (vec![By::Browser(browser)], Lane::Browser(browser)),
        None => (std::iter::once(by).chain(place.by).collect(), place.lane),
    };
    let attempt = state.guessing.begin(&state.engine, by).await?;
    let turn = match state.guessing.turn(lane).await {
        Ok(turn) => turn,
        Err(refusal) => {
            attempt.given_back();
            return Err(refusal);
        }
    };
    let (tried, against) = (password.to_string(), hash.clone());
    let right = tried.len() <= LONGEST_PASSWORD
        && web::block(move || {
            let right = verify(&tried, &against);
            // Whoever stops waiting does not give the core to somebody else before it is free.
            drop(turn);
            right
        })
        .await
        .unwrap_or(false);
    match known {
        Some(account) if right && look == Look::Usual => {
            attempt.succeeded();
            if account.disabled_at.is_some() {
                return Err(disabled(&account));
            }
            Ok(account)
        }
        known => {
            drop(attempt);
            state.guessing.note_wrong(pair, &hash);
            let actor = Actor {
                account: None,
                device: None,
                who: "nobody".into(),
                from: from(request, state).into(),
                through: None,
                scope: None,
                tokens: Default::default(),
            };
            // A name that nobody has may be a password in the wrong field.
            let what = match &known {
                Some(account) => account.sign_in.clone(),
                None => format!("a name that nobody has (#{})", state.engine.mark_of(&name)),
            };
            state.engine.people().note(&actor, "sign-in refused", None, &what, "").await?;
            Err(wrong_sign_in())
        }
    }
}

/// Said only to who has proved who they are.
pub fn disabled(account: &Account) -> Refusal {
    let reason = match account.why_disabled {
        Why::Said => "An administrator has disabled this account. Nothing of its is lost.",
        Why::Away => {
            "Nobody had signed in to it for a long time, so a rule has disabled it. Nothing of its is lost."
        }
        Why::Waiting => "An administrator has not approved this account yet.",
        Why::Leaving => "This account will be deleted. Until then nothing of its is lost.",
    };
    refusals::ACCOUNT_DISABLED.of(reason)
}

/// Checks a new password against the rules and hashes it, off the workers. `own`: words that
/// whoever guesses would try first.
pub async fn hashed(
    state: &State,
    sign_in: &str,
    own: &[&str],
    groups: &[GroupId],
    text: &str,
) -> Result<String, Refusal> {
    let rules = state.engine.people().rules();
    let usual = Demands::default();
    let demands = Demands {
        length: rules.number(Rule::PasswordLength, groups).unwrap_or(usual.length),
        strength: rules.number(Rule::PasswordStrength, groups).unwrap_or(usual.strength),
    };
    password::check(text, sign_in, own, demands).map_err(|e| {
        let said = crate::http::words::capital(&e.to_string());
        refusals::PASSWORD_REFUSED.with(&format!("{said}."), &e.remedy())
    })?;
    let text = text.to_string();
    let turn = state.guessing.turn(crate::state::throttle::Lane::Inside).await?;
    let hashed = move || {
        let hash = hash_password(&text);
        drop(turn);
        hash
    };
    web::block(hashed).await.map_err(|_| StoreError::Stopping)?
}

/// The same for an account that is there.
pub async fn hashed_for(state: &State, account: &Account, text: &str) -> Result<String, Refusal> {
    let groups = state.engine.people().rules_of(account.id, |_, groups| groups.to_vec());
    let own = [account.display_name.as_str(), account.mail.as_deref().unwrap_or_default()];
    hashed(state, &account.sign_in, &own, &groups, text).await
}

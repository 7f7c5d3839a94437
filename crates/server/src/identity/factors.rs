//! The second step of signing in: tickets for it, one-time codes, recovery codes, passkeys.

use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::state::State;
use crate::state::secrets::hash_secret;
use crate::state::tickets::Held;
use actix_web::HttpRequest;
use webauthn_rs::prelude::{
    Passkey, PasskeyAuthentication, PublicKeyCredential, Url, Webauthn, WebauthnBuilder,
};
use yellow_attic_core::guessing::By;
use yellow_attic_core::{AccountId, factor};
use yellow_attic_store::people::accounts::Account;
use yellow_attic_store::people::second_factor::{Factor, FactorKind};
use yellow_attic_store::{Actor, StoreError};

/// Asks for the second step, if the account has one.
pub async fn ask_second(state: &State, account: &Account) -> Result<(), Refusal> {
    let factors = state.engine.sign_ins().factors(account.id).await?;
    if factors.is_empty() {
        return Ok(());
    }
    let ticket = state.tickets.make(Held::SignIn(account.id, None), state.engine.now_ms())?;
    Err(second_needed(ticket, &factors))
}

fn second_needed(ticket: String, factors: &[Factor]) -> Refusal {
    let mut kinds: Vec<String> = factors.iter().map(|f| f.kind.word().to_string()).collect();
    kinds.sort();
    kinds.dedup();
    kinds.push("recovery".into());
    refusals::SECOND_FACTOR_NEEDED
        .of("The password is right. This account has a second factor.")
        .go_on(ticket, kinds)
}

fn wrong_code() -> Refusal {
    refusals::WRONG_CODE.with("The code is wrong, is over, or was used already: each counts once.", "Wait for the next one, and see that the clock of the authenticator is right; or use a recovery code.")
}

/// Checks a code of an authenticator, or a recovery code. Guessing is slowed.
pub async fn check_code(state: &State, actor: &Actor, account: &Account, code: &str) -> Result<(), Refusal> {
    // By account, wherever it comes from: whoever gets here knows the password.
    let attempt = state.guessing.begin(&state.engine, vec![By::Factor(account.id.0)]).await?;
    let codes: Vec<Factor> = state.engine.sign_ins().factors(account.id).await?;
    for one in codes.iter().filter(|f| f.kind == FactorKind::Codes) {
        // By the wall clock, as the authenticator has it.
        let wall = state.engine.wall_ms();
        if let Some(secret) = &one.secret
            && let Some(step) = factor::step_of(secret, code, wall, one.step)
            && state.engine.sign_ins().use_code(actor, one.id, step).await?
        {
            attempt.succeeded();
            return Ok(());
        }
    }
    if let Some(code) = factor::recovery_typed(code)
        && state.engine.sign_ins().use_recovery(actor, account, hash_secret(&code)).await?
    {
        attempt.succeeded();
        return Ok(());
    }
    drop(attempt);
    if let Some(why) = state.engine.secrets_trouble().filter(|_| codes.iter().any(|f| f.secret.is_none())) {
        // Not wrong: it cannot be known.
        return Err(StoreError::SecretsShut(why).into());
    }
    state.engine.people().note(actor, "second factor refused", None, &account.sign_in, "").await?;
    Err(wrong_code())
}

/// New recovery codes, and how they are kept.
pub fn new_recovery() -> Result<(Vec<String>, Vec<[u8; 32]>), Refusal> {
    let mut codes = Vec::with_capacity(factor::RECOVERY_CODES);
    for _ in 0..factor::RECOVERY_CODES {
        let mut random = [0u8; 10];
        getrandom::fill(&mut random).map_err(|e| yellow_attic_store::StoreError::BadInput(e.to_string()))?;
        codes.push(factor::recovery_code(random));
    }
    let kept = codes.iter().map(|c| hash_secret(c)).collect();
    Ok((codes, kept))
}

/// What speaks WebAuthn for the address that was asked. Passkeys are bound to a host name: an
/// address of numbers has none.
pub fn passkeys(state: &State, request: &HttpRequest) -> Result<Webauthn, Refusal> {
    let asked = request.headers().get("host").and_then(|v| v.to_str().ok()).unwrap_or_default();
    let scheme = if state.config.is_https() { "https" } else { "http" };
    let origin = state.config.public_address.clone().unwrap_or_else(|| format!("{scheme}://{asked}"));
    let none = || {
        refusals::PASSKEYS_NEED_A_NAME
            .of("Passkeys are bound to a host name and a private line: they need https, or localhost.")
    };
    let url = Url::parse(&origin).map_err(|_| none())?;
    let host = url.domain().ok_or_else(none)?.to_string();
    if url.scheme() != "https" && host != "localhost" {
        return Err(none());
    }
    let built = WebauthnBuilder::new(&host, &url).map(|b| b.rp_name(&state.config.organisation));
    built.and_then(WebauthnBuilder::build).map_err(|error| {
        tracing::warn!(%error, "passkeys cannot be used under this address");
        none()
    })
}

/// The passkeys among some factors.
pub fn credentials(factors: &[Factor]) -> Vec<(i64, Passkey)> {
    factors
        .iter()
        .filter(|f| f.kind == FactorKind::Passkey)
        .filter_map(|f| Some((f.id, serde_json::from_slice(f.secret.as_ref()?).ok()?)))
        .collect()
}

/// A question for one of the passkeys of an account.
pub async fn ask_passkey(
    state: &State,
    request: &HttpRequest,
    account: AccountId,
) -> Result<(serde_json::Value, PasskeyAuthentication), Refusal> {
    let factors = state.engine.sign_ins().factors(account).await?;
    if let Some(why) = state.engine.secrets_trouble().filter(|_| factors.iter().any(|f| f.secret.is_none())) {
        return Err(StoreError::SecretsShut(why).into());
    }
    let keys: Vec<_> = credentials(&factors).into_iter().map(|(_, key)| key).collect();
    if keys.is_empty() {
        return Err(refusals::NO_PASSKEY.of("The account has no passkey."));
    }
    let (options, question) = passkeys(state, request)?
        .start_passkey_authentication(&keys)
        .map_err(|e| StoreError::BadInput(e.to_string()))?;
    Ok((serde_json::to_value(options).unwrap_or_default(), question))
}

/// Checks what a browser answered for a passkey.
pub async fn check_passkey(
    state: &State,
    request: &HttpRequest,
    actor: &Actor,
    account: &Account,
    question: &PasskeyAuthentication,
    answer: serde_json::Value,
) -> Result<(), Refusal> {
    let refused = |reason: String| refusals::WRONG_PASSKEY.of(&reason);
    let answer: PublicKeyCredential =
        serde_json::from_value(answer).map_err(|e| refusals::PASSKEY_MALFORMED.of(&format!("{e}.")))?;
    let speaks = passkeys(state, request)?;
    let result = speaks
        .finish_passkey_authentication(&answer, question)
        .map_err(|e| refused(format!("What the browser answered does not prove it: {e}.")))?;
    let factors = state.engine.sign_ins().factors(account.id).await?;
    for (id, mut passkey) in credentials(&factors) {
        if passkey.cred_id() == result.cred_id() {
            passkey.update_credential(&result);
            let kept = serde_json::to_vec(&passkey).map_err(|e| refused(e.to_string()))?;
            state.engine.sign_ins().use_passkey(actor, account, id, kept).await?;
            return Ok(());
        }
    }
    Err(refused("It was removed from this account.".into()))
}

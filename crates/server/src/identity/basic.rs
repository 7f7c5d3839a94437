//! Who asks by WebDAV: a device's token, or an account's password where no second factor is set or demanded.
//! Cookies do not count: no page of ours, and none of others, can act here in somebody's name.

use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::identity::address::from;
use crate::identity::doors::{check_door, factor_demanded};
use crate::identity::passwords::{Look, account_of, look_at_password};
use crate::state::State;
use crate::state::secrets::{hash_secret, keyed};
use crate::state::sessions::Who;
use actix_web::HttpRequest;
use actix_web::http::header;
use base64::Engine as _;
use std::sync::Arc;
use yellow_attic_core::AccountId;
use yellow_attic_core::rules::Door;
use yellow_attic_store::Actor;
use yellow_attic_store::people::accounts::Account;

fn not_signed_in(detail: &str) -> Refusal {
    refusals::NOT_SIGNED_IN.of(detail)
}

/// Who asks.
pub async fn who(request: &HttpRequest, state: &State) -> Result<Who, Refusal> {
    let value =
        request.headers().get(header::AUTHORIZATION).and_then(|v| v.to_str().ok()).unwrap_or_default();
    let from = from(request, state);
    let (scheme, rest) = value.split_once(' ').unwrap_or((value, ""));
    if scheme.eq_ignore_ascii_case("bearer") {
        return by_token(state, None, rest.trim(), &from).await;
    }
    if !scheme.eq_ignore_ascii_case("basic") {
        return Err(not_signed_in("Nobody is signed in."));
    }
    let pair = base64::engine::general_purpose::STANDARD
        .decode(rest.trim())
        .ok()
        .and_then(|b| String::from_utf8(b).ok());
    let Some((name, password)) = pair.as_deref().and_then(|p| p.split_once(':')) else {
        return Err(not_signed_in("The header Authorization cannot be read."));
    };
    // Tokens are 64 hexadecimal digits: no password is tried for one, and the other way round.
    if password.len() == 64 && password.bytes().all(|b| b.is_ascii_hexdigit()) {
        return by_token(state, Some(name), password, &from).await;
    }
    by_password(request, state, name, password, &from).await
}

async fn by_token(state: &State, name: Option<&str>, secret: &str, from: &str) -> Result<Who, Refusal> {
    // Remembered apart from the same token at the API: the doors differ.
    let hash = hash_secret(secret);
    let key = blake3::derive_key("Yellow Attic dav token 1", &hash);
    let now = state.engine.now_ms();
    let its = |who: &Who| name.is_none_or(|n| is_name(&who.account, n));
    if let Some(Some(mut who)) = state.known.get(&key, now) {
        if !its(&who) {
            return Err(not_signed_in("The token is that of another account."));
        }
        if *who.actor.from != *from {
            who.actor.from = from.into();
        }
        state.in_use.note_device(&who.actor, now);
        return Ok(who);
    }
    let Some(principal) = state.engine.sign_ins().device(hash).await? else {
        if let Some(why) = crate::identity::doors::ended(state, hash).await? {
            return Err(why);
        }
        return Err(not_signed_in("The token is not, or no longer, that of a connected computer."));
    };
    check_door(state, &principal.account, Door::Dav)?;
    crate::identity::principal::check_used(state, &principal, now)?;
    let actor = Actor {
        account: Some(principal.account.id),
        device: principal.device,
        who: principal.account.sign_in.as_str().into(),
        from: from.into(),
        through: None,
        scope: principal.scope,
        tokens: Default::default(),
    };
    let who = Who {
        account: Arc::new(principal.account),
        actor,
        token: hash,
        door: Door::Dav,
        seen_by: None,
        needs_factor: false,
    };
    if !its(&who) {
        return Err(not_signed_in("The token is that of another account."));
    }
    state.known.put(key, who.clone(), now);
    state.in_use.note_device(&who.actor, now);
    Ok(who)
}

fn is_name(account: &Account, name: &str) -> bool {
    let name = name.trim();
    account.sign_in.eq_ignore_ascii_case(name)
        || account.mail.as_deref().is_some_and(|e| e.eq_ignore_ascii_case(name))
}

async fn by_password(
    request: &HttpRequest,
    state: &State,
    name: &str,
    password: &str,
    from: &str,
) -> Result<Who, Refusal> {
    let key = keyed(&[b"dav", name.as_bytes(), password.as_bytes()]);
    let now = state.engine.now_ms();
    if let Some(Some(mut who)) = state.known.get(&key, now) {
        if *who.actor.from != *from {
            who.actor.from = from.into();
        }
        return Ok(who);
    }
    let account = match state.pairs.0.get_value_or_guard_async(&key).await {
        Ok(pair) => match unchanged(state, &pair).await? {
            Some(account) => account,
            None => {
                state.pairs.0.remove(&key);
                checked(request, state, name, password).await?
            }
        },
        Err(guard) => {
            let account = checked(request, state, name, password).await?;
            let _ = guard.insert((account.id, account.password.clone()));
            account
        }
    };
    if let Err(closed) = check_door(state, &account, Door::Dav) {
        // Whoever has got here has proved who they are.
        return Err(match state.engine.history().closed_by(account.id, Door::Dav).await? {
            Some(alarm) => crate::identity::doors::shut_out("WebDAV was closed to this account", &alarm),
            None => closed,
        });
    }
    let actor = Actor::in_name_of(account.id, &account.sign_in, from);
    let who = Who {
        account: Arc::new(account),
        actor,
        token: key,
        door: Door::Dav,
        seen_by: None,
        needs_factor: false,
    };
    state.known.put(key, who.clone(), now);
    Ok(who)
}

/// Checks a password where it is enough. Where it is not, it is not looked at; that takes as long and counts as much.
async fn checked(
    request: &HttpRequest,
    state: &State,
    name: &str,
    password: &str,
) -> Result<Account, Refusal> {
    let known = account_of(state, name).await?;
    let look = match &known {
        Some(account) if needs_more(state, account).await? => Look::Untested,
        _ => Look::Usual,
    };
    look_at_password(state, request, known, name, password, look).await.map_err(|refusal| {
        match refusal.code() {
            "wrong_sign_in" => {
                not_signed_in("The sign-in name or the password is wrong, or a password is not enough here.")
            }
            _ => refusal,
        }
    })
}

async fn needs_more(state: &State, account: &Account) -> Result<bool, Refusal> {
    let today = crate::http::times::today(state.engine.now_ms());
    Ok(factor_demanded(state, account).is_some_and(|day| day <= today)
        || !state.engine.sign_ins().factors(account.id).await?.is_empty())
}

/// The account of a pair, if nothing of it has changed that counts here.
async fn unchanged(state: &State, (id, hash): &(AccountId, String)) -> Result<Option<Account>, Refusal> {
    let Some(account) = state.engine.people().account(*id).await? else { return Ok(None) };
    if account.password != *hash || account.disabled_at.is_some() || needs_more(state, &account).await? {
        return Ok(None);
    }
    Ok(Some(account))
}

/// Whether somebody who gave a password when a long answer began may still have it.
pub async fn still(state: &State, who: &Who) -> bool {
    let Some(pair) = state.pairs.0.get(&who.token) else { return false };
    match unchanged(state, &pair).await {
        Ok(Some(account)) => check_door(state, &account, Door::Dav).is_ok(),
        _ => false,
    }
}

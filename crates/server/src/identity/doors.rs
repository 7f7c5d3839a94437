//! Doors that are closed to an account, and factors that are demanded of it.

use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::state::State;
use std::collections::BTreeMap;
use yellow_attic_core::rules::{Door, Rule, Value};
use yellow_attic_store::people::accounts::Account;
use yellow_attic_store::timeline::alarms::Alarm;

/// Why a token that was good is not, where that can be told to whoever holds it.
pub async fn ended(state: &State, token: [u8; 32]) -> Result<Option<Refusal>, Refusal> {
    Ok(state
        .engine
        .history()
        .shut_out_by(token)
        .await?
        .map(|alarm| shut_out("This computer was disconnected", &alarm)))
}

/// What is said to whom an alarm has shut out.
pub fn shut_out(what: &str, alarm: &Alarm) -> Refusal {
    refusals::SHUT_OUT.of(&format!(
            "{what} at {}, because {} files that had been there before turned to noise or got unknown endings within a short time, as malware would do. Nothing is lost: the states of before are kept.",
            crate::http::times::show(alarm.raised_at),
            alarm.files
        ))
}

/// Refuses an account whose door is closed: said only to who has proved who they are.
pub fn check_door(state: &State, account: &Account, door: Door) -> Result<(), Refusal> {
    let Some(by) = shut(state, account).remove(&door) else { return Ok(()) };
    let way = crate::http::words::capital(door.what());
    Err(refusals::DOOR_CLOSED.of(&format!(
        "{way} is closed to the account \"{}\" ({by}). The password or token is right.",
        account.sign_in
    )))
}

/// The doors that are closed to an account, with who says so.
pub fn shut(state: &State, account: &Account) -> BTreeMap<Door, String> {
    let mut shut = BTreeMap::new();
    for door in state.engine.people().rules_of(account.id, |rules, groups| rules.closed(groups)) {
        shut.insert(door, "by a rule".to_string());
    }
    for door in &account.closed {
        shut.insert(*door, "to this account alone".to_string());
    }
    shut
}

/// Whether a second factor is demanded of an account that has none.
pub async fn lacks_factor(state: &State, account: &Account) -> Result<bool, Refusal> {
    let Some(day) = factor_demanded(state, account) else { return Ok(false) };
    let today = crate::http::times::today(state.engine.now_ms());
    Ok(day <= today && state.engine.sign_ins().factors(account.id).await?.is_empty())
}

/// From which day on a second factor is demanded of an account.
pub fn factor_demanded(state: &State, account: &Account) -> Option<jiff::civil::Date> {
    match state
        .engine
        .people()
        .rules_of(account.id, |rules, groups| rules.decide(Rule::SecondFactor, groups))
        .value
    {
        Value::Day(day) => day,
        _ => None,
    }
}

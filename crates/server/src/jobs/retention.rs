//! What happens by itself to the past: snapshots by schedule, letting go by rule, alarms, warnings,
//! and the figures of each day. Rollbacks that were under way when the service ended go on.

use crate::dto::space::title;
use crate::state::State;
use actix_web::web;
use jiff::tz::TimeZone;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};
use yellow_attic_core::AccountId;
use yellow_attic_core::size::human;
use yellow_attic_store::people::accounts::{Account, Role};
use yellow_attic_store::rights::quota::{Filled, LineOf};
use yellow_attic_store::timeline::alarms::Alarm;
use yellow_attic_store::{Actor, StoreError};

/// How often snapshots, alarms and quotas are looked at.
const LOOK_EVERY: Duration = Duration::from_secs(60);
/// How often the rules about the past are, and the day's figures written.
const LET_GO_EVERY: Duration = Duration::from_secs(3600);

/// Follows until the service ends.
pub async fn follow(state: web::Data<State>) {
    match state.engine.history().running_rollbacks().await {
        Ok(ids) => ids.into_iter().for_each(|id| crate::jobs::rollbacks::run(&state, id)),
        Err(error) => tracing::warn!(%error, "rollbacks under way could not be found"),
    }
    let (mut looked, mut noted): (Option<Instant>, Option<Instant>) = (None, None);
    loop {
        // Of an older catalogue nothing is let go: what it takes for needless may be all that is left of newer states.
        if state.engine.clock_doubt().is_none() && !state.engine.has_older_catalogue() {
            told(
                "snapshots could not be taken",
                state.engine.history().run_schedules(&TimeZone::system()).await.map(|_| ()),
            );
            if looked.is_none_or(|at| at.elapsed() > LET_GO_EVERY) {
                looked = Some(Instant::now());
                told("what the rules let go stays for now", let_go(&state).await);
            }
        }
        if noted.is_none_or(|at| at.elapsed() > LET_GO_EVERY) {
            noted = Some(Instant::now());
            told("today's figures could not be written", state.engine.space().note_space().await);
        }
        told("changes could not be looked at", watch(&state).await);
        told("quotas could not be looked at", warn(&state).await);
        tokio::time::sleep(LOOK_EVERY).await;
    }
}

fn told(what: &'static str, outcome: Result<(), StoreError>) {
    match outcome {
        Ok(()) | Err(StoreError::Stopping) => {}
        Err(error) => tracing::warn!(%error, "{what}; it is tried again"),
    }
}

async fn let_go(state: &State) -> Result<(), StoreError> {
    let going = state.going.clone();
    if going.runs.swap(true, Ordering::SeqCst) {
        return Ok(());
    }
    let rules = state.engine.people().rules();
    let done = state.engine.history().let_go_due(&rules, &going).await;
    going.runs.store(false, Ordering::SeqCst);
    done.map(|sum| {
        if sum.states > 0 {
            tracing::info!(states = sum.states, bytes = sum.bytes, "past states were let go by the rules");
        }
    })
}

async fn watch(state: &State) -> Result<(), StoreError> {
    for alarm in state.engine.history().watch_for_mass_change().await? {
        if alarm.shut {
            state.revoked();
        }
        tell_of_alarm(state, &alarm).await?;
    }
    Ok(())
}

/// Administrators, and whoever else is named.
async fn to_tell(state: &State, others: &[AccountId]) -> Result<Vec<Account>, StoreError> {
    let all = state.engine.people().accounts().await?;
    Ok(all.into_iter().filter(|a| a.role == Role::Administrator || others.contains(&a.id)).collect())
}

async fn tell_of_alarm(state: &State, alarm: &Alarm) -> Result<(), StoreError> {
    let Some(shelf) = state.engine.shelves().into_iter().find(|s| s.id == alarm.shelf) else { return Ok(()) };
    let names = state.names.get(&state.engine).await;
    let who =
        alarm.account.and_then(|a| names.accounts.get(&a).cloned()).unwrap_or_else(|| "Somebody".into());
    let device = alarm.device.and_then(|d| names.devices.get(&d).cloned());
    let with = device
        .map_or_else(|| "in a browser or by WebDAV with the password".to_string(), |d| format!("with {d}"));
    let place = title(&shelf);
    let before = crate::http::times::show(state.engine.history().time_of(alarm.before).await?);
    tracing::warn!(shelf = place, files = alarm.files, of = alarm.of, "one device changed very much at once");
    let said = format!(
        "{who}, {with}, has rewritten or renamed {} of {} files on {place} within a short time, and what is there now looks like noise{}. The last moment before was {before}.{} Look at the folder as it was then, and roll it back if this was not meant.",
        alarm.files,
        alarm.of,
        alarm.ending.as_ref().map_or_else(String::new, |e| format!(" or has the ending .{e}")),
        match (alarm.shut, alarm.device) {
            (true, Some(_)) =>
                " That computer was disconnected: it can do nothing any more until it is connected again.",
            (true, None) =>
                " WebDAV is closed to this account until the alarm is settled, and its browsers are signed out.",
            (false, _) => "",
        },
    );
    for account in to_tell(state, &state.engine.space().owners_of(&shelf)).await? {
        let subject = format!("Very much has changed on {place}");
        crate::state::letters::tell(state, &Actor::service(), &account, None, subject, said.clone()).await;
    }
    Ok(())
}

async fn warn(state: &State) -> Result<(), StoreError> {
    for full in state.engine.space().crossings().await? {
        let whose: Vec<AccountId> = match (full.of, full.shelf) {
            (LineOf::Organisation, _) | (_, None) => Vec::new(),
            (_, Some(id)) => match state.engine.shelves().into_iter().find(|s| s.id == id) {
                Some(shelf) => {
                    full.account.map_or_else(|| state.engine.space().owners_of(&shelf), |a| vec![a])
                }
                None => Vec::new(),
            },
        };
        let said = sentence(&full);
        for account in to_tell(state, &whose).await? {
            let subject = format!("Nearly full: {}", full.name);
            crate::state::letters::tell(state, &Actor::service(), &account, None, subject, said.clone())
                .await;
        }
    }
    Ok(())
}

fn sentence(full: &Filled) -> String {
    let hard = full.lines.hard.map_or_else(String::new, |n| format!(" of {}", human(n)));
    let then = match full.lines.hard {
        Some(_) => "When it is full, uploads are refused. Remove something there, or ask for a larger quota.",
        None => "It may go on growing; this is only said once until there is room again.",
    };
    format!("{} holds {}{hard}. {then}", full.name, human(full.used))
}

//! By schedule: backups, once a day at the hour that is set, and later if the service did not run then; and reading everything, every
//! so many days.

use crate::jobs::work;
use crate::state::State;
use crate::state::work::OfItsKind;
use actix_web::web;
use jiff::civil::Time;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use std::sync::Arc;
use std::time::Duration;
use yellow_attic_store::audit::work::Counts;
use yellow_attic_store::backup::verify::Keep;
use yellow_attic_store::fs::progress::Progress;
use yellow_attic_store::{Engine, StoreError};

/// So often is looked whether one is due.
const LOOK_EVERY: Duration = Duration::from_secs(10);
/// After one that failed, the next is tried so much later.
const AGAIN_MS: i64 = 3_600_000;

/// The last time before now at which one was due.
pub fn due_before(now_ms: i64, at: Time, zone: &TimeZone) -> i64 {
    let now = Timestamp::from_millisecond(now_ms).unwrap_or_default().to_zoned(zone.clone());
    let of = |day: jiff::civil::Date| day.to_datetime(at).to_zoned(zone.clone()).ok();
    let today = of(now.date()).filter(|at| *at <= now);
    let last = today.or_else(|| of(now.date().saturating_sub(1.day())));
    last.map_or(now_ms, |at| at.timestamp().as_millisecond())
}

/// When the next one is due: now, if one was missed.
pub async fn next(engine: &Engine, to: &str, at: Time) -> Result<i64, StoreError> {
    let now = engine.wall_ms();
    let zone = TimeZone::system();
    let due = due_before(now, at, &zone);
    // One that could not copy something counts for its day: it would miss the same an hour later. A time to come is a wrong clock's.
    let made = engine.last_work("backup", Some(to), Counts::Ended).await?;
    let begun = made.map(|work| work.begun_at).filter(|begun| *begun <= now).unwrap_or(i64::MIN);
    if begun < due {
        // One that was not made at all is tried again, but not all the time.
        let tried = engine.last_work("backup", Some(to), Counts::All).await?;
        let again = tried.filter(|work| matches!(&*work.state, "failed" | "stopped"));
        return Ok(again.map_or(now, |work| work.ended_at.unwrap_or(now) + AGAIN_MS).max(now));
    }
    let tomorrow =
        Timestamp::from_millisecond(due).unwrap_or_default().to_zoned(zone).saturating_add(1.day());
    Ok(tomorrow.timestamp().as_millisecond())
}

/// Follows until the service ends.
pub async fn follow(state: web::Data<State>) {
    loop {
        tokio::time::sleep(LOOK_EVERY).await;
        if let Err(error) = check_if_due(&state).await {
            tracing::warn!(%error, "whether everything is to be read could not be found out");
        }
        let Some(backup) = &state.config.backup else { continue };
        match next(&state.engine, &backup.to.display().to_string(), backup.at).await {
            Ok(at) if at <= state.engine.wall_ms() => {}
            Ok(_) | Err(StoreError::Stopping) => continue,
            Err(error) => {
                tracing::warn!(%error, "whether a backup is due could not be found out");
                continue;
            }
        }
        if let Some(only) = state.works.claim("backup") {
            run(&state, "the schedule", only).await;
        }
    }
}

/// Everything is read again, days after the last time or after the store was made; slowly, and beside a backup. What is damaged is put right if
/// sound bytes are anywhere.
async fn check_if_due(state: &web::Data<State>) -> Result<(), StoreError> {
    let days = state.config.check_days;
    let now = state.engine.wall_ms();
    if days == 0 || state.engine.has_older_catalogue() {
        return Ok(());
    }
    let last = match state.engine.last_work("check", None, Counts::All).await? {
        Some(work) => work.begun_at,
        None => state.engine.made_at().await?,
    };
    if now - last < days * 86_400_000 {
        return Ok(());
    }
    let Some(only) = state.works.claim("check") else { return Ok(()) };
    let its = state.clone();
    state.engine.runtime().clone().spawn(async move {
        let _only = only;
        let progress = Arc::new(Progress::default());
        let from: Vec<_> = its.config.backup.iter().map(|backup| backup.to.clone()).collect();
        let work = work::check_all(&its.engine, true, &from, true, progress.clone());
        let _ = work::run(&its.engine, &its.works, "check", "the schedule", work::ALL, progress, work).await;
    });
    Ok(())
}

/// One, to the folder that is set.
pub async fn run(state: &State, by: &str, _only: OfItsKind) {
    let Some(backup) = &state.config.backup else { return };
    let progress = Arc::new(Progress::default());
    let keep = Keep { days: backup.keep_days, months: backup.keep_months };
    let work = work::back_up(&state.engine, &backup.to, Some(keep), false, progress.clone());
    let what = backup.to.display().to_string();
    // What went wrong stands in the list, and on the desk.
    let _ = work::run(&state.engine, &state.works, "backup", by, &what, progress, work).await;
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_time_that_one_was_due_is_today_or_yesterday() {
        let zone = TimeZone::UTC;
        let ms = |text: &str| text.parse::<Timestamp>().unwrap().as_millisecond();
        let at = Time::constant(3, 30, 0, 0);
        for (now, due) in [
            ("2026-03-01T03:30:00Z", "2026-03-01T03:30:00Z"),
            ("2026-03-01T03:29:59Z", "2026-02-28T03:30:00Z"),
            ("2026-03-01T23:00:00Z", "2026-03-01T03:30:00Z"),
        ] {
            assert_eq!(due_before(ms(now), at, &zone), ms(due), "{now}");
        }
    }
}

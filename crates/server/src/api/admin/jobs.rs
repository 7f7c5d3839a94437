//! Work in the background: the list, and the backup that is set.

use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times::show;
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, get, post, web};
use std::sync::atomic::Ordering;
use yellow_attic_api as api;
use yellow_attic_store::audit::work::{Counts, Work};

/// Jobs that are listed.
const LISTED: i64 = 100;
/// A backup is old after so long.
const OLD_MS: i64 = 49 * 3_600_000;

fn job(state: &State, work: Work) -> api::Job {
    let progress = state.works.of(work.id).map(|progress| api::JobProgress {
        step: progress.step.lock().to_string(),
        done: progress.done.load(Ordering::Relaxed),
        of: progress.of.load(Ordering::Relaxed),
        bytes: progress.bytes.load(Ordering::Relaxed),
    });
    api::Job {
        id: work.id,
        kind: work.kind,
        by: work.by,
        what: work.what,
        state: work.state,
        said: work.said,
        begun: show(work.begun_at),
        ended: work.ended_at.map(show),
        progress,
    }
}

/// How it stands with backups, from what became of them.
async fn backup_state(state: &State) -> Result<api::BackupState, Refusal> {
    let set = state.config.backup.as_ref();
    // Where a folder is set, what was copied to another one is no answer.
    let to = set.map(|set| set.to.display().to_string());
    let last = state.engine.last_work("backup", to.as_deref(), Counts::All).await?;
    let good = state.engine.last_work("backup", to.as_deref(), Counts::Done).await?;
    let next = match set {
        Some(set) => {
            Some(crate::jobs::backups::next(&state.engine, &set.to.display().to_string(), set.at).await?)
        }
        None => None,
    };
    let age = good.as_ref().and_then(|work| work.ended_at).map(|at| state.engine.wall_ms() - at);
    let tried = last.filter(|work| matches!(&*work.state, "failed" | "cut off"));
    let newer = |work: &Work| good.as_ref().is_none_or(|good| work.id > good.id);
    let (word, why) = match (tried.filter(newer), age) {
        (Some(work), _) => ("failed", format!("The last backup failed: {}.", work.said)),
        (None, Some(age)) if age < OLD_MS => ("kept", "There is a backup, and files were brought back from it.".into()),
        (None, Some(age)) => ("old", format!("The last backup is {} days old.", age / 86_400_000)),
        (None, None) if set.is_none() => {
            ("none", "There is no backup, and no folder is set for one: backup_to in the configuration, or yatticd backup FOLDER.".into())
        }
        (None, None) => ("none", "There is no backup yet.".into()),
    };
    let report = |work: &Work| serde_json::from_str::<serde_json::Value>(&work.report).unwrap_or_default();
    Ok(api::BackupState {
        state: word.into(),
        why,
        to: set.map(|set| set.to.display().to_string()),
        at: set.map(|set| set.at.strftime("%H:%M").to_string()),
        next: next.map(show),
        last: good.map(|work| {
            let said = report(&work);
            let number = |name: &str| said[name].as_u64().unwrap_or(0);
            api::LastBackup {
                ended: show(work.ended_at.unwrap_or(work.begun_at)),
                to: work.what,
                run: said["run"].as_str().unwrap_or_default().into(),
                files: number("files"),
                bytes: number("bytes"),
                new_bytes: number("new_bytes"),
                drilled: said["drill"]["files"].as_u64().unwrap_or(0),
            }
        }),
    })
}

/// Work in the background, and how it stands with backups. For administrators.
#[utoipa::path(context_path = "/api/v1", tag = "space",
    responses((status = 200, body = api::Jobs), (status = 403, body = api::Problem)))]
#[get("/jobs")]
pub async fn list_jobs(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let jobs = state.engine.work_listed(LISTED).await?.into_iter().map(|work| job(&state, work)).collect();
    Ok(HttpResponse::Ok().json(api::Jobs { jobs, backup: backup_state(&state).await? }))
}

/// Ends a job that runs; what it has done stays. For administrators.
#[utoipa::path(context_path = "/api/v1", tag = "space", params(("job" = i64, Path, description = "The job's number")),
    responses((status = 204), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[post("/jobs/{job}/stop")]
pub async fn stop_job(
    state: web::Data<State>,
    who: Who,
    id: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let id = id.into_inner();
    if !state.works.stop(id) {
        return Err(refusals::NO_SUCH_JOB.of("No job of this number runs."));
    }
    state.engine.people().note(&who.actor, "job stopped", None, &id.to_string(), "").await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Begins a backup to the folder that is set, now. For administrators.
#[utoipa::path(context_path = "/api/v1", tag = "space",
    responses((status = 202), (status = 403, body = api::Problem), (status = 409, body = api::Problem)))]
#[post("/jobs/backup")]
pub async fn begin_backup(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    if state.config.backup.is_none() {
        return Err(refusals::NO_BACKUP_SET.of("No folder for backups is set."));
    }
    let Some(only) = state.works.claim("backup") else {
        return Err(refusals::JOB_RUNS.of("A backup runs already."));
    };
    state.engine.people().note(&who.actor, "backup begun", None, "", "").await?;
    let its = state.clone();
    let by = who.actor.who.clone();
    state.engine.runtime().clone().spawn(async move { crate::jobs::backups::run(&its, &by, only).await });
    Ok(HttpResponse::Accepted().finish())
}

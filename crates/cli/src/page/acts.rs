//! What may be done on the page.

use super::{Answer, Known, No};
use axum::Json;
use axum::extract::{Path, State};
use http::StatusCode;
use serde::Deserialize;
use std::path::PathBuf;
use yellow_attic_core::limits::{Limits, minute};
use yellow_attic_core::merge::Way;
use yellow_attic_core::merge::filter::Filter;
use yellow_attic_sync::computer::copies::{Keep, Twice};
use yellow_attic_sync::computer::{Computer, NewPair, Refused};
use yellow_attic_sync::pairs::limits;
use yellow_attic_sync::pairs::preview::{Out, Preview};
use yellow_attic_sync::pairs::state::About;

/// A pair that is to be made.
#[derive(Deserialize)]
pub struct Joins {
    service: String,
    local: PathBuf,
    remote: String,
    #[serde(default)]
    way: Way,
    #[serde(default)]
    filter: Filter,
}

fn checked(filter: &Filter) -> Result<(), No> {
    filter.check().map_err(|e| {
        let remedy = "* stands for any letters but /, ? for one, [ab] for a or b, {x,y} for x or y.";
        No(StatusCode::UNPROCESSABLE_ENTITY, Refused::new("not_a_pattern", e.to_string(), remedy))
    })
}

fn new_pair(joins: Joins) -> Result<NewPair, No> {
    checked(&joins.filter)?;
    if !joins.local.is_absolute() {
        let says = format!("{} does not say where the folder lies", joins.local.display());
        return Err(No(
            StatusCode::UNPROCESSABLE_ENTITY,
            Refused::new("not_absolute", says, "Give it from the root, as /home/ines/Museum."),
        ));
    }
    let Joins { service, local, remote, way, filter } = joins;
    Ok(NewPair { service, local, remote, way, filter })
}

pub async fn add(State(here): Known, Json(joins): Json<Joins>) -> Answer<About> {
    let about = here.keeper.computer.add(new_pair(joins)?).await?;
    here.keeper.look().await?;
    Ok(Json(about))
}

pub async fn preview(State(here): Known, Json(joins): Json<Joins>) -> Answer<Preview> {
    Ok(Json(here.keeper.computer.preview_new(new_pair(joins)?).await?))
}

/// Everything that is new is read: pairs, filters, limits.
pub async fn look(State(here): Known) -> Answer<()> {
    here.keeper.look().await?;
    Ok(Json(()))
}

pub async fn end(State(here): Known, Path(id): Path<String>) -> Answer<()> {
    here.keeper.end(&id).await?;
    Ok(Json(()))
}

pub async fn set_filter(
    State(here): Known,
    Path(id): Path<String>,
    Json(filter): Json<Filter>,
) -> Answer<About> {
    checked(&filter)?;
    let computer = &here.keeper.computer;
    let about = About { filter, ..computer.pair(&id).await? };
    computer.keep(&about).await?;
    here.keeper.look().await?;
    Ok(Json(about))
}

pub async fn preview_filter(
    State(here): Known,
    Path(id): Path<String>,
    Json(filter): Json<Filter>,
) -> Answer<Out> {
    checked(&filter)?;
    let about = here.keeper.computer.pair(&id).await?;
    Ok(Json(here.keeper.computer.preview_filter(&about, &filter).await?))
}

pub async fn allow(State(here): Known, Path(id): Path<String>) -> Answer<()> {
    let about = here.keeper.computer.pair(&id).await?;
    here.keeper.computer.allow(&about).await?;
    here.keeper.look().await?;
    Ok(Json(()))
}

#[derive(Deserialize)]
pub struct Pause {
    /// One pair; all if it is not given.
    pair: Option<String>,
    paused: bool,
}

pub async fn pause(State(here): Known, Json(pause): Json<Pause>) -> Answer<()> {
    let computer = &here.keeper.computer;
    let pairs = match &pause.pair {
        Some(id) => vec![computer.pair(id).await?],
        None => computer.pairs().await?,
    };
    for about in pairs {
        computer.keep(&About { paused: pause.paused, ..about }).await?;
    }
    here.keeper.look().await?;
    Ok(Json(()))
}

pub async fn set_limits(State(here): Known, Json(set): Json<Limits>) -> Answer<Limits> {
    let no = |says: &str, remedy: &str| {
        No(StatusCode::UNPROCESSABLE_ENTITY, Refused::new("not_a_limit", says, remedy))
    };
    if [set.up, set.down].into_iter().flatten().any(|rate| rate < 1024) {
        return Err(no("less than 1 KiB a second is too slow to carry anything", "Give more, or pause."));
    }
    if let Some((from, to)) = &set.quiet
        && (minute(from).is_none() || minute(to).is_none() || from == to)
    {
        return Err(no("this is no stretch of a day", "Give it as 22:00 to 06:30."));
    }
    limits::write(&set, &here.keeper.computer.folder).map_err(Refused::from)?;
    here.keeper.look().await?;
    Ok(Json(set))
}

#[derive(Deserialize)]
pub struct Settles {
    pair: String,
    /// The copy, from the pair's folder.
    copy: String,
    keep: Keep,
}

/// Settles what is kept twice.
pub async fn settle(State(here): Known, Json(settles): Json<Settles>) -> Answer<PathBuf> {
    let computer = &here.keeper.computer;
    let about = computer.pair(&settles.pair).await?;
    let twice = find(computer, &about, &settles)?;
    Ok(Json(computer.settle(&about, &twice, settles.keep).await?))
}

fn find(computer: &Computer, about: &About, settles: &Settles) -> Result<Twice, Refused> {
    let twice = computer.copies(std::slice::from_ref(about))?;
    twice.into_iter().find(|twice| twice.copy.path == settles.copy).ok_or_else(|| {
        let says = format!("\"{}\" is not kept twice any more", settles.copy);
        Refused::new("not_there", says, "It was settled meanwhile, or the pair has not told of it yet.")
    })
}

#[derive(Deserialize)]
pub struct NewFolder {
    path: PathBuf,
}

/// Makes a folder on this computer, for a pair.
pub async fn make_folder(Json(new): Json<NewFolder>) -> Answer<()> {
    let made = tokio::fs::create_dir(&new.path).await;
    made.map_err(|e| Refused::new("disk_refuses", format!("{}: {e}", new.path.display()), ""))?;
    Ok(Json(()))
}

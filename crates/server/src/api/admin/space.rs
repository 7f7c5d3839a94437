//! Where the space went, and quotas.

use crate::dto::space::{held, title, to_api};
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times::show;
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, get, put, web};
use yellow_attic_api as api;
use yellow_attic_core::proof::Deed;
use yellow_attic_core::rights::Level;
use yellow_attic_core::{NodeId, ShelfId, ShelfPath};
use yellow_attic_store::people::accounts::Role;
use yellow_attic_store::rights::quota::LineOf;
use yellow_attic_store::{Shelf, ShelfKind, StoreError};

const DAY_MS: i64 = 86_400_000;

fn add(a: &mut api::Held, b: &api::Held) {
    a.live += b.live;
    a.files += b.files;
    a.versions += b.versions;
    a.version_states += b.version_states;
    a.trash += b.trash;
    a.trash_files += b.trash_files;
    a.only_snapshots += b.only_snapshots;
    a.all += b.all;
}

/// Where the space went: on the shelves that one owns; for administrators, on all.
#[utoipa::path(context_path = "/api/v1", tag = "space", responses((status = 200, body = api::Space)))]
#[get("/space")]
pub async fn show_space(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    let engine = &state.engine;
    let everywhere = who.account.role == Role::Administrator;
    let owns = |s: &Shelf| match s.kind {
        ShelfKind::Home => s.owner == Some(who.account.id),
        ShelfKind::Shared => engine.space().owners_of(s).contains(&who.account.id),
    };
    let mut mine: Vec<_> = engine.shelves().into_iter().filter(|s| everywhere || owns(s)).collect();
    mine.sort_by_key(|s| (s.kind == ShelfKind::Home, s.name.clone()));
    let mut all = api::Held::default();
    let mut shelves = Vec::new();
    for shelf in &mine {
        let its = held(&engine.space().held_on(shelf).await?);
        add(&mut all, &its);
        shelves.push(api::ShelfSpace {
            root: shelf.root.0,
            title: title(shelf),
            kind: if shelf.kind == ShelfKind::Home { "home" } else { "shared" }.into(),
            held: its,
            quota: engine.space().fullness(shelf).await?.line,
        });
    }
    // Names are shown only of what one may see oneself.
    let seen: Vec<ShelfId> = engine.files().shelves_for(&who.actor).into_iter().map(|(s, _)| s.id).collect();
    let (mut largest, mut growing) = (Vec::new(), Vec::new());
    for file in engine.space().largest(&seen, 50).await? {
        if let Some(path) = path_to(&state, &who, file.node).await? {
            largest.push(api::LargeFile { node: file.node.0, path, size: file.size, changed: show(file.at) });
        }
    }
    for folder in engine.space().growing(&seen, engine.now_ms() - 30 * DAY_MS, 20).await? {
        // Where something beneath is hidden, no sum is shown.
        if engine.files().sums(&who.actor, folder.node).await?.is_none() {
            continue;
        }
        if let Some(path) = path_to(&state, &who, folder.node).await? {
            growing.push(api::GrownFolder { node: folder.node.0, path, bytes: folder.bytes });
        }
    }
    let stored = match everywhere {
        true => {
            let s = engine.space().stored().await?;
            Some(api::Stored {
                logical: s.logical,
                whole: s.whole,
                chunks: s.chunks,
                overhead: s.overhead,
                saved: s.logical - s.whole - s.chunks - s.overhead,
                packed: s.packed,
                chunk_count: s.chunk_count,
                catalogue: s.catalogue,
                staging: s.staging,
                free: s.free,
                total: s.total,
                free_files: s.files.map(|(free, _)| free),
                total_files: s.files.map(|(_, total)| total),
            })
        }
        false => None,
    };
    let ids: Vec<ShelfId> = mine.iter().map(|s| s.id).collect();
    let days = engine.space().growth(&ids, engine.now_ms().div_euclid(DAY_MS) - 365).await?;
    let days = days.into_iter().map(|d| api::SpaceDay {
        day: d.day,
        live: d.live,
        versions: d.versions,
        trash: d.trash,
    });
    Ok(HttpResponse::Ok().json(api::Space {
        held: all,
        shelves,
        stored,
        largest,
        growing,
        days: days.collect(),
    }))
}

async fn path_to(state: &State, who: &Who, node: NodeId) -> Result<Option<String>, Refusal> {
    let Ok(chain) = state.engine.files().chain(&who.actor, node, Level::View).await else { return Ok(None) };
    let way: Vec<&yellow_attic_store::Row> = chain.iter().map(|r| &**r).collect();
    Ok(Some(state.engine.files().way_of(&who.actor, &way).await?.path))
}

/// What a folder and its children hold, largest first. For whoever may see all beneath it.
#[utoipa::path(context_path = "/api/v1", tag = "space", params(("node" = i64, Path)),
    responses((status = 200, body = api::FolderSpace), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[get("/nodes/{node}/space")]
pub async fn show_folder_space(
    state: web::Data<State>,
    who: Who,
    path: web::Path<i64>,
) -> Result<HttpResponse, Refusal> {
    let (all, children) = state.engine.space().held_in(&who.actor, NodeId(*path)).await?;
    let children = children.into_iter().map(|(node, name, folder, h)| api::ChildSpace {
        node: node.0,
        name,
        kind: if folder { api::Kind::Folder } else { api::Kind::File },
        held: held(&h),
    });
    Ok(HttpResponse::Ok().json(api::FolderSpace { held: held(&all), children: children.collect() }))
}

/// All lines, with how full they are. For administrators.
#[utoipa::path(context_path = "/api/v1", tag = "space", responses((status = 200, body = api::Quotas), (status = 403, body = api::Problem)))]
#[get("/quotas")]
pub async fn list_quotas(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    Ok(HttpResponse::Ok().json(to_api(&state).await?))
}

/// Sets a soft or hard line of the organisation, a home, a shared shelf or a folder. For administrators.
#[utoipa::path(context_path = "/api/v1", tag = "space", request_body = api::QuotaChange,
    responses((status = 200, body = api::Quotas), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[put("/quotas")]
pub async fn set_quota(
    state: web::Data<State>,
    who: Who,
    body: Json<api::QuotaChange>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let shelves = state.engine.shelves();
    let find = |kind: ShelfKind, name: &str| {
        let found = shelves.iter().find(|s| s.kind == kind && s.name == name);
        found
            .map(|s| LineOf::Shelf(s.id))
            .ok_or_else(|| Refusal::not_found(&format!("The shelf of \"{name}\"")))
    };
    let of = match body.of.split_once(':') {
        None if body.of == "organisation" => LineOf::Organisation,
        Some(("home", name)) if !name.starts_with('/') => find(ShelfKind::Home, name)?,
        Some(("shelf", name)) => find(ShelfKind::Shared, name)?,
        Some(("folder", id)) if id.parse::<i64>().is_ok() => {
            let node = NodeId(id.parse().unwrap_or(0));
            let chain = state.engine.files().chain(&who.actor, node, Level::View).await?;
            folder(&chain[0])?
        }
        Some((_, way)) if way.starts_with('/') => {
            let path = ShelfPath::parse(&body.of).map_err(StoreError::from)?;
            let row = state.engine.files().resolve(&who.actor, &path.shelf, &path.names).await?;
            match row.parent {
                None => LineOf::Shelf(row.shelf),
                Some(_) => folder(&row)?,
            }
        }
        _ => {
            return Err(
                refusals::QUOTA_OF_NOTHING.of(&format!("\"{}\" is nothing that can have a quota.", body.of))
            );
        }
    };
    let soft = body.soft.as_deref().map(crate::dto::quota::quota).transpose()?;
    let hard = body.hard.as_deref().map(crate::dto::quota::quota).transpose()?;
    if let (Some(Some(soft)), Some(Some(hard))) = (soft, hard)
        && soft > hard
    {
        return Err(refusals::SOFT_ABOVE_HARD
            .of("The soft line lies above the hard one: nobody would ever be warned."));
    }
    who.need(&state, Deed::SetQuota)?;
    state.engine.space().set_lines(&who.actor, of, &body.of, soft, hard).await?;
    Ok(HttpResponse::Ok().json(to_api(&state).await?))
}

fn folder(row: &yellow_attic_store::Row) -> Result<LineOf, Refusal> {
    match row.is_folder() {
        true => Ok(LineOf::Folder(row.node)),
        false => Err(StoreError::NotAFolder(row.name().into()).into()),
    }
}

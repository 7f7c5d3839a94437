//! What the page shows.

use super::{Answer, Known, No};
use axum::Json;
use axum::extract::{Query, State};
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::response::{IntoResponse, Response};
use futures_util::Stream;
use http::{StatusCode, header};
use rust_embed::RustEmbed;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::convert::Infallible;
use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;
use yellow_attic_client::api;
use yellow_attic_core::limits::Limits;
use yellow_attic_core::merge::filter::Filter;
use yellow_attic_sync::computer::copies::Twice;
use yellow_attic_sync::computer::{Computer, Refused};
use yellow_attic_sync::mount::control::Sums;
use yellow_attic_sync::pairs::limits;
use yellow_attic_sync::pairs::state::About;
use yellow_attic_sync::pairs::status::Status;

/// So often it is looked whether something is to be told, while somebody listens.
const TELL: Duration = Duration::from_millis(500);
/// The largest file of which both sides are shown, in bytes.
const SHOWN: u64 = 32 << 20;

/// A pair, what it leaves out, and what it does.
#[derive(Serialize)]
pub struct PairNow {
    service: String,
    way: yellow_attic_core::merge::Way,
    paused: bool,
    filter: Filter,
    /// Whether somebody has to say that what it asks for may be done.
    asks: bool,
    seconds_left: Option<u64>,
    #[serde(flatten)]
    status: Status,
}

/// A mounted folder, and what lies here of it.
#[derive(Serialize)]
pub struct MountNow {
    at: PathBuf,
    service: String,
    /// None while it is not mounted.
    sums: Option<Sums>,
}

/// All that is so now.
#[derive(Serialize)]
pub struct Now {
    program: String,
    computer: String,
    /// The addresses of the services that this computer is connected to, with the sign-in name.
    services: BTreeMap<String, String>,
    mounts: Vec<MountNow>,
    pairs: Vec<PairNow>,
    copies: Vec<Twice>,
    limits: Limits,
}

fn pair_now(computer: &Computer, about: About) -> Result<PairNow, Refused> {
    let status = computer.status(&about)?;
    let asks = status.trouble.as_ref().is_some_and(|why| why.contains("yattic sync allow"))
        || status.left.iter().any(|left| left.why.contains("yattic sync allow"));
    let About { service, way, paused, filter, .. } = about;
    Ok(PairNow { service, way, paused, filter, asks, seconds_left: status.seconds_left(), status })
}

fn look(here: &super::Here, pairs: Vec<About>, mounts: Vec<MountNow>) -> Result<Now, Refused> {
    let computer = &here.keeper.computer;
    let services = crate::connection::all().into_iter().map(|c| (c.address, c.sign_in)).collect();
    Ok(Now {
        program: format!("yattic {}", env!("CARGO_PKG_VERSION")),
        computer: pairs.first().map_or_else(crate::connection::host_name, |pair| pair.device.clone()),
        services,
        mounts,
        copies: computer.copies(&pairs)?,
        limits: limits::read(&computer.folder)?,
        pairs: pairs.into_iter().map(|about| pair_now(computer, about)).collect::<Result<_, _>>()?,
    })
}

async fn looked(here: &super::Known) -> Result<Now, Refused> {
    let mut pairs = here.keeper.pairs();
    pairs.sort_by(|a, b| a.local.cmp(&b.local));
    let mut mounts = Vec::new();
    for (state, mount) in crate::connection::mounts() {
        let sums = crate::commands::mount::sums(&state).await;
        mounts.push(MountNow { at: mount.at, service: mount.service, sums });
    }
    look(&here.0, pairs, mounts)
}

pub async fn now(here: Known) -> Answer<Now> {
    Ok(Json(looked(&here).await?))
}

/// The same whenever something of it changes.
pub async fn events(here: Known) -> Sse<impl Stream<Item = Result<Event, Infallible>>> {
    let stream = futures_util::stream::unfold((here, None::<String>), |(here, told)| async move {
        let mut wait = told.is_some();
        loop {
            if std::mem::replace(&mut wait, true) {
                tokio::time::sleep(TELL).await;
            }
            let Ok(now) = looked(&here).await else { continue };
            let Ok(text) = serde_json::to_string(&now) else { continue };
            if told.as_ref() != Some(&text) {
                return Some((Ok(Event::default().data(&text)), (here, Some(text))));
            }
        }
    });
    Sse::new(stream).keep_alive(KeepAlive::default())
}

#[derive(Deserialize)]
pub struct Where {
    path: Option<PathBuf>,
}

/// A folder of this computer, for choosing one.
#[derive(Serialize)]
pub struct Folder {
    path: PathBuf,
    above: Option<PathBuf>,
    folders: Vec<FolderIn>,
    /// What it is kept the same as already, itself or a folder that it is in.
    taken: Option<String>,
    /// A folder in it that is kept the same already.
    holds: Option<PathBuf>,
}

#[derive(Serialize)]
struct FolderIn {
    name: String,
    path: PathBuf,
}

pub async fn folders(State(here): Known, Query(at): Query<Where>) -> Answer<Folder> {
    let path = at.path.or_else(|| std::env::var_os("HOME").map(PathBuf::from)).unwrap_or("/".into());
    let pairs = here.keeper.computer.pairs().await?;
    let listed = tokio::task::spawn_blocking(move || folders_in(&path, &pairs)).await;
    Ok(Json(listed.map_err(|e| Refused::new("failed", e.to_string(), ""))??))
}

fn folders_in(path: &Path, pairs: &[About]) -> Result<Folder, Refused> {
    let no = |e: std::io::Error| {
        Refused::new("not_there", format!("{}: {e}", path.display()), "Choose another folder.")
    };
    let path = fs::canonicalize(path).map_err(no)?;
    let mut folders = Vec::new();
    for entry in fs::read_dir(&path).map_err(no)? {
        let Ok(entry) = entry else { continue };
        let name = entry.file_name().to_string_lossy().into_owned();
        if !name.starts_with('.') && entry.path().is_dir() {
            folders.push(FolderIn { name, path: entry.path() });
        }
    }
    folders.sort_by_cached_key(|folder| yellow_attic_core::collate::fold(&folder.name));
    let taken = pairs.iter().find(|pair| path.starts_with(&pair.local)).map(|pair| pair.remote.clone());
    let holds = pairs.iter().find(|pair| pair.local.starts_with(&path)).map(|pair| pair.local.clone());
    let holds = holds.filter(|_| taken.is_none());
    Ok(Folder { above: path.parent().map(Into::into), path, folders, taken, holds })
}

#[derive(Deserialize)]
pub struct There {
    service: String,
    /// A folder as shelf:/path; the shelves if it is not given.
    path: Option<String>,
}

/// A folder of the service, for choosing one.
#[derive(Serialize)]
pub struct Place {
    path: Option<String>,
    node: Option<i64>,
    folders: Vec<PlaceIn>,
    /// Whether there are more than are told here.
    more: bool,
}

#[derive(Serialize)]
struct PlaceIn {
    name: String,
    path: String,
    node: i64,
}

pub async fn places(State(here): Known, Query(there): Query<There>) -> Answer<Place> {
    let client = here.keeper.computer.client(&there.service).await?;
    let away = |e: yellow_attic_client::Error| No::from(Refused::from(e));
    let Some(path) = there.path else {
        let shelves = client.shelves().await.map_err(away)?.shelves;
        let all = shelves.into_iter().map(|shelf| PlaceIn {
            path: format!("{}:/", shelf.name),
            name: shelf.title,
            node: shelf.root,
        });
        return Ok(Json(Place { path: None, node: None, folders: all.collect(), more: false }));
    };
    let facts = client.place(&path, None).await.map_err(away)?;
    let mut folders = Vec::new();
    let mut query = api::ListQuery { limit: Some(1000), ..Default::default() };
    let mut more = false;
    for pages in 0.. {
        let page = client.entries(facts.node.id, &query).await.map_err(away)?;
        let slash = if facts.path.ends_with('/') { "" } else { "/" };
        let is_folder = |node: &api::Node| node.kind == api::Kind::Folder;
        folders.extend(page.entries.into_iter().filter(is_folder).map(|node| PlaceIn {
            path: format!("{}{slash}{}", facts.path, node.name),
            name: node.name,
            node: node.id,
        }));
        // Folders come first.
        query.cursor = page.next;
        if query.cursor.is_none() {
            break;
        }
        if pages == 9 {
            more = true;
            break;
        }
    }
    Ok(Json(Place { path: Some(facts.path), node: Some(facts.node.id), folders, more }))
}

#[derive(Deserialize)]
pub struct Bytes {
    pair: String,
    path: String,
}

/// One side of what is kept twice, to look at: nothing in it is run.
pub async fn bytes(State(here): Known, Query(asked): Query<Bytes>) -> Result<Response, No> {
    let computer = &here.keeper.computer;
    let about = computer.pair(&asked.pair).await?;
    let twice = computer.copies(std::slice::from_ref(&about))?;
    let sides = twice.into_iter().flat_map(|twice| [Some(twice.copy), twice.original]).flatten();
    let gone = || No::from(Refused::new("not_there", "it is not kept twice any more", ""));
    let side = sides.into_iter().find(|side| side.path == asked.path).ok_or_else(gone)?;
    if side.size > SHOWN {
        return Err(No(
            StatusCode::PAYLOAD_TOO_LARGE,
            Refused::new(
                "too_large",
                "it is too large to be shown here",
                "Open both with a program of yours.",
            ),
        ));
    }
    let kind = mime_guess::from_path(&side.path).first_or_octet_stream();
    let bytes = tokio::fs::read(&side.local).await.map_err(Refused::from)?;
    let policy = "sandbox; default-src 'none'";
    let headers =
        [(header::CONTENT_TYPE, kind.to_string()), (header::CONTENT_SECURITY_POLICY, policy.into())];
    Ok((headers, bytes).into_response())
}

/// How one file is, for marks in a file manager.
#[derive(Serialize)]
pub struct Mark {
    /// `same`, `waiting`, `held`, `twice`, `none`.
    state: &'static str,
    /// Why, as people read it.
    why: String,
    /// What it is kept the same as.
    place: Option<String>,
}

#[derive(Deserialize)]
pub struct Marked {
    path: PathBuf,
}

pub async fn mark(State(here): Known, Query(asked): Query<Marked>) -> Answer<Mark> {
    let pairs = here.keeper.pairs();
    let Some((about, way)) = Computer::within(&pairs, &asked.path) else {
        return Ok(Json(Mark { state: "none", why: "it lies in no pair".into(), place: None }));
    };
    let way = way.to_string_lossy().into_owned();
    let status = here.keeper.computer.status(about)?;
    let slash = if about.remote.ends_with('/') || way.is_empty() { "" } else { "/" };
    let place = Some(format!("{}{slash}{way}", about.remote));
    let beneath = |path: &str| {
        path == way || way.is_empty() || path.strip_prefix(&way).is_some_and(|rest| rest.starts_with('/'))
    };
    let doing = status.doing.iter().find(|doing| beneath(&doing.path));
    let left = status.left.iter().find(|left| beneath(&left.path));
    let twice = status.copies.iter().any(|copy| beneath(copy));
    let (state, why) = match (twice, left, doing) {
        (true, ..) => ("twice", "it keeps what two changed at once".into()),
        (_, Some(left), _) => ("held", left.why.clone()),
        (_, _, Some(doing)) => ("waiting", format!("yattic {} it", doing.what)),
        _ => match &status.trouble {
            Some(trouble) => ("waiting", trouble.clone()),
            None if status.state == "in_step" => ("same", "both sides have it".into()),
            None => ("waiting", "the pair is at work".into()),
        },
    };
    Ok(Json(Mark { state, why, place }))
}

/// The page's own files, as the console's build left them.
#[derive(RustEmbed)]
#[folder = "../../console/dist-computer"]
#[allow_missing = true]
struct Built;

fn policy(nonce: &str) -> String {
    format!(
        "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-{nonce}'; font-src 'self'; img-src 'self' blob: data:; \
         connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
    )
}

pub async fn built(uri: http::Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    let name = if path.is_empty() { "computer.html" } else { path };
    let Some(file) = Built::get(name) else {
        let refused = Refused::new("not_there", "there is no such page", "");
        return No(StatusCode::NOT_FOUND, refused).into_response();
    };
    let kind = mime_guess::from_path(name).first_or_octet_stream().to_string();
    if name != "computer.html" {
        return ([(header::CONTENT_TYPE, kind)], file.data.into_owned()).into_response();
    }
    let mut bytes = [0u8; 16];
    if let Err(e) = getrandom::fill(&mut bytes) {
        return No::from(Refused::new("no_chance", e.to_string(), "")).into_response();
    }
    let nonce: String = bytes.iter().map(|b| format!("{b:02x}")).collect();
    let text = String::from_utf8_lossy(&file.data).replace("{{nonce}}", &nonce);
    ([(header::CONTENT_TYPE, kind), (header::CONTENT_SECURITY_POLICY, policy(&nonce))], text).into_response()
}

//! PUT, MKCOL, DELETE, COPY and MOVE.

use super::spot::{At, Missing, Spot};
use super::{Answered, Asked, Fault, PREFIX, conditions, malformed, refuse};
use crate::http::conditions::of_write;
use crate::http::problem::Refusal;
use crate::transfer::receive::receive;
use actix_web::http::header;
use actix_web::{HttpResponse, web};
use yellow_attic_core::conditions::{Conditions, Tags};
use yellow_attic_core::dav::answer;
use yellow_attic_core::dav::headers::{self, AddressError, Depth};
use yellow_attic_core::rights::Level;
use yellow_attic_core::{Name, NodeId};
use yellow_attic_store::{Outcome, Row, StoreError};

fn no_folder() -> Fault {
    refuse(409, "no_folder", "The folder it would be in is not there.", "Make the folder first.")
}

/// A place for something new, in a folder that is there.
pub fn place(missing: &Missing) -> Result<(NodeId, Name), Fault> {
    if missing.nowhere {
        return Err(refuse(
            403,
            "not_a_place",
            "Nothing is made here by WebDAV: this is the list of shelves, or of what was given to you.",
            "Work within one of the folders in it; shelves are made in the console.",
        ));
    }
    let above = missing.above.as_ref().ok_or_else(no_folder)?;
    if !above[0].is_folder() {
        return Err(refuse(409, "not_a_folder", "What it would be in is a file.", "Choose a folder."));
    }
    Ok((above[0].node, missing.name.clone()))
}

/// A refusal of the store, with the body that the standard wants for a lock.
pub fn fault(error: StoreError, over: &str) -> Fault {
    let StoreError::Locked { node, .. } = &error else { return error.into() };
    Fault::Locked { node: *node, over: over.into(), words: in_words(error) }
}

/// The same with the address of what holds it, as far as the caller may know that.
pub async fn held(asked: &Asked<'_>, node: NodeId, over: String, words: String) -> Fault {
    let root = async {
        let chain = asked.state.engine.files().chain(asked.actor(), node, Level::View).await.ok()?;
        let rows: Vec<&Row> = chain.iter().map(|r| &**r).collect();
        let way = asked.state.engine.files().way_of(asked.actor(), &rows).await.ok()?;
        Some(super::spot::href_of(&way.path, chain[0].is_folder()))
    };
    let mut inside = String::from("<D:href>");
    yellow_attic_core::dav::xml::escape(&mut inside, &root.await.unwrap_or(over));
    inside.push_str("</D:href>");
    Fault::Condition { status: 423, name: "lock-token-submitted", inside, words }
}

/// What is refused, and what to do about it.
pub fn in_words(error: StoreError) -> String {
    let problem = Refusal::from(error).into_problem();
    format!("{} {}", problem.detail, problem.remedy)
}

/// The same for a change of all beneath: what keeps it from happening may lie further down.
async fn fault_beneath(asked: &Asked<'_>, error: StoreError, at: &At) -> Fault {
    if let StoreError::Locked { node, by, .. } = &error
        && *node != at.row.node
        && !at.chain.iter().any(|r| r.node == *node)
        && let Ok(chain) = asked.state.engine.files().chain(asked.actor(), *node, Level::View).await
    {
        let rows: Vec<&Row> = chain.iter().map(|r| &**r).collect();
        if let Ok(way) = asked.state.engine.files().way_of(asked.actor(), &rows).await {
            let mut body = answer::BEGIN.to_string();
            let href = super::spot::href_of(&way.path, chain[0].is_folder());
            answer::outcome(
                &mut body,
                &href,
                423,
                Some("lock-token-submitted"),
                Some(&format!("Locked by {by}.")),
            );
            body.push_str(answer::END);
            let status = actix_web::http::StatusCode::MULTI_STATUS;
            return Fault::Answer(Box::new(HttpResponse::build(status).content_type(super::XML).body(body)));
        }
    }
    fault(error, &at.href)
}

/// A file: new, or a new state of what stands there.
pub async fn put(asked: &Asked<'_>, spot: Spot, payload: web::Payload) -> Answered {
    let headers = asked.request.headers();
    if headers.contains_key(header::CONTENT_RANGE) {
        let detail = "A part of a file cannot be put: the whole would be taken for the part.";
        return Err(refuse(
            400,
            "content_range",
            detail,
            "Send the whole file, or use the resumable uploads of the API.",
        ));
    }
    if headers.get(header::CONTENT_ENCODING).is_some_and(|v| !v.as_bytes().eq_ignore_ascii_case(b"identity"))
    {
        let detail = "The body comes in an encoding, and is kept as it is.";
        return Err(refuse(415, "content_encoding", detail, "Send the bytes as they are."));
    }
    let folder = || {
        let detail = "A folder is there, and takes no bytes.";
        refuse(405, "folder_in_the_way", detail, "Choose another name.")
    };
    let (parent, name, href) = match &spot {
        Spot::Missing(missing) => {
            let (parent, name) = place(missing)?;
            (parent, name, missing.href.clone())
        }
        Spot::Node(at) if at.row.is_folder() => return Err(folder()),
        Spot::Node(at) => {
            let parent = at.row.parent.ok_or(StoreError::ShelfTop)?;
            (parent, Name::new(at.row.name()).map_err(StoreError::from)?, at.href.clone())
        }
        _ => return spot.node().map(|_| HttpResponse::Ok().finish()),
    };
    let there = match &spot {
        Spot::Missing(missing) if missing.unseen => None,
        _ => {
            let looked = asked.state.engine.files().check_put(asked.actor(), parent, &name).await;
            looked.map_err(|e| fault(e, &href))?
        }
    };
    let mut conditions = of_write(asked.request)?;
    // What was decided by the If header counts at the commit too.
    if asked.request.headers().contains_key("if")
        && conditions.if_match.is_none()
        && let Some(tag) = there.as_ref().and_then(|r| r.etag())
    {
        conditions.if_match = Some(Tags::OneOf(vec![tag.trim_matches('"').to_string()]));
    }
    let replaced = there.map_or(0, |row| row.size().max(0) as u64);
    let arrived = receive(asked.state, asked.request, payload, parent, replaced).await?;
    let now = asked.state.engine.now_ms();
    let done =
        asked.state.engine.files().put(asked.actor(), parent, name, arrived.staged, now, conditions).await;
    drop(arrived.claim);
    let done = match done {
        Err(StoreError::FolderInTheWay(_)) => return Err(folder()),
        done => done.map_err(|e| fault(e, &href))?,
    };
    let row = done.row.ok_or_else(|| Refusal::not_found("The file"))?;
    asked.state.metrics.received.inc_by(row.size().max(0) as u64);
    let mut answer = if done.created { HttpResponse::Created() } else { HttpResponse::NoContent() };
    if let Some(tag) = row.etag() {
        answer.insert_header((header::ETAG, tag));
    }
    if let Some(told) = arrived.told {
        answer.insert_header(("repr-digest", told));
    }
    Ok(answer.finish())
}

/// A folder.
pub async fn make(asked: &Asked<'_>, spot: Spot) -> Answered {
    let missing = match &spot {
        Spot::Missing(missing) => missing,
        _ => return Err(refuse(405, "exists", "Something is there already.", "Choose another name.")),
    };
    let (parent, name) = place(missing)?;
    let made = asked.state.engine.files().make_folder(asked.actor(), parent, name).await;
    match made {
        Ok(_) => Ok(HttpResponse::Created().finish()),
        Err(StoreError::NameTaken(_)) => {
            Err(refuse(405, "exists", "Something is there already.", "Choose another name."))
        }
        Err(e) => Err(fault(e, &missing.href)),
    }
}

/// Something goes, with all beneath, and can be brought back.
pub async fn remove(asked: &Asked<'_>, spot: Spot) -> Answered {
    let at = spot.node()?;
    if !matches!(asked.depth()?, None | Some(Depth::Infinity)) {
        return Err(refuse(
            400,
            "depth",
            "A folder is removed with all beneath.",
            "Send Depth: infinity, or leave it out.",
        ));
    }
    let conditions = of_write(asked.request)?;
    match asked.state.engine.files().remove(asked.actor(), at.row.node, conditions).await {
        Ok(_) => Ok(HttpResponse::NoContent().finish()),
        Err(e) => Err(fault_beneath(asked, e, &at).await),
    }
}

/// The parts of the address in the header Destination.
fn destination(asked: &Asked<'_>) -> Result<Vec<String>, Fault> {
    let value = asked.text("destination")?;
    let Some(value) = value else {
        return Err(refuse(
            400,
            "no_destination",
            "The header Destination is missing.",
            "Say where it is to be.",
        ));
    };
    headers::address(value, PREFIX, |host| conditions::is_own(asked, host)).map_err(|e| match e {
        AddressError::Elsewhere => refuse(
            502,
            "destination_elsewhere",
            "The Destination lies on another server or in another place of this one.",
            "Choose a place under /dav/ here.",
        ),
        _ => refuse(
            400,
            "destination_malformed",
            &format!("The Destination cannot be: {e}."),
            "Send an address of UTF-8 names, percent-encoded.",
        ),
    })
}

/// COPY or MOVE to the Destination.
pub async fn copy_or_move(asked: &Asked<'_>, spot: Spot, moves: bool) -> Answered {
    let past = match &spot {
        Spot::Past(past) if !moves => super::then::to_copy(past).map(|(row, at)| (row.clone(), at)),
        _ => None,
    };
    let at = match &past {
        Some(_) => None,
        None => Some(spot.node()?),
    };
    let row = match (&past, &at) {
        (Some((row, _)), _) => row,
        (None, Some(at)) => &*at.row,
        (None, None) => return Err(Refusal::not_found("The file or folder").into()),
    };
    let parts = destination(asked)?;
    let overwrite = headers::overwrite(asked.text("overwrite")?).ok_or_else(|| malformed("Overwrite"))?;
    let depth = asked.depth()?;
    let whole = match (depth, moves) {
        (None | Some(Depth::Infinity), _) => true,
        (Some(Depth::Zero), false) => false,
        (Some(Depth::Zero | Depth::One), true) if !row.is_folder() => true,
        _ => {
            let detail = "A folder is moved with all beneath; it is copied with all beneath, or alone.";
            return Err(refuse(400, "depth", detail, "Send Depth: infinity."));
        }
    };
    let to = Box::pin(Spot::find(asked, parts)).await?;
    let (parent, name, there, href) = match &to {
        Spot::Missing(missing) => {
            let (parent, name) = place(missing)?;
            (parent, name, None, missing.href.clone())
        }
        Spot::Node(to) => {
            let parent = to.row.parent.ok_or(StoreError::ShelfTop)?;
            let name = Name::new(to.row.name()).map_err(StoreError::from)?;
            (parent, name, Some(to.row.node), to.href.clone())
        }
        _ => {
            return Err(refuse(
                403,
                "not_a_place",
                "The Destination is a list that the service makes.",
                "Choose a folder on a shelf.",
            ));
        }
    };
    if past.is_none() && there == Some(row.node) {
        return Err(refuse(
            403,
            "same_place",
            "The Destination is where it is already.",
            "Choose another place.",
        ));
    }
    if there.is_some() && !overwrite {
        return Err(refuse(
            412,
            "exists",
            "Something stands at the Destination, and is not to be overwritten.",
            "Choose another name, or send Overwrite: T.",
        ));
    }
    let conditions = of_write(asked.request)?;
    let done = match (&past, &at) {
        (Some((row, then)), _) => {
            let (engine, actor, of) = (asked.state.engine.clone(), asked.actor().clone(), (row.node, *then));
            let copied = asked.state.engine.runtime().spawn(async move {
                engine.history().copy_past(&actor, of, parent, name, there.is_some()).await
            });
            copied.await.unwrap_or(Err(StoreError::Stopping))
        }
        (None, Some(at)) if moves => move_to(asked, at, parent, name, there, conditions).await,
        (None, Some(at)) => copy_to(asked, at, parent, name, there.is_some(), whole).await,
        (None, None) => Err(StoreError::NotFound("The file or folder".into())),
    };
    match done {
        Ok(_) if there.is_some() => Ok(HttpResponse::NoContent().finish()),
        Ok(_) => Ok(HttpResponse::Created().insert_header((header::LOCATION, href)).finish()),
        // Held by what the change starts from, or by where it goes.
        Err(e @ StoreError::Locked { .. }) if moves => match &at {
            Some(at) => Err(fault_beneath(asked, e, at).await),
            None => Err(fault(e, &href)),
        },
        Err(StoreError::IntoItself) => Err(refuse(
            403,
            "into_itself",
            "A folder cannot be moved or copied into itself.",
            "Choose a folder outside of it.",
        )),
        Err(e) => Err(fault(e, &href)),
    }
}

async fn move_to(
    asked: &Asked<'_>,
    at: &At,
    parent: NodeId,
    name: Name,
    there: Option<NodeId>,
    conditions: Conditions,
) -> Result<Outcome, StoreError> {
    let engine = &asked.state.engine;
    match there {
        Some(_) => engine.history().move_over(asked.actor(), at.row.node, parent, name, conditions).await,
        None => engine.files().move_node(asked.actor(), at.row.node, parent, name, false, conditions).await,
    }
}

async fn copy_to(
    asked: &Asked<'_>,
    at: &At,
    parent: NodeId,
    name: Name,
    replace: bool,
    whole: bool,
) -> Result<Outcome, StoreError> {
    let (engine, actor, node) = (asked.state.engine.clone(), asked.actor().clone(), at.row.node);
    let alone = at.row.is_folder() && !whole;
    // On the engine's own runtime: it goes on if the caller stops waiting.
    let copied = asked.state.engine.runtime().spawn(async move {
        match alone {
            true => engine.history().copy_alone(&actor, node, parent, name, replace).await,
            false => engine.history().copy_over(&actor, node, parent, name, replace).await,
        }
    });
    copied.await.map_err(|_| StoreError::Stopping)?
}

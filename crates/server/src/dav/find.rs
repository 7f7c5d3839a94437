//! PROPFIND: answered in pieces, each written when it is read, so that the first byte comes before the last entry is
//! known, and a folder of any size takes the same memory.

use super::props::{Is, Plan, Teller, Thing};
use super::spot::{At, Spot, href_of};
use super::{Answered, Asked, Fault, PREFIX, XML, bad_body, condition, report};
use crate::dto::shelf::PERSON;
use crate::http::problem::Refusal;
use crate::state::State;
use actix_web::http::StatusCode;
use actix_web::rt::task::JoinHandle;
use actix_web::{HttpResponse, web};
use bytes::Bytes;
use std::sync::Arc;
use yellow_attic_core::NodeId;
use yellow_attic_core::dav::answer::{BEGIN, END, push_name};
use yellow_attic_core::dav::bodies;
use yellow_attic_core::dav::headers::Depth;
use yellow_attic_core::rights::Level;
use yellow_attic_store::timeline::paths::{GIVEN, given_name};
use yellow_attic_store::{Actor, Entry, Page, Row, ShelfKind, Sort, StoreError};

/// Entries read at a time: the next so many while these are written.
const PAGE: usize = 200;
/// The most things that an answer with all beneath tells of.
const MOST_BENEATH: i64 = 50_000;

/// Answers a PROPFIND.
pub async fn answer(asked: &Asked<'_>, spot: Spot, body: &[u8]) -> Answered {
    let wanted = bodies::propfind(body).map_err(|e| bad_body(&e))?;
    let depth = asked.depth()?.unwrap_or(Depth::Infinity);
    let state = shared(asked)?;
    let teller = Teller::new(state, asked.who.clone(), Plan::new(wanted)).await;
    let walk = match spot {
        Spot::Missing(_) => return Err(crate::http::problem::Refusal::not_found("The file or folder").into()),
        Spot::Top | Spot::Given if depth == Depth::Infinity => {
            return Err(condition(403, "propfind-finite-depth"));
        }
        Spot::Top => tops(asked, teller, depth).await?,
        Spot::Given => given(asked, teller, depth).await?,
        Spot::Person => {
            alone(teller, &format!("{PREFIX}/{PERSON}/"), &asked.who.account.display_name, Is::Person)
        }
        Spot::State(row) => {
            let mut teller = teller;
            let known = teller.know(&[&row]).await?;
            let mut out = BEGIN.to_string();
            let href = state_href(row.node, &row);
            teller.tell(&mut out, &thing(&href, &row, Is::State), &known);
            finished(out)
        }
        Spot::Past(_) if depth == Depth::Infinity => {
            return Err(condition(403, "propfind-finite-depth"));
        }
        Spot::Past(past) => {
            let mut teller = teller;
            let out = super::then::told(asked, &mut teller, &past, depth).await?;
            Walk { teller: None, out, stack: Vec::new(), deep: false, tail: String::new(), ended: true }
        }
        Spot::Node(at) => node(asked, teller, at, depth).await?,
    };
    Ok(multi_status().content_type(XML).streaming(futures_util::stream::unfold(Some(walk), step)))
}

pub fn multi_status() -> actix_web::HttpResponseBuilder {
    HttpResponse::build(StatusCode::MULTI_STATUS)
}

/// The address of a past state.
pub fn state_href(node: NodeId, row: &Row) -> String {
    format!("{PREFIX}/{}/{}/{}", crate::dto::shelf::STATES, node.0, row.since.token())
}

/// A thing with a row, and nothing else known of it.
pub fn thing<'t>(href: &'t str, row: &'t Row, is: Is) -> Thing<'t> {
    Thing { href, name: row.name(), row: Some(row), folder: None, is, level: None, above: &[] }
}

/// The state behind a request, for answers that outlive the handler.
pub fn shared(asked: &Asked<'_>) -> Result<web::Data<State>, Fault> {
    asked.request.app_data::<web::Data<State>>().cloned().ok_or_else(|| StoreError::Stopping.into())
}

/// A folder on the way.
struct Folder {
    chain: Vec<Arc<Row>>,
    href: String,
    cursor: Option<String>,
    /// Its next page, already being read.
    ahead: Option<JoinHandle<yellow_attic_store::Result<Page<Entry>>>>,
}

impl Folder {
    fn new(chain: Vec<Arc<Row>>, href: String) -> Folder {
        Folder { chain, href, cursor: None, ahead: None }
    }

    /// Its next page.
    async fn page(&mut self, state: &State, actor: &Actor) -> yellow_attic_store::Result<Page<Entry>> {
        match self.ahead.take() {
            Some(ahead) => ahead.await.unwrap_or(Err(StoreError::Stopping)),
            None => {
                let node = self.chain[0].node;
                state.engine.files().list(actor, node, Sort::Name, false, PAGE, self.cursor.as_deref()).await
            }
        }
    }

    /// Has the page after this one read, while this one is written.
    async fn read_ahead(&mut self, state: &web::Data<State>, actor: &Actor) {
        let (state, actor, node, cursor) =
            (state.clone(), actor.clone(), self.chain[0].node, self.cursor.clone());
        self.ahead = Some(actix_web::rt::spawn(async move {
            state.engine.files().list(&actor, node, Sort::Name, false, PAGE, cursor.as_deref()).await
        }));
        // Begun at once: what is written now does not wait for anything.
        tokio::task::yield_now().await;
    }
}

impl Drop for Folder {
    fn drop(&mut self) {
        if let Some(ahead) = &self.ahead {
            ahead.abort();
        }
    }
}

/// An answer that is being written.
pub struct Walk {
    teller: Option<Box<Teller>>,
    /// What is ready to be sent.
    out: String,
    /// Folders whose entries are still to be told, the next one last.
    stack: Vec<Folder>,
    /// Whether what is in folders is told too.
    deep: bool,
    /// What ends the answer.
    tail: String,
    ended: bool,
}

fn finished(mut out: String) -> Walk {
    out.push_str(END);
    Walk { teller: None, out, stack: Vec::new(), deep: false, tail: String::new(), ended: true }
}

pub async fn step(walk: Option<Walk>) -> Option<(Result<Bytes, actix_web::Error>, Option<Walk>)> {
    let mut walk = walk?;
    // A folder with nothing in it writes nothing: on to the next.
    while walk.out.is_empty() && !walk.ended {
        match walk.next().await {
            Ok(()) => {}
            // The line breaks: half a list must not be taken for a whole one.
            Err(e) => return Some((Err(e.into()), None)),
        }
    }
    if walk.out.is_empty() {
        return None;
    }
    let piece = Bytes::from(std::mem::take(&mut walk.out));
    let rest = (!walk.ended).then_some(walk);
    Some((Ok(piece), rest))
}

impl Walk {
    /// What is in a folder, without itself.
    pub fn of_folder(teller: Teller, at: At, deep: bool, tail: String) -> Walk {
        let first = Folder::new(at.chain, at.href);
        let teller = Some(Box::new(teller));
        Walk { teller, out: BEGIN.to_string(), stack: vec![first], deep, tail, ended: false }
    }

    /// Writes the next page.
    async fn next(&mut self) -> Result<(), Refusal> {
        let Some(teller) = &mut self.teller else {
            self.ended = true;
            return Ok(());
        };
        let Some(mut folder) = self.stack.pop() else {
            self.out.push_str(&self.tail);
            self.ended = true;
            return Ok(());
        };
        let state = teller.state.clone();
        let actor = teller.who.actor.clone();
        let page = match folder.page(&state, &actor).await {
            Ok(page) => page,
            // Gone since it was told of: then nothing is in it.
            Err(StoreError::NotFound(_)) => return Ok(()),
            Err(e) => return Err(e.into()),
        };
        folder.cursor = page.next;
        // Where what is beneath comes first, the next page would lie in memory for long.
        let descends = self.deep && page.items.iter().any(|e| e.row.is_folder());
        if folder.cursor.is_some() && !descends {
            folder.read_ahead(&state, &actor).await;
        }
        let rows: Vec<&Row> = page.items.iter().map(|e| &e.row).collect();
        let known = teller.know(&rows).await?;
        let way: Vec<NodeId> = folder.chain.iter().map(|r| r.node).collect();
        let above = teller.locks_into(&way);
        let mut href = folder.href.clone();
        let mut below = Vec::new();
        for entry in &page.items {
            href.truncate(folder.href.len());
            push_name(&mut href, entry.row.name());
            if entry.row.is_folder() {
                href.push('/');
            }
            let level = teller.asks_level().then(|| {
                let mut way = vec![Arc::new(entry.row.clone())];
                way.extend(folder.chain.iter().cloned());
                state.engine.grants().level(&actor, &way)
            });
            let told = Thing {
                href: &href,
                name: entry.row.name(),
                row: Some(&entry.row),
                folder: entry.folder.as_ref(),
                is: if entry.row.is_folder() { Is::Folder } else { Is::File },
                level: level.flatten(),
                above: &above,
            };
            teller.tell(&mut self.out, &told, &known);
            if self.deep && entry.row.is_folder() {
                let mut chain = vec![Arc::new(entry.row.clone())];
                chain.extend(folder.chain.iter().cloned());
                below.push(Folder::new(chain, href.clone()));
            }
        }
        if folder.cursor.is_some() {
            self.stack.push(folder);
        }
        self.stack.extend(below.into_iter().rev());
        Ok(())
    }
}

/// A file or folder.
async fn node(asked: &Asked<'_>, mut teller: Teller, at: At, depth: Depth) -> Result<Walk, Fault> {
    let engine = &asked.state.engine;
    let top = at.chain.last().map_or(at.row.shelf, |r| r.shelf);
    if at.row.is_folder() {
        teller.look_at_room(top).await?;
        if teller.asks_token() {
            teller.set_token(report::present(asked, top).await?);
        }
        if depth == Depth::Infinity {
            let sums = engine.files().sums(asked.actor(), at.row.node).await?;
            if sums.is_some_and(|s| s.files + s.folders > MOST_BENEATH) {
                return Err(condition(403, "propfind-finite-depth"));
            }
        }
    }
    let known = teller.know(&[&at.row]).await?;
    let folder = match at.row.is_folder() {
        true => engine.files().sums(asked.actor(), at.row.node).await?,
        false => None,
    };
    let name = match (at.depth, at.row.parent) {
        (0, None) => asked.state.engine.shelf_of(&at.row).map_or_else(String::new, |s| title(&s)),
        _ => at.row.name().to_string(),
    };
    let way: Vec<NodeId> = at.chain.iter().map(|r| r.node).collect();
    let above = teller.locks_into(&way[1..]);
    let mut out = BEGIN.to_string();
    let told = Thing {
        href: &at.href,
        name: &name,
        row: Some(&at.row),
        folder: folder.as_ref(),
        is: if at.row.is_folder() { Is::Folder } else { Is::File },
        level: engine.grants().level(asked.actor(), &at.chain),
        above: &above,
    };
    teller.tell(&mut out, &told, &known);
    if depth == Depth::Zero || !at.row.is_folder() {
        return Ok(finished(out));
    }
    let first = Folder::new(at.chain, at.href.trim_end_matches('/').to_string() + "/");
    let mut walk = Walk {
        teller: Some(Box::new(teller)),
        out,
        stack: vec![first],
        deep: depth == Depth::Infinity,
        tail: END.to_string(),
        ended: false,
    };
    // The first page with the first piece: what fails at once is answered with its status.
    walk.next().await?;
    Ok(walk)
}

fn title(shelf: &yellow_attic_store::Shelf) -> String {
    match shelf.kind {
        ShelfKind::Home => "Home".into(),
        ShelfKind::Shared => shelf.name.clone(),
    }
}

fn alone(mut teller: Teller, href: &str, name: &str, is: Is) -> Walk {
    let mut out = BEGIN.to_string();
    let told = Thing { href, name, row: None, folder: None, is, level: None, above: &[] };
    teller.tell(&mut out, &told, &super::props::Known::default());
    finished(out)
}

/// What stands in the list of shelves: address, name, row.
async fn shelves(asked: &Asked<'_>) -> Result<Vec<(String, String, Arc<Row>, Level)>, Fault> {
    let engine = &asked.state.engine;
    let mut found = Vec::new();
    for (shelf, level) in engine.files().shelves_for(asked.actor()) {
        let word = match shelf.kind {
            ShelfKind::Home => "home".to_string(),
            ShelfKind::Shared => shelf.name.clone(),
        };
        let row = engine.files().chain(asked.actor(), shelf.root, Level::View).await?[0].clone();
        found.push((href_of(&format!("{word}:/"), true), title(&shelf), row, level));
    }
    Ok(found)
}

/// What one was given: address, name, the way.
async fn given_things(asked: &Asked<'_>) -> Result<Vec<(String, String, Vec<Arc<Row>>, Level)>, Fault> {
    let given = asked.state.engine.grants().given(asked.actor()).await?;
    let all: Vec<&Row> = given.iter().map(|(chain, _, _)| &*chain[0]).collect();
    let mut found = Vec::new();
    for (chain, level, _) in &given {
        let name = given_name(&all, &chain[0]);
        let href = href_of(&format!("{GIVEN}:/{name}"), chain[0].is_folder());
        found.push((href, name, chain.clone(), *level));
    }
    Ok(found)
}

async fn tops(asked: &Asked<'_>, mut teller: Teller, depth: Depth) -> Result<Walk, Fault> {
    let list = |href: &'static str, name: &'static str| Thing {
        href,
        name,
        row: None,
        folder: None,
        is: Is::List,
        level: None,
        above: &[],
    };
    let none = super::props::Known::default();
    let mut out = BEGIN.to_string();
    teller.look_at_own_room().await?;
    teller.tell(&mut out, &list("/dav/", "Yellow Attic"), &none);
    if depth == Depth::One {
        for (href, name, row, level) in shelves(asked).await? {
            teller.look_at_room(row.shelf).await?;
            let known = teller.know(&[&row]).await?;
            let folder = asked.state.engine.files().sums(asked.actor(), row.node).await?;
            let told = Thing {
                href: &href,
                name: &name,
                row: Some(&row),
                folder: folder.as_ref(),
                is: Is::Folder,
                level: Some(level),
                above: &[],
            };
            if teller.asks_token() {
                teller.set_token(report::present(asked, row.shelf).await?);
            }
            teller.tell(&mut out, &told, &known);
        }
        if !asked.state.engine.grants().given(asked.actor()).await?.is_empty() {
            teller.tell(&mut out, &list("/dav/given/", "Given to me"), &none);
        }
    }
    Ok(finished(out))
}

async fn given(asked: &Asked<'_>, mut teller: Teller, depth: Depth) -> Result<Walk, Fault> {
    let mut out = BEGIN.to_string();
    let told = Thing {
        href: "/dav/given/",
        name: "Given to me",
        row: None,
        folder: None,
        is: Is::List,
        level: None,
        above: &[],
    };
    teller.tell(&mut out, &told, &super::props::Known::default());
    if depth == Depth::One {
        for (href, name, chain, level) in given_things(asked).await? {
            let row = &chain[0];
            let known = teller.know(&[row]).await?;
            let folder = match row.is_folder() {
                true => asked.state.engine.files().sums(asked.actor(), row.node).await?,
                false => None,
            };
            let told = Thing {
                href: &href,
                name: &name,
                row: Some(row),
                folder: folder.as_ref(),
                is: if row.is_folder() { Is::Folder } else { Is::File },
                level: Some(level),
                above: &[],
            };
            teller.tell(&mut out, &told, &known);
        }
    }
    Ok(finished(out))
}

/// The names in a folder, a line each, for whoever asks for one like a file.
pub async fn listing(asked: &Asked<'_>, spot: Spot) -> Answered {
    let mut names: Vec<String> = Vec::new();
    let mut cursor = None;
    match &spot {
        Spot::Node(at) => loop {
            let engine = &asked.state.engine;
            let page = engine
                .files()
                .list(asked.actor(), at.row.node, Sort::Name, false, PAGE, cursor.as_deref())
                .await?;
            names.extend(
                page.items
                    .iter()
                    .map(|e| format!("{}{}", e.row.name(), if e.row.is_folder() { "/" } else { "" })),
            );
            cursor = page.next;
            if cursor.is_none() || names.len() > 10_000 {
                break;
            }
        },
        Spot::Top => {
            names.extend(shelves(asked).await?.into_iter().map(|(href, ..)| {
                let name = href.trim_end_matches('/').rsplit('/').next().unwrap_or_default().to_string();
                percent_encoding::percent_decode_str(&name).decode_utf8_lossy().into_owned() + "/"
            }));
            if !asked.state.engine.grants().given(asked.actor()).await?.is_empty() {
                names.push("given/".into());
            }
        }
        Spot::Given => names.extend(
            given_things(asked)
                .await?
                .into_iter()
                .map(|(_, name, chain, _)| format!("{name}{}", if chain[0].is_folder() { "/" } else { "" })),
        ),
        Spot::Past(past) => names.extend(super::then::names(asked, past).await?),
        _ => names.push(asked.who.account.display_name.clone()),
    }
    if cursor.is_some() {
        names.push("… and more: ask by PROPFIND".into());
    }
    let mut text = names.join("\n");
    text.push('\n');
    Ok(HttpResponse::Ok().content_type("text/plain; charset=utf-8").body(text))
}

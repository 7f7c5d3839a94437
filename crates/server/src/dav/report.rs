//! REPORT: what changed since a token (RFC 6578), the states of a file (RFC 3253), and properties of oneself.

use super::find::{Walk, multi_status, shared, state_href, step, thing};
use super::props::{Is, Known, Live, Plan, Teller, Thing, live};
use super::spot::{At, Spot};
use super::{Answered, Asked, Fault, PREFIX, XML, bad_body, condition};
use crate::dto::shelf::PERSON;
use crate::http::problem::Refusal;
use std::collections::{BTreeSet, HashSet};
use std::sync::Arc;
use yellow_attic_core::dav::PropName;
use yellow_attic_core::dav::answer::{self, BEGIN, END, push_name};
use yellow_attic_core::dav::bodies::{self, Report, Wanted};
use yellow_attic_core::dav::headers::Depth;
use yellow_attic_core::dav::xml::escape;
use yellow_attic_core::rights::Level;
use yellow_attic_core::{Moment, Name, NodeId, ShelfId};
use yellow_attic_store::{Change, Row, Shelf, Sort, StoreError};

/// The most changes that come at once.
const MOST: usize = 1000;
/// Nodes looked at in one go while what there is comes in pages, and how often in one answer.
const LOOK: usize = 500;
const MOST_LOOKS: usize = 200;
/// What begins a token.
const TOKEN: &str = "urn:yellow-attic:sync:";

/// How far somebody has followed a shelf.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Followed {
    shelf: ShelfId,
    /// All up to this number is known.
    upto: Moment,
    /// What is not told yet is known as of this number.
    base: Moment,
    /// What one could see when this was given out: after a change of that, all is read anew.
    sight: String,
    /// While what there is comes in pages: all up to this node was told.
    listed: Option<NodeId>,
}

impl Followed {
    fn token(&self) -> String {
        let base = if self.base == self.upto { String::new() } else { self.base.token() };
        let listed = self.listed.map_or_else(String::new, |node| format!(":{}", node.0));
        format!("{TOKEN}{}:{}:{base}:{}{listed}", self.shelf.0, self.upto.token(), self.sight)
    }

    async fn read(asked: &Asked<'_>, text: &str) -> Option<Followed> {
        let mut parts = text.strip_prefix(TOKEN)?.split(':');
        let shelf = ShelfId(parts.next()?.parse().ok()?);
        let (upto, base, sight) = (parts.next()?, parts.next()?, parts.next()?);
        let listed = match parts.next() {
            Some(node) => Some(NodeId(node.parse().ok()?)),
            None => None,
        };
        let engine = &asked.state.engine;
        let upto = crate::http::times::moment(engine, upto).await.ok()?;
        let base =
            if base.is_empty() { upto } else { crate::http::times::moment(engine, base).await.ok()? };
        Some(Followed { shelf, upto, base, sight: sight.into(), listed })
    }
}

/// The token of the present of a shelf.
pub async fn present(asked: &Asked<'_>, shelf: ShelfId) -> Result<String, Fault> {
    let upto = asked.state.engine.history().now_moment().await?;
    let sight = asked.state.engine.files().sight_of(asked.actor());
    Ok(Followed { shelf, upto, base: upto, sight, listed: None }.token())
}

/// Answers a REPORT.
pub async fn answer(asked: &Asked<'_>, spot: Spot, body: &[u8]) -> Answered {
    let deep = asked.depth()? == Some(Depth::Infinity);
    match bodies::report(body, deep).map_err(|e| bad_body(&e))? {
        Report::Changes { since, deep, most, wanted } => {
            let at = spot.node()?;
            if !at.row.is_folder() {
                return Err(condition(403, "supported-report"));
            }
            changes(asked, at, &since, deep, most, wanted).await
        }
        Report::States(wanted) => states(asked, spot.node()?, wanted).await,
        Report::Expand(properties) => expand(asked, spot, properties).await,
        Report::Unknown(_) => Err(condition(403, "supported-report")),
    }
}

async fn states(asked: &Asked<'_>, at: At, wanted: Vec<PropName>) -> Answered {
    if at.row.is_folder() {
        return Err(condition(403, "supported-report"));
    }
    let wanted = match wanted.is_empty() {
        true => Wanted::These(vec![PropName::dav("version-name"), PropName::dav("creationdate")]),
        false => Wanted::These(wanted),
    };
    let history = asked.state.engine.history().states(asked.actor(), at.row.node, 1000).await?;
    let mut teller = Teller::new(shared(asked)?, asked.who.clone(), Plan::new(wanted)).await;
    let mut out = BEGIN.to_string();
    for state in &history {
        let href = state_href(at.row.node, &state.row);
        teller.tell(&mut out, &thing(&href, &state.row, Is::State), &Known::default());
    }
    out.push_str(END);
    Ok(multi_status().content_type(XML).body(out))
}

async fn expand(asked: &Asked<'_>, spot: Spot, properties: Vec<(PropName, Vec<PropName>)>) -> Answered {
    let href = match spot {
        Spot::Node(at) => at.href,
        Spot::Person => format!("{PREFIX}/{PERSON}/"),
        Spot::Top => format!("{PREFIX}/"),
        Spot::Given => format!("{PREFIX}/given/"),
        _ => return Err(Refusal::not_found("The file or folder").into()),
    };
    let (mut found, mut missing) = (String::new(), String::new());
    for (name, inside) in properties {
        if !matches!(live(&name), Some(Live::Person | Live::PersonAddress)) {
            answer::prop(&mut missing, &name, |_| {});
            continue;
        }
        let mut teller =
            Teller::new(shared(asked)?, asked.who.clone(), Plan::new(Wanted::These(inside))).await;
        let mut told = String::new();
        let href = format!("{PREFIX}/{PERSON}/");
        let person = Thing {
            href: &href,
            name: &asked.who.account.display_name,
            row: None,
            folder: None,
            is: Is::Person,
            level: None,
            above: &[],
        };
        teller.tell(&mut told, &person, &Known::default());
        answer::prop(&mut found, &name, |out| out.push_str(&told));
    }
    let mut out = BEGIN.to_string();
    answer::response(&mut out, &href, &[(200, &found), (404, &missing)]);
    out.push_str(END);
    Ok(multi_status().content_type(XML).body(out))
}

fn end_with(token: &str) -> String {
    let mut tail = String::from("<D:sync-token>");
    escape(&mut tail, token);
    tail.push_str("</D:sync-token>\n");
    tail.push_str(END);
    tail
}

async fn changes(
    asked: &Asked<'_>,
    at: At,
    since: &str,
    deep: bool,
    most: Option<u64>,
    wanted: Vec<PropName>,
) -> Answered {
    let engine = &asked.state.engine;
    let top = at.chain.last().map_or(at.row.shelf, |r| r.shelf);
    let sight = engine.files().sight_of(asked.actor());
    let teller = Teller::new(shared(asked)?, asked.who.clone(), Plan::new(Wanted::These(wanted))).await;
    let followed = match since {
        "" if most.is_none() => {
            // All there is, written as it is read; the number is taken first, so that nothing falls between.
            let token = present(asked, top).await?;
            let walk = Walk::of_folder(teller, at, deep, end_with(&token));
            return Ok(multi_status()
                .content_type(XML)
                .streaming(futures_util::stream::unfold(Some(walk), step)));
        }
        // What there is now, in pages; what changes meanwhile is told after the last one.
        "" => {
            let now = engine.history().now_moment().await?;
            let (sight, listed) = (sight.clone(), Some(NodeId(0)));
            Followed { shelf: top, upto: now, base: now, sight, listed }
        }
        text => Followed::read(asked, text).await.ok_or_else(|| condition(403, "valid-sync-token"))?,
    };
    if followed.shelf != top
        || followed.sight != sight
        || engine.files().forgotten_before().await? > followed.base
    {
        return Err(condition(403, "valid-sync-token"));
    }
    let shelf = engine.shelves().into_iter().find(|s| s.id == top).ok_or(StoreError::Busy)?;
    // None at all would be no page, and never an end.
    let limit = most.map_or(MOST, |m| usize::try_from(m).unwrap_or(MOST).clamp(1, MOST));
    let mut page = Page {
        asked,
        at: &at,
        deep,
        followed: &followed,
        teller,
        out: BEGIN.to_string(),
        told: HashSet::new(),
        gone: BTreeSet::new(),
    };
    if let Some(after) = followed.listed {
        let listed = page.list(&shelf, after, limit).await?;
        let token = Followed { listed, ..followed.clone() }.token();
        let mut out = page.out;
        if listed.is_some() {
            answer::outcome(&mut out, &at.href, 507, Some("number-of-matches-within-limits"), None);
        }
        out.push_str(&end_with(&token));
        return Ok(multi_status().content_type(XML).body(out));
    }
    let (upto, more) = page.read(&shelf, limit).await?;
    if most.is_some() && page.told.len() > limit {
        return Err(condition(403, "number-of-matches-within-limits"));
    }
    let base = if more { followed.base } else { upto };
    let token = Followed { shelf: top, upto, base, sight, listed: None }.token();
    let mut out = page.out;
    if more {
        answer::outcome(&mut out, &at.href, 507, Some("number-of-matches-within-limits"), None);
    }
    out.push_str(&end_with(&token));
    Ok(multi_status().content_type(XML).body(out))
}

/// A page of changes.
struct Page<'p> {
    asked: &'p Asked<'p>,
    at: &'p At,
    deep: bool,
    followed: &'p Followed,
    teller: Teller,
    out: String,
    told: HashSet<NodeId>,
    /// Places at which nothing is any more.
    gone: BTreeSet<Vec<String>>,
}

/// The names from a collection down to the first row of a way; none if it does not lie in it.
fn names_in<'r>(way: impl Iterator<Item = &'r Row>, collection: NodeId) -> Option<Vec<String>> {
    let mut names = Vec::new();
    for row in way {
        if row.node == collection {
            names.reverse();
            return (!names.is_empty()).then_some(names);
        }
        names.push(row.name().to_string());
    }
    None
}

impl Page<'_> {
    /// Tells of what there is, by the order in which it was made; returns up to where, if there is more.
    async fn list(&mut self, shelf: &Shelf, after: NodeId, limit: usize) -> Result<Option<NodeId>, Fault> {
        let engine = &self.asked.state.engine;
        let (mut after, mut told) = (after, after);
        for _ in 0..MOST_LOOKS {
            let nodes = engine.files().nodes_on(shelf.id, after, LOOK).await?;
            for node in &nodes {
                if self.told.len() >= limit {
                    // The number of what was told, not of something hidden behind it.
                    return Ok(Some(told));
                }
                after = *node;
                let Ok(chain) = engine.files().chain(self.asked.actor(), *node, Level::View).await else {
                    continue;
                };
                let seen = engine.grants().seen_of(self.asked.actor(), &chain);
                let names = names_in(seen.iter().map(|r| &**r), self.at.row.node);
                if let Some(names) = names.filter(|names| self.deep || names.len() == 1) {
                    self.tell(&chain, &names).await?;
                    told = *node;
                }
            }
            if nodes.len() < LOOK {
                return Ok(None);
            }
        }
        Ok(Some(after))
    }

    /// Reads on until there is a page full of what concerns the collection, or no more.
    async fn read(&mut self, shelf: &Shelf, limit: usize) -> Result<(Moment, bool), Fault> {
        let engine = &self.asked.state.engine;
        let (mut upto, mut more) = (self.followed.upto, true);
        for _ in 0..MOST_LOOKS {
            let room = limit.saturating_sub(self.told.len() + self.gone.len());
            if room == 0 || !more {
                break;
            }
            let changes;
            (changes, upto, more) = engine.files().changes(self.asked.actor(), shelf, upto, room).await?;
            for change in &changes {
                let (node, gone) = match change {
                    Change::Changed(row) | Change::Arrived(row) => (row.node, false),
                    Change::Removed(past) | Change::Left(past) | Change::OutOfSight(past) => {
                        (past.row.node, true)
                    }
                };
                if node != self.at.row.node {
                    self.one(node, gone).await?;
                }
            }
        }
        for names in std::mem::take(&mut self.gone) {
            let href = self.href(&names);
            answer::outcome(&mut self.out, &href, 404, None, None);
        }
        Ok((upto, more))
    }

    async fn one(&mut self, node: NodeId, gone: bool) -> Result<(), Fault> {
        let engine = &self.asked.state.engine;
        let now = match engine.files().chain(self.asked.actor(), node, Level::View).await {
            Ok(chain) => Some(chain),
            Err(StoreError::NotFound(_)) => None,
            Err(e) => return Err(e.into()),
        };
        // A way through something hidden is none: what lies behind it is found where it was given.
        let seen = |chain: &[Arc<Row>]| -> Option<Vec<String>> {
            names_in(
                engine.grants().seen_of(self.asked.actor(), chain).iter().map(|r| &**r),
                self.at.row.node,
            )
        };
        let here = now.as_ref().and_then(|chain| seen(chain));
        let here = here.filter(|names| self.deep || names.len() == 1);
        // Where the follower may know it: as of the beginning, and as of the last page.
        let mut was = Vec::new();
        let mut times = vec![self.followed.base];
        if self.followed.upto != self.followed.base {
            times.push(self.followed.upto);
        }
        for time in times {
            let Some(chain) = engine.history().chain_at(node, time).await? else { continue };
            let chain: Vec<Arc<Row>> = chain.into_iter().map(Arc::new).collect();
            let Some(names) = seen(&chain) else { continue };
            let known = self.deep || names.len() == 1;
            let actor = self.asked.actor();
            let seen = known
                && match gone {
                    // What became of it is nobody's to know; that it was there is, for whoever saw it there.
                    true => engine.history().seen_at(actor, node, time).await?.is_some(),
                    false => engine.history().check_past(actor, node, time).await.is_ok(),
                };
            if seen {
                was.push((names, time, chain[0].is_folder()));
            }
        }
        let moved = was.last().map(|(names, ..)| names) != here.as_ref();
        for (names, time, folder) in was {
            if Some(&names) == here.as_ref() {
                continue;
            }
            if !self.occupied(&names).await? {
                self.gone.insert(names);
            } else if folder && self.deep {
                // Something else stands there now: what lay in the old one is gone, thing by thing.
                self.gone_beneath(node, names, time).await?;
            }
        }
        let (Some(chain), Some(names)) = (now, here) else { return Ok(()) };
        self.tell(&chain, &names).await?;
        // What came with a folder that is new here has no change of its own.
        if moved && self.deep && chain[0].is_folder() {
            self.beneath(chain, names).await?;
        }
        Ok(())
    }

    fn href(&self, names: &[String]) -> String {
        let mut href = self.at.href.clone();
        names.iter().for_each(|n| push_name(&mut href, n));
        href
    }

    /// Whether something else that the follower hears of stands at a place now.
    async fn occupied(&self, names: &[String]) -> Result<bool, Fault> {
        let engine = &self.asked.state.engine;
        let mut node = self.at.row.node;
        for name in names {
            let name = Name::new(name).map_err(StoreError::from)?;
            match engine.files().child(self.asked.actor(), node, &name).await {
                Ok(Some(row)) => node = row.node,
                Ok(None) | Err(StoreError::NotFound(_)) => return Ok(false),
                Err(e) => return Err(e.into()),
            }
        }
        Ok(true)
    }

    async fn gone_beneath(&mut self, folder: NodeId, names: Vec<String>, time: Moment) -> Result<(), Fault> {
        let engine = &self.asked.state.engine;
        let tree = match engine.files().tree(self.asked.actor(), &[folder], time, MOST * 50).await {
            Ok(tree) => tree,
            Err(StoreError::NotFound(_)) => return Ok(()),
            Err(e) => return Err(e.into()),
        };
        for item in tree.items.iter().map(|i| &*i.path).chain(tree.lost.iter().map(String::as_str)) {
            // The first name is that of the folder itself.
            let Some((_, rest)) = item.split_once('/') else { continue };
            let mut its = names.clone();
            its.extend(rest.split('/').map(str::to_string));
            if !self.occupied(&its).await? {
                self.gone.insert(its);
            }
        }
        Ok(())
    }

    async fn tell(&mut self, chain: &[Arc<Row>], names: &[String]) -> Result<(), Fault> {
        let row = &chain[0];
        if !self.told.insert(row.node) {
            return Ok(());
        }
        let known = self.teller.know(&[row]).await?;
        let folder = match row.is_folder() {
            true => self.asked.state.engine.files().sums(self.asked.actor(), row.node).await?,
            false => None,
        };
        let mut href = self.href(names);
        if row.is_folder() {
            href.push('/');
        }
        let level = self
            .teller
            .asks_level()
            .then(|| self.asked.state.engine.grants().level(self.asked.actor(), chain));
        let way: Vec<NodeId> = chain.iter().skip(1).map(|r| r.node).collect();
        let above = self.teller.locks_into(&way);
        let told = Thing {
            href: &href,
            name: row.name(),
            row: Some(row),
            folder: folder.as_ref(),
            is: if row.is_folder() { Is::Folder } else { Is::File },
            level: level.flatten(),
            above: &above,
        };
        self.teller.tell(&mut self.out, &told, &known);
        Ok(())
    }

    async fn beneath(&mut self, chain: Vec<Arc<Row>>, names: Vec<String>) -> Result<(), Fault> {
        let mut stack = vec![(chain, names)];
        while let Some((chain, names)) = stack.pop() {
            let mut cursor = None;
            loop {
                let engine = &self.asked.state.engine;
                let listed = engine
                    .files()
                    .list(self.asked.actor(), chain[0].node, Sort::Name, false, MOST, cursor.as_deref())
                    .await;
                let page = match listed {
                    Ok(page) => page,
                    Err(StoreError::NotFound(_)) => break,
                    Err(e) => return Err(e.into()),
                };
                for entry in page.items {
                    let folder = entry.row.is_folder();
                    let mut way = vec![Arc::new(entry.row)];
                    way.extend(chain.iter().cloned());
                    let mut its = names.clone();
                    its.push(way[0].name().to_string());
                    self.tell(&way, &its).await?;
                    if folder {
                        stack.push((way, its));
                    }
                }
                cursor = page.next;
                if cursor.is_none() {
                    break;
                }
            }
        }
        Ok(())
    }
}

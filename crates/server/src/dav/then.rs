//! `.then`: what a folder was, as a collection beneath it. Its entries are the shelf's snapshots; and any time, by its name,
//! whether or not it is listed. All of it is read only.

use super::props::{Is, Known, Teller, Thing};
use super::spot::Spot;
use super::{Asked, Fault};
use crate::http::problem::Refusal;
use jiff::tz::TimeZone;
use std::sync::Arc;
use yellow_attic_core::dav::answer::{BEGIN, END, push_name};
use yellow_attic_core::dav::headers::Depth;
use yellow_attic_core::mounted::past::{THEN, Time, snapshot_name, time_in};
use yellow_attic_core::rights::Level;
use yellow_attic_core::{Moment, Name};
use yellow_attic_store::{Entry, Row};

/// Entries read at a time.
const PAGE: usize = 200;
/// The most that are told of one folder of the past.
const MOST: usize = 50_000;

/// Something of the past.
pub enum Past {
    /// `.then` of a folder.
    Then {
        /// The folder, as it is.
        folder: Arc<Row>,
        /// Its own address.
        href: String,
    },
    /// A folder, as it was.
    Folder {
        /// Its row then.
        row: Box<Row>,
        /// When.
        at: Moment,
        /// Its own address.
        href: String,
    },
    /// A file, as it was.
    File {
        /// Its row then.
        row: Box<Row>,
        /// When.
        at: Moment,
        /// Its own address.
        href: String,
    },
}

/// Where `.then` stands in the parts of an address behind the shelf.
pub fn place_in(rest: &[String]) -> Option<usize> {
    rest.iter().position(|part| part.eq_ignore_ascii_case(THEN))
}

fn gone(what: &str) -> Fault {
    Refusal::not_found(what).into()
}

/// What an address beneath `.then` means.
pub async fn find(asked: &Asked<'_>, first: &str, rest: &[String], place: usize) -> Result<Spot, Fault> {
    let engine = &asked.state.engine;
    let (above, below) = (&rest[..place], &rest[place + 1..]);
    let names = above.iter().map(|p| super::spot::name(p)).collect::<Result<Vec<Name>, _>>()?;
    let folder = engine.files().resolve(asked.actor(), first, &names).await?;
    engine.files().chain(asked.actor(), folder.node, Level::View).await?;
    if !folder.is_folder() {
        return Err(gone("The folder"));
    }
    let mut href = super::spot::href(first, &names, true);
    push_name(&mut href, THEN);
    href.truncate(href.len() - usize::from(href.ends_with('/')));
    let Some((time, below)) = below.split_first() else {
        return Ok(Spot::Past(Past::Then { folder, href: href + "/" }));
    };
    let at = moment(asked, &folder, time).await?;
    push_part(&mut href, time);
    let chain = engine.history().check_past(asked.actor(), folder.node, at).await?;
    let mut row = chain.into_iter().next().ok_or_else(|| gone("The folder at that time"))?;
    for name in below {
        row = child(asked, &row, at, name).await?.ok_or_else(|| gone("The file or folder at that time"))?;
        push_part(&mut href, name);
    }
    Ok(Spot::Past(match row.is_folder() {
        true => Past::Folder { row: Box::new(row), at, href: href + "/" },
        false => Past::File { row: Box::new(row), at, href },
    }))
}

fn push_part(href: &mut String, name: &str) {
    push_name(href, name);
}

async fn child(asked: &Asked<'_>, folder: &Row, at: Moment, name: &str) -> Result<Option<Row>, Fault> {
    if !folder.is_folder() {
        return Ok(None);
    }
    let mut found = None;
    each(asked, folder, at, |entry| {
        let is = entry.row.name() == name;
        if is {
            found = Some(entry.row);
        }
        !is
    })
    .await?;
    Ok(found)
}

/// All entries of a folder as it was, as long as they are wanted.
async fn each(
    asked: &Asked<'_>,
    folder: &Row,
    at: Moment,
    mut wants: impl FnMut(Entry) -> bool,
) -> Result<(), Fault> {
    let mut cursor: Option<String> = None;
    let mut many = 0;
    loop {
        let history = asked.state.engine.history();
        let page = history.list_at(asked.actor(), folder.node, at, PAGE, cursor.as_deref()).await?;
        for entry in page.items {
            many += 1;
            if !wants(entry) || many >= MOST {
                return Ok(());
            }
        }
        match page.next {
            Some(next) => cursor = Some(next),
            None => return Ok(()),
        }
    }
}

/// The moment that a name in `.then` means.
async fn moment(asked: &Asked<'_>, folder: &Row, name: &str) -> Result<Moment, Fault> {
    for (known, moment) in snapshots(asked, folder).await? {
        if known == name {
            return Ok(moment);
        }
    }
    let time = time_in(name).ok_or_else(|| gone("The time"))?;
    let ms = instant(&time).ok_or_else(|| gone("The time"))?;
    let now = asked.state.engine.now_ms();
    // A day that is not over means now; what has not been yet is not there.
    let today = time.local.ends_with("T23:59:59") && ms - now < 24 * 3600 * 1000;
    match ms > now {
        true if today => Ok(asked.state.engine.history().now_moment().await?),
        true => Err(gone("The time")),
        false => Ok(asked.state.engine.history().moment_at(ms).await?),
    }
}

/// In milliseconds since 1970; without an offset by this machine's own clock.
fn instant(time: &Time) -> Option<i64> {
    match &time.offset {
        Some(offset) => {
            let text = format!("{}{offset}", time.local);
            Some(text.parse::<jiff::Timestamp>().ok()?.as_millisecond())
        }
        None => {
            let local: jiff::civil::DateTime = time.local.parse().ok()?;
            Some(local.to_zoned(TimeZone::system()).ok()?.timestamp().as_millisecond())
        }
    }
}

/// The shelf's snapshots at which a folder was there, by their names.
async fn snapshots(asked: &Asked<'_>, folder: &Row) -> Result<Vec<(String, Moment)>, Fault> {
    let engine = &asked.state.engine;
    let Some(shelf) = engine.shelf_of(folder) else { return Ok(Vec::new()) };
    // Who may see a part only is told of no snapshots of the whole; times are there all the same.
    let Ok(all) = engine.history().snapshots(asked.actor(), &shelf).await else { return Ok(Vec::new()) };
    let mut found: Vec<(String, Moment)> = Vec::new();
    for snapshot in all {
        let Ok(at) = jiff::Timestamp::from_millisecond(snapshot.at) else { continue };
        let time = at.to_zoned(TimeZone::system()).strftime("%Y-%m-%dT%H:%M:%S%:z").to_string();
        let name = snapshot_name(&time, &snapshot.label);
        let was = engine.history().check_past(asked.actor(), folder.node, snapshot.moment).await.is_ok();
        if was && found.iter().all(|(other, _)| *other != name) {
            found.push((name, snapshot.moment));
        }
    }
    Ok(found)
}

fn list<'t>(href: &'t str, name: &'t str) -> Thing<'t> {
    Thing { href, name, row: None, folder: None, is: Is::List, level: None, above: &[] }
}

/// What PROPFIND tells of it.
pub async fn told(
    asked: &Asked<'_>,
    teller: &mut Teller,
    past: &Past,
    depth: Depth,
) -> Result<String, Fault> {
    let mut out = BEGIN.to_string();
    let none = Known::default();
    match past {
        Past::Then { folder, href } => {
            teller.tell(&mut out, &list(href, THEN), &none);
            if depth == Depth::One {
                for (name, _) in snapshots(asked, folder).await? {
                    let mut its = href.clone();
                    push_name(&mut its, &name);
                    its.push('/');
                    teller.tell(&mut out, &list(&its, &name), &none);
                }
            }
        }
        Past::File { row, href, .. } => {
            let known = teller.know(&[row]).await?;
            teller.tell(&mut out, &super::find::thing(href, row, Is::State), &known);
        }
        Past::Folder { row, at, href } => {
            let own = href.trim_end_matches('/').rsplit('/').next().unwrap_or_default();
            let own = percent_encoding::percent_decode_str(own).decode_utf8_lossy().into_owned();
            teller.tell(&mut out, &list(href, &own), &none);
            if depth == Depth::One {
                let mut entries = Vec::new();
                each(asked, row, *at, |entry| {
                    entries.push(entry.row);
                    true
                })
                .await?;
                let known =
                    teller.know(&entries.iter().filter(|r| !r.is_folder()).collect::<Vec<_>>()).await?;
                for row in &entries {
                    let mut its = href.clone();
                    push_name(&mut its, row.name());
                    match row.is_folder() {
                        true => {
                            its.push('/');
                            teller.tell(&mut out, &list(&its, row.name()), &none);
                        }
                        false => teller.tell(&mut out, &super::find::thing(&its, row, Is::State), &known),
                    }
                }
            }
        }
    }
    out.push_str(END);
    Ok(out)
}

/// What is to be copied out of it; none for the list itself.
pub fn to_copy(past: &Past) -> Option<(&Row, Moment)> {
    match past {
        Past::Then { .. } => None,
        Past::Folder { row, at, .. } | Past::File { row, at, .. } => Some((row, *at)),
    }
}

/// The names in it.
pub async fn names(asked: &Asked<'_>, past: &Past) -> Result<Vec<String>, Fault> {
    let mut names = Vec::new();
    match past {
        Past::Then { folder, .. } => {
            names.extend(snapshots(asked, folder).await?.into_iter().map(|(name, _)| name + "/"));
        }
        Past::Folder { row, at, .. } => {
            each(asked, row, *at, |entry| {
                names.push(format!("{}{}", entry.row.name(), if entry.row.is_folder() { "/" } else { "" }));
                true
            })
            .await?;
        }
        Past::File { row, .. } => names.push(row.name().to_string()),
    }
    Ok(names)
}

//! What an address under `/dav/` means.

use super::then::{self, Past};
use super::{Asked, Fault, PREFIX, refuse};
use crate::dto::shelf::{PERSON, STATES};
use std::sync::Arc;
use yellow_attic_core::dav::answer::push_name;
use yellow_attic_core::rights::Level;
use yellow_attic_core::{Moment, Name, NameError, NodeId};
use yellow_attic_store::timeline::paths::GIVEN;
use yellow_attic_store::{Row, StoreError};

/// Something that is there.
pub struct At {
    /// Its row.
    pub row: Arc<Row>,
    /// Itself and the folders above, to the top of the shelf.
    pub chain: Vec<Arc<Row>>,
    /// Its address, with a slash at the end for a folder.
    pub href: String,
    /// How many names its address has behind the shelf; 0 is the shelf's own top, or what was given.
    pub depth: usize,
}

/// A place at which nothing is.
pub struct Missing {
    /// The folder it would be in, itself and those above; none if that is not there either.
    pub above: Option<Vec<Arc<Row>>>,
    /// Its name.
    pub name: Name,
    /// Its address.
    pub href: String,
    /// Nobody has looked yet whether something is there: the commit will.
    pub unseen: bool,
    /// Nothing can be made there by WebDAV: shelves and what one is given come by other ways.
    pub nowhere: bool,
}

/// What an address means.
pub enum Spot {
    /// The list of shelves.
    Top,
    /// The list of what one was given.
    Given,
    /// Oneself.
    Person,
    /// A file or folder.
    Node(At),
    /// A past state of a file.
    State(Row),
    /// What a folder was, beneath it.
    Past(Past),
    /// Nothing.
    Missing(Missing),
}

/// A name as clients send it: another normalisation of the same characters is taken as ours.
pub fn name(text: &str) -> Result<Name, StoreError> {
    match Name::new(text) {
        Err(NameError::NotNfc { wanted }) => Ok(Name::new(&wanted)?),
        other => Ok(other?),
    }
}

/// The address of a path.
pub fn href(shelf: &str, names: &[Name], folder: bool) -> String {
    let mut href = PREFIX.to_string();
    push_name(&mut href, shelf);
    names.iter().for_each(|n| push_name(&mut href, n.as_str()));
    if folder {
        href.push('/');
    }
    href
}

/// The address of `shelf:/path`, as far as it is one.
pub fn href_of(path: &str, folder: bool) -> String {
    let (shelf, rest) = path.split_once(':').unwrap_or((path, ""));
    let mut href = PREFIX.to_string();
    push_name(&mut href, shelf);
    rest.split('/').filter(|p| !p.is_empty()).for_each(|p| push_name(&mut href, p));
    if folder && !href.ends_with('/') {
        href.push('/');
    }
    href
}

impl Spot {
    /// What the parts of an address mean to the caller.
    pub async fn find(asked: &Asked<'_>, parts: Vec<String>) -> Result<Spot, Fault> {
        let Some((first, rest)) = parts.split_first() else { return Ok(Spot::Top) };
        let engine = &asked.state.engine;
        match first.as_str() {
            PERSON => return Ok(Spot::Person),
            STATES => return state(asked, rest).await,
            GIVEN if rest.is_empty() => return Ok(Spot::Given),
            _ => {}
        }
        if let Some(place) = then::place_in(rest) {
            return then::find(asked, first, rest, place).await;
        }
        let names = rest.iter().map(|p| name(p)).collect::<Result<Vec<_>, _>>()?;
        if names.len() > yellow_attic_core::path::MAX_DEPTH {
            return Err(StoreError::from(yellow_attic_core::PathError::TooDeep(names.len())).into());
        }
        match engine.files().resolve(asked.actor(), first, &names).await {
            Ok(row) => {
                let chain = engine.files().chain(asked.actor(), row.node, Level::View).await?;
                let href = href(first, &names, row.is_folder());
                let depth = names.len() - usize::from(first == GIVEN);
                Ok(Spot::Node(At { row, chain, href, depth }))
            }
            Err(StoreError::NotFound(_)) => {
                let nowhere = |name: Name| {
                    let href = href(first, &names, false);
                    Spot::Missing(Missing { above: None, name, href, unseen: false, nowhere: true })
                };
                let Some((last, above)) = names.split_last() else {
                    return Ok(nowhere(name(first)?));
                };
                if first == GIVEN && above.is_empty() {
                    return Ok(nowhere(last.clone()));
                }
                let name = last;
                let above = match engine.files().resolve(asked.actor(), first, above).await {
                    Ok(row) => Some(engine.files().chain(asked.actor(), row.node, Level::View).await?),
                    Err(StoreError::NotFound(_)) => None,
                    Err(e) => return Err(e.into()),
                };
                let href = href(first, &names, false);
                Ok(Spot::Missing(Missing { above, name: name.clone(), href, unseen: false, nowhere: false }))
            }
            Err(e) => Err(e.into()),
        }
    }

    /// A place for a few bytes, without a look at what is there, if that can wait.
    pub async fn unseen(asked: &Asked<'_>, parts: &[String]) -> Result<Option<Spot>, Fault> {
        let engine = &asked.state.engine;
        let [first, above @ .., last] = parts else { return Ok(None) };
        if [PERSON, STATES, GIVEN].contains(&first.as_str())
            || above.len() >= yellow_attic_core::path::MAX_DEPTH
        {
            return Ok(None);
        }
        let mut names = above.iter().map(|p| name(p)).collect::<Result<Vec<_>, _>>()?;
        let last = name(last)?;
        let Ok(folder) = engine.files().resolve(asked.actor(), first, &names).await else { return Ok(None) };
        if !engine.files().look_can_wait(asked.actor(), folder.node).await? {
            return Ok(None);
        }
        let above = Some(engine.files().chain(asked.actor(), folder.node, Level::View).await?);
        names.push(last.clone());
        let href = href(first, &names, false);
        Ok(Some(Spot::Missing(Missing { above, name: last, href, unseen: true, nowhere: false })))
    }

    /// What is there, or why not.
    pub fn node(self) -> Result<At, Fault> {
        match self {
            Spot::Node(at) => Ok(at),
            Spot::Missing(_) => Err(crate::http::problem::Refusal::not_found("The file or folder").into()),
            _ => Err(refuse(
                403,
                "not_a_place",
                "This is a list that the service makes; nothing in it is changed by itself.",
                "Work with the files and folders on a shelf.",
            )),
        }
    }
}

async fn state(asked: &Asked<'_>, rest: &[String]) -> Result<Spot, Fault> {
    let gone = || Fault::from(crate::http::problem::Refusal::not_found("The state"));
    let [node, moment] = rest else { return Err(gone()) };
    let node = NodeId(node.parse().map_err(|_| gone())?);
    let at: Moment = crate::http::times::moment(&asked.state.engine, moment).await?;
    let chain = asked.state.engine.history().check_past(asked.actor(), node, at).await?;
    let row = chain.into_iter().next().filter(|r| !r.is_folder()).ok_or_else(gone)?;
    Ok(Spot::State(row))
}

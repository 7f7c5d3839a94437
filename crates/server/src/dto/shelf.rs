//! Shelves, and what changed on them.

use crate::dto::directory::Directory;
use crate::dto::node;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::state::State;
use crate::state::sessions::Who;
use yellow_attic_api as api;
use yellow_attic_core::Name;
use yellow_attic_store::timeline::paths::GIVEN;
use yellow_attic_store::{Change, Shelf};

/// Reads the name of a shared shelf.
pub fn shelf_name(text: &str) -> Result<Name, Refusal> {
    let name = Name::new(text.trim()).map_err(yellow_attic_store::StoreError::from)?;
    let taken = ["home", GIVEN].contains(&name.as_str()) || RESERVED.contains(&name.as_str());
    if taken || name.as_str().contains(':') {
        return Err(refusals::SHELF_NAME_CANNOT_BE.of("A shelf cannot be named \"home\", \"given\", \".person\" or \".states\", and its name cannot contain \":\"."));
    }
    Ok(name)
}

pub async fn shared_to_api(
    state: &State,
    people: &Directory,
    shelf: &Shelf,
) -> Result<api::SharedShelf, Refusal> {
    let full = state.engine.space().fullness(shelf).await?;
    let sums = state.engine.files().shelf_sums(shelf.root).await?;
    let owners = state.engine.space().owners_of(shelf);
    Ok(api::SharedShelf {
        name: shelf.name.clone(),
        root: shelf.root.0,
        note: state.engine.space().shelf_notes().await?.remove(&shelf.id).unwrap_or_default(),
        owner_names: owners.iter().map(|o| people.name(*o).unwrap_or_default()).collect(),
        owners: owners.into_iter().map(|o| people.sign_in(o)).collect(),
        quota: full.line,
        bytes: full.used,
        claimed: full.claimed,
        files: sums.map_or(0, |s| s.files),
    })
}

/// A change as it stands in answers and events.
pub async fn change_to_api(
    state: &State,
    who: &Who,
    change: &Change,
    names: &crate::state::names::NameMap,
) -> Result<api::Change, Refusal> {
    let (what, row) = match change {
        Change::Changed(row) => ("changed", row),
        Change::Removed(past) => ("removed", &past.row),
        Change::Arrived(row) => ("arrived", row),
        Change::Left(past) => ("left", &past.row),
        Change::OutOfSight(past) => ("out_of_sight", &past.row),
    };
    Ok(api::Change {
        what: what.to_string(),
        moment: change.moment().token(),
        node: node::seen(state, who, row, None, names).await?,
    })
}

/// Names that no shelf can have: they mean something else here.
pub const RESERVED: [&str; 2] = [PERSON, STATES];

/// Where the caller's own principal stands. No shelf can have this name.
pub const PERSON: &str = ".person";

/// Where past states stand: `.states/<node>/<moment>`.
pub const STATES: &str = ".states";

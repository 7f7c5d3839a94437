//! Groups.

use crate::dto::directory::Directory;
use crate::state::State;
use yellow_attic_api as api;
use yellow_attic_core::rules::{Rule, Scope, Value};
use yellow_attic_store::people::groups::Group;

pub fn group_to_api(state: &State, all: &Directory, group: &Group) -> api::Group {
    let mut members: Vec<api::Person> = group.members.iter().filter_map(|m| all.person(*m)).collect();
    members.sort_by(|a, b| a.name.cmp(&b.name));
    let closed = match state.engine.people().rules().at(Scope::Group(group.id), Rule::DoorsClosed) {
        Some(Value::Words(words)) => words.iter().cloned().collect(),
        _ => Vec::new(),
    };
    let people = members.len();
    api::Group {
        name: group.name.clone(),
        note: group.note.clone(),
        members,
        people,
        quota: group.quota,
        closed,
    }
}
